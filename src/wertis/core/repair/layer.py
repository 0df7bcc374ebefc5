"""What the layers on a motion share: a correction of each frame's picture on top of a motion, which is a motion itself."""

from abc import ABC, abstractmethod

import numpy as np

from wertis.core.geometry import homography
from wertis.core.geometry.motion import Motion

_KEPT = 4096  # homographies that a motion keeps


class CorrectedMotion(ABC):
    """A motion with something on top of it; at the reference frame that is always nothing.

    Parameters
    ----------
    inner : the motion beneath.
    """

    def __init__(self, inner: Motion) -> None:
        self.inner = inner
        self._planes: dict[float, np.ndarray] = {}  # of the times asked last

    @abstractmethod
    def correction(self, plane: np.ndarray, time: float) -> np.ndarray:
        """The homography (3, 3) within the picture at a time; `plane` (3, 3) is the motion beneath, there."""

    @property
    def reference(self) -> int:
        return self.inner.reference

    def known(self, time: float) -> bool:
        return self.inner.known(time)

    def plane_at(self, time: float) -> np.ndarray | None:
        if time in self._planes:
            return self._planes[time]
        plane = self.inner.plane_at(time)
        if plane is None or time == self.reference:
            return plane
        if len(self._planes) > _KEPT:
            self._planes.clear()
        found = homography.normalised(self.correction(plane, time) @ plane)
        found.flags.writeable = False
        self._planes[time] = found
        return found

    def to_frame(self, points: np.ndarray, time: float) -> np.ndarray:
        matrix = self.plane_at(time)
        return np.full(np.shape(points), np.nan) if matrix is None else homography.apply(matrix, points)

    def to_reference(self, points: np.ndarray, time: float) -> np.ndarray:
        matrix = self.plane_at(time)
        return np.full(np.shape(points), np.nan) if matrix is None else homography.apply(np.linalg.inv(matrix), points)
