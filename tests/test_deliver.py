"""What goes out: pictures, movies, corner pins, and the commands that write them."""

import contextlib
import csv
import io
import json
import resource
import signal
import unittest
from collections.abc import Iterator
from pathlib import Path
from unittest import mock

import cv2
import numpy as np
import OpenImageIO as oiio
from PIL import Image

from tests.helpers import placement
from tests.scenes import PlaneShot
from tests.test_plate import Folder
from wertis.cli.main import main
from wertis.core.comp.picture import Compositor
from wertis.core.errors import DeliverError
from wertis.core.exchange import corner_pin_csv, corner_pin_json
from wertis.core.exchange.pictures import write_picture
from wertis.core.jobs.events import Event, Stop
from wertis.core.jobs.job import Job
from wertis.core.jobs.render import frame_path, render
from wertis.core.plate import open_plate
from wertis.core.plate.sequence import read_picture
from wertis.core.shot import edits, items, store
from wertis.core.shot.artwork import Artwork
from wertis.core.shot.document import Placement, Shot
from wertis.core.track.run import track_plane


def command(*words: str) -> tuple[int, str, str]:
    """Run the command line in this process: exit code, output, errors."""
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        try:
            code = main(list(words))
        except SystemExit as ended:
            code = int(ended.code or 0)
    return code, out.getvalue(), err.getvalue()


def table(path: Path) -> list[dict[str, str]]:
    """The rows of a CSV file."""
    with path.open() as file:
        return list(csv.DictReader(file))


def pairs(points: np.ndarray) -> str:
    """Points as the command line takes them."""
    return " ".join(f"{x:.4f},{y:.4f}" for x, y in points)


class ShotFolder(Folder):
    """A folder with a small tracked shot in it."""

    made: PlaneShot

    def setUp(self) -> None:
        super().setUp()
        self.made = PlaneShot(n=5)
        self.plate_folder = self.made.write(self.folder / "plate")
        self.plate = open_plate(self.plate_folder)

    def tracked(self) -> Shot:
        """The shot, tracked and with a checker on it."""
        shot = edits.new_shot(self.plate, str(self.plate_folder))
        shot, track = edits.add_track(shot, self.made.region, 1001, "Wall")
        shot = edits.set_tracked(shot, track.id, dict(track_plane(self.plate, self.made.region, 1001, range(1002, 1006))))
        corners = edits.default_quad(shot.tracks[0], 1001)
        return items.add_item(shot, Placement(on=track.id, name="Sign", frame=1001, quad=edits.as_points(corners), artwork=Artwork(kind="checker")))


