"""The point tracker: single spots of a picture, each by a pattern of its own, found again on every frame.

A pattern is matched with the first sight of it, so that error does not add up: looked for by normalised correlation where the point was and was going,
then aligned to a fraction of a pixel with an affine motion, light and sharpness of its own (J. Shi and C. Tomasi, Good features to track, 1994). A pattern
that is not found, or moves as nothing round it does, is hidden; its point goes with the points round it, and is looked for where they lead.
"""

from dataclasses import dataclass, field

import numpy as np

from wertis.core.errors import RegionError
from wertis.core.geometry import homography
from wertis.core.geometry.affine import affine_through, robust_fit
from wertis.core.geometry.bspline import Lattice
from wertis.core.geometry.conventions import from_centred, to_centred
from wertis.core.geometry.smooth_field import fitted_field
from wertis.core.geometry.warp import HomographyWarp, Warp
from wertis.core.imaging.patch_alignment import PatchAlignment, agrees_with_neighbours, nearest
from wertis.core.imaging.pyramid import HeldOut, Pyramid
from wertis.core.track.patch_layer import OwnMotionView

SIDES = (21, 31, 45)  # pixels, of patterns whose size is chosen by their texture
_SURE = 0.15  # pixels, standard deviation under usual grain, from which a pattern is large enough
_USUAL_GRAIN = 2.0  # luma
_OVERDISPERSION = 2.0  # times the deviation that the pixels of a pattern state, for what its affine motion leaves out
_FLOOR = 0.03  # pixels of error that no texture takes away
_LOST = 1.5  # pixels of expected error from which a point counts as hidden
_UNSURE = 0.7  # the same where many points together say how the surface moves
_BARE = 0.3  # pixels, standard deviation under usual grain, of a pattern whose point goes with the others where it is not found
_MANY = 12  # points that together say how the surface moves
_NEIGHBOURHOOD = 4.0  # sides of the largest pattern within which points are neighbours
_LEADERS = 6  # points that a hidden one goes with
_DRIFT = 0.9  # pixels a frame, by which a hidden point may come to lie elsewhere than expected
_KEPT_VELOCITY = 0.8  # part of a point's motion that is expected to go on


@dataclass(frozen=True)
class PointsFix:
    """One frame's answer of the point tracker.

    Attributes
    ----------
    start : (N, 2) in Wertis' pixels, on the reference frame.
    places : (N, 2) on this one; None where the frame could not be read.
    errors : (N,) expected error in pixels (one standard deviation).
    matches : (N,) share 0..1 of each pattern's contrast that is found again; 0 where it is hidden.
    measured : (N,) whether each was found; the others go with those round them.
    reason : why there is no answer, in words; empty otherwise.
    """

    start: np.ndarray
    places: np.ndarray | None
    errors: np.ndarray = field(default_factory=lambda: np.zeros(0))
    matches: np.ndarray = field(default_factory=lambda: np.zeros(0))
    measured: np.ndarray = field(default_factory=lambda: np.zeros(0, bool))
    reason: str = ""

    @property
    def warp(self) -> Warp | None:
        """The motion that all points that were found make together."""
        if self.places is None or not self.measured.any():
            return None
        found = self.measured
        return HomographyWarp(robust_fit("perspective", self.start[found], self.places[found], self.errors[found])[0])

    @property
    def seen(self) -> float:
        """Share 0..1 of the points that were found."""
        return float(self.measured.mean()) if len(self.measured) else 0.0

    @property
    def error(self) -> float:
        """The root mean square of the expected errors of the points that were found, in pixels."""
        return float(np.sqrt(np.mean(self.errors[self.measured] ** 2))) if self.measured.any() else np.inf


