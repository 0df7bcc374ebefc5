"""Laying artwork on a quad: against a reference library, edges, small scale, proportions, untouched pixels."""

import unittest

import numpy as np
from skimage.transform import ProjectiveTransform, warp

from tests.scenes import texture
from wertis.core.comp import artwork
from wertis.core.comp import lay as laying
from wertis.core.comp.fit import artwork_rectangle
from wertis.core.comp.picture import Compositor
from wertis.core.errors import RegionError
from wertis.core.geometry import homography, quad
from wertis.core.geometry.quad import signed_area
from wertis.core.geometry.warp import HomographyWarp
from wertis.core.matte.coverage import polygon_area
from wertis.core.shot import edits
from wertis.core.shot.artwork import Artwork
from wertis.core.shot.document import Placement, PlateRef, Region, Shot, Track
from wertis.core.shot.edits import as_points
from wertis.core.shot.placing import surface_proportions

SIZE = (320, 240)
QUAD = np.array([[40.0, 30], [280, 44], [262, 210], [52, 190]])


def onto(corners: np.ndarray) -> HomographyWarp:
    """The unit square of an artwork onto four corners."""
    return HomographyWarp(homography.from_unit_square(corners))


def full(laid: laying.Laid) -> np.ndarray:
    """A laid picture in its whole target."""
    out = np.zeros((SIZE[1], SIZE[0], 4), np.float32)
    h, w = laid.pixels.shape[:2]
    out[laid.top:laid.top + h, laid.left:laid.left + w] = laid.pixels
    return out


class LayTest(unittest.TestCase):
    def test_inside_is_where_a_reference_library_puts_it(self) -> None:
        art = artwork.from_picture(texture(size=(260, 190)))
        laid = laying.lay(laying.Reductions(art), onto(QUAD), SIZE, samples=2)
        assert laid is not None
        h, w = art.shape[:2]
        # scikit-image puts the first pixel's centre at 0
        t = ProjectiveTransform.from_estimate(np.array([[0.0, 0], [w, 0], [w, h], [0, h]]) - 0.5, QUAD - 0.5)
        theirs = warp(art.astype(np.float64), t.inverse, output_shape=(SIZE[1], SIZE[0]), order=1)
        inner = full(laid)[..., 3] > 0.999
        difference = np.abs(full(laid)[..., :3] - theirs[..., :3]).mean(2)[inner]
        self.assertGreater(inner.sum(), 30000)
        self.assertLess(difference.mean(), 0.012)
        shifted = np.abs(full(laid)[..., :3] - np.roll(theirs[..., :3], 1, 1)).mean(2)[inner]
        self.assertLess(difference.mean(), 0.4 * shifted.mean())

    def test_coverage_adds_up_to_the_area(self) -> None:
        rng = np.random.default_rng(2)
        for _ in range(20):
            q = QUAD + rng.uniform(-15, 15, (4, 2))
            covered = polygon_area(q, (0, 0, *SIZE)).sum()
            self.assertAlmostEqual(covered / abs(signed_area(q)), 1.0, delta=0.002)

    def test_edges_have_no_steps(self) -> None:
        q = np.array([[50.0, 50], [250, 57], [250, 157], [50, 150]])
        alpha = polygon_area(q, (0, 0, *SIZE))
        top = alpha[45:65, 60:240].sum(0)  # the covered height under a slanted side must fall evenly
        self.assertLess(np.abs(np.diff(top) + 7 / 200).max(), 0.02)

    def test_no_shimmer_when_small(self) -> None:
        # a fine checker laid small must be an even grey wherever it falls
        art = laying.Reductions(artwork.checker(1.0, cells=64))
        levels = []
        for k in range(12):
            q = np.array([[100.0, 80], [140, 80], [140, 120], [100, 120]]) + k * 0.137
            laid = laying.lay(art, onto(q), SIZE)
            assert laid is not None
            inner = laid.pixels[6:-6, 6:-6, 0]
            levels.append(inner.mean())
            self.assertLess(inner.std(), 0.04)
        self.assertLess(np.ptp(levels), 0.01)

    def test_folded_or_outside_gives_nothing(self) -> None:
        art = laying.Reductions(artwork.grid(1.0))
        self.assertIsNone(laying.lay(art, onto(QUAD[[0, 2, 1, 3]]), SIZE))
        self.assertIsNone(laying.lay(art, onto(QUAD + 5000), SIZE))


class FitTest(unittest.TestCase):
    def test_fit_and_fill_keep_the_artworks_proportions(self) -> None:
        for fit, expected in (("fit", (100, 100)), ("fill", (200, 200))):
            low, high = artwork_rectangle(2.0, 1.0, fit)
            np.testing.assert_allclose((high - low) * [200, 100], expected)
            np.testing.assert_allclose(low + high, [1, 1], err_msg="in the middle")
        np.testing.assert_allclose(artwork_rectangle(2.0, 1.0, "stretch"), [[0, 0], [1, 1]])


