"""A template's surface found in another plate by what it looks like."""

from typing import NamedTuple

import cv2
import numpy as np

from wertis.core.errors import PlateError, WertisError
from wertis.core.geometry import homography, quad
from wertis.core.geometry.conventions import homography_from_centred, homography_to_centred
from wertis.core.plate.base import Plate, luma
from wertis.core.shot import regions
from wertis.core.shot.document import Shot, Track
from wertis.core.shot.edits import opened

_TRIED = 9  # frames of the new plate
_FEATURES, _LARGEST = 6000, 1600  # at most of a picture; pixels of its longer side
_RATIO = 0.75  # D. Lowe, Distinctive image features from scale-invariant keypoints, 2004, section 7.1
_AROUND = 12.0  # pixels, standard deviation, over which light and contrast are evened out
_ALIGNING, _BLUR, _LIKE = 60, 5, 0.6  # steps; pixels of the blur that both get; correlation from which an alignment is believed
_FEWEST, _REACH = 25, 3.0  # matches that must agree, and pixels within which they do


class Found(NamedTuple):
    """Where a template's surface is in another plate: the frame, the homography (3, 3) from the template's region frame, and how many features agree."""

    frame: int
    matrix: np.ndarray
    agreeing: int


def find_surface(template: Shot, track: Track, plate: Plate) -> Found:
    """Look for a template's surface on frames all over another plate.

    Raises
    ------
    WertisError
        When it is on none of them, or a plate cannot be read.
    """
    if template.plate is None:
        raise WertisError("The template has no plate; choose another.")
    source = opened(template.plate)
    first = _grey(source.read(track.region.frame))
    mask = regions.mask_of(track.region, source.size, None)
    mine = _features(first, mask)
    frames = plate.frames
    found: list[Found] = []
    for frame in sorted({frames[round(k)] for k in np.linspace(0, len(frames) - 1, min(_TRIED, len(frames)))}):
        try:
            other = _features(_grey(plate.read(frame)), None)
        except PlateError:
            continue
        match = _matched(mine, other, track.region.box, plate.size)
        if match is not None:
            found.append(Found(frame, match[0], match[1]))
    if not found:
        raise WertisError(f"{track.name} of the template is not found in this plate; draw its region by hand, or choose a template that looks "
                          "more like it.")
    best = max(found, key=lambda f: (f.agreeing, -f.frame))
    return best._replace(matrix=_refined(first, mask, _grey(plate.read(best.frame)), best.matrix, track.region.box))


def _refined(first: np.ndarray, mask: np.ndarray, other: np.ndarray, matrix: np.ndarray, box: np.ndarray) -> np.ndarray:
    """A homography aligned by all pixels of the surface, whatever their gain and offset; as it was where that leads nowhere.

    G. Evangelidis and E. Psarakis, Parametric image alignment using enhanced correlation coefficient maximization, 2008 (OpenCV's).
    """
    size = first.shape[1::-1]
    start = homography_to_centred(matrix)
    start = start / start[2, 2]
    inside = cv2.warpPerspective(np.full(other.shape, 255, np.uint8), start, size, flags=cv2.INTER_NEAREST | cv2.WARP_INVERSE_MAP)
    criteria = (cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, _ALIGNING, 1e-6)
    try:
        likeness, found = cv2.findTransformECC(_even(first), _even(other), start.astype(np.float32), cv2.MOTION_HOMOGRAPHY, criteria,
                                               np.minimum(mask, np.asarray(inside)), _BLUR)
    except cv2.error:  # it did not come nearer
        return matrix
    better = homography_from_centred(np.asarray(found, np.float64))
    moved = np.abs(homography.apply(better, box) - homography.apply(matrix, box)).max()
    return better if likeness > _LIKE and moved < 3 * _REACH else matrix


def _even(picture: np.ndarray) -> np.ndarray:
    """A picture whose light and contrast are the same everywhere, as float32."""
    values = picture.astype(np.float32)
    rest = values - cv2.GaussianBlur(values, (0, 0), _AROUND)
    return np.asarray(rest / (np.sqrt(cv2.GaussianBlur(rest * rest, (0, 0), _AROUND)) + 1))


def _grey(picture: np.ndarray) -> np.ndarray:
    values = luma(picture)
    low, high = np.percentile(values, (0.5, 99.5))
    return np.asarray(np.clip((values - low) / max(high - low, 1e-6) * 255, 0, 255), np.uint8)


def _features(picture: np.ndarray, mask: np.ndarray | None) -> tuple[np.ndarray, np.ndarray]:
    """(n, 2) places in pixels, and their descriptors."""
    shrink = min(1.0, _LARGEST / max(picture.shape[:2]))
    small = cv2.resize(picture, None, fx=shrink, fy=shrink, interpolation=cv2.INTER_AREA) if shrink < 1 else picture
    small_mask = None if mask is None else cv2.resize(mask, small.shape[1::-1], interpolation=cv2.INTER_NEAREST)
    points, descriptors = cv2.SIFT_create(nfeatures=_FEATURES).detectAndCompute(small, small_mask)  # type: ignore[attr-defined]
    if descriptors is None:
        return np.zeros((0, 2)), np.zeros((0, 128), np.float32)
    return (np.array([p.pt for p in points]) + 0.5) / shrink, descriptors


def _matched(mine: tuple[np.ndarray, np.ndarray], other: tuple[np.ndarray, np.ndarray], box: np.ndarray,
             size: tuple[int, int]) -> tuple[np.ndarray, int] | None:
    """A homography on which matches agree, and how many do; None where too few do, or it folds the surface."""
    if len(mine[0]) < _FEWEST or len(other[0]) < _FEWEST:
        return None
    pairs = cv2.BFMatcher(cv2.NORM_L2).knnMatch(mine[1], other[1], k=2)
    good = [(m.queryIdx, m.trainIdx) for m, n in (p for p in pairs if len(p) == 2) if m.distance < _RATIO * n.distance]
    if len(good) < _FEWEST:
        return None
    a, b = mine[0][[i for i, _ in good]], other[0][[j for _, j in good]]
    cv2.setRNGSeed(1)
    matrix, inside = cv2.findHomography(a, b, cv2.RANSAC, _REACH, maxIters=5000, confidence=0.999)
    if matrix is None or int(inside.sum()) < _FEWEST:
        return None
    there = homography.apply(matrix, box)
    sound = np.isfinite(there).all() and quad.is_convex(there) and quad.signed_area(there) * quad.signed_area(box) > 0
    middle = there.mean(0) if sound else np.full(2, -1.0)
    return (matrix, int(inside.sum())) if sound and (middle > 0).all() and (middle < size).all() else None
