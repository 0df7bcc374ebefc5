"""Warps: maps of one picture's points to another's, whatever kind of surface gave them.

A use of motion (placing, resampling, drift, export) asks a warp for points, derivatives and resampling maps; that a plane's warp also has a matrix
is a quick path that nothing depends on.

All coordinates are in pixels, the first pixel's centre at (0.5, 0.5). A point that has no image is nan.
"""

from abc import ABC, abstractmethod
from collections.abc import Callable

import cv2
import numpy as np

from wertis.core.geometry import coons, homography

Box = tuple[int, int, int, int]
"""x0, y0, x1, y1 of a part of a picture, in whole pixels; x1 and y1 are the first beyond it."""

_STEP = 1e-3  # source units between the points of a central difference
_NEWTON_STEPS, _CONVERGED = 30, 1e-7  # most steps of inverting by Newton's method, and target pixels within which it has arrived
SPARSE = 6  # target pixels between the places at which a smooth inverse map is worked out; bilinear between them


class Warp(ABC):
    """A map of points of a source picture to a target picture, and back.

    Attributes
    ----------
    matrix : (3, 3) where the warp is a homography, else None.
    outline : (N, 2) polygon of the source in which the warp is defined; None where it is everywhere.
    """

    @property
    def matrix(self) -> np.ndarray | None:
        return None

    @property
    def outline(self) -> np.ndarray | None:
        return None

    @property
    def sharp_ends(self) -> bool:
        """Whether the surface ends, or turns away, within what it covers, so that its inverse map must be exact at every pixel."""
        return False

    @abstractmethod
    def forward(self, points: np.ndarray) -> np.ndarray:
        """Source points (..., 2) in the target; nan where they have no image."""

    def inverse(self, points: np.ndarray) -> np.ndarray:
        """Target points (..., 2) in the source; nan where nothing of the source is.

        By Newton's method from the target point itself, for warps that know no closed form (W. Press et al., Numerical Recipes, 3rd ed., 2007,
        section 9.6).
        """
        target = np.asarray(points, np.float64)
        flat = target.reshape(-1, 2)
        found = self._first_guess(flat)
        active = np.isfinite(flat).all(1) & np.isfinite(found).all(1)
        found[~active] = np.nan
        for _ in range(_NEWTON_STEPS):
            index = np.flatnonzero(active)
            if not len(index):
                break
            away = flat[index] - self.forward(found[index])
            lost = ~np.isfinite(away).all(1)
            found[index[lost]] = np.nan
            arrived = np.abs(away).max(1) < _CONVERGED
            active[index[lost | arrived]] = False
            moving = index[~(lost | arrived)]
            if not len(moving):
                continue
            slopes, left = self.jacobian(found[moving]), away[~(lost | arrived)]
            determinant = slopes[:, 0, 0] * slopes[:, 1, 1] - slopes[:, 0, 1] * slopes[:, 1, 0]
            slopes[np.abs(determinant) <= 1e-12] = np.eye(2)
            determinant[np.abs(determinant) <= 1e-12] = 1.0
            found[moving, 0] += (slopes[:, 1, 1] * left[:, 0] - slopes[:, 0, 1] * left[:, 1]) / determinant
            found[moving, 1] += (slopes[:, 0, 0] * left[:, 1] - slopes[:, 1, 0] * left[:, 0]) / determinant
        found[active] = np.nan
        return found.reshape(target.shape)

    def jacobian(self, points: np.ndarray) -> np.ndarray:
        """Derivatives (N, 2, 2) of the target point by the source point, at source points (N, 2): row, the target's coordinate."""
        p = np.asarray(points, np.float64)
        columns = [(self.forward(p + step) - self.forward(p - step)) / (2 * _STEP) for step in _STEP * np.eye(2)]
        return np.stack(columns, axis=-1)

    def inverse_map(self, box: Box, samples: int = 1) -> np.ndarray:
        """Source points (h, w, 2) float32 of the pixel centres of a box of the target; nan where nothing of the source is.

        Parameters
        ----------
        samples : points per pixel and direction; the map is that many times larger.
        """
        return enlarged(self.sparse_inverse(box), box, samples)

    def sparse_inverse(self, box: Box) -> np.ndarray:
        """Source points (rows, columns, 2) float32 of the middles of blocks of `SPARSE` target pixels that cover a box, and one more block all round."""
        x0, y0, x1, y1 = box
        columns, rows = (start + SPARSE * (np.arange(-1, -(-(end - start) // SPARSE) + 1) + 0.5) for start, end in ((x0, x1), (y0, y1)))
        return np.asarray(self.inverse(np.stack(np.meshgrid(columns, rows), axis=-1)).astype(np.float32))

    def _first_guess(self, points: np.ndarray) -> np.ndarray:
        """Where the search for the source of target points (N, 2) begins."""
        return points.copy()


class HomographyWarp(Warp):
    """The warp of a plane.

    Parameters
    ----------
    matrix : (3, 3), defined up to scale.

    Raises
    ------
    ValueError
        When the matrix is not finite or degenerate.
    """

    def __init__(self, matrix: np.ndarray) -> None:
        self._matrix = np.asarray(matrix, np.float64)
        if self._matrix.shape != (3, 3) or not np.isfinite(self._matrix).all():
            raise ValueError("degenerate homography")
        self._inverse: np.ndarray | None = None

    @property
    def matrix(self) -> np.ndarray:
        return self._matrix

    @property
    def inverse_matrix(self) -> np.ndarray:
        """(3, 3) target to source."""
        if self._inverse is None:
            try:
                self._inverse = np.linalg.inv(self._matrix)
            except np.linalg.LinAlgError as why:
                raise ValueError("degenerate homography") from why
        return self._inverse

    def forward(self, points: np.ndarray) -> np.ndarray:
        return homography.apply(self._matrix, points)

    def inverse(self, points: np.ndarray) -> np.ndarray:
        return homography.apply(self.inverse_matrix, points)

    def jacobian(self, points: np.ndarray) -> np.ndarray:
        return homography.jacobian(self._matrix, points)

    def inverse_map(self, box: Box, samples: int = 1) -> np.ndarray:
        return self.inverse(pixel_centres(box, samples)).astype(np.float32)


IDENTITY = HomographyWarp(np.eye(3))


def enlarged(sparse: np.ndarray, box: Box, samples: int) -> np.ndarray:
    """A `Warp.sparse_inverse` of a box (rows, columns, 2) float32 as an inverse map of its pixels, or of `samples` parts of them in each direction."""
    x0, y0, x1, y1 = box
    each = SPARSE * samples
    full = cv2.resize(sparse, None, fx=each, fy=each, interpolation=cv2.INTER_LINEAR)
    return np.asarray(full[each:each + (y1 - y0) * samples, each:each + (x1 - x0) * samples])


class FunctionWarp(Warp):
    """A warp given by a function.

    Parameters
    ----------
    forward : takes points (..., 2) to points.
    inverse : the way back; by Newton's method when not given.
    outline : (N, 2) polygon in which it is defined.
    """

    def __init__(self, forward: Callable[[np.ndarray], np.ndarray], inverse: Callable[[np.ndarray], np.ndarray] | None = None,
                 outline: np.ndarray | None = None) -> None:
        self._forward, self._backward, self._outline = forward, inverse, outline

    @property
    def outline(self) -> np.ndarray | None:
        return self._outline

    def forward(self, points: np.ndarray) -> np.ndarray:
        return self._forward(np.asarray(points, np.float64))

    def inverse(self, points: np.ndarray) -> np.ndarray:
        return self._backward(np.asarray(points, np.float64)) if self._backward is not None else super().inverse(points)


class BentSquareWarp(Warp):
    """The unit square with bent sides: straight square to bent one, both in the square's own plane; see `geometry.coons`.

    Parameters
    ----------
    offsets : (8, 2) of the sides' control points.
    """

    def __init__(self, offsets: np.ndarray) -> None:
        self._offsets = offsets

    def forward(self, points: np.ndarray) -> np.ndarray:
        return coons.bent(np.asarray(points, np.float64), self._offsets)

    def inverse(self, points: np.ndarray) -> np.ndarray:
        return coons.straight(np.asarray(points, np.float64), self._offsets)


class _Composed(Warp):
    def __init__(self, outer: Warp, inner: Warp) -> None:
        self._outer, self._inner = outer, inner

    @property
    def outline(self) -> np.ndarray | None:
        own, beyond = self._inner.outline, self._outer.outline
        return own if own is not None or beyond is None else self._inner.inverse(beyond)

    def forward(self, points: np.ndarray) -> np.ndarray:
        return self._outer.forward(self._inner.forward(points))

    def inverse(self, points: np.ndarray) -> np.ndarray:
        return self._inner.inverse(self._outer.inverse(points))

    def jacobian(self, points: np.ndarray) -> np.ndarray:
        return self._outer.jacobian(self._inner.forward(points)) @ self._inner.jacobian(points)

    def inverse_map(self, box: Box, samples: int = 1) -> np.ndarray:
        if self._inner.matrix is not None:  # the outer one may have an exact map of its own
            if not self._outer.sharp_ends:
                return enlarged(self._inner.inverse(self._outer.sparse_inverse(box)).astype(np.float32), box, samples)
            return self._inner.inverse(self._outer.inverse_map(box, samples)).astype(np.float32)
        return super().inverse_map(box, samples)


class _Inverted(Warp):
    def __init__(self, warp: Warp) -> None:
        self._warp = warp

    def forward(self, points: np.ndarray) -> np.ndarray:
        return self._warp.inverse(points)

    def inverse(self, points: np.ndarray) -> np.ndarray:
        return self._warp.forward(points)

    def jacobian(self, points: np.ndarray) -> np.ndarray:
        slopes = self._warp.jacobian(self._warp.inverse(points))
        degenerate = ~np.isfinite(slopes).all((1, 2)) | (np.abs(np.linalg.det(slopes)) < 1e-15)
        slopes[degenerate] = np.eye(2)
        out = np.linalg.inv(slopes)
        out[degenerate] = np.nan
        return out


class BlendedWarp(Warp):
    """Every point on the straight line between where two warps take it.

    Parameters
    ----------
    part : 0 is the first warp, 1 the second; beyond them the line goes on.
    """

    def __init__(self, first: Warp, second: Warp, part: float) -> None:
        self._first, self._second, self._part = first, second, part

    @property
    def outline(self) -> np.ndarray | None:
        return self._first.outline if self._first.outline is not None else self._second.outline

    def forward(self, points: np.ndarray) -> np.ndarray:
        return (1 - self._part) * self._first.forward(points) + self._part * self._second.forward(points)

    def jacobian(self, points: np.ndarray) -> np.ndarray:
        return (1 - self._part) * self._first.jacobian(points) + self._part * self._second.jacobian(points)

    def _first_guess(self, points: np.ndarray) -> np.ndarray:
        return np.asarray((self._first if self._part < 0.5 else self._second).inverse(points))


class DisplacedWarp(Warp):
    """A warp with a displacement in the target added, which depends on the source point.

    Parameters
    ----------
    displacement : gives (N, 2) target pixels at source points (N, 2).
    """

    def __init__(self, warp: Warp, displacement: Callable[[np.ndarray], np.ndarray]) -> None:
        self._warp, self._displacement = warp, displacement

    @property
    def outline(self) -> np.ndarray | None:
        return self._warp.outline

    def forward(self, points: np.ndarray) -> np.ndarray:
        p = np.asarray(points, np.float64)
        return self._warp.forward(p) + self._displacement(p.reshape(-1, 2)).reshape(p.shape)

    def _first_guess(self, points: np.ndarray) -> np.ndarray:
        return np.asarray(self._warp.inverse(points))


def compose(outer: Warp, inner: Warp) -> Warp:
    """The warp that does `inner` and then `outer`.

    Raises
    ------
    ValueError
        When both are homographies and their product is degenerate.
    """
    if outer is IDENTITY:
        return inner
    if inner is IDENTITY:
        return outer
    if outer.matrix is not None and inner.matrix is not None:
        return HomographyWarp(homography.normalised(outer.matrix @ inner.matrix))
    if isinstance(outer, _Composed) and outer._inner.matrix is not None and inner.matrix is not None:
        return compose(outer._outer, compose(outer._inner, inner))  # one homography in place of two
    return _Composed(outer, inner)


def inverted(warp: Warp) -> Warp:
    """The warp from the target back to the source.

    Raises
    ------
    ValueError
        When it is a degenerate homography.
    """
    if isinstance(warp, HomographyWarp):
        return HomographyWarp(warp.inverse_matrix)
    return warp._warp if isinstance(warp, _Inverted) else _Inverted(warp)


def scaling(factor: float) -> Warp:
    """The warp to a picture `factor` times as large in both directions."""
    return IDENTITY if factor == 1 else HomographyWarp(homography.scaling(factor))


def local_scale(warp: Warp, point: np.ndarray) -> float:
    """How many target pixels one source pixel covers in length at `point` (2,): the square root of the area's growth."""
    return float(np.sqrt(abs(np.linalg.det(warp.jacobian(np.asarray(point, np.float64)[None])[0]))))


def pixel_centres(box: Box, samples: int = 1) -> np.ndarray:
    """(h, w, 2) centres of a box's pixels, or of their parts where there are several `samples` per pixel and direction."""
    x0, y0, x1, y1 = box
    x, y = ((np.arange((end - start) * samples) + 0.5) / samples + start for start, end in ((x0, x1), (y0, y1)))
    return np.stack(np.meshgrid(x, y), axis=-1)
