"""Frames on which little of a surface was seen, answered again at the end: what the frames on both sides say of them counts beside the pixels.

While tracking, only the frames before are known, and what they foretell grows unsure quickly; between frames that are known it does not.
"""

from collections.abc import Callable, Iterator

import numpy as np

from wertis.core.geometry import homography
from wertis.core.geometry.conventions import homography_from_centred, homography_to_centred
from wertis.core.geometry.motion import Fix
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.track.align import Expected
from wertis.core.track.planar import PlanarTracker

_WEAK, _LITTLE, _LOST_IN = 0.3, 0.65, 1.0  # pixels of expected error, and share seen, from which a frame is answered again; the last, whatever is seen
_GOOD = 0.25  # pixels of expected error up to which a frame says something of its neighbours
_SIDE = 4  # frames on each side that say where the surface was between them
_DEGREES = (2, 3, 4, 5, 6)  # of the polynomial through them; the one that foretells best is taken
_LONGEST = 24  # frames of a gap
_TRIALS, _LEAST_TRIALS = 24, 3  # most and fewest gaps of the same length that are made up where the answer is known, to learn how much it is worth
_DISAGREED = 1.5  # times by which polynomials disagree that any of them is unsure, where no gap can be made up
_LEAST = 0.05  # pixels
_SURER = 0.75  # part of the expected error to which it must fall for an answer to be given again
_SURE, _NEXT_TO_NOTHING = 0.5, 0.05  # pixels within which what is expected stands by itself where something had been seen, and the share then stated
_JERKED = 0.25  # share of the texture in view, beyond what matches where the surface is expected, that must match elsewhere for it to have gone there
_MOST_KEPT = 128 << 20  # bytes of pictures


class TwoSidedRefiner:
    """Keeps the pictures of frames on which little was seen.

    Parameters
    ----------
    tracker : the one that gave the answers.
    """

    def __init__(self, tracker: PlanarTracker) -> None:
        self._tracker = tracker
        self._places: dict[int, np.ndarray] = {}  # corners (4, 2) of the region's box on frames that are sure
        self._errors: dict[int, float] = {}  # of those
        self._weak: dict[int, tuple[Fix, np.ndarray]] = {}
        self._bytes = 0  # of those pictures

    def keep(self, frame: int, fix: Fix, luma: np.ndarray) -> None:
        """Remember a frame's answer, and its picture where it may be wanted again."""
        if fix.matrix is not None and fix.error <= _GOOD:
            self._places[frame] = homography.apply(homography_to_centred(fix.matrix), self._tracker.box)
            self._errors[frame] = fix.error
        elif self._bytes < _MOST_KEPT and (fix.matrix is None or fix.error >= _LOST_IN or (fix.error >= _WEAK and fix.seen < _LITTLE)):
            picture = luma if luma.dtype == np.uint8 else np.clip(np.rint(luma), 0, 255).astype(np.uint8)
            self._weak[frame] = fix, picture
            self._bytes += picture.nbytes

    def answers(self, held: Callable[[int], np.ndarray | None]) -> Iterator[tuple[int, Fix]]:
        """Better answers, for the frames where there are any; `held` gives what is held out on a frame."""
        known = np.array(sorted(self._places))
        for frame, (fix, luma) in self._weak.items():
            at = int(np.searchsorted(known, frame))
            near = known[at - _SIDE:at + _SIDE] if _SIDE <= at <= len(known) - _SIDE else known[:0]
            if not len(near) or near[_SIDE] - near[_SIDE - 1] - 1 > _LONGEST:
                continue
            expected = self._expected(near, frame)
            if expected is None:
                continue
            sure = expected.deviation < _SURE
            picture = Pyramid(luma, held(frame))
            found = self._tracker.beside_expectation(picture, expected, fix.matrix is None and not sure)
            if found is None and fix.matrix is not None and sure:
                # next to nothing is seen where it must be, so that what was found elsewhere was something else
                found = Fix(homography_from_centred(expected.matrix), expected.deviation, min(fix.seen, _NEXT_TO_NOTHING))
            own = fix if fix.matrix is not None else self._tracker.aligned_near(picture, expected.matrix)
            led = found.matrix if found is not None and found.matrix is not None else homography_from_centred(expected.matrix)
            if own is not None and own.matrix is not None and self._jerked(picture, own.matrix, led):
                if own is not fix:
                    yield frame, own
            elif found is not None and found.matrix is not None and (fix.matrix is None or found.error < _SURER * fix.error):
                yield frame, found

    def _jerked(self, picture: Pyramid, seen: np.ndarray, led: np.ndarray) -> bool:
        """Whether the surface is not where the frames round it foretell: far more of it matches in the place `seen` (3, 3) than in the one `led`."""
        return self._tracker.alike_share(picture, seen) > self._tracker.alike_share(picture, led) + _JERKED

    # -- inside ---------------------------------------------------------------------------------------------------

    def _expected(self, near: np.ndarray, frame: int) -> Expected | None:
        """Where the surface is on a frame by those on both sides, as sure as made-up gaps of the kind show."""
        trials = [f for f in sorted(self._places, key=lambda f: abs(f - frame)) if all(f + apart in self._places for apart in near - frame)][:_TRIALS]
        options = []
        for degree in _DEGREES:
            weights = _weights(near - frame, degree)
            # the frames at a gap's ends are less sure than those of the trials
            of_ends = float(np.square(weights) @ np.square([self._errors[f] for f in near]))
            missed = [self._between(near - frame + f, weights) - self._places[f] for f in trials]
            options.append((2 * float(np.mean(np.square(missed))) + of_ends if trials else of_ends, self._between(near, weights)))
        if len(trials) >= _LEAST_TRIALS:
            variance, corners = min(options, key=lambda each: each[0])
        else:  # then what the polynomials do not agree on says how much any of them is worth
            middle = len(options) // 2
            corners = options[middle][1]
            variance = options[middle][0] + max(_DISAGREED ** 2 * float(((other - corners) ** 2).sum(1).mean()) for _, other in options[1:])
        try:
            matrix = homography.from_points(self._tracker.box, corners)
        except ValueError:
            return None
        return Expected(matrix, max(_LEAST, float(np.sqrt(variance))), self._tracker.box)

    def _between(self, near: np.ndarray, weights: np.ndarray) -> np.ndarray:
        """The corners (4, 2), from those on the frames `near` (F,), by how much each counts (F,)."""
        return np.einsum("f,fij->ij", weights, np.stack([self._places[f] for f in near]))


def _weights(apart: np.ndarray, degree: int) -> np.ndarray:
    """(F,) how much frames at `apart` (F,) count for the value at 0 of the polynomial of a degree that fits them best."""
    powers = np.vander(apart / np.abs(apart).max(), degree + 1, increasing=True)
    return np.asarray(np.linalg.pinv(powers)[0])
