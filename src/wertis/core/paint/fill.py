"""Filling a hole in a picture from what lies round it.

Every small patch that touches the hole is made like a patch found elsewhere (Y. Wexler, E. Shechtman and M. Irani, Space-time completion of video, 2007),
coarse to fine; the patches are found by random search and by what neighbours found (C. Barnes and others, PatchMatch, 2009), all pixels at once.
"""

import cv2
import numpy as np

from wertis.core import compiled
from wertis.core.compiled import address
from wertis.core.errors import RegionError
from wertis.core.paint.membrane import membrane

_PATCH = 7  # pixels, side of a patch
_LEAST = 24  # pixels of the shorter side of the coarsest picture
_ROUNDS = 1, 3, 6  # of finding patches and joining them, at the finest level, the next, and all coarser ones
_NEAR = 2.5  # times the hole's size, round it, in which patches are looked for
_ROOM = 48  # pixels round it at least
_FINEST_REACH = 9  # pixels over which better places are still looked for at the finest level
_TRUST = 1.25  # by which what is filled counts less with each pixel from the hole's border
_SHARP, _SHARPEST = 0.7, 0.15  # weight of a patch falls with its difference from the best ones by this share; at the very end


def filled(picture: np.ndarray, hole: np.ndarray, seed: int = 0) -> np.ndarray:
    """A picture (h, w, 3) float32 whose hole (h, w) bool is filled; other pixels stay as they are.

    Parameters
    ----------
    seed : another one gives another way to fill it.

    Raises
    ------
    RegionError
        When there is too little round the hole to fill it from.
    """
    if not hole.any():
        return picture.copy()
    y0, x0, y1, x1 = _around(hole)
    part, inside = np.ascontiguousarray(picture[y0:y1, x0:x1], np.float32), hole[y0:y1, x0:x1]
    if int((~_grown(inside)).sum()) < 4 * _PATCH ** 2:
        raise RegionError("There is too little round the hole to fill it from; mark a smaller one, or take the patch out larger.")
    out = picture.copy()
    out[y0:y1, x0:x1][inside] = _levels(part, inside, np.random.default_rng(seed))[inside]
    return out


def _around(hole: np.ndarray) -> tuple[int, int, int, int]:
    rows, columns = (np.flatnonzero(hole.any(axis)) for axis in (1, 0))
    room = int(max(_ROOM, _NEAR * min(rows[-1] - rows[0] + 1, columns[-1] - columns[0] + 1)))
    return max(rows[0] - room, 0), max(columns[0] - room, 0), min(rows[-1] + room + 1, hole.shape[0]), min(columns[-1] + room + 1, hole.shape[1])


