"""Work on many frames or samples side by side; OpenCV, NumPy and the compiled loops let other threads go on meanwhile."""

import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

_WORTH_TWO = 200  # pieces each, tiles of a picture, from which two threads are quicker than one

_threads = 2
_waiting = ThreadPoolExecutor(2, thread_name_prefix="wertis-halves")  # kept, since what is halved takes a few milliseconds
_inside = threading.local()  # `busy` in a thread beside which others do the same work, so that nothing is gained by halving it
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

    def busy() -> None:
        _inside.busy = True

    with ThreadPoolExecutor(_threads, initializer=busy) as pool:
        return list(pool.map(work, over))


def in_halves(work: Callable[[slice], None], count: int, worth: int = _WORTH_TWO) -> None:
    """Do `count` pieces of work, each of which has its own answer, in two threads where that is quicker; the answers do not depend on it.

    Parameters
    ----------
    worth : pieces each, from which two threads are quicker.
    """
    half = count // 2
    if _threads == 1 or half <= worth or getattr(_inside, "busy", False):
        work(slice(0, count))
        return
    other = _waiting.submit(work, slice(half, count))
    try:
        work(slice(0, half))
    finally:
        other.result()
