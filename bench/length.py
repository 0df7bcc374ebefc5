"""Memory over a long shot and a large one: a window that goes through 2,000 HD frames and 300 frames of 4K EXR, and `wertis track` over them.

The yardstick, in the same run, is a process that reads the same frames one by one with OpenImageIO and keeps none. The budget is the default one.
Frames are links to a few files, since only their number matters: python bench/length.py [HD FRAMES] [4K FRAMES].
"""

import os
import subprocess
import sys
import tempfile
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

REGION = "700,300 1250,310 1240,800 690,790"
PEAK = "import resource; print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024, flush=True)\n"
READ = """
import sys
from pathlib import Path
import OpenImageIO as oiio
for file in sorted(Path(sys.argv[1]).iterdir()):
    source = oiio.ImageInput.open(str(file)); source.read_image(); source.close()
""" + PEAK
WINDOW = """
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
q = np.array([[700.0, 300], [1250, 310], [1240, 800], [690, 790]])
shot, t = edits.add_track(s.shot, q, 1)
shot = edits.set_tracked(shot, t.id, {f: Fix(np.eye(3), .1, 1.0) for f in range(1, s.plate.last + 1)})
s.history.do("x", items.add_item(shot, Placement(on=shot.tracks[0].id, frame=1, quad=edits.as_points(q), artwork=Artwork(kind="checker"))))
s.go_step("Use")
shown = set()
old = w.viewer.show_picture
w.viewer.show_picture = lambda p, t, size=None: (shown.add(s.frame) if p is not None else None, old(p, t, size)) and None
begun = time.monotonic()
for f in range(1, s.plate.last + 1):
    s.go(f)
    end = time.monotonic() + 60
    while f not in shown and time.monotonic() < end: a.processEvents(); time.sleep(.0005)
assert len(shown) >= s.plate.last - 1, len(shown)
print(f"{(time.monotonic() - begun) / s.plate.last * 1000:.0f}", flush=True)
""" + PEAK + "import os; os._exit(0)"
TRACK = "import sys; from wertis.cli.main import main; main(sys.argv[1:])\n" + PEAK


def said(code: str, *words: str) -> list[str]:
    """The last words of a process of its own."""
    done = subprocess.run([sys.executable, "-c", code, *words], capture_output=True, text=True, env={**os.environ, "QT_QPA_PLATFORM": "offscreen"})
    if done.returncode:
        raise SystemExit(done.stderr[-2000:])
    return done.stdout.split()


def frames(folder: Path, size: tuple[int, int], suffix: str, count: int) -> None:
    """A long sequence of few pictures that move a little."""
    import cv2
    import numpy as np

    from wertis.core.exchange.pictures import write_picture

    rng = np.random.default_rng(1)
    base = cv2.GaussianBlur(rng.integers(0, 256, (size[1], size[0], 3), dtype=np.uint8), (0, 0), 3)
    base = cv2.normalize(base, None, 0, 255, cv2.NORM_MINMAX)
    folder.mkdir()
    made = []
    for k in range(8):
        picture = np.roll(base, (k if k < 5 else 8 - k) * 2, 1)
        made.append(folder.parent / f"{folder.name}{k}{suffix}")
        write_picture(made[-1], picture if suffix == ".png" else (picture / 255.0).astype(np.float16))
    for f in range(1, count + 1):
        (folder / f"p.{f:05d}{suffix}").symlink_to(made[(f - 1) % len(made)])


def main(long: int, large: int) -> None:
    """Print the figures."""
    with tempfile.TemporaryDirectory() as temporary:
        for name, size, suffix, count in (("HD", (1920, 1080), ".png", long), ("4K EXR", (4096, 2160), ".exr", large)):
            folder = Path(temporary) / name.replace(" ", "_")
            frames(folder, size, suffix, count)
            read = int(said(READ, str(folder))[-1])
            each, window = said(WINDOW, str(folder))[-2:]
            track = int(said(TRACK, "track", str(folder), "--start", "1", "--region", REGION, "--out", f"{temporary}/o.csv", "--quiet")[-1])
            print(f"{name}, {count} frames: peak {window} MB in the window going through all ({each} ms a frame), {track} MB in wertis track, "
                  f"{read} MB in a process that only reads them (ratios {int(window) / read:.1f}, {track / read:.1f}); budget 2048 MB", flush=True)


if __name__ == "__main__":
    main(*(int(a) for a in sys.argv[1:3])) if len(sys.argv) > 2 else main(2000, 300)
