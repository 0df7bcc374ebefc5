"""The comp compared with the plate: a wipe, their difference raised, or side by side."""

from typing import NamedTuple

import numpy as np

WORDS = {"": "Comp alone", "split": "Parted by a line", "difference": "Difference, eight times", "beside": "Side by side"}
_RAISED = 8


class PlateComparison(NamedTuple):
    """How it is done: a key of `WORDS`, and where the line is, as a share of the picture's width; the comp is on its right."""

    how: str = ""
    at: float = 0.5

    def shown(self, comp: np.ndarray, plate: np.ndarray) -> np.ndarray:
        """What is shown (h, w, 3) uint8 of the comp and the plate, as the display shows each."""
        if self.how == "difference":
            difference = np.abs(comp.astype(np.int16) - plate) * _RAISED
            return np.minimum(difference, 255).astype(np.uint8)
        if self.how == "split":
            out = comp.copy()
            column = round(self.at * comp.shape[1])
            out[:, :column] = plate[:, :column]
            return out
        return comp
