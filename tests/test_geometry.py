"""Geometry against general libraries and published formulas."""

import unittest

import cv2
import numpy as np
from skimage.transform import ProjectiveTransform

from tests.helpers import to_frame, to_reference
from wertis.core.errors import RegionError
from wertis.core.geometry import conventions, homography, polygon, quad
from wertis.core.geometry.motion import PlanarMotion, carried

QUAD = np.array([[102.0, 80], [410, 61], [450, 300], [77, 260]])


def camera_quad(ratio: float, tilt: tuple[float, float], focal: float, size: tuple[int, int], distance: float = 4.0) -> np.ndarray:
    """A rectangle of a given width / height seen by a pinhole camera."""
    turn = cv2.Rodrigues(np.array([tilt[0], tilt[1], 0.2]))[0]
    corners = np.array([[-ratio / 2, -.5, 0], [ratio / 2, -.5, 0], [ratio / 2, .5, 0], [-ratio / 2, .5, 0]]) @ turn.T + [0.2, -0.1, distance]
    return focal * corners[:, :2] / corners[:, 2:] + np.array(size) / 2


class HomographyTest(unittest.TestCase):
    def test_same_as_reference_libraries(self) -> None:
        source = np.array([[0.0, 0], [100, 0], [100, 70], [0, 70]])
        ours = homography.from_points(source, QUAD)
        theirs = ProjectiveTransform.from_estimate(source, QUAD).params
        np.testing.assert_allclose(ours, theirs / theirs[2, 2], atol=1e-9)
        np.testing.assert_allclose(ours, cv2.getPerspectiveTransform(source.astype(np.float32), QUAD.astype(np.float32)), atol=1e-4)

    def test_unit_square_by_heckberts_closed_form(self) -> None:
        # P. Heckbert, Fundamentals of Texture Mapping and Image Warping, 1989, section 2.2.3: the case of a general quadrilateral
        (x0, y0), (x1, y1), (x2, y2), (x3, y3) = QUAD
        sx, sy = x0 - x1 + x2 - x3, y0 - y1 + y2 - y3
        dx1, dx2, dy1, dy2 = x1 - x2, x3 - x2, y1 - y2, y3 - y2
        det = dx1 * dy2 - dx2 * dy1
        g, h = (sx * dy2 - dx2 * sy) / det, (dx1 * sy - sx * dy1) / det
        expected = np.array([[x1 - x0 + g * x1, x3 - x0 + h * x3, x0], [y1 - y0 + g * y1, y3 - y0 + h * y3, y0], [g, h, 1]])
        np.testing.assert_allclose(homography.from_unit_square(QUAD), expected, atol=1e-9)

    def test_degenerate_points_are_refused(self) -> None:
        with self.assertRaises(ValueError):
            homography.from_points(np.array([[0.0, 0], [1, 1], [2, 2], [3, 3]]), QUAD)

    def test_jacobian_is_the_derivative(self) -> None:
        m = homography.from_unit_square(QUAD)
        p, step = np.array([[0.3, 0.6]]), 1e-6
        for k in range(2):
            d = np.zeros((1, 2))
            d[0, k] = step
            numeric = (homography.apply(m, p + d) - homography.apply(m, p - d)) / (2 * step)
            np.testing.assert_allclose(homography.jacobian(m, p)[0][:, k], numeric[0], rtol=1e-6)

    def test_points_behind_the_vanishing_line_have_no_picture(self) -> None:
        m = np.array([[1.0, 0, 0], [0, 1, 0], [-0.01, 0, 1]])
        self.assertTrue(np.isnan(homography.apply(m, np.array([[150.0, 5]]))).all())
        self.assertTrue(np.isfinite(homography.apply(m, np.array([[50.0, 5]]))).all())

    def test_many_at_once_as_each_by_itself(self) -> None:
        rng = np.random.default_rng(2)
        sources = QUAD + rng.uniform(-30, 30, (5, 4, 2))
        sources[3] = [[0, 0], [10, 20], [20, 40], [50, 100]]  # on a line
        found = homography.through_four_points(sources, np.tile(QUAD, (5, 1, 1)))
        points = rng.uniform(50, 500, (30, 2))
        seen = homography.apply_each(found, points)
        for k, source in enumerate(sources):
            if k == 3:
                self.assertTrue(np.isnan(found[k]).all())
                continue
            theirs = cv2.getPerspectiveTransform(source.astype(np.float32), QUAD.astype(np.float32))
            np.testing.assert_allclose(found[k], theirs, rtol=1e-3, atol=1e-3)
            np.testing.assert_array_equal(np.isnan(seen[k]), np.isnan(homography.apply(found[k], points)))
            np.testing.assert_allclose(seen[k], homography.apply(found[k], points), rtol=1e-9)

    def test_a_grid_is_mapped_as_its_points_are(self) -> None:
        columns, rows = np.arange(30) * 20 + 0.5, np.arange(20) * 30 + 0.5
        points = np.stack(np.meshgrid(columns, rows), axis=-1)
        for matrix in (homography.from_unit_square(QUAD) @ np.diag([1 / 600, 1 / 600, 1]), np.array([[1.0, 0, 4], [0, 2, 0], [-1 / 300, 0, 1]]),
                       -np.array([[1.0, 0, 4], [0, 2, 0], [0, 1 / 200, -1]])):
            x, y = homography.apply_to_grid(matrix, columns, rows)
            np.testing.assert_allclose(np.stack([x, y], axis=-1), homography.apply(matrix, points), rtol=1e-12)


