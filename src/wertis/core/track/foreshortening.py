"""A surface seen at a slant: its pixels are narrow one way, and the picture shows detail that way more coarsely than the reference frame does.

Both are brought to the same sharpness: whichever is the finer one along a direction is averaged over a short path along it. P. Heckbert, Fundamentals
of Texture Mapping and Image Warping, 1989, section 3 (a pixel's footprint under a perspective mapping).
"""

from typing import NamedTuple

import numpy as np

from wertis.core.geometry import homography

SLANTED = 1.5  # times by which the surface is larger one way than the other, from which it counts
_EDGE_ON = 0.12  # part of its size the other way, below which nothing of it can be made out
_WIDTH = 0.8  # pixels of its own level, standard deviation, over which a pixel of a pyramid takes in light
_TAPS = np.array([-1, -0.5, 0, 0.5, 1]) * np.sqrt(2)  # of a path of unit standard deviation
_MOST = 3.0  # pixels of the level, standard deviation, beyond which so few taps leave gaps


class View(NamedTuple):
    """How a surface is seen: `larger` and `smaller`, the factors (largest first) by which it is magnified, and the directions (2, 2) in the reference
    frame, in rows, along which it is."""

    larger: float
    smaller: float
    along: np.ndarray

    @property
    def slanted(self) -> bool:
        """Whether the two differ so much that it matters."""
        return self.larger > SLANTED * self.smaller

    @property
    def edge_on(self) -> bool:
        """Whether it is so narrow one way that nothing can be made out."""
        return self.smaller < _EDGE_ON * self.larger


def view_of(matrix: np.ndarray, point: np.ndarray) -> View:
    """How a frame sees the surface round `point` (2,) of the reference under `matrix` (3, 3)."""
    _, (larger, smaller), along = np.linalg.svd(homography.jacobian(matrix, point[None])[0])
    return View(float(larger), float(max(smaller, 1e-6)), along)


def paths(view: View, level: int, picture_level: int) -> tuple[np.ndarray | None, np.ndarray | None]:
    """Offsets (J, 1, 2), in level-0 pixels of the reference, over which tiles of a level, and the picture's level, are averaged; None where not at all."""
    own, seen = _WIDTH * 2.0 ** level, _WIDTH * 2.0 ** picture_level / np.array([view.larger, view.smaller])
    most = _MOST * 2.0 ** level
    tiles, picture = (np.minimum(np.sqrt(np.maximum(excess, 0)), most) for excess in (seen ** 2 - own ** 2, own ** 2 - seen ** 2))
    return _path(tiles, view.along), _path(picture, view.along)


def _path(spread: np.ndarray, along: np.ndarray) -> np.ndarray | None:
    """Taps with standard deviations (2,) along two directions; a short one is left out."""
    ways = [_TAPS[:, None] * s * direction for s, direction in zip(spread, along, strict=True) if s > 0.3 * _WIDTH]
    if not ways:
        return None
    return (ways[0] if len(ways) == 1 else (ways[0][:, None] + ways[1][None]).reshape(-1, 2))[:, None]
