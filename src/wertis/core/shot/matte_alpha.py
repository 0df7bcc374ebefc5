"""Mattes as pictures: a frame's alpha of a matte, its shapes joined, with the blur of their own motion."""

import threading
from collections import OrderedDict
from collections.abc import Callable

import numpy as np

from wertis.core.imaging.parallel import side_by_side
from wertis.core.matte import keying
from wertis.core.matte.coverage import Box, box_round, mean_area, soft_area
from wertis.core.matte.outline import along, flattened
from wertis.core.matte.stroke import cut_line, stroke_area
from wertis.core.plate.base import to_float
from wertis.core.shot.document import Shot
from wertis.core.shot.hold_outs import register_drawn
from wertis.core.shot.matte_carry import Carrier
from wertis.core.shot.mattes import Matte, MatteShape, MatteSource
from wertis.core.shot.plate_pictures import coded, file_picture, plate_picture

_STEP = 0.7  # pixels that an outline may move between two samples of a shutter's opening, for no steps to be seen
_LEAST, _LEAST_SOFT, _MOST = 5, 3, 96  # samples; where the edge is softer than `_SOFT` pixels the second will do
_SOFT = 3.0
_MOST_KEPT = 12  # mattes whose edge was taken from the picture
_MOST_PIXELS = 12_000_000  # of alphas of single shapes that are kept, 48 MB: of many, those that are not being dragged need not be made again

Picture = Callable[[], np.ndarray]
"""Gives the plate's picture of the frame at hand (h, w, 3) float32, coded for the eye."""

_found_edges: "OrderedDict[tuple, np.ndarray]" = OrderedDict()
_shapes: "OrderedDict[tuple, tuple[np.ndarray, Box | None]]" = OrderedDict()
_lock = threading.Lock()


def matte_alpha(shot: Shot, matte: Matte, frame: float, size: tuple[int, int], blurred: bool = True, picture: Picture | None = None) -> np.ndarray:
    """(h, w) float32, 0..1: a matte on a frame of a picture of `size` (width, height).

    Shapes are joined in their order to what the matte is drawn on: one that adds as a picture that lies over another (a + b - ab), one that subtracts
    a (1 - b), one that intersects ab, one that excludes a + b - 2ab. A group is joined where its first shape is. Nothing where its track has no answer.

    Parameters
    ----------
    blurred : with the blur of its motion, where it has a shutter.
    picture : gives the frame's picture, for mattes that look at it; it is read from the shot's plate when not given.

    Raises
    ------
    PlateError
        When a picture that the matte looks at cannot be read.
    """
    look = picture or (lambda: plate_picture(shot, round(frame)))
    alpha = _from_source(matte.source, round(frame), size, look) if matte.source is not None else np.zeros((size[1], size[0]), np.float32)
    shapes, carried = [s for s in matte.shapes if _shows(matte, s)], Carrier(shot, matte)
    carried.warp(frame)

    def made(shape: MatteShape) -> tuple[np.ndarray, Box | None]:
        return _shape_alpha(carried, shape, frame, size, blurred)

    alpha = _joined(matte, "", list(zip(shapes, side_by_side(made, shapes), strict=True)), alpha)
    if matte.edge == "picture":
        alpha = _by_picture(shot, matte, frame, alpha, look)
    if matte.invert:
        alpha = 1 - alpha
    return alpha if matte.opacity == 1 else alpha * np.float32(matte.opacity)


def shape_alpha(shot: Shot, matte: Matte, shape: MatteShape, frame: float, size: tuple[int, int], blurred: bool = True) -> tuple[np.ndarray, Box | None]:
    """A shape's own alpha (h, w) float32 on the part x0, y0, x1, y1 of the picture that it touches; None where there is none."""
    return _shape_alpha(Carrier(shot, matte), shape, frame, size, blurred)


def group_alpha(shot: Shot, matte: Matte, group_id: str, frame: float, size: tuple[int, int]) -> np.ndarray:
    """(h, w) float32, 0..1: a group of a matte's shapes alone."""
    group = matte.group(group_id)
    inside = {group_id}
    for _ in matte.groups:
        inside |= {g.id for g in matte.groups if g.within in inside}
    own = matte.but(shapes=tuple(s for s in matte.shapes if s.group in inside), source=None, invert=False, opacity=1.0,
                    groups=tuple(g.but(combine="add") if g is group else g for g in matte.groups))
    return matte_alpha(shot, own, frame, size)


def _shows(matte: Matte, shape: MatteShape) -> bool:
    ident, on = shape.group, shape.visible
    while (group := matte.group(ident)) is not None:
        on, ident = on and group.visible, group.within
    return on


