"""The mesh tracker: where a bending surface of the reference frame is on every other frame.

Each frame is aligned with the reference frame itself, so that error does not add up; the frames before only say where to start and what to
expect of parts that are hidden. The map is a lattice of cubic B-splines, found by Gauss-Newton steps, coarse to fine, over small tiles with light of
their own, robust tile by tile, with a prior on bending. Known ground: F. Bookstein, Principal warps, 1989; D. Rueckert et al., Nonrigid registration
using free-form deformations, 1999; J. Pilet, V. Lepetit and P. Fua, Fast non-rigid surface detection, registration and realistic augmentation,
IJCV 76, 2008; V. Gay-Bellile, A. Bartoli and P. Sayd, Direct estimation of nonrigid registrations with image-based self-occlusion reasoning,
IEEE PAMI 32, 2010; R. Garg, A. Roussos and L. Agapito, A variational approach to video registration with subspace constraints, IJCV 104, 2013.
"""

from collections.abc import Mapping
from operator import attrgetter

import numpy as np
import scipy

from wertis.core.errors import RegionError
from wertis.core.geometry import bspline
from wertis.core.geometry.bspline import Lattice, evaluate
from wertis.core.geometry.conventions import from_centred, to_centred
from wertis.core.geometry.mesh import Mesh, MeshFix
from wertis.core.imaging.pyramid import HeldOut, Pyramid
from wertis.core.track.mesh.alignment import MeshAlignment
from wertis.core.track.mesh.equations import Linearisation, best_correlation
from wertis.core.track.mesh.redetection import Redetection, from_matches
from wertis.core.track.mesh.reference import MeshReference, MeshTiles
from wertis.core.track.mesh.settings import (
    BENDING,
    BLUR,
    COARSE_TO_FINE,
    FAILURE,
    OCCLUSION,
    PHOTOMETRY,
    PREDICTION,
    REACQUISITION,
    TEMPLATE_UPDATE,
    UNCERTAINTY,
)
from wertis.core.track.mesh.shape_basis import ShapeBasis
from wertis.core.track.mesh.tile_pass import mesh_pass
from wertis.core.track.redetection import matched_features

# with the map, what is known
_NUMBERS = ("alignment.bending_scale", "alignment.innovation_scale", "_innovation", "_usual_matched_share", "alignment.grain", "_count",
            "alignment.any_occluded", "alignment.visible_share", "blur.shutter", "blur.frames_measured", "blur.longest_measured")
_PERHAPS = ("blur.reference_motion", "blur.last_motion", "_deviations", "_nearly_found")  # arrays that there may be

