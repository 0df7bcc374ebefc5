"""What the window knows of a kind of item: its icon, its step, what ticking it means, its marks on the lanes, and what can be done to it."""

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from PySide6.QtGui import QColor

from wertis.app import theme
from wertis.core.shot.document import Item, Shot


def _shown(item: Item) -> bool:
    return item.visible


def _show(item: Item, on: bool) -> Item:
    return item.but(visible=on)


def _no_frames(shot: Shot, item: Any) -> list[int]:
    return []


@dataclass(frozen=True)
class ItemKind:
    """A kind of item.

    Attributes
    ----------
    record : the item's record.
    words : what one is called.
    icon : name of its icon.
    step : the step that is brought when one is picked.
    colour : of its name.
    tip : what its tooltip says.
    ticked, tick : whether it is ticked in the outline, and the item with that changed.
    key_frames : frames with keys of its own, which the lanes mark while it is selected.
    may_be_free : it need not be carried by a track.
    """

    record: type[Item]
    words: str
    icon: str
    step: str
    colour: QColor = field(default_factory=lambda: theme.TEXT)
    tip: str = "Tick to show or hide."
    ticked: Callable[[Any], bool] = _shown
    tick: Callable[[Any, bool], Item] = _show
    key_frames: Callable[[Shot, Any], list[int]] = _no_frames
    may_be_free: bool = False


_kinds: dict[type[Item], ItemKind] = {}


def register(kind: ItemKind) -> None:
    """Make a kind of item known to the window."""
    _kinds[kind.record] = kind


def kind_of(item: Item) -> ItemKind:
    """The kind of an item; a plain one for items that nobody registered."""
    return _kinds.get(type(item)) or ItemKind(type(item), "Item", "mdi6.shape-outline", "")
