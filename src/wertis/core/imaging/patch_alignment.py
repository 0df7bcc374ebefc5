"""Patches of a reference picture found in another where a motion puts them, each with a small affine motion of its own.

A patch is looked for by normalised correlation, and then matched to a fraction of a pixel, light and sharpness being unknowns of each. One that is hidden
is not found, or is less like itself than is usual, or moves as none of its neighbours does.

Known ground: J. Lewis, Fast normalized cross-correlation, 1995; B. Lucas and T. Kanade, An iterative image registration technique, 1981; J. Shi and
C. Tomasi, Good features to track, 1994 (affine patches); J. Beaton and J. Tukey, The fitting of power series, 1974 (the weights).
"""

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
import scipy

from wertis.core import compiled
from wertis.core.compiled import address
from wertis.core.imaging.local_light import RIDGE, less_explained, without_light
from wertis.core.imaging.parallel import in_halves
from wertis.core.imaging.pyramid import HeldOut, Pyramid

_COARSE = 2  # level at which patches are looked for
_SEARCHED = 11  # pixels of that level: side of what is looked for
_REACH = 6  # pixels of that level to each side
_STAY = 0.1  # correlation by which a move of the whole reach must be better than none
_LIKE = 0.5  # correlation below which a patch is not found
_NEIGHBOURS, _AWAY = 6, 2.5  # places round each whose median it is compared with, and pixels of the coarse level by which it may differ
_STEPS = {1: 4, 0: 6}  # of Gauss-Newton, of each level
_EXACTLY_AGAIN = 2  # step on which the motion is worked out anew
_SHIFT_PRIOR, _AFFINE_PRIOR = 4.0, 0.6  # pixels, standard deviations: of the shift left after the search, and of what shear does at a patch's edge
_TUKEY = 6.0
_PLAIN = 1.5  # luma, standard deviation of the grain that is always reckoned with
_TOGETHER = 6.0  # neighbouring pixels go together: so many count as one
_ALIKE = 0.6  # share of a patch's contrast that must be explained
_MANY = 12  # patches that together tell how much grain there is
_GRAIN_QUANTILE = 0.3  # of what differs between patches and frame: as long as so many are seen it is grain
_BAREST = 0.05  # quantile of the patches' contrast, of which those are little but grain
_GRAIN_SLOPES = 0.64  # squared slopes that grain of variance 1 gives by itself, by the pixels of its own level (measured on made noise)
_LEAST_REAL = 0.2  # part of a patch's slopes that is always taken for texture
_ODD = 5.0  # times the usual unexplained share of contrast from which a patch shows something else
_NEIGHBOURHOOD = 4.0  # sides of a patch within which others are its neighbours
ALONE = 0.8  # share of a patch's contrast found again, from which it may move as none of its neighbours does
_LEAST_AGREEING, _AGREEMENT = 3, 3.0  # of the eight nearest patches, how many must predict a patch's motion, and within how many pixels
_GROWTHS, _FAR_OFF = 3, 1.5  # times that patches beside those are tried which drift by so many pixels
_CLIP_LEVEL = 252.0  # luma from which a pixel is taken to be clipped
_HELD = 0.2  # share of a pixel that is held out, from which it does not count
_LEAST_GAIN = 0.2  # of the reference's contrast, below which nothing is found again
_PRIOR = np.diag([1 / _SHIFT_PRIOR ** 2] * 2 + [1 / _AFFINE_PRIOR ** 2] * 4)
_WORTH_TWO = 10  # patches each, from which two threads are quicker than one
_FAINT = 0.25  # of a patch's pixels that must be on the surface and in the picture
_LEAST = 3  # patches
MARGIN = 2.0 * (_REACH + _SEARCHED) * 2 ** _COARSE  # pixels of the frame, round the surface, that are looked at where it is not much larger there

PointsMap = Callable[[np.ndarray], np.ndarray]


