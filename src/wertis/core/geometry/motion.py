"""A motion: for any time, the warp from the reference frame's picture to that time's.

Everything that uses motion is written against `Motion`; trackers make motions, layers (smoothing, repairs, an extra move) wrap them.
"""

from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from wertis.core.geometry import homography
from wertis.core.geometry.warp import IDENTITY, BlendedWarp, HomographyWarp, Warp, compose, inverted

MARGIN = 0.5  # frames beyond a known one for which its motion is taken to go on: half of the longest shutter


@dataclass(frozen=True)
class Fix:
    """One frame's answer of a planar tracker.

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

    @property
    def warp(self) -> Warp | None:
        """The answer as a warp."""
        return HomographyWarp(self.matrix) if self.matrix is not None else None


class Motion(Protocol):
    """What every motion answers. Times are frame numbers; parts of a frame are allowed between known frames and half a frame beyond them.

    Attributes
    ----------
    reference : the frame in whose picture points are given.
    frames : the whole frames that have an answer, in order.
    """

    @property
    def reference(self) -> int: ...

    @property
    def frames(self) -> Sequence[int]: ...

    def at(self, time: float) -> Warp | None:
        """The warp from the reference frame's picture to that of a time; None where it is unknown."""
        ...

    def uncertainty(self, points: np.ndarray, time: float) -> np.ndarray:
        """(N,) expected error in pixels (one standard deviation) at points (N, 2) of the reference; inf where unknown."""
        ...


class FrameMotion(ABC):
    """A motion that has a warp for each known frame; between two of them every point moves in a straight line, and half a frame beyond it goes on."""

    @property
    @abstractmethod
    def reference(self) -> int: ...

    @property
    @abstractmethod
    def frames(self) -> Sequence[int]: ...

    @abstractmethod
    def on_frame(self, frame: int) -> Warp | None:
        """The warp to a whole frame."""

    @abstractmethod
    def error_on(self, points: np.ndarray, frame: int) -> np.ndarray:
        """(N,) expected error in pixels at points (N, 2) of the reference on a whole frame that is known."""

    def between(self, first: Warp, second: Warp, part: float) -> Warp | None:
        """The warp at `part` of the way between those of two neighbouring frames; below 0 or above 1, beyond them."""
        return BlendedWarp(first, second, part)

    def at(self, time: float) -> Warp | None:
        whole = int(np.floor(time))
        here = self.on_frame(whole)
        if time == whole:
            return here
        part, after = time - whole, self.on_frame(whole + 1)
        if here is not None and after is not None:
            return self.between(here, after, part)
        if here is not None and part <= MARGIN:
            before = self.on_frame(whole - 1)
            return here if before is None else self.between(before, here, 1 + part)
        if after is not None and 1 - part <= MARGIN:
            beyond = self.on_frame(whole + 2)
            return after if beyond is None else self.between(after, beyond, part - 1)
        return None

    def uncertainty(self, points: np.ndarray, time: float) -> np.ndarray:
        near = [f for f in {int(np.floor(time)), int(np.ceil(time))} if self.on_frame(f) is not None]
        if self.at(time) is None or not near:
            return np.full(len(points), np.inf)
        return np.max([self.error_on(points, f) for f in near], axis=0)


class TabulatedMotion(FrameMotion):
    """A motion with a table of its warps.

    Parameters
    ----------
    reference : the reference frame; its own warp is the identity.
    warps : frame to warp.
    """

    def __init__(self, reference: int, warps: Mapping[int, Warp]) -> None:
        self._reference = reference
        self.warps: dict[int, Warp] = {**warps, reference: IDENTITY}
        self._frames = sorted(self.warps)

    @property
    def reference(self) -> int:
        return self._reference

    @property
    def frames(self) -> Sequence[int]:
        return self._frames

    def on_frame(self, frame: int) -> Warp | None:
        return self.warps.get(frame)


class PlanarMotion(TabulatedMotion):
    """A plane's motion, one homography per known frame.

    Between two neighbouring known frames the four `anchors` move in straight lines, and the homography follows them.

    Parameters
    ----------
    reference : the reference frame; its own homography is the identity.
    matrices : frame to (3, 3), reference to that frame.
    anchors : (4, 2) points of the surface on the reference frame, corners of its region's box.
    errors : frame to expected error in pixels; nothing is known of the error where it is not given.
    """

    def __init__(self, reference: int, matrices: Mapping[int, np.ndarray], anchors: np.ndarray, errors: Mapping[int, float] | None = None) -> None:
        super().__init__(reference, {f: HomographyWarp(m) for f, m in matrices.items()})
        self._anchors = np.asarray(anchors, np.float64)
        self._errors = {**(errors or {}), reference: 0.0}

    def error_on(self, points: np.ndarray, frame: int) -> np.ndarray:
        return np.full(len(points), self._errors.get(frame, np.inf))

    def between(self, first: Warp, second: Warp, part: float) -> Warp | None:
        return plane_between_frames(first, second, part, self._anchors)


def plane_between_frames(first: Warp, second: Warp, part: float, anchors: np.ndarray) -> Warp | None:
    """The homography whose anchors (4, 2) lie at `part` of the straight line between where two others take them; None where that folds."""
    moved = (1 - part) * first.forward(anchors) + part * second.forward(anchors)
    try:
        return HomographyWarp(homography.from_points(anchors, moved))
    except (ValueError, np.linalg.LinAlgError):
        return None


def carried(motion: Motion, points: np.ndarray, source: float, target: float) -> np.ndarray:
    """Points (N, 2) of the picture at time `source`, carried to time `target`; nan where either is unknown."""
    a, b = motion.at(source), motion.at(target)
    if a is None or b is None:
        return np.full(np.shape(points), np.nan)
    try:
        return b.forward(a.inverse(points))
    except ValueError:  # degenerate
        return np.full(np.shape(points), np.nan)


def between(motion: Motion, source: float, target: float) -> Warp | None:
    """The warp from the picture at `source` to the one at `target`; None where either is unknown."""
    a, b = motion.at(source), motion.at(target)
    if a is None or b is None:
        return None
    if a.matrix is not None and np.array_equal(a.matrix, np.eye(3)):
        return b
    try:
        return compose(b, inverted(a))
    except ValueError:  # degenerate
        return None


def nearest_frame(motion: Motion, frame: int) -> int:
    """The known whole frame nearest to `frame`."""
    return min(motion.frames, key=lambda f: (abs(f - frame), f))
