"""How the background of one frame's picture goes over into another's, beside a figure: by homographies through features (R. Hartley and A. Zisserman,
Multiple view geometry, 2004, section 4.8), that of the plane which most of them lie on."""

import cv2
import numpy as np

from wertis.core.geometry import homography

_WINDOW, _LEVELS = 21, 4
_BACK = 0.3  # pixels that a feature may be off after going forth and back
_CLOSE = 0.5  # pixels from the homography within which a feature goes with it
_FEWEST = 25  # features that must go with one
_MISPLACED = 1.5  # pixels by which the background of another frame may seem to be misplaced
_USUAL = 0.8  # part of what both frames show by which that is judged
_LEAST_SHARED = 200  # pixels that they must both show for it

MaskedPicture = tuple[np.ndarray, np.ndarray]
"""A grey picture (h, w) uint8, and (h, w) bool, where it does not count."""


def registered(first: MaskedPicture, last: MaskedPicture, start: np.ndarray, guess: np.ndarray, least_share: float) -> np.ndarray | None:
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


def features(seen: MaskedPicture, count: int, quality: float, apart: float) -> np.ndarray:
    """(n, 2) float32 corners of a picture that are well told, first pixel's centre at 0."""
    found = cv2.goodFeaturesToTrack(seen[0], count, quality, apart, mask=np.where(seen[1], 0, 255).astype(np.uint8))
    return found[:, 0] if found is not None else np.zeros((0, 2), np.float32)


def agrees(seen: MaskedPicture, other: MaskedPicture, onto: np.ndarray) -> bool:
    """Whether another picture looks as one does where both count, when a homography (3, 3) takes this one to it: they must not differ more than this one
    does from itself, moved by a pixel and a half."""
    y, x = np.nonzero(~seen[1])
    if not len(x):
        return True
    x0, y0, size = x.min(), y.min(), (int(np.ptp(x)) + 1, int(np.ptp(y)) + 1)
    part = slice(y0, y0 + size[1]), slice(x0, x0 + size[0])
    back = homography.translation(-x0, -y0) @ np.linalg.inv(onto)
    free = cv2.warpPerspective((~other[1]).astype(np.uint8), back, size, flags=cv2.INTER_NEAREST) > 0
    both = free & ~seen[1][part]
    if both.sum() < _LEAST_SHARED:
        return True
    own = seen[0][part].astype(np.float32)
    off = np.abs(own - cv2.warpPerspective(other[0], back, size, flags=cv2.INTER_LINEAR))[both]
    aside = [cv2.warpAffine(own, np.array([[1, 0, dx], [0, 1, dy]], np.float32), size, borderMode=cv2.BORDER_REPLICATE)
             for dx, dy in ((_MISPLACED, 0), (0, _MISPLACED))]
    moved = np.mean([np.abs(own - each)[both] for each in aside], axis=0)
    usual = off <= np.quantile(off, _USUAL)  # what stands or moves before the background, or the figure where it grew, does not count
    return bool(off[usual].mean() <= moved[usual].mean())


def _followed(first: MaskedPicture, last: MaskedPicture, start: np.ndarray, guess: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
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
