"""What the Check step paints over a picture: grid, checker or crosses on the surface, and arrows for the drift."""

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, QRect, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from wertis.app import theme
from wertis.app.painting import outline, words
from wertis.app.session import Session
from wertis.core.check.slip import Slip
from wertis.core.check.summary import GOOD, USABLE, named_place
from wertis.core.geometry import coons, homography, quad
from wertis.core.jobs.check import corners_of, drift_places
from wertis.core.shot.edits import carry

ToScreen = Callable[[np.ndarray], np.ndarray]
OVERLAYS = {"none": "Nothing", "grid": "Grid", "checker": "Checker", "crosses": "Crosses at the corners"}
_CELLS = 8
MAGNIFIED = 20.0  # times by which a drift arrow is longer than the drift, in the picture's pixels
_TITLES = 46  # pixels at the top of a pane, on the left, that its title lines take
_LONGEST = 260.0  # screen pixels
_VISIBLE = 0.15  # pixels of a vertex's drift from which it has an arrow
_SHORTEST = 14.0  # screen pixels of such an arrow
_TOLD, _WORDS_APART = 6, 60.0  # vertices with words, and screen pixels between them


def corners_in_view(session: Session) -> np.ndarray | None:
    """The corners (4, 2) of what lies on the selected track, on the frame in view; None where unknown."""
    track = session.track
    if track is None:
        return None
    points, home, _ = corners_of(session.shot, track, session.placement_id)
    return carry(track, points, home, session.frame)


def paint_surface(painter: QPainter, session: Session, to_screen: ToScreen, overlay: str) -> None:
    """The chosen overlay, carried by the motion."""
    corners = corners_in_view(session)
    if corners is None or overlay == "none" or not quad.is_convex(corners):
        return
    if overlay == "crosses":
        for x, y in to_screen(corners):
            for colour, width in ((theme.HALO, 3.4), (theme.PAPER, 1.4)):
                painter.setPen(QPen(colour, width))
                for dx, dy in ((1, 0), (-1, 0), (0, 1), (0, -1)):
                    painter.drawLine(QPointF(x + 4 * dx, y + 4 * dy), QPointF(x + 18 * dx, y + 18 * dy))
        return
    points, home, _ = corners_of(session.shot, session.track, session.placement_id) if session.track is not None else (corners, session.frame, "")
    onto_home = homography.from_unit_square(points)
    placement = session.placement
    bend = placement.bend.at(session.frame) if placement is not None else np.zeros((8, 2))

    def on_screen(square: np.ndarray) -> QPolygonF | None:
        """Points (N, 2) of the plane of the unit square, carried by the motion."""
        there = carry(session.track, homography.apply(onto_home, square), home, session.frame)
        places = to_screen(there) if there is not None else None
        return QPolygonF([QPointF(*p) for p in places]) if places is not None and np.isfinite(places).all() else None

    if overlay == "checker":
        side, along = np.linspace(0, 1, _CELLS + 1), np.linspace(0, 1, 5)[:-1, None]
        painter.setPen(Qt.PenStyle.NoPen)
        for j in range(_CELLS):
            for i in range(_CELLS):
                cell = np.array([[side[i], side[j]], [side[i + 1], side[j]], [side[i + 1], side[j + 1]], [side[i], side[j + 1]]])
                cell = coons.bent(np.concatenate([a + (b - a) * along for a, b in zip(cell, np.roll(cell, -1, 0), strict=True)]), bend)
                drawn = on_screen(cell)
                painter.setBrush(QColor(242, 239, 230, 105) if (i + j) % 2 else QColor(20, 20, 20, 105))
                if drawn is not None:
                    painter.drawPolygon(drawn)
        return
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for line in coons.grid(_CELLS, bend, fine=True):
        drawn = on_screen(line)
        if drawn is None:
            continue
        for colour, width in ((QColor(0, 0, 0, 110), 2.6), (QColor(242, 239, 230, 200), 1.0)):
            painter.setPen(QPen(colour, width))
            painter.drawPolyline(drawn)


