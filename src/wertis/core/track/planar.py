"""The planar tracker: where the surface of the reference frame is on every other frame.

Each frame is aligned with the reference frame itself, so that error does not add up; the frames before only say where to start.
Known ground: B. Lucas and T. Kanade, An iterative image registration technique, 1981; S. Baker and I. Matthews,
Lucas-Kanade 20 years on, 2004; S. Benhimane and E. Malis, Real-time image-based tracking of planes, 2004;
M. Fischler and R. Bolles, Random sample consensus, 1981 (the fresh start after a loss).
"""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from wertis.core.errors import RegionError
from wertis.core.geometry import homography
from wertis.core.geometry.conventions import homography_from_centred, homography_to_centred, to_centred
from wertis.core.geometry.motion import Fix
from wertis.core.imaging.pyramid import HeldOut, Pyramid
from wertis.core.imaging.shutter import leg_offsets
from wertis.core.track import redetection
from wertis.core.track.align import CLIP_LEVEL, CORRELATION, Alignment, Expected, align, corner_moves
from wertis.core.track.blurred_tiles import blurred_tiles
from wertis.core.track.covariance import expected_error, noise_information
from wertis.core.track.foreshortening import SLANTED
from wertis.core.track.kinds import KINDS, small_motion
from wertis.core.track.levels import TOLERANCE, Levels, Trust
from wertis.core.track.motion_prediction import MotionPrediction
from wertis.core.track.multistart import converges
from wertis.core.track.planar_settings import EFFORT, FORETELLING, JUDGING, MULTISTART, SECOND_LOOK, SHARPNESS, START
from wertis.core.track.reference import Reference, visible_tiles
from wertis.core.track.sampling import read_tiles

Path = Callable[[np.ndarray], np.ndarray | None]
"""Gives the offsets (J, n, 2), in reference pixels, of points (n, 2) while the shutter is open."""


@dataclass(frozen=True)
class FrameContext:
    """What a tracker knew when it had answered a frame, for looking at that frame again while later ones are tracked.

    Attributes
    ----------
    trust : earned by the tiles on the frame; None where it was lost.
    usual_likeness : how like the reference the surface has lately looked, 0..1; None at first.
    noise_of_sharp : residual variance of the last frame that was as sharp as the reference, in luma squared; 0 while unknown.
    looked_at_again : whether every frame is looked at a second time.
    """

    trust: Trust | None
    usual_likeness: float | None
    noise_of_sharp: float
    looked_at_again: bool


