"""Small patches of a surface by which drift is measured."""

from dataclasses import dataclass

import cv2
import numpy as np

from wertis.core.imaging.balanced_selection import in_turn
from wertis.core.imaging.local_light import less_explained
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.imaging.shutter import TAPS, path_times

_PARTS = 4  # the surface has so many parts each way, from which patches are taken in turn
_PUT_OFF = 0.1  # of a poor patch's turn
_WEAK = 1.5  # luma per pixel: root mean square gradient along a patch's strongest direction below which it is left out
_WHOLE, _PARTLY = 0.97, 0.6  # share of a patch that must lie on the surface; the second where the surface is small
_FEW = 12


@dataclass(frozen=True)
class Patches:
    """K patches of the base at one level, of which P pixels are taken; the best ones of every part of the surface come first.

    Attributes
    ----------
    places : (K, P, 2) float32 level-0 places, first centres at 0.
    centre : (K, 2) middles.
    luma : (K, side * side) float32, all of each patch, its mean taken out.
    values : (K, P) the luma of the pixels taken.
    slopes : (K, 2, P) of luma per level-0 pixel.
    bends : (K, 3, P) second derivatives of luma, per level pixel.
    strong : (K, 2, 2) mean products of the slopes.
    planes : the whole level's luma, and its slopes in x and y per level pixel, 0 far from the surface.
    """

    level: int
    side: int
    places: np.ndarray
    centre: np.ndarray
    luma: np.ndarray
    values: np.ndarray
    slopes: np.ndarray
    bends: np.ndarray
    strong: np.ndarray
    planes: tuple[np.ndarray, np.ndarray, np.ndarray]

    def __len__(self) -> int:
        return len(self.centre)


@dataclass(frozen=True)
class Model:
    """How the pixels of K patches may change: by light and sharpness, and by motion.

    Attributes
    ----------
    light : (K, 7, P) luma, one, two ramps, and three second derivatives of luma.
    columns : (K, m, P) change of luma by the unknowns of the motion, less what light could explain.
    power : (K,) mean square of luma that light cannot explain.
    """

    light: np.ndarray
    columns: np.ndarray
    power: np.ndarray


def chosen_patches(base: Pyramid, mask: np.ndarray, level: int, side: int, most: int, apart: int) -> Patches:
    """Up to `most` patches of a level, each the best of its surroundings, taken in turn from all parts of the surface.

    Parameters
    ----------
    mask : (h, w) uint8, 1 on the surface, at level 0.
    side : of a patch in pixels of the level; odd.
    apart : pixels of the level that neighbouring patches are apart, more or less.
    """
    whole_image = base[level]
    shrink = 2 ** level
    half = side // 2
    small = cv2.resize(mask, whole_image.shape[::-1], interpolation=cv2.INTER_AREA) if level else mask
    # only the surroundings of the surface are looked at
    x, y, w, h = cv2.boundingRect(small)
    x0, y0 = max(0, x - 2 * side), max(0, y - 2 * side)
    window = slice(y0, y + h + 2 * side), slice(x0, x + w + 2 * side)
    image, small = whole_image[window], small[window].astype(np.float32)
    covered = cv2.boxFilter(small, -1, (side, side))
    covered[:half + 1], covered[-half - 1:], covered[:, :half + 1], covered[:, -half - 1:] = 0, 0, 0, 0
    gx = cv2.Scharr(image, cv2.CV_32F, 1, 0, scale=1 / 32)
    gy = cv2.Scharr(image, cv2.CV_32F, 0, 1, scale=1 / 32)
    xx, yy, xy = (cv2.boxFilter(a, -1, (side, side)) for a in (gx * gx, gy * gy, gx * gy))
    # a patch with one direction is of use too, but one with two is worth more (Shi and Tomasi 1994)
    mean, gap = (xx + yy) / 2, np.sqrt((xx - yy) ** 2 / 4 + xy ** 2)
    worth = np.where(mean + gap > _WEAK ** 2 / 4, np.maximum(mean - gap, 0) + 0.1 * (mean + gap), 0)
    centre = np.zeros((0, 2), int)
    for share in (_WHOLE, _PARTLY):
        centre = _best_of_cells(np.where(covered > share, worth, 0), apart, most)
        if len(centre) >= _FEW:
            break
    dy, dx = (a.ravel() for a in np.meshgrid(np.arange(-half, half + 1), np.arange(-half, half + 1), indexing="ij"))
    px, py = centre[:, :1] + dx, centre[:, 1:] + dy
    whole = image[py, px]
    # every second pixel says almost as much, since neighbours go together
    taken = (dx + dy) % 2 == 0
    px, py = px[:, taken], py[:, taken]
    # a change of sharpness is, for a short blur, the second derivatives times the blur's second moments
    bends = [cv2.Scharr(g, cv2.CV_32F, a, 1 - a, scale=1 / 32)[py, px] for g, a in ((gx, 1), (gx, 0), (gy, 0))]
    at = centre[:, ::-1].T
    strong = np.stack([np.stack([xx[*at], xy[*at]], -1), np.stack([xy[*at], yy[*at]], -1)], -2).reshape(-1, 2, 2)
    steep = []
    for slope in (gx, gy):
        steep.append(np.zeros_like(whole_image))
        steep[-1][window] = slope
    return Patches(level, side, np.stack([px + x0, py + y0], -1).astype(np.float32) * np.float32(shrink),
                   ((centre + [x0, y0]) * shrink).astype(np.float64), whole - whole.mean(1, keepdims=True), whole[:, taken],
                   np.stack([gx[py, px], gy[py, px]], 1) / np.float32(shrink), np.stack(bends, 1), strong.astype(np.float64),
                   (whole_image, steep[0], steep[1]))


