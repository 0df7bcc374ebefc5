"""How much a brush covers along its way."""

import numpy as np

Box = tuple[int, int, int, int]
"""x0, y0, x1, y1 of a part of a picture, in whole pixels; x1 and y1 are the first beyond it."""


def reached(points: np.ndarray, radius: float, size: tuple[int, int]) -> Box | None:
    """The part of a picture of `size` (width, height) that a stroke can reach; None where that is nothing.

    Parameters
    ----------
    points : (N, 3) x, y and pressure 0..1, by which the radius is multiplied.
    """
    if not len(points):
        return None
    low = np.floor(points[:, :2].min(0) - radius - 1).astype(int)
    high = np.ceil(points[:, :2].max(0) + radius + 1).astype(int)
    x0, y0 = np.maximum(low, 0)
    x1, y1 = np.minimum(high, size)
    return (int(x0), int(y0), int(x1), int(y1)) if x1 > x0 and y1 > y0 else None


def coverage(points: np.ndarray, radius: float, hardness: float, box: Box) -> np.ndarray:
    """(h, w) float32, 0..1: how much a stroke covers of the pixels of a box; where it crosses itself it covers once.

    Parameters
    ----------
    points : (N, 3) x, y and pressure.
    hardness : share of the radius that is covered in full; from there it falls to nothing at the radius.
    """
    x0, y0, x1, y1 = box
    out = np.zeros((y1 - y0, x1 - x0), np.float32)
    ends = points[1:] if len(points) > 1 else points
    for a, b in zip(points, ends, strict=False):
        _add_piece(out, a - [x0, y0, 0], b - [x0, y0, 0], radius, hardness)
    return out


def _add_piece(out: np.ndarray, a: np.ndarray, b: np.ndarray, radius: float, hardness: float) -> None:
    """Cover what lies near the straight way from a to b (3,), in place."""
    widest = radius * max(a[2], b[2]) + 1
    h, w = out.shape
    left, top = np.maximum(np.floor(np.minimum(a, b)[:2] - widest), 0).astype(int)
    right, bottom = np.minimum(np.ceil(np.maximum(a, b)[:2] + widest), [w, h]).astype(int)
    if right <= left or bottom <= top:
        return
    x = np.arange(left, right, dtype=np.float32)[None] + np.float32(0.5 - a[0])
    y = np.arange(top, bottom, dtype=np.float32)[:, None] + np.float32(0.5 - a[1])
    way = (b - a).astype(np.float32)
    square = float(way[0] ** 2 + way[1] ** 2)
    t = np.clip((x * way[0] + y * way[1]) / np.float32(square), 0, 1) if square > 1e-9 else np.zeros(np.broadcast_shapes(x.shape, y.shape), np.float32)
    distance = np.sqrt((x - t * way[0]) ** 2 + (y - t * way[1]) ** 2)
    reach = np.maximum(np.float32(radius) * (np.float32(a[2]) + t * way[2]), np.float32(0.5))
    # an edge over at least one pixel, so that a hard brush has no steps
    fall = np.maximum(reach * np.float32(1 - hardness), 1)
    part = np.clip((reach + 0.5 - distance) / fall, 0, 1)
    part = part * part * (3 - 2 * part) if hardness < 1 else part
    view = out[top:bottom, left:right]
    np.maximum(view, part, out=view)
