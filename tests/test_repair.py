"""Repairs: curves, points, keys that move nothing, the automatic loop, and the window's worst-first loop."""

import unittest
from unittest import mock

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from scipy.interpolate import CubicHermiteSpline, PchipInterpolator

from tests.helpers import moved, plane_at, repair_points, to_frame, to_reference
from tests.scenes import FramesPlate, PlaneShot
from tests.test_check import drifting, spoil
from tests.test_deliver import command
from tests.test_plate import Folder
from tests.test_window import WindowCase
from wertis.app.pages import stretches
from wertis.core.errors import RegionError
from wertis.core.exchange.pictures import write_picture
from wertis.core.geometry import homography
from wertis.core.geometry.motion import Fix
from wertis.core.jobs.events import finished
from wertis.core.jobs.find import find_places
from wertis.core.jobs.repair import repair_by_itself, with_points
from wertis.core.keyed import Between, Curve, Key, hermite, monotone_slopes, with_key, with_value
from wertis.core.repair.points import through
from wertis.core.repair.smoothing import most_changed
from wertis.core.shot import edits, repairs, store
from wertis.core.shot.document import PlateRef, RepairLayer, Shot, SmoothingLayer, Track
from wertis.core.shot.motions import blend_motions, copy_motion
from wertis.core.shot.resolve import motion_of, tracked_motion

BETWEEN: tuple[Between, ...] = ("smooth", "straight", "held")
SQUARE = np.array([[100.0, 80], [300, 90], [290, 240], [110, 230]])


def moving(n: int = 21) -> Shot:
    """A shot whose track turns, grows and tilts, with four repair points and keys on some."""
    shot = Shot(plate=PlateRef(path="x", first=1, last=n, size=(480, 320)), range=(1, n))
    shot, track = edits.add_track(shot, SQUARE, 1, "Wall")
    fixes = {}
    for f in range(2, n + 1):
        k = (f - 1) / n
        turn = np.array([[np.cos(k), -np.sin(k) * 1.1, 20 * k], [np.sin(k), np.cos(k) * (1 + k), -8 * k], [2e-4 * k, -3e-4 * k, 1]])
        fixes[f] = Fix(turn, 0.05, 1.0)
    return edits.set_tracked(shot, track.id, fixes)


def keyed(between: Between = "smooth", fade: bool = True, points: int = 4) -> Shot:
    """The same with points, and keys on frames 6 and 15 for all but the last."""
    shot = moving()
    ident = shot.tracks[0].id
    for place in SQUARE[:points]:
        shot = repairs.add_point(shot, ident, place, 1)
    shot = repairs.set_repair(shot, ident, between=between, fade=fade)
    rng = np.random.default_rng(4)
    for frame in (6, 15):
        there = repairs.points_on(shot.tracks[0], frame)
        assert there is not None
        for k, point in list(enumerate(repair_points(shot)))[:max(1, points - 1)]:
            shot = repairs.move_points(shot, ident, frame, {point.id: there[k] + rng.normal(0, 3, 2)})
    return shot


def everywhere(track: Track) -> np.ndarray:
    """Where a grid of points is on all frames and between them."""
    motion = motion_of(track)
    assert motion is not None
    grid = np.array([[x, y] for x in (90.0, 200, 310) for y in (70.0, 160, 250)])
    return np.array([to_frame(motion, grid, t) for t in np.arange(1, 21, 0.5)])


