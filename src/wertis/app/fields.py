"""Small form parts for the details: a number to type or drag, a heading, a row."""

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QDoubleSpinBox, QFormLayout, QLabel, QSizePolicy, QWidget


class Number(QDoubleSpinBox):
    """A number with a unit and a range: type it, or drag sideways on its label."""

    def __init__(self, low: float, high: float, step: float, decimals: int, unit: str = "", name: str = "") -> None:
        super().__init__()
        self.setRange(low, high)
        self.setSingleStep(step)
        self.setDecimals(decimals)
        self.setSuffix(f" {unit}" if unit else "")
        self.setKeyboardTracking(False)
        # as wide as the page lets it be, not as its longest number
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.setMinimumWidth(64)
        self.setAccessibleName(name)


class DragLabel(QLabel):
    """A field's label that changes its number when dragged sideways."""

    def __init__(self, text: str, number: Number) -> None:
        super().__init__(text)
        self._number = number
        self._from: QPointF | None = None
        self._value = 0.0
        self.setBuddy(number)
        self.setCursor(Qt.CursorShape.SizeHorCursor)
        self.setToolTip(f"Drag sideways, or type: {number.minimum():g} to {number.maximum():g}{number.suffix()}")

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._from, self._value = event.globalPosition(), self._number.value()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._from is not None:
            self._number.setValue(self._value + (event.globalPosition().x() - self._from.x()) / 4 * self._number.singleStep())

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._from = None


def form(parent: QWidget) -> QFormLayout:
    """An empty form with the details' spacing."""
    layout = QFormLayout(parent)
    layout.setContentsMargins(12, 10, 12, 10)
    layout.setHorizontalSpacing(10)
    layout.setVerticalSpacing(7)
    layout.setLabelAlignment(Qt.AlignmentFlag.AlignLeft)
    layout.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.AllNonFixedFieldsGrow)
    return layout


def named(text: str, name: str, wrap: bool = True) -> QLabel:
    """A label with a style name: heading, section, quiet or hint."""
    label = QLabel(text)
    label.setObjectName(name)
    label.setWordWrap(wrap)
    return label
