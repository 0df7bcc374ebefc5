"""Thousands of random actions in a real window: python bench/random_actions.py [COUNT [SEED ...]].

Keys, menu commands, clicks, drags, the wheel, undo and redo, tracking and repairing begun and stopped, in every step, on a plate with two tracks. What is
wanted: no exception, no answer later than two seconds, no growth of memory beyond what the caches may take, and undoing everything gives the start again.
Run it under a virtual screen (xvfb-run -s '-screen 0 1280x800x24'), or with QT_QPA_PLATFORM=offscreen.
"""

import faulthandler
import logging
import os
import random
import resource
import sys
import tempfile
import time
from pathlib import Path
from unittest import mock

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

import numpy as np
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QDialog, QFileDialog, QInputDialog, QMessageBox, QWidget
from tests.scenes import PlaneShot

from wertis.app.session import Session
from wertis.app.theme import apply_theme
from wertis.app.window import MainWindow
from wertis.core.geometry import homography
from wertis.core.geometry.motion import Fix
from wertis.core.plate import open_plate
from wertis.core.shot import bends, edits, repairs

LATE = 2.0  # seconds
GROWTH = 150 << 20  # bytes of resident memory over the second half of a run
NOT_HERE = {"file.quit", "file.open", "file.open-folder", "file.replace-plate", "file.save-as", "file.save", "help.guide", "help.about", "help.keys",
            "edit.preferences", "edit.undo"}
LETTERS = [Qt.Key(k) for k in range(Qt.Key.Key_A, Qt.Key.Key_Z + 1)] + [Qt.Key(k) for k in range(Qt.Key.Key_1, Qt.Key.Key_9 + 1)] + [
    Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Home, Qt.Key.Key_End, Qt.Key.Key_Return, Qt.Key.Key_Escape, Qt.Key.Key_Delete, Qt.Key.Key_Tab,
    Qt.Key.Key_Space, Qt.Key.Key_BracketLeft, Qt.Key.Key_BracketRight]


def resident() -> int:
    """Bytes of memory in use now."""
    return int(Path("/proc/self/statm").read_text().split()[1]) * resource.getpagesize()


