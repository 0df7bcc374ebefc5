"""What the plate is, and its range."""


from pathlib import Path

from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton

from wertis.app.fields import DragLabel, Number, form, named
from wertis.app.pages import Page, combo, few
from wertis.app.session import Session
from wertis.app.steps.plate.viewing import ViewingFields
from wertis.core.comp.light import MIXINGS
from wertis.core.errors import PlateError

ALPHA_WORDS = {"file": "As the format says", "straight": "Not multiplied in yet", "ignore": "Left out"}


class PlatePage(Page):
    """What the plate is; its range."""

    cuts_wanted = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._form = f = form(self)
        self.open = QPushButton("Open a plate...")
        self.open.setObjectName("main")
        self.name = named("", "heading")
        self.facts = named("", "quiet")
        self.first, self.last = (Number(-10_000_000, 100_000_000, 1, 0) for _ in range(2))
        for box, name in ((self.first, "First frame of the range"), (self.last, "Last frame of the range")):
            box.setAccessibleName(name)
            box.valueChanged.connect(self._range)
        self.first.setToolTip("First frame to track and render (I sets it to the frame in view)")
        self.last.setToolTip("Last frame to track and render (O sets it to the frame in view)")
        self.fps = Number(1, 240, 1, 3, "fps", "Frames per second")
        self.fps.setValue(24)  # while there is no plate
        self.fps.valueChanged.connect(self._fps)
        f.addRow(self.name)
        f.addRow(self.facts)
        f.addRow(self.open)
        f.addRow(named("RANGE", "section"))
        span = QHBoxLayout()
        for part in (self.first, QLabel("to"), self.last):
            span.addWidget(part, 0 if isinstance(part, QLabel) else 1)
        f.addRow("Frames", span)
        f.addRow(DragLabel("Rate", self.fps), self.fps)
        self.aspect = Number(0.1, 10, 0.05, 4, "", "Pixel aspect")
        self.aspect.setValue(1)
        self.aspect.setToolTip("Width of a pixel over its height; 1 is square. Tracks and exports stay in pixels")
        self.aspect.valueChanged.connect(lambda v: self._read("Set the pixel aspect", aspect=v))
        self.layer = combo({"": "The picture"}, "Layer of the files", lambda: self._choose(layer=self.layer.currentData()))
        self.layer.setToolTip("Which of an EXR's layers is the plate")
        self.alpha = combo(ALPHA_WORDS, "How alpha is taken", lambda: self._choose(alpha=self.alpha.currentData()))
        self.mixing = combo(MIXINGS, "In what light graphics are laid on", self._mix)
        self.mixing.setToolTip("Linear light blurs and blends as a lens does; as coded is quickest and the usual one for display-coded plates")
        f.addRow(named("THE FILES", "section"))
        f.addRow(DragLabel("Pixel aspect", self.aspect), self.aspect)
        self.viewing = ViewingFields(session)
        f.addRow("Colours", self.viewing.space)
        f.addRow("Layer", self.layer)
        f.addRow("Alpha", self.alpha)
        f.addRow(named("COMP", "section"))
        f.addRow("Graphics mix", self.mixing)
        self.viewing.add_rows(f)
        session.viewing_changed.connect(self.follow)
        f.addRow(named("Next: find the frame where the surface is largest and sharpest; then Region.", "hint"))
        self.show_state()

    def show_state(self) -> None:
        plate, shot = self.session.plate, self.session.shot
        self.viewing.show_state()
        for box in (self.first, self.last, self.fps, self.aspect, self.mixing):
            box.setEnabled(plate is not None)
        self._form.setRowVisible(self.layer, plate is not None and len(plate.layers) > 1)
        self._form.setRowVisible(self.alpha, plate is not None and (plate.has_alpha or plate.alpha != "file"))
        if plate is None:
            self.name.setText("No plate")
            self.facts.setText("A folder of numbered pictures (PNG, JPEG, TIFF, DPX, EXR) or a movie.")
            return
        self.name.setText(plate.path.name)
        gaps = f"\n{len(plate.gaps)} frames missing: {few(sorted(plate.gaps))}" if plate.gaps else ""
        cuts = shot.plate.cuts if shot.plate is not None else ()
        gaps += f"\ncuts before {few(list(cuts))}" if cuts else ""
        no_cuts = shot.plate.no_cuts if shot.plate is not None else ()
        gaps += f"\nno cut before {few(list(no_cuts))}" if no_cuts else ""
        self.facts.setText(f"{plate.size[0]} x {plate.size[1]} pixels\nframes {plate.first} to {plate.last}{gaps}\n{from_home(plate.path.parent)}")
        with QSignalBlocker(self.first), QSignalBlocker(self.last), QSignalBlocker(self.fps):
            self.first.setRange(plate.first, plate.last)
            self.last.setRange(plate.first, plate.last)
            self.first.setValue(shot.range[0])
            self.last.setValue(shot.range[1])
            self.fps.setValue(shot.plate.fps if shot.plate else plate.fps)
        with QSignalBlocker(self.aspect):
            self.aspect.setValue(self.session.aspect)
        if [self.layer.itemData(i) for i in range(self.layer.count())] != list(plate.layers):
            self.layer.clear()
            for name in plate.layers:
                self.layer.addItem(name or "The picture", name)
        self.layer.setCurrentIndex(self.layer.findData(plate.layer))
        self.alpha.setCurrentIndex(self.alpha.findData(plate.alpha))
        self.mixing.setCurrentIndex(self.mixing.findData(shot.mixing))

    def _choose(self, **changes: str) -> None:
        try:
            self.session.opened.read_otherwise(**changes)
        except PlateError as why:
            self.session.message.emit(str(why), True)
        self.show_state()

    def _mix(self) -> None:
        self.session.history.do("Choose how graphics mix", self.session.shot.but(mixing=self.mixing.currentData()))

    def _read(self, words: str, **changes: float) -> None:
        shot = self.session.shot
        if shot.plate is not None:
            self.session.history.do(words, shot.but(plate=shot.plate.but(**changes)), words)

    def _range(self) -> None:
        a, b = int(self.first.value()), int(self.last.value())
        if self.sender() is self.first:
            b = max(a, b)
        else:
            a = min(a, b)
        self.session.history.do("Set the range", self.session.shot.but(range=(a, b)), "range")

    def _fps(self, value: float) -> None:
        self._read("Set the frame rate", fps=value)


def from_home(path: Path) -> str:
    """A path as it is written for the person: below their own folder it begins with ~."""
    try:
        return str(Path("~") / path.absolute().relative_to(Path.home()))
    except ValueError:
        return str(path)
