"""Mattes as pictures: a frame's alpha of a matte, its shapes joined, with the blur of their own motion."""

import numpy as np

from wertis.core.geometry.warp import Warp
from wertis.core.imaging.parallel import side_by_side
from wertis.core.matte.coverage import Box, box_round, mean_area, soft_area
from wertis.core.matte.outline import along, bezier, flattened
from wertis.core.shot.document import Shot
from wertis.core.shot.hold_outs import register_drawn
from wertis.core.shot.mattes import Matte, MatteShape, carrier

_STEP = 0.7  # pixels that an outline may move between two samples of a shutter's opening, for no steps to be seen
_LEAST, _LEAST_SOFT, _MOST = 5, 3, 96  # samples; where the edge is softer than `_SOFT` pixels the second will do
_SOFT = 3.0


def matte_alpha(shot: Shot, matte: Matte, frame: float, size: tuple[int, int], blurred: bool = True) -> np.ndarray:
    """(h, w) float32, 0..1: a matte on a frame of a picture of `size` (width, height).

    Shapes are joined in their order: one that adds as a picture that lies over another (a + b - ab), one that subtracts a (1 - b), one that intersects ab,
    one that excludes a + b - 2ab. Nothing where its track has no answer.

    Parameters
    ----------
    blurred : with the blur of its motion, where it has a shutter.
    """
    alpha = np.zeros((size[1], size[0]), np.float32)
    shapes, carried = [s for s in matte.shapes if s.visible], _Carrier(shot, matte)
    carried.at(frame)

    def made(shape: MatteShape) -> tuple[np.ndarray, Box | None]:
        return _shape_alpha(carried, shape, frame, size, blurred)

    for shape, (own, box) in zip(shapes, side_by_side(made, shapes), strict=True):
        if shape.combine == "intersect":
            kept = np.zeros_like(alpha)
            if box is not None:
                x0, y0, x1, y1 = box
                kept[y0:y1, x0:x1] = alpha[y0:y1, x0:x1] * own
            alpha = kept
            continue
        if box is None:
            continue
        x0, y0, x1, y1 = box
        part = alpha[y0:y1, x0:x1]
        if shape.combine == "add":
            part += own - part * own
        elif shape.combine == "subtract":
            part *= 1 - own
        else:
            part += own - 2 * part * own
    if matte.invert:
        alpha = 1 - alpha
    return alpha if matte.opacity == 1 else alpha * np.float32(matte.opacity)


def shape_alpha(shot: Shot, matte: Matte, shape: MatteShape, frame: float, size: tuple[int, int], blurred: bool = True) -> tuple[np.ndarray, Box | None]:
    """A shape's own alpha (h, w) float32 on the part x0, y0, x1, y1 of the picture that it touches; None where there is none."""
    return _shape_alpha(_Carrier(shot, matte), shape, frame, size, blurred)


class _Carrier:
    """How a matte's surface takes its own frame's picture to those of other times; each is worked out once."""

    def __init__(self, shot: Shot, matte: Matte) -> None:
        self.shot, self.matte = shot, matte
        self._warps: dict[float, Warp | None] = {}

    def at(self, time: float) -> Warp | None:
        if time not in self._warps:
            self._warps[time] = carrier(self.shot, self.matte, time)
        return self._warps[time]

    def points(self, shape: MatteShape, time: float) -> np.ndarray | None:
        """(N, 2) a shape's points in the picture of a time."""
        warp = self.at(time)
        return None if warp is None else warp.forward(shape.at(time))

    def smoothly(self, shape: MatteShape, frame: float, time: float) -> np.ndarray | None:
        """(N, 2) a shape's points at a time near a frame: its surface goes on a parabola through the frame and those beside it, where they are known.

        Within a shutter's opening straight lines from frame to frame would show as a bend in the middle of a fast blur.
        """
        part = time - frame
        warps = [self.at(frame + k) for k in (-1, 0, 1)] if part and self.matte.on else []
        if not warps or any(w is None for w in warps) or abs(part) > 1:
            return self.points(shape, time)
        own, weights = shape.at(time), (part * (part - 1) / 2, 1 - part * part, part * (part + 1) / 2)
        return np.asarray(sum(w * warp.forward(own) for w, warp in zip(weights, warps, strict=True) if warp is not None))

    def times(self, shape: MatteShape, frame: float, soft: float) -> list[float]:
        """Times within a shutter's opening, evenly spread; few where the shape hardly moves."""
        middle, half = frame + self.matte.centre / 360, self.matte.shutter / 720
        if not half:
            return [middle]
        a, b = (self.points(shape, t) for t in (middle - half, middle + half))
        if a is None or b is None:
            return [frame]
        travel = float(np.nanmax(np.linalg.norm(b - a, axis=1)))
        count = int(np.clip(np.ceil(travel / max(_STEP, soft / 3)), 1 if travel < 0.1 else _LEAST if soft < _SOFT else _LEAST_SOFT, _MOST))
        return [middle + half * ((k + 0.5) / count * 2 - 1) for k in range(count)]


def _shape_alpha(carried: _Carrier, shape: MatteShape, frame: float, size: tuple[int, int], blurred: bool) -> tuple[np.ndarray, Box | None]:
    matte, rounds = carried.matte, np.array(shape.roundness)
    inner, outer = np.array(shape.inner), np.array(shape.outer)
    soft = float(max(inner.max(), outer.max()))
    outlines = []
    for time in carried.times(shape, frame, soft) if blurred else [frame]:
        points = carried.smoothly(shape, frame, time)
        if points is not None and np.isfinite(points).all():
            outlines.append(flattened(bezier(points, rounds)))
    nothing = np.zeros((0, 0), np.float32)
    if not outlines:
        return nothing, None
    box = box_round(np.concatenate([p for p, _ in outlines]), soft + abs(matte.grow), size)
    if box is None:
        return nothing, None
    if not soft and not matte.grow:
        found = mean_area([p for p, _ in outlines], box)
    else:
        found = soft_area(*outlines[0][:1], along(inner, outlines[0][1]), along(outer, outlines[0][1]), box, matte.fall == "smooth", matte.grow)
        for polygon, at in outlines[1:]:
            found += soft_area(polygon, along(inner, at), along(outer, at), box, matte.fall == "smooth", matte.grow)
        found /= np.float32(len(outlines))
    return found * np.float32(shape.opacity), box


def _mask(shot: Shot, ident: str, frame: int, size: tuple[int, int]) -> np.ndarray | None:
    matte = shot.item(ident, Matte)
    if matte is None or carrier(shot, matte, frame) is None:
        return None
    return np.asarray(matte_alpha(shot, matte, frame, size) * 255 + 0.5, np.uint8)


register_drawn(_mask)
