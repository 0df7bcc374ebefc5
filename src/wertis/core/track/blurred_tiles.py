"""Tiles of the reference blurred along a path, and how much they disagree with a frame.

See `imaging.shutter` for the method.
"""

import ctypes
from dataclasses import dataclass

import numpy as np

from wertis.core import compiled
from wertis.core.compiled import address
from wertis.core.imaging.shutter import TAPS, path_times
from wertis.core.track.reference import PLAIN, Reference, TileSet, described, without_light
from wertis.core.track.sampling import at_taps, plainly_read, read_tiles

LEVEL = 1  # the shutter is measured at half the resolution
MEASURED_TILES = 40


def blurred_tiles(reference: Reference, tiles: TileSet, chosen: np.ndarray, offsets: np.ndarray, shutter: float = 0.0) -> TileSet:
    """The chosen tiles (n) of the reference blurred along a path `offsets` (J, n, 2) in reference pixels.

    With a `shutter`, the tiles have `joint` columns: `steepest_descent`, and the change of luma by the legs (before x, y, after x, y) of the path.
    """
    sides = None
    if shutter:
        times = path_times(shutter)
        sides = np.stack([np.maximum(-times, 0), np.maximum(times, 0)])
        sides = (sides - sides.mean(1, keepdims=True)) / TAPS / 2.0 ** tiles.level
    fits = tiles.inside.shape[1] <= compiled.MOST_PIXELS and min(reference.pyramid[tiles.level].shape) > 1
    run = _compiled if compiled.LIBRARY is not None and fits else plainly_blurred
    basis, columns, energy = run(reference, tiles, chosen, offsets, sides)
    return TileSet(tiles.level, tiles.tile, tiles.x[chosen], tiles.y[chosen], basis, columns[:8], tiles.inside[chosen], energy, tiles.centre[chosen],
                   tiles.information[chosen], tiles.bucket[chosen], None if sides is None else columns)


def plainly_blurred(reference: Reference, tiles: TileSet, chosen: np.ndarray, offsets: np.ndarray,
                    sides: np.ndarray | None) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Basis (n, 4, P), columns (8 or 12, n, P) and energy (n,) of blurred tiles, in NumPy.

    `sides` (2, J) is how far each tap goes with the leg before and the leg after, over the number of taps and the level's pixel size.
    """
    x, y, inside = tiles.x[chosen], tiles.y[chosen], tiles.inside[chosen]
    shrink, here = 2.0 ** tiles.level, np.eye(3)
    luma = plainly_read(reference.pyramid[tiles.level], here, x, y, shrink, offsets)
    slopes = [at_taps(plane, here, x, y, shrink, offsets) for plane in reference.slopes(tiles.level)]
    slope_x, slope_y = (s.mean(0) for s in slopes)
    basis, steepest_descent, energy = described(reference, tiles.level, x, y, tiles.basis[chosen, :3], inside, luma, slope_x, slope_y)
    if sides is None:
        return basis, steepest_descent, energy
    legs = np.stack([np.tensordot(-side, s, 1) for side in sides for s in slopes]).astype(np.float32) * inside
    return basis, np.concatenate([steepest_descent, without_light(legs, basis, inside)]), energy


def _compiled(reference: Reference, tiles: TileSet, chosen: np.ndarray, offsets: np.ndarray,
              sides: np.ndarray | None) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """`plainly_blurred` in C."""
    image, (slope_x, slope_y) = reference.pyramid[tiles.level], reference.slopes(tiles.level)
    (h, w), n, pixels = image.shape, len(chosen), tiles.inside.shape[1]
    offsets = np.ascontiguousarray(offsets, np.float32)
    chosen = np.ascontiguousarray(chosen, np.int64)
    basis, columns = np.empty((n, 4, pixels), np.float32), np.empty((8 if sides is None else 12, n, pixels), np.float32)
    energy = np.empty(n)
    f, d, number = np.float32, np.float64, ctypes.c_double
    assert compiled.LIBRARY is not None
    ok = compiled.LIBRARY.blurred_tiles(
        address(image, f), address(slope_x, f), address(slope_y, f), h, w, number(2.0 ** tiles.level), address(tiles.x, f), address(tiles.y, f),
        address(tiles.basis, f), address(tiles.inside, f), address(chosen, np.int64), n, pixels, address(offsets, f), len(offsets), address(sides, d),
        *(number(v) for v in (*reference.centre, reference.radius, PLAIN)), address(basis, f), address(columns, f), address(energy, d))
    if not ok:
        raise np.linalg.LinAlgError("a tile's light cannot be solved for")
    return basis, columns, energy


@dataclass(frozen=True)
class Sample:
    """One frame from which the shutter is measured: its picture at half resolution, its motion (3, 3), tiles chosen (n,), and weights."""

    picture: np.ndarray
    matrix: np.ndarray
    chosen: np.ndarray
    weights: np.ndarray


def disagreement(reference: Reference, sample: Sample, frame_taps: np.ndarray, reference_taps: np.ndarray) -> np.ndarray:
    """(N,) what is left between the two blurred pictures when each tile's light and the whole motion have been fitted, over the contrast."""
    tiles = blurred_tiles(reference, reference.tiles(LEVEL), sample.chosen, frame_taps)
    seen = read_tiles(sample.picture, sample.matrix, tiles.x, tiles.y, 2.0 ** LEVEL, reference_taps)
    masked = tiles.basis * sample.weights[:, None]
    gram = masked @ tiles.basis.transpose(0, 2, 1) + 1e-2 * np.eye(4, dtype=np.float32)
    light = np.linalg.solve(gram, masked @ seen[..., None])
    root = np.sqrt(sample.weights)
    rest = ((seen - (light.transpose(0, 2, 1) @ tiles.basis)[:, 0]) * root).ravel()
    columns = (tiles.steepest_descent * root).reshape(8, -1)
    normal = (columns @ columns.T).astype(np.float64)
    rest = rest - np.linalg.solve(normal + np.eye(8) * (np.trace(normal) * 1e-6 + 1e-9), columns @ rest) @ columns
    # of both pictures, so that a blur cannot gain by being on one of them; the tiles' own gain is in the second
    power = ((tiles.basis[:, 3] * light[:, 3]) ** 2 + tiles.basis[:, 3] ** 2) / 2
    contrast = float((power * sample.weights).sum())
    return np.asarray(rest / np.sqrt(max(contrast, 1e-9)))
