"""Film grain and sensor noise: measured in a picture, channel by channel and by brightness, and made anew.

Flat blocks of a picture vary by the grain alone, textured ones by more. Of the blocks of one brightness the calmest are taken for flat, and what is
known of how far the deviations of samples of that size lie apart says how much calmer than the grain they are (the deviation of a sample of n has itself
one of about 1 / sqrt(2 n) of it). Grain goes together over some pixels as white noise through a Gaussian does.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache, lru_cache
from itertools import pairwise

import cv2
import numpy as np

_BLOCK = 16  # pixels of a block's side
_BINS = 8  # of brightness, at most
_FEWEST = 24  # blocks in a bin for it to say something
_CALM, _BELOW = 0.1, 1.2816  # quantile of a bin's blocks that is taken for flat, and by how many deviations a normal distribution's lies below its mean
_ALIKE = 0.2  # by what part blocks may differ from that and count for how grain goes together
_CLIPPED = 0.985  # of white, from which grain is cut off
_FIELD = 1536  # pixels of the side of the field from which frames take their parts
_LEAST_SIZE = 0.05  # pixels, standard deviation, below which grain is white noise


@dataclass(frozen=True)
class Grain:
    """Grain as it was measured.

    Attributes
    ----------
    levels : (L,) brightness of the picture, 0..1, rising.
    deviations : (L, 3) its standard deviation in red, green and blue there, in the picture's own numbers (0..1).
    size : standard deviation in pixels of the Gaussian through which white noise goes together as it does.
    """

    levels: np.ndarray
    deviations: np.ndarray
    size: float


def measure_grain(pictures: Sequence[np.ndarray]) -> Grain | None:
    """The grain of pictures (h, w, 3) float32, 0..1 in their own coding; None where there is no flat part to tell it by."""
    means, spreads, together = [], [], []
    for picture in pictures:
        h, w = (s // _BLOCK * _BLOCK for s in picture.shape[:2])
        blocks = picture[:h, :w].reshape(h // _BLOCK, _BLOCK, w // _BLOCK, _BLOCK, 3).swapaxes(1, 2).reshape(-1, _BLOCK, _BLOCK, 3)
        sound = (blocks.max((1, 2, 3)) < _CLIPPED) & (blocks.min((1, 2, 3)) > 1 - _CLIPPED)
        if not sound.any():
            continue
        rest, mean = _without_slope(blocks[sound].astype(np.float64))
        means.append(mean)
        spreads.append(np.sqrt((rest ** 2).mean((1, 2))))
        together.append((np.mean(rest[:, :, 1:] * rest[:, :, :-1], (1, 2)) + np.mean(rest[:, 1:] * rest[:, :-1], (1, 2))) / 2
                        / np.maximum((rest ** 2).mean((1, 2)), 1e-12))
    if sum(map(len, means)) < _FEWEST:
        return None
    mean, spread, lag = (np.concatenate(v) for v in (means, spreads, together))
    bright = mean.mean(1)
    edges = np.quantile(bright, np.linspace(0, 1, min(_BINS, max(1, len(mean) // (4 * _FEWEST))) + 1))
    levels, deviations, lags = [], [], []
    for low, high in pairwise(edges):
        inside = np.flatnonzero((bright >= low) & (bright <= high))
        if len(inside) < _FEWEST:
            continue
        calm = np.quantile(spread[inside], _CALM, axis=0)
        near = np.abs(spread[inside].mean(1) / calm.mean() - 1) < _ALIKE
        levels.append(float(mean[inside][near].mean()) if near.any() else float(mean[inside].mean()))
        deviations.append(calm)
        lags.append(float(np.median(lag[inside][near].mean(1))) if near.any() else 0.0)
    if not levels:
        return None
    order = np.argsort(levels)
    # the surface taken out of each block takes with it some of what goes together
    sizes, beside, left = _what_is_left()
    size = float(np.interp(np.median(lags), beside, sizes))
    independent = (_BLOCK ** 2 - 6) / max(1.0, 2 * np.pi * size ** 2)
    lower = np.sqrt(np.interp(size, sizes, left)) * (1 - _BELOW / np.sqrt(2 * independent))
    return Grain(np.array(levels)[order], np.array(deviations)[order] / lower, size if size > _LEAST_SIZE else 0.0)


def _basis() -> np.ndarray:
    """(s s, 6) quadratic surfaces over a block."""
    y, x = np.mgrid[0:_BLOCK, 0:_BLOCK] / (_BLOCK - 1) - 0.5
    return np.stack([np.ones_like(x), x, y, x * x, x * y, y * y], axis=-1).reshape(-1, 6)


@cache
def _what_is_left() -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """For grain of sizes (n,), once a quadratic surface is taken out of each block: how much neighbours go together, and the share of its energy left."""
    y, x = np.mgrid[0:_BLOCK, 0:_BLOCK].reshape(2, -1)
    apart = (x[:, None] - x[None]) ** 2 + (y[:, None] - y[None]) ** 2
    basis = _basis()
    keep = np.eye(_BLOCK ** 2) - basis @ np.linalg.pinv(basis)
    right = [(k, k + 1) for k in range(_BLOCK ** 2) if (k + 1) % _BLOCK]
    sizes, beside, left = np.arange(0, 3.01, 0.05), [], []
    for size in sizes:
        covariance = keep @ (np.exp(-apart / (4 * max(size, 1e-3) ** 2))) @ keep
        share = float(np.trace(covariance)) / _BLOCK ** 2
        beside.append(float(np.sum([covariance[a, b] for a, b in right])) / (_BLOCK * (_BLOCK - 1)) / share)
        left.append(share)
    return sizes, np.maximum.accumulate(beside), np.array(left)


def _without_slope(blocks: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Blocks (n, s, s, 3) without the quadratic surface that fits each best, and their means (n, 3)."""
    basis = _basis()
    flat = blocks.reshape(len(blocks), -1, 3)
    fitted = basis @ (np.linalg.pinv(basis) @ flat)
    return (flat - fitted).reshape(blocks.shape), flat.mean(1)


