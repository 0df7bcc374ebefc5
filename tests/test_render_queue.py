"""Renders in a process of their own, while the window stays free."""

import json
import os
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from tests.test_window import WindowCase
from wertis.app.steps.deliver import background_render
from wertis.core.plate.sequence import read_picture
from wertis.core.shot import matte_edits
from wertis.core.shot.document import Shot
from wertis.core.shot.mattes import mattes_of
from wertis.core.work import render_queue
from wertis.core.work.render_queue import RenderQueue


class RenderQueueTest(unittest.TestCase):
    def setUp(self) -> None:
        made = tempfile.TemporaryDirectory()
        self.addCleanup(made.cleanup)
        self.folder = Path(made.name)
        self.kept = RenderQueue(self.folder / "aside")

    def test_a_list_outlives_the_program_and_says_how_far_it_is(self) -> None:
        shot = Shot(name="Tea crate / quay", range=(5, 9))
        (self.folder / "out").mkdir()
        old = self.folder / "out" / "c.0009.png"
        old.write_bytes(b"x")
        os.utime(old, ns=(1, 1))  # of an earlier render
        name = self.kept.add(shot, str(self.folder / "out" / "c.####.png"))
        again = self.kept.add(shot, str(self.folder / "m.mp4"))
        self.assertEqual((name, again), ("Tea_crate_quay_1", "Tea_crate_quay_2"))
        for frame in (5, 6):
            (self.folder / "out" / f"c.{frame:04d}.png").write_bytes(b"x")
        first, second = RenderQueue(self.folder / "aside").progress()
        self.assertEqual((first.done, first.total, first.state), (2, 5, "waiting"))
        self.assertEqual((second.done, second.total), (0, 0), "a movie is one file")
        self.assertEqual(self.kept.next(), name)
        out = self.folder / "aside" / "out"
        out.mkdir()
        for entry, state, error in ((name, "failed", "the disk is full"), (again, "done", "")):
            (out / f"{entry}.state.json").write_text(json.dumps({"report": {"state": state, "error": error, "needs": []}}))
        self.assertEqual([(p.state, p.words, p.done) for p in self.kept.progress()], [("failed", "the disk is full", 2), ("done", "", 0)])
        self.assertIsNone(self.kept.next())
        self.kept.clear()
        self.assertEqual((self.kept.progress(), list((self.folder / "aside").glob("*.wertis"))), ([], []))
        self.assertTrue((self.folder / "out" / "c.0005.png").is_file(), "what was rendered stays")

    def test_a_damaged_list_is_none(self) -> None:
        self.kept.folder.mkdir()
        for text in ("{", "[]", '{"shots": [{"name": ""}]}'):
            self.kept.file.write_text(text)
            self.assertEqual(self.kept.progress(), [])


