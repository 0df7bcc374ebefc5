"""Laying a flat picture on a quad of another: the right amount of filtering, and edges without steps."""

from dataclasses import dataclass

import cv2
import numpy as np

from wertis.core.geometry import homography, quad
from wertis.core.geometry.conventions import homography_to_centred

_MOST_REDUCTIONS = 10


@dataclass(frozen=True)
class Laid:
    """A warped picture and where it goes.

    Attributes
    ----------
    left, top : place of its first pixel in the target picture.
    pixels : (h, w, 4) float32 premultiplied.
    """

    left: int
    top: int
    pixels: np.ndarray


class Reductions:
    """A picture and its reductions by halves, separately across and down (Heckbert, Survey of texture mapping, 1986: prefiltering).

    Parameters
    ----------
    picture : (h, w, 4) float32 premultiplied.
    """

    def __init__(self, picture: np.ndarray) -> None:
        self.size = (picture.shape[1], picture.shape[0])
        self._made = {(0, 0): picture}

    def reduced(self, across: int, down: int) -> np.ndarray:
        """The picture with its width halved `across` times and its height `down` times, by averaging areas."""
        key = (across, down)
        if key not in self._made:
            w, h = max(1, self.size[0] >> across), max(1, self.size[1] >> down)
            self._made[key] = cv2.resize(self._made[(0, 0)], (w, h), interpolation=cv2.INTER_AREA)
        return self._made[key]


def lay(picture: Reductions, target_quad: np.ndarray, size: tuple[int, int], samples: int = 1,
        inside: np.ndarray | None = None) -> Laid | None:
    """Lay a picture on a quad of a target picture.

    The picture is first reduced, across and down, to about the scale at which it will be seen; the inside is then sampled
    `samples` by `samples` times per pixel, and the border's coverage is worked out from the distance to the quad's sides.

    Parameters
    ----------
    target_quad : (4, 2) where the picture's corners go, in pixels.
    size : width, height of the target.
    samples : 1 for playing, 2 or more for final pictures.
    inside : (4, 2) convex quad outside which nothing is shown; the target quad itself when not given.

    Returns
    -------
    None when nothing of the quad is in the target or it is folded.
    """
    q = np.asarray(target_quad, np.float64)
    if not quad.is_convex(q):
        return None
    shown = q if inside is None else np.asarray(inside, np.float64)
    if not quad.is_convex(shown):
        return None
    x0, y0 = np.floor(np.maximum(q.min(0), shown.min(0)) - 1).astype(int)
    x1, y1 = np.ceil(np.minimum(q.max(0), shown.max(0)) + 1).astype(int)
    x0, y0, x1, y1 = max(0, x0), max(0, y0), min(size[0], x1), min(size[1], y1)
    if x1 <= x0 or y1 <= y0:
        return None
    w, h = picture.size
    whole = np.array([[0.0, 0], [w, 0], [w, h], [0, h]])
    across, down = _reduction(homography.from_points(whole, q), w, h, samples, (x0, y0, x1, y1))
    source = picture.reduced(across, down)
    sh, sw = source.shape[:2]
    onto = homography.from_points(np.array([[0.0, 0], [sw, 0], [sw, sh], [0, sh]]), (q - [x0, y0]) * samples)
    inverse = np.linalg.inv(homography_to_centred(onto))
    out = (int(x1 - x0) * samples, int(y1 - y0) * samples)
    pixels = cv2.warpPerspective(source, inverse, out, flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP, borderMode=cv2.BORDER_REPLICATE)
    if samples > 1:
        pixels = cv2.resize(pixels, (x1 - x0, y1 - y0), interpolation=cv2.INTER_AREA)
    pixels *= coverage(q - [x0, y0], (x1 - x0, y1 - y0))[..., None]
    if inside is not None:
        pixels *= coverage(shown - [x0, y0], (x1 - x0, y1 - y0))[..., None]
    return Laid(int(x0), int(y0), pixels)


def coverage(outline: np.ndarray, size: tuple[int, int]) -> np.ndarray:
    """How much of each pixel (h, w) a convex quad (4, 2) covers, 0..1.

    Each side's half plane covers an exact area of the pixel's square (E. Catmull, A hidden-surface algorithm with anti-aliasing,
    1978, for the idea); the four are multiplied, which is exact but for the pixels at the corners.
    """
    x = np.arange(size[0], dtype=np.float32) + np.float32(0.5)
    y = (np.arange(size[1], dtype=np.float32) + np.float32(0.5))[:, None]
    turn = 1.0 if quad.signed_area(outline) > 0 else -1.0
    covered = np.ones((size[1], size[0]), np.float32)
    for a, b in zip(outline, np.roll(outline, -1, 0)):
        dx, dy = b - a
        length = float(np.hypot(dx, dy))
        if length < 1e-9:
            continue
        nx, ny = np.float32(-dy / length * turn), np.float32(dx / length * turn)
        covered *= _half_plane_area((nx * x + ny * y) - np.float32(nx * a[0] + ny * a[1]), float(abs(nx)), float(abs(ny)))
    return covered


def _half_plane_area(distance: np.ndarray, nx: float, ny: float) -> np.ndarray:
    """The area of unit squares on the inner side of a line, by the signed distance of their centres; (nx, ny) is its normal, >= 0."""
    far, near = max(nx, ny), min(nx, ny)
    flat, ends = (far - near) / 2, (far + near) / 2
    d = np.abs(distance)
    straight = d / np.float32(far)
    if near < 1e-6:
        beyond = np.minimum(straight, 0.5)
    else:
        corner = np.float32(0.5) - np.maximum(ends - d, 0) ** 2 / np.float32(2 * far * near)
        beyond = np.where(d <= flat, straight, corner)
    return np.float32(0.5) + np.copysign(beyond, distance)


def _reduction(onto: np.ndarray, w: int, h: int, samples: int, box: tuple[int, int, int, int]) -> tuple[int, int]:
    """How often to halve across and down, from how many source pixels fall on one sample where the picture is seen."""
    u, v = np.meshgrid([0.1, 0.5, 0.9], [0.1, 0.5, 0.9])
    places = np.column_stack([u.ravel() * w, v.ravel() * h])
    seen = homography.apply(onto, places)
    inside = (seen[:, 0] > box[0] - 50) & (seen[:, 0] < box[2] + 50) & (seen[:, 1] > box[1] - 50) & (seen[:, 1] < box[3] + 50)
    jacobians = homography.jacobian(onto, places[inside] if inside.any() else places)
    # singular directions matter for squeezed views: source pixels per target pixel along each source axis
    inverse = np.linalg.inv(jacobians)
    per_x = np.linalg.norm(inverse[:, 0, :], axis=1)
    per_y = np.linalg.norm(inverse[:, 1, :], axis=1)
    counts = [np.median(per) / samples for per in (per_x, per_y)]
    across, down = (int(np.clip(np.ceil(np.log2(max(c, 1e-6)) - 0.35), 0, _MOST_REDUCTIONS)) for c in counts)
    return across, down
