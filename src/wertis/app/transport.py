"""The row below the picture: stepping and playing, the frame, the plate's numbers under the pointer, the view's switches."""

from collections.abc import Callable

import numpy as np
import qtawesome
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QToolButton, QWidget

from wertis.app.fields import named
from wertis.app.session import Session

_ICONS = "#c9c9c9"


class Transport(QWidget):
    """Steps and plays.

    Signals
    -------
    play_wanted(), reference_wanted(), fit_wanted() : the buttons of these names.
    graphics_switched(), overlays_switched(on)
    frame_typed(good) : a frame was typed; `good` when it was a number.
    """

    play_wanted = Signal()
    reference_wanted = Signal()
    fit_wanted = Signal()
    graphics_switched = Signal()
    overlays_switched = Signal(bool)
    frame_typed = Signal(bool)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = s = session
        self.setObjectName("panel")
        row = QHBoxLayout(self)
        row.setContentsMargins(8, 1, 8, 1)
        row.setSpacing(2)
        self.buttons: dict[str, QToolButton] = {}
        for name, icon, tip, act in (
                ("first", "mdi6.skip-previous", "First frame of the range (Home)", lambda: s.go(s.shot.range[0])),
                ("back", "mdi6.chevron-left", "One frame back (Left; Shift: ten)", lambda: s.go(s.frame - 1)),
                ("play", "mdi6.play", "Play or pause (Space)", self.play_wanted.emit),
                ("on", "mdi6.chevron-right", "One frame on (Right; Shift: ten)", lambda: s.go(s.frame + 1)),
                ("last", "mdi6.skip-next", "Last frame of the range (End)", lambda: s.go(s.shot.range[1])),
                ("reference", "mdi6.rhombus-outline", "To the reference frame (R)", self.reference_wanted.emit)):
            row.addWidget(self._button(name, icon, tip, act))
        self.frame_field = QLineEdit()
        self.frame_field.setFixedWidth(64)
        self.frame_field.setAccessibleName("Frame")
        self.frame_field.setToolTip("Frame in view; type a number to go there")
        self.frame_field.returnPressed.connect(self._typed)
        row.addSpacing(8)
        row.addWidget(self.frame_field)
        self.place = named("", "quiet", wrap=False)
        row.addSpacing(10)
        row.addWidget(self.place, 1)
        for name, icon, tip, act in (
                ("graphics", "mdi6.image-outline", "Show the graphics, or the plate alone (G)", self.graphics_switched.emit),
                ("overlays", "mdi6.vector-square", "Show outlines and words over the picture (V)",
                 lambda: self.overlays_switched.emit(self.buttons["overlays"].isChecked()))):
            button = self._button(name, icon, tip, act)
            button.setCheckable(True)
            button.setChecked(True)
            row.addWidget(button)
        self._zoom = named("", "quiet", wrap=False)
        self._zoom.setFixedWidth(44)
        row.addWidget(self._zoom)
        row.addWidget(self._button("fit", "mdi6.fit-to-page-outline",
                                   "Fit the picture in the window (F); wheel zooms, middle button or Alt-drag pans", self.fit_wanted.emit))

    @property
    def graphics(self) -> bool:
        """Whether graphics are shown."""
        return self.buttons["graphics"].isChecked()

    def show_frame(self) -> None:
        """The frame in view."""
        self.frame_field.setText(str(self._session.frame))

    def show_playing(self, on: bool) -> None:
        """Whether it plays."""
        self.buttons["play"].setIcon(qtawesome.icon("mdi6.pause" if on else "mdi6.play", color=_ICONS))

    def show_zoom(self, zoom: float) -> None:
        """How large the picture is shown."""
        self._zoom.setText(f"{zoom * 100:.0f} %")

    def show_numbers(self, x: float, y: float) -> None:
        """The plate's own numbers at a place of the picture, whatever the view does."""
        s = self._session
        plate = s.cache.peek(s.frame) if s.cache is not None else None
        if not isinstance(plate, np.ndarray) or not (0 <= x < plate.shape[1] and 0 <= y < plate.shape[0]):
            self.place.setText("")
            return
        values = plate[int(y), int(x)]
        whole = np.issubdtype(plate.dtype, np.integer)
        self.place.setText(f"x {x:.1f}  y {y:.1f}    plate " + " ".join(str(v) if whole else f"{v:.4f}" for v in values[:4]))

    def _typed(self) -> None:
        try:
            self._session.go(int(self.frame_field.text()))
            good = True
        except ValueError:
            good = False
        self.show_frame()
        self.frame_typed.emit(good)

    def _button(self, name: str, icon: str, tip: str, act: Callable[[], object]) -> QToolButton:
        button = QToolButton()
        button.setIcon(qtawesome.icon(icon, color=_ICONS))
        button.setToolTip(tip)
        button.setAccessibleName(tip)
        button.clicked.connect(lambda _=False: act())
        self.buttons[name] = button
        return button
