"""Outlines of figures that the shutter smears: layers composed, texture and background learnt, and what they tell of an outline."""

import unittest
from dataclasses import replace
from unittest import mock

import cv2
import numpy as np

from tests.test_outline_smoother import SmearedFilm
from wertis.core.geometry import homography
from wertis.core.jobs import matte_exposure, matte_series
from wertis.core.matte.background import RegisteredBackground
from wertis.core.matte.exposure import Exposure, Texture, blank_texture, composed, explained_offsets, gain_compensated, laid, learned, unexplained

SIZE = (160, 120)


def noise(seed: int, width: float, size: tuple[int, int] = SIZE, mean: float = 120.0, amount: float = 40.0) -> np.ndarray:
    """(h, w, 3) a smooth random picture."""
    rough = cv2.GaussianBlur(np.random.default_rng(seed).normal(0, 1, (size[1], size[0], 3)).astype(np.float32), (0, 0), width)
    return np.clip(mean + amount * rough / rough.std(), 0, 255).astype(np.float32)


def moves(travel: tuple[float, float], at: tuple[float, float] = (0, 0), count: int = 16) -> np.ndarray:
    """(M, 3, 3) an even motion over an exposure, about a place."""
    part = (np.arange(count) + 0.5) / count - 0.5
    return np.array([homography.translation(at[0] + p * travel[0], at[1] + p * travel[1]) for p in part])


def disc(radius: float = 30.0, count: int = 90) -> np.ndarray:
    angle = 2 * np.pi * np.arange(count) / count
    return np.array([80.0, 60]) + radius * np.column_stack([np.cos(angle), np.sin(angle)])


TEXTURE = noise(3, 3.0, mean=160.0)
UNIT = 64


def exposed(travel: tuple[float, float], at: tuple[float, float] = (0, 0), outline: np.ndarray | None = None, grain: float = 1.5) -> Exposure:
    """A textured disc that moves over a background for the time of an exposure, made of four times as many instants as it is looked at with."""
    behind, fine = noise(5, 4.0, mean=70.0), moves(travel, at, 64)
    empty = Exposure(np.zeros_like(behind), behind, np.ones(behind.shape[:2], bool), fine, homography.translation(*at))
    texture = blank_texture(disc(), 1.0, 40)
    alpha, colour = composed(empty, laid(empty, with_picture(texture)), disc() if outline is None else outline)
    picture = colour + (1 - alpha[..., None]) * behind + np.random.default_rng(7).normal(0, grain, behind.shape)
    return Exposure(picture.astype(np.float32), behind, empty.known, moves(travel, at), empty.middle)


def with_picture(texture: Texture) -> Texture:
    """A texture that shows TEXTURE where that lies in the surface's picture."""
    h, w = texture.colours.shape[:2]
    return Texture(cv2.warpPerspective(TEXTURE, texture.place, (w, h), borderMode=cv2.BORDER_REFLECT), texture.place,
                   np.ones((h, w), bool))


class GainTest(unittest.TestCase):
    def test_a_figure_that_is_lit_otherwise(self) -> None:
        """By a third more in red and a fifth less in blue than where its texture was learned."""
        gains, exposure, texture = np.float32([1.3, 1.0, 0.8]), exposed((6, 2)), with_picture(blank_texture(disc(), 1.0, 40))
        _, colour = composed(exposure, laid(exposure, texture), disc())
        there = replace(exposure, picture=exposure.picture + colour * (gains - 1))
        np.testing.assert_allclose(gain_compensated(there, texture, disc()).colours, texture.colours * gains, rtol=0.01)
        off, _ = explained_offsets(there, texture, disc(28), 2.0, 20.0)
        better, _ = explained_offsets(there, gain_compensated(there, texture, disc(28)), disc(28), 2.0, 20.0)
        self.assertLess(np.abs(better - 2).mean(), 0.25)
        self.assertLess(np.abs(better - 2).mean(), np.abs(off - 2).mean() / 2)

    def test_where_nothing_of_it_is_seen_it_stays(self) -> None:
        exposure, texture = exposed((6, 2)), with_picture(blank_texture(disc(), 1.0, 40))
        np.testing.assert_array_equal(gain_compensated(exposure, texture, disc() + [500, 0]).colours, texture.colours)


