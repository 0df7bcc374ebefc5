"""What receiving applications want, kept under names of one's own: which motion, as which file, in which coordinates. Each is a JSON file to be shared."""

import json
import re
from pathlib import Path
from typing import Literal

import platformdirs
from pydantic import ValidationError

from wertis.core.errors import WertisError
from wertis.core.exchange.layout import LayoutOptions
from wertis.core.files import read_text, write_text

_NAME = re.compile(r"[^/\\\x00.][^/\\\x00]{0,79}")


class Receiver(LayoutOptions):
    """What a receiver wants, coordinates and all.

    Attributes
    ----------
    what : a kind of motion, or of coordinate map.
    suffix : of the file.
    repaired : with repairs.
    relative : to the reference frame.
    """

    format: Literal["wertis-receiver"] = "wertis-receiver"
    version: Literal[1] = 1
    what: Literal["corners", "inverse corners", "matrices", "transforms", "points", "map", "inverse map", "vectors"] = "corners"
    suffix: Literal[".json", ".csv", ".txt", ".exr"] = ".json"
    repaired: bool = True
    relative: bool = False


def folder() -> Path:
    """Where those of this person are kept."""
    return Path(platformdirs.user_config_dir("wertis", appauthor=False)) / "receivers"


def names() -> list[str]:
    """Names of those that are kept."""
    try:
        return sorted((p.stem for p in folder().iterdir() if p.suffix == ".json"), key=str.lower)
    except OSError:
        return []


def keep(name: str, receiver: Receiver) -> Path:
    """Keep one under a name, in place of an older one of that name; its file.

    Raises
    ------
    WertisError
        When no file can have that name, or it cannot be written.
    """
    if not _NAME.fullmatch(name):
        raise WertisError(f"'{name}' cannot be a name here; use up to 80 letters, without / or \\ and with no dot in front.")
    path = folder() / f"{name}.json"
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as why:
        raise WertisError(f"{path.parent} cannot be made ({why.strerror}); free some space or allow writing there.") from why
    write_text(path, receiver.model_dump_json(indent=1) + "\n")
    return path


def load(name: str | Path) -> Receiver:
    """One that is kept, by its name, or in a file of any place.

    Raises
    ------
    WertisError
        When there is none, or it is damaged.
    """
    path = Path(name) if str(name).endswith(".json") else folder() / f"{name}.json"
    if not path.is_file():
        raise WertisError(f"No receiver named {name} is kept here; there are: {', '.join(names()) or 'none'}. Keep one in the step Deliver, "
                           "or name a file.")
    try:
        return Receiver.model_validate(json.loads(read_text(path)))
    except (ValidationError, ValueError, RecursionError) as why:
        raise WertisError(f"{path.name} is no receiver that Wertis kept ({str(why).splitlines()[0]}); keep it again.") from why
