"""Laying a picture on another through a warp: the right amount of filtering, and edges without steps."""

from dataclasses import dataclass

import cv2
import numpy as np

from wertis.core.geometry import homography, quad
from wertis.core.geometry.conventions import homography_to_centred, to_centred
from wertis.core.geometry.warp import HomographyWarp, Warp, compose

_MOST_REDUCTIONS = 10
_FINER = 8  # times by which the raster is finer on which the coverage of a curved outline is counted
_UNIT = np.array([[0.0, 0], [1, 0], [1, 1], [0, 1]])


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


def lay(picture: Reductions, onto: Warp, size: tuple[int, int], samples: int = 1, window: np.ndarray | None = None) -> Laid | None:
    """Lay a picture on a target through a warp.

    The picture is first reduced, across and down, to about the scale at which it will be seen; the inside is then sampled
    `samples` by `samples` times per pixel, and the border's coverage is worked out from the outline.

    Parameters
    ----------
    onto : the picture's unit square, (0, 0) its top left corner, to the target's pixels.
    size : width, height of the target.
    samples : 1 for playing, 2 or more for final pictures.
    window : (2, 2) low and high corner, in the unit square's coordinates, of the rectangle outside which nothing is shown.

    Returns
    -------
    None when nothing of it is in the target, or it is folded.
    """
    return _lay_flat(picture, onto, size, samples, window) if onto.matrix is not None else _lay_curved(picture, onto, size, samples, window)


def _lay_flat(picture: Reductions, onto: Warp, size: tuple[int, int], samples: int, window: np.ndarray | None) -> Laid | None:
    """`lay` through a homography: each pixel's place and the coverage along the straight border are exact."""
    q = onto.forward(_UNIT)
    shown = q if window is None else onto.forward(_corners(window))
    if not quad.is_convex(q) or not quad.is_convex(shown):
        return None
    box = _box(np.maximum(q.min(0), shown.min(0)), np.minimum(q.max(0), shown.max(0)), size)
    if box is None:
        return None
    x0, y0, x1, y1 = box
    source = picture.reduced(*_reduction(onto, picture.size, samples, box))
    sh, sw = source.shape[:2]
    through = homography.from_points(np.array([[0.0, 0], [sw, 0], [sw, sh], [0, sh]]), (q - [x0, y0]) * samples)
    inverse = np.linalg.inv(homography_to_centred(through))
    out = ((x1 - x0) * samples, (y1 - y0) * samples)
    pixels = cv2.warpPerspective(source, inverse, out, flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP, borderMode=cv2.BORDER_REPLICATE)
    if samples > 1:
        pixels = cv2.resize(pixels, (x1 - x0, y1 - y0), interpolation=cv2.INTER_AREA)
    pixels *= coverage(q - [x0, y0], (x1 - x0, y1 - y0))[..., None]
    if window is not None:
        pixels *= coverage(shown - [x0, y0], (x1 - x0, y1 - y0))[..., None]
    return Laid(x0, y0, pixels)


def _lay_curved(picture: Reductions, onto: Warp, size: tuple[int, int], samples: int, window: np.ndarray | None) -> Laid | None:
    """`lay` through any warp, by its inverse map; the outline is a polygon whose coverage is counted on a finer raster."""
    low, high = np.zeros(2), np.ones(2)
    if window is not None:
        low, high = np.maximum(window[0], 0), np.minimum(window[1], 1)
    if np.any(high - low < 1e-6):
        return None
    outline = onto.forward(_rectangle(low, high))
    if not np.isfinite(outline).all():
        return None
    box = _box(outline.min(0), outline.max(0), size)
    if box is None:
        return None
    x0, y0, x1, y1 = box
    source = picture.reduced(*_reduction(onto, picture.size, samples, box))
    sh, sw = source.shape[:2]
    # from the source's pixels, first centre at 0, so that the map is ready as it comes
    from_pixels = HomographyWarp(np.array([[1 / sw, 0, 0.5 / sw], [0, 1 / sh, 0.5 / sh], [0, 0, 1]]))
    places = compose(onto, from_pixels).inverse_map(box, samples)
    if not np.isfinite(places.sum()):
        places = np.nan_to_num(places, nan=-1e6)
    pixels = cv2.remap(source, places, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)  # type: ignore[call-overload]
    if samples > 1:
        pixels = cv2.resize(pixels, (x1 - x0, y1 - y0), interpolation=cv2.INTER_AREA)
    pixels *= polygon_coverage(outline - [x0, y0], (x1 - x0, y1 - y0))[..., None]
    return Laid(x0, y0, pixels)


def _box(low: np.ndarray, high: np.ndarray, size: tuple[int, int]) -> tuple[int, int, int, int] | None:
    """The whole pixels of a picture of `size` from `low` to `high` (2,), and one more all round; None where there are none."""
    x0, y0 = np.maximum(np.floor(low - 1), 0).astype(int)
    x1, y1 = np.minimum(np.ceil(high + 1), size).astype(int)
    return (int(x0), int(y0), int(x1), int(y1)) if x1 > x0 and y1 > y0 else None


def _corners(window: np.ndarray) -> np.ndarray:
    (x0, y0), (x1, y1) = window
    return np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]])


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


def _reduction(onto: Warp, size: tuple[int, int], samples: int, box: tuple[int, int, int, int]) -> tuple[int, int]:
    """How often to halve across and down, from how many source pixels fall on one sample where the picture is seen."""
    u, v = np.meshgrid([0.1, 0.5, 0.9], [0.1, 0.5, 0.9])
    places = np.column_stack([u.ravel(), v.ravel()])
    seen = onto.forward(places)
    with np.errstate(invalid="ignore"):
        inside = (seen[:, 0] > box[0] - 50) & (seen[:, 0] < box[2] + 50) & (seen[:, 1] > box[1] - 50) & (seen[:, 1] < box[3] + 50)
    jacobians = onto.jacobian(places[inside] if inside.any() else places)
    sound = np.isfinite(jacobians).all((1, 2)) & (np.abs(np.linalg.det(np.nan_to_num(jacobians))) > 1e-12)
    if not sound.any():
        return 0, 0
    # singular directions matter for squeezed views: source pixels per target pixel along each source axis
    inverse = np.linalg.inv(jacobians[sound]) * np.array(size, float)[:, None]
    per_axis = np.linalg.norm(inverse, axis=2)
    counts = np.median(per_axis, axis=0) / samples
    across, down = (int(np.clip(np.ceil(np.log2(max(c, 1e-6)) - 0.35), 0, _MOST_REDUCTIONS)) for c in counts)
    return across, down
