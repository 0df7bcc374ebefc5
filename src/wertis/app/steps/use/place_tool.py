"""The tool that moves, scales, turns and skews a graphic on its surface by handles on the picture."""

from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter, QPen

from wertis.app import theme
from wertis.app.tools import Modifiers, Tool, ToScreen, nearest_point, paint_handle
from wertis.core.geometry import homography
from wertis.core.geometry.quad import UNIT_SQUARE
from wertis.core.geometry.warp import Warp
from wertis.core.shot.pose import PoseValues, pose_matrix, pose_values

_SIDES = np.array([[0.5, 0.0], [1.0, 0.5], [0.5, 1.0], [0.0, 0.5]])
_TURN_AT = 0.5, 0.82  # of the unit square, where the ring that turns it is: inside, so that it is in view when the graphic fills the picture
_RING = 7.0  # pixels of the screen
_LEAST = 0.02  # of its size, to which it can be scaled


class Posed(NamedTuple):
    """A graphic on the frame in view.

    Attributes
    ----------
    surface : the unit square, as it is placed and not yet moved, to the picture.
    values, ratio, about : of its pose; see `core.shot.pose`.
    """

    surface: Warp
    values: PoseValues
    ratio: float
    about: tuple[float, float]


class PlaceTool(Tool):
    """Handles of a graphic: inside moves, a corner scales both ways, a side one way (Ctrl skews it), the ring turns. Shift frees a corner's proportions,
    and turns in steps of 15 degrees. Arrow keys with Alt nudge by a pixel, with Shift as well by a tenth.

    Parameters
    ----------
    graphic : gives the graphic on the frame in view, or None.
    changed : called with new values and whether a drag is going on.
    """

    def __init__(self, graphic: Callable[[], Posed | None], changed: Callable[[PoseValues, bool], None]) -> None:
        self._graphic, self._changed = graphic, changed
        self._part = ""
        self._hover = ""
        self._start: tuple[Posed, np.ndarray, Modifiers] | None = None

    def places(self, graphic: Posed) -> dict[str, np.ndarray]:
        """The handles by name, in the picture (2,)."""
        uv = np.concatenate([UNIT_SQUARE, _SIDES, [_TURN_AT]])
        there = graphic.surface.forward(homography.apply(pose_matrix(graphic.values, graphic.ratio, graphic.about), uv))
        names = [*(f"corner {k}" for k in range(4)), *(f"side {k}" for k in range(4)), "turn"]
        return {name: place for name, place in zip(names, there, strict=True) if np.isfinite(place).all()}

    def press(self, point: np.ndarray, reach: float, modifiers: Modifiers) -> None:
        graphic = self._graphic()
        if graphic is None:
            return
        self._part = self._under(graphic, point, reach)
        self._start = (graphic, point, modifiers) if self._part else None

    def move(self, point: np.ndarray, reach: float) -> None:
        if self._start is None:
            graphic = self._graphic()
            self._hover = self._under(graphic, point, reach) if graphic is not None else ""
            shapes = {"": Qt.CursorShape.ArrowCursor, "inside": Qt.CursorShape.SizeAllCursor}
            self.cursor = shapes.get(self._hover, Qt.CursorShape.PointingHandCursor)
            return
        self._drag(point, True)

    def release(self, point: np.ndarray) -> None:
        if self._start is not None:
            self._drag(point, False)
        self._start, self._part = None, ""

    def key(self, key: Qt.Key, modifiers: Modifiers) -> bool:
        steps = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1)}
        graphic = self._graphic()
        if graphic is None or key not in steps or not modifiers & Qt.KeyboardModifier.AltModifier:
            return False
        size = 0.1 if modifiers & Qt.KeyboardModifier.ShiftModifier else 1.0
        middle = graphic.surface.forward(homography.apply(pose_matrix(graphic.values, graphic.ratio, graphic.about), np.array([[0.5, 0.5]])))
        self._changed(self._moved(graphic, middle[0], middle[0] + np.array(steps[key]) * size), False)
        return True

    def paint(self, painter: QPainter, to_screen: ToScreen) -> None:
        graphic = self._graphic()
        if graphic is None:
            return
        for name, place in self.places(graphic).items():
            at = QPointF(*to_screen(place[None])[0])
            lit = name in (self._hover, self._part)
            if name == "turn":
                painter.setBrush(Qt.BrushStyle.NoBrush)
                for pen in (QPen(theme.HALO, 4), QPen(theme.PAPER, 2.5 if lit else 1.6)):
                    painter.setPen(pen)
                    painter.drawEllipse(at, _RING, _RING)
                    painter.drawLine(at - QPointF(_RING + 4, 0), at - QPointF(_RING - 3, 0))
            else:
                paint_handle(painter, at, theme.PAPER, first=lit, full=name.startswith("corner"))

    # -- inside ---------------------------------------------------------------------------------------------------

    def _under(self, graphic: Posed, point: np.ndarray, reach: float) -> str:
        places = self.places(graphic)
        hit = nearest_point(np.array(list(places.values())), point, reach) if places else None
        if hit is not None:
            return list(places)[hit]
        uv = self._unit(graphic, point)
        inside = np.isfinite(uv).all() and (uv >= 0).all() and (uv <= 1).all()
        return "inside" if inside else ""

    @staticmethod
    def _unit(graphic: Posed, point: np.ndarray) -> np.ndarray:
        """A picture's point (2,) in the unit square of the graphic as it is moved now."""
        placed = graphic.surface.inverse(np.asarray(point, float)[None])
        return np.asarray(homography.apply(np.linalg.inv(pose_matrix(graphic.values, graphic.ratio, graphic.about)), placed))[0]

    def _drag(self, point: np.ndarray, dragging: bool) -> None:
        assert self._start is not None
        graphic, start, modifiers = self._start
        if self._part == "inside":
            values = self._moved(graphic, start, point)
        elif self._part == "turn":
            values = self._turned(graphic, start, point, bool(modifiers & Qt.KeyboardModifier.ShiftModifier))
        elif self._part.startswith("corner"):
            values = self._scaled(graphic, point, UNIT_SQUARE[int(self._part[-1])], bool(modifiers & Qt.KeyboardModifier.ShiftModifier))
        elif modifiers & Qt.KeyboardModifier.ControlModifier:
            values = self._skewed(graphic, start, point, int(self._part[-1]))
        else:
            values = self._scaled(graphic, point, _SIDES[int(self._part[-1])], True)
        if np.isfinite(values.numbers).all() and min(values.across, values.along) > _LEAST / 10:
            self._changed(values, dragging)

    @staticmethod
    def _moved(graphic: Posed, start: np.ndarray, point: np.ndarray) -> PoseValues:
        a, b = graphic.surface.inverse(np.array([start, point]))
        return graphic.values._replace(right=graphic.values.right + float(b[0] - a[0]), down=graphic.values.down + float(b[1] - a[1]))

    @staticmethod
    def _turned(graphic: Posed, start: np.ndarray, point: np.ndarray, steps: bool) -> PoseValues:
        about = np.asarray(graphic.about) + [graphic.values.right, graphic.values.down]
        a, b = (graphic.surface.inverse(np.array([start, point])) - about) * [graphic.ratio, 1.0]
        by = np.rad2deg(np.arctan2(a[0] * b[1] - a[1] * b[0], a @ b))
        turn = graphic.values.turn + float(by)
        return graphic.values._replace(turn=round(turn / 15) * 15.0 if steps else turn)

    def _scaled(self, graphic: Posed, point: np.ndarray, handle: np.ndarray, free: bool) -> PoseValues:
        """About the opposite corner or side, which stays where it is."""
        fixed = 1 - handle
        uv = self._unit(graphic, point) - fixed
        way = handle - fixed
        by = np.where(np.abs(way) > 0.1, uv / np.where(np.abs(way) > 0.1, way, 1), 1.0)
        if not free:
            metric = way * [graphic.ratio * graphic.values.across, graphic.values.along]
            by[:] = float((uv * [graphic.ratio * graphic.values.across, graphic.values.along]) @ metric / (metric @ metric))
        return self._then(graphic, pose_matrix(PoseValues(across=max(float(by[0]), _LEAST), along=max(float(by[1]), _LEAST)), graphic.ratio,
                                               (float(fixed[0]), float(fixed[1]))))

    def _skewed(self, graphic: Posed, start: np.ndarray, point: np.ndarray, side: int) -> PoseValues:
        """A side slides along itself, the opposite one stays."""
        a, b = self._unit(graphic, start), self._unit(graphic, point)
        shear = np.eye(3)
        fixed = 1 - _SIDES[side]
        if side % 2 == 0:
            shear[0, 1] = (b[0] - a[0]) / (_SIDES[side][1] - fixed[1])
            shear[0, 2] = -shear[0, 1] * fixed[1]
        else:
            shear[1, 0] = (b[1] - a[1]) / (_SIDES[side][0] - fixed[0])
            shear[1, 2] = -shear[1, 0] * fixed[0]
        return self._then(graphic, shear)

    @staticmethod
    def _then(graphic: Posed, own: np.ndarray) -> PoseValues:
        """What comes of an affine map (3, 3) of the unit square before the graphic's own."""
        return pose_values(pose_matrix(graphic.values, graphic.ratio, graphic.about) @ own, graphic.ratio, graphic.about)
