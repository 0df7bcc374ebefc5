"""Rendering a comp to HD sequences, beside plain writing of the same pictures, one after the other, by OpenCV (PNG) and OpenImageIO (EXR)."""

import os
import tempfile
import time
from pathlib import Path

os.environ.setdefault("OPENCV_LOG_LEVEL", "ERROR")

import cv2
import numpy as np
import OpenImageIO as oiio

from wertis.core.geometry.motion import Fix
from wertis.core.jobs.render import render
from wertis.core.plate import open_plate
from wertis.core.plate.sequence import read_picture
from wertis.core.shot import edits, items
from wertis.core.shot.artwork import Artwork
from wertis.core.shot.document import Placement

SIZE, FRAMES = (1920, 1080), 24
QUAD = np.array([[620.0, 280], [1340, 320], [1310, 800], [600, 760]])


def main() -> None:
    """Print the figures."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "plate").mkdir()
        rng = np.random.default_rng(1)
        base = cv2.GaussianBlur(rng.integers(0, 256, (SIZE[1], SIZE[0], 3), dtype=np.uint8), (0, 0), 3)
        for f in range(1, FRAMES + 1):
            seen = np.clip(np.roll(base, f, 1) + rng.normal(0, 2, base.shape), 0, 255).astype(np.uint8)
            cv2.imwrite(str(folder / "plate" / f"p.{f:04d}.png"), seen, [cv2.IMWRITE_PNG_COMPRESSION, 1])
        plate = open_plate(folder / "plate")
        shot, track = edits.add_track(edits.new_shot(plate, str(folder / "plate")), QUAD, 1)
        shot = edits.set_tracked(shot, track.id, {f: Fix(np.array([[1, 0, f - 1.0], [0, 1, 0], [0, 0, 1]]), 0.1, 1.0) for f in range(1, FRAMES + 1)})
        shot = items.add_item(shot, Placement(on=track.id, frame=1, quad=edits.as_points(QUAD), artwork=Artwork(kind="checker")))
        for suffix in (".png", ".exr"):
            begun = time.perf_counter()
            for _ in render(shot, plate, str(folder / suffix[1:] / f"c.####{suffix}"), list(range(1, FRAMES + 1))):
                pass
            ours = FRAMES / (time.perf_counter() - begun)
            pictures = [read_picture(folder / suffix[1:] / f"c.{f:04d}{suffix}") for f in range(1, 9)]
            begun = time.perf_counter()
            for k, picture in enumerate(pictures):
                file = str(folder / f"plain{k}{suffix}")
                if suffix == ".png":
                    cv2.imwrite(file, picture)
                else:
                    out = oiio.ImageOutput.create(file)
                    out.open(file, oiio.ImageSpec(SIZE[0], SIZE[1], picture.shape[2], "half"))
                    out.write_image(np.ascontiguousarray(picture))
                    out.close()
            plain = len(pictures) / (time.perf_counter() - begun)
            print(f"{suffix[1:]}: read, comp and written at {ours:.1f} frames a second; plain writing alone, by "
                  f"{'OpenCV' if suffix == '.png' else 'OpenImageIO'}, {plain:.1f} (ratio {ours / plain:.2f})", flush=True)


if __name__ == "__main__":
    main()