class CurveTest(unittest.TestCase):
    def test_smooth_is_scipys_monotone_cubic(self) -> None:
        curve = Curve({5: Key((2.0, -1.0)), 9: Key((3.0, 4.0))}, reference=1)
        pchip = PchipInterpolator([1, 5, 9], [[0, 0], [2, -1], [3, 4]])
        for t in (1.5, 4, 5, 7.25):
            # the ends differ: the value holds beyond them, so the last key is left level only outside
            np.testing.assert_allclose(curve(t), pchip(t), atol=1e-12)
        rng = np.random.default_rng(4)
        for count in (2, 3, 4, 9):  # values that rise, turn and stand still
            frames = np.sort(rng.choice(60, count, replace=False))
            values = np.round(rng.normal(0, 3, (count, 2)))
            pchip = PchipInterpolator(frames, values)
            np.testing.assert_allclose(monotone_slopes(frames.astype(float), values), pchip.derivative()(frames), atol=1e-9)
            slopes = rng.normal(0, 2, (2, 2))
            spline = CubicHermiteSpline(frames[:2], values[:2], slopes)
            for t in np.linspace(frames[0], frames[1], 7):
                (a, b), ends = frames[:2, None].astype(float), (values[0], values[1], slopes[0], slopes[1])
                value, slope = hermite(a, b, *(v[None] for v in ends), np.array([t]))
                np.testing.assert_allclose(value[0], spline(t), atol=1e-9)
                np.testing.assert_allclose(slope[0], spline(t, 1), atol=1e-9)

    def test_where_values_hold_the_two_sides_of_the_reference_frame_are_apart(self) -> None:
        for between in BETWEEN:
            keys = with_value(with_value({}, 15, np.array([4.0, -2]), between, 10, False), 19, np.array([6.0, 1]), between, 10, False)
            before = Curve(keys, between, 10, False)
            self.assertEqual([before(t).tolist() for t in (3, 9, 10, 11, 15)], [[0, 0]] * 3 + [[4, -2]] * 2)
            for frame in (4, 12, 17):
                after = Curve(with_key(keys, frame, between, 10, False), between, 10, False)
                for time in np.linspace(0, 22, 89):
                    np.testing.assert_allclose(after(time), before(time), atol=1e-9)
            other = Curve(with_value(keys, 4, np.array([9.0, 9]), between, 10, False), between, 10, False)
            self.assertEqual(other(9).tolist(), [9, 9])
            np.testing.assert_allclose(other(16), before(16), atol=1e-9)

    def test_straight_hold_and_fade(self) -> None:
        keys = {5: Key((4.0, 8.0)), 9: Key((0.0, 0.0))}
        self.assertEqual(Curve(keys, "straight", 1)(3).tolist(), [2.0, 4.0])
        held = Curve(keys, "straight", 1, fade=False)
        self.assertEqual([held(1).tolist(), held(2).tolist(), held(20).tolist()], [[0, 0], [4, 8], [0, 0]])

    def test_a_new_key_changes_the_curve_nowhere(self) -> None:
        times = np.arange(0, 30, 0.25)
        for between in BETWEEN:
            for fade in (True, False):
                keys = with_value(with_value({}, 4, np.array([3.0, -2]), between, 10, fade), 20, np.array([-5.0, 1]), between, 10, fade)
                before = Curve(keys, between, 10, fade)
                for frame in (2, 7, 15, 26):
                    after = Curve(with_key(keys, frame, between, 10, fade), between, 10, fade)
                    np.testing.assert_allclose(after(times), before(times), atol=1e-9)

    def test_many_times_at_once_are_the_times_one_by_one(self) -> None:
        times = np.linspace(-2, 30, 65)
        for between in BETWEEN:
            curve = Curve({4: Key((3.0, -2.0, 7.0)), 20: Key((-5.0, 1.0, 0.0)), 24: Key((1.0, 1.0, 1.0))}, between, 10)
            np.testing.assert_array_equal(curve(times), [curve(t) for t in times])
            self.assertEqual(curve(times).shape, (65, 3))

    def test_held_values_change_on_their_keys(self) -> None:
        curve = Curve({4: Key((1.0,)), 8: Key((2.0,))}, "held")
        self.assertEqual(curve(np.array([3, 4, 7.9, 8, 90.0]))[:, 0].tolist(), [1, 1, 1, 2, 2])


