"""Meshes on a surface that comes to look otherwise for good: a made cloth whose picture turns into another one, all of it.

    python bench/changing_look.py [FRAMES]

By the reference frame alone, with newer looks taken by themselves, and with two further reference frames on which the mesh is right; beside OpenCV's
dense optical flow from frame to frame. The pictures are scikit-image's.
"""

import sys
from collections.abc import Iterator
from itertools import pairwise

import cv2
import numpy as np
from skimage import data

from wertis.core.blas import single_threaded
from wertis.core.geometry.mesh import Mesh, laid
from wertis.core.geometry.warp import FunctionWarp
from wertis.core.imaging.resample import warped
from wertis.core.plate.base import Plate
from wertis.core.track.mesh.run import track_mesh

SIZE = (1280, 720)
QUAD = np.array([[330.0, 120], [950, 130], [940, 600], [340, 590]])


def waved(points: np.ndarray, frame: int) -> np.ndarray:
    """Where points (..., 2) of frame 0 are: a slow drift, and two waves of 12 pixels."""
    x, y, t = points[..., 0], points[..., 1], frame / 24
    high = 12 * min(1.0, frame / 12)
    return np.stack([x + 60 * np.sin(0.7 * t) + high * np.sin(y / 75 + 4 * t), y - 25 * np.sin(0.9 * t) + high * np.sin(x / 95 - 3 * t)], axis=-1)


class Cloth(Plate):
    """The frames, in memory."""

    gaps = frozenset()  # type: ignore[assignment]
    path, first, fps, size = None, 0, 24.0, SIZE  # type: ignore[assignment]

    def __init__(self, count: int) -> None:
        self.last = count - 1  # type: ignore[misc]
        rng = np.random.default_rng(8)
        first, other = (cv2.resize(picture(), SIZE, interpolation=cv2.INTER_CUBIC).astype(np.float32) for picture in (data.coffee, data.astronaut))
        self.pictures = []
        for k in range(count):
            part = k / (count - 1)
            seen = warped((1 - part) * first + part * other, FunctionWarp(lambda p, k=k: waved(p, k)), SIZE, cv2.INTER_CUBIC)
            self.pictures.append(np.clip(seen + rng.normal(0, 2, seen.shape), 0, 255).astype(np.uint8))

    def read(self, frame: int) -> np.ndarray:
        return self.pictures[frame]


def by_flow(cloth: Cloth, points: np.ndarray) -> Iterator[np.ndarray]:
    """The points (N, 2) on each frame from the second on, by DIS flow."""
    flow, at = cv2.DISOpticalFlow_create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM), points - 0.5
    grey = [cv2.cvtColor(p, cv2.COLOR_RGB2GRAY) for p in cloth.pictures]
    for before, after in pairwise(grey):
        move = flow.calc(before, after, None)  # type: ignore[call-overload]
        at = at + cv2.remap(move, at[:, 0].astype(np.float32), at[:, 1].astype(np.float32), cv2.INTER_LINEAR)[:, 0]
        yield at + 0.5


def main(count: int) -> None:
    cloth = Cloth(count)
    mask = cv2.fillPoly(np.zeros(SIZE[::-1], np.uint8), [QUAD.astype(np.int32)], 255)
    mesh = Mesh(laid(mask, 38))
    inside = np.array([cv2.pointPolygonTest(QUAD.astype(np.float32), (float(x), float(y)), True) > 12 for x, y in mesh.vertices])
    truth = {f: waved(mesh.vertices, f) for f in range(count)}
    known = {f: truth[f] for f in (count // 2, count - 1)}
    runs = {"the reference frame alone": {"renewed": False}, "newer looks by themselves": {},
            "two further reference frames": {"renewed": False, "further": tuple(known), "known": known}}
    parts = np.array_split(np.arange(1, count), 6)
    print("root mean square of the errors of the vertices well inside, in pixels, over sixths of the shot; frames lost; stated true")
    for name, how in runs.items():
        with single_threaded():
            found = dict(track_mesh(cloth, mesh, mask, 0, range(1, count), **how))  # type: ignore[arg-type]
        away = {f: np.linalg.norm(x.places - truth[f], axis=1)[inside] for f, x in found.items() if x.places is not None}
        rows = [np.concatenate([away[f] for f in part if f in away] or [np.array([np.nan])]) for part in parts]
        honest = np.mean([away[f] <= 2 * found[f].errors[inside] for f in away])
        print(f"{name:30s} {'  '.join(f'{np.sqrt((r ** 2).mean()):6.2f}' for r in rows)}   lost {count - 1 - len(away)}, {honest:.0%}")
    moved = dict(enumerate(by_flow(cloth, mesh.vertices), 1))
    rows = [np.concatenate([np.linalg.norm(moved[f] - truth[f], axis=1)[inside] for f in part]) for part in parts]
    print(f"{'DIS flow':30s} {'  '.join(f'{np.sqrt((r ** 2).mean()):6.2f}' for r in rows)}")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 72)
