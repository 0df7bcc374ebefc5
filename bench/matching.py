"""A graphic matched to a plate, beside one that is merely laid on it and beside the truth: made-up shots in which the graphic really is in the scene.

    python bench/matching.py [FOLDER]

Each shot is a textured plane that moves, softened by a lens, blurred by a shutter, lit by light that changes over time and place, and grained; once as it
is, and once with the graphic painted on the plane. All matching is measured; nothing is set by hand. Differences are means of absolute values, in 255ths.
"""

import sys
import tempfile
from pathlib import Path

import cv2
import numpy as np
from skimage import data

import wertis
from wertis.core.geometry import homography
from wertis.core.geometry.conventions import homography_to_centred
from wertis.core.imaging.grain import made
from wertis.core.shot.document import PlaneSolution, Region, Track
from wertis.core.shot.edits import as_points

SIZE, FRAMES, SUBFRAMES, FINER = (960, 540), 24, 24, 2
SHOTS = {"steady light": {"light": 0.0, "slope": 0.0, "softness": 1.0, "speed": 4.0},
         "changing light": {"light": 0.35, "slope": 0.25, "softness": 1.4, "speed": 9.0},
         "soft and slow": {"light": 0.15, "slope": 0.1, "softness": 2.2, "speed": 1.5}}
SHUTTER, GRAIN, GRAIN_SIZE = 180.0, (1.4, 1.1, 1.8), 0.7  # degrees; deviations in 255ths; pixels
QUAD = np.array([[330.0, 150], [630, 150], [630, 390], [330, 390]])


def linear(v: np.ndarray) -> np.ndarray:
    return np.where(v <= 0.04045, v / 12.92, ((v + 0.055) / 1.055) ** 2.4)


def coded(v: np.ndarray) -> np.ndarray:
    v = np.clip(v, 0, None)
    return np.where(v <= 0.0031308, v * 12.92, 1.055 * v ** (1 / 2.4) - 0.055)


def placed(time: float, speed: float) -> np.ndarray:
    """(3, 3) from the first frame to a time."""
    angle, scale = 0.004 * time, 1 + 0.004 * time
    c, s = np.cos(angle) * scale, np.sin(angle) * scale
    matrix = np.array([[c, -s, 0.6 * speed * time + 5 * np.sin(time / 5) - 3 * time], [s, c, 0.3 * speed * time], [2e-6 * time, -1e-6 * time, 1]])
    middle = np.array([[1, 0, -480.0], [0, 1, -270.0], [0, 0, 1]])
    return np.linalg.inv(middle) @ matrix @ middle


def artwork() -> np.ndarray:
    return cv2.resize(data.chelsea(), (600, 480), interpolation=cv2.INTER_AREA)


