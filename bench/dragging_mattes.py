"""Time from moving a matte's point to its outline being drawn there, and to the picture of the matte alone, in HD, one of 40 shapes of 30 points, beside
two perspective warps of an HD picture by OpenCV.

    python bench/dragging_mattes.py

The warps are timed before every move; see bench/dragging.py.
"""

import os
import tempfile
import time

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from dragging import frames_in, tracked_window, two_warps
from wertis.app.theme import apply_theme
from wertis.core.shot import matte_edits
from wertis.core.shot.mattes import new_shape

SHAPES, POINTS, MOVES, QUIET = 40, 30, 120, 1.4


def main() -> None:
    """Print the figures."""
    app = QApplication([])
    apply_theme(app)
    rng = np.random.default_rng(0)
    around = np.linspace(0, 2 * np.pi, POINTS, endpoint=False)
    with tempfile.TemporaryDirectory() as folder:
        whole = frames_in(folder, 3)
        window, shot, track = tracked_window(folder, 3)
        s = window.session
        shapes = []
        for _ in range(SHAPES):
            (x, y), (a, b) = rng.uniform([200, 200], [1700, 900]), rng.uniform(60, 200, 2)
            shapes.append(new_shape(np.column_stack([x + a * np.cos(around), y + b * np.sin(around)]), 1))
        shot, matte = matte_edits.add_matte(shot, shot.tracks[0], 1, shapes=tuple(shapes))
        s.history.do("Set up", shot)
        s.select(track.id, matte.id)
        s.go_step("Use")

        def until(done) -> None:  # type: ignore[no-untyped-def]
            while not done():
                app.processEvents()
                time.sleep(0.0005)

        until(lambda: window.viewer.picture is not None)
        look = window.steps["Use"].page.matte.whole.look
        look.setCurrentIndex(look.findData("alone"))
        look.activated.emit(look.currentIndex())
        for _ in range(200):
            app.processEvents()
            time.sleep(0.002)
        there = np.array(shapes[-1].keys[1])[4]
        x, y = window.viewer.to_screen(there[None])[0]
        at = QPoint(round(x), round(y))
        QTest.mousePress(window.viewer, Qt.MouseButton.LeftButton, pos=at)
        drawn, taken, beside = [], [], []
        for k in range(MOVES):
            beside.append(two_warps(whole))
            before = window.viewer.picture
            begun = time.perf_counter()
            QTest.mouseMove(window.viewer, at + QPoint(1 + k % 7, k % 5))
            app.processEvents()
            drawn.append((time.perf_counter() - begun) * 1000)
            until(lambda before=before: window.viewer.picture is not before)
            app.processEvents()
            taken.append((time.perf_counter() - begun) * 1000)
        QTest.mouseRelease(window.viewer, Qt.MouseButton.LeftButton, pos=at)
        outlines, answers, warps = np.array(drawn), np.array(taken), np.array(beside)
        quiet = warps <= QUIET * warps.min()
        for words, which in (("all moves", np.ones(MOVES, bool)), ("undisturbed", quiet)):
            print(f"{words} ({which.sum()}): a dragged point's outline is drawn in {np.median(outlines[which]):.0f} ms (95 % under "
                  f"{np.percentile(outlines[which], 95):.0f}), the matte's picture in {np.median(answers[which]):.0f}; "
                  f"two HD warps {np.median(warps[which]):.1f} ms, ratio {np.median(answers[which] / warps[which]):.1f}", flush=True)
    os._exit(0)


if __name__ == "__main__":
    main()
