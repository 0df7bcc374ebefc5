"""Laying a flat picture on a quad of another: the right amount of filtering, and edges without steps."""

from dataclasses import dataclass

import cv2
import numpy as np

from wertis.core.geometry import coons, homography, quad
from wertis.core.geometry.conventions import homography_to_centred, to_centred

_MOST_REDUCTIONS = 10
_EVERY = 6  # pixels between the places where the way back through a bent patch is worked out
_FINER = 8


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


def lay_bent(picture: Reductions, target_quad: np.ndarray, surface_quad: np.ndarray, offsets: np.ndarray, size: tuple[int, int],
             samples: int = 1) -> Laid | None:
    """Lay a picture on a quad of a surface whose sides are bent; what reaches beyond the surface is cut off.

    Parameters
    ----------
    target_quad : (4, 2) where the picture's corners would go, were the sides straight.
    surface_quad : (4, 2) the surface's corners, which the bends start from.
    offsets : (8, 2) of the bent sides' control points in the surface's unit square; see `geometry.coons`.

    The way back from the target is worked out on every few pixels and filled in between; the outline is a polygon whose coverage is counted
    on a raster eight times finer.
    """
    if not quad.is_convex(target_quad) or not quad.is_convex(surface_quad):
        return None
    onto_surface = homography.from_unit_square(np.asarray(surface_quad, float))
    inner = homography.apply(np.linalg.inv(onto_surface), target_quad)  # the picture's rectangle in the surface's unit square
    low, high = np.maximum(inner.min(0), 0), np.minimum(inner.max(0), 1)
    if np.any(high - low < 1e-6):
        return None
    edge = _rectangle(low, high)
    outline = homography.apply(onto_surface, coons.bent(edge, offsets))
    x0, y0 = np.maximum(np.floor(outline.min(0)) - 1, 0).astype(int)
    x1, y1 = np.minimum(np.ceil(outline.max(0)) + 1, size).astype(int)
    if x1 <= x0 or y1 <= y0:
        return None
    w, h = picture.size
    across, down = _reduction(homography.from_points(np.array([[0.0, 0], [w, 0], [w, h], [0, h]]), np.asarray(target_quad, float)), w, h, samples,
                              (x0, y0, x1, y1))
    source = picture.reduced(across, down)
    sh, sw = source.shape[:2]
    # the middles of blocks of pixels, with one more all round so that what lies outside the outer middles is known as well
    columns, rows = (start + _EVERY * (np.arange(-1, -(-length // _EVERY) + 1) + 0.5) for start, length in ((x0, x1 - x0), (y0, y1 - y0)))
    blocks = np.stack(np.meshgrid(columns, rows), axis=-1)
    square = coons.straight(homography.apply(np.linalg.inv(onto_surface), blocks.reshape(-1, 2)), offsets)
    back = homography.apply(homography.from_points(inner, np.array([[0.0, 0], [sw, 0], [sw, sh], [0, sh]])), square)
    each = _EVERY * samples
    full = cv2.resize(to_centred(back).reshape(len(rows), len(columns), 2).astype(np.float32), None, fx=each, fy=each, interpolation=cv2.INTER_LINEAR)
    full = full[each:each + (y1 - y0) * samples, each:each + (x1 - x0) * samples]
    pixels = cv2.remap(source, full[..., 0], full[..., 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    if samples > 1:
        pixels = cv2.resize(pixels, (x1 - x0, y1 - y0), interpolation=cv2.INTER_AREA)
    pixels *= polygon_coverage(outline - [x0, y0], (int(x1 - x0), int(y1 - y0)))[..., None]
    return Laid(int(x0), int(y0), pixels)


def polygon_coverage(outline: np.ndarray, size: tuple[int, int]) -> np.ndarray:
    """How much of each pixel (h, w) a polygon (N, 2) covers, 0..1, counted on a raster eight times finer."""
    fine = np.zeros((size[1] * _FINER, size[0] * _FINER), np.uint8)
    places = [np.rint(to_centred(outline * _FINER) * 256).astype(np.int32)]
    cv2.fillPoly(fine, places, 254, cv2.LINE_8, 8)
    # the fill takes in every fine pixel that the outline touches: half of each is outside
    cv2.polylines(fine, places, True, 127, 1, cv2.LINE_8, 8)
    return np.asarray(cv2.resize(fine, size, interpolation=cv2.INTER_AREA), np.float32) / 254


def _rectangle(low: np.ndarray, high: np.ndarray, per_side: int = 32) -> np.ndarray:
    """The outline (4 * per_side, 2) of an upright rectangle, in small steps."""
    corners = np.array([[low[0], low[1]], [high[0], low[1]], [high[0], high[1]], [low[0], high[1]]])
    t = np.arange(per_side)[:, None] / per_side
    return np.concatenate([a + (b - a) * t for a, b in zip(corners, np.roll(corners, -1, 0), strict=True)])


def coverage(outline: np.ndarray, size: tuple[int, int]) -> np.ndarray:
    """How much of each pixel (h, w) a convex quad (4, 2) covers, 0..1.

    Each side's half plane covers an exact area of the pixel's square (E. Catmull, A hidden-surface algorithm with anti-aliasing,
    1978, for the idea); the four are multiplied, which is exact but for the pixels at the corners.
    """
    # only pixels near a side are covered in part
    places = [np.rint(to_centred(outline) * 16).astype(np.int64).clip(-(1 << 24), 1 << 24).astype(np.int32)]
    covered = np.zeros((size[1], size[0]), np.float32)
    cv2.fillPoly(covered, places, 1.0, cv2.LINE_8, 4)
    band = np.zeros((size[1], size[0]), np.uint8)
    cv2.polylines(band, places, True, 1, 7, cv2.LINE_8, 4)
    rows, columns = np.nonzero(band)
    x, y = columns.astype(np.float32) + np.float32(0.5), rows.astype(np.float32) + np.float32(0.5)
    turn = 1.0 if quad.signed_area(outline) > 0 else -1.0
    part = np.ones(len(x), np.float32)
    for a, b in zip(outline, np.roll(outline, -1, 0), strict=True):
        dx, dy = b - a
        length = float(np.hypot(dx, dy))
        if length < 1e-9:
            continue
        nx, ny = np.float32(-dy / length * turn), np.float32(dx / length * turn)
        part *= _half_plane_area((nx * x + ny * y) - np.float32(nx * a[0] + ny * a[1]), float(abs(nx)), float(abs(ny)))
    covered[rows, columns] = part
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
