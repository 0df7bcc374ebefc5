"""A second layer over a surface: what is mirrored in it, told apart from it.

A reflection adds to the surface's picture and moves otherwise. When both motions are roughly known, the mean of the frames in the surface's place
shows the surface with the reflection smeared out, and the mean of what is left, in the reflection's place, shows the reflection; each makes the
other cleaner. The surface can then be aligned again with the reflection taken off the frames.

Known ground: M. Irani, B. Rousso and S. Peleg, Computing occluding and transparent motions, IJCV 1994; R. Szeliski, S. Avidan and P. Anandan,
Layer extraction from multiple images containing reflections and transparency, CVPR 2000; C. Kuglin and D. Hines, The phase correlation image
alignment method, 1975.
"""

import copy
from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np

from wertis.core.geometry import homography
from wertis.core.geometry.conventions import homography_from_centred, homography_to_centred
from wertis.core.imaging.parallel import side_by_side
from wertis.core.imaging.pyramid import Pyramid

_PIXELS = 350_000  # of the region that are kept of a frame at most; larger regions are kept at lower resolutions
_COARSE_PIXELS = 90_000  # from which the layers are told apart at half the resolution first
MOST_FRAMES = 240  # that are kept; at most 84 MB
_FEWEST = 12  # frames from which a reflection can be told apart
_CLEAR = 0.35  # response of the phase correlation from which a shift is believed
_FINE = 15  # pixels; slower changes of luma than this are light rather than pictures
_APART = 1.0  # pixels a frame by which the two layers must move apart
# frames over which it is first measured how the reflection moves: over one alone the two layers lie so little apart that one draws the other's peak
# towards its own; over several a fast one leaves the region
_SPANS = (4, 1)
_ODD = 3.0  # pixels by which a frame's shift may differ from its neighbours'
_NEAR = 40.0  # pixels beyond which a shift found against the reflection's own picture is not believed
_CLOSE = 2.0  # pixels below which a shift is measured by least squares
_SEEN_OFTEN = 2.5  # frames on which a part of the reflection must be seen to be compared
_BETTER = 0.75  # part to which what is left must fall for the layers to be believed
_ROUNDS, _MEANS = 1, 2
_PAIRS = 8  # of frames that are looked at first
_ROUND = 4  # pixels round a part that its smoothing may reach
_MASKED = -1000.0
_DOUBLED = np.diag([2.0, 2.0, 1.0])
_INVERSE = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP

Align = Callable[[np.ndarray, np.ndarray, list[np.ndarray], list[np.ndarray]], "list[np.ndarray] | None"]
"""Aligns pictures with a surface (h, w) of which a mask (h, w) uint8 counts, from matrices (3, 3, centred); gives better ones, or None."""


@dataclass(eq=False)
class Kept:
    """A frame that is kept, cropped to the surface.

    Attributes
    ----------
    picture : (h, w) uint8, what surrounds the region at the kept level.
    matrix : (3, 3) the reference's crop to this crop, centred.
    back : (3, 3) this crop to the picture at level 0, centred.
    inside : (h, w) float32, 1 where the surface is.
    away : frames from the reference frame, whichever way the track goes.
    shift : (2,) of the reflection, in the kept level's pixels, since the reference frame; `sure` says whether that was measured,
        and `moved` by how much it last changed.
    """

    frame: int
    picture: np.ndarray
    matrix: np.ndarray
    back: np.ndarray
    inside: np.ndarray
    away: int
    shift: np.ndarray
    sure: bool = True
    moved: float = np.inf


