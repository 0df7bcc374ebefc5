"""Changes of colour by the published formulas of ASC CDL: American Society of Cinematographers, Color Decision List, version 1.2, 2009.

    out = clamp(in x slope + offset) ^ power,   then   luma + saturation x (out - luma),   with the luma of Rec. 709 (ITU-R BT.709-6)
"""

from collections.abc import Sequence

import cv2
import numpy as np

_LUMA = np.array([0.2126, 0.7152, 0.0722], np.float32)
_MOST = np.float32(65504)  # the largest half float (IEEE 754), beyond which no picture file goes


def cdl(picture: np.ndarray, slope: Sequence[float], offset: Sequence[float], power: Sequence[float], saturation: float = 1.0) -> np.ndarray:
    """A picture (h, w, 3) float32 through a colour decision list; below 0 it is clamped before the power, above 1 it is not, so that highlights stay."""
    out = picture * np.asarray(slope, np.float32) + np.asarray(offset, np.float32)
    exponent = np.asarray(power, np.float32)
    if (exponent != 1).any():
        with np.errstate(over="ignore"):  # bright floats to a high power end at the most a half float holds
            out = np.minimum(np.power(np.maximum(out, 0), exponent), _MOST)
    if saturation != 1:
        luma = (out @ _LUMA)[..., None]
        out = luma + np.float32(saturation) * (out - luma)
    return np.asarray(out, np.float32)


def graded(picture: np.ndarray, exposure: float, slope: Sequence[float], offset: Sequence[float], power: Sequence[float], saturation: float,
           blur: float) -> np.ndarray:
    """A picture (h, w, 3) float32 brighter by `exposure` stops, through a colour decision list, and blurred by `blur` pixels (standard deviation)."""
    out = cdl(picture * np.float32(2.0 ** exposure) if exposure else picture, slope, offset, power, saturation)
    return cv2.GaussianBlur(out, (0, 0), blur) if blur > 0.05 else out
