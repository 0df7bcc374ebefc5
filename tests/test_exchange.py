"""Motion in a receiver's coordinates: layouts, files, maps, proof by the receiver, and motion read back."""

import ast
import io
import json
import shutil
import subprocess
import sys
import tempfile
import unittest
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path
from unittest import mock

import cv2
import jsonschema
import numpy as np
import OpenEXR
import opentimelineio as otio
from PySide6.QtWidgets import QFileDialog, QInputDialog

import wertis
import wertis_receiver
import wertis_receiver.read
from tests.scenes import texture
from tests.test_window import WindowCase
from wertis.app.steps.deliver import columns_dialog
from wertis.app.steps.deliver.columns_dialog import ColumnsDialog
from wertis.app.steps.deliver.motion_fields import MotionFields
from wertis.cli.main import main
from wertis.core.errors import DeliverError, WertisError
from wertis.core.exchange import motion_json, receivers
from wertis.core.exchange.layout import Layout
from wertis.core.exchange.pictures import write_picture
from wertis.core.exchange.receivers import Receiver
from wertis.core.exchange.shot_data import schema
from wertis.core.geometry import homography
from wertis.core.jobs.motion_export import motion_file
from wertis.core.jobs.receiver_process import ReceiverProcess
from wertis.core.shot.document import PlaneSolution, PlateRef, Region, Track
from wertis.core.shot.edits import as_points

SIZE = (321, 241)  # odd on purpose
QUAD = np.array([[70.0, 50], [250, 58], [240, 190], [78, 182]])
FRAMES = range(1001, 1008)
LAYOUTS: tuple[dict, ...] = ({}, {"y_up": True}, {"centre": "zero"}, {"y_up": True, "centre": "zero", "first": 0},
                             {"units": "unit", "y_up": True, "first": 1}, {"receiver": (963, 723)},
                             {"receiver": (160, 120), "centre": "zero", "y_up": True, "first": -10})


def moved(frame: int) -> np.ndarray:
    k = frame - 1001
    return homography.translation(2.3 * k, -1.7 * k) @ np.array([[1 + 0.01 * k, 0.02 * k, 0], [-0.004 * k, 1, 0], [1e-4 * k, 3e-5 * k, 1]])


class Case(unittest.TestCase):
    aspect = 1.0

    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder)
        for f in FRAMES:
            write_picture(self.folder / f"p.{f:04d}.png", texture(size=SIZE))
        write_picture(self.folder / "art.png", texture("chelsea", (300, 220)))
        self.shot = wertis.open(self.folder / "p.####.png")
        matrices = np.array([moved(f) if f != 1005 else np.full((3, 3), np.nan) for f in FRAMES])  # lost on one frame
        solution = PlaneSolution(reference=1001, frames=np.array(FRAMES, np.int64), matrices=matrices, errors=np.full(7, 0.1), seen=np.ones(7))
        track = Track(name="Wall", region=Region(frame=1001, points=as_points(QUAD)), solution=solution)
        ref = self.shot.document.plate
        assert isinstance(ref, PlateRef)
        self.shot._do("Track", self.shot.document.but(tracks=(track,), plate=ref.but(aspect=self.aspect)))
        self.wall = self.shot.surface("Wall")
        self.graphic = self.wall.place(self.folder / "art.png", QUAD, 1001, fit="stretch")


class LayoutTest(unittest.TestCase):
    def test_conventions_of_the_trade(self) -> None:
        # common practice: y up or down, first pixel's centre at 0.5 or 0, shares of the picture
        corner = np.array([[0.0, 0.0], [0.5, 0.5], [320.0, 240.0]])
        for options, expected in (({}, corner), ({"y_up": True}, [[0, 240], [0.5, 239.5], [320, 0]]),
                                  ({"centre": "zero"}, [[-0.5, -0.5], [0, 0], [319.5, 239.5]]),
                                  ({"y_up": True, "centre": "zero"}, [[-0.5, 239.5], [0, 239], [319.5, -0.5]]),
                                  ({"units": "unit"}, [[0, 0], [1 / 640, 1 / 480], [1, 1]]), ({"receiver": (640, 480)}, [[0, 0], [1, 1], [640, 480]])):
            np.testing.assert_allclose(Layout(size=(320, 240), **options).points(corner), expected, atol=1e-12)

    def test_there_and_back(self) -> None:
        points = np.random.default_rng(1).uniform(-50, 400, (20, 2))
        for options in LAYOUTS:
            layout = Layout(size=SIZE, start=1001, **options)
            np.testing.assert_allclose(layout.back(layout.points(points)), points, atol=1e-9)
            self.assertEqual(layout.frame_back(layout.frame(1004)), 1004)
            matrix = moved(1003)
            np.testing.assert_allclose(layout.homography_back(layout.homography(matrix)), matrix / matrix[2, 2], atol=1e-9)
            np.testing.assert_allclose(homography.apply(layout.homography(matrix), layout.points(QUAD)),
                                       layout.points(homography.apply(matrix, QUAD)), atol=1e-8)


