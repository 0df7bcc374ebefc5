"""Repair points: spots of the surface that are put where they belong, and the motion that follows from them.

One point moves the surface, two also scale and turn it, three also shear it, four or more also change its perspective.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from wertis.core.geometry import homography, quad
from wertis.core.geometry.motion import Motion
from wertis.core.repair.curve import Curve
from wertis.core.repair.layer import CorrectedMotion


@dataclass(frozen=True)
class Spot:
    """A repair point.

    Attributes
    ----------
    place : (2,) on the reference frame's picture.
    curve : by how many pixels of the frame it is moved, on top of what the spots `under` it do there.
    under : the spots that were there when this one was added, as they were then; so adding it moved nothing.
    """

    place: np.ndarray
    curve: Curve
    under: Sequence["Spot"] = field(default_factory=tuple)


def moves(spots: Sequence[Spot], plane: np.ndarray, time: float) -> np.ndarray:
    """(n, 2) by how many of the frame's pixels each spot is moved at a time; `plane` (3, 3) is the unrepaired motion there."""
    out = np.empty((len(spots), 2))
    for k, spot in enumerate(spots):
        at = homography.apply(plane, spot.place[None])
        beneath = homography.apply(correction(spot.under, plane, time), at)[0] - at[0] if spot.under else 0.0
        out[k] = beneath + spot.curve(time)
    return out


def correction(spots: Sequence[Spot], plane: np.ndarray, time: float) -> np.ndarray:
    """The homography (3, 3), within the frame's picture, that takes every spot to where it belongs."""
    if not spots:
        return np.eye(3)
    source = homography.apply(plane, np.array([s.place for s in spots]))
    return through(source, source + moves(spots, plane, time))


def through(source: np.ndarray, target: np.ndarray) -> np.ndarray:
    """The simplest motion (3, 3) that takes points to points (n, 2) each: shift, likeness, shear or perspective for n of 1, 2, 3, or more.

    Points on one line, or a fold, leave the perspective or the shear out.
    """
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
    middle = source.mean(0)
    x, y = (source - middle).T
    scale = max(float(np.abs(source - middle).max()), 1e-9)
    flat = len(source) < 3 or np.linalg.svd((source - middle) / scale, compute_uv=False)[1] < 1e-3
    zero, one = np.zeros_like(x), np.ones_like(x)
    if flat:
        rows = np.concatenate([np.column_stack([x, -y, one, zero]), np.column_stack([y, x, zero, one])])
    else:
        rows = np.concatenate([np.column_stack([x, y, one, zero, zero, zero]), np.column_stack([zero, zero, zero, x, y, one])])
    v = np.linalg.lstsq(rows, np.concatenate([target[:, 0], target[:, 1]]), rcond=None)[0]
    out = np.eye(3)
    if flat:
        out[:2] = [[v[0], -v[1], v[2]], [v[1], v[0], v[3]]]
    else:
        out[:2] = [v[:3], v[3:]]
    back = np.eye(3)
    back[:2, 2] = -middle
    return np.asarray(out @ back)


class RepairedMotion(CorrectedMotion):
    """A motion with repair points on it; a motion itself.

    Parameters
    ----------
    inner : the motion as it was tracked.
    spots : the repair points.
    """

    def __init__(self, inner: Motion, spots: Sequence[Spot]) -> None:
        super().__init__(inner)
        self.spots = tuple(spots)

    def correction(self, plane: np.ndarray, time: float) -> np.ndarray:
        return correction(self.spots, plane, time)
