"""Graphics, mattes, grades and colours on the selected track."""

from pathlib import Path
from typing import Any

from PySide6.QtCore import QSignalBlocker, Qt, Signal
from PySide6.QtGui import QColor
from PySide6.QtWidgets import (
    QColorDialog,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QPlainTextEdit,
    QPushButton,
    QWidget,
)

from wertis.app.fields import Choice, DragLabel, Number, form, named
from wertis.app.pages import Page, combo, part_buttons, show_colour, side_by_side
from wertis.app.session import Session
from wertis.app.steps.use.fill_fields import BLEND_WORDS, FillFields
from wertis.app.steps.use.grade_fields import GradeFields
from wertis.app.steps.use.match_fields import MatchFields
from wertis.app.steps.use.mattes.fields import MatteFields
from wertis.core.comp.picture import surface_proportions
from wertis.core.errors import WertisError
from wertis.core.shot import edits, items
from wertis.core.shot.document import Artwork, Placement

PICTURES = "Pictures and movies (*.png *.jpg *.jpeg *.tif *.tiff *.dpx *.exr *.mov *.mp4 *.mkv *.webm)"
ARTWORK_WORDS = {"grid": "Grid", "checker": "Checker", "picture": "Picture file", "sequence": "Sequence or movie",
                 "text": "Text", "solid": "One colour", "gradient": "Two colours"}
GRAPHIC_PARTS = (("Artwork", "What is shown, and how it sits on the surface"),
                 ("Match", "Make it look as if it had been filmed: softness, blur, light, grain"))
FIT_WORDS = {"fit": "Fit, keep proportions", "fill": "Fill, keep proportions", "stretch": "Stretch to the corners"}
PROPORTION_WORDS = {"given": "as you gave them", "perspective": "worked out from the perspective",
                    "flat": "seen too flat to tell: sides as seen are taken; overrule them if you know better"}


def _colour(ink: tuple[float, float, float]) -> QColor:
    return QColor.fromRgbF(*(min(v, 1.0) for v in ink))


