"""What the tracker remembers of the reference frame: small tiles of the region at several resolutions."""

from dataclasses import dataclass, field
from functools import cache, cached_property

import cv2
import numpy as np

from wertis.core.geometry import homography
from wertis.core.imaging.balanced_selection import in_turn
from wertis.core.imaging.channel_mixture import grain_variance
from wertis.core.imaging.pyramid import Pyramid

# side of a tile in its level's pixels, and the step between the pixels taken from it. Large tiles keep the slow changes of
# luma, which survive motion blur; taking every second pixel keeps the cost, since neighbours say much the same.
LARGE_TILE = (32, 2)
TILE = (16, 1)
SMALL_TILE = (8, 1)
_ORDERS = (2, 3, 4, 5)  # moments of a blur that are fitted, by the luma's derivatives of the same order
_PUT_OFF = 0.15  # of a poor tile's turn when tiles are chosen
_ENOUGH = 24  # tiles of a size below which smaller ones are taken
GAIN_PRIOR = 0.25  # expected spread of a tile's own gain round the surface's
PLAIN = 1.5 ** 2   # luma variance that counts as no texture, on a scale of 0..255


@dataclass
class TileSet:
    """All usable tiles of one level; K tiles of P pixels.

    Attributes
    ----------
    level : the pyramid level; its pixels are 2^level wide.
    x, y : (K, P) float32 pixel places at level 0, first centre at 0.
    basis : (K, 4, P) float32: one, a ramp in x, a ramp in y, and the reference's luma with its mean taken off.
    steepest_descent : (8, K, P) float32, the steepest descent images (S. Baker and I. Matthews, Lucas-Kanade 20 years on, 2004): change of the
        reference's luma by the small motion's parameters, with what a change of light in the tile could explain projected out.
    inside : (K, P) float32, 1 where the pixel belongs to the region.
    energy : (K,) luma variance in each tile that light cannot explain.
    centre : (K, 2) tile middles at level 0.
    information : (K,) squared gradient sum, for choosing tiles.
    bucket : (K,) which of 36 parts of the region each tile lies in.
    joint : (26, K, P) float32: `steepest_descent`, and the change of the reference's luma by 18 moments of a blur; None until asked for.
    """

    level: int
    tile: int
    x: np.ndarray
    y: np.ndarray
    basis: np.ndarray
    steepest_descent: np.ndarray
    inside: np.ndarray
    energy: np.ndarray
    centre: np.ndarray
    information: np.ndarray
    bucket: np.ndarray = field(default_factory=lambda: np.zeros(0, int))
    joint: np.ndarray | None = None

    def __len__(self) -> int:
        return len(self.energy)

    @cached_property
    def corners(self) -> np.ndarray:
        """(K, 4, 2) the corners of each tile at level 0."""
        reach = self.tile * 2 ** self.level / 2
        return self.centre[:, None] + np.array([[-1, -1], [1, -1], [1, 1], [-1, 1.0]]) * reach

    @cached_property
    def richest_first(self) -> np.ndarray:
        """(K,) indices of the tiles in the order of their information."""
        return np.argsort(-self.information, kind="stable")


KeptFeatures = dict[bool, tuple[bytes | None, tuple[np.ndarray, np.ndarray | None]]]
"""Features of a reference frame as it is (True) and as it looks in a pose: which pose, and their places (n, 2) and descriptors; see `redetection`."""


class Reference:
    """The surface as seen on the reference frame.

    Parameters
    ----------
    pyramid : the reference frame's pyramid.
    mask : (height, width) uint8, non-zero on the pixels to track (the region less its hold-outs).
    most_tiles : how many tiles of a level are kept at most, the richest of all parts of a large region; all when 0.
    """

    def __init__(self, pyramid: Pyramid, mask: np.ndarray, most_tiles: int = 0) -> None:
        self.most_tiles = most_tiles
        ys, xs = np.nonzero(mask)
        self.box = (int(xs.min()), int(ys.min()), int(xs.max()) + 1, int(ys.max()) + 1)
        x0, y0, x1, y1 = self.box
        self.centre = np.array([(x0 + x1 - 1) / 2, (y0 + y1 - 1) / 2])
        self.radius = max(x1 - x0, y1 - y0) / 2
        short = min(x1 - x0, y1 - y0)
        self.coarsest = int(np.clip(np.floor(np.log2(max(short, 1) / 20)), 0, 5))
        self.pyramid = pyramid
        self.mask = mask
        self.features: KeptFeatures = {}
        self._tiles: dict[int, TileSet] = {}
        self._slopes: dict[int, tuple[np.ndarray, np.ndarray]] = {}

    @property
    def to_unit(self) -> np.ndarray:
        """The matrix from level-0 pixels to coordinates in about -1..1 over the region, in which motion parameters are well scaled."""
        s = 1 / self.radius
        return np.array([[s, 0, -s * self.centre[0]], [0, s, -s * self.centre[1]], [0, 0, 1.0]])

    @cached_property
    def grain(self) -> float:
        """Variance of the picture's grain, as far as the pyramid's smoothing leaves it: a lower bound."""
        x0, y0, x1, y1 = self.box
        return grain_variance(self.pyramid[0][y0:y1, x0:x1], self.mask[y0:y1, x0:x1] > 0)

    def slopes(self, level: int) -> tuple[np.ndarray, np.ndarray]:
        """Slopes of a level's luma in x and in y, per pixel of the level; made on first use."""
        if level not in self._slopes:
            image = self.pyramid[level]
            self._slopes[level] = cv2.Scharr(image, cv2.CV_32F, 1, 0, scale=1 / 32), cv2.Scharr(image, cv2.CV_32F, 0, 1, scale=1 / 32)
        return self._slopes[level]

    def tiles(self, level: int) -> TileSet:
        """The tiles of a pyramid level, made on first use."""
        if level not in self._tiles:
            for tile, stride in (LARGE_TILE, TILE, SMALL_TILE):
                made = _make_tiles(self, level, self.mask, tile, stride)
                if len(made) >= _ENOUGH:
                    break
            self._tiles[level] = made
        return self._tiles[level]

    def tiles_with_blur(self, level: int) -> TileSet:
        """The tiles with their `joint` columns, made on first use."""
        tiles = self.tiles(level)
        if tiles.joint is None:
            tiles.joint = np.concatenate([tiles.steepest_descent, _blur_moments(self.pyramid[level], tiles)])
        return tiles


