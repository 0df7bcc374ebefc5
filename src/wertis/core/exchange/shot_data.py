"""Everything of a shot in one JSON file, for those who write their own reader; docs/shot-data.schema.json is its JSON Schema."""

import json
from pathlib import Path
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from wertis.core.exchange.layout import Layout
from wertis.core.files import write_text

Pair = tuple[float, float]
Row = tuple[float, float, float]


class _Body(BaseModel):
    model_config = ConfigDict(extra="forbid")


class PlateData(_Body):
    """The plate: its path as the shot has it, first and last frame, size, rate, and a pixel's width over its height."""

    path: str
    first: int
    last: int
    size: tuple[int, int]
    fps: float
    pixel_aspect: float


class FrameData(_Body):
    """A track on a frame: the map (3 x 3) from the reference frame's points to the frame's, where it is a plane; the region's outline; the expected
    error in pixels of the plate; the share of the region that was seen."""

    matrix: tuple[Row, Row, Row] | None = None
    outline: list[Pair]
    error: float | None = None
    seen: float | None = None


class TrackData(_Body):
    """A track. Lost frames have their reason; the others are in `frames`."""

    name: str
    kind: str
    reference: int
    visible: bool
    frames: dict[int, FrameData]
    lost: dict[int, str] = {}


class GraphicData(_Body):
    """A graphic or a patch on a track: its artwork's top left, top right, bottom right and bottom left corner on each frame, and its width over its
    height on the surface."""

    name: str
    kind: Literal["graphic", "patch"]
    track: str
    frame: int
    artwork: str = ""
    proportions: float
    corners: dict[int, tuple[Pair, Pair, Pair, Pair]]


class ShapeData(_Body):
    """A matte's shape: points along its outline on each frame."""

    name: str
    combine: str
    closed: bool
    outlines: dict[int, list[Pair]]


class MatteData(_Body):
    """A matte, its shapes in their order, and the track that carries it; empty for none."""

    name: str
    track: str
    shapes: list[ShapeData]


class ShotData(_Body):
    """A shot. Coordinates are in `layout`, which `convention` says in words; frames are numbered as the layout says."""

    format: Literal["wertis-shot-data"] = "wertis-shot-data"
    version: Literal[1] = 1
    name: str
    layout: Layout
    convention: str
    plate: PlateData
    range: tuple[int, int]
    tracks: list[TrackData]
    graphics: list[GraphicData]
    mattes: Annotated[list[MatteData], Field(max_length=100_000)]


def schema() -> str:
    """The JSON Schema (draft 2020-12) of the file."""
    body = {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Wertis shot data", **ShotData.model_json_schema(mode="serialization")}
    return json.dumps(body, indent=1) + "\n"


def write(path: Path, data: ShotData) -> None:
    """Write it.

    Raises
    ------
    DeliverError
        When the file cannot be written.
    """
    write_text(path, data.model_dump_json(indent=1) + "\n")
