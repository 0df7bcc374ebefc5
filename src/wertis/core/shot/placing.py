"""Where graphics are put on a surface: true proportions, and edits of placements as functions from shot to shot."""

from typing import NamedTuple

import numpy as np

from wertis.core.errors import RegionError
from wertis.core.geometry import homography, quad
from wertis.core.shot.artwork import Artwork
from wertis.core.shot.document import Placement, Shot, Track
from wertis.core.shot.edits import as_points, carry
from wertis.core.shot.items import item_of, set_item
from wertis.core.shot.pose import PoseValues, pose_matrix


class Proportions(NamedTuple):
    """A surface's width over height, and how it is known."""

    ratio: float
    source: str  # "given", "perspective", or "flat": the view is too flat to tell, sides as seen


def surface_proportions(placement: Placement, size: tuple[int, int], aspect: float = 1.0) -> Proportions:
    """The true proportions of what a placement outlines on the surface; `aspect` is a pixel's width over its height."""
    if placement.ratio is not None:
        return Proportions(placement.ratio, "given")
    found, _ = quad.proportions(placement.array, size, aspect)
    if found is not None and 0.02 < found < 50:
        return Proportions(found, "perspective")
    return Proportions(quad.side_proportions(placement.array * [aspect, 1.0]), "flat")


def proportions_in(shot: Shot, placement: Placement) -> float:
    """A placement's width over its height on its surface."""
    ref = shot.plate
    return surface_proportions(placement, ref.size if ref is not None else (1920, 1080), ref.aspect if ref is not None else 1.0).ratio


def with_corners(shot: Shot, placement: Placement, corners: np.ndarray, frame: int) -> Placement:
    """A placement whose corners are put at (4, 2) on a frame's picture; what its keys do stays.

    Raises
    ------
    RegionError
        When its track has no answer there, or the corners fold over.
    """
    track = shot.track(placement.on)
    home = carry(track, corners, frame, placement.frame)
    if home is None:
        raise RegionError(f"{track.name if track else 'Its track'} is not tracked on frame {frame}; choose a frame on which it is.")
    if placement.pose.keys and quad.is_convex(home):
        home = homography.apply(homography.from_unit_square(home) @ np.linalg.inv(placement.pose.matrix_at(frame)), quad.UNIT_SQUARE)
    if not quad.is_convex(home):
        raise RegionError("The corners must not fold over; drag them so that the sides do not cross.")
    return placement.but(quad=as_points(home))


def posed(shot: Shot, placement: Placement, frame: int, values: PoseValues, keyed: bool) -> Placement:
    """A placement moved, scaled, turned and skewed on its surface so that it has these values on a frame.

    Parameters
    ----------
    keyed : by a key on that frame; otherwise on all frames alike.

    Raises
    ------
    RegionError
        When it would fold over there.
    """
    pose = placement.pose
    if not pose.keys:
        pose = pose.but(ratio=proportions_in(shot, placement))
    square = homography.from_unit_square(placement.array)
    matrix = square @ pose_matrix(values, pose.ratio, pose.about)
    before_horizon = np.column_stack([quad.UNIT_SQUARE, np.ones(4)]) @ matrix[2] * np.sign(square[2, 2])
    if not (before_horizon > 1e-9).all() or not quad.is_convex(homography.apply(matrix, quad.UNIT_SQUARE)):
        raise RegionError(f"{placement.name} would fold over there; move, scale or turn it less.")
    if keyed or not pose.keys:
        return placement.but(pose=pose.with_values(frame if keyed else placement.frame, values))
    return placement.but(pose=pose.shifted(values.numbers - pose.at(frame).numbers))


def key_pose(shot: Shot, ident: str, frame: int, on: bool = True) -> Shot:
    """The shot with a key of a placement's own motion on a frame, or without; setting one moves nothing."""
    placement = item_of(shot, ident, Placement)
    pose = placement.pose if placement.pose.keys else placement.pose.but(ratio=proportions_in(shot, placement))
    return set_item(shot, placement.but(pose=pose.with_key(frame) if on else pose.without_key(frame)))


def whole_picture(shot: Shot, track: Track, frame: int, artwork: Artwork | None = None) -> Placement:
    """A placement that is the whole picture of a frame, so that what was made on that frame lands where it was made.

    Raises
    ------
    RegionError
        When the shot has no plate, or the track has no answer on the frame.
    """
    if shot.plate is None:
        raise RegionError("A shot without a plate has no picture to lie over; open a plate first.")
    if carry(track, track.region.array[:1], track.region.frame, frame) is None:
        raise RegionError(f"{track.name} is not tracked on frame {frame}; go to a tracked frame, or track it first.")
    w, h = shot.plate.size
    return Placement(on=track.id, frame=frame, quad=as_points(quad.UNIT_SQUARE * [w, h]), fit="stretch", ratio=w * shot.plate.aspect / h,
                     artwork=artwork or Artwork())


def is_whole_picture(shot: Shot, placement: Placement) -> bool:
    """Whether a placement is the whole picture of its frame."""
    return shot.plate is not None and bool(np.allclose(placement.array, quad.UNIT_SQUARE * shot.plate.size, atol=1e-6))

