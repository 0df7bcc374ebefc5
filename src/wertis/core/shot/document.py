"""What a shot holds: plain data that never changes in place. Every edit makes a new shot that shares what it did not touch.

A shot has tracks, and items that hang on tracks by reference. A track has its region, its settings, one solution, and layers that correct the
motion in their order; `shot.resolve` builds the motion. Other kinds of items, solutions and layers are registered by defining their records.
"""

import uuid
from functools import cached_property
from typing import Annotated, ClassVar, Literal, Self, TypeVar, overload

import numpy as np
from pydantic import Field, field_validator, model_validator

from wertis.core.geometry import homography, quad
from wertis.core.keyed import Between, Curve, Key
from wertis.core.shot.artwork import Artwork, Shadow, Thickness
from wertis.core.shot.fields import FilePath, Frame, Ident, Integers, KindOf, Matrices, Name, Point, Reals, Record, of_kind
from wertis.core.shot.keys import Keys, plain_keys
from wertis.core.shot.match import NO_MATCH, Match
from wertis.core.shot.pose import Pose

FORMAT_VERSION = 13

Model = Literal["shift", "shift-scale", "shift-turn", "similarity", "affine", "perspective"]
Look = Literal["mix", "luma", "red", "green", "blue", "contrast"]
Blend = Literal["normal", "multiply", "screen", "overlay", "darken", "lighten", "color-dodge", "color-burn", "hard-light", "soft-light", "difference",
                "exclusion", "hue", "saturation", "color", "luminosity", "plus-lighter"]
Fit = Literal["fit", "fill", "stretch", "own"]
Alpha = Literal["file", "straight", "ignore"]
Repeats = Annotated[float, Field(ge=0.05, le=200)]
Mixing = Literal["plate", "linear", "display"]


def new_id() -> str:
    """A name for an object that no other has."""
    return uuid.uuid4().hex[:12]


# -- the plate ----------------------------------------------------------------------------------------------------


class PlateRef(Record):
    """Where the plate is, how it plays, and how it is read.

    Attributes
    ----------
    colour : its colour space, a name of the colour configuration; empty for the one proposed.
    layer : which of its files' layers; empty for the picture itself.
    alpha : how its alpha is taken; see `core.plate.base.ALPHAS`.
    aspect : width of a pixel over its height.
    cuts : frames that begin another shot, where that was looked for.
    no_cuts : frames that do not, however it looks, as a person says.
    """

    path: FilePath
    first: Frame
    last: Frame
    size: tuple[Annotated[int, Field(ge=1, le=65536)], Annotated[int, Field(ge=1, le=65536)]]
    fps: Annotated[float, Field(gt=0, le=1000)] = 24.0
    colour: Annotated[str, Field(max_length=200)] = ""
    layer: Annotated[str, Field(max_length=200)] = ""
    alpha: Alpha = "file"
    aspect: Annotated[float, Field(ge=0.1, le=10)] = 1.0
    cuts: Annotated[tuple[Frame, ...], Field(max_length=100_000)] = ()
    no_cuts: Annotated[tuple[Frame, ...], Field(max_length=100_000)] = ()

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        if self.last < self.first:
            raise ValueError("the plate's last frame comes before its first")
        return self


# -- regions ------------------------------------------------------------------------------------------------------


class Shape(Record):
    """One closed shape of a region: straight sides, or a smooth curve through its points; it adds to what is tracked or subtracts from it."""

    points: Annotated[tuple[Point, ...], Field(min_length=3, max_length=10_000)]
    smooth: bool = False
    subtract: bool = False

    @property
    def array(self) -> np.ndarray:
        """The points as (N, 2)."""
        return np.array(self.points, np.float64)


