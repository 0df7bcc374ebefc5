"""`wertis check` beside `wertis track` on the same HD and 4K shots in the same run, whole processes; and the steady view made for playing, beside one
perspective warp of the picture by OpenCV."""

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import cv2
import numpy as np

from wertis.core.geometry import homography
from wertis.core.geometry.motion import Fix
from wertis.core.plate import open_plate
from wertis.core.shot import edits, store
from wertis.demo.make import FILMS
from wertis.demo.scene import FIRST, Film, Scene

SIZES = (((1920, 1080), 32), ((3840, 2160), 16))


def process(*words: str) -> float:
    """Seconds that a command takes."""
    begun = time.perf_counter()
    subprocess.run([sys.executable, "-m", "wertis.cli.main", *words], check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - begun


def steady(folder: Path) -> None:
    """The steady view's own share of playing HD: making its picture and painting it."""
    from PySide6.QtWidgets import QApplication

    from wertis.app.theme import apply_theme
    from wertis.app.window import MainWindow

    app = QApplication([])
    apply_theme(app)
    window = MainWindow()
    window.resize(1280, 800)
    window.show()
    window.open_path(folder / "shot.wertis")
    s = window.session
    s.go_step("Check")
    while window.viewer.picture is None:
        app.processEvents()
        time.sleep(0.001)
    window.drift_worker.stop()
    picture = window.viewer.picture
    taken = []
    for _ in range(30):
        begun = time.perf_counter()
        window.steady.show_frame(picture, "")
        window.steady.repaint()
        taken.append((time.perf_counter() - begun) * 1000)
    whole = picture.astype(np.float32)
    begun = time.perf_counter()
    for _ in range(10):
        cv2.warpPerspective(whole, np.array([[1, 0.02, 3], [0.01, 1, 5], [1e-5, 0, 1]]), (whole.shape[1], whole.shape[0]))
    warp = (time.perf_counter() - begun) * 100
    print(f"a steady HD picture made and painted in {np.median(taken):.1f} ms (25 a second leave 40); an HD warp by OpenCV {warp:.1f} ms", flush=True)


def main() -> None:
    """Print the figures."""
    film = FILMS["tea_crate"]
    scene = Scene(Film(film.frames, film.passers, film.seed))
    with tempfile.TemporaryDirectory() as name:
        for size, count in SIZES:
            folder = Path(name) / str(size[0])
            folder.mkdir()
            k = size[0] / scene.frame(0).shape[1]
            for i in range(count):
                cv2.imwrite(str(folder / f"p.{FIRST + i}.png"), cv2.resize(scene.frame(i), size, interpolation=cv2.INTER_CUBIC)[..., ::-1],
                            [cv2.IMWRITE_PNG_COMPRESSION, 1])
            truth = [scene.truth(i) * k for i in range(count)]
            shot, track = edits.add_track(edits.new_shot(open_plate(folder), str(folder)), truth[0], FIRST, "Crate")
            fixes = {FIRST + i: Fix(homography.from_points(truth[0], truth[i]), 0.05, 1.0) for i in range(1, count)}
            store.save(edits.set_tracked(shot, track.id, fixes), folder / "shot.wertis")
            region = " ".join(f"{x:.4f},{y:.4f}" for x, y in truth[0])
            # in turn, since machines are noisy
            tracking, checking = [], []
            for _ in range(3):
                tracking.append(process("track", str(folder), "--start", str(FIRST), "--region", region, "--out", str(folder / "out.csv"), "--quiet"))
                checking.append(process("check", str(folder / "shot.wertis"), "--quiet"))
            print(f"{size[0]}x{size[1]}: track {np.median(tracking):.2f} s, check {np.median(checking):.2f} s for {count} frames "
                  f"(ratio {np.median(checking) / np.median(tracking):.2f})", flush=True)
        steady(Path(name) / str(SIZES[0][0][0]))
    os._exit(0)


if __name__ == "__main__":
    main()
