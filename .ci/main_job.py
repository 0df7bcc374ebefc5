"""Parts of `check-wheel`: a small plate, whether the render is right, and the shot in the window."""

import sys
from pathlib import Path

import cv2
import numpy as np


def plate() -> None:
    rng = np.random.default_rng(1)
    wall = cv2.resize(rng.integers(0, 256, (60, 80, 3), dtype=np.uint8), (480, 360), interpolation=cv2.INTER_CUBIC)
    Path("plate").mkdir()
    Path("out").mkdir()
    for frame in range(1, 9):
        cv2.imwrite(f"plate/p.{frame:04d}.png", wall[20 + frame:260 + frame, 60 + 2 * frame:380 + 2 * frame])
    cv2.imwrite("art.png", np.full((60, 80, 3), (40, 200, 90), np.uint8))


def check() -> None:
    corners = np.loadtxt("o.csv", delimiter=",", skiprows=1)
    assert len(corners) == 8 and abs(corners[-1, 1] - corners[0, 1] + 14) < 0.05, corners
    for frame in (1, 8):
        comp, bare = (cv2.imread(f"{folder}.{frame:04d}.png") for folder in ("out/c", "plate/p"))
        middle = comp[80 - frame:160 - frame, 120 - 2 * frame:200 - 2 * frame].mean((0, 1))  # its grain averaged away
        assert middle[1] > 2 * middle[0] and middle[1] > 2 * middle[2], middle
        assert (comp[:40] == bare[:40]).all()


def window() -> None:
    from PySide6.QtWidgets import QApplication

    from wertis.app.session import Session
    from wertis.app.theme import apply_theme
    from wertis.app.window import MainWindow

    app = QApplication([])
    apply_theme(app)
    opened = MainWindow(Session(budget=256 << 20))
    opened.open_path(Path("s.wertis"))
    opened.show()
    app.processEvents()
    assert opened.session.shot.tracks and opened.grab().width() > 600
    opened.session.history.mark_saved()
    opened.close()


{"plate": plate, "check": check, "window": window}[sys.argv[1]]()
