"""How the light on a surface changes from one picture to another, place by place: what it is multiplied by, and what is added to it.

Around each place the surface's own texture, seen in both pictures, is a line's worth of pairs of brightness: its slope is the gain, what is left at black
is light that was added, by a highlight, a reflection or haze (the local linear model of K. He, J. Sun and X. Tang, Guided image filtering, 2013). What
passes in front has another texture: its pairs do not go together, and it counts little.
"""

import cv2
import numpy as np

PLACES = 16  # across and down, for which the change is given
_WINDOW, _WIDE = 0.03, 0.2  # of the surface's side, standard deviation of the window, and of the one that stands in where the first holds little
_SHARE = 0.02  # of the wide window in the sum
_TEXTURE = 0.03  # of the surface's side, standard deviation of the window in which textures are compared
_ALIKE = (0.5, 0.9)  # correlations from which a texture counts at all, and in full
_PLAIN = 0.02  # relative contrast below which there is no texture to compare
_UNSURE = 0.05  # weight of places that have none
_ROUNDS = 4  # of reweighting
_NOISE, _AGREE = 0.004, 0.1  # of white, and of the light, by which places may be off that count in full
_GAIN_PRIOR, _ADDED_PRIOR = 5e-4, 5e-3  # how much less likely, the squares relative to the brightness's, a change is by gain, and by what is added


def light_field(before: np.ndarray, after: np.ndarray, sound: np.ndarray, clipped: np.ndarray) -> np.ndarray:
    """By what light changed between two pictures of a surface.

    Parameters
    ----------
    before, after : (n, n, 3) linear light at the same places, evenly spread over the surface.
    sound : (n, n, 3) bool, where both are known and neither black nor clipped.
    clipped : (n, n, 3) bool, where the first is, and the second is clipped: at least so bright.

    Returns
    -------
    (PLACES, PLACES, 6) of red, green and blue: what light is multiplied by, less 1, and what is added.
    """
    counts = _goes_together(before, after, (sound | clipped).any(-1))
    out = np.zeros((*before.shape[:2], 6))
    for channel in range(3):
        a, b = (np.nan_to_num(p[..., channel].astype(np.float64)) for p in (before, after))
        known, least = sound[..., channel], clipped[..., channel]
        weight = counts * known
        for _ in range(_ROUNDS):
            gain, added = _line(a, b, weight)
            off = (1 + gain) * a + added - b
            # what is clipped tells something where it is foretold to be darker
            weight = counts * (known | (least & (off < 0))) / (1 + (off / (_NOISE + _AGREE * b)) ** 2)
        out[..., channel], out[..., 3 + channel] = gain, added
    return np.concatenate([cv2.resize(half, (PLACES, PLACES), interpolation=cv2.INTER_AREA) for half in (out[..., :3], out[..., 3:])], axis=-1)


def _line(a: np.ndarray, b: np.ndarray, weight: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(n, n) gain, less 1, and what is added, round each place: b = (1 + gain) a + added, by least squares with what is likely before anything is seen."""
    sums = (np.ones_like(a), a, a * a, b - a, a * (b - a))
    count, first, second, change, product = (_gathered(np.where(weight > 0, weight * v, 0.0), len(a)) for v in sums)
    level = np.maximum(first / np.maximum(count, 1e-9), 1e-4) ** 2
    aa, ab, bb = second + _GAIN_PRIOR * level, first, count + _ADDED_PRIOR
    determinant = aa * bb - ab * ab
    return (product * bb - change * ab) / determinant, (aa * change - ab * product) / determinant


def _gathered(values: np.ndarray, side: int) -> np.ndarray:
    """Sums over windows round each place."""
    near, wide = (cv2.GaussianBlur(values, (0, 0), share * side, borderType=cv2.BORDER_CONSTANT) for share in (_WINDOW, _WIDE))
    return np.asarray(near + _SHARE * wide)


def _goes_together(before: np.ndarray, after: np.ndarray, sound: np.ndarray) -> np.ndarray:
    """(n, n) how surely it is the same surface, 0..1, by the correlation of its texture."""
    a, b = (np.where(sound, np.nan_to_num(p.mean(-1).astype(np.float64)), 0.0) for p in (before, after))
    deviation = max(_TEXTURE * len(before), 1.0)

    def mean(values: np.ndarray) -> np.ndarray:
        return np.asarray(cv2.GaussianBlur(values, (0, 0), deviation))

    ones = np.maximum(mean(sound.astype(np.float64)), 1e-6)
    ma, mb = mean(a) / ones, mean(b) / ones
    va, vb, both = mean(a * a) / ones - ma * ma, mean(b * b) / ones - mb * mb, mean(a * b) / ones - ma * mb
    correlation = both / np.sqrt(np.maximum(va, 1e-12) * np.maximum(vb, 1e-12))
    low, high = _ALIKE
    contrast, other = (np.sqrt(np.maximum(v, 0)) / np.maximum(m, 1e-4) for v, m in ((va, ma), (vb, mb)))
    plain = (contrast < _PLAIN) & (other < 2 * _PLAIN)
    found = np.where(plain, _UNSURE, np.clip((correlation - low) / (high - low), 0, 1))
    reach = 2 * int(np.ceil(deviation)) + 1  # a window that reaches over a passer's edge may go together by chance
    return np.asarray(cv2.erode(found, np.ones((reach, reach), np.uint8)))
