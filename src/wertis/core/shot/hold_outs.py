"""Where hold-outs are on a frame, and the mask of all of a track's."""

from collections.abc import Callable
from pathlib import Path

import cv2
import numpy as np

from wertis.core.errors import PlateError
from wertis.core.geometry import polygon
from wertis.core.plate.base import Plate, to_float
from wertis.core.shot.document import HoldOut, Shot, Track
from wertis.core.shot.edits import as_points, carry

DrawnMask = Callable[[Shot, str, int, tuple[int, int]], np.ndarray | None]
"""Gives a drawn matte's mask (h, w) uint8 by its id, on a frame of a picture of a size; None where it has none."""
_drawn: list[DrawnMask] = []


def register_drawn(mask: DrawnMask) -> None:
    """Say how drawn mattes become masks."""
    _drawn[:] = [mask]


def shape_on(shot: Shot, held: HoldOut, frame: float) -> np.ndarray | None:
    """A hold-out's outline (N, 2) on a frame; None for a matte, or where the track that carries it has no answer."""
    if not held.keys:
        return None
    if held.on:
        home = min(held.keys)
        return carry(shot.track(held.on), np.array(held.keys[home]), home, frame)
    return held.curve(frame).reshape(-1, 2)


def softened(mask: np.ndarray, grow: float, soft: float) -> np.ndarray:
    """A mask (h, w) uint8 grown by `grow` pixels (shrunk when negative), its edge falling over `soft` pixels outwards.

    P. Felzenszwalb and D. Huttenlocher, Distance transforms of sampled functions, 2012 (the exact distances used).
    """
    solid = mask > 127
    if not solid.any() or (grow == 0 and soft == 0):
        return mask
    outside = cv2.distanceTransform((~solid).astype(np.uint8), cv2.DIST_L2, cv2.DIST_MASK_PRECISE)
    inside = cv2.distanceTransform(solid.astype(np.uint8), cv2.DIST_L2, cv2.DIST_MASK_PRECISE)
    distance = np.where(solid, 0.5 - inside, outside - 0.5) - grow
    return (np.clip(1 - distance / max(soft, 1e-3) if soft else (distance <= 0), 0, 1) * 255).astype(np.uint8)


def held_masks(shot: Shot, track: Track, size: tuple[int, int]) -> Callable[[int], np.ndarray | None] | None:
    """Gives a frame's mask of what is held out of a track, as `HoldOutReader.mask` does; None where nothing is held out on any frame."""
    if not any(h.enabled for h in shot.hold_outs(track.id)):
        return None
    reader = HoldOutReader(shot, track.id)
    return lambda frame: reader.mask(frame, size)


def whole_masks(shot: Shot, track: Track | None, size: tuple[int, int]) -> Callable[[int], np.ndarray] | None:
    """As `held_masks`, with an empty mask (h, w) uint8 on frames on which nothing is held out."""
    masks = held_masks(shot, track, size) if track is not None else None
    if masks is None:
        return None
    nothing = np.zeros(size[::-1], np.uint8)

    def mask(frame: int) -> np.ndarray:
        found = masks(frame)
        return nothing if found is None else found

    return mask


class HoldOutReader:
    """Masks of a track's hold-outs, frame by frame; keeps the matte sequences open.

    Parameters
    ----------
    shot, track_id : as they are when tracking begins.
    """

    def __init__(self, shot: Shot, track_id: str) -> None:
        self._shot = shot
        self._held = shot.hold_outs(track_id)
        self._mattes: dict[str, Plate] = {}

    def mask(self, frame: int, size: tuple[int, int]) -> np.ndarray | None:
        """(height, width) uint8, 255 where pixels do not exist for the track; None when nothing is held out.

        Raises
        ------
        PlateError
            When a matte cannot be read; the message names it.
        """
        total: np.ndarray | None = None
        for held in self._held:
            if not held.enabled:
                continue
            if held.matte:
                mask = _drawn[0](self._shot, held.matte, frame, size) if _drawn else None
                mask = 255 - mask if mask is not None and held.invert else mask
            else:
                mask = self._matte(held, frame, size) if held.path else self._shape(held, frame, size)
            if mask is not None:
                mask = softened(mask, held.grow, held.soft)
                total = mask if total is None else np.maximum(total, mask)
        return total

    def _shape(self, held: HoldOut, frame: int, size: tuple[int, int]) -> np.ndarray | None:
        points = shape_on(self._shot, held, frame)
        return polygon.fill(points, size) if points is not None else None

    def _matte(self, held: HoldOut, frame: int, size: tuple[int, int]) -> np.ndarray | None:
        if held.path not in self._mattes:
            self._mattes[held.path] = open_matte(Path(held.path), size)
        return read_matte(self._mattes[held.path], frame, held.invert)


def open_matte(path: Path, size: tuple[int, int]) -> Plate:
    """A matte sequence of the plate's size.

    Raises
    ------
    PlateError
        When it cannot be read or has another size.
    """
    from wertis.core.plate import open_plate

    matte = open_plate(path)
    if matte.size != size:
        raise PlateError(f"The matte {path.name} is {matte.size[0]} x {matte.size[1]} pixels, the plate {size[0]} x {size[1]}; "
                         "render it again at the plate's size.")
    return matte


def read_matte(matte: Plate, frame: int, invert: bool = False) -> np.ndarray | None:
    """(height, width) uint8 of a matte: its alpha where it has one, else its brightness. None on frames that it lacks."""
    if not matte.first <= frame <= matte.last or frame in matte.gaps:
        return None
    picture = to_float(matte.read(frame))
    values = picture[..., -1] if picture.shape[2] in (2, 4) else picture[..., :3].mean(2)
    mask = (np.clip(values, 0, 1) * 255).astype(np.uint8)
    return 255 - mask if invert else mask


def reshaped(shot: Shot, held: HoldOut, points: np.ndarray, frame: int) -> HoldOut:
    """The hold-out with its outline on a frame set to `points` (N, 2): a key there, or its one shape carried back.

    Another number of points than the keys have replaces them all by this one.
    """
    home = min(held.keys, default=frame)
    if held.on and frame != home:
        back = carry(shot.track(held.on), points, frame, home)
        return held if back is None else held.but(keys={home: as_points(back)})
    same = all(len(k) == len(points) for k in held.keys.values())
    keys = {} if held.on or not same else dict(held.keys)
    return held.but(keys={**keys, frame: as_points(points)})
