"""Parts of a bending surface that come into sight again: small patches searched for near where they are expected."""

import cv2
import numpy as np

from wertis.core.imaging.balanced_selection import in_turn
from wertis.core.imaging.pyramid import Pyramid

_LEVEL = 1  # of the pyramid, in which is searched
_PATCH, _REACH = 16, 14  # side of a patch and how far it may lie off, in that level's pixels
_MOST = 48  # patches
_ALIKE = 0.85  # correlation from which a patch is taken to be found
_DISTINCT = 0.85  # part of it that the next best place may reach
_APART = 4  # pixels of the level, from which another place is another


def redetect_patches(reference: Pyramid, picture: Pyramid, places: np.ndarray, expected: np.ndarray, slopes: np.ndarray,
              wanted: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Search for patches of the reference in a picture, round where they are expected, by normalised correlation.

    Parameters
    ----------
    places : (n, 2) middles of the patches on the reference, first centres at 0.
    expected, slopes : (n, 2) and (n, 2, 2) where each is expected, and the map's derivatives there.
    wanted : (n,) how much there is to be won by each; those of 0 are not searched for.

    Returns
    -------
    index (m,) of the patches that were found, and (m, 2) how many pixels they lie off the expected place.
    """
    shrink = 2.0 ** _LEVEL
    cells = np.floor(places / (_PATCH * shrink)).astype(int)
    parts = np.unique(cells, axis=0, return_inverse=True)[1].ravel()
    rich = np.argsort(-wanted, kind="stable")
    chosen = in_turn(rich[wanted[rich] > 0], wanted, parts, _MOST, 0.15)
    source, target = reference[_LEVEL], picture[_LEVEL]
    h, w = target.shape
    half, around = (_PATCH - 1) / 2, (_PATCH - 1) / 2 + _REACH
    found, moves = [], []
    side = _PATCH + 2 * _REACH
    for k in chosen:
        x, y = expected[k] / shrink
        left, top = int(np.rint(x - around)), int(np.rint(y - around))
        if not (np.isfinite([x, y]).all() and abs(np.linalg.det(slopes[k])) > 0.05 and left < w and top < h and left + side > 0 and top + side > 0):
            continue
        window = target[max(top, 0):top + side, max(left, 0):left + side]
        if min(window.shape) < _PATCH + 4:
            continue
        # patch pixel p shows the reference at place + slopes^-1 (p - half)
        back = np.linalg.inv(slopes[k])
        warp = np.column_stack([back, places[k] / shrink - back @ np.array([half, half])])
        patch = cv2.warpAffine(source, warp, (_PATCH, _PATCH), flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP, borderMode=cv2.BORDER_REPLICATE)
        if patch.std() < 2:
            continue
        scores = cv2.matchTemplate(window, patch, cv2.TM_CCOEFF_NORMED)
        _, best, _, at = cv2.minMaxLoc(scores)
        if best < _ALIKE:
            continue
        others = scores.copy()
        others[max(at[1] - _APART, 0):at[1] + _APART + 1, max(at[0] - _APART, 0):at[0] + _APART + 1] = -1
        if others.max() > _DISTINCT * best:
            continue
        found.append(k)
        moves.append([(at[0] + max(left, 0) + half - x) * shrink, (at[1] + max(top, 0) + half - y) * shrink])
    return np.array(found, int), np.array(moves, float).reshape(-1, 2)
