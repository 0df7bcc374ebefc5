"""Motion copied from track to track, and two tracks' motions blended."""

import numpy as np

from wertis.core.errors import RegionError
from wertis.core.geometry import homography
from wertis.core.geometry.motion import between
from wertis.core.shot.document import ExtraMoveLayer, PlaneSolution, RepairLayer, Shot, SmoothingLayer, Track
from wertis.core.shot.edits import track_of, unlocked
from wertis.core.shot.resolve import motion_of, tracked_motion


def copy_motion(shot: Shot, source: str, target: str, repaired: bool = True) -> Shot:
    """The shot in which the track `target` moves as `source` does, with or without its repairs; its own motion and repairs give way.

    Raises
    ------
    RegionError
        When the source has no answer on the frame on which the target's region was drawn.
    """
    return _with(shot, target, _on_own_frame(track_of(shot, source), track_of(shot, target), repaired))


def blend_motions(shot: Shot, first: str, second: str, target: str, begin: int, end: int) -> Shot:
    """The shot in which `target` moves as `first` does up to frame `begin`, as `second` does from frame `end` on, and from one to the other between.

    Raises
    ------
    RegionError
        When the range is empty, or one of the two has no answer where it is needed.
    """
    if end <= begin:
        raise RegionError(f"The blend must end after it begins; {begin} to {end} does not.")
    to = track_of(shot, target)
    a, b = (_on_own_frame(track_of(shot, name), to, True) for name in (first, second))
    box = to.region.box
    out: dict[int, np.ndarray] = {}
    for frame in sorted(a.keys() | b.keys()):
        part = float(np.clip((frame - begin) / (end - begin), 0, 1))
        if part in (0.0, 1.0):
            only = (a, b)[int(part)].get(frame)
            if only is not None:
                out[frame] = only
        elif frame in a and frame in b:
            out[frame] = homography.from_points(box, (1 - part) * homography.apply(a[frame], box) + part * homography.apply(b[frame], box))
    if not out:
        raise RegionError("Neither of the two tracks has an answer in the range of the blend.")
    return _with(shot, target, out)


def motion_words(track: Track) -> str:
    """What drives everything on a track, in a few words: as tracked, or what lies on it."""
    on = {type(x) for x in track.layers if x.enabled}
    reference = track.reference
    by_hand = any(x.kind in ("retracked", "retracked-mesh", "pegs") and not x.empty for x in track.layers if x.enabled)
    repaired = by_hand or (RepairLayer in on and bool(track.layer(RepairLayer).frames(reference)))
    parts = [words for words, there in (("smoothed", SmoothingLayer in on), ("repaired", repaired),
                                        ("with an extra move", ExtraMoveLayer in on and bool(track.layer(ExtraMoveLayer).frames(reference)))) if there]
    return ", ".join(parts) or "as tracked"


def _on_own_frame(source: Track, target: Track, repaired: bool) -> dict[int, np.ndarray]:
    """The source's motion as homographies from the frame of the target's region."""
    motion = motion_of(source) if repaired else tracked_motion(source)
    home = target.region.frame
    if motion is None or motion.at(home) is None:
        raise RegionError(f"{source.name} has no answer on frame {home}, on which {target.name} was drawn; track it there first.")
    found = {}
    for f in motion.frames:
        warp = between(motion, home, f)
        if warp is None:
            continue
        if warp.matrix is None:
            raise RegionError(f"{source.name} bends, and {target.name} is a plane; choose a track that moves as a plane.")
        found[int(f)] = warp.matrix
    return found


def _with(shot: Shot, target: str, matrices: dict[int, np.ndarray]) -> Shot:
    track = unlocked(shot, target)
    home = track.region.frame
    matrices = {**matrices, home: np.eye(3)}
    frames = sorted(matrices)
    count = len(frames)
    solution = PlaneSolution(reference=home, frames=np.array(frames, np.int64), matrices=np.array([matrices[f] for f in frames]),
                             errors=np.zeros(count), seen=np.ones(count))
    return shot.with_track(track.but(solution=solution, layers=()))
