"""`wertis track` as a whole process on made shots with known truth, beside a process that chains OpenCV's pyramidal Lucas-Kanade."""

import csv
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import NamedTuple

import cv2
import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

from tests.scenes import SIZE, PlaneShot

from wertis.demo.make import FILMS
from wertis.demo.scene import FIRST, Film, Scene

ROUNDS = 3
YARDSTICK = str(Path(__file__).with_name("lucas_kanade.py"))


def report(name: str, who: str, found: np.ndarray, truth: np.ndarray, cost: "Cost") -> None:
    """One line: error and speed."""
    e = np.linalg.norm(found - truth, axis=2).mean(1)
    e = np.where(np.isfinite(e), e, 9999.0)
    print(f"{name:20s} {who:12s} rms {np.sqrt((e ** 2).mean()):8.3f} px  median {np.median(e):7.3f}  worst {e.max():8.3f}  "
          f"{len(e) / cost.wall:6.1f} fps, processor {1000 * cost.processor / len(e):5.0f} ms a frame", flush=True)


class Cost(NamedTuple):
    """Seconds that a whole process took, by the clock and of all processors together."""

    wall: float
    processor: float


def timed(*command: str) -> Cost:
    """Run a command."""
    before, begun = resource.getrusage(resource.RUSAGE_CHILDREN), time.perf_counter()
    subprocess.run(command, check=True)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return Cost(time.perf_counter() - begun, after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime)


def run(name: str, files: list[Path], start: int, region: np.ndarray, truth: np.ndarray) -> None:
    """Both on one shot, as whole processes by turns; each counts by its best round, since others may use the machine as well."""
    text = " ".join(f"{x:.4f},{y:.4f}" for x, y in region)
    out, begin, theirs = (files[0].parent / n for n in ("out.csv", "begin.npy", "theirs.npy"))
    np.save(begin, region)
    costs: dict[str, list[Cost]] = {"lucas-kanade": [], "wertis": []}
    for _ in range(ROUNDS):
        costs["lucas-kanade"].append(timed(sys.executable, YARDSTICK, str(begin), str(theirs), *map(str, files)))
        costs["wertis"].append(timed(sys.executable, "-m", "wertis.cli.main", "track", str(files[0].parent), "--start", str(start), "--region", text,
                                     "--out", str(out), "--quiet"))
    found = np.full(truth.shape, np.nan)
    with out.open() as file:
        for row in csv.DictReader(file):
            found[int(row["frame"]) - start] = [[float(row[f"x{k}"]), float(row[f"y{k}"])] for k in (1, 2, 3, 4)]
    out.unlink()
    best = {who: Cost(min(c.wall for c in all_), min(c.processor for c in all_)) for who, all_ in costs.items()}
    report(name, "lucas-kanade", np.load(theirs), truth, best["lucas-kanade"])
    report(name, "wertis", found, truth, best["wertis"])
    wall, processor = (a / b for a, b in zip(best["lucas-kanade"], best["wertis"], strict=True))
    print(f"{name:20s} speed of wertis over lucas-kanade: {wall:.2f} by the clock, {processor:.2f} by the processor\n", flush=True)


def write(scene: Scene, where: Path, size: tuple[int, int], count: int) -> None:
    """Frames of a demo scene as PNG, at any size."""
    where.mkdir()
    for i in range(count):
        picture = scene.frame(i)
        if picture.shape[1] != size[0]:
            picture = cv2.resize(picture, size, interpolation=cv2.INTER_CUBIC)
        cv2.imwrite(str(where / f"p.{FIRST + i}.png"), picture[..., ::-1], [cv2.IMWRITE_PNG_COMPRESSION, 1])


def main() -> None:
    """All shots, or those whose names hold a word that is given."""
    wanted = sys.argv[1:]

    def is_wanted(name: str) -> bool:
        return not wanted or any(word in name for word in wanted)

    with tempfile.TemporaryDirectory() as folder:
        for name, made in (("small", PlaneShot(n=30)), ("small, passer", PlaneShot(n=30, passer=0.3)), ("small, light", PlaneShot(n=30, exposure=0.3))):
            if is_wanted(name):
                where = made.write(Path(folder) / name.replace(", ", "_"))
                run(f"{name} {SIZE[0]}x{SIZE[1]}", sorted(where.glob("*.png")), FIRST, made.region, np.array([made.truth(i) for i in range(30)]))
        shots = [(f"tea_crate {w}x{h}", FILMS["tea_crate"], (w, h), count) for w, h, count in ((1920, 1080, 40), (3840, 2160, 24))]
        shots += [(name, film, (1280, 720), film.frames) for name, film in FILMS.items()]
        for name, film, size, count in shots:
            if is_wanted(name):
                scene, where = Scene(Film(film.frames, film.passers, film.seed)), Path(folder) / name
                write(scene, where, size, count)
                truth = np.array([scene.truth(i) for i in range(count)]) * size[0] / 1280
                run(name, sorted(where.glob("*.png")), FIRST, truth[0], truth)


if __name__ == "__main__":
    main()
