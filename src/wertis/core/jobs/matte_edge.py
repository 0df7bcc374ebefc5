"""How far a matte's outlines lie from the picture's edge."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Protocol

import numpy as np

from wertis.core.errors import PlateError
from wertis.core.geometry import homography
from wertis.core.jobs.events import Counter, Event, Stop, stopped
from wertis.core.matte.edge import Edge, KnownBackground, KnownFrame, found_edge
from wertis.core.matte.fitting import fitted_points
from wertis.core.matte.outline import bezier, flattened
from wertis.core.matte.tips import colours_near, with_length
from wertis.core.plate.base import Plate, Reader, to_float
from wertis.core.shot.document import Shot
from wertis.core.shot.matte_alpha import shape_alpha
from wertis.core.shot.matte_carry import Carrier, carrier, points_on
from wertis.core.shot.matte_pieces import other_pieces, within
from wertis.core.shot.matte_pose import FigurePose
from wertis.core.shot.mattes import Matte, MatteShape, matte_of

FIRST, EACH = 4.0, 1.5  # pixels by which an outline may differ from a known one at once, and for each frame between
_KNOWN = 3  # keyed frames, the nearest, from which the figure is known
_USUAL_SHUTTER = 180.0  # degrees, by common practice, where a matte has none of its own
_INSET = 1.5  # pixels from the outline inwards, from which what lies on a known frame is surely the figure
_MOST_PICTURES = 12  # that are kept
_TOLD = 0.5  # share of an outline that must be told for a frame to be fitted and to be known by
_FOLLOWED = 0.6  # or of it usable: of a smeared outline what lies between goes with the rest, and with half of it that is worse than the keys


@dataclass(frozen=True)
class EdgeMeasure:
    """A shape's outline on a frame against the picture's edge.

    Attributes
    ----------
    edge : what was found along it; None where it has no outline there, or the frame cannot be read, for which `reason` is.
    """

    edge: Edge | None
    reason: str = ""

    @property
    def reliable(self) -> float:
        """Share of the outline along which the edge could be told."""
        return float(self.edge.reliable.mean()) if self.edge is not None else 0.0

    @property
    def usable(self) -> float:
        """Share of the outline along which the edge was found well enough to be followed."""
        return float(self.edge.usable.mean()) if self.edge is not None else 0.0

    @property
    def told(self) -> bool:
        """Whether enough of the edge could be told for its distance to be believed."""
        return self.reliable >= _TOLD

    @property
    def followed(self) -> bool:
        """Whether enough of the edge was found for a frame to be fitted by itself, and for the figure to be known by it."""
        return self.told or self.usable >= _FOLLOWED

    @property
    def rms(self) -> float:
        """Root mean square of how far the outline is off, in pixels, where that can be told; nan where it cannot."""
        if self.edge is None or not self.edge.reliable.any():
            return float("nan")
        return float(np.sqrt(np.mean(self.edge.offsets[self.edge.reliable] ** 2)))

    @property
    def worst(self) -> float:
        """The 95th percentile of the same."""
        if self.edge is None or not self.edge.reliable.any():
            return float("nan")
        return float(np.quantile(np.abs(self.edge.offsets[self.edge.reliable]), 0.95))


class Background(Protocol):
    """What lies behind a figure on each frame of a series, and how that moves.

    Attributes
    ----------
    pose : of the figure, by the keys that it was given.
    """

    pose: FigurePose

    def near(self, frame: int, polygon: np.ndarray, reach: float) -> KnownBackground | None:
        """What lies behind a polygon (M, 2) of a frame's picture and round it, as far away as an edge is looked for that lies within a reach."""


