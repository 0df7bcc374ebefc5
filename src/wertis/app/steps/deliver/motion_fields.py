"""Motion for other applications, on the page of the step Deliver: what goes out, in which coordinates, and its first lines."""

from pathlib import Path

from PySide6.QtCore import QSignalBlocker, Qt, Signal
from PySide6.QtGui import QFontDatabase
from PySide6.QtWidgets import QCheckBox, QFileDialog, QHBoxLayout, QInputDialog, QPlainTextEdit, QPushButton, QWidget

from wertis.app.fields import Choice, DragLabel, Number, named
from wertis.app.pages import combo, number, part_form, side_by_side
from wertis.app.session import Session
from wertis.core.errors import WertisError
from wertis.core.exchange import motion_json, receivers
from wertis.core.exchange.layout import Layout
from wertis.core.exchange.receivers import Receiver
from wertis.core.jobs.motion_export import MAPS, layout_of, motion_file
from wertis.core.shot.document import Placement

KIND_WORDS = {"corners": "Graphic's corners", "inverse corners": "Steadying corners", "matrices": "Matrices, 3 x 3",
              "transforms": "Transforms", "points": "Points", "map": "Map, from where",
              "inverse map": "Map, to where", "vectors": "Motion vectors"}
_FORMATS = {".json": "JSON", ".csv": "CSV", ".txt": "Plain table", ".exr": "EXR sequence"}
_NONE = "/"  # in place of a name: no receiver is chosen
_LINES = 9  # of the preview
_MANY_LINES, _FEW_LINES = 132, 40  # pixels of its height


