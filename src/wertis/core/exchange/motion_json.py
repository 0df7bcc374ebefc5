"""Motion frame by frame as JSON (RFC 8259) and CSV: corners, matrices, transforms, points; the layout is said in the file."""

import csv
import io
import json
import re
from collections.abc import Sequence
from pathlib import Path
from typing import Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from wertis.core.errors import DeliverError
from wertis.core.exchange.layout import Layout
from wertis.core.files import read_text, write_text

FORMAT, VERSION = "wertis-motion", 1
Kind = Literal["corners", "inverse corners", "matrices", "transforms", "points"]
COLUMNS: dict[str, tuple[str, ...]] = {
    "corners": ("x1", "y1", "x2", "y2", "x3", "y3", "x4", "y4"), "inverse corners": ("x1", "y1", "x2", "y2", "x3", "y3", "x4", "y4"),
    "matrices": tuple(f"m{r}{c}" for r in (1, 2, 3) for c in (1, 2, 3)),
    "transforms": ("x", "y", "scale_x", "scale_y", "rotation", "shear", "left_out"), "points": ("x", "y", "confidence")}
MEANS: dict[str, str] = {
    "corners": "the artwork's top left, top right, bottom right, bottom left corner as the picture is seen",
    "inverse corners": "where the picture's own top left, top right, bottom right, bottom left corner goes so that the surface stands still as on the "
                       "reference frame",
    "matrices": "row by row; column vectors: the reference frame's point (x, y, 1) times the matrix is the frame's point, divided by its third number",
    "transforms": "where the anchor is; scales; rotation in degrees, clockwise where y goes down and anticlockwise where it goes up; shear is x by y; "
                  "left_out is by how many pixels of the plate the surface's corners are off at most, since the rest of the motion is not in it",
    "points": "where each point is; confidence is 1 for a point that is measured and sure, towards 0 for one that is not"}
CAN_BE_RELATIVE: tuple[Kind, ...] = ("corners", "points", "transforms")
"""Kinds that may be written relative to where they are on the reference frame; the others are by what they are."""
_DIGITS = 6


class MotionFile(BaseModel):
    """Motion as it is exchanged.

    Attributes
    ----------
    kind : which numbers stand on each frame; see `COLUMNS` and `MEANS`.
    reference : the frame that everything is relative to, as it is numbered in the file.
    anchor : of transforms, the point (x, y) on the reference frame.
    relative : in a file, corners, points and a transform's anchor stand relative to where they are on the reference frame, which is then in `home`. Here
        they are absolute all the same.
    home : of a file that is relative, the numbers to be added: of corners and transforms under "", of points under their names.
    frames : frame to numbers; frames without an answer are left out. For points, `tracks` instead.
    tracks : a point's name to frame to numbers.
    """

    model_config = ConfigDict(extra="forbid")

    format: str = FORMAT
    version: int = VERSION
    kind: Kind
    layout: Layout
    convention: str = ""
    means: str = ""
    track: str = ""
    fps: float = Field(default=24.0, gt=0, le=1000)
    pixel_aspect: float = Field(default=1.0, ge=0.1, le=10)
    reference: int = 0
    anchor: tuple[float, float] | None = None
    relative: bool = False
    home: dict[str, list[float]] = {}
    frames: dict[int, list[float]] = {}
    tracks: dict[str, dict[int, list[float]]] = {}


def written(body: MotionFile, suffix: str) -> str:
    """The text of a motion file, by its suffix: .json, .csv, or .txt for points.

    Raises
    ------
    DeliverError
        For another suffix.
    """
    means = MEANS[body.kind] + (f"; relative to where it is on frame {body.reference}, which stands in home" if body.relative else "")
    body = body.model_copy(update={"convention": body.layout.words(), "means": means})
    if body.relative:
        body = _shifted(body, _homes(body), -1)
    if suffix == ".json":
        return _json(body)
    if suffix == ".csv":
        return _csv(body)
    if suffix == ".txt" and body.kind == "points":
        return _table(body)
    raise DeliverError(f"'{suffix}' is not a file of {body.kind}; end the name with .json or .csv" + (", or .txt" if body.kind == "points" else "") + ".")


