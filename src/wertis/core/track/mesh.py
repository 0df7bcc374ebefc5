"""The mesh tracker: where a bending surface of the reference frame is on every other frame.

Each frame is aligned with the reference frame itself, so that error does not add up; the frames before only say where to start and what to
expect of parts that are hidden. The map is a lattice of cubic B-splines, found by Gauss-Newton steps, coarse to fine, over small tiles with light of
their own, robust tile by tile, with a prior on bending. Known ground: F. Bookstein, Principal warps, 1989; D. Rueckert et al., Nonrigid registration
using free-form deformations, 1999; J. Pilet, V. Lepetit and P. Fua, Fast non-rigid surface detection, registration and realistic augmentation,
IJCV 76, 2008; V. Gay-Bellile, A. Bartoli and P. Sayd, Direct estimation of nonrigid registrations with image-based self-occlusion reasoning,
IEEE PAMI 32, 2010; R. Garg, A. Roussos and L. Agapito, A variational approach to video registration with subspace constraints, IJCV 104, 2013.
"""

from dataclasses import dataclass

import numpy as np

from wertis.core.errors import RegionError
from wertis.core.geometry import bspline
from wertis.core.geometry.bspline import DIFFERENCES, Lattice, NormalEquations, difference, difference_transposed, evaluate
from wertis.core.geometry.conventions import from_centred, to_centred
from wertis.core.geometry.mesh import Mesh, MeshFix
from wertis.core.imaging.pyramid import HeldOut, Pyramid
from wertis.core.track.mesh_pass import TAPS, TilePass, mesh_pass
from wertis.core.track.mesh_reference import MeshReference, MeshTiles
from wertis.core.track.recapture import recapture
from wertis.core.track.shape_basis import ShapeBasis

_STEPS = {0: 2, 1: 2, 2: 3, 3: 5, 4: 6}  # of Gauss-Newton, most of each level
_ARRIVED = 0.02  # pixels of a step, 95 of 100 control points, below which a level is done
_FREE = 0.25  # luma variance that interpolation leaves in any picture
_MODEL = 0.01  # part of a tile's texture variance that is left where all is well (resampling, blur, small wrinkles)
_CUT = 3.0  # times the usual misfit at which a tile counts a quarter
_GRAIN_SLOPES = {0: 0.64, 1: 0.09, 2: 0.01}  # of each level, the squared slopes per pixel that grain of variance 1 at the finest level gives by itself
_QUANTILE = 0.4  # of the tiles' misfits that is taken for the usual one, so that up to half of the surface may be hidden
_LEAST_LIKENESS = 0.3  # part of the correlation that grain leaves, below which a tile shows something else
_EDGE_ON = 0.17  # of the surface's usual area, the cosine of 80 degrees: what is turned away further is not measured
_SURE_START, _FAIR_START = 1.0, 4.0  # pixels by which the last frame was foretold, up to which tracking begins at level 1, and at level 2
_NU = 4.0  # degrees of freedom of Student's t, by which bending is expected: creases are rare and allowed
_LEAST_BEND, _MOST_BEND = 0.03, 30.0  # pixels: range of the second differences that are expected
_AT_FIRST = 1.0  # pixels of the same, before anything is known
_TIE = 1 / 40.0 ** 2  # per square pixel, holds to what was foretold what nothing else holds
_TIE_HIDDEN = 1 / 3.0 ** 2  # the same where the surface is hidden
_MOSTLY_SEEN = 0.85  # share of the texture from which a frame's shape is learned
_SOME_HIDDEN = 0.03  # share of the rich texture from which something hides the surface
_LITTLE_TEXTURE = 0.15  # of the usual texture round a control point, below which nobody can say that it is hidden
_COVARIANCE_EVERY = 3  # frames: what grain leaves changes slowly
_SHUTTER = 0.5  # part of a frame for which a shutter is usually open, by common practice: whether it could blur
_BLUR_GAIN = 0.01  # of correlation, a frame, from which blur is believed
_SHUTTERS = (0.0, 0.25, 0.375, 0.5, 0.625, 0.75, 1.0)
_SHUTTER_FRAMES = 9  # from which it is measured; a third of them where there seems to be none
_LEAST_BLUR = 1.5  # pixels, length of a blur from which it is reckoned with
_BORNE_OUT, _WON = 0.3, 0.004  # weight of a patch that is found again, and share of the texture, from which what was found is believed
_LEAST_ERROR = 0.02  # pixels, of a vertex however rich its texture: resampling
_TOO_SURE = 2.2  # times the expected error that the equations state, for what they leave out: tiles share grain, light is not quite a ramp
_STRAYS = 0.9  # pixels a frame, by which a hidden part may come to lie elsewhere than expected
_HALF, _SURELY_ALIKE = 0.5, 0.65  # share that matches below which that much correlation of it is asked for
_LEAST_MATCHED = 0.05  # share of the region's texture below which a frame is lost
_ORDER = {2: 0.001, 3: 1.0}  # weight of second and third differences in what is expected of bending
_TUNED_FIRST, _TUNED_EVERY = 6, 6  # frames on which bending is chosen anew
_CALM = 1e-3  # part of the calm expected of hidden motion that is expected everywhere
_KEPT_HIDDEN = 0.6  # the same where it is hidden
_KEPT_VELOCITY = 0.8  # of the motion that is not the whole surface's own


