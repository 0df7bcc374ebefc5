"""Tools that draw a new shape on the picture: point by point, a rectangle, freehand, or painted. Each ends by giving shapes."""

from collections.abc import Callable

import cv2
import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPen, QPolygonF, QTransform

from wertis.app import theme
from wertis.app.tools import Modifiers, Tool, ToScreen, paint_handle
from wertis.core.errors import RegionError
from wertis.core.geometry.conventions import to_centred
from wertis.core.geometry.spline import closed_curve
from wertis.core.matte.edge_path import EdgePaths
from wertis.core.matte.outline import bezier, flattened
from wertis.core.shot.document import Shape
from wertis.core.shot.edits import as_points
from wertis.core.shot.regions import painted_shapes, simplified

_ELLIPSE = 12  # points of one; the curve through them is within a five-hundredth of its radius
_EDGE_TOLERANCE = 0.8  # pixels that an outline along edges may leave the pixels that it went along
Done = Callable[[list[Shape]], None]

WAYS = {"points": "Point by point", "smooth": "Smooth curve", "edge": "Along edges", "rectangle": "Rectangle", "ellipse": "Ellipse",
        "freehand": "Freehand", "painted": "Painted", "line": "Open line"}
"""Ways to draw, and what they are called."""

WAY_HINTS = {
    "points": "Click round {what}; click the first point, press Enter or double-click to close. Esc gives up.",
    "smooth": "Click points for a smooth curve round {what}; click the first point, press Enter or double-click to close. Esc gives up.",
    "rectangle": "Drag a rectangle over {what}. Esc gives up.",
    "edge": "Click on the edge of {what} and go along it, clicking where the line would leave it; Enter or the first point closes. Esc gives up.",
    "ellipse": "Drag an ellipse over {what}; Shift makes it round. Esc gives up.",
    "line": "Click points for a curve along {what}; press Enter or double-click to end it. Esc gives up.",
    "freehand": "Drag once round {what}. Esc gives up.",
    "painted": "Paint over {what}; Shift rubs out, [ and ] change the brush, Enter finishes. Esc gives up.",
}


def drawing_tool(way: str, size: tuple[int, int], done: Done, cancelled: Callable[[], object], trouble: Callable[[str], None],
                 picture: Callable[[], np.ndarray | None] = lambda: None) -> Tool:
    """The tool for one of the `WAYS` on a picture of `size` (width, height); `picture` gives the one in view, coded for the eye (h, w, 3) float32."""
    if way in ("rectangle", "ellipse"):
        return RectangleTool(done, cancelled, way == "ellipse")
    if way == "edge":
        return EdgeTool(done, cancelled, picture)
    if way == "line":
        return DrawTool(done, cancelled, smooth=True, closed=False)
    if way == "freehand":
        return FreehandTool(done, cancelled)
    if way == "painted":
        return PaintTool(size, done, cancelled, trouble)
    return DrawTool(done, cancelled, smooth=way == "smooth")


class _Drawing(Tool):
    """What drawing tools share: they draw one shape, then are done; Esc gives up."""

    cursor = Qt.CursorShape.CrossCursor

    def __init__(self, done: Done, cancelled: Callable[[], object]) -> None:
        self._done, self._cancelled = done, cancelled

    def key(self, key: Qt.Key, modifiers: Modifiers) -> bool:
        if key == Qt.Key.Key_Escape:
            self._cancelled()
            return True
        return False


class DrawTool(_Drawing):
    """Click round the surface; click the first point, press Enter or double-click to close; Backspace takes a point back.

    Parameters
    ----------
    done : called with the one shape.
    cancelled : called when the person gives up.
    smooth : a curve through the points rather than straight sides.
    closed : the last point is followed by the first.
    """

    def __init__(self, done: Done, cancelled: Callable[[], object], smooth: bool = False, closed: bool = True) -> None:
        super().__init__(done, cancelled)
        self.points: list[np.ndarray] = []
        self._smooth, self._closed, self._least = smooth, closed, 3 if closed else 2
        self._at: np.ndarray | None = None

    def press(self, point: np.ndarray, reach: float, modifiers: Modifiers) -> None:
        if self._closed and len(self.points) >= self._least and np.linalg.norm(self.points[0] - point) <= reach:
            self._close()
        else:
            self.points.append(point)

    def move(self, point: np.ndarray, reach: float) -> None:
        self._at = point

    def double(self, point: np.ndarray, reach: float) -> None:
        if len(self.points) >= self._least:
            self._close()

    def key(self, key: Qt.Key, modifiers: Modifiers) -> bool:
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and len(self.points) >= self._least:
            self._close()
        elif key == Qt.Key.Key_Backspace and self.points:
            self.points.pop()
        else:
            return super().key(key, modifiers)
        return True

    def paint(self, painter: QPainter, to_screen: ToScreen) -> None:
        if not self.points:
            return
        shown = np.array([*self.points, self._at] if self._at is not None else self.points)
        if self._smooth and len(shown) >= 3:
            shown = closed_curve(shown) if self._closed else flattened(bezier(shown, np.ones(len(shown)), False), False)[0]
        _line(painter, to_screen(shown))
        for k, p in enumerate(to_screen(np.array(self.points))):
            paint_handle(painter, QPointF(*p), theme.ACCENT, first=k == 0 and self._closed and len(self.points) >= 3)

    def _close(self) -> None:
        points, self.points = np.array(self.points), []
        if len(points) == 2:  # a shape has three
            points = np.array([points[0], points.mean(0), points[1]])
        self._done([Shape(points=as_points(points), smooth=self._smooth)])


