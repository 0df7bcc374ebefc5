"""What the frames before say of where a surface is on the next one: it goes on as it went, as surely as it lately did."""

import numpy as np

from wertis.core.geometry import homography
from wertis.core.track.align import Expected
from wertis.core.track.kinds import KINDS
from wertis.core.track.levels import Levels

_FADES = 0.85  # part of what was unforeseen that is still reckoned with a frame later
_FIRST = 4.0  # pixels that are reckoned with at first
_GIVEN_UP = 3  # lost frames in a row after which nothing is known of the motion any more


class MotionForecast:
    """Constant velocity, and how far it was lately off.

    Attributes
    ----------
    last, before : (3, 3) reference to the last frame and to the one before it, first centres at 0; None where that is not known.
    surprise : pixels by which the surface has lately been from where it was expected.
    surprise_of_shape : the same beyond a shift, a turn and a change of size: a hand's shake cannot be foretold, but how the perspective changes can.
    """

    def __init__(self, levels: Levels) -> None:
        self._levels = levels
        self.last: np.ndarray | None = np.eye(3)
        self.before: np.ndarray | None = None
        self.surprise, self.surprise_of_shape = _FIRST, _FIRST
        self._errors = (0.0, 0.0)  # of the last answer and the one before, in pixels
        self._lost_for = 0

    def start_at(self, matrix: np.ndarray) -> None:
        """Go on from a known place (3, 3), without a velocity."""
        self.last, self.before = matrix, None

    def ahead(self) -> np.ndarray | None:
        """The last frame's motion once more (3, 3); a product of motions of a kind is of that kind."""
        if self.before is None or self.last is None:
            return None
        try:
            guess = homography.normalised(self.last @ np.linalg.inv(self.before) @ self.last)
        except (ValueError, np.linalg.LinAlgError):
            return None
        return guess if self._levels.plausible(guess) else None

    def expected(self, ahead: np.ndarray | None) -> Expected | None:
        """The next frame's place, `ahead`, as sure as the last frames' own errors and the motion's lately seen unsteadiness let it be."""
        return None if ahead is None else Expected(ahead, self._deviation(self.surprise), self._levels.box)

    def expected_shape(self, matrix: np.ndarray) -> Expected:
        """The next frame's place as far as its perspective goes; its shift, turn and size, which `matrix` (3, 3) has as they were found, are left free."""
        return Expected(matrix, self._deviation(self.surprise_of_shape), self._levels.box, KINDS["similarity"])

    def answered(self, matrix: np.ndarray, error: float, ahead: np.ndarray | None) -> None:
        """Take in a frame's answer (3, 3), its expected error in pixels, and where it had been expected."""
        if ahead is not None:
            self.surprise = max(_FADES * self.surprise, self._levels.distance(matrix, ahead))
            self.surprise_of_shape = max(_FADES * self.surprise_of_shape, self._levels.distance_of_shape(matrix, ahead))
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

    def _deviation(self, surprise: float) -> float:
        return float(np.sqrt((2 * surprise) ** 2 + 4 * self._errors[0] ** 2 + self._errors[1] ** 2))
