"""A planar tracker that looks at each frame a second time, when the frames after it are known, if the motion may have blurred it.

The answers come a few frames late then; where the surface moves little they come at once.
"""

from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np

from wertis.core.geometry.conventions import homography_to_centred
from wertis.core.geometry.motion import Fix
from wertis.core.imaging import shutter
from wertis.core.imaging.parallel import side_by_side
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.imaging.shutter import FAST, GUESS, NEAR, Leg, Shutter
from wertis.core.track import blurred_tiles
from wertis.core.track.planar import FrameContext, PlanarTracker, is_too_unsure, too_unsure

_LAG = 2  # frames after a frame that must be known before it is looked at again
_MEASURED_FRAMES = 6  # frames from which the shutter is measured
_TURNS = 2  # of measuring the shutter
_MOST_KEPT = 10
_BETWEEN_TRIES = 12  # frames
_LONG = 1.5  # the same, from which one measurement is enough to say that there is no blur
_TRIES = 2  # measurements that find no shutter before the matter is dropped


@dataclass(eq=False)
class _Kept:
    frame: int
    fix: Fix
    matrix: np.ndarray | None  # centred
    luma: np.ndarray | None = None
    held: np.ndarray | None = None
    context: FrameContext | None = None  # of the tracker, when it had answered this frame
    pyramid: Pyramid | None = None  # once the shutter is known, when few frames wait: the first look's own

    def picture(self) -> Pyramid:
        """The frame's pyramid; made again where many frames wait, since it takes five times the picture's memory."""
        assert self.luma is not None
        return self.pyramid or Pyramid(self.luma, self.held)