class EdgeTool(_Drawing):
    """Click on an edge and go along it: the line follows the picture's edges to the pointer; a click holds it there. Enter, a double click or the first
    point closes; Backspace takes a stretch back. Alt goes straight.

    Parameters
    ----------
    picture : gives the one in view, coded for the eye (h, w, 3) float32; None where there is none.
    """

    def __init__(self, done: Done, cancelled: Callable[[], object], picture: Callable[[], np.ndarray | None]) -> None:
        super().__init__(done, cancelled)
        self._picture = picture
        self._paths: EdgePaths | None = None
        self.stretches: list[np.ndarray] = []
        self._ends: list[np.ndarray] = []
        self._live = np.zeros((0, 2))

    def press(self, point: np.ndarray, reach: float, modifiers: Modifiers) -> None:
        if self._paths is None:
            picture = self._picture()
            if picture is None:
                return
            self._paths = EdgePaths(picture)
        if len(self._ends) >= 3 and np.linalg.norm(self._ends[0] - point) <= reach:
            self._close()
            return
        straight = bool(modifiers & Qt.KeyboardModifier.AltModifier)
        place = point if straight else self._paths.snapped(point)
        if self._ends:
            self.stretches.append(np.array([self._ends[-1], place]) if straight else self._paths.to(place))
        self._ends.append(place)
        self._paths.begin(place)
        self._live = np.zeros((0, 2))

    def move(self, point: np.ndarray, reach: float) -> None:
        if self._paths is not None and self._ends:
            near = len(self._ends) >= 3 and np.linalg.norm(self._ends[0] - point) <= reach
            self._live = self._paths.to(self._ends[0] if near else point)

    def double(self, point: np.ndarray, reach: float) -> None:
        if len(self._ends) >= 3:
            self._close()

    def key(self, key: Qt.Key, modifiers: Modifiers) -> bool:
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and len(self._ends) >= 2:
            self._close()
        elif key == Qt.Key.Key_Backspace and self._ends:
            self._ends.pop()
            self._live = np.zeros((0, 2))
            if self.stretches:
                self.stretches.pop()
            if self._ends and self._paths is not None:
                self._paths.begin(self._ends[-1])
        else:
            return super().key(key, modifiers)
        return True

    def paint(self, painter: QPainter, to_screen: ToScreen) -> None:
        if not self._ends:
            return
        _line(painter, to_screen(np.concatenate([self._ends[:1], *self.stretches, self._live])))
        for k, p in enumerate(to_screen(np.array(self._ends))):
            paint_handle(painter, QPointF(*p), theme.ACCENT, first=k == 0 and len(self._ends) >= 3)

    def _close(self) -> None:
        assert self._paths is not None
        whole = np.concatenate([*self.stretches, self._paths.to(self._ends[0])])
        self.stretches, self._ends = [], []
        if len(whole) >= 3 and np.ptp(whole, axis=0).min() >= 4:
            self._done([Shape(points=as_points(simplified(whole, _EDGE_TOLERANCE)))])


class RectangleTool(_Drawing):
    """Drag from one corner to the other: a rectangle, or the ellipse in it, which Shift makes round."""

    _from: np.ndarray | None = None
    _to: np.ndarray | None = None

    def __init__(self, done: Done, cancelled: Callable[[], object], ellipse: bool = False) -> None:
        super().__init__(done, cancelled)
        self._ellipse, self._round = ellipse, False

    def press(self, point: np.ndarray, reach: float, modifiers: Modifiers) -> None:
        self._round = bool(modifiers & Qt.KeyboardModifier.ShiftModifier)
        self._from = self._to = point

    def move(self, point: np.ndarray, reach: float) -> None:
        if self._from is not None:
            self._to = point

    def release(self, point: np.ndarray) -> None:
        if self._from is None:
            return
        outline = self._outline(self._from, point)
        self._from = None
        if np.ptp(outline, axis=0).min() >= 4:
            self._done([Shape(points=as_points(outline), smooth=self._ellipse)])

    def paint(self, painter: QPainter, to_screen: ToScreen) -> None:
        if self._from is not None and self._to is not None:
            shown = self._outline(self._from, self._to)
            shown = flattened(bezier(shown, np.ones(len(shown))))[0] if self._ellipse else shown
            _line(painter, to_screen(np.vstack([shown, shown[:1]])))

    def _outline(self, a: np.ndarray, b: np.ndarray) -> np.ndarray:
        if self._ellipse and self._round:
            b = a + np.sign(b - a) * np.abs(b - a).max()
        low, high = np.minimum(a, b), np.maximum(a, b)
        if self._ellipse:
            turn = 2 * np.pi * np.arange(_ELLIPSE) / _ELLIPSE
            return np.asarray((low + high) / 2 + (high - low) / 2 * np.column_stack([np.cos(turn), np.sin(turn)]))
        (x0, y0), (x1, y1) = low, high
        return np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]])


