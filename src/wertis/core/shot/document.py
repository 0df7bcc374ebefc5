"""What a shot holds: plain data that never changes in place. Every edit makes a new shot that shares what it did not touch."""

import uuid
from functools import cached_property
from typing import Annotated, Any, Literal, Self

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from wertis.core.geometry import quad
from wertis.core.geometry.motion import Motion, PlanarMotion
from wertis.core.repair.curve import NOWHERE, Curve, Key
from wertis.core.repair.extra import ExtraMotion
from wertis.core.repair.points import RepairedMotion, Spot
from wertis.core.repair.smoothing import smoothed

# older ones are read as they are: 1 had regions of one shape, 2 no extra moves, bent sides or stretches tracked again, 3 no layers, pixel
# aspect or choice of light
FORMAT_VERSION = 5

Name = Annotated[str, Field(min_length=1, max_length=200)]
Point = tuple[Annotated[float, Field(allow_inf_nan=False, ge=-1e7, le=1e7)], Annotated[float, Field(allow_inf_nan=False, ge=-1e7, le=1e7)]]
Frame = Annotated[int, Field(ge=-10_000_000, le=100_000_000)]
Kind = Literal["shift", "shift-scale", "shift-turn", "similarity", "affine", "perspective"]
Look = Literal["mix", "luma", "red", "green", "blue", "contrast"]
Blend = Literal["normal", "multiply", "screen", "overlay"]
Fit = Literal["fit", "fill", "stretch"]
Alpha = Literal["file", "straight", "ignore"]
Mixing = Literal["plate", "linear", "display"]
ArtworkKind = Literal["grid", "checker", "picture", "sequence"]


def new_id() -> str:
    """A name for an object that no other has."""
    return uuid.uuid4().hex[:12]


class Record(BaseModel):
    """Base of everything in a shot: checked on entry, never changed."""

    model_config = ConfigDict(frozen=True, extra="forbid", arbitrary_types_allowed=True)

    def but(self, **changes: Any) -> Self:
        """The same record with some fields changed, checked again.

        Raises
        ------
        pydantic.ValidationError
            When a new value does not fit its field.
        """
        # fields are taken as they are, not dumped: unchanged parts are shared and arrays stay the same objects
        fields = {name: getattr(self, name) for name in type(self).model_fields}
        return type(self).model_validate({**fields, **changes})


class PlateRef(Record):
    """Where the plate is, how it plays, and how it is read.

    Attributes
    ----------
    colour : its colour space, a name of the colour configuration; empty for the one proposed.
    layer : which of its files' layers; empty for the picture itself.
    alpha : how its alpha is taken; see `core.plate.base.ALPHAS`.
    aspect : width of a pixel over its height.
    """

    path: Annotated[str, Field(max_length=4096)]
    first: Frame
    last: Frame
    size: tuple[Annotated[int, Field(ge=1, le=65536)], Annotated[int, Field(ge=1, le=65536)]]
    fps: Annotated[float, Field(gt=0, le=1000)] = 24.0
    colour: Annotated[str, Field(max_length=200)] = ""
    layer: Annotated[str, Field(max_length=200)] = ""
    alpha: Alpha = "file"
    aspect: Annotated[float, Field(ge=0.1, le=10)] = 1.0

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        if self.last < self.first:
            raise ValueError("the plate's last frame comes before its first")
        return self


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


class Solved(Record):
    """A tracked plane. Numbers per frame, in the order of `frames`; the arrays are read only.

    Attributes
    ----------
    reference : the frame that everything was matched to.
    frames : (n,) int64, all frames that were tried.
    matrices : (n, 3, 3) reference to frame; nan where the surface was lost.
    errors : (n,) expected error in pixels; inf where lost.
    seen : (n,) share of the region seen, 0..1.
    reasons : frame to why it was lost.
    """

    reference: Frame
    frames: np.ndarray
    matrices: np.ndarray
    errors: np.ndarray
    seen: np.ndarray
    reasons: dict[int, str] = {}

    @model_validator(mode="after")
    def _sound(self) -> Self:
        n = len(self.frames)
        if self.matrices.shape != (n, 3, 3) or self.errors.shape != (n,) or self.seen.shape != (n,):
            raise ValueError("the tracked numbers are not all of one length")
        if n > 1 and not np.all(np.diff(self.frames) > 0):
            raise ValueError("the tracked frames are not in order")
        for name in ("frames", "matrices", "errors", "seen"):
            getattr(self, name).flags.writeable = False
        return self

    @property
    def good(self) -> np.ndarray:
        """(n,) whether the surface was found."""
        return np.isfinite(self.matrices).all(axis=(1, 2))

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, Solved):
            return NotImplemented
        return self is other or (
            self.reference == other.reference and self.reasons == other.reasons
            and all(np.array_equal(getattr(self, k), getattr(other, k), equal_nan=k != "frames")
                    for k in ("frames", "matrices", "errors", "seen")))

    __hash__ = None  # type: ignore[assignment]


