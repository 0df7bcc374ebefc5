"""Tiles of the reference blurred along a path, and how much they disagree with a frame.

See `imaging.shutter` for the method.
"""

from dataclasses import dataclass

import numpy as np

from wertis.core.imaging.shutter import TAPS, path_times
from wertis.core.track.align import at_taps, averaged
from wertis.core.track.reference import Reference, TileSet, described, without_light

LEVEL = 1  # the shutter is measured at half the resolution
MEASURED_TILES = 40


def blurred_tiles(reference: Reference, tiles: TileSet, chosen: np.ndarray, offsets: np.ndarray, shutter: float = 0.0) -> TileSet:
    """The chosen tiles (n) of the reference blurred along a path `offsets` (J, n, 2) in reference pixels.

    With a `shutter`, the tiles have `joint` columns: `steer`, and the change of luma by the legs (before x, y, after x, y) of the path.
    """
    x, y = tiles.x[chosen], tiles.y[chosen]
    image = reference.pyramid[tiles.level]
    shrink = 2.0 ** tiles.level
    places = np.stack([x, y], axis=-1)
    luma = averaged(image, np.eye(3), places, offsets, shrink)
    slopes = [at_taps(plane, np.eye(3), places, offsets, shrink) for plane in reference.slopes(tiles.level)]
    slope_x, slope_y = (s.mean(0) for s in slopes)
    basis, steer, energy = described(reference, tiles.level, x, y, tiles.basis[chosen, :3], tiles.inside[chosen], luma, slope_x, slope_y)
    inside = tiles.inside[chosen]
    joint = None
    if shutter:
        times = path_times(shutter)
        sides = [np.maximum(-times, 0), np.maximum(times, 0)]
        columns = [np.tensordot(-(side - side.mean()) / TAPS / shrink, s, 1) for side in sides for s in slopes]
        joint = np.concatenate([steer, without_light(np.stack(columns).astype(np.float32) * inside, basis, inside)])
    return TileSet(tiles.level, tiles.tile, x, y, basis, steer, inside, energy, tiles.centre[chosen], tiles.information[chosen],
                   tiles.bucket[chosen], joint)


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
    seen = averaged(sample.picture, sample.matrix, np.stack([tiles.x, tiles.y], axis=-1), reference_taps, 2.0 ** LEVEL)
    masked = tiles.basis * sample.weights[:, None]
    gram = masked @ tiles.basis.transpose(0, 2, 1) + 1e-2 * np.eye(4, dtype=np.float32)
    light = np.linalg.solve(gram, masked @ seen[..., None])
    root = np.sqrt(sample.weights)
    rest = ((seen - (light.transpose(0, 2, 1) @ tiles.basis)[:, 0]) * root).ravel()
    columns = (tiles.steer * root).reshape(8, -1)
    normal = (columns @ columns.T).astype(np.float64)
    rest = rest - np.linalg.solve(normal + np.eye(8) * (np.trace(normal) * 1e-6 + 1e-9), columns @ rest) @ columns
    # of both pictures, so that a blur cannot gain by being on one of them; the tiles' own gain is in the second
    power = ((tiles.basis[:, 3] * light[:, 3]) ** 2 + tiles.basis[:, 3] ** 2) / 2
    contrast = float((power * sample.weights).sum())
    return np.asarray(rest / np.sqrt(max(contrast, 1e-9)))
