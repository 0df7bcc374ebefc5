"""Measuring a track's drift over a range: what the window and the command line share."""

from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from wertis.core.check.series import DriftSeries
from wertis.core.check.slip import Slip, unmeasured
from wertis.core.errors import PlateError, WertisError
from wertis.core.geometry.motion import between
from wertis.core.geometry.warp import Warp
from wertis.core.imaging.channel_mixture import channel_mixture
from wertis.core.jobs.events import Counter, Event, Stop, stopped
from wertis.core.plate.base import Plate, grey_of
from wertis.core.shot import regions
from wertis.core.shot.document import Placement, Shot, Solution, Track
from wertis.core.shot.edits import carry, placement_on
from wertis.core.shot.hold_outs import held_masks
from wertis.core.shot.resolve import motion_of

_MEASURERS = 2


class Meter(Protocol):
    """Measures the frames of a shot against a base frame at some points of it."""

    def window(self, warp: Warp, size: tuple[int, int]) -> tuple[int, int, int, int]:
        """The part x0, y0, x1, y1 of a frame of `size` (width, height) that measuring it needs."""

    def look(self, frame: int, luma: np.ndarray, warp: Warp, held: np.ndarray | None, origin: tuple[int, int], size: tuple[int, int]) -> Slip:
        """A frame's drift by itself, of a part of it; see `DriftSeries.look`."""

    def rounds(self, read: Callable[[int], tuple[np.ndarray, np.ndarray | None]]) -> list[Iterator[tuple[int, Callable[[], Slip]]]]:
        """Rounds of other looks; see `DriftSeries.rounds`."""


@dataclass(frozen=True)
class DriftPlaces:
    """Where a track's drift is stated.

    Attributes
    ----------
    points : (N, 2) on `frame`.
    words : what they belong to.
    each : what one of them is called.
    """

    points: np.ndarray
    frame: int
    words: str
    each: str = "corner"


@dataclass(frozen=True)
class _Kind:
    places: Callable[[Track], DriftPlaces]
    meter: Callable[[Track, np.ndarray, np.ndarray, np.ndarray], Meter]


_kinds: dict[type[Solution], _Kind] = {}


def register_drift(kind: type[Solution], places: Callable[[Track], DriftPlaces],
                   meter: Callable[[Track, np.ndarray, np.ndarray, np.ndarray], Meter]) -> None:
    """Say where the drift of a kind of solution is stated, and what measures it: called with the track, luma, mask and points on the base frame."""
    _kinds[kind] = _Kind(places, meter)


def drift_places(shot: Shot, track: Track, placement_id: str = "") -> DriftPlaces:
    """Where a track's drift is stated: a mesh's vertices, or the corners of what lies on a plane."""
    kind = _kinds.get(type(track.solution)) if track.solution is not None else None
    return kind.places(track) if kind is not None else DriftPlaces(*corners_of(shot, track, placement_id))


def corners_of(shot: Shot, track: Track, placement_id: str = "") -> tuple[np.ndarray, int, str]:
    """Corners (4, 2) of what lies on a track, the frame they are on, and what they are in words.

    Those of the placement named, else of the first placement, else of the region when it has four, else of the box round it.
    """
    placement = chosen_placement(shot, track, placement_id)
    if placement is not None and placement_on(shot, placement, track.region.frame) is not None:
        return placement.array, placement.frame, placement.name
    region = track.region
    if region.corners is not None:
        return region.corners, region.frame, "the region"
    return region.box, region.frame, "the box round the region"


def chosen_placement(shot: Shot, track: Track, placement_id: str) -> Placement | None:
    """The placement of a track that is named, or its first."""
    there = shot.placements(track.id)
    return next((p for p in there if p.id == placement_id), there[0] if there else None)


