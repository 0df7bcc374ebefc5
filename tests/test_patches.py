"""Clean patches: taken flat, painted, filled, joined from the shot itself, given back bit for bit outside; files; the window."""

import io
import json
import shutil
import tempfile
import time
import unittest
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path
from unittest import mock

import cv2
import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QInputDialog
from scipy import ndimage
from skimage import data

import wertis
from tests import waves
from tests.helpers import sides
from tests.scenes import texture
from tests.test_window import WindowCase
from wertis.app.steps.use.patches.fields import PatchFields
from wertis.app.steps.use.patches.part import PatchPart
from wertis.cli.main import main
from wertis.core.comp.patch_pictures import PatchPictures
from wertis.core.comp.picture import Compositor
from wertis.core.errors import DeliverError, PlateError, RegionError, WertisError
from wertis.core.exchange.pictures import write_picture
from wertis.core.geometry import homography
from wertis.core.imaging.softness import edge_softness
from wertis.core.jobs.clean_plate import agreed
from wertis.core.matte.coverage import polygon_area
from wertis.core.paint.brush import coverage
from wertis.core.paint.canvas import Canvas, Paint
from wertis.core.paint.fill import filled
from wertis.core.paint.membrane import membrane
from wertis.core.plate.sequence import read_picture
from wertis.core.shot import patches, store
from wertis.core.shot.document import PlaneSolution, Region, Track
from wertis.core.shot.edits import as_points

SIZE = (320, 240)
QUAD = np.array([[70.0, 50], [250, 58], [240, 190], [78, 182]])
FRAMES = range(1, 10)


def moved(frame: int) -> np.ndarray:
    """(3, 3) from the first frame to another."""
    k = frame - 1
    return homography.translation(2.3 * k, -1.7 * k) @ np.array([[1 + 0.004 * k, 0.006 * k, 0], [0, 1, 0], [1e-5 * k, 0, 1]])


def wall() -> np.ndarray:
    return cv2.resize(np.repeat(texture(size=(500, 400))[..., :1], 3, 2).astype(np.float32), (500, 400)) * [0.9, 1.0, 0.8]


def bare(frame: int) -> np.ndarray:
    """(h, w, 3) uint8 the surface with nothing in front."""
    centred = np.array([[1, 0, -0.5], [0, 1, -0.5], [0, 0, 1.0]])
    matrix = centred @ moved(frame) @ homography.translation(-60, -60) @ np.linalg.inv(centred)
    light = 1 + 0.06 * np.sin(frame / 2)
    seen = cv2.warpPerspective(wall(), matrix, SIZE, flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT)
    return np.clip(seen * light, 0, 255).round().astype(np.uint8)


def passed(frame: int) -> np.ndarray:
    """The same with a bar that slides over it, slower than the surface at times."""
    picture = bare(frame)
    x = 40 + 21 * frame
    cv2.rectangle(picture, (x, 0), (x + 46, 240), (40, 160, 210), -1)
    cv2.line(picture, (x + 10 + 5 * (frame % 3), 0), (x + 30, 240), (20, 90, 120), 3)
    return picture


def write_plate(folder: Path, made=bare) -> None:  # type: ignore[no-untyped-def]
    for frame in FRAMES:
        write_picture(folder / f"p.{frame:04d}.png", made(frame))


def opened(folder: Path) -> wertis.Shot:
    """The shot of a folder with the true track."""
    shot = wertis.open(folder / "p.####.png")
    frames = np.array(FRAMES, np.int64)
    solution = PlaneSolution(reference=1, frames=frames, matrices=np.array([moved(int(f)) for f in frames]), errors=np.zeros(len(frames)),
                             seen=np.ones(len(frames)))
    shot._do("Track", shot.document.but(tracks=(Track(name="Wall", region=Region(frame=1, points=as_points(QUAD)), solution=solution),)))
    return shot


class Case(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder)
        write_plate(self.folder)
        self.shot = opened(self.folder)
        self.wall = self.shot.surface("Wall")


