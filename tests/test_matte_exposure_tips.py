"""Tips of figures that the shutter smears: how far they reach, by what figure and background explain."""

import unittest
from dataclasses import replace
from unittest import mock

import numpy as np

from tests.test_matte_exposure import SIZE, TEXTURE, moves, noise, with_picture
from wertis.core import compiled
from wertis.core.geometry import homography
from wertis.core.matte.coverage import polygon_area
from wertis.core.matte.exposure import Exposure, Texture, blank_texture, composed, explained_offsets, laid
from wertis.core.matte.exposure_tips import TipDisplacement, offsets_across, tip_displacement
from wertis.core.matte.tip_cost import TipCost, TipKnots, cauchy_cost, knot_equations

TRAVEL = (4.0, 14.0)  # pixels while the shutter is open
BEHIND = noise(5, 4.0, mean=70.0)


def wedge(tip: float, spacing: float = 3.0) -> np.ndarray:
    """(n, 2) a block with a spike to the right that ends at x = `tip`; the first place is its end."""
    corners = np.array([[tip, 60.0], [60, 72], [25, 72], [25, 48], [60, 48]])
    sides = zip(corners, np.roll(corners, -1, 0), strict=True)
    return np.concatenate([a + (b - a) * np.arange(0, 1, spacing / np.linalg.norm(b - a))[:, None] for a, b in sides])


def exposed(tip: float = 110.0) -> tuple[Exposure, Texture]:
    """A spike that moves over a background, and its texture."""
    texture = with_picture(blank_texture(wedge(130), 1.0, 40))
    fine = Exposure(np.zeros_like(BEHIND), BEHIND, np.ones(BEHIND.shape[:2], bool), moves(TRAVEL, count=64), np.eye(3))
    alpha, colour = composed(fine, laid(fine, texture), wedge(tip))
    picture = colour + (1 - alpha[..., None]) * BEHIND + np.random.default_rng(7).normal(0, 1.5, BEHIND.shape)
    return Exposure(picture.astype(np.float32), BEHIND, fine.known, moves(TRAVEL, count=12), np.eye(3)), texture


class TipTest(unittest.TestCase):
    def found(self, exposure: Exposure, texture: Texture, start: float, corner: int = 0) -> TipDisplacement:
        tip = tip_displacement(exposure, texture, wedge(start), corner, 1.5, 15.0)
        assert tip is not None
        return tip

    def test_a_tip_that_is_taken_too_short_or_too_long_is_found(self) -> None:
        exposure, texture = exposed()
        for start in (97.0, 104.0, 110.0, 118.0):
            tip = self.found(exposure, texture, start)
            np.testing.assert_allclose(wedge(start)[0] + tip.displacements[0], [110, 60], atol=2, err_msg=str(start))
            np.testing.assert_allclose(np.abs(tip.axes), np.eye(2), atol=0.05)
            self.assertLess(tip.deviations[0], 4)
            far = np.linalg.norm(wedge(start) - wedge(start)[0], axis=1) > 45
            self.assertEqual(float(np.abs(tip.displacements[far]).max()), 0.0)

    def test_steps_along_the_normals_alone_do_not_get_there(self) -> None:
        exposure, texture = exposed()
        start = wedge(97.0)
        offsets, _ = explained_offsets(exposure, texture, start, 1.5, 20.0, [0])
        self.assertLess(start[0, 0] + offsets[0], 106)

    def test_what_no_exposure_has_shown_gets_its_colours_with_the_length(self) -> None:
        """Beyond x = 95 the texture goes on dark, as it is at the end of what was seen, but the figure is light there."""
        exposure, texture = exposed()
        h, w = texture.known.shape
        seen = polygon_area(homography.apply(texture.place, np.array([[0.0, 0], [95, 0], [95, 120], [0, 120]])), (0, 0, w, h)) > 0.5
        blind = replace(texture, colours=np.where(seen[..., None], texture.colours, 20).astype(np.float32), known=seen)
        tip = self.found(exposure, blind, 97.0)
        np.testing.assert_allclose(wedge(97.0)[0] + tip.displacements[0], [110, 60], atol=2.5)
        at = homography.apply(texture.place, np.array([[101.0, 60]])).astype(int)[0]
        np.testing.assert_allclose(tip.texture.colours[at[1], at[0]], TEXTURE[55:65, 97:105].mean((0, 1)), atol=25)
        np.testing.assert_array_equal(tip.texture.colours[seen], blind.colours[seen])

    def test_the_compiled_loops_give_what_numpy_gives(self) -> None:
        exposure, texture = exposed()
        h, w = texture.known.shape
        seen = polygon_area(homography.apply(texture.place, np.array([[0.0, 0], [95, 0], [95, 120], [0, 120]])), (0, 0, w, h)) > 0.5
        places, rng = wedge(100.0), np.random.default_rng(3)
        chain = np.arange(-9, 10) % len(places)
        for known in (texture.known, seen):  # with nothing to solve for, and with colours of what was not seen
            blind = replace(texture, known=known)
            knots = TipKnots(exposure, blind, places[chain], places[0], np.array([1.0, 0]), 15.0, 1.0)
            longest = np.where(np.isin(np.arange(len(places)), chain)[:, None], [15.0, 0], 0)
            cost = TipCost(exposure, blind, knots, places, chain, longest, 6)
            for _ in range(5):
                moved = rng.normal(0, 3, places.shape)
                found = cost(moved)
                with mock.patch.object(compiled, "LIBRARY", None):
                    self.assertAlmostEqual(found / cost(moved), 1, places=5)
            self.assertGreater(abs(cost(longest) - cost(0 * longest)), 1.0)
            nowhere = np.full(places.shape, np.nan)  # covers nothing, as a place on the vanishing line
            with mock.patch.object(compiled, "LIBRARY", None):
                meant = cost(nowhere)
            self.assertAlmostEqual(cost(nowhere) / meant, 1, places=5)

    def test_the_knots_equations_and_the_robust_cost_by_their_formulas(self) -> None:
        rng = np.random.default_rng(4)
        coverage = np.zeros((30, 6), np.float32)
        for row in coverage[:-1]:  # the last pixel is not covered at all
            first = rng.integers(0, 5)
            row[first:first + 2] = rng.random(2)
        rest, prior = rng.normal(0, 9, (3, 50)).astype(np.float32), rng.random((6, 3)) * 255
        for library in (compiled.LIBRARY, None):
            with mock.patch.object(compiled, "LIBRARY", library):
                normal, right = knot_equations(coverage, rest, prior)
                np.testing.assert_allclose(normal, coverage.T @ coverage, rtol=1e-5, atol=1e-6)
                np.testing.assert_allclose(right, coverage.T @ (rest[:, 20:].T - coverage @ prior), rtol=1e-4, atol=1e-3)
                for usual in (1e-3, 2.0):  # also where the product of all pixels would overflow
                    self.assertAlmostEqual(cauchy_cost(rest, usual) / np.log1p((np.abs(rest).sum(0) / usual) ** 2).sum(), 1, places=5)

    def test_a_blunt_corner_and_an_unknown_background_say_nothing(self) -> None:
        exposure, texture = exposed()
        flat = int(np.argmin(np.abs(wedge(110) - [42, 72]).sum(1)))
        self.assertIsNone(tip_displacement(exposure, texture, wedge(110), flat, 1.5, 15.0))
        hidden = replace(exposure, known=np.zeros_like(exposure.known))
        self.assertIsNone(tip_displacement(hidden, texture, wedge(110), 0, 1.5, 15.0))
        self.assertIsNone(tip_displacement(exposure, texture, wedge(110) + [2 * SIZE[0], 0], 0, 1.5, 15.0))


