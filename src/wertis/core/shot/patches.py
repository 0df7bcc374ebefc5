"""Clean patches in the document: a flat picture taken out of a frame, what was painted on it, and how it is given back to the others."""

from functools import cached_property
from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field, field_validator

from wertis.core.errors import RegionError
from wertis.core.geometry import homography, quad
from wertis.core.geometry.motion import between
from wertis.core.shot.artwork import Ink, Share
from wertis.core.shot.document import Item, Placement, Shot, Track, new_id
from wertis.core.shot.edits import as_points, carry, default_quad, track_of
from wertis.core.shot.fields import FilePath, Frame, Ident, Name, Picture, Point, Record, Table
from wertis.core.shot.items import add_item, item_of, register_carry, set_fields, set_item
from wertis.core.shot.match import NO_MATCH, Match
from wertis.core.shot.placing import proportions_in
from wertis.core.shot.resolve import motion_of

StrokeKind = Literal["brush", "clone", "heal", "erase", "blur", "sharpen", "tone", "fill"]
COPYING: tuple[StrokeKind, ...] = ("clone", "heal")
"""Kinds of strokes that copy from elsewhere."""
Base = Literal["plate", "file", "clean"]
Cover = Literal["changed", "all"]
Side = Annotated[int, Field(ge=2, le=16384)]
FINER = 1.5
"""Pixels of a flat picture to one of the frame where that is largest, so that nothing is lost when it is resampled there and back."""
MOST_PIXELS = 48_000_000
"""Of a flat picture."""


class Stroke(Record):
    """One thing painted on a flat picture.

    Attributes
    ----------
    points : (N, 3) x and y in the flat picture's pixels, and pressure 0..1, by which the radius is multiplied. For a fill, the outline of the hole.
    radius : pixels of the flat picture.
    hardness : share of the radius that is painted in full.
    colour : of a brush, as coded for the eye; of a tone, what the picture is multiplied by.
    offset : from a painted place to the one that is copied there, before it is turned and scaled about the stroke's first point.
    source : frame that is copied from; None for the patch's own flat picture as it is.
    turn, scale : degrees and factor by which what is copied is turned and enlarged.
    amount : of blur (pixels, standard deviation) or of sharpening (share).
    seed : one of several ways to fill a hole.
    made : (h, w, 3) what a hole was filled with, in the plate's own numbers from 0 to 1, over the box of its outline; worked out when it is painted.
    first, last : frames on which the stroke is there; None for no end.
    """

    id: Ident = Field(default_factory=new_id)
    kind: StrokeKind = "brush"
    points: Table
    radius: Annotated[float, Field(ge=0.3, le=5000)] = 12.0
    hardness: Share = 0.6
    opacity: Share = 1.0
    colour: Ink = (0.5, 0.5, 0.5)
    offset: Point = (0.0, 0.0)
    source: Frame | None = None
    turn: Annotated[float, Field(ge=-360, le=360)] = 0.0
    scale: Annotated[float, Field(ge=0.05, le=20)] = 1.0
    amount: Annotated[float, Field(ge=0, le=100)] = 2.0
    seed: Annotated[int, Field(ge=0, le=1_000_000)] = 0
    made: Picture | None = None
    first: Frame | None = None
    last: Frame | None = None
    visible: bool = True

    @field_validator("points")
    @classmethod
    def _three(cls, value: np.ndarray) -> np.ndarray:
        if value.shape[1] != 3 or not len(value) or not np.isfinite(value).all():
            raise ValueError("a stroke has points of x, y and pressure")
        return value

    def on(self, frame: int) -> bool:
        """Whether it is there on a frame."""
        return self.visible and (self.first is None or frame >= self.first) and (self.last is None or frame <= self.last)