class PicturesTest(Folder):
    def test_png_alpha_is_straight_and_exr_premultiplied(self) -> None:
        premultiplied = np.zeros((4, 4, 4), np.float32)
        premultiplied[..., :] = [0.25, 0.125, 0.0, 0.5]
        write_picture(self.folder / "a.png", premultiplied)
        # Pillow reads PNG's samples as they are stored; W3C PNG, section 6.2: they are not premultiplied
        stored = cv2.imread(str(self.folder / "a.png"), cv2.IMREAD_UNCHANGED)[0, 0][[2, 1, 0, 3]] / 65535
        np.testing.assert_allclose(stored, [0.5, 0.25, 0.0, 0.5], atol=2e-4)
        write_picture(self.folder / "a.exr", premultiplied)
        np.testing.assert_array_equal(read_picture(self.folder / "a.exr")[0, 0].astype(np.float32), [0.25, 0.125, 0, 0.5])
        np.testing.assert_allclose(read_picture(self.folder / "a.png")[0, 0] / 65535, [0.25, 0.125, 0, 0.5], atol=2e-4)

    def test_other_readers_see_the_same_pixels(self) -> None:
        picture = self.rng.integers(0, 256, (9, 12, 3), dtype=np.uint8)
        write_picture(self.folder / "a.png", picture)
        np.testing.assert_array_equal(np.asarray(Image.open(self.folder / "a.png")), picture)

    def test_a_full_disk_leaves_nothing_half_written(self) -> None:
        picture = np.zeros((9, 12, 3), np.uint8)
        write_picture(self.folder / "a.png", picture)
        with mock.patch("os.replace", side_effect=OSError(28, "No space left on device")), self.assertRaisesRegex(DeliverError, "No space left"):
            write_picture(self.folder / "b.png", picture)
        self.assertEqual([p.name for p in self.folder.iterdir()], ["a.png"])
        with self.assertRaisesRegex(DeliverError, "does not exist"):
            write_picture(self.folder / "gone" / "b.png", picture)
        with self.assertRaisesRegex(DeliverError, "not a kind of picture"):
            write_picture(self.folder / "b.xyz", picture)

    def test_another_reader_sees_an_exr_as_it_was_made(self) -> None:
        # OpenImageIO reads what OpenEXR wrote; the names of the channels are those of OpenEXR's "Reading and Writing Image Files"
        for count, names in ((1, ("Y",)), (2, ("Y", "A")), (3, ("R", "G", "B")), (4, ("R", "G", "B", "A"))):
            for kind, stored, packed in ((np.uint8, "half", "piz"), (np.float16, "half", "piz"), (np.float32, "float", "zip")):
                with self.subTest(channels=count, kind=kind.__name__):
                    picture = self.rng.uniform(0, 200, (21, 34, count)).astype(kind)
                    write_picture(self.folder / "a.exr", picture, aspect=2.0)
                    source = oiio.ImageInput.open(str(self.folder / "a.exr"))
                    spec = source.spec()
                    self.assertEqual((spec.channelnames, str(spec.format)), (names, stored))
                    self.assertEqual((spec.getattribute("compression"), spec.getattribute("PixelAspectRatio")), (packed, 2.0))
                    meant = (picture / 255.0).astype(np.float16) if kind is np.uint8 else picture
                    np.testing.assert_allclose(source.read_image(oiio.FLOAT), meant.astype(np.float32), atol=1e-6)
                    source.close()

    def test_a_disk_that_is_full_at_the_end_of_an_exr_is_noticed(self) -> None:
        picture = self.rng.uniform(0, 1, (90, 120, 3)).astype(np.float16)
        write_picture(self.folder / "a.exr", picture)
        whole = (self.folder / "a.exr").read_bytes()
        limits = resource.getrlimit(resource.RLIMIT_FSIZE)
        before = signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        try:
            resource.setrlimit(resource.RLIMIT_FSIZE, (len(whole) - 1, limits[1]))
            with self.assertRaisesRegex(DeliverError, "free some space"):
                write_picture(self.folder / "a.exr", picture * 0.5)
        finally:
            resource.setrlimit(resource.RLIMIT_FSIZE, limits)
            signal.signal(signal.SIGXFSZ, before)
        self.assertEqual([p.name for p in self.folder.iterdir()], ["a.exr"])
        self.assertEqual((self.folder / "a.exr").read_bytes(), whole, "what was there is as it was")


