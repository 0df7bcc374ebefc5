"""Drift: how far a surface really is from where a motion says, measured on the pictures and not by the tracker's own residual.

Small patches over the surface, as a base frame shows them, are looked for round the place where the motion puts them; each gives a displacement and
the covariance that its texture allows. A robust fit of a small homography through those that agree gives the slip at any point, with its own
uncertainty. Hidden patches are not found or disagree; patches without texture say nothing; where too few say anything, nothing is measured.

Known ground: J. Lewis, Fast normalized cross-correlation, 1995; B. Lucas and T. Kanade, An iterative image registration technique, 1981; J. Shi and
C. Tomasi, Good features to track, 1994 (the structure tensor); M. Fischler and R. Bolles, Random sample consensus, 1981; J. Beaton and J. Tukey, The
fitting of power series, 1974 (the weights).
"""

from dataclasses import dataclass
from functools import cached_property

import cv2
import numpy as np

from wertis.core.geometry import homography
from wertis.core.geometry.conventions import homography_to_centred, to_centred
from wertis.core.imaging.pyramid import HeldOut, Pyramid

_PATCHES = (13, 25)  # least and most side of a patch in pixels of the level it is matched at
_DENSE = 60  # patches that a surface should have room for side by side
_REACH = 6  # pixels of the coarse level to each side that are searched
_COARSE = 2  # levels between the search and the measurement; 4 * _REACH pixels are found
_ROOM = 40  # pixels of its level that a surface's shorter side needs for the search
_MOST = 110  # patches
_LIKE = 0.55  # normalised correlation below which a patch is taken to be hidden
_ALIKE = 0.75  # share of a patch's contrast that must be explained at the end for it to count
_PLAIN = 1.5  # luma, standard deviation of the grain that is always reckoned with
_WEAK = 3.0  # luma per pixel: gradient along a patch's strongest direction below which it is left out
_TURNS = 4  # steps of the measurement at each level
_POLISH = 4  # steps of the last measurement, of all patches together
_POLISH_REACH = 0.8  # pixels from the patches' own answer, beyond which the common one is not believed
_TOGETHER = 4.0  # neighbouring pixels go together: so many of those taken count as one
_WHITE = 252.0  # luma from which a pixel is taken to be clipped
_SAMPLES = 120
_LEAST_AGREE = 1.0  # pixels of the coarse level within which patches agree in the first search
_TUKEY = 4.5
_DOUBT = 0.02  # pixels of error that no count of patches takes away (resampling, lens)
_UNLIKE, _UNLIKE_DOUBT = 0.01, 12.0  # share of a patch's contrast left unexplained that is usual, and pixels of doubt for each part above it
_PRIOR = 12.0  # pixels, standard deviation, of the slip that is expected before anything is seen
MEASURED = 0.25  # pixels of uncertainty above which a corner counts as not measured


@dataclass(frozen=True)
class Slip:
    """One frame's drift.

    Attributes
    ----------
    slip : (N, 2) in the frame's pixels, from where the motion puts each point to where it was measured to be; nan where not measured.
    doubt : (N,) standard deviation of each in pixels; inf where nothing could be said.
    seen : share 0..1 of the patches in the picture that were found.
    in_view : share 0..1 of the surface that lies in the picture.
    reason : why nothing was measured; empty otherwise.
    """

    slip: np.ndarray
    doubt: np.ndarray
    seen: float = 0.0
    in_view: float = 0.0
    reason: str = ""

    @cached_property
    def amounts(self) -> np.ndarray:
        """(N,) the slips' lengths in pixels; nan where not measured."""
        return np.asarray(np.hypot(self.slip[:, 0], self.slip[:, 1]))

    @cached_property
    def worst(self) -> float:
        """The largest slip in pixels; nan when nothing was measured."""
        found = self.amounts[np.isfinite(self.amounts)]
        return float(found.max()) if len(found) else float("nan")


