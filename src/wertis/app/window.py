"""The main window: strip of steps, outline, picture, details, lanes, message strip. It puts the parts together; what each does is its own."""

from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QKeyEvent, QShowEvent
from PySide6.QtWidgets import QAbstractSpinBox, QFileDialog, QHBoxLayout, QInputDialog, QLineEdit, QMainWindow, QMenu, QMessageBox, QVBoxLayout, QWidget

from wertis.app.autosaver import Autosaver, offer
from wertis.app.commands import Command, Menus
from wertis.app.demo_shots import DemoShots
from wertis.app.details import Details
from wertis.app.dialogs import AboutDialog, GuideDialog
from wertis.app.display import Display
from wertis.app.drift_worker import DriftWorker
from wertis.app.fields import Number
from wertis.app.lanes import Lanes
from wertis.app.long_work import LongWork
from wertis.app.mattes import MatteReader
from wertis.app.outline import Outline
from wertis.app.panes import Panes
from wertis.app.plate_comparison import WORDS as COMPARISONS
from wertis.app.playback import Playback
from wertis.app.session import Session
from wertis.app.steady import SteadyViewer
from wertis.app.step_bar import StepBar
from wertis.app.steps import all_steps
from wertis.app.strip import MessageStrip
from wertis.app.theme import styled_when_whole
from wertis.app.transport import Transport
from wertis.app.user_settings import UserSettings
from wertis.app.viewer import Viewer
from wertis.app.watcher import Watcher
from wertis.app.work import Work
from wertis.app.workbench import Workbench
from wertis.core.jobs.job import Job
from wertis.core.shot import relocate
from wertis.core.shot.store import SUFFIX

PLATES = "Plates and shots (*.wertis *.png *.jpg *.jpeg *.tif *.tiff *.dpx *.exr *.mov *.mp4 *.mkv *.webm *.avi *.mxf)"
_WIDTH, _HEIGHT = 1280, 800  # pixels that the window takes where the desktop leaves them


