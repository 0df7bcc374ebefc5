"""Frames that were tracked again from repaired ones, in place of what was tracked at first."""

from collections.abc import Mapping, Sequence

import numpy as np

from wertis.core.geometry.motion import FrameMotion, Motion, plane_between_frames
from wertis.core.geometry.warp import HomographyWarp, Warp
from wertis.core.repair.correction import LayerMotion


class RetrackedMotion(LayerMotion, FrameMotion):
    """A motion in which some frames have other answers.

    Parameters
    ----------
    inner : the motion beneath.
    matrices : frame to homography (3, 3), reference to that frame.
    anchors : (4, 2) points of the reference that move in straight lines between frames.
    errors : frame to expected error in pixels.
    """

    def __init__(self, inner: Motion, matrices: Mapping[int, np.ndarray], anchors: np.ndarray, errors: Mapping[int, float]) -> None:
        super().__init__(inner)
        self._anchors, self._errors = anchors, errors
        self._warps: dict[int, Warp] = {f: HomographyWarp(m) for f, m in matrices.items() if f != inner.reference}
        self._frames = sorted({*inner.frames, *self._warps})

    @property
    def frames(self) -> Sequence[int]:
        return self._frames

    def on_frame(self, frame: int) -> Warp | None:
        return self._warps.get(frame) or self.inner.at(frame)

    def error_on(self, points: np.ndarray, frame: int) -> np.ndarray:
        return np.full(len(points), self._errors[frame]) if frame in self._warps else self.inner.uncertainty(points, frame)

    def between(self, first: Warp, second: Warp, part: float) -> Warp | None:
        if first.matrix is not None and second.matrix is not None:
            return plane_between_frames(first, second, part, self._anchors)
        return super().between(first, second, part)
