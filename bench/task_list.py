"""A list of 30 shots, three of them broken, and a list that is killed again and again: python bench/task_list.py [KILLS].

The yardstick is the same shots' own work, as their reports have it, done one after the other without starting a process for each.
"""

import json
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

import cv2
import numpy as np
from tests.test_task_list import QUAD, VIEWS, write_plate

SHOTS, WORKERS = 30, 2
REGION = [[float(x), float(y)] for x, y in QUAD]


def write_list(folder: Path, names: list[str], **more: object) -> Path:
    """A list that tracks a surface of each plate, checks it, places a graphic and renders."""
    shots = [{"name": n, "plate": f"{n}/p.####.png", "start": 1, "region": REGION, "graphics": [{"artwork": "art.png"}],
              "render": f"out/{n}.####.png", "export": [{"out": f"out/{n}.json"}], **more} for n in names]
    (folder / "list.json").write_text(json.dumps({"shots": shots}))
    return folder / "list.json"


def run(listed: Path, *more: str) -> subprocess.CompletedProcess[str]:
    """Do the list."""
    return subprocess.run([sys.executable, "-m", "wertis.cli.main", "run", str(listed), *more], capture_output=True, text=True, check=False)


def thirty(folder: Path) -> list[str]:
    """Thirty shots, three broken; what went wrong."""
    views = list(VIEWS.values())
    names = [f"shot{k:02d}" for k in range(SHOTS)]
    for k, name in enumerate(names):
        write_plate(folder / name, views[k % len(views)] if k % 3 == 0 else np.eye(3), 1.0 - 0.01 * k)
    missing, other, vanishing = names[4], names[11], names[17]
    (folder / missing / "p.0001.png").unlink()
    cv2.imwrite(str(folder / other / "p.0003.png"), np.zeros((100, 120, 3), np.uint8))
    listed = write_list(folder, names)
    over = threading.Event()

    def vanish() -> None:
        while not (folder / "night" / f"{vanishing}.state.json").exists() and not over.wait(0.02):
            pass
        shutil.rmtree(folder / vanishing, ignore_errors=True)

    thread = threading.Thread(target=vanish)
    thread.start()
    begun = time.perf_counter()
    run(listed, "--workers", str(WORKERS))
    took = time.perf_counter() - begun
    over.set()
    thread.join()
    shots = json.loads((folder / "night" / "report.json").read_text())["shots"]
    done = [s for s in shots if s["state"] == "done" and not any("could not be" in n for n in s["needs"]) and not s["lost"]]
    own = sum(sum(s["seconds"].values()) for s in shots)
    print(f"{SHOTS} shots: {len(done)} done and whole in {took:.0f} s by {WORKERS} workers; their own work {own:.0f} s (ratio {own / took:.2f})",
          flush=True)
    told = [s for s in shots if s not in done]
    for s in told:
        print(f"   {s['name']}: {s['error'] or '; '.join(s['needs'] + s['notes'])}", flush=True)
    begun = time.perf_counter()
    run(listed, "--workers", str(WORKERS))
    print(f"once more, with all done: {time.perf_counter() - begun:.1f} s", flush=True)
    return [] if {s["name"] for s in told} == {missing, other, vanishing} else [f"told of {sorted(s['name'] for s in told)}"]


def killed(folder: Path, kills: int) -> list[str]:
    """A list killed at random moments, then ended; what is not as in an undisturbed run."""
    for name in ("a", "b", "c"):
        write_plate(folder / name, np.eye(3))
    listed = write_list(folder, ["a", "b", "c"])
    run(listed)
    expected = {p.name: p.read_bytes() for p in (folder / "out").iterdir()}
    rng, halves = np.random.default_rng(5), 0
    for folder_ in ("out", "night"):
        shutil.rmtree(folder / folder_)
    for _ in range(kills):
        job = subprocess.Popen([sys.executable, "-m", "wertis.cli.main", "run", str(listed)], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
                               start_new_session=True)
        time.sleep(float(rng.uniform(0.3, 5.0)))
        os.killpg(job.pid, signal.SIGKILL)
        job.wait()
        there = (folder / "out").iterdir() if (folder / "out").exists() else ()
        halves += sum(p.name in expected and p.read_bytes() != expected[p.name] for p in there)
        if rng.random() < 0.3:  # or it would soon be done
            shutil.rmtree(folder / "night", ignore_errors=True)
            shutil.rmtree(folder / "out", ignore_errors=True)
    ended = run(listed)
    found = {p.name: p.read_bytes() for p in (folder / "out").iterdir()}
    print(f"{kills} kills: {halves} files half written; ended with {ended.returncode}, files the same: {found == expected}", flush=True)
    return [] if not halves and found == expected and ended.returncode == 0 else ["after kills"]


def main(kills: int) -> int:
    """Both; the exit code says whether all went well."""
    wrong = []
    for what, more in ((thirty, ()), (killed, (kills,))):
        with tempfile.TemporaryDirectory() as name:
            cv2.imwrite(str(Path(name) / "art.png"), np.random.default_rng(1).integers(0, 255, (72, 90, 3), dtype=np.uint8))
            wrong += what(Path(name), *more)
    print("\n".join(wrong) or "all well")
    return 1 if wrong else 0


if __name__ == "__main__":
    raise SystemExit(main(int(sys.argv[1]) if len(sys.argv) > 1 else 50))
