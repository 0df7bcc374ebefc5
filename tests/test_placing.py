"""Placing graphics: their own motion with keys, repeats, own size, the whole picture; finishing, shadow and thickness; what is missing."""

import io
import shutil
import tempfile
import unittest
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path

import cv2
import numpy as np
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QImage
from PySide6.QtTest import QTest
from scipy import ndimage

import wertis
from tests.scenes import texture
from tests.test_window import WindowCase
from wertis.cli.main import main
from wertis.core.comp import finish, text
from wertis.core.comp.graphic import surface_warp
from wertis.core.comp.picture import Compositor
from wertis.core.errors import PlateError, RegionError, WertisError
from wertis.core.exchange.pictures import write_picture
from wertis.core.geometry import homography
from wertis.core.geometry.quad import UNIT_SQUARE
from wertis.core.plate.colour import CODED
from wertis.core.shot import placing
from wertis.core.shot.artwork import Artwork, Finish, Shadow, Thickness
from wertis.core.shot.document import Placement, PlaneSolution, PlateRef, Region, Shot, Track
from wertis.core.shot.edits import as_points
from wertis.core.shot.pose import PoseValues, pose_matrix, pose_values

SIZE = (320, 240)
QUAD = np.array([[60.0, 50], [260, 60], [250, 190], [66, 180]])
BOX = np.array([[80.0, 60], [240, 60], [240, 180], [80, 180]])


def moved(frame: int) -> np.ndarray:
    return homography.translation(3.0 * frame, -2.0 * frame) @ np.array([[1, 0.01 * frame, 0], [0, 1, 0], [2e-5 * frame, 0, 1]])


def shot_with(**changes: object) -> tuple[Shot, Track, Placement]:
    """A plane tracked over frames 0 to 5, with a graphic."""
    frames = np.arange(6, dtype=np.int64)
    solution = PlaneSolution(reference=0, frames=frames, matrices=np.array([moved(int(f)) for f in frames]), errors=np.zeros(6), seen=np.ones(6))
    track = Track(region=Region(frame=0, points=as_points(QUAD)), solution=solution)
    placement = Placement(**{"on": track.id, "frame": 0, "quad": as_points(BOX), "artwork": Artwork(kind="solid"), "fit": "stretch", **changes})  # type: ignore[arg-type]
    shot = Shot(plate=PlateRef(path="x", first=0, last=5, size=SIZE), range=(0, 5)).with_track(track).with_item(placement)
    return shot, track, placement


def alpha_of(shot: Shot, frame: int = 0) -> np.ndarray:
    return Compositor().graphic(shot, frame, SIZE)[..., 3]


