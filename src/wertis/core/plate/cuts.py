"""Cuts: frames of a plate at which another shot begins.

Two frames of one shot show much the same things in much the same places, however the camera shakes; small blocks of one are found again in the other.
Across a cut hardly any is. A single odd frame (a flash, somebody close by) is told from a cut by the frames on both its sides, which agree.

Known ground: R. Lienhart, Comparison of automatic shot boundary detection algorithms, 1999 (what passes for a cut); J. Lewis, Fast normalized
cross-correlation, 1995 (how blocks are found again).
"""

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from contextlib import suppress

import cv2
import numpy as np

from wertis.core.errors import PlateError
from wertis.core.plate.base import Plate, luma

_WIDTH = 128  # pixels of a thumbnail; blocks of it are as large as what a shot's frames share
_BLOCK, _REACH = 20, 14  # pixels of a thumbnail: side of a block, and how far to each side it is looked for (a ninth of the picture's width)
_PLAIN = 4.0  # luma, standard deviation, below which a block has nothing to be found again by
_DIFFERENT = 0.76  # mean correlation of the blocks below which two frames may be of different shots: one shot, shaken and passed, keeps over 0.83
_FOUND = 0.9  # correlation from which a block is found again
_TOGETHER = 0.3  # share of the blocks found again, moved alike, from which it is one shot; 0.2 was the most on 600 made cuts that are not alike otherwise
_BAR = 2.0  # luma, standard deviation along an edge of the picture, up to which that belongs to a bar and not to the picture
_CLEARLY = 0.1  # by how much less alike two frames must be than frames beside them that are of one shot
_LEAST_BLOCKS = 6  # with texture, that tell how much of a frame is found again
_SAME = 0.7  # correlation of two frames' middles, moved on to each other, from which they are of one shot without a closer look
_DETAIL = 9  # pixels of a thumbnail halved, side of the mean whose removal leaves detail and not merely where it is bright
_AROUND = 2  # frames on each side that are compared as well


