"""Mattes in parts: groups, lines, handles, points bound to what is tracked, mattes from the picture, colours laid in them, and their files."""

import re
import sys
import tempfile
import unittest
from collections.abc import Callable
from pathlib import Path
from xml.etree import ElementTree

import cv2
import numpy as np
import OpenImageIO as oiio
from PIL import ImageColor
from skimage.color import rgb2lab

import wertis
from tests.scenes import SIZE
from tests.test_mattes import FRAMES, drawn, film, outline, tracked
from wertis.cli.main import main
from wertis.core.errors import RegionError, WertisError
from wertis.core.matte import keying
from wertis.core.matte.outline import bezier, flattened, from_handles, handles, split
from wertis.core.matte.stroke import cut_line, stroke_area
from wertis.core.shot import matte_edits, store
from wertis.core.shot.document import Region, Shot, Track
from wertis.core.shot.history import History
from wertis.core.shot.matte_alpha import group_alpha, matte_alpha, shape_alpha
from wertis.core.shot.matte_carry import Carrier, anchors_on, best_anchors, points_on
from wertis.core.shot.mattes import Anchor, Matte, MatteGroup, Stroke, matte_of, new_shape
from wertis.core.shot.points import PointsSolution

_SVG = '<svg xmlns="http://www.w3.org/2000/svg"'
SQUARE = np.array([[20.0, 20], [80, 20], [80, 80], [20, 80]])


def line_of(points: np.ndarray, width: float, ends: str = "flat", soft: float = 0.0) -> tuple[np.ndarray, float]:
    """A straight line's coverage, and its area."""
    n = len(points)
    area, box = stroke_area([(points, np.full(n, width / 2), np.full(n, soft), np.full(n, soft))], ends, (120, 100))  # type: ignore[arg-type]
    assert box is not None
    return area, float(area.sum())


