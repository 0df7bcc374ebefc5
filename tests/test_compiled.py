"""The loops in C do what their twins in NumPy say."""

import shutil
import unittest
from unittest import mock

import cv2
import numpy as np
from scipy import ndimage
from skimage.draw import polygon2mask

from tests.scenes import SIZE, PlaneShot
from wertis.core import compiled
from wertis.core.compiled import address
from wertis.core.geometry import coons, polygon
from wertis.core.imaging import patch_alignment
from wertis.core.imaging.patch_alignment import PatchAlignment, View, grid_on
from wertis.core.imaging.pyramid import HeldOut, Pyramid
from wertis.core.matte.background import Samples
from wertis.core.matte.coverage import mean_area, soft_area
from wertis.core.paint import fill
from wertis.core.plate.base import grey_of, luma
from wertis.core.track import blurred_tiles, normal_equations, sampling
from wertis.core.track.normal_equations import Matter
from wertis.core.track.planar import PlanarTracker
from wertis.core.track.reference import Reference

MATRIX = np.array([[1.01, 0.02, 3.3], [-0.01, 0.99, -2.1], [1e-5, -2e-5, 1.0]])


class CompiledLoops(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        shot = PlaneShot(n=3)
        cls.frames, cls.region = [luma(f) for f in shot.frames], shot.corners[0]
        cls.reference = Reference(Pyramid(cls.frames[0]), polygon.fill(cls.region, SIZE))
        cls.picture = Pyramid(cls.frames[1])

    def setUp(self) -> None:
        self.rng = np.random.default_rng(4)
        if compiled.LIBRARY is None:
            self.skipTest("the loops in C were not compiled here")

    def assertNear(self, found: np.ndarray, meant: np.ndarray, part: float, what: str = "") -> None:
        self.assertLess(float(np.abs(np.asarray(found, float) - meant).max()), part * float(np.abs(meant).max()) + 1e-9, what)

    def test_a_picture_is_read_as_scipy_reads_it(self) -> None:
        """scipy.ndimage.map_coordinates, order 1, mode 'nearest', is the reference; half of the places lie outside."""
        picture = self.picture[0]
        x, y = (self.rng.uniform(-60, 1.2 * size, (7, 64)).astype(np.float32) for size in SIZE)
        taps = self.rng.normal(0, 3, (5, 7, 2)).astype(np.float32)
        total = np.zeros(x.shape)
        for offset in taps:
            places = np.stack([x - offset[:, :1], y - offset[:, 1:], np.ones_like(x)]).astype(float)
            moved = np.tensordot(MATRIX, places, 1)
            total += ndimage.map_coordinates(picture, [moved[1] / moved[2], moved[0] / moved[2]], order=1, mode="nearest") / len(taps)
        self.assertNear(sampling.read_tiles(picture, MATRIX, x, y, 1.0, taps), total, 1e-4)
        # OpenCV rounds places to a thirty-second of a pixel
        self.assertNear(sampling.plainly_read(picture, MATRIX, x, y, 1.0, taps), total, 0.02)

    def test_patches_differ_by_as_much_as_numpy_says(self) -> None:
        picture = self.rng.uniform(0, 1, (60, 50, 3)).astype(np.float32)
        places, targets = (self.rng.integers(0, [54, 44], (300, 2)) for _ in range(2))
        trust, which = self.rng.uniform(0, 1, (40, 49)).astype(np.float32), self.rng.integers(0, 40, 300)
        self.assertNear(*(run(picture, places, targets, trust, which) for run in (fill.patch_costs, fill.plain_patch_costs)), 1e-5)

    def test_bent_squares_are_straightened_as_numpy_does_it(self) -> None:
        for size in (0.0, 0.05, 0.25):  # the last folds in places
            offsets, points = size * self.rng.normal(0, 1, (8, 2)), self.rng.uniform(-1, 2, (40, 25, 2))
            found = coons.straight(points, offsets)
            with mock.patch.object(compiled, "LIBRARY", None):
                meant = coons.straight(points, offsets)
            inside = ((meant > -0.2) & (meant < 1.2)).all(-1) if size < 0.1 else np.zeros(points.shape[:2], bool)
            self.assertEqual(found.shape, points.shape)
            np.testing.assert_allclose(found, meant, atol=1e-6 if size < 0.1 else np.inf)
            np.testing.assert_allclose(coons.bent(found, offsets)[inside], points[inside], atol=1e-6)

    def test_channels_are_mixed_as_numpy_mixes_them(self) -> None:
        colour = self.rng.integers(0, 256, (31, 17, 3), dtype=np.uint8)
        colour[0, :4] = [[255, 255, 255], [0, 0, 0], [0, 0, 255], [255, 0, 0]]
        for parts in ([0.2, 0.5, 0.3], [1.0, 0, 0], [0.654, 0.346, 0.0], [0, 1 / 3, 2 / 3]):
            mixed = grey_of(colour, np.array(parts))
            self.assertLess(np.abs(mixed - colour @ np.array(parts)).max(), 0.51)
            with mock.patch.object(compiled, "LIBRARY", None):
                self.assertLessEqual(np.abs(grey_of(colour, np.array(parts)).astype(int) - mixed).max(), 1)

    def test_a_pass_gives_what_numpy_gives(self) -> None:
        for level in (0, 1):
            tiles = self.reference.tiles_with_blur(level)
            chosen = np.sort(self.rng.permutation(len(tiles))[:30])
            trust = self.rng.uniform(0.05, 1, len(chosen))
            held = np.zeros_like(self.picture[level])
            held[:, : held.shape[1] // 2] = 1
            taps = self.rng.normal(0, 2, (5, len(chosen), 2)).astype(np.float32)
            for columns in (tiles.steepest_descent, tiles.joint):
                for hold, tap in ((None, None), (held, None), (None, taps)):
                    with self.subTest(level=level, columns=len(columns), held=hold is not None, taps=tap is not None):
                        beside = self.rng.normal(0, 0.01, len(columns) - 8).astype(np.float32)
                        results = []
                        for run in (normal_equations.plain, normal_equations._compiled):
                            matter = Matter(tiles, chosen, columns, self.picture[level], hold, 2.0 ** level, tap, trust, 253.0)
                            run(matter, MATRIX, 0.05, beside)  # the second pass goes on from the weights of the first
                            results.append((run(matter, MATRIX, 0.02, beside), matter))
                        (meant, plain), (found, fast) = results
                        self.assertNear(found.variance, meant.variance, 0.02)
                        self.assertNear(found.joint, meant.joint, 0.02)
                        self.assertNear(found.pull, meant.pull, 0.03)
                        self.assertNear(fast.weights, plain.weights, 0.1)
                        self.assertAlmostEqual(fast.gain, plain.gain, 2)
                        self.assertEqual(found.odd.tolist(), meant.odd.tolist())
                        self.assertTrue(meant.odd.any() if hold is not None else not meant.odd.all(), "the case is not trivial")

    def test_blurred_tiles_are_what_numpy_gives(self) -> None:
        tiles = self.reference.tiles(0)
        chosen = np.sort(self.rng.permutation(len(tiles))[:20])
        offsets, sides = self.rng.normal(0, 2, (5, 20, 2)), self.rng.normal(0, 0.1, (2, 5))
        for legs in (sides, None):
            found, meant = (run(self.reference, tiles, chosen, offsets, legs) for run in (blurred_tiles._compiled, blurred_tiles.plainly_blurred))
            for name, a, b in zip(("basis", "columns", "energy"), found, meant, strict=True):
                self.assertEqual(a.shape, b.shape)
                self.assertNear(a, b, 0.02, name)

    def test_patches_are_stepped_and_found_as_numpy_does_it(self) -> None:
        """A picture moved by a known affine map, of which a part is covered, a part clipped and a part held out."""
        rng, luma_of = np.random.default_rng(6), self.frames[0].astype(np.float32)
        linear, shift = np.array([[1.01, 0.02], [-0.015, 0.99]]), np.array([2.6, -1.7])
        moved = cv2.warpAffine(luma_of, np.column_stack([linear, shift]), SIZE, flags=cv2.INTER_CUBIC)
        moved += rng.normal(0, 2, moved.shape).astype(np.float32)
        moved[100:150, 200:260], moved[160:200, 300:340] = 40, 254
        held = np.zeros(moved.shape, np.uint8)
        held[200:240, 110:170] = 255
        mask = polygon.fill(self.region, SIZE)
        patches = PatchAlignment(Pyramid(luma_of), mask, 25, grid_on(mask, 20), 50)
        view = View(Pyramid(moved), HeldOut(held), lambda p: p, lambda p: np.tile(np.eye(2), (len(p), 1, 1)), (0, 0), SIZE)
        level, which = patches._levels[0], np.arange(3, len(patches.centres), 2)
        onto = (patches.centres[which][:, None] + level.offsets + rng.uniform(-1, 1, (len(which), 1, 2))).astype(np.float32)
        onto[0] += 1e6  # outside
        since = rng.normal(0, 0.02, (len(which), 2, 3))
        has = rng.normal(0, 0.3, (len(which), 6))
        begun = rng.uniform(0.2, 1, onto.shape[:2]).astype(np.float32)
        weights, plain_weights = begun.copy(), begun.copy()
        ours = patch_alignment._steps(level, which, view, 0, onto, since, weights, has)
        plain = patch_alignment.plain_steps(level, which, view, 0, onto, since, plain_weights, has)
        # OpenCV's bilinear reading, the twin's, rounds places to a 32nd of a pixel
        for name, a, b in zip(("step", "explained", "covariance"), ours, plain, strict=True):
            self.assertLess(np.quantile(np.abs(a - b), 0.95), 0.02 * np.abs(b).max(), name)
        self.assertLess(np.quantile(np.abs(weights - plain_weights), 0.95), 0.05)
        found = patches.align(view)
        with mock.patch.object(compiled, "LIBRARY", None):
            meant = patches.align(view)
        both = np.intersect1d(found.patches, meant.patches)
        self.assertGreaterEqual(len(both), 0.97 * len(meant.patches))
        self.assertGreater(len(both), 0.7 * len(patches.centres))
        moves, meant_moves = (dict(zip(a.patches.tolist(), a.moves, strict=True)) for a in (found, meant))
        apart = np.array([np.linalg.norm(moves[k] - meant_moves[k]) for k in both])
        self.assertLess(np.quantile(apart, 0.95), 0.01)
        # a patch's move is where its texture is looked for on the reference, so that the map takes it to where the texture is
        truth = patches.centres[both] @ linear.T + shift - patches.centres[both]
        off = np.linalg.norm(np.array([moves[k] for k in both]) - truth, axis=1)
        self.assertLess(np.median(off), 0.1)

    def test_outlines_cover_pixels_as_numpy_says(self) -> None:
        """Polygons that reach beyond the box on all sides, one after another and averaged, hard, soft, grown and shrunk."""
        box = (3, -5, 90, 64)
        for seed in range(6):
            rng = np.random.default_rng(seed)
            turn = np.sort(rng.uniform(0, 2 * np.pi, 25))
            polygon = np.array([40, 30]) + np.column_stack([np.cos(turn), np.sin(turn)]) * rng.uniform(15, 75, (25, 1))
            inner, outer = rng.uniform(0, 9, (2, 25)) * (rng.uniform(0, 1, (2, 25)) > 0.3)
            shifted = [polygon + [k, -k / 2] for k in range(5)]
            none = np.zeros(25)
            for k, args in enumerate(((inner, outer, box), (inner, outer, box, False, 3.3), (none, none, box, True, -4.0), ())):
                found = soft_area(polygon, *args) if args else mean_area(shifted, box)
                with mock.patch.object(compiled, "LIBRARY", None):
                    plain = soft_area(polygon, *args) if args else mean_area(shifted, box)
                if not args:
                    self.assertLess(np.abs(found - plain).max(), 2e-5)
                # NumPy's twin looks for the nearest side from places a pixel apart, which at a sharp tip may be another
                self.assertLess(np.abs(found - plain).mean(), 0.01, (seed, k))

    def test_samples_of_a_background_and_their_median_are_as_numpy_says(self) -> None:
        pictures = self.rng.integers(0, 65536, (12, 20, 30, 3)).astype(np.uint16)
        corners = self.rng.integers(0, [11, 21], (12, 2))
        free = (self.rng.uniform(0, 1, (12, 40, 50)) < 0.8).astype(np.uint8)
        found = []
        for library in (compiled.LIBRARY, None):
            with mock.patch.object(compiled, "LIBRARY", library):
                samples = Samples((50, 40))
                for picture, corner, each in zip(pictures, corners.tolist(), free, strict=True):
                    samples.take(picture, (corner[0], corner[1]), each)
                found.append((samples.count, samples.median(64)))
        np.testing.assert_array_equal(found[0][0], found[1][0])
        np.testing.assert_array_equal(found[0][1], found[1][1])
        self.assertEqual(set(np.unique(found[0][0])), set(range(8)), "some pixels have none, and some have enough")

    def test_a_soft_edge_goes_by_the_distance_to_the_nearest_side(self) -> None:
        """Against the distance from every pixel to every side, and the sign of skimage.draw.polygon2mask."""
        box, rng = (0, 0, 90, 70), np.random.default_rng(3)
        turn = np.sort(rng.uniform(0, 2 * np.pi, 15))
        polygon = np.array([45, 35]) + np.column_stack([np.cos(turn), np.sin(turn)]) * rng.uniform(12, 50, (15, 1))
        y, x = np.mgrid[0:70, 0:90] + 0.5
        distance = np.full(x.shape, np.inf)
        for a, b in zip(polygon, np.roll(polygon, -1, 0), strict=True):
            t = np.clip(((x - a[0]) * (b - a)[0] + (y - a[1]) * (b - a)[1]) / ((b - a) @ (b - a)), 0, 1)
            distance = np.minimum(distance, np.hypot(x - a[0] - t * (b - a)[0], y - a[1] - t * (b - a)[1]))
        signed = np.where(polygon2mask((70, 90), polygon[:, ::-1] - 0.5), distance, -distance)
        found = soft_area(polygon, np.full(15, 3.0), np.full(15, 5.0), box, smooth=False, grow=1.0)
        clear = distance > 0.75  # where it is beyond doubt on which side a pixel's middle lies
        self.assertLess(np.abs(found - np.clip((signed + 1 + 5) / 8, 0, 1))[clear].max(), 1e-4)

    def test_tracking_gives_the_same_place_either_way(self) -> None:
        places = []
        for library in (compiled.LIBRARY, None):
            with mock.patch.object(compiled, "LIBRARY", library):
                tracker = PlanarTracker(self.frames[0], polygon.fill(self.region, SIZE), self.region)
                places.append([tracker.feed(frame) for frame in self.frames[1:]])
        for fast, plain in zip(*places, strict=True):
            self.assertIsNotNone(fast.matrix)
            self.assertLess(np.abs(np.asarray(fast.matrix) - plain.matrix)[:2, 2].max(), 0.03, "pixels")
            self.assertAlmostEqual(fast.seen, plain.seen, 1)

    def test_a_wrong_kind_of_array_is_refused_before_c_sees_it(self) -> None:
        for wrong in (np.zeros(3, np.float64), np.zeros((4, 4), np.float32)[:, ::2]):
            with self.assertRaisesRegex(TypeError, "contiguous float32"):
                address(wrong, np.float32)


class Compiling(unittest.TestCase):
    @unittest.skipUnless(shutil.which("gcc"), "no compiler here")
    def test_the_loops_are_compiled_where_there_is_a_compiler(self) -> None:
        self.assertIsNotNone(compiled.LIBRARY, "install Wertis again (./setup-venv), or unset WERTIS_PLAIN_LOOPS")


if __name__ == "__main__":
    unittest.main()
