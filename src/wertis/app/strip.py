"""The message strip: what just happened, what can be done next, and how far long work is."""

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QProgressBar, QPushButton, QWidget

from wertis.app import theme
from wertis.app.fields import named
from wertis.core.jobs.job import Job

_HEIGHT = 31  # of its tallest part, so that nothing above moves when that comes and goes


class MessageStrip(QWidget):
    """Along the bottom of the window.

    Signals
    -------
    stop_wanted() : the Stop button.
    """

    stop_wanted = Signal()

    def __init__(self, work: QWidget) -> None:
        super().__init__()
        self.words = QLabel()
        self.words.setObjectName("message")
        self.words.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.words.setMinimumWidth(100)
        self._left = named("", "quiet", wrap=False)
        self._bar = QProgressBar()
        self._bar.setTextVisible(False)
        self._bar.setFixedWidth(180)
        self._stop = QPushButton("Stop")
        self._stop.setToolTip("Stop and keep what there is (Esc)")
        self._stop.clicked.connect(self.stop_wanted)
        row = QHBoxLayout(self)
        row.setContentsMargins(10, 2, 10, 4)
        row.addWidget(self.words, 1)
        for widget in (self._left, self._bar, self._stop, work):
            row.addWidget(widget)
        self.setFixedHeight(_HEIGHT)
        self.no_work()

    def say(self, text: str, is_error: bool = False) -> None:
        """Show a message; what has no room is in its tooltip."""
        self.words.setToolTip(text)
        self.words.setStyleSheet(f"color: {theme.LOST.name()};" if is_error else "")
        self.words.setText(self.words.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, max(400, self.window().width() - 60)))

    def work_begins(self, total: int) -> None:
        """Long work of so many steps."""
        self._bar.setRange(0, total)
        self._bar.setValue(0)
        self._bar.show()
        self._stop.show()
        self._left.setText("")

    def work_goes_on(self, job: Job) -> None:
        """How far it is, and how long it will take."""
        self._bar.setRange(0, job.total)
        self._bar.setValue(job.done)
        left = job.seconds_left
        self._left.setText(f"{job.done} of {job.total}, {job.rate:.0f} per second" + (f", {left:.0f} s left" if left is not None else ""))

    def work_tells(self, job: Job) -> None:
        """How far what is done between two of its steps is."""
        if job.phase is not None:
            _, done, total = job.phase
            self._bar.setRange(0, total)
            self._bar.setValue(done)
            self._left.setText(f"{done} of {total}")

    def no_work(self) -> None:
        """It has ended."""
        self._bar.hide()
        self._stop.hide()
        self._left.setText("")
