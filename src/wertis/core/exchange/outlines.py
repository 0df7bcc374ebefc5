"""Outlines over frames, as files of shapes hold them."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from wertis.core.errors import DeliverError
from wertis.core.matte.outline import bezier, from_handles

MOST_POINTS = 20_000
COMBINE = ("add", "subtract", "intersect", "exclude")


@dataclass(frozen=True)
class Outlines:
    """A shape over frames.

    Attributes
    ----------
    name : its name.
    combine : add, subtract, intersect or exclude.
    points : frame to (N, 2) in that frame's picture.
    roundness, inner, outer : (N,) of the points; see `core.shot.mattes`.
    handles : frame to (N, 2, 2), where the points have handles: the ends of the one before and of the one after.
    closed : whether the last point is followed by the first.
    widths : (N,) pixels, of a line; empty for a filled shape.
    size : width, height of the picture that it is of, where that is known.
    """

    name: str
    combine: str
    points: Mapping[int, np.ndarray]
    roundness: np.ndarray
    inner: np.ndarray
    outer: np.ndarray
    handles: Mapping[int, np.ndarray] = field(default_factory=dict)
    closed: bool = True
    widths: np.ndarray = field(default_factory=lambda: np.zeros(0))
    size: tuple[int, int] | None = None

    def curves(self, frame: int) -> np.ndarray:
        """(N, 4, 2) cubic Bezier curves of a frame, one less for an open shape."""
        points = self.points[frame]
        if frame in self.handles:
            return from_handles(np.concatenate([points[:, None], self.handles[frame]], axis=1), self.closed)
        return bezier(points, self.roundness, self.closed)


def checked(path: Path, shape: Outlines) -> Outlines:
    """The shape, if its numbers fit together.

    Raises
    ------
    DeliverError
        When they do not.
    """
    n = len(shape.roundness)
    sound = all(p.shape == (n, 2) and np.isfinite(p).all() for p in shape.points.values()) and len(shape.inner) == len(shape.outer) == n
    if shape.handles:
        sound &= set(shape.handles) == set(shape.points) and all(h.shape == (n, 2, 2) and np.isfinite(h).all() for h in shape.handles.values())
    sound &= len(shape.widths) in (0, n) and (shape.closed or len(shape.widths) == n) and n >= (3 if shape.closed else 2)
    values = np.concatenate([shape.inner, shape.outer, shape.widths])
    sound &= bool(np.isfinite(values).all() and (values >= 0).all() and ((shape.roundness >= 0) & (shape.roundness <= 1)).all())
    if not sound or not shape.points or n > MOST_POINTS or shape.combine not in COMBINE:
        raise DeliverError(f"{path.name} holds a shape whose points do not fit together; write it again.")
    return shape
