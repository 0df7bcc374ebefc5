"""Long work in the window: one list of it, stopping each, and being asked before it is given up by closing."""

import threading
import unittest
from collections.abc import Iterator
from unittest.mock import patch

from PySide6.QtWidgets import QMessageBox

from tests.test_window import WindowCase
from wertis.core.jobs.events import Counter, Event, Stop, finished
from wertis.core.jobs.job import Job
from wertis.core.phases import tell
from wertis.core.repair.extra import ExtraValues
from wertis.core.shot import extra_moves


class WorkTest(WindowCase):
    def slow(self, label: str) -> tuple[Job, threading.Event]:
        go = threading.Event()

        def work(stop: Stop) -> Iterator[Event]:
            for k in range(10):
                yield Event(k, k + 1, 10)
                if k == 4:
                    go.wait(20)
                if stop.is_set():
                    return

        return Job(label, 10, work), go

    def test_everything_that_runs_is_listed_with_its_own_stop(self) -> None:
        w = self.window
        w.running.look()
        self.assertFalse(w.running.isVisible())
        one, go_one = self.slow("Rendering")
        two, go_two = self.slow("Measuring the drift")
        self.spin()
        above = w.lanes.y()
        w.work.begin(one)
        w.drift_worker.job = two
        two.start()
        self.until(lambda: one.done == 5 and two.done == 5)
        w.running.look()
        self.assertEqual(w.running.text(), "2 running")
        w.running.open()
        self.assertEqual([row[0].label for row in w.running.list.rows], ["Rendering", "Measuring the drift"])
        self.assertEqual(w.running.list.rows[0][1].value(), 5)
        w.running.list.rows[1][3].click()
        go_two.set()
        self.until(two.finished.is_set)
        self.assertEqual(w.lanes.y(), above)  # nothing has moved
        self.assertTrue(two.stopped)
        self.assertFalse(one.finished.is_set())
        w.drift_worker.job = None
        w.running.look()
        self.assertFalse(w.running.isVisible())  # the strip shows it by itself
        go_one.set()
        self.until(lambda: w.job is None)
        w.running.list.close()

    def test_what_is_done_between_two_steps_is_shown_with_its_own_progress(self) -> None:
        w, go = self.window, threading.Event()

        def work(stop: Stop) -> Iterator[Event]:
            yield Event(1, 1, 4)
            tell("telling layers apart", 3, 12)
            go.wait(20)
            yield Event(2, 2, 4)
            go.clear()
            go.wait(20)

        tell("nobody listens here", 1, 2)
        job = Job("Tracking", 4, work)
        w.work.begin(job)
        strip = w.work._strip
        self.until(lambda: "telling layers apart" in strip.words.text())
        self.assertEqual((strip._bar.value(), strip._bar.maximum()), (3, 12))
        self.assertIn("3 of 12", strip._left.text())
        self.assertEqual((job.done, job.total), (1, 4))
        go.set()
        self.until(lambda: job.done == 2)
        self.until(lambda: strip._bar.value() == 2)
        self.assertEqual(strip._bar.maximum(), 4)
        self.assertIsNone(job.phase)
        job.done = job.total  # its last step is done, and something is still to be finished
        self.assertIsNone(job.seconds_left)
        job.stop()
        go.set()
        self.until(lambda: w.job is None)

    def test_scripts_hear_what_is_done_between_two_steps(self) -> None:
        def work() -> Iterator[Event]:
            yield Event(1, 1, 2)
            tell("aligning all frames together", 4, 10)
            yield Event(2, 2, 2, "done")

        heard: list[Event] = []
        self.assertEqual(finished(work(), heard.append), "done")
        self.assertEqual([(e.done, e.note) for e in heard], [(1, ""), (1, "aligning all frames together, 4 of 10"), (2, "")])
        self.assertEqual(finished(work()), "done")

    def test_what_is_looked_at_twice_counts_once(self) -> None:
        seen: list[object] = []

        def work(stop: Stop) -> Iterator[Event]:
            count = Counter(3)
            for frame in (1, 2, 1, 3, 3):
                yield count.event(frame, f"answer {frame}")

        job = Job("Looking", 3, work)
        job.stepped.connect(lambda _, event: seen.append((event.frame, event.done)))
        self.assertTrue(job.start().finished.wait(10))
        self.assertEqual((job.done, seen), (3, [(1, 1), (2, 2), (1, 2), (3, 3), (3, 3)]))

    def test_closing_asks_while_work_runs(self) -> None:
        w = self.window
        job, go = self.slow("Rendering")
        w.work.begin(job)
        self.until(lambda: job.done == 5)

        def answer(label: str):  # type: ignore[no-untyped-def]
            def say(box: QMessageBox) -> int:
                next(b for b in box.buttons() if b.text() == label).click()
                return 0
            return say

        with patch.object(QMessageBox, "exec", answer("Go on working")):
            w.close()
        self.assertTrue(w.isVisible())
        self.assertFalse(job.stop_asked.is_set())
        go.set()
        self.until(lambda: w.job is None)

    def test_an_extra_move_is_measured_again(self) -> None:
        self.open_plate()
        self.draw()
        self.track()
        w, s = self.window, self.window.session
        self.until(lambda: len(s.drift) == 8 and w.drift_worker.job is None)
        s.history.do("Extra", extra_moves.set_values(s.shot, s.track_id, 1005, ExtraValues(6)))
        self.until(lambda: len(s.drift) == 8 and w.drift_worker.job is None and 1005 in s.drift and s.drift[1005].worst > 3)
        self.assertAlmostEqual(s.drift[1005].worst, 6, delta=0.5)


if __name__ == "__main__":
    unittest.main()
