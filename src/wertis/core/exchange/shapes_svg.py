"""Outlines as SVG: a file for each frame, or one that is animated; and shapes read from SVG files of any origin.

SVG is the W3C's Scalable Vector Graphics 2 (2018): one `path` for each shape, of cubic Bezier curves (section 9.3), in user units that are pixels, the
first pixel's centre at 0.5, 0.5. The animated file changes the paths' `d` frame by frame (SVG Animations Level 2, from SMIL). What SVG does not know
stands in attributes that begin with `data-`. Files from elsewhere are read by svgelements: lines, quadratic curves and arcs become cubic curves.
"""

import io
from collections.abc import Sequence
from pathlib import Path
from xml.etree import ElementTree

import numpy as np

from wertis.core.errors import DeliverError
from wertis.core.exchange.laid_out import outlines_back, outlines_in
from wertis.core.exchange.layout import Layout
from wertis.core.exchange.outlines import MOST_POINTS, Outlines, checked
from wertis.core.files import numbered, read_text, write_text

_SVG = "{http://www.w3.org/2000/svg}"
_MOST_SHAPES = 2000
_SAME = 1e-3  # pixels between a handle's end and its point below which it is none


def write(pattern: Path, layout: Layout, shapes: Sequence[Outlines], fps: float = 24.0) -> int:
    """Write a file for each frame where the name has a place for its number (`####`), else one that is animated; how many frames.

    Parameters
    ----------
    layout : whose size and frame numbers they have; y goes down, as SVG has it.
    shapes : on the plate.

    Raises
    ------
    DeliverError
        When a file cannot be written.
    """
    layout = layout.upright
    shapes = [outlines_in(s, layout) for s in shapes]
    frames = sorted({f for s in shapes for f in s.points})
    if numbered(pattern, 1) is None:
        root = _root(layout, {"data-frames": f"{frames[0]} {frames[-1]}"})
        for shape in shapes:
            root.append(_animated(shape, frames, fps))
        _write(pattern, root)
        return len(frames)
    for frame in frames:
        path = numbered(pattern, frame)
        assert path is not None
        root = _root(layout, {"data-frame": str(frame)})
        for shape in shapes:
            if frame in shape.points:
                root.append(_path(shape, frame))
        _write(path, root)
    return len(frames)


def read(path: Path) -> list[Outlines]:
    """The shapes of an SVG file: those that `write` wrote as they are on the plate, of any other its paths and basic shapes, with handles, on frame 0.

    Raises
    ------
    DeliverError
        When it cannot be read, or has no shape in it.
    """
    text = read_text(path)
    if "<!DOCTYPE" in text or "<!ENTITY" in text:
        raise DeliverError(f"{path.name} declares entities, which are not read; save it as plain SVG.")
    try:
        root = ElementTree.fromstring(text)
        own = [e for e in root.iter(f"{_SVG}path") if e.get("data-combine")]
        found = [s for e in own for s in _own(path, e, int(root.get("data-frame", "0")))] if own else _foreign(path, text)
        said = root.get("data-layout")
        found = [outlines_back(s, Layout.model_validate_json(said)) for s in found] if said else found
    except (ElementTree.ParseError, ValueError, ArithmeticError, IndexError, KeyError, AttributeError, TypeError, RecursionError) as why:
        raise DeliverError(f"{path.name} is not an SVG file that can be read ({why}).") from why
    if not found:
        raise DeliverError(f"{path.name} has no closed path in it.")
    return found


# -- writing ------------------------------------------------------------------------------------------------------


def _root(layout: Layout, more: dict[str, str]) -> ElementTree.Element:
    w, h = layout.picture
    ElementTree.register_namespace("", _SVG[1:-1])
    return ElementTree.Element(f"{_SVG}svg", {"width": str(w), "height": str(h), "viewBox": f"0 0 {w} {h}",
                                                 "data-layout": layout.model_dump_json(), **more})


def _write(path: Path, root: ElementTree.Element) -> None:
    ElementTree.indent(root)
    write_text(path, ElementTree.tostring(root, "unicode", xml_declaration=True) + "\n")


def path_data(curves: np.ndarray, closed: bool) -> str:
    """The `d` of a path of cubic curves (N, 4, 2)."""
    words = [f"M {curves[0, 0, 0]:.4f} {curves[0, 0, 1]:.4f}"] + ["C " + " ".join(f"{x:.4f} {y:.4f}" for x, y in c[1:]) for c in curves]
    return " ".join([*words, "Z"] if closed else words)


def _attributes(shape: Outlines) -> dict[str, str]:
    white = "white" if shape.combine == "add" else "black"
    numbers = {f"data-{k}": " ".join(f"{v:g}" for v in getattr(shape, k)) for k in ("roundness", "inner", "outer", "widths") if len(getattr(shape, k))}
    if len(shape.widths):
        drawn = {"fill": "none", "stroke": white, "stroke-width": f"{shape.widths.mean():g}"}
    else:
        drawn = {"fill": white}
    return {**drawn, "data-name": shape.name, "data-combine": shape.combine, "data-closed": str(int(shape.closed)),
            "data-handles": str(int(bool(shape.handles))), **numbers}


def _path(shape: Outlines, frame: int) -> ElementTree.Element:
    return ElementTree.Element(f"{_SVG}path", {"d": path_data(shape.curves(frame), shape.closed), **_attributes(shape)})