class DriftMeter:
    """Measures frames against one base frame.

    Parameters
    ----------
    luma : (h, w) uint8 or float32 on a scale of 0..255, the base frame.
    mask : (h, w) uint8, non-zero where the surface is on it.
    points : (N, 2) points of the base frame at which the slip is wanted, in Wertis' pixels.
    """

    def __init__(self, luma: np.ndarray, mask: np.ndarray, points: np.ndarray) -> None:
        self._base = Pyramid(luma)
        self._mask = (mask > 0).astype(np.uint8)
        self._points = to_centred(points)
        ys, xs = np.nonzero(self._mask)
        self._empty = len(ys) < 100
        if not self._empty:
            self._centre = np.array([(xs.min() + xs.max()) / 2, (ys.min() + ys.max()) / 2])
            self._short = min(np.ptp(xs), np.ptp(ys)) + 1.0
            self._radius = max(np.ptp(xs), np.ptp(ys)) / 2 + 1.0
        self._patches: dict[int, _Patches] = {}

    def measure(self, luma: np.ndarray, matrix: np.ndarray | None, held: np.ndarray | None = None) -> Slip:
        """One frame's drift.

        Parameters
        ----------
        luma : (h, w), the frame, on the same scale.
        matrix : (3, 3) base to frame in Wertis' pixels, as the motion has it; None where it has no answer.
        held : (h, w) uint8, 255 on the frame's pixels that do not count.
        """
        nothing = Slip(np.full((len(self._points), 2), np.nan), np.full(len(self._points), np.inf))
        if matrix is None:
            return _because(nothing, "the track has no answer here")
        if self._empty:
            return _because(nothing, "the region is empty")
        onto = homography_to_centred(matrix)
        scale = homography.local_scale(onto, self._centre)
        if not np.isfinite(scale) or not 0.02 < scale < 50:
            return _because(nothing, "the track folds the surface over")
        frame = Pyramid(luma)
        held_out = HeldOut(held) if held is not None else None
        # both pictures are compared at the resolution of the poorer one
        down = max(0, round(-np.log2(scale)))
        up = max(0, round(np.log2(scale)))
        fix = np.eye(3)
        found: _Found | None = None
        # a small surface has no room for patches at coarse levels
        coarsest = int(np.clip(np.log2(max(self._short / 2 ** down / _ROOM, 1)), 0, _COARSE))
        for coarse in range(coarsest, -1, -1):
            patches = self._at(down + coarse)
            if len(patches.x) < 3:
                continue
            search = found is None
            found = _match(patches, frame, onto @ fix, down + coarse, up + coarse, held_out, search)
            if found.in_view.sum() < 3:
                return _because(nothing, "too little of the surface is in the picture", found)
            step = self._fitted(patches, found, 2.0 ** (down + coarse), search)
            if step is None:
                return _because(nothing, "too few patches agree", found)
            fix = fix @ step.fix
        if found is None or step is None:
            return _because(nothing, "too little texture")
        apart, unlike = np.zeros(len(self._points)), 0.0
        polished = self._polished(patches, np.flatnonzero(step.agrees & found.good), frame, onto, fix, down, up, held_out)
        if polished is not None:
            far = homography.apply(onto @ polished[0], self._points) - homography.apply(onto @ fix, self._points)
            before = self._doubt(step, onto)
            if np.all((np.linalg.norm(far, axis=1) < np.maximum(_POLISH_REACH, 3 * before)) & (before < _POLISH_REACH)):
                # two ways to the answer: how far they are apart says what neither knows of itself
                apart = np.linalg.norm(far, axis=1)
                fix, covariance, unlike = polished
                step = _Fit(fix, covariance, step.agrees)
        moved = homography.apply(onto @ fix, self._points)
        slip = moved - homography.apply(onto, self._points)
        # where a blur of another shape or a reflection lies over the surface, all patches may be wrong together
        blind = _UNLIKE_DOUBT * max(0.0, unlike - _UNLIKE)
        doubt = np.sqrt(self._doubt(step, onto) ** 2 + (apart / 2) ** 2 + blind ** 2)
        slip[doubt > MEASURED] = np.nan
        every = found.in_view.mean()
        seen = float((step.agrees & found.in_view).sum() / max(found.in_view.sum(), 1))
        reason = "" if np.isfinite(slip).any() else "too little texture is seen" if blind < MEASURED else \
            "the surface looks too different here, by blur or a reflection"
        return Slip(slip, doubt, seen, float(every), reason)

    # -- inside ---------------------------------------------------------------------------------------------------

    def _at(self, level: int) -> "_Patches":
        if level not in self._patches:
            self._patches[level] = _choose(self._base, self._mask, level)
        return self._patches[level]

    def _basis(self, places: np.ndarray) -> np.ndarray:
        """(n, 2, 8) how level-0 places (n, 2) of the base move by a small homography's parameters, each of about a pixel's effect."""
        u, v = ((places - self._centre) / self._radius).T
        zero, one = np.zeros_like(u), np.ones_like(u)
        return np.stack([np.column_stack([one, zero, u, v, zero, zero, u * u, u * v]),
                         np.column_stack([zero, one, zero, zero, u, v, u * v, v * v])], axis=1)

    def _homography(self, parameters: np.ndarray) -> np.ndarray:
        """(3, 3) for the parameters of `_basis`: exact on four points far apart, which the small motion moves."""
        corners = self._centre + self._radius * np.array([[-1.0, -1], [1, -1], [1, 1], [-1, 1]])
        return homography.from_points(corners, corners + self._basis(corners) @ parameters)

    def _fitted(self, patches: "_Patches", found: "_Found", pixel: float, search: bool) -> "_Fit | None":
        """A small homography through the patches' displacements; None when too few agree."""
        usable = np.flatnonzero(found.good)
        if len(usable) < 3:
            return None
        places = patches.centre[usable]
        basis = self._basis(places)
        moves = found.moves[usable]
        weight = found.information[usable]  # (n, 2, 2), per square pixel
        if search:
            first = _consensus(places, moves, max(_LEAST_AGREE * pixel, 0.75))
            if first.sum() < max(3, 0.25 * len(usable)):
                return None
            # where the search is coarse only its agreement counts, not its fractions
            weight = np.broadcast_to(np.eye(2) / (0.3 * pixel) ** 2, weight.shape)
            robust = first.astype(float)
        else:
            robust = np.ones(len(usable))
        prior = np.eye(8) / _PRIOR ** 2
        parameters = np.zeros(8)
        scale = 1.0
        normal = prior
        for _ in range(8):
            weighted = ((weight * robust[:, None, None]) @ basis).reshape(-1, 8)
            normal = weighted.T @ basis.reshape(-1, 8) + prior
            parameters = np.linalg.solve(normal, weighted.T @ moves.ravel())
            rest = moves - basis @ parameters
            away = np.sqrt(np.maximum((rest[:, None] @ weight @ rest[..., None])[:, 0, 0], 0))
            # what is usual is told by those still in, so that passers do not widen it
            scale = max(1.0, 1.4826 * float(np.median(away[robust > 0.1])) / 1.18) if (robust > 0.1).any() else 1.0
            robust = np.where(away < _TUKEY * scale, (1 - np.minimum(away / (_TUKEY * scale), 1) ** 2) ** 2, 0)
            if search:
                robust = robust * first
        agrees = np.zeros(len(patches.x), bool)
        agrees[usable] = robust > 0.2
        if agrees.sum() < 3:
            return None
        return _Fit(self._homography(parameters), np.linalg.inv(normal) * scale ** 2, agrees)

    def _polished(self, patches: "_Patches", chosen: np.ndarray, frame: Pyramid, onto: np.ndarray, fix: np.ndarray, level: int,
                  frame_level: int, held: HeldOut | None) -> tuple[np.ndarray, np.ndarray, float] | None:
        """All agreeing patches at once, pixel by pixel: a passer's edge in a patch loses its say, and so do clipped lights.

        Returns the small homography (3, 3), the covariance (8, 8) of its parameters, and the share of the contrast that it leaves unexplained.
        """
        picture, shrink = frame[frame_level], 2.0 ** frame_level
        x, y, light, slopes = patches.x[chosen], patches.y[chosen], patches.light[chosen], patches.slopes[chosen]
        basis = self._basis(patches.centre[chosen]).astype(np.float32)
        still = np.zeros((len(chosen), 2))
        weights = np.ones(x.shape, np.float32)
        normal = np.eye(8)
        for _ in range(_POLISH):
            at = _places(onto @ fix, x, y, still, shrink)
            seen = _read(picture, at)
            lit = (seen < _WHITE).astype(np.float32)
            if held is not None:
                lit *= _read(held[frame_level], at) < 0.2
            weighted = light * (weights * lit)[..., None]
            gram = weighted.transpose(0, 2, 1) @ light + np.eye(light.shape[-1], dtype=np.float32) * np.float32(0.1)
            amounts = np.linalg.solve(gram, weighted.transpose(0, 2, 1) @ seen[..., None])
            gain = np.maximum(amounts[:, :1, 0], 0.2)
            rest = (seen - (light @ amounts)[..., 0]) / gain
            # each patch has its own idea of what is usual: a change of sharpness leaves most where there is most contrast
            spread = np.maximum(1.4826 * np.median(np.abs(rest) + 1e3 * (lit == 0), axis=1, keepdims=True), _PLAIN / 2)
            weights = (np.clip(1 - (rest / (_TUKEY * spread)) ** 2, 0, 1) ** 2 * lit).astype(np.float32)
            w = weights / spread.astype(np.float32) ** 2
            columns = slopes @ basis
            pulled = columns * w[..., None]
            normal = np.einsum("npa,npb->ab", pulled, columns, optimize=True).astype(np.float64) / _TOGETHER + np.eye(8) / _PRIOR ** 2
            pull = np.einsum("npa,np->a", pulled, rest, optimize=True).astype(np.float64) / _TOGETHER
            parameters = -np.linalg.solve(normal, pull)
            fix = fix @ self._homography(parameters)
            if not np.all(np.isfinite(fix)) or np.abs(parameters).max() > 8:
                return None
        left = (rest ** 2 * weights).sum(1) / np.maximum(weights.sum(1), 1)
        return fix, np.linalg.inv(normal), float(np.median(left / np.maximum(patches.power[chosen], 1e-6)))

    def _doubt(self, step: "_Fit", onto: np.ndarray) -> np.ndarray:
        """(N,) standard deviation of the slip at the wanted points, in the frame's pixels."""
        spread = homography.jacobian(onto, self._points) @ self._basis(self._points)
        variance = np.einsum("nia,ab,nib->n", spread, step.covariance, spread)
        return np.asarray(np.sqrt(np.maximum(variance, 0) + _DOUBT ** 2))


