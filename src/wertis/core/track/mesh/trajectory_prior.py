"""What the well measured parts of a bending surface say of how the rest of it can have moved over the same frames.

Each control point's motion over all frames is one trajectory. Those of the parts that are measured well span a space of few dimensions, in which the
others are expected to lie too. I. Akhter, Y. Sheikh, S. Khan and T. Kanade, Trajectory space: a dual representation for nonrigid structure from
motion, IEEE PAMI 33, 2011; R. Garg, A. Roussos and L. Agapito, A variational approach to video registration with subspace constraints, IJCV 104, 2013;
as a Gaussian prior: M. Tipping and C. Bishop, Probabilistic principal component analysis, J. R. Stat. Soc. B 61, 1999.
"""

from dataclasses import dataclass

import cv2
import numpy as np

_KNOWN = 12.0  # power of how far a control point is measured, by which its trajectory counts: of one that is half measured little is motion
_FRAMES_KNOWN = 0.25  # quantile over the frames of how far it is measured
_LEAST_DEVIATION = 0.03  # pixels, beside the space that the trajectories span


@dataclass(frozen=True)
class TrajectoryPrior:
    """Gaussian prior on the trajectories of control points over T frames, beside an affine motion of the whole.

    Attributes
    ----------
    affine : (T, rows, columns, 2) displacements of the whole surface's affine motion.
    modes : (T, T) orthonormal trajectories, one in each column.
    variances : (T,) square pixels of each mode, alike for all control points.
    deviations : (rows, columns) square pixels, of what each control point does beside them.
    """

    affine: np.ndarray
    modes: np.ndarray
    variances: np.ndarray
    deviations: np.ndarray


def learned_prior(displacements: np.ndarray, known: np.ndarray) -> TrajectoryPrior:
    """The prior that displacements (T, rows, columns, 2) from the reference frame give; `known` (T, rows, columns), 0..1, is how far they are measured.

    What a control point does outside the space that the others span counts as motion as far as it goes on from frame to frame; what differs from
    one frame to the next is grain.

    Raises
    ------
    numpy.linalg.LinAlgError
        When nothing is measured.
    """
    frames, rows, columns, _ = displacements.shape
    flat = displacements.reshape(frames, -1)
    share = np.quantile(known, _FRAMES_KNOWN, axis=0)
    weight = np.repeat(np.minimum(share / max(float(np.quantile(share, 0.98)), 1e-9), 1).ravel() ** _KNOWN, 2)
    if not weight.any():
        raise np.linalg.LinAlgError("no control point is measured")
    y, x = np.indices((rows, columns)) / max(rows, columns)
    shapes = np.kron(np.column_stack([np.ones(rows * columns), x.ravel(), y.ravel()]), np.eye(2))
    root = np.sqrt(weight)[:, None]
    affine = (shapes @ np.linalg.lstsq(shapes * root, flat.T * root, rcond=None)[0]).T
    own = flat - affine
    values, modes = np.linalg.eigh((own * weight) @ own.T / weight.sum())
    variances = np.maximum(values, 0)
    outside = modes @ ((_LEAST_DEVIATION ** 2 / (variances + _LEAST_DEVIATION ** 2))[:, None] * (modes.T @ own))
    outside -= outside.mean(0)
    lasting = (outside[1:] * outside[:-1]).mean(0).reshape(rows, columns, 2).mean(-1)
    deviations = np.maximum(cv2.blur(lasting, (3, 3), borderType=cv2.BORDER_REPLICATE), _LEAST_DEVIATION ** 2)
    return TrajectoryPrior(affine.reshape(displacements.shape), modes, variances, deviations)
