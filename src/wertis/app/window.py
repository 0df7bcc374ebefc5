"""The main window: strip of steps, outline, picture, details, lanes, message strip."""

from pathlib import Path

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent, QKeyEvent
from PySide6.QtWidgets import (
    QAbstractSpinBox,
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QMainWindow,
    QMenu,
    QMessageBox,
    QVBoxLayout,
    QWidget,
)

from wertis.app.desk import Desk
from wertis.app.details import Details
from wertis.app.errands import Errands
from wertis.app.fields import Number
from wertis.app.hands import Hands
from wertis.app.keeping import Keeping, offer
from wertis.app.lanes import Lanes
from wertis.app.measuring import Measuring
from wertis.app.mending import Mending
from wertis.app.menus import build_menus
from wertis.app.outline import Outline
from wertis.app.panes import Panes
from wertis.app.playback import Playback
from wertis.app.session import Session
from wertis.app.showing import Showing
from wertis.app.steady import COMPARED, SteadyViewer
from wertis.app.steps import Steps
from wertis.app.strip import MessageStrip
from wertis.app.transport import Transport
from wertis.app.viewer import Viewer
from wertis.app.work import Work
from wertis.core.check.summary import next_worst, worst_first
from wertis.core.errors import RegionError, WertisError
from wertis.core.jobs.export import export_corner_pin
from wertis.core.jobs.job import Job
from wertis.core.shot import edits, relocate
from wertis.core.shot.document import Placement
from wertis.core.shot.store import SUFFIX

PLATES = "Plates and shots (*.wertis *.png *.jpg *.jpeg *.tif *.tiff *.dpx *.exr *.mov *.mp4 *.mkv *.webm *.avi *.mxf)"


