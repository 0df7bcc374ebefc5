"""The tool that paints on a patch, on the frame in view or in the steady view."""

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from wertis.app import theme
from wertis.app.tools import Modifiers, Tool, ToScreen

_TURN = 2 * np.pi * np.arange(32) / 32
_CLOSE = 0.25  # of the radius, by which the next point of a stroke is away at least


class PaintTool(Tool):
    """Drag to paint; Shift and a click go straight from where the last stroke ended; Ctrl and a click set where is copied from; `[` and `]` change the
    brush's size. With Fill, drag round what is to be filled.

    Parameters
    ----------
    flat : gives points (N, 2) of the frame's picture on the flat picture; None where that is unknown.
    back : the other way round.
    radius, pressure : give the brush's radius in the flat picture's pixels, and how hard it is pressed, 0..1.
    began, went_on, ended : called with a stroke's first point (1, 3), each further piece (2, 3), and all of it (N, 3).
    source_set : called with a place (2,) of the flat picture.
    sized : called with a factor.
    marks : give where is copied from (2,) of the flat picture, for the pointer's place; None where nothing is.
    lasso : whether outlines are drawn rather than strokes.
    """

    cursor = Qt.CursorShape.CrossCursor

    def __init__(self, flat: Callable[[np.ndarray], np.ndarray | None], back: Callable[[np.ndarray], np.ndarray | None], radius: Callable[[], float],
                 pressure: Callable[[], float], began: Callable[[np.ndarray], bool], went_on: Callable[[np.ndarray], object],
                 ended: Callable[[np.ndarray], object], source_set: Callable[[np.ndarray], object], sized: Callable[[float], object],
                 marks: Callable[[np.ndarray], np.ndarray | None], lasso: Callable[[], bool]) -> None:
        self._flat, self._back, self._radius, self._pressure = flat, back, radius, pressure
        self._began, self._went_on, self._ended, self._source_set, self._sized = began, went_on, ended, source_set, sized
        self._marks, self._lasso = marks, lasso
        self._points: list[np.ndarray] = []
        self._last: np.ndarray | None = None  # of the stroke before
        self._pointer: np.ndarray | None = None  # on the flat picture

    def press(self, point: np.ndarray, reach: float, modifiers: Modifiers) -> None:
        place = self._place(point)
        if place is None:
            return
        if modifiers & Qt.KeyboardModifier.ControlModifier:
            self._source_set(place[:2])
            return
        start = [place]
        if modifiers & Qt.KeyboardModifier.ShiftModifier and self._last is not None and not self._lasso():
            start = [self._last, place]
        if not self._began(np.array(start[:1])):
            return
        self._points = start
        if len(start) > 1:
            self._went_on(np.array(start))

    def move(self, point: np.ndarray, reach: float) -> None:
        place = self._place(point)
        self._pointer = None if place is None else place[:2]
        if place is None or not self._points:
            return
        least = 1.0 if self._lasso() else _CLOSE * self._radius()
        if np.linalg.norm(place[:2] - self._points[-1][:2]) < max(least, 0.5):
            return
        self._points.append(place)
        self._went_on(np.array(self._points[-2:]))

    def release(self, point: np.ndarray) -> None:
        if self._points:
            points, self._points = np.array(self._points), []
            self._last = points[-1]
            self._ended(points)

    def key(self, key: Qt.Key, modifiers: Modifiers) -> bool:
        if key in (Qt.Key.Key_BracketLeft, Qt.Key.Key_BracketRight):
            self._sized(1 / 1.2 if key == Qt.Key.Key_BracketLeft else 1.2)
            return True
        return False

    def paint(self, painter: QPainter, to_screen: ToScreen) -> None:
        if self._lasso() and self._points:
            self._outline(painter, to_screen, np.array(self._points)[:, :2], False)
        if self._pointer is None:
            return
        if not self._lasso():
            ring = np.column_stack([np.cos(_TURN), np.sin(_TURN)]) * self._radius()
            self._outline(painter, to_screen, self._pointer + ring, True)
        source = self._marks(self._pointer)
        there = self._back(source[None]) if source is not None else None
        if there is not None and np.isfinite(there).all():
            x, y = to_screen(there)[0]
            for pen in (QPen(theme.HALO, 3), QPen(theme.PAPER, 1.2)):
                painter.setPen(pen)
                painter.drawLine(QPointF(x - 6, y - 6), QPointF(x + 6, y + 6))
                painter.drawLine(QPointF(x - 6, y + 6), QPointF(x + 6, y - 6))

    def _outline(self, painter: QPainter, to_screen: ToScreen, points: np.ndarray, closed: bool) -> None:
        there = self._back(points)
        if there is None or not np.isfinite(there).all():
            return
        line = QPolygonF([QPointF(*p) for p in to_screen(there)])
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for pen in (QPen(theme.HALO, 2.4), QPen(theme.PAPER, 1)):
            painter.setPen(pen)
            (painter.drawPolygon if closed else painter.drawPolyline)(line)

    def _place(self, point: np.ndarray) -> np.ndarray | None:
        """A point (3,) of a stroke for a place of the picture."""
        flat = self._flat(np.asarray(point, float)[None])
        return None if flat is None or not np.isfinite(flat).all() else np.array([*flat[0], self._pressure()])
