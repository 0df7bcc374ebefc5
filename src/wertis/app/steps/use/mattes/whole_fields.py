"""The whole matte on its page: on what it is drawn, how its track carries it, its edge and blur, what it does to graphics, and how it is seen."""

from pathlib import Path

from PySide6.QtCore import QSignalBlocker
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QCheckBox, QColorDialog, QFileDialog, QPushButton, QWidget

from wertis.app.fields import DragLabel, named
from wertis.app.pages import combo, number, part_form, show_colour, side_by_side
from wertis.app.steps.use.mattes.hand import Hand
from wertis.core.errors import WertisError
from wertis.core.shot.document import Placement, Shot
from wertis.core.shot.hold_outs import open_matte
from wertis.core.shot.matte_edits import hold_back
from wertis.core.shot.mattes import MatteSource

TAKE_WORDS = {"all": "All", "perspective": "As a plane", "affine": "No perspective", "similarity": "Shift, scale, turn", "shift-scale": "Shift, scale",
              "shift-turn": "Shift, turn", "shift": "Shift alone"}
LOOK_WORDS = {"": "Tinted", "alone": "Alone", "leaks": "Leaks", "out": "Cut-out"}
HOW_WORDS = {"in front": "In front of", "limits": "Limits"}
SOURCE_WORDS = {"": "Nothing", "brightness": "What is bright", "colour": "A colour", "difference": "What differs from...", "file": "A matte from files..."}
FALL_WORDS = {"smooth": "Smoothly", "linear": "Straight"}
EDGE_WORDS = {"drawn": "Drawn", "picture": "From picture"}
_FILES = "Pictures and movies (*.png *.jpg *.jpeg *.tif *.tiff *.dpx *.exr *.mov *.mp4 *.mkv *.webm)"


def _graphics(shot: Shot) -> list[Placement]:
    """All graphics: a matte may be in front of one that another track carries."""
    return [x for x in shot.items if isinstance(x, Placement)]


