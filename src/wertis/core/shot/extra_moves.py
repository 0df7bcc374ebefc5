"""Edits of a track's extra move, as functions from shot to shot."""

import numpy as np

from wertis.core.errors import RegionError
from wertis.core.keyed import with_key, with_value, without_key
from wertis.core.repair.extra import ExtraMotion, ExtraValues
from wertis.core.shot.document import ExtraMoveLayer, Shot, Track
from wertis.core.shot.edits import unlocked
from wertis.core.shot.keys import Keys, key_records, plain_keys
from wertis.core.shot.resolve import motion_below, motion_through

_PARTS = ("move", "form", "skew")


def values_on(track: Track, frame: int) -> ExtraValues:
    """The extra move on a frame; none where there is none."""
    motion = motion_through(track, ExtraMoveLayer)
    return motion.values(frame) if isinstance(motion, ExtraMotion) else ExtraValues()


def set_key(shot: Shot, ident: str, frame: int) -> Shot:
    """The shot with a key on a frame that moves nothing on any frame."""
    track = unlocked(shot, ident)
    reference, layer = _reference(track, frame), track.layer(ExtraMoveLayer)

    def keyed(keys: Keys) -> Keys:
        return key_records(with_key(plain_keys(keys), frame, layer.between, reference))

    return _with(shot, track, layer.but(**{part: keyed(getattr(layer, part)) for part in _PARTS}))


def set_values(shot: Shot, ident: str, frame: int, values: ExtraValues) -> Shot:
    """The shot with the extra move keyed to these values on a frame.

    Raises
    ------
    RegionError
        On the reference frame, where there is never any, and before tracking.
    """
    track = unlocked(shot, ident)
    reference, layer = _reference(track, frame), track.layer(ExtraMoveLayer)
    pairs = {"move": (values.x, values.y), "form": (float(np.log(max(values.scale, 1e-3))), values.turn), "skew": (values.shear, 0.0)}
    return _with(shot, track, layer.but(enabled=True, **{
        part: key_records(with_value(plain_keys(getattr(layer, part)), frame, np.array(pair), layer.between, reference)) for part, pair in pairs.items()}))


def clear_key(shot: Shot, ident: str, frame: int | None = None) -> Shot:
    """The shot less the extra move's key on a frame, or all of its keys."""
    track = unlocked(shot, ident)
    layer = track.layer(ExtraMoveLayer)
    return _with(shot, track, layer.but(**{
        part: {} if frame is None else key_records(without_key(plain_keys(getattr(layer, part)), frame, track.reference)) for part in _PARTS}))


def set_about(shot: Shot, ident: str, place: np.ndarray, frame: int) -> Shot:
    """The shot with the point about which the extra move turns and scales put at `place` (2,) of a frame's picture.

    Raises
    ------
    RegionError
        When the track has no answer there.
    """
    track = unlocked(shot, ident)
    base = motion_below(track, ExtraMoveLayer)
    warp = base.at(frame) if base is not None else None
    home = warp.inverse(np.asarray(place, float)[None])[0] if warp is not None else np.full(2, np.nan)
    if not np.isfinite(home).all():
        raise RegionError(f"{track.name} has no answer on frame {frame}; set the point on a frame where it is tracked.")
    return _with(shot, track, track.layer(ExtraMoveLayer).but(about=(float(home[0]), float(home[1]))))


def about_on(track: Track, frame: int) -> np.ndarray | None:
    """Where that point (2,) is on a frame, before the extra move; None where the motion is unknown."""
    base = motion_below(track, ExtraMoveLayer)
    warp = base.at(frame) if base is not None else None
    if warp is None:
        return None
    about = track.layer(ExtraMoveLayer).about
    there = warp.forward((np.array(about) if about is not None else track.region.box.mean(0))[None])[0]
    return there if np.isfinite(there).all() else None


def set_extra(shot: Shot, ident: str, **changes: object) -> Shot:
    """The shot with the extra move set otherwise: between, enabled."""
    track = unlocked(shot, ident)
    return _with(shot, track, track.layer(ExtraMoveLayer).but(**changes))


def _with(shot: Shot, track: Track, layer: ExtraMoveLayer) -> Shot:
    return shot.with_track(track.with_layer(layer))


def _reference(track: Track, frame: int) -> int:
    if track.solution is None:
        raise RegionError(f"{track.name} has not been tracked; track it before you add a move to it.")
    if frame == track.reference:
        raise RegionError(f"Frame {frame} is the reference frame, where the extra move is none; go to another frame.")
    return track.reference
