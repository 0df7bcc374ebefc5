"""The quay as a camera sees it: a few textured planes in space, filmed by hand, with blur, grain and passers."""

from dataclasses import dataclass
from functools import cache
from typing import Any

import cv2
import numpy as np

from wertis.core.geometry import homography
from wertis.core.geometry.conventions import homography_to_centred
from wertis.demo import docker, textures

WIDTH, HEIGHT = 1280, 720
FOCAL = 1480.0
SHUTTER = 0.5       # part of a frame for which the shutter is open
_PER_SUBFRAME = 2.0  # pixels that an arm moves at most from one picture that is added up to the next
FIRST = 1001
CRATE = (1.04, 0.74, 0.66)  # metres: width, height, depth
TURN = np.radians(24.0)


def shutter_times(index: int, count: int) -> np.ndarray:
    """(count,) times, in frames, evenly spread over that for which the shutter of a frame is open: the middles of equal parts of it."""
    return np.asarray(index + SHUTTER * ((np.arange(count) + 0.5) / count - 0.5))


@dataclass(frozen=True)
class Film:
    """What differs from shot to shot.

    Attributes
    ----------
    frames : how many.
    passers : what is in front: "barrow" (and the mooring rope), "awning", "docker" (his arm, a cat, a line), or nothing.
    seed : of the camera's motion and the grain.
    """

    frames: int
    passers: str
    seed: int


