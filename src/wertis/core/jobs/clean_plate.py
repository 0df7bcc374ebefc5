"""A clean plate from the shot itself: the bare surface beneath what passes, joined from the frames that saw it."""

from collections.abc import Iterator
from typing import NamedTuple

import cv2
import numpy as np

from wertis.core.errors import PlateError, RegionError
from wertis.core.geometry.homography import translation
from wertis.core.geometry.motion import between
from wertis.core.geometry.warp import HomographyWarp, Warp, compose
from wertis.core.imaging.parallel import side_by_side
from wertis.core.imaging.resample import unwarped
from wertis.core.jobs.events import Counter, Event, Stop, stopped
from wertis.core.plate.base import Plate, Reader, rgb_of, to_float
from wertis.core.shot.document import Shot, Track
from wertis.core.shot.edits import track_of
from wertis.core.shot.hold_outs import held_masks
from wertis.core.shot.items import set_item
from wertis.core.shot.patches import Patch, patch_of
from wertis.core.shot.resolve import motion_of

_MOST_FRAMES = 64
_BAND_BYTES = 256 << 20  # of all frames' rows that are joined at a time
_PART = 32  # rows that one thread joins at a time
_AROUND = 16  # pixels round what is needed of a frame
_LIGHT_SIDE = 96  # pixels of the longer side of the small pictures by which light is compared
_AGREE = 0.05  # of white, by which places of two frames may differ, after their light is matched, that show the same
_ROUNDS = 6
_LEAST_GRAIN = 1.5 / 255
_CLUSTERS, _ROUNDS_OF_LABELS = 3, 120  # of looks at a place; rounds of passing costs to neighbours
_BY_SPREAD, _BY_SHARE, _NEVER = 0.05, 0.028, 50.0
# costs, beside that of a step by white 1 in one colour: of a cluster e times as spread, of one e times as rare, of none
_GUIDE_SIDE = 320  # pixels of the longer side of the small pictures by which it is told what passes
_GUIDE_AGREE = 0.06  # of white, by which a look differs from the surface there and counts half
_GUIDE_LEAST, _GUIDE_ROUNDS = 0.5, 2  # looks' worth of weight that overrule the guide, and how often
_CLOSEST = 0.3  # of the looks at a place: so many must show the bare surface
_SEEN_BY = 2.0  # frames' worth of agreeing weight from which a place counts as seen for sure
_SHARE = 0.5  # power of the scale at which a frame shows the surface, in its weight: larger is sharper


class _Seen(NamedTuple):
    """The part of a frame that shows the flat picture: (h, w, 3) float32, what is held out of it, and the flat picture's warp to it."""

    picture: np.ndarray
    held: np.ndarray | None
    warp: Warp


class _Look(NamedTuple):
    """A frame that goes into a clean plate.

    Attributes
    ----------
    warp : the flat picture to the frame.
    gain : (3, 3) by which its light is multiplied: at the flat picture's middle, and how it changes to the right and down, for each colour.
    weight : how much it counts.
    """

    frame: int
    warp: Warp
    gain: np.ndarray
    weight: float


