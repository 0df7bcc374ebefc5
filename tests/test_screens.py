"""The window fits what a desktop leaves, and its bold text has a bold face."""

import unittest

from PySide6.QtCore import Qt
from PySide6.QtGui import QFont, QFontDatabase, QRawFont

from tests.test_window import WindowCase
from wertis.app import theme
from wertis.app.fields import Choice

FRAME = (2, 30)  # pixels that a window frame takes: sides together, title with border; common practice
SCREENS = ((1280, 720), (1280, 800), (1366, 768), (1920, 1080), (2560, 1440), (1920 / 1.5, 1080 / 1.5), (2560 / 1.5, 1440 / 1.5), (2560 / 2, 1440 / 2),
           (3840 / 2, 2160 / 2))
"""Desktops, in the toolkit's own pixels: a screen of 1920 x 1080 at scale 1.5 has 1280 x 720 of them."""


class FitTest(WindowCase):
    def test_all_of_it_is_on_the_screen_in_every_step(self) -> None:
        self.open_plate()
        self.draw()
        w = self.window
        for width, height in SCREENS:
            w.fit_to(int(width) - FRAME[0], int(height) - FRAME[1])
            for step in w.steps:
                w.session.go_step(step)
                self.spin(0.01)
                self.assertLessEqual(w.width(), width - FRAME[0], (width, height, step))
                self.assertLessEqual(w.height(), height - FRAME[1], (width, height, step))
                for part in (w.step_bar, w.viewer, w.details, w.transport, w.lanes, w.strip):
                    corner = part.mapTo(w, part.rect().bottomRight())
                    if part.isVisible():
                        self.assertTrue(w.rect().contains(corner), (width, height, step, type(part).__name__))
                self.assertGreaterEqual(w.panes.height(), 260, (width, height, step))

    def test_bold_text_is_painted_with_the_bold_face(self) -> None:
        font = QFont(self.app.font())
        light = QRawFont.fromFont(font)
        font.setWeight(theme.STRONG)
        strong = QRawFont.fromFont(font)
        self.assertEqual((light.familyName(), strong.familyName()), ("Inter", "Inter"))
        self.assertNotEqual(light.styleName(), strong.styleName())
        self.assertIn("Semi", strong.styleName())
        self.assertIn("SemiBold", [s.replace(" ", "") for s in QFontDatabase.styles("Inter")])
        # nothing asks for a weight that no face has, which Qt would paint by smearing a lighter one
        self.assertNotRegex(self.app.styleSheet(), r"font-weight:\s*(bold|700|800|900)")

    def test_long_choices_are_wholly_there_when_the_box_is_open(self) -> None:
        self.open_plate()
        w = self.window
        w.session.go_step("Plate")
        self.spin()
        for box in w.details.findChildren(Choice):
            if not box.isVisible():
                continue
            box.showPopup()
            widest = max((box.fontMetrics().horizontalAdvance(box.itemText(k)) for k in range(box.count())), default=0)
            self.assertGreaterEqual(box.view().width(), widest, box.accessibleName())
            box.hidePopup()

    def test_the_last_frame_s_number_stays_on_the_ruler(self) -> None:
        self.open_plate()
        lanes = self.window.lanes
        self.spin()
        pixels = lanes.grab().toImage()
        edge = [pixels.pixelColor(lanes.width() - 1, y) for y in range(0, 16)]
        self.assertEqual(len({c.rgb() for c in edge}), 1, "nothing is cut off at the right edge")
        self.assertTrue(self.window.isVisible() and self.window.windowState() == Qt.WindowState.WindowNoState)


if __name__ == "__main__":
    unittest.main()
