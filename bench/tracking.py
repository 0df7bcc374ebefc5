"""`wertis track` as a whole process on made shots with known truth, beside a chain of OpenCV's pyramidal Lucas-Kanade in the same run."""

import csv
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import cv2
import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

import itertools

from tests.scenes import SIZE, PlaneShot

from wertis.demo.make import FILMS
from wertis.demo.scene import FIRST, Film, Scene


def lucas_kanade(files: list[Path], corners: np.ndarray) -> np.ndarray:
    """Frame to frame: good features, pyramidal Lucas-Kanade, robust homography; corners (n, 4, 2)."""
    pictures = [cv2.imread(str(f), cv2.IMREAD_GRAYSCALE) for f in files]
    chain, out = np.eye(3), [corners]
    for a, b in itertools.pairwise(pictures):
        inside = np.zeros(a.shape, np.uint8)
        cv2.fillPoly(inside, [np.round(out[-1] - 0.5).astype(np.int32)], 255)
        p = cv2.goodFeaturesToTrack(a, 400, .005, 7, mask=inside)
        q, ok, _ = cv2.calcOpticalFlowPyrLK(a, b, p, None, winSize=(21, 21), maxLevel=4)
        good = ok[:, 0] == 1
        step, _ = cv2.findHomography(p[good], q[good], cv2.USAC_MAGSAC, 1.0)
        chain = step @ chain
        out.append(cv2.perspectiveTransform(corners[None] - 0.5, chain)[0] + 0.5)
    return np.array(out)


def report(name: str, who: str, found: np.ndarray, truth: np.ndarray, seconds: float) -> None:
    """One line: error and speed."""
    e = np.linalg.norm(found - truth, axis=2).mean(1)
    e = np.where(np.isfinite(e), e, 9999.0)
    print(f"{name:20s} {who:12s} rms {np.sqrt((e ** 2).mean()):8.3f} px  median {np.median(e):7.3f}  worst {e.max():8.3f}  "
          f"{len(e) / seconds:6.1f} fps", flush=True)


def run(name: str, files: list[Path], start: int, region: np.ndarray, truth: np.ndarray) -> None:
    """Both on one shot."""
    begun = time.perf_counter()
    theirs = lucas_kanade(files, region)
    their_time = time.perf_counter() - begun
    report(name, "lucas-kanade", theirs, truth, their_time)
    text = " ".join(f"{x:.4f},{y:.4f}" for x, y in region)
    out = files[0].parent / "out.csv"
    begun = time.perf_counter()
    subprocess.run([sys.executable, "-m", "wertis.cli.main", "track", str(files[0].parent), "--start", str(start), "--region", text, "--out", str(out)],
                   check=True, env=os.environ)
    seconds = time.perf_counter() - begun
    found = np.full(truth.shape, np.nan)
    with out.open() as file:
        for row in csv.DictReader(file):
            found[int(row["frame"]) - start] = [[float(row[f"x{k}"]), float(row[f"y{k}"])] for k in (1, 2, 3, 4)]
    out.unlink()
    report(name, "wertis", found, truth, seconds)
    print(f"{name:20s} speed of wertis over lucas-kanade: {their_time / seconds:.2f}\n", flush=True)


def main() -> None:
    """All shots."""
    with tempfile.TemporaryDirectory() as folder:
        for name, made in (("small", PlaneShot(n=30)), ("small, passer", PlaneShot(n=30, passer=0.3)), ("small, light", PlaneShot(n=30, exposure=0.3))):
            where = made.write(Path(folder) / name.replace(", ", "_"))
            truth = np.array([made.truth(i) for i in range(30)])
            run(f"{name} {SIZE[0]}x{SIZE[1]}", sorted(where.glob("*.png")), FIRST, made.region, truth)
        film = FILMS["tea_crate"]
        scene = Scene(Film(film.frames, film.passers, film.seed))
        for size, count in (((1920, 1080), 40), ((3840, 2160), 24)):
            where = Path(folder) / f"{size[0]}"
            where.mkdir()
            k = size[0] / scene.frame(0).shape[1]
            for i in range(count):
                cv2.imwrite(str(where / f"p.{FIRST + i}.png"), cv2.resize(scene.frame(i), size, interpolation=cv2.INTER_CUBIC)[..., ::-1],
                            [cv2.IMWRITE_PNG_COMPRESSION, 1])
            truth = np.array([scene.truth(i) for i in range(count)]) * k
            run(f"tea_crate {size[0]}x{size[1]}", sorted(where.glob("*.png")), FIRST, truth[0], truth)
        for name, film in FILMS.items():
            where = Path(folder) / name
            where.mkdir()
            scene = Scene(Film(film.frames, film.passers, film.seed))
            for i in range(film.frames):
                cv2.imwrite(str(where / f"p.{FIRST + i}.png"), scene.frame(i)[..., ::-1], [cv2.IMWRITE_PNG_COMPRESSION, 1])
            truth = np.array([scene.truth(i) for i in range(film.frames)])
            run(name, sorted(where.glob("*.png")), FIRST, truth[0], truth)


if __name__ == "__main__":
    main()
