"""Graphics, grades and colours in scripts."""

from __future__ import annotations

import threading
from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

import numpy as np

from wertis import libraries  # noqa: F401  first, so that importing changes no environment
from wertis.core.blas import single_threaded
from wertis.core.comp.picture import surface_proportions
from wertis.core.errors import DeliverError, WertisError
from wertis.core.jobs.matching import PARTS, match_placement
from wertis.core.shot import edits, items
from wertis.core.shot.document import Item, Placement
from wertis.core.shot.document import Shot as Document
from wertis.core.shot.fills import Fill, set_fill
from wertis.core.shot.grades import Grade, set_grade
from wertis.scripting.common import Progress, checked_fields

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

    def move(self, right: float = 0.0, down: float = 0.0, scale: float | tuple[float, float] = 1.0, turn: float = 0.0, skew: float = 0.0,
             about: tuple[float, float] = (0.5, 0.5)) -> Placed:
        """Move it on its surface by parts of its own width and height; scale, turn (degrees, clockwise), skew it about a place in it. Returns itself."""
        record, ref = self.record, self.shot.document.plate
        ratio = surface_proportions(record, *((ref.size, ref.aspect) if ref is not None else (self.shot.plate.size,))).ratio
        both = scale if isinstance(scale, tuple) else (scale, scale)
        self._put("Move on the surface", edits.moved_on_surface(record, ratio, (right, down), both, turn, skew, about))
        return self

    def artwork(self, **fields: Any) -> Placed:
        """Set fields of the document's `Artwork`: text, font, colour, second, angle, align, leading, outline, outline_colour, cells, start, loop. Returns
        itself."""
        with checked_fields():
            self._put("Change the artwork", self.record.but(artwork=self.record.artwork.but(**fields)))
        return self

    def match(self, parts: Iterable[str] = PARTS, progress: Progress | None = None, stop: threading.Event | None = None) -> dict[str, str]:
        """Measure in the plate what it needs to look like it, and set it; what was found, or why nothing was, by part.

        Parameters
        ----------
        parts : "softness", "shutter", "light", "grain".
        """
        wanted, words, after = list(parts), {}, None
        unknown = [p for p in wanted if p not in PARTS]
        if unknown:
            raise WertisError(f"{unknown[0]} is nothing that is matched; choose of {', '.join(PARTS)}.")
        with single_threaded():
            for event in match_placement(self.shot.document, self.id, self.shot.plate, wanted, stop=stop):
                if progress is not None:
                    progress(event)
                if isinstance(event.item, Document):
                    after = event.item
                elif isinstance(event.item, str):
                    words[event.item] = event.note
        if after is not None:
            self.shot._do("Match the graphic", after)
        return words

    def set_match(self, **fields: Any) -> Placed:
        """Set fields of the document's `Match`: softness, focus, shutter, centre, slope, offset, light, grain, texture, fine, coarse. Returns itself."""
        with checked_fields():
            self._put("Match the graphic", self.record.but(match=self.record.match.but(**fields)))
        return self

    def carry_by(self, surface: Surface, frame: int) -> Placed:
        """Hang it on another track; it does not move in the picture of `frame`. Returns itself."""
        self.shot._do("Carry by another track", items.carry_item(self.shot.document, self.id, surface.id, frame))
        return self

    def _put(self, label: str, item: Item) -> None:
        self.shot._do(label, items.set_item(self.shot.document, item))
