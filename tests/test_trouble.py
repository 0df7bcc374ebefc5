"""A full disk, a place that takes no files, and a plate on a disk that goes away: a message, and nothing lost."""

import os
import subprocess
import sys
import textwrap
import time
import unittest
from pathlib import Path
from unittest.mock import patch

import numpy as np

from tests.test_deliver import ShotFolder
from tests.test_window import WindowCase
from wertis.core.errors import PlateError, ShotFileError
from wertis.core.jobs.render import render
from wertis.core.plate import cache as caching
from wertis.core.plate.cache import FrameCache
from wertis.core.shot import edits, store

NOWHERE = Path("/proc/wertis")  # a folder that takes no files, not even from root


def limited(code: str, *words: str, size: int = 30_000) -> subprocess.CompletedProcess:
    """Run Python where no file may grow beyond `size` bytes: what is written is cut off there, as on a full disk."""
    begin = f"import resource, signal, sys\nresource.setrlimit(resource.RLIMIT_FSIZE, ({size}, {size}))\nsignal.signal(signal.SIGXFSZ, signal.SIG_IGN)\n"
    return subprocess.run([sys.executable, "-c", begin + textwrap.dedent(code), *words], capture_output=True, text=True, timeout=120,
                          env={**os.environ, "PYTHONDONTWRITEBYTECODE": "1"})


class FullDiskTest(ShotFolder):
    def test_saving_on_a_full_disk_keeps_the_file_before(self) -> None:
        shot, path = self.tracked(), self.folder / "s.wertis"
        store.save(shot, path)
        before = path.read_bytes()
        done = limited("""
            from pathlib import Path
            from wertis.core.errors import ShotFileError
            from wertis.core.shot import store
            path = Path(sys.argv[1])
            shot = store.load(path)
            try:
                store.save(shot.but(name="x" * 150), path)
            except ShotFileError as why:
                print("refused:", why)
            """, str(path), size=len(before) // 2)
        self.assertIn("refused:", done.stdout, done.stderr)
        self.assertEqual(path.read_bytes(), before)
        self.assertEqual([p.name for p in self.folder.iterdir() if p.is_file()], ["s.wertis"], "nothing half-written is left")

    def test_rendering_on_a_full_disk_keeps_finished_frames_and_no_halves(self) -> None:
        shot, path = self.tracked(), self.folder / "s.wertis"
        store.save(shot, path)
        out = self.folder / "out"
        for pattern in ("c.####.tif", "c.mp4"):
            done = limited("""
                from pathlib import Path
                from wertis.core.errors import DeliverError
                from wertis.core.jobs.render import render
                from wertis.core.shot import edits, store
                shot = store.load(Path(sys.argv[1]))
                try:
                    list(render(shot, edits.opened(shot.plate), sys.argv[2], [1001, 1002]))
                except DeliverError as why:
                    print("refused:", why)
                """, str(path), str(out / pattern), size=2000)
            self.assertIn("refused:", done.stdout, done.stderr)
            self.assertRegex(done.stdout, "free some space|choose another folder")
            self.assertEqual(list(out.iterdir()), [], pattern)
        list(render(shot, self.plate, str(out / "c.####.tif"), [1001]))
        self.assertEqual([p.name for p in out.iterdir()], ["c.1001.tif"])


class NoWritingTest(WindowCase):
    def test_a_place_that_takes_no_files_is_said_and_the_work_is_still_there(self) -> None:
        s = self.window.session
        s.open_any(self.plate)
        s.history.do("Draw a region", edits.add_track(s.shot, self.made.region, 1001)[0])
        with self.assertRaisesRegex(ShotFileError, "cannot be (saved|written)|save it somewhere else|choose another"):
            s.save(NOWHERE / "s.wertis")
        self.assertTrue(s.history.unsaved)
        self.assertEqual(len(s.shot.tracks), 1)
        s.save(self.folder / "s.wertis")
        self.assertFalse(s.history.unsaved)
        self.assertEqual(store.load(self.folder / "s.wertis"), s.shot)


class DiskGoneTest(WindowCase):
    def test_a_plate_whose_disk_goes_away_and_comes_back(self) -> None:
        w, s = self.window, self.window.session
        s.open_any(self.plate)
        s.history.do("Draw a region", edits.add_track(s.shot, self.made.region, 1001)[0])
        s.select(s.shot.tracks[0].id)
        self.until(lambda: w.viewer.picture is not None)
        elsewhere = self.plate.with_name("elsewhere")
        self.until(lambda: not s.cache._coming)  # nothing is on its way that was read before
        with patch.object(caching, "ASK_AGAIN", 0.2):
            self.plate.rename(elsewhere)
            s.cache.forget()
            s.go(1005)
            self.until(lambda: "has gone" in w.viewer._trouble, 20)
            self.assertIsNone(w.viewer.picture)
            with self.assertRaisesRegex(PlateError, "put it back"):
                s.cache.get(1006)
            s.save(self.folder / "s.wertis")
            self.assertEqual(len(store.load(self.folder / "s.wertis").tracks), 1)
            elsewhere.rename(self.plate)
            time.sleep(0.3)
            s.go(1006)
            self.until(lambda: w.viewer.picture is not None, 20)
            s.go(1005)
            self.until(lambda: w.viewer.picture is not None and w.viewer._trouble == "", 20)

    def test_tracking_over_frames_that_went_away_says_so_and_keeps_what_it_has(self) -> None:
        s = self.window.session
        s.open_any(self.plate)
        s.history.do("Draw a region", edits.add_track(s.shot, self.made.region, 1001)[0])
        s.select(s.shot.tracks[0].id)
        for frame in (1005, 1006):
            next(self.plate.glob(f"*{frame}*")).unlink()
        self.until(lambda: not s.cache._coming)
        s.cache.forget()  # what was read ahead before they went
        self.window.steps["Track"].track("forward")
        self.until(lambda: s.shot.tracks[0].solution is not None and not s.live.track_id, 60)
        solved = s.shot.tracks[0].solution
        good = {int(f) for f in solved.frames[solved.good]}
        self.assertLessEqual({1002, 1003, 1004, 1007, 1008}, good)
        self.assertEqual(set(solved.reasons), {1005, 1006})
        self.assertIn("gone", solved.reasons[1005])


class CacheTest(unittest.TestCase):
    def test_a_bad_file_is_not_read_at_every_look_but_again_after_a_moment(self) -> None:
        class Bad:
            reads = 0
            first, last, size = 1, 2, (2, 2)

            def read(self, frame: int) -> np.ndarray:
                self.reads += 1
                raise PlateError("gone")

        plate = Bad()
        cache = FrameCache(plate)  # type: ignore[arg-type]
        self.addCleanup(cache.close)
        with patch.object(caching, "ASK_AGAIN", 0.1):
            for _ in range(5):
                with self.assertRaises(PlateError):
                    cache.get(1)
            self.assertEqual(plate.reads, 1)
            time.sleep(0.15)
            with self.assertRaises(PlateError):
                cache.get(1)
            self.assertEqual(plate.reads, 2)


if __name__ == "__main__":
    unittest.main()
