"""The details: the settings of the step in hand, for what is selected."""

from collections.abc import Sequence

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QScrollArea

from wertis.app.pages import Page, Pages


class Details(QScrollArea):
    """One page for each step.

    Parameters
    ----------
    pages : the steps' pages by their steps' names.
    """

    def __init__(self, pages: Sequence[tuple[str, Page]]) -> None:
        super().__init__()
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFrameShape(QScrollArea.Shape.NoFrame)
        self.setFixedWidth(272)
        self._names = [name for name, _ in pages]
        self.pages = Pages([page for _, page in pages])
        self.setWidget(self.pages)

    def bring(self, step: str) -> None:
        """Show a step's page."""
        self.pages.bring(self._names.index(step))
        self.verticalScrollBar().setValue(0)
