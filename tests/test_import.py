"""Motion made elsewhere comes in as tracks: every format that goes out, scaled where it must be; glTF, motion vectors and lens maps."""

import io
import json
import shutil
import tempfile
import unittest
from contextlib import redirect_stdout
from dataclasses import replace
from pathlib import Path
from unittest import mock

import cv2
import numpy as np
import OpenImageIO as oiio
import pygltflib
import trimesh
from PySide6.QtWidgets import QFileDialog, QMessageBox
from scipy.spatial.transform import Rotation

import wertis
from tests.test_camera import SIZE as CAMERA_SIZE
from tests.test_camera import solved
from tests.test_exchange import FRAMES, QUAD, SIZE, Case, moved
from tests.test_window import WindowCase
from wertis.cli.main import main
from wertis.core.errors import DeliverError, WertisError
from wertis.core.exchange import animated_mesh, camera_json, camera_usd, gltf
from wertis.core.exchange.animated_mesh import AnimatedMesh
from wertis.core.exchange.coordinate_maps import read_map
from wertis.core.exchange.layout import Layout, OtherSize
from wertis.core.exchange.pictures import write_picture
from wertis.core.geometry import homography
from wertis.core.jobs.motion_import import import_motion
from wertis.core.shot.cameras import camera_record
from wertis.core.shot.dense import DenseSolution
from wertis.core.shot.meshes import MeshSolution
from wertis.core.shot.points import PointsSolution
from wertis.core.track.features import FeatureTracks
from wertis.scripting.camera import Camera

KNOWN = [f for f in FRAMES if f != 1005]  # it is lost on one
VERTICES = np.array([[60.0, 50], [160, 45], [250, 60], [65, 120], [155, 125], [245, 118], [70, 190], [160, 195], [240, 188]])
TRIANGLES = np.array([[0, 1, 4], [0, 4, 3], [1, 2, 5], [1, 5, 4], [3, 4, 7], [3, 7, 6], [4, 5, 8], [4, 8, 7]])


def bent(frame: int) -> np.ndarray:
    k = frame - 1001
    return VERTICES + np.column_stack([1.5 * k + 2 * np.sin(VERTICES[:, 1] / 30 + k / 3), -0.7 * k + 1.5 * np.cos(VERTICES[:, 0] / 40 + k / 4)])


def bent_mesh(size: tuple[int, int] = SIZE) -> AnimatedMesh:
    return AnimatedMesh(size, 25.0, 1001, bent(1001), TRIANGLES, {f: bent(f) for f in FRAMES}, name="Cloth")