@dataclass(frozen=True)
class Aligned:
    """Patches that were found.

    Attributes
    ----------
    patches : (m,) their numbers.
    moves : (m, 2) by how many of the reference's pixels each lies off where the motion has it.
    affine : (m, 2, 2) by how much each is sheared, turned and scaled beside that, 0 for not at all.
    covariance : (m, 2, 2) of the moves, as the patches' pixels have it.
    explained : (m,) share 0..1 of each patch's contrast that is found again.
    """

    patches: np.ndarray
    moves: np.ndarray
    affine: np.ndarray
    covariance: np.ndarray
    explained: np.ndarray


@dataclass(frozen=True)
class _Level:
    """The reference's patches at one level: (K, P) pixels of each.

    Attributes
    ----------
    offsets : (P, 2) of the pixels from the middle, in level-0 pixels.
    light, columns : (K, 7, P) what light and sharpness may change, and (K, 6, P) what the unknown motion does, less that.
    power, slope : (K,) mean squares of luma that light cannot explain, and of the slopes of that.
    on : (K, P) 0..1 whether a pixel is on the surface.
    """

    offsets: np.ndarray
    light: np.ndarray
    columns: np.ndarray
    power: np.ndarray
    slope: np.ndarray
    on: np.ndarray


class View:
    """The part of a frame that matters, and how a motion lays the reference on it. Places are centred: first pixel centres at (0, 0).

    Parameters
    ----------
    frame, held : the part, and 1 on what does not count.
    forward : takes points (n, 2) of the reference to the frame's whole picture.
    jacobian : its derivatives (n, 2, 2).
    origin, size : where the part begins, x and y, and the whole picture's width and height.
    """

    def __init__(self, frame: Pyramid, held: HeldOut | None, forward: PointsMap, jacobian: PointsMap, origin: tuple[int, int],
                 size: tuple[int, int]) -> None:
        self._frame, self._held, self.onto, self.slopes, self._origin, self.size = frame, held, forward, jacobian, np.array(origin), size

    def picture(self, level: int) -> np.ndarray:
        """(h, w) float32 the part of the frame."""
        return self._frame[level]

    def held(self, level: int) -> np.ndarray | None:
        """(h, w) float32 share 0..1 of each of its pixels that is held out; None where none is."""
        return self._held[level] if self._held is not None else None

    def mapped(self, places: np.ndarray, which: np.ndarray) -> np.ndarray:
        """(n, P, 2) where places (n, P, 2) of the reference, of the patches `which` (n,), are in the whole picture."""
        return self.onto(places.reshape(-1, 2).astype(np.float64)).reshape(places.shape)

    def slopes_at(self, points: np.ndarray, which: np.ndarray) -> np.ndarray:
        """(n, 2, 2) the Jacobian at one point (n, 2) of each of the patches `which` (n,)."""
        return self.slopes(points)

    def at(self, level: int, places: np.ndarray, which: np.ndarray) -> np.ndarray:
        """(n, P, 2) float32 places (n, P, 2) of the patches `which` (n,) of the reference in the level's pixels of the part of the frame."""
        there = self.mapped(places, which) - self._origin
        return np.nan_to_num(there / 2 ** level, nan=-1e6).astype(np.float32)

    def read(self, level: int, places: np.ndarray, which: np.ndarray) -> np.ndarray:
        """(n, P) the frame at places (n, P, 2) of the reference, of the patches `which` (n,)."""
        return _read(self._frame[level], self.at(level, places, which))

    def read_with_held(self, level: int, at: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """(n, P) the frame at its own level's places (n, P, 2), and whether each counts, 0..1."""
        picture = self._frame[level]
        counts = ((at >= 0) & (at <= np.array(picture.shape[::-1]) - 1)).all(-1)
        if self._held is not None:
            counts &= _read(self._held[level], at) < _HELD
        return _read(picture, at), np.asarray(counts, np.float32)


class PatchAlignment:
    """Finds the patches of one reference picture in others.

    Parameters
    ----------
    reference : its pyramid.
    mask : (h, w) uint8, non-zero on the surface.
    side : of a patch, odd, in pixels.
    centres : (K, 2) whole pixels, the patches' middles.
    spacing : pixels between the places that are looked for in a wide search; each patch itself when None.
    reaches : (K,) pixels to each side in which a patch that is looked for itself may lie off where it is expected; the usual 24 when None.
    """

    def __init__(self, reference: Pyramid, mask: np.ndarray, side: int, centres: np.ndarray, spacing: float | None,
                 reaches: np.ndarray | None = None) -> None:
        self._reference, self._mask = reference, HeldOut(np.where(mask > 0, 255, 0).astype(np.uint8))
        self.side, self.centres = side, centres
        self._searched = centres if spacing is None else grid_on(mask, spacing)
        self._near = nearest(self._searched, self._searched, _NEIGHBOURS + 1)[1][:, 1:]
        self._searched_near = nearest(self.centres, self._searched, 1)[1][:, 0]
        self._given = reaches if spacing is None else None
        self._reaches = np.full(len(self._searched), _REACH) if self._given is None else np.maximum(np.ceil(self._given / 2 ** _COARSE), 1).astype(int)
        self._levels = {level: self._patches(level) for level in _STEPS}
        self._template = self._searched_patches()

    def align(self, view: View, among: np.ndarray | None = None) -> Aligned:
        """Where a view of a frame has the patches; of those numbered `among` (n,), or all."""
        among = np.arange(len(self.centres)) if among is None else among
        searched, found = self._search(view, np.unique(self._searched_near[among]))
        patches = among[found[self._searched_near[among]]]
        moves, affine = searched[self._searched_near], np.zeros((len(self.centres), 2, 2))
        covariance = np.zeros((0, 2, 2))
        explained = np.zeros(len(self.centres))
        for level in _STEPS:
            if len(patches):
                fine, covariance, explained[patches] = self._matched(view, level, patches, moves, affine)
                patches, covariance = patches[fine], covariance[fine]
        alone = explained[patches] > ALONE if self._given is not None else None
        kept = agrees_with_neighbours(self.centres[patches], moves[patches], affine[patches], _NEIGHBOURHOOD * self.side, alone)
        if self._given is not None:
            kept &= np.abs(moves[patches]).max(1) <= self._given[patches]
        patches, covariance = patches[kept], covariance[kept]
        if self._searched is not self.centres:
            patches, covariance = self._grown(view, patches, covariance, moves, affine, among, explained)
        return Aligned(patches, moves[patches], affine[patches], covariance, explained[patches])

    def refine(self, view: View, among: np.ndarray) -> Aligned:
        """Where a view of a frame has the patches numbered `among` (n,), when the motion has them nearly right: at the finest level alone."""
        usable = among[in_front(view.mapped(self.centres[among][:, None], among)[:, 0], view.slopes_at(self.centres[among], among), view.size)]
        moves, affine = np.zeros((len(self.centres), 2)), np.zeros((len(self.centres), 2, 2))
        if not len(usable):
            return Aligned(usable, moves[usable], affine[usable], np.zeros((0, 2, 2)), np.zeros(0))
        fine, covariance, explained = self._matched(view, 0, usable, moves, affine)
        patches = usable[fine]
        return Aligned(patches, moves[patches], affine[patches], covariance[fine], explained[fine])

    def expected_deviation(self, grain: float) -> np.ndarray:
        """(K,) pixels, standard deviation of each patch's move in its least certain direction, under grain of so much luma."""
        level = self._levels[0]
        columns = level.columns * level.on[:, None]
        normal = columns @ level.columns.transpose(0, 2, 1) / (grain ** 2 * _TOGETHER) + np.diag([1e-6] * 2 + [1 / _AFFINE_PRIOR ** 2] * 4)
        return np.asarray(np.sqrt(np.linalg.eigvalsh(np.linalg.inv(normal)[:, :2, :2])[:, 1]))

    # -- inside ---------------------------------------------------------------------------------------------------

    def _grown(self, view: View, patches: np.ndarray, covariance: np.ndarray, moves: np.ndarray, affine: np.ndarray,
               among: np.ndarray, explained: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """The patches (n,) that are measured and their covariances (n, 2, 2), with those beside what drifts most, begun from where that leads."""
        for _ in range(_GROWTHS):
            if len(patches) < _LEAST:
                break
            rest = np.setdiff1d(among, patches)
            far, near = nearest(self.centres[rest], self.centres[patches], 3)
            beside = (far[:, 0] < 2 * self.side) & (np.linalg.norm(moves[patches][near], axis=2).max(1) > _FAR_OFF)
            rest, near = rest[beside], near[beside]
            if not len(rest):
                break
            # each of the nearest leads on by its own small affine motion
            steps = self.centres[rest][:, None] - self.centres[patches][near]
            moves[rest] = np.median(moves[patches][near] + np.einsum("nkab,nkb->nka", affine[patches][near], steps), axis=1)
            affine[rest] = np.median(affine[patches][near], axis=1)
            fine, new, explained[rest] = self._matched(view, 0, rest, moves, affine)
            if not fine.any():
                break
            patches, covariance = np.concatenate([patches, rest[fine]]), np.concatenate([covariance, new[fine]])
            kept = agrees_with_neighbours(self.centres[patches], moves[patches], affine[patches], _NEIGHBOURHOOD * self.side)
            patches, covariance = patches[kept], covariance[kept]
        return patches, covariance

    def _patches(self, level: int) -> _Level:
        side = max(self.side >> level, 9) // 2 * 2 + 1
        half = side // 2
        dy, dx = (a.ravel() for a in np.meshgrid(np.arange(-half, half + 1), np.arange(-half, half + 1), indexing="ij"))
        if level == 0:
            taken = (dx + dy) % 2 == 0  # every second pixel says almost as much, since neighbours go together
            dx, dy = dx[taken], dy[taken]
        offsets = np.stack([dx, dy], -1).astype(np.float32) * np.float32(2 ** level)
        image = self._reference[level]
        gx, gy = (cv2.Scharr(image, cv2.CV_32F, a, 1 - a, scale=1 / 32) for a in (1, 0))
        planes = [image, gx, gy, *(cv2.Scharr(g, cv2.CV_32F, a, 1 - a, scale=1 / 32) for g, a in ((gx, 1), (gx, 0), (gy, 0)))]
        at = (self.centres[:, None] + offsets) / 2 ** level
        values, sx, sy, *bends = (_read(plane, at) for plane in planes)
        ramps = np.broadcast_to((offsets / np.float32(half * 2 ** level)).T, (len(at), 2, len(offsets)))
        ramp = np.concatenate([np.ones_like(ramps[:, :1]), ramps], axis=1)
        plain = less_explained(values[:, None], ramp)
        light = np.concatenate([plain, ramp], axis=1)
        light = np.concatenate([light, less_explained(np.stack(bends, 1), light)], axis=1).astype(np.float32)
        slopes = np.stack([sx, sy], 1) / np.float32(2 ** level)
        columns = np.concatenate([slopes, slopes * ramps[:, :1], slopes * ramps[:, 1:]], axis=1)
        size = np.array(image.shape[::-1])
        on = _read(self._mask[level], at) * ((at >= 0) & (at <= size - 1)).all(-1)
        columns = less_explained(columns, light).astype(np.float32)
        return _Level(offsets, light, columns, (plain[:, 0] ** 2).mean(1), (columns[:, :2] ** 2).sum(1).mean(1), on.astype(np.float32))

    def _searched_patches(self) -> np.ndarray:
        """(S, side, side) float32 of the reference at the coarse level."""
        at = (self._searched[:, None] + _square(_SEARCHED // 2) * 2 ** _COARSE) / 2 ** _COARSE
        return _read(self._reference[_COARSE], at).reshape(-1, _SEARCHED, _SEARCHED)

    def _search(self, view: View, wanted: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Moves (S, 2) of the reference's pixels of the places `wanted` (n,), and which of all (S,) were found or have neighbours that were."""
        reach = int(self._reaches[wanted].max(initial=1))
        half = _SEARCHED // 2 + reach
        pixel = 2.0 ** _COARSE
        moves, found = np.zeros((len(self._searched), 2)), np.zeros(len(self._searched), bool)
        middles = self._searched[wanted]
        usable = wanted[in_front(view.mapped(middles[:, None], wanted)[:, 0], view.slopes_at(middles, wanted), view.size)]
        if not len(usable):
            return moves, found
        windows = view.read(_COARSE, self._searched[usable][:, None] + _square(half) * pixel, usable).reshape(len(usable), 2 * half + 1, -1)
        for k, window in zip(usable, windows, strict=True):
            match = cv2.matchTemplate(window.astype(np.float32), self._template[k], cv2.TM_CCOEFF_NORMED)
            own = int(self._reaches[k])
            match = match[reach - own:reach + own + 1, reach - own:reach + own + 1]
            span = np.arange(-own, own + 1)
            stay = _STAY * (span[:, None] ** 2 + span ** 2) / own ** 2
            j, i = np.unravel_index(np.argmax(match - stay), match.shape)
            moves[k], found[k] = (span[i] * pixel, span[j] * pixel), match[j, i] > _LIKE
        out, known = moves.copy(), found.copy()
        for k in usable:  # one that differs from all round it matched something else
            near = self._near[k][found[self._near[k]]]
            if len(near) >= 3:
                usual = np.median(moves[near], axis=0)
                if np.mean(np.abs(moves[near] - usual).max(1) <= _AWAY * pixel) < 0.5:
                    continue  # these agree on nothing
                if np.abs(moves[k] - usual).max() > _AWAY * pixel or not found[k]:
                    out[k], known[k] = usual, True
        return out, known

    def _matched(self, view: View, level: int, which: np.ndarray, moves: np.ndarray, affine: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Moves (K, 2) and shears (K, 2, 2) of the patches `which` (n,) brought up to date; which of them agree (n,), the moves' covariances, and (n,)
        the share of each patch's contrast that is found again."""
        patches = self._levels[level]
        reach = float(np.abs(patches.offsets).max())
        start = moves[which].copy()
        weights = np.ones((len(which), len(patches.offsets)), np.float32)
        explained, covariance = np.zeros(len(which)), np.zeros((len(which), 2, 2))
        for turn in range(_STEPS[level] + 1):
            if turn in (0, _EXACTLY_AGAIN):
                places = self.centres[which][:, None] + moves[which][:, None] + patches.offsets + patches.offsets @ affine[which].transpose(0, 2, 1)
                onto = view.at(level, places, which)
                slopes = view.slopes_at(self.centres[which] + moves[which], which) / 2 ** level
                begun = moves[which].copy(), affine[which].copy()
            # near by, the motion is as good as linear
            moved = np.concatenate([slopes @ (moves[which] - begun[0])[..., None], slopes @ (affine[which] - begun[1])], axis=2)
            has = np.concatenate([moves[which] - start, (affine[which] * reach).transpose(0, 2, 1).reshape(-1, 4)], axis=1)
            step, explained, covariance = _steps(patches, which, view, level, onto, moved, weights, has)
            step *= np.minimum(1.0, 2.0 ** level * 3 / np.maximum(np.abs(step).max(1, keepdims=True), 1e-9))
            moves[which] += step[:, :2]
            affine[which] += step[:, 2:].reshape(-1, 2, 2).transpose(0, 2, 1) / reach
        power = patches.power[which]
        grain = self._grain(level, which, explained)
        usual = max(2 * _PLAIN ** 2, 2 * grain)
        least = np.minimum(_ALIKE, 0.8 * power / (power + usual))
        # beside a fold or a passer a patch may find something like itself, but less like itself than is usual
        usual_rest = 1 - float(np.median(explained[explained > least])) if (explained > least).any() else 1.0
        # of the slopes only what is not grain's own tells of the motion
        real = np.maximum(1 - _GRAIN_SLOPES / 4 ** level * grain / np.maximum(patches.slope[which], 1e-9), _LEAST_REAL)
        covariance = covariance / real[:, None, None] ** 2
        agrees = (explained > least) & (1 - explained < np.maximum(_ODD * usual_rest, 1 - power / (power + 2 * usual)))
        return agrees, covariance, explained


    def _grain(self, level: int, which: np.ndarray, explained: np.ndarray) -> float:
        """Variance of the grain, as far as many patches tell it: from the share (n,) of the contrast of patches `which` (n,) that is found again, most of
        which are taken to be seen. No patch has less contrast than its own grain."""
        if len(which) < _MANY:
            return 0.0
        power = self._levels[level].power
        difference = np.quantile(power[which] * (1 / np.maximum(explained, 1e-3) - 1), _GRAIN_QUANTILE)
        return min(float(difference) / 2, float(np.quantile(power, _BAREST)))


def _steps(patches: _Level, which: np.ndarray, view: View, level: int, onto: np.ndarray, moved: np.ndarray, weights: np.ndarray,
           has: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """A Gauss-Newton step (n, 6) of the patches `which` (n,), the share (n,) of each one's contrast that is found again, and the shift's covariances.

    Parameters
    ----------
    onto : (n, P, 2) places of their pixels in the view's level, float32.
    moved : (n, 2, 3) by what the patches have moved there since: a shift, and a matrix times the offset from their middle.
    weights : (n, P) robust weights, brought up to date.
    has : (n, 6) the shift since the search, and the affine motion at a patch's edge.
    """
    if compiled.LIBRARY is None or min(view.picture(level).shape) < 2:
        return plain_steps(patches, which, view, level, onto, moved, weights, has)
    f, d = np.float32, np.float64
    step, explained, covariance = np.empty((len(which), 6)), np.empty(len(which)), np.empty((len(which), 2, 2))
    prior, has = np.ascontiguousarray(np.diag(_PRIOR)), np.ascontiguousarray(has, d)
    constants = np.array([_CLIP_LEVEL, _HELD, _TUKEY, _PLAIN / 2, _TOGETHER, _LEAST_GAIN, _FAINT, RIDGE])
    onto, which = np.ascontiguousarray(onto, f), np.ascontiguousarray(which, np.int64)
    moved = np.concatenate([moved[..., 0], moved[..., 1:].reshape(-1, 4)], axis=1)
    picture, held = view.picture(level), view.held(level)
    count = len(patches.offsets)

    def part(span: slice) -> None:
        room = np.empty((5, count), f)
        assert compiled.LIBRARY is not None
        compiled.LIBRARY.patch_steps(
            len(which[span]), count, address(which[span], np.int64), *(address(a, f) for a in (patches.light, patches.columns, patches.power, patches.on)),
            address(patches.offsets, f), address(picture, f), *picture.shape, address(held, f), address(onto[span], f), address(moved[span], d),
            address(weights[span], f), address(has[span], d), address(prior, d), address(constants, d), address(room, f),
            address(step[span], d), address(explained[span], d), address(covariance[span], d))

    in_halves(part, len(which), _WORTH_TWO)
    return step, explained, covariance


def plain_steps(patches: _Level, which: np.ndarray, view: View, level: int, onto: np.ndarray, moved: np.ndarray, weights: np.ndarray,
                has: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """`_steps` in NumPy; see compiled/patches.c."""
    light, columns, power, on = (a[which] for a in (patches.light, patches.columns, patches.power, patches.on))
    onto = (onto + moved[:, None, :, 0] + patches.offsets @ moved[..., 1:].transpose(0, 2, 1)).astype(np.float32)
    seen, allowed = view.read_with_held(level, onto)
    lit = on * allowed * (seen < _CLIP_LEVEL)
    amounts, rest = without_light(light, seen, weights * lit)
    rest = rest / np.maximum(amounts[:, 0], _LEAST_GAIN)[:, None]
    usual = _weighted_median(np.abs(rest), lit)
    spread = np.maximum(np.float32(1.4826) * usual, np.float32(_PLAIN / 2))
    weights[...] = np.maximum(1 - (rest / (np.float32(_TUKEY) * spread)) ** 2, 0) ** 2
    total = (weights * lit).sum(1)
    left = (rest ** 2 * weights * lit).sum(1) / np.maximum(total, 1)
    explained = np.where((amounts[:, 0] > _LEAST_GAIN) & (total > _FAINT * lit.shape[1]), 1 - left / (power + left + 1e-6), 0)
    pulled = columns * (weights * lit / (spread ** 2 * np.float32(_TOGETHER)))[:, None]
    normal = (pulled @ columns.transpose(0, 2, 1)).astype(np.float64) + _PRIOR
    step = -np.linalg.solve(normal, ((pulled @ rest[..., None])[..., 0].astype(np.float64) + has @ _PRIOR)[..., None])[..., 0]
    return step, explained, np.linalg.inv(normal)[:, :2, :2]


def agrees_with_neighbours(centres: np.ndarray, moves: np.ndarray, affine: np.ndarray, reach: float, alone: np.ndarray | None = None) -> np.ndarray:
    """(n,) whether some of the patches round each, as they move and shear (n, 2), (n, 2, 2), lead to about its move.

    One with few patches within `reach` pixels has nobody to contradict it. Those that may stand `alone` (n,) are contradicted only where most of the
    patches round them lead to one other move.
    """
    if len(centres) <= _LEAST_AGREEING:
        return np.ones(len(centres), bool)
    far, near = (a[:, 1:] for a in nearest(centres, centres, 9))
    step = centres[:, None] - centres[near]
    led = moves[near] + np.einsum("nkab,nkb->nka", (affine[near] + affine[:, None]) / 2, step)
    close = far < reach
    agree = ((np.linalg.norm(led - moves[:, None], axis=2) < _AGREEMENT) & close).sum(1)
    kept = np.asarray(agree >= np.minimum(_LEAST_AGREEING, close.sum(1) - 1))
    if alone is not None:
        together = ((np.linalg.norm(led[:, :, None] - led[:, None], axis=3) < _AGREEMENT) & close[:, None] & close[:, :, None]).sum(2).max(1)
        kept |= alone & (together <= np.maximum(_LEAST_AGREEING, close.sum(1) / 2))
    return kept


def in_front(places: np.ndarray, slopes: np.ndarray, size: tuple[int, int]) -> np.ndarray:
    """(n,) whether places (n, 2) are inside a picture of `size` (width, height), and the surface there, of Jacobian (n, 2, 2), faces us."""
    with np.errstate(invalid="ignore"):
        return np.asarray(((places > 0) & (places < np.array(size) - 1)).all(1) & (np.linalg.det(slopes) > 0))


def grid_on(mask: np.ndarray, step: float) -> np.ndarray:
    """(K, 2) whole pixels, centred, of a grid over a mask (h, w), one at least."""
    ys, xs = np.nonzero(mask)
    x, y = (np.arange(int(a.min()) + min(step, int(np.ptp(a))) / 2, int(a.max()) + 1, step) for a in (xs, ys))
    grid = np.stack(np.meshgrid(x, y), axis=-1).reshape(-1, 2).astype(int)
    on = grid[mask[grid[:, 1], grid[:, 0]] > 0]
    return (on if len(on) else np.array([[xs[len(xs) // 2], ys[len(ys) // 2]]])).astype(float)


def nearest(points: np.ndarray, among: np.ndarray, count: int) -> tuple[np.ndarray, np.ndarray]:
    """Distances and numbers (n, count) of the nearest of places (m, 2) to points (n, 2)."""
    count = min(count, len(among))
    far, index = scipy.spatial.cKDTree(among).query(points, k=count)
    return np.asarray(far).reshape(len(points), count), np.asarray(index).reshape(len(points), count)


def _square(half: int) -> np.ndarray:
    """(n, 2) x, y of the pixels of a square."""
    dy, dx = (a.ravel() for a in np.meshgrid(np.arange(-half, half + 1), np.arange(-half, half + 1), indexing="ij"))
    return np.stack([dx, dy], -1).astype(np.float32)


def _read(picture: np.ndarray, places: np.ndarray) -> np.ndarray:
    """(n, P) a picture at places (n, P, 2)."""
    return np.asarray(cv2.remap(picture, places.astype(np.float32), None, cv2.INTER_LINEAR,  # type: ignore[call-overload]
                                borderMode=cv2.BORDER_REPLICATE))


def _weighted_median(values: np.ndarray, counted: np.ndarray) -> np.ndarray:
    """(n, 1) medians of rows (n, P) over what is counted."""
    shown = np.where(counted > 0, values, np.inf)
    shown.sort(axis=1)
    middle = np.minimum((counted > 0).sum(1) // 2, values.shape[1] - 1)
    found = np.take_along_axis(shown, middle[:, None], axis=1)
    return np.where(np.isfinite(found), found, 1.0).astype(np.float32)
