"""Mattes: outlines, coverage, soft edges, keys on a track, blur, the measured edge, and a graphic held back."""

import re
import tempfile
import unittest
from dataclasses import replace
from functools import cache
from pathlib import Path

import cv2
import numpy as np
from PySide6.QtCore import QPointF
from PySide6.QtGui import QColor
from scipy.integrate import dblquad

import wertis
from tests.scenes import SIZE, texture
from tests.test_window import WindowCase
from wertis.app import theme
from wertis.app.steps.use.mattes.edge_work import said_left, said_of
from wertis.app.steps.use.mattes.fields import MatteFields
from wertis.app.steps.use.step import UseStep
from wertis.app.window import MainWindow
from wertis.cli.main import main
from wertis.core.errors import RegionError, WertisError
from wertis.core.geometry.motion import PlanarMotion
from wertis.core.imaging.resample import warped
from wertis.core.jobs.matte_edge import EdgeMeasure
from wertis.core.matte.coverage import mean_area, polygon_area, soft_area
from wertis.core.matte.edge import KnownFrame, evenly_resampled, found_edge
from wertis.core.matte.outline import along, bezier, flattened, handles
from wertis.core.shot import matte_carry, matte_edits, mattes, store
from wertis.core.shot.document import PlaneSolution, Region, Shot, Track
from wertis.core.shot.hold_outs import HoldOutReader
from wertis.core.shot.matte_alpha import matte_alpha

BOX = (0, 0, 120, 100)
FRAMES = range(1, 13)
FIGURE = np.array([[0.0, -70], [55, -45], [75, 10], [40, 60], [-20, 75], [-70, 40], [-80, -20], [-45, -60]])


def supersampled(polygon: np.ndarray, box: tuple[int, int, int, int], times: int = 16) -> np.ndarray:
    """(h, w) share of times x times points in each pixel that lie inside, by matplotlib-free even-odd crossing."""
    x0, y0, x1, y1 = box
    xs = x0 + (np.arange((x1 - x0) * times) + 0.5) / times
    ys = y0 + (np.arange((y1 - y0) * times) + 0.5) / times
    inside = np.zeros((len(ys), len(xs)), bool)
    for a, b in zip(polygon, np.roll(polygon, -1, 0), strict=True):
        crosses = (a[1] > ys) != (b[1] > ys)
        at = a[0] + (ys[crosses] - a[1]) / (b[1] - a[1]) * (b[0] - a[0])
        inside[crosses] ^= xs[None] > at[:, None]
    return inside.reshape(y1 - y0, times, x1 - x0, times).mean((1, 3))


class OutlineTest(unittest.TestCase):
    def test_corners_make_straight_sides_and_the_curve_meets_its_points(self) -> None:
        square = np.array([[10.0, 10], [90, 10], [90, 80], [10, 80]])
        polygon, at = flattened(bezier(square, np.zeros(4)))
        np.testing.assert_allclose(polygon, square)
        np.testing.assert_allclose(at, range(4))
        polygon, at = flattened(bezier(square, np.ones(4)))
        np.testing.assert_allclose(polygon[np.isin(at, range(4))], square)
        self.assertGreater(len(polygon), 30)

    def test_bezier_and_catmull_rom_identities(self) -> None:
        """Evenly spaced, a Catmull-Rom tangent is half the chord of the neighbours (E. Catmull and R. Rom, 1974), and a Bezier handle a third of it."""
        n = 12
        circle = 100 * np.column_stack([np.cos(2 * np.pi * np.arange(n) / n), np.sin(2 * np.pi * np.arange(n) / n)])
        before, after = handles(circle, np.ones(n))
        np.testing.assert_allclose(after, (np.roll(circle, -1, 0) - np.roll(circle, 1, 0)) / 6, atol=1e-9)
        np.testing.assert_allclose(before, -after, atol=1e-9)
        polygon, _ = flattened(bezier(circle, np.ones(n)))
        self.assertLess(np.abs(np.linalg.norm(polygon, axis=1) - 100).max(), 0.4)
        curve = bezier(circle, np.ones(n))[3]
        t = 0.3  # de Casteljau's construction gives the same place
        level = curve
        while len(level) > 1:
            level = (1 - t) * level[:-1] + t * level[1:]
        a, b, c, d = curve
        np.testing.assert_allclose(level[0], (1 - t) ** 3 * a + 3 * (1 - t) ** 2 * t * b + 3 * (1 - t) * t ** 2 * c + t ** 3 * d)

    def test_values_along_and_places_evenly_spread(self) -> None:
        np.testing.assert_allclose(along(np.array([0.0, 10, 20]), np.array([0, 0.5, 2.5])), [0, 5, 10])
        polygon, at = flattened(bezier(FIGURE, np.ones(8)))
        places, where, normals = evenly_resampled(polygon, at, 8)
        self.assertLess(np.ptp(np.linalg.norm(np.diff(places, axis=0), axis=1)), 0.3)
        self.assertTrue((np.diff(where) > 0).all())
        self.assertGreater((normals * places).sum(1).min(), 0)  # the figure stands round the origin: outwards


