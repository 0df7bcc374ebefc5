"""Parts of the window and of the core on their own: display pictures, artwork files, steps, lanes, start-up, progress."""

import io
import os
import time
import unittest
from collections.abc import Iterator
from pathlib import Path
from unittest import mock

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QDoubleSpinBox

from tests.scenes import PlaneShot
from tests.test_plate import Folder
from tests.test_shot import shot_with_track
from tests.test_window import WindowCase
from wertis.app import start
from wertis.app.lanes import Lanes
from wertis.app.pictures import PictureMaker
from wertis.app.steps import all_steps
from wertis.cli.progress import Progress
from wertis.core.comp import artwork
from wertis.core.comp.picture import Compositor
from wertis.core.errors import PlateError, RegionError
from wertis.core.exchange.pictures import write_picture
from wertis.core.geometry.motion import Fix
from wertis.core.jobs.events import Event, Stop
from wertis.core.jobs.job import Job
from wertis.core.jobs.tracking import runs_from
from wertis.core.plate import open_plate
from wertis.core.plate.cache import FrameCache
from wertis.core.plate.colour import shown
from wertis.core.shot import edits, items
from wertis.core.shot.artwork import Artwork
from wertis.core.shot.document import Placement, PlateRef, Shot
from wertis.demo import graphics, textures


class DisplayTest(unittest.TestCase):
    def test_floats_go_through_the_srgb_curve(self) -> None:
        # IEC 61966-2-1: linear 0.0031308 is the end of the straight part; 0.2142 is coded 128 of 255; from memory, 18 % grey is 118 of 255
        seen = shown(np.array([[[0.0, 0.2142, 1.0], [0.18, 2.0, -1.0], [0.0031308, 0.0, 0.0]]], np.float32))
        self.assertEqual(seen[0, 0].tolist(), [0, 128, 255])
        self.assertEqual(seen[0, 1].tolist(), [118, 255, 0])
        self.assertEqual(int(seen[0, 2, 0]), 10)

    def test_whole_numbers_are_shown_as_coded(self) -> None:
        eight = np.arange(48, dtype=np.uint8).reshape(4, 4, 3)
        np.testing.assert_array_equal(shown(eight), eight)
        self.assertEqual(shown(np.full((1, 1, 3), 65535, np.uint16)).tolist(), [[[255, 255, 255]]])
        self.assertEqual(shown(np.full((2, 2, 1), 7, np.uint8)).shape, (2, 2, 3))

    def test_bad_floats_do_not_reach_the_screen(self) -> None:
        seen = shown(np.array([[[np.nan, np.inf, -np.inf]], [[0.2142, 0.2142, 0.2142]]], np.float32))
        self.assertEqual(seen.dtype, np.uint8)
        self.assertEqual(seen[0, 0].tolist(), [0, 255, 0])
        self.assertEqual(seen[1, 0].tolist(), [128, 128, 128])