class PointTracker:
    """Tracks points from their reference frame in one direction; feed it the frames in their order.

    Parameters
    ----------
    luma : (height, width) uint8 or float32 on a scale of 0..255, the reference frame.
    points : (N, 2) in Wertis' pixels.
    sides : (N,) of the square patterns in pixels, odd; by the texture round each where 0 or None.
    mask : (height, width) uint8, non-zero on what patterns may be made of; everything when None.

    Raises
    ------
    RegionError
        When there is no point, or one lies outside the picture.
    """

    def __init__(self, luma: np.ndarray, points: np.ndarray, sides: np.ndarray | None = None, mask: np.ndarray | None = None) -> None:
        h, w = luma.shape[:2]
        if not len(points):
            raise RegionError("There are no points to track; set one on something that stands out.")
        outside = ~((points >= 0) & (points <= [w, h])).all(1)
        if outside.any():
            x, y = points[outside][0]
            raise RegionError(f"A point at {x:.0f}, {y:.0f} lies outside of the picture, which is {w} x {h}; "
                              "give places on the reference frame, in pixels.")
        self._start = to_centred(points)
        mask = np.ones((h, w), np.uint8) if mask is None else mask
        pyramid = Pyramid(luma)
        self.sides = self._chosen_sides(pyramid, mask, np.zeros(len(points), int) if sides is None else np.asarray(sides, int))
        self._groups = [(np.flatnonzero(self.sides == side), PatchAlignment(pyramid, mask, int(side), self._start[self.sides == side], None))
                        for side in np.unique(self.sides)]
        self._bare = np.zeros(len(points), bool)
        for numbers, alignment in self._groups:
            self._bare[numbers] = alignment.expected_deviation(_USUAL_GRAIN) > _BARE
        far = nearest(self._start, self._start, 2)[0][:, -1]
        self._spacing = float(max(np.median(far), SIDES[0]))
        self._lattice = Lattice.over(self._start, 0.85 * self._spacing)
        self._places = self._start.copy()
        self._shape = np.tile(np.eye(2), (len(points), 1, 1))
        self._velocity = np.zeros_like(self._start)
        self._hidden_for = np.zeros(len(points))

    def _chosen_sides(self, pyramid: Pyramid, mask: np.ndarray, given: np.ndarray) -> np.ndarray:
        sides = np.where(given > 0, np.maximum(given // 2 * 2 + 1, 9), 0)
        for side in SIDES:
            rest = np.flatnonzero(sides == 0)
            if not len(rest):
                break
            good = PatchAlignment(pyramid, mask, side, self._start[rest], None).expected_deviation(_USUAL_GRAIN) < _SURE
            sides[rest[good]] = side
        return np.where(sides == 0, SIDES[-1], sides)

    def start_at(self, places: np.ndarray) -> None:
        """Go on from known places (N, 2), in Wertis' pixels, on the frame before the next one fed."""
        self._places = to_centred(places)
        self._velocity = np.zeros_like(self._places)
        for k in range(len(places)):
            self._shape[k] = self._carried_by_neighbours(k, np.ones(len(places), bool))[1]

    def feed(self, luma: np.ndarray, held: np.ndarray | None = None, pyramid: Pyramid | None = None) -> PointsFix:
        """The next frame's answer; `luma` as for the reference frame, `held` (h, w) uint8 is 255 on pixels that are held out."""
        pyramid = Pyramid(luma) if pyramid is None else pyramid
        away = HeldOut(held) if held is not None else None
        count = len(self._start)
        before = self._places.copy()
        expected, shape = before + self._velocity, self._shape.copy()
        places, found = expected.copy(), np.zeros(count, bool)
        errors, matches, spreads = np.full(count, np.inf), np.zeros(count), np.tile(np.eye(2), (count, 1, 1))
        for turn in range(2):  # those that are not found at first are looked for where the others lead
            wanted = ~found
            if turn:
                led = [self._carried_by_neighbours(int(k), found, places) for k in np.flatnonzero(wanted)]
                if not found.any() or not led:
                    break
                places[wanted], shape[wanted] = (np.array(x) for x in zip(*led, strict=True))
            view = OwnMotionView(pyramid, away, self._start, places.copy(), shape.copy())
            for numbers, alignment in self._groups:
                among = np.flatnonzero(wanted[numbers])
                if not len(among):
                    continue
                own = view.of(numbers)
                got = alignment.align(own, among)
                k = numbers[got.patches]
                here = own.slopes_at(got.moves, got.patches)
                spread = here @ got.covariance @ here.transpose(0, 2, 1)
                error = np.sqrt(_OVERDISPERSION ** 2 * np.linalg.eigvalsh(spread)[:, 1] + _FLOOR ** 2)
                good = error < _LOST
                k, here = k[good], here[good]
                places[k] = own.mapped((self._start[k] + got.moves[good])[:, None], got.patches[good])[:, 0]
                shape[k] = here @ (np.eye(2) + got.affine[good])
                errors[k], matches[k], found[k], spreads[k] = error[good], got.explained[good], True, spread[good]
            index = np.flatnonzero(found)  # patterns of all sizes together
            reach = _NEIGHBOURHOOD * float(self.sides.max())
            kept = agrees_with_neighbours(self._start[index], places[index] - self._start[index], shape[index] - np.eye(2), reach)
            found[index[~kept]] = False
        for k in np.flatnonzero(~found):
            places[k], shape[k] = self._carried_by_neighbours(int(k), found, places) if found.any() else (expected[k], shape[k])
        errors = np.where(found, errors, np.inf)
        if found.sum() >= _MANY:
            places, errors, found = self._regularised(places, spreads, found)
        self._hidden_for = np.where(found, 0, self._hidden_for + 1)
        errors = np.where(found, errors, np.hypot(_DRIFT * self._hidden_for, _LOST))
        self._velocity = np.where(found[:, None], _KEPT_VELOCITY * (places - before), 0)
        self._places, self._shape = places, shape
        return PointsFix(from_centred(self._start), from_centred(places), errors, np.where(found, matches, 0), found)

    def _regularised(self, places: np.ndarray, spreads: np.ndarray, found: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Places (N, 2), errors (N,) and which are known (N,), where many points together say how the surface moves.

        A pattern with little texture is then as sure as its neighbours make it.
        """
        index = np.flatnonzero(found)
        moves = places[index] - self._start[index]
        common = affine_through(self._start[index], places[index])
        whole = homography.apply(common, self._start)
        rest = moves - (whole - self._start)[index]
        field, covariance = fitted_field(self._lattice, self._start[index], rest, spreads[index], self._start, free=200.0)
        errors = np.sqrt(np.maximum(np.linalg.eigvalsh(covariance)[:, 1], 0) + _FLOOR ** 2)
        near = nearest(self._start, self._start[index], 1)[0][:, 0] < self._spacing * 1.5
        known = near & (errors < _UNSURE) & (found | self._bare)
        return whole + field, errors, known

    def _carried_by_neighbours(self, k: int, found: np.ndarray, places: np.ndarray | None = None) -> tuple[np.ndarray, np.ndarray]:
        """Where those of the points round one that were `found` (N,) lead it, (2,), and its pattern's affine motion (2, 2)."""
        places = self._places if places is None else places
        index = np.flatnonzero(found & (np.arange(len(found)) != k))
        if not len(index):
            return places[k], self._shape[k]
        near = index[nearest(self._start[k:k + 1], self._start[index], _LEADERS)[1][0]]
        if len(near) == 1:
            return places[near[0]] + self._start[k] - self._start[near[0]], self._shape[near[0]]
        matrix = affine_through(self._start[near], places[near])
        return homography.apply(matrix, self._start[k:k + 1])[0], matrix[:2, :2]
