"""What the mesh tracker remembers of the reference frame: small square tiles of the region at several resolutions."""

import ctypes
from dataclasses import dataclass, fields, replace
from functools import cached_property

import cv2
import numpy as np

from wertis.core import compiled
from wertis.core.compiled import address
from wertis.core.imaging.balanced_selection import in_turn
from wertis.core.imaging.channel_mixture import grain_variance
from wertis.core.imaging.parallel import in_halves
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.track.reference import KeptFeatures

SIDES = {0: 12, 1: 10}  # of a tile, in its level's pixels: large enough to tell motion from a change of light, small beside a wrinkle
_SIDE = 8  # the same at coarser levels
_MOST_TILES = 3000  # of a level, the richest of all parts of the region: what more would add is below the other errors
_LEAST_INSIDE = 0.5  # share of a tile that must lie in the region


@dataclass
class MeshTiles:
    """Tiles of one level; K tiles of P = side * side pixels.

    Attributes
    ----------
    level, side : the pyramid level, whose pixels are 2^level wide, and the tile's side in them.
    corner : (K, 2) place of the first pixel of each tile at level 0, first centre at 0.
    centre : (K, 2) their middles at level 0.
    light : (K, 4, P) float32, orthonormal: one, ramps in x and y, and the tile's luma less what those explain; 0 outside the region.
    own : (K,) the length of that last part, which a gain multiplies.
    slope_x, slope_y : (K, P) float32, slopes of the luma per level-0 pixel, less what light explains.
    inside : (K, P) float32, 1 on the region's pixels.
    count : (K,) number of the region's pixels.
    energy : (K,) variance of the luma that a change of light alone cannot explain.
    structure : (K, 3) structure tensor xx, xy, yy: sums of products of the slopes.
    template : (K,) int64, 0 where a tile shows the reference frame, else the later frame that it shows; see `templates.TileTemplates`.
    template_error : (K,) pixels by which a tile may lie off that shows a later frame.
    grain_share : (K,) variance of the tile's grain as part of that of one frame: less where it is the mean of several.
    """

    level: int
    side: int
    corner: np.ndarray
    centre: np.ndarray
    light: np.ndarray
    own: np.ndarray
    slope_x: np.ndarray
    slope_y: np.ndarray
    inside: np.ndarray
    count: np.ndarray
    energy: np.ndarray
    structure: np.ndarray
    template: np.ndarray
    template_error: np.ndarray
    grain_share: np.ndarray

    def __len__(self) -> int:
        return len(self.own)

    def part(self, chosen: np.ndarray) -> "MeshTiles":
        """Chosen tiles (n,) by themselves, all of them usable."""
        arrays = {f.name: getattr(self, f.name)[chosen] for f in fields(self) if f.name not in ("level", "side")}
        made = MeshTiles(self.level, self.side, **arrays)
        made.__dict__["usable"] = np.arange(len(chosen))
        return made

    @cached_property
    def addresses(self) -> dict[str, ctypes.c_void_p]:
        """Of its arrays, for the compiled loops; what they hold may change, but not the arrays themselves."""
        return {f.name: address(getattr(self, f.name), np.float32 if f.name in _SINGLE else np.float64)
                for f in fields(self) if f.name not in ("level", "side", "template")}

    @cached_property
    def usable(self) -> np.ndarray:
        """(n,) int64, numbers of the tiles that have texture in some direction."""
        return np.flatnonzero((self.own > 1e-3) & (self.structure[:, 0] + self.structure[:, 2] > 1e-6)).astype(np.int64)


_SINGLE = {"light", "slope_x", "slope_y", "inside"}
"""The arrays of single precision: those that have a number for every pixel."""

_FIXED = {"level", "side", "corner", "centre", "inside", "count", "template", "template_error", "grain_share"}
"""What tiles that stand in the same places have in common whatever their pictures are, or is set apart."""


def put(into: MeshTiles, chosen: np.ndarray, part: MeshTiles) -> None:
    """Put the pictures of some tiles in the place of those of chosen ones (n,)."""
    for f in fields(into):
        if f.name not in _FIXED:
            getattr(into, f.name)[chosen] = getattr(part, f.name)


def with_own_pictures(tiles: MeshTiles, copied: bool = True) -> MeshTiles:
    """The same tiles, with pictures of their own to be written over; with nothing in them yet unless they are `copied`."""
    own = {f.name: getattr(tiles, f.name) for f in fields(tiles) if f.name not in _FIXED}
    made = replace(tiles, **{name: array.copy() if copied or array.size <= 3 * len(tiles) else np.empty_like(array) for name, array in own.items()})
    made.__dict__["usable"] = tiles.usable
    return made


