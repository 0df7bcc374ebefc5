"""How much of each pixel an outline covers, exactly; and its soft edge.

The area is that of the polygon within the pixel, by signed areas summed along rows, as font rasterisers do (R. Levien, Inside the fastest font renderer in
the world, 2016; A. Turner and D. Turner, FreeType's smooth rasteriser, 2000). Where an outline winds round a pixel twice it is covered once.
"""

import ctypes
from collections.abc import Sequence

import cv2
import numpy as np

from wertis.core import compiled
from wertis.core.compiled import address

Box = tuple[int, int, int, int]
_EDGE = 0.7  # pixels of soft edge below which it is as good as hard
_STEP = 1.0  # pixels between the samples of an outline from which the distance to it begins
_ROOM = 2.0  # pixels beyond the soft edge to which distances are known


def polygon_area(polygon: np.ndarray, box: Box) -> np.ndarray:
    """(h, w) float32, 0..1: how much of each pixel of a box (x0, y0, x1, y1) a closed polygon (M, 2) covers."""
    return mean_area([polygon], box)


def mean_area(polygons: Sequence[np.ndarray], box: Box) -> np.ndarray:
    """(h, w) float32, 0..1: how much of each pixel of a box closed polygons (M, 2) cover on average, as one that moves does while a shutter is open.

    All wind the same way round, and none crosses itself, where the average is to be exact.
    """
    x0, y0, x1, y1 = box
    w, h = x1 - x0, y1 - y0
    sound = [np.asarray(p, np.float64) - [x0, y0] for p in polygons if len(p) >= 3 and np.isfinite(p).all()]
    if not sound or w <= 0 or h <= 0:
        return np.zeros((max(h, 0), max(w, 0)), np.float32)
    if compiled.LIBRARY is not None:
        corners, counts = np.ascontiguousarray(np.concatenate(sound)), np.array([len(p) for p in sound], np.int64)
        sums, out = np.empty((h, w + 2), np.float32), np.empty((h, w), np.float32)
        compiled.LIBRARY.polygons_cover(address(corners, np.float64), address(counts, np.int64), *map(compiled.long, (len(sound), h, w)),
                                        address(sums, np.float32), address(out, np.float32))
        return out
    a, b = _within_rows(np.concatenate(sound), np.concatenate([np.roll(p, -1, 0) for p in sound]), h)
    if not len(a):
        return np.zeros((h, w), np.float32)
    a, b = _split(a, b, w)
    middle = (a + b) / 2
    row = np.clip(np.floor(middle[:, 1]).astype(int), 0, h - 1)
    column = np.floor(middle[:, 0]).astype(int)
    rise = b[:, 1] - a[:, 1]
    left, inside = column < 0, (column >= 0) & (column < w)
    # an edge covers what lies to the right of it: part of its own pixel, and all of those beyond
    row, column, first = row[inside], column[inside], row[left] * (w + 1)
    own = rise[inside] * (1 - (middle[inside, 0] - column))
    at = row * (w + 1) + column
    total = np.bincount(np.concatenate([at, at + 1, first]), np.concatenate([own, rise[inside] - own, rise[left]]), h * (w + 1))
    summed = np.cumsum(total.reshape(h, w + 1).astype(np.float32), axis=1)[:, :w]
    return np.asarray(np.minimum(np.abs(summed) / np.float32(len(polygons)), 1))


def _within_rows(a: np.ndarray, b: np.ndarray, height: int) -> tuple[np.ndarray, np.ndarray]:
    """Edges from a to b (n, 2), cut to rows 0 to `height`; level ones are left out, for they cover nothing."""
    rise = b[:, 1] - a[:, 1]
    keep = (rise != 0) & (np.maximum(a[:, 1], b[:, 1]) > 0) & (np.minimum(a[:, 1], b[:, 1]) < height)
    a, b, rise = a[keep], b[keep], rise[keep]

    def at(y: np.ndarray) -> np.ndarray:
        part = ((y - a[:, 1]) / rise)[:, None]
        return np.asarray(np.where((y == a[:, 1])[:, None], a, np.where((y == b[:, 1])[:, None], b, a + part * (b - a))))

    return at(np.clip(a[:, 1], 0, height)), at(np.clip(b[:, 1], 0, height))


