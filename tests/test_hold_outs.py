"""Hold-outs: shapes with motions of their own, mattes, and what they do for a track."""

import threading
import unittest
from pathlib import Path
from unittest import mock

import cv2
import numpy as np
from PySide6.QtCore import Qt
from scipy import ndimage

import wertis
from tests.helpers import hold_out, placement
from tests.scenes import SIZE, PlaneShot
from tests.test_deliver import ShotFolder, command, pairs, table
from tests.test_plate import Folder
from tests.test_shot import shot_with_track
from tests.test_tracker import errors
from tests.test_window import WindowCase
from wertis.app import mattes
from wertis.cli.main import main
from wertis.core.comp.picture import Compositor
from wertis.core.errors import PlateError, RegionError
from wertis.core.exchange.pictures import write_picture
from wertis.core.geometry import homography, polygon
from wertis.core.geometry.conventions import homography_to_centred
from wertis.core.geometry.motion import Fix
from wertis.core.geometry.warp import HomographyWarp
from wertis.core.plate import open_plate
from wertis.core.plate.base import luma
from wertis.core.shot import edits, hold_outs, items, matte_edits, regions, store
from wertis.core.shot.artwork import Artwork
from wertis.core.shot.document import HoldOut, Placement, Shot
from wertis.core.track.occluders import occluder_mask
from wertis.core.track.run import track_plane
from wertis.demo.make import FILMS
from wertis.demo.scene import Scene

BOX = np.array([[20.0, 20], [60, 20], [60, 50], [20, 50]])


class ShapeTest(unittest.TestCase):
    def test_keys_go_straight_between_and_hold_outside(self) -> None:
        held = HoldOut(of="", keys={2: edits.as_points(BOX), 6: edits.as_points(BOX + [40, 8])})
        for frame, move in ((1, [0, 0]), (2, [0, 0]), (3, [10, 2]), (6, [40, 8]), (9, [40, 8])):
            np.testing.assert_allclose(hold_outs.shape_on(Shot(), held, frame), BOX + move)

    def test_it_follows_a_track(self) -> None:
        shot, track = shot_with_track()  # 3 px a frame from frame 2; lost on 5
        held = HoldOut(of=track.id, keys={2: edits.as_points(BOX)}, on=track.id)
        np.testing.assert_allclose(hold_outs.shape_on(shot, held, 4), BOX + [6, 0])
        self.assertIsNone(hold_outs.shape_on(shot, held, 5))
        moved = hold_outs.reshaped(shot, held, BOX + [9, 0], 4)
        np.testing.assert_allclose(np.array(moved.keys[2]), BOX + [3, 0])

    def test_moving_it_on_another_frame_makes_a_key(self) -> None:
        held = HoldOut(of="", keys={1: edits.as_points(BOX)})
        moved = hold_outs.reshaped(Shot(), held, BOX + 5, 4)
        self.assertEqual(sorted(moved.keys), [1, 4])
        fewer = hold_outs.reshaped(Shot(), moved, BOX[:3], 4)
        self.assertEqual(sorted(fewer.keys), [4])

    def test_unlike_keys_and_nothing_at_all_are_refused(self) -> None:
        with self.assertRaises(ValueError):
            HoldOut(of="", keys={1: edits.as_points(BOX), 2: edits.as_points(BOX[:3])})
        with self.assertRaises(ValueError):
            HoldOut(of="")

    def test_growing_is_by_exact_distance(self) -> None:
        # against SciPy's exact Euclidean distance transform
        mask = polygon.fill(np.array([[30.0, 30], [60, 35], [50, 70]]), (100, 100))
        solid = mask > 0
        out = ndimage.distance_transform_edt(~solid)
        for grow in (3.0, 8.0):
            ours = hold_outs.softened(mask, grow, 0) > 127
            theirs = solid | (out - 0.5 <= grow)
            self.assertLess(np.count_nonzero(ours != theirs), 4)
        shrunk = hold_outs.softened(mask, -3, 0) > 127
        self.assertTrue((shrunk <= solid).all())
        self.assertLess(shrunk.sum(), solid.sum())
        soft = hold_outs.softened(mask, 0, 10)
        self.assertTrue((soft[solid] == 255).all())
        self.assertTrue(0 < soft[~solid].max() < 255)

    def test_it_is_saved_and_read_back(self) -> None:
        import tempfile

        shot, track = shot_with_track()
        shot = items.add_item(shot, HoldOut(of=track.id, keys={1: edits.as_points(BOX), 3: edits.as_points(BOX + 4)}, grow=7))
        with tempfile.TemporaryDirectory() as folder:
            shot = items.add_item(shot, HoldOut(of=track.id, path=str(Path(folder) / "matte"), invert=True))
            store.save(shot, Path(folder) / "s.wertis")
            self.assertEqual(store.load(Path(folder) / "s.wertis"), shot)


