"""Where to begin when the frames before do not say: a search by correlation, and one by features over the whole picture."""

from collections.abc import Iterator, Sequence
from typing import Protocol

import cv2
import numpy as np

from wertis.core.imaging.pyramid import Pyramid
from wertis.core.track.reference import KeptFeatures, Reference

_MOST_FEATURE_SIDE = 1000  # pixels
_CONTRAST = 0.02  # of features; half of what is usual, since blur and dim light leave few, and homographies agree by far fewer than they offer
LEAST_FEATURES = 8  # that must agree: a homography has eight parameters, and four of them match by chance


class Featured(Protocol):
    """A reference frame whose features are matched: its pyramid, the mask (height, width) of its region, and what is kept of its features."""

    pyramid: Pyramid
    mask: np.ndarray
    features: KeptFeatures


def best_shift(reference: Reference, pyramid: Pyramid, guess: np.ndarray, level: int) -> np.ndarray | None:
    """Move `guess` (3, 3, reference to picture, centres at 0) by the shift at which the warped reference correlates best.

    The search covers the picture within one region's size round the guess, at a coarse pyramid level.
    J. Lewis, Fast normalized cross-correlation, 1995.
    """
    scale = 2.0 ** level
    picture = pyramid[level]
    h, w = picture.shape
    down = np.diag([1 / scale, 1 / scale, 1.0])
    warp = down @ guess @ np.diag([scale, scale, 1.0])
    source = reference.pyramid[level]
    mask = cv2.resize(reference.mask, (source.shape[1], source.shape[0]), interpolation=cv2.INTER_AREA)
    size = (w, h)
    patch = cv2.warpPerspective(source, warp, size)
    cover = cv2.warpPerspective(mask, warp, size) > 200
    ys, xs = np.nonzero(cover)
    if len(ys) < 40:
        return None
    x0, x1, y0, y1 = xs.min(), xs.max() + 1, ys.min(), ys.max() + 1
    patch, cover = patch[y0:y1, x0:x1], cover[y0:y1, x0:x1]
    reach = int(min(max(8, max(patch.shape) // 2), 40))
    padded = cv2.copyMakeBorder(_detail(picture), reach, reach, reach, reach, cv2.BORDER_CONSTANT, value=0)
    window = padded[y0:y1 + 2 * reach, x0:x1 + 2 * reach]
    template = np.where(cover, _detail(patch), 0).astype(np.float32)
    match = cv2.matchTemplate(window, template, cv2.TM_CCORR_NORMED)
    _, _, _, (bx, by) = cv2.minMaxLoc(match)
    move = np.eye(3)
    move[:2, 2] = (bx - reach) * scale, (by - reach) * scale
    return move @ guess


def by_features(reference: Featured, pyramid: Pyramid, poses: Sequence[np.ndarray | None]) -> Iterator[np.ndarray]:
    """Homographies reference to picture (centres at 0) from matched features, one for each pose by which enough of them agree.

    D. Barath et al., MAGSAC++, 2020. Poses are as for `matched_features`.
    """
    for pose, src, dst in matched_features(reference, pyramid, poses):
        matrix, inliers = cv2.findHomography(src, dst, cv2.USAC_MAGSAC, 3.0, maxIters=5000)
        if matrix is not None and int(inliers.sum()) >= LEAST_FEATURES:
            yield matrix if pose is None else matrix @ pose


def matched_features(reference: Featured, pyramid: Pyramid,
                     poses: Sequence[np.ndarray | None]) -> Iterator[tuple[np.ndarray | None, np.ndarray, np.ndarray]]:
    """Features of the region that are found in a picture: a pose with their places (n, 2) in it and in the picture, centres at 0; some match by chance.

    D. Lowe, Distinctive image features from scale-invariant keypoints, 2004. Features bear only some foreshortening, so the reference is also looked at
    as it was seen in a pose (3, 3) rather than as it is (None): J.-M. Morel and G. Yu, ASIFT, 2009. Poses by which there are too few are left out.
    """
    level = _feature_level(pyramid)
    found_points, found_words = _features(pyramid[level], None, 2.0 ** level)
    for pose in poses:
        points, words = _of_reference(reference, pose)
        if words is None or found_words is None or len(words) < LEAST_FEATURES or len(found_words) < LEAST_FEATURES:
            continue
        pairs = cv2.BFMatcher(cv2.NORM_L2).knnMatch(words, found_words, k=2)
        good = [p[0] for p in pairs if len(p) == 2 and p[0].distance < 0.8 * p[1].distance]
        if len(good) >= LEAST_FEATURES:
            yield pose, np.array([points[m.queryIdx] for m in good]), np.array([found_points[m.trainIdx] for m in good])


def _of_reference(reference: Featured, pose: np.ndarray | None) -> tuple[np.ndarray, np.ndarray | None]:
    """Features inside the region, as `_features`, of the reference frame as it is or as it looks in a pose; kept until another pose is asked for."""
    key = None if pose is None else pose.tobytes()
    kept = reference.features.get(pose is None)
    if kept is None or kept[0] != key:
        level = _feature_level(reference.pyramid)
        picture, mask, per = reference.pyramid[level], reference.mask, 2.0 ** level
        if pose is not None:
            # drawn twice as large and averaged, since foreshortening makes detail finer than pixels
            size = 2 * picture.shape[1], 2 * picture.shape[0]
            onto = np.diag([2 / per, 2 / per, 1.0]) @ pose
            half = picture.shape[1::-1]
            picture = cv2.resize(cv2.warpPerspective(picture, onto @ np.diag([per, per, 1.0]), size, borderMode=cv2.BORDER_REPLICATE), half,
                                 interpolation=cv2.INTER_AREA)
            mask = cv2.resize(cv2.warpPerspective(mask, onto, size, flags=cv2.INTER_NEAREST), half, interpolation=cv2.INTER_NEAREST)
        elif level:
            mask = cv2.resize(mask, picture.shape[1::-1], interpolation=cv2.INTER_NEAREST)
        kept = reference.features[pose is None] = key, _features(picture, mask, per)
    return kept[1]


def _feature_level(pyramid: Pyramid) -> int:
    """Large pictures are taken at half resolution or less, for time and memory."""
    return max(0, int(np.ceil(np.log2(max(pyramid.size) / _MOST_FEATURE_SIDE))))


def _features(picture: np.ndarray, mask: np.ndarray | None, per: float) -> tuple[np.ndarray, np.ndarray | None]:
    """Places (n, 2) at level 0 and their descriptors, of a picture whose pixels are `per` level-0 pixels wide, inside a mask of its size."""
    sift = cv2.SIFT_create(nfeatures=2500, contrastThreshold=_CONTRAST)  # type: ignore[attr-defined]
    keys, words = sift.detectAndCompute(np.clip(picture, 0, 255).astype(np.uint8), mask)
    return np.array([k.pt for k in keys]).reshape(-1, 2) * per, words


def _detail(picture: np.ndarray) -> np.ndarray:
    return picture - cv2.blur(picture, (9, 9))
