"""Where the person is: the frame in view, the step, and what is selected. No Qt here; views listen to the signals."""

from psygnal import Signal


class Selection:
    """The frame, the step, the track and the item in hand.

    Signals
    -------
    frame_changed(frame), step_changed(step), changed() : another track, item or part of a step.

    Attributes
    ----------
    part : the part of a step in hand, where a step has several.
    """

    frame_changed = Signal(int)
    step_changed = Signal(str)
    changed = Signal()

    def __init__(self, step: str) -> None:
        self.frame = 1
        self.step = step
        self.track_id = ""
        self.item_id = ""
        self.part = ""

    def go(self, frame: int) -> None:
        """Show a frame."""
        if frame != self.frame:
            self.frame = frame
            self.frame_changed.emit(frame)

    def go_step(self, step: str) -> None:
        """Bring a step's tools and settings."""
        if step != self.step:
            self.step = step
            self.step_changed.emit(step)

    def select(self, track: str, item: str = "") -> None:
        """Select a track, and perhaps an item."""
        if (track, item) != (self.track_id, self.item_id):
            self.track_id, self.item_id = track, item
            self.changed.emit()

    def take_part(self, part: str) -> None:
        """Take a part of the step in hand."""
        if part != self.part:
            self.part = part
            self.changed.emit()
