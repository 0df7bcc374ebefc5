"""A camera solved from features: against made-up scenes, OpenCV's projection and pose, and from pictures to a track on a plane."""

import csv
import json
import tempfile
import unittest
from collections.abc import Callable
from dataclasses import replace
from functools import cache
from pathlib import Path
from unittest import mock

import cv2
import numpy as np

import wertis
from tests.helpers import painted_patch_leaves_the_rest
from tests.scenes import FramesPlate, texture
from tests.test_window import WindowCase
from wertis.cli.main import main
from wertis.core.errors import DeliverError, RegionError, WertisError
from wertis.core.exchange.camera_json import read_camera, write_camera
from wertis.core.exchange.camera_usd import read_camera_usd, write_camera_usd
from wertis.core.exchange.gltf import read_camera as read_camera_gltf
from wertis.core.exchange.gltf import write_camera as write_camera_gltf
from wertis.core.exchange.laid_out import camera_scaled
from wertis.core.geometry import polygon
from wertis.core.geometry.camera import ScenePlane, SolvedCamera, on_plane, plane_deviations, plane_through, refined_plane
from wertis.core.jobs.camera import solve_again, solve_plate
from wertis.core.shot.cameras import CameraSettings, camera_record, carried_on_plane, set_off_plane, set_plane, solved_camera
from wertis.core.shot.document import Shot
from wertis.core.shot.edits import add_track
from wertis.core.shot.resolve import motion_of
from wertis.core.track import scene_plane
from wertis.core.track.camera import solve_camera
from wertis.core.track.features import FeatureTracks, follow_features
from wertis.core.track.plane_alignment import AlignedPlane, PlaneAligner, plane_hypotheses
from wertis.core.track.scene_plane import FilmedScene, picked_plane
from wertis_receiver.camera import read_camera as receiver_camera

SIZE, FOCAL = (640, 400), 700.0
FRAMES = list(range(1, 25))


def pose(frame: int, turning_only: bool = False) -> np.ndarray:
    """(3, 4) world to camera: a walk sideways that looks at the scene, or a turn on the spot."""
    t = (frame - 1) / (len(FRAMES) - 1)
    turn = cv2.Rodrigues(np.array([0.03 * np.sin(5 * t), -0.25 * (t - 0.5), 0.02 * t]))[0]
    place = np.array([0.0, 0, 0]) if turning_only else np.array([1.6 * (t - 0.5), 0.15 * np.sin(4 * t), 0.3 * t])
    return np.column_stack([turn, -turn @ place])


def seen(points: np.ndarray, frame: int, turning_only: bool = False) -> np.ndarray:
    """Where the camera sees points (n, 3), by OpenCV's projection; first pixel's centre at 0.5, 0.5."""
    matrix = np.array([[FOCAL, 0, SIZE[0] / 2], [0, FOCAL, SIZE[1] / 2], [0, 0, 1]])
    at = pose(frame, turning_only)
    return cv2.projectPoints(points, cv2.Rodrigues(at[:, :3])[0], at[:, 3], matrix, None)[0][:, 0]


def zoomed(frame: int) -> float:
    """The focal length of a camera that zooms by half as much again."""
    t = (frame - 1) / (len(FRAMES) - 1)
    return FOCAL * (1 + 0.5 * (3 * t ** 2 - 2 * t ** 3))


def tracks_through(points: np.ndarray, focal: Callable[[int], float], radial: tuple[float, float] = (0.0, 0.0), noise: float = 0.1) -> FeatureTracks:
    """Tracks of points (n, 3) as OpenCV projects them, by a lens of a focal length for each frame; the first 20 move by themselves."""
    rng = np.random.default_rng(2)
    places: list[dict[int, np.ndarray]] = [{} for _ in points]
    for frame in FRAMES:
        matrix, at = np.array([[focal(frame), 0, SIZE[0] / 2], [0, focal(frame), SIZE[1] / 2], [0, 0, 1]]), pose(frame)
        there = cv2.projectPoints(points, cv2.Rodrigues(at[:, :3])[0], at[:, 3], matrix, np.array([*radial, 0, 0]))[0][:, 0]
        there = there + rng.normal(0, noise, there.shape)
        there[:20] += np.array([4.0, 1.5]) * frame
        for k in np.flatnonzero(((there > 0) & (there < SIZE)).all(1)):
            places[k][frame] = there[k]
    return FeatureTracks(FRAMES, places)


