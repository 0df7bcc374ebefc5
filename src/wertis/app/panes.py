"""The plate and the steady view, side by side or one above the other, whichever shows the plate larger."""

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QSplitter, QWidget

_WORTH = 1.1  # by how much larger the plate must become for the panes to be stacked


class Panes(QSplitter):
    """Holds the two views of the picture.

    Parameters
    ----------
    shape : gives width over height of the plate as it is shown.
    """

    def __init__(self, shape: Callable[[], float], *views: QWidget) -> None:
        super().__init__(Qt.Orientation.Horizontal)
        self._shape = shape
        self.setHandleWidth(3)
        self.setChildrenCollapsible(False)
        for view in views:
            self.addWidget(view)

    def lay_out(self) -> None:
        """Choose between side by side and stacked."""
        width, height, shape = self.width(), self.height(), self._shape()
        beside, stacked = min(width / 2, height * shape), min(width, height / 2 * shape)
        wanted = Qt.Orientation.Vertical if stacked > _WORTH * beside else Qt.Orientation.Horizontal
        if wanted != self.orientation():
            self.setOrientation(wanted)
            self.halve()

    def halve(self) -> None:
        """As much room for the one as for the other."""
        self.setSizes([1000] * self.count())

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.lay_out()
