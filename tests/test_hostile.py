"""Damaged and hostile files, and long random chains of edits: a small slice of what bench/ does."""

import os
import random
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from tests.scenes import PlaneShot
from wertis.core.errors import DeliverError, WertisError
from wertis.core.exchange import animated_mesh, camera_json, usd_stage
from wertis.core.geometry.motion import Fix
from wertis.core.plate import open_plate
from wertis.core.repair.extra import ExtraValues
from wertis.core.shot import bends, edits, extra_moves, items, repairs, store
from wertis.core.shot.document import HoldOut, Placement, PlaneSettings, RepairLayer, Shot, SmoothingLayer
from wertis.core.shot.history import History

ROOT = Path(__file__).resolve().parent.parent


class DamagedTest(unittest.TestCase):
    def test_damaged_files_are_refused_or_opened_with_what_is_sound(self) -> None:
        done = subprocess.run([sys.executable, str(ROOT / "bench" / "damaged.py"), "200"], capture_output=True, text=True, timeout=120)
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        self.assertIn("0 went wrong", done.stdout)
        self.assertIn("refused", done.stdout)


    def test_what_libraries_cannot_read_is_refused_with_words(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        mesh = animated_mesh.AnimatedMesh((320, 240), 25.0, 1, np.eye(3, 2), np.array([[0, 1, 2]]), {1: np.eye(3, 2)})
        animated_mesh.write_usd(folder / "m.usda", mesh)
        text = (folder / "m.usda").read_bytes()
        (folder / "m.usda").write_bytes(text.replace(b"texCoord2f", b"tex\xff\xfe"))  # no text
        (folder / "m.obj").write_text("v 1 2 0\nv 1\nf 1 2 x\n")
        (folder / "c.json").write_text('{"format": "wertis camera", "version": 1, "size": [1e999, 2]}')
        for read, name in ((animated_mesh.read_usd, "m.usda"), (animated_mesh.read_obj, "m.obj"), (camera_json.read_camera, "c.json")):
            with self.assertRaisesRegex(DeliverError, name):
                read(folder / name)

    def test_a_library_that_ends_its_process_does_not_end_ours(self) -> None:
        with mock.patch.object(usd_stage, "_READ_ALL", "import os, signal; os.kill(os.getpid(), signal.SIGSEGV)"), \
                self.assertRaisesRegex(DeliverError, "its library ended on it"):
            animated_mesh.read_usd(Path("m.usdc"))


class RandomActionsTest(unittest.TestCase):
    def test_a_hundred_random_actions_in_a_window(self) -> None:
        done = subprocess.run([sys.executable, str(ROOT / "bench" / "random_actions.py"), "150", "7"], capture_output=True, text=True, timeout=200,
                              env={**os.environ, "QT_QPA_PLATFORM": "offscreen"})
        self.assertEqual(done.returncode, 0, done.stdout[-3000:] + done.stderr[-3000:])
        self.assertIn("1 runs of 150 actions: 0 exceptions", done.stdout)
        self.assertIn("undone to the start", done.stdout)


class ChainTest(unittest.TestCase):
    """Random actions, and as many undone: the shot is the same at every step, and after saving and reading again."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.made = PlaneShot(n=4)
        self.plate = self.made.write(self.folder / "plate")
        self.rng = random.Random(10)

    def point(self) -> np.ndarray:
        return np.array([self.rng.uniform(100, 380), self.rng.uniform(70, 270)])

    def action(self, shot: Shot) -> Shot:
        """The shot after one random action; the same when that action is refused."""
        rng = self.rng
        if not shot.tracks or rng.random() < 0.03:
            if len(shot.tracks) > 4:
                return shot.without_track(rng.choice(shot.tracks).id)
            return edits.add_track(shot, self.made.region + rng.uniform(-20, 20), 1001)[0]
        track = rng.choice(shot.tracks)
        ident, frame = track.id, rng.randrange(1001, 1005)
        placed, held = shot.placements(ident), shot.hold_outs(ident)
        placement = rng.choice(placed) if placed else None
        point = rng.choice(track.layer(RepairLayer).points) if track.layer(RepairLayer).points else None
        quad = self.made.region + np.array([[rng.uniform(-8, 8), rng.uniform(-8, 8)] for _ in range(4)])
        actions = [
            lambda: edits.set_tracked(shot, ident, {f: Fix(np.array([[1, 0, rng.uniform(-9, 9)], [0, 1, 3], [0, 0, 1.0]]), 0.1, 1.0)
                                                   for f in range(1001, 1005)}),
            lambda: items.add_item(shot, Placement(on=ident, frame=frame, quad=edits.as_points(quad))) if len(placed) < 3 else shot,
            lambda: items.set_item(shot, placement.but(opacity=rng.random())) if placement else shot,
            lambda: items.remove_item(shot, placement.id) if placement else shot,
            lambda: items.duplicate_item(shot, placement.id)[0] if placement and len(placed) < 3 else shot,
            lambda: items.order_item(shot, placement.id, rng.choice([-1, 1])) if placement else shot,
            lambda: items.carry_item(shot, placement.id, rng.choice(shot.tracks).id, frame) if placement else shot,
            lambda: repairs.add_point(shot, ident, self.point(), frame) if len(track.layer(RepairLayer).points) < 5 else shot,
            lambda: repairs.remove_point(shot, ident, point.id) if point else shot,
            lambda: repairs.set_key(shot, ident, frame),
            lambda: repairs.move_points(shot, ident, frame, {point.id: self.point()}) if point else shot,
            lambda: repairs.clear_keys(shot, ident, frame),
            lambda: repairs.set_repair(shot, ident, enabled=rng.random() < 0.5, between=rng.choice(["smooth", "straight", "held"])),
            lambda: extra_moves.set_values(shot, ident, frame, ExtraValues(rng.uniform(-9, 9), 2, 1 + rng.random(), rng.uniform(-20, 20))),
            lambda: extra_moves.set_key(shot, ident, frame),
            lambda: extra_moves.clear_key(shot, ident, frame),
            lambda: bends.set_key(shot, placement.id, frame) if placement else shot,
            lambda: items.add_item(shot, HoldOut(of=ident, keys={frame: edits.as_points(quad)})) if len(held) < 3 else shot,
            lambda: items.carry_item(shot, rng.choice(held).id, rng.choice(shot.tracks).id, frame) if held else shot,
            lambda: shot.with_track(track.with_layer(SmoothingLayer(width=rng.choice([0.0, 3.0])))),
            lambda: edits.set_settings(shot, ident, PlaneSettings(model=rng.choice(["affine", "perspective"]))),
            lambda: shot.but(name=f"Shot {rng.random()}", range=(1001, rng.randrange(1001, 1005))),
        ]
        try:
            return rng.choice(actions)()
        except WertisError:
            return shot

    def test_two_thousand_actions_and_as_many_undone(self) -> None:
        history = History(edits.new_shot(open_plate(self.plate), str(self.plate), "Chain"))
        states = [history.shot]
        while len(states) < 2001:
            after = self.action(history.shot)
            merge = self.rng.choice(["", "", "drag"])
            before = history.shot
            history.do(self.rng.choice("abc"), after, "")
            if merge:
                history.end_merge()
            if history.shot is not before:
                states.append(history.shot)
            if len(states) % 200 == 0:
                path = self.folder / "s.wertis"
                store.save(history.shot, path)
                self.assertEqual(store.load(path), history.shot)
        for k in range(len(states) - 2, -1, -1):
            self.assertTrue(history.undo())
            self.assertEqual(history.shot, states[k], f"undone to step {k}")
        self.assertEqual(history.undo(), "")
        for k in range(1, len(states)):
            history.redo()
            self.assertEqual(history.shot, states[k], f"done again to step {k}")


if __name__ == "__main__":
    unittest.main()