def _joined(matte: Matte, level: str, parts: list[tuple[MatteShape, tuple[np.ndarray, Box | None]]], alpha: np.ndarray) -> np.ndarray:
    """`alpha` (h, w) with those shapes joined to it that lie in a group, or in none (""), and the groups in that."""
    done = set()
    for shape, (own, box) in parts:
        inside = _child(matte, shape.group, level)
        if inside is None or inside in done:
            continue
        if not inside:
            alpha = _join(alpha, own, box, shape.combine)
            continue
        done.add(inside)
        group = matte.group(inside)
        assert group is not None
        whole = _joined(matte, inside, parts, np.zeros_like(alpha))
        whole = (1 - whole if group.invert else whole) * np.float32(group.opacity)
        alpha = _join(alpha, whole, (0, 0, alpha.shape[1], alpha.shape[0]), group.combine)
    return alpha


def _child(matte: Matte, ident: str, level: str) -> str | None:
    """Which group directly in `level` holds what is in the group `ident`: "" for `level` itself, None where it is not in it at all."""
    below = ""
    while ident != level:
        group = matte.group(ident)
        if group is None:
            return below if not level else None
        below, ident = ident, group.within
    return below


def _join(alpha: np.ndarray, own: np.ndarray, box: Box | None, how: str) -> np.ndarray:
    if how == "intersect":
        kept = np.zeros_like(alpha)
        if box is not None:
            x0, y0, x1, y1 = box
            kept[y0:y1, x0:x1] = alpha[y0:y1, x0:x1] * own
        return kept
    if box is None:
        return alpha
    x0, y0, x1, y1 = box
    part = alpha[y0:y1, x0:x1]
    if how == "subtract":
        part *= 1 - own
        return alpha
    both = part * own
    if how == "exclude":
        both *= 2
    part += np.subtract(own, both, out=both)
    return alpha


def _shape_alpha(carried: Carrier, shape: MatteShape, frame: float, size: tuple[int, int], blurred: bool) -> tuple[np.ndarray, Box | None]:
    matte, soft = carried.matte, float(max(*shape.inner, *shape.outer))
    grow, smooth = matte.grows(shape), matte.fall == "smooth"
    places = []
    for time in _times(carried, shape, frame, soft) if blurred else [frame]:
        controls = carried.smoothly(shape, frame, time)
        if controls is not None and np.isfinite(controls).all():
            places.append((time, controls))
    if not places:
        return np.zeros((0, 0), np.float32), None
    if shape.stroke is not None:
        lines = [(time, *flattened(shape.curves(controls), shape.closed)) for time, controls in places]
        found, box = _mean([_line_alpha(shape, time, line, at, grow, size, smooth) for time, line, at in lines])
        return found * np.float32(shape.opacity), box
    key = (tuple(controls.tobytes() for _, controls in places), shape.roundness, shape.handled, shape.closed, shape.inner, shape.outer, shape.opacity,
           grow, smooth, size)
    with _lock:
        if key in _shapes:
            _shapes.move_to_end(key)
            return _shapes[key]
    made = _filled(shape, [controls for _, controls in places], soft, grow, smooth, size)
    made[0].setflags(write=False)
    with _lock:
        _shapes[key] = made
        while len(_shapes) > 1 and sum(alpha.size for alpha, _ in _shapes.values()) > _MOST_PIXELS:
            _shapes.popitem(last=False)
    return made


def _filled(shape: MatteShape, places: list[np.ndarray], soft: float, grow: float, smooth: bool, size: tuple[int, int]) -> tuple[np.ndarray, Box | None]:
    """A shape's alpha over the part of the picture that it touches: the mean over where its points are at times within the shutter's opening."""
    inner, outer = np.array(shape.inner), np.array(shape.outer)
    outlines = [flattened(shape.curves(controls), shape.closed) for controls in places]
    box = box_round(np.concatenate([p for p, _ in outlines]), soft + abs(grow), size)
    if box is None:
        return np.zeros((0, 0), np.float32), None
    if not soft and not grow:
        found = mean_area([p for p, _ in outlines], box)
    else:
        found = np.zeros((box[3] - box[1], box[2] - box[0]), np.float32)
        for polygon, at in outlines:
            found += soft_area(polygon, along(inner, at), along(outer, at), box, smooth, grow)
        found /= np.float32(len(outlines))
    return found * np.float32(shape.opacity), box


