"""Mattes shaped in the window: points of several shapes turned and scaled, soft edges and handles dragged, lines, groups, binding, edges followed."""

import unittest
from unittest import mock

import cv2
import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor
from PySide6.QtTest import QTest

from tests.test_mattes import open_film, outline, tracked
from tests.test_window import WindowCase
from wertis.core.geometry import polygon
from wertis.core.matte.edge_path import EdgePaths, natural_roundness
from wertis.core.matte.outline import bezier, flattened, nearest_place
from wertis.core.shot import matte_edits
from wertis.core.shot.matte_carry import points_on
from wertis.core.shot.mattes import MatteSource
from wertis.core.shot.plate_pictures import file_picture

SHIFT = Qt.KeyboardModifier.ShiftModifier


class EdgePathTest(unittest.TestCase):
    def test_the_way_goes_round_a_disc(self) -> None:
        y, x = np.mgrid[0:200, 0:240] + 0.5
        rng = np.random.default_rng(1)
        picture = np.where((np.hypot(x - 120, y - 100) < 60)[..., None], [0.8, 0.4, 0.3], [0.2, 0.5, 0.4]) + rng.normal(0, 0.02, (200, 240, 3))
        paths = EdgePaths(picture.astype(np.float32))
        begin = paths.snapped(np.array([181.5, 100.0]))
        self.assertAlmostEqual(float(np.linalg.norm(begin - [120, 100])), 60, delta=1.5)
        paths.begin(begin)
        way = paths.to(np.array([120.0, 160.5]))
        self.assertLess(np.abs(np.linalg.norm(way - [120, 100], axis=1) - 60).max(), 2.0)
        self.assertGreater(len(way), 70)  # along the arc, not across
        np.testing.assert_allclose(paths.to(np.array([5000.0, 0])), [begin, [5000, 0]])

    def test_sharp_turns_are_corners(self) -> None:
        square = np.array([[0.0, 0], [50, 0], [100, 0], [100, 100], [0, 100]])
        np.testing.assert_array_equal(natural_roundness(square), [0, 1, 0, 0, 0])
        np.testing.assert_array_equal(natural_roundness(square[:4], closed=False), [1, 1, 0, 1])


