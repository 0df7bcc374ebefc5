"""Points painted over the picture: each with its pattern, told apart by shape as found, hidden, left out or in hand."""

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from wertis.app import theme
from wertis.app.painting import words
from wertis.app.picture_view import PictureView
from wertis.app.session import Session
from wertis.core.shot.document import Track
from wertis.core.shot.points import PointsSettings, PointsSolution
from wertis.core.track.points import PointsFix

_ARM = 6.0  # screen pixels of a cross, from its middle
_FEW = 24  # points up to which each has its name


def places_on(s: Session, track: Track) -> tuple[np.ndarray, np.ndarray] | None:
    """Where a track's points (N, 2) are on the frame in view, and (N,) which were found; None where unknown."""
    settings, solution = track.settings, track.solution
    if not isinstance(settings, PointsSettings) or settings.points is None:
        return None
    if s.frame == track.region.frame:
        return settings.points, np.ones(len(settings.points), bool)
    live = s.live.on(track.id, s.frame)
    if live is not None:
        return (live.places, live.measured) if isinstance(live, PointsFix) and live.places is not None else None
    k = solution.index(s.frame) if isinstance(solution, PointsSolution) else None
    if not isinstance(solution, PointsSolution) or k is None or not np.isfinite(solution.places[k]).all():
        return None
    return solution.places[k], solution.measured[k]


def paint_points(painter: QPainter, view: PictureView, chosen: set[int]) -> None:
    """The selected track's points: a cross where one is found (in its pattern's square, where that has a set size), a ring where it is
    hidden, dotted where it is left out. A chosen one's pattern and search area are its tool's to draw."""
    track = view.session.track
    there = places_on(view.session, track) if track is not None and track.visible else None
    if track is None or there is None or not isinstance(track.settings, PointsSettings):
        return
    places, found = there
    settings, solution = track.settings, track.solution
    left_out = solution.left_out if isinstance(solution, PointsSolution) else ()
    painter.save()
    if view.through is not None:
        painter.setClipRect(view.picture_area())
    for k, (place, name) in enumerate(zip(places, settings.names, strict=True)):
        pattern = settings.patterns[k]
        half = pattern.side / 2 if k not in chosen else 0.0  # where the size goes by the texture none is drawn
        at, low, high = view.to_screen(place + np.array([[0.0, 0], pattern.offset, pattern.offset]) + half * np.array([[0], [-1], [1]]))
        if not np.isfinite([at, low, high]).all():
            continue
        colour = theme.AMBER if k in chosen else theme.ACCENT if found[k] else theme.PAPER
        style = Qt.PenStyle.DotLine if name in left_out else Qt.PenStyle.SolidLine
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for pen in (QPen(theme.HALO, 3), QPen(colour, 1.3, style)):
            painter.setPen(pen)
            if found[k]:
                painter.drawLines([QLineF(at[0] - _ARM, at[1], at[0] + _ARM, at[1]), QLineF(at[0], at[1] - _ARM, at[0], at[1] + _ARM)])
                if half:
                    painter.drawRect(QRectF(QPointF(*low), QPointF(*high)).normalized())
                if any(pattern.offset):
                    painter.drawLine(QPointF(*at), QPointF(*((low + high) / 2)))
            else:
                painter.drawEllipse(QPointF(*at), 7, 7)
        if len(places) <= _FEW:
            words(painter, QPointF(float(max(low[0], high[0], at[0] + _ARM)) + 4, float(min(low[1], high[1], at[1] - _ARM)) + 8), name, colour)
    painter.restore()
