"""Grades in the document: the colours of the picture changed inside mattes, or inside a track's region."""

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from wertis.core.shot.document import Item, Shot, Track
from wertis.core.shot.fields import Ident
from wertis.core.shot.items import add_item, set_fields

Triple = tuple[Annotated[float, Field(ge=0, le=100)], Annotated[float, Field(ge=0, le=100)], Annotated[float, Field(ge=0, le=100)]]
Signed = tuple[Annotated[float, Field(ge=-10, le=10)], Annotated[float, Field(ge=-10, le=10)], Annotated[float, Field(ge=-10, le=10)]]
Powers = tuple[Annotated[float, Field(gt=0, le=100)], Annotated[float, Field(gt=0, le=100)], Annotated[float, Field(gt=0, le=100)]]


class Grade(Item):
    """A change of colours, by ASC CDL (American Society of Cinematographers, Color Decision List, 1.2, 2009), an exposure before it and a blur after.

    Attributes
    ----------
    exposure : stops.
    slope, offset, power : of red, green and blue.
    saturation : 1 leaves it.
    blur : standard deviation in pixels.
    limited_to : ids of the mattes inside of which it works; in the whole picture where there is none.
    opacity : share of it.
    """

    called: ClassVar[str] = "grade"
    rendered: ClassVar[bool] = True

    kind: Literal["grade"] = "grade"
    name: Annotated[str, Field(min_length=1, max_length=200)] = "Grade"
    exposure: Annotated[float, Field(ge=-20, le=20)] = 0.0
    slope: Triple = (1.0, 1.0, 1.0)
    offset: Signed = (0.0, 0.0, 0.0)
    power: Powers = (1.0, 1.0, 1.0)
    saturation: Annotated[float, Field(ge=0, le=10)] = 1.0
    blur: Annotated[float, Field(ge=0, le=200)] = 0.0
    limited_to: Annotated[tuple[Ident, ...], Field(max_length=1000)] = ()
    opacity: Annotated[float, Field(ge=0, le=1)] = 1.0


def add_grade(shot: Shot, track: Track, limited_to: tuple[str, ...] = (), name: str = "Grade") -> tuple[Shot, Grade]:
    """The shot with a grade more on top of a track's items; and it."""
    shot = add_item(shot, Grade(on=track.id, name=name, limited_to=limited_to))
    added = shot.items[-1]
    assert isinstance(added, Grade)
    return shot, added


def set_grade(shot: Shot, ident: str, **changes: object) -> Shot:
    """The shot with fields of a grade set.

    Raises
    ------
    RegionError
        When it is gone, locked or no grade.
    """
    return set_fields(shot, ident, Grade, **changes)
