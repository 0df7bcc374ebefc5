"""Start to a usable window with the demo shot, warm, beside the start of an empty Qt window with NumPy and OpenCV in the same run; and playing HD from
the cache with a graphic on it."""

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

EMPTY = """
import numpy, cv2
from PySide6.QtWidgets import QApplication, QMainWindow
a = QApplication([]); w = QMainWindow(); w.show(); a.processEvents()
"""
WINDOW = """
import sys, time
from pathlib import Path
from PySide6.QtWidgets import QApplication
from wertis.app.theme import apply_theme
from wertis.app.window import MainWindow
a = QApplication([]); apply_theme(a); w = MainWindow(); w.show(); w.open_path(Path(sys.argv[1]))
while w.viewer.picture is None: a.processEvents(); time.sleep(.001)
w.repaint()
import os; os._exit(0)
"""
PLAY = """
import sys, time
from pathlib import Path
import numpy as np
from PySide6.QtWidgets import QApplication
from wertis.app.theme import apply_theme
from wertis.app.window import MainWindow
from wertis.core.geometry.motion import Fix
from wertis.core.shot import edits, items
from wertis.core.shot.artwork import Artwork
from wertis.core.shot.document import Placement
a = QApplication([]); apply_theme(a); w = MainWindow(); w.show(); w.open_path(Path(sys.argv[1])); s = w.session
q = np.array([[620.0, 280], [1340, 320], [1310, 800], [600, 760]])
shot, t = edits.add_track(s.shot, q, 1)
shot = edits.set_tracked(shot, t.id, {f: Fix(np.array([[1, 0, f * 1.0], [0, 1, 0], [0, 0, 1]]), .1, 1.0) for f in range(1, 49)})
s.history.do("x", items.add_item(shot, Placement(on=shot.tracks[0].id, frame=1, quad=edits.as_points(q), artwork=Artwork(kind="checker"))))
s.go_step("Use")
shown = []
old = w.viewer.show_picture
w.viewer.show_picture = lambda p, t, size=None: (shown.append((time.perf_counter(), s.frame)), old(p, t, size)) and None
end = time.perf_counter() + 8
w.playback.toggle()
while time.perf_counter() < end: a.processEvents(); time.sleep(.0005)
last = [x for x in shown if x[0] > end - 4]
print(len({round(t, 3) for t, _ in last}) / 4)
import os; os._exit(0)
"""


def seconds(code: str, *words: str) -> float:
    """Time of a whole process; the second run, which is warm."""
    for _ in range(2):
        begun = time.perf_counter()
        subprocess.run([sys.executable, "-c", code, *words], check=True, env={**os.environ, "QT_QPA_PLATFORM": "offscreen"}, stderr=subprocess.DEVNULL)
    return time.perf_counter() - begun


def main() -> None:
    """Print the figures."""
    import cv2
    import numpy as np

    from wertis.demo import make

    make.make(names=[make.FIRST_FILM])
    ours, empty = seconds(WINDOW, str(make.folder() / make.TRACKED)), seconds(EMPTY)
    print(f"start to a usable window with the demo shot {ours:.2f} s, an empty window {empty:.2f} s (ratio {ours / empty:.2f})")
    with tempfile.TemporaryDirectory() as folder:
        rng = np.random.default_rng(1)
        base = cv2.GaussianBlur(rng.integers(0, 256, (1080, 1920, 3), dtype=np.uint8), (0, 0), 3)
        for f in range(1, 49):
            cv2.imwrite(f"{folder}/p.{f:04d}.png", np.roll(base, f, 1), [cv2.IMWRITE_PNG_COMPRESSION, 1])
        done = subprocess.run([sys.executable, "-c", PLAY, folder], capture_output=True, text=True, env={**os.environ, "QT_QPA_PLATFORM": "offscreen"})
        print(f"playing 48 HD frames round and round with a graphic: {done.stdout.strip()} pictures a second, of 24 wanted")


if __name__ == "__main__":
    main()
