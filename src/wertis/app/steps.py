"""The strip of steps: where the work on the selected track stands, in a few words each."""

from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QColor, QFocusEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from wertis.app import theme
from wertis.app.pages.check import check_words
from wertis.app.pages.region import region_words
from wertis.app.pages.repair import repair_words
from wertis.app.session import STEPS, Session


def states(session: Session) -> dict[str, str]:
    """A few words for each step."""
    plate, track = session.plate, session.track
    words = dict.fromkeys(STEPS, "")
    words["Plate"] = f"{plate.size[0]} x {plate.size[1]}, {plate.last - plate.first + 1} frames" if plate else "open one"
    if plate is None:
        return words
    words["Region"] = region_words(track.region).replace(", drawn on frame", " on") if track else "draw round the surface"
    if track is None:
        return words
    low, high = session.shot.range
    count = high - low + 1
    if track.id == session.live_track:
        words["Track"] = f"{len(session.live)} frames so far"
    elif track.solved is None:
        words["Track"] = "not yet"
    else:
        inside = (track.solved.frames >= low) & (track.solved.frames <= high)
        found = int((track.solved.good & inside).sum())
        lost = int((~track.solved.good & inside).sum())
        words["Track"] = f"{found} of {count}" + (f", {lost} lost" if lost else "")
    words["Check"] = check_words(session)
    words["Repair"] = repair_words(track) if track.solved is not None else ""
    words["Use"] = ", ".join(p.name for p in track.placements)[:40] or "nothing placed"
    words["Deliver"] = "ready" if track.placements and track.solved is not None else ""
    return words


class Steps(QWidget):
    """Click a step, or move along it with the arrow keys."""

    picked = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setFixedHeight(42)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName("Steps")
        self.setToolTip("The steps of the work; keys 1 to 7. Nothing is lost by going back and forth.")
        for signal in (session.shot_changed, session.selection_changed, session.step_changed, session.plate_changed, session.live_changed,
                       session.drift_changed):
            signal.connect(lambda *_: self.update())

    def _box(self, k: int) -> QRectF:
        w = self.width() / len(STEPS)
        return QRectF(k * w, 0, w, self.height())

    def mousePressEvent(self, event: QMouseEvent) -> None:
        for k, step in enumerate(STEPS):
            if self._box(k).contains(event.position()):
                self.picked.emit(step)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        k = STEPS.index(self.session.step)
        if event.key() == Qt.Key.Key_Left:
            self.picked.emit(STEPS[max(0, k - 1)])
        elif event.key() == Qt.Key.Key_Right:
            self.picked.emit(STEPS[min(len(STEPS) - 1, k + 1)])
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event: QFocusEvent) -> None:
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), QColor("#1f1f1f"))
        words = states(self.session)
        for k, step in enumerate(STEPS):
            box = self._box(k)
            here = step == self.session.step
            if here:
                p.fillRect(box, theme.PANEL)
                p.fillRect(QRectF(box.left(), box.bottom() - 2, box.width(), 2), theme.ACCENT)
            font = p.font()
            font.setBold(here)
            font.setPixelSize(12)
            p.setFont(font)
            p.setPen(QColor("#efefef") if here else theme.TEXT)
            p.drawText(box.adjusted(14, 5, -8, -20), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, step)
            font.setBold(False)
            font.setPixelSize(11)
            p.setFont(font)
            p.setPen(theme.QUIET)
            text = p.fontMetrics().elidedText(words[step], Qt.TextElideMode.ElideRight, int(box.width() - 20))
            p.drawText(box.adjusted(14, 20, -6, -4), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, text)
            if k:
                p.fillRect(QRectF(box.left(), 10, 1, box.height() - 20), QColor("#383838"))
