"""Meshes, shapes and cameras in a receiver's coordinates, size and frame numbers: out and in again, and through the receiver."""

import io
import json
import shutil
import tempfile
import unittest
from contextlib import redirect_stdout
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np
import trimesh
from PySide6.QtWidgets import QFileDialog

import wertis
from tests.test_camera import SIZE as CAMERA_SIZE
from tests.test_camera import solved
from tests.test_exchange import FRAMES, LAYOUTS, SIZE, Case
from tests.test_import import TRIANGLES, VERTICES, bent, bent_mesh
from tests.test_window import WindowCase
from wertis.cli.main import main
from wertis.core.errors import DeliverError, WertisError
from wertis.core.exchange import animated_mesh, camera_json, gltf
from wertis.core.exchange.layout import Layout, OtherSize
from wertis.core.exchange.pictures import write_picture
from wertis.core.geometry.camera import ScenePlane
from wertis.core.shot import matte_edits
from wertis.core.shot.camera_world import points_at
from wertis.core.shot.cameras import set_plane
from wertis.core.shot.document import Region, Track
from wertis.core.shot.edits import as_points
from wertis.core.shot.meshes import MeshSolution
from wertis.scripting.camera import Camera

INNER = [(90, 75), (210, 80), (205, 160), (95, 165)]


