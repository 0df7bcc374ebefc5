"""The points of a track of points on the page of the step Track: set, found, left out, removed."""

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import QCheckBox, QFormLayout, QHBoxLayout, QPushButton, QWidget

from wertis.app.fields import DragLabel, Number, named
from wertis.app.pages import button_grid, combo
from wertis.app.pattern_view import PatternView
from wertis.app.point_painting import places_on
from wertis.app.session import Session
from wertis.core.errors import WertisError
from wertis.core.geometry.affine import POINTS_MET
from wertis.core.shot import edits, regions
from wertis.core.shot.document import Shot
from wertis.core.shot.points import PointsSettings, PointsSolution, set_patterns, use_points
from wertis.core.track.point_run import pattern_side
from wertis.core.track.points import REACH, SIDES

TAKEN = {"shift": "Position", "shift-x": "Position across alone", "shift-y": "Position down alone",
         "shift-scale": "Position and scale", "shift-turn": "Position and turn", "similarity": "Position, scale and turn",
         "affine": "Shear as well", "perspective": "Perspective as well"}
_MOST_SIDE, _MOST_REACH = 401, 400
_USUAL_COUNT = 4


class PointFields(QWidget):
    """What of its points a track takes, and the points themselves; `wanted` is emitted for what needs the picture: add, find."""

    wanted = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.chosen: set[int] = set()  # numbers of the points that are in hand
        self._side: tuple[object, int] | None = None  # what the size by the texture was last asked for, and it
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
            ("leave-out", "Use / leave out", "Let the chosen points carry the track or not; they are tracked all the same"),
            ("pattern-back", "Pattern back", "Put the chosen points' patterns back onto the points; Ctrl-drag takes one away"))))
        self.side = Number(0, _MOST_SIDE, 2, 0, "px", "Side of the chosen points' patterns")
        self.side.setToolTip("Side of the square pattern of the chosen points, or of all; 0 goes by the texture")
        self.side.valueChanged.connect(lambda v: self._set("Set the patterns' size", side=int(v)))
        self.side.setSpecialValueText("by texture")
        self.reach = Number(0, _MOST_REACH, 1, 0, "px", "How far round the chosen points' patterns are looked for")
        self.reach.setSpecialValueText(f"{REACH} px")
        self.reach.setToolTip("Search area: how far from where it is expected a pattern is looked for, to each side; larger for sudden motion, "
                              "smaller where something like it is near")
        self.reach.valueChanged.connect(lambda v: self._set("Set the search area", reach=int(v)))
        sizes = QHBoxLayout()
        sizes.setSpacing(6)
        for part, wide in ((self.side, 5), (DragLabel("Search", self.reach), 0), (self.reach, 4)):
            sizes.addWidget(part, wide)
        f.addRow(DragLabel("Pattern", self.side), sizes)
        self.large = PatternView(session)
        f.addRow(self.large)
        self.inside = QCheckBox("Region alone")
        self.inside.setToolTip("What lies beside the region does not count for a pattern; for points near the edge of a surface")
        self.inside.clicked.connect(self._set_inside)
        self.renewed = QCheckBox("Renewed")
        self.renewed.setToolTip("A pattern that looks less and less like its first sight is also looked for by its newer look; the error of that is added")
        self.renewed.clicked.connect(self._set_renewed)
        ways = QHBoxLayout()
        ways.addWidget(self.inside)
        ways.addWidget(self.renewed)
        f.addRow(ways)
        self.facts = named("", "quiet")
        f.addRow(self.facts)

    def show_state(self) -> None:
        """Show the settings as they are."""
        track = self.session.track
        if track is None or not isinstance(track.settings, PointsSettings):
            return
        settings, solution = track.settings, track.solution
        self.chosen = {k for k in self.chosen if k < len(settings.names)}
        with QSignalBlocker(self.taken), QSignalBlocker(self.side), QSignalBlocker(self.reach), QSignalBlocker(self.inside), QSignalBlocker(self.renewed):
            self.taken.setCurrentIndex(self.taken.findData(settings.model))
            patterns = [settings.patterns[k] for k in self.chosen or range(len(settings.patterns))]
            for number, values in ((self.side, {p.side for p in patterns}), (self.reach, {p.reach for p in patterns})):
                number.setValue(values.pop() if len(values) == 1 else 0)
            self.renewed.setChecked(settings.renewed)
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
        self.buttons["pattern-back"].setEnabled(any(any(settings.patterns[k].offset) for k in self.chosen))
        self.show_pattern()

    def show_pattern(self) -> None:
        """The pattern of the point in hand, large; of none where none or several are."""
        s, track = self.session, self.session.track
        settings = track.settings if track is not None else None
        one = next(iter(self.chosen)) if len(self.chosen) == 1 else None
        self.large.setVisible(one is not None)
        if track is None or not isinstance(settings, PointsSettings) or settings.points is None or one is None or one >= len(settings.points):
            return
        offset, first = settings.offsets[one], settings.points[one]
        here, words = None, "not tracked here"
        there = places_on(s, track)
        if there is not None:
            here = s.frame, there[0][one], there[0][one] + offset
            words = f"here, {s.frame}"
            solution = track.solution
            k = solution.index(s.frame) if isinstance(solution, PointsSolution) else None
            if isinstance(solution, PointsSolution) and k is not None and s.frame != track.region.frame:
                words = f"{solution.matches[k, one]:.0%}, {solution.errors[k, one]:.2f} px" if solution.measured[k, one] else "hidden here"
        self.large.show_point(settings.names[one], (track.region.frame, first, first + offset), here, self.side_of(one), words)

    def side_of(self, number: int) -> int:
        """The side in pixels of a point's pattern: as it was set, or as the tracker takes it by the texture; a usual one while that is not known."""
        s, track = self.session, self.session.track
        settings = track.settings if track is not None else None
        if track is None or not isinstance(settings, PointsSettings) or settings.points is None:
            return SIDES[1]
        if settings.patterns[number].side:
            return settings.patterns[number].side
        picture = s.cache.peek(track.region.frame) if s.cache is not None else None
        if not isinstance(picture, np.ndarray):
            return SIDES[1]
        middles = settings.points + settings.offsets
        key = track.region.frame, middles.tobytes(), number, settings.look, settings.inside and track.region
        if self._side is None or self._side[0] != key:
            mask = regions.mask_of(track.region, (picture.shape[1], picture.shape[0])) if settings.inside else None
            self._side = key, pattern_side(picture, middles, number, mask, settings.look)
        return self._side[1]

    def names(self) -> set[str]:
        """The names of the chosen points."""
        track = self.session.track
        if track is None or not isinstance(track.settings, PointsSettings):
            return set()
        return {track.settings.names[k] for k in self.chosen if k < len(track.settings.names)}

    def _take(self) -> None:
        s = self.session
        self._do("Choose what is taken from the points", lambda: use_points(s.shot, s.track_id, None, self.taken.currentData()))

    def _set(self, label: str, side: int | None = None, reach: int | None = None) -> None:
        """Another pattern for the chosen points, or for all."""
        s, track = self.session, self.session.track
        if track is None or not isinstance(track.settings, PointsSettings) or track.settings.points is None:
            return
        names = self.names() or set(track.settings.names)
        shot = set_patterns(s.shot, s.track_id, names, side, reach)
        if shot != s.shot:
            self._do(label, lambda: shot)

    def _set_inside(self, on: bool) -> None:
        s, track = self.session, self.session.track
        if track is not None and isinstance(track.settings, PointsSettings):
            settings = track.settings
            self._do("Choose what patterns are made of", lambda: edits.set_settings(s.shot, s.track_id, settings.but(inside=on)))

    def _set_renewed(self, on: bool) -> None:
        s = self.session
        self._do("Choose whether patterns are renewed", lambda: set_patterns(s.shot, s.track_id, set(), renewed=on))

    def _do(self, label: str, make: Callable[[], Shot]) -> None:
        try:
            self.session.history.do(label, make())
        except WertisError as why:
            self.session.message.emit(str(why), True)
        self.show_state()
