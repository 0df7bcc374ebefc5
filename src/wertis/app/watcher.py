"""Files that the shot uses are read again when they change on disk."""

import glob
import re
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QFileSystemWatcher, QObject, QTimer

from wertis.app.session import Session
from wertis.core.shot.relocate import paths

_QUIET = 400  # milliseconds for which a file must stay as it is: it may be half written
_MOST = 500  # files that are watched


class Watcher(QObject):
    """Watches the files that a shot's items name, and tells when some have changed and rest again.

    Parameters
    ----------
    changed : called with the names of the files.
    """

    def __init__(self, session: Session, changed: Callable[[list[Path]], object], parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._session, self._changed = session, changed
        self._states: dict[Path, tuple[int, int] | None] = {}  # of each file, as it was last read: its size and when it was written
        self._seen: dict[Path, tuple[int, int] | None] = {}  # as it was a moment ago
        self._watcher = QFileSystemWatcher(self)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(_QUIET)
        self._later.timeout.connect(self._look)
        for signal in (self._watcher.fileChanged, self._watcher.directoryChanged):
            signal.connect(lambda _: self._later.start())
        self._following = QTimer(self)
        self._following.setSingleShot(True)
        self._following.setInterval(_QUIET)
        self._following.timeout.connect(self._follow)
        session.shot_changed.connect(lambda *_: self._following.start())

    def _follow(self) -> None:
        """Watch what the shot names now, its plate aside."""
        files = {Path(name) for name in paths(self._session.shot.but(plate=None))[:_MOST]}
        if files == set(self._states):
            return
        self._states = {f: self._states.get(f, _state(f)) for f in files}
        self._seen = dict(self._states)
        watched = {*self._watcher.files(), *self._watcher.directories()}
        wanted = {str(m) for f in files for m in _members(f)} | {str(f.parent) for f in files if f.parent.is_dir()}
        if watched - wanted:
            self._watcher.removePaths(sorted(watched - wanted))
        if wanted - watched:
            self._watcher.addPaths(sorted(wanted - watched))

    def _look(self) -> None:
        now = {f: _state(f) for f in self._states}
        resting = [f for f, state in now.items() if state is not None and state == self._seen.get(f) and state != self._states[f]]
        restless = [f for f, state in now.items() if state != self._seen.get(f)]
        self._seen = now
        if restless:
            self._later.start()
            return
        if resting:
            self._states.update({f: now[f] for f in resting})
            self._changed(resting)
        # a file that was put in the place of another one is no longer watched
        gone = {str(m) for f in now for m in _members(f)} - set(self._watcher.files())
        if gone:
            self._watcher.addPaths(sorted(gone))


def _members(file: Path) -> list[Path]:
    """The files that a name stands for: of a pattern, or of a name with a number at its end, those of the whole sequence."""
    numbered = re.fullmatch(r"(.*?)(?:#+|%\d*d|\d+)", file.stem)
    if numbered is None:
        return [file] if file.exists() else []
    try:
        return sorted(file.parent.glob(glob.escape(numbered[1]) + "*" + glob.escape(file.suffix)))[:_MOST]
    except OSError:
        return []


def _state(file: Path) -> tuple[int, int] | None:
    """How many bytes there are, and when the newest was written; None where there is nothing."""
    try:
        found = [m.stat() for m in _members(file)]
    except OSError:
        return None
    return (sum(s.st_size for s in found), max(s.st_mtime_ns for s in found)) if found else None
