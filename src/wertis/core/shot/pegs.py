"""What hands say of a mesh's vertices: pegs, followers, locks, data that is deleted, and a mesh that pegs alone carry."""

from collections.abc import Mapping

import numpy as np
import scipy

from wertis.core.errors import RegionError
from wertis.core.geometry.mesh import MeshFix
from wertis.core.shot.document import Shot, Track
from wertis.core.shot.edits import unlocked
from wertis.core.shot.meshes import MeshSolution, PegLayer, RetrackedMeshLayer, merged_mesh, mesh_of, mesh_settings
from wertis.core.shot.resolve import motion_below, tracked_motion

LEADERS = {"mesh": 0, "two": 2, "plane": 6}
"""What followers may follow, and how many of the nearest vertices that are: the mesh round them, a bar, a plane."""


def set_pegs(shot: Shot, ident: str, frame: int, places: Mapping[int, tuple[float, float] | np.ndarray]) -> Shot:
    """The shot with vertices of a mesh pegged on a frame.

    Raises
    ------
    RegionError
        When there is no mesh or no answer on the frame, a vertex does not exist or is locked, or a peg lies outside the picture.
    """
    track = unlocked(shot, ident)
    solution = track.solution
    if not isinstance(solution, MeshSolution):
        raise RegionError(f"{track.name} has no tracked mesh yet; choose Mesh as its motion and track it, then put vertices right.")
    if frame == solution.reference:
        raise RegionError(f"Frame {frame} is the reference frame, on which the mesh lies where it was laid; move a vertex of the mesh itself there, "
                          "or set the peg on another frame.")
    beneath = tracked_motion(track)
    if beneath is None or beneath.at(frame) is None:
        raise RegionError(f"{track.name} has no answer on frame {frame}; track it there first.")
    layer = track.layer(PegLayer)
    for k, place in places.items():
        if not 0 <= k < len(solution.vertices):
            raise RegionError(f"The mesh has no vertex {k}; its vertices are 0 to {len(solution.vertices) - 1}.")
        if k in layer.locked:
            raise RegionError(f"Vertex {k} is locked; unlock it to move it.")
        if shot.plate is not None:
            w, h = shot.plate.size
            if not (-w <= place[0] <= 2 * w and -h <= place[1] <= 2 * h) or not np.isfinite(np.asarray(place, float)).all():
                raise RegionError(f"The peg of vertex {k} at {place[0]:.0f}, {place[1]:.0f} is far outside of the picture; it is {w} x {h}.")
    pegs = {**layer.pegs, frame: {**layer.pegs.get(frame, {}), **{int(k): (float(p[0]), float(p[1])) for k, p in places.items()}}}
    return shot.with_track(track.with_layer(layer.but(pegs=pegs, enabled=True)))


def clear_pegs(shot: Shot, ident: str, frame: int | None = None, vertices: set[int] | None = None) -> Shot:
    """The shot without pegs: of a frame or all, of some vertices or all."""
    track = unlocked(shot, ident)
    layer = track.layer(PegLayer)
    pegs = {f: {k: p for k, p in on.items() if not ((frame is None or f == frame) and (vertices is None or k in vertices))}
            for f, on in layer.pegs.items()}
    return shot.with_track(track.with_layer(layer.but(pegs={f: on for f, on in pegs.items() if on})))


def set_followers(shot: Shot, ident: str, numbers: set[int], follow: bool = True, leaders: str | tuple[int, ...] = "mesh") -> Shot:
    """The shot with vertices of a mesh following others, with no measurement of their own, or measured again.

    Parameters
    ----------
    leaders : "mesh", the vertices all round; "two", each the nearest two; "plane", each a plane through the nearest; or the numbers of those to follow,
        two at least.

    Raises
    ------
    RegionError
        When a vertex does not exist, or fewer than three would be left to follow.
    """
    track, count = _checked_numbers(shot, ident, numbers)
    layer = track.layer(PegLayer)
    now = set(layer.followers) | numbers if follow else set(layer.followers) - numbers
    if count - len(now) < 3:
        raise RegionError("At least three vertices must be measured for the others to follow; choose fewer.")
    led_by = {k: led for k, led in layer.led_by.items() if k not in numbers and not numbers & set(led)}
    if follow:
        led_by.update(_led_by(track, numbers, now, leaders))
    return shot.with_track(track.with_layer(layer.but(followers=tuple(sorted(now)), led_by=led_by)))


def _led_by(track: Track, numbers: set[int], followers: set[int], leaders: str | tuple[int, ...]) -> dict[int, tuple[int, ...]]:
    """What each of the vertices follows, where that is not the mesh."""
    solution = track.solution
    assert isinstance(solution, MeshSolution)
    if not isinstance(leaders, str):
        wrong = [k for k in leaders if not 0 <= k < len(solution.vertices) or k in followers]
        if len(set(leaders)) < 2 or wrong:
            raise RegionError("Followers need two or more other vertices to follow, which are measured themselves; choose others.")
        return {k: tuple(leaders) for k in numbers}
    if leaders not in LEADERS:
        raise RegionError(f"Followers cannot follow {leaders!r}; choose one of {', '.join(LEADERS)}, or give numbers of vertices.")
    count = LEADERS[leaders]
    free = np.array([k for k in range(len(solution.vertices)) if k not in followers])
    if not count:
        return {}
    order = sorted(numbers)
    near = np.asarray(scipy.spatial.cKDTree(solution.vertices[free]).query(solution.vertices[order], k=min(count, len(free)))[1]).reshape(len(order), -1)
    return {k: tuple(int(free[i]) for i in row) for k, row in zip(order, near, strict=True)}


