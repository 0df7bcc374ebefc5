"""The door for scripts: the examples of its page, and what it promises."""

import contextlib
import io
import logging
import os
import re
import subprocess
import sys
import unittest
from pathlib import Path

import numpy as np

import wertis
from tests.scenes import PlaneShot
from tests.test_deliver import ShotFolder, command, pairs, table
from tests.test_plate import Folder
from wertis.core import log
from wertis.core.exchange.pictures import write_picture
from wertis.core.jobs.render import render_frame
from wertis.core.plate.sequence import read_picture
from wertis.core.shot import store

ROOT = Path(__file__).resolve().parent.parent


class PageTest(Folder):
    def test_the_examples_of_the_page_run(self) -> None:
        made = PlaneShot(n=8)
        made.write(self.folder)
        write_picture(self.folder / "poster.png", np.full((60, 90, 3), 200, np.uint8))
        examples = re.findall(r"```python\n(.*?)```", (ROOT / "docs" / "scripting.md").read_text(), re.DOTALL)
        self.assertGreaterEqual(len(examples), 6)
        names: dict[str, object] = {}
        said = io.StringIO()
        with contextlib.chdir(self.folder), contextlib.redirect_stdout(said):
            for example in examples:
                exec(compile(example, "scripting.md", "exec"), names)
        # they did what the page says
        wall = names["wall"]
        assert isinstance(wall, wertis.Surface)
        self.assertEqual(len(list((self.folder / "out").iterdir())), 8)
        self.assertLess(len(list((self.folder / "part").iterdir())), 9)
        self.assertEqual(wall.name, "Wall")
        self.assertIn("nothing.wertis does not exist", said.getvalue())
        self.assertIn("3 of 8", said.getvalue())
        for frame, there in wall.follow(made.region, 1001).items():
            self.assertLess(np.linalg.norm(there - made.truth(frame - 1001), axis=1).max(), 0.3)
        self.assertEqual(store.load(self.folder / "wall.wertis").tracks[0].name, "Wall")

    def test_the_start_of_the_package_s_docstring_is_such_an_example(self) -> None:
        for line in ("shot.track(region, frame=1001", "wall.repair(limit=0.3)", "shot.save("):
            self.assertIn(line, wertis.__doc__ or "")


