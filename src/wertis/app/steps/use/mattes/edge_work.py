"""The measured edge of a matte in the window: measuring it, going to the worst frame, and fitting to it."""

from collections.abc import Collection, Iterator, Mapping

import numpy as np

from wertis.app.pages import stretches
from wertis.app.steps.use.mattes.fields import MatteFields
from wertis.app.workbench import Workbench
from wertis.core.blas import single_threaded
from wertis.core.errors import WertisError
from wertis.core.jobs.events import Event, Stop
from wertis.core.jobs.job import Job
from wertis.core.jobs.matte_edge import EdgeMeasure, measure_edges
from wertis.core.jobs.matte_fit import fit_matte, repair_matte, snap_points
from wertis.core.shot.document import Shot
from wertis.core.shot.mattes import Matte

_ENOUGH = 0.3  # share of an outline along which the edge must be told for a frame to be the worst
_WORTH_SAYING = 0.1  # part of an outline
_LISTED = 3  # stretches of frames that the strip lists


class EdgeWork:
    """Measures and fits the selected matte's edge.

    Attributes
    ----------
    measured : frame to a shape's id to how far its outline is from the edge, of the matte as it was then.
    """

    def __init__(self, bench: Workbench, fields: MatteFields) -> None:
        self.bench, self.session, self.fields = bench, bench.session, fields
        self.measured: dict[int, dict[str, EdgeMeasure]] = {}
        self._of: Matte | None = None
        self._result: Shot | None = None
        fields.edge.words = self.words

    def holds(self, matte: Matte | None) -> bool:
        """Whether what was measured is that of the matte as it is."""
        return matte is not None and self._of == matte

    def here(self, matte: Matte | None, shape_id: str) -> EdgeMeasure | None:
        """What was measured of a shape on the frame in view."""
        return self.measured.get(self.session.frame, {}).get(shape_id) if self.holds(matte) else None

    def by_frame(self) -> dict[int, float]:
        """Frame to how far the worst of the shapes is off (rms), where that could be told; empty where nothing holds any more."""
        if not self.holds(self.fields.matte):
            return {}
        found = {f: max((m.rms for m in on.values() if np.isfinite(m.rms) and m.reliable >= _ENOUGH), default=np.nan) for f, on in self.measured.items()}
        return {f: float(v) for f, v in found.items() if np.isfinite(v)}

    def words(self) -> str:
        """How far the outline is off on the frame in view, as far as that was measured and still holds."""
        if not self.holds(self.fields.matte) or not self.measured:
            return ""
        shapes = self.fields.matte.shapes if self.fields.matte is not None else ()
        names = {shape.id: f"{shape.name}: " for shape in shapes if len(shapes) > 1}
        words = [names.get(ident, "") + (m.reason or said_of(m)) for ident, m in self.measured.get(self.session.frame, {}).items()]
        worst = self.worst()
        if worst:
            words.append(f"worst {worst[0]:.2f} px on {worst[1]}")
        return "\n".join(words)

    def worst(self) -> tuple[float, int] | None:
        """By how much the outline is off on the frame where it is most, and that frame."""
        found = [(v, f) for f, v in self.by_frame().items()]
        return max(found, key=lambda x: (x[0], -x[1])) if found else None

    def measure(self, matte: Matte) -> None:
        """Measure over the shot's range."""
        s = self.session
        plate, cache, shot, reach = s.plate, s.cache, s.shot, self.fields.edge.reach.value()
        if plate is None or cache is None or self.bench.work.busy():
            return
        frames, read = list(range(shot.range[0], shot.range[1] + 1)), cache.get
        self.measured, self._of = {}, matte

        def work(stop: Stop) -> Iterator[Event]:
            with single_threaded():
                yield from measure_edges(shot, matte.id, plate, frames, reach, read=read, stop=stop)

        def step(event: Event) -> None:
            assert event.frame is not None
            self.measured[event.frame] = event.item
            self.bench.say(f"Measuring the edge, frame {event.frame}.")

        def over(job: Job) -> None:
            worst = self.worst()
            self.fields.show_state()
            self.session.drift_changed.emit()  # views and lanes show it
            if job.error:
                self.bench.say(job.error, True)
            else:
                self.bench.say(f"The outline is farthest from the edge on frame {worst[1]}, by {worst[0]:.2f} px (rms)." if worst
                               else "The edge could be told on no frame.", not worst)

        self.bench.work.begin(Job("Measuring the edge", len(frames), work), event=step, ended=over)

    def go_worst(self) -> None:
        """Go to the frame on which the outline is farthest off."""
        worst = self.worst()
        if worst is None:
            self.bench.say("The edge is not measured, or the matte has changed since; measure it first.")
        else:
            self.session.go(worst[1])

    def snap(self, matte: Matte) -> None:
        """Move the chosen points to the edge, on the frame in view."""
        s, chosen = self.session, {k: v for k, v in self.fields.hand.chosen.items() if v}
        plate, cache = s.plate, s.cache
        if plate is None or cache is None or not chosen:
            self.bench.say("Choose points first: click one, or Shift-drag a box round several.")
            return
        try:
            with single_threaded():
                after, moved = snap_points(s.shot, matte.id, plate, s.frame, chosen, self.fields.edge.reach.value(), cache.get)
        except WertisError as why:
            self.bench.say(str(why), True)
            return
        if moved:
            s.history.do("Points to the edge", after)
        left = sum(map(len, chosen.values())) - moved
        self.bench.say(f"{moved} point{'s' * (moved != 1)} moved to the edge{f'; at {left} it cannot be told' if left else ''}.", not moved)

    def fit(self, what: str, matte: Matte) -> None:
        """Fit to the edge: "fit" on the frame in view, "fit-all" on all without a key, "repair" by as few keys as bring it under the limit."""
        s = self.session
        plate, cache, shot = s.plate, s.cache, s.shot
        if plate is None or cache is None or self.bench.work.busy():
            return
        low, high = shot.range
        frames = [s.frame] if what == "fit" else list(range(low, high + 1))
        keyed = set.intersection(*(set(x.keys) for x in matte.shapes)) if what == "fit-all" else set()
        frames = [f for f in frames if f not in keyed]
        limit, reach = self.fields.edge.limit.value(), self.fields.edge.reach.value()
        self._result = None
        self.bench.playback.pause()

        def work(stop: Stop) -> Iterator[Event]:
            with single_threaded():
                if what == "repair":
                    yield from repair_matte(shot, matte.id, plate, frames, limit, reach, read=cache.get, stop=stop)
                else:
                    yield from fit_matte(shot, matte.id, plate, frames, reach, read=cache.get, stop=stop)

        left: dict[str, set[int]] = {}  # why an outline was left, and on which frames

        def step(event: Event) -> None:
            if isinstance(event.item, Shot):
                self._result = event.item
            elif "was left" in event.note and event.frame is not None:
                left.setdefault(event.note, set()).add(event.frame)
            if event.note:
                self.bench.say(f"Fitting to the edge: {event.note}.")

        def over(job: Job) -> None:
            after, self._result = self._result, None
            if job.error:
                self.bench.say(job.error, True)
            elif after is None or job.stopped:
                self.bench.say("Stopped; nothing was changed.")
            elif after == shot:
                self.bench.say(f"{said_left(left)}." if left else "The outline lies on the edge as it is.", bool(left))
            else:
                self.session.history.do("Fit to the edge", after)
                self.bench.say(f"Fitted to the edge. {said_left(left)}." if left else "Fitted to the edge. Each is a key that can be changed.")

        self.bench.work.begin(Job("Fitting to the edge", len(frames) * (2 if what == "repair" else len(matte.shapes)), work), event=step, ended=over)


def said_left(left: Mapping[str, Collection[int]]) -> str:
    """On which frames outlines were left as they were, and the commonest reason."""
    most = max(left, key=lambda note: len(left[note]))
    frames = {f for each in left.values() for f in each}
    listed = stretches(frames, _LISTED)
    where = f"on {len(frames)} frames ({listed})" if len(frames) > 1 else f"on frame {listed}"
    return f"{most}, {where}" if len(left) == 1 else f"Outlines were left {where}, mostly since {most.partition(' was left: ')[2]}"


def said_of(measure: EdgeMeasure) -> str:
    """How far an outline is off, how much of its edge that is known of, and how much more a fit can follow."""
    told = f"edge off by {measure.rms:.2f} px, {measure.reliable:.0%} of it told" if measure.reliable else "the edge cannot be told here"
    smeared = measure.usable - measure.reliable
    return f"{told}; a fit can follow {smeared:.0%} more, which is smeared" if smeared >= _WORTH_SAYING else told
