"""Aligning a bending surface with a picture at one resolution: the equations about a map, and the step that they give.

Known ground: D. Rueckert et al., Nonrigid registration using free-form deformations, 1999; F. Bookstein, Principal warps, 1989; A. Bartoli, Maximizing
the predictivity of smooth deformable image warps through cross-validation, J. Math. Imaging and Vision 31, 2008.
"""

from dataclasses import dataclass, replace

import numpy as np
import scipy

from wertis.core.geometry import bspline
from wertis.core.geometry.bspline import DIFFERENCES, Lattice, NormalEquations, difference, evaluate
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.track.mesh.blur import SurfaceBlur
from wertis.core.track.mesh.equations import Linearisation, SurfacePrior, extrapolation_prior, photometric_equations
from wertis.core.track.mesh.reference import MeshReference, MeshTiles
from wertis.core.track.mesh.settings import BENDING, BLUR, OCCLUSION, PHOTOMETRY, PREDICTION
from wertis.core.track.mesh.templates import TileTemplates
from wertis.core.track.mesh.tile_pass import map_slopes, mesh_pass


@dataclass(frozen=True)
class CoarserEquations:
    """What a coarser level says of the places (m, 2) of a `part` (m,) of its usable tiles: information (m, 3) and pull (m, 2)."""

    level: int
    part: np.ndarray
    places: np.ndarray
    information: np.ndarray
    pull: np.ndarray


@dataclass(frozen=True)
class FineEquations:
    """The equations of a step at the finest level.

    Attributes
    ----------
    linearised_at : (rows, columns, 2) the control values.
    look, coarser : what the pixels of the finest level say, and those of the coarser ones.
    orders, scale : of the surface's bending, as `SurfacePrior` has them.
    prior : the part of them that is what is expected of the surface, without what the pixels say.
    system : all of it together, about the control values of the first step; factorised.
    """

    linearised_at: np.ndarray
    look: Linearisation
    coarser: list[CoarserEquations]
    orders: dict[int, float]
    scale: float
    prior: NormalEquations
    system: NormalEquations


