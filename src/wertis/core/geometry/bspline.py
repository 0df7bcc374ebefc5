"""Smooth maps of the plane by a lattice of uniform cubic B-splines (free-form deformation).

D. Rueckert et al., Nonrigid registration using free-form deformations, IEEE TMI 18, 1999; the bending energy is the discrete one of
F. Bookstein, Principal warps: thin-plate splines and the decomposition of deformations, IEEE PAMI 11, 1989.
"""

import copy
from collections.abc import Mapping
from dataclasses import dataclass, replace
from math import comb

import numpy as np
import scipy

from wertis.core import compiled
from wertis.core.compiled import address

_MARGIN = 1  # cells of the lattice beyond the box that it is laid over


def cubic_weights(f: np.ndarray) -> np.ndarray:
    """(..., 4) weights of the four control points that reach a place, `f` (...) of a step beyond the second."""
    g = 1 - f
    return np.stack([g ** 3 / 6, (3 * f ** 3 - 6 * f ** 2 + 4) / 6, (3 * g ** 3 - 6 * g ** 2 + 4) / 6, f ** 3 / 6], axis=-1)


def cubic_slopes(f: np.ndarray) -> np.ndarray:
    """(..., 4) derivatives of `cubic_weights` by `f`."""
    g = 1 - f
    return np.stack([-g ** 2 / 2, (3 * f ** 2 - 4 * f) / 2, (-3 * g ** 2 + 4 * g) / 2, f ** 2 / 2], axis=-1)


