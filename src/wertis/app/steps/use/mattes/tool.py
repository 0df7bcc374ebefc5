"""The tool for a matte's shapes: their points, handles and soft edges are dragged, and what is chosen is moved, turned and scaled by a frame round it."""

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Literal

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from wertis.app import theme
from wertis.app.tools import Modifiers, Tool, ToScreen, nearest_point, paint_handle
from wertis.core.geometry.polygon import contains
from wertis.core.matte.outline import nearest_place, outwards

_PANES = 4  # polygons of an outline that are kept: in each of two panes, the way it goes round and the other way
_GAP = 14.0  # pixels of the screen by which the marks of its soft edge lie off a point that has none
_FRAME_GAP = 12.0  # pixels of the screen between what is chosen and the frame round it
_KNOB = 26.0  # and above the frame, the mark that turns it
_COLLINEAR = 0.995  # cosine between a point's two handles from which they go on being one line

Chosen = dict[str, set[int]]
"""A shape's id to the numbers of its points."""


@dataclass(frozen=True)
class Shown:
    """A shape on the frame in view.

    Attributes
    ----------
    ident : its id.
    controls : (N, 3, 2) its points, each with the ends of the handles before and after it.
    line, at : (M, 2) its outline, and (M,) where along it its vertices are.
    handled, closed, locked : as in the shape.
    inner, outer : (N,) pixels.
    """

    ident: str
    controls: np.ndarray
    line: np.ndarray
    at: np.ndarray
    handled: bool
    closed: bool
    locked: bool
    inner: np.ndarray
    outer: np.ndarray
    _polygons: dict[bytes, QPolygonF] = field(default_factory=dict, compare=False)

    def as_polygon(self, drawn: np.ndarray) -> QPolygonF:
        """Its outline as places (M, 2) on a widget, for a painter; what was made is kept, since of many shapes one is dragged."""
        key = drawn.tobytes()
        if key not in self._polygons:
            if len(self._polygons) >= _PANES:  # of a view that has moved since
                self._polygons.clear()
            self._polygons[key] = QPolygonF([QPointF(x, y) for x, y in drawn.tolist()])
        return self._polygons[key]

    @property
    def points(self) -> np.ndarray:
        """(N, 2)."""
        return self.controls[:, 0]


@dataclass
class _Drag:
    what: Literal["points", "whole", "handle", "soft", "scale", "turn", "centre", "box"]
    start: np.ndarray
    before: dict[str, np.ndarray]
    shape: str = ""
    number: int = 0
    side: int = 0
    centre: np.ndarray | None = None


