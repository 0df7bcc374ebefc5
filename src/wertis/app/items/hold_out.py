"""A hold-out in the outline and on the lanes."""

from wertis.app import theme
from wertis.app.item_kinds import ItemKind, register
from wertis.core.shot.document import HoldOut, Item, Shot


def _ticked(held: HoldOut) -> bool:
    return held.enabled


def _tick(held: HoldOut, on: bool) -> Item:
    return held.but(enabled=on)


def _key_frames(shot: Shot, held: HoldOut) -> list[int]:
    return sorted(held.keys)


register(ItemKind(HoldOut, "Hold-out", "mdi6.content-cut", "Region", theme.AMBER,
                  "A hold-out: its pixels do not exist for the track. Tick to switch it on or off.",
                  _ticked, _tick, _key_frames, may_be_free=True))
