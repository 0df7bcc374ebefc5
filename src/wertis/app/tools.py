"""Tools that work on the picture: what they answer, and moving points of a region or corners of a placement."""

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

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


class PickTool(Tool):
    """Click one place of the picture."""

    cursor = Qt.CursorShape.CrossCursor

    def __init__(self, picked: Callable[[np.ndarray], None]) -> None:
        self._picked = picked

    def press(self, point: np.ndarray, reach: float, modifiers: Modifiers) -> None:
        self._picked(point)


class PointsTool(Tool):
    """Move points of a polygon; drag its inside to move it whole; double-click a side to insert, Delete to remove the point under
    the pointer or all that are chosen. Shift-click chooses points, Shift-drag those in a box; they move together. Arrow keys with Alt
    nudge what was moved last by a pixel, with Shift as well by a tenth.

    Parameters
    ----------
    points : gives the points (N, 2) on the frame in view, or None.
    changed : called with new points and whether a drag is going on.
    fixed : the number of points stays (a placement's corners).
    missed : called with the place of a press that is neither on a point nor inside.
    """

    def __init__(self, points: Callable[[], np.ndarray | None], changed: Callable[[np.ndarray, bool], None],
                 fixed: bool, colour: QColor, missed: Callable[[np.ndarray], None] = lambda point: None) -> None:
        self._points, self._changed, self._fixed, self._colour, self._missed = points, changed, fixed, colour, missed
        self.chosen: set[int] = set()
        self._dragged: int | None = None
        self._before: np.ndarray | None = None  # the points when the drag began
        self._whole = False
        self._hover: int | None = None
        self._start: np.ndarray | None = None
        self._box: tuple[np.ndarray, np.ndarray] | None = None

    def press(self, point: np.ndarray, reach: float, modifiers: Modifiers) -> None:
        points = self._points()
        if points is None:
            return
        self.chosen = {k for k in self.chosen if k < len(points)}
        on = nearest_point(points, point, reach)
        if modifiers & Qt.KeyboardModifier.ShiftModifier:
            if on is not None:
                self.chosen ^= {on}
            else:
                self._box = (point, point)
            return
        self._start, self._before, self._dragged = point, points, on
        if on is not None:
            self.chosen = self.chosen if on in self.chosen else {on}
            self.magnify = points[on]
        elif contains(points, point):
            self._whole = True
        else:
            self.chosen = set()
            self._missed(point)

    def move(self, point: np.ndarray, reach: float) -> None:
        points = self._points()
        if points is None:
            return
        if self._box is not None:
            self._box = (self._box[0], point)
        elif self._before is not None and self._start is not None and (self._whole or self._dragged is not None):
            moved = self._before.copy()
            if self._dragged is not None:
                # by as much as the pointer: a point must not jump by how far beside it the press was
                moved[sorted(self.chosen)] += point - self._start
                self.magnify = moved[self._dragged]
            else:
                moved += point - self._start
            self._changed(moved, True)
        else:
            self._hover = nearest_point(points, point, reach)
            inside = contains(points, point)
            self.cursor = Qt.CursorShape.PointingHandCursor if self._hover is not None else (
                Qt.CursorShape.SizeAllCursor if inside else Qt.CursorShape.ArrowCursor)

    def release(self, point: np.ndarray) -> None:
        points = self._points()
        if points is not None and self._box is not None:
            low, high = np.minimum(*self._box), np.maximum(*self._box)
            self.chosen |= set(np.flatnonzero(((points >= low) & (points <= high)).all(1)).tolist())
        elif points is not None and (self._dragged is not None or self._whole):
            self._changed(points, False)
        self._dragged = self._before = self.magnify = self._box = None
        self._whole = False

    def double(self, point: np.ndarray, reach: float) -> None:
        points = self._points()
        if self._fixed or points is None or nearest_point(points, point, reach) is not None:
            return
        side = _nearest_side(points, point, reach)
        if side is not None:
            self._whole = False
            self.chosen = set()
            self._changed(np.insert(points, side + 1, point, axis=0), False)

    def key(self, key: Qt.Key, modifiers: Modifiers) -> bool:
        points = self._points()
        if points is None:
            return False
        self.chosen = {k for k in self.chosen if k < len(points)}
        if key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and not self._fixed and (self._hover is not None or len(self.chosen) > 1):
            gone = self.chosen if len(self.chosen) > 1 or self._hover is None else {self._hover}
            if len(points) - len(gone) >= 3:
                self._changed(np.delete(points, sorted(gone), axis=0), False)
                self._hover, self.chosen = None, set()
            return True
        steps = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1)}
        if key in steps and modifiers & Qt.KeyboardModifier.AltModifier and self.chosen:
            size = 0.1 if modifiers & Qt.KeyboardModifier.ShiftModifier else 1.0
            moved = points.copy()
            moved[sorted(self.chosen)] += np.array(steps[key]) * size
            self._changed(moved, False)
            return True
        return False

    def paint(self, painter: QPainter, to_screen: ToScreen) -> None:
        points = self._points()
        if points is None:
            return
        for k, p in enumerate(to_screen(points)):
            if not np.isfinite(p).all():  # beyond the surface's horizon on this frame
                continue
            paint_handle(painter, QPointF(*p), self._colour, first=k in (self._hover, self._dragged), full=k in self.chosen)
        self._paint_box(painter, to_screen)

    def _paint_box(self, painter: QPainter, to_screen: ToScreen) -> None:
        """The box in which points are being chosen."""
        if self._box is not None:
            (x0, y0), (x1, y1) = to_screen(np.array(self._box))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(theme.PAPER, 1, Qt.PenStyle.DashLine))
            painter.drawRect(QRectF(min(x0, x1), min(y0, y1), abs(x1 - x0), abs(y1 - y0)))