class PictureMakerTest(Folder):
    def setUp(self) -> None:
        super().setUp()
        self.made = PlaneShot(n=4)
        self.plate = open_plate(self.made.write(self.folder / "p", 1))
        self.cache = FrameCache(self.plate)
        self.maker = PictureMaker()
        self.maker.use(self.cache)
        self.addCleanup(self.cache.close)
        self.addCleanup(self.maker.close)
        self.shot = edits.new_shot(self.plate, str(self.folder / "p"))
        self.maker.set_shot(self.shot)

    def wait(self, frame: int, graphics_shown: bool = True) -> tuple[np.ndarray | None, str]:
        self.maker.wish(frame, graphics_shown)
        end = time.monotonic() + 20
        while self.maker.ready(frame, graphics_shown) is None:
            self.assertLess(time.monotonic(), end)
            time.sleep(0.005)
        found = self.maker.ready(frame, graphics_shown)
        assert found is not None
        return found

    def test_wishes_and_what_is_made_ahead(self) -> None:
        picture, error = self.wait(2)
        self.assertEqual(error, "")
        np.testing.assert_array_equal(picture, self.made.frames[1])
        self.maker.wish(2, True, [3, 4])
        end = time.monotonic() + 20
        while self.maker.ready(4, True) is None:
            self.assertLess(time.monotonic(), end)
            time.sleep(0.005)

    def test_an_edit_of_the_look_makes_pictures_stale_and_a_rename_does_not(self) -> None:
        shot, track = edits.add_track(self.shot, self.made.region, 1)
        self.maker.set_shot(shot)
        self.wait(1)
        self.maker.set_shot(shot.with_track(track.but(name="Other")))
        self.assertIsNotNone(self.maker.ready(1, True))
        placed = items.add_item(shot, Placement(on=track.id, frame=1, quad=edits.as_points(self.made.region), artwork=Artwork(kind="checker")))
        self.maker.set_shot(placed)
        self.assertIsNone(self.maker.ready(1, True))
        picture, _ = self.wait(1)
        self.assertFalse(np.array_equal(picture, self.made.frames[0]))
        plain, _ = self.wait(1, False)
        np.testing.assert_array_equal(plain, self.made.frames[0])

    def test_one_frame_s_unexpected_error_is_told_on_it_and_the_next_frame_appears(self) -> None:
        make = self.maker._make

        def fails_on_two(shot, frame, *rest):  # type: ignore[no-untyped-def]
            if frame == 2:
                raise np.linalg.LinAlgError("Singular matrix")
            return make(shot, frame, *rest)

        told: list[tuple[int, str]] = []
        self.maker.made.connect(lambda frame, _, error: told.append((frame, error)))
        with mock.patch.object(self.maker, "_make", fails_on_two), self.assertLogs("wertis", "ERROR") as logged:
            self.maker.wish(2, True)
            end = time.monotonic() + 20
            while not told:
                self.assertLess(time.monotonic(), end)
                time.sleep(0.005)
            picture, error = self.wait(3)
        self.assertEqual(told[0][0], 2)
        self.assertIn("Frame 2 cannot be shown (LinAlgError: Singular matrix)", told[0][1])
        self.assertIn("Traceback", logged.output[0])
        np.testing.assert_array_equal(picture, self.made.frames[2])
        self.assertEqual(error, "")
        np.testing.assert_array_equal(self.wait(2)[0], self.made.frames[1])

    def test_missing_artwork_is_hatched_and_says_why(self) -> None:
        shot, track = edits.add_track(self.shot, self.made.region, 1)
        gone = Artwork(kind="picture", path=str(self.folder / "gone.png"))
        self.maker.set_shot(items.add_item(shot, Placement(on=track.id, frame=1, quad=edits.as_points(self.made.region), artwork=gone)))
        picture, error = self.wait(1)
        changed = np.abs(picture.astype(int) - self.made.frames[0]).max(2) > 0
        self.assertTrue(0.2 < changed.mean() < 0.6)
        np.testing.assert_array_equal(picture[:40], self.made.frames[0][:40])
        self.assertIn("gone.png", error)


class ArtworkTest(Folder):
    def test_every_frame_of_animated_artwork_comes_in_its_turn_in_any_light(self) -> None:
        """Twelve flat pictures, the n-th of level 15 n: the graphic on frame n is as bright as the n-th, again and again."""
        for f in range(1, 13):
            write_picture(self.folder / "art" / f"a.{f:04d}.png", np.full((8, 8, 3), 15 * f, np.uint8)) if (self.folder / "art").mkdir(
                exist_ok=True) is None else None
        quad = np.array([[4.0, 4], [60, 4], [60, 44], [4, 44]])
        plate = np.zeros((48, 64, 3), np.uint8)
        for mixing in ("plate", "linear", "display"):
            shot = Shot(plate=PlateRef(path="/nowhere/p", first=1, last=12, size=(64, 48)), range=(1, 12), mixing=mixing)  # type: ignore[arg-type]
            shot, track = edits.add_track(shot, quad, 1)
            shot = edits.set_tracked(shot, track.id, {f: Fix(np.eye(3), 0.1, 1.0) for f in range(1, 13)})
            art = Artwork(kind="sequence", path=str(self.folder / "art"), start=1)
            shot = items.add_item(shot, Placement(on=track.id, frame=1, quad=edits.as_points(quad), artwork=art, fit="stretch"))
            compositor = Compositor()
            for _ in range(2):
                levels = [float(compositor.comp(shot, plate, f)[24, 32].mean()) for f in range(1, 13)]
                np.testing.assert_allclose(levels, [15 * f for f in range(1, 13)], atol=1.5, err_msg=mixing)

    def test_a_sequence_starts_where_it_is_told_and_holds_at_its_ends(self) -> None:
        for f in (11, 12, 14):
            write_picture(self.folder / f"a.{f:04d}.png", np.full((4, 6, 3), f, np.uint8))
        sequence = artwork.FileArtwork(self.folder, still=False)
        self.assertAlmostEqual(sequence.ratio, 1.5)
        for frame, value in ((90, 11), (100, 11), (101, 12), (102, 12), (103, 14), (200, 14)):
            self.assertEqual(round(float(sequence.read(sequence.index(frame, Artwork(start=100)))[0][0, 0, 0]) * 255), value)

    def test_alpha_and_single_channels(self) -> None:
        one = artwork.from_picture(np.full((2, 2, 1), 51, np.uint8))
        np.testing.assert_allclose(one[0, 0], [0.2, 0.2, 0.2, 1.0], atol=1e-6)
        two = artwork.from_picture(np.dstack([np.full((2, 2), 51, np.uint8), np.full((2, 2), 102, np.uint8)]))
        np.testing.assert_allclose(two[0, 0], [0.2, 0.2, 0.2, 0.4], atol=1e-6)
        with self.assertRaises(PlateError):
            artwork.FileArtwork(self.folder / "none.png", still=True)

    def test_made_artwork_has_the_surfaces_proportions(self) -> None:
        for ratio in (0.5, 1.0, 2.0):
            for make in (artwork.grid, artwork.checker):
                picture = make(ratio)
                self.assertAlmostEqual(picture.shape[1] / picture.shape[0], ratio, delta=0.01)
                self.assertLessEqual(float((picture[..., :3] - picture[..., 3:]).max()), 1e-6, "premultiplied")

    def test_the_demos_graphics(self) -> None:
        graphics.write_all(self.folder)
        self.assertEqual(sorted(p.name for p in self.folder.iterdir()), ["emblem.png", "night_market.png", "stencil.png", "tide_table.png"])
        stencil = graphics.stencil()
        self.assertTrue((stencil[..., :3] <= stencil[..., 3:]).all())
        wood = textures.wood(np.random.default_rng(1), (120, 80), 3)
        self.assertEqual(wood.shape, (80, 120, 3))
        self.assertGreater(float(wood.min()), 0)