def crotch(depth: float, spacing: float = 3.0) -> np.ndarray:
    """(n, 2) a block with a wedge cut out of its right side that ends at x = `depth`; the first place is its end."""
    corners = np.array([[depth, 60.0], [110, 44], [110, 20], [25, 20], [25, 100], [110, 100], [110, 76]])
    sides = zip(corners, np.roll(corners, -1, 0), strict=True)
    return np.concatenate([a + (b - a) * np.arange(0, 1, spacing / np.linalg.norm(b - a))[:, None] for a, b in sides])


class InwardTest(unittest.TestCase):
    """Where two parts of a figure meet, what lies between them is background."""

    def setUp(self) -> None:
        self.texture = with_picture(blank_texture(crotch(60), 1.0, 40))
        fine = Exposure(np.zeros_like(BEHIND), BEHIND, np.ones(BEHIND.shape[:2], bool), moves(TRAVEL, count=64), np.eye(3))
        alpha, colour = composed(fine, laid(fine, self.texture), crotch(60))
        picture = colour + (1 - alpha[..., None]) * BEHIND + np.random.default_rng(7).normal(0, 1.5, BEHIND.shape)
        self.exposure = Exposure(picture.astype(np.float32), BEHIND, fine.known, moves(TRAVEL, count=12), np.eye(3))

    def test_it_is_found_too_deep_and_too_shallow(self) -> None:
        for start in (50.0, 56.0, 60.0, 66.0, 70.0):
            tip = tip_displacement(self.exposure, self.texture, crotch(start), 0, 1.5, 15.0)
            assert tip is not None
            np.testing.assert_allclose(crotch(start)[0] + tip.displacements[0], [60, 60], atol=2.0, err_msg=str(start))
            np.testing.assert_array_equal(tip.texture.colours, self.texture.colours)

    def test_what_goes_on_beyond_the_reach_is_not_told(self) -> None:
        self.assertIsNone(tip_displacement(self.exposure, self.texture, crotch(90.0), 0, 1.5, 15.0))


class OffsetsAcrossTest(unittest.TestCase):
    def test_distances_to_a_square(self) -> None:
        square = np.array([[0.0, 0], [10, 0], [10, 10], [0, 10]])
        places, normals = np.array([[12.0, 5], [7, 5], [5, -1], [5, 5]]), np.array([[1.0, 0], [1, 0], [0, -1], [0.6, 0.8]])
        np.testing.assert_allclose(offsets_across(places, normals, square, np.inf), [-2, 3, -1, 6.25])

    def test_what_lies_beside_it_meets_nothing(self) -> None:
        square = np.array([[0.0, 0], [10, 0], [10, 10], [0, 10]])
        self.assertTrue(np.isnan(offsets_across(np.array([[5.0, 14]]), np.array([[1.0, 0]]), square, np.inf)).all())

    def test_another_part_of_the_figure_is_not_taken_for_the_edge(self) -> None:
        """A line across the side of a short arm, where that has drawn back, meets the body's side farther on, which faces the same way."""
        figure = np.array([[-30.0, 0], [40, 0], [40, 80], [0, 80], [0, 60], [-4, 60], [-4, 20], [-30, 20]])  # its arm to the left is 4 long
        places, normals = np.array([[-12.0, 50], [1.0, 70]]), np.array([[0.0, -1], [-1.0, 0]])
        np.testing.assert_allclose(offsets_across(places, normals, figure, np.inf), [50, 1])
        np.testing.assert_allclose(offsets_across(places, normals, figure, 8.0), [np.nan, 1])


if __name__ == "__main__":
    unittest.main()
