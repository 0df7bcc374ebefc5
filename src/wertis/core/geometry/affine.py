"""Motions of a plane through points: affine ones, and robust fits of every kind."""

from functools import cache
from itertools import combinations, islice
from typing import Literal

import numpy as np

from wertis.core.geometry import homography

PointsKind = Literal["shift", "shift-x", "shift-y", "shift-scale", "shift-turn", "similarity", "affine", "perspective"]
"""What may be taken from points: a kind of motion of the plane, or a shift along one axis alone."""
PlaneKind = Literal["shift", "shift-scale", "shift-turn", "similarity", "affine", "perspective"]
KINDS_BY_COUNT: dict[int, PlaneKind] = {1: "shift", 2: "similarity", 3: "affine", 4: "perspective"}
"""What so many points can determine, and more points as well as four."""
_LEAST_DEVIATION = 0.05  # pixels: points that are off by less are not doubted
_ROUNDS = 5  # of reweighting
POINTS_MET = {"shift": 1, "shift-x": 1, "shift-y": 1, "shift-scale": 2, "shift-turn": 2, "similarity": 2, "affine": 3, "perspective": 4}
"""How many points each kind of motion meets exactly."""
_SAMPLES = 60  # sets of so few points that are tried
_COINCIDENT = 1e-9  # square pixels: points whose variance is less lie on one another
_COLLINEAR = 1e-6  # pixels: points whose lesser standard deviation is less lie on a line


def affine_through(source: np.ndarray, target: np.ndarray) -> np.ndarray:
    """The affine motion (3, 3), or the similarity of two points or points on a line, that takes points nearest to others (n, 2) by least squares."""
    middle = source.mean(0)
    x, y = (source - middle).T
    scale = max(float(np.abs(source - middle).max()), 1e-9)
    flat = len(source) < 3 or np.linalg.svd((source - middle) / scale, compute_uv=False)[1] < 1e-3
    zero, one = np.zeros_like(x), np.ones_like(x)
    if flat:
        rows = np.concatenate([np.column_stack([x, -y, one, zero]), np.column_stack([y, x, zero, one])])
    else:
        rows = np.concatenate([np.column_stack([x, y, one, zero, zero, zero]), np.column_stack([zero, zero, zero, x, y, one])])
    v = np.linalg.lstsq(rows, np.concatenate([target[:, 0], target[:, 1]]), rcond=None)[0]
    out = np.eye(3)
    if flat:
        out[:2] = [[v[0], -v[1], v[2]], [v[1], v[0], v[3]]]
    else:
        out[:2] = [v[:3], v[3:]]
    back = np.eye(3)
    back[:2, 2] = -middle
    return np.asarray(out @ back)


def similarity_through(source: np.ndarray, target: np.ndarray) -> np.ndarray:
    """The similarity (3, 3) that takes points nearest to others (n, 2) by least squares."""
    return _weighted_fit("similarity", source, target, np.ones(len(source)))


def allowed_kind(kind: PlaneKind, count: int) -> PlaneKind:
    """The kind of motion, or what so many points can determine of it."""
    most = KINDS_BY_COUNT[min(count, 4)]
    order = ("shift", "shift-scale", "shift-turn", "similarity", "affine", "perspective")
    return kind if order.index(kind) <= order.index(most) else most