class ShapesTool(Tool):
    """Drag points; Shift chooses several, also of several shapes, and a frame round them turns and scales. Double-click a side for a new point; Delete
    removes what is chosen; arrow keys with Alt nudge it by a pixel, with Shift as well by a tenth.

    Parameters
    ----------
    shapes : gives the shapes on the frame in view, the one in hand last.
    moved : called with the controls (N, 3, 2) of the shapes that changed, and whether a drag is going on.
    softened : called with a shape, numbers of points, "inner" or "outer", pixels, and whether a drag is going on.
    inserted : called with a shape, and the place (2,) on one of its sides where a point is wanted.
    removed : called with what was chosen.
    chosen_changed : called with the shape in hand and what is chosen.
    """

    def __init__(self, shapes: Callable[[], list[Shown]], moved: Callable[[dict[str, np.ndarray], bool], None],
                 softened: Callable[[str, set[int], str, float, bool], None], inserted: Callable[[str, np.ndarray], None],
                 removed: Callable[[Chosen], None], chosen_changed: Callable[[str, Chosen], None]) -> None:
        self._shapes, self._moved, self._softened, self._inserted = shapes, moved, softened, inserted
        self._removed, self._chosen_changed = removed, chosen_changed
        self.chosen: Chosen = {}
        self._drag: _Drag | None = None
        self._hover: tuple[str, int] | None = None
        self._at: np.ndarray | None = None
        self._centre: np.ndarray | None = None  # about which is turned and scaled, where it was moved
        self._zoom = 1.0  # pixels of the screen to one of the picture, when it was last painted

    @property
    def dragging(self) -> bool:
        """Whether something is being dragged."""
        return self._drag is not None

    # -- what there is --------------------------------------------------------------------------------------------

    def _in_hand(self) -> Shown | None:
        shapes = self._shapes()
        return shapes[-1] if shapes else None

    def _free(self) -> list[Shown]:
        return [s for s in self._shapes() if not s.locked]

    def _numbers(self, shape: Shown) -> set[int]:
        return {k for k in self.chosen.get(shape.ident, ()) if k < len(shape.controls)}

    def frame(self) -> tuple[np.ndarray, np.ndarray, np.ndarray] | None:
        """Low and high corner (2,) of the frame round what is chosen, and the centre about which it is turned; None for fewer than two points."""
        points = [s.points[sorted(self._numbers(s))] for s in self._free() if self._numbers(s)]
        if sum(map(len, points)) < 2:
            return None
        every = np.concatenate(points)
        gap = _FRAME_GAP / self._zoom
        low, high = every.min(0) - gap, every.max(0) + gap
        return low, high, self._centre if self._centre is not None else (low + high) / 2

    def _soft_marks(self, shape: Shown) -> list[tuple[int, str, np.ndarray]]:
        """For each chosen point of the shape in hand the marks (2,) that drag its soft edge."""
        numbers = sorted(self._numbers(shape))
        if not numbers or len(numbers) > 12 or not shape.closed:
            return []
        normals, gap = self._normals(shape), _GAP / self._zoom
        return [(k, name, shape.points[k] + sign * (float(getattr(shape, name)[k]) + gap) * normals[k]) for k in numbers
                for name, sign in (("inner", -1), ("outer", 1))]

    def _normals(self, shape: Shown) -> np.ndarray:
        every = outwards(shape.line)
        return np.asarray([every[int(np.argmin(np.linalg.norm(shape.line - p, axis=1)))] for p in shape.points])

    # -- the pointer ----------------------------------------------------------------------------------------------

    def press(self, point: np.ndarray, reach: float, modifiers: Modifiers) -> None:
        free, shift = self._free(), bool(modifiers & Qt.KeyboardModifier.ShiftModifier)
        before = {s.ident: s.controls.copy() for s in free}
        if not shift and self._press_mark(point, reach, before):
            return
        for shape in free[::-1]:
            k = nearest_point(shape.points, point, reach)
            if k is None:
                continue
            own = self._numbers(shape)
            if shift:
                self.chosen[shape.ident] = own ^ {k}
            elif k not in own:
                self.chosen = {shape.ident: {k}}
            self._centre = None if shift or k not in own else self._centre
            self._chosen_changed(shape.ident, self.chosen)
            if not shift:
                self._drag = _Drag("points", point, before, shape.ident, k)
                self.magnify = shape.points[k]
            return
        if shift:
            self._drag = _Drag("box", point, before)
            self._at = point
            return
        inside = next((s for s in free[::-1] if s.closed and contains(s.line, point)), None)
        self.chosen, self._centre = {}, None
        if inside is not None:
            self._drag = _Drag("whole", point, before, inside.ident)
        self._chosen_changed(inside.ident if inside is not None else "", self.chosen)

    def _press_mark(self, point: np.ndarray, reach: float, before: dict[str, np.ndarray]) -> bool:
        """Whether one of the marks of what is chosen was pressed: of the frame, a handle or a soft edge."""
        shape = self._in_hand()
        if shape is not None and not shape.locked:
            if shape.handled:
                for k in sorted(self._numbers(shape)):
                    for side in (1, 2):
                        end = shape.controls[k, side]
                        if np.linalg.norm(end - point) <= reach and np.linalg.norm(end - shape.points[k]) > reach / 3:
                            self._drag = _Drag("handle", point, before, shape.ident, k, side)
                            return True
            for k, name, place in self._soft_marks(shape):
                if np.linalg.norm(place - point) <= reach * 0.8:
                    self._drag = _Drag("soft", point, before, shape.ident, k, 1 if name == "outer" else 0)
                    return True
        framed = self.frame()
        if framed is None:
            return False
        low, high, centre = framed
        corners = np.array([low, [high[0], low[1]], high, [low[0], high[1]]])
        if np.linalg.norm(self._turner(low, high) - point) <= reach:
            self._drag = _Drag("turn", point, before, centre=centre)
        elif np.linalg.norm(centre - point) <= reach * 0.7:
            self._drag = _Drag("centre", point, before, centre=centre)
        elif nearest_point(corners, point, reach) is not None:
            self._drag = _Drag("scale", point, before, centre=centre)
        return self._drag is not None

    def _turner(self, low: np.ndarray, high: np.ndarray) -> np.ndarray:
        return np.array([(low[0] + high[0]) / 2, low[1] - _KNOB / self._zoom])

    def move(self, point: np.ndarray, reach: float) -> None:
        drag = self._drag
        if drag is None:
            self._look(point, reach)
        elif drag.what == "box":
            self._at = point
        elif drag.what == "centre":
            self._centre = point
        elif drag.what == "soft":
            self._soften(drag, point, True)
        else:
            moved = self._dragged(drag, point)
            if drag.what == "points" and drag.shape in moved:
                self.magnify = moved[drag.shape][drag.number, 0]
            self._moved(moved, True)

    def _look(self, point: np.ndarray, reach: float) -> None:
        self._hover = next(((s.ident, k) for s in self._free()[::-1] if (k := nearest_point(s.points, point, reach)) is not None), None)
        inside = any(s.closed and contains(s.line, point) for s in self._free())
        self.cursor = (Qt.CursorShape.PointingHandCursor if self._hover is not None else
                       Qt.CursorShape.SizeAllCursor if inside else Qt.CursorShape.ArrowCursor)

    def release(self, point: np.ndarray) -> None:
        drag, self._drag, self.magnify = self._drag, None, None
        if drag is None:
            return
        if drag.what == "box":
            low, high = np.minimum(drag.start, point), np.maximum(drag.start, point)
            for shape in self._free():
                inside = set(np.flatnonzero(((shape.points >= low) & (shape.points <= high)).all(1)).tolist())
                if inside:
                    self.chosen[shape.ident] = self._numbers(shape) | inside
            self._centre = None
            shape_in_hand = self._in_hand()
            self._chosen_changed(shape_in_hand.ident if shape_in_hand is not None else "", self.chosen)
        elif drag.what == "soft":
            self._soften(drag, point, False)
        elif drag.what != "centre" and not np.array_equal(point, drag.start):
            self._moved(self._dragged(drag, point), False)

    def double(self, point: np.ndarray, reach: float) -> None:
        self._drag = None
        for shape in self._free()[::-1]:
            away, _ = nearest_place(shape.line, shape.at, len(shape.controls), point, shape.closed)
            if nearest_point(shape.points, point, reach) is None and away <= reach:
                self._inserted(shape.ident, point)
                self.chosen = {}
                return

    # -- what a drag does -----------------------------------------------------------------------------------------

    def _dragged(self, drag: _Drag, point: np.ndarray) -> dict[str, np.ndarray]:
        """The controls of the shapes that a drag changes."""
        if drag.what == "whole":
            return {drag.shape: drag.before[drag.shape] + (point - drag.start)} if drag.shape in drag.before else {}
        if drag.what == "handle":
            return {drag.shape: _with_handle(drag.before[drag.shape], drag.number, drag.side, point)} if drag.shape in drag.before else {}
        out = {}
        for ident, numbers in self.chosen.items():
            if ident not in drag.before or not numbers:
                continue
            controls = drag.before[ident].copy()
            rows = sorted(k for k in numbers if k < len(controls))
            controls[rows] = self._transformed(drag, point, controls[rows])
            out[ident] = controls
        return out

    def _transformed(self, drag: _Drag, point: np.ndarray, places: np.ndarray) -> np.ndarray:
        if drag.what == "points" or drag.centre is None:
            return np.asarray(places + (point - drag.start))
        a, b = drag.start - drag.centre, point - drag.centre
        if drag.what == "turn":
            angle = np.arctan2(a[0] * b[1] - a[1] * b[0], a @ b)
            matrix = np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]])
            return np.asarray((places - drag.centre) @ matrix.T + drag.centre)
        factor = float(a @ b) / max(float(a @ a), 1e-9)
        return np.asarray((places - drag.centre) * max(factor, 0.01) + drag.centre)

    def _soften(self, drag: _Drag, point: np.ndarray, dragging: bool) -> None:
        shape = next((s for s in self._shapes() if s.ident == drag.shape), None)
        if shape is None or drag.number >= len(shape.controls):
            return
        away = float((point - shape.points[drag.number]) @ self._normals(shape)[drag.number]) * (1 if drag.side else -1)
        value = float(np.clip(away - _GAP / self._zoom, 0, 400))
        self._softened(drag.shape, self._numbers(shape) or {drag.number}, "outer" if drag.side else "inner", value, dragging)

    def key(self, key: Qt.Key, modifiers: Modifiers) -> bool:
        if key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and (self._hover is not None or any(self.chosen.values())):
            several = sum(map(len, self.chosen.values())) > 1
            self._removed(dict(self.chosen) if several or self._hover is None else {self._hover[0]: {self._hover[1]}})
            self.chosen, self._hover = {}, None
            return True
        steps = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1)}
        if key in steps and modifiers & Qt.KeyboardModifier.AltModifier and any(self.chosen.values()):
            size = 0.1 if modifiers & Qt.KeyboardModifier.ShiftModifier else 1.0
            drag = _Drag("points", np.zeros(2), {s.ident: s.controls.copy() for s in self._free()})
            self._moved(self._dragged(drag, np.array(steps[key]) * size), False)
            return True
        return False

    # -- painting -------------------------------------------------------------------------------------------------

    def paint(self, painter: QPainter, to_screen: ToScreen) -> None:
        origin, unit = to_screen(np.array([[0.0, 0], [1, 0]]))
        self._zoom = max(float(np.linalg.norm(unit - origin)), 1e-6)
        shapes = self._shapes()
        for shape in shapes:
            in_hand = shape is shapes[-1]
            own = self._numbers(shape)
            if in_hand and shape.handled:
                self._paint_handles(painter, to_screen, shape, own)
            for k, p in enumerate(to_screen(shape.points)):
                if np.isfinite(p).all() and (in_hand or k in own):
                    paint_handle(painter, QPointF(*p), theme.AMBER, first=(shape.ident, k) == self._hover, full=k in own)
        if shapes and not shapes[-1].locked:
            self._paint_soft(painter, to_screen, shapes[-1])
        self._paint_frame(painter, to_screen)
        if self._drag is not None and self._drag.what == "box" and self._at is not None:
            (x0, y0), (x1, y1) = to_screen(np.array([self._drag.start, self._at]))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(theme.PAPER, 1, Qt.PenStyle.DashLine))
            painter.drawRect(QRectF(min(x0, x1), min(y0, y1), abs(x1 - x0), abs(y1 - y0)))

    def _paint_handles(self, painter: QPainter, to_screen: ToScreen, shape: Shown, own: set[int]) -> None:
        for k in sorted(own):
            point, before, after = to_screen(shape.controls[k])
            for end in (before, after):
                if not np.isfinite([point, end]).all() or np.linalg.norm(end - point) < 2:
                    continue
                for pen in (QPen(theme.HALO, 3), QPen(theme.AMBER, 1.2)):
                    painter.setPen(pen)
                    painter.drawLine(QPointF(*point), QPointF(*end))
                painter.setBrush(theme.AMBER)
                painter.drawPolygon(QPolygonF([QPointF(end[0] + dx, end[1] + dy) for dx, dy in ((0, -4.5), (4.5, 0), (0, 4.5), (-4.5, 0))]))

    def _paint_soft(self, painter: QPainter, to_screen: ToScreen, shape: Shown) -> None:
        for k, _, place in self._soft_marks(shape):
            a, b = to_screen(np.array([shape.points[k], place]))
            if not np.isfinite([a, b]).all():
                continue
            for pen in (QPen(theme.HALO, 3), QPen(QColor(theme.PAPER), 1, Qt.PenStyle.DotLine)):
                painter.setPen(pen)
                painter.drawLine(QPointF(*a), QPointF(*b))
            painter.setPen(QPen(theme.HALO, 2.6))
            painter.setBrush(theme.PAPER)
            painter.drawEllipse(QPointF(*b), 3.6, 3.6)

    def _paint_frame(self, painter: QPainter, to_screen: ToScreen) -> None:
        framed = self.frame()
        if framed is None:
            return
        low, high, centre = framed
        corners = to_screen(np.array([low, [high[0], low[1]], high, [low[0], high[1]]]))
        middle, turner, top = to_screen(np.array([centre, self._turner(low, high), [(low[0] + high[0]) / 2, low[1]]]))
        if not np.isfinite([*corners, middle, turner]).all():
            return
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for pen in (QPen(theme.HALO, 2.6), QPen(theme.PAPER, 1, Qt.PenStyle.DashLine)):
            painter.setPen(pen)
            painter.drawPolygon(QPolygonF([QPointF(*p) for p in corners]))
            painter.drawLine(QPointF(*top), QPointF(*turner))
        painter.setPen(QPen(theme.HALO, 2))
        painter.setBrush(theme.PAPER)
        for p in corners:
            painter.drawRect(QRectF(p[0] - 3.5, p[1] - 3.5, 7, 7))
        painter.drawEllipse(QPointF(*turner), 4.5, 4.5)
        for pen in (QPen(theme.HALO, 3), QPen(theme.PAPER, 1.3)):
            painter.setPen(pen)
            painter.drawLine(QPointF(middle[0] - 6, middle[1]), QPointF(middle[0] + 6, middle[1]))
            painter.drawLine(QPointF(middle[0], middle[1] - 6), QPointF(middle[0], middle[1] + 6))


def _with_handle(controls: np.ndarray, number: int, side: int, place: np.ndarray) -> np.ndarray:
    """Controls (N, 3, 2) with the end of a handle at a place; the other one turns with it where the two were on one line."""
    out = controls.copy()
    point, own, other = controls[number, 0], controls[number, side], controls[number, 3 - side]
    a, b, c = own - point, other - point, place - point
    sizes = np.linalg.norm([a, b, c], axis=1)
    out[number, side] = place
    if sizes.min() > 1e-6 and float(a @ b) < -_COLLINEAR * sizes[0] * sizes[1]:
        out[number, 3 - side] = point - c / sizes[2] * sizes[1]
    return out
