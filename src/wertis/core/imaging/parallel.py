"""Work on many frames or samples side by side; OpenCV, NumPy and the compiled loops let other threads go on meanwhile."""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

_WORTH_TWO = 200  # pieces each, tiles of a picture, from which two threads are quicker than one

_threads = 2
_waiting = ThreadPoolExecutor(2, thread_name_prefix="wertis-halves")  # kept, since what is halved takes a few milliseconds
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


def in_halves(work: Callable[[slice], None], count: int, worth: int = _WORTH_TWO) -> None:
    """Do `count` pieces of work, each of which has its own answer, in two threads where that is quicker; the answers do not depend on it.

    Parameters
    ----------
    worth : pieces each, from which two threads are quicker.
    """
    half = count // 2
    if _threads > 1 and half > worth:
        list(_waiting.map(work, [slice(0, half), slice(half, count)]))
    else:
        work(slice(0, count))
