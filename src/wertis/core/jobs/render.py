"""Rendering a shot to files, frame by frame."""

from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from itertools import zip_longest
from pathlib import Path
from typing import NamedTuple

import cv2
import numpy as np

from wertis.core.comp.light import light_of
from wertis.core.comp.picture import Compositor
from wertis.core.errors import DeliverError, PlateError
from wertis.core.exchange import pictures
from wertis.core.files import clear_leftovers, numbered
from wertis.core.jobs.events import Counter, Event, Stop, stopped
from wertis.core.plate.base import ALPHAS, Plate, to_float
from wertis.core.plate.colour import CODED, LINEAR, converted, space_of
from wertis.core.shot.document import Shot
from wertis.core.shot.edits import opened

MOVIES = (".mp4", ".mov", ".mkv")
FINAL_SAMPLES = 3
_WRITERS = 2  # files that are written beside the making of the next frame


def frame_path(pattern: str, frame: int) -> Path:
    """The file for a frame: `####` or `%04d` is replaced by its number.

    Raises
    ------
    DeliverError
        When the pattern has no place for the number, or the kind of file is not known.
    """
    suffix = Path(pattern).suffix.lower()
    if suffix not in pictures.SUFFIXES:
        raise DeliverError(f"'{pattern}' does not say what to write; end it with one of {', '.join((*pictures.SUFFIXES, *MOVIES))}.")
    filled = numbered(Path(pattern), frame)
    if filled is None:
        raise DeliverError(f"'{Path(pattern).name}' has no place for the frame number; write it as #### or %04d, such as comp.####{suffix}.")
    return filled


def check_target(pattern: str) -> None:
    """Raise DeliverError when rendering to `pattern` could not even begin; make its folder otherwise."""
    target = Path(pattern)
    if target.suffix.lower() not in MOVIES:
        frame_path(pattern, 1)
    try:
        target.absolute().parent.mkdir(parents=True, exist_ok=True)
    except OSError as why:
        raise DeliverError(f"The folder {target.parent} cannot be made ({why.strerror}); choose another.") from why


def render(shot: Shot, plate: Plate, pattern: str, frames: Sequence[int], what: str = "comp",
           read: Callable[[int], np.ndarray] | None = None, resume: bool = False, stop: Stop | None = None,
           compositor: Compositor | None = None) -> Iterator[Event]:
    """Render frames to an image sequence or a movie; an event's note says why a frame was left out.

    A frame that the plate lacks is left out of a sequence; a movie holds the last picture instead, so that it keeps its length.
    Files of a sequence are written beside the making of the next frames; an event comes when its frame's file is whole.

    Parameters
    ----------
    resume : frames of a sequence whose file is there are kept as they are, so that a render that was stopped goes on where it was.
    what : "comp", or "graphic" for the graphics alone with alpha (sequences only; linear light in EXR, display-coded in other formats).
    compositor : one that has made frames of this shot before, with what it keeps of the artwork.

    Raises
    ------
    DeliverError
        When a file cannot be written. Finished frames are kept.
    """
    check_target(pattern)
    suffix = Path(pattern).suffix.lower()
    if what == "graphic" and suffix in (*MOVIES, ".jpg", ".jpeg", ".dpx"):
        raise DeliverError(f"{suffix} holds no alpha; render the graphic to .png, .tif or .exr.")
    count = Counter(len(frames))
    if suffix in MOVIES:
        yield from _movie(shot, plate, Path(pattern), frames, read or plate.read, count, stop, compositor or Compositor())
        return
    own = {f.resolve() for f in (plate.file(frame) for frame in frames) if f is not None}
    if any(frame_path(pattern, frame).resolve() in own for frame in frames):
        raise DeliverError(f"{pattern} would write over the plate itself; choose another folder or name.")
    # files take their final name only when they are whole, so one that is there is done
    if resume:
        clear_leftovers(frame_path(pattern, f) for f in frames)
    done = {f for f in frames if resume and frame_path(pattern, f).is_file()}
    for frame in frames:
        if frame in done:
            yield count.event(frame)
    left = [f for f in frames if f not in done]
    writing: deque[tuple[int, Future[None]]] = deque()
    with ThreadPoolExecutor(_WRITERS, thread_name_prefix="wertis-write") as pool:
        try:
            for picture in _pictures(shot, left, what, read or plate.read, stop, compositor or Compositor(), LINEAR if suffix == ".exr" else CODED):
                if picture.pixels is None:
                    yield count.event(picture.frame, note=picture.why)
                    continue
                writing.append((picture.frame, pool.submit(_write, shot, plate, picture, what, frame_path(pattern, picture.frame))))
                while len(writing) > _WRITERS or (writing and writing[0][1].done()):
                    yield _written(count, writing)
            while writing:
                yield _written(count, writing)
        finally:
            for _, future in writing:
                future.cancel()


