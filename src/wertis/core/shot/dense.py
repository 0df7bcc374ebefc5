"""Tracks of dense motion: their settings, what tracking gave, and how their motion is built from the fields in their folder."""

from functools import cached_property
from pathlib import Path
from typing import Literal, Self

import numpy as np
from pydantic import model_validator

from wertis.core.geometry.mesh import laid, usual_spacing
from wertis.core.geometry.motion import Motion
from wertis.core.shot import regions
from wertis.core.shot.document import Look, Region, Shot, Solution, Track, TrackSettings
from wertis.core.shot.edits import unlocked
from wertis.core.shot.fields import FilePath, Integers, Reals, Table
from wertis.core.shot.resolve import register_solution
from wertis.core.track.motion_store import DenseMotion, KeptField


class DenseSettings(TrackSettings):
    """Settings of a track of dense motion.

    Attributes
    ----------
    folder : where its fields are kept; a place of its own in the user's cache where empty.
    whole : of the whole picture rather than of the region.
    parts : what does not go with the surface (nearer, farther, or moving by itself) is looked for in small patches.
    neighbours : the steps between neighbouring frames are kept as well, for others to use.
    look : as for a plane.
    """

    kind: Literal["dense"] = "dense"
    folder: FilePath = ""
    whole: bool = False
    parts: bool = False
    neighbours: bool = True
    look: Look = "mix"
    half: Literal[False] = False


class DenseSolution(Solution):
    """Tracked dense motion, whose fields lie in a folder. Numbers per frame, in the order of `frames`.

    Attributes
    ----------
    folder : of the fields; see `core.track.motion_store`.
    points : (P, 2) on the reference frame, spread over what is tracked: where its drift is stated.
    frames : (n,) int64, all frames that were tried.
    errors : (n,) expected error in pixels of what is seen; inf where the surface was lost.
    seen : (n,) share of the region seen, 0..1.
    reasons : frame to why it was lost.
    """

    kind: Literal["dense"] = "dense"
    folder: FilePath
    points: Table
    frames: Integers
    errors: Reals
    seen: Reals
    reasons: dict[int, str] = {}

    @model_validator(mode="after")
    def _sound(self) -> Self:
        n = len(self.frames)
        if self.points.shape[1:] != (2,) or len(self.points) < 3:
            raise ValueError("the drift is stated at three points or more")
        if self.errors.shape != (n,) or self.seen.shape != (n,):
            raise ValueError("the tracked numbers are not all of one length")
        if n > 1 and not np.all(np.diff(self.frames) > 0):
            raise ValueError("the tracked frames are not in order")
        return self

    @property
    def tried(self) -> np.ndarray:
        return self.frames

    @cached_property
    def good(self) -> np.ndarray:  # type: ignore[override]
        return np.array([int(f) not in self.reasons for f in self.frames], bool)

    @property
    def frame_errors(self) -> np.ndarray:
        return self.errors

    @property
    def shares(self) -> np.ndarray:
        return self.seen


def dense_settings(track: Track) -> DenseSettings:
    """A track's settings as those of dense motion; the usual ones for a track of another kind, with what the two have in common."""
    if isinstance(track.settings, DenseSettings):
        return track.settings
    return DenseSettings(look=getattr(track.settings, "look", "mix"))


def wanted_mask(track: Track, size: tuple[int, int]) -> np.ndarray:
    """(h, w) uint8 of what a track's dense motion is computed for, in a picture of `size` (width, height)."""
    return np.full(size[::-1], 255, np.uint8) if dense_settings(track).whole else regions.mask_of(track.region, size)


def spread_points(track: Track, size: tuple[int, int]) -> np.ndarray:
    """(P, 2) points over what a track's dense motion is computed for, as far apart as a mesh's vertices usually are."""
    mask = wanted_mask(track, size)
    return laid(mask, usual_spacing(float(np.count_nonzero(mask))))


def set_dense_tracked(shot: Shot, ident: str, fixes: dict[int, KeptField], folder: str) -> Shot:
    """The shot with new answers for a track of dense motion, over those that there were in the same folder."""
    track = unlocked(shot, ident)
    reference, old = track.region.frame, track.solution
    table: dict[int, tuple[float, float]] = {}
    reasons: dict[int, str] = {}
    if isinstance(old, DenseSolution) and old.reference == reference and old.folder == folder:
        reasons = dict(old.reasons)
        table = {int(f): (float(e), float(s)) for f, e, s in zip(old.frames, old.errors, old.seen, strict=True)}
    table[reference] = 0.0, 1.0
    for frame, fix in fixes.items():
        reasons.pop(frame, None)
        table[frame] = fix.error, fix.seen
        if fix.reason:
            reasons[frame] = fix.reason
    frames = sorted(table)
    points = spread_points(track, shot.plate.size) if shot.plate is not None else track.region.box
    errors = np.array([table[f][0] for f in frames])
    solution = DenseSolution(reference=reference, folder=folder, points=points, frames=np.array(frames, np.int64), errors=errors,
                             seen=np.array([table[f][1] for f in frames]), reasons=reasons)
    return shot.with_track(track.but(solution=solution))


def _motion(solution: DenseSolution, region: Region) -> Motion:
    return DenseMotion(solution.reference, Path(solution.folder), [int(f) for f in solution.frames[solution.good]])


register_solution(DenseSolution, _motion)
