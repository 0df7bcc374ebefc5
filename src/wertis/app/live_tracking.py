"""What the tracker has found so far of a track that is being tracked; it goes into the shot when tracking ends."""

from psygnal import Signal

from wertis.core.track.advice import AnyFix


class LiveTracking:
    """Answers of the track that is being tracked.

    Signals
    -------
    changed() : there are more, or tracking has begun or ended.

    Attributes
    ----------
    track_id : the track; empty while none is tracked.
    answers : frame to the tracker's answer.
    """

    changed = Signal()

    def __init__(self) -> None:
        self.track_id = ""
        self.answers: dict[int, AnyFix] = {}

    def begin(self, track_id: str) -> None:
        """Tracking begins."""
        self.track_id, self.answers = track_id, {}
        self.changed.emit()

    def take(self, frame: int, fix: AnyFix) -> None:
        """A new answer, to be drawn at once."""
        self.answers[frame] = fix
        self.changed.emit()

    def end(self) -> tuple[str, dict[int, AnyFix]]:
        """Tracking is over; the track, and what was found."""
        found = self.track_id, self.answers
        self.track_id, self.answers = "", {}
        self.changed.emit()
        return found

    def on(self, track_id: str, frame: int) -> AnyFix | None:
        """What was just found of a track on a frame."""
        return self.answers.get(frame) if track_id == self.track_id else None
