"""Autosave in the window: what changed is kept within two seconds, and what a crash left is offered at the next start."""

import threading
from collections.abc import Callable

from PySide6.QtCore import QObject, QTimer
from PySide6.QtWidgets import QMessageBox, QWidget

from wertis.app.bridge import Bridge
from wertis.app.session import Session
from wertis.core.errors import WertisError
from wertis.core.shot import autosave
from wertis.core.shot.autosave import Keeper, Lost
from wertis.core.shot.document import Shot

_EVERY = 2000  # milliseconds


class Autosaver(QObject):
    """Keeps the session's shot while it is worked on."""

    def __init__(self, session: Session, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.keeper = Keeper()
        self._kept: Shot | None = None  # the shot last kept
        self._copied = False  # whether there is a copy that a save makes needless
        self._trouble = False
        self._say = Bridge(lambda text: session.message.emit(text, True), self)  # the writer is a thread of its own
        self._writer: threading.Thread | None = None
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(_EVERY)
        self._timer.timeout.connect(self._keep)
        session.shot_changed.connect(self._changed)

    def opened(self) -> str:
        """A shot was opened; says so when it is open in another window as well."""
        s = self._session
        self._kept, self._copied = s.shot, False
        try:
            self.keeper.open(s.shot, s.path)
        except WertisError as why:
            return str(why)
        others = self.keeper.others(s.path) if s.path is not None else []
        if not others:
            return ""
        return (f"{s.shot.name} is open in another window as well (process {others[0].process}); whoever saves last wins. "
                "Save under another name to keep both.")

    def take_over(self, copy: Lost) -> None:
        """Open what a crash left, unsaved, under its shot's own name; the copy goes only when this session has one of its own.

        Raises
        ------
        WertisError
            When it cannot be opened, or not be kept.
        """
        s = self._session
        s.recover(copy)
        self._kept, self._copied = s.shot, True
        self.keeper.keep(s.shot, s.path)
        autosave.discard(copy)

    def finish(self) -> None:
        """The session ends: nothing needs to be found again."""
        self._timer.stop()
        if self._writer is not None:
            self._writer.join(10)
        self.keeper.forget()

    def _changed(self) -> None:
        if not self._session.history.unsaved:
            self._timer.stop()
            if self._copied:
                self._copied, self._kept = False, None
                self._write(lambda: self.keeper.open(self._session.shot, self._session.path))
        elif not self._timer.isActive():
            self._timer.start()

    def _keep(self) -> None:
        s = self._session
        if s.history.unsaved and s.shot is not self._kept:
            if self._writer is not None and self._writer.is_alive():
                self._timer.start()  # a slow disk: what comes meanwhile is kept next
                return
            shot, path = s.shot, s.path
            self._kept, self._copied = shot, True
            self._write(lambda: self.keeper.keep(shot, path))

    def _write(self, work: Callable[[], None]) -> None:
        def run() -> None:
            try:
                work()
                self._trouble = False
            except WertisError as why:
                if not self._trouble:  # said once, not every two seconds
                    self._say(str(why))
                self._trouble = True

        if self._writer is not None:
            self._writer.join()
        self._writer = threading.Thread(target=run, name="wertis-keep")
        self._writer.start()


def offer(autosaver: Autosaver, parent: QWidget) -> Lost | None:
    """Ask what to do with what crashes left behind; the copy that the person wants back."""
    found = autosave.lost()
    if not found:
        return None
    newest = found[0]
    box = QMessageBox(QMessageBox.Icon.Question, "Wertis", f"Wertis did not end well. Work on {newest.note.name} that was not saved was kept, "
                      f"from {newest.when}." + (f" ({len(found) - 1} more)" if len(found) > 1 else ""), parent=parent)
    box.setInformativeText(f"It belongs to {newest.note.path}" if newest.note.path else "It was never saved under a name.")
    take = box.addButton("Recover it", QMessageBox.ButtonRole.AcceptRole)
    box.addButton("Later", QMessageBox.ButtonRole.RejectRole)
    drop = box.addButton("Throw it away", QMessageBox.ButtonRole.DestructiveRole)
    box.exec()
    if box.clickedButton() is drop:
        autosave.discard(newest)
        return offer(autosaver, parent)
    return newest if box.clickedButton() is take else None