class MainWindow(QMainWindow):
    """Puts the parts together and carries the person's wishes to the session."""

    undo_action: QAction
    redo_action: QAction

    def __init__(self, session: Session | None = None) -> None:
        super().__init__()
        self.desk = Desk(self)
        self.demo_menu = QMenu("Demo shots", self)
        self.recent_menu = QMenu("Opened lately", self)
        self.session = session or Session(self.desk.preferences.memory << 20)
        self.playback = Playback(self.session, self)
        self._build()
        build_menus(self)
        self._connect()
        self.resize(1280, 800)
        self.setAcceptDrops(True)
        self._refresh_all()
        self.say("Open a plate to begin (Ctrl+O), or take a demo shot from the File menu.", False)

    @property
    def job(self) -> Job | None:
        """The long work that runs."""
        return self.errands.job

    # -- parts ----------------------------------------------------------------------------------------------------

    def _build(self) -> None:
        s = self.session
        self.steps, self.viewer, self.outline = Steps(s), Viewer(s), Outline(s)
        self.lanes, self.details = Lanes(s), Details(s)
        self.steady = SteadyViewer(s, self.viewer)
        self.showing = Showing(self)
        self.errands = Errands(self)
        self.measuring = Measuring(s, lambda: self.job is not None or self.showing.dragging, self)
        self.keeping = Keeping(s, self)
        self.hands = Hands(s, self.viewer, self.say)
        self.mending = Mending(self)
        self.outline.setFixedWidth(176)
        middle = QHBoxLayout()
        middle.setContentsMargins(0, 0, 0, 0)
        middle.setSpacing(1)
        middle.addWidget(self.outline)
        self.panes = Panes(lambda: s.plate.size[0] * s.aspect / s.plate.size[1] if s.plate is not None else 16 / 9, self.viewer, self.steady)
        self.steady.hide()
        middle.addWidget(self.panes, 1)
        middle.addWidget(self.details)
        self.transport = Transport(s)
        self.work = Work(lambda: [j for j in (self.job, self.measuring.job) if j is not None], lambda: self.job, self)
        self.strip = MessageStrip(self.work)
        self.words = self.strip.words
        self.strip.stop_wanted.connect(self.errands.stop)
        whole = QVBoxLayout()
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(1)
        whole.addWidget(self.steps)
        whole.addLayout(middle, 1)
        whole.addWidget(self.transport)
        whole.addWidget(self.lanes)
        whole.addWidget(self.strip)
        centre = QWidget()
        centre.setLayout(whole)
        self.setCentralWidget(centre)

    def _connect(self) -> None:
        s = self.session
        s.shot_changed.connect(self._on_shot)
        s.plate_changed.connect(self._on_plate)
        s.frame_changed.connect(lambda _: self._on_frame())
        s.selection_changed.connect(self._on_selection)
        s.step_changed.connect(lambda _: self._on_step())
        s.live_changed.connect(lambda: self.viewer.update())
        s.drift_changed.connect(self._on_drift)
        s.message.connect(self.say)
        s.viewing_changed.connect(self._on_viewing)
        self.steps.picked.connect(s.go_step)
        self.outline.step_wanted.connect(s.go_step)
        self.viewer.zoomed.connect(self.transport.show_zoom)
        self.viewer.hovered.connect(self.transport.show_numbers)
        t = self.transport
        t.play_wanted.connect(self.playback.toggle)
        t.reference_wanted.connect(self.go_reference)
        t.fit_wanted.connect(self.viewer.fit)
        t.graphics_switched.connect(self.showing.frame)
        t.overlays_switched.connect(self._overlays)
        t.frame_typed.connect(self._on_typed)
        for pane in (self.viewer, self.steady):  # after a drag the picture is made at full resolution again
            pane.released.connect(self.showing.frame)
        self.playback.playing_changed.connect(self._on_playing)
        d = self.details
        d.plate.open.clicked.connect(self.choose_open)
        d.region.draw_wanted.connect(self.hands.draw)
        d.region.way_picked.connect(self.hands.draw_as)
        d.region.remove_wanted.connect(self.hands.remove_shape)
        d.region.show_texture.toggled.connect(self._texture)
        d.track.track_wanted.connect(self.errands.track)
        d.track.passers_wanted.connect(self.choose_passers)
        d.track.stop_wanted.connect(self.errands.stop)
        d.check.next_worst_wanted.connect(self.go_next_worst)
        d.check.reference_wanted.connect(self.go_reference)
        d.check.view_changed.connect(self.showing.view)
        d.repair.wanted.connect(self.mending.wish)
        d.use.add_wanted.connect(self.add_placement)
        d.use.reread_wanted.connect(self._reread)
        d.deliver.render_wanted.connect(self.errands.render)
        d.deliver.export_wanted.connect(self.export)
        for number in self.findChildren(Number):
            number.settled.connect(self._settled)
        for kind in (QLineEdit, QAbstractSpinBox):
            for field in self.findChildren(kind):
                field.installEventFilter(self)

    def _settled(self) -> None:
        # a number may come to rest while the hand still drags in a picture: that drag is one step all the same
        if not (self.viewer.holding or self.steady.holding):
            self.session.history.end_merge()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        # single-letter keys belong to a field while it is typed in
        if event.type() == QEvent.Type.ShortcutOverride and isinstance(event, QKeyEvent) and isinstance(watched, QLineEdit | QAbstractSpinBox) \
                and not event.modifiers() & Qt.KeyboardModifier.ControlModifier and event.text():
            event.accept()
            return False
        return super().eventFilter(watched, event)

    # -- what the person wants ------------------------------------------------------------------------------------

    def say(self, text: str, is_error: bool = False) -> None:
        """Show what just happened and what can be done next."""
        self.strip.say(text, is_error)

    def attempt(self, act, *arguments) -> bool:  # type: ignore[no-untyped-def]
        """Do something that may fail; a failure becomes a message. Returns whether it went well."""
        try:
            act(*arguments)
        except WertisError as why:
            self.say(str(why), True)
            return False
        return True

    def open_path(self, path: Path) -> None:
        """Open a shot or a plate, asking about unsaved work first."""
        if self.may_leave() and self.attempt(self.session.open_any, path):
            self.desk.opened(path)
            self._opened()
            self._ask_for_files()

    def _ask_for_files(self) -> None:
        """Ask once where the files of the shot are that were not found below its own folder."""
        missing = relocate.gone(self.session.shot)
        if not missing:
            return
        name = QFileDialog.getExistingDirectory(self, f"Where are {Path(missing[0]).name}" + (f" and {len(missing) - 1} more" if len(missing) > 1 else "")
                                                + "? They are looked for in this folder and below")
        if name and self.attempt(self.session.find_files, Path(name)):
            left = len(relocate.gone(self.session.shot))
            self.say(f"{len(missing) - left} of {len(missing)} files were found again." + (" Choose the others by hand." if left else ""), bool(left))

    def offer_lost(self) -> None:
        """Offer what a crash left behind, if anything."""
        found = offer(self.keeping, self)
        if found is not None:
            self.attempt(self.keeping.take_over, found)

    def _opened(self) -> None:
        self.viewer.setFocus()
        warning = self.keeping.opened()
        if warning:
            self.say(warning, True)

    def choose_open(self) -> None:
        """Ask for a plate or a shot."""
        name, _ = QFileDialog.getOpenFileName(self, "Open a plate or a shot", "", PLATES)
        if name:
            self.open_path(Path(name))

    def choose_folder(self) -> None:
        """Ask for a folder of frames."""
        name = QFileDialog.getExistingDirectory(self, "Open a folder of frames")
        if name:
            self.open_path(Path(name))

    def choose_replacement(self) -> None:
        """Ask for another plate for the same shot."""
        name, _ = QFileDialog.getOpenFileName(self, "Replace the plate", "", PLATES)
        if name:
            self.attempt(self.session.replace_plate, Path(name))

    def save(self) -> bool:
        """Save under the name it has, or ask for one."""
        return self.attempt(self.session.save, self.session.path) if self.session.path else self.save_as()

    def save_as(self) -> bool:
        """Ask for a name and save."""
        start = str(self.session.path or Path.home() / f"{self.session.shot.name}{SUFFIX}")
        name, _ = QFileDialog.getSaveFileName(self, "Save the shot", start, f"Wertis shot (*{SUFFIX})")
        saved = bool(name) and self.attempt(self.session.save, Path(name))
        if saved and self.session.path is not None:
            self.desk.opened(self.session.path)
        return saved

    def undo(self) -> None:
        """Take the last step back."""
        label = self.session.history.undo()
        self.say(f"Undone: {label}." if label else "There is nothing to undo.")

    def redo(self) -> None:
        """Do it again."""
        label = self.session.history.redo()
        self.say(f"Done again: {label}." if label else "There is nothing to do again.")

    def draw_region(self) -> None:
        """Draw the region of a new track."""
        self.hands.draw("track")

    def draw_hold_out(self) -> None:
        """Draw a hold-out under the selected track."""
        self.hands.draw("hold-out")

    def add_placement(self) -> None:
        """Put a placement on the selected track on the frame in view."""
        s = self.session
        track = s.track
        if track is None:
            self.say("There is no surface to place on; draw a region first (N).", True)
            return
        try:
            corners = edits.default_quad(track, s.frame)
        except RegionError as why:
            self.say(str(why), True)
            return
        placement = Placement(frame=s.frame, quad=edits.as_points(corners))
        s.history.do("Place a graphic", edits.add_placement(s.shot, track.id, placement))
        s.select(track.id, placement.id)
        s.go_step("Use")
        self.hands.choose()
        self.say("Drag the corners to where the graphic belongs, then choose what to show on the right."
                 + ("" if track.solved else " Track the surface (T) to carry it."))

    def choose_passers(self) -> None:
        """Ask where to keep the matte of what was distrusted, and make it."""
        start = self.session.path.parent if self.session.path else Path.home()
        name = QFileDialog.getExistingDirectory(self, "A folder for the matte sequence", str(start))
        if name:
            self.errands.passers(Path(name))

    def export(self, name: str) -> None:
        """Export the corner pin of the selected placement."""
        s = self.session
        if s.track is None:
            return
        try:
            count = export_corner_pin(s.shot, s.track, s.placement, Path(name))
        except WertisError as why:
            self.say(str(why), True)
            return
        self.say(f"{count} frames written to {name}.")

    def go_reference(self) -> None:
        """To the frame that counts as right: the one that the selected track is matched to, unless another was chosen to check against."""
        s = self.session
        if s.track is not None:
            s.go(s.base if s.base is not None and s.step == "Check" else s.track.region.frame)

    def go_next_worst(self) -> None:
        """To the frame that drifts most, then to the next."""
        s = self.session
        frame = next_worst(s.drift, s.frame)
        if frame is None:
            self.say("No drift is measured yet." if s.track is not None and s.track.solved is not None and not s.drift
                     else "No frame drifts." if s.drift else "Track a surface first (T).")
            return
        if s.step != "Repair":
            s.go_step("Check")
        s.go(frame)
        place = worst_first(s.drift).index(frame) + 1
        self.say(f"Frame {frame}, number {place} from the worst: {s.drift[frame].worst:.2f} px. W goes to the next, R to the reference frame.")

    def next_panes(self) -> None:
        """From the plate to the steady view to both."""
        box = self.details.check.panes
        box.setCurrentIndex((box.currentIndex() + 1) % box.count())
        self.session.go_step("Check")
        self.showing.view()

    def flip(self) -> None:
        """Show the reference frame in the steady view, or the frame again."""
        box = self.details.check.compared
        box.setCurrentIndex(list(COMPARED).index("none" if box.currentData() == "reference" else "reference"))
        self.session.go_step("Check")
        self.showing.view()

    def escape(self) -> None:
        """Stop what runs, or give up drawing."""
        if self.job is not None:
            self.errands.stop()
        elif self.hands.give_up():
            self.say("Drawing given up.")
        else:
            self.playback.pause()

    # -- following the session ------------------------------------------------------------------------------------

    def _refresh_all(self) -> None:
        self._on_plate()
        self._on_shot()
        self._on_step()

    def _on_shot(self) -> None:
        s = self.session
        self.showing.pictures.set_shot(s.shot)
        name = s.path.name if s.path else s.shot.name
        self.setWindowTitle(f"{'* ' if s.history.unsaved else ''}{name} - Wertis")
        self.undo_action.setText(f"Undo: {s.history.undo_label}" if s.history.undo_label else "Undo")
        self.redo_action.setText(f"Redo: {s.history.redo_label}" if s.history.redo_label else "Redo")
        self.undo_action.setEnabled(bool(s.history.undo_label))
        self.redo_action.setEnabled(bool(s.history.redo_label))
        self.hands.choose()
        self.showing.frame()

    def _on_plate(self) -> None:
        s = self.session
        self.playback.pause()
        self.hands.drawing = ""
        self.showing.pictures.use(s.cache)
        self.showing.pictures.set_shot(s.shot)
        if s.plate is not None:
            self.viewer.set_size(s.plate.size)
        self.viewer.show_picture(None, "")
        self._on_frame()

    def _on_selection(self) -> None:
        self.hands.choose()
        self.viewer.update()

    def _on_step(self) -> None:
        if self.session.step != "Region":
            self.hands.drawing = ""
        self.hands.choose()
        self.showing.view()
        hint = self._hint()
        if hint and self.job is None:
            self.say(hint)

    def _hint(self) -> str:
        """What to do first in the step in hand."""
        s = self.session
        if s.plate is None:
            return ""
        if s.track is None and s.step != "Plate":
            return self.hands.hint()
        tracked = s.track is not None and s.track.solved is not None
        return {
            "Plate": "Step through the plate and find the frame where the surface is largest and sharpest.",
            "Region": self.hands.hint() if self.hands.drawing else
                      "Drag points to move them; double-click a side for a new one; Shift chooses several. N draws another region.",
            "Track": "Space plays the result; go to a frame and track on from there." if tracked else
                     "Track both ways from this frame with Ctrl+T, or forward with T.",
            "Check": "W goes to the worst frame, then to the next; S shows the steady view beside the plate or alone; Q flips to the reference frame."
                     if tracked else "Track the surface first (T); then its drift is measured by itself.",
            "Repair": "W goes to the worst frame; M lets the points find their places, or drag them; Ctrl+M repairs by itself."
                      if tracked else "Track the surface first (T).",
            "Use": "Drag the corners to where the graphic belongs." if s.placement else "Place a graphic on the surface with P.",
            "Deliver": "Choose what to render and where, or export the corner pin.",
        }[s.step]

    def _on_frame(self) -> None:
        self.transport.show_frame()
        self.showing.frame()

    def _on_drift(self) -> None:
        self.viewer.update()
        self.steady.update()

    def _on_viewing(self) -> None:
        self.showing.pictures.look_through(self.session.viewing)
        self.showing.frame()
        self.viewer.update()

    def _on_playing(self, on: bool) -> None:
        self.transport.show_playing(on)
        if not on and self.showing.play_at > 1:
            self.showing.frame()  # at full resolution again

    # -- small things ---------------------------------------------------------------------------------------------

    def _overlays(self, on: bool) -> None:
        self.viewer.overlays = on
        self.viewer.update()

    def _on_typed(self, good: bool) -> None:
        if not good:
            self.say("Type a frame number.", True)
        self.viewer.setFocus()

    def _texture(self, on: bool) -> None:
        self.viewer.texture = on
        self.viewer.update()

    def _reread(self) -> None:
        self.showing.pictures.refresh_files()
        self.showing.frame()
        self.say("The artwork was read again.")

    def _set_range(self, begins: bool) -> None:
        s = self.session
        if s.plate is not None:
            a, b = s.shot.range
            new = (s.frame, max(b, s.frame)) if begins else (min(a, s.frame), s.frame)
            s.history.do("Set the range", s.shot.but(range=new))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        ten = 10 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1
        s = self.session
        if event.key() == Qt.Key.Key_Left:
            s.go(s.frame - ten)
        elif event.key() == Qt.Key.Key_Right:
            s.go(s.frame + ten)
        elif event.key() == Qt.Key.Key_Home:
            s.go(s.shot.range[0])
        elif event.key() == Qt.Key.Key_End:
            s.go(s.shot.range[1])
        else:
            super().keyPressEvent(event)

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        urls = event.mimeData().urls()
        if urls:
            self.open_path(Path(urls[0].toLocalFile()))

    def may_leave(self) -> bool:
        """Ask about unsaved work; whether to go on."""
        if not self.session.history.unsaved or not self.session.shot.tracks:
            return True
        box = QMessageBox(QMessageBox.Icon.Question, "Wertis", f"{self.session.shot.name} has changes that are not saved.", parent=self)
        keep = box.addButton("Save", QMessageBox.ButtonRole.AcceptRole)
        drop = box.addButton("Discard", QMessageBox.ButtonRole.DestructiveRole)
        box.addButton("Cancel", QMessageBox.ButtonRole.RejectRole)
        box.exec()
        return self.save() if box.clickedButton() is keep else box.clickedButton() is drop

    def _may_stop(self) -> bool:
        """Ask about work that is running; whether to go on."""
        if self.job is None:
            return True
        box = QMessageBox(QMessageBox.Icon.Question, "Wertis", f"{self.job.label} is still running.", parent=self)
        box.setInformativeText("What is finished is kept; a render can go on later where it was.")
        stop = box.addButton("Stop it", QMessageBox.ButtonRole.DestructiveRole)
        box.addButton("Go on working", QMessageBox.ButtonRole.RejectRole)
        box.exec()
        return box.clickedButton() is stop

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self._may_stop() or not self.may_leave():
            event.ignore()
            return
        self.errands.stop()
        self.measuring.wait(0)
        self.measuring.stop()
        if self.job is not None:
            self.job.finished.wait(10)
        self.keeping.finish()
        self.showing.pictures.close()
        self.session.close()
        event.accept()
