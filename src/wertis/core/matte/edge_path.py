"""Paths along a picture's edges: the cheapest way between two places, where an edge is cheap.

E. Mortensen and W. Barrett, Intelligent scissors for image composition, 1995; the paths are scikit-image's minimum-cost paths.
"""

import cv2
import numpy as np

from wertis.core.geometry.conventions import from_centred
from wertis.core.matte.keying import lab

_REACH = 160  # pixels round a place in which ways from it are known
_SMOOTHING = 1.0  # standard deviation in pixels of the blur before edges are looked for
_STRONG = 0.99  # quantile of the slopes in reach that counts as a full edge
_CHEAPEST = 0.02  # cost of a pixel on a full edge, beside 1 where there is none
_SHARP = np.deg2rad(50.0)  # turn at a point from which it is a corner


class EdgePaths:
    """Ways along the edges of a picture (h, w, 3) float32, coded for the eye with white at 1."""

    def __init__(self, picture: np.ndarray) -> None:
        smooth = cv2.GaussianBlur(lab(picture), (0, 0), _SMOOTHING)
        slopes = [cv2.Sobel(smooth, cv2.CV_32F, *order) for order in ((1, 0), (0, 1))]
        self._slope = np.sqrt(sum(s ** 2 for s in slopes).sum(-1))  # type: ignore[union-attr]
        self._from: np.ndarray | None = None

    def begin(self, place: np.ndarray) -> None:
        """Ways begin at a place (2,) in pixels, which is put on the strongest edge within 3 of them."""
        from skimage.graph import MCP_Geometric  # slow to load, and little else needs it

        h, w = self._slope.shape
        x, y = np.clip(np.floor(place).astype(int), 0, [w - 1, h - 1])
        self._low = np.maximum([x - _REACH, y - _REACH], 0)
        self._high = np.minimum([x + _REACH + 1, y + _REACH + 1], [w, h])
        part = self._slope[self._low[1]:self._high[1], self._low[0]:self._high[0]]
        strength = np.clip(part / max(float(np.quantile(part, _STRONG)), 1e-6), 0, 1)
        self._mcp = MCP_Geometric(_CHEAPEST + (1 - _CHEAPEST) * (1 - strength) ** 2)
        self._mcp.find_costs([(y - self._low[1], x - self._low[0])])
        self._from = np.asarray(place, float)

    def to(self, place: np.ndarray) -> np.ndarray:
        """(M, 2) the way from where it begins to a place; straight where that is out of reach."""
        if self._from is None:
            return np.asarray(place, float)[None]
        at = np.floor(place).astype(int)
        if not ((at >= self._low) & (at < self._high)).all():
            return np.array([self._from, place], float)
        way = np.array(self._mcp.traceback((at[1] - self._low[1], at[0] - self._low[0])))
        return np.asarray(from_centred(way[:, ::-1] + self._low))

    def snapped(self, place: np.ndarray, reach: int = 3) -> np.ndarray:
        """(2,) the middle of the pixel with the strongest edge within `reach` pixels of a place."""
        h, w = self._slope.shape
        x, y = np.clip(np.floor(place).astype(int), 0, [w - 1, h - 1])
        x0, y0 = max(x - reach, 0), max(y - reach, 0)
        part = self._slope[y0:y + reach + 1, x0:x + reach + 1]
        row, column = np.unravel_index(int(part.argmax()), part.shape)
        return np.asarray(from_centred(np.array([x0 + column, y0 + row], float)))


def natural_roundness(points: np.ndarray, closed: bool = True) -> np.ndarray:
    """(N,) 0 for points (N, 2) at which an outline turns sharply, which are corners, and 1 for the others."""
    coming, leaving = points - np.roll(points, 1, 0), np.roll(points, -1, 0) - points
    turn = np.arctan2(coming[:, 0] * leaving[:, 1] - coming[:, 1] * leaving[:, 0], (coming * leaving).sum(1))
    out = np.where(np.abs(turn) > _SHARP, 0.0, 1.0)
    if not closed:
        out[[0, -1]] = 1.0
    return out
