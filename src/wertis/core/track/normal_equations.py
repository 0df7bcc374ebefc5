"""One pass of an alignment over its tiles: the light in each, what is left, which pixels count, and the normal equations.

Once in C (compiled/tiles.c), and once in NumPy, which says what is meant and stands in where there was no compiler.
"""

import ctypes
from dataclasses import dataclass
from functools import partial

import numpy as np

from wertis.core import compiled
from wertis.core.compiled import address
from wertis.core.track.reference import GAIN_PRIOR, PLAIN, TileSet
from wertis.core.track.sampling import plainly_read

QUANTILE, WIDENED = 0.3, 1.15  # two thirds of the tiles may be hidden and the scale is still that of the surface
TEXTURE_SHARE = 0.01  # part of a tile's own contrast that always counts as noise (resampling, changes of sharpness)
_PIXEL_CUT = 2.5  # standard deviations at which a pixel counts a quarter
_TILE_CUT = 3.0   # times the usual tile residual at which a tile counts a quarter


@dataclass
class Matter:
    """What the passes of one alignment share.

    Attributes
    ----------
    tiles, chosen : the tile set, and the indices (n,) of the tiles used.
    columns : (C, K, P) float32: `steepest_descent`, or `joint`.
    picture, held : (h, w) float32 pyramid levels; `held` is 1 where pixels do not exist for the track, or None.
    shrink : how many times smaller than level 0 they are.
    taps : (J, n, 2) float32 offsets at which the picture is read and averaged, or None.
    trust : (n,) prior weight.
    clip_level : luma from which a pixel is left out as clipped.
    """

    tiles: TileSet
    chosen: np.ndarray
    columns: np.ndarray
    picture: np.ndarray
    held: np.ndarray | None
    shrink: float
    taps: np.ndarray | None
    trust: np.ndarray
    clip_level: float

    def __post_init__(self) -> None:
        self.energy = self.tiles.energy[self.chosen].astype(np.float64)
        self.texture = np.sqrt(self.tiles.information[self.chosen] + 1e-6).astype(np.float64)
        self.weights = self.tiles.inside[self.chosen] * np.maximum(self.trust, 0.02)[:, None].astype(np.float32)
        self.gain = 1.0
        self.bound: _Bound | None = None


@dataclass
class Outcome:
    """Of one pass: for each tile (n,) `variance` left, `misfit` over what is usual, and whether it is `odd`, that is not this surface;
    `joint` (C, C) and `pull` (C,), the normal equations. The weights (n, P) and the surface's gain are kept in the `Matter`."""

    variance: np.ndarray
    misfit: np.ndarray
    odd: np.ndarray
    joint: np.ndarray
    pull: np.ndarray


def one_pass(matter: Matter, matrix: np.ndarray, share: float, beside: np.ndarray) -> Outcome:
    """One pass at `matrix` (3, 3).

    Parameters
    ----------
    share : part of a tile's contrast that counts as noise.
    beside : amounts (C - 8,) or (0,) float32 of the columns beside the motion that are taken out of what is left.

    Raises
    ------
    numpy.linalg.LinAlgError
        When a tile's equations cannot be solved.
    """
    fits = matter.tiles.inside.shape[1] <= compiled.MOST_PIXELS and len(matter.columns) <= compiled.MOST_COLUMNS and min(matter.picture.shape) > 1
    run = _compiled if compiled.LIBRARY is not None and fits else plain
    return run(matter, matrix, share, beside)


def scale_of(ratio: np.ndarray, trust: np.ndarray, texture: np.ndarray) -> float:
    """What is usual on this frame: a low quantile over the texture, so that two thirds of it may be hidden."""
    return weighted_quantile(ratio, texture * (trust + 0.05), QUANTILE) * WIDENED


def weighted_quantile(values: np.ndarray, weights: np.ndarray, share: float) -> float:
    """The least of `values` (n,) at or under which `share` of the weight lies."""
    order = np.argsort(values)
    total = np.cumsum(weights[order])
    return float(values[order[np.searchsorted(total, total[-1] * share)]])


