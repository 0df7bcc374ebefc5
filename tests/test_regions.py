"""Shapes of a region, ways to draw them, what the tracker looks at, and what it advises."""

import unittest

import cv2
import numpy as np
import scipy.linalg
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from tests.scenes import SIZE, FramesPlate, PlaneShot
from tests.test_window import WindowCase
from wertis.core.errors import RegionError
from wertis.core.geometry import homography, polygon
from wertis.core.geometry.motion import Fix
from wertis.core.geometry.spline import closed_curve
from wertis.core.imaging.channel_mixture import channel_mixture
from wertis.core.plate.base import BRIGHTNESS
from wertis.core.shot import edits, regions
from wertis.core.shot.document import Region, Shape
from wertis.core.track.advice import advice, is_weak
from wertis.core.track.run import rescaled, track_plane
from wertis.core.track.tracker_input import looked_at
from wertis.demo.make import FILMS
from wertis.demo.scene import HEIGHT, WIDTH, Scene

BOX = np.array([[20.0, 20], [120, 20], [120, 100], [20, 100]])


class ShapesTest(unittest.TestCase):
    def test_a_smooth_curve_goes_through_its_points_and_round_a_circle(self) -> None:
        angles = np.linspace(0, 2 * np.pi, 12, endpoint=False)
        circle = np.column_stack([np.cos(angles), np.sin(angles)]) * 50
        curve = closed_curve(circle)
        np.testing.assert_allclose(curve[::12], circle, atol=1e-9)
        # a cubic spline stays within 5/384 h^4 of a function with fourth derivative 1 (C. Hall and W. Meyer, 1976); h is the step in angle
        self.assertLess(np.abs(np.linalg.norm(curve, axis=1) - 50).max(), 50 * 5 / 384 * (np.pi / 6) ** 4 * 2)

    def test_shapes_add_and_subtract_in_their_order(self) -> None:
        hole = Shape(points=edits.as_points(BOX * 0.5 + 30), subtract=True)
        island = Shape(points=edits.as_points(BOX * 0.1 + 60))
        mask = regions.mask_of(Region(frame=1, points=edits.as_points(BOX), more=(hole, island)), SIZE)
        self.assertEqual(mask[25, 25], 255)
        self.assertEqual(mask[45, 45], 0)
        self.assertEqual(mask[67, 67], 255)

    def test_only_a_plain_quad_has_corners_of_its_own(self) -> None:
        plain = Region(frame=1, points=edits.as_points(BOX))
        corners = plain.corners
        assert corners is not None
        np.testing.assert_array_equal(corners, BOX)
        self.assertIsNone(plain.but(smooth=True).corners)
        self.assertIsNone(plain.but(more=(Shape(points=edits.as_points(BOX / 2)),)).corners)
        self.assertIsNone(Region(frame=1, points=edits.as_points(BOX[:3])).corners)

    def test_nothing_left_is_refused(self) -> None:
        whole = Shape(points=edits.as_points(BOX), subtract=True)
        with self.assertRaisesRegex(RegionError, "subtract less"):
            regions.checked(Region(frame=1, points=edits.as_points(BOX), more=(whole,)), SIZE)

    def test_a_painted_area_comes_back_as_shapes_that_cover_the_same_pixels(self) -> None:
        mask = np.zeros((SIZE[1], SIZE[0]), np.uint8)
        cv2.circle(mask, (150, 120), 70, 255, -1)
        cv2.circle(mask, (150, 120), 25, 0, -1)
        cv2.rectangle(mask, (300, 200), (380, 260), 255, -1)
        head, *more = regions.painted_shapes(mask)
        again = regions.mask_of(Region(frame=1, points=head.points, more=tuple(more)), SIZE)
        self.assertEqual([s.subtract for s in (head, *more)], [False, False, True])
        self.assertLess(np.count_nonzero(again != mask) / np.count_nonzero(mask), 0.02)

    def test_freehand_keeps_few_points_near_the_line(self) -> None:
        angles = np.linspace(0, 2 * np.pi, 400, endpoint=False)
        line = np.column_stack([np.cos(angles), np.sin(angles)]) * 80 + 150
        few = regions.simplified(line)
        self.assertLess(len(few), 60)
        a, b = polygon.fill(line, SIZE), polygon.fill(few, SIZE)
        self.assertLess(np.count_nonzero(a != b) / np.count_nonzero(a), 0.02)