@dataclass(frozen=True)
class _Patches:
    """K patches of the base at one level, of which P pixels are taken."""

    x: np.ndarray  # (K, P) level-0 places, first centres at 0
    y: np.ndarray
    centre: np.ndarray  # (K, 2)
    luma: np.ndarray  # (K, side * side) all of each patch, its mean taken out
    slopes: np.ndarray  # (K, P, 2) of luma per level-0 pixel, less what light could explain
    to_light: np.ndarray  # (K, 7, P) picture to amounts of light, by least squares
    to_move: np.ndarray  # (K, 2, P) what is left of a picture to a displacement
    side: int
    light: np.ndarray  # (K, P, 7) luma, one, two ramps, and three second derivatives of luma
    tensor: np.ndarray  # (K, 2, 2) sums of products of the slopes per level-0 pixel, with what light could explain taken out
    power: np.ndarray  # (K,) mean square of luma that light cannot explain


@dataclass(frozen=True)
class _Found:
    moves: np.ndarray  # (K, 2) displacement in the base's level-0 pixels
    information: np.ndarray  # (K, 2, 2) inverse covariance of each
    good: np.ndarray  # (K,) found
    in_view: np.ndarray  # (K,)


@dataclass(frozen=True)
class _Fit:
    fix: np.ndarray
    covariance: np.ndarray
    agrees: np.ndarray


