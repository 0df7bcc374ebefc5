"""The step Deliver: renders and exports."""

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Literal

from PySide6.QtWidgets import QMessageBox

from wertis.app import theme
from wertis.app.commands import Command
from wertis.app.overlay import Line
from wertis.app.step import Step
from wertis.app.steps.deliver.background_render import BackgroundRender, QueueFields
from wertis.app.steps.deliver.columns_dialog import ColumnsDialog
from wertis.app.steps.deliver.page import DeliverPage, alone_id, matte_id
from wertis.app.steps.deliver.proof_window import ProofWindow
from wertis.app.workbench import Workbench
from wertis.core.comp.light import light_words
from wertis.core.errors import WertisError
from wertis.core.exchange.layout import OtherSize
from wertis.core.exchange.motion_json import foreign_table
from wertis.core.jobs.events import Event, Stop
from wertis.core.jobs.export import export_camera, export_corner_pin, export_mesh, export_shapes, import_shapes
from wertis.core.jobs.job import Job
from wertis.core.jobs.matte_render import render_matte
from wertis.core.jobs.motion_export import MAPS, export_motion, write_lens_map, write_maps
from wertis.core.jobs.motion_import import Imported, import_motion
from wertis.core.jobs.prove import Proof, prove, prove_camera, prove_mesh, prove_shapes
from wertis.core.jobs.render import check_target, render
from wertis.core.shot.document import Shot, Track
from wertis.core.shot.items import with_only
from wertis.core.shot.mattes import matte_of
from wertis.core.work.render_queue import RenderQueue
from wertis.core.work.task_list import ExportTask


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
        self.page.mesh_proof_wanted.connect(self.prove_mesh)
        self.page.camera_wanted.connect(self.export_camera)
        self.page.camera_proof_wanted.connect(self.prove_camera)
        self.page.shapes_wanted.connect(self.export_shapes)
        self.page.shapes_proof_wanted.connect(self.prove_shapes)
        self.page.shapes_read.connect(self.read_shapes)
        self.page.motion.export_wanted.connect(self.export_motion)
        self.page.motion.prove_wanted.connect(self.prove)
        self.background = BackgroundRender(RenderQueue(), bench.window)
        self.background.ended.connect(bench.say)
        self.page.queue_place.addWidget(QueueFields(self.background))
        self.background.changed.connect(lambda: self.page.motion.make_room(bool(self.background.entries)))
        self.page.motion.make_room(bool(self.background.entries))
        self.proof: ProofWindow | None = None
        self.page.motion.import_wanted.connect(self.import_motion)

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
        if s.plate is None or s.cache is None or not self.bench.attempt(check_target, pattern):
            return
        if self.page.in_background:
            own, matte = alone_id(what), matte_id(what)
            name = matte_of(s.shot, matte).name if matte else ""
            kind: Literal["comp", "graphic"] = "comp" if what == "comp" else "graphic"
            if self.bench.attempt(lambda: self.background.add(with_only(s.shot, [own]) if own else s.shot, pattern, kind, name)):
                self.bench.say("It is rendered in the background; go on working. The page shows how far it is.")
            return
        if self.bench.work.busy():
            return
        shot, plate, resume = s.shot, s.plate, self.page.resume.isChecked()
        frames = list(range(shot.range[0], shot.range[1] + 1))
        left_out: list[int] = []

        def work(stop: Stop) -> Iterator[Event]:
            matte = matte_id(what)
            if matte:
                events = render_matte(shot, [matte], plate.size, pattern, frames, resume, stop)
            else:
                own = alone_id(what)
                events = render(with_only(shot, [own]) if own else shot, plate, pattern, frames, "graphic" if own else what, resume=resume, stop=stop)
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
        self._export(name, lambda shot, track: export_mesh(shot, track, Path(name), self.page.motion.layout_wanted()))

    def export_camera(self, kind: str, name: str) -> None:
        """Export the solved camera, or one of the maps of its lens."""
        s, path, frames = self.session, Path(name), [0]

        def write() -> None:
            if kind == "camera":
                frames[0] = export_camera(s.shot, path, self.page.motion.layout_wanted())
            else:
                write_lens_map(s.shot, kind, path, self.page.motion.layout_wanted())

        if self.bench.attempt(write):
            self.bench.say(f"The camera of {frames[0]} frames is written to {name}." if kind == "camera" else f"The map is written to {name}.")

    def export_shapes(self, ident: str, name: str) -> None:
        """Export a matte's shapes."""
        frames = [0]

        def write() -> None:
            frames[0] = export_shapes(self.session.shot, matte_of(self.session.shot, ident), Path(name), layout=self.page.motion.layout_wanted())

        if self.bench.attempt(write):
            self.bench.say(f"{frames[0]} frames written to {name}.")

    def read_shapes(self, ident: str, name: str) -> None:
        """Add the shapes of a file to a matte."""
        shot = self.session.shot
        read = self._scaled_if_wanted(lambda scaled: import_shapes(shot, ident, Path(name), scaled))
        if read is not None and self.bench.edit("Read shapes", lambda: read):
            more = len(matte_of(read, ident).shapes) - len(matte_of(shot, ident).shapes)
            self.bench.say(f"{more} {'shape' if more == 1 else 'shapes'} more in {matte_of(read, ident).name}.")

    def _scaled_if_wanted(self, read: Callable[[bool], Shot]) -> Shot | None:
        """What is read, scaled to the plate where the file is of another size and the person wants it; None where it cannot be."""
        try:
            return read(False)
        except OtherSize as why:
            box = QMessageBox(QMessageBox.Icon.Question, "Another size", f"{str(why).split(';')[0]}.", parent=self.bench.window)
            scale = box.addButton("Scale it to the plate", QMessageBox.ButtonRole.AcceptRole)
            box.addButton(QMessageBox.StandardButton.Cancel)
            box.exec()
            if box.clickedButton() is not scale:
                return None
        except WertisError as why:
            self.bench.say(str(why), True)
            return None
        try:
            return read(True)
        except WertisError as why:
            self.bench.say(str(why), True)
            return None

    def export_motion(self, name: str) -> None:
        """Export the motion as the page says."""
        s, fields = self.session, self.page.motion
        track, kind = s.track, fields.kind.currentData()
        if track is None or not self.bench.attempt(fields.layout_wanted):
            return
        layout, reference, repaired, placement = fields.layout_wanted(), int(fields.reference.value()), fields.repaired.isChecked(), fields.placement
        relative = fields.relative_wanted
        if fields.background.isChecked():
            task = ExportTask(what=kind, out=name, track=track.name, placement=placement.name if placement is not None else "", reference=reference,
                              repaired=repaired, relative=relative, **layout.options)
            if self.bench.attempt(lambda: self.background.add_export(s.shot, task)):
                self.bench.say("It is exported in the background; go on working. The page shows how far it is.")
            return
        if kind not in MAPS:
            self._export(name, lambda shot, track: export_motion(shot, track, kind, Path(name), layout, placement, reference=reference, repaired=repaired,
                                                                    relative=relative))
            return
        if self.bench.work.busy():
            return
        shot = s.shot
        frames = shot.range[1] - shot.range[0] + 1
        self.bench.work.begin(Job("Writing maps", frames, lambda stop: write_maps(shot, track, kind, name, layout, reference, stop)),
                              lambda: self.bench.say(f"Maps of {frames} frames are written to {name}."))

    def prove(self) -> None:
        """Let the receiver rebuild frames from what would be exported, and show them beside ours."""
        s, fields = self.session, self.page.motion
        track, placement, plate, cache = s.track, fields.placement, s.plate, s.cache
        if track is None or placement is None or plate is None or cache is None or self.bench.work.busy() or not self.bench.attempt(fields.layout_wanted):
            return
        shot, layout, kind, suffix = s.shot, fields.layout_wanted(), fields.kind.currentData(), fields.format.currentData()
        frames, relative = self._shown_frames(), fields.relative_wanted
        self._prove(f"{placement.name}, {kind} as {suffix[1:].upper()}", frames,
                    lambda stop: prove(shot, track, placement, kind, suffix, layout, plate, frames, None, cache.get, stop, relative))

    def prove_mesh(self, suffix: str) -> None:
        """The same with the mesh of the selected track."""
        s = self.session
        shot, track, placement, plate, cache = s.shot, s.track, s.placement, s.plate, s.cache
        if track is None or placement is None or plate is None or cache is None or self.bench.work.busy():
            return
        frames, layout = self._shown_frames(), self.page.motion.layout_wanted()
        self._prove(f"{placement.name}, mesh as {suffix[1:].upper()}", frames,
                    lambda stop: prove_mesh(shot, track, placement, suffix, plate, frames, layout, cache.get, stop))

    def prove_camera(self, suffix: str) -> None:
        """The same with the solved camera, by the selected track's plane."""
        s = self.session
        shot, track, plate, cache = s.shot, s.track, s.plate, s.cache
        if track is None or plate is None or cache is None or self.bench.work.busy():
            return
        frames, layout = self._shown_frames(), self.page.motion.layout_wanted()
        self._prove(f"{track.name}, camera as {suffix[1:].upper()}", frames,
                    lambda stop: prove_camera(shot, track, suffix, plate, frames, layout, cache.get, stop))

    def prove_shapes(self, ident: str, suffix: str) -> None:
        """The same with a matte's shapes."""
        s = self.session
        shot, plate = s.shot, s.plate
        if plate is None or self.bench.work.busy():
            return
        frames, layout, matte = self._shown_frames(), self.page.motion.layout_wanted(), matte_of(shot, ident)
        self._prove(f"{matte.name}, shapes as {suffix[1:].upper()}", frames, lambda stop: prove_shapes(shot, matte, suffix, plate, frames, layout, stop))

    def _shown_frames(self) -> list[int]:
        low, high = self.session.shot.range
        return sorted({low, (low + high) // 2, high, self.session.frame} & set(range(low, high + 1)))

    def _prove(self, title: str, frames: list[int], work: Callable[[Stop], Iterator[Event]]) -> None:
        """Run a proof, and show what came of it in a window of its own."""
        found: list[Proof] = []

        def step(event: Event) -> None:
            if isinstance(event.item, Proof):
                found.append(event.item)

        def over(job: Job) -> None:
            if job.error or not found:
                self.bench.say(job.error or "Stopped.", bool(job.error))
                return
            proof = found[0]
            if self.proof is not None:
                self.proof.deleteLater()
            self.proof = ProofWindow(self.bench.window, proof, title)
            self.proof.show()
            worst = max((f.corners for f in proof.frames), default=0.0)
            self.bench.say(proof.wrong or f"It arrives: within {worst:.4f} px on {len(proof.frames)} frames.", bool(proof.wrong))

        self.bench.work.begin(Job("Proving the export", len(frames), work), event=step, ended=over)

    def import_motion(self, name: str) -> None:
        """Add a track whose motion was made elsewhere."""
        s = self.session
        found: list[Imported] = []
        columns: list[str] = []
        try:
            rows = foreign_table(Path(name)) if Path(name).suffix.lower() == ".csv" else []
        except WertisError as why:
            self.bench.say(str(why), True)
            return
        if rows:
            asked = ColumnsDialog(Path(name).name, rows, self.bench.window)
            if not asked.exec():
                return
            columns = asked.columns()

        def made(scaled: bool, retime: bool = False) -> Shot:
            found.append(import_motion(s.shot, Path(name), self.page.motion.layout_wanted(), Path(name).stem if columns else "", columns, scaled,
                                       retime=retime))
            return found[-1].shot

        shot = self._scaled_if_wanted(made)
        if shot is not None and found[-1].other_rate is not None and s.plate is not None:
            box = QMessageBox(QMessageBox.Icon.Question, "Another frame rate",
                              f"It was made at {found[-1].other_rate:g} frames a second, and the plate has {s.plate.fps:g}.", parent=self.bench.window)
            keep = box.addButton("Frame by frame", QMessageBox.ButtonRole.RejectRole)
            bring = box.addButton("At the plate's rate", QMessageBox.ButtonRole.AcceptRole)
            box.setDefaultButton(keep)
            box.exec()
            if box.clickedButton() is bring:
                shot = self._scaled_if_wanted(lambda _: made(True, True))
        if shot is not None and self.bench.edit("Import motion", lambda: shot):
            track = found[-1].track
            if track is not None:
                s.select(track.id)
            self.bench.say(f"{track.name} has its motion from {Path(name).name} ({found[-1].words}); place a graphic on it in the step Use."
                           if track is not None else f"{found[-1].words.capitalize()}; choose Camera in the step Track to put surfaces on its planes.")

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
