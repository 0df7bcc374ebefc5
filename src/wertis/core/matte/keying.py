"""Mattes made from the picture: by its brightness, by a colour, by its difference from another picture, and by the picture's own edge in a soft band.

Brightness is the luma of ITU-R BT.709; colours differ by the CIE 1976 distance in L*a*b* (ISO/CIE 11664-4), of which about 2.3 is the least that is
noticed.
"""

import cv2
import numpy as np

from wertis.core.matte.closed_form import estimate_alpha

_LUMA = np.array([0.2126, 0.7152, 0.0722], np.float32)


def _rise(value: np.ndarray, low: float, high: float) -> np.ndarray:
    """0 below `low` to 1 above `high`, as 3 t^2 - 2 t^3; a step where they are the same."""
    t = np.clip((value - low) / max(high - low, 1e-6), 0, 1)
    return np.asarray(t * t * (3 - 2 * t), np.float32)


def by_brightness(picture: np.ndarray, low: float, high: float, soft: float) -> np.ndarray:
    """(h, w) float32, 0..1: where a picture (h, w, 3), as coded for the eye with white at 1, is as bright as `low` to `high`; it fades over `soft`."""
    luma = picture[..., :3] @ _LUMA
    return _rise(luma, low - soft, low) * (1 - _rise(luma, high, high + soft))


def lab(picture: np.ndarray) -> np.ndarray:
    """(h, w, 3) CIE L*a*b* of a picture coded as sRGB with white at 1."""
    return np.asarray(cv2.cvtColor(np.ascontiguousarray(np.clip(picture[..., :3], 0, 1), np.float32), cv2.COLOR_RGB2Lab))


def by_colour(picture: np.ndarray, colour: tuple[float, float, float], reach: float, soft: float) -> np.ndarray:
    """(h, w) float32, 0..1: where a picture (h, w, 3) is within `reach` of a colour, fading over `soft` more; both as distances in L*a*b*."""
    meant = lab(np.array(colour, np.float32).reshape(1, 1, 3))
    return 1 - _rise(np.linalg.norm(lab(picture) - meant, axis=-1), reach, reach + soft)


def by_difference(picture: np.ndarray, other: np.ndarray, reach: float, soft: float) -> np.ndarray:
    """(h, w) float32, 0..1: where a picture (h, w, 3) differs from another by more than `reach`, as a distance in L*a*b*, rising over `soft` more."""
    return _rise(np.linalg.norm(lab(picture) - lab(other), axis=-1), reach, reach + soft)


def by_picture_edge(picture: np.ndarray, alpha: np.ndarray) -> np.ndarray:
    """(h, w) float32, 0..1: an alpha (h, w) whose values between 0 and 1 are found anew by what the picture (h, w, 3) shows there.

    Closed-form matting (`closed_form`); what is 0 or 1 stays.
    """
    unknown = (alpha > 1e-3) & (alpha < 1 - 1e-3)
    if not unknown.any() or not (alpha >= 1 - 1e-3).any() or not (alpha <= 1e-3).any():
        return alpha
    rows, columns = (np.flatnonzero(unknown.any(axis)) for axis in (1, 0))
    room = 6  # pixels of what is known on both sides of the band
    part = (slice(max(rows[0] - room, 0), rows[-1] + room + 1), slice(max(columns[0] - room, 0), columns[-1] + room + 1))
    trimap = np.where(unknown[part], 0.5, (alpha[part] > 0.5).astype(float))
    if not (trimap == 0).any() or not (trimap == 1).any():
        return alpha
    found = estimate_alpha(np.clip(picture[part][..., :3], 0, 1).astype(np.float64), trimap)
    out = alpha.copy()
    out[part] = np.where(unknown[part], np.clip(found, 0, 1), alpha[part])
    return np.asarray(out, np.float32)