def _because(nothing: Slip, reason: str, found: _Found | None = None) -> Slip:
    return Slip(nothing.slip, nothing.doubt, 0.0, float(found.in_view.mean()) if found is not None else 0.0, reason)


def _choose(base: Pyramid, mask: np.ndarray, level: int) -> _Patches:
    """Patches on a grid over the mask, and of those the best in every part."""
    image = base[level]
    shrink = 2 ** level
    small = (cv2.resize(mask, (image.shape[1], image.shape[0]), interpolation=cv2.INTER_AREA) if level else mask).astype(np.float32)
    room = np.sqrt(np.count_nonzero(small > 0.5) / _DENSE)
    side = int(np.clip(room, *_PATCHES)) // 2 * 2 + 1
    half = side // 2
    inside = cv2.boxFilter(small, -1, (side, side)) > 0.97
    inside[:half + 1], inside[-half - 1:], inside[:, :half + 1], inside[:, -half - 1:] = False, False, False, False
    if not inside.any():
        # a small surface: patches may reach over its edge
        inside = cv2.boxFilter(small, -1, (side, side)) > 0.6
        inside[:half + 1], inside[-half - 1:], inside[:, :half + 1], inside[:, -half - 1:] = False, False, False, False
    gx = cv2.Scharr(image, cv2.CV_32F, 1, 0, scale=1 / 32)
    gy = cv2.Scharr(image, cv2.CV_32F, 0, 1, scale=1 / 32)
    xx, yy, xy = (cv2.boxFilter(a, -1, (side, side)) for a in (gx * gx, gy * gy, gx * gy))
    # a patch with one direction is of use too, but one with two is worth more
    mean, gap = (xx + yy) / 2, np.sqrt((xx - yy) ** 2 / 4 + xy ** 2)
    worth = np.where(inside & (mean + gap > (_WEAK / 2) ** 2 / 4), np.maximum(mean - gap, 0) + 0.1 * (mean + gap), 0)
    ys, xs = np.nonzero(inside)
    picked: list[tuple[int, int]] = []
    if len(ys):
        step = max(half, int(np.sqrt(len(ys) / (2 * _MOST))))
        cells = [(y, x) for y in range(ys.min(), ys.max() + 1, step) for x in range(xs.min(), xs.max() + 1, step)]
        best = []
        for y, x in cells:
            part = worth[y:y + step, x:x + step]
            k = int(np.argmax(part))
            value = float(part.flat[k])
            if value > 0:
                best.append((value, (y + k // part.shape[1], x + k % part.shape[1])))
        picked = [place for _, place in sorted(best, reverse=True)[:_MOST]]
    dy, dx = (a.ravel() for a in np.meshgrid(np.arange(-half, half + 1), np.arange(-half, half + 1), indexing="ij"))
    centre = np.array(picked, int).reshape(-1, 2)[:, ::-1]
    px, py = centre[:, :1] + dx, centre[:, 1:] + dy
    values = image[py, px]
    template = values - values.mean(1, keepdims=True)
    # every second pixel says almost as much, since neighbours go together
    taken = (dx + dy) % 2 == 0
    dx, dy, px, py, values = dx[taken], dy[taken], px[:, taken], py[:, taken], values[:, taken]
    ramp = np.broadcast_to(np.column_stack([np.ones(len(dx)), dx / half, dy / half]), (len(picked), len(dx), 3)).astype(np.float32)
    plain = _less(values[..., None], ramp)[..., 0]
    slopes = np.stack([gx[py, px], gy[py, px]], axis=-1) / shrink
    # a change of sharpness is, for a short blur, the second derivatives times the blur's second moments
    bends = np.stack([cv2.Scharr(g, cv2.CV_32F, a, 1 - a, scale=1 / 32)[py, px] for g, a in ((gx, 1), (gx, 0), (gy, 0))], axis=-1)
    light = np.concatenate([plain[..., None], ramp, _less(bends, np.concatenate([plain[..., None], ramp], axis=-1))], axis=-1)
    columns = _less(slopes, light)
    gram = light.transpose(0, 2, 1) @ light + np.eye(light.shape[-1], dtype=np.float32) * np.float32(0.1)
    tensor = columns.transpose(0, 2, 1) @ columns
    to_light = np.linalg.solve(gram, light.transpose(0, 2, 1)).astype(np.float32)
    to_move = np.linalg.solve(tensor + 1e-3 * np.eye(2), columns.transpose(0, 2, 1)).astype(np.float32)
    return _Patches(x=(px * shrink).astype(np.float32), y=(py * shrink).astype(np.float32), centre=(centre * shrink).astype(np.float64),
                    luma=template, slopes=columns.astype(np.float32), to_light=to_light, to_move=to_move, side=side,
                    light=light.astype(np.float32), tensor=tensor, power=(plain ** 2).mean(1))



def _less(values: np.ndarray, what: np.ndarray) -> np.ndarray:
    """Columns (K, P, m) less what the columns `what` (K, P, n) explain of them."""
    gram = what.transpose(0, 2, 1) @ what + 1e-3 * np.eye(what.shape[-1], dtype=np.float32)
    return np.asarray(values - what @ np.linalg.solve(gram, what.transpose(0, 2, 1) @ values))


def _match(patches: _Patches, frame: Pyramid, onto: np.ndarray, level: int, frame_level: int, held: HeldOut | None, search: bool) -> _Found:
    """Where the patches lie, against where `onto` (3, 3) puts them."""
    picture = frame[frame_level]
    shrink, pixel = 2.0 ** frame_level, 2.0 ** level
    w, h = frame.size
    moves = np.zeros((len(patches.x), 2))
    there = homography.apply(onto, patches.centre)
    border = patches.side / 2 * pixel * homography.local_scale(onto, patches.centre.mean(0))
    in_view = np.all((there > border) & (there < np.array([w, h]) - 1 - border), axis=1)
    hidden = np.zeros(len(moves), bool)
    if held is not None:
        cover = _read(held[frame_level], _places(onto, patches.x, patches.y, moves, shrink))
        hidden = cover.mean(1) > 0.15
    good = in_view & ~hidden
    if search:
        good = _searched(patches, good, picture, onto, pixel, shrink, moves)
    index = np.flatnonzero(good)
    if not len(index):
        return _Found(moves, np.zeros((len(moves), 2, 2)), good, in_view)
    explained = np.zeros(len(moves))
    noise = np.full(len(moves), np.inf)
    x, y, light, to_light, to_move = (part[index] for part in (patches.x, patches.y, patches.light, patches.to_light, patches.to_move))
    start = moves[index].copy()
    for turn in range(_TURNS + 1):
        seen = _read(picture, _places(onto, x, y, moves[index], shrink))[..., None]
        amounts = to_light @ seen
        rest = seen - light @ amounts
        gain = amounts[:, 0, 0]
        if turn == _TURNS:
            break
        step = (to_move @ rest)[..., 0] / np.maximum(gain, 0.2)[:, None]
        length = np.linalg.norm(step, axis=1, keepdims=True)
        moves[index] -= step * np.minimum(1, pixel / np.maximum(length, 1e-9))
    left = (rest[..., 0] ** 2).mean(1) / np.maximum(gain, 0.1) ** 2
    explained[index] = np.where(gain > 0.1, 1 - left / (patches.power[index] + left + 1e-6), 0)
    noise[index] = left
    # a patch that wandered away from where it was found is on something else, or had nothing to hold it
    wandered = np.linalg.norm(moves[index] - start, axis=1) > (2.0 if search else 4.0) * pixel
    needed = np.minimum(_ALIKE, 0.8 * patches.power / (patches.power + 2 * _PLAIN ** 2))
    good[index[wandered]] = False
    good &= explained > needed
    variance = _TOGETHER * np.maximum(noise, _PLAIN ** 2 / 4)[:, None, None]
    information = np.where(good[:, None, None], patches.tensor / np.where(np.isfinite(variance), variance, 1e12), 0)
    return _Found(moves, information, good, in_view)


def _places(onto: np.ndarray, x: np.ndarray, y: np.ndarray, moves: np.ndarray, shrink: float) -> np.ndarray:
    """Where places x, y (K, P), moved by `moves` (K, 2), are on the frame at a level: (K, P, 2) float32, as OpenCV's remap takes them."""
    places = np.stack([x + moves[:, :1], y + moves[:, 1:]], axis=-1).astype(np.float32)
    return np.asarray(cv2.perspectiveTransform(places, onto / np.array([[shrink], [shrink], [1.0]])))


def _read(picture: np.ndarray, places: np.ndarray) -> np.ndarray:
    """(K, P) a picture at places (K, P, 2)."""
    return np.asarray(cv2.remap(picture, places, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE))  # type: ignore[call-overload]


def _searched(patches: _Patches, wanted: np.ndarray, picture: np.ndarray, onto: np.ndarray, pixel: float, shrink: float,
              moves: np.ndarray) -> np.ndarray:
    """(K,) which of the wanted patches are found within reach by normalised correlation; writes their places into `moves`."""
    half = patches.side // 2 + _REACH
    index = np.flatnonzero(wanted)
    dy, dx = (a.ravel() for a in np.meshgrid(np.arange(-half, half + 1), np.arange(-half, half + 1), indexing="ij"))
    centre = patches.centre[index]
    found = np.zeros(len(wanted), bool)
    if not len(index):
        return found
    places = _places(onto, centre[:, :1] + dx * pixel, centre[:, 1:] + dy * pixel, np.zeros((len(index), 2)), shrink)
    windows = _read(picture, places)
    for k, window in zip(index, windows, strict=True):
        match = cv2.matchTemplate(window.reshape(2 * half + 1, -1), patches.luma[k].reshape(patches.side, -1), cv2.TM_CCOEFF_NORMED)
        _, best, _, (bx, by) = cv2.minMaxLoc(match)
        moves[k] = (bx - _REACH) * pixel, (by - _REACH) * pixel
        found[k] = best > _LIKE
    return found


def _consensus(places: np.ndarray, moves: np.ndarray, reach: float) -> np.ndarray:
    """(n,) which displacements agree with the shift, turn and scale that most agree with."""
    rng = np.random.default_rng(len(places))
    centre = places.mean(0)
    p = (places - centre) / max(float(np.abs(places - centre).max()), 1.0)
    rows = np.stack([np.column_stack([np.ones(len(p)), np.zeros(len(p)), p[:, 0], -p[:, 1]]),
                     np.column_stack([np.zeros(len(p)), np.ones(len(p)), p[:, 1], p[:, 0]])], axis=1)
    best = np.zeros(len(p), bool)
    # a shear or a perspective slip differs between ends of the surface; the likeness fit through two patches reaches further than a shift
    first = rng.integers(0, len(p), _SAMPLES)
    second = (first + rng.integers(1, len(p), _SAMPLES)) % len(p)
    pairs = np.stack([first, second], axis=1)
    systems = rows[pairs].reshape(_SAMPLES, 4, 4)
    sound = np.abs(np.linalg.det(systems)) > 1e-9
    if sound.any():
        likenesses = np.linalg.solve(systems[sound], moves[pairs[sound]].reshape(-1, 4, 1))[..., 0]
        away = np.linalg.norm(np.einsum("nia,sa->sni", rows, likenesses) - moves, axis=2)
        agrees = away < 2 * reach
        best = agrees[np.argmax(agrees.sum(1))]
    if best.sum() >= 4:
        # all eight parts of a homography, through those that agree, gather in the rest
        u, v = p.T
        full = np.concatenate([rows, np.stack([np.column_stack([u, v, u * u, u * v]),
                                               np.column_stack([np.zeros((len(p), 2)), u * v, v * v])], axis=1)], axis=2)
        for _ in range(3):
            a, b = full[best].reshape(-1, full.shape[2]), moves[best].ravel()
            found = np.linalg.solve(a.T @ a + 0.05 * np.eye(a.shape[1]), a.T @ b)
            best = np.linalg.norm(full @ found - moves, axis=1) < 1.5 * reach
            if best.sum() < 3:
                break
    return best