class PlanesTest(Case):
    def test_every_kind_that_carries_a_surface_comes_back(self) -> None:
        for kind, precision in (("corners", 1e-3), ("inverse corners", 1e-3), ("matrices", 1e-3), ("transforms", None)):
            for suffix in (".json", ".csv"):
                for layout in ({}, {"y_up": True, "centre": "zero", "first": 5}, {"units": "unit"}):
                    path = self.folder / f"motion{suffix}"
                    self.wall.export_motion(path, kind, self.graphic, **layout)
                    back = self.shot.import_motion(path)
                    assert isinstance(back, wertis.Surface)
                    truth, there = self.wall.follow(QUAD, 1001), back.follow(QUAD, 1001)
                    self.assertEqual(sorted(there), sorted(truth))
                    for frame in KNOWN:
                        off = np.linalg.norm(there[frame] - truth[frame], axis=1).max()
                        if precision is not None:
                            self.assertLess(off, precision, (kind, suffix, layout, frame))
                    if precision is None:  # by as much as the file says is left out
                        body = json.loads(path.read_text()) if suffix == ".json" else None
                        if body is not None:
                            for number, row in body["frames"].items():
                                frame = int(number) - (5 - 1001 if "first" in layout else 0)
                                off = np.linalg.norm(there[frame] - truth[frame], axis=1).max()
                                self.assertLess(off, row[6] + 0.01)

    def test_a_turn_is_positive_the_way_the_file_says(self) -> None:
        """Clockwise where y goes down, anticlockwise where it goes up: the standard rotation matrix in both (textbook convention)."""
        angle = np.deg2rad(20)
        turn = np.array([[np.cos(angle), -np.sin(angle), 40], [np.sin(angle), np.cos(angle), -30], [0, 0, 1.0]])
        record = self.wall.record
        solution = record.solution.but(matrices=np.array([np.eye(3)] + [turn] * (len(FRAMES) - 1)))
        self.shot._do("Track", self.shot.document.with_track(record.but(solution=solution)))
        for up, sign in ((False, 1), (True, -1)):
            self.wall.export_motion(self.folder / "t.json", "transforms", self.graphic, y_up=up)
            row = json.loads((self.folder / "t.json").read_text())["frames"]["1004"]
            self.assertAlmostEqual(row[4], sign * 20, places=5)
            self.assertAlmostEqual(row[5], 0, places=6)

    def test_a_corner_pin_and_points_come_back(self) -> None:
        self.wall.export(self.folder / "pin.json", self.graphic)
        back = self.shot.import_motion(self.folder / "pin.json", "Pin")
        self.assertEqual(back.name, "Pin")
        for frame in KNOWN:
            np.testing.assert_allclose(back.follow(QUAD, 1001)[frame], homography.apply(moved(frame), QUAD), atol=1e-3)
        for name in ("p.json", "p.csv", "p.txt"):
            self.wall.export_motion(self.folder / name, "points", self.graphic, centre="zero")
            points = self.shot.import_motion(self.folder / name, centre="zero")
            solution = points.record.solution
            assert isinstance(solution, PointsSolution)
            self.assertEqual(solution.names, ("1", "2", "3", "4"))
            self.assertLess(float(solution.errors[solution.measured].max()), 0.2)  # as sure as the file says
            for frame in KNOWN:
                np.testing.assert_allclose(points.follow(QUAD, 1001)[frame], homography.apply(moved(frame), QUAD), atol=1e-3)

    def test_another_size_is_told_and_scaled_when_asked(self) -> None:
        self.wall.export_motion(self.folder / "m.csv", "corners", self.graphic)
        (self.folder / "half").mkdir()
        for f in FRAMES:
            write_picture(self.folder / "half" / f"h.{f:04d}.png", np.zeros((482, 642, 3), np.uint8))
        shot = wertis.open(self.folder / "half")
        with self.assertRaisesRegex(OtherSize, "321 x 241.*642 x 482"):
            shot.import_motion(self.folder / "m.csv")
        back = shot.import_motion(self.folder / "m.csv", scaled=True)
        np.testing.assert_allclose(back.follow(2 * QUAD, 1001)[1007], 2 * homography.apply(moved(1007), QUAD), atol=2e-3)
        saved = str(shot.save(self.folder / "half.wertis"))
        self.assertNotEqual(main(["import", saved, str(self.folder / "m.csv")]), 0)
        self.assertEqual(main(["import", saved, str(self.folder / "m.csv"), "--scaled", "--name", "Theirs"]), 0)
        self.assertEqual(wertis.open(saved).surface("Theirs").follow(2 * QUAD, 1001)[1003].shape, (4, 2))


