"""An extra move on top of a motion, keyed by hand, for what the track shows only in part."""

from dataclasses import dataclass

import numpy as np

from wertis.core.geometry.motion import Motion
from wertis.core.geometry.warp import HomographyWarp, Warp
from wertis.core.keyed import Curve
from wertis.core.repair.correction import CorrectedMotion


@dataclass(frozen=True)
class ExtraValues:
    """The extra move on one frame.

    Attributes
    ----------
    x, y : shift in the frame's pixels.
    scale : 1 leaves the size as it is.
    turn : degrees, clockwise as seen (y goes down).
    shear : by how much of its height above the point the surface leans to the left; 0 for none.
    """

    x: float = 0.0
    y: float = 0.0
    scale: float = 1.0
    turn: float = 0.0
    shear: float = 0.0


def matrix_about(values: ExtraValues, about: np.ndarray) -> np.ndarray:
    """The homography (3, 3) that scales, shears and turns the picture about a point (2,), and then shifts it."""
    angle = np.radians(values.turn)
    cos, sin = np.cos(angle), np.sin(angle)
    form = values.scale * np.array([[cos, -sin], [sin, cos]]) @ np.array([[1.0, values.shear], [0.0, 1.0]])
    out = np.eye(3)
    out[:2, :2] = form
    out[:2, 2] = about - form @ about + [values.x, values.y]
    return out


class ExtraMotion(CorrectedMotion):
    """A motion with an extra move on it.

    Parameters
    ----------
    about : (2,) on the reference frame's picture, the point about which it scales, turns and shears.
    move, form, skew : curves of shift (x, y) in pixels, of logarithm of scale and turn in degrees, and of shear (first value).
    """

    def __init__(self, inner: Motion, about: np.ndarray, move: Curve, form: Curve, skew: Curve) -> None:
        super().__init__(inner)
        self.about, self._move, self._form, self._skew = np.asarray(about, float), move, form, skew

    def values(self, time: float) -> ExtraValues:
        """What lies on the motion at a time."""
        (x, y), (log_scale, turn), shear = self._move(time), self._form(time), self._skew(time)[0]
        return ExtraValues(float(x), float(y), float(np.exp(log_scale)), float(turn), float(shear))

    def correction(self, warp: Warp, time: float) -> Warp:
        return HomographyWarp(matrix_about(self.values(time), warp.forward(self.about[None])[0]))
