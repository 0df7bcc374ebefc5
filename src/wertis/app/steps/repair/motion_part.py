"""The motion as a whole: an extra move with keys, smoothing, copying and blending."""

from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QPushButton

from wertis.app.fields import DragLabel, Number, form, named
from wertis.app.pages import BETWEEN_WORDS, KEY_ROWS, Page, button_grid, combo, few
from wertis.app.session import Session
from wertis.core.errors import WertisError
from wertis.core.repair.extra import ExtraValues
from wertis.core.repair.smoothing import most_changed
from wertis.core.shot import extra_moves
from wertis.core.shot.document import ExtraMoveLayer, SmoothingLayer, Track
from wertis.core.shot.edits import unlocked
from wertis.core.shot.motions import blend_motions, copy_motion
from wertis.core.shot.resolve import motion_through, tracked_motion


class MotionPart(Page):
    """What is done to the selected track's motion as a whole."""

    wanted = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        f = form(self)
        f.addRow(named("EXTRA MOVE", "section"))
        self.facts = named("", "quiet")
        f.addRow(self.facts)
        self.fields: dict[str, Number] = {}
        for name, words, low, high, step, decimals, unit in (
                ("x", "Shift right", -20000.0, 20000.0, 1.0, 2, "px"), ("y", "Shift down", -20000.0, 20000.0, 1.0, 2, "px"),
                ("scale", "Scale", 1.0, 10000.0, 0.5, 2, "%"), ("turn", "Turn", -3600.0, 3600.0, 0.5, 2, "°"),
                ("shear", "Shear", -1000.0, 1000.0, 0.5, 2, "%")):
            number = Number(low, high, step, decimals, unit, f"Extra move: {words}")
            number.valueChanged.connect(lambda _: self._extra())
            self.fields[name] = number
            f.addRow(DragLabel(words, number), number)
        self.buttons: dict[str, QPushButton] = {}
        grid = button_grid(self.buttons, self.wanted.emit, (
            ("about", "Set its point", "Click the point about which it scales, turns and shears"),
            ("straighten", "Remove it", "Remove the extra move and all its keys")), *KEY_ROWS)
        f.addRow(grid)
        self.between = combo(BETWEEN_WORDS, "Extra move: between keys",
                             lambda: self._set("Choose what goes between keys", between=self.between.currentData()))
        f.addRow("Between keys", self.between)
        self.on = QCheckBox("The extra move is on")
        self.on.clicked.connect(lambda on: self._set("Switch the extra move", enabled=on))
        f.addRow(self.on)
        f.addRow(named("TRACKED MOTION", "section"))
        self.smoothing = Number(0, 200, 1, 1, "frames", "Smoothing")
        self.smoothing.setToolTip("Smooths the tracked motion against jitter, over so many frames; repair keys stay as they are")
        self.smoothing.valueChanged.connect(self._smooth)
        self.smooth_words = named("", "quiet")
        f.addRow(DragLabel("Smooth over", self.smoothing), self.smoothing)
        f.addRow(self.smooth_words)
        f.addRow(named("FROM ANOTHER TRACK", "section"))
        self.source = combo({"": "Choose a track"}, "Track to take the motion from", self.show_state)
        f.addRow("Track", self.source)
        self.copy = QPushButton("Copy its motion")
        self.copy.setToolTip("This track moves as that one does, repairs and all; undo brings the old motion back")
        self.copy.clicked.connect(self._copy)
        f.addRow(self.copy)
        self.begin, self.end = (Number(-1e7, 1e8, 1, 0, "", name) for name in ("Blend from frame", "Blend to frame"))
        row = QHBoxLayout()
        row.addWidget(self.begin, 1)
        row.addWidget(self.end, 1)
        f.addRow("Frames", row)
        self.blend = QPushButton("Blend into its motion")
        self.blend.setToolTip("This track's own motion up to the first frame, the other's from the second on, and from one to the other between")
        self.blend.clicked.connect(self._blend)
        f.addRow(self.blend)
        self._range_of = ""
        self.show_state()

    def show_state(self) -> None:
        s = self.session
        track = s.track
        tracked = track is not None and track.solution is not None
        for w in (*self.fields.values(), *self.buttons.values(), self.on, self.smoothing, self.between):
            w.setEnabled(tracked)
        self._show_others(track)
        if track is None or track.solution is None:
            self.facts.setText("Track the surface first (T)." if track else "")
            self.smooth_words.setVisible(False)
            return
        extra = track.layer(ExtraMoveLayer)
        home = s.frame == track.reference
        frames = extra.frames(track.reference)
        self.facts.setText("none on the reference frame, always; go to another frame" if home else
                           f"{len(frames)} key{'s' * (len(frames) != 1)}: {few(frames)}" if frames else
                           "for what the track shows only in part: change a number here, or drag the square in the picture")
        values = extra_moves.values_on(track, s.frame)
        shown = {"x": values.x, "y": values.y, "scale": 100 * values.scale, "turn": values.turn, "shear": 100 * values.shear}
        for name, number in self.fields.items():
            number.setEnabled(not home)
            with QSignalBlocker(number):
                number.setValue(shown[name])
        self.buttons["key"].setEnabled(not home)
        self.buttons["clear"].setEnabled(s.frame in frames)
        for name in ("before", "after", "straighten"):
            self.buttons[name].setEnabled(bool(frames))
        with QSignalBlocker(self.on), QSignalBlocker(self.smoothing), QSignalBlocker(self.between):
            self.on.setChecked(extra.enabled)
            self.smoothing.setValue(track.layer(SmoothingLayer).width)
            self.between.setCurrentIndex(self.between.findData(extra.between))
        words = _smoothed_words(track)
        self.smooth_words.setText(words)
        self.smooth_words.setVisible(bool(words))

    def _show_others(self, track: Track | None) -> None:
        s = self.session
        others = [t for t in s.shot.tracks if track is not None and t.id != track.id and t.solution is not None]
        chosen = self.source.currentData()
        with QSignalBlocker(self.source):
            self.source.clear()
            self.source.addItem("Choose a track" if others else "No other tracked one", "")
            for other in others:
                self.source.addItem(other.name, other.id)
            self.source.setCurrentIndex(max(0, self.source.findData(chosen)))
        one = bool(self.source.currentData())
        self.source.setEnabled(bool(others))
        for w in (self.copy, self.begin, self.end, self.blend):
            w.setEnabled(one)
        if track is not None and self._range_of != track.id:
            self._range_of = track.id
            self.begin.setValue(s.shot.range[0])
            self.end.setValue(s.shot.range[1])

    def _extra(self) -> None:
        s = self.session
        if s.track is None:
            return
        f = self.fields
        values = ExtraValues(f["x"].value(), f["y"].value(), f["scale"].value() / 100, f["turn"].value(), f["shear"].value() / 100)
        self._do("Set the extra move", lambda: extra_moves.set_values(s.shot, s.track_id, s.frame, values), f"extra-{s.track_id}-{s.frame}")

    def _set(self, label: str, **changes: object) -> None:
        self._do(label, lambda: extra_moves.set_extra(self.session.shot, self.session.track_id, **changes))

    def _smooth(self, width: float) -> None:
        s = self.session
        if s.track is not None:
            self._do("Smooth the motion", lambda: s.shot.with_track(unlocked(s.shot, s.track_id).with_layer(SmoothingLayer(width=width))),
                     f"smooth-{s.track_id}")

    def _copy(self) -> None:
        s = self.session
        source = s.shot.track(self.source.currentData())
        if s.track is not None and source is not None:
            self._do("Copy the motion", lambda: copy_motion(s.shot, source.id, s.track_id), say=f"{s.track.name} moves as {source.name} does.")

    def _blend(self) -> None:
        s = self.session
        source = s.shot.track(self.source.currentData())
        begin, end = int(self.begin.value()), int(self.end.value())
        if s.track is not None and source is not None:
            self._do("Blend two motions", lambda: blend_motions(s.shot, s.track_id, source.id, s.track_id, begin, end),
                     say=f"{s.track.name} moves as it did up to {begin}, and as {source.name} does from {end} on.")

    def _do(self, label: str, make, merge: str = "", say: str = "") -> None:  # type: ignore[no-untyped-def]
        s = self.session
        try:
            shot = make()
        except WertisError as why:
            s.message.emit(str(why), True)
            self.show_state()
            return
        s.history.do(label, shot, *([merge] if merge else []))
        if say:
            s.message.emit(say, False)


def _smoothed_words(track: Track) -> str:
    """By how much smoothing changed the motion."""
    tracked, smooth = tracked_motion(track), motion_through(track, SmoothingLayer)
    if tracked is None or smooth is None or track.layer(SmoothingLayer).width <= 0:
        return ""
    most, frame = most_changed(tracked, smooth, track.region.box)
    return f"changed by at most {most:.2f} px, on frame {frame}"
