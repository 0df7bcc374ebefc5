"""A list of work: what is to be done with many shots, as TOML or JSON."""

import hashlib
import json
import tomllib
from importlib.metadata import version
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from wertis.core.errors import WertisError
from wertis.core.exchange.layout import LayoutOptions
from wertis.core.files import read_text

_MOST_FILES = 20_000  # of a plate whose names and sizes tell whether it changed

Points = list[tuple[float, float]]


class ExportTask(LayoutOptions):
    """A file of motion that is to be written, in a receiver's coordinates; fields as `wertis export` has them.

    Attributes
    ----------
    track : whose motion it is, by its name; that of all surfaces when empty. Where there are several, their names come before the file's ending.
    placement : whose corners go out; the first one's when empty.
    reference : frame that everything is relative to; the region's own when None.
    """

    what: Literal["corners", "inverse corners", "matrices", "transforms", "points", "map", "inverse map", "vectors", "mesh"] = "corners"
    out: Annotated[str, Field(min_length=1, max_length=4096)]
    track: str = ""
    placement: str = ""
    reference: int | None = None
    repaired: bool = True
    relative: bool = False


class MatteTask(BaseModel):
    """A matte, by its name, that is to be rendered to a picture sequence or a movie."""

    model_config = ConfigDict(extra="forbid")

    of: Annotated[str, Field(min_length=1, max_length=200)]
    out: Annotated[str, Field(min_length=1, max_length=4096)]


class GraphicTask(BaseModel):
    """A graphic that is to be placed."""

    model_config = ConfigDict(extra="forbid")

    artwork: Annotated[str, Field(min_length=1, max_length=4096)]
    corners: Annotated[Points | None, Field(min_length=4, max_length=4)] = None
    fit: Literal["fit", "fill", "stretch"] = "fit"
    blend: str = "normal"
    opacity: Annotated[float, Field(ge=0, le=1)] = 1.0


class Task(BaseModel):
    """What is to be done with one shot, in this order; what is not named is left out.

    Attributes
    ----------
    name : of the shot, and of the files that are kept of it.
    shot : a shot file to begin from; or `plate`, with `start` and `region` of a surface, or with a `template`.
    template : a shot file whose surface is looked for in the new plate by what it looks like, with its graphics.
    model : how the surface may move.
    track, check : whether they are done; a shot file's tracks are tracked again only where they were not.
    repair : drift in pixels to be repaired to, and the one over which a person is needed.
    graphics : placed on the surface; `match` makes all of them look like the plate.
    render : a picture sequence or a movie, of the comp or (`what`) of the graphics alone; export : files of motion; mattes : that are rendered.
    """

    model_config = ConfigDict(extra="forbid")

    name: Annotated[str, Field(min_length=1, max_length=100, pattern=r"^[^/\\\x00]+$")]
    shot: str = ""
    plate: str = ""
    template: str = ""
    start: int | None = None
    region: Annotated[Points | None, Field(min_length=3, max_length=10_000)] = None
    model: str = "perspective"
    range: tuple[int, int] | None = None
    track: bool = True
    check: bool = True
    repair: Annotated[float | None, Field(gt=0, le=100)] = None
    limit: Annotated[float, Field(gt=0, le=100)] = 1.0
    graphics: Annotated[list[GraphicTask], Field(max_length=100)] = []
    match: bool = False
    render: str = ""
    what: Literal["comp", "graphic"] = "comp"
    export: Annotated[list[ExportTask], Field(max_length=100)] = []
    mattes: Annotated[list[MatteTask], Field(max_length=100)] = []

    @model_validator(mode="after")
    def _begins(self) -> "Task":
        if not self.shot and not self.plate:
            raise ValueError("a shot file or a plate is wanted to begin from")
        if self.plate and not self.shot and not self.template and (self.start is None or self.region is None):
            raise ValueError("a plate needs start and region of its surface, or a template")
        return self


class TaskList(BaseModel):
    """A list.

    Attributes
    ----------
    out : the folder of shot files, reports and what is kept of the work; relative to the list's own.
    """

    model_config = ConfigDict(extra="forbid")

    out: Annotated[str, Field(min_length=1, max_length=4096)] = "night"
    shots: Annotated[list[Task], Field(min_length=1, max_length=100_000)]

    @model_validator(mode="after")
    def _named(self) -> "TaskList":
        names = [t.name for t in self.shots]
        twice = sorted({n for n in names if names.count(n) > 1})
        if twice:
            raise ValueError(f"two shots are named {twice[0]}")
        return self


def load(path: Path) -> TaskList:
    """Read a list; `[defaults]` stand for what a shot does not say.

    Raises
    ------
    WertisError
        When it cannot be read, or something in it cannot be; the message names the shot and the field.
    """
    text = read_text(path)
    try:
        body: Any = json.loads(text) if path.suffix.lower() == ".json" else tomllib.loads(text)
    except ValueError as why:
        raise WertisError(f"{path.name} is no list of work: {why}. Write it as TOML or JSON; docs/formats.md has one.") from why
    if not isinstance(body, dict):
        raise WertisError(f"{path.name} is no list of work; docs/formats.md has one.")
    defaults, shots = body.pop("defaults", {}), body.get("shots", [])
    if isinstance(shots, list) and isinstance(defaults, dict):
        body["shots"] = [{**defaults, **s} if isinstance(s, dict) else s for s in shots]
    try:
        return TaskList.model_validate(body)
    except ValidationError as why:
        first = why.errors()[0]
        where = [str(x) for x in first["loc"]]
        named = shots[int(where[1])].get("name", where[1]) if len(where) > 1 and where[0] == "shots" and where[1].isdigit() else ""
        raise WertisError(f"{path.name}: {'shot ' + str(named) + ', ' if named else ''}{'.'.join(where[2:] or where)}: {first['msg']}.") from why


def fingerprint(task: Task, folder: Path) -> str:
    """What went into a shot: the task, the files it names with their sizes and times, and the program's version."""
    digest = hashlib.sha256(f"{version('wertis')} {task.model_dump_json()}".encode())
    for name in (task.shot, task.plate, task.template, *(g.artwork for g in task.graphics)):
        if name:
            for path in _files(folder / name):
                try:
                    found = path.stat()
                    digest.update(f"{path.name} {found.st_size} {found.st_mtime_ns}".encode())
                except OSError:
                    digest.update(f"{path.name} gone".encode())
    return digest.hexdigest()


def _files(path: Path) -> list[Path]:
    try:
        if path.is_dir():
            return sorted(p for p in path.iterdir() if p.is_file())[:_MOST_FILES]
        if "#" in path.name or "%" in path.name:
            return sorted(p for p in path.parent.glob("*" + path.suffix) if p.is_file())[:_MOST_FILES]
    except OSError:  # it has gone while it was looked through
        return []
    return [path]
