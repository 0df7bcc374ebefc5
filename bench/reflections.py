"""How a track behaves on a surface that mirrors something strongly: python bench/reflections.py

Small made shots with known motion, over short and longer ranges. For each: the median error in pixels as the frames first come and when all is done, how
many frames are lost, and how many are "far and sure": over a pixel off and over three times the error that is stated.
"""

import sys
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests.scenes import FramesPlate, PlaneShot

from wertis.core.geometry import homography
from wertis.core.geometry.motion import Fix
from wertis.core.track.run import track_plane


def errors(shot: PlaneShot, fixes: dict[int, Fix]) -> np.ndarray:
    """(n,) mean error of the region's corners on the frames after the first, pixels; inf where lost."""
    return np.array([np.linalg.norm(homography.apply(fix.matrix, shot.region) - shot.truth(f), axis=1).mean() if fix.matrix is not None else np.inf
                     for f, fix in sorted(fixes.items())])


def main() -> None:
    sure, total = 0, 0
    for seed in (3, 5, 8):
        for picture in ("coffee", "rocket", "astronaut"):
            for strength, count in ((0.6, 12), (0.6, 16), (1.0, 12), (1.0, 20), (0.8, 26)):
                shot = PlaneShot(n=count, mirrored=strength, picture=picture, seed=seed)
                first: dict[int, Fix] = {}
                last: dict[int, Fix] = {}
                for frame, fix in track_plane(FramesPlate(shot.frames), shot.region, 0, range(1, count)):
                    first.setdefault(frame, fix)
                    last[frame] = fix
                off, stated = errors(shot, last), np.array([fix.error for _, fix in sorted(last.items())])
                seen = np.isfinite(off)
                wrong = int((seen & (off > 1) & (off > 3 * stated)).sum())
                sure, total = sure + (wrong > 0), total + 1
                print(f"{picture:10s} seed {seed} strength {strength} {count:3d} frames  first {np.median(errors(shot, first)):6.2f} px  "
                      f"then {np.median(off[seen]) if seen.any() else float('nan'):6.2f} px  lost {(~seen).sum():2d}  far and sure {wrong:2d}", flush=True)
    print(f"shots with frames that are far and sure: {sure} of {total}")


if __name__ == "__main__":
    main()