class CoverageTest(unittest.TestCase):
    def test_it_is_exact(self) -> None:
        """Against 16 x 16 points in each pixel, whose own error is up to about 1/100 at an edge: 1/255 on average."""
        rng = np.random.default_rng(4)
        for rounds in (np.zeros(8), np.ones(8), rng.uniform(0, 1, 8)):
            polygon, _ = flattened(bezier(FIGURE * 0.55 + [61.3, 49.7], rounds))
            exact, counted = polygon_area(polygon, BOX), supersampled(polygon, BOX)
            edge = (counted > 0) & (counted < 1)
            self.assertLess(np.abs(exact - counted)[edge].mean(), 1 / 255)
            self.assertLess(np.abs(exact - counted).max(), 8 / 255)
            x, y = polygon.T  # the shoelace formula
            self.assertAlmostEqual(exact.sum(), abs(np.sum(x * np.roll(y, -1) - np.roll(x, -1) * y)) / 2, places=1)

    def test_a_half_pixel_is_half(self) -> None:
        area = polygon_area(np.array([[2.5, 1.25], [5, 1.25], [5, 3], [2.5, 3]]), (0, 0, 6, 4))
        np.testing.assert_allclose(area[1], [0, 0, 0.375, 0.75, 0.75, 0], atol=1e-6)
        np.testing.assert_allclose(area[2], [0, 0, 0.5, 1, 1, 0], atol=1e-6)
        triangle = np.array([[0.2, 0.1], [0.9, 0.3], [0.4, 0.95]])
        self.assertAlmostEqual(float(polygon_area(triangle, (0, 0, 1, 1))[0, 0]), 0.5 * abs(0.7 * 0.85 - 0.2 * 0.2), places=6)

    def test_beyond_the_picture_and_what_is_no_outline(self) -> None:
        around = np.array([[-50.0, -50], [500, -50], [500, 500], [-50, 500]])
        np.testing.assert_array_equal(polygon_area(around, BOX), 1)
        np.testing.assert_array_equal(polygon_area(around + 1000, BOX), 0)
        np.testing.assert_array_equal(polygon_area(around[:2], BOX), 0)
        np.testing.assert_array_equal(polygon_area(np.full((4, 2), np.nan), BOX), 0)
        twice = polygon_area(np.vstack([around, around]), BOX)
        np.testing.assert_array_equal(twice, 1)

    def test_a_soft_edge_falls_from_inside_to_outside(self) -> None:
        square = np.array([[30.0, 30], [90, 30], [90, 80], [30, 80]])
        for smooth in (True, False):
            alpha = soft_area(square, np.full(4, 6.0), np.full(4, 4.0), BOX, smooth)
            row = alpha[55, 20:45]
            level = np.clip((np.arange(20, 45) + 0.5 - 30 + 4) / 10, 0, 1)
            np.testing.assert_allclose(row, level ** 2 * (3 - 2 * level) if smooth else level, atol=1e-4)
        grown = soft_area(square, np.zeros(4), np.zeros(4), BOX, True, 3.0)
        self.assertAlmostEqual(float(grown[55].sum()), 66, places=3)
        uneven = soft_area(square, np.zeros(4), np.array([0.0, 10, 10, 0]), BOX)
        self.assertLess(uneven[55, 25], 0.01)
        self.assertGreater(uneven[55, 94], 0.3)

    def test_the_area_of_a_soft_edge_is_its_integral(self) -> None:
        square = np.array([[30.0, 30], [90, 30], [90, 80], [30, 80]])
        alpha = soft_area(square, np.full(4, 5.0), np.zeros(4), BOX, False)
        wanted = dblquad(lambda y, x: min(1.0, min(x - 30, 90 - x, y - 30, 80 - y) / 5), 30, 90, 30, 80, epsabs=5)[0]
        self.assertAlmostEqual(alpha.sum() / wanted, 1, places=2)

    def test_blur_is_the_mean_over_the_shutter(self) -> None:
        polygon, _ = flattened(bezier(FIGURE * 0.4 + [55, 50], np.ones(8)))
        moved = [polygon + [0.3 * k, 0.1 * k] for k in range(24)]
        np.testing.assert_allclose(mean_area(moved, BOX), np.mean([polygon_area(p, BOX) for p in moved], axis=0), atol=2e-3)


def placed(frame: int) -> np.ndarray:
    """(3, 3) from the first frame to a frame: the figure drifts and turns."""
    angle, (x, y) = 0.02 * (frame - 1), (3.0 * (frame - 1), -1.5 * (frame - 1))
    c, s = np.cos(angle), np.sin(angle)
    middle = np.array([220.0, 160])
    return np.array([[c, -s, middle[0] + x - c * middle[0] + s * middle[1]], [s, c, middle[1] + y - s * middle[0] - c * middle[1]], [0, 0, 1]])


def outline(frame: int) -> np.ndarray:
    """(8, 2) its outline there: it swells beside its track."""
    own = FIGURE * (1 + 0.05 * np.sin(0.5 * (frame - 1))) + [220, 160]
    return own @ placed(frame)[:2, :2].T + placed(frame)[:2, 2]


