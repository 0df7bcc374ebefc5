"""The PNG pictures that plates are mostly made of, read quickly: whole rows, grey or colour, without alpha.

Reading a frame is half of the work of tracking through it. libdeflate unpacks the bytes, and a loop in C puts the rows together; both let other threads
go on. Everything else that a PNG file may be, and every file that is not as it should be, is left to the general reader, which knows what to say.
"""

import ctypes
import struct
from pathlib import Path

import deflate
import numpy as np

from wertis.core import compiled
from wertis.core.compiled import address

_SIGNATURE = b"\x89PNG\r\n\x1a\n"
_CHANNELS = {0: 1, 2: 3}  # of the colour types that are read here
_MOST_UNPACKED = 1032  # bytes that one packed byte can stand for (deflate's longest match, 258, in 2 bits): no memory for a header that claims more


def read_quickly(path: Path, most_pixels: int) -> np.ndarray | None:
    """A PNG file as (height, width, channels) uint8 or uint16; None where the general reader is to read it.

    Parameters
    ----------
    most_pixels : a file that claims to have more is left to the general reader.

    References
    ----------
    Portable Network Graphics (PNG) Specification, third edition. W3C, 2025: sections 5 (chunks), 7 (filtering and compression) and 11.2 (header).
    """
    if compiled.LIBRARY is None:
        return None
    try:
        found = _chunks(path.read_bytes())
    except (OSError, struct.error):
        return None
    if found is None:
        return None
    header, packed = found
    width, height, depth, colour, *methods = struct.unpack(">IIBBBBB", header)
    if colour not in _CHANNELS or depth not in (8, 16) or any(methods) or not 0 < width * height <= most_pixels:
        return None
    channels = _CHANNELS[colour]
    pixel = channels * depth // 8
    wanted = height * (1 + width * pixel)
    if wanted > _MOST_UNPACKED * len(packed):
        return None
    try:
        rows = deflate.zlib_decompress(packed, wanted)
    except (deflate.DeflateError, MemoryError, ValueError):
        return None
    if len(rows) != wanted:
        return None
    out = np.empty((height, width * pixel), np.uint8)
    data = (ctypes.c_ubyte * wanted).from_buffer(rows)
    if compiled.LIBRARY.png_rows(data, ctypes.c_long(height), ctypes.c_long(width * pixel), pixel, address(out, np.uint8)):
        return None
    if depth == 16:  # the file has the high byte first
        return out.view(">u2").astype(np.uint16).reshape(height, width, channels)
    return out.reshape(height, width, channels)


def _chunks(file: bytes) -> tuple[bytes, bytes] | None:
    """The header's contents and the packed rows of a whole, undamaged file; None where the file is otherwise, or gives a colour that is transparent."""
    if not file.startswith(_SIGNATURE):
        return None
    header, parts, at = b"", [], len(_SIGNATURE)
    view = memoryview(file)
    while True:
        size, name = struct.unpack_from(">I4s", file, at)
        body = view[at + 8:at + 8 + size]
        (check,) = struct.unpack_from(">I", file, at + 8 + size)
        if deflate.crc32(view[at + 4:at + 8 + size]) != check or name == b"tRNS":
            return None
        if name == b"IHDR":
            header = bytes(body)
        elif name == b"IDAT":
            parts.append(body)
        elif name == b"IEND":
            return (header, b"".join(parts)) if len(header) == 13 and parts else None
        at += 12 + size
