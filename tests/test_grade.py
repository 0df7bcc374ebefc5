"""A grade: ASC CDL by its published formulas, against OpenColorIO, and inside mattes alone."""

import tempfile
import unittest
from pathlib import Path

import cv2
import numpy as np
import PyOpenColorIO as ocio

import wertis
from tests.scenes import texture
from wertis.core.comp.grade import cdl, graded
from wertis.core.errors import WertisError


class CdlTest(unittest.TestCase):
    def test_it_is_what_opencolorio_makes_of_it(self) -> None:
        """OpenColorIO's CDLTransform, in the style that does not clamp above 1 (ASC CDL 1.2 with highlights kept)."""
        rng = np.random.default_rng(3)
        picture = rng.uniform(0, 1.6, (40, 50, 3)).astype(np.float32)
        for slope, offset, power, saturation in (((1.1, 0.9, 1.3), (0.02, -0.05, 0.1), (1.2, 0.8, 1.0), 0.7), ((1, 1, 1), (0, 0, 0), (1, 1, 1), 1.4)):
            transform = ocio.CDLTransform()
            transform.setSlope(list(map(float, slope)))
            transform.setOffset(list(map(float, offset)))
            transform.setPower(list(map(float, power)))
            transform.setSat(saturation)
            transform.setStyle(ocio.CDL_NO_CLAMP)
            processor = ocio.Config.CreateRaw().getProcessor(transform).getDefaultCPUProcessor()
            wanted = picture.copy()
            processor.applyRGB(wanted)
            inside = (picture * np.array(slope) + np.array(offset) > 0).all(-1)
            np.testing.assert_allclose(cdl(picture, slope, offset, power, saturation)[inside], wanted[inside], atol=2e-4)

    def test_worked_by_hand(self) -> None:
        """0.5 x 1.2 + 0.1 = 0.7; squared, 0.49. Saturation 0 leaves the luma of Rec. 709: 0.2126 R + 0.7152 G + 0.0722 B."""
        np.testing.assert_allclose(cdl(np.full((1, 1, 3), 0.5, np.float32), (1.2,) * 3, (0.1,) * 3, (2,) * 3), 0.49, atol=1e-6)
        grey = cdl(np.array([[[1.0, 0.5, 0.25]]], np.float32), (1,) * 3, (0,) * 3, (1,) * 3, 0.0)
        np.testing.assert_allclose(grey, 0.2126 + 0.3576 + 0.01805, atol=1e-6)
        np.testing.assert_allclose(graded(np.full((1, 1, 3), 0.2, np.float32), 1.0, (1,) * 3, (0,) * 3, (1,) * 3, 1.0, 0.0), 0.4, atol=1e-6)
        self.assertEqual(float(cdl(np.full((1, 1, 3), 0.1, np.float32), (1,) * 3, (-0.5,) * 3, (0.5,) * 3).max()), 0)


class GradeInShotTest(unittest.TestCase):
    def setUp(self) -> None:
        made = tempfile.TemporaryDirectory()
        self.addCleanup(made.cleanup)
        folder = Path(made.name) / "plate"
        folder.mkdir()
        for k in (1, 2):
            cv2.imwrite(str(folder / f"p.{k:04d}.png"), texture(size=(200, 120)))
        self.shot = wertis.open(folder)
        self.wall = self.shot.add([[10, 10], [190, 10], [190, 110], [10, 110]], 1, "Wall")

    def test_inside_a_matte_and_nowhere_else(self) -> None:
        plate = self.shot.plate.read(1)
        eye = self.shot.matte([(60, 30), (120, 30), (120, 90), (60, 90)], 1, self.wall, "Eye", roundness=0)
        grade = self.wall.grade([eye], exposure=0.5, saturation=0.4)
        comp = self.shot.frame(1)
        outside = eye.alpha(1) == 0
        np.testing.assert_array_equal(comp[outside], plate[outside])
        wanted = np.clip(graded(plate / np.float32(255), 0.5, (1,) * 3, (0,) * 3, (1,) * 3, 0.4, 0), 0, 1) * 255
        np.testing.assert_allclose(comp[40:80, 70:110], wanted[40:80, 70:110], atol=0.51)
        grade.change(opacity=0.0)
        np.testing.assert_array_equal(self.shot.frame(1), plate)
        grade.change(opacity=1.0, exposure=0.0, saturation=1.0, blur=3.0)
        self.assertLess(self.shot.frame(1)[40:80, 70:110].std(), plate[40:80, 70:110].std())
        with self.assertRaisesRegex(WertisError, "power"):
            grade.change(power=(0, 1, 1))

    def test_it_goes_with_its_track(self) -> None:
        self.wall.grade(exposure=1.0)
        plate = self.shot.plate.read(1)
        self.assertTrue((self.shot.frame(1) != plate).any())
        hidden = self.shot.document.with_track(self.wall.record.but(visible=False))
        self.shot._do("Hide", hidden)
        np.testing.assert_array_equal(self.shot.frame(1), plate)

    def test_it_works_on_what_lies_beneath_it(self) -> None:
        self.wall.place("checker", [[40, 20], [160, 20], [160, 100], [40, 100]], 1)
        before = self.shot.frame(1).astype(float)
        self.wall.grade(slope=(0.5, 0.5, 0.5))
        np.testing.assert_allclose(self.shot.frame(1), before / 2, atol=0.51)
        self.wall.place("checker", [[40, 20], [160, 20], [160, 100], [40, 100]], 1)
        np.testing.assert_allclose(self.shot.frame(1)[40:80, 60:140], before[40:80, 60:140], atol=1)


if __name__ == "__main__":
    unittest.main()
