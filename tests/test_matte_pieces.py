"""Figures that keys move, without a track, and that are split in pieces: what is known of them goes along, and what pieces hide is left out."""

import unittest
from pathlib import Path

import cv2
import numpy as np

import wertis
from tests.test_matte_background import away, written
from wertis.core.geometry import homography
from wertis.core.jobs.matte_background import FigureBackground
from wertis.core.jobs.matte_edge import EdgeFinder, visible_corners
from wertis.core.matte.background import RegisteredBackground
from wertis.core.matte.coverage import mean_area, polygon_area
from wertis.core.matte.outline import bezier, flattened
from wertis.core.matte.outline_smoother import smoothed
from wertis.core.matte.registration import agrees
from wertis.core.shot.matte_carry import Carrier
from wertis.core.shot.matte_pieces import other_pieces, within
from wertis.core.shot.matte_pose import FigurePose
from wertis.core.shot.mattes import new_shape
from wertis.scripting.mattes import DrawnMatte

SIZE = (320, 240)
FRAMES = range(1, 14)
KEYS = (1, 5, 9, 13)
LIMB = np.array([[-60.0, -14], [-20, -17], [20, -16], [48, -9], [54, 0], [48, 9], [20, 16], [-20, 17], [-60, 14]])
LIMB_ROUND = np.array([0.0, 1, 1, 1, 1, 1, 1, 1, 0])
SLEEVE = np.array([[-120.0, -24], [-52, -20], [-52, 20], [-120, 24]])  # over the limb's end, and out of the picture
SLEEVE_ROUND = np.zeros(4)


def pose(time: float) -> tuple[np.ndarray, float]:
    """Where the limb is, and how it is turned in radians."""
    return np.array([60.0 + 30 * np.sin((time - 1) / 4.2), 120 + 14 * np.sin((time - 1) / 2.4)]), 0.35 * np.sin((time - 1) / 2.8)


def piece(outline: np.ndarray, time: float) -> np.ndarray:
    middle, turn = pose(time)
    c, s = np.cos(turn), np.sin(turn)
    return middle + outline @ np.array([[c, s], [-s, c]]) + [40, 0]


def film() -> list[np.ndarray]:
    """(240, 320, 3) each: a blotched limb in a sleeve before a still wall, with the shutter open for half of each frame, darker from frame to frame."""
    rng = np.random.default_rng(4)
    wall = np.clip(120 + 300 * cv2.GaussianBlur(rng.normal(0, 1, (SIZE[1], SIZE[0], 3)).astype(np.float32), (0, 0), 3), 20, 230)
    skin = np.clip(170 + 250 * cv2.GaussianBlur(rng.normal(0, 1, (80, 240, 3)).astype(np.float32), (0, 0), 4) * np.float32([1, .5, .3]), 60, 250)
    pictures = []
    for frame in FRAMES:
        total = np.zeros_like(wall)
        times = frame + (np.arange(8) + 0.5) / 16 - 0.25
        for time in times:
            seen = wall.copy()
            middle, turn = pose(time)
            c, s = np.cos(turn), np.sin(turn)
            onto = np.array([[c, -s, middle[0] + 40], [s, c, middle[1]]]) @ np.array([[1, 0, -120.0], [0, 1, -40], [0, 0, 1]])
            lit = cv2.warpAffine(skin * np.float32(1.1 - 0.02 * frame), onto, SIZE, borderMode=cv2.BORDER_REFLECT)
            for outline, round_, colour in ((LIMB, LIMB_ROUND, lit), (SLEEVE, SLEEVE_ROUND, np.float32([40, 60, 130]))):
                alpha = polygon_area(flattened(bezier(piece(outline, time), round_))[0], (0, 0, *SIZE))[..., None]
                seen = seen + alpha * (colour - seen)
            total += seen / len(times)
        pictures.append(np.clip(total + rng.normal(0, 1.5, wall.shape), 0, 255).astype(np.uint8))
    return pictures


