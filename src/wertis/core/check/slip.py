"""What was measured of one frame's drift."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np


@dataclass(frozen=True)
class Slip:
    """One frame's drift.

    Attributes
    ----------
    slip : (N, 2) in the frame's pixels, from where the motion puts each point to where it was measured to be; nan where not measured.
    uncertainty : (N,) standard deviation of each in pixels; inf where nothing could be said.
    seen : share 0..1 of the patches in the picture that were found.
    in_view : share 0..1 of the surface that lies in the picture.
    reason : why nothing was measured; empty otherwise.
    """

    slip: np.ndarray
    uncertainty: np.ndarray
    seen: float = 0.0
    in_view: float = 0.0
    reason: str = ""

    @cached_property
    def amounts(self) -> np.ndarray:
        """(N,) the slips' lengths in pixels; nan where not measured."""
        return np.asarray(np.hypot(self.slip[:, 0], self.slip[:, 1]))

    @cached_property
    def worst(self) -> float:
        """The largest slip in pixels; nan when nothing was measured."""
        found = self.amounts[np.isfinite(self.amounts)]
        return float(found.max()) if len(found) else float("nan")

    @cached_property
    def mean(self) -> float:
        """The mean of the slips' lengths in pixels; nan when nothing was measured."""
        found = self.amounts[np.isfinite(self.amounts)]
        return float(found.mean()) if len(found) else float("nan")

    @cached_property
    def where(self) -> int:
        """The number of the point with the largest slip; 0 when nothing was measured."""
        return int(np.nanargmax(self.amounts)) if np.isfinite(self.worst) else 0


def unmeasured(count: int, reason: str, in_view: float = 0.0) -> Slip:
    """The slip of `count` points on a frame where nothing could be measured, with the reason in words."""
    return Slip(np.full((count, 2), np.nan), np.full(count, np.inf), 0.0, in_view, reason)