class PointsTest(unittest.TestCase):
    def test_each_number_of_points_has_its_motion(self) -> None:
        rng = np.random.default_rng(7)
        for n in (1, 2, 3, 4):
            target = SQUARE[:n] + rng.normal(0, 4, (n, 2))
            found = through(SQUARE[:n], target)
            np.testing.assert_allclose(homography.apply(found, SQUARE[:n]), target, atol=1e-6)
            if n < 4:
                np.testing.assert_array_equal(found[2], [0, 0, 1])
            if n == 2:  # a likeness keeps angles
                np.testing.assert_allclose(found[0, 0], found[1, 1], atol=1e-9)
                np.testing.assert_allclose(found[0, 1], -found[1, 0], atol=1e-9)

    def test_points_on_a_line_leave_shear_out(self) -> None:
        line = np.array([[0.0, 0], [50, 50], [100, 100]])
        found = through(line, line + [3, -1])
        np.testing.assert_allclose(found, [[1, 0, 3], [0, 1, -1], [0, 0, 1]], atol=1e-9)


class BeyondTheHorizonTest(unittest.TestCase):
    def test_a_point_without_an_image_does_not_count(self) -> None:
        source = np.array([[10.0, 10], [90, 12], [88, 80], [12, 78], [50, 40]])
        target = source + [[1.0, 2], [2, 2], [3, 1], [1, 1], [2, 1.5]]
        broken = source.copy()
        broken[4] = np.nan
        np.testing.assert_allclose(through(broken, target), through(source[:4], target[:4]))
        np.testing.assert_array_equal(through(np.full((3, 2), np.nan), target[:3]), np.eye(3))