class Arm(unittest.TestCase):
    folder: Path

    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = written(cls, film())

    def drawn(self) -> DrawnMatte:
        matte = wertis.open(self.folder / "f.####.png").matte(None, 1, None, "Arm")
        for name, outline, round_ in (("Limb", LIMB, LIMB_ROUND), ("Sleeve", SLEEVE, SLEEVE_ROUND)):
            ident = matte.add(piece(outline, 1), 1)
            for k, each in enumerate(round_):
                matte.shape_points(ident, [k], roundness=float(each))
            for key in KEYS[1:]:
                matte.key(key, piece(outline, key), ident)
            matte.change_shape(ident, name=name)
        matte.change(shutter=180.0)
        return matte

    def off(self, matte: DrawnMatte, frame: int) -> float:
        """Pixels (rms) by which what can be seen of the limb's outline lies off."""
        points = matte.points(frame, matte.record.shapes[0].id)
        assert points is not None
        true = flattened(bezier(piece(LIMB, frame), LIMB_ROUND))[0]
        true = true[np.linalg.norm(true - piece(np.array([[-60.0, 0]]), frame), axis=1) > 28]
        return float(np.sqrt(np.mean(away(points, LIMB_ROUND, true) ** 2)))


class FittedArmTest(Arm):
    def test_between_keys_it_is_brought_to_the_edge(self) -> None:
        matte = self.drawn()
        between = [f for f in FRAMES if f not in KEYS and not 6 <= f <= 8]  # two of the stretches between keys
        before = [self.off(matte, f) for f in between]
        truth = {f: mean_area([flattened(bezier(piece(LIMB, f + part), LIMB_ROUND))[0] for part in np.linspace(-.25, .25, 33)], (0, 0, *SIZE))
                 for f in between}
        self.assertGreater(np.mean(before), 1)
        self.assertEqual(matte.fit(between), {})
        after = [self.off(matte, f) for f in between]
        self.assertLess(max(after), 0.5, after)
        limb = matte.record.shapes[0].id
        for frame in between:
            shown = slice(0, SIZE[1]), slice(int(piece(LIMB, frame)[1, 0]) + 4, SIZE[0])  # beside the sleeve
            off = np.abs(matte.alpha(frame, limb)[shown] - truth[frame][shown])
            self.assertLess(off[truth[frame][shown] > 0].mean(), 0.02, f"frame {frame}")

    def test_what_another_piece_hides_is_not_told(self) -> None:
        matte = self.drawn()
        found = matte.check([5])[5]
        limb = matte.record.shapes[0]
        edge = found[limb.id].edge
        assert edge is not None
        hidden = within(other_pieces(matte.record, limb), Carrier(matte.shot.document, matte.record), 5, edge.places)
        self.assertGreater(hidden.sum(), 2)
        self.assertFalse(edge.usable[hidden].any())
        self.assertGreater(edge.usable[~hidden].mean(), 0.6)

    def test_corners_that_are_hidden_or_outside_are_not_shown(self) -> None:
        matte = self.drawn()
        carried = Carrier(matte.shot.document, matte.record)
        limb, sleeve = matte.record.shapes
        self.assertEqual(visible_corners(carried, limb, 1, SIZE), [], "both lie in the sleeve")
        self.assertEqual(visible_corners(carried, sleeve, 1, SIZE), [1, 2], "the others lie left of the picture")

    def test_other_pieces_are_no_background(self) -> None:
        matte = self.drawn()
        limb, sleeve = matte.record.shapes
        finder, carried = EdgeFinder(matte.shot.plate), Carrier(matte.shot.document, matte.record)
        x, y = piece(np.array([[-70.0, 0]]), 5)[0].astype(int)
        alone, beside = (FigureBackground(finder.picture, carried, limb, list(FRAMES), 0.25, beside=pieces).at(5, (0, 0, *SIZE))[1]
                         for pieces in ([], [sleeve]))
        self.assertTrue(alone[y, x], "the sleeve would be taken for what lies behind")
        self.assertFalse(beside[y, x])
        self.assertTrue(beside[20, 300])


