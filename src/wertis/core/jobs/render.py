"""Rendering a shot to files, frame by frame."""

import re
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np

from wertis.core.comp.light import light_of
from wertis.core.comp.picture import Compositor
from wertis.core.errors import DeliverError, PlateError
from wertis.core.exchange import pictures
from wertis.core.plate.base import ALPHAS, Plate, to_float
from wertis.core.plate.colour import CODED, LINEAR, converted, space_of
from wertis.core.shot.document import Shot

MOVIES = (".mp4", ".mov", ".mkv")
FINAL_SAMPLES = 3


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
    name = Path(pattern).name
    if mark := re.search(r"#+", name):
        filled = name[: mark.start()] + str(frame).zfill(len(mark[0])) + name[mark.end():]
    elif mark := re.search(r"%(0\d+)?d", name):
        filled = name[: mark.start()] + (mark[0] % frame) + name[mark.end():]
    else:
        raise DeliverError(f"'{name}' has no place for the frame number; write it as #### or %04d, such as comp.####{suffix}.")
    return Path(pattern).with_name(filled)


def check_target(pattern: str) -> None:
    """Raise DeliverError when rendering to `pattern` could not even begin; make its folder otherwise."""
    target = Path(pattern)
    if target.suffix.lower() not in MOVIES:
        frame_path(pattern, 1)
    try:
        target.absolute().parent.mkdir(parents=True, exist_ok=True)
    except OSError as why:
        raise DeliverError(f"The folder {target.parent} cannot be made ({why.strerror}); choose another.") from why


def render(shot: Shot, plate: Plate, pattern: str, frames: list[int], what: str = "comp",
           read: Callable[[int], np.ndarray] | None = None, resume: bool = False) -> Iterator[tuple[int, str]]:
    """Render frames to an image sequence or a movie; yields each frame and, where it was left out, why.

    A frame that the plate lacks is left out of a sequence; a movie holds the last picture instead, so that it keeps its length.

    Parameters
    ----------
    resume : frames of a sequence whose file is there are kept as they are, so that a render that was stopped goes on where it was.
    what : "comp", or "graphic" for the graphics alone with alpha (sequences only; linear light in EXR, display-coded in other formats).

    Raises
    ------
    DeliverError
        When a file cannot be written. Finished frames are kept.
    """
    check_target(pattern)
    suffix = Path(pattern).suffix.lower()
    aspect = shot.plate.aspect if shot.plate is not None else plate.aspect
    if what == "graphic" and suffix in (*MOVIES, ".jpg", ".jpeg", ".dpx"):
        raise DeliverError(f"{suffix} holds no alpha; render the graphic to .png, .tif or .exr.")
    if suffix not in MOVIES:
        own = {f.resolve() for f in (plate.file(frame) for frame in frames) if f is not None}
        if any(frame_path(pattern, frame).resolve() in own for frame in frames):
            raise DeliverError(f"{pattern} would write over the plate itself; choose another folder or name.")
        # files take their final name only when they are whole, so one that is there is done
        done = {f for f in frames if resume and frame_path(pattern, f).is_file()}
        for frame in frames:
            if frame in done:
                yield frame, ""
        for frame, picture, why, untouched in _pictures(shot, plate, [f for f in frames if f not in done], what, read or plate.read,
                                                          LINEAR if suffix == ".exr" else CODED):
            if picture is not None:
                if what == "graphic":
                    kept = picture.astype(np.float16) if suffix == ".exr" else picture
                else:
                    kept = _recoded(shot, picture, pictures.kind_in(suffix, picture.dtype))
                _write(plate, frame, kept, frame_path(pattern, frame), untouched, aspect)
            yield frame, why
        return
    from wertis.core.exchange.movie_writer import MovieWriter

    with MovieWriter(Path(pattern), plate.size, plate.fps, aspect) as movie:
        last = np.zeros((plate.size[1], plate.size[0], 3), np.uint8)
        for frame, picture, why, _ in _pictures(shot, plate, frames, what, read or plate.read):
            last = _recoded(shot, picture, np.uint8) if picture is not None else last
            movie.add(last)
            yield frame, why


def _recoded(shot: Shot, picture: np.ndarray, kind: np.dtype | type) -> np.ndarray:
    """The picture for a file of another kind of number: floats are linear light, whole numbers as a display codes them."""
    if space_of(kind) == space_of(picture.dtype):
        return picture
    return converted(to_float(picture), light_of(shot, picture.dtype).plate, space_of(kind))


def _write(plate: Plate, frame: int, picture: np.ndarray, path: Path, untouched: bool, aspect: float) -> None:
    """A frame's file; where nothing lies on the plate and the format is the plate's own, the plate's file as it is."""
    as_is = untouched and (plate.layer, plate.alpha) == ("", ALPHAS[0])
    source = plate.file(frame) if as_is else None
    if source is None or not pictures.copy_picture(source, path):
        pictures.write_picture(path, picture, plate.bits, aspect)


def _pictures(shot: Shot, plate: Plate, frames: list[int], what: str,
              read: Callable[[int], np.ndarray], space: str = CODED) -> Iterator[tuple[int, np.ndarray | None, str, bool]]:
    compositor = Compositor()
    for frame in frames:
        try:
            source = read(frame)
        except PlateError as why:
            yield frame, None, str(why), False
            continue
        if what == "graphic":
            yield frame, compositor.graphic(shot, frame, plate.size, FINAL_SAMPLES, source.dtype, space), "", False
        else:
            made = compositor.comp(shot, source, frame, FINAL_SAMPLES)
            yield frame, made, "", made is source
