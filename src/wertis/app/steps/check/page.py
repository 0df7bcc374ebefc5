"""Checking: drift in numbers, the steady view, and ways to compare with the reference frame."""

import numpy as np
from PySide6.QtCore import QSignalBlocker, Qt, Signal
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QPushButton, QSlider

from wertis.app.fields import DragLabel, Number, form, named
from wertis.app.pages import Page, combo
from wertis.app.session import Session
from wertis.app.steady import COMPARED, HELD
from wertis.app.steps.check.overlays import OVERLAYS
from wertis.core.check.summary import GOOD, USABLE, named_place, share_under, summary, worst_first
from wertis.core.jobs.check import drift_places

PANES = {"beside": "Plate and steady view", "plate": "Plate alone", "steady": "Steady view alone"}


class CheckPage(Page):
    """The drift of the selected track, and how to look at it."""

    next_worst_wanted = Signal()
    reference_wanted = Signal()
    view_changed = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        f = form(self)
        self.heading = named("", "heading")
        self.facts = named("", "quiet")
        self.level = Number(0.01, 50, 0.1, 2, "px", "Level")
        self.level.setValue(USABLE)
        self.level.setToolTip(f"Drift that still passes; common practice: under {USABLE:g} px is usable, about {GOOD:g} px is good")
        self.level.valueChanged.connect(lambda _: self.show_state())
        self.next_worst = QPushButton("Next-worst frame")
        self.next_worst.setObjectName("main")
        self.next_worst.setToolTip("Go to the frame that drifts most, then to the next, leaving out its neighbours (W)")
        self.next_worst.clicked.connect(self.next_worst_wanted)
        self.reference = QPushButton("Reference frame")
        self.reference.setToolTip("Go to the frame that counts as right (R)")
        self.reference.clicked.connect(self.reference_wanted)
        self.base = Number(-10_000_000, 100_000_000, 1, 0, name="Frame that counts as right")
        self.base.setToolTip("The frame that drift is measured against and the steady view is held by; the track's reference frame unless chosen")
        self.base.valueChanged.connect(self._set_base)
        self.here = QPushButton("This one")
        self.here.setToolTip("Measure against the frame in view")
        self.here.clicked.connect(lambda: self.base.setValue(self.session.frame))
        row = QHBoxLayout()
        row.addWidget(self.base, 1)
        row.addWidget(self.here)
        f.addRow(self.heading)
        f.addRow(self.facts)
        f.addRow(self.next_worst)
        f.addRow(self.reference)
        f.addRow(DragLabel("Level", self.level), self.level)
        f.addRow("Against", row)
        self.panes = combo(PANES, "What is shown", self.view_changed.emit)
        self.panes.setToolTip("The plate, the steady view, or both (S goes from one to the next)")
        self.held = combo(HELD, "How the steady view holds the surface", self.view_changed.emit)
        self.compared = combo(COMPARED, "What the steady view shows", self.view_changed.emit)
        self.compared.setToolTip("The frame, the reference frame (Q flips between them), their difference, or both split")
        self.split = QSlider(Qt.Orientation.Horizontal)
        self.split.setRange(0, 100)
        self.split.setValue(50)
        self.split.setAccessibleName("Where the split lies")
        self.split.valueChanged.connect(lambda _: self.view_changed.emit())
        self.close_ups = QCheckBox("Close-ups of the corners")
        self.close_ups.setToolTip("Each corner on the reference frame and on this one, side by side, in the steady view (C)")
        self.close_ups.toggled.connect(lambda _: self.view_changed.emit())
        self.overlay = combo(OVERLAYS, "What lies on the surface", self.view_changed.emit)
        f.addRow(named("STEADY VIEW", "section"))
        f.addRow("Panes", self.panes)
        f.addRow("Held", self.held)
        f.addRow("Shows", self.compared)
        f.addRow("Split at", self.split)
        f.addRow(self.close_ups)
        f.addRow("On it", self.overlay)
        f.addRow(named("Drift is measured on the pictures, apart from the tracker: small patches of the surface are looked for on every frame. What is "
                       "hidden or bare is left out, and where too little is left it says so.", "hint"))
        session.drift_changed.connect(self.follow)
        self.show_state()

    def show_state(self) -> None:
        s = self.session
        track = s.track
        self.heading.setText(track.name if track else "Draw a region first")
        tracked = track is not None and track.solution is not None
        for w in (self.next_worst, self.reference, self.base, self.here):
            w.setEnabled(tracked)
        self.split.setEnabled(self.compared.currentData() == "wipe")
        if s.plate is not None and track is not None:
            with QSignalBlocker(self.base):
                self.base.setRange(s.plate.first, s.plate.last)
                self.base.setValue(s.base if s.base is not None else track.region.frame)
        if not tracked or track is None:
            self.facts.setText("Nothing to check yet. Track the surface first (T)." if track else "")
            return
        low, high = s.shot.range
        left = high - low + 1 - len(s.drift)
        if not s.drift:
            self.facts.setText("Measuring the drift...")
            return
        found, level = summary(s.drift), self.level.value()
        under = share_under(s.drift, level)
        places = drift_places(s.shot, track, s.placement_id)
        lines = [f"At the corners of {places.words}:" if places.each == "corner" else f"At the {len(places.points)} vertices of {places.words}:"]
        if found.measured:
            lines += [f"mean {found.mean:.2f} px", f"worst {found.worst:.2f} px on frame {found.frame}, {named_place(places.each, found.place)}",
                      f"{under:.0%} of frames under {level:g} px"]
        lines.append(f"{found.unmeasured} frames not measured" if found.unmeasured else "all frames measured" if not left else "")
        if left:
            lines.append(f"{left} frames to measure")
        self.facts.setText("\n".join(line for line in lines if line))
        count = len([f for f in worst_first(s.drift) if s.drift[f].worst > level])
        self.next_worst.setText(f"Next-worst frame ({count} peak{'s' * (count != 1)} over {level:g} px)" if count else "Next-worst frame")

    def _set_base(self, value: float) -> None:
        frame = int(value)
        s = self.session
        home = s.track.region.frame if s.track is not None else None
        s.checked.base = None if frame == home else frame
        s.shot_changed.emit()


def check_words(session: Session) -> str:
    """The step's state in a few words."""
    if not session.drift:
        return ""
    found = summary(session.drift)
    return f"worst {found.worst:.{1 if found.worst >= 1 else 2}f} px at {found.frame}" if found.measured and np.isfinite(found.worst) else "not measured"
