"""Drift measured on tracks that are spoilt on purpose, against the known truth; time beside the tracking of the same frames in the same run.

    python bench/drift.py [FOLDER ...]

Without folders, small made shots. A folder holds f.0001.png ... and truth.json with `start`, `last`, `region` (4 x 2) and `corners` (frame to 4 x 2).
"""

import json
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import cv2
import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

from tests.scenes import SIZE, PlaneShot
from tests.test_check import spoil

from wertis.core.check.drift import DriftMeter
from wertis.core.geometry import homography, polygon
from wertis.core.plate.base import luma
from wertis.core.track.lagging import LaggingTracker
from wertis.core.track.planar import PlanarTracker

EVERY = 3  # frames of a folder that are measured: one in so many


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


def main() -> None:
    """Measure and print."""
    shots = [from_folder(Path(a)) for a in sys.argv[1:]] or list(made())
    for name, frames, region, truth in shots:
        size = frames[0].shape[1], frames[0].shape[0]
        mask = polygon.fill(region, size)
        looked = range(1, len(frames), EVERY if len(frames) > 30 else 1)
        meter = DriftMeter(frames[0], mask, region)
        begun = time.perf_counter()
        tracker = LaggingTracker(PlanarTracker(frames[0], mask, region))
        for i in range(1, len(frames)):
            tracker.feed(i, frames[i])
        tracker.finish()
        tracked = (time.perf_counter() - begun) / (len(frames) - 1)
        spent, count = 0.0, 0
        for how in ("none", "shift", "corner", "jump", "turn"):
            away, worst, measured, of = [], {}, 0, 0
            for i in looked:
                off = spoil(how, i / (len(frames) - 1), truth[i])
                begun = time.perf_counter()
                slip = meter.measure(frames[i], homography.from_points(region, truth[i] + off))
                spent, count = spent + time.perf_counter() - begun, count + 1
                inside = slip.in_view > 0.5
                of += inside
                if np.isfinite(slip.slip).any():
                    measured += inside
                    away.append(float(np.nanmax(np.linalg.norm(slip.slip + off, axis=1))))
                    worst[i] = (slip.worst, float(np.linalg.norm(off, axis=1).max()))
            named = max(worst, key=lambda k: worst[k][0]) if worst else None
            most = max((float(np.linalg.norm(spoil(how, i / (len(frames) - 1), truth[i]), axis=1).max()) for i in looked), default=0)
            right = f"worst named {worst[named][1] / most:4.0%} of the true worst" if named is not None and most > 0 else ""
            print(f"{name:14s} {how:7s} measured {measured / max(of, 1):4.0%}  within 0.15 px {np.mean(np.array(away) < 0.15) if away else 0:4.0%}  "
                  f"95 % under {np.percentile(away, 95) if away else float('nan'):.3f} px  {right}", flush=True)
        print(f"{name:14s} time of measuring over tracking {spent / count / tracked:.2f}", flush=True)


if __name__ == "__main__":
    main()