class FilesTest(Case):
    def test_out_and_in_again(self) -> None:
        for options in LAYOUTS:
            for kind in ("corners", "matrices"):
                for suffix in (".json", ".csv"):
                    path = self.folder / f"m{suffix}"
                    self.assertEqual(self.wall.export_motion(path, kind, self.graphic, **options), 6)
                    shot = wertis.open(self.folder / "p.####.png")
                    back = shot.import_motion(path)
                    for frame in FRAMES:
                        if frame == 1005:
                            continue
                        there = back.follow(QUAD, 1001)[frame]
                        np.testing.assert_allclose(there, homography.apply(moved(frame), QUAD), atol=1e-3, err_msg=f"{options} {kind} {suffix}")

    def test_relative_to_the_reference_frame(self) -> None:
        """Written as differences, which are 0 on the reference frame; read back, by Wertis and by the receiver, as they were."""
        for kind in ("corners", "points", "transforms"):
            for suffix in (".json", ".csv", *([".txt"] if kind == "points" else [])):
                for options in LAYOUTS[:5]:
                    path = self.folder / f"r{suffix}"
                    self.wall.export_motion(path, kind, self.graphic, relative=True, **options)
                    layout = Layout(size=SIZE, start=1001, **options)
                    meant = motion_file(self.shot.document, self.wall.record, kind, layout, self.graphic.record)
                    back = motion_json.read(path, layout)
                    rows = back.tracks or {"": back.frames}
                    for name, own in (meant.tracks or {"": meant.frames}).items():
                        self.assertEqual(sorted(rows[name]), sorted(own))
                        for frame, row in own.items():
                            np.testing.assert_allclose(rows[name][frame][:2], row[:2], atol=2e-5, err_msg=f"{kind} {suffix} {options}")
                    if suffix == ".json":
                        said = json.loads(path.read_text())
                        home = said["tracks"]["2"] if kind == "points" else said["frames"]
                        np.testing.assert_allclose(home[str(layout.frame(1001))][:2], 0, atol=1e-9)
                    if kind == "corners":
                        theirs = wertis_receiver.read.read(path, SIZE)
                        there = theirs.convention.pixels(theirs.corners[layout.frame(1006)]) * (np.array(SIZE) / theirs.convention.size)
                        np.testing.assert_allclose(there, homography.apply(moved(1006), QUAD), atol=1e-4)
        with self.assertRaisesRegex(DeliverError, "relative to the reference frame by what they are"):
            self.wall.export_motion(self.folder / "m.json", "matrices", relative=True)
        text = (self.folder / "r.json").read_text()
        (self.folder / "broken.json").write_text(text.replace('"home"', '"house"'))
        with self.assertRaises(DeliverError):
            motion_json.read(self.folder / "broken.json")

    def test_a_file_for_each_point_and_a_part_of_the_range(self) -> None:
        self.wall.export_motion(self.folder / "p.{point}.txt", "points", self.graphic)
        files = sorted(p.name for p in self.folder.glob("p.*.txt"))
        self.assertEqual(files, ["p.1.txt", "p.2.txt", "p.3.txt", "p.4.txt"])
        only = motion_json.read(self.folder / "p.3.txt", Layout(size=SIZE))
        self.assertEqual(list(only.tracks), ["3"])
        np.testing.assert_allclose(only.tracks["3"][1006][:2], homography.apply(moved(1006), QUAD)[2], atol=1e-4)
        with self.assertRaisesRegex(DeliverError, "a file for each point"):
            self.wall.export_motion(self.folder / "c.{point}.csv", "corners", self.graphic)
        saved = str(self.shot.save(self.folder / "s.wertis"))
        with redirect_stdout(io.StringIO()):
            self.assertEqual(main(["export", saved, "--what", "corners", "--range", "1003-1004", "--first", "1", "--out", str(self.folder / "c.json")]), 0)
        self.assertEqual(list(json.loads((self.folder / "c.json").read_text())["frames"]), ["1", "2"])
        self.assertEqual(wertis.open(saved).range, (1001, 1007), "the shot keeps its own")

    def test_a_lost_frame_has_no_line(self) -> None:
        body = motion_file(self.shot.document, self.wall.record, "corners", Layout(size=SIZE, start=1001), self.graphic.record)
        self.assertEqual(sorted(body.frames), [f for f in FRAMES if f != 1005])

    def test_the_steadying_pin_holds_the_surface_still(self) -> None:
        self.wall.export_motion(self.folder / "s.json", "inverse corners", reference=1002)
        body = motion_json.read(self.folder / "s.json")
        w, h = SIZE
        for frame in (1001, 1004, 1007):
            picture, goes = np.array([[0, 0], [w, 0], [w, h], [0, h]], np.float32), np.array(body.frames[frame], np.float32).reshape(4, 2)
            onto = cv2.getPerspectiveTransform(picture, goes)
            there = homography.apply(moved(frame), QUAD)
            still = cv2.perspectiveTransform(there[None].astype(np.float32), onto)[0]
            np.testing.assert_allclose(still, homography.apply(moved(1002), QUAD), atol=2e-3)

    def test_a_transform_says_what_it_leaves_out(self) -> None:
        body = motion_file(self.shot.document, self.wall.record, "transforms", Layout(size=SIZE, start=1001))
        anchor = np.array(body.anchor)
        np.testing.assert_allclose(body.frames[1001], [*anchor, 1, 1, 0, 0, 0], atol=1e-9)
        x, y, sx, sy, turn, shear, left = body.frames[1007]
        angle = np.deg2rad(turn)
        linear = np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]]) @ np.array([[1, shear], [0, 1]]) @ np.diag([sx, sy])
        made = (QUAD - anchor) @ linear.T + [x, y]
        off = np.linalg.norm(made - homography.apply(moved(1007), QUAD), axis=1)
        self.assertLess(off.max(), left + 0.01)
        self.assertGreater(left, 0.5, "perspective is left out, and that is said")

    def test_points_as_a_plain_table(self) -> None:
        self.wall.export_motion(self.folder / "p.txt", "points", self.graphic, y_up=True)
        rows = [line.split() for line in (self.folder / "p.txt").read_text().splitlines() if line and not line.startswith("#")]
        self.assertEqual(len(rows), 4 * 6)
        np.testing.assert_allclose([float(v) for v in rows[0][1:3]], [QUAD[0][0], SIZE[1] - QUAD[0][1]], atol=1e-5)
        self.assertTrue(all(0 < float(r[3]) <= 1 for r in rows))

    def test_maps_are_read_by_another_library_and_mean_what_they_say(self) -> None:
        for kind, options in (("map", {}), ("inverse map", {"y_up": True}), ("map", {"units": "unit", "centre": "zero"})):
            count = self.wall.export_motion(self.folder / "m.####.exr", kind, **options)
            self.assertEqual(count, 6)
            # by the format's own reference library (OpenEXR), which shares nothing with OpenImageIO's reader here but the format
            with OpenEXR.File(str(self.folder / "m.1004.exr"), separate_channels=True) as file:
                channels = file.channels()
                pixels = np.stack([channels[name].pixels for name in "RGBA"], axis=-1)
            self.assertEqual(pixels.dtype, np.float32)
            layout = Layout(size=SIZE, start=1001, **options)
            y, x = 120, 150
            matrix = np.linalg.inv(moved(1004)) if kind == "map" else moved(1004)
            expected = layout.points(homography.apply(matrix, np.array([[x + 0.5, y + 0.5]])))[0]
            np.testing.assert_allclose(pixels[y, x, :2], expected, atol=2e-3)
            self.assertEqual(pixels[y, x, 3], 1)
            if kind == "map":  # what comes from outside the reference frame's picture was never seen
                corner = homography.apply(matrix, np.array([[SIZE[0] - 0.5, 0.5]]))[0]
                self.assertEqual(bool(pixels[0, -1, 3]), bool(((corner >= 0) & (corner <= SIZE)).all()))
            for path in self.folder.glob("m.*.exr"):
                path.unlink()

    def test_damaged_and_foreign_files_are_refused_with_words(self) -> None:
        self.wall.export_motion(self.folder / "m.json", "matrices")
        self.wall.export_motion(self.folder / "m.csv", "corners", self.graphic)
        rng = np.random.default_rng(4)
        before = self.shot.document
        for name in ("m.json", "m.csv"):
            whole = (self.folder / name).read_bytes()
            for k in range(150):
                spoilt = bytearray(whole)
                for _ in range(int(rng.integers(1, 6))):
                    spoilt[int(rng.integers(len(spoilt)))] = int(rng.integers(256))
                (self.folder / f"x{Path(name).suffix}").write_bytes(bytes(spoilt[:int(rng.integers(1, len(spoilt)))] if k % 2 else spoilt))
                try:
                    self.shot.import_motion(self.folder / f"x{Path(name).suffix}")
                except WertisError as why:
                    self.assertGreater(len(str(why)), 15)
                else:
                    self.shot.undo()
        self.assertEqual(self.shot.document.tracks, before.tracks)
        (self.folder / "other.csv").write_text("frame,a,b\n1,2,3\n")
        for path, words in (("other.csv", "no table of motion that is known"), ("p.1001.png", "no file of motion")):
            with self.assertRaisesRegex(DeliverError, words):
                self.shot.import_motion(self.folder / path)
        body = json.loads((self.folder / "m.json").read_text())
        body["layout"]["size"] = [640, 480]
        (self.folder / "m.json").write_text(json.dumps(body))
        with self.assertRaisesRegex(DeliverError, "of a picture of 640 x 480"):
            self.shot.import_motion(self.folder / "m.json")
        with self.assertRaisesRegex(DeliverError, "nothing that goes out"):
            self.wall.export_motion(self.folder / "m.json", "smell")
        with self.assertRaisesRegex(WertisError, "centre"):
            self.wall.export_motion(self.folder / "m.json", "corners", centre="middle")

    def test_a_table_with_columns_of_its_own(self) -> None:
        names = ["Frame", *(f"{corner}.{axis}" for corner in ("nw", "ne", "se", "sw") for axis in "xy")]
        order = [3, 4, 0, 1, 2, 7, 8, 5, 6]  # as somebody else had them, with one more
        rows = [";".join([*(names[k] for k in order), "note"])]
        for frame in (1001, 1002, 1006):
            values = [str(frame), *(f"{v:.6f}" for v in homography.apply(moved(frame), QUAD).ravel())]
            rows.append(";".join([*(values[k] for k in order), "-"]))
        path = self.folder / "theirs.csv"
        path.write_text("\n".join(rows) + "\n")
        with self.assertRaisesRegex(DeliverError, "no table of motion that is known"):
            self.shot.import_motion(path)
        made = self.shot.import_motion(path, "Theirs", names)
        np.testing.assert_allclose(made.follow(QUAD, 1001)[1006], homography.apply(moved(1006), QUAD), atol=1e-3)
        self.shot.save(self.folder / "s.wertis")
        with redirect_stdout(io.StringIO()):
            self.assertEqual(main(["import", str(self.folder / "s.wertis"), str(path), "--name", "Again", "--columns", ",".join(names)]), 0)
        self.assertEqual(wertis.open(self.folder / "s.wertis").surface("Again").record.solution.frames.tolist(), [1001, 1002, 1006])
        for columns, words in ((names[:5], "5 columns are named"), (["Time", *names[1:]], "no column Time; it has ne.x, ne.y, Frame")):
            with self.assertRaisesRegex(DeliverError, words):
                self.shot.import_motion(path, "", columns)
        path.write_text("\n".join([*rows, "1;2"]))
        with self.assertRaisesRegex(DeliverError, "Row 5 of theirs.csv has 2 cells"):
            self.shot.import_motion(path, "", names)


