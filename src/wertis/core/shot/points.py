"""Tracks of single points: their settings, what tracking gave, and the motion that some of the points make."""

from collections.abc import Sequence
from functools import cached_property
from typing import Annotated, Literal, Self

import numpy as np
from pydantic import Field, model_validator

from wertis.core.errors import RegionError
from wertis.core.geometry.affine import PointsKind, robust_fit
from wertis.core.geometry.motion import Motion, PlanarMotion
from wertis.core.shot.document import Look, Region, Shot, Solution, Track, TrackSettings
from wertis.core.shot.edits import unlocked
from wertis.core.shot.fields import Flags, Integers, Matrices, Name, Record, Table
from wertis.core.shot.named_places import register_places
from wertis.core.shot.resolve import motion_of, register_solution
from wertis.core.track.points import PointsFix

_BY_HAND = 0.3  # pixels of error of a point that is put right by hand
Side = Annotated[int, Field(ge=0, le=401)]
Reach = Annotated[int, Field(ge=0, le=400)]
Away = Annotated[float, Field(ge=-4000, le=4000)]


class Pattern(Record):
    """What a point is found by.

    Attributes
    ----------
    side : of the square pattern in pixels; 0 for one whose size goes by the texture.
    reach : pixels to each side in which it is looked for round where it is expected; 0 for the usual.
    offset : pixels from the point to the pattern's middle, on the region's frame.
    """

    side: Side = 0
    reach: Reach = 0
    offset: tuple[Away, Away] = (0.0, 0.0)


class PointsSettings(TrackSettings):
    """Settings of a track of points.

    Attributes
    ----------
    points : (N, 2) on the region's frame; None before any is set.
    names : of the points.
    patterns : what each is found by.
    inside : patterns are made of what lies in the region alone.
    renewed : where a pattern's look changes for good, its newer look is taken.
    model : what of their motion the track takes.
    look : as for a plane.
    """

    kind: Literal["points"] = "points"
    points: Table | None = None
    names: tuple[Name, ...] = ()
    patterns: tuple[Pattern, ...] = ()
    inside: bool = False
    renewed: bool = True
    model: PointsKind = "perspective"
    look: Look = "mix"
    half: Literal[False] = False

    @model_validator(mode="after")
    def _sound(self) -> Self:
        count = 0 if self.points is None else len(self.points)
        if self.points is not None and self.points.shape != (count, 2):
            raise ValueError("points have an x and a y")
        if len(self.names) != count or len(self.patterns) != count or len(set(self.names)) != count:
            raise ValueError("every point has one name of its own and one pattern")
        return self

    @property
    def offsets(self) -> np.ndarray:
        """(N, 2) pixels from each point to its pattern's middle, on the region's frame."""
        return np.array([p.offset for p in self.patterns], float).reshape(-1, 2)


