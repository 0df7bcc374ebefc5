"""Colours, fonts and the style sheet: neutral greys round a picture whose colours must be judged, one accent."""

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from PySide6.QtGui import QColor, QFont, QFontDatabase
from PySide6.QtWidgets import QApplication

ACCENT = QColor("#5fb8a6")
HALO = QColor(0, 0, 0, 170)
PAPER = QColor("#f2efe6")
AMBER = QColor("#e0a33e")
LOST = QColor("#d9694f")
TEXT = QColor("#c9c9c9")
QUIET = QColor("#8d8d8d")
GROUND = QColor("#1b1b1b")
PANEL = QColor("#262626")
STRONG = QFont.Weight.DemiBold  # the heavier of the faces that are shipped; any other weight would be painted by smearing the lighter one


def apply_theme(application: QApplication) -> None:
    """Load the shipped font and style."""
    here = Path(__file__).parent
    family = ""
    for file in sorted((here / "fonts").glob("*.otf")):
        ident = QFontDatabase.addApplicationFont(str(file))
        families = QFontDatabase.applicationFontFamilies(ident) if ident >= 0 else []
        family = family or (families[0] if families else "")
    font = QFont(family or "sans-serif")
    font.setPixelSize(12)
    application.setFont(font)
    application.setStyle("Fusion")
    application.setStyleSheet((here / "style.qss").read_text(encoding="utf-8").replace("@icons", (here / "icons").as_posix()))


@contextmanager
def styled_when_whole() -> Iterator[None]:
    """Widgets that are put together meanwhile take the style sheet at the end, all at once.

    Qt styles all that is in a widget anew whenever that is put into another one, which is most of the time of making a large window.
    """
    application = QApplication.instance()
    if not isinstance(application, QApplication):
        yield
        return
    sheet = application.styleSheet()
    application.setStyleSheet("")
    try:
        yield
    finally:
        application.setStyleSheet(sheet)
