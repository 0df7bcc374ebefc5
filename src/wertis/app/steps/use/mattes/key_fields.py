"""A matte's keys on its page, what moving points changes, and what points are bound to."""

from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QPushButton, QWidget

from wertis.app.fields import DragLabel, named
from wertis.app.pages import BETWEEN_WORDS, button_grid, combo, number, part_form, side_by_side
from wertis.app.steps.use.mattes.hand import Hand
from wertis.core.shot.mattes import Anchor

REACH_WORDS = {"key": "A key on this frame", "all": "All keys alike", "span": "All keys of a stretch", "there": "Only a key that is there"}


class KeyFields(QWidget):
    """Keys and binding."""

    def __init__(self, hand: Hand) -> None:
        super().__init__()
        self.hand = hand
        self.buttons: dict[str, QPushButton] = {}
        f = self.form = part_form(self)
        self.reach = combo(REACH_WORDS, "What moving points changes", self.show_state)
        f.addRow("Moving sets", self.reach)
        self.first = number(-1e7, 1e8, "", "First frame of the stretch", lambda v: None)
        self.last = number(-1e7, 1e8, "", "Last frame of the stretch", lambda v: None)
        self._span_row = f.rowCount()
        f.addRow(DragLabel("Stretch", self.first), side_by_side(self.first, self.last))
        self.between = combo(BETWEEN_WORDS, "What the shape does between its keys",
                             lambda: hand.set_shape("Between keys", between=self.between.currentData()))
        f.addRow("Between", self.between)
        f.addRow(button_grid(self.buttons, hand.ask, (
            ("before", "Key before", "Go to the key before this frame"), ("after", "Key after", "Go to the key after this frame")), (
            ("next", "Where one is wanted", "Go to the frame between keys where the shapes change most"),
            ("clear", "Clear here", "Take the keys of this frame away")), (
            ("key", "Set a key", "Keep the shapes as they are on this frame; nothing moves"),
            ("thin", "Thin out", "Take out the keys that the shape in hand can do without"))))
        f.addRow(named("POINTS BOUND TO", "section"))
        self.to = combo({}, "What the points are bound to", lambda: None)
        f.addRow("Candidates", self.to)
        f.addRow(button_grid(self.buttons, hand.ask, (
            ("bind", "Bind", "Bind the chosen points, or all of the shape, to those of the candidates that carry each best"),
            ("unbind", "Let go", "Let the chosen points, or all of the shape, go with the matte's track again"))))
        self.anchors = combo({}, "What points of the shape are bound to", lambda: None)
        self.leave = QPushButton("Leave out")
        self.leave.setToolTip("Bind again without this one")
        self.leave.clicked.connect(lambda: hand.ask("leave"))
        f.addRow(side_by_side(self.anchors, self.leave))
        f.addRow(named("Lines on the picture show what each point is bound to. A point that sits on one takes that alone; others take the two or three "
                       "that are near and lie round them.", "hint"))
        self.left_out: set[tuple[str, str, str]] = set()

    @property
    def span(self) -> tuple[int, int]:
        """The stretch of frames, first and last."""
        a, b = int(self.first.value()), int(self.last.value())
        return min(a, b), max(a, b)

    def show_state(self) -> None:
        """Show the shape's keys and what it is bound to."""
        s, matte, shape = self.hand.session, self.hand.matte, self.hand.shape
        self.form.setRowVisible(self._span_row, self.reach.currentData() == "span")
        if not self.last.value():
            for field, value in ((self.first, s.shot.range[0]), (self.last, s.shot.range[1])):
                with QSignalBlocker(field):
                    field.setValue(value)
        for button in self.buttons.values():
            button.setEnabled(shape is not None)
        self.between.setEnabled(shape is not None)
        if matte is None or shape is None:
            return
        with QSignalBlocker(self.between):
            self.between.setCurrentIndex(self.between.findData(shape.between))
        kept = self.to.currentData()
        with QSignalBlocker(self.to):
            self.to.clear()
            self.to.addItem("All tracks", "")
            for track in s.shot.tracks:
                self.to.addItem(track.name, track.id)
            for item in s.shot.items:
                if item.kind == "matte" and item.id != matte.id:
                    self.to.addItem(f"{item.name}'s points", item.id)
            self.to.setCurrentIndex(max(self.to.findData(kept), 0))
        used = list(dict.fromkeys((a.kind, a.of, a.shape, a.name) for row in shape.bound for a in row))
        with QSignalBlocker(self.anchors):
            self.anchors.clear()
            for key in used:
                self.anchors.addItem(self._words(Anchor(kind=key[0], of=key[1], shape=key[2], name=key[3])), key)
        self.anchors.setEnabled(bool(used))
        self.leave.setEnabled(bool(used))
        self.buttons["unbind"].setEnabled(bool(used))

    def _words(self, anchor: Anchor) -> str:
        thing = self.hand.session.shot.track(anchor.of) or self.hand.session.shot.item(anchor.of)
        return f"{thing.name if thing is not None else 'gone'}: {anchor.kind if anchor.kind != 'shape' else 'point'} {anchor.name}"
