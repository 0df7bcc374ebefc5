"""What layers on a motion share: a correction of each time's picture on top of a motion, which is a motion itself."""

from abc import ABC, abstractmethod
from collections.abc import Sequence

import numpy as np

from wertis.core.geometry.motion import Motion
from wertis.core.geometry.warp import Warp, compose

_MOST_KEPT = 4096  # warps that a motion keeps


class LayerMotion:
    """A motion that lies on another, with that one's reference and frames.

    Parameters
    ----------
    inner : the motion beneath.
    """

    def __init__(self, inner: Motion) -> None:
        self.inner = inner

    @property
    def reference(self) -> int:
        return self.inner.reference

    @property
    def frames(self) -> Sequence[int]:
        return self.inner.frames


class CorrectedMotion(LayerMotion, ABC):
    """A motion with a correction on top of it; at the reference frame that is always nothing."""

    def __init__(self, inner: Motion) -> None:
        super().__init__(inner)
        self._warps: dict[float, Warp | None] = {}  # of the times asked last

    @abstractmethod
    def correction(self, warp: Warp, time: float) -> Warp:
        """The warp within the picture at a time; `warp` is the motion beneath, there. ValueError where there is none."""

    def at(self, time: float) -> Warp | None:
        if time == self.reference:
            return self.inner.at(time)
        kept = self._warps.get(time, self)
        if kept is not self:
            return kept  # type: ignore[return-value]
        warp = self.inner.at(time)
        if warp is not None:
            try:
                warp = compose(self.correction(warp, time), warp)
            except (ValueError, np.linalg.LinAlgError):  # the correction folds the picture over
                warp = None
        if len(self._warps) > _MOST_KEPT:
            self._warps = {}
        self._warps[time] = warp
        return warp

    def uncertainty(self, points: np.ndarray, time: float) -> np.ndarray:
        return self.inner.uncertainty(points, time)
