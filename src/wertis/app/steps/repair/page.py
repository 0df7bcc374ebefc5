"""Repairing: points that are put where they belong, the motion as a whole, and bent sides, each on a part of its own."""

from collections.abc import Callable

from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import QButtonGroup, QCheckBox, QHBoxLayout, QPushButton, QToolButton, QVBoxLayout

from wertis.app.fields import DragLabel, Number, form, named
from wertis.app.pages import BETWEEN_WORDS, KEY_ROWS, Page, Pages, button_grid, combo, few, stretches
from wertis.app.session import Session
from wertis.app.steps.repair.mesh_part import MeshPart
from wertis.app.steps.repair.motion_part import MotionPart
from wertis.app.steps.repair.sides_part import SidesPart
from wertis.core.check.summary import GOOD, summary
from wertis.core.errors import WertisError
from wertis.core.shot import repairs
from wertis.core.shot.document import ExtraMoveLayer, RepairLayer, Shot, Track
from wertis.core.shot.meshes import MeshSettings, MeshSolution, PegLayer

_POWERS = {0: "no points yet", 1: "1 point: position", 2: "2 points: position, scale and turn", 3: "3 points: shear as well"}
PARTS = {"points": "Points", "mesh": "Mesh", "motion": "Motion", "sides": "Sides"}
_TIPS = {"points": "Spots that are put where they belong", "mesh": "Vertices of a mesh that are put where they belong",
         "motion": "Smooth, copy or blend the motion, or add a move of your own",
         "sides": "Bend the sides of a placement"}


