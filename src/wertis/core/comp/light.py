"""In what light graphics are laid on a plate: a shot's choice."""

from typing import NamedTuple

import numpy as np

from wertis.core.plate.colour import CODED, LINEAR, space_of
from wertis.core.shot.document import Shot

MIXINGS = {"plate": "As the plate is coded", "linear": "In linear light", "display": "As a display shows it"}


class Light(NamedTuple):
    """Colour spaces: of the plate's own numbers, and of those in which graphics are laid on it."""

    plate: str
    mixed: str


def light_of(shot: Shot, kind: np.dtype | type) -> Light:
    """The light of a shot whose plate has numbers of this kind."""
    own = (shot.plate.colour if shot.plate is not None else "") or space_of(kind)
    return Light(own, {"plate": own, "linear": LINEAR, "display": CODED}[shot.mixing])


def light_words(shot: Shot) -> str:
    """What the picture says of it; nothing where graphics are laid on in the plate's own numbers."""
    return {"plate": "", "linear": "mixed in linear light", "display": "mixed as a display shows it"}[shot.mixing]
