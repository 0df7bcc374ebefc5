"""Edits of mattes, as functions from shot to shot."""

from collections.abc import Sequence
from itertools import pairwise
from typing import Any, Literal

import numpy as np

from wertis.core.errors import RegionError
from wertis.core.matte.outline import handles, split
from wertis.core.shot.document import HoldOut, Placement, Shot, Track, new_id
from wertis.core.shot.edits import as_points, free_name
from wertis.core.shot.fields import Point
from wertis.core.shot.items import add_item, item_of, register_carry, set_item
from wertis.core.shot.matte_carry import Carrier, best_anchors, points_on
from wertis.core.shot.mattes import Anchor, Combine, Matte, MatteGroup, MatteShape, MatteSource, Stroke, matte_of, new_shape

_SAME = 0.1  # pixels by which a curve may move, and not seem to
_ROUNDS, _MOST_POINTS = 8, 2000  # in which points are put between, and of a shape afterwards


def add_matte(shot: Shot, track: Track | None, frame: int, name: str = "Matte", shapes: tuple[MatteShape, ...] = ()) -> tuple[Shot, Matte]:
    """The shot with a matte more, drawn on a frame and carried by a track or none; and it."""
    shot = add_item(shot, Matte(on=track.id if track is not None else "", frame=frame, name=name, shapes=shapes))
    added = shot.items[-1]
    assert isinstance(added, Matte)
    return shot, added


def put_behind(shot: Shot, ident: str, path: str) -> tuple[Shot, Matte]:
    """The shot with a graphic behind what a matte sequence shows, such as a flap that lies over it; and the matte, which is there once however often."""
    placement = item_of(shot, ident, Placement)
    held = next((m for m in shot.items if isinstance(m, Matte) and m.source is not None and m.source.kind == "file" and m.source.path == path), None)
    if held is None:
        track = next((t for t in shot.tracks if t.id == placement.on), None)
        source = MatteSource(kind="file", path=path)
        shot, held = add_matte(shot, None, placement.frame, f"Over {track.name if track is not None else placement.name}")
        held = held.but(source=source)
        shot = set_item(shot, held)
    if held.id not in placement.held_back:
        shot = set_item(shot, placement.but(held_back=(*placement.held_back, held.id)))
    return shot, held


def add_shape(shot: Shot, ident: str, points: np.ndarray, frame: int, roundness: float = 1.0, soft: float = 0.0, combine: Combine = "add",
              width: float = 0.0, closed: bool = True) -> Shot:
    """The shot with a shape more in a matte, drawn through points (N, 2) of a frame's picture; a line where it has a width."""
    matte = matte_of(shot, ident)
    at_home = _at_home(shot, matte, frame, np.asarray(points, float))
    return set_item(shot, matte.with_shape(new_shape(at_home, frame, roundness, soft, combine, width, closed)))


def key_shape(shot: Shot, ident: str, shape_id: str, frame: int, points: np.ndarray, reach: Literal["key", "all", "span"] = "key",
              span: tuple[int, int] | None = None) -> Shot:
    """The shot with a shape's points at (N, 2) of a frame's picture.

    Parameters
    ----------
    points : or (3 N, 2) with the ends of its handles, as `MatteShape.keys` has them.
    reach : "key" sets a key there; "all" moves every key by as much, and "span" those within `span`, first and last frame, with a key set there.

    Raises
    ------
    RegionError
        When the shape is gone, the points are not as many, or the track has no answer there.
    """
    matte, shape = _shape(shot, ident, shape_id)
    if shape.locked:
        raise RegionError(f"{shape.name} is locked; unlock it to move its points.")
    p = np.asarray(points, float)
    if p.shape not in ((shape.count, 2), (shape.count * (3 if shape.handled else 1), 2)) or not np.isfinite(p).all():
        raise RegionError(f"{shape.name} has {shape.count} points; give as many, each x, y in pixels.")
    if shape.handled and len(p) == shape.count:  # handles go with their points
        now = Carrier(shot, matte).controls(shape, frame)
        if now is not None:
            p = now + np.repeat(p - shape.points_of(now), 3, 0)
    at_home = _at_home(shot, matte, frame, p, shape)
    change = at_home - shape.at(frame)
    keys = {**shape.keys}
    if reach != "all":
        keys[frame] = as_points(at_home)
    if reach != "key":
        low, high = span if reach == "span" and span is not None else (-10_000_000, 100_000_000)
        keys.update({f: as_points(np.array(k) + change) for f, k in shape.keys.items() if low <= f <= high and f != (frame if reach == "span" else None)})
    return set_item(shot, matte.with_shape(shape.but(keys=keys)))


