"""Smoothing a tracked motion against jitter."""

from collections.abc import Mapping

import numpy as np

from wertis.core.geometry import homography


def smoothed(matrices: Mapping[int, np.ndarray], anchors: np.ndarray, reference: int, width: float) -> dict[int, np.ndarray]:
    """Matrices (3, 3) per frame whose `anchors` (4, 2) move smoothly; the reference frame's stays as it is.

    Each anchor's path is a local quadratic through its neighbours, weighted by a Gaussian with a standard deviation of half the `width` in frames
    (A. Savitzky and M. Golay, Smoothing and differentiation of data by simplified least squares procedures, 1964; W. Cleveland, Robust locally weighted
    regression, 1979). Frames without an answer end a path; nothing is smoothed across them.
    """
    frames = np.array(sorted(matrices))
    if width <= 0 or len(frames) < 3:
        return dict(matrices)
    sigma = width / 2
    paths = np.array([homography.apply(matrices[int(f)], anchors) for f in frames]).reshape(len(frames), 8)
    out = paths.copy()
    runs = np.split(np.arange(len(frames)), np.flatnonzero(np.diff(frames) > 1) + 1)
    for run in runs:
        for k in run:
            near = run[np.abs(frames[run] - frames[k]) <= 3 * sigma]
            if len(near) < 4:
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
    result = {}
    for f, path in zip(frames, paths + change, strict=True):
        result[int(f)] = matrices[int(f)] if f == reference else homography.from_points(anchors, path.reshape(4, 2))
    return result


def most_changed(before: Mapping[int, np.ndarray], after: Mapping[int, np.ndarray], anchors: np.ndarray) -> tuple[float, int]:
    """The furthest that an anchor was moved by smoothing, in pixels, and on which frame."""
    away = {f: float(np.linalg.norm(homography.apply(after[f], anchors) - homography.apply(before[f], anchors), axis=1).max()) for f in before}
    frame = max(away, key=lambda f: away[f])
    return away[frame], frame
