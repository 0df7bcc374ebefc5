"""How the picture is looked at: colour space, display, exposure, gamma, one channel. None of it reaches a render."""

import contextlib
from dataclasses import replace

from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QFormLayout, QPushButton

from wertis.app.fields import DragLabel, Number, named
from wertis.app.pages import combo
from wertis.app.session import Session
from wertis.core.errors import PlateError
from wertis.core.plate import colour
from wertis.core.plate.colour import Viewing

_AS_CODED = "As it is coded"


class ViewingFields:
    """The rows of a form that set the session's viewing, and the box `space` for the plate's colour space, which is not of the view only."""

    def __init__(self, session: Session) -> None:
        self._session = session
        self.space = combo({"": ""}, "The plate's colour space", self._space)
        self.view = combo({"": _AS_CODED}, "Display and view", self._view)
        self.exposure = Number(-20, 20, 0.25, 2, "stops", "Exposure of the view")
        self.gamma = Number(0.1, 10, 0.05, 2, "", "Gamma of the view")
        self.channel = combo({c: c.capitalize() for c in colour.CHANNELS}, "Channel to look at",
                             lambda: self._set(channel=self.channel.currentData()))
        self.exposure.valueChanged.connect(lambda v: self._set(exposure=v))
        self.gamma.valueChanged.connect(lambda v: self._set(gamma=v))
        self.reset = QPushButton("Show it plain")
        self.reset.setToolTip("As it is in the file; what the view does never reaches a render anyway")
        self.reset.clicked.connect(lambda: self._show(Viewing(space=session.viewing.space)))
        self._filled_for: object = ()
        self._form: QFormLayout | None = None

    def add_rows(self, f: QFormLayout) -> None:
        """Put the view's fields into a form."""
        f.addRow(named("VIEW ONLY", "section"))
        f.addRow("Shown", self.view)
        f.addRow(DragLabel("Exposure", self.exposure), self.exposure)
        f.addRow(DragLabel("Gamma", self.gamma), self.gamma)
        f.addRow("Channel", self.channel)
        f.addRow(self.reset)
        self._form = f

    def show_state(self) -> None:
        """Show things as they are."""
        s = self._session
        for w in (self.space, self.view, self.exposure, self.gamma, self.channel, self.reset):
            w.setEnabled(s.plate is not None)
        v = s.viewing
        if s.plate is not None and self._filled_for is not s.plate:
            self._fill()
        blocked = [QSignalBlocker(w) for w in (self.exposure, self.gamma, self.channel, self.space, self.view)]
        with contextlib.ExitStack() as stack:
            for each in blocked:
                stack.enter_context(each)
            self.space.setCurrentIndex(max(0, self.space.findData(v.space)))
            self.view.setCurrentIndex(max(0, self.view.findData((v.display, v.view))) if v.display else 0)
            self.exposure.setValue(v.exposure)
            self.gamma.setValue(v.gamma)
            self.channel.setCurrentIndex(colour.CHANNELS.index(v.channel))
        self.reset.setEnabled(s.plate is not None and not v.plain)
        if self._form is not None:
            self._form.setRowVisible(self.reset, not v.plain)

    def _fill(self) -> None:
        s = self._session
        self._filled_for = s.plate
        picture = s.cache.peek(s.frame) if s.cache is not None else None
        try:
            guess = colour.proposed(picture.dtype) if picture is not None and not isinstance(picture, PlateError) else ""
            names, views = colour.spaces(), colour.views()
        except PlateError as why:
            s.message.emit(str(why), True)
            return
        if not guess:
            self._filled_for = ()  # again when the first picture is there
        for box in (self.space, self.view):
            box.blockSignals(True)
            box.clear()
        self.space.addItem(f"{guess} (proposed)" if guess else "Proposed", "")
        for name in names:
            self.space.addItem(name, name)
        self.view.addItem(_AS_CODED, "")
        for display, view in views:
            self.view.addItem(f"{display}: {view}", (display, view))
        for box in (self.space, self.view):
            box.blockSignals(False)

    def _space(self) -> None:
        s = self._session
        if s.shot.plate is not None:
            s.history.do("Choose the colour space", s.shot.but(plate=s.shot.plate.but(colour=self.space.currentData())))
        self._set(space=self.space.currentData())

    def _view(self) -> None:
        display, view = self.view.currentData() or ("", "")
        self._set(display=display, view=view)

    def _set(self, **changes: object) -> None:
        self._show(replace(self._session.viewing, **changes))  # type: ignore[arg-type]

    def _show(self, viewing: Viewing) -> None:
        self._session.look_through(viewing)
        self.show_state()
