"""All frames of a bending surface aligned together, once each has been aligned by itself.

One frame's grain moves the spots that have little texture; the grain of the reference frame moves them alike on all frames. Over many frames both can
be told from motion: the surface's trajectories have few dimensions (`trajectory_prior`), all pass through the reference frame, and what moves all
frames but that one is its own grain. The photometric equations of all frames, linearised where each frame was aligned, are solved together with that
prior by preconditioned conjugate gradients: W. Hager and H. Zhang, A survey of nonlinear conjugate gradient methods, Pacific J. Optimization 2, 2006,
for the method's background; Y. Saad, Iterative methods for sparse linear systems, 2nd edition, 2003, section 9.2, for the algorithm.
"""

import logging
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
import scipy

from wertis.core.geometry.bspline import DIFFERENCES, Lattice, NormalEquations, difference, difference_matrix, evaluate
from wertis.core.geometry.conventions import to_centred
from wertis.core.geometry.mesh import MeshFix
from wertis.core.phases import tell
from wertis.core.track.mesh.alignment import FineEquations, MeshAlignment
from wertis.core.track.mesh.settings import BATCH, BENDING, PREDICTION, UNCERTAINTY
from wertis.core.track.mesh.tracker import MeshTracker
from wertis.core.track.mesh.trajectory_prior import TrajectoryPrior, learned_prior

_log = logging.getLogger(__name__)
_SOLVED = 1e-22  # of the residual's square in the beginning, from which there is nothing left to solve
_REFERENCE_SHARE = 0.5  # of the variance of a frame's alignment: the reference frame's grain is as large as the frame's


@dataclass(frozen=True)
class Observation:
    """What one frame's pixels say of the surface, and what is expected of its bending.

    Attributes
    ----------
    values, linearised_at : (rows, columns, 2) control values that were found, and those at which the equations are linearised.
    known, hidden : (rows, columns) 0..1 how far each control point is measured, and how far its texture is hidden.
    measures : level to the information (n, 3) and pull (n, 2) of its usable tiles, float32.
    orders, scale, fixed : as `SurfacePrior` has them.
    """

    values: np.ndarray
    linearised_at: np.ndarray
    known: np.ndarray
    hidden: np.ndarray
    measures: dict[int, tuple[np.ndarray, np.ndarray]]
    orders: dict[int, float]
    scale: float
    fixed: bool


def observation(alignment: MeshAlignment, fine: FineEquations, values: np.ndarray) -> Observation:
    """What a frame's last equations say, with the control values (rows, columns, 2) that they led to."""
    measures = {0: (fine.look.information.astype(np.float32), fine.look.pull.astype(np.float32))}
    for coarser in fine.coarser:
        count = len(alignment.reference.tiles(coarser.level).usable)
        information, pull = np.zeros((count, 3), np.float32), np.zeros((count, 2), np.float32)
        information[coarser.part], pull[coarser.part] = coarser.information, coarser.pull
        measures[coarser.level] = information, pull
    known, hidden = alignment.known(fine.look), alignment.occlusion(fine.look)
    return Observation(values, fine.linearised_at, known, hidden, measures, fine.orders, fine.scale, alignment.fixed_bending_scale is not None)


@dataclass(frozen=True)
class _Term:
    """Squares of linear functions of each frame's control points: `rows` (m, control points), with weights (m, T) of both coordinates; `cross` those
    of their product."""

    rows: "scipy.sparse.csr_array"
    columns: "scipy.sparse.csr_array"  # the transpose
    weight_x: np.ndarray
    weight_y: np.ndarray
    cross: np.ndarray | None

    def applied(self, values: np.ndarray) -> np.ndarray:
        """(control points, T, 2) the term's normal equations times control values of the same shape."""
        count, frames, _ = values.shape
        at = (self.rows @ values.reshape(count, -1)).reshape(-1, frames, 2)
        x, y = at[..., 0], at[..., 1]
        pulls = np.empty_like(at)
        pulls[..., 0], pulls[..., 1] = self.weight_x * x, self.weight_y * y
        if self.cross is not None:
            pulls[..., 0] += self.cross * y
            pulls[..., 1] += self.cross * x
        return np.asarray(self.columns @ pulls.reshape(len(at), -1)).reshape(values.shape)


