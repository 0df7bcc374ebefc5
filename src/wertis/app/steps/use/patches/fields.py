"""A patch on the page of the step Use: how it is painted, how it is given back, and files of it."""

from collections.abc import Callable

from PySide6.QtCore import QSignalBlocker, Qt, Signal
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QButtonGroup, QCheckBox, QColorDialog, QFormLayout, QGridLayout, QListWidget, QListWidgetItem, QPushButton, QWidget

from wertis.app.fields import DragLabel, named
from wertis.app.pages import combo, number, part_buttons, part_form, show_colour, side_by_side
from wertis.app.session import Session
from wertis.app.steps.use.matte_choice import show_mattes
from wertis.core.errors import WertisError
from wertis.core.shot import patches
from wertis.core.shot.patches import COPYING, Patch, Stroke

PARTS = (("Paint", "What is painted on the flat picture"), ("Give back", "Where and how it is laid on the frames"),
         ("Files", "For painting elsewhere, and back"))
KINDS = {"brush": ("Brush", "Paint with a colour"), "clone": ("Clone", "Copy from elsewhere; Ctrl and a click set from where"),
         "heal": ("Heal", "Copy from elsewhere, its edge made to fit; Ctrl and a click set from where"), "erase": ("Erase", "Bring back what was there"),
         "blur": ("Blur", "Soften"), "sharpen": ("Sharpen", "Make edges steeper"), "tone": ("Tone", "Multiply by a colour"),
         "fill": ("Fill", "Drag round a part: it is filled from its surroundings")}


