"""Rendering in parts by two processes beside one, and what sharing out costs; the same run, the same files: python bench/cluster.py [FRAMES]

An HD plate with a matched graphic. One process is measured as it is in the product, where it reads, makes and writes side by side on all cores, and
bound to one core, which is what one of two processes on two cores has. The scheduler's cost is
the time to hand out and collect the same parts with nothing to do, over the frames, beside 50 ms a frame.
"""

import contextlib
import os
import shutil
import sys
import tempfile
import time
from pathlib import Path

import cv2
import numpy as np

import wertis
from wertis.core.imaging import parallel
from wertis.core.shot.document import PlaneSolution, Region, Track
from wertis.core.shot.edits import as_points
from wertis.scripting.cluster import CHUNK, Cluster

ROUNDS = 3  # of which the best counts
QUAD = np.array([[620.0, 280], [1340, 320], [1310, 800], [600, 760]])


def nothing(k: int) -> int:
    return k


def main(count: int) -> None:
    folder = Path(tempfile.mkdtemp())
    rng = np.random.default_rng(1)
    wall = cv2.resize(rng.integers(40, 220, (120, 200, 3), dtype=np.uint8), (2200, 1300), interpolation=cv2.INTER_CUBIC)
    for k in range(count):
        cv2.imwrite(str(folder / f"p.{k + 1:04d}.png"), wall[k % 60:1080 + k % 60, 2 * (k % 60):1920 + 2 * (k % 60)], [cv2.IMWRITE_PNG_COMPRESSION, 1])
    cv2.imwrite(str(folder / "art.png"), np.full((480, 720, 3), (40, 200, 90), np.uint8))
    shot = wertis.open(folder / "p.####.png")
    matrices = np.array([[[1, 0, -2.0 * (k % 60)], [0, 1, -(k % 60)], [0, 0, 1]] for k in range(count)], float)
    solution = PlaneSolution(reference=1, frames=np.arange(1, count + 1), matrices=matrices, errors=np.zeros(count), seen=np.ones(count))
    shot._do("Track", shot.document.but(tracks=(Track(name="Wall", region=Region(frame=1, points=as_points(QUAD)), solution=solution),)))
    shot.surface("Wall").place(folder / "art.png", QUAD, 1).set_match(softness=1.4, shutter=180.0)
    times: dict[str, list[float]] = {}
    cores = os.sched_getaffinity(0)

    def timed(name: str, **more: object) -> None:
        shutil.rmtree(folder / name, ignore_errors=True)
        begun = time.perf_counter()
        shot.render(folder / name / "c.####.png", **more)  # type: ignore[arg-type]
        times.setdefault(name, []).append(time.perf_counter() - begun)

    def bind(wanted: set[int]) -> None:
        for thread in Path("/proc/self/task").iterdir():
            with contextlib.suppress(ProcessLookupError):  # it has ended meanwhile
                os.sched_setaffinity(int(thread.name), wanted)

    with Cluster(workers=2) as cluster:
        shot.render(folder / "warm" / "c.####.png", frames=range(1, 1 + 2 * CHUNK), cluster=cluster)  # each process has begun
        for _ in range(ROUNDS):  # by turns: the machine is not the same from one minute to the next
            parallel.use_threads(2)
            timed("one process, all cores")
            parallel.use_threads(1)
            bind({min(cores)})
            timed("one process, one core")
            bind(cores)
            timed("two processes", cluster=cluster)
        parts = 400
        begun = time.perf_counter()
        for _ in cluster.imap_unordered(nothing, [(k,) for k in range(parts)]):
            pass
        cost = (time.perf_counter() - begun) / parts / CHUNK
    one = min(times["one process, one core"])
    for name, all_ in times.items():
        took = min(all_)
        print(f"{name}: {count / took:.2f} frames a second, {one / took:.2f} times one process on one core")
    print(f"sharing out costs {1000 * cost:.2f} ms a frame, {cost / 0.05:.1%} of 50 ms")
    same = all(p.read_bytes() == (folder / "two processes" / p.name).read_bytes() for p in (folder / "one process, all cores").iterdir())
    print("the files are the same" if same else "THE FILES DIFFER")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 96)