class PoseTest(unittest.TestCase):
    def test_keys_that_move_it_as_a_whole(self) -> None:
        shape = new_shape(piece(LIMB, 1), 1)
        shape = shape.but(keys={f: new_shape(piece(LIMB, f), f).keys[f] for f in KEYS})
        found = FigurePose(shape)
        self.assertTrue(found.moves)
        for key in KEYS:
            np.testing.assert_allclose(homography.apply(found.at(shape, key), piece(LIMB, 1)), piece(LIMB, key), atol=1e-6)
        moved = found.moved(shape, [1, 9])
        assert moved is not None
        np.testing.assert_allclose(moved[1], piece(LIMB, 9), atol=1e-6)

    def test_keys_that_change_its_outline_alone_or_hardly_do(self) -> None:
        rng = np.random.default_rng(3)
        for change in (rng.normal(0, 4, LIMB.shape), np.full(LIMB.shape, 1.0)):
            shape = new_shape(LIMB, 1)
            shape = shape.but(keys={**shape.keys, 5: new_shape(LIMB + change, 5).keys[5]})
            found = FigurePose(shape)
            self.assertFalse(found.moves)
            np.testing.assert_array_equal(found.at(shape, 5), np.eye(3))
            self.assertIsNone(found.moved(shape, [1, 5]))

    def test_what_lies_between_keys_goes_with_the_whole(self) -> None:
        """Far and fast as it goes, a frame without measurements is where its motion as a whole takes it."""
        moved = np.array([LIMB + [40.0 * t, 0] for t in range(5)])
        base, fixed = moved + np.sin(np.arange(5))[:, None, None] * 0.01, np.array([True, True, False, True, True])
        points, _ = smoothed(base, np.arange(5.0), fixed, {}, [], moved=moved)
        np.testing.assert_allclose(points[2], moved[2], atol=0.1)
        slow, _ = smoothed(base[:3], np.arange(3.0), fixed[:3], {}, [])
        self.assertGreater(np.abs(slow[2] - moved[2]).max(), 5, "without it, it would be slowed down")


class DepthTest(unittest.TestCase):
    """A camera that shifts sideways before a near wall and a far one, with a patch of the near one hidden on each frame."""

    def test_the_plane_round_about_the_figure_counts(self) -> None:
        rng = np.random.default_rng(8)
        far, near = (np.clip(128 + 500 * cv2.GaussianBlur(rng.normal(0, 1, (240, 500)).astype(np.float32), (0, 0), 3), 0, 255) for _ in range(2))

        def seen(frame: int) -> np.ndarray:
            picture = far[:, 2 * frame:2 * frame + 320].copy()
            picture[60:] = near[60:, 9 * frame:9 * frame + 320]
            return np.repeat(picture[..., None], 3, 2)

        def hidden(frame: int) -> np.ndarray:
            mask = np.zeros((240, 320), bool)
            mask[130:190, 100 + 14 * frame:150 + 14 * frame] = True
            return mask

        def covered(frame: int) -> np.ndarray:
            return cv2.dilate(hidden(frame).astype(np.uint8), np.ones((5, 5), np.uint8)) > 0

        def read(frame: int) -> np.ndarray:
            return np.round(np.where(hidden(frame)[..., None], 0, seen(frame).clip(0, 255)) * 64).astype(np.uint16)

        background = RegisteredBackground(read, covered, list(range(9)), 64)
        box = 120, 120, 260, 200
        picture, known = background.at(4, box)
        self.assertGreater(known.mean(), 0.95)
        off = np.abs(picture - seen(4)[120:200, 120:260])[known]
        self.assertLess(float(off.mean()), 2)
        moved = np.abs(seen(4)[120:200, 122:262] - seen(4)[120:200, 120:260]).mean()
        self.assertGreater(moved, 15, "two pixels beside it would be seen")

    def test_a_picture_that_is_taken_two_pixels_aside_does_not_agree(self) -> None:
        rng = np.random.default_rng(9)
        wall = np.clip(128 + 400 * cv2.GaussianBlur(rng.normal(0, 1, (240, 330)).astype(np.float32), (0, 0), 3), 0, 255)
        first, last = ((wall[:, k:k + 320] + rng.normal(0, 2, (240, 320))).clip(0, 255).astype(np.uint8) for k in (0, 5))
        figure, nothing = np.zeros((240, 320), bool), np.zeros((240, 320), bool)
        figure[100:140, 140:180] = True
        for off, agree in ((0.0, True), (0.5, True), (2.5, False)):
            self.assertIs(agrees((first, figure), (last, nothing), homography.translation(-5 + off, 0)), agree, f"{off} px")
        self.assertTrue(agrees((first, ~figure), (last, ~figure), homography.translation(60, 0)), "where nothing is shared nothing speaks against it")


if __name__ == "__main__":
    unittest.main()
