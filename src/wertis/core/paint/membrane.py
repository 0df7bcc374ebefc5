"""A membrane: the smoothest values inside an area that meet given ones around it; what makes a copied part fit its new surroundings.

P. Perez, M. Gangnet and A. Blake, Poisson image editing, 2003: adding to a source the membrane of what it differs by along its border keeps the
source's gradients inside and the target's values at the border.
"""

import cv2
import numpy as np
import scipy

_DIRECT = 40_000  # unknowns that are solved for at once
_SWEEPS = 24  # of relaxation after a coarser solution


def membrane(values: np.ndarray, inside: np.ndarray) -> np.ndarray:
    """Values (h, w, c) with those inside an area (h, w) bool replaced by the solution of Laplace's equation with the values round it.

    At the picture's border the membrane ends level. Where the area is the whole picture nothing is changed.
    """
    out = np.asarray(values, np.float32).copy()
    if not inside.any() or inside.all():
        return out
    if int(inside.sum()) <= _DIRECT:
        out[inside] = _solved(out, inside)
        return out
    h, w = inside.shape
    size = (-(-w // 2), -(-h // 2))
    outside = (~inside).astype(np.float32)
    weight = cv2.resize(outside, size, interpolation=cv2.INTER_AREA)
    coarse = cv2.resize(out * outside[..., None], size, interpolation=cv2.INTER_AREA).reshape(size[1], size[0], -1)
    coarse = membrane(coarse / np.maximum(weight, 1e-6)[..., None], weight < 0.25)
    guess = cv2.resize(coarse, (w, h), interpolation=cv2.INTER_LINEAR).reshape(h, w, -1)
    out[inside] = guess[inside]
    for _ in range(_SWEEPS):
        mean = (cv2.blur(out, (3, 1), borderType=cv2.BORDER_REPLICATE) * 3 - out + cv2.blur(out, (1, 3), borderType=cv2.BORDER_REPLICATE) * 3 - out) / 4
        out[inside] = mean.reshape(out.shape)[inside]
    return out


def _solved(values: np.ndarray, inside: np.ndarray) -> np.ndarray:
    """(n, c) the solution at the pixels inside, by a sparse factorisation."""

    h, w = inside.shape
    number = np.full((h, w), -1)
    rows, columns = np.nonzero(inside)
    count = len(rows)
    number[rows, columns] = np.arange(count)
    diagonal = np.zeros(count)
    right = np.zeros((count, values.shape[2]))
    entries: list[tuple[np.ndarray, np.ndarray]] = []
    for dy, dx in ((0, 1), (0, -1), (1, 0), (-1, 0)):
        y, x = rows + dy, columns + dx
        there = (y >= 0) & (y < h) & (x >= 0) & (x < w)
        diagonal += there
        own, other = np.flatnonzero(there), number[y[there], x[there]]
        known = other < 0
        np.add.at(right, own[known], values[y[there][known], x[there][known]])
        entries.append((own[~known], other[~known]))
    i, j = (np.concatenate([e[k] for e in entries]) for k in (0, 1))
    elements = np.concatenate([diagonal, -np.ones(len(i))])
    matrix = scipy.sparse.csc_matrix((elements, (np.concatenate([np.arange(count), i]), np.concatenate([np.arange(count), j]))))
    return np.asarray(scipy.sparse.linalg.splu(matrix).solve(right), np.float32)
