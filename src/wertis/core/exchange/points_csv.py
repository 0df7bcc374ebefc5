"""Points over frames as CSV: `frame,id,x,y`, or without the frame for one frame; pixels, the first pixel's centre at (0.5, 0.5), y down."""

import csv
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

import numpy as np

from wertis.core.errors import DeliverError
from wertis.core.files import replacing

MOST_ROWS = 5_000_000


def read_points(path: Path) -> dict[str, tuple[float, float]]:
    """Points of one frame, `id,x,y`: id to x, y.

    Raises
    ------
    DeliverError
        When the file cannot be read, or is not such a file.
    """
    return {ident: (place[0], place[1]) for _, ident, place in _rows(path, False)}


PATTERN_COLUMNS = ("side", "reach", "dx", "dy")


def read_patterns(path: Path) -> dict[str, dict[str, float]]:
    """What each point of `id,x,y` is found by, as far as the table has columns for it: `side` of the pattern and `reach` of the search in pixels,
    `dx` and `dy` from the point to the pattern's middle.

    Raises
    ------
    DeliverError
        As for `read_points`.
    """
    found: dict[str, dict[str, float]] = {}
    for column in PATTERN_COLUMNS:
        for _, ident, numbers in _rows(path, False, (column,)):
            each = found.setdefault(ident, {})
            if len(numbers) > 2:
                each[column] = numbers[2]
    return found


def read_frames(path: Path, beside: Sequence[str] = ()) -> dict[int, dict[str, tuple[float, ...]]]:
    """Points over frames, `frame,id,x,y`: frame to id to x, y, and the numbers of further columns where the table has all of those.

    Raises
    ------
    DeliverError
        As for `read_points`.
    """
    found: dict[int, dict[str, tuple[float, ...]]] = {}
    for frame, ident, place in _rows(path, True, beside):
        found.setdefault(frame, {})[ident] = place
    return found


def write_frames(path: Path, places: Mapping[int, Mapping[str, np.ndarray]], errors: Mapping[int, Mapping[str, float]] | None = None,
                 seen: Mapping[int, Mapping[str, bool]] | None = None, remarks: Sequence[str] = (), digits: int = 5) -> None:
    """Write points over frames; with `errors` (pixels) and `seen` in columns of their own where they are given, and remarks on top, each behind a #."""
    with replacing(path) as part, open(part, "w", newline="", encoding="utf-8") as f:
        f.writelines(f"# {r}\n" for r in remarks)
        out = csv.writer(f, lineterminator="\n")
        out.writerow(["frame", "id", "x", "y", *(["error"] if errors is not None else []), *(["seen"] if seen is not None else [])])
        for frame in sorted(places):
            for ident, (x, y) in places[frame].items():
                row = [frame, ident, f"{x:.{digits}f}", f"{y:.{digits}f}"]
                if errors is not None:
                    row.append(f"{errors[frame][ident]:.4f}")
                if seen is not None:
                    row.append(int(seen[frame][ident]))
                out.writerow(row)


def _rows(path: Path, with_frame: bool, beside: Sequence[str] = ()) -> list[tuple[int, str, tuple[float, ...]]]:
    columns = ["frame", "id", "x", "y"] if with_frame else ["id", "x", "y"]
    found: list[tuple[int, str, tuple[float, ...]]] = []
    seen: set[tuple[int, str]] = set()
    try:
        with open(path, newline="", encoding="utf-8-sig") as f:
            remarks = 0

            def rows() -> Iterator[str]:
                nonlocal remarks
                for line in f:
                    if line.startswith("#"):
                        remarks += 1
                    else:
                        yield line

            reader = csv.DictReader(rows())
            if reader.fieldnames is None or not set(columns) <= set(reader.fieldnames):
                raise DeliverError(f"{path.name} does not have the columns {','.join(columns)} in its first line; add them.")
            more = list(beside) if set(beside) <= set(reader.fieldnames) else []
            for row in reader:
                number = reader.line_num + remarks
                if number > MOST_ROWS:
                    raise DeliverError(f"{path.name} has more than {MOST_ROWS:,} lines; split it.")
                try:
                    frame = int(row["frame"]) if with_frame else 0
                    ident, place = str(row["id"]).strip(), tuple(float(row[c]) for c in ("x", "y", *more))
                except (TypeError, ValueError) as why:
                    raise DeliverError(f"Line {number} of {path.name} does not hold {','.join(columns)} as numbers; correct it.") from why
                if not ident or not np.isfinite(place).all():
                    raise DeliverError(f"Line {number} of {path.name} has no id, or a place that is no number; correct it.")
                if (frame, ident) in seen:
                    raise DeliverError(f"Line {number} of {path.name} gives point {ident} {f'on frame {frame} ' if with_frame else ''}again; leave one.")
                seen.add((frame, ident))
                found.append((frame, ident, place))
    except (OSError, UnicodeDecodeError, csv.Error) as why:
        raise DeliverError(f"{path} cannot be read as CSV ({why}).") from why
    if not found:
        raise DeliverError(f"{path.name} holds no points; give at least one line of {','.join(columns)}.")
    return found
