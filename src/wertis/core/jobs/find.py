"""Repair points and vertices that find their own place: the reference frame's picture round each is looked for on another frame."""

from collections.abc import Callable, Sequence

import numpy as np

from wertis.core.check.drift import DriftMeter
from wertis.core.errors import WertisError
from wertis.core.geometry.motion import between
from wertis.core.geometry.polygon import fill
from wertis.core.jobs.check import check_track
from wertis.core.plate.base import Plate, luma
from wertis.core.shot import regions, repairs
from wertis.core.shot.document import RepairLayer, Shot, Track
from wertis.core.shot.hold_outs import held_masks
from wertis.core.shot.meshes import vertices_on
from wertis.core.shot.resolve import motion_of

_REACH = 44.0  # pixels of the reference frame round a point that are compared
_GROWN = 1.5  # times that, near the surface's edge
_WHOLE, _LEAST = 0.95, 0.1  # part of the square on the surface from which all of it is taken, and below which the point is beside the surface


def find_places(shot: Shot, track: Track, plate: Plate, frame: int, read: Callable[[int], np.ndarray] | None = None) -> dict[str, np.ndarray | str]:
    """Where each repair point's spot is on a frame (2,), to a fraction of a pixel, or in words why it cannot be told.

    Raises
    ------
    WertisError
        When the track has no answer on the frame.
    PlateError
        When the frame or the reference frame cannot be read.
    """
    motion = motion_of(track)
    there = repairs.points_on(track, frame)
    if motion is None or there is None:
        raise WertisError(f"{track.name} has no answer on frame {frame}, or no repair points; a point cannot be found there.")
    fetch = read or plate.read
    home = track.region.frame
    base, now = luma(fetch(home)), luma(fetch(frame))
    onto = between(motion, home, frame)
    masks = held_masks(shot, track, plate.size)
    held = masks(frame) if masks is not None else None
    out: dict[str, np.ndarray | str] = {}
    square = np.array([[-1.0, -1], [1, -1], [1, 1], [-1, 1]]) * _REACH
    surface = regions.mask_of(track.region, plate.size, None)
    for point, at in zip(track.layer(RepairLayer).points, there, strict=True):
        place = np.array(point.place)
        # what lies beside the surface moves otherwise; near its edge more of the surface is taken instead
        near, wide = (fill(place + square * grown, plate.size) for grown in (1.0, _GROWN))
        on_surface = np.count_nonzero(near & surface)
        mask = near if on_surface > _WHOLE * np.count_nonzero(near) or on_surface < _LEAST * np.count_nonzero(near) else wide & surface
        slip = DriftMeter(base, mask, place[None]).measure(now, onto, held)
        out[point.id] = at + slip.slip[0] if np.isfinite(slip.slip).all() else slip.reason or "too little texture round it"
    return out


def find_vertices(shot: Shot, track: Track, plate: Plate, frame: int, numbers: Sequence[int] | None = None,
                  read: Callable[[int], np.ndarray] | None = None) -> dict[int, np.ndarray | str]:
    """Where vertices of a mesh, of some numbers or all, belong on a frame (2,), or in words why it cannot be told.

    Raises
    ------
    WertisError
        When the track has no mesh, or no answer on the frame.
    PlateError
        When the frame or the reference frame cannot be read.
    """
    there = vertices_on(track, frame)
    if there is None:
        raise WertisError(f"{track.name} has no mesh on frame {frame}; track it there first.")
    slip = next(e.item for e in check_track(shot, track, plate, [frame], read) if e.item is not None)
    wanted = range(len(there)) if numbers is None else numbers
    return {int(k): there[k] + slip.slip[k] if np.isfinite(slip.amounts[k]) else slip.reason or "too little texture round it, or hidden" for k in wanted}
