"""A choice among the shot's mattes."""

from collections.abc import Sequence

from PySide6.QtCore import QSignalBlocker

from wertis.app.fields import Choice
from wertis.core.shot.document import Shot
from wertis.core.shot.mattes import mattes_of


def show_mattes(box: Choice, shot: Shot, chosen: Sequence[str], none: str) -> None:
    """Offer a shot's mattes, and none under the words `none`; the first of the ids `chosen` is shown."""
    with QSignalBlocker(box):
        box.clear()
        box.addItem(none, "")
        for matte in mattes_of(shot):
            box.addItem(matte.name, matte.id)
        box.setCurrentIndex(max(box.findData(chosen[0] if chosen else ""), 0))
