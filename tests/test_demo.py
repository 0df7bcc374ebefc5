"""The demo shots: made with known truth, tracked, and carrying a graphic."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

import wertis
from wertis.core.comp.picture import Compositor
from wertis.core.geometry import homography
from wertis.core.plate import open_plate
from wertis.core.shot import store
from wertis.demo import graphics, make
from wertis.demo.scene import FIRST
from wertis.demo.walk import Walk


class DemoTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls._folder = tempfile.TemporaryDirectory()
        cls.root = Path(cls._folder.name) / "demo"
        cls.events = list(make.make(cls.root, frames=4))

    @classmethod
    def tearDownClass(cls) -> None:
        cls._folder.cleanup()

    def test_the_tracked_shot_is_near_the_truth(self) -> None:
        shot = store.load(self.root / make.TRACKED)
        solved = shot.tracks[0].solution
        assert solved is not None
        self.assertTrue(solved.good.all())
        first = make.front_corners(self.root / "tea_crate")
        for f, m in zip(solved.frames, solved.matrices):
            truth = make.front_corners(self.root / "tea_crate", int(f))
            self.assertLess(np.linalg.norm(homography.apply(m, first) - truth, axis=1).mean(), 0.2)

    def test_graphics_that_an_open_shot_uses_are_not_written_anew(self) -> None:
        folder = self.root / "graphics"
        (folder / "stencil.png").write_bytes(b"half a picture")
        before = {p.name: p.stat().st_mtime_ns for p in folder.iterdir()}
        graphics.write_all(folder)
        after = {p.name: p.stat().st_mtime_ns for p in folder.iterdir()}
        self.assertEqual({name for name in after if after[name] != before.get(name)}, {"stencil.png"})
        self.assertEqual(set(after), set(before))

    def test_the_graphic_is_on_the_crate(self) -> None:
        shot = store.load(self.root / make.TRACKED)
        assert shot.plate is not None
        plate = open_plate(shot.plate.path)
        picture = plate.read(FIRST + 3)
        changed = (Compositor().comp(shot, picture, FIRST + 3) != picture).any(2)
        self.assertGreater(changed.mean(), 0.03)
        self.assertLess(changed.mean(), 0.3)

    def test_untouched_shots_are_pictures_with_light_and_grain(self) -> None:
        for name in make.FILMS:
            plate = open_plate(self.root / name)
            self.assertEqual((plate.first, plate.size), (FIRST, (1280, 720)))
            picture = plate.read(FIRST).astype(float)
            self.assertGreater(picture.std(), 30)
            self.assertLess((picture >= 255).mean(), 0.02)

    def test_signs_on_one_two_and_four_points_follow_what_they_are_on(self) -> None:
        shot, scene = wertis.open(self.root / make.WALK_SIGNS), Walk(make.WALKS[make.WALK])
        for name, corners, count in (("House, one point", scene.house, 1), ("Crate, two points", scene.crate_front(1), 2),
                                     ("Crate, four points", scene.crate_front(4), 4)):
            sign = shot.surface(name)
            start = np.array([p.place for p in sign.tracked_points(FIRST).values()])
            self.assertEqual(len(start), count)
            first = homography.from_unit_square(scene.seen(corners, 0))
            for index in range(1, 4):
                onto = homography.from_unit_square(np.mean([scene.seen(corners, t) for t in scene.moments(index)], axis=0))
                truth = homography.apply(onto @ np.linalg.inv(first), start)
                found = np.array([p.place for p in sign.tracked_points(FIRST + index).values()])
                self.assertLess(np.linalg.norm(found - truth, axis=1).max(), 0.4, name)
            self.assertEqual(len(shot.document.placements(sign.id)), 1)

    def test_making_again_does_nothing(self) -> None:
        stamp = (self.root / make.TRACKED).stat().st_mtime_ns
        self.assertTrue(make.ready(self.root))
        self.assertGreater(len(self.events), 6)
        self.assertEqual(list(make.make(self.root)), [])
        self.assertEqual((self.root / make.TRACKED).stat().st_mtime_ns, stamp)


if __name__ == "__main__":
    unittest.main()
