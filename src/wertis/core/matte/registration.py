"""How the background of one frame's picture goes over into another's, beside a figure: by homographies through features (R. Hartley and A. Zisserman,
Multiple view geometry, 2004, section 4.8), that of the plane which most of them lie on."""

import cv2
import numpy as np

_WINDOW, _LEVELS = 21, 4
_BACK = 0.3  # pixels that a feature may be off after going forth and back
_CLOSE = 0.5  # pixels from the homography within which a feature goes with it
_FEWEST = 25  # features that must go with one

Seen = tuple[np.ndarray, np.ndarray]
"""A grey picture (h, w) uint8, and (h, w) bool, where it does not count."""


def registered(first: Seen, last: Seen, start: np.ndarray, guess: np.ndarray, least_share: float) -> np.ndarray | None:
    """The homography (3, 3) that takes a picture to another, first pixel's centre at 0; None where too few features go with one.

    Parameters
    ----------
    start, guess : (n, 2) float32 `features` of the first, and about where they are in the last.
    least_share : part of those that are found in both, which must go with one.
    """
    start, end = _followed(first, last, start, guess)
    if len(start) < _FEWEST:
        return None
    onto, inside = cv2.findHomography(start, end, cv2.USAC_MAGSAC, _CLOSE)
    return None if onto is None or inside.mean() < least_share or inside.sum() < _FEWEST else np.asarray(onto)


def features(seen: Seen, count: int, quality: float, apart: float) -> np.ndarray:
    """(n, 2) float32 corners of a picture that are well told, first pixel's centre at 0."""
    found = cv2.goodFeaturesToTrack(seen[0], count, quality, apart, mask=np.where(seen[1], 0, 255).astype(np.uint8))
    return found[:, 0] if found is not None else np.zeros((0, 2), np.float32)


def _followed(first: Seen, last: Seen, start: np.ndarray, guess: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(k, 2) float64 those of the features (n, 2) of a picture that are found in another, and where."""
    if not len(start):
        return np.zeros((0, 2)), np.zeros((0, 2))
    settings = {"winSize": (_WINDOW, _WINDOW), "maxLevel": _LEVELS, "flags": cv2.OPTFLOW_USE_INITIAL_FLOW}
    there, _, _ = cv2.calcOpticalFlowPyrLK(first[0], last[0], start, guess.astype(np.float32), **settings)  # type: ignore[call-overload]
    back, _, _ = cv2.calcOpticalFlowPyrLK(last[0], first[0], there, (there - (guess - start)).astype(np.float32), **settings)  # type: ignore[call-overload]
    h, w = last[1].shape
    at = np.clip(np.round(there).astype(int), 0, [w - 1, h - 1])
    good = (np.linalg.norm(back - start, axis=1) < _BACK) & ~last[1][at[:, 1], at[:, 0]]
    return start[good].astype(float), there[good].astype(float)