def surface(with_graphic: bool) -> np.ndarray:
    """(h, w, 3) the plane in linear light, at twice the resolution of the first frame, with room round it."""
    wall = cv2.resize(data.brick().astype(np.float32) / 255, (2 * SIZE[0] + 800, 2 * SIZE[1] + 800), interpolation=cv2.INTER_CUBIC)
    wall = linear(np.clip(wall, 0, 1))[..., None] * np.array([0.9, 0.75, 0.62]) * 0.8
    wall = np.ascontiguousarray(wall, np.float32)
    for k in range(26):  # marks with sharp edges, as print on a wall has
        x, y = 120 + (k % 9) * 300, 100 + (k // 9) * 600
        cv2.rectangle(wall, (x, y), (x + 110, y + 150), [0.5, 0.12, 0.1] if k % 2 else [0.08, 0.2, 0.35], -1)
    if with_graphic:
        onto = homography.from_points(np.array([[0.0, 0], [600, 0], [600, 480], [0, 480]]), QUAD * FINER + 400)
        wall = cv2.warpPerspective(linear(artwork() / 255).astype(np.float32), homography_to_centred(onto), wall.shape[1::-1], wall, cv2.INTER_LINEAR,
                                   cv2.BORDER_TRANSPARENT)
    return np.asarray(wall)


def film(wall: np.ndarray, shot: dict[str, float], grained: bool, seed: int) -> list[np.ndarray]:
    frames = []
    y, x = np.mgrid[0:SIZE[1], 0:SIZE[0]] / np.array(SIZE[::-1])[:, None, None] - 0.5
    for frame in range(FRAMES):
        total = np.zeros((SIZE[1] * FINER, SIZE[0] * FINER, 3), np.float32)
        for k in range(SUBFRAMES):
            time = frame + (SHUTTER / 360) * ((k + 0.5) / SUBFRAMES - 0.5)
            home = np.diag([1 / FINER, 1 / FINER, 1.0]) @ np.array([[1, 0, -400.0], [0, 1, -400], [0, 0, 1]])
            onto = np.diag([FINER, FINER, 1.0]) @ placed(time, shot["speed"]) @ home
            total += cv2.warpPerspective(wall, homography_to_centred(onto), (SIZE[0] * FINER, SIZE[1] * FINER), flags=cv2.INTER_LINEAR,
                                         borderMode=cv2.BORDER_REFLECT)
        seen = cv2.resize(cv2.GaussianBlur(total / SUBFRAMES, (0, 0), shot["softness"] * FINER), SIZE, interpolation=cv2.INTER_AREA)
        gain = np.exp(shot["light"] * np.sin(frame / 4) + shot["slope"] * np.sin(frame / 6) * x + 0.5 * shot["slope"] * np.sin(frame / 7) * y)
        out = coded(seen * gain[..., None] * np.array([1.0, 1 + 0.05 * shot["light"] * np.sin(frame / 3), 1.0]))
        if grained:
            out = out + made(SIZE, GRAIN_SIZE, (seed, frame)) * np.array(GRAIN, np.float32) / 255
        frames.append(np.clip(out, 0, 1))
    return frames


def main() -> None:
    root = Path(sys.argv[1]) if len(sys.argv) > 1 else Path(tempfile.mkdtemp())
    cv2.imwrite(str(root / "art.png"), artwork()[..., ::-1])
    for name, shot in SHOTS.items():
        folder = root / name.replace(" ", "_")
        folder.mkdir(exist_ok=True)
        for frame, picture in enumerate(film(surface(False), shot, True, 1)):
            cv2.imwrite(str(folder / f"p.{frame + 1:04d}.png"), np.round(picture[..., ::-1] * 65535).astype(np.uint16))
        truth = film(surface(True), shot, False, 2)
        opened = wertis.open(folder)
        matrices = np.array([placed(f, shot["speed"]) @ np.linalg.inv(placed(0, shot["speed"])) for f in range(FRAMES)])
        solution = PlaneSolution(reference=1, frames=np.arange(1, FRAMES + 1, dtype=np.int64), matrices=matrices, errors=np.zeros(FRAMES),
                                 seen=np.ones(FRAMES))
        region = Region(frame=1, points=as_points((QUAD - [480, 270]) * 1.3 + [480, 270]))
        opened._do("Track", opened.document.but(mixing="linear", tracks=(Track(region=region, solution=solution),)))
        graphic = opened.surfaces[0].place(root / "art.png", homography.apply(placed(0, shot["speed"]), QUAD), 1, fit="stretch")
        inside, edges = [], []
        plain = [opened.frame(f) for f in range(1, FRAMES + 1)]
        words = graphic.match()
        matched = [opened.frame(f) for f in range(1, FRAMES + 1)]
        for pictures in (plain, matched):
            off = []
            for frame, picture in enumerate(pictures):
                quad = homography.apply(placed(frame, shot["speed"]), QUAD)
                mask = np.zeros(SIZE[::-1], np.uint8)
                cv2.fillConvexPoly(mask, np.round(quad).astype(np.int32), 1)
                near = cv2.distanceTransform(mask, cv2.DIST_L2, 5), cv2.distanceTransform(1 - mask, cv2.DIST_L2, 5)
                difference = np.abs(picture / 65535.0 - truth[frame]).mean(2) * 255
                off.append((difference[near[0] > 6].mean(), difference[(near[0] <= 6) & (near[1] <= 6)].mean()))
            inside.append(np.mean([a for a, _ in off]))
            edges.append(np.mean([b for _, b in off]))
        record = graphic.record.match
        print(f"{name}: inside {inside[0]:.2f} laid, {inside[1]:.2f} matched; edge {edges[0]:.2f} laid, {edges[1]:.2f} matched; "
              f"softness {record.softness:.2f} for {np.hypot(shot['softness'], 0.29):.2f} px, shutter {record.shutter:.0f} for {SHUTTER:.0f}; "
              f"{'; '.join(words.values())}")


if __name__ == "__main__":
    main()
