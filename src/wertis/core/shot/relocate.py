"""Files of a shot that are no longer where it says: which are gone, where they are now, and the shot that knows.

A shot moved to another folder or machine usually brings its files along, or finds them under another root with the same names below it.
"""

import os
from collections.abc import Iterator
from pathlib import Path

from wertis.core.shot.document import Shot
from wertis.core.shot.fields import NamesFile, mapped, marked_values

_MOST = 20_000  # folder entries that a search looks at
_DEEP = 5  # folders below the one that is searched


def paths(shot: Shot) -> list[str]:
    """All files and folders that a shot refers to, each once; the records' own types say which fields name files."""
    return [p for p in dict.fromkeys(marked_values(shot, NamesFile)) if p]


def gone(shot: Shot) -> list[str]:
    """Those that are not there. A pattern (#### or %04d) is there when its folder is."""
    return [p for p in paths(shot) if not _there(p)]


def search(wanted: list[str], folder: Path) -> dict[str, str]:
    """Where files are below a folder, by their names; of several of one name the one whose folders are most alike.

    Of a pattern its folder is looked for.
    """
    anchors = {p: Path(p).parent if _is_pattern(p) else Path(p) for p in wanted}
    names = {anchor.name for anchor in anchors.values()}
    there = [path for path in _below(folder) if path.name in names]
    out = {}
    for p, anchor in anchors.items():
        near = [q for q in there if q.name == anchor.name and (q.is_dir() or not _is_pattern(p))]
        if near:
            best = max(near, key=lambda q: (_alike(anchor, q), -len(q.parts)))
            out[p] = str(best / Path(p).name if _is_pattern(p) else best)
    return out


def relocated(shot: Shot, found: dict[str, str]) -> Shot:
    """The shot that refers to the places found."""
    return mapped(shot, lambda path, _: found.get(path, path), NamesFile)


def _there(path: str) -> bool:
    try:
        return Path(path).parent.is_dir() if _is_pattern(path) else Path(path).exists()
    except (OSError, ValueError):
        return False


def _is_pattern(path: str) -> bool:
    return "#" in Path(path).name or "%" in Path(path).name


def _alike(a: Path, b: Path) -> int:
    """How many names the two share from the end."""
    count = 0
    for x, y in zip(reversed(a.parts), reversed(b.parts), strict=False):
        if x != y:
            break
        count += 1
    return count


def _below(folder: Path) -> Iterator[Path]:
    """What lies in a folder and those below it, not too deep and not too much."""
    seen = 0
    base = len(folder.parts)
    for where, folders, files in os.walk(folder, followlinks=False):
        here = Path(where)
        folders[:] = sorted(f for f in folders if not f.startswith(".")) if len(here.parts) - base < _DEEP else []
        for name in (*folders, *sorted(files)):
            seen += 1
            if seen > _MOST:
                return
            yield here / name
