"""Long work in a thread of its own: how far it is, how long still, and stopping it."""

import threading
import time
from collections.abc import Callable, Hashable
from typing import Any

from psygnal import Signal

from wertis.core.errors import Stopped, WertisError


class Job:
    """One piece of long work.

    Signals (sent from the job's own thread)
    -------
    stepped(job, item) : a step is done; `item` is what the work gave.
    ended(job) : it is over; look at `error` and `stopped`.

    Parameters
    ----------
    label : what it is, in words.
    total : how many steps it will take.
    work : called with this job; calls `step` after each step and returns when done or when `stop_asked`.
    """

    stepped = Signal(object, object)
    ended = Signal(object)

    def __init__(self, label: str, total: int, work: Callable[["Job"], None]) -> None:
        self.label = label
        self.total = max(1, total)
        self.done = 0
        self.error: str = ""
        self.stopped = False
        self.finished = threading.Event()
        self.stop_asked = threading.Event()
        self._work = work
        self._told: set[Hashable] = set()  # what steps were of
        self._begun = time.monotonic()
        self._thread = threading.Thread(target=self._run, name=f"wertis-{label}", daemon=True)

    def start(self) -> "Job":
        """Begin; returns itself."""
        self._begun = time.monotonic()
        self._thread.start()
        return self

    def stop(self) -> None:
        """Ask it to stop after the step it is at; what is done is kept."""
        self.stop_asked.set()

    def step(self, item: Any = None, of: Hashable = None) -> None:
        """For the work: a step is done. What it was `of`, where that is said, counts once, however often it comes.

        Raises
        ------
        Stopped
            When the person asked to stop.
        """
        if of is None or of not in self._told:
            self.done += 1
            self._told.add(of)
        self.stepped.emit(self, item)
        if self.stop_asked.is_set():
            raise Stopped

    @property
    def seconds_left(self) -> float | None:
        """Expected time to the end; None while unknown."""
        if self.done < 2:
            return None
        return (time.monotonic() - self._begun) / self.done * max(0, self.total - self.done)

    @property
    def rate(self) -> float:
        """Steps per second so far."""
        return self.done / max(time.monotonic() - self._begun, 1e-6)

    def _run(self) -> None:
        try:
            self._work(self)
        except Stopped:
            self.stopped = True
        except WertisError as why:
            self.error = str(why)
        except MemoryError:
            self.error = f"{self.label} ran out of memory; close other programs, or take a smaller range."
        except Exception as why:  # anything else must reach the person as a message, not end the thread in silence
            self.error = f"{self.label} failed ({type(why).__name__}: {why}); what was finished is kept."
        finally:
            self.stopped = self.stopped or (self.stop_asked.is_set() and self.done < self.total)
            self.finished.set()
            self.ended.emit(self)
