"""Blur by the surface's own motion while the shutter is open, taken out of the comparison with the reference frame.

Where a hand shakes the camera, reference and frame are blurred along paths of different shape, and the middle of an edge moves with its blur. The
motion before and after a frame says what that path was, but for the shutter, which is measured. The comparison is then of the reference blurred like
the frame with the frame blurred like the reference: both have the same blur, so none has to be undone.

Known ground: H. Jin, P. Favaro and R. Cipolla, Visual tracking in the presence of motion blur, CVPR 2005 (both pictures blurred with each other's
motion, none deblurred); G. Golub and V. Pereyra, The differentiation of pseudo-inverses and nonlinear least squares problems whose variables
separate, 1973 (light and motion projected out of the shutter's fit).
"""

from dataclasses import dataclass

import numpy as np

from wertis.core.track.align import at_taps, averaged
from wertis.core.track.reference import Reference, TileSet, described, without_light

TAPS = 5  # pictures summed in place of the open shutter
LEVEL = 1  # the shutter is measured at half the resolution
MEASURED_TILES = 40
_STARTS = (0.3, 0.7)  # shutters, as parts of a frame, from which the measurement begins
_AGAINST_SWAPPED, _AGAINST_BOTH = 0.4, 1.05  # parts to which the misfit must fall, against other ways to put the blurs on, to be believed
_HOPELESS = 0.6  # the first of them, before the best shutter is found, on the first few samples
_FEW = 4
_ROUNDS = 5


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
    times = _times(shutter)
    offsets = np.where((times < 0)[:, None, None], -times[:, None, None] * before, times[:, None, None] * after)
    return np.asarray(offsets - offsets.mean(0))


def leg_offsets(change: np.ndarray, shutter: float) -> np.ndarray:
    """(J, 1, 2) by how much a path's offsets change with its legs (before x, y, after x, y)."""
    return taps(Leg(change[None, :2], change[None, 2:]), shutter)


def _times(shutter: float) -> np.ndarray:
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


def blurred_tiles(reference: Reference, tiles: TileSet, chosen: np.ndarray, offsets: np.ndarray, shutter: float = 0.0) -> TileSet:
    """The chosen tiles (n) of the reference blurred along a path `offsets` (J, n, 2) in reference pixels.

    With a `shutter`, the tiles have `joint` columns: `steer`, and the change of luma by the legs (before x, y, after x, y) of the path.
    """
    x, y = tiles.x[chosen], tiles.y[chosen]
    image = reference.pyramid[tiles.level]
    shrink = 2.0 ** tiles.level
    places = np.stack([x, y], axis=-1)
    luma = averaged(image, np.eye(3), places, offsets, shrink)
    slopes = [at_taps(plane, np.eye(3), places, offsets, shrink) for plane in reference.slopes(tiles.level)]
    slope_x, slope_y = (s.mean(0) for s in slopes)
    basis, steer, energy = described(reference, tiles.level, x, y, tiles.basis[chosen, :3], tiles.inside[chosen], luma, slope_x, slope_y)
    inside = tiles.inside[chosen]
    joint = None
    if shutter:
        times = _times(shutter)
        sides = [np.maximum(-times, 0), np.maximum(times, 0)]
        columns = [np.tensordot(-(side - side.mean()) / TAPS / shrink, s, 1) for side in sides for s in slopes]
        joint = np.concatenate([steer, without_light(np.stack(columns).astype(np.float32) * inside, basis, inside)])
    return TileSet(tiles.level, tiles.tile, x, y, basis, steer, inside, energy, tiles.centre[chosen], tiles.information[chosen],
                   tiles.bucket[chosen], joint)


@dataclass(frozen=True)
class Sample:
    """One frame from which the shutter is measured: its picture at half resolution, its motion (3, 3), tiles chosen (n,), weights and legs."""

    picture: np.ndarray
    matrix: np.ndarray
    chosen: np.ndarray
    weights: np.ndarray
    leg: Leg


@dataclass(frozen=True)
class Shutter:
    """The part of a frame for which the shutter is open, and the reference frame's missing leg (2,), where one had to be found."""

    part: float
    missing: np.ndarray | None = None