@cache
def film() -> list[np.ndarray]:
    """(h, w, 3) uint8: the figure, with a texture of its own, before a wall that moves otherwise."""
    wall, own = texture("rocket", SIZE).astype(np.float32), texture(size=SIZE)[:, ::-1].astype(np.float32)
    rng = np.random.default_rng(6)
    half = np.array([[1, 0, -0.5], [0, 1, -0.5], [0, 0, 1]])
    out = []
    for frame in FRAMES:
        behind = cv2.warpAffine(wall, np.float32([[1, 0, -2.0 * frame], [0, 1, 0.7 * frame]]), SIZE, borderMode=cv2.BORDER_REFLECT)
        front = cv2.warpPerspective(own, half @ placed(frame) @ np.linalg.inv(half), SIZE, flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT)
        alpha = polygon_area(flattened(bezier(outline(frame), np.ones(8)))[0], (0, 0, *SIZE))[..., None]
        out.append(np.clip(behind + (front - behind) * alpha + rng.normal(0, 1.5, front.shape), 0, 255).astype(np.uint8))
    return out


def tracked() -> Track:
    frames = np.array(FRAMES, np.int64)
    count, matrices = len(frames), np.array([placed(f) for f in FRAMES])
    solution = PlaneSolution(reference=1, frames=frames, matrices=matrices, errors=np.zeros(count), seen=np.ones(count))
    return Track(name="Figure", region=Region(frame=1, points=((180.0, 120.0), (260.0, 120.0), (260.0, 200.0), (180.0, 200.0))), solution=solution)


def drawn(**more: object) -> tuple[Shot, mattes.Matte]:
    track = tracked()
    shot, matte = matte_edits.add_matte(Shot(range=(1, 12), tracks=(track,)), track, 1, "Figure", (mattes.new_shape(outline(1), 1),))
    return shot.with_item(matte.but(**more)), matte.but(**more)


