"""Keys as the document holds them, and as curves take them."""

from wertis.core.repair.curve import Key
from wertis.core.shot.document import Keys, RepairKey


def plain(keys: Keys) -> dict[int, Key]:
    """The document's keys as a curve's."""
    return {f: Key(k.value, k.slopes) for f, k in keys.items()}


def records(keys: dict[int, Key]) -> Keys:
    """A curve's keys as the document's."""
    return {f: RepairKey(value=k.value, slopes=k.slopes) for f, k in keys.items()}
