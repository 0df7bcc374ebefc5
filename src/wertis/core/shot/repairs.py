"""Edits of a track's repair points, as functions from shot to shot."""

from collections.abc import Iterable

import numpy as np

from wertis.core.errors import RegionError
from wertis.core.geometry.warp import IDENTITY, Warp, compose, inverted
from wertis.core.keyed import Key, moved_key, with_key, with_value, without_key
from wertis.core.shot.document import RepairLayer, RepairPoint, RetrackedLayer, Shot, Track
from wertis.core.shot.edits import track_of, unlocked
from wertis.core.shot.keys import key_records, plain_keys
from wertis.core.shot.resolve import motion_below, motion_of, motion_through, point_repair

_FARTHEST = 1e6  # pixels; what lies further is the doing of a fold


def points_on(track: Track, frame: int) -> np.ndarray | None:
    """Where the repair points (n, 2) are on a frame, repairs and all; None where the motion is unknown or there are none."""
    layer = track.layer(RepairLayer)
    base = motion_below(track, RepairLayer)
    warp = base.at(frame) if base is not None else None
    if warp is None or not layer.points:
        return None
    there = warp.forward(np.array([p.place for p in layer.points]))
    if frame == track.reference:
        return there
    if layer.enabled:
        there = there + point_repair(layer, track.reference).moves(warp, frame)
    above = _above(track, frame)
    return None if above is None else above.forward(there)


def add_point(shot: Shot, ident: str, place: np.ndarray, frame: int) -> Shot:
    """The shot with a repair point at `place` (2,) of a frame's picture; it moves nothing until it is moved.

    Raises
    ------
    RegionError
        When the track has no answer on that frame.
    """
    track = unlocked(shot, ident)
    motion = motion_of(track)
    warp = motion.at(frame) if motion is not None else None
    if warp is None:
        raise RegionError(f"{track.name} has no answer on frame {frame}; set a repair point on a frame where it is tracked.")
    home = warp.inverse(np.asarray(place, float)[None])[0]
    if not np.isfinite(home).all() or np.abs(home).max() > _FARTHEST:
        raise RegionError("That place is beyond the surface's horizon; choose one on the surface.")
    layer = track.layer(RepairLayer)
    snapshots, base = layer.snapshots, -1
    if any(p.keys for p in layer.points):
        # what is there now goes on beneath the new point; points added in a row share one snapshot
        if layer.points in snapshots:
            base = snapshots.index(layer.points)
        else:
            snapshots, base = (*snapshots, layer.points), len(snapshots)
    point = RepairPoint(place=(float(home[0]), float(home[1])), base=base)
    return _with(shot, track, layer.but(points=(*layer.points, point), snapshots=snapshots))


def remove_point(shot: Shot, ident: str, point: str) -> Shot:
    """The shot less one repair point and its keys."""
    track = unlocked(shot, ident)
    layer = track.layer(RepairLayer)
    return _with(shot, track, layer.but(points=tuple(p for p in layer.points if p.id != point)))


def set_key(shot: Shot, ident: str, frame: int, points: Iterable[str] | None = None) -> Shot:
    """The shot with keys on a frame, for the points named or for all; nothing moves by it on any frame."""
    track = unlocked(shot, ident)
    layer = track.layer(RepairLayer)

    def keyed(point: RepairPoint) -> RepairPoint:
        return _keys(point, with_key(plain_keys(point.keys), frame, layer.between, track.reference, layer.fade))

    return _with(shot, track, _changed(layer, keyed, points))