class PointsSolution(Solution):
    """Tracked points. Numbers per frame, in the order of `frames`.

    Attributes
    ----------
    points : (N, 2) on the reference frame.
    names : of the points.
    frames : (n,) int64, all frames that were tried.
    places : (n, N, 2); nan on frames that could not be read.
    errors : (n, N) expected error in pixels.
    matches : (n, N) share 0..1 of each pattern's contrast that was found again.
    measured : (n, N) whether each was found; the others go with those round them.
    reasons : frame to why it has no answer.
    left_out : names of the points that the motion does not use.
    model : what of the points' motion is taken: perspective needs four of them, shear three, scale and turn two.
    """

    kind: Literal["points"] = "points"
    points: Table
    names: tuple[Name, ...]
    frames: Integers
    places: Matrices
    errors: Table
    matches: Table
    measured: Flags
    reasons: dict[int, str] = {}
    left_out: tuple[Name, ...] = ()
    model: PointsKind = "perspective"

    @model_validator(mode="after")
    def _sound(self) -> Self:
        n, count = len(self.frames), len(self.points)
        if self.places.shape != (n, count, 2) or any(a.shape != (n, count) for a in (self.errors, self.matches, self.measured)):
            raise ValueError("the tracked numbers are not all of one size")
        if self.points.shape != (count, 2) or len(self.names) != count or not count:
            raise ValueError("every point has a name and a place")
        if n > 1 and not np.all(np.diff(self.frames) > 0):
            raise ValueError("the tracked frames are not in order")
        return self

    @property
    def tried(self) -> np.ndarray:
        return self.frames

    @cached_property
    def used(self) -> np.ndarray:
        """(N,) which points the motion uses."""
        return np.array([name not in self.left_out for name in self.names])

    @cached_property
    def good(self) -> np.ndarray:  # type: ignore[override]
        return np.isfinite(self.places).all((1, 2)) & (self.measured & self.used).any(1)

    @cached_property
    def frame_errors(self) -> np.ndarray:  # type: ignore[override]
        counted = self.measured & self.used
        return np.array([np.sqrt(np.mean(e[m] ** 2)) if m.any() else np.inf for e, m in zip(self.errors, counted, strict=True)])

    @cached_property
    def shares(self) -> np.ndarray:  # type: ignore[override]
        return (self.measured & self.used).sum(1) / max(int(self.used.sum()), 1)

    def index(self, frame: int) -> int | None:
        """Where a frame stands in the arrays."""
        k = int(np.searchsorted(self.frames, frame))
        return k if k < len(self.frames) and self.frames[k] == frame else None

    @cached_property
    def fits(self) -> dict[int, tuple[np.ndarray, np.ndarray]]:
        """Frame to the motion (3, 3) of the points that are used, and (N,) by how many pixels each point is off it; nan where it was not found."""
        found = {}
        for k in np.flatnonzero(self.good):
            which = np.flatnonzero(self.measured[k] & self.used)
            matrix, away = robust_fit(self.model, self.points[which], self.places[k, which], self.errors[k, which])
            off = np.full(len(self.points), np.nan)
            off[which] = away
            found[int(self.frames[k])] = matrix, off
        return found

    @cached_property
    def disagreeing(self) -> tuple[str, float]:
        """The point that disagrees most with the motion of all, and by how many pixels (root mean square over the frames)."""
        off = np.array([o for f, (_, o) in self.fits.items() if f != self.reference])
        if not len(off) or not np.isfinite(off).any():
            return "", 0.0
        known = np.isfinite(off)
        each = np.sqrt((np.where(known, off, 0) ** 2).sum(0) / np.maximum(known.sum(0), 1))
        return self.names[int(each.argmax())], float(each.max())


def points_settings(track: Track) -> PointsSettings:
    """A track's settings as those of points; the usual ones for a track of another kind, with what the two have in common."""
    if isinstance(track.settings, PointsSettings):
        return track.settings
    look = getattr(track.settings, "look", "mix")
    return PointsSettings(look=look, model=getattr(track.settings, "model", "perspective"))


def with_points(shot: Shot, ident: str, points: np.ndarray, names: tuple[str, ...], patterns: Sequence[Pattern]) -> Shot:
    """The shot with other points to be tracked, (N, 2) on the region's frame; what was tracked of those that stay the same is kept.

    Raises
    ------
    RegionError
        When a point lies outside the picture, or a name stands twice.
    """
    track = unlocked(shot, ident)
    if shot.plate is not None:
        w, h = shot.plate.size
        offsets = np.array([p.offset for p in patterns]).reshape(-1, 2)
        for places, what in ((points, "Point"), (points + offsets, "The pattern of point")):
            outside = ~((places >= 0) & (places <= [w, h])).all(1) if len(points) else np.zeros(0, bool)
            if outside.any():
                raise RegionError(f"{what} {names[int(outside.argmax())]} lies outside of the picture, which is {w} x {h}; set it inside.")
    if len(set(names)) != len(names):
        raise RegionError("Two points have the same name; give each its own.")
    set_points = np.ascontiguousarray(points, np.float64) if len(points) else None
    settings = points_settings(track).but(points=set_points, names=tuple(names), patterns=tuple(patterns))
    solution = track.solution
    if isinstance(solution, PointsSolution):
        before = {name: k for k, name in enumerate(solution.names)}
        stay = [before[n] for n, p in zip(names, points, strict=True) if n in before and np.allclose(solution.points[before[n]], p, atol=1e-9)]
        solution = None if len(stay) < len(names) or not stay else solution.but(
            points=solution.points[stay].copy(), names=tuple(solution.names[k] for k in stay), places=solution.places[:, stay].copy(),
            errors=solution.errors[:, stay].copy(), matches=solution.matches[:, stay].copy(), measured=solution.measured[:, stay].copy())
    return shot.with_track(track.but(settings=settings, solution=solution))


