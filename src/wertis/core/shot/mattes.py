"""Mattes in the document: shapes with keys that a track carries, in groups, joined in their order, and what is taken from the picture beneath them."""

from collections.abc import Callable
from functools import cached_property
from typing import Annotated, ClassVar, Literal, Self

import numpy as np
import scipy
from pydantic import Field, model_validator

from wertis.core.errors import RegionError
from wertis.core.keyed import Between, Curve, Key
from wertis.core.matte.outline import CORNER, bezier, from_handles
from wertis.core.matte.stroke import Ends
from wertis.core.shot.document import Item, Model, Shot, new_id
from wertis.core.shot.edits import as_points
from wertis.core.shot.fields import FilePath, Frame, Ident, Name, Point, Record
from wertis.core.shot.items import item_of

Combine = Literal["add", "subtract", "intersect", "exclude"]
Fall = Literal["smooth", "linear"]
Share = Annotated[float, Field(ge=0, le=1)]
Distance = Annotated[float, Field(ge=0, le=1000)]
Outline = Annotated[tuple[Point, ...], Field(min_length=2, max_length=60_000)]
Colour = tuple[Share, Share, Share]
_MOST = 20_000


class Anchor(Record):
    """Something with a place on every frame, to which a point of a shape may be bound.

    Attributes
    ----------
    kind : a tracked point, a vertex of a mesh, a point of a track's region, or a point of another shape.
    of : id of the track, or of the matte.
    shape : id of the shape, for a point of one.
    name : of the tracked point; else the number of the vertex or point.
    """

    kind: Literal["point", "vertex", "corner", "shape"]
    of: Ident
    shape: Ident = ""
    name: Name


class Stroke(Record):
    """How a shape is drawn as a line rather than filled.

    Attributes
    ----------
    widths : (N,) pixels at its points.
    ends : as SVG's line caps; butt is here flat.
    dash, gap : pixels drawn and left out in turn; no gap, no dashes.
    begin, end : keys: frame to the share of its length from and to which it is drawn; all of it without keys.
    """

    widths: Annotated[tuple[Distance, ...], Field(max_length=_MOST)]
    ends: Ends = "round"
    dash: Distance = 0.0
    gap: Distance = 0.0
    begin: dict[Frame, Share] = {}
    end: dict[Frame, Share] = {}

    def part(self, time: float) -> tuple[float, float]:
        """The share of its length from and to which it is drawn at a time."""
        def at(keys: dict[Frame, Share], default: float) -> float:
            return float(Curve({f: Key((v,)) for f, v in keys.items()}, "straight", size=1)(time)[0]) if keys else default

        return at(self.begin, 0.0), at(self.end, 1.0)


