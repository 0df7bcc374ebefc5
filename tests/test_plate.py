"""Plates: every kind of file, gaps, frame numbers, movies, the cache, and bad input."""

import shutil
import tempfile
import unittest
from pathlib import Path

import av
import numpy as np
import OpenImageIO as oiio

from tests.scenes import PlaneShot
from wertis.core.errors import PlateError
from wertis.core.exchange.movie_writer import MovieWriter
from wertis.core.exchange.pictures import write_picture
from wertis.core.plate import open_plate
from wertis.core.plate.base import from_float, luma, to_float
from wertis.core.plate.cache import FrameCache
from wertis.core.plate.sequence import sequences_in


class Folder(unittest.TestCase):
    """A test with a folder of its own."""

    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        self.rng = np.random.default_rng(7)


class SequenceTest(Folder):
    def write(self, name: str, picture: np.ndarray) -> None:
        write_picture(self.folder / name, picture)

    def test_every_kind_reads_back_as_it_was_written(self) -> None:
        eight = self.rng.integers(0, 256, (30, 40, 3), dtype=np.uint8)
        sixteen = self.rng.integers(0, 65536, (30, 40, 3), dtype=np.uint16)
        half = self.rng.normal(0.5, 2, (30, 40, 3)).astype(np.float16)
        for suffix, picture in ((".png", eight), (".png", sixteen), (".tif", eight), (".tif", sixteen), (".exr", half), (".dpx", eight)):
            with self.subTest(suffix=suffix, kind=str(picture.dtype)):
                folder = self.folder / f"{suffix[1:]}{picture.dtype}"
                folder.mkdir()
                write_picture(folder / f"a.0007{suffix}", picture)
                plate = open_plate(folder)
                back = plate.read(7)
                self.assertEqual(back.dtype, picture.dtype)
                np.testing.assert_array_equal(back, picture)

    def test_jpeg_is_near(self) -> None:
        smooth = np.tile(np.linspace(20, 230, 64).astype(np.uint8)[None, :, None], (48, 1, 3))
        self.write("a.0001.jpg", smooth)
        self.assertLess(np.abs(open_plate(self.folder).read(1).astype(int) - smooth).mean(), 2)

    def test_numbers_are_the_files_own_and_gaps_are_said(self) -> None:
        for f in (1001, 1002, 1004):
            self.write(f"shot.{f}.png", np.zeros((8, 9, 3), np.uint8))
        for path in (self.folder, self.folder / "shot.%04d.png", self.folder / "shot.####.png", self.folder / "shot.1002.png"):
            plate = open_plate(path)
            self.assertEqual((plate.first, plate.last, plate.gaps, plate.size), (1001, 1004, frozenset({1003}), (9, 8)))
        with self.assertRaisesRegex(PlateError, "1003 is missing"):
            plate.read(1003)
        with self.assertRaisesRegex(PlateError, "no frame 9"):
            plate.read(9)

    def test_a_folder_that_has_gone_or_may_not_be_read_is_told(self) -> None:
        with self.assertRaisesRegex(PlateError, "No such file.*open the plate where it is now"):
            sequences_in(self.folder / "vanished")

    def test_the_largest_sequence_of_a_folder_is_taken(self) -> None:
        self.write("other.0001.png", np.zeros((4, 4, 3), np.uint8))
        for f in (1, 2, 3):
            self.write(f"main.{f:03d}.png", np.zeros((6, 6, 3), np.uint8))
        plate = open_plate(self.folder)
        self.assertEqual(plate.last, 3)
        # which one it is is said, with what else there is
        self.assertIn("2 sequences; this is main.", plate.others_words)
        self.assertIn("other.", plate.others_words)
        self.assertEqual(list(plate.others.values()), [1])
        self.assertEqual(open_plate(next(iter(plate.others))).last, 1)
        self.assertEqual(open_plate(self.folder / "main.###.png").others_words, "")

    def test_data_window_is_laid_in_the_display_window(self) -> None:
        spec = oiio.ImageSpec(4, 3, 3, "half")
        spec.x, spec.y, spec.full_x, spec.full_y, spec.full_width, spec.full_height = 5, 2, 0, 0, 16, 10
        out = oiio.ImageOutput.create("x.exr")
        out.open(str(self.folder / "w.0001.exr"), spec)
        out.write_image(np.ones((3, 4, 3), np.float16))
        out.close()
        picture = open_plate(self.folder).read(1)
        self.assertEqual(picture.shape, (10, 16, 3))
        self.assertEqual(float(picture.sum()), 36.0)
        self.assertEqual(float(picture[2:5, 5:9].sum()), 36.0)

    def test_bad_input_says_what_to_do(self) -> None:
        with self.assertRaisesRegex(PlateError, "no numbered pictures"):
            open_plate(self.folder)
        with self.assertRaisesRegex(PlateError, "does not exist"):
            open_plate(self.folder / "nothing")
        with self.assertRaisesRegex(PlateError, "No plate was named"):
            open_plate("")
        (self.folder / "notes.txt").write_text("x")
        with self.assertRaisesRegex(PlateError, "not a kind of picture"):
            open_plate(self.folder / "notes.txt")
        (self.folder / "text.0001.png").write_text("this is not a picture")
        with self.assertRaisesRegex(PlateError, "cannot be read as a picture"):
            open_plate(self.folder)

    def test_one_bad_frame_does_not_end_it(self) -> None:
        for f in (1, 2, 3, 4):
            self.write(f"a.{f}.png", self.rng.integers(0, 256, (64, 64, 3), dtype=np.uint8))
        whole = (self.folder / "a.2.png").read_bytes()
        (self.folder / "a.2.png").write_bytes(whole[: len(whole) // 3])
        self.write("a.3.png", np.zeros((20, 20, 3), np.uint8))
        plate = open_plate(self.folder)
        with self.assertRaisesRegex(PlateError, r"a.2.png .*(damaged|cut short)"):
            plate.read(2)
        with self.assertRaisesRegex(PlateError, "20 x 20 pixels, the rest of the plate 64 x 64"):
            plate.read(3)
        self.assertEqual(plate.read(4).shape, (64, 64, 3))
        (self.folder / "a.4.png").unlink()
        with self.assertRaisesRegex(PlateError, "has gone"):
            plate.read(4)


class MovieTest(Folder):
    def movie(self, name: str = "m.mkv", n: int = 20) -> list[np.ndarray]:
        frames = [np.full((48, 64, 3), 10 + 11 * k, np.uint8) for k in range(n)]
        with MovieWriter(self.folder / name, (64, 48), 24.0) as movie:
            for f in frames:
                movie.add(f)
        return frames

    def test_lossless_movie_reads_back_at_random(self) -> None:
        frames = self.movie()
        plate = open_plate(self.folder / "m.mkv")
        self.assertEqual((plate.first, plate.last, plate.size, plate.fps), (1, 20, (64, 48), 24.0))
        for f in (1, 2, 15, 3, 20, 1):
            np.testing.assert_array_equal(plate.read(f), frames[f - 1])

    def test_h264_is_near_and_in_order(self) -> None:
        frames = self.movie("m.mp4")
        plate = open_plate(self.folder / "m.mp4")
        for f in (18, 4, 5, 20, 1):
            self.assertLess(abs(float(plate.read(f).mean()) - frames[f - 1].mean()), 3)

    def test_cut_short_movie_keeps_what_is_there(self) -> None:
        self.movie(n=20)
        data = (self.folder / "m.mkv").read_bytes()
        (self.folder / "cut.mkv").write_bytes(data[: int(len(data) * 0.6)])
        plate = open_plate(self.folder / "cut.mkv")
        self.assertLess(plate.last, 20)
        self.assertEqual(plate.read(1).shape, (48, 64, 3))
        (self.folder / "head.mkv").write_bytes(data[:40])
        with self.assertRaisesRegex(PlateError, "cut short"):
            open_plate(self.folder / "head.mkv")

    def test_sound_only_is_refused(self) -> None:
        with av.open(str(self.folder / "s.mkv"), "w") as container:
            stream = container.add_stream("pcm_s16le", rate=8000)
            frame = av.AudioFrame.from_ndarray(np.zeros((1, 800), np.int16), format="s16", layout="mono")
            frame.sample_rate = 8000
            container.mux(stream.encode(frame))
        with self.assertRaisesRegex(PlateError, "no pictures in it"):
            open_plate(self.folder / "s.mkv")


class CacheTest(Folder):
    def test_budget_holds_and_errors_are_kept(self) -> None:
        shot = PlaneShot(n=6)
        shot.write(self.folder, 1)
        (self.folder / "plate.0003.png").write_text("broken")
        each = shot.frames[0].nbytes
        cache = FrameCache(open_plate(self.folder), budget=int(2.5 * each))
        self.addCleanup(cache.close)
        for f in (1, 2, 4, 5, 6):
            np.testing.assert_array_equal(cache.get(f), shot.frames[f - 1])
            self.assertLessEqual(cache.used, 2.5 * each)
        self.assertIsNone(cache.peek(1))
        with self.assertRaises(PlateError):
            cache.get(3)
        self.assertIsInstance(cache.peek(3), PlateError)

    def test_reading_ahead_and_dropping_wishes_never_fails_a_reader(self) -> None:
        shot = PlaneShot(n=10)
        shot.write(self.folder, 1)
        cache = FrameCache(open_plate(self.folder))
        self.addCleanup(cache.close)
        for k in range(40):
            cache.ahead([1 + (k * 7 + j) % 10 for j in range(5)])
            f = 1 + (k * 3) % 10
            np.testing.assert_array_equal(cache.get(f), shot.frames[f - 1])


class NumbersTest(unittest.TestCase):
    def test_whole_numbers_survive_the_way_through_floats(self) -> None:
        for kind in (np.uint8, np.uint16):
            every = np.arange(np.iinfo(kind).max + 1, dtype=np.int64).astype(kind)
            np.testing.assert_array_equal(from_float(to_float(every), kind), every)

    def test_luma_weights_and_scale(self) -> None:
        # ITU-R BT.601-7: Y = 0.299 R + 0.587 G + 0.114 B
        self.assertAlmostEqual(float(luma(np.array([[[65535, 0, 0]]], np.uint16))[0, 0]), 0.299 * 255, places=2)
        self.assertEqual(int(luma(np.full((1, 1, 3), 77, np.uint8))[0, 0]), 77)
        self.assertAlmostEqual(float(luma(np.full((1, 1, 1), 1.0, np.float32))[0, 0]), 255, places=3)


if __name__ == "__main__":
    unittest.main()
