"""What a placement shows, how that is finished, and what lies beneath it on the surface: shadow and thickness."""

from typing import Annotated, Literal

from pydantic import Field

from wertis.core.shot.fields import FilePath, Frame, Record

Part = Annotated[float, Field(ge=0, le=100)]
Ink = tuple[Part, Part, Part]
Share = Annotated[float, Field(ge=0, le=1)]
ArtworkKind = Literal["grid", "checker", "picture", "sequence", "text", "solid", "gradient"]
Keyed = Literal["none", "black", "white", "brightness"]


class Finish(Record):
    """What is done to artwork before it is laid on the surface.

    Attributes
    ----------
    saturation : 0 is grey, 1 as it is; by the luminance of Rec. 709.
    keyed : takes its black or its white away, or makes its brightness its alpha.
    threshold, soft : brightness, coded for the eye, up to which black (from which white) is taken away, and over which that fades.
    choke : pixels of the artwork by which its edge moves in; out where negative.
    feather : pixels of the artwork over which its edge fades, inward.
    """

    saturation: Annotated[float, Field(ge=0, le=4)] = 1.0
    keyed: Keyed = "none"
    threshold: Share = 0.05
    soft: Share = 0.1
    choke: Annotated[float, Field(ge=-100, le=100)] = 0.0
    feather: Annotated[float, Field(ge=0, le=100)] = 0.0


PLAIN = Finish()


class Artwork(Record):
    """What a placement shows. A sequence's or movie's first picture falls on `start`; after its last one that holds, or it begins again (`loop`).

    Attributes
    ----------
    speed : pictures of a sequence to a frame of the shot; backward where negative, from its last one.
    held : frame of the shot from which its picture holds; None for none.
    text, font, align, leading, tracking, outline, outline_colour : of a text; see `core.comp.text`. Its letters have the `colour`.
    colour, second, angle : of a plain colour, or of a gradient from the one to the other. Colours are as coded for the eye.
    """

    kind: ArtworkKind = "grid"
    path: FilePath = ""
    start: Frame = 0
    loop: bool = False
    speed: Annotated[float, Field(ge=-100, le=100)] = 1.0
    held: Frame | None = None
    cells: Annotated[int, Field(ge=1, le=64)] = 8
    text: Annotated[str, Field(max_length=5000)] = ""
    font: FilePath = ""
    align: Literal["left", "centre", "right"] = "centre"
    leading: Annotated[float, Field(ge=0.2, le=5)] = 1.2
    tracking: Annotated[float, Field(ge=-50, le=500)] = 0.0
    outline: Annotated[float, Field(ge=0, le=50)] = 0.0
    outline_colour: Ink = (0.0, 0.0, 0.0)
    colour: Ink = (0.95, 0.93, 0.88)
    second: Ink = (0.1, 0.12, 0.2)
    angle: Annotated[float, Field(ge=-360, le=360)] = 90.0
    finish: Finish = PLAIN


class Shadow(Record):
    """A shadow that a graphic casts on the surface, or that is cast on the graphic from round its edge (inner).

    Attributes
    ----------
    distance, softness : in hundredths of the placement's height on the surface; the softness is a standard deviation.
    angle : degrees, in the surface, the way in which the shadow falls: 0 to its right, 90 down.
    """

    distance: Annotated[float, Field(ge=0, le=200)] = 3.0
    softness: Annotated[float, Field(ge=0, le=100)] = 2.0
    angle: Annotated[float, Field(ge=-360, le=360)] = 60.0
    colour: Ink = (0.0, 0.0, 0.0)
    opacity: Share = 0.5


class Thickness(Record):
    """The edge of a graphic that stands a little off the surface: its outline drawn out along a direction.

    Attributes
    ----------
    depth : hundredths of the placement's height.
    angle : degrees, in the surface, the way in which the edge is seen.
    """

    depth: Annotated[float, Field(ge=0, le=50)] = 1.0
    angle: Annotated[float, Field(ge=-360, le=360)] = 90.0
    colour: Ink = (0.25, 0.24, 0.22)
