"""Bent sides, the extra move, and tracking again from repaired frames."""

import json
import tempfile
import unittest
from pathlib import Path

import cv2
import numpy as np
from scipy.interpolate import BPoly

from tests.helpers import placement, plane_at, repair_points, to_frame
from tests.scenes import SIZE, FramesPlate, PlaneShot, texture
from wertis.core.comp import lay
from wertis.core.comp.picture import Compositor
from wertis.core.errors import RegionError, WertisError
from wertis.core.exchange import corner_pin_json
from wertis.core.geometry import coons, homography
from wertis.core.geometry.motion import Fix
from wertis.core.geometry.warp import BentSquareWarp, HomographyWarp, compose
from wertis.core.jobs.export import export_corner_pin
from wertis.core.jobs.retrack import out_of_date, retrack
from wertis.core.matte.coverage import polygon_area
from wertis.core.repair.extra import ExtraValues
from wertis.core.shot import bends, edits, extra_moves, items, repairs, store
from wertis.core.shot.artwork import Artwork
from wertis.core.shot.document import ExtraMoveLayer, Placement, RepairLayer, RetrackedLayer, Shot, Track
from wertis.core.shot.resolve import motion_of, tracked_motion
from wertis.core.track.run import track_plane

CORNERS = np.array([[100.0, 80], [380, 70], [370, 270], [110, 260]])


def still_shot(frames: int = 21, start: int = 0) -> tuple[Shot, Track]:
    """A tracked shot whose surface slides and turns a little, with a grid on it."""
    plate = FramesPlate([np.zeros((SIZE[1], SIZE[0], 3), np.uint8)] * frames)
    shot = edits.new_shot(plate, "plate", "Bent")
    shot, track = edits.add_track(shot, CORNERS, start)
    fixes = {}
    for f in range(frames):
        turn = cv2.getRotationMatrix2D((240, 160), 0.4 * f, 1 + 0.004 * f)
        fixes[f] = Fix(np.vstack([turn + [[0, 0, 1.5 * f], [0, 0, -0.7 * f]], [0, 0, 1]]), 0.05, 1.0)
    shot = edits.set_tracked(shot, track.id, fixes)
    shot = items.add_item(shot, Placement(on=track.id, frame=start, quad=edits.as_points(CORNERS), artwork=Artwork(kind="checker"), fit="stretch"))
    return shot, shot.tracks[0]


class CoonsTest(unittest.TestCase):
    offsets = np.random.default_rng(1).normal(0, 0.05, (8, 2))

    def test_a_side_is_the_bezier_curve_of_its_control_points(self) -> None:
        # against SciPy's polynomials in Bernstein's basis
        points = np.array([coons.CORNERS[1], *(coons.THIRDS + self.offsets)[2:4], coons.CORNERS[2]])
        t = np.linspace(0, 1, 9)
        straight = coons.CORNERS[1] + (coons.CORNERS[2] - coons.CORNERS[1]) * t[:, None]
        np.testing.assert_allclose(coons.bent(straight, self.offsets), BPoly(points[:, None], [0, 1])(t), atol=1e-12)

    def test_inside_it_is_the_bilinearly_blended_patch(self) -> None:
        # S. Coons, 1967: ruled surface one way plus the other way less the bilinear one
        control = coons.THIRDS + self.offsets

        def curve(k: int, t: float) -> np.ndarray:
            a, b = coons.CORNERS[k], coons.CORNERS[(k + 1) % 4]
            return (1 - t) ** 3 * a + 3 * t * (1 - t) ** 2 * control[2 * k] + 3 * t ** 2 * (1 - t) * control[2 * k + 1] + t ** 3 * b

        for u, v in ((0.2, 0.7), (0.5, 0.5), (0.9, 0.1)):
            ruled = (1 - v) * curve(0, u) + v * curve(2, 1 - u) + u * curve(1, v) + (1 - u) * curve(3, 1 - v) - np.array([u, v])
            np.testing.assert_allclose(coons.bent(np.array([u, v]), self.offsets), ruled, atol=1e-12)

    def test_the_way_back(self) -> None:
        places = np.random.default_rng(2).uniform(-0.1, 1.1, (200, 2))
        np.testing.assert_allclose(coons.straight(coons.bent(places, self.offsets), self.offsets), places, atol=1e-6)

    def test_a_bend_of_nothing_lays_like_the_plane(self) -> None:
        picture = lay.Reductions(np.dstack([texture().astype(np.float32) / 255, np.ones((220, 300), np.float32)]))
        flat = HomographyWarp(homography.from_unit_square(CORNERS))
        plain = lay.lay(picture, flat, SIZE, 2)
        bent = lay.lay(picture, compose(flat, BentSquareWarp(np.zeros((8, 2)))), SIZE, 2)
        assert plain is not None and bent is not None
        whole = []
        for laid in (plain, bent):
            canvas = np.zeros((SIZE[1], SIZE[0], 4), np.float32)
            h, w = laid.pixels.shape[:2]
            canvas[laid.top:laid.top + h, laid.left:laid.left + w] = laid.pixels
            whole.append(canvas)
        self.assertLess(np.abs(whole[0] - whole[1])[..., :3].mean(), 1e-3)
        self.assertLess(np.abs(whole[0] - whole[1])[..., 3].max(), 0.12)

    def test_coverage_of_a_polygon_adds_up_to_its_area(self) -> None:
        # the shoelace formula, a handbook's area of a polygon
        outline = homography.apply(homography.from_unit_square(CORNERS), coons.outline(self.offsets * 0.5))
        x, y = outline.T
        area = abs(np.sum(x * np.roll(y, -1) - np.roll(x, -1) * y)) / 2
        self.assertAlmostEqual(float(polygon_area(outline, (0, 0, *SIZE)).sum()) / area, 1, delta=2e-4)


