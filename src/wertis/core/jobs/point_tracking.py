"""Tracking a shot's points, and good spots found for them."""

from collections.abc import Iterator

import cv2
import numpy as np

from wertis.core.errors import RegionError
from wertis.core.geometry.conventions import from_centred
from wertis.core.jobs.events import Stop, stopped
from wertis.core.jobs.tracking import Reader, register_tracker
from wertis.core.plate.base import Plate
from wertis.core.shot import regions
from wertis.core.shot.document import Shot, Track
from wertis.core.shot.hold_outs import held_masks
from wertis.core.shot.points import PointsSettings, PointsSolution, points_settings, set_points_tracked
from wertis.core.track.point_run import track_points
from wertis.core.track.points import PointsFix
from wertis.core.track.texture import strength
from wertis.core.track.tracker_input import looked_at

_SURROUNDINGS = 4  # pixels to each side within which a spot is the strongest
_CLOSEST = 9.0  # pixels to which the spots are let come together where there are fewer good ones than are wanted
_WEAK = 0.01  # of the strongest spot's strength, below which a spot is not good


def _points(shot: Shot, track: Track, plate: Plate, runs: list[range], read: Reader | None, stop: Stop | None) -> Iterator[tuple[int, PointsFix]]:
    settings, reference, solution = points_settings(track), track.region.frame, track.solution
    if settings.points is None:
        raise RegionError(f"{track.name} has no points yet; click some, or have good spots found.")
    known: dict[int, np.ndarray] = {}
    if isinstance(solution, PointsSolution) and solution.reference == reference and np.array_equal(solution.points, settings.points):
        known = {int(f): p for f, p in zip(solution.frames, solution.places, strict=True) if np.isfinite(p).all()}
    mask, held = regions.mask_of(track.region, plate.size) if settings.inside else None, held_masks(shot, track, plate.size)
    for frames in runs:
        if stopped(stop):
            return
        yield from track_points(plate, settings.points, reference, frames, [p.side for p in settings.patterns], mask, read, stop, known, held,
                                settings.look, [p.reach for p in settings.patterns], settings.offsets, settings.renewed)


def good_spots(shot: Shot, track: Track, plate: Plate, count: int, spacing: float = 0.0, read: Reader | None = None) -> np.ndarray:
    """Up to `count` spots (n, 2) in a track's region that are good to track, at least `spacing` pixels apart and spread over all of it.

    Each is the strongest of its surroundings, by the smaller eigenvalue of the structure tensor (J. Shi and C. Tomasi, Good features to track, 1994).

    Raises
    ------
    RegionError
        When there is no such spot, or the number cannot be used.
    """
    if not 1 <= count <= 5000:
        raise RegionError(f"{count} spots cannot be found; ask for 1 to 5000.")
    mask = regions.mask_of(track.region, plate.size)
    held = held_masks(shot, track, plate.size)
    away = held(track.region.frame) if held is not None else None
    if away is not None:
        mask[away > 127] = 0
    holds = np.where(mask > 0, strength(looked_at((read or plate.read)(track.region.frame))), 0)
    best = cv2.dilate(holds, np.ones((2 * _SURROUNDINGS + 1,) * 2, np.uint8))
    ys, xs = np.nonzero((holds >= best) & (holds > _WEAK * float(holds.max())))
    places = np.stack([xs, ys], axis=1)[np.argsort(-holds[ys, xs], kind="stable")].astype(float)
    apart = spacing or 0.7 * float(np.sqrt(np.count_nonzero(mask) / count))
    chosen = _spread(places, count, apart)
    while not spacing and len(chosen) < count and apart > _CLOSEST:
        apart *= 0.85
        chosen = _spread(places, count, apart)
    if not len(chosen):
        raise RegionError("There is no good spot in the region; draw it round an area with detail.")
    return np.asarray(from_centred(chosen))


def _spread(places: np.ndarray, count: int, apart: float) -> np.ndarray:
    """Up to `count` of the places (N, 2), the first ones first, that lie at least `apart` from each other."""
    chosen = np.zeros((0, 2))
    for place in places:
        if len(chosen) >= count:
            break
        if (np.linalg.norm(chosen - place, axis=1) >= apart).all():
            chosen = np.vstack([chosen, place])
    return chosen


register_tracker(PointsSettings, _points, set_points_tracked)
