"""Graphics, grades and colours in scripts."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from wertis import libraries  # noqa: F401  first, so that importing changes no environment
from wertis.core.errors import DeliverError, WertisError
from wertis.core.shot import edits, items
from wertis.core.shot.document import Item, Placement
from wertis.core.shot.fills import Fill, set_fill
from wertis.core.shot.grades import Grade, set_grade
from wertis.scripting.common import checked_fields

if TYPE_CHECKING:
    from wertis.scripting.shot import Shot
    from wertis.scripting.surface import Surface


class Graded:
    """A grade of a shot."""

    def __init__(self, shot: Shot, ident: str) -> None:
        self.shot, self.id = shot, ident

    @property
    def record(self) -> Grade:
        """Its data.

        Raises
        ------
        WertisError
            When it is no longer in the shot.
        """
        found = self.shot.document.item(self.id, Grade)
        if found is None:
            raise WertisError("That grade is no longer in the shot.")
        return found

    def change(self, **fields: Any) -> Graded:
        """Set fields of the document's `Grade`: exposure, slope, offset, power, saturation, blur, opacity, name. Returns itself."""
        with checked_fields():
            self.shot._do("Change the grade", set_grade(self.shot.document, self.id, **fields))
        return self


class Filled:
    """A colour laid on a shot's picture inside mattes."""

    def __init__(self, shot: Shot, ident: str) -> None:
        self.shot, self.id = shot, ident

    @property
    def record(self) -> Fill:
        """Its data.

        Raises
        ------
        WertisError
            When it is no longer in the shot.
        """
        found = self.shot.document.item(self.id, Fill)
        if found is None:
            raise WertisError("That colour is no longer in the shot.")
        return found

    def change(self, **fields: Any) -> Filled:
        """Set fields of the document's `Fill`: colour, blend, opacity, glow, glow_strength, limited_to, held_back, name. Returns itself."""
        with checked_fields():
            self.shot._do("Change the colour", set_fill(self.shot.document, self.id, **fields))
        return self


class Placed:
    """A graphic on a surface."""

    def __init__(self, shot: Shot, ident: str) -> None:
        self.shot, self.id = shot, ident

    @property
    def record(self) -> Placement:
        """Its data.

        Raises
        ------
        WertisError
            When it is no longer in the shot.
        """
        found = self.shot.document.item(self.id, Placement)
        if found is None:
            raise DeliverError("That graphic is no longer in the shot.")
        return found

    @property
    def name(self) -> str:
        """Its name."""
        return self.record.name

    def corners(self, frame: int) -> np.ndarray | None:
        """Its corners (4, 2) on a frame; None where its track has no answer."""
        return edits.placement_on(self.shot.document, self.record, frame)

    def change(self, **fields: Any) -> Placed:
        """Set fields of the document's `Placement`; returns itself."""
        with checked_fields():
            self._put("Change the graphic", self.record.but(**fields))
        return self

    def carry_by(self, surface: Surface, frame: int) -> Placed:
        """Hang it on another track; it does not move in the picture of `frame`. Returns itself."""
        self.shot._do("Carry by another track", items.carry_item(self.shot.document, self.id, surface.id, frame))
        return self

    def _put(self, label: str, item: Item) -> None:
        self.shot._do(label, items.set_item(self.shot.document, item))