_LOOKS_OTHERWISE = "the surface looks otherwise here than on the reference frame; let its look be renewed, or give a further reference frame"


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
        fine = self.reference.tiles(0)
        if not len(fine) or float(np.max(fine.energy, initial=0)) < 2.0:
            raise RegionError("There is no texture inside the region to hold on to; draw it round an area with detail.")
        self.mesh = mesh
        self.vertices = to_centred(mesh.vertices)
        x0, y0, x1, y1 = self.reference.box
        box = np.vstack([[[x0, y0], [x1, y1]], self.vertices])
        self.lattice = Lattice.over(box, step)
        self.alignment = MeshAlignment(self.reference, self.lattice, bend)
        self.templates, self.blur, self.renewed = self.alignment.templates, self.alignment.blur, renewed
        self._redetection = Redetection(self.alignment)
        self.values, self.luma = self.lattice.identity, luma
        self._velocity = np.zeros_like(self.values)
        self._count = 0
        self._deviations: np.ndarray | None = None
        self._expected: np.ndarray | None = None
        self._nearly_found: np.ndarray | None = None  # control values, of a lost surface
        self.direction = 1
        self._turned = False  # it goes the other way than the frames that it learned from
        self.shapes = ShapeBasis(self.values)
        self._innovation = 1e3  # pixels, of the last frame
        self._usual_matched_share = 1.0
        self._vertex_weights = _nearness(self.vertices, fine, step)
        self._occluded_for = np.zeros(len(self.vertices))  # frames
        self._occluded_error = np.zeros(len(self.vertices))  # pixels by which what is hidden may meanwhile lie elsewhere

    # -- public ---------------------------------------------------------------------------------------------------

    def feed(self, luma: np.ndarray, held: np.ndarray | None = None, pyramid: Pyramid | None = None) -> MeshFix:
        """The next frame's answer; `luma` as for the reference frame, `held` (h, w) uint8 is 255 on pixels that are held out."""
        if pyramid is None:
            pyramid = Pyramid(luma)
        pyramid.held = HeldOut(held) if held is not None else None
        self.luma = luma
        predicted = self.values + self._velocity if self._expected is None else self._expected
        found, look = self._align_frame(pyramid, predicted)
        share = self.alignment.matched_share(look)
        lost = self._failed(look)
        if lost:
            again = self._reacquired(pyramid)
            if again is None:
                self._velocity = 0.5 * self._velocity
                self._innovation = 1e3
                self._occluded_error = self._occluded_error + UNCERTAINTY.drift_folded
                why = f"only {share:.0%} of the region is seen" if share < FAILURE.little_matched else _LOOKS_OTHERWISE
                return MeshFix(self.mesh, None, seen=share, reason=why)
            found, look = again
            share = self.alignment.matched_share(look)
            # how it came there from the frame before is not known, so it is as if it had stood there
            self.values = predicted = found
        validated = self._count < BENDING.validated_first or self._count % BENDING.validated_every == 0
        known = self.alignment.update_scales(found, predicted, look, validated)
        self._count += 1
        if known.any():
            self._innovation = max(float(np.quantile(np.linalg.norm((found - predicted)[known], axis=1), 0.95)), 0.5 * min(self._innovation, 20.0))
        self._usual_matched_share = 0.9 * self._usual_matched_share + 0.1 * share
        self._velocity = self._predicted_velocity(found - self.values, look)
        self.shapes.moved(found - self.values)
        if lost:
            self._innovation = 1e3
        self.blur.last_motion = self._forward(found - self.values)
        self.values = found
        self.alignment.visible_share = share
        fewer = share < (1 - OCCLUSION.some_occluded) * self._usual_matched_share
        self.alignment.any_occluded = fewer or self.alignment.occluded_share(look) > OCCLUSION.some_occluded
        if share > OCCLUSION.mostly_visible and not self._turned:
            self.shapes.learn(self.direction * self._count, found)
        places = evaluate(self.lattice, found, self.vertices)[0]
        measured = self.measured_vertices(look.weight, look.tiles.energy[look.chosen])
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
        self.blur.forget_tiles()
        look = self.alignment.linearise(Pyramid(luma, held), 0, values)
        self._added(luma, values, look, (look.relative_correlation < TEMPLATE_UPDATE.as_before) | ~self.templates.rich[look.chosen], errors)

    def _update_templates(self, luma: np.ndarray, pyramid: Pyramid, look: Linearisation, errors: np.ndarray) -> None:
        """Take note of how much the surface still looks as it did; update the templates of its tiles where that is due."""
        matched = (look.relative_correlation > TEMPLATE_UPDATE.least_correlation) & look.measured.whole & (look.measured.held < 0.1)
        changed = self.templates.to_update(look.chosen, look.relative_correlation, matched) if self.renewed and not self._turned else None
        if changed is not None and not self.blur.modelled:
            added = self._added(luma, self.values, look, changed, errors)
            if added is not None:
                self.templates.use(added)
        elif self.templates.several and self._count % TEMPLATE_UPDATE.compared_every == 0:
            self.templates.choose(lambda tiles: self._relative_correlation_of(pyramid, tiles))

    def _added(self, luma: np.ndarray, values: np.ndarray, look: Linearisation, which: np.ndarray, errors: np.ndarray) -> int | None:
        """A new look of tiles (n,) of those that were compared, as a frame shows them; `errors` (V,) of its map."""
        which = which & look.measured.whole & (look.measured.held < 0.1)
        if not which.any():
            return None
        at = self.mesh.interpolated(errors, from_centred(look.tiles.centre[look.chosen[which]]))
        return self.templates.add(luma, lambda p: evaluate(self.lattice, values, p)[0], look.chosen[which], at)

    def _relative_correlation_of(self, pyramid: Pyramid, tiles: MeshTiles) -> np.ndarray:
        """Correlation of tiles (n,) of the finest level with a frame where the map takes them, as part of what noise lets it be."""
        seen = mesh_pass(pyramid[0], tiles, tiles.usable, self.lattice, self.values, pyramid.held[0] if pyramid.held is not None else None)
        usual = 2 * (self.alignment.grain + PHOTOMETRY.interpolation_variance) + PHOTOMETRY.model_error * tiles.energy
        return np.where(seen.whole, seen.likeness / best_correlation(tiles.energy, usual), 0)

    def start_at(self, places: np.ndarray) -> None:
        """Go on from a known place: where the vertices (V, 2) lie, in Wertis' pixels, on the frame before the next one fed."""
        self.values = bspline.fitted(self.lattice, self.vertices, to_centred(places))
        self._velocity = np.zeros_like(self.values)

    def expect(self, places: np.ndarray | None) -> None:
        """Where the vertices (V, 2) are expected on the next frame, in Wertis' pixels; None for where the frames before lead."""
        self._expected = bspline.fitted(self.lattice, self.vertices, to_centred(places)) if places is not None else None

    def turn_back(self, values: np.ndarray, after: np.ndarray) -> None:
        """Go on the other way, from a frame on which all is seen: control values there, and on the frame after it in the order so far."""
        self.values, self._velocity, self.blur.last_motion = values, values - after, after - values
        self._occluded_for, self._occluded_error = np.zeros(len(self.vertices)), np.zeros(len(self.vertices))
        self.alignment.any_occluded, self._expected, self._innovation = False, None, COARSE_TO_FINE.sure_start
        self.alignment.visible_share = 1.0
        self._turned = True

    def state(self) -> dict[str, np.ndarray]:
        """Where it is with the last frame, as arrays: a tracker of the same reference frame that resumes it gives the same bits."""
        found = {"values": self.values, "velocity": self._velocity, "occluded_for": self._occluded_for, "occluded_error": self._occluded_error,
                 "shutter_scores": np.array(list(self.blur.scores.values())),
                 "numbers": np.array([attrgetter(name)(self) for name in _NUMBERS], np.float64)}
        found |= {name: array for name in _PERHAPS if (array := attrgetter(name)(self)) is not None}
        return found | {f"shapes.{k}": v for k, v in self.shapes.state().items()}

    def resume(self, state: Mapping[str, np.ndarray]) -> None:
        """Go on from what `state` gave."""
        self.values, self._velocity, self._occluded_for = state["values"], state["velocity"], state["occluded_for"]
        self._occluded_error = state["occluded_error"]
        self.blur.scores = dict(zip(BLUR.shutters, map(float, state["shutter_scores"]), strict=True))
        for name, number in zip(_NUMBERS, state["numbers"], strict=True):
            self._set(name, type(attrgetter(name)(self))(number))
        for name in _PERHAPS:
            self._set(name, state.get(name))
        self.shapes.resume({k.removeprefix("shapes."): v for k, v in state.items() if k.startswith("shapes.")})

    def _set(self, name: str, value: object) -> None:
        of, _, name = name.rpartition(".")
        setattr(getattr(self, of) if of else self, name, value)

    # -- aligning -------------------------------------------------------------------------------------------------

    def _align_frame(self, pyramid: Pyramid, predicted: np.ndarray) -> tuple[np.ndarray, Linearisation]:
        """Control values, with the finest level's tiles: from those predicted, or from the last frame's where these led astray.

        Measures the shutter on the way, where that is still to be done.
        """
        top = 1 if self._innovation < COARSE_TO_FINE.sure_start else 2 if self._innovation < COARSE_TO_FINE.fair_start else self.reference.coarsest
        top = max(top, 2) if self.alignment.any_occluded else top
        self.blur.set_motion(self._forward(predicted - self.values))
        found, look = self._aligned(pyramid, predicted, min(top, self.reference.coarsest))
        as_told = self.blur.modelled
        if self.blur.reference_motion is None and self.alignment.matched_share(look) > FAILURE.least_matched:
            self.blur.reference_motion = found - self.values
            self.blur.set_motion(self._forward(self.blur.reference_motion))
        if self.alignment.matched_share(look) > FAILURE.little_matched:  # misaligned tiles look blurred
            self._measure_shutter(pyramid, found)
        if self.blur.modelled and not as_told:
            found, look = self._aligned(pyramid, found, min(1, self.reference.coarsest))
        share = self.alignment.matched_share(look)
        if share < 0.7 * self._usual_matched_share and top < self.reference.coarsest:
            first = self.alignment.fine
            other, second = self._aligned(pyramid, self.values, self.reference.coarsest)
            if self.alignment.matched_share(second) > share:
                found, look = other, second
            else:
                self.alignment.fine = first
        return found, look

    def _aligned(self, pyramid: Pyramid, predicted: np.ndarray, top: int) -> tuple[np.ndarray, Linearisation]:
        """The control values that fit a picture, from those predicted, and the finest level's tiles there."""
        values = predicted.copy()
        for level in range(top, -1, -1):
            ready: Linearisation | None = None
            if level == 0 and self.alignment.any_occluded and self._expected is None:
                values, predicted = self._completed_by_shape(pyramid, values, predicted)
            if level == 0 and self._occluded_for.any() and self._expected is None:
                ready = self.alignment.linearise(pyramid, 0, values)
                moved = self._redetection.found(pyramid, values, ready)
                if moved is not values:
                    values, predicted, ready = moved, predicted + (moved - values), None
            if level == 0 and self.blur.modelled:
                self.blur.set_motion(self._forward(values - self.values))
                ready = None
            for number in range(COARSE_TO_FINE.steps[level]):
                look, ready = ready or self.alignment.linearise(pyramid, level, values), None
                if level > 2:
                    step = self.alignment.affine_step(look)
                else:
                    further = self.alignment.modified_newton_step(look, level, values) if number and (level or not self.alignment.any_occluded) else None
                    step = further if further is not None else self.alignment.step(pyramid, look, level, values, predicted)
                values = values + step
                if level and np.quantile(np.abs(step), 0.95) < COARSE_TO_FINE.arrived * 2 ** level:
                    break
        return values, look

    def _failed(self, look: Linearisation) -> bool:
        """Whether so little matches that the surface is not found."""
        share = self.alignment.matched_share(look)
        likeness, correlation = self.alignment.matched_likeness(look)
        by_chance = (share < FAILURE.little_matched and likeness < FAILURE.sure_likeness) or correlation < FAILURE.least_correlation
        return share < FAILURE.least_matched or by_chance

    def _reacquired(self, pyramid: Pyramid) -> tuple[np.ndarray, Linearisation] | None:
        """Control values, with the finest level's tiles, that the features of the whole picture lead to; None where they lead nowhere.

        What they led near to on the frame before is tried as well.
        """
        starts = [from_matches(self.lattice, places, found_at) for _, places, found_at in matched_features(self.reference, pyramid, [None])]
        starts.append(self._nearly_found)
        self._nearly_found, nearest = None, 0.0
        alignment, expected = self.alignment, self._expected
        as_before = alignment.visible_share, alignment.innovation_scale, alignment.any_occluded
        # how much is seen and how far it bends from there is as little known as on the first frame
        alignment.visible_share, alignment.innovation_scale, alignment.any_occluded = 1.0, REACQUISITION.innovation, False
        for there in starts:
            if there is not None:
                self.blur.set_motion(np.zeros_like(there))
                self._expected = there  # and not where the last frames lead
                found, look = self._aligned(pyramid, there, min(2, self.reference.coarsest))
                self._expected = expected
                if not self._failed(look) and self.alignment.matched_likeness(look)[1] > FAILURE.sure_correlation:
                    return found, look
                share = self.alignment.matched_share(look)
                if share > nearest:
                    self._nearly_found, nearest = found, share
        alignment.visible_share, alignment.innovation_scale, alignment.any_occluded = as_before
        return None

    def _completed_by_shape(self, pyramid: Pyramid, values: np.ndarray, predicted: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Values, and those predicted, with what is hidden put where the seen parts say that it is."""
        hidden = self.alignment.occlusion(self.alignment.linearise(pyramid, 0, values))
        completed = self.values + self.shapes.complete(values - self.values, 1 - hidden)
        return values + hidden[..., None] * (completed - values), predicted + hidden[..., None] * (completed - predicted)

    def _forward(self, moved: np.ndarray) -> np.ndarray:
        """A motion in the order of the frames that it learned from."""
        return -moved if self._turned else moved

    def _measure_shutter(self, pyramid: Pyramid, values: np.ndarray) -> None:
        count = len(self.reference.tiles(1).usable) if self.reference.coarsest else 0
        self.blur.measure_shutter(lambda part: self.alignment.linearise(pyramid, 1, values, part), count, self.alignment.grain)

    # -- judging and remembering ----------------------------------------------------------------------------------

    def _predicted_velocity(self, moved: np.ndarray, look: Linearisation) -> np.ndarray:
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
        hidden = self.alignment.occlusion(look)[..., None]
        return whole + ((1 - hidden) * PREDICTION.kept_velocity + hidden * PREDICTION.kept_velocity_occluded) * (moved - whole)

    def _expected_errors(self) -> np.ndarray:
        """(V,) expected error in pixels: what grain and bending leave, and what may have changed since a vertex was last seen."""
        if self._count % UNCERTAINTY.recomputed_every == 1 or self._deviations is None:
            self._deviations = np.sqrt(np.trace(self.alignment.fine.system.covariance(self.vertices), axis1=1, axis2=2))
        blurred = UNCERTAINTY.of_blur * self.blur.shutter * self.blur.motion_lengths(self.vertices)
        return np.asarray(np.sqrt(UNCERTAINTY.least ** 2 + (UNCERTAINTY.factor * self._deviations) ** 2 + self._occluded_error ** 2 + blurred ** 2
                                  + self.template_errors() ** 2))

    def measured_vertices(self, weight: np.ndarray, energy: np.ndarray) -> np.ndarray:
        """(V,) whether more than half of the texture round each vertex matches, by the usable tiles' robust weights (n,) and luma variances (n,)."""
        amount = np.sqrt(energy)
        return np.asarray(self._vertex_weights @ ((weight - 0.5) * amount) > 0)

    def template_errors(self) -> np.ndarray:
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


def _nearness(vertices: np.ndarray, tiles: MeshTiles, step: float) -> np.ndarray:
    """(V, n) how much each usable tile says of each vertex."""
    far = np.linalg.norm(vertices[:, None] - tiles.centre[tiles.usable][None], axis=2)
    return np.exp(-0.5 * (far / (0.5 * step)) ** 2) + 1e-9 * np.exp(-far / step)
