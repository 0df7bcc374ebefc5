"""Frames aligned together once more, by their mean in place of the reference frame: `mean_template`, `batch_equations`."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from wertis.core.track.mesh.alignment import MeshAlignment
from wertis.core.track.mesh.batch_equations import BatchEquations, displaced, map_basis
from wertis.core.track.mesh.frame_pictures import FramePictures
from wertis.core.track.mesh.mean_template import MeanOfFrames, reference_on_mean
from wertis.core.track.mesh.observation import Observation, all_observed_again
from wertis.core.track.mesh.settings import MEAN_TEMPLATE
from wertis.core.track.mesh.trajectory_prior import TrajectoryPrior, learned_prior


@dataclass(frozen=True)
class AlignedByMean:
    """Frames aligned together by their mean.

    Attributes
    ----------
    alignment : whose template is the mean.
    deviations : (V,) pixels, that a frame like the mean of all leaves by itself at the mesh's vertices.
    prior : on the trajectories.
    before, found : (T, rows, columns, 2) displacements that the equations are linearised about, and those found.
    offset : (rows, columns, 2) the mean's displacement against the reference frame.
    """

    alignment: MeshAlignment
    deviations: np.ndarray
    prior: TrajectoryPrior
    before: np.ndarray
    found: np.ndarray
    offset: np.ndarray


class MeanRefinement:
    """Aligns frames by their mean, block after block.

    Parameters
    ----------
    pictures : of the frames.
    """

    def __init__(self, pictures: FramePictures) -> None:
        self._pictures = pictures
        self._mean: tuple[MeshAlignment, np.ndarray] | None = None

    def refined(self, alignment: MeshAlignment, frames: Sequence[int], observed: Sequence[Observation], found: np.ndarray,
                vertices: np.ndarray) -> AlignedByMean | None:
        """The frames aligned by their mean; None where that would show no more, when tracking is stopped, or where a frame cannot be read again.

        A later block goes by the mean of the first one, which lies where all that was answered so far does.

        Parameters
        ----------
        observed : what each frame showed beside the reference frame.
        found : (T, rows, columns, 2) displacements that it led to.
        vertices : (V, 2) of the mesh, as the tracker has them.

        Raises
        ------
        numpy.linalg.LinAlgError
            When the equations determine nothing.
        """
        basis = map_basis(alignment.lattice, vertices)
        seen, aligned, rounds = list(observed), None, MEAN_TEMPLATE.rounds if self._mean is None else 1
        for number in range(rounds):
            if self._mean is not None:
                by_mean, offset = self._mean
            else:
                mean = self._mean_of(alignment, frames, found, seen)
                if mean is None:
                    return aligned
                by_mean, offset = mean, None
            again = all_observed_again(by_mean, self._pictures, frames, observed, found, f"aligning all frames by their mean, pass {number + 1}")
            if again is None:
                return aligned
            seen = again
            prior = learned_prior(found, np.array([o.known for o in seen]))
            equations = BatchEquations(by_mean, seen, prior, offset, reference_on_mean(by_mean))
            before, (found, offset) = found, equations.solve(found)
            aligned = AlignedByMean(by_mean, equations.deviations(vertices), prior, before, found, offset)
            del equations  # before the next ones are made
            if np.quantile(np.linalg.norm(displaced(basis, found - before), axis=-1), 0.98) < MEAN_TEMPLATE.converged:
                break
        if aligned is not None:
            self._mean = aligned.alignment, aligned.offset
        return aligned

    def _mean_of(self, alignment: MeshAlignment, frames: Sequence[int], found: np.ndarray, seen: Sequence[Observation]) -> MeshAlignment | None:
        """The alignment by the mean of frames that are blurred much as the reference frame is, spread evenly; displacements (T, rows, columns, 2)."""
        values, motion = alignment.lattice.identity + found, np.gradient(found, np.array(frames, np.float64), axis=0)
        alike = np.flatnonzero([alignment.blur.blur_difference(m) < MEAN_TEMPLATE.most_blur for m in motion])
        if len(alike) < MEAN_TEMPLATE.least_frames or alignment.blur.blur_difference(np.zeros_like(motion[0])) > MEAN_TEMPLATE.most_blur:
            return None
        mean = MeanOfFrames(alignment)
        some = alike[np.unique(np.linspace(0, len(alike) - 1, MEAN_TEMPLATE.most_frames).astype(int))]
        for each in self._pictures.for_each(frames, some, lambda k, pyramid: mean.high_pass(pyramid[0], values[k], seen[k])):
            if each is None:
                return None
            mean.add(*each)
        return mean.aligned_by_mean()
