"""Reading the exchanged files: corners, matrices, points and coordinate maps."""

import csv
import json
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np


class Unreadable(Exception):
    """A file cannot be used; the message says why."""


@dataclass
class Convention:
    """How the numbers of a file are meant.

    Attributes
    ----------
    size : width, height of the picture that they are of.
    y_up, zero, unit : y grows upward; the first pixel's centre is at 0; shares of the picture rather than pixels.
    """

    size: tuple[int, int]
    y_up: bool = False
    zero: bool = False
    unit: bool = False

    def pixels(self, points: np.ndarray) -> np.ndarray:
        """Points (..., 2) in pixels from the picture's upper left corner, the first pixel reaching from 0 to 1."""
        p = np.array(points, float)
        w, h = self.size
        if self.unit:
            p = p * [w, h]
        elif self.zero:
            p = p + 0.5
        if self.y_up:
            p[..., 1] = h - p[..., 1]
        return p


@dataclass
class Motion:
    """What a file holds: frame to four corners (4, 2), or to a matrix (3, 3), or a point's name to frame to a place (2,), as they stand in the file."""

    kind: str
    convention: Convention
    reference: int = 0
    corners: dict[int, np.ndarray] = field(default_factory=dict)
    matrices: dict[int, np.ndarray] = field(default_factory=dict)
    points: dict[str, dict[int, np.ndarray]] = field(default_factory=dict)


def read(path: Path, size: tuple[int, int]) -> Motion:
    """A motion file, .json or .csv; `size` is the plate's, where the file says none."""
    try:
        text = path.read_text("utf-8")
    except (OSError, UnicodeDecodeError) as why:
        raise Unreadable(f"{path.name}: {why}") from why
    try:
        return _from_json(json.loads(text), size) if path.suffix.lower() == ".json" else _from_table(text, size)
    except (ValueError, KeyError, TypeError, IndexError) as why:
        raise Unreadable(f"{path.name}: {why!r}") from why


def _from_json(body: dict, size: tuple[int, int]) -> Motion:
    if body.get("format") == "wertis-corner-pin":
        convention = Convention((body["width"], body["height"]))
        return Motion("corners", convention, int(body["reference"]), {int(f): np.array(c, float) for f, c in body["corners"].items()})
    if body.get("format") != "wertis-motion":
        raise ValueError("neither a corner pin nor a motion")
    convention, home = said_convention(body["layout"]), body.get("home") or {}
    return _made(body["kind"], convention, int(body["reference"]), {int(f): _added(r, home.get("")) for f, r in body.get("frames", {}).items()},
                 {n: {int(f): _added(r, home.get(n)) for f, r in t.items()} for n, t in body.get("tracks", {}).items()})


def _added(row: list[float], home: list[float] | None) -> list[float]:
    """A row of a file whose numbers are relative, with what they are relative to."""
    return row if home is None else [a + b for a, b in zip(row, home, strict=True)]


def _from_table(text: str, size: tuple[int, int]) -> Motion:
    convention, reference, rows = Convention(size), 0, []
    home: dict[str, list[float]] = {}
    for line in text.splitlines():
        if line.startswith("# layout "):
            convention = said_convention(json.loads(line[9:]))
        elif line.startswith("# home "):
            home = json.loads(line[7:])
        elif line.startswith("# reference frame ") or line.startswith("# placed on frame "):
            reference = int(line[18:])
        elif line.strip() and not line.startswith("#"):
            rows.append(line)
    table = list(csv.reader(rows))
    header = [c.strip() for c in table[0]]
    kind = {"x1": "corners", "m11": "matrices", "id": "points", "x": "transforms"}[header[1]]
    if kind == "points":
        tracks: dict[str, dict[int, list[float]]] = {}
        for row in table[1:]:
            tracks.setdefault(row[1], {})[int(row[0])] = _added([float(v) for v in row[2:]], home.get(row[1]))
        return _made(kind, convention, reference, {}, tracks)
    whole = (r for r in table[1:] if all(c.strip() for c in r))
    return _made(kind, convention, reference, {int(r[0]): _added([float(v) for v in r[1:]], home.get("")) for r in whole}, {})


def _made(kind: str, convention: Convention, reference: int, frames: dict[int, list[float]], tracks: dict[str, dict[int, list[float]]]) -> Motion:
    motion = Motion(kind, convention, reference)
    if kind == "corners":
        motion.corners = {f: np.array(r, float).reshape(4, 2) for f, r in frames.items()}
    elif kind == "matrices":
        motion.matrices = {f: np.array(r, float).reshape(3, 3) for f, r in frames.items()}
    elif kind == "points":
        motion.points = {n: {f: np.array(r[:2], float) for f, r in t.items()} for n, t in tracks.items()}
    else:
        raise ValueError(f"{kind} carry no picture")
    return motion


def said_convention(layout: dict) -> Convention:
    """What a file's layout says."""
    w, h = layout.get("receiver") or layout["size"]
    return Convention((int(w), int(h)), bool(layout["y_up"]), layout["centre"] == "zero", layout["units"] == "unit")
