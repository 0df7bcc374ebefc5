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
from wertis.core.shot import edits
from wertis.core.shot.resolve import motion_of
from wertis.core.track.run import track_plane


def another_place(n: int) -> list[np.ndarray]:
    """Pictures (h, w, 3) uint8 of another shot: the camera goes over a picture that is not in the first."""
    wall = cv2.resize(pictures.chelsea(), (SIZE[0] + 60, SIZE[1] + 40))
    return [np.ascontiguousarray(wall[2 * i:2 * i + SIZE[1], 3 * i:3 * i + SIZE[0]]) for i in range(n)]


def edited() -> list[np.ndarray]:
    """Three shots one after the other: a plane (10 frames), another place (8), the plane again (8)."""
    plane = PlaneShot(n=18).frames
    return [*plane[:10], *another_place(8), *plane[10:]]


def covered() -> list[np.ndarray]:
    """A shot of a plane (18 frames) with four frames in it, from the eleventh on, on which something else is all that is seen."""
    plane = PlaneShot(n=18).frames
    return [*plane[:10], *another_place(4), *plane[10:]]


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

    def test_where_a_person_says_that_there_is_no_cut_tracking_goes_on(self) -> None:
        """Something covers all of the picture for some frames, which looks as if another shot began, and again after it."""
        made = PlaneShot(n=18)
        plate = FramesPlate(covered())
        self.assertEqual(cut_frames(dict(find_cuts(plate))), (10, 14))
        answers = dict(track_plane(plate, made.region, 0, range(1, 22)))
        self.assertEqual(max(f for f, fix in answers.items() if fix.matrix is not None), 9)
        self.assertIn("tell Wertis there that it is no cut", answers[20].reason)
        plate.no_cuts = frozenset({10, 14})
        self.assertEqual(cut_frames(dict(find_cuts(plate))), ())
        for start, frames, sure in ((0, range(1, 22), {*range(1, 10), *range(14, 22)}), (21, range(20, -1, -1), {*range(14, 21), *range(10)})):
            region = made.region if start == 0 else made.truth(17)
            found = dict(track_plane(plate, region, start, frames))
            self.assertEqual({f for f, fix in found.items() if fix.matrix is not None}, sure)
            self.assertNotIn("cut", found[11].reason)

    def test_no_cut_on_the_command_line_in_scripts_and_kept_with_the_shot(self) -> None:
        for i, frame in enumerate(covered()):
            cv2.imwrite(str(self.folder / f"c.{i + 1:04d}.png"), frame[..., ::-1])
        self.assertEqual(command("cuts", str(self.folder), "--quiet")[1].split(), ["1-10", "11-14", "15-22"])
        self.assertEqual(command("cuts", str(self.folder), "--quiet", "--no-cut", "11,15")[1].split(), ["1-22"])
        where = ("track", str(self.folder), "--start", "1", "--region", pairs(PlaneShot(n=18).region), "--out", str(self.folder / "o.csv"))
        command(*where, "--no-cut", "11,15", "--save", str(self.folder / "kept.wertis"))
        self.assertEqual([int(r["frame"]) for r in table(self.folder / "o.csv") if r["x1"]], [*range(1, 11), *range(15, 23)])
        kept = wertis.open(self.folder / "kept.wertis")
        assert kept.document.plate is not None
        self.assertEqual((kept.document.plate.no_cuts, kept.plate.no_cuts), ((11, 15), frozenset({11, 15})))
        kept.set_no_cut(15, False)
        self.assertEqual(kept.plate.no_cuts, frozenset({11}))
        self.assertEqual(kept.find_cuts(), (15,))
        for wrong, words in (("1", "2 to 22"), ("40", "2 to 22"), ("x", "frame numbers with commas")):
            code, _, err = command(*where, "--no-cut", wrong)
            self.assertEqual(code, 1)
            self.assertIn(words, err)

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


class NoCutTest(WindowCase):
    def test_a_frame_is_said_to_be_no_cut_and_tracking_goes_on(self) -> None:
        made = PlaneShot(n=18)
        (self.folder / "covered").mkdir()
        for i, frame in enumerate(covered()):
            cv2.imwrite(str(self.folder / "covered" / f"c.{i + 1001:04d}.png"), frame[..., ::-1])
        w, s = self.window, self.window.session
        w.open_path(self.folder / "covered")
        self.until(lambda: s.plate is not None and s.plate.last == 1022)
        w.run_command("plate.cuts")
        with patch.object(QInputDialog, "getItem", lambda *_: ("", False)):
            self.until(lambda: w.job is None and bool(s.shot.plate and s.shot.plate.cuts))
        shot, track = edits.add_track(s.shot, made.region, 1001, "Plane")
        s.history.do("Draw", shot)
        s.select(track.id)
        w.run_command("plate.no_cut")  # the first frame cannot be one
        self.assertIn("Nothing can be cut before frame 1001", w.words.text())
        for frame in (1011, 1015):
            s.go(frame)
            w.run_command("plate.no_cut")
            self.assertIn(f"Tracking goes on over frame {frame}", w.words.text())
        assert s.shot.plate is not None
        self.assertEqual((s.shot.plate.cuts, s.shot.plate.no_cuts), ((), (1011, 1015)))
        w.steps["Plate"].bring()
        self.spin()
        self.assertIn("no cut before 1011, 1015", w.steps["Plate"].page.facts.text())
        s.go(1001)
        w.steps["Track"].track("forward")
        self.until(lambda: w.job is None)
        motion = motion_of(s.shot.tracks[0])
        assert motion is not None
        self.assertIsNotNone(motion.at(1020))
        s.go(1015)
        w.run_command("plate.no_cut")
        self.assertIn("told by the pictures again", w.words.text())
        s.history.undo()
        s.history.undo()  # the track
        s.history.undo()
        assert s.plate is not None and s.shot.plate is not None
        self.assertEqual((s.shot.plate.no_cuts, s.plate.no_cuts), ((1011,), frozenset({1011})))


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
