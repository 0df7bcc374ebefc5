"""Edits of the items that hang on tracks, as functions from shot to shot, whatever kind of item it is.

A kind of item whose place in the picture is kept on a frame of its own registers how it is put on another track.
"""

from collections.abc import Callable, Collection
from typing import Any, TypeVar, overload

import numpy as np

from wertis.core.errors import RegionError
from wertis.core.shot.document import HoldOut, Item, Placement, Shot, Track, dependency_cycle, new_id
from wertis.core.shot.edits import as_points, carry, free_name, track_of
from wertis.core.shot.hold_outs import shape_on

I = TypeVar("I", bound=Item)
Carry = Callable[[Shot, Any, Track, int], Item]
"""Gives an item hung on another track so that it does not move in the picture of a frame; RegionError where it cannot."""

_carry: dict[type[Item], Carry] = {}


def register_carry(kind: type[Item], carry: Carry) -> None:
    """Say how a kind of item is hung on another track."""
    _carry[kind] = carry


@overload
def item_of(shot: Shot, ident: str) -> Item: ...
@overload
def item_of(shot: Shot, ident: str, kind: type[I]) -> I: ...


def item_of(shot: Shot, ident: str, kind: type[Item] = Item) -> Item:
    """The item with this id, of a kind.

    Raises
    ------
    RegionError
        When it is no longer in the shot, or of another kind.
    """
    item = shot.item(ident)
    if item is None:
        raise RegionError(f"That {kind.called} is no longer in the shot.")
    if not isinstance(item, kind):
        raise RegionError(f"{item.name} is not a {kind.called}.")
    return item


def add_item(shot: Shot, item: Item) -> Shot:
    """The shot with one more item, on top of the others; a number is put behind a name that is taken under the same track.

    Raises
    ------
    RegionError
        When tracks would depend on each other in a circle.
    """
    named = item.but(name=free_name(item.name, [x.name for x in shot.items_under(item.under) if type(x) is type(item)]))
    return checked(shot.with_item(named))


def set_item(shot: Shot, item: Item) -> Shot:
    """The shot with the item of the same id replaced.

    Raises
    ------
    RegionError
        When the item is locked, or tracks would depend on each other in a circle.
    """
    old = item_of(shot, item.id)
    if old.locked and item.locked:
        raise RegionError(f"{old.name} is locked; unlock it in the outline to change it.")
    return checked(shot.with_item(item))


def with_only(shot: Shot, idents: Collection[str]) -> Shot:
    """The shot with these items alone laid on its plate; what shapes them, such as mattes, stays.

    Raises
    ------
    RegionError
        When one of them is no longer in the shot, or lays nothing on the plate.
    """
    for ident in idents:
        item = item_of(shot, ident)
        if not item.rendered:
            raise RegionError(f"{item.name} is a {item.called}, which lays nothing on the plate; choose a graphic, a patch, a colour or a grade.")
    return shot.but(items=tuple(x.but(visible=x.id in idents) if x.rendered else x for x in shot.items))


def set_fields(shot: Shot, ident: str, kind: type[Item], **changes: object) -> Shot:
    """The shot with fields of an item of a kind set.

    Raises
    ------
    RegionError
        When it is gone, locked or of another kind.
    """
    return set_item(shot, item_of(shot, ident, kind).but(**changes))


def remove_item(shot: Shot, ident: str) -> Shot:
    """The shot less an item.

    Raises
    ------
    RegionError
        When it is locked.
    """
    item = shot.item(ident)
    if item is not None and item.locked:
        raise RegionError(f"{item.name} is locked; unlock it in the outline to remove it.")
    return shot.without_item(ident)


def duplicate_item(shot: Shot, ident: str) -> tuple[Shot, Item]:
    """The shot with a copy of an item right above it, and that copy."""
    item = item_of(shot, ident)
    copy = item.but(id=new_id(), locked=False, name=free_name(item.name, [x.name for x in shot.items_under(item.under)]))
    at = shot.items.index(item) + 1
    return shot.but(items=(*shot.items[:at], copy, *shot.items[at:])), copy


def order_item(shot: Shot, ident: str, step: int) -> Shot:
    """The shot with an item moved past its next neighbour under the same track: above it for a `step` of 1, below it for -1."""
    item = item_of(shot, ident)
    row = [x for x in shot.items if x.under == item.under and type(x) is type(item)]
    to = row.index(item) + step
    if not 0 <= to < len(row):
        return shot
    items = list(shot.items)
    a, b = items.index(item), items.index(row[to])
    items[a], items[b] = items[b], items[a]
    return shot.but(items=tuple(items))


def carry_item(shot: Shot, ident: str, track_id: str, frame: int) -> Shot:
    """The shot with an item carried by another track, or by none (""); it does not move in the picture of `frame`.

    Raises
    ------
    RegionError
        When either track has no answer there, the item is locked, or tracks would depend on each other in a circle.
    """
    item = item_of(shot, ident)
    if not track_id:
        moved: Item = item.but(on="") if type(item) not in _carry else _carry[type(item)](shot, item, None, frame)  # type: ignore[arg-type]
    else:
        track = track_of(shot, track_id)
        moved = _carry[type(item)](shot, item, track, frame) if type(item) in _carry else item.but(on=track_id)
    taken = [x.name for x in shot.items_under(moved.under) if x.id != ident and type(x) is type(item)]
    return set_item(shot, moved.but(name=free_name(item.name, taken)))


def checked(shot: Shot) -> Shot:
    """The shot, if no tracks depend on each other in a circle.

    Raises
    ------
    RegionError
        When some do.
    """
    cycle = dependency_cycle(shot)
    if cycle:
        names = [t.name for t in (shot.track(i) for i in cycle) if t is not None]
        if len(names) == 1:
            raise RegionError(f"A hold-out of {names[0]} cannot be carried by {names[0]} itself; choose another track, or keys by hand.")
        raise RegionError(f"{' and '.join(names)} would depend on each other in a circle, by what is held out of them; let one of the hold-outs "
                          "be moved by hand instead.")
    return shot


def _place_elsewhere(shot: Shot, placement: Placement, track: Track | None, frame: int) -> Placement:
    if track is None:
        raise RegionError("A placement hangs on a track; choose one.")
    corners = carry(shot.track(placement.on), placement.array, placement.frame, frame)
    known = frame == track.region.frame or carry(track, track.region.array[:1], track.region.frame, frame) is not None
    if corners is None or not known:
        lost = shot.track(placement.on) if corners is None else track
        raise RegionError(f"{lost.name if lost else 'Its track'} is not tracked on frame {frame}; go to a frame on which both tracks are known.")
    return placement.but(on=track.id, frame=frame, quad=as_points(corners))


def _hold_elsewhere(shot: Shot, held: HoldOut, track: Track | None, frame: int) -> HoldOut:
    if held.path or held.matte:
        return held
    points = shape_on(shot, held, frame)
    if points is None or not np.isfinite(points).all():
        raise RegionError(f"Where {held.name} is on frame {frame} is not known; go to a frame on which it is.")
    return held.but(on=track.id if track is not None else "", keys={frame: as_points(points)})


register_carry(Placement, _place_elsewhere)
register_carry(HoldOut, _hold_elsewhere)
