"""A figure that moves before a background while the shutter is open: composed as layers, its texture learned, and its outline found by what they explain.

A sensor collects the mean over the exposure of the figure where that covers a pixel, and of the background where it does not (J. Wang and E. Adelson,
Representing moving images with layers, 1994). Where the shutter smears an edge over many pixels there is no edge to be found in the picture; but with
the texture of the figure and the background known, every pixel of the smear says how long it was covered. The texture is found from what all exposures
show together, by simultaneous iterative reconstruction (P. Gilbert, Iterative methods for the three-dimensional reconstruction of an object from
projections, 1972), and the outline by Gauss-Newton steps along its normals, as active contours that compare regions are (S. Zhu and A. Yuille, Region
competition, 1996).
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np
import scipy

from wertis.core.geometry import homography
from wertis.core.geometry.conventions import homography_to_centred, to_centred
from wertis.core.matte.coverage import box_round, polygon_area
from wertis.core.matte.outline import outwards

_STEPS, _ARRIVED, _LONGEST = 6, 0.05, 3.0  # of Gauss-Newton at most; pixels of a step with which it ends, and of the longest
_RELAXED = 1.5  # times a step of the reconstruction, which converges below two
_HARDLY = 0.3  # of the exposures' number, of covered time below which texture is taken from beside it
_NEAR, _FAR = 3.0, 15.0  # pixels, of the Gaussians by which it is
_MOSTLY, _LEAST_LIT = 0.7, 100  # part of the exposure for which a pixel must be covered to tell how the figure is lit, and how many such pixels it takes
_SAMPLED = 4000  # of them at least, evenly spread where there are more, which are enough for a median
_MOST_GAIN = 2.0  # times brighter or darker that it may be lit
_DARK = 8.0  # on a scale of 0..255, below which a colour says little of that
_INWARDS = 1.0  # pixels from the outline at which the figure's own colour is read
LEAST_DEVIATION = 2.0  # on a scale of 0..255, of a pixel
CAUCHY = 4.0  # deviations at which a pixel counts half
CORRELATED = 12.0  # pixels of which the errors of texture and background go together, so that they count as one
_AT_CORNER = 0.05  # weight of bending at a corner, and across it right beside it, so that its sides go their own ways


@dataclass(frozen=True)
class Exposure:
    """One frame of a moving figure, in a box of it, at the resolution at which it is worked on.

    Attributes
    ----------
    picture : (h, w, 3) float32, 0..255.
    background : (h, w, 3) float32, what would be seen there without the figure.
    known : (h, w) bool, where that is known.
    moves : (M, 3, 3) from the surface's picture to the box, at instants that are evenly spread over the exposure.
    middle : (3, 3) the same in the middle of it.
    """

    picture: np.ndarray
    background: np.ndarray
    known: np.ndarray
    moves: np.ndarray
    middle: np.ndarray


@dataclass(frozen=True)
class Texture:
    """What a figure looks like.

    Attributes
    ----------
    colours : (h, w, 3) float32, 0..255; where they are not known they go on as they are near there.
    place : (3, 3) from the surface's picture to it.
    known : (h, w) bool, where an exposure has shown them.
    """

    colours: np.ndarray
    place: np.ndarray
    known: np.ndarray


def blank_texture(outline: np.ndarray, scale: float, margin: float) -> Texture:
    """A grey texture with room for an outline (M, 2) of the surface's picture and `margin` pixels of it round it, `scale` times as large."""
    low, high = outline.min(0) - margin, outline.max(0) + margin
    w, h = np.ceil((high - low) * scale).astype(int)
    return Texture(np.full((h, w, 3), 128, np.float32), homography.scaling(scale) @ homography.translation(*-low),
                   np.zeros((h, w), bool))


def laid(exposure: Exposure, texture: Texture) -> list[np.ndarray]:
    """The texture where it lies at each instant of an exposure: (h, w, 3) float32 each."""
    return laid_picture(exposure, texture, texture.colours)


def laid_picture(exposure: Exposure, texture: Texture, picture: np.ndarray) -> list[np.ndarray]:
    """Something of a texture's size, (h, w) or (h, w, 3) float32, where it lies at each instant of an exposure."""
    h, w = exposure.known.shape
    return [cv2.warpPerspective(picture, homography_to_centred(move @ np.linalg.inv(texture.place)), (w, h), flags=cv2.INTER_LINEAR,
                                borderMode=cv2.BORDER_REPLICATE) for move in exposure.moves]