class StartTest(unittest.TestCase):
    def test_missing_libraries_are_named_with_their_packages(self) -> None:
        with mock.patch.object(start, "_loads", lambda library: library != "libEGL.so.1"), mock.patch.dict(os.environ, {"QT_QPA_PLATFORM": "offscreen"}):
            self.assertIn("apt-get install libegl1", start.trouble())
        with mock.patch.object(start, "_loads", lambda library: True), mock.patch.dict(os.environ, {"QT_QPA_PLATFORM": "", "DISPLAY": ":7"}):
            self.assertEqual(start.trouble(), "")
        with mock.patch.object(start, "_loads", lambda library: "cursor" not in library), \
                mock.patch.dict(os.environ, {"QT_QPA_PLATFORM": "", "DISPLAY": ":7", "WAYLAND_DISPLAY": ""}):
            self.assertIn("libxcb-cursor0", start.trouble())


class ProgressTest(unittest.TestCase):
    def test_a_terminal_sees_how_far_and_how_long(self) -> None:
        terminal = io.StringIO()
        terminal.isatty = lambda: True  # type: ignore[method-assign]
        with mock.patch("sys.stderr", terminal):
            progress = Progress("tracking")
            progress(Event(7, 9, 10))
            on_the_way = terminal.getvalue()
            progress(Event(None, 10, 10, note="aligning, 3 of 10"))
            progress.end()
        self.assertRegex(on_the_way, r"9/10 .* s left  frame 7")
        at_the_end = terminal.getvalue()[len(on_the_way):]
        self.assertIn("10/10", at_the_end)
        self.assertIn("aligning, 3 of 10", at_the_end)
        self.assertNotIn("left", at_the_end)  # how long what comes after the last frame takes is not known
        silent = io.StringIO()
        with mock.patch("sys.stderr", silent):
            Progress("tracking")(Event(7, 10, 10))
        self.assertEqual(silent.getvalue(), "")

    def test_a_job_says_how_long_still(self) -> None:
        clock = mock.Mock(return_value=100.0)
        seen: list[tuple[float | None, float]] = []

        def work(stop: Stop) -> Iterator[Event]:
            for k in range(8):
                clock.return_value += 0.5  # each step takes half a second
                yield Event(k, k + 1, 8)

        with mock.patch("wertis.core.jobs.job.time.monotonic", clock):
            job = Job("Working", 8, work)
            job.stepped.connect(lambda job, _: seen.append((job.seconds_left, job.rate)))
            self.assertTrue(job.start().finished.wait(10))
        self.assertEqual([left for left, _ in seen], [None, 3.0, 2.5, 2.0, 1.5, 1.0, 0.5, None])  # nobody knows how long what follows the last step takes
        self.assertEqual({rate for _, rate in seen}, {2.0})

    def test_a_crash_in_a_job_is_a_message(self) -> None:
        def work(stop: Stop) -> Iterator[Event]:
            yield Event(1, 1, 2)
            raise ZeroDivisionError("oops")

        with self.assertLogs("wertis", "ERROR") as logged:
            job = Job("Working", 2, work).start()
            self.assertTrue(job.finished.wait(10))
        self.assertIn("Working failed", job.error)
        self.assertIn("ZeroDivisionError: oops", logged.output[0])


