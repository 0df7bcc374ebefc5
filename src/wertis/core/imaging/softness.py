"""How soft a picture is: the standard deviation of the blur that its sharpest edges have.

Where an edge that was sharp is blurred once more by a known Gaussian, its slope gets less by a ratio that says how much it was blurred before (S. Zhuo and
T. Sim, Defocus map estimation from a single image, 2011).
"""

import cv2
import numpy as np

_FIRST = (0.7, 1.2)  # pixels, standard deviations, of a blur that takes grain away and of the known one, in a first look
_OF_FOUND = (0.8, 1.0)  # times the softness found, of the same in the next looks
_LOOKS = 3
_STRONGEST = 0.8  # share of the places that are looked at, those on the steepest slopes
_SHARPEST = 0.15  # quantile of what they say, from which the sharpest are gathered: other edges were soft in the scene
_SPREAD = 0.08  # of a variance, by which edges of one softness differ anyhow: corners, what lies beside them
_ROUNDS = 5  # of gathering
_NOISE_OF_VARIANCE = 2.7  # times the relative noise of a slope: how it follows for the variance, with the blurs taken here
_APART, _FURTHER = 1.6, 1.6  # times the softness, and times that again, at which it is looked what lies beside an edge
_TURNS_BACK = 0.1  # share of its slope that one the other way may have there
_STRAIGHT = 0.85  # share of its slope that it must have still, further along itself
_FEWEST = 40  # places
_REACH = 8  # times the standard deviations of the blurs: how far what is asked of an edge looks
_OFF_CENTRE = 1 / 16  # square pixels, mean square distance of the steepest pixel from the middle of an edge, over all directions of edges
_DIFFERENCE = 1 / 3  # square pixels, variance of the central difference by which slopes are taken
_NOISE_SLOPE = 0.2  # of white noise of deviation 1 through a Gaussian of 1 pixel (its slope's deviation is 1 / sqrt(8 pi) of that)
_ASKEW = 0.25  # sine of the angle between an edge's slope and a direction, up to which it counts for that direction
_PLAIN, _STEEP = 30.0, 8.0  # times the slope of the grain from which a slope is a plain edge, or an edge at all


def edge_softness(luma: np.ndarray, mask: np.ndarray | None = None, grain: float = 0.0, direction: np.ndarray | None = None) -> float | None:
    """Standard deviation in pixels of the blur in a picture (h, w) float32, the pixels' own square among it; None where there is no edge to tell it by.

    Parameters
    ----------
    mask : (h, w), non-zero where edges count.
    grain : standard deviation of the picture's grain, in its own numbers.
    direction : (2,) only edges whose slope goes that way, or back, count.
    """
    counted = None if mask is None else cv2.erode((np.asarray(mask) > 0).astype(np.uint8), np.ones((7, 7), np.uint8)) > 0
    picture, found = np.asarray(luma, np.float32), None
    for look in range(_LOOKS):
        before, again = _FIRST if found is None else (max(f * found, least) for f, least in zip(_OF_FOUND, _FIRST, strict=True))
        variance = _variance(picture, counted, before, again, grain, direction)
        if variance is None:
            return found if look else None
        found = float(np.sqrt(max(variance - before ** 2 - _DIFFERENCE, 0.01)))
    return found


