"""The steps by which a bending surface is aligned: further ones by the matrix of the last full one, and the sums that are made in C for it."""

import unittest
from dataclasses import replace

import cv2
import numpy as np
import scipy

from tests.scenes import SIZE, texture
from wertis.core.geometry.bspline import Lattice, NormalEquations, evaluate
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.track.mesh import batch_equations
from wertis.core.track.mesh.alignment import MeshAlignment
from wertis.core.track.mesh.reference import MeshReference
from wertis.core.track.mesh.tile_pass import map_slopes

BOX = np.array([[30.0, 30], [SIZE[0] - 30, SIZE[1] - 30]])
AWAY = np.array([0.12, -0.09])  # pixels by which the surface moved


def moved_wall() -> tuple[np.ndarray, np.ndarray]:
    """A wall (h, w) and the same moved by AWAY, both with grain."""
    rng = np.random.default_rng(5)
    wall = cv2.cvtColor(texture("coffee", SIZE), cv2.COLOR_RGB2GRAY).astype(np.float32)
    other = cv2.warpAffine(wall, np.array([[1, 0, AWAY[0]], [0, 1, AWAY[1]]]), SIZE, flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT)
    first, second = (a + rng.normal(0, 1, a.shape).astype(np.float32) for a in (wall, other))
    return first, second


class FurtherStepTest(unittest.TestCase):
    def setUp(self) -> None:
        first, second = moved_wall()
        mask = np.zeros(first.shape, np.uint8)
        mask[30:-30, 30:-30] = 255
        self.lattice = Lattice.over(BOX, 40)
        self.alignment = MeshAlignment(MeshReference(Pyramid(first), mask), self.lattice, None)
        self.picture, self.identity = Pyramid(second), self.lattice.identity

    def test_it_comes_as_near_as_another_full_step(self) -> None:
        for level in (0, 1):
            look = self.alignment.linearise(self.picture, level, self.identity)
            values = self.identity + self.alignment.step(self.picture, look, level, self.identity, self.identity)
            again = self.alignment.linearise(self.picture, level, values)
            further = self.alignment.modified_newton_step(again, level, values)
            assert further is not None
            if not level:
                np.testing.assert_array_equal(self.alignment.fine.linearised_at, values)
                self.assertIs(self.alignment.fine.look, again)
            full = self.alignment.step(self.picture, again, level, values, self.identity)
            inside = self._inside(values), self._inside(values + further), self._inside(values + full)
            before, near, nearest = (float(np.sqrt(np.mean((a - AWAY) ** 2))) for a in inside)
            self.assertLess(nearest, before)
            self.assertLess(abs(near - nearest), 0.1 * (before - nearest) + 1e-3, (level, before, near, nearest))

    def test_where_tiles_say_much_that_said_little_it_is_none(self) -> None:
        far = self.identity + [9.0, 7.0]  # where next to nothing matches
        look = self.alignment.linearise(self.picture, 0, far)
        self.alignment.step(self.picture, look, 0, far, far)
        there = self.alignment.linearise(self.picture, 0, self.identity + AWAY)
        self.assertIsNone(self.alignment.modified_newton_step(there, 0, self.identity + AWAY))

    def test_a_tile_that_said_nothing_then_pulls_nothing(self) -> None:
        look = self.alignment.linearise(self.picture, 0, self.identity)
        silent = int(np.argmin(np.abs(look.information[:, 0] - np.median(look.information[:, 0]))))  # one among many
        quiet = look.information.copy()
        quiet[silent] = 0
        self.alignment.step(self.picture, replace(look, information=quiet), 0, self.identity, self.identity)
        pulls = []
        for pull in (0.0, 1e6):
            loud = look.pull.copy()
            loud[silent] = pull
            pulls.append(self.alignment.modified_newton_step(replace(look, pull=loud), 0, self.identity))
        assert pulls[0] is not None and pulls[1] is not None
        np.testing.assert_array_equal(pulls[0], pulls[1])

    def _inside(self, values: np.ndarray) -> np.ndarray:
        """(n, 2) how far a map moves the middles of the finest level's tiles."""
        places = self.alignment.reference.tiles(0).centre
        return evaluate(self.lattice, values, places)[0] - places


class CompiledSumsTest(unittest.TestCase):
    def test_products_are_the_same_without_the_compiled_loops(self) -> None:
        rng = np.random.default_rng(3)
        rows = scipy.sparse.random_array((60, 35), density=0.2, format="csr", rng=rng)
        for frames in (1, 5, 40):  # the last is parted between two threads
            values = rng.normal(0, 1, (35, frames, 2))
            for weights in (rng.normal(0, 1, (60, frames)), rng.normal(0, 1, (60, frames, 3))):
                term, out = batch_equations._Term(rows, weights), np.ones(values.shape)
                term.add_product(values, out)
                np.testing.assert_allclose(out - 1, term.plain_product(values), atol=1e-12)

    def test_slopes_of_a_map_and_how_far_it_foreshortens(self) -> None:
        rng = np.random.default_rng(4)
        lattice = Lattice.over(BOX, 40)
        values = lattice.identity * [0.6, 1.0] + rng.normal(0, 2, lattice.identity.shape)
        mask = np.full((SIZE[1], SIZE[0]), 255, np.uint8)
        tiles = MeshReference(Pyramid(moved_wall()[0]), mask).tiles(1)
        chosen = tiles.usable[::3].copy()
        slopes, least = map_slopes(tiles, chosen, lattice, values)
        np.testing.assert_allclose(slopes, evaluate(lattice, values, tiles.centre[chosen], slopes=True)[1], atol=1e-12)
        self.assertAlmostEqual(least, np.linalg.svd(slopes, compute_uv=False).min(), places=9)

    def test_a_matrix_times_values_and_its_factor_in_single_precision(self) -> None:
        rng = np.random.default_rng(6)
        for box in (((0, 0), (300, 160)), ((0, 0), (160, 300))):
            lattice = Lattice.over(np.array(box, float), 40)
            system = NormalEquations(lattice, 4)
            root = rng.normal(0, 1, (300, 2, 2))
            places = rng.uniform(0, 160, (300, 2))
            system.add_places(places, (root @ root.transpose(0, 2, 1))[:, [0, 0, 1], [0, 1, 1]], rng.normal(0, 1, (300, 2)))
            system.add_bending(4, 0.1)
            system.add_diagonal(np.full(lattice.shape, 0.1))
            found = system.solve()
            np.testing.assert_allclose(system.applied(found), system.right_values, atol=1e-9)
            system.factorise(np.float32)
            np.testing.assert_allclose(system.solved_for(system.right_values), found, atol=1e-3 * np.abs(found).max())
            many = np.stack([system.right_values, 2 * system.right_values], axis=2)
            np.testing.assert_allclose(system.solved_for_each(many)[:, :, 1], 2 * found, atol=2e-3 * np.abs(found).max())


if __name__ == "__main__":
    unittest.main()
