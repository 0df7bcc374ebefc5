"""Lines of a width that may change along them, with ends, dashes, and part of their length, as coverage of pixels.

Ends and dashes are those of the W3C's Scalable Vector Graphics 2 (2018), section 13.5: round, flat (butt) and square.
"""

from collections.abc import Sequence
from typing import Literal

import numpy as np

from wertis.core.matte.coverage import Box, box_round, nearest_sides

Ends = Literal["round", "flat", "square"]
_SHORT = 1e-9  # pixels below which there is no line


def cut_line(line: np.ndarray, closed: bool, begin: float = 0.0, end: float = 1.0,
             dashes: tuple[float, float] = (0.0, 0.0)) -> list[tuple[np.ndarray, np.ndarray]]:
    """The parts of a line (M, 2) that are drawn: each its points (m, 2), and (m,) where among the line's points they are.

    Parameters
    ----------
    closed : whether the line goes on from its last point to the first.
    begin, end : the share of its length, 0..1, from and to which it is drawn.
    dashes : pixels drawn and pixels left out, in turn from the line's own beginning; the second 0 for a line without gaps.
    """
    points = np.vstack([line, line[:1]]) if closed else np.asarray(line, np.float64)
    length = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(points, axis=0), axis=1))])
    whole = length[-1]
    low, high = whole * np.clip(min(begin, end), 0, 1), whole * np.clip(max(begin, end), 0, 1)
    if whole < _SHORT or high - low < _SHORT:
        return []
    drawn, gap = dashes
    if drawn > _SHORT and gap > _SHORT:
        first = np.arange(np.floor(low / (drawn + gap)), np.ceil(high / (drawn + gap))) * (drawn + gap)
        spans = [(max(a, low), min(a + drawn, high)) for a in first]
    else:
        spans = [(low, high)]
    found = []
    for a, b in spans:
        if b - a < _SHORT:
            continue
        own = (length > a) & (length < b)
        at = np.concatenate([[a], length[own], [b]])
        places = np.column_stack([np.interp(at, length, points[:, k]) for k in (0, 1)])
        found.append((places, np.interp(at, length, np.arange(len(points)))))
    return found


def stroke_area(lines: Sequence[tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]], ends: Ends, size: tuple[int, int], smooth: bool = True,
                whole: bool = False) -> tuple[np.ndarray, Box | None]:
    """(h, w) float32, 0..1: how much of each pixel of a box (second) lines cover; None where they touch no pixel of a picture of `size` (width, height).

    Parameters
    ----------
    lines : for each its points (m, 2), half its width there, and the pixels over which its edge falls inside and outside of that, each (m,).
    smooth : the edge falls as 3 t^2 - 2 t^3 rather than straight.
    whole : the line is one closed one, and has no ends.
    """
    nothing = np.zeros((0, 0), np.float32)
    if not lines:
        return nothing, None
    if ends == "square" and not whole:
        lines = [(_longer(p, half), half, inner, outer) for p, half, inner, outer in lines]
    reach = max(float((half + outer).max()) for _, half, _, outer in lines) + 1
    box = box_round(np.concatenate([p for p, *_ in lines]), reach, size)
    if box is None:
        return nothing, None
    origin, w, h = np.array(box[:2]), box[2] - box[0], box[3] - box[1]
    sides = np.concatenate([np.hstack([p[:-1], p[1:]]) for p, *_ in lines]) - np.tile(origin, 2)
    far, side, part = nearest_sides(sides, (w, h), reach + 1)
    rows, columns = np.nonzero(np.isfinite(far))
    k, t = side[rows, columns], part[rows, columns]

    def of_line(which: int) -> np.ndarray:
        a, b = (np.concatenate([x[which][cut] for x in lines]) for cut in (slice(None, -1), slice(1, None)))
        return np.asarray((1 - t) * a[k] + t * b[k])

    half, inner, outer = (of_line(which) for which in (1, 2, 3))
    inside = half - np.sqrt(far[rows, columns])  # pixels from the edge inwards
    if ends != "round" and not whole:
        inside = np.minimum(inside, _from_ends(lines, sides, k, t, columns + 0.5, rows + 0.5))
    hard = np.clip(inside + 0.5, 0, 1) * np.minimum(1, 2 * half)  # a line thinner than a pixel is fainter
    fall = inner + outer
    level = np.clip((inside + outer) / np.maximum(fall, 1e-6), 0, 1)
    soft = level * level * (3 - 2 * level) if smooth else level
    out = np.zeros((h, w), np.float32)
    out[rows, columns] = np.where(fall > 1, soft, hard)
    return out, box


def _longer(points: np.ndarray, half: np.ndarray) -> np.ndarray:
    """A line (m, 2) with both ends put out by half its width."""
    p = points.copy()
    for at, beside, width in ((0, 1, half[0]), (-1, -2, half[-1])):
        away = points[at] - points[beside]
        p[at] = points[at] + away * width / max(float(np.linalg.norm(away)), _SHORT)
    return p


def _from_ends(lines: Sequence[tuple[np.ndarray, ...]], sides: np.ndarray, k: np.ndarray, t: np.ndarray, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """(n,) how far before a flat end of its line a pixel lies whose nearest side is `k` at `t`; infinite where that is no end."""
    count = np.cumsum([len(p) - 1 for p, *_ in lines])
    first, last = np.concatenate([[0], count[:-1]]), count - 1
    direction = sides[:, 2:] - sides[:, :2]
    direction /= np.maximum(np.linalg.norm(direction, axis=1, keepdims=True), _SHORT)
    before = np.full(len(k), np.inf)
    for at, which, sign in ((0, first, 1.0), (2, last, -1.0)):
        there = np.isin(k, which)
        away = np.column_stack([x, y]) - sides[k, at:at + 2]
        before = np.where(there, np.minimum(before, sign * np.einsum("ni,ni->n", away, direction[k])), before)
    return before
