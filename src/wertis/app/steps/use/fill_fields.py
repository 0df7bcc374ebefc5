"""A colour laid inside a matte, on the page of the step Use."""

from PySide6.QtCore import QSignalBlocker
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QColorDialog, QFormLayout, QPushButton, QWidget

from wertis.app.fields import Choice, DragLabel, named
from wertis.app.pages import combo, number, show_colour, side_by_side
from wertis.app.session import Session
from wertis.app.steps.use.matte_choice import show_mattes
from wertis.core.comp.blend import MODES, PLUS_LIGHTER
from wertis.core.errors import WertisError
from wertis.core.shot.fills import Fill, set_fill

BLEND_WORDS = {k: k.replace("-", " ").capitalize() for k in (*MODES, PLUS_LIGHTER)}


class FillFields(QWidget):
    """The selected colour: what it fills, how it is blended, and its glow."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        f = QFormLayout(self)
        f.setContentsMargins(0, 0, 0, 0)
        self.colour = QPushButton("Choose...")
        self.colour.clicked.connect(self._pick)
        f.addRow("Colour", self.colour)
        self.inside = combo({}, "The matte that it fills", lambda: self._mattes("limited_to", self.inside))
        f.addRow("Fills", self.inside)
        self.front = combo({}, "What is in front of it", lambda: self._mattes("held_back", self.front))
        f.addRow("Behind", self.front)
        self.blend = combo(BLEND_WORDS, "Blend", lambda: self._set("Set the blend mode", blend=self.blend.currentData()))
        f.addRow("Blend", self.blend)
        self.opacity = number(0, 100, "%", "Opacity", lambda v: self._set("Set the opacity", opacity=v / 100))
        f.addRow(DragLabel("Opacity", self.opacity), self.opacity)
        f.addRow(named("GLOW", "section"))
        self.near = number(0, 200, "px", "Width of a glow close by", lambda v: self._glow())
        self.wide = number(0, 500, "px", "Width of a glow farther out", lambda v: self._glow())
        f.addRow(DragLabel("Near, wide", self.near), side_by_side(self.near, self.wide))
        self.strength = number(0, 100, "%", "How strong it glows", lambda v: self._set("Set the glow", glow_strength=v / 100))
        f.addRow(DragLabel("Strength", self.strength), self.strength)
        f.addRow(named("A line that is drawn in the matte gets its colour here. Plus lighter lets it shine; a glow lies round it.", "hint"))

    @property
    def fill(self) -> Fill | None:
        """The selected colour."""
        return self.session.selected(Fill)

    def show_state(self) -> None:
        """Show it as it is."""
        fill = self.fill
        if fill is None:
            return
        show_mattes(self.inside, self.session.shot, fill.limited_to, "Nothing yet")
        show_mattes(self.front, self.session.shot, fill.held_back, "Nothing")
        with QSignalBlocker(self.blend):
            self.blend.setCurrentIndex(self.blend.findData(fill.blend))
        glow = (*fill.glow, 0.0, 0.0)
        for field, value in ((self.opacity, fill.opacity * 100), (self.near, glow[0]), (self.wide, glow[1]), (self.strength, fill.glow_strength * 100)):
            with QSignalBlocker(field):
                field.setValue(value)
        show_colour(self.colour, self._shown(fill))

    def _shown(self, fill: Fill) -> QColor:
        return QColor.fromRgbF(*(min(v, 1.0) for v in fill.colour))

    def _pick(self) -> None:
        fill = self.fill
        picked = QColorDialog.getColor(self._shown(fill), self, "Colour") if fill is not None else QColor()
        if picked.isValid():
            self._set("Choose the colour", colour=(picked.redF(), picked.greenF(), picked.blueF()))

    def _mattes(self, field: str, box: Choice) -> None:
        self._set("Choose the matte", **{field: tuple(filter(None, [str(box.currentData() or "")]))})

    def _glow(self) -> None:
        self._set("Set the glow", glow=tuple(float(v) for v in (self.near.value(), self.wide.value()) if v > 0))

    def _set(self, label: str, **changes: object) -> None:
        s, fill = self.session, self.fill
        if fill is None:
            return
        try:
            s.history.do(label, set_fill(s.shot, fill.id, **changes), f"{label}-{fill.id}")
        except WertisError as why:
            s.message.emit(str(why), True)
        self.show_state()