class Artwork(Record):
    """What a placement shows. A sequence's or movie's first picture falls on `start`; after its last one that holds, or it begins again (`loop`)."""

    kind: ArtworkKind = "grid"
    path: Annotated[str, Field(max_length=4096)] = ""
    start: Frame = 0
    loop: bool = False
    cells: Annotated[int, Field(ge=1, le=64)] = 8


class RepairKey(Record):
    """A pair of numbers on a frame; a repair point's are in the frame's pixels. See `core.repair.curve.Key`."""

    value: Point
    slopes: tuple[Point, Point] | None = None


Keys = dict[Frame, RepairKey]


class Bend(Record):
    """Bent sides of a placement.

    Attributes
    ----------
    handles : of each of the eight control points of `core.geometry.coons`, frame to offset in the placement's unit square.
    smooth : values between keys go smoothly, rather than straight; outside them they hold.
    """

    handles: Annotated[tuple[Keys, ...], Field(min_length=8, max_length=8)] = ({},) * 8
    smooth: bool = True

    def at(self, time: float) -> np.ndarray:
        """The offsets (8, 2) at a time."""
        return np.array([c(time) for c in self._curves])

    @cached_property
    def _curves(self) -> tuple[Curve, ...]:
        return tuple(_curve(keys, NOWHERE, self.smooth, fade=False) for keys in self.handles)

    @property
    def frames(self) -> list[int]:
        """The frames on which some control point has a key."""
        return sorted({f for keys in self.handles for f in keys})


class Placement(Record):
    """Artwork on the surface: a quad on `frame`, carried by the track."""

    id: Annotated[str, Field(max_length=64)] = Field(default_factory=new_id)
    name: Name = "Graphic"
    frame: Frame
    quad: tuple[Point, Point, Point, Point]
    artwork: Artwork = Artwork()
    fit: Fit = "fit"
    ratio: Annotated[float | None, Field(gt=0.01, lt=100)] = None
    blend: Blend = "normal"
    opacity: Annotated[float, Field(ge=0, le=1)] = 1.0
    bend: Bend = Bend()
    visible: bool = True

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
    def array(self) -> np.ndarray:
        """The quad as (4, 2)."""
        return np.array(self.quad, np.float64)


class HoldOut(Record):
    """What is taken away from a track: a shape, or a matte sequence from disk.

    Attributes
    ----------
    keys : frame to the shape's points, all of one count; between keys the points go straight, outside them they hold. A shape that
        `follows` a track has one key and is carried by that track's motion.
    follows : id of the track that carries the shape; empty when it stays where its keys put it.
    path, invert : a matte instead of a shape; white is held out unless inverted.
    grow : pixels by which the held-out area grows (shrinks, when negative).
    soft : width in pixels of the edge's fall.
    """

    id: Annotated[str, Field(max_length=64)] = Field(default_factory=new_id)
    name: Name = "Hold-out"
    keys: dict[Frame, Annotated[tuple[Point, ...], Field(min_length=3, max_length=10_000)]] = {}
    follows: Annotated[str, Field(max_length=64)] = ""
    path: Annotated[str, Field(max_length=4096)] = ""
    invert: bool = False
    grow: Annotated[float, Field(ge=-200, le=200)] = 4.0
    soft: Annotated[float, Field(ge=0, le=200)] = 2.0
    enabled: bool = True

    @model_validator(mode="after")
    def _sound(self) -> Self:
        if not self.path and not self.keys:
            raise ValueError("a hold-out needs a shape or a matte")
        if len({len(points) for points in self.keys.values()}) > 1:
            raise ValueError("the keys of a hold-out do not have the same number of points")
        return self


class RepairPoint(Record):
    """A spot of the surface that is put where it belongs; see `core.repair.points.Spot`.

    Attributes
    ----------
    place : on the region's own frame.
    keys : frame to value. One on the reference frame holds slopes only.
    under : the points that were there when this one was added, as they were then.
    """

    id: Annotated[str, Field(max_length=64)] = Field(default_factory=new_id)
    place: Point
    keys: dict[Frame, RepairKey] = {}
    under: Annotated[tuple["RepairPoint", ...], Field(max_length=64)] = ()


class Repair(Record):
    """What lies on a track's motion; the tracked motion stays as it was.

    Attributes
    ----------
    smooth : values between keys go smoothly, rather than straight.
    fade : towards the reference frame they fade to nothing; otherwise the nearest key's holds as far as there.
    """

    points: Annotated[tuple[RepairPoint, ...], Field(max_length=64)] = ()
    smooth: bool = True
    fade: bool = True
    enabled: bool = True

    def point(self, ident: str) -> RepairPoint | None:
        """The point with this id."""
        return next((p for p in self.points if p.id == ident), None)

    def frames(self, reference: int) -> list[int]:
        """The frames on which some point has a key."""
        return sorted({f for p in self.points for f in p.keys if f != reference})