def made(size: tuple[int, int], grain_size: float, seed: Sequence[int]) -> np.ndarray:
    """(h, w, 3) float32 noise of deviation 1 for a picture of `size` (width, height), that goes together over `grain_size` pixels; the same for a seed."""
    return _through(np.random.default_rng(list(seed)).standard_normal((size[1], size[0], 3), dtype=np.float32), grain_size)


def _through(noise: np.ndarray, grain_size: float) -> np.ndarray:
    """White noise through a Gaussian, its deviation 1 again; it goes on across its edges as if it were repeated there."""
    if grain_size <= _LEAST_SIZE:
        return noise
    room = max(1, int(np.ceil(4 * grain_size)))
    kernel = cv2.getGaussianKernel(2 * room + 1, grain_size)
    repeated = np.pad(noise, ((room, room), (room, room), (0, 0)), mode="wrap")
    blurred = cv2.sepFilter2D(repeated, -1, kernel, kernel)[room:-room, room:-room]
    return np.asarray(blurred / np.float32((kernel ** 2).sum()))


@lru_cache(maxsize=4)
def _field(grain_size: float) -> np.ndarray:
    return _through(np.random.default_rng(1).standard_normal((_FIELD, _FIELD, 3), dtype=np.float32), grain_size)


def part_of_frame(box: tuple[int, int, int, int], grain_size: float, seed: Sequence[int]) -> np.ndarray:
    """(h, w, 3) float32 noise as `made` gives it for a box x0, y0, x1, y1 of a picture, quickly: for each seed another part of one large field, which is
    repeated beyond its edges."""
    x0, y0, x1, y1 = box
    dx, dy, over = np.random.default_rng(list(seed)).integers(0, [_FIELD, _FIELD, 8])
    rows, columns = (np.arange(y0, y1) + dy) % _FIELD, (np.arange(x0, x1) + dx) % _FIELD
    if over & 1:
        rows = _FIELD - 1 - rows
    if over & 2:
        columns = _FIELD - 1 - columns
    found = _field(round(grain_size, 3))[rows[:, None], columns[None]]
    return -found if over & 4 else found