def measure(reference: Reference, samples: list[Sample], reference_legs: list[Leg]) -> Shutter | None:
    """The shutter that makes the samples agree best with the reference; None when none makes them agree clearly better.

    Parameters
    ----------
    reference_legs : the reference frame's legs at each sample's chosen tiles. One of the two may be missing, and is then found as well.
    """
    first = reference_legs[0]
    lacking = "before" if first.before is None else "after" if first.after is None else ""
    known = first.after if first.before is None else first.before
    assert known is not None
    mean = known.mean(0)

    def misfit(values: np.ndarray, blurs: str = "crossed", count: int | None = None) -> np.ndarray:
        part = float(np.clip(values[0], 0, 1.5))
        parts = []
        for sample, leg in zip(samples[:count], reference_legs[:count], strict=True):
            own = completed(leg, values[1:], part) if lacking else leg
            frame_taps, reference_taps = taps(sample.leg, part), taps(own, part)
            if blurs == "swapped":
                frame_taps, reference_taps = reference_taps, frame_taps
            if blurs == "both":
                frame_taps = reference_taps = (frame_taps[:, None] + reference_taps[None]).reshape(-1, *frame_taps.shape[1:])
            parts.append(_disagreement(reference, sample, frame_taps, reference_taps))
        return np.concatenate(parts)

    starts = [np.array([s]) for s in _STARTS]
    if lacking:
        starts = [np.array([s, *(share * mean)]) for s in _STARTS for share in (-1.0, 0.0)]
    tried = [(values, misfit(values, count=_FEW)) for values in starts]
    values, rest = min(tried, key=lambda pair: float((pair[1] ** 2).sum()))
    if _share(rest, misfit(values, "swapped", _FEW)) > _HOPELESS:
        return None
    rest = misfit(values)
    steps = np.array([0.03, 0.5, 0.5][:len(values)])
    for _ in range(_ROUNDS):
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
        values, rest = values + move, after
        if abs(move[0]) < 0.005:
            break
    # any blur takes grain away; only the right one agrees better than the same blurs put on the wrong pictures, or both on both
    if not 0.03 < values[0] < 1.3 or _share(rest, misfit(values, "swapped")) > _AGAINST_SWAPPED or _share(rest, misfit(values, "both")) > _AGAINST_BOTH:
        return None
    return Shutter(float(values[0]), values[1:] if lacking else None)


def _share(rest: np.ndarray, other: np.ndarray) -> float:
    return float((rest ** 2).sum() / max((other ** 2).sum(), 1e-12))


def _disagreement(reference: Reference, sample: Sample, frame_taps: np.ndarray, reference_taps: np.ndarray) -> np.ndarray:
    """(N,) what is left between the two blurred pictures when each tile's light and the whole motion have been fitted, over the contrast."""
    tiles = blurred_tiles(reference, reference.tiles(LEVEL), sample.chosen, frame_taps)
    seen = averaged(sample.picture, sample.matrix, np.stack([tiles.x, tiles.y], axis=-1), reference_taps, 2.0 ** LEVEL)
    masked = tiles.basis * sample.weights[:, None]
    gram = masked @ tiles.basis.transpose(0, 2, 1) + 1e-2 * np.eye(4, dtype=np.float32)
    light = np.linalg.solve(gram, masked @ seen[..., None])
    root = np.sqrt(sample.weights)
    rest = ((seen - (light.transpose(0, 2, 1) @ tiles.basis)[:, 0]) * root).ravel()
    columns = (tiles.steer * root).reshape(8, -1)
    normal = (columns @ columns.T).astype(np.float64)
    rest = rest - np.linalg.solve(normal + np.eye(8) * (np.trace(normal) * 1e-6 + 1e-9), columns @ rest) @ columns
    # of both pictures, so that a blur cannot gain by being on one of them; the tiles' own gain is in the second
    power = ((tiles.basis[:, 3] * light[:, 3]) ** 2 + tiles.basis[:, 3] ** 2) / 2
    contrast = float((power * sample.weights).sum())
    return np.asarray(rest / np.sqrt(max(contrast, 1e-9)))