class PatchFields(QWidget):
    """The selected patch.

    Signals
    -------
    wanted(what) : something longer is asked for: "clean", "match", "flicker", "worst", "propose", "retake", "write", "series", "read", "copy", "paste",
        "again" (another way to fill), "flat" (the flat picture alone), "mask".
    brush_changed() : another brush, or none, is in hand.
    """

    wanted = Signal(str)
    brush_changed = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.source: tuple[float, float] | None = None  # place of the flat picture that is copied from
        self.colour = QColor("#808080")
        f = self.form = part_form(self)
        self.about = named("", "quiet")
        flat = self._button("See it flat", "flat", "Show the flat picture alone: painted, as it was, where it is laid on, what changed")
        self.about.setMinimumWidth(140)
        f.addRow(side_by_side(self.about, flat))
        f.addRow(side_by_side(self._button("Best frames", "propose", "Name the frames on which the surface is largest, sharpest and least hidden"),
                              self._button("Take from here", "retake", "Take the patch out of the frame in view; it stays where it is")))
        row_of = QWidget()
        row, self.part = part_buttons(PARTS, lambda _: self._turn_to(), row_of)
        row.setContentsMargins(0, 0, 0, 0)
        row_of.setLayout(row)
        f.addRow(row_of)
        self._rows: list[list[int]] = [[], [], []]
        for k, fill in enumerate((self._paint_part, self._back_part, self._file_part)):
            start = f.rowCount()
            fill(f)
            self._rows[k] = list(range(start, f.rowCount()))
        self.show_state()

    # -- parts ----------------------------------------------------------------------------------------------------

    def _paint_part(self, f: QFormLayout) -> None:
        f.addRow(self._button("Clean plate from the shot", "clean", "Join the bare surface from all frames that see it: what passes in front is left out"))
        grid = QGridLayout()
        grid.setSpacing(4)
        self.kinds = QButtonGroup(self)
        self.kinds.setExclusive(False)
        self.kind = ""
        for k, (name, (words, tip)) in enumerate(KINDS.items()):
            button = QPushButton(words)
            button.setCheckable(True)
            button.setObjectName("part")
            button.setToolTip(tip)
            button.clicked.connect(lambda on, n=name: self._take(n if on else ""))
            self.kinds.addButton(button, k)
            grid.addWidget(button, k // 4, k % 4)
        f.addRow(grid)
        nothing = self.brush_changed.emit
        self.radius = number(0.5, 2000, "px", "Radius of the brush, in the flat picture's pixels", lambda _: nothing(), 2, 1)
        self.hardness = number(0, 100, "%", "Share of the radius that is painted in full", lambda _: nothing(), 5)
        self.opacity = number(0, 100, "%", "Opacity", lambda _: nothing(), 5)
        self.amount = number(0, 100, "", "How much: of blur in pixels, of sharpness as a factor", lambda _: nothing(), 0.5, 1)
        show = ((self.radius, 20.0), (self.hardness, 60.0), (self.opacity, 100.0), (self.amount, 2.0))
        for field_, value in show:
            field_.setValue(value)
        f.addRow(DragLabel("Radius", self.radius), side_by_side(self.radius, self.hardness))
        self.ink = QPushButton("Colour")
        self.ink.clicked.connect(self._choose_colour)
        f.addRow(DragLabel("Opacity", self.opacity), side_by_side(self.opacity, self.ink, self.amount))
        self.aligned = QCheckBox("Aligned")
        self.aligned.setToolTip("Each stroke copies from the same distance; otherwise each begins at the marked place again")
        self.aligned.setChecked(True)
        self.from_frame = QCheckBox("From this frame")
        self.from_frame.setToolTip("Copy from the plate of the frame in view, laid flat, rather than from the patch itself")
        self.turn = number(-360, 360, "deg", "Turn what is copied", lambda _: nothing(), 5)
        self.scale = number(5, 2000, "%", "Enlarge what is copied", lambda _: nothing(), 5)
        self.scale.setValue(100)
        self._copy_rows = [f.rowCount(), f.rowCount() + 1]
        f.addRow(side_by_side(self.aligned, self.from_frame))
        f.addRow(DragLabel("Turn, scale", self.turn), side_by_side(self.turn, self.scale))
        f.addRow(named("STROKES", "section"))
        self.strokes = QListWidget()
        self.strokes.setFixedHeight(84)
        self.strokes.setAccessibleName("Strokes; tick to switch one on or off")
        self.strokes.itemChanged.connect(self._ticked)
        self.strokes.currentRowChanged.connect(lambda _: self._show_stroke())
        f.addRow(self.strokes)
        self.first, self.last = (number(-1e7, 1e8, "", f"{words} frame of the stroke", lambda _: self._set_stroke_range(), 1)
                                 for words in ("First", "Last"))
        f.addRow(DragLabel("Frames", self.first), side_by_side(self.first, self.last))
        self.remove = QPushButton("Remove")
        self.remove.setToolTip("Take the chosen stroke away")
        self.remove.clicked.connect(self._remove)
        self.again = self._button("Another way", "again", "Fill the chosen hole another way")
        f.addRow(side_by_side(self.remove, self.again))

    def _back_part(self, f: QFormLayout) -> None:
        self.cover = combo({"changed": "What was changed", "all": "All of it"}, "What is laid on the frames",
                           lambda: self._set("Set what is laid on", cover=self.cover.currentData()))
        f.addRow("Lay on", self.cover)
        self.soft = number(0, 500, "px", "Pixels of the flat picture over which its edge fades", lambda v: self._set("Soften the edge", soft=v))
        self.share = number(0, 100, "%", "Opacity of the patch", lambda v: self._set("Set the opacity", opacity=v / 100), 5)
        f.addRow(DragLabel("Edge, opacity", self.soft), side_by_side(self.soft, self.share))
        self.seam = QCheckBox("Its edge meets the plate")
        self.seam.setToolTip("On each frame its colours are changed evenly so that its edge meets the plate's (a membrane)")
        self.seam.clicked.connect(lambda on: self._set("Meet the plate", seam=on))
        f.addRow(self.seam)
        self.inside = combo({}, "The matte inside of which it shows", lambda: self._set_mattes("limited_to", self.inside.currentData()))
        self.behind = combo({}, "The matte of what is in front of it", lambda: self._set_mattes("held_back", self.behind.currentData()))
        f.addRow("Inside", self.inside)
        f.addRow("In front", self.behind)
        self.from_, self.to = (number(-1e7, 1e8, "", words, lambda _: self._set_range(), 1) for words in ("First frame", "Last frame"))
        self.fade = number(0, 1000, "fr", "Frames over which it comes and goes", lambda v: self._set("Fade the patch", fade=v), 1)
        self.always = QCheckBox("All frames")
        self.always.clicked.connect(self._always)
        f.addRow(self.always)
        f.addRow(DragLabel("From, to", self.from_), side_by_side(self.from_, self.to))
        f.addRow(DragLabel("Fade", self.fade), self.fade)
        f.addRow(named("LIKE THE PLATE", "section"))
        f.addRow(self._button("Match light, blur and grain", "match", "Measure how light, blur and focus change from the patch's frame, and the grain"))
        self.matched = named("", "quiet")
        f.addRow(self.matched)
        f.addRow(named("BORDER FROM FRAME TO FRAME", "section"))
        f.addRow(side_by_side(self._button("Measure", "flicker", "Measure where the patch's border jumps from one frame to the next"),
                              self._button("Next worst", "worst", "Go to the frame on which it jumps most, then to the next")))
        self.flicker = named("", "quiet")
        f.addRow(self.flicker)

    def _file_part(self, f: QFormLayout) -> None:
        f.addRow(self._button("Save flat picture...", "write", "Write it as EXR, TIFF or PNG with 16 bits, for painting elsewhere"))
        f.addRow(self._button("Save its mask...", "mask", "Write where it is laid on, white on black"))
        f.addRow(self._button("Read painted picture...", "read", "Take what was painted elsewhere, a picture or one of a sequence"))
        f.addRow(self._button("Save every frame flat...", "series", "The steadied plate as a sequence, with the way back in a file beside it"))
        f.addRow(side_by_side(self._button("Copy", "copy", "Put the flat picture on the clipboard, with 8 bits"),
                              self._button("Paste", "paste", "Take the picture on the clipboard, of the flat picture's size")))
        self.file = named("", "quiet")
        f.addRow(self.file)
        f.addRow(named("Painted files keep the size they came with. When one is saved again, it is read again by itself.", "hint"))

    def _button(self, words: str, what: str, tip: str) -> QPushButton:
        button = QPushButton(words)
        button.setToolTip(tip)
        button.clicked.connect(lambda: self.wanted.emit(what))
        return button

    # -- what is in hand ------------------------------------------------------------------------------------------

    @property
    def patch(self) -> Patch | None:
        """The selected patch."""
        return self.session.selected(Patch)

    @property
    def stroke(self) -> Stroke | None:
        """The chosen stroke."""
        patch, item = self.patch, self.strokes.currentItem()
        return patch.stroke(item.data(Qt.ItemDataRole.UserRole)) if patch is not None and item is not None else None

    def _take(self, kind: str) -> None:
        self.kind = kind
        for k, name in enumerate(KINDS):
            with QSignalBlocker(self.kinds.button(k)):
                self.kinds.button(k).setChecked(name == kind)
        self.show_state()
        self.brush_changed.emit()

    def put_away(self) -> None:
        """Put the brush away."""
        if self.kind:
            self._take("")

    def _turn_to(self) -> None:
        if self.part.checkedId() != 0:
            self._take("")
        self.show_state()

    # -- showing --------------------------------------------------------------------------------------------------

    def show_state(self) -> None:
        """Show the patch as it is."""
        patch, at = self.patch, self.part.checkedId()
        for k, rows in enumerate(self._rows):
            for row in rows:
                self.form.setRowVisible(row, k == at)
        for row in self._copy_rows:
            self.form.setRowVisible(row, at == 0 and self.kind in COPYING)
        self.amount.setVisible(self.kind in ("blur", "sharpen"))
        self.ink.setVisible(self.kind in ("brush", "tone"))
        show_colour(self.ink, self.colour)
        if patch is None:
            return
        w, h = patch.size
        on = {"plate": "", "file": "; painted elsewhere", "clean": "; on the clean plate"}[patch.base]
        self.about.setText(f"Taken from frame {patch.frame}, {w} x {h} pixels{on}.")
        self._show_strokes(patch)
        with QSignalBlocker(self.cover), QSignalBlocker(self.seam), QSignalBlocker(self.always):
            self.cover.setCurrentIndex(self.cover.findData(patch.cover))
            self.seam.setChecked(patch.seam)
            self.always.setChecked(patch.first is None and patch.last is None)
        low, high = self.session.shot.range
        for field_, value in ((self.soft, patch.soft), (self.share, patch.opacity * 100), (self.from_, low if patch.first is None else patch.first),
                              (self.to, high if patch.last is None else patch.last), (self.fade, patch.fade)):
            with QSignalBlocker(field_):
                field_.setValue(value)
        for field_ in (self.from_, self.to, self.fade):
            field_.setEnabled(not self.always.isChecked())
        show_mattes(self.inside, self.session.shot, patch.limited_to, "Everywhere")
        show_mattes(self.behind, self.session.shot, patch.held_back, "Nothing")
        match = patch.match
        words = [w for w, there in (("light", match.light), ("focus", match.focus), ("shutter", match.shutter), ("grain", match.grain)) if there]
        self.matched.setText(f"Matched: {', '.join(words)}." if words else "Nothing is matched.")
        self.file.setText(f"Painted in {patch.path}" if patch.base == "file" else "")

    def _show_strokes(self, patch: Patch) -> None:
        chosen = self.stroke.id if self.stroke is not None else ""
        with QSignalBlocker(self.strokes):
            self.strokes.clear()
            for k, stroke in enumerate(patch.strokes, 1):
                item = QListWidgetItem(f"{k}  {KINDS[stroke.kind][0]}" + self._range_words(stroke))
                item.setData(Qt.ItemDataRole.UserRole, stroke.id)
                item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
                item.setCheckState(Qt.CheckState.Checked if stroke.visible else Qt.CheckState.Unchecked)
                self.strokes.addItem(item)
                if stroke.id == chosen:
                    self.strokes.setCurrentItem(item)
            if self.strokes.currentRow() < 0 and self.strokes.count():
                self.strokes.setCurrentRow(self.strokes.count() - 1)
                self.strokes.scrollToBottom()
        self._show_stroke()

    @staticmethod
    def _range_words(stroke: Stroke) -> str:
        if stroke.first is None and stroke.last is None:
            return ""
        return f", {'' if stroke.first is None else stroke.first}-{'' if stroke.last is None else stroke.last}"

    def _show_stroke(self) -> None:
        stroke = self.stroke
        for widget in (self.remove, self.first, self.last):
            widget.setEnabled(stroke is not None)
        self.again.setEnabled(stroke is not None and stroke.kind == "fill")
        if stroke is not None:
            low, high = self.session.shot.range
            for field_, value in ((self.first, low if stroke.first is None else stroke.first), (self.last, high if stroke.last is None else stroke.last)):
                with QSignalBlocker(field_):
                    field_.setValue(value)

    # -- changes --------------------------------------------------------------------------------------------------

    def _do(self, label: str, make: Callable[[str], object], merge: str = "") -> None:
        s, patch = self.session, self.patch
        if patch is None:
            return
        try:
            s.history.do(label, make(patch.id), f"{merge}-{patch.id}" if merge else "")  # type: ignore[arg-type]
        except WertisError as why:
            s.message.emit(str(why), True)
        self.show_state()

    def _set(self, label: str, **changes: object) -> None:
        self._do(label, lambda ident: patches.set_patch(self.session.shot, ident, **changes), label)

    def _set_mattes(self, name: str, ident: object) -> None:
        self._set("Choose a matte", **{name: (str(ident),) if ident else ()})

    def _set_range(self) -> None:
        first, last = int(self.from_.value()), int(self.to.value())
        self._set("Set the patch's frames", first=min(first, last), last=max(first, last))

    def _always(self, on: bool) -> None:
        low, high = self.session.shot.range
        self._set("Set the patch's frames", first=None if on else low, last=None if on else high)

    def _set_stroke(self, label: str, **changes: object) -> None:
        stroke = self.stroke
        if stroke is not None:
            self._do(label, lambda ident: patches.set_stroke(self.session.shot, ident, stroke.id, **changes), label)

    def _set_stroke_range(self) -> None:
        low, high = self.session.shot.range
        first, last = int(self.first.value()), int(self.last.value())
        self._set_stroke("Set the stroke's frames", first=None if first <= low else first, last=None if last >= high else last)

    def _ticked(self, item: QListWidgetItem) -> None:
        ident, on = item.data(Qt.ItemDataRole.UserRole), item.checkState() == Qt.CheckState.Checked
        self._do("Switch a stroke", lambda patch: patches.set_stroke(self.session.shot, patch, ident, visible=on))

    def _remove(self) -> None:
        stroke = self.stroke
        if stroke is not None:
            self._do("Remove a stroke", lambda ident: patches.remove_stroke(self.session.shot, ident, stroke.id))

    def _choose_colour(self) -> None:
        chosen = QColorDialog.getColor(self.colour, self, "Colour")
        if chosen.isValid():
            self.colour = chosen
            show_colour(self.ink, chosen)
            self.brush_changed.emit()
