"""The details: the settings of the step in hand, for what is selected."""

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QSignalBlocker, Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QFormLayout,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QSpinBox,
    QStackedWidget,
    QWidget,
)

from wertis.app.fields import DragLabel, Number, form, named
from wertis.app.session import STEPS, Session
from wertis.core.comp.picture import surface_proportions
from wertis.core.errors import WertisError
from wertis.core.shot import edits, hold_outs
from wertis.core.shot.document import HoldOut, Placement

PICTURES = "Pictures and movies (*.png *.jpg *.jpeg *.tif *.tiff *.dpx *.exr *.mov *.mp4 *.mkv *.webm)"
KIND_WORDS = {"shift": "Shift", "shift-scale": "Shift and scale", "shift-turn": "Shift and turn",
              "similarity": "Shift, scale and turn", "affine": "With shear", "perspective": "With perspective"}
ARTWORK_WORDS = {"grid": "Grid", "checker": "Checker", "picture": "Picture file", "sequence": "Sequence or movie"}
FIT_WORDS = {"fit": "Fit, keep proportions", "fill": "Fill, keep proportions", "stretch": "Stretch to the corners"}
PROPORTION_WORDS = {"given": "as you gave them", "perspective": "worked out from the perspective",
                    "flat": "seen too flat to tell: sides as seen are taken; overrule them if you know better"}


class Details(QScrollArea):
    """One page for each step."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFrameShape(QScrollArea.Shape.NoFrame)
        self.setFixedWidth(272)
        self.plate, self.region, self.track, self.use, self.deliver = (
            PlatePage(session), RegionPage(session), TrackPage(session), UsePage(session), DeliverPage(session))
        self._stack = QStackedWidget()
        for page in (self.plate, self.region, self.track, self.use, self.deliver):
            self._stack.addWidget(page)
        self.setWidget(self._stack)
        session.step_changed.connect(lambda step: self._stack.setCurrentIndex(STEPS.index(step)))


class Page(QWidget):
    """A step's settings; `show_state` is called when anything changed."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("panel")
        for signal in (session.shot_changed, session.selection_changed, session.plate_changed, session.frame_changed, session.live_changed):
            signal.connect(lambda *_: self.show_state())

    def show_state(self) -> None:
        """Show things as they are."""


