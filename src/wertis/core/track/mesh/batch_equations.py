"""All frames of a bending surface aligned together, once each has been aligned by itself.

One frame's grain moves the spots that have little texture; the grain of the reference frame moves them alike on all frames. Over many frames both can
be told from motion: the surface's trajectories have few dimensions (`trajectory_prior`), all pass through the reference frame, and what moves all
frames but that one is its own grain. The photometric equations of all frames, linearised where each frame was aligned, are solved together with that
prior by preconditioned conjugate gradients: W. Hager and H. Zhang, A survey of nonlinear conjugate gradient methods, Pacific J. Optimization 2, 2006,
for the method's background; Y. Saad, Iterative methods for sparse linear systems, 2nd edition, 2003, section 9.2, for the algorithm.
"""

import ctypes
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import scipy

from wertis.core import compiled
from wertis.core.compiled import address
from wertis.core.geometry.bspline import DIFFERENCES, Lattice, NormalEquations, difference, difference_matrix
from wertis.core.imaging.parallel import in_halves
from wertis.core.phases import tell
from wertis.core.track.mesh.alignment import MeshAlignment
from wertis.core.track.mesh.equations import measured_variance
from wertis.core.track.mesh.observation import Observation
from wertis.core.track.mesh.reference import MeshTiles
from wertis.core.track.mesh.settings import BATCH, BENDING, PHOTOMETRY, PREDICTION, UNCERTAINTY
from wertis.core.track.mesh.trajectory_prior import TrajectoryPrior

ReferenceMeasure = tuple[np.ndarray, np.ndarray, np.ndarray]
"""What the reference frame shows of a level when it is compared with a mean of frames: numbers (m,) among the level's usable tiles, information (m, 3)
and pull (m, 2)."""

_SOLVED = 1e-22  # of the residual's square in the beginning, from which there is nothing left to solve
_MOST_COMPILED = 1024  # frames, as in compiled/terms.c
_WORTH_TWO = 8  # frames each, from which two threads are quicker than one
_REFERENCE_SHARE = 0.5  # of the variance of a frame's alignment: the reference frame's grain is as large as the frame's


@dataclass(frozen=True)
class _Term:
    """Squares of linear functions of each frame's control points: `rows` (m, control points), with weights (m, T, 3) of xx, xy, yy, or (m, T) that are
    the same for both coordinates."""

    rows: "scipy.sparse.csr_array"
    weights: np.ndarray

    def add_product(self, values: np.ndarray, out: np.ndarray) -> None:
        """Add the term's normal equations times control values (control points, T, 2) to `out`, of the same shape."""
        frames = values.shape[1]
        if compiled.LIBRARY is None or frames > _MOST_COMPILED:
            out += self.plain_product(values)
            return
        d, i = np.float64, np.int64
        begin, index = (np.ascontiguousarray(a, i) for a in (self.rows.indptr, self.rows.indices))
        values, weights, step = np.ascontiguousarray(values, d), self.weights, self.weights.shape[2] if self.weights.ndim == 3 else 1
        matrix = address(begin, i), address(index, i), address(self.rows.data, d), compiled.long(self.rows.shape[0])
        first = address(weights, d).value or 0
        xx, xy, yy = (ctypes.c_void_p(first + 8 * k) for k in ((0, 1, 2) if step == 3 else (0, 0, 0)))
        last = xx, xy if step == 3 else None, yy, compiled.long(step), address(values, d), address(out, d)
        run = compiled.LIBRARY.term_product
        in_halves(lambda span: run(*matrix, compiled.long(frames), span.start, span.stop, *last), frames, _WORTH_TWO)

    def plain_product(self, values: np.ndarray) -> np.ndarray:
        """`add_product` with SciPy: (control points, T, 2)."""
        count, frames, _ = values.shape
        at = (self.rows @ values.reshape(count, -1)).reshape(-1, frames, 2)
        if self.weights.ndim == 2:
            at = at * self.weights[..., None]
        else:
            x, y, (xx, xy, yy) = at[..., 0], at[..., 1], np.moveaxis(self.weights, -1, 0)
            at = np.stack([xx * x + xy * y, xy * x + yy * y], axis=-1)
        return np.asarray(self.rows.T @ at.reshape(len(at), -1)).reshape(values.shape)


