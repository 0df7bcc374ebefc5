"""Edits of a track's repairs, as functions from shot to shot."""

from collections.abc import Iterable

import numpy as np

from wertis.core.errors import RegionError
from wertis.core.geometry import homography
from wertis.core.repair import curve
from wertis.core.repair.curve import Key
from wertis.core.repair.extra import ExtraMotion
from wertis.core.repair.points import correction, moves
from wertis.core.shot.document import Repair, RepairPoint, Shot, Track
from wertis.core.shot.edits import track_of
from wertis.core.shot.keys import plain, records

_FARTHEST = 1e6  # pixels; what lies further is the doing of a fold


def points_on(track: Track, frame: int) -> np.ndarray | None:
    """Where the repair points (n, 2) are on a frame, repairs and all; None where the motion is unknown or there are none."""
    plane = track.beneath.plane_at(frame) if track.beneath is not None else None
    if plane is None or not track.repair.points:
        return None
    there = homography.apply(plane, np.array([p.place for p in track.repair.points]))
    if frame == _reference(track):
        return there
    if track.repair.enabled:
        there = there + moves(track.spots, plane, frame)
    return homography.apply(_extra_on(track, frame), there)


def add_point(shot: Shot, ident: str, place: np.ndarray, frame: int) -> Shot:
    """The shot with a repair point at `place` (2,) of a frame's picture; it moves nothing until it is moved.

    Raises
    ------
    RegionError
        When the track has no answer on that frame.
    """
    track = track_of(shot, ident)
    plane = track.motion.plane_at(frame) if track.motion is not None else None
    if plane is None:
        raise RegionError(f"{track.name} has no answer on frame {frame}; set a repair point on a frame where it is tracked.")
    home = homography.apply(np.linalg.inv(plane), np.asarray(place, float)[None])[0]
    if not np.isfinite(home).all() or np.abs(home).max() > _FARTHEST:
        raise RegionError("That place is beyond the surface's horizon; choose one on the surface.")
    keyed = tuple(p for p in track.repair.points)
    point = RepairPoint(place=(float(home[0]), float(home[1])), under=keyed if any(p.keys for p in keyed) else ())
    return _with(shot, track, track.repair.but(points=(*track.repair.points, point)))


def remove_point(shot: Shot, ident: str, point: str) -> Shot:
    """The shot less one repair point and its keys."""
    track = track_of(shot, ident)
    return _with(shot, track, track.repair.but(points=tuple(p for p in track.repair.points if p.id != point)))


def set_key(shot: Shot, ident: str, frame: int, points: Iterable[str] | None = None) -> Shot:
    """The shot with keys on a frame, for the points named or for all; nothing moves by it on any frame."""
    track = track_of(shot, ident)
    wanted = None if points is None else set(points)

    def keyed(point: RepairPoint) -> RepairPoint:
        if wanted is not None and point.id not in wanted:
            return point
        return _keys(point, curve.with_key(_as_keys(point), _reference(track), frame, track.repair.smooth, track.repair.fade))

    return _with(shot, track, track.repair.but(points=tuple(keyed(p) for p in track.repair.points)))


def move_points(shot: Shot, ident: str, frame: int, targets: dict[str, np.ndarray]) -> Shot:
    """The shot with points put at places (2,) of a frame's picture, by keys there; other points keep their values on all frames.

    Raises
    ------
    RegionError
        On the reference frame, where the repair is always none, and where the track has no answer.
    """
    track = track_of(shot, ident)
    reference = _reference(track)
    if frame == reference:
        raise RegionError(f"Frame {frame} is the reference frame, where the repair is none; go to another frame to move a point.")
    plane = track.beneath.plane_at(frame) if track.beneath is not None else None
    if plane is None:
        raise RegionError(f"{track.name} has no answer on frame {frame} for a repair to lie on.")
    extra = np.linalg.inv(_extra_on(track, frame))
    out = []
    for point, spot in zip(track.repair.points, track.spots, strict=True):
        target = targets.get(point.id)
        if target is not None:
            at = homography.apply(plane, spot.place[None])
            beneath = homography.apply(correction(spot.under, plane, frame), at)[0] if spot.under else at[0]
            value = homography.apply(extra, np.asarray(target, float)[None])[0] - beneath
            if not np.isfinite(value).all() or np.abs(value).max() > _FARTHEST:
                raise RegionError("The repair points fold the surface over there; undo the last move, or put them back in their order.")
            point = _keys(point, curve.with_value(_as_keys(point), reference, frame, value, track.repair.smooth, track.repair.fade))
        out.append(point)
    return _with(shot, track, track.repair.but(points=tuple(out), enabled=True))


def clear_keys(shot: Shot, ident: str, frame: int | None = None, points: Iterable[str] | None = None) -> Shot:
    """The shot less the keys on a frame (on all, when None), of the points named or of all."""
    track = track_of(shot, ident)
    wanted = None if points is None else set(points)

    def cleared(point: RepairPoint) -> RepairPoint:
        if wanted is not None and point.id not in wanted:
            return point
        return _keys(point, {} if frame is None else curve.without_key(_as_keys(point), _reference(track), frame))

    return _with(shot, track, track.repair.but(points=tuple(cleared(p) for p in track.repair.points)))


def move_key(shot: Shot, ident: str, frame: int, to: int, copy: bool = False) -> Shot:
    """The shot with the keys of one frame moved, or copied, to another.

    Raises
    ------
    RegionError
        When that is the reference frame.
    """
    track = track_of(shot, ident)
    if to == _reference(track):
        raise RegionError(f"Frame {to} is the reference frame, where the repair is none; move the key elsewhere.")

    def moved(point: RepairPoint) -> RepairPoint:
        keys = _as_keys(point)
        if frame not in keys or frame == to:
            return point
        left = keys if copy else curve.without_key(keys, _reference(track), frame)
        return _keys(point, {**{f: Key(k.value) for f, k in left.items() if f != _reference(track)}, to: Key(keys[frame].value)})

    return _with(shot, track, track.repair.but(points=tuple(moved(p) for p in track.repair.points)))


def set_repair(shot: Shot, ident: str, **changes: object) -> Shot:
    """The shot with a track's repairs set otherwise: smooth, fade, enabled."""
    track = track_of(shot, ident)
    return _with(shot, track, track.repair.but(**changes))


def next_key(track: Track, frame: int, step: int) -> int | None:
    """The frame of the next (`step` 1) or previous (-1) key; None when there is none."""
    frames = track.repair.frames(_reference(track))
    return next((f for f in frames if f > frame), None) if step > 0 else next((f for f in reversed(frames) if f < frame), None)


def _with(shot: Shot, track: Track, repair: Repair) -> Shot:
    return shot.with_track(track.but(repair=repair))


def _reference(track: Track) -> int:
    return track.solved.reference if track.solved is not None else track.region.frame


def _as_keys(point: RepairPoint) -> dict[int, Key]:
    return plain(point.keys)


def _keys(point: RepairPoint, keys: dict[int, Key]) -> RepairPoint:
    return point.but(keys=records(keys))


def _extra_on(track: Track, frame: int) -> np.ndarray:
    """What the extra move does to a frame's picture (3, 3)."""
    if not isinstance(track.motion, ExtraMotion) or track.repaired is None:
        return np.eye(3)
    inner, outer = track.repaired.plane_at(frame), track.motion.plane_at(frame)
    return np.eye(3) if inner is None or outer is None else np.asarray(outer @ np.linalg.inv(inner))
