"""The other pieces of a figure that is split: what of one piece's outline lies within another cannot be seen, or does not matter to the whole."""

from collections.abc import Sequence

import numpy as np
import skimage.measure

from wertis.core.matte.outline import flattened
from wertis.core.shot.matte_carry import Carrier
from wertis.core.shot.mattes import Matte, MatteShape


def other_pieces(matte: Matte, shape: MatteShape) -> list[MatteShape]:
    """The filled shapes of a matte that are added to one of them."""
    return [s for s in matte.shapes if s.id != shape.id and s.visible and s.closed and s.stroke is None and s.combine == "add"]


def within(pieces: Sequence[MatteShape], carried: Carrier, time: float, points: np.ndarray) -> np.ndarray:
    """(n,) bool, which points (n, 2) of a time's picture lie within one of the pieces."""
    found = np.zeros(len(points), bool)
    for piece in pieces:
        controls = carried.controls(piece, time)
        if controls is not None and np.isfinite(controls).all():
            found |= skimage.measure.points_in_poly(points, flattened(piece.curves(controls))[0])
    return found
