"""Where the edge of a figure is in a picture, along an outline that lies near it.

Across the outline two questions are asked. Does the picture look there as the figure does on frames on which its outline is known, followed to this
frame, or as what lies behind it (see `matte.edge_evidence`)? And does it change across? The answers along the outline are joined by dynamic programming,
so that neighbours lie near each other (A. Amini, T. Weymouth and R. Jain, Using dynamic programming for solving variational problems in vision, 1990).
The place within the pixel is that which divides the colours across the edge between the figure's and those beyond (A. Levin, D. Lischinski and Y. Weiss,
A closed-form solution to natural image matting, 2008: the mixture), along the direction in which the two differ most beside how much each varies
(R. Fisher, The use of multiple measurements in taxonomic problems, 1936).
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import cv2
import numpy as np

from wertis.core.geometry.conventions import to_centred
from wertis.core.matte.coverage import box_round, polygon_area
from wertis.core.matte.edge_evidence import Side, costs
from wertis.core.matte.outline import outwards

_STEP = 0.5  # pixels between the places across the outline
_BEYOND = 6.0  # pixels across the outline that are looked at beyond the reach, to know both sides
_SPACING = 4.0  # pixels between the places along the outline
_SURELY_INSIDE = 0.995  # alpha of a known frame from which a pixel is the figure's
_FORBIDDEN = 4.0  # cost of a place at which the edge cannot be, per place across
_LEAST_DIFFERENCE = 2.0  # on a scale of 0..255, of a colour from what is expected, that is always reckoned with
_CHANGE = 6.0  # weight of a change across, beside that of the places that differ
_BEND = 0.35  # weight of the square of the difference between neighbours, in half pixels
_AT_CORNER = 0.1  # of that weight, beside a corner
_NEAR = 0.02  # weight of the square of the distance from the outline, in half pixels, per pixel of reach
_WINDOW = 3.5  # pixels to both sides of the edge whose mixture is looked at, beside half of what the shutter smears
_LEAST_CONTRAST = 12.0  # on a scale of 0..255, between the two sides, from which the edge can be told
_SURE = 2.5  # by how much a place a few pixels away must be worse for an edge to count as told
_AWAY = 2.5  # pixels; those
_BY_COLOURS = 4.0  # times less sure where colours round about alone tell it: more places are told then, but not as exactly
_ONWARDS = 0.5  # for each place on the way, by how much the farthest must be better than the outline for the edge to lie beyond
_SMEARED = 6.0  # pixels across the outline over which the shutter may smear the edge for it to count as told
_OFF, _BY_SMEAR = 0.5, 0.15  # pixels: deviation of one place along the edge, whose error its neighbours share; and per pixel that the shutter smears
_AT_TIP = 4.0  # times less sure next to a corner, where there is no one way across
_MOST_SMEARED = 10.0  # the same, for it to be followed: found to 0.2 to 0.8 px (rms) there, and no better than between keys beyond

Sampler = Callable[[np.ndarray], np.ndarray]


@dataclass(frozen=True)
class KnownFrame:
    """A frame on which the figure's outline is known.

    Attributes
    ----------
    picture : (h, w, 3) float32, 0..255.
    alpha : (h, w) float32, 1 on the figure.
    onto : takes points (n, 2) of the frame at hand to this one's picture.
    """

    picture: np.ndarray
    alpha: np.ndarray
    onto: Sampler


@dataclass(frozen=True)
class KnownBackground:
    """What would be seen without the figure, in a box of the frame at hand.

    Attributes
    ----------
    picture : (h, w, 3) float32, 0..255.
    known : (h, w) bool, where that is known.
    corner : (2,) x, y of the box's top left corner, at its own scale.
    scale : pixels of the box to one of the frame's picture.
    """

    picture: np.ndarray
    known: np.ndarray
    corner: np.ndarray
    scale: float = 1.0


@dataclass(frozen=True)
class Edge:
    """What was found along an outline.

    Attributes
    ----------
    places : (n, 2) on the outline, evenly spread.
    along : (n,) where along the outline those are; see `outline.flattened`.
    normals : (n, 2) outwards.
    offsets : (n,) pixels from the outline to the edge, outwards positive.
    reliable : (n,) whether the edge could be told there.
    usable : (n,) whether an outline is better moved there than left: where it is reliable, and where the shutter smears it too far to be told to some
        tenths of a pixel, but not too far to be found.
    smeared : (n,) pixels across the outline over which the shutter smears it.
    deviations : (n,) standard deviations of the offsets, in pixels, with what neighbours share.
    beyond : (n,) whether the edge lies farther away than was looked; the offset is how far that was.
    """

    places: np.ndarray
    along: np.ndarray
    normals: np.ndarray
    offsets: np.ndarray
    reliable: np.ndarray
    usable: np.ndarray
    smeared: np.ndarray
    deviations: np.ndarray
    beyond: np.ndarray


def evenly_resampled(polygon: np.ndarray, at: np.ndarray, count: int, spacing: float = _SPACING) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Places (n, 2) about `spacing` pixels apart on a closed polygon (M, 2), where along its `count` curves they are (n,), and normals (n, 2) outwards."""
    ends = np.roll(polygon, -1, 0)
    length = np.linalg.norm(ends - polygon, axis=1)
    total = np.concatenate([[0.0], np.cumsum(length)])
    n = max(8, int(total[-1] / spacing))
    s = total[-1] * np.arange(n) / n
    k = np.clip(np.searchsorted(total, s, side="right") - 1, 0, len(polygon) - 1)
    part = (s - total[k]) / np.maximum(length[k], 1e-12)
    places = polygon[k] + part[:, None] * (ends - polygon)[k]
    following = np.append(at[1:], count)
    along = at[k] + part * (following[k] - at[k])
    return places, along, outwards(places)


