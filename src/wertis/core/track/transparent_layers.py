"""Which of two layers that move over one another is the surface: the one that ends where the region ends.

A tracker in a pane that mirrors something strongly may follow what is mirrored. Both layers are then seen through one another all over the region,
and nothing in a single frame says which is which. Their motions differ, though: the median of the frames, each moved to where one layer stands
still, shows that layer alone; taken off the frames it leaves the other, which is tracked in its turn, and so on by turns. The surface fills its
outline on every frame. What is mirrored leaves the outline on one side, where the wall beside the pane is seen in its place.

Over a long range either layer may be lost; the frames next to the start are then judged alone, and what is not known beyond them is lost.

It is looked for only where parts of the region that were seen at first are gone for good, as on the side on which a reflection leaves the pane, while
everything that is still seen has something lying over it.

Known ground: M. Irani, B. Rousso and S. Peleg, Computing occluding and transparent motions, IJCV 1994 (each layer from the registered mean of the
frames, and tracked apart); R. Szeliski, S. Avidan and P. Anandan, Layer extraction from multiple images containing reflections and transparency,
CVPR 2000.
"""

import threading
from collections.abc import Callable
from dataclasses import dataclass
from itertools import count
from typing import NamedTuple

import cv2
import numpy as np

from wertis.core.errors import RegionError
from wertis.core.geometry import homography
from wertis.core.geometry.conventions import from_centred, homography_from_centred, homography_to_centred, to_centred
from wertis.core.geometry.motion import Fix
from wertis.core.imaging.channel_mixture import NO_GRAIN, grain_variance
from wertis.core.imaging.parallel import side_by_side
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.phases import tell
from wertis.core.track.planar import PlanarTracker

_PIXELS = 90_000  # of the region at most, at the resolution at which the layers are told apart
_MOST_FRAMES = 240  # that are kept, at about a quarter of a megabyte each
_SAMPLED = 24  # frames of which a layer is the median; more change it by less than the grain
_FEWEST = 8  # frames on which the second layer must be found
# kinds of motion that the layers are tracked with by turns: few unknowns at first, while the other still shines through; "" is the track's own
_ROUNDS = ("similarity", "similarity", "", "", "", "")
_FINE = 5.0  # pixels, standard deviation: what is smoother is light rather than a layer's picture
_MIDDLE = 128.0  # of 0..255, on which a layer's picture is laid, which is a difference
_EVERY = 3  # frames of which one is asked how much is explained
_NEAR = 24  # frames from the start on that are looked at once more where no second layer was found on all of them
_SETTLED = 2  # rounds after which that is judged: before, a layer of a short range is still mixed with the other
_EXPLAINED = 0.55  # part of what the first layer leaves that may be left when the second is taken off too
_NOTHING = 0.72  # the same, from which there is no second layer: 0.2 to 0.65 was left where there is one, 0.78 and more where there is none
_FOUND = 0.75  # part of the frames on which a layer that leaves between those two must be tracked to be taken for one
_ALONE = 0.02  # part of the region that one layer must cover without the other for a frame to count
_BLOCK = 16  # pixels, side of the blocks in which a layer is looked for
_VEILED = 4.0  # deviation of what a layer leaves, over that of the grain, at the median block, from which something lies over it everywhere
_AROUND = 8  # pixels to each side in which a block is looked for
_SEEN, _UNSEEN = 0.7, 0.65  # correlation of a block with the layer from which it is seen at first, and the part of that below which it is not at last
_LEAVING = 0.015  # part of the blocks seen on the first third of the frames that are not on the last sixth, from which the layer leaves the region
_AT_LAST = 3  # frames at least, that count as the last
_STAYS = 0.55  # correlation of a layer with the frames where it lies alone, over that where both lie, from which it fills its outline
# the same for the layer of which parts left the region: where that is drawn well inside the pane, what is mirrored is seen beyond it for a while
_STAYS_THOUGH_LEAVING = 0.8
_SAME = 3.0  # pixels, at the resolution at which they are told apart, within which a layer is where it was tracked
_CLEARER, _MUCH_CLEARER = 0.15, 0.35  # by which that of one layer must be above the other's; and where the other's is high as well


