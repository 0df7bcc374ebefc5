"""A graphic matched to the plate: what is measured is what was there, and the comp looks like a plate in which the graphic really was."""

import tempfile
import unittest
from collections.abc import Callable
from functools import cache
from pathlib import Path
from unittest import mock

import cv2
import numpy as np
from scipy import ndimage

import wertis
from tests.scenes import SIZE, texture
from tests.test_window import WindowCase
from wertis.core.comp import matching
from wertis.core.comp.artwork import from_picture
from wertis.core.comp.graphic import surface_warp
from wertis.core.comp.lay import Laid, Reductions, lay
from wertis.core.errors import RegionError, WertisError
from wertis.core.geometry import homography
from wertis.core.geometry.conventions import homography_to_centred
from wertis.core.geometry.warp import HomographyWarp
from wertis.core.imaging.grain import _BLOCK, Registered, _plain_tables, made, measure_grain, part_of_frame, taken_at
from wertis.core.imaging.light_field import PLACES, light_field
from wertis.core.imaging.softness import edge_softness
from wertis.core.jobs.light_change import light_change
from wertis.core.jobs.shutter import measured_shutter
from wertis.core.plate.colour import CODED, LINEAR, converted
from wertis.core.plate.sequence import read_picture
from wertis.core.shot import store
from wertis.core.shot.document import Placement, PlaneSolution, Region, Track
from wertis.core.shot.edits import as_points
from wertis.core.shot.match import GrainMatch, LightMatch, Match

QUAD = np.array([[110.0, 70], [250, 75], [245, 190], [105, 185]])
FRAMES = range(1, 13)
SIGMA = np.array([2.2, 1.6, 2.8]) / 255


def placed(time: float) -> np.ndarray:
    """(3, 3) from the first frame to a time: fast to the right."""
    return np.array([[1 + 0.002 * (time - 1), 0, 11.0 * (time - 1) - 0.5 * (time - 1) ** 2], [0, 1, 1.0 * (time - 1)], [0, 0, 1.0]])


def gain(frame: float) -> np.ndarray:
    """(3,) what the light is multiplied by on a frame."""
    return np.array([1 + 0.3 * np.sin(frame / 2), 1 + 0.25 * np.sin(frame / 2), 1 + 0.2 * np.sin(frame / 2)]) / (1 + 0.3 * np.sin(0.5))


def linear(v: np.ndarray) -> np.ndarray:
    return np.where(v <= 0.04045, v / 12.92, ((v + 0.055) / 1.055) ** 2.4)


def coded(v: np.ndarray) -> np.ndarray:
    return np.where(v <= 0.0031308, v * 12.92, 1.055 * np.maximum(v, 0.0031308) ** (1 / 2.4) - 0.055)


def swung(time: float) -> np.ndarray:
    """(3, 3) the same for a wall that swings to and fro, and stands still on the first frame."""
    return np.array([[1, 0, 26.0 * (1 - np.cos(0.55 * (time - 1)))], [0, 1, 5.0 * np.sin(0.4 * (time - 1)) ** 2], [0, 0, 1.0]])


@cache
def plate(frame: int, shutter: float = 0.5, place: Callable[[float], np.ndarray] = placed, lit: bool = True) -> np.ndarray:
    """(h, w, 3) 0..1: a wall that moves while the shutter is open, under the light of the frame, with grain."""
    wall = linear(texture(size=(SIZE[0] + 200, SIZE[1] + 100)).astype(np.float32) / 255) * 0.6 + 0.02
    total = np.zeros((SIZE[1], SIZE[0], 3), np.float32)
    times = frame + shutter * ((np.arange(15) + 0.5) / 15 - 0.5)
    for time in times:
        onto = place(time) @ np.array([[1, 0, -100.0], [0, 1, -50.0], [0, 0, 1]])
        total += cv2.warpPerspective(wall.astype(np.float32), homography_to_centred(onto), SIZE, flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT)
    out = coded(np.clip(total / 15 * (gain(frame) if lit else 1), 0, 1)) + made(SIZE, 0.6, (3, frame)) * SIGMA
    out = np.clip(out, 0, 1)
    out.flags.writeable = False  # it is given to whoever asks
    return out