class MeshTest(Case):
    def setUp(self) -> None:
        super().setUp()
        gltf.write_mesh(self.folder / "m.glb", bent_mesh())
        self.cloth = self.shot.import_motion(self.folder / "m.glb")

    def test_out_and_in_again_in_every_layout(self) -> None:
        for suffix in (".json", ".csv", ".usd", ".glb", ".obj"):
            for k, options in enumerate(LAYOUTS):
                path = self.folder / f"{k}" / ("m.####.obj" if suffix == ".obj" else f"m{suffix}")
                path.parent.mkdir(exist_ok=True)
                self.assertEqual(self.cloth.export_mesh(path, **options), len(FRAMES))
                solution = self.shot.import_motion(path).record.solution
                assert isinstance(solution, MeshSolution)
                self.assertEqual((solution.reference, solution.frames.tolist()), (1001, list(FRAMES)), (suffix, options))
                for at, frame in zip(solution.places, FRAMES, strict=True):
                    np.testing.assert_allclose(at[:len(VERTICES)], bent(frame), atol=1e-3, err_msg=f"{suffix} {options}")

    def test_numbers_are_the_receivers(self) -> None:
        """Frame 1004 as 3; y up in a picture of three times the size, the first pixel's centre at 0: by hand from the layout's definition."""
        options = {"y_up": True, "centre": "zero", "receiver": (963, 723), "first": 0}
        x, y = bent(1004)[2]
        self.cloth.export_mesh(self.folder / "m.csv", **options)
        row = next(line for line in (self.folder / "m.csv").read_text().splitlines() if line.startswith("3,2,"))
        np.testing.assert_allclose([float(v) for v in row.split(",")[2:4]], [3 * x - 0.5, 723 - 3 * y - 0.5], atol=1e-3)
        self.cloth.export_mesh(self.folder / "m.####.obj", **options)  # always pixels, y up, from the corner itself
        mesh = trimesh.load(self.folder / "m.0003.obj", process=False)
        np.testing.assert_allclose(np.asarray(mesh.vertices)[2, :2], [3 * x, 723 - 3 * y], atol=1e-3)
        with redirect_stdout(io.StringIO()):
            saved = str(self.shot.save(self.folder / "s.wertis"))
            self.assertEqual(main(["export", saved, "--track", self.cloth.name, "--what", "mesh", "--out", str(self.folder / "m.json"), "--y", "up",
                                   "--units", "unit"]), 0)
        there = json.loads((self.folder / "m.json").read_text())["frames"]["1004"]["places"][2]
        np.testing.assert_allclose(there, [x / SIZE[0], 1 - y / SIZE[1]], atol=1e-6)

    def test_it_arrives_whatever_the_layout(self) -> None:
        placed = self.cloth.place(self.folder / "art.png", INNER, 1001, fit="stretch")
        for suffix, options in ((".json", LAYOUTS[3]), (".json", LAYOUTS[4]), (".usd", LAYOUTS[5]), (".glb", LAYOUTS[6]), (".obj", LAYOUTS[6])):
            proof = self.cloth.prove(placed, "mesh", suffix, [1001, 1006], **options)
            self.assertEqual((proof.wrong, len(proof.frames)), ("", 2))
            for frame in proof.frames:
                self.assertLess(frame.corners, 0.01, f"{suffix} {options}")
                self.assertLess(frame.difference, 2.0 if suffix != ".json" else 20.0)  # JSON holds the track's own vertices alone

    def test_damaged_tables_are_refused(self) -> None:
        self.cloth.export_mesh(self.folder / "m.csv")
        text = (self.folder / "m.csv").read_text()
        for broken in (text.replace("# layout {", "# layout ["), text.replace("# reference frame 1", "# reference frame x"), text[:len(text) // 2 - 60],
                       text.replace(",0.1", ",x", 1), "\n".join(text.splitlines()[:5])):
            (self.folder / "broken.csv").write_text(broken)
            with self.assertRaises(WertisError):
                self.shot.import_motion(self.folder / "broken.csv")


class ShapesTest(Case):
    def setUp(self) -> None:
        super().setUp()
        self.matte = self.shot.matte(np.array([(80.0, 60), (200, 70), (190, 170), (90, 160)]), 1001, self.wall, "Piece")
        self.matte.add(np.array([(120.0, 100), (160, 100), (150, 140)]), 1001, roundness=0.0, soft=6.0, combine="subtract")
        self.matte.handles(self.matte.shapes[0])

    def test_out_and_in_again_in_every_layout(self) -> None:
        for suffix in (".json", ".csv", ".svg"):
            for options in LAYOUTS:
                self.matte.export(self.folder / f"s{suffix}", **options)
                back = self.shot.matte(carried_by=self.wall, name="Back").read(self.folder / f"s{suffix}")
                np.testing.assert_allclose(np.mean(back.record.shapes[1].outer), np.mean(self.matte.record.shapes[1].outer), rtol=1e-4)
                for frame in (1001, 1004, 1007):
                    off = np.abs(back.alpha(frame) - self.matte.alpha(frame))
                    self.assertLess(off.max(), 2e-3, f"{suffix} {options}")

    def test_they_arrive_whatever_the_layout(self) -> None:
        for suffix in (".json", ".csv", ".svg"):
            for options in LAYOUTS[3:]:
                proof = self.matte.prove(suffix, [1001, 1007], **options)
                self.assertEqual((proof.wrong, len(proof.frames)), ("", 2))
                for frame in proof.frames:
                    self.assertLess(frame.corners, 0.01, f"{suffix} {options}")
                    self.assertLess(frame.difference, 1.0)

    def test_another_size_is_told_and_scaled_when_asked(self) -> None:
        self.matte.export(self.folder / "s.json")
        (self.folder / "half").mkdir()
        for f in FRAMES:
            write_picture(self.folder / "half" / f"h.{f:04d}.png", np.zeros((482, 642, 3), np.uint8))
        shot = wertis.open(self.folder / "half")
        matte = shot.matte(name="Theirs")
        with self.assertRaisesRegex(OtherSize, "321 x 241.*642 x 482"):
            matte.read(self.folder / "s.json")
        self.assertEqual(len(matte.record.shapes), 0)
        saved = str(shot.save(self.folder / "half.wertis"))
        call = ["import", saved, str(self.folder / "s.json"), "--of", "Piece"]
        with redirect_stdout(io.StringIO()) as said:
            self.assertNotEqual(main(call), 0)
            self.assertEqual(main([*call, "--scaled"]), 0)
        self.assertIn("Piece has 2 shapes more", said.getvalue())
        theirs = wertis.open(saved).matte_named("Piece")
        self.assertAlmostEqual(float(theirs.alpha(1001).sum()) / float(self.matte.alpha(1001).sum()), 4.0, delta=0.02)


class CameraTest(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder)
        self.camera = replace(solved(), principal=np.array([330.0, 190]), radial=(-0.08, 0.01))
        (self.folder / "plate").mkdir()
        rng = np.random.default_rng(4)
        for f in range(1, 5):
            write_picture(self.folder / "plate" / f"p.{f:04d}.png", rng.integers(0, 90, (CAMERA_SIZE[1], CAMERA_SIZE[0], 3)).astype(np.uint8))
        self.shot = wertis.open(self.folder / "plate")
        camera_json.write_camera(self.folder / "c.json", self.camera)
        self.shot.import_motion(self.folder / "c.json")
        # a plane across the sight, a little turned
        eye, rays = self.camera.rays(np.array([[320.0, 200]]), 1)
        depth = float(np.median((self.camera.points - eye) @ (rays[0] / np.linalg.norm(rays[0]))))
        normal = -rays[0] / np.linalg.norm(rays[0]) + np.array([0.3, 0.2, 0])
        track = Track(name="Wall", region=Region(frame=1, points=as_points(np.array([[220.0, 120], [430, 120], [430, 290], [220, 290]]))))
        document = self.shot.document.with_track(track)
        plane = ScenePlane(eye + rays[0] / np.linalg.norm(rays[0]) * depth, normal / np.linalg.norm(normal), 0.1)
        self.shot._do("Plane", set_plane(document, track.id, plane))
        self.wall = self.shot.surface("Wall")

    def test_it_arrives_through_the_lens_from_every_format(self) -> None:
        """The receiver projects the plane with the file's numbers alone: corners within a hundredth of a pixel."""
        other_size = {"receiver": (CAMERA_SIZE[0] * 2, CAMERA_SIZE[1] * 2), "first": 0, "y_up": True}
        each = {".json": ({}, {"first": 101}, other_size), ".usd": ({"first": 101}, other_size), ".glb": (other_size,), ".gltf": ({},)}
        for suffix, layouts in each.items():
            for options in layouts:
                proof = self.shot.camera.prove(self.wall, suffix, [1, 3], **options)
                self.assertEqual((proof.wrong, len(proof.frames)), ("", 2))
                for frame in proof.frames:
                    self.assertLess(frame.corners, 0.01, f"{suffix} {options}")
                    self.assertLess(frame.difference, 6.0)  # a checker, whose edges two ways of filtering draw apart
        saved = str(self.shot.save(self.folder / "s.wertis"))
        with redirect_stdout(io.StringIO()) as said:
            self.assertEqual(main(["prove", saved, "--track", "Wall", "--what", "camera", "--format", "usd", "--frames", "2", "--first", "77"]), 0)
        self.assertRegex(said.getvalue(), "frame 2: corners off by 0.00.*\nIt arrives")
        other = self.shot.add(np.array([[10.0, 10], [90, 10], [90, 90], [10, 90]]), 1, "Other")
        with self.assertRaisesRegex(DeliverError, "Other lies on no plane"):
            self.shot.camera.prove(other)

    def test_the_world_is_set_from_points_and_nothing_moves_in_the_picture(self) -> None:
        before = {f: self.wall.follow(np.array([[250.0, 150], [400, 270]]), 1)[f] for f in (1, 2, 4)}
        record, (numbers, places) = self.shot.document.camera, self.shot.document.camera.seen_on(1)
        seen_before = self.camera.project(self.camera.points[numbers], 12)
        far = int(np.linalg.norm(places - places[0], axis=1).argmax())
        camera = self.shot.camera.set_distance([places[0], places[far]], 1, 3.2)
        now = self.shot.document.camera
        self.assertAlmostEqual(float(np.linalg.norm(now.points[numbers[0]] - now.points[numbers[far]])), 3.2, places=6)
        flat = places[:: max(len(places) // 8, 1)]
        camera = self.shot.camera.set_ground(flat, 1)
        now = self.shot.document.camera
        there = now.points[points_at(self.shot.document, flat, 1)]
        self.assertLess(np.abs(np.median(there[:, 1])), 0.6)  # the points lie in space; most of them are on the plane
        np.testing.assert_allclose(camera.solved.project(now.points[numbers], 12), seen_before, atol=1e-6)
        for frame, at in before.items():
            np.testing.assert_allclose(self.wall.follow(np.array([[250.0, 150], [400, 270]]), 1)[frame], at, atol=1e-6)
        for frame, pose in camera.solved.poses.items():
            np.testing.assert_allclose(pose[:, :3] @ pose[:, :3].T, np.eye(3), atol=1e-9, err_msg=str(frame))
            self.assertAlmostEqual(float(np.linalg.det(pose[:, :3])), 1.0)
        eye = -camera.solved.poses[1][:, :3].T @ camera.solved.poses[1][:, 3]
        self.assertLess(eye[1], 0, "the camera is above the ground, y being down")
        self.assertEqual(self.shot.camera.prove(self.wall, ".usd", [1, 3]).wrong, "")
        self.shot.undo()
        self.shot.undo()
        np.testing.assert_array_equal(self.shot.document.camera.points, record.points)
        for call in (lambda: self.shot.camera.set_ground(flat[:2], 1), lambda: self.shot.camera.set_distance([places[0], places[0]], 1, 2),
                     lambda: self.shot.camera.set_distance([places[0], places[far]], 1, -1),
                     lambda: self.shot.camera.set_distance([(-500, 0), (1, 1)], 1, 2)):
            with self.assertRaises(WertisError):
                call()

    def test_frames_and_size_come_back(self) -> None:
        for suffix in (".json", ".usda", ".glb"):
            self.shot.camera.save(self.folder / f"out{suffix}", first=1001, receiver=(CAMERA_SIZE[0] // 2, CAMERA_SIZE[1] // 2))
            with self.assertRaises(OtherSize):
                self.shot.import_motion(self.folder / f"out{suffix}")
            found = self.shot.import_motion(self.folder / f"out{suffix}", scaled=True)
            assert isinstance(found, Camera)
            for frame in (1, 12, 24):
                np.testing.assert_allclose(found.solved.project(self.camera.points[:40], frame), self.camera.project(self.camera.points[:40], frame),
                                           atol=0.02, err_msg=suffix)
        with self.assertRaisesRegex(DeliverError, "proportions"):
            self.shot.camera.save(self.folder / "no.json", receiver=(CAMERA_SIZE[0], CAMERA_SIZE[1] // 2))


class WindowTest(WindowCase):
    def test_shapes_and_meshes_go_out_as_the_page_says(self) -> None:
        w, s = self.window, self.window.session
        w.open_path(self.plate)
        self.until(lambda: w.viewer.picture is not None)
        step, size = w.steps["Deliver"], s.plate.size
        mesh = replace(bent_mesh(size), reference=1001, places={f: VERTICES + f - 1001 for f in range(1001, 1009)}, vertices=VERTICES, triangles=TRIANGLES)
        gltf.write_mesh(self.folder / "cloth.glb", mesh)
        step.import_motion(str(self.folder / "cloth.glb"))
        shape = matte_edits.new_shape(np.array([(80.0, 60), (200, 70), (150, 170)]), 1001)
        document, matte = matte_edits.add_matte(s.shot, s.track, 1001, "Sailor", (shape,))
        w.bench.edit("Draw", lambda: document)
        s.go_step("Deliver")
        page = step.page
        page.part.button(1).click()
        page.motion.axis.setCurrentIndex(page.motion.axis.findData("up"))
        page.motion.first.setValue(5)
        page.part.button(2).click()
        self.spin()
        self.assertIn("y up", page.layout_words.text())
        self.assertEqual(page.shapes_of.currentText(), "Sailor")
        page.shapes_format.setCurrentIndex(page.shapes_format.findData(".json"))
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(self.folder / "sailor.json"), "")):
            page.shapes_button.click()
        body = json.loads((self.folder / "sailor.json").read_text())
        np.testing.assert_allclose(body["shapes"][0]["frames"]["5"][0], [80, size[1] - 60], atol=1e-3)
        page.mesh_format.setCurrentIndex(page.mesh_format.findData(".json"))
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(self.folder / "cloth.json"), "")):
            page.mesh_button.click()
        found = animated_mesh.read_json(self.folder / "cloth.json")
        self.assertEqual((min(found.places), found.layout), (5, Layout(size=size, y_up=True, first=5, start=1001)))
        with mock.patch.object(QFileDialog, "getOpenFileName", return_value=(str(self.folder / "sailor.json"), "")):
            page.shapes_take.click()
        self.assertEqual(len(s.shot.item(matte.id).shapes), 2)
        page.shapes_proof.click()
        self.until(lambda: step.proof is not None)
        self.assertIn("It arrives", w.words.text())


del Case, WindowCase

if __name__ == "__main__":
    unittest.main()