def thumbnail(picture: np.ndarray) -> np.ndarray:
    """A picture (h, w, channels) small enough to compare, (h, w) float32 luma on a scale of 0..255."""
    h, w = picture.shape[:2]
    step = max(1, w // (2 * _WIDTH))  # a quick reduction first
    if picture.dtype in (np.uint8, np.uint16, np.float32):  # what OpenCV takes
        small = luma(cv2.resize(picture, (w // step, h // step), interpolation=cv2.INTER_NEAREST).reshape(h // step, w // step, -1))
    else:
        small = luma(np.ascontiguousarray(picture[::step, ::step]))
    size = _WIDTH, max(3 * _BLOCK, round(_WIDTH * h / w))
    return np.asarray(cv2.resize(small, size, interpolation=cv2.INTER_AREA), np.float32)


def likeness(a: np.ndarray, b: np.ndarray) -> float:
    """How alike two thumbnails (h, w) are, 0..1: the mean, over blocks, of how well each is found again nearby."""
    spread, found, _ = _blocks_found_again(a, b, _BLOCK)
    if len(found) < 3:  # too plain to say, so that it is told by brightness alone
        return 1.0 if abs(float(a.mean() - b.mean())) < 40 else 0.0
    return float(np.average(np.clip(found, 0, 1), weights=np.minimum(spread, 30.0)))


def coherent_share(a: np.ndarray, b: np.ndarray) -> float:
    """Share 0..1 of a thumbnail's blocks that are found again in another one, all of them moved alike, give or take a pixel.

    Something near that passes takes many blocks away from one frame to the next, but leaves the others where they were; across a cut some blocks are
    found as well, each somewhere else.
    """
    _, found, moved = _blocks_found_again(*_without_bars(a, b), _BLOCK // 2)
    alike = moved[found > _FOUND]
    if len(found) < _LEAST_BLOCKS or not len(alike):
        return 0.0
    return float((np.abs(alike[:, None] - alike).max(-1) <= 1).sum(1).max() / len(found))


def _blocks_found_again(a: np.ndarray, b: np.ndarray, apart: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Of the blocks (n) of a thumbnail that are not plain, so many pixels apart: standard deviation, correlation where each is found in another
    thumbnail, and how far it has moved there (n, 2)."""
    padded = cv2.copyMakeBorder(b, _REACH, _REACH, _REACH, _REACH, cv2.BORDER_REPLICATE)
    spread, found, moved = [], [], []
    for y in range(0, a.shape[0] - _BLOCK + 1, apart):
        for x in range(0, a.shape[1] - _BLOCK + 1, apart):
            block = a[y:y + _BLOCK, x:x + _BLOCK]
            deviation = float(block.std())
            if deviation < _PLAIN:
                continue
            match = cv2.matchTemplate(padded[y:y + _BLOCK + 2 * _REACH, x:x + _BLOCK + 2 * _REACH], block, cv2.TM_CCOEFF_NORMED)
            _, best, _, at = cv2.minMaxLoc(match)
            spread.append(deviation)
            found.append(best)
            moved.append((at[0] - _REACH, at[1] - _REACH))
    return np.array(spread), np.array(found), np.array(moved).reshape(-1, 2)


def _without_bars(a: np.ndarray, b: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Two thumbnails without the bars at their edges that both have: those stay across a cut."""
    span = []
    for axis in (1, 0):
        inner = np.flatnonzero(np.maximum(a.std(axis), b.std(axis)) > _BAR)
        span.append(slice(inner[0], inner[-1] + 1) if len(inner) >= _BLOCK else slice(None))
    return a[span[0], span[1]], b[span[0], span[1]]


def _shifted_likeness(a: np.ndarray, b: np.ndarray) -> float:
    """The correlation of the middle of a thumbnail's detail with another's, at the shift where it is highest: a tenth of the work of `likeness`."""
    halves = (cv2.resize(t, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA) for t in (a, b))
    fine, other = (t - cv2.blur(t, (_DETAIL, _DETAIL)) for t in halves)
    y, x = (n // 5 for n in fine.shape)
    return float(cv2.matchTemplate(other, np.ascontiguousarray(fine[y:-y, x:-x]), cv2.TM_CCOEFF_NORMED).max())


class CutFinder:
    """Finds cuts among the frames it is fed, in the order in which they are fed.

    A frame's verdict is known when a few more have been fed.
    """

    def __init__(self) -> None:
        self._thumbs: dict[int, np.ndarray] = {}

    def feed(self, frame: int, picture: np.ndarray) -> None:
        """One more frame."""
        self.feed_thumbnail(frame, thumbnail(picture))

    def feed_thumbnail(self, frame: int, thumb: np.ndarray) -> None:
        """The same, from a picture that was made small already."""
        self._thumbs[frame] = thumb
        for old in list(self._thumbs)[:-(2 * _AROUND + 2)]:
            del self._thumbs[old]

    def is_cut(self, before: int, frame: int) -> bool:
        """Whether another shot begins between two neighbouring frames, `before` being fed first; frames that were not fed count for nothing."""
        thumbs, step = self._thumbs, 1 if frame > before else -1
        if before not in thumbs or frame not in thumbs:
            return False
        if _shifted_likeness(thumbs[before], thumbs[frame]) > _SAME:
            return False
        across = likeness(thumbs[before], thumbs[frame])
        if across > _DIFFERENT or coherent_share(thumbs[before], thumbs[frame]) > _TOGETHER:
            return False
        # pairs further apart across the same place: where one agrees, a single odd frame lies between
        for back in range(_AROUND):
            for on in range(_AROUND):
                a, b = before - back * step, frame + on * step
                if (back or on) and a in thumbs and b in thumbs and likeness(thumbs[a], thumbs[b]) > _DIFFERENT:
                    return False
        # frames on one side are more alike than those across
        sides = [likeness(thumbs[a], thumbs[b]) for a, b in ((before - step, before), (frame, frame + step)) if a in thumbs and b in thumbs]
        return bool(sides) and min(sides) > across + _CLEARLY


def find_cuts(plate: Plate, read: Callable[[int], np.ndarray] | None = None) -> Iterator[tuple[int, bool]]:
    """Each frame of a plate, in order, and whether another shot begins with it; a frame comes when those after it have been read."""
    fetch = read or plate.read
    finder, waiting = CutFinder(), []
    for frame in [*plate.frames, *[plate.last + k for k in range(1, _AROUND)]]:
        if frame <= plate.last:
            with suppress(PlateError):
                finder.feed(frame, fetch(frame))
        waiting.append(frame)
        if len(waiting) >= _AROUND:
            due = waiting.pop(0)
            yield due, due not in plate.no_cuts and finder.is_cut(due - 1, due)


def with_cuts(pictures: Iterable[tuple[int, np.ndarray | PlateError, np.ndarray | None]], start: int, first: np.ndarray,
              no_cuts: Collection[int] = ()) -> Iterator[tuple[int, np.ndarray | PlateError, bool]]:
    """Pictures that lead away from a start frame, each with its thumbnail, and whether a cut lies before it.

    Parameters
    ----------
    pictures : frame, picture or why it cannot be read, thumbnail of the picture as it is in the plate.
    first : the start frame's thumbnail.
    no_cuts : frames at which no other shot begins, however it looks.
    """
    finder = CutFinder()
    finder.feed_thumbnail(start, first)
    waiting: list[tuple[int, np.ndarray | PlateError]] = []
    last = start

    def verdict(frame: int) -> bool:
        return abs(frame - last) == 1 and max(frame, last) not in no_cuts and finder.is_cut(last, frame)

    for frame, picture, thumb in pictures:
        if thumb is not None:
            finder.feed_thumbnail(frame, thumb)
        waiting.append((frame, picture))
        if len(waiting) > _AROUND - 1:
            due, held = waiting.pop(0)
            yield due, held, verdict(due)
            last = due
    for due, held in waiting:
        yield due, held, verdict(due)
        last = due


def cut_words(start: int, begins: int) -> str:
    """Why a frame beyond a cut has no answer: tracking began at one frame, and another shot begins at a second one."""
    return f"there is a cut between this frame and {start}; another shot begins at frame {begins} (if it does not, tell Wertis there that it is no cut)"


def shot_around(cuts: Iterable[int], frame: int, first: int, last: int) -> tuple[int, int]:
    """First and last frame of the shot that a frame belongs to, in a plate from `first` to `last` whose shots begin at `cuts`."""
    begins = sorted({first, *cuts})
    begin = max((c for c in begins if c <= frame), default=first)
    end = min((c - 1 for c in begins if c > frame), default=last)
    return begin, end


def cut_frames(found: Mapping[int, bool]) -> tuple[int, ...]:
    """The frames at which a shot begins, of what `find_cuts` gave."""
    return tuple(f for f in sorted(found) if found[f])
