"""Drift on spoilt tracks with known truth, the steady view, and the `check` command."""

import unittest
from typing import Any

import cv2
import numpy as np
from PySide6.QtCore import Qt

from tests.scenes import SIZE, PlaneShot
from tests.test_deliver import command, table
from tests.test_plate import Folder
from tests.test_window import WindowCase
from wertis.core.check.drift import DriftMeter
from wertis.core.check.series import DriftSeries
from wertis.core.check.slip import Slip
from wertis.core.check.summary import next_worst, share_under, summary, worst_first
from wertis.core.geometry import homography, polygon
from wertis.core.geometry.motion import Fix
from wertis.core.geometry.warp import IDENTITY, HomographyWarp
from wertis.core.plate import open_plate
from wertis.core.plate.base import luma
from wertis.core.shot import edits, store
from wertis.core.shot.document import Shot


def spoil(name: str, part: float, corners: np.ndarray) -> np.ndarray:
    """By how much (4, 2) the corners of a spoilt track are away from the truth, `part` 0..1 of the way through the shot."""
    if name == "shift":
        return np.tile([8.0 * part, -3.0 * part], (4, 1))
    if name == "corner":
        return np.array([[0, 0], [0, 0], [5 * part, 4 * part], [0, 0]], float)
    if name == "jump":
        return np.tile([3.0, 2.0], (4, 1)) if 0.45 < part < 0.58 else np.zeros((4, 2))
    if name == "turn":
        middle, a = corners.mean(0), np.deg2rad(1.5 * part)
        turned = (corners - middle) @ np.array([[np.cos(a), np.sin(a)], [-np.sin(a), np.cos(a)]]) + middle
        return np.asarray(turned - corners)
    return np.zeros((4, 2))


def measured(shot: PlaneShot, name: str) -> tuple[dict[int, Slip], dict[int, np.ndarray]]:
    """The drift measured on a shot whose true motion is spoilt, and the true slip."""
    meter = DriftMeter(luma(shot.frames[0]), polygon.fill(shot.region, SIZE), shot.region)
    drift, truth = {}, {}
    for i in range(1, len(shot.frames)):
        there = shot.truth(i)
        off = spoil(name, i / (len(shot.frames) - 1), there)
        drift[i] = meter.measure(luma(shot.frames[i]), HomographyWarp(homography.from_points(shot.region, there + off)))
        truth[i] = -off
    return drift, truth


