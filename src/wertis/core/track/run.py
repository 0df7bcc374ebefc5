"""Tracking a region over a range of a plate, both ways from its reference frame: what the window and the command line share."""

import threading
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import replace
from itertools import chain
from typing import NamedTuple

import cv2
import numpy as np

from wertis.core.errors import PlateError
from wertis.core.geometry import polygon
from wertis.core.geometry.motion import Fix
from wertis.core.imaging.channel_mixture import channel_mixture
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.plate.base import Plate
from wertis.core.plate.cuts import cut_words, thumbnail, with_cuts
from wertis.core.track.deferred_refinement import DeferredTracker
from wertis.core.track.planar import PlanarTracker
from wertis.core.track.reflection import ReflectionKeeper
from wertis.core.track.tracker_input import looked_at, mask_on_reference
from wertis.core.track.two_sided_prior import TwoSidedRefiner

READ_AHEAD = 6
_LEVELS = 3  # of a picture's pyramid, that are made ahead
_LARGE = 1_500_000  # pixels of a picture from which reading it takes longer than tracking in it, so that two are read at once

PictureReader = Callable[[int], np.ndarray]
Masks = Callable[[int], np.ndarray | None]


class Input(NamedTuple):
    """A frame as the tracker sees it, or why it cannot be read, and a thumbnail of it by which cuts are found."""

    frame: int
    luma: np.ndarray | PlateError
    thumb: np.ndarray | None


def read_ahead(read: PictureReader, as_seen: Callable[[np.ndarray], np.ndarray], frames: Iterable[int], threads: int = 1) -> Iterator[Input]:
    """Pictures of `frames` as the tracker sees them (`as_seen`), in order, read a few ahead; a frame that cannot be read comes as its error."""

    def one(frame: int) -> Input:
        try:
            picture = read(frame)
        except PlateError as why:
            return Input(frame, why, None)
        return Input(frame, as_seen(picture), thumbnail(picture))

    coming: list[Future[Input]] = []
    rest = iter(frames)
    with ThreadPoolExecutor(threads, thread_name_prefix="wertis-track-read") as pool:
        try:
            while True:
                while len(coming) < READ_AHEAD:
                    frame = next(rest, None)
                    if frame is None:
                        break
                    coming.append(pool.submit(one, frame))
                if not coming:
                    return
                yield coming.pop(0).result()
        finally:
            for future in coming:
                future.cancel()


def with_pyramids(pictures: Iterable[tuple[int, np.ndarray | PlateError, bool]]) -> Iterator[tuple[int, np.ndarray | PlateError, bool, Pyramid | None]]:
    """The same pictures, each with its pyramid, which is made while the frame before is tracked in."""

    def made(luma: np.ndarray) -> Pyramid:
        pyramid = Pyramid(luma)
        pyramid[_LEVELS]  # with those above it
        return pyramid

    waiting: list[tuple[int, np.ndarray | PlateError, bool, Future[Pyramid] | None]] = []  # one at most
    with ThreadPoolExecutor(1, thread_name_prefix="wertis-track-pyramid") as pool:
        for item in chain(pictures, [None]):
            ready, waiting = waiting, []
            if item is not None:
                waiting = [(*item, pool.submit(made, item[1]) if isinstance(item[1], np.ndarray) else None)]
            for frame, picture, cut, future in ready:
                yield frame, picture, cut, future.result() if future is not None else None


