"""Mattes in the document: shapes with keys that a track carries, joined in their order; and the edits of them."""

from collections.abc import Callable
from functools import cached_property
from itertools import pairwise
from typing import Annotated, Literal, Self

import numpy as np
from pydantic import Field, model_validator

from wertis.core.errors import RegionError
from wertis.core.geometry.affine import POINTS_MET, robust_fit
from wertis.core.geometry.motion import between
from wertis.core.geometry.warp import HomographyWarp, Warp
from wertis.core.keyed import Between, Curve, Key
from wertis.core.matte.outline import bezier, flattened
from wertis.core.shot.document import HoldOut, Item, Model, Placement, Shot, Track, new_id
from wertis.core.shot.edits import as_points
from wertis.core.shot.fields import Frame, Ident, Name, Point, Record
from wertis.core.shot.items import add_item, item_of, register_carry, set_item
from wertis.core.shot.resolve import motion_of

Combine = Literal["add", "subtract", "intersect", "exclude"]
Fall = Literal["smooth", "linear"]
Share = Annotated[float, Field(ge=0, le=1)]
Distance = Annotated[float, Field(ge=0, le=1000)]
Outline = Annotated[tuple[Point, ...], Field(min_length=2, max_length=20_000)]
_MOST = 20_000


class MatteShape(Record):
    """A closed spline of N points.

    Attributes
    ----------
    keys : frame to the points, in the picture of the matte's own frame, as far as the surface is followed back to it.
    roundness : (N,) 0 for a corner to 1 for a smooth curve.
    inner, outer : (N,) pixels over which the edge falls inside and outside of the outline.
    combine : how it is joined to what the shapes before it make.
    between : what the points do between keys; beyond the first and last they hold.
    """

    id: Ident = Field(default_factory=new_id)
    name: Name = "Shape"
    keys: Annotated[dict[Frame, Outline], Field(min_length=1, max_length=100_000)]
    roundness: Annotated[tuple[Share, ...], Field(max_length=_MOST)]
    inner: Annotated[tuple[Distance, ...], Field(max_length=_MOST)]
    outer: Annotated[tuple[Distance, ...], Field(max_length=_MOST)]
    combine: Combine = "add"
    opacity: Share = 1.0
    between: Between = "smooth"
    visible: bool = True

    @model_validator(mode="after")
    def _sound(self) -> Self:
        counts = {len(points) for points in self.keys.values()} | {len(self.roundness), len(self.inner), len(self.outer)}
        if len(counts) != 1:
            raise ValueError("every key of a shape, and what is said of its points, has the same number of points")
        return self

    @cached_property
    def curve(self) -> Curve:
        """The points' coordinates (2 N,) over time."""
        return Curve({f: Key(tuple(v for p in points for v in p)) for f, points in self.keys.items()}, self.between)

    @cached_property
    def _spline(self) -> Callable[[float], np.ndarray]:
        from scipy.interpolate import CubicSpline  # slow to load, and most shots need none

        frames = sorted(self.keys)
        return CubicSpline(frames, np.array([self.keys[f] for f in frames]), bc_type="natural")  # type: ignore[no-any-return]

    def at(self, time: float) -> np.ndarray:
        """(N, 2) the points at a time, in the picture of the matte's own frame.

        Smooth is the natural cubic spline through the keys, for outlines swing to and fro (C. de Boor, A practical guide to splines, 1978).
        """
        if self.between == "smooth" and len(self.keys) > 2:
            return np.asarray(self._spline(float(np.clip(time, min(self.keys), max(self.keys)))))
        return self.curve(time).reshape(-1, 2)


class Matte(Item):
    """A matte: shapes on a track, or on none.

    Attributes
    ----------
    frame : in whose picture the keys' points are given.
    take : how much of the track's motion carries it; "all" takes what bends as well.
    fall : how the soft edge falls.
    grow : pixels by which every outline grows (shrinks, when negative).
    shutter : degrees of the shutter's opening by which it is blurred; 360 is a whole frame, 0 none.
    centre : degrees by which the middle of the opening comes after the frame's own time.
    """

    kind: Literal["matte"] = "matte"
    name: Name = "Matte"
    frame: Frame
    shapes: Annotated[tuple[MatteShape, ...], Field(max_length=2000)] = ()
    take: Model | Literal["all"] = "all"
    fall: Fall = "smooth"
    grow: Annotated[float, Field(ge=-500, le=500)] = 0.0
    invert: bool = False
    opacity: Share = 1.0
    shutter: Annotated[float, Field(ge=0, le=720)] = 0.0
    centre: Annotated[float, Field(ge=-360, le=360)] = 0.0

    def shape(self, ident: str) -> MatteShape | None:
        """The shape with this id."""
        return next((s for s in self.shapes if s.id == ident), None)

    def with_shape(self, shape: MatteShape) -> "Matte":
        """The matte with the shape of the same id replaced, or added last."""
        if self.shape(shape.id) is None:
            return self.but(shapes=(*self.shapes, shape))
        return self.but(shapes=tuple(shape if s.id == shape.id else s for s in self.shapes))