class PaintTest(unittest.TestCase):
    def test_a_stroke_covers_its_area(self) -> None:
        points = np.array([[30.0, 30, 1], [90, 30, 1]])
        alpha = coverage(points, 10.0, 1.0, (0, 0, 120, 60))
        self.assertAlmostEqual(float(alpha.sum()), 60 * 20 + np.pi * 100, delta=8)
        thin = coverage(points * [1, 1, 0.5], 10.0, 1.0, (0, 0, 120, 60))
        self.assertAlmostEqual(float(thin.sum()), 60 * 10 + np.pi * 25, delta=8)
        again = coverage(np.concatenate([points, points[::-1]]), 10.0, 0.3, (0, 0, 120, 60))
        np.testing.assert_array_equal(again, coverage(points, 10.0, 0.3, (0, 0, 120, 60)))

    def test_a_membrane_is_the_solution_of_laplaces_equation(self) -> None:
        # a harmonic function is given back from its border: x^2 - y^2, and x y
        y, x = np.mgrid[0:60, 0:80] / 20.0
        values = np.dstack([x ** 2 - y ** 2, x * y, 3 * x - y]).astype(np.float32)
        inside = np.zeros((60, 80), bool)
        inside[10:50, 15:70] = True
        np.testing.assert_allclose(membrane(np.where(inside[..., None], 0, values), inside), values, atol=2e-3)
        big = np.dstack([np.add.outer(np.arange(400.0), 2 * np.arange(500.0))] * 3).astype(np.float32) / 500
        hole = np.zeros((400, 500), bool)
        hole[60:340, 70:430] = True
        self.assertLess(np.abs(membrane(np.where(hole[..., None], 0, big), hole) - big).max(), 0.05)

    def test_healing_keeps_the_sources_gradient_and_meets_the_border(self) -> None:
        # P. Perez and others, Poisson image editing, 2003: what seamless cloning promises
        rng = np.random.default_rng(2)
        base = np.tile(np.linspace(0.2, 0.6, 200, dtype=np.float32)[None, :, None], (120, 1, 3))
        base[:, :60] = ndimage.gaussian_filter(rng.random((120, 60)), 1.2)[..., None] * 0.3 + 0.6
        canvas = Canvas(base)
        canvas.apply(Paint("heal", np.array([[150.0, 60, 1]]), 20.0, 1.0, offset=(-120.0, 0.0)))
        inside = np.s_[50:70, 140:160]
        source = base[50:70, 20:40]
        np.testing.assert_allclose(np.diff(canvas.pixels[inside], axis=0), np.diff(source, axis=0), atol=2e-3)
        self.assertLess(np.abs(canvas.pixels[60, 170:172] - base[60, 170:172]).max(), 0.02)
        self.assertLess(np.abs(canvas.pixels[50:70, 140:160].mean() - base[50:70, 140:160].mean()), 0.05)
        clone = Canvas(base)
        clone.apply(Paint("clone", np.array([[150.0, 60, 1]]), 20.0, 1.0, offset=(-120.0, 0.0)))
        np.testing.assert_allclose(clone.pixels[inside], source, atol=1e-6)

    def test_what_is_copied_can_be_turned_and_enlarged(self) -> None:
        base = np.zeros((200, 200, 3), np.float32)
        base[95:105, 20:60] = 1  # a level bar round (40, 100)
        canvas = Canvas(base)
        canvas.apply(Paint("clone", np.array([[140.0, 100, 1]]), 40.0, 1.0, offset=(-100.0, 0.0), turn=90.0))
        bar = canvas.pixels[..., 0][:, 105:175] > 0.5
        self.assertGreater(bar.any(1).sum(), 36)
        self.assertLess(bar.any(0).sum(), 14)
        larger = Canvas(base)
        larger.apply(Paint("clone", np.array([[140.0, 100, 1]]), 40.0, 1.0, offset=(-100.0, 0.0), scale=1.5))
        self.assertAlmostEqual(int((larger.pixels[..., 0][:, 105:] > 0.5).sum()) / 400, 1.5 ** 2, delta=0.25)

    def test_a_hole_is_filled_at_least_as_well_as_by_the_libraries(self) -> None:
        # OpenCV's two methods (A. Telea, 2004; M. Bertalmio and others, 2001) and scikit-image's biharmonic one, on scikit-image's picture of bricks
        picture = np.repeat(data.brick()[100:340, 100:340, None], 3, 2).astype(np.float32) / 255
        hole = np.zeros(picture.shape[:2], bool)
        hole[90:140, 100:150] = True
        ours = filled(picture, hole, 1)
        np.testing.assert_array_equal(ours[~hole], picture[~hole])

        def busy(values: np.ndarray) -> float:
            return float(np.abs(np.diff(values[95:135, 105:145, 0], axis=1)).mean())

        spoilt = np.where(hole[..., None], 0, picture)
        for method in (cv2.INPAINT_TELEA, cv2.INPAINT_NS):
            theirs = cv2.inpaint((spoilt * 255).astype(np.uint8), hole.astype(np.uint8), 5, method).astype(np.float32) / 255
            self.assertGreater(busy(ours), 1.3 * busy(theirs), "texture goes on where those only blur")
        self.assertLess(abs(busy(ours) / busy(picture) - 1), 0.5)
        self.assertGreater(np.abs(filled(picture, hole, 2) - ours)[hole].mean(), 1e-3, "another seed, another way")
        np.testing.assert_array_equal(filled(picture, hole, 1), ours)
        with self.assertRaisesRegex(RegionError, "too little round the hole"):
            filled(picture[:40, :40], np.ones((40, 40), bool))

    def test_what_most_looks_agree_on(self) -> None:
        rng = np.random.default_rng(1)
        truth = rng.random((20, 30, 3)).astype(np.float32)
        looks = np.stack([truth + rng.normal(0, 0.01, truth.shape).astype(np.float32) for _ in range(20)])
        looks[:9, 5:15] = rng.random((9, 1, 1, 3))  # nine of twenty show something else there, each its own
        weights = np.ones((20, 20, 30), np.float32)
        weights[:, :, :3] = 0
        found, seen = agreed(looks, weights)
        self.assertLess(np.abs(found - truth)[:, 3:].mean(), 0.004)
        self.assertEqual(float(seen[:, :3].max()), 0)
        self.assertEqual(float(seen[:, 3:].min()), 1)


