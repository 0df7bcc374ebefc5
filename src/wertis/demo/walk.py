"""A short walk along Brindle Quay: a brick wall, crates in stacks and bollards at different distances, seen by a camera that walks past them.

Everything is still, and the camera is known, so that what a solved camera says can be compared with it.
"""

from dataclasses import dataclass
from functools import cache

import cv2
import numpy as np

from wertis.core.geometry import homography
from wertis.core.geometry.conventions import homography_to_centred
from wertis.demo import textures
from wertis.demo.scene import HEIGHT, WIDTH, backed, coded, film_grain, painted, shutter_times, vignette

FOCAL = 1120.0
_WALL = -2.1  # metres to the right, where the brick wall stands along the quay
_MURAL = np.array([[_WALL, -2.55, 4.3], [_WALL, -2.55, 7.5], [_WALL, -0.55, 7.5], [_WALL, -0.55, 4.3]])
_SIGN = np.array([[_WALL, -2.75, 8.4], [_WALL, -2.75, 10.2], [_WALL, -1.75, 10.2], [_WALL, -1.75, 8.4]])
_SHORE = np.array([[-30.0, -11.6, 46], [34.0, -11.6, 46], [34.0, 4.0, 46], [-30.0, 4.0, 46]])
_SUBFRAMES = 3
_STACKS = ((0.55, 5.2, 0.9, 0.7, 28.0, 2), (1.75, 7.4, 1.1, 0.8, -18.0, 3), (-0.75, 9.6, 0.9, 0.75, 12.0, 1), (2.6, 4.9, 0.8, 0.62, 40.0, 1))
"""x, z, width, height in metres, turn in degrees, and how many crates lie on each other."""
_BOLLARDS = ((-0.55, 4.1), (1.15, 4.0), (0.35, 8.6), (2.2, 10.4))
_UP = np.array([0.0, -1, 0])


@dataclass(frozen=True)
class WalkFilm:
    """What differs from walk to walk."""

    frames: int
    seed: int


@dataclass(frozen=True)
class _Face:
    corners: np.ndarray  # (4, 3), clockwise from the top left as it is seen
    picture: np.ndarray

    @property
    def normal(self) -> np.ndarray:
        across, down = self.corners[1] - self.corners[0], self.corners[3] - self.corners[0]
        return np.cross(down, across)


class Walk:
    """The walk; made once, then asked for frames."""

    def __init__(self, film: WalkFilm) -> None:
        self.film = film
        self._shore, self._still, self._boxes = surroundings()
        self._grain = film_grain(np.random.default_rng(film.seed + 100))
        self._vignette = vignette()

    def pose(self, time: float) -> np.ndarray:
        """(3, 4) world to camera at a time in frames from the first: x right, y down, z forward."""
        t = np.clip(time / max(self.film.frames - 1, 1), 0, 1)
        eye = np.array([-0.35 + 1.25 * t + 0.02 * np.sin(9 * t), -1.55 + 0.03 * np.sin(21 * t) - 0.1 * t, 0.05 + 0.75 * t])
        target = np.array([-0.75 + 0.25 * t, -1.15 + 0.02 * np.sin(13 * t), 7.0])
        ahead = (target - eye) / np.linalg.norm(target - eye)
        right = np.cross(-_UP, ahead)
        right /= np.linalg.norm(right)
        down = np.cross(ahead, right)
        roll = 0.012 * np.sin(7 * t + 1)
        turn = np.array([right * np.cos(roll) + down * np.sin(roll), down * np.cos(roll) - right * np.sin(roll), ahead])
        return np.column_stack([turn, -turn @ eye])

    def seen(self, corners: np.ndarray, time: float) -> np.ndarray:
        """Where points (n, 3) of the quay are in the picture (n, 2)."""
        pose = self.pose(time)
        p = corners @ pose[:, :3].T + pose[:, 3]
        return np.asarray(FOCAL * p[:, :2] / p[:, 2:] + [WIDTH / 2, HEIGHT / 2])

    @property
    def house(self) -> np.ndarray:
        """(4, 3) the corners of a house on the far shore, clockwise from its top left."""
        across, down = (_SHORE[1] - _SHORE[0]), (_SHORE[3] - _SHORE[0])
        return np.array([_SHORE[0] + x * across + y * down for x, y in ((.385, .34), (.455, .34), (.455, .62), (.385, .62))])

    def crate_front(self, number: int) -> np.ndarray:
        """(4, 3) the corners of a crate's front, clockwise from its top left; the crates of each stack from the lowest, stack by stack."""
        return self._boxes[number][0].corners

    def truth(self, index: int) -> np.ndarray:
        """The mural's corners as a blurred frame shows them: their mean over the shutter."""
        return np.mean([self.seen(_MURAL, t) for t in self.moments(index)], axis=0)

    def frame(self, index: int) -> np.ndarray:
        """The picture (h, w, 3) uint8 of a frame, counted from 0."""
        total = np.zeros((HEIGHT, WIDTH, 3), np.float32)
        for moment in self.moments(index):
            cv2.accumulate(self._instant(float(moment)), total)
        total *= self._vignette * np.float32(1.05 / _SUBFRAMES)
        dx, dy = np.random.default_rng((self.film.seed, index)).integers(0, 256, 2)
        total += self._grain[dy:dy + HEIGHT, dx:dx + WIDTH]
        return np.clip(total + np.float32(0.5), 0, 255).astype(np.uint8)

    def moments(self, index: int) -> np.ndarray:
        """The times at which the shutter of a frame, counted from 0, takes its pictures."""
        return shutter_times(index, _SUBFRAMES)

    def _instant(self, time: float) -> np.ndarray:
        canvas = np.zeros((HEIGHT, WIDTH, 3), np.uint8)
        pose = self.pose(time)
        eye = -pose[:, :3].T @ pose[:, 3]
        h, w = self._shore.shape[:2]
        onto = homography.from_points(np.array([[0.0, 0], [w, 0], [w, h], [0, h]]), self.seen(_SHORE, time))
        cv2.warpPerspective(self._shore, homography_to_centred(onto), (WIDTH, HEIGHT), canvas, cv2.INTER_LINEAR, cv2.BORDER_REPLICATE)
        for face in self._still:
            painted(canvas, face.picture, self.seen(face.corners, time))
        for box in sorted(self._boxes, key=lambda faces: -float(np.linalg.norm(np.mean([f.corners.mean(0) for f in faces], axis=0) - eye))):
            for face in box:
                if (eye - face.corners[0]) @ face.normal > 0:
                    painted(canvas, face.picture, self.seen(face.corners, time))
        return canvas