class Scene:
    """The quay; made once, then asked for frames."""

    def __init__(self, film: Film) -> None:
        self.film = film
        rng = np.random.default_rng(47)
        self._subframes = 5 if film.passers else 3
        self._front, self._side, self._top, self._ground, self._shore, rng.bit_generator.state = quay()
        self._barrow = coded(textures.barrow(rng, (620, 560))) if film.passers == "barrow" else None
        self._awning = coded(textures.awning(rng, (900, 470))) if film.passers == "awning" else None
        self._grain = film_grain(np.random.default_rng(film.seed + 100))
        self._camera = _hand_held(film)
        self._vignette = vignette()

    def label_corners(self, time: float) -> np.ndarray:
        """Where the crate's front is at a time in frames from the first: (4, 2), clockwise from its top left."""
        return self._seen(_face("front"), time)

    def truth(self, index: int) -> np.ndarray:
        """The front's corners as a blurred frame shows them: their mean over the shutter."""
        return np.mean([self.label_corners(t) for t in self._moments(index)], axis=0)

    def passers(self, index: int) -> np.ndarray:
        """Where what passes covers the picture (h, w) bool, for most of a frame's shutter."""
        return self.cover(index) > 0.5

    def cover(self, index: int) -> np.ndarray:
        """(h, w) float32, 0..1: how much of each pixel what is in front covers on a frame, its blur and all."""
        total = np.zeros((HEIGHT, WIDTH), np.float32)
        moments = self._moments(index)
        for moment in moments:
            black, white = np.zeros((HEIGHT, WIDTH, 3), np.uint8), np.full((HEIGHT, WIDTH, 3), 255, np.uint8)
            self._paint_passers(black, moment)
            self._paint_passers(white, moment)
            total += 1 - (white.astype(np.float32) - black).mean(2) / 255  # what shows through is what differs
        return total / np.float32(len(moments))

    def docker(self, index: int) -> dict[str, docker.Piece]:
        """The docker's sleeve and hand, and the cat and its eyes, at a frame's own time."""
        top = _face("front")[:2]
        found = docker.arm(self._seen, index)
        return {**found, "Cat": docker.cat(self._seen, top, index), **{f"Eye {k + 1}": e for k, e in enumerate(docker.eyes(self._seen, top, index))}}

    def line(self, index: int) -> np.ndarray:
        """(N, 2) points of the line along the crate at a frame's own time."""
        return docker.rope(self._seen, _face("front")[:2], index)

    @staticmethod
    def awning(time: float) -> np.ndarray:
        """Corners (4, 2 + depth) of the awning at a time: it is drawn across the crate's upper part, sways there, and is drawn away again."""
        drawn = np.interp(time, [2, 16, 40, 54], [1.9, 0.0, 0.0, 1.9])
        x, y = -0.62 + drawn + 0.03 * np.sin(time / 3.0), 0.012 * np.sin(time / 4.0 + 1)
        return np.array([[x, -0.92 + y, 2.3], [x + 1.25, -0.92 + y, 2.3], [x + 1.25, -0.37 + y, 2.25], [x, -0.37 + y, 2.25]])

    def frame(self, index: int) -> np.ndarray:
        """The picture (h, w, 3) uint8 of a frame, counted from 0."""
        total = np.zeros((HEIGHT, WIDTH, 3), np.float32)
        moments = self._moments(index)
        for moment in moments:
            cv2.accumulate(self._instant(moment), total)
        light = np.float32((1.06 + 0.03 * np.sin(index / 17.0)) / len(moments))
        total *= self._vignette * light
        rng = np.random.default_rng((self.film.seed, index))
        dx, dy = rng.integers(0, 256, 2)
        grain = self._grain[dy:dy + HEIGHT, dx:dx + WIDTH]
        total += grain[:, ::-1] if index % 2 else grain
        return np.clip(total + np.float32(0.5), 0, 255).astype(np.uint8)

    # -- inside ---------------------------------------------------------------------------------------------------

    def _moments(self, index: int) -> np.ndarray:
        count = self._subframes
        if self.film.passers == "docker":  # his arm is quick
            ends = [docker.arm(self._seen, index + part * SHUTTER / 2)["Hand"].points for part in (-1, 1)]
            count = max(count, int(np.ceil(np.abs(ends[1] - ends[0]).max() / _PER_SUBFRAME)))
        return shutter_times(index, count)

    def _view(self, time: float) -> tuple[np.ndarray, np.ndarray]:
        t = np.clip(time, 0, self.film.frames - 1)
        values = [np.interp(t, np.arange(self.film.frames), c) for c in self._camera]
        position = np.array([values[0], -1.0 + values[1], values[2]])
        target = np.array([0.05 + values[3], -0.46 + values[4], 3.0])
        ahead = target - position
        ahead /= np.linalg.norm(ahead)
        right = np.cross([0, 1.0, 0], ahead)
        right /= np.linalg.norm(right)
        down = np.cross(ahead, right)
        roll = values[5]
        r = np.array([right * np.cos(roll) + down * np.sin(roll), down * np.cos(roll) - right * np.sin(roll), ahead])
        return r, position

    def _seen(self, corners: np.ndarray, time: float) -> np.ndarray:
        rotation, position = self._view(time)
        p = (corners - position) @ rotation.T
        return np.column_stack([FOCAL * p[:, 0] / p[:, 2] + WIDTH / 2, FOCAL * p[:, 1] / p[:, 2] + HEIGHT / 2])

    def _instant(self, time: float) -> np.ndarray:
        canvas = np.zeros((HEIGHT, WIDTH, 3), np.uint8)
        horizon = self._seen(np.array([[-60.0, 0, 900], [60.0, 0, 900]]), time)[:, 1].mean()
        h, w = self._shore.shape[:2]
        shore = np.array([[-26.0, -9.6, 46], [26.0, -9.6, 46], [26.0, 6.0, 46], [-26.0, 6.0, 46]])
        rows = int(np.clip(horizon + 230, 1, HEIGHT))
        onto = _onto((w, h), self._seen(shore, time))
        cv2.warpPerspective(self._shore, homography_to_centred(onto), (WIDTH, rows), canvas[:rows], cv2.INTER_LINEAR, cv2.BORDER_REPLICATE)
        self._paint_ground(canvas, time)
        for name, picture in (("top", self._top), ("side", self._side), ("front", self._front)):
            painted(canvas, picture, self._seen(_face(name), time))
        if self.film.passers == "docker":
            docker.paint_on_crate(canvas, self._seen, _face("front")[:2], time)
        self._paint_passers(canvas, time)
        return canvas

    def _paint_ground(self, canvas: np.ndarray, time: float) -> None:
        near, far = 1.35, 8.2
        quad_ = np.array([[-4.1, 0, far], [4.1, 0, far], [4.1, 0, near], [-4.1, 0, near]])
        seen = self._seen(quad_, time)
        top = int(np.clip(seen[:2, 1].min() - 2, 0, HEIGHT - 1))
        painted(canvas, self._ground, seen, top)

    def _paint_passers(self, canvas: np.ndarray, time: float) -> None:
        if self._awning is not None:
            painted(canvas, self._awning, self._seen(self.awning(time), time))
        if self.film.passers == "docker":
            docker.paint_arm(canvas, self._seen, time)
        if self._barrow is None:
            return
        n = self.film.frames - 1
        x = -1.75 + 3.5 * (time / n) * 1.02
        bounce = 0.012 * np.sin(time * 0.9)
        z = 2.05
        corners = np.array([[x, -0.80 + bounce, z], [x + 0.86, -0.80 + bounce, z], [x + 0.86, -0.02 + bounce, z], [x, -0.02 + bounce, z]])
        painted(canvas, self._barrow, self._seen(corners, time))
        # the rope swings close to the camera, out of focus
        s = np.linspace(0, 1, 90)
        sway = 0.05 * np.sin(time / 9.0)
        rope = np.column_stack([-1.3 + 2.6 * s, -0.98 + 0.60 * (2 * s - 0.9) ** 2 * 0.55 + 0.30 * np.sin(np.pi * s) + sway * s, np.full_like(s, 1.7)])
        path = self._seen(rope, time)
        x0, y0 = 0, int(max(0, path[:, 1].min() - 30))
        y1 = int(min(HEIGHT, path[:, 1].max() + 30))
        if y1 <= y0:
            return
        size = (y1 - y0, WIDTH)
        alpha, strand = np.zeros(size, np.uint8), np.zeros(size, np.uint8)
        fixed = np.round((path - [x0, y0]) * 16).astype(np.int32)
        cv2.polylines(alpha, [fixed], False, 255, 19, cv2.LINE_AA, 4)
        for a, b in zip(path[::2], path[1::2]):
            p, q = (a - [x0 - 6, y0 - 8]) * 16, (b - [x0 + 6, y0 + 8]) * 16
            cv2.line(strand, p.astype(int).tolist(), q.astype(int).tolist(), 255, 5, cv2.LINE_AA, 4)
        cover = cv2.GaussianBlur(alpha, (0, 0), 1.8)
        round_ = np.roll(cv2.GaussianBlur(alpha, (0, 0), 5.0), 5, 0).astype(np.float32) / 255
        tone = (0.30 + 0.35 * round_ ** 2 + 0.22 * cv2.GaussianBlur(strand, (0, 0), 1.6).astype(np.float32) / 255)[..., None]
        a = cover.astype(np.float32)[..., None] / 255
        part = canvas[y0:y1]
        part[...] = part * (1 - a) + a * tone * np.array([255, 228, 186], np.float32) * np.float32(0.8)