class CarriedTest(unittest.TestCase):
    def test_the_track_does_most_and_keys_the_rest(self) -> None:
        shot, matte = drawn()
        shape = matte.shapes[0]
        carried = matte_carry.points_on(shot, matte, shape, 7)
        np.testing.assert_allclose(carried, outline(1) @ placed(7)[:2, :2].T + placed(7)[:2, 2], atol=1e-9)
        for frame in (4, 7, 10, 12):
            shot = matte_edits.key_shape(shot, matte.id, shape.id, frame, outline(frame))
        matte = mattes.matte_of(shot, matte.id)
        shape = matte.shapes[0]
        for frame in FRAMES:
            self.assertLess(np.abs(matte_carry.points_on(shot, matte, shape, frame) - outline(frame)).max(), 0.4, frame)
        np.testing.assert_allclose(matte_carry.points_on(shot, matte, shape, 7), outline(7), atol=1e-9)
        shot = matte_edits.clear_key(shot, matte.id, shape.id, 7)
        self.assertEqual(sorted(mattes.matte_of(shot, matte.id).shapes[0].keys), [1, 4, 10, 12])
        with self.assertRaisesRegex(RegionError, "no key on frame 7"):
            matte_edits.clear_key(shot, matte.id, shape.id, 7)

    def test_a_change_for_all_keys_or_a_span(self) -> None:
        shot, matte = drawn(take="shift")
        shape = matte.shapes[0].id
        shot = matte_edits.key_shape(shot, matte.id, shape, 8, outline(8))
        before = {f: matte_carry.points_on(shot, mattes.matte_of(shot, matte.id), mattes.matte_of(shot, matte.id).shapes[0], f) for f in FRAMES}
        moved = matte_edits.key_shape(shot, matte.id, shape, 3, before[3] + [2, 1], "all")
        self.assertEqual(sorted(mattes.matte_of(moved, matte.id).shapes[0].keys), [1, 8])
        for frame in FRAMES:
            now = matte_carry.points_on(moved, mattes.matte_of(moved, matte.id), mattes.matte_of(moved, matte.id).shapes[0], frame)
            np.testing.assert_allclose(now - before[frame], np.tile([2.0, 1], (8, 1)), atol=0.5)  # it turns with the surface
        span = mattes.matte_of(matte_edits.key_shape(shot, matte.id, shape, 6, before[6] + [2, 1], "span", (5, 12)), matte.id).shapes[0]
        self.assertEqual(sorted(span.keys), [1, 6, 8])
        np.testing.assert_allclose(span.keys[1], mattes.matte_of(shot, matte.id).shapes[0].keys[1])

    def test_points_come_and_go_on_every_key(self) -> None:
        shot, matte = drawn()
        shape = matte.shapes[0].id
        shot = matte_edits.key_shape(shot, matte.id, shape, 8, outline(8))
        more = matte_edits.insert_point(shot, matte.id, shape, 2, 0.5)
        got = mattes.matte_of(more, matte.id).shapes[0]
        self.assertEqual({len(k) for k in got.keys.values()} | {len(got.roundness)}, {9})
        old, _ = flattened(bezier(np.array(outline(1)), np.ones(8)))
        new, _ = flattened(bezier(np.array(got.keys[1]), np.array(got.roundness)))
        self.assertLess(max(np.min(np.linalg.norm(old - p, axis=1)) for p in new), 2.5)  # the curve hardly moves
        less = matte_edits.remove_shape_points(more, matte.id, shape, {3})
        self.assertEqual(mattes.matte_of(less, matte.id), mattes.matte_of(shot, matte.id))
        with self.assertRaisesRegex(RegionError, "at least three"):
            matte_edits.remove_shape_points(shot, matte.id, shape, set(range(6)))
        with self.assertRaisesRegex(RegionError, "8 points"):
            matte_edits.key_shape(shot, matte.id, shape, 3, outline(3)[:5])

    def test_the_frame_that_wants_a_key_is_named(self) -> None:
        """Common practice: key where the shape changed most from its keys, then halve."""
        shot, matte = drawn()
        self.assertEqual(matte_edits.next_key_frame(shot, matte, 1, 12), 6)
        shot = matte_edits.key_shape(shot, matte.id, matte.shapes[0].id, 12, outline(12))
        shot = matte_edits.key_shape(shot, matte.id, matte.shapes[0].id, 6, outline(6))
        self.assertIn(matte_edits.next_key_frame(shot, mattes.matte_of(shot, matte.id), 1, 12), (3, 9))

    def test_shapes_are_joined_in_their_order(self) -> None:
        shot, matte = drawn()
        size, one = (440, 320), polygon_area(flattened(bezier(outline(1), np.ones(8)))[0], (0, 0, 440, 320))
        hole = outline(1).mean(0) + 0.4 * (outline(1) - outline(1).mean(0))
        two = polygon_area(flattened(bezier(hole + [30, 0], np.ones(8)))[0], (0, 0, 440, 320))
        for combine, wanted in (("add", one + two - one * two), ("subtract", one * (1 - two)), ("intersect", one * two),
                                ("exclude", one + two - 2 * one * two)):
            both = mattes.matte_of(matte_edits.add_shape(shot, matte.id, hole + [30, 0], 1, combine=combine), matte.id)
            np.testing.assert_allclose(matte_alpha(shot, both, 1, size), wanted, atol=1e-5)
            np.testing.assert_allclose(matte_alpha(shot, both.but(invert=True, opacity=0.5), 1, size), (1 - wanted) / 2, atol=1e-5)

    def test_blur_against_sixty_four_samples(self) -> None:
        shot, matte = drawn(shutter=180.0)
        size = (440, 320)
        motion = PlanarMotion(1, {f: placed(f) for f in FRAMES}, tracked().region.box)
        self.assertIsNotNone(motion.at(6.1))
        times = 6 + (np.arange(64) + 0.5) / 64 * 0.5 - 0.25
        still = matte.but(shutter=0.0)
        counted = np.mean([matte_alpha(shot, still, t, size) for t in times], axis=0)
        edge = (counted > 0.01) & (counted < 0.99)
        self.assertLess(np.abs(matte_alpha(shot, matte, 6, size) - counted)[edge].mean(), 2 / 255)

    def test_the_document_keeps_it(self) -> None:
        shot, matte = drawn(shutter=180.0, take="affine")
        with tempfile.TemporaryDirectory() as name:
            store.save(shot, Path(name) / "m.wertis")
            self.assertEqual(store.load(Path(name) / "m.wertis"), shot)
        self.assertIsNone(matte_carry.carrier(shot, matte, 99))
        self.assertEqual(float(matte_alpha(shot, matte, 99, (440, 320)).max()), 0)
        for wrong in (np.zeros((2, 2)), np.full((5, 2), np.nan)):
            with self.assertRaises(RegionError):
                mattes.new_shape(wrong, 1)
        many = mattes.new_shape(200 + 90 * np.column_stack([np.cos(np.linspace(0, 6.28, 10_000)), np.sin(np.linspace(0, 6.28, 10_000))]), 1)
        area = matte_alpha(shot, matte.but(shapes=(many,), on="", shutter=0.0), 1, (440, 320)).sum()
        self.assertAlmostEqual(area / (np.pi * 90 ** 2), 1, places=2)


class HeldOutTest(unittest.TestCase):
    def test_a_drawn_matte_is_held_out_of_another_track(self) -> None:
        shot, matte = drawn()
        wall = tracked().but(id="wall00000001", name="Wall")
        shot = matte_edits.hold_out_of(shot.with_track(wall), matte.id, wall.id)
        mask = HoldOutReader(shot, wall.id).mask(5, (440, 320))
        assert mask is not None
        np.testing.assert_allclose(mask / 255, matte_alpha(shot, matte, 5, (440, 320)), atol=1 / 255)
        held = shot.hold_outs(wall.id)[0]
        inverted = HoldOutReader(shot.with_item(held.but(invert=True)), wall.id).mask(5, (440, 320))
        np.testing.assert_array_equal(inverted, 255 - mask)
        with self.assertRaisesRegex(RegionError, "itself"):
            matte_edits.hold_out_of(shot, matte.id, matte.on)


