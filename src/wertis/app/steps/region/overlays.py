"""What the Region step paints: where there is texture, and what is held out."""

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QBrush, QColor, QImage, QPainter, QPen, QPolygonF

from wertis.app import theme
from wertis.app.mattes import MatteReader
from wertis.app.painting import outline
from wertis.app.picture_view import PictureView
from wertis.core.shot.document import HoldOut
from wertis.core.shot.hold_outs import shape_on
from wertis.core.shot.matte_carry import outlines_on
from wertis.core.shot.mattes import Matte


def paint_texture(painter: QPainter, view: PictureView) -> None:
    """Squares over the region on its own frame: the fuller a square, the better that spot holds; an empty one does not hold."""
    s = view.session
    texture = s.texture() if s.track is not None and s.frame == s.track.region.frame else None
    if texture is None:
        return
    outer = texture.size * view.zoom * 0.8
    for (x, y), hold in zip(view.to_screen(texture.spots), texture.hold, strict=True):
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(QColor(0, 0, 0, 110), 1))
        painter.drawRect(QRectF(x - outer / 2, y - outer / 2, outer, outer))
        side = outer * float(np.sqrt(hold))
        painter.setBrush(QColor(theme.ACCENT.red(), theme.ACCENT.green(), theme.ACCENT.blue(), 200))
        painter.setPen(QPen(theme.HALO, 1))
        painter.drawRect(QRectF(x - side / 2, y - side / 2, side, side))


def paint_hold_outs(painter: QPainter, view: PictureView, mattes: MatteReader) -> None:
    """The selected track's hold-outs: hatched, so that they are told from regions without their colour."""
    s = view.session
    for held in s.shot.hold_outs(s.track_id) if s.track is not None and s.track.visible else ():
        if not held.enabled or not held.visible:
            continue
        if held.path:
            _paint_matte(painter, view, held, mattes)
        drawn, own = s.shot.item(held.matte, Matte), shape_on(s.shot, held, s.frame)
        lines = [(line, shape.combine == "add") for shape, line, _ in outlines_on(s.shot, drawn, s.frame)] if drawn is not None else []
        for points, hatched in [*lines, *([(own, True)] if own is not None else [])]:
            places = view.to_screen(points)
            if not np.isfinite(places).all():
                continue
            if hatched:
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(QBrush(QColor(theme.AMBER.red(), theme.AMBER.green(), theme.AMBER.blue(), 110), Qt.BrushStyle.BDiagPattern))
                painter.drawPolygon(QPolygonF([QPointF(float(x), float(y)) for x, y in places]))
            outline(painter, places, theme.AMBER, 1.6 if held.id == s.place.item_id else 1.0, dashed=True)


def _paint_matte(painter: QPainter, view: PictureView, held: HoldOut, mattes: MatteReader) -> None:
    """A matte that is held out, tinted over the picture once it has been read."""
    plate = view.session.plate
    mask = mattes.peek(held, view.session.frame, plate.size) if plate is not None and view.through is None else None
    if mask is None:
        return
    h, w = mask.shape
    tint = np.zeros((h, w, 4), np.uint8)
    # slanted light and dark lines, so that it is told from any picture without its colour
    y, x = np.ogrid[0:h, 0:w]
    light = (x + y) // 5 % 2 == 0
    tint[light, :3] = theme.AMBER.red(), theme.AMBER.green(), theme.AMBER.blue()
    tint[..., 3] = np.where(light, mask // 4 * 3, mask // 5 * 2)
    image = QImage(tint.data, w, h, 4 * w, QImage.Format.Format_RGBA8888)
    (left, top), (right, bottom) = view.to_screen(np.array([[0.0, 0], [w, h]]))
    painter.drawImage(QRectF(left, top, right - left, bottom - top), image)