def plain(matter: Matter, matrix: np.ndarray, share: float, beside: np.ndarray) -> Outcome:
    """`one_pass` in NumPy."""
    tiles, chosen = matter.tiles, matter.chosen
    basis, inside = tiles.basis[chosen], tiles.inside[chosen]
    x, y = tiles.x[chosen], tiles.y[chosen]
    n, pixels = inside.shape
    columns = matter.columns[:, chosen]
    flat = columns.reshape(-1, n * pixels)
    seen = plainly_read(matter.picture, matrix, x, y, matter.shrink, matter.taps)
    lit = (seen < matter.clip_level) * inside
    if matter.held is not None:
        lit *= 1 - plainly_read(matter.held, matrix, x, y, matter.shrink)
    # the light in each tile, by weighted least squares with its gain drawn to the surface's
    wb = basis * (matter.weights * lit)[:, None]
    gram = wb @ basis.transpose(0, 2, 1)
    right = (wb @ seen[..., None])[..., 0]
    mass = gram[:, 0, 0] + 1e-3
    for j in (0, 1, 2):
        gram[:, j, j] += 1e-3 + 1e-3 * mass
    right[:, 0] += 1e-3 * mass * seen.mean(1)
    drawn = mass * PLAIN / GAIN_PRIOR ** 2
    gram[:, 3, 3] += drawn
    right[:, 3] += drawn * matter.gain
    light = np.linalg.solve(gram.astype(np.float64), right[..., None].astype(np.float64))[..., 0].astype(np.float32)
    own = light[:, 3]
    gain = float(np.clip(weighted_quantile(own, matter.energy * matter.trust + 1e-6, 0.5), 0.05, 20.0))
    raw = (seen - (light[:, None] @ basis)[:, 0]) / np.maximum(own, 0.3 * gain)[:, None]
    rest = raw - (beside @ flat[8:8 + len(beside)]).reshape(n, pixels) if len(beside) else raw
    count_lit = lit.sum(1)
    variance = (rest ** 2 * lit).sum(1) / np.maximum(count_lit, 1)
    usual = PLAIN + share * matter.energy
    scale = max(scale_of(variance / usual, matter.trust, matter.texture), 1e-3)
    misfit = variance / usual / scale
    # contrast turned over or gone is not this surface
    odd = (own < 0.35 * gain) | (count_lit < 0.3 * np.maximum(inside.sum(1), 1))
    tile_weight = 1 / (1 + (misfit / _TILE_CUT) ** 2) ** 2
    tile_weight[odd] = 0
    sigma2 = (usual * scale)[:, None]
    pixel_weight = 1 / (1 + rest ** 2 / (_PIXEL_CUT ** 2 * sigma2)) ** 2
    matter.weights = (pixel_weight * lit * (tile_weight * np.sqrt(np.maximum(matter.trust, 0.02)))[:, None]).astype(np.float32)
    matter.gain = gain
    # pixels count by the inverse of their variance
    weighted = columns * (matter.weights / sigma2.astype(np.float32))
    joint = (weighted.transpose(1, 0, 2) @ columns.transpose(1, 2, 0)).sum(0, dtype=np.float64)
    return Outcome(variance, misfit, odd, joint, (weighted.reshape(-1, n * pixels) @ raw.ravel()).astype(np.float64))


class _Bound:
    """The call into C for one alignment: all that its passes share is made ready once."""

    def __init__(self, matter: Matter) -> None:
        tiles, f, d = matter.tiles, np.float32, np.float64
        n, count, pixels = len(matter.chosen), len(matter.columns), tiles.inside.shape[1]
        h, w = matter.picture.shape
        taps = None if matter.taps is None else np.ascontiguousarray(matter.taps, f)
        self.onto, self.gain, self.scale = np.empty((3, 3)), np.empty(1), np.empty(1)
        self.constants = np.array([PLAIN, GAIN_PRIOR, matter.clip_level, 0.0, _TILE_CUT, _PIXEL_CUT, QUANTILE, WIDENED])
        self.odd, self.beside = np.empty(n, np.uint8), np.zeros(max(count - 8, 1), f)
        chosen, trust = np.ascontiguousarray(matter.chosen, np.int64), np.ascontiguousarray(matter.trust, d)
        self._alive = (taps, chosen, trust, matter.weights)  # the library has their addresses only
        # of each pass, in one piece: what the tiles say, and the normal equations
        self.outcome = np.empty(2 * n + count * count + count)
        self._split = n, 2 * n, 2 * n + count * count
        at = self.outcome.ctypes.data
        variance, misfit, joint, pull = (ctypes.c_void_p(at + 8 * start) for start in (0, *self._split))
        assert compiled.LIBRARY is not None
        self._call = partial(
            compiled.LIBRARY.align_pass, address(matter.picture, f), h, w, address(matter.held, f), address(self.onto, d), address(tiles.x, f),
            address(tiles.y, f), address(tiles.basis, f), address(tiles.inside, f), address(matter.columns, f), ctypes.c_ssize_t(len(tiles)), pixels,
            count, address(chosen, np.int64), n, address(taps, f), 0 if taps is None else len(taps), address(matter.energy, d), address(trust, d),
            address(matter.texture, d), address(self.constants, d), address(self.beside, f))
        self._after = (address(matter.weights, f), address(self.gain, d), variance, misfit, address(self.odd, np.uint8), address(self.scale, d),
                       joint, pull)

    def __call__(self, matter: Matter, matrix: np.ndarray, share: float, beside: np.ndarray) -> Outcome:
        np.divide(matrix, [[matter.shrink], [matter.shrink], [1.0]], out=self.onto)
        self.constants[3], self.gain[0] = share, matter.gain
        self.beside[:len(beside)] = beside
        if not self._call(len(beside), *self._after):
            raise np.linalg.LinAlgError("a tile's light cannot be solved for")
        matter.gain = float(self.gain[0])
        a, b, c = self._split
        found = self.outcome.copy()
        count = len(matter.columns)
        return Outcome(found[:a], found[a:b], self.odd.astype(bool), found[b:c].reshape(count, count), found[c:])


def _compiled(matter: Matter, matrix: np.ndarray, share: float, beside: np.ndarray) -> Outcome:
    """`one_pass` in C."""
    if matter.bound is None:
        matter.bound = _Bound(matter)
    return matter.bound(matter, matrix, share, beside)
