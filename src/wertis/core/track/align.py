"""Robust alignment of reference tiles with a picture: one resolution, Gauss-Newton in the inverse compositional form.

S. Baker and I. Matthews, Lucas-Kanade 20 years on: a unifying framework, IJCV 56, 2004 (inverse compositional, robust weights);
Geman and McClure, Statistical methods for tomographic image reconstruction, 1987 (the weight function).
Each tile has a gain, an offset and two ramps of its own, fitted at every step, so that light may change over the surface.
"""

from dataclasses import dataclass

import numpy as np

from wertis.core.geometry import homography
from wertis.core.track.kinds import small_motion
from wertis.core.track.reference import GAIN_PRIOR, PLAIN, Reference, TileSet, sampled_at

CORRELATION = 3.0  # residuals of neighbouring pixels go together: this many count as one
_QUANTILE = 0.3   # two thirds of the tiles may be hidden and the scale is still that of the surface
_TEXTURE_SHARE = 0.01  # part of a tile's own contrast that always counts as noise (resampling, changes of sharpness)
_SETTLING = 0.35  # part of the roughness that is left after each step
_PIXEL_CUT = 2.5  # standard deviations at which a pixel counts a quarter
_TILE_CUT = 3.0   # times the usual tile residual at which a tile counts a quarter


@dataclass(frozen=True, eq=False)
class Expected:
    """Where the frames before let the surface be expected: a matrix (3, 3), and its standard deviation in pixels at points (N, 2) of the reference."""

    matrix: np.ndarray
    deviation: float
    points: np.ndarray


@dataclass
class Alignment:
    """The outcome for one picture.

    Attributes
    ----------
    tiles : the tile set that was aligned.
    matrix : (3, 3) reference to picture at level 0, first centres at 0.
    chosen : (n,) indices of the tiles used.
    misfit : (n,) residual variance of each tile over what is usual for it on this frame; 1 is usual.
    likeness : (n,) 0..1, how much of each tile's contrast is explained.
    weights : (n, P) final weight of each pixel.
    noise : residual variance that is usual for a tile without contrast, in luma squared.
    normal : (8, 8) information matrix of the small motion's parameters (unit coordinates), what was expected included.
    gain : the surface's contrast over the reference's.
    steps : how many steps were taken.
    beside : (m,) what was fitted beside the motion: the moments of a blur, or changes of its path's legs in pixels; empty otherwise.
    extent : standard deviation of the blur beyond the reference's, in the level's pixels; 0 where it was not fitted.
    """

    tiles: TileSet
    matrix: np.ndarray
    chosen: np.ndarray
    misfit: np.ndarray
    likeness: np.ndarray
    weights: np.ndarray
    noise: float
    normal: np.ndarray
    gain: float
    steps: int
    beside: np.ndarray
    extent: float = 0.0

    @property
    def blur(self) -> float:
        """The blur's extent in pixels of the full resolution."""
        return self.extent * 2.0 ** self.tiles.level