def clear_key(shot: Shot, ident: str, shape_id: str, frame: int) -> Shot:
    """The shot without a shape's key on a frame; its last key stays.

    Raises
    ------
    RegionError
        When there is no such key, or it is the last.
    """
    matte, shape = _shape(shot, ident, shape_id)
    if frame not in shape.keys:
        raise RegionError(f"{shape.name} has no key on frame {frame}.")
    if len(shape.keys) == 1:
        raise RegionError(f"This is the last key of {shape.name}; a shape needs one.")
    return set_item(shot, matte.with_shape(shape.but(keys={f: k for f, k in shape.keys.items() if f != frame})))


def clear_keys(shot: Shot, ident: str, frame: int) -> Shot:
    """The shot without the keys of a matte's shapes on a frame; a shape's last key stays.

    Raises
    ------
    RegionError
        When no shape has a key there that can go.
    """
    keyed = [s.id for s in matte_of(shot, ident).shapes if frame in s.keys and len(s.keys) > 1]
    if not keyed:
        raise RegionError(f"No shape has a key on frame {frame} that can be cleared; the last key of a shape stays.")
    for shape_id in keyed:
        shot = clear_key(shot, ident, shape_id, frame)
    return shot


def move_matte_key(shot: Shot, ident: str, frame: int, to: int, copy: bool = False) -> Shot:
    """The shot with the keys of all shapes of a matte on a frame moved, or copied, to another."""
    matte = matte_of(shot, ident)
    for shape in matte.shapes:
        if frame in shape.keys:
            keys = {f: k for f, k in shape.keys.items() if copy or f != frame}
            matte = matte.with_shape(shape.but(keys={**keys, to: shape.keys[frame]}))
    return set_item(shot, matte)


def insert_point(shot: Shot, ident: str, shape_id: str, after: int, part: float = 0.5) -> Shot:
    """The shot with a point more in a shape, on every key, at a part 0..1 of the curve that follows the point numbered `after`."""
    matte, shape = _shape(shot, ident, shape_id)
    following = (after + 1) % shape.count
    if not 0 <= after < shape.count - (not shape.closed):
        raise RegionError(f"{shape.name} has no side after its point {after + 1}.")

    def with_point(points: tuple[Point, ...]) -> tuple[Point, ...]:
        controls = np.array(points)
        first, second = split(shape.curves(controls)[after], part)
        if not shape.handled:
            return as_points(np.insert(controls, after + 1, second[0], 0))
        rows = controls.reshape(-1, 3, 2).copy()
        rows[after, 2], rows[following, 1] = first[1], second[2]
        return as_points(np.insert(rows, after + 1, [second[0], first[2], second[1]], 0).reshape(-1, 2))

    def with_value(values: tuple[float, ...], value: float | None = None) -> tuple[float, ...]:
        new = (1 - part) * values[after] + part * values[following] if value is None else value
        return (*values[:after + 1], new, *values[after + 1:])

    straight = shape.roundness[after] == 0 and shape.roundness[following] == 0
    stroke = shape.stroke.but(widths=with_value(shape.stroke.widths)) if shape.stroke is not None else None
    bound = (*shape.bound[:after + 1], (), *shape.bound[after + 1:]) if shape.bound else ()
    return set_item(shot, matte.with_shape(shape.but(keys={f: with_point(k) for f, k in shape.keys.items()}, inner=with_value(shape.inner),
                                                     outer=with_value(shape.outer), roundness=with_value(shape.roundness, 0.0 if straight else 1.0),
                                                     stroke=stroke, bound=bound)))


