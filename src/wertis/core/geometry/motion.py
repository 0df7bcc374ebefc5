"""A motion: where a point of the reference frame's picture is on any frame, and back.

Everything that uses motion is written against `Motion`; trackers make motions, repairs wrap them.
"""

import bisect
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from wertis.core.geometry import homography


@dataclass(frozen=True)
class Fix:
    """One frame's answer.

    Attributes
    ----------
    matrix : (3, 3) reference frame to this frame, in Wertis' pixels; None when the surface was lost.
    error : expected error in pixels (one standard deviation) of the region's corners, from the covariance of the fit.
    seen : share 0..1 of the region's texture that is in the picture and matches.
    reason : why it was lost, in words; empty otherwise.
    """

    matrix: np.ndarray | None
    error: float = np.inf
    seen: float = 0.0
    reason: str = ""


class Motion(Protocol):
    """What every motion answers. Times are frame numbers; parts of a frame are allowed between known frames.

    Attributes
    ----------
    reference : the frame in whose picture points are given.
    """

    @property
    def reference(self) -> int: ...

    def known(self, time: float) -> bool:
        """Whether there is an answer at this time."""
        ...

    def plane_at(self, time: float) -> np.ndarray | None:
        """The homography (3, 3) reference to frame where the motion is a plane's; None where unknown or not a plane."""
        ...

    def to_frame(self, points: np.ndarray, time: float) -> np.ndarray:
        """Points (N, 2) of the reference picture at `time`; nan where unknown."""
        ...

    def to_reference(self, points: np.ndarray, time: float) -> np.ndarray:
        """The inverse of `to_frame`."""
        ...


class PlanarMotion:
    """A plane's motion, one homography per known frame.

    Between two neighbouring known frames the four `anchors` move in straight lines, and the homography follows them.

    Parameters
    ----------
    reference : the reference frame; its own homography is the identity.
    matrices : frame to (3, 3), reference to that frame.
    anchors : (4, 2) points of the surface on the reference frame, corners of its region's box.
    """

    def __init__(self, reference: int, matrices: Mapping[int, np.ndarray], anchors: np.ndarray) -> None:
        self._reference = reference
        self.matrices = {**matrices, reference: np.eye(3)}
        self._frames = sorted(self.matrices)
        self._anchors = np.asarray(anchors, np.float64)

    @property
    def reference(self) -> int:
        return self._reference

    def known(self, time: float) -> bool:
        return self.plane_at(time) is not None

    def plane_at(self, time: float) -> np.ndarray | None:
        whole = int(np.floor(time))
        if time == whole:
            return self.matrices.get(whole)
        before, after = self.matrices.get(whole), self.matrices.get(whole + 1)
        if before is None or after is None:
            return None
        part = time - whole
        moved = (1 - part) * homography.apply(before, self._anchors) + part * homography.apply(after, self._anchors)
        try:
            return homography.from_points(self._anchors, moved)
        except ValueError:
            return None

    def to_frame(self, points: np.ndarray, time: float) -> np.ndarray:
        matrix = self.plane_at(time)
        if matrix is None:
            return np.full(np.shape(points), np.nan)
        return homography.apply(matrix, points)

    def to_reference(self, points: np.ndarray, time: float) -> np.ndarray:
        matrix = self.plane_at(time)
        if matrix is None:
            return np.full(np.shape(points), np.nan)
        return homography.apply(np.linalg.inv(matrix), points)

    def nearest_known(self, frame: int) -> int:
        """The known frame nearest to `frame`."""
        at = bisect.bisect_left(self._frames, frame)
        around = self._frames[max(0, at - 1):at + 1]
        return min(around, key=lambda f: abs(f - frame))


def carried(motion: Motion, points: np.ndarray, source: float, target: float) -> np.ndarray:
    """Points (N, 2) of the picture at time `source`, carried to time `target`; nan where either is unknown."""
    return motion.to_frame(motion.to_reference(points, source), target)


def plane_between(motion: Motion, source: float, target: float) -> np.ndarray | None:
    """The homography from the picture at `source` to the one at `target`; None where either is unknown."""
    a, b = motion.plane_at(source), motion.plane_at(target)
    return None if a is None or b is None else homography.normalised(b @ np.linalg.inv(a))
