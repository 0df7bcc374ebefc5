"""Flat pictures written for painting elsewhere, one or a series, with the way back said beside them; and what was painted there, read back."""

import json
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np

from wertis.core.comp.light import light_of
from wertis.core.comp.patch_pictures import PatchPictures, flattened, for_file, painted_file
from wertis.core.errors import DeliverError, PlateError, RegionError
from wertis.core.exchange.pictures import write_picture
from wertis.core.files import write_text
from wertis.core.jobs.events import Counter, Event, Stop, stopped
from wertis.core.jobs.render import check_target, frame_path
from wertis.core.plate.base import Plate
from wertis.core.shot.document import Shot
from wertis.core.shot.edits import as_points
from wertis.core.shot.items import set_item
from wertis.core.shot.patches import Patch, corners_on, patch_of
from wertis.core.shot.plate_pictures import forget_files, raw_picture

FORMATS = (".exr", ".tif", ".tiff", ".png")


def write_flat(shot: Shot, patch: Patch, path: Path) -> tuple[int, int]:
    """Write a patch's flat picture as painted, in the plate's own numbers, and a JSON file beside it; its width and height.

    Raises
    ------
    DeliverError
        When it cannot be written, or the format holds too little.
    """
    _checked(path)
    pictures = PatchPictures()
    pixels = pictures.canvas(shot, patch, patch.frame).pixels
    kind = raw_picture(shot, patch.frame).dtype
    write_picture(path, for_file(pixels, kind, light_of(shot, kind).plate, path.suffix), 16)
    _describe(shot, patch, path.with_suffix(".json"), [patch.frame])
    return patch.size


def write_mask(shot: Shot, patch: Patch, path: Path) -> tuple[int, int]:
    """Write where a patch's flat picture is laid on, white on black with 16 bits (floats in an EXR); its width and height.

    Raises
    ------
    DeliverError
        When it cannot be written, or the format holds too little.
    """
    _checked(path)
    alpha = PatchPictures().alpha(shot, patch, patch.frame)
    kept = alpha.astype(np.float32) if path.suffix.lower() == ".exr" else np.asarray(np.round(alpha * 65535), np.uint16)
    write_picture(path, np.repeat(kept[..., None], 3, 2), 16)
    return patch.size


def write_series(shot: Shot, patch: Patch, plate: Plate, pattern: str, read: Callable[[int], np.ndarray] | None = None,
                 stop: Stop | None = None) -> Iterator[Event]:
    """Write every frame of the range as it lies on the flat picture: the steadied plate. The last event's item is frame to why it was left out.

    Parameters
    ----------
    pattern : such as folder/flat.####.exr.

    Raises
    ------
    DeliverError
        When a file cannot be written.
    """
    _checked(Path(pattern))
    check_target(pattern)
    fetch, left, written = read or plate.read, {}, []
    low, high = shot.range
    count = Counter(high - low + 1)
    for frame in range(low, high + 1):
        if stopped(stop):
            return
        try:
            picture = fetch(frame)
            flat = flattened(shot, patch, frame, picture)
            write_picture(frame_path(pattern, frame), for_file(flat, picture.dtype, light_of(shot, picture.dtype).plate, Path(pattern).suffix), 16)
            written.append(frame)
        except (PlateError, RegionError) as why:
            left[frame] = str(why)
        yield count.event(frame, note=left.get(frame, ""))
    _describe(shot, patch, Path(pattern.replace("#", "").replace("..", ".")).with_suffix(".json"), written)
    yield Event(None, count.total, count.total, left)


def read_back(shot: Shot, ident: str, path: str) -> Shot:
    """The shot with a patch that shows what was painted elsewhere; strokes painted here lie on top of it.

    Parameters
    ----------
    path : a picture, or a sequence pattern of frames painted one by one.

    Raises
    ------
    DeliverError
        When it cannot be read, or has another size than the patch.
    """
    patch = patch_of(shot, ident)
    forget_files()
    try:
        painted_file(patch, path, patch.frame)
    except PlateError as why:
        raise DeliverError(str(why)) from why
    return set_item(shot, patch.but(base="file", path=str(Path(path).absolute()), clean=None, seen=None))


def _checked(path: Path) -> None:
    if path.suffix.lower() not in FORMATS:
        raise DeliverError(f"A flat picture is written as {', '.join(FORMATS)} with 16 bits or floats; {path.suffix or path.name} would lose some of it.")


def _describe(shot: Shot, patch: Patch, path: Path, frames: list[int]) -> None:
    """Say in a file where the flat picture's corners are on each frame, so that whoever has it can lay it back."""
    corners = {f: c for f in range(shot.range[0], shot.range[1] + 1) if (c := corners_on(shot, patch, f)) is not None}
    body = {"format": "wertis-flat", "version": 1, "convention": "pixels, origin top left, x right, y down, first pixel's centre at 0.5,0.5",
            "patch": patch.name, "frame": patch.frame, "size": list(patch.size), "frames": frames,
            "corners": {str(f): [[round(float(v), 4) for v in p] for p in as_points(c)] for f, c in corners.items()}}
    write_text(path, json.dumps(body, indent=1))
