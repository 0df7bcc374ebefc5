"""What the pages of the details share."""

from collections.abc import Callable, Iterable, Mapping
from typing import Any

from PySide6.QtCore import QTimer
from PySide6.QtGui import QColor, QShowEvent
from PySide6.QtWidgets import QButtonGroup, QFormLayout, QGridLayout, QHBoxLayout, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from wertis.app.fields import Choice, Number
from wertis.app.session import Session

_LATER = 200  # milliseconds of quiet after which a page that is not seen follows, too


class Page(QWidget):
    """A step's settings; `show_state` is called when anything changed.

    A page that is not seen waits until it is, or until nothing has changed for a moment: a point being dragged has no time for all of them.
    """

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(_LATER)
        self._later.timeout.connect(lambda: self.show_state())
        self.session = session
        self.setObjectName("panel")
        for signal in (session.shot_changed, session.selection_changed, session.plate_changed, session.frame_changed, session.live_changed):
            signal.connect(lambda *_: self.follow())

    def follow(self) -> None:
        """Something changed: show it now, or when the page is seen."""
        if self.isVisibleTo(self.window()):
            self.show_state()
        else:
            self._later.start()

    def catch_up(self) -> None:
        """Follow now, seen or not."""
        if self._later.isActive():
            self._later.stop()
            self.show_state()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.catch_up()

    def show_state(self) -> None:
        """Show things as they are."""


def part_form(parent: QWidget) -> QFormLayout:
    """An empty form of a part of a page, which has the page's margins round it."""
    layout = QFormLayout(parent)
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setVerticalSpacing(5)
    return layout


def combo(words: Mapping[Any, str], name: str, activated: Callable[[], object]) -> Choice:
    """A box to choose from; `words` are key to text."""
    box = Choice(name)
    for key, text in words.items():
        box.addItem(text, key)
    box.activated.connect(lambda _: activated())
    return box


def number(low: float, high: float, unit: str, name: str, changed: Callable[[float], object], step: float = 1.0, decimals: int | None = None) -> Number:
    """A number of a page, with its name as a tip; `changed` is called with its value. Pixels have a decimal unless told otherwise."""
    field = Number(low, high, step, decimals if decimals is not None else 1 if unit == "px" else 0, unit, name)
    field.setToolTip(name)
    field.valueChanged.connect(changed)
    return field


def button_grid(buttons: dict[str, QPushButton], wanted: Callable[[str], object], *rows: tuple[tuple[str, str, str], ...]) -> QGridLayout:
    """Rows of buttons, each a name, words and a tip; they are put into `buttons` by name, and `wanted` is called with the name."""
    grid = QGridLayout()
    grid.setSpacing(6)
    for row, parts in enumerate(rows):
        for column, (name, words, tip) in enumerate(parts):
            button = buttons[name] = QPushButton(words)
            button.setToolTip(tip)
            button.clicked.connect(lambda _=False, n=name: wanted(n))
            grid.addWidget(button, row, column)
    return grid


BETWEEN_WORDS = {"smooth": "Smoothly", "straight": "Straight", "held": "Held until the next"}
"""What may happen between two keys."""

KEY_ROWS = ((("before", "Key before", "Go to the key before this frame ([)"), ("after", "Key after", "Go to the key after this frame (])")),
            (("key", "Set a key", "Keep what there is on this frame; nothing moves (K)"), ("clear", "Clear keys here", "Remove this frame's keys")))
"""The buttons for keys, which every part of the Repair step has."""


def show_colour(button: QPushButton, colour: QColor) -> None:
    """Show on a button the colour that it chooses, and its code."""
    button.setText(colour.name())
    button.setStyleSheet(f"border-left: 18px solid {colour.name()};")


def side_by_side(*widgets: QWidget) -> QHBoxLayout:
    """Fields in one row, all of one width."""
    row = QHBoxLayout()
    row.setSpacing(6)
    for widget in widgets:
        widget.setMinimumWidth(44)  # several must fit beside a name
        row.addWidget(widget, 1)
    return row


def part_buttons(parts: Iterable[tuple[str, str]], picked: Callable[[int], object], parent: QWidget) -> tuple[QHBoxLayout, QButtonGroup]:
    """A row of words, of which one is picked, for a page's parts; each is its name and a tip, and `picked` is called with its number."""
    row, group = QHBoxLayout(), QButtonGroup(parent)
    row.setSpacing(0)
    for k, (words, tip) in enumerate(parts):
        button = QPushButton(words)
        button.setCheckable(True)
        button.setObjectName("part")
        button.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        button.setToolTip(tip)
        button.setChecked(k == 0)
        group.addButton(button, k)
        row.addWidget(button)
    group.idClicked.connect(picked)
    return row, group


def few(frames: list[int]) -> str:
    """The first of many frames, in words."""
    shown = ", ".join(map(str, frames[:6]))
    return shown + (f" and {len(frames) - 6} more" if len(frames) > 6 else "")


def stretches(frames: Iterable[int], most: int | None = None) -> str:
    """Frames in words, those in a row as one: 3-7, 12; the first of them only, where there are more such rows than `most`."""
    rows: list[list[int]] = []
    for frame in sorted(frames):
        if rows and frame == rows[-1][1] + 1:
            rows[-1][1] = frame
        else:
            rows.append([frame, frame])
    listed = ", ".join(str(a) if a == b else f"{a}-{b}" for a, b in rows[:most])
    return listed if most is None or len(rows) <= most else f"{listed} and more"


class Pages(QWidget):
    """Widgets of which one is seen at a time, and takes no more room than it needs itself (a stack takes what its largest one needs)."""

    def __init__(self, pages: Iterable[QWidget]) -> None:
        super().__init__()
        self.setObjectName("panel")
        self._pages = list(pages)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        for page in self._pages:
            page.hide()
            layout.addWidget(page, 1)

    def shown(self) -> int:
        """Which one is seen."""
        return next(k for k, page in enumerate(self._pages) if not page.isHidden())

    def bring(self, index: int) -> None:
        """Show one of them."""
        for k, page in enumerate(self._pages):
            page.setVisible(k == index)
