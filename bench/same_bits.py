"""A render, a dense solve, a drift measurement and coordinate maps of the demo's crate by one process, by 2 and 4 workers, and by 2 of which one is
ended by SIGKILL every five seconds: whether all is done, and all files are the same bits. python bench/same_bits.py [FRAMES]"""

import hashlib
import os
import shutil
import signal
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, nullcontext
from pathlib import Path

import wertis
from wertis.demo import make
from wertis.scripting.cluster import Cluster

KILL_EVERY = 5.0  # seconds


def done(shot_file: Path, folder: Path, frames: int, cluster: Cluster | None) -> dict[str, str]:
    """What came of the work: a file's name, or a frame's drift, to a digest."""
    shot = wertis.open(shot_file)
    first = shot.range[0]
    shot.range = first, first + frames - 1
    shot.render(folder / "comp" / "c.####.exr", cluster=cluster)
    crate = shot.surfaces[0]
    region = crate.record.region
    dense = shot.add(region.array, region.frame, "Dense", "dense", keep=folder / "dense")
    dense.track(cluster=cluster)
    (folder / "maps").mkdir()
    crate.export_motion(folder / "maps" / "m.####.exr", "map", cluster=cluster)
    drift = crate.check(cluster=cluster)
    found = {str(p.relative_to(folder)): hashlib.sha256(p.read_bytes()).hexdigest() for p in sorted(folder.rglob("*.*")) if p.is_file()}
    return found | {f"drift on {f}": hashlib.sha256(s.slip.tobytes() + s.uncertainty.tobytes()).hexdigest() for f, s in drift.by_frame.items()}


@contextmanager
def killing(cluster: Cluster) -> Iterator[list[int]]:
    """A worker is ended every few seconds; the numbers of those that were."""
    over, killed = threading.Event(), []

    def kill() -> None:
        turn = 0
        while not over.wait(KILL_EVERY):
            there = [p.pid for w in cluster._own.workers.values() if (p := getattr(w, "process", None)) is not None and p.pid]
            if there:
                turn += 1
                try:
                    os.kill(there[turn % len(there)], signal.SIGKILL)
                    killed.append(there[turn % len(there)])
                except ProcessLookupError:
                    continue

    thread = threading.Thread(target=kill)
    thread.start()
    try:
        yield killed
    finally:
        over.set()
        thread.join()


def main(frames: int) -> int:
    shot_file = next(make.folder().glob("Brindle Quay.wertis"), None)
    if shot_file is None:
        raise SystemExit("The demo shots are not made; wertis demo --make-only makes them.")
    folder = Path(tempfile.mkdtemp())
    expected: dict[str, str] = {}
    wrong = 0
    for name, workers, robbed in (("one process", 0, False), ("2 workers", 2, False), ("4 workers", 4, False), ("2 workers, killed", 2, True)):
        begun = time.perf_counter()
        with (Cluster(workers=workers, chunk=4) if workers else nullcontext()) as cluster, \
                (killing(cluster) if robbed and cluster is not None else nullcontext([])) as killed:
            found = done(shot_file, folder / name, frames, cluster)
        expected = expected or found
        same = found == expected
        wrong += not same
        print(f"{name}: {len(found)} results in {time.perf_counter() - begun:.0f} s, {len(killed)} workers killed; "
              + ("the same bits" if same else f"OTHER BITS: {sorted(k for k in expected if expected[k] != found.get(k))[:5]}"), flush=True)
    shutil.rmtree(folder)
    return wrong


if __name__ == "__main__":
    raise SystemExit(main(int(sys.argv[1]) if len(sys.argv) > 1 else 60))