def new_shape(points: np.ndarray, frame: int, roundness: float = 1.0, soft: float = 0.0, combine: Combine = "add") -> MatteShape:
    """A shape through points (N, 2), all of one roundness, and soft to both sides by so many pixels.

    Raises
    ------
    RegionError
        With fewer than three points, or points that are not numbers.
    """
    p = np.asarray(points, float)
    if p.ndim != 2 or p.shape[1] != 2 or len(p) < 3:
        raise RegionError(f"The shape has {len(p)} point(s); draw at least three.")
    if not np.isfinite(p).all():
        raise RegionError("The shape has a point that is not a number; give every point as x, y in pixels.")
    n = len(p)
    return MatteShape(keys={frame: as_points(p)}, roundness=(float(roundness),) * n, inner=(float(soft),) * n, outer=(float(soft),) * n, combine=combine)


def carrier(shot: Shot, matte: Matte, time: float) -> Warp | None:
    """How a matte's surface takes its own frame's picture to a time's; None where its track has no answer."""
    track = shot.track(matte.on)
    if track is None or time == matte.frame:
        return HomographyWarp(np.eye(3))
    motion = motion_of(track)
    warp = between(motion, matte.frame, time) if motion is not None else None
    if warp is None or matte.take == "all" or (warp.matrix is not None and matte.take == "perspective"):
        return warp
    points = _spread(matte)
    moved = warp.forward(points)
    known = np.isfinite(moved).all(1)
    if known.sum() < POINTS_MET[matte.take]:
        return None
    matrix, _ = robust_fit(matte.take, points[known], moved[known], np.ones(int(known.sum())))
    return HomographyWarp(matrix)


def _spread(matte: Matte) -> np.ndarray:
    """(n, 2) points over a matte, through which a simpler motion is fitted to its track's."""
    points = np.concatenate([s.at(matte.frame) for s in matte.shapes] or [np.zeros((0, 2))])
    low, high = (points.min(0), points.max(0)) if len(points) else (np.zeros(2), np.ones(2))
    x, y = np.meshgrid(*(np.linspace(a, max(b, a + 1), 5) for a, b in zip(low, high, strict=True)))
    return np.column_stack([x.ravel(), y.ravel()])


def points_on(shot: Shot, matte: Matte, shape: MatteShape, time: float) -> np.ndarray | None:
    """(N, 2) where a shape's points are in the picture of a time; None where its track has no answer."""
    warp = carrier(shot, matte, time)
    return None if warp is None else warp.forward(shape.at(time))


def outlines_on(shot: Shot, matte: Matte, time: float) -> list[tuple[MatteShape, np.ndarray, np.ndarray]]:
    """The visible shapes of a matte that have an outline in the picture of a time: each with it as a polygon (M, 2), and (M,) where along the shape its
    vertices are."""
    found = []
    for shape in matte.shapes:
        places = points_on(shot, matte, shape, time) if shape.visible else None
        if places is not None and np.isfinite(places).all():
            found.append((shape, *flattened(bezier(places, np.array(shape.roundness)))))
    return found


def add_matte(shot: Shot, track: Track | None, frame: int, name: str = "Matte", shapes: tuple[MatteShape, ...] = ()) -> tuple[Shot, Matte]:
    """The shot with a matte more, drawn on a frame and carried by a track or none; and it."""
    shot = add_item(shot, Matte(on=track.id if track is not None else "", frame=frame, name=name, shapes=shapes))
    added = shot.items[-1]
    assert isinstance(added, Matte)
    return shot, added


def mattes_of(shot: Shot) -> list[Matte]:
    """The mattes of a shot, the lowest first."""
    return [x for x in shot.items if isinstance(x, Matte)]


def matte_of(shot: Shot, ident: str) -> Matte:
    """The matte with this id.

    Raises
    ------
    RegionError
        When it is gone.
    """
    found = item_of(shot, ident)
    if not isinstance(found, Matte):
        raise RegionError(f"{found.name} is not a matte.")
    return found


def add_shape(shot: Shot, ident: str, points: np.ndarray, frame: int, roundness: float = 1.0, soft: float = 0.0, combine: Combine = "add") -> Shot:
    """The shot with a shape more in a matte, drawn through points (N, 2) of a frame's picture."""
    matte = matte_of(shot, ident)
    at_home = _at_home(shot, matte, frame, np.asarray(points, float))
    return set_item(shot, matte.with_shape(new_shape(at_home, frame, roundness, soft, combine)))


