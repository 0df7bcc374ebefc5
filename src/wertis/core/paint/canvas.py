"""A flat picture that is painted on, stroke by stroke."""

from typing import NamedTuple

import cv2
import numpy as np

from wertis.core.paint.brush import Box, coverage, reached
from wertis.core.paint.fill import filled
from wertis.core.paint.membrane import membrane

_AT_ALL = 1e-3  # coverage from which a pixel counts as painted


class Paint(NamedTuple):
    """How a stroke paints; see `core.shot.patches.Stroke`. `colour` is in the canvas' own colours."""

    kind: str
    points: np.ndarray
    radius: float = 12.0
    hardness: float = 0.6
    opacity: float = 1.0
    colour: np.ndarray | None = None
    offset: tuple[float, float] = (0.0, 0.0)
    turn: float = 0.0
    scale: float = 1.0
    amount: float = 2.0
    seed: int = 0
    made: np.ndarray | None = None


class Canvas:
    """A flat picture and how much of it was painted on.

    Parameters
    ----------
    base : (h, w, 3) float32, what is painted on.
    cover : (h, w) float32, how much of it counts as painted already; nothing when not given.

    Attributes
    ----------
    pixels : (h, w, 3) float32, as painted.
    cover : (h, w) float32, 0..1.
    """

    def __init__(self, base: np.ndarray, cover: np.ndarray | None = None) -> None:
        self.base = np.ascontiguousarray(base, np.float32)
        self.base_cover = np.zeros(base.shape[:2], np.float32) if cover is None else np.ascontiguousarray(cover, np.float32)
        self.pixels, self.cover = self.base.copy(), self.base_cover.copy()

    @property
    def size(self) -> tuple[int, int]:
        """Width and height."""
        return self.pixels.shape[1], self.pixels.shape[0]

    def apply(self, paint: Paint, source: np.ndarray | None = None) -> Box | None:
        """Paint a stroke; the part that it may have changed, None where that is nothing.

        Parameters
        ----------
        source : (h, w, 3) what is copied from; the canvas as it is when not given.
        """
        if paint.kind == "fill":
            return self._fill(paint)
        box = reached(paint.points, paint.radius, self.size)
        if box is None:
            return None
        alpha = coverage(paint.points, paint.radius, paint.hardness, box)
        self.lay(paint, alpha, box, source)
        return box

    def lay(self, paint: Paint, alpha: np.ndarray, box: Box, source: np.ndarray | None = None) -> None:
        """Paint where a box is covered by `alpha` (h, w)."""
        x0, y0, x1, y1 = box
        part, cover = self.pixels[y0:y1, x0:x1], self.cover[y0:y1, x0:x1]
        share = (alpha * np.float32(paint.opacity))[..., None]
        if paint.kind == "erase":
            part += share * (self.base[y0:y1, x0:x1] - part)
            cover += share[..., 0] * (self.base_cover[y0:y1, x0:x1] - cover)
            return
        new = self.painted(paint, alpha, box, source)
        part += share * (new - part)
        np.maximum(cover, share[..., 0], out=cover)

    def painted(self, paint: Paint, alpha: np.ndarray, box: Box, source: np.ndarray | None) -> np.ndarray:
        """(h, w, 3) what a box looks like where it is painted in full."""
        x0, y0, x1, y1 = box
        part = self.pixels[y0:y1, x0:x1]
        if paint.kind == "brush":
            return np.broadcast_to(np.asarray(paint.colour, np.float32), part.shape)
        if paint.kind == "tone":
            return part * np.asarray(paint.colour, np.float32)
        if paint.kind in ("blur", "sharpen"):
            sigma = max(paint.amount, 0.3) if paint.kind == "blur" else 1.0
            soft = _blurred(self.pixels, box, sigma)
            return soft if paint.kind == "blur" else part + np.float32(paint.amount) * (part - soft)
        copied = _copied(self.pixels if source is None else source, paint, box)
        if paint.kind == "clone":
            return copied
        inside = cv2.dilate((alpha > _AT_ALL).astype(np.uint8), np.ones((3, 3), np.uint8)) > 0
        return copied + membrane(part - copied, inside)

    def fill_made(self, paint: Paint) -> np.ndarray | None:
        """(h, w, 3) what a hole is filled with, over the box of its outline; None where that is not on the canvas.

        Raises
        ------
        RegionError
            When there is too little round it.
        """
        hole, box = self._hole(paint)
        if box is None:
            return None
        x0, y0, x1, y1 = box
        return filled(self.pixels, hole > 0, paint.seed)[y0:y1, x0:x1]

    def _hole(self, paint: Paint) -> tuple[np.ndarray, Box | None]:
        """(h, w) uint8 of a hole's outline, and the box round it."""
        hole = np.zeros(self.size[::-1], np.uint8)
        cv2.fillPoly(hole, [np.round((paint.points[:, :2] - 0.5) * 16).astype(np.int32)], 1, cv2.LINE_8, 4)
        rows, columns = (np.flatnonzero(hole.any(axis)) for axis in (1, 0))
        return hole, (int(columns[0]), int(rows[0]), int(columns[-1]) + 1, int(rows[-1]) + 1) if len(rows) else None

    def _fill(self, paint: Paint) -> Box | None:
        hole, box = self._hole(paint)
        if box is None:
            return None
        x0, y0, x1, y1 = box
        own = hole[y0:y1, x0:x1]
        new = paint.made if paint.made is not None and paint.made.shape == (*own.shape, 3) else self.fill_made(paint)
        part = self.pixels[y0:y1, x0:x1]
        part += (np.float32(paint.opacity) * own)[..., None] * (np.asarray(new, np.float32) - part)
        np.maximum(self.cover[y0:y1, x0:x1], np.float32(paint.opacity) * own, out=self.cover[y0:y1, x0:x1])
        return box