def align(reference: Reference, tiles: TileSet, chosen: np.ndarray, picture: np.ndarray, level: int, matrix: np.ndarray,
          kind: np.ndarray, trust: np.ndarray, steps: int, tolerance: float, white: float = 1e9,
          rough: float = 0.0,
          smear: bool = False, held: np.ndarray | None = None, taps: np.ndarray | None = None, prior: float = 0.0,
          expected: Expected | None = None) -> Alignment:
    """Improve `matrix` so that the chosen tiles match `picture` (a pyramid level).

    Parameters
    ----------
    kind : (k, 8) basis of the allowed motion.
    trust : (n,) 0..1 prior weight of each chosen tile (0 hidden on the last frame).
    steps : most Gauss-Newton steps.
    tolerance : stop when no point of the region moves further than this, in level-0 pixels of the reference.
    rough : part of a tile's contrast that counts as noise on the first step; large while the place is still unsure, so
        that the tiles with most to say are not taken for hidden.
    held : (h, w) float32 of the picture's size, 1 where pixels do not exist for the track.
    smear : fit what the tiles' `joint` columns stand for beside the motion: the moments of a blur, or the legs of its path.
    prior : information on those columns' amounts, whose expected value is 0.
    taps : (J, n, 2) offsets in level-0 pixels of the reference at which the picture is read and averaged: a blur put on it for the comparison.
    white : luma from which a pixel is taken to be clipped and left out.
    expected : counts as one more measurement, so that what the pixels in view cannot say is not left to chance.
    """
    places = np.stack([tiles.x[chosen], tiles.y[chosen]], axis=-1)
    basis, inside = tiles.basis[chosen], tiles.inside[chosen]
    energy = tiles.energy[chosen]
    n, pixels = inside.shape
    count = np.maximum(inside.sum(1), 1)
    info = np.sqrt(tiles.information[chosen] + 1e-6)
    unit = reference.to_unit
    back = np.linalg.inv(unit)
    design = (tiles.joint if smear and tiles.joint is not None else tiles.steer)[:, chosen]
    weighted = np.empty_like(design)  # filled anew at each step, since fresh memory costs more than the sums
    blur = design[8:].reshape(-1, n * pixels) if len(design) > 8 else None
    smeared = np.zeros(0 if blur is None else len(blur), np.float32)
    weights = inside * np.maximum(trust, 0.02)[:, None].astype(np.float32)
    gain = 1.0
    m = matrix
    shrink = 2.0 ** level
    step = 0
    while True:
        seen = sampled_at(picture, m, places, shrink) if taps is None else averaged(picture, m, places, taps, shrink)
        lit = (seen < white) * inside
        if held is not None:
            lit *= 1 - sampled_at(held, m, places, shrink)
        # the light in each tile, by weighted least squares with its gain drawn to the surface's
        wb = basis * (weights * lit)[:, None]
        gram = wb @ basis.transpose(0, 2, 1)
        right = (wb @ seen[..., None])[..., 0]
        mass = gram[:, 0, 0] + 1e-3
        for j in (0, 1, 2):
            gram[:, j, j] += 1e-3 + 1e-3 * mass
        right[:, 0] += 1e-3 * mass * seen.mean(1)
        pull = mass * PLAIN / GAIN_PRIOR ** 2
        gram[:, 3, 3] += pull
        right[:, 3] += pull * gain
        light = np.linalg.solve(gram.astype(np.float64), right[..., None].astype(np.float64))[..., 0].astype(np.float32)
        own = light[:, 3]
        rest = seen - (light[:, None] @ basis)[:, 0]
        gain = float(np.clip(_weighted_quantile(own, energy * trust + 1e-6, 0.5), 0.05, 20.0))
        rest *= 1 / np.maximum(own, 0.3 * gain)[:, None]
        raw = rest
        if blur is not None:
            rest = raw - (smeared @ blur).reshape(n, pixels)
        variance = (rest ** 2 * lit).sum(1) / np.maximum(lit.sum(1), 1)
        usual = PLAIN + max(_TEXTURE_SHARE, rough * _SETTLING ** step) * energy
        ratio = variance / usual
        scale = max(_scale(ratio, trust, info), 1e-3)
        misfit = ratio / scale
        # contrast turned over or gone is not this surface
        odd = (own < 0.35 * gain) | (lit.sum(1) < 0.3 * count)
        tile_weight = 1 / (1 + (misfit / _TILE_CUT) ** 2) ** 2
        tile_weight[odd] = 0
        sigma2 = (usual * scale)[:, None]
        pixel_weight = 1 / (1 + rest ** 2 / (_PIXEL_CUT ** 2 * sigma2)) ** 2
        weights = (pixel_weight * lit * (tile_weight * np.sqrt(np.maximum(trust, 0.02)))[:, None]).astype(np.float32)
        # pixels count by the inverse of their variance
        np.multiply(design, weights / sigma2.astype(np.float32), out=weighted)
        joint = (weighted.transpose(1, 0, 2) @ design.transpose(1, 2, 0)).sum(0, dtype=np.float64)
        normal = joint[:8, :8] if blur is None else _aside_from_blur(joint, np.zeros(len(joint)), kind, prior)[0]
        if expected is not None:
            moves = corner_moves(m, unit, expected.points).reshape(-1, 8)
            away = (homography.apply(expected.matrix, expected.points) - homography.apply(m, expected.points)).ravel()
            weight = CORRELATION / expected.deviation ** 2
            normal = normal + weight * moves.T @ moves
        if step >= steps:
            break
        pull_down = (weighted.reshape(-1, n * pixels) @ raw.ravel()).astype(np.float64)
        if blur is not None:
            _, pull_down, smeared = _aside_from_blur(joint, pull_down, kind, prior)
        if expected is not None:
            pull_down = pull_down - weight * moves.T @ away
        k = kind @ normal @ kind.T
        damp = 1e-6 * np.trace(k) / len(k) + 1e-9
        delta = kind.T @ np.linalg.solve(k + damp * np.eye(len(k)), kind @ pull_down)
        # a step longer than a tile is not to be believed; the linear model does not reach so far
        reach = float(np.abs(delta).sum()) * reference.radius
        longest = 0.75 * tiles.tile * 2 ** tiles.level
        if reach > longest:
            delta *= longest / reach
        m = m @ back @ small_motion(-delta) @ unit
        m = m / m[2, 2]
        step += 1
        if reach < tolerance:
            steps = step  # one last pass, for the weights at the final place
    likeness = np.clip(1 - variance / np.maximum(energy + variance, 1e-6), 0, 1)
    likeness[odd] = 0
    settled = _scale(variance / (PLAIN + _TEXTURE_SHARE * energy), trust, info)
    return Alignment(tiles, m, chosen, misfit, likeness, weights, settled * PLAIN, normal, gain, step, smeared,
                     _extent(smeared) if len(smeared) > 4 else 0.0)


