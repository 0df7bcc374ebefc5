"""Playing: the clock says which frame is due; frames that are late are skipped so that time is kept."""

import time

from PySide6.QtCore import QObject, QTimer, Signal

from wertis.app.session import Session


class Playback(QObject):
    """Plays the range in a loop.

    Signals
    -------
    playing_changed(on)
    """

    playing_changed = Signal(bool)

    def __init__(self, session: Session, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.session = session
        self._timer = QTimer(self)
        self._timer.setTimerType(self._timer.timerType().PreciseTimer)
        self._timer.timeout.connect(self._tick)
        self._begun = 0.0
        self._from = 0
        self.waiting = False  # set by the window while a picture is being made

    @property
    def playing(self) -> bool:
        """Whether it plays."""
        return self._timer.isActive()

    def toggle(self) -> None:
        """Play or pause."""
        if self.playing:
            self.pause()
        elif self.session.plate is not None:
            low, high = self.session.shot.range
            if not low <= self.session.frame < high:
                self.session.go(low)
            self._restart()
            self._timer.start(max(4, int(500 / self._fps())))
            self.playing_changed.emit(True)

    def pause(self) -> None:
        """Stop on the frame in view."""
        if self.playing:
            self._timer.stop()
            self.playing_changed.emit(False)

    def _fps(self) -> float:
        return self.session.shot.plate.fps if self.session.shot.plate else 24.0

    def _restart(self) -> None:
        self._begun, self._from = time.monotonic(), self.session.frame

    def _tick(self) -> None:
        if self.waiting:
            # nothing to show yet: time stands still rather than jumping over frames nobody has seen
            self._restart()
            return
        low, high = self.session.shot.range
        due = self._from + int((time.monotonic() - self._begun) * self._fps())
        if due > high:
            self.session.go(low)
            self._restart()
        elif due != self.session.frame:
            self.session.go(due)
