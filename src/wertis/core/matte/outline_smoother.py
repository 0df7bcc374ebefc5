"""An outline on many frames at once, from what was found of the picture's edge on each: a fixed-interval smoother.

On a frame the edge tells an outline only across itself, and only where the shutter does not smear it; but an outline changes slowly in its surface's
picture, and what one frame hides another shows. So the points on all frames are the least squares of what was measured, with accelerations that are
distributed about none and vary together along the outline (H. Rauch, F. Tung and C. Striebel, Maximum likelihood estimates of linear dynamic systems,
1965, solved as one sparse system; A. Blake and M. Isard, Active contours, 1998, chapters 8 and 9). Measurements that do not fit count less, and so
does what is expected where an outline changes at once (P. Holland and R. Welsch, Robust regression using iteratively reweighted least-squares, 1977).
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import scipy

from wertis.core.matte.outline import outwards

_HUBER = 1.5  # standard deviations from which a measurement counts less (P. Huber, Robust estimation of a location parameter, 1964)
_CAUCHY = 2.0  # standard deviations at which an acceleration counts half
_AT_FIRST = 0.02  # robust weight of all accelerations at first, so that it is the pictures that say where an outline changes at once
_TRACED = 8  # vectors of random signs, for a mean variance
_MOST_ACCELERATION = 10.0  # pixels per frame and frame, the largest standard deviation that is estimated
_SIGNS = 48  # vectors of random signs, whose estimates are averaged over neighbours: variances come out within a tenth
_AVERAGED = 1.0, 2.0  # frames, and points along the outline; those
_LEAST_STEP = 1.0  # pixels between points of an outline that is reckoned with
_AT_CORNER = 0.05  # weight of bending at a corner, whose tip goes its own way


@dataclass(frozen=True)
class OutlinePrior:
    """How outlines change in their surface's picture.

    Attributes
    ----------
    acceleration : pixels per frame and frame, the least standard deviation; it is estimated from the solution.
    speed : pixels per frame, standard deviation; so wide that it only keeps what nothing else holds.
    length : pixels along the outline within which points go together.
    bending : 1 / pixel, standard deviation of the second derivative along the outline of how far it lies from what keys say, on frames that the shutter
        smears, whose own pictures say little of that.
    sharp_bending : the same on other frames; wide, as for speed.
    stray : pixels from what keys say, standard deviation; wide, as for speed.
    """

    acceleration: float = 0.5
    speed: float = 3.0
    length: float = 20.0
    bending: float = 0.05
    sharp_bending: float = 0.2
    stray: float = 20.0


@dataclass(frozen=True)
class Measurement:
    """What was found along an outline on one frame.

    Attributes
    ----------
    design : (m, 2 N) sparse: how far each place goes across the outline when the points' coordinates x, y, x, y... change.
    distances : (m,) pixels across the outline, by how much the edge lies beyond the outline that keys say.
    deviations : (m,) standard deviations, pixels.
    """

    design: "scipy.sparse.csr_array"
    distances: np.ndarray
    deviations: np.ndarray


def curve_weights(places: np.ndarray, roundness: np.ndarray, handled: bool = False) -> "scipy.sparse.csr_array":
    """(m, N) sparse: by how much each of the points of a closed outline moves places (m,) along it, as `outline.flattened` gives them.

    Parameters
    ----------
    roundness : (N,) of the points; tangents of round ones are taken as by even spacing (E. Catmull and R. Rom, A class of local interpolating splines,
        1974).
    handled : whether the points have handles, which go with them.
    """
    count = len(roundness)
    k = np.floor(places).astype(int) % count
    t = places - np.floor(places)
    b0, b1, b2, b3 = (1 - t) ** 3, 3 * (1 - t) ** 2 * t, 3 * (1 - t) * t ** 2, t ** 3
    tangent = np.zeros(count) if handled else np.asarray(roundness, float) / 6
    first, last = b1 * tangent[k], b2 * tangent[(k + 1) % count]
    columns = np.stack([k - 1, k, k + 1, k + 2], axis=1) % count
    values = np.stack([-first, b0 + b1 + last, b2 + b3 + first, -last], axis=1)
    return scipy.sparse.csr_array((values.ravel(), (np.repeat(np.arange(len(places)), 4), columns.ravel())), (len(places), count))


def smoothed(base: np.ndarray, times: np.ndarray, fixed: np.ndarray, measured: Mapping[int, Measurement], corners: Sequence[int],
                 prior: OutlinePrior = OutlinePrior(), rounds: int = 4, smeared: np.ndarray | None = None,
             moved: np.ndarray | None = None) -> tuple[np.ndarray, np.ndarray]:
    """The points of an outline on all frames, and how sure they are.

    Parameters
    ----------
    base : (T, N, 2) where keys say that the points are, in the surface's picture.
    times : (T,) frames, increasing.
    fixed : (T,) frames on which they are known to be right.
    measured : frame's number 0..T-1 to what was found there.
    corners : numbers of points that are corners.
    rounds : of reweighting what does not fit; two are enough where more is measured afterwards.
    smeared : (T,) bool, frames that the shutter smears; all by default.
    moved : (T, N, 2) where the figure's motion as a whole takes them: it is beside that that they change slowly. None where its surface moves it.

    Returns
    -------
    (T, N, 2) points and (T, N) standard deviations across the outline, pixels; along it little is known.
    """
    frames, count = base.shape[:2]
    points, spread = base.copy(), np.zeros((frames, count))
    free = np.flatnonzero(~fixed)
    if not len(free):
        return points, spread
    where = (free[:, None] * 2 * count + np.arange(2 * count)).ravel()
    terms = _Prior(base, times, corners, prior, np.ones(frames, bool) if smeared is None else smeared, np.zeros_like(base) if moved is None else moved)
    design, value, deviation = _stacked({k: m for k, m in measured.items() if not fixed[k]}, frames, count)
    own = design[:, where]
    weight, robust, scale = deviation ** -2.0, np.full((max(frames - 2, 0), count), _AT_FIRST), prior.acceleration
    for _ in range(rounds):
        matrix, right = terms.system(points, robust / scale ** 2)
        normal = matrix[where][:, where] + own.T @ (scipy.sparse.diags_array(weight) @ own)
        solved = scipy.sparse.linalg.splu(normal.tocsc(), permc_spec="MMD_AT_PLUS_A", diag_pivot_thresh=0.0, options={"SymmetricMode": True})
        now = (points - base).ravel()
        now[where] += solved.solve(right[where] + own.T @ (weight * (value - design @ now)))
        points = base + now.reshape(base.shape)
        left = np.abs(value - design @ now) / deviation
        weight = np.minimum(1, _HUBER / np.maximum(left, 1e-9)) / deviation ** 2
        robust, scale = terms.reweighted(points, scale, solved, where)
    normals = np.array([outwards(p) for p in points[free]])
    spread[free] = np.sqrt(_variances_along(solved, normals))
    return points, spread


def _variances_along(solved: "scipy.sparse.linalg.SuperLU", directions: np.ndarray) -> np.ndarray:
    """(T, N) about the variances of points along unit directions (T, N, 2), given their normal equations factorised: by random signs (C. Bekas,
    E. Kokiopoulou and Y. Saad, An estimator for the diagonal of a matrix, 2007)."""
    signs = np.random.default_rng(0).choice([-1.0, 1.0], (directions.size, _SIGNS))
    shape = (*directions.shape, _SIGNS)
    signs, answers = signs.reshape(shape), solved.solve(signs).reshape(shape)
    covariance = np.einsum("tnak,tnbk->tnab", signs, answers) / _SIGNS
    rough = np.einsum("tna,tnab,tnb->tn", directions, covariance, directions)
    return np.asarray(np.maximum(scipy.ndimage.gaussian_filter(rough, _AVERAGED, mode=("nearest", "wrap")), 0))


def _stacked(measured: Mapping[int, Measurement], frames: int, count: int) -> "tuple[scipy.sparse.csr_array, np.ndarray, np.ndarray]":
    """All measurements as rows over the moves (2 T N,) of all points: (m, 2 T N) sparse, (m,) values, (m,) deviations."""
    parts, values, deviations = [scipy.sparse.csr_array((0, 2 * frames * count))], [np.zeros(0)], [np.zeros(0)]
    for frame, m in measured.items():
        own = m.design.tocoo()
        parts.append(scipy.sparse.csr_array((own.data, (own.coords[0], 2 * frame * count + own.coords[1])), (len(m.distances), 2 * frames * count)))
        values.append(m.distances)
        deviations.append(m.deviations)
    return scipy.sparse.vstack(parts).tocsr(), np.concatenate(values), np.concatenate(deviations)


class _Prior:
    """The prior of the moves of all points, as normal equations."""

    def __init__(self, base: np.ndarray, times: np.ndarray, corners: Sequence[int], prior: OutlinePrior, smeared: np.ndarray, moved: np.ndarray) -> None:
        frames, count = base.shape[:2]
        self._base, self._frames, self._count, self._prior, self._moved = base, frames, count, prior, moved
        step = np.diff(times).astype(float)
        speeds = _differences(frames, 1 / step)
        self._speeds = scipy.sparse.kron(scipy.sparse.diags_array(np.sqrt(step) / prior.speed) @ speeds, scipy.sparse.eye_array(count))
        if frames > 2:
            span = (step[1:] + step[:-1]) / 2  # of integrated white noise the change of speed varies with the time between
            change = scipy.sparse.diags_array(1 / np.sqrt(span)) @ _differences(frames - 1, np.ones(frames - 2)) @ speeds
            self._changes = scipy.sparse.kron(change, scipy.sparse.eye_array(count)).tocsr()
        second = _second_differences(base[frames // 2], corners) * prior.length ** 2
        self._together = scipy.sparse.eye_array(count) + second.T @ second
        bending = np.where(smeared, prior.bending, prior.sharp_bending)
        bent = [_second_differences(outline, corners) / each for outline, each in zip(base, bending, strict=True)]
        self._still = scipy.sparse.block_diag([b.T @ b + scipy.sparse.eye_array(count) / prior.stray ** 2 for b in bent])
        self._slow = self._speeds.T @ scipy.sparse.kron(scipy.sparse.eye_array(frames - 1), self._together) @ self._speeds

    def reweighted(self, points: np.ndarray, scale: float, solved: "scipy.sparse.linalg.SuperLU", where: np.ndarray) -> tuple[np.ndarray, float]:
        """(T - 2, N) robust weights of the accelerations of points (T, N, 2), at most 1; and the accelerations' standard deviation.

        The latter is one step of expectation and maximization (R. Shumway and D. Stoffer, An approach to time series smoothing and forecasting using the
        EM algorithm, 1982).

        Parameters
        ----------
        scale : the standard deviation as it was taken to be.
        solved, where : the normal equations of the coordinates that are free, factorised, and which those are.
        """
        if self._frames < 3:
            return np.ones((0, self._count)), scale
        now = self._changes @ (points - self._moved).reshape(-1, 2)
        robust = np.asarray(1 / (1 + (now ** 2).mean(1) / (_CAUCHY * scale) ** 2))
        both = scipy.sparse.kron(self._changes, scipy.sparse.eye_array(2)).tocsr()[:, where]
        signs = np.random.default_rng(0).choice([-1.0, 1.0], (both.shape[0], _TRACED))
        unsure = (signs * (both @ solved.solve(both.T @ signs))).mean(1).reshape(-1, 2).mean(1)
        square = robust @ ((now ** 2).mean(1) + unsure) / robust.sum()
        return robust.reshape(self._frames - 2, self._count), float(np.clip(np.sqrt(square), self._prior.acceleration, _MOST_ACCELERATION))

    def system(self, points: np.ndarray, weight: np.ndarray) -> "tuple[scipy.sparse.csr_array, np.ndarray]":
        """The normal equations (2 T N, 2 T N) and (2 T N,) of a step from points (T, N, 2), with accelerations that weigh `weight` (T - 2, N)."""
        in_time = self._slow
        if self._frames > 2:
            scaled = scipy.sparse.diags_array(np.sqrt(weight).ravel()) @ self._changes
            in_time = in_time + scaled.T @ scipy.sparse.kron(scipy.sparse.eye_array(self._frames - 2), self._together) @ scaled
        both = scipy.sparse.eye_array(2)
        right = -(in_time @ (points - self._moved).reshape(-1, 2) + self._still @ (points - self._base).reshape(-1, 2)).ravel()
        return scipy.sparse.kron(in_time + self._still, both).tocsr(), right


def _differences(count: int, scale: np.ndarray) -> "scipy.sparse.csr_array":
    """(count - 1, count) sparse: differences between one and the next, times `scale` (count - 1,)."""
    return scipy.sparse.diags_array([-scale, scale], offsets=[0, 1], shape=(count - 1, count)).tocsr()


def _second_differences(outline: np.ndarray, corners: Sequence[int]) -> "scipy.sparse.csr_array":
    """(N, N) sparse: second derivatives along a closed outline (N, 2) of what its points have, per pixel and pixel; little at corners."""
    count = len(outline)
    length = np.maximum(np.linalg.norm(np.roll(outline, -1, 0) - outline, axis=1), _LEAST_STEP)
    weights = ((length + np.roll(length, 1)) / 2) ** -2
    weights[list(corners)] *= _AT_CORNER
    index = np.arange(count)
    return scipy.sparse.csr_array((np.concatenate([-2 * weights, weights, weights]),
                                   (np.tile(index, 3), np.concatenate([index, (index - 1) % count, (index + 1) % count]))), (count, count))