@dataclass
class _Look:
    """Tiles of a level as they were last looked at: their weights (n,) 0..1, information per square pixel of motion (n, 3) and pull (n, 2)."""

    tiles: MeshTiles
    chosen: np.ndarray
    weight: np.ndarray
    information: np.ndarray
    pull: np.ndarray
    measured: TilePass


class MeshTracker:
    """Tracks one region from its reference frame in one direction; feed it the frames in their order.

    Parameters
    ----------
    luma : (height, width) uint8 or float32 on a scale of 0..255, the reference frame.
    mask : (height, width) uint8, non-zero where the surface is.
    mesh : on the reference frame, in Wertis' pixels.
    step : pixels between the control points of the map.
    bend : pixels by which a control point is expected to lie off the line between its neighbours; from the pictures when None.

    Raises
    ------
    RegionError
        If the mask leaves too little to track.
    """

    def __init__(self, luma: np.ndarray, mask: np.ndarray, mesh: Mesh, step: float, bend: float | None = None) -> None:
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
        self._lattices = [self.lattice, self.lattice.coarser, self.lattice.coarser.coarser]
        self.values = self.lattice.identity
        self._velocity = np.zeros_like(self.values)
        self._fixed_bend = bend
        self._bend = bend if bend is not None else _AT_FIRST  # of the surface
        self._unrest = _AT_FIRST  # of what is not foretold
        self._count = 0
        self._any_hidden = False
        self._own_motion: np.ndarray | None = None  # (rows, columns, 2) of the reference frame, pixels a frame: it may be blurred by it
        self._moved: np.ndarray | None = None  # of the last frame
        self._blur: np.ndarray | None = None  # of the frame at hand, in its own pixels
        self._blurred_tiles: dict[int, MeshTiles] = {}
        self._shutter = 0.0  # part of a frame for which the shutter is open, once it has been seen to blur
        self._shutter_measured = 0  # frames
        self._shutter_scores = dict.fromkeys(_SHUTTERS, 0.0)
        self._spread: np.ndarray | None = None
        self._bases: dict[tuple[int, float], tuple[np.ndarray, np.ndarray]] = {}
        self._told: np.ndarray | None = None
        self.direction = 1
        self.shapes = ShapeBasis(self.values)
        self._surprise = 1e3  # pixels, of the last frame
        self._usual_share = 1.0
        self._grain = float(np.quantile(fine.energy, 0.02))  # luma variance, of the reference at the finest level
        self._near = _nearness(self.vertices, fine, step)
        self._hidden_for = np.zeros(len(self.vertices))

    # -- public ---------------------------------------------------------------------------------------------------

    def feed(self, luma: np.ndarray, held: np.ndarray | None = None, pyramid: Pyramid | None = None) -> MeshFix:
        """The next frame's answer; `luma` as for the reference frame, `held` (h, w) uint8 is 255 on pixels that are held out."""
        if pyramid is None:
            pyramid = Pyramid(luma)
        pyramid.held = HeldOut(held) if held is not None else None
        foretold = self.values + self._velocity if self._told is None else self._told
        top = 1 if self._surprise < _SURE_START else 2 if self._surprise < _FAIR_START else self.reference.coarsest
        top = max(top, 2) if self._any_hidden else top
        self._set_blur(foretold - self.values)
        found, look = self._aligned(pyramid, foretold, min(top, self.reference.coarsest))
        if self._own_motion is None and self._share(look) > _LEAST_MATCHED:
            self._own_motion = found - self.values
            self._set_blur(self._own_motion)
            self._measure_shutter(pyramid, found)
            if self._blur is not None and self._shutter:
                found, look = self._aligned(pyramid, found, min(1, self.reference.coarsest))
        else:
            self._measure_shutter(pyramid, found)
        share = self._share(look)
        if share < 0.7 * self._usual_share and top < self.reference.coarsest:
            other, second = self._aligned(pyramid, self.values, self.reference.coarsest)
            if self._share(second) > share:
                found, look, share = other, second, self._share(second)
        if share < _LEAST_MATCHED or (share < _HALF and self._matched_likeness(look) < _SURELY_ALIKE):
            self._velocity = 0.5 * self._velocity
            self._surprise = 1e3
            return MeshFix(self.mesh, None, seen=share, reason=f"only {share:.0%} of the region is seen")
        self._learn(found, foretold, look)
        self._usual_share = 0.9 * self._usual_share + 0.1 * share
        self._velocity = self._foreseen(found - self.values, look)
        self.shapes.moved(found - self.values)
        self._moved = found - self.values
        self.values = found
        self._any_hidden = share < (1 - _SOME_HIDDEN) * self._usual_share or self._hidden_share(look) > _SOME_HIDDEN
        if share > _MOSTLY_SEEN:
            self.shapes.learn(self.direction * self._count, found)
        places = evaluate(self.lattice, found, self.vertices)[0]
        near = self._near @ (look.weight * np.sqrt(look.tiles.energy[look.chosen]))
        measured = near > 0.5 * self._near @ np.sqrt(look.tiles.energy[look.chosen])
        self._hidden_for = np.where(measured, 0, self._hidden_for + 1)
        return MeshFix(self.mesh, from_centred(places), self._errors(), measured, share)

    def start_at(self, places: np.ndarray) -> None:
        """Go on from a known place: where the vertices (V, 2) lie, in Wertis' pixels, on the frame before the next one fed."""
        self.values = bspline.fitted(self.lattice, self.vertices, to_centred(places))
        self._velocity = np.zeros_like(self.values)

    def expect(self, places: np.ndarray | None) -> None:
        """Where the vertices (V, 2) are expected on the next frame, in Wertis' pixels; None for where the frames before lead."""
        self._told = bspline.fitted(self.lattice, self.vertices, to_centred(places)) if places is not None else None

    # -- aligning -------------------------------------------------------------------------------------------------

    def _aligned(self, pyramid: Pyramid, foretold: np.ndarray, top: int) -> tuple[np.ndarray, _Look]:
        """The control values that fit a picture, from those foretold, and the finest level's tiles there."""
        values = foretold.copy()
        for level in range(top, -1, -1):
            if level == 0 and self._any_hidden and self._told is None:
                values, foretold = self._completed_by_shape(pyramid, values, foretold)
                moved = self._recaptured(pyramid, values)
                values, foretold = moved, foretold + (moved - values)
            if level == 0 and self._blur is not None and self._shutter:
                self._set_blur(values - self.values)
            for _ in range(_STEPS[level]):
                look = self._look(pyramid, level, values)
                if level > 2:
                    step = self._affine_step(look)
                else:
                    step = self._step(look, level, values, foretold)
                values = values + step
                if level and np.quantile(np.abs(step), 0.95) < _ARRIVED * 2 ** level:
                    break
        return values, look

    def _completed_by_shape(self, pyramid: Pyramid, values: np.ndarray, foretold: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Values, and those foretold, with what is hidden put where the seen parts say that it is."""
        hidden = self._hidden(self._look(pyramid, 0, values))
        told = self.values + self.shapes.complete(values - self.values, 1 - hidden)
        return values + hidden[..., None] * (told - values), foretold + hidden[..., None] * (told - foretold)

    def _recaptured(self, pyramid: Pyramid, values: np.ndarray) -> np.ndarray:
        """Values moved to where hidden parts are found that have come into sight again."""
        look = self._look(pyramid, 0, values)
        places = look.tiles.centre[look.chosen]
        amount = np.sqrt(np.maximum(look.tiles.energy[look.chosen] - 2 * self._grain, 0)) * (look.weight < 0.2) * (look.measured.held < 0.1)
        expected, slopes = evaluate(self.lattice, values, places, slopes=True)
        assert slopes is not None
        index, moves = recapture(self.reference.pyramid, pyramid, places, expected, slopes, amount)
        moved, before = values, self._share(look)
        for _ in range(2):  # once with all, then with those that the finest level bears out
            if not len(index):
                return values
            moved = self._drawn_to(pyramid, values, look, places[index], moves)
            after = self._look(pyramid, 0, moved)
            good = after.weight[index] > _BORNE_OUT
            if good.all():
                break
            index, moves = index[good], moves[good]
        return moved if self._share(after) > before + _WON and len(index) else values

    def _drawn_to(self, pyramid: Pyramid, values: np.ndarray, look: _Look, places: np.ndarray, moves: np.ndarray) -> np.ndarray:
        """Values drawn to moves (n, 2) at places (n, 2) of the reference, as far as what is seen lets them."""
        lattice = self._lattices[1]
        system = NormalEquations(lattice)
        system.add_places(look.tiles.centre[look.chosen], look.information, look.pull)
        system.add_places(places, np.tile([1.0, 0.0, 1.0], (len(places), 1)), moves)
        system.add_bending(2, 0.1)
        system.add_diagonal(np.full(lattice.shape, 1e-2))
        moved = values + bspline.refined(system.solve(), self.lattice.shape)
        for _ in range(2):
            moved = moved + self._step(self._look(pyramid, 1, moved), 1, moved, moved)
        return moved

    def _look(self, pyramid: Pyramid, level: int, values: np.ndarray) -> _Look:
        tiles = self.reference.tiles(level)
        chosen = tiles.usable
        _, turn = evaluate(self.lattice, values, tiles.centre[chosen], slopes=True)
        assert turn is not None
        along = None
        if self._blur is not None and self._own_motion is not None and self._shutter:
            tiles = self._tiles_with_blur(level, turn)
            along = self._shutter * (turn @ evaluate(self.lattice, self._own_motion, tiles.centre[chosen])[0][..., None])[..., 0]
        measured = mesh_pass(pyramid[level], tiles, chosen, self.lattice, values, pyramid.held[level] if pyramid.held is not None else None, along)
        area = turn[:, 0, 0] * turn[:, 1, 1] - turn[:, 0, 1] * turn[:, 1, 0]
        grain = self._grain
        gain = np.maximum(measured.gain, 0.05)
        usual = (grain + _FREE) * (1 + 1 / gain ** 2) + _MODEL * tiles.energy[chosen]
        ratio = measured.variance / gain ** 2 / usual
        amount = np.sqrt(tiles.energy[chosen])
        there = measured.whole & (measured.held < 0.1) & (area > _EDGE_ON * max(np.median(area), 1e-3)) & (measured.gain > 0.05)
        scale = max(_weighted_quantile(ratio[there], amount[there], _QUANTILE) * 1.3, 0.5) if there.any() else 1.0
        misfit = ratio / scale
        due = tiles.energy[chosen] / (tiles.energy[chosen] + 3 * usual)  # the likeness that noise alone leaves
        alike = measured.likeness > _LEAST_LIKENESS * due
        weight = there * alike / (1 + (misfit / _CUT) ** 2) ** 2
        slopes = tiles.structure[chosen][:, 0] + tiles.structure[chosen][:, 2]
        real = np.maximum(1 - _GRAIN_SLOPES.get(level, 0.0) * grain * tiles.count[chosen] / slopes, 0)
        per = weight * real / (usual * scale)
        # from the reference's pixels to the picture's: u = -J d, so that information becomes J^-T S J^-1 and a pull -J^-T b
        det = np.where(np.abs(area) > 1e-6, area, 1.0)
        a, b, c, d = turn[:, 1, 1] / det, -turn[:, 0, 1] / det, -turn[:, 1, 0] / det, turn[:, 0, 0] / det
        sxx, sxy, syy = tiles.structure[chosen].T
        both = per * real
        information = np.stack([both * (a * a * sxx + 2 * a * c * sxy + c * c * syy),
                                both * (a * b * sxx + (a * d + b * c) * sxy + c * d * syy),
                                both * (b * b * sxx + 2 * b * d * sxy + d * d * syy)], axis=1)
        px, py = measured.pull.T
        pull = np.stack([-per * (a * px + c * py), -per * (b * px + d * py)], axis=1)
        return _Look(tiles, chosen, weight, information, pull, measured)

    def _set_blur(self, moved: np.ndarray) -> None:
        """The frame at hand moves so (rows, columns, 2) against the one before; what that blurs is reckoned with if it is long enough to matter."""
        self._blurred_tiles = {}
        now = moved if self._moved is None or self._own_motion is None else 1.5 * moved - 0.5 * self._moved  # in the middle of its shutter
        own = self._own_motion if self._own_motion is not None else np.zeros_like(now)
        middle = slice(1, -1)
        difference_ = np.abs(now - own)[middle, middle]
        longest = float(np.quantile(np.maximum(np.linalg.norm(now[middle, middle], axis=2), np.linalg.norm(own[middle, middle], axis=2)), 0.5))
        self._blur = now if longest * _SHUTTER > _LEAST_BLUR and float(np.quantile(difference_, 0.5)) * _SHUTTER > 0.2 * _LEAST_BLUR else None

    def _tiles_with_blur(self, level: int, turn: np.ndarray) -> MeshTiles:
        """The reference's tiles blurred as the frame at hand is; made once for each level and frame."""
        if level not in self._blurred_tiles:
            tiles = self.reference.tiles(level)
            along = np.zeros((len(tiles), 2))
            moved = evaluate(self.lattice, self._blur, tiles.centre[tiles.usable])[0]  # type: ignore[arg-type]
            sound = np.abs(np.linalg.det(turn)) > 0.05
            back = np.linalg.inv(np.where(sound[:, None, None], turn, np.eye(2)))
            along[tiles.usable] = self._shutter * (back @ moved[..., None])[..., 0]
            self._blurred_tiles[level] = self.reference.blurred(level, along, TAPS)
        return self._blurred_tiles[level]

    def _measure_shutter(self, pyramid: Pyramid, values: np.ndarray) -> None:
        """For the first blurred frames: which shutter makes the reference look most like them."""
        done = self._shutter_measured >= (_SHUTTER_FRAMES if self._shutter else _SHUTTER_FRAMES // 3)
        if self._blur is None or self._own_motion is None or done or self.reference.coarsest < 1:
            return
        self._shutter_measured += 1
        for shutter in _SHUTTERS:
            self._shutter, self._blurred_tiles = shutter, {}
            look = self._look(pyramid, 1, values)
            rich = look.tiles.energy[look.chosen] > 8 * self._grain
            self._shutter_scores[shutter] += float(np.median(look.measured.likeness[rich])) if rich.any() else 0.0
        self._blurred_tiles = {}
        best = max(self._shutter_scores, key=lambda s: self._shutter_scores[s])
        gain = (self._shutter_scores[best] - self._shutter_scores[0.0]) / self._shutter_measured
        self._shutter = best if gain > _BLUR_GAIN else 0.0

    def _affine_step(self, look: _Look) -> np.ndarray:
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

    def _step(self, look: _Look, level: int, values: np.ndarray, foretold: np.ndarray) -> np.ndarray:
        """A step (rows, columns, 2) of the fine lattice's control values, bending as a level's own lattice can."""
        if level == 0:
            self._system = self._fine_system(look, values, foretold, self._bend)
            return self._system.solve()
        lattice = self._lattices[level]
        system = NormalEquations(lattice)
        system.add_places(look.tiles.centre[look.chosen], look.information, look.pull)
        for order in DIFFERENCES:
            system.add_bending(order, 1 / (self._unrest * 2 ** (order * level)) ** 2)
        system.add_diagonal(_TIE + self._hidden(look, lattice) * _TIE_HIDDEN)
        step = system.solve()
        for finer in reversed(self._lattices[:level]):
            step = bspline.refined(step, finer.shape)
        return step

    def _fine_system(self, look: _Look, values: np.ndarray, foretold: np.ndarray, bend: float, part: np.ndarray | None = None) -> NormalEquations:
        """The equations of a step at the finest level, of a `part` (n,) of the tiles.

        Where the surface is seen its third differences are expected to be small, so that a gentle wave goes on through a spot without texture. Where it is
        hidden its motion is expected to bend little beside what was foretold.
        """
        system = NormalEquations(self.lattice)
        which = slice(None) if part is None else part
        system.add_places(look.tiles.centre[look.chosen[which]], look.information[which], look.pull[which])
        hidden = self._hidden(look)[..., None]
        for order, kinds in DIFFERENCES.items():
            for kernel, count in kinds:
                away = difference(hidden, np.abs(kernel) / np.abs(kernel).sum())[..., 0]
                form = difference(values, kernel)
                if self._fixed_bend is None:
                    weight = count * _student(form, bend) * _ORDER[order] * (1 - 0.999 * away)
                else:
                    weight = np.full(form.shape[:2], count / bend ** 2)
                pull = -weight[..., None] * form
                if order == 2:
                    turn = difference(values - foretold, kernel)
                    calm = count * _student(turn, self._unrest) * np.maximum(away, _CALM)
                    weight, pull = weight + calm, pull - calm[..., None] * turn
                system.add_difference(kernel, weight)
                system.add_right(difference_transposed(pull, kernel))
        tie = _TIE + hidden[..., 0] * _TIE_HIDDEN
        system.add_diagonal(tie)
        system.add_right(-tie[..., None] * (values - foretold))
        return system

    def _hidden(self, look: _Look, lattice: Lattice | None = None) -> np.ndarray:
        """(rows, columns) how far each control point's texture is hidden, 0..1; 0 where there is none."""
        index, basis = self._tile_basis(look, lattice or self.lattice)
        shape = (lattice or self.lattice).shape
        amount = np.sqrt(np.maximum(look.tiles.energy[look.chosen] - 2 * self._grain, 0))
        total = np.bincount(index.ravel(), (basis * amount[:, None]).ravel(), shape[0] * shape[1])
        lost = np.bincount(index.ravel(), (basis * (amount * (1 - look.weight))[:, None]).ravel(), shape[0] * shape[1])
        least = _LITTLE_TEXTURE * float(np.median(total[total > 0])) + 1e-9 if (total > 0).any() else 1.0
        share = np.where(total > least, lost / np.maximum(total, least), 0)
        return np.clip((share.reshape(shape) - 0.3) / 0.4, 0, 1)

    def _tile_basis(self, look: _Look, lattice: Lattice) -> tuple[np.ndarray, np.ndarray]:
        """`Lattice.local_basis` of a level's usable tiles, which stay where they are."""
        key = look.tiles.level, lattice.step
        if key not in self._bases:
            self._bases[key] = lattice.local_basis(look.tiles.centre[look.chosen])
        return self._bases[key]

    def _tune(self, look: _Look, values: np.ndarray, foretold: np.ndarray) -> None:
        """Choose how far the surface is expected to bend by what foretells best the tiles that are left out (two-fold cross-validation)."""
        row = np.floor(look.tiles.centre[look.chosen] / (2 * look.tiles.side)).astype(int)
        side = (row.sum(1) % 2).astype(bool)
        loss = []
        options = [self._bend * k for k in (0.5, 1.0, 2.0)]
        for bend in options:
            total = 0.0
            for kept in (side, ~side):
                step = self._fine_system(look, values, foretold, bend, np.flatnonzero(kept)).solve()
                out = np.flatnonzero(~kept)
                moved, _ = evaluate(self.lattice, step, look.tiles.centre[look.chosen[out]])
                xx, xy, yy = look.information[out].T
                x, y = moved.T
                each = xx * x * x + 2 * xy * x * y + yy * y * y - 2 * (look.pull[out] * moved).sum(1)
                total += float(np.minimum(each, 50).sum())
            loss.append(total)
        best = int(np.argmin(loss))
        self._bend = float(np.clip(options[best], _LEAST_BEND, _MOST_BEND))

    # -- judging and remembering ----------------------------------------------------------------------------------

    def _share(self, look: _Look) -> float:
        energy = np.sqrt(self.reference.tiles(0).energy)
        return float((look.weight > 0.2) @ energy[look.chosen] / max(energy.sum(), 1e-9))

    def _matched_likeness(self, look: _Look) -> float:
        """Mean correlation of the tiles that match, 0..1: by chance some tiles of anything do, but not well."""
        good = look.weight > 0.2
        if not good.any():
            return 0.0
        return float(np.average(look.measured.likeness[good], weights=np.sqrt(look.tiles.energy[look.chosen][good]) + 1e-9))

    def _hidden_share(self, look: _Look) -> float:
        """Share 0..1 of the tiles with rich texture that do not match."""
        energy = look.tiles.energy[look.chosen]
        rich = energy > max(float(np.median(energy)), 8 * self._grain)
        return float(np.mean(look.weight[rich] < 0.1)) if rich.any() else 0.0

    def _learn(self, found: np.ndarray, foretold: np.ndarray, look: _Look) -> None:
        """How much the surface bends, and how far it is from what was foretold, where it is measured."""
        index, basis = self._tile_basis(look, self.lattice)
        held = np.bincount(index.ravel(), (basis * (look.weight > 0.2)[:, None]).ravel(), self.lattice.rows * self.lattice.columns)
        known = (held > 0.3).reshape(self.lattice.shape)

        def usual(values: np.ndarray, order: int, before: float) -> float:
            bends = []
            for kernel, _ in DIFFERENCES[order]:
                around = difference((~known[..., None]).astype(float), (kernel != 0).astype(float))[..., 0] == 0
                bends.append(np.abs(difference(values, kernel)[around]).ravel())
            all_bends = np.concatenate(bends)
            if len(all_bends) < 20:
                return before
            return float(np.clip(0.7 * before + 0.3 * 1.5 * np.quantile(all_bends, 0.6), _LEAST_BEND, _MOST_BEND))

        good = look.weight > 0.5
        if good.sum() > 20:
            energy, left = look.tiles.energy[look.chosen][good], look.measured.variance[good]
            flat = energy <= np.quantile(energy, 0.33)
            grain = float(np.quantile((left / (1 + look.measured.gain[good] ** 2))[flat], 0.3))
            self._grain = 0.8 * self._grain + 0.2 * min(grain, float(np.quantile(energy, 0.1)))
        self._unrest = max(usual(found - foretold, 2, self._unrest), 0.05)
        if self._fixed_bend is None and (self._count < _TUNED_FIRST or self._count % _TUNED_EVERY == 0):
            self._tune(look, found, foretold)
        self._count += 1
        if known.any():
            self._surprise = max(float(np.quantile(np.linalg.norm((found - foretold)[known], axis=1), 0.95)), 0.5 * min(self._surprise, 20.0))

    def _foreseen(self, moved: np.ndarray, look: _Look) -> np.ndarray:
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
        hidden = self._hidden(look)[..., None]
        return whole + ((1 - hidden) * _KEPT_VELOCITY + hidden * _KEPT_HIDDEN) * (moved - whole)

    def _errors(self) -> np.ndarray:
        """(V,) expected error in pixels: what grain and bending leave, and what may have changed since a vertex was last seen."""
        if self._count % _COVARIANCE_EVERY == 1 or self._spread is None:
            self._spread = np.sqrt(np.trace(self._system.covariance(self.vertices), axis1=1, axis2=2))
        spread = self._spread
        return np.asarray(np.sqrt(_LEAST_ERROR ** 2 + (_TOO_SURE * spread) ** 2 + (_STRAYS * self._hidden_for) ** 2))

def _student(differences: np.ndarray, usual: float) -> np.ndarray:
    """Weights (rows, columns) of second differences (rows, columns, 2) that are expected to be about `usual`, by Student's t (iterated)."""
    return (_NU + 2) / (_NU * usual ** 2 + (differences ** 2).sum(-1))


def _weighted_quantile(values: np.ndarray, weights: np.ndarray, share: float) -> float:
    order = np.argsort(values, kind="stable")
    total = np.cumsum(weights[order])
    return float(values[order][np.searchsorted(total, share * total[-1])])


def _nearness(vertices: np.ndarray, tiles: MeshTiles, step: float) -> np.ndarray:
    """(V, n) how much each usable tile says of each vertex."""
    far = np.linalg.norm(vertices[:, None] - tiles.centre[tiles.usable][None], axis=2)
    return np.exp(-0.5 * (far / (0.5 * step)) ** 2) + 1e-9 * np.exp(-far / step)
