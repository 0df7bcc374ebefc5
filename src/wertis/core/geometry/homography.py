"""Homographies: (3, 3) float64 matrices that act on points (x, y, 1) as columns, defined up to scale.

Source of the methods: R. Hartley and A. Zisserman, Multiple View Geometry in Computer Vision, 2nd ed., 2004, ch. 2 and 4.
"""

import numpy as np

_DEGENERATE = 1e-12  # determinant, in coordinates of unit spread, below which four points determine no homography


def apply(matrix: np.ndarray, points: np.ndarray) -> np.ndarray:
    """Map points (..., 2) through `matrix` (3, 3).

    A point on or behind the vanishing line (third coordinate not of the sign it has at infinity's near side)
    has no picture; it comes out as nan.
    """
    p = np.asarray(points, np.float64)
    x = p.reshape(-1, 2) @ matrix[:, :2].T + matrix[:, 2]  # one product, however the points are laid out
    w = x[:, 2:]
    nearest = (w * (-1.0 if matrix[2, 2] < 0 else 1.0)).min(initial=1.0)
    if nearest > 1e-9:
        return (x[:, :2] / w).reshape(p.shape)
    with np.errstate(divide="ignore", invalid="ignore"):
        seen = w > 1e-9 if matrix[2, 2] >= 0 else -w > 1e-9
        return np.where(seen, x[:, :2] / w, np.nan).reshape(p.shape)


def apply_each(matrices: np.ndarray, points: np.ndarray) -> np.ndarray:
    """(s, n, 2) what `apply` makes of points (n, 2) through each of matrices (s, 3, 3)."""
    x = points @ matrices[:, :, :2].swapaxes(1, 2) + matrices[:, None, :, 2]
    w = x[..., 2:] * np.where(matrices[:, 2, 2] < 0, -1.0, 1.0)[:, None, None]
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(w > 1e-9, x[..., :2] / x[..., 2:], np.nan)


