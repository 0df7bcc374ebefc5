"""Outlines fitted on many frames together: what one frame smears is known from those around it."""

import tempfile
import threading
import unittest
from pathlib import Path
from unittest import mock

import cv2
import numpy as np
import scipy

import wertis
from tests.test_mattes import FIGURE
from wertis.core.jobs import matte_series
from wertis.core.jobs.matte_edge import EdgeFinder, EdgeMeasure
from wertis.core.matte.coverage import polygon_area
from wertis.core.matte.outline import bezier, flattened, outwards
from wertis.core.matte.outline_smoother import Measurement, curve_weights, smoothed
from wertis.scripting import DrawnMatte

COUNT, FRAMES = 40, 25
TIMES = np.arange(float(FRAMES))


def ring(time: float, swing: float = 0.15) -> np.ndarray:
    """(N, 2) an outline that swings slowly, of about 60 pixels' radius."""
    angle = 2 * np.pi * np.arange(COUNT) / COUNT
    radius = 60 * (1 + swing * np.sin(0.2 * time + 2 * angle))
    return radius[:, None] * np.column_stack([np.cos(angle), np.sin(angle)])


def found(truth: np.ndarray, base: np.ndarray, which: np.ndarray, rng: np.random.Generator, noise: float) -> Measurement:
    """What a measurement of some of the points of an outline comes to, with errors."""
    normals = outwards(truth)[which]
    each = scipy.sparse.csr_array((normals.ravel(), (np.repeat(np.arange(len(which)), 2), (2 * which[:, None] + [0, 1]).ravel())),
                                  (len(which), 2 * COUNT))
    return Measurement(each, each @ (truth - base).ravel() + rng.normal(0, noise, len(which)), np.full(len(which), noise))


