"""What goes out, as other libraries take it: OpenUSD's own validators, and SVG by Qt's renderer and svgelements."""

import shutil
import tempfile
import unittest
from pathlib import Path

import numpy as np
import svgelements
from pxr import Usd, UsdValidation
from PySide6.QtCore import QRectF
from PySide6.QtGui import QGuiApplication, QImage, QPainter
from PySide6.QtSvg import QSvgRenderer

from tests.test_camera import solved
from tests.test_exchange import SIZE, Case
from tests.test_import import bent_mesh
from wertis.core.exchange import animated_mesh, camera_usd


class UsdTest(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder)

    def assert_valid(self, path: Path) -> None:
        registry = UsdValidation.ValidationRegistry()
        validators = registry.GetOrLoadAllValidators()
        self.assertGreater(len(validators), 15)
        stage = Usd.Stage.Open(str(path))
        found = UsdValidation.ValidationContext(validators).Validate(stage)
        self.assertEqual([f"{e.GetName()}: {e.GetMessage()}" for e in found], [])

    def test_a_mesh_passes_all_validators(self) -> None:
        for suffix in (".usda", ".usdc", ".usd"):
            path = self.folder / f"mesh{suffix}"
            animated_mesh.write_usd(path, bent_mesh())
            self.assert_valid(path)

    def test_a_camera_passes_all_validators(self) -> None:
        path = self.folder / "camera.usda"
        quad = np.array([[0.0, 0, 4], [1, 0, 4], [1, 1, 4], [0, 1, 4]])
        camera_usd.write_camera_usd(path, solved(), 24, {"Wall": quad})
        self.assert_valid(path)


class SvgTest(Case):
    def setUp(self) -> None:
        super().setUp()
        self.app = QGuiApplication.instance() or QGuiApplication([])
        self.matte = self.shot.matte(np.array([(80.0, 60), (200, 70), (190, 170), (90, 160)]), 1001, self.wall, "Piece")
        self.matte.export(self.folder / "piece.####.svg")

    def test_a_renderer_fills_what_wertis_fills(self) -> None:
        renderer = QSvgRenderer(str(self.folder / "piece.1004.svg"))
        self.assertTrue(renderer.isValid())
        image = QImage(*SIZE, QImage.Format.Format_Grayscale8)
        image.fill(0)
        painter = QPainter(image)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        renderer.render(painter, QRectF(0, 0, *SIZE))
        painter.end()
        seen = np.frombuffer(image.constBits(), np.uint8).reshape(SIZE[1], image.bytesPerLine())[:, :SIZE[0]].astype(float)
        ours = 255 * self.matte.alpha(1004)
        self.assertGreater(float(ours.mean()), 20)
        self.assertLess(float(np.abs(seen - ours).mean()), 0.3)
        self.assertLess(float(np.abs(seen - ours).max()), 40)  # its edges are in steps

    def test_another_parser_finds_the_same_curves(self) -> None:
        found = [e for e in svgelements.SVG.parse(str(self.folder / "piece.1004.svg")).elements() if isinstance(e, svgelements.Path)]
        self.assertEqual(len(found), 1)
        curves = [s for s in found[0] if isinstance(s, svgelements.CubicBezier)]
        self.assertEqual(len(curves), 4)
        points = self.matte.points(1004)
        np.testing.assert_allclose([[c.start.x, c.start.y] for c in curves], points, atol=1e-3)
        self.assertTrue(np.isfinite(found[0].length()))


del Case

if __name__ == "__main__":
    unittest.main()