class BendTest(unittest.TestCase):
    def setUp(self) -> None:
        self.shot, self.track = still_shot()
        self.placement = placement(self.shot)

    def moved(self, frame: int, by: np.ndarray) -> Shot:
        at = bends.handles_on(self.shot, self.placement, frame)
        assert at is not None
        return bends.move_handles(self.shot, self.placement.id, frame, at + by)

    def test_a_key_moves_nothing_and_one_handle_leaves_the_others_alone(self) -> None:
        by = np.zeros((8, 2))
        by[0] = [4.0, -9.0]
        shot = self.moved(4, by)
        by[0] = [1.0, -15.0]
        bent = placement(shot)
        at = bends.handles_on(self.shot, bent, 16)
        assert at is not None
        shot = bends.move_handles(shot, bent.id, 16, at + by)
        before = placement(shot).bend
        after = placement(bends.set_key(shot, bent.id, 9)).bend
        for time in np.linspace(0, 20, 81):
            np.testing.assert_allclose(after.at(time), before.at(time), atol=1e-9)
            self.assertEqual(float(np.abs(before.at(time)[1:]).max()), 0)
        self.assertEqual(after.frames, [4, 9, 16])
        cleared = placement(bends.clear(shot, bent.id))
        self.assertFalse(cleared.is_bent)

    def test_a_fold_is_refused(self) -> None:
        with self.assertRaisesRegex(RegionError, "split it in two"):
            self.moved(3, np.full((8, 2), 400.0))

    def test_the_graphic_and_the_export_follow(self) -> None:
        by = np.zeros((8, 2))
        by[:2] = [0, -12.0]
        shot = self.moved(0, by)
        flat = Compositor().graphic(self.shot, 10, SIZE)[..., 3]
        round_ = Compositor().graphic(shot, 10, SIZE)[..., 3]
        self.assertGreater(round_.sum() - flat.sum(), 1500)  # the top side bulges: about 280 by 9 pixels, by a Bezier curve's three quarters
        outline = bends.outline_on(shot, placement(shot), 10)
        assert outline is not None
        np.testing.assert_allclose(round_, polygon_area(outline, (0, 0, *SIZE)), atol=0.15)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "pin.json"
            export_corner_pin(shot, shot.tracks[0], placement(shot), path)
            pin = corner_pin_json.read(path)
            assert pin.sides is not None
            handles = bends.handles_on(shot, placement(shot), 10)
            np.testing.assert_allclose(pin.sides[10], handles, atol=1e-4)
            # the curve of the file, by the formula that the file names, is the outline that was drawn
            corners = np.array(pin.corners[10])
            square = homography.apply(np.linalg.inv(homography.from_unit_square(corners)), np.array(pin.sides[10])) - coons.THIRDS
            np.testing.assert_allclose(homography.apply(homography.from_unit_square(corners), coons.outline(square)), outline, atol=1e-2)
            body = json.loads(path.read_text())
            body.update(version=1)
            del body["sides"], body["sides_order"]
            path.write_text(json.dumps(body))
            self.assertIsNone(corner_pin_json.read(path).sides)
            kept = Path(folder) / "s.wertis"
            store.save(shot, kept)
            self.assertEqual(placement(store.load(kept)).bend, placement(shot).bend)

    def test_a_gently_curved_surface_with_two_keys(self) -> None:
        # a label on a tin: a cylinder of 5 units seen by a camera that walks by and comes nearer; the corners are known, the sides are bent on two frames
        u = np.linspace(0, 1, 25)

        def seen(across: np.ndarray, along: np.ndarray, frame: float) -> np.ndarray:
            angle = (across - 0.5) * 0.36
            x, z = 5 * np.sin(angle), 14 - 0.12 * frame - 5 * np.cos(angle)
            x = x + 0.05 * frame - 0.5
            turn = 0.006 * frame
            x, z = x * np.cos(turn) + (z - 9) * np.sin(turn), (z - 9) * np.cos(turn) - x * np.sin(turn) + 9
            return np.column_stack([240 + 1000 * x / z, 160 + 1000 * ((along - 0.5) * 1.3) / z])

        def sides(frame: float) -> list[np.ndarray]:
            one, zero = np.ones_like(u), np.zeros_like(u)
            return [seen(u, zero, frame), seen(one, u, frame), seen(1 - u, one, frame), seen(zero, 1 - u, frame)]

        def corners(frame: float) -> np.ndarray:
            return np.array([s[0] for s in sides(frame)])

        plate = FramesPlate([np.zeros((SIZE[1], SIZE[0], 3), np.uint8)] * 21)
        shot, track = edits.add_track(edits.new_shot(plate, "plate", "Tin"), corners(0), 0)
        shot = edits.set_tracked(shot, track.id, {f: Fix(homography.from_points(corners(0), corners(f)), 0.05, 1.0) for f in range(21)})
        shot = items.add_item(shot, Placement(on=track.id, frame=0, quad=edits.as_points(corners(0))))
        ident = placement(shot).id

        def worst() -> float:
            out = 0.0
            for f in range(21):
                line = bends.outline_on(shot, placement(shot), f)
                assert line is not None
                line = np.concatenate([a + (b - a) * np.linspace(0, 1, 60)[:, None] for a, b in zip(line, np.roll(line, -1, 0), strict=True)])
                out = max(out, *(float(np.min(np.linalg.norm(line - p, axis=1))) for s in sides(f) for p in s))
            return out

        straight = worst()
        basis = np.column_stack([3 * u * (1 - u) ** 2, 3 * u ** 2 * (1 - u)])
        for frame in (0, 20):
            handles = []
            for s in sides(frame):  # as a person would: the handles that fit each side best
                rest = s - ((1 - u) ** 3)[:, None] * s[0] - (u ** 3)[:, None] * s[-1]
                handles.append(np.linalg.lstsq(basis, rest, rcond=None)[0])
            shot = bends.move_handles(shot, ident, frame, np.concatenate(handles))
        self.assertGreater(straight, 2)
        self.assertLess(worst(), 0.5)