def _face(name: str) -> np.ndarray:
    """Corners (4, 3) in metres of a face of the crate, clockwise from its top left as it is seen."""
    w, h, d = CRATE
    c, s = np.cos(TURN), np.sin(TURN)
    across, back = np.array([c, 0, s]), np.array([-s, 0, c])
    origin = np.array([0.0, 0.0, 2.78])
    front = [origin + across * u * w / 2 + np.array([0, -v * h, 0]) for u, v in ((-1, 1), (1, 1), (1, 0), (-1, 0))]
    if name == "front":
        return np.array(front)
    if name == "top":
        return np.array([front[0] + back * d, front[1] + back * d, front[1], front[0]])
    return np.array([front[0] + back * d, front[0], front[3], front[3] + back * d])


def painted(canvas: np.ndarray, picture: np.ndarray, seen: np.ndarray, top: int = 0) -> None:
    """Lay a picture with alpha (h, w, 4) on a canvas (h, w, 3) so that its corners come to lie at `seen` (4, 2), no higher than row `top`."""
    x0, y0 = np.maximum(np.floor(seen.min(0)) - 2, [0, top]).astype(int)
    x1, y1 = np.minimum(np.ceil(seen.max(0)) + 2, [WIDTH, HEIGHT]).astype(int)
    if x1 <= x0 or y1 <= y0:
        return
    onto = _onto((picture.shape[1], picture.shape[0]), seen - [x0, y0])
    laid = cv2.warpPerspective(picture, homography_to_centred(onto), (int(x1 - x0), int(y1 - y0)), flags=cv2.INTER_LINEAR)
    part = canvas[y0:y1, x0:x1]
    cover = cv2.bitwise_not(cv2.cvtColor(laid[..., 3], cv2.COLOR_GRAY2RGB))
    cv2.multiply(part, cover, dst=cover, scale=1 / 255)
    part[...] = cv2.add(cover, laid[..., :3])


@cache
def quay() -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray, np.ndarray, Any]:
    """What every film shows: the crate's front, side and top, the ground and the shore; and the state of the random numbers after them."""
    rng = np.random.default_rng(47)
    front = backed(textures.crate_front(rng, (1040, 740)))
    side = backed(textures.wood(rng, (660, 740), 5, (158, 117, 76)) * np.float32(0.21))
    top = backed(textures.wood(rng, (1040, 660), 6, (178, 137, 92)) * np.float32(1.12))
    ground = _with_shadow(textures.setts(rng, (1800, 1500)))
    shore = coded(textures.harbour(rng, (2400, 760)))
    return front, side, top, ground, shore, rng.bit_generator.state


def _onto(size: tuple[int, int], quad_: np.ndarray) -> np.ndarray:
    w, h = size
    return homography.from_points(np.array([[0.0, 0], [w, 0], [w, h], [0, h]]), quad_)


