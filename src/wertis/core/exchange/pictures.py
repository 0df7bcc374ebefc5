"""Writing pictures: PNG by `png.py`, EXR of half floats by `exr.py`, all others (TIFF, JPEG, DPX, EXR of full floats) by OpenImageIO."""

import shutil
from pathlib import Path

import numpy as np
import OpenImageIO as oiio

from wertis.core.errors import DeliverError
from wertis.core.exchange import exr, png
from wertis.core.files import replacing
from wertis.core.plate.base import from_float, to_float

SUFFIXES = (".png", ".exr", ".tif", ".tiff", ".jpg", ".jpeg", ".dpx")

_SAME = {".jpeg": ".jpg", ".tiff": ".tif"}
_DPX_NAME, _DPX_NAME_LENGTH = 36, 100  # bytes: where a DPX says its own name (SMPTE ST 268-1, file information), which is not the temporary one


def copy_picture(source: Path, path: Path) -> bool:
    """Copy a picture's file as it is, where both names are of one format; whether that was so.

    Raises
    ------
    DeliverError
        When it cannot be written.
    """
    a, b = (_SAME.get(p.suffix.lower(), p.suffix.lower()) for p in (source, path))
    if a != b:
        return False
    with replacing(path) as temporary:
        shutil.copyfile(source, temporary)
    return True


def write_picture(path: Path, picture: np.ndarray, bits: int = 0, aspect: float = 1.0) -> None:
    """Write (h, w, channels); the file's kind of number follows the picture's where the format can hold it.

    PNG: 8 or 16 bits, alpha straight as the PNG specification asks (W3C PNG, 3rd ed., section 6.2); EXR: half or full floats, alpha
    premultiplied (OpenEXR file layout). JPEG and DPX hold no alpha. `bits` a number are kept of a DPX (SMPTE ST 268) that has fewer than 16.
    `aspect` is a pixel's width over its height, which the file says.

    Raises
    ------
    DeliverError
        When the file cannot be written.
    """
    suffix = path.suffix.lower()
    if suffix not in SUFFIXES:
        raise DeliverError(f"'{suffix}' is not a kind of picture that Wertis writes; choose one of {', '.join(SUFFIXES)}.")
    pixels = np.ascontiguousarray(_fitting(picture, suffix))
    if suffix == ".png":
        with replacing(path) as temporary:
            png.write(temporary, straight_alpha(pixels), aspect)
        return
    if suffix == ".exr" and pixels.dtype == np.float16:
        exr.write_halves(path, pixels, aspect)
        return
    kinds = {np.dtype(np.uint8): "uint8", np.dtype(np.uint16): "uint16", np.dtype(np.float16): "half", np.dtype(np.float32): "float"}
    height, width, channels = pixels.shape
    spec = oiio.ImageSpec(width, height, channels, oiio.TypeDesc(kinds[pixels.dtype]))
    if bits and suffix == ".dpx" and pixels.dtype == np.uint16:
        spec.attribute("oiio:BitsPerSample", bits)
    if aspect != 1:
        spec.attribute("PixelAspectRatio", aspect)
    if suffix == ".exr":
        spec.channelnames = exr.CHANNELS[channels]
        spec.attribute("compression", "zip:1")  # without loss, and of full floats the quickest: PIZ takes twice the time
    if suffix in (".jpg", ".jpeg"):
        spec.attribute("Compression", "jpeg:95")
    exr.timeless(spec)
    with replacing(path) as temporary:
        target = oiio.ImageOutput.create(str(temporary))
        if target is None or not target.open(str(temporary), spec):
            raise DeliverError(f"{path.name} could not be begun ({(target.geterror() if target else oiio.geterror()).strip()}); "
                               "choose another folder.")
        wrote = target.write_image(pixels)
        why = target.geterror().strip()
        if not target.close() or not wrote:
            raise DeliverError(f"{path.name} could not be written ({why or 'the disk may be full'}); free some space and render again. "
                               "Finished frames are kept.")
        if suffix == ".dpx":
            with open(temporary, "r+b") as header:
                header.seek(_DPX_NAME)
                header.write(path.name.encode("ascii", "replace")[:_DPX_NAME_LENGTH - 1].ljust(_DPX_NAME_LENGTH, b"\0"))


def straight_alpha(pixels: np.ndarray) -> np.ndarray:
    """Whole numbers with alpha multiplied in (h, w, 2 or 4), with it divided out again; other pictures as they are."""
    if pixels.shape[2] not in (2, 4):
        return pixels
    values = to_float(pixels)
    alpha = values[..., -1:]
    colour = np.where(alpha > 0, values[..., :-1] / np.maximum(alpha, np.float32(1e-6)), 0)
    return np.concatenate([from_float(colour, pixels.dtype), pixels[..., -1:]], axis=2)


def kind_in(suffix: str, kind: np.dtype) -> np.dtype:
    """The kind of number that a format keeps numbers of this kind as."""
    return _fitting(np.zeros((1, 1, 1), kind), suffix).dtype


def _fitting(picture: np.ndarray, suffix: str) -> np.ndarray:
    if suffix in (".jpg", ".jpeg", ".dpx"):
        picture = picture[..., :3]
    if suffix == ".exr":
        return picture if picture.dtype in (np.float16, np.float32) else to_float(picture).astype(np.float16)
    if suffix in (".jpg", ".jpeg"):
        return picture if picture.dtype == np.uint8 else from_float(to_float(picture), np.uint8)
    if suffix in (".tif", ".tiff"):
        return picture.astype(np.float32) if picture.dtype == np.float16 else picture
    return picture if np.issubdtype(picture.dtype, np.integer) else from_float(to_float(picture), np.uint16)