class PoseTest(unittest.TestCase):
    def test_a_matrix_is_taken_apart_into_what_it_was_made_of(self) -> None:
        rng = np.random.default_rng(3)
        for _ in range(50):
            values = PoseValues(*rng.uniform(-1, 1, 2), *rng.uniform(0.2, 3, 2), rng.uniform(-170, 170), rng.uniform(-60, 60))
            ratio, about = float(rng.uniform(0.3, 3)), tuple(rng.uniform(-0.5, 1.5, 2))
            np.testing.assert_allclose(pose_values(pose_matrix(values, ratio, about), ratio, about), values, atol=1e-9)

    def test_a_turn_keeps_lengths_on_the_surface(self) -> None:
        corners = homography.apply(pose_matrix(PoseValues(turn=37.0), 2.0), UNIT_SQUARE) * [2.0, 1.0]
        np.testing.assert_allclose(np.linalg.norm(np.roll(corners, -1, 0) - corners, axis=1), [2, 1, 2, 1])

    def test_keys_move_it_over_time_and_setting_one_moves_nothing(self) -> None:
        shot, _, placement = shot_with()
        keyed = placing.posed(shot, placement, 1, PoseValues(turn=10), True)
        keyed = placing.posed(shot, keyed, 5, PoseValues(turn=50, across=2.0, along=2.0), True)
        self.assertAlmostEqual(keyed.pose.at(3).turn, 30, delta=1)
        self.assertAlmostEqual(keyed.pose.at(3).across, np.sqrt(2), delta=0.02)
        before = [keyed.quad_at(f) for f in range(6)]
        for frame in (2, 3):
            shot = placing.key_pose(shot.with_item(keyed), keyed.id, frame)
            keyed = shot.item(keyed.id, Placement)  # type: ignore[assignment]
        for f in range(6):
            np.testing.assert_allclose(keyed.quad_at(f), before[f], atol=1e-9)
        shot = placing.key_pose(shot, keyed.id, 3, False)
        self.assertEqual(sorted(shot.item(keyed.id, Placement).pose.keys), [1, 2, 5])  # type: ignore[union-attr]
        # one for all frames: every key is changed by the same
        other = placing.posed(shot, keyed, 2, keyed.pose.at(2)._replace(right=0.5), False)
        for f in range(6):
            self.assertAlmostEqual(other.pose.at(f).right, 0.5)
            self.assertAlmostEqual(other.pose.at(f).turn, keyed.pose.at(f).turn)

    def test_corners_are_put_where_wanted_whatever_its_keys_do(self) -> None:
        shot, track, placement = shot_with()
        keyed = placing.posed(shot, placement, 0, PoseValues(turn=20, right=0.1), True)
        wanted = QUAD + [[3, 1], [0, 2], [-4, 0], [1, 1]]
        put = placing.with_corners(shot, keyed, wanted, 4)
        found = surface_warp(track, put, 4)
        assert found is not None
        np.testing.assert_allclose(found.forward(UNIT_SQUARE), wanted, atol=1e-6)
        with self.assertRaisesRegex(RegionError, "fold over"):
            placing.with_corners(shot, keyed, wanted[[0, 2, 1, 3]], 4)
        with self.assertRaisesRegex(RegionError, "fold over"):
            placing.posed(shot, keyed.but(quad=((140.0, 60.0), (180.0, 60.0), (300.0, 200.0), (20.0, 200.0))), 0, PoseValues(down=3.0), True)


class FitTest(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder)

    def test_the_whole_picture_lands_to_the_pixel_where_it_was_made(self) -> None:
        shot, track, _ = shot_with()
        art = np.random.default_rng(1).integers(0, 65536, (240, 320, 3), dtype=np.uint16)
        write_picture(self.folder / "a.png", art)
        for frame in (0, 3):
            whole = placing.whole_picture(shot, track, frame, Artwork(kind="picture", path=str(self.folder / "a.png")))
            self.assertTrue(placing.is_whole_picture(shot, whole))
            out = Compositor().comp(shot.but(items=(whole,)), np.zeros((240, 320, 3), np.uint16), frame)
            np.testing.assert_array_equal(out, art)
        # on another frame it goes with the surface
        there = Compositor().graphic(shot.but(items=(whole,)), 5, SIZE)[..., :3]
        onto = moved(5) @ np.linalg.inv(moved(3))
        centred = np.array([[1, 0, -0.5], [0, 1, -0.5], [0, 0, 1.0]])
        expected = cv2.warpPerspective(art.astype(np.float32) / 65535, centred @ onto @ np.linalg.inv(centred), SIZE, flags=cv2.INTER_LINEAR)
        inner = np.s_[40:200, 60:260]
        calm = [ndimage.gaussian_filter(x, (2, 2, 0))[inner] for x in (there, expected)]
        self.assertLess(np.abs(calm[0] - calm[1]).mean(), 0.01)
        with self.assertRaisesRegex(RegionError, "not tracked"):
            placing.whole_picture(shot, track, 77)

    def test_own_size_is_so_many_pixels_to_one(self) -> None:
        write_picture(self.folder / "a.png", np.full((40, 60, 3), 255, np.uint8))
        art = Artwork(kind="picture", path=str(self.folder / "a.png"))
        for density, area in ((1.0, 60 * 40), (2.0, 30 * 20)):
            shot, _, _ = shot_with(artwork=art, fit="own", density=density)
            self.assertAlmostEqual(float(alpha_of(shot).sum()) / area, 1.0, delta=0.01)

    def test_repeats_are_a_reference_librarys_tiles(self) -> None:
        one = texture(size=(64, 48))
        write_picture(self.folder / "a.png", one)
        shot, _, _ = shot_with(artwork=Artwork(kind="picture", path=str(self.folder / "a.png")), tiles=(4.0, 3.0))
        out = Compositor().graphic(shot, 0, SIZE, 4)[60:180, 80:240, :3]
        small = cv2.resize(one.astype(np.float32) / 255, (40, 40), interpolation=cv2.INTER_AREA).reshape(40, 40, -1)
        expected = np.tile(np.broadcast_to(small, (40, 40, 3)), (3, 4, 1))
        self.assertLess(np.abs(out - expected)[2:-2, 2:-2].mean(), 0.03)
        self.assertGreater(np.abs(np.roll(out, 7, 1) - expected)[2:-2, 2:-2].mean(), 0.06)
        half, _, _ = shot_with(artwork=Artwork(kind="picture", path=str(self.folder / "a.png")), tiles=(0.5, 1.0))
        np.testing.assert_allclose(alpha_of(half).sum(), 160 * 120, rtol=1e-3)