class EdgeTest(unittest.TestCase):
    """The measured edge, on a film whose outline is known."""

    def setUp(self) -> None:
        made = tempfile.TemporaryDirectory()
        self.addCleanup(made.cleanup)
        self.folder = Path(made.name)
        plate = self.folder / "plate"
        plate.mkdir()
        for frame, picture in zip(FRAMES, film(), strict=True):
            cv2.imwrite(str(plate / f"f.{frame:04d}.png"), picture)
        self.shot = wertis.open(plate)
        track = tracked()
        self.shot._do("Track", self.shot.document.but(tracks=(track,)))
        self.figure = self.shot.surface("Figure")

    def test_a_spoilt_outline_is_measured(self) -> None:
        right = {f: outline(f) for f in (1, 4, 8, 12)}
        matte = self.shot.matte(right[1], 1, self.figure)
        for frame in (4, 8, 12):
            matte.key(frame, right[frame])
        told = matte.check([2, 6, 10])
        self.assertGreater(np.mean([m.reliable for on in told.values() for m in on.values()]), 0.66)
        self.assertLess(max(m.rms for on in told.values() for m in on.values()), 1.3)  # between keys the outline is a little off
        places = outline(6)
        places[2:4] += [4.0, 1.0]
        matte.key(6, places)
        (spoilt,) = matte.check([6])[6].values()
        self.assertGreater(spoilt.worst, 2.5)
        polygon, _ = flattened(bezier(outline(6), np.ones(8)))
        edge = spoilt.edge
        assert edge is not None
        found = (edge.places + edge.offsets[:, None] * edge.normals)[edge.reliable]
        t = np.linspace(0, 1, 40)[:, None]
        dense = np.concatenate([a + t * (b - a) for a, b in zip(polygon, np.roll(polygon, -1, 0), strict=True)])
        away = np.array([np.min(np.linalg.norm(dense - p, axis=1)) for p in found])
        self.assertGreater(np.mean(away < 0.5), 0.9)
        self.assertGreater(edge.reliable.mean(), 0.66)

    def test_an_edge_that_the_shutter_smears_is_followed_but_not_told(self) -> None:
        """A disc that moves by eight pixels across its sides while the shutter is open: found in the middle of the smear, and not counted as measured."""
        rng = np.random.default_rng(5)
        angle = np.linspace(0, 2 * np.pi, 160, endpoint=False)
        ring = np.array([150.0, 120]) + 70 * np.column_stack([np.cos(angle), np.sin(angle)])
        alpha = polygon_area(ring, (0, 0, 300, 240))
        there = np.float32([90, 140, 210]) + cv2.GaussianBlur(rng.normal(0, 60, (240, 300, 3)).astype(np.float32), (0, 0), 2)
        beyond = np.float32([90, 90, 95]) + cv2.GaussianBlur(rng.normal(0, 40, (240, 300, 3)).astype(np.float32), (0, 0), 2)
        sharp = beyond + alpha[..., None] * (there - beyond)
        kernel = np.full((1, 9), 1 / 8, np.float32)
        kernel[0, [0, 8]] /= 2
        wide = cv2.filter2D(alpha, -1, kernel)[..., None]
        seen = np.float32(cv2.filter2D(there * alpha[..., None], -1, kernel) + beyond * (1 - wide))
        outline_near = ring + [3.0, 0]
        known = KnownFrame(sharp.astype(np.float32), cv2.erode(alpha, np.ones((5, 5), np.uint8)), lambda p: p)
        edge = found_edge(seen, outline_near, np.arange(160.0), 160, [known], moved=np.full((160, 2), [8.0, 0]))
        across = np.abs(edge.normals[:, 0]) > 0.8  # smeared by more than six pixels
        self.assertGreater(edge.usable[across].mean(), 0.8)
        self.assertFalse(edge.reliable[across].any())
        measure = EdgeMeasure(edge)
        self.assertGreater(measure.usable, measure.reliable + 0.2)
        more = measure.usable - measure.reliable
        self.assertIn(f"{measure.reliable:.0%} of it told; a fit can follow {more:.0%} more, which is smeared", said_of(measure))
        nothing = EdgeMeasure(replace(edge, reliable=np.zeros_like(edge.reliable), usable=np.zeros_like(edge.usable)))
        self.assertEqual(said_of(nothing), "the edge cannot be told here")
        self.assertGreater(edge.reliable[np.abs(edge.normals[:, 0]) < 0.5].mean(), 0.6)
        found = edge.places + edge.offsets[:, None] * edge.normals
        off = np.linalg.norm(found - [150, 120], axis=1) - 70
        self.assertLess(np.sqrt(np.mean(off[edge.usable & across] ** 2)), 0.8)
        self.assertGreater(np.abs(np.linalg.norm(edge.places - [150, 120], axis=1) - 70)[across].mean(), 2)

    def test_on_which_frames_outlines_were_left_is_said(self) -> None:
        little, lost = "Shape 1 was left: too little of its edge can be told", "Shape 2 was left: its edge was lost on the way"
        self.assertEqual(said_left({little: {7}}), f"{little}, on frame 7")
        self.assertEqual(said_left({little: {3, 4, 5, 9}}), f"{little}, on 4 frames (3-5, 9)")
        self.assertEqual(said_left({little: {1, 3, 5, 7, 9}, lost: {3}}),
                         "Outlines were left on 5 frames (1, 3, 5 and more), mostly since too little of its edge can be told")

    def test_fitted_from_one_key_it_follows_the_figure(self) -> None:
        matte = self.shot.matte(outline(1), 1, self.figure)
        before = np.abs(matte.points(5) - outline(5)).max()
        left = matte.fit([f for f in FRAMES if f > 1])
        self.assertEqual(left, {})
        self.assertGreater(before, 2.5)
        for frame in FRAMES:
            size = self.shot.plate.size
            truth = polygon_area(flattened(bezier(outline(frame), np.ones(8)))[0], (0, 0, *size))
            self.assertLess(np.abs(matte.alpha(frame) - truth).sum() / 480, 1.0, frame)  # mean distance along an outline of 480 pixels
        self.shot.undo()
        self.assertEqual(list(matte.record.shapes[0].keys), [1])
        self.assertEqual(matte.fit([2, 12]), {}, "frames between that nobody asked for are not taken for lost")
        self.assertEqual(sorted(matte.record.shapes[0].keys), [1, 2, 12])

    def test_repaired_by_few_keys(self) -> None:
        matte = self.shot.matte(outline(1), 1, self.figure)
        matte.repair(1.0)
        self.assertLess(len(matte.record.shapes[0].keys), 8)
        truth = polygon_area(flattened(bezier(outline(7), np.ones(8)))[0], (0, 0, *self.shot.plate.size))
        self.assertLess(np.abs(matte.alpha(7) - truth).sum() / 480, 1.2)
        with self.assertRaisesRegex(WertisError, "more than 0"):
            matte.repair(0)

    def test_a_graphic_held_back_and_a_matte_written(self) -> None:
        grid = self.figure.place("checker", np.array([[150.0, 80], [300, 80], [300, 240], [150, 240]]), 1)
        whole = self.shot.frame(1)
        matte = self.shot.matte(outline(1), 1, self.figure, "Docker").hold_back(grid)
        held = self.shot.frame(1)
        plate = self.shot.plate.read(1)
        x, y = 220, 160
        np.testing.assert_array_equal(held[y, x], plate[y, x])  # the figure is in front, bit for bit
        self.assertTrue((whole[y, x] != plate[y, x]).any())
        matte.hold_back(grid, "limits")
        np.testing.assert_array_equal(self.shot.frame(1)[235, 295], plate[235, 295])
        path = self.shot.save(self.folder / "s.wertis")
        self.assertEqual(main(["matte", str(path), "--of", "Docker", "--out", str(self.folder / "m.####.png"), "--range", "1-3", "--quiet"]), 0)
        written = cv2.imread(str(self.folder / "m.0003.png"), cv2.IMREAD_UNCHANGED)
        np.testing.assert_allclose(written[..., 0] / 65535, matte.alpha(3), atol=1e-4)
        for wrong in (["--of", "Nobody"], [], ["--of", "Docker", "--track", "Figure"]):
            self.assertNotEqual(main(["matte", str(path), "--out", str(self.folder / "n.####.png"), "--quiet", *wrong]), 0)

    def test_shapes_go_out_and_come_back(self) -> None:
        matte = self.shot.matte(outline(1), 1, self.figure, "Docker", soft=2).shape_points(numbers=[3], roundness=0, outer=7)
        matte.key(6, outline(6)).add(outline(1) * 0.5 + 100, combine="subtract")
        path = self.shot.save(self.folder / "s.wertis")
        self.assertEqual(main(["export", str(path), "--what", "shapes", "--of", "Docker", "--out", str(self.folder / "d.json")]), 0)
        self.assertEqual(main(["export", str(path), "--what", "shapes", "--of", "Docker", "--out", str(self.folder / "d.####.svg")]), 0)
        self.assertEqual(len(list(self.folder.glob("d.*.svg"))), len(FRAMES))
        back = self.shot.matte(name="Back", carried_by=self.figure).read(self.folder / "d.json")
        for frame in FRAMES:
            np.testing.assert_allclose(back.alpha(frame), matte.alpha(frame), atol=2e-3)
        self.assertEqual([s.combine for s in back.record.shapes], ["add", "subtract"])
        one = self.shot.matte(name="One", frame=6).read(self.folder / "d.0006.svg")
        np.testing.assert_allclose(one.alpha(6), matte.alpha(6), atol=2e-3)
        text = (self.folder / "d.0006.svg").read_text()
        # the W3C's grammar: as others read it, the curve goes through our points (SVG 2, section 9.3)
        numbers = [float(v) for v in re.findall(r"-?\d+\.\d+", re.search(r' d="([^"]*)"', text)[1])]  # type: ignore[index]
        np.testing.assert_allclose(numbers[:2], matte.points(6, matte.shapes[0])[0], atol=1e-3)
        (self.folder / "circle.svg").write_text(
            '<svg xmlns="http://www.w3.org/2000/svg"><path d="M 1e2 50 C 127.6142 50 150 72.3858 150 100 C 150 127.6142 127.6142 150 100 150 '
            'C 72.3858 150 50 127.6142 50 100 C 50 72.3858 72.3858 50 100 50 Z"/></svg>')
        circle = self.shot.matte(name="Circle", frame=1).read(self.folder / "circle.svg")
        np.testing.assert_allclose(circle.points(1), [[100, 50], [150, 100], [100, 150], [50, 100]])
        for name, text in (("a.svg", "<svg"), ("b.svg", '<svg xmlns="http://www.w3.org/2000/svg"/>'), ("c.json", "{}"), ("d.json", '{"format": 3}'),
                           ("e.svg", '<!DOCTYPE x [<!ENTITY y "z">]><svg/>'),
                           ("f.svg", '<svg xmlns="http://www.w3.org/2000/svg"><path d="M 0 0 L 5 5 Z"/></svg>')):
            (self.folder / name).write_text(text)
            with self.assertRaises(WertisError, msg=name):
                back.read(self.folder / name)
        self.assertNotEqual(main(["export", str(path), "--what", "shapes", "--out", str(self.folder / "d.json")]), 0)

    def test_the_door_for_scripts(self) -> None:
        matte = self.shot.matte(outline(1), 1, self.figure, soft=3)
        matte.shape_points(numbers=[0], roundness=0, outer=9).change(shutter=180, fall="linear", take="similarity", name="Piece")
        record = self.shot.matte_named("Piece").record
        self.assertEqual((record.shapes[0].roundness[0], record.shapes[0].outer[0], record.shapes[0].inner[0], record.take), (0.0, 9.0, 3.0, "similarity"))
        second = matte.add(outline(1) + 20, combine="subtract")
        with self.assertRaisesRegex(WertisError, "2 shapes"):
            matte.key(3, outline(3))
        matte.key(3, outline(3) + 20, second)
        self.assertEqual(matte.next_key(), 2)  # between the keys that differ
        with self.assertRaisesRegex(WertisError, "shutter"):
            matte.change(shutter=5000)


