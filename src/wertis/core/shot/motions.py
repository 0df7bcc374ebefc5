"""Motion copied from track to track, and two tracks' motions blended."""

import numpy as np

from wertis.core.errors import RegionError
from wertis.core.geometry import homography
from wertis.core.geometry.motion import plane_between
from wertis.core.shot.document import ExtraMove, Repair, Shot, Solved, Track
from wertis.core.shot.edits import track_of


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
    motion = track.motion
    if motion is None or motion is track.tracked:
        return "as tracked"
    parts = ["smoothed"] if track.smoothing > 0 else []
    if track.repair.enabled and (track.again is not None or track.repaired is not track.beneath):
        parts.append("repaired")
    if motion is not track.repaired:
        parts.append("with an extra move")
    return ", ".join(parts)


def _on_own_frame(source: Track, target: Track, repaired: bool) -> dict[int, np.ndarray]:
    """The source's motion as homographies from the frame of the target's region."""
    motion = source.motion if repaired else source.tracked
    home = target.region.frame
    if motion is None or source.solved is None or motion.plane_at(home) is None:
        raise RegionError(f"{source.name} has no answer on frame {home}, on which {target.name} was drawn; track it there first.")
    found = {int(f): plane_between(motion, home, int(f)) for f in source.solved.frames[source.solved.good]}
    return {f: m for f, m in found.items() if m is not None}


def _with(shot: Shot, target: str, matrices: dict[int, np.ndarray]) -> Shot:
    track = track_of(shot, target)
    home = track.region.frame
    matrices = {**matrices, home: np.eye(3)}
    frames = sorted(matrices)
    count = len(frames)
    solved = Solved(reference=home, frames=np.array(frames, np.int64), matrices=np.array([matrices[f] for f in frames]), errors=np.zeros(count),
                    seen=np.ones(count))
    return shot.with_track(track.but(solved=solved, repair=Repair(), again=None, extra=ExtraMove(), smoothing=0.0))
