"""Keyed values as records of a shot."""

from typing import Annotated

from pydantic import Field

from wertis.core.keyed import Key
from wertis.core.shot.fields import Frame, Number, Record

Values = Annotated[tuple[Number, ...], Field(max_length=20_000)]


class KeyRecord(Record):
    """A value on a frame; see `core.keyed.Key`."""

    value: Values
    slopes: tuple[Values, Values] | None = None


Keys = dict[Frame, KeyRecord]


def plain_keys(keys: Keys) -> dict[int, Key]:
    """A record's keys as a curve's."""
    return {f: Key(k.value, k.slopes) for f, k in keys.items()}


def key_records(keys: dict[int, Key]) -> Keys:
    """A curve's keys as a record's."""
    return {f: KeyRecord(value=k.value, slopes=k.slopes) for f, k in keys.items()}
