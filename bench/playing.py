"""Time to make a comp frame in HD as for playing and as for a render, beside one perspective warp of the whole picture by OpenCV."""

import time

import cv2
import numpy as np

from wertis.core.comp.picture import Compositor
from wertis.core.shot.artwork import Artwork
from wertis.core.shot.document import Placement, PlateRef, Region, Shot, Track

SIZE = (1920, 1080)
QUAD = ((620.0, 280.0), (1340.0, 320.0), (1310.0, 800.0), (600.0, 760.0))


def median_ms(work, times: int = 15) -> float:  # type: ignore[no-untyped-def]
    """Median milliseconds of a call, after one warm-up."""
    work()
    taken = []
    for _ in range(times):
        begun = time.perf_counter()
        work()
        taken.append((time.perf_counter() - begun) * 1000)
    return float(np.median(taken))


def main() -> None:
    """Print the figures."""
    plate = np.random.default_rng(1).integers(0, 256, (SIZE[1], SIZE[0], 3), dtype=np.uint8)
    track = Track(region=Region(frame=1, points=QUAD))
    placement = Placement(on=track.id, frame=1, quad=QUAD, artwork=Artwork(kind="checker"))
    shot = Shot(plate=PlateRef(path="-", first=1, last=1, size=SIZE), range=(1, 1), tracks=(track,), items=(placement,))
    compositor = Compositor()
    matrix = np.array([[1.0, 0.02, 3], [0.01, 1, 5], [1e-5, 0, 1]])
    whole = plate.astype(np.float32)
    warp = median_ms(lambda: cv2.warpPerspective(whole, matrix, SIZE))
    play = median_ms(lambda: compositor.comp(shot, plate, 1, 1))
    final = median_ms(lambda: compositor.comp(shot, plate, 1, 3))
    print(f"OpenCV warp of an HD float picture {warp:.1f} ms; comp for playing {play:.1f} ms (ratio {play / warp:.2f}); "
          f"comp for a render {final:.1f} ms (ratio {final / warp:.2f})")


if __name__ == "__main__":
    main()