class Region(Record):
    """What is tracked, drawn on `frame`: a first shape (N points), and more that add or subtract in their order."""

    frame: Frame
    points: Annotated[tuple[Point, ...], Field(min_length=3, max_length=10_000)]
    smooth: bool = False
    more: Annotated[tuple[Shape, ...], Field(max_length=200)] = ()

    @property
    def shapes(self) -> tuple[Shape, ...]:
        """All shapes, the first one first."""
        return (Shape(points=self.points, smooth=self.smooth), *self.more)

    @property
    def array(self) -> np.ndarray:
        """The first shape's points as (N, 2)."""
        return np.array(self.points, np.float64)

    @property
    def corners(self) -> np.ndarray | None:
        """The region's own four corners (4, 2), where it is one plain convex quad; None otherwise."""
        plain = len(self.points) == 4 and not self.more and not self.smooth
        return self.array if plain and quad.is_convex(self.array) else None

    @property
    def box(self) -> np.ndarray:
        """Corners (4, 2) of the box round the shapes that add, clockwise from the top left."""
        p = np.concatenate([s.array for s in self.shapes if not s.subtract])
        (x0, y0), (x1, y1) = p.min(0), p.max(0)
        return np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]])


# -- what tracking gave -------------------------------------------------------------------------------------------


class TrackSettings(KindOf):
    """How a track is tracked; each kind of motion has its own."""

    kind: str

    @property
    def further_references(self) -> tuple[int, ...]:
        """Frames that stand in for the reference frame besides it."""
        return ()


class PlaneSettings(TrackSettings):
    """Settings of a planar track.

    Attributes
    ----------
    model : how the plane may move; see `core.track.kinds`.
    look : what of the plate the tracker looks at; `core.track.look` says what each means.
    half : the tracker looks at half the resolution.
    """

    kind: Literal["plane"] = "plane"
    model: Model = "perspective"
    look: Look = "mix"
    half: bool = False


class Solution(KindOf):
    """What tracking gave: a kind of motion. `reference` is the frame that everything was matched to."""

    kind: str
    reference: Frame

    @property
    def tried(self) -> np.ndarray:
        """(n,) int64, all frames that were tried, in order."""
        raise NotImplementedError

    @property
    def good(self) -> np.ndarray:
        """(n,) whether the surface was found on each of them."""
        raise NotImplementedError

    @property
    def frame_errors(self) -> np.ndarray:
        """(n,) expected error of each, in pixels; inf where it was lost."""
        return np.where(self.good, 0.0, np.inf)

    @property
    def shares(self) -> np.ndarray:
        """(n,) share of the region that was seen on each, 0..1."""
        return self.good.astype(np.float64)


class PlaneSolution(Solution):
    """A tracked plane. Numbers per frame, in the order of `frames`.

    Attributes
    ----------
    frames : (n,) int64, all frames that were tried.
    matrices : (n, 3, 3) reference to frame; nan where the surface was lost.
    errors : (n,) expected error in pixels; inf where lost.
    seen : (n,) share of the region seen, 0..1.
    reasons : frame to why it was lost.
    """

    kind: Literal["plane"] = "plane"
    frames: Integers
    matrices: Matrices
    errors: Reals
    seen: Reals
    reasons: dict[int, str] = {}

    @model_validator(mode="after")
    def _sound(self) -> Self:
        n = len(self.frames)
        if self.matrices.shape != (n, 3, 3) or self.errors.shape != (n,) or self.seen.shape != (n,):
            raise ValueError("the tracked numbers are not all of one length")
        if n > 1 and not np.all(np.diff(self.frames) > 0):
            raise ValueError("the tracked frames are not in order")
        return self

    @property
    def tried(self) -> np.ndarray:
        return self.frames

    @cached_property
    def good(self) -> np.ndarray:  # type: ignore[override]
        return np.isfinite(self.matrices).all(axis=(1, 2))

    @property
    def frame_errors(self) -> np.ndarray:
        return self.errors

    @property
    def shares(self) -> np.ndarray:
        return self.seen

    def by_frame(self) -> dict[int, np.ndarray]:
        """Frame to matrix (3, 3), where the surface was found."""
        return {int(f): m for f, m in zip(self.frames[self.good], self.matrices[self.good], strict=True)}

    def error_by_frame(self) -> dict[int, float]:
        """Frame to expected error in pixels, where the surface was found."""
        return {int(f): float(e) for f, e in zip(self.frames[self.good], self.errors[self.good], strict=True)}


