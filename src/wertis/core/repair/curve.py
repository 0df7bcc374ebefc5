"""Values keyed on frames, that begin from nothing at a reference frame."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

NOWHERE = -(10 ** 9)
"""A reference frame for curves that have none."""


@dataclass(frozen=True)
class Key:
    """A value (x, y) on a frame.

    Attributes
    ----------
    slopes : change per frame when coming to the key and when leaving it; None where they follow from the neighbouring keys.
    """

    value: tuple[float, float]
    slopes: tuple[tuple[float, float], tuple[float, float]] | None = None


class Curve:
    """The values between keys.

    Parameters
    ----------
    keys : frame to key. One on the reference frame counts for its slopes only; its value is nothing.
    reference : the frame on which the value is always nothing.
    smooth : a monotone cubic between keys (F. Fritsch and R. Carlson, Monotone piecewise cubic interpolation, 1980) rather than straight lines.
    fade : towards the reference frame the value fades to nothing; otherwise the nearest key's holds as far as the reference frame, and the keys
        on its two sides have nothing to do with each other.
    """

    def __init__(self, keys: Mapping[int, Key], reference: int, smooth: bool = True, fade: bool = True) -> None:
        self.reference, self.smooth = reference, smooth
        own = {f: k for f, k in keys.items() if f != reference}
        self._sides: tuple[Curve, Curve] | None = None
        if not fade and own and min(own) < reference:
            before, after = ({f: k for f, k in own.items() if (f < reference) == first} for first in (True, False))
            # each by itself, as if it began at a frame that no time reaches
            self._sides = Curve(before, NOWHERE, smooth, False), Curve(after, NOWHERE, smooth, False)
        self._holds_from = reference if not fade else -np.inf
        nodes = dict(own)
        if own and fade:
            nodes[reference] = Key((0.0, 0.0), keys[reference].slopes if reference in keys else None)
        self.frames = np.array(sorted(nodes), float)
        self._values = np.array([nodes[int(f)].value for f in self.frames], float).reshape(-1, 2)
        given = [nodes[int(f)].slopes for f in self.frames]
        self._in, self._out = self._slopes(given)

    def __call__(self, time: float) -> np.ndarray:
        """The value (2,) at a time."""
        return self._at(time)[0]

    def slopes(self, time: float) -> tuple[np.ndarray, np.ndarray]:
        """The change per frame (2,) when coming to a time and when leaving it."""
        if self._sides is not None:
            return self._sides[int(time > self.reference)].slopes(time)
        hits = np.flatnonzero(self.frames == time)
        if len(hits):
            k = int(hits[0])
            return self._in[k], self._out[k]
        slope = self._at(time)[1]
        return slope, slope

    # -- inside ---------------------------------------------------------------------------------------------------

    def _slopes(self, given: list) -> tuple[np.ndarray, np.ndarray]:
        count = len(self.frames)
        if count < 2:
            return np.zeros((count, 2)), np.zeros((count, 2))
        if not self.smooth:
            secants = np.diff(self._values, axis=0) / np.diff(self.frames)[:, None]
            return np.vstack([np.zeros((1, 2)), secants]), np.vstack([secants, np.zeros((1, 2))])
        auto = monotone_slopes(self.frames, self._values)
        incoming, outgoing = auto.copy(), auto.copy()
        incoming[0] = outgoing[-1] = 0  # beyond the ends the value holds
        for k, slopes in enumerate(given):
            if slopes is not None:
                incoming[k], outgoing[k] = slopes
        return incoming, outgoing

    def _at(self, time: float) -> tuple[np.ndarray, np.ndarray]:
        nothing = np.zeros(2)
        if self._sides is not None and time != self.reference:
            return self._sides[int(time > self.reference)]._at(time)
        if not len(self.frames) or time == self.reference or time < self._holds_from:
            return nothing, nothing
        if time <= self.frames[0]:
            return self._values[0], nothing
        if time >= self.frames[-1]:
            return self._values[-1], nothing
        k = int(np.searchsorted(self.frames, time, side="right")) - 1
        return hermite(float(self.frames[k]), float(self.frames[k + 1]), self._values[k], self._values[k + 1], self._out[k], self._in[k + 1], time)


def monotone_slopes(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """Slopes (n, c) at knots x (n,), n >= 2, of the piecewise cubic through y (n, c) that overshoots nowhere.

    Inside: the weighted harmonic mean of the neighbouring secants, none where they differ in sign (F. Fritsch and J. Butland, A method for
    constructing local monotone piecewise cubic interpolants, 1984). At the ends: the three-point formula, held to the secant's sign and to three
    times it (D. Kahaner, C. Moler and S. Nash, Numerical Methods and Software, 1989, section 4.11).
    """
    step = np.diff(x)[:, None]
    secant = np.diff(y, axis=0) / step
    if len(x) == 2:
        return np.repeat(secant, 2, axis=0)
    h0, h1, d0, d1 = step[:-1], step[1:], secant[:-1], secant[1:]
    w0, w1 = 2 * h1 + h0, h1 + 2 * h0
    with np.errstate(divide="ignore", invalid="ignore"):
        inner = np.where(d0 * d1 > 0, (w0 + w1) / (w0 / d0 + w1 / d1), 0.0)
    return np.vstack([_end_slope(step[0], step[1], secant[0], secant[1]), inner, _end_slope(step[-1], step[-2], secant[-1], secant[-2])])


def _end_slope(h0: np.ndarray, h1: np.ndarray, d0: np.ndarray, d1: np.ndarray) -> np.ndarray:
    slope = ((2 * h0 + h1) * d0 - h0 * d1) / (h0 + h1)
    slope = np.where(np.sign(slope) != np.sign(d0), 0.0, slope)
    return np.where((np.sign(d0) != np.sign(d1)) & (np.abs(slope) > 3 * np.abs(d0)), 3 * d0, slope)


def hermite(a: float, b: float, value_a: np.ndarray, value_b: np.ndarray, slope_a: np.ndarray, slope_b: np.ndarray,
            time: float) -> tuple[np.ndarray, np.ndarray]:
    """Value and slope (c,) at `time` of the cubic with these values and slopes (c,) at a and b (G. Farin, Curves and Surfaces for CAGD, 5th ed.,
    2002, section 7.5)."""
    h = b - a
    t = (time - a) / h
    rise = value_b - value_a
    c2, c3 = 3 * rise - h * (2 * slope_a + slope_b), h * (slope_a + slope_b) - 2 * rise
    return value_a + t * (h * slope_a + t * (c2 + t * c3)), slope_a + t * (2 * c2 + 3 * t * c3) / h


def with_key(keys: Mapping[int, Key], reference: int, frame: int, smooth: bool = True, fade: bool = True) -> dict[int, Key]:
    """The keys with one more on `frame`, which changes the value nowhere: every key keeps the slopes that it has now."""
    if frame in keys or frame == reference:
        return dict(keys)
    curve = Curve(keys, reference, smooth, fade)

    def pair(time: float) -> tuple[tuple[float, float], tuple[float, float]]:
        a, b = curve.slopes(time)
        return (float(a[0]), float(a[1])), (float(b[0]), float(b[1]))

    out = {f: Key(k.value, pair(f)) for f, k in keys.items() if f != reference}
    if reference in curve.frames:
        out[reference] = Key((0.0, 0.0), pair(reference))
    x, y = curve(frame)
    out[frame] = Key((float(x), float(y)), pair(frame))
    return out


def with_value(keys: Mapping[int, Key], reference: int, frame: int, value: np.ndarray, smooth: bool = True, fade: bool = True) -> dict[int, Key]:
    """The keys with the one on `frame` set to `value` (2,); its slopes and its neighbours' follow from the keys again."""
    out = with_key(keys, reference, frame, smooth, fade)
    order = sorted({*out, reference})
    at = order.index(frame)
    for near in order[max(0, at - 1):at + 2]:
        if near in out:
            out[near] = Key(out[near].value, None)
    out[frame] = Key((float(value[0]), float(value[1])), None)
    if out.get(reference) is not None and out[reference].slopes is None:
        del out[reference]
    return out


def without_key(keys: Mapping[int, Key], reference: int, frame: int) -> dict[int, Key]:
    """The keys less the one on `frame`; all slopes follow from the keys that are left."""
    return {f: Key(k.value) for f, k in keys.items() if f not in (frame, reference)}
