"""Laying a picture on another through a warp: the right amount of filtering, and edges without steps."""

from dataclasses import dataclass
from functools import cached_property

import cv2
import numpy as np

from wertis.core.geometry import homography, quad
from wertis.core.geometry.conventions import homography_to_centred
from wertis.core.geometry.warp import HomographyWarp, Warp, compose
from wertis.core.matte.coverage import polygon_area
from wertis.core.shot.patches import FINER

_MOST_REDUCTIONS = 10
_ROOM, _ROOM_SHARE = 8, 0.02  # pixels of a picture, or share of its size, round what is not transparent
_SAME = 1e-6  # pixels by which a picture may be off from whole pixels and still be copied


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

    @cached_property
    def bounds(self) -> np.ndarray:
        """(2, 2) low and high corner, in its unit square, of what is not transparent, and a little more for filtering."""
        alpha = self._made[(0, 0)][..., 3]
        rows, columns = (np.flatnonzero((alpha > 0).any(axis)) for axis in (1, 0))
        if not len(rows):
            return np.zeros((2, 2))
        room = np.maximum(_ROOM, _ROOM_SHARE * np.array(self.size))
        low, high = np.array([columns[0], rows[0]]) - room, np.array([columns[-1], rows[-1]]) + 1 + room
        return np.clip(np.array([low, high]) / self.size, 0, 1)

    def reduced(self, across: int, down: int) -> np.ndarray:
        """The picture with its width halved `across` times and its height `down` times, by averaging areas."""
        key = (across, down)
        if key not in self._made:
            w, h = max(1, self.size[0] >> across), max(1, self.size[1] >> down)
            self._made[key] = cv2.resize(self._made[(0, 0)], (w, h), interpolation=cv2.INTER_AREA)
        return self._made[key]


def lay(picture: Reductions, onto: Warp, size: tuple[int, int], samples: int = 1, window: np.ndarray | None = None, repeated: bool = False,
        sharp: bool = False) -> Laid | None:
    """Lay a picture on a target through a warp.

    The picture is first reduced, across and down, to about the scale at which it will be seen; the inside is then sampled
    `samples` by `samples` times per pixel, and the border's coverage is worked out from the outline.

    Parameters
    ----------
    onto : the picture's unit square, (0, 0) its top left corner, to the target's pixels.
    size : width, height of the target.
    samples : 1 for playing, 2 or more for final pictures.
    window : (2, 2) low and high corner, in the unit square's coordinates, of the rectangle outside which nothing is shown.
    sharp : the picture is `FINER` times as fine as what it was taken from; it is read by a Lanczos kernel of eight pixels, once for each pixel, where it
        is seen about as large as that was.
    repeated : the picture goes on beyond its unit square, as often as the window has room.

    Returns
    -------
    None when nothing of it is in the target, or it is folded.
    """
    shown = np.array([[0.0, 0.0], [1.0, 1.0]]) if window is None else np.asarray(window, np.float64)
    if not repeated:
        shown = np.clip(shown, 0, 1)
    if (shown[1] - shown[0] < 1e-6).any():
        return None
    return (_lay_flat if onto.matrix is not None else _lay_curved)(picture, onto, size, samples, shown, repeated, sharp)


def _lay_flat(picture: Reductions, onto: Warp, size: tuple[int, int], samples: int, window: np.ndarray, repeated: bool,
              sharp: bool) -> Laid | None:
    """`lay` through a homography: each pixel's place and the coverage along the straight border are exact."""
    matrix = onto.matrix
    assert matrix is not None
    corners = _corners(window)
    if not (np.column_stack([corners, np.ones(4)]) @ matrix[2] * np.sign(matrix[2, 2]) > 1e-9).all():  # beyond the horizon
        return None
    shown = onto.forward(corners)
    if not quad.is_convex(shown):
        return None
    box = _box(shown.min(0), shown.max(0), size)
    if box is None:
        return None
    x0, y0, x1, y1 = box
    through = homography.normalised(matrix @ homography.scaling(1 / picture.size[0], 1 / picture.size[1]))
    shift = np.round(through[:2, 2]).astype(int)
    if not repeated and np.abs(through - homography.translation(*shift)).max() < _SAME:
        pixels = _moved(picture.reduced(0, 0), (x0 - shift[0], y0 - shift[1]), (x1 - x0, y1 - y0))  # to the pixel: nothing is resampled
    else:
        samples, kernel, halves = _sampling(onto, picture.size, samples, box, sharp)
        source = picture.reduced(*halves)
        sh, sw = source.shape[:2]
        through = homography.scaling(samples) @ homography.translation(-x0, -y0) @ matrix @ homography.scaling(1 / sw, 1 / sh)
        inverse = np.linalg.inv(homography_to_centred(through))
        out = ((x1 - x0) * samples, (y1 - y0) * samples)
        border = cv2.BORDER_WRAP if repeated else cv2.BORDER_REPLICATE
        pixels = cv2.warpPerspective(source, inverse, out, flags=kernel | cv2.WARP_INVERSE_MAP, borderMode=border)
        if samples > 1:
            pixels = cv2.resize(pixels, (x1 - x0, y1 - y0), interpolation=cv2.INTER_AREA)
    pixels *= polygon_area(shown, box)[..., None]
    return Laid(x0, y0, pixels)