def _homes(body: MotionFile) -> dict[str, list[float]]:
    """What a relative file's numbers are relative to."""
    if body.kind not in CAN_BE_RELATIVE:
        raise DeliverError(f"{body.kind.capitalize()} are relative to the reference frame by what they are; leave that choice out.")
    if body.kind == "points":
        lost = [n for n, rows in body.tracks.items() if body.reference not in rows]
        if lost:
            raise DeliverError(f"Point {lost[0]} is not on the reference frame {body.reference}, so that nothing can be relative to it; choose another.")
        return {n: [*rows[body.reference][:2], 0.0] for n, rows in body.tracks.items()}
    if body.kind == "transforms" and body.anchor is not None:
        return {"": [*body.anchor, *[0.0] * (len(COLUMNS["transforms"]) - 2)]}
    if body.reference not in body.frames:
        raise DeliverError(f"There is no answer on the reference frame {body.reference}, so that nothing can be relative to it; choose another.")
    return {"": list(body.frames[body.reference])}


def _shifted(body: MotionFile, home: dict[str, list[float]], sign: int) -> MotionFile:
    """The same motion with what is at home taken away (-1) or added again (1)."""
    def moved(rows: dict[int, list[float]], by: list[float]) -> dict[int, list[float]]:
        return {f: [float(a + sign * b) for a, b in zip(row, by, strict=True)] for f, row in rows.items()}

    return body.model_copy(update={"frames": moved(body.frames, home.get("", [])) if body.frames else {}, "home": home if sign < 0 else {},
                                   "tracks": {n: moved(rows, home[n]) for n, rows in body.tracks.items()}})


def write(path: Path, body: MotionFile) -> None:
    """Write a motion file; see `written`. Where the name has {point} in it, each point gets a file of its own."""
    if "{point}" not in path.name:
        write_text(path, written(body, path.suffix.lower()))
        return
    if body.kind != "points":
        raise DeliverError(f"{path.name} wants a file for each point, and {body.kind} have none; leave {{point}} out of the name.")
    for name, rows in body.tracks.items():
        safe = re.sub(r"[^\w.-]+", "_", name)
        write_text(path.with_name(path.name.replace("{point}", safe)), written(body.model_copy(update={"tracks": {name: rows}}), path.suffix.lower()))


def read(path: Path, layout: Layout | None = None, columns: Sequence[str] = ()) -> MotionFile:
    """Read a motion file.

    Parameters
    ----------
    layout : of a table that says none of its own.
    columns : of a table of corners or matrices with names of its own: which of its columns are the frame and, in order, those of `COLUMNS`. Its cells
        may be parted by commas, semicolons or tabs.

    Raises
    ------
    DeliverError
        When it cannot be read, or is something else.
    """
    text = read_text(path)
    try:
        if path.suffix.lower() == ".json":
            body = json.loads(text)
            if not isinstance(body, dict) or body.get("format") != FORMAT:
                raise DeliverError(f"{path.name} is no motion that Wertis wrote; choose another file.")
            if body.get("version") != VERSION:
                raise DeliverError(f"{path.name} is of version {body.get('version')}; this Wertis reads version {VERSION}.")
            body.pop("columns", None)  # for whoever reads it without the documentation
            found = MotionFile.model_validate(body)
        elif path.suffix.lower() == ".txt":
            found = _from_table(text, path.name, layout)
        else:
            found = _from_csv(_chosen(text, path.name, columns) if columns else text, path.name, layout)
    except (ValidationError, ValueError, RecursionError, TypeError) as why:
        raise DeliverError(f"{path.name} is damaged ({str(why).splitlines()[0]}); export it again.") from why
    found = _checked(found, path.name)
    if not found.relative:
        return found
    names = list(found.tracks) or [""]
    if any(len(found.home.get(n, ())) != len(COLUMNS[found.kind]) or not np.isfinite(found.home[n]).all() for n in names):
        raise DeliverError(f"{path.name} is relative and does not say to what; export it again.")
    return _shifted(found, found.home, 1)


def _checked(body: MotionFile, name: str) -> MotionFile:
    count = len(COLUMNS[body.kind])
    for rows in (body.frames, *body.tracks.values()):
        for frame, row in rows.items():
            if len(row) != count or not np.isfinite(row).all():
                raise DeliverError(f"{name} has no {count} sound numbers on frame {frame}; export it again.")
    return body