def move_points(shot: Shot, ident: str, frame: int, targets: dict[str, np.ndarray]) -> Shot:
    """The shot with points put at places (2,) of a frame's picture, by keys there; other points keep their values on all frames.

    Raises
    ------
    RegionError
        On the reference frame, where the repair is always none, and where the track has no answer.
    """
    track = unlocked(shot, ident)
    reference = track.reference
    if frame == reference:
        raise RegionError(f"Frame {frame} is the reference frame, where the repair is none; go to another frame to move a point.")
    base, above = motion_below(track, RepairLayer), _above(track, frame)
    warp = base.at(frame) if base is not None else None
    if warp is None or above is None:
        raise RegionError(f"{track.name} has no answer on frame {frame} for a repair to lie on.")
    layer = track.layer(RepairLayer)
    beneath = point_repair(layer, reference).bases(warp, frame) if layer.points else np.zeros((0, 2))
    out = []
    for point, at in zip(layer.points, beneath, strict=True):
        target = targets.get(point.id)
        if target is not None:
            value = above.inverse(np.asarray(target, float)[None])[0] - at
            if not np.isfinite(value).all() or np.abs(value).max() > _FARTHEST:
                raise RegionError("The repair points fold the surface over there; undo the last move, or put them back in their order.")
            point = _keys(point, with_value(plain_keys(point.keys), frame, value, layer.between, reference, layer.fade))
        out.append(point)
    return set_enabled(_with(shot, track, layer.but(points=tuple(out), enabled=True)), ident, True)


def clear_keys(shot: Shot, ident: str, frame: int | None = None, points: Iterable[str] | None = None) -> Shot:
    """The shot less the keys on a frame (on all, when None), of the points named or of all."""
    track = unlocked(shot, ident)

    def cleared(point: RepairPoint) -> RepairPoint:
        return _keys(point, {} if frame is None else without_key(plain_keys(point.keys), frame, track.reference))

    return _with(shot, track, _changed(track.layer(RepairLayer), cleared, points))


def move_key(shot: Shot, ident: str, frame: int, to: int, copy: bool = False) -> Shot:
    """The shot with the keys of one frame moved, or copied, to another.

    Raises
    ------
    RegionError
        When that is the reference frame.
    """
    track = unlocked(shot, ident)
    if to == track.reference:
        raise RegionError(f"Frame {to} is the reference frame, where the repair is none; move the key elsewhere.")

    def moved(point: RepairPoint) -> RepairPoint:
        return _keys(point, moved_key(plain_keys(point.keys), frame, to, copy, track.reference)) if frame in point.keys else point

    return _with(shot, track, _changed(track.layer(RepairLayer), moved, None))


def set_repair(shot: Shot, ident: str, **changes: object) -> Shot:
    """The shot with a track's repairs set otherwise: between, fade."""
    track = unlocked(shot, ident)
    return _with(shot, track, track.layer(RepairLayer).but(**changes))


def set_enabled(shot: Shot, ident: str, on: bool) -> Shot:
    """The shot with a track's repairs, and what was tracked again from them, switched on or off."""
    track = unlocked(shot, ident)
    for kind in (RetrackedLayer, RepairLayer):
        layer = track.layer(kind)
        if not layer.empty or kind is RepairLayer:
            track = track.with_layer(layer.but(enabled=on))
    return shot.with_track(track)


def next_key(track: Track, frame: int, step: int) -> int | None:
    """The frame of the next (`step` 1) or previous (-1) key; None when there is none."""
    frames = track.layer(RepairLayer).frames(track.reference)
    return next((f for f in frames if f > frame), None) if step > 0 else next((f for f in reversed(frames) if f < frame), None)


def _changed(layer: RepairLayer, change, points: Iterable[str] | None) -> RepairLayer:  # type: ignore[no-untyped-def]
    wanted = None if points is None else set(points)
    return layer.but(points=tuple(change(p) if wanted is None or p.id in wanted else p for p in layer.points))


def _with(shot: Shot, track: Track, layer: RepairLayer) -> Shot:
    used = max((p.base for row in (layer.points, *layer.snapshots) for p in row), default=-1) + 1
    # a snapshot that no point lies on any more goes; those beneath it are kept, since the numbers of the others are their places
    return shot.with_track(track_of(shot, track.id).with_layer(layer if used >= len(layer.snapshots) else layer.but(snapshots=layer.snapshots[:used])))


def _keys(point: RepairPoint, keys: dict[int, Key]) -> RepairPoint:
    return point.but(keys=key_records(keys))


def _above(track: Track, frame: int) -> Warp | None:
    """What the layers on top of the repairs do to a frame's picture."""
    inner, outer = motion_through(track, RepairLayer), motion_of(track)
    if inner is None or outer is inner:
        return IDENTITY
    a, b = inner.at(frame), outer.at(frame) if outer is not None else None
    try:
        return None if a is None or b is None else compose(b, inverted(a))
    except ValueError:
        return None
