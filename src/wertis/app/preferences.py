"""What a person prefers, kept in the platform's place: memory, keys, and the shots opened last."""

import json
from pathlib import Path
from typing import Annotated

import platformdirs
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from wertis.core.errors import WertisError
from wertis.core.files import write_text

_MOST_RECENT = 8


class Preferences(BaseModel):
    """See the fields.

    Attributes
    ----------
    memory : MB that pictures kept in memory may take.
    recent : paths of the shots and plates opened last, the newest first.
    keys : id of a command to its key, where it is not the usual one; empty for none. Older ones went by the command's words.
    """

    model_config = ConfigDict(extra="ignore", validate_assignment=True)

    memory: Annotated[int, Field(ge=256, le=1 << 20)] = 2048
    recent: Annotated[list[str], Field(max_length=50)] = []
    keys: dict[str, str] = {}

    def opened(self, path: Path) -> None:
        """A shot or plate was opened or saved."""
        name = str(path.absolute())
        self.recent = [name, *(r for r in self.recent if r != name)][:_MOST_RECENT]


def file() -> Path:
    """Where they are."""
    return Path(platformdirs.user_config_dir("wertis", appauthor=False)) / "preferences.json"


def load() -> Preferences:
    """The preferences; the usual ones when there are none or they are damaged."""
    try:
        return Preferences.model_validate_json(file().read_text(encoding="utf-8"))
    except (OSError, ValueError, ValidationError):
        return Preferences()


def save(preferences: Preferences) -> None:
    """Keep them.

    Raises
    ------
    WertisError
        When they cannot be written.
    """
    try:
        file().parent.mkdir(parents=True, exist_ok=True)
    except OSError as why:
        raise WertisError(f"Preferences cannot be kept in {file().parent} ({why.strerror}).") from why
    write_text(file(), json.dumps(preferences.model_dump(), indent=1, ensure_ascii=False))
