"""The edits of tracks and placements that a person can make, as functions from shot to shot. The history keeps what came before."""

import numpy as np

from wertis.core.errors import RegionError, WertisError
from wertis.core.geometry import homography, polygon, quad
from wertis.core.geometry.motion import Fix, carried
from wertis.core.plate import Plate, open_plate
from wertis.core.shot.document import Placement, PlaneSettings, PlaneSolution, PlateRef, Region, RetrackedLayer, Shot, Solution, Track, TrackSettings
from wertis.core.shot.fields import Point
from wertis.core.shot.pose import PoseValues, pose_matrix
from wertis.core.shot.resolve import motion_of


def as_points(array: np.ndarray) -> tuple[Point, ...]:
    """(N, 2) numbers as a shot keeps them."""
    return tuple((float(x), float(y)) for x, y in np.asarray(array))


def free_name(base: str, taken: list[str]) -> str:
    """`base`, with a number behind it when it is taken."""
    if base not in taken:
        return base
    n = 2
    while f"{base} {n}" in taken:
        n += 1
    return f"{base} {n}"


def new_shot(plate: Plate, path: str, name: str = "") -> Shot:
    """A shot of a plate, its range the whole of it."""
    ref = PlateRef(path=path, first=plate.first, last=plate.last, size=plate.size, fps=plate.fps, layer=plate.layer, alpha=plate.alpha,
                   aspect=plate.aspect)
    return Shot(name=name or plate.path.stem or "Untitled", plate=ref, range=(plate.first, plate.last))


def opened(ref: PlateRef) -> Plate:
    """The plate that a shot means, read as the shot says.

    Raises
    ------
    PlateError
        When it cannot be read.
    """
    plate = open_plate(ref.path, ref.layer, ref.alpha)
    plate.no_cuts = frozenset(ref.no_cuts)
    return plate


def set_no_cut(shot: Shot, frame: int, none: bool = True) -> Shot:
    """The shot in which no other one begins at a frame of its plate, however it looks, or in which that is told by the pictures again.

    Raises
    ------
    WertisError
        When there is no plate, or the frame is its first one or none of it.
    """
    ref = shot.plate
    if ref is None or not ref.first < frame <= ref.last:
        span = f"{ref.first + 1} to {ref.last}" if ref is not None else "none, since no plate is open"
        raise WertisError(f"Nothing can be cut before frame {frame}; the frames of the plate at which that can be are {span}.")
    rest = set(ref.no_cuts) - {frame}
    cuts = tuple(c for c in ref.cuts if c != frame or not none)
    return shot.but(plate=ref.but(no_cuts=tuple(sorted(rest | {frame} if none else rest)), cuts=cuts))


# -- tracks -------------------------------------------------------------------------------------------------------


def track_of(shot: Shot, ident: str) -> Track:
    """The track with this id.

    Raises
    ------
    RegionError
        When it has gone.
    """
    track = shot.track(ident)
    if track is None:
        raise RegionError("That track is no longer in the shot.")
    return track


def unlocked(shot: Shot, ident: str) -> Track:
    """The track with this id, if it may be changed.

    Raises
    ------
    RegionError
        When it has gone, or is locked.
    """
    track = track_of(shot, ident)
    if track.locked:
        raise RegionError(f"{track.name} is locked; unlock it in the outline to change it.")
    return track


def add_track(shot: Shot, points: np.ndarray, frame: int, name: str = "Surface", smooth: bool = False) -> tuple[Shot, Track]:
    """The shot with a new track whose region was drawn on `frame`.

    Raises
    ------
    RegionError
        When the region cannot be used.
    """
    if shot.plate is not None:
        polygon.checked(points, shot.plate.size)
    track = Track(name=free_name(name, [t.name for t in shot.tracks]), region=Region(frame=frame, points=as_points(points), smooth=smooth))
    return shot.with_track(track), track


def plane_settings(track: Track) -> PlaneSettings:
    """A planar track's settings; the usual ones for a track of another kind."""
    return track.settings if isinstance(track.settings, PlaneSettings) else PlaneSettings()


def set_settings(shot: Shot, ident: str, settings: TrackSettings) -> Shot:
    """The shot with a track tracked otherwise from now on; what was tracked stays."""
    return shot.with_track(unlocked(shot, ident).but(settings=settings))


def rename_track(shot: Shot, ident: str, name: str) -> Shot:
    """The shot with a track named otherwise; a number is put behind a name that is taken."""
    track = track_of(shot, ident)
    wanted = name.strip()[:200] or track.name
    return shot.with_track(track.but(name=free_name(wanted, [t.name for t in shot.tracks if t.id != ident])))


def region_on(track: Track, frame: int) -> np.ndarray | None:
    """The region's outline (N, 2) on a frame: as drawn, or carried by the motion; None where unknown."""
    return carry(track, track.region.array, track.region.frame, frame)


def carry(track: Track | None, points: np.ndarray, home: float, frame: float) -> np.ndarray | None:
    """Points (N, 2) of frame `home` on another frame, by a track's motion; None where that is unknown."""
    if frame == home:
        return points
    motion = motion_of(track) if track is not None else None
    if motion is None:
        return None
    found = carried(motion, points, home, frame)
    return found if np.all(np.isfinite(found)) else None


