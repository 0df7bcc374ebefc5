"""Steps that bring a shot file's JSON from one version to the next. They take and give plain JSON values, and never change once written.

An array stands in the JSON as {"array": name of its member}.
"""

from collections.abc import Callable
from typing import Any

Body = dict[str, Any]


def from_1(body: Body) -> Body:
    """Regions of several shapes, hold-outs and what the tracker looks at came; their defaults are what version 1 meant, but for the look."""
    for track in body.get("tracks", []):
        track.setdefault("look", "luma")
    return body


def from_2(body: Body) -> Body:
    """Extra moves, bent sides and stretches tracked again came; they begin from nothing."""
    return body


def from_3(body: Body) -> Body:
    """Layers and alpha of the plate's files, pixel aspect and the choice of light came; their defaults are what version 3 meant."""
    return body


def from_4(body: Body) -> Body:
    """The mixture of channels became the usual look; a track that does not say otherwise was made when brightness was."""
    for track in body.get("tracks", []):
        track.setdefault("look", "luma")
    return body


def from_5(body: Body) -> Body:
    """Items lie beside the tracks and name the track they hang on; a track has settings, a solution, and layers; repairs are a flat list."""
    items: list[Body] = []
    tracks = []
    for old in body.get("tracks", []):
        items += [{"kind": "hold-out", "of": old["id"], "on": held.pop("follows", ""), **held} for held in old.get("hold_outs", [])]
        for placement in old.get("placements", []):
            if placement.get("bend") is not None:
                placement["bend"]["between"] = _between(placement["bend"])
            items.append({"kind": "placement", "on": old["id"], **placement})
        tracks.append(_track_from_5(old))
    return {**body, "tracks": tracks, "items": items}


def from_6(body: Body) -> Body:
    """The shot's camera came; there was none."""
    return body


def from_7(body: Body) -> Body:
    """Groups, lines, handles and anchors of mattes, fills, and how graphics are matched came; their defaults are what version 7 meant."""
    return body


def from_8(body: Body) -> Body:
    """How graphics are moved on their surface, repeated and finished, their shadows, and patches came; their defaults are what version 8 meant."""
    return body


def from_9(body: Body) -> Body:
    """Points had the sides of their patterns alone."""
    def changed(track: Body) -> Body:
        settings = track["settings"]
        if settings.get("kind") != "points":
            return track
        patterns = [{"side": side} for side in settings.get("sides", ())]
        return {**track, "settings": {**{k: v for k, v in settings.items() if k != "sides"}, "patterns": patterns}}

    return {**body, "tracks": [changed(track) for track in body.get("tracks", ())]}


def from_10(body: Body) -> Body:
    """Meshes had no further reference frames."""
    return body


def from_11(body: Body) -> Body:
    """Frames came of which a person says that no other shot begins there; there were none."""
    return body


def from_12(body: Body) -> Body:
    """How surely a plane of the scene is known came; a plane that was picked before does not say."""
    return body


STEPS: dict[int, Callable[[Body], Body]] = {1: from_1, 2: from_2, 3: from_3, 4: from_4, 5: from_5, 6: from_6, 7: from_7, 8: from_8, 9: from_9, 10: from_10,
                                         11: from_11, 12: from_12}


def brought_up(body: Body, version: int, current: int) -> Body:
    """A shot's JSON of a version as one of the current version."""
    for step in range(version, current):
        body = STEPS[step](body)
    return body


# -- parts of the step from version 5 -----------------------------------------------------------------------------


def _track_from_5(old: Body) -> Body:
    layers: list[Body] = []
    repair, extra = old.get("repair"), old.get("extra")
    if old.get("smoothing"):
        layers.append({"kind": "smoothing", "width": old["smoothing"]})
    if old.get("again") is not None:
        layers.append({"kind": "retracked", "enabled": (repair or {}).get("enabled", True), "solution": _solution_from_5(old["again"])})
    if repair is not None:
        made = _repair_from_5(repair)
        if made != {"kind": "repair", "enabled": True, "points": [], "snapshots": [], "between": "smooth", "fade": True}:
            layers.append(made)
    if extra is not None and (extra.get("move") or extra.get("form") or extra.get("skew") or extra.get("about") is not None):
        layers.append({"kind": "extra-move", "between": _between(extra), **extra})
    return {"id": old["id"], "name": old["name"], "region": old["region"], "visible": old.get("visible", True),
            "settings": {"kind": "plane", "model": old.get("kind", "perspective"), "look": old.get("look", "mix"), "half": old.get("half", False)},
            "solution": _solution_from_5(old.get("solved")), "layers": layers}


def _between(keyed: Body) -> str:
    return "smooth" if keyed.pop("smooth", True) else "straight"


def _solution_from_5(solved: Body | None) -> Body | None:
    if solved is None:
        return None
    return {"kind": "plane", "reference": solved["reference"], "reasons": solved["reasons"],
            **{name: {"array": member} for name, member in solved["arrays"].items()}}


def _repair_from_5(repair: Body) -> Body:
    """Each point kept a copy of the whole repair beneath it, nested; copies that are the same become one snapshot of a flat list."""
    snapshots: list[list[Body]] = []

    def place_of(row: list[Body]) -> int:
        if not row:
            return -1
        flat = [flattened(point) for point in row]
        if flat not in snapshots:
            snapshots.append(flat)
        return snapshots.index(flat)

    def flattened(point: Body) -> Body:
        return {**{k: v for k, v in point.items() if k != "under"}, "base": place_of(point.get("under", []))}

    points = [flattened(point) for point in repair.get("points", [])]
    return {"kind": "repair", "enabled": repair.get("enabled", True), "points": points, "snapshots": snapshots,
            "between": "smooth" if repair.get("smooth", True) else "straight", "fade": repair.get("fade", True)}
