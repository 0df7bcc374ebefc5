"""A graphic's artwork on the page of the step Use: files, words, colours, and when a sequence plays."""

from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtCore import QSignalBlocker, Qt, Signal
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QCheckBox, QColorDialog, QFileDialog, QHBoxLayout, QPlainTextEdit, QPushButton, QSizePolicy, QWidget

from wertis.app.fields import Choice, DragLabel, named
from wertis.app.pages import combo, show_colour, side_by_side
from wertis.app.session import Session
from wertis.app.steps.use.graphic import GraphicFields, field, show_numbers
from wertis.core.errors import WertisError
from wertis.core.shot.artwork import Artwork, Ink

PICTURES = "Pictures and movies (*.png *.jpg *.jpeg *.tif *.tiff *.dpx *.exr *.psd *.mov *.mp4 *.mkv *.webm)"
ARTWORK_WORDS = {"grid": "Grid", "checker": "Checker", "picture": "Picture file", "sequence": "Sequence or movie",
                 "text": "Text", "solid": "One colour", "gradient": "Two colours"}


def colour_of(ink: Ink) -> QColor:
    """A colour of the document for the screen."""
    return QColor.fromRgbF(*(min(v, 1.0) for v in ink))


class ArtworkFields(GraphicFields):
    """What is shown."""

    reread_wanted = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        f = self.form
        self.artwork = combo(ARTWORK_WORDS, "Artwork", self._artwork)
        f.addRow("Show", self.artwork)
        self.file = QPushButton("Choose...")
        self.file.clicked.connect(self._choose)
        self.reread = QPushButton("Reread")
        self.reread.setToolTip("Read the artwork's file again; files that change on disk are read again by themselves")
        self.reread.clicked.connect(self.reread_wanted)
        row = QHBoxLayout()
        row.addWidget(self.file, 1)
        row.addWidget(self.reread)
        self._rows: dict[str, list[int]] = {"file": [f.rowCount()]}
        f.addRow("File", row)
        self.start = field(-1e7, 1e8, 1, "", "Frame on which the artwork begins",
                           lambda v: self.set_artwork("Set the artwork's start", "start", start=int(v)))
        self.speed = field(-1000, 1000, 10, "%", "Its pictures to a frame of the shot; backward when negative",
                           lambda v: self.set_artwork("Set the artwork's speed", "speed", speed=v / 100))
        self.after = combo({"hold": "Hold the last", "loop": "Begin again"}, "After the artwork's end",
                           lambda: self.set_artwork("Choose what comes after the end", loop=self.after.currentData() == "loop"))
        self.hold = QCheckBox("Hold from this frame on")
        self.hold.setToolTip("The picture of the frame in view stays from there on")
        self.hold.clicked.connect(lambda on: self.set_artwork("Hold the artwork", held=self.session.frame if on else None))
        self._rows["sequence"] = [f.rowCount() + k for k in range(3)]
        f.addRow(DragLabel("Begins on", self.start), side_by_side(self.start, self.speed))
        f.addRow(named("At its end", "label"), self.after)
        f.addRow(self.hold)
        self.words = QPlainTextEdit()
        self.words.setFixedHeight(52)
        self.words.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.words.setAccessibleName("Text")
        self.words.textChanged.connect(lambda: self.set_artwork("Write", "text", text=self.words.toPlainText()[:5000]))
        self.family: Choice = combo({}, "Font", self._family)
        self.weight: Choice = combo({}, "Weight and slope", self._weight)
        self.font_file = QPushButton("File...")
        self.font_file.setToolTip("Take a font from a file")
        self.font_file.clicked.connect(self._choose_font)
        self.align: Choice = combo({"left": "Left", "centre": "Centre", "right": "Right"}, "Alignment",
                                   lambda: self.set_artwork("Align the text", align=self.align.currentData()))
        self.tracking = field(-50, 500, 1, "%", "Room between letters, in hundredths of their size",
                              lambda v: self.set_artwork("Track the letters", "tracking", tracking=v))
        self.leading = field(20, 500, 5, "%", "From line to line, in hundredths of the letters' size",
                             lambda v: self.set_artwork("Set the leading", "leading", leading=v / 100))
        self.outline = field(0, 50, 0.5, "%", "Width of a line round the letters, in hundredths of their size",
                             lambda v: self.set_artwork("Outline the letters", "outline", outline=v))
        self._rows["text"] = [f.rowCount() + k for k in range(5)]
        f.addRow(self.words)
        f.addRow("Font", self.family)
        f.addRow("Weight", side_by_side(self.weight, self.font_file))
        f.addRow(DragLabel("Tracking", self.tracking), side_by_side(self.tracking, self.leading))
        f.addRow(DragLabel("Outline", self.outline), side_by_side(self.outline, self.align))
        self.colour, self.second, self.edge_colour = (QPushButton(words) for words in ("Colour", "Second", "Outline"))
        for button, name in ((self.colour, "colour"), (self.second, "second"), (self.edge_colour, "outline_colour")):
            button.clicked.connect(partial(self._choose_colour, name))
        self._rows["colour"] = [f.rowCount()]
        f.addRow(side_by_side(self.colour, self.second, self.edge_colour))
        self.angle = field(-360, 360, 5, "deg", "Direction from the first colour to the second",
                           lambda v: self.set_artwork("Turn the gradient", "angle", angle=v))
        self._rows["gradient"] = [f.rowCount()]
        f.addRow(DragLabel("Direction", self.angle), self.angle)
        self.cells = field(1, 64, 1, "", "Squares along the longer side", lambda v: self.set_artwork("Set the squares", "cells", cells=int(v)))
        self._rows["cells"] = [f.rowCount()]
        f.addRow(DragLabel("Squares", self.cells), self.cells)
        self._fonts: dict[str, dict[str, str]] = {}
        self.fields: list[QWidget] = [self.artwork, self.file, self.reread]

    def show_state(self) -> None:
        placement = self.placement
        for widget in self.fields:
            widget.setEnabled(placement is not None)
        kind = placement.artwork.kind if placement is not None else ""
        shown = {"file": kind in ("picture", "sequence"), "sequence": kind == "sequence", "text": kind == "text",
                 "colour": kind in ("text", "solid", "gradient"), "gradient": kind == "gradient", "cells": kind in ("grid", "checker")}
        for name, rows in self._rows.items():
            for row in rows:
                self.form.setRowVisible(row, shown[name])
        if placement is None:
            return
        a = placement.artwork
        with QSignalBlocker(self.artwork), QSignalBlocker(self.after), QSignalBlocker(self.align), QSignalBlocker(self.hold):
            self.artwork.setCurrentIndex(self.artwork.findData(kind))
            self.after.setCurrentIndex(int(a.loop))
            self.align.setCurrentIndex(self.align.findData(a.align))
            self.hold.setChecked(a.held is not None)
        self.hold.setText("Hold from this frame on" if a.held is None else f"Holds from frame {a.held} on")
        name = Path(a.path).name if a.path else "Choose..."
        self.file.setText(self.fontMetrics().elidedText(name, Qt.TextElideMode.ElideMiddle, 110))
        self.file.setToolTip(a.path)
        show_numbers((self.start, a.start), (self.speed, a.speed * 100), (self.tracking, a.tracking), (self.leading, a.leading * 100),
                     (self.outline, a.outline), (self.angle, a.angle), (self.cells, a.cells))
        self.second.setVisible(kind == "gradient")
        self.edge_colour.setVisible(kind == "text" and a.outline > 0)
        for button, ink in ((self.colour, a.colour), (self.second, a.second), (self.edge_colour, a.outline_colour)):
            show_colour(button, colour_of(ink))
        if self.words.toPlainText() != a.text:
            with QSignalBlocker(self.words):
                self.words.setPlainText(a.text)
        if kind == "text":
            self._show_font(a)

    def set_file(self, kind: str, path: Path) -> None:
        """Show a file in the selected placement; a message tells when it cannot be read."""
        from wertis.core.comp.artwork import FileArtwork

        s, placement = self.session, self.placement
        if placement is None:
            return
        first = s.shot.range[0]
        try:
            artwork = FileArtwork(path, still=kind == "picture")
            artwork.read(artwork.index(first, Artwork(start=first)))
        except WertisError as why:
            s.message.emit(str(why), True)
            return
        self.set_artwork("Change the artwork", kind=kind, path=str(path.absolute()), start=first)

    def _artwork(self) -> None:
        placement = self.placement
        if placement is None:
            return
        kind = self.artwork.currentData()
        if kind in ("picture", "sequence"):
            self._choose(kind)
        else:
            words = {"text": placement.artwork.text or "Brindle Quay"} if kind == "text" else {}
            fit = "fit" if kind == "text" else placement.fit  # letters keep their proportions
            self.put("Change the artwork", lambda: placement.but(artwork=placement.artwork.but(kind=kind, **words), fit=fit))

    def _choose(self, kind: str | bool = False) -> None:
        placement = self.placement
        if placement is None:
            return
        kind = kind if isinstance(kind, str) else placement.artwork.kind
        name, _ = QFileDialog.getOpenFileName(self, "Artwork", placement.artwork.path, PICTURES)
        if name:
            self.set_file(kind, Path(name))
        self.show_state()

    # -- fonts ----------------------------------------------------------------------------------------------------

    def _show_font(self, artwork: Artwork) -> None:
        from wertis.core.comp.text import DEFAULT_FONT, system_fonts

        if not self._fonts:
            self._fonts = system_fonts()
            self.family.addItems(list(self._fonts))
        path = artwork.font or str(DEFAULT_FONT)
        family = next((name for name, styles in self._fonts.items() if path in styles.values()), "")
        with QSignalBlocker(self.family), QSignalBlocker(self.weight):
            self.family.setCurrentIndex(self.family.findText(family) if family else -1)
            self.weight.clear()
            for words, file in (self._fonts[family] if family else {Path(path).stem: path}).items():
                self.weight.addItem(words, file)
            self.weight.setCurrentIndex(max(self.weight.findData(path), 0))

    def _family(self) -> None:
        styles = self._fonts.get(self.family.currentText(), {})
        before = self.weight.currentText()
        if styles:
            self._set_font(styles.get(before) or styles.get("Regular") or next(iter(styles.values())))

    def _weight(self) -> None:
        self._set_font(str(self.weight.currentData()))

    def _choose_font(self) -> None:
        placement = self.placement
        name, _ = QFileDialog.getOpenFileName(self, "Font", placement.artwork.font if placement is not None else "", "Fonts (*.ttf *.otf *.ttc)")
        if placement is not None and name:
            self._set_font(name)

    def _set_font(self, path: str) -> None:
        from wertis.core.comp.text import text_ratio

        try:
            text_ratio("a", path)
        except WertisError as why:
            self.session.message.emit(str(why), True)
            return
        self.set_artwork("Choose the font", font=path)

    def _choose_colour(self, which: str) -> None:
        placement = self.placement
        if placement is None:
            return
        chosen = QColorDialog.getColor(colour_of(getattr(placement.artwork, which)), self, "Colour")
        if chosen.isValid():
            changes: dict[str, Any] = {which: (chosen.redF(), chosen.greenF(), chosen.blueF())}
            self.set_artwork("Choose the colour", **changes)