@dataclass(frozen=True)
class Verdict:
    """What was found of two layers.

    Attributes
    ----------
    kind : "tracked" (the surface is what was tracked, or nothing says otherwise), "other" (it is another layer), or "unclear" (what was tracked
        leaves the region, and which layer is the surface cannot be told).
    fixes : the other layer's motion, by frame, in the pixels of the whole picture.
    """

    kind: str
    fixes: dict[int, Fix]


class _Layer:
    """One layer: where it is on each frame, and its picture where the region is on the reference frame."""

    def __init__(self, matrices: dict[int, np.ndarray], errors: dict[int, float], mask: np.ndarray) -> None:
        self.matrices, self.errors, self._mask = matrices, errors, mask
        self.picture: np.ndarray = np.zeros(mask.shape, np.float32)
        self._where = {f: cv2.warpPerspective(mask, m, mask.shape[::-1], flags=cv2.INTER_NEAREST) > 0 for f, m in matrices.items()}

    def learn(self, pictures: dict[int, np.ndarray], valid: dict[int, np.ndarray] | None = None) -> None:
        """Its picture: the median of the frames' `pictures` (h, w), where they are `valid` (h, w) bool, moved to the reference frame."""
        frames = sorted(f for f in self.matrices if f in pictures)
        frames = [frames[k] for k in np.unique(np.linspace(0, len(frames) - 1, _SAMPLED).astype(int))]
        size = self._mask.shape[::-1]
        inverse = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP

        def steadied(frame: int) -> np.ndarray:
            moved = np.asarray(cv2.warpPerspective(pictures[frame], self.matrices[frame], size, flags=inverse, borderValue=np.nan))
            if valid is not None:
                seen = cv2.warpPerspective(valid[frame].astype(np.uint8), self.matrices[frame], size, flags=cv2.INTER_NEAREST | cv2.WARP_INVERSE_MAP)
                moved[seen == 0] = np.nan
            return moved[self._mask > 0]

        stack = np.sort(np.stack(side_by_side(steadied, frames)), axis=0)  # what is not seen comes last
        count = np.isfinite(stack).sum(0)
        middle = np.take_along_axis(stack, np.maximum(count - 1, 0)[None] // 2, axis=0)[0]
        self.picture = np.zeros_like(self.picture)
        self.picture[self._mask > 0] = np.where(count > 0, middle, np.nanmedian(middle) if count.any() else 0.0)

    def shown(self, frame: int) -> np.ndarray:
        """(h, w) float32, as it is on a frame; 0 beyond the region."""
        return np.asarray(cv2.warpPerspective(self.picture, self.matrices[frame], self.picture.shape[::-1]))

    def inside(self, x: int, y: int) -> bool:
        """Whether a whole block is on the region of the reference frame."""
        return bool(self._mask[y:y + _BLOCK, x:x + _BLOCK].all())

    @property
    def outlines(self) -> dict[int, np.ndarray]:
        """`where` of every frame."""
        return self._where

    def where(self, frame: int) -> np.ndarray:
        """(h, w) bool, where the region would be if it moved as this layer does."""
        return self._where[frame]

    def taken_off(self, pictures: dict[int, np.ndarray]) -> dict[int, np.ndarray]:
        """What the frames show beside it, (h, w) float32 with a median of 0 where it is, and 0 elsewhere."""
        def left(frame: int) -> np.ndarray:
            rest = pictures[frame] - self.shown(frame)
            inside = self.where(frame)
            return np.asarray((rest - (np.median(rest[inside]) if inside.any() else 0.0)) * inside, np.float32)

        frames = [f for f in self.matrices if f in pictures]
        return dict(zip(frames, side_by_side(left, frames), strict=True))


def told_apart(read: Callable[[int], np.ndarray | None], start: int, fixes: dict[int, Fix], mask: np.ndarray, corners: np.ndarray, kind: str,
               stop: threading.Event | None = None) -> Verdict:
    """Look for a second layer in a tracked region, and say which of the two is the surface.

    Parameters
    ----------
    read : gives a frame's luma (height, width) on a scale of 0..255, or None where it cannot be read.
    start : the reference frame.
    fixes : the answers of the track, by frame, in their order away from `start`; one without a matrix is passed over.
    mask : (height, width) uint8, non-zero where the surface is on the reference frame.
    corners : (N, 2) points, in Wertis' pixels, at which the expected error is stated.
    kind : a name in `kinds.KINDS`.
    stop : set to end soon, with nothing said against what was tracked.
    """
    area = max(int(np.count_nonzero(mask)), 1)
    level = int(np.clip(np.ceil(np.log2(area / _PIXELS) / 2), 0, 5))
    scale = 2.0 ** level
    small = (Pyramid(mask)[level] > 0.9 * mask.max()).astype(np.uint8)
    order = [start, *(f for f, fix in fixes.items() if fix.matrix is not None and f != start)][:_MOST_FRAMES]
    pictures = {f: np.clip(Pyramid(luma)[level], 0, 255) for f in order if not _stopped(stop) and (luma := read(f)) is not None}
    if _stopped(stop) or start not in pictures or len(pictures) <= _FEWEST or small.sum() < 1000:
        return Verdict("tracked", {})
    shrink = np.diag([1 / scale, 1 / scale, 1.0])
    matrices = {start: np.eye(3), **{f: shrink @ homography_to_centred(fixes[f].matrix) @ np.linalg.inv(shrink)  # type: ignore[arg-type]
                                     for f in pictures if f != start}}
    places = from_centred(to_centred(corners) / scale)

    def separated(frames: list[int]) -> _Separation:
        return _separated({f: pictures[f] for f in frames}, {f: matrices[f] for f in frames}, small, places, kind, start, stop)

    found = separated(list(pictures))
    if not found.conclusive and len(pictures) > _NEAR and not _stopped(stop):
        near = separated(list(pictures)[:_NEAR])  # over a long range either layer is lost sooner or later, and what both have in common is little
        found = near if near.kind != "tracked" else found
    if _stopped(stop):
        return Verdict("tracked", {})
    surface = found.surface
    if surface is None:
        return Verdict(found.kind, {})
    return Verdict(found.kind, {f: Fix(homography_from_centred(homography.normalised(np.linalg.inv(shrink) @ m @ shrink)), scale * surface.errors[f], 1.0)
                                for f, m in surface.matrices.items() if f != start})


class _Separation(NamedTuple):
    """What `_separated` found.

    Attributes
    ----------
    kind : as in a `Verdict`.
    surface : the layer that is the surface, where it is another one than was tracked.
    conclusive : False where something lies over what was tracked, which leaves the region, and yet no second layer explains the frames.
    """

    kind: str
    surface: _Layer | None = None
    conclusive: bool = True


def _separated(pictures: dict[int, np.ndarray], matrices: dict[int, np.ndarray], mask: np.ndarray, corners: np.ndarray, kind: str, start: int,
               stop: threading.Event | None) -> _Separation:
    """Two layers told apart by turns.

    Parameters
    ----------
    pictures : by frame, (h, w) float32 of 0..255, in their order away from `start`.
    matrices : by frame, (3, 3) of what was tracked, centred, in the pixels of those pictures.
    mask : (h, w) uint8, non-zero where the surface is on the frame `start`.
    corners : (N, 2) points, in Wertis' pixels of those pictures, at which the expected error is stated.
    kind, stop : as for `told_apart`.
    """
    area = int(mask.sum())
    first = _Layer(matrices, {}, mask)
    first.learn(pictures)
    veiled, leaves = _residue(pictures, first, start)
    if not (veiled and leaves):
        return _Separation("tracked")
    second: _Layer | None = None
    left = first.taken_off(pictures)
    steps, total = count(), (2 * len(_ROUNDS) - 1) * len(pictures)

    def goes_on() -> bool:
        tell("telling a reflection from the surface", next(steps), total)
        return not _stopped(stop)

    for number, each in enumerate(_ROUNDS):
        if second is not None:
            again = _tracked(second.taken_off(pictures), second, mask, corners, each or kind, start, goes_on)
            if again is not None:
                first = again
                first.learn(second.taken_off(pictures), second.outlines)
                left = first.taken_off(pictures)
        second = _tracked(left, first, mask, corners, each or kind, start, goes_on)
        if second is None:
            return _Separation("tracked", conclusive=False)
        second.learn(left, first.outlines)
        # a surface that bends, or turns more than it may, leaves something as well, but nothing that is one picture
        unexplained = _unexplained(pictures, first, second, start, area)
        if number >= _SETTLED and unexplained > _EXPLAINED:
            partly = unexplained < _NOTHING and len(second.matrices) > _FOUND * len(pictures)
            return _Separation("unclear" if partly else "tracked", conclusive=False)
    assert second is not None
    which = _which(pictures, first, second, start, area)
    if which == "unclear":
        return _Separation("unclear")
    surface, inside = (first if which == "first" else second), to_centred(corners)
    apart = [np.linalg.norm(homography.apply(m, inside) - homography.apply(matrices[f], inside), axis=1).max() for f, m in surface.matrices.items()]
    return _Separation("tracked") if max(apart) < _SAME else _Separation("other", surface)


def _stopped(stop: threading.Event | None) -> bool:
    return stop is not None and stop.is_set()


def _residue(pictures: dict[int, np.ndarray], layer: _Layer, start: int) -> tuple[bool, bool]:
    """Whether something lies over the layer all over the region, and whether the layer leaves it.

    Each block is looked for a little to all sides, so that a surface that bends, or turns where only a shift is tracked, does not count as gone.
    """
    h, w = layer.picture.shape
    corners = [(x, y) for y in range(0, h - _BLOCK + 1, _BLOCK) for x in range(0, w - _BLOCK + 1, _BLOCK) if layer.inside(x, y)]
    frames = sorted((f for f in layer.matrices if f in pictures and f != start), key=lambda f: abs(f - start))
    if len(frames) < _FEWEST or not corners:
        return False, False

    def one(frame: int) -> tuple[np.ndarray, np.ndarray]:
        matrix, full = layer.matrices[frame], np.ones((h, w), np.uint8)
        inverse = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
        known = cv2.warpPerspective(full, matrix, (w, h), flags=cv2.INTER_NEAREST | cv2.WARP_INVERSE_MAP) > 0
        seen = _smoothed_away(cv2.warpPerspective(pictures[frame], matrix, (w, h), flags=inverse), known)
        own = _smoothed_away(layer.picture, known)
        left, alike = (np.full(len(corners), np.nan) for _ in range(2))
        for k, (x, y) in enumerate(corners):
            x0, y0, x1, y1 = max(x - _AROUND, 0), max(y - _AROUND, 0), min(x + _BLOCK + _AROUND, w), min(y + _BLOCK + _AROUND, h)
            if known[y0:y1, x0:x1].all():
                block = own[y:y + _BLOCK, x:x + _BLOCK]
                alike[k] = float(cv2.matchTemplate(seen[y0:y1, x0:x1], block, cv2.TM_CCOEFF_NORMED).max()) if block.std() > 1e-3 else 0.0
                left[k] = seen[y:y + _BLOCK, x:x + _BLOCK].var() * (1 - alike[k] ** 2)
        return left, alike

    each = side_by_side(one, frames)
    grain = np.median([grain_variance(pictures[f], layer.where(f)) for f in frames[::max(1, len(frames) // _FEWEST)]]) + NO_GRAIN
    counted = [float(np.nanmedian(left)) for left, _ in each if np.isfinite(left).any()]
    if len(counted) < _FEWEST:
        return False, False
    veiled = bool(np.median(counted) > _VEILED ** 2 * grain)
    early, late = (np.stack([alike for _, alike in part]) for part in (each[:len(each) // 3], each[-max(len(each) // 6, _AT_LAST):]))
    known = np.isfinite(early).any(0) & np.isfinite(late).any(0)
    at_first, at_last = (np.nanmedian(part[:, known], axis=0) for part in (early, late))
    gone = ((at_first > _SEEN) & (at_last < _UNSEEN * at_first)).sum() / max((at_first > _SEEN).sum(), 1)
    return veiled, bool(gone > _LEAVING)


def _tracked(left: dict[int, np.ndarray], other: _Layer, mask: np.ndarray, corners: np.ndarray, kind: str, start: int,
             goes_on: Callable[[], bool]) -> _Layer | None:
    """The layer that is seen in what another one leaves of the frames, tracked; None where it is found on too few of them.

    Parameters
    ----------
    goes_on : called with each frame; False ends it.
    """
    try:
        tracker = PlanarTracker(np.clip(left[start] + _MIDDLE, 0, 255), mask * 255, corners, kind)
    except RegionError:
        return None
    tracker.confirms = False  # through what is left of the other layer no answer is sure, and the next rounds tell which of them hold
    matrices, errors = {start: np.eye(3)}, {start: 0.0}
    for frame, rest in left.items():
        if not goes_on():
            return None
        if frame == start:
            continue
        fix = tracker.feed(np.clip(rest + _MIDDLE, 0, 255), np.where(other.where(frame), 0, 255).astype(np.uint8))
        if fix.matrix is not None:
            matrices[frame], errors[frame] = homography_to_centred(fix.matrix), fix.error
    return _Layer(matrices, errors, mask) if len(matrices) > _FEWEST else None


def _which(pictures: dict[int, np.ndarray], first: _Layer, second: _Layer, start: int, area: int) -> str:
    """Which layer is the surface, "first", "second" or "unclear", from how well each is seen where both should be and where it alone should be."""
    together: tuple[list[float], list[float]] = ([], [])
    alone: tuple[list[float], list[float]] = ([], [])
    inner = np.ones((5, 5), np.uint8)
    for f in second.matrices:
        if f == start or f not in first.matrices:
            continue
        a, b = first.where(f), second.where(f)
        both = cv2.erode((a & b).astype(np.uint8), inner) > 0
        if both.sum() < _ALONE * area:
            continue
        shown = first.shown(f), second.shown(f)
        for k, only in enumerate((a & ~b, b & ~a)):
            only = cv2.erode(only.astype(np.uint8), inner) > 0
            if only.sum() >= _ALONE * area:
                together[k].append(_correlation(shown[k], pictures[f], both))
                alone[k].append(_correlation(shown[k], pictures[f], only))
    if _unexplained(pictures, first, second, start, area) > _EXPLAINED:
        return "first"
    if min(len(alone[0]), len(alone[1])) < 3:
        return "first"  # they hardly part, so that it makes little difference which is followed
    stays = [float(np.median(x)) / max(float(np.median(t)), 1e-3) for x, t in zip(alone, together, strict=True)]
    if stays[0] >= _STAYS_THOUGH_LEAVING and stays[0] > stays[1] + _CLEARER:
        return "first"
    clearer = _CLEARER if stays[0] < _STAYS else _MUCH_CLEARER
    return "second" if stays[1] >= _STAYS and stays[1] > stays[0] + clearer else "unclear"


def _unexplained(pictures: dict[int, np.ndarray], first: _Layer, second: _Layer, start: int, area: int) -> float:
    """Part of what the first layer leaves of the frames that is left when the second is taken off too, by its deviation."""
    before = after = 0.0
    for f in [f for f in second.matrices if f in first.matrices and f != start][::_EVERY]:
        both = cv2.erode((first.where(f) & second.where(f)).astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
        if both.sum() >= _ALONE * area:
            rest = pictures[f] - first.shown(f)
            before += float((_detail(rest, both) ** 2).sum())
            after += float((_detail(rest - second.shown(f), both) ** 2).sum())
    return float(np.sqrt(after / before)) if before else 1.0


def _detail(picture: np.ndarray, where: np.ndarray) -> np.ndarray:
    """(n,) the picture's fine structure at the n pixels where `where` (h, w) is true."""
    return _smoothed_away(picture, where)[where]


def _smoothed_away(picture: np.ndarray, where: np.ndarray) -> np.ndarray:
    """(h, w) a picture less its smoothed self, made of the pixels where `where` (h, w) is true alone; 0 elsewhere."""
    weight = where.astype(np.float32)
    smooth = cv2.GaussianBlur(picture * weight, (0, 0), _FINE) / np.maximum(cv2.GaussianBlur(weight, (0, 0), _FINE), 0.05)
    return np.asarray((picture - smooth) * weight, np.float32)


def _correlation(a: np.ndarray, b: np.ndarray, where: np.ndarray) -> float:
    x, y = _detail(a, where), _detail(b, where)
    x, y = x - x.mean(), y - y.mean()
    return float((x * y).sum() / max(np.sqrt((x ** 2).sum() * (y ** 2).sum()), 1e-9))
