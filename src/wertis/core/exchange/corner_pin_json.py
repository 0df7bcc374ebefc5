"""Corner pins as JSON (RFC 8259), with the convention said in the file. docs/formats.md describes it."""

import json
from pathlib import Path

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from wertis.core.errors import DeliverError
from wertis.core.files import read_text, write_text

FORMAT = "wertis-corner-pin"
VERSION = 3  # 1 had no bent sides, 2 no pixel aspect; they are read as they are
CONVENTION = "pixels; origin at the picture's top-left corner, x right, y down; first pixel's centre at 0.5,0.5"
ORDER = "corners in order: the artwork's top left, top right, bottom right, bottom left"


SIDES = ("of each side, run clockwise from the top one, the two inner control points of its cubic Bezier curve; inside, a bilinearly blended "
         "Coons patch in the plane of the corners' unit square")
_Pair = tuple[float, float]


class CornerPin(BaseModel):
    """A corner pin as it is exchanged.

    Attributes
    ----------
    corners : frame to four (x, y); frames without an answer are left out.
    pixel_aspect : width of a pixel over its height; coordinates are in pixels all the same.
    reference : the frame on which the corners were placed.
    sides : frame to eight (x, y), the control points of bent sides; None where the sides are straight.
    """

    model_config = ConfigDict(extra="forbid")

    format: str = FORMAT
    version: int = VERSION
    convention: str = CONVENTION
    order: str = ORDER
    shot: str = ""
    track: str = ""
    placement: str = ""
    width: int = Field(ge=1, le=65536)
    height: int = Field(ge=1, le=65536)
    fps: float = Field(gt=0, le=1000)
    pixel_aspect: float = Field(default=1.0, ge=0.1, le=10)
    reference: int
    surface_ratio: float | None = None
    corners: dict[int, tuple[_Pair, _Pair, _Pair, _Pair]]
    sides: dict[int, tuple[_Pair, _Pair, _Pair, _Pair, _Pair, _Pair, _Pair, _Pair]] | None = None

    def arrays(self) -> dict[int, np.ndarray]:
        """Frame to corners (4, 2)."""
        return {f: np.array(c) for f, c in self.corners.items()}


def write(path: Path, pin: CornerPin) -> None:
    """Write a corner pin.

    Raises
    ------
    DeliverError
        When the file cannot be written.
    """
    body = pin.model_dump(mode="json", exclude={"corners", "sides"})
    if pin.sides:
        body["sides_order"] = SIDES
    text = json.dumps(body, indent=1, ensure_ascii=False)[:-2]
    tables = [("corners", pin.corners)] + ([("sides", pin.sides)] if pin.sides else [])
    for name, table in tables:
        rows = ",\n".join(f'  "{f}": {json.dumps([[round(v, 4) for v in p] for p in points])}' for f, points in sorted(table.items()))
        text += f',\n "{name}": {{\n{rows}\n }}'
    write_text(path, text + "\n}\n")


def read(path: Path) -> CornerPin:
    """Read a corner pin.

    Raises
    ------
    DeliverError
        When the file is something else, damaged, or newer.
    """
    try:
        body = json.loads(read_text(path))
        if not isinstance(body, dict) or body.get("format") != FORMAT:
            raise DeliverError(f"{path.name} is not a corner pin; choose a JSON file that Wertis exported.")
        if body.get("version") not in (1, 2, VERSION):
            raise DeliverError(f"{path.name} is of version {body.get('version')}; this Wertis reads up to version {VERSION}.")
        body.pop("sides_order", None)
        return CornerPin.model_validate(body)
    except (ValidationError, ValueError, RecursionError) as why:
        raise DeliverError(f"{path.name} is damaged ({str(why).splitlines()[0]}); export it again.") from why
