"""Film grain and sensor noise: measured in a picture, channel by channel and by brightness, and made anew.

Flat blocks of a picture vary by the grain alone, textured ones by more. Of the blocks of one brightness the calmest are taken for flat, and what is
known of how far the deviations of samples of that size lie apart says how much calmer than the grain they are (the deviation of a sample of n has itself
one of about 1 / sqrt(2 n) of it). Where a surface is nowhere flat, it is taken away by another frame of itself.
Grain goes together over some pixels as white noise through a Gaussian does.
"""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import cache, lru_cache
from itertools import pairwise
from typing import NamedTuple

import cv2
import numpy as np

_BLOCK = 16  # pixels of a block's side
_BINS = 8  # of brightness, at most
_FEWEST = 24  # blocks in a bin for it to say something
_CALM, _BELOW = 0.1, 1.2816  # quantile of a bin's blocks that is taken for flat, and by how many deviations a normal distribution's lies below its mean
_ALIKE = 0.2  # by what part blocks may differ from that and count for how grain goes together
_CLIPPED = 0.985  # of white, from which grain is cut off
_FIELD = 1536  # pixels of the side of the field from which frames take their parts
_FEW_CLIPPED = 0.1  # of a block's pixels that may be clipped where two frames are compared; its deviation is too small by half of that
_PHASES = 16  # parts of a pixel that are told apart where a picture is interpolated
_INTERPOLATION = cv2.INTER_LANCZOS4  # keeps fine texture, which must be the same on both frames
_TINY = 0.01  # of white, added where brightnesses are divided
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


class Registered(NamedTuple):
    """A part of a picture, and the same surface on another frame.

    Attributes
    ----------
    picture : (h, w, 3) float32.
    other : (h, w, 3) float32, the other frame as `taken_at` gives it.
    places : (n, 2) where in the other frame its pixels were taken, in pixels, the first pixel's centre at 0.
    inside : (h, w) bool, where the surface is.
    """

    picture: np.ndarray
    other: np.ndarray
    places: np.ndarray
    inside: np.ndarray


class _Tables(NamedTuple):
    """What grain of sizes (n,) looks like in blocks from which a quadratic surface was taken: how much neighbours go together, and the share of its
    energy that is left."""

    sizes: np.ndarray
    beside: np.ndarray
    left: np.ndarray


def measure_grain(pictures: Sequence[np.ndarray], registered: Sequence[Registered] = ()) -> Grain | None:
    """The grain of pictures (h, w, 3) float32, 0..1 in their own coding; None where nothing tells it.

    Parameters
    ----------
    registered : parts of pictures with the same surface on another frame. What is the same on both is no grain: where a picture is nowhere flat, the
        blocks of their differences are calmer than those of the picture, and are believed instead.
    """
    alone = _by_blocks([(p, p, None) for p in pictures], _plain_tables())
    if not registered:
        return alone
    interpolated = _Interpolated(np.concatenate([np.asarray(r.places, float).reshape(-1, 2) % 1 for r in registered]))
    differences = _by_blocks([(r.picture, r.picture - _as_bright(r.other, r.picture), r.inside) for r in registered], interpolated.tables())
    return differences if alone is None or (differences is not None and _calmer(differences, alone)) else alone


def _calmer(grain: Grain, than: Grain) -> bool:
    """Whether a measurement finds less grain than another, by more than they are sure, over the brightnesses that the first knows."""
    other = np.stack([np.interp(grain.levels, than.levels, channel) for channel in than.deviations.T], axis=1)
    return float((grain.deviations / other).mean()) < 1 - _ALIKE / 2


def _as_bright(other: np.ndarray, picture: np.ndarray) -> np.ndarray:
    """A picture in the light of another, which may change slowly from place to place."""
    here, there = (cv2.GaussianBlur(p, (0, 0), _BLOCK) for p in (picture, other))
    return other * ((here + _TINY) / (there + _TINY))