class ComposedTest(unittest.TestCase):
    def test_a_straight_edge_is_smeared_to_a_ramp(self) -> None:
        """The coverage of an edge that moves evenly over s pixels rises by 1 / s for each."""
        flat = np.full((SIZE[1], SIZE[0], 3), 50, np.float32)
        exposure = Exposure(flat, flat, np.ones(flat.shape[:2], bool), moves((20, 0), count=40), np.eye(3))
        texture = blank_texture(disc(), 1.0, 60)
        box = np.array([[50.0, 20], [120, 20], [120, 100], [50, 100]])
        alpha, colour = composed(exposure, laid(exposure, texture), box)
        x = np.arange(30, 70) + 0.5
        np.testing.assert_allclose(alpha[60, 30:70], np.clip((x - 40) / 20, 0, 1), atol=1 / 40)
        np.testing.assert_allclose(colour, np.repeat(alpha[..., None] * 128, 3, 2), atol=0.01)  # the blank texture is grey

    def test_what_is_explained_leaves_grain(self) -> None:
        exposure = exposed((18, 6))
        rest, alpha = unexplained(exposure, laid(exposure, with_picture(blank_texture(disc(), 1.0, 40))), disc())
        self.assertLess(float(np.abs(rest).mean()), 1.6)  # of a deviation of 1.5, 1.2
        self.assertGreater(float(alpha.max()), 0.99)

    def test_where_the_background_is_not_known_nothing_is_said(self) -> None:
        exposure = exposed((18, 6))
        exposure.known[:, :70] = False
        rest, alpha = unexplained(exposure, laid(exposure, with_picture(blank_texture(disc(), 1.0, 40))), disc())
        self.assertEqual(float(np.abs(rest[:, :70][alpha[:, :70] < 0.9]).max()), 0.0)


class LearnedTest(unittest.TestCase):
    def test_a_texture_is_found_from_exposures_that_smear_it(self) -> None:
        seen = [(exposed(travel, at), disc()) for travel, at in (((16, 0), (0, 0)), ((0, 14), (8, -6)), ((10, 10), (-9, 5)), ((-12, 8), (4, 9)))]
        blank = blank_texture(disc(), 1.0, 40)
        true, inner = with_picture(blank).colours, np.zeros(blank.colours.shape[:2], np.uint8)
        cv2.fillPoly(inner, [np.round(homography.apply(blank.place, disc(26))).astype(np.int32)], (1,))

        def off(colours: np.ndarray) -> float:
            return float(np.abs(colours - true)[inner > 0].mean())

        one, all_ = learned(blank, seen[:1], 10).colours, learned(blank, seen, 10).colours
        self.assertLess(off(all_), 0.8 * off(one))  # what one smears another shows
        self.assertLess(off(all_), 0.35 * off(blank.colours))


class OffsetsTest(unittest.TestCase):
    def test_an_outline_is_found_in_the_smear(self) -> None:
        texture = with_picture(blank_texture(disc(), 1.0, 40))
        for travel in ((24, 0), (12, 9), (2, 1)):
            exposure = exposed(travel)
            for radius in (27.0, 28.5, 32.0):
                offsets, deviations = explained_offsets(exposure, texture, disc(radius), 2.0, 15.0)
                away = np.abs(offsets - (30 - radius))
                self.assertLess(float(np.sqrt((away ** 2).mean())), 0.35, (travel, radius))
                self.assertGreater(float((away <= 2 * np.hypot(deviations, 0.15)).mean()), 0.9)

    def test_where_figure_and_background_look_alike_it_is_unsure(self) -> None:
        texture = with_picture(blank_texture(disc(), 1.0, 40))
        exposure = exposed((20, 0))
        left = exposure.background.copy()
        same = cv2.warpPerspective(texture.colours, np.linalg.inv(texture.place), SIZE, borderMode=cv2.BORDER_REFLECT)
        left[:, :80] = cv2.blur(same, (21, 1))[:, :80]
        alike = Exposure(exposure.picture, left, exposure.known, exposure.moves, exposure.middle)
        _, deviations = explained_offsets(alike, texture, disc(), 2.0, 15.0)
        west = disc()[:, 0] < 60
        east = disc()[:, 0] > 100
        self.assertGreater(np.median(deviations[west]), 2 * np.median(deviations[east]))


