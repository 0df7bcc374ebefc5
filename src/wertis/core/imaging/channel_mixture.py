"""Red, green and blue mixed into one picture in which a surface stands out most over grain."""

from itertools import combinations

import cv2
import numpy as np

from wertis.core.imaging.pyramid import Pyramid
from wertis.core.plate.base import BRIGHTNESS, luma

_FEWEST = 400  # pixels from which grain can be told
_ENOUGH, _BAND = 300_000, 48  # pixels that are looked at, about, and the height in pixels of the bands that they are taken in
_GRAIN_KERNEL = np.outer([1, -2, 1], [1, -2, 1]).astype(np.float32) / 6  # blind to slopes and to straight edges along the pixels
_PATCH, _FLAT = 7, 0.1  # side in pixels of the patches in which grain is measured, and the part of them, the flattest, whose power is taken for it
NO_GRAIN = 1 / 12  # variance that rounding to whole numbers leaves in a picture without grain
_EVEN = 0.25  # part of the channels' mean grain that is added to each, so that a guess at it is never believed wholly


def channel_mixture(picture: np.ndarray, mask: np.ndarray) -> np.ndarray:
    """The parts (3,) of red, green and blue, none below 0 and 1 in all, in which a surface's detail stands out most over grain.

    Slopes of a mixture w have the power w'Gw and its grain w'Nw; their quotient is largest for an eigenvector of N^-1 G (R. Fisher, The use of
    multiple measurements in taxonomic problems, 1936). Each channel's grain is measured where the surface is flattest (J. Immerkaer, Fast noise
    variance estimation, 1996).

    Parameters
    ----------
    picture : (h, w, c) with three channels or more; brightness is the answer for others.
    mask : (h, w) uint8, non-zero on the surface.
    """
    brightness = np.array(BRIGHTNESS)
    ys, xs = np.nonzero(mask)
    if picture.shape[2] < 3 or len(ys) < _FEWEST:
        return brightness
    box = slice(ys.min(), ys.max() + 1), slice(xs.min(), xs.max() + 1)
    inside = cv2.erode(mask[box], np.ones((7, 7), np.uint8), borderValue=0) > 0
    if np.count_nonzero(inside) < _FEWEST:
        return brightness
    part = picture[box]
    every = -(-part.shape[0] * part.shape[1] // _ENOUGH)  # of a large surface some bands say as much
    if every > 1:
        row = np.arange(part.shape[0])
        part, inside = part[row // _BAND % every == 0], inside[row // _BAND % every == 0]
        at = row[row // _BAND % every == 0] % _BAND
        inside[(at < _PATCH) | (at >= _BAND - _PATCH)] = False
    channels = [luma(np.ascontiguousarray(part[..., k:k + 1])).astype(np.float32) for k in range(3)]
    slopes = np.stack([_slopes(c)[:, inside].ravel() for c in channels])
    power = slopes.astype(np.float64) @ slopes.T / slopes.shape[1]
    grain = np.array([grain_variance(c, inside) for c in channels]) + NO_GRAIN
    grain = np.diag(grain + _EVEN * grain.mean())
    best, mixture = 0.0, brightness
    for count in (3, 2, 1):
        for some in map(list, combinations(range(3), count)):
            values, vectors = np.linalg.eig(np.linalg.solve(grain[np.ix_(some, some)], power[np.ix_(some, some)]))
            k = int(np.argmax(values.real))
            axis = vectors[:, k].real
            if values[k].real > best and abs(axis.sum()) >= np.abs(axis).sum() - 1e-9:
                best, mixture = float(values[k].real), np.zeros(3)
                mixture[some] = axis / axis.sum()
    return mixture


def _slopes(channel: np.ndarray) -> np.ndarray:
    """(2, h, w) slopes in x and y of a channel as smooth as the tracker sees it."""
    smooth = Pyramid(channel)[0]
    return np.stack([cv2.Scharr(smooth, cv2.CV_32F, i, 1 - i, scale=1 / 32) for i in (1, 0)])


def grain_variance(channel: np.ndarray, inside: np.ndarray) -> float:
    """Variance of the grain of a channel (h, w) float32, where `inside` (h, w) is true; of grain that goes together, a part only."""
    rest = cv2.filter2D(channel, cv2.CV_32F, _GRAIN_KERNEL)
    return float(np.quantile(cv2.blur(rest * rest, (_PATCH, _PATCH))[inside], _FLAT))
