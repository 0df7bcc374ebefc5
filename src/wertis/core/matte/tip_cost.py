"""What a pointed part of a figure leaves unexplained of a smeared frame, by where it lies: the cost that the search for its place minimises.

Where it covers what no exposure has shown of the texture, colours along it are solved for with each place that is tried (G. Golub and V. Pereyra,
Separable nonlinear least squares: the variable projection method and its applications, 2003). What is left counts by Cauchy's robust cost.
"""

from dataclasses import replace

import cv2
import numpy as np

from wertis.core import compiled
from wertis.core.compiled import address
from wertis.core.geometry import homography
from wertis.core.geometry.quad import signed_area
from wertis.core.matte.coverage import box_round, polygon_area
from wertis.core.matte.exposure import CAUCHY, CORRELATED, LEAST_DEVIATION, Exposure, Texture, laid, laid_picture, unexplained

TAPER = 40.0  # pixels along the sides, from the tip, that move with it
_KNOT_SPACING = 4.0  # pixels along a tip, between the colours that are solved for
_COLOUR_STEP = 40.0  # on a scale of 0..255, by which such a colour differs from the next, standard deviation
_PRIOR_WEIGHT = 0.1  # of their being as they are inside the outline, beside that
_INWARDS = 2.0  # pixels from the outline, at which that is read


class TipKnots:
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
        self._before = np.ceil(TAPER / _KNOT_SPACING) + 1
        self.count = int(self._before + np.ceil(reach / scale / _KNOT_SPACING)) + 2
        inwards = places.mean(0) - places
        inwards *= _INWARDS * scale / np.maximum(np.linalg.norm(inwards, axis=1, keepdims=True), 1e-9)
        at = np.clip(homography.apply(onto, places + inwards).astype(int), 0, np.array(texture.known.shape[::-1]) - 1)
        nearest = np.abs(np.arange(self.count)[:, None] - self.number(homography.apply(onto, places))).argmin(1)
        self.prior = texture.colours[at[nearest, 1], at[nearest, 0]]

    def number(self, at: np.ndarray) -> np.ndarray:
        """(n,) the knot, with its fraction, of places (n, 2) of the texture."""
        return np.clip((at - self._origin) @ self._axis / self._apart + self._before, 0, self.count - 1)


