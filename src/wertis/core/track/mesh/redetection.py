"""Parts of a bending surface that come into sight again: where they are found.

What comes into sight beside a part that is seen goes on from it, wherever it was expected while it was hidden; so it is looked for from the seen part
extrapolated, and by patches round it. A surface that was lost is looked for by features of the whole picture. Known ground: J. Pilet, V. Lepetit and
P. Fua, Fast non-rigid surface detection, registration and realistic augmentation, IJCV 76, 2008.
"""

from collections.abc import Callable
from functools import cached_property

import cv2
import numpy as np

from wertis.core.geometry import bspline
from wertis.core.geometry.bspline import DIFFERENCES, Lattice, NormalEquations, difference, evaluate
from wertis.core.imaging.patch_alignment import PatchAlignment, View, grid_on, nearest
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.track.mesh.alignment import MeshAlignment
from wertis.core.track.mesh.equations import Linearisation
from wertis.core.track.mesh.settings import OCCLUSION, REACQUISITION
from wertis.core.track.redetection import LEAST_FEATURES


class Redetection:
    """Finds hidden parts of a surface again."""

    def __init__(self, alignment: MeshAlignment) -> None:
        self._alignment, self._lattice = alignment, alignment.lattice

    def found(self, pyramid: Pyramid, values: np.ndarray, look: Linearisation) -> np.ndarray:
        """Values moved to where hidden parts are found that have come into sight again; `look` is the finest level's. The same where nothing is.

        What comes into sight beside a part that is seen goes on from it, wherever it was expected while it was hidden; so each turn also starts from the
        seen part extrapolated, where that matches better.
        """
        for _ in range(OCCLUSION.turns):
            # what has little texture shows by its misfit neither that it is hidden nor that it is back
            rich = look.tiles.energy[look.chosen] > OCCLUSION.rich * self._alignment.grain
            # ... and what is nearly as alike as noise lets it be misfits by less than a search would find
            other = look.measured.likeness < OCCLUSION.nearly_alike
            lost = look.tiles.centre[look.chosen][rich & other & (look.weight < 0.2) & (look.measured.held < 0.1)]
            if len(lost) < OCCLUSION.least_lost:
                break
            share, before = self._alignment.matched_share(look), values
            extrapolated = self._extrapolated(look, values)
            there = self._alignment.linearise(pyramid, 0, extrapolated)
            if self._alignment.matched_share(there) > share + OCCLUSION.least_gain:
                values, look = extrapolated, there
            moved = self._moved_to_patches(pyramid, values, look, lost)
            after = self._alignment.linearise(pyramid, 0, moved) if moved is not values else look
            if self._alignment.matched_share(after) > self._alignment.matched_share(look) + OCCLUSION.least_gain:
                values, look = moved, after
            if values is before or self._alignment.matched_share(look) < share + OCCLUSION.worth_another:
                break
        return values

    def _extrapolated(self, look: Linearisation, values: np.ndarray) -> np.ndarray:
        """Values with what is not measured where the measured parts lead when they go on straight."""
        # where most tiles are lost the few others match by chance
        visible = 1 - self._alignment.occlusion(look)
        system, unknown = NormalEquations(self._lattice), 1 - visible * self._alignment.known(look)
        by_tile = self._alignment.tile_basis(look.tiles, self._lattice).T @ visible.ravel()
        system.add_places(look.tiles.centre[look.chosen], look.information * by_tile[:, None] ** 2, np.zeros_like(look.pull))
        for kernel, count in DIFFERENCES[2]:
            weight = count * difference(unknown[..., None], np.abs(kernel) / np.abs(kernel).sum())[..., 0]
            system.add_difference(kernel, weight, values)
        system.add_diagonal(1e-4 + (1 - unknown))
        return values + system.solve()

    def _moved_to_patches(self, pyramid: Pyramid, values: np.ndarray, look: Linearisation, lost: np.ndarray) -> np.ndarray:
        """Values drawn to where patches round lost places (n, 2) are found; the same where none is."""
        patches = self._patches
        near = nearest(patches.centres, lost, 1)[0][:, 0]
        view = View(pyramid, pyramid.held, lambda p: evaluate(self._lattice, values, p)[0], self._slopes_of(values), (0, 0), pyramid.size)
        found = patches.align(view, np.flatnonzero(near < OCCLUSION.surroundings * patches.side))
        displaced = (np.linalg.norm(found.moves, axis=1) > OCCLUSION.least_displacement) & (near[found.patches] < patches.side)
        places, moves = patches.centres[found.patches][displaced], found.moves[displaced]
        if not len(places):
            return values
        moves = evaluate(self._lattice, values, places + moves)[0] - evaluate(self._lattice, values, places)[0]
        return self._fitted_to_matches(pyramid, values, look, places, moves)

    def _slopes_of(self, values: np.ndarray) -> Callable[[np.ndarray], np.ndarray]:
        """The Jacobian (n, 2, 2) at points (n, 2) of the map with these control values."""
        def slopes(points: np.ndarray) -> np.ndarray:
            found = evaluate(self._lattice, values, points, slopes=True)[1]
            assert found is not None
            return found
        return slopes

    @cached_property
    def _patches(self) -> PatchAlignment:
        """What parts that come into sight again are found by; made when something is hidden for the first time."""
        side = int(np.clip(OCCLUSION.patch_side * self._lattice.step, *OCCLUSION.patch_sides)) // 2 * 2 + 1
        pyramid, mask = self._alignment.reference.pyramid, self._alignment.reference.mask
        return PatchAlignment(pyramid, mask, side, grid_on(mask, OCCLUSION.patch_overlap * side), max(self._lattice.step, 2.0 * side))

    def _fitted_to_matches(self, pyramid: Pyramid, values: np.ndarray, look: Linearisation, places: np.ndarray, moves: np.ndarray) -> np.ndarray:
        """Values drawn to moves (n, 2) at places (n, 2) of the reference, as far as what is seen lets them."""
        lattice = self._lattice.coarser
        system = NormalEquations(lattice)
        system.add_places(look.tiles.centre[look.chosen], look.information, look.pull)
        system.add_places(places, np.tile([1.0, 0.0, 1.0], (len(places), 1)), moves)
        system.add_bending(2, 0.1)
        system.add_diagonal(np.full(lattice.shape, 1e-2))
        moved = values + bspline.refined(system.solve(), self._lattice.shape)
        for _ in range(2):
            moved = moved + self._alignment.step(pyramid, self._alignment.linearise(pyramid, 1, moved), 1, moved, moved)
        return moved


