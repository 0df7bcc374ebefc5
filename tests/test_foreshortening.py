"""Surfaces seen at a slant, up to edge-on, whose pictures are made by turning a plane in front of a camera."""

import unittest

import cv2
import numpy as np

from tests.scenes import FramesPlate, texture
from wertis.core.geometry import homography
from wertis.core.geometry.conventions import homography_to_centred
from wertis.core.track import foreshortening
from wertis.core.track.run import track_plane

SIZE, FOCAL, FAR, SUPER = (400, 300), 600.0, 700.0, 4


def turned(degrees: float) -> np.ndarray:
    """(3, 3) from the artwork's pixels (240 x 180) to the picture, turned about its upright middle; R. Hartley and A. Zisserman, 2004, section 8.1."""
    a = np.radians(degrees)
    camera = np.array([[FOCAL, 0, SIZE[0] / 2], [0, FOCAL, SIZE[1] / 2], [0, 0, 1]])
    pose = np.column_stack([[np.cos(a), 0, np.sin(a)], [0, 1, 0], [0, 0, FAR]])
    return camera @ pose @ np.array([[1, 0, -120.0], [0, 1, -90], [0, 0, 1]])


def seen(degrees: float, rng: np.random.Generator) -> np.ndarray:
    """The picture (h, w, 3) uint8: made four times as large, then averaged, as a sensor does it."""
    art = np.dstack([texture(size=(240, 180)), np.full((180, 240), 255, np.uint8)]).astype(np.float32)
    large = homography_to_centred(homography.scaling(SUPER) @ turned(degrees))
    layer = cv2.warpPerspective(art, large, (SIZE[0] * SUPER, SIZE[1] * SUPER), flags=cv2.INTER_CUBIC)
    layer = cv2.resize(layer, SIZE, interpolation=cv2.INTER_AREA)
    alpha = layer[..., 3:] / 255
    frame = layer[..., :3] * (alpha > 0) + 90 * (1 - alpha) + rng.normal(0, 1.5, (SIZE[1], SIZE[0], 3))
    return np.clip(frame.round(), 0, 255).astype(np.uint8)


class ForeshorteningTest(unittest.TestCase):
    def test_a_surface_that_turns_away_is_held_nearly_to_its_edge(self) -> None:
        rng = np.random.default_rng(2)
        angles = [*np.arange(0, 78, 3.0), 80.5, 84, 87, 89.5]
        frames = [seen(a, rng) for a in angles]
        corners = np.array([[12.0, 12], [228, 12], [228, 168], [12, 168]])
        region = homography.apply(turned(0), corners)
        found = dict(track_plane(FramesPlate(frames), region, 0, range(1, len(frames))))
        for k, fix in found.items():
            with self.subTest(degrees=angles[k]):
                if fix.matrix is None:
                    self.assertGreater(angles[k], 80)
                else:
                    error = np.linalg.norm(homography.apply(fix.matrix, region) - homography.apply(turned(angles[k]), corners), axis=1).mean()
                    self.assertLess(error, 0.1 if angles[k] <= 69 else 0.3 if angles[k] < 78 else 2 * fix.error)
        self.assertIn("edge-on", found[len(frames) - 1].reason)

    def test_a_view_tells_how_it_magnifies_and_along_what(self) -> None:
        view = foreshortening.view_of(np.diag([2.0, 0.5, 1]), np.array([10.0, 20]))
        self.assertAlmostEqual(view.larger, 2)
        self.assertAlmostEqual(view.smaller, 0.5)
        np.testing.assert_allclose(np.abs(view.along), np.eye(2), atol=1e-12)
        self.assertTrue(view.slanted)
        self.assertFalse(foreshortening.view_of(np.eye(3), np.zeros(2)).slanted)
        self.assertTrue(foreshortening.view_of(np.diag([1.0, 0.05, 1]), np.zeros(2)).edge_on)

    def test_paths_bring_both_pictures_to_the_same_footprint(self) -> None:
        # variances of pixel footprints add up: what a path adds to the finer picture is the difference
        own = foreshortening.view_of(np.diag([1.0, 0.4, 1]), np.zeros(2))
        tiles, picture = foreshortening.paths(own, 0, 0)
        assert tiles is not None
        self.assertIsNone(picture)
        spread = (tiles[:, 0] ** 2).mean(0)
        np.testing.assert_allclose(spread, [0, 0.64 * (1 / 0.4 ** 2 - 1)], atol=1e-9)
        larger = foreshortening.view_of(np.diag([3.0, 1.0, 1]), np.zeros(2))
        tiles, picture = foreshortening.paths(larger, 0, 0)
        assert picture is not None
        self.assertIsNone(tiles)
        np.testing.assert_allclose((picture[:, 0] ** 2).mean(0), [0.64 * (1 - 1 / 9), 0], atol=1e-9)
        tiles, picture = foreshortening.paths(own, 1, 0)  # coarser than the picture one way, finer the other
        assert tiles is not None and picture is not None
        np.testing.assert_allclose((tiles[:, 0] ** 2).mean(0), [0, 0.64 * (1 / 0.4 ** 2 - 4)], atol=1e-9)
        np.testing.assert_allclose((picture[:, 0] ** 2).mean(0), [0.64 * (4 - 1), 0], atol=1e-9)


if __name__ == "__main__":
    unittest.main()