class FinishTest(unittest.TestCase):
    def test_black_and_white_are_keyed_and_brightness_is_alpha(self) -> None:
        ramp = np.repeat(np.linspace(0, 1, 101, dtype=np.float32)[None, :, None], 4, 2)
        ramp[..., 3] = 1
        for kind, expected in (("black", np.clip((ramp[0, :, 0] - 0.2) / 0.3, 0, 1)), ("white", np.clip((0.8 - ramp[0, :, 0]) / 0.3, 0, 1)),
                               ("brightness", ramp[0, :, 0])):
            out = finish.finished(ramp, CODED, Finish(keyed=kind, threshold=0.2, soft=0.3))
            np.testing.assert_allclose(out[0, :, 3], expected, atol=1e-6)
            np.testing.assert_allclose(out[0, :, 0], ramp[0, :, 0] * expected, atol=1e-6)

    def test_saturation_by_the_luminance_of_bt_709(self) -> None:
        colour = np.array([[[0.8, 0.2, 0.1, 1.0]]], np.float32)
        grey = 0.2126 * 0.8 + 0.7152 * 0.2 + 0.0722 * 0.1  # ITU-R BT.709-6, 3.2
        np.testing.assert_allclose(finish.finished(colour, CODED, Finish(saturation=0.0))[0, 0, :3], [grey] * 3, atol=1e-6)
        np.testing.assert_allclose(finish.finished(colour, CODED, Finish(saturation=0.5))[0, 0, 0], (0.8 + grey) / 2, atol=1e-6)

    def test_an_edge_is_moved_by_so_many_pixels(self) -> None:
        alpha = np.zeros((80, 80), np.float32)
        alpha[20:60, 20:60] = 1
        for choke in (-3.0, -1.5, 1.0, 2.5, 4.0):
            row = finish.edged(alpha, choke, 0.0)[40]
            self.assertAlmostEqual(float(row.sum()), 40 - 2 * choke, delta=0.05)
        faded = finish.edged(alpha, 0.0, 8.0)[40]
        self.assertLess(faded[20], 0.1)
        self.assertGreater(faded[28], 0.9)
        self.assertLess(faded[19], 0.03)
        whole = finish.edged(np.ones((40, 40), np.float32), 0.0, 8.0)
        self.assertLess(whole[20, 0], 0.1, "the picture's border is an edge")

    def test_a_grown_edge_has_the_artworks_colour(self) -> None:
        art = np.zeros((40, 40, 4), np.float32)
        art[10:30, 10:30] = [0.9, 0.3, 0.1, 1]
        out = finish.finished(art, CODED, Finish(choke=-4.0))
        self.assertAlmostEqual(float(out[20, 7, 3]), 1.0)
        np.testing.assert_allclose(out[20, 7, :3], [0.9, 0.3, 0.1], atol=0.02)

    def test_tracking_puts_room_between_letters_and_leaves_joined_scripts_whole(self) -> None:
        self.assertGreater(text.text_ratio("Quay", tracking=40), 1.3 * text.text_ratio("Quay"))
        wide = text.text("l l", tracking=100)[..., 3]
        columns = (wide > 0.5).any(0)
        self.assertEqual(int((np.diff(columns.astype(int)) > 0).sum()), 2)
        self.assertEqual(text._letters("\u0633\u0644\u0627\u0645", "", 50, 1.2, 30, "left")[0][2], "\u0633\u0644\u0627\u0645")
        fonts = text.system_fonts()
        self.assertTrue(any(family.startswith("Inter") for family in fonts))


