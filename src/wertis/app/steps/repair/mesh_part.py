"""Vertices of a mesh put right by hand: pegs, tracking again through them, followers, locks."""

from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import QCheckBox, QPushButton

from wertis.app.fields import Number, form, named
from wertis.app.pages import Page, button_grid, combo, few, stretches
from wertis.app.session import Session
from wertis.core.check.summary import GOOD
from wertis.core.shot.meshes import MeshSettings, MeshSolution, PegLayer


class MeshPart(Page):
    """The pegs of the selected mesh."""

    wanted = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        f = form(self)
        self.facts = named("", "quiet")
        f.addRow(self.facts)
        self.buttons: dict[str, QPushButton] = {}
        f.addRow(button_grid(self.buttons, self.wanted.emit, (
            ("worst", "Next-worst frame", "Go to the frame and the vertex that drift most, then to the next (W)"),
            ("find", "Find places", "Let the chosen vertices, or all, find their places on this frame by the reference frame's picture (M)")), (
            ("before", "Peg before", "Go to the pegs before this frame ([)"), ("after", "Peg after", "Go to the pegs after this frame (])")), (
            ("key", "Peg the chosen", "Peg the chosen vertices where they are on this frame (K)"),
            ("clear", "Clear pegs here", "Remove the pegs of this frame"))))
        self.level = Number(0.05, 20, 0.1, 2, "px", "Level for pegging by itself")
        self.level.setValue(GOOD)
        row = button_grid(self.buttons, self.wanted.emit, ((
            ("itself", "Repair by itself to", "Peg what drifts most until the drift is under this level (Ctrl+M)")),))
        row.addWidget(self.level, 0, 1)
        f.addRow(row)
        f.addRow(named("TRACKING AGAIN", "section"))
        self.stale = named("", "quiet")
        f.addRow(self.stale)
        f.addRow(button_grid(self.buttons, self.wanted.emit, ((
            "again", "Track again through the pegs", "Track the stretches next to changed pegs again, through them (Ctrl+Y)"),)))
        self.buttons["again"].setObjectName("main")
        f.addRow(named("CHOSEN VERTICES", "section"))
        self.leaders = combo({"mesh": "The mesh round them", "two": "The nearest two", "plane": "A plane through the nearest"}, "What followers follow",
                             lambda: None)
        self.leaders.setToolTip("What the chosen vertices follow once they are made to")
        f.addRow(button_grid(self.buttons, self.wanted.emit, (
            ("alone", "Track alone", "Track the chosen vertices anew while all others stay"),
            ("unpeg", "Clear their pegs", "Remove all pegs of the chosen vertices")), (
            ("add-vertex", "Add a vertex", "Click where one is missing; it goes with the mesh around it until it is tracked"),
            ("remove-vertices", "Remove", "Remove the chosen vertices, pegs and all")), (
            ("follow", "Follow / measure", "Let the chosen vertices follow others, with no measurement of their own, or be measured again"),
            ("lock", "Lock / unlock", "Locked vertices are moved by nothing"))))
        f.addRow("Follow", self.leaders)
        f.addRow(button_grid(self.buttons, self.wanted.emit, (
            ("forget-before", "Delete before", "Delete the chosen vertices' data before this frame; they follow the others there"),
            ("forget-after", "Delete after", "Delete the chosen vertices' data after this frame; they follow the others there"))))
        f.addRow(button_grid(self.buttons, self.wanted.emit, ((
            "by-pegs", "Carry by pegs alone", "Lay the mesh on every frame that has no answer, for pegs to carry it there with no tracking"),)))
        self.on = QCheckBox("Pegs are on")
        self.on.setToolTip("Switch off to compare with what was tracked")
        self.on.clicked.connect(lambda: self.wanted.emit("pegs"))
        f.addRow(self.on)
        f.addRow(named("Ring: hidden. Dotted: no data. Diamond: peg. Amber: out of date.", "hint"))
        self.show_state()

    def show_state(self) -> None:
        s = self.session
        track = s.track
        meshed = track is not None and isinstance(track.solution, MeshSolution)
        for button in self.buttons.values():
            button.setEnabled(meshed)
        laid = track is not None and isinstance(track.settings, MeshSettings)
        missing = track is not None and (not isinstance(track.solution, MeshSolution) or any(
            track.solution.index(f) is None for f in range(s.shot.range[0], s.shot.range[1] + 1)))
        self.buttons["by-pegs"].setEnabled(laid and missing)
        self.buttons["by-pegs"].setVisible(laid and missing)
        self.on.setEnabled(meshed)
        if track is None or not isinstance(track.solution, MeshSolution):
            self.facts.setText("" if track is None else "This track is a plane; choose Mesh as its motion in Track and track it." if not laid else
                               "Nothing is tracked yet. Track the mesh (T), or carry it by pegs alone.")
            self.stale.setText("")
            return
        layer, solution = track.layer(PegLayer), track.solution
        frames = layer.frames
        count = sum(len(on) for on in layer.pegs.values())
        lines = [f"{len(solution.vertices)} vertices", f"{count} peg{'s' * (count != 1)} on {few(frames)}" if frames else "no pegs yet"]
        k = solution.index(s.frame)
        if k is not None and not solution.measured[k].all():
            lines.append(f"{int((~solution.measured[k]).sum())} vertices hidden here")
        if layer.followers or layer.locked:
            lines.append(f"{len(layer.followers)} follow, {len(layer.locked)} locked")
        self.facts.setText("\n".join(lines))
        self.buttons["clear"].setEnabled(s.frame in frames)
        with QSignalBlocker(self.on):
            self.on.setChecked(layer.enabled)
        stale = s.out_of_date()
        self.buttons["again"].setEnabled(bool(stale))
        self.stale.setText("out of date: " + stretches(f for x in stale for f in x.frames) if stale else
                           "nothing is out of date" if frames else "there are no pegs yet")
