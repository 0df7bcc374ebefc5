"""Points over frames as CSV: `frame,id,x,y`, or without the frame for one frame; pixels, the first pixel's centre at (0.5, 0.5), y down."""

import csv
from collections.abc import Mapping
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
    return {ident: place for _, ident, place in _rows(path, False)}


def read_frames(path: Path) -> dict[int, dict[str, tuple[float, float]]]:
    """Points over frames, `frame,id,x,y`: frame to id to x, y.

    Raises
    ------
    DeliverError
        As for `read_points`.
    """
    found: dict[int, dict[str, tuple[float, float]]] = {}
    for frame, ident, place in _rows(path, True):
        found.setdefault(frame, {})[ident] = place
    return found


def write_frames(path: Path, places: Mapping[int, Mapping[str, np.ndarray]], errors: Mapping[int, Mapping[str, float]] | None = None,
                 seen: Mapping[int, Mapping[str, bool]] | None = None) -> None:
    """Write points over frames; with `errors` (pixels) and `seen` in columns of their own where they are given."""
    with replacing(path) as part, open(part, "w", newline="", encoding="utf-8") as f:
        out = csv.writer(f, lineterminator="\n")
        out.writerow(["frame", "id", "x", "y", *(["error"] if errors is not None else []), *(["seen"] if seen is not None else [])])
        for frame in sorted(places):
            for ident, (x, y) in places[frame].items():
                row = [frame, ident, f"{x:.5f}", f"{y:.5f}"]
                if errors is not None:
                    row.append(f"{errors[frame][ident]:.4f}")
                if seen is not None:
                    row.append(int(seen[frame][ident]))
                out.writerow(row)


def _rows(path: Path, with_frame: bool) -> list[tuple[int, str, tuple[float, float]]]:
    columns = ["frame", "id", "x", "y"] if with_frame else ["id", "x", "y"]
    found: list[tuple[int, str, tuple[float, float]]] = []
    seen: set[tuple[int, str]] = set()
    try:
        with open(path, newline="", encoding="utf-8-sig") as f:
            reader = csv.DictReader(f)
            if reader.fieldnames is None or not set(columns) <= set(reader.fieldnames):
                raise DeliverError(f"{path.name} does not have the columns {','.join(columns)} in its first line; add them.")
            for number, row in enumerate(reader, 2):
                if number > MOST_ROWS:
                    raise DeliverError(f"{path.name} has more than {MOST_ROWS:,} lines; split it.")
                try:
                    frame = int(row["frame"]) if with_frame else 0
                    ident, place = str(row["id"]).strip(), (float(row["x"]), float(row["y"]))
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
