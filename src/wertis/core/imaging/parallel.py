"""Work on many frames or samples side by side; OpenCV, NumPy and the compiled loops let other threads go on meanwhile."""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

_THREADS = 2
_T = TypeVar("_T")
_R = TypeVar("_R")


def side_by_side(work: Callable[[_T], _R], over: list[_T]) -> list[_R]:
    """The work done on each, on several threads."""
    with ThreadPoolExecutor(_THREADS) as pool:
        return list(pool.map(work, over))
