"""Polygons (N, 2) in pixels: checking and filling them."""

import cv2
import numpy as np

from wertis.core.errors import RegionError
from wertis.core.geometry.conventions import to_centred
from wertis.core.geometry.quad import signed_area

_SHIFT = 4  # OpenCV's fixed-point bits for sub-pixel corners


def fill(polygon: np.ndarray, size: tuple[int, int]) -> np.ndarray:
    """A mask (height, width) uint8, 255 on the pixels whose centres lie inside `polygon`; `size` is width, height."""
    mask = np.zeros((size[1], size[0]), np.uint8)
    points = to_centred(polygon)
    if len(points) >= 3 and np.all(np.isfinite(points)):
        limit = float(1 << 26)
        fixed = np.round(np.clip(points * (1 << _SHIFT), -limit, limit)).astype(np.int32)
        cv2.fillPoly(mask, [fixed], 255, lineType=cv2.LINE_8, shift=_SHIFT)
    return mask


def contains(polygon: np.ndarray, point: np.ndarray) -> bool:
    """Whether the point (2,) lies inside the polygon, by the even-odd rule."""
    x, y = float(point[0]), float(point[1])
    p = np.asarray(polygon, np.float64)
    q = np.roll(p, -1, 0)
    crosses = (p[:, 1] > y) != (q[:, 1] > y)
    with np.errstate(divide="ignore", invalid="ignore"):
        at = p[:, 0] + (y - p[:, 1]) / (q[:, 1] - p[:, 1]) * (q[:, 0] - p[:, 0])
    return bool(np.count_nonzero(crosses & (x < at)) % 2)


def checked(polygon: np.ndarray, size: tuple[int, int], name: str = "region") -> np.ndarray:
    """The polygon as (N, 2) float64, if it can be used on a picture of `size` (width, height).

    Raises
    ------
    RegionError
        With fewer than three points, with numbers that are not finite, with no area, or wholly outside the picture.
    """
    p = np.asarray(polygon, np.float64)
    if p.ndim != 2 or p.shape[1] != 2 or len(p) < 3:
        raise RegionError(f"The {name} has {len(p)} point(s); draw at least three, round an area with detail.")
    if not np.all(np.isfinite(p)):
        raise RegionError(f"The {name} has a point that is not a number; give every point as x,y in pixels.")
    if abs(signed_area(p)) < 1.0:
        raise RegionError(f"The {name} has no area; its points lie on one line. Draw it round a surface.")
    if not fill(p, size).any():
        raise RegionError(
            f"The {name} lies outside the picture ({size[0]} x {size[1]} pixels); draw it on the surface you want to track."
        )
    return p