class CastTest(unittest.TestCase):
    def setUp(self) -> None:
        self.plate = np.full((240, 320, 3), 180, np.uint8)

    def test_a_shadow_falls_where_it_should_and_nothing_else_changes(self) -> None:
        shot, _, _ = shot_with(shadow=Shadow(distance=10, softness=2, angle=90, opacity=1.0))
        out = Compositor().comp(shot, self.plate, 0)
        self.assertLess(out[186, 160].max(), 40)  # 12 px of 120 below
        np.testing.assert_array_equal(out[50, 160], self.plate[50, 160])
        self.assertEqual(int((out[100, :69] != 180).sum() + (out[100, 252:] != 180).sum()), 0)
        profile = 1 - out[180:215, 160, 0] / 180.0
        edge = float(profile.sum()) + 180
        self.assertAlmostEqual(edge, 192, delta=1.0)  # where a blurred edge has its middle
        np.testing.assert_array_equal(Compositor().comp(shot, self.plate, 0)[60:180, 80:240], out[60:180, 80:240])

    def test_it_goes_with_the_surface(self) -> None:
        shot, track, placement = shot_with(shadow=Shadow(distance=20, softness=1, angle=0, opacity=1.0))
        out = Compositor().comp(shot, self.plate, 5)
        warp = surface_warp(track, placement, 5)
        assert warp is not None
        right = warp.forward(np.array([[1.0 + 0.1 * 120 / 160, 0.5]]))[0].astype(int)
        self.assertLess(out[right[1], right[0]].max(), 40)

    def test_thickness_is_drawn_out_beneath_and_an_inner_shadow_stays_inside(self) -> None:
        shot, _, _ = shot_with(thickness=Thickness(depth=10, angle=90, colour=(1.0, 0, 0)))
        out = Compositor().comp(shot, self.plate, 0)
        np.testing.assert_array_equal(out[188, 160], [255, 0, 0])
        np.testing.assert_array_equal(out[196, 160], self.plate[196, 160])
        shot, _, _ = shot_with(inner_shadow=Shadow(distance=10, softness=2, angle=90, opacity=1.0))
        inner = Compositor().comp(shot, self.plate, 0)
        plain = Compositor().comp(shot_with()[0], self.plate, 0)
        self.assertLess(inner[64, 160].max(), 40)
        np.testing.assert_array_equal(inner[150, 160], plain[150, 160])
        outside = np.ones((240, 320), bool)
        outside[60:180, 80:240] = False
        np.testing.assert_array_equal(inner[outside], self.plate[outside])