class FreehandTool(_Drawing):
    """Drag once round; the outline is kept with as few points as stay within a pixel of it."""

    def __init__(self, done: Done, cancelled: Callable[[], object]) -> None:
        super().__init__(done, cancelled)
        self._line: list[np.ndarray] = []

    def press(self, point: np.ndarray, reach: float, modifiers: Modifiers) -> None:
        self._line = [point]

    def move(self, point: np.ndarray, reach: float) -> None:
        if self._line and np.linalg.norm(point - self._line[-1]) > reach / 9:
            self._line.append(point)

    def release(self, point: np.ndarray) -> None:
        line, self._line = np.array(self._line), []
        if len(line) >= 3 and np.ptp(line, axis=0).min() >= 4:
            self._done([Shape(points=as_points(simplified(line)))])

    def paint(self, painter: QPainter, to_screen: ToScreen) -> None:
        if self._line:
            _line(painter, to_screen(np.array(self._line)))


class PaintTool(_Drawing):
    """Paint an area; Shift rubs out, [ and ] change the brush, Enter finishes."""

    def __init__(self, size: tuple[int, int], done: Done, cancelled: Callable[[], object], trouble: Callable[[str], None]) -> None:
        super().__init__(done, cancelled)
        self.mask = np.zeros((size[1], size[0]), np.uint8)
        self.radius = max(4.0, min(size) / 24)
        self._trouble = trouble
        self._last: np.ndarray | None = None
        self._value = 255
        self._at: np.ndarray | None = None

    def press(self, point: np.ndarray, reach: float, modifiers: Modifiers) -> None:
        self._value = 0 if modifiers & Qt.KeyboardModifier.ShiftModifier else 255
        self._last = point
        self._stroke(point)

    def move(self, point: np.ndarray, reach: float) -> None:
        self._at = point
        if self._last is not None:
            self._stroke(point)

    def release(self, point: np.ndarray) -> None:
        self._last = None

    def key(self, key: Qt.Key, modifiers: Modifiers) -> bool:
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            try:
                shapes = painted_shapes(self.mask)
            except RegionError as why:
                self._trouble(str(why))
            else:
                self._done(shapes)
        elif key in (Qt.Key.Key_BracketLeft, Qt.Key.Key_BracketRight):
            self.radius = float(np.clip(self.radius * (1.25 if key == Qt.Key.Key_BracketRight else 0.8), 1.5, 400))
        else:
            return super().key(key, modifiers)
        return True

    def paint(self, painter: QPainter, to_screen: ToScreen) -> None:
        h, w = self.mask.shape
        tint = np.zeros((h, w, 4), np.uint8)
        tint[..., :3] = theme.ACCENT.red(), theme.ACCENT.green(), theme.ACCENT.blue()
        tint[..., 3] = self.mask // 3
        (x0, y0), (x1, _) = to_screen(np.array([[0.0, 0], [1, 0]]))
        painter.save()
        painter.setTransform(QTransform(x1 - x0, 0, 0, x1 - x0, x0, y0), True)
        painter.drawImage(QPointF(0, 0), QImage(tint.data, w, h, 4 * w, QImage.Format.Format_RGBA8888))
        painter.restore()
        if self._at is not None:
            (x, y), (edge, _) = to_screen(np.array([self._at, self._at + [self.radius, 0]]))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            for colour, width in ((theme.HALO, 3.0), (theme.PAPER, 1.2)):
                painter.setPen(QPen(colour, width))
                painter.drawEllipse(QPointF(x, y), edge - x, edge - x)

    def _stroke(self, point: np.ndarray) -> None:
        assert self._last is not None
        a, b = (np.round(np.clip(to_centred(p), -1e5, 1e5) * 16).astype(int) for p in (self._last, point))
        cv2.line(self.mask, tuple(map(int, a)), tuple(map(int, b)), self._value, max(1, round(2 * self.radius)), cv2.LINE_8, 4)
        cv2.circle(self.mask, tuple(map(int, b)), round(self.radius * 16), self._value, -1, cv2.LINE_8, 4)
        self._last = point


def _line(painter: QPainter, places: np.ndarray, accent: QColor = theme.ACCENT) -> None:
    line = QPolygonF([QPointF(*p) for p in places])
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for colour, width in ((theme.HALO, 3.6), (accent, 1.6)):
        painter.setPen(QPen(colour, width))
        painter.drawPolyline(line)
