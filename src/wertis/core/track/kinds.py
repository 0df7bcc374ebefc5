"""Kinds of planar motion, as the directions in which a homography near the identity may move.

A small motion is the matrix exponential of [[a, b, c], [d, e, f], [g, h, 0]], so that small motions of a group stay in the group however many
are composed; a kind keeps the combinations of (a..h) that its group allows. S. Benhimane and E. Malis, Homography-based 2D visual tracking and
servoing, IJRR 26, 2007 (the parametrisation by the Lie algebra).
"""

import numpy as np

_A, _B, _C, _D, _EE, _F, _G, _H = np.eye(8)

_IDENTITY = np.eye(3)

KINDS: dict[str, np.ndarray] = {
    "shift": np.array([_C, _F]),
    "shift-scale": np.array([_A + _EE, _C, _F]),
    "shift-turn": np.array([_B - _D, _C, _F]),
    "similarity": np.array([_A + _EE, _B - _D, _C, _F]),
    "affine": np.array([_A, _B, _C, _D, _EE, _F]),
    "perspective": np.eye(8),
}
"""Name to basis (k, 8) of the group's tangent space; `similarity` is shift, scale and turn; `affine` adds shear."""


def small_motion(parameters: np.ndarray) -> np.ndarray:
    """The homography (3, 3) for eight small parameters a..h: the matrix exponential, by its series (the parameters are well below 1)."""
    a, b, c, d, e, f, g, h = parameters
    generator = np.array([[a, b, c], [d, e, f], [g, h, 0.0]])
    largest = max(abs(a) + abs(b) + abs(c), abs(d) + abs(e) + abs(f), abs(g) + abs(h))
    terms, left = 0, 1.0  # of the series; what is left is below the largest row's power
    while left > 1e-14 and terms < 12:
        terms += 1
        left *= largest / terms
    total = _IDENTITY
    for k in range(terms, 0, -1):
        total = _IDENTITY + generator @ total / k
    return total