class StrokeTest(unittest.TestCase):
    def test_the_area_of_a_line_by_its_ends(self) -> None:
        """SVG 2, section 13.5: a butt end adds nothing, a square one half the width at each end, a round one half a disc."""
        for turn in (0.0, 0.3, 1.1):
            along = np.array([np.cos(turn), np.sin(turn)])
            points = np.array([40.3, 30.7]) + np.outer([0, 25.0, 50.0], along)
            for ends, more in (("flat", 0.0), ("square", 8.0 * 8.0), ("round", np.pi * 16)):
                self.assertAlmostEqual(line_of(points, 8.0, ends)[1], 50 * 8 + more, delta=2.5, msg=f"{ends} {turn}")

    def test_a_line_gets_wider_and_its_edge_may_be_soft(self) -> None:
        points = np.array([[10.0, 50], [110, 50]])
        area, box = stroke_area([(points, np.array([2.0, 10.0]), np.zeros(2), np.zeros(2))], "flat", (120, 100))
        assert box is not None
        self.assertAlmostEqual(area.sum(), 100 * (4 + 20) / 2, delta=3)
        self.assertAlmostEqual(area[:, 110 - 1 - box[0]].sum(), 20, delta=0.5)
        soft, _ = line_of(points, 20, soft=5)
        column = soft[:, soft.shape[1] // 2]
        self.assertAlmostEqual(column.sum(), 20, delta=0.2)  # as much is lost inside as is won outside
        self.assertGreater(((column > 0.02) & (column < 0.98)).sum(), 14)

    def test_parts_and_dashes(self) -> None:
        line = np.array([[0.0, 0], [60, 0], [60, 40]])
        (part, at), = cut_line(line, False, 0.3, 0.8)
        np.testing.assert_allclose(part, [[30, 0], [60, 0], [60, 20]])
        np.testing.assert_allclose(at, [0.5, 1, 1.5])
        dashes = cut_line(line, False, dashes=(10, 15))
        self.assertEqual([float(np.linalg.norm(np.diff(p, axis=0), axis=1).sum()) for p, _ in dashes], [10.0] * 4)
        self.assertEqual(len(cut_line(line, True)), 1)
        self.assertEqual(len(cut_line(line, True)[0][0]), 4)
        self.assertEqual(cut_line(line, False, 0.5, 0.5), [])
        self.assertEqual(cut_line(line[:1].repeat(3, 0), False), [])

    def test_a_shape_drawn_as_a_line_over_time(self) -> None:
        shot, matte = drawn()
        shape = matte.shapes[0]
        shot = matte_edits.set_stroke(shot, matte.id, shape.id, Stroke(widths=(6.0,) * 8, begin={1: 0.0}, end={1: 0.0, 11: 1.0}), closed=False)
        now = matte_of(shot, matte.id)
        areas = [matte_alpha(shot, now, f, SIZE).sum() for f in (1, 3, 6, 11)]
        self.assertEqual(areas[0], 0)
        whole = flattened(bezier(outline(1), np.ones(8), False), False)[0]
        length = np.linalg.norm(np.diff(whole, axis=0), axis=1).sum()
        for area, share in zip(areas[1:], (0.2, 0.5, 1.0), strict=True):
            self.assertAlmostEqual(area, 6 * length * share + np.pi * 9, delta=0.03 * 6 * length)
        with self.assertRaisesRegex(ValueError, "open shape is drawn as a line"):
            shape.but(closed=False)
        closed = matte_edits.set_stroke(shot, matte.id, shape.id, None)
        np.testing.assert_array_equal(matte_alpha(closed, matte_of(closed, matte.id), 5, SIZE), matte_alpha(*drawn(), 5, SIZE))
        two = new_shape(SQUARE[:2], 1, width=3, closed=False)
        self.assertGreater(shape_alpha(shot, matte, two, 1, SIZE)[0].sum(), 170)
        with self.assertRaisesRegex(RegionError, "at least two"):
            new_shape(SQUARE[:1], 1, width=3, closed=False)


class HandlesTest(unittest.TestCase):
    def test_the_curve_stays_when_handles_come_and_go(self) -> None:
        shot, matte = drawn()
        ident = matte.shapes[0].id
        shot = matte_edits.set_points_alike(shot, matte.id, ident, {2, 5}, roundness=0.0)
        shot = matte_edits.key_shape(shot, matte.id, ident, 8, outline(8))
        plain = matte_of(shot, matte.id)
        given = matte_edits.give_handles(shot, matte.id, ident)
        handled = matte_of(given, matte.id)
        self.assertEqual(len(handled.shapes[0].keys[8]), 24)
        for frame in (1, 8):
            np.testing.assert_allclose(matte_alpha(given, handled, frame, SIZE), matte_alpha(shot, plain, frame, SIZE), atol=2e-3)
        # one handle is pulled: what is opposite does not move
        controls = Carrier(given, handled).controls(handled.shapes[0], 8)
        assert controls is not None
        controls[2] += [12, -9]
        pulled = matte_edits.key_shape(given, matte.id, ident, 8, controls)
        moved = np.abs(matte_alpha(pulled, matte_of(pulled, matte.id), 8, SIZE) - matte_alpha(given, handled, 8, SIZE))
        self.assertGreater(moved.sum(), 30)
        rows, columns = np.nonzero(moved > 0.01)
        self.assertLess(np.linalg.norm(np.column_stack([columns, rows]) - controls[0], axis=1).max(), 90)
        # points between keep the curve where roundness alone does not make it
        taken = matte_edits.take_handles(pulled, matte.id, ident)
        back = matte_of(taken, matte.id).shapes[0]
        self.assertFalse(back.handled)
        self.assertGreater(back.count, 8)
        meant = matte_alpha(pulled, matte_of(pulled, matte.id), 8, SIZE)
        self.assertLess(np.abs(matte_alpha(taken, matte_of(taken, matte.id), 8, SIZE) - meant).max(), 0.2)
        # moving a point by number takes its handles along, and a new point leaves the curve
        more = matte_edits.insert_point(pulled, matte.id, ident, 0, 0.3)
        np.testing.assert_allclose(matte_alpha(more, matte_of(more, matte.id), 8, SIZE), meant, atol=0.02)  # by how the curve is made a polygon
        fewer = matte_edits.remove_shape_points(more, matte.id, ident, {1})
        self.assertEqual(matte_of(fewer, matte.id).shapes[0].count, 8)

    def test_splitting_is_de_casteljau(self) -> None:
        curve = np.array([[0.0, 0], [10, 30], [40, -20], [60, 10]])
        first, second = split(curve, 0.3)
        t = 0.3
        weights = np.array([(1 - t) ** 3, 3 * (1 - t) ** 2 * t, 3 * (1 - t) * t ** 2, t ** 3])
        np.testing.assert_allclose(first[3], weights @ curve)
        np.testing.assert_allclose(second[0], first[3])
        (ax, ay), (bx, by) = first[3] - first[2], second[1] - second[0]
        self.assertAlmostEqual(ax * by - ay * bx, 0)  # no corner where it was divided

    def test_an_open_outline_ends_where_its_points_do(self) -> None:
        points = np.array([[0.0, 0], [30, 10], [60, -5], [90, 20]])
        line, at = flattened(bezier(points, np.ones(4), False), False)
        np.testing.assert_allclose(line[[0, -1]], points[[0, -1]])
        self.assertEqual((at[0], at[-1]), (0, 3))
        coming, leaving = handles(points, np.ones(4), False)
        np.testing.assert_allclose(from_handles(np.stack([points, points + coming, points + leaving], 1), False), bezier(points, np.ones(4), False))


class GroupTest(unittest.TestCase):
    def setUp(self) -> None:
        self.shapes = tuple(new_shape(SQUARE + 12 * k, 1, roundness=0).but(name=f"S{k}") for k in range(4))
        self.shot, self.matte = matte_edits.add_matte(Shot(range=(1, 3)), None, 1, shapes=self.shapes)
        self.alone = [matte_alpha(self.shot, self.matte.but(shapes=(s,)), 1, SIZE) for s in self.shapes]

    def test_a_group_is_joined_as_one_shape_is(self) -> None:
        a, b, c, d = self.alone
        shot, group = matte_edits.add_group(self.shot, self.matte.id, [self.shapes[1].id, self.shapes[2].id], "Pair", combine="subtract")
        now = matte_of(shot, self.matte.id)
        pair = b + c - b * c
        np.testing.assert_allclose(matte_alpha(shot, now, 1, SIZE), (lambda x: x + d - x * d)(a * (1 - pair)), atol=1e-6)
        np.testing.assert_allclose(group_alpha(shot, now, group.id, 1, SIZE), pair, atol=1e-6)
        half = matte_edits.set_group(shot, self.matte.id, group.id, opacity=0.5, invert=True)
        less = a * (1 - 0.5 * (1 - pair))
        np.testing.assert_allclose(matte_alpha(half, matte_of(half, self.matte.id), 1, SIZE), less + d - less * d, atol=1e-6)
        apart = matte_edits.dissolve_group(shot, self.matte.id, group.id)
        np.testing.assert_allclose(matte_alpha(apart, matte_of(apart, self.matte.id), 1, SIZE), matte_alpha(self.shot, self.matte, 1, SIZE))

    def test_groups_lie_in_groups_and_never_in_themselves(self) -> None:
        a, b, c, d = self.alone
        shot, inner = matte_edits.add_group(self.shot, self.matte.id, [self.shapes[1].id, self.shapes[2].id], combine="intersect")
        shot, outer = matte_edits.add_group(shot, self.matte.id, [self.shapes[0].id, inner.id], combine="add")
        pair = b + c - b * c
        np.testing.assert_allclose(matte_alpha(shot, matte_of(shot, self.matte.id), 1, SIZE), (lambda x: x + d - x * d)(a * pair), atol=1e-6)
        with self.assertRaisesRegex(ValueError, "cannot lie in itself"):
            matte_edits.set_group(shot, self.matte.id, inner.id, within=inner.id)
        with self.assertRaisesRegex(ValueError, "cannot lie in itself"):
            matte_of(shot, self.matte.id).but(groups=(MatteGroup(id="x", within="y"), MatteGroup(id="y", within="x")))
        hidden = matte_edits.set_group(shot, self.matte.id, outer.id, visible=False)
        np.testing.assert_allclose(matte_alpha(hidden, matte_of(hidden, self.matte.id), 1, SIZE), d, atol=1e-6)

    def test_growing_makes_a_hole_smaller(self) -> None:
        outer, hole = new_shape(SQUARE + 40, 1, roundness=0), new_shape((SQUARE - 50) * 0.5 + 90, 1, roundness=0, combine="subtract")
        _, matte = matte_edits.add_matte(Shot(range=(1, 3)), None, 1, shapes=(outer, hole))
        plain, grown = (matte_alpha(self.shot, matte.but(grow=g), 1, SIZE).sum() for g in (0.0, 4.0))
        self.assertAlmostEqual(plain, 60 * 60 - 30 * 30, delta=1)
        self.assertAlmostEqual(grown, 68 * 68 - (4 - np.pi) * 16 - 22 * 22, delta=12)  # outside its corners are round
        own = matte_alpha(self.shot, matte.but(shapes=(outer, hole.but(grow=4.0))), 1, SIZE).sum()
        self.assertLess(own, plain)  # what is said of the hole itself makes that larger

    def test_order_copies_and_locks(self) -> None:
        shot = matte_edits.order_shape(self.shot, self.matte.id, self.shapes[3].id, -2)
        self.assertEqual([s.name for s in matte_of(shot, self.matte.id).shapes], ["S0", "S3", "S1", "S2"])
        shot, copy = matte_edits.duplicate_shape(shot, self.matte.id, self.shapes[0].id)
        self.assertEqual([s.name for s in matte_of(shot, self.matte.id).shapes][:2], ["S0", "S0 2"])
        locked = shot.with_item(matte_of(shot, self.matte.id).with_shape(copy.but(locked=True)))
        with self.assertRaisesRegex(RegionError, "locked"):
            matte_edits.key_shape(locked, self.matte.id, copy.id, 1, SQUARE)


def points_track() -> Track:
    """Six tracked points, each with a way of its own; the last is lost from frame 4 on."""
    home = np.array([[100.0, 60], [200, 60], [100, 160], [200, 160], [150, 110], [300, 300]])
    frames = np.arange(1, 7, dtype=np.int64)
    places = np.stack([home + (f - 1) * np.array([[1.0, 0], [2, 0], [1, 1], [2, 1], [1.5, 0.5], [9, 9]]) for f in frames])
    places[3:, 5] = np.nan
    measured = np.ones((6, 6), bool)
    measured[3:, 5] = False
    places[3:, 5] = home[5]
    solution = PointsSolution(reference=1, points=home, names=tuple("abcdef"), frames=frames, places=places, errors=np.full((6, 6), 0.05),
                              matches=np.ones((6, 6)), measured=measured)
    return Track(name="Dots", region=Region(frame=1, points=((90.0, 50.0), (210.0, 50.0), (210.0, 170.0))), solution=solution)


class BindingTest(unittest.TestCase):
    def test_the_anchors_are_near_and_lie_round(self) -> None:
        spots = [(Anchor(kind="corner", of="t", name=str(k)), np.array(p, float))
                 for k, p in enumerate([(0, 0), (10, 0), (20, 0), (0, 12), (100, 100), (1, 1)])]
        self.assertEqual([a.name for a in best_anchors(np.array([10.5, 0.5]), spots)], ["1"])  # it sits on it
        chosen = [a.name for a in best_anchors(np.array([6.0, 5.0]), spots)]
        self.assertEqual(len(chosen), 3)
        self.assertNotIn("4", chosen)
        self.assertIn("3", chosen)  # a little farther than others, but elsewhere
        self.assertEqual(len(best_anchors(np.array([5.0, 3.0]), spots[:3])), 2)  # three on a line say no more than two
        self.assertEqual(best_anchors(np.zeros(2), []), ())

    def test_points_go_with_what_they_are_bound_to(self) -> None:
        track = points_track()
        figure = np.array([[100.0, 60], [200, 60], [200, 160], [130, 120]])
        shot, matte = matte_edits.add_matte(Shot(range=(1, 6), tracks=(track,)), None, 1, shapes=(new_shape(figure, 1),))
        ident = matte.shapes[0].id
        spots = [(Anchor(kind="point", of=track.id, name=n), p) for n, p in zip("abcde", track.solution.points, strict=False)]  # type: ignore[union-attr]
        bound = matte_edits.bind(shot, matte.id, ident, 1, spots)
        shape = matte_of(bound, matte.id).shapes[0]
        self.assertEqual([[a.name for a in row] for row in shape.bound][:3], [["a"], ["b"], ["d"]])
        self.assertEqual(len(shape.bound[3]), 3)
        there = points_on(bound, matte_of(bound, matte.id), shape, 5)
        assert there is not None
        np.testing.assert_allclose(there[:3], [[104, 60], [208, 60], [208, 164]])
        # three anchors carry a point as the affine motion through them does: 130, 120 lies 0.3 and 0.6 along the sides of a, b and c
        np.testing.assert_allclose(there[3], [104 + 0.3 * 104 + 0.6 * 0, 60 + 0.6 * 104], atol=1e-6)
        np.testing.assert_allclose(points_on(bound, matte_of(bound, matte.id), shape, 2.5)[0], [101.5, 60])  # type: ignore[index]
        # a key on top is in the frame of what carries the point
        keyed = matte_edits.key_shape(bound, matte.id, ident, 5, there + [3, 0])
        np.testing.assert_allclose(points_on(keyed, matte_of(keyed, matte.id), matte_of(keyed, matte.id).shapes[0], 5), there + [3, 0], atol=1e-6)
        np.testing.assert_allclose(points_on(keyed, matte_of(keyed, matte.id), matte_of(keyed, matte.id).shapes[0], 1), figure, atol=1e-6)
        free = matte_edits.unbind(keyed, matte.id, ident, 5)
        self.assertEqual(matte_of(free, matte.id).shapes[0].bound, ())
        np.testing.assert_allclose(points_on(free, matte_of(free, matte.id), matte_of(free, matte.id).shapes[0], 5), there + [3, 0], atol=1e-6)

    def test_what_is_gone_does_not_count(self) -> None:
        track = points_track()
        shot, matte = matte_edits.add_matte(Shot(range=(1, 6), tracks=(track,)), track, 1, shapes=(new_shape(SQUARE * 2, 1),))
        ident, spots = matte.shapes[0].id, [(Anchor(kind="point", of=track.id, name="a"), np.array([100.0, 60])),
                                             (Anchor(kind="point", of=track.id, name="gone"), np.array([60.0, 60]))]
        bound = matte_edits.bind(shot, matte.id, ident, 1, spots, {0})
        there = points_on(bound, matte_of(bound, matte.id), matte_of(bound, matte.id).shapes[0], 4)
        assert there is not None
        np.testing.assert_allclose(there[0], SQUARE[0] * 2 + [3, 0])  # by the one that is left
        lost = bound.but(tracks=())
        np.testing.assert_allclose(points_on(lost, matte_of(lost, matte.id), matte_of(lost, matte.id).shapes[0], 4), SQUARE * 2)
        with self.assertRaisesRegex(RegionError, "nothing on frame 1 to bind"):
            matte_edits.bind(shot, matte.id, ident, 1, [])
        round_and_round = matte_edits.bind(shot, matte.id, ident, 1, [(Anchor(kind="shape", of=matte.id, shape=ident, name="1"), np.zeros(2)), *spots])
        self.assertNotIn("shape", {a.kind for row in matte_of(round_and_round, matte.id).shapes[0].bound for a in row})

    def test_keys_that_are_not_needed_are_thinned(self) -> None:
        shot, matte = drawn()
        ident = matte.shapes[0].id
        shot = shot.with_item(matte.with_shape(matte.shapes[0].but(between="straight")))
        for frame in (3, 5, 8, 12):
            shot = matte_edits.key_shape(shot, matte.id, ident, frame, points_on(shot, matte_of(shot, matte.id), matte_of(shot, matte.id).shapes[0], frame)
                                         + [2.0 * (frame == 8), 0])  # type: ignore[operator]
        thin = matte_edits.thin_keys(shot, matte.id, ident, 0.1)
        self.assertIn(8, matte_of(thin, matte.id).shapes[0].keys)
        self.assertLess(len(matte_of(thin, matte.id).shapes[0].keys), 5)
        for frame in (1, 3, 5, 8, 12):
            a, b = (points_on(s, matte_of(s, matte.id), matte_of(s, matte.id).shapes[0], frame) for s in (shot, thin))
            np.testing.assert_allclose(a, b, atol=0.1)


class KeyingTest(unittest.TestCase):
    def test_colours_differ_as_scikit_image_says(self) -> None:
        rng = np.random.default_rng(2)
        picture = rng.uniform(0, 1, (30, 40, 3)).astype(np.float32)
        np.testing.assert_allclose(keying.lab(picture), rgb2lab(picture), atol=0.6)  # OpenCV and skimage round the white point otherwise
        green = tuple(v / 255 for v in ImageColor.getrgb("seagreen"))
        distance = np.linalg.norm(rgb2lab(picture) - rgb2lab(np.array(green).reshape(1, 1, 3)), axis=-1)
        found = keying.by_colour(picture, green, 30, 20)  # type: ignore[arg-type]
        self.assertTrue((found[distance < 29] > 0.98).all())
        self.assertTrue((found[distance > 51] < 0.02).all())

    def test_brightness_and_difference(self) -> None:
        ramp = np.linspace(0, 1, 101, dtype=np.float32)[None, :, None].repeat(3, 2)
        found = keying.by_brightness(ramp, 0.4, 0.7, 0.1)[0]
        np.testing.assert_allclose(found[[20, 30, 35, 40, 55, 70, 75, 80, 95]], [0, 0, 0.5, 1, 1, 1, 0.5, 0, 0], atol=1e-3)
        other = ramp.copy()
        other[:, 50:] -= 0.3
        self.assertEqual((keying.by_difference(ramp, other, 5, 1) > 0.5).sum(), 51)

    def test_the_edge_is_what_the_picture_shows(self) -> None:
        """Where the figure and what is behind it have each one colour the alpha of the mixture is found exactly (Levin et al. 2008, section 3)."""
        x, y = np.meshgrid(np.arange(120.0), np.arange(80.0))
        truth = np.clip((40 + 6 * np.sin(y / 5) - np.hypot(x - 60, (y - 40) * 1.2)) / 8 + 0.5, 0, 1)
        picture = truth[..., None] * [0.9, 0.3, 0.2] + (1 - truth[..., None]) * [0.1, 0.3, 0.6]
        away = np.hypot(x - 60, (y - 40) * 1.2) - 40
        rough = np.clip(0.5 - away / 40, 0, 1).astype(np.float32)
        found = keying.by_picture_edge(picture.astype(np.float32), rough)
        self.assertLess(np.abs(found - truth).mean(), 0.01)
        self.assertGreater(np.abs(rough - truth).mean(), 0.04)
        flat = np.ones((5, 5), np.float32)
        self.assertIs(keying.by_picture_edge(picture.astype(np.float32), flat), flat)
        # a minute and a half is compiled at first use where the whole package is imported
        self.assertFalse([name for name in sys.modules if name.startswith("pymatting") and "lbdm" in name])


class MattePartsTest(unittest.TestCase):
    """On a film whose outline is known."""

    def setUp(self) -> None:
        made = tempfile.TemporaryDirectory()
        self.addCleanup(made.cleanup)
        self.folder = Path(made.name)
        (self.folder / "plate").mkdir()
        for frame, picture in zip(FRAMES, film(), strict=True):
            cv2.imwrite(str(self.folder / f"plate/f.{frame:04d}.png"), picture)
        self.shot = wertis.open(self.folder / "plate")
        self.shot._do("Track", self.shot.document.but(tracks=(tracked(),)))
        self.figure = self.shot.surface("Figure")

    def test_a_matte_from_the_picture_is_drawn_upon(self) -> None:
        luma = film()[2][..., ::-1] / 255 @ [0.2126, 0.7152, 0.0722]  # OpenCV wrote blue first
        matte = self.shot.matte(name="Bright", frame=3).draw_on("brightness", low=0.6, soft=0.05)
        alpha = matte.alpha(3)
        np.testing.assert_allclose(alpha[luma > 0.62], 1, atol=1e-3)
        np.testing.assert_allclose(alpha[luma < 0.53], 0, atol=1e-3)
        matte.add(SQUARE, 3, roundness=0, combine="subtract")
        self.assertEqual(matte.alpha(3)[30:70, 30:70].max(), 0)
        cv2.imwrite(str(self.folder / "clean.png"), np.full_like(film()[0], 128))
        matte.draw_on("difference", path=str(self.folder / "clean.png"), reach=5, soft=1)
        self.assertGreater(matte.alpha(3).mean(), 0.3)
        matte.draw_on(None)
        self.assertEqual(matte.alpha(3).max(), 0)
        with self.assertRaisesRegex(WertisError, "pixels, the plate"):
            cv2.imwrite(str(self.folder / "small.png"), np.zeros((10, 10), np.uint8))
            matte.draw_on("file", path=str(self.folder / "small.png"))

    def test_a_matte_sequence_is_drawn_upon_and_held_out(self) -> None:
        (self.folder / "m").mkdir()
        for frame in range(1, 10):
            mask = np.zeros(SIZE[::-1], np.uint8)
            mask[:, :10 * frame] = 255
            cv2.imwrite(str(self.folder / f"m/m.{frame:04d}.png"), mask)
        matte = self.shot.matte(name="From elsewhere", frame=1).draw_on("file", path=str(self.folder / "m/m.####.png"))
        self.assertEqual(matte.alpha(4)[5].sum(), 40)
        self.assertEqual(matte.alpha(12).max(), 0)  # a frame that it lacks
        path = self.shot.save(self.folder / "s.wertis")
        again = wertis.open(path)
        self.assertEqual(again.matte_named("From elsewhere").alpha(4)[5].sum(), 40)

    def test_an_edge_taken_from_the_picture_is_nearer_to_the_truth(self) -> None:
        rough = self.shot.matte(outline(1), 1, self.figure, "Soft", soft=6)
        from wertis.core.matte.coverage import polygon_area

        truth = polygon_area(flattened(bezier(outline(1), np.ones(8)))[0], (0, 0, *SIZE))
        before = np.abs(rough.alpha(1) - truth).mean()
        rough.change(edge="picture")
        self.assertLess(np.abs(rough.alpha(1) - truth).mean(), 0.8 * before)

    def test_a_colour_laid_along_a_line_glows_and_is_held_back(self) -> None:
        plate = self.shot.plate.read(1)
        line = self.shot.matte(name="Line", frame=1, carried_by=self.figure)
        line.add(outline(1), 1, width=5, closed=False)
        light = self.figure.fill([line], colour=(1.0, 0.2, 0.1), blend="plus-lighter")
        comp, alpha = self.shot.frame(1), line.alpha(1)
        np.testing.assert_array_equal(comp[alpha == 0], plate[alpha == 0])
        full = alpha == 1
        np.testing.assert_allclose(comp[full].astype(int), np.minimum(plate[full].astype(int) + [255, 51, 26], 255), atol=1)
        light.change(glow=(4.0, 12.0), glow_strength=0.6)
        changed = (self.shot.frame(1) != plate).any(-1)
        self.assertGreater(changed.sum(), 3 * (alpha > 0).sum())
        front = self.shot.matte(outline(1) - [40, 0], 1, self.figure, "Front")
        light.change(held_back=(front.id,))
        np.testing.assert_array_equal(self.shot.frame(1)[front.alpha(1) == 1], plate[front.alpha(1) == 1])
        graphic = self.shot.frame(1, "graphic")
        self.assertEqual(graphic.shape[2], 4)
        self.assertGreater(graphic[..., 3].max(), 0.9)

    def test_parts_go_out_as_channels(self) -> None:
        matte = self.shot.matte(outline(1), 1, self.figure, "Docker")
        other = matte.add(outline(1) * 0.5 + 100, combine="subtract")
        matte.change_shape(matte.shapes[0], name="Arm").change_shape(other, name="Hand, left")
        matte.group([matte.shapes[0], other], "Both")
        self.shot.matte(SQUARE, 1, None, "Box", roundness=0)
        path = self.shot.save(self.folder / "s.wertis")
        out = str(self.folder / "m.####.exr")
        self.assertEqual(main(["matte", str(path), "--of", "Docker", "--of", "Box", "--parts", "--out", out, "--range", "2-3", "--quiet"]), 0)
        picture = oiio.ImageBuf(str(self.folder / "m.0003.exr"))
        names = picture.spec().channelnames
        self.assertEqual(set(names), {"Docker.A", "Docker.Both.A", "Docker.Arm.A", "Docker.Hand__left.A", "Box.A", "Box.Shape.A"})
        pixels = picture.get_pixels(oiio.FLOAT)
        np.testing.assert_allclose(pixels[..., names.index("Docker.A")], matte.alpha(3), atol=1e-3)
        self.assertGreater(pixels[..., names.index("Docker.Arm.A")].sum(), pixels[..., names.index("Docker.A")].sum())
        one = ["matte", str(path), "--of", "Docker", "--quiet"]
        self.assertEqual(main([*one, "--part", "Arm", "--bits", "8", "--out", str(self.folder / "a.####.png")]), 0)
        arm = cv2.imread(str(self.folder / "a.0003.png"), cv2.IMREAD_UNCHANGED)
        self.assertEqual(arm.dtype, np.uint8)
        np.testing.assert_allclose(arm[..., 0] / 255, pixels[..., names.index("Docker.Arm.A")], atol=3e-3)
        self.assertEqual(main(["matte", str(path), "--of", "Docker", "--out", str(self.folder / "m.mkv"), "--quiet"]), 0)
        self.assertTrue((self.folder / "m.mkv").is_file())
        for wrong in (["--parts", "--out", str(self.folder / "b.####.png")], ["--part", "Leg", "--out", str(self.folder / "b.####.png")]):
            self.assertNotEqual(main(["matte", str(path), "--of", "Docker", "--quiet", *wrong]), 0)

    def test_every_format_of_shapes_comes_back(self) -> None:
        matte = self.shot.matte(outline(1), 1, self.figure, "Docker", soft=2).key(6, outline(6))
        matte.handles()
        matte.add(outline(1) + 30, 1, width=7, closed=False)
        matte.add(outline(1) * 0.5 + 90, 1, combine="subtract")
        for name in ("d.json", "d.csv", "d.svg"):
            self.assertEqual(matte.export(self.folder / name), len(FRAMES), name)
            back = self.shot.matte(name=f"Back {name}", carried_by=self.figure).read(self.folder / name)
            self.assertEqual([(s.handled, s.closed, s.stroke is not None, s.combine) for s in back.record.shapes],
                             [(True, True, False, "add"), (False, False, True, "add"), (False, True, False, "subtract")], name)
            for frame in (1, 4, 6, 12):
                np.testing.assert_allclose(back.alpha(frame), matte.alpha(frame), atol=3e-3, err_msg=f"{name} {frame}")
        # SVG Animations Level 2: discrete, one value for a frame, times from 0 on
        moving = next(ElementTree.parse(self.folder / "d.svg").getroot().iter("{http://www.w3.org/2000/svg}animate"))
        times = [float(v) for v in moving.get("keyTimes", "").split(";")]
        self.assertEqual((len(times), times[0], moving.get("calcMode")), (len(FRAMES), 0.0, "discrete"))
        self.assertEqual(len(moving.get("values", "").split(";")), len(times))
        count = matte.export(self.folder / "p.csv", samples=40)
        self.assertEqual(count, len(FRAMES))
        rows = [line.split(",") for line in (self.folder / "p.csv").read_text().splitlines() if line.startswith("Shape 1")]
        self.assertEqual(len(rows), 40 * len(FRAMES))
        first = np.array([[float(v) for v in r[5:7]] for r in rows[:40]])
        steps = np.linalg.norm(np.diff(first, axis=0), axis=1)
        self.assertLess(np.ptp(steps), 0.05 * steps.mean())
        text = (self.folder / "p.csv").read_text()
        for wrong in (text.replace("shape,combine", "shape;combine"), re.sub(r"\n(Shape 1,add,1,1,3,)[^,]*", r"\n\1here", text), text.rsplit(",", 3)[0]):
            (self.folder / "w.csv").write_text(wrong)
            with self.assertRaises(WertisError):
                matte.read(self.folder / "w.csv")

    def test_svg_from_elsewhere(self) -> None:
        """SVG 2, section 9.3: relative commands, arcs, and quadratic and smooth curves; the areas are those of geometry."""
        cases = (("M 100 50 A 50 50 0 0 1 100 150 A 50 50 0 0 1 100 50 Z", np.pi * 2500), ("m 20 20 h 60 v 40 h -60 z", 2400.0),
                 ("M 20 100 Q 60 20 100 100 T 180 100 L 180 160 L 20 160 Z", 160 * 60.0), ("M 0 0 L 90 0 L 0 80 Z", 3600.0))
        for data, area in cases:
            (self.folder / "f.svg").write_text(f'{_SVG} viewBox="0 0 400 300" width="400" height="300"><path d="{data}"/></svg>')
            matte = self.shot.matte(name="Foreign", frame=4).read(self.folder / "f.svg")
            self.assertAlmostEqual(matte.alpha(4).sum(), area, delta=0.004 * area, msg=data)
        (self.folder / "c.svg").write_text('<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 400 300" width="400" height="300">'
                                           '<g transform="translate(30 10)"><circle cx="100" cy="90" r="40"/><rect width="20" height="30"/></g></svg>')
        matte = self.shot.matte(name="Basic", frame=4).read(self.folder / "c.svg")
        self.assertAlmostEqual(matte.alpha(4).sum(), np.pi * 1600 + 600, delta=20)
        for bad in ("M 0 0 C 1 1", "hello", "M nan nan L inf 2 L 3 3 Z"):
            (self.folder / "b.svg").write_text(f'{_SVG}><path d="{bad}"/></svg>')
            with self.assertRaises(WertisError, msg=bad):
                matte.read(self.folder / "b.svg")

    def test_scripts_bind_group_and_keep_it_all(self) -> None:
        matte = self.shot.matte(outline(1), 1, None, "Bound")
        matte.bind([self.figure], 1)
        np.testing.assert_allclose(matte.points(6), outline(1) @ _turn(6)[:2, :2].T + _turn(6)[:2, 2], atol=1e-6)
        matte.bind([self.figure], 1, leave_out=["0", "1", "2"]).unbind(1, numbers=[0]).handles()
        self.assertEqual(np.asarray(matte.controls(1)).shape, (8, 3, 2))
        second = matte.add(SQUARE, 1, width=4, closed=False)
        group = matte.group([second], "Lines", opacity=0.5)
        matte.change_group(group, grow=1.0).line(second, dash=4, gap=3, ends="square").thin(second)
        path = self.shot.save(self.folder / "s.wertis")
        again = store.load(path).item(matte.id, Matte)
        self.assertEqual(again, matte.record)
        matte.dissolve(group)
        self.assertEqual(matte.groups, [])
        while self.shot.undo():
            pass
        self.assertEqual(self.shot.mattes, [])


class StrainTest(unittest.TestCase):
    """What a matte must bear: odd shapes, thousands of points, keys beyond the range, and random edits undone."""

    def test_odd_shapes_give_an_alpha(self) -> None:
        track = tracked()
        shot, matte = matte_edits.add_matte(Shot(range=(1, 12), tracks=(track,)), track, 1)
        turn = np.linspace(0, 2 * np.pi, 10_000, endpoint=False)
        many = np.array([200.0, 150]) + np.column_stack([np.cos(turn), np.sin(turn)]) * (90 + 8 * np.sin(40 * turn))[:, None]
        crossing = np.array([[50.0, 50], [250, 200], [250, 50], [50, 200]])
        flat = np.array([[10.0, 10], [200, 10], [100, 10]])
        same = np.full((5, 2), 77.0)
        far = SQUARE + 1e5
        for points in (many, crossing, flat, same, far):
            with_it = matte_edits.add_shape(shot, matte.id, points, 1, soft=3.0)
            for frame in (-400, 1, 6, 12, 9000):
                alpha = matte_alpha(with_it, matte_of(with_it, matte.id).but(shutter=180.0), frame, SIZE)
                self.assertTrue(np.isfinite(alpha).all() and alpha.min() >= 0 and alpha.max() <= 1)
        area = matte_alpha(*(lambda s: (s, matte_of(s, matte.id)))(matte_edits.add_shape(shot, matte.id, many, 1)), 1, SIZE).sum()  # type: ignore[arg-type]
        x, y = many.T
        self.assertAlmostEqual(area, abs(np.sum(x * np.roll(y, -1) - np.roll(x, -1) * y)) / 2, delta=20)
        keyed = matte_edits.add_shape(shot, matte.id, SQUARE, 1)
        ident = matte_of(keyed, matte.id).shapes[0].id
        with self.assertRaisesRegex(RegionError, "no answer"):
            matte_edits.key_shape(keyed, matte.id, ident, 500, SQUARE)  # the track ends before

    @staticmethod
    def edits(shot: Shot, matte: Matte, frame: int, track: str, rng: np.random.Generator) -> list[Callable[[], Shot]]:
        """What may be done to a matte, with random numbers."""
        m, e = matte.id, matte_edits
        shape = matte.shapes[int(rng.integers(len(matte.shapes)))]
        ident, k, points = shape.id, int(rng.integers(shape.count)), points_on(shot, matte, shape, frame)
        moved = points + rng.normal(0, 5, points.shape) if points is not None else np.zeros((1, 2))
        return [
            lambda: e.add_shape(shot, m, outline(frame) * rng.uniform(0.4, 1), frame, float(rng.integers(2))),
            lambda: e.key_shape(shot, m, ident, frame, moved),
            lambda: e.insert_point(shot, m, ident, k, 0.4), lambda: e.remove_shape_points(shot, m, ident, {k}), lambda: e.give_handles(shot, m, ident),
            lambda: e.take_handles(shot, m, ident), lambda: e.set_stroke(shot, m, ident, e.line_of(shape, 3.0), bool(rng.integers(2))),
            lambda: e.set_stroke(shot, m, ident, None), lambda: e.bind(shot, m, ident, frame, anchors_on(shot, frame, [track])),
            lambda: e.unbind(shot, m, ident, frame), lambda: e.thin_keys(shot, m, ident, 2.0),
            lambda: e.add_group(shot, m, [x.id for x in matte.shapes][:2])[0],
            lambda: e.dissolve_group(shot, m, matte.groups[0].id if matte.groups else ""), lambda: e.clear_keys(shot, m, frame),
            lambda: e.move_matte_key(shot, m, frame, frame + 1, True), lambda: e.duplicate_shape(shot, m, ident)[0],
            lambda: e.order_shape(shot, m, ident, 1), lambda: e.remove_shape(shot, m, ident) if len(matte.shapes) > 3 else shot]

    def test_random_edits_and_back(self) -> None:
        rng = np.random.default_rng(7)
        track = tracked()
        shot, matte = matte_edits.add_matte(Shot(range=(1, 12), tracks=(track,)), track, 1, shapes=(new_shape(outline(1), 1),))
        history, start = History(shot), shot
        for _ in range(150):
            shot, matte = history.shot, matte_of(history.shot, matte.id)
            frame = int(rng.integers(1, 13))
            made = self.edits(shot, matte, frame, track.id, rng)
            try:
                history.do("Edit", made[int(rng.integers(len(made)))]())
            except WertisError:
                continue
            alpha = matte_alpha(history.shot, matte_of(history.shot, matte.id), frame, SIZE)
            self.assertTrue(np.isfinite(alpha).all())
            self.assertEqual(matte_of(history.shot, matte.id).but(), matte_of(history.shot, matte.id))  # checked again, it is sound
        self.assertGreater(len(matte_of(history.shot, matte.id).shapes), 1)
        while history.undo_label:
            history.undo()
        self.assertEqual(history.shot, start)


def _turn(frame: int) -> np.ndarray:
    from tests.test_mattes import placed

    return placed(frame)


if __name__ == "__main__":
    unittest.main()
