"""A matte of 40 shapes of 30 points in HD: hard, soft, blurred, carried by all of a track or by less, beside OpenCV's filling of the same outlines on a
raster 8 times finer, in one run.

    python bench/mattes.py
"""

import time

import cv2
import numpy as np

from wertis.core.matte.outline import bezier, flattened
from wertis.core.shot.document import PlaneSolution, Region, Shot, Track
from wertis.core.shot.matte_alpha import matte_alpha
from wertis.core.shot.matte_edits import add_matte
from wertis.core.shot.mattes import MatteShape, new_shape

SIZE, SHAPES, POINTS, FINER, RUNS = (1920, 1080), 40, 30, 8, 3


def shapes(soft: float) -> tuple[MatteShape, ...]:
    rng = np.random.default_rng(0)
    around = np.linspace(0, 2 * np.pi, POINTS, endpoint=False)
    made = []
    for _ in range(SHAPES):
        (x, y), (a, b) = rng.uniform([200, 200], [1700, 900]), rng.uniform(60, 200, 2)
        made.append(new_shape(np.column_stack([x + a * np.cos(around), y + b * np.sin(around)]), 1, soft=soft))
    return tuple(made)


def yardstick() -> float:
    """Milliseconds of filling the outlines with OpenCV, on a finer raster, and bringing that down."""
    outlines = [flattened(bezier(s.at(1), np.array(s.roundness)))[0] for s in shapes(0)]
    begun = time.perf_counter()
    for outline in outlines:
        low, high = np.floor(outline.min(0)).astype(int), np.ceil(outline.max(0)).astype(int)
        fine = np.zeros(((high - low)[::-1] * FINER), np.uint8)
        cv2.fillPoly(fine, [np.round((outline - low) * FINER).astype(np.int32)], 255)
        cv2.resize(fine, tuple((high - low).tolist()), interpolation=cv2.INTER_AREA)
    return 1e3 * (time.perf_counter() - begun)


def main() -> None:
    frames = np.arange(1, 6, dtype=np.int64)
    moved = np.array([[[1, 0, 6.0 * k], [0, 1, 2.0 * k], [0, 0, 1]] for k in range(5)])
    solution = PlaneSolution(reference=1, frames=frames, matrices=moved, errors=np.zeros(5), seen=np.ones(5))
    track = Track(region=Region(frame=1, points=((0.0, 0.0), (100.0, 0.0), (100.0, 100.0))), solution=solution)
    against = min(yardstick() for _ in range(RUNS))
    print(f"OpenCV, {FINER} x {FINER} samples a pixel: {against:.0f} ms")
    for soft, shutter, take in ((0.0, 0.0, "all"), (0.0, 180.0, "all"), (0.0, 180.0, "affine"), (4.0, 0.0, "all"), (4.0, 180.0, "all")):
        shot, matte = add_matte(Shot(range=(1, 5), tracks=(track,)), track, 1, shapes=shapes(soft))
        taken = []
        for run in range(RUNS):
            begun = time.perf_counter()
            matte_alpha(shot, matte.but(shutter=shutter, take=take), 2 + run, SIZE)  # another frame each time: what was made is kept
            taken.append(1e3 * (time.perf_counter() - begun))
        print(f"soft {soft:g} px, shutter {shutter:g} degrees, takes {take}: {min(taken):.0f} ms, {min(taken) / against:.1f} times that")


if __name__ == "__main__":
    main()
