"""Measures the selected track's drift in the background, and again when the track changes."""

from collections.abc import Callable, Iterable, Iterator
from dataclasses import replace

from PySide6.QtCore import QObject, QTimer

from wertis.app.bridge import Bridge
from wertis.app.session import Session
from wertis.core.blas import single_threaded
from wertis.core.check.slip import Slip
from wertis.core.jobs.check import check_track, drift_places
from wertis.core.jobs.events import Event, Stop
from wertis.core.jobs.job import Job
from wertis.core.shot.document import RepairLayer, Track
from wertis.core.shot.edits import carry
from wertis.core.shot.meshes import PegLayer

_WAIT = 350  # milliseconds of rest before measuring begins, so that a drag is not measured at every step


class DriftWorker(QObject):
    """Keeps the session's drift up to date.

    Parameters
    ----------
    busy : says whether other long work is going on; measuring waits for it.
    """

    def __init__(self, session: Session, busy: Callable[[], bool], parent: QObject) -> None:
        super().__init__(parent)
        self._session, self._busy = session, busy
        self.job: Job | None = None
        self._key: object = None
        self._track: Track | None = None
        self._old: tuple[Track, dict[int, Slip]] | None = None  # before the repair in hand
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(_WAIT)
        self._timer.timeout.connect(self._begin)
        self._step = Bridge(self._on_step, self)
        self._end = Bridge(self._on_end, self)
        for signal in (session.shot_changed, session.selection_changed, session.plate_changed):
            signal.connect(lambda *_: self.look())

    def look(self) -> None:
        """See whether what was measured is still true; if not, measure again before long."""
        key = self._wanted()
        if key == self._key:
            return
        before, now = self._track, self._session.track
        self._key, self._track = key, now
        self.stop()
        s = self._session
        if s.drift:
            if before is not None and now is not None and before.but(layers=now.layers) == now and _same_beneath(before, now):
                # while a point is dragged only the frame in view is reckoned; the others follow when it rests
                self._old = self._old or (before, s.drift)
                here = self._reckoned(*self._old, now, [s.frame]) if s.frame in self._old[1] else {}
                s.checked.by_frame = {**self._old[1], **here}
            else:
                self._old, s.checked.by_frame = None, {}
            s.drift_changed.emit()
        if key is not None:
            self._timer.start()

    def _reckoned(self, before: Track, drift: dict[int, Slip], now: Track, frames: Iterable[int]) -> dict[int, Slip]:
        """The drift after a repair, known from what was measured before it and from how the repair moves the corners; measured again soon."""
        places = drift_places(self._session.shot, now, self._session.placement_id)
        out = {}
        for frame in frames:
            slip = drift[frame]
            was, here = (carry(t, places.points, places.frame, frame) for t in (before, now))
            out[frame] = slip if was is None or here is None else replace(slip, slip=slip.slip - (here - was))
        return out

    def stop(self) -> None:
        """Stop measuring; what was measured is kept."""
        self._timer.stop()
        if self.job is not None:
            # nobody listens to the frames that are still under way, least of all a window that has gone
            self.job.stepped.disconnect()
            self.job.ended.disconnect()
            self.job.stop()
            self.job = None

    def wait(self, seconds: float) -> None:
        """Let the work in hand come to its end."""
        if self.job is not None:
            self.job.finished.wait(seconds)

    def _wanted(self) -> object:
        s = self._session
        track = s.track
        if track is None or track.solution is None or s.plate is None or s.cache is None:
            return None
        places = drift_places(s.shot, track, s.placement_id)
        # what is measured follows from these; records that have not changed are the same objects, which the key keeps alive
        records = s.plate, track.solution, track.region, *track.layers, *s.shot.hold_outs(track.id)
        return _Wanted(records, (places.points.tobytes(), places.frame, s.base, s.shot.range))

    def _begin(self) -> None:
        s = self._session
        track = s.track
        if track is None or s.plate is None or s.cache is None or self._key is None:
            return
        if self._busy():
            self._timer.start()
            return
        if self._old is not None:
            s.checked.by_frame = self._reckoned(*self._old, track, self._old[1])
            self._old = None
            s.drift_changed.emit()
        low, high = s.shot.range
        # the frame in view first, then the others in their order
        frames = sorted(range(low, high + 1), key=lambda f: (f != s.frame, f))
        shot, plate, read, base, placement = s.shot, s.plate, s.cache.get, s.base, s.placement_id

        def work(stop: Stop) -> Iterator[Event]:
            with single_threaded():
                yield from check_track(shot, track, plate, frames, read, base, placement, stop=stop)

        self.job = Job("Measuring the drift", len(frames), work)
        self.job.stepped.connect(self._step)
        self.job.ended.connect(self._end)
        self.job.start()

    def _on_step(self, job: Job, event: Event) -> None:
        if job is self.job and event.frame is not None:
            self._session.drift[event.frame] = event.item
            self._session.drift_changed.emit()

    def _on_end(self, job: Job) -> None:
        if job is not self.job:
            return
        self.job = None
        if job.error:
            self._session.message.emit(job.error, True)
        self._session.drift_changed.emit()


class _Wanted:
    """What a measurement is of: records by which objects they are, and numbers."""

    def __init__(self, records: tuple[object, ...], numbers: tuple[object, ...]) -> None:
        self._records, self._numbers = records, numbers

    def __eq__(self, other: object) -> bool:
        return (isinstance(other, _Wanted) and self._numbers == other._numbers and len(self._records) == len(other._records)
                and all(a is b for a, b in zip(self._records, other._records, strict=True)))

    __hash__ = None  # type: ignore[assignment]


def _same_beneath(before: Track, now: Track) -> bool:
    """Whether two states of a track differ by their repair points and pegs alone."""
    by_hand = (RepairLayer, PegLayer)
    return [x for x in before.layers if not isinstance(x, by_hand)] == [x for x in now.layers if not isinstance(x, by_hand)]
