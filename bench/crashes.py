"""Kills a window at random moments of editing, saving and autosaving, and looks at what is left: python bench/crashes.py [ROUNDS].

Each time the shot file must open, and what is found in it or in the kept copy must be no more than five seconds behind the last edit.
"""

import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

from wertis.core.shot import autosave, store

MOST_LOST = 5.0  # seconds


def work(path: Path) -> None:
    """The child: edits all the time, saves now and then, and says every edit's number."""
    from PySide6.QtWidgets import QApplication

    from wertis.app.window import MainWindow

    application = QApplication([])
    window = MainWindow()
    window.show()
    window.open_path(path)
    s = window.session
    number, next_save = 0, time.monotonic() + 0.7
    while True:
        number += 1
        s.history.do("Rename", s.shot.but(name=f"edit {number}"))
        print(f"{number} {time.time()}", flush=True)
        if time.monotonic() > next_save:
            window.save()
            next_save = time.monotonic() + random.uniform(0.2, 6.0)
        end = time.monotonic() + random.uniform(0, 0.05)
        while time.monotonic() < end:
            application.processEvents()
            time.sleep(0.001)


def one_round(path: Path, seconds: float) -> tuple[int, float]:
    """One crash; how many edits were made, and how many seconds of work are lost."""
    child = subprocess.Popen([sys.executable, __file__, "--child", str(path)], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
                             env={**os.environ, "QT_QPA_PLATFORM": "offscreen"})
    assert child.stdout is not None
    first = child.stdout.readline()
    if not first:
        raise RuntimeError("the window did not start")
    time.sleep(seconds)
    child.send_signal(signal.SIGKILL)
    text = (first + child.stdout.read()).decode()
    child.wait()
    edits = [(int(a), float(b)) for a, b in (line.split() for line in text.splitlines() if line.count(" ") == 1)]
    died = edits[-1][1]
    found = [store.load(path).name]
    for copy in autosave.lost():
        found.append(autosave.read_copy(copy.file).name)
        autosave.discard(copy)
    kept = max((int(name.split()[1]) for name in found if name.startswith("edit ")), default=0)
    missing = [when for number, when in edits if number > kept]
    return len(edits), died - missing[0] if missing else 0.0


def main(rounds: int) -> None:
    """All rounds."""
    from tests.scenes import PlaneShot

    from wertis.core.plate import open_plate
    from wertis.core.shot import edits

    with tempfile.TemporaryDirectory() as folder:
        os.environ["XDG_STATE_HOME"] = folder
        made = PlaneShot(n=3)
        plate = made.write(Path(folder) / "plate")
        path = Path(folder) / "s.wertis"
        worst = 0.0
        for k in range(rounds):
            shot, _ = edits.add_track(edits.new_shot(open_plate(plate), str(plate), "start"), made.region, 1001)
            store.save(shot, path)
            count, lost = one_round(path, random.uniform(0, 7.0))
            worst = max(worst, lost)
            print(f"round {k + 1}: {count} edits, {lost:.2f} s lost", flush=True)
            if lost > MOST_LOST:
                raise SystemExit(f"{lost:.1f} s of work were lost")
        print(f"{rounds} crashes, the shot opened after each; at most {worst:.2f} s of work lost")


if __name__ == "__main__":
    if "--child" in sys.argv:
        work(Path(sys.argv[-1]))
    else:
        main(int(sys.argv[1]) if len(sys.argv) > 1 else 200)
