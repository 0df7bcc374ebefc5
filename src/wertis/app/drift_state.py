"""The selected track's drift, as far as it is measured, and what it is measured against."""

from psygnal import Signal

from wertis.core.check.slip import Slip


class DriftState:
    """What is known of the drift.

    Signals
    -------
    changed() : more has been measured, or it is out of date.

    Attributes
    ----------
    by_frame : frame to what was measured there.
    base : the frame that counts as right; the track's own when None.
    untouched : a tracked solution, and its frames that repairing by itself left alone, and why.
    """

    changed = Signal()

    def __init__(self) -> None:
        self.by_frame: dict[int, Slip] = {}
        self.base: int | None = None
        self.untouched: tuple[object, dict[int, str]] = (None, {})
