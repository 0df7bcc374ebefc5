"""Magnifiers: a spot of a plate's picture, enlarged, with hair lines on it."""

import cv2
import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QImage, QPainter, QPen

from wertis.app import theme
from wertis.app.picture_view import PictureView
from wertis.core.geometry.warp import IDENTITY, HomographyWarp, Warp, compose
from wertis.core.imaging.resample import warped
from wertis.core.plate.colour import shown as as_shown


def factor_of(zoom: float) -> float:
    """How many screen pixels a magnified pixel takes."""
    return max(6.0, zoom * 3)


def paint_enlarged(painter: QPainter, view: PictureView, box: QRectF, picture: np.ndarray, through: Warp | None, point: np.ndarray) -> None:
    """A plate's picture (h, w, channels) round `point` (2,), carried `through` to the picture shown, in a magnifier's box."""
    factor, side = factor_of(view.zoom), round(box.width())
    warp = through or IDENTITY
    x, y = warp.forward(point[None])[0]
    if not np.isfinite([x, y]).all():
        return
    wide = factor * view.aspect
    placed = HomographyWarp(np.array([[wide, 0, side / 2 - wide * x], [0, factor, side / 2 - factor * y], [0, 0, 1]]))
    seen = as_shown(picture, view.session.viewing)
    shown = warped(seen, compose(placed, warp), (side, side), cv2.INTER_NEAREST)
    painter.drawImage(box, QImage(shown.data, side, side, 3 * side, QImage.Format.Format_RGB888))
    paint_cross(painter, box)


def paint_cross(painter: QPainter, box: QRectF) -> None:
    """Hair lines round the middle of a magnifier, and its frame."""
    c = box.center()
    for colour, width in ((theme.HALO, 3.0), (theme.PAPER, 1.0)):
        painter.setPen(QPen(colour, width))
        for dx, dy in ((1, 0), (-1, 0), (0, 1), (0, -1)):
            painter.drawLine(QPointF(c.x() + 5 * dx, c.y() + 5 * dy), QPointF(c.x() + 22 * dx, c.y() + 22 * dy))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(theme.HALO, 3))
    painter.drawRect(box)
    painter.setPen(QPen(theme.PAPER, 1))
    painter.drawRect(box)