class GivenBackTest(Case):
    def test_unpainted_it_comes_back_as_it_was_and_is_as_sharp(self) -> None:
        patch = self.wall.take_out(1, QUAD).change(cover="all")
        plate, comp = self.shot.plate.read(1), self.shot.frame(1)
        mask = np.zeros(SIZE[::-1], np.uint8)
        cv2.fillConvexPoly(mask, QUAD.astype(np.int32), 1)
        off = np.abs(comp.astype(int) - plate)
        self.assertLess(off[mask > 0].mean(), 0.3)
        self.assertLessEqual(off.max(), 3)
        before, after = (edge_softness(p.mean(2).astype(np.float32) / 255, mask, 0.002) for p in (plate, comp))
        self.assertLess(abs(after / before - 1), 0.03)  # type: ignore[operator]
        self.assertGreater(patch.size[0], 1.4 * 180)
        whole = self.wall.take_out(1, whole=True).change(cover="all")
        self.assertEqual(whole.size, SIZE)
        patch.change(visible=False)
        np.testing.assert_array_equal(self.shot.frame(1), plate)

    def test_on_other_frames_it_is_like_the_truth(self) -> None:
        self.wall.take_out(5).change(cover="all", soft=2).match(["light"])
        for frame in (1, 3, 8):
            corners = homography.apply(moved(frame), QUAD)
            mask = np.zeros(SIZE[::-1], np.uint8)
            cv2.fillConvexPoly(mask, np.round(corners).astype(np.int32), 1)
            off = np.abs(self.shot.frame(frame).astype(int) - bare(frame))[mask > 0]
            self.assertLess(off.mean(), 2.5)

    def test_pixels_outside_what_was_painted_are_the_plates_bit_for_bit(self) -> None:
        patch = self.wall.take_out(1, QUAD)
        self.assertTrue((self.shot.frame(4) == self.shot.plate.read(4)).all(), "nothing was painted yet")
        place, kept = np.array(patch.size) / 2, {}
        patch.paint("brush", [place], radius=12, colour=(1, 0, 0))
        for frame in (1, 4, 9):
            plate, comp = self.shot.plate.read(frame), self.shot.frame(frame)
            changed = (comp != plate).any(2)
            self.assertTrue(30 < changed.sum() < 900)
            middle = homography.apply(moved(frame) @ patch.record.from_flat, place[None])[0].astype(int)
            self.assertGreater(int(comp[middle[1], middle[0], 0]), 200)
            far = ndimage.distance_transform_edt(~np.isin(np.arange(320 * 240).reshape(240, 320), [middle[1] * 320 + middle[0]])) > 20
            np.testing.assert_array_equal(comp[far], plate[far])
            kept[frame] = far
        for suffix in ("png", "exr", "tif"):
            self.shot.render(self.folder / f"out/c.####.{suffix}", frames=[4])
            written = read_picture(self.folder / f"out/c.0004.{suffix}")
            patch.change(visible=False)
            self.shot.render(self.folder / f"bare/c.####.{suffix}", frames=[4])
            patch.change(visible=True)
            untouched = read_picture(self.folder / f"bare/c.0004.{suffix}")
            np.testing.assert_array_equal(written[kept[4]], untouched[kept[4]])

    def test_on_a_surface_that_bends_as_well(self) -> None:
        frames = waves.filmed()
        (self.folder / "w").mkdir()
        for k, picture in enumerate(frames):
            write_picture(self.folder / "w" / f"w.{waves.REFERENCE + k:04d}.png", picture)
        shot = wertis.open(self.folder / "w")
        track = Track(name="Cloth", region=Region(frame=waves.REFERENCE, points=as_points(waves.QUAD)), solution=waves.WaveSolution())
        shot._do("Track", shot.document.but(tracks=(track,)))
        patch = shot.surface("Cloth").take_out(waves.REFERENCE, waves.QUAD).change(cover="all")
        for k in (0, 3):
            comp, picture = shot.frame(waves.REFERENCE + k), frames[k]
            outline = waves.waved(sides(waves.QUAD), waves.REFERENCE + k)
            inside = polygon_area(outline, (0, 0, picture.shape[1], picture.shape[0]))
            outside = ndimage.maximum_filter(inside, 5) == 0
            np.testing.assert_array_equal(comp[outside], picture[outside])
            self.assertLess(np.abs(comp.astype(int) - picture)[inside > 0.999].mean(), 2.5 if k else 0.3)
        patch.paint("brush", [np.array(patch.size) / 2], radius=15, colour=(1, 0, 0))
        middle = waves.waved(waves.QUAD.mean(0), waves.REFERENCE + 3).astype(int)
        self.assertTrue((shot.frame(waves.REFERENCE + 3)[middle[1] - 6:middle[1] + 6, middle[0] - 6:middle[0] + 6, 0] > 230).any())

    def test_one_is_rendered_alone_with_its_alpha(self) -> None:
        patch = self.wall.take_out(1, QUAD).change(name="Label")
        patch.paint("brush", [np.array(patch.size) / 2], radius=12, colour=(1, 0, 0))
        self.wall.write("Quay", QUAD, 1)
        alone, all_ = self.shot.frame(4, "graphic", of=["Label"]), self.shot.frame(4, "graphic")
        inside = alone[..., 3] > 0
        self.assertTrue(30 < inside.sum() < 900 and inside.sum() < (all_[..., 3] > 0).sum())
        self.assertGreater(float(alone[..., 0].max()), 0.9)
        comp = self.shot.frame(4, of=["Label"])
        np.testing.assert_array_equal(comp[~inside], self.shot.plate.read(4)[~inside])
        saved = str(self.shot.save(self.folder / "s.wertis"))
        self.assertEqual(main(["render", saved, "--what", "graphic", "--of", "Label", "--range", "4-4", "--quiet",
                               "--out", str(self.folder / "l.####.tif")]), 0)
        np.testing.assert_array_equal(read_picture(self.folder / "l.0004.tif")[..., 3] > 0, inside)
        with self.assertRaisesRegex(WertisError, "named Sign; there is: Label, "):
            self.shot.frame(4, of=["Sign"])
        patch.write_mask(self.folder / "mask.tif")
        mask = read_picture(self.folder / "mask.tif")
        middle = np.array(patch.size) // 2
        self.assertEqual((int(mask[middle[1], middle[0], 0]), int(mask[3, 3, 0])), (65535, 0))
        copy = patch.duplicate()
        self.assertEqual([p.record.name for p in (patch, copy)], ["Label", "Label 2"])
        patch.raised(1)
        self.assertEqual([x.id for x in self.shot.document.items if isinstance(x, patches.Patch)], [copy.id, patch.id])
        copy.remove()
        with self.assertRaisesRegex(WertisError, "no longer"):
            _ = copy.record

    def test_several_hand_over_to_one_another_and_fade(self) -> None:
        patch = self.wall.take_out(1, QUAD).change(cover="all", first=3, last=5, fade=1)
        patch.paint("brush", [np.array(patch.size) / 2], radius=40, colour=(1, 1, 1))
        record = patch.record
        self.assertEqual([record.share(f) for f in (1, 2, 3, 5, 6, 7)], [0, 0.5, 1, 1, 0.5, 0])
        np.testing.assert_array_equal(self.shot.frame(1), self.shot.plate.read(1))
        middle = homography.apply(moved(2), QUAD).mean(0).astype(int)
        values = [int(self.shot.frame(f)[middle[1], middle[0], 0]) for f in (1, 2, 4)]
        self.assertTrue(values[0] < values[1] < values[2])

    def test_its_edge_meets_the_plate(self) -> None:
        patch = self.wall.take_out(1, QUAD).change(cover="all", soft=6)
        patch.paint("tone", [[p, q] for p in (40, 140, 240) for q in (40, 150)], radius=400, hardness=1.0, colour=(0.8, 0.8, 0.8))
        plain = self.shot.frame(1).astype(float)
        patch.change(seam=True)
        met, plate = self.shot.frame(1).astype(float), self.shot.plate.read(1)
        inside = np.s_[90:150, 110:200]
        self.assertLess(np.abs(met - plate)[inside].mean(), 0.4 * np.abs(plain - plate)[inside].mean())

    def test_mattes_limit_it_and_hold_it_back(self) -> None:
        patch = self.wall.take_out(1, QUAD).change(cover="all")
        patch.paint("brush", [np.array(patch.size) / 2], radius=200, colour=(1, 0, 0))
        matte = self.shot.matte([(100, 80), (160, 80), (160, 140), (100, 140)], frame=1, carried_by=self.wall, name="Part")
        patch.limit_to(matte)
        comp, plate = self.shot.frame(1), self.shot.plate.read(1)
        self.assertGreater(int(comp[110, 130, 0]), 200)
        np.testing.assert_array_equal(comp[110, 180], plate[110, 180])