class GrainTest(unittest.TestCase):
    def test_it_is_measured_beside_texture_channel_by_channel(self) -> None:
        """The issue's own bounds: a tenth, in deviation and in the length over which grain goes together."""
        x = np.mgrid[0:360, 0:480][1]
        base = np.clip(0.15 + 0.6 * x / 480, 0, 1)[..., None].repeat(3, 2)
        base[100:220, 150:330] = cv2.resize(texture(), (180, 120)) / 255
        for size in (0.0, 0.6, 1.0):
            pictures = [base + made((480, 360), size, (1, k)) * (0.006 + 0.01 * base) for k in range(4)]
            found = measure_grain([p.astype(np.float32) for p in pictures])
            assert found is not None
            np.testing.assert_allclose(found.deviations, (0.006 + 0.01 * found.levels[:, None]).repeat(3, 1), rtol=0.1)
            if size:
                self.assertAlmostEqual(found.size, size, delta=0.15 * size)
            else:
                self.assertLess(found.size, 0.25)
        self.assertIsNone(measure_grain([np.ones((64, 64, 3), np.float32)]))

    def test_tables_are_those_of_the_noise_s_whole_covariance(self) -> None:
        """K C K of all pairs of pixels of a block, where C is the noise's covariance and K takes a quadratic surface out, by least squares."""
        side, tables = _BLOCK, _plain_tables()
        y, x = np.mgrid[0:side, 0:side].reshape(2, -1)
        surface = np.linalg.qr(np.stack([x ** i * y ** j for i in range(3) for j in range(3 - i)], axis=1).astype(float))[0]
        keep = np.eye(side ** 2) - surface @ surface.T
        right = np.flatnonzero(x[:-1] < side - 1)
        for number in (0, 20, 50):
            apart2 = (y[:, None] - y) ** 2 + (x[:, None] - x) ** 2
            left = keep @ np.exp(-apart2 / (4 * max(tables.sizes[number], 1e-3) ** 2)) @ keep
            self.assertAlmostEqual(tables.left[number], np.trace(left) / side ** 2, places=9)
            self.assertAlmostEqual(tables.beside[number], left[right, right + 1].mean() / tables.left[number], places=9)

    def test_where_nothing_is_flat_another_frame_of_the_surface_tells_it(self) -> None:
        """Within a tenth, where the picture alone is off by more than ten times; the light changes, and the surface turns and grows."""
        rng = np.random.default_rng(1)
        wall = cv2.resize(rng.random((200, 260, 3), np.float32) * 0.7 + 0.1, (1040, 800), interpolation=cv2.INTER_CUBIC)
        places = np.stack(np.meshgrid(np.arange(480.0), np.arange(360.0)), axis=-1)
        for size in (0.0, 0.6, 1.2):
            pictures, onto = [], []
            for k in range(4):
                move = cv2.getRotationMatrix2D((520, 400), 0.7 * k, 1 + 0.004 * k)
                move[:, 2] -= 280 + 3.37 * k, 220 - 1.71 * k
                onto.append(np.vstack([move, [0, 0, 1]]))
                pictures.append((cv2.warpAffine(wall, move, (480, 360), flags=cv2.INTER_LANCZOS4) * (1 + 0.02 * k)
                                 + made((480, 360), size, (3, k)) * 0.012).astype(np.float32))
            registered = []
            for k in range(3):
                there = homography.apply(onto[k + 1] @ np.linalg.inv(onto[k]), places.reshape(-1, 2)).reshape(places.shape)
                inside = ((there > 0) & (there < (479, 359))).all(-1)
                registered.append(Registered(pictures[k], taken_at(pictures[k + 1], there), there[inside], inside))
            alone, found = measure_grain(pictures), measure_grain(pictures, registered)
            assert alone is not None and found is not None
            self.assertGreater(alone.deviations.mean(), 0.12)
            np.testing.assert_allclose(found.deviations.mean(0), 0.012, rtol=0.1)
            self.assertAlmostEqual(found.size, size, delta=max(0.25, 0.1 * size))
        clean = measure_grain(pictures, [Registered(pictures[0], pictures[0].copy(), places, np.ones((360, 480), bool))])
        assert clean is not None
        self.assertEqual(float(clean.deviations.max()), 0.0)  # a film without grain has none, however much texture
        for other in (pictures[0], np.roll(pictures[0], 7, 1)):  # what does not go together is not believed
            whole = Registered(pictures[0], other + made((480, 360), 0, (9,)) * 0.5, places, np.ones((360, 480), bool))
            again = measure_grain(pictures, [whole])
            assert again is not None
            np.testing.assert_array_equal(again.deviations, alone.deviations)

    def test_made_grain_measures_like_what_was_asked_for(self) -> None:
        for size in (0.0, 0.7, 1.4):
            noise = part_of_frame((100, 50, 500, 350), size, (7, 3))
            self.assertAlmostEqual(float(noise.std()), 1.0, delta=0.03)
            beside = float((noise[:, 1:] * noise[:, :-1]).mean())
            self.assertAlmostEqual(beside, np.exp(-1 / (4 * max(size, 0.01) ** 2)), delta=0.03)  # white noise through a Gaussian
        np.testing.assert_array_equal(part_of_frame((10, 10, 30, 30), 0.7, (1, 2)), part_of_frame((0, 0, 40, 40), 0.7, (1, 2))[10:30, 10:30])
        self.assertGreater(np.abs(part_of_frame((0, 0, 40, 40), 0.7, (1, 2)) - part_of_frame((0, 0, 40, 40), 0.7, (1, 3))).max(), 1)