class MatteTest(Folder):
    def write(self, size: tuple[int, int] = (40, 30)) -> Path:
        for f in (5, 6):
            picture = np.zeros((size[1], size[0], 3), np.uint8)
            picture[:, :f] = 255
            write_picture(self.folder / f"m.{f:04d}.png", picture)
        return self.folder

    def test_white_is_held_out_unless_inverted(self) -> None:
        matte = hold_outs.open_matte(self.write(), (40, 30))
        mask = hold_outs.read_matte(matte, 6)
        assert mask is not None
        self.assertEqual(int((mask == 255).sum()), 6 * 30)
        inverted = hold_outs.read_matte(matte, 6, invert=True)
        assert inverted is not None
        np.testing.assert_array_equal(inverted, 255 - mask)
        self.assertIsNone(hold_outs.read_matte(matte, 9))

    def test_another_size_is_refused(self) -> None:
        with self.assertRaisesRegex(PlateError, "40 x 30 pixels, the plate 80 x 60"):
            hold_outs.open_matte(self.write(), (80, 60))


class RescueTest(Folder):
    """A striped passer that hides eight tenths of the surface: too much without help."""

    def setUp(self) -> None:
        super().setUp()
        self.made = PlaneShot(n=20, passer=0.45)
        self.plate = open_plate(self.made.write(self.folder / "plate", 1))

    def fixes(self, held) -> list[Fix]:  # type: ignore[no-untyped-def]
        found = dict(track_plane(self.plate, self.made.region, 1, range(2, 21), held=held))  # the last answer for each frame
        return [found[frame] for frame in range(2, 21)]

    def passer(self, frame: int) -> np.ndarray:
        return self.made.mask_of_passer[frame - 1].astype(np.uint8) * 255

    def test_the_hold_out_rescues_the_track(self) -> None:
        without = errors(self.made, self.fixes(None))
        self.assertGreater(np.max(without), 1.0, "the shot is meant to be too hard without a hold-out")
        self.assertLess(np.max(errors(self.made, self.fixes(self.passer))), 0.5)

    def test_a_hold_out_over_everything_says_so(self) -> None:
        with self.assertRaisesRegex(RegionError, "cover the whole region"):
            self.fixes(lambda frame: np.full((SIZE[1], SIZE[0]), 255, np.uint8))

    def test_on_the_command_line_as_a_matte(self) -> None:
        (self.folder / "matte").mkdir()
        for f in range(1, 21):
            write_picture(self.folder / "matte" / f"m.{f:04d}.png", self.passer(f)[..., None].repeat(3, 2))
        out = self.folder / "o.csv"
        code, _, err = command("track", str(self.folder / "plate"), "--start", "1", "--region", pairs(self.made.region),
                               "--holdout", str(self.folder / "matte"), "--out", str(out))
        self.assertEqual((code, err), (0, ""))
        rows = table(out)
        self.assertEqual(len(rows), 20)
        for r in rows:
            got = np.array([[float(r[f"x{k}"]), float(r[f"y{k}"])] for k in (1, 2, 3, 4)])
            self.assertLess(np.linalg.norm(got - self.made.truth(int(r["frame"]) - 1), axis=1).mean(), 0.5)


class OccluderMaskTest(unittest.TestCase):
    def test_what_is_distrusted_is_the_demos_own_passer(self) -> None:
        # the made harbour knows where its barrow and rope are: intersection over union, on frames where they cover over a tenth of the region
        scene = Scene(FILMS["tea_crate_passers"])
        first = scene.truth(0)
        region = homography.apply(homography.from_unit_square(first), np.array([[.04, .05], [.96, .05], [.96, .95], [.04, .95]]))
        size = (1280, 720)
        mask = polygon.fill(region, size)
        mask[ndimage.binary_dilation(scene.passers(0), iterations=7)] = 0
        reference = luma(scene.frame(0))
        compared = 0
        for i in (12, 24, 28):
            onto = homography.from_points(first, scene.truth(i))
            found = occluder_mask(reference, luma(scene.frame(i)), HomographyWarp(onto), mask) > 0
            inside = cv2.warpPerspective(mask, homography_to_centred(onto), size) > 127
            true = scene.passers(i) & inside
            if true.sum() > 0.1 * inside.sum():
                compared += 1
                self.assertGreater((found & true).sum() / (found | true).sum(), 0.7, f"frame {i}")
        self.assertGreaterEqual(compared, 2)

    def test_nothing_is_distrusted_on_a_clean_frame_in_other_light(self) -> None:
        shot = PlaneShot(n=4, exposure=0.3)
        mask = polygon.fill(shot.region, SIZE)
        onto = HomographyWarp(homography.from_points(shot.corners[0], shot.corners[3]))
        found = occluder_mask(luma(shot.frames[0]), luma(shot.frames[3]), onto, mask)
        self.assertLess((found > 0).sum() / (mask > 0).sum(), 0.02)