# -- layers on a motion -------------------------------------------------------------------------------------------


class Layer(KindOf):
    """A correction on top of a track's motion. Layers lie in the order of their `rank` unless a person orders them otherwise."""

    kind: str
    enabled: bool = True
    rank: ClassVar[int] = 0

    @property
    def empty(self) -> bool:
        """Whether it changes nothing and says nothing."""
        return False


class SmoothingLayer(Layer):
    """The motion smoothed over `width` frames; 0 leaves it as it is."""

    kind: Literal["smoothing"] = "smoothing"
    width: Annotated[float, Field(ge=0, le=1000)] = 0.0
    rank: ClassVar[int] = 10

    @property
    def empty(self) -> bool:
        return self.width <= 0


class RetrackedLayer(Layer):
    """Frames that were tracked again from repaired ones, in place of what was tracked at first."""

    kind: Literal["retracked"] = "retracked"
    solution: PlaneSolution | None = None
    rank: ClassVar[int] = 20

    @property
    def empty(self) -> bool:
        return self.solution is None


class RepairPoint(Record):
    """A spot of the surface that is put where it belongs; see `core.repair.points.Spot`.

    Attributes
    ----------
    place : on the region's own frame.
    keys : frame to value (x, y) in the frame's pixels. One on the reference frame holds slopes only.
    base : index of the snapshot that the point lies on; -1 where there is none.
    """

    id: Ident = Field(default_factory=new_id)
    place: Point
    keys: Keys = {}
    base: Annotated[int, Field(ge=-1, le=10_000)] = -1


PointRow = Annotated[tuple[RepairPoint, ...], Field(max_length=64)]


class RepairLayer(Layer):
    """Repair points; the motion beneath stays as it was.

    Attributes
    ----------
    snapshots : earlier states of the points, on which later ones lie.
    between : what happens between keys.
    fade : towards the reference frame values fade to nothing; otherwise the nearest key's holds as far as there.
    """

    kind: Literal["repair"] = "repair"
    points: PointRow = ()
    snapshots: Annotated[tuple[PointRow, ...], Field(max_length=10_000)] = ()
    between: Between = "smooth"
    fade: bool = True
    rank: ClassVar[int] = 30

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        if any(p.base >= k for k, row in enumerate(self.snapshots) for p in row) or any(p.base >= len(self.snapshots) for p in self.points):
            raise ValueError("a repair point lies on a snapshot that comes after it")
        return self

    @property
    def empty(self) -> bool:
        return not self.points and self == type(self)()

    def point(self, ident: str) -> RepairPoint | None:
        """The point with this id."""
        return next((p for p in self.points if p.id == ident), None)

    def frames(self, reference: int) -> list[int]:
        """The frames on which some point has a key."""
        return sorted({f for p in self.points for f in p.keys if f != reference})


class ExtraMoveLayer(Layer):
    """A move on top of a track's motion; see `core.repair.extra`.

    Attributes
    ----------
    about : on the region's own frame; the middle of the region when None.
    move, form, skew : frame to shift (x, y) in pixels, to logarithm of scale and turn in degrees, to shear (and 0).
    between : what happens between keys; beyond the last they hold, and on the reference frame there is nothing.
    """

    kind: Literal["extra-move"] = "extra-move"
    about: Point | None = None
    move: Keys = {}
    form: Keys = {}
    skew: Keys = {}
    between: Between = "smooth"
    rank: ClassVar[int] = 40

    @property
    def empty(self) -> bool:
        return self == type(self)()

    def frames(self, reference: int) -> list[int]:
        """The frames that have a key."""
        return sorted({f for keys in (self.move, self.form, self.skew) for f in keys if f != reference})


