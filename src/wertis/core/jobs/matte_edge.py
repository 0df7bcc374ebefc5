"""How far a matte's outlines lie from the picture's edge, and outlines fitted to it."""

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from wertis.core.errors import PlateError, RegionError
from wertis.core.jobs.events import Counter, Event, Stop, stopped
from wertis.core.matte.edge import Edge, KnownFrame, found_edge
from wertis.core.matte.outline import bezier, flattened
from wertis.core.matte.tips import colours_near, with_length
from wertis.core.plate.base import Plate, Reader, to_float
from wertis.core.shot.document import Shot
from wertis.core.shot.matte_alpha import shape_alpha
from wertis.core.shot.matte_carry import Carrier, carrier, points_on
from wertis.core.shot.matte_edits import key_shape
from wertis.core.shot.mattes import Matte, MatteShape, matte_of

_KNOWN = 3  # keyed frames, the nearest, from which the figure is known
_USUAL_SHUTTER = 180.0  # degrees, by common practice, where a matte has none of its own
_SMOOTH = 1.5  # of an outline's places, over which what was found there is averaged for a point
_FADES = 6.0  # of an outline's places, over which a correction fades to nothing where the edge cannot be told
_LESS, _STAYS = 0.3, 0.1  # weights of what lies farther along, and of staying where it is, beside a place along which the edge was told
_FIRST, _EACH = 4.0, 1.5  # pixels by which an outline may differ from a known one at once, and for each frame between
_TIP = 16  # points to both sides of a corner that may be drawn back
_INSET = 1.5  # pixels from the outline inwards, from which what lies on a known frame is surely the figure
_MOST_PICTURES = 12  # that are kept
_SETTLED, _NEAR = 3.0, 12  # times below the limit, and frames from what is over it, from which a frame need not be measured again
_CORNER = 0.3  # roundness below which a point is a corner
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


class EdgeFinder:
    """Finds edges of a shape; keeps the pictures of the frames on which it is known.

    Parameters
    ----------
    read : reads a picture; `plate.read` when not given.
    """

    def __init__(self, plate: Plate, read: Reader | None = None) -> None:
        self._size, self._fetch = plate.size, read or plate.read
        self._pictures: dict[int, np.ndarray] = {}

    def measure(self, shot: Shot, matte: Matte, shape: MatteShape, frame: int, known: Sequence[int], reach: float) -> EdgeMeasure:
        """A shape's outline on a frame against the picture's edge; the figure is known by its outline on the `known` frames."""
        carried = Carrier(shot, matte)
        controls = carried.controls(shape, frame)
        if controls is None or not np.isfinite(controls).all():
            return EdgeMeasure(None, "its track has no answer here")
        if shape.stroke is not None:
            return EdgeMeasure(None, "it is a line, and has no edge of its own")
        try:
            picture = self._picture(frame)
            frames = [k for k in (self._known(shot, matte, shape, f, frame) for f in known) if k is not None]
        except PlateError as why:
            return EdgeMeasure(None, str(why))
        rounds = np.array(shape.roundness)
        polygon, at = flattened(shape.curves(controls))
        half = (matte.shutter or _USUAL_SHUTTER) / 720
        ends = [carried.controls(shape, frame + sign * half) for sign in (-1, 1)]
        moved = None
        if ends[0] is not None and ends[1] is not None:
            moved = shape.points_of(ends[1] - ends[0])[np.floor(at).astype(int)]
        corners = np.flatnonzero(rounds < _CORNER).tolist() if not shape.handled else []
        return EdgeMeasure(found_edge(picture, polygon, at, shape.count, frames, reach, moved, corners))

    def with_tips(self, shot: Shot, matte: Matte, shape: MatteShape, frame: int, points: np.ndarray, known: int, reach: float) -> np.ndarray:
        """Points (N, 2) of a frame with pointed corners as long as the picture shows them, the figure being known on another frame."""
        rounds = np.array(shape.roundness)
        corners = np.flatnonzero(rounds < _CORNER)
        there = points_on(shot, matte, shape, known)
        if there is None or not len(corners):
            return points
        alpha, box = shape_alpha(shot, matte.but(grow=-1.0), shape.but(inner=(0.0,) * shape.count, outer=(0.0,) * shape.count, opacity=1.0), known,
                                 self._size, False)
        if box is None:
            return points
        x0, y0, x1, y1 = box
        for corner in corners.tolist():
            colours = colours_near(self._picture(known)[y0:y1, x0:x1], alpha, there[corner] - [x0, y0])
            points = with_length(self._picture(frame), points, corner, lambda p: flattened(bezier(p, rounds))[0], colours, reach)
        return points

    def _picture(self, frame: int) -> np.ndarray:
        """(h, w, 3) float32 on a scale of 0..255, coded for the eye."""
        if frame not in self._pictures:
            picture = to_float(self._fetch(frame))[..., :3] * np.float32(255)
            self._pictures[frame] = np.ascontiguousarray(picture if picture.shape[2] == 3 else picture[..., :1].repeat(3, 2), np.float32)
            while len(self._pictures) > _MOST_PICTURES:
                self._pictures.pop(next(iter(self._pictures)))
        return self._pictures[frame]

    def _known(self, shot: Shot, matte: Matte, shape: MatteShape, known: int, frame: int) -> KnownFrame | None:
        here, there = carrier(shot, matte, frame), carrier(shot, matte, known)
        none = (0.0,) * len(shape.inner)
        alpha, box = shape_alpha(shot, matte.but(grow=-_INSET), shape.but(inner=none, outer=none, opacity=1.0), known, self._size, False)
        if here is None or there is None or box is None:
            return None
        whole = np.zeros(self._size[::-1], np.float32)
        x0, y0, x1, y1 = box
        whole[y0:y1, x0:x1] = alpha
        return KnownFrame(self._picture(known), whole, lambda p: there.forward(here.inverse(p)))


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


