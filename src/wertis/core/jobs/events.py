"""What long work says while it goes on: one kind of event, whatever the work is."""

import threading
from collections import deque
from collections.abc import Callable, Hashable, Iterable, Iterator
from dataclasses import dataclass
from typing import Any

from wertis.core.errors import WertisError
from wertis.core.phases import listening

Stop = threading.Event
"""Set to ask long work to end soon; what it has done by then is kept."""


@dataclass(frozen=True)
class Event:
    """One step of long work.

    Attributes
    ----------
    frame : the frame that it is about; None where it is about no frame.
    done, total : how many steps of how many are done. A step that is done a second time, better, counts once.
    item : what the step gave.
    note : what there is to say of it, in words: what is being done, or why a frame was left out; empty otherwise.
    """

    frame: int | None
    done: int
    total: int
    item: Any = None
    note: str = ""


class Counter:
    """Makes the events of one piece of work.

    Parameters
    ----------
    total : how many steps it will take.
    """

    def __init__(self, total: int) -> None:
        self.total = max(1, total)
        self._seen: set[Hashable] = set()

    def event(self, frame: int | None, item: Any = None, note: str = "", of: Hashable = None) -> Event:
        """A step is done; `of` says what it was of where that is not the frame alone."""
        self._seen.add(frame if of is None else of)
        return Event(frame, min(len(self._seen), self.total), self.total, item, note)

    def remark(self, frame: int | None, item: Any = None, note: str = "") -> Event:
        """Something to say, with no step done."""
        return Event(frame, min(len(self._seen), self.total), self.total, item, note)


def stopped(stop: Stop | None) -> bool:
    """Whether work was asked to end."""
    return stop is not None and stop.is_set()


def told(events: Iterable[Event], progress: Callable[[Event], object] | None) -> Iterator[Event]:
    """The same events, of each of which `progress` is told first; it also hears, by events with no frame, what is done between two of them."""
    last = Event(None, 0, 1)

    def listen(what: str, done: int, total: int) -> None:
        if progress is not None:
            progress(Event(None, last.done, last.total, note=f"{what}, {done} of {total}"))

    each = iter(events)
    while True:
        with listening(listen):
            event = next(each, None)
        if event is None:
            return
        last = event
        if progress is not None:
            progress(event)
        yield event


def finished(events: Iterator[Event], progress: Callable[[Event], object] | None = None) -> Any:
    """Go through long work to its end, telling `progress` of each step; the last event's item.

    Raises
    ------
    WertisError
        When the work gave nothing.
    """
    last = deque(told(events, progress), 1)
    if not last:
        raise WertisError("There was nothing to do.")
    return last[0].item
