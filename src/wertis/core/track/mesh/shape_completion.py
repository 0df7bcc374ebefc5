"""Where the unmeasured parts of a bending surface lie on each frame, by its measured parts and by all other frames.

The surface is an affine motion and a few basis shapes beside it, whose coefficients go on smoothly from frame to frame: probabilistic principal
component analysis with missing data (M. Tipping and C. Bishop, J. R. Stat. Soc. B 61, 1999), whose coefficients are those of a fixed-interval smoother
with white acceleration (H. Rauch, F. Tung and C. Striebel, Maximum likelihood estimates of linear dynamic systems, AIAA J. 3, 1965), solved as one
banded system. What differs from the basis is taken from what was measured, smoothly between the control points.
"""

from collections.abc import Sequence

import numpy as np
import scipy

from wertis.core.geometry.bspline import Lattice, NormalEquations
from wertis.core.track.mesh.settings import COMPLETION
from wertis.core.track.mesh.shape_basis import affine_changes


def completed(lattice: Lattice, frames: Sequence[int], values: np.ndarray, deviations: np.ndarray, reliable: np.ndarray) -> np.ndarray:
    """Control values (T, rows, columns, 2) in which what is uncertain lies where all the rest says.

    Parameters
    ----------
    frames : (T,) numbers of the frames, ascending.
    values : (T, rows, columns, 2) control values that were found.
    deviations : (T, rows, columns) pixels by which they may lie off.
    reliable : (T,) bool, the frames by which the basis shapes are begun.

    Raises
    ------
    numpy.linalg.LinAlgError
        When the frames determine nothing.
    """
    count = len(frames)
    moved = (values - lattice.identity).reshape(count, -1)
    variance = np.repeat((COMPLETION.least_deviation ** 2 + deviations ** 2).reshape(count, -1), 2, axis=1)
    affine = np.linalg.qr(affine_changes(lattice.identity))[0]
    times = np.asarray(frames, np.float64)
    shapes, at = moved[reliable], times[reliable]
    for _ in range(COMPLETION.rounds):
        basis = _basis_shapes(affine, shapes)
        expected, weight = _smoothed(basis, moved, variance, _second_differences(times), _accelerations(at, shapes @ basis))
        shapes = expected + _interpolated(lattice, moved - expected, weight / variance)
        at = times
    return lattice.identity + shapes.reshape(values.shape)


def _basis_shapes(affine: np.ndarray, shapes: np.ndarray) -> np.ndarray:
    """(2 n, k) the affine motions, and the principal components of what shapes (T, 2 n) do beside them."""
    own = shapes - (shapes @ affine) @ affine.T
    _, size, modes = np.linalg.svd(own, full_matrices=False)
    many = min(COMPLETION.most_shapes, int(np.count_nonzero(size > COMPLETION.least_shape * np.sqrt(shapes.shape[1]))))
    return np.column_stack([affine, modes[:many].T])


def _second_differences(times: np.ndarray) -> "scipy.sparse.csr_array":
    """(T - 2, T) second derivatives at the middle one of three neighbouring times, which may lie unevenly."""
    before, after = np.diff(times)[:-1], np.diff(times)[1:]
    whole = before + after
    return scipy.sparse.csr_array(scipy.sparse.diags_array(
        [2 / (before * whole), -2 / (before * after), 2 / (after * whole)], offsets=[0, 1, 2], shape=(len(times) - 2, len(times))))


def _accelerations(times: np.ndarray, coefficients: np.ndarray) -> np.ndarray:
    """(k,) pixels a frame and frame, rms of coefficients (T, k) over those neighbouring times (T,) that lie closest together."""
    apart = np.diff(times)
    span = apart[:-1] + apart[1:]
    closest = (_second_differences(times) @ coefficients)[span == span.min()]
    return np.asarray(np.maximum(np.sqrt((closest ** 2).mean(0)), COMPLETION.least_acceleration))


def _smoothed(basis: np.ndarray, moved: np.ndarray, variance: np.ndarray, roughness: "scipy.sparse.csr_array",
              acceleration: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(T, 2 n) the most likely changes within the span of the basis (2 n, k), and the robust weights 0..1 of those that were found.

    Parameters
    ----------
    moved, variance : (T, 2 n) changes that were found, and their variances.
    roughness : of trajectories, as `_second_differences`.
    acceleration : (k,) pixels a frame and frame, usual of the coefficients.
    """
    frames, size = len(moved), basis.shape[1]
    total = variance + COMPLETION.beside_basis ** 2
    weight = np.ones_like(moved)
    bent = scipy.sparse.dia_array(roughness.T @ roughness)
    smoothness = [bent.diagonal(-apart) for apart in range(3)]
    for _ in range(COMPLETION.reweighted):
        lower, right = np.zeros((3 * size, frames * size)), np.empty(frames * size)
        for each in range(3):  # the coefficients of a kind are tied to those of the next two frames
            lower[each * size, :(frames - each) * size] = np.outer(smoothness[each], 1 / acceleration ** 2).ravel()
        for frame in range(frames):
            weighted = basis * (weight[frame] / total[frame])[:, None]
            block, first = weighted.T @ basis, frame * size
            for below in range(size):
                lower[below, first:first + size - below] += block.diagonal(-below)
            right[first:first + size] = weighted.T @ moved[frame]
        lower[0] += 1e-9  # of a shape that is seen on no frame
        expected = scipy.linalg.solveh_banded(lower, right, lower=True).reshape(frames, size) @ basis.T
        misfit = ((moved - expected) ** 2 / total).reshape(frames, -1, 2).sum(-1)
        weight = np.repeat(1 / (1 + misfit / COMPLETION.robust_cut ** 2), 2, axis=1)
    return expected, weight


def _interpolated(lattice: Lattice, left: np.ndarray, information: np.ndarray) -> np.ndarray:
    """(T, 2 n) differences `left` from the basis, by how much is known of them, per square pixel, smoothly between control points."""
    out = np.empty_like(left)
    for frame, (each, known) in enumerate(zip(left, information, strict=True)):
        system, weight = NormalEquations(lattice), known.reshape(*lattice.shape, 2)[..., 0]
        system.add_bending(2, 1 / COMPLETION.bending ** 2)
        system.add_diagonal(weight + 1 / COMPLETION.usual_difference ** 2)
        system.add_right(weight[..., None] * each.reshape(*lattice.shape, 2))
        out[frame] = system.solve().ravel()
    return out