def composed(exposure: Exposure, instants: Sequence[np.ndarray], outline: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """What a figure adds to an exposure: (h, w) how long it covers each pixel, 0..1, and (h, w, 3) its colours times that.

    Parameters
    ----------
    instants : its texture at each instant; see `laid`.
    outline : (M, 2) in the surface's picture.
    """
    h, w = exposure.known.shape
    colour, alpha = np.zeros((h, w, 3), np.float32), np.zeros((h, w), np.float32)
    for picture, move in zip(instants, exposure.moves, strict=True):
        polygon = homography.apply(move, outline)
        box = box_round(polygon, 0, (w, h))
        if box is not None:
            part, covered = (slice(box[1], box[3]), slice(box[0], box[2])), polygon_area(polygon, box)
            cv2.accumulateProduct(picture[part], cv2.merge([covered] * 3), colour[part])  # adds to it in place
            alpha[part] += covered
    share = np.float32(1 / len(instants))
    return np.minimum(alpha * share, 1), colour * share


def unexplained(exposure: Exposure, instants: Sequence[np.ndarray], outline: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(h, w, 3) what an exposure shows beside what figure and background explain, 0 where the background is not known, and (h, w) the coverage; as
    `composed`."""
    alpha, colour = composed(exposure, instants, outline)
    return _rest(exposure, alpha, colour), alpha


def _rest(exposure: Exposure, alpha: np.ndarray, colour: np.ndarray) -> np.ndarray:
    """(h, w, 3) as `unexplained`, of what was composed."""
    rest = exposure.picture - colour - _weighted(exposure.background, 1 - alpha)
    rest[~(exposure.known | (alpha > 0.99))] = 0
    return np.asarray(rest, np.float32)


def _weighted(picture: np.ndarray, weight: np.ndarray) -> np.ndarray:
    """(h, w, c) float32 times (h, w) float32; several times as quick as NumPy, whose innermost loop is over so few channels."""
    return np.asarray(cv2.multiply(picture, cv2.merge([weight] * picture.shape[2])))


def gain_compensated(exposure: Exposure, texture: Texture, outline: np.ndarray) -> Texture:
    """A texture in the light of an exposure, on which the figure may be lit otherwise than on those it was learned from (gain compensation: M. Brown and
    D. Lowe, Automatic panoramic image stitching using invariant features, 2007).

    Parameters
    ----------
    outline : (M, 2) of the figure in the surface's picture.
    """
    gains = _gains(exposure, texture, *composed(exposure, laid(exposure, texture), outline))
    return replace(texture, colours=texture.colours * gains)


def _gains(exposure: Exposure, texture: Texture, alpha: np.ndarray, colour: np.ndarray) -> np.ndarray:
    """(3,) float32 by how much more of each channel an exposure shows of a figure than was `composed`."""
    y, x = np.nonzero((alpha > _MOSTLY) & (exposure.known | (alpha > 0.99)))
    each = slice(None, None, max(1, len(y) // _SAMPLED))
    y, x = y[each], x[each]
    if len(y) < _LEAST_LIT:
        return np.ones(3, np.float32)
    pixels = np.column_stack([x, y]) + 0.5
    at = to_centred(np.array([homography.apply(texture.place @ np.linalg.inv(move), pixels) for move in exposure.moves])).astype(np.float32)
    known = cv2.remap(texture.known.astype(np.float32), at[..., 0], at[..., 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    shown = known.min(0) > 0.99
    if shown.sum() < _LEAST_LIT:
        return np.ones(3, np.float32)
    y, x = y[shown], x[shown]
    own, seen = colour[y, x], exposure.picture[y, x] - (1 - alpha[y, x, None]) * exposure.background[y, x]
    ratio = np.median(seen / np.maximum(own, _DARK), axis=0)  # so that what looks otherwise in places does not count
    return np.clip(ratio, 1 / _MOST_GAIN, _MOST_GAIN).astype(np.float32)


def learned(texture: Texture, seen: Sequence[tuple[Exposure, np.ndarray]], rounds: int, given: int = 0) -> Texture:
    """A texture that explains exposures better, each with its outline (M, 2) in the surface's picture.

    The outlines of the first `given` exposures were drawn, not found: what one of them covers belongs to the figure, whatever the others cover.
    """
    size = texture.colours.shape[1::-1]
    areas = [polygon_area(homography.apply(texture.place, outline), (0, 0, *size)) for _, outline in seen]
    for _ in range(rounds):
        texture = _corrected(texture, seen, areas, given)
    return texture


def _corrected(texture: Texture, seen: Sequence[tuple[Exposure, np.ndarray]], areas: Sequence[np.ndarray], given: int) -> Texture:
    """The texture after one iteration of the reconstruction; `areas` (h, w) each are how much of its pixels each outline covers. See `learned`."""
    layers = [composed(exposure, laid(exposure, texture), outline) for exposure, outline in seen]
    gains = np.array([_gains(exposure, texture, *layer) for (exposure, _), layer in zip(seen, layers, strict=True)])
    gains /= np.exp(np.log(gains).mean(0))  # one that all have is the texture's own
    total, time = np.zeros_like(texture.colours), np.zeros(texture.colours.shape[:2], np.float32)
    belongs = np.zeros(time.shape, bool)
    for number, (exposure, _) in enumerate(seen):
        back = _back_projected(texture, exposure, *layers[number], gains[number], areas[number])
        total += back[..., :3]
        time += back[..., 3]
        if number < given:
            belongs |= back[..., 3] > _HARDLY
    colours = texture.colours + _weighted(total, np.float32(_RELAXED) / (time + np.float32(0.1)))
    known = belongs | (time > _HARDLY * len(seen))
    return replace(texture, colours=filled(colours, known), known=known)


def _back_projected(texture: Texture, exposure: Exposure, alpha: np.ndarray, colour: np.ndarray, gains: np.ndarray, area: np.ndarray) -> np.ndarray:
    """(h, w, 4) of the texture: what an exposure shows beside what was `composed`, and for how long it shows each place.

    Parameters
    ----------
    gains : (3,) by how much more of each channel it shows.
    area : (h, w) how much of the texture's pixels the outline covers.
    """
    lit = cv2.merge([channel * gain for channel, gain in zip(cv2.split(colour), gains, strict=True)])
    rest = cv2.split(_rest(exposure, alpha, lit))
    shown = cv2.merge([*(channel / gain for channel, gain in zip(rest, gains, strict=True)), np.ones_like(alpha)])
    back = np.zeros((*area.shape, 4), np.float32)
    for move in exposure.moves:
        onto = homography_to_centred(move @ np.linalg.inv(texture.place))
        cv2.accumulate(cv2.warpPerspective(shown, onto, area.shape[::-1], flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP), back)
    return _weighted(back, area / np.float32(len(exposure.moves)))


def filled(colours: np.ndarray, known: np.ndarray) -> np.ndarray:
    """Colours (h, w, 3) that go on beyond where they are `known` (h, w) bool as they are near there."""
    out, weight = colours.copy(), known.astype(np.float32)
    missing = ~known
    sound = cv2.merge([*cv2.split(_weighted(colours, weight)), weight])
    for width in (_NEAR, _FAR):
        sums = cv2.GaussianBlur(sound, (0, 0), width)  # a coarser one is quicker, but figures that grow are lost
        here = missing & (sums[..., 3] > 1e-3)
        out[here] = sums[here, :3] / sums[here, 3:]
        missing &= ~here
    if missing.any() and known.any():
        out[missing] = colours[known].mean(0)
    return out


def explained_offsets(exposure: Exposure, texture: Texture, places: np.ndarray, spread: float, length: float,
                      corners: Sequence[int] = ()) -> tuple[np.ndarray, np.ndarray]:
    """How far the outline of a figure lies from places along it, by what the figure explains of an exposure.

    Parameters
    ----------
    places : (n, 2) a closed polygon in the box's picture, in the middle of the exposure.
    spread : pixels by which the outline is expected to be off, standard deviation.
    length : pixels along it within which it goes together.
    corners : numbers of places that are corners.

    Returns
    -------
    (n,) offsets along the normals, outwards positive, and (n,) their standard deviations by the exposure alone, both in pixels.
    """
    normals = outwards(places)
    spacing = np.linalg.norm(np.roll(places, -1, 0) - np.roll(places, 1, 0), axis=1) / 2
    steps = np.linalg.norm(np.roll(places, -1, 0) - places, axis=1)
    prior = _stiffness((steps + np.roll(steps, 1)) / 2, length, corners) / spread ** 2
    home = np.linalg.inv(exposure.middle)
    offsets, normal = np.zeros(len(places)), scipy.sparse.csr_array((len(places), len(places)))
    instants = laid(exposure, texture)
    for _ in range(_STEPS):
        normal, pull = _equations(exposure, texture, instants, places + offsets[:, None] * normals, normals, spacing, home)
        step = scipy.sparse.linalg.spsolve((normal + prior).tocsc(), pull - prior @ offsets)
        step = np.clip(step, -_LONGEST, _LONGEST)
        offsets = offsets + step
        if np.abs(step).max() < _ARRIVED:
            break
    return offsets, 1 / np.sqrt(np.maximum(normal.diagonal(), 1e-12))


def _stiffness(spacing: np.ndarray, length: float, corners: Sequence[int]) -> "scipy.sparse.csr_array":
    """(n, n) of a closed line's offsets with places `spacing` (n,) apart: their squares, and those of their second derivatives times length squared.

    Second derivatives at corners and right beside them, which are taken across the corner, hardly count.
    """
    n = len(spacing)
    index, weight = np.arange(n), (length / np.maximum(spacing, 1e-3)) ** 2
    second = scipy.sparse.csr_array((np.concatenate([-2 * weight, weight, weight]),
                                     (np.tile(index, 3), np.concatenate([index, (index - 1) % n, (index + 1) % n]))), (n, n))
    free = np.ones(n)
    for beside in (-1, 0, 1):
        free[(np.array(corners, int) + beside) % n] = _AT_CORNER
    return (second.T @ scipy.sparse.diags_array(free) @ second + scipy.sparse.eye_array(n)).tocsr()


def _equations(exposure: Exposure, texture: Texture, instants: Sequence[np.ndarray], outline: np.ndarray, normals: np.ndarray,
               spacing: np.ndarray, home: np.ndarray) -> "tuple[scipy.sparse.csr_array, np.ndarray]":
    """The normal equations (n, n) and (n,) of moving places of an outline (n, 2), in the middle of an exposure, along their normals.

    A place that moves outwards covers, at each instant, what lies there then: the figure's colour at the edge takes the background's place.
    """
    rest, alpha = unexplained(exposure, instants, homography.apply(home, outline))
    h, w = alpha.shape
    n = len(outline)
    at = to_centred(homography.apply(texture.place @ home, outline - _INWARDS * normals)).astype(np.float32)
    own = cv2.remap(texture.colours, at[None, :, 0], at[None, :, 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)[0]
    rows, columns, values = [], [], []
    for move in exposure.moves:
        there = to_centred(homography.apply(move @ home, outline))
        first = np.floor(there).astype(int)
        part = there - first
        for dx, dy in ((0, 0), (1, 0), (0, 1), (1, 1)):
            x, y = first[:, 0] + dx, first[:, 1] + dy
            inside = np.flatnonzero((x >= 0) & (x < w) & (y >= 0) & (y < h))
            share = np.abs(1 - dx - part[:, 0]) * np.abs(1 - dy - part[:, 1]) * spacing / len(exposure.moves)
            rows.append((y * w + x)[inside])
            columns.append(inside)
            values.append(share[inside])
    covered = scipy.sparse.coo_array((np.concatenate(values), (np.concatenate(rows), np.concatenate(columns))), (h * w, n)).tocsr()
    pixels = np.flatnonzero((np.diff(covered.indptr) > 0) & exposure.known.ravel())
    covered = covered[pixels].tocoo()
    left, behind = rest.reshape(-1, 3)[pixels], exposure.background.reshape(-1, 3)[pixels]
    size = np.abs(left).mean(1)
    deviation = max(LEAST_DEVIATION, 1.48 * float(np.median(size))) if len(size) else LEAST_DEVIATION
    weight = 1 / (1 + (size / (CAUCHY * deviation)) ** 2) / (deviation ** 2 * CORRELATED)
    normal, pull = scipy.sparse.csr_array((n, n)), np.zeros(n)
    for channel in range(3):
        contrast = own[covered.coords[1], channel] - behind[covered.coords[0], channel]
        slope = scipy.sparse.csr_array((covered.data * contrast, covered.coords), covered.shape)
        normal = normal + slope.T @ (scipy.sparse.diags_array(weight) @ slope)
        pull += slope.T @ (weight * left[:, channel])
    return normal.tocsr(), pull