class CommandTest(ShotFolder):
    def test_matte_of_what_passes(self) -> None:
        store.save(self.tracked(), self.folder / "s.wertis")
        code, _, err = command("matte", str(self.folder / "s.wertis"), "--track", "Wall", "--out", str(self.folder / "m" / "p.####.png"))
        self.assertEqual((code, err), (0, ""))
        self.assertEqual(open_plate(self.folder / "m").frames, [1001, 1002, 1003, 1004, 1005])

    def test_polygons_are_taken_and_bad_ones_refused(self) -> None:
        base = ["track", str(self.plate_folder), "--start", "1001", "--region", pairs(self.made.region), "--out", str(self.folder / "o.csv")]
        self.assertEqual(command(*base, "--holdout", "100,70 160,70 160,120 100,120", "--holdout", "300,200 340,200 340,240")[0], 0)
        self.assertEqual(len(table(self.folder / "o.csv")), 5)
        for bad, words in (("nonsense", "not a list of points"), ("1,1 2,2", "at least three"), ("0,0 480,0 480,320 0,320", "whole region")):
            code, _, err = command(*base, "--holdout", bad)
            self.assertEqual(code, 1)
            self.assertIn(words, err)


class HoldOutWindowTest(WindowCase):
    """Drawn, keyed and tracked in the window."""

    def setUp(self) -> None:
        super().setUp()
        self.made = PlaneShot(n=20, passer=0.45)
        self.plate = self.made.write(self.folder / "passed")

    def passer_box(self, frame: int) -> np.ndarray:
        """The passer's outline on a frame, a little inside the picture."""
        ys, xs = np.nonzero(self.made.mask_of_passer[frame - 1001])
        return np.array([[xs.min(), ys.min()], [xs.max() + 1, ys.min()], [xs.max() + 1, ys.max() + 1], [xs.min(), ys.max() + 1]], float)

    def worst(self) -> float:
        """The worst true error of the track in the window; inf when a frame is lost."""
        solved = self.window.session.shot.tracks[0].solution
        assert solved is not None
        fixes = [Fix(m if np.isfinite(m).all() else None) for m in solved.matrices[1:]]
        return float(errors(self.made, fixes).max())

    def test_a_hold_out_drawn_and_keyed_rescues_the_track(self) -> None:
        w, s = self.window, self.window.session
        self.open_plate()
        self.draw()
        s.history.do("Exact region", regions.with_points(s.shot, s.track_id, 0, self.made.region))
        self.track()
        self.assertGreater(self.worst(), 1.0, "without help the surface slips")
        s.go(1007)
        self.spin(0.1)
        w.steps["Region"].draw("hold-out")
        for p in self.passer_box(1007):
            self.click(p)
        self.key(Qt.Key.Key_Return)
        self.assertEqual(s.hold_out.name if s.hold_out else "", "Hold-out")
        for frame in (1003, 1014, 1019):
            s.go(frame)
            self.spin(0.05)
            held = s.hold_out
            assert held is not None
            self.window.steps["Region"].move_hold_out(self.passer_box(frame), False)
        assert s.hold_out is not None
        self.assertEqual(sorted(s.hold_out.keys), [1003, 1007, 1014, 1019])
        w.steps["Region"].page.grow.setValue(8)
        s.go(1001)
        self.track()
        self.assertLess(self.worst(), 1.0)
        # switched off in the outline it is a hold-out no more; undo brings it back
        item = w.outline.topLevelItem(0).child(1)  # type: ignore[union-attr]
        item.setCheckState(0, Qt.CheckState.Unchecked)
        self.spin()
        self.assertFalse(hold_out(s.shot).enabled)
        w.undo()
        self.assertTrue(hold_out(s.shot).enabled)

    def test_what_was_distrusted_becomes_a_hold_out(self) -> None:
        self.made = PlaneShot(n=8, passer=0.25)
        self.plate = self.made.write(self.folder / "light")
        self.open_plate()
        self.draw()
        self.track()
        w, s = self.window, self.window.session
        w.steps["Track"].passers(self.folder)
        self.until(lambda: w.job is None)
        held = hold_out(s.shot)
        self.assertEqual(s.place.item_id, held.id)
        self.until(lambda: w.mattes.peek(held, 1005, SIZE) is not None)
        mask = w.mattes.peek(held, 1005, SIZE)
        assert mask is not None
        inside = polygon.fill(self.made.truth(4), SIZE) > 0
        true = self.made.mask_of_passer[4] & inside
        found = (mask > 127) & inside
        self.assertGreater((found & true).sum() / (found | true).sum(), 0.7)
        before = w.viewer.grab().toImage()
        s.go(1005)
        self.spin(0.1)
        self.assertNotEqual(w.viewer.grab().toImage(), before)

    def test_a_graphic_ends_where_its_surface_is_covered(self) -> None:
        self.made = PlaneShot(n=8, passer=0.25)
        self.plate = self.made.write(self.folder / "covered")
        self.open_plate()
        self.draw()
        self.track()
        w, s = self.window, self.window.session
        step = w.steps["Use"]
        w.run_command("use.end-where-covered")
        self.assertIn("Choose a graphic", w.strip.words.text())
        start = s.shot
        shot, _ = matte_edits.add_matte(s.shot, None, 1001)  # ... and no matte that is there for something else is taken for it
        s.history.do("Draw", items.add_item(shot, Placement(on=s.track_id, frame=1001, quad=edits.as_points(self.made.corners[0]),
                                                            artwork=Artwork(kind="solid", colour=(1.0, 0.0, 0.0)))))
        graphic = placement(s.shot)
        s.select(s.track_id, graphic.id)
        s.go_step("Use")
        for _ in range(2):  # a second time makes no second matte
            step.end_where_covered(self.folder)
            self.until(lambda: w.job is None)
        self.assertEqual(len(placement(s.shot).held_back), 1)
        comp = Compositor().comp(s.shot, s.plate.read(1005), 1005, 3)
        red = (comp[..., 0] > 200) & (comp[..., 1] < 40)
        inside = polygon.fill(self.made.corners[4], SIZE) > 0
        covered = self.made.mask_of_passer[4] & inside
        self.assertLess(red[covered].mean(), 0.25)
        self.assertGreater(red[inside & ~self.made.mask_of_passer[4]].mean(), 0.9)
        while s.shot != start:
            w.undo()
        self.assertFalse(s.shot.placements(s.track_id))

    def test_the_command_line_ends_a_graphic_where_its_surface_is_covered(self) -> None:
        made = PlaneShot(n=6, passer=0.25)
        shot = wertis.open(made.write(self.folder / "plate"))
        wall = shot.track(made.region, 1001, name="Wall")
        wall.place("checker", made.corners[0], name="Poster")
        shot.save(self.folder / "wall.wertis")
        call = ["matte", str(self.folder / "wall.wertis"), "--quiet", "--out", str(self.folder / "c" / "c.####.png")]
        self.assertEqual(main([*call, "--track", "Wall", "--behind", "Poster"]), 0)
        kept = wertis.open(self.folder / "wall.wertis")
        self.assertEqual([m.name for m in kept.mattes], ["Over Wall"])
        self.assertEqual(kept.surfaces[0].placements[0].record.held_back, (kept.mattes[0].id,))
        with mock.patch("sys.stderr") as stderr:
            self.assertNotEqual(main([*call, "--track", "Wall", "--behind", "Sign"]), 0)
            self.assertNotEqual(main([*call, "--of", "Over Wall", "--behind", "Poster"]), 0)
        said = "".join(str(c.args[0]) for c in stderr.write.call_args_list)
        self.assertIn("it has Poster", said)
        self.assertIn("give --track NAME with it", said)

    def test_a_matte_is_read_outside_the_painting(self) -> None:
        self.open_plate()
        self.draw()
        w, s = self.window, self.window.session
        (self.folder / "m").mkdir()
        for f in range(1001, 1009):
            write_picture(self.folder / "m" / f"m.{f}.png", np.full((SIZE[1], SIZE[0], 3), 255 * (f % 2), np.uint8))
        w.steps["Region"].page.set_matte(self.folder / "m")
        self.spin(0.1)
        readers: set[str] = set()
        read = mattes.read_matte

        def noted(*rest):  # type: ignore[no-untyped-def]
            readers.add(threading.current_thread().name)
            return read(*rest)

        held = hold_out(s.shot)
        with mock.patch.object(mattes, "read_matte", noted):
            s.go(1005)
            self.until(lambda: w.viewer.picture_frame == 1005 and not w.viewer.late)
            w.viewer.grab()
            self.until(lambda: w.mattes.peek(held, 1005, SIZE) is not None)
        self.assertEqual(readers, {"wertis-mattes"})

    def test_a_matte_of_another_size_is_a_message(self) -> None:
        self.open_plate()
        self.draw()
        (self.folder / "m").mkdir()
        write_picture(self.folder / "m" / "m.0001.png", np.zeros((20, 20, 3), np.uint8))
        self.window.steps["Region"].page.set_matte(self.folder / "m")
        self.assertIn("20 x 20", self.window.words.toolTip())
        self.assertEqual(self.window.session.shot.hold_outs(self.window.session.shot.tracks[0].id), ())


if __name__ == "__main__":
    unittest.main()
