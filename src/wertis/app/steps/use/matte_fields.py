"""A matte's settings on the page of the step Use: its shapes, their edges, keys, what it is in front of, and its edge measured and fitted."""

from collections.abc import Callable

from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import QCheckBox, QFormLayout, QPushButton, QWidget

from wertis.app.draw_tools import WAYS
from wertis.app.fields import DragLabel, Number, named
from wertis.app.pages import button_grid, combo, side_by_side
from wertis.app.session import Session
from wertis.core.errors import WertisError
from wertis.core.shot import items
from wertis.core.shot.document import Shot
from wertis.core.shot.matte_edits import hold_back, set_points_alike
from wertis.core.shot.mattes import Matte, MatteShape

COMBINE_WORDS = {"add": "Adds", "subtract": "Subtracts", "intersect": "Intersects", "exclude": "Excludes"}
WAY_WORDS = {way: WAYS[way] for way in ("smooth", "points", "rectangle", "freehand")}
TAKE_WORDS = {"all": "All", "perspective": "As a plane", "affine": "No perspective", "similarity": "Shift, scale, turn", "shift-scale": "Shift, scale",
              "shift-turn": "Shift, turn", "shift": "Shift alone"}
REACH_WORDS = {"key": "A key on this frame", "all": "All keys alike"}
LOOK_WORDS = {"": "Tinted over the picture", "alone": "Alone", "leaks": "Alone, faint parts raised", "out": "What it cuts out"}
HOW_WORDS = {"in front": "In front of", "limits": "Limits"}