class RateTest(Case):
    def test_another_rate_is_told_and_brought_to_the_plates(self) -> None:
        """A file at twice the plate's rate holds two frames for one: the instants are the same, read off a motion that is known between frames."""
        plate = self.shot.document.plate
        self.wall.export_motion(self.folder / "m.csv", "corners", self.graphic)
        gltf.write_mesh(self.folder / "m.glb", replace(bent_mesh(), fps=2 * plate.fps))
        text = (self.folder / "m.csv").read_text().replace(f", {plate.fps:g} fps", f", {2 * plate.fps:g} fps")
        (self.folder / "fast.csv").write_text(text)
        found = import_motion(self.shot.document, self.folder / "fast.csv")
        self.assertEqual(found.other_rate, 2 * plate.fps)
        self.assertIn(f"made at {2 * plate.fps:g} frames a second", found.words)
        self.assertIsNone(import_motion(self.shot.document, self.folder / "m.csv").other_rate)
        wall = self.shot.import_motion(self.folder / "fast.csv", retime=True)
        there = wall.follow(QUAD, 1001)
        self.assertEqual(sorted(there), [1001, 1002, 1004])  # 1003 would be 1005 of the file, which is lost there
        for frame in (1002, 1004):
            np.testing.assert_allclose(there[frame], homography.apply(moved(1001 + 2 * (frame - 1001)), QUAD), atol=1e-3)
        cloth = self.shot.import_motion(self.folder / "m.glb", retime=True)
        for k, frame in enumerate(cloth.record.solution.frames):
            np.testing.assert_allclose(cloth.record.solution.places[k], bent(1001 + 2 * (int(frame) - 1001)), atol=1e-3)
        (self.folder / "slow.csv").write_text(text.replace(f", {2 * plate.fps:g} fps", f", {plate.fps / 2:g} fps"))
        slow = self.shot.import_motion(self.folder / "slow.csv", retime=True).follow(QUAD, 1001)
        np.testing.assert_allclose(slow[1002], (QUAD + homography.apply(moved(1002), QUAD)) / 2, atol=1e-3)
        self.assertEqual(sorted(slow), [1001, 1002, 1003, 1004, 1005, 1006, 1007])
        saved = str(self.shot.save(self.folder / "s.wertis"))
        with redirect_stdout(io.StringIO()):
            self.assertEqual(main(["import", saved, str(self.folder / "fast.csv"), "--retime", "--name", "Fast"]), 0)


