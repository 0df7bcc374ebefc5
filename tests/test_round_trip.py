"""Pictures go through Wertis as they were: every format that is written, with nothing on the plate and with a graphic on some frames."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
import OpenImageIO as oiio

from wertis.core.errors import DeliverError
from wertis.core.exchange.pictures import write_picture
from wertis.core.geometry.motion import Fix
from wertis.core.jobs.render import render
from wertis.core.plate import open_plate
from wertis.core.shot import edits, items
from wertis.core.shot.artwork import Artwork
from wertis.core.shot.document import Placement, Shot

NUMBERS = {"uint8": np.uint8, "uint16": np.uint16, "half": np.float16, "float": np.float32}
CASES = [(".png", "uint8", 3, 0), (".png", "uint8", 4, 0), (".png", "uint16", 3, 0), (".png", "uint16", 4, 0), (".png", "uint8", 1, 0),
         (".tif", "uint8", 3, 0), (".tif", "uint16", 4, 0), (".tif", "float", 3, 0), (".exr", "half", 3, 0), (".exr", "half", 4, 0),
         (".exr", "float", 3, 0), (".exr", "float", 4, 0), (".dpx", "uint16", 3, 10), (".dpx", "uint8", 3, 0), (".jpg", "uint8", 3, 0)]
SIZE = (47, 33)  # odd on purpose


def picture(kind: str, channels: int, bits: int) -> np.ndarray:
    """Random numbers over the kind's whole range, beyond 0..1 where it allows that."""
    rng = np.random.default_rng(5)
    values = rng.random((SIZE[1], SIZE[0], channels))
    if kind in ("half", "float"):
        return (3 * values - 0.5).astype(NUMBERS[kind])
    out = (values * np.iinfo(NUMBERS[kind]).max).astype(NUMBERS[kind])
    # ten bits widened to sixteen: the upper ones are repeated below, as readers of DPX (SMPTE ST 268) do
    return (out >> 6 << 6 | out >> 10).astype(NUMBERS[kind]) if bits == 10 else out


def write(path: Path, pixels: np.ndarray, kind: str, bits: int) -> None:
    spec = oiio.ImageSpec(pixels.shape[1], pixels.shape[0], pixels.shape[2], kind)
    if bits:
        spec.attribute("oiio:BitsPerSample", bits)
    out = oiio.ImageOutput.create(str(path))
    assert out.open(str(path), spec), out.geterror()
    out.write_image(pixels)
    out.close()


def raw(path: Path) -> tuple[np.ndarray, int]:
    """A file's own numbers, alpha as it stands there, and bits of each."""
    asked = oiio.ImageSpec()
    asked.attribute("oiio:UnassociatedAlpha", 1)
    source = oiio.ImageInput.open(str(path), asked)
    spec = source.spec()
    pixels = np.asarray(source.read_image(oiio.TypeDesc(str(spec.format)))).reshape(spec.height, spec.width, -1)
    bits = spec.get_int_attribute("oiio:BitsPerSample")
    source.close()
    return pixels, bits


class RoundTripTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def rendered(self, suffix: str, kind: str, channels: int, bits: int, graphic: bool = False, frames: int = 1) -> tuple[Path, Path]:
        there, out = self.folder / f"{suffix[1:]}_{kind}{channels}{bits}", self.folder / f"out_{suffix[1:]}_{kind}{channels}{bits}"
        there.mkdir()
        for f in range(frames):
            write(there / f"p.{997 + f:04d}{suffix}", picture(kind, channels, bits), kind, bits)
        plate = open_plate(there)
        shot: Shot = edits.new_shot(plate, str(there))
        if graphic:
            corners = np.array([[8.0, 6], [30, 6], [30, 24], [8, 24]])
            shot, track = edits.add_track(shot, corners, 997)
            shot = edits.set_tracked(shot, track.id, {997: Fix(np.eye(3), 0.1, 1.0)})
            shot = items.add_item(shot, Placement(on=track.id, frame=997, quad=edits.as_points(corners), artwork=Artwork(kind="checker")))
        self.assertEqual([event.note for event in render(shot, plate, str(out / f"p.####{suffix}"), list(range(997, 997 + frames)))], [""] * frames)
        return there, out

    def test_with_nothing_on_it_a_plate_comes_out_bit_for_bit(self) -> None:
        for suffix, kind, channels, bits in CASES:
            with self.subTest(suffix=suffix, kind=kind, channels=channels, bits=bits):
                there, out = self.rendered(suffix, kind, channels, bits)
                (a, bits_a), (b, bits_b) = (raw(x / f"p.0997{suffix}") for x in (there, out))
                self.assertEqual((a.dtype, bits_a), (b.dtype, bits_b))
                np.testing.assert_array_equal(a, b)

    def test_frames_with_a_graphic_keep_the_plates_kind_of_number(self) -> None:
        for suffix, kind, channels, bits in CASES:
            if suffix == ".jpg" or channels != 3:
                continue
            with self.subTest(suffix=suffix, kind=kind, bits=bits):
                there, out = self.rendered(suffix, kind, channels, bits, graphic=True, frames=2)
                for frame, same in ((997, False), (998, True)):
                    (a, bits_a), (b, bits_b) = (raw(x / f"p.{frame:04d}{suffix}") for x in (there, out))
                    self.assertEqual((a.dtype, bits_a), (b.dtype, bits_b))
                    self.assertEqual(bool(np.array_equal(a, b)), same)
                    untouched = np.ones(a.shape[:2], bool)
                    untouched[4:27, 6:33] = False
                    np.testing.assert_array_equal(a[untouched], b[untouched])

    def test_the_same_picture_is_the_same_file_whoever_writes_it_and_when(self) -> None:
        """No time of writing, and no temporary name, in any format: two processes write the same bytes."""
        picture = np.random.default_rng(2).integers(0, 65536, (9, 12, 3)).astype(np.uint16)
        for suffix in (".png", ".exr", ".tif", ".dpx", ".jpg"):
            files = [self.folder / name / f"c.0001{suffix}" for name in ("one", "two")]
            for path in files:
                path.parent.mkdir(exist_ok=True)
                write_picture(path, picture)
            self.assertEqual(files[0].read_bytes(), files[1].read_bytes(), suffix)
            source = oiio.ImageInput.open(str(files[0]))
            self.assertIn(source.spec().getattribute("DateTime"), (None, "1970:01:01 00:00:00"), suffix)
            source.close()
            if suffix == ".dpx":
                self.assertIn(b"\0c.0001.dpx\0", b"\0" + files[0].read_bytes()[36:136])

    def test_a_render_goes_on_where_it_was(self) -> None:
        there, _ = self.rendered(".png", "uint8", 3, 0, frames=40)
        plate = open_plate(there)
        shot = edits.new_shot(plate, str(there))
        out, frames = self.folder / "again", list(range(997, 1037))
        steps = render(shot, plate, str(out / "p.####.png"), frames)
        next(steps)
        next(steps)
        steps.close()  # stopped; what was being written is finished
        written = sorted(out.iterdir())
        self.assertLess(len(written), 20)
        for path in written:
            np.testing.assert_array_equal(raw(path)[0], raw(there / path.name)[0])
        (out / "p.0997.png").write_bytes(b"kept")
        self.assertEqual([event.frame for event in render(shot, plate, str(out / "p.####.png"), frames, resume=True)], frames)
        self.assertEqual((out / "p.0997.png").read_bytes(), b"kept")
        self.assertEqual(len(list(out.iterdir())), 40)
        times = [p.stat().st_mtime_ns for p in sorted(out.iterdir())]
        self.assertEqual([event.frame for event in render(shot, plate, str(out / "p.####.png"), frames, resume=True)], frames, "all are there")
        self.assertEqual([p.stat().st_mtime_ns for p in sorted(out.iterdir())], times)

    def test_rendering_over_the_plate_is_refused(self) -> None:
        there, _ = self.rendered(".png", "uint8", 4, 0)
        before = (there / "p.0997.png").read_bytes()
        plate = open_plate(there)
        with self.assertRaisesRegex(DeliverError, "over the plate itself"):
            list(render(edits.new_shot(plate, str(there)), plate, str(there / "p.####.png"), [997]))
        self.assertEqual((there / "p.0997.png").read_bytes(), before)


if __name__ == "__main__":
    unittest.main()
