"""How far a pointed part of a figure reaches while the shutter smears it, which its sides do not say: by what figure and background explain.

A tip is tried longer, shorter and aside, and stays where least is left unexplained (R. Hooke and T. Jeeves, Direct search solution of numerical and
statistical problems, 1961: pattern search). Gauss-Newton steps do not get there, since what a longer tip would cover is not what it covers now. Where it
covers what no exposure has shown of the texture, colours along the tip are solved for with each length that is tried (G. Golub and V. Pereyra, Separable
nonlinear least squares: the variable projection method and its applications, 2003).
"""

from collections.abc import Callable
from dataclasses import dataclass, replace

import cv2
import numpy as np

from wertis.core.geometry import homography
from wertis.core.geometry.quad import signed_area
from wertis.core.matte.coverage import box_round, polygon_area
from wertis.core.matte.exposure import CAUCHY, CORRELATED, LEAST_DEVIATION, Exposure, Texture, laid, laid_picture, unexplained
from wertis.core.matte.outline import outwards

REACH = 15.0  # pixels by which a tip may be longer or shorter than it is taken to be
_POINTED = np.deg2rad(100.0)  # angle between its sides below which a corner is a tip
_SIDE = 12.0  # pixels along the sides, by which that angle is taken
_TAPER = 40.0  # pixels along the sides, from the tip, that move with it
_SCAN = 3.0  # pixels between the lengths that are tried first
_STRAIGHTENED = 0.2  # of the way towards straight sides, that goes with a step of a pixel
_ASIDE = 6.0  # pixels round the shortest and the longest tip, in which what is left counts
_FINEST = 0.25  # pixels of the last step of the search
_APART = 2.0  # pixels to both sides by which it is judged how sure a place is
_LEAST_OFF = 0.5  # pixels, deviation of a tip's place at least
_LENGTH_DEVIATION = 10.0  # pixels by which a tip may be longer or shorter, standard deviation: its sides say little of that
_KNOT_SPACING = 4.0  # pixels along a tip, between the colours that are solved for
_COLOUR_STEP = 40.0  # on a scale of 0..255, by which such a colour differs from the next, standard deviation
_PRIOR_WEIGHT = 0.1  # of their being as they are inside the outline, beside that
_INWARDS = 2.0  # pixels from the outline, at which that is read


@dataclass(frozen=True)
class TipDisplacement:
    """Where a tip is found.

    Attributes
    ----------
    displacements : (n, 2) pixels, of all places along the outline.
    axes : (2, 2) unit vectors, along the tip and across.
    deviations : (2,) standard deviations of its place along those, in pixels.
    texture : the figure's, with the colours of what the tip covers and no exposure has shown.
    """

    displacements: np.ndarray
    axes: np.ndarray
    deviations: np.ndarray
    texture: Texture


def tip_displacement(exposure: Exposure, texture: Texture, places: np.ndarray, corner: int, spread: float, reach: float,
                     scale: float = 1.0) -> TipDisplacement | None:
    """The displacement of a pointed corner that explains an exposure best; None where it is not pointed, or its pixels are not known.

    Parameters
    ----------
    places : (n, 2) a closed polygon in the box's picture, in the middle of the exposure.
    corner : number of the place.
    spread : pixels by which the outline is expected to be off across itself, standard deviation.
    reach : pixels by which the tip may be longer or shorter.
    scale : pixels here to a pixel of the plate.
    """
    axes, fields = _displacement_fields(places, corner, scale)
    if fields is None:
        return None
    chain = _moving_chain(fields[0], corner)
    knots = _Knots(exposure, texture, places[chain], places[corner], axes[0], reach, scale)
    cost = _Cost(exposure, texture, knots, places, chain, reach * fields[0], int(np.ceil(_ASIDE * scale)))
    if not len(cost.pixels):
        return None
    prior_deviations = np.array([_LENGTH_DEVIATION * scale, spread, 1.0])

    def total(at: np.ndarray) -> float:
        return cost(np.tensordot(at, fields, 1)) + 0.5 * float(((at / prior_deviations) ** 2).sum())

    best, least = _pattern_search(total, reach, scale)
    if cost.concave and abs(best[0]) > reach - _SCAN * scale / 2:  # no least was found between figure and background, which both are known there
        return None
    apart = _APART * scale
    curvatures = np.array([total(best + apart * axis) + total(best - apart * axis) - 2 * least for axis in np.eye(3)[:2]]) / apart ** 2
    displacements = np.tensordot(best, fields, 1)
    deviations = np.maximum(1 / np.sqrt(np.maximum(curvatures, 1e-6)), _LEAST_OFF * scale)
    return TipDisplacement(displacements, axes, deviations, cost.coloured(displacements))