class BatchEquations:
    """The equations of all control points on T frames, and of the apparent displacement that the reference frame's grain causes on all of them.

    Arrays of control values are (control points, T, 2); the reference's displacement is (control points, 1, 2).
    """

    def __init__(self, alignment: MeshAlignment, observed: Sequence[Observation], prior: TrajectoryPrior, offset: np.ndarray | None) -> None:
        self.lattice, self.prior, self._known_offset = alignment.lattice, prior, offset
        self.frames = len(observed)
        self._photometric: list[_Term] = []
        self._of_offset: list[_Term] = []  # those averaged over the frames
        pulls = np.zeros((self.lattice.rows * self.lattice.columns, self.frames, 2))
        # each frame's own grain is half of what its equations count, so that its pixels say twice as much of surface and reference together
        share = 1 / (1 - _REFERENCE_SHARE)
        mean = NormalEquations(self.lattice, max(max(o.orders) for o in observed))
        of_reference = NormalEquations(self.lattice)
        for level in sorted({level for o in observed for level in o.measures}):
            tiles = alignment.reference.tiles(level)
            basis = alignment.tile_basis(tiles, self.lattice)
            none = np.zeros((len(tiles.usable), 3), np.float32), np.zeros((len(tiles.usable), 2), np.float32)
            measures = [o.measures.get(level, none) for o in observed]
            information = share * np.stack([m[0] for m in measures], axis=1).astype(np.float64)  # (n, T, 3)
            pull = share * np.stack([m[1] for m in measures], axis=1).astype(np.float64)
            term = _Term(basis.T.tocsr(), basis, information[..., 0], information[..., 2], information[..., 1])
            self._photometric.append(term)
            self._of_offset.append(replace(term, **{k: getattr(term, k).mean(1, keepdims=True) for k in ("weight_x", "weight_y", "cross")}))
            pulls += np.asarray(basis @ pull.reshape(len(pull), -1)).reshape(pulls.shape)
            centres = tiles.centre[tiles.usable]
            for system in (mean, of_reference):
                system.add_places(centres, information.mean(1), np.zeros((len(pull), 2)))
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
        self.right_offset = (measured - self._measured(own)).sum(1, keepdims=True)
        self._spread = prior.variances[None, :] + prior.deviations.reshape(-1, 1)  # (control points, T) of each mode
        self._factorise(mean, of_reference)

    def _bending_of(self, order: int, observed: Sequence[Observation], mean: NormalEquations) -> Iterator[_Term]:
        """The terms of an order of differences, weighted by Student's t about what was found; their mean goes into a system too."""
        for kernel, count in DIFFERENCES[order]:
            matrix = difference_matrix(self.lattice, kernel)
            weights = []
            for o in observed:
                bending = difference(o.values, kernel)
                seen, hidden = np.moveaxis(difference(np.stack([o.known, o.hidden], axis=-1), np.abs(kernel) / np.abs(kernel).sum()), -1, 0)
                if o.fixed:
                    weight = np.full(bending.shape[:2], count / o.scale ** 2)
                else:
                    freedom = BENDING.degrees_of_freedom
                    usual = (freedom + 2) / (freedom * o.scale ** 2)
                    student = (freedom + 2) / (freedom * o.scale ** 2 + (bending ** 2).sum(-1))
                    weight = count * (seen * student + (1 - seen) * usual) * (1 - 0.999 * hidden)
                    weight *= o.orders.get(order, 0.0)
                weights.append(weight if order in o.orders else np.zeros_like(weight))
            mean.add_difference(kernel, np.mean(weights, axis=0))
            each = np.stack([w.ravel() for w in weights], axis=1)
            yield _Term(matrix, matrix.T.tocsr(), each, each, None)

    def _measured(self, values: np.ndarray) -> np.ndarray:
        return sum((t.applied(values) for t in self._photometric), np.zeros_like(values))

    def _bent(self, values: np.ndarray) -> np.ndarray:
        return sum((t.applied(values) for t in self._bending), np.zeros_like(values))

    def _of_trajectories(self, values: np.ndarray) -> np.ndarray:
        """The trajectory prior's normal equations times control values."""
        return np.asarray(self.prior.modes @ ((self.prior.modes.T @ values) / self._spread[..., None]))

    def _applied(self, values: np.ndarray, offset: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        measured = self._measured(values + offset)
        at_offset = measured.sum(1, keepdims=True) + sum(t.applied(offset) for t in self._of_offset)
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
            system.factorise()
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
        rows, columns = self.lattice.shape
        return x.transpose(1, 0, 2).reshape(self.frames, rows, columns, 2) + self.prior.affine, e.reshape(rows, columns, 2)


def _dot(a: np.ndarray, b: np.ndarray) -> float:
    return float(np.vdot(a, b))


def _by_point(values: np.ndarray) -> np.ndarray:
    """(control points, T, 2) of (T, rows, columns, 2)."""
    return np.ascontiguousarray(values.reshape(len(values), -1, 2).transpose(1, 0, 2))


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


class BatchRefinement:
    """Remembers what the frames of a mesh tracker show, in one direction or two, and aligns all of them together.

    Memory stays bounded: when so many frames have come that the block is full they are aligned, and all but the last ones are let go.
    """

    def __init__(self) -> None:
        self._observed: dict[int, Observation] = {}
        self._fixes: dict[int, MeshFix] = {}
        self._tracker: MeshTracker | None = None
        self._offset: np.ndarray | None = None
        self._scale = 1.0

    def keep(self, frame: int, fix: MeshFix, tracker: MeshTracker, scale: float = 1.0) -> None:
        """Remember a frame's answer, while the tracker's equations are that frame's.

        Parameters
        ----------
        scale : the tracker's pixels for one of the answer's.
        """
        if fix.places is None:
            return
        self._tracker, self._scale = tracker, scale
        self._observed[frame], self._fixes[frame] = observation(tracker.alignment, tracker.alignment.fine, tracker.values), fix

    def better(self, frame: int, fix: MeshFix) -> None:
        """A frame's answer has become another one, while the tracker's equations are those of its second look."""
        before = self._fixes.get(frame)
        self._fixes[frame] = fix
        tracker = self._tracker
        if tracker is None or fix.places is None:
            return
        again = observation(tracker.alignment, tracker.alignment.fine, tracker.values)
        if before is None or self._near(again, fix).sum() > self._near(self._observed[frame], fix).sum():
            self._observed[frame] = again

    def _near(self, seen: Observation, fix: MeshFix) -> np.ndarray:
        """(V,) whether each vertex lies where an observation has it, so that its equations are about that place."""
        assert self._tracker is not None and fix.places is not None
        there = evaluate(self._tracker.lattice, seen.values, self._tracker.vertices)[0]
        return np.asarray(np.linalg.norm(there - to_centred(fix.places * self._scale), axis=1) < BATCH.same_place)

    @property
    def full(self) -> bool:
        """Whether a block of frames is due."""
        return len(self._observed) >= self._most

    @property
    def _most(self) -> int:
        """Frames of a block: fewer of a surface with many tiles, so that memory is bounded."""
        tiles = len(self._tracker.reference.tiles(0)) if self._tracker is not None else 1
        return int(np.clip(BATCH.most_tiles / max(tiles, 1), 2 * BATCH.least_frames, BATCH.most_frames))

    def answers(self, last: bool = True) -> Iterator[tuple[int, MeshFix]]:
        """Better answers for the frames that are remembered, which are let go, all but those that the next block begins with unless this is the `last`."""
        frames = self._mostly_measured()
        if len(frames) >= BATCH.least_frames and self._tracker is not None:
            try:
                better = list(self._refined(frames, self._tracker))
            except np.linalg.LinAlgError:  # each frame's own answer stands
                _log.warning("frames %d to %d of a mesh cannot be aligned together: their equations determine nothing", frames[0], frames[-1])
                better = []
            yield from better
        kept = [] if last else list(self._observed)[-(self._most // BATCH.shared_part):]
        self._observed, self._fixes = {f: self._observed[f] for f in kept}, {f: self._fixes[f] for f in kept}

    def _mostly_measured(self) -> list[int]:
        """The frames on which most of the surface is measured that ever is: on others what is hidden would count as trajectories."""
        frames = sorted(self._observed)
        if not frames:
            return []
        measured = np.array([self._observed[f].known.sum() for f in frames])
        return [f for f, m in zip(frames, measured, strict=True) if m >= BATCH.least_measured * np.quantile(measured, 0.9)]

    def _refined(self, frames: list[int], tracker: MeshTracker) -> Iterator[tuple[int, MeshFix]]:
        observed = [self._observed[f] for f in frames]
        lattice = tracker.lattice
        moved = np.array([o.values for o in observed]) - lattice.identity
        prior = learned_prior(moved, np.array([o.known for o in observed]))
        found, offset = BatchEquations(tracker.alignment, observed, prior, self._offset).solve(moved)
        if not np.isfinite(found).all():
            raise np.linalg.LinAlgError("the frames together are not determined")
        if self._offset is None:
            self._offset = offset
        basis = _basis(lattice, tracker.vertices)
        steps = np.asarray(basis @ _by_point(found - moved).reshape(basis.shape[1], -1)).reshape(len(tracker.vertices), len(frames), 2) / self._scale
        fixes = [self._fixes[f] for f in frames]
        told, measured = np.array([f.errors for f in fixes]) * self._scale, np.array([f.measured for f in fixes])
        # where a later template stands in for the reference's, its own place's error is in what is told, and it is no grain
        errors = told if tracker.templates.changed else joint_errors(told, measured, prior, np.asarray(basis @ prior.deviations.ravel()))
        for k, frame in enumerate(frames):
            fix, step = fixes[k], steps[:, k]
            length = np.linalg.norm(step, axis=1)
            moves = (length < BATCH.most_moved / self._scale) & self._near(observed[k], fix)
            if moves.any() and fix.places is not None:
                sure = np.hypot(errors[k] / self._scale, BATCH.of_step * length)
                yield frame, replace(fix, places=fix.places + moves[:, None] * step, errors=np.where(moves, sure, fix.errors))


def _basis(lattice: Lattice, points: np.ndarray) -> "scipy.sparse.csr_array":
    """(N, control points) of a lattice's map at points (N, 2)."""
    index, weights = lattice.local_basis(points)
    rows = np.repeat(np.arange(len(index)), index.shape[1])
    return scipy.sparse.csr_array((weights.ravel(), (rows, index.ravel())), shape=(len(points), lattice.rows * lattice.columns))