class ConventionsTest(unittest.TestCase):
    def test_half_pixel_both_ways(self) -> None:
        np.testing.assert_array_equal(conventions.to_centred(np.array([0.5, 0.5])), [0, 0])
        m = homography.from_unit_square(QUAD)
        back = conventions.homography_from_centred(conventions.homography_to_centred(m))
        np.testing.assert_allclose(back, m, atol=1e-12)
        p = np.array([[0.25, 0.75]])
        np.testing.assert_allclose(homography.apply(conventions.homography_to_centred(m), p - 0.5) + 0.5, homography.apply(m, p))

    def test_flip_y_is_its_own_inverse(self) -> None:
        np.testing.assert_array_equal(conventions.flip_y(conventions.flip_y(QUAD, 720), 720), QUAD)


class ProportionsTest(unittest.TestCase):
    """The formulas of Zhang and He 2007 against pictures of rectangles by a pinhole camera."""

    def test_true_ratio_and_focal_length(self) -> None:
        for ratio in (0.5, 1.0, 4 / 3, 2.35):
            for tilt in ((0.5, 0.4), (-0.3, 0.7), (0.6, -0.35)):
                seen = camera_quad(ratio, tilt, 1500, (1280, 720))
                found, focal = quad.proportions(seen, (1280, 720))
                self.assertIsNotNone(found)
                self.assertAlmostEqual(found, ratio, delta=1e-6 * ratio)
                self.assertAlmostEqual(focal, 1500, delta=0.01)

    def test_flat_view_says_so(self) -> None:
        found, _ = quad.proportions(camera_quad(1.5, (0.0, 0.0), 1500, (1280, 720)), (1280, 720))
        self.assertIsNone(found)
        self.assertAlmostEqual(quad.side_proportions(np.array([[0.0, 0], [30, 0], [30, 20], [0, 20]])), 1.5)

    def test_folded_quad_has_none(self) -> None:
        self.assertFalse(quad.is_convex(QUAD[[0, 2, 1, 3]]))
        self.assertIsNone(quad.proportions(QUAD[[0, 2, 1, 3]], (1280, 720))[0])

    def test_ordered_starts_top_left_and_runs_clockwise(self) -> None:
        np.testing.assert_array_equal(quad.ordered(QUAD[[2, 0, 3, 1]]), QUAD)


class PolygonTest(unittest.TestCase):
    def test_fill_counts_pixels_whose_centres_are_inside(self) -> None:
        mask = polygon.fill(np.array([[2.0, 3], [6, 3], [6, 8], [2, 8]]), (10, 10))
        expected = np.zeros((10, 10), np.uint8)
        expected[3:8, 2:6] = 255
        inner = mask[4:7, 3:5]
        self.assertTrue((inner == 255).all())
        self.assertLessEqual(np.count_nonzero(mask != expected), 10)  # the raster's rule for the border itself may add one row

    def test_bad_regions_say_what_to_do(self) -> None:
        for points, words in (([[0, 0], [5, 5]], "at least three"), ([[0, 0], [5, 5], [9, 9]], "no area"),
                              ([[2000, 10], [2100, 10], [2100, 90]], "outside the picture"), ([[0, 0], [np.nan, 5], [9, 0]], "not a number")):
            with self.assertRaisesRegex(RegionError, words):
                polygon.checked(np.array(points, float), (1280, 720))

    def test_contains(self) -> None:
        self.assertTrue(polygon.contains(QUAD, np.array([200.0, 150])))
        self.assertFalse(polygon.contains(QUAD, np.array([20.0, 20])))


class MotionTest(unittest.TestCase):
    def setUp(self) -> None:
        self.matrix = homography.from_points(QUAD, QUAD + [[8, 2], [10, 4], [6, 6], [9, 3]])
        self.motion = PlanarMotion(5, {6: self.matrix}, QUAD)

    def test_there_and_back(self) -> None:
        p = np.array([[200.0, 150], [300, 220]])
        np.testing.assert_allclose(to_reference(self.motion, to_frame(self.motion, p, 6), 6), p, atol=1e-9)
        np.testing.assert_allclose(carried(self.motion, p, 5, 6), homography.apply(self.matrix, p))

    def test_between_frames_the_corners_go_straight(self) -> None:
        np.testing.assert_allclose(to_frame(self.motion, QUAD, 5.25), QUAD + 0.25 * (to_frame(self.motion, QUAD, 6) - QUAD), atol=1e-9)

    def test_unknown_is_unknown(self) -> None:
        for time in (7, 6.6, 4.4, 900):
            self.assertIsNone(self.motion.at(time), time)
        self.assertTrue(np.isnan(to_frame(self.motion, QUAD, 7)).all())


if __name__ == "__main__":
    unittest.main()
