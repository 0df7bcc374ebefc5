"""Frames kept in memory within a budget, read ahead of need by threads of their own."""

import ctypes
import threading
import time
from collections import OrderedDict
from collections.abc import Iterable
from concurrent.futures import CancelledError, Future, ThreadPoolExecutor
from contextlib import suppress
from functools import cache

import numpy as np

from wertis.core.errors import PlateError
from wertis.core.plate.base import Plate

DEFAULT_BUDGET = 2 << 30
ASK_AGAIN = 2.0  # seconds after which a frame that could not be read is tried again: a disk may have come back


_LARGE = 2 << 20  # bytes: memory of this size and more goes straight back to the system
_M_MMAP_THRESHOLD = -3  # mallopt(3)


@cache
def _give_back_large() -> None:
    """Have the C library return large pieces at once: left alone it soon keeps pictures that were let go, and the budget would not hold."""
    with suppress(OSError, AttributeError):  # another C library than glibc
        ctypes.CDLL(None).mallopt(_M_MMAP_THRESHOLD, _LARGE)


class FrameCache:
    """Least recently used frames of one plate; errors are kept as well, for a moment, so that a bad file is not read at every look.

    Parameters
    ----------
    budget : most bytes of pictures kept.
    readers : threads that read ahead.
    """

    def __init__(self, plate: Plate, budget: int = DEFAULT_BUDGET, readers: int = 2) -> None:
        _give_back_large()
        self.plate = plate
        self.budget = budget
        self._kept: OrderedDict[int, np.ndarray | PlateError] = OrderedDict()
        self._failed: dict[int, float] = {}
        self._bytes = 0
        self._lock = threading.Lock()
        self._coming: dict[int, Future] = {}
        self._pool = ThreadPoolExecutor(readers, thread_name_prefix="wertis-read")
        self._closed = False

    def get(self, frame: int) -> np.ndarray:
        """The frame's picture; waits for it when it is being read. Do not write into it.

        Raises
        ------
        PlateError
            As `Plate.read`.
        """
        with self._lock:
            kept = self._kept.get(frame)
            if isinstance(kept, PlateError) and time.monotonic() - self._failed.get(frame, 0.0) > ASK_AGAIN:
                kept = None
            if kept is not None:
                self._kept.move_to_end(frame)
            coming = self._coming.get(frame)
        if kept is None:
            try:
                kept = coming.result() if coming is not None else self._load(frame)
            except CancelledError:  # another wish took its turn
                kept = self._load(frame)
        if isinstance(kept, PlateError):
            raise kept
        return kept

    def peek(self, frame: int) -> np.ndarray | PlateError | None:
        """What is in memory for the frame, without reading it."""
        with self._lock:
            return self._kept.get(frame)

    def ahead(self, frames: Iterable[int]) -> None:
        """Begin to read these frames, in order, as far as half of the budget reaches; what was asked before and not begun is dropped."""
        if self._closed:
            return
        wanted = list(frames)
        with self._lock:
            each = max(1, self._bytes // max(1, len(self._kept)))
            wanted = wanted[: max(2, int(self.budget / 2 / each))] if self._bytes else wanted[:8]
            keep = set(wanted)
            for frame, future in list(self._coming.items()):
                if frame not in keep and future.cancel():
                    self._coming.pop(frame, None)
            for frame in wanted:
                if frame not in self._kept and frame not in self._coming:
                    self._coming[frame] = self._pool.submit(self._load, frame)

    def forget(self, frame: int | None = None) -> None:
        """Drop a frame, or all, so that it is read again."""
        with self._lock:
            for f in [frame] if frame is not None else list(self._kept):
                self._drop(f)

    @property
    def used(self) -> int:
        """Bytes of pictures now kept."""
        return self._bytes

    def close(self) -> None:
        """Stop reading and let the pictures go."""
        self._closed = True
        self._pool.shutdown(wait=False, cancel_futures=True)
        self.forget()

    def _load(self, frame: int) -> np.ndarray | PlateError:
        try:
            picture: np.ndarray | PlateError = self.plate.read(frame)
        except PlateError as why:
            picture = why
        except MemoryError:
            picture = PlateError(f"Frame {frame} does not fit in memory; close other programs or use a smaller plate.")
        with self._lock:
            self._coming.pop(frame, None)
            self._drop(frame)
            self._kept[frame] = picture
            if isinstance(picture, PlateError):
                self._failed[frame] = time.monotonic()
            self._bytes += _size(picture)
            while self._bytes > self.budget and len(self._kept) > 1:
                self._drop(next(iter(self._kept)))
        return picture

    def _drop(self, frame: int) -> None:
        gone = self._kept.pop(frame, None)
        if gone is not None:
            self._bytes -= _size(gone)


def _size(picture: np.ndarray | PlateError) -> int:
    return picture.nbytes if isinstance(picture, np.ndarray) else 200
