"""A patched canvas sail on the quay: it ripples in the wind, a corner of it rolls over its front and comes back, with known truth."""

from dataclasses import dataclass

import cv2
import numpy as np

from wertis.core.geometry.mesh import drawn_triangles
from wertis.demo import textures
from wertis.demo.scene import HEIGHT, WIDTH, coded, film_grain, vignette

CLOTH = (720, 560)  # texture pixels
_FOCAL, _FAR = 1400.0, 1560.0  # pixels; texture pixels from the camera
_CELL = 5  # texture pixels between the points of the drawn surface
_FINER = 2  # samples per pixel and direction
_ROLL = 46.0  # radius of the roll
_FOLD = np.radians(38.0)  # direction across the fold: the lower right corner comes over


@dataclass(frozen=True)
class SailFilm:
    """A film of the sail: how many frames, and the seed of its grain and motion."""

    frames: int
    seed: int


class Sail:
    """The sail; made once, then asked for frames."""

    def __init__(self, film: SailFilm) -> None:
        self.film = film
        rng = np.random.default_rng(91)
        w, h = CLOTH
        self._cloth = canvas(rng, CLOTH)
        self._lining = cv2.GaussianBlur(textures.noise(rng, CLOTH, (9, 5))[..., None] * np.float32(0.02) + textures.linear((150, 122, 88)), (0, 0), 1)
        self._ground = coded(cv2.GaussianBlur(textures.harbour(rng, (1900, 1000)), (0, 0), 2.2)).astype(np.float32)
        self._grain = film_grain(np.random.default_rng(film.seed + 100))
        self._vignette = vignette()
        wander = np.random.default_rng(film.seed)
        t = np.linspace(0, 1, film.frames)
        self._sway = [a * (np.sin(2 * np.pi * c * t + p) - np.sin(p)) for a, c, p in zip((26, 16, .05, .07, .03), (1.0, 1.3, .8, 1.1, .9),
                                                                                         wander.uniform(0, 6.28, 5))]
        x, y = np.linspace(0, w, w // _CELL + 1), np.linspace(0, h, h // _CELL + 1)
        self._grid = np.stack(np.meshgrid(x, y), axis=-1)
        number = np.arange(len(x) * len(y)).reshape(len(y), len(x))
        a, b, c, d = number[:-1, :-1], number[:-1, 1:], number[1:, 1:], number[1:, :-1]
        self._triangles = np.concatenate([np.stack([a, b, c], -1).reshape(-1, 3), np.stack([a, c, d], -1).reshape(-1, 3)])

    def surface(self, points: np.ndarray, index: float) -> np.ndarray:
        """Points (n, 2) of the cloth in the camera's space (n, 3) at a time in frames from the first; x right, y down, z away."""
        w, h = CLOTH
        x, y = points[:, 0] - w / 2, points[:, 1] - h / 2
        ex, ey = np.cos(_FOLD), np.sin(_FOLD)
        across, along = x * ex + y * ey, y * ex - x * ey
        part = index / max(self.film.frames - 1, 1)
        rolled = np.sin(np.pi * np.clip((part - 0.12) / 0.76, 0, 1)) ** 2
        reach = (w * ex + h * ey) / 2
        hinge = reach * (1.02 - 0.62 * rolled)
        angle = np.clip((across - hinge) / _ROLL, 0, np.pi)  # what is past the hinge goes round a cylinder, and back above the rest
        lift = _ROLL * (1 - np.cos(angle))
        across = np.minimum(across, hinge) + _ROLL * np.sin(angle) - np.maximum(across - hinge - np.pi * _ROLL, 0)
        x, y = across * ex - along * ey, across * ey + along * ex
        s, turn, wind = np.sin, 2 * np.pi, index / 24
        grow = min(index / 8, 1.0)
        z = grow * (17 * s(turn * (1.2 * x / w + 0.5 * y / h - 0.8 * wind)) + 10 * s(turn * (0.6 * x / w - 1.5 * y / h - 0.6 * wind) + 1.1))
        x = x + grow * 5 * s(turn * (1.1 * y / h + 0.7 * wind))
        at = np.column_stack([x, y, z - lift])
        sway = [float(np.interp(index, np.arange(self.film.frames), c)) for c in self._sway]
        tilt = cv2.Rodrigues(np.array([0.06 + sway[2], -0.1 + sway[3], sway[4]]))[0]
        return np.asarray(at @ tilt.T + [sway[0], sway[1], _FAR])

    def seen(self, points: np.ndarray, index: float) -> np.ndarray:
        """Where points (n, 2) of the cloth are in the picture, (n, 2), whether anything hides them or not."""
        at = self.surface(points, index)
        return _FOCAL * at[:, :2] / at[:, 2:] + [WIDTH / 2, HEIGHT / 2]

    def truth(self, index: int) -> np.ndarray:
        """The cloth's four corners (4, 2) on a frame."""
        w, h = CLOTH
        return self.seen(np.array([[0, 0], [w, 0], [w, h], [0, h]], float), index)

    def hidden(self, points: np.ndarray, index: int) -> np.ndarray:
        """(n,) whether the cloth itself hides points (n, 2) of it, or they are turned away."""
        front, _, box = self._drawn(index)
        places = self.seen(points, index)
        columns, rows = ((places - box[:2]) * _FINER).astype(int).T
        rows, columns = np.clip(rows, 0, front.shape[0] - 1), np.clip(columns, 0, front.shape[1] - 1)
        with np.errstate(invalid="ignore"):
            return ~(np.linalg.norm(front[rows, columns] - points, axis=1) < 6)

    def frame(self, index: int) -> np.ndarray:
        """The picture (h, w, 3) uint8."""
        front, back, box = self._drawn(index)
        shade = self._shade(index)
        x0, y0, x1, y1 = box
        layer = np.zeros((*front.shape[:2], 4), np.float32)
        for where, cloth, lit in ((front, self._cloth, shade), (back, self._lining, 1.25 - 0.5 * shade)):
            texture = cloth * cv2.resize(lit.astype(np.float32), CLOTH, interpolation=cv2.INTER_CUBIC)[..., None]
            place = np.nan_to_num(where - 0.5, nan=-1e4).astype(np.float32)
            got = cv2.remap(texture, place[..., 0], place[..., 1], cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
            there = np.isfinite(where[..., 0])
            layer[there, :3], layer[there, 3] = got[there], 1
        layer = cv2.resize(layer, (x1 - x0, y1 - y0), interpolation=cv2.INTER_AREA)
        shift = np.array([[1, 0, -300 - 0.5 * self._sway[0][index]], [0, 1, -160 - 0.5 * self._sway[1][index]]])
        out = cv2.warpAffine(self._ground, shift, (WIDTH, HEIGHT), flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT)
        alpha = layer[..., 3:]
        part = out[y0:y1, x0:x1]
        part[:] = part * (1 - alpha) + coded(np.maximum(layer[..., :3] / np.maximum(alpha, 1e-3), 0)).astype(np.float32) * alpha
        out = out * self._vignette
        rng = np.random.default_rng(self.film.seed * 1000 + index)
        gx, gy = rng.integers(0, 256, 2)
        return (np.clip(out + self._grain[gy:gy + HEIGHT, gx:gx + WIDTH], 0, 255) + 0.5).astype(np.uint8)

    # -- inside ---------------------------------------------------------------------------------------------------

    def _shade(self, index: float) -> np.ndarray:
        """How the light falls on the points of the grid, about 1."""
        at = self.surface(self._grid.reshape(-1, 2), index).reshape(*self._grid.shape[:2], 3)
        down, right = np.gradient(at, axis=(0, 1))
        normal = np.cross(down, right)
        normal /= np.linalg.norm(normal, axis=2, keepdims=True)
        light = np.array([0.5, -0.45, -0.74])
        return np.asarray(0.45 + 0.72 * np.clip(normal @ light, 0, 1))

    def _drawn(self, index: int) -> tuple[np.ndarray, np.ndarray, tuple[int, int, int, int]]:
        """Places of the cloth (h, w, 2) on a finer raster of a box of the picture: seen from its front, from its back; nan elsewhere. And the box."""
        points = self._grid.reshape(-1, 2)
        at = self.surface(points, index)
        places = _FOCAL * at[:, :2] / at[:, 2:] + [WIDTH / 2, HEIGHT / 2]
        x0, y0 = np.maximum(np.floor(places.min(0)) - 2, 0).astype(int)
        x1, y1 = np.minimum(np.ceil(places.max(0)) + 2, (WIDTH, HEIGHT)).astype(int)
        near = -at[self._triangles, 2].mean(1)
        each = 1 / _FINER
        made = []
        for turned in (self._triangles, self._triangles[:, ::-1]):
            made.append(drawn_triangles(points[turned], places[turned], near, (x0 + each / 2, y0 + each / 2), each,
                                        ((y1 - y0) * _FINER, (x1 - x0) * _FINER)))
        (front, front_near), (back, back_near) = made
        front[back_near > front_near] = np.nan
        back[front_near >= back_near] = np.nan
        return front, back, (int(x0), int(y0), int(x1), int(y1))


def canvas(rng: np.random.Generator, size: tuple[int, int]) -> np.ndarray:
    """Sailcloth in linear light, (h, w, 3): weave, seams with stitches, patches, stains and eyelets."""
    w, h = size
    y, x = np.mgrid[0:h, 0:w].astype(np.float32)
    base = textures.linear((206, 190, 158)) * (1 + 0.06 * textures.noise(rng, size, (90, 70)))[..., None]
    weave = 0.035 * np.sin(x * 1.9) * np.sin(y * 1.9) + 0.10 * textures.noise(rng, size, (14, 3), 3) + 0.08 * textures.noise(rng, size, (3, 11), 3)
    cloth = base * (1 + weave)[..., None]
    cloth *= (1 - 0.45 * np.clip(textures.noise(rng, size, (60, 110)) - 0.25, 0, 1))[..., None]  # weather
    for k in range(1, 6):  # panels are sewn together
        at = w * k / 6 + 3 * np.sin(y[:, 0] / 60 + k)
        for offset, depth in ((-5, 0.75), (0, 0.55), (5, 0.75)):
            cloth[np.abs(x - at[:, None] - offset) < 1.2] *= depth
        cloth[(np.abs(x - at[:, None] - 9) < 1.3) & (y % 11 < 6)] *= 0.5
    colours = ((126, 86, 62), (92, 108, 112), (150, 132, 92), (112, 74, 70), (140, 120, 104))
    for k, (px, py, pw, ph) in enumerate(((70, 60, 130, 95), (430, 50, 150, 120), (250, 330, 170, 110), (560, 300, 110, 150), (60, 380, 120, 120))):
        angle = rng.uniform(-0.25, 0.25)
        corners = cv2.boxPoints(((px + pw / 2, py + ph / 2), (pw, ph), np.degrees(angle)))
        mask = np.zeros((h, w), np.float32)
        cv2.fillPoly(mask, [np.round(corners * 16).astype(np.int32)], 1.0, cv2.LINE_AA, 4)
        patch = textures.linear(colours[k]) * (1 + 0.35 * textures.noise(rng, size, (8, 8), 3) + 0.12 * np.sin(x * 0.9 + k) * np.sin(y * 0.9))[..., None]
        cloth = cloth * (1 - mask[..., None]) + patch * mask[..., None]
        inner = corners.mean(0) + (corners - corners.mean(0)) * 0.93
        for a, b in zip(inner, np.roll(inner, -1, axis=0), strict=True):
            for t in np.arange(0, 1, 12 / max(float(np.linalg.norm(b - a)), 1)):
                p, q = a + (b - a) * t, a + (b - a) * min(t + 6 / float(np.linalg.norm(b - a)), 1)
                cv2.line(cloth, tuple(np.round(p).astype(int).tolist()), tuple(np.round(q).astype(int).tolist()), (0.55, 0.5, 0.4), 2, cv2.LINE_AA)
    for _ in range(9):
        centre = rng.integers([40, 40], [w - 40, h - 40])
        blot = np.zeros((h, w), np.float32)
        cv2.ellipse(blot, tuple(centre.tolist()), tuple(rng.integers(8, 34, 2).tolist()), float(rng.uniform(0, 180)), 0, 360, 1.0, -1, cv2.LINE_AA)
        cloth *= (1 - rng.uniform(0.2, 0.45) * cv2.GaussianBlur(blot, (0, 0), 4))[..., None]
    for ex, ey in [(24, 24), (w - 24, 24), (24, h - 24), (w - 24, h - 24)] + [(int(w * k / 6), 20) for k in range(1, 6)]:
        cv2.circle(cloth, (ex, ey), 10, (0.35, 0.27, 0.12), 4, cv2.LINE_AA)
        cv2.circle(cloth, (ex, ey), 6, (0.01, 0.01, 0.012), -1, cv2.LINE_AA)
    cloth[:9] *= 0.6
    cloth[-9:] *= 0.6
    cloth[:, :9] *= 0.6
    cloth[:, -9:] *= 0.6
    return np.clip(cloth, 0.004, 1).astype(np.float32)