class EdgeFinder:
    """Finds edges of a shape; keeps the pictures of the frames on which it is known.

    Parameters
    ----------
    read : reads a picture; `plate.read` when not given.

    Attributes
    ----------
    size : width and height of the pictures.
    frames : that the plate has.
    """

    def __init__(self, plate: Plate, read: Reader | None = None) -> None:
        self.size, self.frames, self._fetch = plate.size, plate.frames, read or plate.read
        self._pictures: dict[int, np.ndarray] = {}

    def measure(self, shot: Shot, matte: Matte, shape: MatteShape, frame: int, known: Sequence[int], reach: float,
                background: Background | None = None) -> EdgeMeasure:
        """A shape's outline on a frame against the picture's edge; the figure is known by its outline on the `known` frames."""
        carried = Carrier(shot, matte)
        controls = carried.controls(shape, frame)
        if controls is None or not np.isfinite(controls).all():
            return EdgeMeasure(None, "its track has no answer here")
        if shape.stroke is not None:
            return EdgeMeasure(None, "it is a line, and has no edge of its own")
        pose = background.pose if background is not None else FigurePose(shape)
        try:
            picture = self.picture(frame)
            back = np.linalg.inv(pose.at(shape, frame))
            frames = [k for k in (self._known(shot, matte, shape, f, frame, pose.at(shape, f) @ back) for f in known) if k is not None]
        except PlateError as why:
            return EdgeMeasure(None, str(why))
        polygon, at = flattened(shape.curves(controls))
        half = self.shutter(matte) / 720
        ends = [carried.controls(shape, frame + sign * half) for sign in (-1, 1)]
        moved = None
        if ends[0] is not None and ends[1] is not None:
            moved = shape.points_of(ends[1] - ends[0])[np.floor(at).astype(int)]
        behind = background.near(frame, polygon, reach) if background is not None else None
        edge = found_edge(picture, polygon, at, shape.count, frames, reach, moved, shape.corners, behind)
        return EdgeMeasure(without_hidden(edge, carried, shape, frame))

    def fitted(self, shot: Shot, matte: Matte, shape: MatteShape, frame: int, points: np.ndarray, edge: Edge, known: int, reach: float,
               corners: Sequence[int] | None = None) -> np.ndarray:
        """Points (N, 2) of a frame moved to the edge that was found along them, and pointed corners, some or all, as long as the picture shows them."""
        fitted = fitted_points(points, edge, np.array(shape.roundness))
        return fitted if shape.handled else self.with_tips(shot, matte, shape, frame, fitted, known, reach, corners)

    def with_tips(self, shot: Shot, matte: Matte, shape: MatteShape, frame: int, points: np.ndarray, known: int, reach: float,
                  corners: Sequence[int] | None = None) -> np.ndarray:
        """Points (N, 2) of a frame with pointed corners, some or all, as long as the picture shows them, the figure being known on another frame."""
        rounds = np.array(shape.roundness)
        corners = shape.corners if corners is None else corners
        there = points_on(shot, matte, shape, known)
        if there is None or not len(corners):
            return points
        alpha, box = shape_alpha(shot, matte.but(grow=-1.0), shape.but(inner=(0.0,) * shape.count, outer=(0.0,) * shape.count, opacity=1.0), known,
                                 self.size, False)
        if box is None:
            return points
        x0, y0, x1, y1 = box
        for corner in corners:
            colours = colours_near(self.picture(known)[y0:y1, x0:x1], alpha, there[corner] - [x0, y0])
            points = with_length(self.picture(frame), points, corner, lambda p: flattened(bezier(p, rounds))[0], colours, reach)
        return points

    @staticmethod
    def shutter(matte: Matte) -> float:
        """Degrees for which the shutter is open."""
        return matte.shutter or _USUAL_SHUTTER

    def picture(self, frame: int) -> np.ndarray:
        """(h, w, 3) float32 on a scale of 0..255, coded for the eye."""
        if frame not in self._pictures:
            picture = to_float(self._fetch(frame))[..., :3] * np.float32(255)
            self._pictures[frame] = np.ascontiguousarray(picture if picture.shape[2] == 3 else picture[..., :1].repeat(3, 2), np.float32)
            while len(self._pictures) > _MOST_PICTURES:
                self._pictures.pop(next(iter(self._pictures)))
        return self._pictures[frame]

    def _known(self, shot: Shot, matte: Matte, shape: MatteShape, known: int, frame: int, move: np.ndarray) -> KnownFrame | None:
        """A frame on which the outline is known; `move` (3, 3) takes the figure from a `frame` to it, both in the surface's picture."""
        here, there = carrier(shot, matte, frame), carrier(shot, matte, known)
        none = (0.0,) * len(shape.inner)
        alpha, box = shape_alpha(shot, matte.but(grow=-_INSET), shape.but(inner=none, outer=none, opacity=1.0), known, self.size, False)
        if here is None or there is None or box is None:
            return None
        whole = np.zeros(self.size[::-1], np.float32)
        x0, y0, x1, y1 = box
        whole[y0:y1, x0:x1] = alpha
        return KnownFrame(self.picture(known), whole, lambda p: there.forward(homography.apply(move, here.inverse(p))))


def without_hidden(edge: Edge, carried: Carrier, shape: MatteShape, frame: int) -> Edge:
    """An edge without what lies within other pieces of the same figure, where it cannot be seen, or is not the figure's."""
    open_ = ~within(other_pieces(carried.matte, shape), carried, frame, edge.places)
    return replace(edge, reliable=edge.reliable & open_, usable=edge.usable & open_, beyond=edge.beyond & open_)


def visible_corners(carried: Carrier, shape: MatteShape, frame: int, size: tuple[int, int]) -> list[int]:
    """Numbers of a shape's corners that a frame's picture of a `size` shows: those in it that no other piece of the figure hides."""
    controls = carried.controls(shape, frame)
    if controls is None or not shape.corners:
        return []
    points = shape.points_of(controls)[shape.corners]
    hidden = within(other_pieces(carried.matte, shape), carried, frame, points) | ((points < 0) | (points > size)).any(1)
    return [c for c, h in zip(shape.corners, hidden.tolist(), strict=True) if not h]


def nearest_keys(shape: MatteShape, frame: int, count: int = _KNOWN) -> list[int]:
    """The keyed frames of a shape nearest to a frame, that one left out."""
    return sorted((f for f in shape.keys if f != frame), key=lambda f: (abs(f - frame), f))[:count]


def measure_edges(shot: Shot, ident: str, plate: Plate, frames: Sequence[int], reach: float = 8.0, read: Reader | None = None,
                  stop: Stop | None = None) -> Iterator[Event]:
    """Measure a matte's outlines on frames; each event's item is a frame's measures, by the shapes' ids.

    What is keyed counts as right: on a keyed frame the outline is measured by the other keys.

    Raises
    ------
    RegionError
        When the matte is gone.
    """
    matte, finder, count = matte_of(shot, ident), EdgeFinder(plate, read), Counter(len(frames))
    for frame in frames:
        if stopped(stop):
            return
        yield count.event(frame, {s.id: finder.measure(shot, matte, s, frame, nearest_keys(s, frame), reach) for s in matte.shapes if s.visible})
