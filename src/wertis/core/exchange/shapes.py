"""Outlines over frames as JSON, all of them in one file, and as SVG, one file a frame; read back as points.

SVG is the W3C's Scalable Vector Graphics 2 (2018): one `path` for each shape, of cubic Bezier curves (section 9.3), in user units that are pixels, the
first pixel's centre at 0.5, 0.5. What SVG does not know stands in attributes that begin with `data-`.
"""

import json
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from xml.etree import ElementTree

import numpy as np

from wertis.core.errors import DeliverError
from wertis.core.files import numbered, read_text, write_text
from wertis.core.matte.outline import bezier

FORMAT, VERSION = "wertis shapes", 1
_CONVENTION = "pixels, origin top left, x right, y down, first pixel's centre at 0.5,0.5; points in each frame's own picture"
_SVG = "{http://www.w3.org/2000/svg}"
_NUMBER = re.compile(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?")
_MOST_POINTS = 20_000


@dataclass(frozen=True)
class Outlines:
    """A shape over frames.

    Attributes
    ----------
    name : its name.
    combine : add, subtract, intersect or exclude.
    points : frame to (N, 2) in that frame's picture.
    roundness, inner, outer : (N,) of the points; see `core.shot.mattes`.
    """

    name: str
    combine: str
    points: Mapping[int, np.ndarray]
    roundness: np.ndarray
    inner: np.ndarray
    outer: np.ndarray


def write_json(path: Path, size: tuple[int, int], shapes: Sequence[Outlines]) -> None:
    """Write all frames of shapes in one file.

    Raises
    ------
    DeliverError
        When it cannot be written.
    """
    data = {"format": FORMAT, "version": VERSION, "convention": _CONVENTION, "size": list(size),
            "shapes": [{"name": s.name, "combine": s.combine, "roundness": s.roundness.tolist(), "inner": s.inner.tolist(), "outer": s.outer.tolist(),
                        "frames": {str(f): np.round(p, 4).tolist() for f, p in sorted(s.points.items())}} for s in shapes]}
    write_text(path, json.dumps(data, indent=1))


def read_json(path: Path) -> list[Outlines]:
    """Read what `write_json` wrote.

    Raises
    ------
    DeliverError
        When it cannot be read, or is not such a file.
    """
    try:
        data = json.loads(read_text(path))
        if data["format"] != FORMAT or data["version"] != VERSION:
            raise DeliverError(f"{path.name} does not hold shapes of a version that can be read here.")
        return [_checked(path, Outlines(str(s["name"]), str(s["combine"]), {int(f): np.array(p, float) for f, p in s["frames"].items()},
                                        *(np.array(s[k], float) for k in ("roundness", "inner", "outer")))) for s in data["shapes"]]
    except (KeyError, TypeError, ValueError, AttributeError) as why:
        raise DeliverError(f"{path.name} does not hold shapes as docs/formats.md says ({why}).") from why


def write_svg(pattern: Path, size: tuple[int, int], shapes: Sequence[Outlines]) -> int:
    """Write a file for each frame (`####` stands for its number); how many.

    Raises
    ------
    DeliverError
        When the name has no place for the frame's number, or a file cannot be written.
    """
    frames = sorted({f for s in shapes for f in s.points})
    for frame in frames:
        path = numbered(pattern, frame)
        if path is None:
            raise DeliverError(f"'{pattern.name}' has no place for the frame number; write it as ####, such as shapes.####.svg.")
        ElementTree.register_namespace("", _SVG[1:-1])
        root = ElementTree.Element(f"{_SVG}svg", {"width": str(size[0]), "height": str(size[1]), "viewBox": f"0 0 {size[0]} {size[1]}",
                                                  "data-frame": str(frame)})
        for shape in shapes:
            if frame in shape.points:
                root.append(_path(shape, shape.points[frame]))
        ElementTree.indent(root)
        write_text(path, ElementTree.tostring(root, "unicode", xml_declaration=True) + "\n")
    return len(frames)


def read_svg(path: Path) -> tuple[int, list[Outlines]]:
    """The frame and the shapes of a file that `write_svg` wrote, or of any SVG whose paths are closed and of absolute M and C commands alone.

    Raises
    ------
    DeliverError
        When it cannot be read, or holds something else.
    """
    text = read_text(path)
    if "<!DOCTYPE" in text or "<!ENTITY" in text:
        raise DeliverError(f"{path.name} declares entities, which are not read; save it as plain SVG.")
    try:
        root = ElementTree.fromstring(text)
        frame = int(root.get("data-frame", "0"))
        found = [_from_path(path, e, frame) for e in root.iter(f"{_SVG}path")]
    except (ElementTree.ParseError, ValueError) as why:
        raise DeliverError(f"{path.name} is not an SVG file that can be read ({why}).") from why
    if not found:
        raise DeliverError(f"{path.name} has no path in it.")
    return frame, found


def _path(shape: Outlines, points: np.ndarray) -> ElementTree.Element:
    curves = bezier(points, shape.roundness)
    words = [f"M {curves[0, 0, 0]:.4f} {curves[0, 0, 1]:.4f}"] + ["C " + " ".join(f"{x:.4f} {y:.4f}" for x, y in c[1:]) for c in curves] + ["Z"]
    numbers = {f"data-{k}": " ".join(f"{v:g}" for v in getattr(shape, k)) for k in ("roundness", "inner", "outer")}
    return ElementTree.Element(f"{_SVG}path", {"d": " ".join(words), "fill": "white" if shape.combine == "add" else "black", "data-name": shape.name,
                                               "data-combine": shape.combine, **numbers})


def _from_path(path: Path, element: ElementTree.Element, frame: int) -> Outlines:
    d = element.get("d", "")
    commands = re.findall(r"([A-DF-Za-df-z])([^A-DF-Za-df-z]*)", d)  # e belongs to numbers
    letters = "".join(c for c, _ in commands)
    if not re.fullmatch(r"MC+Z?", letters):
        raise DeliverError(f"{path.name} has a path of other commands than absolute M, C and Z; write its curves as those.")
    values = [np.array([float(v) for v in _NUMBER.findall(rest)]).reshape(-1, 2) for c, rest in commands if c != "Z"]
    ends = np.concatenate([values[0][:1], *(v.reshape(-1, 3, 2)[:, 2] for v in values[1:])])
    handles = np.concatenate([v.reshape(-1, 3, 2)[:, 0] for v in values[1:]])
    points = ends[:-1] if np.allclose(ends[0], ends[-1], atol=1e-3) else ends
    n = len(points)

    def numbers(name: str, default: np.ndarray) -> np.ndarray:
        given = element.get(f"data-{name}")
        return np.array([float(v) for v in given.split()]) if given else default

    corner = np.linalg.norm(handles[:n] - points[:len(handles)], axis=1) < 1e-3 if len(handles) >= n else np.zeros(n, bool)
    return _checked(path, Outlines(element.get("data-name", "Shape"), element.get("data-combine", "add"), {frame: points},
                                   numbers("roundness", np.where(corner, 0.0, 1.0)), numbers("inner", np.zeros(n)), numbers("outer", np.zeros(n))))


def _checked(path: Path, shape: Outlines) -> Outlines:
    n = len(shape.roundness)
    sound = all(p.shape == (n, 2) and np.isfinite(p).all() for p in shape.points.values()) and len(shape.inner) == len(shape.outer) == n
    if not sound or not shape.points or not 3 <= n <= _MOST_POINTS or shape.combine not in ("add", "subtract", "intersect", "exclude"):
        raise DeliverError(f"{path.name} holds a shape whose points do not fit together; write it again.")
    return shape
