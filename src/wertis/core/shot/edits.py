"""The edits a person can make, as functions from shot to shot. The history keeps what came before."""

import numpy as np

from wertis.core.errors import RegionError
from wertis.core.geometry import polygon, quad
from wertis.core.geometry.motion import Fix, carried
from wertis.core.plate import Plate, open_plate
from wertis.core.shot.document import Placement, PlateRef, Point, Region, Shot, Solved, Track


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
    return open_plate(ref.path, ref.layer, ref.alpha)


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


def region_on(track: Track, frame: int) -> np.ndarray | None:
    """The region's outline (N, 2) on a frame: as drawn, or carried by the motion; None where unknown."""
    return carry(track, track.region.array, track.region.frame, frame)


def carry(track: Track, points: np.ndarray, home: int, frame: float) -> np.ndarray | None:
    """Points (N, 2) of frame `home` on another frame, by the track's motion; None where that is unknown."""
    if frame == home:
        return points
    motion = track.motion
    if motion is None:
        return None
    found = carried(motion, points, home, frame)
    return found if np.all(np.isfinite(found)) else None


def merge_solved(old: Solved | None, reference: int, fixes: dict[int, Fix]) -> Solved:
    """New answers laid over the old ones of the same reference frame."""
    table: dict[int, tuple[np.ndarray, float, float]] = {}
    reasons: dict[int, str] = {}
    if old is not None and old.reference == reference:
        reasons.update(old.reasons)
        for f, m, e, s in zip(old.frames, old.matrices, old.errors, old.seen):
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
    return Solved(reference=reference, frames=np.array(frames, np.int64), matrices=np.array([table[f][0] for f in frames]),
                  errors=np.array([table[f][1] for f in frames]), seen=np.array([table[f][2] for f in frames]), reasons=reasons)


def set_solved(shot: Shot, ident: str, fixes: dict[int, Fix]) -> Shot:
    """The shot with new tracking answers for a track, against its region's frame."""
    track = track_of(shot, ident)
    solved = merge_solved(track.solved, track.region.frame, fixes)
    return shot.with_track(track.but(solved=solved, again=_without(track.again, solved.reference, fixes)))


def _without(again: Solved | None, reference: int, fixes: dict[int, Fix]) -> Solved | None:
    """What was tracked again, less the frames that are tracked anew."""
    if again is None or again.reference != reference:
        return None
    keep = ~np.isin(again.frames, list(fixes))
    if not keep.any():
        return None
    return Solved(reference=reference, frames=again.frames[keep], matrices=again.matrices[keep], errors=again.errors[keep], seen=again.seen[keep])


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


def add_placement(shot: Shot, ident: str, placement: Placement) -> Shot:
    """The shot with one more placement on a track."""
    track = track_of(shot, ident)
    named = placement.but(name=free_name(placement.name, [p.name for p in track.placements]))
    return shot.with_track(track.but(placements=(*track.placements, named)))


def set_placement(shot: Shot, ident: str, placement: Placement) -> Shot:
    """The shot with the placement of the same id replaced."""
    track = track_of(shot, ident)
    return shot.with_track(track.but(placements=tuple(placement if p.id == placement.id else p for p in track.placements)))


def remove_placement(shot: Shot, ident: str, placement: str) -> Shot:
    """The shot less one placement."""
    track = track_of(shot, ident)
    return shot.with_track(track.but(placements=tuple(p for p in track.placements if p.id != placement)))


def placement_on(track: Track, placement: Placement, frame: float) -> np.ndarray | None:
    """The placement's quad (4, 2) at a time; None where the motion is unknown."""
    return carry(track, placement.array, placement.frame, frame)


def rebase_placement(track: Track, placement: Placement, frame: int) -> Placement:
    """The placement kept on another frame; it stays where it is on every frame.

    Raises
    ------
    RegionError
        When the track has no answer there.
    """
    found = placement_on(track, placement, frame)
    if found is None:
        raise RegionError(f"{track.name} is not tracked on frame {frame}; choose a frame on which it is.")
    return placement.but(frame=frame, quad=as_points(found))


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
