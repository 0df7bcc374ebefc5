"""Dense motion: fields as warps and as files, tracked, kept, found again, and made anew only where something changed."""

import csv
import os
import struct
import tempfile
import threading
import unittest
from functools import cache
from pathlib import Path
from unittest.mock import patch

import cv2
import numpy as np
import OpenImageIO as oiio

import wertis
from tests.helpers import painted_patch_leaves_the_rest
from tests.scenes import SIZE, texture
from tests.test_motions import Conformance
from tests.test_window import WindowCase
from tests.waves import LAST, QUAD, REFERENCE, filmed, waved
from wertis.cli.main import main
from wertis.core.errors import DeliverError, WertisError
from wertis.core.exchange.motion_fields import read_channels, read_field, write_field
from wertis.core.geometry.displacement_field import DisplacementField, FieldWarp, filled_from_known
from wertis.core.geometry.mesh import Mesh
from wertis.core.geometry.motion import Motion
from wertis.core.jobs.dense_tracking import expected_size
from wertis.core.shot import edits
from wertis.core.shot.dense import DenseSettings, DenseSolution
from wertis.core.track import dense
from wertis.core.track.motion_store import DenseMotion, MotionFolder, field_file, neighbour_file

BOX = (60, 40, 430, 300)


def pixels(box: tuple[int, int, int, int]) -> np.ndarray:
    return np.stack(np.meshgrid(np.arange(box[0], box[2]) + 0.5, np.arange(box[1], box[3]) + 0.5), axis=-1)


def wave_field(time: float) -> DisplacementField:
    at = pixels(BOX)
    moved = (waved(at, time) - at).astype(np.float32)
    return DisplacementField(BOX, moved, np.full(moved.shape[:2], 0.05, np.float32), np.ones(moved.shape[:2], bool))


def plain(displacement: np.ndarray, seen: np.ndarray | None = None) -> DisplacementField:
    h, w = displacement.shape[:2]
    return DisplacementField((0, 0, w, h), displacement.astype(np.float32), np.zeros((h, w), np.float32), np.ones((h, w), bool) if seen is None else seen)


@cache
def wave_folder() -> tempfile.TemporaryDirectory:
    made = tempfile.TemporaryDirectory()
    folder = MotionFolder(Path(made.name), SIZE)
    for frame in range(REFERENCE + 1, LAST + 1):
        folder.keep(frame, wave_field(frame), "made", 1.0, 0.05)
    return made


