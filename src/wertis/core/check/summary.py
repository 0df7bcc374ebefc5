"""What a track's drift comes to: its mean, its worst frame, and which frames to look at first."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from wertis.core.check.slip import Slip

USABLE, GOOD = 1.0, 0.3  # pixels; common practice
_APART = 3  # frames within which a lesser drift belongs to the same trouble
_NOTHING = 0.05  # pixels of drift that nobody needs to look at


@dataclass(frozen=True)
class Summary:
    """Drift over frames; a frame's drift is that of its worst place.

    Attributes
    ----------
    measured, unmeasured : how many frames.
    mean, worst : pixels; nan when nothing was measured.
    frame, place : where the worst is; the place, a corner or a vertex, counts from 0.
    """

    measured: int
    unmeasured: int
    mean: float
    worst: float
    frame: int
    place: int

    def words(self, level: float = USABLE, under: float | None = None, each: str = "corner") -> str:
        """The summary in words; `under` is the share of measured frames under `level` pixels, `each` what a place is called."""
        if not self.measured:
            return f"nothing could be measured on {self.unmeasured} frames"
        return (f"mean {self.mean:.2f} px, worst {self.worst:.2f} px on frame {self.frame} at {named_place(each, self.place)}"
                + (f", {under:.0%} under {level:g} px" if under is not None else "")
                + (f", {self.unmeasured} frames not measured" if self.unmeasured else ""))


def named_place(each: str, number: int) -> str:
    """A corner, which people count from 1, or a vertex, whose number is the one it has everywhere."""
    return f"{each} {number + 1 if each == 'corner' else number}"


def summary(drift: Mapping[int, Slip]) -> Summary:
    """The drift of all frames in a few numbers."""
    worst = {f: s.worst for f, s in drift.items() if np.isfinite(s.worst)}
    if not worst:
        return Summary(0, len(drift), float("nan"), float("nan"), 0, 0)
    frame = max(worst, key=lambda f: worst[f])
    return Summary(len(worst), len(drift) - len(worst), float(np.mean(list(worst.values()))), worst[frame], frame,
                   drift[frame].where)


def share_under(drift: Mapping[int, Slip], level: float) -> float:
    """The share of measured frames whose drift is under `level` pixels; nan when none was measured."""
    worst = [s.worst for s in drift.values() if np.isfinite(s.worst)]
    return float(np.mean([w < level for w in worst])) if worst else float("nan")


def worst_first(drift: Mapping[int, Slip]) -> list[int]:
    """Frames to look at, worst first: each is worse than all within a few frames of it."""
    worst = {f: s.worst for f, s in drift.items() if np.isfinite(s.worst) and s.worst > _NOTHING}
    order = sorted(worst, key=lambda f: (-worst[f], f))
    out: list[int] = []
    for frame in order:
        if all(worst.get(near, 0.0) <= worst[frame] for near in range(frame - _APART, frame + _APART + 1)) \
                and all(abs(frame - f) > _APART for f in out):
            out.append(frame)
    return out


def next_worst(drift: Mapping[int, Slip], frame: int) -> int | None:
    """The frame to look at after this one: the next in the order of `worst_first`, or the worst of all; None when there is none."""
    order = worst_first(drift)
    if not order:
        return None
    return order[(order.index(frame) + 1) % len(order)] if frame in order else order[0]
