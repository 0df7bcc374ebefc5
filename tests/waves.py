"""A made-up motion that bends, given only as a function, and a shot filmed with it; it stands for every kind of motion that is not a plane."""

from collections.abc import Sequence
from typing import Literal

import cv2
import numpy as np

from tests.scenes import SIZE, texture
from wertis.core.geometry.motion import Motion
from wertis.core.geometry.warp import FunctionWarp, Warp
from wertis.core.imaging.resample import warped
from wertis.core.shot.document import Region, Solution
from wertis.core.shot.resolve import register_solution

REFERENCE, LAST = 1001, 1008
QUAD = np.array([[110.0, 70], [370, 76], [362, 262], [116, 254]])


def waved(points: np.ndarray, time: float) -> np.ndarray:
    """Where points (..., 2) of the reference frame are: they drift, and a wave goes through them, up to 6 pixels high."""
    t = time - REFERENCE
    x, y = points[..., 0], points[..., 1]
    high = 6 * np.sin(0.35 * t)
    return np.stack([x + 2.2 * t + high * np.sin(y / 40), y - 0.9 * t + high * np.sin(x / 55)], axis=-1)


class WaveMotion:
    """The motion."""

    reference = REFERENCE
    frames: Sequence[int] = range(REFERENCE, LAST + 1)

    def __init__(self, off: tuple[float, float] = (0.0, 0.0)) -> None:
        self._off = np.array(off)  # pixels by which it is wrong on every frame but the reference

    def at(self, time: float) -> Warp | None:
        if not REFERENCE - 0.5 <= time <= LAST + 0.5:
            return None
        off = self._off * (time != REFERENCE)
        return FunctionWarp(lambda p: waved(p, time) + off)

    def uncertainty(self, points: np.ndarray, time: float) -> np.ndarray:
        return np.full(len(points), 0.05 if self.at(time) is not None else np.inf)


class WaveSolution(Solution):
    """Its record in a shot."""

    kind: Literal["made-up wave"] = "made-up wave"
    reference: int = REFERENCE
    off: tuple[float, float] = (0.0, 0.0)

    @property
    def tried(self) -> np.ndarray:
        return np.arange(REFERENCE, LAST + 1)

    @property
    def good(self) -> np.ndarray:
        return np.ones(LAST - REFERENCE + 1, bool)


def _built(solution: WaveSolution, region: Region) -> Motion:
    return WaveMotion(solution.off)


register_solution(WaveSolution, _built)


def filmed() -> list[np.ndarray]:
    """The pictures (h, w, 3) uint8 of a wall that moves so."""
    wall = texture(size=SIZE).astype(np.float32)
    rng = np.random.default_rng(6)
    out = []
    for frame in range(REFERENCE, LAST + 1):
        warp = WaveMotion().at(frame)
        assert warp is not None
        seen = warped(wall, warp, SIZE, cv2.INTER_CUBIC)
        out.append(np.clip(seen + rng.normal(0, 1.5, seen.shape), 0, 255).astype(np.uint8))
    return out
