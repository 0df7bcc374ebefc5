"""Splines through points that are corners, round, or anything between, or that have handles, as cubic Bézier curves and as polygons.

A round point has the tangent of the Catmull-Rom spline with centripetal knots, which makes neither loops nor cusps: C. Yuksel, S. Schaefer and J. Keyser,
Parameterization and applications of Catmull-Rom curves, 2011. Its handles are shortened by the point's roundness, down to none at a corner.
"""

import numpy as np

CORNER = 0.3  # roundness below which a point is a corner
_FLATNESS = 0.02  # pixels by which the polygon may lie off the curve
_MOST_PIECES, _LEAST_STEP = 64, 1e-9


def handles(points: np.ndarray, roundness: np.ndarray, closed: bool = True) -> tuple[np.ndarray, np.ndarray]:
    """The handles (N, 2) before and after each of the points (N, 2) of an outline, in pixels beside the point.

    Parameters
    ----------
    roundness : (N,) 0 for a corner to 1 for a smooth curve.
    closed : whether the last point is followed by the first.
    """
    p = np.asarray(points, np.float64)
    if len(p) < 3:
        return np.zeros_like(p), np.zeros_like(p)
    before, after = np.roll(p, 1, 0), np.roll(p, -1, 0)
    if not closed:  # an end goes on as it comes
        before[0], after[-1] = 2 * p[0] - p[1], 2 * p[-1] - p[-2]
    d0, d1 = (np.maximum(np.sqrt(np.linalg.norm(a, axis=1)), _LEAST_STEP)[:, None] for a in (p - before, after - p))
    tangent = (p - before) / d0 - (after - before) / (d0 + d1) + (after - p) / d1  # per unit of the knots' spacing
    share = np.asarray(roundness, float)[:, None] / 3
    return -tangent * d0 * share, tangent * d1 * share


def bezier(points: np.ndarray, roundness: np.ndarray, closed: bool = True) -> np.ndarray:
    """(N, 4, 2) control points of the curve from each point (N, 2) to the next; one less where the outline is not closed."""
    p = np.asarray(points, np.float64)
    coming, leaving = handles(p, roundness, closed)
    return from_handles(np.stack([p, p + coming, p + leaving], axis=1), closed)


def from_handles(controls: np.ndarray, closed: bool = True) -> np.ndarray:
    """(N, 4, 2) control points of the curves of an outline whose points have handles: (N, 3, 2) each point, the handle before it and the one after."""
    c = np.asarray(controls, np.float64)
    following = np.roll(c, -1, 0)
    curves = np.stack([c[:, 0], c[:, 2], following[:, 1], following[:, 0]], axis=1)
    return curves if closed else curves[:-1]


def split(curve: np.ndarray, part: float) -> tuple[np.ndarray, np.ndarray]:
    """A cubic (4, 2) as two, divided at `part` 0..1 by de Casteljau's construction (G. Farin, Curves and Surfaces for CAGD, 5th ed., 2002, chapter 4)."""
    levels = [np.asarray(curve, np.float64)]
    while len(levels[-1]) > 1:
        levels.append((1 - part) * levels[-1][:-1] + part * levels[-1][1:])
    return np.array([x[0] for x in levels]), np.array([x[-1] for x in levels[::-1]])


def flattened(curves: np.ndarray, closed: bool = True, flatness: float = _FLATNESS) -> tuple[np.ndarray, np.ndarray]:
    """Curves (N, 4, 2) as one polygon (M, 2), or as a line where they are not closed, and (M,) where along the outline each vertex is: the number of its
    curve, and how far along it.

    It lies off the curves by `flatness` pixels at most. The number of pieces follows from how far a cubic strays from its chord: by an eighth of its
    second derivative (T. Sederberg, Computer aided geometric design, 2012, section 10.6).
    """
    second = 6 * np.maximum(np.linalg.norm(curves[:, 0] - 2 * curves[:, 1] + curves[:, 2], axis=1),
                            np.linalg.norm(curves[:, 1] - 2 * curves[:, 2] + curves[:, 3], axis=1))
    straight = (curves[:, 0] == curves[:, 1]).all(1) & (curves[:, 2] == curves[:, 3]).all(1)
    pieces = np.where(straight, 1, np.clip(np.ceil(np.sqrt(second / (8 * flatness))), 1, _MOST_PIECES)).astype(int)
    which = np.repeat(np.arange(len(curves)), pieces)
    first = np.repeat(np.cumsum(pieces) - pieces, pieces)
    t = ((np.arange(len(which)) - first) / pieces[which])[:, None]
    a, b, c, d = (curves[which, k] for k in range(4))
    line, at = (1 - t) ** 3 * a + 3 * (1 - t) ** 2 * t * b + 3 * (1 - t) * t ** 2 * c + t ** 3 * d, which + t[:, 0]
    return (line, at) if closed else (np.vstack([line, curves[-1:, 3]]), np.append(at, float(len(curves))))


def nearest_place(line: np.ndarray, at: np.ndarray, count: int, point: np.ndarray, closed: bool = True) -> tuple[float, float]:
    """How far a point (2,) is from a polygon or line (M, 2), in pixels, and where along the outline, as `flattened` gives it in `at` (M,), it is nearest.

    Parameters
    ----------
    count : curves of the outline.
    """
    ends, following = (np.roll(line, -1, 0), np.append(at[1:], float(count))) if closed else (line[1:], at[1:])
    begin = line[:len(ends)]
    way = ends - begin
    t = np.clip(((point - begin) * way).sum(1) / np.maximum((way ** 2).sum(1), 1e-12), 0, 1)
    distance = np.linalg.norm(begin + t[:, None] * way - point, axis=1)
    k = int(distance.argmin())
    return float(distance[k]), float(at[k] + t[k] * (following[k] - at[k]))


def outwards(polygon: np.ndarray) -> np.ndarray:
    """(M, 2) unit normals of a closed polygon (M, 2), outwards, whichever way it goes round."""
    tangent = np.roll(polygon, -1, 0) - np.roll(polygon, 1, 0)
    tangent /= np.maximum(np.linalg.norm(tangent, axis=1, keepdims=True), 1e-12)
    x, y = polygon.T
    clockwise = float(np.sum(x * np.roll(y, -1) - np.roll(x, -1) * y)) > 0  # y runs down
    return np.column_stack([tangent[:, 1], -tangent[:, 0]]) * (1 if clockwise else -1)


def along(values: np.ndarray, places: np.ndarray) -> np.ndarray:
    """Values (N,) of an outline's points at places (M,) along it, as `flattened` gives them; straight between points."""
    count = len(values)
    k = np.floor(places).astype(int) % count
    part = places - np.floor(places)
    return np.asarray((1 - part) * values[k] + part * values[(k + 1) % count])