def _grown(hole: np.ndarray) -> np.ndarray:
    """Where the middle of a patch is that touches the hole, or the picture's border."""
    size = 2 * (_PATCH // 2) + 1
    grown = cv2.dilate(hole.astype(np.uint8), np.ones((size, size), np.uint8), borderType=cv2.BORDER_CONSTANT, borderValue=0) > 0
    half = _PATCH // 2
    grown[:half], grown[-half:], grown[:, :half], grown[:, -half:] = True, True, True, True
    return grown


def _levels(picture: np.ndarray, hole: np.ndarray, random: np.random.Generator) -> np.ndarray:
    pictures, holes = [picture], [hole]
    while min(holes[-1].shape) > 2 * _LEAST and (cv2.distanceTransform(holes[-1].astype(np.uint8), cv2.DIST_L2, 3).max() > 2
                                                 and (~_grown(_half(holes[-1]))).sum() > 4 * _PATCH ** 2):
        known = (~holes[-1]).astype(np.float32)
        size = (-(-known.shape[1] // 2), -(-known.shape[0] // 2))
        weight = cv2.resize(known, size, interpolation=cv2.INTER_AREA)
        smaller = cv2.resize(pictures[-1] * known[..., None], size, interpolation=cv2.INTER_AREA) / np.maximum(weight, 1e-6)[..., None]
        pictures.append(smaller)
        holes.append(_half(holes[-1]))
    current = membrane(pictures[-1], holes[-1])
    field: np.ndarray | None = None
    for level in range(len(pictures) - 1, -1, -1):
        inside = holes[level]
        if level < len(pictures) - 1:
            larger = cv2.resize(current, inside.shape[::-1], interpolation=cv2.INTER_LINEAR)
            current = np.where(inside[..., None], larger, pictures[level])
        current, field = _level(current, inside, field, random, level)
    return current


def _half(hole: np.ndarray) -> np.ndarray:
    size = (-(-hole.shape[1] // 2), -(-hole.shape[0] // 2))
    return np.asarray(cv2.resize(hole.astype(np.float32), size, interpolation=cv2.INTER_AREA) > 0.01)


def _level(picture: np.ndarray, hole: np.ndarray, coarser: np.ndarray | None, random: np.random.Generator, fineness: int) -> tuple[np.ndarray, np.ndarray]:
    """One resolution, the finest for 0; the picture and, for each pixel (h, w, 2), the place y, x of the patch it is made like."""
    h, w = hole.shape
    half = _PATCH // 2
    source = ~_grown(hole)
    places = np.argwhere(source)
    wanted = cv2.dilate(hole.astype(np.uint8), np.ones((_PATCH, _PATCH), np.uint8)) > 0
    targets = np.argwhere(wanted)
    field = np.zeros((h, w, 2), np.int32)
    field[wanted] = places[random.integers(0, len(places), len(targets))]
    if coarser is not None:
        up = 2 * coarser[np.minimum(targets[:, 0] // 2, coarser.shape[0] - 1), np.minimum(targets[:, 1] // 2, coarser.shape[1] - 1)] + targets % 2
        up = np.clip(up, 0, [h - 1, w - 1])
        sound = source[up[:, 0], up[:, 1]]
        field[targets[sound, 0], targets[sound, 1]] = up[sound]
    confidence = np.power(_TRUST, -cv2.distanceTransform(hole.astype(np.uint8), cv2.DIST_L2, 3)).astype(np.float32)
    padded_trust = np.pad(confidence, half, mode="reflect")
    trust = np.lib.stride_tricks.sliding_window_view(padded_trust, (_PATCH, _PATCH))[targets[:, 0], targets[:, 1]].reshape(len(targets), -1)
    trust = trust / trust.sum(1, keepdims=True)
    rounds = _ROUNDS[min(fineness, len(_ROUNDS) - 1)]
    for turn in range(rounds):
        padded = np.pad(picture, ((half, half), (half, half), (0, 0)), mode="reflect")
        field, cost = _searched(padded, trust, targets, field, source, random, max(h, w) if fineness > 1 else _FINEST_REACH)
        last = fineness == 0 and turn == rounds - 1  # in the end the best patch says it alone, which is sharper
        picture = _joined(picture, hole, targets, field, cost, confidence, _SHARPEST if last else _SHARP)
    return picture, field


def patch_costs(padded: np.ndarray, places: np.ndarray, targets: np.ndarray, trust: np.ndarray, which: np.ndarray) -> np.ndarray:
    """How much patches at places (m, 2) y, x differ from those at targets (m, 2): (m,) sums of squares, each pixel's times its trust.

    Parameters
    ----------
    padded : (rows, columns, 3) float32 picture in which a patch begins at every place.
    trust : (n, pixels of a patch) float32, and `which` (m,) its row for each pair.
    """
    if compiled.LIBRARY is None:
        return plain_patch_costs(padded, places, targets, trust, which)
    out, i = np.empty(len(which), np.float32), np.int64
    places, targets, which = (np.ascontiguousarray(a, i) for a in (places, targets, which))
    compiled.LIBRARY.patch_costs(address(padded, np.float32), compiled.long(padded.shape[1]), _PATCH, address(places, i), address(targets, i),
                                 address(trust, np.float32), address(which, i), compiled.long(len(which)), address(out, np.float32))
    return out


def plain_patch_costs(padded: np.ndarray, places: np.ndarray, targets: np.ndarray, trust: np.ndarray, which: np.ndarray) -> np.ndarray:
    """`patch_costs` in NumPy."""
    windows = np.lib.stride_tricks.sliding_window_view(padded, (_PATCH, _PATCH), axis=(0, 1))
    apart = (windows[places[:, 0], places[:, 1]] - windows[targets[:, 0], targets[:, 1]]).reshape(len(which), 3, -1)
    return np.asarray((np.square(apart, out=apart) * trust[which][:, None]).sum((1, 2)))


def _searched(padded: np.ndarray, trust: np.ndarray, targets: np.ndarray, field: np.ndarray, source: np.ndarray, random: np.random.Generator,
              reach: int) -> tuple[np.ndarray, np.ndarray]:
    """Better places for all targets: those of their neighbours, moved along, and random ones nearer and nearer, from `reach` on.

    What is known counts for more in a comparison than what was filled (`trust`, (n, pixels of a patch)).
    """
    h, w = source.shape
    best = field[targets[:, 0], targets[:, 1]].copy()
    cost = patch_costs(padded, best, targets, trust, np.arange(len(targets)))

    def tried(candidates: np.ndarray) -> None:
        inside = ((candidates >= 0) & (candidates < [h, w])).all(1)
        which = np.flatnonzero(inside & (candidates != best).any(1))
        which = which[source[candidates[which, 0], candidates[which, 1]]]
        if len(which):
            new = patch_costs(padded, candidates[which], targets[which], trust, which)
            better = new < cost[which]
            best[which[better]], cost[which[better]] = candidates[which[better]], new[better]

    for step in (4, 1) if reach > _FINEST_REACH else (1,):
        for dy, dx in ((0, step), (step, 0), (0, -step), (-step, 0)):
            field[targets[:, 0], targets[:, 1]] = best
            beside = np.clip(targets + [dy, dx], 0, [h - 1, w - 1])
            from_there = field[beside[:, 0], beside[:, 1]] - [dy, dx]
            from_there[(field[beside[:, 0], beside[:, 1]] == 0).all(1)] = -1
            tried(from_there)
    while reach >= 1:
        tried(best + random.integers(-reach, reach + 1, best.shape))
        reach //= 3
    field[targets[:, 0], targets[:, 1]] = best
    return field, cost


def _joined(picture: np.ndarray, hole: np.ndarray, targets: np.ndarray, field: np.ndarray, cost: np.ndarray, confidence: np.ndarray,
            sharp: float) -> np.ndarray:
    """The hole's pixels as the mean of what all patches over them say, those that fit best most."""
    h, w = hole.shape
    half = _PATCH // 2
    scale = 2 * (sharp * float(np.quantile(cost, 0.75)) + 1e-6)
    weight = (np.exp(-cost / scale).astype(np.float32) + np.float32(1e-6)) * confidence[targets[:, 0], targets[:, 1]]
    x0, y0, width, height = cv2.boundingRect(targets[:, ::-1].astype(np.int32))
    x1, y1 = x0 + width, y0 + height
    weights = np.zeros((h, w), np.float32)
    weights[targets[:, 0], targets[:, 1]] = weight
    weights, at = weights[y0:y1, x0:x1], field[y0:y1, x0:x1].astype(np.float32)
    sums = np.zeros((h + 2 * half, w + 2 * half, 4), np.float32)  # with room for patches that reach over the border; the last is the weights' sum
    colours = np.dstack([picture, np.ones((h, w), np.float32)])
    for dy in range(-half, half + 1):
        for dx in range(-half, half + 1):
            found = cv2.remap(colours, at[..., 1] + dx, at[..., 0] + dy, cv2.INTER_NEAREST, borderMode=cv2.BORDER_CONSTANT, borderValue=0)
            sums[y0 + dy + half:y1 + dy + half, x0 + dx + half:x1 + dx + half] += found * weights[..., None]
    total, count = sums[half:half + h, half:half + w, :3], sums[half:half + h, half:half + w, 3]
    out = picture.copy()
    sound = hole & (count > 0)
    out[sound] = total[sound] / count[sound][:, None]
    return out