class SoftnessTest(unittest.TestCase):
    def test_it_is_measured_within_a_tenth(self) -> None:
        rng = np.random.default_rng(3)
        sharp = np.zeros((1600, 2000), np.float32)
        for _ in range(40):
            corners = (rng.uniform(0, 1, (3, 2)) * [2000, 1600]).astype(np.int32)
            cv2.fillPoly(sharp, [corners], float(rng.uniform(0.1, 0.9)))
        for sigma in (0.7, 1.0, 2.0, 4.0):
            seen = cv2.resize(cv2.GaussianBlur(sharp, (0, 0), 4 * sigma), (500, 400), interpolation=cv2.INTER_AREA)
            total = np.hypot(sigma, 1 / np.sqrt(12))  # and the pixels' own square
            for grain in (0.0, 0.01):
                found = edge_softness(seen + grain * rng.normal(0, 1, seen.shape).astype(np.float32), None, grain)
                self.assertAlmostEqual(float(found or 0), total, delta=0.1 * total, msg=f"{sigma} {grain}")
        self.assertIsNone(edge_softness(np.full((100, 100), 0.5, np.float32)))

    def test_soft_things_in_the_scene_and_thin_strokes_do_not_count(self) -> None:
        rng = np.random.default_rng(5)
        soft = np.zeros((1600, 2000), np.float32)
        for _ in range(60):
            cv2.fillPoly(soft, [(rng.uniform(0, 1, (3, 2)) * [2000, 1600]).astype(np.int32)], float(rng.uniform(0.1, 0.9)))
        soft = cv2.GaussianBlur(soft, (0, 0), 14)
        words = np.zeros((1600, 2000), np.uint8)
        for k in range(30):
            cv2.putText(words, "Lot 47", (int(rng.uniform(-100, 1500)), 60 + 50 * k), cv2.FONT_HERSHEY_SIMPLEX, float(rng.uniform(2, 6)), 220,
                        int(rng.integers(12, 36)))
        for base, within in ((soft, 0.1), (words.astype(np.float32) / 255, 0.12)):
            sharp = base.copy()
            for _ in range(14):
                x, y = (rng.uniform(0.05, 0.8, 2) * [2000, 1600]).astype(int)
                cv2.rectangle(sharp, (x, y), (x + 240, y + 180), float(rng.uniform(0.1, 0.9)), -1)
            for sigma in (1.0, 1.6):
                seen = cv2.resize(cv2.GaussianBlur(sharp, (0, 0), 4 * sigma), (500, 400), interpolation=cv2.INTER_AREA)
                found = edge_softness(seen + 0.004 * rng.normal(0, 1, seen.shape).astype(np.float32), None, 0.004)
                total = np.hypot(sigma, 1 / np.sqrt(12))
                self.assertAlmostEqual(float(found or 0), total, delta=within * total, msg=f"{sigma}")

    def test_a_direction_leaves_out_what_is_blurred_another_way(self) -> None:
        sharp = np.zeros((1600, 1600), np.float32)
        for k in range(12):
            cv2.rectangle(sharp, (90 + 400 * (k % 4), 80 + 500 * (k // 4)), (330 + 400 * (k % 4), 400 + 500 * (k // 4)), 0.7, -1)
        seen = cv2.resize(cv2.GaussianBlur(sharp, (0, 0), sigmaX=10, sigmaY=4), (400, 400), interpolation=cv2.INTER_AREA)
        for direction, sigma in (([1.0, 0.0], 2.5), ([0.0, 1.0], 1.0)):
            self.assertAlmostEqual(float(edge_softness(seen, direction=np.array(direction)) or 0), np.hypot(sigma, 0.29), delta=0.1 * sigma)


class ShutterTest(unittest.TestCase):
    def test_it_is_measured_within_a_tenth(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            for degrees in (140, 220):
                for frame in FRAMES:
                    picture = plate(frame, degrees / 360, swung, False)
                    cv2.imwrite(f"{folder}/p.{frame:04d}.png", np.round(picture[..., ::-1] * 65535).astype(np.uint16))
                shot = wertis.open(folder)
                matrices = np.array([swung(f) @ np.linalg.inv(swung(7)) for f in FRAMES])
                solution = PlaneSolution(reference=7, frames=np.array(FRAMES, np.int64), matrices=matrices, errors=np.zeros(12), seen=np.ones(12))
                track = Track(region=Region(frame=7, points=as_points(QUAD + swung(7)[:2, 2] - 40)), solution=solution)
                shot._do("Track", shot.document.but(tracks=(track,)))
                found = measured_shutter(shot.document, track, shot.plate)
                self.assertAlmostEqual(found or 0, degrees, delta=0.1 * degrees)


class LightFieldTest(unittest.TestCase):
    """Light that differs from place to place, on a wall of known texture, by formulas."""

    def setUp(self) -> None:
        rng = np.random.default_rng(5)
        self.wall = np.clip(0.3 + 0.12 * ndimage.gaussian_filter(rng.normal(0, 1, (64, 64, 3)), (1.2, 1.2, 0)) / 0.23, 0.03, 0.9)
        y, x = (np.mgrid[0:64, 0:64] + 0.5) / 64
        self.gain = (1 + 0.4 * np.exp(-((x - 0.3) ** 2 + (y - 0.5) ** 2) / 0.05))[..., None]
        self.glare = (0.15 * np.exp(-((x - 0.75) ** 2 + (y - 0.4) ** 2) / 0.04))[..., None] * [1, 0.9, 0.7]
        self.sound = np.ones((64, 64, 3), bool)

    def at_places(self, field: np.ndarray) -> np.ndarray:
        return cv2.resize(np.broadcast_to(field, (64, 64, 3)).astype(np.float64), (PLACES, PLACES), interpolation=cv2.INTER_AREA)

    def test_gain_and_glare_are_told_apart(self) -> None:
        found = light_field(self.wall, self.wall * self.gain + self.glare, self.sound, ~self.sound)
        self.assertEqual(found.shape, (PLACES, PLACES, 6))
        self.assertLess(np.abs(found[..., :3] - self.at_places(self.gain - 1)).mean(), 0.03)  # of 0.4
        self.assertLess(np.abs(found[..., 3:] - self.at_places(self.glare)).mean(), 0.012)  # of 0.15
        # what is laid there is as light as the wall was
        self.assertLess(np.abs(self.at_places(self.wall) * found[..., :3] + found[..., 3:]
                               - self.at_places(self.wall * self.gain + self.glare - self.wall)).mean(), 0.006)

    def test_what_passes_counts_little(self) -> None:
        after = self.wall * self.gain
        after[20:44, 30:50] = np.random.default_rng(1).uniform(0.4, 0.8, (24, 20, 3))
        found = light_field(self.wall, after, self.sound, ~self.sound)
        self.assertLess(np.abs(found[..., :3] - self.at_places(self.gain - 1)).mean(), 0.05)
        self.assertLess(np.abs(found[..., 3:]).max(), 0.08)  # the passer is 0.3 brighter

    def test_what_is_clipped_is_at_least_so_bright(self) -> None:
        after = np.minimum(self.wall * (1 + 2.6 * (self.gain - 1) / 0.4), 0.92)
        clipped = after >= 0.92
        self.assertGreater(clipped.mean(), 0.05)
        found, without = (light_field(self.wall, after, ~clipped, c) for c in (clipped, np.zeros_like(clipped)))
        meant = np.minimum(self.at_places(self.wall * (1 + 2.6 * (self.gain - 1) / 0.4)), 0.92)
        off = [np.abs(np.minimum(self.at_places(self.wall) * (1 + f[..., :3]) + f[..., 3:], 0.92) - meant).mean() for f in (found, without)]
        self.assertLess(off[0], 0.025)
        self.assertLessEqual(off[0], off[1] + 1e-9)

    def test_it_is_laid_on_where_it_falls_and_is_kept(self) -> None:
        local = np.zeros((PLACES, PLACES, 6))
        local[..., 0], local[..., 4] = np.linspace(-0.5, 0.5, PLACES)[None], np.linspace(0, 0.2, PLACES)[:, None]
        light = LightMatch(frames=np.array([1, 3], np.int64), gains=np.zeros((2, 3, 3)), local=np.stack([0 * local, local]).reshape(2, -1, 6))
        np.testing.assert_allclose(light.local_at(2), local / 2)
        self.assertIsNone(LightMatch(frames=np.array([1], np.int64), gains=np.zeros((1, 3, 3))).local_at(1))
        laid = Laid(10, 20, np.full((200, 300, 4), [0.4, 0.2, 0.1, 1.0], np.float32))
        surface = HomographyWarp(homography.from_unit_square(np.array([[10.0, 20], [310, 20], [310, 220], [10, 220]])))
        found = matching.lit(laid, np.zeros((3, 3)), light.local_at(3), surface, "linear").pixels
        for u, v in ((0.25, 0.5), (0.55, 0.15), (0.85, 0.95)):
            a, b = (np.clip(t * PLACES - 0.5, 0, PLACES - 1) / (PLACES - 1) for t in (u, v))
            np.testing.assert_allclose(found[int(200 * v), int(300 * u), :3], [0.4 * (0.5 + a), 0.2 + 0.2 * b, 0.1], atol=6e-3)
        halved = matching.lit(Laid(10, 20, laid.pixels / 2), np.zeros((3, 3)), light.local_at(3), surface, "coded").pixels
        whole = matching.lit(laid, np.zeros((3, 3)), light.local_at(3), surface, "coded").pixels
        np.testing.assert_allclose(halved, whole / 2, atol=2e-3)  # premultiplied
        for wrong in (np.zeros((2, 5, 6)), np.zeros((1, 4, 6)), np.full((2, 4, 6), np.nan)):
            with self.assertRaisesRegex(ValueError, "place to place"):
                LightMatch(frames=np.array([1, 3], np.int64), gains=np.zeros((2, 3, 3)), local=wrong)


class PartsTest(unittest.TestCase):
    def setUp(self) -> None:
        pixels = np.zeros((40, 60, 4), np.float32)
        pixels[8:32, 10:50] = [0.4, 0.2, 0.1, 0.5]
        self.laid = Laid(100, 80, pixels)

    def test_softness_is_a_gaussian_with_room_round_it(self) -> None:
        soft = matching.softened(self.laid, 2.5, (400, 300))
        whole = np.zeros((300, 400, 4))
        whole[80:120, 100:160] = self.laid.pixels
        meant = ndimage.gaussian_filter(whole, (2.5, 2.5, 0))
        h, w = soft.pixels.shape[:2]
        np.testing.assert_allclose(soft.pixels, meant[soft.top:soft.top + h, soft.left:soft.left + w], atol=2e-3)
        self.assertIs(matching.softened(self.laid, 0.0, (400, 300)), self.laid)

    def test_light_multiplies_light_where_it_falls(self) -> None:
        surface = HomographyWarp(homography.from_unit_square(np.array([[110.0, 88], [150, 88], [150, 112], [110, 112]])))
        gains = np.array([[0.2, 0.1, 0.0], [0.5, 0.0, 0.0], [0.0, 0.0, 0.4]])
        found = matching.lit(self.laid, gains, None, surface, "linear")
        for x, y in ((112, 90), (148, 110), (130, 100)):
            u, v = (x + 0.5 - 110) / 40 - 0.5, (y + 0.5 - 88) / 24 - 0.5
            meant = np.array([0.4, 0.2, 0.1]) * np.exp(gains[0] + u * gains[1] + v * gains[2])
            np.testing.assert_allclose(found.pixels[y - 80, x - 100, :3], meant, rtol=0.01)
        np.testing.assert_array_equal(found.pixels[..., 3], self.laid.pixels[..., 3])
        twice = np.array([[np.log(2)] * 3, [0] * 3, [0] * 3])
        in_code = matching.lit(Laid(0, 0, np.array([[[0.5, 0.5, 0.5, 1.0]]], np.float32)), twice, None, surface, "coded")
        np.testing.assert_allclose(in_code.pixels[0, 0, :3], coded(2 * linear(np.array([0.5]))).repeat(3), atol=2e-3)

    def test_levels_take_black_and_white_where_they_belong(self) -> None:
        black, white = np.array([0.05, 0.06, 0.08]), np.array([0.7, 0.65, 0.6])
        match = Match(slope=tuple(white - black), offset=tuple(black))
        found = matching.levelled(Laid(0, 0, np.array([[[0, 0, 0, 1.0], [0.5, 0.5, 0.5, 0.5]]], np.float32)), match)
        np.testing.assert_allclose(found.pixels[0, 0], [0.05, 0.06, 0.08, 1], atol=1e-6)
        np.testing.assert_allclose(found.pixels[0, 1], [0.35, 0.325, 0.3, 0.5], atol=1e-6)

    def test_texture_lets_fine_structure_through(self) -> None:
        rng = np.random.default_rng(2)
        wall = np.clip(0.4 + 0.1 * ndimage.gaussian_filter(rng.normal(0, 1, (300, 400)), 1.5) / 0.19, 0.05, 1)[..., None].repeat(3, 2).astype(np.float32)
        found = matching.textured(self.laid, wall, Match(texture=1.0, coarse=10.0), "linear").pixels[12:28, 14:46, 0]
        self.assertGreater(np.corrcoef(found.ravel(), wall[92:108, 114:146, 0].ravel())[0, 1], 0.95)
        self.assertAlmostEqual(float(found.mean()), 0.4, delta=0.03)

    def test_the_shutter_leaves_no_copies(self) -> None:
        times = matching.shutter_times(Match(shutter=180.0), 5, lambda t: np.array([[20.0 * t, 3.0], [20.0 * t, 90]]))
        self.assertGreaterEqual(len(times), 14)
        self.assertAlmostEqual(float(np.mean(times)), 5)
        self.assertLess(max(times), 5.25)
        self.assertEqual(matching.shutter_times(Match(), 5, lambda t: None), [5])
        self.assertEqual(matching.shutter_times(Match(shutter=180.0), 5, lambda t: None), [5])

    def test_bad_numbers_are_refused(self) -> None:
        for wrong in ({"levels": (0.5, 0.2), "deviations": ((0.1,) * 3,) * 2}, {"levels": (0.5,), "deviations": ((0.1,) * 3,) * 2}):
            with self.assertRaisesRegex(ValueError, "rise"):
                GrainMatch(**wrong)  # type: ignore[arg-type]
        with self.assertRaisesRegex(ValueError, "three numbers"):
            LightMatch(frames=np.array([1, 2], np.int64), gains=np.zeros((3, 3, 3)))


class MatchedTest(unittest.TestCase):
    def setUp(self) -> None:
        made_folder = tempfile.TemporaryDirectory()
        self.addCleanup(made_folder.cleanup)
        self.folder = Path(made_folder.name)
        (self.folder / "plate").mkdir()
        for frame in FRAMES:
            cv2.imwrite(str(self.folder / f"plate/p.{frame:04d}.png"), np.round(plate(frame)[..., ::-1] * 65535).astype(np.uint16))
        cv2.imwrite(str(self.folder / "art.png"), np.tile(np.uint8([[[40, 90, 200], [210, 180, 60]]]), (20, 20, 1)))
        self.shot = wertis.open(self.folder / "plate")
        frames = np.array(FRAMES, np.int64)
        solution = PlaneSolution(reference=1, frames=frames, matrices=np.array([placed(f) for f in FRAMES]), errors=np.zeros(12), seen=np.ones(12))
        track = Track(name="Wall", region=Region(frame=1, points=as_points((QUAD - 180) * 1.2 + 180)), solution=solution)
        self.shot._do("Track", self.shot.document.but(mixing="linear", tracks=(track,)))
        self.graphic = self.shot.surface("Wall").place(self.folder / "art.png", QUAD, 1, fit="stretch")

    def test_what_is_measured_is_what_was_there(self) -> None:
        words = self.graphic.match()
        match = self.graphic.record.match
        assert match.grain is not None and match.light is not None
        self.assertEqual(set(words), {"softness", "shutter", "light", "grain"})
        for frame in FRAMES:  # within one per cent
            np.testing.assert_allclose(np.exp(match.light.at(frame)[0]), gain(frame) / gain(1), rtol=0.01)
        np.testing.assert_allclose(np.mean(match.grain.deviations, axis=0), SIGMA, rtol=0.1)  # this wall is nowhere flat
        back = store.load(self.shot.save(self.folder / "s.wertis")).item(self.graphic.id, Placement)
        self.assertEqual(back, self.graphic.record)

    def test_nothing_else_changes_and_grain_is_the_same_each_time(self) -> None:
        self.graphic.match(["grain"])
        self.graphic.set_match(softness=1.5, shutter=180.0, texture=0.3)
        first, again, before = self.shot.frame(6), self.shot.frame(6), self.shot.plate.read(6)
        np.testing.assert_array_equal(first, again)
        quad = homography.apply(placed(6), QUAD)
        mask = cv2.fillConvexPoly(np.zeros(SIZE[::-1], np.uint8), np.round(quad).astype(np.int32), 1)
        far = cv2.distanceTransform(1 - mask, cv2.DIST_L2, 5) > 16
        np.testing.assert_array_equal(first[far], before[far])
        inside = cv2.distanceTransform(mask, cv2.DIST_L2, 5) > 12
        self.graphic.set_match(grain=None, texture=0.0)
        plain = self.shot.frame(6)
        noise = (first[inside].astype(float) - plain[inside]) / 65535
        self.assertGreater(noise.std(), 0.003)
        other = (self.shot.frame(7)[inside].astype(float)).std()
        self.assertGreater(other, 0)
        self.graphic.match(["light"])
        self.shot.undo()
        self.assertIsNone(self.graphic.record.match.light)

    def test_motion_blur_is_the_mean_over_the_shutter(self) -> None:
        self.graphic.set_match(shutter=180.0)
        blurred = self.shot.frame(6, "graphic")
        track = self.shot.surface("Wall").record
        record = self.graphic.record.but(match=Match())
        art = Reductions(converted(from_picture(read_picture(Path(record.artwork.path))), CODED, LINEAR))
        whole = [surface_warp(track, record, 6 + 0.5 * ((k + 0.5) / 64 - 0.5)) for k in range(64)]
        parts = [lay(art, warp, SIZE) for warp in whole if warp is not None]
        mean = matching.mean_of([p for p in parts if p is not None], len(parts))
        h, w = mean.pixels.shape[:2]
        self.assertLess(np.abs(blurred[mean.top:mean.top + h, mean.left:mean.left + w, 3] - mean.pixels[..., 3]).mean(), 2 / 255)

    def test_what_passes_does_not_change_the_light(self) -> None:
        def read(frame: int) -> np.ndarray:
            picture = np.round(plate(frame) * 65535).astype(np.uint16)
            if frame == 5:
                x, y = homography.apply(placed(5), QUAD).mean(0).astype(int)
                picture[y - 60:y + 30, x - 60:x + 10] = [60000, 2000, 2000]
            return picture

        found = light_change(self.shot.document, self.shot.surface("Wall").record, self.graphic.record, 5, read, np.dtype(np.uint16))
        assert found is not None
        np.testing.assert_allclose(np.exp(found.gains[0]), gain(5) / gain(1), rtol=0.02)
        self.assertLess(np.abs(found.local).max(), 0.3)  # where the passer is up to four times as bright
        self.assertIsNone(light_change(self.shot.document, self.shot.surface("Wall").record, self.graphic.record, 99, read, np.dtype(np.uint16)))

    def test_light_is_measured_on_another_place_of_the_surface(self) -> None:
        """A gain that rises evenly over the surface is the same wherever it is measured; the place may even be beside the graphic."""
        document, wall = self.shot.document, self.shot.surface("Wall").record
        x = np.arange(SIZE[0], dtype=np.float64)[None, :, None]

        def read(frame: int) -> np.ndarray:
            picture = linear(plate(frame, lit=False))
            at = x - (homography.apply(placed(frame), QUAD)[0, 0] - QUAD[0, 0])  # where it was on the first frame
            return np.round(coded(np.clip(picture * (1 if frame == 1 else np.exp(0.3 + 0.002 * (at - 150))), 0, 1)) * 65535).astype(np.uint16)

        other = self.shot.surface("Wall").place(self.folder / "art.png", QUAD + [25, 12], 1)
        here, there = (light_change(document, wall, self.graphic.record, 5, read, np.dtype(np.uint16), area) for area in (None, other.record))
        assert here is not None and there is not None
        for found in (here, there):
            self.assertAlmostEqual(float(found.gains[0].mean()), 0.3 + 0.002 * (QUAD[:, 0].mean() - 150), delta=0.03)
            for column, across in ((1, 0.15), (5, 0.55), (8, 0.85)):  # what a place of a brightness as the wall's becomes
                even = np.exp(found.gains[0] + (across - 0.5) * found.gains[1])
                local = found.local[3:7, column].mean(0)
                lit = (0.25 * even * (1 + local[:3]) + local[3:]).mean()
                self.assertAlmostEqual(float(lit / (0.25 * np.exp(0.3 + 0.002 * (QUAD[0, 0] + 140 * across - 150)))), 1, delta=0.06)
        self.graphic.set_match(light_from=other.id)
        self.graphic.match(["light"])
        match = self.graphic.record.match
        assert match.light is not None
        np.testing.assert_allclose(np.exp(match.light.at(6)[0]), gain(6) / gain(1), rtol=0.03)
        other.remove()  # from then on its own place is measured
        self.graphic.match(["light"])
        match = self.graphic.record.match
        assert match.light is not None
        np.testing.assert_allclose(np.exp(match.light.at(6)[0]), gain(6) / gain(1), rtol=0.01)

    def test_what_is_mirrored_is_laid_on_again(self) -> None:
        with self.assertRaisesRegex(RegionError, "Clean plate"):
            self.graphic.set_match(reflection=1.0)
        laid = Laid(10, 8, np.zeros((40, 60, 4), np.float32) + [0.1, 0.2, 0.1, 1.0]).pixels.astype(np.float32)
        plate_light = np.full((60, 90, 3), 0.3, np.float32)
        plate_light[20:30, 30:50] += 0.25  # a lamp mirrored in it
        ground = Laid(5, 5, np.full((50, 80, 4), [0.3, 0.3, 0.3, 1.0], np.float32))
        found = matching.reflected(Laid(10, 8, laid), plate_light, ground, 0.5, "linear").pixels
        np.testing.assert_allclose(found[16, 28], [0.225, 0.325, 0.225, 1], atol=0.004)
        np.testing.assert_array_equal(found[2:6], laid[2:6])
        away = matching.reflected(Laid(10, 8, laid), plate_light, Laid(75, 50, ground.pixels[:4, :4]), 0.5, "linear").pixels
        np.testing.assert_array_equal(away, laid)

    def test_what_cannot_be_is_said(self) -> None:
        with self.assertRaisesRegex(WertisError, "nothing that is matched"):
            self.graphic.match(["beauty"])
        with self.assertRaisesRegex(WertisError, "softness"):
            self.graphic.set_match(softness=-3)
        self.shot._do("Lock", self.shot.document.with_item(self.graphic.record.but(locked=True)))
        with self.assertRaisesRegex(RegionError, "locked"):
            self.graphic.match(["grain"])


class MatchWindowTest(WindowCase):
    def test_a_graphic_is_matched_and_changed_by_hand(self) -> None:
        w, s = self.window, self.window.session
        folder = self.folder / "plate"
        folder.mkdir()
        for frame in FRAMES:
            cv2.imwrite(str(folder / f"p.{frame:04d}.png"), np.round(plate(frame)[..., ::-1] * 255).astype(np.uint8))
        w.open_path(folder)
        self.until(lambda: w.viewer.picture is not None)
        frames = np.array(FRAMES, np.int64)
        solution = PlaneSolution(reference=1, frames=frames, matrices=np.array([placed(f) for f in FRAMES]), errors=np.zeros(12), seen=np.ones(12))
        s.history.do("Track", s.shot.but(tracks=(Track(region=Region(frame=1, points=as_points(QUAD)), solution=solution),)))
        s.select(s.shot.tracks[0].id)
        w.steps["Use"].place()
        self.spin()
        page = w.steps["Use"].page
        page.part.button(3).click()
        self.assertTrue(page.match.isVisibleTo(w) and not page.artwork.isVisibleTo(w))
        page.match.all.click()
        self.until(lambda: w.job is None and s.placement.match.grain is not None, 60)
        self.assertIn("Matched", w.words.text())
        self.assertRegex(page.match.facts.text(), "Light here .* grain")
        page.match.softness.setValue(2.5)
        page.match.grain.setValue(50)
        page.match.light.setValue(80)
        page.match.texture.setValue(30)
        page.match.triples["slope"][0].setValue(0.8)
        match = s.placement.match
        self.assertEqual((match.softness, match.grain.strength, match.light.strength, match.texture, match.slope), (2.5, 0.5, 0.8, 0.3, (0.8, 1.0, 1.0)))
        self.until(lambda: w.viewer.picture_frame == s.frame)
        page.match.none.click()
        self.assertEqual(s.placement.match, Match())
        w.undo()
        self.assertEqual(s.placement.match, match)
        with mock.patch.object(w.steps["Use"].bench.work, "busy", return_value=True):
            page.match.measures["grain"].click()
        self.assertEqual(s.placement.match, match)
        page.part.button(0).click()
        self.assertTrue(page.artwork.isVisibleTo(w))


del WindowCase


if __name__ == "__main__":
    unittest.main()