# -- what tracking gave -------------------------------------------------------------------------------------------


def merged(old: Solution | None, reference: int, fixes: dict[int, Fix]) -> PlaneSolution:
    """New planar answers laid over the old ones of the same reference frame."""
    table: dict[int, tuple[np.ndarray, float, float]] = {}
    reasons: dict[int, str] = {}
    if isinstance(old, PlaneSolution) and old.reference == reference:
        reasons.update(old.reasons)
        for f, m, e, s in zip(old.frames, old.matrices, old.errors, old.seen, strict=True):
            table[int(f)] = (m, float(e), float(s))
    table[reference] = (np.eye(3), 0.0, 1.0)
    for frame, fix in fixes.items():
        reasons.pop(frame, None)
        if fix.matrix is None:
            reasons[frame] = fix.reason
            table[frame] = (np.full((3, 3), np.nan), np.inf, fix.seen)
        else:
            table[frame] = (fix.matrix, fix.error, fix.seen)
    frames = sorted(table)
    return PlaneSolution(reference=reference, frames=np.array(frames, np.int64), matrices=np.array([table[f][0] for f in frames]),
                         errors=np.array([table[f][1] for f in frames]), seen=np.array([table[f][2] for f in frames]), reasons=reasons)


def set_tracked(shot: Shot, ident: str, fixes: dict[int, Fix]) -> Shot:
    """The shot with new tracking answers for a track, against its region's frame."""
    track = unlocked(shot, ident)
    solution = merged(track.solution, track.region.frame, fixes)
    retracked = track.layer(RetrackedLayer)
    left = _without(retracked.solution, solution.reference, fixes)
    return shot.with_track(track.but(solution=solution).with_layer(retracked.but(solution=left)))


def _without(retracked: PlaneSolution | None, reference: int, fixes: dict[int, Fix]) -> PlaneSolution | None:
    """What was tracked again, less the frames that are tracked anew."""
    if retracked is None or retracked.reference != reference:
        return None
    keep = ~np.isin(retracked.frames, list(fixes))
    if not keep.any():
        return None
    return PlaneSolution(reference=reference, frames=retracked.frames[keep], matrices=retracked.matrices[keep], errors=retracked.errors[keep],
                         seen=retracked.seen[keep])


# -- placements ---------------------------------------------------------------------------------------------------


def default_quad(track: Track, frame: int) -> np.ndarray:
    """A placement's first quad (4, 2) on a frame: the region itself when it has four corners, else a box inside it."""
    outline = region_on(track, frame)
    if outline is None:
        raise RegionError(f"{track.name} is not tracked on frame {frame}; go to a tracked frame, or track it first.")
    if len(outline) == 4 and quad.is_convex(outline):
        q = quad.ordered(outline)
        return q.mean(0) + 0.9 * (q - q.mean(0))
    centre, half = outline.mean(0), (outline.max(0) - outline.min(0)) * 0.3
    return centre + half * np.array([[-1, -1], [1, -1], [1, 1], [-1, 1.0]])


def placement_on(shot: Shot, placement: Placement, frame: float) -> np.ndarray | None:
    """The placement's quad (4, 2) at a time; None where the motion is unknown."""
    return carry(shot.track(placement.on), placement.quad_at(frame), placement.frame, frame)


def moved_on_surface(placement: Placement, ratio: float, move: tuple[float, float] = (0.0, 0.0), scale: tuple[float, float] = (1.0, 1.0),
                     turn: float = 0.0, skew: float = 0.0, about: tuple[float, float] = (0.5, 0.5)) -> Placement:
    """A placement moved, scaled, turned and skewed on its surface, in that order from the last.

    Parameters
    ----------
    ratio : its width over its height on the surface.
    move : of its own width and height.
    scale : across and down.
    turn : degrees, clockwise as the surface is seen from the front.
    skew : degrees by which its sides lean to the right at the top.
    about : the place in it, 0..1 across and down, that stays where it is.

    Raises
    ------
    RegionError
        When it would fold over, as behind the camera.
    """
    values = PoseValues(move[0], move[1], scale[0], scale[1], turn, skew)
    corners = homography.apply(pose_matrix(values, ratio, about), quad.UNIT_SQUARE)
    onto = homography.from_unit_square(placement.array)
    before_horizon = np.column_stack([corners, np.ones(4)]) @ onto[2] * np.sign(onto[2, 2])
    there = homography.apply(onto, corners) if (before_horizon > 1e-9).all() else np.full((4, 2), np.nan)
    if not np.isfinite(there).all() or not quad.is_convex(there) or quad.signed_area(there) * quad.signed_area(placement.array) <= 0:
        raise RegionError(f"{placement.name} would fold over there; move, scale or turn it less.")
    return placement.but(quad=as_points(there))


def rebase_placement(shot: Shot, placement: Placement, frame: int) -> Placement:
    """The placement kept on another frame; it stays where it is on every frame.

    Raises
    ------
    RegionError
        When the track has no answer there.
    """
    found = carry(shot.track(placement.on), placement.array, placement.frame, frame)
    if found is None:
        track = shot.track(placement.on)
        raise RegionError(f"{track.name if track else 'Its track'} is not tracked on frame {frame}; choose a frame on which it is.")
    return placement.but(frame=frame, quad=as_points(found))