class ExtraMoveTest(unittest.TestCase):
    def setUp(self) -> None:
        self.shot, self.track = still_shot()

    def test_values_go_on_top_and_the_reference_frame_has_none(self) -> None:
        shot = extra_moves.set_values(self.shot, self.track.id, 12, ExtraValues(6, -3, 1.2, 15, 0.1))
        track = shot.tracks[0]
        assert motion_of(track) is not None and motion_of(self.track) is not None
        about = extra_moves.about_on(track, 12)
        assert about is not None
        # by hand: scaled by 1.2, sheared, turned by 15 degrees about the point, then shifted
        p = to_frame(motion_of(self.track), CORNERS, 12) - about
        p = np.column_stack([p[:, 0] + 0.1 * p[:, 1], p[:, 1]]) * 1.2
        c, s = np.cos(np.pi / 12), np.sin(np.pi / 12)
        wanted = np.column_stack([c * p[:, 0] - s * p[:, 1], s * p[:, 0] + c * p[:, 1]]) + about + [6, -3]
        np.testing.assert_allclose(to_frame(motion_of(track), CORNERS, 12), wanted, atol=1e-9)
        np.testing.assert_array_equal(to_frame(motion_of(track), CORNERS, 0), CORNERS)
        with self.assertRaisesRegex(RegionError, "reference frame"):
            extra_moves.set_values(shot, self.track.id, 0, ExtraValues(1))
        off = extra_moves.set_extra(shot, self.track.id, enabled=False).tracks[0]
        np.testing.assert_array_equal(plane_at(motion_of(off), 12), plane_at(motion_of(self.track), 12))  # type: ignore[union-attr]

    def test_a_key_moves_nothing(self) -> None:
        shot = extra_moves.set_values(self.shot, self.track.id, 15, ExtraValues(6, -3, 1.2, 15, 0.1))
        shot = extra_moves.set_values(shot, self.track.id, 6, ExtraValues(-2, 1, 0.9, -4, 0))
        keyed = extra_moves.set_key(shot, self.track.id, 10)
        self.assertEqual(keyed.tracks[0].layer(ExtraMoveLayer).frames(0), [6, 10, 15])
        for time in np.linspace(0, 20, 41):
            a, b = (to_frame(motion_of(s.tracks[0]), CORNERS, time) for s in (shot, keyed))  # type: ignore[union-attr]
            np.testing.assert_allclose(a, b, atol=1e-6)
        self.assertEqual(extra_moves.clear_key(keyed, self.track.id).tracks[0].layer(ExtraMoveLayer).frames(0), [])

    def test_repair_points_are_shown_and_dragged_where_the_surface_is_seen(self) -> None:
        shot = extra_moves.set_values(self.shot, self.track.id, 12, ExtraValues(6, -3))
        for c in CORNERS[:2]:
            shot = repairs.add_point(shot, self.track.id, c, 0)
        at = repairs.points_on(shot.tracks[0], 12)
        assert at is not None
        np.testing.assert_allclose(at, to_frame(motion_of(shot.tracks[0]), CORNERS[:2], 12), atol=1e-9)  # type: ignore[union-attr]
        ident = repair_points(shot)[0].id
        shot = repairs.move_points(shot, self.track.id, 12, {ident: at[0] + [2, 5]})
        np.testing.assert_allclose(repairs.points_on(shot.tracks[0], 12)[0], at[0] + [2, 5], atol=1e-9)  # type: ignore[index]

    def test_saved_and_read_again(self) -> None:
        shot = extra_moves.set_about(extra_moves.set_values(self.shot, self.track.id, 12, ExtraValues(6, -3, 1.2)), self.track.id, CORNERS[0], 5)
        with tempfile.TemporaryDirectory() as folder:
            store.save(shot, Path(folder) / "s.wertis")
            self.assertEqual(store.load(Path(folder) / "s.wertis").tracks[0].layer(ExtraMoveLayer), shot.tracks[0].layer(ExtraMoveLayer))