class MainWindow(QMainWindow):
    """Puts the parts together and carries the person's wishes to the session.

    Attributes
    ----------
    bench : what the steps work with.
    steps : the steps by their names.
    """

    def __init__(self, session: Session | None = None) -> None:
        super().__init__()
        self.settings = UserSettings(self, self.attempt)
        kinds = all_steps()
        self.session = session or Session(self.settings.preferences.memory << 20, kinds[0].name)
        with styled_when_whole():
            self._build()
            self.steps = {kind.name: kind(self.bench) for kind in kinds}
            self._put_in_place()
            self.menus = Menus()
            self.menus.build(self, self._commands())
            self._finish_menus()
            self._connect()
        self.setAcceptDrops(True)
        self._fitted_to_screen = False
        self._step_before = self.session.step
        self.resize(_WIDTH, _HEIGHT)
        self._refresh_all()
        self.say("Open a plate to begin (Ctrl+O), or take a demo shot from the File menu.", False)

    @property
    def job(self) -> Job | None:
        """The long work that runs."""
        return self.work.job

    @property
    def step(self) -> Any:
        """The step in hand."""
        return self.steps[self.session.step]

    # -- parts ----------------------------------------------------------------------------------------------------

    def _build(self) -> None:
        s = self.session
        self.playback = Playback(s, self)
        self.viewer, self.outline, self.lanes = Viewer(s), Outline(s), Lanes(s)
        self.steady = SteadyViewer(s, self.viewer)
        self.panes = Panes(lambda: s.plate.size[0] * s.aspect / s.plate.size[1] if s.plate is not None else 16 / 9, self.viewer, self.steady)
        self.transport = Transport(s)
        self.running = Work(lambda: [j for j in (self.work.job, self.drift_worker.job) if j is not None], lambda: self.work.job, self)
        self.strip = MessageStrip(self.running)
        self.words = self.strip.words
        self.work = LongWork(self.strip, self)
        self.display = Display(s, self.viewer, self.steady, self.panes, self.playback, lambda: self.transport.graphics, self)
        self.mattes = MatteReader(lambda: self.viewer.update(), self)
        self.bench = Workbench(self, s, self.viewer, self.steady, self.playback, self.work, self.display, self.mattes, self.say)
        self.bench.choose_tool, self.bench.run = self._choose_tool, self.run_command
        self.bench.wish = lambda: self.step.steady
        self.drift_worker = DriftWorker(s, lambda: self.job is not None or self.display.dragging, self)
        self.autosaver = Autosaver(s, self)
        self.watcher = Watcher(s, self._files_changed, self)
        self.demo = DemoShots(self.work, self.say, self.open_path)

    def _put_in_place(self) -> None:
        self.step_bar = StepBar(self.session, list(self.steps.values()))
        self.details = Details([(name, step.page) for name, step in self.steps.items()])
        self.lanes.step_marks = lambda: self.step.key_marks()
        self.lanes.step_measured = lambda: self.step.measured()
        self.lanes.step_mark_moved = lambda frame, to, copy: self.step.move_key_mark(frame, to, copy)
        self.outline.setFixedWidth(176)
        middle = QHBoxLayout()
        middle.setContentsMargins(0, 0, 0, 0)
        middle.setSpacing(1)
        middle.addWidget(self.outline)
        self.steady.hide()
        middle.addWidget(self.panes, 1)
        middle.addWidget(self.details)
        whole = QVBoxLayout()
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(1)
        whole.addWidget(self.step_bar)
        whole.addLayout(middle, 1)
        whole.addWidget(self.transport)
        whole.addWidget(self.lanes)
        whole.addWidget(self.strip)
        centre = QWidget()
        centre.setLayout(whole)
        self.setCentralWidget(centre)

    def _commands(self) -> list[Command]:
        v = self.viewer
        own = [
            Command("file.open", "File", "Open plate or shot...", self.choose_open, "Ctrl+O"),
            Command("file.open-folder", "File", "Open a folder of frames...", self.choose_folder, "Ctrl+Shift+O"),
            Command("file.replace-plate", "File", "Replace plate...", self.choose_replacement),
            Command("file.save", "File", "Save", self.save, "Ctrl+S", 2), Command("file.save-as", "File", "Save as...", self.save_as, "Ctrl+Shift+S", 2),
            Command("file.quit", "File", "Quit", self.close, "Ctrl+Q", 3),
            Command("edit.undo", "Edit", "Undo", self.undo, "Ctrl+Z"), Command("edit.redo", "Edit", "Redo", self.redo, "Ctrl+Shift+Z"),
            Command("edit.preferences", "Edit", "Preferences...", self.settings.change_preferences, "Ctrl+,", 9),
            Command("track.stop", "Track", "Stop", self.escape, "Esc", 9),
            Command("view.fit", "View", "Fit", v.fit, "F"), Command("view.actual", "View", "Actual pixels", lambda: v.zoom_to(1.0), "Ctrl+1"),
            Command("view.zoom-in", "View", "Zoom in", lambda: v.zoom_to(v.zoom * 1.4), "Ctrl++"),
            Command("view.zoom-out", "View", "Zoom out", lambda: v.zoom_to(v.zoom / 1.4), "Ctrl+-"),
            Command("view.graphics", "View", "Graphics", lambda: self.transport.buttons["graphics"].click(), "G", 2),
            Command("view.overlays", "View", "Outlines and words", lambda: self.transport.buttons["overlays"].click(), "V", 2),
            *(Command(f"view.against-{how or 'nothing'}", "View/Against the plate", words, partial(self.display.compare_with_plate, how), keys, 1, not how)
              for (how, words), keys in zip(COMPARISONS.items(), ("", "Ctrl+G", "Ctrl+Shift+G", "Shift+G"), strict=True)),
            Command("go.play", "Go", "Play or pause", self.playback.toggle, "Space"),
            *(Command(f"go.play-at-{part}", "Go/Play at", words, partial(self.display.play_at_part, part), "", 1, part == 1)
              for words, part in (("Full resolution", 1), ("Half resolution", 2), ("Quarter resolution", 4))),
            Command("help.guide", "Help", "Guide", self.show_guide, "F1"), Command("help.keys", "Help", "Keys...", self.change_keys),
            Command("help.about", "Help", "About Wertis", lambda: AboutDialog(self).exec()),
        ]
        of_steps = [Command(f"step.{name.lower()}", "View", f"Step: {name}", partial(self.session.go_step, name), str(k), 8)
                    for k, name in enumerate(self.steps, 1)]
        return [*own, *(c for step in self.steps.values() for c in step.commands()), *self.outline.commands(), *of_steps]

    def _finish_menus(self) -> None:
        file = self.menus.menu(self, "File")
        after = self.menus.actions["file.replace-plate"][0]
        self.demo_menu, self.recent_menu = QMenu("Demo shots", self), QMenu("Opened lately", self)
        for menu in (self.demo_menu, self.recent_menu):
            file.insertMenu(after, menu)
        self.demo_menu.aboutToShow.connect(lambda: self.demo.fill(self, self.demo_menu))
        self.recent_menu.aboutToShow.connect(lambda: self.settings.fill_recent(self.recent_menu, self.open_path))
        self.undo_action, self.redo_action = self.menus.actions["edit.undo"][0], self.menus.actions["edit.redo"][0]
        self.settings.use_keys(self.menus)

    def _connect(self) -> None:
        s = self.session
        s.shot_changed.connect(self._on_shot)
        s.plate_changed.connect(self._on_plate)
        s.frame_changed.connect(lambda _: self._on_frame())
        s.selection_changed.connect(self._on_selection)
        s.step_changed.connect(lambda _: self._on_step())
        s.live_changed.connect(lambda: self.viewer.update())
        s.drift_changed.connect(self.bench.update_views)
        s.message.connect(self.say)
        s.viewing_changed.connect(self._on_viewing)
        s.opened_what.connect(self._on_opened)
        self.step_bar.picked.connect(s.go_step)
        self.outline.step_wanted.connect(s.go_step)
        self.outline.region_wanted.connect(lambda: self._begin_with("plate"))
        self.viewer.zoomed.connect(self.transport.show_zoom)
        self.viewer.hovered.connect(self.transport.show_numbers)
        t = self.transport
        t.play_wanted.connect(self.playback.toggle)
        t.reference_wanted.connect(partial(self.run_command, "go.reference"))
        t.fit_wanted.connect(self.viewer.fit)
        t.graphics_switched.connect(self.display.frame)
        t.overlays_switched.connect(self._overlays)
        t.frame_typed.connect(self._on_typed)
        for pane in (self.viewer, self.steady):  # after a drag the picture is made at full resolution again
            pane.released.connect(self.display.frame)
        self.playback.playing_changed.connect(self._on_playing)
        self.strip.stop_wanted.connect(self.work.stop)
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

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        if not self._fitted_to_screen:
            self._fitted_to_screen = True
            self.fit_to(self.screen().availableGeometry().width(), self.screen().availableGeometry().height())

    def fit_to(self, width: int, height: int) -> None:
        """Take no more room, window frame and all, than a desktop leaves."""
        frame = self.frameGeometry().size() - self.size()
        self.resize(min(_WIDTH, width - max(0, frame.width())), min(_HEIGHT, height - max(0, frame.height())))

    # -- what the person wants ------------------------------------------------------------------------------------

    def run_command(self, ident: str) -> None:
        """Do a command by its id."""
        self.menus.actions[ident][0].trigger()

    def say(self, text: str, is_error: bool = False) -> None:
        """Show what just happened and what can be done next."""
        self.strip.say(text, is_error)

    def attempt(self, act: Any, *arguments: Any) -> bool:
        """Do something that may fail; a failure becomes a message. Returns whether it went well."""
        return self.bench.attempt(act, *arguments)

    def open_path(self, path: Path) -> None:
        """Open a shot or a plate, asking about unsaved work first."""
        if self.may_leave() and self.attempt(self.session.open_any, path):
            self._choose_sequence()
            self.settings.opened(path)
            self._opened()
            self._ask_for_files()

    def _choose_sequence(self) -> None:
        """A folder with several sequences: ask which one is meant."""
        plate = self.session.plate
        if plate is None or not plate.others or self.session.shot.tracks:
            return
        names = {f"{Path(p).name} ({count} frames)": p for p, count in {str(plate.path): len(plate.frames), **plate.others}.items()}
        chosen, ok = QInputDialog.getItem(self, "Which sequence?", f"The folder holds {len(names)} sequences. Open", list(names), 0, False)
        if ok and chosen in names and names[chosen] != str(plate.path):
            self.attempt(self.session.open_any, Path(names[chosen]))

    def _ask_for_files(self) -> None:
        """Ask once where the files of the shot are that were not found below its own folder."""
        missing = relocate.gone(self.session.shot)
        if not missing:
            return
        name = QFileDialog.getExistingDirectory(self, f"Where are {Path(missing[0]).name}" + (f" and {len(missing) - 1} more" if len(missing) > 1 else "")
                                                + "? They are looked for in this folder and below")
        if name and self.attempt(self.session.opened.find_files, Path(name)):
            left = len(relocate.gone(self.session.shot))
            self.say(f"{len(missing) - left} of {len(missing)} files were found again." + (" Choose the others by hand." if left else ""), bool(left))

    def offer_lost(self) -> None:
        """Offer what a crash left behind, if anything."""
        found = offer(self.autosaver, self)
        if found is not None:
            self.attempt(self.autosaver.take_over, found)

    def _opened(self) -> None:
        self.viewer.setFocus()
        warning = self.autosaver.opened()
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
            self.attempt(self.session.opened.replace_plate, Path(name))

    def save(self) -> bool:
        """Save under the name it has, or ask for one."""
        return self.attempt(self.session.save, self.session.path) if self.session.path else self.save_as()

    def save_as(self) -> bool:
        """Ask for a name and save."""
        start = str(self.session.path or Path.home() / f"{self.session.shot.name}{SUFFIX}")
        name, _ = QFileDialog.getSaveFileName(self, "Save the shot", start, f"Wertis shot (*{SUFFIX})")
        saved = bool(name) and self.attempt(self.session.save, Path(name))
        if saved and self.session.path is not None:
            self.settings.opened(self.session.path)
        return saved

    def undo(self) -> None:
        """Take the last step back."""
        label = self.session.history.undo()
        self.say(f"Undone: {label}." if label else "There is nothing to undo.")

    def redo(self) -> None:
        """Do it again."""
        label = self.session.history.redo()
        self.say(f"Done again: {label}." if label else "There is nothing to do again.")

    def change_keys(self) -> None:
        """List all keys, and change them."""
        self.settings.change_keys(self.menus)

    def show_guide(self) -> None:
        """The short guide, beside the window."""
        from wertis.demo import make

        self.guide = GuideDialog(lambda: self.demo.open(make.FIRST_FILM), self)
        self.guide.show()

    def escape(self) -> None:
        """Stop what runs, or give up what is being done."""
        if self.job is not None:
            self.work.stop()
        elif self._given_up():
            self.say("Drawing given up.")
        elif self.bench.picking:
            self.bench.put_away()
            self.say("Given up.")
        else:
            self.playback.pause()

    def _given_up(self) -> bool:
        """Give up what any step is doing; whether anything was."""
        return sum(step.escape() for step in self.steps.values()) > 0

    # -- following the session ------------------------------------------------------------------------------------

    def _choose_tool(self) -> None:
        """Take the tool that the step and the selection call for."""
        wanted = self.step.tool_wanted() if self.session.plate is not None else ()
        self.bench.hold(wanted and (self.session.step, *wanted), lambda: self.step.tool(wanted))

    def _refresh_all(self) -> None:
        self._on_plate()
        self._on_shot()
        self._on_step()

    def _on_shot(self) -> None:
        s = self.session
        self.display.pictures.set_shot(s.shot)
        name = s.path.name if s.path else s.shot.name
        self.setWindowTitle(f"{'* ' if s.history.unsaved else ''}{name} - Wertis")
        self.undo_action.setText(f"Undo: {s.history.undo_label}" if s.history.undo_label else "Undo")
        self.redo_action.setText(f"Redo: {s.history.redo_label}" if s.history.redo_label else "Redo")
        self.undo_action.setEnabled(bool(s.history.undo_label))
        self.redo_action.setEnabled(bool(s.history.redo_label))
        if not self.bench.picking:
            self._choose_tool()
        self.display.frame()

    def _on_plate(self) -> None:
        s = self.session
        self.playback.pause()
        self.display.pictures.use(s.cache)
        self.display.pictures.set_shot(s.shot)
        if s.plate is not None:
            self.viewer.set_size(s.plate.size)
        self.viewer.show_picture(None, "")
        self._on_frame()

    def _on_opened(self, what: str) -> None:
        self._begin_with(what)

    def _begin_with(self, what: str) -> None:
        """Bring the step that begins with what was opened."""
        step = next((x for x in self.steps.values() if what in x.begins_with), None)
        if step is not None:
            step.bring()

    def _on_selection(self) -> None:
        self._choose_tool()
        self.bench.update_views()
        self.lanes.update()

    def _on_step(self) -> None:
        if self._step_before != self.session.step:
            self.steps[self._step_before].left()
            self._step_before = self.session.step
        step = self.step
        self.viewer.overlay = step
        self.details.bring(step.name)
        self.display.wish, self.display.quick_may_be_small = step.steady, step.looks_at_plate
        self._choose_tool()
        self.display.view()
        hint = self._hint()
        if hint and self.job is None:
            self.say(hint)

    def _hint(self) -> str:
        """What to do first in the step in hand."""
        if self.session.plate is None:
            return ""
        first = next(iter(self.steps.values()))
        if self.session.track is None and self.step is not first:  # whatever the step, a region comes first
            return str(next(x for x in self.steps.values() if "plate" in x.begins_with).hint())
        return str(self.step.hint())

    def _on_frame(self) -> None:
        self.transport.show_frame()
        self.display.frame()

    def _on_viewing(self) -> None:
        self.display.pictures.look_through(self.session.viewing)
        self.display.frame()
        self.viewer.update()

    def _on_playing(self, on: bool) -> None:
        self.transport.show_playing(on)
        if not on and self.display.play_at > 1:
            self.display.frame()  # at full resolution again

    # -- small things ---------------------------------------------------------------------------------------------

    def _overlays(self, on: bool) -> None:
        self.viewer.overlays = on
        self.bench.update_views()

    def _files_changed(self, files: list[Path]) -> None:
        """Files that the shot uses were written anew."""
        self.display.pictures.refresh_files()
        self.display.frame()
        self.say(f"{files[0].name} {'and others have' if len(files) > 1 else 'has'} changed on disk and {'were' if len(files) > 1 else 'was'} read again.",
                 False)

    def _on_typed(self, good: bool) -> None:
        if not good:
            self.say("Type a frame number.", True)
        self.viewer.setFocus()

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
        self.work.stop()
        self.drift_worker.wait(0)
        self.drift_worker.stop()
        if self.job is not None:
            self.job.finished.wait(10)
        self.autosaver.finish()
        self.mattes.close()
        self.display.pictures.close()
        self.session.close()
        event.accept()
