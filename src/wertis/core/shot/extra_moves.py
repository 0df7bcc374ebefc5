"""Edits of a track's extra move, as functions from shot to shot."""

import numpy as np

from wertis.core.errors import RegionError
from wertis.core.repair import curve
from wertis.core.repair.extra import ExtraMotion, ExtraValues
from wertis.core.shot.document import ExtraMove, Keys, Shot, Track
from wertis.core.shot.edits import track_of
from wertis.core.shot.keys import plain, records


def values_on(track: Track, frame: int) -> ExtraValues:
    """The extra move on a frame; none where there is none."""
    motion = track.motion
    return motion.values(frame) if isinstance(motion, ExtraMotion) else ExtraValues()


def set_key(shot: Shot, ident: str, frame: int) -> Shot:
    """The shot with a key on a frame that moves nothing on any frame."""
    track = track_of(shot, ident)
    reference = _reference(track, frame)
    e = track.extra
    return _with(shot, track, e.but(**{part: _keyed(getattr(e, part), reference, frame, e.smooth) for part in ("move", "form", "skew")}))


def set_values(shot: Shot, ident: str, frame: int, values: ExtraValues) -> Shot:
    """The shot with the extra move keyed to these values on a frame.

    Raises
    ------
    RegionError
        On the reference frame, where there is never any, and before tracking.
    """
    track = track_of(shot, ident)
    reference = _reference(track, frame)
    e = track.extra
    pairs = {"move": (values.x, values.y), "form": (float(np.log(max(values.scale, 1e-3))), values.turn), "skew": (values.shear, 0.0)}
    return _with(shot, track, e.but(enabled=True, **{part: records(curve.with_value(plain(getattr(e, part)), reference, frame, np.array(pair),
                                                                                     e.smooth)) for part, pair in pairs.items()}))


def clear_key(shot: Shot, ident: str, frame: int | None = None) -> Shot:
    """The shot less the extra move's key on a frame, or all of its keys."""
    track = track_of(shot, ident)
    reference = track.solved.reference if track.solved is not None else track.region.frame
    e = track.extra
    return _with(shot, track, e.but(**{part: records({} if frame is None else curve.without_key(plain(getattr(e, part)), reference, frame))
                                       for part in ("move", "form", "skew")}))


def set_about(shot: Shot, ident: str, place: np.ndarray, frame: int) -> Shot:
    """The shot with the point about which the extra move turns and scales put at `place` (2,) of a frame's picture.

    Raises
    ------
    RegionError
        When the track has no answer there.
    """
    track = track_of(shot, ident)
    home = track.repaired.to_reference(np.asarray(place, float)[None], frame)[0] if track.repaired is not None else np.full(2, np.nan)
    if not np.isfinite(home).all():
        raise RegionError(f"{track.name} has no answer on frame {frame}; set the point on a frame where it is tracked.")
    return _with(shot, track, track.extra.but(about=(float(home[0]), float(home[1]))))


def about_on(track: Track, frame: int) -> np.ndarray | None:
    """Where that point (2,) is on a frame, before the extra move; None where the motion is unknown."""
    if track.repaired is None:
        return None
    home = np.array(track.extra.about) if track.extra.about is not None else track.region.box.mean(0)
    there = track.repaired.to_frame(home[None], frame)[0]
    return there if np.isfinite(there).all() else None


def set_extra(shot: Shot, ident: str, **changes: object) -> Shot:
    """The shot with the extra move set otherwise: smooth, enabled."""
    track = track_of(shot, ident)
    return _with(shot, track, track.extra.but(**changes))


def _keyed(keys: Keys, reference: int, frame: int, smooth: bool) -> Keys:
    return records(curve.with_key(plain(keys), reference, frame, smooth))


def _with(shot: Shot, track: Track, extra: ExtraMove) -> Shot:
    return shot.with_track(track.but(extra=extra))


def _reference(track: Track, frame: int) -> int:
    if track.solved is None:
        raise RegionError(f"{track.name} has not been tracked; track it before you add a move to it.")
    if frame == track.solved.reference:
        raise RegionError(f"Frame {frame} is the reference frame, where the extra move is none; go to another frame.")
    return track.solved.reference