def set_patterns(shot: Shot, ident: str, names: set[str], side: int | None = None, reach: int | None = None,
                 offset: tuple[float, float] | None = None, renewed: bool | None = None) -> Shot:
    """The shot with other patterns of some points, and of all whether they are renewed; what was tracked stays until it is tracked again.

    Raises
    ------
    RegionError
        When a point does not exist, or a pattern would lie outside the picture.
    """
    settings = points_settings(unlocked(shot, ident))
    if settings.points is None or not names <= set(settings.names):
        raise RegionError(f"There is no point named {', '.join(sorted(names - set(settings.names)))}; the track has {len(settings.names)}.")
    changes = {k: v for k, v in (("side", side), ("reach", reach), ("offset", offset)) if v is not None}
    patterns = tuple(Pattern.model_validate({**p.model_dump(), **changes}) if n in names else p
                     for n, p in zip(settings.names, settings.patterns, strict=True))
    shot = with_points(shot, ident, np.array(settings.points), settings.names, patterns)
    if renewed is None:
        return shot
    track = unlocked(shot, ident)
    return shot.with_track(track.but(settings=points_settings(track).but(renewed=renewed)))


def add_point(shot: Shot, ident: str, place: np.ndarray, pattern: Pattern | None = None) -> Shot:
    """The shot with a point more on the region's frame; what was tracked goes, since all are tracked together."""
    track = unlocked(shot, ident)
    settings = points_settings(track)
    points = np.zeros((0, 2)) if settings.points is None else settings.points
    number = next(k for k in range(1, len(points) + 2) if str(k) not in settings.names)
    return with_points(shot, ident, np.vstack([points, np.asarray(place, float)[None]]), (*settings.names, str(number)),
                       (*settings.patterns, pattern or Pattern()))


def remove_points(shot: Shot, ident: str, names: set[str]) -> Shot:
    """The shot without some points."""
    settings = points_settings(unlocked(shot, ident))
    keep = [k for k, name in enumerate(settings.names) if name not in names]
    points = np.zeros((0, 2)) if settings.points is None else settings.points
    return with_points(shot, ident, points[keep], tuple(settings.names[k] for k in keep), tuple(settings.patterns[k] for k in keep))


def use_points(shot: Shot, ident: str, left_out: set[str] | None = None, model: PointsKind | None = None) -> Shot:
    """The shot with a motion that leaves other points out, or takes something else from them.

    Raises
    ------
    RegionError
        When a point does not exist, or none would be left.
    """
    track = unlocked(shot, ident)
    settings, solution = points_settings(track), track.solution
    wrong = sorted((left_out or set()) - set(settings.names))
    if wrong:
        raise RegionError(f"{track.name} has no point named {wrong[0]}.")
    if left_out is not None and settings.names and len(left_out) >= len(settings.names):
        raise RegionError("At least one point must carry the track; leave out fewer.")
    if model is not None:
        track = track.but(settings=settings.but(model=model))
    if isinstance(solution, PointsSolution):
        changes = {**({"left_out": tuple(sorted(left_out))} if left_out is not None else {}), **({"model": model} if model is not None else {})}
        track = track.but(solution=solution.but(**changes))
    return shot.with_track(track)