def remove_shape_points(shot: Shot, ident: str, shape_id: str, numbers: set[int]) -> Shot:
    """The shot without some points of a shape, on every key.

    Raises
    ------
    RegionError
        When fewer than three would be left (two of an open line).
    """
    matte, shape = _shape(shot, ident, shape_id)
    keep, least = [k for k in range(shape.count) if k not in numbers], 3 if shape.closed else 2
    if len(keep) < least:
        raise RegionError(f"{shape.name} needs at least {'three' if shape.closed else 'two'} points; remove the shape instead.")
    per = 3 if shape.handled else 1

    def kept(values: tuple, per: int = 1) -> tuple:
        return tuple(v for k in keep for v in values[k * per:(k + 1) * per])

    stroke = shape.stroke.but(widths=kept(shape.stroke.widths)) if shape.stroke is not None else None
    return set_item(shot, matte.with_shape(shape.but(keys={f: kept(p, per) for f, p in shape.keys.items()}, roundness=kept(shape.roundness),
                                                     inner=kept(shape.inner), outer=kept(shape.outer), stroke=stroke,
                                                     bound=kept(shape.bound) if shape.bound else ())))


def give_handles(shot: Shot, ident: str, shape_id: str) -> Shot:
    """The shot with handles at a shape's points, where its curve has them already; on its keyed frames the curve does not move."""
    matte, shape = _shape(shot, ident, shape_id)
    if shape.handled:
        return shot
    carried, keys = Carrier(shot, matte), {}
    for frame, points in shape.keys.items():
        there = carried.moved(shape, np.array(points), frame)
        seen = there if there is not None else np.array(points)
        coming, leaving = handles(seen, np.array(shape.roundness), shape.closed)
        controls = np.stack([seen, seen + coming, seen + leaving], axis=1).reshape(-1, 2)
        back = carried.moved(shape, controls, frame, back=True) if there is not None else controls
        keys[frame] = as_points(controls if back is None else back)
    return set_item(shot, matte.with_shape(shape.but(keys=keys, handled=True)))


def take_handles(shot: Shot, ident: str, shape_id: str) -> Shot:
    """The shot without handles at a shape's points: corners where a point had none, else round; points are put between where the curve would move by more
    than a tenth of a pixel on a keyed frame."""
    matte, shape = _shape(shot, ident, shape_id)
    if not shape.handled:
        return shot
    for _ in range(_ROUNDS):
        plain = _without_handles(shape)
        moved = np.max([_apart(shape.curves(np.array(k)), plain.curves(np.array(plain.keys[f]))) for f, k in shape.keys.items()], axis=0)
        wanting = np.flatnonzero(moved > _SAME)
        if not len(wanting) or shape.count + len(wanting) > _MOST_POINTS:
            break
        shot = set_item(shot, matte.with_shape(shape))
        for k in wanting[::-1]:
            shot = insert_point(shot, ident, shape_id, int(k))
        matte, shape = _shape(shot, ident, shape_id)
    return set_item(shot, matte.with_shape(_without_handles(shape)))


def _without_handles(shape: MatteShape) -> MatteShape:
    rows = np.array(list(shape.keys.values())).reshape(len(shape.keys), -1, 3, 2)
    reach = np.linalg.norm(rows[:, :, 1:] - rows[:, :, :1], axis=-1).max((0, 2))
    return shape.but(keys={f: k[::3] for f, k in shape.keys.items()}, handled=False, roundness=tuple(float(r > _SAME) for r in reach))


