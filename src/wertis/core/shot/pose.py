"""How a placement is moved, scaled, turned and skewed on its surface, with keys; as a matrix of its unit square."""

from functools import cached_property
from typing import Annotated, NamedTuple

import numpy as np
from pydantic import Field

from wertis.core.keyed import Between, Curve, with_key, with_value
from wertis.core.shot.fields import Point, Record
from wertis.core.shot.keys import Keys, key_records, plain_keys


class PoseValues(NamedTuple):
    """A move by parts of the placement's own width and height, scales across and down, a clockwise turn and a skew in degrees."""

    right: float = 0.0
    down: float = 0.0
    across: float = 1.0
    along: float = 1.0
    turn: float = 0.0
    skew: float = 0.0

    @classmethod
    def of(cls, values: np.ndarray) -> "PoseValues":
        """From numbers (6,) as keys hold them: scales as logarithms, so that values between keys are sound."""
        right, down, across, along, turn, skew = (float(v) for v in values)
        return cls(right, down, float(np.exp(across)), float(np.exp(along)), turn, skew)

    @property
    def numbers(self) -> np.ndarray:
        """(6,) as keys hold them."""
        return np.array([self.right, self.down, np.log(max(self.across, 1e-4)), np.log(max(self.along, 1e-4)), self.turn, self.skew])


STILL = PoseValues()


class Pose(Record):
    """Keys of a placement's own motion on its surface.

    Attributes
    ----------
    keys : frame to six numbers; see `PoseValues.numbers`. Outside them they hold.
    about : the place of the unit square about which it is scaled, turned and skewed.
    ratio : width over height of the unit square on the surface.
    between : what happens between keys.
    """

    keys: Keys = {}
    about: Point = (0.5, 0.5)
    ratio: Annotated[float, Field(gt=0.01, lt=100)] = 1.0
    between: Between = "smooth"

    @cached_property
    def _curve(self) -> Curve:
        return Curve(plain_keys(self.keys), self.between, size=6)

    def at(self, time: float) -> PoseValues:
        """The values at a time; still where there are no keys."""
        return PoseValues.of(self._curve(time)) if self.keys else STILL

    def matrix_at(self, time: float) -> np.ndarray:
        """(3, 3) of the unit square at a time."""
        return pose_matrix(self.at(time), self.ratio, self.about)

    def with_values(self, frame: int, values: PoseValues) -> "Pose":
        """The pose with a key on a frame."""
        return self.but(keys=key_records(with_value(plain_keys(self.keys), frame, values.numbers, self.between)))

    def with_key(self, frame: int) -> "Pose":
        """The pose with a key of what there is on a frame; nothing moves by it."""
        if not self.keys:
            return self.with_values(frame, STILL)
        return self.but(keys=key_records(with_key(plain_keys(self.keys), frame, self.between, size=6)))

    def shifted(self, by: np.ndarray) -> "Pose":
        """The pose with all its keys changed by numbers (6,)."""
        moved = {f: k.but(value=tuple(float(v) for v in np.array(k.value) + by)) for f, k in self.keys.items()}
        return self.but(keys=moved)

    def without_key(self, frame: int) -> "Pose":
        """The pose less the key on a frame."""
        return self.but(keys={f: k for f, k in self.keys.items() if f != frame})


def pose_values(matrix: np.ndarray, ratio: float, about: tuple[float, float] = (0.5, 0.5)) -> PoseValues:
    """What `pose_matrix` was made of: an affine map (3, 3) of the unit square, taken apart."""
    linear = matrix[:2, :2]
    in_surface = np.diag([ratio, 1.0]) @ linear @ np.diag([1 / ratio, 1.0])
    across = float(np.hypot(*in_surface[:, 0]))
    turn = float(np.arctan2(in_surface[1, 0], in_surface[0, 0]))
    back = np.array([[np.cos(turn), np.sin(turn)], [-np.sin(turn), np.cos(turn)]]) @ in_surface[:, 1]
    right, down = matrix[:2, 2] - np.asarray(about) + linear @ np.asarray(about)
    return PoseValues(float(right), float(down), across, float(back[1]), float(np.rad2deg(turn)), float(np.rad2deg(np.arctan2(-back[0], back[1]))))


def pose_matrix(values: PoseValues, ratio: float, about: tuple[float, float] = (0.5, 0.5)) -> np.ndarray:
    """(3, 3) affine map of a unit square that stands for a rectangle `ratio` times as wide as high: scaled, skewed, turned about a place in it, and moved.

    Parameters
    ----------
    values : a skew leans the top to the right; a turn is clockwise as the surface is seen from the front (y down).
    about : the place that stays where it is, but for the move.
    """
    angle, lean = np.deg2rad(values.turn), np.tan(np.deg2rad(values.skew))
    scale = np.diag([ratio * values.across, values.along])
    skew = np.array([[1.0, -lean], [0.0, 1.0]])
    turn = np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]])
    linear = np.diag([1 / ratio, 1.0]) @ turn @ skew @ scale
    out = np.eye(3)
    out[:2, :2] = linear
    out[:2, 2] = np.asarray(about) + [values.right, values.down] - linear @ np.asarray(about)
    return out