class DriftTest(unittest.TestCase):
    def test_spoilt_tracks_are_measured_at_each_corner(self) -> None:
        for name in ("shift", "corner", "jump", "turn"):
            with self.subTest(name):
                shot = PlaneShot(n=20)
                drift, truth = measured(shot, name)
                frames = [f for f in drift if np.isfinite(drift[f].slip).all()]
                self.assertGreaterEqual(len(frames) / len(drift), 0.9)
                away = np.array([np.linalg.norm(drift[f].slip - truth[f], axis=1).max() for f in frames])
                self.assertGreaterEqual((away < 0.15).mean(), 0.95)
                worst = {f: float(np.linalg.norm(truth[f], axis=1).max()) for f in truth}
                self.assertGreaterEqual(worst[summary(drift).frame], 0.9 * max(worst.values()))

    def test_behind_a_passer(self) -> None:
        drift, truth = measured(PlaneShot(n=20, passer=0.2), "corner")
        frames = [f for f in drift if np.isfinite(drift[f].slip).all()]
        self.assertGreaterEqual(len(frames) / len(drift), 0.85)
        away = np.array([np.linalg.norm(drift[f].slip - truth[f], axis=1).max() for f in frames])
        self.assertGreaterEqual((away < 0.25).mean(), 0.9)

    def test_light_blur_and_grain_do_not_read_as_drift(self) -> None:
        for how in ({"exposure": 0.35}, {"shutter": 0.6}, {"noise": 6.0}):
            with self.subTest(**how):
                drift, _ = measured(PlaneShot(n=10, **how), "none")  # type: ignore[arg-type]
                self.assertLess(np.nanmax([s.worst for s in drift.values()]), 0.2)

    def test_a_hidden_or_bare_surface_is_not_measured_and_never_zero(self) -> None:
        shot = PlaneShot(n=3)
        meter = DriftMeter(luma(shot.frames[0]), polygon.fill(shot.region, SIZE), shot.region)
        other = np.random.default_rng(2).integers(0, 255, shot.frames[0].shape).astype(np.uint8)
        for frame in (other, np.full_like(other, 90)):
            slip = meter.measure(luma(frame), IDENTITY)
            self.assertTrue(np.isnan(slip.slip).all())
            self.assertTrue(np.isnan(slip.worst))
            self.assertTrue(slip.reason)
        bare = DriftMeter(np.full((SIZE[1], SIZE[0]), 90, np.uint8), polygon.fill(shot.region, SIZE), shot.region)
        self.assertTrue(np.isnan(bare.measure(luma(shot.frames[1]), IDENTITY).slip).all())
        self.assertIn("no answer", meter.measure(luma(shot.frames[1]), None).reason)

    def test_what_is_held_out_does_not_count(self) -> None:
        shot = PlaneShot(n=6)
        meter = DriftMeter(luma(shot.frames[0]), polygon.fill(shot.region, SIZE), shot.region)
        frame = shot.frames[4].copy()
        frame[:, 200:420] = shot.frames[4][:, 196:416]  # over half of the surface seems to have moved by four pixels
        held = np.zeros(SIZE[::-1], np.uint8)
        held[:, 195:425] = 255
        onto = HomographyWarp(homography.from_points(shot.region, shot.truth(4)))
        without, with_ = meter.measure(luma(frame), onto), meter.measure(luma(frame), onto, held)
        self.assertLess(with_.worst, 0.6)
        self.assertTrue(without.worst > 2 or np.isnan(without.worst))

    def test_phase_correlation_agrees_on_a_shift(self) -> None:
        # OpenCV's phase correlation, which shares no code with the meter, on a pure shift of the plane's inside
        shot = PlaneShot(n=4, shift_only=True, noise=1.0)
        drift, _ = measured(shot, "shift")
        onto = homography.from_points(shot.region, shot.truth(2) + spoil("shift", 2 / 3, shot.truth(2)))
        steady = cv2.warpPerspective(luma(shot.frames[2]), onto, SIZE, flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP)
        x0, y0 = np.ceil(shot.region.min(0)).astype(int) + 12
        x1, y1 = np.floor(shot.region.max(0)).astype(int) - 12
        a, b = (p[y0:y1, x0:x1].astype(np.float32) for p in (luma(shot.frames[0]), steady))
        (dx, dy), _ = cv2.phaseCorrelate(a, b, cv2.createHanningWindow(a.shape[::-1], cv2.CV_32F))
        np.testing.assert_allclose(drift[2].slip.mean(0), [dx, dy], atol=0.3)


def over_the_shot(shot: PlaneShot, name: str) -> tuple[dict[int, Slip], dict[int, Slip], dict[int, np.ndarray]]:
    """What each frame's drift is found to be by itself, and with what the others tell; and the true slip."""
    series = DriftSeries(luma(shot.frames[0]), polygon.fill(shot.region, SIZE), shot.region, 0)
    drift, truth = {}, {}
    for i in range(1, len(shot.frames)):
        off = spoil(name, i / (len(shot.frames) - 1), shot.truth(i))
        warp = HomographyWarp(homography.from_points(shot.region, shot.truth(i) + off))
        drift[i] = series.take(i, series.look(luma(shot.frames[i]), warp, None, (0, 0), SIZE), warp)
        truth[i] = -off
    again = {i: work() for looks in series.rounds(lambda i: (luma(shot.frames[i]), None)) for i, work in looks}
    return drift, {**drift, **again}, truth