class CleanPlateTest(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder)
        write_plate(self.folder, passed)
        self.shot = opened(self.folder)

    def test_what_passes_is_gone_wherever_the_surface_is_seen(self) -> None:
        patch = self.shot.surface("Wall").take_out(1, QUAD)
        words = patch.clean_plate()
        self.assertIn("joined from 9 frames", words)
        patch.match(["light"])
        for frame in (2, 4, 6):
            comp, plate = self.shot.frame(frame).astype(float), self.shot.plate.read(frame).astype(float)
            truth = bare(frame).astype(float)
            corners = homography.apply(moved(frame), QUAD)
            mask = np.zeros(SIZE[::-1], np.uint8)
            cv2.fillConvexPoly(mask, np.round(corners + (corners.mean(0) - corners) * 0.04).astype(np.int32), 1)
            hidden = (np.abs(plate - truth).max(2) > 8) & (mask > 0)
            self.assertGreater(hidden.sum(), 2000)
            self.assertLess(np.abs(comp - truth)[hidden].mean(), 3)
            self.assertGreater(np.abs(plate - truth)[hidden].mean(), 25)

    def test_it_says_where_nothing_was_ever_seen(self) -> None:
        wall = self.shot.surface("Wall")
        wall.hold_out([(60, 30), (130, 30), (130, 260), (60, 260)], 1)  # stays in the picture, over the surface's left part on every frame
        patch = wall.take_out(1, QUAD)
        self.assertIn("never seen", patch.clean_plate())
        seen = patch.record.seen
        assert seen is not None
        w = patch.size[0]
        self.assertEqual(float(seen[:, :w // 8].max()), 0)
        self.assertGreater(float(seen[:, w // 2:].mean()), 0.95)

    def test_too_few_frames_are_refused(self) -> None:
        patch = self.shot.surface("Wall").take_out(1, QUAD)
        self.shot._do("Range", self.shot.document.but(range=(1, 2)))
        with self.assertRaisesRegex(RegionError, "three at least"):
            patch.clean_plate()


class StrokesTest(Case):
    def strokes(self, count: int) -> list[patches.Stroke]:
        rng = np.random.default_rng(7)
        kinds = ("brush", "clone", "erase", "blur", "sharpen", "tone", "heal")
        return [patches.Stroke(kind=kinds[k % 7], points=np.column_stack([rng.uniform(20, 250, (3, 2)), rng.uniform(0.4, 1, 3)]),  # type: ignore[arg-type]
                               radius=float(rng.uniform(2, 9)), colour=tuple(rng.uniform(0.2, 1, 3)), offset=(7.0, -5.0))  # type: ignore[arg-type]
                for k in range(count)]

    def test_five_hundred_strokes_undone_and_redone_give_the_same_bits(self) -> None:
        patch = self.wall.take_out(1, QUAD)
        document, pictures = self.shot.document, PatchPictures()
        states = [document]
        for stroke in self.strokes(500):
            document = patches.add_stroke(document, patch.id, stroke)
            states.append(document)

        def pixels(k: int) -> np.ndarray:
            return pictures.canvas(states[k], patches.patch_of(states[k], patch.id), 1).pixels

        after, middle = pixels(500), pixels(247)
        np.testing.assert_array_equal(pixels(0), pictures.flat(states[0], patch.record, 1))
        np.testing.assert_array_equal(pixels(247), middle)
        np.testing.assert_array_equal(pixels(500), after)
        fresh = PatchPictures().canvas(states[500], patches.patch_of(states[500], patch.id), 1).pixels
        np.testing.assert_array_equal(fresh, after)

    def test_work_is_kept_by_strokes_not_by_pictures(self) -> None:
        patch = self.wall.take_out(1, QUAD)
        store.save(self.shot.document, self.folder / "none.wertis")
        for stroke in self.strokes(30):
            self.shot._do("Paint", patches.add_stroke(self.shot.document, patch.id, stroke))
        self.shot.save(self.folder / "thirty.wertis")
        grown = (self.folder / "thirty.wertis").stat().st_size - (self.folder / "none.wertis").stat().st_size
        self.assertLess(grown / 30, 3000)
        self.assertEqual(wertis.open(self.folder / "thirty.wertis").document.items, self.shot.document.items)

    def test_a_stroke_is_switched_off_and_lasts_from_a_frame_to_a_frame(self) -> None:
        patch = self.wall.take_out(1, QUAD)
        ident = patch.paint("brush", [np.array(patch.size) / 2], radius=15, colour=(1, 0, 0))
        patch.change_stroke(ident, first=3, last=4)
        for frame, there in ((2, False), (3, True), (5, False)):
            self.assertEqual(bool((self.shot.frame(frame) != self.shot.plate.read(frame)).any()), there)
        patch.change_stroke(ident, visible=False)
        np.testing.assert_array_equal(self.shot.frame(3), self.shot.plate.read(3))
        patch.remove_stroke(ident)
        self.assertEqual(patch.record.strokes, ())
        with self.assertRaisesRegex(RegionError, "no longer"):
            patch.change_stroke(ident, visible=True)
        with self.assertRaisesRegex(WertisError, "radius"):
            patch.paint("brush", [(1, 1)], radius=-4)

    def test_a_stroke_copies_from_another_frame(self) -> None:
        patch = self.wall.take_out(1, QUAD)
        patch.paint("clone", [np.array(patch.size) / 2], radius=20, source=6)
        light = bare(6).mean() / bare(1).mean()
        painted, own = patch.flat(), patch.flat(1, painted=False)
        y, x = patch.size[1] // 2, patch.size[0] // 2
        self.assertAlmostEqual(float(painted[y - 5:y + 5, x - 5:x + 5].mean() / own[y - 5:y + 5, x - 5:x + 5].mean()), light, delta=0.06)

    def test_it_is_taken_out_of_another_frame_and_stays_where_it_is(self) -> None:
        patch = self.wall.take_out(1, QUAD)
        place = np.array(patch.size) * 0.3
        patch.paint("brush", [place], radius=10, colour=(1, 0, 0))
        before = self.shot.frame(4)
        patch.retake(7)
        self.assertEqual(patch.record.frame, 7)
        off = np.abs(self.shot.frame(4).astype(int) - before)
        self.assertLess(off.mean(), 0.3)
        self.assertEqual(len(patch.propose()), 5)

    def test_borders_that_jump_are_named(self) -> None:
        patch = self.wall.take_out(1, QUAD).change(cover="all", soft=8)
        patch.match(["light"])
        calm = patch.flicker()
        light = patch.record.match.light
        gains = light.gains.copy()
        gains[light.frames == 5] += 0.08
        patch.change(match=patch.record.match.but(light=light.but(gains=gains)))
        found = patch.flicker()
        self.assertEqual(set(found), set(range(2, 10)))
        worst = sorted(found, key=lambda f: -found[f].mean)[:2]
        self.assertEqual(set(worst), {5, 6})
        self.assertLess(max(v.mean for v in calm.values()), 0.5 * found[5].mean)


class FilesTest(Case):
    def test_a_flat_picture_goes_out_is_painted_and_comes_back(self) -> None:
        patch = self.wall.take_out(1, QUAD)
        for suffix in (".png", ".tif", ".exr"):
            path = self.folder / f"flat{suffix}"
            self.assertEqual(patch.write(path), patch.size)
            picture = read_picture(path)
            self.assertEqual(picture.dtype, np.float32 if suffix == ".exr" else np.uint16)
            patch.read_back(path)
            np.testing.assert_array_equal(self.shot.frame(1), self.shot.plate.read(1), f"{suffix}: unpainted it changes nothing")
        said = json.loads((self.folder / "flat.json").read_text())
        np.testing.assert_allclose(said["corners"]["1"], QUAD, atol=1e-3)
        self.assertEqual(said["size"], list(patch.size))
        picture = read_picture(self.folder / "flat.png")
        picture[60:90, 100:150] = [65535, 0, 0]
        write_picture(self.folder / "flat.png", picture)
        patch.read_back(self.folder / "flat.png")
        middle = homography.apply(moved(4) @ patch.record.from_flat, np.array([[125.0, 75]]))[0].astype(int)
        comp, plate = self.shot.frame(4), self.shot.plate.read(4)
        self.assertGreater(int(comp[middle[1], middle[0], 0]), 230)
        self.assertLess((comp != plate).any(2).sum(), 1200)

    def test_what_does_not_fit_is_told_and_nothing_is_lost(self) -> None:
        patch = self.wall.take_out(1, QUAD)
        before = self.shot.document
        write_picture(self.folder / "small.png", np.zeros((20, 30, 3), np.uint8))
        (self.folder / "half.png").write_bytes((self.folder / "small.png").read_bytes()[:60])
        for name, words in (("small.png", "save it at the size"), ("half.png", "damaged or cut short"), ("none.png", "none.png")):
            with self.assertRaisesRegex(DeliverError, words):
                patch.read_back(self.folder / name)
        with self.assertRaisesRegex(DeliverError, "16 bits or floats"):
            patch.write(self.folder / "flat.jpg")
        self.assertIs(self.shot.document, before)
        patch.write(self.folder / "flat.png")
        patch.read_back(self.folder / "flat.png")
        (self.folder / "flat.png").unlink()
        shown = Compositor(stand_in=True)
        from wertis.core.shot.plate_pictures import forget_files
        forget_files()
        np.testing.assert_array_equal(shown.comp(self.shot.document, self.shot.plate.read(2), 2), self.shot.plate.read(2))
        self.assertTrue(shown.problems)
        with self.assertRaises(PlateError):
            Compositor().comp(self.shot.document, self.shot.plate.read(2), 2)

    def test_a_whole_sequence_is_painted_elsewhere(self) -> None:
        patch = self.wall.take_out(1, QUAD)
        self.assertEqual(patch.write_series(self.folder / "steady/s.####.png"), {})
        files = sorted((self.folder / "steady").glob("*.png"))
        self.assertEqual(len(files), 9)
        for k, path in enumerate(files, 1):
            picture = read_picture(path)
            picture[20 + 5 * k:30 + 5 * k, 40:90] = [0, 65535, 0]
            write_picture(path, picture)
        patch.read_back(self.folder / "steady/s.####.png")
        for frame in (2, 7):
            middle = homography.apply(moved(frame) @ patch.record.from_flat, np.array([[65.0, 25 + 5 * frame]]))[0].astype(int)
            self.assertGreater(int(self.shot.frame(frame)[middle[1], middle[0], 1]), 230)

    def test_by_the_command_line(self) -> None:
        self.shot.save(self.folder / "s.wertis")
        one = str(self.folder / "s.wertis")
        with redirect_stdout(io.StringIO()) as said:
            self.assertEqual(main(["patch", one, "--frame", "1", "--corners", "70,50 250,58 240,190 78,182", "--clean", "--match", "--quiet"]), 0)
            self.assertEqual(main(["patch", one, "--of", "Patch", "--write", str(self.folder / "f.exr"), "--quiet"]), 0)
            self.assertEqual(main(["patch", one, "--of", "Patch", "--read", str(self.folder / "f.exr"), "--quiet"]), 0)
            self.assertEqual(main(["patch", one, "--of", "Patch", "--flicker", "--quiet"]), 0)
        self.assertRegex(said.getvalue(), "(?s)joined from 9 frames.*f.exr.*worst")
        self.assertEqual(wertis.open(one).surface("Wall").patches[0].record.base, "file")
        with redirect_stderr(io.StringIO()) as complaint:
            self.assertEqual(main(["patch", one, "--of", "Nobody", "--clean"]), 1)
        self.assertIn("no patch named Nobody", complaint.getvalue())


class WindowTest(WindowCase):
    def test_taken_out_painted_filled_cleaned_given_back_and_rendered(self) -> None:
        w, s = self.window, self.window.session
        self.tracked_and_placed()
        s.select(s.shot.tracks[0].id)
        step = w.steps["Use"]
        step.page.mend.click()
        self.spin()
        fields, part = step.page.patch, step.patches
        self.assertEqual(fields.patch.frame, s.frame)
        self.assertIn("pixels", fields.about.text())

        def on_patch(u: float, v: float) -> np.ndarray:
            corners = patches.corners_on(s.shot, part.patch, s.frame)
            return np.asarray(homography.apply(homography.from_unit_square(corners), np.array([[u, v]])))[0]

        def drag(a: np.ndarray, b: np.ndarray) -> list[float]:
            tool, times = w.viewer.tool, []
            for k, place in enumerate(np.linspace(a, b, 8)):
                begun = time.perf_counter()
                tool.press(place, 6, Qt.KeyboardModifier.NoModifier) if k == 0 else tool.move(place, 6)
                times.append(time.perf_counter() - begun)
            tool.release(b)
            self.spin()
            return times

        fields.kinds.button(0).click()
        self.assertTrue(w.steady.isVisible(), "the steady view is there to be painted in")
        self.until(lambda: w.viewer.picture is not None and not w.viewer.late)
        fields.radius.setValue(9)
        drag(on_patch(0.3, 0.3), on_patch(0.6, 0.3))
        self.assertEqual([x.kind for x in fields.patch.strokes], ["brush"])
        self.seen_flat(fields, part)
        fields.kinds.button(1).click()
        w.viewer.tool.press(on_patch(0.3, 0.3), 6, Qt.KeyboardModifier.NoModifier)
        self.assertIn("Ctrl", w.words.text())
        w.viewer.tool.press(on_patch(0.2, 0.7), 6, Qt.KeyboardModifier.ControlModifier)
        drag(on_patch(0.5, 0.6), on_patch(0.7, 0.6))
        fields.kinds.button(7).click()
        outline = [on_patch(*p) for p in ((0.25, 0.2), (0.65, 0.2), (0.65, 0.4), (0.25, 0.4))]
        tool = w.viewer.tool
        tool.press(outline[0], 6, Qt.KeyboardModifier.NoModifier)
        for place in outline[1:]:
            tool.move(place, 6)
        tool.release(outline[-1])
        self.spin()
        self.assertEqual([x.kind for x in fields.patch.strokes], ["brush", "clone", "fill"])
        fields.again.click()
        self.assertEqual(fields.patch.strokes[-1].seed, 1)
        fields.strokes.item(0).setCheckState(Qt.CheckState.Unchecked)
        self.assertFalse(fields.patch.strokes[0].visible)
        for _ in range(5):
            w.undo()
        self.assertEqual(fields.patch.strokes, ())
        fields.put_away()
        fields.wanted.emit("clean")
        self.until(lambda: w.job is None and fields.patch.base == "clean", 60)
        self.assertIn("joined from", w.words.text())
        fields.part.button(1).click()
        fields.wanted.emit("match")
        self.until(lambda: w.job is None and fields.patch.match.light is not None, 60)
        fields.soft.setValue(5)
        fields.seam.click()
        fields.wanted.emit("flicker")
        self.until(lambda: w.job is None, 60)
        self.assertIn("Worst", fields.flicker.text())
        fields.wanted.emit("worst")
        self.assertIn("jumps by", w.words.text())
        self.assertEqual((fields.patch.soft, fields.patch.seam), (5, True))
        name = str(self.folder / "flat.png")
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(name, "")):
            fields.wanted.emit("write")
        with mock.patch.object(QFileDialog, "getOpenFileName", return_value=(name, "")):
            fields.wanted.emit("read")
        self.assertEqual(fields.patch.base, "file")
        series = self.folder / "flat" / "f.####.png"
        series.parent.mkdir()
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(series), "")):
            fields.wanted.emit("series")
        self.until(lambda: w.job is None, 60)
        one = str(self.folder / "flat" / f"f.{s.frame:04d}.png")
        for answer, path in ((1, str(series)), (0, one)):  # one of several is asked about
            with mock.patch.object(QFileDialog, "getOpenFileName", return_value=(one, "")), \
                    mock.patch.object(QInputDialog, "getItem", lambda *a, k=answer: (a[3][k], True)):
                fields.wanted.emit("read")
            self.assertEqual(fields.patch.path, path, w.words.text())
        with mock.patch.object(QFileDialog, "getOpenFileName", return_value=(one, "")), mock.patch.object(QInputDialog, "getItem", lambda *a: ("", False)):
            fields.wanted.emit("read")
        self.assertEqual(fields.patch.path, one)
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(self.folder / "mask.png"), "")):
            fields.wanted.emit("mask")
        mask = read_picture(self.folder / "mask.png")
        self.assertEqual((mask.shape[:2], mask.dtype), (fields.patch.size[::-1], np.uint16))
        fields.wanted.emit("copy")
        fields.wanted.emit("propose")
        self.assertIn("Seen best on frame", w.words.text())
        fields.wanted.emit("retake")
        self.assertIn("painted elsewhere", w.words.text())
        w.steps["Deliver"].render("comp", str(self.folder / "out" / "c.####.png"))
        self.until(lambda: w.job is None, 60)
        comp, plate = read_picture(self.folder / "out" / "c.1004.png"), s.cache.get(1004)
        self.assertEqual(int((comp[:30] != plate[:30]).sum()), 0)
        page = w.steps["Deliver"].page
        page.show_state()
        page.what.setCurrentIndex(page.what.findText(f"{fields.patch.name} alone, with alpha"))
        page._suggest()
        self.assertIn(fields.patch.name.replace(" ", "_"), page.target.text())
        w.steps["Deliver"].render(page.what.currentData(), str(self.folder / "alone" / "p.####.png"))
        self.until(lambda: w.job is None, 60)
        alone = read_picture(self.folder / "alone" / "p.1004.png")
        self.assertEqual((alone.shape[2], int(alone[:30].max())), (4, 0))
        corners = patches.corners_on(s.shot, fields.patch, 1004)
        outside = cv2.fillConvexPoly(np.zeros(alone.shape[:2], np.uint8), np.round(corners).astype(np.int32), 1)
        self.assertEqual(int(alone[ndimage.maximum_filter(outside, 25) == 0].max()), 0, "no other graphic is in it")

    def seen_flat(self, fields: PatchFields, part: PatchPart) -> None:
        """The flat picture alone: painted, as it was, where it is laid on, what changed."""
        fields.wanted.emit("flat")
        flat = part.flat_window
        assert flat is not None
        pictures = []
        for k in range(4):
            flat.view.button(k).click()
            pictures.append(flat.flat.pixels)
            self.assertEqual(flat.flat.pixels.shape, (*fields.patch.size[::-1], 3))
        painted, before, alpha, changed = pictures
        stroke = np.zeros(alpha.shape[:2], bool)
        rows, columns = (slice(round(f * n) - 2, round(f * n) + 3) for f, n in ((0.3, stroke.shape[0]), (0.45, stroke.shape[1])))
        self.assertTrue((painted[rows, columns] != before[rows, columns]).any() and changed[rows, columns].max() > 40)
        self.assertEqual(int(alpha[rows, columns].min()), 255)
        corner = np.s_[-20:, -20:]
        np.testing.assert_array_equal(painted[corner], before[corner])
        self.assertEqual((alpha[corner].max(), changed[corner].max()), (0, 0))
        flat.every_pixel.click()
        self.assertEqual(flat.flat.minimumWidth(), fields.patch.size[0])
        flat.close()

    def test_painting_on_what_is_locked_is_told(self) -> None:
        w, s = self.window, self.window.session
        self.tracked_and_placed()
        s.select(s.shot.tracks[0].id)
        w.steps["Use"].page.mend.click()
        fields = w.steps["Use"].page.patch
        s.history.do("Lock", patches.set_patch(s.shot, fields.patch.id, locked=True))
        fields.kinds.button(0).click()
        w.viewer.tool.press(s.shot.tracks[0].region.array.mean(0), 6, Qt.KeyboardModifier.NoModifier)
        self.assertIn("locked", w.words.text())
        self.assertEqual(fields.patch.strokes, ())


del WindowCase

if __name__ == "__main__":
    unittest.main()
