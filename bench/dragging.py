"""Time from moving a repair point to both panes showing it, in HD with a graphic, beside two perspective warps of an HD picture by OpenCV.

The warps are timed before every move. On a machine that others use as well, moves count as undisturbed where the warps beside them took no more
than `QUIET` times their least.
"""

import os
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import cv2
import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from wertis.app.theme import apply_theme
from wertis.app.window import MainWindow
from wertis.core.geometry.motion import Fix
from wertis.core.jobs.repair import with_points
from wertis.core.shot import edits, items, repairs
from wertis.core.shot.artwork import Artwork
from wertis.core.shot.document import Placement, Shot, Track

QUAD = np.array([[620.0, 280], [1340, 320], [1310, 800], [600, 760]])
FRAMES, MOVES, QUIET = 12, 120, 1.4


def frames_in(folder: str, count: int) -> np.ndarray:
    """Write HD frames that move by a pixel each; the first of them (h, w, 3) float32."""
    base = cv2.GaussianBlur(np.random.default_rng(1).integers(0, 256, (1080, 1920, 3), dtype=np.uint8), (0, 0), 3)
    for f in range(1, count + 1):
        cv2.imwrite(f"{folder}/p.{f:04d}.png", np.roll(base, f, 1), [cv2.IMWRITE_PNG_COMPRESSION, 1])
    return base.astype(np.float32)


def two_warps(picture: np.ndarray) -> float:
    """Milliseconds of two perspective warps of a picture."""
    begun = time.perf_counter()
    for _ in range(2):
        cv2.warpPerspective(picture, np.array([[1, 0.02, 3], [0.01, 1, 5], [1e-5, 0, 1]]), (1920, 1080))
    return (time.perf_counter() - begun) * 1000


def tracked_window(folder: str, count: int) -> tuple[MainWindow, Shot, Track]:
    """A window on those frames; a shot in which a quad of them is tracked, not yet given to it, and its track."""
    window = MainWindow()
    window.resize(1280, 800)
    window.show()
    window.open_path(Path(folder))
    shot, track = edits.add_track(window.session.shot, QUAD, 1)
    fixes = {f: Fix(np.array([[1, 0, f - 1.0], [0, 1, 0], [0, 0, 1]]), 0.1, 1.0) for f in range(1, count + 1)}
    return window, edits.set_tracked(shot, track.id, fixes), track


def until(app: QApplication, done: Callable[[], object]) -> None:
    """Let the window work until something is so."""
    while not done():
        app.processEvents()
        time.sleep(0.0005)


def drag(app: QApplication, window: MainWindow, at: QPoint, picture: np.ndarray, what: str) -> None:
    """Drag what is at a place of the plate's pane, and print how long it takes until it is drawn there, and until the picture that follows from it is."""
    viewer = window.viewer
    QTest.mousePress(viewer, Qt.MouseButton.LeftButton, pos=at)
    drawn, taken, beside = np.zeros(MOVES), np.zeros(MOVES), np.zeros(MOVES)
    for k in range(MOVES):
        beside[k] = two_warps(picture)
        before = viewer.picture
        begun = time.perf_counter()
        QTest.mouseMove(viewer, at + QPoint(1 + k % 7, k % 5))
        app.processEvents()
        drawn[k] = (time.perf_counter() - begun) * 1000
        until(app, lambda before=before: viewer.picture is not before)  # type: ignore[misc]
        app.processEvents()  # paints both panes
        taken[k] = (time.perf_counter() - begun) * 1000
    QTest.mouseRelease(viewer, Qt.MouseButton.LeftButton, pos=at)
    quiet = beside <= QUIET * beside.min()
    for words, which in (("all moves", np.ones(MOVES, bool)), ("undisturbed", quiet)):
        print(f"{words} ({which.sum()}): a dragged point is drawn in {np.median(drawn[which]):.0f} ms (95 % under {np.percentile(drawn[which], 95):.0f}); "
              f"{what} in {np.median(taken[which]):.0f} ms (95 % under {np.percentile(taken[which], 95):.0f}); two HD warps "
              f"{np.median(beside[which]):.1f} ms, ratio {np.median(taken[which] / beside[which]):.1f}", flush=True)


def main() -> None:
    """Print the figures."""
    app = QApplication([])
    apply_theme(app)
    with tempfile.TemporaryDirectory() as folder:
        whole = frames_in(folder, FRAMES)
        window, shot, track = tracked_window(folder, FRAMES)
        s = window.session
        shot = items.add_item(shot, Placement(on=track.id, frame=1, quad=edits.as_points(QUAD), artwork=Artwork(kind="checker")))
        s.history.do("Set up", with_points(shot, track.id))
        s.go_step("Repair")
        s.go(8)

        until(app, lambda: len(s.drift) == FRAMES)
        until(app, lambda: window.viewer.picture is not None and window.steady.picture is not None)
        there = repairs.points_on(s.shot.tracks[0], 8)
        assert there is not None
        x, y = window.viewer.to_screen(there[2:3])[0]
        at = QPoint(round(x), round(y))
        drag(app, window, at, whole, "both panes show it")
    os._exit(0)


if __name__ == "__main__":
    main()
