"""Cuts: found in a plate, asked about when a movie that has them is opened, and where tracking ends."""

import unittest
from unittest.mock import patch

import cv2
import numpy as np
from PySide6.QtWidgets import QInputDialog
from skimage import data as pictures

import wertis
from tests.scenes import SIZE, FramesPlate, PlaneShot
from tests.test_deliver import command, pairs, table
from tests.test_plate import Folder
from tests.test_window import WindowCase
from wertis.core.exchange.movie_writer import MovieWriter
from wertis.core.plate.cuts import cut_frames, find_cuts, shot_around
from wertis.core.track.run import track_plane


def another_place(n: int) -> list[np.ndarray]:
    """Pictures (h, w, 3) uint8 of another shot: the camera goes over a picture that is not in the first."""
    wall = cv2.resize(pictures.chelsea(), (SIZE[0] + 60, SIZE[1] + 40))
    return [np.ascontiguousarray(wall[2 * i:2 * i + SIZE[1], 3 * i:3 * i + SIZE[0]]) for i in range(n)]


def edited() -> list[np.ndarray]:
    """Three shots one after the other: a plane (10 frames), another place (8), the plane again (8)."""
    plane = PlaneShot(n=18).frames
    return [*plane[:10], *another_place(8), *plane[10:]]


class FinderTest(unittest.TestCase):
    def found(self, frames: list[np.ndarray]) -> tuple[int, ...]:
        return cut_frames(dict(find_cuts(FramesPlate(frames))))

    def test_cuts_are_found_on_their_frames(self) -> None:
        self.assertEqual(self.found(edited()), (10, 18))

    def test_shaking_passers_breathing_light_and_a_flash_are_no_cuts(self) -> None:
        for how in ({"shake": 12.0, "shutter": 0.5}, {"passer": 0.4}, {"exposure": 0.4}, {"mirrored": 0.5}, {"motion": 1.5}):
            with self.subTest(**how):
                self.assertEqual(self.found(PlaneShot(n=16, **how).frames), ())  # type: ignore[arg-type]
        flashed = PlaneShot(n=16).frames
        flashed[7] = np.full_like(flashed[7], 250)
        self.assertEqual(self.found(flashed), ())

    def test_bars_that_stay_make_no_two_shots_one(self) -> None:
        frames = edited()
        for frame in frames:
            frame[:40] = frame[-40:] = 16
        self.assertEqual(self.found(frames), (10, 18))

    def test_the_shot_around_a_frame(self) -> None:
        self.assertEqual([shot_around((10, 18), f, 0, 25) for f in (0, 9, 10, 17, 25)], [(0, 9), (0, 9), (10, 17), (10, 17), (18, 25)])


class TrackingTest(Folder):
    def test_tracking_ends_at_a_cut_in_both_directions(self) -> None:
        made, frames = PlaneShot(n=18), edited()
        answers = dict(track_plane(FramesPlate(frames), made.region, 0, range(1, 26)))
        self.assertEqual(sorted(f for f, fix in answers.items() if fix.matrix is not None), list(range(1, 10)))
        self.assertEqual(sorted(answers), list(range(1, 26)))
        self.assertIn("another shot begins at frame 10", answers[20].reason)
        region = made.truth(14)
        back = dict(track_plane(FramesPlate(frames), region, 22, range(21, -1, -1)))
        self.assertEqual(sorted(f for f, fix in back.items() if fix.matrix is not None), [18, 19, 20, 21])
        self.assertIn("cut between", back[3].reason)

    def test_on_the_command_line_and_in_scripts(self) -> None:
        for i, frame in enumerate(edited()):
            cv2.imwrite(str(self.folder / f"e.{i + 1:04d}.png"), frame[..., ::-1])
        code, out, _ = command("cuts", str(self.folder), "--quiet")
        self.assertEqual(code, 0)
        self.assertRegex(out, r"11\b")
        self.assertRegex(out, r"19\b")
        self.assertEqual(wertis.open(self.folder).find_cuts(), (11, 19))
        code, _, err = command("track", str(self.folder), "--start", "1", "--region", pairs(PlaneShot(n=18).region), "--out", str(self.folder / "o.csv"))
        self.assertEqual(code, 0)
        self.assertEqual([int(r["frame"]) for r in table(self.folder / "o.csv")], list(range(1, 11)))
        self.assertIn("another shot begins at frame 11", err)


class MovieTest(WindowCase):
    def test_a_movie_with_cuts_asks_which_shot_and_shows_them(self) -> None:
        movie = self.folder / "edited.mkv"
        with MovieWriter(movie, SIZE, 24.0) as writer:
            for frame in edited():
                writer.add(frame)
        asked: list[list[str]] = []

        def answer(parent, title, words, choices, *_) -> tuple[str, bool]:  # type: ignore[no-untyped-def]
            asked.append(list(choices))
            return choices[1], True

        w, s = self.window, self.window.session
        with patch.object(QInputDialog, "getItem", answer):
            w.open_path(movie)
            self.until(lambda: w.job is None and bool(s.shot.plate and s.shot.plate.cuts))
        assert s.shot.plate is not None
        self.assertEqual(s.shot.plate.cuts, (11, 19))
        self.assertEqual(len(asked), 1)
        self.assertEqual(len(asked[0]), 3)
        self.assertEqual(s.shot.range, (11, 18))
        # a mark stands on the ruler where each shot begins
        w.run_command("range.shot")
        self.assertEqual(s.shot.range, (11, 18))
        s.history.do("Set the range", s.shot.but(range=(1, 26)))
        self.spin()
        marked = w.lanes.grab().toImage()
        s.history.do("No cuts", s.shot.but(plate=s.shot.plate.but(cuts=())))
        self.spin()
        plain = w.lanes.grab().toImage()
        changed = {x for x in range(plain.width()) for y in range(16) if plain.pixel(x, y) != marked.pixel(x, y)}
        for frame in (11, 19):
            begins = (w.lanes.x_of(frame - 1) + w.lanes.x_of(frame)) / 2
            self.assertTrue(any(abs(x - begins) < 4 for x in changed), frame)
        self.assertFalse(any(abs(x - w.lanes.x_of(5)) < 6 for x in changed))


if __name__ == "__main__":
    unittest.main()