def _by_blocks(parts: Sequence[tuple[np.ndarray, np.ndarray, np.ndarray | None]], tables: _Tables) -> Grain | None:
    """The grain of pictures (h, w, 3), by what varies in the calmest blocks of others of that size, inside masks (h, w)."""
    means, spreads, together = [], [], []
    for picture, varies, mask in parts:
        blocks = _blocks(picture)
        clipped = ((blocks >= _CLIPPED) | (blocks <= 1 - _CLIPPED)).mean((1, 2, 3))
        sound = clipped <= (0.0 if mask is None else _FEW_CLIPPED)  # a strong texture is clipped here and there
        if mask is not None:
            sound &= _blocks(mask[..., None]).all((1, 2, 3))
        if not sound.any():
            continue
        rest = _without_slope(_blocks(varies)[sound].astype(np.float64))
        means.append(blocks[sound].mean((1, 2), dtype=np.float64))
        energy = _mean_products(rest, rest)
        spreads.append(np.sqrt(energy))
        together.append((_mean_products(rest[:, :, 1:], rest[:, :, :-1]) + _mean_products(rest[:, 1:], rest[:, :-1])) / 2 / np.maximum(energy, 1e-12))
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
        near = np.abs(spread[inside].mean(1) / max(calm.mean(), 1e-12) - 1) < _ALIKE
        levels.append(float(mean[inside][near].mean()) if near.any() else float(mean[inside].mean()))
        deviations.append(calm)
        lags.append(float(np.median(lag[inside][near].mean(1))) if near.any() else 0.0)
    if not levels:
        return None
    order = np.argsort(levels)
    # the surface taken out of each block takes with it some of what goes together
    size = float(np.interp(np.median(lags), tables.beside, tables.sizes))
    independent = (_BLOCK ** 2 - 6) / max(1.0, 2 * np.pi * size ** 2)
    lower = np.sqrt(np.interp(size, tables.sizes, tables.left)) * (1 - _BELOW / np.sqrt(2 * independent))
    return Grain(np.array(levels)[order], np.array(deviations)[order] / lower, size if size > _LEAST_SIZE else 0.0)


