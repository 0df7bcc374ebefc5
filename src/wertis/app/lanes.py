"""The lanes along the bottom: one frame ruler, where the selected track holds, and how sure it is."""

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QBrush, QColor, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from wertis.app import theme
from wertis.app.items import kind_of
from wertis.app.session import Session
from wertis.core.check.summary import GOOD, USABLE
from wertis.core.errors import WertisError
from wertis.core.shot.document import RepairLayer
from wertis.core.shot.repairs import move_key
from wertis.core.track.advice import WEAK_ERROR, WEAK_SEEN

_LEFT, _RIGHT, _RULER, _LANE, _CURVE = 82, 12, 22, 16, 46
_MARK = 15.5  # pixels from the middle of a step's key to the drift lane's ground line


class Lanes(QWidget):
    """Click or drag to go to a frame.

    Attributes
    ----------
    step_marks : gives the frames with keys of the part of the step in hand.
    step_measured : gives frame to how far what the step has in hand is off, in pixels.
    step_mark_moved : called with a key's frame, where it was dragged to, and whether it is to be copied; says whether such keys can be moved.
    """

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.step_marks: Callable[[], list[int]] = list
        self.step_measured: Callable[[], dict[int, float]] = dict
        self.step_mark_moved: Callable[[int, int, bool], bool] = lambda frame, to, copy: False
        self._mark_dragged: int | None = None  # frame of the step's key being dragged
        self._dragged: int | None = None  # frame of the repair key being dragged
        self._drag_to = 0
        self._most = 2.0  # pixels at the top of the curve
        self.corners = False  # each corner's own drift rather than the worst
        self.setFixedHeight(_RULER + _LANE + _CURVE + 12)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setMouseTracking(True)
        self.setAccessibleName("Lanes")
        self.setToolTip("Click or drag to go to a frame. Tracked: how much of the region is seen; hatched where it is lost, notched where weak.\n"
                        f"Drift: the worst corner's or vertex's, measured, in pixels (thin: what the tracker expected; dashed: a mesh's mean);\n"
                        f"under {USABLE:g} px is usable, {GOOD:g} px good. "
                        "Hatched where it could not be measured. Dashes and dots: how far a matte's outline is from its edge, while in hand.\n"
                        "Double-click shows each corner's own. Dots: repair keys; drag moves, Ctrl copies.\n"
                        "Dashes: out of date, would be tracked again. Squares: pegs, or keys of the extra move, the sides or a matte, while in hand;\n"
                        "those of pegs and mattes can be dragged as well. Lines: cuts.")
        for signal in (session.shot_changed, session.frame_changed, session.selection_changed, session.live_changed, session.step_changed,
                       session.drift_changed,
                       session.plate_changed):
            signal.connect(lambda *_: self.update())

    def frame_at(self, x: float) -> int:
        """The frame at a place across the widget."""
        first, last = self._ends()
        return int(np.clip(np.floor(first + (x - _LEFT) / max(self._span(), 1) * (last - first + 1)), first, last))

    def x_of(self, frame: float) -> float:
        """Where the middle of a frame is, across the widget."""
        first, last = self._ends()
        return _LEFT + (frame - first + 0.5) / (last - first + 1) * self._span()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self._dragged, self._mark_dragged = self._key_at(event.position()), self._mark_at(event.position())
            key = self._dragged if self._dragged is not None else self._mark_dragged
            self._drag_to = self.frame_at(event.position().x()) if key is None else key
            self.session.go(self._drag_to)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.corners = not self.corners
        self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if event.buttons() & Qt.MouseButton.LeftButton:
            self._drag_to = self.frame_at(event.position().x())
            if self._dragged is None and self._mark_dragged is None:
                self.session.go(self._drag_to)
            self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), theme.PANEL)
        font = p.font()
        font.setPixelSize(10)
        p.setFont(font)
        self._ruler(p)
        top = _RULER
        measured = self.step_measured()
        edge_alone = bool(measured) and self.session.track is None
        p.setPen(theme.QUIET)
        p.drawText(QRectF(8, top, _LEFT - 12, _LANE), Qt.AlignmentFlag.AlignVCenter, "Tracked")
        p.drawText(QRectF(8, top + _LANE + 6, _LEFT - 12, _CURVE), Qt.AlignmentFlag.AlignVCenter, "Edge px" if edge_alone else "Drift px")
        p.fillRect(QRectF(_LEFT, top, self._span(), _LANE), QColor("#1e1e1e"))
        p.fillRect(QRectF(_LEFT, top + _LANE + 6, self._span(), _CURVE), QColor("#1e1e1e"))
        if self.session.plate is None:
            return
        base = top + _LANE + 6 + _CURVE
        self._most = max([2.0, *(s.worst for s in self.session.drift.values() if np.isfinite(s.worst)), *measured.values()])
        if measured or self.session.track is not None:
            self._levels(p, base)
        self._tracked(p, top)
        self._item(p, top, base)
        self._repairs(p, top)
        self._range(p)
        x = self.x_of(self.session.frame)
        p.setPen(QPen(theme.PAPER, 1))
        p.drawLine(QPointF(x, 4), QPointF(x, self.height() - 2))
        p.setBrush(theme.PAPER)
        p.drawPolygon(QPolygonF([QPointF(x - 4, 2), QPointF(x + 4, 2), QPointF(x, 8)]))

    # -- inside ---------------------------------------------------------------------------------------------------

    def _ends(self) -> tuple[int, int]:
        plate = self.session.plate
        return (plate.first, plate.last) if plate is not None else (1, 1)

    def _span(self) -> float:
        return max(1.0, self.width() - _LEFT - _RIGHT)

    def _ruler(self, p: QPainter) -> None:
        first, last = self._ends()
        if self.session.plate is None:
            return
        per = self._span() / (last - first + 1)
        step = next((s for s in (1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 5000, 10000, 100000) if s * per >= 48), 1000000)
        p.setPen(QPen(QColor("#555555"), 1))
        start = -(-first // step) * step
        for f in range(start, last + 1, step):
            x = self.x_of(f)
            p.setPen(QPen(QColor("#555555"), 1))
            p.drawLine(QPointF(x, _RULER - 6), QPointF(x, _RULER - 1))
            p.setPen(theme.QUIET)
            text = str(f)
            half = p.fontMetrics().horizontalAdvance(text) / 2 + 1
            p.drawText(QRectF(min(x, self.width() - half - 2) - half, 1, 2 * half, 14), Qt.AlignmentFlag.AlignCenter, text)
        for f in sorted(self.session.plate.gaps)[:2000]:
            p.fillRect(QRectF(self.x_of(f) - per / 2, _RULER - 4, max(1, per), 3), theme.LOST)
        ref = self.session.shot.plate
        for f in ref.cuts if ref is not None else ():  # another shot begins: a notched line right through
            x = self.x_of(f) - per / 2
            p.setPen(QPen(theme.AMBER, 1))
            p.drawLine(QPointF(x, 2), QPointF(x, self.height() - 2))
            p.setBrush(theme.AMBER)
            p.drawPolygon(QPolygonF([QPointF(x - 4, _RULER - 1), QPointF(x + 4, _RULER - 1), QPointF(x, _RULER - 7)]))

    def _tracked(self, p: QPainter, top: int) -> None:
        track = self.session.track
        if track is None:
            return
        first, last = self._ends()
        per = self._span() / (last - first + 1)
        answers: dict[int, tuple[float, float]] = {}  # frame to seen, error; error inf where lost
        solution = track.solution
        if solution is not None:
            for f, ok, seen, error in zip(solution.tried, solution.good, solution.shares, solution.frame_errors, strict=True):
                answers[int(f)] = (float(seen), float(error) if ok else np.inf)
        if track.id == self.session.live.track_id:
            for f, fix in self.session.live.answers.items():
                answers[f] = (fix.seen, fix.error if fix.warp is not None else np.inf)
        points: list[QPointF] = []
        base = top + _LANE + 6 + _CURVE
        for f in sorted(answers):
            if not first <= f <= last:
                continue
            seen, error = answers[f]
            x = round(self.x_of(f) - per / 2)
            wide = max(1, round(self.x_of(f + 1) - per / 2) - x)
            if np.isinf(error):
                p.fillRect(QRectF(x, top, wide, _LANE), QColor("#4a2a22"))
                p.fillRect(QRectF(x, top, wide, _LANE), _hatch())
                p.fillRect(QRectF(x, top + _LANE + 6, wide, _CURVE), _hatch())
                points = self._curve(p, points, theme.QUIET, 1.0)
            else:
                h = 3 + (_LANE - 3) * min(1.0, seen)
                weak = error > WEAK_ERROR or seen < WEAK_SEEN
                colour = theme.AMBER if weak else theme.ACCENT
                p.fillRect(QRectF(x, top + _LANE - h, wide, h), QColor(colour.red(), colour.green(), colour.blue(), 170))
                if weak:  # told by its shape as well
                    self._mark(p, self.x_of(f), top)
                points.append(QPointF(self.x_of(f), base - self._height(error)))
        self._curve(p, points, theme.QUIET, 1.0)
        self._drift(p, top, base)
        p.setPen(QPen(theme.PAPER, 1))
        p.setBrush(theme.PANEL)
        middle, tall = top + _LANE / 2, _LANE / 2 - 1
        for here, half in ((track.region.frame, tall), *((f, 0.5 * tall) for f in track.settings.further_references)):
            at, aside = self.x_of(here), 6 * half / tall
            p.drawPolygon(QPolygonF([QPointF(at, middle - half), QPointF(at + aside, middle), QPointF(at, middle + half), QPointF(at - aside, middle)]))

    def _levels(self, p: QPainter, base: float) -> None:
        """Lines at the errors that are usable and good, by common practice."""
        for level in (USABLE, GOOD):
            y = base - self._height(level)
            p.setPen(QPen(QColor("#5c5c5c"), 1, Qt.PenStyle.DotLine))
            p.drawLine(QPointF(_LEFT, y), QPointF(_LEFT + self._span(), y))
            if level == GOOD and self._height(USABLE) - self._height(GOOD) < 10:
                continue  # no room for both
            p.setPen(theme.QUIET)
            p.drawText(QRectF(_LEFT - 24, y - 6, 20, 12), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, f"{level:g}")

    def _item(self, p: QPainter, top: float, base: float) -> None:
        """Keys of what is in hand and how far a matte's outline is from its edge; a matte may be carried by no track."""
        self._curve(p, [QPointF(self.x_of(f), base - self._height(v)) for f, v in sorted(self.step_measured().items())], theme.AMBER, 1.6, 3)
        item = self.session.shot.item(self.session.place.item_id)
        for f in kind_of(item).key_frames(self.session.shot, item) if item is not None else ():
            p.fillRect(QRectF(self.x_of(f) - 3, top + _LANE - 7, 6, 6), theme.AMBER)
        for frame in self.step_marks():
            x = self.x_of(self._drag_to if frame == self._mark_dragged else frame)
            p.setPen(QPen(theme.PANEL, 1))
            p.setBrush(theme.PAPER)
            p.drawRect(QRectF(x - 3.5, base - _MARK - 3.5, 7, 7))

    def _repairs(self, p: QPainter, top: float) -> None:
        """Repair keys on the drift lane's ground line; the one being dragged is where the pointer is."""
        track = self.session.track
        if track is None or track.solution is None:
            return
        layer = track.layer(RepairLayer)
        y = top + _LANE + 6 + _CURVE - 5
        per = self._span() / (self._ends()[1] - self._ends()[0] + 1)
        for stretch in self.session.out_of_date():  # dashes under what tracking again would compute
            p.setPen(QPen(theme.AMBER, 2, Qt.PenStyle.DashLine))
            p.drawLine(QPointF(self.x_of(stretch.frames[0]) - per / 2, y + 6), QPointF(self.x_of(stretch.frames[-1]) + per / 2, y + 6))
        for frame in layer.frames(track.reference):
            x = self.x_of(self._drag_to if frame == self._dragged else frame)
            p.setPen(QPen(theme.PANEL, 1))
            p.setBrush(theme.AMBER if layer.enabled else theme.QUIET)
            p.drawEllipse(QPointF(x, y), 4, 4)

    def _key_at(self, place: QPointF) -> int | None:
        """The frame of the repair key under the pointer."""
        track = self.session.track
        if track is None or track.solution is None or place.y() < _RULER + _LANE + 6 + _CURVE - 12:
            return None
        near = [(abs(self.x_of(f) - place.x()), f) for f in track.layer(RepairLayer).frames(track.reference)]
        return min(near)[1] if near and min(near)[0] < 6 else None

    def _mark_at(self, place: QPointF) -> int | None:
        """The frame of the step's key under the pointer."""
        middle = _RULER + _LANE + 6 + _CURVE - _MARK
        near = [(abs(self.x_of(f) - place.x()), f) for f in self.step_marks()] if abs(place.y() - middle) < 6 else []
        return min(near)[1] if near and min(near)[0] < 6 else None

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        s = self.session
        mark, self._mark_dragged = self._mark_dragged, None
        if mark is not None and self._drag_to != mark:
            self.step_mark_moved(mark, self._drag_to, bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier))
        key, self._dragged = self._dragged, None
        if key is not None and s.track is not None and self._drag_to != key:
            try:
                copy = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
                s.history.do("Copy a repair key" if copy else "Move a repair key", move_key(s.shot, s.track.id, key, self._drag_to, copy))
            except WertisError as why:
                s.message.emit(str(why), True)
        self.update()

    @staticmethod
    def _mark(p: QPainter, x: float, top: float) -> None:
        p.setPen(QPen(theme.PANEL, 1))
        p.setBrush(theme.AMBER)
        p.drawPolygon(QPolygonF([QPointF(x - 4, top), QPointF(x + 4, top), QPointF(x, top + 6)]))

    def _drift(self, p: QPainter, top: float, base: float) -> None:
        """The measured drift: its worst corner, or each of them; of a mesh the worst vertex and the mean; hatched where there is none."""
        first, last = self._ends()
        per = self._span() / (last - first + 1)
        drift = self.session.drift
        corners = all(len(slip.amounts) <= 4 for slip in drift.values())
        lines = 4 if self.corners and corners else 1 if corners else 2
        for k in range(lines):
            points: list[QPointF] = []
            for f in sorted(drift):
                slip = drift[f]
                value = slip.worst if lines == 1 else (slip.worst, slip.mean)[k] if lines == 2 else slip.amounts[k]
                if np.isfinite(value):
                    points.append(QPointF(self.x_of(f), base - self._height(value)))
                    continue
                if k == 0:
                    x = self.x_of(f) - per / 2
                    p.fillRect(QRectF(x, top + _LANE + 6, max(1.0, per), _CURVE), QBrush(theme.QUIET, Qt.BrushStyle.BDiagPattern))
                points = self._curve(p, points, theme.PAPER, 1.4, k)
            self._curve(p, points, theme.PAPER, 1.4, k)

    def _curve(self, p: QPainter, points: list[QPointF], colour: QColor, width: float, style: int = 0) -> list[QPointF]:
        if points:
            pen = QPen(colour, width)
            pen.setStyle((Qt.PenStyle.SolidLine, Qt.PenStyle.DashLine, Qt.PenStyle.DotLine, Qt.PenStyle.DashDotLine)[style])
            p.setPen(pen)
            p.setRenderHint(QPainter.RenderHint.Antialiasing)
            p.drawPolyline(QPolygonF(points))
            p.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        return []

    def _height(self, error: float) -> float:
        """A square root scale up to the worst drift: small errors stay visible, large ones stay inside."""
        return float(min(1.0, np.sqrt(max(error, 0) / self._most))) * (_CURVE - 3)

    def _range(self, p: QPainter) -> None:
        low, high = self.session.shot.range
        first, last = self._ends()
        per = self._span() / (last - first + 1)
        dim = QColor(0, 0, 0, 110)
        for a, b in ((first, low - 1), (high + 1, last)):
            if b >= a:
                p.fillRect(QRectF(self.x_of(a) - per / 2, 0, per * (b - a + 1), self.height()), dim)


def _hatch() -> QBrush:
    return QBrush(theme.LOST, Qt.BrushStyle.BDiagPattern)