class MatteFields(QWidget):
    """The selected matte; `wanted` is emitted for what needs the picture or takes long: draw, subtract, remove, next, clear, fit, fit-all, repair."""

    wanted = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.shape_id = ""
        self.chosen: set[int] = set()  # numbers of the points in hand
        self.edge_words: Callable[[Matte], str] = lambda matte: ""  # what is measured of its edge on the frame in view
        f = QFormLayout(self)
        f.setContentsMargins(0, 0, 0, 0)
        f.setVerticalSpacing(5)
        self.buttons: dict[str, QPushButton] = {}
        self.shape = combo({}, "Shape in hand", lambda: self.take_shape(str(self.shape.currentData() or "")))
        self.combine = combo(COMBINE_WORDS, "How the shape is joined to those before it",
                             lambda: self._set_shape("Join the shape", combine=self.combine.currentData()))
        f.addRow(side_by_side(self.shape, self.combine))
        self.way = combo(WAY_WORDS, "How shapes are drawn", lambda: None)
        grid = button_grid(self.buttons, self.wanted.emit, (
            ("draw", "Draw", "Draw one more shape, round what the matte covers"),
            ("remove", "Remove", "Remove the shape in hand")))
        grid.addWidget(self.way, 0, 2)
        grid.setColumnStretch(2, 2)
        f.addRow(grid)
        self.round = self._number(0, 100, "%", "Roundness of the chosen points, or of all", lambda v: self._points("Set the roundness", roundness=v / 100))
        self.inner = self._number(0, 400, "px", "Soft edge inside the outline, at the chosen points or all",
                                  lambda v: self._points("Set the soft edge", inner=v))
        self.outer = self._number(0, 400, "px", "Soft edge outside of the outline, at the chosen points or all",
                                  lambda v: self._points("Set the soft edge", outer=v))
        f.addRow(DragLabel("Roundness", self.round), self.round)
        f.addRow(DragLabel("Soft in / out", self.inner), side_by_side(self.inner, self.outer))
        self.grow = self._number(-200, 200, "px", "Grow, or shrink", lambda v: self._set("Grow the matte", grow=v))
        self.shutter = self._number(0, 720, "deg", "Shutter, 0 for no motion blur; 180 is usual", lambda v: self._set("Set the shutter", shutter=v))
        f.addRow(DragLabel("Grow, blur", self.grow), side_by_side(self.grow, self.shutter))
        self.take = combo(TAKE_WORDS, "What of the track's motion carries it",
                          lambda: self._set("Choose what carries the matte", take=self.take.currentData()))
        f.addRow("Takes", side_by_side(self.take, self._inverted()))
        self.how = combo(HOW_WORDS, "What it does to a graphic", self._held)
        self.of = combo({}, "The graphic", self._held)
        f.addRow(side_by_side(self.how, self.of))
        self.look = combo(LOOK_WORDS, "How the matte is seen", lambda: self.wanted.emit("look"))
        f.addRow("Seen", self.look)
        f.addRow(named("KEYS", "section"))
        self.reach = combo(REACH_WORDS, "What moving points changes", lambda: None)
        f.addRow("Moving sets", self.reach)
        f.addRow(button_grid(self.buttons, self.wanted.emit, (
            ("next", "Where one is wanted", "Go to the frame between keys where the shapes change most"),
            ("clear", "Clear", "Take the keys of this frame away"))))
        f.addRow(named("EDGE", "section"))
        self.limit = Number(0.1, 20, 0.1, 1, "px", "How far the outline may lie from the edge")
        self.limit.setValue(0.7)
        grid = button_grid(self.buttons, self.wanted.emit, (
            ("measure", "Measure", "Measure how far the outlines lie from the picture's edge, over the range"),
            ("worst", "Worst frame", "Go to the frame on which the outline is farthest off")), (
            ("fit", "Fit here", "Move the outline to the picture's edge on this frame, by a key"),
            ("fit-all", "Fit all frames", "The same on every frame of the range")), (
            ("repair", "Keys until under", "Fit keys where it is farthest from the edge, until it is nowhere further than this"),))
        grid.addWidget(self.limit, 2, 1)
        f.addRow(grid)
        self.facts = named("", "quiet")
        f.addRow(self.facts)

    # -- what is in hand ------------------------------------------------------------------------------------------

    @property
    def matte(self) -> Matte | None:
        """The selected matte."""
        return self.session.selected(Matte)

    @property
    def in_hand(self) -> MatteShape | None:
        """The shape in hand: the one picked, or the matte's last."""
        matte = self.matte
        if matte is None or not matte.shapes:
            return None
        return matte.shape(self.shape_id) or matte.shapes[-1]

    def take_shape(self, ident: str) -> None:
        """Take a shape in hand."""
        if ident != self.shape_id:
            self.shape_id, self.chosen = ident, set()
            self.session.selection_changed.emit()

    def show_state(self) -> None:
        """Show the matte as it is."""
        s, matte, shape = self.session, self.matte, self.in_hand
        if matte is None:
            return
        with QSignalBlocker(self.shape):
            self.shape.clear()
            for k, each in enumerate(matte.shapes):
                self.shape.addItem(f"Shape {k + 1}" if each.name == "Shape" else each.name, each.id)
            self.shape.setCurrentIndex(self.shape.findData(shape.id) if shape is not None else -1)
        graphics = s.shot.placements(matte.on)
        held = next((p for p in graphics if matte.id in (*p.held_back, *p.limited_to)), None)
        with QSignalBlocker(self.of), QSignalBlocker(self.how):
            self.of.clear()
            self.of.addItem("Nothing", "")
            for p in graphics:
                self.of.addItem(p.name, p.id)
            self.of.setCurrentIndex(self.of.findData(held.id if held is not None else ""))
            self.how.setCurrentIndex(self.how.findData("limits" if held is not None and matte.id in held.limited_to else "in front"))
        for field, value in ((self.grow, matte.grow), (self.shutter, matte.shutter)):
            with QSignalBlocker(field):
                field.setValue(value)
        with QSignalBlocker(self.take):
            self.take.setCurrentIndex(max(self.take.findData(matte.take), 0))
        self.invert.setChecked(matte.invert)
        for widget in (self.shape, self.combine, self.round, self.inner, self.outer):
            widget.setEnabled(shape is not None)
        for name in ("remove", "next", "clear", "measure", "worst", "fit", "fit-all", "repair"):
            self.buttons[name].setEnabled(shape is not None)
        if shape is None:
            self.facts.setText("No shape yet: draw one round what the matte covers.")
            return
        self.chosen = {k for k in self.chosen if k < len(shape.roundness)}
        which = sorted(self.chosen) or range(len(shape.roundness))
        for field, values, unit in ((self.round, shape.roundness, 100), (self.inner, shape.inner, 1), (self.outer, shape.outer, 1)):
            with QSignalBlocker(field):
                field.setValue(sum(values[k] for k in which) / max(len(which), 1) * unit)
        with QSignalBlocker(self.combine):
            self.combine.setCurrentIndex(self.combine.findData(shape.combine))
        here = "keyed here" if s.frame in shape.keys else "not keyed here"
        off = f"\n{self.edge_words(matte)}" if self.edge_words(matte) else ""
        self.facts.setText(f"{len(shape.roundness)} points, {len(shape.keys)} key{'s' * (len(shape.keys) != 1)}, {here}{off}")

    # -- changes --------------------------------------------------------------------------------------------------

    def _number(self, low: float, high: float, unit: str, name: str, changed: Callable[[float], object]) -> Number:
        field = Number(low, high, 1, 1 if unit == "px" else 0, unit, name)
        field.setToolTip(name)
        field.valueChanged.connect(changed)
        return field

    def _inverted(self) -> QCheckBox:
        self.invert = QCheckBox("Invert")
        self.invert.clicked.connect(lambda on: self._set("Invert the matte", invert=on))
        return self.invert

    def _set(self, label: str, **changes: object) -> None:
        matte = self.matte
        if matte is not None:
            self._do(label, lambda: items.set_item(self.session.shot, matte.but(**changes)))

    def _set_shape(self, label: str, **changes: object) -> None:
        matte, shape = self.matte, self.in_hand
        if matte is not None and shape is not None:
            self._do(label, lambda: items.set_item(self.session.shot, matte.with_shape(shape.but(**changes))))

    def _points(self, label: str, **values: float) -> None:
        matte, shape = self.matte, self.in_hand
        if matte is not None and shape is not None:
            self._do(label, lambda: set_points_alike(self.session.shot, matte.id, shape.id, self.chosen or None, **values))  # type: ignore[arg-type]

    def _held(self) -> None:
        matte = self.matte
        if matte is None:
            return
        shot = self.session.shot

        def made() -> Shot:
            after = shot
            for p in shot.placements(matte.on):
                after = hold_back(after, matte.id, p.id, self.how.currentData() if p.id == self.of.currentData() else "none")
            return after

        self._do("Hold the graphic back", made)

    def _do(self, label: str, make: Callable[[], Shot]) -> None:
        try:
            self.session.history.do(label, make(), f"{label}-{self.matte.id if self.matte is not None else ''}")
        except WertisError as why:
            self.session.message.emit(str(why), True)
        self.show_state()
