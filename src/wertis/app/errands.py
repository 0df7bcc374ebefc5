"""Long work that the window begins: tracking, rendering, mattes of passers, the demo; how far it is, stopping it, what it leaves."""

from __future__ import annotations

import threading
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject

from wertis.app.bridge import Bridge
from wertis.core.errors import RegionError
from wertis.core.jobs.job import Job
from wertis.core.jobs.occluder_mattes import write_mattes
from wertis.core.jobs.render import check_target, render
from wertis.core.shot import hold_outs
from wertis.core.shot.document import HoldOut
from wertis.core.track.advice import advice

if TYPE_CHECKING:
    from wertis.app.window import MainWindow


class Errands(QObject):
    """One long piece of work at a time.

    Attributes
    ----------
    job : the one that runs.
    """

    def __init__(self, window: MainWindow) -> None:
        super().__init__(window)
        self._window, self._session = window, window.session
        self.job: Job | None = None
        self._then: Callable[[], object] | None = None
        self._come_back: int | None = None  # the frame in view before tracking both ways
        self._rest_of_demo = threading.Thread()
        self._step_bridge = Bridge(self._on_step, self)
        self._end_bridge = Bridge(self._on_end, self)

    def begin(self, job: Job, then: Callable[[], object] | None = None) -> None:
        """Start long work and show how far it is; `then` is called when it has come to its end, neither failed nor stopped."""
        self.job, self._then = job, then
        job.stepped.connect(self._step_bridge)
        job.ended.connect(self._end_bridge)
        self._window.strip.work_begins(job.total)
        job.start()

    def busy(self) -> bool:
        """Whether long work is running, which is then said."""
        if self.job is not None:
            self._window.say(f"{self.job.label} is still running; stop it first (Esc).", True)
        return self.job is not None

    def stop(self) -> None:
        """Stop the long work; what it has is kept."""
        if self.job is not None:
            self.job.stop()

    # -- what can be begun ----------------------------------------------------------------------------------------

    def track(self, direction: str) -> None:
        """Track the selected region."""
        s = self._session
        if s.track is None:
            self._window.say("There is no region to track; draw one round the surface first (N).", True)
            return
        if self.busy():
            return
        self._window.playback.pause()
        try:
            job = s.tracking_job(s.track, direction)
        except RegionError as why:
            s.live_track = ""
            self._window.say(str(why), True)
            return
        s.go_step("Track")
        self._come_back = s.frame if direction == "both" else None
        self.begin(job)
        s.live_changed.emit()

    def render(self, what: str, pattern: str) -> None:
        """Render the range to files."""
        s = self._session
        if s.plate is None or s.cache is None:
            return
        if self.busy():
            return
        if not self._window.attempt(check_target, pattern):
            return
        shot, plate, resume = s.shot, s.plate, self._window.details.deliver.resume.isChecked()
        frames = list(range(shot.range[0], shot.range[1] + 1))
        left_out: list[int] = []

        def work(job: Job) -> None:
            for frame, why in render(shot, plate, pattern, frames, what, resume=resume):
                if why:
                    left_out.append(frame)
                job.step(frame)

        def rendered() -> None:
            words = f"Rendered {len(frames)} frames to {pattern}."
            if left_out:
                missing = ", ".join(map(str, left_out[:5])) + ("..." if len(left_out) > 5 else "")
                words += f" The plate lacks {len(left_out)} of them ({missing}): left out of a sequence, held in a movie."
            self._window.say(words, bool(left_out))

        self.begin(Job("Rendering", len(frames), work), rendered)

    def passers(self, folder: Path) -> None:
        """Make a matte sequence of what passes in front of the selected track and hold it out."""
        s = self._session
        track, plate, shot = s.track, s.plate, s.shot
        if track is None or plate is None or s.cache is None:
            return
        if self.busy():
            return
        read = s.cache.get
        where = folder / f"{''.join(c if c.isalnum() else '_' for c in track.name)}_passers"
        pattern = str(where / "matte.####.png")

        def work(job: Job) -> None:
            for frame, _ in write_mattes(shot, track, plate, pattern, read):
                job.step(frame)

        self.begin(Job("Making the matte", shot.range[1] - shot.range[0] + 1, work), lambda: self._hold_out(track.id, where))

    def demo(self, then_open: str = "") -> None:
        """Make the demo shots in the background, then open one of them (the tracked one unless named)."""
        from wertis.demo import make

        name = then_open or make.TRACKED
        wanted = [name] if name in make.FILMS else [make.FIRST_FILM]

        def opened() -> None:
            self._window.open_path(make.folder() / name)
            self._make_rest_of_demo()

        if make.ready(names=wanted):
            opened()
            return
        if self.busy():
            return

        def work(job: Job) -> None:
            make.make(report=lambda text: job.step(text), names=wanted)

        self._window.say("Making the demo shot of Brindle Quay, once; it opens by itself.")
        self.begin(Job("Making the demo shot", make.steps(wanted), work), opened)

    def _make_rest_of_demo(self) -> None:
        """The shots not opened yet are made while the person looks at the first."""
        from wertis.demo import make

        if not make.ready() and not self._rest_of_demo.is_alive():
            self._rest_of_demo = threading.Thread(target=make.make, name="wertis-demo", daemon=True)
            self._rest_of_demo.start()

    # -- while it runs, and at its end ----------------------------------------------------------------------------

    def _hold_out(self, ident: str, where: Path) -> None:
        s = self._session
        track = s.shot.track(ident)
        if track is not None and self._window.attempt(hold_outs.open_matte, where, s.plate.size if s.plate else (1, 1)):
            held = HoldOut(name="Passers", path=str(where.absolute()), grow=2)
            s.history.do("Hold out what was distrusted", hold_outs.add_hold_out(s.shot, ident, held))
            s.select(ident, "", held.id)
            self._window.say(f"What passes in front is held out (matte in {where}). Track again to use it (Ctrl+T).")

    def _on_step(self, job: Job, item: object) -> None:
        if job is not self.job:
            return
        self._window.strip.work_goes_on(job)
        if self._session.live_track and isinstance(item, tuple):
            frame, fix = item
            self._session.take_live(frame, fix)
            self._session.go(frame)
            name = self._session.track.name if self._session.track else ""
            self._window.say(f"Tracking {name}, frame {frame}: " + (
                f"{fix.seen:.0%} of the region seen, expected error {fix.error:.2f} px. Esc stops and keeps what there is."
                if fix.matrix is not None else f"lost, {fix.reason}."), fix.matrix is None)
        else:
            self._window.say(f"{job.label}: {item}")

    def _on_end(self, job: Job) -> None:
        if job is not self.job:
            return
        self.job = None
        self._window.strip.no_work()
        if self._session.live_track:
            self._tracking_over(job)
        elif job.error:
            self._window.say(job.error, True)
        elif job.stopped:
            self._window.say(f"{job.label} was stopped; finished frames are kept.")
        elif self._then is not None:
            self._then()

    def _tracking_over(self, job: Job) -> None:
        s = self._session
        found = dict(s.live)
        s.keep_live()
        if self._come_back is not None:
            s.go(self._come_back)
        good = {f: x for f, x in found.items() if x.matrix is not None}
        if job.error:
            self._window.say(job.error, True)
            return
        words = f"{len(good)} frames tracked"
        if good:
            words += f", expected error {sum(x.error for x in good.values()) / len(good):.2f} px"
        trouble = advice(found)
        if trouble:
            self._window.say(f"{words}; {trouble}.", True)
            return
        self._window.say(words + (". Stopped; what was found is kept." if job.stopped else ". Next: place a graphic on it (P)."
                          if s.track and not s.track.placements else ". Press Space to play."))