def _json(body: MotionFile) -> str:
    head = body.model_dump(mode="json", exclude={"frames", "tracks", *(() if body.relative else ("relative", "home"))})
    head["columns"] = list(COLUMNS[body.kind])
    text = json.dumps(head, indent=1, ensure_ascii=False)[:-2]

    def table(rows: dict[int, list[float]], indent: str) -> str:
        digits = _DIGITS + 4 if body.kind == "matrices" or body.layout.units == "unit" else _DIGITS
        return ",\n".join(f'{indent}"{f}": {json.dumps([round(v, digits) for v in row])}' for f, row in sorted(rows.items()))

    if body.tracks:
        parts = ",\n".join(f'  {json.dumps(name)}: {{\n{table(rows, "   ")}\n  }}' for name, rows in body.tracks.items())
        return text + f',\n "tracks": {{\n{parts}\n }}\n}}\n'
    return text + f',\n "frames": {{\n{table(body.frames, "  ")}\n }}\n}}\n'


def _csv(body: MotionFile) -> str:
    out = io.StringIO()
    for remark in (f"Wertis {body.kind} of {body.track}, {body.fps:g} fps", body.convention, body.means, f"reference frame {body.reference}",
                   f"layout {body.layout.model_dump_json()}"):
        out.write(f"# {remark}\n")
    if body.relative:
        out.write(f"# home {json.dumps(body.home)}\n")
    if body.anchor is not None:
        out.write(f"# anchor {body.anchor[0]:.{_DIGITS}f},{body.anchor[1]:.{_DIGITS}f}\n")
    if body.pixel_aspect != 1:
        out.write(f"# a pixel is {body.pixel_aspect:g} times as wide as high\n")
    rows = csv.writer(out, lineterminator="\n")
    digits = _DIGITS + 4 if body.kind == "matrices" or body.layout.units == "unit" else _DIGITS
    if body.tracks:
        rows.writerow(["frame", "id", *COLUMNS[body.kind]])
        for name, track in body.tracks.items():
            rows.writerows([f, name, *(f"{v:.{digits}f}" for v in row)] for f, row in sorted(track.items()))
    else:
        rows.writerow(["frame", *COLUMNS[body.kind]])
        rows.writerows([f, *(f"{v:.{digits}f}" for v in row)] for f, row in sorted(body.frames.items()))
    return out.getvalue()


def _table(body: MotionFile) -> str:
    """A plain table for each point, one after another: frame, x, y, confidence."""
    out = [f"# {body.convention}", "# frame x y confidence"]
    for name, track in body.tracks.items():
        out.append(f"# point {name}")
        if body.relative:
            x, y, _ = body.home[name]
            out.append(f"# relative to {x:.{_DIGITS}f} {y:.{_DIGITS}f}, where it is on frame {body.reference}")
        out += [f"{f} {row[0]:.{_DIGITS}f} {row[1]:.{_DIGITS}f} {row[2]:.4f}" for f, row in sorted(track.items())]
        out.append("")
    return "\n".join(out) + "\n"


def _from_table(text: str, name: str, layout: Layout | None) -> MotionFile:
    """Plain tables of points; the layout stands in no such file, and is the caller's."""
    if layout is None:
        raise DeliverError(f"{name} does not say in what coordinates it is; give the picture's size and the layout.")
    tracks: dict[str, dict[int, list[float]]] = {}
    home: dict[str, list[float]] = {}
    point = "1"
    for number, line in enumerate(text.splitlines(), 1):
        if line.startswith("# point "):
            point = line[8:].strip() or point
        elif line.startswith("# relative to "):
            x, y = (float(v) for v in line[14:].split(",")[0].split())
            home[point] = [x, y, 0.0]
        elif line.strip() and not line.startswith("#"):
            cells = line.replace(",", " ").replace(";", " ").split()
            try:
                tracks.setdefault(point, {})[int(cells[0])] = [float(cells[1]), float(cells[2]), float(cells[3]) if len(cells) > 3 else 1.0]
            except (ValueError, IndexError):
                raise DeliverError(f"Line {number} of {name} is not a frame number and x, y and confidence; mend or remove it.") from None
    if not tracks:
        raise DeliverError(f"{name} is empty; export it again.")
    return MotionFile(kind="points", layout=layout, tracks=tracks, reference=min(f for t in tracks.values() for f in t), relative=bool(home), home=home)


def foreign_table(path: Path, most: int = 6) -> list[list[str]]:
    """The names of the columns and the first rows of a table whose columns are not known here, for a person to say what they are; else nothing.

    Raises
    ------
    DeliverError
        When it cannot be read.
    """
    if path.suffix.lower() == ".json":
        return []
    rows = _cells("\n".join(read_text(path).splitlines()[:most + 20]))
    known = {("frame", *c) for c in COLUMNS.values()} | {("frame", "id", *c) for c in COLUMNS.values()}
    return [] if not rows or tuple(rows[0]) in known or len(rows[0]) < 9 else rows[:most + 1]


