"""What every plate offers, whatever it is stored in."""

import ctypes
from abc import ABC, abstractmethod
from collections.abc import Callable, Sequence
from pathlib import Path

import numpy as np

from wertis.core import compiled
from wertis.core.compiled import address
from wertis.core.errors import PlateError

Reader = Callable[[int], np.ndarray]
"""Gives the picture of a frame (h, w, channels); `PlateError` where there is none."""

ALPHAS = ("file", "straight", "ignore")
"""How a plate's alpha is taken: as its format says, as not multiplied into the colours yet, or not at all."""


class Plate(ABC):
    """A run of pictures of one size with frame numbers of their own.

    Attributes
    ----------
    path : what was opened, as a person would name it: a folder, a pattern or a movie.
    first, last : the numbers of the first and the last frame; there may be gaps between them.
    size : width and height in pixels.
    fps : frames per second.
    aspect : width of a pixel over its height, as the file says.
    layers : names of the layers there are; "" is the picture itself.
    layer, alpha : the layer that is read, and one of `ALPHAS`.
    has_alpha : whether that layer's file has an alpha.
    others : what else was found where it was looked for: name to how many frames.
    no_cuts : frames at which no other shot begins, however it looks, as a person says.
    """

    path: Path
    first: int
    last: int
    size: tuple[int, int]
    fps: float
    aspect: float = 1.0
    layers: tuple[str, ...] = ("",)
    layer: str = ""
    alpha: str = ALPHAS[0]
    has_alpha: bool = False
    others: dict[str, int] = {}
    no_cuts: frozenset[int] = frozenset()

    def taken(self, layer: str, alpha: str) -> "Plate":
        """The same plate, read otherwise.

        Raises
        ------
        PlateError
            When it has no such layer.
        """
        if layer:
            raise PlateError(f"{self.path.name} has no layers to choose from.")
        return self

    @abstractmethod
    def read(self, frame: int) -> np.ndarray:
        """The picture (height, width, channels) in the file's own kind of number; safe to call from any thread.

        Raises
        ------
        PlateError
            When the frame is missing, unreadable, or of another size than the rest.
        """

    def file(self, frame: int) -> Path | None:
        """The file that holds this frame and nothing else; None where there is none."""
        return None

    @property
    def bits(self) -> int:
        """Bits of each number in the file, where they are fewer than its kind of number has; 0 otherwise."""
        return 0

    @property
    @abstractmethod
    def gaps(self) -> frozenset[int]:
        """Numbers between `first` and `last` for which there is no file."""

    @property
    def others_words(self) -> str:
        """Which of several sequences this is, in words; empty where there was only one."""
        if not self.others:
            return ""
        rest = ", ".join(f"{Path(name).name} ({count} frame{'s' * (count != 1)})" for name, count in list(self.others.items())[:6])
        return f"The folder holds {len(self.others) + 1} sequences; this is {self.path.name}. The others: {rest}."

    @property
    def frames(self) -> list[int]:
        """The numbers of all frames that should be readable, in order."""
        return [f for f in range(self.first, self.last + 1) if f not in self.gaps]

    def _out_of_range(self, frame: int) -> PlateError:
        return PlateError(f"{self.path.name} has no frame {frame}; it runs from {self.first} to {self.last}.")


BRIGHTNESS = (0.299, 0.587, 0.114)
"""Parts of red, green and blue in luma: ITU-R BT.601-7, 2.5.1."""


def luma(picture: np.ndarray) -> np.ndarray:
    """The picture's brightness (height, width) as the tracker wants it: 0..255, coded for the eye.

    Whole numbers are taken as they are coded in the file. Floats are taken as linear light and coded by a 1/2.2 power,
    so that dark texture counts.
    """
    return grey_of(picture, BRIGHTNESS)


def grey_of(picture: np.ndarray, parts: Sequence[float] | np.ndarray) -> np.ndarray:
    """As `luma`, with other parts (3,) of red, green and blue."""
    import cv2

    colour = picture if picture.shape[2] <= 2 else picture[..., :3]
    if picture.dtype == np.uint8:
        if colour.shape[2] < 3:
            return colour[..., 0]
        colour = np.ascontiguousarray(colour)
        if parts is BRIGHTNESS:
            return cv2.cvtColor(colour, cv2.COLOR_RGB2GRAY)
        return cv2.transform(colour, np.asarray(parts, np.float64)[None]) if compiled.LIBRARY is None else _mixed(colour, parts)
    values = colour.astype(np.float32)
    grey = values @ np.asarray(parts, np.float32) if values.shape[2] == 3 else values[..., 0]
    if np.issubdtype(picture.dtype, np.integer):
        return grey * np.float32(255.0 / np.iinfo(picture.dtype).max)
    grey = np.nan_to_num(grey, nan=0.0, posinf=16.0, neginf=0.0)
    return np.power(np.clip(grey, 0, 16), np.float32(1 / 2.2)) * np.float32(255)


def _mixed(colour: np.ndarray, parts: Sequence[float] | np.ndarray) -> np.ndarray:
    """Channels (h, w, 3) uint8 mixed in C, which is three times as quick."""
    assert compiled.LIBRARY is not None
    first, second = (round(65536 * float(p)) for p in parts[:2])
    out = np.empty(colour.shape[:2], np.uint8)
    compiled.LIBRARY.mixed(address(colour, np.uint8), ctypes.c_long(out.size), first, second, 65536 - first - second, address(out, np.uint8))
    return out


def rgb_of(picture: np.ndarray) -> np.ndarray:
    """Red, green and blue (h, w, 3) of a picture as it was read: without alpha, and grey in all three."""
    return picture[..., :3] if picture.shape[2] > 2 else picture[..., :1].repeat(3, 2)


def to_float(picture: np.ndarray) -> np.ndarray:
    """The picture as float32; whole numbers come out as 0..1."""
    if np.issubdtype(picture.dtype, np.integer):
        return picture.astype(np.float32) * np.float32(1.0 / np.iinfo(picture.dtype).max)
    return picture.astype(np.float32)


def from_float(picture: np.ndarray, dtype: np.dtype | type) -> np.ndarray:
    """The inverse of `to_float`, rounded to the nearest whole number and clipped where `dtype` has whole numbers."""
    kind = np.dtype(dtype)
    if np.issubdtype(kind, np.integer):
        top = np.iinfo(kind).max
        return (np.clip(picture, 0, 1) * np.float32(top) + np.float32(0.5)).astype(kind)
    return picture.astype(kind)