def join_clean_plate(shot: Shot, ident: str, plate: Plate, read: Reader | None = None, stop: Stop | None = None) -> Iterator[Event]:
    """Join a patch's clean plate from the frames of the shot; the last event's item is the shot with it.

    The frames are laid flat and matched in light to the patch's own frame. At each place the value is taken that frames agree on (M. Black and
    A. Rangarajan, On the unification of line processes, outlier rejection, and robust statistics, 1996, for the weights), begun where three tenths of
    them lie closest together. What hold-outs cover does not count.

    Raises
    ------
    RegionError
        When the patch is gone, its track has no motion, or too few frames show it.
    PlateError
        When the patch's own frame cannot be read.
    """
    patch = patch_of(shot, ident)
    track = track_of(shot, patch.on)
    fetch = read or plate.read
    frames = _frames(shot, track, patch)
    w, h = patch.size
    rows = max(16, int(_BAND_BYTES // (max(len(frames), 1) * w * 4 * 4)))
    bands = [(y, min(y + rows, h)) for y in range(0, h, rows)]
    count = Counter(len(frames) * (2 + len(bands)))
    held = held_masks(shot, track, plate.size)
    looks: list[_Look] = []
    small = _small_size(patch.size)
    home = _small(_seen(fetch(patch.frame), None, HomographyWarp(patch.from_flat), patch.size), patch.size, small)
    for frame, warp in frames.items():
        if stopped(stop):
            return
        try:
            picture = fetch(frame)
        except PlateError as why:
            yield count.event(frame, note=str(why), of=("light", frame))
            continue
        gain = _gain(home, _small(_seen(picture, None, warp, patch.size), patch.size, small)) if frame != patch.frame else _NO_GAIN
        if gain is not None:
            looks.append(_Look(frame, warp, gain, _scale(warp, patch.size) ** _SHARE))
        yield count.event(frame, note=f"light of frame {frame}", of=("light", frame))
    if len(looks) < 3:
        raise RegionError(f"Only {len(looks)} frames show {patch.name}; a clean plate needs three at least. Track more frames, or take out a "
                          "smaller part.")
    best = max(look.weight for look in looks)
    looks = [look._replace(weight=look.weight / best) for look in looks]
    guide = _Guide(patch.size)
    for look in looks:
        if stopped(stop):
            return
        guide.add(look, _seen(fetch(look.frame), held(look.frame) if held is not None else None, look.warp, patch.size))
        yield count.event(look.frame, note=f"looking at frame {look.frame}", of=("guide", look.frame))
    shares = guide.shares()
    clean, seen = np.empty((h, w, 3), np.float16), np.empty((h, w, 1), np.float16)
    for y0, y1 in bands:
        values, weights = [], []
        for look, share in zip(looks, shares, strict=True):
            if stopped(stop):
                return
            part = _seen(fetch(look.frame), held(look.frame) if held is not None else None, look.warp, patch.size)
            value, weight = _rows(look, part, patch.size, y0, y1)
            values.append(value)
            weights.append(weight * _rows_of(share, patch.size, y0, y1))
            yield count.event(look.frame, note=f"joining frame {look.frame}", of=(y0, look.frame))
        clean[y0:y1], seen[y0:y1] = _joined(np.stack(values), np.stack(weights))
    hidden = float((seen < 0.5).mean())
    note = f"joined from {len(looks)} frames; " + ("seen everywhere" if hidden < 1e-3 else f"{hidden:.1%} of it is never seen")
    yield Event(None, count.total, count.total, set_item(shot, patch.but(base="clean", clean=clean, seen=seen)), note)


_NO_GAIN = np.zeros((3, 3))


def _joined(values: np.ndarray, weights: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """As `agreed`, some rows at a time on several threads; (h, w, 3) and (h, w, 1)."""
    parts = [slice(k, min(k + _PART, values.shape[1])) for k in range(0, values.shape[1], _PART)]
    made = side_by_side(lambda rows: agreed(values[:, rows], weights[:, rows]), parts)
    return np.concatenate([clean for clean, _ in made]), np.concatenate([seen for _, seen in made])[..., None]


def agreed(values: np.ndarray, weights: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """What most of several looks agree on, pixel by pixel, and how well each was seen.

    Parameters
    ----------
    values : (n, h, w, 3) float32.
    weights : (n, h, w) float32, 0 where a look says nothing.

    Returns
    -------
    (h, w, 3), and (h, w) 0..1.
    """
    middle = _densest(values, weights)
    known = weights > 0
    apart = _apart(values, middle)
    # the looks' own spread: by the best half, over all pixels
    spread = float(np.median(apart[known])) * 1.48 if known.any() else _LEAST_GRAIN
    scale = np.float32(max(min(spread, _AGREE), _LEAST_GRAIN) * 2)
    weight = weights
    for k in range(_ROUNDS):
        wide = scale * np.float32(max(1.0, 3.0 - k))
        weight = weights / np.square(1 + np.square(_apart(values, middle) / wide))
        total = weight.sum(0)
        middle = (values * weight[..., None]).sum(0) / np.maximum(total, 1e-9)[..., None]
    agreeing = (weights * (_apart(values, middle) < 3 * scale)).sum(0)
    return middle.astype(np.float32), np.clip(agreeing / _SEEN_BY, 0, 1).astype(np.float32)


def _apart(values: np.ndarray, middle: np.ndarray) -> np.ndarray:
    """(n, h, w) how far looks (n, h, w, 3) are from a picture, in the channel in which they are furthest."""
    out = np.abs(values[..., 0] - middle[..., 0])
    for c in (1, 2):
        np.maximum(out, np.abs(values[..., c] - middle[..., c]), out=out)
    return out


def _densest(values: np.ndarray, weights: np.ndarray) -> np.ndarray:
    """(h, w, 3) the middle of that part of the looks which lies closest together in brightness (the half-sample mode's first step with a smaller part:
    D. Bickel and R. Fruehwirth, On a fast, robust estimator of the mode, 2006).

    What lies on the surface itself stands still on the flat picture, and differs from look to look by grain alone; what passes slides over it.
    """
    n = len(values)
    brightness = np.where(weights > 0, values[..., 0] + values[..., 1] + values[..., 2], np.inf)
    order = np.argsort(brightness, axis=0)
    sorted_ = np.take_along_axis(brightness, order, axis=0)
    there = np.isfinite(sorted_).sum(0)
    sorted_ = np.where(np.isfinite(sorted_), sorted_, 1e9)
    half = np.maximum(np.ceil(there * _CLOSEST).astype(int), np.minimum(there, 3))
    half = np.maximum(half, 1)
    best, start = np.full(there.shape, np.inf), np.zeros(there.shape, int)
    for k in range(n):
        last = np.minimum(k + half - 1, n - 1)
        width = np.take_along_axis(sorted_, last[None], axis=0)[0] - sorted_[k]
        better = (k + half <= there) & (width < best)
        best, start = np.where(better, width, best), np.where(better, k, start)
    chosen = np.take_along_axis(order, np.minimum(start + half // 2, n - 1)[None], axis=0)[0]
    return np.take_along_axis(values, chosen[None, ..., None].repeat(3, -1), axis=0)[0]


class _Guide:
    """Which parts of which looks show the bare surface, by small flat pictures of all of them.

    At each place the looks fall into a few clusters: the surface, and what passes. The surface stands still, so that its looks differ by grain alone; it
    goes on evenly, where the outline of what passes is a step; and it is seen often rather than seldom. The clusters that fit best together by all of
    that are chosen as a Markov random field's labels (A. Agarwala and others, Interactive digital photomontage, 2004, for the idea of choosing a source
    for each pixel), by min-sum belief propagation (P. Felzenszwalb and D. Huttenlocher, Efficient belief propagation for early vision, 2006).
    """

    def __init__(self, size: tuple[int, int]) -> None:
        factor = min(1.0, _GUIDE_SIDE / max(size))
        self.size, self.small = size, (max(8, round(size[0] * factor)), max(8, round(size[1] * factor)))
        self.values: list[np.ndarray] = []
        self.known: list[np.ndarray] = []

    def add(self, look: _Look, seen: _Seen) -> None:
        """One more look."""
        enlarge = HomographyWarp(np.diag([self.size[0] / self.small[0], self.size[1] / self.small[1], 1.0]))
        step = float(np.sqrt(np.prod(self.size) / np.prod(self.small))) * _scale(look.warp, self.size)
        calm = cv2.GaussianBlur(seen.picture, (0, 0), max(0.5 * step, 0.6))
        values, known = _rows(look, _Seen(calm, seen.held, compose(seen.warp, enlarge)), self.small, 0, self.small[1])
        self.values.append(values)
        self.known.append(known > 0)

    def surface(self) -> np.ndarray:
        """(h, w, 3) the surface, as the clusters that were chosen have it."""
        values, known = np.stack(self.values), np.stack(self.known).astype(np.float32)
        total = np.maximum(known.sum(0), 1)
        centres: list[np.ndarray] = []
        costs: list[np.ndarray] = []
        members: list[np.ndarray] = []
        left = known.copy()
        for _ in range(_CLUSTERS):
            middle = _densest(values, left)
            apart = _apart(values, middle)
            own = left * (apart < _GUIDE_AGREE)
            count = own.sum(0)
            mean = (own[..., None] * values).sum(0) / np.maximum(count, 1e-6)[..., None]
            spread = np.sqrt((own[..., None] * np.square(values - mean)).sum((0, -1)) / np.maximum(3 * count, 1e-6))
            there = count > 0
            members.append(own > 0)
            centres.append(np.where(there[..., None], mean, centres[0] if centres else 0))
            own_cost = _BY_SPREAD * np.log(np.maximum(_calmed(spread), _LEAST_GRAIN / 4)) - _BY_SHARE * np.log(np.maximum(count, 0.5) / total)
            costs.append(np.where(there, own_cost, _NEVER))
            left = left * (apart >= _GUIDE_AGREE)
        centre, cost = np.stack(centres).astype(np.float32), np.stack(costs).astype(np.float32)
        chosen = _labels(centre, cost, np.stack(members))
        return np.asarray(np.take_along_axis(centre, chosen[None, ..., None].repeat(3, -1), axis=0)[0])

    def shares(self) -> list[np.ndarray]:
        """(h, w) for each look, 0..1: where it is like the surface."""
        surface, values, known = self.surface(), np.stack(self.values), np.stack(self.known)
        out = self._like(values, surface)
        for _ in range(_GUIDE_ROUNDS):  # what the looks that agree say is truer than the clusters alone
            weight = (out * known)[..., None]
            total = weight.sum(0)
            mean = (weight * values).sum(0) / np.maximum(total, 1e-6)
            surface = np.where(total > _GUIDE_LEAST, mean, surface)
            out = self._like(values, surface)
        return list(out)

    @staticmethod
    def _like(values: np.ndarray, surface: np.ndarray) -> np.ndarray:
        apart = _apart(values, surface)
        # a place counts with its surroundings: what passes is never a single pixel
        apart = np.stack([cv2.GaussianBlur(a, (0, 0), 0.8) for a in apart])
        return np.asarray(1 / (1 + (apart / _GUIDE_AGREE) ** 4), np.float32)


def _calmed(spread: np.ndarray) -> np.ndarray:
    return np.asarray(cv2.GaussianBlur(spread.astype(np.float32), (0, 0), 1.5))


def _labels(centre: np.ndarray, cost: np.ndarray, members: np.ndarray) -> np.ndarray:
    """(h, w) which of k clusters is chosen at each place: cheap by its own cost (k, h, w), and going on evenly to its neighbours.

    A step from one colour (k, h, w, 3) to another costs nothing where the two go together whenever one of them is seen, as at an edge that lies on the
    surface: `members` (k, n, h, w) says which looks are in which cluster.
    """
    steps = []
    for a, b in ((np.s_[..., :, :-1], np.s_[..., :, 1:]), (np.s_[..., :-1, :], np.s_[..., 1:, :])):
        colour = np.moveaxis(centre, -1, 1)
        step = np.abs(colour[a][:, None] - colour[b][None]).sum(2)
        together = np.stack([[(members[i][a] & members[j][b]).sum(0) for j in range(len(centre))] for i in range(len(centre))])
        first, second = members[a].sum(1)[:, None], members[b].sum(1)[None]
        steps.append(step * (1 - together / np.maximum(np.maximum(first, second), 1)).astype(np.float32))
    from_left, from_right, from_above, from_below = (np.zeros_like(cost) for _ in range(4))

    def passed(message: np.ndarray, step: np.ndarray, axis: int) -> np.ndarray:
        """What labels at one end of a step make those at the other end cost."""
        out = (np.expand_dims(message, 1 - axis) + step).min(axis)
        return out - out.min(0)

    for _ in range(_ROUNDS_OF_LABELS):
        total = cost + from_left + from_right + from_above + from_below
        right, left = passed((total - from_right)[:, :, :-1], steps[0], 0), passed((total - from_left)[:, :, 1:], steps[0], 1)
        below, above = passed((total - from_below)[:, :-1], steps[1], 0), passed((total - from_above)[:, 1:], steps[1], 1)
        from_left[:, :, 1:], from_right[:, :, :-1], from_above[:, 1:], from_below[:, :-1] = right, left, below, above
    return np.asarray((cost + from_left + from_right + from_above + from_below).argmin(0))


def _rows_of(share: np.ndarray, size: tuple[int, int], y0: int, y1: int) -> np.ndarray:
    """Rows of a small picture (h, w) at the flat picture's size."""
    w, h = size
    y = (np.arange(y0, y1, dtype=np.float32) + 0.5) * share.shape[0] / h - 0.5
    x = (np.arange(w, dtype=np.float32) + 0.5) * share.shape[1] / w - 0.5
    at_x, at_y = np.meshgrid(x, y)
    return np.asarray(cv2.remap(share, at_x, at_y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE))


def _frames(shot: Shot, track: Track, patch: Patch) -> dict[int, Warp]:
    """Frames evenly over the range on which the patch's surface is known, with the flat picture's warp to each."""
    motion = motion_of(track)
    if motion is None:
        raise RegionError(f"{track.name} has not been tracked; track it before its clean plate is joined.")
    flat = HomographyWarp(patch.from_flat)
    found: dict[int, Warp] = {}
    for frame in range(shot.range[0], shot.range[1] + 1):
        moved = between(motion, patch.frame, frame)
        if moved is not None:
            found[frame] = compose(moved, flat)
    if len(found) > _MOST_FRAMES:
        known = sorted(found)
        chosen = {known[round(k)] for k in np.linspace(0, len(known) - 1, _MOST_FRAMES)} | {patch.frame}
        found = {f: found[f] for f in sorted(chosen & set(known))}
    return found


def _scale(warp: Warp, size: tuple[int, int]) -> float:
    """How large a frame shows the flat picture: pixels of it to one of the flat picture's, at its middle."""
    slopes = warp.jacobian(np.array([[size[0] / 2, size[1] / 2]]))[0]
    return float(np.sqrt(abs(np.linalg.det(slopes)))) if np.isfinite(slopes).all() else 0.0


def _small_size(size: tuple[int, int]) -> tuple[int, int]:
    factor = min(1.0, _LIGHT_SIDE / max(size))
    return max(4, round(size[0] * factor)), max(4, round(size[1] * factor))


def _seen(picture: np.ndarray, held: np.ndarray | None, warp: Warp, size: tuple[int, int]) -> _Seen:
    """What of a frame a flat picture needs."""
    u, v = np.meshgrid(np.linspace(0, size[0], 9), np.linspace(0, size[1], 9))
    there = warp.forward(np.column_stack([u.ravel(), v.ravel()]))
    there = there[np.isfinite(there).all(1)]
    if not len(there):
        return _Seen(to_float(rgb_of(picture[:2, :2])), None, warp)
    x0, y0 = (int(v) for v in np.clip(np.floor(there.min(0)) - _AROUND, 0, np.array(picture.shape[1::-1]) - 2))
    x1, y1 = (int(v) for v in np.maximum(np.ceil(there.max(0)) + _AROUND, [x0 + 2, y0 + 2]))
    part = np.s_[y0:y1, x0:x1]
    return _Seen(to_float(rgb_of(picture[part])), held[part] if held is not None else None, compose(HomographyWarp(translation(-x0, -y0)), warp))


def _small(seen: _Seen, size: tuple[int, int], small: tuple[int, int]) -> np.ndarray:
    """(h, w, 3) a small flat picture of a frame; nan where nothing of it is."""
    enlarge = HomographyWarp(np.diag([size[0] / small[0], size[1] / small[1], 1.0]))
    values = cv2.GaussianBlur(seen.picture, (0, 0), 1.5)
    out = unwarped(values, compose(seen.warp, enlarge), small, cv2.INTER_LINEAR, float("nan"))
    return np.asarray(out)


def _gain(home: np.ndarray, there: np.ndarray) -> np.ndarray | None:
    """(3, 3) logarithms by which a frame's light is multiplied to be as on the patch's own frame; None where too little is seen."""
    h, w = home.shape[:2]
    sound = np.isfinite(home).all(-1) & np.isfinite(there).all(-1)
    sound &= (home > 0.02).all(-1) & (there > 0.02).all(-1) & (home < 0.98).all(-1) & (there < 0.98).all(-1)
    if sound.sum() < max(30, 0.03 * h * w):
        return None if not (np.isfinite(there).all(-1)).any() else _NO_GAIN
    y, x = np.mgrid[0:h, 0:w]
    basis = np.column_stack([np.ones(int(sound.sum())), x[sound] / w - 0.5, y[sound] / h - 0.5])
    ratio = np.log(home[sound] / there[sound])
    # begun where the ratios lie closest together: what passes may cover most of the surface
    rising = np.sort(ratio, axis=0)
    part = max(2, round(_CLOSEST * len(ratio)))
    start = (rising[part - 1:] - rising[:len(rising) - part + 1]).argmin(0)
    middle = rising[start + part // 2, np.arange(3)]
    weight = 1 / (1 + (np.abs(ratio - middle).max(1) / 0.1) ** 2)
    found = np.zeros((3, 3))
    for _ in range(_ROUNDS):
        root = np.sqrt(weight)[:, None]
        ridge = np.diag([0.0, 0.05 * len(ratio), 0.05 * len(ratio)])
        found = np.linalg.solve((basis * root).T @ (basis * root) + ridge, (basis * root).T @ (ratio * root))
        weight = 1 / (1 + (np.abs(ratio - basis @ found).max(1) / 0.05) ** 2) ** 2
    return found


def _rows(look: _Look, seen: _Seen, size: tuple[int, int], y0: int, y1: int) -> tuple[np.ndarray, np.ndarray]:
    """(h, w, 3) rows of the flat picture by a frame, its light matched, and (h, w) how much each pixel counts."""
    w, h = size
    part = compose(seen.warp, HomographyWarp(translation(0, y0)))
    rows = (w, y1 - y0)
    values = unwarped(seen.picture, part, rows, cv2.INTER_CUBIC)
    inside = np.ones(seen.picture.shape[:2], np.float32)
    inside[[0, 1, -2, -1]] = 0
    inside[:, [0, 1, -2, -1]] = 0
    if seen.held is not None:
        inside[seen.held > 127] = 0
    known = unwarped(inside, part, rows) > 0.99
    x, y = (np.arange(w, dtype=np.float32) + 0.5) / w - 0.5, (np.arange(y0, y1, dtype=np.float32) + 0.5) / h - 0.5
    gain = look.gain.astype(np.float32)
    field = np.exp(gain[0] + x[None, :, None] * gain[1] + y[:, None, None] * gain[2])
    return (values * field).astype(np.float32), known.astype(np.float32) * np.float32(look.weight)
