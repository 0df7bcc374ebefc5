"""A unit square with bent sides: a cubic Bezier curve for each side, and a Coons patch inside.

S. Coons, Surfaces for computer-aided design of space forms, 1967 (bilinearly blended patch); S. Bernstein's basis, in P. Bezier's use of it.
The corners stay where they are. A side is bent by its two inner control points, at a third and at two thirds of it, by offsets from there:
(8, 2), in the order of the sides top, right, bottom, left, each run clockwise.
"""

import numpy as np

from wertis.core import compiled
from wertis.core.compiled import address

CORNERS = np.array([[0.0, 0], [1, 0], [1, 1], [0, 1]])
THIRDS = np.array([a + (b - a) * part for a, b in zip(CORNERS, np.roll(CORNERS, -1, 0), strict=True) for part in (1 / 3, 2 / 3)])
"""Where the control points of straight sides are, (8, 2)."""

_TURNS = 40
_CLOSE = 1e-7
_FOLDED = 0.05  # of the square's area to which a place's is reduced, below which Newton's method may run away


def bent(points: np.ndarray, offsets: np.ndarray) -> np.ndarray:
    """Points (..., 2) of the straight square, moved to where they are in the bent one."""
    return np.asarray(points + _offset(points, offsets))


def straight(points: np.ndarray, offsets: np.ndarray) -> np.ndarray:
    """The inverse of `bent`: points (..., 2) of the bent square's plane, back in the straight one (Newton's method; for gentle bends)."""
    if compiled.LIBRARY is not None:
        flat = np.ascontiguousarray(points, np.float64).reshape(-1, 2)
        sides, out = np.ascontiguousarray(offsets, np.float64), np.empty_like(flat)
        compiled.LIBRARY.coons_straight(address(flat, np.float64), compiled.long(len(flat)), address(sides, np.float64), compiled.double(_CLOSE),
                                        compiled.double(_FOLDED), _TURNS, address(out, np.float64))
        return out.reshape(np.shape(points))
    target = np.asarray(points, np.float64).reshape(-1, 2).T  # x and y apart, which is quicker
    found = target.copy()
    left = np.arange(found.shape[1])  # that have not arrived yet
    for _ in range(_TURNS):
        own = found[:, left]
        # far outside, the cubic runs away: what lies there is not looked up
        at = np.clip(own, -0.5, 1.5)
        offset, (du, dv) = _offset_and_slopes(at, offsets)
        rest = target[:, left] - own - offset
        a, b, c, d = 1 + du[0], dv[0], du[1], 1 + dv[1]
        determinant = a * d - b * c
        # beyond that, and where the square folds, a plain step
        plain = (at != own).any(0) | (determinant < _FOLDED)
        scale = 1 / np.where(plain, 1.0, determinant)
        step = np.where(plain, rest, [(d * rest[0] - b * rest[1]) * scale, (a * rest[1] - c * rest[0]) * scale])
        found[:, left] = own + step
        left = left[np.abs(step).max(0) >= _CLOSE]
        if not len(left):
            break
    return np.asarray(found.T.reshape(np.shape(points)))


def outline(offsets: np.ndarray, per_side: int = 24) -> np.ndarray:
    """The bent square's outline as a polygon (4 * per_side, 2), clockwise from the first corner."""
    t = np.arange(per_side)[:, None] / per_side
    return np.concatenate([bent(a + (b - a) * t, offsets) for a, b in zip(CORNERS, np.roll(CORNERS, -1, 0), strict=True)])


def grid(cells: int, offsets: np.ndarray, fine: bool = False) -> list[np.ndarray]:
    """The lines (N, 2) of a grid of `cells` by `cells`, borders included: one across, one down, and so on; of two points each where all is straight,
    unless many are wanted all the same (`fine`), for a surface that may bend."""
    t = np.linspace(0, 1, 25 if offsets.any() or fine else 2)
    lines = []
    for at in np.linspace(0, 1, cells + 1):
        still = np.full_like(t, at)
        lines += [bent(np.column_stack([t, still]), offsets), bent(np.column_stack([still, t]), offsets)]
    return lines


def _offset(points: np.ndarray, offsets: np.ndarray) -> np.ndarray:
    u, v = points[..., :1], points[..., 1:]
    top, right, bottom, left = (offsets[2 * k:2 * k + 2] for k in range(4))
    return np.asarray((1 - v) * _side(u, top) + u * _side(v, right) + v * _side(1 - u, bottom) + (1 - u) * _side(1 - v, left))


def _side(t: np.ndarray, two: np.ndarray) -> np.ndarray:
    """(..., 2) by how much a side is bent at t (..., 1)."""
    return np.asarray(3 * t * (1 - t) ** 2 * two[0] + 3 * t ** 2 * (1 - t) * two[1])


def _offset_and_slopes(at: np.ndarray, offsets: np.ndarray) -> tuple[np.ndarray, tuple[np.ndarray, np.ndarray]]:
    """(2, n) by how much places (2, n) are moved, and how that changes with the first and the second of their numbers."""
    u, v = at
    sides = [offsets[2 * k:2 * k + 2].T for k in range(4)]  # (2, two control points)
    (top, right, bottom, left), slopes = zip(*(_weighed(t, two) for t, two in zip((u, v, 1 - u, 1 - v), sides, strict=True)), strict=True)
    offset = (1 - v) * top + u * right + v * bottom + (1 - u) * left
    du = (1 - v) * slopes[0] + right - v * slopes[2] - left
    dv = -top + u * slopes[1] + bottom - (1 - u) * slopes[3]
    return offset, (du, dv)


def _weighed(t: np.ndarray, two: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(2, n) by how much a side is bent at t (n,), and how that changes along it; `two` (2, 2) are its control points' offsets, x above y."""
    rest = 1 - t
    basis = 3 * t * rest * np.stack([rest, t])
    slope = 3 * np.stack([rest * (1 - 3 * t), t * (2 - 3 * t)])
    return two @ basis, two @ slope
