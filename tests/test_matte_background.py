"""What lies behind a figure, the colours on both sides of its edge, and its tips: how they tell an outline that grows into what was never seen."""

import tempfile
import unittest
from pathlib import Path

import cv2
import numpy as np

import wertis
from wertis.core.errors import PlateError
from wertis.core.jobs.matte_background import FigureBackground
from wertis.core.jobs.matte_edge import EdgeFinder
from wertis.core.jobs.matte_tips import SharpTips
from wertis.core.matte.coverage import polygon_area
from wertis.core.matte.edge import Edge, KnownBackground, KnownFrame, found_edge
from wertis.core.matte.edge_evidence import Side, costs
from wertis.core.matte.outline import bezier, flattened
from wertis.core.plate.open import open_plate
from wertis.core.shot.matte_carry import Carrier
from wertis.core.shot.mattes import MatteShape
from wertis.scripting.mattes import DrawnMatte

SIZE = (300, 240)
FRAMES = range(1, 11)
TIP, BUMP = 0, 6  # numbers of the outline's points: a pointed corner that grows, and a round part that does


def outline(frame: float) -> np.ndarray:
    """(12, 2) a figure that slides to the right, whose tip grows by four pixels a frame and whose bump by three."""
    angle = 2 * np.pi * np.arange(12) / 12
    radius = np.full(12, 52.0)
    radius[TIP] += 24 + 4 * (frame - 1)
    radius[BUMP] += 3 * (frame - 1)
    return np.array([130.0 + 5 * (frame - 1), 120]) + radius[:, None] * np.column_stack([np.cos(angle), np.sin(angle)])


def alpha_on(frame: float) -> np.ndarray:
    return polygon_area(flattened(bezier(outline(frame), ROUND))[0], (0, 0, *SIZE))


ROUND = np.where(np.arange(12) == TIP, 0.0, 1.0)


def film() -> list[np.ndarray]:
    """(240, 300, 3) each: dark stripes that a step goes along on the figure, as sharp as its own edge, before a still background of grey blobs."""
    rng = np.random.default_rng(12)
    behind = 110 + cv2.GaussianBlur(rng.normal(0, 1, (SIZE[1], SIZE[0], 1)).astype(np.float32), (0, 0), 4)[..., None] * np.float32(400)
    behind = np.clip(behind, 20, 200).repeat(3, 2)
    y, x = np.mgrid[:SIZE[1], :SIZE[0]]
    pictures = []
    for frame in FRAMES:
        middle = [130.0 + 5 * (frame - 1), 120]
        away = np.hypot(x + 0.5 - middle[0], y + 0.5 - middle[1])
        own = np.where(away[..., None] < 46, np.float32([60, 50, 160]), np.float32([190, 120, 40]))  # beyond the step nothing was shown at first
        own = cv2.GaussianBlur(own.astype(np.float32), (0, 0), 0.6) + rng.normal(0, 3, own.shape)
        pictures.append(behind + alpha_on(frame)[..., None] * (own - behind) + rng.normal(0, 1.5, behind.shape))
    return [np.clip(p, 0, 255).astype(np.uint8) for p in pictures]


def away(points: np.ndarray, roundness: np.ndarray, places: np.ndarray) -> np.ndarray:
    """(n,) how far places (n, 2) lie from an outline through points (N, 2)."""
    found, t = flattened(bezier(points, roundness))[0], np.linspace(0, 1, 20, endpoint=False)[:, None]
    dense = np.concatenate([a + t * (b - a) for a, b in zip(found, np.roll(found, -1, 0), strict=True)])
    return np.array([np.linalg.norm(dense - place, axis=1).min() for place in places])


def written(case: type[unittest.TestCase], pictures: list[np.ndarray]) -> Path:
    """A folder with pictures (h, w, 3) as f.0001.png and so on, for as long as a class of tests runs."""
    folder = tempfile.TemporaryDirectory()
    case.addClassCleanup(folder.cleanup)
    for frame, picture in enumerate(pictures, 1):
        cv2.imwrite(str(Path(folder.name) / f"f.{frame:04d}.png"), picture[..., ::-1])
    return Path(folder.name)


class GrowingFigure(unittest.TestCase):
    folder: Path

    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = written(cls, film())
        corners = np.array([[80.0, 70], [180, 70], [180, 170], [80, 170]])
        lines = ["frame,x1,y1,x2,y2,x3,y3,x4,y4"] + [f"{f}," + ",".join(f"{v:.4f}" for v in (corners + [5.0 * (f - 1), 0]).ravel()) for f in FRAMES]
        (cls.folder / "figure.csv").write_text("\n".join(lines) + "\n")

    def drawn(self) -> DrawnMatte:
        shot = wertis.open(self.folder / "f.####.png")
        matte = shot.matte(outline(1), 1, shot.import_motion(self.folder / "figure.csv", name="Figure"))
        matte.shape_points(numbers=[TIP], roundness=0.0)
        return matte

    def off(self, matte: DrawnMatte, frame: int) -> np.ndarray:
        """(n,) how far places of the true outline lie from the matte's."""
        points = matte.points(frame)
        assert points is not None
        return away(points, ROUND, flattened(bezier(outline(frame), ROUND))[0])


