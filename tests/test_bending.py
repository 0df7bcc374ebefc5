"""A motion that bends goes through every use without any of them knowing: it lands where its function says."""

import csv
import tempfile
import unittest
from functools import cache
from pathlib import Path

import cv2
import numpy as np

from tests.helpers import moved, placement, to_frame
from tests.scenes import SIZE, FramesPlate
from tests.test_window import WindowCase
from tests.waves import LAST, QUAD, REFERENCE, WaveSolution, filmed, waved
from wertis.core.check.slip import Slip
from wertis.core.comp.picture import Compositor
from wertis.core.imaging.resample import warped
from wertis.core.jobs.check import check_track
from wertis.core.jobs.export import corner_pin, export_corner_pin
from wertis.core.matte.coverage import polygon_area
from wertis.core.repair.extra import ExtraValues
from wertis.core.shot import bends, edits, extra_moves, hold_outs, items, regions, repairs, store
from wertis.core.shot.artwork import Artwork
from wertis.core.shot.document import HoldOut, Placement, PlateRef, Shot, SmoothingLayer

FRAMES = range(REFERENCE, LAST + 1)
INNER = QUAD.mean(0) + 0.6 * (QUAD - QUAD.mean(0))


class Numbered(FramesPlate):
    """The wave's pictures under their frames' numbers."""

    def __init__(self) -> None:
        super().__init__(pictures())
        self.first, self.last = REFERENCE, LAST  # type: ignore[misc]

    def read(self, frame: int) -> np.ndarray:
        return self.pictures[frame - REFERENCE]


@cache
def pictures() -> list[np.ndarray]:
    return filmed()


def shot(**solved: object) -> Shot:
    """The wave tracked, with a checker on it that was placed on another frame than the region was drawn on."""
    made = Shot(plate=PlateRef(path="/nowhere/wave", first=REFERENCE, last=LAST, size=SIZE), range=(REFERENCE, LAST))
    made, track = edits.add_track(made, QUAD, REFERENCE, "Wave")
    made = made.with_track(track.but(solution=WaveSolution(**solved)))
    return items.add_item(made, Placement(on=track.id, frame=1003, quad=edits.as_points(waved(INNER, 1003)), artwork=Artwork(kind="checker"),
                                          fit="stretch"))


def outline(time: float, steps: int = 40) -> np.ndarray:
    """The placement's sides on a frame: straight on the frame where it was placed, as they are seen, carried from there by the function."""
    motion = moved(shot().tracks[0])
    corners = waved(INNER, 1003)
    side = np.linspace(0, 1, steps, endpoint=False)[:, None]
    there = np.concatenate([a + (b - a) * side for a, b in zip(corners, np.roll(corners, -1, 0), strict=True)])
    home = motion.at(1003)
    assert home is not None
    return waved(home.inverse(there), time)


