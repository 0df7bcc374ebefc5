"""Drift measured on tracks that are spoilt on purpose, against the known truth; time beside the tracking of the same frames in the same run.

    python bench/drift.py [FOLDER ...]

Without folders, small made shots. A folder holds f.0001.png ... and truth.json with `start`, `last`, `region` (4 x 2) and `corners` (frame to 4 x 2).
"""

import json
import sys
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import cv2
import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

from tests.scenes import SIZE, PlaneShot
from tests.test_check import spoil

from wertis.core.check.series import DriftSeries
from wertis.core.check.slip import Slip
from wertis.core.geometry import homography, polygon
from wertis.core.geometry.warp import HomographyWarp
from wertis.core.plate.base import luma
from wertis.core.track.deferred_refinement import DeferredTracker
from wertis.core.track.planar import PlanarTracker


def made() -> Iterator[tuple[str, list[np.ndarray], np.ndarray, np.ndarray]]:
    """Name, luma pictures, region on the first, and where it truly is (frames, 4, 2)."""
    for name, how in (("plain", {}), ("passer", {"passer": 0.2}), ("light", {"exposure": 0.35}), ("blur", {"shutter": 0.6}), ("grain", {"noise": 6.0})):
        shot = PlaneShot(n=24, **how)  # type: ignore[arg-type]
        yield name, [luma(f) for f in shot.frames], shot.region, np.array([shot.truth(i) for i in range(24)])
    assert SIZE


def from_folder(folder: Path) -> tuple[str, list[np.ndarray], np.ndarray, np.ndarray]:
    """The same from a folder with its truth."""
    truth = json.loads((folder / "truth.json").read_text())
    frames = [cv2.imread(str(folder / f"f.{i:04d}.png"), cv2.IMREAD_GRAYSCALE) for i in range(truth["start"], truth["last"] + 1)]
    return folder.name, frames, np.array(truth["region"]), np.array([truth["corners"][str(i)] for i in range(truth["start"], truth["last"] + 1)])


def measured(frames: list[np.ndarray], mask: np.ndarray, region: np.ndarray, matrices: list[np.ndarray]) -> dict[int, Slip]:
    """The drift of all frames but the first, two at a time, as the product measures it."""
    size = frames[0].shape[1], frames[0].shape[0]
    series = DriftSeries(frames[0], mask, region, 0)

    def look(i: int) -> Slip:
        warp = HomographyWarp(matrices[i])
        x0, y0, x1, y1 = series.meter.window(warp, size)
        return series.take(i, series.look(frames[i][y0:y1, x0:x1], warp, None, (x0, y0), size), warp)

    with ThreadPoolExecutor(2) as pool:
        drift = dict(zip(range(1, len(frames)), pool.map(look, range(1, len(frames))), strict=True))
        for looks in series.rounds(lambda i: (frames[i], None)):
            again = [(i, pool.submit(work)) for i, work in looks]
            drift.update({i: work.result() for i, work in again})
        return drift


def main() -> None:
    """Measure and print."""
    shots = [from_folder(Path(a)) for a in sys.argv[1:]] or list(made())
    for name, frames, region, truth in shots:
        mask = polygon.fill(region, (frames[0].shape[1], frames[0].shape[0]))
        begun = time.perf_counter()
        tracker = DeferredTracker(PlanarTracker(frames[0], mask, region))
        for i in range(1, len(frames)):
            tracker.feed(i, frames[i])
        tracker.finish()
        tracked, spent = time.perf_counter() - begun, 0.0
        for how in ("none", "shift", "corner", "jump", "turn"):
            off = [spoil(how, i / (len(frames) - 1), truth[i]) for i in range(len(frames))]
            begun = time.perf_counter()
            drift = measured(frames, mask, region, [homography.from_points(region, t + o) for t, o in zip(truth, off, strict=True)])
            spent += (time.perf_counter() - begun) / 5
            true = {i: float(np.linalg.norm(off[i], axis=1).max()) for i in drift}
            here = [i for i in drift if np.isfinite(drift[i].slip).all()]
            in_view = [i for i in drift if drift[i].in_view > 0.5]
            away = np.array([np.linalg.norm(drift[i].slip + off[i], axis=1).max() for i in here])
            named = max(here, key=lambda i: drift[i].worst) if here else 0
            right = f"worst named {true[named] / max(true.values()):4.0%} of the true worst" if named and how != "none" else ""
            print(f"{name:14s} {how:7s} measured {len(set(here) & set(in_view)) / max(len(in_view), 1):4.0%}  within 0.15 px "
                  f"{np.mean(away < 0.15) if here else 0:4.0%}  95 % under {np.percentile(away, 95) if here else np.nan:.3f} px  {right}", flush=True)
        print(f"{name:14s} time of measuring over tracking {spent / tracked:.2f}", flush=True)


if __name__ == "__main__":
    main()