class RenderTest(ShotFolder):
    def test_names_of_frames(self) -> None:
        self.assertEqual(frame_path("/x/a.####.png", 87).name, "a.0087.png")
        self.assertEqual(frame_path("/x/a.%05d.exr", 87).name, "a.00087.exr")
        for bad, words in (("/x/a.png", "no place for the frame number"), ("/x/a.####", "does not say what to write")):
            with self.assertRaisesRegex(DeliverError, words):
                frame_path(bad, 1)

    def test_comp_and_graphic(self) -> None:
        shot = self.tracked()
        self.assertEqual([event.note for event in render(shot, self.plate, str(self.folder / "out" / "c.####.png"), [1001, 1004])], ["", ""])
        comp = read_picture(self.folder / "out" / "c.1004.png")
        np.testing.assert_array_equal(comp, Compositor().comp(shot, self.plate.read(1004), 1004, 3))
        for suffix, scale in ((".png", 65535.0), (".exr", 1.0)):
            list(render(shot, self.plate, str(self.folder / "out" / f"g.####{suffix}"), [1004], "graphic"))
            graphic = read_picture(self.folder / "out" / f"g.1004{suffix}").astype(np.float32) / scale
            alpha = graphic[..., 3:]
            colour = graphic[..., :3]
            if suffix == ".exr":  # linear light: back by the curve of IEC 61966-2-1
                light = colour / np.maximum(alpha, 1e-6)
                colour = np.where(light <= 0.0031308, 12.92 * light, 1.055 * np.maximum(light, 1e-9) ** (1 / 2.4) - 0.055) * alpha
            again = colour + self.plate.read(1004) / 255.0 * (1 - alpha)
            self.assertLess(np.abs(again - comp / 255.0).max(), 2.5 / 255, suffix)
        with self.assertRaisesRegex(DeliverError, "no alpha"):
            list(render(shot, self.plate, str(self.folder / "g.mp4"), [1004], "graphic"))

    def test_an_exr_of_whole_numbers_is_half_floats_in_linear_light(self) -> None:
        """The curve is that of IEC 61966-2-1; half floats keep 11 bits."""
        shot = self.tracked()
        list(render(shot, self.plate, str(self.folder / "c.####.exr"), [1003]))
        found = read_picture(self.folder / "c.1003.exr")
        self.assertEqual(found.dtype, np.float16)
        coded = Compositor().comp(shot, self.plate.read(1003), 1003, 3) / 255.0
        linear = np.where(coded <= 0.04045, coded / 12.92, ((coded + 0.055) / 1.055) ** 2.4)
        np.testing.assert_allclose(found.astype(float), linear, rtol=2 ** -10, atol=1e-5)

    def test_a_lost_frame_is_left_out_and_said(self) -> None:
        shot = self.tracked()
        (self.plate_folder / "plate.1003.png").unlink()
        plate = open_plate(self.plate_folder)
        said = {event.frame: event.note for event in render(shot, plate, str(self.folder / "o.####.png"), [1002, 1003])}
        self.assertIn("missing", said[1003])
        self.assertTrue((self.folder / "o.1002.png").exists())
        self.assertFalse((self.folder / "o.1003.png").exists())
        list(render(shot, plate, str(self.folder / "o.mkv"), [1002, 1003, 1004]))
        self.assertEqual(open_plate(self.folder / "o.mkv").last, 3)

    def test_stopping_keeps_finished_frames(self) -> None:
        shot = self.tracked()

        def work(stop: Stop) -> Iterator[Event]:
            for event in render(shot, self.plate, str(self.folder / "s.####.png"), list(range(1001, 1006)), stop=stop):
                yield event
                if event.frame == 1002:
                    stop.set()

        job = Job("Rendering", 5, work).start()
        self.assertTrue(job.finished.wait(60))
        self.assertTrue(job.stopped)
        self.assertEqual(job.error, "")
        written = sorted(p.name for p in self.folder.glob("s.*"))
        self.assertEqual(written[:2], ["s.1001.png", "s.1002.png"])
        self.assertLessEqual(job.done, 5)
        for name in written:  # what was being written is whole
            frame = int(name.split(".")[1])
            np.testing.assert_array_equal(read_picture(self.folder / name), Compositor().comp(shot, self.plate.read(frame), frame, 3))

    def test_a_failing_job_ends_with_a_message(self) -> None:
        def work(stop: Stop) -> Iterator[Event]:
            yield Event(1001, 1, 5)
            raise DeliverError("The disk is full; free some space.")

        job = Job("Rendering", 5, work).start()
        self.assertTrue(job.finished.wait(10))
        self.assertEqual(job.error, "The disk is full; free some space.")


