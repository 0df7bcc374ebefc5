"""How a graphic is mixed and edged, on the page of the step Use: blending, keying of its black or white, edge, shadow and thickness."""

from functools import partial
from typing import Any

from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import QCheckBox, QColorDialog, QPushButton, QWidget

from wertis.app.fields import DragLabel, Number, named
from wertis.app.pages import combo, show_colour, side_by_side
from wertis.app.session import Session
from wertis.app.steps.use.artwork_fields import colour_of
from wertis.app.steps.use.fill_fields import BLEND_WORDS
from wertis.app.steps.use.graphic import GraphicFields, field, show_numbers
from wertis.core.shot.artwork import Shadow, Thickness

KEYED_WORDS = {"none": "Nothing", "black": "Its black is clear", "white": "Its white is clear", "brightness": "As clear as it is dark"}
_CASTS = {"shadow": ("Shadow", "A shadow that it casts on the surface"), "inner_shadow": ("Inner", "A shadow from its edge onto itself"),
          "thickness": ("Thick", "An edge, as of something that stands off the surface")}


class LookFields(GraphicFields):
    """Mixing, edge and shadow.

    Signals
    -------
    cover_wanted() : the graphic is to end where something covers its surface.
    """

    cover_wanted = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        f = self.form
        self.blend = combo(BLEND_WORDS, "Blend", lambda: self.set("Set the blend mode", blend=self.blend.currentData()))
        self.opacity = field(0, 100, 1, "%", "Opacity", lambda v: self.set("Set the opacity", "opacity", opacity=v / 100))
        self.saturation = field(0, 400, 5, "%", "Saturation", lambda v: self.set_finish("Set the saturation", "saturation", saturation=v / 100))
        f.addRow("Blend", self.blend)
        f.addRow(DragLabel("Opacity", self.opacity), self.opacity)
        f.addRow(DragLabel("Saturation", self.saturation), self.saturation)
        f.addRow(named("CLEAR PARTS AND EDGE", "section"))
        self.keyed = combo(KEYED_WORDS, "What of the artwork is made clear", lambda: self.set_finish("Key the artwork", keyed=self.keyed.currentData()))
        self.threshold = field(0, 100, 1, "%", "Brightness from which it shows", lambda v: self.set_finish("Set the key", "threshold", threshold=v / 100))
        self.soft = field(0, 100, 1, "%", "Brightness over which it fades in", lambda v: self.set_finish("Set the key", "soft", soft=v / 100))
        f.addRow("Clear", self.keyed)
        self._key_row = f.rowCount()
        f.addRow(DragLabel("From, over", self.threshold), side_by_side(self.threshold, self.soft))
        self.choke = field(-100, 100, 0.5, "px", "Pixels of the artwork by which its edge moves in",
                           lambda v: self.set_finish("Move the edge", "choke", choke=v))
        self.feather = field(0, 100, 1, "px", "Pixels of the artwork over which its edge fades",
                             lambda v: self.set_finish("Soften the edge", "feather", feather=v))
        f.addRow(DragLabel("Choke, fade", self.choke), side_by_side(self.choke, self.feather))
        self.cover = QPushButton("End it where it is covered...")
        self.cover.setToolTip("What lies over the surface, such as a flap of its own or a passer, is found from the motion; the graphic is put behind it")
        self.cover.clicked.connect(self.cover_wanted)
        f.addRow(self.cover)
        f.addRow(named("SHADOW AND THICKNESS", "section"))
        self.casts: dict[str, QCheckBox] = {}
        for name, (words, tip) in _CASTS.items():
            box = self.casts[name] = QCheckBox(words)
            box.setToolTip(tip)
            box.toggled.connect(partial(self._cast, name))
        f.addRow(side_by_side(*self.casts.values()))
        self.numbers: dict[str, dict[str, Number]] = {}
        self.colours: dict[str, QPushButton] = {}
        self._rows: dict[str, list[int]] = {}
        for name in _CASTS:
            self._add_cast(name)

    def _add_cast(self, name: str) -> None:
        f, words = self.form, _CASTS[name][0]
        first = "depth" if name == "thickness" else "distance"
        fields = {first: field(0, 50 if name == "thickness" else 200, 0.5, "%", f"{words}: how far, in hundredths of the graphic's height",
                               partial(self._set_cast, name, first)),
                  "angle": field(-360, 360, 5, "deg", f"{words}: the way in which it falls on the surface; 90 is down",
                                 partial(self._set_cast, name, "angle"))}
        start = f.rowCount()
        f.addRow(DragLabel(words, fields[first]), side_by_side(*fields.values()))
        colour = self.colours[name] = QPushButton("Colour")
        colour.clicked.connect(partial(self._choose_colour, name))
        if name == "thickness":
            f.addRow("", colour)
        else:
            fields["softness"] = field(0, 100, 0.5, "%", f"{words}: softness, in hundredths of the graphic's height",
                                       partial(self._set_cast, name, "softness"))
            fields["opacity"] = field(0, 100, 5, "%", f"{words}: opacity", lambda v: self._set_cast(name, "opacity", v / 100))
            f.addRow(DragLabel("Soft, dark", fields["softness"]), side_by_side(fields["softness"], fields["opacity"], colour))
        self.numbers[name] = fields
        self._rows[name] = list(range(start, f.rowCount()))

    def show_state(self) -> None:
        placement = self.placement
        for widget in self.findChildren(QWidget):
            if isinstance(widget, Number | QCheckBox | QPushButton) or widget in (self.blend, self.keyed):
                widget.setEnabled(placement is not None)
        for name, rows in self._rows.items():
            for row in rows:
                self.form.setRowVisible(row, placement is not None and getattr(placement, name) is not None)
        finish = placement.artwork.finish if placement is not None else None
        self.form.setRowVisible(self._key_row, finish is not None and finish.keyed in ("black", "white"))
        if placement is None or finish is None:
            return
        for box, value in ((self.blend, placement.blend), (self.keyed, finish.keyed)):
            with QSignalBlocker(box):
                box.setCurrentIndex(box.findData(value))
        show_numbers((self.opacity, placement.opacity * 100), (self.saturation, finish.saturation * 100), (self.threshold, finish.threshold * 100),
                     (self.soft, finish.soft * 100), (self.choke, finish.choke), (self.feather, finish.feather))
        for name, tick in self.casts.items():
            cast = getattr(placement, name)
            with QSignalBlocker(tick):
                tick.setChecked(cast is not None)
            if cast is not None:
                show_numbers(*((each, getattr(cast, key) * (100 if key == "opacity" else 1)) for key, each in self.numbers[name].items()))
                show_colour(self.colours[name], colour_of(cast.colour))
                if name != "thickness":  # no room for its code beside two numbers
                    self.colours[name].setText("")

    def _cast(self, name: str, on: bool) -> None:
        changes: dict[str, Any] = {name: (Thickness() if name == "thickness" else Shadow()) if on else None}
        self.set(f"{_CASTS[name][0]} {'on' if on else 'off'}", **changes)

    def _set_cast(self, name: str, key: str, value: float) -> None:
        placement = self.placement
        cast = getattr(placement, name) if placement is not None else None
        if cast is not None:
            self.set(f"Set the {_CASTS[name][0].lower()}", f"{name}-{key}", **{name: cast.but(**{key: value})})

    def _choose_colour(self, name: str) -> None:
        placement = self.placement
        cast = getattr(placement, name) if placement is not None else None
        if cast is None:
            return
        chosen = QColorDialog.getColor(colour_of(cast.colour), self, "Colour")
        if chosen.isValid():
            self.set("Choose the colour", **{name: cast.but(colour=(chosen.redF(), chosen.greenF(), chosen.blueF()))})
