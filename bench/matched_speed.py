"""How long a comp takes in HD whose graphic is bent, soft, blurred by motion, lit and grained, beside OpenCV's warps of the same number of pixels."""

import os
import time

os.environ.setdefault("OPENCV_LOG_LEVEL", "ERROR")

import cv2
import numpy as np

from wertis.core.comp.picture import Compositor
from wertis.core.geometry.motion import Fix
from wertis.core.shot import bends, edits, items
from wertis.core.shot.artwork import Artwork
from wertis.core.shot.document import Placement, PlateRef, Shot
from wertis.core.shot.match import GrainMatch, LightMatch, Match

SIZE, FRAMES, STEP = (1920, 1080), 10, 8.0  # pixels a frame by which the surface moves
QUAD = np.array([[560.0, 240], [1360, 250], [1350, 840], [550, 830]])


def shot_with(match: Match, bent: bool) -> Shot:
    """A shot whose surface moves, with a checker that is matched."""
    shot = Shot(plate=PlateRef(path="/nowhere/p", first=1, last=FRAMES, size=SIZE), range=(1, FRAMES))
    shot, track = edits.add_track(shot, QUAD, 1)
    moved = {f: Fix(np.array([[1, 0, STEP * (f - 1)], [0, 1, 0], [0, 0, 1]]), 0.1, 1.0) for f in range(1, FRAMES + 1)}
    shot = edits.set_tracked(shot, track.id, moved)
    placement = Placement(on=track.id, frame=1, quad=edits.as_points(QUAD), artwork=Artwork(kind="checker"), match=match)
    shot = items.add_item(shot, placement)
    if bent:
        handles = bends.handles_on(shot, placement, 1)
        assert handles is not None
        shot = bends.move_handles(shot, placement.id, 1, handles + np.repeat([[0, 25], [20, 0], [0, 25], [20, 0]], 2, axis=0))
    return shot


def main() -> None:
    """Print the figures."""
    rng = np.random.default_rng(1)
    plate = cv2.GaussianBlur(rng.integers(0, 256, (SIZE[1], SIZE[0], 3), dtype=np.uint8), (0, 0), 3)
    frames = np.arange(1, FRAMES + 1)
    light = LightMatch(frames=frames.astype(np.int64), gains=0.05 * rng.normal(0, 1, (FRAMES, 3, 3)), local=0.03 * rng.normal(0, 1, (FRAMES, 25, 6)))
    grain = GrainMatch(levels=(0.1, 0.5, 0.9), deviations=((0.01, 0.01, 0.012),) * 3, size=0.6)
    every = Match(softness=1.2, shutter=180, light=light, grain=grain)
    begun = time.perf_counter()
    for _ in range(FRAMES):
        cv2.warpPerspective(plate, np.array([[1, 0.01, 3.0], [0, 1, 2], [0, 0, 1]]), SIZE)
    warp = (time.perf_counter() - begun) / FRAMES
    for name, match, bent in (("plain", Match(), False), ("matched", every, False), ("matched and bent", every, True)):
        shot, compositor = shot_with(match, bent), Compositor()
        compositor.comp(shot, plate, 1, 3)
        best = np.inf
        for _ in range(3):
            begun = time.perf_counter()
            for f in frames:
                compositor.comp(shot, plate, int(f), 3)
            best = min(best, (time.perf_counter() - begun) / FRAMES)
        print(f"{name:17s} {1000 * best:5.0f} ms a frame, {best / warp:5.1f} warps of the picture by OpenCV ({1000 * warp:.1f} ms)", flush=True)


if __name__ == "__main__":
    main()
