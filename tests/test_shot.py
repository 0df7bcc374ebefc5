"""The shot: edits, undo without limit, and the file."""

import io
import json
import random
import tempfile
import unittest
import zipfile
from pathlib import Path
from unittest import mock

import numpy as np
from pydantic import ValidationError

from wertis.core.errors import RegionError, ShotFileError
from wertis.core.geometry.motion import Fix
from wertis.core.shot import edits, items, regions, store
from wertis.core.shot.artwork import Artwork
from wertis.core.shot.document import Placement, PlateRef, Shot, Track
from wertis.core.shot.history import History

REGION = np.array([[100.0, 80], [400, 90], [390, 300], [110, 310]])


def shot_with_track(frames: int = 5) -> tuple[Shot, Track]:
    """A shot with one tracked region; the surface moves 3 px a frame and is lost on the last."""
    shot = Shot(name="S", plate=PlateRef(path="/nowhere/plate", first=1, last=frames, size=(640, 480)), range=(1, frames))
    shot, track = edits.add_track(shot, REGION, 2, "Wall")
    fixes = {}
    for f in range(1, frames + 1):
        m = np.eye(3)
        m[0, 2] = 3.0 * (f - 2)
        fixes[f] = Fix(m, 0.05, 0.9) if f < frames else Fix(None, reason="only 2% of the region is seen", seen=0.02)
    shot = edits.set_tracked(shot, track.id, fixes)
    found = shot.track(track.id)
    assert found is not None
    return shot, found


class EditsTest(unittest.TestCase):
    def test_region_and_placement_ride_on_the_motion(self) -> None:
        _, track = shot_with_track()
        moved = edits.region_on(track, 4)
        assert moved is not None
        np.testing.assert_allclose(moved, REGION + [6, 0])
        self.assertIsNone(edits.region_on(track, 5))

    def test_keeping_the_placement_on_another_frame_moves_nothing(self) -> None:
        shot, track = shot_with_track()
        placement = Placement(on=track.id, frame=2, quad=edits.as_points(REGION))
        other = edits.rebase_placement(shot, placement, 4)
        self.assertEqual(other.frame, 4)
        for f in (1, 2, 3, 4):
            a, b = edits.placement_on(shot, placement, f), edits.placement_on(shot, other, f)
            assert a is not None and b is not None
            np.testing.assert_allclose(a, b, atol=1e-9)
        with self.assertRaisesRegex(RegionError, "not tracked on frame 5"):
            edits.rebase_placement(shot, placement, 5)

    def test_tracking_again_lays_new_answers_over_the_old(self) -> None:
        shot, track = shot_with_track()
        again = edits.set_tracked(shot, track.id, {5: Fix(np.eye(3), 0.1, 1.0)})
        solved = again.tracks[0].solution
        assert solved is not None
        self.assertTrue(solved.good.all())
        self.assertEqual(solved.reasons, {})
        np.testing.assert_array_equal(solved.frames, [1, 2, 3, 4, 5])

    def test_names_are_kept_apart(self) -> None:
        shot, _ = shot_with_track()
        shot, second = edits.add_track(shot, REGION, 1, "Wall")
        self.assertEqual(second.name, "Wall 2")

    def test_a_folded_placement_is_refused(self) -> None:
        with self.assertRaises(ValidationError):
            Placement(frame=1, quad=edits.as_points(REGION[[0, 2, 1, 3]]))

    def test_tracked_numbers_cannot_be_changed_in_place(self) -> None:
        _, track = shot_with_track()
        assert track.solution is not None
        with self.assertRaises(ValueError):
            track.solution.matrices[0, 0, 0] = 7


class HistoryTest(unittest.TestCase):
    def test_random_edits_undo_to_the_very_same_states(self) -> None:
        rng = random.Random(5)
        shot, _track = shot_with_track()
        history = History(shot)
        states = [history.shot]
        for k in range(300):
            current = history.shot
            pick = rng.choice(current.tracks) if current.tracks else None
            choice = rng.randrange(6)
            if choice == 0 or pick is None:
                new, _ = edits.add_track(current, REGION + rng.uniform(0, 9), rng.randint(1, 5))
            elif choice == 1:
                new = items.add_item(current, Placement(on=pick.id, frame=2, quad=edits.as_points(REGION)))
            elif choice == 2 and current.placements(pick.id):
                new = items.set_item(current, current.placements(pick.id)[0].but(opacity=rng.random()))
            elif choice == 3 and len(current.tracks) > 2:
                new = current.without_track(pick.id)
            elif choice == 4:
                new = edits.set_tracked(current, pick.id, {3: Fix(np.eye(3) * 1.0, rng.random(), 0.5)})
            else:
                new = current.with_track(pick.but(name=f"T{k}", visible=not pick.visible))
            history.do(f"edit {k}", new)
            if history.shot is not states[-1]:
                states.append(history.shot)
        for state in reversed(states[:-1]):
            self.assertTrue(history.undo())
            self.assertIs(history.shot, state)
        self.assertEqual(history.undo(), "")
        for state in states[1:]:
            history.redo()
            self.assertIs(history.shot, state)

    def test_a_drag_is_one_step(self) -> None:
        shot, track = shot_with_track()
        history = History(shot)
        for k in range(10):
            history.do("Move", regions.with_points(history.shot, track.id, 0, REGION + k + 1), "drag")
        history.end_merge()
        history.do("Move", regions.with_points(history.shot, track.id, 0, REGION + 50), "drag")
        history.undo()
        self.assertEqual(history.shot.tracks[0].region.points, edits.as_points(REGION + 10))
        history.undo()
        self.assertIs(history.shot, shot)

    def test_unsaved_follows_undo(self) -> None:
        shot, _ = shot_with_track()
        history = History(shot)
        self.assertFalse(history.unsaved)
        history.do("Rename", shot.but(name="Other"))
        self.assertTrue(history.unsaved)
        history.undo()
        self.assertFalse(history.unsaved)


