"""Which matte, shape and points are in hand, and changes of them: what the parts of the matte's page share."""

from collections.abc import Callable

from wertis.app.session import Session
from wertis.core.errors import WertisError
from wertis.core.shot import items
from wertis.core.shot.document import Shot
from wertis.core.shot.mattes import Matte, MatteGroup, MatteShape


class Hand:
    """What is in hand of the selected matte.

    Attributes
    ----------
    shape_id : of the shape that was picked.
    group_id : of the group that was picked, where it was one.
    chosen : a shape's id to the numbers of its points that are chosen.
    """

    def __init__(self, session: Session) -> None:
        self.session = session
        self.shape_id = self.group_id = ""
        self.chosen: dict[str, set[int]] = {}
        self.ask: Callable[[str], object] = lambda what: None  # for what needs the picture or takes long
        self.follow: Callable[[], object] = lambda: None  # shows everything as it is now

    @property
    def matte(self) -> Matte | None:
        """The selected matte."""
        return self.session.selected(Matte)

    @property
    def shape(self) -> MatteShape | None:
        """The shape in hand: the one picked, or the matte's last."""
        matte = self.matte
        if matte is None or not matte.shapes:
            return None
        return matte.shape(self.shape_id) or matte.shapes[-1]

    @property
    def group(self) -> MatteGroup | None:
        """The group in hand, where one was picked."""
        return self.matte.group(self.group_id) if self.matte is not None else None

    def numbers(self) -> set[int]:
        """The chosen points of the shape in hand."""
        shape = self.shape
        return {k for k in self.chosen.get(shape.id, ()) if k < shape.count} if shape is not None else set()

    def take(self, ident: str) -> None:
        """Take a shape or a group in hand."""
        matte = self.matte
        if matte is not None and matte.group(ident) is not None:
            self.group_id = ident
        elif ident != self.shape_id or self.group_id:
            self.chosen = {k: v for k, v in self.chosen.items() if k == ident}
            self.shape_id, self.group_id = ident, ""
        else:
            return
        self.session.selection_changed.emit()

    def do(self, label: str, make: Callable[[], Shot]) -> bool:
        """Make a change, those of one field in a row as one step; a message says why when it cannot be."""
        matte = self.matte
        try:
            self.session.history.do(label, make(), f"{label}-{matte.id if matte is not None else ''}")
        except WertisError as why:
            self.session.message.emit(str(why), True)
            return False
        finally:
            self.follow()
        return True

    def set_matte(self, label: str, **changes: object) -> None:
        """Set fields of the matte."""
        matte = self.matte
        if matte is not None:
            self.do(label, lambda: items.set_item(self.session.shot, matte.but(**changes)))

    def set_shape(self, label: str, **changes: object) -> None:
        """Set fields of the shape in hand."""
        matte, shape = self.matte, self.shape
        if matte is not None and shape is not None:
            self.do(label, lambda: items.set_item(self.session.shot, matte.with_shape(shape.but(**changes))))
