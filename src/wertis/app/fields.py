"""Small form parts for the details: a number to type or drag, a box to choose from, a heading, a row."""

from PySide6.QtCore import QPointF, Qt, QTimer, Signal
from PySide6.QtGui import QMouseEvent, QPaintEvent
from PySide6.QtWidgets import QComboBox, QDoubleSpinBox, QFormLayout, QLabel, QSizePolicy, QStyle, QStyleOptionComboBox, QStylePainter, QWidget

_SETTLES = 900  # milliseconds without a change after which the next one is a step of its own


class Number(QDoubleSpinBox):
    """A number with a unit and a range: type it, or drag sideways on its label.

    Signals
    -------
    settled() : the changes so far belong together; a later one is another.
    """

    settled = Signal()

    def __init__(self, low: float, high: float, step: float, decimals: int, unit: str = "", name: str = "") -> None:
        super().__init__()
        self.setRange(low, high)
        self.setSingleStep(step)
        self.setDecimals(decimals)
        self.setSuffix(f" {unit}" if unit else "")
        self.setKeyboardTracking(False)
        self.lineEdit().setTextMargins(4, 0, 0, 0)
        # as wide as the page lets it be, not as its longest number
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.setMinimumWidth(64)
        self.setAccessibleName(name)
        self._settling = QTimer(self)
        self._settling.setSingleShot(True)
        self._settling.setInterval(_SETTLES)
        self._settling.timeout.connect(self.settled)
        self.valueChanged.connect(lambda _: self._settling.start())

    def settle(self) -> None:
        """What changed until now is done with."""
        self._settling.stop()
        self.settled.emit()


class Choice(QComboBox):
    """A box to choose from, no wider than the page: a name that has no room ends in dots, and is whole in the list."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.setMinimumContentsLength(8)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QStylePainter(self)
        option = QStyleOptionComboBox()
        self.initStyleOption(option)
        painter.drawComplexControl(QStyle.ComplexControl.CC_ComboBox, option)
        room = self.style().subControlRect(QStyle.ComplexControl.CC_ComboBox, option, QStyle.SubControl.SC_ComboBoxEditField, self).width()
        option.currentText = self.fontMetrics().elidedText(option.currentText, Qt.TextElideMode.ElideMiddle, room)  # type: ignore[attr-defined]
        painter.drawControl(QStyle.ControlElement.CE_ComboBoxLabel, option)

    def showPopup(self) -> None:
        view = self.view()
        longest = max((self.fontMetrics().horizontalAdvance(self.itemText(k)) for k in range(self.count())), default=0)
        view.setMinimumWidth(min(520, longest + 36))
        view.setTextElideMode(Qt.TextElideMode.ElideMiddle)
        super().showPopup()


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
        self._number.settle()


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