class MatteShape(Record):
    """A spline of N points, closed and filled, or drawn as a line.

    Attributes
    ----------
    keys : frame to the points, in the picture of the matte's own frame, as far as the surface is followed back to it. Where the points have handles, each
        is followed by the end of the handle before it and of the one after it, so that there are 3 N.
    handled : whether they have.
    roundness : (N,) 0 for a corner to 1 for a smooth curve, for points without handles.
    inner, outer : (N,) pixels over which the edge falls inside and outside of the outline.
    closed : whether the last point is followed by the first; an open shape is a line.
    stroke : how it is drawn as a line; None for a filled shape.
    combine : how it is joined to what the shapes before it make.
    group : id of the group that it belongs to.
    grow : pixels by which its outline grows (shrinks, when negative).
    colour : in which its outline is drawn; None for the usual one.
    bound : (N,) to what each of its points is bound, at most three anchors; none of them for a point that the matte's track carries.
    between : what the points do between keys; beyond the first and last they hold.
    """

    id: Ident = Field(default_factory=new_id)
    name: Name = "Shape"
    keys: Annotated[dict[Frame, Outline], Field(min_length=1, max_length=100_000)]
    handled: bool = False
    roundness: Annotated[tuple[Share, ...], Field(max_length=_MOST)]
    inner: Annotated[tuple[Distance, ...], Field(max_length=_MOST)]
    outer: Annotated[tuple[Distance, ...], Field(max_length=_MOST)]
    closed: bool = True
    stroke: Stroke | None = None
    combine: Combine = "add"
    group: Ident = ""
    opacity: Share = 1.0
    grow: Annotated[float, Field(ge=-500, le=500)] = 0.0
    colour: Colour | None = None
    bound: Annotated[tuple[Annotated[tuple[Anchor, ...], Field(max_length=3)], ...], Field(max_length=_MOST)] = ()
    between: Between = "smooth"
    visible: bool = True
    locked: bool = False

    @model_validator(mode="after")
    def _sound(self) -> Self:
        per = 3 if self.handled else 1
        counts = {len(points) / per for points in self.keys.values()} | {len(self.roundness), len(self.inner), len(self.outer)}
        counts |= {len(self.bound)} if self.bound else set()
        counts |= {len(self.stroke.widths)} if self.stroke is not None else set()
        if len(counts) != 1:
            raise ValueError("every key of a shape, and what is said of its points, has the same number of points")
        if not self.closed and self.stroke is None:
            raise ValueError("an open shape is drawn as a line; give it a width")
        return self

    @property
    def count(self) -> int:
        """N."""
        return len(self.roundness)

    @cached_property
    def curve(self) -> Curve:
        """The points' coordinates over time, those of their handles among them."""
        return Curve({f: Key(tuple(v for p in points for v in p)) for f, points in self.keys.items()}, self.between)

    @cached_property
    def _spline(self) -> Callable[[float], np.ndarray]:

        frames = sorted(self.keys)
        return scipy.interpolate.CubicSpline(frames, np.array([self.keys[f] for f in frames]), bc_type="natural")  # type: ignore[no-any-return]

    def at(self, time: float) -> np.ndarray:
        """(N, 2) the points at a time, or (3 N, 2) with their handles, in the picture of the matte's own frame.

        Smooth is the natural cubic spline through the keys, for outlines swing to and fro (C. de Boor, A practical guide to splines, 1978).
        """
        if self.between == "smooth" and len(self.keys) > 2:
            return np.asarray(self._spline(float(np.clip(time, min(self.keys), max(self.keys)))))
        return self.curve(time).reshape(-1, 2)

    @property
    def corners(self) -> list[int]:
        """Numbers of the points that are corners; of points with handles none counts as one, since their handles say how the outline goes on."""
        return [] if self.handled else [k for k, roundness in enumerate(self.roundness) if roundness < CORNER]

    def points_of(self, controls: np.ndarray) -> np.ndarray:
        """The points (N, 2) among what `at` gives."""
        return controls[::3] if self.handled else controls

    def curves(self, controls: np.ndarray) -> np.ndarray:
        """(N, 4, 2) Bezier curves, one less for an open shape, of what `at` gives, or of where that has come to in a picture."""
        if self.handled:
            return from_handles(controls.reshape(-1, 3, 2), self.closed)
        return bezier(controls, np.array(self.roundness), self.closed)


class MatteGroup(Record):
    """Shapes that are joined among themselves before they are joined to the others.

    Attributes
    ----------
    within : id of the group that it lies in; empty for none.
    grow : pixels by which the outlines in it grow.
    """

    id: Ident = Field(default_factory=new_id)
    name: Name = "Group"
    within: Ident = ""
    combine: Combine = "add"
    opacity: Share = 1.0
    invert: bool = False
    grow: Annotated[float, Field(ge=-500, le=500)] = 0.0
    visible: bool = True


class MatteSource(Record):
    """A matte that is not drawn, on which shapes are drawn: from files, or by what the picture shows.

    Attributes
    ----------
    kind : "file" a matte sequence; "brightness" as bright as `low` to `high`, as coded with white at 1; "colour" within `reach` of `colour`;
        "difference" more than `reach` away from the picture in `path`, a still or a sequence, such as a clean plate.
    reach : a distance of colours, CIE 1976 L*a*b*.
    soft : over which it fades: in brightness, or as a distance of colours.
    """

    kind: Literal["file", "brightness", "colour", "difference"]
    path: FilePath = ""
    low: Annotated[float, Field(ge=-10, le=100)] = 0.5
    high: Annotated[float, Field(ge=-10, le=1000)] = 1000.0
    colour: Colour = (0.0, 0.6, 0.2)
    reach: Annotated[float, Field(ge=0, le=500)] = 20.0
    soft: Annotated[float, Field(ge=0, le=500)] = 0.1
    invert: bool = False