class TrackAgainTest(unittest.TestCase):
    """A track spoilt by a drift that grows and then jumps; it is repaired on two frames, and tracked again from there."""

    def setUp(self) -> None:
        self.made = PlaneShot(n=20)
        self.plate = FramesPlate(self.made.frames)
        shot, track = edits.add_track(edits.new_shot(self.plate, "plate", "Again"), self.made.region, 0)
        fixes = {}
        for f, fix in track_plane(self.plate, self.made.region, 0, range(1, 20)):
            slip = np.array([0.4 * f, -0.3 * f]) + (6.0 if 7 <= f <= 9 else 0)
            fixes[f] = Fix(np.array([[1, 0, slip[0]], [0, 1, slip[1]], [0, 0, 1]]) @ fix.matrix, 0.1, 1.0)
        self.shot, self.ident = edits.set_tracked(shot, track.id, fixes), track.id
        for p in self.made.region:
            self.shot = repairs.add_point(self.shot, track.id, p, 0)

    def repaired(self, shot: Shot, frame: int, off: float = 0.0) -> Shot:
        points = repair_points(shot)
        return repairs.move_points(shot, self.ident, frame, {p.id: to + off for p, to in zip(points, self.made.truth(frame), strict=True)})

    def errors(self, shot: Shot) -> np.ndarray:
        motion = motion_of(shot.tracks[0])
        assert motion is not None
        return np.array([np.linalg.norm(to_frame(motion, self.made.region, f) - self.made.truth(f), axis=1).mean() for f in range(20)])

    def again(self, shot: Shot) -> tuple[Shot, list[int]]:
        events = list(retrack(shot, self.ident, self.plate))
        new = events[-1].item
        assert isinstance(new, Shot)
        return new, [event.frame for event in events[:-1] if event.frame is not None]

    def test_the_track_passes_through_the_repaired_frames(self) -> None:
        shot = self.repaired(self.repaired(self.shot, 12), 19)
        self.assertGreater(self.errors(shot).max(), 3)
        self.assertEqual([(s.begin, s.end) for s in out_of_date(shot.tracks[0], (0, 19))], [(0, 12), (12, 19)])
        new, _ = self.again(shot)
        self.assertLess(self.errors(new).max(), 0.1)
        for f in (12, 19):
            a, b = (plane_at(motion_of(s.tracks[0]), f) for s in (shot, new))  # type: ignore[union-attr]
            np.testing.assert_allclose(a, b, atol=1e-9)
        self.assertEqual(out_of_date(new.tracks[0], (0, 19)), [])
        self.assertEqual(new.tracks[0].layer(RepairLayer).frames(0), [12, 19])
        # what was tracked at first is still there, bit for bit
        off = repairs.set_enabled(new, self.ident, False).tracks[0]
        for f in range(20):
            np.testing.assert_array_equal(plane_at(motion_of(off), f), plane_at(tracked_motion(self.shot.tracks[0]), f))  # type: ignore[union-attr]
        with self.assertRaisesRegex(WertisError, "out of date"):
            next(retrack(new, self.ident, self.plate))

    def test_only_stretches_next_to_changed_keys_are_computed(self) -> None:
        shot, _ = self.again(self.repaired(self.repaired(self.repaired(self.shot, 6), 12), 19))
        changed = self.repaired(shot, 19, off=0.5)
        new, frames = self.again(changed)
        self.assertEqual(set(frames), set(range(13, 19)))
        for f in range(13):
            a, b = (plane_at(motion_of(s.tracks[0]), f) for s in (shot, new))  # type: ignore[union-attr]
            np.testing.assert_array_equal(a, b)

    def test_beyond_the_last_key_it_goes_on_from_there(self) -> None:
        new, frames = self.again(self.repaired(self.shot, 12))
        self.assertEqual(set(frames), set(range(1, 20)) - {12})
        self.assertLess(self.errors(new).max(), 0.1)

    def test_a_key_set_afterwards_moves_nothing_and_it_is_saved(self) -> None:
        new, _ = self.again(self.repaired(self.shot, 12))
        keyed = repairs.set_key(new, self.ident, 8)
        np.testing.assert_allclose(self.errors(keyed), self.errors(new), atol=1e-6)
        with tempfile.TemporaryDirectory() as folder:
            store.save(new, Path(folder) / "s.wertis")
            self.assertEqual(store.load(Path(folder) / "s.wertis").tracks, new.tracks)
        # tracking some frames anew takes them out of what was tracked again
        fresh = edits.set_tracked(new, self.ident, {15: Fix(np.eye(3), 0.1, 1.0)}).tracks[0]
        self.assertNotIn(15, fresh.layer(RetrackedLayer).solution.frames.tolist())  # type: ignore[union-attr]
        self.assertIn(16, fresh.layer(RetrackedLayer).solution.frames.tolist())  # type: ignore[union-attr]
