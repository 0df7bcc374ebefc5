"""Long work that the window begins, one piece at a time: how far it is, stopping it, what is said at its end."""

from collections.abc import Callable

from PySide6.QtCore import QObject

from wertis.app.bridge import Bridge
from wertis.app.strip import MessageStrip
from wertis.core.jobs.events import Event
from wertis.core.jobs.job import Job

Say = Callable[[str, bool], None]


class LongWork(QObject):
    """The long work in hand.

    Attributes
    ----------
    job : the one that runs.
    """

    def __init__(self, strip: MessageStrip, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._strip = strip
        self.job: Job | None = None
        self._then: Callable[[], object] | None = None
        self._on_event: Callable[[Event], object] | None = None
        self._ended: Callable[[Job], object] | None = None
        self._step_bridge = Bridge(self._on_step, self)
        self._told_bridge = Bridge(self._on_told, self)
        self._end_bridge = Bridge(self._on_end, self)

    def begin(self, job: Job, then: Callable[[], object] | None = None, event: Callable[[Event], object] | None = None,
              ended: Callable[[Job], object] | None = None) -> None:
        """Start long work and show how far it is.

        Parameters
        ----------
        then : called when it has come to its end, neither failed nor stopped.
        event : called with each of its events, instead of its being said.
        ended : called when it is over, however it ended, instead of that being said.
        """
        self.job, self._then, self._on_event, self._ended = job, then, event, ended
        job.stepped.connect(self._step_bridge)
        job.told.connect(self._told_bridge)
        job.ended.connect(self._end_bridge)
        self._strip.work_begins(job.total)
        job.start()

    def busy(self) -> bool:
        """Whether long work is running, which is then said."""
        if self.job is not None:
            self._strip.say(f"{self.job.label} is still running; stop it first (Esc).", True)
        return self.job is not None

    def stop(self) -> None:
        """Stop the long work; what it has is kept."""
        if self.job is not None:
            self.job.stop()

    def _on_step(self, job: Job, event: Event) -> None:
        if job is not self.job:
            return
        self._strip.work_goes_on(job)
        if self._on_event is not None:
            self._on_event(event)
        else:
            self._strip.say(f"{job.label}: {event.note or (f'frame {event.frame}' if event.frame is not None else 'goes on')}")

    def _on_told(self, job: Job) -> None:
        if job is self.job and job.phase is not None:
            self._strip.work_tells(job)
            self._strip.say(f"{job.label}: {job.phase[0]}.")

    def _on_end(self, job: Job) -> None:
        if job is not self.job:
            return
        self.job = None
        self._strip.no_work()
        if self._ended is not None:
            self._ended(job)
        elif job.error:
            self._strip.say(job.error, True)
        elif job.stopped:
            self._strip.say(f"{job.label} was stopped; finished frames are kept.")
        if not job.error and not job.stopped and self._then is not None:
            self._then()
