"""Robust alignment of reference tiles with a picture: one resolution, Gauss-Newton in the inverse compositional form.

S. Baker and I. Matthews, Lucas-Kanade 20 years on: a unifying framework, IJCV 56, 2004 (inverse compositional, robust weights);
Geman and McClure, Statistical methods for tomographic image reconstruction, 1987 (the weight function).
Each tile has a gain, an offset and two ramps of its own, fitted at every step, so that light may change over the surface.
"""

from dataclasses import dataclass

import numpy as np

from wertis.core.geometry import homography
from wertis.core.track.kinds import small_motion
from wertis.core.track.normal_equations import TEXTURE_SHARE, Matter, one_pass, scale_of
from wertis.core.track.reference import PLAIN, Reference, TileSet

CLIP_LEVEL = 253.0  # luma of 0..255 from which a pixel is taken to be clipped: noise and compression keep whites a little below 255
CORRELATION = 3.0  # residuals of neighbouring pixels go together: this many count as one
_SETTLING = 0.35  # part of the roughness that is left after each step


@dataclass(frozen=True, eq=False)
class Expected:
    """Where the frames before let the surface be expected: a matrix (3, 3), and its standard deviation in pixels at points (N, 2) of the reference.

    `free` is the basis (k, 8) of a kind of motion of which nothing is expected: then only what differs beyond such a motion counts.
    """

    matrix: np.ndarray
    deviation: float
    points: np.ndarray
    free: np.ndarray | None = None

    def equations(self, matrix: np.ndarray, unit: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """How the points' pictures (2 N,) move by a small motion's parameters (2 N, 8) about a `matrix`, and how far they are from where they are expected
        (2 N,); what a free motion does is projected out of both. `unit` is the reference's `to_unit`."""
        moves = corner_moves(matrix, unit, self.points).reshape(-1, 8)
        away = (homography.apply(self.matrix, self.points) - homography.apply(matrix, self.points)).ravel()
        if self.free is None:
            return moves, away
        across, _ = np.linalg.qr(moves @ self.free.T)
        return moves - across @ (across.T @ moves), away - across @ (across.T @ away)


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
          kind: np.ndarray, trust: np.ndarray, steps: int, tolerance: float, clip_level: float = 1e9,
          rough: float = 0.0,
          with_blur: bool = False, held: np.ndarray | None = None, taps: np.ndarray | None = None, prior: float = 0.0,
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
    with_blur : fit what the tiles' `joint` columns stand for beside the motion: the moments of a blur, or the legs of its path.
    prior : information on those columns' amounts, whose expected value is 0.
    taps : (J, n, 2) offsets in level-0 pixels of the reference at which the picture is read and averaged: a blur put on it for the comparison.
    clip_level : luma from which a pixel is taken to be clipped and left out.
    expected : counts as one more measurement, so that what the pixels in view cannot say is not left to chance.
    """
    unit = reference.to_unit
    back = np.linalg.inv(unit)
    columns = tiles.joint if with_blur and tiles.joint is not None else tiles.steepest_descent
    matter = Matter(tiles, chosen, columns, picture, held, 2.0 ** level, taps, trust, clip_level)
    blurred = len(columns) > 8
    smeared = np.zeros(len(columns) - 8, np.float32)
    m = matrix
    step = 0
    while True:
        found = one_pass(matter, m, max(TEXTURE_SHARE, rough * _SETTLING ** step), smeared)
        normal = _aside_from_blur(found.joint, np.zeros(len(found.joint)), kind, prior)[0] if blurred else found.joint
        if expected is not None:
            moves, away = expected.equations(m, unit)
            weight = CORRELATION / expected.deviation ** 2
            normal = normal + weight * moves.T @ moves
        if step >= steps:
            break
        pull_down = found.pull
        if blurred:
            _, pull_down, smeared = _aside_from_blur(found.joint, pull_down, kind, prior)
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
    energy = matter.energy
    likeness = np.clip(1 - found.variance / np.maximum(energy + found.variance, 1e-6), 0, 1)
    likeness[found.odd] = 0
    settled = scale_of(found.variance / (PLAIN + TEXTURE_SHARE * energy), trust, matter.texture)
    return Alignment(tiles, m, chosen, found.misfit, likeness, matter.weights, settled * PLAIN, normal, matter.gain, step, smeared,
                     _extent(smeared) if len(smeared) > 4 else 0.0)


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