class KeysTest(unittest.TestCase):
    def test_setting_any_kind_of_key_moves_nothing_on_any_frame(self) -> None:
        for between in BETWEEN:
            for fade in (True, False):
                for points in (1, 2, 3, 4):
                    shot = keyed(between, fade, points)
                    before = everywhere(shot.tracks[0])
                    for frame in (3, 9, 18):
                        shot = repairs.set_key(shot, shot.tracks[0].id, frame)
                    self.assertLess(np.abs(everywhere(shot.tracks[0]) - before).max(), 1e-6)
                    self.assertEqual(shot.tracks[0].layer(RepairLayer).frames(1), [3, 6, 9, 15, 18])

    def test_a_point_added_later_disturbs_nothing(self) -> None:
        for points in (1, 2, 3):
            shot = keyed(points=points)
            before = everywhere(shot.tracks[0])
            again = repairs.add_point(shot, shot.tracks[0].id, np.array([250.0, 150]), 12)
            self.assertLess(np.abs(everywhere(again.tracks[0]) - before).max(), 1e-6)
            where = repairs.points_on(again.tracks[0], 12)
            assert where is not None
            np.testing.assert_allclose(where[-1], [250, 150], atol=1e-6)

    def test_points_added_one_after_another_cost_in_proportion_to_their_number(self) -> None:
        """What a motion evaluates is counted, not timed: a point with keys between used to double all that was beneath it."""
        def evaluations(points: int) -> int:
            shot, rng = moving(), np.random.default_rng(3)
            ident = shot.tracks[0].id
            for k in range(points):
                shot = repairs.add_point(shot, ident, np.array([120.0 + 17 * k, 100 + 13 * (k % 7)]), 1)
                at = repairs.points_on(shot.tracks[0], 8)
                assert at is not None
                shot = repairs.move_points(shot, ident, 8, {repair_points(shot)[-1].id: at[-1] + rng.normal(0, 1, 2)})
            self.assertEqual(len(shot.tracks[0].layer(RepairLayer).snapshots), points - 1)
            with mock.patch.object(Curve, "__call__", autospec=True, side_effect=Curve.__call__) as evaluated:
                self.assertTrue(np.isfinite(to_frame(motion_of(shot.tracks[0]), SQUARE, 12.0)).all())
            return int(evaluated.call_count)

        self.assertLessEqual(evaluations(10), 5 * evaluations(5))

    def test_a_key_on_one_point_leaves_the_others_alone_on_all_frames(self) -> None:
        shot = keyed()
        track = shot.tracks[0]
        after = repairs.move_points(shot, track.id, 10, {track.layer(RepairLayer).points[2].id: np.array([260.0, 200])})
        for frame in range(1, 22):
            a, b = repairs.points_on(track, frame), repairs.points_on(after.tracks[0], frame)
            assert a is not None and b is not None
            np.testing.assert_allclose(np.delete(b, 2, 0), np.delete(a, 2, 0), atol=1e-9)

    def test_off_gives_the_tracked_motion_back_and_the_reference_is_never_repaired(self) -> None:
        shot = keyed()
        track = shot.tracks[0]
        assert motion_of(track) is not None and tracked_motion(track) is not None
        np.testing.assert_array_equal(plane_at(motion_of(track), 1), np.eye(3))
        self.assertGreater(np.abs(plane_at(motion_of(track), 6) - plane_at(tracked_motion(track), 6)).max(), 1e-3)
        off = repairs.set_enabled(shot, track.id, False).tracks[0]
        assert motion_of(off) is not None and tracked_motion(off) is not None and track.solution is not None and off.solution is track.solution
        for frame, matrix in zip(track.solution.frames, track.solution.matrices, strict=True):
            self.assertEqual(plane_at(motion_of(off), int(frame)).tobytes(), matrix.tobytes() if frame != 1 else np.eye(3).tobytes())

    def test_keys_move_copy_and_clear(self) -> None:
        shot = keyed()
        ident = shot.tracks[0].id
        moved = repairs.move_key(shot, ident, 6, 8)
        self.assertEqual(moved.tracks[0].layer(RepairLayer).frames(1), [8, 15])
        copied = repairs.move_key(moved, ident, 8, 3, copy=True)
        self.assertEqual(copied.tracks[0].layer(RepairLayer).frames(1), [3, 8, 15])
        self.assertEqual(repairs.next_key(copied.tracks[0], 8, 1), 15)
        self.assertEqual(repairs.next_key(copied.tracks[0], 8, -1), 3)
        first = repair_points(copied)[0].id
        one = repairs.clear_keys(copied, ident, 8, [first])
        self.assertEqual(sorted(f for f in repair_points(one)[0].keys if f != 1), [3, 15])
        self.assertIn(8, one.tracks[0].layer(RepairLayer).frames(1))
        self.assertEqual(repairs.clear_keys(copied, ident).tracks[0].layer(RepairLayer).frames(1), [])
        with self.assertRaisesRegex(RegionError, "reference frame"):
            repairs.move_points(shot, ident, 1, {first: np.zeros(2)})