class BendingTest(Case):
    def test_meshes_come_back_from_every_format(self) -> None:
        mesh = bent_mesh()
        writers = {"m.json": animated_mesh.write_json, "m.usda": animated_mesh.write_usd, "m.usdc": animated_mesh.write_usd, "m.glb": gltf.write_mesh,
                   "m.gltf": gltf.write_mesh, "m.obj": animated_mesh.write_obj}
        inside = np.array([[100.0, 80], [200, 90], [150, 160]])
        truth = None
        for name, write in writers.items():
            write(self.folder / name, mesh)
            path = self.folder / ("m.####.obj" if name.endswith(".obj") else name)
            surface = self.shot.import_motion(path, folder=None)
            assert isinstance(surface, wertis.Surface)
            solution = surface.record.solution
            assert isinstance(solution, MeshSolution)
            self.assertEqual(solution.reference, 1001)
            for k, frame in enumerate(solution.frames):
                np.testing.assert_allclose(solution.places[k], bent(int(frame)), atol=1e-3, err_msg=name)
            there = surface.follow(inside, 1001)
            truth = there if truth is None else truth
            for frame in FRAMES:
                np.testing.assert_allclose(there[frame], truth[frame], atol=1e-3)
            self.assertGreater(cv2.contourArea(surface.record.region.array.astype(np.float32)), 20000)
        placed = self.shot.surfaces[-1].place(self.folder / "art.png", QUAD * 0.6 + 50, 1001)
        self.assertGreater(float(self.shot.frame(1004, "graphic", of=[placed.name])[..., 3].sum()), 1000)
        with self.assertRaisesRegex(DeliverError, "no files"):
            self.shot.import_motion(self.folder / "nothing.####.obj")

    def test_a_mesh_arrives_at_the_receiver(self) -> None:
        """Vertices within a hundredth of a pixel, pictures within 2 of 255ths."""
        gltf.write_mesh(self.folder / "m.glb", bent_mesh())
        surface = self.shot.import_motion(self.folder / "m.glb")
        placed = surface.place(self.folder / "art.png", [(90, 75), (210, 80), (205, 160), (95, 165)], 1001, fit="stretch")
        for suffix in (".json", ".usd", ".glb", ".gltf", ".obj"):
            proof = surface.prove(placed, "mesh", suffix, [1001, 1004, 1007])
            self.assertEqual((proof.wrong, len(proof.frames)), ("", 3))
            for frame in proof.frames:
                self.assertLess(frame.corners, 0.01, suffix)
                if suffix != ".json":  # which holds the track's own vertices, between which the surface is smooth
                    self.assertLess(frame.difference, 2.0, suffix)
        saved = str(self.shot.save(self.folder / "s.wertis"))
        with redirect_stdout(io.StringIO()) as said:
            self.assertEqual(main(["prove", saved, "--track", surface.name, "--what", "mesh", "--format", "usd", "--frames", "1003"]), 0)
        self.assertRegex(said.getvalue(), "frame 1003: vertices off by 0.00.*\nIt arrives")

    def test_shapes_arrive_at_the_receiver(self) -> None:
        """Outlines filled by another's code: points within a hundredth of a pixel, mattes within 1 of 255ths."""
        matte = self.shot.matte(np.array([(80.0, 60), (200, 70), (190, 170), (90, 160)]), 1001, self.wall, "Piece")
        matte.add(np.array([(120.0, 100), (160, 100), (150, 140)]), 1001, roundness=0.0, soft=6.0, combine="subtract")
        matte.handles(matte.shapes[0])
        for suffix in (".json", ".csv", ".svg"):
            proof = matte.prove(suffix, [1001, 1003, 1007])
            self.assertEqual((proof.wrong, len(proof.frames)), ("", 3))
            for frame in proof.frames:
                self.assertLess(frame.corners, 0.01, suffix)
                self.assertLess(frame.difference, 1.0, suffix)
                self.assertGreater(float((frame.theirs > 200).mean()), 0.05)
        saved = str(self.shot.save(self.folder / "s.wertis"))
        with redirect_stdout(io.StringIO()) as said:
            self.assertEqual(main(["prove", saved, "--what", "shapes", "--of", "Piece", "--format", "svg"]), 0)
        self.assertIn("It arrives", said.getvalue())

    def test_maps_come_back_as_dense_motion(self) -> None:
        inner = np.array([[110.0, 80], [200, 90], [190, 150], [120, 150]])
        for kind in ("map", "inverse map"):
            for layout in ({}, {"y_up": True, "units": "unit"}):
                folder = self.folder / f"{kind}{len(layout)}"
                folder.mkdir()
                self.wall.export_motion(folder / "m.####.exr", kind, **layout)
                back = self.shot.import_motion(folder / "m.####.exr", "Maps", folder=folder / "kept")
                solution = back.record.solution
                assert isinstance(solution, DenseSolution)
                self.assertEqual((solution.reference, sorted(int(f) for f in solution.frames)), (1001, KNOWN))
                for frame in KNOWN:
                    np.testing.assert_allclose(back.follow(inner, 1001)[frame], homography.apply(moved(frame), inner), atol=0.02)
        with self.assertRaisesRegex(DeliverError, "no coordinate map"):
            write_picture(self.folder / "plain.0001.exr", np.zeros((10, 10, 3), np.float16))
            self.shot.import_motion(self.folder / "plain.0001.exr")


class VectorsTest(Case):
    def test_vectors_lead_to_the_next_frame_and_back(self) -> None:
        self.wall.export_motion(self.folder / "v.####.exr", "vectors", y_up=True)
        source = oiio.ImageInput.open(str(self.folder / "v.1003.exr"))
        names = list(source.spec().channelnames)
        pixels = np.asarray(source.read_image(oiio.FLOAT))
        source.close()
        self.assertEqual(sorted(names), sorted(["forward.u", "forward.v", "backward.u", "backward.v", "seen"]))
        at = {n: pixels[..., names.index(n)] for n in names}
        for x, y in ((60, 50), (200, 150)):
            here = np.array([[x + 0.5, y + 0.5]])
            home = homography.apply(np.linalg.inv(moved(1003)), here)
            for way, other in (("forward", 1004), ("backward", 1002)):
                there = homography.apply(moved(other), home)[0] - here[0]
                np.testing.assert_allclose([at[f"{way}.u"][y, x], at[f"{way}.v"][y, x]], there * [1, -1], atol=1e-4)
        self.assertEqual(float(at["seen"].min()), 1.0)


