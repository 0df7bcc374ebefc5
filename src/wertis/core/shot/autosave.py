"""Work kept as it happens: a copy of each open shot in the person's own state folder, found again after a crash.

Each session has a folder of its own there: the document, written whole or unchanged, and the arrays by their contents, so that only what changed is
written. Beside it is a note of whose it is. Both go when the session ends well or the shot is saved.
"""

import contextlib
import json
import os
import shutil
import time
import uuid
from dataclasses import asdict, dataclass
from pathlib import Path

import platformdirs

from wertis.core.errors import ShotFileError
from wertis.core.files import replacing
from wertis.core.shot import store
from wertis.core.shot.document import Shot

_NOTE, _COPY = ".json", ".kept"
_MOST_NOTE = 1 << 16


def folder() -> Path:
    """Where the copies are, in the platform's place for a program's state."""
    return Path(platformdirs.user_state_dir("wertis", appauthor=False)) / "kept"


@dataclass(frozen=True)
class Note:
    """Whose a copy is.

    Attributes
    ----------
    process : number of the process that keeps it.
    started : when that process began, in clock ticks since the machine did (Linux), so that another of the same number is told apart.
    path : the shot's own file; empty when it was never saved.
    name : the shot's name.
    time : seconds since 1970 when it was last kept; 0 when the shot is open and unchanged.
    """

    process: int
    started: int
    path: str
    name: str
    time: float


@dataclass(frozen=True)
class Lost:
    """A copy that a crash left behind."""

    file: Path
    note: Note

    @property
    def when(self) -> str:
        """Day and time when it was kept."""
        return time.strftime("%Y-%m-%d %H:%M:%S", time.localtime(self.note.time))


class Keeper:
    """Keeps one session's shot.

    Parameters
    ----------
    where : the folder of copies; the platform's when not given.
    """

    def __init__(self, where: Path | None = None) -> None:
        self._folder = where if where is not None else folder()
        self._file = self._folder / f"{uuid.uuid4().hex}{_COPY}"
        self._process, self._started = os.getpid(), _started(os.getpid())

    def keep(self, shot: Shot, path: Path | None) -> None:
        """Keep a copy of the shot as it is now.

        Raises
        ------
        ShotFileError
            When it cannot be written; the copy before stays.
        """
        self._made()
        write_copy(shot, self._file)
        self._write(path, shot.name, time.time())

    def open(self, shot: Shot, path: Path | None) -> None:
        """Note which shot is open, with nothing to keep yet."""
        self._made()
        self._write(path, shot.name, 0.0)
        _remove(self._file)

    def forget(self) -> None:
        """The shot is saved or was given up: nothing is kept any more."""
        _remove(self._file.with_suffix(_NOTE))
        _remove(self._file)

    def others(self, path: Path) -> list[Note]:
        """Other sessions that are running and have the shot of this file open."""
        wanted = str(path.absolute())
        return [note for file, note in _notes(self._folder) if file != self._file and note.path == wanted and _runs(note)]

    def _made(self) -> None:
        try:
            self._folder.mkdir(parents=True, exist_ok=True)
        except OSError as why:
            raise ShotFileError(f"Work cannot be kept in {self._folder} ({why.strerror}); save it yourself, often.") from why

    def _write(self, path: Path | None, name: str, when: float) -> None:
        note = Note(self._process, self._started, str(path.absolute()) if path is not None else "", name, when)
        with replacing(self._file.with_suffix(_NOTE), ShotFileError) as temporary:
            temporary.write_text(json.dumps(asdict(note)), encoding="utf-8")


def lost(where: Path | None = None) -> list[Lost]:
    """What sessions that no longer run left behind, the newest first."""
    found = [Lost(file, note) for file, note in _notes(where if where is not None else folder()) if file.exists() and note.time and not _runs(note)]
    return sorted(found, key=lambda x: -x.note.time)


def discard(copy: Lost) -> None:
    """Throw a copy away."""
    _remove(copy.file)
    _remove(copy.file.with_suffix(_NOTE))


def write_copy(shot: Shot, folder: Path) -> None:
    """Write a shot's document and those of its arrays that are not there yet; what nothing refers to any more goes.

    Raises
    ------
    ShotFileError
        When it cannot be written; the copy before stays.
    """
    text, arrays = store.parted(shot, folder)
    try:
        (folder / store.ARRAYS).mkdir(parents=True, exist_ok=True)
    except OSError as why:
        raise ShotFileError(f"Work cannot be kept in {folder} ({why.strerror}); save it yourself, often.") from why
    for name, array in arrays.items():
        if not (folder / name).exists():
            with replacing(folder / name, ShotFileError) as temporary:
                temporary.write_bytes(store.array_bytes(array))
    with replacing(folder / store.DOCUMENT, ShotFileError) as temporary:
        temporary.write_text(text, encoding="utf-8")
    for file in (folder / store.ARRAYS).iterdir():
        if f"{store.ARRAYS}/{file.name}" not in arrays:
            _remove(file)


def read_copy(path: Path) -> Shot:
    """The shot of a copy.

    Raises
    ------
    ShotFileError
        When it is damaged.
    """
    if path.suffix == store.SUFFIX:  # as versions before 6 kept them
        return store.load(path)

    def member(name: str, most: int) -> bytes:
        part = Path(os.path.normpath(path / name))
        if not part.is_relative_to(path) or part.stat().st_size > most:
            raise ShotFileError(f"The part {name} of {path.name} does not belong to it; the copy is damaged.")
        return part.read_bytes()

    return store.guarded(lambda: store.joined(member, path, path), path)


def _remove(path: Path) -> None:
    with contextlib.suppress(OSError):
        if path.is_dir():
            shutil.rmtree(path)
        else:
            path.unlink(missing_ok=True)


def _notes(where: Path) -> list[tuple[Path, Note]]:
    out = []
    for file in where.glob(f"*{_NOTE}") if where.is_dir() else ():
        try:
            if file.stat().st_size > _MOST_NOTE:
                continue
            body = json.loads(file.read_text(encoding="utf-8"))
            note = Note(int(body["process"]), int(body["started"]), str(body["path"]), str(body["name"]), float(body["time"]))
        except (OSError, ValueError, KeyError, TypeError, OverflowError):
            continue  # a note that another session is writing, or that is damaged
        older = file.with_suffix(store.SUFFIX)
        out.append((older if older.exists() else file.with_suffix(_COPY), note))
    return out


def _started(process: int) -> int:
    try:
        # proc(5): the 22nd field; the second one may hold spaces, but ends with the last bracket
        return int(Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[19])
    except (OSError, ValueError, IndexError):
        return 0


def _runs(note: Note) -> bool:
    return note.process > 0 and _started(note.process) == note.started != 0