class MotionFields(QWidget):
    """What goes out of the selected track.

    Signals
    -------
    export_wanted(name), prove_wanted(), import_wanted(name)
    """

    export_wanted = Signal(str)
    prove_wanted = Signal()
    import_wanted = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        f = self.form = part_form(self)
        self.kept = combo({}, "Receivers that are kept", self._take_kept)
        self.kept.setToolTip("What, as which file and in which coordinates, as it was kept under a name")
        self.keep = QPushButton("Keep...")
        self.keep.setToolTip("Keep these choices under a name")
        self.keep.clicked.connect(self._keep)
        f.addRow("For", side_by_side(self.kept, self.keep))
        self._list_kept("")
        self.kind = self._choice(KIND_WORDS, "What goes out")
        self.format = self._choice(_FORMATS, "As which file")
        f.addRow("What", self.kind)
        f.addRow("As", self.format)
        f.addRow(named("THE RECEIVER'S COORDINATES", "section"))
        self.axis = self._choice({"down": "y down", "up": "y up"}, "Which way y grows")
        self.units = self._choice({"pixels": "Pixels", "unit": "From 0 to 1"}, "Units")
        self.centre = self._choice({"half": "First centre at 0.5", "zero": "First centre at 0"}, "Where the first pixel's centre is")
        f.addRow("Axes", side_by_side(self.axis, self.units))
        f.addRow("Pixels", self.centre)
        self.own_size = QCheckBox("Another picture size")
        self.own_size.setToolTip("The receiver works on a smaller or larger copy of the plate")
        self.own_size.clicked.connect(lambda _: self.show_state())
        self.width_, self.height_ = self._number(1, 65536, "px", "Width of the receiver's picture"), self._number(1, 65536, "px", "Its height")
        self.relative = QCheckBox("Relative")
        self.relative.setToolTip("Corners, points and a transform's anchor relative to where they are on the reference frame")
        self.relative.clicked.connect(lambda _: self.show_state())
        row = QHBoxLayout()
        row.setSpacing(16)
        row.addWidget(self.own_size)
        row.addWidget(self.relative)
        f.addRow(row)
        self._size_row = f.rowCount()
        f.addRow("Size", side_by_side(self.width_, self.height_))
        self.first = self._number(-1e7, 1e8, "", "Number that the range's first frame gets")
        self.reference = self._number(-1e7, 1e8, "", "Frame of the plate that everything is relative to")
        f.addRow(DragLabel("First, reference", self.first), side_by_side(self.first, self.reference))
        self.repaired = QCheckBox("With repairs")
        self.repaired.setChecked(True)
        self.repaired.clicked.connect(lambda _: self.show_state())
        self.background = QCheckBox("In the background")
        self.background.setToolTip("A process of its own exports the shot as it is now; the window stays free, and goes first")
        below = QHBoxLayout()
        below.addWidget(self.repaired)
        below.addWidget(self.background)
        f.addRow(below)
        self.preview = QPlainTextEdit()
        self.preview.setReadOnly(True)
        self.preview.setFont(QFontDatabase.systemFont(QFontDatabase.SystemFont.FixedFont))
        self.preview.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.make_room(False)
        self.preview.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.preview.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.preview.setAccessibleName("First lines of the file")
        f.addRow(self.preview)
        self.words = named("", "quiet")
        f.addRow(self.words)
        self.export, self.prove, self.take = QPushButton("Export..."), QPushButton("Prove it"), QPushButton("Import motion...")
        self.export.setObjectName("main")
        self.export.clicked.connect(self._export)
        self.prove.setToolTip("Let the receiver's stand-in rebuild frames from the file, and compare")
        self.prove.clicked.connect(self.prove_wanted)
        self.take.setToolTip("Motion made elsewhere: corners, matrices, points, meshes, maps, a camera")
        self.take.clicked.connect(self._take)
        f.addRow(side_by_side(self.export, self.prove))
        f.addRow(self.take)
        self._for: object = None
        self.show_state()

    @property
    def placement(self) -> Placement | None:
        """Whose corners go out: the selected graphic, or the track's first."""
        s = self.session
        if s.placement is not None:
            return s.placement
        there = s.shot.placements(s.track_id)
        return there[0] if there else None

    def make_room(self, wanted: bool) -> None:
        """Show fewer lines of the file, so that what is done in the background fits below without scrolling."""
        self.preview.setFixedHeight(_FEW_LINES if wanted else _MANY_LINES)

    @property
    def relative_wanted(self) -> bool:
        """Whether numbers are relative to the reference frame, where that means anything."""
        return self.relative.isChecked() and self.kind.currentData() in motion_json.CAN_BE_RELATIVE

    def layout_wanted(self) -> Layout:
        """The layout that was chosen.

        Raises
        ------
        DeliverError
            When there is no plate.
        """
        s = self.session
        receiver = (int(self.width_.value()), int(self.height_.value())) if self.own_size.isChecked() else None
        first = int(self.first.value())
        return layout_of(s.shot, y_up=self.axis.currentData() == "up", centre=self.centre.currentData(), units=self.units.currentData(), receiver=receiver,
                         first=None if first == s.shot.range[0] else first)

    def show_state(self) -> None:
        """Show what goes out, and its first lines."""
        s = self.session
        if s.plate is not self._for and s.plate is not None:
            self._for = s.plate
            for field, value in ((self.width_, s.plate.size[0]), (self.height_, s.plate.size[1]), (self.first, s.shot.range[0])):
                self._put(field, value)
        track = s.track
        if track is not None and self.reference.property("track") != track.id:
            self.reference.setProperty("track", track.id)
            self._put(self.reference, track.region.frame)
        kind = self.kind.currentData()
        self._offer(kind)
        self.form.setRowVisible(self._size_row, self.own_size.isChecked())
        self.relative.setEnabled(kind in motion_json.CAN_BE_RELATIVE)
        self.centre.setEnabled(self.units.currentData() == "pixels")
        ready = track is not None and track.solution is not None and s.plate is not None
        self.export.setEnabled(ready)
        self.prove.setEnabled(ready and kind in ("corners", "matrices", "points") and self.placement is not None and self.format.currentData() != ".txt")
        self.take.setEnabled(s.plate is not None)
        if not self.isVisibleTo(self.window()):
            return
        self._preview(ready, kind)

    def wanted(self) -> Receiver:
        """All of the choices, to be kept."""
        layout = self.layout_wanted()
        return Receiver(what=self.kind.currentData(), suffix=self.format.currentData(), repaired=self.repaired.isChecked(),
                        relative=self.relative.isChecked(), **layout.options)

    def take_receiver(self, receiver: Receiver) -> None:
        """Choose all that a receiver wants."""
        self.kind.setCurrentIndex(self.kind.findData(receiver.what))
        self._offer(receiver.what)
        self.format.setCurrentIndex(max(self.format.findData(receiver.suffix), 0))
        for choice, value in ((self.axis, "up" if receiver.y_up else "down"), (self.units, receiver.units), (self.centre, receiver.centre)):
            choice.setCurrentIndex(choice.findData(value))
        self.own_size.setChecked(receiver.receiver is not None)
        plate, start = self.session.plate, self.session.shot.range[0]
        width, height = receiver.receiver or (plate.size if plate is not None else (1, 1))
        for field, number_ in ((self.width_, width), (self.height_, height), (self.first, start if receiver.first is None else receiver.first)):
            self._put(field, number_)
        self.repaired.setChecked(receiver.repaired)
        self.relative.setChecked(receiver.relative)
        self.show_state()

    def _list_kept(self, chosen: str) -> None:
        with QSignalBlocker(self.kept):
            self.kept.clear()
            self.kept.addItem("Any", _NONE)
            for name in receivers.names():
                self.kept.addItem(name, name)
            self.kept.addItem("From a file...", "")
            self.kept.setCurrentIndex(self.kept.findData(chosen or _NONE))

    def _keep(self) -> None:
        name, good = QInputDialog.getText(self, "Keep", "Keep these choices as")
        if good and name.strip():
            try:
                receivers.keep(name.strip(), self.wanted())
            except WertisError as why:
                self.words.setText(str(why))
                return
            self._list_kept(name.strip())

    def _take_kept(self) -> None:
        name = self.kept.currentData()
        if name == _NONE:
            return
        path = "" if name else QFileDialog.getOpenFileName(self, "A receiver", "", "Receiver (*.json)")[0]
        if not name and not path:
            self._list_kept("")
            return
        try:
            receiver = receivers.load(name or path)
            if path:  # and from now on by its name
                receivers.keep(Path(path).stem, receiver)
            self.take_receiver(receiver)
            self._list_kept(name or Path(path).stem)
        except WertisError as why:
            self._list_kept("")
            self.words.setText(str(why))

    def _preview(self, ready: bool, kind: str) -> None:
        s, track = self.session, self.session.track
        if not ready or track is None:
            self.preview.setPlainText("")
            self.words.setText("Track a surface first.")
            return
        try:
            layout = self.layout_wanted()
            if kind in MAPS:
                channels = ("forward.u, forward.v    to the next frame\nbackward.u, backward.v  to the one before\nseen  1 where both are known",
                            "R  x of the place\nG  y of the place\nA  1 where it is known")
                text = f"For each frame an EXR file of 32-bit floats:\n{channels[kind != 'vectors']}"
            else:
                low, high = s.shot.range
                few = range(low, min(high, low + _LINES) + 1)
                body = motion_file(s.shot, track, kind, layout, self.placement, int(self.reference.value()), few,  # type: ignore[arg-type]
                                   self.repaired.isChecked(), self.relative_wanted)
                lines = motion_json.written(body, self.format.currentData()).splitlines()
                start = next((k for k, line in enumerate(lines) if line.startswith(("frame", ' "frames"', ' "tracks"'))), 0)
                text = "\n".join(lines[start:start + _LINES])
            self.preview.setPlainText(text)
            more = f"; relative to frame {layout.frame(int(self.reference.value()))}" if self.relative_wanted else ""
            self.words.setText(f"The receiver must know: {layout.words()}{more}.")
        except WertisError as why:
            self.preview.setPlainText("")
            self.words.setText(str(why))

    def _offer(self, kind: str) -> None:
        """Only formats that can hold it."""
        wanted = [".exr"] if kind in MAPS else [".json", ".csv", ".txt"] if kind == "points" else [".json", ".csv"]
        there = [self.format.itemData(k) for k in range(self.format.count())]
        if there != wanted:
            before = self.format.currentData()
            with QSignalBlocker(self.format):
                self.format.clear()
                for suffix in wanted:
                    self.format.addItem(_FORMATS[suffix], suffix)
                self.format.setCurrentIndex(max(self.format.findData(before), 0))

    def _export(self) -> None:
        s, suffix = self.session, self.format.currentData()
        folder = s.path.parent if s.path else Path.home()
        stem = f"{s.track.name if s.track else 'motion'} {self.kind.currentData()}".replace(" ", "_")
        proposed = folder / (f"{stem}.####{suffix}" if suffix == ".exr" else stem + suffix)
        name, _ = QFileDialog.getSaveFileName(self, "Export", str(proposed), f"(*{suffix})")
        if name:
            self.export_wanted.emit(name if name.lower().endswith(suffix) else name + suffix)

    def _take(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Import motion", "", "Motion (*.json *.csv *.txt *.usd *.usda *.usdc *.glb *.gltf *.obj *.exr)")
        if name:
            self.import_wanted.emit(name)

    def _choice(self, words: dict[str, str], name: str) -> Choice:
        return combo(words, name, self.show_state)

    def _number(self, low: float, high: float, unit: str, name: str) -> Number:
        return number(low, high, unit, name, lambda _: self.show_state(), 1, 0)

    @staticmethod
    def _put(field: Number, value: float) -> None:
        with QSignalBlocker(field):
            field.setValue(value)