class BatchEquations:
    """The equations of all control points on T frames, and of the apparent displacement that the reference frame's grain causes on all of them.

    Arrays of control values are (control points, T, 2); the reference's displacement is (control points, 1, 2).

    Parameters
    ----------
    alignment : whose templates the frames were compared with.
    observed : what each frame shows.
    prior : on the trajectories over those frames.
    offset : (rows, columns, 2) the apparent displacement, where that is known.
    reference : level to what the reference frame shows; none where it is the template itself.
    """

    def __init__(self, alignment: MeshAlignment, observed: Sequence[Observation], prior: TrajectoryPrior, offset: np.ndarray | None,
                 reference: Mapping[int, ReferenceMeasure] | None = None) -> None:
        self.lattice, self.prior, self._known_offset = alignment.lattice, prior, offset
        self.frames = len(observed)
        self._photometric: list[_Term] = []
        self._of_offset: list[_Term] = []  # those averaged over the frames
        pulls = np.zeros((self.lattice.rows * self.lattice.columns, self.frames, 2))
        pull_of_reference = np.zeros((len(pulls), 1, 2))
        mean = NormalEquations(self.lattice, max(max(o.orders) for o in observed))
        of_reference = NormalEquations(self.lattice)
        for level in sorted({level for o in observed for level in o.measures}):
            tiles = alignment.templates.tiles(level)
            # a frame's own grain is only part of what its equations count, so that its pixels say more of surface and reference together
            share = _share(tiles.part(tiles.usable), alignment.grain)[:, None, None]
            basis = alignment.tile_basis(tiles, self.lattice)
            none = np.zeros((len(tiles.usable), 3), np.float32), np.zeros((len(tiles.usable), 2), np.float32)
            measures = [o.measures.get(level, none) for o in observed]
            information = share * np.stack([m[0] for m in measures], axis=1).astype(np.float64)  # (n, T, 3)
            pull = share * np.stack([m[1] for m in measures], axis=1).astype(np.float64)
            term = _Term(basis.T.tocsr(), np.ascontiguousarray(information))
            self._photometric.append(term)
            usual = information.mean(1)
            if reference is not None and level in reference:
                usual, pull_there = _with_reference(usual, reference[level])
                pull_of_reference += np.asarray(basis @ pull_there).reshape(pull_of_reference.shape)
            self._of_offset.append(replace(term, weights=np.ascontiguousarray(usual[:, None])))
            pulls += np.asarray(basis @ pull.reshape(len(pull), -1)).reshape(pulls.shape)
            centres = tiles.centre[tiles.usable]
            for system, known in ((mean, information.mean(1)), (of_reference, usual)):
                system.add_places(centres, known, np.zeros((len(pull), 2)))
        self._bending = [term for order in sorted({order for o in observed for order in o.orders}) for term in self._bending_of(order, observed, mean)]
        identity = self.lattice.identity
        begun = _by_point(np.array([o.linearised_at - identity for o in observed]))
        bent = _by_point(np.broadcast_to(identity, (self.frames, *identity.shape)))
        own = _by_point(prior.affine)
        measured = self._measured(begun) + pulls
        # what is hidden stays about where it was found: neither its neighbours' bending nor other frames say how it folds
        self._hidden = PREDICTION.damping_occluded * np.stack([o.hidden.ravel() for o in observed], axis=1)[..., None]
        mean.add_diagonal(self._hidden.mean((1, 2)).reshape(self.lattice.shape))
        found = _by_point(np.array([o.values for o in observed]) - identity)
        self.right = measured - self._measured(own) - self._bent(own + bent) + self._hidden * (found - own)
        self.right_offset = (measured - self._measured(own)).sum(1, keepdims=True) + pull_of_reference
        self._spread = prior.variances[None, :] + prior.deviations.reshape(-1, 1)  # (control points, T) of each mode
        self._mean = mean
        self._factorise(mean, of_reference)

    def deviations(self, points: np.ndarray) -> np.ndarray:
        """(n,) pixels, of the map at points (n, 2), that a frame like the mean of all leaves by itself."""
        system = self._mean.copy()
        system.add_diagonal(np.full(self.lattice.shape, PREDICTION.damping))
        system.factorise()
        return np.asarray(np.sqrt(np.trace(system.covariance(points), axis1=1, axis2=2)))

    def _bending_of(self, order: int, observed: Sequence[Observation], mean: NormalEquations) -> Iterator[_Term]:
        """The terms of an order of differences, weighted by Student's t about what was found; their mean goes into a system too.

        Each kind of difference is expected to be as large as it is where it is measured, over all frames: waves often run one way, and some kinds of
        differences are then twenty times as small as others.
        """
        shares = np.stack([np.stack([o.known, o.hidden], axis=-1) for o in observed], axis=2)  # (rows, columns, T, 2), as the values
        values, freedom = np.stack([o.values for o in observed], axis=2), BENDING.degrees_of_freedom
        scale = float(np.mean([o.scale ** 2 for o in observed]))
        part = np.array([o.orders.get(order, 0.0) for o in observed])
        for kernel, count in DIFFERENCES[order]:
            matrix = difference_matrix(self.lattice, kernel)
            bending = (difference(values, kernel) ** 2).sum(-1)  # (rows, columns, T) of differences
            seen, hidden = np.moveaxis(difference(shares, np.abs(kernel) / np.abs(kernel).sum()), -1, 0)
            if observed[0].fixed:
                weights = np.where(part > 0, count / scale, 0) * np.ones_like(bending)
            else:
                variance = measured_variance(bending, seen) or scale
                usual = (freedom + 2) / (freedom * variance)
                student = (freedom + 2) / (freedom * variance + bending)
                weights = BATCH.bending_share * part * (seen * student + (1 - seen) * usual) * (1 - 0.999 * hidden)
            mean.add_difference(kernel, weights.mean(-1))
            yield _Term(matrix, np.ascontiguousarray(weights.reshape(-1, self.frames)))

    def _measured(self, values: np.ndarray) -> np.ndarray:
        return _product(self._photometric, values)

    def _bent(self, values: np.ndarray) -> np.ndarray:
        return _product(self._bending, values)

    def _of_trajectories(self, values: np.ndarray) -> np.ndarray:
        """The trajectory prior's normal equations times control values."""
        return np.asarray(self.prior.modes @ ((self.prior.modes.T @ values) / self._spread[..., None]))

    def _applied(self, values: np.ndarray, offset: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        measured = self._measured(values + offset)
        at_offset = measured.sum(1, keepdims=True) + _product(self._of_offset, offset)
        return measured + self._bent(values) + self._hidden * values + self._of_trajectories(values), at_offset + BATCH.reference_damping * offset

    def _factorise(self, mean: NormalEquations, of_reference: NormalEquations) -> None:
        """Ready the preconditioner: each mode by itself, with the equations of all frames averaged."""
        rows, columns = self.lattice.shape
        kind = np.round(2 * np.log2(self.prior.variances + BATCH.alike)).astype(int)
        self._alike = [np.flatnonzero(kind == k) for k in np.unique(kind)]
        self._systems = []
        for modes in self._alike:
            system = mean.copy()
            system.add_diagonal((1 / self._spread[:, modes]).mean(1).reshape(rows, columns))
            system.factorise(np.float32)  # near enough for a preconditioner
            self._systems.append(system)
        of_reference.bands *= self.frames + 1
        of_reference.add_diagonal(np.full((rows, columns), BATCH.reference_damping))
        of_reference.factorise()
        self._of_reference = of_reference

    def _preconditioned(self, values: np.ndarray, offset: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        shape = self.lattice.shape
        parts = self.prior.modes.T @ values
        for modes, system in zip(self._alike, self._systems, strict=True):
            part = parts[:, modes]
            parts[:, modes] = system.solved_for_each(part.reshape(*shape, -1, 2)).reshape(part.shape)
        if self._known_offset is not None:
            return self.prior.modes @ parts, np.zeros_like(offset)
        return self.prior.modes @ parts, self._of_reference.solved_for_each(offset.reshape(*shape, 1, 2)).reshape(offset.shape)

    def solve(self, values: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """(T, rows, columns, 2) displacements of all frames, and (rows, columns, 2) the apparent one by the reference's grain.

        Parameters
        ----------
        values : (T, rows, columns, 2) displacements to begin from.

        Raises
        ------
        numpy.linalg.LinAlgError
            When the frames do not determine them.
        """
        x = _by_point(values - self.prior.affine)
        e = np.zeros((len(x), 1, 2)) if self._known_offset is None else self._known_offset.reshape(-1, 1, 2)
        applied, at_offset = self._applied(x, e)
        left, left_offset = self.right - applied, self.right_offset - at_offset
        z, ze = self._preconditioned(left, left_offset)
        p, pe = z, ze
        size = first = _dot(left, z) + _dot(left_offset, ze)
        for number in range(BATCH.steps):
            tell("aligning all frames together", number, BATCH.steps)
            if not size > _SOLVED * first:  # as where no frame differs from the reference frame
                break
            applied, at_offset = self._applied(p, pe)
            step = size / (_dot(p, applied) + _dot(pe, at_offset))
            x, e = x + step * p, e + step * pe
            left, left_offset = left - step * applied, left_offset - step * at_offset
            z, ze = self._preconditioned(left, left_offset)
            after = _dot(left, z) + _dot(left_offset, ze)
            p, pe, size = z + after / size * p, ze + after / size * pe, after
        if not np.isfinite(x).all():
            raise np.linalg.LinAlgError("the frames together are not determined")
        rows, columns = self.lattice.shape
        return x.transpose(1, 0, 2).reshape(self.frames, rows, columns, 2) + self.prior.affine, e.reshape(rows, columns, 2)


def _product(terms: Sequence[_Term], values: np.ndarray) -> np.ndarray:
    """(control points, T, 2) the normal equations of terms times control values of the same shape."""
    out = np.zeros(values.shape)
    for term in terms:
        term.add_product(values, out)
    return out


def _share(tiles: MeshTiles, grain: float) -> np.ndarray:
    """(n,) how many times as much information tiles give when their template's grain is an unknown of the equations, and no longer part of the noise."""
    other = 2 * PHOTOMETRY.interpolation_variance + PHOTOMETRY.model_error * tiles.energy
    return np.asarray(1 + grain * tiles.grain_share / (grain + other))


def _with_reference(usual: np.ndarray, measure: ReferenceMeasure) -> tuple[np.ndarray, np.ndarray]:
    """What the reference frame says (n, 3) and (n, 2): as much as other frames do on the mean, `usual` (n, 3), by its own structure and pull."""
    part, information, pull = measure
    usual, pulls = usual.copy(), np.zeros((len(usual), 2))
    as_much = ((usual[part, 0] + usual[part, 2]) / np.maximum(information[:, 0] + information[:, 2], 1e-9))[:, None]
    usual[part], pulls[part] = as_much * information, as_much * pull
    return usual, pulls


def _dot(a: np.ndarray, b: np.ndarray) -> float:
    return float(np.vdot(a, b))


def _by_point(values: np.ndarray) -> np.ndarray:
    """(control points, T, 2) of (T, rows, columns, 2)."""
    return np.ascontiguousarray(values.reshape(len(values), -1, 2).transpose(1, 0, 2))


def map_basis(lattice: Lattice, points: np.ndarray) -> "scipy.sparse.csr_array":
    """(N, control points) of a lattice's map at points (N, 2)."""
    index, weights = lattice.local_basis(points)
    rows = np.repeat(np.arange(len(index)), index.shape[1])
    return scipy.sparse.csr_array((weights.ravel(), (rows, index.ravel())), shape=(len(points), lattice.rows * lattice.columns))


def displaced(basis: "scipy.sparse.csr_array", values: np.ndarray) -> np.ndarray:
    """(V, T, 2) displacements by a map's `basis` (V, control points), of control values' displacements (T, rows, columns, 2)."""
    return np.asarray(basis @ _by_point(values).reshape(basis.shape[1], -1)).reshape(basis.shape[0], len(values), 2)


def joint_errors(errors: np.ndarray, measured: np.ndarray, prior: TrajectoryPrior, deviations: np.ndarray) -> np.ndarray:
    """(T, V) expected errors of vertices once all frames were aligned together, in pixels.

    A vertex' trajectory, of the prior's modes and a deviation of its own, is seen through white grain and one displacement that is the reference
    frame's: the posterior variance of a linear Gaussian model (C. Bishop, Pattern Recognition and Machine Learning, 2006, section 3.3).

    Parameters
    ----------
    errors : (T, V) pixels, that each frame by itself left.
    measured : (T, V) whether a vertex was; the error of one that was not stays.
    deviations : (V,) square pixels.
    """
    count = measured.sum(0)
    variance = np.where(measured, np.maximum(errors, UNCERTAINTY.least) ** 2, 0).sum(0) / np.maximum(count, 1) + UNCERTAINTY.least ** 2 * (count == 0)
    grain = (1 - _REFERENCE_SHARE) * variance
    spread = prior.variances[:, None] + deviations[None]  # (T, V)
    kept = spread / (spread + grain)
    total = prior.modes.sum(0)[:, None]
    of_reference = 1 / (1 / (_REFERENCE_SHARE * variance) + (total ** 2 / (spread + grain)).sum(0))
    whole = prior.modes ** 2 @ (kept * grain) + (prior.modes @ (total * kept)) ** 2 * of_reference
    share = np.minimum(np.hypot(np.sqrt(whole / variance), BATCH.model_error), 1)
    return np.where(measured, np.maximum(share * errors, np.minimum(UNCERTAINTY.least, errors)), errors)
