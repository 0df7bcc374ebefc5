"""A matte's page in the step Use: four parts, of which one is seen at a time."""

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QVBoxLayout, QWidget

from wertis.app.fields import named
from wertis.app.pages import Pages, part_buttons
from wertis.app.session import Session
from wertis.app.steps.use.mattes.edge_fields import EdgeFields
from wertis.app.steps.use.mattes.hand import Hand
from wertis.app.steps.use.mattes.key_fields import KeyFields
from wertis.app.steps.use.mattes.shape_fields import ShapeFields
from wertis.app.steps.use.mattes.whole_fields import WholeFields
from wertis.core.shot.mattes import Matte, MatteShape

PARTS = (("Shapes", "The shapes, and what is set of the one in hand"),
         ("Matte", "The matte as a whole: what it is in front of, its blur, what it is drawn on"),
         ("Keys", "Keys, and what points are bound to"), ("Edge", "How far the outline is from the picture's edge, and fitting it"))


class MatteFields(QWidget):
    """The selected matte; `wanted` is emitted for what needs the picture or takes long."""

    wanted = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session, self.hand = session, Hand(session)
        self.hand.ask, self.hand.follow = self.wanted.emit, self.show_state
        self.shapes, self.whole, self.keys, self.edge = ShapeFields(self.hand), WholeFields(self.hand), KeyFields(self.hand), EdgeFields(self.hand)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(8)
        row, self.tabs = part_buttons(PARTS, self.bring, self)
        layout.addLayout(row)
        self.facts = named("", "quiet")
        layout.addWidget(self.facts)
        self._pages = Pages([self.shapes, self.whole, self.keys, self.edge])
        layout.addWidget(self._pages)
        self.bring(0)
        self.buttons = {**self.shapes.buttons, **self.keys.buttons, **self.edge.buttons}

    @property
    def matte(self) -> Matte | None:
        """The selected matte."""
        return self.hand.matte

    @property
    def in_hand(self) -> MatteShape | None:
        """The shape in hand."""
        return self.hand.shape

    def bring(self, part: int) -> None:
        """Show one of the `PARTS`."""
        self.tabs.button(part).setChecked(True)
        self._pages.bring(part)

    def show_state(self) -> None:
        """Show the matte as it is."""
        s, matte, shape = self.session, self.matte, self.in_hand
        if matte is None:
            return
        for part in (self.shapes, self.whole, self.keys, self.edge):
            part.show_state()
        if shape is None:
            self.facts.setText("No shape yet: draw one round what the matte covers.")
            return
        here = "keyed here" if s.frame in shape.keys else "not keyed here"
        chosen = len(self.hand.numbers())
        self.facts.setText(f"{shape.count} points{f', {chosen} chosen' if chosen else ''}, {len(shape.keys)} key{'s' * (len(shape.keys) != 1)}, {here}")
