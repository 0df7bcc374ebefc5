"""How a plate is shown: published curves, the built-in colour configuration, and that no view reaches a render."""

import os
import tempfile
import unittest
from pathlib import Path
from unittest.mock import patch

import numpy as np

from tests.test_window import WindowCase
from wertis.core.errors import PlateError
from wertis.core.jobs.render import render
from wertis.core.plate import colour
from wertis.core.plate.colour import Viewing, shown
from wertis.core.plate.sequence import read_picture

SRGB = {0.0: 0, 0.0031308: 10, 0.01: 25, 0.05: 63, 0.1: 89, 0.18: 118, 0.214: 127, 0.5: 188, 1.0: 255}
"""Linear light to 8-bit sRGB, worked out by hand from the curve of IEC 61966-2-1."""


def flat(value: float, kind: type = np.float32, channels: int = 3) -> np.ndarray:
    return np.full((2, 2, channels), value, kind)


class ShownTest(unittest.TestCase):
    def test_floats_go_through_the_published_curve(self) -> None:
        for linear, coded in SRGB.items():
            self.assertEqual(int(shown(flat(linear))[0, 0, 0]), coded, linear)

    def test_whole_numbers_are_shown_as_coded(self) -> None:
        for value in (0, 1, 77, 255):
            self.assertEqual(int(shown(flat(value, np.uint8))[0, 0, 0]), value)
            self.assertEqual(int(shown(flat(257 * value, np.uint16))[0, 0, 0]), value)

    def test_a_stop_doubles_the_light(self) -> None:
        for linear in (0.05, 0.18, 0.4):
            twice = int(shown(flat(2 * linear))[0, 0, 0])
            self.assertEqual(int(shown(flat(linear), Viewing(exposure=1))[0, 0, 0]), twice)
            coded = int(shown(flat(linear))[0, 0, 0])
            self.assertAlmostEqual(int(shown(flat(coded, np.uint8), Viewing(exposure=1))[0, 0, 0]), twice, delta=2)

    def test_one_channel_and_alpha(self) -> None:
        picture = np.zeros((2, 2, 4), np.uint8)
        picture[...] = [10, 20, 30, 128]
        for name, value in (("red", 10), ("green", 20), ("blue", 30), ("alpha", 128)):
            self.assertEqual(shown(picture, Viewing(channel=name))[0, 0].tolist(), [value] * 3)
        self.assertEqual(shown(picture[..., :3], Viewing(channel="alpha"))[0, 0].tolist(), [255] * 3)
        # weights of ITU-R BT.601-7
        self.assertAlmostEqual(int(shown(picture, Viewing(channel="luma"))[0, 0, 0]), 0.299 * 10 + 0.587 * 20 + 0.114 * 30, delta=1)

    def test_the_built_in_configuration_agrees_with_the_published_curve(self) -> None:
        self.assertEqual(colour.proposed(np.float16), "Linear Rec.709 (sRGB)")
        self.assertEqual(colour.proposed(np.uint8), "sRGB Encoded Rec.709 (sRGB)")
        through = Viewing(display="sRGB - Display", view="Un-tone-mapped")
        for linear, coded in SRGB.items():
            self.assertAlmostEqual(int(shown(flat(linear), through)[0, 0, 1]), coded, delta=1)
        for value in (0, 40, 200, 255):  # coded for the display it is shown on, nothing changes
            self.assertAlmostEqual(int(shown(flat(value, np.uint8), through)[0, 0, 1]), value, delta=1)
        brighter = Viewing(display="sRGB - Display", view="Un-tone-mapped", exposure=1)
        self.assertAlmostEqual(int(shown(flat(0.18), brighter)[0, 0, 1]), int(shown(flat(0.36))[0, 0, 1]), delta=1)
        self.assertIn(("sRGB - Display", "Un-tone-mapped"), colour.views())

    def test_a_configuration_that_cannot_be_used(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            bad = Path(folder) / "config.ocio"
            bad.write_text("no configuration")
            with patch.dict(os.environ, OCIO=str(bad)), self.assertRaisesRegex(PlateError, "unset that environment variable"):
                colour.spaces()
        with self.assertRaisesRegex(PlateError, "choose another colour space"):
            shown(flat(0.5), Viewing(space="no such space", display="sRGB - Display", view="Un-tone-mapped"))


class ViewingWindowTest(WindowCase):
    def test_the_view_changes_the_picture_and_no_render(self) -> None:
        self.open_plate()
        w, s = self.window, self.window.session
        s.go_step("Plate")
        fields = w.steps["Plate"].page.viewing
        self.until(lambda: w.viewer.picture is not None)
        plain = w.viewer.picture.copy()  # type: ignore[union-attr]
        fields.exposure.setValue(2)
        self.until(lambda: w.viewer.picture is not None and w.viewer.picture.mean() > plain.mean() + 20)
        self.assertEqual(s.viewing.words(), "exposure +2")
        w.transport.show_numbers(100.5, 80.5)
        value = s.plate.read(s.frame)[80, 100] if s.plate else None
        self.assertIn("plate " + " ".join(map(str, value)), w.transport.place.text())  # type: ignore[arg-type]
        assert s.plate is not None
        list(render(s.shot, s.plate, str(self.folder / "out" / "p.####.png"), [1001]))
        np.testing.assert_array_equal(read_picture(self.folder / "out" / "p.1001.png"), s.plate.read(1001))
        fields.channel.setCurrentIndex(fields.channel.findData("red"))
        fields.channel.activated.emit(1)
        self.until(lambda: w.viewer.picture is not None and np.array_equal(w.viewer.picture[..., 0], w.viewer.picture[..., 1]))
        fields.reset.click()
        self.until(lambda: w.viewer.picture is not None and np.array_equal(w.viewer.picture, plain))
        fields.space.setCurrentIndex(fields.space.findData("ACEScg"))
        fields.space.activated.emit(1)
        self.assertEqual(s.shot.plate.colour if s.shot.plate else "", "ACEScg")
        w.undo()
        self.assertEqual(s.shot.plate.colour if s.shot.plate else "", "")


if __name__ == "__main__":
    unittest.main()