def check_track(shot: Shot, track: Track, plate: Plate, frames: Sequence[int], read: Callable[[int], np.ndarray] | None = None,
                base: int | None = None, placement_id: str = "", at: np.ndarray | None = None, stop: Stop | None = None) -> Iterator[Event]:
    """Measure the drift of `track` on `frames` against a base frame; each event's item is a frame's slip at its `drift_places`.

    A frame may come a second time at the end, with a better answer: where a blur or a reflection had made it doubtful.

    Parameters
    ----------
    read : reads a picture; `plate.read` when not given.
    at : (n, 2) points of the region's frame to state the drift at instead.
    base : the frame that counts as right; the region's own when not given.

    Raises
    ------
    WertisError
        When the track has no motion, or none on the base frame.
    PlateError
        When the base frame cannot be read.
    """
    motion = motion_of(track)
    if motion is None:
        raise WertisError(f"{track.name} has not been tracked; track it before you measure its drift.")
    home = track.region.frame
    base = home if base is None else base
    fetch = read or plate.read
    to_base = between(motion, home, base)
    places = drift_places(shot, track, placement_id) if at is None else DriftPlaces(at, home, "")
    there = carry(track, places.points, places.frame, base)
    if to_base is None or there is None:
        raise WertisError(f"{track.name} has no answer on frame {base}; choose a base frame on which it is tracked.")
    mask = regions.mask_of(track.region, plate.size, None if base == home else to_base)
    held = held_masks(shot, track, plate.size)
    away = held(base) if held is not None else None
    if away is not None:
        mask[away > 127] = 0
    first = fetch(base)
    mixture = channel_mixture(first, mask)
    kind = _kinds.get(type(track.solution)) if track.solution is not None else None
    reference = grey_of(first, mixture)
    series: Meter = kind.meter(track, reference, mask, there) if kind is not None else DriftSeries(reference, mask, there, base)

    def first_look(frame: int) -> Callable[[], Slip]:
        """How to measure a frame by itself."""
        if frame == base:
            return lambda: Slip(np.zeros((len(there), 2)), np.zeros(len(there)), 1.0, 1.0)
        warp = between(motion, base, frame)
        if warp is None:
            return lambda: unmeasured(len(there), f"{track.name} has no answer here")
        x0, y0, x1, y1 = series.window(warp, plate.size)
        # a movie is read here in its order, files by themselves where they are measured
        early = fetch(frame) if plate.file(frame) is None else None

        def measure() -> Slip:
            picture = early if early is not None else fetch(frame)
            hidden = held(frame) if held is not None else None
            part = hidden[y0:y1, x0:x1] if hidden is not None else None
            return series.look(frame, grey_of(picture[y0:y1, x0:x1], mixture), warp, part, (x0, y0), plate.size)

        return measure

    def whole(frame: int) -> tuple[np.ndarray, np.ndarray | None]:
        return grey_of(fetch(frame), mixture), held(frame) if held is not None else None

    def safely(look: Callable[[], Slip]) -> Slip:
        try:
            return look()
        except PlateError as why:
            return unmeasured(len(there), str(why))

    count = Counter(len(frames))

    def told(answers: Iterable[tuple[int, Slip]]) -> Iterator[Event]:
        for frame, slip in answers:
            yield count.event(frame, slip)

    yield from told(_in_turn(((frame, lambda f=frame: first_look(f)) for frame in frames), safely, stop))  # type: ignore[misc]
    with suppress(PlateError):  # a frame has gone meanwhile: what the first looks gave stands
        for looks in series.rounds(whole):
            yield from told(_in_turn(((frame, lambda g=look: g) for frame, look in looks), safely, stop))  # type: ignore[misc]


def _in_turn(tasks: Iterable[tuple[int, Callable[[], Callable[[], Slip]]]], run: Callable[[Callable[[], Slip]], Slip],
             stop: Stop | None) -> Iterator[tuple[int, Slip]]:
    """Each frame's slip in the order of the tasks, a few of them at a time; a task is prepared here and run in another thread."""
    coming: deque[tuple[int, Future[Slip]]] = deque()
    with ThreadPoolExecutor(_MEASURERS, thread_name_prefix="wertis-measure") as pool:
        for frame, prepare in tasks:
            if stopped(stop):
                break
            try:
                work = prepare()
            except PlateError as why:
                work = _raising(why)
            coming.append((frame, pool.submit(run, work)))
            if len(coming) > _MEASURERS:
                done, future = coming.popleft()
                yield done, future.result()
        while coming:
            done, future = coming.popleft()
            yield done, future.result()


def _raising(why: PlateError) -> Callable[[], Slip]:
    def fail() -> Slip:
        raise why

    return fail
