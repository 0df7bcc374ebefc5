"""The strip of steps: where the work on the selected track stands, in a few words each."""

from collections.abc import Sequence

from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QColor, QFocusEvent, QFont, QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from wertis.app import theme
from wertis.app.session import Session
from wertis.app.step import Step


class StepBar(QWidget):
    """Click a step, or move along it with the arrow keys."""

    picked = Signal(str)

    def __init__(self, session: Session, steps: Sequence[Step]) -> None:
        super().__init__()
        self.session, self._steps = session, list(steps)
        self.setFixedHeight(42)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName("Steps")
        self.setToolTip(f"The steps of the work; keys 1 to {len(self._steps)}. Nothing is lost by going back and forth.")
        for signal in (session.shot_changed, session.selection_changed, session.step_changed, session.plate_changed, session.live_changed,
                       session.drift_changed):
            signal.connect(lambda *_: self.update())

    def states(self) -> dict[str, str]:
        """A few words for each step."""
        return {step.name: step.words() for step in self._steps}

    def _box(self, k: int) -> QRectF:
        w = self.width() / len(self._steps)
        return QRectF(k * w, 0, w, self.height())

    def _current(self) -> int:
        return next(k for k, step in enumerate(self._steps) if step.current)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        for k, step in enumerate(self._steps):
            if self._box(k).contains(event.position()):
                self.picked.emit(step.name)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        move = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()))
        if move is None:
            super().keyPressEvent(event)
        else:
            self.picked.emit(self._steps[min(max(0, self._current() + move), len(self._steps) - 1)].name)

    def focusInEvent(self, event: QFocusEvent) -> None:
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), QColor("#1f1f1f"))
        for k, step in enumerate(self._steps):
            box, here = self._box(k), step.current
            if here:
                p.fillRect(box, theme.PANEL)
                p.fillRect(QRectF(box.left(), box.bottom() - 2, box.width(), 2), theme.ACCENT)
            font = p.font()
            font.setWeight(theme.STRONG if here else QFont.Weight.Normal)
            font.setPixelSize(12)
            p.setFont(font)
            p.setPen(QColor("#efefef") if here else theme.TEXT)
            p.drawText(box.adjusted(14, 5, -8, -20), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, step.name)
            font.setWeight(QFont.Weight.Normal)
            font.setPixelSize(11)
            p.setFont(font)
            p.setPen(theme.QUIET)
            text = p.fontMetrics().elidedText(step.words(), Qt.TextElideMode.ElideRight, int(box.width() - 20))
            p.drawText(box.adjusted(14, 20, -6, -4), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, text)
            if k:
                p.fillRect(QRectF(box.left(), 10, 1, box.height() - 20), QColor("#383838"))
