"""Lines and words painted over pictures."""

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QPainter, QPen, QPolygonF

from wertis.app import theme


def outline(painter: QPainter, points: np.ndarray, colour: QColor, width: float, dashed: bool = False) -> None:
    """A closed line through places (N, 2) on the widget, dark-edged so that it is seen on any picture."""
    polygon = QPolygonF([QPointF(float(x), float(y)) for x, y in points])
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(theme.HALO, width + 2))
    painter.drawPolygon(polygon)
    pen = QPen(colour, width)
    if dashed:
        pen.setDashPattern([5, 4])
    painter.setPen(pen)
    painter.drawPolygon(polygon)


def words(painter: QPainter, place: QPointF, text: str, colour: QColor) -> None:
    """Text on a dark ground, its baseline beginning at `place`."""
    metrics = QFontMetricsF(painter.font())
    box = metrics.boundingRect(text).translated(place).adjusted(-5, -2, 5, 2)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(QColor(0, 0, 0, 150))
    painter.drawRoundedRect(box, 3, 3)
    painter.setPen(colour)
    painter.drawText(place, text)
