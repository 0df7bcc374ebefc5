"""Fills in the document: a colour laid on the picture inside mattes, drawn lines among them, with a glow."""

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from wertis.core.shot.document import Blend, Item, Shot, Track
from wertis.core.shot.fields import Ident, Name
from wertis.core.shot.items import add_item, set_fields
from wertis.core.shot.mattes import Share

Level = Annotated[float, Field(ge=0, le=100)]


class Fill(Item):
    """A colour inside mattes, blended with what is beneath as a graphic is.

    Attributes
    ----------
    colour : red, green, blue as coded for the eye, white at 1; over 1 for light.
    limited_to : ids of the mattes that it fills; nothing where there is none.
    held_back : ids of mattes of what is in front of it.
    glow : standard deviations in pixels of the blurs that lie round it.
    glow_strength : share of each.
    """

    called: ClassVar[str] = "colour"
    rendered: ClassVar[bool] = True

    kind: Literal["fill"] = "fill"
    name: Name = "Colour"
    colour: tuple[Level, Level, Level] = (1.0, 0.8, 0.3)
    limited_to: Annotated[tuple[Ident, ...], Field(max_length=1000)] = ()
    held_back: Annotated[tuple[Ident, ...], Field(max_length=1000)] = ()
    blend: Blend = "normal"
    opacity: Share = 1.0
    glow: Annotated[tuple[Annotated[float, Field(ge=0, le=500)], ...], Field(max_length=8)] = ()
    glow_strength: Share = 0.5


def add_fill(shot: Shot, track: Track, limited_to: tuple[str, ...] = (), name: str = "Colour") -> tuple[Shot, Fill]:
    """The shot with a fill more on top of a track's items; and it."""
    shot = add_item(shot, Fill(on=track.id, name=name, limited_to=limited_to))
    added = shot.items[-1]
    assert isinstance(added, Fill)
    return shot, added


def set_fill(shot: Shot, ident: str, **changes: object) -> Shot:
    """The shot with fields of a fill set.

    Raises
    ------
    RegionError
        When it is gone, locked or no fill.
    """
    return set_fields(shot, ident, Fill, **changes)