class StepsTest(WindowCase):
    def test_steps_say_where_the_work_stands(self) -> None:
        w, s = self.window, self.window.session
        self.assertEqual(w.step_bar.states()["Plate"], "open one")
        self.assertEqual(list(w.step_bar.states()), [step.name for step in all_steps()])
        self.open_plate()
        shot, track = shot_with_track()
        s.history.do("x", shot.but(plate=s.shot.plate))
        s.select(track.id)
        self.assertEqual(w.step_bar.states()["Track"], "4 of 5, 1 lost")
        self.assertEqual(w.step_bar.states()["Region"], "4 points on 2")


class TrackingTest(unittest.TestCase):
    def test_runs_go_out_from_the_known_frame_and_an_empty_one_is_said(self) -> None:
        shot, track = shot_with_track()
        self.assertEqual([list(r) for r in runs_from(shot, track, 2, "both")], [[3, 4, 5], [1]])
        with self.assertRaisesRegex(RegionError, "nothing to track"):
            runs_from(shot, track, 1, "backward")


class LaneTest(WindowCase):
    def test_clicking_a_lane_goes_to_the_frame(self) -> None:
        self.open_plate()
        lanes: Lanes = self.window.lanes
        for frame in (1001, 1005, 1008):
            self.assertEqual(lanes.frame_at(lanes.x_of(frame)), frame)
            QTest.mouseClick(lanes, Qt.MouseButton.LeftButton, pos=QPoint(round(lanes.x_of(frame)), 30))
            self.assertEqual(self.window.session.frame, frame)

    def test_numbers_are_dragged_on_their_labels(self) -> None:
        self.tracked_and_placed_quickly()
        use = self.window.steps["Use"].page
        field: QDoubleSpinBox = use.look.opacity
        field.setValue(50)
        label = use.look.form.labelForField(field)  # type: ignore[union-attr]
        QTest.mousePress(label, Qt.MouseButton.LeftButton, pos=QPoint(2, 2))
        QTest.mouseMove(label, QPoint(42, 2))
        QTest.mouseRelease(label, Qt.MouseButton.LeftButton, pos=QPoint(42, 2))
        self.assertEqual(field.value(), 60)
        assert self.window.session.placement is not None
        self.assertAlmostEqual(self.window.session.placement.opacity, 0.6)

    def test_plate_range_and_rate_are_steps_in_the_history(self) -> None:
        self.open_plate()
        w, s = self.window, self.window.session
        s.go(1003)
        w.run_command("range.first")
        s.go(1006)
        w.run_command("range.last")
        self.assertEqual(s.shot.range, (1003, 1006))
        w.steps["Plate"].page.fps.setValue(30)
        self.assertEqual(s.shot.plate.fps if s.shot.plate else 0, 30)
        w.undo()
        w.undo()
        w.undo()
        self.assertEqual(s.shot.range, (1001, 1008))
        w.steps["Plate"].page.first.setValue(1004)
        self.assertEqual(s.shot.range, (1004, 1008))

    def test_proportions_are_overruled_and_worked_out_again(self) -> None:
        self.tracked_and_placed_quickly()
        use, s = self.window.steps["Use"].page, self.window.session
        use.place.ratio.setValue(3.0)
        assert s.placement is not None
        self.assertEqual(s.placement.ratio, 3.0)
        self.assertIn("as you gave", use.place.ratio_words.text())
        use.place.ratio_auto.click()
        self.assertIsNone(s.placement.ratio)

    def tracked_and_placed_quickly(self) -> None:
        """A region and a placement without tracking."""
        self.open_plate()
        self.draw()
        self.window.steps["Use"].place()
        self.spin()

    def test_zoom_keeps_the_point_under_the_pointer(self) -> None:
        self.open_plate()
        v = self.window.viewer
        place = v.to_screen(np.array([[100.0, 60.0]]))[0]
        from PySide6.QtCore import QPointF
        v.zoom_to(v.zoom * 3, QPointF(*place))
        np.testing.assert_allclose(v.to_screen(np.array([[100.0, 60.0]]))[0], place, atol=1e-6)
        v.fit()
        w, h = self.window.session.plate.size  # type: ignore[union-attr]
        corners = v.to_screen(np.array([[0.0, 0], [w, h]]))
        self.assertTrue((corners[0] >= 0).all())
        self.assertLessEqual(corners[1][0], v.width())

    def test_opening_a_file_by_path_twice_keeps_nothing_of_the_first(self) -> None:
        self.tracked_and_placed_quickly()
        self.window.session.history.mark_saved()
        self.window.open_path(Path(self.plate))
        self.assertEqual(self.window.session.shot.tracks, ())
        self.assertEqual(self.window.session.history.undo_label, "")


if __name__ == "__main__":
    unittest.main()