class DenseMotionTest(Conformance, unittest.TestCase):
    """Fields on disk are a motion like any other."""

    def motion(self) -> Motion:
        return DenseMotion(REFERENCE, Path(wave_folder().name), range(REFERENCE, LAST + 1))

    def test_a_frame_whose_file_is_gone_has_no_answer(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            motion = DenseMotion(REFERENCE, Path(name), [REFERENCE + 1])
            self.assertIsNone(motion.at(REFERENCE + 1))


class FieldWarpTest(unittest.TestCase):
    """What lies over what, and where nothing is."""

    def test_of_two_parts_over_each_other_the_seen_one_shows(self) -> None:
        displacement = np.zeros((80, 120, 2))
        displacement[:, 60:, 0] = -40  # the right half slides under the left one
        seen = np.ones((80, 120), bool)
        seen[:, 60:100] = False
        there = FieldWarp(plain(displacement, seen)).inverse_map((0, 0, 120, 80))
        np.testing.assert_allclose(there[40, 30], [30.5, 40.5], atol=1e-3)
        np.testing.assert_allclose(there[40, 70], [110.5, 40.5], atol=1e-3)
        np.testing.assert_allclose(FieldWarp(plain(displacement, seen)).inverse(np.array([[30.5, 40.5]]))[0], [30.5, 40.5], atol=1e-3)

    def test_where_neighbours_were_torn_apart_nothing_is(self) -> None:
        displacement = np.zeros((80, 120, 2))
        displacement[:, 60:, 0] = 40
        there = FieldWarp(plain(displacement)).inverse_map((0, 0, 160, 80))
        self.assertTrue(np.isnan(there[40, 80]).all())
        np.testing.assert_allclose(there[40, 110], [70.5, 40.5], atol=1e-3)

    def test_what_is_turned_away_does_not_show(self) -> None:
        mirrored = plain(np.stack([100 - 2 * pixels((0, 0, 100, 60))[..., 0], np.zeros((60, 100))], axis=-1))
        self.assertTrue(np.isnan(FieldWarp(mirrored).inverse_map((20, 20, 60, 40))).all())

    def test_holes_are_filled_from_round_them(self) -> None:
        ramp = pixels((0, 0, 64, 64)).astype(np.float32)
        weight = np.ones((64, 64), np.float32)
        weight[20:40, 24:44] = 0
        filled = filled_from_known(np.where(weight[..., None] > 0, ramp, 999), weight)
        np.testing.assert_allclose(filled[weight > 0], ramp[weight > 0])
        self.assertLess(np.abs(filled - ramp).max(), 12)


class FilesTest(unittest.TestCase):
    """Fields as files, by readers that are not ours and by formats that others made."""

    def setUp(self) -> None:
        made = tempfile.TemporaryDirectory()
        self.addCleanup(made.cleanup)
        self.folder = Path(made.name)

    def test_there_and_back(self) -> None:
        field = wave_field(1004)
        write_field(self.folder / "to.exr", field, SIZE)
        back = read_field(self.folder / "to.exr")
        self.assertEqual(back.box, BOX)
        self.assertLess(np.abs(back.displacement - field.displacement).max(), 0.0005)
        np.testing.assert_array_equal(back.seen, field.seen)
        source = oiio.ImageInput.open(str(self.folder / "to.exr"))  # as another program sees it
        spec = source.spec()
        self.assertEqual(sorted(spec.channelnames), ["error", "motion.x", "motion.y", "seen"])
        self.assertEqual(dict(zip(spec.channelnames, map(str, spec.channelformats), strict=True))["motion.x"], "float")
        self.assertEqual(((spec.x, spec.y), (spec.full_width, spec.full_height)), (BOX[:2], SIZE))
        source.close()

    def test_middlebury_flow(self) -> None:
        """S. Baker et al., A database and evaluation methodology for optical flow, 2011: tag, width, height, then u, v by rows; above 1e9 is unknown."""
        flow = np.zeros((3, 4, 2), "<f4")
        flow[1, 2] = 1.5, -2.25
        flow[0, 0] = 1e10
        (self.folder / "a.flo").write_bytes(struct.pack("<fii", 202021.25, 4, 3) + flow.tobytes())
        field = read_field(self.folder / "a.flo")
        np.testing.assert_array_equal(field.displacement[1, 2], [1.5, -2.25])
        self.assertEqual((bool(field.seen[0, 0]), int(field.seen.sum())), (False, 11))

    def test_kitti_flow(self) -> None:
        """M. Menze and A. Geiger, Object scene flow for autonomous vehicles, 2015, devkit: 16-bit RGB, (R - 2^15) / 64, (G - 2^15) / 64, B valid."""
        coded = np.zeros((3, 4, 3), np.uint16)
        coded[1, 2] = 1, round(-2.25 * 64) + 32768, round(1.5 * 64) + 32768  # OpenCV writes blue first
        cv2.imwrite(str(self.folder / "a.png"), coded)
        field = read_field(self.folder / "a.png")
        np.testing.assert_array_equal(field.displacement[1, 2], [1.5, -2.25])
        self.assertEqual(int(field.seen.sum()), 1)

    def test_what_is_no_field_says_so(self) -> None:
        write_field(self.folder / "whole.exr", wave_field(1003), SIZE)
        cut = (self.folder / "whole.exr").read_bytes()
        bad = {"cut.exr": cut[:len(cut) // 2], "empty.exr": b"", "a.flo": b"PIEH1234", "b.flo": struct.pack("<fii", 202021.25, 40000, 40000),
               "a.png": b"no picture"}
        for name, data in bad.items():
            (self.folder / name).write_bytes(data)
            with self.assertRaises(DeliverError, msg=name):
                read_field(self.folder / name)
        cv2.imwrite(str(self.folder / "grey.png"), np.zeros((4, 4), np.uint8))
        with self.assertRaisesRegex(DeliverError, "16 bits"):
            read_field(self.folder / "grey.png")
        with self.assertRaisesRegex(DeliverError, "no channel sideways"):
            read_channels(self.folder / "whole.exr", ("sideways",))


class TrackedTest(unittest.TestCase):
    """Dense motion of a surface that waves."""

    def setUp(self) -> None:
        made = tempfile.TemporaryDirectory()
        self.addCleanup(made.cleanup)
        self.folder = Path(made.name)
        self.plate = self.folder / "plate"
        self.plate.mkdir()
        for k, picture in enumerate(filmed()):
            cv2.imwrite(str(self.plate / f"w.{REFERENCE + k:04d}.png"), picture)
        self.keep = self.folder / "motion"
        self.points = np.array([[150.0, 100], [240, 160], [330, 220], [180, 230]])

    def surface(self, frame: int = REFERENCE, **more: object) -> wertis.Surface:
        shot = wertis.open(self.plate)
        return shot.track(QUAD if frame == REFERENCE else waved(QUAD, frame), frame, "dense", keep=self.keep, **more)  # type: ignore[arg-type]

    def test_it_lies_where_it_is_from_any_frame(self) -> None:
        for start in (REFERENCE, LAST):
            surface = self.surface(start)
            places = surface.follow(waved(self.points, start), start)
            away = [np.linalg.norm(places[f] - waved(self.points, f), axis=1) for f in range(REFERENCE, LAST + 1)]
            self.assertLess(np.max(away), 0.4, start)
            self.assertLess(np.sqrt(np.mean(np.square(away))), 0.1, start)
            self.assertLess(surface.motion.uncertainty(waved(self.points, start), 1004).max(), 0.6)

    def test_a_painted_patch_leaves_the_rest_of_the_plate_as_it_is(self) -> None:
        quad = QUAD.mean(0) + 0.6 * (QUAD - QUAD.mean(0))
        painted_patch_leaves_the_rest(self, self.surface(), quad, REFERENCE, (REFERENCE + 3, LAST), self.folder)

    def test_steps_between_neighbours_are_kept_as_well(self) -> None:
        self.surface()
        for frame, name, other in ((1004, "forward", 1005), (1004, "backward", 1003), (1001, "forward", 1002)):
            box, found = read_channels(neighbour_file(self.keep, frame), (f"{name}.u", f"{name}.v", "seen", "reference.x", "reference.y"))
            here = waved(self.points, frame)
            field = DisplacementField(box, np.stack([found[f"{name}.u"], found[f"{name}.v"]], -1), found["seen"], found["seen"] > 0.5)
            self.assertLess(np.abs(FieldWarp(field).forward(here) - waved(self.points, other)).max(), 0.4, (frame, name))
            home = DisplacementField(box, np.stack([found["reference.x"], found["reference.y"]], -1), found["seen"], found["seen"] > 0.5)
            self.assertLess(np.abs(FieldWarp(home).forward(here) - self.points).max(), 0.4)

    def test_only_what_changed_is_computed_again(self) -> None:
        self.surface()
        before = {f: field_file(self.keep, f).stat().st_mtime_ns for f in range(REFERENCE + 1, LAST + 1)}
        with patch.object(dense.DenseTracker, "feed", side_effect=AssertionError("nothing changed")):
            again = self.surface()
        self.assertTrue(again.record.solution.good.all())  # type: ignore[union-attr]
        picture = self.plate / "w.1005.png"
        os.utime(picture, ns=(1, 1))
        self.surface()
        now = {f: field_file(self.keep, f).stat().st_mtime_ns for f in before}
        self.assertEqual([f for f in before if now[f] != before[f]], [1005])
        places = self.surface().follow(self.points, REFERENCE)
        self.assertLess(np.abs(places[1005] - waved(self.points, 1005)).max(), 0.4)

    def test_stopped_it_goes_on_from_what_there_is(self) -> None:
        shot, stop = wertis.open(self.plate), threading.Event()
        surface = shot.add(QUAD, REFERENCE, model="dense", keep=self.keep)
        surface.track(progress=lambda e: stop.set() if e.done == 3 else None, stop=stop)
        there = sorted(p.name for p in self.keep.glob("to.*.exr"))
        self.assertTrue(0 < len(there) < LAST - REFERENCE, there)
        fed = []
        real = dense.DenseTracker.feed
        with patch.object(dense.DenseTracker, "feed", lambda self, *a: (fed.append(1), real(self, *a))[1]):
            surface.track()
        self.assertEqual(len(fed), LAST - REFERENCE - len(there))
        self.assertEqual(sorted(self.keep.glob("state*")), [], "nothing of the work is left")
        # the same bits as in one go
        whole = wertis.open(self.plate).add(QUAD, REFERENCE, model="dense", keep=self.folder / "whole")
        whole.track()
        for frame in range(REFERENCE + 1, LAST + 1):
            ours, theirs = (read_field(field_file(f, frame)) for f in (self.keep, self.folder / "whole"))
            for name in ("displacement", "error", "seen"):
                np.testing.assert_array_equal(getattr(ours, name), getattr(theirs, name), f"{name} on {frame}")
        places = surface.follow(self.points, REFERENCE)
        self.assertLess(max(np.abs(places[f] - waved(self.points, f)).max() for f in range(REFERENCE, LAST + 1)), 0.4)

    def test_the_command(self) -> None:
        source, out = self.folder / "in.csv", self.folder / "out.csv"
        source.write_text("id,x,y\n" + "".join(f"p{k},{x},{y}\n" for k, (x, y) in enumerate(self.points)))
        region = " ".join(f"{x},{y}" for x, y in QUAD)
        call = ["track", str(self.plate), "--start", str(REFERENCE), "--region", region, "--model", "dense", "--points", str(source)]
        call += ["--out", str(out), "--quiet"]
        self.assertEqual(main([*call, "--keep", str(self.keep)]), 0)
        self.assertEqual(len(list(self.keep.glob("to.*.exr"))), LAST - REFERENCE)
        rows = list(csv.DictReader(out.open()))
        self.assertEqual(len(rows), 4 * (LAST - REFERENCE + 1))
        for row in rows:
            at = waved(self.points[int(row["id"][1:])], int(row["frame"]))
            self.assertLess(np.abs(np.array([float(row["x"]), float(row["y"])]) - at).max(), 0.4)
            self.assertLess(float(row["error"]), 0.6)
        self.assertEqual(main([*call, "--spacing", "20"]), 1)
        self.assertEqual(main([*call, "--half"]), 1)
        self.assertEqual(main([*call[:-1], "--save", str(self.folder / "s.wertis")]), 1)  # nothing would be left of its motion

    def test_drift_and_a_shot_that_comes_back(self) -> None:
        surface = self.surface()
        drift = surface.check(frames=[1003, 1006])
        self.assertEqual(drift.by_frame[1003].slip.shape[0], len(surface.record.solution.points))  # type: ignore[union-attr]
        self.assertLess(drift.worst, 0.4)
        path = surface.shot.save(self.folder / "w.wertis")
        again = wertis.open(path).surface("Surface")
        np.testing.assert_allclose(again.follow(self.points, REFERENCE)[1006], surface.follow(self.points, REFERENCE)[1006])

    def test_what_cannot_be_is_said(self) -> None:
        shot = wertis.open(self.plate)
        with self.assertRaisesRegex(WertisError, "dense"):
            shot.add(QUAD, REFERENCE, keep=self.keep)
        surface = shot.add(QUAD, REFERENCE, model="dense", keep=self.folder / "plate" / "w.1001.png" / "motion")
        with self.assertRaises(WertisError):
            surface.track()
        surface = shot.add(QUAD, REFERENCE, model="dense", keep=self.keep)
        self.assertGreater(expected_size(surface.record, shot.plate, 8), 1 << 20)
        with patch("shutil.disk_usage", return_value=type("Usage", (), {"free": 1000})()), self.assertRaisesRegex(WertisError, "would take about"):
            surface.track()


class PartsTest(unittest.TestCase):
    """A card slides over a wall: two motions in one picture."""

    def test_what_moves_by_itself_is_followed_and_what_it_hides_is_told_apart(self) -> None:
        wall, card = texture(size=SIZE).astype(np.float32), texture(size=SIZE)[::-1, ::-1].astype(np.float32)
        rng = np.random.default_rng(8)
        with tempfile.TemporaryDirectory() as name:
            plate = Path(name) / "plate"
            plate.mkdir()
            w, h = SIZE
            for k in range(6):
                seen = cv2.warpAffine(wall, np.float32([[1, 0, 1.5 * k], [0, 1, 0]]), SIZE, flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT)
                x = 120 + 9 * k
                seen[90:220, x:x + 130] = card[90:220, 120:250]
                cv2.imwrite(str(plate / f"c.{k + 1:04d}.png"), np.clip(seen + rng.normal(0, 1.5, seen.shape), 0, 255).astype(np.uint8))
            shot = wertis.open(plate)
            surface = shot.track([[0, 0], [w, 0], [w, h], [0, h]], 1, "dense", keep=Path(name) / "motion", whole=True)
            on_card, on_wall, hidden = np.array([[185.0, 155]]), np.array([[60.0, 60]]), np.array([[280.0, 150]])
            places = surface.follow(np.vstack([on_card, on_wall]), 1)
            np.testing.assert_allclose(places[6], [[185 + 45, 155], [60 + 7.5, 60]], atol=0.4)
            warp = surface.motion.at(6)
            assert isinstance(warp, FieldWarp)
            seen = warp.field.sampled(warp.field.seen.astype(float), np.vstack([on_card, on_wall, hidden]))
            np.testing.assert_array_equal(seen > 0.5, [True, True, False])
            np.testing.assert_allclose(warp.forward(hidden), hidden + [7.5, 0], atol=4.0)  # it goes on with the wall, not with the card


class GrainTest(unittest.TestCase):
    """Grain, fine as a sensor's and as coarse as detail, over a picture that is bare in places."""

    def test_bare_parts_do_not_pass_for_hidden_ones_and_a_passer_does(self) -> None:
        for coarse in (0.0, 1.2):
            with self.subTest(coarse=coarse):
                self.check(coarse)

    def check(self, coarse: float) -> None:
        rng = np.random.default_rng(9)
        w, h = SIZE
        wall = cv2.cvtColor(texture(size=SIZE), cv2.COLOR_RGB2GRAY).astype(np.float32)
        wall[:, w // 2 - 40:w // 2 + 60] = 120
        region = np.zeros((h, w), np.uint8)
        region[40:h - 40, 40:w - 40] = 255
        frames = []
        for k in range(4):
            seen = cv2.warpAffine(wall, np.array([[1, 0, 2.5 * k], [0, 1, 0]]), SIZE, flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT)
            grain = rng.normal(0, 1, (h, w)).astype(np.float32)
            grain = cv2.GaussianBlur(grain, (0, 0), coarse) if coarse else grain
            seen = seen + 2 * grain / grain.std()
            if k == 3:
                cv2.rectangle(seen, (70, 60), (150, 200), 30.0, cv2.FILLED)
            frames.append(np.clip(seen + 0.5, 0, 255).astype(np.uint8))
        spots = np.stack(np.meshgrid(np.linspace(60, w - 60, 9), np.linspace(60, h - 60, 6)), axis=-1).reshape(-1, 2)
        tracker = dense.DenseTracker(frames[0], region, Mesh(spots), 40.0)
        for picture in frames[1:3]:
            fix = tracker.feed(picture)
            assert fix.field is not None
            self.assertGreater(fix.seen, 0.98)
            self.assertLess(float(np.median(fix.field.error[fix.field.seen])), 0.1)
        resumed = dense.DenseTracker(frames[0], region, Mesh(spots), 40.0)
        resumed.resume(tracker.state())
        fix, again = tracker.feed(frames[3]), resumed.feed(frames[3])
        assert fix.field is not None and again.field is not None
        np.testing.assert_array_equal(again.field.seen, fix.field.seen)
        x0, y0 = fix.field.box[:2]
        self.assertFalse(fix.field.seen[75 - y0:185 - y0, 85 - x0:128 - x0].any())
        self.assertGreater(fix.field.seen[:, 170 - x0:].mean(), 0.98)


class DenseWindowTest(WindowCase):
    def test_from_a_region_to_a_graphic(self) -> None:
        w, s = self.window, self.window.session
        w.open_path(self.plate)
        self.until(lambda: w.viewer.picture is not None)
        shot, track = edits.add_track(s.shot, np.array(self.made.region), s.frame, "Wall")
        s.history.do("Draw", shot)
        s.select(track.id)
        s.opened.save(self.folder / "s.wertis")
        s.go_step("Track")
        page = w.steps["Track"].page
        page.kind.setCurrentIndex(page.kind.findData("dense"))
        page.kind.activated.emit(page.kind.currentIndex())
        self.assertIsInstance(s.track.settings, DenseSettings)
        self.assertIn("on disk", page.dense.facts.text())
        w.run_command("track.both")
        self.until(lambda: w.job is None and s.track.solution is not None, 60)
        self.assertIsInstance(s.track.solution, DenseSolution)
        self.assertTrue(s.track.solution.good.all())
        self.assertEqual(Path(s.track.solution.folder).parent, self.folder / "s.motion")
        s.go_step("Use")
        w.steps["Use"].place()
        self.until(lambda: s.placement is not None)
        out = self.folder / "out" / "comp.####.png"
        w.steps["Deliver"].render("comp", str(out))
        self.until(lambda: w.job is None, 60)
        self.assertEqual(len(list(out.parent.glob("*.png"))), len(s.track.solution.frames))


del WindowCase, Conformance


if __name__ == "__main__":
    unittest.main()