class MotionsTest(unittest.TestCase):
    def test_smoothing_takes_jitter_away_and_leaves_the_reference_and_the_repairs(self) -> None:
        shot = moving(41)
        track = shot.tracks[0]
        assert track.solution is not None and tracked_motion(track) is not None
        rng = np.random.default_rng(3)
        shaken = track.solution.matrices.copy()
        shaken[1:, :2, 2] += rng.normal(0, 1.5, (40, 2))
        jittery = track.but(solution=track.solution.but(matrices=shaken))
        smooth = jittery.with_layer(SmoothingLayer(width=12.0))
        assert motion_of(smooth) is not None and motion_of(jittery) is not None
        np.testing.assert_array_equal(plane_at(motion_of(smooth), 1), np.eye(3))

        def rough(t: Track) -> float:
            assert motion_of(t) is not None
            path = np.array([to_frame(motion_of(t), SQUARE, f) for f in range(2, 42)])
            return float(np.abs(np.diff(path, 2, axis=0)).mean())

        self.assertLess(rough(smooth), 0.25 * rough(jittery))
        self.assertIs(motion_of(smooth.with_layer(SmoothingLayer())).__class__, motion_of(jittery).__class__)
        most, frame = most_changed(moved(jittery), moved(smooth), track.region.box)
        self.assertGreater(most, 0.5)
        self.assertNotEqual(frame, 1)
        # a motion without jitter is hardly touched
        clean = track.with_layer(SmoothingLayer(width=8.0))
        self.assertLess(most_changed(moved(track), moved(clean), track.region.box)[0], 0.3)
        keyed_ = keyed()
        again = keyed_.tracks[0].with_layer(SmoothingLayer(width=5.0))
        self.assertEqual(again.layer(RepairLayer), keyed_.tracks[0].layer(RepairLayer))

    def test_motion_is_copied_with_or_without_repairs(self) -> None:
        shot = keyed()
        source = shot.tracks[0]
        shot, other = edits.add_track(shot, SQUARE + 12, 8, "Copy")
        assert motion_of(source) is not None and tracked_motion(source) is not None
        for repaired, motion in ((True, motion_of(source)), (False, tracked_motion(source))):
            copy = copy_motion(shot, source.id, other.id, repaired).track(other.id)
            assert copy is not None and motion_of(copy) is not None
            for frame in (1, 6, 15, 21):
                np.testing.assert_allclose(to_frame(motion_of(copy), SQUARE, frame), to_frame(motion, to_reference(motion, SQUARE, 8), frame), atol=1e-6)
        with self.assertRaisesRegex(RegionError, "no answer"):
            copy_motion(shot, other.id, source.id)

    def test_two_motions_are_blended_over_a_range(self) -> None:
        shot = moving()
        first = shot.tracks[0]
        shot, second = edits.add_track(shot, SQUARE, 1, "Second")
        shot = edits.set_tracked(shot, second.id, {f: Fix(np.array([[1.0, 0, 40], [0, 1, 0], [0, 0, 1]]), 0.1, 1.0) for f in range(2, 22)})
        shot, target = edits.add_track(shot, SQUARE, 1, "Both")
        both = blend_motions(shot, first.id, second.id, target.id, 8, 12).track(target.id)
        assert both is not None and motion_of(both) is not None and motion_of(first) is not None
        np.testing.assert_allclose(to_frame(motion_of(both), SQUARE, 8), to_frame(motion_of(first), SQUARE, 8), atol=1e-6)
        np.testing.assert_allclose(to_frame(motion_of(both), SQUARE, 15), SQUARE + [40, 0], atol=1e-6)
        box = target.region.box
        np.testing.assert_allclose(to_frame(motion_of(both), box, 10), (to_frame(motion_of(first), box, 10) + box + [40, 0]) / 2, atol=1e-6)
        with self.assertRaisesRegex(RegionError, "must end after"):
            blend_motions(shot, first.id, second.id, target.id, 8, 8)


