"""Smoothing a tracked motion against jitter."""


import numpy as np
import scipy

from wertis.core.geometry import homography
from wertis.core.geometry.motion import FrameMotion, Motion, plane_between_frames
from wertis.core.geometry.warp import DisplacedWarp, HomographyWarp, Warp
from wertis.core.repair.correction import LayerMotion

_GRID = 5  # anchors along each side of the region's box where a surface bends
_REACH = 3.0  # standard deviations of the Gaussian beyond which a frame no longer counts
_FEWEST = 4  # frames from which a local quadratic is fitted


def smoothed_paths(paths: np.ndarray, frames: np.ndarray, reference: int, width: float) -> np.ndarray:
    """Paths (F, c) on `frames` (F,), smoothed over `width` frames; the reference frame's place stays as it is.

    Each path is a local quadratic through its neighbours, weighted by a Gaussian with a standard deviation of half the width
    (A. Savitzky and M. Golay, Smoothing and differentiation of data by simplified least squares procedures, 1964; W. Cleveland, Robust locally weighted
    regression, 1979). Frames without an answer end a path; nothing is smoothed across them.
    """
    if width <= 0 or len(frames) < 3:
        return paths
    sigma = width / 2
    out = paths.copy()
    for run in np.split(np.arange(len(frames)), np.flatnonzero(np.diff(frames) > 1) + 1):
        for k in run:
            near = run[np.abs(frames[run] - frames[k]) <= _REACH * sigma]
            if len(near) < _FEWEST:
                continue
            t = (frames[near] - frames[k]) / sigma
            root = np.sqrt(np.exp(-t * t / 2))[:, None]
            columns = np.column_stack([np.ones_like(t), t, t * t])
            out[k] = np.linalg.lstsq(columns * root, paths[near] * root, rcond=None)[0][0]
    change = out - paths
    at = np.flatnonzero(frames == reference)
    if len(at):
        # what would move the reference frame fades away on both sides of it
        change = change - change[at[0]] * np.exp(-((frames - reference) / sigma)[:, None] ** 2 / 2)
    return paths + change


class SmoothedMotion(LayerMotion, FrameMotion):
    """A motion whose anchors move smoothly.

    Parameters
    ----------
    inner : the motion beneath.
    box : (4, 2) corners of the region's box on the reference frame. They are the anchors of a plane; a surface that bends has a grid of them.
    width : frames over which it is smoothed.
    """

    def __init__(self, inner: Motion, box: np.ndarray, width: float) -> None:
        super().__init__(inner)
        self._box = np.asarray(box, np.float64)
        frames = [f for f in inner.frames if inner.at(f) is not None]
        inner_warps = [inner.at(f) for f in frames]
        self._is_plane = all(w is not None and w.matrix is not None for w in inner_warps)
        self._anchors = self._box if self._is_plane else _grid(self._box)
        self._warps: dict[int, Warp] = {}
        if not frames:
            return
        paths = np.array([w.forward(self._anchors).ravel() for w in inner_warps if w is not None])
        smooth = smoothed_paths(paths, np.array(frames), inner.reference, width)
        for frame, warp, before, after in zip(frames, inner_warps, paths, smooth, strict=True):
            assert warp is not None
            if frame == inner.reference or np.array_equal(before, after):
                self._warps[frame] = warp
            elif self._is_plane:
                self._warps[frame] = HomographyWarp(homography.from_points(self._anchors, after.reshape(-1, 2)))
            else:
                self._warps[frame] = DisplacedWarp(warp, _ThinPlateSpline(self._anchors, (after - before).reshape(-1, 2)))

    def on_frame(self, frame: int) -> Warp | None:
        return self._warps.get(frame)

    def error_on(self, points: np.ndarray, frame: int) -> np.ndarray:
        return self.inner.uncertainty(points, frame)

    def between(self, first: Warp, second: Warp, part: float) -> Warp | None:
        return plane_between_frames(first, second, part, self._box) if self._is_plane else super().between(first, second, part)


class _ThinPlateSpline:
    """A displacement (2,) at points of the reference, a smooth surface through those of a grid of anchors.

    A thin-plate spline (F. Bookstein, Principal warps: thin-plate splines and the decomposition of deformations, 1989), by SciPy.
    """

    def __init__(self, anchors: np.ndarray, moves: np.ndarray) -> None:

        self._scale = float(np.ptp(anchors, axis=0).max()) or 1.0
        self._at = scipy.interpolate.RBFInterpolator(anchors / self._scale, moves, kernel="thin_plate_spline")

    def __call__(self, points: np.ndarray) -> np.ndarray:
        good = np.isfinite(points).all(1)
        out = np.full(points.shape, np.nan)
        out[good] = self._at(points[good] / self._scale) if good.any() else 0
        return out


def _grid(box: np.ndarray) -> np.ndarray:
    u, v = (a.ravel() for a in np.meshgrid(*[np.linspace(0, 1, _GRID)] * 2))
    low, high = box.min(0), box.max(0)
    return low + (high - low) * np.column_stack([u, v])


def most_changed(before: Motion, after: Motion, anchors: np.ndarray) -> tuple[float, int]:
    """The furthest that an anchor (N, 2) was moved by smoothing, in pixels, and on which frame."""
    away: dict[int, float] = {}
    for frame in before.frames:
        a, b = before.at(frame), after.at(frame)
        if a is not None and b is not None:
            away[frame] = float(np.linalg.norm(b.forward(anchors) - a.forward(anchors), axis=1).max())
    frame = max(away, key=lambda f: away[f])
    return away[frame], frame
