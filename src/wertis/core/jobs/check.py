"""Measuring a track's drift over a range: what the window and the command line share."""

from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass
from typing import Any, Protocol

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

    def look(self, luma: np.ndarray, warp: Warp, held: np.ndarray | None, origin: tuple[int, int], size: tuple[int, int]) -> Any:
        """What is seen of a frame by itself, of a part of it: a slip, or what `take` makes one of; see `DriftSeries.look`."""

    def take(self, frame: int, found: Any, warp: Warp) -> Slip:
        """The slip of what `look` gave, which is remembered for later rounds."""

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


FirstLooks = Callable[[Sequence[int]], Iterator[tuple[int, Any]]]
"""Gives, for frames, what `DriftCheck.examined` gives for each, in any order."""


class DriftCheck:
    """What is needed to measure a track's drift on any of its frames; see `check_track` for the parameters.

    Looking at a frame by itself is a function of the shot and the frame alone, so that it may be done by any process.
    """

    def __init__(self, shot: Shot, track: Track, plate: Plate, read: Callable[[int], np.ndarray] | None = None, base: int | None = None,
                 placement_id: str = "", at: np.ndarray | None = None) -> None:
        motion = motion_of(track)
        if motion is None:
            raise WertisError(f"{track.name} has not been tracked; track it before you measure its drift.")
        home = track.region.frame
        self._name, self._motion, self._plate, self._fetch = track.name, motion, plate, read or plate.read
        self._base = base = home if base is None else base
        to_base = between(motion, home, base)
        places = drift_places(shot, track, placement_id) if at is None else DriftPlaces(at, home, "")
        there = carry(track, places.points, places.frame, base)
        if to_base is None or there is None:
            raise WertisError(f"{track.name} has no answer on frame {base}; choose a base frame on which it is tracked.")
        self._count = len(there)
        mask = regions.mask_of(track.region, plate.size, None if base == home else to_base)
        self._held = held_masks(shot, track, plate.size)
        away = self._held(base) if self._held is not None else None
        if away is not None:
            mask[away > 127] = 0
        first = self._fetch(base)
        self._mixture = channel_mixture(first, mask)
        kind = _kinds.get(type(track.solution)) if track.solution is not None else None
        reference = grey_of(first, self._mixture)
        self.series: Meter = kind.meter(track, reference, mask, there) if kind is not None else DriftSeries(reference, mask, there, base)

    def first_look(self, frame: int) -> Callable[[], Any]:
        """How to look at a frame by itself: what that gives is taken by `taken`."""
        if frame == self._base:
            return lambda: Slip(np.zeros((self._count, 2)), np.zeros(self._count), 1.0, 1.0)
        warp = between(self._motion, self._base, frame)
        if warp is None:
            return lambda: unmeasured(self._count, f"{self._name} has no answer here")
        x0, y0, x1, y1 = self.series.window(warp, self._plate.size)
        # a movie is read here in its order, files by themselves where they are measured
        early = self._fetch(frame) if self._plate.file(frame) is None else None

        def look() -> Any:
            picture = early if early is not None else self._fetch(frame)
            hidden = self._held(frame) if self._held is not None else None
            part = hidden[y0:y1, x0:x1] if hidden is not None else None
            return self.series.look(grey_of(picture[y0:y1, x0:x1], self._mixture), warp, part, (x0, y0), self._plate.size)

        return look

    def safely(self, look: Callable[[], Any]) -> Any:
        """What a look gives; for a frame that cannot be read, a slip that says so."""
        try:
            return look()
        except PlateError as why:
            return unmeasured(self._count, str(why))

    def taken(self, frame: int, found: Any) -> Slip:
        """The slip of a first look, which is remembered for the looks after it."""
        if isinstance(found, Slip):
            return found
        warp = between(self._motion, self._base, frame)
        assert warp is not None
        return self.series.take(frame, found, warp)

    def whole(self, frame: int) -> tuple[np.ndarray, np.ndarray | None]:
        """A frame's luma, and what is held out on it."""
        return grey_of(self._fetch(frame), self._mixture), self._held(frame) if self._held is not None else None

    def examined(self, frames: Sequence[int], stop: Stop | None = None) -> Iterator[tuple[int, Any]]:
        """First looks at frames, in their order, a few at a time."""
        yield from _in_turn(((frame, lambda f=frame: self.first_look(f)) for frame in frames), self.safely, stop)  # type: ignore[misc]


def check_track(shot: Shot, track: Track, plate: Plate, frames: Sequence[int], read: Callable[[int], np.ndarray] | None = None,
                base: int | None = None, placement_id: str = "", at: np.ndarray | None = None, stop: Stop | None = None,
                elsewhere: FirstLooks | None = None) -> Iterator[Event]:
    """Measure the drift of `track` on `frames` against a base frame; each event's item is a frame's slip at its `drift_places`.

    A frame may come a second time at the end, with a better answer: where a blur or a reflection had made it doubtful.

    Parameters
    ----------
    read : reads a picture; `plate.read` when not given.
    at : (n, 2) points of the region's frame to state the drift at instead.
    base : the frame that counts as right; the region's own when not given.
    elsewhere : looks at frames by themselves in place of this process.

    Raises
    ------
    WertisError
        When the track has no motion, or none on the base frame.
    PlateError
        When the base frame cannot be read.
    """
    check = DriftCheck(shot, track, plate, read, base, placement_id, at)
    count = Counter(len(frames))
    looks = elsewhere(frames) if elsewhere is not None else check.examined(frames, stop)
    if elsewhere is not None:  # remembered in their order, whatever order they come in
        looks = iter(sorted(looks, key=lambda pair: list(frames).index(pair[0])))
    for frame, found in looks:
        yield count.event(frame, check.taken(frame, found))
    with suppress(PlateError):  # a frame has gone meanwhile: what the first looks gave stands
        for again in check.series.rounds(check.whole):
            for frame, slip in _in_turn(((frame, lambda g=look: g) for frame, look in again), check.safely, stop):  # type: ignore[misc]
                yield count.event(frame, slip)


def _in_turn(tasks: Iterable[tuple[int, Callable[[], Callable[[], Any]]]], run: Callable[[Callable[[], Any]], Any],
             stop: Stop | None) -> Iterator[tuple[int, Any]]:
    """What is found on each frame, in the order of the tasks, a few of them at a time; a task is prepared here and run in another thread."""
    coming: deque[tuple[int, Future[Any]]] = deque()
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


def _raising(why: PlateError) -> Callable[[], Any]:
    def fail() -> Any:
        raise why

    return fail
