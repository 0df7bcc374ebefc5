"""Everything that is running, in one place: how far, how long still, and a stop for each."""

from collections.abc import Callable

from PySide6.QtCore import QPoint, Qt, QTimer
from PySide6.QtWidgets import QFrame, QGridLayout, QProgressBar, QPushButton, QToolButton, QWidget

from wertis.app.fields import named
from wertis.core.jobs.job import Job

_EVERY = 250  # milliseconds


class Work(QToolButton):
    """A button that says how much is running, and opens the list of it.

    Parameters
    ----------
    running : gives what runs now, the most urgent first.
    shown : gives the work that is shown beside the button anyway, which alone needs no list.
    """

    def __init__(self, running: Callable[[], list[Job]], shown: Callable[[], Job | None], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._shown = shown
        self._running = running
        self.setToolTip("What is running: how far it is, how long it will take, and stopping it")
        self.setFixedHeight(20)  # no taller than the words beside it, so that nothing moves when it comes and goes
        self.clicked.connect(self.open)
        self.list = _List(running, self)
        self._timer = QTimer(self)
        self._timer.setInterval(_EVERY)
        self._timer.timeout.connect(self.look)
        self._timer.start()
        self.hide()

    def look(self) -> None:
        """Show how much is running."""
        jobs = self._running()
        self.setVisible(bool(jobs) and jobs != [self._shown()])
        self.setText(f"{len(jobs)} running" if len(jobs) != 1 else f"{jobs[0].label} {_part(jobs[0])}")
        if self.list.isVisible():
            self.list.show_jobs()

    def open(self) -> None:
        """Open the list above the button."""
        self.list.show_jobs()
        self.list.adjustSize()
        self.list.move(self.mapToGlobal(QPoint(self.width() - self.list.width(), -self.list.height() - 4)))
        self.list.show()


class _List(QFrame):
    def __init__(self, running: Callable[[], list[Job]], parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Popup)
        self.setObjectName("panel")
        self._running = running
        self._grid = QGridLayout(self)
        self._grid.setHorizontalSpacing(12)
        self.rows: list[tuple[Job, QProgressBar, QWidget, QPushButton]] = []

    def show_jobs(self) -> None:
        """One row for each."""
        jobs = self._running()
        if [row[0] for row in self.rows] != jobs:
            self._build(jobs)
        for job, bar, words, stop in self.rows:
            bar.setValue(job.done)
            left = job.seconds_left
            words.setText(f"{job.done} of {job.total}" + (f", {left:.0f} s left" if left is not None else ""))  # type: ignore[attr-defined]
            stop.setEnabled(not job.stop_asked.is_set())

    def _build(self, jobs: list[Job]) -> None:
        while (item := self._grid.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.deleteLater()
        self.rows = []
        for row, job in enumerate(jobs):
            bar = QProgressBar()
            bar.setRange(0, job.total)
            bar.setTextVisible(False)
            bar.setFixedWidth(140)
            words = named("", "quiet", wrap=False)
            words.setMinimumWidth(110)
            stop = QPushButton("Stop")
            stop.clicked.connect(lambda _=False, j=job: j.stop())
            for column, part in enumerate((named(job.label, "label", wrap=False), bar, words, stop)):
                self._grid.addWidget(part, row, column)
            self.rows.append((job, bar, words, stop))
        if not jobs:
            self._grid.addWidget(named("Nothing is running.", "quiet"), 0, 0)


def _part(job: Job) -> str:
    return f"{min(1.0, job.done / job.total):.0%}"
