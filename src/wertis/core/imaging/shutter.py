"""Blur by a surface's own motion while the shutter is open: its path, and the shutter, measured.

Two pictures of a moving surface are blurred along paths of different shape. The motion before and after a frame says what its path was, but for the
shutter. When each picture is blurred with the other's path both have the same blur, so that they can be compared and none has to be undone.

Known ground: H. Jin, P. Favaro and R. Cipolla, Visual tracking in the presence of motion blur, CVPR 2005 (both pictures blurred with each other's
motion, none deblurred); G. Golub and V. Pereyra, The differentiation of pseudo-inverses and nonlinear least squares problems whose variables
separate, 1973 (light and motion projected out of the shutter's fit).
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from wertis.core.geometry import homography
from wertis.core.imaging.parallel import side_by_side

TAPS = 5  # pictures summed in place of the open shutter
NEAR = 3  # frames on each side of a frame from which its path is worked out
GUESS = 0.5  # shutter supposed until it is measured; film's usual one
FAST = 0.9  # pixels, standard deviation of the path while the shutter is open, from which its blur matters
LEG_UNCERTAINTY = 1.0  # pixels, standard deviation, in each leg of a path: a hand does not move straight from frame to frame
_STARTS = (0.3, 0.7)  # shutters, as parts of a frame, from which the measurement begins
_AGAINST_SWAPPED, _AGAINST_BOTH = 0.4, 1.05  # parts to which the misfit must fall, against other ways to put the blurs on, to be believed
_AGAINST_NONE = 0.9  # the same against no blur at all, for a start
_MERELY_SOFT, _PERHAPS_SOFT = 0.2, 0.5  # the same at the end; from the first on only if it falls far against the same blurs turned across
_AGAINST_TURNED = 0.25
_LONGER, _LONGER_BY = 2.0, 6.0  # times the known leg, and pixels beyond that, by which the missing one cannot be longer
_HOPELESS = 0.6  # the first of them, before the best shutter is found, on the first few samples
_FEW = 4
_ROUNDS = 5
_GRAIN = 1.8  # pixels, standard deviation, over which grain goes together at half the resolution

Disagreement = Callable[[int, np.ndarray, np.ndarray], np.ndarray]
"""(N,) what is left between a sample's two pictures, over their contrast, when the frame's and the reference's path are such offsets (J, n, 2)."""

LegAt = Callable[[float], "Leg | None"]
"""A leg for a shutter; where a surface is at a frame's own time depends on how long the shutter was open."""


@dataclass(frozen=True)
class Leg:
    """How points of the reference picture lie a frame before and a frame after: offsets (n, 2) each, in reference pixels; None where unknown."""

    before: np.ndarray | None
    after: np.ndarray | None


def sharp_places(places: np.ndarray, shutter: float) -> np.ndarray:
    """Where points are at each frame's own time, from where a blurred picture shows them, the middle of their path.

    Parameters
    ----------
    places : (F, n, 2) on consecutive frames.
    shutter : part of a frame for which it is open, about the frame's time; the path is straight between frames.

    Returns
    -------
    (F, n, 2)
    """
    count = len(places)
    part = shutter / 8  # mean share of a neighbour over one half of the shutter's time
    system = np.eye(count)
    for i in range(1, count - 1):
        system[i, i] -= 2 * part
        system[i, i - 1] += part
        system[i, i + 1] += part
    return np.linalg.solve(system, places.reshape(count, -1)).reshape(places.shape)


def taps(leg: Leg, shutter: float) -> np.ndarray:
    """(J, n, 2) offsets of the path from its middle while the shutter is open, for points with these legs; a missing leg is taken to mirror the other."""
    before, after = leg.before, leg.after
    if before is None and after is None:
        raise ValueError("A path needs at least one leg.")
    if before is None:
        before = -after  # type: ignore[operator]
    if after is None:
        after = -before
    times = path_times(shutter)
    offsets = np.where((times < 0)[:, None, None], -times[:, None, None] * before, times[:, None, None] * after)
    return np.asarray(offsets - offsets.mean(0))


def leg_offsets(change: np.ndarray, shutter: float) -> np.ndarray:
    """(J, 1, 2) by how much a path's offsets change with its legs (before x, y, after x, y)."""
    return taps(Leg(change[None, :2], change[None, 2:]), shutter)


def path_times(shutter: float) -> np.ndarray:
    """(J,) times of the taps, in frames from the frame's own."""
    return ((np.arange(TAPS) + 0.5) / TAPS - 0.5) * shutter


def completed(leg: Leg, missing: np.ndarray, shutter: float) -> Leg:
    """A leg whose missing side is the offset `missing` (2,), its known side measured from the frame's own time rather than from its path's middle."""
    known = leg.after if leg.before is None else leg.before
    assert known is not None
    part = shutter / 8
    other = np.broadcast_to(missing, known.shape)
    known = (known + part * other) / (1 - part)
    return Leg(other, known) if leg.before is None else Leg(known, other)


def extent(offsets: np.ndarray) -> float:
    """Standard deviation of a path's offsets (J, n, 2), in pixels."""
    return float(np.sqrt((offsets ** 2).sum(2).mean()))


def grain_left(offsets: np.ndarray) -> float:
    """The part of the grain's energy that is left when a picture is averaged over offsets (J, n, 2)."""
    some = offsets[:, ::4]
    apart = ((some[:, None] - some[None]) ** 2).sum(-1)
    return float(np.exp(-apart / (4 * _GRAIN ** 2)).mean())


