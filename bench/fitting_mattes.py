"""A matte's outline fitted to the picture's edge on the frames between keys, sharp and smeared by the shutter, beside OpenCV's GrabCut of the same frames.

    python bench/fitting_mattes.py [FRAMES]
"""

import sys
import tempfile
import time
from pathlib import Path

import cv2
import numpy as np
from skimage import data

import wertis
from wertis.core.geometry import homography
from wertis.core.matte.coverage import polygon_area

SIZE, POINTS, INSTANTS, EVERY, BAND = (1280, 720), 64, 12, 6, 6
NOISE = 1.5  # of 255 steps, standard deviation


def outline(now: float) -> np.ndarray:
    """(POINTS, 2) a soft outline about its own middle, which slowly changes."""
    around = 2 * np.pi * np.arange(POINTS) / POINTS
    radius = 150 * (1 + 0.15 * np.sin(3 * around + 0.4) + 0.06 * np.sin(2 * around + now / 5))
    return radius[:, None] * np.column_stack([np.cos(around), np.sin(around)])


def place(now: float, speed: float) -> np.ndarray:
    """(3, 3) from the figure's own place to the picture."""
    turn, x, y = 0.01 * speed * now, SIZE[0] / 2 + 220 * np.sin(speed * now / 40), SIZE[1] / 2 + 60 * np.sin(speed * now / 25)
    return np.array([[np.cos(turn), -np.sin(turn), x], [np.sin(turn), np.cos(turn), y], [0, 0, 1]])


def film(folder: Path, count: int, speed: float, shutter: float) -> list[np.ndarray]:
    """Write a film's pictures, and a corner pin of the figure's motion; the true alpha of each, (h, w)."""
    rng, alphas, rows = np.random.default_rng(5), [], ["frame," + ",".join(f"{axis}{k}" for k in range(1, 5) for axis in "xy")]
    figure = cv2.resize(data.coffee(), (700, 700)).astype(np.float32)
    wall = cv2.GaussianBlur(cv2.resize(data.brick(), (1800, 1200)), (0, 0), 1.5).astype(np.float32)[..., None] * np.float32([0.9, 1, 0.8])
    corners = np.array([[-150.0, -150], [150, -150], [150, 150], [-150, 150]])
    for number in range(count):
        picture, alpha = np.zeros((*SIZE[::-1], 3), np.float32), np.zeros(SIZE[::-1], np.float32)
        for part in (np.arange(INSTANTS) + 0.5) / INSTANTS - 0.5:
            now = number + part * shutter / 360
            onto = place(now, speed)
            area = polygon_area(homography.apply(onto, outline(now)), (0, 0, *SIZE))
            own = cv2.warpPerspective(figure, onto @ homography.translation(-350, -350), SIZE, flags=cv2.INTER_LINEAR)
            behind = cv2.warpPerspective(wall, homography.translation(-240 + 3 * now, -200 - now), SIZE, flags=cv2.INTER_LINEAR)
            picture += (behind + (own - behind) * area[..., None]) / INSTANTS
            alpha += area / INSTANTS
        grainy = picture + rng.normal(0, NOISE, picture.shape)
        cv2.imwrite(str(folder / f"f.{1001 + number:04d}.png"), np.clip(grainy[..., ::-1] + 0.5, 0, 255).astype(np.uint8),
                    [cv2.IMWRITE_PNG_COMPRESSION, 1])
        rows.append(f"{1001 + number}," + ",".join(f"{v:.4f}" for v in homography.apply(place(number, speed), corners).ravel()))
        alphas.append(alpha)
    (folder / "motion.csv").write_text("\n".join(rows))
    return alphas


def band(alpha: np.ndarray) -> np.ndarray:
    """(h, w) bool, within so many pixels of the edge."""
    inside, square = (alpha > 0.5).astype(np.uint8), np.ones((2 * BAND + 1, 2 * BAND + 1), np.uint8)
    return np.asarray((cv2.dilate(inside, square) > cv2.erode(inside, square)) | ((alpha > 0.01) & (alpha < 0.99)))


def grab_cut(picture: np.ndarray, alpha: np.ndarray) -> np.ndarray:
    """(h, w) 0 or 1: OpenCV's GrabCut, told what lies more than ten pixels from the true edge."""
    square = np.ones((21, 21), np.uint8)
    guess = np.where(alpha > 0.5, cv2.GC_PR_FGD, cv2.GC_PR_BGD).astype(np.uint8)
    guess[cv2.erode((alpha > 0.5).astype(np.uint8), square) > 0] = cv2.GC_FGD
    guess[cv2.dilate((alpha > 0.5).astype(np.uint8), square) == 0] = cv2.GC_BGD
    cv2.grabCut(picture, guess, None, np.zeros((1, 65)), np.zeros((1, 65)), 3, cv2.GC_INIT_WITH_MASK)
    return np.isin(guess, (cv2.GC_FGD, cv2.GC_PR_FGD)).astype(np.float32)


def main(count: int) -> None:
    """Print the figures."""
    for name, speed, shutter in (("sharp", 1.0, 60.0), ("smeared", 4.0, 180.0)):
        with tempfile.TemporaryDirectory() as made:
            folder = Path(made)
            alphas = film(folder, count, speed, shutter)
            shot = wertis.open(str(folder / "f.####.png"))
            track = shot.import_motion(str(folder / "motion.csv"), name="Figure")
            first = homography.apply(place(0, speed), outline(0))
            matte = shot.matte(first, 1001, track)
            matte.change(shutter=shutter)
            for number in range(EVERY, count, EVERY):
                matte.key(1001 + number, homography.apply(place(number, speed), outline(number)))
            between = [1001 + k for k in range(count) if k % EVERY]
            before = np.mean([np.abs(matte.alpha(f) - alphas[f - 1001])[band(alphas[f - 1001])].mean() for f in between])
            begun = time.perf_counter()
            matte.fit(between)
            ours = (time.perf_counter() - begun) / len(between)
            after = np.mean([np.abs(matte.alpha(f) - alphas[f - 1001])[band(alphas[f - 1001])].mean() for f in between])
            taken, cut = [], []
            for frame in between[:5]:
                picture, true = cv2.imread(str(folder / f"f.{frame:04d}.png")), alphas[frame - 1001]
                begun = time.perf_counter()
                found = grab_cut(picture, true)
                taken.append(time.perf_counter() - begun)
                cut.append(np.abs(found - true)[band(true)].mean())
            print(f"{name}: {ours:.2f} s a frame, alpha in the band {before:.4f} by keys and {after:.4f} fitted; "
                  f"GrabCut {np.median(taken):.2f} s (ratio {ours / np.median(taken):.2f}), {np.mean(cut):.4f}")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 37)
