"""Reading plates: image sequences and movies, frame by frame, with the files' own frame numbers."""

from wertis.core.plate.base import Plate
from wertis.core.plate.open import open_plate

__all__ = ["Plate", "open_plate"]