AnyLayer = Annotated[Layer, of_kind(Layer)]
L = TypeVar("L", bound=Layer)


class Track(Record):
    """A surface: its region, how it is tracked, what tracking gave, and the layers that correct that."""

    id: Ident = Field(default_factory=new_id)
    name: Name = "Track"
    region: Region
    settings: Annotated[TrackSettings, of_kind(TrackSettings)] = PlaneSettings()
    solution: Annotated[Solution | None, of_kind(Solution)] = None
    layers: Annotated[tuple[AnyLayer, ...], Field(max_length=1000)] = ()
    visible: bool = True
    locked: bool = False

    def layer(self, kind: type[L]) -> L:
        """The first layer of a kind, or one that does nothing."""
        return next((x for x in self.layers if isinstance(x, kind)), kind())  # type: ignore[call-arg]

    def with_layer(self, layer: Layer) -> "Track":
        """The track with its first layer of that kind replaced, or the layer put at its rank; one that is empty is left out."""
        kept = list(self.layers)
        at = next((k for k, x in enumerate(kept) if type(x) is type(layer)), None)
        if at is not None:
            kept[at:at + 1] = [] if layer.empty else [layer]
        elif not layer.empty:
            kept.insert(sum(x.rank <= layer.rank for x in kept), layer)
        return self.but(layers=tuple(kept))

    @property
    def reference(self) -> int:
        """The frame in whose picture the motion's points are given."""
        return self.solution.reference if self.solution is not None else self.region.frame


# -- items that hang on tracks ------------------------------------------------------------------------------------


class Item(KindOf):
    """Something that hangs on a track.

    Attributes
    ----------
    on : id of the track that carries it; empty where nothing does.
    called : what one of its kind is called in messages.
    rendered : whether one of its kind lays something on the plate.
    """

    called: ClassVar[str] = "item"
    rendered: ClassVar[bool] = False

    kind: str
    id: Ident = Field(default_factory=new_id)
    name: Name = "Item"
    on: Ident = ""
    visible: bool = True
    locked: bool = False

    @property
    def under(self) -> str:
        """Id of the track that it is listed under."""
        return self.on

    @property
    def depends_on(self) -> tuple[tuple[str, str], ...]:
        """Pairs of tracks (one that needs the other) that the item makes depend on each other."""
        return ()


class Bend(Record):
    """Bent sides of a placement.

    Attributes
    ----------
    handles : of each of the eight control points of `core.geometry.coons`, frame to offset in the placement's unit square.
    between : what happens between keys; outside them they hold.
    """

    handles: Annotated[tuple[Keys, ...], Field(min_length=8, max_length=8)] = ({},) * 8
    between: Between = "smooth"

    def at(self, time: float) -> np.ndarray:
        """The offsets (8, 2) at a time."""
        return np.array([c(time) for c in self._curves])

    @cached_property
    def _curves(self) -> tuple[Curve, ...]:
        return tuple(Curve(plain_keys(keys), self.between) for keys in self.handles)

    @property
    def frames(self) -> list[int]:
        """The frames on which some control point has a key."""
        return sorted({f for keys in self.handles for f in keys})


