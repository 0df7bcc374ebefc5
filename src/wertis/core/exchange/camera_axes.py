"""A camera's axes as OpenUSD and glTF have them: it looks along its own -z, and y goes up, in the camera and in the world."""

import numpy as np

TURNED = np.diag([1.0, -1.0, -1.0])
"""x right, y down, z forward, to x right, y up, z backward; and back."""


def to_world(pose: np.ndarray) -> np.ndarray:
    """(4, 4) from a camera that looks along its own -z to a world whose y goes up, of a pose (3, 4) from our world to our camera."""
    out = np.eye(4)
    out[:3, :3] = TURNED @ pose[:, :3].T @ TURNED
    out[:3, 3] = TURNED @ (-pose[:, :3].T @ pose[:, 3])
    return out


def from_world(matrix: np.ndarray) -> np.ndarray:
    """The pose (3, 4) of which `to_world` makes a matrix (4, 4)."""
    turn = (TURNED @ matrix[:3, :3] @ TURNED).T
    return np.column_stack([turn, -turn @ (TURNED @ matrix[:3, 3])])
