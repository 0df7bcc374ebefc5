"""Whether an alignment lies in a basin of attraction of its own: alignments that start a little beside it converge to it.

Where something else was taken for the surface they end here and there, though the covariance about the answer calls it surer than that. Multistart:
A. Torn and A. Zilinskas, Global Optimization, Lecture Notes in Computer Science 350, 1989.
"""

from collections.abc import Callable

import numpy as np

from wertis.core.geometry import homography
from wertis.core.track.levels import Levels
from wertis.core.track.planar_settings import MULTISTART


def converges(levels: Levels, matrix: np.ndarray, error: float, align_from: Callable[[np.ndarray], np.ndarray | None]) -> bool:
    """Whether most of four alignments, started from three shifted places and a larger one, converge to an answer.

    Parameters
    ----------
    matrix : (3, 3) the answer, reference to frame, first centres at 0.
    error : its expected error in pixels.
    align_from : gives the place (3, 3) to which an alignment converges from another (3, 3); None where it fails.
    """
    reference, far = levels.reference, 0
    x, y = homography.apply(matrix, reference.centre[None])[0]
    shifts = [(MULTISTART.perturbation * np.cos(a), MULTISTART.perturbation * np.sin(a), 1.0) for a in np.radians((0, 120, 240))]
    for dx, dy, size in [*shifts, (0.0, 0.0, 1 + MULTISTART.perturbation / reference.radius)]:
        place = align_from(np.array([[size, 0, dx + x * (1 - size)], [0, size, dy + y * (1 - size)], [0, 0, 1]]) @ matrix)
        far += place is None or not levels.plausible(place) or levels.distance(place, matrix) > MULTISTART.tolerance * error
    return far <= MULTISTART.most_diverging
