"""Graphics, mattes, grades and colours on the selected track."""

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QGridLayout, QPushButton, QWidget

from wertis.app.fields import form, named
from wertis.app.pages import Page, part_buttons
from wertis.app.session import Session
from wertis.app.steps.use.artwork_fields import ArtworkFields
from wertis.app.steps.use.fill_fields import FillFields
from wertis.app.steps.use.grade_fields import GradeFields
from wertis.app.steps.use.look_fields import LookFields
from wertis.app.steps.use.match_fields import MatchFields
from wertis.app.steps.use.mattes.fields import MatteFields
from wertis.app.steps.use.patches.fields import PatchFields
from wertis.app.steps.use.place_fields import PlaceFields

GRAPHIC_PARTS = (("Artwork", "What is shown"), ("Place", "How it sits on the surface"),
                 ("Look", "How it is mixed: blending, clear parts, edge, shadow"),
                 ("Match", "Make it look as if it had been filmed: softness, blur, light, grain"))


class UsePage(Page):
    """What is used on the selected track."""

    add_wanted = Signal()
    matte_wanted = Signal()
    grade_wanted = Signal()
    fill_wanted = Signal()
    patch_wanted = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        f = self.form = form(self)
        self.heading = named("", "heading")
        self.add = QPushButton("+ Graphic")
        self.add.setObjectName("main")
        self.add.setToolTip("Put a quad on the surface on this frame (P)")
        self.add.clicked.connect(self.add_wanted)
        self.draw = QPushButton("+ Matte")
        self.draw.setToolTip("Draw shapes that the track carries: what passes in front of a graphic, or what limits it (Shift+P)")
        self.draw.clicked.connect(self.matte_wanted)
        self.tint = QPushButton("+ Grade")
        self.tint.setToolTip("Change colours inside a matte, or everywhere")
        self.tint.clicked.connect(self.grade_wanted)
        self.paint_on = QPushButton("+ Colour")
        self.paint_on.setToolTip("Lay a colour inside a matte: a drawn line, a light, a flat area")
        self.paint_on.clicked.connect(self.fill_wanted)
        f.addRow(self.heading)
        grid = QGridLayout()
        grid.setSpacing(6)
        self.mend = QPushButton("+ Patch")
        self.mend.setToolTip("Take the surface out flat on this frame, to be cleaned or painted, and given back to every frame")
        self.mend.clicked.connect(self.patch_wanted)
        for k, button in enumerate((self.add, self.draw, self.mend, self.tint, self.paint_on)):
            grid.addWidget(button, k // 3, k % 3)
        f.addRow(grid)
        self.parts = QWidget()
        row_of_parts, self.part = part_buttons(GRAPHIC_PARTS, lambda _: self.show_state(), self.parts)
        row_of_parts.setContentsMargins(0, 0, 0, 0)
        self.parts.setLayout(row_of_parts)
        f.addRow(self.parts)
        self.artwork, self.place, self.look, self.match = ArtworkFields(session), PlaceFields(session), LookFields(session), MatchFields()
        self.of_graphic: tuple[ArtworkFields | PlaceFields | LookFields | MatchFields, ...] = (self.artwork, self.place, self.look, self.match)
        self.matte, self.grade, self.fill = MatteFields(session), GradeFields(session), FillFields(session)
        self.patch = PatchFields(session)
        for part in (*self.of_graphic, self.matte, self.grade, self.fill, self.patch):
            f.addRow(part)
        self.show_state()

    def show_state(self) -> None:
        s = self.session
        track, placement = s.track, s.placement
        there = track is not None and s.plate is not None
        for button in (self.add, self.draw, self.mend, self.tint, self.paint_on):
            button.setEnabled(there)
        # a matte, a grade or a colour in hand has the page to itself
        others = ((self.matte, self.matte.matte), (self.grade, self.grade.grade), (self.fill, self.fill.fill), (self.patch, self.patch.patch))
        part, item = next(((p, x) for p, x in others if x is not None), (None, None))
        for other, _ in others:
            other.setVisible(other is part)
        self.parts.setVisible(part is None)
        for k, of_graphic in enumerate(self.of_graphic):
            of_graphic.setVisible(part is None and self.part.checkedId() == k)
        if part is not None and item is not None:
            self.heading.setText(f"{item.name} on {track.name}" if track is not None else item.name)
            part.show_state()
            return
        self.heading.setText(f"{placement.name} on {track.name}" if track and placement else (track.name if track else "Draw a region first"))
        self.of_graphic[self.part.checkedId()].show_state()