class UsesTest(unittest.TestCase):
    def test_a_placement_s_corners(self) -> None:
        made = shot()
        for frame in (*FRAMES, 1004.5, 1008.4):
            np.testing.assert_allclose(edits.placement_on(made, placement(made), frame), waved(INNER, frame), atol=1e-5)
        dragged = edits.rebase_placement(made, placement(made), 1007)
        np.testing.assert_allclose(dragged.array, waved(INNER, 1007), atol=1e-5)

    def test_the_graphic_covers_what_the_function_says_with_curved_sides(self) -> None:
        for frame in (1001, 1005, 1008):
            alpha = Compositor().graphic(shot(), frame, SIZE)[..., 3]
            np.testing.assert_allclose(alpha, polygon_area(outline(frame), (0, 0, *SIZE)), atol=0.2)
            flat = polygon_area(waved(INNER, frame), (0, 0, *SIZE))
            if frame == 1005:
                self.assertGreater(np.abs(alpha - flat).sum(), 300, "its sides are curved, not those of a plane")

    def test_the_graphic_s_inside_follows_the_function(self) -> None:
        made = shot()
        first, later = (Compositor().graphic(made, f, SIZE)[..., 0] for f in (1003, 1006))
        # the checker on the frame it was placed on, taken to the other frame by the function alone
        home, there = moved(made.tracks[0]).at(1003), moved(made.tracks[0]).at(1006)
        assert home is not None and there is not None
        y, x = np.mgrid[110:210, 170:310]
        places = np.stack([x + 0.5, y + 0.5], -1)
        source = home.forward(there.inverse(places)) - 0.5
        expected = cv2.remap(first, source.astype(np.float32), None, cv2.INTER_LINEAR)
        self.assertLess(np.abs(later[110:210, 170:310] - expected).mean(), 0.02)

    def test_drift_is_measured_against_it(self) -> None:
        made = shot()
        found: dict[int, Slip] = {}
        for event in check_track(made, made.tracks[0], Numbered(), list(FRAMES)):
            found[event.frame or 0] = event.item
        for frame in FRAMES:
            self.assertLess(found[frame].worst, 0.3, f"the true motion on frame {frame}")
        wrong = shot(off=(2.0, -1.5))
        slips = [event.item for event in check_track(wrong, wrong.tracks[0], Numbered(), [1004, 1007])]
        for slip in slips:
            np.testing.assert_allclose(slip.slip.mean(0), [-2, 1.5], atol=0.3)

    def test_the_region_bends_with_it(self) -> None:
        made = shot()
        shapes = regions.shapes_on(made.tracks[0], 1006)
        assert shapes is not None
        there = moved(made.tracks[0]).at(1006)
        mask = regions.mask_of(made.tracks[0].region, SIZE, there) / 255.0
        np.testing.assert_allclose(shapes[0][:4] if len(shapes[0]) == 4 else shapes[0][::len(shapes[0]) // 4][:4], waved(QUAD, 1006), atol=0.6)
        side = np.linspace(0, 1, 30, endpoint=False)[:, None]
        around = np.concatenate([a + (b - a) * side for a, b in zip(QUAD, np.roll(QUAD, -1, 0), strict=True)])
        self.assertLess(np.abs(mask - polygon_area(waved(around, 1006), (0, 0, *SIZE))).sum(), 0.03 * mask.sum())

    def test_a_hold_out_rides_on_it(self) -> None:
        made = shot()
        box = INNER + 5
        made, other = edits.add_track(made, QUAD, REFERENCE, "Other")
        held = HoldOut(of=other.id, on=made.tracks[0].id, keys={1004: edits.as_points(waved(box, 1004))})
        made = items.add_item(made, held)
        np.testing.assert_allclose(hold_outs.shape_on(made, held, 1008), waved(box, 1008), atol=1e-4)

    def test_its_sides_are_bent_by_handles(self) -> None:
        made = shot()
        at = bends.handles_on(made, placement(made), 1006)
        assert at is not None
        by = np.zeros((8, 2))
        by[0] = [2, -9]
        bent = bends.move_handles(made, placement(made).id, 1006, at + by)
        np.testing.assert_allclose(bends.handles_on(bent, placement(bent), 1006), at + by, atol=1e-3)
        self.assertGreater(np.abs(Compositor().graphic(bent, 1006, SIZE) - Compositor().graphic(made, 1006, SIZE)).sum(), 200)

    def test_repair_points_pull_it_and_leave_the_reference_alone(self) -> None:
        made = shot()
        ident = made.tracks[0].id
        for place in INNER:
            made = repairs.add_point(made, ident, waved(place[None], 1004)[0], 1004)
        at = repairs.points_on(made.tracks[0], 1006)
        assert at is not None
        np.testing.assert_allclose(at, waved(INNER, 1006), atol=1e-4)
        ids = [p.id for p in made.tracks[0].layers[0].points]  # type: ignore[attr-defined]
        made = repairs.move_points(made, ident, 1006, {ids[2]: at[2] + [5, 3]})
        motion = moved(made.tracks[0])
        np.testing.assert_allclose(to_frame(motion, INNER, 1006), at + np.outer([0, 0, 1, 0], [5, 3]), atol=1e-4)
        np.testing.assert_allclose(to_frame(motion, INNER, REFERENCE), INNER, atol=1e-9)
        off = repairs.set_enabled(made, ident, False)
        np.testing.assert_array_equal(to_frame(moved(off.tracks[0]), INNER, 1006), waved(INNER, 1006))

    def test_an_extra_move_goes_on_top(self) -> None:
        made = shot()
        made = extra_moves.set_values(made, made.tracks[0].id, 1005, ExtraValues(7, -2))
        np.testing.assert_allclose(to_frame(moved(made.tracks[0]), INNER, 1005), waved(INNER, 1005) + [7, -2], atol=1e-6)

    def test_smoothing_hardly_touches_it(self) -> None:
        made = shot()
        smooth = made.tracks[0].with_layer(SmoothingLayer(width=3.0))
        away = [np.abs(to_frame(moved(smooth), INNER, f) - waved(INNER, f)).max() for f in FRAMES]
        self.assertEqual(away[0], 0)
        self.assertLess(max(away), 1.5)
        self.assertGreater(max(away), 0)

    def test_the_corner_pin_that_goes_out(self) -> None:
        made = shot()
        pin = corner_pin(made, made.tracks[0], placement(made)).arrays()
        for frame in FRAMES:
            np.testing.assert_allclose(pin[frame], waved(INNER, frame), atol=1e-4)
        with tempfile.TemporaryDirectory() as folder:
            self.assertEqual(export_corner_pin(made, made.tracks[0], placement(made), Path(folder) / "pin.csv"), 8)
            rows = [r for r in (Path(folder) / "pin.csv").read_text().splitlines() if r and not r.startswith("#")]
            last = list(csv.DictReader(rows))[-1]
            self.assertAlmostEqual(float(last["x1"]), waved(INNER, LAST)[0, 0], places=3)
            # its record is one more kind of solution in the file
            store.save(made, Path(folder) / "s.wertis")
            self.assertEqual(store.load(Path(folder) / "s.wertis"), made)

    def test_it_is_asked_sixteen_times_a_frame(self) -> None:
        made = shot()
        motion = moved(made.tracks[0])
        for time in 1005 + (np.arange(16) + 0.5) / 16 - 0.5:
            np.testing.assert_allclose(to_frame(motion, INNER, time), waved(INNER, time), atol=0.05)


class WindowTest(WindowCase):
    def steady_shows(self, plain: np.ndarray) -> bool:
        """Whether the steady view has come to show this picture of the plate, laid through its warp."""
        steady = self.window.steady
        if steady.through is None or steady.picture is None:
            return False
        h, w = steady.picture.shape[:2]
        return bool(np.abs(steady.picture.astype(float) - warped(plain, steady.through, (w, h))).mean() < 1)

    def test_the_steady_view_holds_it_still(self) -> None:
        folder = self.folder / "wave"
        folder.mkdir()
        for frame, picture in zip(FRAMES, pictures(), strict=True):
            cv2.imwrite(str(folder / f"wave.{frame}.png"), picture[..., ::-1])
        w, s = self.window, self.window.session
        w.open_path(folder)
        made = shot()
        s.history.do("Wave", made.but(plate=s.shot.plate))
        s.select(made.tracks[0].id)
        s.go_step("Check")
        self.until(lambda: w.steady.picture is not None)
        w.run_command("view.graphics")  # the plate alone
        stills = []
        for frame in (REFERENCE, 1005, 1007):
            s.go(frame)
            plain = pictures()[frame - REFERENCE]
            self.until(lambda plain=plain: not w.viewer.late and np.array_equal(w.viewer.picture, plain) and self.steady_shows(plain))
            assert w.steady.picture is not None
            h, width = w.steady.picture.shape[:2]
            stills.append(w.steady.picture[h // 4:-h // 4, width // 4:-width // 4].astype(float))
        for later in stills[1:]:
            self.assertLess(np.abs(later - stills[0]).mean(), 6)
        # against pictures that are not held still
        unheld = np.abs(pictures()[6].astype(float) - pictures()[0])[80:-80, 120:-120].mean()
        self.assertGreater(unheld, 12)
        # a point of the steady view is the picture's own, by the function's way back
        assert w.steady.through is not None
        np.testing.assert_allclose(w.steady.through.inverse(w.steady.through.forward(waved(INNER, 1007))), waved(INNER, 1007), atol=1e-3)


if __name__ == "__main__":
    unittest.main()
