"""The mesh tracker: where a bending surface of the reference frame is on every other frame.

Each frame is aligned with the reference frame itself, so that error does not add up; the frames before only say where to start and what to
expect of parts that are hidden. The map is a lattice of cubic B-splines, found by Gauss-Newton steps, coarse to fine, over small tiles with light of
their own, robust tile by tile, with a prior on bending. Known ground: F. Bookstein, Principal warps, 1989; D. Rueckert et al., Nonrigid registration
using free-form deformations, 1999; J. Pilet, V. Lepetit and P. Fua, Fast non-rigid surface detection, registration and realistic augmentation,
IJCV 76, 2008; V. Gay-Bellile, A. Bartoli and P. Sayd, Direct estimation of nonrigid registrations with image-based self-occlusion reasoning,
IEEE PAMI 32, 2010; R. Garg, A. Roussos and L. Agapito, A variational approach to video registration with subspace constraints, IJCV 104, 2013.
"""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import scipy

from wertis.core.errors import RegionError
from wertis.core.geometry import bspline
from wertis.core.geometry.bspline import DIFFERENCES, Lattice, NormalEquations, difference, difference_transposed, evaluate
from wertis.core.geometry.conventions import from_centred, to_centred
from wertis.core.geometry.mesh import Mesh, MeshFix
from wertis.core.imaging.patch_alignment import PatchAlignment, View, grid_on, nearest
from wertis.core.imaging.pyramid import HeldOut, Pyramid
from wertis.core.track.mesh_pass import TAPS, TilePass, mesh_pass
from wertis.core.track.mesh_reference import MeshReference, MeshTiles
from wertis.core.track.mesh_settings import BENDING, BLUR, COARSE_TO_FINE, FAILURE, OCCLUSION, PHOTOMETRY, PREDICTION, TEMPLATE_UPDATE, UNCERTAINTY
from wertis.core.track.mesh_templates import TileTemplates
from wertis.core.track.shape_basis import ShapeBasis

_NUMBERS = ("_bending_scale", "_innovation_scale", "_innovation", "_usual_matched_share", "grain", "_count", "_any_occluded", "_shutter",
            "_shutter_measured")
_PERHAPS = ("_reference_motion", "_last_motion", "_deviations")  # arrays that there may be; with those numbers, what is known besides the map


@dataclass
class _Linearisation:
    """The photometric equations of a level's usable tiles (n of them), linearised about a map.

    Attributes
    ----------
    tiles, chosen : the tiles as they were compared, and the numbers of those that are usable.
    weight : (n,) robust weights 0..1.
    information : (n, 3) xx, xy, yy per square pixel of displacement in the picture.
    pull : (n, 2) its product with the displacement wanted.
    measured : what the picture shows of them.
    relative_correlation : (n,) correlation with the reference, as part of what noise lets it be.
    grain_left : (n,) variance of the grain in reference and picture together, in the reference's luma, for grain of variance 1: a blur averages it.
    reference_grain_left : (n,) the reference's part of that.
    """

    tiles: MeshTiles
    chosen: np.ndarray
    weight: np.ndarray
    information: np.ndarray
    pull: np.ndarray
    measured: TilePass
    relative_correlation: np.ndarray
    grain_left: np.ndarray
    reference_grain_left: np.ndarray


