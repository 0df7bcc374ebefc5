"""What the frames before say of where a surface is on the next one: it goes on as it went, as surely as it lately did."""

import numpy as np

from wertis.core.geometry import homography
from wertis.core.track.align import Expected
from wertis.core.track.kinds import KINDS
from wertis.core.track.levels import Levels

_FADES = 0.85  # part of an innovation that is still reckoned with a frame later
_FIRST = 4.0  # pixels that are reckoned with at first
_GIVEN_UP = 3  # lost frames in a row after which nothing is known of the motion any more


class MotionPrediction:
    """A motion model of constant velocity, with the innovations that it lately had.

    Attributes
    ----------
    last, before : (3, 3) reference to the last frame and to the one before it, first centres at 0; None where that is not known.
    innovation : pixels by which the surface has lately been from where it was predicted.
    shape_innovation : the same by the Procrustes distance: a hand's shake cannot be predicted, but how the perspective changes can.
    """

    def __init__(self, levels: Levels) -> None:
        self._levels = levels
        self.last: np.ndarray | None = np.eye(3)
        self.before: np.ndarray | None = None
        self.innovation, self.shape_innovation = _FIRST, _FIRST
        self._errors = (0.0, 0.0)  # of the last answer and the one before, in pixels
        self._lost_for = 0

    def start_at(self, matrix: np.ndarray) -> None:
        """Go on from a known place (3, 3), without a velocity."""
        self.last, self.before = matrix, None

    def predicted(self) -> np.ndarray | None:
        """The last frame's motion once more (3, 3); a product of motions of a kind is of that kind."""
        if self.before is None or self.last is None:
            return None
        try:
            guess = homography.normalised(self.last @ np.linalg.inv(self.before) @ self.last)
        except (ValueError, np.linalg.LinAlgError):
            return None
        return guess if self._levels.plausible(guess) else None

    def expected(self, predicted: np.ndarray | None) -> Expected | None:
        """The next frame's `predicted` place (3, 3), as sure as the last frames' own errors and the motion's lately seen unsteadiness let it be."""
        return None if predicted is None else Expected(predicted, self._deviation(self.innovation), self._levels.box)

    def expected_shape(self, matrix: np.ndarray) -> Expected:
        """The next frame's place as far as its perspective goes; its shift, turn and size, which `matrix` (3, 3) has as they were found, are left free."""
        return Expected(matrix, self._deviation(self.shape_innovation), self._levels.box, KINDS["similarity"])

    def answered(self, matrix: np.ndarray, error: float, predicted: np.ndarray | None) -> None:
        """Take in a frame's answer (3, 3), its expected error in pixels, and where it had been predicted."""
        if predicted is not None:
            self.innovation = max(_FADES * self.innovation, self._levels.distance(matrix, predicted))
            self.shape_innovation = max(_FADES * self.shape_innovation, self._levels.procrustes_distance(matrix, predicted))
        self._lost_for = 0
        self.before, self.last = self.last, matrix
        self._errors = (error, self._errors[0])

    def lost(self, expected: Expected | None) -> None:
        """Take in a lost frame: the surface is taken to go on, for a while."""
        self._lost_for += 1
        if expected is not None:
            self.before, self.last = self.last, expected.matrix
            self._errors = (expected.deviation / 2, self._errors[0])
        if self._lost_for > _GIVEN_UP:
            self.last = self.before = None

    def _deviation(self, innovation: float) -> float:
        return float(np.sqrt((2 * innovation) ** 2 + 4 * self._errors[0] ** 2 + self._errors[1] ** 2))