class MeshReference:
    """The surface as seen on a reference frame.

    Parameters
    ----------
    pyramid : the frame's pyramid.
    mask : (height, width) uint8, non-zero on the pixels to track.
    """

    def __init__(self, pyramid: Pyramid, mask: np.ndarray) -> None:
        self.pyramid, self.mask = pyramid, mask
        ys, xs = np.nonzero(mask)
        self.box = (int(xs.min()), int(ys.min()), int(xs.max()) + 1, int(ys.max()) + 1)
        short = min(self.box[2] - self.box[0], self.box[3] - self.box[1])
        self.coarsest = int(np.clip(np.floor(np.log2(max(short, 1) / (4 * _SIDE))), 0, 4))
        self.features: KeptFeatures = {}
        self._tiles: dict[int, MeshTiles] = {}

    @cached_property
    def grain(self) -> float:
        """Variance of the picture's grain, as far as the pyramid's smoothing leaves it: a lower bound."""
        x0, y0, x1, y1 = self.box
        return grain_variance(self.pyramid[0][y0:y1, x0:x1], self.mask[y0:y1, x0:x1] > 0)

    def tiles(self, level: int) -> MeshTiles:
        """The tiles of a pyramid level, made on first use."""
        if level not in self._tiles:
            self._tiles[level] = _made(self, level)
        return self._tiles[level]

    def tiles_at(self, tiles: MeshTiles) -> MeshTiles:
        """Tiles of this picture that stand where others do."""
        scale = 2.0 ** tiles.level
        ox, oy = (tiles.corner / scale).astype(int).T
        px, py = _pixels(ox, oy, tiles.side)
        image = self.pyramid[tiles.level]
        return _described(tiles.level, tiles.side, tiles.corner, tiles.inside, *(p[py, px] for p in (image, *_slopes(image, scale))))

    def blur_into(self, made: MeshTiles, tiles: MeshTiles, chosen: np.ndarray, along: np.ndarray, taps: int) -> None:
        """Put chosen tiles (n,) into others, blurred along straight lines (K, 2) of which the tile's own place is the middle.

        Parameters
        ----------
        tiles : as they are, of this picture.
        along : in level-0 pixels of the reference; a tile whose line has no length stays as it is.
        """
        if compiled.LIBRARY is None:
            self.plainly_blur_into(made, tiles, chosen, along, taps)
            return
        scale, f, d = 2.0 ** tiles.level, np.float32, np.float64
        image, first = self.pyramid[tiles.level], np.ascontiguousarray(tiles.corner / scale, np.int64)
        lines, found = np.ascontiguousarray(along / scale, f), np.empty((len(tiles), 4))
        chosen = np.ascontiguousarray(chosen, np.int64)

        def part(span: slice) -> None:
            assert compiled.LIBRARY is not None
            mine = chosen[span]
            compiled.LIBRARY.blurred_mesh_tiles(
                address(image, f), *image.shape, compiled.double(scale), address(first, np.int64), tiles.side,
                *(address(a, f) for a in (tiles.inside, tiles.light, tiles.slope_x, tiles.slope_y, lines)), taps, address(mine, np.int64), len(mine),
                *(address(a, f) for a in (made.light, made.slope_x, made.slope_y)), address(found, d))

        in_halves(part, len(chosen))
        moved = chosen[lines[chosen].any(1)]
        own = found[moved, 0]
        made.own[moved], made.energy[moved], made.structure[moved] = own, own ** 2 / np.maximum(tiles.count[moved], 1), found[moved, 1:]

    def plainly_blur_into(self, made: MeshTiles, tiles: MeshTiles, chosen: np.ndarray, along: np.ndarray, taps: int) -> None:
        """`blur_into` with NumPy and OpenCV."""
        level = tiles.level
        image, scale = self.pyramid[level], 2.0 ** level
        layers = np.dstack([image, *_slopes(image, scale)])
        moved = chosen[np.any(along[chosen] != 0, axis=1)]
        put(made, chosen, tiles.part(chosen))
        if not len(moved):
            return
        ox, oy = (tiles.corner[moved] / scale).astype(int).T
        px, py = _pixels(ox, oy, tiles.side)
        total = np.zeros((*px.shape, 3), np.float32)
        for part in np.linspace(-0.5, 0.5, taps):
            shift = (part * along[moved] / scale).astype(np.float32)
            total += cv2.remap(layers, (px + shift[:, :1]).astype(np.float32), (py + shift[:, 1:]).astype(np.float32),
                               cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        luma, slope_x, slope_y = np.moveaxis(total / taps, -1, 0)
        put(made, moved, _described(level, tiles.side, tiles.corner[moved], tiles.inside[moved], luma, slope_x, slope_y))


def _made(reference: MeshReference, level: int) -> MeshTiles:
    image, scale, side = reference.pyramid[level], 2.0 ** level, SIDES.get(level, _SIDE)
    h, w = image.shape
    inside = (cv2.resize(reference.mask, (w, h), interpolation=cv2.INTER_AREA) > 200).astype(np.float32) if level \
        else (reference.mask > 0).astype(np.float32)
    gx, gy = _slopes(image, scale)
    x0, y0, x1, y1 = (v / scale for v in reference.box)
    starts = []
    for a, b, most in ((x0, x1, w), (y0, y1, h)):
        count = max(1, int(np.ceil((b - a) / side)))
        begin = round((a + b - count * side) / 2)
        line = begin + side * np.arange(count)
        starts.append(line[(line >= 0) & (line + side <= most)])
    oy, ox = (a.ravel() for a in np.meshgrid(starts[1], starts[0], indexing="ij"))
    if len(ox):
        total = cv2.integral(inside)
        share = (total[oy + side, ox + side] - total[oy, ox + side] - total[oy + side, ox] + total[oy, ox]) / side ** 2
        ox, oy = ox[share >= _LEAST_INSIDE], oy[share >= _LEAST_INSIDE]
    if len(ox) > _MOST_TILES:
        power = cv2.integral((gx * gx + gy * gy) * inside)
        rich = power[oy + side, ox + side] - power[oy, ox + side] - power[oy + side, ox] + power[oy, ox]
        parts = ((oy - oy.min()) // (4 * side)) * 1000 + (ox - ox.min()) // (4 * side)
        kept = np.sort(in_turn(np.argsort(-rich, kind="stable"), rich, np.unique(parts, return_inverse=True)[1], _MOST_TILES, 0.15))
        ox, oy = ox[kept], oy[kept]
    px, py = _pixels(ox, oy, side)
    return _described(level, side, np.column_stack([ox, oy]) * scale, inside[py, px], *(p[py, px] for p in (image, gx, gy)))


def _slopes(image: np.ndarray, scale: float) -> tuple[np.ndarray, np.ndarray]:
    """Slopes in x and y (height, width) of a picture whose pixels are `scale` level-0 pixels wide, per level-0 pixel."""
    x, y = (cv2.Scharr(image, cv2.CV_32F, *d, scale=1 / (32 * scale)) for d in ((1, 0), (0, 1)))
    return x, y


def _pixels(ox: np.ndarray, oy: np.ndarray, side: int) -> tuple[np.ndarray, np.ndarray]:
    """Columns and rows (K, P) of the pixels of tiles that begin at ox, oy (K,)."""
    dy, dx = (a.ravel() for a in np.meshgrid(np.arange(side), np.arange(side), indexing="ij"))
    return ox[:, None] + dx, oy[:, None] + dy


def _described(level: int, side: int, corner: np.ndarray, ins: np.ndarray, luma: np.ndarray, slope_x: np.ndarray, slope_y: np.ndarray) -> MeshTiles:
    """Tiles whose pixels (K, P) have this luma and these slopes per level-0 pixel."""
    dy, dx = (a.ravel() for a in np.meshgrid(np.arange(side), np.arange(side), indexing="ij"))
    ramp = ((np.arange(side) - (side - 1) / 2) / side).astype(np.float32)
    light = _orthonormal(np.stack([ins, ramp[dx] * ins, ramp[dy] * ins, luma * ins], axis=1).astype(np.float64))
    own = light[1]
    sx, sy = (_cleared(g * ins, light[0]) for g in (slope_x, slope_y))
    structure = np.stack([(sx * sx).sum(1), (sx * sy).sum(1), (sy * sy).sum(1)], axis=1)
    count = ins.sum(1, dtype=np.float64)
    f = np.float32
    return MeshTiles(level, side, corner, corner + (side - 1) / 2 * 2.0 ** level, np.ascontiguousarray(light[0], f), own, np.ascontiguousarray(sx, f),
                     np.ascontiguousarray(sy, f), np.ascontiguousarray(ins, f), count, own ** 2 / np.maximum(count, 1), structure,
                     np.zeros(len(own), np.int64), np.zeros(len(own)), np.ones(len(own)))


def _orthonormal(rows: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Rows (K, 4, P) made orthonormal by Gram-Schmidt, and (K,) the length of the last before it was scaled; rows that vanish stay 0."""
    out, length = np.zeros_like(rows), np.zeros(len(rows))
    for k in range(rows.shape[1]):
        left = rows[:, k]
        for _ in (0, 1):  # twice is enough for full precision
            left = left - np.einsum("tr,trp->tp", np.einsum("trp,tp->tr", out[:, :k], left), out[:, :k])
        length = np.sqrt((left * left).sum(1))
        out[:, k] = np.where(length[:, None] > 1e-6, left / np.maximum(length, 1e-6)[:, None], 0)
    return out, length


def _cleared(columns: np.ndarray, light: np.ndarray) -> np.ndarray:
    """Columns (K, P) less what light (K, 4, P) explains."""
    return np.asarray(columns - np.einsum("tr,trp->tp", np.einsum("trp,tp->tr", light, columns), light))
