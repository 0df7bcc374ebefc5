"""Patches in the step Use: what is asked for of the selected one, and the brush in hand."""

import contextlib
import threading
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
from PySide6.QtGui import QGuiApplication, QImage, QPainter
from PySide6.QtWidgets import QFileDialog, QInputDialog

from wertis.app import theme
from wertis.app.pages import few
from wertis.app.painting import outline
from wertis.app.picture_view import PictureView
from wertis.app.steps.use.patches.fields import PatchFields
from wertis.app.steps.use.patches.flat_window import FlatWindow
from wertis.app.steps.use.patches.live_stroke import LiveStroke
from wertis.app.steps.use.patches.tool import PaintTool
from wertis.app.workbench import Workbench
from wertis.core.blas import single_threaded
from wertis.core.comp.patch_pictures import PatchPictures
from wertis.core.errors import WertisError
from wertis.core.exchange.pictures import write_picture
from wertis.core.geometry import homography
from wertis.core.jobs.clean_plate import join_clean_plate
from wertis.core.jobs.events import Event, Stop
from wertis.core.jobs.flicker import Flicker, measure_flicker, worst_first
from wertis.core.jobs.job import Job
from wertis.core.jobs.matching import match_placement, patch_parts
from wertis.core.jobs.patch_files import read_back, write_flat, write_mask, write_series
from wertis.core.jobs.patch_frames import proposed_frames
from wertis.core.plate import colour
from wertis.core.plate.base import from_float
from wertis.core.plate.sequence import sequences_in
from wertis.core.shot import patches
from wertis.core.shot.document import Shot
from wertis.core.shot.edits import carry, track_of
from wertis.core.shot.patches import COPYING, Patch, Stroke

_FLAT = "Flat pictures (*.exr *.tif *.tiff *.png)"


