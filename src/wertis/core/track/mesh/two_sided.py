"""Stretches of frames on which part of a mesh was hidden, tracked again from their far end once all of it is seen again.

Tracking one way, what comes into sight again has to be found first, perhaps far from where it was expected; tracked from where it is wholly seen, it is
followed to where it vanishes. Each vertex takes the side that measured it; between the two, where neither did, they are blended by how sure they are
(the inverse-variance rule of two-filter smoothing: D. Fraser and J. Potter, The optimum linear smoother as a combination of two optimum linear
filters, IEEE Trans. Automatic Control 14, 1969).
"""

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace

import numpy as np
import scipy

from wertis.core.geometry.mesh import MeshFix
from wertis.core.track.mesh.tracker import MeshTracker

_WHOLE = 0.97  # of the most vertices that were measured at once, from which all is seen that can be
_JUMP = 6.0  # pixels beside its neighbours' motion by which a vertex is found elsewhere than expected: then it may have been in sight for a while
_NEIGHBOURS = 4  # of a vertex, by which its motion is expected
_CHANGED = 0.02  # pixels by which a vertex must move for a frame to be answered again
_WRONG = 2.0  # pixels, mean of the nearest vertices, by which a map is wrong
_EXACT = 0.3  # pixels, up to which a map is as right as can be told
_AGREE = 0.5  # pixels, and twice both expected errors, up to which two places are one


@dataclass
class _Stretch:
    fixes: dict[int, MeshFix] = field(default_factory=dict)  # of the frames with hidden parts, in their order
    values: list[np.ndarray] = field(default_factory=list)  # the map's on the first frames after them, two at most
    jumped: bool = False  # something was found elsewhere than expected


class TwoSidedMesh:
    """Remembers a mesh tracker's answers on frames on which part of the mesh was hidden.

    Parameters
    ----------
    tracker : the one that gives the answers.
    """

    def __init__(self, tracker: MeshTracker) -> None:
        self._tracker = tracker
        self._most = 1  # vertices measured at once
        self._open = _Stretch()
        self._before: MeshFix | None = None  # the last frame's
        self._between: dict[int, MeshFix] = {}  # whole frames that may turn out to lie within a stretch
        self._closed: list[_Stretch] = []

    def keep(self, frame: int, fix: MeshFix) -> None:
        """Remember a frame's answer; in the order of tracking, while the tracker's map is that frame's."""
        measured = int(np.count_nonzero(fix.measured)) if fix.places is not None else 0
        self._most = max(self._most, measured)
        self._open.jumped |= fix.places is None or (self._before is not None and _jumped(self._before, fix))
        self._before = fix
        if measured < _WHOLE * self._most:
            self._open.fixes |= self._between | {frame: fix}
            self._open.values, self._between = [], {}
        elif not self._open.fixes:
            self._open.jumped = False
        else:
            self._open.values.append(self._tracker.values)
            self._between[frame] = fix
            if len(self._open.values) == 2:
                self._close()

    def answers(self, feed: Callable[[int], MeshFix | None]) -> Iterator[tuple[int, MeshFix]]:
        """Better answers, for the frames where there are any; `feed` gives a frame to the tracker, which is turned round, and its answer."""
        if self._open.values:
            self._close()
        for stretch in self._closed:
            self._tracker.turn_back(stretch.values[0], stretch.values[-1])
            ahead, longest = stretch.fixes, np.asarray(len(stretch.fixes))
            followed, run = {}, longest
            for frame, fix in ahead.items():
                followed[frame] = run = _followed(run, fix)
            run = longest
            for frame in reversed(ahead):
                other = feed(frame)
                run = _followed(run, other)
                merged = _merged(ahead[frame], other, run > followed[frame])
                if merged is not None:
                    yield frame, merged

    def _close(self) -> None:
        if self._open.jumped:
            self._closed.append(self._open)
        self._open, self._between = _Stretch(), {}


def _jumped(before: MeshFix, fix: MeshFix) -> bool:
    """Whether a vertex that was not measured on the frame before is measured far from where its neighbours' motion takes it."""
    if before.places is None or fix.places is None:
        return True
    found, sure = np.flatnonzero(fix.measured & ~before.measured), np.flatnonzero(fix.measured & before.measured)
    if not len(found) or len(sure) < _NEIGHBOURS:
        return False
    moved = fix.places - before.places
    near = scipy.spatial.cKDTree(fix.mesh.vertices[sure]).query(fix.mesh.vertices[found], _NEIGHBOURS)[1]
    return bool(np.linalg.norm(moved[found] - moved[sure][near].mean(1), axis=1).max() > _JUMP)


def _merged(one: MeshFix, other: MeshFix | None, longer: np.ndarray) -> MeshFix | None:
    """What both sides say of a frame; None where that is what `one` says.

    Parameters
    ----------
    longer : (V,) whether the `other` side followed a vertex for longer before it came to this frame.
    """
    if other is None or other.places is None:
        return None
    if one.places is None:
        return other
    apart = np.linalg.norm(other.places - one.places, axis=1)
    # what both measured in different places was followed by the one that has not just found it
    differ = one.measured & other.measured & (apart > _AGREE + 2 * (one.errors + other.errors)) & longer
    only = other.measured & ~one.measured
    # what is measured by this side alone, where its map is wrong all round, matched something else
    only[only] = _mean_of_nearest(one, only, apart, one.measured & ~differ)[only] < _WRONG
    only |= differ
    neither = ~one.measured & ~only
    share = np.where(only, 1.0, 0.0)
    # of what neither measured, the side counts whose map is right round it
    wrong = (share * apart, (1 - share) * apart)
    one_off, other_off = (side.errors[neither] ** 2 * (_mean_of_nearest(side, neither, off, ~neither)[neither] ** 2 + _EXACT ** 2)
                          for side, off in zip((one, other), wrong, strict=True))
    share[neither] = one_off / (one_off + other_off)
    places = one.places + share[:, None] * (other.places - one.places)
    if not only.any() and np.abs(places - one.places).max() <= _CHANGED:
        return None
    errors = np.where(only, other.errors, one.errors)
    # both sides expect the same of what is hidden, so that two are no surer than one
    errors[neither] = np.hypot(np.minimum(one.errors, other.errors), 0.5 * apart)[neither]
    return replace(one, places=places, errors=errors, measured=one.measured | other.measured, seen=max(one.seen, other.seen))


def _mean_of_nearest(fix: MeshFix, which: np.ndarray, values: np.ndarray, among: np.ndarray) -> np.ndarray:
    """(V,) means of values (V,) over the vertices of those `among` (V,) that are nearest to each of those `which` (V,); 0 elsewhere."""
    out, count = np.zeros(len(values)), min(_NEIGHBOURS, np.count_nonzero(among))
    if count and which.any():
        near = scipy.spatial.cKDTree(fix.mesh.vertices[among]).query(fix.mesh.vertices[which], count)[1]
        out[which] = values[among][near].reshape(-1, count).mean(1)
    return out


def _followed(before: np.ndarray, fix: MeshFix | None) -> np.ndarray:
    """(V,) on how many frames without a break each vertex was measured, with this one; `before` is that of the frame tracked before it."""
    return np.where(fix.measured, before + 1, 0) if fix is not None and fix.places is not None else np.asarray(0)