def key_shape(shot: Shot, ident: str, shape_id: str, frame: int, points: np.ndarray, reach: Literal["key", "all", "span"] = "key",
              span: tuple[int, int] | None = None) -> Shot:
    """The shot with a shape's points at (N, 2) of a frame's picture.

    Parameters
    ----------
    reach : "key" sets a key there; "all" moves every key by as much, and "span" those within `span`, first and last frame, with a key set there.

    Raises
    ------
    RegionError
        When the shape is gone, the points are not as many, or the track has no answer there.
    """
    matte, shape = _shape(shot, ident, shape_id)
    p = np.asarray(points, float)
    if p.shape != (len(shape.roundness), 2) or not np.isfinite(p).all():
        raise RegionError(f"{shape.name} has {len(shape.roundness)} points; give as many, each x, y in pixels.")
    at_home = _at_home(shot, matte, frame, p)
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
    rounds = np.array(shape.roundness)

    def with_point(points: tuple[Point, ...]) -> tuple[Point, ...]:
        a, b, c, d = bezier(np.array(points), rounds)[after]
        t = part
        new = (1 - t) ** 3 * a + 3 * (1 - t) ** 2 * t * b + 3 * (1 - t) * t ** 2 * c + t ** 3 * d
        return (*points[:after + 1], (float(new[0]), float(new[1])), *points[after + 1:])

    def with_value(values: tuple[float, ...], value: float | None = None) -> tuple[float, ...]:
        other = values[(after + 1) % len(values)]
        return (*values[:after + 1], (1 - part) * values[after] + part * other if value is None else value, *values[after + 1:])

    straight = rounds[after] == 0 and rounds[(after + 1) % len(rounds)] == 0
    return set_item(shot, matte.with_shape(shape.but(keys={f: with_point(k) for f, k in shape.keys.items()}, inner=with_value(shape.inner),
                                                     outer=with_value(shape.outer), roundness=with_value(shape.roundness, 0.0 if straight else 1.0))))


def remove_shape_points(shot: Shot, ident: str, shape_id: str, numbers: set[int]) -> Shot:
    """The shot without some points of a shape, on every key.

    Raises
    ------
    RegionError
        When fewer than three would be left.
    """
    matte, shape = _shape(shot, ident, shape_id)
    keep = [k for k in range(len(shape.roundness)) if k not in numbers]
    if len(keep) < 3:
        raise RegionError(f"{shape.name} needs at least three points; remove the shape instead.")

    def kept(values: tuple) -> tuple:
        return tuple(values[k] for k in keep)

    return set_item(shot, matte.with_shape(shape.but(keys={f: kept(p) for f, p in shape.keys.items()}, roundness=kept(shape.roundness),
                                                     inner=kept(shape.inner), outer=kept(shape.outer))))


def remove_shape(shot: Shot, ident: str, shape_id: str) -> Shot:
    """The shot without a shape of a matte."""
    matte, _ = _shape(shot, ident, shape_id)
    return set_item(shot, matte.but(shapes=tuple(s for s in matte.shapes if s.id != shape_id)))


def set_points_alike(shot: Shot, ident: str, shape_id: str, numbers: set[int] | None = None, roundness: float | None = None, inner: float | None = None,
                     outer: float | None = None) -> Shot:
    """The shot with the roundness or the soft edge of some points of a shape (all when None) set."""
    matte, shape = _shape(shot, ident, shape_id)
    changes = {}
    for name, value in (("roundness", roundness), ("inner", inner), ("outer", outer)):
        if value is not None:
            changes[name] = tuple(float(value) if numbers is None or k in numbers else old for k, old in enumerate(getattr(shape, name)))
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
    placement = item_of(shot, placement_id)
    if not isinstance(placement, Placement):
        raise RegionError(f"{placement.name} is not a graphic.")
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


def _at_home(shot: Shot, matte: Matte, frame: int, points: np.ndarray) -> np.ndarray:
    """Points (N, 2) of a frame's picture in that of the matte's own frame."""
    warp = carrier(shot, matte, frame)
    found = warp.inverse(points) if warp is not None else None
    if found is None or not np.isfinite(found).all():
        track = shot.track(matte.on)
        raise RegionError(f"{track.name if track else matte.name} has no answer for that on frame {frame}; go to a frame on which it is tracked.")
    return found


def _carried_elsewhere(shot: Shot, matte: Matte, track: Track | None, frame: int) -> Matte:
    """A matte hung on another track; on the frame, and with the keys it has, it does not move in the picture."""
    other = matte.but(on=track.id if track is not None else "", frame=frame)
    shapes = []
    for shape in matte.shapes:
        keys = {}
        for f in sorted({*shape.keys, frame}):
            there = points_on(shot, matte, shape, f)
            warp = carrier(shot, other, f)
            at_home = warp.inverse(there) if warp is not None and there is not None else None
            if at_home is not None and np.isfinite(at_home).all() and (f in shape.keys or f == frame):
                keys[f] = as_points(at_home)
        if frame not in keys:
            raise RegionError(f"Where {matte.name} is on frame {frame} is not known; go to a frame on which both tracks are known.")
        shapes.append(shape.but(keys=keys))
    return other.but(shapes=tuple(shapes))


register_carry(Matte, _carried_elsewhere)


