"""Tracking a bending surface over a range of a plate: what the window, the command line and scripts share."""

import threading
from collections.abc import Callable, Collection, Iterable, Iterator
from dataclasses import replace

import cv2
import numpy as np

from wertis.core.errors import PlateError
from wertis.core.geometry.mesh import Mesh, MeshFix, usual_spacing
from wertis.core.imaging.channel_mixture import channel_mixture
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.plate.base import Plate
from wertis.core.track.feeding import fed
from wertis.core.track.mesh.batch import BatchRefinement
from wertis.core.track.mesh.shape_basis import ShapeBasis
from wertis.core.track.mesh.tracker import MeshTracker
from wertis.core.track.mesh.two_sided import TwoSidedMesh
from wertis.core.track.run import Masks, PictureReader
from wertis.core.track.tracker_input import looked_at, mask_on_reference

SURFACE_STEP = 0.82  # of the vertices' usual spacing, between the control points of the tracker's map
_KNOWN_ERROR = 0.1  # pixels, of the vertices on a further reference frame that was tracked and looked at before
_BOARD, _CLOTH = 3e-4, 5.0  # pixels by which a control point may lie off the line between its neighbours at stiffness 100 and 0


def bend_of(stiffness: float | None) -> float | None:
    """Pixels of bending that a stiffness 0 (cloth) to 100 (board) expects; None stays None, from the pictures."""
    return None if stiffness is None else float(_CLOTH * (_BOARD / _CLOTH) ** (np.clip(stiffness, 0, 100) / 100))


def stiffness_of(bend: float) -> float:
    """The stiffness 0..100 that expects so many pixels of bending."""
    return float(np.clip(100 * np.log(bend / _CLOTH) / np.log(_BOARD / _CLOTH), 0, 100))


def track_mesh(plate: Plate, mesh: Mesh, mask: np.ndarray, start: int, frames: Iterable[int], stiffness: float | None = None,
               read: PictureReader | None = None, stop: threading.Event | None = None, known: dict[int, np.ndarray] | None = None,
               held: Masks | None = None, look: str = "mix", half: bool = False, shapes: list[ShapeBasis] | None = None,
               expected: Callable[[int], np.ndarray | None] | None = None, renewed: bool = True,
               further: Collection[int] = (), batch: BatchRefinement | None = None) -> Iterator[tuple[int, MeshFix]]:
    """Track a mesh that lies on frame `start` through `frames`, which lead away from it in one direction.

    Yields each frame's number and answer; lost and unreadable frames come with no places and a reason. Where another shot begins tracking ends, and the
    frames beyond come with that as their reason. A frame on which part of the mesh was hidden may come a second time at the end, with a better answer.

    Parameters
    ----------
    mask : (height, width) uint8, non-zero on what is tracked.
    stiffness : 0, cloth, to 100, a board; chosen by itself when None.
    known : places (V, 2) of the vertices on frames that were tracked already; where `frames` begins next to one of them tracking goes on from there.
    shapes : of one entry at most: what the surface has done on the other side of the reference frame, to know it by; an entry is put in.
    expected : where the vertices (V, 2) are expected on a frame, as far as hands have put them there; what cannot be seen is left there.
    renewed : where the surface comes to look otherwise for good its newer look is taken, with the error of its place.
    further : frames that stand in for the reference frame where the surface looks otherwise there: those that are `known` from the beginning, others
        from where tracking comes to them.
    batch : remembers the frames, for who tracks in two directions and then asks it for its better answers; they are given here when None.

    The others are as for `track.run.track_plane`.

    Raises
    ------
    RegionError
        When the region cannot be tracked.
    PlateError
        When the reference frame cannot be read.
    """
    fetch = read or plate.read
    mask = mask_on_reference(plate, start, mask, held)
    scale = 0.5 if half else 1.0
    first = fetch(start)
    mixture = channel_mixture(first, mask) if look == "mix" else None

    def as_seen(picture: np.ndarray) -> np.ndarray:
        return looked_at(picture, look, half, mixture)

    def smaller(picture: np.ndarray | None) -> np.ndarray | None:
        return cv2.resize(picture, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA) if half and picture is not None else picture

    step = SURFACE_STEP * usual_spacing(float(np.count_nonzero(mask))) * scale
    looked = Mesh(mesh.vertices * scale, mesh.triangles, mesh.weights) if half else mesh
    small = smaller(mask)
    assert small is not None
    tracker = MeshTracker(as_seen(first), small, looked, step, bend_of(stiffness), renewed)
    if shapes:
        tracker.shapes = shapes[0]
    elif shapes is not None:
        shapes.append(tracker.shapes)
    order = list(frames)
    onward = 1 if len(order) < 2 or order[1] > order[0] else -1
    tracker.direction = onward
    if known and order:
        nearest = next((known[f] for f in (order[0] - onward, order[0] + onward) if f in known), None)
        if nearest is not None:
            tracker.start_at(nearest * scale)

    for frame in sorted(set(further) & set(known or {}) - {start}, key=lambda f: -abs(f - start)):
        assert known is not None
        try:
            picture = as_seen(fetch(frame))
        except PlateError:
            continue  # the others still stand in
        errors = np.full(len(mesh.vertices), _KNOWN_ERROR * scale)
        tracker.add_template(picture, known[frame] * scale, errors, smaller(held(frame)) if held is not None else None)

    coming = set(further) - set(known or {})

    def answered(frame: int, picture: np.ndarray, pyramid: Pyramid | None) -> MeshFix:
        told = expected(frame) if expected is not None else None
        tracker.expect(told * scale if told is not None else None)
        away = smaller(held(frame)) if held is not None else None
        fix = tracker.feed(picture, away, pyramid)
        if frame in coming and fix.places is not None:
            coming.discard(frame)
            tracker.add_template(picture, fix.places, fix.errors, away)
        places = fix.places / scale if fix.places is not None else None
        return replace(fix, mesh=mesh, places=places, errors=fix.errors / scale)

    def read_again(frame: int, luma: np.ndarray | None) -> Pyramid | None:
        if stop is not None and stop.is_set():
            return None
        return Pyramid(luma if luma is not None else as_seen(fetch(frame)), smaller(held(frame)) if held is not None else None)

    def again(frame: int) -> MeshFix | None:
        try:
            return answered(frame, as_seen(fetch(frame)), None) if not (stop is not None and stop.is_set()) else None
        except PlateError:
            return None

    together = batch or BatchRefinement()
    both = TwoSidedMesh(tracker)
    for frame, fix in fed(plate, start, order, first, fetch, as_seen, answered, lambda reason: MeshFix(mesh, None, reason=reason), stop):
        both.keep(frame, fix)
        yield frame, fix
        if expected is None:
            together.keep(frame, fix, tracker, scale, read_again)
            if together.full:
                yield from together.answers(last=False)
    if expected is None and not (stop is not None and stop.is_set()):
        for frame, fix in both.answers(again):
            together.better(frame, fix)
            yield frame, fix
        if batch is None:
            yield from together.answers()
