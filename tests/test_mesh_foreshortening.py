"""Where a surface turns away, the reference frame is averaged as the frame's pixels average it."""

import unittest
from unittest.mock import patch

import cv2
import numpy as np

from tests.scenes import texture
from wertis.core.geometry.bspline import Lattice
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.track.mesh import blur
from wertis.core.track.mesh.alignment import MeshAlignment
from wertis.core.track.mesh.blur import footprint
from wertis.core.track.mesh.equations import Linearisation
from wertis.core.track.mesh.reference import MeshReference

SIZE = (360, 260)
NARROW = 0.4  # of its width, that a turned surface has


def turned(degrees: float, across: float) -> np.ndarray:
    """A map's derivatives: `across` times as long in a direction at an angle to the x axis, as it is across that."""
    c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
    axes = np.array([[c, -s], [s, c]])
    return axes @ np.diag([across, 1.0]) @ axes.T


class FootprintTest(unittest.TestCase):
    def test_what_faces_the_camera_or_comes_nearer_is_not_averaged(self) -> None:
        for across in (0.8, 1.0, 2.0):
            self.assertFalse(footprint(turned(20, across)[None], 1.0).any())

    def test_it_lies_where_the_surface_is_foreshortened_and_has_the_variance_by_which_the_pixels_differ(self) -> None:
        for degrees in (0, 30, 90, 140):
            line = footprint(turned(degrees, 0.5)[None], 1.0)[0]
            along = np.array([np.cos(np.radians(degrees)), np.sin(np.radians(degrees))])
            self.assertAlmostEqual(abs(line @ along), np.linalg.norm(line), places=6)
            # a pixel's box and smoothing, twice as wide, less those of the reference's own; a line of length L has the variance L^2 / 12
            self.assertAlmostEqual(line @ line / 12, (0.75 ** 2 + 1 / 12) * (2 ** 2 - 1), places=6)

    def test_a_coarser_level_has_it_in_its_own_pixels(self) -> None:
        fine, coarse = (footprint(turned(0, 0.5)[None], pixel)[0] for pixel in (1.0, 4.0))
        np.testing.assert_allclose(coarse, 4 * fine)

    def test_lines_in_one_direction_add_their_variances(self) -> None:
        both = blur._both(np.array([[3.0, 0], [0, 2], [5, 5]]), np.array([[4.0, 0], [0, 0], [5, -5]]))
        np.testing.assert_allclose(np.linalg.norm(both, axis=1)[:2], [5, 2])
        self.assertAlmostEqual(np.linalg.norm(both[2]), np.sqrt(50))


class TurnedSurfaceTest(unittest.TestCase):
    """A picture on a wall, and the wall turned so that it is two fifths as wide, as a camera averages it."""

    @classmethod
    def setUpClass(cls) -> None:
        wall = cv2.cvtColor(texture("coffee", (4 * SIZE[0], 4 * SIZE[1])), cv2.COLOR_BGR2GRAY).astype(np.float32)
        wall += 25 * cv2.GaussianBlur(np.random.default_rng(3).normal(0, 1, wall.shape).astype(np.float32), (0, 0), 4) * 8
        reference = cv2.resize(wall, SIZE, interpolation=cv2.INTER_AREA)
        cls.frame = np.full_like(reference, 128)
        narrow = round(NARROW * SIZE[0])
        cls.frame[:, :narrow] = cv2.resize(wall, (narrow, SIZE[1]), interpolation=cv2.INTER_AREA)
        mask = np.zeros(reference.shape, np.uint8)
        mask[20:-20, 20:-20] = 255
        lattice = Lattice.over(np.array([[20.0, 20], [SIZE[0] - 20, SIZE[1] - 20]]), 40)
        cls.alignment = MeshAlignment(MeshReference(Pyramid(reference), mask), lattice, None)
        share = narrow / SIZE[0]
        # pixel centres at whole numbers: the left edge stays at -0.5
        cls.values = np.stack([(lattice.identity[..., 0] + 0.5) * share - 0.5, lattice.identity[..., 1]], axis=-1)

    def _looked(self, averaged: bool) -> Linearisation:
        self.alignment.blur.forget_tiles()
        if averaged:
            return self.alignment.linearise(Pyramid(self.frame), 0, self.values)
        with patch.object(blur, "footprint", lambda jacobian, pixel: np.zeros((len(jacobian), 2))):
            return self.alignment.linearise(Pyramid(self.frame), 0, self.values)

    def test_averaged_it_has_the_frames_contrast_and_matches(self) -> None:
        plain, averaged = self._looked(False), self._looked(True)
        self.assertLess(np.median(plain.measured.gain), 0.85)
        self.assertGreater(np.median(averaged.measured.gain), 0.93)
        self.assertLess(np.median(averaged.measured.gain), 1.07)
        misfit = [np.median(look.measured.variance / look.measured.gain ** 2) for look in (plain, averaged)]
        self.assertLess(misfit[1], 0.5 * misfit[0])
        self.assertGreater(np.median(averaged.measured.likeness), np.median(plain.measured.likeness))

    def test_it_still_lies_where_it_is(self) -> None:
        look = self._looked(True)
        xx, xy, yy = look.information.sum(0)
        found = np.linalg.solve([[xx, xy], [xy, yy]], look.pull.sum(0))
        self.assertLess(np.linalg.norm(found), 0.03)


if __name__ == "__main__":
    unittest.main()