class CameraTest(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder)
        self.camera = replace(solved(), principal=np.array([330.0, 190]), radial=(-0.08, 0.01))
        (self.folder / "plate").mkdir()
        for f in range(1, 5):
            write_picture(self.folder / "plate" / f"p.{f:04d}.png", np.zeros((CAMERA_SIZE[1], CAMERA_SIZE[0], 3), np.uint8))
        self.shot = wertis.open(self.folder / "plate")

    def test_a_camera_comes_in_from_every_format_and_carries_a_plane(self) -> None:
        for name, write in (("c.json", camera_json.write_camera), ("c.usda", camera_usd.write_camera_usd), ("c.glb", gltf.write_camera)):
            write(self.folder / name, self.camera)
            found = self.shot.import_motion(self.folder / name)
            assert isinstance(found, Camera)
            for frame in (1, 12, 24):
                seen = found.solved.project(self.camera.points[:40], frame)
                np.testing.assert_allclose(seen, self.camera.project(self.camera.points[:40], frame), atol=0.01, err_msg=name)
            self.assertEqual(found.solved.radial, self.camera.radial)
            out = self.folder / f"out{Path(name).suffix}"
            found.save(out)
            self.assertGreater(out.stat().st_size, 1000)
        saved = str(self.shot.save(self.folder / "s.wertis"))
        self.assertEqual(main(["export", saved, "--what", "camera", "--out", str(self.folder / "again.glb")]), 0)
        self.assertEqual(len(gltf.read_camera(self.folder / "again.glb").poses), 24)

    def test_the_lens_is_taken_out_and_put_back_by_its_maps(self) -> None:
        camera_json.write_camera(self.folder / "c.json", self.camera)
        self.shot.import_motion(self.folder / "c.json")
        self.shot.camera.save_lens_map(self.folder / "straight.exr")
        self.shot.camera.save_lens_map(self.folder / "lens.exr", straight=False, y_up=True)
        straight, about = read_map(self.folder / "straight.exr")
        self.assertEqual(about.layout, Layout(size=CAMERA_SIZE, start=1))
        bent_, _ = read_map(self.folder / "lens.exr")
        # OpenCV's lens, with the same radial terms
        matrix = np.array([[self.camera.focal, 0, 330], [0, self.camera.focal, 190], [0, 0, 1]])
        for x, y in ((20, 30), (320, 200), (600, 380)):
            flat = (np.array([x + 0.5, y + 0.5]) - [330, 190]) / self.camera.focal
            seen = cv2.projectPoints(np.array([[*flat, 1.0]]), np.zeros(3), np.zeros(3), matrix, np.array([-0.08, 0.01, 0, 0, 0]))[0].ravel()
            np.testing.assert_allclose(straight[y, x, :2], seen, atol=1e-3)
            there = cv2.undistortPoints(np.array([[[x + 0.5, y + 0.5]]]), matrix, np.array([-0.08, 0.01, 0, 0, 0]), P=matrix)[0, 0]
            np.testing.assert_allclose(bent_[y, x, :2], [there[0], CAMERA_SIZE[1] - there[1]], atol=0.01)
        plain = replace(self.camera, radial=(0.0, 0.0), numbers=np.arange(len(self.camera.points)))
        tracks = FeatureTracks(sorted(plain.poses), [{} for _ in plain.points])
        self.shot._do("Straight", self.shot.document.but(camera=camera_record(plain, tracks, True, False)))
        with self.assertRaisesRegex(DeliverError, "without lens terms"):
            self.shot.camera.save_lens_map(self.folder / "none.exr")


