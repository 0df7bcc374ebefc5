"""Mesh tracking where little of the surface says where it is: bare ground under grain, parts that hide the rest, and frames that hide all of it."""

import unittest

import cv2
import numpy as np

from tests.scenes import SIZE, texture
from tests.test_mesh import MASK
from tests.waves import LAST, REFERENCE, WaveMotion, waved
from wertis.core.blas import single_threaded
from wertis.core.geometry.bspline import DIFFERENCES, Lattice, NormalEquations, difference, evaluate
from wertis.core.geometry.mesh import Mesh, laid
from wertis.core.imaging.resample import warped
from wertis.core.track.mesh.equations import extrapolation_prior
from wertis.core.track.mesh.redetection import from_matches
from wertis.core.track.mesh.settings import BENDING
from wertis.core.track.mesh.tracker import MeshTracker

FRAMES = range(REFERENCE, LAST + 1)


def wall_with_bare(part: np.ndarray) -> np.ndarray:
    """The made-up wall (h, w) on a scale of 0..255, with a `part` (h, w) bool of it as bare as a sky."""
    wall = cv2.cvtColor(texture(size=SIZE), cv2.COLOR_RGB2GRAY).astype(np.float32)
    sky = np.linspace(70, 110, SIZE[1], dtype=np.float32)[:, None] + np.zeros_like(wall)
    share = cv2.GaussianBlur(part.astype(np.float32), (0, 0), 2)
    return wall + share * (sky - wall)


def waving(wall: np.ndarray, grain: float, seed: int = 4) -> list[np.ndarray]:
    rng, motion = np.random.default_rng(seed), WaveMotion()
    out = []
    for frame in FRAMES:
        warp = motion.at(frame)
        assert warp is not None
        seen = warped(wall[..., None], warp, SIZE, cv2.INTER_CUBIC).reshape(wall.shape)
        out.append(np.clip(seen + rng.normal(0, grain, wall.shape), 0, 255).astype(np.uint8))
    return out


class BareGroundTest(unittest.TestCase):
    def away(self, part: np.ndarray, grain: float) -> tuple[np.ndarray, np.ndarray, MeshTracker]:
        """(frames, V) errors in pixels of the vertices, (V,) whether each lies in the bare part, and the tracker."""
        pictures = waving(wall_with_bare(part), grain)
        mesh = Mesh(laid(MASK, 22))
        tracker = MeshTracker(pictures[0], MASK, mesh, 18)
        found = []
        with single_threaded():
            for frame, picture in zip(FRAMES[1:], pictures[1:], strict=True):
                fix = tracker.feed(picture)
                assert fix.places is not None
                found.append(np.linalg.norm(fix.places - waved(mesh.vertices, frame), axis=1))
        x, y = mesh.vertices.astype(int).T
        return np.array(found), part[np.clip(y, 0, SIZE[1] - 1), np.clip(x, 0, SIZE[0] - 1)], tracker

    def test_grain_in_bare_ground_is_not_taken_for_bending(self) -> None:
        part = np.zeros((SIZE[1], SIZE[0]), bool)
        part[60:230, 100:380] = True
        part[:, 200:215] = part[:, 280:290] = False
        away, bare, tracker = self.away(part, 9.0)
        self.assertLess(np.sqrt((away[:, bare] ** 2).mean()), 3.0)
        self.assertLess(np.sqrt((away[:, ~bare] ** 2).mean()), 1.0)
        self.assertLess(tracker.alignment.bending_scale, 8)

    def test_a_bare_corner_stays_near_though_nothing_holds_it(self) -> None:
        part = np.zeros((SIZE[1], SIZE[0]), bool)
        part[:180, :230] = True
        away, bare, _ = self.away(part, 2.0)
        self.assertLess(away[:, bare].max(), 12)
        self.assertLess(np.median(away[:, ~bare]), 0.2)

    def test_what_is_not_measured_is_expected_to_bend_as_much_as_what_is(self) -> None:
        lattice = Lattice.over(np.array([[0.0, 0], [600, 400]]), 30)
        values = lattice.identity + np.random.default_rng(2).normal(0, 3, lattice.identity.shape)
        known = np.zeros(lattice.shape)
        known[:, :12] = 1
        weights = extrapolation_prior(values, np.zeros(lattice.shape), known)
        self.assertEqual([k.shape for k, _ in weights], [k.shape for k, _ in DIFFERENCES[2]])
        for (kernel, weight), (_, count) in zip(weights, DIFFERENCES[2], strict=True):
            measured = difference(values, kernel)[:, :12 - kernel.shape[1] + 1]
            np.testing.assert_array_equal(weight[:, :12 - kernel.shape[1] + 1], 0)
            # independent normal numbers: the variance is the sum of the kernel's squares times theirs, and is taken from what is measured
            self.assertAlmostEqual(float(measured.var()), float((kernel ** 2).sum()) * 9, delta=0.25 * float((kernel ** 2).sum()) * 9)
            np.testing.assert_allclose(weight[:, 12:], count * BENDING.extrapolation_weight / (0.5 * (measured ** 2).sum(-1).mean() + 1e-4), rtol=0.05)
        self.assertEqual(extrapolation_prior(values, np.zeros(lattice.shape), 0.1 * known), [], "hardly anything is measured")

    def test_differences_that_the_equations_have_no_room_for_are_refused(self) -> None:
        lattice = Lattice.over(np.array([[0.0, 0], [200, 200]]), 30)
        kernel, _ = DIFFERENCES[4][1]
        with self.assertRaisesRegex(ValueError, "order 4 in equations made for order 3"):
            NormalEquations(lattice, 3).add_difference(kernel, np.ones((lattice.rows - kernel.shape[0] + 1, lattice.columns - kernel.shape[1] + 1)))

    def test_a_difference_about_values_draws_their_sum_with_the_solution_to_nothing(self) -> None:
        lattice = Lattice.over(np.array([[0.0, 0], [200, 200]]), 30)
        bumpy = np.random.default_rng(1).normal(0, 3, (*lattice.shape, 2))
        system = NormalEquations(lattice)
        for kernel, _ in DIFFERENCES[2]:
            system.add_difference(kernel, np.ones((lattice.rows - kernel.shape[0] + 1, lattice.columns - kernel.shape[1] + 1)), bumpy)
        system.add_diagonal(np.full(lattice.shape, 1e-8))
        flat = bumpy + system.solve()
        for kernel, _ in DIFFERENCES[2]:
            np.testing.assert_allclose(difference(flat, kernel), 0, atol=1e-4)


