"""How much a patch jumps from frame to frame: its border against the plate beside it."""

from collections.abc import Callable, Iterator
from typing import NamedTuple

import cv2
import numpy as np

from wertis.core.comp.graphic import patch_on
from wertis.core.comp.light import light_of
from wertis.core.comp.patch_pictures import PatchPictures
from wertis.core.errors import PlateError
from wertis.core.jobs.events import Counter, Event, Stop, stopped
from wertis.core.plate.base import Plate, to_float
from wertis.core.shot.document import Shot
from wertis.core.shot.edits import track_of
from wertis.core.shot.patches import patch_of

_EDGE = 0.05, 0.95  # alpha between which the border is
_PARTS = 16  # of the border, by the direction from the patch's middle
_LEAST = 12  # pixels of the border in a part that tell something
_CALM = 1.5  # pixels, standard deviation, of a blur that takes grain away


class Flicker(NamedTuple):
    """The step from the frame before: by how much the border's mean difference from the plate changed, in 255ths of white; its worst part, and all."""

    worst: float
    mean: float


def measure_flicker(shot: Shot, ident: str, plate: Plate, read: Callable[[int], np.ndarray] | None = None, stop: Stop | None = None) -> Iterator[Event]:
    """Measure a patch's border on every frame; the last event's item is frame to `Flicker`, for frames whose neighbour before was measured as well.

    Raises
    ------
    RegionError
        When the patch is gone.
    """
    patch = patch_of(shot, ident)
    track = track_of(shot, patch.on)
    fetch, pictures = read or plate.read, PatchPictures()
    low, high = shot.range
    count = Counter(high - low + 1)
    before: np.ndarray | None = None
    found: dict[int, Flicker] = {}
    for frame in range(low, high + 1):
        if stopped(stop):
            return
        now: np.ndarray | None = None
        try:
            picture = fetch(frame)
            own = light_of(shot, picture.dtype).plate
            laid = patch_on(shot, track, patch, frame, (picture.shape[1], picture.shape[0]), pictures, 2, own, 1, picture)
            if laid is not None:
                h, w = laid.pixels.shape[:2]
                now = _border(laid.pixels, to_float(picture[laid.top:laid.top + h, laid.left:laid.left + w, :3]))
        except PlateError as why:
            yield count.event(frame, note=str(why))
            before = None
            continue
        if now is not None and before is not None:
            step = 255 * np.abs(now - before)
            if np.isfinite(step).any():
                found[frame] = Flicker(float(np.nanmax(step)), float(np.nanmean(step)))
        before = now
        yield count.event(frame)
    yield Event(None, count.total, count.total, found)


def worst_first(flicker: dict[int, Flicker]) -> list[int]:
    """Frames by how much the border jumps there, the worst one first."""
    return sorted(flicker, key=lambda f: (-flicker[f].worst, f))


def _border(pixels: np.ndarray, plate: np.ndarray) -> np.ndarray:
    """(parts,) mean difference of patch and plate along the border; nan where a part of it is not seen."""
    alpha = pixels[..., 3]
    edge = (alpha > _EDGE[0]) & (alpha < _EDGE[1])
    colour = pixels[..., :3] / np.maximum(alpha, np.float32(1e-6))[..., None]
    difference = (colour - plate).mean(-1) * edge
    weight = cv2.GaussianBlur(edge.astype(np.float32), (0, 0), _CALM)
    calm = cv2.GaussianBlur(difference.astype(np.float32), (0, 0), _CALM) / np.maximum(weight, 1e-3)
    rows, columns = np.nonzero(edge)
    out = np.full(_PARTS, np.nan)
    if not len(rows):
        return out
    part = ((np.arctan2(rows - rows.mean(), columns - columns.mean()) / (2 * np.pi) + 0.5) * _PARTS).astype(int) % _PARTS
    for k in range(_PARTS):
        chosen = part == k
        if chosen.sum() >= _LEAST:
            out[k] = calm[rows[chosen], columns[chosen]].mean()
    return out
