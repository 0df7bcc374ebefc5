"""A grade's settings on the page of the step Use."""

from collections.abc import Callable
from functools import partial

from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QFormLayout, QPushButton, QWidget

from wertis.app.fields import DragLabel, Number, named
from wertis.app.pages import combo, number, side_by_side
from wertis.app.session import Session
from wertis.core.errors import WertisError
from wertis.core.shot.grades import Grade, set_grade
from wertis.core.shot.mattes import mattes_of

_ROWS = (("slope", "Slope", 0.0, 100.0), ("offset", "Offset", -10.0, 10.0), ("power", "Power", 0.01, 100.0))


class GradeFields(QWidget):
    """The selected grade: exposure, colour decision list, blur, and what it is limited to."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        f = QFormLayout(self)
        f.setContentsMargins(0, 0, 0, 0)
        self.inside = combo({}, "The matte inside of which it works",
                            lambda: self._set("Limit the grade", limited_to=tuple(filter(None, [str(self.inside.currentData() or "")]))))
        f.addRow("Inside", self.inside)
        self.exposure = self._number(-20, 20, 0.1, "stops", "Exposure", lambda v: self._set("Set the exposure", exposure=v))
        f.addRow(DragLabel("Exposure", self.exposure), self.exposure)
        self.triples: dict[str, list[Number]] = {}
        for name, words, low, high in _ROWS:
            fields = [self._number(low, high, 0.01, "", f"{words} of {colour}", partial(self._triple, name)) for colour in ("red", "green", "blue")]
            self.triples[name] = fields
            f.addRow(words, side_by_side(*fields))
        self.saturation = self._number(0, 1000, 5, "%", "Saturation", lambda v: self._set("Set the saturation", saturation=v / 100))
        self.blur = self._number(0, 200, 0.5, "px", "Blur, standard deviation", lambda v: self._set("Blur", blur=v))
        self.opacity = self._number(0, 100, 5, "%", "Share of the grade", lambda v: self._set("Set the share", opacity=v / 100))
        f.addRow(DragLabel("Saturation", self.saturation), self.saturation)
        f.addRow(DragLabel("Blur", self.blur), self.blur)
        f.addRow(DragLabel("Share", self.opacity), self.opacity)
        self.reset = QPushButton("Leave the colours as they are")
        plain = {"exposure": 0.0, "slope": (1.0,) * 3, "offset": (0.0,) * 3, "power": (1.0,) * 3, "saturation": 1.0, "blur": 0.0}
        self.reset.clicked.connect(lambda: self._set("Reset the grade", **plain))
        f.addRow(self.reset)
        f.addRow(named("Slope, offset, power and saturation are those of ASC CDL, for red, green and blue. It works on what lies beneath it in the "
                       "outline.", "hint"))

    @property
    def grade(self) -> Grade | None:
        """The selected grade."""
        return self.session.selected(Grade)

    def show_state(self) -> None:
        """Show the grade as it is."""
        grade = self.grade
        if grade is None:
            return
        with QSignalBlocker(self.inside):
            self.inside.clear()
            self.inside.addItem("The whole picture", "")
            for matte in mattes_of(self.session.shot):
                self.inside.addItem(matte.name, matte.id)
            self.inside.setCurrentIndex(max(self.inside.findData(grade.limited_to[0] if grade.limited_to else ""), 0))
        fields = [(self.exposure, grade.exposure), (self.saturation, grade.saturation * 100), (self.blur, grade.blur), (self.opacity, grade.opacity * 100)]
        fields += [(field, value) for name, row in self.triples.items() for field, value in zip(row, getattr(grade, name), strict=True)]
        for field, value in fields:
            with QSignalBlocker(field):
                field.setValue(value)

    @staticmethod
    def _number(low: float, high: float, step: float, unit: str, name: str, changed: Callable[[float], object]) -> Number:
        return number(low, high, unit, name, changed, step, 2 if step < 0.1 else 1 if step < 1 or unit == "px" else 0)

    def _triple(self, name: str, _: float) -> None:
        self._set(f"Set the {name}", **{name: tuple(float(field.value()) for field in self.triples[name])})

    def _set(self, label: str, **changes: object) -> None:
        s, grade = self.session, self.grade
        if grade is None:
            return
        try:
            s.history.do(label, set_grade(s.shot, grade.id, **changes), f"{label}-{grade.id}")
        except WertisError as why:
            s.message.emit(str(why), True)
        self.show_state()