class Placement(Item):
    """Artwork on the surface: a quad on `frame`, carried by the track.

    Attributes
    ----------
    held_back : ids of mattes of what is in front of it.
    limited_to : ids of mattes outside of which it does not show.
    match : what is done so that it looks like the plate.
    density : pixels of the artwork to one of the placement's frame, where it is laid at its own size (fit "own").
    tiles : how often the artwork is repeated across and down.
    pose : its own motion on the surface.
    shadow, inner_shadow, thickness : None for none.
    """

    called: ClassVar[str] = "graphic"
    rendered: ClassVar[bool] = True

    kind: Literal["placement"] = "placement"
    name: Name = "Graphic"
    frame: Frame
    quad: tuple[Point, Point, Point, Point]
    artwork: Artwork = Artwork()
    fit: Fit = "fit"
    ratio: Annotated[float | None, Field(gt=0.01, lt=100)] = None
    blend: Blend = "normal"
    opacity: Annotated[float, Field(ge=0, le=1)] = 1.0
    bend: Bend = Bend()
    held_back: Annotated[tuple[Ident, ...], Field(max_length=1000)] = ()
    limited_to: Annotated[tuple[Ident, ...], Field(max_length=1000)] = ()
    match: Match = NO_MATCH
    density: Annotated[float, Field(ge=0.01, le=100)] = 1.0
    tiles: tuple[Repeats, Repeats] = (1.0, 1.0)
    pose: Pose = Pose()
    shadow: Shadow | None = None
    inner_shadow: Shadow | None = None
    thickness: Thickness | None = None

    @field_validator("quad")
    @classmethod
    def _convex(cls, value: tuple) -> tuple:
        if not quad.is_convex(np.array(value)):
            raise ValueError("the placement's corners fold over; drag them so that its sides do not cross")
        return value

    @property
    def is_bent(self) -> bool:
        """Whether its sides have a bend on some frame."""
        return any(self.bend.handles)

    @property
    def is_tiled(self) -> bool:
        """Whether its artwork is repeated."""
        return self.tiles != (1.0, 1.0)

    @property
    def array(self) -> np.ndarray:
        """The quad as (4, 2)."""
        return np.array(self.quad, np.float64)

    def square_at(self, time: float) -> np.ndarray:
        """(3, 3) the unit square of the placement, moved as its keys say at a time, to the picture of the placement's frame."""
        return self._square @ self.pose.matrix_at(time) if self.pose.keys else self._square

    @cached_property
    def _square(self) -> np.ndarray:
        found = homography.from_unit_square(self.array)
        found.flags.writeable = False  # everyone is given the same one
        return found

    def quad_at(self, time: float) -> np.ndarray:
        """The quad (4, 2) in the picture of the placement's frame, moved as its keys say at a time."""
        return homography.apply(self.square_at(time), quad.UNIT_SQUARE) if self.pose.keys else self.array


class HoldOut(Item):
    """What is taken away from a track: a shape, or a matte sequence from disk.

    Attributes
    ----------
    of : id of the track from which it takes pixels away.
    keys : frame to the shape's points, all of one count; outside them they hold. A shape that a track carries (`on`) has one key.
    between : what the points do between keys.
    path, invert : a matte instead of a shape; white is held out unless inverted.
    matte : id of a drawn matte instead; `on` is then the track that carries it.
    grow : pixels by which the held-out area grows (shrinks, when negative).
    soft : width in pixels of the edge's fall.
    enabled : whether it takes pixels away.
    """

    kind: Literal["hold-out"] = "hold-out"
    name: Name = "Hold-out"
    of: Ident
    keys: dict[Frame, Annotated[tuple[Point, ...], Field(min_length=3, max_length=10_000)]] = {}
    between: Between = "straight"
    path: FilePath = ""
    matte: Ident = ""
    invert: bool = False
    grow: Annotated[float, Field(ge=-200, le=200)] = 4.0
    soft: Annotated[float, Field(ge=0, le=200)] = 2.0
    enabled: bool = True

    @model_validator(mode="after")
    def _sound(self) -> Self:
        if not self.path and not self.keys and not self.matte:
            raise ValueError("a hold-out needs a shape or a matte")
        if len({len(points) for points in self.keys.values()}) > 1:
            raise ValueError("the keys of a hold-out do not have the same number of points")
        return self

    @property
    def under(self) -> str:
        return self.of

    @property
    def depends_on(self) -> tuple[tuple[str, str], ...]:
        return ((self.of, self.on),) if self.on else ()

    @cached_property
    def curve(self) -> Curve:
        """The points' coordinates (2 N,) over time."""
        return Curve({f: Key(tuple(v for p in points for v in p)) for f, points in self.keys.items()}, self.between)


I = TypeVar("I", bound=Item)
AnyItem = Annotated[Item, of_kind(Item)]