class Patch(Item):
    """A flat picture that is laid over the plate.

    Attributes
    ----------
    frame : on which it was taken out.
    quad : its corners there; the whole picture's for one that is flat as the frame is.
    size : width and height of the flat picture.
    base : what is painted on: the plate as it is there, a file that was painted elsewhere, or the clean plate that was joined from many frames.
    path, start : of the file; a sequence's first picture falls on `start`.
    clean, seen : (h, w, 3) the clean plate in the plate's own numbers from 0 to 1, and (h, w, 1) how well each place was seen, 0..1.
    cover : what is laid on: where the flat picture differs from the plate by strokes or a file ("changed"), or all of it.
    soft : pixels of the flat picture over which the patch fades at its edge, inward.
    seam : at its edge the patch meets the plate (a membrane on every frame).
    first, last, fade : frames on which it shows; None for no end; it comes and goes over `fade` frames beyond them.
    match : as of a graphic; softness and blur are what comes on top of the flat picture's own.
    held_back, limited_to : mattes, as of a graphic.
    """

    called: ClassVar[str] = "patch"
    rendered: ClassVar[bool] = True

    kind: Literal["patch"] = "patch"
    name: Name = "Patch"
    frame: Frame
    quad: tuple[Point, Point, Point, Point]
    size: tuple[Side, Side]
    base: Base = "plate"
    path: FilePath = ""
    start: Frame = 0
    clean: Picture | None = None
    seen: Picture | None = None
    cover: Cover = "changed"
    soft: Annotated[float, Field(ge=0, le=500)] = 3.0
    seam: bool = False
    strokes: Annotated[tuple[Stroke, ...], Field(max_length=20_000)] = ()
    first: Frame | None = None
    last: Frame | None = None
    fade: Annotated[float, Field(ge=0, le=1000)] = 0.0
    opacity: Share = 1.0
    match: Match = NO_MATCH
    held_back: Annotated[tuple[Ident, ...], Field(max_length=1000)] = ()
    limited_to: Annotated[tuple[Ident, ...], Field(max_length=1000)] = ()

    @field_validator("quad")
    @classmethod
    def _convex(cls, value: tuple) -> tuple:
        if not quad.is_convex(np.array(value)):
            raise ValueError("the patch's corners fold over; drag them so that its sides do not cross")
        return value

    @property
    def array(self) -> np.ndarray:
        """The corners as (4, 2)."""
        return np.array(self.quad, np.float64)

    @cached_property
    def placement(self) -> Placement:
        """The patch as something laid on its surface."""
        return Placement(id=self.id, name=self.name, on=self.on, frame=self.frame, quad=self.quad, fit="stretch", ratio=self.size[0] / self.size[1],
                         opacity=self.opacity, match=self.match, held_back=self.held_back, limited_to=self.limited_to)

    @cached_property
    def from_flat(self) -> np.ndarray:
        """(3, 3) the flat picture's pixels to those of its frame."""
        return homography.from_unit_square(self.array) @ homography.scaling(1 / self.size[0], 1 / self.size[1])

    def share(self, frame: int) -> float:
        """How much of it shows on a frame: it fades beyond its ends."""
        away = max(0 if self.first is None else self.first - frame, 0 if self.last is None else frame - self.last)
        if away <= 0:
            return 1.0
        return max(0.0, 1 - away / (self.fade + 1)) if self.fade else 0.0

    def stroke(self, ident: str) -> Stroke | None:
        """The stroke with this id."""
        return next((s for s in self.strokes if s.id == ident), None)


def lossless_size(corners: np.ndarray) -> tuple[int, int]:
    """Width and height of a flat picture of a quad (4, 2) that loses nothing of it: by where it is seen largest."""
    onto = homography.from_unit_square(corners)
    u, v = np.meshgrid(np.linspace(0, 1, 9), np.linspace(0, 1, 9))
    slopes = homography.jacobian(onto, np.column_stack([u.ravel(), v.ravel()]))
    across, down = np.linalg.norm(slopes, axis=1).max(0) * FINER
    shrink = min(1.0, float(np.sqrt(MOST_PIXELS / max(across * down, 1))), 16384 / max(across, down))
    return max(2, round(across * shrink)), max(2, round(down * shrink))


def add_patch(shot: Shot, track: Track, frame: int, corners: np.ndarray | None = None, whole: bool = False, name: str = "Patch") -> tuple[Shot, Patch]:
    """The shot with a patch taken out of a frame; and it.

    Parameters
    ----------
    corners : (4, 2) on the frame, clockwise from the top left; the track's region when not given.
    whole : the whole picture of the frame instead, as it is.

    Raises
    ------
    RegionError
        When the track has no answer on the frame, the shot has no plate, or the corners fold over.
    """
    if shot.plate is None:
        raise RegionError("A shot without a plate has nothing to take out; open a plate first.")
    if carry(track, track.region.array[:1], track.region.frame, frame) is None:
        raise RegionError(f"{track.name} is not tracked on frame {frame}; take the patch out of a frame on which it is.")
    if whole:
        corners, size = quad.UNIT_SQUARE * shot.plate.size, shot.plate.size
    else:
        corners = default_quad(track, frame) if corners is None else np.asarray(corners, np.float64)
        if corners.shape != (4, 2) or not quad.is_convex(corners):
            raise RegionError("A patch has four corners that do not fold over, clockwise from the top left.")
        size = lossless_size(corners)
    shot = add_item(shot, Patch(on=track.id, name=name, frame=frame, quad=as_points(corners), size=size))
    added = shot.items[-1]
    assert isinstance(added, Patch)
    # graphics lie on the cleaned surface, so a patch comes above other patches and beneath all else
    others = shot.items[:-1]
    at = max((k + 1 for k, x in enumerate(others) if isinstance(x, Patch)), default=0)
    return shot.but(items=(*others[:at], added, *others[at:])), added


def patch_of(shot: Shot, ident: str) -> Patch:
    """The patch with this id.

    Raises
    ------
    RegionError
        When it is gone, or no patch.
    """
    return item_of(shot, ident, Patch)


def clean_patch(shot: Shot, track_id: str) -> Patch | None:
    """The uppermost patch of a track that has a clean plate; None where there is none."""
    return next((x for x in reversed(shot.items) if isinstance(x, Patch) and x.on == track_id and x.base == "clean" and x.clean is not None), None)


