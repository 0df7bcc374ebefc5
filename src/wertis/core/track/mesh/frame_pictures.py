"""The pictures of frames that were tracked, for looking at them again."""

from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import TypeVar

import numpy as np

from wertis.core.errors import PlateError
from wertis.core.imaging.parallel import side_by_side
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.track.mesh.settings import BATCH

ReadAgain = Callable[[int, np.ndarray | None], Pyramid | None]
"""Gives a frame's pyramid as the tracker looks at it, from its luma where that is kept; None when tracking is stopped. Raises PlateError."""

_TOGETHER = 8  # frames in hand at once
_T = TypeVar("_T")


class FramePictures:
    """Remembers the pictures of frames as far as memory allows; the others are read again."""

    def __init__(self) -> None:
        self._lumas: dict[int, np.ndarray] = {}
        self._read: ReadAgain

    def keep(self, frame: int, luma: np.ndarray, read: ReadAgain) -> None:
        """Remember a frame's picture (height, width), and how it is read again where there is no room for it."""
        self._read = read
        if luma.nbytes * (len(self._lumas) + 1) <= BATCH.most_kept:
            self._lumas[frame] = luma

    def let_go(self, but: Iterable[int]) -> None:
        """Forget the pictures of all frames but some."""
        self._lumas = {frame: self._lumas[frame] for frame in but if frame in self._lumas}

    def for_each(self, frames: Sequence[int], which: Iterable[int], work: Callable[[int, Pyramid], _T]) -> Iterator[_T | None]:
        """What is made of the pictures of some `frames`, by their numbers in the list, in order; None, and no more, where one cannot be had."""
        chosen = [int(k) for k in which]

        def one(k: int) -> _T | None:
            try:
                pyramid = self._read(frames[k], self._lumas.get(frames[k]))
            except PlateError:
                return None
            return work(k, pyramid) if pyramid is not None else None

        for first in range(0, len(chosen), _TOGETHER):
            for made in side_by_side(one, chosen[first:first + _TOGETHER]):
                yield made
                if made is None:
                    return