class SmootherTest(unittest.TestCase):
    def across(self, points: np.ndarray, truth: np.ndarray) -> np.ndarray:
        """(T, N) how far points lie from true outlines, across them."""
        return np.array([np.abs(np.einsum("ni,ni->n", p - t, outwards(t))) for p, t in zip(points, truth, strict=True)])

    def test_sides_that_are_seen_in_turn_are_known_on_all_frames(self) -> None:
        rng = np.random.default_rng(2)
        truth = np.array([ring(t) for t in TIMES])
        fixed = np.isin(TIMES, (0, FRAMES - 1))
        keys = scipy.interpolate.interp1d(TIMES[fixed], truth[fixed], axis=0)(TIMES)
        upper = truth[0, :, 1] < 0
        measured = {k: found(truth[k], keys[k], np.flatnonzero(upper if (k // 4) % 2 else ~upper), rng, 0.3) for k in range(1, FRAMES - 1)}
        points, spread = smoothed(keys, TIMES, fixed, measured, [])
        off = self.across(points, truth)
        self.assertGreater(self.across(keys, truth).max(), 10)
        self.assertLess(np.sqrt((off ** 2).mean()), 0.5)
        self.assertGreater((off <= 2 * spread + 1e-9)[~fixed].mean(), 0.9)
        np.testing.assert_array_equal(points[fixed], keys[fixed])
        nothing, wide = smoothed(keys, TIMES, fixed, {}, [])
        self.assertTrue((wide[12] > 4 * spread[12]).all(), "what nothing tells is unsure")
        self.assertTrue(np.isfinite(nothing).all())

    def test_an_outline_that_jumps_is_not_smoothed_where_it_is_measured(self) -> None:
        rng = np.random.default_rng(3)
        truth = np.array([ring(t, 0.02) + [0, 8.0 * (t >= 12)] for t in TIMES])
        fixed = TIMES == 0
        base = np.repeat(truth[:1], FRAMES, 0)
        measured = {k: found(truth[k], base[k], np.arange(COUNT), rng, 0.3) for k in range(1, FRAMES)}
        points, _ = smoothed(base, TIMES, fixed, measured, [])
        self.assertLess(self.across(points, truth)[10:14].mean(), 0.5)

    def test_measurements_that_do_not_fit_count_little(self) -> None:
        rng = np.random.default_rng(4)
        truth = np.array([ring(t) for t in TIMES])
        measured = {}
        for k in range(1, FRAMES):
            m = found(truth[k], truth[0], np.arange(COUNT), rng, 0.3)
            m.distances[rng.integers(0, COUNT, 6)] += 8  # another edge
            measured[k] = m
        points, _ = smoothed(np.repeat(truth[:1], FRAMES, 0), TIMES, TIMES == 0, measured, [])
        self.assertLess(np.sqrt((self.across(points, truth) ** 2).mean()), 0.6)

    def test_frames_that_are_missing_are_bridged_by_their_time(self) -> None:
        times = np.array([0.0, 1, 2, 3, 9, 10, 11, 12])
        truth = np.array([ring(0) + [3 * t, 0] for t in times])  # at an even speed, which keys at both ends say
        known = np.isin(times, (0, 1, 11, 12))
        points, _ = smoothed(np.where(known[:, None, None], truth, ring(0)), times, known, {}, [])
        self.assertLess(np.abs(points - truth).max(), 1.5)

    def test_weights_are_the_curves_own(self) -> None:
        places = np.array([0.3, 2.0, 5.7, 39.5])
        angle = 2 * np.pi * np.arange(COUNT) / COUNT
        circle = 60 * np.column_stack([np.cos(angle), np.sin(angle)])  # evenly spaced, so that centripetal knots are even ones
        rounds = np.where(np.arange(COUNT) == 6, 0.0, 1.0)

        def on_curve(p: np.ndarray) -> np.ndarray:
            curves, k, t = bezier(p, rounds), np.floor(places).astype(int), places % 1
            terms = np.stack([(1 - t) ** 3, 3 * (1 - t) ** 2 * t, 3 * (1 - t) * t ** 2, t ** 3])
            return np.einsum("am,mai->mi", terms, curves[k])

        np.testing.assert_allclose(curve_weights(places, rounds) @ circle, on_curve(circle), atol=1e-9)
        held = curve_weights(places, rounds, handled=True)
        np.testing.assert_allclose(held.sum(1), 1)
        self.assertEqual(held[[0]].nnz and int((np.abs(held[[0]].toarray()) > 1e-12).sum()), 2)


class SmearedFilm(unittest.TestCase):
    """A figure that goes to and fro so fast that the shutter smears its sides, and changes its outline as it goes."""

    FRAMES = range(1, 14)

    @classmethod
    def setUpClass(cls) -> None:
        cls._folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(cls._folder.cleanup)
        rng = np.random.default_rng(8)
        size = (360, 260)
        cls.art, cls.behind = (cv2.GaussianBlur(rng.normal(0, 1, (size[1], size[0] + 400, 3)).astype(np.float32), (0, 0), s) * a + np.float32(c)
                               for s, a, c in ((2.0, 130.0, (90, 130, 210)), (3.0, 90.0, (110, 100, 60))))
        cls.size = size
        for frame in cls.FRAMES:
            moments = [cls.moment(t) for t in frame + (np.arange(13) + 0.5) / 13 - 0.5]  # open all the time
            picture = np.mean([p for p, _ in moments], axis=0) + rng.normal(0, 2, (size[1], size[0], 3))
            cv2.imwrite(str(Path(cls._folder.name) / f"f.{frame:04d}.png"), np.clip(picture, 0, 255).astype(np.uint8))

    @staticmethod
    def shifted(time: float) -> np.ndarray:
        return np.array([45 * np.sin(0.45 * (time - 1)), 3 * np.sin(0.3 * (time - 1))])

    @classmethod
    def outline(cls, time: float) -> np.ndarray:
        """(8, 2) its points."""
        return 0.9 * FIGURE * (1 + 0.12 * np.sin(0.5 * (time - 1) + np.arange(8)))[:, None] + [180, 130] + cls.shifted(time)

    @classmethod
    def moment(cls, time: float) -> tuple[np.ndarray, np.ndarray]:
        alpha = polygon_area(flattened(bezier(cls.outline(time), np.ones(8)))[0], (0, 0, *cls.size))
        x, y = cls.shifted(time)
        own = cv2.warpAffine(cls.art, np.float32([[1, 0, x - 100], [0, 1, y]]), cls.size, flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT)
        return cls.behind[:, :cls.size[0]] + alpha[..., None] * (own - cls.behind[:, :cls.size[0]]), alpha

    def figure(self) -> DrawnMatte:
        shot = wertis.open(self._folder.name)
        corners = np.array([[140.0, 90], [220, 90], [220, 170], [140, 170]])
        lines = ["frame,x1,y1,x2,y2,x3,y3,x4,y4"] + [f"{f}," + ",".join(f"{v:.4f}" for v in (corners + self.shifted(f)).ravel()) for f in self.FRAMES]
        path = Path(self._folder.name) / "figure.csv"
        path.write_text("\n".join(lines) + "\n")
        matte = shot.matte(self.outline(1), 1, shot.import_motion(path, name="Figure"))
        matte.change(shutter=360.0)
        return matte

    def error(self, matte: DrawnMatte, frame: int) -> float:
        """Mean absolute difference of the alpha in the band along its edge."""
        true = np.mean([self.moment(t)[1] for t in frame + (np.arange(25) + 0.5) / 25 - 0.5], axis=0)
        edge = (true > 0.01) & (true < 0.99)
        return float(np.abs(matte.alpha(frame) - true)[edge].mean())


class SmearedFigureTest(SmearedFilm):
    BETWEEN = (2, 3, 4, 5, 6, 8, 9, 10, 11, 12)
    fitted: DrawnMatte
    events: list[tuple[int, int]]
    before: list[float]
    left: dict[int, str]

    def keyed(self) -> DrawnMatte:
        """The figure with keys at its true outline on the first frame, the seventh and the last."""
        matte = self.figure()
        for key in (7, 13):
            matte.key(key, self.outline(key))
        return matte

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.fitted, cls.events = cls.keyed(cls()), []
        cls.before = [cls.error(cls(), cls.fitted, f) for f in cls.BETWEEN]
        cls.left = cls.fitted.fit(cls.BETWEEN, progress=lambda e: cls.events.append((e.done, e.total)))

    def test_between_keys_it_is_nearer_than_keys_alone(self) -> None:
        after = [self.error(self.fitted, f) for f in self.BETWEEN]
        self.assertEqual(self.left, {})
        self.assertLess(np.mean(after), 0.25 * np.mean(self.before))
        self.assertLess(np.mean(after), 0.045)
        self.assertEqual(self.events[-1][0], self.events[-1][1])
        self.assertEqual([d for d, _ in self.events], sorted(d for d, _ in self.events))
        self.assertEqual(sorted(self.fitted.record.shapes[0].keys), list(self.FRAMES))
        for key in (1, 7, 13):  # what was keyed by hand stays
            np.testing.assert_allclose(self.fitted.points(key), self.outline(key), atol=1e-3)

    def test_it_is_the_same_bits_each_time(self) -> None:
        matte, found = self.keyed(), []
        for _ in range(2):
            matte.fit((9, 10, 11))
            found.append([matte.points(f) for f in (9, 10, 11)])
            matte.shot.undo()
        np.testing.assert_array_equal(*found)

    def test_the_edge_is_looked_for_as_far_away_as_was_asked(self) -> None:
        reaches: list[float] = []

        def measured(*given: object) -> EdgeMeasure:
            reaches.append(float(given[5]))  # type: ignore[arg-type]
            return EdgeMeasure(None, "nothing is there")

        with mock.patch.object(EdgeFinder, "measure", side_effect=measured):
            left = self.figure().fit([12, 13], reach=60)
        self.assertEqual(sorted(left), [12, 13])
        self.assertGreater(min(reaches), 20)  # the key is eleven frames away
        self.assertLessEqual(max(reaches), 60)

    def test_a_long_range_is_solved_block_by_block(self) -> None:
        matte = self.keyed()
        with mock.patch.object(matte_series, "_FRAMES", 9), mock.patch.object(matte_series, "_OVERLAP", 3):
            matte.fit(self.BETWEEN)
        for f in self.BETWEEN:
            self.assertLess(np.abs(matte.points(f) - self.fitted.points(f)).max(), 0.8, f)  # of an overlap of 3 frames in place of 8

    def test_stopped_it_says_what_it_left(self) -> None:
        matte, stop = self.figure(), threading.Event()
        left = matte.fit(range(2, 8), progress=lambda e: stop.set() if (e.frame or 0) >= 3 else None, stop=stop)
        self.assertIn("it was stopped", " ".join(left.values()))
        self.assertTrue(all(f in left or f in matte.record.shapes[0].keys for f in range(2, 8)))

    def test_a_frame_that_cannot_be_read_is_left_with_its_reason(self) -> None:
        (Path(self._folder.name) / "f.0005.png").rename(Path(self._folder.name) / "away")
        self.addCleanup((Path(self._folder.name) / "away").rename, Path(self._folder.name) / "f.0005.png")
        left = self.keyed().fit([4, 5, 6])
        self.assertEqual(list(left), [5])
        self.assertIn("was left", left[5])


if __name__ == "__main__":
    unittest.main()
