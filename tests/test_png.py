"""PNG pictures read quickly: every filter that there is, all that is left to the general reader, and damage."""

import struct
import unittest
import zlib
from pathlib import Path
from unittest import mock

import cv2
import numpy as np

from tests.test_plate import Folder
from wertis.core.errors import PlateError
from wertis.core.exchange.pictures import write_picture
from wertis.core.plate import sequence
from wertis.core.plate.png import read_quickly

MOST = 1 << 20


def chunk(name: bytes, body: bytes) -> bytes:
    return struct.pack(">I", len(body)) + name + body + struct.pack(">I", zlib.crc32(name + body))


def filtered(rows: np.ndarray, pixel: int, filters: list[int]) -> bytes:
    """Rows (h, n) of bytes as PNG's filters write them, straight from table 9.1 of the PNG specification (W3C, 2025)."""
    out = bytearray()
    above = np.zeros(rows.shape[1], int)
    for row, kind in zip(rows.astype(int), filters, strict=True):
        a = np.concatenate([np.zeros(pixel, int), row[:-pixel]])
        c = np.concatenate([np.zeros(pixel, int), above[:-pixel]])
        p = a + above - c
        far = np.abs([p - a, p - above, p - c])
        paeth = np.where((far[0] <= far[1]) & (far[0] <= far[2]), a, np.where(far[1] <= far[2], above, c))
        out += bytes([kind]) + ((row - [0 * a, a, above, (a + above) // 2, paeth][kind]) % 256).astype(np.uint8).tobytes()
        above = row
    return bytes(out)


def made(picture: np.ndarray, filters: list[int], interlace: int = 0, claims: tuple[int, int] | None = None, extra: bytes = b"") -> bytes:
    """A PNG file of (h, w, 1 or 3) uint8 or uint16, its rows in two pieces."""
    h, w, channels = picture.shape
    size = picture.itemsize
    rows = np.ascontiguousarray(picture.astype(f">u{size}")).view(np.uint8).reshape(h, -1)
    packed = zlib.compress(filtered(rows, channels * size, filters))
    across, down = claims or (w, h)
    header = struct.pack(">IIBBBBB", across, down, size * 8, 2 if channels == 3 else 0, 0, 0, interlace)
    half = len(packed) // 2
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", header) + extra + chunk(b"IDAT", packed[:half]) + chunk(b"IDAT", packed[half:]) + chunk(b"IEND", b"")


class PngTest(Folder):
    def file(self, content: bytes) -> Path:
        path = self.folder / "a.0001.png"
        path.write_bytes(content)
        return path

    def smooth(self, h: int, w: int, channels: int, kind: type) -> np.ndarray:
        """Not only noise: neighbours alike, so that each way of predicting is taken."""
        top = np.iinfo(kind).max
        ramp = np.linspace(0, top * 0.8, h * w * channels).reshape(h, w, channels)
        return (ramp + self.rng.integers(0, top // 5, (h, w, channels))).astype(kind)

    def test_every_filter_kind_of_number_and_width(self) -> None:
        for kind in (np.uint8, np.uint16):
            for channels in (1, 3):
                for width in (1, 2, 3, 5, 16, 33):
                    picture = self.smooth(11, width, channels, kind)
                    for filters in ([0] * 11, [1] * 11, [2] * 11, [3] * 11, [4] * 11, [4, 3, 2, 1, 0, 4, 4, 1, 3, 2, 4]):
                        with self.subTest(kind=kind.__name__, channels=channels, width=width, filters=filters[:2]):
                            quick = read_quickly(self.file(made(picture, filters)), MOST)
                            assert quick is not None
                            self.assertEqual(quick.dtype, kind)
                            np.testing.assert_array_equal(quick, picture)

    def test_the_same_as_two_general_readers_for_files_of_general_writers(self) -> None:
        eight, sixteen = self.smooth(60, 71, 3, np.uint8), self.smooth(60, 71, 3, np.uint16)
        for name, write in (("ours", write_picture), ("OpenCV", lambda path, p: cv2.imwrite(str(path), p[..., ::-1]))):
            for picture in (eight, sixteen):
                with self.subTest(writer=name, kind=str(picture.dtype)):
                    path = self.folder / f"{name}.png"
                    write(path, picture)
                    quick = read_quickly(path, MOST)
                    assert quick is not None
                    np.testing.assert_array_equal(quick, picture)
                    np.testing.assert_array_equal(quick, cv2.imread(str(path), cv2.IMREAD_UNCHANGED)[..., ::-1])
                    with mock.patch.object(sequence, "read_quickly", return_value=None):
                        np.testing.assert_array_equal(sequence.read_picture(path), quick)

    def test_what_it_does_not_know_is_left_to_the_general_reader(self) -> None:
        grey = self.smooth(8, 9, 1, np.uint8)
        self.assertIsNone(read_quickly(self.file(made(grey, [0] * 8, interlace=1)), MOST))
        self.assertIsNone(read_quickly(self.file(made(grey, [0] * 8, extra=chunk(b"tRNS", b"\0\7"))), MOST))
        self.assertIsNone(read_quickly(self.file(made(grey, [0] * 8)), 71))
        path = self.folder / "alpha.png"
        alpha = np.dstack([self.smooth(8, 9, 3, np.uint8) // 2, np.full((8, 9), 255, np.uint8)])
        write_picture(path, alpha)
        self.assertIsNone(read_quickly(path, MOST))
        np.testing.assert_array_equal(sequence.read_picture(path), alpha)
        self.assertIsNone(read_quickly(self.folder / "none.png", MOST))

    def test_damage_is_never_shown_as_a_picture(self) -> None:
        picture = self.smooth(12, 13, 3, np.uint8)
        whole = made(picture, [4, 3, 2, 1] * 3)
        quick = read_quickly(self.file(whole), MOST)
        assert quick is not None
        for at in range(len(whole)):
            damaged = bytearray(whole)
            damaged[at] ^= 0x55
            with self.subTest(at=at):
                self.assertIsNone(read_quickly(self.file(bytes(damaged)), MOST))
                self.assertIsNone(read_quickly(self.file(whole[:at]), MOST))
        with self.assertRaisesRegex(PlateError, "damaged"):
            sequence.read_picture(self.file(whole[:len(whole) // 2]))

    def test_a_header_that_claims_too_much_costs_no_memory(self) -> None:
        huge = made(self.smooth(2, 2, 1, np.uint8), [0, 0], claims=(1 << 14, 1 << 14))
        with mock.patch("deflate.zlib_decompress") as unpack:
            self.assertIsNone(read_quickly(self.file(huge), 1 << 28))
            unpack.assert_not_called()
        self.assertIsNone(read_quickly(self.file(made(self.smooth(2, 2, 1, np.uint8), [0, 0], claims=(3, 2))), MOST))
        wrong_filter = bytearray(filtered(np.zeros((1, 4), np.uint8), 1, [0]))
        wrong_filter[0] = 5
        file = b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", struct.pack(">IIBBBBB", 4, 1, 8, 0, 0, 0, 0)) + chunk(b"IDAT", zlib.compress(bytes(wrong_filter))) \
            + chunk(b"IEND", b"")
        self.assertIsNone(read_quickly(self.file(file), MOST))


if __name__ == "__main__":
    unittest.main()
