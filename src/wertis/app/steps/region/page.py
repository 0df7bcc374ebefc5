"""The region of the selected track, and its hold-outs."""

from pathlib import Path

from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
)

from wertis.app.draw_tools import WAYS
from wertis.app.fields import Choice, DragLabel, Number, form, named
from wertis.app.pages import Page, combo
from wertis.app.session import Session
from wertis.core.errors import WertisError
from wertis.core.shot import edits, hold_outs, items
from wertis.core.shot.document import HoldOut, Region


def region_words(region: Region) -> str:
    """What a region is made of, in a few words."""
    added = sum(not s.subtract for s in region.shapes)
    taken = len(region.shapes) - added
    what = f"{len(region.points)} points" if len(region.shapes) == 1 else f"{added} shape{'s' * (added > 1)}" + (f" less {taken}" if taken else "")
    return f"{what}, drawn on frame {region.frame}"


class RegionPage(Page):
    """The region of the selected track."""

    draw_wanted = Signal(str)
    way_picked = Signal(str)
    remove_wanted = Signal()
    carrier_picked = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        f = form(self)
        self.heading = named("", "heading")
        self.draw = QPushButton("Draw a new region")
        self.draw.setObjectName("main")
        self.draw.setToolTip("Click round a surface on this frame (N)")
        self.draw.clicked.connect(lambda: self.draw_wanted.emit("track"))
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the track")
        self.name.editingFinished.connect(self._rename)
        self.facts = named("", "quiet")
        f.addRow(self.heading)
        f.addRow(self.draw)
        self.way = combo({k: v for k, v in WAYS.items() if k != "line"}, "How to draw", lambda: self.way_picked.emit(self.way.currentData()))
        self.way.setToolTip("How regions and hold-outs are drawn")
        self.more: list[QPushButton] = []
        row = QHBoxLayout()
        for words, tip, act in (("Add", "Draw another shape that belongs to the region (Shift+N)", lambda: self.draw_wanted.emit("add")),
                                ("Subtract", "Draw a shape that is taken out of the region (Ctrl+Shift+N)", lambda: self.draw_wanted.emit("subtract")),
                                ("Remove", "Remove the shape in hand", self.remove_wanted.emit)):
            button = QPushButton(words)
            button.setToolTip(tip)
            button.clicked.connect(lambda _=False, act=act: act())
            row.addWidget(button)
            self.more.append(button)
        f.addRow("Draw as", self.way)
        f.addRow("Shapes", row)
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
        self.hold.clicked.connect(lambda: self.draw_wanted.emit("hold-out"))
        self.matte = QPushButton("Matte...")
        self.matte.setToolTip("Take away what a matte sequence shows in white")
        self.matte.clicked.connect(self._choose_matte)
        row = QHBoxLayout()
        row.addWidget(self.hold, 1)
        row.addWidget(self.matte)
        f.addRow(row)
        self.held_words = named("", "quiet")
        f.addRow(self.held_words)
        self.moves = Choice("What moves the hold-out")
        self.moves.activated.connect(lambda _: self.carrier_picked.emit(self.moves.currentData()))
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
            "Take in as much detail as lies on the one flat surface: the region may be larger than the graphic.\n\n"
            "Drag a point to move it, the inside to move all; double-click a side for a new point; Delete removes. Shift-click or Shift-drag "
            "chooses several. Alt with arrow keys nudges by a pixel, Shift as well by a tenth.", "hint"))
        self.show_state()

    def show_state(self) -> None:
        track = self.session.track
        self.heading.setText(track.name if track else "No region yet")
        self.name.setEnabled(track is not None)
        self.draw.setEnabled(self.session.plate is not None)
        with QSignalBlocker(self.name):
            self.name.setText(track.name if track else "")
        for button, enough in zip(self.more, (1, 1, 2), strict=True):
            button.setEnabled(track is not None and len(track.region.shapes) >= enough)
        self.facts.setText(region_words(track.region) if track else "")
        self.show_texture.setEnabled(track is not None)
        texture = self.session.texture() if self.isVisibleTo(self.window()) else None
        self.texture_words.setText(texture.words if texture is not None else "")
        self._show_held()

    def _show_held(self) -> None:
        s = self.session
        track, held = s.track, s.hold_out
        self.hold.setEnabled(track is not None)
        self.matte.setEnabled(track is not None)
        shape = held is not None and not held.path and not held.matte
        rows = self.layout()
        assert isinstance(rows, QFormLayout)
        for w, shown in ((self.moves, shape), (self.invert, held is not None and not shape), (self.grow, held is not None), (self.soft, held is not None)):
            rows.setRowVisible(w, shown)
        count = len(s.shot.hold_outs(track.id)) if track else 0
        if held is None:
            self.held_words.setText(f"{count} on this track; pick one in the outline." if count else "None. For what passes in front of the surface.")
            return
        keys = ", ".join(map(str, sorted(held.keys)))
        self.held_words.setText(f"{held.name}: " + (
            f"matte {Path(held.path).name}" if held.path else "a drawn matte" if held.matte else f"keyed on {keys}"))
        with QSignalBlocker(self.moves), QSignalBlocker(self.grow), QSignalBlocker(self.soft), QSignalBlocker(self.invert):
            self.moves.clear()
            self.moves.addItem("By hand, with keys", "")
            for other in s.shot.tracks:
                if track is not None and other.id != track.id:
                    self.moves.addItem(f"With {other.name}", other.id)
            self.moves.setCurrentIndex(max(0, self.moves.findData(held.on)))
            self.grow.setValue(held.grow)
            self.soft.setValue(held.soft)
            self.invert.setChecked(held.invert)

    def _set_held(self, label: str, merge: str = "", **changes: object) -> None:
        s = self.session
        if s.hold_out is None:
            return
        try:
            s.history.do(label, items.set_item(s.shot, s.hold_out.but(**changes)), f"{merge}-{s.hold_out.id}" if merge else "")
        except WertisError as why:
            s.message.emit(str(why), True)
            self.show_state()

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
        held = HoldOut(of=s.track.id, name=path.name[:200] or "Matte", path=str(path.absolute()), grow=0, soft=0)
        s.history.do("Hold out a matte", items.add_item(s.shot, held))
        s.select(s.track.id, held.id)

    def _rename(self) -> None:
        track, text = self.session.track, self.name.text().strip()
        if track is not None and text and text != track.name:
            self.session.history.do("Rename", edits.rename_track(self.session.shot, track.id, text))