def _blurred(pixels: np.ndarray, box: Box, sigma: float) -> np.ndarray:
    """A box of a picture through a Gaussian."""
    room = int(np.ceil(4 * sigma)) + 1
    x0, y0, x1, y1 = box
    a, b = max(x0 - room, 0), max(y0 - room, 0)
    wide = cv2.GaussianBlur(pixels[b:y1 + room, a:x1 + room], (0, 0), sigma, borderType=cv2.BORDER_REPLICATE)
    return np.asarray(wide[y0 - b:y1 - b, x0 - a:x1 - a])


def _copied(source: np.ndarray, paint: Paint, box: Box) -> np.ndarray:
    """(h, w, 3) what is copied to a box, from so far away, turned and enlarged about the stroke's first point."""
    x0, y0, x1, y1 = box
    if paint.turn == 0 and paint.scale == 1 and all(float(v).is_integer() for v in paint.offset):
        dx, dy = int(paint.offset[0]), int(paint.offset[1])
        rows = np.clip(np.arange(y0 + dy, y1 + dy), 0, source.shape[0] - 1)
        columns = np.clip(np.arange(x0 + dx, x1 + dx), 0, source.shape[1] - 1)
        return np.asarray(source[rows[:, None], columns[None]])
    angle = np.deg2rad(-paint.turn)
    linear = np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]]) / paint.scale
    anchor = paint.points[0, :2]
    onto = np.column_stack([linear, anchor + np.asarray(paint.offset) - linear @ anchor])
    # from the box's pixels to the source's, whose first centres are at 0
    shift = onto[:, :2] @ (np.array([x0, y0]) + 0.5) + onto[:, 2] - 0.5
    matrix = np.column_stack([onto[:, :2], shift])
    return np.asarray(cv2.warpAffine(source, matrix, (x1 - x0, y1 - y0), flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP, borderMode=cv2.BORDER_REPLICATE))
