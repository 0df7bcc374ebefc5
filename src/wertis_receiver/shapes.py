"""Reading shapes on a frame, and filling them: JSON, CSV and SVG. Soft edges are not drawn."""

import csv
import json
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from xml.etree import ElementTree

import cv2
import numpy as np

from wertis_receiver.read import Convention, Unreadable, said_convention

_STEPS = 48  # in which a curve is drawn
_SUB = 8  # binary digits of a pixel's parts, as OpenCV takes them
FINER = 8  # times in each direction that a pixel is sampled


@dataclass
class Shape:
    """How it joins the others (add, subtract, intersect, exclude), and its curves (N, 4, 2) in pixels."""

    combine: str
    curves: np.ndarray


def read_shapes(path: Path, frame: int, size: tuple[int, int], believed: Callable[[Convention], Convention]) -> list[Shape]:
    """The filled shapes of a file on a frame, in pixels of a plate of a size; `believed` is how a file's convention is taken."""
    try:
        suffix = path.suffix.lower()
        text = path.read_text("utf-8")
        found = _json(text, frame) if suffix == ".json" else _csv(text, frame) if suffix == ".csv" else _svg(text, frame)
        said = believed(_said(text, suffix, size))
        found = [Shape(s.combine, said.pixels(s.curves) * (np.array(size) / said.size)) for s in found]
    except (OSError, ValueError, KeyError, TypeError, IndexError, ElementTree.ParseError) as why:
        raise Unreadable(f"{path.name}: {why!r}") from why
    if not found:
        raise Unreadable(f"{path.name} has no filled shape on frame {frame}")
    return found


def _said(text: str, suffix: str, size: tuple[int, int]) -> Convention:
    """The coordinates that a file says it is in; those of the plate where it says none."""
    if suffix == ".json":
        layout = json.loads(text).get("layout")
    elif suffix == ".csv":
        layout = next((json.loads(line[9:]) for line in text.splitlines()[:8] if line.startswith("# layout ")), None)
    else:
        layout = json.loads(ElementTree.fromstring(text).get("data-layout", "null"))
    return said_convention(layout) if layout else Convention(size)


def _curves(points: np.ndarray, ends: np.ndarray | None, roundness: np.ndarray) -> np.ndarray:
    """Closed cubic curves through points: by the ends of their handles, or by their roundness as docs/formats.md has it."""
    if ends is None:
        before, after = np.roll(points, 1, 0), np.roll(points, -1, 0)
        d0, d1 = (np.sqrt(np.linalg.norm(a, axis=1))[:, None] for a in (points - before, after - points))
        tangent = (points - before) / d0 - (after - before) / (d0 + d1) + (after - points) / d1
        share = roundness[:, None] / 3
        ends = np.stack([points - tangent * d0 * share, points + tangent * d1 * share], axis=1)
    following = np.roll(points, -1, 0)
    return np.stack([points, ends[:, 1], np.roll(ends[:, 0], -1, 0), following], axis=1)


def _json(text: str, frame: int) -> list[Shape]:
    out = []
    for s in json.loads(text)["shapes"]:
        if s.get("closed", True) and str(frame) in s["frames"]:
            ends = s.get("handles", {}).get(str(frame))
            out.append(Shape(s["combine"], _curves(np.array(s["frames"][str(frame)], float), np.array(ends, float) if ends else None,
                                                   np.array(s["roundness"], float))))
    return out


def _csv(text: str, frame: int) -> list[Shape]:
    rows: dict[str, list[dict[str, str]]] = {}
    for row in csv.DictReader(line for line in text.splitlines() if not line.startswith("#")):
        if int(row["frame"]) == frame and row["closed"] == "1":
            rows.setdefault(row["shape"], []).append(row)
    out = []
    for of in rows.values():
        points = np.array([[float(r["x"]), float(r["y"])] for r in of])
        named = (("before_x", "before_y"), ("after_x", "after_y"))
        ends = np.array([[[float(r[a]), float(r[b])] for a, b in named] for r in of]) if of[0]["before_x"] else None
        out.append(Shape(of[0]["combine"], _curves(points, ends, np.array([float(r["roundness"]) for r in of]))))
    return out


def _svg(text: str, frame: int) -> list[Shape]:
    """A frame's own file, or one that is animated."""
    root = ElementTree.fromstring(text)
    out = []
    for path in root.iter("{http://www.w3.org/2000/svg}path"):
        data = path.get("d", "")
        for moving in path.iter("{http://www.w3.org/2000/svg}animate"):
            if moving.get("attributeName") == "d":
                frames = [int(f) for f in moving.get("data-frames", "").split()]
                if frame not in frames:
                    data = ""
                else:  # a value more at the beginning stands for frames before the first
                    data = moving.get("values", "").split(";")[-len(frames):][frames.index(frame)]
        if data and path.get("data-closed") == "1":
            out.append(Shape(path.get("data-combine", "add"), _path(data)))
    return out


def _path(data: str) -> np.ndarray:
    """Absolute M, C and Z."""
    numbers = [float(w) for w in data.split() if w not in ("M", "C", "Z")]
    places = np.array(numbers).reshape(-1, 2)
    return np.array([places[k:k + 4] for k in range(0, len(places) - 1, 3)])


def filled(shapes: list[Shape], size: tuple[int, int]) -> np.ndarray:
    """(h, w) 0..1 how much of each pixel the shapes cover together, one after the other."""
    w, h = size
    total = np.zeros((h * FINER, w * FINER), bool)
    t = (np.arange(_STEPS) / _STEPS)[:, None]
    for shape in shapes:
        a, b, c, d = (shape.curves[:, None, k] for k in range(4))
        outline = ((1 - t) ** 3 * a + 3 * (1 - t) ** 2 * t * b + 3 * (1 - t) * t ** 2 * c + t ** 3 * d).reshape(-1, 2)
        own = np.zeros(total.shape, np.uint8)
        cv2.fillPoly(own, [np.round((outline * FINER - 0.5) * 2 ** _SUB).astype(np.int32)], 1, cv2.LINE_8, _SUB)
        inside = own > 0
        total = {"add": total | inside, "subtract": total & ~inside, "intersect": total & inside, "exclude": total ^ inside}[shape.combine]
    return total.reshape(h, FINER, w, FINER).mean((1, 3))