@dataclass(frozen=True)
class Lattice:
    """Where control points lie: (i, j) at (left + i step, top + j step), in pixels, i < columns, j < rows."""

    left: float
    top: float
    step: float
    columns: int
    rows: int

    @classmethod
    def over(cls, box: np.ndarray, step: float, margin: int = _MARGIN) -> "Lattice":
        """A lattice that reaches `margin` cells beyond the points (N, 2) of a box."""
        (x0, y0), (x1, y1) = np.min(box, axis=0), np.max(box, axis=0)
        cells = [int(np.ceil(max(b - a, step) / step)) + 2 * margin for a, b in ((x0, x1), (y0, y1))]
        left, top = (x0 + x1 - cells[0] * step) / 2, (y0 + y1 - cells[1] * step) / 2
        return cls(float(left - step), float(top - step), float(step), cells[0] + 3, cells[1] + 3)

    @property
    def shape(self) -> tuple[int, int]:
        """Rows and columns of control points."""
        return self.rows, self.columns

    @property
    def box(self) -> np.ndarray:
        """(4, 2) corners of the part in which the spline is bending; beyond it goes on straight."""
        x0, y0 = self.left + self.step, self.top + self.step
        x1, y1 = self.left + self.step * (self.columns - 2), self.top + self.step * (self.rows - 2)
        return np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]])

    @property
    def identity(self) -> np.ndarray:
        """(rows, columns, 2) control values of the map that leaves every point where it is."""
        x, y = self.left + self.step * np.arange(self.columns), self.top + self.step * np.arange(self.rows)
        return np.stack(np.meshgrid(x, y), axis=-1)

    @property
    def coarser(self) -> "Lattice":
        """The lattice with twice the step over the same box; `refined` goes back."""
        cells_x, cells_y = self.columns - 3, self.rows - 3
        return replace(self, left=self.left - self.step, top=self.top - self.step, step=2 * self.step,
                       columns=-(-cells_x // 2) + 3, rows=-(-cells_y // 2) + 3)

    def local_basis(self, points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """(N, 16) numbers of the control points that reach points (N, 2), row by row, and (N, 16) their weights."""
        p = np.asarray(points, np.float64)
        parts = []
        for t, n in (((p[:, 0] - self.left) / self.step, self.columns), ((p[:, 1] - self.top) / self.step, self.rows)):
            held = np.clip(t, 1, n - 2)
            cell = np.clip(np.floor(held), 1, n - 3).astype(np.int64)
            parts.append((cell - 1, cubic_weights(held - cell), cubic_slopes(held - cell) * (t - held)[:, None]))
        (i, wx, sx), (j, wy, sy) = parts
        index = (j[:, None, None] + np.arange(4)[:, None]) * self.columns + i[:, None, None] + np.arange(4)
        weights = wy[:, :, None] * wx[:, None] + wy[:, :, None] * sx[:, None] + sy[:, :, None] * wx[:, None]
        return index.reshape(-1, 16), weights.reshape(-1, 16)


def evaluate(lattice: Lattice, values: np.ndarray, points: np.ndarray, slopes: bool = False) -> tuple[np.ndarray, np.ndarray | None]:
    """A lattice's map at points (N, 2): (N, 2), and its derivatives (N, 2, 2) if wanted: row, the value's coordinate.

    Parameters
    ----------
    values : (rows, columns, 2) control values.
    """
    p = np.ascontiguousarray(points, np.float64)
    v = np.ascontiguousarray(values, np.float64)
    out, grad = np.empty_like(p), np.empty((len(p), 2, 2)) if slopes else None
    if compiled.LIBRARY is not None:
        f = np.float64
        compiled.LIBRARY.spline_at(address(v, f), *geometry_arguments(lattice), address(p, f), compiled.long(len(p)), address(out, f), address(grad, f))
        return out, grad
    return plainly_evaluated(lattice, v, p, slopes)


def plainly_evaluated(lattice: Lattice, values: np.ndarray, points: np.ndarray, slopes: bool = False) -> tuple[np.ndarray, np.ndarray | None]:
    """`evaluate` in NumPy."""
    index, weights = lattice.local_basis(points)
    flat = values.reshape(-1, 2)
    out = np.einsum("nk,nkc->nc", weights, flat[index])
    if not slopes:
        return out, None
    inside = np.clip(points, lattice.box[0], lattice.box[2])
    parts = []
    for t, n in (((inside[:, 0] - lattice.left) / lattice.step, lattice.columns), ((inside[:, 1] - lattice.top) / lattice.step, lattice.rows)):
        f = t - np.clip(np.floor(t), 1, n - 3)
        parts.append((cubic_weights(f), cubic_slopes(f)))
    (wx, sx), (wy, sy) = parts
    near = flat[index].reshape(-1, 4, 4, 2)
    grad = np.stack([np.einsum("nj,ni,njic->nc", wy, sx, near), np.einsum("nj,ni,njic->nc", sy, wx, near)], axis=-1) / lattice.step
    return out, grad


def geometry_arguments(lattice: Lattice) -> tuple:
    return (compiled.double(lattice.left), compiled.double(lattice.top), compiled.double(lattice.step), lattice.columns, lattice.rows)


_TWO_SCALE = np.array([1, 4, 6, 4, 1]) / 8


def refined(values: np.ndarray, shape: tuple[int, int]) -> np.ndarray:
    """Control values of the same map on the lattice with half the step, `shape` rows and columns (exact, by the two-scale relation)."""
    for axis in (0, 1):
        count = values.shape[axis]
        wide = np.zeros((*values.shape[:axis], 2 * count + 3, *values.shape[axis + 1:]))
        for k, part in enumerate(_TWO_SCALE):
            place = [slice(None)] * values.ndim
            place[axis] = slice(k, k + 2 * count, 2)
            wide[tuple(place)] += part * values
        begin = [slice(None)] * values.ndim
        begin[axis] = slice(3, 3 + shape[axis])
        values = wide[tuple(begin)]
    return values


def _kernels(order: int) -> tuple[tuple[np.ndarray, float], ...]:
    """Differences of an order in all directions, and how often each counts: (height, width) signs with their binomial coefficient."""
    lines = [np.array(row, np.float64) for row in ((1,), (-1, 1), (1, -2, 1), (-1, 3, -3, 1), (1, -4, 6, -4, 1))]
    return tuple((np.outer(lines[k], lines[order - k]), float(comb(order, k))) for k in range(order + 1))


DIFFERENCES = {order: _kernels(order) for order in (2, 3, 4)}
"""Order to its kinds of differences. The sum of the squares of all, each with its coefficient, does not depend on the directions of the axes."""


def difference(values: np.ndarray, kernel: np.ndarray) -> np.ndarray:
    """Control values (rows, columns, ...) under one kind of difference (height, width): (rows - height + 1, columns - width + 1, ...)."""
    height, width = kernel.shape
    rows, columns = values.shape[0] - height + 1, values.shape[1] - width + 1
    out = kernel[0, 0] * values[:rows, :columns]
    for j in range(height):
        for i in range(width):
            if i or j:
                out += kernel[j, i] * values[j:j + rows, i:i + columns]
    return np.asarray(out)


def difference_transposed(pulls: np.ndarray, kernel: np.ndarray) -> np.ndarray:
    """The transpose of `difference`."""
    height, width = kernel.shape
    rows, columns = pulls.shape[:2]
    out = np.zeros((rows + height - 1, columns + width - 1, pulls.shape[2]))
    for j in range(height):
        for i in range(width):
            out[j:j + rows, i:i + columns] += kernel[j, i] * pulls
    return out


def difference_matrix(lattice: Lattice, kernel: np.ndarray) -> "scipy.sparse.csr_array":
    """`difference` of one number a control point as a matrix (differences, control points), both row by row."""
    height, width = kernel.shape
    rows, columns = lattice.rows - height + 1, lattice.columns - width + 1
    first = (np.arange(rows)[:, None] * lattice.columns + np.arange(columns)).ravel()
    taps = (np.arange(height)[:, None] * lattice.columns + np.arange(width)).ravel()
    index = first[:, None] + taps
    begin = np.arange(0, index.size + 1, len(taps))
    return scipy.sparse.csr_array((np.tile(kernel.ravel(), len(first)), index.ravel(), begin), shape=(len(first), lattice.rows * lattice.columns))


class NormalEquations:
    """A symmetric, banded system of equations for the control values of a lattice, the two values of a control point beside each other.

    Parameters
    ----------
    order : the highest order of differences that is added, 3 or more: the width of the bands goes by it.

    Attributes
    ----------
    bands : (N, width) of N unknowns, row j the entries (j, j), (j + 1, j), ... of the matrix: transposed, LAPACK's lower band storage.
    right : (N,) the right-hand side.
    """

    def __init__(self, lattice: Lattice, order: int = 3) -> None:
        self.lattice = lattice
        self._order = order
        short = min(lattice.columns, lattice.rows)
        self.bands = np.zeros((2 * lattice.rows * lattice.columns, 2 * (order * short + 3) + 2))
        self.right = np.zeros(len(self.bands))

    def copy(self) -> "NormalEquations":
        """The same equations, to go on with."""
        other = copy.copy(self)
        other.bands, other.right = self.bands.copy(), self.right.copy()
        return other

    def add_places(self, places: np.ndarray, information: np.ndarray, pull: np.ndarray) -> None:
        """What is known at places (n, 2): `information` (n, 3: xx, xy, yy) per square pixel, and `pull` (n, 2), information times the value wanted."""
        places, information, pull = (np.ascontiguousarray(a, np.float64) for a in (places, information, pull))
        if compiled.LIBRARY is not None:
            f, room = np.float64, np.empty(len(places) + self.lattice.rows * self.lattice.columns, np.int64)
            compiled.LIBRARY.spline_normal(*geometry_arguments(self.lattice), address(places, f), address(information, f), address(pull, f),
                                           compiled.long(len(places)), address(self.bands, f), compiled.long(self.bands.shape[1]), address(self.right, f),
                                           address(room, np.int64))
            return
        held = np.clip(places, self.lattice.box[0], self.lattice.box[2])
        index, weights = self.lattice.local_basis(held)
        number = self._number(index)
        for c in (0, 1):
            np.add.at(self.right, number + c, weights * pull[:, c:c + 1])
        for a, b, k in ((0, 0, 0), (0, 1, 1), (1, 0, 1), (1, 1, 2)):
            both = weights[:, :, None] * weights[:, None] * information[:, k, None, None]
            self._add(np.broadcast_to(number[:, :, None] + a, both.shape), np.broadcast_to(number[:, None] + b, both.shape), both)

    def add_difference(self, kernel: np.ndarray, weights: np.ndarray, about: np.ndarray | None = None) -> None:
        """Weights (rows - height + 1, columns - width + 1) that draw one kind of difference (height, width) of the control values to 0.

        Parameters
        ----------
        about : (rows, columns, 2) values to which the solution is a step; then it is the difference of their sum that is drawn to 0.

        Raises
        ------
        ValueError
            When the difference is of a higher order than the bands have room for.
        """
        if kernel.shape[0] + kernel.shape[1] - 2 > self._order:
            raise ValueError(f"a difference of order {kernel.shape[0] + kernel.shape[1] - 2} in equations made for order {self._order}")
        if about is not None:
            self.add_right(difference_transposed(-weights[..., None] * difference(about, kernel), kernel))
        kernel, weights = np.ascontiguousarray(kernel, np.float64), np.ascontiguousarray(weights, np.float64)
        rows, columns = self.lattice.shape
        height, width = kernel.shape
        if compiled.LIBRARY is not None:
            f = np.float64
            compiled.LIBRARY.spline_difference(columns, rows, address(kernel, f), width, height, address(weights, f), address(self.bands, f),
                                               compiled.long(self.bands.shape[1]))
            return
        point = np.arange(rows * columns).reshape(rows, columns)
        taps = [(kernel[j, i], point[j:rows - height + 1 + j, i:columns - width + 1 + i]) for j in range(height) for i in range(width)]
        for s, p in taps:
            for t, q in taps:
                for c in (0, 1):
                    self._add(self._number(p) + c, self._number(q) + c, weights * (s * t))

    def add_bending(self, order: int, weight: float) -> None:
        """The same weight for all differences of an order: a bending energy that is alike everywhere and in all directions."""
        for kernel, count in DIFFERENCES[order]:
            shape = self.lattice.rows - kernel.shape[0] + 1, self.lattice.columns - kernel.shape[1] + 1
            self.add_difference(kernel, np.full(shape, count * weight))

    def add_diagonal(self, weights: np.ndarray) -> None:
        """Weights (rows, columns) that draw each control value to 0."""
        order = weights if self.lattice.columns <= self.lattice.rows else weights.T
        self.bands[:, 0] += np.repeat(np.ascontiguousarray(order).ravel(), 2)

    def add_right(self, values: np.ndarray) -> None:
        """(rows, columns, 2) onto the right-hand side."""
        self.right += self._in_order(values)

    def applied(self, values: np.ndarray) -> np.ndarray:
        """(rows, columns, 2) the matrix times control values (rows, columns, 2)."""
        return self._out_of_order(scipy.linalg.blas.dsbmv(self.bands.shape[1] - 1, 1.0, self.bands.T, self._in_order(values), lower=1))

    def solve(self) -> np.ndarray:
        """(rows, columns, 2) the solution.

        Raises
        ------
        numpy.linalg.LinAlgError
            When the equations do not determine it.
        """
        self.factorise()
        return self._out_of_order(self._lapack[1](self.factor, self.right, lower=1)[0])

    def factorise(self, precision: type = np.float64) -> None:
        """Ready it for `solved_for`, `solved_for_each` and `covariance`, in double or single precision.

        Raises
        ------
        numpy.linalg.LinAlgError
            When the equations do not determine a solution.
        """
        self._lapack = scipy.linalg.lapack.dpbtrf, scipy.linalg.lapack.dpbtrs
        if precision == np.float32:
            self._lapack = scipy.linalg.lapack.spbtrf, scipy.linalg.lapack.spbtrs
        self.factor, bad = self._lapack[0](self.bands.T.astype(precision, copy=False), lower=1)
        if bad:
            raise np.linalg.LinAlgError("the lattice is not determined")

    def solved_for(self, right: np.ndarray) -> np.ndarray:
        """(rows, columns, 2) the solution for another right-hand side (rows, columns, 2); after `solve` or `factorise`."""
        return self._out_of_order(self._lapack[1](self.factor, self._in_order(right), lower=1)[0])

    def solved_for_each(self, right: np.ndarray) -> np.ndarray:
        """(rows, columns, k, 2) the solutions for k right-hand sides (rows, columns, k, 2); after `solve` or `factorise`."""
        turned = self.lattice.columns > self.lattice.rows
        order = (1, 0, 3, 2) if turned else (0, 1, 3, 2)
        flat = np.asfortranarray(right.transpose(order).reshape(len(self.bands), -1))
        found = self._lapack[1](self.factor, flat, lower=1)[0].reshape(*(right.shape[k] for k in order))
        return found.transpose((1, 0, 3, 2) if turned else (0, 1, 3, 2))

    def covariance(self, points: np.ndarray) -> np.ndarray:
        """(n, 2, 2) covariance of the map at points (n, 2), if the equations are those of a likelihood; after `solve`.

        Of the inverse only what lies within the band is worked out, which holds all that the four by four control points of one place need.
        """
        size, width = self.bands.shape
        factor = np.ascontiguousarray(self.factor.T)
        inverse = np.empty_like(factor)
        if compiled.LIBRARY is not None:
            f = np.float64
            room = np.empty(width)
            compiled.LIBRARY.band_inverse(address(factor, f), compiled.long(size), compiled.long(width), address(inverse, f), address(room, f))
        else:
            inverse = plain_band_inverse(factor)
        index, basis = self.lattice.local_basis(points)
        number = self._number(index)
        out = np.empty((len(points), 2, 2))
        for a in (0, 1):
            for b in range(a + 1):
                row, column = number[:, :, None] + a, number[:, None] + b
                entries = inverse[np.minimum(row, column), np.abs(row - column)]
                out[:, a, b] = out[:, b, a] = np.einsum("ni,nij,nj->n", basis, entries, basis)
        return out

    # -- inside ---------------------------------------------------------------------------------------------------

    def _number(self, point: np.ndarray) -> np.ndarray:
        rows, columns = self.lattice.shape
        return 2 * point if columns <= rows else 2 * ((point % columns) * rows + point // columns)

    def _add(self, row: np.ndarray, column: np.ndarray, value: np.ndarray) -> None:
        low = row >= column
        np.add.at(self.bands, (column[low], (row - column)[low]), value[low])

    @property
    def right_values(self) -> np.ndarray:
        """(rows, columns, 2) the right-hand side."""
        return self._out_of_order(self.right)

    def _in_order(self, values: np.ndarray) -> np.ndarray:
        return np.asarray((values if self.lattice.columns <= self.lattice.rows else values.transpose(1, 0, 2)).reshape(-1))

    def _out_of_order(self, flat: np.ndarray) -> np.ndarray:
        rows, columns = self.lattice.shape
        if columns <= rows:
            return flat.reshape(rows, columns, 2)
        return np.ascontiguousarray(flat.reshape(columns, rows, 2).transpose(1, 0, 2))


def plain_band_inverse(factor: np.ndarray) -> np.ndarray:
    """The entries within the band of the inverse of L L', of the band (N, width) of L by columns; see compiled/mesh.c."""
    size, width = factor.shape
    lower = np.zeros((size, size))
    for k in range(width):
        lower[np.arange(k, size), np.arange(size - k)] = factor[:size - k, k]
    whole = np.linalg.inv(lower @ lower.T)
    out = np.zeros_like(factor)
    for k in range(width):
        out[:size - k, k] = np.diagonal(whole, -k)
    return out


class Interpolation:
    """The map of least bending whose displacements at places (n, 2) are given: solved once, then quick for any displacements.

    Parameters
    ----------
    weight : of a place beside bending; the larger it is the nearer the map comes to what is given.
    bending : order of differences to weight.
    damping : weight that draws the displacement to 0 where nothing else says.
    held : (m, 2) places at which it is 0, and how much that weighs.
    """

    def __init__(self, lattice: Lattice, places: np.ndarray, weight: float, bending: Mapping[int, float], damping: float = 1e-9,
                 held: tuple[np.ndarray, float] | None = None) -> None:
        self._lattice, self._weight = lattice, weight
        system = NormalEquations(lattice)
        system.add_places(places, weight * np.tile([1.0, 0.0, 1.0], (len(places), 1)), np.zeros((len(places), 2)))
        if held is not None and len(held[0]):
            system.add_places(held[0], held[1] * np.tile([1.0, 0.0, 1.0], (len(held[0]), 1)), np.zeros((len(held[0]), 2)))
        for order, share in bending.items():
            system.add_bending(order, share)
        system.add_diagonal(np.full(lattice.shape, damping))
        system.solve()
        self._system = system
        self._index, self._basis = lattice.local_basis(places)

    def values(self, moves: np.ndarray) -> np.ndarray:
        """(rows, columns, 2) control values of the displacement, for displacements (n, 2) of the places."""
        size = self._lattice.rows * self._lattice.columns
        right = np.stack([np.bincount(self._index.ravel(), (self._basis * moves[:, c:c + 1]).ravel(), size) for c in (0, 1)], axis=-1)
        return self._system.solved_for(self._weight * right.reshape(*self._lattice.shape, 2))


LEAST_BENDING = {2: 1e-3, 3: 1.0}
"""Weights of a map that lets a gentle wave go on between the places that are known: mostly third differences count."""


def fitted(lattice: Lattice, places: np.ndarray, moved: np.ndarray) -> np.ndarray:
    """Control values (rows, columns, 2) of the map of least bending that takes places (n, 2) near to others (n, 2)."""
    return lattice.identity + Interpolation(lattice, places, 1e4, LEAST_BENDING).values(moved - places)
