"""A render of many frames on many workers, simulated: what limits it, and what to set: python bench/farm.py [FRAME_SECONDS [HAND_OUT_MS]]

One scheduler hands out chunks of frames one after the other; a worker reads its frames from one shared disk, makes them, and writes them there. The
disk's rate is shared evenly by those who use it at a time. The costs that are measured are given: seconds to make a frame on one core (bench/playing.py,
bench/rendering.py), and milliseconds for the scheduler to hand out a chunk (bench/cluster.py). Everything else stands in the table that is printed.
"""

import heapq
import sys
from dataclasses import dataclass


@dataclass(frozen=True)
class Farm:
    """A farm and its work.

    Attributes
    ----------
    workers, frames : how many; chunk : frames handed out at a time.
    making : seconds a frame on one core; reading, writing : megabytes a frame; disk : megabytes a second of the shared disk for all.
    handing : seconds for the scheduler to hand out a chunk and take its answer; start : seconds for a worker to begin and to open the shot, once;
    opening : seconds for what each chunk costs besides.
    """

    workers: int
    frames: int
    chunk: int
    making: float
    reading: float
    writing: float
    disk: float
    handing: float
    start: float
    opening: float


def simulated(farm: Farm) -> tuple[float, float, float]:
    """Seconds in all, and the shares of the workers' time in which they wait for the scheduler and for the disk.

    Discrete events: a worker that is free asks for a chunk; the scheduler serves one at a time; the disk serves one chunk's bytes after another, which
    ends as late, for all together, as sharing it evenly does.
    """
    free = [(0.0, w) for w in range(farm.workers)]
    heapq.heapify(free)
    scheduler, disk = 0.0, 0.0
    started: set[int] = set()
    left, end, waited_scheduler, waited_disk = farm.frames, 0.0, 0.0, 0.0
    while left > 0:
        now, worker = heapq.heappop(free)
        count = min(farm.chunk, left)
        left -= count
        scheduler = max(scheduler, now) + farm.handing
        waited_scheduler += scheduler - now
        moved = count * (farm.reading + farm.writing) / farm.disk
        begun = scheduler + farm.opening + (0.0 if worker in started else farm.start)
        started.add(worker)
        disk = max(disk, begun) + moved
        waited_disk += disk - begun
        done = disk + count * farm.making
        end = max(end, done)
        heapq.heappush(free, (done, worker))
    return end, waited_scheduler / (end * farm.workers), waited_disk / (end * farm.workers)


def main(making: float, handing: float) -> None:
    frames = 100_000
    print(f"{frames} frames at {making * 1000:.0f} ms on one core, {handing * 1000:.1f} ms to hand out a chunk; one core alone: "
          f"{frames * making / 3600:.1f} hours")
    print("| workers | frames a chunk | disk MB/s | hours | of the ideal | waits for scheduler | waits for disk |")
    print("|---|---|---|---|---|---|---|")
    for size, (reading, writing) in {"HD PNG": (6.0, 6.0), "4K EXR half": (50.0, 50.0)}.items():
        print(f"| {size}: {reading:.0f} + {writing:.0f} MB a frame | | | | | | |")
        own = making if size == "HD PNG" else 4 * making
        for workers in (10, 100, 1000):
            for chunk in (1, 8, 32):
                for disk in (1_000, 10_000, 100_000):
                    took, scheduler, waits = simulated(Farm(workers, frames, chunk, own, reading, writing, disk, handing, 4.0, 0.05))
                    if chunk == 8 or (workers == 1000 and disk == 100_000):
                        ideal = frames * own / workers
                        print(f"| {workers} | {chunk} | {disk} | {took / 3600:.2f} | {ideal / took:.0%} | {scheduler:.0%} | {waits:.0%} |")


if __name__ == "__main__":
    main(float(sys.argv[1]) if len(sys.argv) > 1 else 0.13, float(sys.argv[2]) / 1000 if len(sys.argv) > 2 else 3.0 / 1000)
