"""Outlines over frames as comma-separated values: a line for each point on each frame.

Lines that begin with # say the convention; RFC 4180 has no comments, but they are common practice for tables of numbers.
"""

import csv
import io
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from wertis.core.errors import DeliverError
from wertis.core.exchange.laid_out import outlines_back, outlines_in
from wertis.core.exchange.layout import Layout
from wertis.core.exchange.outlines import Outlines, checked
from wertis.core.files import read_text, write_text

HEADER = ["shape", "combine", "closed", "frame", "point", "x", "y", "before_x", "before_y", "after_x", "after_y", "roundness", "inner", "outer", "width"]
MOST_ROWS = 5_000_000


def write(path: Path, layout: Layout, shapes: Sequence[Outlines]) -> None:
    """Write all frames of shapes of the plate in one table, in a layout; the columns of handles and of a line's width stay empty for what has none.

    Raises
    ------
    DeliverError
        When it cannot be written.
    """
    text = io.StringIO()
    text.write(f"# {layout.words()}; points in each frame's own picture\n# before and after are the ends of a point's handles, where it has them\n"
               f"# layout {layout.model_dump_json()}\n")
    digits = layout.digits
    rows = csv.writer(text, lineterminator="\n")
    rows.writerow(HEADER)
    for s in (outlines_in(s, layout) for s in shapes):
        for frame, points in sorted(s.points.items()):
            for k, (x, y) in enumerate(points):
                ends = [f"{v:.{digits}f}" for v in s.handles[frame][k].ravel()] if frame in s.handles else [""] * 4
                rows.writerow([s.name, s.combine, int(s.closed), frame, k, f"{x:.{digits}f}", f"{y:.{digits}f}", *ends, f"{s.roundness[k]:g}",
                               f"{s.inner[k]:g}",
                               f"{s.outer[k]:g}", f"{s.widths[k]:g}" if len(s.widths) else ""])
    write_text(path, text.getvalue())


def read(path: Path) -> list[Outlines]:
    """Read what `write` wrote, as it is on the plate; shapes are told apart by their names, in the order in which they come.

    Raises
    ------
    DeliverError
        When it is not such a table; the message names the line.
    """
    text = read_text(path).splitlines()
    lines = [(n, line) for n, line in enumerate(text, 1) if line.strip() and not line.startswith("#")]
    said = next((line[9:] for line in text[:8] if line.startswith("# layout ")), None)
    try:
        layout = Layout.model_validate_json(said) if said is not None else None
    except ValueError as why:
        raise DeliverError(f"{path.name} is damaged ({str(why).splitlines()[0]}); export it again.") from why
    if not lines or [c.strip() for c in lines[0][1].split(",")] != HEADER:
        raise DeliverError(f"{path.name} is not a table of shapes; its first line must be {','.join(HEADER)}.")
    if len(lines) > MOST_ROWS:
        raise DeliverError(f"{path.name} has more than {MOST_ROWS} rows; write fewer frames into one file.")
    found: dict[str, dict[int, dict[int, list[str]]]] = {}
    for n, line in lines[1:]:
        cells = next(csv.reader([line]))
        try:
            if len(cells) != len(HEADER):
                raise ValueError
            found.setdefault(cells[0], {}).setdefault(int(cells[3]), {})[int(cells[4])] = cells
        except ValueError:
            raise DeliverError(f"Line {n} of {path.name} is not a point of a shape; mend or remove it.") from None
    shapes = [_shape(path, name, frames) for name, frames in found.items()]
    return [checked(path, outlines_back(s, layout) if layout is not None else s) for s in shapes]


def _shape(path: Path, name: str, frames: dict[int, dict[int, list[str]]]) -> Outlines:
    rows = {f: [points[k] for k in sorted(points)] for f, points in frames.items()}
    first = rows[min(rows)]
    try:
        points = {f: np.array([[float(v) for v in c[5:7]] for c in r]) for f, r in rows.items()}
        handled = all(c[7:11] != [""] * 4 for c in first)
        handles = {f: np.array([[float(v) for v in c[7:11]] for c in r]).reshape(-1, 2, 2) for f, r in rows.items()} if handled else {}
        roundness, inner, outer = (np.array([float(c[k]) for c in first]) for k in (11, 12, 13))
        widths = np.array([float(c[14]) for c in first]) if first[0][14] else np.zeros(0)
    except ValueError as why:
        raise DeliverError(f"{path.name} has something else than a number in a point of {name} ({why}).") from why
    return Outlines(name, first[0][1], points, roundness, inner, outer, handles, first[0][2] != "0", widths)