def set_locked(shot: Shot, ident: str, numbers: set[int], locked: bool = True) -> Shot:
    """The shot with vertices of a mesh locked, so that neither pegs nor tracking move them, or unlocked."""
    track, _ = _checked_numbers(shot, ident, numbers)
    layer = track.layer(PegLayer)
    now = set(layer.locked) | numbers if locked else set(layer.locked) - numbers
    return shot.with_track(track.with_layer(layer.but(locked=tuple(sorted(now)))))


def _checked_numbers(shot: Shot, ident: str, numbers: set[int]) -> tuple[Track, int]:
    """The track, and how many vertices its mesh has, of which all `numbers` must be some."""
    track = unlocked(shot, ident)
    if not isinstance(track.solution, MeshSolution):
        raise RegionError(f"{track.name} has no tracked mesh yet; choose Mesh as its motion and track it.")
    count = len(track.solution.vertices)
    wrong = sorted(k for k in numbers if not 0 <= k < count)
    if wrong:
        raise RegionError(f"The mesh has no vertex {wrong[0]}; its vertices are 0 to {count - 1}.")
    return track, count


def shift_pegs(shot: Shot, ident: str, frame: int, to: int, copy: bool = False, vertices: set[int] | None = None) -> Shot:
    """The shot with the pegs of a frame moved in time, or copied, to another; each corrects there by as much as it did.

    Raises
    ------
    RegionError
        When there is no such peg, or the track has no answer on the other frame.
    """
    track = unlocked(shot, ident)
    layer = track.layer(PegLayer)
    moved = {k: np.array(p) for k, p in layer.pegs.get(frame, {}).items() if vertices is None or k in vertices}
    if not moved:
        raise RegionError(f"There is no peg on frame {frame} to {'copy' if copy else 'move'}.")
    below = motion_below(track, PegLayer)
    here, there = (below.at(f) if below is not None else None for f in (frame, to))
    solution = track.solution
    if here is None or there is None or not isinstance(solution, MeshSolution):
        raise RegionError(f"{track.name} has no answer on frame {to}; choose a frame on which it is tracked.")
    numbers = sorted(moved)
    away = np.array([moved[k] for k in numbers]) - here.forward(solution.vertices[numbers])
    places = there.forward(solution.vertices[numbers]) + away
    out = set_pegs(shot, ident, to, dict(zip(numbers, places, strict=True)))
    return out if copy else clear_pegs(out, ident, frame, set(numbers))


def carry_by_pegs(shot: Shot, ident: str) -> Shot:
    """The shot with a mesh that pegs alone can carry: it lies, not measured, on every frame of the range that has no answer, as on the nearest that has.

    Raises
    ------
    RegionError
        When the mesh cannot be laid.
    """
    track = unlocked(shot, ident)
    if shot.plate is None:
        raise RegionError("Open a plate first.")
    mesh, reference = mesh_of(track, shot.plate.size), track.region.frame
    before = track.solution if isinstance(track.solution, MeshSolution) and np.array_equal(track.solution.vertices, mesh.vertices) else None
    known = {reference: mesh.vertices}
    if before is not None:
        known.update({int(f): p for f, p, good in zip(before.frames, before.places, before.good, strict=True) if good})
    low, high = shot.range
    nothing = np.full(len(mesh.vertices), np.inf), np.zeros(len(mesh.vertices), bool)
    fixes = {f: MeshFix(mesh, known[min(known, key=lambda k, f=f: abs(k - f))], *nothing) for f in range(low, high + 1)  # type: ignore[misc]
             if f not in known}
    solution = merged_mesh(before, reference, mesh, fixes)
    return shot.with_track(track.but(solution=solution, settings=mesh_settings(track).but(vertices=solution.vertices)))


def forget_data(shot: Shot, ident: str, vertices: set[int], frame: int, before: bool, pegs: bool = False) -> Shot:
    """The shot with the data of chosen vertices deleted before, or after, a frame; they follow the others there. Pegs too only when asked."""
    track, count = _checked_numbers(shot, ident, vertices)
    solution, chosen = track.solution, sorted(vertices)
    assert isinstance(solution, MeshSolution)
    if count - len(chosen) < 3:
        raise RegionError("At least three vertices must keep their data; choose fewer.")

    def without(old: MeshSolution) -> MeshSolution:
        away = ((old.frames < frame) if before else (old.frames > frame)) & (old.frames != old.reference)
        places, errors, measured = old.places.copy(), old.errors.copy(), old.measured.copy()
        places[np.ix_(away, chosen)] = np.nan
        errors[np.ix_(away, chosen)] = np.inf
        measured[np.ix_(away, chosen)] = False
        return old.but(places=places, errors=errors, measured=measured)

    again = track.layer(RetrackedMeshLayer)
    changed = track.but(solution=without(solution))
    if again.solution is not None:
        changed = changed.with_layer(again.but(solution=without(again.solution)))
    out = shot.with_track(changed)
    if pegs:
        for f in track.layer(PegLayer).frames:
            if (f < frame) if before else (f > frame):
                out = clear_pegs(out, ident, f, set(chosen))
    return out
