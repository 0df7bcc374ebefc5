"""Undo and redo without limit: every step keeps the whole shot before and after, which share all that did not change."""

from dataclasses import dataclass

from psygnal import Signal

from wertis.core.shot.document import Shot


@dataclass(frozen=True)
class Step:
    """One edit: what it is called, and the shot before and after."""

    label: str
    before: Shot
    after: Shot
    merge: str = ""


class History:
    """The shot being worked on, and the way back.

    Signals
    -------
    changed(Shot) : after every edit, undo and redo.
    """

    changed = Signal(object)

    def __init__(self, shot: Shot) -> None:
        self._shot = shot
        self._done: list[Step] = []
        self._undone: list[Step] = []
        self._saved: Shot | None = shot

    @property
    def shot(self) -> Shot:
        """The shot as it is now."""
        return self._shot

    @property
    def unsaved(self) -> bool:
        """Whether the shot differs from the one last saved."""
        return self._shot is not self._saved and self._shot != self._saved

    @property
    def undo_label(self) -> str:
        """What undo would take back, or nothing."""
        return self._done[-1].label if self._done else ""

    @property
    def redo_label(self) -> str:
        """What redo would do again, or nothing."""
        return self._undone[-1].label if self._undone else ""

    def do(self, label: str, after: Shot, merge: str = "") -> None:
        """Make `after` the shot. Steps in a row with the same non-empty `merge` (one drag) count as one."""
        if after is self._shot or after == self._shot:
            return
        before = self._shot
        if merge and self._done and self._done[-1].merge == merge and not self._undone:
            before = self._done.pop().before
        self._done.append(Step(label, before, after, merge))
        self._undone.clear()
        self._set(after)

    def end_merge(self) -> None:
        """The drag is over; the next step stands alone."""
        if self._done and self._done[-1].merge:
            last = self._done[-1]
            self._done[-1] = Step(last.label, last.before, last.after)

    def undo(self) -> str:
        """Take the last step back; returns its label, or nothing when there is none."""
        if not self._done:
            return ""
        step = self._done.pop()
        self._undone.append(step)
        self._set(step.before)
        return step.label

    def redo(self) -> str:
        """Do the step last taken back again; returns its label."""
        if not self._undone:
            return ""
        step = self._undone.pop()
        self._done.append(step)
        self._set(step.after)
        return step.label

    def mark_saved(self) -> None:
        """The shot as it is now is what the file holds."""
        self._saved = self._shot

    def mark_unsaved(self) -> None:
        """No file holds the shot as it is, whatever is undone."""
        self._saved = None

    def _set(self, shot: Shot) -> None:
        self._shot = shot
        self.changed.emit(shot)
