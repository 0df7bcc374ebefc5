"""How far an answer may be off: the expected error at points of the surface, from the covariance of the fit."""

import numpy as np

from wertis.core.track.align import CORRELATION, Alignment, corner_moves
from wertis.core.track.normal_equations import PLAIN, TEXTURE_SHARE
from wertis.core.track.reference import Reference

_FLOOR = 0.02  # pixels of error that no count of pixels takes away (resampling, lens)
_GRAIN_SLOPE = 0.32  # squared slope per pixel of grain of unit variance, at every level of a pyramid (measured on white noise)
_LEAST_PART = 0.25  # of a direction's information that is left to it when what comes from grain is taken away


def expected_error(information: np.ndarray, matrix: np.ndarray, reference: Reference, points: np.ndarray, kind: np.ndarray,
                   from_grain: np.ndarray | None = None) -> float:
    """Root mean square expected error in pixels at `points` (N, 2).

    Parameters
    ----------
    information : (8, 8) Fisher information of the small motion's parameters.
    kind : (k, 8) basis of the allowed motion.
    from_grain : (8, 8) part of the Fisher information that comes from the reference's own grain, whose slopes are not the surface's.
        With J the whole and T the true part, the covariance is T^-1 J T^-1 (W. Fuller, Measurement Error Models, 1987, section 1.2: attenuation).
    """
    whole = kind @ information @ kind.T + 1e-9 * np.eye(len(kind))
    try:
        of_kind = corrected_for_attenuation(whole, None if from_grain is None else kind @ from_grain @ kind.T)[1]
    except np.linalg.LinAlgError:
        return float("inf")
    covariance = kind.T @ of_kind @ kind * CORRELATION
    j = corner_moves(matrix, reference.to_unit, points)
    variance = np.einsum("nij,jk,nik->n", j, covariance, j)
    return float(np.sqrt(max(variance.mean(), 0.0) + _FLOOR ** 2))


def corrected_for_attenuation(information: np.ndarray, from_grain: np.ndarray | None) -> tuple[np.ndarray, np.ndarray]:
    """The inverse (k, k) of an information's true part T, which gives a step that grain does not shorten, and the covariance T^-1 J T^-1 (k, k).

    W. Fuller, Measurement Error Models, 1987, section 1.2: slopes that are partly noise attenuate what is fitted by them.

    Parameters
    ----------
    information, from_grain : (k, k) the whole J, and the part of it that comes from the reference's own grain; None for none.

    Raises
    ------
    numpy.linalg.LinAlgError
        When the whole is not positive definite.
    """
    out = np.linalg.inv(np.linalg.cholesky(information))  # to coordinates in which the whole is the identity
    if from_grain is None:
        return out.T @ out, out.T @ out
    part, axes = np.linalg.eigh(np.eye(len(out)) - out @ from_grain @ out.T)
    part = np.clip(part, _LEAST_PART, 1)
    return out.T @ ((axes / part) @ axes.T) @ out, out.T @ ((axes / part ** 2) @ axes.T) @ out


def noise_information(found: Alignment, reference: Reference, noise: float) -> np.ndarray:
    """(8, 8) the part of an alignment's Fisher information that comes from the reference's grain. Half of the `noise`
    that it leaves is the reference's."""
    tiles, chosen = found.tiles, found.chosen
    variance = (PLAIN + TEXTURE_SHARE * tiles.energy[chosen]) * found.noise / PLAIN
    weight = found.weights.sum(1) / variance
    u, v = ((tiles.centre[chosen] - reference.centre) / reference.radius).T
    one, zero = np.ones_like(u), np.zeros_like(u)
    slopes = np.concatenate([np.column_stack([u, v, one, zero, zero, zero, -u * u, -u * v]),
                             np.column_stack([zero, zero, zero, u, v, one, -u * v, -v * v])])
    per_pixel = _GRAIN_SLOPE * noise / 2 * (reference.radius / 2 ** tiles.level) ** 2
    return np.asarray(per_pixel * (slopes * np.tile(weight, 2)[:, None]).T @ slopes)