def robust_fit(kind: PointsKind, source: np.ndarray, target: np.ndarray, errors: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The motion (3, 3) of a kind that takes points nearest to others (n, 2), those that disagree counting little, and (n,) by how much each is off.

    As many points as determine it are met. The weights are Cauchy's, iterated (P. Holland and R. Welsch, Robust regression using iteratively reweighted
    least-squares, 1977).

    Parameters
    ----------
    errors : (n,) expected error of each, in pixels.
    """
    if kind in ("shift-x", "shift-y"):  # of the other axis nothing is wanted, nor held against a point
        other = int(kind == "shift-x")
        target = np.where(np.arange(2) == other, source, target)
        kind = "shift"
    kind = allowed_kind(kind, len(source))  # type: ignore[arg-type]
    base = 1 / np.maximum(errors, _LEAST_DEVIATION) ** 2
    matrix = _least_median(kind, source, target, base)
    for _ in range(_ROUNDS):
        away = np.linalg.norm(homography.apply(matrix, source) - target, axis=1)
        scale = max(float(np.median(away * np.sqrt(base))), 1.0)
        matrix = _weighted_fit(kind, source, target, base / (1 + base * (away / (2 * scale)) ** 2))
    return matrix, np.linalg.norm(homography.apply(matrix, source) - target, axis=1)


def _least_median(kind: PlaneKind, source: np.ndarray, target: np.ndarray, base: np.ndarray) -> np.ndarray:
    """The motion (3, 3) through as few points as determine it from which the median of all is least off (P. Rousseeuw, Least median of squares, 1984)."""
    few = POINTS_MET[kind]
    if len(source) <= few:
        return _weighted_fit(kind, source, target, base)
    chosen = _subsets(len(source), few)
    found = _minimal_fits(kind, source[chosen], target[chosen], base[chosen])
    away = np.linalg.norm(homography.apply_each(found, source) - target, axis=2) * np.sqrt(base)
    middle = np.sort(away, axis=1)[:, (len(source) + few) // 2]
    if not np.isfinite(middle).any():
        return _weighted_fit(kind, source, target, base)
    return np.asarray(found[np.nanargmin(middle)])


@cache
def _subsets(count: int, few: int) -> np.ndarray:
    """(s, few) all subsets of so few of so many points, by their numbers, or _SAMPLES random ones, the same each time."""
    subsets = list(islice(combinations(range(count), few), _SAMPLES + 1))
    if len(subsets) > _SAMPLES:
        rng = np.random.default_rng(count)
        subsets = [tuple(rng.choice(count, few, replace=False)) for _ in range(_SAMPLES)]
    chosen = np.array(subsets)
    chosen.flags.writeable = False
    return chosen


def _weighted_fit(kind: PlaneKind, source: np.ndarray, target: np.ndarray, weight: np.ndarray) -> np.ndarray:
    """The motion (3, 3) of a kind that takes points nearest to others (n, 2) by weighted least squares."""
    if kind == "perspective":
        try:
            return homography.from_points(source, target, weight)
        except ValueError:
            kind = "affine"
    return np.asarray(_fits(kind, source[None], target[None], weight[None])[0])


def _minimal_fits(kind: PlaneKind, source: np.ndarray, target: np.ndarray, weight: np.ndarray) -> np.ndarray:
    """The motions (s, 3, 3) of a kind through subsets (s, few, 2) of as many points as determine it; affine ones where four points do not."""
    if kind != "perspective":
        return _fits(kind, source, target, weight)
    found = homography.through_four_points(source, target)
    return np.where(np.isfinite(found).all((1, 2), keepdims=True), found, _fits("affine", source, target, weight))


def _fits(kind: PlaneKind, source: np.ndarray, target: np.ndarray, weight: np.ndarray) -> np.ndarray:
    """The motions (s, 3, 3) of a kind without perspective that take sets of points nearest to others (s, n, 2), by least squares weighted (s, n).

    Points on a line, which do not determine an affine motion, give a similarity.
    """
    share = (weight / weight.sum(1, keepdims=True))[..., None]
    a, b = (source * share).sum(1), (target * share).sum(1)
    p, q = source - a[:, None], target - b[:, None]
    forms, size = np.tile(np.eye(2), (len(source), 1, 1)), (share * p * p).sum((1, 2))
    wide = size >= _COINCIDENT
    if kind != "shift":
        part = share[wide, :, 0] / size[wide, None]
        pw, qw = p[wide], q[wide]
        along = (part * (pw * qw).sum(2)).sum(1)
        across = (part * (pw[..., 0] * qw[..., 1] - pw[..., 1] * qw[..., 0])).sum(1)
        if kind == "shift-scale":
            across = np.zeros_like(across)
        elif kind == "shift-turn":
            along, across = (v / np.maximum(np.hypot(along, across), 1e-9) for v in (along, across))
        forms[wide] = np.stack([np.stack([along, -across], -1), np.stack([across, along], -1)], -2)
    if kind == "affine":
        left, singular, right = np.linalg.svd(p * np.sqrt(share), full_matrices=False)
        spread = wide & (singular[:, 1] > _COLLINEAR)
        left, singular, right = left[spread], singular[spread], right[spread]
        forms[spread] = ((q * np.sqrt(share))[spread].swapaxes(1, 2) @ left / singular[:, None]) @ right
    out = np.tile(np.eye(3), (len(source), 1, 1))
    out[:, :2, :2], out[:, :2, 2] = forms, b - (forms @ a[..., None])[..., 0]
    return out
