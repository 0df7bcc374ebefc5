"""A plate's frames fed to a tracker in their order: read ahead, up to the next cut, with what cannot be read told apart."""

import threading
from collections.abc import Callable, Iterator, Sequence
from typing import TypeVar

import numpy as np

from wertis.core.errors import PlateError
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.plate.base import Plate
from wertis.core.plate.cuts import cut_words, thumbnail, with_cuts
from wertis.core.track.run import PictureReader, read_ahead, with_pyramids

_LARGE = 1_500_000  # pixels of a picture from which two are read at once
_F = TypeVar("_F")


def fed(plate: Plate, start: int, order: Sequence[int], first: np.ndarray, fetch: PictureReader, as_seen: Callable[[np.ndarray], np.ndarray],
        answered: Callable[[int, np.ndarray, Pyramid | None], _F], lost: Callable[[str], _F],
        stop: threading.Event | None = None) -> Iterator[tuple[int, _F]]:
    """Each frame's number and answer, in the order of the frames, which lead away from the reference frame `start` in one direction.

    Parameters
    ----------
    first : the reference frame's picture.
    as_seen : a picture as the tracker looks at it.
    answered : gives a frame's answer, from its picture as it is looked at and that one's pyramid.
    lost : gives an answer that says why there is none.
    """
    onward = 1 if len(order) < 2 or order[1] > order[0] else -1
    before = start if not order or abs(order[0] - start) == 1 else order[0] - onward
    try:
        thumb = thumbnail(first if before == start else fetch(before))
    except PlateError:
        thumb = thumbnail(first)
    coming = read_ahead(fetch, as_seen, list(order), 2 if plate.size[0] * plate.size[1] > _LARGE else 1)
    for frame, picture, cut, pyramid in with_pyramids(with_cuts(coming, before, thumb, plate.no_cuts)):
        if stop is not None and stop.is_set():
            return
        if cut:
            reason = cut_words(start, frame if onward > 0 else frame + 1)
            yield from ((f, lost(reason)) for f in order if (f - frame) * onward >= 0)
            return
        yield frame, lost(str(picture)) if isinstance(picture, PlateError) else answered(frame, picture, pyramid)