class MatteToolTest(WindowCase):
    def setUp(self) -> None:
        super().setUp()
        w, s = self.window, self.window.session
        open_film(self)
        track = tracked()
        shot, matte = matte_edits.add_matte(s.shot.but(tracks=(track,)), track, 1)
        shot = matte_edits.add_shape(shot, matte.id, outline(1), 1)
        shot = matte_edits.add_shape(shot, matte.id, np.array([[40.0, 40], [110, 50], [100, 120], [30, 110]]), 1, roundness=0.0)
        s.history.do("Begin", shot)
        self.ident = matte.id
        s.go_step("Use")
        s.select(track.id, matte.id)
        self.spin()
        self.step, self.page = w.steps["Use"], w.steps["Use"].page.matte

    def tool(self):  # type: ignore[no-untyped-def]
        return self.window.viewer.tool

    def points(self, k: int, frame: int = 1) -> np.ndarray:
        matte = self.page.matte
        found = points_on(self.window.session.shot, matte, matte.shapes[k], frame)
        assert found is not None
        return found

    def test_several_shapes_are_chosen_turned_scaled_and_moved(self) -> None:
        before = [self.points(0), self.points(1)]
        self.drag(np.array([2.0, 2]), np.array(self.window.session.plate.size) - 2.0, SHIFT)
        self.assertEqual({k: len(v) for k, v in self.tool().chosen.items()}, {self.page.matte.shapes[0].id: 8, self.page.matte.shapes[1].id: 4})
        self.window.viewer.grab()
        low, high, centre = self.tool().frame()
        np.testing.assert_allclose(centre, (low + high) / 2)
        corner = high
        self.drag(corner, centre + (corner - centre) * 1.2)
        for k in (0, 1):
            np.testing.assert_allclose(self.points(k), centre + (before[k] - centre) * 1.2, atol=1.0)
        low, high, centre = self.tool().frame()
        self.drag(centre, np.array([60.0, 200]))  # another centre to turn about
        np.testing.assert_allclose(self.tool().frame()[2], [60, 200], atol=1.5)
        middle, scaled = self.tool().frame()[2], [self.points(0), self.points(1)]
        knob = self.tool()._turner(low, high)
        turn = np.deg2rad(10)
        matrix = np.array([[np.cos(turn), -np.sin(turn)], [np.sin(turn), np.cos(turn)]])
        self.drag(knob, middle + matrix @ (knob - middle))
        for k in (0, 1):
            np.testing.assert_allclose(self.points(k), middle + (scaled[k] - middle) @ matrix.T, atol=2.5)
        here = self.points(1)
        QTest.keyClick(self.window.viewer, Qt.Key.Key_Right, Qt.KeyboardModifier.AltModifier)
        np.testing.assert_allclose(self.points(1), here + [1, 0], atol=1e-6)
        self.assertEqual(self.window.session.history.undo_label, "Move the shape")

    def test_a_soft_edge_is_dragged_on_the_picture(self) -> None:
        self.click(self.points(1)[0])
        self.window.viewer.grab()
        marks = {name: place for _, name, place in self.tool()._soft_marks(self.tool()._shapes()[-1])}
        away = marks["outer"] - self.points(1)[0]
        away /= np.linalg.norm(away)
        self.drag(marks["outer"], marks["outer"] + 20 * away)
        shape = self.page.matte.shapes[1]
        self.assertAlmostEqual(shape.outer[0], 20, delta=1.5)
        self.assertEqual(shape.outer[1:], (0.0, 0.0, 0.0))
        self.assertEqual(shape.inner[0], 0)
        np.testing.assert_allclose(self.points(1)[0], [40, 40], atol=0.6)  # the outline itself stays

    def test_handles_are_dragged_and_stay_one_line(self) -> None:
        self.page.hand.take(self.page.matte.shapes[0].id)
        self.spin()
        self.page.shapes.handles.click()
        self.assertTrue(self.page.in_hand.handled)
        self.click(self.points(0)[2])
        self.window.viewer.grab()
        before = self.tool()._shapes()[-1].controls
        self.drag(before[2, 2], before[2, 2] + [14, 6])
        after = self.tool()._shapes()[-1].controls
        np.testing.assert_allclose(after[2, 2], before[2, 2] + [14, 6], atol=1.5)
        np.testing.assert_allclose(after[2, 0], before[2, 0], atol=1e-6)
        a, b = after[2, 1] - after[2, 0], after[2, 2] - after[2, 0]
        self.assertAlmostEqual(float(a @ b) / np.linalg.norm(a) / np.linalg.norm(b), -1, places=3)
        np.testing.assert_allclose(np.linalg.norm(a), np.linalg.norm(before[2, 1] - before[2, 0]), rtol=1e-3)
        self.page.shapes.handles.click()
        self.assertFalse(self.page.in_hand.handled)

    def test_points_come_and_go_and_what_moving_sets_is_chosen(self) -> None:
        w, s = self.window, self.window.session
        line = self.tool()._shapes()[-1].line
        w.viewer.tool.double((line[0] + line[1]) / 2, 10)
        self.assertEqual(self.page.in_hand.count, 5)
        self.page.keys.reach.setCurrentIndex(self.page.keys.reach.findData("there"))
        s.go(5)
        self.spin()
        here = self.points(1, 5)
        self.drag(here[0], here[0] + [10, 10])
        np.testing.assert_allclose(self.points(1, 5), here)
        self.assertIn("no key on this frame", w.words.text())
        self.page.buttons["key"].click()
        self.drag(here[0], here[0] + [10, 10])
        np.testing.assert_allclose(self.points(1, 5)[0], here[0] + [10, 10], atol=1.5)
        self.page.buttons["before"].click()
        self.assertEqual(s.frame, 1)
        self.page.buttons["after"].click()
        self.assertEqual(s.frame, 5)
        self.page.keys.reach.setCurrentIndex(self.page.keys.reach.findData("span"))
        self.page.keys.show_state()
        self.page.keys.first.setValue(1)
        self.page.keys.last.setValue(12)
        first, here = self.points(1, 1), self.points(1, 5)
        self.drag(here[2], here[2] + [6, 0])
        self.assertGreater(np.abs(self.points(1, 1) - first).max(), 3)
        QTest.keyClick(w.viewer, Qt.Key.Key_Delete)
        self.assertEqual(self.page.in_hand.count, 4)
        self.page.buttons["thin"].click()
        self.assertIn("keys", w.words.text())

    def test_groups_names_and_order_in_the_list(self) -> None:
        tree = self.page.shapes.list
        tree.topLevelItem(0).setText(0, "Arm")
        self.spin()
        self.assertEqual(self.page.matte.shapes[0].name, "Arm")
        tree.topLevelItem(1).setCheckState(0, Qt.CheckState.Unchecked)
        self.spin()
        self.assertFalse(self.page.matte.shapes[1].visible)
        tree.topLevelItem(1).setCheckState(0, Qt.CheckState.Checked)
        self.spin()
        tree.selectAll()
        self.spin()
        self.page.buttons["group"].click()
        self.assertEqual([s.group for s in self.page.matte.shapes], [self.page.matte.groups[0].id] * 2)
        self.assertEqual(tree.topLevelItem(0).childCount(), 2)
        self.assertEqual(self.page.shapes.buttons["group"].text(), "Ungroup")
        self.page.shapes.opacity.setValue(40)
        self.assertEqual(self.page.matte.groups[0].opacity, 0.4)
        self.page.shapes.combine.setCurrentIndex(1)
        self.page.shapes.combine.activated.emit(1)
        self.assertEqual(self.page.matte.groups[0].combine, "subtract")
        self.page.buttons["group"].click()
        self.assertEqual(self.page.matte.groups, ())
        tree.setCurrentItem(tree.topLevelItem(1))
        self.spin()
        self.page.buttons["sooner"].click()
        self.assertEqual(self.page.matte.shapes[1].name, "Arm")
        self.page.buttons["copy"].click()
        self.assertEqual(len(self.page.matte.shapes), 3)
        self.page.shapes.lock.click()
        self.assertTrue(self.page.in_hand.locked)
        with mock.patch("wertis.app.steps.use.mattes.shape_fields.QColorDialog.getColor", return_value=QColor(10, 200, 30)):
            self.page.shapes.colour.click()
        self.assertAlmostEqual(self.page.in_hand.colour[1], 200 / 255, places=2)

    def test_an_open_line_gets_a_colour(self) -> None:
        w, s = self.window, self.window.session
        self.page.shapes.way.setCurrentIndex(self.page.shapes.way.findData("line"))
        self.page.buttons["draw"].click()
        self.spin()
        for place in ((60.0, 200), (140, 240), (260, 215)):
            self.click(np.array(place))
        QTest.keyClick(w.viewer, Qt.Key.Key_Return)
        shape = self.page.in_hand
        self.assertEqual((shape.count, shape.closed, shape.stroke.widths[0]), (3, False, 6.0))
        self.page.shapes.dash.setValue(12)
        self.page.shapes.gap.setValue(5)
        self.page.shapes.line_width.setValue(9)
        self.page.shapes.end.setValue(50)
        stroke = self.page.in_hand.stroke
        self.assertEqual((stroke.dash, stroke.gap, stroke.widths, stroke.end), (12, 5, (9.0,) * 3, {1: 0.5}))
        self.page.shapes.closed.click()
        self.assertTrue(self.page.in_hand.closed)
        self.step.page.paint_on.click()
        fill = self.step.page.fill
        self.assertEqual((fill.fill.limited_to, fill.fill.blend), ((self.ident,), "plus-lighter"))
        self.assertTrue(fill.isVisibleTo(w) and not self.page.isVisibleTo(w))
        fill.near.setValue(3)
        fill.wide.setValue(0)
        fill.opacity.setValue(50)
        fill.blend.setCurrentIndex(fill.blend.findData("screen"))
        fill.blend.activated.emit(0)
        with mock.patch("wertis.app.steps.use.fill_fields.QColorDialog.getColor", return_value=QColor(0, 0, 255)):
            fill.colour.click()
        self.assertEqual((fill.fill.glow, fill.fill.opacity, fill.fill.blend, fill.fill.colour), ((3.0,), 0.5, "screen", (0.0, 0.0, 1.0)))
        self.until(lambda: w.viewer.picture is not None and w.viewer.picture_frame == s.frame)

    def test_points_are_bound_and_one_is_left_out(self) -> None:
        self.page.bring(2)
        self.page.hand.take(self.page.matte.shapes[1].id)
        self.page.buttons["bind"].click()
        names = {a.name for row in self.page.in_hand.bound for a in row}
        self.assertLessEqual(names, {"0", "1", "2", "3"})
        self.window.viewer.grab()
        gone = self.page.keys.anchors.currentData()[3]
        self.page.keys.leave.click()
        self.assertNotIn(gone, {a.name for row in self.page.in_hand.bound for a in row})
        self.page.buttons["unbind"].click()
        self.assertEqual(self.page.in_hand.bound, ())

    def test_points_are_brought_to_the_edge_and_the_edge_is_tried(self) -> None:
        w, s = self.window, self.window.session
        self.page.hand.take(self.page.matte.shapes[0].id)
        s.history.do("Spoil", matte_edits.key_shape(s.shot, self.ident, self.page.in_hand.id, 1, outline(1) + [0, 0]))
        s.history.do("Key", matte_edits.key_shape(s.shot, self.ident, self.page.in_hand.id, 6, outline(6)))
        spoilt = outline(1).copy()
        spoilt[[1, 2]] += [4, 0]
        s.history.do("Spoil", matte_edits.key_shape(s.shot, self.ident, self.page.in_hand.id, 1, spoilt))
        self.spin()
        self.page.bring(3)
        self.assertFalse(self.page.buttons["snap"].isEnabled())  # no point is chosen
        self.tool().chosen = {self.page.in_hand.id: {1, 2}}
        self.page.hand.chosen = self.tool().chosen
        self.page.show_state()
        self.page.buttons["snap"].click()
        moved = self.points(0)
        np.testing.assert_allclose(np.delete(moved, [1, 2], 0), np.delete(spoilt, [1, 2], 0), atol=1e-6)
        truth = flattened(bezier(outline(1), np.ones(8)))
        for k in (1, 2):  # where along the edge they are nobody can tell
            self.assertLess(nearest_place(*truth, 8, moved[k])[0], 0.35 * nearest_place(*truth, 8, spoilt[k])[0])
        self.page.bring(1)
        self.page.shapes.outer.setValue(4)
        self.page.shapes.inner.setValue(4)
        self.page.whole.preview.click()
        self.until(lambda: w.viewer.picture is not None and w.viewer.picture_frame == 1 and np.ptp(w.viewer.picture[:3, :3]) == 0, 200)
        self.assertEqual(self.page.matte.edge, "drawn")
        self.page.whole.preview.click()
        self.page.whole.source.setCurrentIndex(self.page.whole.source.findData("brightness"))
        self.page.whole.source.activated.emit(0)
        self.page.whole.low.setValue(70)
        self.assertEqual((self.page.matte.source.kind, self.page.matte.source.low), ("brightness", 0.7))
        self.page.whole.measured.click()
        self.until(lambda: w.job is None, 60)

    def test_a_matte_file_that_changed_is_read_again(self) -> None:
        path = str(self.folder / "matte.png")
        cv2.imwrite(path, np.full((20, 30), 255, np.uint8))
        self.assertEqual(file_picture(path, 1).max(), 255)  # type: ignore[union-attr]
        cv2.imwrite(path, np.zeros((20, 30), np.uint8))
        self.step.reread()
        self.assertEqual(file_picture(path, 1).max(), 0)  # type: ignore[union-attr]

    def test_only_what_a_source_takes_is_asked(self) -> None:
        whole = self.page.whole
        self.page.bring(1)
        for kind, asked in (("brightness", [True, False, False, True]), ("colour", [False, True, True, True]), ("difference", [False, False, True, True])):
            whole.hand.set_matte("Draw on", source=MatteSource(kind=kind, colour=(0.2, 0.4, 0.6)))
            self.spin()
            self.assertEqual([w.isVisibleTo(whole) for w in (whole.low, whole.colour, whole.reach, whole.soft)], asked)
        self.assertEqual(whole.colour.text(), "#336699")

    def test_what_no_track_carries_stays_selected_while_it_is_changed(self) -> None:
        w, s = self.window, self.window.session
        w.outline.carry_current("")
        self.spin()
        self.assertEqual((s.track_id, s.place.item_id, self.page.matte.on), ("", self.ident, ""))
        self.assertEqual(w.outline.currentItem().text(0), self.page.matte.name)
        self.page.shapes.outer.setValue(5)
        self.spin()
        self.assertEqual((s.track_id, s.place.item_id), ("", self.ident))
        self.assertTrue(self.page.isVisibleTo(w))
        here = self.points(1)
        self.drag(here[0], here[0] + [8, 3])
        np.testing.assert_allclose(self.points(1)[0], here[0] + [8, 3], atol=1.5)
        w.outline.remove_current()
        self.spin()
        self.assertIsNone(s.shot.item(self.ident))
        self.assertEqual(s.track_id, s.shot.tracks[0].id)

    def test_the_line_follows_the_edge(self) -> None:
        w = self.window
        self.page.shapes.way.setCurrentIndex(self.page.shapes.way.findData("edge"))
        self.page.buttons["draw"].click()
        self.spin()
        for place in outline(1)[::2]:
            self.click(place)
        QTest.keyClick(w.viewer, Qt.Key.Key_Return)
        self.until(lambda: len(self.page.matte.shapes) == 3)
        drawn, meant = (polygon.fill(p, w.session.plate.size) > 0 for p in (self.points(2), self.points(0)))
        self.assertGreater((drawn & meant).sum() / (drawn | meant).sum(), 0.9)
        self.page.shapes.way.setCurrentIndex(self.page.shapes.way.findData("ellipse"))
        self.page.buttons["draw"].click()
        self.spin()
        self.drag(np.array([40.0, 180]), np.array([120.0, 240]))
        self.until(lambda: len(self.page.matte.shapes) == 4)
        self.assertEqual(self.page.in_hand.roundness, (1.0,) * 12)
        np.testing.assert_allclose(np.ptp(self.points(3), axis=0), [80, 60], atol=2)


del WindowCase


if __name__ == "__main__":
    unittest.main()
