"""Corner pins as comma-separated values: `frame,x1,y1,x2,y2,x3,y3,x4,y4`.

Lines that begin with # say the convention; RFC 4180 has no comments, but they are common practice for tables of numbers.
"""

import csv
import io
from pathlib import Path

import numpy as np

from wertis.core.errors import DeliverError
from wertis.core.files import read_text, write_text

HEADER = ["frame", "x1", "y1", "x2", "y2", "x3", "y3", "x4", "y4"]
MOST_ROWS = 1_000_000


def write_plain(path: Path, corners: dict[int, np.ndarray], remarks: list[str] | None = None) -> None:
    """Write corners, frame to (4, 2); frames without an answer are left out. `remarks` go on top as # lines.

    Raises
    ------
    DeliverError
        When the file cannot be written.
    """
    text = io.StringIO()
    for remark in remarks or []:
        text.write(f"# {remark}\n")
    rows = csv.writer(text, lineterminator="\n")
    rows.writerow(HEADER)
    for frame in sorted(corners):
        rows.writerow([frame, *(f"{v:.4f}" for v in np.asarray(corners[frame]).ravel())])
    write_text(path, text.getvalue())


def read(path: Path) -> dict[int, np.ndarray]:
    """Frame to corners (4, 2), as written by `write_plain` or by hand.

    Raises
    ------
    DeliverError
        When the file is not such a table; the message names the line.
    """
    lines = [(n, line) for n, line in enumerate(read_text(path).splitlines(), 1) if line.strip() and not line.startswith("#")]
    if not lines or [c.strip() for c in lines[0][1].split(",")] != HEADER:
        raise DeliverError(f"{path.name} is not a corner pin table; its first line must be {','.join(HEADER)}.")
    if len(lines) > MOST_ROWS:
        raise DeliverError(f"{path.name} has more than {MOST_ROWS} rows; it is not a corner pin of one shot.")
    found: dict[int, np.ndarray] = {}
    for n, line in lines[1:]:
        cells = [c.strip() for c in line.split(",")]
        if len(cells) == 9 and not any(cells[1:]):
            continue
        try:
            values = np.array([float(c) for c in cells[1:]])
            if values.shape != (8,) or not np.all(np.isfinite(values)):
                raise ValueError
            found[int(cells[0])] = values.reshape(4, 2)
        except ValueError:
            raise DeliverError(f"Line {n} of {path.name} is not a frame number and eight numbers; mend or remove it.") from None
    return found
