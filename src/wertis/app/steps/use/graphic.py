"""What the parts of a graphic's page share: the selected graphic, and changes of it."""

from collections.abc import Callable

from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QWidget

from wertis.app.fields import Number
from wertis.app.pages import number, part_form
from wertis.app.session import Session
from wertis.core.errors import WertisError
from wertis.core.shot import items
from wertis.core.shot.document import Placement


class GraphicFields(QWidget):
    """A part of a graphic's page."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.form = part_form(self)

    @property
    def placement(self) -> Placement | None:
        """The selected graphic."""
        return self.session.placement

    def show_state(self) -> None:
        """Show the graphic as it is."""

    def set(self, label: str, merge: str = "", **changes: object) -> None:
        """Set fields of the graphic; changes with one name to `merge` by, made after one another, are one step."""
        placement = self.placement
        if placement is not None:
            self.put(label, lambda: placement.but(**changes), merge)

    def set_artwork(self, label: str, merge: str = "", **changes: object) -> None:
        """Set fields of its artwork."""
        placement = self.placement
        if placement is not None:
            self.put(label, lambda: placement.but(artwork=placement.artwork.but(**changes)), merge)

    def set_finish(self, label: str, merge: str = "", **changes: object) -> None:
        """Set how its artwork is finished."""
        placement = self.placement
        if placement is not None:
            self.set_artwork(label, merge, finish=placement.artwork.finish.but(**changes))

    def put(self, label: str, make: Callable[[], Placement], merge: str = "") -> None:
        """Put another state of the graphic in its place; what may not be is told."""
        s = self.session
        try:
            changed = make()
            s.history.do(label, items.set_item(s.shot, changed), f"{merge}-{changed.id}" if merge else "")
        except WertisError as why:
            s.message.emit(str(why), True)
        self.show_state()


def show_numbers(*pairs: tuple[Number, float]) -> None:
    """Show values in fields without telling that they changed."""
    for field, value in pairs:
        with QSignalBlocker(field):
            field.setValue(value)


def field(low: float, high: float, step: float, unit: str, name: str, changed: Callable[[float], object]) -> Number:
    """A number with as many decimals as its step needs."""
    return number(low, high, unit, name, changed, step, 2 if step < 0.1 else 1 if step < 1 or unit == "px" else 0)
