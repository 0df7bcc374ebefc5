"""The point tracker: single spots of a picture, each by a pattern of its own, found again on every frame.

A pattern is matched with the first sight of it, so that error does not add up: looked for by normalised correlation where the point was and was going,
then aligned to a fraction of a pixel with an affine motion, light and sharpness of its own (J. Shi and C. Tomasi, Good features to track, 1994). A pattern
that is not found, or moves as nothing round it does, is hidden; its point goes with the points round it, and is looked for where they lead.

A pattern whose look changes slowly and for good is looked for by its newer look as well, whose own error is then added (compare I. Matthews,
T. Ishikawa and S. Baker, The template update problem, PAMI 2004: the newest look is where to begin, the first one has the last word while it can).
"""

from collections import deque
from dataclasses import dataclass, field

import numpy as np

from wertis.core.errors import RegionError
from wertis.core.geometry import homography
from wertis.core.geometry.affine import affine_through, robust_fit
from wertis.core.geometry.bspline import Lattice
from wertis.core.geometry.conventions import from_centred, to_centred
from wertis.core.geometry.smooth_field import SmoothField, fitted_field
from wertis.core.geometry.warp import HomographyWarp, Warp
from wertis.core.imaging.patch_alignment import ALONE, Aligned, PatchAlignment, agrees_with_neighbours, nearest
from wertis.core.imaging.pyramid import HeldOut, Pyramid
from wertis.core.track.patch_layer import OwnMotionView

SIDES = (21, 31, 45)  # pixels, of patterns whose size is chosen by their texture
_SURE = 0.15  # pixels, standard deviation under usual grain, from which a pattern is large enough
_USUAL_GRAIN = 2.0  # luma
_MARGIN = 32  # pixels round a pattern that a newer look of it keeps, for its coarser levels
_OVERDISPERSION = 2.0  # times the deviation that the pixels of a pattern state, for what its affine motion leaves out
_OVERDISPERSION_TOGETHER = 1.8  # the same for patterns that are aligned as all together bend
_FLOOR = 0.03  # pixels of error that no texture takes away
_LOST = 1.5  # pixels of expected error from which a point counts as hidden
_UNSURE = 0.7  # the same where many points together say how the surface moves
_BARE = 0.3  # pixels, standard deviation under usual grain, of a pattern whose point goes with the others where it is not found
_MANY = 12  # points that together say how the surface moves
_SHARP = 0.2  # pixels of its own expected error, up to which a pattern may go its own way
_MOSTLY = 0.7  # of the points that are found that must go together, for all to say how the surface moves
_SETTLED = 3  # rounds of leaving out those
_APART = 1.0  # pixels off where all together lead a point, from which it may go its own way
_AS_LIKE = 0.05  # of its contrast, that more of a pattern must be found again there than where it is led
_CHOSEN_EVERY = 2  # frames, after which it is chosen anew how far the surface is expected to bend
_NEIGHBOURHOOD = 4.0  # sides of the largest pattern within which points are neighbours
_LEADERS = 6  # points that a hidden one goes with
_DRIFT = 0.9  # pixels a frame, by which a hidden point may come to lie elsewhere than expected
_KEPT_VELOCITY = 0.8  # part of a point's motion that is expected to go on
REACH = 24  # pixels to each side in which a pattern is looked for round where it is expected, unless it is set
_CHANGED = 1.6  # times the usual expected error of a pattern from which its look is changing: less and less of it is like the first
_FOR_GOOD = 3  # frames in a row on which that is so before a newer look is taken
_RECENT = 6  # frames among which the newer look is chosen, the last with about the least error
_ABOUT_LEAST = 1.3  # times the least error up to which that is so
_SURE_ENOUGH = 0.8  # pixels of expected error, that of a look before it left out, up to which a place is good enough for a newer look
_BETTER = 0.8  # part of the first look's error below which a newer one is believed in its place
_NEW_SHARE = 0.3  # part by which the usual error follows a frame's


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