class TipCost:
    """What is left unexplained round a tip, as a negative logarithm of its likelihood, by the displacements (n, 2) of the places.

    Only the part of the outline that moves, a `chain` of places, is filled again, closed by the line between its ends, which stay. At a concave corner
    what it encloses is what the figure does not cover.

    Attributes
    ----------
    pixels : (k,) numbers, in a box, of those that count: their background is known, and they lie within `aside` pixels of what the chain covers as it is
        and with the `longest` displacements (n, 2).
    concave : whether the corner is, so that it points inwards.
    """

    def __init__(self, exposure: Exposure, texture: Texture, knots: TipKnots, places: np.ndarray, chain: np.ndarray, longest: np.ndarray,
                 aside: int) -> None:
        home = np.linalg.inv(exposure.middle)
        self._chain, self._places, self._motions = chain, places[chain], np.array([move @ home for move in exposure.moves], np.float64)
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
        self._within_sums = pixels + 2 * (pixels // (box[2] - box[0]))  # the same where rows have two columns more
        left = unexplained(exposure, instants, homography.apply(home, places))[0]
        self._deviation, rest = max(LEAST_DEVIATION, 1.48 * float(np.median(np.abs(left).mean(2)[exposure.known]))), left[part]
        behind = behind.reshape(-1, 3)[pixels].T
        contrasts = np.array([picture[part].reshape(-1, 3)[pixels].T - behind for picture in instants]).swapaxes(0, 1) / np.float32(len(instants))
        # what would be left if the background were seen wherever the tip's part of the outline lies
        self._beneath = np.ascontiguousarray(rest.reshape(-1, 3)[pixels].T + np.einsum("ik,cik->ck", now[:, pixels], contrasts), np.float32)
        self._contrasts = np.ascontiguousarray(contrasts * textured, np.float32)
        step = np.diff(np.eye(knots.count), axis=0)
        self._smooth = self._deviation ** 2 * CORRELATED / _COLOUR_STEP ** 2 * (step.T @ step + _PRIOR_WEIGHT * np.eye(knots.count))
        self._behind = np.ascontiguousarray(behind[:, self._certain:], np.float32)
        self._filled_at, self._elements, self._weights = self._knot_weights(exposure, textured)

    def __call__(self, displacements: np.ndarray) -> float:
        rest, coverage, colours = self._explained(displacements)
        rest[:, self._certain:] -= (coverage @ colours.astype(np.float32)).T
        off = colours - self._knots.prior
        prior = float((off * (self._smooth @ off)).sum()) / (2 * self._deviation ** 2 * CORRELATED)
        return cauchy_cost(rest, 3 * CAUCHY * self._deviation) * CAUCHY ** 2 / (2 * CORRELATED) + prior

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
        (m,) elements of `_filled` that count, raveled; (m,) elements of the coverage (u, knots), raveled, to which each adds, as to the next; and (2, m)
        the two's weights.
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
        return (instant * len(self.pixels) + pixel, element,
                np.stack([unknown * (1 - (numbers - first)), unknown * (numbers - first)]).astype(np.float32))

    def _explained(self, displacements: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """What the known part of the texture leaves (3, k); how long the rest covers each pixel that may show it (u, knots); and the colours of that
        (knots, 3).

        What is left with them is the first less, at those pixels, which are the last, the product of the others.
        """
        filled, rest = self._left_by_known_texture(displacements)
        if not len(self._filled_at):
            return rest, np.zeros((0, self._knots.count), np.float32), self._knots.prior
        coverage = self._knot_coverage(filled)
        # where the rest covers a pixel the background is not seen; a product with ones is ten times as quick as a sum along short rows
        rest[:, self._certain:] += coverage @ np.ones(self._knots.count, np.float32) * self._behind
        normal, right = knot_equations(coverage, rest, self._knots.prior)
        return rest, coverage, np.clip(self._knots.prior + np.linalg.solve(normal + self._smooth, right), 0, 255)

    def _left_by_known_texture(self, displacements: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """What is `_filled` (instants, k), and what the known part of the texture leaves there (3, k)."""
        if compiled.LIBRARY is None:
            filled = self._filled(displacements)
            return filled, self._beneath - np.einsum("ik,cik->ck", filled, self._contrasts)
        x0, y0, x1, y1 = self._box
        chain = np.ascontiguousarray(self._places + displacements[self._chain], np.float64)
        instants, count = len(self._motions), len(self.pixels)
        filled, rest = np.empty((instants, count), np.float32), self._beneath.copy()
        moved, sums = np.empty_like(chain), np.empty((y1 - y0, x1 - x0 + 2), np.float32)
        compiled.LIBRARY.tip_left_by_texture(
            address(chain, np.float64), compiled.long(len(chain)), address(self._motions, np.float64), compiled.long(instants),
            compiled.double(x0), compiled.double(y0), *map(compiled.long, (y1 - y0, x1 - x0)),
            address(self._within_sums, np.int64), compiled.long(count), compiled.double(float(self._sign)), address(self._contrasts, np.float32),
            address(moved, np.float64), address(sums, np.float32), address(filled, np.float32), address(rest, np.float32))
        return filled, rest

    def _knot_coverage(self, filled: np.ndarray) -> np.ndarray:
        """How long what is not known of the texture, at each knot, covers each pixel that may show it (u, knots), by what is `_filled` (instants, k)."""
        shape = len(self.pixels) - self._certain, self._knots.count
        if compiled.LIBRARY is None:
            added = (self._weights * filled.ravel()[self._filled_at]).ravel()
            total = np.bincount(np.concatenate([self._elements, self._elements + 1]), added, shape[0] * shape[1])
            return total.reshape(shape).astype(np.float32)
        coverage = np.zeros(shape, np.float32)
        compiled.LIBRARY.tip_knot_coverage(
            address(filled, np.float32), address(self._filled_at, np.int64), address(self._elements, np.int64), address(self._weights, np.float32),
            compiled.long(len(self._filled_at)), address(coverage, np.float32))
        return coverage

    def _filled(self, displacements: np.ndarray) -> np.ndarray:
        """(instants, k) how much of each pixel the moving part covers, or, negative, keeps free."""
        chain = self._places + displacements[self._chain]
        return self._sign * np.array([polygon_area(homography.apply(motion, chain), self._box).ravel()[self.pixels] for motion in self._motions])


def knot_equations(coverage: np.ndarray, rest: np.ndarray, prior: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The normal equations of how the knots' colours differ from those expected: a matrix (knots, knots) and the right side (knots, 3).

    Parameters
    ----------
    coverage : (u, knots) float32, how long each knot covers each of the last u pixels.
    rest : (3, k) float32, what is left of all pixels if the knots are black.
    prior : (knots, 3) the colours that are expected.
    """
    count, knots = coverage.shape
    if compiled.LIBRARY is None:
        return coverage.T @ coverage, coverage.T @ (rest[:, rest.shape[1] - count:].T - coverage @ prior)
    normal, right, prior = np.zeros((knots, knots)), np.zeros((knots, 3)), np.ascontiguousarray(prior, np.float64)
    compiled.LIBRARY.tip_knot_equations(
        address(coverage, np.float32), *map(compiled.long, (count, knots, rest.shape[1])), address(prior, np.float64), address(rest, np.float32),
        address(normal, np.float64), address(right, np.float64))
    return normal, right


def cauchy_cost(rest: np.ndarray, usual: float) -> float:
    """The sum over pixels of log(1 + (r / usual)^2), where r is the sum over channels of the absolute values of what is left (3, k) float32.

    Cauchy's (Lorentzian) robust cost: M. Black and P. Anandan, The robust estimation of multiple motions, 1996.
    """
    if compiled.LIBRARY is None:
        return float(np.log1p((np.abs(rest).sum(0, dtype=np.float64) / usual) ** 2).sum())
    found = np.empty(1)
    compiled.LIBRARY.cauchy_cost(address(rest, np.float32), compiled.long(rest.shape[1]), compiled.double(usual), address(found, np.float64))
    return float(found[0])
