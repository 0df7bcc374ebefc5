"""A shot that was moved finds its files again; sequences as artwork hold or loop."""

import shutil
import unittest
from pathlib import Path
from unittest.mock import patch

import numpy as np
from PySide6.QtWidgets import QFileDialog

from tests.helpers import hold_out
from tests.test_window import WindowCase
from wertis.core.comp.artwork import FileArtwork
from wertis.core.exchange.pictures import write_picture
from wertis.core.plate import open_plate
from wertis.core.shot import edits, items, relocate, store
from wertis.core.shot.artwork import Artwork
from wertis.core.shot.document import HoldOut, Placement


class MovedTest(WindowCase):
    def setUp(self) -> None:
        super().setUp()
        self.job = self.folder / "job"
        (self.job / "art").mkdir(parents=True)
        shutil.move(self.plate, self.job / "plates" / "wall")
        write_picture(self.job / "art" / "poster.png", np.full((8, 8, 3), 90, np.uint8))
        plate = open_plate(self.job / "plates" / "wall")
        shot, track = edits.add_track(edits.new_shot(plate, str(self.job / "plates" / "wall"), "Moved"), self.made.region, 1001)
        art = Artwork(kind="picture", path=str(self.job / "art" / "poster.png"))
        shot = items.add_item(shot, Placement(on=track.id, frame=1001, quad=edits.as_points(self.made.region), artwork=art))
        shot = shot.with_item(HoldOut(of=track.id, path=str(self.job / "mattes" / "m.####.png")))
        (self.job / "mattes").mkdir()
        self.shot = shot

    def test_moved_together_everything_is_where_the_file_says(self) -> None:
        store.save(self.shot, self.job / "s.wertis")
        shutil.move(self.job, self.folder / "elsewhere")
        self.window.open_path(self.folder / "elsewhere" / "s.wertis")
        self.assertEqual(relocate.gone(self.window.session.shot), [])
        self.assertEqual(self.window.session.plate.path if self.window.session.plate else None, self.folder / "elsewhere" / "plates" / "wall")

    def test_moved_below_the_shot_they_are_found_by_themselves(self) -> None:
        store.save(self.shot, self.job / "s.wertis")
        (self.job / "new").mkdir()
        shutil.move(self.job / "plates", self.job / "new" / "plates")
        shutil.move(self.job / "mattes", self.job / "new" / "mattes")
        decoy = self.job / "a" / "wall"
        decoy.mkdir(parents=True)
        w = self.window
        w.open_path(self.job / "s.wertis")
        self.assertIn("2 of its files had moved", w.words.text())
        self.assertEqual(w.session.plate.path if w.session.plate else None, self.job / "new" / "plates" / "wall")
        self.assertEqual(hold_out(w.session.shot).path, str(self.job / "new" / "mattes" / "m.####.png"))
        self.assertTrue(w.session.history.unsaved)

    def test_elsewhere_it_asks_once(self) -> None:
        store.save(self.shot, self.folder / "alone" / "s.wertis") if (self.folder / "alone").mkdir() is None else None
        shutil.move(self.job, self.folder / "attic")
        asked = []

        def where(*words: object) -> str:
            asked.append(words[1])
            return str(self.folder / "attic")

        with patch.object(QFileDialog, "getExistingDirectory", where):
            self.window.open_path(self.folder / "alone" / "s.wertis")
        self.assertEqual(len(asked), 1)
        self.assertIn("wall and 2 more", str(asked[0]))
        self.assertIn("3 of 3 files were found again", self.window.words.text())
        self.assertIsNotNone(self.window.session.plate)
        self.assertEqual(relocate.gone(self.window.session.shot), [])


class ArtworkTimeTest(WindowCase):
    def test_a_sequence_begins_holds_and_loops(self) -> None:
        folder = Path(self.folder) / "art"
        for k in range(3):
            write_picture(folder / f"a.{k + 10:03d}.png", np.full((4, 4, 3), 50 * k, np.uint8)) if folder.mkdir(exist_ok=True) is None else None
        art = FileArtwork(folder / "a.010.png", still=False)

        def shown(frame: int, loop: bool, **more: object) -> int:
            return round(float(art.read(art.index(frame, Artwork(start=100, loop=loop, **more)))[0][0, 0, 0]) * 255)  # type: ignore[arg-type]

        self.assertEqual([shown(f, False) for f in (98, 100, 101, 102, 103, 110)], [0, 0, 50, 100, 100, 100])
        self.assertEqual([shown(f, True) for f in (98, 99, 100, 101, 102, 103, 107)], [50, 100, 0, 50, 100, 0, 50])
        self.assertEqual([shown(f, False, speed=0.5) for f in range(99, 106)], [0, 0, 0, 50, 50, 100, 100])
        self.assertEqual([shown(f, False, speed=-1) for f in range(99, 104)], [100, 100, 50, 0, 0])
        self.assertEqual([shown(f, True, speed=2) for f in range(100, 104)], [0, 100, 50, 0])
        self.assertEqual([shown(f, False, held=101) for f in range(100, 104)], [0, 50, 50, 50])
        w, s = self.window, self.window.session
        self.open_plate()
        self.draw()
        w.steps["Use"].place()
        w.steps["Use"].page.artwork.set_file("sequence", folder / "a.010.png")
        w.steps["Use"].page.artwork.start.setValue(1003)
        w.steps["Use"].page.artwork.after.setCurrentIndex(1)
        w.steps["Use"].page.artwork.after.activated.emit(1)
        assert s.placement is not None
        self.assertEqual((s.placement.artwork.start, s.placement.artwork.loop), (1003, True))


if __name__ == "__main__":
    unittest.main()
