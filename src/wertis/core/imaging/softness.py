"""How soft a picture is: the standard deviation of the blur that its sharpest edges have.

Where an edge that was sharp is blurred once more by a known Gaussian, its slope gets less by a ratio that says how much it was blurred before (S. Zhuo and
T. Sim, Defocus map estimation from a single image, 2011).
"""

import cv2
import numpy as np

_FIRST = (0.7, 1.2)  # pixels, standard deviations, of a blur that takes grain away and of the known one, in a first look
_OF_FOUND = (0.8, 1.0)  # times the softness found, of the same in the next looks
_LOOKS = 3
_STRONGEST = 0.5  # share of the places that are looked at, those on the steepest slopes
_SHARPEST = 0.4  # quantile of what they say: other edges were soft in the scene
_FEWEST = 40  # places
_DIFFERENCE = 1 / 3  # square pixels, variance of the central difference by which slopes are taken
_NOISE_SLOPE = 0.2  # of white noise of deviation 1 through a Gaussian of 1 pixel (its slope's deviation is 1 / sqrt(8 pi) of that)
_STEEP = 8.0  # times the slope of the grain from which a slope is an edge


def edge_softness(luma: np.ndarray, mask: np.ndarray | None = None, grain: float = 0.0) -> float | None:
    """Standard deviation in pixels of the blur in a picture (h, w) float32, the pixels' own square among it; None where there is no edge to tell it by.

    Parameters
    ----------
    mask : (h, w), non-zero where edges count.
    grain : standard deviation of the picture's grain, in its own numbers.
    """
    counted = None if mask is None else cv2.erode((np.asarray(mask) > 0).astype(np.uint8), np.ones((7, 7), np.uint8)) > 0
    picture, found = np.asarray(luma, np.float32), None
    for look in range(_LOOKS):
        before, again = _FIRST if found is None else (max(f * found, least) for f, least in zip(_OF_FOUND, _FIRST, strict=True))
        variance = _variance(picture, counted, before, again, grain)
        if variance is None:
            return found if look else None
        found = float(np.sqrt(max(variance - before ** 2 - _DIFFERENCE, 0.01)))
    return found


def _variance(picture: np.ndarray, counted: np.ndarray | None, before: float, again: float, grain: float) -> float | None:
    """The variance of the blur of a picture's sharpest edges after one of `before` pixels, by what one of `again` pixels more does to their slopes."""
    calm = cv2.GaussianBlur(picture, (0, 0), before)
    slope, blurred = _slope(calm), _slope(cv2.GaussianBlur(calm, (0, 0), again))
    steepest = slope >= cv2.dilate(slope, np.ones((3, 3), np.uint8)) * 0.999  # across each edge
    places = steepest if counted is None else steepest & counted
    values = slope[places]
    values = values[values > _STEEP * _NOISE_SLOPE * grain / before ** 2]
    if len(values) < _FEWEST:
        return None
    edges = places & (slope >= np.quantile(values, 1 - min(1.0, max(_STRONGEST, 4 * _FEWEST / len(values)))))
    ratio = slope[edges] / np.maximum(blurred[edges], 1e-9)
    ratio = ratio[ratio > 1.01]
    return float(np.quantile(again ** 2 / (ratio ** 2 - 1), _SHARPEST)) if len(ratio) >= _FEWEST // 2 else None


def _slope(picture: np.ndarray) -> np.ndarray:
    across, down = (cv2.Sobel(picture, cv2.CV_32F, *order, ksize=3, scale=1 / 8) for order in ((1, 0), (0, 1)))
    return np.asarray(np.hypot(across, down))
