"""Tools that work on the picture: drawing a region, moving points of a region or corners of a placement."""

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from wertis.app import theme
from wertis.core.geometry.polygon import contains

Modifiers = Qt.KeyboardModifier
ToScreen = Callable[[np.ndarray], np.ndarray]


class Tool:
    """What a tool may answer; the viewer calls it with picture points. `reach` is how near counts as on, in picture pixels.

    Attributes
    ----------
    magnify : the picture point (2,) to magnify while something is being dragged.
    """

    magnify: np.ndarray | None = None
    cursor = Qt.CursorShape.ArrowCursor

    def press(self, point: np.ndarray, reach: float, modifiers: Modifiers) -> None: ...
    def move(self, point: np.ndarray, reach: float) -> None: ...
    def release(self, point: np.ndarray) -> None: ...
    def double(self, point: np.ndarray, reach: float) -> None: ...
    def paint(self, painter: QPainter, to_screen: ToScreen) -> None: ...

    def key(self, key: Qt.Key, modifiers: Modifiers) -> bool:
        """Whether the key was for this tool."""
        return False


class DrawTool(Tool):
    """Click round the surface; click the first point, press Enter or double-click to close; Backspace takes a point back.

    Parameters
    ----------
    done : called with the points (N, 2).
    cancelled : called when the person gives up.
    """

    cursor = Qt.CursorShape.CrossCursor

    def __init__(self, done: Callable[[np.ndarray], None], cancelled: Callable[[], None]) -> None:
        self.points: list[np.ndarray] = []
        self._done, self._cancelled = done, cancelled
        self._at: np.ndarray | None = None

    def press(self, point: np.ndarray, reach: float, modifiers: Modifiers) -> None:
        if len(self.points) >= 3 and np.linalg.norm(self.points[0] - point) <= reach:
            self._close()
        else:
            self.points.append(point)

    def move(self, point: np.ndarray, reach: float) -> None:
        self._at = point

    def double(self, point: np.ndarray, reach: float) -> None:
        if len(self.points) >= 3:
            self._close()

    def key(self, key: Qt.Key, modifiers: Modifiers) -> bool:
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and len(self.points) >= 3:
            self._close()
        elif key == Qt.Key.Key_Backspace and self.points:
            self.points.pop()
        elif key == Qt.Key.Key_Escape:
            self.points.clear()
            self._cancelled()
        else:
            return False
        return True

    def paint(self, painter: QPainter, to_screen: ToScreen) -> None:
        if not self.points:
            return
        shown = [*self.points, self._at] if self._at is not None else self.points
        line = QPolygonF([QPointF(*p) for p in to_screen(np.array(shown))])
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for colour, width in ((theme.HALO, 3.6), (theme.ACCENT, 1.6)):
            painter.setPen(QPen(colour, width))
            painter.drawPolyline(line)
        for k, p in enumerate(to_screen(np.array(self.points))):
            _handle(painter, QPointF(*p), theme.ACCENT, first=k == 0 and len(self.points) >= 3)

    def _close(self) -> None:
        points, self.points = np.array(self.points), []
        self._done(points)


class PointsTool(Tool):
    """Move points of a polygon; drag its inside to move it whole; double-click a side to insert, Delete to remove the point under
    the pointer; arrow keys with Alt nudge the last point by a pixel, with Shift as well by a tenth.

    Parameters
    ----------
    points : gives the points (N, 2) on the frame in view, or None.
    changed : called with new points and whether a drag is going on.
    fixed : the number of points stays (a placement's corners).
    """

    def __init__(self, points: Callable[[], np.ndarray | None], changed: Callable[[np.ndarray, bool], None],
                 fixed: bool, colour: QColor) -> None:
        self._points, self._changed, self._fixed, self._colour = points, changed, fixed, colour
        self._dragged: int | None = None
        self._whole: np.ndarray | None = None
        self._hover: int | None = None
        self._last: int | None = None
        self._start: np.ndarray | None = None

    def press(self, point: np.ndarray, reach: float, modifiers: Modifiers) -> None:
        points = self._points()
        if points is None:
            return
        self._dragged = _nearest(points, point, reach)
        self._last = self._dragged
        self._start = point
        if self._dragged is not None:
            self.magnify = points[self._dragged]
        elif contains(points, point):
            self._whole = points

    def move(self, point: np.ndarray, reach: float) -> None:
        points = self._points()
        if points is None:
            return
        if self._dragged is not None and self._dragged < len(points):
            moved = points.copy()
            moved[self._dragged] = point
            self.magnify = point
            self._changed(moved, True)
        elif self._whole is not None and self._start is not None:
            self._changed(self._whole + (point - self._start), True)
        else:
            self._hover = _nearest(points, point, reach)
            inside = contains(points, point)
            self.cursor = Qt.CursorShape.PointingHandCursor if self._hover is not None else (
                Qt.CursorShape.SizeAllCursor if inside else Qt.CursorShape.ArrowCursor)

    def release(self, point: np.ndarray) -> None:
        points = self._points()
        if points is not None and (self._dragged is not None or self._whole is not None):
            self._changed(points, False)
        self._dragged = self._whole = self.magnify = None

    def double(self, point: np.ndarray, reach: float) -> None:
        points = self._points()
        if self._fixed or points is None or _nearest(points, point, reach) is not None:
            return
        side = _nearest_side(points, point, reach)
        if side is not None:
            self._whole = None
            self._changed(np.insert(points, side + 1, point, axis=0), False)

    def key(self, key: Qt.Key, modifiers: Modifiers) -> bool:
        points = self._points()
        if points is None:
            return False
        if key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and self._hover is not None and not self._fixed:
            if len(points) > 3:
                self._changed(np.delete(points, self._hover, axis=0), False)
                self._hover = self._last = None
            return True
        steps = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1)}
        if key in steps and modifiers & Qt.KeyboardModifier.AltModifier and self._last is not None and self._last < len(points):
            size = 0.1 if modifiers & Qt.KeyboardModifier.ShiftModifier else 1.0
            moved = points.copy()
            moved[self._last] += np.array(steps[key]) * size
            self._changed(moved, False)
            return True
        return False

    def paint(self, painter: QPainter, to_screen: ToScreen) -> None:
        points = self._points()
        if points is None:
            return
        for k, p in enumerate(to_screen(points)):
            _handle(painter, QPointF(*p), self._colour, first=k in (self._hover, self._dragged))


def _nearest(points: np.ndarray, point: np.ndarray, reach: float) -> int | None:
    distance = np.linalg.norm(points - point, axis=1)
    k = int(np.argmin(distance))
    return k if distance[k] <= reach else None


def _nearest_side(points: np.ndarray, point: np.ndarray, reach: float) -> int | None:
    ends = np.roll(points, -1, 0)
    along = ends - points
    t = np.clip(((point - points) * along).sum(1) / np.maximum((along ** 2).sum(1), 1e-9), 0, 1)
    distance = np.linalg.norm(points + along * t[:, None] - point, axis=1)
    k = int(np.argmin(distance))
    return k if distance[k] <= reach else None


def _handle(painter: QPainter, place: QPointF, colour: QColor, first: bool) -> None:
    r = 5.5 if first else 3.8
    painter.setPen(QPen(theme.HALO, 3))
    painter.setBrush(QColor(0, 0, 0, 60))
    painter.drawRect(int(place.x() - r), int(place.y() - r), int(2 * r), int(2 * r))
    painter.setPen(QPen(colour, 1.5))
    painter.drawRect(int(place.x() - r), int(place.y() - r), int(2 * r), int(2 * r))