class GltfTest(unittest.TestCase):
    """Against the specification (Khronos, glTF 2.0, 2021) and two libraries that share nothing with ours."""

    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder)

    def test_a_mesh_as_other_libraries_see_it(self) -> None:
        mesh = bent_mesh()
        gltf.write_mesh(self.folder / "m.glb", mesh)
        (loaded,) = trimesh.load(self.folder / "m.glb").geometry.values()
        np.testing.assert_allclose(np.asarray(loaded.vertices)[:, :2], mesh.up(mesh.vertices), atol=1e-3)
        self.assertTrue((loaded.face_normals[:, 2] > 0.99).all(), "faces are seen from the front, counter-clockwise")
        made = pygltflib.GLTF2().load(str(self.folder / "m.glb"))
        self.assertEqual(made.asset.version, "2.0")
        primitive = made.meshes[0].primitives[0]
        self.assertEqual((len(primitive.targets), len(made.meshes[0].weights)), (len(FRAMES), len(FRAMES)))
        sampler = made.animations[0].samplers[0]
        self.assertEqual((made.accessors[sampler.output].count, sampler.interpolation), (len(FRAMES) ** 2, "STEP"))
        # section 3.6.2.4: an accessor's start is a multiple of its component's size, and it lies in its buffer view
        for accessor in made.accessors:
            view = made.bufferViews[accessor.bufferView]
            self.assertEqual(((view.byteOffset or 0) + (accessor.byteOffset or 0)) % 4, 0)
            wide = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4}[accessor.type]
            self.assertLessEqual(accessor.count * wide * 4, view.byteLength)
        # section 3.7.2.1: a POSITION accessor says its limits
        position = made.accessors[primitive.attributes.POSITION]
        np.testing.assert_allclose(position.max[:2], mesh.up(mesh.vertices).max(0), atol=1e-3)

    def test_a_camera_looks_where_ours_looks(self) -> None:
        camera = replace(solved(), principal=np.array(CAMERA_SIZE) / 2, radial=(0.0, 0.0))
        quad = np.array([[0.0, 0, 4], [1, 0, 4], [1, 1, 4], [0, 1, 4]])
        gltf.write_camera(self.folder / "c.glb", camera, 25, {"wall": quad})
        made = pygltflib.GLTF2().load(str(self.folder / "c.glb"))
        blob = made.binary_blob()

        def values(accessor: int) -> np.ndarray:
            a = made.accessors[accessor]
            view = made.bufferViews[a.bufferView]
            wide = {"SCALAR": 1, "VEC3": 3, "VEC4": 4}[a.type]
            return np.frombuffer(blob, np.float32, a.count * wide, view.byteOffset).reshape(a.count, wide).astype(float)

        by_path = {c.target.path: values(made.animations[0].samplers[c.sampler].output) for c in made.animations[0].channels}
        points = next(values(m.primitives[0].attributes.POSITION) for m in made.meshes if m.primitives[0].mode == 0)
        yfov = made.cameras[0].perspective.yfov
        for k, frame in ((0, 1), (11, 12), (23, 24)):  # section 3.10: a camera looks along -z, y up
            turn = Rotation.from_quat(by_path["rotation"][k]).as_matrix()
            at = (points - by_path["translation"][k]) @ turn
            focal = CAMERA_SIZE[1] / 2 / np.tan(yfov / 2)
            seen = np.column_stack([CAMERA_SIZE[0] / 2 + focal * at[:, 0] / -at[:, 2], CAMERA_SIZE[1] / 2 - focal * at[:, 1] / -at[:, 2]])
            meant = camera.project(camera.points, frame)
            good = np.isfinite(meant).all(1)
            np.testing.assert_allclose(seen[good], meant[good], atol=0.02)
        self.assertIn("wall", [m.name for m in made.meshes])

    def test_bad_files_are_refused(self) -> None:
        gltf.write_mesh(self.folder / "m.gltf", bent_mesh())
        good = json.loads((self.folder / "m.gltf").read_text())
        for spoil in (lambda b: b["nodes"][0].pop("extras"), lambda b: b["accessors"][0].update(count=10 ** 9), lambda b: b["meshes"].clear(),
                      lambda b: b["nodes"][0]["extras"]["wertis"].update(frames=[1]), lambda b: b["bufferViews"][0].update(byteOffset=-4)):
            body = json.loads(json.dumps(good))
            spoil(body)
            (self.folder / "bad.gltf").write_text(json.dumps(body))
            with self.assertRaises(WertisError):
                gltf.read_mesh(self.folder / "bad.gltf")
        gltf.write_mesh(self.folder / "cut.glb", bent_mesh())
        whole = (self.folder / "cut.glb").read_bytes()
        for length in range(0, len(whole) - 1, 37):
            (self.folder / "cut.glb").write_bytes(whole[:length])
            try:
                back = gltf.read_mesh(self.folder / "cut.glb")
            except WertisError:
                continue
            np.testing.assert_allclose(back.places[1007], bent(1007), atol=1e-3)  # only the weights are cut
        (self.folder / "none.glb").write_bytes(b"glTF" + bytes(40))
        for read in (gltf.read_mesh, gltf.read_camera):
            with self.assertRaises(WertisError):
                read(self.folder / "none.glb")
        many = AnimatedMesh(SIZE, 25.0, 0, VERTICES, TRIANGLES, dict.fromkeys(range(7000), VERTICES))
        with self.assertRaisesRegex(DeliverError, "choose USD"):
            gltf.write_mesh(self.folder / "long.glb", many)