class PlatePage(Page):
    """What the plate is; its range."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        f = form(self)
        self.open = QPushButton("Open a plate...")
        self.open.setObjectName("main")
        self.name = named("", "heading")
        self.facts = named("", "quiet")
        self.first, self.last = QSpinBox(), QSpinBox()
        for box, name in ((self.first, "First frame of the range"), (self.last, "Last frame of the range")):
            box.setRange(-10_000_000, 100_000_000)
            box.setKeyboardTracking(False)
            box.setAccessibleName(name)
            box.valueChanged.connect(self._range)
        self.first.setToolTip("First frame to track and render (I sets it to the frame in view)")
        self.last.setToolTip("Last frame to track and render (O sets it to the frame in view)")
        self.fps = Number(1, 240, 1, 3, "fps", "Frames per second")
        self.fps.valueChanged.connect(self._fps)
        f.addRow(self.name)
        f.addRow(self.facts)
        f.addRow(self.open)
        f.addRow(named("RANGE", "section"))
        f.addRow("First", self.first)
        f.addRow("Last", self.last)
        f.addRow(DragLabel("Rate", self.fps), self.fps)
        f.addRow(named("Next: go to the frame where the surface is largest, sharpest and least blurred, then take the step Region.", "hint"))
        self.show_state()

    def show_state(self) -> None:
        plate, shot = self.session.plate, self.session.shot
        for box in (self.first, self.last, self.fps):
            box.setEnabled(plate is not None)
        if plate is None:
            self.name.setText("No plate")
            self.facts.setText("A folder of numbered pictures (PNG, JPEG, TIFF, DPX, EXR) or a movie.")
            return
        self.name.setText(plate.path.name)
        gaps = f"\n{len(plate.gaps)} frames missing: {_few(sorted(plate.gaps))}" if plate.gaps else ""
        self.facts.setText(f"{plate.size[0]} x {plate.size[1]} pixels\nframes {plate.first} to {plate.last}{gaps}\n{plate.path.parent}")
        with QSignalBlocker(self.first), QSignalBlocker(self.last), QSignalBlocker(self.fps):
            self.first.setRange(plate.first, plate.last)
            self.last.setRange(plate.first, plate.last)
            self.first.setValue(shot.range[0])
            self.last.setValue(shot.range[1])
            self.fps.setValue(shot.plate.fps if shot.plate else plate.fps)

    def _range(self) -> None:
        a, b = self.first.value(), self.last.value()
        if self.sender() is self.first:
            b = max(a, b)
        else:
            a = min(a, b)
        self.session.history.do("Set the range", self.session.shot.but(range=(a, b)))

    def _fps(self, value: float) -> None:
        shot = self.session.shot
        if shot.plate is not None:
            self.session.history.do("Set the frame rate", shot.but(plate=shot.plate.but(fps=value)))


class RegionPage(Page):
    """The region of the selected track."""

    draw_wanted = Signal()
    hold_out_wanted = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        f = form(self)
        self.heading = named("", "heading")
        self.draw = QPushButton("Draw a new region")
        self.draw.setObjectName("main")
        self.draw.setToolTip("Click round a surface on this frame (N)")
        self.draw.clicked.connect(self.draw_wanted)
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the track")
        self.name.editingFinished.connect(self._rename)
        self.facts = named("", "quiet")
        f.addRow(self.heading)
        f.addRow(self.draw)
        f.addRow("Name", self.name)
        f.addRow(self.facts)
        self.texture_words = named("", "quiet")
        self.show_texture = QCheckBox("Show where there is texture")
        self.show_texture.setToolTip("Squares over the region: the fuller, the better that spot holds (X)")
        f.addRow(self.texture_words)
        f.addRow(self.show_texture)
        f.addRow(named("HOLD-OUTS", "section"))
        self.hold = QPushButton("Draw a hold-out")
        self.hold.setToolTip("Click round what passes in front; its pixels do not exist for the track (H)")
        self.hold.clicked.connect(self.hold_out_wanted)
        self.matte = QPushButton("Matte...")
        self.matte.setToolTip("Take away what a matte sequence shows in white")
        self.matte.clicked.connect(self._choose_matte)
        row = QHBoxLayout()
        row.addWidget(self.hold, 1)
        row.addWidget(self.matte)
        f.addRow(row)
        self.held_words = named("", "quiet")
        f.addRow(self.held_words)
        self.moves = QComboBox()
        self.moves.setAccessibleName("What moves the hold-out")
        self.moves.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.moves.setMinimumContentsLength(8)
        self.moves.activated.connect(self._follow)
        self.grow = Number(-200, 200, 1, 1, "px", "Grow")
        self.soft = Number(0, 200, 1, 1, "px", "Soft edge")
        self.invert = QCheckBox("Inverted: black is held out")
        self.grow.valueChanged.connect(lambda v: self._set_held("Grow the hold-out", "grow", grow=v))
        self.soft.valueChanged.connect(lambda v: self._set_held("Soften the hold-out", "soft", soft=v))
        self.invert.clicked.connect(lambda on: self._set_held("Invert the matte", invert=on))
        f.addRow("Moves", self.moves)
        f.addRow(DragLabel("Grow", self.grow), self.grow)
        f.addRow(DragLabel("Soft edge", self.soft), self.soft)
        f.addRow(self.invert)
        f.addRow(named(
            "Click round the surface; click the first point to close. Take in as much detail as lies on the one flat surface: the region may "
            "be larger than the graphic.\n\nDrag a point to move it, the inside to move all, double-click a side for a new point, "
            "Delete over a point removes it. Alt with arrow keys nudges by a pixel, Shift as well by a tenth.", "hint"))
        self.show_state()

    def show_state(self) -> None:
        track = self.session.track
        self.heading.setText(track.name if track else "No region yet")
        self.name.setEnabled(track is not None)
        self.draw.setEnabled(self.session.plate is not None)
        with QSignalBlocker(self.name):
            self.name.setText(track.name if track else "")
        self.facts.setText(f"{len(track.region.points)} points, drawn on frame {track.region.frame}" if track else "")
        self.show_texture.setEnabled(track is not None)
        texture = self.session.texture() if self.session.step == "Region" else None
        self.texture_words.setText(texture.words if texture is not None else "")
        self._show_held()

    def _show_held(self) -> None:
        s = self.session
        track, held = s.track, s.hold_out
        self.hold.setEnabled(track is not None)
        self.matte.setEnabled(track is not None)
        shape = held is not None and not held.path
        rows = self.layout()
        assert isinstance(rows, QFormLayout)
        for w, shown in ((self.moves, shape), (self.invert, held is not None and not shape), (self.grow, held is not None), (self.soft, held is not None)):
            rows.setRowVisible(w, shown)
        count = len(track.hold_outs) if track else 0
        if held is None:
            self.held_words.setText(f"{count} on this track; pick one in the outline." if count else "None. For what passes in front of the surface.")
            return
        keys = ", ".join(map(str, sorted(held.keys)))
        self.held_words.setText(f"{held.name}: " + (f"matte {Path(held.path).name}" if held.path else f"keyed on {keys}"))
        with QSignalBlocker(self.moves), QSignalBlocker(self.grow), QSignalBlocker(self.soft), QSignalBlocker(self.invert):
            self.moves.clear()
            self.moves.addItem("By hand, with keys", "")
            for other in s.shot.tracks:
                if track is not None and other.id != track.id:
                    self.moves.addItem(f"With {other.name}", other.id)
            self.moves.setCurrentIndex(max(0, self.moves.findData(held.follows)))
            self.grow.setValue(held.grow)
            self.soft.setValue(held.soft)
            self.invert.setChecked(held.invert)

    def _set_held(self, label: str, merge: str = "", **changes: object) -> None:
        s = self.session
        if s.track is not None and s.hold_out is not None:
            s.history.do(label, hold_outs.set_hold_out(s.shot, s.track.id, s.hold_out.but(**changes)), f"{merge}-{s.hold_out.id}" if merge else "")

    def _follow(self) -> None:
        s = self.session
        held = s.hold_out
        if held is None:
            return
        points = hold_outs.shape_on(s.shot, held, s.frame)
        if points is not None:
            self._set_held("Choose what moves the hold-out", follows=self.moves.currentData(), keys={s.frame: edits.as_points(points)})

    def _choose_matte(self) -> None:
        name = QFileDialog.getExistingDirectory(self, "The folder of the matte sequence")
        if name:
            self.set_matte(Path(name))

    def set_matte(self, path: Path) -> None:
        """Hold out what a matte sequence shows; a message tells when it cannot be read."""
        s = self.session
        if s.track is None or s.plate is None:
            return
        try:
            hold_outs.open_matte(path, s.plate.size)
        except WertisError as why:
            s.message.emit(str(why), True)
            return
        held = HoldOut(name=path.name[:200] or "Matte", path=str(path.absolute()), grow=0, soft=0)
        s.history.do("Hold out a matte", hold_outs.add_hold_out(s.shot, s.track.id, held))
        s.select(s.track.id, "", held.id)

    def _rename(self) -> None:
        track, text = self.session.track, self.name.text().strip()
        if track is not None and text and text != track.name:
            shot = self.session.shot
            name = edits.free_name(text, [t.name for t in shot.tracks if t.id != track.id])
            self.session.history.do("Rename", shot.with_track(track.but(name=name)))


class TrackPage(Page):
    """Tracking: kind of motion, direction, stop."""

    track_wanted = Signal(str)
    stop_wanted = Signal()
    passers_wanted = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        f = form(self)
        self.heading = named("", "heading")
        self.kind = _combo(KIND_WORDS, "Kind of motion", self._kind)
        self.kind.setToolTip("How the surface may move. Perspective for flat surfaces; less where there is little to hold on to.")
        f.addRow(self.heading)
        f.addRow("Motion", self.kind)
        grid = QGridLayout()
        grid.setSpacing(6)
        self.buttons: dict[str, QPushButton] = {}
        for name, words, key, row, column in (
                ("backward", "Backward", "Shift+T", 0, 0), ("forward", "Forward", "T", 0, 1),
                ("previous", "One back", "Shift+Y", 1, 0), ("next", "One forward", "Y", 1, 1)):
            b = QPushButton(words)
            b.setToolTip(f"Track {words.lower()} from the frame in view ({key})")
            b.clicked.connect(lambda _=False, n=name: self.track_wanted.emit(n))
            grid.addWidget(b, row, column)
            self.buttons[name] = b
        both = QPushButton("Track both ways")
        both.setObjectName("main")
        both.setToolTip("Track to the end and to the beginning of the range (Ctrl+T)")
        both.clicked.connect(lambda: self.track_wanted.emit("both"))
        self.buttons["both"] = both
        self.stop = QPushButton("Stop")
        self.stop.setToolTip("Stop and keep what there is (Esc)")
        self.stop.clicked.connect(self.stop_wanted)
        f.addRow(both)
        f.addRow(grid)
        f.addRow(self.stop)
        self.facts = named("", "quiet")
        f.addRow(named("FOUND", "section"))
        f.addRow(self.facts)
        self.passers = QPushButton("Hold out what was distrusted")
        self.passers.setToolTip("Make a matte sequence of what passes in front of the tracked surface, and hold it out of the track")
        self.passers.clicked.connect(self.passers_wanted)
        f.addRow(self.passers)
        f.addRow(named("Each frame is compared with the reference frame itself, so error does not add up. A frame on which the surface is "
                       "lost stays empty.", "hint"))
        self.show_state()

    def show_state(self) -> None:
        s = self.session
        track = s.track
        busy = bool(s.live_track)
        self.heading.setText(track.name if track else "Draw a region first")
        for b in self.buttons.values():
            b.setEnabled(track is not None and s.plate is not None and not busy)
        self.stop.setEnabled(busy)
        self.passers.setEnabled(track is not None and track.solved is not None and not busy)
        self.kind.setEnabled(track is not None and not busy)
        if track is None:
            self.facts.setText("")
            return
        with QSignalBlocker(self.kind):
            self.kind.setCurrentIndex(self.kind.findData(track.kind))
        if track.solved is None:
            self.facts.setText("Being tracked now." if busy else "Not tracked yet.")
            return
        good = track.solved.good
        errors = track.solved.errors[good]
        lost = [int(x) for x in track.solved.frames[~good]]
        words = f"{int(good.sum())} frames, expected error {errors.mean():.2f} px, at most {errors.max():.2f} px on frame " \
                f"{int(track.solved.frames[good][errors.argmax()])}."
        if lost:
            words += f"\n{len(lost)} lost: {_few(lost)}.\n{track.solved.reasons.get(lost[0], '')}"
        self.facts.setText(words)

    def _kind(self) -> None:
        track = self.session.track
        if track is not None:
            self.session.history.do("Set the kind of motion", self.session.shot.with_track(track.but(kind=self.kind.currentData())))
            if track.solved is not None:
                self.session.message.emit("The kind of motion is set; track again to use it. What was tracked stays until then.", False)


class UsePage(Page):
    """Placements on the selected track."""

    add_wanted = Signal()
    reread_wanted = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        f = form(self)
        self.heading = named("", "heading")
        self.add = QPushButton("Place a graphic")
        self.add.setObjectName("main")
        self.add.setToolTip("Put a quad on the surface on this frame (P)")
        self.add.clicked.connect(self.add_wanted)
        f.addRow(self.heading)
        f.addRow(self.add)
        self.artwork = _combo(ARTWORK_WORDS, "Artwork", self._artwork)
        self.file = QPushButton("Choose...")
        self.file.clicked.connect(self._choose)
        self.reread = QPushButton("Reread")
        self.reread.setToolTip("Read the artwork's file again after it was changed")
        self.reread.clicked.connect(self.reread_wanted)
        row = QHBoxLayout()
        row.addWidget(self.file, 1)
        row.addWidget(self.reread)
        self.fit = _combo(FIT_WORDS, "Fit", lambda: self._set("Set the fit", fit=self.fit.currentData()))
        self.blend = _combo({k: k.capitalize() for k in ("normal", "multiply", "screen", "overlay")}, "Blend",
                            lambda: self._set("Set the blend mode", blend=self.blend.currentData()))
        self.opacity = Number(0, 100, 1, 0, "%", "Opacity")
        self.opacity.valueChanged.connect(lambda v: self._set("Set the opacity", "opacity", opacity=v / 100))
        self.ratio = Number(0.02, 50, 0.01, 3, "", "Proportions")
        self.ratio.valueChanged.connect(lambda v: self._set("Set the proportions", "ratio", ratio=v))
        self.ratio_words = named("", "quiet")
        self.ratio_auto = QPushButton("Work out again")
        self.ratio_auto.setToolTip("Take the proportions that the perspective gives")
        self.ratio_auto.clicked.connect(lambda: self._set("Work out the proportions", ratio=None))
        self.frame = named("", "quiet")
        self.here = QPushButton("Keep it on this frame")
        self.here.setToolTip("Make the frame in view the one on which the corners are kept; the artwork does not move")
        self.here.clicked.connect(self._rebase)
        self.section = named("ARTWORK", "section")
        self.fields: list[QWidget] = [self.artwork, self.file, self.reread, self.fit, self.blend, self.opacity, self.ratio, self.here]
        f.addRow(self.section)
        f.addRow("Show", self.artwork)
        f.addRow("File", row)
        f.addRow("Fit", self.fit)
        f.addRow("Blend", self.blend)
        f.addRow(DragLabel("Opacity", self.opacity), self.opacity)
        f.addRow(named("SURFACE", "section"))
        f.addRow(DragLabel("Width / height", self.ratio), self.ratio)
        f.addRow(self.ratio_words)
        f.addRow(self.ratio_auto)
        f.addRow(self.frame)
        f.addRow(self.here)
        f.addRow(named("Drag the corners on any frame; the grid shows the perspective. Alt with arrow keys nudges the last corner.", "hint"))
        self.show_state()

    def show_state(self) -> None:
        s = self.session
        track, placement = s.track, s.placement
        self.heading.setText(f"{placement.name} on {track.name}" if track and placement else (track.name if track else "Draw a region first"))
        self.add.setEnabled(track is not None and s.plate is not None)
        for w in self.fields:
            w.setEnabled(placement is not None)
        self.ratio_auto.setEnabled(placement is not None and placement.ratio is not None)
        if placement is None or s.shot.plate is None:
            self.ratio_words.setText("")
            self.frame.setText("")
            self.file.setText("Choose...")
            return
        files = placement.artwork.kind in ("picture", "sequence")
        self.reread.setEnabled(files)
        self.file.setEnabled(files)
        name = Path(placement.artwork.path).name if files and placement.artwork.path else "Choose..."
        self.file.setText(self.fontMetrics().elidedText(name, Qt.TextElideMode.ElideMiddle, 76))
        self.file.setToolTip(placement.artwork.path)
        found = surface_proportions(placement, s.shot.plate.size)
        for combo, value in ((self.artwork, placement.artwork.kind), (self.fit, placement.fit), (self.blend, placement.blend)):
            with QSignalBlocker(combo):
                combo.setCurrentIndex(combo.findData(value))
        with QSignalBlocker(self.opacity), QSignalBlocker(self.ratio):
            self.opacity.setValue(placement.opacity * 100)
            self.ratio.setValue(found.ratio)
        self.ratio_words.setText(PROPORTION_WORDS[found.source])
        self.frame.setText(f"Corners are kept on frame {placement.frame}.")
        self.here.setEnabled(placement.frame != s.frame)

    def _set(self, label: str, merge: str = "", **changes: object) -> None:
        placement = self.session.placement
        if placement is not None:
            self._put(label, placement.but(**changes), merge)

    def _put(self, label: str, placement: Placement, merge: str = "") -> None:
        s = self.session
        if s.track is not None:
            s.history.do(label, edits.set_placement(s.shot, s.track.id, placement), f"{merge}-{placement.id}" if merge else "")

    def _artwork(self) -> None:
        placement = self.session.placement
        if placement is None:
            return
        kind = self.artwork.currentData()
        if kind in ("picture", "sequence"):
            self._choose(kind)
        else:
            self._put("Change the artwork", placement.but(artwork=placement.artwork.but(kind=kind)))

    def _choose(self, kind: str | bool = False) -> None:
        placement = self.session.placement
        if placement is None:
            return
        kind = kind if isinstance(kind, str) else placement.artwork.kind
        name, _ = QFileDialog.getOpenFileName(self, "Artwork", placement.artwork.path, PICTURES)
        if name:
            self.set_file(kind, Path(name))
        self.show_state()

    def set_file(self, kind: str, path: Path) -> None:
        """Show a file in the selected placement; a message tells when it cannot be read."""
        from wertis.core.comp.artwork import FileArtwork

        s = self.session
        placement = s.placement
        if placement is None:
            return
        try:
            FileArtwork(path, still=kind == "picture").at(s.shot.range[0], s.shot.range[0])
        except WertisError as why:
            s.message.emit(str(why), True)
            return
        changed = placement.but(artwork=placement.artwork.but(kind=kind, path=str(path.absolute()), start=s.shot.range[0]))
        self._put("Change the artwork", changed)

    def _rebase(self) -> None:
        s = self.session
        if s.track is not None and s.placement is not None:
            try:
                self._put("Keep the placement on another frame", edits.rebase_placement(s.track, s.placement, s.frame))
            except WertisError as why:
                s.message.emit(str(why), True)


class DeliverPage(Page):
    """Renders and exports."""

    render_wanted = Signal(str, str)
    export_wanted = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        f = form(self)
        self.what = _combo({"comp": "The comp", "graphic": "The graphic alone, with alpha"}, "What to render", self._suggest)
        self.kind = _combo({".png": "PNG sequence", ".exr": "EXR sequence, half float", ".tif": "TIFF sequence", ".mp4": "Movie, H.264",
                            ".mkv": "Movie, FFV1 (no loss)"}, "File kind", self._suggest)
        self.target = QLineEdit()
        self.target.setAccessibleName("Where to render to")
        self.target.setToolTip("#### stands for the frame number")
        self.target.setPlaceholderText("folder/name.####.png")
        browse = QPushButton("Folder...")
        browse.clicked.connect(self._browse)
        self.render_button = QPushButton("Render")
        self.render_button.setObjectName("main")
        self.render_button.setToolTip("Render the range (Ctrl+R)")
        self.render_button.clicked.connect(lambda: self.render_wanted.emit(self.what.currentData(), self.target.text().strip()))
        self.range = named("", "quiet")
        f.addRow(named("Render", "heading"))
        f.addRow("What", self.what)
        f.addRow("As", self.kind)
        f.addRow("To", self.target)
        f.addRow("", browse)
        f.addRow(self.range)
        f.addRow(self.render_button)
        f.addRow(named("Corner pin", "heading"))
        self.pin_words = named("", "quiet")
        self.csv, self.json = QPushButton("Export CSV..."), QPushButton("Export JSON...")
        self.csv.clicked.connect(lambda: self._export("csv"))
        self.json.clicked.connect(lambda: self._export("json"))
        row = QHBoxLayout()
        row.addWidget(self.csv)
        row.addWidget(self.json)
        f.addRow(self.pin_words)
        f.addRow(row)
        f.addRow(named("Pixels, y down, first pixel's centre at 0.5, 0.5; the file says so too.", "hint"))
        self._folder = Path.home()
        self._suggested_for: object = None
        self.show_state()

    def show_state(self) -> None:
        s = self.session
        a, b = s.shot.range
        self.range.setText(f"frames {a} to {b}" if s.plate else "")
        self.render_button.setEnabled(s.plate is not None)
        track = s.track
        ok = track is not None and track.solved is not None and (bool(track.placements) or len(track.region.points) == 4)
        self.csv.setEnabled(ok)
        self.json.setEnabled(ok)
        what = s.placement.name if s.placement else "the region's corners"
        self.pin_words.setText(f"{what} on {track.name}" if ok and track else "Track a surface and place something first.")
        if s.plate is not self._suggested_for:
            self._suggested_for = s.plate
            self.target.clear()
            self._suggest()

    def _suggest(self) -> None:
        """Propose a file name for what is chosen; a folder that was typed stays."""
        shot, suffix = self.session.shot, self.kind.currentData()
        text = self.target.text()
        folder = Path(text).parent if text else (self.session.path.parent / "render" if self.session.path else self._folder / "render")
        stem = f"{shot.name.replace('/', '-').replace(' ', '_')}_{self.what.currentData()}"
        self.target.setText(str(folder / (stem + (suffix if suffix in (".mp4", ".mkv") else f".####{suffix}"))))

    def _browse(self) -> None:
        name = QFileDialog.getExistingDirectory(self, "Render to", str(Path(self.target.text() or str(self._folder)).parent))
        if name:
            self.target.setText(str(Path(name) / Path(self.target.text()).name))

    def _export(self, suffix: str) -> None:
        track = self.session.track
        start = str((self.session.path.parent if self.session.path else self._folder) / f"{track.name if track else 'track'}.{suffix}")
        name, _ = QFileDialog.getSaveFileName(self, "Export the corner pin", start, f"Corner pin (*.{suffix})")
        if name:
            self.export_wanted.emit(name if name.lower().endswith(f".{suffix}") else f"{name}.{suffix}")


def _combo(words: dict[str, str], name: str, activated: Callable[[], object]) -> QComboBox:
    box = QComboBox()
    box.setAccessibleName(name)
    box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    box.setMinimumContentsLength(8)
    for key, text in words.items():
        box.addItem(text, key)
    box.activated.connect(lambda _: activated())
    return box


def _few(frames: list[int]) -> str:
    shown = ", ".join(map(str, frames[:6]))
    return shown + (f" and {len(frames) - 6} more" if len(frames) > 6 else "")
