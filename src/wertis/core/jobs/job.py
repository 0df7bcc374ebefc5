"""Long work in a thread of its own: how far it is, how long still, and stopping it."""

import logging
import threading
import time
from collections.abc import Callable, Iterator

from psygnal import Signal

from wertis.core.errors import WertisError
from wertis.core.jobs.events import Event, Stop
from wertis.core.phases import listening

_log = logging.getLogger(__name__)


class Job:
    """One piece of long work.

    Signals (sent from the job's own thread)
    -------
    stepped(job, event) : a step is done.
    told(job) : what is done between two steps goes on; look at `phase`.
    ended(job) : it is over; look at `error` and `stopped`.

    Attributes
    ----------
    phase : what it does between two steps, in words, and how many parts of how many of that are done; None where a step comes next.

    Parameters
    ----------
    label : what it is, in words.
    total : how many steps it will take.
    work : given an event that is set to stop it, yields an event for each step, and ends soon after it was asked to stop.
    """

    stepped = Signal(object, object)
    told = Signal(object)
    ended = Signal(object)

    def __init__(self, label: str, total: int, work: Callable[[Stop], Iterator[Event]]) -> None:
        self.label = label
        self.total = max(1, total)
        self.done = 0
        self.phase: tuple[str, int, int] | None = None
        self.error: str = ""
        self.stopped = False
        self.finished = threading.Event()
        self.stop_asked = Stop()
        self._work = work
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

    @property
    def seconds_left(self) -> float | None:
        """Expected time to the end; None while unknown, and after the last step, when something is still to be finished."""
        if self.done < 2 or self.done >= self.total:
            return None
        return (time.monotonic() - self._begun) / self.done * max(0, self.total - self.done)

    @property
    def rate(self) -> float:
        """Steps per second so far."""
        return self.done / max(time.monotonic() - self._begun, 1e-6)

    def _listen(self, what: str, done: int, total: int) -> None:
        self.phase = what, done, total
        self.told.emit(self)

    def _run(self) -> None:
        try:
            with listening(self._listen):
                for event in self._work(self.stop_asked):
                    self.done, self.total, self.phase = event.done, event.total, None
                    self.stepped.emit(self, event)
        except WertisError as why:
            self.error = str(why)
        except MemoryError:
            self.error = f"{self.label} ran out of memory; close other programs, or take a smaller range."
        except Exception as why:  # anything else must reach the person as a message, not end the thread in silence
            _log.exception("%s failed", self.label)
            self.error = f"{self.label} failed ({type(why).__name__}: {why}); what was finished is kept. The log has the details."
        finally:
            self.stopped = self.stop_asked.is_set() and self.done < self.total
            self.finished.set()
            self.ended.emit(self)
