"""How far a pointed part of a figure reaches, which its sides do not say: by which pixels look like the figure and which like what is beyond.

The colours of both are normal distributions, and pixels count by the ratio of their likelihoods (R. Duda and P. Hart, Pattern classification and scene
analysis, 1973, chapter 2).
"""

from collections.abc import Callable

import numpy as np
import scipy

from wertis.core.matte.coverage import box_round, polygon_area

_POINTED = np.deg2rad(100.0)  # angle between its sides below which a corner is a tip
_ASIDE = (-2.0, -1.0, 0.0, 1.0, 2.0)  # pixels by which it may lie beside its axis
_STEP = 0.5  # pixels between the lengths that are tried
_NEAR = 70.0  # pixels from the tip within which colours are looked at
_SIDE, _RING = 4.0, 22.0  # pixels from the outline, outwards, between which is what lies beyond
_LEAST_SPREAD = 5.0  # on a scale of 0..255, standard deviation of a colour that is always reckoned with
_MOST = 4.0  # of one pixel, so that no single one decides
_ENOUGH = 1.0  # by how much the best length must be likelier than that which is there
_FEWEST = 30  # pixels of each kind

Polygon = Callable[[np.ndarray], np.ndarray]
"""The outline as a polygon (M, 2), of its points (N, 2)."""


def colours_near(picture: np.ndarray, alpha: np.ndarray, place: np.ndarray) -> np.ndarray:
    """(n, 3) the colours of a picture (h, w, 3) where an alpha (h, w) is full, near a place (2,)."""
    rows, columns = np.nonzero(alpha > 0.99)
    near = np.hypot(columns + 0.5 - place[0], rows + 0.5 - place[1]) < _NEAR
    return np.asarray(picture[rows[near], columns[near]])


def with_length(picture: np.ndarray, points: np.ndarray, corner: int, polygon: Polygon, colours: np.ndarray, reach: float) -> np.ndarray:
    """An outline's points (N, 2) with a pointed corner where the picture shows it, longer, shorter or a little aside; as they are where it says nothing.

    Parameters
    ----------
    picture : (h, w, 3) float32, 0..255.
    colours : (n, 3) of the figure near its tip, from a frame on which that is known.
    reach : pixels by which it may be longer or shorter.
    """
    n = len(points)
    tip, ends = points[corner], points[[(corner - 1) % n, (corner + 1) % n]]
    base, sides = ends.mean(0), ends - tip
    length = float(np.linalg.norm(tip - base))
    cosine = float(sides[0] @ sides[1]) / max(float(np.prod(np.linalg.norm(sides, axis=1))), 1e-9)
    if length < 2 or np.arccos(np.clip(cosine, -1, 1)) > _POINTED:
        return points
    axis = (tip - base) / length
    line = polygon(points)
    box = box_round(line[np.linalg.norm(line - tip, axis=1) < _NEAR], _RING, (picture.shape[1], picture.shape[0]))
    ratio = _likelihood_ratio(picture, line, tip, box, colours) if box is not None else None
    if box is None or ratio is None:
        return points
    tried = []
    for longer in np.arange(max(-reach, -0.8 * length), reach + _STEP / 2, _STEP):
        for aside in _ASIDE:
            each = points.copy()
            each[corner] += longer * axis + aside * np.array([-axis[1], axis[0]])
            tried.append(each)
    scores = np.array([float((polygon_area(polygon(each), box) * ratio).sum()) for each in tried])
    now = float((polygon_area(line, box) * ratio).sum())
    best = int(scores.argmax())
    return tried[best] if scores[best] > now + _ENOUGH else points


def _likelihood_ratio(picture: np.ndarray, line: np.ndarray, tip: np.ndarray, box: tuple[int, int, int, int], colours: np.ndarray) -> np.ndarray | None:
    """(h, w) on a box, by how much likelier each pixel is the figure's than what lies beyond, as a logarithm; None where too little is known of either."""
    x0, y0, x1, y1 = box
    part = picture[y0:y1, x0:x1]
    y, x = np.mgrid[y0:y1, x0:x1] + 0.5
    away = _distance(x, y, line)
    beyond = (away > _SIDE) & (away < _RING) & (polygon_area(line, box) == 0) & (np.hypot(x - tip[0], y - tip[1]) > _SIDE * 2)
    outer = part[beyond]
    if min(len(outer), len(colours)) < _FEWEST:
        return None

    def likelihood(sample: np.ndarray) -> np.ndarray:
        mean, spread = sample.mean(0), np.cov(sample.T) + np.eye(3) * _LEAST_SPREAD ** 2
        off = part - mean
        return np.asarray(-0.5 * ((off @ np.linalg.inv(spread)) * off).sum(-1) - 0.5 * np.linalg.slogdet(spread)[1])

    return np.clip(likelihood(colours) - likelihood(outer), -_MOST, _MOST)


def _distance(x: np.ndarray, y: np.ndarray, line: np.ndarray) -> np.ndarray:
    """(h, w) distance of places from the nearest vertex of a polygon whose vertices are close."""

    return np.asarray(scipy.spatial.cKDTree(line).query(np.stack([x, y], axis=-1))[0])