def leg_among(matrices: list[np.ndarray | None], middle: int, points: np.ndarray, part: float) -> Leg | None:
    """Legs of reference points (n, 2) at the middle one of consecutive matrices (reference to frame, centred; None where unknown)."""
    low = high = middle
    while low > 0 and matrices[low - 1] is not None:
        low -= 1
    while high < len(matrices) - 1 and matrices[high + 1] is not None:
        high += 1
    if low == high:
        return None
    run = [m for m in matrices[low:high + 1] if m is not None]
    places = np.stack([homography.apply(m, points) for m in run])
    sharp = sharp_places(places, part)
    at = middle - low
    here = run[at]
    inverse = np.linalg.inv(here)

    def offset(neighbour: int) -> np.ndarray | None:
        if not 0 <= neighbour < len(run):
            return None
        return homography.apply(inverse, places[at] + sharp[neighbour] - sharp[at]) - points

    return Leg(offset(at - 1), offset(at + 1))


@dataclass(frozen=True)
class Shutter:
    """The part of a frame for which the shutter is open, and the reference frame's missing leg (2,), where one had to be found."""

    part: float
    missing: np.ndarray | None = None


def measure(disagreement: Disagreement, legs: list[LegAt], reference_legs: list[LegAt], before: Shutter | None = None) -> Shutter | None:
    """The shutter that makes the samples agree best with the reference; None when none makes them agree clearly better.

    Parameters
    ----------
    legs : each sample frame's, at the places (n,) that are compared there.
    reference_legs : the reference frame's legs at the same places. One of the two may be missing, and is then found as well.
    before : what was measured before the places were known better; the search begins there.
    """
    first = reference_legs[0](GUESS)
    assert first is not None
    lacking = "before" if first.before is None else "after" if first.after is None else ""
    known = first.after if first.before is None else first.before
    assert known is not None
    mean = known.mean(0)

    def misfit(values: np.ndarray, blurs: str = "crossed", count: int | None = None) -> np.ndarray:
        part = float(np.clip(values[0], 0, 1.5))

        def one(i: int) -> np.ndarray:
            here, leg = legs[i](part), reference_legs[i](part)
            assert here is not None and leg is not None
            own = completed(leg, values[1:], part) if lacking else leg
            frame_taps, reference_taps = taps(here, part), taps(own, part)
            if blurs == "swapped":
                frame_taps, reference_taps = reference_taps, frame_taps
            if blurs == "turned":
                frame_taps, reference_taps = (np.stack([-t[..., 1], t[..., 0]], axis=-1) for t in (frame_taps, reference_taps))
            if blurs == "both":
                frame_taps = reference_taps = (frame_taps[:, None] + reference_taps[None]).reshape(-1, *frame_taps.shape[1:])
            # any blur takes grain away, which must not count as agreement
            grain = grain_left(frame_taps) + grain_left(reference_taps)
            return np.asarray(disagreement(i, frame_taps, reference_taps) / np.sqrt(grain))

        return np.concatenate(side_by_side(one, list(range(len(legs[:count])))))

    if before is not None and (before.missing is not None) == bool(lacking):
        values = np.r_[before.part, before.missing if before.missing is not None else []]
    else:
        starts = [np.array([s]) for s in _STARTS]
        if lacking:
            starts = [np.array([s, *(share * mean)]) for s in _STARTS for share in (-1.0, 0.0)]
        tried = [(values, misfit(values, count=_FEW)) for values in starts]
        values, few = min(tried, key=lambda pair: float((pair[1] ** 2).sum()))
        if _share(few, misfit(0 * values, count=_FEW)) > _AGAINST_NONE or _share(few, misfit(values, "swapped", _FEW)) > _HOPELESS:
            return None
    rest = misfit(values)
    steps = np.array([0.03, 0.5, 0.5][:len(values)])
    slopes: np.ndarray | None = None
    for _ in range(_ROUNDS):
        if slopes is None:
            slopes = np.stack([(misfit(values + step) - rest) / size for step, size in zip(np.diag(steps), steps, strict=True)], axis=1)
        normal = slopes.T @ slopes
        move = -np.linalg.solve(normal + np.diag(np.diag(normal)) * 1e-3 + 1e-12 * np.eye(len(values)), slopes.T @ rest)
        for _ in range(3):
            after = misfit(values + move)
            if (after ** 2).sum() < (rest ** 2).sum():
                break
            move = move / 3
        else:
            break
        # slopes hold for a short step
        slopes = slopes if abs(move[0]) < 0.1 else None
        values, rest = values + move, after
        if abs(move[0]) < 0.005:
            break
    # a frame that is merely softer, by a lens or by nearness, is explained a little by any blur, whichever way it goes; where there is much grain, what
    # is left is mostly that
    against_none = _share(rest, misfit(0 * values))
    if against_none > _PERHAPS_SOFT or (against_none > _MERELY_SOFT and _share(rest, misfit(values, "turned")) > _AGAINST_TURNED):
        return None
    if lacking and np.linalg.norm(values[1:]) > _LONGER * np.linalg.norm(mean) + _LONGER_BY:
        return None
    # only the right one agrees better than the same blurs put on the wrong pictures, or both on both
    if not 0.03 < values[0] < 1.3 or _share(rest, misfit(values, "swapped")) > _AGAINST_SWAPPED or _share(rest, misfit(values, "both")) > _AGAINST_BOTH:
        return None
    return Shutter(float(values[0]), values[1:] if lacking else None)


def _share(rest: np.ndarray, other: np.ndarray) -> float:
    return float((rest ** 2).sum() / max((other ** 2).sum(), 1e-12))
