"""A reflection over a surface: told apart from it, given up where it was followed, and said where neither can be known."""

import threading
import unittest
from unittest import mock

import cv2
import numpy as np

from tests.scenes import SIZE, FramesPlate, PlaneShot
from tests.test_tracker import errors, first_and_last, track
from wertis.core.geometry import homography, polygon
from wertis.core.geometry.motion import Fix
from wertis.core.imaging.layer_separation import Layers
from wertis.core.plate.base import luma
from wertis.core.track import transparent_layers
from wertis.core.track.reflection import ReflectionKeeper
from wertis.core.track.run import track_plane


class FollowedReflectionTest(unittest.TestCase):
    def test_a_reflection_that_was_followed_is_given_up_for_the_surface(self) -> None:
        # as strong as the surface itself: the tracker goes with it at first, far off and sure
        for shot in (PlaneShot(n=14, mirrored=1.0, picture="rocket", seed=8),
                     PlaneShot(n=12, mirrored=1.0, picture="astronaut")):  # a short range: it is the first layer that turns into the surface
            first, last = first_and_last(shot)
            frames = range(1, len(shot.frames))
            self.assertGreater(np.median(errors(shot, [first[f] for f in frames])), 20)
            found = errors(shot, [last[f] for f in frames])
            self.assertLess(np.sqrt((found ** 2).mean()), 0.25)
            self.assertGreater((found <= 2 * np.array([last[f].error for f in frames])).mean(), 0.9)

    def test_where_surface_and_reflection_cannot_be_told_apart_the_frames_are_lost(self) -> None:
        shot = PlaneShot(n=10, mirrored=0.6, picture="rocket")  # large flat areas, and so short that little of what is mirrored has left
        first, last = first_and_last(shot)
        frames = range(1, len(shot.frames))
        self.assertGreater(np.median(errors(shot, [first[f] for f in frames])), 20)
        for fix in last.values():
            if fix.matrix is None:
                self.assertIn("cannot be told apart; draw", fix.reason)
        left = errors(shot, [last[f] for f in frames])
        self.assertFalse((np.isfinite(left) & (left > 0.25)).any(), left)

    def test_where_a_second_layer_is_there_but_cannot_be_known_the_frames_are_lost_and_where_there_is_none_they_stay(self) -> None:
        shot = PlaneShot(n=12, mirrored=1.0)
        with mock.patch.object(transparent_layers, "_unexplained", return_value=0.7):  # of what the followed layer leaves, round after round
            first, last = first_and_last(shot)
        self.assertTrue(all(fix.matrix is not None for fix in first.values()))
        self.assertTrue(all(fix.matrix is None and "cannot be told apart" in fix.reason for fix in last.values()))
        with mock.patch.object(transparent_layers, "_unexplained", return_value=0.95):
            _, last = first_and_last(shot)
        self.assertTrue(all(fix.matrix is not None for fix in last.values()))

    def test_frames_that_went_with_the_reflection_until_the_surface_was_found_are_answered_again(self) -> None:
        for n, least in ((20, 15), (14, 0)):  # over fewer frames the two cannot be told apart
            shot = PlaneShot(n=n, mirrored=0.6, picture="chelsea")
            keeper = ReflectionKeeper(luma(shot.frames[0]), polygon.fill(shot.region, SIZE), shot.region, "perspective", 0)
            for frame in range(1, n):
                place = shot.region - (5.0 * frame, 0) if frame <= 6 else shot.truth(frame) + (0.2, 0.1)
                keeper.keep(frame, Fix(homography.from_points(shot.region, place), 0.6), luma(shot.frames[frame]))
            found = dict(keeper.answers(lambda frame, shot=shot: luma(shot.frames[frame])))  # type: ignore[misc]
            self.assertEqual(sorted(found), list(range(1, n)))
            left = errors(shot, [found[frame] for frame in range(1, n)])
            seen = np.isfinite(left)
            self.assertFalse((left[seen] > 2 * np.array([found[f].error for f in range(1, n)])[seen]).any(), left)
            self.assertGreaterEqual(seen.sum(), least)


