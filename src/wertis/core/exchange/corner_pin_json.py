"""Corner pins as JSON (RFC 8259), with the convention said in the file. docs/formats.md describes it."""

import json
from pathlib import Path

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from wertis.core.errors import DeliverError
from wertis.core.files import read_text, write_text

FORMAT = "wertis-corner-pin"
VERSION = 1
CONVENTION = "pixels; origin at the picture's top-left corner, x right, y down; first pixel's centre at 0.5,0.5"
ORDER = "corners in order: the artwork's top left, top right, bottom right, bottom left"


class CornerPin(BaseModel):
    """A corner pin as it is exchanged.

    Attributes
    ----------
    corners : frame to four (x, y); frames without an answer are left out.
    reference : the frame on which the corners were placed.
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
    reference: int
    surface_ratio: float | None = None
    corners: dict[int, tuple[tuple[float, float], tuple[float, float], tuple[float, float], tuple[float, float]]]

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
    body = pin.model_dump(mode="json")
    body["corners"] = {f: [[round(v, 4) for v in p] for p in c] for f, c in sorted(pin.corners.items())}
    text = json.dumps({k: v for k, v in body.items() if k != "corners"}, indent=1, ensure_ascii=False)[:-2]
    rows = ",\n".join(f'  "{f}": {json.dumps(c)}' for f, c in body["corners"].items())
    write_text(path, f'{text},\n "corners": {{\n{rows}\n }}\n}}\n')


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
        if body.get("version") != VERSION:
            raise DeliverError(f"{path.name} is of version {body.get('version')}; this Wertis reads version {VERSION}.")
        return CornerPin.model_validate(body)
    except (ValidationError, ValueError, RecursionError) as why:
        raise DeliverError(f"{path.name} is damaged ({str(why).splitlines()[0]}); export it again.") from why
