"""A published stereo pair with known disparity, as a plate of two frames: dense motion and points beside OpenCV's DIS flow and its stereo matcher.

    python bench/disparity.py FOLDER

FOLDER holds aloeL.jpg, aloeR.jpg and aloeGT.png, the Aloe pair of H. Hirschmueller and D. Scharstein, Evaluation of cost functions for stereo matching,
CVPR 2007, as Debian's package opencv-doc carries it (examples/data). Thin leaves at many depths are not the surfaces that Wertis is for; it shows how far
its motion may be believed elsewhere. The stereo matcher knows that rows match, which the others do not.
"""

import subprocess
import sys
import tempfile
import time
from pathlib import Path

import cv2
import numpy as np

from wertis.core.exchange import points_csv

_EVERY = 9  # pixels between the places that are judged
_BESIDE = 8  # pixels along the picture's edge that are left out


def judged(disparity: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Places (n, 2) whose disparity (h, w) is known and that the right picture shows, and where they lie there (n, 2); first pixel's centre at (0, 0)."""
    h, w = disparity.shape
    y, x = (a.ravel() for a in np.mgrid[_BESIDE:h - _BESIDE:_EVERY, _BESIDE:w - _BESIDE:_EVERY])
    rows, columns = np.mgrid[:h, :w]
    there = np.rint(columns - disparity).astype(int)
    nearest, known = np.zeros((h, w)), (disparity > 0) & (there >= 0)
    np.maximum.at(nearest, (rows[known], there[known]), disparity[known])
    own = disparity[y, x]
    seen = (own > 0) & (x - own > 4) & (nearest[y, np.clip(np.rint(x - own).astype(int), 0, w - 1)] <= own + 1)  # nothing nearer lies over it
    return np.column_stack([x, y])[seen].astype(float), np.column_stack([x - own, y])[seen]


def tell(who: str, found: np.ndarray, truth: np.ndarray, seconds: float) -> None:
    """Print how many of the places (n, 2) were answered, and how exactly."""
    answered = np.isfinite(found).all(1)
    away = np.linalg.norm(found - truth, axis=1)[answered]
    shares = ", ".join(f"{np.mean(away <= limit):.0%} within {limit} px" for limit in (0.5, 1, 2))
    print(f"{who:24s} answers for {answered.mean():4.0%}; of these {shares}; median {np.median(away):.2f} px; {seconds:.1f} s")


def main() -> None:
    """Print the figures."""
    folder = Path(sys.argv[1])
    left, right = (cv2.pyrDown(cv2.imread(str(folder / f"aloe{side}.jpg"))) for side in "LR")
    h, w = left.shape[:2]
    known = cv2.resize(cv2.imread(str(folder / "aloeGT.png"), cv2.IMREAD_UNCHANGED), (w, h), interpolation=cv2.INTER_NEAREST) / 2.0
    places, truth = judged(known)
    print(f"{len(places)} places, disparities of {np.ptp(places[:, 0] - truth[:, 0]):.0f} px between near and far")
    with tempfile.TemporaryDirectory() as name:
        plate = Path(name) / "plate"
        plate.mkdir()
        for k, picture in enumerate((left, right), 1):
            cv2.imwrite(str(plate / f"aloe.{k:04d}.png"), picture)
        (plate.parent / "in.csv").write_text("id,x,y\n" + "".join(f"{k},{x + 0.5},{y + 0.5}\n" for k, (x, y) in enumerate(places)))
        for model in ("dense", "points"):
            out, begun = plate.parent / f"{model}.csv", time.perf_counter()
            subprocess.run([sys.executable, "-m", "wertis.cli.main", "track", str(plate), "--start", "1", "--model", model, "--region",
                            f"1,1 {w - 1},1 {w - 1},{h - 1} 1,{h - 1}", "--points",
                            str(plate.parent / "in.csv"), "--out", str(out), "--quiet"], check=True)
            seconds = time.perf_counter() - begun
            found = points_csv.read_frames(out).get(2, {})
            tell(f"wertis, {model}", np.array([found.get(str(k), (np.nan, np.nan)) for k in range(len(places))]) - 0.5, truth, seconds)
    grey = [cv2.cvtColor(picture, cv2.COLOR_BGR2GRAY) for picture in (left, right)]
    x, y = places.astype(int).T
    begun = time.perf_counter()
    flow = cv2.DISOpticalFlow_create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM).calc(grey[0], grey[1], None)  # type: ignore[call-overload]
    tell("DIS flow", places + flow[y, x], truth, time.perf_counter() - begun)
    begun = time.perf_counter()
    matcher = cv2.StereoSGBM.create(minDisparity=16, numDisparities=112, blockSize=5, P1=200, P2=800)
    matched = matcher.compute(*grey)[y, x] / 16.0
    tell("semi-global matching", places - np.column_stack([np.where(matched > 15, matched, np.nan), np.zeros(len(x))]), truth, time.perf_counter() - begun)


if __name__ == "__main__":
    main()
