"""What several tests ask of shots and motions."""

import numpy as np

from wertis.core.geometry.motion import Motion
from wertis.core.shot.document import HoldOut, Placement, RepairLayer, RepairPoint, Shot, Track
from wertis.core.shot.resolve import motion_of


def moved(track: Track) -> Motion:
    """A tracked track's motion, layers and all."""
    motion = motion_of(track)
    assert motion is not None
    return motion


def to_frame(motion: Motion | None, points: np.ndarray, time: float) -> np.ndarray:
    """Points (N, 2) of the reference picture at a time; nan where unknown."""
    warp = motion.at(time) if motion is not None else None
    return warp.forward(points) if warp is not None else np.full(np.shape(points), np.nan)


def to_reference(motion: Motion | None, points: np.ndarray, time: float) -> np.ndarray:
    """The inverse of `to_frame`."""
    warp = motion.at(time) if motion is not None else None
    return warp.inverse(points) if warp is not None else np.full(np.shape(points), np.nan)


def plane_at(motion: Motion | None, time: float) -> np.ndarray:
    """The homography (3, 3) of a plane's motion."""
    warp = motion.at(time) if motion is not None else None
    assert warp is not None and warp.matrix is not None
    return warp.matrix


def placement(shot: Shot, index: int = 0) -> Placement:
    """A placement of the first track."""
    return shot.placements(shot.tracks[0].id)[index]


def hold_out(shot: Shot, index: int = 0) -> HoldOut:
    """A hold-out of the first track."""
    return shot.hold_outs(shot.tracks[0].id)[index]


def repair_points(shot: Shot) -> tuple[RepairPoint, ...]:
    """The repair points of the first track."""
    return shot.tracks[0].layer(RepairLayer).points
