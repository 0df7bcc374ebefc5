"""How far a pointed part of a figure reaches while the shutter smears it, which its sides do not say: by what figure and background explain.

A tip is tried longer, shorter and aside, and stays where least is left unexplained (R. Hooke and T. Jeeves, Direct search solution of numerical and
statistical problems, 1961: pattern search). Gauss-Newton steps do not get there, since what a longer tip would cover is not what it covers now.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from wertis.core.matte.exposure import Exposure, Texture
from wertis.core.matte.outline import outwards
from wertis.core.matte.tip_cost import TAPER, TipCost, TipKnots

REACH = 15.0  # pixels by which a tip may be longer or shorter than it is taken to be
_POINTED = np.deg2rad(100.0)  # angle between its sides below which a corner is a tip
_SIDE = 12.0  # pixels along the sides, by which that angle is taken
_SCAN = 3.0  # pixels between the lengths that are tried first
_STRAIGHTENED = 0.2  # of the way towards straight sides, that goes with a step of a pixel
_ASIDE = 6.0  # pixels round the shortest and the longest tip, in which what is left counts
_FINEST = 0.25  # pixels of the last step of the search
_APART = 2.0  # pixels to both sides by which it is judged how sure a place is
_LEAST_OFF = 0.5  # pixels, deviation of a tip's place at least
_LENGTH_DEVIATION = 10.0  # pixels by which a tip may be longer or shorter, standard deviation: its sides say little of that


@dataclass(frozen=True)
class TipDisplacement:
    """Where a tip is found.

    Attributes
    ----------
    displacements : (n, 2) pixels, of all places along the outline.
    axes : (2, 2) unit vectors, along the tip and across.
    deviations : (2,) standard deviations of its place along those, in pixels.
    texture : the figure's, with the colours of what the tip covers and no exposure has shown.
    """

    displacements: np.ndarray
    axes: np.ndarray
    deviations: np.ndarray
    texture: Texture


def tip_displacement(exposure: Exposure, texture: Texture, places: np.ndarray, corner: int, spread: float, reach: float,
                     scale: float = 1.0) -> TipDisplacement | None:
    """The displacement of a pointed corner that explains an exposure best; None where it is not pointed, or its pixels are not known.

    Parameters
    ----------
    places : (n, 2) a closed polygon in the box's picture, in the middle of the exposure.
    corner : number of the place.
    spread : pixels by which the outline is expected to be off across itself, standard deviation.
    reach : pixels by which the tip may be longer or shorter.
    scale : pixels here to a pixel of the plate.
    """
    axes, fields = _displacement_fields(places, corner, scale)
    if fields is None:
        return None
    chain = _moving_chain(fields[0], corner)
    knots = TipKnots(exposure, texture, places[chain], places[corner], axes[0], reach, scale)
    cost = TipCost(exposure, texture, knots, places, chain, reach * fields[0], int(np.ceil(_ASIDE * scale)))
    if not len(cost.pixels):
        return None
    prior_deviations = np.array([_LENGTH_DEVIATION * scale, spread, 1.0])

    def total(at: np.ndarray) -> float:
        return cost(np.tensordot(at, fields, 1)) + 0.5 * float(((at / prior_deviations) ** 2).sum())

    best, least = _pattern_search(total, reach, scale)
    if cost.concave and abs(best[0]) > reach - _SCAN * scale / 2:  # no least was found between figure and background, which both are known there
        return None
    apart = _APART * scale
    curvatures = np.array([total(best + apart * axis) + total(best - apart * axis) - 2 * least for axis in np.eye(3)[:2]]) / apart ** 2
    displacements = np.tensordot(best, fields, 1)
    deviations = np.maximum(1 / np.sqrt(np.maximum(curvatures, 1e-6)), _LEAST_OFF * scale)
    return TipDisplacement(displacements, axes, deviations, cost.coloured(displacements))


def _displacement_fields(places: np.ndarray, corner: int, scale: float) -> tuple[np.ndarray, np.ndarray | None]:
    """Unit vectors along a tip and across it (2, 2); and three displacement fields (3, n, 2) of the outline's places, by which the tip goes a pixel along
    its axis, a pixel across, and its sides become straight.

    Places go with the tip, the less the farther they are from it. None in place of the fields where the corner is not pointed.
    """
    order = (corner + np.arange(len(places))) % len(places)
    steps = np.linalg.norm(np.roll(places, -1, 0) - places, axis=1)[order]
    onwards = np.concatenate([[0.0], np.cumsum(steps)[:-1]])  # how far places lie along the outline from the corner, one way and the other
    backwards = np.where(onwards > 0, steps.sum() - onwards, 0)
    sides = np.array([places[order[int(np.argmin(np.abs(away - _SIDE * scale)))]] for away in (onwards, backwards)]) - places[corner]
    units = sides / np.maximum(np.linalg.norm(sides, axis=1, keepdims=True), 1e-9)
    if np.arccos(np.clip(units[0] @ units[1], -1, 1)) > _POINTED:
        return np.eye(2), None
    along = -units.sum(0) / np.linalg.norm(units.sum(0))
    axes = np.array([along, [-along[1], along[0]]])
    weights = np.empty(len(places))
    weights[order] = np.clip(1 - np.minimum(onwards, backwards) / (TAPER * scale), 0, 1)
    fields = np.zeros((3, len(places), 2))
    fields[:2] = weights[:, None] * axes[:, None]
    for away in (onwards, backwards):
        side = order[(away > 0) & (away <= steps.sum() / 2) & (weights[order] > 0)]
        base = places[order[int(np.argmin(np.abs(away - TAPER * scale)))]]
        fields[2, side] = base + weights[side, None] * (places[corner] - base) - places[side]
    return axes, fields


def _moving_chain(field: np.ndarray, corner: int) -> np.ndarray:
    """(k,) numbers of the places round a corner that a displacement field (n, 2) moves, with the first to both sides that stay."""
    n = len(field)
    moving = np.append(np.roll(field.any(1), -corner), False)
    after, before = int(np.argmin(moving)), int(np.argmin(np.append(moving[:1], moving[-2:0:-1])))
    return np.asarray((corner + np.arange(-min(before, n // 2 - 1), min(after, n // 2 - 1) + 1)) % n)


def _pattern_search(total: Callable[[np.ndarray], float], reach: float, scale: float) -> tuple[np.ndarray, float]:
    """The coefficients (3,) of the fields of `_displacement_fields` with which a function is least, and how much it is with them."""
    tried: dict[tuple[float, ...], float] = {}  # on its way the search comes back to where it was

    def value_at(at: np.ndarray) -> float:
        key = tuple(np.round(at, 6).tolist())
        if key not in tried:
            tried[key] = total(at)
        return tried[key]

    lengths = np.arange(-reach, reach + 1e-6, _SCAN * scale)
    best = min([np.zeros(3), *(np.array([length, 0, straight]) for length in lengths for straight in (0.0, 1.0))], key=value_at)
    least, step, unit = value_at(best), _SCAN / 2, np.array([scale, scale, _STRAIGHTENED])
    while step >= _FINEST:
        better = min((best + sign * step * unit * axis for axis in np.eye(3) for sign in (1, -1)), key=value_at)
        if (value := value_at(better)) < least and abs(better[0]) <= reach:
            best, least = better, value
        else:
            step /= 2
    return best, least


def offsets_across(places: np.ndarray, normals: np.ndarray, outline: np.ndarray, reach: float) -> np.ndarray:
    """(n,) how far along unit normals (n, 2) a closed polygon (m, 2) that faces the same way lies from places (n, 2), the nearest.

    Nan where none does within `reach` pixels to both sides: what is met farther on is another part of the figure.
    """
    along = np.roll(outline, -1, 0) - outline
    facing = normals @ (outwards(outline) + np.roll(outwards(outline), -1, 0)).T > 0
    from_place = outline[None] - places[:, None]
    cross = normals[:, None, 0] * along[None, :, 1] - normals[:, None, 1] * along[None, :, 0]
    cross = np.where(np.abs(cross) > 1e-9, cross, np.nan)
    distance = (from_place[..., 0] * along[None, :, 1] - from_place[..., 1] * along[None, :, 0]) / cross
    part = (from_place[..., 0] * normals[:, None, 1] - from_place[..., 1] * normals[:, None, 0]) / cross
    distance = np.where(facing & (part >= 0) & (part <= 1) & (np.abs(distance) <= reach), distance, np.nan)
    nearest = np.argmin(np.where(np.isnan(distance), np.inf, np.abs(distance)), axis=1)
    return np.asarray(distance[np.arange(len(places)), nearest])