class WindowTest(WindowCase):
    def test_motion_comes_in_and_a_camera_goes_out(self) -> None:
        w, s = self.window, self.window.session
        w.open_path(self.plate)
        self.until(lambda: w.viewer.picture is not None)
        step = w.steps["Deliver"]
        size = s.plate.size
        mesh = AnimatedMesh((2 * size[0], 2 * size[1]), 24.0, 1001, VERTICES, TRIANGLES, {f: VERTICES + f - 1001 for f in range(1001, 1009)}, name="Cloth")
        gltf.write_mesh(self.folder / "cloth.glb", mesh)
        with mock.patch.object(QFileDialog, "getOpenFileName", return_value=(str(self.folder / "cloth.glb"), "")):
            step.page.motion.take.click()
        self.assertEqual(s.shot.tracks, ())  # nobody said that it may be scaled
        with mock.patch.object(QMessageBox, "clickedButton", lambda box: box.buttons()[0]):
            step.import_motion(str(self.folder / "cloth.glb"))
        self.assertEqual([t.name for t in s.shot.tracks], ["Cloth"])
        np.testing.assert_allclose(s.track.solution.vertices, VERTICES / 2, atol=1e-3)
        self.assertIn("9 vertices", w.words.text())
        camera = replace(solved(), size=size, radial=(-0.05, 0.0))
        camera_json.write_camera(self.folder / "c.json", camera)
        step.import_motion(str(self.folder / "c.json"))
        self.assertIsNotNone(s.shot.camera)
        page = step.page
        s.go_step("Deliver")
        page.part.button(2).click()
        self.spin()
        self.assertTrue(page.camera_button.isVisibleTo(w))
        for k, name in ((0, "out.glb"), (1, "straight.exr")):
            page.camera_what.setCurrentIndex(k)
            if k == 0:
                page.camera_format.setCurrentIndex(page.camera_format.findData(".glb"))
            with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(self.folder / name), "")):
                page.camera_button.click()
            self.assertTrue((self.folder / name).is_file(), w.words.text())
        step.import_motion(str(self.folder / "nothing.glb"))
        self.assertIn("nothing.glb", w.words.text())


del Case, WindowCase

if __name__ == "__main__":
    unittest.main()
