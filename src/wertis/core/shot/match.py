"""How a graphic is matched to the plate: its softness, blur, light, grain, and what of the surface shows through."""

from typing import Annotated, Self

import numpy as np
from pydantic import Field, model_validator

from wertis.core.shot.fields import Frame, Ident, Integers, Matrices, Record

Share = Annotated[float, Field(ge=0, le=1)]
Pixels = Annotated[float, Field(ge=0, le=200)]
Factor = Annotated[float, Field(ge=-100, le=100)]
Deviation = Annotated[float, Field(ge=0, le=10)]
Triple = tuple[Factor, Factor, Factor]


class GrainMatch(Record):
    """Grain, as measured in the plate.

    Attributes
    ----------
    levels : (L,) brightness of the plate, rising, and for each its deviation in red, green and blue, in the plate's own numbers.
    size : pixels, standard deviation of the Gaussian through which white noise goes together as it does.
    strength : times that.
    """

    levels: Annotated[tuple[Annotated[float, Field(ge=-10, le=1000)], ...], Field(min_length=1, max_length=64)]
    deviations: Annotated[tuple[tuple[Deviation, Deviation, Deviation], ...], Field(min_length=1, max_length=64)]
    size: Annotated[float, Field(ge=0, le=20)] = 0.0
    strength: Annotated[float, Field(ge=0, le=4)] = 1.0

    @model_validator(mode="after")
    def _sound(self) -> Self:
        if len(self.levels) != len(self.deviations) or any(b <= a for a, b in zip(self.levels, self.levels[1:], strict=False)):
            raise ValueError("grain has a deviation for each of its levels, which rise")
        return self


class LightMatch(Record):
    """How the light on the surface changes from the placement's frame.

    Attributes
    ----------
    frames : (n,) int64.
    gains : (n, 3, 3) the logarithm of what light is multiplied by, in linear light: at the surface's middle, and by how much it rises from its left to its
        right and from its top to its bottom, each for red, green and blue.
    local : (n, k k, 6) by what light changes besides, at k x k places spread evenly over the surface, row by row: what it is multiplied by, less 1, and
        what is added to it, each for red, green and blue; None where the light is as even as `gains`.
    strength : share of it.
    """

    frames: Integers
    gains: Matrices
    local: Matrices | None = None
    strength: Annotated[float, Field(ge=0, le=2)] = 1.0

    @model_validator(mode="after")
    def _sound(self) -> Self:
        if self.gains.shape != (len(self.frames), 3, 3) or not len(self.frames) or not np.isfinite(self.gains).all():
            raise ValueError("light has three numbers for each colour on each of its frames")
        if self.local is not None:
            places = self.local.shape[1]
            if self.local.shape != (len(self.frames), places, 6) or round(places ** 0.5) ** 2 != places or not np.isfinite(self.local).all():
                raise ValueError("light that changes from place to place has six numbers for each of k x k places on each of its frames")
        return self

    def at(self, time: float) -> np.ndarray:
        """(3, 3) the gains at a time; straight between frames, held beyond them."""
        return self.strength * _interpolated(time, self.frames, self.gains)

    def local_at(self, time: float) -> np.ndarray | None:
        """(k, k, 6) what it changes by besides at a time, as `local` has it; None where it is even."""
        if self.local is None:
            return None
        side = round(self.local.shape[1] ** 0.5)
        return self.strength * _interpolated(time, self.frames, self.local).reshape(side, side, 6)


def _interpolated(time: float, frames: np.ndarray, values: np.ndarray) -> np.ndarray:
    """Values (n, ...) at a time: straight between frames, held beyond them."""
    k = int(np.clip(np.searchsorted(frames, time) - 1, 0, max(len(frames) - 2, 0)))
    last = min(k + 1, len(frames) - 1)
    part = np.clip((time - frames[k]) / max(frames[last] - frames[k], 1), 0, 1)
    return np.asarray(values[k] + part * (values[last] - values[k]))


class Match(Record):
    """What is done to a graphic so that it looks as if it had been filmed.

    Attributes
    ----------
    softness : pixels, standard deviation of a blur in the picture.
    focus : frame to the same, where it changes; straight between, and in place of `softness`.
    shutter, centre : degrees for which the shutter is open, and by which its middle comes after the frame's time.
    slope, offset : what the artwork's red, green and blue are multiplied by, and what is added, in the light in which it is mixed.
    light : as it changes on the surface; None for none.
    light_from : id of the item on whose place the light is measured; empty for the graphic's own.
    grain : as it is in the plate; None for none.
    texture : share of the surface's own fine structure that shows through.
    fine, coarse : pixels, between which that structure's sizes are.
    reflection : share of what the plate has more than the clean plate of the same track, such as what is mirrored in the surface, that is laid on again.
    """

    softness: Pixels = 0.0
    focus: dict[Frame, Pixels] = {}
    shutter: Annotated[float, Field(ge=0, le=720)] = 0.0
    centre: Annotated[float, Field(ge=-360, le=360)] = 0.0
    slope: Triple = (1.0, 1.0, 1.0)
    offset: Triple = (0.0, 0.0, 0.0)
    light: LightMatch | None = None
    light_from: Ident = ""
    grain: GrainMatch | None = None
    texture: Annotated[float, Field(ge=0, le=2)] = 0.0
    fine: Pixels = 0.0
    coarse: Pixels = 12.0
    reflection: Annotated[float, Field(ge=0, le=2)] = 0.0

    def softness_at(self, frame: float) -> float:
        """The blur on a frame."""
        if not self.focus:
            return self.softness
        frames = sorted(self.focus)
        return float(np.interp(frame, frames, [self.focus[f] for f in frames]))


NO_MATCH = Match()
