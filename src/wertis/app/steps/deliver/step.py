"""The step Deliver: renders and exports."""

from collections.abc import Callable, Iterator
from pathlib import Path

from wertis.app import theme
from wertis.app.commands import Command
from wertis.app.overlay import Line
from wertis.app.step import Step
from wertis.app.steps.deliver.page import DeliverPage, matte_id
from wertis.app.workbench import Workbench
from wertis.core.comp.light import light_words
from wertis.core.errors import WertisError
from wertis.core.jobs.events import Event, Stop
from wertis.core.jobs.export import export_corner_pin, export_mesh
from wertis.core.jobs.job import Job
from wertis.core.jobs.matte_render import render_matte
from wertis.core.jobs.render import check_target, render
from wertis.core.shot.document import Shot, Track


class DeliverStep(Step):
    """Rendering and exporting."""

    name, order = "Deliver", 70
    page: DeliverPage

    def __init__(self, bench: Workbench) -> None:
        super().__init__(bench)
        self.page = DeliverPage(self.session)
        self.page.render_wanted.connect(self.render)
        self.page.export_wanted.connect(self.export)
        self.page.mesh_wanted.connect(self.export_mesh)

    def commands(self) -> list[Command]:
        return [Command("deliver.render", "Deliver", "Render", self._press_render, "Ctrl+R")]

    def words(self) -> str:
        s = self.session
        return "ready" if s.track is not None and s.track.solution is not None and s.shot.placements(s.track_id) else ""

    def hint(self) -> str:
        return "Choose what to render and where, or export the motion."

    def captions(self) -> list[Line]:
        words = light_words(self.session.shot)
        return [(f"Graphics are {words}", theme.QUIET)] if words else []

    def _press_render(self) -> None:
        self.page.catch_up()
        self.page.render_button.click()

    def render(self, what: str, pattern: str) -> None:
        """Render the range to files."""
        s = self.session
        if s.plate is None or s.cache is None or self.bench.work.busy() or not self.bench.attempt(check_target, pattern):
            return
        shot, plate, resume = s.shot, s.plate, self.page.resume.isChecked()
        frames = list(range(shot.range[0], shot.range[1] + 1))
        left_out: list[int] = []

        def work(stop: Stop) -> Iterator[Event]:
            matte = matte_id(what)
            events = render_matte(shot, [matte], plate.size, pattern, frames, resume, stop) if matte else \
                render(shot, plate, pattern, frames, what, resume=resume, stop=stop)
            for event in events:
                if event.note and event.frame is not None:
                    left_out.append(event.frame)
                yield event

        def rendered() -> None:
            words = f"Rendered {len(frames)} frames to {pattern}."
            if left_out:
                missing = ", ".join(map(str, left_out[:5])) + ("..." if len(left_out) > 5 else "")
                words += (f" Nothing could be made on {len(left_out)} of them ({missing})." if matte_id(what) else
                          f" The plate lacks {len(left_out)} of them ({missing}): left out of a sequence, held in a movie.")
            self.bench.say(words, bool(left_out))

        self.bench.work.begin(Job("Rendering", len(frames), work), rendered)

    def export(self, name: str) -> None:
        """Export the corner pin of the selected placement."""
        placement = self.session.placement
        self._export(name, lambda shot, track: export_corner_pin(shot, track, placement, Path(name)))

    def export_mesh(self, name: str) -> None:
        """Export the mesh of the selected track."""
        self._export(name, lambda shot, track: export_mesh(shot, track, Path(name)))

    def _export(self, name: str, write: Callable[[Shot, Track], int]) -> None:
        s = self.session
        if s.track is None:
            return
        try:
            count = write(s.shot, s.track)
        except WertisError as why:
            self.bench.say(str(why), True)
            return
        self.bench.say(f"{count} frames written to {name}.")