def _cells(text: str) -> list[list[str]]:
    """The cells of a table parted by commas, semicolons or tabs, without remarks."""
    lines = [line for line in text.splitlines() if line.strip() and not line.startswith("#")]
    parted = max(",;\t", key=lines[0].count) if lines else ","
    return [[cell.strip() for cell in row] for row in csv.reader(lines, delimiter=parted)]


def _chosen(text: str, name: str, columns: Sequence[str]) -> str:
    """A table with columns of its own as one with ours; remarks of the table are kept."""
    kind = next((k for k in ("corners", "matrices") if len(COLUMNS[k]) == len(columns) - 1), None)
    if kind is None:
        raise DeliverError(f"{len(columns)} columns are named; name the frame's and eight of corners (x1,y1 to x4,y4), or nine of a matrix, row by row.")
    remarks = [line for line in text.splitlines() if line.startswith("#")]
    rows = _cells(text)
    if not rows:
        raise DeliverError(f"{name} is empty; export it again.")
    missing = [c for c in columns if c not in rows[0]]
    if missing:
        raise DeliverError(f"{name} has no column {missing[0]}; it has {', '.join(rows[0])}.")
    wanted = [rows[0].index(c) for c in columns]
    out = io.StringIO()
    written_rows = csv.writer(out, lineterminator="\n")
    written_rows.writerow(["frame", *COLUMNS[kind]])
    for number, row in enumerate(rows[1:], 2):
        if len(row) <= max(wanted):
            raise DeliverError(f"Row {number} of {name} has {len(row)} cells, and column {rows[0][max(wanted)]} is number {max(wanted) + 1}; "
                               "mend or remove it.")
        written_rows.writerow([row[k] for k in wanted])
    return "\n".join([*remarks, out.getvalue()])


def _from_csv(text: str, name: str, layout: Layout | None) -> MotionFile:
    said: dict[str, Any] = {}
    inverse, lines = False, []
    for number, line in enumerate(text.splitlines(), 1):
        if line.startswith("#"):
            words = line[1:].strip()
            if words.startswith("Wertis ") and words.endswith(" fps"):
                said["fps"] = float(words.rsplit(", ", 1)[-1][:-4])
            if words.startswith("Wertis inverse corners of "):
                inverse = True
            elif words.startswith("layout "):
                said["layout"] = Layout.model_validate_json(words[7:])
            elif words.startswith("reference frame "):
                said["reference"] = int(words[16:])
            elif words.startswith("home "):
                said |= {"relative": True, "home": json.loads(words[5:])}
            elif words.startswith("anchor "):
                said["anchor"] = tuple(float(v) for v in words[7:].split(","))
        elif line.strip():
            lines.append((number, line))
    if not lines:
        raise DeliverError(f"{name} is empty; export it again.")
    header = [c.strip() for c in lines[0][1].split(",")]
    points = header[:2] == ["frame", "id"]
    columns = tuple(header[2 if points else 1:])
    kind = next((k for k, c in COLUMNS.items() if c == columns), None)
    if header[:1] != ["frame"] or kind is None:
        raise DeliverError(f"{name} is no table of motion that is known; its first line must be frame and one of: "
                           + "; ".join(",".join(c) for c in COLUMNS.values()) + ".")
    if inverse and kind == "corners":  # their columns have the same names
        kind = "inverse corners"
    own = said.get("layout") or layout
    if own is None:
        raise DeliverError(f"{name} does not say in what coordinates it is; give the picture's size and the layout.")
    frames: dict[int, list[float]] = {}
    tracks: dict[str, dict[int, list[float]]] = {}
    for number, line in lines[1:]:
        cells = [c.strip() for c in line.split(",")]
        try:
            row = [float(c) for c in cells[2 if points else 1:]]
            (tracks.setdefault(cells[1], {}) if points else frames)[int(cells[0])] = row
        except (ValueError, IndexError):
            raise DeliverError(f"Line {number} of {name} is not a frame number and {len(columns)} numbers; mend or remove it.") from None
    return MotionFile(kind=kind, layout=own, frames=frames, tracks=tracks, **{k: v for k, v in said.items() if k != "layout"})  # type: ignore[arg-type]
