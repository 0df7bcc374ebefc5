"""The tool that drags vertices of a mesh: each that is moved is pegged on the frame in view."""

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from wertis.app import theme
from wertis.app.tools import Modifiers, PointsTool, ToScreen, nearest_point, paint_handle


class MeshTool(PointsTool):
    """Drag vertices; Shift-click chooses several, Shift-drag those in a box, and they move together. The inside of the mesh moves nothing."""

    def press(self, point: np.ndarray, reach: float, modifiers: Modifiers) -> None:
        points = self._points()
        if points is None:
            return
        if modifiers & Qt.KeyboardModifier.ShiftModifier or nearest_point(points, point, reach) is not None:
            super().press(point, reach, modifiers)
        else:
            self.chosen = set()

    def move(self, point: np.ndarray, reach: float) -> None:
        super().move(point, reach)
        if self._hover is None and self._dragged is None:
            self.cursor = Qt.CursorShape.ArrowCursor

    def paint(self, painter: QPainter, to_screen: ToScreen) -> None:
        points = self._points()
        if points is None:
            return
        at = to_screen(points)
        for k in {*self.chosen, *(x for x in (self._hover, self._dragged) if x is not None)}:
            if k < len(at) and np.isfinite(at[k]).all():
                paint_handle(painter, QPointF(*at[k]), theme.AMBER, first=k in (self._hover, self._dragged), full=k in self.chosen)
        if self._box is not None:
            (x0, y0), (x1, y1) = to_screen(np.array(self._box))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(theme.PAPER, 1, Qt.PenStyle.DashLine))
            painter.drawRect(QRectF(min(x0, x1), min(y0, y1), abs(x1 - x0), abs(y1 - y0)))