class DeferredTracker:
    """Feed it frames in order, as to a `PlanarTracker`; answers come back in the same order, some of them late.

    Parameters
    ----------
    tracker : the tracker that looks first.
    before : (3, 3) reference to the frame on the other side of the reference frame, in Wertis' pixels, where it is known.
    """

    def __init__(self, tracker: PlanarTracker, before: np.ndarray | None = None) -> None:
        self._tracker = tracker
        self._reference_before = homography_to_centred(before) if before is not None else None
        self._after: list[_Kept] = []  # the first few frames, if they follow the reference frame
        self._kept: list[_Kept] = []
        self._gone: list[_Kept] = []  # the last few that were handed out
        self.shutter: Shutter | None = None  # once it has been measured
        self._tries = 0
        self._wait = 0  # frames to hand out before the shutter is measured again
        self._beside = ThreadPoolExecutor(1, thread_name_prefix="wertis-second-look")

    def feed(self, frame: int, luma: np.ndarray | None, held: np.ndarray | None = None, lost: str = "",
             neighbour: bool = True, pyramid: Pyramid | None = None) -> list[tuple[int, Fix]]:
        """Answers that are ready after one more frame; `luma` None with a reason `lost` where it could not be read.

        `neighbour` says whether the first frame fed lies next to the reference frame; `pyramid` is the luma's own, where it is made already.
        """
        if luma is None:
            self._kept.append(_Kept(frame, Fix(None, reason=lost), None))
            return self._ready(final=False)
        # the frame that is due is looked at again while the new one is looked at first
        due = self._beside.submit(self._second_look, self._kept[0]) if self._is_due() else None
        fix = self._tracker.feed(luma, held, pyramid)
        out = [self._hand_out(due)] if due is not None else []
        kept = _Kept(frame, fix, homography_to_centred(fix.matrix) if fix.matrix is not None else None)
        if self._tries < _TRIES and kept.matrix is not None:
            # pictures of the past are kept only while they may be needed
            kept.luma, kept.held, kept.context = luma, held, self._tracker.context
            kept.pyramid = self._tracker.pyramid if self.shutter is not None else None
        line = [*self._gone, *self._kept]
        if len(self._after) < NEAR and (line[-1] in self._after if line else neighbour):
            self._after.append(kept)
        self._kept.append(kept)
        return [*out, *self._ready(final=False)]

    def finish(self) -> list[tuple[int, Fix]]:
        """The answers that were still waiting."""
        out = self._ready(final=True)
        self._beside.shutdown()
        return out

    # -- inside ---------------------------------------------------------------------------------------------------

    def _ready(self, final: bool) -> list[tuple[int, Fix]]:
        out: list[tuple[int, Fix]] = []
        while self._kept:
            waiting = len(self._kept)
            if not self._may_be_blurred(self._kept[0]):
                if waiting == 1 and not final and self._tries < _TRIES:
                    break  # the next frame may show that this one is fast
            elif not final and waiting <= _LAG:
                break
            elif self.shutter is None and self._tries < _TRIES and self._wait <= 0:
                fast = [k for k in self._kept if self._may_be_blurred(k)]
                if len(fast) < _MEASURED_FRAMES and waiting < _MOST_KEPT and not final:
                    break
                self._measure(fast)
                continue
            elif not final and waiting == _LAG + 1 and self._is_due():
                break  # until the next frame, beside which it is looked at again
            out.append(self._hand_out())
        return out

    def _is_due(self) -> bool:
        """Whether the first frame kept is ready for its second look."""
        return self.shutter is not None and len(self._kept) > _LAG and self._kept[0].luma is not None and self._may_be_blurred(self._kept[0])

    def _hand_out(self, looked: "Future[Fix | None] | None" = None) -> tuple[int, Fix]:
        kept = self._kept[0]
        self._wait -= 1
        fix = kept.fix
        if looked is not None:
            fix = looked.result() or fix
        elif self.shutter is not None and kept.luma is not None and self._may_be_blurred(kept):
            fix = self._second_look(kept) or fix
        if fix.matrix is not None:
            kept.matrix = homography_to_centred(fix.matrix)
        if is_too_unsure(fix):  # even now
            fix = too_unsure(fix.error, fix.seen)
        done = self._kept.pop(0)
        done.luma = done.held = done.pyramid = None
        done.fix = fix
        self._gone = [*self._gone, done][-NEAR - 1:]
        return done.frame, fix

    def _may_be_blurred(self, kept: _Kept) -> bool:
        if kept.matrix is None or self._tries >= _TRIES:
            return False
        box = self._tracker.box
        part = self.shutter.part if self.shutter is not None else GUESS
        leg = self._leg(kept, box, GUESS)
        own = shutter.extent(shutter.taps(leg, part)) if leg is not None else 0.0
        start = self._reference_leg(box)
        return max(own, shutter.extent(shutter.taps(start, part)) if start is not None else 0.0) > FAST

    def _measure(self, fast: list[_Kept]) -> None:
        sampled = [k for k in fast if self._is_between(k)][-_MEASURED_FRAMES:]
        found, long = self._measured(sampled)
        if found is None:
            self._tries += _TRIES if long else 1
            self._wait = len(self._kept) + _BETWEEN_TRIES
            return
        for _ in range(_TURNS - 1):
            # the paths were worked out from places that the blur had falsified
            self.shutter = found
            again = [k for k in self._kept if k.luma is not None and self._may_be_blurred(k)]
            for kept, better in zip(again, side_by_side(self._second_look, again), strict=True):
                if better is not None and better.matrix is not None:
                    kept.matrix = homography_to_centred(better.matrix)
            found = self._measured(sampled, found)[0] or found
        self.shutter = found
        self._tracker.blur_is_known = True
        reference = self._reference_leg(self._tracker.box)
        # where the reference frame itself is blurred every frame is looked at again, and the first look may be rougher
        self._tracker.looked_at_again = reference is not None and shutter.extent(shutter.taps(reference, found.part)) > FAST

    def _measured(self, sampled: list[_Kept], before: Shutter | None = None) -> tuple[Shutter | None, bool]:
        """The shutter by some frames, if any fits, and whether their paths are so long that there would have to be one."""
        samples, legs = [], []
        for kept in sampled:
            assert kept.luma is not None and kept.matrix is not None and kept.context is not None
            chosen, weights, picture = self._tracker.sample(kept.picture(), kept.matrix, kept.context.trust, blurred_tiles.LEVEL,
                                                            blurred_tiles.MEASURED_TILES)
            if len(chosen) < 6:
                continue
            places = self._tracker.reference.tiles(blurred_tiles.LEVEL).centre[chosen]
            own, start = self._leg_at(self._neighbours(kept), NEAR, places), self._leg_at(self._round_reference(), 1, places)
            if own(GUESS) is not None and start(GUESS) is not None:
                samples.append(blurred_tiles.Sample(picture, kept.matrix, chosen, weights))
                legs.append((own, start))
        if len(samples) < 2:
            return None, False
        found = shutter.measure(lambda i, own, other: blurred_tiles.disagreement(self._tracker.reference, samples[i], own, other),
                                [own for own, _ in legs], [of_reference for _, of_reference in legs], before)
        return found, float(np.mean([shutter.extent(shutter.taps(leg, GUESS)) for own, _ in legs if (leg := own(GUESS)) is not None])) > _LONG

    def _is_between(self, kept: _Kept) -> bool:
        """Whether the picture and the places on both sides are known."""
        near = self._neighbours(kept)
        return kept.luma is not None and near[NEAR - 1] is not None and near[NEAR + 1] is not None

    def _leg(self, kept: _Kept, points: np.ndarray, part: float) -> Leg | None:
        """The legs of `points` (n, 2) of the reference at a frame."""
        part = self.shutter.part if self.shutter is not None else part
        return shutter.leg_among(self._neighbours(kept), NEAR, points, part)

    def _neighbours(self, kept: _Kept) -> list[np.ndarray | None]:
        """The matrices of the frames round a frame and its own, in the middle."""
        line = [*self._gone, *self._kept]
        middle = next(i for i, k in enumerate(line) if k is kept)
        near = [line[i].matrix if 0 <= i < len(line) else None for i in range(middle - NEAR, middle + NEAR + 1)]
        if self._after and self._after[0] is kept:
            near[NEAR - 1] = np.eye(3)
        return near

    def _reference_leg(self, points: np.ndarray) -> Leg | None:
        part = self.shutter.part if self.shutter is not None else GUESS
        leg = shutter.leg_among(self._round_reference(), 1, points, part)
        if leg is None or self.shutter is None or self.shutter.missing is None:
            return leg
        return shutter.completed(leg, self.shutter.missing, part)

    def _round_reference(self) -> list[np.ndarray | None]:
        """The matrices of the frame before the reference frame, its own, and those of the frames after it."""
        return [self._reference_before, np.eye(3), *(k.matrix for k in self._after)]

    @staticmethod
    def _leg_at(matrices: list[np.ndarray | None], middle: int, points: np.ndarray) -> shutter.LegAt:
        return lambda part: shutter.leg_among(matrices, middle, points, part)

    def _second_look(self, kept: _Kept) -> Fix | None:
        assert self.shutter is not None and kept.luma is not None and kept.matrix is not None and kept.context is not None
        part, near = self.shutter.part, self._neighbours(kept)

        def path_at(points: np.ndarray) -> np.ndarray | None:
            leg = shutter.leg_among(near, NEAR, points, part)
            return None if leg is None else shutter.taps(leg, part)

        def reference_path_at(points: np.ndarray) -> np.ndarray | None:
            leg = self._reference_leg(points)
            return None if leg is None else shutter.taps(leg, part)

        return self._tracker.second_look(kept.picture(), kept.matrix, kept.context, path_at, reference_path_at, part)
