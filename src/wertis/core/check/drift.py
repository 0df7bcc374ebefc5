"""Drift: how far a surface really is from where a motion says, measured on the pictures and not by the tracker's own residual.

Small patches over the surface, as a base frame shows them, are looked for round the place where the motion puts them; those that agree on a small
homography are then matched all together to a fraction of a pixel, pixel by pixel, with light and sharpness of each patch as unknowns. Hidden patches
are not found or disagree; patches without texture say nothing; where too few say anything, nothing is measured. How differently the patches pull
gives the slip's own uncertainty.

Known ground: J. Lewis, Fast normalized cross-correlation, 1995; B. Lucas and T. Kanade, An iterative image registration technique, 1981; J. Shi and
C. Tomasi, Good features to track, 1994 (the structure tensor); M. Fischler and R. Bolles, Random sample consensus, 1981; J. Beaton and J. Tukey, The
fitting of power series, 1974 (the weights); K. Liang and S. Zeger, Longitudinal data analysis using generalized linear models, 1986 (the covariance
of what goes together in groups, here in patches).
"""

import threading
from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np

from wertis.core.check.patches import Model, Patches, chosen_patches, modelled, modelled_blurred
from wertis.core.check.slip import Slip, unmeasured
from wertis.core.geometry import homography
from wertis.core.geometry.conventions import from_centred, homography_to_centred, to_centred
from wertis.core.geometry.warp import HomographyWarp, Warp, local_scale
from wertis.core.imaging.local_light import without_light
from wertis.core.imaging.pyramid import HeldOut, Pyramid
from wertis.core.imaging.shutter import LEG_UNCERTAINTY, leg_offsets

_SIDES = (13, 25)  # least and most side of a patch in pixels of the level it is matched at
_DENSE = 60  # patches that a surface should have room for side by side
_REACH = {0: 16, 1: 10, 2: 6}  # pixels of the level to each side that are searched
_COARSE = 2  # levels between the search and the measurement
_ROOM = 40  # pixels of its level that a surface's shorter side needs for the search
_AGAIN, _NEARLY = 400, 0.02  # patches that a frame is looked at again with; share left unexplained below which its place was nearly right
_SEARCHED, _FIRST, _MOST = 64, 100, 400  # patches that are searched, measured at first, and measured where that does not suffice
_SURE = 0.035  # pixels of uncertainty below which it does
_LIKE = 0.55  # normalised correlation below which a patch is taken to be hidden
_ALIKE = 0.75  # share of a patch's contrast that must be explained at the end for it to count
_PLAIN = 1.5  # luma, standard deviation of the grain that is always reckoned with
_STEPS = 8  # of the measurement at a level, at most
_STILL = {0: 0.02, 1: 0.15, 2: 0.5}  # pixels; a shorter step ends it
_TOGETHER = 4.0  # neighbouring pixels go together: so many of those taken count as one
_CLIP_LEVEL = 252.0  # luma from which a pixel is taken to be clipped
_SAMPLES = 120
_LEAST_AGREE = 1.0  # pixels of the coarse level within which patches agree in the first search
_TUKEY = 6.0
_FLOOR = 0.02  # pixels of error that no count of patches takes away (resampling, lens)
_UNLIKE, _UNLIKE_UNCERTAINTY = 0.01, 12.0  # share of a patch's contrast left unexplained that is usual, and pixels of uncertainty for each part above it
_PRIOR = 12.0  # pixels, standard deviation, of the slip that is expected before anything is seen
_MEASURED_PATCHES = 40  # by which the shutter is measured
_MARGIN = 12  # pixels round the surface that are looked at beyond what is searched
MEASURED = 0.25  # pixels of uncertainty above which a corner counts as not measured


@dataclass(frozen=True)
class Blurs:
    """The paths of a frame and of the base, offsets (J, n, 2) in the base's pixels, and the shutter as a part of a frame."""

    own: np.ndarray
    base: np.ndarray
    shutter: float


BlursAt = Callable[[np.ndarray], "Blurs | None"]
"""Gives the blurs at points (n, 2) of the base, centred; None where they are not known."""