def with_corners(places: np.ndarray, along: np.ndarray, points: np.ndarray, corners: Sequence[int]) -> tuple[np.ndarray, np.ndarray, list[int]]:
    """Places (n, 2) along an outline and where along it they are (n,), with the nearest moved onto each of its corners; and the numbers of those.

    Parameters
    ----------
    points : (N, 2) of the outline; `corners` are numbers of them.
    """
    places, along, numbers = places.copy(), along.copy(), []
    for corner in corners:
        away = np.abs(along - corner)
        k = int(np.argmin(np.minimum(away, len(points) - away)))
        places[k], along[k] = points[corner], corner
        numbers.append(k)
    return places, along, numbers


def found_edge(picture: np.ndarray, polygon: np.ndarray, at: np.ndarray, count: int, known: Sequence[KnownFrame], reach: float = 8.0,
               moved: np.ndarray | None = None, corners: Sequence[int] = (), background: KnownBackground | None = None) -> Edge:
    """The edge near a closed polygon (M, 2).

    Parameters
    ----------
    picture : (h, w, 3) float32, 0..255.
    corners : numbers of the outline's points that are corners, at which neighbours may differ.
    at, count : where along the outline's curves the polygon's vertices are, and how many curves there are; see `outline.flattened`.
    known : frames on which the figure is known; by the change across the outline alone where there is none.
    reach : pixels to both sides in which the edge is looked for.
    background : what lies behind the figure, where that is known; with it, colours on both sides are looked at as well.
    moved : (M, 2) by how much the polygon's vertices move while the shutter is open; where that is far across the outline, no edge can be told.
    """
    places, along, normals = evenly_resampled(polygon, at, count)
    index = np.clip(np.searchsorted(at, along, side="right") - 1, 0, len(at) - 1)
    smeared = np.abs(np.einsum("ni,ni->n", moved[index], normals)) if moved is not None else np.zeros(len(places))
    half = np.minimum(smeared, _MOST_SMEARED) / 2  # what the shutter adds to each side of the edge
    most = reach + _BEYOND + float(np.ceil(half.max()))
    across = np.arange(-most, most + _STEP / 2, _STEP)
    points = places[:, None] + across[None, :, None] * normals[:, None]
    h, w = picture.shape[:2]
    inside = ((points > 0) & (points < [w, h])).all(-1)
    seen = _read(picture, points)
    figure, told = _figure_at(known, points, seen, inside)
    behind, known_behind = _background_at(background, points)
    thickness = _thickness(polygon, points, across, (w, h))
    own_side = across[None] >= -thickness[:, None] / 2  # beyond the middle of a thin part its other edge would be met
    covered = _covered(polygon, points, (w, h))
    figure_side = Side(figure, told, (across < -reach / 2)[None], inside & own_side & covered & (across <= -reach)[None])
    background_side = Side(behind, known_behind, (across > reach / 2)[None], inside & ~covered & (across >= reach)[None])
    change = _change(seen)
    candidates = np.flatnonzero(np.abs(across) <= reach + 1e-6)

    def unary_of(cost: np.ndarray) -> np.ndarray:
        """(n, candidates) the cost of an edge at places, by how much more like the background than like the figure each is."""
        summed = np.cumsum(np.where(own_side, cost, 0), axis=1)[:, candidates]
        out = summed - summed.min(1, keepdims=True) - _CHANGE * change[:, candidates]
        out = np.where(own_side[:, candidates], out, out.max() + _FORBIDDEN * len(across))
        return np.asarray(out + _NEAR / max(reach, 1) * (across[candidates] / _STEP) ** 2)

    told_by, by_colours = costs(seen, across, figure_side, background_side, background is not None)
    sure, unary = unary_of(told_by), unary_of(by_colours)
    best = _closed_path(unary, _stiffness(along, count, corners))
    rough = across[candidates][best]
    offsets, contrast = _divided(seen, figure_side, background_side, across, rough, _WINDOW + half)
    found = (contrast > _LEAST_CONTRAST) & (np.abs(rough) < reach - _STEP) & inside.all(1) & (smeared < _MOST_SMEARED)
    followed = found & (_margin(sure, best, _AWAY + half) > _SURE)
    usable = followed | (found & (_margin(unary, best, _AWAY + half) > _SURE))
    reliable = followed & (_margin(sure, best, np.full(len(best), _AWAY)) > _SURE) & (smeared < _SMEARED)
    deviations = np.hypot(_OFF, _BY_SMEAR * smeared)
    beside = np.abs(along[:, None] - np.array(corners)[None])
    deviations[(np.minimum(beside, count - beside) < 1).any(1)] *= _AT_TIP
    deviations[usable & ~followed] *= _BY_COLOURS
    better = unary[:, len(candidates) // 2] - unary[np.arange(len(best)), best]
    beyond = ~usable & (np.abs(rough) >= reach - _STEP) & inside.all(1) & (better > _ONWARDS * np.abs(rough) / _STEP) & (smeared < _MOST_SMEARED)
    return Edge(places, along, normals, np.where(usable, offsets, rough), reliable, usable, smeared, deviations, beyond)


def _figure_at(known: Sequence[KnownFrame], points: np.ndarray, seen: np.ndarray, inside: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(n, S, 3) what the figure would show at points, by the known frame that is most like what is seen, and (n, S) bool, where one shows it."""
    difference, told, figure = np.full(inside.shape, np.inf, np.float32), np.zeros(inside.shape, bool), np.zeros_like(seen)
    for frame in known:
        there = frame.onto(points.reshape(-1, 2)).reshape(points.shape)
        sound = np.isfinite(there).all(-1) & inside
        there = np.where(sound[..., None], there, 0)
        own = _read(frame.picture, there)
        shown = sound & (_read(frame.alpha, there) > _SURELY_INSIDE)
        away = np.sqrt(np.mean((own - seen) ** 2, axis=-1))
        better = shown & (away < difference)
        difference[better], figure[better] = away[better], own[better]
        told |= shown
    return figure, told


def _background_at(background: KnownBackground | None, points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(n, S, 3) the background at points, and (n, S) bool, where it is known."""
    if background is None:
        return np.zeros((*points.shape[:2], 3), np.float32), np.zeros(points.shape[:2], bool)
    there = points * background.scale - background.corner
    h, w = background.known.shape
    known = (_read(background.known.astype(np.float32), there) > _SURELY_INSIDE) & ((there > 0) & (there < [w, h])).all(-1)
    return _read(background.picture, there), known


def _covered(polygon: np.ndarray, points: np.ndarray, size: tuple[int, int]) -> np.ndarray:
    """(n, S) bool, whether points lie in a polygon (M, 2), or touch it."""
    box = box_round(polygon, 2, size)
    if box is None:
        return np.zeros(points.shape[:2], bool)
    return (_read(polygon_area(polygon, box), points - box[:2]) > 0.01) & ((points > box[:2]) & (points < box[2:])).all(-1)


def _read(picture: np.ndarray, points: np.ndarray) -> np.ndarray:
    at = to_centred(points).astype(np.float32)
    return np.asarray(cv2.remap(picture, at[..., 0], at[..., 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE))


def _thickness(polygon: np.ndarray, points: np.ndarray, across: np.ndarray, size: tuple[int, int]) -> np.ndarray:
    """(n,) how far inwards from each place the outline reaches before it is left again; what is looked at where it is not."""
    box = box_round(polygon, 2, size)
    if box is None:
        return np.full(len(points), -2 * across[0])
    x0, y0, _, _ = box
    inner = np.flatnonzero(across < -1.0)[::-1]  # from the outline inwards
    at = to_centred(points[:, inner] - [x0, y0]).astype(np.float32)
    there = cv2.remap(polygon_area(polygon, box), at[..., 0], at[..., 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT, borderValue=0.0) < 0.5
    left = there.any(1)
    return np.asarray(np.where(left, -across[inner][there.argmax(1)], -2 * across[0]))


def _change(seen: np.ndarray) -> np.ndarray:
    """(n, S) 0..1, how much colours (n, S, 3) change across each place, beside the most in its row."""
    reach = max(1, round(1.5 / _STEP))
    padded = np.pad(seen, ((0, 0), (reach, reach), (0, 0)), mode="edge")
    size = np.linalg.norm(padded[:, 2 * reach:] - padded[:, :-2 * reach], axis=-1)
    return np.asarray(size / np.maximum(size.max(1, keepdims=True), _LEAST_CONTRAST))


def _stiffness(along: np.ndarray, count: int, corners: Sequence[int]) -> np.ndarray:
    """(n,) weight of the difference between each place and the next; little next to a corner, whose tip may go its own way."""
    weight = np.full(len(along), _BEND)
    for corner in corners:
        k = int(np.searchsorted(along, corner)) % len(along)
        weight[[k - 2, k - 1, k, (k + 1) % len(along)]] *= _AT_CORNER
    return weight


def _closed_path(unary: np.ndarray, stiffness: np.ndarray) -> np.ndarray:
    """(n,) the state of each of n places on a closed line, of least cost (n, S) with the squares of the differences between neighbours, which
    weigh by `stiffness` (n,) (Viterbi).

    The line is gone round one and a half times, so that its ends fit each other.
    """
    n, states = unary.shape
    order = np.concatenate([np.arange(n // 2, n), np.arange(n), np.arange(n // 2)])
    step = (np.arange(states)[:, None] - np.arange(states)[None]) ** 2
    total = unary[order[0]].copy()
    back = np.zeros((len(order), states), np.int32)
    for k, place in enumerate(order[1:], 1):
        through = total[None] + stiffness[order[k - 1]] * step
        back[k] = through.argmin(1)
        total = through[np.arange(states), back[k]] + unary[place]
    path = np.zeros(len(order), int)
    path[-1] = int(total.argmin())
    for k in range(len(order) - 1, 0, -1):
        path[k - 1] = back[k, path[k]]
    begin = len(np.arange(n // 2, n))
    return path[begin:begin + n]


def _margin(unary: np.ndarray, best: np.ndarray, away: np.ndarray) -> np.ndarray:
    """(n,) by how much places that are `away` (n,) pixels or more from the best are worse."""
    states = np.arange(unary.shape[1])
    far = np.abs(states[None] - best[:, None]) * _STEP >= away[:, None]
    here = unary[np.arange(len(best)), best]
    return np.asarray(np.where(far, unary, np.inf).min(1) - here)


def _divided(seen: np.ndarray, figure: Side, background: Side, across: np.ndarray, rough: np.ndarray,
             width: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(n,) the places of edges near `rough` (n,) that divide the mixture of colours across them, and (n,) the contrast between the two sides.

    Parameters
    ----------
    width : (n,) pixels to both sides of each edge over which the mixture is looked at.
    """
    offset, wide = across[None] - rough[:, None], width[:, None]
    window = np.abs(offset) <= wide

    def mean_of(mask: np.ndarray) -> np.ndarray:
        return np.asarray((seen * mask[..., None]).sum(1) / np.maximum(mask.sum(1), 1)[:, None])

    within, beyond = mean_of((offset < -wide + 1) & (offset > -wide - 1.5)), mean_of((offset > wide - 1) & (offset < wide + 1.5))
    outermost = np.where(figure.known & (offset <= 0) & (offset >= -wide), np.arange(len(across)), -1).max(1)
    within = np.where(outermost[:, None] >= 0, figure.colours[np.arange(len(rough)), outermost], within)
    own = np.where(figure.known[..., None], figure.colours, within[:, None])
    behind = np.where(background.known[..., None], background.colours, beyond[:, None])
    apart = own - behind
    precision = np.linalg.inv(_spread(seen, figure, background, offset < -wide, (offset > wide) & (offset < wide + _BEYOND)))
    along = apart @ precision  # the direction in which the two sides differ most beside how much each varies
    alpha = np.clip(((seen - behind) * along).sum(-1) / np.maximum((apart * along).sum(-1), 1e-6), 0, 1)
    size = (apart ** 2).sum(-1)
    place = rough - width - _STEP / 2 + (alpha * window).sum(1) * _STEP
    count = window.sum(1) * _STEP
    return place + (2 * width + _STEP - count) / 2, np.sqrt((size * window).sum(1) / window.sum(1) / 3)


def _spread(seen: np.ndarray, figure: Side, background: Side, inner: np.ndarray, outer: np.ndarray) -> np.ndarray:
    """(3, 3) covariance of colours about what is expected of them: of each side about how it is known, or of what is beyond about its mean in each row."""
    rows = np.maximum(outer.sum(1), 1)[:, None]
    mean = ((seen * outer[..., None]).sum(1) / rows)[:, None]
    about = seen - np.where(background.known[..., None], background.colours, mean)
    parts = [about[outer], (seen - figure.colours)[inner & figure.known]]
    total = sum((p.T @ p for p in parts), np.zeros((3, 3)))
    return np.asarray(total / max(sum(map(len, parts)), 1) + np.eye(3) * _LEAST_DIFFERENCE ** 2)