def backed(picture: np.ndarray) -> np.ndarray:
    """With alpha, and reduced a little so that it does not alias where it is seen small."""
    opaque = np.concatenate([picture, np.ones((*picture.shape[:2], 1), np.float32)], 2)
    return coded(cv2.GaussianBlur(opaque, (0, 0), 0.9, borderType=cv2.BORDER_REPLICATE))


def coded(picture: np.ndarray) -> np.ndarray:
    """Linear light (h, w, 3 or 4) as 8-bit display values with the soft shoulder that film has; alpha as it is."""
    colour = np.power(np.clip(picture[..., :3] * np.float32(1.25), 0, 4), np.float32(1 / 2.2))
    bright = colour > 0.8
    colour[bright] = 0.8 + (1 - np.exp(-(colour[bright] - 0.8) / 0.2)) * 0.2
    if picture.shape[2] == 4:
        alpha, colour = picture[..., 3:], np.minimum(colour, 1)
        if (alpha < 1).any():
            colour *= np.where(alpha < 1, alpha ** np.float32(0.55), 1)
        colour = np.concatenate([colour, alpha], 2)
    return (np.clip(colour, 0, 1) * 255 + 0.5).astype(np.uint8)


def film_grain(rng: np.random.Generator) -> np.ndarray:
    """A field of film grain, in 8-bit steps, larger than the picture so that each frame takes another part of it."""
    field = rng.standard_normal((HEIGHT + 256, WIDTH + 256, 3), dtype=np.float32)
    return cv2.GaussianBlur(field, (0, 0), 0.65) * np.float32(1.9 * 2.2)


def _with_shadow(ground: np.ndarray) -> np.ndarray:
    """The ground with the crate's shadow and the dark under its edge (the light comes from the left, low)."""
    h, w = ground.shape[:2]
    to_map = np.array([w / 8.2, h / 6.85])

    def place(p: np.ndarray) -> np.ndarray:
        return np.column_stack([(p[:, 0] + 4.1) * to_map[0], (8.2 - p[:, 2]) * to_map[1]])

    front, top = _face("front"), _face("top")
    base = np.array([front[3], front[2], top[1] * [1, 0, 1], top[0] * [1, 0, 1]])
    cast = np.array([front[3], front[2], front[2] + [1.0, 0, -0.12], top[1] * [1, 0, 1] + [1.1, 0, 0.1], top[0] * [1, 0, 1]])
    shade: np.ndarray = np.zeros((h, w), np.float32)
    cv2.fillPoly(shade, [place(cast).astype(np.int32)], 0.62, cv2.LINE_AA)
    shade = cv2.GaussianBlur(shade, (0, 0), 13)
    under: np.ndarray = np.zeros((h, w), np.float32)
    cv2.fillPoly(under, [place(base).astype(np.int32)], 1.0, cv2.LINE_AA)
    under = cv2.GaussianBlur(under, (0, 0), 9) * 0.7
    lit = ground * ((1 - shade) * (1 - under))[..., None]
    fade = np.linspace(0.72, 1.0, h, dtype=np.float32)[:, None, None]
    return backed(np.clip(lit * fade, 0.002, 1))


def _hand_held(film: Film) -> list[np.ndarray]:
    """Six curves: position x, y, z and target x, y in metres, roll in radians."""
    rng = np.random.default_rng(film.seed)
    t = np.linspace(0, 1, film.frames)

    def sway(amount: float, cycles: float) -> np.ndarray:
        waves = [np.sin(2 * np.pi * cycles * k * t + rng.uniform(0, 6.28)) / k for k in (1, 2.3, 4.1)]
        return amount * np.sum(waves, axis=0)

    walk = 0.5 - 0.5 * np.cos(np.pi * t)
    return [-0.42 + 0.74 * walk + sway(0.014, 1.3), sway(0.014, 1.5) - 0.08 * walk, 0.52 * walk + sway(0.01, 1.0) - 0.25,
            sway(0.012, 1.7) + 0.05 * walk, sway(0.010, 1.9), np.radians(1.3) * np.sin(2.2 * t + 0.5) + sway(0.003, 1.6)]


def vignette() -> np.ndarray:
    """How a lens darkens the picture towards its corners, (h, w, 3)."""
    y, x = np.mgrid[0:HEIGHT, 0:WIDTH].astype(np.float32)
    r2 = ((x - WIDTH / 2) ** 2 + (y - HEIGHT / 2) ** 2) / (WIDTH / 2) ** 2
    return (1 - 0.22 * r2)[..., None].repeat(3, 2)
