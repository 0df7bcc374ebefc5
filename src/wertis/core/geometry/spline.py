"""Smooth closed curves through points."""

import numpy as np
import scipy

_PER_SIDE = 12  # straight pieces that stand for the curve between two points


def closed_curve(points: np.ndarray, pieces: int = _PER_SIDE) -> np.ndarray:
    """A closed cubic spline through `points` (N, 2), N at least 3, as a polygon (N * pieces, 2).

    The parameter runs with the square root of the chords, which keeps the curve near its points where they are unevenly spaced.
    C. de Boor, A practical guide to splines, 1978 (periodic cubic); E. Lee, Choosing nodes in parametric curve interpolation, 1989.
    """
    around = np.vstack([points, points[:1]]).astype(np.float64)
    steps = np.maximum(np.sqrt(np.linalg.norm(np.diff(around, axis=0), axis=1)), 1e-6)
    nodes = np.concatenate([[0.0], np.cumsum(steps)])

    curve = scipy.interpolate.CubicSpline(nodes, around, bc_type="periodic")
    at = (nodes[:-1, None] + steps[:, None] * (np.arange(pieces) / pieces)).ravel()
    return np.asarray(curve(at))