def open_film(case: WindowCase) -> None:
    """Open the film in a case's window."""
    folder = case.folder / "figure"
    folder.mkdir()
    for frame, picture in zip(FRAMES, film(), strict=True):
        cv2.imwrite(str(folder / f"f.{frame:04d}.png"), picture)
    case.window.open_path(folder)
    case.until(lambda: case.window.viewer.picture is not None)


class MatteWindowTest(WindowCase):
    def test_a_piece_drawn_over_the_insert_softened_keyed_fitted_and_rendered(self) -> None:
        w, s = self.window, self.window.session
        open_film(self)
        s.history.do("Track", s.shot.but(tracks=(tracked(),)))
        s.select(s.shot.tracks[0].id)
        start = s.shot
        s.go_step("Use")
        w.steps["Use"].place()
        self.until(lambda: s.placement is not None)
        w.run_command("use.matte")
        self.spin()
        for place in outline(1):
            self.click(place)
        self.click(outline(1)[0])
        step, page = w.steps["Use"], w.steps["Use"].page.matte
        ident = s.shot.items[-1].id
        self.until(lambda: page.in_hand is not None)
        self.assertEqual(len(page.in_hand.roundness), 8)
        self.assertTrue(page.isVisibleTo(w) and not step.page.artwork.isVisibleTo(w))
        step.page.tint.click()
        grade = step.page.grade
        self.assertEqual(grade.grade.limited_to, (ident,))
        grade.saturation.setValue(20)
        grade.triples["slope"][0].setValue(1.5)
        self.assertEqual((grade.grade.saturation, grade.grade.slope), (0.2, (1.5, 1.0, 1.0)))
        self.assertTrue(grade.isVisibleTo(w) and not page.isVisibleTo(w))
        s.select(s.track_id, ident)
        self.spin()
        page.shapes.outer.setValue(3)
        page.whole.shutter.setValue(90)
        page.whole.of.setCurrentIndex(1)
        page.whole.of.activated.emit(1)
        self.assertEqual(s.shot.placements(s.track_id)[0].held_back, (page.matte.id,))
        self.until(lambda: w.viewer.picture_frame == 1)
        page.whole.look.setCurrentIndex(page.whole.look.findData("alone"))
        page.whole.look.activated.emit(1)
        alpha = matte_alpha(s.shot, page.matte, 1, s.plate.size)
        self.until(lambda: np.abs(w.viewer.picture[..., 0] / 255 - alpha).max() < 0.01)
        self.in_the_steady_view(page, alpha)
        page.whole.look.setCurrentIndex(0)
        page.whole.look.activated.emit(0)
        page.buttons["next"].click()
        self.assertEqual(s.frame, 6)
        self.spin()
        self.drag(w.viewer.tool._shapes()[-1].points[2], w.viewer.tool._shapes()[-1].points[2] + [9, 4])
        self.assertEqual(sorted(page.in_hand.keys), [1, 6])
        self.assertEqual(step.key_marks(), [1, 6])
        w.viewer.tool.double(w.viewer.tool._shapes()[-1].line[4], 3)
        self.assertEqual(len(page.in_hand.roundness), 9)
        page.buttons["measure"].click()
        self.until(lambda: w.job is None and len(step.mattes.edge.measured) == len(FRAMES), 60)
        self.assertIn("worst", page.edge.facts.text())
        self.assertNotIn(f"{page.in_hand.name}:", page.edge.facts.text(), "one shape needs no name")
        self.in_the_lanes(w, step)
        page.buttons["worst"].click()
        self.assertEqual(s.frame, step.mattes.edge.worst()[1])
        w.viewer.grab()
        s.go(6)
        page.buttons["fit"].click()
        self.until(lambda: w.job is None, 30)
        self.assertIn("Fitted", s.history.undo_label.replace("Fit to", "Fitted to"))
        self.assertTrue(step.move_key_mark(6, 8, True))
        self.assertEqual(step.key_marks(), [1, 6, 8])
        page.buttons["clear"].click()
        self.assertEqual(step.key_marks(), [1, 8])
        page.shapes.way.setCurrentIndex(page.shapes.way.findData("rectangle"))
        page.buttons["draw"].click()
        self.spin()
        self.drag(np.array([60.0, 40]), np.array([120.0, 90]))
        self.until(lambda: len(page.matte.shapes) == 2)
        self.assertEqual(page.in_hand.roundness, (0.0,) * 4)
        page.buttons["remove"].click()
        self.assertEqual(len(page.matte.shapes), 1)
        s.go_step("Check")
        self.spin(0.3)  # seen in the steady view
        out = self.folder / "out" / "comp.####.png"
        w.steps["Deliver"].render("comp", str(out))
        self.until(lambda: w.job is None, 60)
        self.assertEqual(len(list(out.parent.glob("*.png"))), len(FRAMES))
        s.go_step("Deliver")
        deliver = w.steps["Deliver"].page
        deliver.show_state()
        deliver.what.setCurrentIndex(deliver.what.findText(f"Matte: {s.shot.item(ident).name}"))
        self.assertEqual(deliver.what.currentText(), f"Matte: {s.shot.item(ident).name}")
        w.steps["Deliver"].render(deliver.what.currentData(), str(self.folder / "out" / "matte.####.png"))
        self.until(lambda: w.job is None, 60)
        self.assertEqual(len(list(out.parent.glob("matte.*.png"))), len(FRAMES))
        while s.shot != start and s.history.undo_label:
            w.undo()
        self.assertEqual(s.shot, start)

    def in_the_lanes(self, w: MainWindow, step: UseStep) -> None:
        """Its keys and how far it is off, though no track is in hand; the keys lie where they are taken hold of."""
        s = w.session
        s.select("", step.page.matte.matte.id)
        self.spin()
        self.assertIsNone(s.track)
        lanes, ground = w.lanes, 22 + 16 + 6 + 46
        picture = lanes.grab().toImage()

        def painted(x: float, height: float, colour: QColor) -> bool:
            near = (picture.pixelColor(round(x) + i, round(ground - height) + j) for i in (-1, 0, 1) for j in (-1, 0, 1))
            return any(abs(c.red() - colour.red()) + abs(c.green() - colour.green()) + abs(c.blue() - colour.blue()) < 60 for c in near)

        for frame in step.key_marks():
            self.assertTrue(painted(lanes.x_of(frame), 15.5, theme.PAPER), frame)
            self.assertEqual(lanes._mark_at(QPointF(lanes.x_of(frame), ground - 15.5)), frame)
        measured = step.measured()
        self.assertTrue(measured)
        highest = max(2.0, *measured.values())
        shown = [painted(lanes.x_of(f), 43 * (v / highest) ** 0.5, theme.AMBER) for f, v in measured.items() if f != s.frame and f not in step.key_marks()]
        self.assertGreater(np.mean(shown), 0.6)
        s.select(s.shot.tracks[0].id, step.page.matte.matte.id)
        self.spin()

    def in_the_steady_view(self, page: MatteFields, alpha: np.ndarray) -> None:
        """The matte alone, seen and changed in the steady view, which comes when it is asked for whatever panes were chosen."""
        w, s = self.window, self.window.session
        w.display.set_looks(w.display.looks._replace(panes="plate"))
        self.assertFalse(w.steady.isVisible())
        page.whole.steady.click()
        self.assertTrue(w.steady.isVisible() and w.viewer.isVisible())
        self.until(lambda: w.steady.picture is not None and w.steady.through is not None)
        h, width = w.steady.picture.shape[:2]
        laid = warped(np.round(alpha * 255).astype(np.uint8), w.steady.through, (width, h))
        self.assertLess(np.abs(w.steady.picture[..., 0].astype(float) - laid).mean(), 2)
        at, before = w.viewer.tool._shapes()[-1].points[2], page.in_hand
        self.drag_in(w.steady, at, at + [6, -3])
        np.testing.assert_allclose(w.viewer.tool._shapes()[-1].points[2] - at, [6, -3], atol=1.0)
        self.assertEqual(sorted(page.in_hand.keys), sorted(before.keys))
        w.undo()
        self.spin()
        page.shapes.way.setCurrentIndex(page.shapes.way.findData("rectangle"))
        page.buttons["draw"].click()
        self.spin()
        corners = np.array([[60.0, 40], [100.0, 70]])
        self.drag_in(w.steady, *corners)
        self.until(lambda: len(page.matte.shapes) == 2)
        drawn = np.array(w.viewer.tool._shapes()[-1].points)
        np.testing.assert_allclose([drawn.min(0), drawn.max(0)], corners, atol=4)  # upright in the picture; the surface is nearly so
        w.undo()
        self.spin()
        page.whole.steady.click()
        self.assertFalse(w.steady.isVisible())
        w.display.set_looks(w.display.looks._replace(panes="beside"))
        s.select(s.track_id, page.matte.id)


del WindowCase


if __name__ == "__main__":
    unittest.main()
