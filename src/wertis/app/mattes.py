"""Matte sequences to be painted over the picture: read in a thread of their own, never while painting."""

import threading
from collections.abc import Callable
from pathlib import Path

import numpy as np
from PySide6.QtCore import QObject

from wertis.app.bridge import Bridge
from wertis.core.errors import PlateError
from wertis.core.plate.base import Plate
from wertis.core.shot.document import HoldOut
from wertis.core.shot.hold_outs import open_matte, read_matte

_MOST_KEPT = 8  # masks
Key = tuple[str, bool, int, tuple[int, int]]


class MatteReader(QObject):
    """Gives masks that are in memory, and reads those that are not.

    Parameters
    ----------
    ready : called when another mask has come.
    """

    def __init__(self, ready: Callable[[], object], parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._ready = Bridge(ready, self)
        self._masks: dict[Key, np.ndarray | None] = {}
        self._plates: dict[tuple[str, tuple[int, int]], Plate] = {}
        self._wanted: Key | None = None
        self._wake = threading.Condition()
        self._closed = False
        self._thread = threading.Thread(target=self._run, name="wertis-mattes", daemon=True)
        self._thread.start()

    def peek(self, held: HoldOut, frame: int, size: tuple[int, int]) -> np.ndarray | None:
        """A matte's mask (h, w) uint8 on a frame; None where there is none, or where it is still being read."""
        key = (held.path, held.invert, frame, size)
        with self._wake:
            if key in self._masks:
                return self._masks[key]
            self._wanted = key
            self._wake.notify()
        return None

    def close(self) -> None:
        """End the thread."""
        with self._wake:
            self._closed = True
            self._wake.notify()
        self._thread.join(5)

    def _run(self) -> None:
        while True:
            with self._wake:
                while self._wanted is None and not self._closed:
                    self._wake.wait()
                if self._closed:
                    return
                assert self._wanted is not None
                key, self._wanted = self._wanted, None
            mask = self._read(key)
            with self._wake:
                self._masks[key] = mask
                while len(self._masks) > _MOST_KEPT:
                    self._masks.pop(next(iter(self._masks)))
            self._ready()

    def _read(self, key: Key) -> np.ndarray | None:
        path, invert, frame, size = key
        try:
            if (path, size) not in self._plates:
                self._plates[path, size] = open_matte(Path(path), size)
            return read_matte(self._plates[path, size], frame, invert)
        except PlateError:
            return None