def _animated(shape: Outlines, frames: list[int], fps: float) -> ElementTree.Element:
    """A path that is as it should be on every frame; where it has no place it is not shown."""
    element = _path(shape, min(shape.points))
    first, count = frames[0], frames[-1] - frames[0] + 1
    own = sorted(shape.points)
    times = ";".join(f"{(f - first) / count:.6f}" for f in own)
    timing = {"begin": "0s", "dur": f"{count / fps:.6f}s", "calcMode": "discrete", "repeatCount": "indefinite"}
    data = ";".join(path_data(shape.curves(f), shape.closed) for f in own)
    if own[0] > first:  # the values of an animation begin at its beginning
        times, data = f"0;{times}", f"{path_data(shape.curves(own[0]), shape.closed)};{data}"
    element.append(ElementTree.Element(f"{_SVG}animate", {"attributeName": "d", "values": data, "keyTimes": times, **timing,
                                                          "data-frames": " ".join(map(str, own))}))
    shown = ["visible" if first + k in shape.points else "hidden" for k in range(count)]
    if "hidden" in shown:
        element.append(ElementTree.Element(f"{_SVG}animate", {"attributeName": "visibility", "values": ";".join(shown), **timing,
                                                              "keyTimes": ";".join(f"{k / count:.6f}" for k in range(count))}))
    return element


# -- reading ------------------------------------------------------------------------------------------------------


def _own(path: Path, element: ElementTree.Element, frame: int) -> list[Outlines]:
    """A path that `write` wrote."""
    moving = next((a for a in element.iter(f"{_SVG}animate") if a.get("attributeName") == "d"), None)
    if moving is not None:
        frames = [int(v) for v in moving.get("data-frames", "").split()]
        data = moving.get("values", "").split(";")[-len(frames):]
    else:
        frames, data = [frame], [element.get("d", "")]
    controls = {f: _controls(d)[0][0] for f, d in zip(frames, data, strict=True)}
    n, closed = len(next(iter(controls.values()))), element.get("data-closed", "1") != "0"

    def numbers(name: str, default: np.ndarray) -> np.ndarray:
        given = element.get(f"data-{name}")
        return np.array([float(v) for v in given.split()]) if given else default

    handles = {f: c[:, 1:] for f, c in controls.items()} if element.get("data-handles") == "1" else {}
    return [checked(path, Outlines(element.get("data-name", "Shape"), element.get("data-combine", "add"), {f: c[:, 0] for f, c in controls.items()},
                                   numbers("roundness", np.ones(n)), numbers("inner", np.zeros(n)), numbers("outer", np.zeros(n)), handles, closed,
                                   numbers("widths", np.zeros(0))))]


def _foreign(path: Path, text: str) -> list[Outlines]:
    from svgelements import SVG, Path, Shape  # slow to load, and few need it

    found: list[Outlines] = []
    for element in SVG.parse(io.StringIO(text), reify=True).elements():
        if not isinstance(element, Shape):
            continue
        for part, closed in _controls_of(Path(element)):
            n = len(part)
            if n < (3 if closed else 2) or len(found) >= _MOST_SHAPES:
                continue
            width = float(element.stroke_width or 1) if not closed else 0.0
            found.append(checked(path, Outlines(str(element.id or f"Shape {len(found) + 1}"), "add", {0: part[:, 0]}, np.ones(n), np.zeros(n), np.zeros(n),
                                                {0: part[:, 1:]}, closed, np.full(n, max(width, 0.1)) if not closed else np.zeros(0))))
    return found


def _controls(data: str) -> list[tuple[np.ndarray, bool]]:
    from svgelements import Path

    found = _controls_of(Path(data))
    if not found:
        raise ValueError("a path has no curve")
    return found


def _controls_of(path) -> list[tuple[np.ndarray, bool]]:  # type: ignore[no-untyped-def]
    """For each subpath (N, 3, 2) its points, each with the ends of the handles before and after it; and whether it is closed."""
    from svgelements import Arc, Close, CubicBezier, Line, Move, QuadraticBezier

    found: list[tuple[np.ndarray, bool]] = []
    curves: list[np.ndarray] = []

    def finish(closed: bool) -> None:
        if curves:
            c = np.array(curves)
            meets = bool(np.allclose(c[0, 0], c[-1, 3], atol=_SAME)) and len(c) > 1
            points = c[:, 0] if meets else np.vstack([c[:, 0], c[-1:, 3]])
            after = c[:, 1] if meets else np.vstack([c[:, 1], points[-1:]])
            before = np.roll(c[:, 2], 1, 0) if meets else np.vstack([points[:1], c[:, 2]])
            found.append((np.stack([points, before, after], axis=1), closed or meets))
        curves.clear()

    for number, segment in enumerate(path):
        if number > MOST_POINTS:
            raise ValueError(f"a path has more than {MOST_POINTS} pieces")
        if isinstance(segment, Move):
            finish(False)
        elif isinstance(segment, Close):
            if segment.start is not None and segment.end is not None and abs(segment.end - segment.start) > _SAME:
                curves.append(_straight(segment.start, segment.end))
            finish(True)
        elif isinstance(segment, Line):
            curves.append(_straight(segment.start, segment.end))
        elif isinstance(segment, QuadraticBezier):
            a, b, c = (np.array([p.x, p.y]) for p in (segment.start, segment.control, segment.end))
            curves.append(np.array([a, a + 2 / 3 * (b - a), c + 2 / 3 * (b - c), c]))
        elif isinstance(segment, CubicBezier):
            curves.append(np.array([[p.x, p.y] for p in (segment.start, segment.control1, segment.control2, segment.end)]))
        elif isinstance(segment, Arc):
            curves += [np.array([[p.x, p.y] for p in (c.start, c.control1, c.control2, c.end)]) for c in segment.as_cubic_curves()]
    finish(False)
    return found


def _straight(start, end) -> np.ndarray:  # type: ignore[no-untyped-def]
    a, b = np.array([start.x, start.y]), np.array([end.x, end.y])
    return np.array([a, a, b, b])