class LookTest(unittest.TestCase):
    def errors(self, frames: list[np.ndarray], shot: PlaneShot, **how: object) -> list[float]:
        found = dict(track_plane(FramesPlate(frames), shot.region, 0, range(1, len(frames)), **how))  # type: ignore[arg-type]
        return [float(np.linalg.norm(homography.apply(fix.matrix, shot.region) - shot.truth(f), axis=1).mean()) if fix.matrix is not None
                else np.inf for f, fix in found.items()]

    def test_the_channel_that_shows_the_surface(self) -> None:
        shot = PlaneShot(n=8)
        rng = np.random.default_rng(5)
        dirt = (cv2.GaussianBlur(rng.random((SIZE[1], SIZE[0])), (0, 0), 3) * 3000 % 256).astype(np.uint8)
        frames = [np.dstack([dirt, f[..., 1], dirt]) for f in shot.frames]  # still patterns in red and blue, the surface in green alone
        self.assertLess(max(self.errors(frames, shot, look="green")), 0.1)
        self.assertGreater(max(self.errors(frames, shot, look="red")), 2)

    def test_the_mixture_is_the_one_that_stands_out_most_over_the_grain(self) -> None:
        # against SciPy's generalised symmetric eigenvalues, with the grain that was put in
        rng = np.random.default_rng(8)
        h, w = 240, 320
        detail = cv2.GaussianBlur(rng.normal(0, 1, (h, w)), (0, 0), 4)
        detail[:, :60] = 0  # a flat part, as most surfaces have one
        detail *= 18 / detail.std()
        mask = np.full((h, w), 255, np.uint8)
        for strengths, grains in (((1, 1, 1), (3, 3, 3)), ((1, 1, 1), (2, 2, 8)), ((1.0, 0.5, 0.1), (3, 3, 3))):
            picture = np.clip(128 + detail[..., None] * strengths + rng.normal(0, 1, (h, w, 3)) * grains, 0, 255).round().astype(np.uint8)
            found = channel_mixture(picture, mask)
            _, axes = scipy.linalg.eigh(np.outer(strengths, strengths), np.diag(np.square(grains).astype(float)))
            best = axes[:, -1] / axes[:, -1].sum()
            with self.subTest(strengths=strengths, grains=grains):
                self.assertAlmostEqual(found.sum(), 1)
                self.assertGreaterEqual(found.min(), 0)

                def worth(parts: np.ndarray, s: tuple = strengths, g: tuple = grains) -> float:
                    return float(abs(parts @ s) / np.linalg.norm(parts * g))

                self.assertGreater(worth(found), 0.95 * worth(best))
                self.assertGreater(worth(found), 1.08 * worth(np.array([0.299, 0.587, 0.114])))

    def test_a_mixture_is_never_a_difference_of_channels(self) -> None:
        rng = np.random.default_rng(9)
        detail = cv2.GaussianBlur(rng.normal(0, 1, (200, 200)), (0, 0), 3) * 200
        picture = np.clip(128 + np.dstack([detail, -detail, 0.2 * detail]), 0, 255).astype(np.uint8)
        found = channel_mixture(picture, np.full((200, 200), 255, np.uint8))
        self.assertGreaterEqual(found.min(), 0)
        self.assertGreater(max(found[0], found[1]), 0.7)  # red and green would take each other away
        grey = np.repeat(picture[..., :1], 3, 2)
        np.testing.assert_allclose(channel_mixture(grey, np.full((200, 200), 255, np.uint8)), 1 / 3, atol=0.02)
        few = np.zeros((200, 200), np.uint8)
        few[:15, :15] = 255
        np.testing.assert_array_equal(channel_mixture(picture, few), BRIGHTNESS)
        np.testing.assert_array_equal(channel_mixture(picture[..., :1], np.full((200, 200), 255, np.uint8)), BRIGHTNESS)

    def test_the_mixture_tracks_better_than_brightness_under_grain(self) -> None:
        shot = PlaneShot(n=16, noise=9)
        rms = {look: np.sqrt(np.mean(np.square(self.errors(shot.frames, shot, look=look)))) for look in ("mix", "luma")}
        self.assertLess(rms["mix"], 0.95 * rms["luma"])

    def test_raised_contrast_brings_up_a_faint_surface(self) -> None:
        picture = np.full((80, 80, 3), 40, np.uint8)
        picture[:, 40:] = 48
        raised = looked_at(picture, "contrast")
        self.assertGreater(np.ptp(raised[:, 30:50]), 4 * np.ptp(looked_at(picture)[:, 30:50].astype(float)))
        shot = PlaneShot(n=6)
        self.assertLess(max(self.errors(shot.frames, shot, look="contrast")), 0.15)

    def test_half_resolution_gives_answers_in_the_plates_pixels(self) -> None:
        shot = PlaneShot(n=6)
        self.assertLess(max(self.errors(shot.frames, shot, half=True)), 0.2)

    def test_rescaled_motions_agree_on_points(self) -> None:
        m = np.array([[1.1, 0.1, 5], [-0.05, 0.9, -3], [1e-4, -2e-4, 1]])
        points = np.array([[10.0, 20], [300, 40]])
        np.testing.assert_allclose(homography.apply(rescaled(m, 0.5), points * 0.5), homography.apply(m, points) * 0.5, atol=1e-9)


