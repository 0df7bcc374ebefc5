"""Outlines over frames as JSON, all of them in one file."""

import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from wertis.core.errors import DeliverError
from wertis.core.exchange.outlines import CONVENTION, Outlines, checked
from wertis.core.files import read_text, write_text

FORMAT, VERSION = "wertis shapes", 2


def write(path: Path, size: tuple[int, int], shapes: Sequence[Outlines]) -> None:
    """Write all frames of shapes in one file.

    Raises
    ------
    DeliverError
        When it cannot be written.
    """
    data = {"format": FORMAT, "version": VERSION, "convention": CONVENTION, "size": list(size), "shapes": [_plain(s) for s in shapes]}
    write_text(path, json.dumps(data, indent=1))


def read(path: Path) -> list[Outlines]:
    """Read what `write` wrote, or wrote in version 1, which knew neither handles nor lines.

    Raises
    ------
    DeliverError
        When it cannot be read, or is not such a file.
    """
    try:
        data = json.loads(read_text(path))
        if data["format"] != FORMAT or data["version"] not in (1, VERSION):
            raise DeliverError(f"{path.name} does not hold shapes of a version that can be read here.")
        return [checked(path, _shape(s)) for s in data["shapes"]]
    except (KeyError, TypeError, ValueError, AttributeError, RecursionError) as why:
        raise DeliverError(f"{path.name} does not hold shapes as docs/formats.md says ({why}).") from why


def _plain(s: Outlines) -> dict[str, Any]:
    out: dict[str, Any] = {"name": s.name, "combine": s.combine, "closed": s.closed, "roundness": s.roundness.tolist(), "inner": s.inner.tolist(),
                           "outer": s.outer.tolist(), "frames": {str(f): np.round(p, 4).tolist() for f, p in sorted(s.points.items())}}
    if len(s.widths):
        out["widths"] = s.widths.tolist()
    if s.handles:
        out["handles"] = {str(f): np.round(h, 4).tolist() for f, h in sorted(s.handles.items())}
    return out


def _shape(s: dict[str, Any]) -> Outlines:
    frames = {int(f): np.array(p, float) for f, p in s["frames"].items()}
    handles = {int(f): np.array(h, float) for f, h in s.get("handles", {}).items()}
    roundness, inner, outer = (np.array(s[k], float) for k in ("roundness", "inner", "outer"))
    return Outlines(str(s["name"]), str(s["combine"]), frames, roundness, inner, outer, handles, bool(s.get("closed", True)),
                    np.array(s.get("widths", ()), float))
