"""Renders and exports in the background, while a person goes on working: a process for each, watched, and shown on the page of the step Deliver."""

import sys
from typing import Literal

from PySide6.QtCore import QCoreApplication, QObject, QProcess, QTimer, Signal
from PySide6.QtWidgets import QFormLayout, QPushButton, QWidget

from wertis.app.fields import named
from wertis.core.shot.document import Shot
from wertis.core.work.render_queue import Progress, RenderQueue
from wertis.core.work.task_list import ExportTask

_LOOK = 1000  # ms between looks at how far it is
_SHOWN = 4  # entries
_NICE = "10"  # how much the window's work goes first


class BackgroundRender(QObject):
    """Does a queue of renders, one after the other, at a lower priority than the window's.

    Signals
    -------
    changed() : it is further, or something was added.
    ended(words, bad) : an entry is done, or has failed.
    """

    changed = Signal()
    ended = Signal(str, bool)

    def __init__(self, queue: RenderQueue, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.queue = queue
        self.entries: list[Progress] = []
        self._name = ""  # of the entry that is at work
        self._process = QProcess(self)
        self._process.setProcessChannelMode(QProcess.ProcessChannelMode.MergedChannels)
        self._process.finished.connect(self._over)
        self._process.errorOccurred.connect(self._not_begun)
        self._timer = QTimer(self)
        self._timer.setInterval(_LOOK)
        self._timer.timeout.connect(self._look)
        app = QCoreApplication.instance()
        if app is not None:
            app.aboutToQuit.connect(self.stop)  # what is left is gone on with at the next start
        self._look()

    @property
    def running(self) -> bool:
        """Whether a process is at work."""
        return self._process.state() != QProcess.ProcessState.NotRunning

    def add(self, shot: Shot, pattern: str, what: Literal["comp", "graphic"] = "comp", matte: str = "") -> None:
        """Queue a render; it begins as soon as those before it are done."""
        self.queue.add(shot, pattern, what, matte)
        self.go_on()

    def add_export(self, shot: Shot, export: ExportTask) -> None:
        """Queue an export."""
        self.queue.add_export(shot, export)
        self.go_on()

    def go_on(self) -> None:
        """Begin with the first entry that is not done, also with one that was stopped."""
        name = self.queue.next()
        if name is not None and not self.running:
            self._name = name
            self._process.start("nice", ["-n", _NICE, sys.executable, "-m", "wertis.cli.main", "run", str(self.queue.file), "--only", name])
            self._timer.start()
        self._look()

    def stop(self) -> None:
        """Stop the work; frames that are done are kept, and it can be gone on with."""
        self._timer.stop()
        if self.running:
            self._process.blockSignals(True)  # so that the next is not begun
            self._process.kill()
            self._process.waitForFinished(5000)
            self._process.blockSignals(False)
        self._look()

    def clear(self) -> None:
        """Take what is over off the queue."""
        self.queue.clear()
        self._look()

    def _over(self) -> None:
        self._timer.stop()
        self._look()
        if self.queue.next() == self._name:  # it ended by itself: tried again only when a person says so
            said = bytes(self._process.readAll().data()).decode("utf-8", "replace").strip().splitlines()
            self.ended.emit(f"{self._name} ended before it was done ({said[-1] if said else 'no reason given'}); Go on tries it again.", True)
        else:
            self.go_on()

    def _not_begun(self, error: QProcess.ProcessError) -> None:
        if error == QProcess.ProcessError.FailedToStart:
            self._timer.stop()
            self.ended.emit(f"No process could be begun in the background ({self._process.errorString()}); render here instead.", True)

    def _look(self) -> None:
        before = {p.name: p.state for p in self.entries}
        self.entries = self.queue.progress()
        for entry in self.entries:
            if entry.state in ("done", "failed") and before.get(entry.name) in ("waiting", "running"):
                bad = entry.state == "failed"
                self.ended.emit(f"{entry.name} failed: {entry.words}" if bad else f"{entry.name} is written to {entry.target}.", bad)
        self.changed.emit()


class QueueFields(QWidget):
    """How far the work is, on the page."""

    def __init__(self, background: BackgroundRender) -> None:
        super().__init__()
        self.background = background
        f = QFormLayout(self)
        f.setContentsMargins(0, 0, 0, 0)
        self.words = named("", "quiet")
        self.words.setWordWrap(True)
        self.stop, self.clear = QPushButton("Stop"), QPushButton("Clear what is over")
        self.stop.clicked.connect(lambda: background.stop() if background.running else background.go_on())
        self.clear.clicked.connect(background.clear)
        f.addRow(named("IN THE BACKGROUND", "section"))
        f.addRow(self.words)
        f.addRow(self.stop, self.clear)
        background.changed.connect(self.show_state)
        self.show_state()

    def show_state(self) -> None:
        """Show the latest entries."""
        entries = self.background.entries
        self.setVisible(bool(entries))
        lines = [f"{e.name}: {self._words(e)}" for e in entries[-_SHOWN:]]
        if len(entries) > _SHOWN:
            lines.insert(0, f"{len(entries) - _SHOWN} more")
        self.words.setText("\n".join(lines))
        waiting = any(e.state in ("waiting", "running") for e in entries)
        self.stop.setText("Stop" if self.background.running else "Go on")
        self.stop.setVisible(self.background.running or waiting)
        self.clear.setEnabled(any(e.state in ("done", "failed") for e in entries))

    @staticmethod
    def _words(entry: Progress) -> str:
        if entry.state == "failed":
            return f"failed. {entry.words}"
        if entry.state == "done":
            return "done" + (f"; {entry.words}" if entry.words else "")
        if entry.state == "running":
            return f"{entry.done} of {entry.total} frames" if entry.total else "at work"
        return "waits"
