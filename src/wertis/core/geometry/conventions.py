"""The one place that knows where pixel centres are.

Wertis: pixels, origin at the picture's top-left corner, x right, y down, first pixel's centre at (0.5, 0.5).
OpenCV and SciPy put that centre at (0, 0); the half-pixel step between the two lives here and nowhere else.
"""

import numpy as np

HALF = 0.5
_TO_CENTRED = np.array([[1.0, 0.0, -HALF], [0.0, 1.0, -HALF], [0.0, 0.0, 1.0]])
_FROM_CENTRED = np.array([[1.0, 0.0, HALF], [0.0, 1.0, HALF], [0.0, 0.0, 1.0]])


def to_centred(points: np.ndarray) -> np.ndarray:
    """Points (..., 2) from Wertis' convention to one whose first pixel centre is at (0, 0)."""
    return np.asarray(points, np.float64) - HALF


def from_centred(points: np.ndarray) -> np.ndarray:
    """Points (..., 2) from a convention whose first pixel centre is at (0, 0) to Wertis' own."""
    return np.asarray(points, np.float64) + HALF


def homography_to_centred(matrix: np.ndarray) -> np.ndarray:
    """A homography (3, 3) between Wertis pictures, for use between pictures with centres at (0, 0)."""
    return _TO_CENTRED @ matrix @ _FROM_CENTRED


def homography_from_centred(matrix: np.ndarray) -> np.ndarray:
    """The inverse of `homography_to_centred`."""
    return _FROM_CENTRED @ matrix @ _TO_CENTRED


def flip_y(points: np.ndarray, height: float) -> np.ndarray:
    """Points (..., 2) between y down from the top edge and y up from the bottom edge of a picture `height` pixels high."""
    flipped = np.array(points, np.float64)
    flipped[..., 1] = height - flipped[..., 1]
    return flipped