class LoopTest(Folder):
    def truth_errors(self, shot: Shot, made: PlaneShot) -> np.ndarray:
        motion = motion_of(shot.tracks[0])
        assert motion is not None
        return np.array([np.linalg.norm(to_frame(motion, made.region, 1001 + i) - made.truth(i), axis=1).max() for i in range(len(made.frames))])

    def test_a_slow_drift_is_mended_with_few_keys(self) -> None:
        made = PlaneShot(n=24)
        shot = drifting(made, made.write(self.folder / "plate"))
        ident, plate = shot.tracks[0].id, FramesPlate(made.frames)

        class Numbered(FramesPlate):
            def read(self, frame: int) -> np.ndarray:
                return plate.read(frame - 1001)

        numbered = Numbered(made.frames)
        numbered.first, numbered.last = 1001, 1024  # type: ignore[misc]
        self.assertGreater(self.truth_errors(shot, made).max(), 8)
        outcome = finished(repair_by_itself(shot, ident, numbered, 0.3))
        self.assertLessEqual(len(outcome.frames), 5)
        after = self.truth_errors(outcome.shot, made)
        self.assertGreaterEqual((after < 0.3).mean(), 0.95)
        # by hand: two keys, where each point finds its own place
        by_hand = with_points(shot, ident)
        for frame in (1024, 1012):
            found = find_places(by_hand, by_hand.tracks[0], numbered, frame)
            places = {i: p for i, p in found.items() if isinstance(p, np.ndarray)}
            self.assertEqual(len(places), 4, found)
            by_hand = repairs.move_points(by_hand, ident, frame, places)
        self.assertLess(self.truth_errors(by_hand, made).max(), 1.0)

    def test_repairs_survive_saving(self) -> None:
        made = PlaneShot(n=3)
        shot = drifting(made, made.write(self.folder / "plate"))
        shot = with_points(shot, shot.tracks[0].id)
        point = repair_points(shot)[1].id
        shot = repairs.move_points(shot, shot.tracks[0].id, 1003, {point: np.array([300.0, 90])})
        shot = repairs.add_point(shot, shot.tracks[0].id, np.array([200.0, 150]), 1002)
        store.save(shot, self.folder / "s.wertis")
        again = store.load(self.folder / "s.wertis")
        self.assertEqual(again.tracks[0].layer(RepairLayer), shot.tracks[0].layer(RepairLayer))

    def test_the_command(self) -> None:
        made = PlaneShot(n=10)
        store.save(drifting(made, made.write(self.folder / "plate")), self.folder / "s.wertis")
        code, words, err = command("repair", str(self.folder / "s.wertis"), "--track", "Wall", "--limit", "0.5", "--quiet",
                                   "--out", str(self.folder / "r.wertis"))
        self.assertEqual((code, err), (0, ""), words)
        self.assertIn("keys set", words)
        self.assertLess(self.truth_errors(store.load(self.folder / "r.wertis"), made).max(), 0.6)
        self.assertGreater(self.truth_errors(store.load(self.folder / "s.wertis"), made).max(), 5)
        self.assertEqual(command("repair", str(self.folder / "s.wertis"), "--track", "Wall", "--limit", "0")[0], 1)