class BackgroundRenderTest(WindowCase):
    def setUp(self) -> None:
        self.away = tempfile.TemporaryDirectory()
        self.addCleanup(self.away.cleanup)
        kept = mock.patch.object(render_queue, "usual_folder", lambda: Path(self.away.name))
        kept.start()
        self.addCleanup(kept.stop)
        super().setUp()

    def test_it_is_rendered_while_the_window_works(self) -> None:
        w, s = self.window, self.window.session
        self.tracked_and_placed()
        step = w.steps["Deliver"]
        s.go_step("Deliver")
        step.page.background.setChecked(True)
        out = self.folder / "aside" / "c.####.png"
        out.parent.mkdir()
        for frame in range(1001, 1009):  # an older render's, which must not stay
            (self.folder / "aside" / f"c.{frame}.png").write_bytes(b"old")
        step.page.target.setText(str(out))
        step.page.render_button.click()
        self.assertIsNone(w.job)
        self.assertTrue(step.background.running)
        self.assertIn("in the background", w.words.text())
        w.undo()  # the snapshot is of the shot as it was
        self.until(lambda: [e.state for e in step.background.entries] == ["done"] and not step.background.running, 90)
        self.assertIn("is written to", w.words.text())
        fields = step.page.queue_place.itemAt(0).widget()
        self.assertTrue(fields.isVisibleTo(w))
        self.assertIn("done", fields.words.text())
        self.assertEqual(len(list((self.folder / "aside").glob("c.*.png"))), 8)
        w.redo()
        step.page.background.setChecked(False)
        step.render("comp", str(self.folder / "here" / "c.####.png"))
        self.until(lambda: w.job is None, 60)
        for frame in (1001, 1005):
            np.testing.assert_array_equal(read_picture(self.folder / "aside" / f"c.{frame}.png"), read_picture(self.folder / "here" / f"c.{frame}.png"))
        fields.clear.click()
        self.assertFalse(fields.isVisibleTo(w))

    def test_it_is_stopped_and_gone_on_with(self) -> None:
        w, s = self.window, self.window.session
        self.tracked_and_placed()
        step = w.steps["Deliver"]
        s.go_step("Deliver")
        step.page.background.setChecked(True)
        step.render("comp", str(self.folder / "aside" / "c.####.png"))
        fields = step.page.queue_place.itemAt(0).widget()
        fields.stop.click()
        self.assertFalse(step.background.running)
        self.assertEqual(fields.stop.text(), "Go on")
        self.assertTrue(step.background.queue.next())
        fields.stop.click()
        self.until(lambda: [e.state for e in step.background.entries] == ["done"], 90)
        self.assertEqual(len(list((self.folder / "aside").glob("c.*.png"))), 8)

    def test_a_process_that_ends_by_itself_is_told_and_not_begun_again(self) -> None:
        w, s = self.window, self.window.session
        self.tracked_and_placed()
        step = w.steps["Deliver"]
        s.go_step("Deliver")
        step.page.background.setChecked(True)
        with mock.patch.object(background_render, "_NICE", "no number"):
            step.render("comp", str(self.folder / "aside" / "c.####.png"))
            self.until(lambda: not step.background.running, 20)
            self.spin(0.2)
        self.assertIn("ended before it was done", w.words.text())
        self.assertFalse(step.background.running)
        self.assertEqual(step.page.queue_place.itemAt(0).widget().stop.text(), "Go on")

    def test_mattes_maps_and_motion_go_out_in_the_background(self) -> None:
        w, s = self.window, self.window.session
        self.tracked_and_placed()
        step = w.steps["Deliver"]
        shape = matte_edits.new_shape(np.array([(60.0, 40), (160, 50), (120, 130)]), 1001)
        w.bench.edit("Draw", lambda: matte_edits.add_matte(s.shot, s.track, 1001, "Hand", (shape,))[0])
        s.go_step("Deliver")
        step.page.background.setChecked(True)
        step.render(f"matte:{mattes_of(s.shot)[0].id}", str(self.folder / "m.####.png"))
        step.page.part.button(1).click()
        fields = step.page.motion
        fields.background.setChecked(True)
        fields.first.setValue(1)
        for kind, name in (("map", "map.####.exr"), ("corners", "corners.json")):
            fields.kind.setCurrentIndex(fields.kind.findData(kind))
            step.export_motion(str(self.folder / name))
            self.assertIn("exported in the background", w.words.text())
        self.until(lambda: [e.state for e in step.background.entries] == ["done"] * 3 and not step.background.running, 120)
        self.assertEqual([(e.done, e.total) for e in step.background.entries], [(8, 8), (8, 8), (0, 0)])
        self.assertEqual([len(list(self.folder.glob(p))) for p in ("m.*.png", "map.*.exr")], [8, 8])
        self.assertTrue((self.folder / "map.0001.exr").is_file(), "numbered as the receiver wants it")
        self.assertEqual(read_picture(self.folder / "m.1001.png")[80, 110].max(), 65535)
        fields.background.setChecked(False)
        step.export_motion(str(self.folder / "here.json"))
        self.assertEqual((self.folder / "here.json").read_bytes(), (self.folder / "corners.json").read_bytes())


del WindowCase

if __name__ == "__main__":
    unittest.main()