class PromisesTest(ShotFolder):
    def test_importing_changes_nothing_and_loads_no_window(self) -> None:
        script = ("import os, sys, logging, signal, threading; before = dict(os.environ), logging.getLogger().handlers[:], threading.active_count();"
                  "import wertis; wertis.open; import wertis.scripting;"
                  "after = dict(os.environ), logging.getLogger().handlers[:], threading.active_count(); assert before == after;"
                  "assert not logging.getLogger('wertis').handlers; assert not {'PySide6', 'scipy.sparse', 'pycolmap'} & set(sys.modules); print('same')")
        done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, env={**os.environ, "PYTHONPATH": str(ROOT / "src")})
        self.assertEqual(done.stdout.strip(), "same", done.stderr)

    def test_a_frame_is_a_function_of_the_shot_and_its_number(self) -> None:
        made = self.tracked()
        before = made.model_dump_json()
        once = [render_frame(made, f) for f in (1002, 1005, 1002)]
        np.testing.assert_array_equal(once[0], once[2])
        self.assertEqual(made.model_dump_json(), before)
        store.save(made, self.folder / "s.wertis")
        shot = wertis.open(self.folder / "s.wertis")
        shot.render(self.folder / "o" / "c.####.png")
        np.testing.assert_array_equal(read_picture(self.folder / "o" / "c.1005.png"), once[1])
        np.testing.assert_array_equal(shot.frame(1005), once[1])

    def test_stopped_work_keeps_what_it_has_and_steps_can_be_taken_back(self) -> None:
        import threading

        shot = wertis.open(self.plate_folder)
        stop = threading.Event()
        wall = shot.add(self.made.region, 1001, "Wall")
        events: list[int] = []

        def watch(event) -> None:  # type: ignore[no-untyped-def]
            events.append(event.done)
            stop.set()

        wall.track(progress=watch, stop=stop)
        self.assertGreaterEqual(len(wall.follow(self.made.region, 1001)), 2)
        self.assertEqual(shot.undo(), "Track Wall")
        self.assertIsNone(wall.record.solution)
        shot.redo()
        self.assertIsNotNone(wall.record.solution)

    def test_errors_are_its_own_and_change_nothing(self) -> None:
        shot = wertis.open(self.plate_folder)
        wall = shot.add(self.made.region, 1001)
        before = shot.document
        for wrong, words in ((lambda: shot.track([(1, 1), (2, 2)], 1001), "at least three"), (lambda: shot.track(self.made.region, 7), "not in the plate"),
                             (lambda: wall.place("gone.png"), "does not exist"), (lambda: wall.place("grid", [(0, 0), (1, 1)]), "four corners"),
                             (lambda: wall.motion, "track it first"), (lambda: shot.surface("Door"), "no track named Door"),
                             (lambda: shot.track(self.made.region, 1001, look="sepia"), "look cannot be 'sepia'"),
                             (lambda: wall.track(direction="sideways"), "not a direction"), (lambda: shot.add([("a", 1)], 1001), "not numbers"),
                             (lambda: wall.place("grid", blend="burn"), "blend cannot be 'burn'"),
                             (lambda: shot.add(self.made.region, 1001, ""), "name cannot"),
                             (lambda: shot.render("o.####.png", "sketch"), "choose comp or graphic"),  # type: ignore[arg-type]
                             (lambda: wall.repair(0), "more than 0"), (shot.save, "no file yet")):
            with self.assertRaisesRegex(wertis.WertisError, words):
                wrong()
            self.assertIs(shot.document, before)


class CommandLineTest(ShotFolder):
    def test_a_shot_is_begun_from_nothing_without_a_window(self) -> None:
        target = self.folder / "wall.wertis"
        code, _, err = command("track", str(self.plate_folder), "--start", "1001", "--region", pairs(self.made.region), "--save", str(target),
                               "--name", "Wall")
        self.assertEqual((code, err), (0, ""))
        shot = wertis.open(target)
        there = shot.surface("Wall").follow(self.made.region, 1001)
        self.assertEqual(sorted(there), [1001, 1002, 1003, 1004, 1005])
        self.assertLess(np.linalg.norm(there[1005] - self.made.truth(4), axis=1).max(), 0.1)
        # the same numbers as the table of the same command
        code, _, _ = command("track", str(self.plate_folder), "--start", "1001", "--region", pairs(self.made.region), "--out", str(self.folder / "o.csv"))
        row = table(self.folder / "o.csv")[-1]
        np.testing.assert_allclose([float(row["x1"]), float(row["y1"])], there[1005][0], atol=1e-4)
        code, _, err = command("track", str(self.plate_folder), "--start", "1001", "--region", pairs(self.made.region))
        self.assertEqual(code, 1)
        self.assertIn("--save", err)

    def test_what_nobody_foresaw_is_a_message_and_its_traceback_goes_to_the_log(self) -> None:
        from unittest import mock

        records: list[logging.LogRecord] = []
        handler = logging.Handler()
        handler.emit = records.append  # type: ignore[method-assign]
        logging.getLogger("wertis").addHandler(handler)
        self.addCleanup(logging.getLogger("wertis").removeHandler, handler)
        with mock.patch("wertis.open", side_effect=ZeroDivisionError("nobody foresaw this")):
            code, _, err = command("track", str(self.plate_folder), "--start", "1001", "--region", pairs(self.made.region), "--save", "x.wertis")
        self.assertEqual(code, 1)
        self.assertIn("nobody foresaw this", err)
        self.assertNotIn("Traceback", err)
        self.assertTrue(any(r.exc_info for r in records))
        self.assertEqual(log.file().name, "wertis.log")


if __name__ == "__main__":
    unittest.main()