def _variance(picture: np.ndarray, counted: np.ndarray | None, before: float, again: float, grain: float,
              direction: np.ndarray | None) -> float | None:
    """The variance of the blur of a picture's sharpest edges after one of `before` pixels, by what one of `again` pixels more does to their slopes."""
    if counted is not None:  # beyond this nothing reaches a place that counts
        x, y, w, h = cv2.boundingRect(counted.astype(np.uint8))
        room = int(np.ceil(_REACH * (before + again))) + 8
        part = slice(max(y - room, 0), y + h + room), slice(max(x - room, 0), x + w + room)
        picture, counted = picture[part], counted[part]
    calm = cv2.GaussianBlur(picture, (0, 0), before)
    across, down = _slopes(calm)
    slope, blurred = np.hypot(across, down), _slope(cv2.GaussianBlur(calm, (0, 0), again))
    places = slope >= cv2.dilate(slope, np.ones((3, 3), np.uint8)) * 0.999  # steepest across each edge
    if counted is not None:
        places &= counted
    if direction is not None:
        places &= np.abs(across * direction[1] - down * direction[0]) < _ASKEW * np.linalg.norm(direction) * slope
    noise = max(_NOISE_SLOPE * grain / before ** 2, 1e-9)
    for least in (_PLAIN, _STEEP):  # edges far above the grain, where there are enough
        rows, columns = np.nonzero(places & (slope > least * noise))
        if len(rows) >= _FEWEST:
            break
    else:
        return None
    steep = slope[rows, columns]
    keep = steep >= np.quantile(steep, 1 - min(1.0, max(_STRONGEST, 4 * _FEWEST / len(steep))))
    rows, columns, steep = rows[keep], columns[keep], steep[keep]
    ratio = steep / np.maximum(blurred[rows, columns], 1e-9)
    sound = ratio > 1.01
    variance = again ** 2 / (ratio[sound] ** 2 - 1)
    # the steepest pixel lies beside the edge's middle, where a sharper slope has lost more of its height
    lost = _OFF_CENTRE / 2 * (1 / variance - 1 / (variance + again ** 2))
    variance = again ** 2 / ((ratio[sound] * (1 + lost)) ** 2 - 1)
    at, steep = np.column_stack([columns, rows])[sound].astype(np.float32), steep[sound]
    if len(variance) < _FEWEST // 2:
        return None
    alone = _stand_alone(across, down, at, _APART * np.sqrt(np.median(variance)))
    if alone.sum() >= _FEWEST // 2:
        variance, steep = variance[alone], steep[alone]
    return _lowest_cluster(variance, _NOISE_OF_VARIANCE * noise / steep)


def _stand_alone(across: np.ndarray, down: np.ndarray, at: np.ndarray, apart: float) -> np.ndarray:
    """(n,) whether edges at places (n, 2) are straight, and none is beside them that turns back: corners and thin lines say less of their blur."""
    columns, rows = at[:, 0].astype(int), at[:, 1].astype(int)
    slopes = np.column_stack([across[rows, columns], down[rows, columns]])
    steep = np.linalg.norm(slopes, axis=1)
    way = (slopes / np.maximum(steep, 1e-9)[:, None]).astype(np.float32)

    def beside(offset: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Slopes at an offset (n, 2): their part along the edge's own slope, and their size, over the edge's own."""
        x, y = (at + offset).T
        gx, gy = (np.asarray(cv2.remap(g, x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)).ravel() for g in (across, down))
        own = np.maximum(steep, 1e-9)
        return (gx * way[:, 0] + gy * way[:, 1]) / own, np.hypot(gx, gy) / own

    out = np.ones(len(at), bool)
    for d in np.array([-apart, apart], np.float32):
        for further in (1, _FURTHER):
            out &= beside(d * np.float32(further) * way)[0] > -_TURNS_BACK
        along, size = beside(d * way[:, ::-1] * np.array([1, -1], np.float32))
        out &= (along > _STRAIGHT) & (size < 1 / _STRAIGHT)
    return out


def _lowest_cluster(variance: np.ndarray, relative: np.ndarray) -> float:
    """The variance on which the sharpest edges agree: other ones were soft in the scene.

    Parameters
    ----------
    relative : (n,) standard deviation of each, over itself, by the grain.
    """
    middle = float(np.quantile(variance, _SHARPEST))
    for _ in range(_ROUNDS):
        deviation = np.hypot(relative, _SPREAD) * middle
        near = np.abs(variance - middle) < 2 * deviation
        weight = near / deviation ** 2
        if not near.any():
            break
        middle = float((weight * variance).sum() / weight.sum())
    return middle


def _slope(picture: np.ndarray) -> np.ndarray:
    return np.asarray(np.hypot(*_slopes(picture)))


def _slopes(picture: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    across, down = (cv2.Sobel(picture, cv2.CV_32F, *order, ksize=3, scale=1 / 8) for order in ((1, 0), (0, 1)))
    return np.asarray(across), np.asarray(down)