def _split(a: np.ndarray, b: np.ndarray, width: int) -> tuple[np.ndarray, np.ndarray]:
    """Edges from a to b (n, 2), split where they cross from pixel to pixel; beyond the first and last column they stay whole in their row."""
    for axis, most in ((1, np.inf), (0, width)):
        low, high = np.minimum(a[:, axis], b[:, axis]), np.maximum(a[:, axis], b[:, axis])
        first = np.floor(low) + 1
        last = np.ceil(high) - 1
        if axis == 0:
            first, last = np.maximum(first, 0), np.minimum(last, most)
        cuts = np.maximum(last - first + 1, 0).astype(int)
        which = np.repeat(np.arange(len(a)), cuts + 1)
        k = np.arange(len(which)) - np.repeat(np.cumsum(cuts + 1) - (cuts + 1), cuts + 1)
        rising = b[which, axis] >= a[which, axis]
        n, f, l = cuts[which], first[which], last[which]
        # the k-th piece goes from one grid line to the next, in the edge's own direction
        begin, end = np.where(rising, f + k - 1, l - k + 1), np.where(rising, f + k, l - k)
        delta = np.where(b[which, axis] != a[which, axis], b[which, axis] - a[which, axis], 1.0)

        def at(line: np.ndarray, ends: np.ndarray, is_end: np.ndarray, which: np.ndarray = which, delta: np.ndarray = delta, axis: int = axis,
               a: np.ndarray = a, b: np.ndarray = b) -> np.ndarray:
            part = ((line - a[which, axis]) / delta)[:, None]
            found = a[which] + part * (b[which] - a[which])
            found[:, axis] = line
            return np.asarray(np.where(is_end[:, None], ends[which], found))

        a, b = at(begin, a, k == 0), at(end, b, k == n)
    return a, b


def soft_area(polygon: np.ndarray, inner: np.ndarray, outer: np.ndarray, box: Box, smooth: bool = True, grow: float = 0.0) -> np.ndarray:
    """(h, w) float32, 0..1: a polygon (M, 2) with a soft edge, which falls from 1 `inner` (M,) pixels inside the outline to 0 `outer` pixels outside.

    Parameters
    ----------
    smooth : it falls as 3 t^2 - 2 t^3 rather than straight.
    grow : pixels by which the outline is moved outwards first.
    """
    hard = polygon_area(polygon, box)
    widest = float(max(inner.max(initial=0), outer.max(initial=0)))
    if (widest < _EDGE / 2 and not grow) or not hard.size:
        return hard
    if compiled.LIBRARY is not None:
        return _soft_compiled(polygon, inner, outer, box, smooth, grow, widest + abs(grow) + _ROOM, hard)
    x0, y0, _, _ = box
    from_, to = np.asarray(polygon, np.float64), np.roll(polygon, -1, 0)
    length = np.linalg.norm(to - from_, axis=1)
    count = np.maximum(np.ceil(length / _STEP), 1).astype(int)
    which = np.repeat(np.arange(len(from_)), count)
    part = (np.arange(len(which)) - np.repeat(np.cumsum(count) - count, count) + 0.5) / count[which]
    places = from_[which] + part[:, None] * (to - from_)[which]
    rows, columns, index = _nearest_places(places, widest + abs(grow) + _ROOM, box)
    if not len(rows):
        return hard
    f = np.float32
    px, py = (columns + x0 + 0.5).astype(f), (rows + y0 + 0.5).astype(f)
    (ax, ay), (dx, dy) = (v.T.astype(f) for v in (from_, to - from_))
    inverse = (1 / np.maximum(length ** 2, 1e-12)).astype(f)
    distance, t, edge = np.full(len(rows), np.inf, f), np.zeros(len(rows), f), which[index]
    for step in (0, -1, 1):  # the sides at the place nearest by whole pixels, and beside it
        side = which[(index + step) % len(which)]
        qx, qy, ex, ey = px - ax[side], py - ay[side], dx[side], dy[side]
        part_of = np.clip((qx * ex + qy * ey) * inverse[side], 0, 1)
        far = (qx - part_of * ex) ** 2 + (qy - part_of * ey) ** 2
        better = far < distance
        distance, t, edge = np.where(better, far, distance), np.where(better, part_of, t), np.where(better, side, edge)
    distance = np.sqrt(distance)
    following = (edge + 1) % len(from_)
    wide_in, wide_out = ((1 - t) * v[edge] + t * v[following] for v in (np.asarray(inner, float), np.asarray(outer, float)))
    signed = np.where(hard[rows, columns] >= 0.5, distance, -distance)
    signed = signed + grow
    whole = wide_in + wide_out
    level = np.clip((signed + wide_out) / np.maximum(whole, 1e-6), 0, 1)
    fall = level * level * (3 - 2 * level) if smooth else level
    share = np.clip(whole / _EDGE - 0.5, 0, 1)  # where the edge is as good as hard the exact area counts
    out = hard.copy()
    out[rows, columns] = share * fall + (1 - share) * (np.clip(signed + 0.5, 0, 1) if grow else hard[rows, columns])
    return out