class MeshTracker:
    """Tracks one region from its reference frame in one direction; feed it the frames in their order.

    Parameters
    ----------
    luma : (height, width) uint8 or float32 on a scale of 0..255, the reference frame.
    mask : (height, width) uint8, non-zero where the surface is.
    mesh : on the reference frame, in Wertis' pixels.
    step : pixels between the control points of the map.
    bend : pixels by which a control point is expected to lie off the line between its neighbours; from the pictures when None.
    renewed : where the surface comes to look otherwise for good, its newer look is taken, with the error that the map has there.

    Raises
    ------
    RegionError
        If the mask leaves too little to track.
    """

    def __init__(self, luma: np.ndarray, mask: np.ndarray, mesh: Mesh, step: float, bend: float | None = None, renewed: bool = False) -> None:
        if np.count_nonzero(mask) < 100:
            raise RegionError("The region covers fewer than 100 pixels of the picture; draw it larger.")
        self.reference = MeshReference(Pyramid(luma), mask)
        self.templates, self.renewed = TileTemplates(self.reference), renewed
        fine = self.reference.tiles(0)
        if not len(fine) or float(np.max(fine.energy, initial=0)) < 2.0:
            raise RegionError("There is no texture inside the region to hold on to; draw it round an area with detail.")
        self.mesh = mesh
        self.vertices = to_centred(mesh.vertices)
        x0, y0, x1, y1 = self.reference.box
        box = np.vstack([[[x0, y0], [x1, y1]], self.vertices])
        self.lattice = Lattice.over(box, step)
        self._lattices = [self.lattice, self.lattice.coarser, self.lattice.coarser.coarser]
        self.values = self.lattice.identity
        self._velocity = np.zeros_like(self.values)
        self._fixed_bending_scale = bend
        self._bending_scale = bend if bend is not None else BENDING.first_scale  # pixels, of the surface's differences
        self._innovation_scale = BENDING.first_scale  # pixels, of the second differences of the change against the prediction
        self._count = 0
        self._any_occluded = False
        self._reference_motion: np.ndarray | None = None  # (rows, columns, 2) of the reference frame, pixels a frame: it may be blurred by it
        self._last_motion: np.ndarray | None = None  # of the last frame
        self._blur: np.ndarray | None = None  # of the frame at hand, in its own pixels
        self._blurred_tiles: dict[int, tuple[MeshTiles, np.ndarray]] = {}
        self._shutter = 0.0  # part of a frame for which the shutter is open, once it has been seen to blur
        self._shutter_measured = 0  # frames
        self._shutter_scores = dict.fromkeys(BLUR.shutters, 0.0)
        self._deviations: np.ndarray | None = None
        self._bases: dict[tuple[int, float], scipy.sparse.csr_array] = {}
        self._expected: np.ndarray | None = None
        self._coarser: list[tuple[np.ndarray, np.ndarray, np.ndarray]] = []
        self.direction = 1
        self._turned = False  # it goes the other way than the frames that it learned from
        self.shapes = ShapeBasis(self.values)
        self._innovation = 1e3  # pixels, of the last frame
        self._usual_matched_share = 1.0
        self.grain = float(np.quantile(fine.energy, 0.02))  # luma variance, of the reference at the finest level
        self._vertex_weights = _nearness(self.vertices, fine, step)
        self._occluded_for = np.zeros(len(self.vertices))  # frames
        self._occluded_error = np.zeros(len(self.vertices))  # pixels by which what is hidden may meanwhile lie elsewhere

    # -- public ---------------------------------------------------------------------------------------------------

    def feed(self, luma: np.ndarray, held: np.ndarray | None = None, pyramid: Pyramid | None = None) -> MeshFix:
        """The next frame's answer; `luma` as for the reference frame, `held` (h, w) uint8 is 255 on pixels that are held out."""
        if pyramid is None:
            pyramid = Pyramid(luma)
        pyramid.held = HeldOut(held) if held is not None else None
        predicted = self.values + self._velocity if self._expected is None else self._expected
        top = 1 if self._innovation < COARSE_TO_FINE.sure_start else 2 if self._innovation < COARSE_TO_FINE.fair_start else self.reference.coarsest
        top = max(top, 2) if self._any_occluded else top
        self._set_blur(predicted - self.values)
        found, look = self._aligned(pyramid, predicted, min(top, self.reference.coarsest))
        if self._reference_motion is None and self._matched_share(look) > FAILURE.least_matched:
            self._reference_motion = found - self.values
            self._set_blur(self._reference_motion)
            self._measure_shutter(pyramid, found)
            if self._blur is not None and self._shutter:
                found, look = self._aligned(pyramid, found, min(1, self.reference.coarsest))
        else:
            self._measure_shutter(pyramid, found)
        share = self._matched_share(look)
        if share < 0.7 * self._usual_matched_share and top < self.reference.coarsest:
            other, second = self._aligned(pyramid, self.values, self.reference.coarsest)
            if self._matched_share(second) > share:
                found, look, share = other, second, self._matched_share(second)
        if share < FAILURE.least_matched or (share < FAILURE.little_matched and self._matched_likeness(look) < FAILURE.sure_correlation):
            self._velocity = 0.5 * self._velocity
            self._innovation = 1e3
            return MeshFix(self.mesh, None, seen=share, reason=f"only {share:.0%} of the region is seen")
        self._update_scales(found, predicted, look)
        self._usual_matched_share = 0.9 * self._usual_matched_share + 0.1 * share
        self._velocity = self._predicted_velocity(found - self.values, look)
        self.shapes.moved(found - self.values)
        self._last_motion = self.values - found if self._turned else found - self.values
        self.values = found
        self._any_occluded = share < (1 - OCCLUSION.some_occluded) * self._usual_matched_share or self._occluded_share(look) > OCCLUSION.some_occluded
        if share > OCCLUSION.mostly_visible and not self._turned:
            self.shapes.learn(self.direction * self._count, found)
        places = evaluate(self.lattice, found, self.vertices)[0]
        near = self._vertex_weights @ (look.weight * np.sqrt(look.tiles.energy[look.chosen]))
        measured = near > 0.5 * self._vertex_weights @ np.sqrt(look.tiles.energy[look.chosen])
        self._occluded_for = np.where(measured, 0, self._occluded_for + 1)
        growth = np.full(len(measured), UNCERTAINTY.drift_surrounded)
        if not measured.all():
            growth[~surrounded(self.vertices, measured)] = UNCERTAINTY.drift_folded
        self._occluded_error = np.where(measured, 0, self._occluded_error + growth)
        errors = self._expected_errors()
        self._update_templates(luma, pyramid, look, errors)
        return MeshFix(self.mesh, from_centred(places), errors, measured, share)

    def add_template(self, luma: np.ndarray, places: np.ndarray, errors: np.ndarray, held: np.ndarray | None = None) -> None:
        """Let a frame stand in for the reference frame where that looks otherwise there.

        Parameters
        ----------
        luma, held : the frame's, as for `feed`.
        places : (V, 2) of the vertices on that frame, in Wertis' pixels.
        errors : (V,) expected errors of those, pixels.
        """
        values = bspline.fitted(self.lattice, self.vertices, to_centred(places))
        look = self._linearise(Pyramid(luma, held), 0, values)
        self._added(luma, values, look, (look.relative_correlation < TEMPLATE_UPDATE.as_before) | ~self.templates.rich[look.chosen], errors)

    def _update_templates(self, luma: np.ndarray, pyramid: Pyramid, look: _Linearisation, errors: np.ndarray) -> None:
        """Take note of how much the surface still looks as it did; update the templates of its tiles where that is due."""
        matched = (look.relative_correlation > TEMPLATE_UPDATE.least_correlation) & look.measured.whole & (look.measured.held < 0.1)
        changed = self.templates.to_update(look.chosen, look.relative_correlation, matched) if self.renewed and not self._turned else None
        if changed is not None and (self._blur is None or not self._shutter):
            added = self._added(luma, self.values, look, changed, errors)
            if added is not None:
                self.templates.use(added)
        elif self.templates.several and self._count % TEMPLATE_UPDATE.compared_every == 0:
            self.templates.choose(lambda tiles: self._relative_correlation_of(pyramid, tiles))

    def _added(self, luma: np.ndarray, values: np.ndarray, look: _Linearisation, which: np.ndarray, errors: np.ndarray) -> int | None:
        """A new look of tiles (n,) of those that were compared, as a frame shows them; `errors` (V,) of its map."""
        which = which & look.measured.whole & (look.measured.held < 0.1)
        if not which.any():
            return None
        at = self.mesh.interpolated(errors, from_centred(look.tiles.centre[look.chosen[which]]))
        return self.templates.add(luma, lambda p: evaluate(self.lattice, values, p)[0], look.chosen[which], at)

    def _relative_correlation_of(self, pyramid: Pyramid, tiles: MeshTiles) -> np.ndarray:
        """Correlation of tiles (n,) of the finest level with a frame where the map takes them, as part of what noise lets it be."""
        seen = mesh_pass(pyramid[0], tiles, tiles.usable, self.lattice, self.values, pyramid.held[0] if pyramid.held is not None else None)
        usual = 2 * (self.grain + PHOTOMETRY.interpolation_variance) + PHOTOMETRY.model_error * tiles.energy
        return np.where(seen.whole, seen.likeness / _best_correlation(tiles.energy, usual), 0)

    def start_at(self, places: np.ndarray) -> None:
        """Go on from a known place: where the vertices (V, 2) lie, in Wertis' pixels, on the frame before the next one fed."""
        self.values = bspline.fitted(self.lattice, self.vertices, to_centred(places))
        self._velocity = np.zeros_like(self.values)

    def expect(self, places: np.ndarray | None) -> None:
        """Where the vertices (V, 2) are expected on the next frame, in Wertis' pixels; None for where the frames before lead."""
        self._expected = bspline.fitted(self.lattice, self.vertices, to_centred(places)) if places is not None else None

    def turn_back(self, values: np.ndarray, after: np.ndarray) -> None:
        """Go on the other way, from a frame on which all is seen: control values there, and on the frame after it in the order so far."""
        self.values, self._velocity, self._last_motion = values, values - after, after - values
        self._occluded_for, self._occluded_error = np.zeros(len(self.vertices)), np.zeros(len(self.vertices))
        self._any_occluded, self._expected, self._innovation = False, None, COARSE_TO_FINE.sure_start
        self._turned = True

    def state(self) -> dict[str, np.ndarray]:
        """Where it is with the last frame, as arrays: a tracker of the same reference frame that resumes it gives the same bits."""
        found = {"values": self.values, "velocity": self._velocity, "occluded_for": self._occluded_for, "occluded_error": self._occluded_error,
                 "shutter_scores": np.array(list(self._shutter_scores.values())),
                 "numbers": np.array([getattr(self, name) for name in _NUMBERS], np.float64)}
        found |= {name: array for name in _PERHAPS if (array := getattr(self, name)) is not None}
        return found | {f"shapes.{k}": v for k, v in self.shapes.state().items()}

    def resume(self, state: Mapping[str, np.ndarray]) -> None:
        """Go on from what `state` gave."""
        self.values, self._velocity, self._occluded_for = state["values"], state["velocity"], state["occluded_for"]
        self._occluded_error = state["occluded_error"]
        self._shutter_scores = dict(zip(BLUR.shutters, map(float, state["shutter_scores"]), strict=True))
        for name, number in zip(_NUMBERS, state["numbers"], strict=True):
            setattr(self, name, type(getattr(self, name))(number))
        for name in _PERHAPS:
            setattr(self, name, state.get(name))
        self.shapes.resume({k.removeprefix("shapes."): v for k, v in state.items() if k.startswith("shapes.")})

    # -- aligning -------------------------------------------------------------------------------------------------

    def _aligned(self, pyramid: Pyramid, predicted: np.ndarray, top: int) -> tuple[np.ndarray, _Linearisation]:
        """The control values that fit a picture, from those predicted, and the finest level's tiles there."""
        values = predicted.copy()
        for level in range(top, -1, -1):
            ready: _Linearisation | None = None
            if level == 0 and self._any_occluded and self._expected is None:
                values, predicted = self._completed_by_shape(pyramid, values, predicted)
            if level == 0 and self._occluded_for.any() and self._expected is None:
                ready = self._linearise(pyramid, 0, values)
                moved = self._redetected(pyramid, values, ready)
                if moved is not values:
                    values, predicted, ready = moved, predicted + (moved - values), None
            if level == 0 and self._blur is not None and self._shutter:
                self._set_blur(values - self.values)
                ready = None
            for _ in range(COARSE_TO_FINE.steps[level]):
                look, ready = ready or self._linearise(pyramid, level, values), None
                if level > 2:
                    step = self._affine_step(look)
                else:
                    step = self._step(pyramid, look, level, values, predicted)
                values = values + step
                if level and np.quantile(np.abs(step), 0.95) < COARSE_TO_FINE.arrived * 2 ** level:
                    break
        return values, look

    def _completed_by_shape(self, pyramid: Pyramid, values: np.ndarray, predicted: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Values, and those predicted, with what is hidden put where the seen parts say that it is."""
        hidden = self._occlusion(self._linearise(pyramid, 0, values))
        completed = self.values + self.shapes.complete(values - self.values, 1 - hidden)
        return values + hidden[..., None] * (completed - values), predicted + hidden[..., None] * (completed - predicted)

    def _redetected(self, pyramid: Pyramid, values: np.ndarray, look: _Linearisation) -> np.ndarray:
        """Values moved to where hidden parts are found that have come into sight again; `look` is the finest level's. The same where nothing is.

        What comes into sight beside a part that is seen goes on from it, wherever it was expected while it was hidden; so each turn also starts from the
        seen part extrapolated, where that matches better.
        """
        for _ in range(OCCLUSION.turns):
            # what has little texture shows by its misfit neither that it is hidden nor that it is back
            rich = look.tiles.energy[look.chosen] > OCCLUSION.rich * self.grain
            # ... and what is nearly as alike as noise lets it be misfits by less than a search would find
            other = look.measured.likeness < OCCLUSION.nearly_alike
            lost = look.tiles.centre[look.chosen][rich & other & (look.weight < 0.2) & (look.measured.held < 0.1)]
            if len(lost) < OCCLUSION.least_lost:
                break
            share, before = self._matched_share(look), values
            extrapolated = self._extrapolated(look, values)
            there = self._linearise(pyramid, 0, extrapolated)
            if self._matched_share(there) > share + OCCLUSION.least_gain:
                values, look = extrapolated, there
            moved = self._moved_to_patches(pyramid, values, look, lost)
            after = self._linearise(pyramid, 0, moved) if moved is not values else look
            if self._matched_share(after) > self._matched_share(look) + OCCLUSION.least_gain:
                values, look = moved, after
            if values is before or self._matched_share(look) < share + OCCLUSION.worth_another:
                break
        return values

    def _extrapolated(self, look: _Linearisation, values: np.ndarray) -> np.ndarray:
        """Values with what is not measured where the measured parts lead when they go on straight."""
        # where most tiles are lost the few others match by chance
        visible = 1 - self._occlusion(look)
        system, unknown = NormalEquations(self.lattice), 1 - visible * self._known(look)
        by_tile = self._tile_basis(look.tiles, self.lattice).T @ visible.ravel()
        system.add_places(look.tiles.centre[look.chosen], look.information * by_tile[:, None] ** 2, np.zeros_like(look.pull))
        for kernel, count in DIFFERENCES[2]:
            bending = difference(values, kernel)
            weight = count * difference(unknown[..., None], np.abs(kernel) / np.abs(kernel).sum())[..., 0]
            system.add_difference(kernel, weight)
            system.add_right(difference_transposed(-weight[..., None] * bending, kernel))
        system.add_diagonal(1e-4 + (1 - unknown))
        return values + system.solve()

    def _moved_to_patches(self, pyramid: Pyramid, values: np.ndarray, look: _Linearisation, lost: np.ndarray) -> np.ndarray:
        """Values drawn to where patches round lost places (n, 2) are found; the same where none is."""
        patches = self._patches
        near = nearest(patches.centres, lost, 1)[0][:, 0]
        view = View(pyramid, pyramid.held, lambda p: evaluate(self.lattice, values, p)[0], self._slopes_of(values), (0, 0), pyramid.size)
        found = patches.align(view, np.flatnonzero(near < OCCLUSION.surroundings * patches.side))
        displaced = (np.linalg.norm(found.moves, axis=1) > OCCLUSION.least_displacement) & (near[found.patches] < patches.side)
        places, moves = patches.centres[found.patches][displaced], found.moves[displaced]
        if not len(places):
            return values
        moves = evaluate(self.lattice, values, places + moves)[0] - evaluate(self.lattice, values, places)[0]
        return self._fitted_to_matches(pyramid, values, look, places, moves)

    def _slopes_of(self, values: np.ndarray) -> Callable[[np.ndarray], np.ndarray]:
        """The Jacobian (n, 2, 2) at points (n, 2) of the map with these control values."""
        def slopes(points: np.ndarray) -> np.ndarray:
            found = evaluate(self.lattice, values, points, slopes=True)[1]
            assert found is not None
            return found
        return slopes

    @cached_property
    def _patches(self) -> PatchAlignment:
        """What parts that come into sight again are found by; made when something is hidden for the first time."""
        side = int(np.clip(OCCLUSION.patch_side * self.lattice.step, *OCCLUSION.patch_sides)) // 2 * 2 + 1
        mask = self.reference.mask
        return PatchAlignment(self.reference.pyramid, mask, side, grid_on(mask, OCCLUSION.patch_overlap * side), max(self.lattice.step, 2.0 * side))

    def _fitted_to_matches(self, pyramid: Pyramid, values: np.ndarray, look: _Linearisation, places: np.ndarray, moves: np.ndarray) -> np.ndarray:
        """Values drawn to moves (n, 2) at places (n, 2) of the reference, as far as what is seen lets them."""
        lattice = self._lattices[1]
        system = NormalEquations(lattice)
        system.add_places(look.tiles.centre[look.chosen], look.information, look.pull)
        system.add_places(places, np.tile([1.0, 0.0, 1.0], (len(places), 1)), moves)
        system.add_bending(2, 0.1)
        system.add_diagonal(np.full(lattice.shape, 1e-2))
        moved = values + bspline.refined(system.solve(), self.lattice.shape)
        for _ in range(2):
            moved = moved + self._step(pyramid, self._linearise(pyramid, 1, moved), 1, moved, moved)
        return moved

    def _linearise(self, pyramid: Pyramid, level: int, values: np.ndarray, part: np.ndarray | None = None) -> _Linearisation:
        """The equations of a level's usable tiles, or of a `part` (n,) of them, about control values."""
        tiles = self.templates.tiles(level)
        if part is not None:
            tiles = tiles.part(tiles.usable[part])
        chosen = tiles.usable
        _, jacobian = evaluate(self.lattice, values, tiles.centre[chosen], slopes=True)
        assert jacobian is not None
        along, shorter = None, 2.0 ** -level
        reference_grain, picture_grain, grain_slopes = np.ones(len(chosen)), np.ones(len(chosen)), np.ones(len(chosen))
        if self._blur is not None and self._reference_motion is not None and self._shutter:
            if part is not None:
                tiles, length = self._blurred(tiles, jacobian)
            else:
                if level not in self._blurred_tiles:  # made once for each level and frame
                    self._blurred_tiles[level] = self._blurred(tiles, jacobian)
                tiles, length = self._blurred_tiles[level]
            along = self._shutter * (jacobian @ evaluate(self.lattice, self._reference_motion, tiles.centre[chosen])[0][..., None])[..., 0]
            picture_grain = _averaged(np.linalg.norm(along, axis=1) * shorter, PHOTOMETRY.averaged_grain)
            reference_grain, grain_slopes = (_averaged(length[chosen] * shorter, half) for half in (PHOTOMETRY.averaged_grain, PHOTOMETRY.averaged_slopes))
        measured = mesh_pass(pyramid[level], tiles, chosen, self.lattice, values, pyramid.held[level] if pyramid.held is not None else None, along)
        area = jacobian[:, 0, 0] * jacobian[:, 1, 1] - jacobian[:, 0, 1] * jacobian[:, 1, 0]
        grain = self.grain
        gain = np.maximum(measured.gain, 0.05)
        grain_left = reference_grain + picture_grain / gain ** 2
        other = PHOTOMETRY.interpolation_variance * (1 + 1 / gain ** 2) + PHOTOMETRY.model_error * tiles.energy[chosen]
        usual = grain * grain_left + other
        ratio = measured.variance / gain ** 2 / usual
        amount = np.sqrt(tiles.energy[chosen])
        there = measured.whole & (measured.held < 0.1) & (area > PHOTOMETRY.edge_on * max(np.median(area), 1e-3)) & (measured.gain > 0.05)
        scale = max(_weighted_quantile(ratio[there], amount[there], PHOTOMETRY.inlier_quantile) * 1.3, 0.5) if there.any() else 1.0
        misfit = ratio / scale
        relative = measured.likeness / _best_correlation(tiles.energy[chosen], usual)
        weight = there * (relative > PHOTOMETRY.least_correlation) / (1 + (misfit / PHOTOMETRY.robust_cut) ** 2) ** 2
        slopes = tiles.structure[chosen][:, 0] + tiles.structure[chosen][:, 2]
        real = np.maximum(1 - PHOTOMETRY.grain_slopes.get(level, 0.0) * grain * grain_slopes * tiles.count[chosen] / slopes, 0)
        # grain that is averaged along a blur is alike from pixel to pixel, so that a tile's sums vary as if it were not averaged
        per = weight * real / ((grain * (1 + 1 / gain ** 2) + other) * scale)
        # from the reference's pixels to the picture's: u = -J d, so that information becomes J^-T S J^-1 and a pull -J^-T b
        det = np.where(np.abs(area) > 1e-6, area, 1.0)
        a, b, c, d = jacobian[:, 1, 1] / det, -jacobian[:, 0, 1] / det, -jacobian[:, 1, 0] / det, jacobian[:, 0, 0] / det
        sxx, sxy, syy = tiles.structure[chosen].T
        both = per * real
        information = np.stack([both * (a * a * sxx + 2 * a * c * sxy + c * c * syy),
                                both * (a * b * sxx + (a * d + b * c) * sxy + c * d * syy),
                                both * (b * b * sxx + 2 * b * d * sxy + d * d * syy)], axis=1)
        px, py = measured.pull.T
        pull = np.stack([-per * (a * px + c * py), -per * (b * px + d * py)], axis=1)
        if self.templates.changed:  # what a later look lies off adds to the variance of what it shows
            surer = 1 + tiles.template_error[chosen] ** 2 * 0.5 * (information[:, 0] + information[:, 2])
            information, pull = information / surer[:, None], pull / surer[:, None]
        return _Linearisation(tiles, chosen, weight, information, pull, measured, relative, grain_left, reference_grain)

    def _set_blur(self, moved: np.ndarray) -> None:
        """The frame at hand moves so (rows, columns, 2) against the one before; its blur is modelled if it is long enough to matter."""
        self._blurred_tiles = {}
        now = moved = -moved if self._turned else moved
        if self._last_motion is not None and self._reference_motion is not None:
            now = 1.5 * moved - 0.5 * self._last_motion  # in the middle of its shutter
        own = self._reference_motion if self._reference_motion is not None else np.zeros_like(now)
        middle = slice(1, -1)
        difference_ = np.abs(now - own)[middle, middle]
        longest = float(np.quantile(np.maximum(np.linalg.norm(now[middle, middle], axis=2), np.linalg.norm(own[middle, middle], axis=2)), 0.5))
        visible = longest * BLUR.usual_shutter > BLUR.least_length
        self._blur = now if visible and float(np.quantile(difference_, 0.5)) * BLUR.usual_shutter > 0.2 * BLUR.least_length else None

    def _blurred(self, tiles: MeshTiles, jacobian: np.ndarray) -> tuple[MeshTiles, np.ndarray]:
        """The reference's tiles blurred as the frame at hand is, and over how many pixels (K,); `jacobian` (n, 2, 2) at those that are usable."""
        along = np.zeros((len(tiles), 2))
        moved = evaluate(self.lattice, self._blur, tiles.centre[tiles.usable])[0]  # type: ignore[arg-type]
        sound = np.abs(np.linalg.det(jacobian)) > 0.05
        back = np.linalg.inv(np.where(sound[:, None, None], jacobian, np.eye(2)))
        along[tiles.usable] = self._shutter * (back @ moved[..., None])[..., 0]
        return self.templates.blurred(tiles, along, TAPS), np.linalg.norm(along, axis=1)

    def _measure_shutter(self, pyramid: Pyramid, values: np.ndarray) -> None:
        """For the first blurred frames: which shutter makes the reference look most like them."""
        done = self._shutter_measured >= (BLUR.shutter_frames if self._shutter else BLUR.shutter_frames // 3)
        if self._blur is None or self._reference_motion is None or done or self.reference.coarsest < 1:
            return
        self._shutter_measured += 1
        count = len(self.reference.tiles(1).usable)
        some = np.arange(0, count, max(count // BLUR.shutter_tiles, 1))
        for shutter in BLUR.shutters:
            self._shutter = shutter
            look = self._linearise(pyramid, 1, values, some)
            rich = look.tiles.energy[look.chosen] > 8 * self.grain
            self._shutter_scores[shutter] += float(np.median(look.measured.likeness[rich])) if rich.any() else 0.0
        self._blurred_tiles = {}
        best = max(self._shutter_scores, key=lambda s: self._shutter_scores[s])
        gain = (self._shutter_scores[best] - self._shutter_scores[0.0]) / self._shutter_measured
        self._shutter = best if gain > BLUR.gain else 0.0

    def _affine_step(self, look: _Linearisation) -> np.ndarray:
        """A step of the whole surface's affine motion (rows, columns, 2)."""
        places = look.tiles.centre[look.chosen]
        middle, reach = places.mean(0), max(float(np.ptp(places, axis=0).max()), 1.0)

        def rows(p: np.ndarray) -> np.ndarray:
            return np.column_stack([np.ones(len(p)), (p - middle) / reach])

        b = rows(places)
        xx, xy, yy = ((b * look.information[:, k:k + 1]).T @ b for k in range(3))
        normal = np.block([[xx, xy], [xy, yy]])
        normal += 1e-6 * np.trace(normal) * np.eye(6) + 1e-9 * np.eye(6)
        found = np.linalg.solve(normal, (b.T @ look.pull).T.ravel())
        return (rows(self.lattice.identity.reshape(-1, 2)) @ found.reshape(2, 3).T).reshape(self.values.shape)

    def _coarser_equations(self, pyramid: Pyramid, look: _Linearisation, values: np.ndarray) -> list[tuple[np.ndarray, np.ndarray, np.ndarray]]:
        """What coarser levels say of places (n, 2), as information (n, 3) and pull (n, 2), as far as the finer ones leave them unknown.

        Where there is no fine detail the slopes of the finest level are mostly grain's, and its tiles are too small for what is left, a slow change of
        luma, to be told from a change of light.
        """
        total = self._information(look)
        found = []
        for level in range(1, min(PHOTOMETRY.coarser, self.reference.coarsest) + 1):
            basis = self._tile_basis(self.reference.tiles(level), self.lattice)
            unknown = basis.T @ (PHOTOMETRY.measured_information / (total + PHOTOMETRY.measured_information))
            part = np.flatnonzero(unknown > PHOTOMETRY.little_unknown)
            if len(part) < PHOTOMETRY.least_coarser:
                break
            coarse, share = self._linearise(pyramid, level, values, part), unknown[part]
            found.append((coarse.tiles.centre, coarse.information * share[:, None], coarse.pull * share[:, None]))
            total = total + basis[:, part] @ ((coarse.information[:, 0] + coarse.information[:, 2]) * share)
        return found

    def _step(self, pyramid: Pyramid, look: _Linearisation, level: int, values: np.ndarray, predicted: np.ndarray) -> np.ndarray:
        """A step (rows, columns, 2) of the fine lattice's control values, bending as a level's own lattice can."""
        if level == 0:
            self._coarser = self._coarser_equations(pyramid, look, values)
            self._system = self._fine_system(look, values, predicted, self._bending_scale)
            return self._system.solve()
        lattice = self._lattices[level]
        system = NormalEquations(lattice)
        system.add_places(look.tiles.centre[look.chosen], look.information, look.pull)
        for order in BENDING.of_innovation:
            system.add_bending(order, 1 / (self._innovation_scale * 2 ** (order * level)) ** 2)
        system.add_diagonal(PREDICTION.damping + self._occlusion(look, lattice) * PREDICTION.damping_occluded)
        step = system.solve()
        for finer in reversed(self._lattices[:level]):
            step = bspline.refined(step, finer.shape)
        return step

    def _fine_system(self, look: _Linearisation, values: np.ndarray, predicted: np.ndarray, scale: float,
                     part: np.ndarray | None = None) -> NormalEquations:
        """The equations of a step at the finest level, of a `part` (n,) of the tiles.

        Where the surface is seen its fourth differences are expected to be small (its third beside an occluder), so that a gentle wave goes on through
        a spot without texture. Where it is hidden its innovation, the change against what was predicted, is expected to bend little.
        """
        orders = BENDING.weights_occluded if self._any_occluded else BENDING.weights
        system = NormalEquations(self.lattice, max(orders))
        which = slice(None) if part is None else part
        system.add_places(look.tiles.centre[look.chosen[which]], look.information[which], look.pull[which])
        for places, information, pulls in self._coarser:
            system.add_places(places, information, pulls)
        hidden = self._occlusion(look)
        shares, moves = np.stack([hidden, self._known(look)], axis=-1), np.concatenate([values, values - predicted], axis=-1)
        for order, share in orders.items():
            for kernel, count in DIFFERENCES[order]:
                occluded, seen = np.moveaxis(difference(shares, np.abs(kernel) / np.abs(kernel).sum()), -1, 0)
                differences = difference(moves, kernel)
                bending, innovation = differences[..., :2], differences[..., 2:]
                if self._fixed_bending_scale is None:
                    # a crease has to be seen: where nothing is measured bending is as unlikely as it is large
                    usual = (BENDING.degrees_of_freedom + 2) / (BENDING.degrees_of_freedom * scale ** 2)
                    weight = (seen * _student(bending, scale) + (1 - seen) * usual) * (count * share) * (1 - 0.999 * occluded)
                else:
                    weight = np.full(bending.shape[:2], count / scale ** 2)
                pull = -weight[..., None] * bending
                if order == 2:
                    innovation_weight = count * _student(innovation, self._innovation_scale) * np.maximum(occluded, PREDICTION.least_innovation_prior)
                    weight, pull = weight + innovation_weight, pull - innovation_weight[..., None] * innovation
                system.add_difference(kernel, weight)
                system.add_right(difference_transposed(pull, kernel))
        damping = PREDICTION.damping + hidden * PREDICTION.damping_occluded
        system.add_diagonal(damping)
        system.add_right(-damping[..., None] * (values - predicted))
        return system

    def _known(self, look: _Linearisation) -> np.ndarray:
        """(rows, columns) 0..1 how far each control point's place is measured rather than guessed."""
        total = self._information(look)
        return np.asarray((total / (total + PHOTOMETRY.measured_information)).reshape(self.lattice.shape))

    def _information(self, look: _Linearisation) -> np.ndarray:
        """(control points,) per square pixel, how much is known of each control point's place."""
        return np.asarray(self._tile_basis(look.tiles, self.lattice) @ (look.information[:, 0] + look.information[:, 2]))

    def _occlusion(self, look: _Linearisation, lattice: Lattice | None = None) -> np.ndarray:
        """(rows, columns) how far each control point's texture is hidden, 0..1; 0 where there is none."""
        shape = (lattice or self.lattice).shape
        amount = np.sqrt(np.maximum(look.tiles.energy[look.chosen] - 2 * self.grain, 0))
        total, lost = (self._tile_basis(look.tiles, lattice or self.lattice) @ np.column_stack([amount, amount * (1 - look.weight)])).T
        least = OCCLUSION.little_texture * float(np.median(total[total > 0])) + 1e-9 if (total > 0).any() else 1.0
        share = np.where(total > least, lost / np.maximum(total, least), 0)
        return np.clip((share.reshape(shape) - 0.3) / 0.4, 0, 1)

    def _tile_basis(self, tiles: MeshTiles, lattice: Lattice) -> "scipy.sparse.csr_array":
        """(control points, n) how far each of a level's usable tiles, which stay where they are, reaches to each control point: `Lattice.local_basis`."""
        key = tiles.level, lattice.step
        if key not in self._bases:
            index, weights = lattice.local_basis(tiles.centre[tiles.usable])
            tile = np.repeat(np.arange(len(index)), index.shape[1])
            self._bases[key] = scipy.sparse.csr_array((weights.ravel(), (index.ravel(), tile)), shape=(lattice.rows * lattice.columns, len(index)))
        return self._bases[key]

    def _cross_validate(self, look: _Linearisation, values: np.ndarray, predicted: np.ndarray) -> None:
        """Choose how far the surface is expected to bend by what predicts best the tiles that are left out (two-fold cross-validation)."""
        row = np.floor(look.tiles.centre[look.chosen] / (2 * look.tiles.side)).astype(int)
        side = (row.sum(1) % 2).astype(bool)
        loss = []
        options = [self._bending_scale * k for k in (0.5, 1.0, 2.0)]
        for bend in options:
            total = 0.0
            for kept in (side, ~side):
                step = self._fine_system(look, values, predicted, bend, np.flatnonzero(kept)).solve()
                out = np.flatnonzero(~kept)
                moved, _ = evaluate(self.lattice, step, look.tiles.centre[look.chosen[out]])
                xx, xy, yy = look.information[out].T
                x, y = moved.T
                each = xx * x * x + 2 * xy * x * y + yy * y * y - 2 * (look.pull[out] * moved).sum(1)
                total += float(np.minimum(each, 50).sum())
            loss.append(total)
        best = int(np.argmin(loss))
        self._bending_scale = float(np.clip(options[best], BENDING.least_scale, BENDING.most_scale))

    # -- judging and remembering ----------------------------------------------------------------------------------

    def _matched_share(self, look: _Linearisation) -> float:
        energy = np.sqrt(self.templates.tiles(0).energy)
        return float((look.weight > 0.2) @ energy[look.chosen] / max(energy.sum(), 1e-9))

    def _matched_likeness(self, look: _Linearisation) -> float:
        """Mean correlation of the tiles that match, 0..1: by chance some tiles of anything do, but not well."""
        good = look.weight > 0.2
        if not good.any():
            return 0.0
        return float(np.average(look.measured.likeness[good], weights=np.sqrt(look.tiles.energy[look.chosen][good]) + 1e-9))

    def _occluded_share(self, look: _Linearisation) -> float:
        """Share 0..1 of the tiles with rich texture that do not match."""
        energy = look.tiles.energy[look.chosen]
        rich = energy > max(float(np.median(energy)), 8 * self.grain)
        return float(np.mean(look.weight[rich] < 0.1)) if rich.any() else 0.0

    def _update_scales(self, found: np.ndarray, predicted: np.ndarray, look: _Linearisation) -> None:
        """How much the surface bends, and how far it is from what was predicted, where it is measured."""
        held = self._tile_basis(look.tiles, self.lattice) @ (look.weight > 0.2).astype(np.float64)
        known = (held > 0.3).reshape(self.lattice.shape)

        def usual(values: np.ndarray, order: int, before: float) -> float:
            bends = []
            for kernel, _ in DIFFERENCES[order]:
                around = difference((~known[..., None]).astype(float), (kernel != 0).astype(float))[..., 0] == 0
                bends.append(np.abs(difference(values, kernel)[around]).ravel())
            all_bends = np.concatenate(bends)
            if len(all_bends) < 20:
                return before
            return float(np.clip(0.7 * before + 0.3 * 1.5 * np.quantile(all_bends, 0.6), BENDING.least_scale, BENDING.most_scale))

        good = look.weight > 0.5
        if good.sum() > 20:
            energy, left = look.tiles.energy[look.chosen][good], look.measured.variance[good]
            flat = energy <= np.quantile(energy, 0.33)
            grain = float(np.quantile((left / (look.grain_left[good] * look.measured.gain[good] ** 2))[flat], 0.3))
            self.grain = 0.8 * self.grain + 0.2 * min(grain, float(np.quantile(energy / look.reference_grain_left[good], 0.1)))
        self._innovation_scale = max(usual(found - predicted, 2, self._innovation_scale), 0.05)
        if self._fixed_bending_scale is None and (self._count < BENDING.validated_first or self._count % BENDING.validated_every == 0):
            self._cross_validate(look, found, predicted)
        self._count += 1
        if known.any():
            self._innovation = max(float(np.quantile(np.linalg.norm((found - predicted)[known], axis=1), 0.95)), 0.5 * min(self._innovation, 20.0))

    def _predicted_velocity(self, moved: np.ndarray, look: _Linearisation) -> np.ndarray:
        """The motion expected of the next frame: the whole surface's own goes on, and most of what each part does beside it, where it is measured."""
        places = look.tiles.centre[look.chosen]
        motion = evaluate(self.lattice, moved, places)[0]
        w = look.weight * np.sqrt(look.tiles.energy[look.chosen])
        middle = np.average(places, axis=0, weights=w + 1e-9)
        drift = np.average(motion, axis=0, weights=w + 1e-9)
        p, m = places - middle, motion - drift
        # a similarity, drawn to a shift where what is seen is small beside the whole
        across = self.lattice.box[2] - self.lattice.box[0]
        size = float((w * (p ** 2).sum(1)).sum()) + 0.1 * float(w.sum()) * float(across @ across) / 12
        grow, turn = float((w * (p * m).sum(1)).sum()) / size, float((w * (p[:, 0] * m[:, 1] - p[:, 1] * m[:, 0])).sum()) / size
        grid = self.lattice.identity - middle
        whole = drift + grow * grid + turn * np.stack([-grid[..., 1], grid[..., 0]], axis=-1)
        hidden = self._occlusion(look)[..., None]
        return whole + ((1 - hidden) * PREDICTION.kept_velocity + hidden * PREDICTION.kept_velocity_occluded) * (moved - whole)

    def _expected_errors(self) -> np.ndarray:
        """(V,) expected error in pixels: what grain and bending leave, and what may have changed since a vertex was last seen."""
        if self._count % UNCERTAINTY.recomputed_every == 1 or self._deviations is None:
            self._deviations = np.sqrt(np.trace(self._system.covariance(self.vertices), axis1=1, axis2=2))
        blurred = np.zeros(len(self.vertices))
        if self._blur is not None and self._reference_motion is not None and self._shutter:
            lengths = (np.linalg.norm(evaluate(self.lattice, moved, self.vertices)[0], axis=1) for moved in (self._blur, self._reference_motion))
            blurred = UNCERTAINTY.of_blur * self._shutter * np.maximum(*lengths)
        return np.asarray(np.sqrt(UNCERTAINTY.least ** 2 + (UNCERTAINTY.factor * self._deviations) ** 2 + self._occluded_error ** 2 + blurred ** 2
                                  + self._template_errors() ** 2))

    def _template_errors(self) -> np.ndarray:
        """(V,) pixels by which each vertex may lie off since the tiles round it are compared with a later look."""
        if not self.templates.changed:
            return np.zeros(len(self.vertices))
        fine = self.templates.tiles(0)
        weights = self._vertex_weights * np.sqrt(fine.energy[fine.usable])
        return np.asarray(weights @ fine.template_error[fine.usable] / np.maximum(weights.sum(1), 1e-12))


def surrounded(vertices: np.ndarray, measured: np.ndarray) -> np.ndarray:
    """(V,) whether each of the vertices (V, 2) lies between those that are measured (V,), within their convex hull: then it can hardly fold away."""
    if np.count_nonzero(measured) < 4:
        return np.zeros(len(vertices), bool)
    try:
        return np.asarray(scipy.spatial.Delaunay(vertices[measured]).find_simplex(vertices) >= 0)
    except scipy.spatial.QhullError:  # all in one line
        return np.zeros(len(vertices), bool)


def _best_correlation(energy: np.ndarray, noise: np.ndarray) -> np.ndarray:
    """The correlation (n,) that noise of a variance (n,) lets tiles of an energy (n,) have."""
    return energy / (energy + 3 * noise)


def _averaged(length: np.ndarray, half: float) -> np.ndarray:
    """Share of the grain's variance that is left when it is averaged along a line of a length (n,); `half` pixels leave half of it."""
    return half / (half + length)


def _student(differences: np.ndarray, usual: float) -> np.ndarray:
    """Weights (rows, columns) of differences (rows, columns, 2) that are expected to be about `usual`, by Student's t (iterated)."""
    return (BENDING.degrees_of_freedom + 2) / (BENDING.degrees_of_freedom * usual ** 2 + (differences ** 2).sum(-1))


def _weighted_quantile(values: np.ndarray, weights: np.ndarray, share: float) -> float:
    order = np.argsort(values, kind="stable")
    total = np.cumsum(weights[order])
    return float(values[order][np.searchsorted(total, share * total[-1])])


def _nearness(vertices: np.ndarray, tiles: MeshTiles, step: float) -> np.ndarray:
    """(V, n) how much each usable tile says of each vertex."""
    far = np.linalg.norm(vertices[:, None] - tiles.centre[tiles.usable][None], axis=2)
    return np.exp(-0.5 * (far / (0.5 * step)) ** 2) + 1e-9 * np.exp(-far / step)