@dataclass(frozen=True)
class _Look:
    """A pattern as it looks on a later frame: what finds it, its place (2,) in the part of that frame that is kept, its affine
    motion (2, 2) since the first, and the place's error."""

    alignment: PatchAlignment
    place: np.ndarray
    shape: np.ndarray
    error: float


@dataclass(frozen=True)
class _Answers:
    """A frame's answers while they are made, changed in place: places (N, 2), affine motions (N, 2, 2), errors, matches, whether found, covariances."""

    places: np.ndarray
    shape: np.ndarray
    errors: np.ndarray
    matches: np.ndarray
    found: np.ndarray
    spreads: np.ndarray


class PointTracker:
    """Tracks points from their reference frame in one direction; feed it the frames in their order.

    Parameters
    ----------
    luma : (height, width) uint8 or float32 on a scale of 0..255, the reference frame.
    points : (N, 2) in Wertis' pixels.
    sides : (N,) of the square patterns in pixels, odd; by the texture round each where 0 or None.
    mask : (height, width) uint8, non-zero on what patterns may be made of; everything when None.
    reaches : (N,) pixels to each side in which a pattern is looked for round where it is expected; `REACH` where 0 or None.
    offsets : (N, 2) pixels from each point to the middle of its pattern, where that lies beside it.
    renewed : a pattern's newer look is taken where it changes for good.

    Raises
    ------
    RegionError
        When there is no point, or one lies outside the picture.
    """

    def __init__(self, luma: np.ndarray, points: np.ndarray, sides: np.ndarray | None = None, mask: np.ndarray | None = None,
                 reaches: np.ndarray | None = None, offsets: np.ndarray | None = None, renewed: bool = True) -> None:
        h, w = luma.shape[:2]
        if not len(points):
            raise RegionError("There are no points to track; set one on something that stands out.")
        self._offsets = np.zeros_like(points) if offsets is None else np.asarray(offsets, float)
        for places, what in ((points, "A point"), (points + self._offsets, "A point's pattern")):
            outside = ~((places >= 0) & (places <= [w, h])).all(1)
            if outside.any():
                x, y = places[outside][0]
                raise RegionError(f"{what} at {x:.0f}, {y:.0f} lies outside of the picture, which is {w} x {h}; "
                                  "give places on the reference frame, in pixels.")
        self._points = to_centred(points)
        self._start = self._points + self._offsets  # of the patterns, which is what is tracked
        self._reaches = np.full(len(points), REACH) if reaches is None else np.where(np.asarray(reaches) > 0, reaches, REACH)
        self._renewed = renewed
        self._newer: dict[int, _Look] = {}
        self._changing = np.zeros(len(points), int)  # frames in a row
        self._lately, self._usual = np.zeros(len(points)), np.full(len(points), np.inf)  # expected errors in pixels: smoothed, and the least so far
        self._beneath = np.zeros(len(points))  # pixels of error of the newer look that a pattern was found by on the last frame
        self._recent: deque[tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]] = deque(maxlen=_RECENT)  # pictures, places, motions, errors
        mask = np.ones((h, w), np.uint8) if mask is None else mask
        pyramid = Pyramid(luma)
        self.sides = self._chosen_sides(pyramid, mask, np.zeros(len(points), int) if sides is None else np.asarray(sides, int))
        self._groups = [(numbers, PatchAlignment(pyramid, mask, int(side), self._start[numbers], None, self._reaches[numbers]))
                        for side in np.unique(self.sides) for numbers in [np.flatnonzero(self.sides == side)]]
        self._bare = np.zeros(len(points), bool)
        for numbers, alignment in self._groups:
            self._bare[numbers] = alignment.expected_deviation(_USUAL_GRAIN) > _BARE
        far = nearest(self._start, self._start, 2)[0][:, -1]
        self._spacing = float(max(np.median(far), SIDES[0]))
        self._lattice = Lattice.over(self._start, 0.85 * self._spacing)
        self._places = self._start.copy()
        self._shape = np.tile(np.eye(2), (len(points), 1, 1))
        self._bends = np.zeros((len(points), 2, 3))  # second derivatives of the motion at each, as far as many points together tell them
        self._bending: float | None = None  # pixels of bending of their motion that is expected
        self._count = 0  # frames on which many points together said how they move
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
        """Go on from known places (N, 2) of the points, in Wertis' pixels, on the frame before the next one fed."""
        self._places = to_centred(places) + self._turned(self._points, to_centred(places), np.ones(len(places), bool))
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
            view = OwnMotionView(pyramid, away, self._start, places.copy(), shape.copy(), self._bends)
            for numbers, alignment in self._groups:
                among = np.flatnonzero(wanted[numbers])
                if not len(among):
                    continue
                own = view.of(numbers)
                got = alignment.align(own, among)
                self._take(own, numbers, got, _Answers(places, shape, errors, matches, found, spreads))
            self._by_newer_looks(pyramid, away, _Answers(places, shape, errors, matches, found, spreads))
            one_surface = self._reject_inconsistent(_Answers(places, shape, errors, matches, found, spreads))
        for k in np.flatnonzero(~found):
            places[k], shape[k] = self._carried_by_neighbours(int(k), found, places) if found.any() else (expected[k], shape[k])
        errors = np.where(found, errors, np.inf)
        self._look_anew(luma, places, shape, errors, found)
        if found.sum() >= _MANY and one_surface:
            self._realign(pyramid, away, _Answers(places, shape, errors, matches, found, spreads))
            places, errors, found = self._regularised(places, spreads, found)
        self._hidden_for = np.where(found, 0, self._hidden_for + 1)
        errors = np.where(found, errors, np.hypot(_DRIFT * self._hidden_for, _LOST))
        self._velocity = np.where(found[:, None], _KEPT_VELOCITY * (places - before), 0)
        self._places, self._shape = places, shape
        spots = places - self._turned(self._start, places, found)
        return PointsFix(from_centred(self._points), from_centred(spots), errors, np.where(found, matches, 0), found)

    def _reject_inconsistent(self, answers: "_Answers") -> bool:
        """Count patterns as hidden whose motion is inconsistent with their neighbours', unless they are sure; whether the points lie on one surface.

        They do where most of those with texture are consistent. Elsewhere a pattern is rejected only where its neighbours agree on another motion.
        """
        index = np.flatnonzero(answers.found)  # patterns of all sizes together
        moves, turned = answers.places[index] - self._start[index], answers.shape[index] - np.eye(2)
        reach = _NEIGHBOURHOOD * float(self.sides.max())
        agrees = agrees_with_neighbours(self._start[index], moves, turned, reach)
        textured = ~self._bare[index]
        plain = textured & (answers.matches[index] > ALONE)
        one_surface = self._spacing < reach and textured.any() and float(np.mean(agrees[textured])) > _MOSTLY
        if one_surface:
            kept = agrees | (plain & (answers.errors[index] < _SHARP))
        else:
            kept = agrees_with_neighbours(self._start[index], moves, turned, reach, plain)
            if self._spacing < reach and len(self._start) >= _MANY:  # what is bare has nobody to go by
                kept &= textured
        answers.found[index[~kept]] = False
        return bool(one_surface)

    def _take(self, view: OwnMotionView, numbers: np.ndarray, got: Aligned, answers: "_Answers") -> None:
        """Take over what was found of the patterns `numbers` (n,), as far as it is sure; `view` and `got` count those from 0."""
        k = numbers[got.patches]
        here = view.slopes_at(self._start[k] + got.moves, got.patches)
        spread = here @ got.covariance @ here.transpose(0, 2, 1)
        error = np.sqrt(_OVERDISPERSION ** 2 * np.linalg.eigvalsh(spread)[:, 1] + _FLOOR ** 2)
        good = error < _LOST
        k, here = k[good], here[good]
        answers.places[k] = view.mapped((self._start[k] + got.moves[good])[:, None], got.patches[good])[:, 0]
        answers.shape[k] = here @ (np.eye(2) + got.affine[good])
        answers.errors[k], answers.matches[k], answers.found[k], answers.spreads[k] = error[good], got.explained[good], True, spread[good]

    def _realign(self, pyramid: Pyramid, away: HeldOut | None, answers: "_Answers") -> None:
        """Align the patterns once more from where the field of all predicts them, by a second-order motion: bent as the surface bends.

        A pattern with little texture may have found something else nearby that is as much like it; one that goes its own way, and is clearly more
        like itself there, keeps to that.
        """
        whole, field = self._motion(answers.places, answers.spreads, answers.found, honest=False)
        bends = field.second_derivatives(self._start, self.sides / 4)
        led = homography.apply(whole, self._start) + field.at(self._start)
        apart = answers.found & (np.linalg.norm(answers.places - led, axis=1) > _APART)
        view = OwnMotionView(pyramid, away, self._start, led, whole[:2, :2] + field.jacobian(self._start), bends)
        for numbers, alignment in self._groups:
            got = alignment.refine(view.of(numbers), np.flatnonzero(answers.found[numbers] & ~np.isin(numbers, list(self._newer))))
            k = numbers[got.patches]
            better = ~apart[k] | (got.explained > answers.matches[k] - _AS_LIKE)
            taken = Aligned(got.patches[better], got.moves[better], got.affine[better], got.covariance[better], got.explained[better])
            self._take(view.of(numbers), numbers, taken, answers)

    def _turned(self, start: np.ndarray, places: np.ndarray, found: np.ndarray) -> np.ndarray:
        """(N, 2) the way from each point to its pattern on this frame: turned and scaled as the points round it say, where there are two more.

        A pattern alone says too little of that to be believed over the length of the way.
        """
        out = self._offsets.copy()
        index = np.flatnonzero(found)
        if len(index) > 2:
            for k in np.flatnonzero(self._offsets.any(1)):
                near = index[nearest(start[k:k + 1], start[index], _LEADERS)[1][0]]
                out[k] = affine_through(start[near], places[near])[:2, :2] @ self._offsets[k]
        return out

    def _by_newer_looks(self, pyramid: Pyramid, away: HeldOut | None, answers: "_Answers") -> None:
        """Look for the patterns that have a newer look by that; taken where the first look is not found, or is clearly less sure."""
        for k, look in self._newer.items():
            self._beneath[k] = 0.0
            # where many points say how the surface moves, one that is less sure has their help
            if answers.found[k] and (len(self._start) >= _MANY or answers.errors[k] < _CHANGED * self._usual[k]):
                continue
            own = OwnMotionView(pyramid, away, look.place[None], answers.places[k][None], (answers.shape[k] @ np.linalg.inv(look.shape))[None])
            got = look.alignment.align(own)
            if not len(got.patches):
                continue
            here = own.slopes_at(look.place + got.moves, got.patches)
            spread = (here @ got.covariance @ here.transpose(0, 2, 1))[0] + look.error ** 2 / _OVERDISPERSION ** 2 * np.eye(2)
            error = float(np.sqrt(_OVERDISPERSION ** 2 * np.linalg.eigvalsh(spread)[1] + _FLOOR ** 2))
            if error >= _LOST or (answers.found[k] and error > _BETTER * answers.errors[k]):
                continue
            answers.places[k] = own.mapped((look.place + got.moves[0])[None, None], got.patches)[0, 0]
            answers.shape[k] = here[0] @ (np.eye(2) + got.affine[0]) @ look.shape
            answers.errors[k], answers.matches[k], answers.found[k], answers.spreads[k] = error, got.explained[0], True, spread
            self._beneath[k] = look.error

    def _look_anew(self, luma: np.ndarray, places: np.ndarray, shape: np.ndarray, errors: np.ndarray, found: np.ndarray) -> None:
        """Keep a newer look of the patterns that have lately been less and less sure, from just before that."""
        if not self._renewed:
            return
        own = np.sqrt(np.maximum(errors ** 2 - self._beneath ** 2, 0))  # without that of the newer look it was found by
        first = found & (self._lately == 0)
        self._lately = np.where(first, own, np.where(found, self._lately + _NEW_SHARE * (np.where(found, own, 0) - self._lately), self._lately))
        self._usual = np.where(found, np.minimum(self._usual, self._lately), self._usual)
        self._changing = np.where(found & (own > _CHANGED * self._usual), self._changing + 1, 0)
        self._recent.append((luma, places.copy(), shape.copy(), errors))
        for k in np.flatnonzero(self._changing >= _FOR_GOOD):
            lately = np.array([e[k] for *_, e in self._recent])
            if own[k] >= _SURE_ENOUGH or not np.isfinite(lately.min()):
                continue
            picture, there, turned, e = self._recent[int(np.flatnonzero(lately <= _ABOUT_LEAST * lately.min())[-1])]
            around = int(self.sides[k]) + _MARGIN
            low = np.maximum(np.floor((there[k] - around) / 8) * 8, 0).astype(int)  # whole pixels of the pyramid's coarsest level in use
            high = np.ceil(there[k] + around).astype(int) + 1
            part = Pyramid(picture[low[1]:high[1], low[0]:high[0]])
            own_place = there[k] - low
            alignment = PatchAlignment(part, np.ones(part.size[::-1], np.uint8), int(self.sides[k]), own_place[None], None, self._reaches[k:k + 1])
            self._newer[int(k)] = _Look(alignment, own_place, turned[k], float(e[k]))
            self._changing[k] = 0

    def _motion(self, places: np.ndarray, spreads: np.ndarray, found: np.ndarray, honest: bool = True) -> tuple[np.ndarray, SmoothField]:
        """The motion that the points that were `found` (N,) make together: an affine one (3, 3), and a field of what is left, as `fitted_field`."""
        start = self._start[found]
        whole = affine_through(start, places[found])
        rest = places[found] - homography.apply(whole, start)
        return whole, fitted_field(self._lattice, start, rest, spreads[found], 200.0, _OVERDISPERSION_TOGETHER, self._bending, honest)

    def _regularised(self, places: np.ndarray, spreads: np.ndarray, found: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Places (N, 2), errors (N,) and which are known (N,), where many points together say how the surface moves.

        A pattern with little texture is then as sure as its neighbours make it.
        """
        self._bending = None if self._count % _CHOSEN_EVERY == 0 else self._bending
        self._count += 1
        own = np.sqrt(_OVERDISPERSION ** 2 * np.linalg.eigvalsh(spreads)[:, 1] + _FLOOR ** 2)
        together = found.copy()
        for _ in range(_SETTLED):  # those that go their own way are left out
            whole, field = self._motion(places, spreads, together)
            led = homography.apply(whole, self._start) + field.at(self._start)
            alone = found & (own < _SHARP) & (np.linalg.norm(places - led, axis=1) > _APART)
            if (together == (found & ~alone)).all():
                break
            together = found & ~alone
            if together.sum() < max(_MANY, _MOSTLY * found.sum()):
                self._bends = np.zeros_like(self._bends)
                return places, np.where(found, own, np.inf), found
        self._bending = field.bending
        self._bends = field.second_derivatives(self._start, self.sides / 4)
        errors = np.sqrt(np.maximum(np.linalg.eigvalsh(field.covariance(self._start))[:, 1], 0) + _FLOOR ** 2)
        near = nearest(self._start, self._start[together], 1)[0][:, 0] < self._spacing * 1.5
        known = near & (errors < _UNSURE) & (found | self._bare)
        return np.where(alone[:, None], places, led), np.where(alone, own, errors), known | alone

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