@dataclass(frozen=True)
class Look:
    """All that one look at a frame gave.

    Attributes
    ----------
    slip : what was measured.
    place : (3, 3) base to frame, centred, as measured, however unsure; as the motion has it where nothing was found.
    found : whether it was.
    unlike : share of the patches' contrast that is left unexplained.
    """

    slip: Slip
    place: np.ndarray | None
    found: bool = False
    unlike: float = 0.0


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
            self._box = np.array([[xs.min(), ys.min()], [xs.max(), ys.min()], [xs.max(), ys.max()], [xs.min(), ys.max()]], np.float64)
            self._centre = np.array([(xs.min() + xs.max()) / 2, (ys.min() + ys.max()) / 2])
            self._short = min(np.ptp(xs), np.ptp(ys)) + 1.0
            self._radius = max(np.ptp(xs), np.ptp(ys)) / 2 + 1.0
        self._patches: dict[tuple[int, bool], Patches] = {}
        self._making = threading.Lock()
        self._models: dict[int, Model] = {}

    def measure(self, luma: np.ndarray, warp: Warp | None, held: np.ndarray | None = None) -> Slip:
        """One frame's drift.

        Parameters
        ----------
        luma : (h, w), the frame, on the same scale.
        warp : base to frame, as the motion has it; None where it has no answer.
        held : (h, w) uint8, 255 on the frame's pixels that do not count.
        """
        return self.look(luma, warp, held).slip

    def window(self, warp: Warp, size: tuple[int, int]) -> tuple[int, int, int, int]:
        """The part x0, y0, x1, y1 of a frame of `size` (width, height) that measuring it needs."""
        if self._empty:
            return 0, 0, *size
        edge = self._box if warp.matrix is not None else _along(self._box)
        places = to_centred(warp.forward(from_centred(edge)))
        if not np.isfinite(places).all():
            return 0, 0, *size
        scale = max(1.0, local_scale(warp, from_centred(self._centre)))
        margin = scale * (_REACH[_COARSE] + _SIDES[1]) * 2 ** _COARSE + _MARGIN
        x0, y0 = np.clip(np.floor(places.min(0) - margin), 0, np.array(size) - 1).astype(int)
        x1, y1 = np.clip(np.ceil(places.max(0) + margin), np.array([x0, y0]) + 1, size).astype(int)
        return int(x0), int(y0), int(x1), int(y1)

    def look(self, luma: np.ndarray, warp: Warp | None, held: np.ndarray | None = None, origin: tuple[int, int] = (0, 0),
             size: tuple[int, int] | None = None) -> Look:
        """The same, with all that it gave. `luma` and `held` may be a part of the frame at `origin` (x, y) of a picture of `size` (width, height)."""
        count = len(self._points)
        if warp is None:
            return Look(unmeasured(count, "the track has no answer here"), None)
        if self._empty:
            return Look(unmeasured(count, "the region is empty"), None)
        scale = local_scale(warp, from_centred(self._centre))
        if not np.isfinite(scale) or not 0.02 < scale < 50:
            return Look(unmeasured(count, "the track folds the surface over"), None)
        view = _View(Pyramid(luma), HeldOut(held) if held is not None else None, warp, origin, size or (luma.shape[1], luma.shape[0]), scale)
        # a small surface has no room for patches at coarse levels
        coarse = int(np.clip(np.log2(max(self._short / 2 ** view.down / _ROOM, 1)), 0, _COARSE))
        patches = self._at(view.down + coarse, searching=True)
        in_view = view.holds(patches, np.eye(3))
        if in_view.sum() < 3:
            few = "too little texture" if len(patches) < 3 else "too little of the surface is in the picture"
            return Look(unmeasured(count, few, float(in_view.mean()) if len(patches) else 0.0), view.place(np.eye(3)))
        moves, found = _searched(patches, in_view & ~view.hides(patches, np.eye(3)), view, coarse)
        fix = self._agreed(patches, moves, found, 2.0 ** patches.level)
        share = float(in_view.mean())
        if fix is None:
            return Look(unmeasured(count, "too few patches agree", share), view.place(np.eye(3)))
        for level in range(coarse - 1, 0, -1):
            fit = self._fitted(self._at(view.down + level), self._model(view.down + level), view, fix, _STILL[level], rough=True, most=_FIRST)
            if fit is None:
                return Look(unmeasured(count, "too few patches agree", share), view.place(fix))
            fix = fit.fix
        fine = self._at(view.down)
        # where the search itself was at the finest level it was rough, too
        fit = self._fitted(fine, self._model(view.down), view, fix, _STILL[0], rough=coarse < 2, most=_FIRST)
        if fit is not None and len(fine) > _FIRST and self._uncertainty(fit, view).max() > _SURE:
            fit = self._fitted(fine, self._model(view.down), view, fit.fix, _STILL[0]) or fit
        return self._told(fit, view, fix, share)

    def look_again(self, first: Look, luma: np.ndarray, matrix: np.ndarray, blurs: BlursAt, held: np.ndarray | None = None,
                   origin: tuple[int, int] = (0, 0), size: tuple[int, int] | None = None) -> Look:
        """A frame looked at once more with its own blur and the base's taken into account, from the place that the first look found."""
        assert first.place is not None
        whole, warp = homography_to_centred(matrix), HomographyWarp(matrix)
        scale = local_scale(warp, from_centred(self._centre))
        view = _View(Pyramid(luma), HeldOut(held) if held is not None else None, warp, origin, size or (luma.shape[1], luma.shape[0]), scale)
        fix = np.linalg.inv(whole) @ first.place
        change = np.zeros(4)
        fit: _Fit | None = None
        for level, rough in ((1, True), (0, False)):
            if level and first.unlike < _NEARLY:
                continue  # near enough for the finest level
            patches = self._at(view.down + level)
            if len(patches) < 8:
                continue
            chosen = np.flatnonzero(view.holds(patches, fix))[:_FIRST if level else _AGAIN]
            here = blurs(patches.centre[chosen])
            if here is None or len(chosen) < 6:
                return first
            own = here.own + leg_offsets(change, here.shutter)
            model = modelled_blurred(patches, chosen, self._basis(patches.centre), own, here.shutter)
            fit = self._fitted(patches, model, view, fix, _STILL[level], rough=rough, chosen=chosen, taps=here.base)
            if fit is None:
                return first
            fix, change = fit.fix, change + fit.beside
        if fit is None:
            return first
        again = self._told(fit, view, fix, first.slip.in_view)
        return again if again.unlike < first.unlike or again.slip.uncertainty.max() < first.slip.uncertainty.max() else first

    def disagreement(self, picture: np.ndarray, origin: tuple[int, int], first: Look, own: np.ndarray, base: np.ndarray) -> np.ndarray:
        """(N,) what is left between a frame and the base blurred with each other's path (J, n, 2) at `measured_places`, over the contrast.

        `picture` is the part of the frame at `origin` (x, y), at half the resolution: level 1 of its pyramid.
        """
        assert first.place is not None
        patches = self._at(1)
        chosen = np.arange(min(len(patches), _MEASURED_PATCHES))
        model = modelled_blurred(patches, chosen, self._basis(patches.centre), own, 0.0)
        at = patches.places[chosen] - base.astype(np.float32)[:, :, None]
        onto = _at_origin(first.place, origin)
        seen = np.mean([_read(picture, _moved(a, onto, 2.0)) for a in at], axis=0)
        inside = ((seen < _CLIP_LEVEL) & (seen > 0)).astype(np.float32)
        amounts, rest = without_light(model.light, seen, inside)
        # hidden patches would say nothing of the blur
        left = (rest ** 2 * inside).mean(1)
        usual = np.median(left / model.power)
        weight = inside * np.sqrt(1 / (1 + (left / model.power / max(usual, 1e-6) / 3) ** 2))[:, None]
        columns = (model.columns * weight[:, None]).transpose(1, 0, 2).reshape(model.columns.shape[1], -1)
        rest = (rest * weight).ravel()
        normal = columns @ columns.T
        rest = rest - np.linalg.solve(normal + np.eye(len(normal)) * (np.trace(normal) * 1e-6 + 1e-9), columns @ rest) @ columns
        power = ((model.light[:, 0] * amounts[:, :1]) ** 2 + model.light[:, 0] ** 2) / 2
        return np.asarray(rest / np.sqrt(max(float((power * weight ** 2).sum()), 1e-9)))

    @property
    def measured_places(self) -> np.ndarray:
        """(n, 2) the places of the base, centred, at which `disagreement` wants the paths."""
        return self._at(1).centre[:_MEASURED_PATCHES] if not self._empty else np.zeros((0, 2))

    @property
    def box(self) -> np.ndarray:
        """(4, 2) corners of the box round the surface, centred."""
        return self._box

    # -- inside ---------------------------------------------------------------------------------------------------

    def _at(self, level: int, searching: bool = False) -> Patches:
        key = level, searching
        with self._making:  # in the first thread that asks, while the others wait for it
            if key not in self._patches:
                area = np.count_nonzero(self._mask) / 4.0 ** level
                side = int(np.clip(np.sqrt(area / _DENSE), *_SIDES)) // 2 * 2 + 1
                self._patches[key] = chosen_patches(self._base, self._mask, level, side, _SEARCHED if searching else _MOST,
                                                    side // 2 if searching else max(2 * side // 3, 1))
            return self._patches[key]

    def _model(self, level: int) -> Model:
        if level not in self._models:
            patches = self._at(level)
            self._models[level] = modelled(patches, np.arange(len(patches)), self._basis(patches.centre))
        return self._models[level]

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

    def _agreed(self, patches: Patches, moves: np.ndarray, found: np.ndarray, pixel: float) -> np.ndarray | None:
        """The small homography (3, 3) on which most of the displacements found agree; None when too few do."""
        usable = np.flatnonzero(found)
        if len(usable) < 3:
            return None
        places, moves, strong = patches.centre[usable], moves[usable], patches.strong[usable]
        # along an edge a patch says nothing
        weight = strong / np.linalg.eigvalsh(strong)[:, 1, None, None]
        first = _consensus(places, moves, weight, max(_LEAST_AGREE * pixel, 0.75))
        if first.sum() < max(3, 0.25 * len(usable)):
            return None
        # where the search is coarse only its agreement counts, not its fractions
        basis, weight = self._basis(places), weight / (0.3 * pixel) ** 2
        robust = first.astype(float)
        parameters = np.zeros(8)
        for _ in range(5):
            weighted = ((weight * robust[:, None, None]) @ basis).reshape(-1, 8)
            normal = weighted.T @ basis.reshape(-1, 8) + np.eye(8) / _PRIOR ** 2
            parameters = np.linalg.solve(normal, weighted.T @ moves.ravel())
            rest = moves - basis @ parameters
            away = np.sqrt(np.maximum((rest[:, None] @ weight @ rest[..., None])[:, 0, 0], 0))
            # what is usual is told by those still in, so that passers do not widen it
            scale = max(1.0, float(np.median(away[robust > 0.1])) / 1.18) if (robust > 0.1).any() else 1.0
            robust = first * np.where(away < _TUKEY * scale, (1 - np.minimum(away / (_TUKEY * scale), 1) ** 2) ** 2, 0)
        return self._homography(parameters) if (robust > 0.2).sum() >= 3 else None

    def _fitted(self, patches: Patches, model: Model, view: "_View", fix: np.ndarray, still: float, rough: bool = False, most: int = _MOST,
                chosen: np.ndarray | None = None, taps: np.ndarray | None = None) -> "_Fit | None":
        """All patches in view at once, pixel by pixel: a passer's edge in a patch loses its say, and so do clipped lights.

        `chosen` (n,) says which patches the model is of, when not of all.
        """
        if chosen is None:
            chosen = np.flatnonzero(view.holds(patches, fix) & ~view.hides(patches, fix))[:most]
            if len(chosen) < 3:
                return None
            light, columns, power = model.light[chosen], model.columns[chosen], model.power[chosen]
        else:
            light, columns, power = model.light, model.columns, model.power
        level = max(0, patches.level - view.down + view.up)
        picture, shrink = view.frame[level], 2.0 ** level
        unknowns = columns.shape[1]
        at_rest = patches.places[chosen]
        needed = np.minimum(_ALIKE, 0.8 * power / (power + 2 * _PLAIN ** 2))
        prior = np.diag(np.r_[np.full(8, 1 / _PRIOR ** 2), np.full(unknowns - 8, 1 / LEG_UNCERTAINTY ** 2)])
        weights = np.ones(at_rest.shape[:2], np.float32)
        beside = np.zeros(unknowns - 8)
        last = False
        for step in range(_STEPS + 1):
            at = view.moved(at_rest, fix, shrink)
            if taps is None:
                seen = _read(picture, at)
            else:
                seen = np.mean([_read(picture, view.moved(at_rest - o[:, None], fix, shrink)) for o in taps.astype(np.float32)], axis=0)
            lit = (seen < _CLIP_LEVEL).astype(np.float32)
            if view.held is not None:
                lit *= _read(view.held[level], at) < 0.2
            amounts, rest = without_light(light, seen, weights * lit)
            own = amounts[:, 0]
            gain = np.maximum(own, 0.2)[:, None]
            rest = rest / gain
            raw = rest
            if unknowns > 8:
                rest = raw - (beside.astype(np.float32) @ columns[:, 8:])
            # each patch has its own idea of what is usual: a change of sharpness leaves most where there is most contrast
            middle = rest.shape[1] // 2
            usual = np.partition(np.abs(rest) + np.float32(1e3) * (lit == 0), middle, axis=1)[:, middle:middle + 1]
            spread = np.maximum(np.float32(1.4826) * usual, np.float32(_PLAIN / 2))
            weights = np.maximum(1 - (rest / (np.float32(_TUKEY) * spread)) ** 2, 0) ** 2 * lit
            left = (rest ** 2 * weights).sum(1) / np.maximum(weights.sum(1), 1)
            explained = np.where((own > 0.2) & (weights.mean(1) > 0.4), 1 - left / (power + left + 1e-6), 0)
            # a patch still out of place explains less of itself
            ease = 0.5 * 0.5 ** step if rough else 0.0
            agrees = explained > needed * (1 - ease)
            if agrees.sum() < 3:
                return None
            pulled = columns * (weights * (agrees[:, None] / (spread ** 2 * np.float32(_TOGETHER))))[:, None]
            normals = pulled @ columns.transpose(0, 2, 1)
            normal = normals.sum(0, dtype=np.float64) + prior
            pulls = (pulled @ raw[..., None])[..., 0].astype(np.float64)
            parameters = -np.linalg.solve(normal, pulls.sum(0))
            length = float(np.abs(parameters[:8]).max())
            if last or step == _STEPS:
                break
            last = step > 0 and length < 3 * still  # the next one will be short enough
            beside = -parameters[8:]
            fix = fix @ self._homography(parameters[:8])
            if not np.all(np.isfinite(fix)) or length > 8 * 2.0 ** patches.level:
                return None
        # by the number of pixels, and by how differently the patches pull; the greater counts
        inverse = np.linalg.inv(normal)
        apart = pulls[agrees] + normals[agrees].astype(np.float64) @ parameters
        grouped = inverse @ (apart.T @ apart) @ inverse * agrees.sum() / (agrees.sum() - 1)
        # grain is what the plainest patches show
        grain = min(float(np.quantile(left[agrees], 0.1)), 2 * _PLAIN ** 2)
        unlike, beyond = (float(np.median((np.maximum(left - g, 0) / np.maximum(power, 1e-6))[agrees])) for g in (0.0, grain))
        return _Fit(fix, inverse[:8, :8], grouped[:8, :8], unlike, beyond,
                    float(agrees.mean()), -parameters[8:])

    def _told(self, fit: "_Fit | None", view: "_View", fix: np.ndarray, in_view: float) -> Look:
        if fit is None:
            return Look(unmeasured(len(self._points), "too few patches agree", in_view), view.place(fix))
        slip = view.onto_frame(self._points, fit.fix) - view.onto_frame(self._points, np.eye(3))
        # where a blur of another shape or a reflection lies over the surface, all patches may be wrong together
        blind = _UNLIKE_UNCERTAINTY * max(0.0, fit.beyond_grain - _UNLIKE)
        uncertainty = np.hypot(self._uncertainty(fit, view), blind)
        slip[uncertainty > MEASURED] = np.nan
        reason = "" if np.isfinite(slip).any() else "too little texture is seen" if blind < MEASURED else \
            "the surface looks too different here, by blur or a reflection"
        return Look(Slip(slip, uncertainty, fit.agreed, in_view, reason), view.place(fit.fix), view.is_plane, fit.unlike)

    def _uncertainty(self, fit: "_Fit", view: "_View") -> np.ndarray:
        """(N,) standard deviation of the slip at the wanted points, in the frame's pixels."""
        spread = view.warp.jacobian(from_centred(self._points)) @ self._basis(self._points)
        variances = [np.einsum("nia,ab,nib->n", spread, c, spread) for c in (fit.covariance, fit.grouped)]
        return np.asarray(np.sqrt(np.maximum(np.max(variances, axis=0), 0) + _FLOOR ** 2))


@dataclass(frozen=True)
class _Fit:
    """A small homography, two covariances (8, 8) of its parameters, the share of contrast left unexplained, the same beyond what grain explains, and
    the share of patches that agree."""

    fix: np.ndarray
    covariance: np.ndarray
    grouped: np.ndarray
    unlike: float
    beyond_grain: float
    agreed: float
    beside: np.ndarray


class _View:
    """A frame, or the part of it that matters, and how the motion lays the base on it."""

    def __init__(self, frame: Pyramid, held: HeldOut | None, warp: Warp, origin: tuple[int, int], size: tuple[int, int], scale: float) -> None:
        self.frame, self.held, self.warp, self.size, self._origin = frame, held, warp, size, origin
        self.is_plane = warp.matrix is not None
        self._whole = homography_to_centred(warp.matrix) if warp.matrix is not None else np.eye(3)
        self._onto = _at_origin(self._whole, origin)
        # both pictures are compared at the resolution of the poorer one
        self.down, self.up = max(0, round(-np.log2(scale))), max(0, round(np.log2(scale)))
        self._scale = scale

    def place(self, fix: np.ndarray) -> np.ndarray | None:
        """(3, 3) base to frame, centred, with a small homography `fix` on the base; None where the surface is no plane."""
        return self._whole @ fix if self.is_plane else None

    def onto_frame(self, points: np.ndarray, fix: np.ndarray) -> np.ndarray:
        """Points (..., 2) of the base, centred, moved by `fix` (3, 3), on the frame, centred."""
        if self.is_plane:
            return homography.apply(self._whole @ fix, points)
        return to_centred(self.warp.forward(from_centred(homography.apply(fix, points))))

    def moved(self, places: np.ndarray, fix: np.ndarray, shrink: float) -> np.ndarray:
        """Where places (K, P, 2) float32 of the base are on the frame's part at a level, as OpenCV's remap takes them."""
        if self.is_plane:
            return np.asarray(cv2.perspectiveTransform(places, (self._onto @ fix) / np.array([[shrink], [shrink], [1.0]])))
        there = self.onto_frame(places.astype(np.float64), fix) - self._origin
        return np.nan_to_num(there / shrink, nan=-1e6).astype(np.float32)

    def holds(self, patches: Patches, fix: np.ndarray) -> np.ndarray:
        """(K,) whether each patch is in the picture."""
        there = self.onto_frame(patches.centre, fix)
        border = patches.side / 2 * 2 ** patches.level * self._scale
        with np.errstate(invalid="ignore"):
            return np.asarray(np.all((there > border) & (there < np.array(self.size) - 1 - border), axis=1))

    def hides(self, patches: Patches, fix: np.ndarray) -> np.ndarray:
        """(K,) whether each patch is held out."""
        if self.held is None:
            return np.zeros(len(patches), bool)
        level = max(0, patches.level - self.down + self.up)
        return np.asarray(_read(self.held[level], self.moved(patches.places, fix, 2.0 ** level)).mean(1) > 0.5)


def _along(corners: np.ndarray, per_side: int = 8) -> np.ndarray:
    """Places (4 * per_side, 2) along the sides of a quad (4, 2)."""
    t = np.arange(per_side)[:, None] / per_side
    return np.concatenate([a + (b - a) * t for a, b in zip(corners, np.roll(corners, -1, 0), strict=True)])


def _at_origin(matrix: np.ndarray, origin: tuple[int, int]) -> np.ndarray:
    """A matrix (3, 3) to a picture, to the part of it that begins at `origin` (x, y)."""
    return np.array([[1, 0, -origin[0]], [0, 1, -origin[1]], [0, 0, 1.0]]) @ matrix


def _moved(places: np.ndarray, onto: np.ndarray, shrink: float) -> np.ndarray:
    """Where places (K, P, 2) float32 are on the frame at a level, as OpenCV's remap takes them."""
    return np.asarray(cv2.perspectiveTransform(places, onto / np.array([[shrink], [shrink], [1.0]])))


def _read(picture: np.ndarray, places: np.ndarray) -> np.ndarray:
    """(K, P) a picture at places (K, P, 2)."""
    return np.asarray(cv2.remap(picture, places, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE))  # type: ignore[call-overload]


def _searched(patches: Patches, wanted: np.ndarray, view: _View, coarse: int) -> tuple[np.ndarray, np.ndarray]:
    """Displacements (K, 2) in level-0 pixels, and which of the wanted patches (K,) were found within reach, by normalised correlation."""
    reach, pixel = _REACH[coarse], 2.0 ** patches.level
    level = max(0, patches.level - view.down + view.up)
    half = patches.side // 2 + reach
    moves, found = np.zeros((len(patches), 2)), np.zeros(len(patches), bool)
    index = np.flatnonzero(wanted)
    if not len(index):
        return moves, found
    dy, dx = (a.ravel() for a in np.meshgrid(np.arange(-half, half + 1), np.arange(-half, half + 1), indexing="ij"))
    places = (patches.centre[index][:, None] + np.stack([dx, dy], -1) * pixel).astype(np.float32)
    windows = _read(view.frame[level], view.moved(places, np.eye(3), 2.0 ** level))
    for k, window in zip(index, windows, strict=True):
        match = cv2.matchTemplate(window.reshape(2 * half + 1, -1), patches.luma[k].reshape(patches.side, -1), cv2.TM_CCOEFF_NORMED)
        _, best, _, (bx, by) = cv2.minMaxLoc(match)
        moves[k] = (bx - reach) * pixel, (by - reach) * pixel
        found[k] = best > _LIKE
    return moves, found


def _consensus(places: np.ndarray, moves: np.ndarray, weight: np.ndarray, reach: float) -> np.ndarray:
    """(n,) which displacements agree with the shift, turn and scale that most agree with; `weight` (n, 2, 2) has 1 along the direction that counts."""
    rng = np.random.default_rng(len(places))
    centre = places.mean(0)
    p = (places - centre) / max(float(np.abs(places - centre).max()), 1.0)
    rows = np.stack([np.column_stack([np.ones(len(p)), np.zeros(len(p)), p[:, 0], -p[:, 1]]),
                     np.column_stack([np.zeros(len(p)), np.ones(len(p)), p[:, 1], p[:, 0]])], axis=1)

    def distance(rest: np.ndarray) -> np.ndarray:
        """(..., n) of what is left (..., n, 2), along the directions that count."""
        x, y = rest[..., 0], rest[..., 1]
        return np.sqrt(np.maximum(weight[:, 0, 0] * x * x + 2 * weight[:, 0, 1] * x * y + weight[:, 1, 1] * y * y, 0))

    best = np.zeros(len(p), bool)
    # patches with two directions propose; a shear or a perspective slip differs between ends of the surface, where a likeness reaches further than a shift
    proposing = np.argsort(-weight[:, 0, 0] - weight[:, 1, 1], kind="stable")[:max(4, len(p) // 2)]
    first = rng.integers(0, len(proposing), _SAMPLES)
    second = (first + rng.integers(1, max(len(proposing), 2), _SAMPLES)) % len(proposing)
    pairs = proposing[np.stack([first, second], axis=1)]
    systems = rows[pairs].reshape(_SAMPLES, 4, 4)
    sound = np.abs(np.linalg.det(systems)) > 1e-9
    if sound.any():
        likenesses = np.linalg.solve(systems[sound], moves[pairs[sound]].reshape(-1, 4, 1))[..., 0]
        agrees = distance(np.einsum("nia,sa->sni", rows, likenesses) - moves) < 2 * reach
        best = agrees[np.argmax(agrees.sum(1))]
    if best.sum() >= 4:
        # all eight parts of a homography, through those that agree, gather in the rest
        u, v = p.T
        full = np.concatenate([rows, np.stack([np.column_stack([u, v, u * u, u * v]),
                                               np.column_stack([np.zeros((len(p), 2)), u * v, v * v])], axis=1)], axis=2)
        for _ in range(3):
            a = full[best]
            weighted = weight[best] @ a
            normal = np.einsum("nia,nib->ab", weighted, a)
            found = np.linalg.solve(normal + 0.05 * np.eye(len(normal)), np.einsum("nia,ni->a", weighted, moves[best]))
            best = distance(full @ found - moves) < 1.5 * reach
            if best.sum() < 3:
                break
    return best