def _soft_compiled(polygon: np.ndarray, inner: np.ndarray, outer: np.ndarray, box: Box, smooth: bool, grow: float, reach: float,
                   hard: np.ndarray) -> np.ndarray:
    """`soft_area` by the compiled loops; `hard` (h, w) becomes it."""
    library, (h, w), count = compiled.LIBRARY, hard.shape, len(polygon)
    assert library is not None
    corners = np.asarray(polygon, np.float64) - box[:2]
    far, side, part = nearest_sides(np.hstack([corners, np.roll(corners, -1, 0)]), (w, h), reach)
    wide = [np.ascontiguousarray(v, np.float32) for v in (inner, outer)]
    library.soften(address(far, np.float32), address(side, np.int32), address(part, np.float32), *map(compiled.long, (h, w)),
                   *(address(v, np.float32) for v in wide), compiled.long(count), ctypes.c_float(reach), ctypes.c_float(grow), ctypes.c_float(_EDGE),
                   int(smooth), address(hard, np.float32))
    return hard


def nearest_sides(sides: np.ndarray, size: tuple[int, int], reach: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """For the pixels of a raster of `size` (width, height) that lie within `reach` of straight sides (n, 4), each x, y, x, y:

    Returns
    -------
    (h, w) float32 the square of the distance to the nearest, infinite where none is near; (h, w) int32 its number; (h, w) float32 where along it, 0..1.
    """
    w, h = size
    sides = np.ascontiguousarray(sides, np.float64)
    far, side, part = np.full((h, w), np.inf, np.float32), np.zeros((h, w), np.int32), np.zeros((h, w), np.float32)
    if compiled.LIBRARY is not None:
        compiled.LIBRARY.nearest_sides(address(sides, np.float64), compiled.long(len(sides)), compiled.double(reach), compiled.long(h), compiled.long(w),
                                       address(far, np.float32), address(side, np.int32), address(part, np.float32))
        return far, side, part
    for k, (ax, ay, bx, by) in enumerate(sides):
        x0, y0 = np.clip(np.floor(np.minimum([ax, ay], [bx, by]) - reach), 0, size).astype(int)
        x1, y1 = np.clip(np.ceil(np.maximum([ax, ay], [bx, by]) + reach), 0, size).astype(int)
        y, x = np.mgrid[y0:y1, x0:x1] + 0.5
        t = np.clip(((x - ax) * (bx - ax) + (y - ay) * (by - ay)) / max((bx - ax) ** 2 + (by - ay) ** 2, 1e-12), 0, 1)
        away = (x - ax - t * (bx - ax)) ** 2 + (y - ay - t * (by - ay)) ** 2
        here = (slice(y0, y1), slice(x0, x1))
        nearer = away < far[here]
        far[here][nearer], side[here][nearer], part[here][nearer] = away[nearer], k, t[nearer]
    return far, side, part


def _nearest_places(places: np.ndarray, reach: float, box: Box) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Rows, columns (n,) of the pixels of a box within about `reach` pixels of places (m, 2), and the number of a place whose pixel is the nearest."""
    x0, y0, x1, y1 = box
    pad = int(np.ceil(reach)) + 1
    there = np.ones((y1 - y0 + 2 * pad, x1 - x0 + 2 * pad), np.uint8)
    at = np.floor(places - [x0, y0]).astype(int) + pad
    inside = np.flatnonzero(((at >= 0) & (at < there.shape[::-1])).all(1))
    none = np.zeros(0, int)
    if not len(inside):
        return none, none, none
    there[at[inside, 1], at[inside, 0]] = 0
    distance, labels = cv2.distanceTransformWithLabels(there, cv2.DIST_L2, cv2.DIST_MASK_5, labelType=cv2.DIST_LABEL_PIXEL)
    number = np.zeros(int(labels.max()) + 1, int)
    number[labels[at[inside, 1], at[inside, 0]]] = inside
    own = slice(pad, -pad)
    rows, columns = np.nonzero(distance[own, own] <= reach + 1)
    return rows, columns, number[labels[own, own][rows, columns]]


def box_round(polygon: np.ndarray, reach: float, size: tuple[int, int]) -> Box | None:
    """The part of a picture of `size` (width, height) that an outline (M, 2) with `reach` pixels round it touches; None where it touches none."""
    if not len(polygon) or not np.isfinite(polygon).all():
        return None
    x0, y0 = np.clip(np.floor(polygon.min(0) - reach - 1), 0, size).astype(int)
    x1, y1 = np.clip(np.ceil(polygon.max(0) + reach + 1), 0, size).astype(int)
    return (int(x0), int(y0), int(x1), int(y1)) if x1 > x0 and y1 > y0 else None