def track_plane(plate: Plate, region: np.ndarray, start: int, frames: Iterable[int], kind: str = "perspective",
                read: PictureReader | None = None, stop: threading.Event | None = None,
                known: dict[int, np.ndarray] | None = None, held: Masks | None = None,
                look: str = "mix", half: bool = False, mask: np.ndarray | None = None) -> Iterator[tuple[int, Fix]]:
    """Track `region` (N, 2), drawn on frame `start`, through `frames`, which lead away from it in one direction.

    Yields each frame's number and answer as it is found; lost and unreadable frames come with no matrix and a reason. Where another shot begins
    tracking ends, and the frames beyond come with that as their reason. A frame may come a
    second time at the end, with a better answer: where little was seen of it but frames on both sides are known, or where a reflection was told apart;
    or as lost, where it turns out that the reflection was followed.

    Parameters
    ----------
    read : reads a picture; `plate.read` when not given (the window gives its cache).
    stop : when set, no further frame is begun; answers that waited for a second look still come.
    held : gives the mask (height, width) uint8 of what is held out on a frame, 255 where pixels do not exist for the track, or None.
    look, half : what the tracker looks at; see `look.looked_at`. Answers are in the plate's pixels all the same.
    mask : (height, width) uint8, non-zero on what is tracked, where that is not the whole inside of `region`.
    known : matrices of frames already tracked; when `frames` begins next to one of them, tracking goes on from there, and the one on the
        other side of the reference frame helps to say how that was blurred.

    Raises
    ------
    RegionError
        When the region cannot be tracked.
    PlateError
        When the reference frame cannot be read.
    """
    fetch = read or plate.read
    outline = polygon.checked(region, plate.size)
    mask = mask_on_reference(plate, start, polygon.fill(outline, plate.size) if mask is None else mask, held)
    scale = 0.5 if half else 1.0
    first = fetch(start)
    mixture = channel_mixture(first, mask) if look == "mix" else None

    def as_seen(picture: np.ndarray) -> np.ndarray:
        return looked_at(picture, look, half, mixture)

    def held_on(frame: int) -> np.ndarray | None:
        found = held(frame) if held is not None else None
        return found if found is None or not half else _halved(found)

    if half:
        mask = _halved(mask)
    reference, corners = as_seen(first), outline * scale
    tracker = PlanarTracker(reference, mask, corners, kind)
    keeper = ReflectionKeeper(reference, mask, corners, kind, start) if held is None else None
    tracker.told_apart_later = keeper is not None
    refiner = TwoSidedRefiner(tracker)
    order = list(frames)
    onward = 1 if len(order) < 2 or order[1] > order[0] else -1
    if known and order:
        nearest = next((known[f] for f in (order[0] - onward, order[0] + onward) if f in known), None)
        if nearest is not None:
            tracker.start_at(rescaled(nearest, scale))
    other_side = (known or {}).get(start - onward)
    deferred = DeferredTracker(tracker, rescaled(other_side, scale) if other_side is not None else None)

    def again(frame: int) -> np.ndarray | None:
        try:
            return as_seen(fetch(frame))
        except PlateError:
            return None

    def first_thumb(frame: int) -> np.ndarray:
        if frame == start:
            return thumbnail(first)
        try:
            return thumbnail(fetch(frame))
        except PlateError:
            return thumbnail(first)

    def answers() -> Iterator[tuple[int, Fix]]:
        pictures: dict[int, np.ndarray] = {}  # of the frames whose answers are still to come

        def kept(done: int, fix: Fix) -> Fix:
            luma = pictures.pop(done, None)
            if luma is not None:
                refiner.keep(done, fix, luma)
                if keeper is not None:
                    keeper.keep(done, fix, luma)
            return fix

        coming = read_ahead(fetch, as_seen, order, 2 if plate.size[0] * plate.size[1] > _LARGE else 1)
        beyond: list[int] = []  # frames of another shot
        before = start if not order or abs(order[0] - start) == 1 else order[0] - onward
        for frame, picture, cut, pyramid in with_pyramids(with_cuts(coming, before, first_thumb(before), plate.no_cuts)):
            if stop is not None and stop.is_set():
                break
            if cut:
                beyond = [f for f in order if (f - frame) * onward >= 0]
                break
            if isinstance(picture, PlateError):
                ready = deferred.feed(frame, None, lost=str(picture))
            else:
                pictures[frame] = picture
                ready = deferred.feed(frame, picture, held_on(frame), neighbour=abs(frame - start) == 1, pyramid=pyramid)
            for done, fix in ready:
                yield done, kept(done, fix)
        for done, fix in deferred.finish():
            yield done, kept(done, fix)
        for other in beyond:
            yield other, Fix(None, reason=cut_words(start, beyond[0] if onward > 0 else beyond[0] + 1))
        if stop is not None and stop.is_set():
            return
        yield from refiner.answers(held_on)
        if keeper is not None:
            yield from keeper.answers(again, stop)

    for frame, fix in answers():
        if half and fix.matrix is not None:
            fix = replace(fix, matrix=rescaled(fix.matrix, 1 / scale), error=fix.error / scale)
        yield frame, fix


def rescaled(matrix: np.ndarray, scale: float) -> np.ndarray:
    """A homography (3, 3) between pictures in Wertis' pixels, for both pictures scaled by `scale`."""
    s = np.array([scale, scale, 1.0])
    return matrix * s[:, None] / s[None, :]


def _halved(mask: np.ndarray) -> np.ndarray:
    return cv2.resize(mask, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA)
