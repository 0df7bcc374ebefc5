"""The points of a track of points on the page of the step Track: set, found, left out, removed."""

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import QCheckBox, QFormLayout, QPushButton, QWidget

from wertis.app.fields import DragLabel, Number, named
from wertis.app.pages import button_grid, combo
from wertis.app.session import Session
from wertis.core.errors import WertisError
from wertis.core.geometry.affine import POINTS_MET
from wertis.core.shot import edits
from wertis.core.shot.document import Shot
from wertis.core.shot.points import PointsSettings, PointsSolution, use_points, with_points

TAKEN = {"shift": "Position", "shift-x": "Position across alone", "shift-y": "Position down alone",
         "shift-scale": "Position and scale", "shift-turn": "Position and turn", "similarity": "Position, scale and turn",
         "affine": "Shear as well", "perspective": "Perspective as well"}
_MOST_SIDE = 401
_USUAL_COUNT = 4


class PointFields(QWidget):
    """What of its points a track takes, and the points themselves; `wanted` is emitted for what needs the picture: add, find."""

    wanted = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.chosen: set[int] = set()  # numbers of the points that are in hand
        f = QFormLayout(self)
        f.setContentsMargins(0, 0, 0, 0)
        self.taken = combo(TAKEN, "What is taken from the points", self._take)
        self.taken.setToolTip("One point gives position, two also scale and turn, three shear, four perspective; it can be changed after tracking")
        f.addRow("Take", self.taken)
        self.count = Number(1, 500, 1, 0, "", "Number of spots to find")
        self.count.setValue(_USUAL_COUNT)
        self.buttons: dict[str, QPushButton] = {}
        row = button_grid(self.buttons, self.wanted.emit, (("find-spots", "Find good spots", "Find so many good spots, spread over the region"),))
        row.addWidget(self.count, 0, 1)
        f.addRow(row)
        f.addRow(button_grid(self.buttons, self.wanted.emit, (
            ("add-point", "Add a point", "Click a spot that stands out, on the region's frame"),
            ("remove-points", "Remove", "Remove the chosen points")), (
            ("leave-out", "Use / leave out", "Let the chosen points carry the track or not; they are tracked all the same"),)))
        self.side = Number(0, _MOST_SIDE, 2, 0, "px", "Side of the chosen points' patterns")
        self.side.setToolTip("Side of the square pattern of the chosen points, or of all; 0 goes by the texture")
        self.side.valueChanged.connect(lambda v: self._set_side(int(v)))
        f.addRow(DragLabel("Pattern", self.side), self.side)
        self.inside = QCheckBox("Patterns of the region alone")
        self.inside.setToolTip("What lies beside the region does not count for a pattern; for points near the edge of a surface")
        self.inside.clicked.connect(self._set_inside)
        f.addRow(self.inside)
        self.facts = named("", "quiet")
        f.addRow(self.facts)

    def show_state(self) -> None:
        """Show the settings as they are."""
        track = self.session.track
        if track is None or not isinstance(track.settings, PointsSettings):
            return
        settings, solution = track.settings, track.solution
        self.chosen = {k for k in self.chosen if k < len(settings.names)}
        with QSignalBlocker(self.taken), QSignalBlocker(self.side), QSignalBlocker(self.inside):
            self.taken.setCurrentIndex(self.taken.findData(settings.model))
            sides = {settings.sides[k] for k in self.chosen or range(len(settings.sides))}
            self.side.setValue(sides.pop() if len(sides) == 1 else 0)
            self.inside.setChecked(settings.inside)
        count = len(settings.names)
        lines = [f"{count} point{'s' * (count != 1)}" if count else "No points yet: click some, or have good spots found."]
        if isinstance(solution, PointsSolution):
            if solution.left_out:
                lines.append(f"left out: {', '.join(solution.left_out[:6])}")
            name, off = solution.disagreeing
            if name and solution.used.sum() > POINTS_MET[solution.model]:
                lines.append(f"point {name} disagrees most, by {off:.2f} px")
            k = solution.index(self.session.frame)
            if k is not None and not solution.measured[k].all():
                lost = [n for n, m in zip(solution.names, solution.measured[k], strict=True) if not m]
                lines.append(f"hidden here: {', '.join(lost[:8])}")
        self.facts.setText("\n".join(lines))
        for name in ("remove-points", "leave-out"):
            self.buttons[name].setEnabled(bool(self.chosen))

    def names(self) -> set[str]:
        """The names of the chosen points."""
        track = self.session.track
        if track is None or not isinstance(track.settings, PointsSettings):
            return set()
        return {track.settings.names[k] for k in self.chosen if k < len(track.settings.names)}

    def _take(self) -> None:
        s = self.session
        self._do("Choose what is taken from the points", lambda: use_points(s.shot, s.track_id, None, self.taken.currentData()))

    def _set_side(self, side: int) -> None:
        s, track = self.session, self.session.track
        if track is None or not isinstance(track.settings, PointsSettings) or track.settings.points is None:
            return
        settings, points = track.settings, track.settings.points
        which = self.chosen or set(range(len(settings.sides)))
        sides = tuple(side if k in which else old for k, old in enumerate(settings.sides))
        if sides != settings.sides:
            self._do("Set the patterns' size", lambda: with_points(s.shot, s.track_id, np.array(points), settings.names, sides))

    def _set_inside(self, on: bool) -> None:
        s, track = self.session, self.session.track
        if track is not None and isinstance(track.settings, PointsSettings):
            settings = track.settings
            self._do("Choose what patterns are made of", lambda: edits.set_settings(s.shot, s.track_id, settings.but(inside=on)))

    def _do(self, label: str, make: Callable[[], Shot]) -> None:
        try:
            self.session.history.do(label, make())
        except WertisError as why:
            self.session.message.emit(str(why), True)
        self.show_state()