class RepairWindowTest(WindowCase):
    def test_worst_first_by_match_and_by_dragging_in_the_steady_view_then_undo_and_redo(self) -> None:
        path = self.folder / "s.wertis"
        store.save(drifting(self.made, self.plate), path)
        w, s = self.window, self.window.session
        w.open_path(path)
        self.until(lambda: len(s.drift) == 8)
        spoilt = s.shot
        s.go_step("Repair")
        w.steps["Repair"].page.points.buttons["corners"].click()
        self.assertEqual(len(repair_points(s.shot)), 4)
        w.viewer.setFocus()
        self.key(Qt.Key.Key_W)
        self.assertEqual(s.frame, 1008)
        self.until(lambda: isinstance(s.cache.peek(1008), np.ndarray) if s.cache else False)
        self.key(Qt.Key.Key_M)
        self.assertIn("4 of 4", w.words.text())
        # one corner is dragged away and back in the steady view
        self.until(lambda: w.steady.through is not None and w.steady.picture is not None)
        self.spin(0.1)
        there = repairs.points_on(s.shot.tracks[0], 1008)
        assert there is not None

        def on_steady(point: np.ndarray):  # type: ignore[no-untyped-def]
            from PySide6.QtCore import QPoint
            x, y = w.steady.to_screen(point[None])[0]
            return QPoint(round(x), round(y))

        start = on_steady(there[2])
        QTest.mousePress(w.steady, Qt.MouseButton.LeftButton, pos=start)
        QTest.mouseMove(w.steady, start + on_steady(there[2] + [6, 0]) - on_steady(there[2]))
        QTest.mouseRelease(w.steady, Qt.MouseButton.LeftButton, pos=start + on_steady(there[2] + [6, 0]) - on_steady(there[2]))
        w.steps["Repair"].do("remove")  # the point just dragged is the chosen one
        self.assertEqual(len(repair_points(s.shot)), 3)
        w.undo()
        moved = repairs.points_on(s.shot.tracks[0], 1008)
        assert moved is not None
        np.testing.assert_allclose(moved[2] - there[2], [6, 0], atol=1.5)
        np.testing.assert_allclose(np.delete(moved, 2, 0), np.delete(there, 2, 0), atol=1e-6)
        w.undo()
        mended = s.shot
        motion = motion_of(mended.tracks[0])
        assert motion is not None
        worst = max(np.linalg.norm(to_frame(motion, self.made.region, 1001 + i) - self.made.truth(i), axis=1).max() for i in range(8))
        self.assertLess(worst, 1.0)
        self.until(lambda: len(s.drift) == 8 and all(np.isfinite(x.worst) and x.worst < 1 for x in s.drift.values()))
        while s.history.undo_label:
            w.undo()
        self.assertEqual(s.shot.tracks[0].layer(RepairLayer), spoilt.tracks[0].layer(RepairLayer))
        while s.history.redo_label and s.shot.tracks[0].layer(RepairLayer) != mended.tracks[0].layer(RepairLayer):
            w.redo()
        self.assertEqual(s.shot.tracks[0], mended.tracks[0])

    def test_by_itself_and_a_key_dragged_on_the_lane(self) -> None:
        path = self.folder / "s.wertis"
        store.save(drifting(self.made, self.plate), path)
        w, s = self.window, self.window.session
        w.open_path(path)
        s.go_step("Repair")
        w.steps["Repair"].page.points.buttons["itself"].click()
        self.until(lambda: w.job is None and bool(repair_points(s.shot)))
        self.assertIn("px now", w.words.text())
        key = s.shot.tracks[0].layer(RepairLayer).frames(1001)[-1]
        lanes = w.lanes
        from PySide6.QtCore import QPoint
        y = 22 + 16 + 6 + 46 - 5
        QTest.mousePress(lanes, Qt.MouseButton.LeftButton, pos=QPoint(round(lanes.x_of(key)), y))
        QTest.mouseMove(lanes, QPoint(round(lanes.x_of(1006)), y))
        QTest.mouseRelease(lanes, Qt.MouseButton.LeftButton, pos=QPoint(round(lanes.x_of(1006)), y))
        self.assertIn(1006, s.shot.tracks[0].layer(RepairLayer).frames(1001))
        self.assertNotIn(key, s.shot.tracks[0].layer(RepairLayer).frames(1001))


    def test_frames_that_are_not_touched_are_named_with_the_reason(self) -> None:
        path = self.folder / "s.wertis"
        store.save(drifting(self.made, self.plate), path)
        for frame in (1004, 1005):
            write_picture(next(self.plate.glob(f"*{frame}*")), np.full_like(self.made.frames[0], 90))
        w, s = self.window, self.window.session
        w.open_path(path)
        s.go_step("Repair")
        page = w.steps["Repair"].page.points
        self.assertFalse(page.untouched.isVisible())
        page.buttons["itself"].click()
        self.until(lambda: w.job is None and bool(repair_points(s.shot)))
        self.assertRegex(page.untouched.text(), r"Not touched: 1004-1005, \w+")
        self.assertTrue(page.untouched.isVisible())
        self.assertIn("2 frames were not touched", w.words.toolTip())
        s.go(1004)
        w.steps["Repair"].do("key")  # put right by hand
        self.assertRegex(page.untouched.text(), r"Not touched: 1005, \w+")
        self.assertEqual(stretches([9, 3, 4, 5, 1]), "1, 3-5, 9")


class SpoilTest(unittest.TestCase):
    def test_the_spoilt_tracks_are_spoilt(self) -> None:
        for name in ("shift", "corner", "turn"):
            self.assertGreater(np.abs(spoil(name, 1.0, SQUARE)).max(), 1)


if __name__ == "__main__":
    unittest.main()