def with_match(shot: Shot, ident: str, **fields: object) -> Shot:
    """The shot with fields of a graphic's match set.

    Raises
    ------
    RegionError
        When what is mirrored shall be laid on, and its track has no clean plate to tell that from; the graphic is locked, or gone.
    """
    placement = item_of(shot, ident, Placement)
    match = placement.match.but(**fields)
    if fields.get("reflection") and clean_patch(shot, placement.on) is None:
        raise RegionError("What is mirrored is told from the clean surface, which this track has none of yet; take out a patch (+ Patch), and choose "
                          "Clean plate from the shot.")
    return set_item(shot, placement.but(match=match))


def set_patch(shot: Shot, ident: str, **changes: object) -> Shot:
    """The shot with fields of a patch set."""
    return set_fields(shot, ident, Patch, **changes)


def add_stroke(shot: Shot, ident: str, stroke: Stroke) -> Shot:
    """The shot with one more stroke on a patch, on top of the others."""
    patch = patch_of(shot, ident)
    return set_item(shot, patch.but(strokes=(*patch.strokes, stroke)))


def set_stroke(shot: Shot, ident: str, stroke: str, **changes: object) -> Shot:
    """The shot with fields of a stroke set.

    Raises
    ------
    RegionError
        When the stroke is gone.
    """
    patch = patch_of(shot, ident)
    if patch.stroke(stroke) is None:
        raise RegionError("That stroke is no longer on the patch.")
    return set_item(shot, patch.but(strokes=tuple(s.but(**changes) if s.id == stroke else s for s in patch.strokes)))


def remove_stroke(shot: Shot, ident: str, stroke: str) -> Shot:
    """The shot less a stroke."""
    patch = patch_of(shot, ident)
    return set_item(shot, patch.but(strokes=tuple(s for s in patch.strokes if s.id != stroke)))


def corners_on(shot: Shot, patch: Patch, frame: float) -> np.ndarray | None:
    """The patch's corners (4, 2) at a time; None where the motion is unknown."""
    return carry(shot.track(patch.on), patch.array, patch.frame, frame)


def to_flat(shot: Shot, patch: Patch, points: np.ndarray, frame: int) -> np.ndarray | None:
    """Points (N, 2) of a frame's picture on the flat picture, in its pixels; None where the motion is unknown."""
    home = carry(shot.track(patch.on), points, frame, patch.frame)
    return None if home is None else homography.apply(np.linalg.inv(patch.from_flat), home)


def retake(shot: Shot, ident: str, frame: int) -> Shot:
    """The shot with a patch taken out of another frame: it stays where it is, its strokes go along, and what is beneath them is that frame's.

    Raises
    ------
    RegionError
        When the track has no answer on either frame, or the patch would fold there.
    """
    patch = patch_of(shot, ident)
    if patch.base == "file":
        raise RegionError(f"{patch.name} was painted elsewhere, on the flat picture of frame {patch.frame}; take out another patch of frame {frame}.")
    track = track_of(shot, patch.on)
    motion = motion_of(track)
    moved = between(motion, patch.frame, frame) if motion is not None else None
    if moved is None:
        raise RegionError(f"{track.name} is not tracked on frame {frame}; choose a frame on which it is.")
    corners = moved.forward(patch.array)
    if not np.isfinite(corners).all() or not quad.is_convex(corners):
        raise RegionError(f"{patch.name} folds over on frame {frame}; choose one on which it is seen flatter.")
    size = lossless_size(corners)
    factor = np.array([size[0] / patch.size[0], size[1] / patch.size[1]])
    scale = float(np.sqrt(factor.prod()))
    strokes = tuple(s.but(made=None, points=s.points * [factor[0], factor[1], 1.0], radius=min(max(s.radius * scale, 0.3), 5000.0),
                          offset=(s.offset[0] * factor[0], s.offset[1] * factor[1])) for s in patch.strokes)
    base: Base = patch.base if patch.base != "clean" else "plate"
    return set_item(shot, patch.but(frame=frame, quad=as_points(corners), size=size, strokes=strokes, base=base, clean=None, seen=None))


def true_proportions(shot: Shot, patch: Patch) -> float:
    """The patch's width over its height on its surface."""
    return proportions_in(shot, patch.placement.but(ratio=None))


def _elsewhere(shot: Shot, patch: Patch, track: Track | None, frame: int) -> Patch:
    if track is None:
        raise RegionError("A patch lies on a track; choose one.")
    corners = corners_on(shot, patch, frame)
    if corners is None or carry(track, track.region.array[:1], track.region.frame, frame) is None:
        raise RegionError(f"One of the two tracks is not known on frame {frame}; go to a frame on which both are.")
    if patch.base == "plate" and frame != patch.frame:
        raise RegionError(f"Go to frame {patch.frame}, of which the patch was taken, to hang it on another track.")
    return patch.but(on=track.id, frame=frame, quad=as_points(corners))


register_carry(Patch, _elsewhere)