class FittedTest(GrowingFigure):
    def test_from_the_first_outline_alone(self) -> None:
        """Within tenths of a pixel, the ends of tip and bump too, though they show what no frame had shown, beside a step as sharp as the edge."""
        matte = self.drawn()
        before = self.off(matte, 10)
        self.assertGreater(before.max(), 25)
        self.assertEqual(matte.fit(FRAMES[1:]), {})
        for frame in FRAMES[1:]:
            off = self.off(matte, frame)
            self.assertLess(np.sqrt(np.mean(off ** 2)), 0.2, f"frame {frame}")
            self.assertLess(off.max(), 1.0, f"frame {frame}")

    def test_a_frame_that_cannot_be_read_is_done_without(self) -> None:
        matte = self.drawn()
        broken = self.folder / "f.0005.png"
        kept = broken.read_bytes()
        self.addCleanup(broken.write_bytes, kept)
        broken.write_bytes(kept[:200])
        left = matte.fit(range(2, 7))
        self.assertEqual({note.split(":")[0] for note in left.values()}, {"Shape was left"})
        self.assertEqual(set(left), {5})
        self.assertLess(np.sqrt(np.mean(self.off(matte, 6) ** 2)), 0.7)


class FigureBackgroundTest(GrowingFigure):
    def background(self, finder: EdgeFinder, matte: DrawnMatte, scale: float = 1.0) -> tuple[FigureBackground, MatteShape, Carrier]:
        item, document = matte.record, matte.shot.document
        shape, carried = item.shapes[0], Carrier(document, item)
        return FigureBackground(finder.picture, carried, shape, list(FRAMES), 0.25, scale), shape, carried

    def test_what_the_figure_left_behind_is_known(self) -> None:
        finder = EdgeFinder(open_plate(self.folder / "f.####.png"))
        background, _, _ = self.background(finder, self.drawn())
        behind = background.near(1, outline(1), 8)
        assert behind is not None
        # what it hides on its left on frame 1, later frames show: it is uncovered by what the outline's room leaves of the way it goes
        true = finder.picture(10)
        x, y = np.array([86, 120]) - behind.corner.astype(int)
        self.assertTrue(behind.known[y, x])
        np.testing.assert_allclose(behind.picture[y - 3:y + 4, x - 3:x + 4].mean(), true[117:124, 83:90].mean(), atol=3)
        self.assertFalse(behind.known[y, 130 - int(behind.corner[0])], "its middle is never seen")
        self.assertIsNone(background.near(99, outline(1), 8))

    def test_half_the_resolution(self) -> None:
        finder = EdgeFinder(open_plate(self.folder / "f.####.png"))
        background, _, _ = self.background(finder, self.drawn(), 0.5)
        behind = background.near(6, outline(6), 8)
        assert behind is not None
        self.assertEqual(background.size(6), (SIZE[0] // 2, SIZE[1] // 2))
        self.assertLess(behind.known.shape[1], SIZE[0] // 2 + 1)
        edge = found_edge(finder.picture(6), *flattened(bezier(outline(6), ROUND)), 12, [], 6, background=behind)
        self.assertGreater(edge.usable.mean(), 0.5)

    def test_a_frame_that_is_not_there_is_left_out_and_the_frame_itself_is_said(self) -> None:
        finder = EdgeFinder(open_plate(self.folder / "f.####.png"))
        read = finder.picture

        def picture(frame: int) -> np.ndarray:
            if frame == 4:
                raise PlateError("gone")
            return read(frame)

        finder.picture = picture  # type: ignore[method-assign]
        background, _, _ = self.background(finder, self.drawn())
        behind = background.near(8, outline(8), 8)
        assert behind is not None
        self.assertTrue(behind.known.any())
        self.assertFalse(background.has(4))
        self.assertTrue(background.has(5))
        with self.assertRaises(PlateError):
            self.background(finder, self.drawn())[0].at(4, (0, 0, 50, 50))

    def test_a_tip_is_found_where_it_has_grown_to(self) -> None:
        matte = self.drawn()
        finder = EdgeFinder(open_plate(self.folder / "f.####.png"))
        matte.key(2, outline(2))
        points = outline(3)
        points[TIP] -= [7.0, 0]  # so much too short
        matte.key(3, points)
        background, shape, carried = self.background(finder, matte)
        moves, tips = SharpTips(background, carried, finder.size).found(shape, 3, [2, 1], 1.0)
        self.assertEqual(set(tips), {TIP})
        np.testing.assert_allclose(points[TIP] + moves[TIP], outline(3)[TIP], atol=1.5)
        self.assertFalse(moves[3:9].any(), "what is far from the tip stays")


class EvidenceTest(unittest.TestCase):
    """One row of places across an edge: dark inside, light outside."""

    def setUp(self) -> None:
        self.across = np.arange(-8, 8.5, 1.0)
        dark, light = np.float32([40, 40, 40]), np.float32([200, 200, 200])
        self.seen = np.repeat(np.where(self.across[None, :, None] < 0, dark, light), 40, 0).astype(np.float32)
        self.nothing = np.zeros(self.seen.shape[:2], bool)
        self.all = np.broadcast_to(self.across < -4, self.seen.shape[:2]), np.broadcast_to(self.across > 4, self.seen.shape[:2])

    def side(self, colour: float, known: bool, inner: bool, samples: bool = False) -> Side:
        return Side(np.full_like(self.seen, colour), np.full(self.nothing.shape, known), self.all[0 if inner else 1],
                    self.all[0 if inner else 1] if samples else self.nothing)

    def told(self, figure: Side, background: Side, round_about: bool = False) -> tuple[float, float]:
        """Mean costs inside and outside; negative where it looks like the figure."""
        cost = costs(self.seen, self.across, figure, background, round_about)[int(round_about)]
        return float(cost[:, self.across < 0].mean()), float(cost[:, self.across > 0].mean())

    def test_each_side_tells_and_both_tell_more(self) -> None:
        figure, background = self.side(40, True, True), self.side(200, True, False)
        unknown = self.side(0, False, True), self.side(0, False, False)
        for inside, outside in (self.told(figure, unknown[1]), self.told(unknown[0], background)):
            self.assertLess(inside, 0)
            self.assertGreater(outside, 0)
        inside, outside = self.told(figure, background)
        self.assertLess(inside, -3)
        self.assertGreater(outside, 3)
        np.testing.assert_array_equal(costs(self.seen, self.across, *unknown, True), 0)

    def test_colours_round_about_stand_in(self) -> None:
        sides = self.side(0, False, True, True), self.side(0, False, False, True)
        inside, outside = self.told(*sides, True)
        self.assertLess(inside, -3)
        self.assertGreater(outside, 3)
        np.testing.assert_array_equal(self.told(*sides), 0)

    def test_sides_of_one_colour_tell_nothing(self) -> None:
        self.seen[:] = 90
        np.testing.assert_allclose(self.told(self.side(0, False, True, True), self.side(0, False, False, True), True), 0, atol=1e-3)


class BeyondTest(unittest.TestCase):
    def edge(self, background: KnownBackground | None, depth: float) -> tuple[Edge, np.ndarray]:
        """A disc's edge along an outline that has a dent of a `depth`, and which places (n,) are well in that."""
        angle = np.linspace(0, 2 * np.pi, 240, endpoint=False)
        unit = np.column_stack([np.cos(angle), np.sin(angle)])
        alpha = polygon_area([120, 100] + 60 * unit, (0, 0, 240, 200))[..., None]
        grain = np.random.default_rng(2).normal(0, 2, (200, 240, 3))
        seen = (np.float32([180, 60, 40]) * alpha + np.float32([70, 90, 80]) * (1 - alpha) + grain).astype(np.float32)
        known = KnownFrame(seen, cv2.erode(alpha[..., 0], np.ones((65, 65), np.uint8)), lambda p: p)  # its middle alone is known
        dent = np.clip(3 * np.cos(angle) - 1.5, 0, 1)[:, None]
        edge = found_edge(seen, [120, 100] + (60 - depth * dent) * unit, np.arange(240.0), 240, [known], 6.0, background=background)
        return edge, np.abs((edge.along + 120) % 240 - 120) < 18

    def test_an_edge_beyond_the_reach_is_walked_to(self) -> None:
        behind = KnownBackground(np.full((200, 240, 3), [70, 90, 80], np.float32), np.ones((200, 240), bool), np.zeros(2))
        edge, dent = self.edge(behind, 14.0)
        self.assertTrue(edge.beyond[dent].all())
        self.assertFalse(edge.usable[dent].any())
        np.testing.assert_allclose(edge.offsets[dent], 6, atol=0.6)
        self.assertFalse(edge.beyond[np.abs(edge.along - 120) < 60].any())
        edge, dent = self.edge(behind, 4.0)
        self.assertFalse(edge.beyond.any())
        self.assertTrue(edge.usable[dent].all())
        np.testing.assert_allclose(edge.offsets[dent], 4, atol=0.4)

    def test_nothing_is_known_beyond_without_evidence(self) -> None:
        self.assertFalse(self.edge(None, 14.0)[0].beyond.any())
