"""A matte over the picture: its tint, outlines, soft edges, how far it is from the edge, and what its points are bound to."""

from collections.abc import Callable, Sequence

import numpy as np
from PySide6.QtCore import QLineF, QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPainterPath, QPen, QPolygonF

from wertis.app import theme
from wertis.app.painting import outline
from wertis.app.picture_view import PictureView
from wertis.app.steps.use.mattes.shape_fields import outline_colour
from wertis.app.steps.use.mattes.tool import Shown
from wertis.core.geometry.quad import signed_area
from wertis.core.matte.edge import Edge
from wertis.core.matte.outline import along, outwards
from wertis.core.shot.document import Shot
from wertis.core.shot.matte_carry import anchor_place, points_on
from wertis.core.shot.mattes import Matte, MatteShape

_TINT = QColor(233, 180, 76, 60)
_SOFT = QColor(233, 180, 76, 130)
FEW = 12  # shapes up to which all outlines are dark-edged and stay tinted while one is dragged; many would make that slow
_LONGER, _SHOWN = 5.0, 0.2  # times by which how far the edge is off is drawn longer, and pixels from which it is drawn


def paint_matte(painter: QPainter, view: PictureView, matte: Matte, shown: Sequence[Shown], in_hand: str, tinted: bool,
                measured: Callable[[str], Edge | None]) -> None:
    """Paint a matte: tinted, its outlines drawn (dashed where a shape takes away), its soft edges by thin lines.

    Parameters
    ----------
    shown : its visible shapes, as they are on the frame.
    in_hand : id of the shape in hand.
    measured : gives what was found of a shape's edge, by its id.
    """
    whole = QPainterPath()
    whole.setFillRule(Qt.FillRule.WindingFill)
    there = {x.ident: x for x in shown}
    only_adds = all(x.combine == "add" for x in matte.shapes)
    for shape in matte.shapes:
        if shape.id not in there:
            continue
        line, at = there[shape.id].line, there[shape.id].at
        drawn = view.to_screen(line)
        if not np.isfinite(drawn).all():
            continue
        polygon = there[shape.id].as_polygon(drawn)
        if shape.stroke is None and tinted:
            if only_adds:  # shapes that lie over each other are filled once
                whole.addPolygon(polygon if signed_area(drawn) > 0 else there[shape.id].as_polygon(drawn[::-1]))
                whole.closeSubpath()
            else:
                path = QPainterPath()
                path.addPolygon(polygon)
                path.closeSubpath()
                whole = _joined(whole, path, shape.combine)
        _paint_outline(painter, polygon, shape, 1.8 if in_hand == shape.id else 1.0, in_hand == shape.id or len(there) <= FEW)
        edge = measured(shape.id)
        if edge is not None:
            _paint_edge(painter, view, edge)
        if shape.stroke is None:
            _paint_soft(painter, view, shape, line, at)
    if tinted:
        painter.fillPath(whole, _TINT)


def paint_bound(painter: QPainter, view: PictureView, shot: Shot, matte: Matte, shape: MatteShape, frame: int) -> None:
    """Paint lines from a shape's points to what they are bound to; a ring where a point sits on it."""
    places = points_on(shot, matte, shape, frame)
    if places is None or not shape.bound:
        return
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for place, anchors in zip(places, shape.bound, strict=True):
        for anchor in anchors:
            there = anchor_place(shot, anchor, frame)
            ends = view.to_screen(np.array([place, there])) if there is not None else None
            if ends is None or not np.isfinite(ends).all():
                continue
            for pen in (QPen(theme.HALO, 2.4), QPen(theme.PAPER, 1, Qt.PenStyle.DotLine)):
                painter.setPen(pen)
                painter.drawLine(QPointF(*ends[0]), QPointF(*ends[1]))
                painter.drawEllipse(QPointF(*ends[1]), 5, 5)


def _joined(whole: QPainterPath, path: QPainterPath, how: str) -> QPainterPath:
    join: dict[str, Callable[[QPainterPath], QPainterPath]] = {
        "add": whole.united, "subtract": whole.subtracted, "intersect": whole.intersected,
        "exclude": lambda p: whole.united(p).subtracted(whole.intersected(p))}
    return join[how](path)


def _paint_outline(painter: QPainter, drawn: QPolygonF, shape: MatteShape, width: float, haloed: bool) -> None:
    colour = outline_colour(shape)
    style = Qt.PenStyle.DashLine if shape.combine == "subtract" else Qt.PenStyle.SolidLine
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for pen in (QPen(theme.HALO, width + 2), QPen(colour, width, style))[0 if haloed else 1:]:
        painter.setPen(pen)
        if shape.closed:
            painter.drawPolygon(drawn)
        else:
            painter.drawPolyline(drawn)


def _paint_soft(painter: QPainter, view: PictureView, shape: MatteShape, line: np.ndarray, at: np.ndarray) -> None:
    for distance, sign in ((shape.inner, -1), (shape.outer, 1)):
        if max(distance) > 0:
            edge = view.to_screen(line + sign * along(np.array(distance), at)[:, None] * outwards(line))
            if np.isfinite(edge).all():
                outline(painter, edge, _SOFT, 0.7, True)


def _paint_edge(painter: QPainter, view: PictureView, edge: Edge) -> None:
    """From the outline to where the edge was found, five times as long as it is far."""
    ends = edge.places + _LONGER * edge.offsets[:, None] * edge.normals
    a, b = view.to_screen(edge.places), view.to_screen(ends)
    lines = [QLineF(*p, *q) for p, q, told, off in zip(a, b, edge.reliable, edge.offsets, strict=True)
             if told and abs(off) > _SHOWN and np.isfinite([p, q]).all()]
    for pen in (QPen(theme.HALO, 3), QPen(theme.PAPER, 1.2)):
        painter.setPen(pen)
        painter.drawLines(lines)
