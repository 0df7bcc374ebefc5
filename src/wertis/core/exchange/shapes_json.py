"""Outlines over frames as JSON, all of them in one file."""

import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from wertis.core.errors import DeliverError
from wertis.core.exchange.laid_out import outlines_back, outlines_in
from wertis.core.exchange.layout import Layout
from wertis.core.exchange.outlines import Outlines, checked
from wertis.core.files import read_text, write_text

FORMAT, VERSION = "wertis shapes", 3


def write(path: Path, layout: Layout, shapes: Sequence[Outlines]) -> None:
    """Write all frames of shapes of the plate in one file, in a layout.

    Raises
    ------
    DeliverError
        When it cannot be written.
    """
    data = {"format": FORMAT, "version": VERSION, "convention": f"{layout.words()}; points in each frame's own picture", "size": list(layout.size),
            "layout": layout.said(), "shapes": [_plain(outlines_in(s, layout), layout.digits) for s in shapes]}
    write_text(path, json.dumps(data, indent=1))


def read(path: Path) -> list[Outlines]:
    """Read what `write` wrote, as it is on the plate, or wrote in version 1, which knew neither handles nor lines, or 2, which knew no layout.

    Raises
    ------
    DeliverError
        When it cannot be read, or is not such a file.
    """
    try:
        data = json.loads(read_text(path))
        if data["format"] != FORMAT or data["version"] not in (1, 2, VERSION):
            raise DeliverError(f"{path.name} does not hold shapes of a version that can be read here.")
        layout = Layout.model_validate(data.get("layout") or {"size": data["size"]})
        return [checked(path, outlines_back(_shape(s), layout)) for s in data["shapes"]]
    except (KeyError, TypeError, ValueError, AttributeError, RecursionError) as why:
        raise DeliverError(f"{path.name} does not hold shapes as docs/formats.md says ({why}).") from why


def _plain(s: Outlines, digits: int) -> dict[str, Any]:
    out: dict[str, Any] = {"name": s.name, "combine": s.combine, "closed": s.closed, "roundness": s.roundness.tolist(), "inner": s.inner.tolist(),
                           "outer": s.outer.tolist(), "frames": {str(f): np.round(p, digits).tolist() for f, p in sorted(s.points.items())}}
    if len(s.widths):
        out["widths"] = s.widths.tolist()
    if s.handles:
        out["handles"] = {str(f): np.round(h, digits).tolist() for f, h in sorted(s.handles.items())}
    return out


def _shape(s: dict[str, Any]) -> Outlines:
    frames = {int(f): np.array(p, float) for f, p in s["frames"].items()}
    handles = {int(f): np.array(h, float) for f, h in s.get("handles", {}).items()}
    roundness, inner, outer = (np.array(s[k], float) for k in ("roundness", "inner", "outer"))
    return Outlines(str(s["name"]), str(s["combine"]), frames, roundness, inner, outer, handles, bool(s.get("closed", True)),
                    np.array(s.get("widths", ()), float))