def apply_to_grid(matrix: np.ndarray, columns: np.ndarray, rows: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """`apply` for the points of a grid, columns (W,) and rows (H,): x and y, each (H, W). Several times as fast as for points in a list."""
    y = np.asarray(rows, np.float64)[:, None]
    seen_x, seen_y, w = (m[0] * columns + (m[1] * y + m[2]) for m in matrix)
    if (w * (-1.0 if matrix[2, 2] < 0 else 1.0)).min(initial=1.0) <= 1e-9:
        w[w <= 1e-9 if matrix[2, 2] >= 0 else w >= -1e-9] = np.nan
    np.divide(seen_x, w, out=seen_x)
    np.divide(seen_y, w, out=seen_y)
    return seen_x, seen_y


def normalised(matrix: np.ndarray) -> np.ndarray:
    """The same homography with its last element 1.

    Raises
    ------
    ValueError
        If the matrix is not finite or sends the origin to infinity.
    """
    if not np.all(np.isfinite(matrix)) or abs(matrix[2, 2]) < 1e-12 * np.abs(matrix).max():
        raise ValueError("degenerate homography")
    return matrix / matrix[2, 2]


def from_points(source: np.ndarray, target: np.ndarray, weights: np.ndarray | None = None) -> np.ndarray:
    """The homography that best takes `source` (N, 2) to `target` (N, 2), N >= 4, by the normalised direct linear transform.

    Hartley, In defense of the eight-point algorithm, 1997 (normalisation); Hartley and Zisserman 2004, algorithm 4.2.

    Raises
    ------
    ValueError
        If there are fewer than four points or they are degenerate (three in line).
    """
    src, dst = np.asarray(source, np.float64), np.asarray(target, np.float64)
    if len(src) < 4 or src.shape != dst.shape:
        raise ValueError("a homography needs four or more pairs of points")
    ts, tt = _conditioning(src), _conditioning(dst)
    a, b = apply(ts, src), apply(tt, dst)
    zero, one = np.zeros(len(a)), np.ones(len(a))
    x, y, u, v = a[:, 0], a[:, 1], b[:, 0], b[:, 1]
    rows = np.concatenate([
        np.column_stack([x, y, one, zero, zero, zero, -u * x, -u * y, -u]),
        np.column_stack([zero, zero, zero, x, y, one, -v * x, -v * y, -v]),
    ])
    if weights is not None:
        rows *= np.tile(np.sqrt(weights), 2)[:, None]
    _, s, vt = np.linalg.svd(rows, full_matrices=True)
    if s[7] < 1e-9 * s[0]:
        raise ValueError("the points do not determine a homography (three of them lie in line)")
    return normalised(np.linalg.inv(tt) @ vt[8].reshape(3, 3) @ ts)


def through_four_points(source: np.ndarray, target: np.ndarray) -> np.ndarray:
    """The homographies (s, 3, 3) that take four points to others (s, 4, 2), with one in the lower right; nan where they do not determine one.

    Hartley and Zisserman 2004, section 4.1.2: the inhomogeneous solution, in coordinates about the middle of all points.
    """
    ts, tt = (_conditioning(points.reshape(-1, 2)) for points in (source, target))
    (x, y), (u, v) = (np.moveaxis(apply(t, points), -1, 0) for t, points in ((ts, source), (tt, target)))
    one, zero = np.ones_like(x), np.zeros_like(x)
    rows = np.concatenate([np.stack([x, y, one, zero, zero, zero, -u * x, -u * y], -1), np.stack([zero, zero, zero, x, y, one, -v * x, -v * y], -1)], 1)
    known = np.abs(np.linalg.det(rows)) > _DEGENERATE
    out = np.full((len(rows), 3, 3), np.nan)
    solved = np.linalg.solve(rows[known], np.concatenate([u, v], 1)[known][..., None])[..., 0]
    found = np.linalg.inv(tt) @ np.concatenate([solved, np.ones((len(solved), 1))], 1).reshape(-1, 3, 3) @ ts
    with np.errstate(divide="ignore", invalid="ignore"):  # one that takes the origin to infinity has no such form
        out[known] = found / found[:, 2:, 2:]
    return out


def from_unit_square(quad: np.ndarray) -> np.ndarray:
    """The homography from the unit square (0,0) (1,0) (1,1) (0,1) to `quad` (4, 2).

    P. Heckbert, Fundamentals of Texture Mapping and Image Warping, 1989, section 2.2.3.
    """
    return from_points(np.array([[0.0, 0], [1, 0], [1, 1], [0, 1]]), quad)


def scaling(sx: float, sy: float | None = None) -> np.ndarray:
    """The matrix (3, 3) that scales x by `sx` and y by `sy` (by `sx` when not given) about the origin."""
    return np.diag([sx, sx if sy is None else sy, 1.0])


def translation(dx: float, dy: float) -> np.ndarray:
    """The matrix (3, 3) that moves points by (dx, dy)."""
    return np.array([[1.0, 0, dx], [0, 1.0, dy], [0, 0, 1.0]])


def jacobian(matrix: np.ndarray, points: np.ndarray) -> np.ndarray:
    """Derivatives (N, 2, 2) of the mapped point by the point, at `points` (N, 2)."""
    p = np.asarray(points, np.float64)
    x = p @ matrix[:, :2].T + matrix[:, 2]
    w = x[:, 2][:, None, None]
    mapped = (x[:, :2] / x[:, 2:])[:, :, None]
    return (matrix[None, :2, :2] - mapped * matrix[None, 2:3, :2]) / w


def local_scale(matrix: np.ndarray, point: np.ndarray) -> float:
    """How many target pixels one source pixel covers in length at `point` (2,): the square root of the area's growth."""
    return float(np.sqrt(abs(np.linalg.det(jacobian(matrix, np.asarray(point, np.float64)[None])[0]))))


def _conditioning(points: np.ndarray) -> np.ndarray:
    centre = points.mean(0)
    spread = np.sqrt(((points - centre) ** 2).sum(1).mean()) or 1.0
    s = np.sqrt(2.0) / spread
    return np.array([[s, 0, -s * centre[0]], [0, s, -s * centre[1]], [0, 0, 1.0]])