class PatchPart:
    """What the step does for patches."""

    def __init__(self, bench: Workbench, fields: PatchFields) -> None:
        self.bench, self.session, self.fields = bench, bench.session, fields
        self.pictures = PatchPictures(stand_in=True)
        self.live: LiveStroke | None = None
        self._warming = threading.Thread()
        self.offset: np.ndarray | None = None  # from a painted place to the one copied, kept while strokes are aligned
        self.flicker: dict[int, Flicker] = {}
        self._gone_to: list[int] = []
        self.flat_window: FlatWindow | None = None
        fields.wanted.connect(self.asked)
        fields.brush_changed.connect(self._brush)

    @property
    def patch(self) -> Patch | None:
        """The selected patch."""
        return self.fields.patch

    @property
    def painting(self) -> bool:
        """Whether a brush is in hand."""
        return self.patch is not None and bool(self.fields.kind)

    def _brush(self) -> None:
        """Take the brush, and show the steady view beside the plate while one is in hand."""
        self.bench.choose_tool()
        patch, shot, frame = self.patch, self.session.shot, self.session.frame
        if self.painting and patch is not None:  # so that the first stroke need not wait for it
            self._warming = threading.Thread(target=self._warm, args=(shot, patch, frame), name="wertis-flat", daemon=True)
            self._warming.start()
        self.bench.show_panes()

    def _warm(self, shot: Shot, patch: Patch, frame: int) -> None:
        """Make the flat picture ready; what goes wrong is told when it is painted on."""
        with contextlib.suppress(WertisError):
            self.pictures.kept_canvas(shot, patch, frame)

    def add(self, whole: bool = False) -> None:
        """Take a patch out of the frame in view."""
        s, track = self.session, self.session.track
        if track is None or s.plate is None:
            self.bench.say("There is no surface to take a patch of; draw a region first (N).", True)
            return
        added: list[Patch] = []

        def made() -> Shot:
            shot, patch = patches.add_patch(s.shot, track, s.frame, whole=whole)
            added.append(patch)
            return shot

        if self.bench.edit("Take out a patch", made):
            s.select(track.id, added[0].id)
            best = "" if track.solution is None else " Best frames names the frames where the surface is seen best."
            self.bench.say(f"The patch is taken from frame {s.frame}. Join a clean plate, or choose a brush.{best}")

    def paint(self, painter: QPainter, view: PictureView) -> None:
        """The selected patch's outline."""
        patch = self.patch
        corners = patches.corners_on(self.session.shot, patch, self.session.frame) if patch is not None else None
        if corners is not None and np.isfinite(drawn := view.to_screen(corners)).all():
            outline(painter, drawn, theme.PAPER, 1.2)

    def words(self) -> str:
        """What is in hand, over the picture."""
        patch = self.patch
        if patch is None:
            return ""
        share = patch.share(self.session.frame)
        shown = "" if share == 1 else f", {share:.0%} of it shows here" if share else ", not shown on this frame"
        problem = self.pictures.problems.get(patch.id, "")
        return f"{patch.name}: taken from frame {patch.frame}, {patch.size[0]} x {patch.size[1]} px{shown}" + (f"; {problem}" if problem else "")

    # -- painting -------------------------------------------------------------------------------------------------

    def tool(self) -> PaintTool:
        """The brush."""
        f = self.fields
        return PaintTool(self._flat, self._back, lambda: float(f.radius.value()), lambda: self.bench.viewer.pressure, self._begin, self._go_on, self._end,
                         self._set_source, lambda by: f.radius.setValue(f.radius.value() * by), self._copied_from, lambda: f.kind == "fill")

    def _flat(self, points: np.ndarray) -> np.ndarray | None:
        patch = self.patch
        return patches.to_flat(self.session.shot, patch, points, self.session.frame) if patch is not None else None

    def _back(self, points: np.ndarray) -> np.ndarray | None:
        s, patch = self.session, self.patch
        if patch is None:
            return None
        return carry(s.shot.track(patch.on), homography.apply(patch.from_flat, points), patch.frame, s.frame)

    def _set_source(self, place: np.ndarray) -> None:
        self.fields.source, self.offset = (float(place[0]), float(place[1])), None
        self.bench.say("Copied from there; paint where it goes.")

    def _copied_from(self, pointer: np.ndarray) -> np.ndarray | None:
        if self.fields.kind not in COPYING or self.fields.source is None:
            return None
        return pointer + self.offset if self.offset is not None else np.array(self.fields.source)

    def _begin(self, start: np.ndarray) -> bool:
        s, f, patch = self.session, self.fields, self.patch
        if patch is None or patch.locked:
            self.bench.say(f"{patch.name} is locked; unlock it in the outline to paint on it." if patch is not None else "Select a patch first.", True)
            return False
        if f.kind in COPYING:
            if f.source is None:
                self.bench.say("Press Ctrl and click where is to be copied from.", True)
                return False
            if self.offset is None or not f.aligned.isChecked():
                self.offset = np.round(np.array(f.source) - start[0, :2])
        if f.kind != "fill" and self.bench.viewer.picture is not None:
            self.bench.attempt(self._begin_live, s.shot, patch, start)
        return True

    def _begin_live(self, shot: Shot, patch: Patch, start: np.ndarray) -> None:
        viewer = self.bench.viewer
        assert viewer.picture is not None
        picture = viewer.picture.copy()
        self.live = LiveStroke(shot, patch, self.session.frame, self.pictures, picture, self.session.viewing, self._stroke(start))
        self.live.add(start)
        self._show_live()

    def _go_on(self, piece: np.ndarray) -> None:
        if self.live is not None:
            self.live.add(piece)
            self._show_live()

    def _show_live(self) -> None:
        viewer, s = self.bench.viewer, self.session
        if self.live is not None and s.plate is not None:
            viewer.show_picture(self.live.picture, "", s.plate.size)

    def _end(self, points: np.ndarray) -> None:
        s, patch = self.session, self.patch
        self.live = None
        if patch is None or (self.fields.kind == "fill" and len(points) < 3):
            return
        stroke = self._stroke(points)

        def made() -> Shot:
            return patches.add_stroke(s.shot, patch.id, self.pictures.with_fill(s.shot, patch, stroke))

        if self.bench.edit(f"Paint: {stroke.kind}", made):
            self.fields.strokes.setCurrentRow(-1)
            self.fields.show_state()

    def _stroke(self, points: np.ndarray) -> Stroke:
        f = self.fields
        ink = f.colour
        offset = (float(self.offset[0]), float(self.offset[1])) if self.offset is not None and f.kind in COPYING else (0.0, 0.0)
        source = self.session.frame if f.kind in COPYING and f.from_frame.isChecked() else None
        tone = 2.0 if f.kind == "tone" else 1.0  # middle grey leaves a picture as it is
        return Stroke(kind=f.kind, points=np.ascontiguousarray(points, np.float64), radius=f.radius.value(), hardness=f.hardness.value() / 100,  # type: ignore[arg-type]
                      opacity=f.opacity.value() / 100, colour=(tone * ink.redF(), tone * ink.greenF(), tone * ink.blueF()), offset=offset, source=source,
                      turn=f.turn.value(), scale=f.scale.value() / 100, amount=f.amount.value())

    # -- what takes longer ----------------------------------------------------------------------------------------

    def asked(self, what: str) -> None:
        """Do what the page asks for."""
        acts: dict[str, Callable[[Patch], object]] = {
            "clean": self._clean, "match": self._match, "flicker": self._measure, "worst": self._worst, "propose": self._propose, "retake": self._retake,
            "write": self._write, "series": self._series, "read": self._read, "copy": self._copy, "paste": self._paste,
            "again": self._fill_again, "flat": self._show_flat, "mask": self._write_mask}
        patch = self.patch
        if patch is None:
            self.bench.say("Select a patch first.", True)
        else:
            self.bench.attempt(acts[what], patch)

    def _run(self, label: str, total: int, work: Callable[[Stop], Iterator[Event]], done: Callable[[object, str], object]) -> None:
        """Long work whose last event's item is its result."""
        if self.bench.work.busy():
            return
        last: list[Event] = []

        def run(stop: Stop) -> Iterator[Event]:
            with single_threaded():
                yield from work(stop)

        def step(event: Event) -> None:
            last[:] = [event]
            self.bench.say(f"{label}: {event.note}." if event.note else f"{label}.")

        def over(job: Job) -> None:
            if job.error or job.stopped or not last or last[0].item is None:
                self.bench.say(job.error or "Stopped; nothing was changed.", bool(job.error))
            else:
                done(last[0].item, last[0].note)

        self.bench.work.begin(Job(label, total, run), event=step, ended=over)

    def _show_flat(self, patch: Patch) -> None:
        """Show the flat picture alone, in a window of its own."""
        if self.flat_window is None:
            self.flat_window = FlatWindow(self.bench, self.pictures, lambda: self.patch)
        self.flat_window.show()
        self.flat_window.raise_()
        self.flat_window.refresh()

    def _frames(self) -> int:
        low, high = self.session.shot.range
        return high - low + 1

    def _fill_again(self, patch: Patch) -> None:
        """Fill the chosen hole another way."""
        s, stroke = self.session, self.fields.stroke
        if stroke is None or stroke.kind != "fill":
            raise WertisError("Choose a fill among the strokes first.")
        other = self.pictures.with_fill(s.shot, patch, stroke.but(seed=stroke.seed + 1))
        s.history.do("Fill another way", patches.set_stroke(s.shot, patch.id, stroke.id, seed=other.seed, made=other.made))
        self.fields.show_state()

    def _clean(self, patch: Patch) -> None:
        s = self.session
        plate, cache, shot = s.plate, s.cache, s.shot
        assert plate is not None and cache is not None

        def done(result: object, note: str) -> None:
            assert isinstance(result, Shot)
            s.history.do("Join a clean plate", result)
            self.fields.show_state()
            self.bench.say(f"The clean plate is {note}. Give back says where it is laid on.")

        self._run("Joining a clean plate", 3 * self._frames(), lambda stop: join_clean_plate(shot, patch.id, plate, cache.get, stop), done)

    def _match(self, patch: Patch) -> None:
        s = self.session
        plate, cache, shot = s.plate, s.cache, s.shot
        assert plate is not None and cache is not None
        parts = patch_parts(patch)

        def done(result: object, note: str) -> None:
            assert isinstance(result, Shot)
            s.history.do("Match the patch", result)
            self.fields.show_state()
            self.bench.say("The patch is matched to each frame.")

        self._run("Matching the patch", len(parts) + self._frames(), lambda stop: match_placement(shot, patch.id, plate, parts, cache.get, stop), done)

    def _measure(self, patch: Patch) -> None:
        s = self.session
        plate, cache, shot = s.plate, s.cache, s.shot
        assert plate is not None and cache is not None

        def done(result: object, note: str) -> None:
            assert isinstance(result, dict)
            self.flicker, self._gone_to = result, []
            worst = worst_first(result)
            if worst:
                mean = float(np.mean([v.mean for v in result.values()]))
                self.fields.flicker.setText(f"Worst: {result[worst[0]].worst:.1f} / 255 on frame {worst[0]}; mean {mean:.1f}.")
            self.bench.say("The border is measured." if worst else "Nothing of the patch's border is seen on two frames after each other.")

        self._run("Measuring the border", self._frames(), lambda stop: measure_flicker(shot, patch.id, plate, cache.get, stop), done)

    def _worst(self, patch: Patch) -> None:
        left = [f for f in worst_first(self.flicker) if all(abs(f - g) > 1 for g in self._gone_to)]
        if not left:
            self._gone_to = []
            words = "Those were the worst frames; the next press begins again." if self.flicker else "Measure the border first."
            self.bench.say(words, not self.flicker)
            return
        self._gone_to.append(left[0])
        self.session.go(left[0])
        self.bench.say(f"Frame {left[0]}: the border jumps by {self.flicker[left[0]].worst:.1f} / 255 from the frame before.")

    def _propose(self, patch: Patch) -> None:
        s = self.session
        assert s.plate is not None
        found = proposed_frames(s.shot, track_of(s.shot, patch.on), s.plate)
        if not found:
            self.bench.say("The surface is wholly in the picture on no tracked frame.", True)
            return
        s.go(found[0].frame)
        then = few([f.frame for f in found[1:4]])
        self.bench.say(f"Seen best on frame {found[0].frame}; then {then}. Take from here takes the patch out of the frame in view.")

    def _retake(self, patch: Patch) -> None:
        s = self.session
        s.history.do("Take the patch out of another frame", patches.retake(s.shot, patch.id, s.frame))
        self.fields.show_state()
        self.bench.say(f"The patch is taken from frame {s.frame}; it stays where it is.")

    # -- files ----------------------------------------------------------------------------------------------------

    def _write(self, patch: Patch) -> None:
        name, _ = QFileDialog.getSaveFileName(self.fields, "Save the flat picture", f"{patch.name}.exr", _FLAT)
        if name:
            self.write(Path(name))

    def write(self, path: Path) -> None:
        """Write the flat picture."""
        patch = self.patch
        assert patch is not None
        w, h = write_flat(self.session.shot, patch, path)
        beside = path.with_suffix(".json").name
        self.bench.say(f"{path.name} is written, {w} x {h} pixels; {beside} says where it lies. Paint it, then Read painted picture.")

    def _write_mask(self, patch: Patch) -> None:
        name, _ = QFileDialog.getSaveFileName(self.fields, "Save its mask", f"{patch.name}_mask.png", _FLAT)
        if name:
            w, h = write_mask(self.session.shot, patch, Path(name))
            self.bench.say(f"{Path(name).name} is written, {w} x {h} pixels.")

    def _series(self, patch: Patch) -> None:
        name, _ = QFileDialog.getSaveFileName(self.fields, "Save every frame flat", "flat.####.exr", _FLAT)
        s = self.session
        plate, cache, shot = s.plate, s.cache, s.shot
        if not name or plate is None or cache is None:
            return

        def done(left: object, note: str) -> None:
            assert isinstance(left, dict)
            self.bench.say(f"{self._frames() - len(left)} frames are written flat." + (f" Left out: {few(sorted(left))}." if left else ""), bool(left))

        self._run("Writing frames flat", self._frames(), lambda stop: write_series(shot, patch, plate, name, cache.get, stop), done)

    def _read(self, patch: Patch) -> None:
        name, _ = QFileDialog.getOpenFileName(self.fields, "Read what was painted", patch.path, _FLAT)
        if not name:
            return
        path = Path(name)
        of = next((p for p, files in sequences_in(path.parent).items() if path in files.values() and len(files) > 1), None)
        if of is not None:
            words = [f"{path.name} alone, on all frames", f"{of}, each on its own frame"]
            chosen, good = QInputDialog.getItem(self.bench.window, "One of a sequence", "The picture is one of several. Take", words, 1, False)
            if not good:
                return
            path = path.with_name(of) if chosen == words[1] else path
        self.read(path)

    def read(self, path: Path) -> None:
        """Take what was painted in a file, or in a sequence (####)."""
        s, patch = self.session, self.patch
        assert patch is not None
        s.history.do("Read the painted picture", read_back(s.shot, patch.id, str(path)))
        self.pictures.forget()
        self.fields.show_state()
        self.bench.say(f"{path.name} is on the patch; when it is saved again it is read again.")

    def _copy(self, patch: Patch) -> None:
        pixels = self.pictures.canvas(self.session.shot, patch, self.session.frame).pixels
        seen = np.ascontiguousarray(colour.shown(from_float(pixels, np.uint16)))
        h, w = seen.shape[:2]
        QGuiApplication.clipboard().setImage(QImage(seen.data, w, h, 3 * w, QImage.Format.Format_RGB888).copy())
        self.bench.say("The flat picture is on the clipboard, with 8 bits as a display shows it.")

    def _paste(self, patch: Patch) -> None:
        image = QGuiApplication.clipboard().image().convertToFormat(QImage.Format.Format_RGB888)
        if image.isNull():
            raise WertisError("There is no picture on the clipboard; copy one there first.")
        w, h = image.width(), image.height()
        pixels = np.frombuffer(image.constBits(), np.uint8).reshape(h, image.bytesPerLine())[:, :3 * w].reshape(h, w, 3)
        folder = (self.session.path.parent if self.session.path is not None else Path.home()) / "patches"
        folder.mkdir(parents=True, exist_ok=True)
        path = next(p for k in range(1, 10000) if not (p := folder / f"{patch.name} {k}.png").exists())
        write_picture(path, pixels)
        self.read(path)
