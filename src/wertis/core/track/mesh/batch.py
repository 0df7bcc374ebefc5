"""All frames of a bending surface aligned together, once each has been aligned by itself: `batch_equations`, over blocks of frames.

Then once more by the mean of the frames where that shows more than the reference frame does: `mean_template`.
"""

import logging
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

import numpy as np
import scipy

from wertis.core.geometry.bspline import Lattice, evaluate
from wertis.core.geometry.conventions import to_centred
from wertis.core.geometry.mesh import MeshFix
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.phases import tell
from wertis.core.track.mesh.alignment import MeshAlignment
from wertis.core.track.mesh.batch_equations import BatchEquations, by_point, joint_errors
from wertis.core.track.mesh.mean_template import MeanOfFrames, reference_on_mean
from wertis.core.track.mesh.observation import Observation, last_observation, observed_again
from wertis.core.track.mesh.settings import BATCH, MEAN_TEMPLATE
from wertis.core.track.mesh.tracker import MeshTracker
from wertis.core.track.mesh.trajectory_prior import TrajectoryPrior, learned_prior

_log = logging.getLogger(__name__)

Pictures = Callable[[list[int]], Iterator[tuple[int, Pyramid]]]
"""Gives the frames asked for that can be read, each with its pyramid as the tracker looks at it."""


@dataclass(frozen=True)
class _Again:
    """The frames aligned together by their mean: what went into it, (T, rows, columns, 2) displacements before and after, (rows, columns, 2) the apparent
    one."""

    alignment: MeshAlignment
    equations: BatchEquations
    prior: TrajectoryPrior
    before: np.ndarray
    found: np.ndarray
    offset: np.ndarray


