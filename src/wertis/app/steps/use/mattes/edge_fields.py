"""A matte's measured edge on its page."""

from collections.abc import Callable

from PySide6.QtWidgets import QPushButton, QWidget

from wertis.app.fields import Number, named
from wertis.app.pages import button_grid, part_form
from wertis.app.steps.use.mattes.hand import Hand


class EdgeFields(QWidget):
    """Measuring the edge and fitting to it."""

    def __init__(self, hand: Hand) -> None:
        super().__init__()
        self.hand = hand
        self.words: Callable[[], str] = lambda: ""  # what is measured on the frame in view
        self.buttons: dict[str, QPushButton] = {}
        f = part_form(self)
        self.limit = Number(0.1, 20, 0.1, 1, "px", "How far the outline may lie from the edge")
        self.limit.setValue(0.7)
        self.reach = Number(2, 60, 1, 0, "px", "How far to both sides of the outline the edge is looked for")
        self.reach.setValue(8)
        grid = button_grid(self.buttons, hand.ask, (
            ("measure", "Measure", "Measure how far the outlines lie from the picture's edge, over the range"),
            ("worst", "Worst frame", "Go to the frame on which the outline is farthest off")), (
            ("fit", "Fit here", "Move the outline to the picture's edge on this frame, by a key"),
            ("fit-all", "Fit all frames", "The same on all frames without a key together: others tell what motion smears on one and what is behind")), (
            ("snap", "Chosen to edge", "Move only the chosen points to the picture's edge, on this frame"),), (
            ("repair", "Keys until under", "Fit keys where it is farthest from the edge, until it is nowhere further than this"),))
        grid.addWidget(self.limit, 3, 1)
        f.addRow(grid)
        f.addRow("Reach", self.reach)
        self.facts = named("", "quiet")
        f.addRow(self.facts)
        f.addRow(named("Measured like drift is: along each outline, how far it lies from the edge that the picture shows. Where that cannot be told it is "
                       "left out. Lines on the picture are five times as long as it is off.", "hint"))

    def show_state(self) -> None:
        """Show what is measured."""
        shape = self.hand.shape
        for button in self.buttons.values():
            button.setEnabled(shape is not None)
        self.buttons["snap"].setEnabled(any(self.hand.chosen.values()))
        self.facts.setText(self.words() or "Not measured, or the matte has changed since.")
