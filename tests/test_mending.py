"""The Repair step's parts in the window and on the command line: tracking again, the extra move, bent sides, motions blended."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from tests.helpers import placement, plane_at, repair_points, to_frame
from tests.scenes import PlaneShot
from tests.test_check import drifting
from tests.test_deliver import command
from tests.test_window import WindowCase
from wertis.core.geometry import homography
from wertis.core.geometry.motion import Fix
from wertis.core.shot import bends, edits, extra_moves, items, repairs, store
from wertis.core.shot.document import Placement, RetrackedLayer
from wertis.core.shot.motions import motion_words
from wertis.core.shot.resolve import motion_of


class MotionWindowTest(WindowCase):
    def open_drifting(self) -> None:
        path = self.folder / "s.wertis"
        store.save(drifting(self.made, self.plate), path)
        self.window.open_path(path)
        self.window.session.go_step("Repair")

    def drag(self, start: np.ndarray, by: tuple[float, float]) -> None:
        v = self.window.viewer
        QTest.mousePress(v, Qt.MouseButton.LeftButton, pos=self.place(start))
        QTest.mouseMove(v, self.place(start + by))
        QTest.mouseRelease(v, Qt.MouseButton.LeftButton, pos=self.place(start + by))

    def test_tracking_again_from_a_repaired_frame(self) -> None:
        self.open_drifting()
        w, s = self.window, self.window.session
        points = w.steps["Repair"].page.points
        self.assertFalse(points.buttons["again"].isEnabled())
        w.steps["Repair"].do("corners")
        ids = [p.id for p in repair_points(s.shot)]
        s.history.do("Put right", repairs.move_points(s.shot, s.track_id, 1008, dict(zip(ids, self.made.truth(7), strict=True))))
        self.assertIn("1002-1007", points.stale.text())
        points.buttons["again"].click()
        self.until(lambda: w.job is None and s.shot.tracks[0].layer(RetrackedLayer).solution is not None)
        self.assertEqual(points.stale.text(), "nothing is out of date")
        motion = motion_of(s.shot.tracks[0])
        assert motion is not None
        for i in range(8):
            self.assertLess(np.linalg.norm(to_frame(motion, self.made.region, 1001 + i) - self.made.truth(i), axis=1).max(), 0.3)
        w.undo()
        self.assertIsNone(s.shot.tracks[0].layer(RetrackedLayer).solution)

    def test_pages_that_are_not_seen_wait_and_are_right_when_they_are(self) -> None:
        self.open_drifting()
        w, s = self.window, self.window.session
        w.steps["Repair"].do("corners")
        shown = []
        page = w.steps["Region"].page
        page.show_state = lambda show=page.show_state: (shown.append(s.shot.tracks[0].name), show())  # type: ignore[method-assign]
        self.drag(s.shot.tracks[0].region.box[0], (3, 2))
        self.assertEqual(shown, [])
        s.history.do("Rename", s.shot.with_track(s.shot.tracks[0].but(name="Lid")))
        s.go_step("Region")
        self.assertEqual(shown, ["Lid"])
        s.go_step("Repair")
        s.history.do("Rename", s.shot.with_track(s.shot.tracks[0].but(name="Side")))
        self.assertEqual(shown, ["Lid"])
        self.until(lambda: shown == ["Lid", "Side"])  # after a moment of quiet it follows by itself

    def test_clearing_one_points_keys(self) -> None:
        self.open_drifting()
        w, s = self.window, self.window.session
        w.steps["Repair"].do("corners")
        s.go(1006)
        w.steps["Repair"].do("key")
        w.steps["Repair"].do("clear-points")
        self.assertIn("Choose points first", w.words.text())
        there = repairs.points_on(s.shot.tracks[0], 1006)
        assert there is not None
        self.drag(there[1], (0.0, 0.0))
        w.steps["Repair"].do("clear-points")
        self.assertEqual([bool(p.keys) for p in repair_points(s.shot)], [True, False, True, True])

    def test_an_extra_move_typed_and_dragged(self) -> None:
        self.open_drifting()
        w, s = self.window, self.window.session
        w.steps["Repair"].page.chooser["motion"].click()
        part = w.steps["Repair"].page.motion
        self.assertFalse(part.fields["x"].isEnabled())  # on the reference frame
        s.go(1006)
        before = motion_of(s.shot.tracks[0])
        assert before is not None
        part.fields["turn"].setValue(10)
        self.assertAlmostEqual(extra_moves.values_on(s.shot.tracks[0], 1006).turn, 10)
        about = extra_moves.about_on(s.shot.tracks[0], 1006)
        assert about is not None
        self.spin(0.1)
        self.drag(about, (12.0, 5.0))
        values = extra_moves.values_on(s.shot.tracks[0], 1006)
        np.testing.assert_allclose([values.x, values.y, values.turn], [12, 5, 10], atol=1.2)
        self.assertAlmostEqual(part.fields["x"].value(), values.x, places=2)
        self.assertIn("extra move", motion_words(s.shot.tracks[0]))
        part.buttons["straighten"].click()
        np.testing.assert_array_equal(plane_at(motion_of(s.shot.tracks[0]), 1006), plane_at(before, 1006))  # type: ignore[union-attr]

    def test_sides_bent_in_the_picture(self) -> None:
        self.open_drifting()
        w, s = self.window, self.window.session
        w.steps["Repair"].page.chooser["sides"].click()
        self.assertIn("place a graphic", w.steps["Repair"].page.sides.facts.text())
        corners = edits.default_quad(s.shot.tracks[0], 1001)
        s.history.do("Place", items.add_item(s.shot, Placement(on=s.track_id, frame=1001, quad=edits.as_points(corners))))
        s.go(1003)
        self.spin(0.1)
        handles = bends.handles_on(s.shot, placement(s.shot), 1003)
        assert handles is not None
        self.drag(handles[0], (3.0, -14.0))
        moved = bends.handles_on(s.shot, placement(s.shot), 1003)
        assert moved is not None
        np.testing.assert_allclose(moved[0] - handles[0], [3, -14], atol=1.2)
        np.testing.assert_allclose(moved[1:], handles[1:], atol=1e-9)
        self.assertEqual(placement(s.shot).bend.frames, [1003])
        self.key(Qt.Key.Key_K)
        w.undo()
        w.steps["Repair"].page.sides.buttons["straighten"].click()
        self.assertFalse(placement(s.shot).is_bent)

    def test_going_from_sides_to_motion_takes_the_handles_out_of_both_panes(self) -> None:
        self.open_drifting()
        w, s = self.window, self.window.session
        corners = edits.default_quad(s.shot.tracks[0], 1001)
        s.history.do("Place", items.add_item(s.shot, Placement(on=s.track_id, frame=1001, quad=edits.as_points(corners))))
        s.go_step("Repair")
        self.until(lambda: len(s.drift) == 8 and w.drift_worker.job is None)
        chooser = w.steps["Repair"].page.chooser
        seen = {}
        for part in ("motion", "sides", "motion"):
            chooser[part].click()
            self.until(lambda: w.steady.picture is not None and not w.viewer.late)
            self.spin(0.1)
            panes = [pane.grab().toImage() for pane in (w.viewer, w.steady)]
            for image, before in zip(panes, seen.get(part, panes), strict=True):
                self.assertEqual(image, before, part)
            if part == "sides":
                for image, before in zip(panes, seen["motion"], strict=True):
                    self.assertNotEqual(image, before)
            seen[part] = panes

    def test_two_motions_blended(self) -> None:
        self.open_drifting()
        w, s = self.window, self.window.session
        shot, second = edits.add_track(s.shot, self.made.region, 1001)
        fixes = {1001 + i: Fix(homography.from_points(self.made.truth(0), self.made.truth(i)), 0.1, 1.0) for i in range(8)}
        s.history.do("Second", edits.set_tracked(shot, second.id, fixes))
        w.steps["Repair"].page.chooser["motion"].click()
        part = w.steps["Repair"].page.motion
        part.source.setCurrentIndex(1)
        part.source.activated.emit(1)
        part.begin.setValue(1003)
        part.end.setValue(1006)
        first = motion_of(s.shot.tracks[0])
        assert first is not None
        part.blend.click()
        motion = motion_of(s.shot.tracks[0])
        assert motion is not None
        np.testing.assert_allclose(to_frame(motion, self.made.region, 1003), to_frame(first, self.made.region, 1003), atol=1e-6)
        np.testing.assert_allclose(to_frame(motion, self.made.region, 1007), self.made.truth(6), atol=1e-6)
        between = (to_frame(first, self.made.region, 1004) * 2 + self.made.truth(3)) / 3
        np.testing.assert_allclose(to_frame(motion, self.made.region, 1004), between, atol=0.05)


class MotionCommandTest(unittest.TestCase):
    def test_again_and_copy(self) -> None:
        made = PlaneShot(n=8)
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            shot = drifting(made, made.write(folder / "plate"))
            ident = shot.tracks[0].id
            for p in made.region:
                shot = repairs.add_point(shot, ident, p, 1001)
            ids = [p.id for p in repair_points(shot)]
            shot = repairs.move_points(shot, ident, 1008, dict(zip(ids, made.truth(7), strict=True)))
            shot, _ = edits.add_track(shot, made.region, 1001)
            path = folder / "s.wertis"
            store.save(shot, path)
            names = [t.name for t in shot.tracks]
            code, out, err = command("motion", str(path), "--track", names[0], "--again", "--quiet")
            self.assertEqual((code, err), (0, ""))
            self.assertIn("1002 to 1007", out)
            code, out, err = command("motion", str(path), "--track", names[1], "--copy", names[0], "--out", str(folder / "t.wertis"))
            self.assertEqual((code, err), (0, ""))
            motion = motion_of(store.load(folder / "t.wertis").tracks[1])
            assert motion is not None
            for i in range(8):
                self.assertLess(np.linalg.norm(to_frame(motion, made.region, 1001 + i) - made.truth(i), axis=1).max(), 0.3)
            code, _, err = command("motion", str(path), "--track", names[0])
            self.assertNotEqual(code, 0)
            self.assertIn("--copy", err)