def _best_of_cells(worth: np.ndarray, apart: int, most: int) -> np.ndarray:
    """(n, 2) x, y of the best place of each cell of a grid, the best of every part of the whole first."""
    ys, xs = np.nonzero(worth)
    if not len(ys):
        return np.zeros((0, 2), int)
    x0, x1, y0, y1 = xs.min(), xs.max() + 1, ys.min(), ys.max() + 1
    step = max(apart, int(np.sqrt(len(ys) / (1.3 * most))), 1)
    rows, columns = -(-(y1 - y0) // step), -(-(x1 - x0) // step)
    field = np.zeros((rows * step, columns * step), worth.dtype)
    field[:y1 - y0, :x1 - x0] = worth[y0:y1, x0:x1]
    cells = field.reshape(rows, step, columns, step).transpose(0, 2, 1, 3).reshape(rows * columns, step * step)
    best = cells.argmax(1)
    value = cells[np.arange(len(cells)), best]
    row, column = np.divmod(np.arange(len(cells)), columns)
    place = np.stack([x0 + column * step + best % step, y0 + row * step + best // step], 1)
    part = np.minimum(row * _PARTS // rows, _PARTS - 1) * _PARTS + np.minimum(column * _PARTS // columns, _PARTS - 1)
    order = np.argsort(-value, kind="stable")
    order = order[value[order] > 0]
    return np.asarray(place[in_turn(order, value, part, most, _PUT_OFF)])


def modelled(patches: Patches, chosen: np.ndarray, basis: np.ndarray) -> Model:
    """The chosen patches' (n) model where motion has the unknowns of `basis` (K, 2, m): how the patches' middles move by each."""
    return _model(patches, chosen, basis, patches.values[chosen], patches.slopes[chosen], patches.bends[chosen])


def modelled_blurred(patches: Patches, chosen: np.ndarray, basis: np.ndarray, offsets: np.ndarray, shutter: float) -> Model:
    """The same for patches blurred along a path `offsets` (J, n, 2), in level-0 pixels.

    With a `shutter`, four more unknowns are the path's legs (before x, y, after x, y), in pixels.
    """
    image, *steep = patches.planes
    shrink = np.float32(2.0 ** patches.level)

    def read(plane: np.ndarray) -> np.ndarray:
        """(J, n, P)"""
        return np.stack([cv2.remap(plane, (patches.places[chosen] - o[:, None]) / shrink, None, cv2.INTER_LINEAR,  # type: ignore[call-overload]
                                   borderMode=cv2.BORDER_REPLICATE) for o in offsets.astype(np.float32)])

    slopes = [read(plane) / shrink for plane in steep]
    values = read(image).mean(0)
    extra = None
    if shutter:
        times = path_times(shutter)
        sides = [np.maximum(-times, 0), np.maximum(times, 0)]
        extra = np.stack([np.tensordot(-(side - side.mean()) / TAPS, s, 1) for side in sides for s in slopes], 1).astype(np.float32)
    return _model(patches, chosen, basis, values, np.stack([s.mean(0) for s in slopes], 1), np.zeros((len(values), 0, values.shape[1]), np.float32),
                  extra)


def _model(patches: Patches, chosen: np.ndarray, basis: np.ndarray, values: np.ndarray, slopes: np.ndarray, bends: np.ndarray,
           extra: np.ndarray | None = None) -> Model:
    half = patches.side // 2 * 2 ** patches.level
    ramps = (patches.places[chosen] - patches.centre[chosen][:, None].astype(np.float32)) / np.float32(half)
    ramp = np.concatenate([np.ones((len(chosen), 1, ramps.shape[1]), np.float32), ramps.transpose(0, 2, 1)], axis=1)
    plain = less_explained(values[:, None], ramp)
    light = np.concatenate([plain, ramp], axis=1)
    if bends.shape[1]:
        light = np.concatenate([light, less_explained(bends, light)], axis=1)
    columns = basis[chosen].transpose(0, 2, 1).astype(np.float32) @ slopes
    if extra is not None:
        columns = np.concatenate([columns, extra], axis=1)
    return Model(light.astype(np.float32), less_explained(columns, light).astype(np.float32), (plain[:, 0] ** 2).mean(1))
