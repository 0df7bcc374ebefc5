"""Kinds of planar motion, as the directions in which a homography near the identity may move.

A small motion is I + [[a, b, c], [d, e, f], [g, h, 0]]; a kind keeps the combinations of (a..h) that its group allows.
S. Baker and I. Matthews, Lucas-Kanade 20 years on: a unifying framework, IJCV 56, 2004.
"""

import numpy as np

_E = np.eye(8)
_A, _B, _C, _D, _EE, _F, _G, _H = _E

KINDS: dict[str, np.ndarray] = {
    "shift": np.array([_C, _F]),
    "similarity": np.array([_A + _EE, _B - _D, _C, _F]),
    "affine": np.array([_A, _B, _C, _D, _EE, _F]),
    "perspective": _E,
}
"""Name to basis (k, 8) of the group's tangent space; `similarity` is shift, scale and turn; `affine` adds shear."""


def small_motion(parameters: np.ndarray) -> np.ndarray:
    """The homography (3, 3) for eight small parameters a..h."""
    a, b, c, d, e, f, g, h = parameters
    return np.array([[1 + a, b, c], [d, 1 + e, f], [g, h, 1.0]])
