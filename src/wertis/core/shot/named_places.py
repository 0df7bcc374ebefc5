"""Places on a track's surface that have a name, such as tracked points and vertices: what they are called, and where they are at a time.

A kind of solution registers those that it has; any track has its region's points.
"""

from collections.abc import Callable
from typing import Any, Literal

import numpy as np

from wertis.core.shot.document import Solution, Track
from wertis.core.shot.resolve import motion_of

PlaceKind = Literal["point", "vertex", "corner"]
Names = Callable[[Any, int], list[str]]
"""Gives the names of a solution's places that are known on a frame by what was seen there."""
Place = Callable[[Track, Any, str, float], np.ndarray | None]
"""Gives where (2,) a place is in a time's picture."""

_known: dict[type[Solution], tuple[PlaceKind, Names, Place]] = {}


def register_places(solution: type[Solution], kind: PlaceKind, names: Names, place: Place) -> None:
    """Say what places a kind of solution has."""
    _known[solution] = kind, names, place


def names_on(track: Track, frame: int) -> tuple[PlaceKind, list[str]]:
    """The kind and the names of a track's places on a frame."""
    own = _known.get(type(track.solution)) if track.solution is not None else None
    if own is not None:
        return own[0], own[1](track.solution, frame)
    return "corner", [str(k) for k in range(len(track.region.array))]


def place_of(track: Track, kind: PlaceKind, name: str, time: float) -> np.ndarray | None:
    """Where (2,) a track's place is in a time's picture; None where that is not known."""
    if kind == "corner":
        return on_surface(track, track.region.array, name, time)
    own = _known.get(type(track.solution)) if track.solution is not None else None
    found = own[2](track, track.solution, name, time) if own is not None and own[0] == kind else None
    return found if found is not None and np.isfinite(found).all() else None


def on_surface(track: Track, places: np.ndarray, name: str, time: float) -> np.ndarray | None:
    """Where (2,) the numbered one of places (n, 2) of the region's frame is in a time's picture."""
    number = int(name) if name.isdecimal() else len(places)
    motion = motion_of(track)
    if number >= len(places):
        return None
    if time == track.region.frame:
        return np.asarray(places[number])
    warp = motion.at(time) if motion is not None else None
    there = warp.forward(places[number:number + 1])[0] if warp is not None else None
    return there if there is not None and np.isfinite(there).all() else None