def _moved(picture: np.ndarray, start: tuple[int, int], size: tuple[int, int]) -> np.ndarray:
    """The part of a picture that begins at a pixel of it, of a size; nothing beyond its border."""
    out = np.zeros((size[1], size[0], 4), np.float32)
    x0, y0 = max(start[0], 0), max(start[1], 0)
    x1, y1 = min(start[0] + size[0], picture.shape[1]), min(start[1] + size[1], picture.shape[0])
    if x1 > x0 and y1 > y0:
        out[y0 - start[1]:y1 - start[1], x0 - start[0]:x1 - start[0]] = picture[y0:y1, x0:x1]
    return out


def _lay_curved(picture: Reductions, onto: Warp, size: tuple[int, int], samples: int, window: np.ndarray, repeated: bool,
                sharp: bool) -> Laid | None:
    """`lay` through any warp, by its inverse map; the outline is a polygon.

    Where the outline passes places that the warp does not know, pixels count whose own place is inside.
    """
    low, high = window
    outline = onto.forward(_rectangle(low, high))
    whole = bool(np.isfinite(outline).all())
    box = _box(outline.min(0), outline.max(0), size) if whole else (0, 0, *size)
    if box is None:
        return None
    x0, y0, x1, y1 = box
    each, kernel, halves = _sampling(onto, picture.size, samples if whole else max(samples, 2), box, sharp)
    source = picture.reduced(*halves)
    sh, sw = source.shape[:2]
    # from the source's pixels, first centre at 0, so that the map is ready as it comes
    from_pixels = HomographyWarp(np.array([[1 / sw, 0, 0.5 / sw], [0, 1 / sh, 0.5 / sh], [0, 0, 1]]))
    places = compose(onto, from_pixels).inverse_map(box, each)
    known = None
    if not np.isfinite(places.sum()):
        known = np.isfinite(places).all(-1)
        places = np.nan_to_num(places, nan=-1e6)
    if not whole:
        first, last = low * [sw, sh] - 0.5, high * [sw, sh] - 0.5
        inside = ((places >= first) & (places <= last)).all(-1)
        known = inside if known is None else inside & known
    border = cv2.BORDER_WRAP if repeated else cv2.BORDER_REPLICATE
    pixels = cv2.remap(source, places, None, kernel, borderMode=border)  # type: ignore[call-overload]
    if known is not None:
        pixels *= known[..., None]
    if each > 1:
        pixels = cv2.resize(pixels, (x1 - x0, y1 - y0), interpolation=cv2.INTER_AREA)
    if whole:
        pixels *= polygon_area(outline, box)[..., None]
    return Laid(x0, y0, pixels)


def _box(low: np.ndarray, high: np.ndarray, size: tuple[int, int]) -> tuple[int, int, int, int] | None:
    """The whole pixels of a picture of `size` from `low` to `high` (2,), and one more all round; None where there are none."""
    x0, y0 = np.maximum(np.floor(low - 1), 0).astype(int)
    x1, y1 = np.minimum(np.ceil(high + 1), size).astype(int)
    return (int(x0), int(y0), int(x1), int(y1)) if x1 > x0 and y1 > y0 else None


def _corners(window: np.ndarray) -> np.ndarray:
    (x0, y0), (x1, y1) = window
    return np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]])


def _rectangle(low: np.ndarray, high: np.ndarray, per_side: int = 32) -> np.ndarray:
    """The outline (4 * per_side, 2) of an upright rectangle, in small steps."""
    corners = np.array([[low[0], low[1]], [high[0], low[1]], [high[0], high[1]], [low[0], high[1]]])
    t = np.arange(per_side)[:, None] / per_side
    return np.concatenate([a + (b - a) * t for a, b in zip(corners, np.roll(corners, -1, 0), strict=True)])


def _sampling(onto: Warp, size: tuple[int, int], samples: int, box: tuple[int, int, int, int], sharp: bool) -> tuple[int, int, tuple[int, int]]:
    """How often each pixel is sampled, by which of OpenCV's kernels, and how often the picture is halved before."""
    if sharp:
        halves = _reduction(onto, size, FINER, box)
        if halves == (0, 0):
            return 1, cv2.INTER_LANCZOS4, halves
    return samples, cv2.INTER_LINEAR, _reduction(onto, size, samples, box)


def _reduction(onto: Warp, size: tuple[int, int], samples: float, box: tuple[int, int, int, int]) -> tuple[int, int]:
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