class Run:
    """One run of random actions in a window of its own."""

    def __init__(self, app: QApplication, folder: Path, seed: int) -> None:
        self.app, self.rng = app, random.Random(seed)
        made = PlaneShot(n=12, seed=seed % 5)
        plate = made.write(folder / f"plate{seed}")
        shot = edits.new_shot(open_plate(plate), str(plate), f"Random {seed}")
        for name, part in (("Wall", 1.0), ("Lid", 0.6)):
            middle = made.region.mean(0)
            shot, track = edits.add_track(shot, middle + part * (made.region - middle), 1001, name)
            fixes = {1001 + i: Fix(homography.from_points(made.region, made.truth(i)), 0.05, 1.0) for i in range(1, 10)}
            shot = edits.set_tracked(shot, track.id, {**fixes, 1011: Fix(None, reason="lost for the sake of it")})
        self.window = MainWindow(Session(budget=64 << 20))
        self.window.show()
        self.window.open_path(plate)
        s = self.window.session
        s.history.do("Two tracks", shot.but(plate=s.shot.plate))
        s.select(shot.tracks[0].id)
        s.history.mark_saved()
        self.start = s.shot
        self.first_label = s.history.undo_label
        self.slow: list[tuple[float, str]] = []

    def settle(self, seconds: float = 0.0) -> None:
        """Let the window work."""
        end = time.perf_counter() + seconds
        self.app.processEvents()
        while time.perf_counter() < end:
            self.app.processEvents()
            time.sleep(0.002)

    def place(self, widget: QWidget) -> QPoint:
        return QPoint(self.rng.randrange(max(1, widget.width())), self.rng.randrange(max(1, widget.height())))

    def handle(self, widget: QWidget) -> QPoint:
        """A place of a widget; in a picture, mostly one where something can be taken hold of."""
        w, s = self.window, self.window.session
        if widget not in (w.viewer, w.steady) or s.track is None or self.rng.random() < 0.3 or (widget is w.steady and w.steady.through is None):
            return self.place(widget)
        there = [edits.region_on(s.track, s.frame), repairs.points_on(s.track, s.frame)]
        if s.placement is not None:
            there += [edits.placement_on(s.shot, s.placement, s.frame), bends.handles_on(s.shot, s.placement, s.frame)]
        points = [p for some in there if some is not None for p in some if np.isfinite(p).all()]
        if not points:
            return self.place(widget)
        x, y = widget.to_screen(np.array([self.rng.choice(points)]))[0]  # type: ignore[attr-defined]
        if not (np.isfinite([x, y]).all() and abs(x) < 1e6 and abs(y) < 1e6):
            return self.place(widget)
        return QPoint(round(x), round(y))

    def some_widget(self) -> QWidget:
        w = self.window
        return self.rng.choice([w.viewer, w.viewer, w.viewer, w.steady, w.lanes, w.lanes, w.step_bar, w.outline.viewport()])

    def act(self) -> str:
        """One random action; what it was."""
        w, rng = self.window, self.rng
        kinds = ("key", "command", "click", "double click", "drag", "wheel", "undo", "redo", "field", "stop")
        kind = rng.choices(kinds, (22, 16, 12, 3, 26, 6, 5, 3, 8, 2))[0]
        if kind == "key":
            key = rng.choice(LETTERS)
            QTest.keyClick(w.viewer, key, Qt.KeyboardModifier.AltModifier if rng.random() < 0.05 else Qt.KeyboardModifier.NoModifier)
            return f"key {key.name}"
        if kind == "command":
            ident = rng.choice(sorted(set(w.menus.actions) - NOT_HERE))
            w.run_command(ident)
            return ident
        if kind in ("click", "double click"):
            widget = self.some_widget()
            if widget.isVisible():
                (QTest.mouseClick if kind == "click" else QTest.mouseDClick)(widget, Qt.MouseButton.LeftButton, pos=self.place(widget))
            return f"{kind} in {type(widget).__name__}"
        if kind == "drag":
            widget = self.some_widget()
            if widget.isVisible():
                button = rng.choice([Qt.MouseButton.LeftButton] * 4 + [Qt.MouseButton.MiddleButton])
                a, b = self.handle(widget), self.place(widget)
                if rng.random() < 0.7:  # most drags are short
                    b = a + QPoint(rng.randrange(-20, 21), rng.randrange(-20, 21))
                QTest.mousePress(widget, button, pos=a)
                for t in (0.2, 0.5, 0.8):
                    QTest.mouseMove(widget, a + (b - a) * t)
                    self.app.processEvents()
                QTest.mouseRelease(widget, button, pos=b)
            return f"drag in {type(widget).__name__}"
        if kind == "wheel":
            widget = rng.choice([w.viewer, w.steady, w.lanes])
            at = QPointF(self.place(widget))
            turn = QPoint(0, rng.choice([-120, 120]))
            self.app.sendEvent(widget, QWheelEvent(at, QPointF(widget.mapToGlobal(at.toPoint())), QPoint(), turn, Qt.MouseButton.NoButton,
                                                   Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False))
            return "wheel"
        if kind == "undo":
            if w.session.history.undo_label != self.first_label:
                w.undo()
            return "undo"
        if kind == "redo":
            w.redo()
            return "redo"
        if kind == "field":
            page = w.step.page
            fields = [f for f in page.findChildren(QWidget) if f.isVisible() and f.isEnabled() and hasattr(f, "setValue") and hasattr(f, "maximum")]
            if fields:
                field = rng.choice(fields)
                low, high = max(-1000.0, float(field.minimum())), min(1000.0, float(field.maximum()))
                value = rng.uniform(low, high)
                field.setValue(int(value) if isinstance(field.value(), int) else value)
            return "a number"
        w.escape()
        return "stop"

    def go(self, count: int) -> None:
        """All actions; raises when something is not as it should be."""
        w, s, half = self.window, self.window.session, 0
        for k in range(count):
            begun = time.perf_counter()
            what = self.act()
            self.app.processEvents()
            took = time.perf_counter() - begun
            if took > LATE:
                self.slow.append((took, what))
            if k % 40 == 0:
                self.settle(0.05)
            if k == count // 2:
                half = resident()
        if w.job is not None:
            w.job.stop()
        end = time.perf_counter() + 60
        while (w.job is not None or w.drift_worker.job is not None) and time.perf_counter() < end:
            self.settle(0.02)
        grown = resident() - half
        steps = 0
        while s.history.undo_label and s.history.undo_label != self.first_label:
            w.undo()
            steps += 1
        self.settle(0.1)
        if s.shot != self.start:
            raise AssertionError("undoing everything did not give the start")
        print(f"  {count} actions, {steps} steps undone to the start; memory grew by {grown / 2**20:.0f} MB over the second half; "
              f"{len(self.slow)} answers later than {LATE:g} s {self.slow[:5]}", flush=True)
        if self.slow or grown > GROWTH:
            raise AssertionError("too late, or too much memory")

    def close(self) -> None:
        """End it."""
        self.window.session.history.mark_saved()
        self.window.close()
        self.window.deleteLater()
        self.app.sendPostedEvents(None, QEvent.Type.DeferredDelete)


def main(count: int, seeds: list[int]) -> int:
    """All seeds; the exit code says whether all went well."""
    faulthandler.enable()
    errors: list[str] = []
    logging.getLogger("wertis").addHandler(type("Handler", (logging.Handler,), {"emit": lambda _, r: errors.append(r.getMessage())})())
    sys.excepthook = lambda kind, why, trace: (errors.append(f"{kind.__name__}: {why}"), sys.__excepthook__(kind, why, trace))  # type: ignore[assignment]
    with tempfile.TemporaryDirectory() as name, mock.patch.dict(os.environ, {"XDG_STATE_HOME": name, "XDG_CONFIG_HOME": name, "XDG_DATA_HOME": name}), \
            mock.patch.object(QFileDialog, "getOpenFileName", lambda *_: ("", "")), \
            mock.patch.object(QFileDialog, "getSaveFileName", lambda *_: ("", "")), \
            mock.patch.object(QFileDialog, "getExistingDirectory", lambda *_: ""), mock.patch.object(QInputDialog, "getItem", lambda *_: ("", False)), \
            mock.patch.object(QMessageBox, "exec", lambda *_: 0), mock.patch.object(QDialog, "exec", lambda *_: 0):
        app = QApplication.instance() or QApplication([])
        apply_theme(app)  # type: ignore[arg-type]
        for seed in seeds:
            print(f"seed {seed}", flush=True)
            run = Run(app, Path(name), seed)  # type: ignore[arg-type]
            run.go(count)
            run.close()
    for line in errors[:20]:
        print("  ", line)
    print(f"{len(seeds)} runs of {count} actions: {len(errors)} exceptions")
    return 1 if errors else 0


if __name__ == "__main__":
    numbers = [int(x) for x in sys.argv[1:]]
    code = main(numbers[0] if numbers else 10_000, numbers[1:] or [1, 2, 3])
    sys.stdout.flush()
    os._exit(code)
