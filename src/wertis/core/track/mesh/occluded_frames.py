"""Frames on which much of a bending surface is hidden: completed by the other frames, looked at again from there, and aligned together with them all.

Beside an occluder, parts of little texture hang on nothing that is measured, and a frame aligned by itself leaves them far off, so that they match
nothing. `shape_completion` says where they lie; from there they match.
"""

import copy
from dataclasses import dataclass

import numpy as np
import scipy

from wertis.core.geometry import bspline
from wertis.core.geometry.bspline import evaluate
from wertis.core.geometry.conventions import to_centred
from wertis.core.geometry.mesh import MeshFix
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.phases import tell
from wertis.core.track.mesh.alignment import MeshAlignment
from wertis.core.track.mesh.batch_equations import BatchEquations
from wertis.core.track.mesh.frame_pictures import FramePictures
from wertis.core.track.mesh.mean_template import reference_on_mean
from wertis.core.track.mesh.observation import Observation, all_observed_again
from wertis.core.track.mesh.settings import BATCH, COMPLETION, PHOTOMETRY
from wertis.core.track.mesh.shape_completion import completed
from wertis.core.track.mesh.trajectory_prior import learned_prior

_NEAREST = 3  # vertices, by whose errors it goes how far a control point may lie off


@dataclass(frozen=True)
class CompletedFrames:
    """All frames, once the poorly measured ones were completed.

    Attributes
    ----------
    poor : (T,) bool, the frames that were.
    observed : of all frames.
    before, found : (T, rows, columns, 2) control values that the last equations are about, and those found.
    deviations : (T, V) pixels, of poor frames' vertices by what is seen on each by itself; nan on the others.
    """

    poor: np.ndarray
    observed: list[Observation]
    before: np.ndarray
    found: np.ndarray
    deviations: np.ndarray


def with_completed_frames(alignment: MeshAlignment, offset: np.ndarray, by_mean: bool, pictures: FramePictures, vertices: np.ndarray,
                          frames: list[int], observed: list[Observation], values: np.ndarray, fixes: list[MeshFix]) -> CompletedFrames | None:
    """All frames aligned anew, with those completed of which little is measured; None where there are none, or when pictures cannot be had.

    Parameters
    ----------
    alignment : by the mean of the frames, or by the reference frame.
    offset : (rows, columns, 2) the apparent displacement that its template's grain causes on all frames.
    by_mean : whether it is by the mean.
    vertices : (V, 2) of the mesh, as the tracker has them.
    frames : (T,) in their order.
    values : (T, rows, columns, 2) control values of the frames.
    fixes : the frames' answers, in the tracker's pixels.

    Raises
    ------
    numpy.linalg.LinAlgError
        When the frames determine nothing.
    """
    lattice, identity = alignment.lattice, alignment.lattice.identity
    deviations = _deviations(alignment, vertices, observed, fixes)
    measured = (1 / (1 + deviations ** 2)).mean((1, 2))
    measured /= np.quantile(measured, 0.9)
    poor = measured < COMPLETION.poorly_measured
    if measured.min() > COMPLETION.little_measured or np.count_nonzero(~poor) < COMPLETION.least_reliable:
        return None
    merged = np.array([_through_vertices(alignment, v, vertices, fix) for v, fix in zip(values, fixes, strict=True)])
    start = completed(lattice, frames, merged, deviations, ~poor)
    motion = np.gradient(start, np.array(frames, np.float64), axis=0)
    known = np.array([o.known.sum() for o in observed])
    visible = known / known.max()
    left = np.full((len(frames), len(vertices)), np.nan)

    def aligned(k: int, pyramid: Pyramid) -> tuple[np.ndarray, np.ndarray]:
        mine = copy.copy(alignment)  # several frames are aligned side by side
        mine.any_occluded, mine.visible_share = True, float(visible[k])
        mine.blur = alignment.blur.with_templates(alignment.templates, motion[k])
        there = start[k]
        for _ in range(COMPLETION.steps):
            there = there + mine.step(pyramid, mine.linearise(pyramid, 0, there), 0, there, start[k])
        return there, np.sqrt(np.trace(mine.fine.system.covariance(vertices), axis1=1, axis2=2))

    before, which = start.copy(), np.flatnonzero(poor)
    for done, (k, each) in enumerate(zip(which, pictures.for_each(frames, which, aligned), strict=False)):
        tell("completing hidden parts", done, len(which))
        if each is None:
            return None
        before[k], left[k] = each
    seen, last = observed, before
    for number in range(COMPLETION.joint_rounds if by_mean else 1):
        found = before - identity
        again = all_observed_again(alignment, pictures, frames, observed, found, f"aligning all frames with the completed ones, pass {number + 1}")
        if again is None:
            return None
        seen = again
        prior = learned_prior(found, np.array([o.known for o in seen]))
        equations = BatchEquations(alignment, seen, prior, offset, reference_on_mean(alignment) if by_mean else None)
        last, before = before, identity + equations.solve(found)[0]
        del equations  # before the next ones are made
    return CompletedFrames(poor, seen, last, before, left)


def _deviations(alignment: MeshAlignment, vertices: np.ndarray, observed: list[Observation], fixes: list[MeshFix]) -> np.ndarray:
    """(T, rows, columns) pixels by which control points may lie off: by what the vertices round them state, and by what is measured of them."""
    points, count = alignment.lattice.identity.reshape(-1, 2), min(_NEAREST, len(vertices))
    near = scipy.spatial.cKDTree(vertices).query(points, count)[1].reshape(-1, count)
    stated = np.array([fix.errors[near].mean(1) for fix in fixes])
    known = np.array([o.known.ravel() for o in observed])
    information = PHOTOMETRY.measured_information * known / np.maximum(1 - known, 1e-6)
    return np.asarray(1 / np.sqrt(COMPLETION.known_information * information + 1 / stated ** 2)).reshape(len(fixes), *alignment.lattice.shape)


def _through_vertices(alignment: MeshAlignment, values: np.ndarray, vertices: np.ndarray, fix: MeshFix) -> np.ndarray:
    """Control values (rows, columns, 2) whose map goes through a fix' vertices also where that was put together from two sides."""
    assert fix.places is not None
    off = to_centred(fix.places) - evaluate(alignment.lattice, values, vertices)[0]
    elsewhere = np.linalg.norm(off, axis=1) > BATCH.same_place
    if not elsewhere.any():
        return values
    return values + bspline.fitted(alignment.lattice, vertices, vertices + np.where(elsewhere[:, None], off, 0)) - alignment.lattice.identity