class WholeShotTest(Case):
    def test_everything_of_a_shot_fits_its_published_schema(self) -> None:
        self.shot.matte(QUAD, 1001, self.wall, "Docker", roundness=0.0)
        out = self.folder / "all.json"
        self.assertEqual(self.shot.export_data(out, y_up=True, centre="zero", first=1), 3)
        found = json.loads(out.read_text())
        published = json.loads((Path(__file__).parents[1] / "docs" / "shot-data.schema.json").read_text())
        self.assertEqual(published, json.loads(schema()))
        jsonschema.Draft202012Validator.check_schema(published)  # the draft's own rules, by the reference library
        checked = jsonschema.Draft202012Validator(published)
        checked.validate(found)
        for spoilt in ({**found, "version": 2}, {k: v for k, v in found.items() if k != "plate"}, {**found, "range": [1]}, {**found, "more": 1}):
            self.assertFalse(checked.is_valid(spoilt))

    def test_its_places_are_those_of_the_shot(self) -> None:
        self.shot.matte(QUAD, 1001, self.wall, "Docker", roundness=0.0)
        layout = Layout(size=SIZE, start=1001, y_up=True, first=1)
        out = self.folder / "all.json"
        self.shot.export_data(out, y_up=True, first=1)
        found = json.loads(out.read_text())
        track, graphic, shape = found["tracks"][0], found["graphics"][0], found["mattes"][0]["shapes"][0]
        self.assertNotIn("5", graphic["corners"])  # the lost frame
        self.assertNotIn("5", track["frames"])
        for frame in (1002, 1007):
            expected, name = layout.points(homography.apply(moved(frame), QUAD)), str(frame - 1000)
            for said in (graphic["corners"][name], track["frames"][name]["outline"],
                         homography.apply(np.array(track["frames"][name]["matrix"]), layout.points(QUAD))):
                np.testing.assert_allclose(said, expected, atol=1e-4)
            away = np.linalg.norm(np.array(shape["outlines"][name])[:, None] - _along(expected)[None], axis=2).min(axis=1)
            self.assertLess(away.max(), 0.1)

    def test_a_clip_is_read_back_by_the_standards_own_library(self) -> None:
        frames, movie = self.folder / "a.otio", self.folder / "b.otio"
        self.shot.write_clip(frames, self.folder / "out" / "comp.####.png")  # beside the clip, so that both can be moved
        self.shot.write_clip(movie, self.folder.parent / "comp.mp4")
        clip = otio.adapters.read_from_file(str(frames)).find_clips()[0]
        rate, reference = self.shot.plate.fps, clip.media_reference
        self.assertEqual(clip.trimmed_range(), otio.opentime.TimeRange(otio.opentime.RationalTime(1001, rate), otio.opentime.RationalTime(7, rate)))
        self.assertEqual([reference.target_url_for_image_number(k) for k in (0, 6)], ["out/comp.1001.png", "out/comp.1007.png"])
        clip = otio.adapters.read_from_file(str(movie)).find_clips()[0]
        self.assertEqual(clip.media_reference.target_url, (self.folder.parent / "comp.mp4").as_uri())
        self.assertEqual((clip.trimmed_range().start_time.value, clip.duration().value), (0, 7))

    def test_by_the_command_line(self) -> None:
        one, out = str(self.folder / "s.wertis"), str(self.folder / "all.json")
        self.shot.save(one)
        with redirect_stdout(io.StringIO()) as said, redirect_stderr(io.StringIO()):
            self.assertEqual(main(["export", one, "--what", "everything", "--y", "up", "--out", out]), 0)
            main(["render", one, "--out", str(self.folder / "o.%04d.png"), "--range", "1002-1003", "--clip", str(self.folder / "o.otio"), "--quiet"])
        self.assertIn("2 tracks, graphics and mattes", said.getvalue())
        self.assertTrue(json.loads(Path(out).read_text())["layout"]["y_up"])
        reference = otio.adapters.read_from_file(str(self.folder / "o.otio")).find_clips()[0].media_reference
        self.assertEqual((reference.start_frame, reference.frame_zero_padding, reference.end_frame()), (1002, 4, 1003))
        self.assertTrue(all((self.folder / f"o.{k}.png").exists() for k in (1002, 1003)))
        with redirect_stderr(io.StringIO()) as complaint:
            self.assertEqual(main(["export", one, "--what", "everything", "--out", str(self.folder / "all.csv")]), 1)
            self.assertEqual(main(["render", one, "--out", str(self.folder / "late.####.png"), "--clip", str(self.folder / "a.xml"), "--quiet"]), 1)
        self.assertRegex(complaint.getvalue(), "(?s)needs .json.*needs .otio")
        self.assertFalse(list(self.folder.glob("late.*")))  # said before it was rendered
        self.assertRaises(DeliverError, self.shot.write_clip, self.folder / "a.xml", "out.mp4")