class Matte(Item):
    """A matte: shapes on a track, or on none.

    Attributes
    ----------
    frame : in whose picture the keys' points are given.
    groups : of shapes.
    source : on what they are drawn; None for nothing.
    take : how much of the track's motion carries it; "all" takes what bends as well.
    fall : how the soft edge falls.
    edge : "drawn", or "picture": within the soft edge the alpha is what the picture shows.
    grow : pixels by which every outline grows (shrinks, when negative); what is subtracted does the opposite.
    shutter : degrees of the shutter's opening by which it is blurred; 360 is a whole frame, 0 none.
    centre : degrees by which the middle of the opening comes after the frame's own time.
    """

    called: ClassVar[str] = "matte"

    kind: Literal["matte"] = "matte"
    name: Name = "Matte"
    frame: Frame
    shapes: Annotated[tuple[MatteShape, ...], Field(max_length=2000)] = ()
    groups: Annotated[tuple[MatteGroup, ...], Field(max_length=500)] = ()
    source: MatteSource | None = None
    take: Model | Literal["all"] = "all"
    fall: Fall = "smooth"
    edge: Literal["drawn", "picture"] = "drawn"
    grow: Annotated[float, Field(ge=-500, le=500)] = 0.0
    invert: bool = False
    opacity: Share = 1.0
    shutter: Annotated[float, Field(ge=0, le=720)] = 0.0
    centre: Annotated[float, Field(ge=-360, le=360)] = 0.0

    @model_validator(mode="after")
    def _groups_end(self) -> Self:
        above = {g.id: g.within for g in self.groups}
        for ident in above:
            seen = {ident}
            while (ident := above.get(ident, "")) and ident not in seen:
                seen.add(ident)
            if ident:
                raise ValueError("a group of shapes cannot lie in itself")
        return self

    def shape(self, ident: str) -> MatteShape | None:
        """The shape with this id."""
        return next((s for s in self.shapes if s.id == ident), None)

    def group(self, ident: str) -> MatteGroup | None:
        """The group with this id."""
        return next((g for g in self.groups if g.id == ident), None)

    def with_shape(self, shape: MatteShape) -> "Matte":
        """The matte with the shape of the same id replaced, or added last."""
        if self.shape(shape.id) is None:
            return self.but(shapes=(*self.shapes, shape))
        return self.but(shapes=tuple(shape if s.id == shape.id else s for s in self.shapes))

    def grows(self, shape: MatteShape) -> float:
        """Pixels by which a shape's outline grows, by itself and with what it belongs to."""
        total, ident = self.grow + shape.grow, shape.group
        while (group := self.group(ident)) is not None:
            total, ident = total + group.grow, group.within
        return total if shape.combine != "subtract" else 2 * shape.grow - total


def new_shape(points: np.ndarray, frame: int, roundness: float = 1.0, soft: float = 0.0, combine: Combine = "add", width: float = 0.0,
              closed: bool = True) -> MatteShape:
    """A shape through points (N, 2), all of one roundness, and soft to both sides by so many pixels; a line where it has a width.

    Raises
    ------
    RegionError
        With fewer than three points (two for a line), or points that are not numbers.
    """
    p = np.asarray(points, float)
    least = 2 if width else 3
    if p.ndim != 2 or p.shape[1] != 2 or len(p) < least:
        raise RegionError(f"The {'line' if width else 'shape'} has {len(p)} point(s); draw at least {'two' if width else 'three'}.")
    if not np.isfinite(p).all():
        raise RegionError("The shape has a point that is not a number; give every point as x, y in pixels.")
    n = len(p)
    return MatteShape(keys={frame: as_points(p)}, roundness=(float(roundness),) * n, inner=(float(soft),) * n, outer=(float(soft),) * n, combine=combine,
                      closed=closed, stroke=Stroke(widths=(float(width),) * n) if width else None)


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
    return item_of(shot, ident, Matte)
