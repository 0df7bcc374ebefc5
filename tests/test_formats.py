"""docs/formats.md: the readers on it read the files that Wertis writes, and say what is in them."""

import contextlib
import io
import json
import os
import re
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import numpy as np

import wertis
from tests.test_camera import SIZE as CAMERA_SIZE
from tests.test_camera import solved
from tests.test_exchange import QUAD, Case, moved
from tests.test_import import TRIANGLES, bent, bent_mesh
from wertis.cli.main import main
from wertis.core.exchange import animated_mesh, camera_json, gltf
from wertis.core.exchange.pictures import write_picture
from wertis.core.geometry import homography
from wertis.core.jobs.export import export_camera

PAGE = Path(__file__).parents[1] / "docs" / "formats.md"


class ReadersTest(Case):
    """Each reader is run as it stands, in a folder with the files that it names; what it prints is held against what is known."""

    def setUp(self) -> None:
        super().setUp()
        self.readers = {re.search(r'(?:open|Open|parse|ZipFile)\("([^"]+)"', code).group(1): code  # type: ignore[union-attr]
                        for code in re.findall(r"```python\n(.*?)```", PAGE.read_text(), re.DOTALL)}

    def said(self, name: str) -> str:
        """What the reader of a file prints."""
        self.assertTrue((self.folder / name).is_file(), name)
        code = self.readers.pop(name)
        self.assertLessEqual(len(code.splitlines()), 12, name)
        ran = subprocess.run([sys.executable, "-c", code], cwd=self.folder, capture_output=True, text=True, check=False)
        self.assertEqual(ran.returncode, 0, f"{name}: {ran.stderr}")
        return ran.stdout

    def numbers(self, text: str) -> list[float]:
        return [float(v) for v in re.findall(r"-?\d+\.?\d*(?:e-?\d+)?", text)]

    def test_all_of_them(self) -> None:
        there = homography.apply(moved(1004), QUAD)
        export = self.wall.export_motion
        # corners, matrices, points, pins
        export(self.folder / "corners.csv", "corners", self.graphic)
        self.assertIn(f"{there[0, 0]:.4f}"[:-1], self.said("corners.csv"))
        export(self.folder / "matrices.json", "matrices")
        at = homography.apply(moved(1004), np.array([[100.0, 80]]))[0]
        line = next(x for x in self.said("matrices.json").splitlines() if "is on 1004" in x)
        np.testing.assert_allclose(self.numbers(line)[-2:], at, atol=1e-4)
        export(self.folder / "points.txt", "points", self.graphic)
        self.assertIn("# point 3", self.said("points.txt"))
        self.wall.export(self.folder / "pin.json", self.graphic)
        self.wall.export(self.folder / "pin.csv", self.graphic)
        for name in ("pin.json", "pin.csv"):
            line = next(x for x in self.said(name).splitlines() if x.startswith("1004"))
            np.testing.assert_allclose(self.numbers(line)[1:], there.ravel(), atol=1e-3)
        # maps and vectors
        export(self.folder / "map.####.exr", "inverse map")
        here = homography.apply(moved(1004), np.array([[150.5, 120.5]]))[0]
        np.testing.assert_allclose(self.numbers(self.said("map.1004.exr"))[-2:], here, atol=1e-2)
        export(self.folder / "vectors.####.exr", "vectors")
        self.assertIn("backward.v", self.said("vectors.1004.exr"))
        self.shot.import_motion(self.folder / "map.####.exr", "Maps", folder=self.folder)
        np.testing.assert_allclose(self.numbers(self.said("to.1004.exr"))[3:5], here, atol=1e-2)
        # meshes
        mesh = bent_mesh()
        animated_mesh.write_json(self.folder / "mesh.json", mesh)
        animated_mesh.write_usd(self.folder / "mesh.usd", mesh)
        animated_mesh.write_obj(self.folder / "mesh.####.obj", mesh)
        gltf.write_mesh(self.folder / "mesh.glb", mesh)
        animated_mesh.write_csv(self.folder / "mesh.csv", mesh)
        x, y = bent(1004)[0]
        for name, up in (("mesh.json", y), ("mesh.usd", mesh.size[1] - y), ("mesh.glb", mesh.size[1] - y)):
            line = next(row for row in self.said(name).splitlines() if row.startswith("1004"))
            np.testing.assert_allclose([v for v in self.numbers(line) if v != 1004][-3 if "json" not in name else -2:][:2], [x, up], atol=1e-3)
        self.assertIn(f"{len(TRIANGLES)} triangles", self.said("mesh.1004.obj"))
        self.assertIn(f"1004 vertex 0 is at {x:.5f} {y:.5f}", self.said("mesh.csv"))
        # mattes
        matte = self.shot.matte(np.array([(80.0, 60), (200, 70), (190, 170)]), 1001, self.wall, "Docker")
        for name in ("docker.json", "docker.csv", "docker.####.svg"):
            matte.export(self.folder / name)
        corner = homography.apply(moved(1004), np.array([[80.0, 60]]))[0]
        for name in ("docker.json", "docker.csv", "docker.1004.svg"):
            text = self.said(name)
            line = next((row for row in text.splitlines() if " 1004 " in row), text.splitlines()[0])
            np.testing.assert_allclose(self.numbers(line)[-2:], corner, atol=1e-3)
        matte.render(self.folder / "matte.####.exr", frames=[1004], parts=True)
        self.assertIn("Docker.A", self.said("matte.1004.exr"))
        # the shot and what is told of it
        self.shot.save(self.folder / "shot.wertis")
        self.assertIn("Wall 1001", self.said("shot.wertis"))
        self.shot.export_data(self.folder / "everything.json")
        self.assertRegex(self.said("everything.json"), r"(?s)\[321, 241\] False.*art is on frames \[1001, 1002, 1003\]")
        self.shot.write_clip(self.folder / "clip.otio", self.folder / "out" / "c.####.png")
        self.assertIn("c.", self.said("clip.otio"))
        patch = self.wall.take_out(1001, QUAD)
        with contextlib.redirect_stdout(io.StringIO()):
            saved = str(self.shot.save(self.folder / "shot.wertis"))
            self.assertEqual(main(["patch", saved, "--of", patch.name, "--write", str(self.folder / "flat.tif")]), 0)
            self.assertEqual(main(["track", str(self.folder / "p.####.png"), "--start", "1001", "--model", "points", "--points", self._csv(),
                                   "--out", str(self.folder / "followed.csv"), "--quiet"]), 0)
            main(["check", saved, "--track", "Wall", "--csv", str(self.folder / "drift.csv"), "--quiet"])
        self.assertRegex(self.said("flat.json"), r"1001 \[\[70\.0, 50\.0\]")
        self.assertRegex(self.said("followed.csv"), r"\{'a': 7")
        self.assertIn("1004 worst", self.said("drift.csv"))
        self._camera()
        (self.folder / "report.json").write_text(json.dumps(self._report()))
        self.assertIn("quay_010 done", self.said("report.json"))
        self.assertEqual(list(self.readers), [], "every reader was run")

    def _csv(self) -> str:
        (self.folder / "in.csv").write_text("id,x,y\na,120,90\n")
        return str(self.folder / "in.csv")

    def _camera(self) -> None:
        camera_json.write_camera(self.folder / "camera.json", solved())
        lines = self.said("camera.json").splitlines()
        seen = solved().project(solved().points[:1], 12)[0]
        np.testing.assert_allclose(self.numbers(next(x for x in lines if x.startswith("12 ")))[1:], seen, atol=1e-4)
        with tempfile.TemporaryDirectory() as name:
            for f in (1, 2, 3):
                write_picture(Path(name) / f"p.{f:04d}.png", np.zeros((CAMERA_SIZE[1], CAMERA_SIZE[0], 3), np.uint8))
            shot = wertis.open(name)
            shot.import_motion(self.folder / "camera.json")
            export_camera(shot.document, self.folder / "camera.glb")
        self.assertIn("[1, 2, 3]", self.said("camera.glb"))

    def _report(self) -> dict:
        """A report as a list of one shot leaves it."""
        out = self.folder / "night"
        (self.folder / "list.toml").write_text(f'''out = "{out}"
[[shots]]
name = "quay_010"
plate = "{self.folder}/p.####.png"
start = 1001
region = {QUAD.tolist()}
check = false
''')
        before = Path.cwd()
        with contextlib.redirect_stdout(io.StringIO()):
            main(["run", str(self.folder / "list.toml")])
        self.assertEqual(Path.cwd(), before)
        return json.loads((out / "report.json").read_text())


del Case

if __name__ == "__main__":
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    unittest.main()