def _along(corners: np.ndarray) -> np.ndarray:
    """Points along a polygon's sides, (4000, 2)."""
    t = np.linspace(0, 1, 1000)[:, None]
    return np.concatenate([a + t * (b - a) for a, b in zip(corners, np.roll(corners, -1, axis=0), strict=True)])


class ProofTest(Case):
    def test_what_goes_out_arrives(self) -> None:
        for options in LAYOUTS:
            for kind, suffix in (("corners", ".json"), ("matrices", ".csv"), ("points", ".json")):
                proof = self.wall.prove(self.graphic, kind, suffix, [1001, 1006], **options)
                self.assertEqual(proof.wrong, "")
                self.assertEqual([f.frame for f in proof.frames], [1001, 1006])
                for frame in proof.frames:
                    self.assertLess(frame.corners, 0.01, f"{options} {kind}")
                    self.assertLess(frame.difference, 1.0)  # of 255ths

    def test_a_wrong_option_is_seen_and_named(self) -> None:
        for believed, words in (({"y_up": True}, "which way y grows"), ({"centre": "zero"}, "first pixel's centre"),
                                ({"units": "unit"}, "shares of the picture"),
                                ({"y_up": True, "centre": "zero"}, "several things")):
            proof = self.wall.prove(self.graphic, "corners", ".csv", [1003], believed)
            self.assertIn(words, proof.wrong)
            self.assertGreater(proof.frames[0].corners, 0.5)
        self.assertGreater(self.wall.prove(self.graphic, "corners", ".csv", [1003], {"y_up": True}).frames[0].difference, 10)

    def test_the_receiver_shares_no_code_with_the_exporter(self) -> None:
        for path in Path(wertis_receiver.__file__).parent.glob("*.py"):
            for node in ast.walk(ast.parse(path.read_text())):
                names = [a.name for a in node.names] if isinstance(node, ast.Import) else [node.module or ""] if isinstance(node, ast.ImportFrom) else []
                self.assertFalse([n for n in names if n.split(".")[0] == "wertis"], path.name)

    def test_the_receivers_process_says_what_is_wrong_and_goes_on(self) -> None:
        self.wall.export_motion(self.folder / "m.json", "corners", self.graphic)
        shutil.copy(self.folder / "p.1004.png", self.folder / "plate.png")
        good = [str(self.folder / "m.json"), "--artwork", str(self.folder / "art.png"), "--frame", "1004"]
        with ReceiverProcess(self.folder) as receiver:
            for wrong in ([*good[:-1], "7"], ["nothing.json", *good[1:]], [*good, "--no-such-option"]):
                with self.assertRaisesRegex(DeliverError, "could not use the file"):
                    receiver.rebuilt(wrong)
            picture, places = receiver.rebuilt(good)
            self.assertEqual(picture.shape, (SIZE[1], SIZE[0], 3))
            self.assertEqual(places.shape, (4, 2))
            receiver._process.kill()  # type: ignore[union-attr]
            with self.assertRaisesRegex(DeliverError, "could not be run"):
                receiver.rebuilt(good)
            self.assertEqual(receiver.rebuilt(good)[1].tolist(), places.tolist())

    def test_a_map_carries_the_picture_as_well(self) -> None:
        self.wall.export_motion(self.folder / "m.####.exr", "map")
        corners = " ".join(f"{x},{y}" for x, y in QUAD)
        subprocess.run([sys.executable, "-m", "wertis_receiver", str(self.folder / "m.1004.exr"), "--plate", str(self.folder / "p.1004.png"), "--artwork",
                        str(self.folder / "art.png"), "--frame", "1004", "--corners", corners, "--out", str(self.folder / "o.png")], check=True)
        theirs = cv2.imread(str(self.folder / "o.png"))[..., ::-1].astype(float)
        ours = self.shot.frame(1004).astype(float)
        inside = np.zeros(SIZE[::-1], np.uint8)
        quad = homography.apply(moved(1004), QUAD)
        cv2.fillConvexPoly(inside, np.round(quad + (quad.mean(0) - quad) * 0.04).astype(np.int32), 1)
        self.assertLess(np.abs(theirs - ours)[inside > 0].mean(), 4)
        self.assertLess(np.abs(theirs - ours)[inside == 0].mean(), 0.5)

    def test_by_the_command_line(self) -> None:
        self.shot.save(self.folder / "s.wertis")
        one = str(self.folder / "s.wertis")
        with redirect_stdout(io.StringIO()) as said:
            out = str(self.folder / "a.json")
            self.assertEqual(main(["export", one, "--what", "matrices", "--y", "up", "--centre", "zero", "--first", "1", "--out", out]), 0)
            self.assertEqual(main(["export", one, "--what", "inverse-map", "--out", str(self.folder / "a.####.exr")]), 0)
            self.assertEqual(main(["prove", one, "--frames", "1001,1007"]), 0)
            self.assertEqual(main(["prove", one, "--frames", "1001", "--believed", "up"]), 4)
            self.assertEqual(main(["import", one, str(self.folder / "a.json"), "--name", "Elsewhere", "--out", str(self.folder / "t.wertis")]), 0)
        self.assertRegex(said.getvalue(), "(?s)6 frames written.*It arrives.*which way y grows.*Elsewhere has its motion")
        self.assertEqual(json.loads((self.folder / "a.json").read_text())["layout"]["first"], 1)
        elsewhere = wertis.open(self.folder / "t.wertis").surface("Elsewhere")
        np.testing.assert_allclose(elsewhere.follow(QUAD, 1001)[1006], homography.apply(moved(1006), QUAD), atol=1e-3)
        receivers.keep("Theirs", Receiver(y_up=True, centre="zero", first=40))
        self.addCleanup(shutil.rmtree, receivers.folder(), True)
        with redirect_stdout(io.StringIO()):
            self.assertEqual(main(["export", one, "--what", "corners", "--receiver", "Theirs", "--first", "2", "--out", str(self.folder / "r.json")]), 0)
        layout = json.loads((self.folder / "r.json").read_text())["layout"]
        self.assertEqual((layout["y_up"], layout["centre"], layout["first"], layout["units"]), (True, "zero", 2, "pixels"))
        with redirect_stderr(io.StringIO()) as complaint:
            self.assertEqual(main(["export", one, "--what", "corners", "--receiver", "Nobody", "--out", str(self.folder / "r.json")]), 1)
        self.assertIn("No receiver named Nobody is kept here; there are: Theirs", complaint.getvalue())
        with redirect_stderr(io.StringIO()) as complaint:
            self.assertEqual(main(["export", one, "--what", "corners", "--size", "big", "--out", str(self.folder / "a.json")]), 1)
            self.assertEqual(main(["prove", one, "--believed", "sideways"]), 1)
            self.assertEqual(main(["export", one, "--what", "map", "--out", str(self.folder / "a.exr")]), 1)
        self.assertRegex(complaint.getvalue(), "(?s)1920x1080.*choose of up.*needs ####")