class MissingTest(unittest.TestCase):
    def test_missing_artwork_is_hatched_on_the_screen_and_an_error_when_rendered(self) -> None:
        shot, _, _ = shot_with(artwork=Artwork(kind="picture", path="/nowhere/poster.png"))
        plate = np.zeros((240, 320, 3), np.uint8)
        shown = Compositor(stand_in=True)
        out = shown.comp(shot, plate, 0)
        self.assertGreater(out[60:180, 80:240].std(), 20)
        self.assertIn("poster.png is not there any more", shown.artwork.problems["/nowhere/poster.png"])
        with self.assertRaisesRegex(PlateError, "choose it again"):
            Compositor().comp(shot, plate, 0)

    def test_artwork_too_large_for_memory_is_refused(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "huge.png"
            cv2.imwrite(str(path), np.zeros((20000, 20000), np.uint8))
            with self.assertRaisesRegex(PlateError, "20000 x 20000"):
                Compositor().comp(shot_with(artwork=Artwork(kind="picture", path=str(path)))[0], np.zeros((240, 320, 3), np.uint8), 0)


class ScriptTest(unittest.TestCase):
    def test_all_of_it_from_a_script(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            for f in range(3):
                write_picture(folder / f"p.{f + 1:04d}.png", texture(size=SIZE))
            write_picture(folder / "art.png", texture(size=(100, 80)))
            shot = wertis.open(folder / "p.####.png")
            wall = shot.track(BOX, 1, model="shift")
            graphic = wall.place(folder / "art.png", BOX, 1)
            graphic.pose(2, turn=20, scale=0.5).finish(saturation=0.5, keyed="black").shadow(distance=5).shadow(inner=True, opacity=0.3)
            graphic.stand_off(depth=2).tile(2, 2)
            record = graphic.record
            self.assertEqual((record.tiles, record.artwork.finish.keyed, record.shadow.distance, record.inner_shadow.opacity), ((2, 2), "black", 5, 0.3))
            self.assertAlmostEqual(record.pose.at(1).turn, 20)
            words = graphic.match(["focus", "levels"])
            self.assertEqual(set(words), {"focus", "levels"})
            self.assertGreater(graphic.record.match.slope[0], 0.1)
            shot.save(folder / "s.wertis")
            self.assertEqual(wertis.open(folder / "s.wertis").document.items, shot.document.items)
            whole = wall.place_whole(folder / "art.png", 2)
            self.assertTrue(placing.is_whole_picture(shot.document, whole.record))
            self.commands(folder)
            with self.assertRaisesRegex(WertisError, "keyed"):
                graphic.finish(keyed="green")
            with self.assertRaisesRegex(WertisError, "not brighter"):
                graphic.match_colours((100, 100), (100, 100))

    def commands(self, folder: Path) -> None:
        """The same by the command line."""
        one, art = str(folder / "s.wertis"), str(folder / "art.png")
        with redirect_stdout(io.StringIO()) as said:
            self.assertEqual(main(["place", one, "--artwork", art, "--frame", "2", "--whole", "--name", "Over", "--out", str(folder / "t.wertis")]), 0)
            self.assertEqual(main(["match", str(folder / "t.wertis"), "--graphic", "Over", "--parts", "levels,grain", "--quiet"]), 0)
        self.assertRegex(said.getvalue(), "(?s)Over placed on .*levels: black .*grain: ")
        made = wertis.open(folder / "t.wertis").document
        over = next(x for x in made.items if x.name == "Over")
        self.assertTrue(placing.is_whole_picture(made, over))
        self.assertNotEqual(over.match.slope, (1.0, 1.0, 1.0))
        with redirect_stderr(io.StringIO()) as complaint:
            self.assertEqual(main(["place", one, "--artwork", art, "--whole", "--corners", "1,1 9,1 9,9 1,9"]), 1)
            self.assertEqual(main(["match", one, "--graphic", "Nobody"]), 1)
        self.assertRegex(complaint.getvalue(), "(?s)leave one of them out.*no graphic named Nobody")


class WindowTest(WindowCase):
    def test_a_graphic_is_moved_scaled_turned_and_skewed_by_handles(self) -> None:
        w, s = self.window, self.window.session
        self.tracked_and_placed()
        page = w.steps["Use"].page
        page.part.button(1).click()
        page.place.handles.button(1).click()
        self.spin()
        tool = w.viewer.tool
        start = s.placement.quad_at(s.frame)

        def drag(name: str, by: tuple[float, float], modifiers: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> np.ndarray:
            graphic = tool._graphic()
            at = tool.places(graphic)[name] if name != "inside" else graphic.surface.forward(np.array([[0.4, 0.3]]))[0]
            tool.press(at, 6.0, modifiers)
            tool.move(at + np.array(by) / 2, 6.0)
            tool.move(at + by, 6.0)
            tool.release(at + by)
            return np.asarray(s.placement.quad_at(s.frame))

        moved = drag("inside", (12, 5))
        np.testing.assert_allclose((moved - start).mean(0), [12, 5], atol=1.5)
        scaled = drag("corner 2", (20, 15))
        np.testing.assert_allclose(scaled[0], moved[0], atol=1e-6, err_msg="the opposite corner stays")
        self.assertGreater(np.linalg.norm(scaled[2] - scaled[0]), np.linalg.norm(moved[2] - moved[0]) + 8)
        pose = s.placement.pose.at(s.frame)
        self.assertAlmostEqual(pose.across, pose.along, places=6)
        drag("side 1", (15, 0))
        self.assertGreater(s.placement.pose.at(s.frame).across, pose.across * 1.02)
        self.assertAlmostEqual(s.placement.pose.at(s.frame).along, pose.along, places=6)
        drag("side 0", (10, 0), Qt.KeyboardModifier.ControlModifier)
        self.assertGreater(abs(s.placement.pose.at(s.frame).skew), 1)
        drag("turn", (-25, 0))
        self.assertGreater(s.placement.pose.at(s.frame).turn, 5)
        for _ in range(5):
            w.undo()
        np.testing.assert_allclose(s.placement.quad_at(s.frame), start)
        # with keys
        page.place.keyed.click()
        page.place.turn.setValue(10)
        first = s.frame
        s.go(first + 3)
        page.place.turn.setValue(40)
        self.assertEqual(sorted(s.placement.pose.keys), [first, first + 3])
        self.assertEqual(w.steps["Use"].key_marks(), [first, first + 3])
        self.assertTrue(w.steps["Use"].move_key_mark(first + 3, first + 4, False))
        self.assertEqual(sorted(s.placement.pose.keys), [first, first + 4])
        page.place.whole.click()
        self.assertTrue(placing.is_whole_picture(s.shot, s.placement))
        self.assertIn("Flat over the whole picture", page.place.frame.text())

    def test_looks_are_set_on_the_page(self) -> None:
        w, s = self.window, self.window.session
        self.tracked_and_placed()
        page = w.steps["Use"].page
        page.part.button(2).click()
        look = page.look
        look.casts["shadow"].click()
        look.numbers["shadow"]["distance"].setValue(8)
        look.numbers["shadow"]["opacity"].setValue(70)
        look.casts["thickness"].click()
        look.keyed.setCurrentIndex(look.keyed.findData("white"))
        look.keyed.activated.emit(2)
        look.threshold.setValue(20)
        look.saturation.setValue(40)
        look.choke.setValue(1.5)
        p = s.placement
        self.assertEqual((p.shadow.distance, p.shadow.opacity, p.thickness.depth), (8, 0.7, 1.0))
        self.assertEqual(p.artwork.finish, Finish(keyed="white", threshold=0.2, saturation=0.4, choke=1.5))
        look.casts["shadow"].click()
        self.assertIsNone(s.placement.shadow)
        self.assertFalse(look.numbers["shadow"]["distance"].isVisibleTo(w))
        page.part.button(1).click()
        page.place.tiles[0].setValue(3)
        self.assertEqual(s.placement.tiles, (3, 1))
        page.place.fit.setCurrentIndex(page.place.fit.findData("own"))
        page.place.fit.activated.emit(3)
        self.assertTrue(page.place.density.isVisibleTo(w))
        page.place.density.setValue(2)
        self.assertEqual((s.placement.fit, s.placement.density), ("own", 2))
        self.until(lambda: w.viewer.picture_frame == s.frame and w.viewer.picture is not None)

    def test_the_comp_is_held_against_the_plate(self) -> None:
        w, s = self.window, self.window.session
        self.tracked_and_placed()
        self.until(lambda: w.viewer.picture is not None and not w.viewer.late)
        plate = w.display.pictures
        w.run_command("view.against-split")
        self.until(lambda: plate.ready(s.frame, False) is not None and plate.ready(s.frame, True) is not None)
        self.spin()
        comp, bare = plate.ready(s.frame, True)[0], plate.ready(s.frame, False)[0]
        middle = w.viewer.picture.shape[1] // 2
        np.testing.assert_array_equal(w.viewer.picture[:, :middle], bare[:, :middle])
        np.testing.assert_array_equal(w.viewer.picture[:, middle:], comp[:, middle:])
        # the line is dragged
        area = w.viewer.picture_area()
        at = QPoint(round(area.x() + area.width() / 2), round(area.center().y()))
        QTest.mousePress(w.viewer, Qt.MouseButton.LeftButton, pos=at)
        QTest.mouseMove(w.viewer, at - QPoint(round(area.width() / 4), 0))
        QTest.mouseRelease(w.viewer, Qt.MouseButton.LeftButton, pos=at - QPoint(round(area.width() / 4), 0))
        self.spin()
        self.assertAlmostEqual(w.display.comparison.at, 0.25, delta=0.01)
        quarter = round(w.display.comparison.at * comp.shape[1])
        np.testing.assert_array_equal(w.viewer.picture[:, quarter:], comp[:, quarter:])
        w.run_command("view.against-difference")
        self.spin()
        np.testing.assert_array_equal(w.viewer.picture, np.minimum(8 * np.abs(comp.astype(int) - bare), 255))
        w.run_command("view.overlays")
        w.run_command("view.against-beside")
        self.spin()
        grab = w.viewer.grab().toImage().convertToFormat(QImage.Format.Format_RGB888)
        seen = np.frombuffer(grab.constBits(), np.uint8).reshape(grab.height(), grab.bytesPerLine())[:, :3 * grab.width()].reshape(grab.height(), -1, 3)
        # the comp in one half and the plate in the other, in the same place
        area, beside = w.viewer.picture_area(), w.viewer._other
        self.assertEqual(beside.x() > 0, beside.y() == 0)
        for by, right, wrong in ((QPointF(0, 0), comp, bare), (beside, bare, comp)):
            box = area.translated(by).toRect()
            self.assertTrue(w.viewer.rect().contains(box))
            there = cv2.resize(seen[box.top():box.bottom() + 1, box.left():box.right() + 1], comp.shape[1::-1]).astype(float)
            off = [np.abs(there - p)[np.abs(comp.astype(int) - bare).max(2) > 60].mean() for p in (right, wrong)]
            self.assertLess(off[0], 0.7 * off[1])
        zoom = w.viewer.zoom
        w.run_command("view.against-nothing")
        self.spin()
        self.assertGreater(w.viewer.zoom, 1.3 * zoom)
        w.run_command("view.overlays")
        np.testing.assert_array_equal(w.viewer.picture, comp)

    def test_artwork_that_changes_on_disk_is_read_again_by_itself(self) -> None:
        w, s = self.window, self.window.session
        self.tracked_and_placed()
        file = self.folder / "poster.png"
        write_picture(file, np.full((20, 30, 3), 40, np.uint8))
        w.steps["Use"].page.artwork.set_file("picture", file)
        self.until(lambda: file in w.watcher._states)
        self.until(lambda: w.display.pictures.ready(s.frame, True) is not None)
        middle = s.placement.array.mean(0).astype(int)
        self.until(lambda: abs(int(w.viewer.picture[middle[1], middle[0], 0]) - 40) < 3)
        write_picture(self.folder / "new.png", np.full((20, 30, 3), 200, np.uint8))
        (self.folder / "new.png").replace(file)
        self.until(lambda: "poster.png has changed on disk" in w.words.text(), 10)
        self.until(lambda: w.viewer.picture is not None and abs(int(w.viewer.picture[middle[1], middle[0], 0]) - 200) < 3)
        file.write_bytes(file.read_bytes())  # and once more in the same place
        self.until(lambda: w.watcher._states[file] == (file.stat().st_size, file.stat().st_mtime_ns), 10)
        file.unlink()
        w.steps["Use"].reread()
        self.until(lambda: "not there any more" in w.viewer._trouble)

    def test_black_and_white_are_picked_and_a_strip_is_shown(self) -> None:
        w, s = self.window, self.window.session
        self.tracked_and_placed()
        page = w.steps["Use"].page
        page.part.button(3).click()
        picture = s.cache.get(s.frame).astype(float).mean(2)
        calm = ndimage.uniform_filter(picture, 5)[10:-10, 10:-10]
        dark, bright = (np.array(np.unravel_index(k, calm.shape)) + 10 for k in (calm.argmin(), calm.argmax()))
        page.match.pick.click()
        for place in (dark, bright):
            self.assertTrue(w.bench.picking)
            w.viewer.tool.press(np.array([place[1], place[0]]) + 0.5, 6, Qt.KeyboardModifier.NoModifier)
            self.spin()
        match = s.placement.match
        self.assertAlmostEqual(float(np.mean(match.offset)) * 255, picture[dark[0] - 2:dark[0] + 3, dark[1] - 2:dark[1] + 3].mean(), delta=1)
        self.assertGreater(min(match.slope), 0.05)
        page.match.measures["levels"].click()
        self.until(lambda: w.job is None and s.placement.match != match)
        w.run_command("use.strip")
        self.until(lambda: w.job is None)
        strip = w.steps["Use"].strip.pictures
        self.assertEqual([f.frame for f in strip.frames], list(range(1001, 1009)))
        inner = np.s_[60:130, 60:120]
        self.assertGreater(np.abs(strip.frames[3].comp[inner].astype(int) - strip.frames[3].plate[inner]).mean(), 5)
        # held still: the plate is alike on all frames there
        self.assertLess(np.abs(strip.frames[1].plate[inner].astype(int) - strip.frames[6].plate[inner]).mean(), 12)
        QTest.mouseClick(strip, Qt.MouseButton.LeftButton, pos=QPoint(strip._width * 2 + 40, 60))
        self.assertEqual(s.frame, 1003)
        w.steps["Use"].strip.close()


del WindowCase

if __name__ == "__main__":
    unittest.main()