class ReflectionTest(unittest.TestCase):
    def test_a_reflection_is_told_apart_from_the_surface(self) -> None:
        shot = PlaneShot(n=36, mirrored=0.5)
        plain = errors(shot, track(shot))
        answers: dict[int, Fix] = {}
        often: list[int] = []
        for frame, fix in track_plane(FramesPlate(shot.frames), shot.region, 0, range(1, 36)):
            answers[frame] = fix
            often.append(frame)
        better = errors(shot, [answers[f] for f in range(1, 36)])
        self.assertGreater(len(often), len(answers))  # answered a second time
        self.assertLess(np.sqrt((better ** 2).mean()), 0.25)
        self.assertLess(np.sqrt((better ** 2).mean()), 0.5 * np.sqrt((plain ** 2).mean()))
        self.assertGreater((better <= 2 * np.array([answers[f].error for f in range(1, 36)])).mean(), 0.9)

    def test_what_the_frames_next_to_the_start_do_not_show_leaves_the_whole_range_in_doubt(self) -> None:
        shot = PlaneShot(n=26)
        fixes = {f: Fix(homography.from_points(shot.region, shot.truth(f)), 0.2) for f in range(1, 26)}
        unclear, tracked = (transparent_layers._Separation(kind, conclusive=False) for kind in ("unclear", "tracked"))
        for whole, near, wanted in ((unclear, tracked, "unclear"), (tracked, unclear, "unclear"), (tracked, tracked, "tracked")):
            with mock.patch.object(transparent_layers, "_separated", side_effect=[whole, near]) as asked:
                verdict = transparent_layers.told_apart(lambda f: luma(shot.frames[f]), 0, fixes, polygon.fill(shot.region, SIZE), shot.region,
                                                        "perspective")
            self.assertEqual((verdict.kind, verdict.fixes), (wanted, {}))
            self.assertEqual([len(call.args[0]) for call in asked.call_args_list], [26, 24])

    def test_stopping_while_they_are_told_apart_keeps_what_was_tracked(self) -> None:
        shot, stop, again = PlaneShot(n=36, mirrored=0.7, picture="rocket"), threading.Event(), []
        read_once: set[int] = set()

        def read(frame: int) -> np.ndarray:
            if frame and frame in read_once:  # all were tracked, and the layers are looked for
                again.append(frame)
                stop.set()
            read_once.add(frame)
            return shot.frames[frame]

        answers = list(track_plane(FramesPlate(shot.frames), shot.region, 0, range(1, 36), "perspective", read=read, stop=stop))
        self.assertEqual({f for f, fix in answers if fix.matrix is not None}, set(range(1, 36)))
        self.assertEqual(len(again), 1, "nothing more is read once it was to stop")

    def test_what_passes_in_front_is_not_taken_for_a_layer_that_was_followed(self) -> None:
        shot = PlaneShot(n=16, passer=0.6, noise=7, picture="rocket")
        with mock.patch.object(transparent_layers, "_separated", side_effect=transparent_layers._separated) as asked:
            first, last = first_and_last(shot)
        self.assertTrue(asked.called)
        self.assertLessEqual({f for f, fix in first.items() if fix.matrix is not None}, {f for f, fix in last.items() if fix.matrix is not None})

    def test_a_surface_that_turns_more_than_it_may_is_not_taken_for_two_layers(self) -> None:
        shot, found = PlaneShot(n=14, noise=7, exposure=0.3, picture="chelsea", seed=46), {}
        with mock.patch.object(transparent_layers, "_separated", side_effect=transparent_layers._separated) as asked:
            for frame, fix in track_plane(FramesPlate(shot.frames), shot.region, 0, range(1, 14), "shift"):
                self.assertEqual(fix.matrix is None, frame in found and found[frame].matrix is None, "none is lost afterwards")
                found[frame] = fix
        self.assertTrue(asked.called)
        self.assertEqual(len(found), 13)

    def test_a_slow_reflection_is_not_drawn_to_the_surface(self) -> None:
        # two layers so little apart from frame to frame that their peaks overlap
        rng = np.random.default_rng(4)
        h, w, n, speed = 150, 220, 40, 1.6
        art = cv2.GaussianBlur(rng.normal(0, 1, (h, w)), (0, 0), 2) * 180
        mirror = cv2.GaussianBlur(rng.normal(0, 1, (h, w + 100)), (0, 0), 2) * 110
        frames = [np.clip(128 + art + mirror[:, 80 - int(speed * i):][:, :w] + rng.normal(0, 2, (h, w)), 0, 250).astype(np.uint8) for i in range(n)]
        mask = np.zeros((h, w), np.uint8)
        mask[10:-10, 10:-10] = 255
        layers = Layers(frames[0], mask, 0)
        for i in range(1, n):
            layers.keep(i, np.eye(3), frames[i])
        self.assertTrue(layers.separated(lambda surface, inside, pictures, matrices: matrices))
        for k in layers.kept:
            np.testing.assert_allclose((k.shift - layers.kept[0].shift) * layers.scale, [int(speed * k.away), 0], atol=0.6)

    def test_a_reflection_is_told_apart_backwards_and_over_missing_frames(self) -> None:
        shot = PlaneShot(n=36, mirrored=0.5)
        shot.frames.reverse()
        shot.corners.reverse()
        whole = [np.array([[.07, .07], [.93, .07], [.93, .93], [.07, .93]])]
        region = homography.apply(homography.from_unit_square(shot.corners[35]), whole[0])
        frames = [f for f in range(34, -1, -1) if f not in (20, 21, 9)]
        first: dict[int, Fix] = {}
        last: dict[int, Fix] = {}
        for frame, fix in track_plane(FramesPlate(shot.frames), region, 35, frames):
            first.setdefault(frame, fix)
            last[frame] = fix

        def rms(answers: dict[int, Fix]) -> float:
            off = [homography.apply(x.matrix, region) - homography.apply(homography.from_points(shot.corners[35], shot.corners[f]), region)
                   for f, x in answers.items() if x.matrix is not None]
            return float(np.sqrt(np.mean([np.linalg.norm(o, axis=1).mean() ** 2 for o in off])))

        self.assertLess(rms(last), 0.25)
        self.assertLess(rms(last), 0.5 * rms(first))


if __name__ == "__main__":
    unittest.main()