class StoreTest(unittest.TestCase):
    def setUp(self) -> None:
        self._folder = tempfile.TemporaryDirectory()
        self.addCleanup(self._folder.cleanup)
        self.path = Path(self._folder.name) / "s.wertis"
        shot, track = shot_with_track()
        picture = str(Path(self._folder.name) / "art" / "poster.png")
        placement = Placement(on=track.id, frame=2, quad=edits.as_points(REGION), artwork=Artwork(kind="picture", path=picture),
                              blend="multiply", ratio=1.5)
        self.shot = items.add_item(shot, placement)

    def test_round_trip_is_the_same_shot(self) -> None:
        store.save(self.shot, self.path)
        self.assertEqual(store.load(self.path), self.shot)

    def test_the_file_moves_with_its_folder(self) -> None:
        inside = str(Path(self._folder.name) / "plate")
        assert self.shot.plate is not None
        store.save(self.shot.but(plate=self.shot.plate.but(path=inside)), self.path)
        with tempfile.TemporaryDirectory() as other:
            moved = Path(other) / "s.wertis"
            moved.write_bytes(self.path.read_bytes())
            plate = store.load(moved).plate
            assert plate is not None
            self.assertEqual(Path(plate.path), Path(other) / "plate")

    def test_it_is_json_and_npy_with_the_convention_said(self) -> None:
        store.save(self.shot, self.path)
        with zipfile.ZipFile(self.path) as archive:
            text = json.loads(archive.read("shot.json"))
            self.assertIn("0.5,0.5", text["convention"])
            matrices = np.load(io.BytesIO(archive.read(text["shot"]["tracks"][0]["solution"]["matrices"]["array"])), allow_pickle=False)
        self.assertEqual(matrices.shape, (5, 3, 3))

    def test_a_failed_save_leaves_the_old_file_and_no_litter(self) -> None:
        store.save(self.shot, self.path)
        before = self.path.read_bytes()
        with mock.patch("os.fsync", side_effect=OSError(28, "No space left on device")), self.assertRaisesRegex(ShotFileError, "No space left"):
            store.save(self.shot.but(name="new"), self.path)
        self.assertEqual(self.path.read_bytes(), before)
        self.assertEqual([p.name for p in self.path.parent.iterdir()], ["s.wertis"])

    def test_damaged_files_are_refused_with_a_message(self) -> None:
        store.save(self.shot, self.path)
        whole = self.path.read_bytes()
        rng = random.Random(1)
        opened = 0
        for k in range(150):
            data = bytearray(whole)
            if k % 3 == 0:
                data = data[: rng.randrange(len(data))]
            else:
                for _ in range(rng.randint(1, 8)):
                    data[rng.randrange(len(data))] = rng.randrange(256)
            self.path.write_bytes(data)
            try:
                store.load(self.path)
                opened += 1
            except ShotFileError as why:
                self.assertIn(self.path.name if "part" not in str(why) else "part", str(why))
        self.assertLess(opened, 150)

    def rewritten(self, change) -> None:  # type: ignore[no-untyped-def]
        store.save(self.shot, self.path)
        with zipfile.ZipFile(self.path) as archive:
            members = {n: archive.read(n) for n in archive.namelist()}
        document = json.loads(members["shot.json"])
        change(document, members)
        members["shot.json"] = json.dumps(document).encode()
        with zipfile.ZipFile(self.path, "w") as archive:
            for name, data in members.items():
                archive.writestr(name, data)

    def test_hostile_files(self) -> None:
        def errors(d):  # type: ignore[no-untyped-def]
            return d["shot"]["tracks"][0]["solution"]["errors"]["array"]

        def newer(d, m):  # type: ignore[no-untyped-def]
            d["version"] = 99

        def pickled(d, m):  # type: ignore[no-untyped-def]
            out = io.BytesIO()
            np.save(out, np.array([{"a": 1}], dtype=object), allow_pickle=True)
            m[errors(d)] = out.getvalue()

        def short(d, m):  # type: ignore[no-untyped-def]
            out = io.BytesIO()
            np.save(out, np.zeros(2))
            m[errors(d)] = out.getvalue()

        def huge(d, m):  # type: ignore[no-untyped-def]
            head = io.BytesIO()
            np.lib.format.write_array_header_1_0(head, {"descr": "<f8", "fortran_order": False, "shape": (1 << 40,)})
            m[errors(d)] = head.getvalue()

        def stranger(d, m):  # type: ignore[no-untyped-def]
            d["shot"]["surprise"] = True

        def nan(d, m):  # type: ignore[no-untyped-def]
            d["shot"]["tracks"][0]["region"]["points"][0][0] = 1e300

        for change, words in ((newer, "newer Wertis"), (pickled, "does not hold"), (short, "one length"), (huge, "does not hold"),
                              (stranger, "surprise"), (nan, "region")):
            with self.subTest(change.__name__):
                self.rewritten(change)
                with self.assertRaisesRegex(ShotFileError, words):
                    store.load(self.path)

    def test_not_a_shot_file(self) -> None:
        with self.assertRaisesRegex(ShotFileError, "does not exist"):
            store.load(self.path)
        self.path.write_text("hello")
        with self.assertRaisesRegex(ShotFileError, "not a shot file"):
            store.load(self.path)


if __name__ == "__main__":
    unittest.main()