class SeriesTest(unittest.TestCase):
    def far(self, drift: dict[int, Slip], truth: dict[int, np.ndarray]) -> np.ndarray:
        """(n,) of the measured frames: by how much the worst corner is mismeasured, in pixels."""
        return np.array([np.linalg.norm(s.slip - truth[i], axis=1).max() for i, s in drift.items() if np.isfinite(s.slip).all()])

    def test_a_shaken_camera_is_measured_through_its_blur(self) -> None:
        shot = PlaneShot(n=16, shake=7.0, shutter=0.5)
        alone, drift, truth = over_the_shot(shot, "corner")
        away = self.far(drift, truth)
        self.assertGreaterEqual(len(away), 0.9 * len(drift))
        self.assertGreaterEqual((away < 0.3).mean(), 0.9)
        self.assertLess(np.median(away), 0.15)
        self.assertGreater(sum(s.worst != drift[i].worst for i, s in alone.items()), 6)  # it was the second look that said so

    def test_a_shake_so_strong_that_few_frames_are_measured_by_themselves(self) -> None:
        """Steps of twenty to thirty pixels from frame to frame, over half of which the shutter is open, on another picture than usual."""
        shot = PlaneShot(n=14, shake=20.0, shutter=0.5, motion=0.4, picture="astronaut")
        alone, drift, truth = over_the_shot(shot, "corner")
        away = self.far(drift, truth)
        self.assertLess(len(self.far(alone, truth)), 0.6 * len(drift), "the case is not trivial")
        self.assertGreaterEqual(len(away), 0.9 * len(drift))
        self.assertLess(np.median(away), 0.2)

    def test_behind_a_reflection(self) -> None:
        shot = PlaneShot(n=20, mirrored=0.5)
        alone, drift, truth = over_the_shot(shot, "jump")
        away = self.far(drift, truth)
        self.assertGreaterEqual(len(away), 0.9 * len(drift))
        self.assertGreaterEqual((away < 0.2).mean(), 0.9)
        self.assertLess(len(self.far(alone, truth)), len(away))
        worst = summary(drift).frame
        self.assertGreater(np.linalg.norm(truth[worst], axis=1).max(), 3)

    def test_sharp_still_shots_are_not_looked_at_twice(self) -> None:
        alone, drift, _ = over_the_shot(PlaneShot(n=14, motion=0.4), "shift")
        self.assertEqual(alone, drift)


def slip_of(amount: float) -> Slip:
    return Slip(np.tile([amount, 0.0], (4, 1)), np.full(4, 0.02))


class SummaryTest(unittest.TestCase):
    def test_worst_first_leaves_neighbours_out(self) -> None:
        amounts = {1: 0.0, 2: 0.4, 3: 1.2, 4: 2.0, 5: 1.9, 6: 0.3, 10: 0.9, 11: 1.5, 12: 0.8}
        drift = {f: slip_of(a) for f, a in amounts.items()}
        self.assertEqual(worst_first(drift), [4, 11])
        self.assertEqual([next_worst(drift, f) for f in (1, 4, 11)], [4, 11, 4])
        self.assertAlmostEqual(share_under(drift, 1.0), 5 / 9)
        self.assertIsNone(next_worst({1: Slip(np.full((4, 2), np.nan), np.full(4, np.inf))}, 1))


def drifting(made: PlaneShot, folder: Any, spoilt: str = "shift") -> Shot:
    """A shot whose track is the truth, spoilt."""
    plate = open_plate(folder)
    shot, track = edits.add_track(edits.new_shot(plate, str(folder)), made.region, 1001, "Wall")
    n = len(made.frames)
    fixes = {1001 + i: Fix(homography.from_points(made.region, made.truth(i) + spoil(spoilt, i / (n - 1), made.truth(i))), 0.05, 1.0)
             for i in range(1, n)}
    return edits.set_tracked(shot, track.id, fixes)


class CheckCommandTest(Folder):
    def setUp(self) -> None:
        super().setUp()
        self.made = PlaneShot(n=6)
        store.save(drifting(self.made, self.made.write(self.folder / "plate")), self.folder / "s.wertis")

    def test_table_summary_and_exit_code(self) -> None:
        out = self.folder / "drift.csv"
        code, words, err = command("check", str(self.folder / "s.wertis"), "--csv", str(out), "--limit", "1", "--quiet")
        self.assertEqual((code, err), (4, ""))
        self.assertIn("worst 8.5", words)
        self.assertIn("frame 1006", words)
        rows = table(out)
        self.assertEqual([r["frame"] for r in rows], [str(f) for f in range(1001, 1007)])
        for i, row in enumerate(rows[1:], 1):
            true = float(np.hypot(8, 3) * i / 5)
            for k in (1, 2, 3, 4):
                self.assertAlmostEqual(float(row[f"drift{k}"]), true, delta=0.15)
        self.assertEqual(command("check", str(self.folder / "s.wertis"), "--limit", "20", "--quiet")[0], 0)

    def test_another_base_frame(self) -> None:
        code, words, _ = command("check", str(self.folder / "s.wertis"), "--base", "1006", "--range", "1006-1006", "--quiet")
        self.assertEqual(code, 0)
        self.assertIn("worst 0.00", words)

    def test_a_wrong_name_is_told_which_there_are(self) -> None:
        code, _, err = command("check", str(self.folder / "s.wertis"), "--track", "Floor")
        self.assertEqual(code, 1)
        self.assertIn("Wall", err)