class PlanarTracker:
    """Tracks one region from its reference frame in one direction; feed it the frames in their order.

    Parameters
    ----------
    luma : (height, width) uint8 or float32 on a scale of 0..255, the reference frame.
    mask : (height, width) uint8, non-zero where the surface is.
    corners : (N, 2) points of the region in Wertis' pixels, at which the expected error is stated.
    kind : a name in `kinds.KINDS`.

    Raises
    ------
    RegionError
        If the mask leaves too little to track.
    """

    def __init__(self, luma: np.ndarray, mask: np.ndarray, corners: np.ndarray, kind: str = "perspective") -> None:
        if kind not in KINDS:
            raise RegionError(f"'{kind}' is not a kind of motion; choose one of {', '.join(KINDS)}.")
        self._kind = KINDS[kind]
        if np.count_nonzero(mask) < 100:
            raise RegionError("The region covers fewer than 100 pixels of the picture; draw it larger.")
        self.reference = Reference(Pyramid(luma), mask, EFFORT.most)
        tiles = self.reference.tiles(0)
        if len(tiles) < 2 or float(np.max(tiles.energy)) < 2.0:
            raise RegionError("There is no texture inside the region to hold on to; draw it round an area with detail.")
        self._corners = to_centred(corners)
        self._levels = Levels(self.reference, self._kind)
        self._box = self._levels.box
        self._prediction = MotionPrediction(self._levels)
        self._pose = np.eye(3)  # in which most of it was last seen surely
        self.trust: Trust | None = None  # earned on the last frame
        self.pyramid = self.reference.pyramid  # of the last frame
        self._noise_of_sharp = 0.0  # of the last frame that was found not to be blurred otherwise than the reference
        self._found_sharp = 0  # frames in a row
        self._found_veiled = 0  # frames in a row on which something lies over the whole surface
        self.told_apart_later = False  # what lies over the surface
        self.blur_is_known = False  # blur by motion is then left to a second look
        self.looked_at_again = False  # every frame is, so that the first look may end at half the resolution
        self.confirms = True  # an answer that is not sure has to be confirmed from beside it
        self._usual_likeness: float | None = None
        self._scores: dict[int, float] = {}  # of the first level, by its number, on the last frame
        self._usual: tuple[float, float] | None = None  # score of the last answer, and its expected error in pixels

    # -- public ---------------------------------------------------------------------------------------------------

    def start_at(self, matrix: np.ndarray) -> None:
        """Go on from a known place: `matrix` (3, 3) is the reference to the frame before the next one fed."""
        self._pose = homography_to_centred(matrix)
        self._prediction.start_at(self._pose)

    def feed(self, luma: np.ndarray, held: np.ndarray | None = None, pyramid: Pyramid | None = None) -> Fix:
        """The next frame's answer; `luma` as for the reference frame, `held` (h, w) uint8 is 255 on pixels that are held out.

        `pyramid` is the luma's own, where it is made already.
        """
        if pyramid is None:
            pyramid = Pyramid(luma)
        pyramid.held = HeldOut(held) if held is not None else None
        self.pyramid = pyramid
        ahead = self._prediction.predicted()
        found: Alignment | None = None
        if self._prediction.last is not None:
            found = self._follow(pyramid)
        verdict = self._judge(found, pyramid, ahead=ahead) if found is not None else None
        if found is not None and verdict is not None and verdict.seen < START.less_seen and self._seems_worse(found):
            again = self._followed_stepwise(pyramid)
            if again is not None and self._fits_better(again, found):
                found, verdict = again, self._judge(again, pyramid, ahead=ahead)
        expected = self._prediction.expected(ahead)
        if expected is not None and (verdict is None or verdict.matrix is None or self._is_weak(verdict, found)):
            led = self._led(pyramid, expected)
            if led is not None and (found is None or verdict is None or verdict.matrix is None or self._likelier(led, found, verdict)):
                found, verdict = led
        if found is not None and verdict is not None and verdict.matrix is not None and verdict.error > FORETELLING.weak_shape \
                and verdict.seen < FORETELLING.little:
            led = self._led_by_shape(pyramid)
            if led is not None and led[1].error < verdict.error and self._likelier(led, found, verdict):
                found, verdict = led
        if found is not None and verdict is not None and self._confirms_now:
            verdict = self._confirmed(verdict, found, self._from_beside(pyramid, found))
        if verdict is None or verdict.matrix is None:
            again = self._search(pyramid)
            if again is not None:
                second = self._judge(again, pyramid, JUDGING.most_fresh, ahead)
                if self._confirms_now:
                    second = self._confirmed(second, again, self._from_beside(pyramid, again))
                if second.matrix is not None:
                    found, verdict = again, second
        if verdict is None:
            verdict = Fix(None, reason="the surface was not found again")
        if verdict.matrix is None or found is None:
            self._prediction.lost(expected)
            return verdict
        self._prediction.answered(found.matrix, verdict.error, ahead)
        if verdict.seen > FORETELLING.little and verdict.error < FORETELLING.lost_in:
            self._pose = found.matrix
        self._remember(found)
        return replace(verdict, matrix=homography_from_centred(found.matrix))

    @property
    def _confirms_now(self) -> bool:
        """Whether a first look's answer has to be confirmed: where every frame is looked at again, or a veil over the whole surface is told apart at the
        end, that has the last word."""
        return self.confirms and not self.looked_at_again and self._found_veiled < SHARPNESS.veiled_settled

    @property
    def box(self) -> np.ndarray:
        """Corners (4, 2) of the region's box on the reference frame, first centres at 0."""
        return self._box

    def sample(self, picture: Pyramid, matrix: np.ndarray, trust: Trust | None, level: int, limit: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Tiles (n,) in view at a level, their pixels' weights (n, P), and the picture at that level, for a frame with a known place."""
        tiles = self.reference.tiles(level)
        chosen, trusted = self._levels.in_view(tiles, matrix, picture, trust, limit)
        at = self._levels.picture_level(level, matrix)
        if at != level:
            return chosen[:0], np.zeros((0, 0)), picture[level]
        chosen, trusted = chosen[trusted > 0.6], trusted[trusted > 0.6]
        weights = tiles.inside[chosen] * trusted[:, None]
        if picture.held is not None and len(chosen):
            weights = weights * (1 - read_tiles(picture.held[level], matrix, tiles.x[chosen], tiles.y[chosen], 2.0 ** level))
        return chosen, weights.astype(np.float32), picture[level]

    @property
    def context(self) -> FrameContext:
        """What is known now, after the last frame fed."""
        return FrameContext(self.trust, self._usual_likeness, self._noise_of_sharp, self.looked_at_again)

    def second_look(self, picture: Pyramid, matrix: np.ndarray, context: FrameContext,
                    path: Path, reference_path: Path, shutter: float) -> Fix | None:
        """A frame's answer again, from `matrix` (3, 3, centred), with the blur along the frame's path and the reference's taken into account.

        A function of its arguments and of the reference alone, so that its answer is the same whatever `feed` does meanwhile in another thread.

        None when it gives nothing to be believed.
        """
        aligned = self._aligned_along(picture, matrix, context, path, reference_path, shutter)
        if aligned is None:
            return None
        found, length = aligned
        verdict = self._judge(found, picture, JUDGING.most_error, context=context)
        if verdict.matrix is None:
            return None

        def again(place: np.ndarray) -> np.ndarray | None:
            other = self._aligned_along(picture, place, context, path, reference_path, shutter)
            return other[0].matrix if other is not None else None

        verdict = self._confirmed(verdict, found, again)
        return verdict if verdict.matrix is None else replace(verdict, matrix=homography_from_centred(found.matrix),
                                                              error=float(np.hypot(verdict.error, SECOND_LOOK.of_path * length)))

    def _aligned_along(self, picture: Pyramid, matrix: np.ndarray, context: FrameContext, path: Path, reference_path: Path,
                       shutter: float) -> tuple[Alignment, float] | None:
        """A frame aligned from `matrix` (3, 3, centred) with the blur of its path and of the reference's, and that path's mean length in pixels."""
        found: Alignment | None = None
        start, length = matrix, 0.0
        change = np.zeros(4)  # of the path's legs; a hand does not move straight from frame to frame
        rounds = [(1, EFFORT.again[1], 2)] * SECOND_LOOK.turns + [(0, EFFORT.again[0], 2), (0, EFFORT.more[True], 1)]
        moved = np.inf
        for level, limit, steps in rounds:
            if level == 0 and self._levels.scale(matrix) < EFFORT.shrunk:
                break
            if level == 1 and moved < SECOND_LOOK.arrived:
                continue
            if limit == EFFORT.more[True] and found is not None and self._expected(found, noise_of_sharp=context.noise_of_sharp) \
                    < EFFORT.unsure * max(1.0, self._levels.scale(found.matrix)):
                break
            tiles = self.reference.tiles(level)
            chosen, trusted = self._levels.in_view(tiles, matrix, picture, context.trust, limit)
            if len(chosen) < 4:
                continue
            own, other = path(tiles.centre[chosen]), reference_path(tiles.centre[chosen])
            if own is None or other is None:
                return None
            own = own + leg_offsets(change, shutter)
            length = float(np.linalg.norm(np.diff(own, axis=0), axis=2).sum(0).mean())
            blurred = blurred_tiles(self.reference, tiles, chosen, own, shutter)
            at = self._levels.picture_level(level, matrix)
            try:
                tried = align(self.reference, blurred, np.arange(len(chosen)), picture[at], at, start, self._kind, trusted, steps,
                              TOLERANCE[level], clip_level=CLIP_LEVEL, rough=START.rough if level else 0.0,
                              held=picture.held[at] if picture.held is not None else None, taps=other, with_blur=True, prior=SECOND_LOOK.prior)
            except np.linalg.LinAlgError:
                return None
            if not self._levels.plausible(tried.matrix):
                return None
            moved = self._levels.distance(tried.matrix, start)
            found, start = tried, tried.matrix
            change = change + tried.beside
        if found is None:
            return None
        if self._levels.distance(found.matrix, matrix) > SECOND_LOOK.farthest:
            return None
        return found, length

    def aligned_near(self, picture: Pyramid, matrix: np.ndarray) -> Fix | None:
        """A frame's answer by its pixels alone, from a place (3, 3, centred) or where the picture correlates best round it; None where there is none."""
        self.trust = None
        top = min(self.reference.coarsest, 2)
        starts = [matrix, self._shifted(picture, matrix, top)]
        tried = [self._level(top, picture, start, EFFORT.steps[top], rough=START.rough) for start in starts if start is not None]
        aligned = [a for a in tried if a is not None and self._levels.plausible(a.matrix)]
        found = self._finish(picture, min(aligned, key=_score), top) if aligned else None
        verdict = self._judge(found, picture, JUDGING.most_fresh) if found is not None else None
        if found is None or verdict is None or verdict.matrix is None:
            return None
        return replace(verdict, matrix=homography_from_centred(found.matrix))

    def alike_share(self, picture: Pyramid, matrix: np.ndarray) -> float:
        """Share 0..1 of the texture in view that a picture shows in a place, (3, 3) in Wertis' pixels, as the reference does."""
        as_is = self._levels.aligned(0, picture, homography_to_centred(matrix), 0, None, rough=0.05)
        if as_is is None:
            return 0.0
        energy = as_is.tiles.information[as_is.chosen]
        return float(energy @ (as_is.likeness > JUDGING.alike) / max(float(energy.sum()), 1e-9))

    def beside_expectation(self, picture: Pyramid, expected: Expected, must_add: bool) -> Fix | None:
        """A frame's answer again, when more is known of where the surface is on it; None when its pixels do not look like it, or, if they
        `must_add`, when they say nothing that was not expected."""
        self.trust = None
        found = self._led(picture, expected, must_add)
        if found is None or (must_add and self._confirmed(found[1], found[0], self._from_beside(picture, found[0])).matrix is None):
            return None
        return replace(found[1], matrix=homography_from_centred(found[0].matrix))

    # -- the steps of one frame -----------------------------------------------------------------------------------

    def _follow(self, pyramid: Pyramid) -> Alignment | None:
        """Coarse to fine from the places that the frames before suggest."""
        model = self._prediction
        assert model.last is not None
        # a surface that goes where it is expected need not be looked for at the coarsest level
        top = min(self.reference.coarsest, 2 if model.innovation < START.calm else 3)
        guesses = [model.last]
        ahead = model.predicted()
        if ahead is not None:
            guesses.insert(0, ahead)
        # where a hand shakes the camera neither guess is near, and the picture itself says best where to begin
        moved = self._shifted(pyramid, guesses[0], top) if model.innovation > START.unsteady else None
        if moved is not None:
            guesses.insert(0, moved)
        best: Alignment | None = None
        best_score = np.inf
        # a surface that never looks quite like its reference does not look for better places on every frame
        usual = START.as_usual * min(self._scores.get(top, 0.0), START.most_usual)
        for guess in guesses:
            tried = self._level(top, pyramid, guess, EFFORT.steps[top], rough=START.rough)
            if tried is None:
                continue
            score = _score(tried)
            if score < best_score:
                best, best_score = tried, score
            if score < max(START.good, usual):
                break
        if best is None:
            return None
        if best_score > max(START.doubtful, usual) and moved is None:
            moved = self._shifted(pyramid, guesses[0], top)
            if moved is not None:
                tried = self._level(top, pyramid, moved, EFFORT.steps[top], rough=START.rough)
                if tried is not None and _score(tried) < best_score:
                    best, best_score = tried, _score(tried)
        self._scores[top] = best_score
        return self._finish(pyramid, best, top, guesses, best_score > max(START.doubtful, usual))

    def _seems_worse(self, found: Alignment) -> bool:
        """Whether an answer is so much less like the surface, or so much less sure, than the last one that it may be a wrong minimum."""
        if self._usual is None:
            return False
        score, error = self._usual
        return _score(found) > START.worse * score + START.worse_by or self._expected(found) > max(START.less_sure * error, START.unsure)

    def _fits_better(self, a: Alignment, b: Alignment) -> bool:
        """Whether an answer explains more of what is in view than another of the same resolution: it looks more like the surface and is surer."""
        return a.tiles.level == b.tiles.level and _score(a) < _score(b) and self._expected(a) < START.surer * self._expected(b)

    def _followed_stepwise(self, pyramid: Pyramid) -> Alignment | None:
        """As `_follow`, but by growing kinds of motion, from a shift on: where few lines are in view a homography converges only from near its place."""
        best: Alignment | None = None
        for guess in (self._prediction.predicted(), self._prediction.last):
            moved = self._by_similarity(pyramid, guess) if guess is not None else None
            found = self._finish(pyramid, moved, min(self.reference.coarsest, 1) + 1) if moved is not None else None
            if found is not None and (best is None or self._fits_better(found, best)):
                best = found
        return best

    def _by_similarity(self, pyramid: Pyramid, guess: np.ndarray) -> Alignment | None:
        """A guess (3, 3), shifted, then turned and scaled as well, to where it fits at half the resolution."""
        top = min(self.reference.coarsest, 2)
        found: Alignment | None = None
        for name, level in (("shift", top), ("similarity", top), ("similarity", min(top, 1))):
            if len(KINDS[name]) > len(self._kind):
                continue
            found = self._levels.aligned(level, pyramid, guess if found is None else found.matrix, EFFORT.steps[level], self.trust, START.rough,
                                         kind=KINDS[name])
            if found is None:
                return None
        return found

    def _led_by_shape(self, pyramid: Pyramid) -> tuple[Alignment, Fix] | None:
        """The answer where little is seen, by the pixels and by what is expected of the surface's perspective."""
        ahead = self._prediction.predicted()
        moved = self._by_similarity(pyramid, ahead) if ahead is not None and len(self._kind) > len(KINDS["similarity"]) else None
        return None if moved is None else self._led(pyramid, self._prediction.expected_shape(moved.matrix), False, EFFORT.led_steps)

    def _finish(self, pyramid: Pyramid, found: Alignment, top: int, guesses: list[np.ndarray] | None = None, doubtful: bool = False) -> Alignment | None:
        """The levels below `top`, down to the finest that both pictures show; where that is `doubtful` the next one begins from the guesses as well."""
        for level in range(top - 1, 0 if self.looked_at_again and top > 1 else -1, -1):
            if level == 0 and self._levels.view(found.matrix).larger < EFFORT.shrunk:
                break
            start = found.matrix
            if doubtful and level == top - 1 and level and guesses:
                # the coarsest level has lost the few lines that there are; a guess may be within reach of this one
                starts = [self._level(level, pyramid, m, EFFORT.steps[level], rough=START.rough) for m in (start, *guesses)]
                sound = [a for a in starts if a is not None and self._levels.plausible(a.matrix)]
                if not sound:
                    return None
                found = min(sound, key=_score)
                continue
            if level == min(1, top - 1) and guesses and self._levels.distance(start, guesses[0]) > START.far:
                # fine lines are lost at coarse levels, whose answer can then be worse than the guess it began with
                start = min([start, *guesses], key=lambda m: self._score_at(level, pyramid, m))
            if level == 0 and self._noise_of_sharp and not self.blur_is_known:
                # most likely as sharp as the frame before: then this is the last word already
                tried = self._level(0, pyramid, start, EFFORT.last_steps, rough=START.rough, limit=EFFORT.last)
            else:
                tried = self._level(level, pyramid, start, EFFORT.steps[level], rough=START.rough)
            if tried is None or not self._levels.plausible(tried.matrix):
                return found if level < top - 1 else None
            found = tried
        if self.blur_is_known:
            return found
        found = self._through_blur(pyramid, found)
        return self._with_more_tiles(pyramid, found)

    def _with_more_tiles(self, pyramid: Pyramid, found: Alignment) -> Alignment:
        """An answer at the finest level that is unsure, aligned once more with more of the surface, at a cost that sure ones need not bear."""
        if found.tiles.level or len(found.chosen) >= len(found.tiles) or self._surely_veiled(found) \
                or self._expected(found) < EFFORT.unsure * max(1.0, self._levels.scale(found.matrix)):
            return found
        more = self._level(0, pyramid, found.matrix, 1, with_blur=len(found.beside) > 0, limit=EFFORT.more[False])
        return more if more is not None and self._levels.plausible(more.matrix) and self._expected(more) < self._expected(found) else found

    def _through_blur(self, pyramid: Pyramid, found: Alignment) -> Alignment:
        """Align once more with the change of sharpness as an unknown, if that explains the picture clearly better.

        A blur whose ends are unlike (a hand's jerk) moves an edge's middle; its moments, fitted beside the motion, take that away.
        They describe it only as far as it is short beside the details, so a long one is fitted at half the resolution.
        """
        # a weak fit gains from the test all the same, unless it has said no several times
        settled = self._found_sharp >= SHARPNESS.settled and self._found_sharp % SHARPNESS.tested_every
        if found.tiles.level == 0 and found.noise < SHARPNESS.noisier * self._noise_of_sharp and (settled or self._expected(found) < SHARPNESS.strong):
            self._found_sharp += 1
            return found
        if self._surely_veiled(found):
            self._found_veiled += 1
            return found
        for level in (0, 1):
            steps, rough = (EFFORT.steps[2], START.rough) if level else (EFFORT.last_steps, 0.0)
            tried = self._level(level, pyramid, found.matrix, steps, rough=rough, with_blur=True)
            if tried is None or not self._levels.plausible(tried.matrix):
                break
            veiled = level == 0 and self._is_veiled(tried.noise)  # blur explains it no better
            if level == 0:
                self._found_veiled = self._found_veiled + 1 if veiled else 0
            if level == 0 and (veiled or tried.noise > SHARPNESS.gain * found.noise):
                large = self._levels.scale(found.matrix) >= EFFORT.shrunk
                plain = self._level(0, pyramid, found.matrix, EFFORT.last_steps, limit=EFFORT.last) if large else found
                if plain is None or tried.noise > SHARPNESS.gain * plain.noise:
                    if plain is not None and plain.tiles.level == 0:
                        self._noise_of_sharp = plain.noise
                        self._found_sharp += 1
                    return plain or found
            self._found_sharp = 0
            if level == 1 and tried.blur < SHARPNESS.long:
                break
            found = tried
            if found.blur < SHARPNESS.some:
                break
        return found

    def _is_veiled(self, noise: float) -> bool:
        """Whether far more is left than grain would leave: most likely a reflection, which is told apart when all frames are known."""
        return self.told_apart_later and noise > SHARPNESS.veiled * (self.reference.grain + 1)

    def _surely_veiled(self, found: Alignment) -> bool:
        """Whether that has been so for so long that a closer look at every frame is wasted."""
        return self._found_veiled >= SHARPNESS.veiled_settled and self._found_veiled % SHARPNESS.looked_every > 0 and self._is_veiled(found.noise)

    def _is_weak(self, verdict: Fix, found: Alignment | None) -> bool:
        """Whether so little is known of where the surface is that what the frames before say should be asked."""
        veiled = found is not None and self._surely_veiled(found)
        return (verdict.error > FORETELLING.lost_in and not veiled) or (verdict.error > FORETELLING.weak and verdict.seen < FORETELLING.little)

    def _level(self, level: int, pyramid: Pyramid, matrix: np.ndarray, steps: int, rough: float = 0.0, with_blur: bool = False, limit: int = 0,
               expected: Expected | None = None) -> Alignment | None:
        """As `Levels.aligned`, with what was trusted on the last frame."""
        return self._levels.aligned(level, pyramid, matrix, steps, self.trust, rough, with_blur, limit, expected)

    def _score_at(self, level: int, pyramid: Pyramid, matrix: np.ndarray) -> float:
        as_is = self._level(level, pyramid, matrix, 0, rough=0.05)
        return 1.0 if as_is is None else _score(as_is)

    def _likelier(self, led: tuple[Alignment, Fix], found: Alignment, verdict: Fix) -> bool:
        """Whether what pixels and expectation agree on is to be taken for what the pixels alone said."""
        as_good = _score(led[0]) - _score(found)
        if led[1].error < verdict.error:
            return as_good < FORETELLING.worse
        # it is said to be less sure, but one that lies elsewhere and looks no better is not to be trusted
        return as_good < FORETELLING.as_good and self._levels.distance(led[0].matrix, found.matrix) > 2 * verdict.error

    def _led(self, pyramid: Pyramid, expected: Expected, must_add: bool = True, steps: int = EFFORT.steps[1]) -> tuple[Alignment, Fix] | None:
        """The answer where little is seen: what is expected counts beside the pixels. None when they `must_add` to it and do not."""
        found: Alignment | None = None
        for level in (1, 0):
            start = found.matrix if found is not None else expected.matrix
            if level == 0 and self._levels.view(start).larger < EFFORT.shrunk:
                break
            tried = self._level(level, pyramid, start, steps, rough=START.rough if level else 0.0, limit=EFFORT.last, expected=expected)
            if tried is None or not self._levels.plausible(tried.matrix):
                return None
            found = tried
        if found is None:
            return None
        verdict = self._judge(found, pyramid, ahead=expected.matrix, led=True)
        if verdict.matrix is None:
            return None
        if must_add and verdict.error > FORETELLING.guessed * expected.deviation:
            # what is seen may still say where the surface is, if not how it is turned
            moves = corner_moves(found.matrix, self.reference.to_unit, expected.points).reshape(-1, 8)
            seen = found.normal - CORRELATION / expected.deviation ** 2 * moves.T @ moves
            if expected_error(seen, found.matrix, self.reference, self._corners, KINDS["shift"]) > FORETELLING.placed * expected.deviation:
                return None
        return found, verdict

    def _shifted(self, pyramid: Pyramid, guess: np.ndarray, level: int) -> np.ndarray | None:
        """The guess moved to where the reference, warped by it, correlates best with the picture at a coarse level."""
        return redetection.best_shift(self.reference, pyramid, guess, level)

    def _search(self, pyramid: Pyramid) -> Alignment | None:
        """Look for the surface anywhere in the picture by its features."""
        view = self._levels.view(self._pose)
        turned = view.smaller < 1 / SLANTED or view.larger > SLANTED
        top = min(self.reference.coarsest, 2)
        best: Alignment | None = None
        for guess in redetection.by_features(self.reference, pyramid, [None, self._pose] if turned else [None]):
            if not self._levels.plausible(guess):
                continue
            found = self._level(top, pyramid, self._of_kind(guess), EFFORT.steps[top], rough=START.rough)
            if found is not None and (best is None or _score(found) < _score(best)):
                best = found
        return self._finish(pyramid, best, top) if best is not None else None

    def _of_kind(self, matrix: np.ndarray) -> np.ndarray:
        """The motion of the allowed kind that takes the region's corners nearest to where `matrix` takes them (Gauss-Newton)."""
        if len(self._kind) == 8:
            return matrix
        unit = self.reference.to_unit
        places = homography.apply(matrix, self._box)
        found = np.eye(3)
        for _ in range(20):
            away = (places - homography.apply(found, self._box)).ravel()
            moves = corner_moves(found, unit, self._box).reshape(8, 8) @ self._kind.T
            step = self._kind.T @ np.linalg.lstsq(moves, away, rcond=None)[0]
            found = found @ np.linalg.inv(unit) @ small_motion(np.clip(step, -0.5, 0.5)) @ unit
        return found / found[2, 2]

    # -- judging and remembering ----------------------------------------------------------------------------------

    def _judge(self, found: Alignment, pyramid: Pyramid, most: float | None = None, ahead: np.ndarray | None = None, led: bool = False,
               context: FrameContext | None = None) -> Fix:
        context = context or self.context
        if not self._levels.plausible(found.matrix):
            return Fix(None, reason="the surface folded over")
        if self._levels.view(found.matrix).edge_on:
            return Fix(None, reason="the surface is seen edge-on")
        tiles = self.reference.tiles(0)
        tiles_energy = found.tiles.energy[found.chosen]
        due = tiles_energy / (tiles_energy + 3 * found.noise)  # the likeness that noise alone leaves
        good = (found.misfit < JUDGING.accepted) & (found.likeness > 0.15) & (found.likeness > 0.4 * due)
        energy = found.tiles.information[found.chosen]
        matched = float((energy * good).sum() / max(energy.sum(), 1e-9))
        visible = visible_tiles(tiles, found.matrix, pyramid.size, border=0.0)
        in_picture = float(tiles.information[visible].sum() / max(tiles.information.sum(), 1e-9))
        seen = in_picture * matched
        likeness = float(np.average(found.likeness[good], weights=energy[good] + 1e-9)) if good.any() else 0.0
        if seen < JUDGING.least_seen or good.sum() < 3:
            return Fix(None, seen=seen, reason=f"only {seen:.0%} of the region is seen")
        usual = context.usual_likeness if context.usual_likeness is not None else 0.6
        if likeness < min(JUDGING.least_likeness, 0.5 * usual):
            return Fix(None, seen=seen, reason="nothing in the picture looks like the region")
        error = self._expected(found, led, context.noise_of_sharp)
        error = float(np.hypot(error, SHARPNESS.doubt * found.blur))
        if error > (most or (JUDGING.most_first if context.looked_at_again else JUDGING.most_error)):
            return too_unsure(error, seen)
        farthest = max(JUDGING.jump * self.reference.radius, 6 * self._prediction.innovation)
        if ahead is not None and seen < 0.5 and self._levels.distance(found.matrix, ahead) > farthest:
            return Fix(None, seen=seen, reason=f"only {seen:.0%} of the region is seen, and it seemed to jump")
        return Fix(found.matrix, error, seen)

    def _confirmed(self, verdict: Fix, found: Alignment, align_from: Callable[[np.ndarray], np.ndarray | None]) -> Fix:
        """A verdict, or that the frame is lost where it is not sure and alignments from beside it do not converge to it; `align_from` as for `converges`.

        Not for a motion that may only shift, turn and grow: where the surface does more than that its answers wander.
        """
        if verdict.matrix is None or verdict.error < MULTISTART.unsure or len(self._kind) < len(KINDS["affine"]) \
                or converges(self._levels, found.matrix, verdict.error, align_from):
            return verdict
        reason = f"{verdict.seen:.0%} of the region seems seen, but it fits more than one place; draw it larger, hold out what passes, or repair by hand"
        return Fix(None, verdict.error, verdict.seen, reason)

    def _from_beside(self, pyramid: Pyramid, found: Alignment) -> Callable[[np.ndarray], np.ndarray | None]:
        """For `_confirmed`: aligns as an answer was, from half the resolution on."""
        def aligned(place: np.ndarray) -> np.ndarray | None:
            for level in range(max(found.tiles.level, min(1, self.reference.coarsest)), found.tiles.level - 1, -1):
                tried = self._level(level, pyramid, place, EFFORT.last_steps, START.rough if level else 0.0, limit=0 if level else EFFORT.last)
                if tried is None:
                    return None
                place = tried.matrix
            return place

        return aligned

    def _expected(self, found: Alignment, led: bool = False, noise_of_sharp: float | None = None) -> float:
        """The expected error; an answer that was `led` has information that is not the pixels'."""
        # something else in front leaves more, which is no grain
        sharp = self._noise_of_sharp if noise_of_sharp is None else noise_of_sharp
        noise = min(found.noise, sharp) if sharp and found.tiles.level == 0 else found.noise
        from_grain = noise_information(found, self.reference, noise) if not led else None
        return expected_error(found.normal, found.matrix, self.reference, self._corners, self._kind, from_grain)

    def _remember(self, found: Alignment) -> None:
        self._usual = _score(found), self._expected(found)
        tiles = found.tiles
        trust = np.clip(2 - found.misfit / JUDGING.remembered, 0.05, 1)
        trust[found.likeness < 0.1] = 0.05
        self.trust = tiles.centre[found.chosen], trust
        good = found.misfit < JUDGING.accepted
        if good.any():
            likeness = float(np.median(found.likeness[good]))
            self._usual_likeness = likeness if self._usual_likeness is None else 0.9 * self._usual_likeness + 0.1 * likeness


def is_too_unsure(fix: Fix) -> bool:
    """Whether an answer is so unsure that it must not look like data."""
    return fix.matrix is not None and fix.error > JUDGING.most_error


def too_unsure(error: float, seen: float) -> Fix:
    """What is said of such a frame instead."""
    return Fix(None, error=error, seen=seen, reason=f"too little texture is seen (expected error {error:.0f} px)")


def _score(found: Alignment) -> float:
    """0 is a perfect match of every tile, 1 none at all."""
    return float(1 - np.average(found.likeness, weights=np.sqrt(found.tiles.information[found.chosen]) + 1e-9))