def fitted_points(points: np.ndarray, edge: Edge, roundness: np.ndarray | None = None) -> np.ndarray:
    """An outline's points (N, 2) moved to the edge that was found along it; where that cannot be told they go with what lies round them, or stay."""
    n, count = len(points), len(edge.along)
    place = np.searchsorted(edge.along, np.arange(n)) % count
    steps = np.abs(np.arange(count)[None] - place[:, None])
    steps = np.minimum(steps, count - steps)
    told = edge.usable.copy()
    if roundness is not None:  # right at a corner there is no one way across; what its sides say counts
        told &= ~((steps == 1) & (roundness < _CORNER)[:, None]).any(0)
    weight = np.exp(-0.5 * (steps / _SMOOTH) ** 2) * told
    wide = np.exp(-0.5 * (steps / _FADES) ** 2) * told
    weight = np.where(weight.sum(1, keepdims=True) > 0.5, weight, _LESS * wide)
    # each point's move is what takes the outline on both sides of it to the edge, so that a corner stays one; along the edge nothing is known
    normal = np.einsum("pk,ka,kb->pab", weight, edge.normals, edge.normals)
    normal += _STAYS * (1 + np.trace(normal, axis1=1, axis2=2))[:, None, None] * np.eye(2)
    pull = np.einsum("pk,ka,k->pa", weight, edge.normals, edge.offsets)
    moved = np.asarray(points + np.linalg.solve(normal, pull[..., None])[..., 0])
    return moved if roundness is None else with_tips(moved, np.flatnonzero(roundness < _CORNER).tolist())


def snap_points(shot: Shot, ident: str, plate: Plate, frame: int, chosen: Mapping[str, Collection[int]], reach: float = 8.0,
                read: Reader | None = None) -> tuple[Shot, int]:
    """The shot with chosen points of a matte's shapes (a shape's id to their numbers) moved to the picture's edge on a frame, by keys; and how many moved.

    A point stays where the edge cannot be told.

    Raises
    ------
    RegionError
        When the matte is gone or locked, or its track has no answer there.
    """
    finder, count = EdgeFinder(plate, read), 0
    for shape_id, numbers in chosen.items():
        matte = matte_of(shot, ident)
        shape = matte.shape(shape_id)
        controls = Carrier(shot, matte).controls(shape, frame) if shape is not None else None
        if shape is None or controls is None or not numbers:
            continue
        found = finder.measure(shot, matte, shape, frame, nearest_keys(shape, frame), reach)
        if found.edge is None:
            raise RegionError(f"{shape.name} cannot be brought to the edge on frame {frame}: {found.reason}.")
        points = shape.points_of(controls)
        fitted = fitted_points(points, found.edge, np.array(shape.roundness))
        told = [k for k in numbers if k < shape.count and _usable_near(found.edge, k)]
        moved = points.copy()
        moved[told] = fitted[told]
        count += len(told)
        if told:
            shot = key_shape(shot, ident, shape_id, frame, moved)
    return shot, count


def _usable_near(edge: Edge, point: int) -> bool:
    """Whether the edge was found well enough to be followed next to an outline's point."""
    place = int(np.searchsorted(edge.along, point))
    return bool(edge.usable[np.arange(place - 2, place + 2) % len(edge.along)].any())


