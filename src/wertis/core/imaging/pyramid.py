"""Luma pyramids: one picture at halving resolutions, lightly smoothed so that bilinear sampling of it is unbiased."""

import threading

import cv2
import numpy as np

SMOOTHING = 0.75  # standard deviation in pixels at level 0

_KERNEL = cv2.getGaussianKernel(5, SMOOTHING).astype(np.float32)


class HeldOut:
    """A mask at the pyramid's levels, widened at the coarse ones, whose pixels take in what lies beside them.

    Parameters
    ----------
    mask : (height, width) uint8, 255 where pixels do not exist for the track.
    """

    def __init__(self, mask: np.ndarray) -> None:
        self._levels: list[np.ndarray] = [mask.astype(np.float32) / 255]
        self._lock = threading.Lock()

    def __getitem__(self, level: int) -> np.ndarray:
        with self._lock:
            while len(self._levels) <= level:
                h, w = self._levels[-1].shape
                half = cv2.resize(self._levels[-1], ((w + 1) // 2, (h + 1) // 2), interpolation=cv2.INTER_AREA)
                self._levels.append(cv2.dilate(half, np.ones((3, 3), np.uint8)))
            return self._levels[level]


class Pyramid:
    """Levels of a luma picture; level k's pixel (x, y) is level 0's (2^k x, 2^k y), first pixel centres at (0, 0).

    Levels are made when asked for, by any thread. P. Burt and E. Adelson, The Laplacian pyramid as a compact image code, 1983.

    Parameters
    ----------
    luma : (height, width) uint8 or float32; whole numbers 0..255 or floats on the same scale.
    held : (height, width) uint8, 255 on pixels that do not exist for the track; `held` gives them at the pyramid's levels.
    """

    def __init__(self, luma: np.ndarray, held: np.ndarray | None = None) -> None:
        self.held = HeldOut(held) if held is not None else None
        self._levels = [cv2.sepFilter2D(luma, cv2.CV_32F, _KERNEL, _KERNEL)]
        self._lock = threading.Lock()

    def __getitem__(self, level: int) -> np.ndarray:
        with self._lock:
            while len(self._levels) <= level:
                self._levels.append(cv2.pyrDown(self._levels[-1]))
            return self._levels[level]

    @classmethod
    def of_smoothed(cls, luma: np.ndarray) -> "Pyramid":
        """The pyramid of a picture (height, width) float32 that is smoothed already, as a mean of pyramids' first levels is."""
        made = cls.__new__(cls)
        made.held, made._levels, made._lock = None, [luma], threading.Lock()
        return made

    @property
    def size(self) -> tuple[int, int]:
        """Width and height of level 0."""
        h, w = self._levels[0].shape
        return w, h