def _apart(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """(N,) by how much curves (N, 4, 2) differ at most, at places a sixteenth apart."""
    t = np.linspace(0, 1, 17)[:, None]
    weights = np.hstack([(1 - t) ** 3, 3 * (1 - t) ** 2 * t, 3 * (1 - t) * t ** 2, t ** 3])
    return np.asarray(np.linalg.norm(np.einsum("sk,nkd->nsd", weights, a - b), axis=-1).max(1))


def set_stroke(shot: Shot, ident: str, shape_id: str, stroke: Stroke | None, closed: bool | None = None) -> Shot:
    """The shot with a shape drawn as a line, or filled (None); and closed, or open."""
    matte, shape = _shape(shot, ident, shape_id)
    closed = (shape.closed if closed is None else closed) or stroke is None
    if closed and shape.count < 3:
        raise RegionError(f"{shape.name} has two points; a closed or filled shape needs three.")
    return set_item(shot, matte.with_shape(shape.but(stroke=stroke, closed=closed)))


def line_of(shape: MatteShape, width: float = 4.0) -> Stroke:
    """How a shape is drawn as a line: as it is, or of one width."""
    return shape.stroke or Stroke(widths=(width,) * shape.count)


def bind(shot: Shot, ident: str, shape_id: str, frame: int, candidates: Sequence[tuple[Anchor, np.ndarray]], numbers: set[int] | None = None) -> Shot:
    """The shot with points of a shape (all when None) bound to those of the candidates, each with its place on a frame, that carry each of them best.

    Nothing moves on the frame or on keyed ones: their keys are set anew.

    Raises
    ------
    RegionError
        Without candidates, or where the shape is not known on the frame.
    """
    matte, shape = _shape(shot, ident, shape_id)
    places = points_on(shot, matte, shape, frame)
    own = [(a, p) for a, p in candidates if not (a.kind == "shape" and a.of == ident and a.shape == shape_id)]
    if places is None:
        raise RegionError(f"Where {shape.name} is on frame {frame} is not known; go to a frame on which it is.")
    if not own:
        raise RegionError(f"There is nothing on frame {frame} to bind {shape.name} to; track points, a mesh or another region first.")
    bound = [best_anchors(p, own) if numbers is None or k in numbers else (shape.bound[k] if shape.bound else ()) for k, p in enumerate(places)]
    return _bound(shot, matte, shape, tuple(bound), frame)


def unbind(shot: Shot, ident: str, shape_id: str, frame: int, numbers: set[int] | None = None) -> Shot:
    """The shot with points of a shape (all when None) carried by the matte's track again; nothing moves on the frame or on keyed ones."""
    matte, shape = _shape(shot, ident, shape_id)
    bound = tuple(() if numbers is None or k in numbers else old for k, old in enumerate(shape.bound))
    return _bound(shot, matte, shape, bound if any(bound) else (), frame)


def _bound(shot: Shot, matte: Matte, shape: MatteShape, bound: tuple[tuple[Anchor, ...], ...], frame: int) -> Shot:
    other = shape.but(bound=bound)
    before, after = Carrier(shot, matte), Carrier(shot, matte)
    keys = dict(shape.keys)
    for f in sorted({*shape.keys, frame}):
        there = before.controls(shape, f)
        home = after.moved(other, there, f, back=True) if there is not None else None
        if home is not None and np.isfinite(home).all():
            keys[f] = as_points(home)
    if len(shape.keys) == 1 and frame not in shape.keys:  # one key, on another frame: the new one takes its place
        keys = {frame: keys[frame]}
    return set_item(shot, matte.with_shape(other.but(keys=keys)))


def thin_keys(shot: Shot, ident: str, shape_id: str, tolerance: float = 0.25) -> Shot:
    """The shot with as few keys of a shape as keep every of its keyed frames within `tolerance` pixels of where it is now; the first and the last stay.

    One after another the key that matters least is taken out.
    """
    matte, shape = _shape(shot, ident, shape_id)
    meant, keys = {f: np.array(k) for f, k in shape.keys.items()}, dict(shape.keys)
    while len(keys) > 2:
        frames = sorted(keys)
        off = {}
        for f in frames[1:-1]:
            without = shape.but(keys={k: v for k, v in keys.items() if k != f})
            off[f] = max(float(np.linalg.norm(without.at(k) - v, axis=1).max()) for k, v in meant.items() if k not in without.keys)
        least = min(off, key=lambda f: (off[f], f))
        if off[least] > tolerance:
            break
        del keys[least]
    return set_item(shot, matte.with_shape(shape.but(keys=keys)))


def add_group(shot: Shot, ident: str, shapes: Sequence[str], name: str = "Group", within: str = "", **fields: Any) -> tuple[Shot, MatteGroup]:
    """The shot with shapes, or groups, of a matte put into a group of their own; and it."""
    matte = matte_of(shot, ident)
    group = MatteGroup(name=free_name(name, [g.name for g in matte.groups]), within=within, **fields)
    groups = tuple(g.but(within=group.id) if g.id in shapes else g for g in matte.groups)
    after = matte.but(groups=(*groups, group), shapes=tuple(s.but(group=group.id) if s.id in shapes else s for s in matte.shapes))
    return set_item(shot, after), group


def dissolve_group(shot: Shot, ident: str, group_id: str) -> Shot:
    """The shot without a group; what was in it stays where the group was."""
    matte = matte_of(shot, ident)
    group = matte.group(group_id)
    if group is None:
        raise RegionError(f"{matte.name} has no such group any more.")
    return set_item(shot, matte.but(groups=tuple(g.but(within=group.within) if g.within == group_id else g for g in matte.groups if g.id != group_id),
                                    shapes=tuple(s.but(group=group.within) if s.group == group_id else s for s in matte.shapes)))


def set_group(shot: Shot, ident: str, group_id: str, **fields: Any) -> Shot:
    """The shot with fields of a group changed."""
    matte = matte_of(shot, ident)
    if matte.group(group_id) is None:
        raise RegionError(f"{matte.name} has no such group any more.")
    return set_item(shot, matte.but(groups=tuple(g.but(**fields) if g.id == group_id else g for g in matte.groups)))


def duplicate_shape(shot: Shot, ident: str, shape_id: str) -> tuple[Shot, MatteShape]:
    """The shot with a copy of a shape right after it, and that."""
    matte, shape = _shape(shot, ident, shape_id)
    copy = shape.but(id=new_id(), locked=False, name=free_name(shape.name, [s.name for s in matte.shapes]))
    at = matte.shapes.index(shape) + 1
    return set_item(shot, matte.but(shapes=(*matte.shapes[:at], copy, *matte.shapes[at:]))), copy


def order_shape(shot: Shot, ident: str, shape_id: str, step: int) -> Shot:
    """The shot with a shape joined one later (1) or sooner (-1)."""
    matte, shape = _shape(shot, ident, shape_id)
    row = list(matte.shapes)
    at = row.index(shape)
    to = int(np.clip(at + step, 0, len(row) - 1))
    row.insert(to, row.pop(at))
    return set_item(shot, matte.but(shapes=tuple(row)))


def remove_shape(shot: Shot, ident: str, shape_id: str) -> Shot:
    """The shot without a shape of a matte."""
    matte, _ = _shape(shot, ident, shape_id)
    return set_item(shot, matte.but(shapes=tuple(s for s in matte.shapes if s.id != shape_id)))


def set_points_alike(shot: Shot, ident: str, shape_id: str, numbers: set[int] | None = None, roundness: float | None = None, inner: float | None = None,
                     outer: float | None = None, width: float | None = None) -> Shot:
    """The shot with the roundness, the soft edge, or a line's width, at some points of a shape (all when None) set."""
    matte, shape = _shape(shot, ident, shape_id)

    def made(old: tuple[float, ...], value: float) -> tuple[float, ...]:
        return tuple(float(value) if numbers is None or k in numbers else before for k, before in enumerate(old))

    changes: dict[str, Any] = {name: made(getattr(shape, name), value) for name, value in (("roundness", roundness), ("inner", inner), ("outer", outer))
                               if value is not None}
    if width is not None and shape.stroke is not None:
        changes["stroke"] = shape.stroke.but(widths=made(shape.stroke.widths, width))
    return set_item(shot, matte.with_shape(shape.but(**changes)))


def next_key_frame(shot: Shot, matte: Matte, first: int, last: int) -> int | None:
    """The frame on which a key is wanted most: halfway between the keys between which the shapes change most; None where keys are dense."""
    frames = sorted({f for s in matte.shapes for f in s.keys} | {first, last})
    gaps = [(b - a, a, b) for a, b in pairwise(frames) if b - a > 1]
    if not gaps:
        return None

    def change(a: int, b: int) -> float:
        return max((float(np.linalg.norm(s.at(b) - s.at(a), axis=1).max()) for s in matte.shapes), default=0.0)

    _, a, b = max(gaps, key=lambda g: (change(g[1], g[2]) + 0.01 * g[0], g[0]))
    return (a + b) // 2


def hold_back(shot: Shot, ident: str, placement_id: str, how: Literal["in front", "limits", "none"] = "in front") -> Shot:
    """The shot in which a matte is in front of a graphic, limits it, or has nothing to do with it any more.

    Raises
    ------
    RegionError
        When one of the two is gone, or the graphic is locked.
    """
    matte_of(shot, ident)
    placement = item_of(shot, placement_id, Placement)
    front, limits = (tuple(x for x in row if x != ident) for row in (placement.held_back, placement.limited_to))
    front, limits = (*front, *([ident] if how == "in front" else [])), (*limits, *([ident] if how == "limits" else []))
    return set_item(shot, placement.but(held_back=front, limited_to=limits))


def hold_out_of(shot: Shot, ident: str, track_id: str, grow: float = 0.0) -> Shot:
    """The shot in which what a matte covers does not exist for a track.

    Raises
    ------
    RegionError
        When the matte is carried by that very track, or tracks would depend on each other in a circle.
    """
    matte = matte_of(shot, ident)
    return add_item(shot, HoldOut(of=track_id, on=matte.on, matte=ident, name=matte.name, grow=grow, soft=0.0))


def _shape(shot: Shot, ident: str, shape_id: str) -> tuple[Matte, MatteShape]:
    matte = matte_of(shot, ident)
    shape = matte.shape(shape_id)
    if shape is None:
        raise RegionError(f"{matte.name} has no such shape any more.")
    return matte, shape


def _at_home(shot: Shot, matte: Matte, frame: int, points: np.ndarray, shape: MatteShape | None = None) -> np.ndarray:
    """Points (N, 2) of a frame's picture in that of the matte's own frame; those of a shape as it is bound."""
    carried = Carrier(shot, matte)
    warp = carried.warp(frame)
    if shape is not None:
        found = carried.moved(shape, points, frame, back=True)
    else:
        found = warp.inverse(points) if warp is not None else None
    if found is None or not np.isfinite(found).all():
        track = shot.track(matte.on)
        raise RegionError(f"{track.name if track else matte.name} has no answer for that on frame {frame}; go to a frame on which it is tracked.")
    return found


def _carried_elsewhere(shot: Shot, matte: Matte, track: Track | None, frame: int) -> Matte:
    """A matte hung on another track; on the frame, and with the keys it has, it does not move in the picture."""
    other = matte.but(on=track.id if track is not None else "", frame=frame)
    shapes, before, after = [], Carrier(shot, matte), Carrier(shot, other)
    for shape in matte.shapes:
        keys = {}
        for f in sorted({*shape.keys, frame}):
            there = before.controls(shape, f)
            at_home = after.moved(shape, there, f, back=True) if there is not None else None
            if at_home is not None and np.isfinite(at_home).all() and (f in shape.keys or f == frame):
                keys[f] = as_points(at_home)
        if frame not in keys:
            raise RegionError(f"Where {matte.name} is on frame {frame} is not known; go to a frame on which both tracks are known.")
        shapes.append(shape.but(keys=keys))
    return other.but(shapes=tuple(shapes))


register_carry(Matte, _carried_elsewhere)
