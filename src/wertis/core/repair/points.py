"""Repair points: spots of the surface that are put where they belong, and the motion that follows from them.

One point moves the surface, two also scale and turn it, three also shear it, four or more also change its perspective.

A point that is added where others have keys must move nothing, so it lies on a snapshot of the repair as it was then. The snapshots are a flat list,
each of which is worked out once for a time, so that the cost grows with the number of points and not with how they were nested.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from wertis.core.geometry import homography, quad
from wertis.core.geometry.affine import affine_through
from wertis.core.geometry.motion import Motion
from wertis.core.geometry.warp import HomographyWarp, Warp
from wertis.core.keyed import Curve
from wertis.core.repair.correction import CorrectedMotion


@dataclass(frozen=True)
class Spot:
    """A repair point.

    Attributes
    ----------
    place : (2,) on the reference frame's picture.
    curve : by how many pixels of the frame it is moved, on top of what the snapshot beneath it does there.
    base : index of that snapshot; -1 where there is none.
    """

    place: np.ndarray
    curve: Curve
    base: int = -1


@dataclass(frozen=True)
class PointRepair:
    """Repair points and the snapshots beneath them.

    Attributes
    ----------
    spots : the points.
    snapshots : earlier states of the repair; the points of one lie on earlier snapshots only.
    """

    spots: tuple[Spot, ...]
    snapshots: tuple[tuple[Spot, ...], ...] = ()

    def moves(self, warp: Warp, time: float) -> np.ndarray:
        """(n, 2) by how many of the frame's pixels each point is moved at a time; `warp` is the unrepaired motion there."""
        source = _places(self.spots, warp)
        return _moves(self.spots, source, self._snapshots_at(warp, time), time)

    def bases(self, warp: Warp, time: float) -> np.ndarray:
        """(n, 2) where each point would be on the frame with what lies beneath it, but without its own keys."""
        source = _places(self.spots, warp)
        return source + _moves(self.spots, source, self._snapshots_at(warp, time), time, own=False)

    def correction(self, warp: Warp, time: float) -> np.ndarray:
        """The homography (3, 3), within the frame's picture, that takes every point to where it belongs."""
        return _fitted(self.spots, warp, self._snapshots_at(warp, time), time)

    def _snapshots_at(self, warp: Warp, time: float) -> list[np.ndarray]:
        """The snapshots' homographies (3, 3) at a time."""
        found: list[np.ndarray] = []
        for spots in self.snapshots:
            found.append(_fitted(spots, warp, found, time))
        return found


def _places(spots: Sequence[Spot], warp: Warp) -> np.ndarray:
    return warp.forward(np.array([s.place for s in spots]).reshape(-1, 2))


def _moves(spots: Sequence[Spot], source: np.ndarray, snapshots: Sequence[np.ndarray], time: float, own: bool = True) -> np.ndarray:
    out = np.zeros((len(spots), 2))
    for k, spot in enumerate(spots):
        if spot.base >= 0:
            out[k] = homography.apply(snapshots[spot.base], source[k:k + 1])[0] - source[k]
        if own:
            out[k] += spot.curve(time)
    return out


def _fitted(spots: Sequence[Spot], warp: Warp, snapshots: Sequence[np.ndarray], time: float) -> np.ndarray:
    if not spots:
        return np.eye(3)
    source = _places(spots, warp)
    return through(source, source + _moves(spots, source, snapshots, time))


def through(source: np.ndarray, target: np.ndarray) -> np.ndarray:
    """The simplest motion (3, 3) that takes points to points (n, 2) each: shift, likeness, shear or perspective for n of 1, 2, 3, or more.

    Points on one line, or a fold, leave the perspective or the shear out. Those that have no image, beyond the surface's horizon, do not count.
    """
    known = np.isfinite(source).all(1) & np.isfinite(target).all(1)
    if not known.all():
        source, target = source[known], target[known]
    if not len(source):
        return np.eye(3)
    shift = target - source
    if len(source) == 1 or np.allclose(shift, shift[0], atol=1e-12):
        out = np.eye(3)
        out[:2, 2] = shift.mean(0)
        return out
    if len(source) >= 4:
        try:
            found = homography.from_points(source, target)
            ring = source if len(source) == 4 else source[:4]
            if quad.is_convex(quad.ordered(ring)) and np.abs(homography.apply(found, source) - target).max() < 1e3:
                return found
        except ValueError:
            pass
    return affine_through(source, target)


class RepairedMotion(CorrectedMotion):
    """A motion with repair points on it; a motion itself.

    Parameters
    ----------
    inner : the motion beneath.
    repair : the repair points.
    """

    def __init__(self, inner: Motion, repair: PointRepair) -> None:
        super().__init__(inner)
        self.repair = repair

    def correction(self, warp: Warp, time: float) -> Warp:
        return HomographyWarp(self.repair.correction(warp, time))