def _line_alpha(shape: MatteShape, time: float, line: np.ndarray, at: np.ndarray, grow: float, size: tuple[int, int],
                smooth: bool) -> tuple[np.ndarray, Box | None]:
    stroke = shape.stroke
    assert stroke is not None
    begin, end = stroke.part(time)
    whole = shape.closed and abs(end - begin) >= 1 and not (stroke.gap and stroke.dash)
    full = np.append(at, float(shape.count)) if shape.closed else at
    lines = []
    for places, where in cut_line(line, shape.closed, begin, end, (stroke.dash, stroke.gap)):
        spots = np.interp(where, np.arange(len(full)), full)
        if not shape.closed:  # the last point of an open line is followed by none
            spots = np.minimum(spots, shape.count - 1 - 1e-9)
        wide, inner, outer = (along(np.array(v), spots) for v in (stroke.widths, shape.inner, shape.outer))
        lines.append((places, np.maximum(wide / 2 + grow, 0), inner, outer))
    return stroke_area(lines, stroke.ends, size, smooth, whole)


def _mean(parts: list[tuple[np.ndarray, Box | None]]) -> tuple[np.ndarray, Box | None]:
    """The mean of pictures (h, w), each on a box of its own, or on none, where it is nothing."""
    boxes = np.array([b for _, b in parts if b is not None])
    if not len(boxes):
        return np.zeros((0, 0), np.float32), None
    (left, top), (right, bottom) = boxes[:, :2].min(0), boxes[:, 2:].max(0)
    total = np.zeros((bottom - top, right - left), np.float32)
    for own, box in parts:
        if box is not None:
            total[box[1] - top:box[3] - top, box[0] - left:box[2] - left] += own
    return total / np.float32(len(parts)), (int(left), int(top), int(right), int(bottom))


def _times(carried: Carrier, shape: MatteShape, frame: float, soft: float) -> list[float]:
    """Times within a shutter's opening, evenly spread; few where the shape hardly moves."""
    middle, half = frame + carried.matte.centre / 360, carried.matte.shutter / 720
    if not half:
        return [middle]
    a, b = (carried.controls(shape, t) for t in (middle - half, middle + half))
    if a is None or b is None:
        return [frame]
    travel = float(np.nanmax(np.linalg.norm(b - a, axis=1)))
    count = int(np.clip(np.ceil(travel / max(_STEP, soft / 3)), 1 if travel < 0.1 else _LEAST if soft < _SOFT else _LEAST_SOFT, _MOST))
    return [middle + half * ((k + 0.5) / count * 2 - 1) for k in range(count)]


def _from_source(source: MatteSource, frame: int, size: tuple[int, int], look: Picture) -> np.ndarray:
    """(h, w) float32 of what a matte is drawn on; nothing on a frame that its files lack."""
    nothing = np.zeros((size[1], size[0]), np.float32)
    if source.kind in ("file", "difference"):
        other = file_picture(source.path, frame) if source.path else None
        if other is None or other.shape[:2] != nothing.shape:
            return nothing
        if source.kind == "file":
            values = to_float(other)
            alpha = values[..., -1] if values.shape[2] in (2, 4) else values[..., :3].mean(2)
            alpha = np.clip(alpha, 0, 1)
        else:
            alpha = keying.by_difference(look(), coded(other), source.reach, source.soft)
    elif source.kind == "brightness":
        alpha = keying.by_brightness(look(), source.low, source.high, source.soft)
    else:
        alpha = keying.by_colour(look(), source.colour, source.reach, source.soft)
    if alpha.shape != nothing.shape:
        return nothing
    return np.asarray(1 - alpha if source.invert else alpha, np.float32).copy()


def _by_picture(shot: Shot, matte: Matte, frame: float, alpha: np.ndarray, look: Picture) -> np.ndarray:
    """An alpha with its soft edge taken from the picture; it is kept, since finding it takes long."""
    key = (shot.plate.path if shot.plate is not None else "", frame, alpha.shape, alpha.tobytes())
    with _lock:
        if key in _found_edges:
            _found_edges.move_to_end(key)
            return _found_edges[key].copy()
    found = keying.by_picture_edge(look(), alpha)
    with _lock:
        _found_edges[key] = found
        while len(_found_edges) > _MOST_KEPT:
            _found_edges.popitem(last=False)
    return found.copy()


def _mask(shot: Shot, ident: str, frame: int, size: tuple[int, int]) -> np.ndarray | None:
    matte = shot.item(ident, Matte)
    if matte is None or (Carrier(shot, matte).warp(frame) is None and not any(any(s.bound) for s in matte.shapes)):
        return None
    return np.asarray(matte_alpha(shot, matte, frame, size) * 255 + 0.5, np.uint8)


register_drawn(_mask)
