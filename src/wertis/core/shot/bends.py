"""Bent sides of a placement: where its control points and its outline are on a frame, and edits as functions from shot to shot."""

import numpy as np

from wertis.core.errors import RegionError
from wertis.core.geometry import coons, homography
from wertis.core.repair import curve
from wertis.core.repair.curve import NOWHERE
from wertis.core.shot.document import Bend, Placement, Shot, Track
from wertis.core.shot.edits import placement_on, set_placement, track_of
from wertis.core.shot.keys import plain, records

_MOST = 0.45  # of the side: a control point further from its place folds the patch


def handles_on(track: Track, placement: Placement, frame: int) -> np.ndarray | None:
    """Where the control points (8, 2) are on a frame; None where the motion is unknown."""
    return placed(track, placement, frame, coons.THIRDS + placement.bend.at(frame))


def outline_on(track: Track, placement: Placement, frame: int) -> np.ndarray | None:
    """The placement's outline on a frame: its corners (4, 2), or a polygon (N, 2) where its sides are bent; None where the motion is unknown."""
    if not placement.is_bent:
        return placement_on(track, placement, frame)
    return placed(track, placement, frame, coons.outline(placement.bend.at(frame)))


def placed(track: Track, placement: Placement, frame: int, square: np.ndarray) -> np.ndarray | None:
    """Points (N, 2) of the plane of the placement's unit square on a frame; None where the motion is unknown."""
    corners = placement_on(track, placement, frame)
    return None if corners is None else homography.apply(homography.from_unit_square(corners), square)


def move_handles(shot: Shot, ident: str, placement_id: str, frame: int, targets: np.ndarray) -> Shot:
    """The shot with control points put at places (8, 2) of a frame's picture, by keys there; those that stay get no key.

    Raises
    ------
    RegionError
        When the track has no answer there, or the patch would fold.
    """
    track, placement = _both(shot, ident, placement_id)
    corners = placement_on(track, placement, frame)
    if corners is None:
        raise RegionError(f"{track.name} has no answer on frame {frame}; bend the sides on a frame where it is tracked.")
    wanted = homography.apply(np.linalg.inv(homography.from_unit_square(corners)), targets) - coons.THIRDS
    if not np.isfinite(wanted).all() or np.abs(wanted).max() > _MOST:
        raise RegionError("A side cannot be bent so far; it would fold over. For a strongly curved surface split it in two placements.")
    moved = np.abs(wanted - placement.bend.at(frame)).max(1) > 1e-9
    handles = tuple(records(curve.with_value(plain(keys), NOWHERE, frame, to, placement.bend.smooth, fade=False)) if now else keys
                    for keys, to, now in zip(placement.bend.handles, wanted, moved, strict=True))
    return _with(shot, track, placement, placement.bend.but(handles=handles))


def set_key(shot: Shot, ident: str, placement_id: str, frame: int) -> Shot:
    """The shot with keys of all control points on a frame; nothing moves by it on any frame."""
    track, placement = _both(shot, ident, placement_id)
    handles = tuple(records(curve.with_key(plain(keys), NOWHERE, frame, placement.bend.smooth, fade=False)) for keys in placement.bend.handles)
    return _with(shot, track, placement, placement.bend.but(handles=handles))


def clear(shot: Shot, ident: str, placement_id: str, frame: int | None = None) -> Shot:
    """The shot less the control points' keys on a frame; with straight sides, when None."""
    track, placement = _both(shot, ident, placement_id)
    handles = tuple({} if frame is None else records(curve.without_key(plain(keys), NOWHERE, frame)) for keys in placement.bend.handles)
    return _with(shot, track, placement, placement.bend.but(handles=handles))


def _both(shot: Shot, ident: str, placement_id: str) -> tuple[Track, Placement]:
    track = track_of(shot, ident)
    placement = track.placement(placement_id)
    if placement is None:
        raise RegionError("There is no placement whose sides could be bent; place a graphic first.")
    return track, placement


def _with(shot: Shot, track: Track, placement: Placement, bend: Bend) -> Shot:
    return set_placement(shot, track.id, placement.but(bend=bend))
