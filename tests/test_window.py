"""The real window, driven as a person drives it: clicks, keys and menus."""

import os
import tempfile
import threading
import time
import unittest
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from unittest import mock
from unittest.mock import patch

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
from PySide6.QtCore import QEvent, QPoint, Qt
from PySide6.QtGui import QImage
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QApplication,
    QFileDialog,
    QInputDialog,
    QMessageBox,
)

from tests.helpers import placement
from tests.scenes import PlaneShot
from wertis.app import theme
from wertis.app.fields import Choice, DragLabel, Number
from wertis.app.session import Session
from wertis.app.theme import apply_theme
from wertis.app.viewer import Viewer
from wertis.app.window import MainWindow
from wertis.core.comp.picture import Compositor
from wertis.core.geometry import homography
from wertis.core.geometry.motion import Fix
from wertis.core.geometry.polygon import contains
from wertis.core.jobs.events import Event
from wertis.core.plate.sequence import read_picture
from wertis.core.shot import edits, store


class WindowCase(unittest.TestCase):
    """A window on a small plate, with hands and eyes."""

    app: QApplication

    @classmethod
    def setUpClass(cls) -> None:
        existing = QApplication.instance()
        if isinstance(existing, QApplication):
            cls.app = existing
        else:
            cls.app = QApplication([])
            apply_theme(cls.app)

    def setUp(self) -> None:
        # nobody answers questions here, unless a test does
        for kind, question, answer in ((QFileDialog, "getExistingDirectory", ""), (QInputDialog, "getItem", ("", False)), (QMessageBox, "exec", 0)):
            unasked = patch.object(kind, question, lambda *_, answer=answer: answer)
            unasked.start()
            self.addCleanup(unasked.stop)
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.made = PlaneShot(n=8)
        self.plate = self.made.write(self.folder / "wall")
        self.window = MainWindow(Session(budget=64 << 20))
        self.window.show()
        self.window.resize(1280, 800)
        self.addCleanup(self.close)

    def close(self) -> None:
        self.window.session.history.mark_saved()
        if self.window.job is not None:  # a test that failed may leave it so
            self.window.job.stop()
            self.window.job.finished.wait(20)
        self.gone(self.window)

    def gone(self, window: MainWindow) -> None:
        """Close a window and delete what it is made of; what is left of one makes each that follows slower to style."""
        window.close()
        window.deleteLater()
        self.app.sendPostedEvents(None, QEvent.Type.DeferredDelete)

    # -- hands and eyes -------------------------------------------------------------------------------------------

    def until(self, true: Callable[[], object], seconds: float = 30) -> None:
        """Let the window work until something is so."""
        end = time.monotonic() + seconds
        while not true():
            self.assertLess(time.monotonic(), end, "waited too long")
            self.app.processEvents()
            time.sleep(0.002)

    def spin(self, seconds: float = 0.05) -> None:
        """Let the window work for a moment."""
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            self.app.processEvents()
            time.sleep(0.002)

    def place(self, point: np.ndarray) -> QPoint:
        """A picture point on the widget."""
        x, y = self.window.viewer.to_screen(np.asarray(point)[None])[0]
        return QPoint(round(x), round(y))

    def click(self, point: np.ndarray) -> None:
        QTest.mouseClick(self.window.viewer, Qt.MouseButton.LeftButton, pos=self.place(point))

    def drag_in(self, view: Viewer, start: np.ndarray, end: np.ndarray) -> None:
        """Drag from one place of the picture to another, in either view."""
        a, b = (QPoint(*np.rint(p).astype(int).tolist()) for p in view.to_screen(np.array([start, end])))
        QTest.mousePress(view, Qt.MouseButton.LeftButton, pos=a)
        for t in (0.3, 0.7, 1.0):
            QTest.mouseMove(view, a + (b - a) * t)
        QTest.mouseRelease(view, Qt.MouseButton.LeftButton, pos=b)

    def drag(self, a: np.ndarray, b: np.ndarray, modifiers: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        v = self.window.viewer
        QTest.mousePress(v, Qt.MouseButton.LeftButton, modifiers, self.place(a))
        for t in (0.3, 0.7, 1.0):
            QTest.mouseMove(v, self.place(np.asarray(a) + t * (np.asarray(b) - a)))
            self.app.processEvents()
        QTest.mouseRelease(v, Qt.MouseButton.LeftButton, modifiers, self.place(b))
        self.app.processEvents()

    def key(self, key: Qt.Key, modifiers: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        QTest.keyClick(self.window.viewer, key, modifiers)
        self.app.processEvents()

    @contextmanager
    def held_up(self, frame: int) -> Iterator[threading.Event]:
        """Whoever reads a frame of the plate waits until the event is set."""
        go = threading.Event()
        cache = self.window.session.cache
        assert cache is not None
        get = cache.get

        def slowly(wanted: int) -> np.ndarray:
            if wanted == frame:
                go.wait(60)
            return get(wanted)

        with patch.object(cache, "get", slowly):
            try:
                yield go
            finally:
                go.set()

    def open_plate(self) -> None:
        self.window.open_path(self.plate)
        self.until(lambda: self.window.viewer.picture is not None)

    def draw(self) -> None:
        """Draw the region by clicking its corners and the first one again."""
        for p in [*self.made.region, self.made.region[0]]:
            self.click(p)
        self.spin()

    def track(self) -> None:
        self.window.steps["Track"].track("both")
        self.until(lambda: self.window.job is None)

    def tracked_and_placed(self) -> None:
        self.open_plate()
        self.draw()
        self.track()
        self.window.steps["Use"].place()
        self.spin()


class FieldsTest(WindowCase):
    def test_a_number_dragged_is_one_step_back_and_the_next_drag_another(self) -> None:
        self.open_plate()
        w, s = self.window, self.window.session
        s.go_step("Plate")
        label = next(x for x in w.steps["Plate"].page.findChildren(DragLabel) if x.text() == "Rate")
        begin = s.shot.plate
        for _ in range(2):
            QTest.mousePress(label, Qt.MouseButton.LeftButton, pos=QPoint(2, 5))
            for x in (12, 22, 42):
                QTest.mouseMove(label, QPoint(x, 5))
            QTest.mouseRelease(label, Qt.MouseButton.LeftButton, pos=QPoint(42, 5))
        assert begin is not None and s.shot.plate is not None
        self.assertEqual(s.shot.plate.fps, begin.fps + 20)
        w.undo()
        self.assertEqual(s.shot.plate.fps, begin.fps + 10)
        w.undo()
        self.assertEqual(s.shot.plate, begin)

    def test_a_name_without_room_ends_in_dots_and_the_list_shows_it_whole(self) -> None:
        box = Choice("What")
        self.addCleanup(box.deleteLater)
        box.addItems(["A very long name of a colour space that no page has room for", "Short"])
        box.setFixedWidth(120)
        box.show()
        self.assertLess(box.sizeHint().width(), 200)
        box.showPopup()
        self.assertGreaterEqual(box.view().minimumWidth(), box.fontMetrics().horizontalAdvance(box.itemText(0)))
        box.hidePopup()


class LatePictureTest(WindowCase):
    """A picture that takes its time."""

    def test_overlays_wait_for_their_own_picture(self) -> None:
        self.tracked_and_placed()
        w, s = self.window, self.window.session
        s.go_step("Track")
        s.go(1005)
        self.until(lambda: not w.viewer.late)

        def outline_seen() -> bool:
            """Whether the track's outline is painted: pixels of the accent colour."""
            seen = w.viewer.grab().toImage().convertToFormat(QImage.Format.Format_RGB888)
            lines = np.frombuffer(seen.constBits(), np.uint8).reshape(seen.height(), seen.bytesPerLine())
            pixels = lines[:, :3 * seen.width()].reshape(seen.height(), -1, 3)
            accent = np.array([theme.ACCENT.red(), theme.ACCENT.green(), theme.ACCENT.blue()])
            return bool((np.abs(pixels.astype(int) - accent).max(2) < 12).sum() > 100)

        self.assertTrue(outline_seen())
        go, make = threading.Event(), w.display.pictures._make
        w.display.pictures.refresh_files()
        with patch.object(w.display.pictures, "_make", lambda *a: (go.wait(20), make(*a))[1]):
            s.go(1007)
            self.assertFalse(w.viewer.updatesEnabled())  # for a moment the old frame stays as it is, overlays and all
            self.until(w.viewer.updatesEnabled)
            self.assertTrue(w.viewer.late)
            self.assertFalse(outline_seen())  # then the picture says that it is late
            go.set()
            self.until(lambda: not w.viewer.late)
            self.assertTrue(outline_seen())
            self.assertEqual(w.viewer.picture_frame, 1007)


class WindowTest(WindowCase):
    def test_the_whole_job(self) -> None:
        w, s = self.window, self.window.session
        self.open_plate()
        self.assertEqual(s.frame, 1001)
        self.assertEqual(s.step, "Region")
        self.draw()
        self.assertEqual(len(s.shot.tracks), 1)
        region = s.shot.tracks[0].region.array
        self.assertLess(np.abs(region - self.made.region).max(), 1.5)
        w.steps["Region"].page.name.setText("Wall")
        w.steps["Region"].page.name.editingFinished.emit()
        self.track()
        solved = s.shot.tracks[0].solution
        assert solved is not None
        self.assertTrue(solved.good.all())
        for f, m in zip(solved.frames, solved.matrices):
            truth = homography.apply(homography.from_points(self.made.corners[0], self.made.corners[int(f) - 1001]), region)
            self.assertLess(np.linalg.norm(homography.apply(m, region) - truth, axis=1).mean(), 0.1)
        s.go_step("Use")
        w.steps["Use"].page.add.click()
        self.spin()
        placement = s.placement
        assert placement is not None
        w.steps["Use"].page.artwork.artwork.setCurrentIndex(w.steps["Use"].page.artwork.artwork.findData("checker"))
        w.steps["Use"].page.artwork.artwork.activated.emit(1)
        w.steps["Use"].page.look.blend.setCurrentIndex(w.steps["Use"].page.look.blend.findData("multiply"))
        w.steps["Use"].page.look.blend.activated.emit(1)
        w.steps["Use"].page.look.opacity.setValue(60)
        assert s.placement is not None
        self.assertEqual((s.placement.artwork.kind, s.placement.blend, s.placement.opacity), ("checker", "multiply", 0.6))
        # what is seen is the comp
        s.go(1005)
        expected = Compositor().comp(s.shot, self.made.frames[4], 1005, samples=1)
        self.until(lambda: w.viewer.picture is not None and np.array_equal(w.viewer.picture, expected))
        # deliver
        w.steps["Deliver"].render("comp", str(self.folder / "out" / "c.####.png"))
        self.until(lambda: w.job is None)
        self.assertEqual(len(list((self.folder / "out").glob("c.*.png"))), 8)
        np.testing.assert_array_equal(read_picture(self.folder / "out" / "c.1005.png"), Compositor().comp(s.shot, self.made.frames[4], 1005, 3))
        w.steps["Deliver"].export(str(self.folder / "pin.csv"))
        self.assertIn("8 frames", w.words.text())
        # save, reopen, the same
        before = s.shot
        s.save(self.folder / "job.wertis")
        self.assertFalse(s.history.unsaved)
        w.open_path(self.folder / "job.wertis")
        self.assertEqual(s.shot, before)
        self.assertEqual(s.track.name if s.track else "", "Wall")

    def test_texture_is_shown_and_too_little_is_warned_of(self) -> None:
        self.open_plate()
        self.draw()
        w, s = self.window, self.window.session
        self.assertIn("Plenty of texture", w.steps["Region"].page.texture_words.text())
        w.steps["Region"].page.show_texture.setChecked(False)
        without = w.viewer.grab().toImage()
        self.key(Qt.Key.Key_X)
        self.assertNotEqual(w.viewer.grab().toImage(), without)
        for f in self.made.frames:
            f[:] = 90
        plain = self.made.write(self.folder / "plain")
        s.history.mark_saved()
        w.open_path(plain)
        self.until(lambda: w.viewer.picture is not None)
        self.draw()
        self.assertIn("No texture to hold on to", w.words.toolTip())
        w.steps["Track"].track("both")
        self.until(lambda: w.job is None)
        self.assertIn("There is no texture inside the region", w.words.toolTip())

    def test_undo_all_the_way_and_redo(self) -> None:
        self.tracked_and_placed()
        w, s = self.window, self.window.session
        end = s.shot
        labels = []
        while s.history.undo_label:
            labels.append(s.history.undo_label)
            w.undo()
        self.assertEqual(s.shot.tracks, ())
        self.assertEqual([x.split()[0] for x in reversed(labels)], ["Draw", "Track", "Place"])
        while s.history.redo_label:
            w.redo()
        self.assertIs(s.shot, end)

    def test_region_points_are_moved_inserted_and_removed(self) -> None:
        self.open_plate()
        self.draw()
        s = self.window.session
        corner = s.shot.tracks[0].region.array[0]
        self.drag(corner, corner + [-12, 9])
        moved = s.shot.tracks[0].region.array[0]
        self.assertLess(np.linalg.norm(moved - corner - [-12, 9]), 2)
        self.window.undo()
        np.testing.assert_array_equal(s.shot.tracks[0].region.array[0], corner)
        a, b = s.shot.tracks[0].region.array[:2]
        QTest.mouseDClick(self.window.viewer, Qt.MouseButton.LeftButton, pos=self.place((a + b) / 2))
        self.assertEqual(len(s.shot.tracks[0].region.points), 5)
        QTest.mouseMove(self.window.viewer, self.place(s.shot.tracks[0].region.array[1]))
        self.key(Qt.Key.Key_Delete)
        self.assertEqual(len(s.shot.tracks[0].region.points), 4)

    def test_a_number_that_comes_to_rest_does_not_cut_a_drag_in_two(self) -> None:
        self.open_plate()
        self.draw()
        w, v = self.window, self.window.viewer
        region = w.session.shot.tracks[0].region.array
        corner = region[0]
        QTest.mousePress(v, Qt.MouseButton.LeftButton, pos=self.place(corner))
        QTest.mouseMove(v, self.place(corner + [-8, 3]))
        w.details.findChildren(Number)[0].settle()
        QTest.mouseMove(v, self.place(corner + [-16, 6]))
        QTest.mouseRelease(v, Qt.MouseButton.LeftButton, pos=self.place(corner + [-16, 6]))
        self.assertGreater(np.linalg.norm(w.session.shot.tracks[0].region.array[0] - corner), 10)
        w.undo()
        np.testing.assert_array_equal(w.session.shot.tracks[0].region.array, region)

    def test_a_placement_corner_dragged_on_another_frame_lands_there(self) -> None:
        self.tracked_and_placed()
        s = self.window.session
        s.go(1006)
        self.spin()
        assert s.track is not None and s.placement is not None
        before = edits.placement_on(s.shot, s.placement, 1006)
        assert before is not None
        home = s.placement.frame
        self.drag(before[2], before[2] + [14, 8])
        after = edits.placement_on(s.shot, s.placement, 1006)
        assert after is not None
        self.assertLess(np.linalg.norm(after[2] - before[2] - [14, 8]), 2)
        np.testing.assert_allclose(after[[0, 1, 3]], before[[0, 1, 3]], atol=1e-6)
        self.assertEqual(s.placement.frame, home)
        QTest.mouseMove(self.window.viewer, self.place(after[2]))
        self.key(Qt.Key.Key_Left, Qt.KeyboardModifier.AltModifier)
        nudged = edits.placement_on(s.shot, s.placement, 1006)
        assert nudged is not None
        np.testing.assert_allclose(nudged[2] - after[2], [-1, 0], atol=1e-6)

    def test_the_magnifier_shows_while_dragging(self) -> None:
        self.tracked_and_placed()
        s, v = self.window.session, self.window.viewer
        assert s.placement is not None
        corner = s.placement.array[0]
        without = v.grab().toImage()
        QTest.mousePress(v, Qt.MouseButton.LeftButton, pos=self.place(corner))
        assert v.tool is not None
        self.assertIsNotNone(v.tool.magnify)
        self.assertNotEqual(v.grab().toImage(), without)
        QTest.mouseRelease(v, Qt.MouseButton.LeftButton, pos=self.place(corner))
        self.assertIsNone(v.tool.magnify)

    def open_sixteen(self) -> None:
        """A plate that is longer than what the tracker reads ahead."""
        self.made = PlaneShot(n=16)
        self.plate = self.made.write(self.folder / "sixteen")
        self.open_plate()

    def test_stop_keeps_what_was_tracked_and_tracking_goes_on(self) -> None:
        self.open_sixteen()
        self.draw()
        w, s = self.window, self.window.session
        with self.held_up(1016) as go:
            w.steps["Track"].track("forward")
            self.until(lambda: len(s.live.answers) >= 1)
            w.escape()
            go.set()
            self.until(lambda: w.job is None)
        solved = s.shot.tracks[0].solution
        assert solved is not None
        self.assertIn(len(solved.frames), range(2, 16))  # up to where it stood
        self.assertIn("Stopped", w.words.text())
        s.go(int(solved.frames[-1]))
        w.steps["Track"].track("forward")
        self.until(lambda: w.job is None)
        self.assertEqual(len(s.shot.tracks[0].solution.frames), 16)  # type: ignore[union-attr]
        s.go(1003)
        w.steps["Track"].track("next")
        self.until(lambda: w.job is None)
        self.assertIn("1 frames tracked", w.words.text())

    def test_a_better_answer_leaves_the_picture_in_view_where_it_is(self) -> None:
        self.open_plate()
        self.draw()
        s, step = self.window.session, self.window.steps["Track"]
        s.live.begin(s.track_id)
        step._on_event(Event(1003, 1, 2, Fix(np.eye(3), 0.2, 1.0)))
        self.assertEqual(s.frame, 1003)
        s.go(1001)
        step._on_event(Event(1003, 1, 2, Fix(np.eye(3), 0.1, 1.0)))
        self.assertEqual(s.frame, 1001)
        self.assertEqual(s.live.answers[1003].error, 0.1)
        s.live.end()

    def test_the_window_answers_while_it_tracks(self) -> None:
        self.open_sixteen()
        self.draw()
        w, s = self.window, self.window.session
        with self.held_up(1016) as go:
            w.steps["Track"].track("both")
            self.until(lambda: len(s.live.answers) >= 1)
            for frame in (1003, 1002):  # while the tracker waits for its frame, the window goes where it is told and pictures come

                def there(frame: int = frame) -> bool:
                    if s.frame != frame:  # an answer that came meanwhile brings its own frame
                        s.go(frame)
                    return w.viewer.picture_frame == frame and not w.viewer.late

                self.until(there)
            self.assertIsNotNone(w.job)
            go.set()
            self.until(lambda: w.job is None)
        self.assertEqual(len(s.shot.tracks[0].solution.frames), 16)  # type: ignore[union-attr]

    def test_missing_frames_are_shown_as_what_they_are(self) -> None:
        (self.plate / "plate.1004.png").unlink()
        self.open_plate()
        self.draw()
        w, s = self.window, self.window.session
        s.go(1004)
        self.until(lambda: w.viewer.picture is None and "missing" in w.viewer._trouble)
        s.go(1001)
        self.track()
        solved = s.shot.tracks[0].solution
        assert solved is not None
        self.assertEqual([int(f) for f in solved.frames[~solved.good]], [1004])
        self.assertIn("missing", solved.reasons[1004])
        self.assertTrue(solved.good[-1])
        w.steps["Deliver"].render("comp", str(self.folder / "out" / "c.####.png"))
        self.until(lambda: w.job is None)
        self.assertIn("The plate lacks 1 of them (1004)", w.words.toolTip())
        self.assertEqual(len(list((self.folder / "out").iterdir())), 7)

    def test_bad_input_is_a_message_and_nothing_is_lost(self) -> None:
        self.tracked_and_placed()
        w, s = self.window, self.window.session
        s.save(self.folder / "job.wertis")
        before = s.shot
        (self.folder / "notes.wertis").write_text("x")
        (self.folder / "empty").mkdir()
        for path in (self.folder / "notes.wertis", self.folder / "empty", self.folder / "gone.mov"):
            w.open_path(path)
            self.assertIs(s.shot, before)
            self.assertGreater(len(w.words.toolTip()), 20)
        w.steps["Use"].page.artwork.set_file("picture", self.folder / "notes.wertis")
        self.assertIs(s.shot, before)
        self.assertIn("notes.wertis", w.words.toolTip())
        w.steps["Deliver"].render("comp", str(self.folder / "x.png"))
        self.assertIn("no place for the frame number", w.words.toolTip())
        self.assertIsNone(w.job)

    def test_a_full_disk_while_rendering_is_a_message(self) -> None:
        self.tracked_and_placed()
        w = self.window
        with mock.patch("os.fsync", side_effect=OSError(28, "No space left on device")):
            w.steps["Deliver"].render("comp", str(self.folder / "out" / "c.####.png"))
            self.until(lambda: w.job is None)
        self.assertIn("No space left", w.words.toolTip())
        self.assertEqual(list((self.folder / "out").iterdir()), [])

    def test_tracking_without_a_region_says_what_to_do(self) -> None:
        w = self.window
        w.steps["Region"].draw("track")
        self.assertIn("open one first", w.words.text())
        self.open_plate()
        w.steps["Track"].track("both")
        self.assertIn("draw one", w.words.text())
        self.draw()
        w.session.go(1005)
        w.steps["Track"].track("forward")
        self.assertIn("go to frame 1001", w.words.toolTip())

    def test_playing_at_a_quarter_of_the_resolution(self) -> None:
        self.open_plate()
        w = self.window
        self.until(lambda: w.viewer.picture is not None)
        sharp = w.viewer.picture.copy()  # type: ignore[union-attr]
        corners = w.viewer.to_screen(np.array([[0.0, 0], [480, 320]]))
        w.run_command("go.play-at-4")
        w.playback.toggle()

        self.until(lambda: w.viewer.picture is not None and w.viewer.picture.shape[1] < sharp.shape[1] / 3)
        w.playback.toggle()
        # small as it is, it fills the same place on the screen
        np.testing.assert_allclose(w.viewer.to_screen(np.array([[0.0, 0], [480, 320]])), corners)
        grabbed = w.viewer.grab().toImage()
        for x, y in corners + [[3, 3], [-3, -3]]:
            self.assertNotEqual(grabbed.pixelColor(round(x), round(y)), theme.GROUND)
        self.until(lambda: w.viewer.picture is not None and w.viewer.picture.shape == sharp.shape)

    def test_playing_goes_through_the_range_and_loops(self) -> None:
        self.open_plate()
        w, s = self.window, self.window.session
        s.history.do("Set the range", s.shot.but(range=(1002, 1004)))
        seen: list[int] = []
        s.frame_changed.connect(lambda f: seen.append(f))
        w.playback.toggle()
        self.until(lambda: len(seen) > 6)
        w.playback.pause()
        self.assertEqual(set(seen), {1002, 1003, 1004})
        self.assertIn(1002, seen[seen.index(1004):])

    def test_keys_and_letters_in_fields(self) -> None:
        self.open_plate()
        w, s = self.window, self.window.session
        w.viewer.setFocus()
        self.key(Qt.Key.Key_Right)
        self.assertEqual(s.frame, 1002)
        self.key(Qt.Key.Key_End)
        self.assertEqual(s.frame, 1008)
        self.draw()
        field = w.steps["Region"].page.name
        s.go_step("Region")
        field.setFocus()
        field.selectAll()
        QTest.keyClicks(field, "tang")
        self.assertEqual(field.text(), "tang")
        self.assertIsNone(w.job)
        self.assertTrue(contains(s.shot.tracks[0].region.array, s.shot.tracks[0].region.array.mean(0)))

    def test_outline_hides_renames_and_removes(self) -> None:
        self.tracked_and_placed()
        w, s = self.window, self.window.session
        top = w.outline.topLevelItem(0)
        assert top is not None
        top.setText(0, "Front")
        self.spin()
        self.assertEqual(s.shot.tracks[0].name, "Front")
        item = w.outline.topLevelItem(0).child(1)  # type: ignore[union-attr]
        item.setCheckState(0, Qt.CheckState.Unchecked)
        self.assertIs(w.outline.topLevelItem(0).child(1), item)  # type: ignore[union-attr]  # it is still at work in Qt, and must not be gone
        self.spin()
        self.assertFalse(placement(s.shot).visible)
        w.outline.setCurrentItem(w.outline.topLevelItem(0))
        w.outline.remove_current()
        self.assertEqual(s.shot.tracks, ())
        w.undo()
        self.assertEqual(s.shot.tracks[0].name, "Front")

    def test_unsaved_work_is_asked_about(self) -> None:
        self.open_plate()
        self.draw()
        asked = []

        def answer(box: QMessageBox) -> int:
            asked.append(box.text())
            box.buttons()[-1].click()
            return 0

        with mock.patch.object(QMessageBox, "exec", answer):
            self.window.open_path(self.plate)
        self.assertEqual(len(asked), 1)
        self.assertIn("not saved", asked[0])

    def test_a_shot_whose_plate_is_gone_opens_and_takes_another(self) -> None:
        self.tracked_and_placed()
        s = self.window.session
        s.save(self.folder / "job.wertis")
        before = s.shot
        self.plate.rename(self.folder / "moved")
        self.window.open_path(self.folder / "job.wertis")
        self.assertEqual(s.shot, before)
        self.assertIn("not its plate", self.window.words.toolTip())
        self.assertTrue(self.window.attempt(s.opened.replace_plate, self.folder / "moved"))
        self.assertIsNotNone(s.plate)
        self.assertEqual(s.shot.tracks, before.tracks)

    def test_every_step_shows_its_page_and_a_hint(self) -> None:
        self.tracked_and_placed()
        w = self.window
        said = set()
        for k, step in enumerate(w.steps):
            w.session.go_step(step)
            self.spin(0.02)
            self.assertEqual(w.details.pages.shown(), k)
            said.add(w.words.text())
        self.assertEqual(len(said), len(w.steps))

    def test_store_is_what_the_window_saves(self) -> None:
        self.tracked_and_placed()
        self.window.session.save(self.folder / "a")
        self.assertEqual(store.load(self.folder / "a.wertis"), self.window.session.shot)


if __name__ == "__main__":
    unittest.main()