class ScatteredPointsTool(PointsTool):
    """Drag points that bound no area, of which there may be many: handles are drawn on those in hand alone, and what lies between them moves nothing.

    Parameters
    ----------
    chosen_changed : called with the numbers of the chosen points when the pointer has chosen others.
    """

    def __init__(self, points: Callable[[], np.ndarray | None], changed: Callable[[np.ndarray, bool], None],
                 chosen_changed: Callable[[set[int]], None] = lambda chosen: None) -> None:
        super().__init__(points, changed, True, theme.AMBER)
        self._chosen_changed = chosen_changed

    def press(self, point: np.ndarray, reach: float, modifiers: Modifiers) -> None:
        points = self._points()
        if points is None:
            return
        if modifiers & Qt.KeyboardModifier.ShiftModifier or nearest_point(points, point, reach) is not None:
            super().press(point, reach, modifiers)
        else:
            self.chosen = set()
        self._chosen_changed(self.chosen)

    def release(self, point: np.ndarray) -> None:
        super().release(point)
        self._chosen_changed(self.chosen)

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
                paint_handle(painter, QPointF(*at[k]), self._colour, first=k in (self._hover, self._dragged), full=k in self.chosen)
        self._paint_box(painter, to_screen)


class HandlesTool(PointsTool):
    """Move the control points of a placement's four sides, two to each."""

    def __init__(self, points: Callable[[], np.ndarray | None], changed: Callable[[np.ndarray, bool], None], colour: QColor) -> None:
        super().__init__(points, changed, True, colour)

    def press(self, point: np.ndarray, reach: float, modifiers: Modifiers) -> None:
        points = self._points()
        # only the control points are moved, never all of them by the inside
        if points is not None and (modifiers & Qt.KeyboardModifier.ShiftModifier or nearest_point(points, point, reach) is not None):
            super().press(point, reach, modifiers)


def nearest_point(points: np.ndarray, point: np.ndarray, reach: float) -> int | None:
    """Which of points (N, 2) is nearest to a place, if one is within reach."""
    return _least(np.linalg.norm(points - point, axis=1), reach)


def _nearest_side(points: np.ndarray, point: np.ndarray, reach: float) -> int | None:
    ends = np.roll(points, -1, 0)
    along = ends - points
    t = np.clip(((point - points) * along).sum(1) / np.maximum((along ** 2).sum(1), 1e-9), 0, 1)
    return _least(np.linalg.norm(points + along * t[:, None] - point, axis=1), reach)


def _least(distance: np.ndarray, reach: float) -> int | None:
    distance = np.where(np.isfinite(distance), distance, np.inf)
    k = int(np.argmin(distance))
    return k if distance[k] <= reach else None


def paint_handle(painter: QPainter, place: QPointF, colour: QColor, first: bool, full: bool = False) -> None:
    """A point that can be dragged; `first` draws it larger, `full` filled (chosen)."""
    r = 5.5 if first else 3.8
    painter.setPen(QPen(theme.HALO, 3))
    painter.setBrush(QColor(0, 0, 0, 60))
    painter.drawRect(int(place.x() - r), int(place.y() - r), int(2 * r), int(2 * r))
    painter.setPen(QPen(colour, 1.5))
    if full:
        painter.setBrush(colour)
    painter.drawRect(int(place.x() - r), int(place.y() - r), int(2 * r), int(2 * r))
