"""Repairing: points that are put where they belong, keys, and the loop from worst to least."""

from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import QCheckBox, QGridLayout, QPushButton

from wertis.app.fields import DragLabel, Number, form, named
from wertis.app.pages.base import Page, combo, few
from wertis.app.session import Session
from wertis.core.check.summary import GOOD, summary
from wertis.core.errors import WertisError
from wertis.core.repair.smoothing import most_changed
from wertis.core.shot import repairs
from wertis.core.shot.document import Track
from wertis.core.shot.motions import copy_motion

_POWERS = {0: "no points yet", 1: "1 point: position", 2: "2 points: position, scale and turn", 3: "3 points: shear as well"}


class RepairPage(Page):
    """The repairs on the selected track."""

    wanted = Signal(str)
    """One of: corners, add, find, worst, itself, key, clear, before, after."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        f = form(self)
        self.heading = named("", "heading")
        self.facts = named("", "quiet")
        f.addRow(self.heading)
        f.addRow(self.facts)
        self.buttons: dict[str, QPushButton] = {}
        grid = QGridLayout()
        grid.setSpacing(6)
        for name, words, tip, row, column in (
                ("worst", "Next-worst frame", "Go to the frame that drifts most, then to the next (W)", 0, 0),
                ("find", "Find places", "Let every point find its place on this frame by the reference frame's picture (M)", 0, 1),
                ("corners", "Points at corners", "Put repair points at the corners", 1, 0),
                ("add", "Add a point", "Click a spot with something to recognise (A)", 1, 1),
                ("before", "Key before", "Go to the key before this frame ([)", 2, 0),
                ("after", "Key after", "Go to the key after this frame (])", 2, 1),
                ("key", "Set a key", "Keep what all points are on this frame; nothing moves (K)", 3, 0),
                ("clear", "Clear keys here", "Remove this frame's keys", 3, 1)):
            self._button(name, words, tip)
            grid.addWidget(self.buttons[name], row, column)
        self._button("itself", "Repair by itself", "Set keys where the drift is worst until it is under the level, as few as it can")
        self.buttons["itself"].setObjectName("main")
        self.level = Number(0.05, 20, 0.1, 2, "px", "Level for repairing by itself")
        self.level.setValue(GOOD)
        f.addRow(grid)
        f.addRow(named("BY ITSELF", "section"))
        f.addRow(DragLabel("Down to", self.level), self.level)
        f.addRow(self.buttons["itself"])
        self.between = combo({"smooth": "Smoothly", "straight": "Straight"}, "Between keys",
                             lambda: self._set("Choose what goes between keys", smooth=self.between.currentData() == "smooth"))
        self.ends = combo({"fade": "Fades to nothing", "hold": "Holds"}, "Towards the reference frame",
                          lambda: self._set("Choose what goes beyond the keys", fade=self.ends.currentData() == "fade"))
        self.ends.setToolTip("What lies between the reference frame and the key nearest to it")
        self.on = QCheckBox("Repairs are on")
        self.on.setToolTip("Switch off to compare with what was tracked")
        self.on.clicked.connect(lambda on: self._set("Switch the repairs", enabled=on))
        self.smoothing = Number(0, 200, 1, 1, "frames", "Smoothing")
        self.smoothing.setToolTip("Smooths the tracked motion against jitter, over so many frames; repair keys stay as they are")
        self.smoothing.valueChanged.connect(self._smooth)
        self.smooth_words = named("", "quiet")
        self.source = combo({"": "Choose a track"}, "Track to copy the motion from", self._copy)
        self.source.setToolTip("Takes over another track's motion, repairs and all; undo brings the old one back")
        f.addRow(named("KEYS", "section"))
        f.addRow("Between", self.between)
        f.addRow("To reference", self.ends)
        f.addRow(self.on)
        f.addRow(named("MOTION", "section"))
        f.addRow(DragLabel("Smooth over", self.smoothing), self.smoothing)
        f.addRow(self.smooth_words)
        f.addRow("Copy from", self.source)
        f.addRow(named("Drag a point to where its spot is on this frame, in either pane; Alt with arrow keys nudges by a pixel, Shift as well by a "
                       "tenth.", "hint"))
        session.drift_changed.connect(self.show_state)
        self.show_state()

    def _button(self, name: str, words: str, tip: str) -> None:
        button = QPushButton(words)
        button.setToolTip(tip)
        button.clicked.connect(lambda: self.wanted.emit(name))
        self.buttons[name] = button

    def show_state(self) -> None:
        s = self.session
        track = s.track
        self.heading.setText(track.name if track else "Draw a region first")
        tracked = track is not None and track.solved is not None
        for button in self.buttons.values():
            button.setEnabled(tracked)
        for w in (self.between, self.ends, self.on, self.smoothing):
            w.setEnabled(tracked)
        others = [t for t in s.shot.tracks if track is not None and t.id != track.id and t.solved is not None]
        self.source.setEnabled(bool(others))
        with QSignalBlocker(self.source), QSignalBlocker(self.smoothing):
            self.source.clear()
            self.source.addItem("Choose a track" if others else "No other track", "")
            for other in others:
                self.source.addItem(other.name, other.id)
            self.smoothing.setValue(track.smoothing if track is not None else 0)
        words = _smoothed_words(track) if track is not None else ""
        self.smooth_words.setText(words)
        self.smooth_words.setVisible(bool(words))
        if track is None or track.solved is None:
            self.facts.setText("Track the surface first (T)." if track else "")
            return
        repair = track.repair
        for name in ("find", "key"):
            self.buttons[name].setEnabled(bool(repair.points))
        self.buttons["clear"].setEnabled(s.frame in repair.frames(track.solved.reference))
        with QSignalBlocker(self.on), QSignalBlocker(self.between), QSignalBlocker(self.ends):
            self.on.setChecked(repair.enabled)
            self.between.setCurrentIndex(0 if repair.smooth else 1)
            self.ends.setCurrentIndex(0 if repair.fade else 1)
        lines = [_POWERS.get(len(repair.points), f"{len(repair.points)} points: perspective as well"), _keys(track)]
        found = summary(s.drift)
        if found.measured:
            lines.append(f"drift now: mean {found.mean:.2f} px, worst {found.worst:.2f} px on {found.frame}")
        self.facts.setText("\n".join(lines))

    def _smooth(self, width: float) -> None:
        s = self.session
        if s.track is not None:
            s.history.do("Smooth the motion", s.shot.with_track(s.track.but(smoothing=width)), f"smooth-{s.track.id}")

    def _copy(self) -> None:
        s = self.session
        source = s.shot.track(self.source.currentData())
        if s.track is None or source is None:
            return
        try:
            shot = copy_motion(s.shot, source.id, s.track.id)
        except WertisError as why:
            s.message.emit(str(why), True)
        else:
            s.history.do("Copy the motion", shot)
            s.message.emit(f"{s.track.name} moves as {source.name} does.", False)

    def _set(self, label: str, **changes: object) -> None:
        s = self.session
        if s.track is not None:
            s.history.do(label, repairs.set_repair(s.shot, s.track.id, **changes))


def _smoothed_words(track: Track) -> str:
    """By how much smoothing changed the motion."""
    tracked, beneath = track.tracked, track.beneath
    if tracked is None or beneath is None or beneath is tracked:
        return ""
    most, frame = most_changed(tracked.matrices, beneath.matrices, track.region.box)
    return f"changed by at most {most:.2f} px, on frame {frame}"


def _keys(track: Track) -> str:
    frames = track.repair.frames(track.solved.reference if track.solved is not None else track.region.frame)
    return f"{len(frames)} key{'s' * (len(frames) != 1)}: {few(frames)}" if frames else "no keys yet"


def repair_words(track: Track) -> str:
    """The step's state in a few words."""
    reference = track.solved.reference if track.solved is not None else track.region.frame
    frames = track.repair.frames(reference)
    if not frames:
        return "no keys"
    return f"{len(frames)} key{'s' * (len(frames) != 1)}" + ("" if track.repair.enabled else ", off")
