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
from PySide6.QtCore import QPoint
from PySide6.QtWidgets import QApplication

from dragging import drag, frames_in, tracked_window, until
from wertis.app.theme import apply_theme
from wertis.core.shot import matte_edits
from wertis.core.shot.mattes import new_shape

SHAPES, POINTS = 40, 30


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

        until(app, lambda: window.viewer.picture is not None)
        look = window.steps["Use"].page.matte.whole.look
        look.setCurrentIndex(look.findData("alone"))
        look.activated.emit(look.currentIndex())
        for _ in range(200):
            app.processEvents()
            time.sleep(0.002)
        there = np.array(shapes[-1].keys[1])[4]
        x, y = window.viewer.to_screen(there[None])[0]
        at = QPoint(round(x), round(y))
        drag(app, window, at, whole, "the matte's picture shows it")
    os._exit(0)


if __name__ == "__main__":
    main()
