"""Graphics, grades and colours in scripts."""

from __future__ import annotations

import threading
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from wertis import libraries  # noqa: F401  first, so that importing changes no environment
from wertis.core.jobs.matching import PARTS, colour_at, with_levels
from wertis.core.shot import edits, items, matte_edits, placing
from wertis.core.shot.artwork import Shadow, Thickness
from wertis.core.shot.document import Item, Placement
from wertis.core.shot.fills import Fill, set_fill
from wertis.core.shot.grades import Grade, set_grade
from wertis.core.shot.patches import with_match
from wertis.core.shot.pose import PoseValues
from wertis.scripting.common import ItemHandle, Progress, checked_fields, measured_match

if TYPE_CHECKING:
    pass


class Graded(ItemHandle[Grade]):
    """A grade of a shot."""

    kind = Grade

    def change(self, **fields: Any) -> Graded:
        """Set fields of the document's `Grade`: exposure, slope, offset, power, saturation, blur, opacity, name. Returns itself."""
        with checked_fields():
            self.shot._do("Change the grade", set_grade(self.shot.document, self.id, **fields))
        return self


class Filled(ItemHandle[Fill]):
    """A colour laid on a shot's picture inside mattes."""

    kind = Fill

    def change(self, **fields: Any) -> Filled:
        """Set fields of the document's `Fill`: colour, blend, opacity, glow, glow_strength, limited_to, held_back, name. Returns itself."""
        with checked_fields():
            self.shot._do("Change the colour", set_fill(self.shot.document, self.id, **fields))
        return self


class Placed(ItemHandle[Placement]):
    """A graphic on a surface."""

    kind = Placement

    def corners(self, frame: int) -> np.ndarray | None:
        """Its corners (4, 2) on a frame; None where its track has no answer."""
        return edits.placement_on(self.shot.document, self.record, frame)

    def end_where_covered(self, pattern: str | Path, progress: Progress | None = None, stop: threading.Event | None = None) -> dict[int, str]:
        """Put it behind what lies over its surface, such as a flap that folds over it, found from the motion; frames that were left out, and why.

        Parameters
        ----------
        pattern : where the matte sequence is kept, such as folder/c.####.png.
        """
        track = edits.track_of(self.shot.document, self.record.on)
        left_out = self.shot.surface(track.name).occluder_mattes(pattern, progress, stop)
        shot, _ = matte_edits.put_behind(self.shot.document, self.id, str(Path(pattern).absolute()))
        self.shot._do("End the graphic where it is covered", shot)
        return left_out

    def change(self, **fields: Any) -> Placed:
        """Set fields of the document's `Placement`; returns itself."""
        with checked_fields():
            self._put("Change the graphic", self.record.but(**fields))
        return self

    def move(self, right: float = 0.0, down: float = 0.0, scale: float | tuple[float, float] = 1.0, turn: float = 0.0, skew: float = 0.0,
             about: tuple[float, float] = (0.5, 0.5)) -> Placed:
        """Move it on its surface by parts of its own width and height; scale, turn (degrees, clockwise), skew it about a place in it. Returns itself."""
        record = self.record
        ratio = placing.proportions_in(self.shot.document, record)
        both = scale if isinstance(scale, tuple) else (scale, scale)
        self._put("Move on the surface", edits.moved_on_surface(record, ratio, (right, down), both, turn, skew, about))
        return self

    def pose(self, frame: int, right: float = 0.0, down: float = 0.0, scale: float | tuple[float, float] = 1.0, turn: float = 0.0,
             skew: float = 0.0) -> Placed:
        """Key its own motion on the surface: where it is on a frame, as in `move`, beside where it is placed. Returns itself."""
        both = scale if isinstance(scale, tuple) else (scale, scale)
        self._put("Key the graphic's motion", placing.posed(self.shot.document, self.record, frame, PoseValues(right, down, *both, turn, skew), True))
        return self

    def finish(self, **fields: Any) -> Placed:
        """Set fields of the document's `Finish`: saturation, keyed ("black", "white", "brightness"), threshold, soft, choke, feather. Returns itself."""
        with checked_fields():
            return self.artwork(finish=self.record.artwork.finish.but(**fields))

    def shadow(self, inner: bool = False, **fields: Any) -> Placed:
        """Give it a drop shadow, or one from its edge onto itself (`inner`); fields of the document's `Shadow`: distance, softness, angle, colour,
        opacity. Returns itself."""
        name = "inner_shadow" if inner else "shadow"
        with checked_fields():
            return self.change(**{name: (getattr(self.record, name) or Shadow()).but(**fields)})

    def stand_off(self, **fields: Any) -> Placed:
        """Give it an edge of some thickness; fields of the document's `Thickness`: depth, angle, colour. Returns itself."""
        with checked_fields():
            return self.change(thickness=(self.record.thickness or Thickness()).but(**fields))

    def tile(self, across: float, down: float) -> Placed:
        """Repeat its artwork over it. Returns itself."""
        return self.change(tiles=(across, down))

    def match_colours(self, black: tuple[float, float], white: tuple[float, float], frame: int | None = None) -> Placed:
        """Bring its black and white to the plate's colours at two places of a frame (its own unless given). Returns itself."""
        record, document = self.record, self.shot.document
        picture = self.shot.plate.read(record.frame if frame is None else frame)
        dark, bright = (colour_at(picture, np.array(place)) for place in (black, white))
        self._put("Match black and white", record.but(match=with_levels(document, record.match, dark, bright, picture.dtype)))
        return self

    def artwork(self, **fields: Any) -> Placed:
        """Set fields of the document's `Artwork`: text, font, colour, second, angle, align, leading, tracking, outline, outline_colour, cells, start,
        loop, speed, held. Returns itself."""
        with checked_fields():
            self._put("Change the artwork", self.record.but(artwork=self.record.artwork.but(**fields)))
        return self

    def match(self, parts: Iterable[str] = PARTS, progress: Progress | None = None, stop: threading.Event | None = None) -> dict[str, str]:
        """Measure in the plate what it needs to look like it, and set it; what was found, or why nothing was, by part.

        Parameters
        ----------
        parts : "softness", "shutter", "light", "grain"; "focus" is softness over time, "levels" the plate's black and white.
        """
        return measured_match(self.shot, self.id, parts, progress, stop)

    def set_match(self, **fields: Any) -> Placed:
        """Set fields of the document's `Match`: softness, focus, shutter, centre, slope, offset, light, light_from (id of another graphic or patch of the
        surface, on whose place `match` measures it), grain, texture, fine, coarse, reflection. Returns itself.

        Raises
        ------
        WertisError
            When a field cannot be so, or the surface has no clean plate to tell a reflection from.
        """
        with checked_fields():
            self.shot._do("Match the graphic", with_match(self.shot.document, self.id, **fields))
        return self

    def _put(self, label: str, item: Item) -> None:
        self.shot._do(label, items.set_item(self.shot.document, item))