def from_matches(lattice: Lattice, places: np.ndarray, found_at: np.ndarray) -> np.ndarray | None:
    """Control values (rows, columns, 2) of a smooth map that takes places (n, 2) near to where their features were found (n, 2).

    An affine map by RANSAC sorts out most of the matches by chance (M. Fischler and R. Bolles, 1981), robust reweighting of what bends beside it the
    rest. None where too few agree or the surface would be turned over.
    """
    size = float(np.ptp(lattice.box, axis=0).max())
    affine, agree = cv2.estimateAffine2D(places, found_at, ransacReprojThreshold=REACQUISITION.off_affine * size, maxIters=5000, confidence=0.999)
    if affine is None or agree.sum() < LEAST_FEATURES or np.linalg.det(affine[:, :2]) <= 0:
        return None
    agreeing = agree.ravel() > 0
    places = places[agreeing]
    beside = found_at[agreeing] - places @ affine[:, :2].T - affine[:, 2]
    weight = np.ones(len(places))
    for _ in range(REACQUISITION.rounds):
        system, information = NormalEquations(lattice), weight / REACQUISITION.noise ** 2
        system.add_places(places, np.stack([information, 0 * information, information], axis=1), information[:, None] * beside)
        system.add_bending(2, 1 / (REACQUISITION.bending * lattice.step) ** 2)
        system.add_diagonal(np.full(lattice.shape, 1 / (REACQUISITION.off_affine * size) ** 2))
        bent = system.solve()
        left = np.linalg.norm(evaluate(lattice, bent, places)[0] - beside, axis=1)
        weight = 1 / (1 + (left / (2 * REACQUISITION.noise)) ** 2) ** 2
    return np.asarray(lattice.identity @ affine[:, :2].T + affine[:, 2] + bent)
