"""What a finished track's weak and lost frames say about what to do next."""

from collections.abc import Mapping
from typing import Protocol

from wertis.core.geometry.warp import Warp


class AnyFix(Protocol):
    """One frame's answer of a tracker of any kind.

    Attributes
    ----------
    warp : from the reference frame's picture; None when the surface was lost.
    error : expected error in pixels (one standard deviation) of what is seen.
    seen : share 0..1 of what is tracked that is seen.
    reason : why it was lost, in words; empty otherwise.
    """

    @property
    def warp(self) -> Warp | None: ...

    @property
    def error(self) -> float: ...

    @property
    def seen(self) -> float: ...

    @property
    def reason(self) -> str: ...


WEAK_ERROR = 1.0  # pixels of expected error; common practice calls a track usable under it
WEAK_SEEN = 0.15  # share of the region


def is_weak(fix: AnyFix) -> bool:
    """Whether an answer is there but deserves a look."""
    return fix.warp is not None and (fix.error > WEAK_ERROR or fix.seen < WEAK_SEEN)


def advice(found: Mapping[int, AnyFix]) -> str:
    """The first lost stretch, or else the weakest frame, why, and what can be done; empty when all is well.

    Parameters
    ----------
    found : frame to answer, of all frames that were tried.
    """
    lost = sorted(f for f, fix in found.items() if fix.warp is None)
    if lost:
        first = last = lost[0]
        while last + 1 in found and found[last + 1].warp is None:
            last += 1
        where = f"frame {first} is lost" if last == first else f"frames {first} to {last} are lost"
        again = next((f for f in (last + 1, first - 1) if f in found and found[f].warp is not None), None)
        more = f" and {len(lost) - (last - first + 1)} more" if len(lost) > last - first + 1 else ""
        return (f"{where}{more}: {found[first].reason}; draw a hold-out over what covers it (H)"
                + (f", or go on from frame {again}" if again is not None else ", or draw the region on a frame where it is seen better"))
    weak = {f: fix for f, fix in found.items() if is_weak(fix)}
    if not weak:
        return ""
    frame = max(weak, key=lambda f: (weak[f].error, -weak[f].seen))
    fix = weak[frame]
    why = f"only {fix.seen:.0%} of the region is seen" if fix.seen < 0.5 else f"the expected error is {fix.error:.1f} px"
    what = "draw a hold-out over what covers it (H)" if fix.seen < 0.5 else "draw the region larger, or allow less motion"
    return f"{len(weak)} weak, the weakest is {frame}: {why}; {what}"