class WidePixelsTest(ProofTest):
    """The same with pixels twice as wide as high."""

    aspect = 2.0


class WindowTest(WindowCase):
    def test_motion_goes_out_is_proved_and_comes_back(self) -> None:
        w, s = self.window, self.window.session
        self.tracked_and_placed()
        s.go_step("Deliver")
        page = w.steps["Deliver"].page
        page.part.button(1).click()
        fields = page.motion
        self.assertTrue(fields.isVisibleTo(w) and not page.render_button.isVisibleTo(w))
        self.assertIn("1001", fields.preview.toPlainText())
        self.assertIn("y down", fields.words.text())
        fields.axis.setCurrentIndex(1)
        fields.axis.activated.emit(1)
        self.assertIn("y up", fields.words.text())
        fields.first.setValue(1)
        self.assertIn('"1"', fields.preview.toPlainText())
        fields.prove.click()
        self.until(lambda: w.job is None, 60)
        step = w.steps["Deliver"]
        self.assertEqual(step.proof.words.text(), "It arrives: the receiver puts the graphic where Wertis does.")
        step.proof.grab()
        step.proof.close()
        name = str(self.folder / "m.json")
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(name, "")):
            fields.export.click()
        self.assertIn("8 frames written", w.words.text())
        with mock.patch.object(QFileDialog, "getOpenFileName", return_value=(name, "")):
            fields.take.click()
        self.assertEqual(len(s.shot.tracks), 2)
        self.assertIn("has its motion from m.json", w.words.text())
        w.undo()
        self.keep_receiver(fields)
        self.take_foreign_table(fields)
        fields.kind.setCurrentIndex(fields.kind.findData("map"))
        fields.kind.activated.emit(0)
        self.assertEqual(fields.format.currentData(), ".exr")
        self.assertFalse(fields.prove.isEnabled())
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(self.folder / "map.####.exr"), "")):
            fields.export.click()
        self.until(lambda: w.job is None, 60)
        self.assertEqual(len(list(self.folder.glob("map.*.exr"))), 8)
        fields.kind.setCurrentIndex(fields.kind.findData("points"))
        fields.kind.activated.emit(0)
        self.assertEqual([fields.format.itemData(k) for k in range(fields.format.count())], [".json", ".csv", ".txt"])

    def keep_receiver(self, fields: MotionFields) -> None:
        """All choices are kept under a name, offered again, and shared as a file."""
        self.addCleanup(shutil.rmtree, receivers.folder(), True)
        fields.take_receiver(Receiver(what="points", suffix=".txt", y_up=True, centre="zero", receiver=(640, 480), first=17, repaired=False))
        with mock.patch.object(QInputDialog, "getText", return_value=("Other house", True)):
            fields.keep.click()
        kept = receivers.load("Other house")
        self.assertEqual(kept, fields.wanted())
        self.assertEqual((kept.what, kept.suffix, kept.y_up, kept.centre, kept.receiver, kept.first, kept.repaired),
                         ("points", ".txt", True, "zero", (640, 480), 17, False))
        fields.take_receiver(Receiver())
        self.assertEqual(fields.layout_wanted().receiver, None)
        self.assertEqual(fields.wanted(), Receiver())
        fields.kept.setCurrentIndex(fields.kept.findData("Other house"))
        fields.kept.activated.emit(0)
        self.assertEqual(fields.wanted(), kept)
        self.assertIn("picture of 640 x 480", fields.words.text())
        shared = self.folder / "shared.json"
        shared.write_text(Receiver(what="matrices", suffix=".csv", first=1).model_dump_json())
        fields.kept.setCurrentIndex(fields.kept.findData(""))
        with mock.patch.object(QFileDialog, "getOpenFileName", return_value=(str(shared), "")):
            fields.kept.activated.emit(0)
        self.assertEqual((fields.wanted().what, fields.format.currentData(), receivers.names()), ("matrices", ".csv", ["Other house", "shared"]))
        shared.write_text('{"format": "wertis-receiver", "what": "smell"}')
        fields.kept.setCurrentIndex(fields.kept.findData(""))
        with mock.patch.object(QFileDialog, "getOpenFileName", return_value=(str(shared), "")):
            fields.kept.activated.emit(0)
        self.assertIn("shared.json is no receiver", fields.words.text())
        with mock.patch.object(QInputDialog, "getText", return_value=("../up", True)):
            fields.keep.click()
        self.assertIn("cannot be a name", fields.words.text())
        self.assertFalse((receivers.folder().parent / "up.json").exists())
        fields.take_receiver(Receiver(first=1))

    def take_foreign_table(self, fields: MotionFields) -> None:
        """A table with columns of its own is asked about, with its first rows."""
        w = self.window
        fields.axis.setCurrentIndex(0)
        fields.axis.activated.emit(0)
        path = self.folder / "theirs.csv"
        header = ["x of nw", "y of nw", "x of ne", "y of ne", "x of se", "y of se", "x of sw", "y of sw", "time", "shape"]
        rows = [[*(f"{v + f:.2f}" for v in QUAD.ravel()), str(1 + f), "crate"] for f in range(4)]  # in the layout that is chosen
        path.write_text("\n".join("\t".join(row) for row in (header, *rows)))
        seen = []

        def answer(dialog: ColumnsDialog) -> int:
            ok = dialog.buttons.button(dialog.buttons.StandardButton.Ok)
            seen.append((ok.isEnabled(), dialog.words.text(), dialog.table.item(1, 8).text()))
            for choice, meaning in zip(dialog.choices, [*columns_dialog._CORNERS, "top left x", columns_dialog._IGNORED], strict=True):
                choice.setCurrentText(meaning)
            seen.append((ok.isEnabled(), dialog.words.text()))
            dialog.choices[8].setCurrentText("frame")
            seen.append((ok.isEnabled(), dialog.words.text()))
            return 1

        with mock.patch.object(QFileDialog, "getOpenFileName", return_value=(str(path), "")), mock.patch.object(ColumnsDialog, "exec", answer):
            fields.take.click()
        self.assertEqual(seen[0][2], "1")
        self.assertEqual(seen[1:], [(False, "Two columns are top left x."), (True, "")])
        track = w.session.shot.tracks[-1]
        self.assertEqual((track.name, track.solution.frames.tolist()), ("theirs", [1001, 1002, 1003, 1004]))
        np.testing.assert_allclose(track.region.array, QUAD, atol=1e-6)
        w.undo()
        with mock.patch.object(QFileDialog, "getOpenFileName", return_value=(str(path), "")), mock.patch.object(ColumnsDialog, "exec", lambda dialog: 0):
            fields.take.click()
        self.assertEqual(len(w.session.shot.tracks), 1)


del WindowCase

if __name__ == "__main__":
    unittest.main()
