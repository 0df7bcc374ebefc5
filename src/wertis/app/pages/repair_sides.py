"""Bent sides of a placement, for a surface that is slightly curved."""

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QGridLayout, QPushButton

from wertis.app.fields import form, named
from wertis.app.pages.base import Page, few
from wertis.app.session import Session
from wertis.core.shot.bends import is_bent


class SidesPart(Page):
    """The sides of the selected placement."""

    wanted = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        f = form(self)
        self.facts = named("", "quiet")
        f.addRow(self.facts)
        grid = QGridLayout()
        grid.setSpacing(6)
        self.buttons: dict[str, QPushButton] = {}
        for name, words, tip, row, column in (("before", "Key before", "Go to the key before this frame ([)", 0, 0),
                                              ("after", "Key after", "Go to the key after this frame (])", 0, 1),
                                              ("key", "Set a key", "Keep how the sides are on this frame; nothing moves (K)", 1, 0),
                                              ("clear", "Clear keys here", "Remove this frame's keys", 1, 1)):
            button = QPushButton(words)
            button.setToolTip(tip)
            button.clicked.connect(lambda _=False, n=name: self.wanted.emit(n))
            grid.addWidget(button, row, column)
            self.buttons[name] = button
        f.addRow(grid)
        self.buttons["straighten"] = QPushButton("Straighten the sides")
        self.buttons["straighten"].setToolTip("Remove all bends of this placement")
        self.buttons["straighten"].clicked.connect(lambda: self.wanted.emit("straighten"))
        f.addRow(self.buttons["straighten"])
        f.addRow(named("Drag the two squares on a side until it lies on the surface's edge. The bend stays in the surface's perspective on the other "
                       "frames; where it no longer fits, drag again. The graphic, the grid and the JSON export follow.", "hint"))
        self.show_state()

    def show_state(self) -> None:
        s = self.session
        placement = s.bent
        bent = placement is not None and is_bent(placement)
        self.buttons["key"].setEnabled(placement is not None)
        self.buttons["straighten"].setEnabled(bent)
        frames = placement.bend.frames if placement is not None else []
        self.buttons["clear"].setEnabled(s.frame in frames)
        for name in ("before", "after"):
            self.buttons[name].setEnabled(bool(frames))
        if placement is None:
            self.facts.setText("Sides belong to a placement: place a graphic on the surface first (P).")
        else:
            keys = f"{len(frames)} key{'s' * (len(frames) != 1)}: {few(frames)}" if frames else "straight sides"
            self.facts.setText(f"{placement.name}: {keys}")
