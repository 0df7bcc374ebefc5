"""Values keyed on frames: straight, smooth or held between their keys.

One kind of keyed value serves everything that has keys: repair points, an extra move, bent sides, hold-out shapes.
"""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

import numpy as np
import scipy

Between = Literal["smooth", "straight", "held"]
"""What happens between two keys: a monotone cubic, a straight line, or the earlier key's value holds."""

Numbers = tuple[float, ...]


@dataclass(frozen=True)
class Key:
    """A value of c numbers on a frame.

    Attributes
    ----------
    slopes : change per frame when coming to the key and when leaving it; None where they follow from the neighbouring keys.
    """

    value: Numbers
    slopes: tuple[Numbers, Numbers] | None = None


class Curve:
    """The values between keys; outside the first and the last key they hold.

    Parameters
    ----------
    keys : frame to key, all of c numbers. One on the reference frame counts for its slopes only; its value is nothing.
    between : see `Between`. The cubic is monotone between keys (F. Fritsch and J. Butland, A method for constructing local monotone piecewise cubic
        interpolants, 1984).
    reference : a frame on which the value is always nothing; None for no such frame.
    fade : towards the reference frame the value fades to nothing; otherwise the nearest key's holds as far as the reference frame, and the keys
        on its two sides have nothing to do with each other.
    size : c, where there are no keys to say.
    """

    def __init__(self, keys: Mapping[int, Key], between: Between = "smooth", reference: int | None = None, fade: bool = True, size: int = 2) -> None:
        self.reference, self.between = reference, between
        own = {f: k for f, k in keys.items() if f != reference}
        self.size = len(next(iter(own.values())).value) if own else size
        self._sides: tuple[Curve, Curve] | None = None
        if reference is not None and not fade and own and min(own) < reference:
            before, after = ({f: k for f, k in own.items() if (f < reference) == first} for first in (True, False))
            self._sides = Curve(before, between, size=self.size), Curve(after, between, size=self.size)
        self._holds_from = reference if reference is not None and not fade else -np.inf
        nodes = dict(own)
        if own and fade and reference is not None:
            nodes[reference] = Key((0.0,) * self.size, keys[reference].slopes if reference in keys else None)
        self.frames = np.array(sorted(nodes), float)
        self._values = np.array([nodes[int(f)].value for f in self.frames], float).reshape(-1, self.size)
        self._in, self._out = self._slopes([nodes[int(f)].slopes for f in self.frames])

    def __call__(self, times: float | np.ndarray) -> np.ndarray:
        """The values (c,) at a time, or (n, c) at times (n,)."""
        t = np.asarray(times, float)
        return self._evaluated(np.atleast_1d(t))[0].reshape(*t.shape, self.size)

    def slopes(self, time: float) -> tuple[np.ndarray, np.ndarray]:
        """The change per frame (c,) when coming to a time and when leaving it."""
        if self._sides is not None:
            assert self.reference is not None
            return self._sides[int(time > self.reference)].slopes(time)
        hits = np.flatnonzero(self.frames == time)
        if len(hits):
            return self._in[hits[0]], self._out[hits[0]]
        slope = self._evaluated(np.array([time], float))[1][0]
        return slope, slope

    # -- inside ---------------------------------------------------------------------------------------------------

    def _slopes(self, given: list) -> tuple[np.ndarray, np.ndarray]:
        count = len(self.frames)
        nothing = np.zeros((count, self.size))
        if count < 2 or self.between == "held":
            return nothing, nothing
        secants = np.diff(self._values, axis=0) / np.diff(self.frames)[:, None]
        if self.between == "straight":
            return np.vstack([nothing[:1], secants]), np.vstack([secants, nothing[:1]])
        auto = monotone_slopes(self.frames, self._values)
        incoming, outgoing = auto.copy(), auto.copy()
        incoming[0] = outgoing[-1] = 0  # beyond the ends the value holds
        for k, slopes in enumerate(given):
            if slopes is not None:
                incoming[k], outgoing[k] = slopes
        return incoming, outgoing

    def _evaluated(self, times: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Values and slopes (n, c) at times (n,)."""
        values, slopes = np.zeros((len(times), self.size)), np.zeros((len(times), self.size))
        if self._sides is not None:
            for side, here in zip(self._sides, (times < self.reference, times > self.reference), strict=True):
                values[here], slopes[here] = side._evaluated(times[here])
            return values, slopes
        if not len(self.frames):
            return values, slopes
        moved = (times != self.reference) & (times >= self._holds_from)
        low, high = times <= self.frames[0], times >= self.frames[-1]
        values[moved & low], values[moved & high] = self._values[0], self._values[-1]
        inner = np.flatnonzero(moved & ~low & ~high)
        if len(inner):
            k = np.searchsorted(self.frames, times[inner], side="right") - 1
            if self.between == "held":
                values[inner] = self._values[k]
            else:
                values[inner], slopes[inner] = hermite(self.frames[k], self.frames[k + 1], self._values[k], self._values[k + 1],
                                                       self._out[k], self._in[k + 1], times[inner])
        return values, slopes


def monotone_slopes(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """Slopes (n, c) at knots x (n,), n >= 2, of the piecewise cubic through y (n, c) that overshoots nowhere: SciPy's PCHIP."""
    if len(x) == 2:
        return np.repeat(np.diff(y, axis=0) / np.diff(x)[:, None], 2, axis=0)

    return np.asarray(scipy.interpolate.PchipInterpolator(x, y, axis=0).derivative()(x))


def hermite(a: np.ndarray, b: np.ndarray, value_a: np.ndarray, value_b: np.ndarray, slope_a: np.ndarray, slope_b: np.ndarray,
            times: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Values and slopes (n, c) at `times` (n,) of the cubics with these values and slopes (n, c) at a and b (n,) (G. Farin, Curves and Surfaces for
    CAGD, 5th ed., 2002, section 7.5)."""
    h = (b - a)[:, None]
    t = (times - a)[:, None] / h
    rise = value_b - value_a
    c2, c3 = 3 * rise - h * (2 * slope_a + slope_b), h * (slope_a + slope_b) - 2 * rise
    return value_a + t * (h * slope_a + t * (c2 + t * c3)), slope_a + t * (2 * c2 + 3 * t * c3) / h


def with_key(keys: Mapping[int, Key], frame: int, between: Between = "smooth", reference: int | None = None, fade: bool = True,
             size: int = 2) -> dict[int, Key]:
    """The keys with one more on `frame`, which changes the value nowhere: every key keeps the slopes that it has now."""
    if frame in keys or frame == reference:
        return dict(keys)
    curve = Curve(keys, between, reference, fade, size)

    def pair(time: float) -> tuple[Numbers, Numbers]:
        a, b = curve.slopes(time)
        return tuple(map(float, a)), tuple(map(float, b))

    out = {f: Key(k.value, pair(f)) for f, k in keys.items() if f != reference}
    if reference is not None and reference in curve.frames:
        out[reference] = Key((0.0,) * curve.size, pair(reference))
    out[frame] = Key(tuple(map(float, curve(frame))), pair(frame))
    return out


def with_value(keys: Mapping[int, Key], frame: int, value: np.ndarray, between: Between = "smooth", reference: int | None = None,
               fade: bool = True) -> dict[int, Key]:
    """The keys with the one on `frame` set to `value` (c,); its slopes and its neighbours' follow from the keys again."""
    out = with_key(keys, frame, between, reference, fade, len(value))
    order = sorted({*out} | ({reference} if reference is not None else set()))
    at = order.index(frame)
    for near in order[max(0, at - 1):at + 2]:
        if near in out:
            out[near] = Key(out[near].value, None)
    out[frame] = Key(tuple(map(float, value)), None)
    if reference is not None and out.get(reference) is not None and out[reference].slopes is None:
        del out[reference]
    return out


def without_key(keys: Mapping[int, Key], frame: int, reference: int | None = None) -> dict[int, Key]:
    """The keys less the one on `frame`; all slopes follow from the keys that are left."""
    return {f: Key(k.value) for f, k in keys.items() if f not in (frame, reference)}


def moved_key(keys: Mapping[int, Key], frame: int, to: int, copy: bool = False, reference: int | None = None) -> dict[int, Key]:
    """The keys with the one on `frame` moved, or copied, to another frame; all slopes follow from the keys again."""
    if frame not in keys or frame == to:
        return dict(keys)
    left = {f: k for f, k in keys.items() if copy or f != frame}
    return {**{f: Key(k.value) for f, k in left.items() if f != reference}, to: Key(keys[frame].value)}