class AdviceTest(unittest.TestCase):
    def test_lost_frames_say_why_and_where_to_go_on(self) -> None:
        good, gone = Fix(np.eye(3), 0.1, 0.9), Fix(None, seen=0.08, reason="only 8% of the region is seen")
        words = advice({58: good, 59: gone, 60: gone, 61: good})
        for part in ("frames 59 to 60", "only 8%", "hold-out", "from frame 61"):
            self.assertIn(part, words)

    def test_the_weakest_frame_is_named(self) -> None:
        words = advice({1: Fix(np.eye(3), 0.1, 0.9), 2: Fix(np.eye(3), 1.4, 0.3), 3: Fix(np.eye(3), 2.5, 0.2)})
        self.assertIn("weakest is 3", words)
        self.assertEqual(advice({1: Fix(np.eye(3), 0.1, 0.9)}), "")
        self.assertTrue(is_weak(Fix(np.eye(3), 0.1, 0.05)))


class AwningTest(unittest.TestCase):
    def test_the_demo_shot_behind_an_awning_needs_its_hold_out(self) -> None:
        scene, half = Scene(FILMS["tea_crate_awning"]), 0.5  # of the size, a fifth of the time
        frames = [cv2.resize(scene.frame(i), None, fx=half, fy=half, interpolation=cv2.INTER_AREA) for i in range(22)]
        first = half * scene.truth(0)
        region = homography.apply(homography.from_unit_square(first), np.array([[.04, .05], [.96, .05], [.96, .95], [.04, .95]]))

        def held(frame: int) -> np.ndarray:
            corners = half * scene._seen(scene.awning(frame), frame)
            return polygon.fill(corners.mean(0) + 1.04 * (corners - corners.mean(0)), (WIDTH // 2, HEIGHT // 2))

        worst = []
        for mask in (None, held):
            found = dict(track_plane(FramesPlate(frames), region, 0, range(1, 22), held=mask))
            truth = {f: homography.apply(homography.from_points(first, half * scene.truth(f)), region) for f in found}
            worst.append(max(float(np.linalg.norm(homography.apply(fix.matrix, region) - truth[f], axis=1).mean()) if fix.matrix is not None
                             else np.inf for f, fix in found.items()))
        self.assertGreater(worst[0], 2)
        self.assertLess(worst[1], 1)


class DrawingTest(WindowCase):
    def setUp(self) -> None:
        super().setUp()
        self.open_plate()
        self.page = self.window.steps["Region"].page

    def pull(self, *points: tuple[float, float], modifier: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        v = self.window.viewer
        places = [self.place(np.array(p)) for p in points]
        QTest.mousePress(v, Qt.MouseButton.LeftButton, modifier, places[0])
        for p in places[1:]:
            QTest.mouseMove(v, p)
        QTest.mouseRelease(v, Qt.MouseButton.LeftButton, modifier, places[-1])

    def way(self, name: str) -> None:
        self.page.way.setCurrentIndex(self.page.way.findData(name))
        self.page.way.activated.emit(self.page.way.currentIndex())

    def region(self) -> Region:
        track = self.window.session.track
        assert track is not None
        return track.region

    def test_rectangle_then_a_freehand_hole_then_removed(self) -> None:
        self.way("rectangle")
        self.pull((100, 80), (200, 150), (360, 250))
        np.testing.assert_allclose(self.region().array, [[100, 80], [360, 80], [360, 250], [100, 250]], atol=1.5)
        self.way("freehand")
        self.page.more[1].click()
        angles = np.linspace(0, 2 * np.pi, 40)
        self.pull(*[(200 + 30 * np.cos(a), 160 + 30 * np.sin(a)) for a in angles])
        self.assertEqual([s.subtract for s in self.region().shapes], [False, True])
        mask = regions.mask_of(self.region(), SIZE)
        self.assertEqual(mask[160, 200], 0)
        self.assertEqual(self.window.steps["Region"].shape, 1)
        self.page.more[2].click()
        self.assertEqual(len(self.region().shapes), 1)
        self.window.undo()
        self.assertEqual(len(self.region().shapes), 2)

    def test_a_smooth_region_keeps_its_points(self) -> None:
        self.way("smooth")
        v = self.window.viewer
        for p in ((120, 90), (350, 100), (340, 250), (110, 240)):
            QTest.mouseClick(v, Qt.MouseButton.LeftButton, pos=self.place(np.array(p)))
        QTest.keyClick(v, Qt.Key.Key_Return)
        self.assertTrue(self.region().smooth)
        self.assertEqual(len(self.region().points), 4)
        # the curve bulges over the straight sides
        self.assertGreater(np.count_nonzero(regions.mask_of(self.region(), SIZE)), np.count_nonzero(polygon.fill(self.region().array, SIZE)))

    def test_painted_region(self) -> None:
        self.way("painted")
        self.pull((150, 120), (250, 160), (330, 200))
        QTest.keyClick(self.window.viewer, Qt.Key.Key_Return)
        mask = regions.mask_of(self.region(), SIZE)
        self.assertEqual([mask[120, 150], mask[200, 330], mask[60, 60]], [255, 255, 0])

    def test_several_points_move_together(self) -> None:
        self.way("rectangle")
        self.pull((100, 80), (360, 250))
        before = self.region().array
        self.pull((60, 60), (80, 270), (130, 270), modifier=Qt.KeyboardModifier.ShiftModifier)  # a box round the left side
        self.pull((100, 80), (110, 90), (120, 95))
        moved = self.region().array - before
        np.testing.assert_allclose(moved[[0, 3]], [[20, 15], [20, 15]], atol=1.5)
        np.testing.assert_allclose(moved[[1, 2]], 0, atol=1e-9)


if __name__ == "__main__":
    unittest.main()
