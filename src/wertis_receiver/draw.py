"""Putting artwork on a plate by four corners, or by a coordinate map."""

import cv2
import numpy as np

FINER = 4  # times in each direction that a pixel is sampled
_TOGETHER = 1 << 17  # pixels of triangles that are drawn at a time, for memory's sake


def on_corners(plate: np.ndarray, artwork: np.ndarray, corners: np.ndarray) -> np.ndarray:
    """A plate (h, w, 3) with artwork (h, w, 3 or 4) on corners (4, 2), clockwise from the artwork's top left; the first pixel reaches from 0 to 1."""
    h, w = artwork.shape[:2]
    source = np.array([[0, 0], [w, 0], [w, h], [0, h]], np.float32) - np.float32(0.5)
    low = np.floor(corners.min(0)).astype(int) - 1
    high = np.ceil(corners.max(0)).astype(int) + 2
    low, high = np.maximum(low, 0), np.minimum(high, plate.shape[1::-1])
    if (high <= low).any():
        return plate.copy()
    target = ((corners - low) * FINER - 0.5).astype(np.float32)
    matrix = cv2.getPerspectiveTransform(source, target)
    size = int((high - low)[0]) * FINER, int((high - low)[1]) * FINER
    art = artwork.astype(np.float32)
    alpha = art[..., 3:] / 255 if art.shape[2] == 4 else np.ones((h, w, 1), np.float32)
    colour = np.concatenate([art[..., :3] * alpha, alpha], axis=2)
    reduced, larger = _reduced(colour, matrix)
    laid = cv2.warpPerspective(reduced, matrix @ larger, size, flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    inside = np.zeros(size[::-1], np.uint8)
    cv2.fillConvexPoly(inside, np.round(target * 256).astype(np.int32), 1, cv2.LINE_8, 8)
    laid = cv2.resize(laid * inside[..., None], tuple(int(v) for v in high - low), interpolation=cv2.INTER_AREA)
    out = plate.astype(np.float32)
    part = out[low[1]:high[1], low[0]:high[0], :3]
    part[...] = laid[..., :3] + part * (1 - laid[..., 3:])
    return np.clip(np.round(out), 0, 255).astype(plate.dtype)


def _reduced(picture: np.ndarray, matrix: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The picture no finer than it is seen, and the matrix that takes its pixels to the first picture's."""
    h, w = picture.shape[:2]
    ends = cv2.perspectiveTransform(np.array([[[0, 0], [w, 0], [w, h], [0, h]]], np.float32), matrix)[0]
    across = max(float(np.linalg.norm(ends[1] - ends[0])), float(np.linalg.norm(ends[2] - ends[3])))
    down = max(float(np.linalg.norm(ends[3] - ends[0])), float(np.linalg.norm(ends[2] - ends[1])))
    small = max(1, min(w, round(across))), max(1, min(h, round(down)))
    if small == (w, h):
        return picture, np.eye(3)
    made = cv2.resize(picture, small, interpolation=cv2.INTER_AREA)
    sx, sy = w / small[0], h / small[1]
    return made, np.array([[sx, 0, (sx - 1) / 2], [0, sy, (sy - 1) / 2], [0, 0, 1.0]])


def on_mesh(plate: np.ndarray, artwork: np.ndarray, corners: np.ndarray, home: np.ndarray, places: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """A plate with artwork that lies on corners (4, 2) of a mesh's reference frame, where its vertices (V, 2) are at `home`; now they are at `places`."""
    h, w = artwork.shape[:2]
    onto = cv2.getPerspectiveTransform(corners.astype(np.float32), np.array([[0, 0], [w, 0], [w, h], [0, h]], np.float32))
    first = np.maximum(np.floor(places.min(0)).astype(int) - 1, 0)  # of the part of the plate that it reaches
    last = np.minimum(np.ceil(places.max(0)).astype(int) + 2, plate.shape[1::-1])
    if (last <= first).any():
        return plate.copy()
    now = places - first
    wide, high = (last - first) * FINER
    at = _interpolated(now[triangles] * FINER - 0.5, home[triangles], (wide, high))  # where on the reference frame each part of a pixel is
    on_art = cv2.perspectiveTransform(np.nan_to_num(at, nan=-1e4).reshape(1, -1, 2), onto).reshape(at.shape)
    there = np.isfinite(at[..., 0]) & (on_art >= 0).all(-1) & (on_art <= [w, h]).all(-1)
    across, down = (_pixels_apart(on_art[::FINER, ::FINER], there[::FINER, ::FINER], axis) / FINER for axis in (1, 0))
    small = max(1, round(w / max(across, 1.0))), max(1, round(h / max(down, 1.0)))  # no finer than it is seen
    reduced = cv2.resize(artwork[..., :3].astype(np.float32), small, interpolation=cv2.INTER_AREA)
    column, row = (on_art[..., k] * np.float32(small[k] / (w, h)[k]) - np.float32(0.5) for k in (0, 1))
    seen = cv2.remap(reduced, column, row, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    laid = cv2.resize(np.concatenate([seen * there[..., None], there[..., None].astype(np.float32)], axis=2), tuple(int(v) for v in last - first),
                      interpolation=cv2.INTER_AREA)
    out = plate.astype(np.float32)
    part = out[first[1]:last[1], first[0]:last[0], :3]
    part[...] = laid[..., :3] + part * (1 - laid[..., 3:])
    return np.clip(np.round(out), 0, 255).astype(plate.dtype)


def _interpolated(corners: np.ndarray, values: np.ndarray, size: tuple[int, int]) -> np.ndarray:
    """(h, w, 2) values (n, 3, 2) at the corners (n, 3, 2) of triangles, interpolated by barycentric coordinates at the pixels of a raster of a `size`
    (width, height), the first pixel's middle at 0, 0; nan outside all triangles. Where some overlap, it is the last one's.
    """
    at = np.full((size[1], size[0], 2), np.nan, np.float32)
    low = np.maximum(np.floor(corners.min(1)).astype(int), 0)
    up = np.minimum(np.ceil(corners.max(1)).astype(int) + 1, size)
    sides = np.stack([corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]], axis=2)
    kept = np.flatnonzero((up > low).all(1) & (np.abs(np.linalg.det(sides)) >= 1e-9))
    while len(kept):
        # as many triangles at a time as _TOGETHER pixels hold, each in a box as large as the largest of them needs
        areas = np.maximum.accumulate(up[kept] - low[kept], axis=0)
        many = max(1, int((areas.prod(1) * np.arange(1, len(kept) + 1) <= _TOGETHER).sum()))
        some, kept = kept[:many], kept[many:]
        y, x = (axis[None] for axis in np.mgrid[:areas[many - 1, 1], :areas[many - 1, 0]])
        x, y = x + low[some, 0, None, None], y + low[some, 1, None, None]
        inverse = np.linalg.inv(sides[some])[..., None, None]
        right, below = x - corners[some, 0, 0, None, None], y - corners[some, 0, 1, None, None]
        u, v = (inverse[:, k, 0] * right + inverse[:, k, 1] * below for k in (0, 1))
        n, row, column = np.nonzero((u >= -1e-6) & (v >= -1e-6) & (u + v <= 1 + 1e-6) & (x < size[0]) & (y < size[1]))
        first, second, third = values[some][n].swapaxes(0, 1)
        share = u[n, row, column, None], v[n, row, column, None]
        at[y[n, row, 0], x[n, 0, column]] = first + share[0] * (second - first) + share[1] * (third - first)
    return at


def _pixels_apart(on_art: np.ndarray, there: np.ndarray, axis: int) -> float:
    """The usual distance, in the artwork's pixels, between neighbours along an axis of a grid (h, w, 2) of places on it, of those (h, w) covered."""
    both = there[1:] & there[:-1] if axis == 0 else there[:, 1:] & there[:, :-1]
    return float(np.median(np.linalg.norm(np.diff(on_art, axis=axis), axis=-1)[both])) if both.any() else 1.0


def by_map(plate: np.ndarray, artwork: np.ndarray, corners: np.ndarray, places: np.ndarray, alpha: np.ndarray) -> np.ndarray:
    """A plate with artwork that lies on corners (4, 2) of the reference frame, by a map's places (h, w, 2) there of the plate's pixels."""
    h, w = artwork.shape[:2]
    onto = cv2.getPerspectiveTransform(corners.astype(np.float32), np.array([[0, 0], [w, 0], [w, h], [0, h]], np.float32))
    on_art = cv2.perspectiveTransform(places.reshape(1, -1, 2).astype(np.float32), onto).reshape(places.shape) - np.float32(0.5)
    inside = alpha * (on_art >= -0.5).all(-1) * (on_art < [w - 0.5, h - 0.5]).all(-1)
    seen = cv2.remap(artwork[..., :3], on_art[..., 0], on_art[..., 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE).astype(np.float32)
    out = plate.astype(np.float32)
    share = inside[..., None].astype(np.float32)
    out[..., :3] = seen * share + out[..., :3] * (1 - share)
    return np.clip(np.round(out), 0, 255).astype(plate.dtype)
