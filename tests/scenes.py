"""Small made pictures and shots with known truth, for tests."""

import hashlib
from functools import cache
from pathlib import Path
from typing import ClassVar

import cv2
import numpy as np
from skimage import data as pictures

from wertis.core.geometry import homography
from wertis.core.geometry.conventions import homography_to_centred
from wertis.core.plate.base import Plate

SIZE = (480, 320)


@cache
def texture(name: str = "coffee", size: tuple[int, int] = (300, 220)) -> np.ndarray:
    """One of scikit-image's pictures as RGB uint8."""
    return cv2.resize(getattr(pictures, name)(), size, interpolation=cv2.INTER_AREA)


class FramesPlate(Plate):
    """Pictures in memory as a plate; frames are counted from 0."""

    gaps = frozenset()  # type: ignore[assignment]
    path, first, fps = None, 0, 24.0  # type: ignore[assignment]

    def __init__(self, frames: list[np.ndarray]) -> None:
        self.pictures, self.last = frames, len(frames) - 1  # type: ignore[misc]
        self.size = frames[0].shape[1], frames[0].shape[0]  # type: ignore[misc]

    def read(self, frame: int) -> np.ndarray:
        return self.pictures[frame]


class PlaneShot:
    """A textured plane over a background, moved by a smooth random camera; `frames` (h, w, 3) uint8 and `corners` per frame.

    Parameters
    ----------
    passer : part of the picture's width that a striped block hides as it goes across.
    exposure : amount by which the light breathes.
    absent : frame indices on which the plane is not there at all.
    shake : pixels, standard deviation, by which a hand moves the camera from frame to frame.
    mirrored : strength of a reflection that slides over the plane by 5 pixels a frame.
    picture : scikit-image's, which is on the plane.
    shutter : part of a frame for which the shutter is open about the frame's time; corners are then the middles of their paths.
    """

    _made: ClassVar[dict[tuple[object, ...], tuple[list[np.ndarray], list[np.ndarray], list[np.ndarray], np.ndarray]]] = {}
    """What was made before in this process, since many tests ask for the same shot."""

    def __init__(self, n: int = 12, motion: float = 1.0, passer: float = 0.0, exposure: float = 0.0, noise: float = 2.0,
                 absent: tuple[int, ...] = (), seed: int = 3, shift_only: bool = False,
                 shake: float = 0.0, shutter: float = 0.0, mirrored: float = 0.0, picture: str = "coffee") -> None:
        key = (n, motion, passer, exposure, noise, absent, seed, shift_only, shake, shutter, mirrored, picture)
        if key not in self._made:
            self._make(*key)
            self._made[key] = self.frames, self.corners, self.mask_of_passer, self.region
        frames, corners, masks, region = self._made[key]
        self.frames, self.corners = [f.copy() for f in frames], [c.copy() for c in corners]
        self.mask_of_passer, self.region = [m.copy() for m in masks], region.copy()

    def _make(self, n: int, motion: float, passer: float, exposure: float, noise: float, absent: tuple[int, ...], seed: int, shift_only: bool,
              shake: float, shutter: float, mirrored: float, picture: str) -> None:
        rng = np.random.default_rng(seed)
        w, h = SIZE
        art = texture(picture)
        th, tw = art.shape[:2]
        back = cv2.GaussianBlur(cv2.resize(pictures.brick(), SIZE), (0, 0), 2)[..., None].repeat(3, 2) * 0.6
        quad0 = np.array([[90.0, 60], [390, 60], [390, 280], [90, 280]])
        t = np.linspace(0, 1, n)
        drift = [motion * rng.normal(0, 26, 2) if shift_only else motion * rng.normal(0, 22, (4, 2)) for _ in range(2)]
        self.frames, self.corners = [], []
        self.mask_of_passer = []
        whole = np.array([[0.0, 0], [tw, 0], [tw, th], [0, th]])
        mirror = cv2.resize(pictures.gravel(), (w + 5 * n, 2 * h))[:h, :, None].astype(np.float32) if mirrored else None
        hand = rng.normal(0, shake, (n, 1, 2)) if shake else np.zeros((n, 1, 2))

        def at(time: float) -> np.ndarray:
            u = np.clip(time, 0, n - 1)
            low = int(min(u, max(n - 2, 0)))
            s = u / max(n - 1, 1)
            return (quad0 + drift[0] * np.sin(1.4 * s) + drift[1] * (1 - np.cos(2.0 * s))
                    + hand[low] * (1 - u + low) + hand[min(low + 1, n - 1)] * (u - low))

        for i in range(n):
            times = i + shutter * ((np.arange(9) + 0.5) / 9 - 0.5) if shutter else np.array([float(i)])
            quad = np.mean([at(u) for u in times], axis=0)
            frame = back.copy()
            if i not in absent:
                big = np.diag([2.0, 2, 1])
                big[:2, 2] = 0.5
                art_over_all = np.dstack([art.astype(np.float32), np.full((th, tw), 255, np.float32)])
                layer = np.mean([cv2.resize(cv2.warpPerspective(art_over_all, big @ homography_to_centred(homography.from_points(whole, at(u))),
                                                                (2 * w, 2 * h), flags=cv2.INTER_LINEAR), SIZE, interpolation=cv2.INTER_AREA)
                                 for u in times], axis=0)
                a = layer[..., 3:] / 255
                if mirror is not None:
                    layer[..., :3] = layer[..., :3] * (1 - 0.4 * mirrored) + 0.6 * mirrored * mirror[:, 5 * i:5 * i + w] * a
                frame = frame * (1 - a) + layer[..., :3]
            hidden = np.zeros((h, w), bool)
            if passer:
                x0 = int(-passer * w + (1 + passer) * w * t[i])
                stripes = ((np.arange(w) // 7) % 2 * 220)[None, :, None].repeat(h, 0).repeat(3, 2)
                a, b = max(0, x0), min(w, x0 + int(passer * w))
                if b > a:
                    frame[40:300, a:b] = stripes[40:300, a - x0:b - x0]
                    hidden[40:300, a:b] = True
            frame = frame * (1 + exposure * np.sin(5 * t[i])) + rng.normal(0, noise, frame.shape)
            self.frames.append(np.clip(frame, 0, 255).astype(np.uint8))
            self.corners.append(quad.copy())
            self.mask_of_passer.append(hidden)
        inner = np.array([[.07, .07], [.93, .07], [.93, .93], [.07, .93]])
        self.region = homography.apply(homography.from_unit_square(self.corners[0]), inner)

    def truth(self, i: int) -> np.ndarray:
        """Where the region's corners are on a frame."""
        return homography.apply(homography.from_points(self.corners[0], self.corners[i]), self.region)

    def write(self, folder: Path, first: int = 1001, suffix: str = ".png") -> Path:
        """Write the frames as a sequence."""
        folder.mkdir(parents=True, exist_ok=True)
        for i, frame in enumerate(self.frames):
            (folder / f"plate.{first + i:04d}{suffix}").write_bytes(_encoded(frame, suffix))
        return folder


_files: dict[tuple[bytes, str], bytes] = {}
"""What pictures come to as files, by their content: most windows that are tested open the same few frames."""


def _encoded(frame: np.ndarray, suffix: str) -> bytes:
    key = hashlib.blake2b(frame.tobytes()).digest(), suffix
    if key not in _files:
        quickly = [cv2.IMWRITE_PNG_STRATEGY, cv2.IMWRITE_PNG_STRATEGY_HUFFMAN_ONLY]
        _files[key] = cv2.imencode(suffix, frame[..., ::-1], quickly)[1].tobytes()
    return _files[key]