class CornerPinTest(ShotFolder):
    def test_csv_and_json_read_back_and_say_the_convention(self) -> None:
        shot = self.tracked()
        store.save(shot, self.folder / "s.wertis")
        for suffix in ("csv", "json"):
            code, out, _ = command("export", str(self.folder / "s.wertis"), "--track", "Wall", "--out", str(self.folder / f"p.{suffix}"))
            self.assertEqual(code, 0)
            self.assertIn("5 frames", out)
            self.assertIn("0.5,0.5", (self.folder / f"p.{suffix}").read_text())
        a = corner_pin_csv.read(self.folder / "p.csv")
        b = corner_pin_json.read(self.folder / "p.json")
        self.assertEqual(b.reference, 1001)
        for f in range(1001, 1006):
            expected = edits.placement_on(shot, placement(shot), f)
            np.testing.assert_allclose(a[f], expected, atol=1e-4)
            np.testing.assert_allclose(b.arrays()[f], expected, atol=1e-4)

    def test_bad_files_are_refused(self) -> None:
        for text, words in (("a,b\n1,2\n", "not a corner pin table"), ("frame,x1,y1,x2,y2,x3,y3,x4,y4\n1,2,3\n", "Line 2"),
                            ("frame,x1,y1,x2,y2,x3,y3,x4,y4\n1,nan,0,0,0,0,0,0,0\n", "Line 2")):
            (self.folder / "b.csv").write_text(text)
            with self.assertRaisesRegex(DeliverError, words):
                corner_pin_csv.read(self.folder / "b.csv")
        for text, words in (("[]", "not a corner pin"), ("{", "damaged"), (json.dumps({"format": "wertis-corner-pin", "version": 9}), "version 9")):
            (self.folder / "b.json").write_text(text)
            with self.assertRaisesRegex(DeliverError, words):
                corner_pin_json.read(self.folder / "b.json")

    def test_wrong_names_list_what_there_is(self) -> None:
        store.save(self.tracked(), self.folder / "s.wertis")
        code, _, err = command("export", str(self.folder / "s.wertis"), "--track", "Door", "--out", str(self.folder / "p.csv"))
        self.assertEqual(code, 1)
        self.assertIn("it has: Wall", err)


class CommandTest(ShotFolder):
    def test_track_writes_corners_near_the_truth(self) -> None:
        out = self.folder / "o.csv"
        code, _, err = command("track", str(self.plate_folder), "--start", "1003", "--region", pairs(self.made.truth(2)),
                               "--corners", pairs(self.made.truth(2)), "--model", "perspective", "--out", str(out))
        self.assertEqual((code, err), (0, ""))
        rows = table(out)
        self.assertEqual([int(r["frame"]) for r in rows], [1001, 1002, 1003, 1004, 1005])
        for r in rows:
            got = np.array([[float(r[f"x{k}"]), float(r[f"y{k}"])] for k in (1, 2, 3, 4)])
            self.assertLess(np.linalg.norm(got - self.made.truth(int(r["frame"]) - 1001), axis=1).mean(), 0.1)

    def test_range_and_errors(self) -> None:
        base = ["track", str(self.plate_folder), "--start", "1001", "--region", pairs(self.made.region), "--out", str(self.folder / "o.csv")]
        self.assertEqual(command(*base, "--range", "1001-1002")[0], 0)
        self.assertEqual(len(table(self.folder / "o.csv")), 2)
        for extra, words in ((["--range", "9-12"], "no frame of the plate"), (["--range", "x"], "not a range"), (["--model", "wobble"], "kind of motion"),
                             (["--corners", "1,2 3,4"], "give four"), (["--corners", "oops"], "not a list of points"),
                             (["--region", "1,1 2,2"], "at least three"), (["--start", "7"], "not in the plate"),
                             (["--out", str(self.folder / "no" / "o.csv")], "does not exist")):
            with self.subTest(extra=extra):
                code, _, err = command(*base, *extra)
                self.assertEqual(code, 1)
                self.assertIn(words, err)

    def test_render_does_what_the_window_does(self) -> None:
        store.save(self.tracked(), self.folder / "s.wertis")
        code, _, err = command("render", str(self.folder / "s.wertis"), "--out", str(self.folder / "r" / "c.####.png"), "--range", "1002-1003")
        self.assertEqual((code, err), (0, ""))
        self.assertEqual(sorted(p.name for p in (self.folder / "r").iterdir()), ["c.1002.png", "c.1003.png"])
        code, _, err = command("render", str(self.folder / "nothing.wertis"), "--out", "x.####.png")
        self.assertEqual(code, 1)
        self.assertIn("does not exist", err)

    def test_help_and_version(self) -> None:
        self.assertIn("track", command("--help")[1])
        self.assertIn("--range", command("track", "--help")[1])
        self.assertIn("Wertis", command("--version")[1])
        self.assertEqual(command()[0], 2)

    def test_no_display_says_what_to_do(self) -> None:
        with mock.patch.dict("os.environ", {"QT_QPA_PLATFORM": "", "DISPLAY": "", "WAYLAND_DISPLAY": ""}):
            code, _, err = command("open", str(Path("x")))
        self.assertEqual(code, 1)
        self.assertIn("There is no display", err)


if __name__ == "__main__":
    unittest.main()
