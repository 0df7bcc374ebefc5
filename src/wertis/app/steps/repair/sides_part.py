"""Bent sides of a placement, for a surface that is slightly curved."""

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QPushButton

from wertis.app.fields import form, named
from wertis.app.pages import KEY_ROWS, Page, button_grid, few
from wertis.app.session import Session


class SidesPart(Page):
    """The sides of the selected placement."""

    wanted = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        f = form(self)
        self.facts = named("", "quiet")
        f.addRow(self.facts)
        self.buttons: dict[str, QPushButton] = {}
        f.addRow(button_grid(self.buttons, self.wanted.emit, *KEY_ROWS))
        f.addRow(button_grid(self.buttons, self.wanted.emit, (("straighten", "Straighten the sides", "Remove all bends of this placement"),)))
        f.addRow(named("Drag the two squares on a side until it lies on the surface's edge. The bend stays in the surface's perspective on the other "
                       "frames; where it no longer fits, drag again. The graphic, the grid and the JSON export follow.", "hint"))
        self.show_state()

    def show_state(self) -> None:
        s = self.session
        placement = s.placement
        bent = placement is not None and placement.is_bent
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