class RepairPage(Page):
    """The repairs on the selected track."""

    wanted = Signal(str)
    """One of: corners, add, find, worst, itself, again, key, clear, before, after, about, straighten."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        self.heading = named("", "heading")
        self.heading.setContentsMargins(12, 10, 12, 4)
        whole.addWidget(self.heading)
        row = QHBoxLayout()
        row.setContentsMargins(12, 0, 12, 0)
        row.setSpacing(4)
        group = QButtonGroup(self)
        self.chooser: dict[str, QToolButton] = {}
        for name, words in PARTS.items():
            button = QToolButton()
            button.setText(words)
            button.setCheckable(True)
            button.setToolTip(_TIPS[name])
            button.clicked.connect(lambda _=False, n=name: self.show_part(n))
            group.addButton(button)
            row.addWidget(button, 1)
            self.chooser[name] = button
        whole.addLayout(row)
        self.points, self.mesh, self.motion, self.sides = PointsPart(session), MeshPart(session), MotionPart(session), SidesPart(session)
        for part in (self.points, self.mesh, self.motion, self.sides):
            part.wanted.connect(self.wanted)
        self._parts = Pages((self.points, self.mesh, self.motion, self.sides))
        whole.addWidget(self._parts, 1)
        self.part, self._meshed = "points", False
        self.show_part("points")
        self.show_state()

    @property
    def level(self) -> Number:
        """The drift that repairing by itself may leave."""
        return self.mesh.level if self.part == "mesh" else self.points.level

    def show_part(self, name: str) -> None:
        """Bring one of the parts."""
        self.chooser[name].setChecked(True)
        self._parts.bring(list(PARTS).index(name))
        self.part = name
        self.session.place.take_part(name)

    def show_state(self) -> None:
        track = self.session.track
        self.heading.setText(track.name if track else "Draw a region first")
        of = None if track is None else track.solution or track.settings  # as it will be tracked, before it is
        meshed = isinstance(of, (MeshSolution, MeshSettings))
        if meshed != self._meshed:  # what such a track is repaired by comes first
            self._meshed = meshed
            if self.part in ("points", "mesh"):
                self.show_part("mesh" if meshed else "points")
        self.chooser["mesh"].setEnabled(meshed)


class PointsPart(Page):
    """Repair points, their keys, and the loop from worst to least."""

    wanted = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        f = form(self)
        self.facts = named("", "quiet")
        f.addRow(self.facts)
        self.buttons: dict[str, QPushButton] = {}
        grid = button_grid(self.buttons, self.wanted.emit, (
            ("worst", "Next-worst frame", "Go to the frame that drifts most, then to the next (W)"),
            ("find", "Find places", "Let every point find its place on this frame by the reference frame's picture (M)")), (
            ("corners", "Points at corners", "Put repair points at the corners"),
            ("add", "Add a point", "Click a spot with something to recognise (A)")), *KEY_ROWS)
        by_itself = button_grid(self.buttons, self.wanted.emit, ((
            "itself", "Repair by itself", "Set keys where the drift is worst until it is under the level, as few as it can (Ctrl+M)"),))
        self.buttons["itself"].setObjectName("main")
        again = button_grid(self.buttons, self.wanted.emit, ((
            "again", "Track again from the keys",
            "Track the stretches that are out of date again, so that they pass through the repaired frames (Ctrl+Y)"),))
        self.level = Number(0.05, 20, 0.1, 2, "px", "Level for repairing by itself")
        self.level.setValue(GOOD)
        f.addRow(grid)
        f.addRow(DragLabel("By itself to", self.level), self.level)
        f.addRow(by_itself)
        self.untouched = named("", "quiet")
        f.addRow(self.untouched)
        f.addRow(named("TRACKING AGAIN", "section"))
        self.stale = named("", "quiet")
        f.addRow(self.stale)
        f.addRow(again)
        self.between = combo(BETWEEN_WORDS, "Between keys",
                             lambda: self._set("Choose what goes between keys", between=self.between.currentData()))
        self.ends = combo({"fade": "Fades to nothing", "hold": "Holds"}, "Towards the reference frame",
                          lambda: self._set("Choose what goes beyond the keys", fade=self.ends.currentData() == "fade"))
        self.ends.setToolTip("What lies between the reference frame and the key nearest to it")
        self.on = QCheckBox("Repairs are on")
        self.on.setToolTip("Switch off to compare with what was tracked")
        self.on.clicked.connect(self._switch)
        f.addRow(named("KEYS", "section"))
        f.addRow("Between", self.between)
        f.addRow("To reference", self.ends)
        f.addRow(self.on)
        f.addRow(named("Drag a point to where its spot is on this frame, in either pane; Alt with arrow keys nudges by a pixel, Shift as well by a "
                       "tenth.", "hint"))
        session.drift_changed.connect(self.follow)
        self.show_state()

    def show_state(self) -> None:
        s = self.session
        track = s.track
        tracked = track is not None and track.solution is not None
        for button in self.buttons.values():
            button.setEnabled(tracked)
        for w in (self.between, self.ends, self.on):
            w.setEnabled(tracked)
        if track is None or track.solution is None:
            self.facts.setText("Track the surface first (T)." if track else "")
            self.stale.setText("")
            return
        repair, reference = track.layer(RepairLayer), track.reference
        for name in ("find", "key"):
            self.buttons[name].setEnabled(bool(repair.points))
        self.buttons["clear"].setEnabled(s.frame in repair.frames(reference))
        with QSignalBlocker(self.on), QSignalBlocker(self.between), QSignalBlocker(self.ends):
            self.on.setChecked(repair.enabled)
            self.between.setCurrentIndex(self.between.findData(repair.between))
            self.ends.setCurrentIndex(0 if repair.fade else 1)
        lines = [_POWERS.get(len(repair.points), f"{len(repair.points)} points: perspective as well"), _keys(track)]
        found = summary(s.drift)
        if found.measured:
            lines.append(f"drift now: mean {found.mean:.2f} px, worst {found.worst:.2f} px on {found.frame}")
        self.facts.setText("\n".join(lines))
        keyed = repair.frames(reference)
        left = {f: why for f, why in s.checked.untouched[1].items() if f not in keyed} if s.checked.untouched[0] is track.solution else {}
        self.untouched.setText("\n".join(f"Not touched: {stretches(f for f in left if left[f] == why)}, {why}" for why in dict.fromkeys(left.values())))
        self.untouched.setVisible(bool(left))
        stale = s.out_of_date()
        self.buttons["again"].setEnabled(bool(stale))
        self.stale.setText("out of date: " + stretches(f for x in stale for f in x.frames) if stale else
                           "nothing is out of date" if repair.frames(reference) else "there are no keys yet")

    def _switch(self, on: bool) -> None:
        s = self.session
        if s.track is not None:
            self._do("Switch the repairs", lambda: repairs.set_enabled(s.shot, s.track_id, on))

    def _set(self, label: str, **changes: object) -> None:
        s = self.session
        if s.track is not None:
            self._do(label, lambda: repairs.set_repair(s.shot, s.track_id, **changes))

    def _do(self, label: str, make: Callable[[], Shot]) -> None:
        try:
            self.session.history.do(label, make())
        except WertisError as why:
            self.session.message.emit(str(why), True)
            self.show_state()


def _keys(track: Track) -> str:
    frames = track.layer(RepairLayer).frames(track.reference)
    return f"{len(frames)} key{'s' * (len(frames) != 1)}: {few(frames)}" if frames else "no keys yet"


def repair_words(shot: Shot, track: Track) -> str:
    """The step's state in a few words."""
    repair, extra = track.layer(RepairLayer), track.layer(ExtraMoveLayer)
    frames, pegs = repair.frames(track.reference), track.layer(PegLayer)
    more = (f", pegs on {len(pegs.frames)} frame{'s' * (len(pegs.frames) != 1)}" + ("" if pegs.enabled else ", off") if pegs.frames else "") + \
           (", extra move" if extra.enabled and extra.frames(track.reference) else "") + \
           (", bent" if any(p.is_bent for p in shot.placements(track.id)) else "")
    if not frames:
        return more[2:] or "no keys"
    return f"{len(frames)} key{'s' * (len(frames) != 1)}" + ("" if repair.enabled else ", off") + more
