"""Work kept as it happens, found after a crash, and two windows on one shot."""

import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from unittest.mock import patch

from PySide6.QtWidgets import QMessageBox

from tests.test_window import WindowCase
from wertis.app import autosaver
from wertis.core.errors import ShotFileError
from wertis.core.plate import open_plate
from wertis.core.shot import autosave, edits, store
from wertis.core.shot.autosave import Keeper


class KeeperTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        from wertis.core.shot.document import PlateRef, Shot
        self.shot = Shot(name="Quay", plate=PlateRef(path=str(self.folder / "p"), first=1, last=9, size=(64, 48)), range=(1, 9))

    def test_what_a_running_session_keeps_is_not_lost(self) -> None:
        Keeper(self.folder).keep(self.shot, None)
        self.assertEqual(autosave.lost(self.folder), [])

    def crashed(self, path: Path | None = None) -> Keeper:
        keeper = Keeper(self.folder)
        keeper._started += 1  # a process of this number that began at another time
        keeper.keep(self.shot, path)
        return keeper

    def test_what_a_crash_left_is_found_and_can_be_thrown_away(self) -> None:
        self.crashed(self.folder / "s.wertis")
        (self.folder / "damaged.json").write_text("{")
        found = autosave.lost(self.folder)
        self.assertEqual([f.note.name for f in found], ["Quay"])
        self.assertEqual(autosave.read_copy(found[0].file), self.shot)
        autosave.discard(found[0])
        self.assertEqual(autosave.lost(self.folder), [])

    def test_a_session_that_ends_well_leaves_nothing(self) -> None:
        keeper = Keeper(self.folder)
        keeper.keep(self.shot, None)
        keeper.forget()
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_two_sessions_on_one_shot_notice_each_other(self) -> None:
        path = self.folder / "s.wertis"
        one, two = Keeper(self.folder), Keeper(self.folder)
        one.open(self.shot, path)
        two.open(self.shot, path)
        self.assertEqual([n.process for n in two.others(path)], [os.getpid()])
        self.assertEqual(two.others(self.folder / "t.wertis"), [])
        one.forget()
        self.assertEqual(two.others(path), [])

    def test_a_folder_that_cannot_be_made(self) -> None:
        (self.folder / "file").write_text("")
        with self.assertRaisesRegex(ShotFileError, "save it yourself"):
            Keeper(self.folder / "file" / "x").keep(self.shot, None)


class KeepingWindowTest(WindowCase):
    def setUp(self) -> None:
        state = tempfile.TemporaryDirectory()  # outlives the window, which keeps things there to its end
        self.addCleanup(state.cleanup)
        before = patch.dict(os.environ, XDG_STATE_HOME=state.name)
        before.start()
        self.addCleanup(before.stop)
        super().setUp()
        shot, _ = edits.add_track(edits.new_shot(open_plate(self.plate), str(self.plate), "Quay"), self.made.region, 1001)
        self.path = self.folder / "s.wertis"
        store.save(shot, self.path)

    def copies(self) -> list[Path]:
        return sorted(autosave.folder().glob("*.kept"))

    def test_changes_are_kept_until_they_are_saved(self) -> None:
        w, s = self.window, self.window.session
        w.open_path(self.path)
        self.assertEqual(self.copies(), [])
        s.history.do("Rename", s.shot.but(name="Changed"))
        self.until(self.copies, 10)
        self.until(lambda: not w.autosaver._writer.is_alive() if w.autosaver._writer else False)
        self.assertEqual(autosave.read_copy(self.copies()[0]).name, "Changed")
        self.assertTrue(w.save())
        self.until(lambda: not self.copies(), 5)

    def test_what_a_crash_left_is_offered_and_comes_back_unsaved(self) -> None:
        w, s = self.window, self.window.session
        crashed = Keeper()
        crashed._started += 1
        crashed.keep(store.load(self.path).but(name="Nearly lost"), self.path)

        def recover(box: QMessageBox) -> int:
            self.assertIn("Nearly lost", box.text())
            next(b for b in box.buttons() if b.text() == "Recover it").click()
            return 0

        with patch.object(QMessageBox, "exec", recover):
            w.offer_lost()
        self.assertEqual((s.shot.name, s.path, s.history.unsaved), ("Nearly lost", self.path, True))
        self.assertIn("back as it was kept", w.words.text())
        self.assertEqual(autosave.lost(), [])
        self.assertEqual(len(self.copies()), 1)  # this session's own
        self.assertTrue(w.save())
        self.assertEqual(store.load(self.path).name, "Nearly lost")
        self.assertIsNone(autosaver.offer(w.autosaver, w))

    def test_another_window_on_the_shot_is_said(self) -> None:
        other = Keeper()
        other.open(store.load(self.path), self.path)
        self.window.open_path(self.path)
        self.assertIn("another window", self.window.words.text())

    def test_a_disk_that_takes_nothing_is_said_and_the_work_goes_on(self) -> None:
        w, s = self.window, self.window.session
        w.open_path(self.path)
        with patch.object(Keeper, "keep", side_effect=ShotFileError("The disk is full; free some space.")):
            s.history.do("Rename", s.shot.but(name="Changed"))
            self.until(lambda: "disk is full" in w.words.text(), 10)
        self.assertEqual(s.shot.name, "Changed")


class CrashTest(unittest.TestCase):
    def test_killed_while_it_edits_saves_and_keeps(self) -> None:
        bench = Path(__file__).resolve().parent.parent / "bench" / "crashes.py"
        done = subprocess.run([sys.executable, str(bench), "2"], capture_output=True, text=True, timeout=120)
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        self.assertIn("2 crashes, the shot opened after each", done.stdout)


if __name__ == "__main__":
    unittest.main()
