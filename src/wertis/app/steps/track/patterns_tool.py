"""Patterns and search areas of points, dragged on the picture: their corners for the size, with Ctrl the pattern away from its point."""

from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from wertis.app import theme
from wertis.app.tools import Modifiers, ScatteredPointsTool, ToScreen, nearest_point, paint_handle

_CORNERS = np.array([[-1.0, -1], [1, -1], [1, 1], [-1, 1]])
_KNOB = 4.0  # screen pixels, half of a round handle's width


class Square(NamedTuple):
    """A pattern on the frame in view: its middle (2,), half its side, and how far round it is searched, in pixels; `by_hand`: its size was set."""

    middle: np.ndarray
    half: float
    reach: float
    by_hand: bool


class PatternsTool(ScatteredPointsTool):
    """As its base, and the chosen points' patterns: drag a corner of the inner square for the pattern's size, of the outer one for the
    search area; with Ctrl, or once it lies apart, drag the pattern's middle away from its point.

    Parameters
    ----------
    squares : gives the patterns on the frame in view by the points' numbers; of those that are chosen, where patterns may be changed.
    patterns_changed : called with what was dragged ("side", "reach" or "offset"), of which point, its new value (2,) in pixels, and whether a drag
        is going on.
    """

    def __init__(self, points: Callable[[], np.ndarray | None], changed: Callable[[np.ndarray, bool], None],
                 chosen_changed: Callable[[set[int]], None], squares: Callable[[set[int]], dict[int, Square]],
                 patterns_changed: Callable[[str, int, np.ndarray, bool], None]) -> None:
        super().__init__(points, changed, chosen_changed)
        self._squares, self._patterns_changed = squares, patterns_changed
        self._held: tuple[str, int, np.ndarray] | None = None  # what is dragged, of which point, and by how much the press was beside it
        self._value: np.ndarray | None = None  # once it was moved

    def press(self, point: np.ndarray, reach: float, modifiers: Modifiers) -> None:
        points = self._points()
        found = self._handle_at(point, reach, bool(modifiers & Qt.KeyboardModifier.ControlModifier)) if points is not None else None
        if found is None or modifiers & Qt.KeyboardModifier.ShiftModifier:
            super().press(point, reach, modifiers)
            return
        what, k, handle = found
        self._held, self._value = (what, k, handle - point), None

    def move(self, point: np.ndarray, reach: float) -> None:
        if self._held is None:
            super().move(point, reach)
            if self._dragged is None and self._hover is None and self._handle_at(point, reach, False) is not None:
                self.cursor = Qt.CursorShape.SizeAllCursor
            return
        what, k, beside = self._held
        points, square = self._points(), self._squares(self.chosen).get(k)
        if points is None or square is None:
            return
        at = point + beside
        if what == "offset":
            self._value = at - points[k]
        else:
            half = float(np.abs(at - square.middle).max())
            self._value = np.full(2, 2 * half if what == "side" else half - square.half)
        self._patterns_changed(what, k, self._value, True)

    def release(self, point: np.ndarray) -> None:
        if self._held is None:
            super().release(point)
            return
        (what, k, _), self._held = self._held, None
        if self._value is not None:
            self._patterns_changed(what, k, self._value, False)

    def _handle_at(self, point: np.ndarray, reach: float, apart: bool) -> tuple[str, int, np.ndarray] | None:
        """The handle (2,) under the pointer, what it changes and of which point; `apart` takes the pattern away from under its point."""
        points = self._points()
        if points is None:
            return None
        for k, square in self._squares(self.chosen).items():
            beside = np.linalg.norm(square.middle - points[k]) > reach
            if np.linalg.norm(square.middle - point) <= reach and (apart or beside):
                return "offset", k, square.middle
            for what, half in (("side", square.half), ("reach", square.half + square.reach)):
                corners = square.middle + half * _CORNERS
                on = nearest_point(corners, point, reach)
                if on is not None and nearest_point(points, point, reach) is None:
                    return what, k, corners[on]
        return None

    def paint(self, painter: QPainter, to_screen: ToScreen) -> None:
        points = self._points()
        for k, square in (self._squares(self.chosen) if points is not None else {}).items():
            assert points is not None
            inner, outer = (to_screen(square.middle + half * _CORNERS) for half in (square.half, square.half + square.reach))
            middle, at = to_screen(np.array([square.middle, points[k]]))
            if not np.isfinite(np.vstack([inner, outer, middle, at])).all():
                continue
            painter.setBrush(Qt.BrushStyle.NoBrush)
            for pen in (QPen(theme.HALO, 3), QPen(theme.AMBER, 1.2)):
                painter.setPen(pen)
                painter.drawPolygon([QPointF(*p) for p in inner])
                painter.drawLine(QPointF(*middle), QPointF(*at))
            painter.setPen(QPen(theme.AMBER, 1.0, Qt.PenStyle.DashLine))
            painter.drawPolygon([QPointF(*p) for p in outer])
            for p in inner:
                paint_handle(painter, QPointF(*p), theme.AMBER, first=False, full=square.by_hand)
            for p in outer:
                painter.setPen(QPen(theme.AMBER, 1.3))
                painter.drawEllipse(QRectF(p[0] - _KNOB, p[1] - _KNOB, 2 * _KNOB, 2 * _KNOB))
        super().paint(painter, to_screen)