class UsePage(Page):
    """Placements on the selected track."""

    add_wanted = Signal()
    reread_wanted = Signal()
    matte_wanted = Signal()
    grade_wanted = Signal()
    fill_wanted = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        f = self.form = form(self)
        self._untouched: Placement | None = None  # the graphic before it is scaled or turned by numbers
        self.heading = named("", "heading")
        self.add = QPushButton("+ Graphic")
        self.add.setObjectName("main")
        self.add.setToolTip("Put a quad on the surface on this frame (P)")
        self.add.clicked.connect(self.add_wanted)
        self.draw = QPushButton("+ Matte")
        self.draw.setToolTip("Draw shapes that the track carries: what passes in front of a graphic, or what limits it (Shift+P)")
        self.draw.clicked.connect(self.matte_wanted)
        self.tint = QPushButton("+ Grade")
        self.tint.setToolTip("Change colours inside a matte, or everywhere")
        self.tint.clicked.connect(self.grade_wanted)
        self.paint_on = QPushButton("+ Colour")
        self.paint_on.setToolTip("Lay a colour inside a matte: a drawn line, a light, a flat area")
        self.paint_on.clicked.connect(self.fill_wanted)
        f.addRow(self.heading)
        grid = QGridLayout()
        grid.setSpacing(6)
        for k, button in enumerate((self.add, self.draw, self.tint, self.paint_on)):
            grid.addWidget(button, k // 2, k % 2)
        f.addRow(grid)
        self.parts = QWidget()
        row_of_parts, self.part = part_buttons(GRAPHIC_PARTS, lambda _: self.show_state(), self.parts)
        row_of_parts.setContentsMargins(0, 0, 0, 0)
        self.parts.setLayout(row_of_parts)
        f.addRow(self.parts)
        self.artwork = combo(ARTWORK_WORDS, "Artwork", self._artwork)
        self.file = QPushButton("Choose...")
        self.file.clicked.connect(self._choose)
        self.reread = QPushButton("Reread")
        self.reread.setToolTip("Read the artwork's file again after it was changed")
        self.reread.clicked.connect(self.reread_wanted)
        row = QHBoxLayout()
        row.addWidget(self.file, 1)
        row.addWidget(self.reread)
        self.fit = combo(FIT_WORDS, "Fit", lambda: self._set("Set the fit", fit=self.fit.currentData()))
        self.blend = combo(BLEND_WORDS, "Blend",
                            lambda: self._set("Set the blend mode", blend=self.blend.currentData()))
        self.opacity = Number(0, 100, 1, 0, "%", "Opacity")
        self.opacity.valueChanged.connect(lambda v: self._set("Set the opacity", "opacity", opacity=v / 100))
        self.ratio = Number(0.02, 50, 0.01, 3, "", "Proportions")
        self.ratio.valueChanged.connect(lambda v: self._set("Set the proportions", "ratio", ratio=v))
        self.ratio_words = named("", "quiet")
        self.ratio_auto = QPushButton("Work out")
        self.ratio_auto.setToolTip("Take the proportions that the perspective gives")
        self.ratio_auto.clicked.connect(lambda: self._set("Work out the proportions", ratio=None))
        self.start = Number(-1e7, 1e8, 1, 0, "", "Frame on which the artwork begins")
        self.start.valueChanged.connect(lambda v: self._set_artwork("Set the artwork's start", "start", start=int(v)))
        self.after = combo({"hold": "Hold the last", "loop": "Begin again"}, "After the artwork's end",
                           lambda: self._set_artwork("Choose what comes after the end", loop=self.after.currentData() == "loop"))
        self.frame = named("", "quiet")
        self.here = QPushButton("Keep it on this frame")
        self.here.setToolTip("Make the frame in view the one on which the corners are kept; the artwork does not move")
        self.here.clicked.connect(self._rebase)
        self.section = named("ARTWORK", "section")
        self.fields: list[QWidget] = [self.artwork, self.file, self.reread, self.fit, self.blend, self.opacity, self.ratio, self.here]
        f.addRow(self.section)
        f.addRow("Show", self.artwork)
        self._file_row = f.rowCount()
        f.addRow("File", row)
        self.timing = [(DragLabel("Begins on", self.start), self.start), (named("At its end", "label"), self.after)]
        for words, field in self.timing:
            f.addRow(words, field)
        self.words = QPlainTextEdit()
        self.words.setFixedHeight(52)
        self.words.setAccessibleName("Text")
        self.words.textChanged.connect(lambda: self._set_artwork("Write", "text", text=self.words.toPlainText()[:5000]))
        self.font_file = QPushButton("Inter")
        self.font_file.setToolTip("Choose a font file")
        self.font_file.clicked.connect(self._choose_font)
        self.align: Choice = combo({"left": "Left", "centre": "Centre", "right": "Right"}, "Alignment",
                           lambda: self._set_artwork("Align the text", align=self.align.currentData()))
        self.colour, self.second = QPushButton("Colour"), QPushButton("Second")
        self.colour.clicked.connect(lambda: self._choose_colour("colour"))
        self.second.clicked.connect(lambda: self._choose_colour("second"))
        self.angle = Number(-360, 360, 5, 0, "deg", "Direction from the first colour to the second")
        self.angle.valueChanged.connect(lambda v: self._set_artwork("Turn the gradient", "angle", angle=v))
        self._kind_rows = {"text": [f.rowCount(), f.rowCount() + 1], "colour": [f.rowCount() + 2], "gradient": [f.rowCount() + 3]}
        f.addRow(self.words)
        f.addRow("Font", side_by_side(self.font_file, self.align))
        f.addRow(side_by_side(self.colour, self.second))
        f.addRow(DragLabel("Direction", self.angle), self.angle)
        f.addRow("Fit", self.fit)
        f.addRow("Blend", self.blend)
        f.addRow(DragLabel("Opacity", self.opacity), self.opacity)
        f.addRow(named("SURFACE", "section"))
        self.scale: Number = Number(1, 1000, 5, 0, "%", "Scale on the surface, about its middle")
        self.turn: Number = Number(-180, 180, 5, 0, "deg", "Turn on the surface, clockwise, about its middle")
        for field in (self.scale, self.turn):
            field.setToolTip(field.accessibleName())
            field.valueChanged.connect(lambda _: self._move_on_surface())
            field.settled.connect(self._moved_on_surface)
        f.addRow(DragLabel("Scale, turn", self.scale), side_by_side(self.scale, self.turn))
        f.addRow(DragLabel("Width / height", self.ratio), side_by_side(self.ratio, self.ratio_auto))
        f.addRow(self.ratio_words)
        f.addRow(self.frame)
        f.addRow(self.here)
        f.addRow(named("Drag the corners on any frame; the grid shows the perspective. Alt with arrow keys nudges the last corner.", "hint"))
        self._graphic_rows = range(3, f.rowCount())
        self.match = MatchFields()
        f.addRow(self.match)
        self.matte = MatteFields(session)
        f.addRow(self.matte)
        self.grade = GradeFields(session)
        f.addRow(self.grade)
        self.fill = FillFields(session)
        f.addRow(self.fill)
        self.show_state()

    def show_state(self) -> None:
        s = self.session
        track, placement = s.track, s.placement
        matte, grade, fill = self.matte.matte, self.grade.grade, self.fill.fill
        graphic = matte is None and grade is None and fill is None
        for row in self._graphic_rows:
            self.form.setRowVisible(row, graphic and self.part.checkedId() == 0)
        self.parts.setVisible(graphic)
        self.match.setVisible(graphic and self.part.checkedId() == 1)
        if graphic:
            self.match.show_state()
        self.grade.setVisible(grade is not None)
        self.fill.setVisible(fill is not None)
        self.paint_on.setEnabled(track is not None and s.plate is not None)
        self.tint.setEnabled(track is not None and s.plate is not None)
        self.matte.setVisible(matte is not None)
        self.draw.setEnabled(track is not None and s.plate is not None)
        if matte is not None:
            self.heading.setText(f"{matte.name} on {track.name}" if track is not None else matte.name)
            self.add.setEnabled(track is not None)
            self.matte.show_state()
            return
        if grade is not None:
            self.heading.setText(f"{grade.name} on {track.name}" if track is not None else grade.name)
            self.grade.show_state()
            return
        if fill is not None:
            self.heading.setText(f"{fill.name} on {track.name}" if track is not None else fill.name)
            self.fill.show_state()
            return
        self.heading.setText(f"{placement.name} on {track.name}" if track and placement else (track.name if track else "Draw a region first"))
        self.add.setEnabled(track is not None and s.plate is not None)
        for w in (*self.fields, self.scale, self.turn):
            w.setEnabled(placement is not None)
        if self._untouched is None or placement is None or placement.id != self._untouched.id:
            self._moved_on_surface()
        self.ratio_auto.setEnabled(placement is not None and placement.ratio is not None)
        self._show_made(placement.artwork if placement is not None else None)
        if placement is None or s.shot.plate is None:
            self._show_timing(False)
            self.ratio_words.setText("")
            self.frame.setText("")
            self.file.setText("Choose...")
            return
        files = placement.artwork.kind in ("picture", "sequence")
        self._show_timing(placement.artwork.kind == "sequence" and self.part.checkedId() == 0)
        with QSignalBlocker(self.start), QSignalBlocker(self.after):
            self.start.setValue(placement.artwork.start)
            self.after.setCurrentIndex(int(placement.artwork.loop))
        self.reread.setEnabled(files)
        self.file.setEnabled(files)
        name = Path(placement.artwork.path).name if files and placement.artwork.path else "Choose..."
        self.file.setText(self.fontMetrics().elidedText(name, Qt.TextElideMode.ElideMiddle, 76))
        self.file.setToolTip(placement.artwork.path)
        found = surface_proportions(placement, s.shot.plate.size, s.shot.plate.aspect)
        for box, value in ((self.artwork, placement.artwork.kind), (self.fit, placement.fit), (self.blend, placement.blend)):
            with QSignalBlocker(box):
                box.setCurrentIndex(box.findData(value))
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

    def _set_artwork(self, label: str, merge: str = "", **changes: object) -> None:
        placement = self.session.placement
        if placement is not None:
            self._put(label, placement.but(artwork=placement.artwork.but(**changes)), merge)

    def _show_made(self, artwork: Artwork | None) -> None:
        """What is set of a text, a colour or a gradient."""
        kind = artwork.kind if artwork is not None and self.part.checkedId() == 0 else ""
        shown = {"text": kind == "text", "colour": kind in ("text", "solid", "gradient"), "gradient": kind == "gradient"}
        for name, rows in self._kind_rows.items():
            for row in rows:
                self.form.setRowVisible(row, shown[name])
        self.form.setRowVisible(self._file_row, kind in ("picture", "sequence"))
        if artwork is None:
            return
        self.second.setVisible(kind == "gradient")
        for button, ink in ((self.colour, artwork.colour), (self.second, artwork.second)):
            show_colour(button, _colour(ink))
        if self.words.toPlainText() != artwork.text:
            with QSignalBlocker(self.words):
                self.words.setPlainText(artwork.text)
        self.font_file.setText(self.fontMetrics().elidedText(Path(artwork.font).stem or "Inter", Qt.TextElideMode.ElideMiddle, 90))
        with QSignalBlocker(self.align), QSignalBlocker(self.angle):
            self.align.setCurrentIndex(self.align.findData(artwork.align))
            self.angle.setValue(artwork.angle)

    def _move_on_surface(self) -> None:
        """Scale and turn the graphic by the numbers, from how it was before they were touched."""
        s, placement = self.session, self.session.placement
        if placement is None or s.shot.plate is None:
            return
        if self._untouched is None or self._untouched.id != placement.id:
            self._untouched = placement
        ratio = surface_proportions(self._untouched, s.shot.plate.size, s.shot.plate.aspect).ratio
        size = self.scale.value() / 100
        try:
            moved = edits.moved_on_surface(self._untouched, ratio, scale=(size, size), turn=self.turn.value())
        except WertisError as why:
            s.message.emit(str(why), True)
            return
        self._put("Scale and turn", placement.but(quad=moved.quad), "on-surface")

    def _moved_on_surface(self) -> None:
        """The numbers are done with: what comes next begins from here."""
        self._untouched = None
        for field, value in ((self.scale, 100.0), (self.turn, 0.0)):
            with QSignalBlocker(field):
                field.setValue(value)

    def _choose_font(self) -> None:
        from wertis.core.comp.text import text_ratio

        placement = self.session.placement
        name, _ = QFileDialog.getOpenFileName(self, "Font", placement.artwork.font if placement is not None else "", "Fonts (*.ttf *.otf *.ttc)")
        if placement is None or not name:
            return
        try:
            text_ratio("a", name)
        except WertisError as why:
            self.session.message.emit(str(why), True)
            return
        self._set_artwork("Choose the font", font=name)

    def _choose_colour(self, which: str) -> None:
        placement = self.session.placement
        if placement is None:
            return
        picked = QColorDialog.getColor(_colour(getattr(placement.artwork, which)), self, "Colour")
        if picked.isValid():
            changes: dict[str, Any] = {which: (picked.redF(), picked.greenF(), picked.blueF())}
            self._set_artwork("Choose a colour", **changes)

    def _show_timing(self, on: bool) -> None:
        """Only what moves has a beginning and an end."""
        for words, field in self.timing:
            words.setVisible(on)
            field.setVisible(on)

    def _put(self, label: str, placement: Placement, merge: str = "") -> None:
        s = self.session
        try:
            s.history.do(label, items.set_item(s.shot, placement), f"{merge}-{placement.id}" if merge else "")
        except WertisError as why:
            s.message.emit(str(why), True)
            self.show_state()

    def _artwork(self) -> None:
        placement = self.session.placement
        if placement is None:
            return
        kind = self.artwork.currentData()
        if kind in ("picture", "sequence"):
            self._choose(kind)
        else:
            words = {"text": placement.artwork.text or "Brindle Quay"} if kind == "text" else {}
            fit = "fit" if kind == "text" else placement.fit  # letters keep their proportions
            self._put("Change the artwork", placement.but(artwork=placement.artwork.but(kind=kind, **words), fit=fit))

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
            artwork = FileArtwork(path, still=kind == "picture")
            artwork.read(artwork.index(s.shot.range[0], s.shot.range[0]))
        except WertisError as why:
            s.message.emit(str(why), True)
            return
        changed = placement.but(artwork=placement.artwork.but(kind=kind, path=str(path.absolute()), start=s.shot.range[0]))
        self._put("Change the artwork", changed)

    def _rebase(self) -> None:
        s = self.session
        if s.track is not None and s.placement is not None:
            try:
                self._put("Keep the placement on another frame", edits.rebase_placement(s.shot, s.placement, s.frame))
            except WertisError as why:
                s.message.emit(str(why), True)