class CheckWindowTest(WindowCase):
    def setUp(self) -> None:
        super().setUp()
        path = self.folder / "s.wertis"
        store.save(drifting(self.made, self.plate, "jump"), path)
        self.window.open_path(path)
        self.until(lambda: len(self.window.session.drift) == 8)

    def test_the_next_worst_key_goes_to_the_spoilt_frame(self) -> None:
        s = self.window.session
        self.window.viewer.setFocus()
        self.key(Qt.Key.Key_W)
        self.assertEqual(s.frame, 1005)
        self.assertEqual(s.step, "Check")

    def test_a_changed_track_is_measured_again(self) -> None:
        s = self.window.session
        s.history.do("Spoil", drifting(self.made, self.plate).but(range=s.shot.range))
        s.select(s.shot.tracks[0].id)
        self.until(lambda: len(s.drift) == 8 and np.isfinite(s.drift[1008].worst) and s.drift[1008].worst > 7)
        slip = s.drift[1008].slip
        # from where the track has it to where it really is: against the spoilt shift of (8, -3)
        np.testing.assert_allclose(slip, np.tile([-8, 3], (4, 1)), atol=0.2)
        self.window.viewer.setFocus()
        self.key(Qt.Key.Key_W)
        self.assertEqual((s.frame, s.step), (1008, "Check"))
        self.assertIn("8.5", self.window.words.text())
        # the arrow is painted from the track's corner towards the measured one, once its frame's picture is there
        self.until(lambda: not self.window.viewer.late)
        at, toward = self.window.viewer.to_screen(np.array([self.made.truth(7)[0] + [8, -3], self.made.truth(7)[0]]))
        pixels = self.window.viewer.grab().toImage()
        middle = at + (toward - at) * 5
        found = [pixels.pixelColor(int(middle[0]) + dx, int(middle[1]) + dy) for dx in range(-3, 4) for dy in range(-3, 4)]
        self.assertTrue(any(c.red() > 180 and c.blue() < 120 for c in found), "no arrow in its colour on the way")

    def test_the_panes_lie_so_that_the_plate_is_largest(self) -> None:
        w, s = self.window, self.window.session
        s.go_step("Check")
        self.spin()
        sizes = {}
        for width, height in ((1000, 1100), (2200, 700)):
            w.resize(width, height)
            self.spin()
            sizes[w.panes.orientation()] = w.viewer.zoom
            other = Qt.Orientation.Horizontal if w.panes.orientation() == Qt.Orientation.Vertical else Qt.Orientation.Vertical
            w.panes.setOrientation(other)
            w.panes.halve()
            self.spin()
            self.assertLess(w.viewer.zoom, 1.1 * sizes[Qt.Orientation.Vertical if other == Qt.Orientation.Horizontal else Qt.Orientation.Horizontal])
        self.assertEqual(len(sizes), 2)  # stacked in the one, side by side in the other

    def test_the_steady_view_holds_the_surface_still(self) -> None:
        s, w = self.window.session, self.window
        s.history.do("True", drifting(self.made, self.plate, "none"))
        s.select(s.shot.tracks[0].id)
        s.go_step("Check")
        self.until(lambda: w.steady.picture is not None)
        shown = []
        for frame in (1001, 1005, 1008):
            s.go(frame)
            self.until(lambda frame=frame: w.viewer.picture is not None and w.display.pictures.ready(frame, True) is not None)
            self.spin()
            assert w.steady.picture is not None
            shown.append(w.steady.picture.astype(float)[120:-120, 120:-120])
        self.assertLess(np.abs(shown[1] - shown[0]).mean(), 8)
        self.assertLess(np.abs(shown[2] - shown[0]).mean(), 8)
        # its points are the frame's own
        point = self.made.truth(7)[2]
        x, y = w.steady.to_screen(point[None])[0]
        from PySide6.QtCore import QPointF
        np.testing.assert_allclose(w.steady.to_picture(QPointF(x, y)), point, atol=1e-6)
        page = w.steps["Check"].page
        page.compared.setCurrentIndex(2)
        page.view_changed.emit()
        self.spin()
        assert w.steady.picture is not None
        self.assertLess(abs(float(w.steady.picture[150:-150, 150:-150].mean()) - 128), 25)
        page.panes.setCurrentIndex(2)
        page.view_changed.emit()
        self.assertFalse(w.viewer.isVisible())


if __name__ == "__main__":
    unittest.main()