class CompositorTest(unittest.TestCase):
    def setUp(self) -> None:
        self.plate = np.random.default_rng(4).integers(0, 256, (240, 320, 3), dtype=np.uint8)
        self.track = Track(region=Region(frame=1, points=as_points(QUAD)))
        self.shot = Shot(plate=PlateRef(path="x", first=1, last=2, size=SIZE), range=(1, 2))

    def shown(self, **changes: object) -> Shot:
        placement = Placement(on=self.track.id, frame=1, quad=as_points(QUAD), **changes)  # type: ignore[arg-type]
        return self.shot.with_track(self.track).with_item(placement)

    def test_pixels_outside_are_the_plates_bit_for_bit(self) -> None:
        out = Compositor().comp(self.shown(artwork=Artwork(kind="checker")), self.plate, 1)
        far = polygon_area(QUAD, (0, 0, *SIZE)) == 0
        np.testing.assert_array_equal(out[far], self.plate[far])
        self.assertFalse(np.array_equal(out[~far], self.plate[~far]))
        self.assertEqual(out.dtype, np.uint8)

    def test_unknown_frame_leaves_the_plate_alone(self) -> None:
        self.assertIs(Compositor().comp(self.shown(), self.plate, 2), self.plate)

    def test_no_opacity_changes_nothing(self) -> None:
        out = Compositor().comp(self.shown(artwork=Artwork(kind="checker"), opacity=0.0), self.plate, 1)
        np.testing.assert_array_equal(out, self.plate)

    def test_comp_is_the_graphic_over_the_plate(self) -> None:
        shot = self.shown(artwork=Artwork(kind="checker"))
        graphic = Compositor().graphic(shot, 1, SIZE)
        expected = graphic[..., :3] + (self.plate / 255.0) * (1 - graphic[..., 3:])
        out = Compositor().comp(shot, self.plate, 1) / 255.0
        self.assertLess(np.abs(out - expected).max(), 1.1 / 255)

    def test_given_proportions_overrule(self) -> None:
        p = Placement(frame=1, quad=as_points(QUAD), ratio=2.5)
        self.assertEqual(surface_proportions(p, SIZE), (2.5, "given"))
        flat = Placement(frame=1, quad=((10, 10), (110, 10), (110, 60), (10, 60)))
        self.assertEqual(surface_proportions(flat, SIZE), (2.0, "flat"))
        self.assertTrue(quad.is_convex(flat.array))


class MovedOnSurfaceTest(unittest.TestCase):
    """A placement moved, scaled, turned and skewed on its surface, of which perspective shows another picture."""

    def setUp(self) -> None:
        self.ratio = 1.5
        # the surface as it is, 1.5 wide and 1 high, and as it is seen
        self.view = homography.from_points(np.array([[0.0, 0], [1.5, 0], [1.5, 1], [0, 1]]), QUAD)
        self.placement = Placement(on="t", frame=1, quad=as_points(QUAD))

    def on_surface(self, placement: Placement) -> np.ndarray:
        return homography.apply(np.linalg.inv(self.view), placement.array)

    def test_a_turn_keeps_lengths_on_the_surface(self) -> None:
        turned = self.on_surface(edits.moved_on_surface(self.placement, self.ratio, turn=30))
        sides = np.linalg.norm(np.roll(turned, -1, 0) - turned, axis=1)
        np.testing.assert_allclose(sides, [1.5, 1, 1.5, 1], atol=1e-9)
        np.testing.assert_allclose(turned.mean(0), [0.75, 0.5], atol=1e-9)
        along = turned[1] - turned[0]
        self.assertAlmostEqual(np.rad2deg(np.arctan2(along[1], along[0])), 30)  # y runs down: clockwise

    def test_scale_move_and_skew(self) -> None:
        np.testing.assert_allclose(self.on_surface(edits.moved_on_surface(self.placement, self.ratio, scale=(0.5, 0.8), about=(0.0, 1.0))),
                                   [[0, 0.2], [0.75, 0.2], [0.75, 1], [0, 1]], atol=1e-9)
        np.testing.assert_allclose(self.on_surface(edits.moved_on_surface(self.placement, self.ratio, move=(0.1, -0.05))),
                                   [[0.15, -0.05], [1.65, -0.05], [1.65, 0.95], [0.15, 0.95]], atol=1e-9)
        leaning = self.on_surface(edits.moved_on_surface(self.placement, self.ratio, skew=45))
        np.testing.assert_allclose(leaning, [[0.5, 0], [2.0, 0], [1.0, 1], [-0.5, 1]], atol=1e-9)

    def test_behind_the_camera_it_is_refused(self) -> None:
        steep = self.placement.but(quad=as_points(np.array([[100.0, 100], [110, 100], [200, 200], [20, 200]])))
        with self.assertRaisesRegex(RegionError, "fold over"):
            edits.moved_on_surface(steep, 1.0, move=(0.0, 0.5))


if __name__ == "__main__":
    unittest.main()
