"""How a figure moves as a whole by the keys of its outline, where no track carries it, or one that it does not go with.

What the figure looks like goes along with that motion, so that frames on which the outline is known tell what it looks like on others (as the pieces of
an articulated figure do: S. Ju, M. Black and Y. Yacoob, Cardboard people: a parameterized model of articulated image motion, 1996).
"""

from collections.abc import Sequence

import numpy as np

from wertis.core.geometry import homography
from wertis.core.geometry.affine import similarity_through
from wertis.core.shot.mattes import MatteShape

_MOVED = 2.0  # pixels (rms) by which keys must move an outline for that to count as a motion
_AS_ONE = 0.9  # share of the squares of that, which one similarity must explain


class FigurePose:
    """The pose of a figure in the picture of its matte's own frame, beside that on the first key of its outline.

    Parameters
    ----------
    shape : whose keys move it, or only change its outline: then the pose stays as it is.
    """

    def __init__(self, shape: MatteShape) -> None:
        self._home = shape.points_of(shape.at(min(shape.keys))) if _moved_as_one(shape) else None

    @property
    def moves(self) -> bool:
        """Whether keys move the figure as a whole."""
        return self._home is not None

    def at(self, shape: MatteShape, time: float) -> np.ndarray:
        """(3, 3) the similarity that takes the figure of the first key to where an outline, which may have further keys by now, is at a time."""
        if self._home is None:
            return np.eye(3)
        return similarity_through(self._home, shape.points_of(shape.at(time)))

    def moved(self, shape: MatteShape, times: Sequence[float]) -> np.ndarray | None:
        """(T, N, 2) where an outline's points would be at times, if it moved as a whole and never changed; None where it does not move."""
        if self._home is None:
            return None
        return np.array([homography.apply(self.at(shape, time), self._home) for time in times])


def _moved_as_one(shape: MatteShape) -> bool:
    """Whether most of what keys do to an outline is one motion of all of its points, beyond what its track does."""
    outlines = np.array([shape.points_of(shape.at(key)) for key in sorted(shape.keys)])
    moved = rest = 0.0
    for outline in outlines[1:]:
        moved += float(np.mean(np.sum((outline - outlines[0]) ** 2, axis=1)))
        whole = similarity_through(outlines[0], outline)
        rest += float(np.mean(np.sum((outline - homography.apply(whole, outlines[0])) ** 2, axis=1)))
    return moved > _MOVED ** 2 * max(len(outlines) - 1, 1) and rest < (1 - _AS_ONE) * moved
