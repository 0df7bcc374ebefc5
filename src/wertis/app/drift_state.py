"""The selected track's drift, as far as it is measured, and what it is measured against."""

from psygnal import Signal

from wertis.core.check.slip import Slip


class DriftState:
    """What is known of the drift.

    Signals
    -------
    changed() : more has been measured, or it is out of date.
    place_shown(number) : the place, a vertex of a mesh, that drifts most on the frame that was gone to.

    Attributes
    ----------
    by_frame : frame to what was measured there.
    base : the frame that counts as right; the track's own when None.
    untouched : a tracked solution, and its frames that repairing by itself left alone, and why.
    """

    changed = Signal()
    place_shown = Signal(int)

    def __init__(self) -> None:
        self.by_frame: dict[int, Slip] = {}
        self.base: int | None = None
        self.untouched: tuple[object, dict[int, str]] = (None, {})
