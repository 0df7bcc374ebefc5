"""What the pages of the details share."""

from collections.abc import Callable

from PySide6.QtWidgets import QComboBox, QSizePolicy, QStackedWidget, QWidget

from wertis.app.session import Session


class Page(QWidget):
    """A step's settings; `show_state` is called when anything changed."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("panel")
        for signal in (session.shot_changed, session.selection_changed, session.plate_changed, session.frame_changed, session.live_changed):
            signal.connect(lambda *_: self.show_state())

    def show_state(self) -> None:
        """Show things as they are."""


def combo(words: dict[str, str], name: str, activated: Callable[[], object]) -> QComboBox:
    """A box to choose from; `words` are key to text."""
    box = QComboBox()
    box.setAccessibleName(name)
    box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    box.setMinimumContentsLength(8)
    for key, text in words.items():
        box.addItem(text, key)
    box.activated.connect(lambda _: activated())
    return box


def few(frames: list[int]) -> str:
    """The first of many frames, in words."""
    shown = ", ".join(map(str, frames[:6]))
    return shown + (f" and {len(frames) - 6} more" if len(frames) > 6 else "")


def fitted(stack: QStackedWidget, shown: int) -> None:
    """Bring one of a stack's pages; only that one decides how much room is needed, so that a short one has no scroll bar."""
    for k in range(stack.count()):
        policy = QSizePolicy.Policy.Preferred if k == shown else QSizePolicy.Policy.Ignored
        page = stack.widget(k)
        if page is not None:
            page.setSizePolicy(policy, policy)
    stack.setCurrentIndex(shown)
