"""The grain of a plate, measured on some of its frames and on what differs on a track's surface from one frame to the next."""

import cv2
import numpy as np

from wertis.core.errors import PlateError
from wertis.core.geometry.conventions import to_centred
from wertis.core.geometry.motion import between
from wertis.core.geometry.warp import pixel_centres
from wertis.core.imaging.grain import Grain, Registered, measure_grain, taken_at
from wertis.core.plate.base import Reader, rgb_of, to_float
from wertis.core.shot.document import Shot, Track
from wertis.core.shot.match import GrainMatch
from wertis.core.shot.resolve import motion_of

_GRAIN_FRAMES = 6
_GRAIN_PART = 320  # pixels about a surface's middle in which it is compared from frame to frame: enough blocks, and quick


def measured_grain(shot: Shot, track: Track, read: Reader) -> Grain | None:
    """The plate's grain, by some of its frames, and by what differs on a track's surface from each to the next."""
    low, high = shot.range
    pictures, registered = [], []
    for frame in sorted({round(f) for f in np.linspace(low, high, _GRAIN_FRAMES)}):
        try:
            picture = rgb_of(to_float(read(frame)))
            pictures.append(picture)
            pair = _surface_on(track, frame, picture, shot.range, read)
        except PlateError:
            continue
        if pair is not None:
            registered.append(pair)
    return measure_grain(pictures, registered) if pictures else None


def _surface_on(track: Track, frame: int, picture: np.ndarray, between_frames: tuple[int, int], read: Reader) -> Registered | None:
    """A track's surface on a frame and on one near it that is not the same picture shown for longer; None where there is no other."""
    low, high = between_frames
    for other in (frame + d for d in (1, -1, 2, -2, 3, -3) if low <= frame + d <= high):
        pair = _surface_on_both(track, frame, other, picture, read)
        if pair is not None:
            return pair
    return None


def _surface_on_both(track: Track, frame: int, other: int, picture: np.ndarray, read: Reader) -> Registered | None:
    motion = motion_of(track)
    here, moved = (motion.at(frame), between(motion, frame, other)) if motion is not None else (None, None)
    if here is None or moved is None:
        return None
    there = rgb_of(to_float(read(other)))
    if np.array_equal(there, picture):
        return None
    outline = here.forward(track.region.array)
    h, w = picture.shape[:2]
    middle = np.clip(outline.mean(0), 0, (w, h))
    x0, y0 = (int(v) for v in np.floor(np.maximum(np.maximum(outline.min(0), middle - _GRAIN_PART), 0)))
    x1, y1 = (int(v) for v in np.ceil(np.minimum(np.minimum(outline.max(0), middle + _GRAIN_PART), (w, h))))
    if x1 - x0 < 2 or y1 - y0 < 2:
        return None
    places = to_centred(moved.forward(pixel_centres((x0, y0, x1, y1)).reshape(-1, 2))).reshape(y1 - y0, x1 - x0, 2)
    inside = np.zeros((y1 - y0, x1 - x0), np.uint8)
    cv2.fillPoly(inside, [np.round(to_centred(outline) - (x0, y0)).astype(np.int32)], 1)
    seen = (inside > 0) & ((places > 0) & (places < (w - 1, h - 1))).all(-1)
    return Registered(picture[y0:y1, x0:x1], taken_at(there, places), places[seen], seen) if seen.any() else None


def as_match(grain: Grain) -> GrainMatch:
    """Grain as the document keeps it."""
    levels: list[float] = []
    kept: list[tuple[float, ...]] = []
    for level, deviation in zip(grain.levels, grain.deviations, strict=True):
        if not levels or level > levels[-1] + 1e-4:
            levels.append(float(level))
            kept.append(tuple(float(v) for v in deviation))
    return GrainMatch(levels=tuple(levels), deviations=tuple(kept), size=grain.size)  # type: ignore[arg-type]