def _displacement_fields(places: np.ndarray, corner: int, scale: float) -> tuple[np.ndarray, np.ndarray | None]:
    """Unit vectors along a tip and across it (2, 2); and three displacement fields (3, n, 2) of the outline's places, by which the tip goes a pixel along
    its axis, a pixel across, and its sides become straight.

    Places go with the tip, the less the farther they are from it. None in place of the fields where the corner is not pointed.
    """
    order = (corner + np.arange(len(places))) % len(places)
    steps = np.linalg.norm(np.roll(places, -1, 0) - places, axis=1)[order]
    onwards = np.concatenate([[0.0], np.cumsum(steps)[:-1]])  # how far places lie along the outline from the corner, one way and the other
    backwards = np.where(onwards > 0, steps.sum() - onwards, 0)
    sides = np.array([places[order[int(np.argmin(np.abs(away - _SIDE * scale)))]] for away in (onwards, backwards)]) - places[corner]
    units = sides / np.maximum(np.linalg.norm(sides, axis=1, keepdims=True), 1e-9)
    if np.arccos(np.clip(units[0] @ units[1], -1, 1)) > _POINTED:
        return np.eye(2), None
    along = -units.sum(0) / np.linalg.norm(units.sum(0))
    axes = np.array([along, [-along[1], along[0]]])
    weights = np.empty(len(places))
    weights[order] = np.clip(1 - np.minimum(onwards, backwards) / (_TAPER * scale), 0, 1)
    fields = np.zeros((3, len(places), 2))
    fields[:2] = weights[:, None] * axes[:, None]
    for away in (onwards, backwards):
        side = order[(away > 0) & (away <= steps.sum() / 2) & (weights[order] > 0)]
        base = places[order[int(np.argmin(np.abs(away - _TAPER * scale)))]]
        fields[2, side] = base + weights[side, None] * (places[corner] - base) - places[side]
    return axes, fields


