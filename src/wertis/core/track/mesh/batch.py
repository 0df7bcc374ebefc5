"""All frames of a bending surface aligned together, once each has been aligned by itself: `batch_equations`, over blocks of frames.

Then once more by the mean of the frames where that shows more than the reference frame does: `mean_refinement`; and with those frames on which little
is measured, once they were completed: `occluded_frames`.
"""

import logging
from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from wertis.core.geometry.bspline import evaluate
from wertis.core.geometry.conventions import from_centred, to_centred
from wertis.core.geometry.mesh import MeshFix
from wertis.core.track.mesh.batch_equations import BatchEquations, displaced, joint_errors, map_basis
from wertis.core.track.mesh.frame_pictures import FramePictures, ReadAgain
from wertis.core.track.mesh.mean_refinement import AlignedByMean, MeanRefinement
from wertis.core.track.mesh.observation import Observation, last_observation
from wertis.core.track.mesh.occluded_frames import with_completed_frames
from wertis.core.track.mesh.settings import BATCH, UNCERTAINTY
from wertis.core.track.mesh.tracker import MeshTracker
from wertis.core.track.mesh.trajectory_prior import learned_prior

_log = logging.getLogger(__name__)


class BatchRefinement:
    """Remembers what the frames of a mesh tracker show, in one direction or two, and aligns all of them together.

    Memory stays bounded: when so many frames have come that the block is full they are aligned, and all but the last ones are let go.
    """

    def __init__(self) -> None:
        self._observed: dict[int, Observation] = {}
        self._fixes: dict[int, MeshFix] = {}
        self._tracker: MeshTracker | None = None
        self._offset: np.ndarray | None = None
        self._pictures: FramePictures | None = None
        self._by_mean: MeanRefinement | None = None
        self._scale = 1.0

    def keep(self, frame: int, fix: MeshFix, tracker: MeshTracker, scale: float = 1.0, read: ReadAgain | None = None) -> None:
        """Remember a frame's answer, while the tracker's equations are that frame's.

        Parameters
        ----------
        scale : the tracker's pixels for one of the answer's.
        read : gives frames once more; without it they are not compared with their mean, nor completed.
        """
        if fix.places is None:
            return
        self._tracker, self._scale = tracker, scale
        self._observed[frame], self._fixes[frame] = last_observation(tracker.alignment, tracker.values), fix
        if read is not None:
            self._pictures = self._pictures or FramePictures()
            self._pictures.keep(frame, tracker.luma, read)

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
        if self._pictures is not None:
            self._pictures.let_go(kept)

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
        found, offset = equations.solve(moved)
        if self._offset is None:
            self._offset = offset
        basis, deviations = map_basis(lattice, vertices), equations.deviations(vertices)
        del equations  # some tens of megabytes
        smaller, before, again = np.ones(len(vertices)), moved, None
        if self._pictures is not None and _comparable(tracker):
            self._by_mean = self._by_mean or MeanRefinement(self._pictures)
            again = self._by_mean.refined(tracker.alignment, frames, observed, found, vertices)
            if again is not None:
                smaller = np.minimum(again.deviations / deviations, 1)
                prior, before, found = again.prior, again.before, again.found
        steps, last_steps = displaced(basis, found - moved), displaced(basis, found - before)
        fixes = [self._fixes[f] for f in frames]
        told, measured = np.array([f.errors for f in fixes]) * self._scale, np.array([f.measured for f in fixes])
        told = np.where(measured, told * smaller, told)
        # where a later template stands in for the reference's, its own place's error is in what is told, and it is no grain
        errors = told if tracker.templates.changed else joint_errors(told, measured, prior, np.asarray(basis @ prior.deviations.ravel()))
        better = {}
        for k, frame in enumerate(frames):
            fix, step = fixes[k], steps[:, k] / self._scale
            length = np.linalg.norm(step, axis=1)
            moves = (np.linalg.norm(last_steps[:, k], axis=1) < BATCH.most_moved) & self._near(observed[k], fix)
            if moves.any() and fix.places is not None:
                sure = np.hypot(errors[k] / self._scale, BATCH.of_step * length)
                better[frame] = replace(fix, places=fix.places + moves[:, None] * step, errors=np.where(moves, sure, fix.errors))
        if self._pictures is not None:
            try:
                better |= self._completed(self._fixes | better, dict(zip(frames, found, strict=True)), tracker, again)
            except np.linalg.LinAlgError:  # those that were aligned together stand
                _log.warning("hidden parts of frames %d to %d of a mesh cannot be completed: their equations determine nothing", frames[0], frames[-1])
        yield from sorted(better.items())

    def _completed(self, fixes: dict[int, MeshFix], found: dict[int, np.ndarray], tracker: MeshTracker,
                   by_mean: AlignedByMean | None) -> dict[int, MeshFix]:
        """Better answers once the frames of which little is measured were completed; none where all are measured.

        Parameters
        ----------
        fixes : of all frames.
        found : (rows, columns, 2) displacements, of the frames that were aligned together.
        """
        assert self._offset is not None and self._pictures is not None
        scale, frames = self._scale, sorted(self._observed)
        observed, ours = [self._observed[f] for f in frames], [_scaled(fixes[f], scale) for f in frames]
        values = np.array([tracker.lattice.identity + found[f] if f in found else o.values for f, o in zip(frames, observed, strict=True)])
        alignment, offset = (by_mean.alignment, by_mean.offset) if by_mean is not None else (tracker.alignment, self._offset)
        done = with_completed_frames(alignment, offset, by_mean is not None, self._pictures, tracker.vertices, frames, observed, values, ours)
        if done is None:
            return {}
        last_steps = np.linalg.norm(displaced(map_basis(tracker.lattice, tracker.vertices), done.found - done.before), axis=-1)
        better, fine = {}, tracker.templates.tiles(0)
        for k, (frame, fix) in enumerate(zip(frames, ours, strict=True)):
            if not done.poor[k] and by_mean is None:
                continue  # what is left wrong on completed frames is not outweighed without a mean, and would displace the others
            assert fix.places is not None
            places = from_centred(evaluate(tracker.lattice, done.found[k], tracker.vertices)[0])
            moves = done.poor[k] | (last_steps[:, k] < BATCH.most_moved)
            errors, measured = np.hypot(fix.errors, BATCH.of_step * np.linalg.norm(places - fix.places, axis=1)), fix.measured
            if done.poor[k]:
                now = tracker.measured_vertices(done.observed[k].weight, fine.energy[fine.usable])
                sure = np.sqrt(UNCERTAINTY.least ** 2 + (UNCERTAINTY.factor * done.deviations[k]) ** 2 + tracker.template_errors() ** 2)
                errors = np.where(now & ~measured, sure, errors)
                measured = measured | now
            places, errors = np.where(moves[:, None], places, fix.places), np.where(moves, errors, fix.errors)
            better[frame] = replace(fixes[frame], places=places / scale, errors=errors / scale, measured=measured)
        return better


def _scaled(fix: MeshFix, scale: float) -> MeshFix:
    """A fix that has places, in pixels of which one of its own has `scale`."""
    assert fix.places is not None
    return replace(fix, places=fix.places * scale, errors=fix.errors * scale)


def _comparable(tracker: MeshTracker) -> bool:
    """Whether the frames show one look of the surface, so that they can be averaged."""
    return not tracker.templates.several
