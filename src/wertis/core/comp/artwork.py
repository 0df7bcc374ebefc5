"""Pictures to place: made ones (grid, checker) and files, as premultiplied RGBA float32."""

import math
from pathlib import Path

import cv2
import numpy as np

from wertis.core.errors import PlateError
from wertis.core.plate.base import Plate, to_float
from wertis.core.plate.colour import space_of
from wertis.core.shot.artwork import Artwork

_MOST_PIXELS = 120_000_000  # of artwork: 2 GB as it is worked with
MADE_SIZE = 1024  # longer side of made artwork


def checker(ratio: float, cells: int = 8, light: float = 0.85, dark: float = 0.15, alpha: float = 1.0) -> np.ndarray:
    """A checker (h, w, 4) of square cells, `cells` along the longer side, for a surface of the given width / height."""
    nx, ny = _counts(ratio, cells)
    cell = MADE_SIZE // cells
    y, x = np.mgrid[0:ny, 0:nx]
    value = np.where((x + y) % 2 == 0, light, dark).astype(np.float32).repeat(cell, 0).repeat(cell, 1)
    return np.dstack([value * alpha] * 3 + [np.full_like(value, alpha)])


def grid(ratio: float, cells: int = 8, colour: tuple[float, float, float] = (0.93, 0.93, 0.93)) -> np.ndarray:
    """Lines (h, w, 4) on nothing, with square cells, the border and both diagonals' crossing marked."""
    nx, ny = _counts(ratio, cells)
    cell = MADE_SIZE // cells
    alpha = np.zeros((ny * cell, nx * cell), np.uint8)
    h, w = alpha.shape
    for i in range(nx + 1):
        x = min(max(i * cell, 3), w - 4)
        cv2.line(alpha, (x, 0), (x, h), 255, 7 if i in (0, nx) else 4)
    for j in range(ny + 1):
        y = min(max(j * cell, 3), h - 4)
        cv2.line(alpha, (0, y), (w, y), 255, 7 if j in (0, ny) else 4)
    cv2.line(alpha, (0, 0), (w - 1, h - 1), 150, 2, cv2.LINE_AA)
    cv2.line(alpha, (w - 1, 0), (0, h - 1), 150, 2, cv2.LINE_AA)
    a = alpha.astype(np.float32) / 255
    return np.dstack([a * c for c in colour] + [a])


def hatched(ratio: float, stripe: int = 48) -> np.ndarray:
    """What stands in for artwork (h, w, 4) that cannot be read: slanting stripes and a border, half transparent."""
    w, h = (MADE_SIZE, max(8, round(MADE_SIZE / ratio))) if ratio >= 1 else (max(8, round(MADE_SIZE * ratio)), MADE_SIZE)
    y, x = np.mgrid[0:h, 0:w]
    light = ((x + y) // stripe % 2 == 0) | (np.minimum(np.minimum(x, w - 1 - x), np.minimum(y, h - 1 - y)) < stripe // 4)
    alpha = np.where(light, 0.85, 0.45).astype(np.float32)
    value = np.where(light, 0.62, 0.2).astype(np.float32)
    return np.dstack([value * alpha] * 3 + [alpha])


def from_picture(picture: np.ndarray) -> np.ndarray:
    """Any picture as read (h, w, 1 to 4 channels, alpha premultiplied) as RGBA float32."""
    p = to_float(picture)
    channels = p.shape[2]
    if channels == 1:
        p = np.repeat(p, 3, 2)
    elif channels == 2:
        p = np.concatenate([np.repeat(p[..., :1], 3, 2), p[..., 1:]], 2)
    if p.shape[2] == 3:
        p = np.concatenate([p, np.ones((*p.shape[:2], 1), np.float32)], 2)
    return np.ascontiguousarray(p[..., :4])


class FileArtwork:
    """A still, a sequence or a movie as artwork.

    Parameters
    ----------
    path : what `open_plate` takes; a single file with `still` set is one picture for all frames.
    still : use only the named file.
    """

    def __init__(self, path: Path, still: bool) -> None:
        from wertis.core.plate import open_plate
        from wertis.core.plate.sequence import SequencePlate

        self.still = still
        if not path.exists() and "#" not in path.name and "%" not in path.name:
            raise PlateError(f"The artwork {path.name} is not there any more ({path.parent}); choose it again, or put it back.")
        self.plate: Plate = SequencePlate({1: path}, path) if still else open_plate(path)
        w, h = self.plate.size
        if w * h > _MOST_PIXELS:
            raise PlateError(f"The artwork {path.name} has {w} x {h} pixels, which is more than fits in memory; make it smaller "
                             f"({_MOST_PIXELS // 1_000_000} million pixels at most).")

    @property
    def ratio(self) -> float:
        """Width over height."""
        return self.plate.size[0] * self.plate.aspect / self.plate.size[1]

    def index(self, frame: int, artwork: Artwork) -> int:
        """Which of the artwork's pictures belongs to a frame of the shot.

        The first falls on the artwork's start and they follow at its speed; backward from the last where that is negative. Its ends hold, or it
        goes round.
        """
        if self.still:
            return self.plate.first
        count = self.plate.last - self.plate.first + 1
        shown = frame if artwork.held is None else min(frame, artwork.held)
        since = math.floor((shown - artwork.start) * artwork.speed + 1e-9) + (count - 1 if artwork.speed < 0 else 0)
        if artwork.loop:
            since %= count
        wanted = int(np.clip(self.plate.first + since, self.plate.first, self.plate.last))
        if wanted in self.plate.gaps:
            wanted = max((f for f in self.plate.frames if f <= wanted), default=self.plate.first)
        return wanted

    def read(self, index: int) -> tuple[np.ndarray, str]:
        """One of its pictures (h, w, 4), and the colour space that its numbers are taken to be in.

        Raises
        ------
        PlateError
            When it cannot be read.
        """
        try:
            read = self.plate.read(index)
        except PlateError as why:
            raise PlateError(f"The artwork cannot be shown: {why}") from why
        return from_picture(read), space_of(read.dtype)


def _counts(ratio: float, cells: int) -> tuple[int, int]:
    ratio = float(np.clip(ratio, 0.05, 20))
    if ratio >= 1:
        return cells, max(1, round(cells / ratio))
    return max(1, round(cells * ratio)), cells
