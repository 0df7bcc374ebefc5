"""Writing files so that a half-written one never stands under its final name."""

import contextlib
import os
import re
import tempfile
from collections.abc import Iterable, Iterator
from pathlib import Path

from wertis.core.errors import DeliverError

MOST_TEXT = 256 << 20
_RANDOM = 8  # letters that Python's tempfile puts into a name


@contextlib.contextmanager
def replacing(path: Path, error: type[Exception] = DeliverError) -> Iterator[Path]:
    """A temporary path beside `path` to write to; on leaving it is flushed to disk and takes the final name at once.

    Raises
    ------
    DeliverError
        (or `error`) when the folder does not exist or cannot be written to; nothing is left behind.
    """
    folder = path.absolute().parent
    if not folder.is_dir():
        raise error(f"The folder {folder} does not exist; make it, or choose another.")
    temporary: Path | None = None
    try:
        handle, name = tempfile.mkstemp(prefix=f".{path.stem[:40]}-", suffix=path.suffix, dir=folder)
        os.close(handle)
        temporary = Path(name)
        yield temporary
        with open(temporary, "rb") as written:
            os.fsync(written.fileno())
        os.chmod(temporary, 0o666 & ~_umask())
        os.replace(temporary, path)
        temporary = None
    except OSError as why:
        reason = why.strerror or str(why)
        raise error(f"{path.name} could not be written to {folder} ({reason}); free some space or choose another folder. "
                    "What was there before is unchanged.") from why
    finally:
        if temporary is not None:
            with contextlib.suppress(OSError):
                temporary.unlink()


def clear_leftovers(paths: Iterable[Path]) -> None:
    """Take away what processes that were killed while they wrote these files left beside them."""
    wanted: dict[Path, set[tuple[str, str]]] = {}
    for path in paths:
        wanted.setdefault(path.absolute().parent, set()).add((f".{path.stem[:40]}-", path.suffix))
    for folder, names in wanted.items():
        for there in folder.glob(".*") if folder.is_dir() else ():
            head, dash, random = there.stem.rpartition("-")
            if dash and len(random) == _RANDOM and (head + dash, there.suffix) in names:
                with contextlib.suppress(OSError):
                    there.unlink()


def numbered(pattern: Path, frame: int) -> Path | None:
    """The file of a frame: `####` or `%04d` in the name is replaced by its number; None where there is no place for it."""
    name = pattern.name
    if mark := re.search(r"#+", name):
        return pattern.with_name(name[: mark.start()] + str(frame).zfill(len(mark[0])) + name[mark.end():])
    if mark := re.search(r"%(0\d+)?d", name):
        return pattern.with_name(name[: mark.start()] + (mark[0] % frame) + name[mark.end():])
    return None


def write_text(path: Path, text: str) -> None:
    """Write a whole text file at once, UTF-8.

    Raises
    ------
    DeliverError
        When it cannot be written.
    """
    with replacing(path) as temporary:
        temporary.write_text(text, encoding="utf-8")


def read_text(path: Path) -> str:
    """A whole text file, UTF-8.

    Raises
    ------
    DeliverError
        When it cannot be read, is no text, or is far too large.
    """
    try:
        if path.stat().st_size > MOST_TEXT:
            raise DeliverError(f"{path.name} is larger than {MOST_TEXT >> 20} MB; it is not a file of this kind.")
        return path.read_text(encoding="utf-8")
    except OSError as why:
        raise DeliverError(f"{path} cannot be read ({why.strerror}); check the name.") from why
    except UnicodeDecodeError as why:
        raise DeliverError(f"{path.name} is not a text file; choose a file of the right kind.") from why


def _umask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask
