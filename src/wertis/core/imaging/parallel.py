"""Work on many frames or samples side by side; OpenCV, NumPy and the compiled loops let other threads go on meanwhile."""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

_threads = 2
_T = TypeVar("_T")
_R = TypeVar("_R")


def use_threads(count: int) -> None:
    """Use so many threads from now on; the results are the same."""
    global _threads
    _threads = max(1, count)


def side_by_side(work: Callable[[_T], _R], over: list[_T]) -> list[_R]:
    """The work done on each, on several threads."""
    if _threads == 1:
        return [work(each) for each in over]
    with ThreadPoolExecutor(_threads) as pool:
        return list(pool.map(work, over))
