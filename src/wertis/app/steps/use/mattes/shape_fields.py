"""The shapes of a matte on its page: a list of them and their groups, drawing, and what is set of the shape or group in hand."""

from collections.abc import Callable
from functools import partial

from PySide6.QtCore import QSignalBlocker, QSize, Qt, QTimer
from PySide6.QtGui import QColor, QIcon, QPixmap
from PySide6.QtWidgets import QAbstractItemView, QCheckBox, QColorDialog, QPushButton, QTreeWidget, QTreeWidgetItem, QWidget

from wertis.app import theme
from wertis.app.draw_tools import WAYS
from wertis.app.fields import DragLabel
from wertis.app.pages import button_grid, combo, number, part_form, side_by_side
from wertis.app.steps.use.mattes.hand import Hand
from wertis.core.shot import matte_edits
from wertis.core.shot.mattes import Matte, MatteShape

COMBINE_WORDS = {"add": "Adds", "subtract": "Subtracts", "intersect": "Intersects", "exclude": "Excludes"}
END_WORDS = {"round": "Round ends", "flat": "Flat ends", "square": "Square ends"}
_ROW = 22  # pixels
_IDENT = Qt.ItemDataRole.UserRole


class ShapeFields(QWidget):
    """The list of shapes, and what is set of the one in hand."""

    def __init__(self, hand: Hand) -> None:
        super().__init__()
        self.hand = hand
        self.buttons: dict[str, QPushButton] = {}
        self._filled: tuple = ()
        f = part_form(self)
        self.list = self._tree()
        f.addRow(self.list)
        self.way = combo(WAYS, "How shapes are drawn", lambda: None)
        self.way.setCurrentIndex(self.way.findData("smooth"))
        row = button_grid(self.buttons, self._wanted, (
            ("draw", "Draw", "Draw one more shape, round what the matte covers"), ("sooner", "↑", "Joined sooner"), ("later", "↓", "Joined later")))
        row.addWidget(self.way, 0, 3)
        row.setColumnStretch(3, 2)
        f.addRow(row)
        f.addRow(button_grid(self.buttons, self._wanted, (
            ("group", "Group", "Put what is picked in the list into a group, which is joined as one shape is; of a group: take it apart"),
            ("copy", "Copy", "A copy of the shape in hand"),
            ("remove", "Remove", "Remove what is picked in the list"))))
        self.combine = combo(COMBINE_WORDS, "How it is joined to what comes before it", lambda: self._set("Join", combine=self.combine.currentData()))
        self.opacity = number(0, 100, "%", "Opacity of the shape or group", lambda v: self._set("Set the opacity", opacity=v / 100))
        f.addRow(side_by_side(self.combine, self.opacity))
        self.round = number(0, 100, "%", "Roundness of the chosen points, or of all", lambda v: self._points("Set the roundness", roundness=v / 100))
        self.handles = QCheckBox("Handles")
        self.handles.setToolTip("Each point's curve is shaped by two handles in place of one roundness; the curve does not move")
        self.handles.clicked.connect(self._handles)
        f.addRow(DragLabel("Roundness", self.round), side_by_side(self.round, self.handles))
        self.inner = number(0, 400, "px", "Soft edge inside the outline, at the chosen points or all",
                            lambda v: self._points("Set the soft edge", inner=v))
        self.outer = number(0, 400, "px", "Soft edge outside of the outline, at the chosen points or all",
                            lambda v: self._points("Set the soft edge", outer=v))
        f.addRow(DragLabel("Soft in / out", self.inner), side_by_side(self.inner, self.outer))
        self.grow = number(-200, 200, "px", "By how much the shape or group grows, or shrinks", lambda v: self._set("Grow", grow=v))
        self.lock = QCheckBox("Locked")
        self.lock.clicked.connect(lambda on: self.hand.set_shape("Lock the shape", locked=on))
        self.colour = QPushButton()
        self.colour.setToolTip("The colour in which the outline is drawn")
        self.colour.setAccessibleName("Colour of the outline")
        self.colour.clicked.connect(self._pick_colour)
        row_of_grow = side_by_side(self.grow, self.lock)
        row_of_grow.addWidget(self.colour)
        f.addRow(DragLabel("Grow", self.grow), row_of_grow)
        self.line = QCheckBox("A line")
        self.line.setToolTip("Draw the shape as a line rather than filled; what it is coloured with is + Colour")
        self.line.clicked.connect(self._line)
        self.closed = QCheckBox("Closed")
        self.closed.clicked.connect(self._close)
        self.line_width = number(0.1, 400, "px", "Width of the line at the chosen points, or all", lambda v: self._points("Set the width", width=v))
        f.addRow(self.line, side_by_side(self.line_width, self.closed))
        self.ends = combo(END_WORDS, "Ends of the line", lambda: self._stroke("Set the ends", ends=self.ends.currentData()))
        self.dash = number(0, 400, "px", "Dashes, drawn", lambda v: self._stroke("Set the dashes", dash=v))
        self.gap = number(0, 400, "px", "Dashes, left out", lambda v: self._stroke("Set the dashes", gap=v))
        self.begin = number(0, 100, "%", "Where along it the line begins; a key on this frame", partial(self._key_part, "begin"))
        self.end = number(0, 100, "%", "Where along it the line ends; a key on this frame", partial(self._key_part, "end"))
        self._line_rows = [f.rowCount(), f.rowCount() + 1, f.rowCount() + 2]
        f.addRow("Ends", self.ends)
        f.addRow(DragLabel("Dash, gap", self.dash), side_by_side(self.dash, self.gap))
        f.addRow(DragLabel("From, to", self.begin), side_by_side(self.begin, self.end))
        self.form = f

    def _tree(self) -> QTreeWidget:
        tree = QTreeWidget()
        tree.setHeaderHidden(True)
        tree.setIndentation(12)
        tree.setIconSize(QSize(9, 9))
        tree.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        tree.setToolTip("Shapes in the order in which they are joined. Tick to show; double-click to name; several are picked with Ctrl.")
        tree.setAccessibleName("Shapes")
        tree.setFixedHeight(3 * _ROW + 6)
        tree.itemSelectionChanged.connect(self._picked)
        tree.itemChanged.connect(self._edited)
        return tree

    # -- showing --------------------------------------------------------------------------------------------------

    def show_state(self) -> None:
        """Show the shape or group in hand."""
        matte, shape, group = self.hand.matte, self.hand.shape, self.hand.group
        if matte is None:
            return
        self._fill(matte)
        for widget in (self.combine, self.opacity, self.round, self.inner, self.outer, self.grow, self.handles, self.line, self.lock, self.colour):
            widget.setEnabled(shape is not None)
        for name in ("remove", "copy", "group", "sooner", "later"):
            self.buttons[name].setEnabled(shape is not None)
        self.buttons["group"].setText("Ungroup" if group is not None else "Group")
        if shape is None:
            self._show_line(None)
            return
        thing = group or shape
        with QSignalBlocker(self.combine):
            self.combine.setCurrentIndex(self.combine.findData(thing.combine))
        which = sorted(self.hand.numbers()) or range(shape.count)
        for field, value in ((self.opacity, thing.opacity * 100), (self.grow, thing.grow), *(
                (field, sum(values[k] for k in which) / max(len(which), 1) * unit) for field, values, unit in (
                    (self.round, shape.roundness, 100), (self.inner, shape.inner, 1), (self.outer, shape.outer, 1)))):
            with QSignalBlocker(field):
                field.setValue(value)
        self.round.setEnabled(not shape.handled and group is None)
        for widget in (self.inner, self.outer, self.handles, self.line, self.lock, self.colour):
            widget.setEnabled(group is None)
        self.handles.setChecked(shape.handled)
        self.lock.setChecked(shape.locked)
        self.colour.setIcon(_dot(outline_colour(shape)))
        self._show_line(shape if group is None else None)

    def _show_line(self, shape: MatteShape | None) -> None:
        stroke = shape.stroke if shape is not None else None
        self.line.setChecked(stroke is not None)
        for row in self._line_rows:
            self.form.setRowVisible(row, stroke is not None)
        self.line_width.setVisible(stroke is not None)
        self.closed.setVisible(stroke is not None)
        if shape is None or stroke is None:
            return
        self.closed.setChecked(shape.closed)
        which = sorted(self.hand.numbers()) or range(shape.count)
        begin, end = stroke.part(self.hand.session.frame)
        wide = sum(stroke.widths[k] for k in which) / max(len(which), 1)
        for field, value in ((self.line_width, wide), (self.dash, stroke.dash), (self.gap, stroke.gap),
                             (self.begin, begin * 100), (self.end, end * 100)):
            with QSignalBlocker(field):
                field.setValue(value)
        with QSignalBlocker(self.ends):
            self.ends.setCurrentIndex(self.ends.findData(stroke.ends))

    def _fill(self, matte: Matte) -> None:
        current = self.hand.group_id if self.hand.group is not None else self.hand.shape.id if self.hand.shape is not None else ""
        rows_now = (matte.id, current, matte.groups, tuple((s.id, s.name, s.group, s.visible, s.locked, s.colour) for s in matte.shapes))
        if rows_now == self._filled:  # while a point is dragged the list stays as it is
            return
        self._filled = rows_now
        picked = {str(r.data(0, _IDENT)) for r in self.list.selectedItems()}
        with QSignalBlocker(self.list):
            self.list.clear()
            rows: dict[str, QTreeWidgetItem] = {}

            def place(ident: str) -> QTreeWidgetItem | None:
                group = matte.group(ident)
                if group is None:
                    return None
                if ident not in rows:
                    rows[ident] = self._row(place(group.within), group.name, ident, group.visible, None)
                return rows[ident]

            for k, shape in enumerate(matte.shapes):
                name = f"Shape {k + 1}" if shape.name == "Shape" else shape.name
                rows[shape.id] = self._row(place(shape.group), f"{name}, locked" if shape.locked else name, shape.id, shape.visible, shape)
            for group in matte.groups:
                place(group.id)
            self.list.expandAll()
            if current in rows:
                self.list.setCurrentItem(rows[current])
            for ident in picked & set(rows) if current in picked else ():
                rows[ident].setSelected(True)

    def _row(self, parent: QTreeWidgetItem | None, words: str, ident: str, visible: bool, shape: MatteShape | None) -> QTreeWidgetItem:
        row = QTreeWidgetItem(parent if parent is not None else self.list, [words])  # type: ignore[call-overload]
        row.setData(0, _IDENT, ident)
        row.setFlags(row.flags() | Qt.ItemFlag.ItemIsEditable | Qt.ItemFlag.ItemIsUserCheckable)
        row.setCheckState(0, Qt.CheckState.Checked if visible else Qt.CheckState.Unchecked)
        row.setSizeHint(0, QSize(0, _ROW))
        if shape is not None:
            row.setIcon(0, _dot(outline_colour(shape)))
        return row

    # -- changing -------------------------------------------------------------------------------------------------

    def _picked(self) -> None:
        row = self.list.currentItem()
        if row is not None:
            # not now: the row itself is still at work in Qt, and what is changed here makes the list anew
            ident = str(row.data(0, _IDENT))
            QTimer.singleShot(0, self, lambda: self.hand.take(ident))

    def _edited(self, row: QTreeWidgetItem) -> None:
        ident, visible, name = str(row.data(0, _IDENT)), row.checkState(0) == Qt.CheckState.Checked, row.text(0).strip()[:200]
        QTimer.singleShot(0, self, lambda: self._change(ident, visible, name))

    def _change(self, ident: str, visible: bool, name: str) -> None:
        matte = self.hand.matte
        if matte is None:
            return
        self._filled = ()  # what was typed may not be what is kept
        shape, group = matte.shape(ident), matte.group(ident)
        if group is not None:
            fields = {"visible": visible, "name": name or group.name}
            self.hand.do("Change a group", lambda: matte_edits.set_group(self.hand.session.shot, matte.id, ident, **fields))
        elif shape is not None:
            k = matte.shapes.index(shape)
            shown = f"Shape {k + 1}" if shape.name == "Shape" else shape.name
            unchanged = name in (shown, f"{shown}, locked", "")
            changed = shape.but(visible=visible, name=shape.name if unchanged else name)
            self.hand.do("Change a shape", lambda: self.hand.session.shot.with_item(matte.with_shape(changed)))

    def _wanted(self, what: str) -> None:
        matte, shape, group, s = self.hand.matte, self.hand.shape, self.hand.group, self.hand.session
        if what == "draw" or matte is None or shape is None:
            self.hand.ask(what)
        elif what == "group":
            picked = [str(r.data(0, _IDENT)) for r in self.list.selectedItems()]
            if group is not None and len(picked) < 2:
                self.hand.do("Dissolve a group", lambda: matte_edits.dissolve_group(s.shot, matte.id, group.id))
            elif self.hand.do("Group shapes", lambda: matte_edits.add_group(s.shot, matte.id, picked, within=_common(matte, picked))[0]):
                now = self.hand.matte
                self.hand.take(now.groups[-1].id if now is not None else "")
        elif what == "copy":
            self.hand.do("Copy a shape", lambda: matte_edits.duplicate_shape(s.shot, matte.id, shape.id)[0])
        elif what in ("sooner", "later"):
            self.hand.do("Order the shapes", lambda: matte_edits.order_shape(s.shot, matte.id, shape.id, 1 if what == "later" else -1))
        else:
            self.hand.ask(what)

    def _set(self, label: str, **changes: object) -> None:
        matte, group = self.hand.matte, self.hand.group
        if matte is not None and group is not None:
            self.hand.do(label, lambda: matte_edits.set_group(self.hand.session.shot, matte.id, group.id, **changes))
        else:
            self.hand.set_shape(label, **changes)

    def _points(self, label: str, **values: float) -> None:
        matte, shape = self.hand.matte, self.hand.shape
        if matte is not None and shape is not None:
            self.hand.do(label, lambda: matte_edits.set_points_alike(self.hand.session.shot, matte.id, shape.id, self.hand.numbers() or None, **values))

    def _handles(self, on: bool) -> None:
        make: Callable = matte_edits.give_handles if on else matte_edits.take_handles
        self._do("Handles", make)

    def _line(self, on: bool) -> None:
        shape = self.hand.shape
        if shape is not None:
            stroke = matte_edits.line_of(shape) if on else None
            self._do("Draw as a line" if on else "Fill the shape", lambda shot, m, i: matte_edits.set_stroke(shot, m, i, stroke))

    def _close(self, on: bool) -> None:
        shape = self.hand.shape
        if shape is not None:
            self._do("Close the line" if on else "Open the line", lambda shot, m, i: matte_edits.set_stroke(shot, m, i, shape.stroke, on))

    def _stroke(self, label: str, **changes: object) -> None:
        shape = self.hand.shape
        if shape is not None and shape.stroke is not None:
            stroke = shape.stroke.but(**changes)
            self._do(label, lambda shot, m, i: matte_edits.set_stroke(shot, m, i, stroke))

    def _key_part(self, name: str, value: float) -> None:
        shape = self.hand.shape
        if shape is not None and shape.stroke is not None:
            keys = {**getattr(shape.stroke, name), self.hand.session.frame: value / 100}
            self._stroke("Key the line", **{name: keys})

    def _do(self, label: str, make: Callable) -> None:
        matte, shape = self.hand.matte, self.hand.shape
        if matte is not None and shape is not None:
            self.hand.do(label, lambda: make(self.hand.session.shot, matte.id, shape.id))

    def _pick_colour(self) -> None:
        shape = self.hand.shape
        picked = QColorDialog.getColor(outline_colour(shape), self, "Colour of the outline") if shape is not None else QColor()
        if picked.isValid():
            self.hand.set_shape("Colour the outline", colour=(picked.redF(), picked.greenF(), picked.blueF()))


def outline_colour(shape: MatteShape) -> QColor:
    """The colour in which a shape's outline is drawn."""
    return QColor.fromRgbF(*shape.colour) if shape.colour is not None else theme.AMBER


def _common(matte: Matte, idents: list[str]) -> str:
    """The group in which all of some shapes and groups lie; none where they lie in several."""
    groups = {s.group for s in matte.shapes if s.id in idents} | {g.within for g in matte.groups if g.id in idents}
    return groups.pop() if len(groups) == 1 else ""


def _dot(colour: QColor) -> QIcon:
    picture = QPixmap(9, 9)
    picture.fill(colour)
    return QIcon(picture)
