"""An outline's points moved to an edge that was found along it, on one frame by itself."""

from collections.abc import Sequence

import numpy as np

from wertis.core.matte.edge import Edge
from wertis.core.matte.outline import CORNER

_SMOOTH = 1.5  # of an outline's places, over which what was found there is averaged for a point
_FADES = 6.0  # of an outline's places, over which a correction fades to nothing where the edge cannot be told
_LESS, _STAYS = 0.3, 0.1  # weights of what lies farther along, and of staying where it is, beside a place along which the edge was told
_TIP = 16  # points to both sides of a corner that may be drawn back


def fitted_points(points: np.ndarray, edge: Edge, roundness: np.ndarray | None = None) -> np.ndarray:
    """An outline's points (N, 2) moved to the edge that was found along it; where that cannot be told they go with what lies round them, or stay."""
    n, count = len(points), len(edge.along)
    place = np.searchsorted(edge.along, np.arange(n)) % count
    steps = np.abs(np.arange(count)[None] - place[:, None])
    steps = np.minimum(steps, count - steps)
    told = edge.usable.copy()
    if roundness is not None:  # right at a corner there is no one way across; what its sides say counts
        told &= ~((steps == 1) & (roundness < CORNER)[:, None]).any(0)
    weight = np.exp(-0.5 * (steps / _SMOOTH) ** 2) * told
    wide = np.exp(-0.5 * (steps / _FADES) ** 2) * told
    weight = np.where(weight.sum(1, keepdims=True) > 0.5, weight, _LESS * wide)
    # each point's move is what takes the outline on both sides of it to the edge, so that a corner stays one; along the edge nothing is known
    normal = np.einsum("pk,ka,kb->pab", weight, edge.normals, edge.normals)
    normal += _STAYS * (1 + np.trace(normal, axis1=1, axis2=2))[:, None, None] * np.eye(2)
    pull = np.einsum("pk,ka,k->pa", weight, edge.normals, edge.offsets)
    moved = np.asarray(points + np.linalg.solve(normal, pull[..., None])[..., 0])
    return moved if roundness is None else with_tips(moved, np.flatnonzero(roundness < CORNER).tolist())


def with_tips(points: np.ndarray, corners: Sequence[int]) -> np.ndarray:
    """An outline's points (N, 2) with each corner where its two sides meet: what lies beyond that is drawn back along them.

    When a tip gets shorter its sides are found by what lies across them, and what is left of the old tip is a loop round nothing.
    """
    p, n = points.copy(), len(points)
    for corner in corners:
        most = min(_TIP, n // 4)
        pairs = ((i, k) for i in range(most, 1, -1) for k in range(1, most))
        for before, after in pairs:  # the meeting that is farthest from the tip counts
            met = _meeting(p[(corner - before) % n], p[(corner - before + 1) % n], p[(corner + after) % n], p[(corner + after + 1) % n])
            if met is None:
                continue
            a, b = p[(corner - before) % n].copy(), p[(corner + after + 1) % n].copy()
            for k in range(1, before + 1):
                p[(corner - before + k) % n] = a + (met - a) * k / before
            for k in range(1, after + 1):
                p[(corner + k) % n] = met + (b - met) * k / (after + 1)
            break
    return p


def _meeting(a: np.ndarray, b: np.ndarray, c: np.ndarray, d: np.ndarray) -> np.ndarray | None:
    """Where the side from a to b crosses that from c to d; None where it does not."""
    u, v, w = b - a, d - c, c - a
    cross = u[0] * v[1] - u[1] * v[0]
    if abs(cross) > 1e-9:
        s, t = (w[0] * v[1] - w[1] * v[0]) / cross, (w[0] * u[1] - w[1] * u[0]) / cross
        if 0 <= s <= 1 and 0 <= t <= 1:
            return np.asarray(a + s * u)
    return None
