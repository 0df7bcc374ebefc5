"""Tracking points over a range of a plate: what the window, the command line and scripts share."""

import threading
from collections.abc import Callable, Iterable, Iterator, Sequence

import numpy as np

from wertis.core.errors import RegionError
from wertis.core.imaging.channel_mixture import channel_mixture
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.plate.base import Plate
from wertis.core.track.feeding import fed
from wertis.core.track.points import PointsFix, PointTracker
from wertis.core.track.run import Masks, PictureReader
from wertis.core.track.tracker_input import looked_at

_AROUND = 40  # pixels round the points whose channels are mixed for most detail


def _looking(first: np.ndarray, middles: np.ndarray, look: str) -> Callable[[np.ndarray], np.ndarray]:
    """How pictures are looked at: with the channels mixed for most detail round the patterns' middles (N, 2) on the first, where that is wanted."""
    near = np.zeros(first.shape[:2], np.uint8)
    for x, y in np.clip(middles, 0, np.array(near.shape[::-1]) - 1).astype(int):
        near[max(y - _AROUND, 0):y + _AROUND, max(x - _AROUND, 0):x + _AROUND] = 1
    mixture = channel_mixture(first, near) if look == "mix" else None
    return lambda picture: looked_at(picture, look, False, mixture)


def pattern_side(first: np.ndarray, middles: np.ndarray, number: int, mask: np.ndarray | None = None, look: str = "mix") -> int:
    """The side in pixels that the tracker gives a pattern by its texture.

    Parameters
    ----------
    first : (h, w, channels) the reference frame's picture.
    middles : (N, 2) of all patterns; `number` is the one that is asked for.
    mask, look : as for `track_points`.
    """
    return int(PointTracker(_looking(first, middles, look)(first), middles[number:number + 1], mask=mask).sides[0])


def track_points(plate: Plate, points: np.ndarray, start: int, frames: Iterable[int], sides: Sequence[int] | None = None, mask: np.ndarray | None = None,
                 read: PictureReader | None = None, stop: threading.Event | None = None, known: dict[int, np.ndarray] | None = None,
                 held: Masks | None = None, look: str = "mix", reaches: Sequence[int] | None = None, offsets: np.ndarray | None = None,
                 renewed: bool = True) -> Iterator[tuple[int, PointsFix]]:
    """Track points (N, 2) that lie on frame `start` through `frames`, which lead away from it in one direction.

    Parameters
    ----------
    sides : of the patterns in pixels; by the texture where 0 or not given.
    mask : (height, width) uint8, non-zero on what patterns may be made of; everything when None.
    reaches, offsets, renewed : as for `PointTracker`.
    known : places (N, 2) on frames that were tracked already; where `frames` begins next to one of them tracking goes on from there.

    The others, what is yielded and what is raised are as for `mesh.run.track_mesh`.
    """
    fetch = read or plate.read
    if not plate.first <= start <= plate.last:
        raise RegionError(f"The reference frame {start} is not in the plate, which runs from {plate.first} to {plate.last}.")
    first = fetch(start)
    as_seen = _looking(first, points + (0 if offsets is None else offsets), look)

    tracker = PointTracker(as_seen(first), points, None if sides is None else np.array(sides, int), mask,
                           None if reaches is None else np.array(reaches, int), offsets, renewed)
    order = list(frames)
    onward = 1 if len(order) < 2 or order[1] > order[0] else -1
    if known and order:
        nearest = next((known[f] for f in (order[0] - onward, order[0] + onward) if f in known), None)
        if nearest is not None:
            tracker.start_at(nearest)

    def answered(frame: int, picture: np.ndarray, pyramid: Pyramid | None) -> PointsFix:
        return tracker.feed(picture, held(frame) if held is not None else None, pyramid)

    yield from fed(plate, start, order, first, fetch, as_seen, answered, lambda reason: PointsFix(points, None, reason=reason), stop)