def _moving_chain(field: np.ndarray, corner: int) -> np.ndarray:
    """(k,) numbers of the places round a corner that a displacement field (n, 2) moves, with the first to both sides that stay."""
    n = len(field)
    moving = np.append(np.roll(field.any(1), -corner), False)
    after, before = int(np.argmin(moving)), int(np.argmin(np.append(moving[:1], moving[-2:0:-1])))
    return np.asarray((corner + np.arange(-min(before, n // 2 - 1), min(after, n // 2 - 1) + 1)) % n)


def _pattern_search(total: Callable[[np.ndarray], float], reach: float, scale: float) -> tuple[np.ndarray, float]:
    """The coefficients (3,) of the fields of `_displacement_fields` with which a function is least, and how much it is with them."""
    tried: dict[tuple[float, ...], float] = {}  # on its way the search comes back to where it was

    def value_at(at: np.ndarray) -> float:
        key = tuple(np.round(at, 6).tolist())
        if key not in tried:
            tried[key] = total(at)
        return tried[key]

    lengths = np.arange(-reach, reach + 1e-6, _SCAN * scale)
    best = min([np.zeros(3), *(np.array([length, 0, straight]) for length in lengths for straight in (0.0, 1.0))], key=value_at)
    least, step, unit = value_at(best), _SCAN / 2, np.array([scale, scale, _STRAIGHTENED])
    while step >= _FINEST:
        better = min((best + sign * step * unit * axis for axis in np.eye(3) for sign in (1, -1)), key=value_at)
        if (value := value_at(better)) < least and abs(better[0]) <= reach:
            best, least = better, value
        else:
            step /= 2
    return best, least


def offsets_across(places: np.ndarray, normals: np.ndarray, outline: np.ndarray, reach: float) -> np.ndarray:
    """(n,) how far along unit normals (n, 2) a closed polygon (m, 2) that faces the same way lies from places (n, 2), the nearest.

    Nan where none does within `reach` pixels to both sides: what is met farther on is another part of the figure.
    """
    along = np.roll(outline, -1, 0) - outline
    facing = normals @ (outwards(outline) + np.roll(outwards(outline), -1, 0)).T > 0
    from_place = outline[None] - places[:, None]
    cross = normals[:, None, 0] * along[None, :, 1] - normals[:, None, 1] * along[None, :, 0]
    cross = np.where(np.abs(cross) > 1e-9, cross, np.nan)
    distance = (from_place[..., 0] * along[None, :, 1] - from_place[..., 1] * along[None, :, 0]) / cross
    part = (from_place[..., 0] * normals[:, None, 1] - from_place[..., 1] * normals[:, None, 0]) / cross
    distance = np.where(facing & (part >= 0) & (part <= 1) & (np.abs(distance) <= reach), distance, np.nan)
    nearest = np.argmin(np.where(np.isnan(distance), np.inf, np.abs(distance)), axis=1)
    return np.asarray(distance[np.arange(len(places)), nearest])


class _Knots:
    """Evenly spaced knots along a tip, from where it begins to as far as it may reach, between which its colours are interpolated.

    Attributes
    ----------
    count : of them.
    prior : (count, 3) the colours that are expected there: the texture's, just inside the outline.
    """

    def __init__(self, exposure: Exposure, texture: Texture, places: np.ndarray, tip: np.ndarray, axis: np.ndarray, reach: float, scale: float) -> None:
        onto = texture.place @ np.linalg.inv(exposure.middle)
        self._origin, ahead = homography.apply(onto, np.array([tip, tip + axis]))
        self._axis, self._apart = (ahead - self._origin) / np.linalg.norm(ahead - self._origin), _KNOT_SPACING * scale
        self._before = np.ceil(_TAPER / _KNOT_SPACING) + 1
        self.count = int(self._before + np.ceil(reach / scale / _KNOT_SPACING)) + 2
        inwards = places.mean(0) - places
        inwards *= _INWARDS * scale / np.maximum(np.linalg.norm(inwards, axis=1, keepdims=True), 1e-9)
        at = np.clip(homography.apply(onto, places + inwards).astype(int), 0, np.array(texture.known.shape[::-1]) - 1)
        nearest = np.abs(np.arange(self.count)[:, None] - self.number(homography.apply(onto, places))).argmin(1)
        self.prior = texture.colours[at[nearest, 1], at[nearest, 0]]

    def number(self, at: np.ndarray) -> np.ndarray:
        """(n,) the knot, with its fraction, of places (n, 2) of the texture."""
        return np.clip((at - self._origin) @ self._axis / self._apart + self._before, 0, self.count - 1)


class _Cost:
    """What is left unexplained round a tip, as a negative logarithm of its likelihood, by the displacements (n, 2) of the places.

    Only the part of the outline that moves, a `chain` of places, is filled again, closed by the line between its ends, which stay. At a concave corner
    what it encloses is what the figure does not cover.

    Attributes
    ----------
    pixels : (k,) numbers, in a box, of those that count: their background is known, and they lie within `aside` pixels of what the chain covers as it is
        and with the `longest` displacements (n, 2).
    concave : whether the corner is, so that it points inwards.
    """

    def __init__(self, exposure: Exposure, texture: Texture, knots: _Knots, places: np.ndarray, chain: np.ndarray, longest: np.ndarray,
                 aside: int) -> None:
        home = np.linalg.inv(exposure.middle)
        self._chain, self._places, self._motions = chain, places[chain], [move @ home for move in exposure.moves]
        self._sign = np.float32(np.sign(signed_area(places) * signed_area(self._places)) or 1.0)  # single, as what it multiplies
        self.concave = bool(self._sign < 0)
        self._texture, self._onto, self._knots = texture, texture.place @ home, knots
        reached = np.concatenate([homography.apply(motion, self._places + each) for motion in self._motions for each in (0, longest[chain])])
        box = box_round(reached, aside, exposure.known.shape[::-1])
        self.pixels = np.zeros(0, int)
        if box is None:
            return
        self._box, part = box, (slice(box[1], box[3]), slice(box[0], box[2]))
        instants, behind, sound = laid(exposure, texture), exposure.background[part], exposure.known[part]
        self.pixels = np.arange(sound.size)
        now, most = self._filled(np.zeros_like(places)), self._filled(longest)
        touched = (np.abs(now).sum(0) + np.abs(most).sum(0) > 0).reshape(sound.shape).astype(np.uint8)
        self.pixels = pixels = np.flatnonzero((cv2.dilate(touched, np.ones((2 * aside + 1, 2 * aside + 1), np.uint8)) > 0) & sound)
        if not len(pixels):
            return
        known = np.ones_like(texture.known) if self.concave else texture.known  # what goes on beyond the figure is all there is beside a concave corner
        textured = np.array([each[part].ravel()[pixels] for each in laid_picture(exposure, texture, known.astype(np.float32))])
        unknown = (textured < 1).any(0)  # pixels that show, at an instant, what is not known of the texture; they come last, from number `_certain`
        order = np.concatenate([np.flatnonzero(~unknown), np.flatnonzero(unknown)])
        self._certain, self.pixels, textured = int((~unknown).sum()), pixels[order], textured[:, order]
        pixels = self.pixels
        left = unexplained(exposure, instants, homography.apply(home, places))[0]
        self._deviation, rest = max(LEAST_DEVIATION, 1.48 * float(np.median(np.abs(left).mean(2)[exposure.known]))), left[part]
        behind = behind.reshape(-1, 3)[pixels].T
        contrasts = np.array([picture[part].reshape(-1, 3)[pixels].T - behind for picture in instants]).swapaxes(0, 1) / np.float32(len(instants))
        # what would be left if the background were seen wherever the tip's part of the outline lies
        self._beneath = rest.reshape(-1, 3)[pixels].T + np.einsum("ik,cik->ck", now[:, pixels], contrasts)
        self._contrasts = contrasts * textured
        step = np.diff(np.eye(knots.count), axis=0)
        self._smooth = self._deviation ** 2 * CORRELATED / _COLOUR_STEP ** 2 * (step.T @ step + _PRIOR_WEIGHT * np.eye(knots.count))
        self._behind = behind[:, self._certain:]
        self._filled_at, self._elements, self._weights = self._knot_weights(exposure, textured)

    def __call__(self, displacements: np.ndarray) -> float:
        rest, coverage, colours = self._explained(displacements)
        rest[:, self._certain:] -= (coverage @ colours).T
        size = np.abs(rest).sum(0) / (3 * CAUCHY * self._deviation)
        off = colours - self._knots.prior
        prior = float((off * (self._smooth @ off)).sum()) / (2 * self._deviation ** 2 * CORRELATED)
        return float(np.log1p(size ** 2).sum()) * CAUCHY ** 2 / (2 * CORRELATED) + prior

    def coloured(self, displacements: np.ndarray) -> Texture:
        """The texture with the colours of what is covered and was not known."""
        if self.concave:
            return self._texture
        colours = self._explained(displacements)[2]
        h, w = self._texture.known.shape
        tip = polygon_area(homography.apply(self._onto, self._places + displacements[self._chain]), (0, 0, w, h)) > 0
        y, x = np.nonzero(tip & ~self._texture.known)
        number = self._knots.number(np.column_stack([x, y]) + 0.5)
        painted = self._texture.colours.copy()
        painted[y, x] = np.column_stack([np.interp(number, np.arange(self._knots.count), channel) for channel in colours.T])
        return replace(self._texture, colours=painted)

    def _knot_weights(self, exposure: Exposure, textured: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """How the coverage of pixels by what is not known of the texture follows from what is `_filled`, by linear interpolation between two knots.

        Parameters
        ----------
        textured : (instants, k) how much of what each pixel shows is known.

        Returns
        -------
        (m,) elements of `_filled` that count, raveled; (2 m,) elements of the coverage (u, knots), raveled, to which the one knot and the other add; and
        (2, m) their weights.
        """
        (x0, y0, x1, _), count = self._box, self._knots.count
        instant, pixel = np.nonzero(textured < 1)
        at = np.column_stack([self.pixels[pixel] % (x1 - x0) + x0, self.pixels[pixel] // (x1 - x0) + y0]) + 0.5
        numbers = np.zeros(len(pixel), np.float32)
        for k, move in enumerate(exposure.moves):
            numbers[instant == k] = self._knots.number(homography.apply(self._texture.place @ np.linalg.inv(move), at[instant == k]))
        first = np.minimum(numbers.astype(int), count - 2)
        unknown = (1 - textured[instant, pixel]) / np.float32(len(textured))
        element = (pixel - self._certain) * count + first
        return (instant * len(self.pixels) + pixel, np.concatenate([element, element + 1]),
                np.stack([unknown * (1 - (numbers - first)), unknown * (numbers - first)]))

    def _explained(self, displacements: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """What the known part of the texture leaves (3, k); how long the rest covers each pixel that may show it (u, knots); and the colours of that
        (knots, 3).

        What is left with them is the first less, at those pixels, the product of the others.
        """
        filled = self._filled(displacements)
        rest = self._beneath - np.einsum("ik,cik->ck", filled, self._contrasts)
        count = self._knots.count
        if not len(self._filled_at):
            return rest, np.zeros((0, count)), self._knots.prior
        added = (self._weights * filled.ravel()[self._filled_at]).ravel()
        coverage = np.bincount(self._elements, added, (len(self.pixels) - self._certain) * count).reshape(-1, count)
        beside = rest[:, self._certain:]
        beside += coverage.sum(1) * self._behind
        off = np.linalg.solve(coverage.T @ coverage + self._smooth, coverage.T @ (beside.T - coverage @ self._knots.prior))
        return rest, coverage, np.clip(self._knots.prior + off, 0, 255)

    def _filled(self, displacements: np.ndarray) -> np.ndarray:
        """(instants, k) how much of each pixel the moving part covers, or, negative, keeps free."""
        chain = self._places + displacements[self._chain]
        return self._sign * np.array([polygon_area(homography.apply(motion, chain), self._box).ravel()[self.pixels] for motion in self._motions])
