"""The shot as a document: items that hang on tracks, the order of layers, what is marked in fields, and what autosave writes."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

from tests.helpers import placement
from tests.test_shot import REGION, shot_with_track
from wertis.core.errors import RegionError
from wertis.core.geometry.motion import Fix
from wertis.core.repair.extra import ExtraValues
from wertis.core.shot import autosave, edits, extra_moves, hold_outs, items, repairs, store
from wertis.core.shot.artwork import Artwork
from wertis.core.shot.document import HoldOut, Placement, Shot, SmoothingLayer
from wertis.core.shot.fields import NamesFile, mapped, marked_values


def two_tracks() -> Shot:
    """A wall with two graphics, and a rope that moves otherwise."""
    shot, wall = shot_with_track()
    shot, rope = edits.add_track(shot, REGION + 20, 2, "Rope")
    shot = edits.set_tracked(shot, rope.id, {f: Fix(np.array([[1, 0, 0.0], [0, 1, 5.0 * (f - 2)], [0, 0, 1]]), 0.05, 1.0) for f in (1, 3, 4)})
    for name in ("Poster", "Sticker"):
        shot = items.add_item(shot, Placement(on=wall.id, name=name, frame=2, quad=edits.as_points(REGION), artwork=Artwork(kind="checker")))
    return shot


class ItemsTest(unittest.TestCase):
    def setUp(self) -> None:
        self.shot = two_tracks()
        self.wall, self.rope = self.shot.tracks
        self.poster, self.sticker = self.shot.placements(self.wall.id)

    def names(self, shot: Shot, track: str) -> list[str]:
        return [p.name for p in shot.placements(track)]

    def test_carried_by_another_track_it_does_not_move_in_the_picture(self) -> None:
        for frame in (1, 3, 4):
            moved = items.carry_item(self.shot, self.poster.id, self.rope.id, frame)
            other = moved.item(self.poster.id, Placement)
            assert other is not None
            np.testing.assert_allclose(edits.placement_on(moved, other, frame), edits.placement_on(self.shot, self.poster, frame), atol=1e-9)
            self.assertEqual(self.names(moved, self.rope.id), ["Poster"])
            self.assertEqual(self.names(moved, self.wall.id), ["Sticker"])
        # and from then on it goes with the rope: 5 pixels down a frame
        moved = items.carry_item(self.shot, self.poster.id, self.rope.id, 3)
        other = moved.item(self.poster.id, Placement)
        assert other is not None
        step = np.subtract(edits.placement_on(moved, other, 4), edits.placement_on(moved, other, 3))
        np.testing.assert_allclose(step, np.tile([0, 5], (4, 1)), atol=1e-9)

    def test_a_frame_on_which_a_track_is_lost_is_refused(self) -> None:
        with self.assertRaisesRegex(RegionError, "not tracked on frame 5"):
            items.carry_item(self.shot, self.poster.id, self.rope.id, 5)

    def test_a_hold_out_is_carried_too(self) -> None:
        shot = items.add_item(self.shot, HoldOut(of=self.wall.id, keys={2: edits.as_points(REGION)}))
        held = shot.hold_outs(self.wall.id)[0]
        shot = items.carry_item(shot, held.id, self.rope.id, 2)
        held = shot.hold_outs(self.wall.id)[0]
        np.testing.assert_allclose(hold_outs.shape_on(shot, held, 4), REGION + [0, 10], atol=1e-9)
        shot = items.carry_item(shot, held.id, "", 4)
        np.testing.assert_allclose(hold_outs.shape_on(shot, shot.hold_outs(self.wall.id)[0], 4), REGION + [0, 10], atol=1e-9)

    def test_duplicated_ordered_hidden_and_locked(self) -> None:
        shot, copy = items.duplicate_item(self.shot, self.poster.id)
        self.assertEqual(self.names(shot, self.wall.id), ["Poster", "Poster 2", "Sticker"])
        self.assertEqual(copy.but(id=self.poster.id, name="Poster"), self.poster)
        shot = items.order_item(shot, copy.id, 1)
        self.assertEqual(self.names(shot, self.wall.id), ["Poster", "Sticker", "Poster 2"])
        self.assertIs(items.order_item(shot, copy.id, 1), shot)
        shot = items.set_item(shot, copy.but(locked=True))
        for change in (lambda: items.remove_item(shot, copy.id), lambda: items.set_item(shot, copy.but(locked=True, name="Other")),
                       lambda: items.carry_item(shot, copy.id, self.rope.id, 2)):
            with self.assertRaisesRegex(RegionError, "locked"):
                change()
        shot = items.set_item(shot, copy.but(locked=False))
        self.assertEqual(self.names(items.remove_item(shot, copy.id), self.wall.id), ["Poster", "Sticker"])

    def test_a_locked_track_is_not_changed(self) -> None:
        shot = self.shot.with_track(self.wall.but(locked=True))
        for change in (lambda: edits.set_tracked(shot, self.wall.id, {}), lambda: repairs.add_point(shot, self.wall.id, REGION[0], 2),
                       lambda: extra_moves.set_values(shot, self.wall.id, 3, ExtraValues(1))):
            with self.assertRaisesRegex(RegionError, "locked"):
                change()

    def test_a_circle_is_refused_with_its_names(self) -> None:
        # the rope is held out of the wall and moves it; the wall held out of the rope would close the circle
        shot = items.add_item(self.shot, HoldOut(of=self.wall.id, on=self.rope.id, keys={2: edits.as_points(REGION)}))
        with self.assertRaisesRegex(RegionError, "Wall and Rope would depend on each other|Rope and Wall would depend on each other"):
            items.add_item(shot, HoldOut(of=self.rope.id, on=self.wall.id, keys={2: edits.as_points(REGION)}))
        with self.assertRaisesRegex(RegionError, "cannot be carried by Wall itself"):
            items.add_item(shot, HoldOut(of=self.wall.id, on=self.wall.id, keys={2: edits.as_points(REGION)}))

    def test_with_its_track_goes_what_hangs_on_it(self) -> None:
        shot = self.shot.without_track(self.wall.id)
        self.assertEqual(shot.items, ())
        self.assertEqual([t.name for t in shot.tracks], ["Rope"])


class LayersTest(unittest.TestCase):
    def test_layers_stand_in_their_order_however_they_came(self) -> None:
        shot, track = shot_with_track()
        shot = extra_moves.set_values(shot, track.id, 3, ExtraValues(2))
        shot = repairs.add_point(shot, track.id, REGION[0], 2)
        shot = shot.with_track(shot.tracks[0].with_layer(SmoothingLayer(width=3)))
        self.assertEqual([layer.kind for layer in shot.tracks[0].layers], ["smoothing", "repair", "extra-move"])
        self.assertEqual([layer.kind for layer in shot.tracks[0].with_layer(SmoothingLayer()).layers], ["repair", "extra-move"])


class FieldsTest(unittest.TestCase):
    def test_one_walker_finds_every_file_and_changes_only_those(self) -> None:
        shot = two_tracks()
        picture = placement(shot).but(artwork=Artwork(kind="picture", path="/a/poster.png"))
        shot = items.set_item(shot, picture)
        shot = items.add_item(shot, HoldOut(of=shot.tracks[1].id, path="/a/matte.####.png"))
        self.assertEqual({p for p in marked_values(shot, NamesFile) if p}, {shot.plate.path, "/a/poster.png", "/a/matte.####.png"})  # type: ignore[union-attr]
        moved = mapped(shot, lambda path, _: path.replace("/a/", "/b/"), NamesFile)
        self.assertEqual(placement(moved).artwork.path, "/b/poster.png")
        self.assertTrue(all(a is b for a, b in zip(moved.tracks, shot.tracks, strict=True)), "what holds no file is the same object")

    def test_an_unknown_kind_is_refused_with_its_name(self) -> None:
        shot, _ = shot_with_track()
        with self.assertRaisesRegex(ValueError, "named 'sponge'"):
            Shot.model_validate({**shot.model_dump(), "items": [{"kind": "sponge", "id": "0123456789ab"}]})


class AutosaveTest(unittest.TestCase):
    def test_only_what_changed_is_written(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name) / "one.kept"
            shot = two_tracks()
            autosave.write_copy(shot, folder)
            before = {p: p.stat().st_mtime_ns for p in folder.rglob("*") if p.is_file()}
            self.assertGreaterEqual(len(before), 5)
            wall = shot.tracks[0]
            changed = edits.set_tracked(shot.but(name="Changed"), wall.id, {5: Fix(np.eye(3), 0.1, 1.0)})
            autosave.write_copy(changed, folder)
            self.assertEqual(autosave.read_copy(folder), changed)
            after = {p: p.stat().st_mtime_ns for p in folder.rglob("*") if p.is_file()}
            kept = [p for p in after if before.get(p) == after[p]]
            rope = shot.tracks[1].solution
            self.assertIsNotNone(rope)
            self.assertGreaterEqual(len(kept), 3, "the other track's arrays were not written again")
            self.assertLessEqual(set(after), set(folder.rglob("*")), "and nothing is left that nobody refers to")
            again = autosave.read_copy(folder)
            store.save(again, Path(name) / "s.wertis")
            self.assertEqual(store.load(Path(name) / "s.wertis"), changed)

    def test_equal_arrays_are_stored_once(self) -> None:
        shot = two_tracks()
        doubled, _ = edits.add_track(shot, REGION, 2, "Twin")
        twin = doubled.tracks[-1].but(solution=shot.tracks[0].solution)
        with tempfile.TemporaryDirectory() as name:
            for k, one in enumerate((shot, doubled.with_track(twin))):
                autosave.write_copy(one, Path(name) / f"{k}.kept")
            self.assertEqual(*(len(list((Path(name) / f"{k}.kept" / "arrays").iterdir())) for k in (0, 1)))


if __name__ == "__main__":
    unittest.main()
