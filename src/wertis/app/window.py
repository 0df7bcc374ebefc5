"""The main window: strip of steps, outline, picture, details, lanes, message strip."""

import threading
from collections.abc import Callable
from pathlib import Path

import numpy as np
import qtawesome
from PySide6.QtCore import QEvent, QObject, Qt, QTimer
from PySide6.QtGui import QAction, QActionGroup, QCloseEvent, QDragEnterEvent, QDropEvent, QKeyEvent, QKeySequence
from PySide6.QtWidgets import (
    QAbstractSpinBox,
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QMainWindow,
    QMenu,
    QMessageBox,
    QProgressBar,
    QPushButton,
    QSplitter,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from wertis.app import theme
from wertis.app.bridge import Bridge
from wertis.app.desk import Desk
from wertis.app.details import Details
from wertis.app.fields import named
from wertis.app.hands import Hands
from wertis.app.keeping import Keeping, offer
from wertis.app.lanes import Lanes
from wertis.app.measuring import Measuring
from wertis.app.mending import Mending
from wertis.app.outline import Outline
from wertis.app.pictures import PictureMaker
from wertis.app.playback import Playback
from wertis.app.session import FINISHED_SHARE, STEPS, Session
from wertis.app.steady import COMPARED, SteadyViewer
from wertis.app.steps import Steps
from wertis.app.tools import PointsTool
from wertis.app.viewer import Viewer
from wertis.app.work import Work
from wertis.core.check.summary import next_worst, worst_first
from wertis.core.errors import RegionError, WertisError
from wertis.core.jobs.export import export_corner_pin
from wertis.core.jobs.job import Job
from wertis.core.jobs.passers import write_mattes
from wertis.core.jobs.render import check_target, render
from wertis.core.shot import edits, hold_outs, relocate
from wertis.core.shot.document import HoldOut, Placement
from wertis.core.shot.store import SUFFIX
from wertis.core.track.advice import advice

PLATES = "Plates and shots (*.wertis *.png *.jpg *.jpeg *.tif *.tiff *.dpx *.exr *.mov *.mp4 *.mkv *.webm *.avi *.mxf)"
_AHEAD = 12
_HELD_FOR = 80  # milliseconds for which painting may wait for a picture
_QUICK, _QUICKEST = 0.75, 0.3  # zooms below which a half or a quarter of the resolution does while something is dragged


class MainWindow(QMainWindow):
    """Puts the parts together and carries the person's wishes to the session."""

    def __init__(self, session: Session | None = None) -> None:
        super().__init__()
        self.desk = Desk(self)
        self.session = session or Session(self.desk.preferences.memory << 20)
        self.pictures = PictureMaker(int(FINISHED_SHARE * self.session.budget))
        self.playback = Playback(self.session, self)
        self.job: Job | None = None
        self._held = QTimer(self)
        self._held.setSingleShot(True)
        self._held.setInterval(_HELD_FOR)
        self._held.timeout.connect(self._paint_again)
        self.play_at = 1  # playing is done at this part of the resolution: 1, 2 or 4
        self._rest_of_demo = threading.Thread()
        self._render_words = self._after_demo = ""
        self._left_out: list[int] = []
        self._come_back: int | None = None
        self._matte = ("", Path())
        self._build()
        self._menus()
        self._connect()
        self.resize(1280, 800)
        self.setAcceptDrops(True)
        self._refresh_all()
        self.say("Open a plate to begin (Ctrl+O), or take a demo shot from the File menu.", False)

    # -- parts ----------------------------------------------------------------------------------------------------

    def _build(self) -> None:
        s = self.session
        self.steps, self.viewer, self.outline = Steps(s), Viewer(s), Outline(s)
        self.lanes, self.details = Lanes(s), Details(s)
        self.steady = SteadyViewer(s, self.viewer)
        self.measuring = Measuring(s, lambda: self.job is not None or self._dragging, self)
        self.keeping = Keeping(s, self)
        self.hands = Hands(s, self.viewer, self.say)
        self.mending = Mending(self)
        self.outline.setFixedWidth(176)
        middle = QHBoxLayout()
        middle.setContentsMargins(0, 0, 0, 0)
        middle.setSpacing(1)
        middle.addWidget(self.outline)
        self.panes = QSplitter(Qt.Orientation.Horizontal)
        self.panes.setHandleWidth(3)
        self.panes.setChildrenCollapsible(False)
        self.panes.addWidget(self.viewer)
        self.panes.addWidget(self.steady)
        self.steady.hide()
        middle.addWidget(self.panes, 1)
        middle.addWidget(self.details)
        self.transport = self._transport()
        self.words = QLabel()
        self.words.setObjectName("message")
        self.words.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.words.setMinimumWidth(100)
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        self.bar.setFixedWidth(180)
        self.bar.hide()
        self.left = named("", "quiet", wrap=False)
        self.stop = QPushButton("Stop")
        self.stop.setToolTip("Stop and keep what there is (Esc)")
        self.stop.clicked.connect(self.stop_job)
        self.stop.hide()
        strip = QHBoxLayout()
        strip.setContentsMargins(10, 2, 10, 4)
        strip.addWidget(self.words, 1)
        self.work = Work(lambda: [j for j in (self.job, self.measuring.job) if j is not None], lambda: self.job, self)
        strip.addWidget(self.left)
        strip.addWidget(self.bar)
        strip.addWidget(self.stop)
        strip.addWidget(self.work)
        whole = QVBoxLayout()
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(1)
        whole.addWidget(self.steps)
        whole.addLayout(middle, 1)
        whole.addWidget(self.transport)
        whole.addWidget(self.lanes)
        whole.addLayout(strip)
        centre = QWidget()
        centre.setLayout(whole)
        self.setCentralWidget(centre)

    def _transport(self) -> QWidget:
        row = QHBoxLayout()
        row.setContentsMargins(8, 1, 8, 1)
        row.setSpacing(2)
        self.buttons: dict[str, QToolButton] = {}
        for name, icon, tip, act in (
                ("first", "mdi6.skip-previous", "First frame of the range (Home)", lambda: self.session.go(self.session.shot.range[0])),
                ("back", "mdi6.chevron-left", "One frame back (Left; Shift: ten)", lambda: self.session.go(self.session.frame - 1)),
                ("play", "mdi6.play", "Play or pause (Space)", self.playback.toggle),
                ("on", "mdi6.chevron-right", "One frame on (Right; Shift: ten)", lambda: self.session.go(self.session.frame + 1)),
                ("last", "mdi6.skip-next", "Last frame of the range (End)", lambda: self.session.go(self.session.shot.range[1])),
                ("reference", "mdi6.rhombus-outline", "To the reference frame (R)", self.go_reference)):
            row.addWidget(self._tool_button(name, icon, tip, act))
        self.frame_field = QLineEdit()
        self.frame_field.setFixedWidth(64)
        self.frame_field.setAccessibleName("Frame")
        self.frame_field.setToolTip("Frame in view; type a number to go there")
        self.frame_field.returnPressed.connect(self._typed_frame)
        row.addSpacing(8)
        row.addWidget(self.frame_field)
        self.place = named("", "quiet", wrap=False)
        row.addSpacing(10)
        row.addWidget(self.place, 1)
        for name, icon, tip, act in (
                ("graphics", "mdi6.image-outline", "Show the graphics, or the plate alone (G)", self._graphics),
                ("overlays", "mdi6.vector-square", "Show outlines and words over the picture (V)", self._overlays)):
            b = self._tool_button(name, icon, tip, act)
            b.setCheckable(True)
            b.setChecked(True)
            row.addWidget(b)
        self.zoom_words = named("", "quiet", wrap=False)
        self.zoom_words.setFixedWidth(44)
        row.addWidget(self.zoom_words)
        row.addWidget(self._tool_button("fit", "mdi6.fit-to-page-outline",
                                        "Fit the picture in the window (F); wheel zooms, middle button or Alt-drag pans", self.viewer.fit))
        box = QWidget()
        box.setObjectName("panel")
        box.setLayout(row)
        return box

    def _tool_button(self, name: str, icon: str, tip: str, act: Callable[[], object]) -> QToolButton:
        button = QToolButton()
        button.setIcon(qtawesome.icon(icon, color="#c9c9c9"))
        button.setToolTip(tip)
        button.setAccessibleName(tip)
        button.clicked.connect(lambda _=False: act())
        self.buttons[name] = button
        return button

    def _menus(self) -> None:
        bar = self.menuBar()
        file = bar.addMenu("&File")
        self.demo_menu = QMenu("Demo shots", self)
        self._action(file, "Open plate or shot...", "Ctrl+O", self.choose_open)
        self._action(file, "Open a folder of frames...", "Ctrl+Shift+O", self.choose_folder)
        file.addMenu(self.demo_menu)
        self.demo_menu.aboutToShow.connect(self._fill_demo)
        self._action(file, "Replace plate...", "", self.choose_replacement)
        self.recent_menu = file.addMenu("Opened lately")
        self.recent_menu.aboutToShow.connect(lambda: self.desk.fill_recent(self.recent_menu))
        file.addSeparator()
        self._action(file, "Save", "Ctrl+S", self.save)
        self._action(file, "Save as...", "Ctrl+Shift+S", self.save_as)
        file.addSeparator()
        self._action(file, "Quit", "Ctrl+Q", self.close)
        edit = bar.addMenu("&Edit")
        self.undo_action = self._action(edit, "Undo", "Ctrl+Z", self.undo)
        self.redo_action = self._action(edit, "Redo", "Ctrl+Shift+Z", self.redo)
        edit.addSeparator()
        self._action(edit, "Draw a new region", "N", self.draw_region)
        self._action(edit, "Add to the region", "Shift+N", lambda: self.hands.draw("add"))
        self._action(edit, "Subtract from the region", "Ctrl+Shift+N", lambda: self.hands.draw("subtract"))
        self._action(edit, "Remove the shape in hand", "", self.hands.remove_shape)
        self._action(edit, "Draw a hold-out", "H", self.draw_hold_out)
        self._action(edit, "Place a graphic", "P", self.add_placement)
        self._action(edit, "Remove the selected", "", self.outline.remove_current)
        edit.addSeparator()
        self._action(edit, "Preferences...", "Ctrl+,", self.desk.change_preferences)
        track = bar.addMenu("&Track")
        for words, keys, direction in (("Forward", "T", "forward"), ("Backward", "Shift+T", "backward"), ("Both ways", "Ctrl+T", "both"),
                                       ("One frame forward", "Y", "next"), ("One frame back", "Shift+Y", "previous")):
            self._action(track, words, keys, lambda d=direction: self.track(d))
        track.addSeparator()
        self._action(track, "Stop", "Esc", self.escape)
        view = bar.addMenu("&View")
        self._action(view, "Fit", "F", self.viewer.fit)
        self._action(view, "Actual pixels", "Ctrl+1", lambda: self.viewer.zoom_to(1.0))
        self._action(view, "Zoom in", "Ctrl++", lambda: self.viewer.zoom_to(self.viewer.zoom * 1.4))
        self._action(view, "Zoom out", "Ctrl+-", lambda: self.viewer.zoom_to(self.viewer.zoom / 1.4))
        self._action(view, "Graphics", "G", lambda: self.buttons["graphics"].click())
        self._action(view, "Texture of the region", "X", self.details.region.show_texture.toggle)
        self._action(view, "Outlines and words", "V", lambda: self.buttons["overlays"].click())
        view.addSeparator()
        self._action(view, "Panes: plate, steady view, both", "S", self.next_panes)
        self._action(view, "Flip frame and reference", "Q", self.flip)
        self._action(view, "Close-ups of the corners", "C", self.details.check.close_ups.toggle)
        view.addSeparator()
        for k, step in enumerate(STEPS, 1):
            self._action(view, f"Step: {step}", str(k), lambda s=step: self.session.go_step(s))
        mend = bar.addMenu("&Repair")
        for words, keys, what in (("Points at the corners", "", "corners"), ("Add a point", "A", "add"), ("Find places on this frame", "M", "find"),
                                  ("Set a key", "K", "key"), ("Clear keys here", "", "clear"),
                                  ("Clear the chosen points' keys", "", "clear-points"), ("Remove the chosen points", "", "remove"),
                                  ("Key before", "[", "before"), ("Key after", "]", "after"), ("Repair by itself", "Ctrl+M", "itself"),
                                  ("Track again from the keys", "Ctrl+Y", "again"), ("Set the extra move's point", "", "about")):
            self._action(mend, words, keys, lambda w=what: self.mending.wish(w))
        go = bar.addMenu("&Go")
        self._action(go, "Play or pause", "Space", self.playback.toggle)
        play = go.addMenu("Play at")
        group = QActionGroup(self)
        for words, part in (("Full resolution", 1), ("Half resolution", 2), ("Quarter resolution", 4)):
            action = self._action(play, words, "", lambda p=part: self._play_at(p))
            action.setCheckable(True)
            action.setChecked(part == 1)
            group.addAction(action)
        self._action(go, "Reference frame", "R", self.go_reference)
        self._action(go, "Next-worst frame", "W", self.go_next_worst)
        self._action(go, "Range begins here", "I", lambda: self._set_range(True))
        self._action(go, "Range ends here", "O", lambda: self._set_range(False))
        deliver = bar.addMenu("&Deliver")
        self._action(deliver, "Render", "Ctrl+R", self.details.deliver.render_button.click)
        help_ = bar.addMenu("&Help")
        self._action(help_, "Guide", "F1", self.desk.show_guide)
        self._action(help_, "Keys...", "", self.desk.change_keys)
        self._action(help_, "About Wertis", "", self.desk.show_about)
        self.desk.use_keys()

    def _action(self, menu, words: str, keys: str, act) -> QAction:  # type: ignore[no-untyped-def]
        action = QAction(words, self)
        if keys:
            action.setShortcut(QKeySequence(keys))
        if menu is not self.demo_menu:
            self.desk.add(menu, words, action, keys)
        action.triggered.connect(lambda _=False: act())
        menu.addAction(action)
        return action

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
        self._picture_bridge = Bridge(self._on_picture, self)
        self.pictures.made.connect(self._picture_bridge)
        self._step_bridge = Bridge(self._on_job_step, self)
        self._end_bridge = Bridge(self._on_job_end, self)
        self.steps.picked.connect(s.go_step)
        self.outline.step_wanted.connect(s.go_step)
        self.viewer.zoomed.connect(lambda z: self.zoom_words.setText(f"{z * 100:.0f} %"))
        self.viewer.hovered.connect(self._on_hover)
        for pane in (self.viewer, self.steady):  # after a drag the picture is made at full resolution again
            pane.released.connect(self._show_frame)
        self.playback.playing_changed.connect(self._on_playing)
        d = self.details
        d.plate.open.clicked.connect(self.choose_open)
        d.region.draw_wanted.connect(self.hands.draw)
        d.region.way_picked.connect(self.hands.draw_as)
        d.region.remove_wanted.connect(self.hands.remove_shape)
        d.region.show_texture.toggled.connect(self._texture)
        d.track.track_wanted.connect(self.track)
        d.track.passers_wanted.connect(self.choose_passers)
        d.track.stop_wanted.connect(self.stop_job)
        d.check.next_worst_wanted.connect(self.go_next_worst)
        d.check.reference_wanted.connect(self.go_reference)
        d.check.view_changed.connect(self._view_changed)
        d.repair.wanted.connect(self.mending.wish)
        d.use.add_wanted.connect(self.add_placement)
        d.use.reread_wanted.connect(self._reread)
        d.deliver.render_wanted.connect(self.start_render)
        d.deliver.export_wanted.connect(self.export)
        for kind in (QLineEdit, QAbstractSpinBox):
            for field in self.findChildren(kind):
                field.installEventFilter(self)

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
        self.words.setText(text)
        self.words.setToolTip(text)
        self.words.setStyleSheet(f"color: {theme.LOST.name()};" if is_error else "")
        if self.words.fontMetrics().horizontalAdvance(text) > max(400, self.width() - 60):
            self.words.setText(self.words.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, max(400, self.width() - 60)))

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

    def track(self, direction: str) -> None:
        """Track the selected region."""
        s = self.session
        if s.track is None:
            self.say("There is no region to track; draw one round the surface first (N).", True)
            return
        if self.busy():
            return
        self.playback.pause()
        try:
            job = s.tracking_job(s.track, direction)
        except RegionError as why:
            s.live_track = ""
            self.say(str(why), True)
            return
        s.go_step("Track")
        self._come_back = s.frame if direction == "both" else None
        self.begin(job)
        s.live_changed.emit()

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

    def start_render(self, what: str, pattern: str) -> None:
        """Render the range to files."""
        s = self.session
        if s.plate is None or s.cache is None:
            return
        if self.busy():
            return
        if not self.attempt(check_target, pattern):
            return
        shot, plate, resume = s.shot, s.plate, self.details.deliver.resume.isChecked()
        frames = list(range(shot.range[0], shot.range[1] + 1))
        left_out: list[int] = []
        self._left_out = left_out

        def work(job: Job) -> None:
            for frame, why in render(shot, plate, pattern, frames, what, resume=resume):
                if why:
                    left_out.append(frame)
                job.step(frame)

        self._render_words = f"Rendered {len(frames)} frames to {pattern}."
        self.begin(Job("Rendering", len(frames), work))

    def choose_passers(self) -> None:
        """Ask where to keep the matte of what was distrusted, and make it."""
        start = self.session.path.parent if self.session.path else Path.home()
        name = QFileDialog.getExistingDirectory(self, "A folder for the matte sequence", str(start))
        if name:
            self.make_passers(Path(name))

    def make_passers(self, folder: Path) -> None:
        """Make a matte sequence of what passes in front of the selected track and hold it out."""
        s = self.session
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

        self._matte = (track.id, where)
        self.begin(Job("Making the matte", shot.range[1] - shot.range[0] + 1, work))

    def _hold_out_passers(self) -> None:
        s = self.session
        ident, where = self._matte
        track = s.shot.track(ident)
        if track is not None and self.attempt(hold_outs.open_matte, where, s.plate.size if s.plate else (1, 1)):
            held = HoldOut(name="Passers", path=str(where.absolute()), grow=2)
            s.history.do("Hold out what was distrusted", hold_outs.add_hold_out(s.shot, ident, held))
            s.select(ident, "", held.id)
            self.say(f"What passes in front is held out (matte in {where}). Track again to use it (Ctrl+T).")

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
        self._view_changed()

    def flip(self) -> None:
        """Show the reference frame in the steady view, or the frame again."""
        box = self.details.check.compared
        box.setCurrentIndex(list(COMPARED).index("none" if box.currentData() == "reference" else "reference"))
        self.session.go_step("Check")
        self._view_changed()

    def escape(self) -> None:
        """Stop what runs, or give up drawing."""
        if self.job is not None:
            self.stop_job()
        elif self.hands.give_up():
            self.say("Drawing given up.")
        else:
            self.playback.pause()

    def busy(self) -> bool:
        """Whether long work is running, which is then said."""
        if self.job is not None:
            self.say(f"{self.job.label} is still running; stop it first (Esc).", True)
        return self.job is not None

    def stop_job(self) -> None:
        """Stop the long work; what it has is kept."""
        if self.job is not None:
            self.job.stop()

    def make_demo(self, then_open: str = "") -> None:
        """Make the demo shots in the background, then open one of them (the tracked one unless named)."""
        from wertis.demo import make

        name = then_open or make.TRACKED
        wanted = [name] if name in make.FILMS else [make.FIRST_FILM]
        if make.ready(names=wanted):
            self.open_path(make.folder() / name)
            self._make_rest_of_demo()
            return
        if self.busy():
            return

        def work(job: Job) -> None:
            make.make(report=lambda text: job.step(text), names=wanted)

        self._after_demo = name
        self.say("Making the demo shot of Brindle Quay, once; it opens by itself.")
        self.begin(Job("Making the demo shot", make.steps(wanted), work))

    def _make_rest_of_demo(self) -> None:
        """The shots not opened yet are made while the person looks at the first."""
        from wertis.demo import make

        if not make.ready() and not self._rest_of_demo.is_alive():
            self._rest_of_demo = threading.Thread(target=make.make, name="wertis-demo", daemon=True)
            self._rest_of_demo.start()

    # -- long work ------------------------------------------------------------------------------------------------

    def begin(self, job: Job) -> None:
        """Start long work and show how far it is."""
        self.job = job
        job.stepped.connect(self._step_bridge)
        job.ended.connect(self._end_bridge)
        self.bar.setRange(0, job.total)
        self.bar.setValue(0)
        self.bar.show()
        self.stop.show()
        self.left.setText("")
        job.start()

    def _on_job_step(self, job: Job, item: object) -> None:
        if job is not self.job:
            return
        self.bar.setValue(job.done)
        left = job.seconds_left
        self.left.setText(f"{job.done} of {job.total}, {job.rate:.0f} per second" + (f", {left:.0f} s left" if left is not None else ""))
        if self.session.live_track and isinstance(item, tuple):
            frame, fix = item
            self.session.take_live(frame, fix)
            self.session.go(frame)
            name = self.session.track.name if self.session.track else ""
            self.say(f"Tracking {name}, frame {frame}: " + (
                f"{fix.seen:.0%} of the region seen, expected error {fix.error:.2f} px. Esc stops and keeps what there is."
                if fix.matrix is not None else f"lost, {fix.reason}."), fix.matrix is None)
        else:
            self.say(f"{job.label}: {item}")

    def _on_job_end(self, job: Job) -> None:
        if job is not self.job:
            return
        self.job = None
        self.bar.hide()
        self.stop.hide()
        self.left.setText("")
        if self.session.live_track:
            self._tracking_over(job)
        elif job.error:
            self.say(job.error, True)
        elif job.stopped:
            self.say(f"{job.label} was stopped; finished frames are kept.")
        elif job.label.startswith("Rendering"):
            if self._left_out:
                missing = ", ".join(map(str, self._left_out[:5])) + ("..." if len(self._left_out) > 5 else "")
                self.say(f"{self._render_words} The plate lacks {len(self._left_out)} of them ({missing}): left out of a sequence, held in a movie.", True)
            else:
                self.say(self._render_words)
        elif self.mending.take(job):
            pass
        elif job.label.startswith("Making the matte"):
            self._hold_out_passers()
        else:
            from wertis.demo import make

            self.open_path(make.folder() / self._after_demo)
            self._make_rest_of_demo()

    def _tracking_over(self, job: Job) -> None:
        s = self.session
        found = dict(s.live)
        s.keep_live()
        if self._come_back is not None:
            s.go(self._come_back)
        good = {f: x for f, x in found.items() if x.matrix is not None}
        if job.error:
            self.say(job.error, True)
            return
        words = f"{len(good)} frames tracked"
        if good:
            words += f", expected error {sum(x.error for x in good.values()) / len(good):.2f} px"
        trouble = advice(found)
        if trouble:
            self.say(f"{words}; {trouble}.", True)
            return
        self.say(words + (". Stopped; what was found is kept." if job.stopped else ". Next: place a graphic on it (P)."
                          if s.track and not s.track.placements else ". Press Space to play."))

    # -- following the session ------------------------------------------------------------------------------------

    def _refresh_all(self) -> None:
        self._on_plate()
        self._on_shot()
        self._on_step()

    def _on_shot(self) -> None:
        s = self.session
        self.pictures.set_shot(s.shot)
        name = s.path.name if s.path else s.shot.name
        self.setWindowTitle(f"{'* ' if s.history.unsaved else ''}{name} - Wertis")
        self.undo_action.setText(f"Undo: {s.history.undo_label}" if s.history.undo_label else "Undo")
        self.redo_action.setText(f"Redo: {s.history.redo_label}" if s.history.redo_label else "Redo")
        self.undo_action.setEnabled(bool(s.history.undo_label))
        self.redo_action.setEnabled(bool(s.history.redo_label))
        self.hands.choose()
        self._show_frame()

    def _on_plate(self) -> None:
        s = self.session
        self.playback.pause()
        self.hands.drawing = ""
        self.pictures.use(s.cache)
        self.pictures.set_shot(s.shot)
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
        self._view_changed()
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
        self.frame_field.setText(str(self.session.frame))
        self._show_frame()

    def _view_changed(self) -> None:
        """The steady view is set otherwise, or the step shows it or not."""
        page = self.details.check
        checking = self.session.step in ("Check", "Repair")
        panes = page.panes.currentData()
        if checking and panes == "beside" and not self.steady.isVisible():
            self.panes.setSizes([1000, 1000])
        self.viewer.setVisible(not checking or panes != "steady")
        self.steady.setVisible(checking and panes != "plate")
        self.steady.held, self.steady.compared = page.held.currentData(), page.compared.currentData()
        self.steady.split, self.steady.close_ups = page.split.value() / 100, page.close_ups.isChecked()
        self.viewer.surface_overlay = page.overlay.currentData()
        page.show_state()
        self._show_picture(self.viewer.picture, "")

    def _show_picture(self, picture: np.ndarray | None, trouble: str) -> None:
        self.viewer.show_picture(picture, trouble, self.session.plate.size if self.session.plate is not None else None)
        if self.steady.isVisible():
            self.steady.show_frame(picture, trouble)

    def _on_drift(self) -> None:
        self.viewer.update()
        self.steady.update()

    @property
    def _dragging(self) -> bool:
        """Whether a point is in hand."""
        return isinstance(self.viewer.tool, PointsTool) and self.viewer.tool.magnify is not None

    def _show_frame(self) -> None:
        s = self.session
        if s.plate is None or s.cache is None:
            return
        graphics = self.buttons["graphics"].isChecked()
        # while something is dragged, or played so, a quick look does where the pane cannot show more
        dragging = self._dragging
        quick = 4 if s.step == "Repair" and self.viewer.zoom < _QUICKEST else 2  # in Repair the magnifiers show the plate itself
        reduced = self.play_at if self.playback.playing else quick if dragging and self.viewer.zoom < _QUICK else 1
        ready = self.pictures.ready(s.frame, graphics, reduced)
        low, high = s.shot.range
        ahead = [f for f in range(s.frame + 1, s.frame + 1 + _AHEAD) if low <= f <= high]
        if len(ahead) < _AHEAD and self.playback.playing:
            ahead += list(range(low, min(high, low + _AHEAD - len(ahead)) + 1))
        s.cache.ahead([s.frame, *ahead])
        if ready is not None:
            self.playback.waiting = False
            self._show_picture(*ready)
            self.pictures.wish(s.frame, graphics, ahead if self.playback.playing else [], reduced)
        else:
            self.playback.waiting = True
            self.pictures.wish(s.frame, graphics, ahead if self.playback.playing else [], reduced)
            if dragging:  # the old picture need not be painted once more while the new one is made
                self._hold_painting()
        self.viewer.update()

    def _hold_painting(self) -> None:
        """Let both panes wait for the next picture, but not for long."""
        for pane in (self.viewer, self.steady):
            pane.setUpdatesEnabled(False)
        if not self._held.isActive():  # a quick hand must not put it off for ever
            self._held.start()

    def _paint_again(self) -> None:
        self._held.stop()
        for pane in (self.viewer, self.steady):
            pane.setUpdatesEnabled(True)

    def _on_picture(self, frame: int, picture: object, error: str) -> None:
        if frame == self.session.frame:
            self.playback.waiting = False
            self._show_picture(picture, error)  # type: ignore[arg-type]
            self._paint_again()

    def _on_viewing(self) -> None:
        self.pictures.look_through(self.session.viewing)
        self._show_frame()
        self.viewer.update()

    def _on_hover(self, x: float, y: float) -> None:
        """The plate's own numbers under the pointer, whatever the view does."""
        s = self.session
        plate = s.cache.peek(s.frame) if s.cache is not None else None
        if not isinstance(plate, np.ndarray) or not (0 <= x < plate.shape[1] and 0 <= y < plate.shape[0]):
            self.place.setText("")
            return
        values = plate[int(y), int(x)]
        whole = np.issubdtype(plate.dtype, np.integer)
        self.place.setText(f"x {x:.1f}  y {y:.1f}    plate " + " ".join(str(v) if whole else f"{v:.4f}" for v in values[:4]))

    def _on_playing(self, on: bool) -> None:
        self.buttons["play"].setIcon(qtawesome.icon("mdi6.pause" if on else "mdi6.play", color="#c9c9c9"))
        if not on and self.play_at > 1:
            self._show_frame()  # at full resolution again

    # -- small things ---------------------------------------------------------------------------------------------

    def _play_at(self, part: int) -> None:
        self.play_at = part
        self._show_frame()

    def _graphics(self) -> None:
        self._show_frame()

    def _overlays(self) -> None:
        self.viewer.overlays = self.buttons["overlays"].isChecked()
        self.viewer.update()

    def _texture(self, on: bool) -> None:
        self.viewer.texture = on
        self.viewer.update()

    def _reread(self) -> None:
        self.pictures.refresh_files()
        self._show_frame()
        self.say("The artwork was read again.")

    def _set_range(self, begins: bool) -> None:
        s = self.session
        if s.plate is not None:
            a, b = s.shot.range
            new = (s.frame, max(b, s.frame)) if begins else (min(a, s.frame), s.frame)
            s.history.do("Set the range", s.shot.but(range=new))

    def _typed_frame(self) -> None:
        try:
            self.session.go(int(self.frame_field.text()))
        except ValueError:
            self.say("Type a frame number.", True)
        self.frame_field.setText(str(self.session.frame))
        self.viewer.setFocus()

    def _fill_demo(self) -> None:
        from wertis.demo import make

        self.demo_menu.clear()
        self._action(self.demo_menu, "Brindle Quay, tracked, with a graphic", "", lambda: self.make_demo(make.TRACKED))
        self._action(self.demo_menu, "Brindle Quay, with a track that drifts", "", lambda: self.make_demo(make.DRIFTING))
        for name, title in make.TITLES.items():
            self._action(self.demo_menu, f"{title}, untouched", "", lambda n=name: self.make_demo(n))

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
        self.stop_job()
        self.measuring.wait(0)
        self.measuring.stop()
        if self.job is not None:
            self.job.finished.wait(10)
        self.keeping.finish()
        self.pictures.close()
        self.session.close()
        event.accept()