class MeshAlignment:
    """Aligns pictures with a reference frame's surface.

    Parameters
    ----------
    lattice : of the control points, at the finest level.
    bend : pixels by which a control point is expected to lie off the line between its neighbours; from the pictures when None.

    Attributes
    ----------
    templates, blur : what the surface looks like, and how it is blurred by its motion.
    grain : luma variance, of the reference at the finest level.
    bending_scale : pixels, of the surface's differences that are usual.
    innovation_scale : pixels, of the second differences of the change against the prediction.
    visible_share : of the surface's texture, that was seen on the last frame.
    any_occluded : whether something hid the surface on the last frame.
    fine : the equations of the last step at the finest level.
    """

    def __init__(self, reference: MeshReference, lattice: Lattice, bend: float | None) -> None:
        self.reference, self.templates = reference, TileTemplates(reference)
        self.lattice = lattice
        self._lattices = [lattice, lattice.coarser, lattice.coarser.coarser]
        self.blur = SurfaceBlur(lattice, self.templates)
        self.grain = float(np.quantile(reference.tiles(0).energy, 0.02))
        self.fixed_bending_scale = bend
        self.bending_scale = bend if bend is not None else BENDING.first_scale
        self.innovation_scale = BENDING.first_scale
        self.visible_share = 1.0
        self.any_occluded = False
        self.fine: FineEquations
        self._bases: dict[tuple[int, float], scipy.sparse.csr_array] = {}
        self._coarse_system: NormalEquations  # of the last full step at a coarser level
        self._last_information: np.ndarray  # (n,) per square pixel, what each tile said on the last full step

    def linearise(self, pyramid: Pyramid, level: int, values: np.ndarray, part: np.ndarray | None = None) -> Linearisation:
        """The equations of a level's usable tiles, or of a `part` (n,) of them, about control values."""
        tiles = self.templates.tiles(level)
        chosen = tiles.usable if part is None else tiles.usable[part]
        jacobian, least = map_slopes(tiles, chosen, self.lattice, values)
        along, left = None, None
        if self.blur.modelled or least < BLUR.foreshortened:
            tiles, along, left = self.blur.applied(tiles, chosen, jacobian, part is not None)
        measured = mesh_pass(pyramid[level], tiles, chosen, self.lattice, values, pyramid.held[level] if pyramid.held is not None else None, along)
        return photometric_equations(tiles, chosen, measured, jacobian, self.grain, left, bool(self.templates.changed),
                                     self.visible_share)

    def affine_step(self, look: Linearisation) -> np.ndarray:
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
        return (rows(self.lattice.identity.reshape(-1, 2)) @ found.reshape(2, 3).T).reshape(*self.lattice.shape, 2)

    def coarser_equations(self, pyramid: Pyramid, look: Linearisation, values: np.ndarray) -> list[CoarserEquations]:
        """What coarser levels say, as far as the finer ones leave it unknown.

        Where there is no fine detail the slopes of the finest level are mostly grain's, and its tiles are too small for what is left, a slow change of
        luma, to be told from a change of light.
        """
        total = self._information(look)
        found = []
        for level in range(1, min(PHOTOMETRY.coarser, self.reference.coarsest) + 1):
            basis = self.tile_basis(self.reference.tiles(level), self.lattice)
            unknown = basis.T @ (PHOTOMETRY.measured_information / (total + PHOTOMETRY.measured_information))
            part = np.flatnonzero(unknown > PHOTOMETRY.little_unknown)
            if len(part) < PHOTOMETRY.least_coarser:
                break
            coarse, share = self.linearise(pyramid, level, values, part), unknown[part]
            found.append(CoarserEquations(level, part, coarse.tiles.centre[coarse.chosen], coarse.information * share[:, None],
                                          coarse.pull * share[:, None]))
            total = total + basis @ _scattered(basis.shape[1], part, (coarse.information[:, 0] + coarse.information[:, 2]) * share)
        return found

    def step(self, pyramid: Pyramid, look: Linearisation, level: int, values: np.ndarray, predicted: np.ndarray) -> np.ndarray:
        """A step (rows, columns, 2) of the fine lattice's control values, bending as a level's own lattice can."""
        lattice = self._lattices[level]
        self._last_information = look.information[:, 0] + look.information[:, 2]
        if level == 0:
            coarser = self.coarser_equations(pyramid, look, values)
            prior = self._prior_equations(look, values, predicted)
            system = prior.copy()
            system.add_places(look.tiles.centre[look.chosen], look.information, look.pull)
            for each in coarser:
                system.add_places(each.places, each.information, each.pull)
            found = system.solve()
            self.fine = FineEquations(values, look, coarser, self._orders, self.bending_scale, prior, system)
            return found
        system = NormalEquations(lattice)
        system.add_places(look.tiles.centre[look.chosen], look.information, look.pull)
        for order in BENDING.of_innovation:
            system.add_bending(order, 1 / (self.innovation_scale * 2 ** (order * level)) ** 2)
        system.add_diagonal(PREDICTION.damping + self.occlusion(look, lattice) * PREDICTION.damping_occluded)
        self._coarse_system = system
        return self._refined(system.solve(), level)

    def _refined(self, step: np.ndarray, level: int) -> np.ndarray:
        """A step of a level's lattice as one of the fine lattice (rows, columns, 2)."""
        for finer in reversed(self._lattices[:level]):
            step = bspline.refined(step, finer.shape)
        return step

    def modified_newton_step(self, look: Linearisation, level: int, values: np.ndarray) -> np.ndarray | None:
        """One more step at the level of the last one, from where that led, with its matrix; None where tiles that said little then say much now.

        The modified Newton method: C. T. Kelley, Iterative methods for optimization, 1999, section 2.3: it converges while the true matrix is less than
        twice the one that is kept, so that each tile pulls by hardly more than it said then. What coarser levels say, and the weights of what is expected
        of the surface, stay those of the last full step.

        Parameters
        ----------
        look : the level linearised about control values (rows, columns, 2).
        """
        lattice = self._lattices[level]
        information = look.information[:, 0] + look.information[:, 2]
        most = PHOTOMETRY.most_information_growth * self._last_information
        if (information - most).clip(0).sum() > PHOTOMETRY.most_information_left_out * information.sum():
            return None
        pull = look.pull * np.minimum(most / np.maximum(information, 1e-12), 1)[:, None]
        if level:
            pulled = self.tile_basis(look.tiles, lattice) @ pull
            return self._refined(self._coarse_system.solved_for(np.asarray(pulled).reshape(*lattice.shape, 2)), level)
        fine = self.fine
        moved = values - fine.linearised_at
        pulled, coarser = self.tile_basis(look.tiles, lattice) @ pull, []
        for each in fine.coarser:
            basis = self.tile_basis(self.reference.tiles(each.level), lattice)
            x, y = (basis.T @ moved.reshape(-1, 2))[each.part].T
            xx, xy, yy = each.information.T
            pull = each.pull - np.column_stack([xx * x + xy * y, xy * x + yy * y])
            pulled = pulled + basis @ _scattered(basis.shape[1], each.part, pull)
            coarser.append(replace(each, pull=pull))
        self.fine = replace(fine, linearised_at=values, look=look, coarser=coarser)
        right = fine.prior.right_values - fine.prior.applied(moved) + np.asarray(pulled).reshape(moved.shape)
        return fine.system.solved_for(right)

    def _prior_equations(self, look: Linearisation, values: np.ndarray, predicted: np.ndarray) -> NormalEquations:
        """What is expected of the surface at the finest level.

        Where the surface is seen its fourth differences are expected to be small (its third beside an occluder), so that a gentle wave goes on through
        a spot without texture.
        """
        hidden, known = self.occlusion(look), self.known(look)
        system = self._without_bending(values, predicted, hidden, known)
        self._bending(self.bending_scale).add(system, values, predicted, hidden, known)
        return system

    def _without_bending(self, values: np.ndarray, predicted: np.ndarray, hidden: np.ndarray, known: np.ndarray) -> NormalEquations:
        """All that is expected of the surface but how far it bends."""
        system = NormalEquations(self.lattice, max(self._orders))
        for kernel, weight in extrapolation_prior(values, hidden, known):
            system.add_difference(kernel, weight, values)
        damping = PREDICTION.damping + hidden * PREDICTION.damping_occluded
        system.add_diagonal(damping)
        system.add_right(-damping[..., None] * (values - predicted))
        return system

    def _bending(self, scale: float) -> SurfacePrior:
        return SurfacePrior(self._orders, scale, self.fixed_bending_scale is not None, self.innovation_scale)

    @property
    def _orders(self) -> dict[int, float]:
        return BENDING.weights_occluded if self.any_occluded else BENDING.weights

    def known(self, look: Linearisation) -> np.ndarray:
        """(rows, columns) 0..1 how far each control point's place is measured rather than guessed."""
        total = self._information(look)
        return np.asarray((total / (total + PHOTOMETRY.measured_information)).reshape(self.lattice.shape))

    def _information(self, look: Linearisation) -> np.ndarray:
        """(control points,) per square pixel, how much is known of each control point's place."""
        return np.asarray(self.tile_basis(look.tiles, self.lattice) @ (look.information[:, 0] + look.information[:, 2]))

    def occlusion(self, look: Linearisation, lattice: Lattice | None = None) -> np.ndarray:
        """(rows, columns) how far each control point's texture is hidden, 0..1; 0 where there is none."""
        shape = (lattice or self.lattice).shape
        amount = np.sqrt(np.maximum(look.tiles.energy[look.chosen] - (1 + look.tiles.grain_share[look.chosen]) * self.grain, 0))
        total, lost = (self.tile_basis(look.tiles, lattice or self.lattice) @ np.column_stack([amount, amount * (1 - look.weight)])).T
        least = OCCLUSION.little_texture * float(np.median(total[total > 0])) + 1e-9 if (total > 0).any() else 1.0
        share = np.where(total > least, lost / np.maximum(total, least), 0)
        return np.clip((share.reshape(shape) - 0.3) / 0.4, 0, 1)

    def tile_basis(self, tiles: MeshTiles, lattice: Lattice) -> "scipy.sparse.csr_array":
        """(control points, n) how far each of a level's usable tiles, which stay where they are, reaches to each control point: `Lattice.local_basis`."""
        key = tiles.level, lattice.step
        if key not in self._bases:
            index, weights = lattice.local_basis(tiles.centre[tiles.usable])
            tile = np.repeat(np.arange(len(index)), index.shape[1])
            self._bases[key] = scipy.sparse.csr_array((weights.ravel(), (index.ravel(), tile)), shape=(lattice.rows * lattice.columns, len(index)))
        return self._bases[key]

    def _cross_validate(self, look: Linearisation, values: np.ndarray, predicted: np.ndarray) -> None:
        """Choose how far the surface is expected to bend by what predicts best the tiles that are left out (two-fold cross-validation).

        Coarser levels show the grain of the tiles that are left out as well, and would foretell it.
        """
        places = look.tiles.centre[look.chosen]
        side = np.floor(places / (2 * look.tiles.side)).astype(int).sum(1) % 2 > 0
        hidden, known = self.occlusion(look), self.known(look)
        options = [self.bending_scale * k for k in (0.5, 1.0, 2.0)]
        loss = np.zeros(len(options))
        expected = self._without_bending(values, predicted, hidden, known)
        for kept in (side, ~side):
            apart, some = expected.copy(), np.flatnonzero(kept)
            apart.add_places(places[some], look.information[some], look.pull[some])
            out = np.flatnonzero(~kept)
            xx, xy, yy = look.information[out].T
            for k, bend in enumerate(options):
                system = apart.copy()
                self._bending(bend).add(system, values, predicted, hidden, known)
                moved, _ = evaluate(self.lattice, system.solve(), places[out])
                x, y = moved.T
                each = xx * x * x + 2 * xy * x * y + yy * y * y - 2 * (look.pull[out] * moved).sum(1)
                loss[k] += float(np.minimum(each, 50).sum())
        best = int(np.argmin(loss))
        self.bending_scale = float(np.clip(options[best], BENDING.least_scale, BENDING.most_scale))

    def matched_share(self, look: Linearisation) -> float:
        energy = np.sqrt(self.templates.tiles(0).energy)
        return float((look.weight > 0.2) @ energy[look.chosen] / max(energy.sum(), 1e-9))

    def matched_likeness(self, look: Linearisation) -> tuple[float, float]:
        """Mean correlation of the tiles that match, 0..1, and as part of what noise lets it be: by chance some tiles of anything match, but not well."""
        good = look.weight > 0.2
        if not good.any():
            return 0.0, 0.0
        weights = np.sqrt(look.tiles.energy[look.chosen][good]) + 1e-9
        return (float(np.average(look.measured.likeness[good], weights=weights)),
                float(np.average(np.minimum(look.relative_correlation[good], 1), weights=weights)))

    def occluded_share(self, look: Linearisation) -> float:
        """Share 0..1 of the tiles with rich texture that do not match."""
        energy = look.tiles.energy[look.chosen]
        rich = energy > max(float(np.median(energy)), 8 * self.grain)
        return float(np.mean(look.weight[rich] < 0.1)) if rich.any() else 0.0

    def update_scales(self, found: np.ndarray, predicted: np.ndarray, look: Linearisation, validated: bool) -> np.ndarray:
        """Take in how much grain there is, how far the surface is from what was predicted and, if it is to be `validated`, how much it bends.

        Gives (rows, columns) bool, where the control points are measured.
        """
        held = self.tile_basis(look.tiles, self.lattice) @ (look.weight > 0.2).astype(np.float64)
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
            left_in_reference = 1.0 if look.grain_left is None else look.grain_left.reference[good]
            grain = float(np.quantile((left / (look.grain_variance_left[good] * look.measured.gain[good] ** 2))[flat], 0.3))
            self.grain = 0.8 * self.grain + 0.2 * min(grain, float(np.quantile(energy / left_in_reference, 0.1)))
        self.innovation_scale = max(usual(found - predicted, 2, self.innovation_scale), 0.05)
        if self.fixed_bending_scale is None and validated:
            self._cross_validate(look, found, predicted)
        return known


def _scattered(count: int, part: np.ndarray, values: np.ndarray) -> np.ndarray:
    """(count, ...) values (m, ...) of a part (m,) of so many; 0 for the others."""
    out = np.zeros((count, *values.shape[1:]))
    out[part] = values
    return out