class OccludedTest(unittest.TestCase):
    def setUp(self) -> None:
        self.wall = cv2.cvtColor(texture(size=SIZE), cv2.COLOR_RGB2GRAY)
        self.rng = np.random.default_rng(8)
        self.other = cv2.GaussianBlur(self.rng.integers(0, 255, self.wall.shape, np.uint8), (0, 0), 2)
        self.mesh = Mesh(laid(MASK, 24))

    def seen(self, matrix: np.ndarray, hidden: slice | None = None) -> np.ndarray:
        picture = cv2.warpAffine(self.wall, matrix, SIZE, flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT).astype(np.float32)
        if hidden is not None:
            picture[:, hidden] = self.other[:, hidden]
        return np.clip(picture + self.rng.normal(0, 2, picture.shape), 0, 255).astype(np.uint8)

    def test_a_surface_that_moved_while_all_of_it_was_hidden_is_found_again(self) -> None:
        turned = cv2.getRotationMatrix2D((240, 160), 12, 1.06) + np.array([[0, 0, 58], [0, 0, -31.0]])
        tracker = MeshTracker(self.seen(np.eye(2, 3)), MASK, self.mesh, 20)
        for _ in range(2):
            self.assertIsNotNone(tracker.feed(self.seen(np.eye(2, 3))).places)
        for _ in range(3):
            self.assertIsNone(tracker.feed(self.seen(turned, slice(None))).places)
        truth = self.mesh.vertices @ turned[:, :2].T + turned[:, 2] + turned[:, :2].sum(1) * -0.5 + 0.5
        for k in range(3):
            fix = tracker.feed(self.seen(turned))
            assert fix.places is not None
            sure = fix.measured
            self.assertGreater(sure.mean(), 0.8)
            away = np.linalg.norm(fix.places - truth, axis=1)
            self.assertLess(np.sqrt((away[sure] ** 2).mean()), 0.15, k)
            self.assertGreaterEqual((away <= 2 * fix.errors).mean(), 0.9, k)

    def test_matched_features_give_a_bent_map_whatever_matched_by_chance(self) -> None:
        lattice = Lattice.over(np.array([[100.0, 60], [500, 360]]), 30)
        places = self.rng.uniform([110, 70], [490, 350], (60, 2))
        turned = cv2.getRotationMatrix2D((300, 200), 20, 0.9)

        def truth(p: np.ndarray) -> np.ndarray:
            return p @ turned[:, :2].T + turned[:, 2] + 9 * np.stack([np.sin(p[:, 1] / 70), np.cos(p[:, 0] / 80)], axis=1)

        found_at = truth(places) + self.rng.normal(0, 0.7, places.shape)
        found_at[::3] = self.rng.uniform([0, 0], SIZE, found_at[::3].shape)
        values = from_matches(lattice, places, found_at)
        assert values is not None
        inner = self.rng.uniform([140, 100], [460, 320], (200, 2))
        self.assertLess(np.quantile(np.linalg.norm(evaluate(lattice, values, inner)[0] - truth(inner), axis=1), 0.9), 3.0)
        self.assertIsNone(from_matches(lattice, places, truth(places) * [-1, 1] + [600, 0]), "turned over")
        self.assertIsNone(from_matches(lattice, places[:5], truth(places[:5])), "too few")
        self.assertIsNone(from_matches(lattice, places, self.rng.uniform([0, 0], SIZE, places.shape)), "by chance")

    def test_what_hides_most_of_a_fast_surface_is_not_taken_for_blur(self) -> None:
        def at(k: int) -> np.ndarray:
            return np.array([[1, 0, 2.0 * k if k < 4 else 9.0 * k - 28], [0, 1, 0]])

        tracker = MeshTracker(self.seen(at(0)), MASK, self.mesh, 20)
        for k in range(1, 10):
            fix = tracker.feed(self.seen(at(k), slice(100 + 6 * k, 270 + 8 * k) if k > 3 else None))
            assert fix.places is not None
            self.assertEqual(tracker.blur.shutter, 0, k)
            away = np.linalg.norm(fix.places - self.mesh.vertices - at(k)[:, 2], axis=1)
            self.assertLess(np.sqrt((away[fix.measured] ** 2).mean()), 0.15, k)


if __name__ == "__main__":
    unittest.main()