@cache
def surroundings() -> tuple[np.ndarray, list[_Face], list[list[_Face]]]:
    """What every walk passes: the shore, the faces that stand still, and the boxes, each of its faces."""
    rng = np.random.default_rng(83)
    brick = textures.setts(rng, (2600, 900), 30) * np.array([1.25, 0.66, 0.5], np.float32)
    shore = coded(textures.harbour(rng, (2400, 760)))
    still = [
        _Face(np.array([[_WALL, 0, 13.0], [6.5, 0, 13.0], [6.5, 0, 1.7], [_WALL, 0, 1.7]]), backed(textures.setts(rng, (1700, 2000), 34))),
        _Face(np.array([[_WALL, -3.4, 1.7], [_WALL, -3.4, 13.0], [_WALL, 0, 13.0], [_WALL, 0, 1.7]]), backed(np.clip(brick, 0.002, 1))),
        _Face(_SIGN, backed(_sign(rng)))]
    fronts = [backed(textures.crate_front(rng, (640, 480))) for _ in range(2)]
    woods = [backed(textures.wood(rng, (520, 480), 5, colour) * np.float32(shade))
             for colour, shade in (((158, 117, 76), 0.34), ((178, 137, 92), 1.05))]
    iron = backed(np.clip(textures.noise(rng, (160, 320), (24, 24))[..., None] * 0.03 + textures.linear((92, 78, 66)), 0.002, 1).astype(np.float32))
    boxes = [box for k, stack in enumerate(_STACKS) for box in _stack(*stack, fronts[k % 2], *woods)]
    boxes += [_box(np.array([x, 0, z]), 0.22, 0.5, 0.22, 45.0, iron, iron, iron) for x, z in _BOLLARDS]
    return shore, still, boxes


def _stack(x: float, z: float, width: float, height: float, turn: float, count: int, front: np.ndarray, side: np.ndarray,
           top: np.ndarray) -> list[list[_Face]]:
    """Crates on each other, each turned a little further, the lowest first."""
    return [_box(np.array([x + 0.05 * k, -height * k, z]), width * (1 - 0.06 * k), height, width * 0.7, turn + 9 * k, front, side, top)
            for k in range(count)]


def _box(foot: np.ndarray, width: float, height: float, depth: float, turn: float, front: np.ndarray, side: np.ndarray, top: np.ndarray) -> list[_Face]:
    """The faces of a box that stands on `foot` (3,), its front turned by degrees."""
    c, s = np.cos(np.radians(turn)), np.sin(np.radians(turn))
    across, back, up = np.array([c, 0, s]) * width / 2, np.array([-s, 0, c]) * depth / 2, _UP * height
    a, b, d, e = foot - across - back, foot + across - back, foot + across + back, foot - across + back  # round the foot, from the front's left
    around = [(a, b, front), (b, d, side), (d, e, front), (e, a, side)]
    return [_Face(np.array([p + up, q + up, q, p]), picture) for p, q, picture in around] + [_Face(np.array([e + up, d + up, b + up, a + up]), top)]


def _sign(rng: np.random.Generator) -> np.ndarray:
    """A painted board on the wall."""
    board = textures.wood(rng, (720, 400), 4, (120, 132, 118))
    page = (np.clip(board, 0, 1) * 255).astype(np.uint8)
    page = np.ascontiguousarray(page)
    textures.centred(page, "CHANDLER", 180, 92, (214, 196, 150), 8)
    textures.centred(page, "ROPE  TAR  LAMP OIL", 300, 40, (214, 196, 150), 4)
    return page.astype(np.float32) / 255