def _make_tiles(reference: Reference, level: int, mask: np.ndarray, tile: int, stride: int) -> TileSet:
    image = reference.pyramid[level]
    scale = 2 ** level
    inside = (cv2.resize(mask, (image.shape[1], image.shape[0]), interpolation=cv2.INTER_AREA) > 200).astype(np.float32) \
        if level else (mask > 0).astype(np.float32)
    gx, gy = reference.slopes(level)
    x0, y0 = max(0, int(reference.box[0] / scale)), max(0, int(reference.box[1] / scale))
    x1, y1 = int(np.ceil(reference.box[2] / scale)), int(np.ceil(reference.box[3] / scale))
    h, w = image.shape
    # tiles start so that what is left over is shared by both sides
    nx, ny = max(1, int(np.ceil((x1 - x0) / tile))), max(1, int(np.ceil((y1 - y0) / tile)))
    left, top = x0 - (nx * tile - (x1 - x0)) // 2, y0 - (ny * tile - (y1 - y0)) // 2
    cols = left + tile * np.arange(nx)
    rows = top + tile * np.arange(ny)
    oy, ox = (a.ravel() for a in np.meshgrid(rows, cols, indexing="ij"))
    if 0 < reference.most_tiles < len(ox):
        power = cv2.boxFilter((gx * gx + gy * gy) * inside, -1, (tile, tile), normalize=False)
        rich = power[np.clip(oy + tile // 2, 0, h - 1), np.clip(ox + tile // 2, 0, w - 1)]
        parts = _parts(np.column_stack([ox, oy]) * scale, reference.box)
        kept = np.sort(in_turn(np.argsort(-rich, kind="stable"), rich, parts, reference.most_tiles, _PUT_OFF))
        oy, ox = oy[kept], ox[kept]
    dy, dx = (a.ravel() for a in _sampled(tile, stride))
    px, py = ox[:, None] + dx, oy[:, None] + dy
    within = (px >= 0) & (px < w) & (py >= 0) & (py < h)
    cx, cy = np.clip(px, 0, w - 1), np.clip(py, 0, h - 1)
    ins = inside[cy, cx] * within
    keep = ins.mean(1) > 0.35
    px, py, cx, cy, ins = px[keep], py[keep], cx[keep], cy[keep], ins[keep]
    count, pixels = px.shape
    ramp = (np.arange(tile) - (tile - 1) / 2).astype(np.float32) / tile
    light = np.empty((count, 3, pixels), np.float32)
    light[:, 0] = 1
    light[:, 1] = ramp[dx]
    light[:, 2] = ramp[dy]
    x, y = (px * scale).astype(np.float32), (py * scale).astype(np.float32)
    slope_x, slope_y = gx[cy, cx], gy[cy, cx]
    basis, steepest_descent, energy = described(reference, level, x, y, light, ins, image[cy, cx], slope_x, slope_y)
    information = ((slope_x ** 2 + slope_y ** 2) * ins).sum(1)
    centre = np.column_stack([px.mean(1), py.mean(1)]) * scale
    return TileSet(level, tile, x, y, basis, steepest_descent, ins, energy, centre, information, _parts(centre, reference.box))


def _parts(places: np.ndarray, box: tuple[int, int, int, int]) -> np.ndarray:
    """(K,) which of 36 parts of a box places (K, 2) lie in."""
    x0, y0, x1, y1 = box
    grid = np.floor((places - [x0, y0]) / np.maximum([(x1 - x0) / 6, (y1 - y0) / 6], 1))
    return np.asarray(np.clip(grid, 0, 5).astype(int) @ np.array([1, 6]))


def described(reference: Reference, level: int, x: np.ndarray, y: np.ndarray, light: np.ndarray, inside: np.ndarray, luma: np.ndarray,
              slope_x: np.ndarray, slope_y: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """`basis`, `steepest_descent` and `energy` of a `TileSet` for tiles whose pixels at x, y (K, P) have this luma and
    these slopes per level pixel (K, P).

    `light` (K, 3, P) are the first three rows of `basis`.
    """
    weight = np.maximum(inside.sum(1, keepdims=True), 1)
    basis = np.concatenate([light, (luma - (luma * inside).sum(1, keepdims=True) / weight)[:, None]], axis=1)
    # derivative by the small motion's parameters, in unit coordinates
    s = 2 ** level / reference.radius
    u = ((x - reference.centre[0]) / reference.radius).astype(np.float32)
    v = ((y - reference.centre[1]) / reference.radius).astype(np.float32)
    ix, iy = slope_x / s, slope_y / s
    flow = ix * u + iy * v
    steepest_descent = np.stack([ix * u, ix * v, ix, iy * u, iy * v, iy, -u * flow, -v * flow]).astype(np.float32) * inside
    gram = (basis * inside[:, None]) @ basis.transpose(0, 2, 1) + 1e-3 * np.eye(4, dtype=np.float32)
    only_light = np.linalg.solve(gram[:, :3, :3], gram[:, :3, 3:])
    energy = (((basis[:, 3] - (only_light.transpose(0, 2, 1) @ light)[:, 0]) * inside) ** 2).sum(1) / weight[:, 0]
    return basis, without_light(steepest_descent, basis, inside), energy


def _blur_moments(image: np.ndarray, tiles: TileSet) -> np.ndarray:
    """(18, K, P) the luma's derivatives of second to fifth order, with what light could explain projected out.

    A picture convolved with a short kernel is its Taylor series: each derivative times the kernel's moment of that order. Left out,
    the odd ones pass for motion.
    """
    scale = 2 ** tiles.level
    h, w = image.shape
    px = np.clip(np.rint(tiles.x / scale).astype(int), 0, w - 1)
    py = np.clip(np.rint(tiles.y / scale).astype(int), 0, h - 1)
    # the tiles' surroundings only, as far as five derivatives reach
    left, top = max(0, px.min() - 2 * _ORDERS[-1]), max(0, py.min() - 2 * _ORDERS[-1])
    part = image[top:py.max() + 2 * _ORDERS[-1] + 1, left:px.max() + 2 * _ORDERS[-1] + 1]
    px, py = px - left, py - top

    @cache
    def d(order_x: int, order_y: int) -> np.ndarray:
        if order_x + order_y == 0:
            return part
        along = order_x > 0
        before = d(order_x - 1, order_y) if along else d(order_x, order_y - 1)
        return cv2.Scharr(before, cv2.CV_32F, int(along), int(not along), scale=1 / 32)

    orders = [(k - j, j) for k in _ORDERS for j in range(k + 1)]
    columns = np.stack([d(a, b)[py, px] for a, b in orders]) * tiles.inside
    return without_light(columns, tiles.basis, tiles.inside)


def without_light(columns: np.ndarray, basis: np.ndarray, inside: np.ndarray) -> np.ndarray:
    """Columns (m, K, P) less what the tiles' light could explain of them."""
    masked = basis * inside[:, None]
    gram = masked @ basis.transpose(0, 2, 1) + 1e-3 * np.eye(4, dtype=np.float32)
    gram[:, 3, 3] += basis.shape[2] * PLAIN
    light = np.linalg.solve(gram, masked @ columns.transpose(1, 2, 0))
    return np.asarray(columns - (light.transpose(0, 2, 1) @ masked).transpose(1, 0, 2))


def _sampled(tile: int, stride: int) -> tuple[np.ndarray, np.ndarray]:
    """Rows and columns of the pixels taken from a tile: every `stride`-th, each row shifted against the one before."""
    dy, dx = np.meshgrid(np.arange(0, tile, stride), np.arange(0, tile, stride), indexing="ij")
    return dy + (dx // stride) % 2 * (stride // 2), dx + (dy // stride) % 2 * (stride // 2)


def visible_tiles(tiles: TileSet, matrix: np.ndarray, size: tuple[int, int], border: float = 3.0) -> np.ndarray:
    """(K,) whether each tile's middle and corners fall inside a picture of `size` (width, height) under `matrix`."""
    places = homography.apply(matrix, tiles.corners)
    with np.errstate(invalid="ignore"):
        ok = (places >= border) & (places <= np.array(size) - 1 - border)
    return np.asarray(ok.all(axis=(1, 2)))


def choose(tiles: TileSet, allowed: np.ndarray, limit: int) -> np.ndarray:
    """Indices of up to `limit` allowed tiles: the richest ones, taken in turn from 36 parts of the region so that they are spread."""
    index = np.flatnonzero(allowed)
    if len(index) <= limit:
        return index
    return np.sort(in_turn(tiles.richest_first[allowed[tiles.richest_first]], tiles.information, tiles.bucket, limit, _PUT_OFF))