class WholeFields(QWidget):
    """What is set of a matte as a whole."""

    def __init__(self, hand: Hand) -> None:
        super().__init__()
        self.hand = hand
        f = self.form = part_form(self)
        self.how = combo(HOW_WORDS, "What it does to a graphic", self._held)
        self.of = combo({}, "The graphic", self._held)
        f.addRow(side_by_side(self.how, self.of))
        self.look = combo(LOOK_WORDS, "How the matte is seen: tinted over the picture, alone, alone with faint parts raised so that leaks show, or "
                          "what it cuts out", lambda: hand.ask("look"))
        self.steady = QCheckBox("Steady")
        self.steady.setToolTip("Show the steady view beside the plate: the matte is seen, drawn and changed in both")
        self.steady.clicked.connect(lambda: hand.ask("steady"))
        f.addRow("Seen", side_by_side(self.look, self.steady))
        self.take = combo(TAKE_WORDS, "What of the track's motion carries it",
                          lambda: hand.set_matte("Choose what carries the matte", take=self.take.currentData()))
        self.invert = QCheckBox("Invert")
        self.invert.clicked.connect(lambda on: hand.set_matte("Invert the matte", invert=on))
        f.addRow("Takes", side_by_side(self.take, self.invert))
        self.grow = number(-200, 200, "px", "Grow, or shrink, all of it", lambda v: hand.set_matte("Grow the matte", grow=v))
        self.opacity = number(0, 100, "%", "Opacity", lambda v: hand.set_matte("Set the opacity", opacity=v / 100))
        f.addRow(DragLabel("Grow, opacity", self.grow), side_by_side(self.grow, self.opacity))
        self.shutter = number(0, 720, "deg", "Shutter, 0 for no motion blur; 180 is usual", lambda v: hand.set_matte("Set the shutter", shutter=v))
        self.measured = QPushButton("From plate")
        self.measured.setToolTip("The shutter that the tracker found in the plate, where it found one")
        self.measured.clicked.connect(lambda: hand.ask("shutter"))
        f.addRow(DragLabel("Motion blur", self.shutter), side_by_side(self.shutter, self.measured))
        self.fall = combo(FALL_WORDS, "How the soft edge falls", lambda: hand.set_matte("Set the fall", fall=self.fall.currentData()))
        f.addRow("Edge falls", self.fall)
        self.edge = combo(EDGE_WORDS, "Within its soft edge the matte is as it is drawn, or as the picture shows",
                          lambda: hand.set_matte("Choose the edge", edge=self.edge.currentData()))
        self.preview = QPushButton("Try here")
        self.preview.setToolTip("See on this frame alone what the picture makes of the soft edge; nothing is changed")
        self.preview.clicked.connect(lambda: hand.ask("preview"))
        f.addRow("Soft edge is", side_by_side(self.edge, self.preview))
        self.source = combo(SOURCE_WORDS, "On what the shapes are drawn", self._source)
        self.source_invert = QCheckBox("Invert")
        self.source_invert.clicked.connect(lambda on: self._set_source(invert=on))
        f.addRow(named("DRAWN ON", "section"))
        f.addRow(side_by_side(self.source, self.source_invert))
        self.low = number(0, 100, "%", "From how bright on", lambda v: self._set_source(low=v / 100))
        self.high = number(0, 1000, "%", "Up to how bright", lambda v: self._set_source(high=v / 100))
        self.colour = QPushButton()
        self.colour.setToolTip("Choose the colour")
        self.colour.clicked.connect(self._pick)
        self.reach = number(0, 200, "", "How far off a colour may be; 2 is hardly seen", lambda v: self._set_source(reach=v))
        self.soft = number(0, 200, "", "Over how much more it fades", self._softness)
        self._rows = {"brightness": f.rowCount(), "colour": f.rowCount() + 1, "reach": f.rowCount() + 2, "soft": f.rowCount() + 3}
        f.addRow(DragLabel("From, to", self.low), side_by_side(self.low, self.high))
        f.addRow("Colour", self.colour)
        f.addRow(DragLabel("Reach", self.reach), self.reach)
        f.addRow(DragLabel("Fades over", self.soft), self.soft)
        self.file = named("", "quiet")
        f.addRow(self.file)

    def show_state(self) -> None:
        """Show the matte as it is."""
        s, matte = self.hand.session, self.hand.matte
        if matte is None:
            return
        graphics = _graphics(s.shot)
        held = next((p for p in graphics if matte.id in (*p.held_back, *p.limited_to)), None)
        with QSignalBlocker(self.of), QSignalBlocker(self.how):
            self.of.clear()
            self.of.addItem("Nothing", "")
            for p in graphics:
                self.of.addItem(p.name, p.id)
            self.of.setCurrentIndex(self.of.findData(held.id if held is not None else ""))
            self.how.setCurrentIndex(self.how.findData("limits" if held is not None and matte.id in held.limited_to else "in front"))
        for field, value in ((self.grow, matte.grow), (self.shutter, matte.shutter), (self.opacity, matte.opacity * 100)):
            with QSignalBlocker(field):
                field.setValue(value)
        for box, key in ((self.take, matte.take), (self.fall, matte.fall), (self.edge, matte.edge)):
            with QSignalBlocker(box):
                box.setCurrentIndex(max(box.findData(key), 0))
        self.invert.setChecked(matte.invert)
        self._show_source(matte.source)

    def _show_source(self, source: MatteSource | None) -> None:
        kind = source.kind if source is not None else ""
        with QSignalBlocker(self.source):
            self.source.setCurrentIndex(self.source.findData(kind))
        self.source_invert.setVisible(bool(kind))
        self.form.setRowVisible(self._rows["brightness"], kind == "brightness")
        self.form.setRowVisible(self._rows["colour"], kind == "colour")
        self.form.setRowVisible(self._rows["reach"], kind in ("colour", "difference"))
        self.form.setRowVisible(self._rows["soft"], kind in ("brightness", "colour", "difference"))
        self.file.setText(Path(source.path).name if source is not None and source.path else "")
        if source is None:
            return
        self.source_invert.setChecked(source.invert)
        show_colour(self.colour, QColor.fromRgbF(*source.colour))
        for field, value in ((self.low, source.low * 100), (self.high, source.high * 100), (self.reach, source.reach),
                             (self.soft, source.soft * (100 if kind == "brightness" else 1))):
            with QSignalBlocker(field):
                field.setValue(value)

    def _softness(self, value: float) -> None:
        source = self.hand.matte.source if self.hand.matte is not None else None
        self._set_source(soft=value / 100 if source is not None and source.kind == "brightness" else value)

    def _source(self) -> None:
        s, matte, kind = self.hand.session, self.hand.matte, str(self.source.currentData())
        if matte is None:
            return
        path = ""
        if kind in ("file", "difference"):
            path, _ = QFileDialog.getOpenFileName(self, "A matte" if kind == "file" else "A clean plate, or a still of it", "", _FILES)
            if not path or s.plate is None:
                self.show_state()
                return
            try:
                open_matte(Path(path), s.plate.size)
            except WertisError as why:
                s.message.emit(str(why), True)
                self.show_state()
                return
        first = {"brightness": {"soft": 0.1}, "colour": {"soft": 15.0, "reach": 20.0}, "difference": {"soft": 6.0, "reach": 6.0}}.get(kind, {})
        self.hand.set_matte("Draw on", source=MatteSource(kind=kind, path=path, **first) if kind else None)  # type: ignore[arg-type]
        if kind == "colour":
            self._pick()

    def _set_source(self, **changes: object) -> None:
        matte = self.hand.matte
        if matte is not None and matte.source is not None:
            self.hand.set_matte("Set what it is drawn on", source=matte.source.but(**changes))

    def _pick(self) -> None:
        source = self.hand.matte.source if self.hand.matte is not None else None
        if source is not None:
            picked = QColorDialog.getColor(QColor.fromRgbF(*source.colour), self, "The colour that the matte covers")
            if picked.isValid():
                self._set_source(colour=(picked.redF(), picked.greenF(), picked.blueF()))

    def _held(self) -> None:
        matte = self.hand.matte
        if matte is None:
            return
        shot = self.hand.session.shot

        def made() -> Shot:
            after = shot
            for p in _graphics(shot):
                after = hold_back(after, matte.id, p.id, self.how.currentData() if p.id == self.of.currentData() else "none")
            return after

        self.hand.do("Hold the graphic back", made)
