"""Pictures of a shot's plate, and of files that its mattes name, for what needs only a shot and a frame: coded for the eye, the last ones kept."""

import threading
from collections import OrderedDict
from pathlib import Path

import numpy as np

from wertis.core.plate import open_plate
from wertis.core.plate.base import Plate, rgb_of, to_float
from wertis.core.plate.colour import CODED, converted, space_of
from wertis.core.shot.document import PlateRef, Shot
from wertis.core.shot.edits import opened

_MOST_PLATES, _MOST_PICTURES = 8, 6
_lock = threading.Lock()
_plates: "OrderedDict[tuple, Plate]" = OrderedDict()
_pictures: "OrderedDict[tuple, np.ndarray]" = OrderedDict()


def coded(picture: np.ndarray, space: str = "") -> np.ndarray:
    """(h, w, 3) float32, coded for the eye with white at 1, of a picture as it was read; `space` is its colour space, the usual one when empty."""
    colour = to_float(rgb_of(picture))
    return np.asarray(converted(colour, space or space_of(picture.dtype), CODED))


def plate_picture(shot: Shot, frame: int) -> np.ndarray:
    """A frame of a shot's plate, coded for the eye (h, w, 3) float32.

    Raises
    ------
    PlateError
        When it cannot be read.
    """
    ref = _ref(shot)
    return _kept((*_key(ref), ref.colour, frame), lambda: coded(_plate(_key(ref), lambda: opened(ref)).read(frame), ref.colour))


def raw_picture(shot: Shot, frame: int) -> np.ndarray:
    """A frame of a shot's plate as it is read (h, w, channels), in its own numbers. Do not write into it.

    Raises
    ------
    PlateError
        When it cannot be read.
    """
    ref = _ref(shot)
    return _kept((*_key(ref), "raw", frame), lambda: _plate(_key(ref), lambda: opened(ref)).read(frame))


def _ref(shot: Shot) -> PlateRef:
    assert shot.plate is not None, "a shot without a plate has no pictures"
    return shot.plate


def _key(ref: PlateRef) -> tuple[str, str, str]:
    """What tells one opened plate from another."""
    return ref.path, ref.layer, ref.alpha


def file_picture(path: str, frame: int) -> np.ndarray | None:
    """A picture of a file on a frame, as it was read; a still is the same on every frame, and a sequence has nothing on frames that it lacks.

    Raises
    ------
    PlateError
        When it cannot be read.
    """
    plate = _plate((path,), lambda: open_plate(Path(path)))
    if plate.last > plate.first and (not plate.first <= frame <= plate.last or frame in plate.gaps):
        return None
    at = frame if plate.last > plate.first else plate.first
    return _kept((path, at), lambda: plate.read(at))


def forget_files() -> None:
    """Read all files again when they are next wanted."""
    with _lock:
        _plates.clear()
        _pictures.clear()


def _plate(key: tuple, make) -> Plate:  # type: ignore[no-untyped-def]
    with _lock:
        if key in _plates:
            _plates.move_to_end(key)
            return _plates[key]
    plate: Plate = make()
    with _lock:
        _plates[key] = plate
        while len(_plates) > _MOST_PLATES:
            _plates.popitem(last=False)
    return plate


def _kept(key: tuple, make) -> np.ndarray:  # type: ignore[no-untyped-def]
    with _lock:
        if key in _pictures:
            _pictures.move_to_end(key)
            return _pictures[key]
    picture: np.ndarray = make()
    with _lock:
        _pictures[key] = picture
        while len(_pictures) > _MOST_PICTURES:
            _pictures.popitem(last=False)
    return picture