class Layers:
    """Keeps small pictures of a surface, and tells a reflection apart from it.

    Parameters
    ----------
    luma : (height, width) of the reference frame, on a scale of 0..255.
    mask : (height, width) uint8, non-zero where the surface is.
    start : the reference frame's number.

    Attributes
    ----------
    kept : the frames kept, the reference frame first.
    back : (3, 3) the reference's crop to its picture at level 0, centred.
    scale : how many pixels of level 0 a kept pixel is wide.
    mask : (h, w) uint8, 1 where the surface is, on the reference's crop.
    surface : (h, w) float32, the surface without the reflection, once it was told apart.
    unexplained : part of what the surface leaves of the frames that the reflection does not explain, 0..1; 1 where none was found.
    """

    def __init__(self, luma: np.ndarray, mask: np.ndarray, start: int) -> None:
        ys, xs = np.nonzero(mask)
        self.box = np.array([[xs.min(), ys.min()], [xs.max(), ys.min()], [xs.max(), ys.max()], [xs.min(), ys.max()]], np.float64)
        area = float(np.ptp(xs) * np.ptp(ys))
        self._level = int(np.clip(np.ceil(np.log2(max(area / _PIXELS, 1e-3)) / 2), 0, 5))
        self.scale = 2.0 ** self._level
        self.kept: list[Kept] = []
        self._start = start
        picture, origin = self._crop(luma, np.eye(3))
        self.back = _offset(origin, self.scale)
        h, w = picture.shape
        small = cv2.warpPerspective((mask > 0).astype(np.float32), self.back, (w, h), flags=_INVERSE)
        self.mask = (small > 0.99).astype(np.uint8)
        self.surface = np.zeros((0, 0), np.float32)
        self._mirror_told: _Mirror | None = None
        self.unexplained = 1.0
        self.keep(start, np.eye(3), luma)

    def keep(self, frame: int, matrix: np.ndarray, luma: np.ndarray) -> None:
        """Remember a frame (height, width) on which the surface is known to be at `matrix` (3, 3), in Wertis' pixels."""
        if len(self.kept) >= MOST_FRAMES:
            return
        onto = homography_to_centred(matrix)
        picture, origin = self._crop(luma, onto)
        if min(picture.shape) < 16:
            return
        back = _offset(origin, self.scale)
        self.kept.append(Kept(frame, picture, np.linalg.inv(back) @ onto @ self.back, back, np.zeros(0), abs(frame - self._start), np.zeros(2)))

    def separated(self, align: Align) -> bool:
        """Tell the layers apart, aligning the surface again as they become clear; False where there is no reflection, or where it does not help.

        Afterwards the kept frames' matrices are the better ones.
        """
        kept = self.kept
        if len(kept) < _FEWEST or self.mask.sum() < 1000:
            return False
        for k in kept:
            k.inside = self._inside(k)
        if self.mask.size > _COARSE_PIXELS:
            rough = self._halved()
            separated = rough.separated(align)
            self.unexplained = rough.unexplained
            if not separated:
                return False
            for k, r in zip(kept, rough.kept, strict=True):
                k.matrix, k.shift, k.sure = _DOUBLED @ r.matrix @ np.linalg.inv(_DOUBLED), 2 * r.shift, r.sure
            return self._refined(self._left_over(rough.enlarged_surface(self.mask.shape)), align, 1, 1, measured=False) is not None
        whole = self._surface(None)
        if len(kept) > 2 * _PAIRS and not self._first_signs(whole):
            return False
        left = self._left_over(whole)
        if not self._first_shifts(left):
            return False
        before = _spread(left, kept)
        after = self._refined(left, align, _ROUNDS, _MEANS)
        if after is not None:
            self.unexplained = min(1.0, after / max(before, 1e-9))
        return after is not None and after <= _BETTER * before

    def _refined(self, left: list[np.ndarray], align: Align, rounds: int, means: int, measured: bool = True) -> float | None:
        """Both layers and both motions, in turn; what is left unexplained in the end (0 unless `measured`), or None where the surface could not be
        aligned.

        `left` (h, w) of each frame is what the surface does not explain. Unless `measured` the reflection's shifts are taken to be known.
        """
        kept = self.kept
        for _ in range(rounds):
            for _ in range(means):
                mirror = self._mirror(left)
                self.surface = self._surface(mirror)
                left = self._left_over(self.surface)
                if measured:
                    self._better_shifts(left, mirror)
            self._mirror_told = mirror = self._mirror(left)
            found = align(self.surface, self.mask, [self.cleaned(k) for k in kept], [k.matrix for k in kept])
            if found is None:
                return None
            base = np.linalg.inv(found[0])
            for k, matrix in zip(kept, found, strict=True):
                k.matrix = homography.normalised(matrix @ base)
            if measured:
                left = self._left_over(self._surface(mirror))
        return 0.0 if not measured else _spread([rest - self._seen(mirror, k) * k.inside for rest, k in zip(left, kept, strict=True)], kept)

    def _halved(self) -> "Layers":
        """The same at half the resolution."""
        half = copy.copy(self)
        half.scale, half.back = 2 * self.scale, self.back @ _DOUBLED
        half.mask = (cv2.pyrDown(self.mask * 255) > 250).astype(np.uint8)
        inverse = np.linalg.inv(_DOUBLED)
        half.kept = [Kept(k.frame, cv2.pyrDown(k.picture), inverse @ k.matrix @ _DOUBLED, k.back @ _DOUBLED, np.zeros(0), k.away, k.shift / 2, k.sure)
                     for k in self.kept]
        return half

    def cleaned(self, k: Kept) -> np.ndarray:
        """(h, w) float32 a kept frame with the reflection taken off."""
        assert self._mirror_told is not None
        return np.asarray(k.picture - self._seen(self._mirror_told, k))

    def whole(self, k: Kept) -> np.ndarray:
        """(3, 3) reference to frame at level 0, in Wertis' pixels, as a kept frame has it."""
        return homography_from_centred(homography.normalised(k.back @ k.matrix @ np.linalg.inv(self.back)))

    # -- inside ---------------------------------------------------------------------------------------------------

    def _crop(self, luma: np.ndarray, matrix: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """The region's surroundings (h, w) uint8 at the kept level, and the place (2,) of its first pixel there."""
        places = homography.apply(matrix, self.box) / self.scale
        picture = luma if self._level == 0 else Pyramid(luma)[self._level]
        h, w = picture.shape
        x0, y0 = np.clip(np.floor(places.min(0)) - 2, 0, [w, h]).astype(int)
        x1, y1 = np.clip(np.ceil(places.max(0)) + 3, 0, [w, h]).astype(int)
        if self._level == 0:  # no more than this part need be smoothed
            left, top = max(0, x0 - _ROUND), max(0, y0 - _ROUND)
            part = Pyramid(luma[top:y1 + _ROUND, left:x1 + _ROUND])[0][y0 - top:y1 - top, x0 - left:x1 - left] if x1 > x0 and y1 > y0 else luma[:0, :0]
        else:
            part = picture[y0:y1, x0:x1]
        return np.clip(np.rint(part), 0, 255).astype(np.uint8), np.array([x0, y0])

    def _inside(self, k: Kept) -> np.ndarray:
        h, w = k.picture.shape
        seen = cv2.warpPerspective(self.mask.astype(np.float32), k.matrix, (w, h))
        return np.asarray((seen > 0.99) & (k.picture < 252), np.float32)

    def _surface(self, mirror: "_Mirror | None") -> np.ndarray:
        """The surface (h, w) float32 on the reference's crop: the mean of the frames with the reflection taken off."""
        h, w = self.mask.shape

        def some(frames: list[Kept]) -> tuple[np.ndarray, np.ndarray]:
            total, count = np.zeros((h, w), np.float32), np.zeros((h, w), np.float32)
            for k in frames:
                picture = k.picture.astype(np.float32)
                if mirror is not None:
                    picture -= self._seen(mirror, k)
                steadied = cv2.warpPerspective(picture, k.matrix, (w, h), flags=_INVERSE, borderValue=_MASKED)
                ok = steadied > _MASKED / 4
                cv2.add(total, steadied, total, ok.view(np.uint8))
                count += ok
            return total, count

        (total, count), (more, counted) = side_by_side(some, [self.kept[::2], self.kept[1::2]])
        return (total + more) / (count + counted + np.float32(1e-3))

    def _left_over(self, surface: np.ndarray, of: list[Kept] | None = None) -> list[np.ndarray]:
        """(h, w) of each frame, or of some: what the surface does not explain, less its mean; 0 outside the region."""
        def left(k: Kept) -> np.ndarray:
            h, w = k.picture.shape
            shown = cv2.warpPerspective(surface, k.matrix, (w, h), borderMode=cv2.BORDER_REPLICATE)
            rest = cv2.multiply(cv2.subtract(k.picture, shown, dtype=cv2.CV_32F), k.inside)
            mean = cv2.sumElems(rest)[0] / max(cv2.sumElems(k.inside)[0], 1.0)
            return np.asarray(cv2.scaleAdd(k.inside, -mean, rest))

        return side_by_side(left, of or self.kept)

    def _first_shifts(self, left: list[np.ndarray]) -> bool:
        """How the reflection moves from frame to frame, from the frames where that is clear; False where it is nowhere."""
        return any(self._shifts_over(span, left) for span in _SPANS)

    def _shifts_over(self, span: int, left: list[np.ndarray]) -> bool:
        """The same, from frames that lie `span` apart."""
        moves, clear, own = [], [], []
        middle = homography.apply(np.linalg.inv(self.back), self.box).mean(0)[None]
        times = np.array([k.away for k in self.kept], float)
        for a, b, before, after in zip(self.kept, self.kept[span:], left, left[span:], strict=False):
            shift, response = _shift_between(*_on_one(a, before, b, after))
            gap = b.away - a.away  # frames that are lost or sure by themselves are not kept
            moves.append(shift / gap)
            clear.append(response)
            places = [homography.apply(k.back @ k.matrix, middle)[0] / self.scale for k in (a, b)]
            own.append((places[1] - places[0]) / gap)
        steps = np.array(moves)
        good = (np.array(clear) > _CLEAR) & (np.linalg.norm(steps - np.array(own), axis=1) > _APART / self.scale)
        if good.sum() < max(3, 0.2 * len(good)):
            return False
        index = (times[span:] + times[:-span]) / 2
        usual = np.array([np.median(steps[good][np.argsort(np.abs(index[good] - i))[:9]], axis=0) for i in index])
        good &= np.linalg.norm(steps - usual, axis=1) < _ODD / self.scale
        if good.sum() < 3:
            return False
        between = (times[1:] + times[:-1]) / 2
        smooth = np.stack([np.interp(between, index[good], steps[good][:, axis]) for axis in (0, 1)], axis=1)
        shifts = np.vstack([[0, 0], np.cumsum(smooth * np.diff(times)[:, None], axis=0)])
        sure = np.concatenate([np.repeat(good[:1], span - span // 2), good, np.repeat(good[-1:], span // 2)])
        for k, shift, clear_here in zip(self.kept, shifts, sure, strict=True):
            k.shift, k.sure = shift, bool(clear_here)
        return True

    def _first_signs(self, surface: np.ndarray) -> bool:
        """Whether anything moves over the surface on some pairs of frames; a quick look, since most surfaces mirror nothing."""
        pairs = [(self.kept[i], self.kept[i + span]) for span in _SPANS for i in np.linspace(0, len(self.kept) - 1 - span, _PAIRS).astype(int)]
        left = {k.frame: rest for k, rest in zip([k for p in pairs for k in p], self._left_over(surface, [k for p in pairs for k in p]), strict=True)}
        return any(_shift_between(*_on_one(a, left[a.frame], b, left[b.frame]))[1] > _CLEAR for a, b in pairs)

    def enlarged_surface(self, shape: tuple[int, ...]) -> np.ndarray:
        """The surface (h, w) at twice the resolution, for a start."""
        return np.asarray(cv2.warpAffine(self.surface, _DOUBLED[:2], shape[::-1], borderMode=cv2.BORDER_REPLICATE))

    def _mirror(self, left_over: list[np.ndarray]) -> "_Mirror":
        """The reflection in its own place: the mean of what the surface leaves over."""
        kept = self.kept
        starts = np.array([k.back[:2, 2] / self.scale - k.shift for k in kept])
        ends = starts + np.array([k.picture.shape[::-1] for k in kept])
        low = np.floor(starts.min(0))
        w, h = (np.ceil(ends.max(0) - low) + 2).astype(int)

        def some(frames: list[tuple[Kept, np.ndarray, np.ndarray]]) -> tuple[np.ndarray, np.ndarray]:
            total, count = np.zeros((h, w), np.float32), np.zeros((h, w), np.float32)
            for k, left, start in frames:
                # on its own corner of the canvas only
                x, y = np.floor(start - low).astype(int)
                across, down = min(k.picture.shape[1] + 1, w - x), min(k.picture.shape[0] + 1, h - y)
                place = np.array([[1, 0, start[0] - low[0] - x], [0, 1, start[1] - low[1] - y]])
                total[y:y + down, x:x + across] += cv2.warpAffine(left, place, (across, down))
                count[y:y + down, x:x + across] += cv2.warpAffine(k.inside, place, (across, down), flags=cv2.INTER_NEAREST)
            return total, count

        all_sure = [each for each in zip(kept, left_over, starts, strict=True) if each[0].sure]
        (total, count), (more, counted) = side_by_side(some, [all_sure[::2], all_sure[1::2]])
        total, count = total + more, count + counted
        return _Mirror(total / np.maximum(count, 1), count, low)

    def _seen(self, mirror: "_Mirror", k: Kept, count: bool = False) -> np.ndarray:
        """The reflection (h, w) as it lies on a frame's crop, or the number of frames it was seen on there."""
        h, w = k.picture.shape
        x, y = mirror.low + k.shift - k.back[:2, 2] / self.scale
        place = np.array([[1, 0, x], [0, 1, y]])
        return np.asarray(cv2.warpAffine(mirror.count, place, (w, h), flags=cv2.INTER_NEAREST) if count else cv2.warpAffine(mirror.picture, place, (w, h)))

    def _better_shifts(self, left_over: list[np.ndarray], mirror: "_Mirror") -> None:
        """Each frame's shift against the reflection as the other frames show it; where that is not clear, from the frames round it."""
        def against_others(each: tuple[Kept, np.ndarray]) -> tuple[np.ndarray, float]:
            k, left = each
            others = self._seen(mirror, k, count=True) - k.sure * k.inside
            known = k.inside * (others > _SEEN_OFTEN)
            rest = (self._seen(mirror, k) * (others + k.sure) - left * k.sure) / np.maximum(others, 1)
            if k.sure and k.moved < _CLOSE / 2:
                return _fine_shift(rest, left, known), 1.0
            shift, response = _shift_between(rest * known, left * known)
            return (_fine_shift(rest, left, known) if np.hypot(*shift) < _CLOSE else shift), response

        found = side_by_side(against_others, list(zip(self.kept, left_over, strict=True)))
        for k, (shift, response) in zip(self.kept, found, strict=True):
            k.sure = response > _CLEAR and np.hypot(*shift) < _NEAR / self.scale
            if k.sure:
                k.shift, k.moved = k.shift + shift, float(np.hypot(*shift))
        sure = [k for k in self.kept if k.sure]
        if len(sure) < 3:
            return
        at = np.array([k.away for k in sure], np.float64)
        for k in self.kept:
            if not k.sure:
                k.shift = _on_line(at, np.array([s.shift for s in sure]), k.away)


@dataclass(frozen=True, eq=False)
class _Mirror:
    """The reflection's picture (h, w), the number of frames (h, w) each pixel was seen on, and the place (2,) of its first pixel."""

    picture: np.ndarray
    count: np.ndarray
    low: np.ndarray


def _offset(origin: np.ndarray, scale: float) -> np.ndarray:
    """(3, 3) from a crop's pixels at a level to level 0."""
    return np.array([[scale, 0, scale * origin[0]], [0, scale, scale * origin[1]], [0, 0, 1.0]])


def _on_one(a: Kept, left: np.ndarray, b: Kept, other: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Two frames' crops laid on one canvas, each at its place in the picture."""
    places = [np.rint(k.back[:2, 2] / k.back[0, 0]).astype(int) for k in (a, b)]
    low = np.minimum(*places)
    size = np.max([p - low + np.array(k.picture.shape[::-1]) for p, k in zip(places, (a, b), strict=True)], axis=0)
    out = []
    for p, picture in zip(places, (left, other), strict=True):
        canvas = np.zeros((size[1], size[0]), np.float32)
        x, y = p - low
        canvas[y:y + picture.shape[0], x:x + picture.shape[1]] = picture
        out.append(canvas)
    return out[0], out[1]


def _shift_between(a: np.ndarray, b: np.ndarray) -> tuple[np.ndarray, float]:
    """How far (2,) b's detail lies from a's, in pixels, and how clear that is (0..1)."""
    fine = [np.where(p != 0, p - cv2.blur(p, (_FINE, _FINE)), 0).astype(np.float32) for p in (a, b)]
    shift, response = cv2.phaseCorrelate(*fine)
    return np.array(shift), float(response)


def _fine_shift(a: np.ndarray, b: np.ndarray, where: np.ndarray) -> np.ndarray:
    """How far (2,) b's detail lies from a's, which is close by, in pixels, by least squares where `where` (h, w) is 1 (Lucas and Kanade 1981)."""
    a, b = (p - cv2.blur(p, (_FINE, _FINE)) for p in (a * where, b * where))
    gx, gy = (cv2.Scharr(a, cv2.CV_32F, i, 1 - i, scale=1 / 32) * where for i in (1, 0))
    inner = cv2.erode(where, np.ones((_FINE, _FINE), np.uint8))
    g = np.stack([(gx * inner).ravel(), (gy * inner).ravel()])
    normal = (g @ g.T).astype(np.float64) + 1e-6 * np.eye(2)
    total = np.zeros(2)
    for _ in range(2):
        moved = cv2.warpAffine(b, np.array([[1, 0, -total[0]], [0, 1, -total[1]]]), b.shape[::-1])
        rest = (moved - a) * inner
        # what belongs to neither layer must not pull
        most = float(3 * np.sqrt(cv2.norm(rest, cv2.NORM_L2SQR) / rest.size))
        total = np.clip(total - np.linalg.solve(normal, g @ np.clip(rest, -most, most).ravel()), -_CLOSE, _CLOSE)
    return total


def _on_line(at: np.ndarray, shifts: np.ndarray, time: float) -> np.ndarray:
    """The shift (2,) on the straight line through the nearest measured ones on both sides, or the last two of one side."""
    right = int(np.clip(np.searchsorted(at, time), 1, len(at) - 1))
    share = (time - at[right - 1]) / (at[right] - at[right - 1])
    return np.asarray(shifts[right - 1] + share * (shifts[right] - shifts[right - 1]))


def _spread(left: list[np.ndarray], kept: list[Kept]) -> float:
    """Root mean square of what is left over, over the frames."""
    return float(np.sqrt(np.mean([(p ** 2).sum() / max(k.inside.sum(), 1) for p, k in zip(left, kept, strict=True)])))