def averaged(picture: np.ndarray, matrix: np.ndarray, places: np.ndarray, taps: np.ndarray, shrink: float) -> np.ndarray:
    """(n, P) mean of a picture (a pyramid level, `shrink` times smaller) over places (n, P, 2) moved back by `taps` (J, n, 2), then by `matrix`."""
    return np.asarray(at_taps(picture, matrix, places, taps, shrink).mean(0))


def at_taps(picture: np.ndarray, matrix: np.ndarray, places: np.ndarray, taps: np.ndarray, shrink: float) -> np.ndarray:
    """(J, n, P) what `averaged` takes the mean of."""
    return np.stack([sampled_at(picture, matrix, places - offset[:, None], shrink) for offset in taps.astype(np.float32)])


def _extent(smeared: np.ndarray) -> float:
    """Standard deviation, in the level's pixels, of the blur along its longest direction, more or less than the reference's own."""
    xx, xy, yy = 2 * float(smeared[0]), float(smeared[1]), 2 * float(smeared[2])
    half = np.hypot((xx - yy) / 2, xy)
    return float(np.sqrt(max(abs((xx + yy) / 2 + half), abs((xx + yy) / 2 - half))))


def _aside_from_blur(joint: np.ndarray, right: np.ndarray, kind: np.ndarray, prior: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Normal matrix (8, 8) and pull (8,) of the motion with the blur's moments eliminated (Schur complement), and those moments.

    `joint` (8 + m, 8 + m) and `right` (8 + m,) are the normal equations of both together.
    """
    cross, own = joint[:8, 8:], joint[8:, 8:]
    own = own + np.eye(len(own)) * (np.trace(own) / len(own) * 1e-4 + 1e-6 + prior)
    inverse = np.linalg.inv(own)
    normal = joint[:8, :8] - cross @ inverse @ cross.T
    pull = right[:8] - cross @ inverse @ right[8:]
    k = kind @ normal @ kind.T
    motion = kind.T @ np.linalg.solve(k + 1e-9 * np.eye(len(k)), kind @ pull)
    return normal, pull, (inverse @ (right[8:] - cross.T @ motion)).astype(np.float32)


def corner_moves(matrix: np.ndarray, unit: np.ndarray, points: np.ndarray) -> np.ndarray:
    """(N, 2, 8): how the pictures of `points` (N, 2) move by a small motion's parameters, in unit coordinates."""
    local = homography.apply(unit, points)
    spread = homography.jacobian(matrix @ np.linalg.inv(unit), local)
    u, v = local.T
    zero, one = np.zeros_like(u), np.ones_like(u)
    return spread @ np.stack([np.column_stack([u, v, one, zero, zero, zero, -u * u, -u * v]),
                              np.column_stack([zero, zero, zero, u, v, one, -u * v, -v * v])], axis=1)


def _scale(ratio: np.ndarray, trust: np.ndarray, info: np.ndarray) -> float:
    """What is usual on this frame: a low quantile over the texture, so that two thirds of it may be hidden."""
    return _weighted_quantile(ratio, info * (trust + 0.05), _QUANTILE) * 1.15


def _weighted_quantile(values: np.ndarray, weights: np.ndarray, share: float) -> float:
    order = np.argsort(values)
    total = np.cumsum(weights[order])
    return float(values[order[np.searchsorted(total, total[-1] * share)]])