def render_frame(shot: Shot, frame: int, what: str = "comp", plate: Plate | None = None) -> np.ndarray:
    """A frame as it is rendered: a function of the shot and the frame alone.

    Parameters
    ----------
    what : "comp" gives the plate's kind of number, (h, w, 3 or 4); "graphic" the graphics alone (h, w, 4), float32 premultiplied and display-coded.
    plate : the shot's plate, where it is open already.

    Raises
    ------
    PlateError
        When the frame cannot be read.
    """
    if shot.plate is None:
        raise DeliverError("The shot has no plate; open one first.")
    plate = plate if plate is not None else opened(shot.plate)
    return _made(Compositor(), shot, frame, plate.read(frame), what, CODED)


class _Picture(NamedTuple):
    """A frame's picture, or why there is none, and whether it is the plate's own."""

    frame: int
    pixels: np.ndarray | None
    why: str = ""
    untouched: bool = False


def _written(count: Counter, writing: "deque[tuple[int, Future[None]]]") -> Event:
    frame, future = writing.popleft()
    future.result()
    return count.event(frame)


def _write(shot: Shot, plate: Plate, picture: _Picture, what: str, path: Path) -> None:
    """A frame's file; where nothing lies on the plate and the format is the plate's own, the plate's file as it is."""
    assert picture.pixels is not None
    suffix = path.suffix.lower()
    if what == "graphic":
        kept = picture.pixels.astype(np.float16) if suffix == ".exr" else picture.pixels
    else:
        kept = _recoded(shot, picture.pixels, pictures.kind_in(suffix, picture.pixels.dtype))
    as_is = picture.untouched and (plate.layer, plate.alpha) == ("", ALPHAS[0])
    source = plate.file(picture.frame) if as_is else None
    if source is None or not pictures.copy_picture(source, path):
        aspect = shot.plate.aspect if shot.plate is not None else plate.aspect
        pictures.write_picture(path, kept, plate.bits, aspect)


def _movie(shot: Shot, plate: Plate, path: Path, frames: Sequence[int], read: Callable[[int], np.ndarray], count: Counter,
           stop: Stop | None, compositor: Compositor) -> Iterator[Event]:
    from wertis.core.exchange.movie_writer import MovieWriter

    with MovieWriter(path, plate.size, plate.fps, shot.plate.aspect if shot.plate is not None else plate.aspect) as movie:
        last = np.zeros((plate.size[1], plate.size[0], 3), np.uint8)
        for picture in _pictures(shot, frames, "comp", read, None, compositor):
            if stopped(stop):
                movie.abandon()  # half a movie does not take the whole one's name
                return
            last = _recoded(shot, picture.pixels, np.uint8) if picture.pixels is not None else last
            movie.add(last)
            yield count.event(picture.frame, note=picture.why)


def _recoded(shot: Shot, picture: np.ndarray, kind: np.dtype | type) -> np.ndarray:
    """The picture for a file of another kind of number: floats are linear light, whole numbers as a display codes them."""
    if space_of(kind) == space_of(picture.dtype):
        return picture
    own, wanted = light_of(shot, picture.dtype).plate, space_of(kind)
    if picture.dtype == np.uint8 and picture.shape[2] == 3 and own == CODED:
        # one curve for all channels, and few codes: they are converted rather than the pixels
        codes = np.arange(256, dtype=np.uint8)[:, None, None].repeat(3, 2)
        table = _as_kind(converted(to_float(codes), own, wanted), kind).reshape(1, 256, 3)
        if table.dtype == np.float16:  # which OpenCV takes for whole numbers of 16 bits, as it only moves them
            return np.asarray(cv2.LUT(picture, table.view(np.uint16))).view(np.float16)
        return np.asarray(cv2.LUT(picture, table))
    return _as_kind(converted(to_float(picture), own, wanted), kind)


def _as_kind(picture: np.ndarray, kind: np.dtype | type) -> np.ndarray:
    """A float picture as numbers of a kind; whole numbers are left to what writes them."""
    return picture.astype(kind, copy=False) if np.issubdtype(kind, np.floating) else picture


def _pictures(shot: Shot, frames: Sequence[int], what: str, read: Callable[[int], np.ndarray], stop: Stop | None, compositor: Compositor,
              space: str = CODED) -> Iterator[_Picture]:
    """The frames' pictures, each read while the one before is made."""
    def fetched(frame: int) -> np.ndarray | PlateError:
        try:
            return read(frame)
        except PlateError as why:
            return why

    with ThreadPoolExecutor(1, thread_name_prefix="wertis-render-read") as pool:
        coming = pool.submit(fetched, frames[0]) if len(frames) else None
        for frame, following in zip_longest(frames, frames[1:]):
            if stopped(stop):
                return
            assert coming is not None
            source = coming.result()
            coming = pool.submit(fetched, following) if following is not None else None
            if isinstance(source, PlateError):
                yield _Picture(frame, None, str(source))
                continue
            made = _made(compositor, shot, frame, source, what, space)
            yield _Picture(frame, made, "", made is source)


def _made(compositor: Compositor, shot: Shot, frame: int, source: np.ndarray, what: str, space: str) -> np.ndarray:
    if what == "graphic":
        size = (source.shape[1], source.shape[0])
        return compositor.graphic(shot, frame, size, FINAL_SAMPLES, source.dtype, space)
    return compositor.comp(shot, source, frame, FINAL_SAMPLES)
