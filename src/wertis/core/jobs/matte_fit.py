"""A matte's outlines fitted to the picture's edge, as keys: chosen points, single frames, and many frames together."""

from collections.abc import Collection, Iterator, Mapping, Sequence

import numpy as np

from wertis.core.errors import RegionError
from wertis.core.jobs.events import Counter, Event, Stop, stopped
from wertis.core.jobs.matte_edge import EACH, FIRST, EdgeFinder, measure_edges, nearest_keys
from wertis.core.jobs.matte_series import OutlineSeries
from wertis.core.matte.edge import Edge
from wertis.core.matte.fitting import fitted_points
from wertis.core.plate.base import Plate, Reader
from wertis.core.shot.document import Shot
from wertis.core.shot.matte_carry import Carrier
from wertis.core.shot.matte_edits import key_shape
from wertis.core.shot.mattes import MatteShape, matte_of

_SETTLED, _NEAR = 3.0, 12  # times below the limit, and frames from what is over it, from which a frame need not be measured again


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


def fit_matte(shot: Shot, ident: str, plate: Plate, frames: Sequence[int], reach: float = 8.0, read: Reader | None = None,
              stop: Stop | None = None) -> Iterator[Event]:
    """Fit a matte's outlines to the picture's edge on frames, each as a key; the last event's item is the shot with them.

    Frames are taken outwards from the nearest key; each that was fitted well helps to know the figure on the next. Then all are fitted together, so that
    what the shutter smears on one is known from those around it. An event's note says what was left.

    Raises
    ------
    RegionError
        When the matte is gone or locked.
    """
    shapes = [s for s in matte_of(shot, ident).shapes if s.visible]
    finder = EdgeFinder(plate, read)
    together = {s.id: OutlineSeries.suits(s, frames) for s in shapes}
    count = Counter(sum(len(frames) * (OutlineSeries.ROUNDS if together[s.id] else 1) for s in shapes))
    for shape in shapes:
        if together[shape.id]:
            series = OutlineSeries(finder, shot, ident, shape.id, frames, reach)
            yield from series.fit(count, stop)
            shot = series.shot
            continue
        for frame in sorted(frames, key=lambda f: (min(abs(f - k) for k in shape.keys), f)):
            if stopped(stop):
                break
            shot, note = _fitted_alone(finder, shot, ident, shape, frame, reach)
            yield count.event(frame, note=note, of=(shape.id, frame))
    yield Event(None, count.total, count.total, shot)


def _fitted_alone(finder: EdgeFinder, shot: Shot, ident: str, drawn: MatteShape, frame: int, reach: float) -> tuple[Shot, str]:
    """The shot with a shape fitted on one frame by itself, and what became of it; `drawn` is as it was before any frame was fitted."""
    now = matte_of(shot, ident)
    current = now.shape(drawn.id)
    assert current is not None
    known = [*nearest_keys(current, frame, 2), *sorted(drawn.keys, key=lambda k: abs(k - frame))[:1]]
    near = min(abs(k - frame) for k in known)
    reach = min(reach, FIRST + EACH * near)
    for _ in range(2):
        found = finder.measure(shot, now, current, frame, list(dict.fromkeys(k for k in known if k != frame)), reach)
        controls = Carrier(shot, now).controls(current, frame)
        points = current.points_of(controls) if controls is not None else None
        if found.edge is None or points is None or not found.followed:
            return shot, f"{current.name} was left: {found.reason or 'too little of its edge can be told'}"
        fitted = finder.fitted(shot, now, current, frame, points, found.edge, known[0], reach + FIRST)
        try:
            shot = key_shape(shot, ident, drawn.id, frame, fitted)
        except RegionError as why:
            return shot, str(why)
        now = matte_of(shot, ident)
        current = now.shape(drawn.id) or current
    return shot, f"fitted on frame {frame}"


def repair_matte(shot: Shot, ident: str, plate: Plate, frames: Sequence[int], limit: float, reach: float = 8.0, read: Reader | None = None,
                 stop: Stop | None = None) -> Iterator[Event]:
    """Fit keys where a matte's outline lies farthest from the edge, until it is nowhere more than `limit` pixels (rms) off; the last item is the shot."""
    left = set(frames)
    total, count = len(frames), Counter(2 * len(frames))
    for _ in range(total):
        worst: dict[int, float] = {}
        for event in measure_edges(shot, ident, plate, sorted(left), reach, read, stop):
            assert event.frame is not None
            worst[event.frame] = max((m.rms for m in event.item.values() if np.isfinite(m.rms) and m.told), default=0.0)
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