def with_tips(points: np.ndarray, corners: Sequence[int]) -> np.ndarray:
    """An outline's points (N, 2) with each corner where its two sides meet: what lies beyond that is drawn back along them.

    When a tip gets shorter its sides are found by what lies across them, and what is left of the old tip is a loop round nothing.
    """
    p, n = points.copy(), len(points)
    for corner in corners:
        most = min(_TIP, n // 4)
        pairs = ((i, k) for i in range(most, 1, -1) for k in range(1, most))
        for before, after in pairs:  # the meeting that is farthest from the tip counts
            met = _meeting(p[(corner - before) % n], p[(corner - before + 1) % n], p[(corner + after) % n], p[(corner + after + 1) % n])
            if met is None:
                continue
            a, b = p[(corner - before) % n].copy(), p[(corner + after + 1) % n].copy()
            for k in range(1, before + 1):
                p[(corner - before + k) % n] = a + (met - a) * k / before
            for k in range(1, after + 1):
                p[(corner + k) % n] = met + (b - met) * k / (after + 1)
            break
    return p


def _meeting(a: np.ndarray, b: np.ndarray, c: np.ndarray, d: np.ndarray) -> np.ndarray | None:
    """Where the side from a to b crosses that from c to d; None where it does not."""
    u, v, w = b - a, d - c, c - a
    cross = u[0] * v[1] - u[1] * v[0]
    if abs(cross) > 1e-9:
        s, t = (w[0] * v[1] - w[1] * v[0]) / cross, (w[0] * u[1] - w[1] * u[0]) / cross
        if 0 <= s <= 1 and 0 <= t <= 1:
            return np.asarray(a + s * u)
    return None


def fit_matte(shot: Shot, ident: str, plate: Plate, frames: Sequence[int], reach: float = 8.0, read: Reader | None = None,
              stop: Stop | None = None) -> Iterator[Event]:
    """Fit a matte's outlines to the picture's edge on frames, each as a key; the last event's item is the shot with them.

    Frames are taken outwards from the nearest key; each that was fitted well helps to know the figure on the next. An event's note says what was left.

    Raises
    ------
    RegionError
        When the matte is gone or locked.
    """
    shapes = [s for s in matte_of(shot, ident).shapes if s.visible]
    finder, count = EdgeFinder(plate, read), Counter(len(frames) * len(shapes))
    for shape in shapes:
        by_hand = sorted(shape.keys)
        order = sorted(frames, key=lambda f: (min(abs(f - k) for k in by_hand), f))
        for frame in order:
            if stopped(stop):
                break
            now, current = matte_of(shot, ident), matte_of(shot, ident).shape(shape.id)
            assert current is not None
            known = [*nearest_keys(current, frame, 2), *sorted(by_hand, key=lambda k: abs(k - frame))[:1]]
            near = min(abs(k - frame) for k in known)
            for _ in range(2):
                found = finder.measure(shot, now, current, frame, list(dict.fromkeys(k for k in known if k != frame)), min(reach, _FIRST + _EACH * near))
                controls = Carrier(shot, now).controls(current, frame)
                points = current.points_of(controls) if controls is not None else None
                if found.edge is None or points is None or (found.reliable < _TOLD and found.usable < _FOLLOWED):
                    yield count.event(frame, note=f"{current.name} was left: {found.reason or 'too little of its edge can be told'}", of=(shape.id, frame))
                    break
                fitted = fitted_points(points, found.edge, np.array(current.roundness))
                if not current.handled:
                    fitted = finder.with_tips(shot, now, current, frame, fitted, known[0], min(reach, _FIRST + _EACH * near) + _FIRST)
                try:
                    shot = key_shape(shot, ident, shape.id, frame, fitted)
                except RegionError as why:
                    yield count.event(frame, note=str(why), of=(shape.id, frame))
                    break
                now = matte_of(shot, ident)
                current = now.shape(shape.id) or current
            else:
                yield count.event(frame, note=f"fitted on frame {frame}", of=(shape.id, frame))
    yield Event(None, count.total, count.total, shot)


def repair_matte(shot: Shot, ident: str, plate: Plate, frames: Sequence[int], limit: float, reach: float = 8.0, read: Reader | None = None,
                 stop: Stop | None = None) -> Iterator[Event]:
    """Fit keys where a matte's outline lies farthest from the edge, until it is nowhere more than `limit` pixels (rms) off; the last item is the shot."""
    left = set(frames)
    total, count = len(frames), Counter(2 * len(frames))
    for _ in range(total):
        worst: dict[int, float] = {}
        for event in measure_edges(shot, ident, plate, sorted(left), reach, read, stop):
            assert event.frame is not None
            worst[event.frame] = max((m.rms for m in event.item.values() if np.isfinite(m.rms) and m.reliable >= _TOLD), default=0.0)
            yield count.remark(event.frame, note=f"measured on frame {event.frame}")
        over = {f: e for f, e in worst.items() if e > limit}
        if stopped(stop) or not over:
            break
        left -= {f for f, e in worst.items() if e <= limit / _SETTLED and not any(abs(f - o) < _NEAR for o in over)}
        frame = max(over, key=lambda f: (over[f], -f))
        left.discard(frame)
        for event in fit_matte(shot, ident, plate, [frame], reach, read, stop):
            shot = event.item if isinstance(event.item, Shot) else shot
        yield count.event(frame, note=f"fitted on frame {frame}, where it was off by {over[frame]:.2f} px")
    yield Event(None, count.total, count.total, shot)
