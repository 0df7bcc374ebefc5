"""What a picture shows of each tile of a bending surface, beside what the reference shows: the pixels' part of the mesh tracker.

The model of a tile is T(x + d) ~ (I(W(x)) - light) / gain, with a displacement d in reference pixels: the inverse compositional form of
S. Baker and I. Matthews, Lucas-Kanade 20 years on, IJCV 56, 2004, each tile with a gain, an offset and two ramps of light of its own.
"""

from dataclasses import dataclass

import cv2
import numpy as np

from wertis.core import compiled
from wertis.core.compiled import address
from wertis.core.geometry.bspline import Lattice, evaluate, geometry_arguments
from wertis.core.imaging.parallel import in_halves
from wertis.core.track.mesh.reference import MeshTiles

TAPS = 7  # places along a blur at which a picture is read


@dataclass(frozen=True)
class TilePass:
    """What was measured of n tiles.

    Attributes
    ----------
    gain : (n,) how many times the reference's contrast the picture shows.
    pull : (n, 2) products of what is left with the slopes, in the reference's luma: structure tensor times displacement in reference pixels.
    variance : (n,) of what is left, in the picture's luma.
    likeness : (n,) correlation with the reference, -1..1, after light.
    whole : (n,) whether all of the tile is in the picture.
    held : (n,) share 0..1 that is held out.
    """

    gain: np.ndarray
    pull: np.ndarray
    variance: np.ndarray
    likeness: np.ndarray
    whole: np.ndarray
    held: np.ndarray


def mesh_pass(picture: np.ndarray, tiles: MeshTiles, chosen: np.ndarray, lattice: Lattice, values: np.ndarray, held: np.ndarray | None,
              along: np.ndarray | None = None) -> TilePass:
    """Look at chosen tiles (n,) in a picture, a level of a pyramid, where a lattice's map (rows, columns, 2) takes them; `held` at the same level.

    Parameters
    ----------
    along : (n, 2) the length and direction, in the picture's pixels at level 0, over which it is averaged: the reference's own blur.
    """
    if compiled.LIBRARY is None or min(picture.shape) < 2:
        out = plain_mesh_pass(picture, tiles, chosen, lattice, values, held, along)
        gain = out[:, 0] / tiles.own[chosen]
        sound = np.where(np.abs(gain) > 1e-3, gain, 1e-3)
        return TilePass(gain, out[:, 1:3] / sound[:, None], out[:, 3] / np.maximum(tiles.count[chosen] - 6, 1),
                        out[:, 0] / np.sqrt(out[:, 4] + 1e-6), out[:, 5] > 0, out[:, 6])
    n, f, d, at = len(chosen), np.float32, np.float64, tiles.addresses
    values = np.ascontiguousarray(values, d)
    along = None if along is None else np.ascontiguousarray(along, d)
    measured, whole = np.empty((6, n)), np.empty(n, np.uint8)
    first = (address(picture, f), *picture.shape, compiled.double(2.0 ** tiles.level), address(held, f), address(values, d), *geometry_arguments(lattice),
             at["corner"], tiles.side, *(at[name] for name in ("light", "slope_x", "slope_y", "inside", "own", "count")), address(chosen, np.int64), n)
    last = address(along, d), TAPS, address(measured, d), address(whole, np.uint8)
    run = compiled.LIBRARY.mesh_pass
    in_halves(lambda span: run(*first, span.start, span.stop, *last), n)
    return TilePass(measured[0], measured[4:].reshape(n, 2), measured[1], measured[2], whole.view(bool), measured[3])


def map_slopes(tiles: MeshTiles, chosen: np.ndarray, lattice: Lattice, values: np.ndarray) -> tuple[np.ndarray, float]:
    """Derivatives (n, 2, 2) of a lattice's map (rows, columns, 2) at the middles of chosen tiles (n,), and the least singular value of them."""
    if compiled.LIBRARY is None:
        slopes = evaluate(lattice, values, tiles.centre[chosen], slopes=True)[1]
        assert slopes is not None
        return slopes, float(np.linalg.svd(slopes, compute_uv=False).min(initial=np.inf))
    d = np.float64
    slopes, squared, values = np.empty((len(chosen), 2, 2)), np.empty(1), np.ascontiguousarray(values, d)
    compiled.LIBRARY.spline_slopes(address(values, d), *geometry_arguments(lattice), tiles.addresses["centre"],
                                             address(chosen, np.int64), compiled.long(len(chosen)), address(slopes, d), address(squared, d))
    return slopes, float(np.sqrt(max(squared[0], 0.0)))


def plain_mesh_pass(picture: np.ndarray, tiles: MeshTiles, chosen: np.ndarray, lattice: Lattice, values: np.ndarray,
                    held: np.ndarray | None, along: np.ndarray | None = None) -> np.ndarray:
    """`mesh_pass`'s sums (n, 7) with NumPy and OpenCV; see compiled/mesh.c."""
    shrink, side = 2.0 ** tiles.level, tiles.side
    dy, dx = (a.ravel() * shrink for a in np.meshgrid(np.arange(side), np.arange(side), indexing="ij"))
    places = tiles.corner[chosen][:, None] + np.column_stack([dx, dy])
    where = (evaluate(lattice, values, places.reshape(-1, 2))[0] / shrink).reshape(len(chosen), -1, 2).astype(np.float32)
    parts = [0.0] if along is None else np.linspace(-0.5, 0.5, TAPS)
    shift = np.zeros((len(chosen), 2)) if along is None else along / shrink
    seen = np.mean([cv2.remap(picture, (where + t * shift[:, None]).astype(np.float32), None, cv2.INTER_LINEAR,  # type: ignore[call-overload]
                              borderMode=cv2.BORDER_REPLICATE) for t in parts], axis=0)
    light, inside = tiles.light[chosen], tiles.inside[chosen]
    part = np.einsum("trp,tp->tr", light, seen)
    flat = (seen - np.einsum("tr,trp->tp", part[:, :3], light[:, :3])) * inside
    left = flat - part[:, 3:] * light[:, 3]
    h, w = picture.shape
    whole = ((where >= 0) & (where <= np.array([w - 1, h - 1]))).all((1, 2))
    away = np.zeros(len(chosen))
    if held is not None:
        x, y = np.clip(where[..., 0], 0, w - 2).astype(int), np.clip(where[..., 1], 0, h - 2).astype(int)
        away = (held[y, x] * inside).sum(1) / np.maximum(inside.sum(1), 1)
    return np.column_stack([part[:, 3], (left * tiles.slope_x[chosen]).sum(1), (left * tiles.slope_y[chosen]).sum(1), (left ** 2).sum(1),
                            (flat ** 2).sum(1), whole, away])