class BackgroundTest(unittest.TestCase):
    """A background that is panned over, before which a block goes across."""

    def setUp(self) -> None:
        self.whole = noise(11, 1.5, (400, 200))
        self.unread: set[int] = set()

    def read(self, frame: int) -> np.ndarray:
        shift = np.float32([[1, 0, -20 - 2.5 * frame], [0, 1, -20 - 0.8 * frame]])
        picture = cv2.warpAffine(self.whole, shift, SIZE, flags=cv2.INTER_CUBIC)
        picture[self.block(frame)] = 255
        return np.round(picture.clip(0, 255) * UNIT).astype(np.uint16)

    def block(self, frame: int) -> np.ndarray:
        mask = np.zeros(SIZE[::-1], bool)
        mask[40:80, 10 * frame:10 * frame + 30] = True
        return mask

    def test_what_a_figure_hides_is_known_from_other_frames(self) -> None:
        background = RegisteredBackground(self.read, self.block, range(12), UNIT)
        found, known = background.at(6, (0, 0, *SIZE))
        shift = np.float32([[1, 0, -35], [0, 1, -24.8]])
        true = cv2.warpAffine(self.whole, shift, SIZE, flags=cv2.INTER_CUBIC)
        inner = np.zeros(SIZE[::-1], bool)
        inner[10:-10, 30:-30] = True
        self.assertTrue(known[inner].all())
        self.assertLess(float(np.abs(found - true)[inner & self.block(6)].mean()), 3)
        part, _ = background.at(6, (40, 30, 120, 90))
        np.testing.assert_allclose(part, found[30:90, 40:120], atol=0.04)

    def test_what_no_frame_shows_is_not_known(self) -> None:
        always = self.block(5)
        _, known = RegisteredBackground(self.read, lambda frame: always, range(3), UNIT).at(1, (0, 0, *SIZE))
        self.assertFalse(known[45:75, 55:75].any())

    def test_without_detail_nothing_is_known(self) -> None:
        grey = np.full((SIZE[1], SIZE[0], 3), 90 * UNIT, np.uint16)
        _, known = RegisteredBackground(lambda frame: grey, self.block, range(4), UNIT).at(1, (0, 0, *SIZE))
        self.assertFalse(known.any())


class FigureTest(SmearedFilm):
    def test_from_the_first_outline_alone(self) -> None:
        matte, frames = self.figure(), range(2, 11)
        before = [self.error(matte, f) for f in frames]
        steps: list[tuple[int, int]] = []
        with mock.patch.object(matte_series, "_SETTLED", 0.05):  # so that there are further rounds
            left = matte.fit(frames, progress=lambda event: steps.append((event.done, event.total)) if event.frame is not None else None)
        self.assertEqual(left, {})
        self.assertGreater(steps[-1][1], 3 * len(frames), "further rounds are counted as they begin")
        measured = [done for done, total in steps if done < total]
        self.assertGreater(len(measured), 0.9 * (len(steps) - len(frames)), "it is not said to be over while it goes on")
        self.assertEqual(measured, sorted(measured))
        after = [self.error(matte, f) for f in frames]
        self.assertLess(np.mean(after), 0.15 * np.mean(before))  # by the edge alone frames from the sixth on are left
        self.assertLess(max(after), 0.13)

    def test_where_the_background_cannot_be_known_the_edge_is_looked_for(self) -> None:
        matte = self.figure()
        for key in (7, 13):
            matte.key(key, self.outline(key))
        with mock.patch.object(matte_exposure, "_LEAST_KNOWN", 1.1):
            self.assertEqual(matte.fit([8, 9, 10, 11, 12]), {})
        self.assertLess(np.mean([self.error(matte, f) for f in range(8, 13)]), 0.06)

    def test_few_pictures_kept_give_the_same(self) -> None:
        matte = self.figure()
        matte.key(7, self.outline(7))
        matte.fit([4, 5, 6])
        found = [matte.points(f) for f in (4, 5, 6)]
        matte.shot.undo()
        with mock.patch.object(matte_exposure, "_KEPT", 1_500_000):
            matte.fit([4, 5, 6])
        for points, f in zip(found, (4, 5, 6), strict=True):
            np.testing.assert_array_equal(matte.points(f), points)


if __name__ == "__main__":
    unittest.main()
