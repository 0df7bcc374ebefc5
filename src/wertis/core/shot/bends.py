"""Bent sides of a placement: where its control points and its outline are on a frame, and edits as functions from shot to shot."""

import numpy as np

from wertis.core.errors import RegionError
from wertis.core.geometry import coons, homography
from wertis.core.keyed import with_key, with_value, without_key
from wertis.core.shot.document import Bend, Placement, Shot
from wertis.core.shot.edits import carry, placement_on
from wertis.core.shot.items import set_item
from wertis.core.shot.keys import key_records, plain_keys

_MOST = 0.45  # of the side: a control point further from its place folds the patch


def handles_on(shot: Shot, placement: Placement, frame: int) -> np.ndarray | None:
    """Where the control points (8, 2) are on a frame; None where the motion is unknown."""
    return placed(shot, placement, frame, coons.THIRDS + placement.bend.at(frame))


def outline_on(shot: Shot, placement: Placement, frame: int) -> np.ndarray | None:
    """The placement's outline on a frame: its corners (4, 2), or a polygon (N, 2) where its sides are bent; None where the motion is unknown."""
    if not placement.is_bent:
        return placement_on(shot, placement, frame)
    return placed(shot, placement, frame, coons.outline(placement.bend.at(frame)))


def placed(shot: Shot, placement: Placement, frame: float, square: np.ndarray) -> np.ndarray | None:
    """Points (N, 2) of the plane of the placement's unit square on a frame; None where the motion is unknown."""
    at_home = homography.apply(placement.square_at(frame), square)
    return carry(shot.track(placement.on), at_home, placement.frame, frame)


def move_handles(shot: Shot, ident: str, frame: int, targets: np.ndarray) -> Shot:
    """The shot with control points put at places (8, 2) of a frame's picture, by keys there; those that stay get no key.

    Raises
    ------
    RegionError
        When the track has no answer there, or the patch would fold.
    """
    placement = _placement(shot, ident)
    track = shot.track(placement.on)
    at_home = carry(track, targets, frame, placement.frame)
    if at_home is None:
        raise RegionError(f"{track.name if track else 'Its track'} has no answer on frame {frame}; bend the sides on a frame where it is tracked.")
    wanted = homography.apply(np.linalg.inv(placement.square_at(frame)), at_home) - coons.THIRDS
    if not np.isfinite(wanted).all() or np.abs(wanted).max() > _MOST:
        raise RegionError("A side cannot be bent so far; it would fold over. For a strongly curved surface split it in two placements.")
    moved = np.abs(wanted - placement.bend.at(frame)).max(1) > 1e-9
    handles = tuple(key_records(with_value(plain_keys(keys), frame, to, placement.bend.between)) if now else keys
                    for keys, to, now in zip(placement.bend.handles, wanted, moved, strict=True))
    return _with(shot, placement, placement.bend.but(handles=handles))


def set_key(shot: Shot, ident: str, frame: int) -> Shot:
    """The shot with keys of all control points on a frame; nothing moves by it on any frame."""
    placement = _placement(shot, ident)
    handles = tuple(key_records(with_key(plain_keys(keys), frame, placement.bend.between)) for keys in placement.bend.handles)
    return _with(shot, placement, placement.bend.but(handles=handles))


def clear(shot: Shot, ident: str, frame: int | None = None) -> Shot:
    """The shot less the control points' keys on a frame; with straight sides, when None."""
    placement = _placement(shot, ident)
    handles = tuple({} if frame is None else key_records(without_key(plain_keys(keys), frame)) for keys in placement.bend.handles)
    return _with(shot, placement, placement.bend.but(handles=handles))


def _placement(shot: Shot, ident: str) -> Placement:
    placement = shot.item(ident, Placement)
    if placement is None:
        raise RegionError("There is no placement whose sides could be bent; place a graphic first.")
    return placement


def _with(shot: Shot, placement: Placement, bend: Bend) -> Shot:
    return set_item(shot, placement.but(bend=bend))