class ExtraMove(Record):
    """A move on top of a track's motion; see `core.repair.extra`.

    Attributes
    ----------
    about : on the region's own frame; the middle of the region when None.
    move, form, skew : frame to shift (x, y), to logarithm of scale and turn in degrees, to shear (and 0).
    smooth : values between keys go smoothly, rather than straight; beyond the last they hold, and on the reference frame there is nothing.
    """

    about: Point | None = None
    move: Keys = {}
    form: Keys = {}
    skew: Keys = {}
    smooth: bool = True
    enabled: bool = True

    def frames(self, reference: int) -> list[int]:
        """The frames that have a key."""
        return sorted({f for keys in (self.move, self.form, self.skew) for f in keys if f != reference})


class Track(Record):
    """A surface: its region, its motion, and what hangs on it.

    Attributes
    ----------
    look : what of the plate the tracker looks at; `core.track.look` says what each means.
    half : the tracker looks at half the resolution.
    smoothing : width in frames over which the tracked motion is smoothed; 0 leaves it as it is.
    again : frames that were tracked again from repaired ones; they stand in for the tracked ones while repairs are on.
    extra : a move on top of everything.
    """

    id: Annotated[str, Field(max_length=64)] = Field(default_factory=new_id)
    name: Name = "Track"
    kind: Kind = "perspective"
    look: Look = "mix"
    half: bool = False
    region: Region
    solved: Solved | None = None
    smoothing: Annotated[float, Field(ge=0, le=1000)] = 0.0
    repair: Repair = Repair()
    again: Solved | None = None
    extra: ExtraMove = ExtraMove()
    placements: tuple[Placement, ...] = ()
    hold_outs: tuple[HoldOut, ...] = ()
    visible: bool = True

    @cached_property
    def motion(self) -> Motion | None:
        """The motion that everything reads: as tracked, with the repairs and the extra move on it where they are switched on; None before tracking."""
        inner, extra = self.repaired, self.extra
        if inner is None or not extra.enabled or not extra.frames(inner.reference):
            return inner
        about = np.array(extra.about) if extra.about is not None else self.region.box.mean(0)
        curves = (_curve(keys, inner.reference, extra.smooth, fade=True) for keys in (extra.move, extra.form, extra.skew))
        return ExtraMotion(inner, about, *curves)

    @cached_property
    def repaired(self) -> Motion | None:
        """The motion with its repairs, without the extra move."""
        beneath = self.beneath
        if beneath is None or not self.repair.enabled or not any(p.keys for p in self.repair.points):
            return beneath
        return RepairedMotion(beneath, self.spots)

    @cached_property
    def beneath(self) -> PlanarMotion | None:
        """What repair points lie on: the motion as it was tracked, smoothed where that is wanted, and what was tracked again."""
        tracked = self.tracked
        again = self.again if self.repair.enabled else None
        if tracked is None or (self.smoothing <= 0 and again is None):
            return tracked
        matrices = smoothed(tracked.matrices, self.region.box, tracked.reference, self.smoothing) if self.smoothing > 0 else tracked.matrices
        return PlanarMotion(tracked.reference, {**matrices, **(_matrices(again) if again is not None else {})}, self.region.box)

    @cached_property
    def spots(self) -> tuple[Spot, ...]:
        """The repair points as the repaired motion takes them."""
        reference = self.solved.reference if self.solved is not None else self.region.frame
        return tuple(_spot(p, self.repair, reference) for p in self.repair.points)

    @cached_property
    def tracked(self) -> PlanarMotion | None:
        """The motion as it was tracked; None before tracking."""
        if self.solved is None:
            return None
        return PlanarMotion(self.solved.reference, _matrices(self.solved), self.region.box)

    def hold_out(self, ident: str) -> HoldOut | None:
        """The hold-out with this id."""
        return next((h for h in self.hold_outs if h.id == ident), None)

    def placement(self, ident: str) -> Placement | None:
        """The placement with this id."""
        return next((p for p in self.placements if p.id == ident), None)


def _matrices(solved: Solved) -> dict[int, np.ndarray]:
    good = solved.good
    return {int(f): m for f, m in zip(solved.frames[good], solved.matrices[good], strict=True)}


def _curve(keys: Keys, reference: int, smooth: bool, fade: bool) -> Curve:
    return Curve({f: Key(k.value, k.slopes) for f, k in keys.items()}, reference, smooth, fade)


def _spot(point: RepairPoint, repair: Repair, reference: int) -> Spot:
    return Spot(np.array(point.place), _curve(point.keys, reference, repair.smooth, repair.fade),
                tuple(_spot(p, repair, reference) for p in point.under))


class Shot(Record):
    """One plate, a range, and tracks.

    Attributes
    ----------
    mixing : in what light graphics are laid on the plate: in the plate's own numbers, in linear light, or as a display codes it.
    """

    name: Name = "Untitled"
    plate: PlateRef | None = None
    mixing: Mixing = "plate"
    range: tuple[Frame, Frame] = (1, 1)
    tracks: tuple[Track, ...] = ()

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

    def without_track(self, ident: str) -> "Shot":
        """The shot less a track."""
        return self.but(tracks=tuple(t for t in self.tracks if t.id != ident))