class ShotCamera(KindOf):
    """The camera that took the plate, once it is known; planes of the scene are seen by it."""

    kind: str


class Shot(Record):
    """One plate, a range, tracks, and items that hang on the tracks; what comes later in `items` lies over what comes before.

    Attributes
    ----------
    mixing : in what light graphics are laid on the plate: in the plate's own numbers, in linear light, or as a display codes it.
    """

    name: Name = "Untitled"
    plate: PlateRef | None = None
    mixing: Mixing = "plate"
    range: tuple[Frame, Frame] = (1, 1)
    tracks: Annotated[tuple[Track, ...], Field(max_length=10_000)] = ()
    items: Annotated[tuple[AnyItem, ...], Field(max_length=100_000)] = ()
    camera: Annotated[ShotCamera | None, of_kind(ShotCamera)] = None

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        if self.range[1] < self.range[0]:
            raise ValueError("the range ends before it begins")
        return self

    def track(self, ident: str) -> Track | None:
        """The track with this id."""
        return next((t for t in self.tracks if t.id == ident), None)

    def track_named(self, name: str) -> Track | None:
        """The first track of this name."""
        return next((t for t in self.tracks if t.name == name), None)

    def with_track(self, track: Track) -> "Shot":
        """The shot with the track of the same id replaced, or added."""
        if self.track(track.id) is None:
            return self.but(tracks=(*self.tracks, track))
        return self.but(tracks=tuple(track if t.id == track.id else t for t in self.tracks))

    @overload
    def item(self, ident: str) -> Item | None: ...
    @overload
    def item(self, ident: str, kind: type[I]) -> I | None: ...

    def item(self, ident: str, kind: type[Item] = Item) -> Item | None:
        """The item with this id, where it is of the kind wanted."""
        return next((x for x in self.items if x.id == ident and isinstance(x, kind)), None)

    @overload
    def items_under(self, track: str) -> tuple[Item, ...]: ...
    @overload
    def items_under(self, track: str, kind: type[I]) -> tuple[I, ...]: ...

    def items_under(self, track: str, kind: type[Item] = Item) -> tuple[Item, ...]:
        """The items of a kind that are listed under a track, in their order."""
        return tuple(x for x in self.items if x.under == track and isinstance(x, kind))

    def placements(self, track: str) -> tuple[Placement, ...]:
        """The placements that a track carries."""
        return self.items_under(track, Placement)

    def hold_outs(self, track: str) -> tuple[HoldOut, ...]:
        """What is taken away from a track."""
        return self.items_under(track, HoldOut)

    def with_item(self, item: Item) -> "Shot":
        """The shot with the item of the same id replaced, or added on top."""
        if self.item(item.id) is None:
            return self.but(items=(*self.items, item))
        return self.but(items=tuple(item if x.id == item.id else x for x in self.items))

    def without_item(self, ident: str) -> "Shot":
        """The shot less an item."""
        return self.but(items=tuple(x for x in self.items if x.id != ident))

    def without_track(self, ident: str) -> "Shot":
        """The shot less a track and what is listed under it; what it carried elsewhere stays where it is, carried by nothing."""
        kept = tuple(x.but(on="") if x.on == ident else x for x in self.items if x.under != ident)
        return self.but(tracks=tuple(t for t in self.tracks if t.id != ident), items=kept)


def dependency_cycle(shot: Shot) -> list[str]:
    """Ids of tracks that depend on each other in a circle, by what is carried by them and taken away from them; empty where none do."""
    needs: dict[str, set[str]] = {}
    for item in shot.items:
        for one, other in item.depends_on:
            needs.setdefault(one, set()).add(other)

    def found(at: str, path: list[str]) -> list[str]:
        if at in path:
            return path[path.index(at):]
        for other in sorted(needs.get(at, ())):
            if cycle := found(other, [*path, at]):
                return cycle
        return []

    return next((cycle for start in sorted(needs) if (cycle := found(start, []))), [])