def put_points(shot: Shot, ident: str, frame: int, places: np.ndarray) -> Shot:
    """The shot with points put right by hand at places (N, 2) of a frame; those that are moved count as found there.

    Raises
    ------
    RegionError
        When nothing was tracked on the frame.
    """
    track = unlocked(shot, ident)
    solution = track.solution
    k = solution.index(frame) if isinstance(solution, PointsSolution) else None
    if not isinstance(solution, PointsSolution) or k is None or len(places) != len(solution.points):
        raise RegionError(f"{track.name} has no answer on frame {frame}; track it there first, then put its points right.")
    moved = np.linalg.norm(places - solution.places[k], axis=1) > 1e-9
    moved |= ~np.isfinite(solution.places[k]).all(1)
    all_places, errors, matches, measured = (a.copy() for a in (solution.places, solution.errors, solution.matches, solution.measured))
    all_places[k, moved], errors[k, moved], matches[k, moved], measured[k, moved] = places[moved], _BY_HAND, 1.0, True
    return shot.with_track(track.but(solution=solution.but(places=all_places, errors=errors, matches=matches, measured=measured)))


def set_points_tracked(shot: Shot, ident: str, fixes: dict[int, PointsFix]) -> Shot:
    """The shot with new answers for a track of points, over those that there were."""
    track = unlocked(shot, ident)
    settings, reference, old = points_settings(track), track.region.frame, track.solution
    points = settings.points
    if points is None:
        return shot
    count = len(points)
    table: dict[int, tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]] = {}
    reasons: dict[int, str] = {}
    left_out: tuple[str, ...] = ()
    if isinstance(old, PointsSolution) and old.reference == reference and np.array_equal(old.points, points):
        reasons, left_out = dict(old.reasons), old.left_out
        table = {int(f): (old.places[k], old.errors[k], old.matches[k], old.measured[k]) for k, f in enumerate(old.frames)}
    table[reference] = points, np.zeros(count), np.ones(count), np.ones(count, bool)
    for frame, fix in fixes.items():
        reasons.pop(frame, None)
        if fix.places is None:
            reasons[frame] = fix.reason
            table[frame] = np.full((count, 2), np.nan), np.full(count, np.inf), np.zeros(count), np.zeros(count, bool)
        else:
            table[frame] = fix.places, fix.errors, fix.matches, fix.measured
    frames = sorted(table)
    places, errors, matches, measured = (np.array([table[f][k] for f in frames]) for k in range(4))
    solution = PointsSolution(reference=reference, points=points.copy(), names=settings.names, frames=np.array(frames, np.int64),
                              places=places.astype(float), errors=errors.astype(float), matches=matches.astype(float), measured=measured.astype(bool),
                              reasons=reasons, left_out=left_out, model=settings.model)
    return shot.with_track(track.but(solution=solution))


def _motion(solution: PointsSolution, region: Region) -> Motion:
    errors = {int(f): float(e) for f, e in zip(solution.frames, solution.frame_errors, strict=True)}
    return PlanarMotion(solution.reference, {f: m for f, (m, _) in solution.fits.items()}, region.box, errors)


def _found_on(solution: PointsSolution, frame: int) -> list[str]:
    k = solution.index(frame)
    return [n for j, n in enumerate(solution.names) if frame == solution.reference or (k is not None and bool(solution.measured[k, j]))]


def _place(track: Track, solution: PointsSolution, name: str, time: float) -> np.ndarray | None:
    """Where a tracked point is; it goes straight between frames, and with the track's motion where it has no place of its own."""
    if name not in solution.names:
        return None
    j = solution.names.index(name)
    if time == solution.reference:
        return np.asarray(solution.points[j])
    at = float(np.interp(time, solution.frames, np.arange(len(solution.frames)), left=np.nan, right=np.nan))
    if np.isfinite(at):
        low, part = int(at), at - int(at)
        place = solution.places[low, j] if not part else (1 - part) * solution.places[low, j] + part * solution.places[low + 1, j]
        if np.isfinite(place).all():
            return np.asarray(place)
    motion = motion_of(track)
    warp = motion.at(time) if motion is not None else None
    return np.asarray(warp.forward(solution.points[j:j + 1])[0]) if warp is not None else None


register_solution(PointsSolution, _motion)
register_places(PointsSolution, "point", _found_on, _place)
