"""Text, colours and gradients as artwork."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
from PIL import Image, ImageDraw, ImageFont

from tests.scenes import PlaneShot
from tests.test_plate import Folder
from tests.test_window import WindowCase
from wertis.core.comp import text
from wertis.core.errors import PlateError, WertisError


class TextTest(unittest.TestCase):
    def test_it_is_what_pillow_draws(self) -> None:
        """Pillow's own rendering of the same letters, without outline, is the reference."""
        made = text.text("Tea 47", colour=(1.0, 0.5, 0.0))
        alpha = made[..., 3]

        def cropped(picture: np.ndarray) -> np.ndarray:
            rows, columns = np.flatnonzero(picture.any(1)), np.flatnonzero(picture.any(0))
            return picture[rows[0]:rows[-1] + 1, columns[0]:columns[-1] + 1]

        own, best = cropped(alpha), 1.0
        left, _, right, _ = ImageFont.truetype(str(text.DEFAULT_FONT), 200).getbbox("Tea 47")
        guess = round(200 * own.shape[1] / (right - left))
        for letters in range(guess, guess + 30):
            picture = Image.new("L", (own.shape[1] + 200, own.shape[0] + letters))
            ImageDraw.Draw(picture).text((50, 20), "Tea 47", fill=255, font=ImageFont.truetype(str(text.DEFAULT_FONT), letters))
            theirs = cropped(np.asarray(picture) / 255)
            if theirs.shape == own.shape:
                best = min(best, float(np.abs(theirs - own).mean()))
        self.assertLess(best, 0.01)
        full = alpha == 1
        np.testing.assert_allclose(made[full][:, :3], np.tile([1.0, 128 / 255, 0.0], (full.sum(), 1)), atol=1e-6)
        self.assertTrue((made[..., :3].max(-1) <= alpha + 1e-6).all())  # premultiplied

    def test_lines_outline_and_scripts_that_run_from_right_to_left(self) -> None:
        one, two = text.text_ratio("Harbour"), text.text_ratio("Harbour\nHarbour")
        self.assertGreater(one, 1.8 * two)
        self.assertGreater((text.text("A", outline=8)[..., 3] > 0).mean(), (text.text("A")[..., 3] > 0).mean())
        self.assertEqual(text.text("")[..., 3].max(), 0)
        hebrew = "\u05e9\u05dc\u05d5\u05dd"
        if ImageFont.core.HAVE_RAQM:
            self.assertGreater(text.text(hebrew)[..., 3].max(), 0)

    def test_a_font_that_cannot_be_read_is_told(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "bad.ttf").write_bytes(b"no font")
            for name in (f"{folder}/bad.ttf", f"{folder}/missing.otf"):
                with self.assertRaisesRegex(PlateError, "choose a TrueType"):
                    text.text("a", name)

    def test_colours(self) -> None:
        np.testing.assert_allclose(text.solid((0.2, 0.4, 1.5))[0, 0], [0.2, 0.4, 1.5, 1.0], atol=1e-6)
        across = text.gradient((0.0, 0.0, 0.0), (1.0, 1.0, 1.0), 0.0, 2.0)
        self.assertAlmostEqual(across.shape[1] / across.shape[0], 2.0, places=2)
        np.testing.assert_allclose(across[3, :, 0], (np.arange(512) + 0.5) / 512, atol=1e-6)
        down = text.gradient((0.0, 0.0, 0.0), (1.0, 1.0, 1.0), 90.0, 1.0)
        self.assertLess(np.ptp(down[5, :, 0]), 1e-6)
        self.assertGreater(down[-1, 0, 0], 0.99)


class PlacedTextTest(Folder):
    def test_scripts_write_on_a_surface(self) -> None:
        import wertis

        PlaneShot(n=2).write(self.folder)
        shot = wertis.open(self.folder)
        wall = shot.add(PlaneShot(n=2).corners[0], 1001, "Wall")
        words = wall.write("Low tide\n06:40", frame=1001, colour=(1.0, 0.0, 0.0))
        self.assertEqual(words.name, "Low tide")
        red = shot.frame(1001, "graphic")
        self.assertGreater(red[..., 3].max(), 0.95)
        self.assertLess(red[..., 1].max(), 0.01)
        words.artwork(text="", colour=(0.0, 1.0, 0.0))
        self.assertEqual(shot.frame(1001, "graphic")[..., 3].max(), 0)
        plain = wall.place("solid", frame=1001).artwork(colour=(0.25, 0.5, 0.75))
        quad = plain.corners(1001)
        assert quad is not None
        x, y = quad.mean(0).astype(int)
        np.testing.assert_allclose(shot.frame(1001, "graphic")[y, x], [0.25, 0.5, 0.75, 1], atol=2e-3)
        wall.place("gradient", frame=1001)
        with self.assertRaises(WertisError):
            wall.write("a", font=self.folder / "none.ttf")
        with self.assertRaisesRegex(WertisError, "align"):
            words.artwork(align="diagonal")


class TextWindowTest(WindowCase):
    def test_text_is_typed_in_the_window(self) -> None:
        w, s = self.window, self.window.session
        self.tracked_and_placed()
        page = w.steps["Use"].page
        for kind in ("text", "gradient", "solid", "text"):
            page.artwork.artwork.setCurrentIndex(page.artwork.artwork.findData(kind))
            page.artwork.artwork.activated.emit(0)
            self.assertEqual(s.placement.artwork.kind, kind)
            self.assertEqual(page.artwork.words.isVisibleTo(w), kind == "text")
            self.assertEqual(page.artwork.angle.isVisibleTo(w), kind == "gradient")
        before = s.placement.array
        page.part.button(1).click()
        page.place.scale.setValue(50)
        page.place.turn.setValue(90)
        now = s.placement.quad_at(s.frame)
        self.assertLess(np.linalg.norm(now.mean(0) - before.mean(0)), 6)
        self.assertLess(np.ptp(now, axis=0).max(), 0.8 * np.ptp(before, axis=0).max())
        self.assertEqual((page.place.scale.value(), page.place.along.value(), page.place.turn.value()), (50, 50, 90))
        page.place.straight.click()
        np.testing.assert_array_equal(s.placement.quad_at(s.frame), before)
        page.part.button(0).click()
        page.artwork.words.setPlainText("Mind the step")
        self.assertEqual(s.placement.artwork.text, "Mind the step")
        page.artwork.align.setCurrentIndex(2)
        page.artwork.align.activated.emit(2)
        self.assertEqual(s.placement.artwork.align, "right")
        self.until(lambda: w.viewer.picture is not None and w.viewer.picture_frame == s.frame)
        page.artwork.words.setPlainText("Mind the gap")
        w.undo()
        self.assertEqual(page.artwork.words.toPlainText(), s.placement.artwork.text)


del WindowCase, Folder


if __name__ == "__main__":
    unittest.main()