def tracks_of(points: np.ndarray, turning_only: bool = False, noise: float = 0.1, wandering: int = 0) -> FeatureTracks:
    rng = np.random.default_rng(2)
    places: list[dict[int, np.ndarray]] = [{} for _ in points]
    for frame in FRAMES:
        at = seen(points, frame, turning_only) + rng.normal(0, noise, (len(points), 2))
        at[:wandering] += np.array([4.0, 1.5]) * frame  # these move by themselves
        inside = ((at > 0) & (at < SIZE)).all(1)
        for k in np.flatnonzero(inside):
            places[k][frame] = at[k]
    return FeatureTracks(FRAMES, places)


@cache
def scene() -> np.ndarray:
    """(n, 3) points: a wall at an angle, and clutter before and behind it."""
    rng = np.random.default_rng(4)
    wall = np.column_stack([rng.uniform(-1.2, 1.2, 120), rng.uniform(-0.8, 0.8, 120), np.zeros(120)])
    wall[:, 2] = 4 + 0.4 * wall[:, 0]
    return np.vstack([wall, rng.uniform([-2, -1, 3], [2, 1, 7], (220, 3))])


@cache
def solved() -> SolvedCamera:
    return solve_camera(tracks_of(scene(), wandering=20), SIZE)


class SolveTest(unittest.TestCase):
    def test_path_and_focal_length_are_found_though_some_features_wander(self) -> None:
        camera = solved()
        self.assertEqual(sorted(camera.poses), FRAMES)
        self.assertLess(abs(camera.focal / FOCAL - 1), 0.01)
        self.assertLess(camera.error, 0.2)
        self.assertTrue(all(n >= 20 for n in camera.numbers))  # what moves by itself is left out
        first = pose(FRAMES[0])
        for frame in FRAMES:
            turn = pose(frame)[:, :3] @ first[:, :3].T
            off = cv2.Rodrigues(camera.poses[frame][:, :3] @ turn.T)[0]
            self.assertLess(np.degrees(np.linalg.norm(off)), 0.1)
        eyes = np.array([-camera.poses[f][:, :3].T @ camera.poses[f][:, 3] for f in FRAMES])
        truth = np.array([first[:, :3] @ (-pose(f)[:, :3].T @ pose(f)[:, 3]) + first[:, 3] for f in FRAMES])
        scale = (eyes * truth).sum() / (eyes ** 2).sum()
        self.assertLess(np.linalg.norm(scale * eyes - truth, axis=1).max(), 0.02)

    def test_poses_are_those_of_opencvs_solvepnp_on_the_same_matches(self) -> None:
        camera, tracks = solved(), tracks_of(scene(), wandering=20)
        frame = 12
        at = np.array([tracks.places[n][frame] for n in camera.numbers if frame in tracks.places[n]])
        points = np.array([x for x, n in zip(camera.points, camera.numbers, strict=True) if frame in tracks.places[n]])
        matrix = np.array([[camera.focal, 0, camera.principal[0]], [0, camera.focal, camera.principal[1]], [0, 0, 1]])
        _, turn, shift = cv2.solvePnP(points, at, matrix, None)
        np.testing.assert_allclose(camera.poses[frame][:, :3], cv2.Rodrigues(turn)[0], atol=1e-3)
        np.testing.assert_allclose(camera.poses[frame][:, 3], shift[:, 0], atol=2e-3)
        np.testing.assert_allclose(camera.project(points, frame), cv2.projectPoints(points, cv2.Rodrigues(camera.poses[frame][:, :3])[0],
                                   camera.poses[frame][:, 3], matrix, None)[0][:, 0], atol=1e-6)

    def test_a_plane_carries_points_to_where_they_are(self) -> None:
        camera, frame = solved(), 6
        wall = np.isin(camera.numbers, range(20, 120))
        plane = plane_through(camera, camera.points[wall], frame)
        quad = np.array([[-0.6, -0.4], [0.6, -0.4], [0.6, 0.4], [-0.6, 0.4]])
        corners = np.column_stack([quad, 4 + 0.4 * quad[:, 0]])
        numbers = camera.numbers[wall]
        tracks = tracks_of(scene(), wandering=20)
        start = np.array([tracks.places[n].get(frame, [np.nan] * 2) for n in numbers])
        fine = np.isfinite(start).all(1)
        sights = {f: (np.array([k for k, n in enumerate(numbers[fine]) if f in tracks.places[n]]),
                      np.array([tracks.places[n][f] for n in numbers[fine] if f in tracks.places[n]])) for f in FRAMES}
        for found, limit in ((plane, 0.4), (refined_plane(camera, plane, start[fine], sights, frame), 0.2)):
            there = on_plane(camera, found, seen(corners, frame), frame)
            for f in FRAMES:
                self.assertLess(np.linalg.norm(camera.project(there, f) - seen(corners, f), axis=1).max(), limit)
        truth = pose(FRAMES[0])[:, :3] @ np.array([0.4, 0, -1]) / np.linalg.norm([0.4, 0, -1])
        self.assertLess(np.degrees(np.arccos(abs(plane.normal @ truth))), 0.5)
        with self.assertRaisesRegex(WertisError, "a plane needs three"):
            plane_through(camera, camera.points[:2], frame)

    def test_the_lens_is_taken_out_and_put_back(self) -> None:
        camera = SolvedCamera(SIZE, FOCAL, np.array([320.0, 200]), (-0.12, 0.03), {1: pose(1)}, np.zeros((0, 3)), np.zeros(0, int), {})
        flat = np.random.default_rng(1).uniform(-0.4, 0.4, (50, 2))
        np.testing.assert_allclose(camera.straight(camera.distorted(flat)), flat, atol=1e-9)
        points = np.column_stack([flat, np.ones(50)]) * 3 @ pose(1)[:, :3] - pose(1)[:, :3].T @ pose(1)[:, 3]
        matrix = np.array([[FOCAL, 0, 320.0], [0, FOCAL, 200], [0, 0, 1]])
        theirs = cv2.projectPoints(points, cv2.Rodrigues(pose(1)[:, :3])[0], pose(1)[:, 3], matrix, np.array([-0.12, 0.03, 0, 0]))[0][:, 0]
        np.testing.assert_allclose(camera.project(points, 1), theirs, atol=1e-6)  # OpenCV's radial terms are the same
        eye, rays = camera.rays(theirs, 1)
        np.testing.assert_allclose(np.cross(rays, points - eye), 0, atol=1e-6)

    def test_a_camera_that_zooms_is_solved_with_a_focal_length_of_each_frame(self) -> None:
        camera = solve_camera(tracks_through(scene(), zoomed), SIZE, zoom=True)
        self.assertEqual(sorted(camera.zoom), FRAMES)
        self.assertLess(max(abs(camera.focal_at(f) / zoomed(f) - 1) for f in FRAMES), 0.01)
        self.assertLess(camera.error, 0.2)
        self.assertRegex(camera.focal_words, r"^\d+\.\d to \d+\.\d px$")
        first = pose(FRAMES[0])
        for frame in FRAMES:
            off = cv2.Rodrigues(camera.poses[frame][:, :3] @ (pose(frame)[:, :3] @ first[:, :3].T).T)[0]
            self.assertLess(np.degrees(np.linalg.norm(off)), 0.1)
        with self.assertRaisesRegex(WertisError, "one plane|turns"):
            solve_camera(tracks_of(scene(), turning_only=True), SIZE, zoom=True)
        for wrong in ({"focal": 700.0}, {"radial": 1}):
            with self.assertRaisesRegex(WertisError, "that zooms"):
                list(solve_plate(FramesPlate(film()), FRAMES, zoom=True, **wrong))  # type: ignore[arg-type]
        with tempfile.TemporaryDirectory() as name:
            corners = np.array([[-1.0, -1, 4], [1, -1, 4], [1, 1, 4], [-1, 1, 4]])
            for suffix, write, read in ((".json", write_camera, read_camera), (".usdc", write_camera_usd, read_camera_usd),
                                        (".glb", write_camera_gltf, read_camera_gltf)):
                path = Path(name) / f"camera{suffix}"
                write(path, camera, 25.0, {"Wall": corners})
                back = read(path)
                for frame in (FRAMES[0], FRAMES[9], FRAMES[-1]):
                    self.assertAlmostEqual(back.focal_at(frame), camera.focal_at(frame), 3, suffix)
                    theirs = receiver_camera(path, frame)
                    np.testing.assert_allclose(theirs.seen(theirs.planes["Wall"]), camera.project(corners, frame), atol=0.01, err_msg=suffix)
            data = json.loads((Path(name) / "camera.json").read_text())
            for wrong in ({}, {**data["focal"], "7": -2}, {str(f): 500 for f in FRAMES[1:]}):
                (Path(name) / "wrong.json").write_text(json.dumps({**data, "focal": wrong}))
                with self.assertRaises(DeliverError):
                    read_camera(Path(name) / "wrong.json")
        record = camera_record(camera, tracks_through(scene(), zoomed), False, 0)
        self.assertEqual(record.solved.zoom, camera.zoom)
        half = camera_scaled(camera, (SIZE[0] // 2, SIZE[1] // 2))
        self.assertAlmostEqual(half.focal_at(FRAMES[3]), camera.focal_at(FRAMES[3]) / 2)

    def test_two_lens_terms_are_told_where_one_leaves_something(self) -> None:
        every = tracks_through(scene(), lambda frame: FOCAL, (-0.2, 0.08))
        tracks = FeatureTracks(FRAMES[::2], [{f: p for f, p in places.items() if f in FRAMES[::2]} for places in every.places])
        one, two = (solve_camera(tracks, SIZE, radial=terms) for terms in (1, 2))
        np.testing.assert_allclose(two.radial, [-0.2, 0.08], atol=0.01)
        self.assertLess(abs(two.focal / FOCAL - 1), 0.01)
        self.assertLess(two.error, one.error)
        self.assertEqual(one.radial[1], 0)

    def test_a_camera_that_only_turns_is_solved_as_that(self) -> None:
        camera = solve_camera(tracks_of(scene(), turning_only=True, wandering=20), SIZE)
        self.assertTrue(camera.only_turns)
        self.assertFalse(solved().only_turns)
        self.assertLess(abs(camera.focal / FOCAL - 1), 0.01)
        self.assertLess(camera.error, 0.4)
        first = pose(FRAMES[0], True)[:, :3]
        for frame in FRAMES:
            between = camera.poses[frame][:, :3] @ camera.poses[FRAMES[0]][:, :3].T
            np.testing.assert_allclose(between, pose(frame, True)[:, :3] @ first.T, atol=2e-3)
        # whatever its depth, what is placed sticks: by OpenCV's projection of a slanted quad
        quad = np.array([[-0.5, -0.4, 4.0], [0.5, -0.4, 5.0], [0.5, 0.4, 5.0], [-0.5, 0.4, 4.0]])
        at = seen(quad, 12, True)
        filmed = FilmedScene(camera, None)  # type: ignore[arg-type]
        carried = carried_on_plane(camera, picked_plane(filmed, at, 12), at, 12)
        for frame in FRAMES:
            self.assertLess(np.abs(carried[frame] - seen(quad, frame, True)).max(), 0.5)
        self.assertLess(abs(solve_camera(tracks_of(scene(), turning_only=True), SIZE, FOCAL).focal - FOCAL), 1e-9)
        flat = np.column_stack([scene()[:200, :2], np.full(200, 5.0)])  # a wall, and a camera that moves along it
        with self.assertRaisesRegex(WertisError, "one plane"):
            solve_camera(tracks_of(flat), SIZE)
        with self.assertRaisesRegex(WertisError, "Too few features"):
            solve_camera(FeatureTracks(FRAMES, [{1: np.array([4.0, 5])}]), SIZE)

    def test_a_camera_is_written_and_read(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            path = Path(name) / "camera.json"
            write_camera(path, solved())
            back = read_camera(path)
            self.assertEqual((back.focal, back.size), (solved().focal, SIZE))
            np.testing.assert_array_equal(back.poses[7], solved().poses[7])
            data = json.loads(path.read_text())
            for key, value in (("format", "x"), ("focal", -1), ("cameras", {"1": [[1, 2]]}), ("principal", "here")):
                path.write_text(json.dumps({**data, key: value}))
                with self.assertRaises(DeliverError):
                    read_camera(path)


@cache
def film() -> list[np.ndarray]:
    """A wall at an angle before a far one, seen by the camera: (h, w, 3) uint8."""
    out = []
    for frame in FRAMES:
        picture = np.zeros((SIZE[1], SIZE[0], 3), np.uint8)
        for half_width, half_height, depth, slope, name in ((6.0, 4.0, 8.0, 0.0, "rocket"), (0.9, 0.7, 4.0, 0.4, "coffee")):
            image = cv2.resize(texture(name, (320, 240)), (960, 720), interpolation=cv2.INTER_CUBIC)
            quad = np.array([[-half_width, -half_height], [half_width, -half_height], [half_width, half_height], [-half_width, half_height]])
            corners = np.column_stack([quad, depth + slope * quad[:, 0]])
            source = np.array([[0, 0], [960, 0], [960, 720], [0, 720]], np.float32) - 0.5
            matrix = cv2.getPerspectiveTransform(source, seen(corners, frame).astype(np.float32) - 0.5)
            layer = cv2.warpPerspective(image, matrix, SIZE, flags=cv2.INTER_AREA)
            there = cv2.warpPerspective(np.ones(image.shape[:2], np.float32), matrix, SIZE)[..., None]
            picture = (picture * (1 - there) + layer.reshape(*layer.shape[:2], -1) * there).astype(np.uint8)
        out.append(picture)
    return out


class UsdTest(unittest.TestCase):
    """Through OpenUSD's own camera, which shares no code with ours."""

    def test_it_projects_as_ours_does_and_comes_back(self) -> None:
        from pxr import Gf, Usd, UsdGeom

        camera = replace(solved(), principal=np.array([310.0, 205.0]), radial=(0.0, 0.0))
        with tempfile.TemporaryDirectory() as name:
            path = Path(name) / "camera.usda"
            corners = np.array([[-1.0, -1, 4], [1, -1, 4], [1, 1, 4], [-1, 1, 4]])
            write_camera_usd(path, camera, 25.0, {"Wall": corners})
            stage = Usd.Stage.Open(str(path))
            usd = UsdGeom.Camera(stage.GetPrimAtPath("/scene/camera"))
            points = np.array(UsdGeom.Points(stage.GetPrimAtPath("/scene/points")).GetPointsAttr().Get(), float)[:20]
            for frame in (FRAMES[0], FRAMES[12], FRAMES[-1]):
                frustum = usd.GetCamera(frame).frustum
                seen_there = frustum.ComputeViewMatrix() * frustum.ComputeProjectionMatrix()
                at = np.array([seen_there.Transform(Gf.Vec3d(*map(float, p))) for p in points])
                pixels = np.column_stack([(at[:, 0] + 1) / 2 * SIZE[0], (1 - at[:, 1]) / 2 * SIZE[1]])
                np.testing.assert_allclose(pixels, camera.project(camera.points[:20], frame), atol=0.02)
            back = read_camera_usd(path)
            np.testing.assert_allclose(back.poses[FRAMES[5]], camera.poses[FRAMES[5]], atol=1e-9)
            np.testing.assert_allclose([back.focal, *back.principal], [camera.focal, *camera.principal], atol=1e-3)
            wall = UsdGeom.Mesh(stage.GetPrimAtPath("/scene/plane1"))
            np.testing.assert_allclose(np.array(wall.GetPointsAttr().Get()) * [1, -1, -1], corners, atol=1e-6)
            (Path(name) / "bad.usda").write_text("no usd")
            with self.assertRaises(DeliverError):
                read_camera_usd(Path(name) / "bad.usda")


class RecordTest(unittest.TestCase):
    """The camera as the shot keeps it."""

    def shot(self) -> Shot:
        return Shot(camera=camera_record(solved(), tracks_of(scene(), wandering=20), False, False))

    def test_it_is_the_camera_that_was_solved(self) -> None:
        record = solved_camera(self.shot())
        np.testing.assert_array_equal(record.solved.poses[7], solved().poses[7])
        self.assertLess(np.nanmedian(record.off), 0.25)
        numbers, places = record.seen_on(12)
        np.testing.assert_allclose(record.solved.project(record.points[numbers], 12), places, atol=2.0)
        with self.assertRaisesRegex(WertisError, "not solved yet"):
            solved_camera(Shot())

    def test_solved_again_without_some_points_it_is_no_worse(self) -> None:
        shot = self.shot()
        record = solved_camera(shot)
        worst = set(np.argsort(-record.off)[:30].tolist())
        again = solved_camera(solve_again(shot, worst))
        self.assertLessEqual(len(again.points), len(record.points) - 30)
        self.assertLessEqual(again.solved.error, record.solved.error + 1e-3)
        self.assertLess(abs(again.focal / FOCAL - 1), 0.01)
        with self.assertRaisesRegex(WertisError, "would be left"):
            solve_again(shot, set(range(len(record.points) - 3)))

    def test_a_track_needs_a_plane_and_a_camera(self) -> None:
        shot, track = add_track(self.shot(), np.array([[200.0, 120], [400, 120], [400, 260], [200, 260]]), 10)
        with self.assertRaisesRegex(WertisError, "no plane of the scene"):
            set_off_plane(shot, track.id, 5)
        plane = ScenePlane(np.array([0.0, 0, 1]), np.array([0.0, 0, -1]), 0.0)
        moved = set_plane(shot, track.id, plane)
        settings = moved.tracks[0].settings
        assert isinstance(settings, CameraSettings)
        self.assertIsNotNone(settings.plane)
        with self.assertRaisesRegex(WertisError, "not solved on frame"):
            set_plane(shot.with_track(track.but(region=track.region.but(frame=99))), track.id, plane)
        away = ScenePlane(np.array([0.0, 0, -1]), np.array([0.0, 0, 1]), 0.0)
        with self.assertRaisesRegex(WertisError, "horizon"):
            set_plane(shot, track.id, away)


class CameraWindowTest(WindowCase):
    def test_from_a_region_on_a_wall_to_a_graphic(self) -> None:
        folder = self.folder / "room"
        folder.mkdir()
        for k, picture in enumerate(film(), 1):
            cv2.imwrite(str(folder / f"wall.{k:04d}.png"), picture)
        w, s = self.window, self.window.session
        w.open_path(folder)
        self.until(lambda: w.viewer.picture is not None)
        quad = np.array([[-0.6, -0.5], [0.6, -0.5], [0.6, 0.5], [-0.6, 0.5]])
        corners = np.column_stack([quad, 4 + 0.4 * quad[:, 0]])
        start = s.shot
        shot, track = add_track(s.shot, seen(corners, 1), 1, "Wall")
        s.history.do("Draw", shot)
        s.select(track.id)
        s.go_step("Track")
        page = w.steps["Track"].page
        page.kind.setCurrentIndex(page.kind.findData("camera"))
        page.kind.activated.emit(page.kind.currentIndex())
        self.assertIn("not solved yet", page.camera.facts.text())
        w.run_command("track.both")
        self.until(lambda: w.job is None and s.shot.camera is not None, 90)
        self.assertIn("24 frames", page.camera.facts.text())
        self.spin()
        tool = w.viewer.tool
        self.assertGreater(len(tool._points()), 50)
        tool._chosen_changed({0, 1, 2})
        self.assertEqual(len(page.camera.chosen), 3)
        before = len(s.shot.camera.points)
        page.camera.buttons["drop"].click()
        self.until(lambda: w.job is None, 60)
        self.assertLess(len(s.shot.camera.points), before)
        motion = motion_of(s.track)
        assert motion is not None
        np.testing.assert_allclose(motion.at(24).forward(seen(corners, 1)), seen(corners, 24), atol=0.5)
        s.go_step("Track")
        self.spin()
        w.viewer.tool._chosen_changed({5, 9})
        page.camera.distance.setValue(2.5)
        page.camera.buttons["distance"].click()
        self.assertIn("2.5 apart", w.words.text())
        self.assertAlmostEqual(float(np.linalg.norm(np.subtract(*s.shot.camera.points[[5, 9]]))), 2.5)
        wall = np.flatnonzero(np.abs(s.shot.camera.off) < 1)[:12].tolist()
        w.viewer.tool._chosen_changed(set(wall))
        page.camera.buttons["ground"].click()
        self.assertIn("stands on the plane", w.words.text())
        np.testing.assert_allclose(motion_of(s.track).at(24).forward(seen(corners, 1)), seen(corners, 24), atol=0.5)
        s.go_step("Use")
        w.steps["Use"].place()
        self.until(lambda: s.placement is not None)
        out = self.folder / "out" / "comp.####.png"
        w.steps["Deliver"].render("comp", str(out))
        self.until(lambda: w.job is None, 60)
        self.assertEqual(len(list(out.parent.glob("*.png"))), len(FRAMES))
        while s.history.undo_label:
            w.undo()
        self.assertEqual(s.shot, start)


class PlaneAlignmentTest(unittest.TestCase):
    """A plane by its pixels alone, seen by a camera that is known; carried corners against OpenCV's projection of the true ones."""

    @classmethod
    def setUpClass(cls) -> None:
        rng = np.random.default_rng(6)
        cls.luma = {f: np.clip(cv2.cvtColor(p, cv2.COLOR_RGB2GRAY) + rng.normal(0, 2, p.shape[:2]), 0, 255).astype(np.uint8)
                    for f, p in zip(FRAMES, film(), strict=True)}
        cls.camera = SolvedCamera(SIZE, FOCAL, np.array(SIZE) / 2, (0.0, 0.0), {f: pose(f) for f in FRAMES}, np.zeros((0, 3)), np.zeros(0, int), {})

    def aligner(self, quad: np.ndarray, frame: int) -> tuple[PlaneAligner, np.ndarray]:
        """Of a part of the near wall (4, 2: across and down it), and its corners (4, 3)."""
        corners = np.column_stack([quad, 4 + 0.4 * quad[:, 0]])
        return PlaneAligner(self.camera, polygon.fill(seen(corners, frame), SIZE), frame, self.luma.__getitem__), corners

    def off(self, plane: ScenePlane, corners: np.ndarray, frame: int) -> float:
        carried = carried_on_plane(self.camera, plane, seen(corners, frame), frame)
        return float(np.sqrt(np.mean([np.square(carried[f] - seen(corners, f)).sum(1) for f in FRAMES])))

    def test_a_plane_that_is_nearly_right_comes_right(self) -> None:
        aligner, corners = self.aligner(np.array([[-0.6, -0.5], [0.6, -0.5], [0.6, 0.5], [-0.6, 0.5]]), 10)
        begun = ScenePlane(corners.mean(0) * 1.03, np.array([0.25, 0.12, -0.96]), 0.0)
        self.assertGreater(self.off(begun, corners, 10), 2.0)
        found = aligner.aligned(begun)
        assert found is not None
        away = self.off(found.plane, corners, 10)
        self.assertLess(away, 0.1)
        self.assertLess(away, 3 * found.error + 0.03)
        self.assertGreater(found.likeness, 0.85)

    def test_a_plane_says_how_far_what_is_on_it_may_lie_off(self) -> None:
        narrow, strip = self.aligner(np.array([[-0.2, -0.5], [-0.12, -0.5], [-0.12, 0.5], [-0.2, 0.5]]), 10)
        wide, corners = self.aligner(np.array([[-0.6, -0.5], [0.6, -0.5], [0.6, 0.5], [-0.6, 0.5]]), 10)
        said = {}
        for name, aligner, place in (("strip", narrow, strip), ("wall", wide, corners)):
            found = aligner.aligned(ScenePlane(place.mean(0), np.array([0.36, 0, -0.93]), 0.0))
            assert found is not None
            said[name] = plane_deviations(self.camera, found.plane, seen(corners, 10), 10)
            away = carried_on_plane(self.camera, found.plane, seen(corners, 10), 10)
            off = {f: np.sqrt(np.square(away[f] - seen(corners, f)).sum(1).mean()) for f in FRAMES}
            self.assertLess(off[24], 2.5 * said[name][24] + 0.03)
            self.assertAlmostEqual(said[name][10], 0)
            # the world may be turned and take another scale: what is said stays
            turn = cv2.Rodrigues(np.array([0.3, -0.2, 0.1]))[0]
            poses = {f: np.column_stack([p[:, :3] @ turn.T, 2.5 * p[:, 3]]) for f, p in self.camera.poses.items()}
            other = replace(found.plane, point=2.5 * turn @ found.plane.point, normal=turn @ found.plane.normal)
            self.assertAlmostEqual(plane_deviations(replace(self.camera, poses=poses), other, seen(corners, 10), 10)[24], said[name][24], 6)
        self.assertGreater(said["strip"][24], 3 * said["wall"][24])
        region = seen(corners, 10)
        record = camera_record(replace(self.camera, errors=dict.fromkeys(FRAMES, 0.1)), FeatureTracks(FRAMES, []), False, 0)
        shot, track = add_track(Shot(camera=record), region, 10)
        shot = set_plane(shot, track.id, found.plane)
        kept = shot.tracks[0].settings.plane
        np.testing.assert_allclose(kept.covariance, found.plane.covariance)
        solution = shot.tracks[0].solution
        self.assertAlmostEqual(solution.errors[list(solution.frames).index(24)], np.hypot(0.1, said["wall"][24]), 3)

    def test_of_many_that_are_guessed_those_that_are_most_alike_are_right(self) -> None:
        """A narrow strip, of which nothing is known but about how far it is."""
        aligner, corners = self.aligner(np.array([[-0.25, -0.5], [-0.1, -0.5], [-0.1, 0.5], [-0.25, 0.5]]), 10)
        depths = np.geomspace(0.75, 1.3, 9) * float((corners.mean(0) - 0) @ pose(10)[2, :3] + pose(10)[2, 3])
        guesses = sorted(plane_hypotheses(self.camera, seen(corners, 10), 10, list(depths)), key=aligner.likeness)[-10:]
        aligned = [a for guess in guesses if (a := aligner.gradually_aligned(guess)) is not None]
        best = max(aligned, key=lambda a: a.likeness)
        self.assertLess(self.off(best.plane, corners, 10), 0.3)

    def test_where_alignment_leads_astray_what_looks_most_alike_is_taken(self) -> None:
        aligner, corners = self.aligner(np.array([[-0.25, -0.5], [-0.05, -0.5], [-0.05, 0.5], [-0.25, 0.5]]), 10)
        near = ScenePlane(corners.mean(0) * 1.01, np.array([0.35, 0.03, -0.93]), 0.0)
        far = ScenePlane(corners.mean(0) * 1.05, np.array([0.2, 0.1, -0.97]), 0.0)
        self.assertGreater(self.off(near, corners, 10), 1.0)
        found = aligner.most_alike(near)
        assert found is not None
        self.assertLess(self.off(found.plane, corners, 10), 0.3)
        self.assertGreater(found.likeness, aligner.likeness_of_all(near))
        scene = FilmedScene(self.camera, FramesPlate(film()), read=lambda frame: film()[frame - 1])
        astray = AlignedPlane(far, 0.7, 0.1)
        with mock.patch.object(scene_plane, "_plane_candidates", return_value=[near]), mock.patch.object(PlaneAligner, "aligned", return_value=astray):
            picked = picked_plane(scene, seen(corners, 10), 10)
        self.assertLess(self.off(picked, corners, 10), 0.3)

    def test_a_bare_region_is_refused(self) -> None:
        bare = np.full((SIZE[1], SIZE[0]), 90, np.uint8)
        mask = polygon.fill(np.array([[100.0, 100], [300, 100], [300, 300], [100, 300]]), SIZE)
        with self.assertRaisesRegex(RegionError, "no texture"):
            PlaneAligner(self.camera, mask, 10, lambda _: bare)


class PicturesTest(unittest.TestCase):
    def test_features_are_followed_for_long(self) -> None:
        tracks = list(follow_features(FRAMES, lambda f: cv2.cvtColor(film()[f - 1], cv2.COLOR_BGR2GRAY)))[-1][1]
        self.assertGreater(len(tracks.places), 150)
        self.assertGreater(np.median([len(p) for p in tracks.places]), 12)
        mask = np.zeros(SIZE[::-1], np.uint8)
        mask[:, :320] = 255
        tracks = list(follow_features(FRAMES[:5], lambda f: cv2.cvtColor(film()[f - 1], cv2.COLOR_BGR2GRAY), lambda f: mask))[-1][1]
        self.assertGreater(min(p[1][0] for p in tracks.places if 1 in p), 319)

    def test_the_command_solves_and_carries_a_rectangle(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            (folder / "plate").mkdir()
            for k, picture in enumerate(film(), 1):
                cv2.imwrite(str(folder / "plate" / f"wall.{k:04d}.png"), picture)
            quad = np.array([[-0.5, -0.4], [0.5, -0.4], [0.5, 0.4], [-0.5, 0.4]])
            corners = np.column_stack([quad, 4 + 0.4 * quad[:, 0]])
            start = 10
            given = " ".join(f"{x},{y}" for x, y in seen(corners, start))
            self.assertEqual(main(["solve", str(folder / "plate"), "--out", str(folder / "c.json"), "--start", str(start), "--corners", given,
                                   "--pin", str(folder / "pin.csv"), "--save", str(folder / "s.wertis"), "--name", "Wall", "--quiet"]), 0)
            self.assertNotEqual(main(["solve", str(folder / "plate"), "--out", str(folder / "d.json"), "--distance", "1,1 2,2", "far", "--quiet"]), 0)
            camera = read_camera(folder / "c.json")
            self.assertLess(abs(camera.focal / FOCAL - 1), 0.02)
            with open(folder / "pin.csv", newline="") as f:
                for row in csv.DictReader(f):
                    at = np.array([[float(row[f"x{k}"]), float(row[f"y{k}"])] for k in (1, 2, 3, 4)])
                    self.assertLess(np.linalg.norm(at - seen(corners, int(row["frame"])), axis=1).max(), 0.4)
            wall = wertis.open(folder / "s.wertis").surface("Wall")
            np.testing.assert_allclose(wall.follow(seen(corners, start), start)[24], seen(corners, 24), atol=0.4)
            np.testing.assert_allclose(solved_camera(wall.shot.document).focal, camera.focal)
            painted_patch_leaves_the_rest(self, wall, seen(corners, start), start, (3, 20), folder)
            # a hand's breadth before the wall: by OpenCV's projection of a quad that stands off along the wall's normal
            normal = np.array([0.4, 0, -1]) / np.hypot(0.4, 1)
            eye = -pose(start)[:, :3].T @ pose(start)[:, 3]
            far = float((eye - corners[0]) @ normal)
            rays = corners - eye
            nearer = eye + rays * (1 - 0.1)  # where the same rays meet the plane that is a tenth nearer
            np.testing.assert_allclose((nearer - corners) @ normal, far * 0.1, atol=1e-9)
            again = wall.shot.camera.drop_points(0.5)
            self.assertLessEqual(len(again.solved.points), len(camera.points))
            wall.track()  # by the mechanism that all tracks share
            np.testing.assert_allclose(wall.follow(seen(corners, start), start)[24], seen(corners, 24), atol=0.5)
            wall.shot.undo()
            wall.shot.undo()
            wall.stand_off(10)
            np.testing.assert_allclose(wall.follow(seen(corners, start), start)[24], seen(nearer, 24), atol=0.6)
            wall.shot.undo()
            np.testing.assert_allclose(wall.follow(seen(corners, start), start)[24], seen(corners, 24), atol=0.4)
            for wrong in (["--pin", "p.csv"], ["--focal", "3"], ["--corners", given, "--pin", "p.csv"]):
                self.assertNotEqual(main(["solve", str(folder / "plate"), "--out", str(folder / "c.json"), "--quiet", *wrong]), 0)


del WindowCase


if __name__ == "__main__":
    unittest.main()