def paint_drift(painter: QPainter, session: Session, to_screen: ToScreen, pane: QRect) -> None:
    """At each corner or vertex an arrow, magnified, from where the track has it to where it was measured to be, and how far that is.

    Words stay inside the pane. Of a mesh's many vertices only those that drift visibly have an arrow, and only the worst of their surroundings words.
    """
    slip, track = session.drift.get(session.frame), session.track
    if slip is None or track is None:
        return
    places = drift_places(session.shot, track, session.placement_id)
    there = carry(track, places.points, places.frame, session.frame)
    if there is None or len(there) != len(slip.amounts):
        return
    if places.each != "corner":
        _paint_vertices(painter, there, slip, to_screen)
        return
    shown = to_screen(there)
    if not np.isfinite(shown).all():  # a corner beyond the surface's horizon
        return
    middle = shown.mean(0)
    outline(painter, shown, theme.PAPER, 1.2)
    for corner, move, amount in zip(there, slip.slip, slip.amounts, strict=True):
        at, toward = to_screen(np.array([corner, corner + (move if np.isfinite(amount) else 0)]))
        outward = at - middle
        text_at = at + [-56.0 if outward[0] < 0 else 8.0, 22.0 if outward[1] > 0 else -12.0]
        top = _TITLES if text_at[0] < 0.6 * pane.width() else 12
        if not pane.adjusted(4, top, -52, -4).contains(int(text_at[0]), int(text_at[1])):
            text_at = at + [8.0 if outward[0] < 0 else -52.0, -10.0 if outward[1] > 0 else 20.0]  # inside, where the pane does not cut it off
        if not np.isfinite(amount):
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(theme.QUIET, 1.4, Qt.PenStyle.DotLine))
            painter.drawEllipse(QPointF(*at), 9, 9)
            words(painter, QPointF(*text_at), "not measured", theme.QUIET)
            continue
        _magnified(painter, at, toward, _colour(amount))
        words(painter, QPointF(*text_at), f"{amount:.2f} px", _colour(amount))


def _paint_vertices(painter: QPainter, there: np.ndarray, slip: Slip, to_screen: ToScreen) -> None:
    """The drift of a mesh's vertices, which lie at places (V, 2) of the frame."""
    at = to_screen(there)
    toward = to_screen(there + np.nan_to_num(slip.slip))
    known = np.isfinite(slip.amounts) & np.isfinite(at).all(1)
    told: list[np.ndarray] = []
    for k in sorted(np.flatnonzero(known), key=lambda k: -slip.amounts[k]):
        amount = float(slip.amounts[k])
        if amount < _VISIBLE or np.linalg.norm(toward[k] - at[k]) * MAGNIFIED < _SHORTEST:
            break
        _magnified(painter, at[k], toward[k], _colour(amount))
        if len(told) < _TOLD and all(np.abs(at[k] - other).max() > _WORDS_APART for other in told):
            told.append(at[k])
            words(painter, QPointF(*(at[k] + [8.0, 14.0])), f"{amount:.2f} px", _colour(amount))


def _colour(amount: float) -> QColor:
    return theme.ACCENT if amount < GOOD else theme.PAPER if amount < USABLE else theme.AMBER


def _magnified(painter: QPainter, at: np.ndarray, toward: np.ndarray, colour: QColor) -> None:
    """An arrow (on the screen) from a place towards where it was measured, longer than the drift by `MAGNIFIED`."""
    along = (toward - at) * MAGNIFIED
    length = float(np.linalg.norm(along))
    if length > 3:
        along *= min(1.0, _LONGEST / length)
        _arrow(painter, at, at + along, colour)


def drift_words(session: Session) -> tuple[str, QColor]:
    """The frame's drift in words, for the top of the picture."""
    track, slip = session.track, session.drift.get(session.frame)
    base = session.base if session.base is not None else track.region.frame if track is not None else 0
    if slip is None:
        return "Drift: being measured" if track is not None and track.solution is not None else "Drift: track the surface first", theme.QUIET
    if session.frame == base:
        return f"Drift: measured against this frame ({base})", theme.PAPER
    if not np.isfinite(slip.worst):
        return f"Drift: not measured, {slip.reason}", theme.LOST
    colour = theme.PAPER if slip.worst < USABLE else theme.AMBER
    where = slip.where
    each = drift_places(session.shot, track, session.placement_id).each if track is not None else "corner"
    return f"Drift: {slip.worst:.2f} px at {named_place(each, where)}, give or take {slip.uncertainty[where]:.2f}; arrows x{MAGNIFIED:g}", colour


def _arrow(painter: QPainter, start: np.ndarray, end: np.ndarray, colour: QColor) -> None:
    along = (end - start) / max(float(np.linalg.norm(end - start)), 1e-6)
    across = np.array([-along[1], along[0]])
    head = [end, end - 9 * along + 4.5 * across, end - 9 * along - 4.5 * across]
    for shade, width in ((theme.HALO, 4.0), (colour, 1.8)):
        painter.setPen(QPen(shade, width))
        painter.drawLine(QPointF(*start), QPointF(*(end - 7 * along)))
        painter.setBrush(shade)
        painter.drawPolygon(QPolygonF([QPointF(*p) for p in head]))