def _blocks(picture: np.ndarray) -> np.ndarray:
    """(n, s, s, c) the whole blocks of a picture (h, w, c)."""
    h, w = (s // _BLOCK * _BLOCK for s in picture.shape[:2])
    return picture[:h, :w].reshape(h // _BLOCK, _BLOCK, w // _BLOCK, _BLOCK, -1).swapaxes(1, 2).reshape(-1, _BLOCK, _BLOCK, picture.shape[2])


def _mean_products(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """(n, 3) the mean over the pixels of blocks (n, h, w, 3) of their products."""
    return np.asarray(np.einsum("nijc,nijc->nc", a, b) / (a.shape[1] * a.shape[2]))


def _basis() -> np.ndarray:
    """(s s, 6) quadratic surfaces over a block."""
    y, x = np.mgrid[0:_BLOCK, 0:_BLOCK] / (_BLOCK - 1) - 0.5
    return np.stack([np.ones_like(x), x, y, x * x, x * y, y * y], axis=-1).reshape(-1, 6)


def _without_slope(blocks: np.ndarray) -> np.ndarray:
    """Blocks (n, s, s, 3) without the quadratic surface that fits each best."""
    basis = _basis()
    flat = blocks.reshape(len(blocks), -1, 3)
    return np.asarray((flat - basis @ (np.linalg.pinv(basis) @ flat)).reshape(blocks.shape))


def _tables(correlation: Callable[[float], np.ndarray]) -> _Tables:
    """Tables for noise whose correlation at so many pixels apart (s, s) as rows and columns is a function of the grain's size."""
    energy, neighbours = _correlation_weights()
    sizes = np.arange(0, 3.01, 0.05)
    each = np.array([correlation(float(size)) for size in sizes]).reshape(len(sizes), -1)
    left = each @ energy
    return _Tables(sizes, np.maximum.accumulate(each @ neighbours / left), left)


@cache
def _correlation_weights() -> tuple[np.ndarray, np.ndarray]:
    """(s s,) each: by the correlation of noise at so many rows and columns apart, the mean variance of a pixel, and the mean covariance of two beside each
    other in a row, in blocks from which a quadratic surface was taken.

    Both are linear in the noise's covariance C. With the projection K that takes the surface out, they are the traces of K C K and of P K C K, where P
    pairs the neighbours, and so the sums of the elements of C by those of K and of K P K.
    """
    y, x = np.mgrid[0:_BLOCK, 0:_BLOCK].reshape(2, -1)
    apart = (np.abs(y[:, None] - y[None]) * _BLOCK + np.abs(x[:, None] - x[None])).ravel()
    basis = _basis()
    keep = np.eye(_BLOCK ** 2) - basis @ np.linalg.pinv(basis)
    pairs = np.diag((np.arange(1, _BLOCK ** 2) % _BLOCK > 0).astype(float), 1)
    energy, neighbours = (np.bincount(apart, m.ravel(), _BLOCK ** 2) for m in (keep, keep @ pairs @ keep))
    return energy / _BLOCK ** 2, neighbours / (_BLOCK * (_BLOCK - 1))


def _along(size: float, apart: np.ndarray) -> np.ndarray:
    """How grain of a size goes together along a line, so many pixels apart."""
    return np.asarray(np.exp(-apart ** 2 / (4 * max(size, 1e-3) ** 2)))


@cache
def _plain_tables() -> _Tables:
    apart = np.arange(_BLOCK, dtype=float)
    return _tables(lambda size: np.outer(_along(size, apart), _along(size, apart)))


class _Interpolated:
    """The grain of a picture less that of another which was interpolated at places whose parts of a pixel are `phases` (n, 2) in 0..1."""

    def __init__(self, phases: np.ndarray) -> None:
        bins = np.minimum((phases * _PHASES).astype(int), _PHASES - 1)
        self.often = [np.bincount(b, minlength=_PHASES) / len(b) for b in bins.T]
        self.taps = _interpolation_taps()

    def tables(self) -> _Tables:
        return _tables(self._correlation)

    def _correlation(self, size: float) -> np.ndarray:
        apart = np.arange(_BLOCK, dtype=float)
        alone = np.outer(_along(size, apart), _along(size, apart))
        between = np.arange(self.taps.shape[1])[:, None] - np.arange(self.taps.shape[1])[None]
        each = np.einsum("pi,dij,pj->pd", self.taps, _along(size, apart[:, None, None] + between), self.taps, optimize=True)  # (phases, s)
        across, down = (often @ each for often in self.often)
        return np.asarray(alone + np.outer(down, across))


def _interpolation_taps() -> np.ndarray:
    """(phases, 9) the weights with which neighbours count where a picture is taken so much of a pixel further, in the middles of the phases' bins."""
    width = 9
    impulses = np.eye(width).astype(np.float32)
    at = (width // 2 + (np.arange(_PHASES) + 0.5) / _PHASES).astype(np.float32)
    rows = np.repeat(np.arange(width)[:, None], _PHASES, 1).astype(np.float32)
    columns = np.broadcast_to(at, rows.shape).astype(np.float32)
    return np.asarray(cv2.remap(impulses, columns, rows, _INTERPOLATION), float).T


def taken_at(picture: np.ndarray, places: np.ndarray) -> np.ndarray:
    """A picture (h, w, 3) at places (h2, w2, 2), the first pixel's centre at 0, with the interpolation that `measure_grain` reckons with."""
    at = places.astype(np.float32)
    return np.asarray(cv2.remap(picture, at[..., 0], at[..., 1], _INTERPOLATION))


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


def _stretches(first: int, count: int) -> Iterator[tuple[slice, slice]]:
    """Slices of `count` places and of the field's own side, which is repeated, from a first place on."""
    done = 0
    while done < count:
        start = (first + done) % _FIELD
        many = min(_FIELD - start, count - done)
        yield slice(done, done + many), slice(start, start + many)
        done += many


def part_of_frame(box: tuple[int, int, int, int], grain_size: float, seed: Sequence[int]) -> np.ndarray:
    """(h, w, 3) float32 noise as `made` gives it for a box x0, y0, x1, y1 of a picture, quickly: for each seed another part of one large field, which is
    repeated beyond its edges."""
    x0, y0, x1, y1 = box
    dx, dy, over = np.random.default_rng(list(seed)).integers(0, [_FIELD, _FIELD, 8])
    field, low, size = _field(round(grain_size, 3)), (y0 + int(dy), x0 + int(dx)), (y1 - y0, x1 - x0)
    if over & 3:
        field = field[::-1 if over & 1 else 1, ::-1 if over & 2 else 1]
    found = np.empty((*size, 3), np.float32)
    for rows, from_rows in _stretches(low[0], size[0]):
        for columns, from_columns in _stretches(low[1], size[1]):
            found[rows, columns] = field[from_rows, from_columns]
    return np.negative(found, out=found) if over & 4 else found
