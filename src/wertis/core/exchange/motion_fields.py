"""Dense motion as files: EXR with named channels, and flow made elsewhere (Middlebury .flo, KITTI PNG).

Displacements are in pixels, x right and y down, at the pixels' centres. In EXR they are 32-bit floats, rounded to 1/1024 of a pixel so that they compress;
errors and visibility are half floats. docs/formats.md lists the channels.
"""

import struct
from collections.abc import Collection, Mapping
from pathlib import Path

import cv2
import numpy as np
import OpenImageIO as oiio

from wertis.core.errors import DeliverError, library_words
from wertis.core.exchange import exr
from wertis.core.geometry.displacement_field import DisplacementField
from wertis.core.geometry.warp import Box

_GRID = 1024.0  # parts of a pixel that are kept
_FLO_MAGIC = 202021.25  # S. Baker et al., A database and evaluation methodology for optical flow, IJCV 92, 2011: the float that begins a .flo file
_KITTI_ZERO, _KITTI_UNIT = 32768.0, 64.0  # M. Menze and A. Geiger, Object scene flow for autonomous vehicles, 2015: 16-bit flow is (value - 2^15) / 64
_LARGEST = 65536  # pixels of a picture's side
_HALVES = ("error", "seen")
_UNKNOWN = 1e9  # .flo: larger displacements are unknown


def write_channels(path: Path, box: Box, size: tuple[int, int], channels: Mapping[str, np.ndarray], notes: Mapping[str, str] | None = None,
                   halves: Collection[str] = _HALVES) -> None:
    """Write channels (h, w) over a box of a picture of `size` (width, height) as an EXR whose data window is the box.

    Parameters
    ----------
    halves : names of the channels that are kept as half floats.
    notes : texts to keep in the header, by names that begin with `wertis:`.

    Raises
    ------
    DeliverError
        When it cannot be written.
    """
    x0, y0, x1, y1 = box
    names = sorted(channels)  # EXR keeps channels in this order
    spec = oiio.ImageSpec(x1 - x0, y1 - y0, len(names), oiio.FLOAT)
    spec.x, spec.y = x0, y0
    spec.full_x, spec.full_y, spec.full_width, spec.full_height = 0, 0, *size
    spec.channelnames = tuple(names)
    spec.channelformats = tuple(oiio.TypeDesc("half" if n in halves else "float") for n in names)
    spec.attribute("compression", "zip:1")
    for name, text in (notes or {}).items():
        spec.attribute(name, text)
    planes = [np.asarray(channels[n], np.float32) for n in names]
    data = np.stack([p if n in halves else np.round(p * _GRID) / _GRID for n, p in zip(names, planes, strict=True)], axis=-1)
    exr.write(path, spec, data)


def read_channels(path: Path, wanted: tuple[str, ...]) -> tuple[Box, dict[str, np.ndarray]]:
    """The box and the channels (h, w) float32 of such a file.

    Raises
    ------
    DeliverError
        When it cannot be read, or lacks one of the channels.
    """
    with exr.opened(path) as source:
        spec = source.spec()
        names = list(spec.channelnames)
        missing = [n for n in wanted if n not in names]
        if missing:
            raise DeliverError(f"{path.name} has no channel {missing[0]}; it has {', '.join(names)}. docs/formats.md lists what a motion field has.")
        pixels = exr.pixels_of(source, path)
    box = (spec.x, spec.y, spec.x + spec.width, spec.y + spec.height)
    return box, {n: np.ascontiguousarray(pixels[..., names.index(n)]) for n in wanted}


def read_notes(path: Path, names: tuple[str, ...]) -> tuple[str, ...]:
    """Texts of an EXR's header by their names; empty where there is none, or no such file."""
    source = oiio.ImageInput.open(str(path)) if path.is_file() else None
    if source is None:
        library_words(oiio.geterror)  # so that it is not said of the next file
        return ("",) * len(names)
    spec = source.spec()
    try:
        return tuple(str(spec.get_string_attribute(name)) for name in names)
    except UnicodeDecodeError:  # damaged; whoever reads its pixels will be told
        return ("",) * len(names)
    finally:
        source.close()


def write_field(path: Path, field: DisplacementField, size: tuple[int, int], notes: Mapping[str, str] | None = None) -> None:
    """Write a displacement field: channels motion.x, motion.y, error, seen."""
    dx, dy = np.moveaxis(field.displacement, -1, 0)
    write_channels(path, field.box, size, {"motion.x": dx, "motion.y": dy, "error": np.minimum(field.error, 60000), "seen": field.seen}, notes)


def read_field(path: Path) -> DisplacementField:
    """Read a displacement field that `write_field` wrote, or a .flo or KITTI .png flow.

    Raises
    ------
    DeliverError
        When it cannot be read, or is not such a file.
    """
    if path.suffix.lower() == ".flo":
        return _read_flo(path)
    if path.suffix.lower() == ".png":
        return _read_kitti(path)
    box, found = read_channels(path, ("motion.x", "motion.y", "error", "seen"))
    displacement = np.stack([found["motion.x"], found["motion.y"]], axis=-1)
    if not np.isfinite(displacement).all():
        raise DeliverError(f"{path.name} holds displacements that are not finite; delete it and compute it again.")
    return DisplacementField(box, displacement, found["error"], found["seen"] > 0.5)


def _read_flo(path: Path) -> DisplacementField:
    try:
        data = path.read_bytes()
        magic, w, h = struct.unpack("<fii", data[:12])
        if magic != _FLO_MAGIC or not (0 < w <= _LARGEST and 0 < h <= _LARGEST) or len(data) < 12 + 8 * w * h:
            raise DeliverError(f"{path.name} is not a .flo file that is whole.")
    except (OSError, struct.error) as why:
        raise DeliverError(f"{path.name} cannot be read as a .flo file ({why}).") from why
    flow = np.frombuffer(data, "<f4", 2 * w * h, 12).reshape(h, w, 2)
    return _from_flow(flow, np.isfinite(flow).all(-1) & (np.abs(np.nan_to_num(flow, nan=2 * _UNKNOWN)) < _UNKNOWN).all(-1))


def _read_kitti(path: Path) -> DisplacementField:
    try:
        data = np.frombuffer(path.read_bytes(), np.uint8)
        raw = cv2.imdecode(data, cv2.IMREAD_UNCHANGED) if len(data) else None
    except (OSError, cv2.error) as why:
        raise DeliverError(f"{path.name} cannot be read ({why}).") from why
    if raw is None or raw.dtype != np.uint16 or raw.ndim != 3 or raw.shape[2] != 3:
        raise DeliverError(f"{path.name} is not a flow picture: KITTI's have 16 bits and three channels.")
    valid, v, u = np.moveaxis(raw.astype(np.float32), -1, 0)  # OpenCV gives blue, green, red
    flow = (np.stack([u, v], axis=-1) - _KITTI_ZERO) / _KITTI_UNIT
    return _from_flow(flow, valid > 0)


def _from_flow(flow: np.ndarray, known: np.ndarray) -> DisplacementField:
    h, w = known.shape
    displacement = np.where(known[..., None], flow, 0).astype(np.float32)
    return DisplacementField((0, 0, w, h), displacement, np.where(known, 0, 60000).astype(np.float32), known)