class BatchRefinement:
    """Remembers what the frames of a mesh tracker show, in one direction or two, and aligns all of them together.

    Memory stays bounded: when so many frames have come that the block is full they are aligned, and all but the last ones are let go.
    """

    def __init__(self) -> None:
        self._observed: dict[int, Observation] = {}
        self._fixes: dict[int, MeshFix] = {}
        self._tracker: MeshTracker | None = None
        self._offset: np.ndarray | None = None
        self._pictures: Pictures | None = None
        self._mean: tuple[MeshAlignment, np.ndarray | None] | None = None
        self._scale = 1.0

    def keep(self, frame: int, fix: MeshFix, tracker: MeshTracker, scale: float = 1.0, pictures: Pictures | None = None) -> None:
        """Remember a frame's answer, while the tracker's equations are that frame's.

        Parameters
        ----------
        scale : the tracker's pixels for one of the answer's.
        pictures : gives the frames once more.
        """
        if fix.places is None:
            return
        self._tracker, self._scale, self._pictures = tracker, scale, pictures
        self._observed[frame], self._fixes[frame] = last_observation(tracker.alignment, tracker.values), fix

    def better(self, frame: int, fix: MeshFix) -> None:
        """A frame's answer has become another one, while the tracker's equations are those of its second look."""
        before = self._fixes.get(frame)
        self._fixes[frame] = fix
        tracker = self._tracker
        if tracker is None or fix.places is None:
            return
        again = last_observation(tracker.alignment, tracker.values)
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
        lattice, vertices = tracker.lattice, tracker.vertices
        moved = np.array([o.values for o in observed]) - lattice.identity
        prior = learned_prior(moved, np.array([o.known for o in observed]))
        equations = BatchEquations(tracker.alignment, observed, prior, self._offset)
        found, offset = _sound(*equations.solve(moved))
        if self._offset is None:
            self._offset = offset
        surer, before = np.ones(len(vertices)), moved
        if self._comparable(tracker):
            again = self._by_mean(tracker.alignment, frames, observed, found)
            if again is not None:
                surer = again.equations.deviations(vertices) / equations.deviations(vertices)
                prior, before, found = again.prior, again.before, again.found
        basis = _basis(lattice, vertices)
        steps, last_steps = (np.asarray(basis @ by_point(found - since).reshape(basis.shape[1], -1)).reshape(len(vertices), len(frames), 2)
                             for since in (moved, before))
        fixes = [self._fixes[f] for f in frames]
        told, measured = np.array([f.errors for f in fixes]) * self._scale, np.array([f.measured for f in fixes])
        told = np.where(measured, told * np.minimum(surer, 1), told)
        # where a later template stands in for the reference's, its own place's error is in what is told, and it is no grain
        errors = told if tracker.templates.changed else joint_errors(told, measured, prior, np.asarray(basis @ prior.deviations.ravel()))
        for k, frame in enumerate(frames):
            fix, step = fixes[k], steps[:, k] / self._scale
            length = np.linalg.norm(step, axis=1)
            moves = (np.linalg.norm(last_steps[:, k], axis=1) < BATCH.most_moved) & self._near(observed[k], fix)
            if moves.any() and fix.places is not None:
                sure = np.hypot(errors[k] / self._scale, BATCH.of_step * length)
                yield frame, replace(fix, places=fix.places + moves[:, None] * step, errors=np.where(moves, sure, fix.errors))

    def _comparable(self, tracker: MeshTracker) -> bool:
        """Whether the frames show one look of the surface, alike sharp, so that they can be averaged."""
        return self._pictures is not None and not tracker.templates.several and not tracker.blur.shutter

    def _by_mean(self, alignment: MeshAlignment, frames: list[int], observed: list[Observation], found: np.ndarray) -> _Again | None:
        """The frames aligned together by their mean, from displacements (T, rows, columns, 2); None where that shows no more, or when it is stopped.

        A later block goes by the mean of the first one, which lies where all that was answered so far does.
        """
        known = np.array([o.known.sum() for o in observed])
        visible = dict(zip(frames, known / known.max(), strict=True))
        first = dict(zip(frames, observed, strict=True))
        again: _Again | None = None
        for number in range(MEAN_TEMPLATE.rounds if self._mean is None else 1):
            values = dict(zip(frames, alignment.lattice.identity + found, strict=True))
            mean = self._mean or self._mean_of(alignment, again.alignment if again else alignment, values, first, visible)
            if mean is None:
                return again
            by_mean, offset = mean
            now = {}
            for done, (frame, pyramid) in enumerate(self._read(frames)):
                tell("aligning all frames by their mean", number * len(frames) + done, MEAN_TEMPLATE.rounds * len(frames))
                now[frame] = observed_again(by_mean, pyramid, first[frame], values[frame], visible[frame])[0]
            if len(now) < len(frames):
                return again
            seen = [now[f] for f in frames]
            prior = learned_prior(found, np.array([o.known for o in seen]))
            equations = BatchEquations(by_mean, seen, prior, offset, reference_on_mean(by_mean))
            before, (found, offset) = found, _sound(*equations.solve(found))
            again = _Again(by_mean, equations, prior, before, found, offset)
        if again is not None:
            self._mean = again.alignment, again.offset
        return again

    def _mean_of(self, alignment: MeshAlignment, current: MeshAlignment, values: dict[int, np.ndarray], before: dict[int, Observation],
                 visible: dict[int, float]) -> tuple[MeshAlignment, None] | None:
        """The alignment by the mean of frames, spread evenly, whose tiles are compared with the `current` templates."""
        frames = list(values)
        some = [frames[k] for k in np.unique(np.linspace(0, len(frames) - 1, MEAN_TEMPLATE.most_frames).astype(int))]
        mean = MeanOfFrames(alignment)
        for frame, pyramid in self._read(some):
            mean.add(pyramid, values[frame], observed_again(current, pyramid, before[frame], values[frame], visible[frame])[1])
        by_mean = mean.aligned_by_mean()
        return (by_mean, None) if by_mean is not None else None

    def _read(self, frames: list[int]) -> Iterator[tuple[int, Pyramid]]:
        assert self._pictures is not None
        return self._pictures(frames)


def _sound(found: np.ndarray, offset: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    if not np.isfinite(found).all():
        raise np.linalg.LinAlgError("the frames together are not determined")
    return found, offset


def _basis(lattice: Lattice, points: np.ndarray) -> "scipy.sparse.csr_array":
    """(N, control points) of a lattice's map at points (N, 2)."""
    index, weights = lattice.local_basis(points)
    rows = np.repeat(np.arange(len(index)), index.shape[1])
    return scipy.sparse.csr_array((weights.ravel(), (rows, index.ravel())), shape=(len(points), lattice.rows * lattice.columns))
