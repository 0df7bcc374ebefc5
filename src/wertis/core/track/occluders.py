"""Which pixels of a frame are not the surface's own: what passes in front of it, found from the motion alone."""

import cv2
import numpy as np

from wertis.core.geometry.warp import Warp
from wertis.core.imaging.resample import unwarped, warped

_SMOOTH = 1.4      # pixels; small misplacements and grain must not count
_AGREE, _AGREE_OF_NORMAL = 0.2, 0.253  # the share that must agree, and that quantile of a normal's absolute values
_CUT = 4.0         # standard deviations from which a pixel is distrusted
_LEAST = 7.0       # luma on a scale of 0..255: differences below this are not seen
_EDGE = 0.6        # pixels by which an edge may be off without being distrusted
_LIGHT_CELL = 48   # pixels over which light changes
_SMALLEST = 60     # pixels; smaller islands are grain


def occluder_mask(reference: np.ndarray, frame: np.ndarray, warp: Warp, mask: np.ndarray) -> np.ndarray:
    """The mask (h, w) uint8 in the frame's picture, 255 where the region is covered by something else.

    The frame is laid on the reference by the motion; a gain and an offset are fitted robustly, slow changes of light are taken out, and what
    still differs by more than noise and the picture's own edges explain is distrusted.

    Parameters
    ----------
    reference, frame : (h, w) luma, 0..255.
    warp : reference to frame.
    mask : (h, w) uint8, the region on the reference frame.
    """
    h, w = reference.shape
    ref = cv2.GaussianBlur(reference.astype(np.float32), (0, 0), _SMOOTH)
    cur = unwarped(cv2.GaussianBlur(frame.astype(np.float32), (0, 0), _SMOOTH), warp, (w, h), border=-1e4)
    inside = (mask > 0) & (cur > -10)
    if inside.sum() < 100:
        return np.zeros(frame.shape[:2], np.uint8)
    gain, offset = _robust_line(ref[inside], cur[inside])
    rest = np.where(inside, cur - gain * ref - offset, 0).astype(np.float32)
    good = inside & (np.abs(rest) < 3 * max(_scale(rest[inside]), 1.0))
    rest -= _slow(rest, good)
    sigma = max(_scale(rest[good]), 0.5)
    gx, gy = cv2.Scharr(ref, cv2.CV_32F, 1, 0, scale=1 / 32), cv2.Scharr(ref, cv2.CV_32F, 0, 1, scale=1 / 32)
    allowed = np.maximum(_CUT * sigma, _LEAST) + _EDGE * gain * cv2.dilate(np.hypot(gx, gy), np.ones((3, 3), np.uint8))
    odd = ((np.abs(rest) > allowed) & inside).astype(np.uint8)
    # a passer is a body: fill the places where it happens to be as bright as the surface, drop grain
    odd = cv2.morphologyEx(odd, cv2.MORPH_CLOSE, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (15, 15)))
    odd = cv2.morphologyEx(odd, cv2.MORPH_OPEN, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (3, 3)))
    count, labels, stats, _ = cv2.connectedComponentsWithStats(odd)
    keep = np.zeros(count, np.uint8)
    keep[1:] = (stats[1:, cv2.CC_STAT_AREA] >= _SMALLEST) * 255
    found = keep[labels] * inside.astype(np.uint8)
    return (warped(found, warp, (frame.shape[1], frame.shape[0])) > 127).astype(np.uint8) * 255


def _robust_line(x: np.ndarray, y: np.ndarray) -> tuple[float, float]:
    """Gain and offset of y = gain x + offset for the fifth of the pixels that agree best, so that most may be hidden.

    P. Rousseeuw, Least median of squares regression, 1984, with a lower quantile than the median; then least squares on what agrees.
    """
    rng = np.random.default_rng(0)  # the same answer each time
    pick = rng.integers(0, len(x), 3000)
    px, py = x[pick].astype(np.float64), y[pick].astype(np.float64)
    i, j = rng.integers(0, len(pick), (2, 500))
    apart = np.abs(px[i] - px[j]) > 12
    gains = np.append(np.clip((py[i] - py[j])[apart] / (px[i] - px[j])[apart], 0.4, 2.5), 1.0)
    middles = np.append(((py[i] + py[j]) / 2)[apart], np.median(py)), np.append(((px[i] + px[j]) / 2)[apart], np.median(px))
    offsets = middles[0] - gains * middles[1]
    misses = np.abs(py[None] - gains[:, None] * px[None] - offsets[:, None])
    spread = np.maximum(np.quantile(misses, _AGREE, axis=1), 0.3)
    # flat paint on flat paint agrees by chance: what agrees must also have contrast
    agree = (misses < 3 * spread[:, None]).astype(np.float64)
    count = agree.sum(1)
    contrast = np.sqrt(np.maximum(agree @ px ** 2 / count - (agree @ px / count) ** 2, 0)) * gains
    best = int(np.argmin(spread / (contrast + 2.0)))
    near = misses[best] < 3 * max(spread[best] / _AGREE_OF_NORMAL, 1.0)
    if np.ptp(px[near]) < 12:
        return float(gains[best]), float(offsets[best])
    gain, offset = np.polyfit(px[near], py[near], 1)
    return float(np.clip(gain, 0.4, 2.5)), float(offset)


def _scale(values: np.ndarray) -> float:
    """Standard deviation of the fifth of the values that lie nearest to zero, taken as part of a normal distribution."""
    return float(np.quantile(np.abs(values), _AGREE) / _AGREE_OF_NORMAL) if len(values) else 0.0


def _slow(rest: np.ndarray, good: np.ndarray) -> np.ndarray:
    """The slow part of a residual over its good pixels (normalised convolution)."""
    weight = cv2.GaussianBlur(good.astype(np.float32), (0, 0), _LIGHT_CELL)
    total = cv2.GaussianBlur(rest * good, (0, 0), _LIGHT_CELL)
    return np.where(weight > 0.02, total / np.maximum(weight, 1e-3), 0).astype(np.float32)
