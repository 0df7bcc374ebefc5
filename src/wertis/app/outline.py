"""The shot as a tree: tracks, and under each its region and the items that are listed there."""

from functools import partial

import qtawesome
from PySide6.QtCore import QPoint, QSignalBlocker, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QKeyEvent
from PySide6.QtWidgets import QMenu, QTreeWidget, QTreeWidgetItem

from wertis.app.commands import Command
from wertis.app.items import kind_of
from wertis.app.session import Session
from wertis.core.errors import WertisError
from wertis.core.shot import edits, items
from wertis.core.shot.document import Item, Shot, Track

_ROLE = Qt.ItemDataRole.UserRole
_ICON, _LOCK = "#8d8d8d", "mdi6.lock-outline"


class Outline(QTreeWidget):
    """Tick to show or hide, F2 or double-click to rename, Delete to remove; the right button has the rest.

    Signals
    -------
    step_wanted(step) : the item picked belongs to this step.
    region_wanted() : a track's region was picked.
    """

    step_wanted = Signal(str)
    region_wanted = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setHeaderHidden(True)
        self.setIndentation(14)
        self.setAccessibleName("Outline")
        self.setToolTip("Tick to show or hide; F2 renames; Delete removes; the right button has the rest.")
        self.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.customContextMenuRequested.connect(self._open_menu)
        self.itemChanged.connect(self._on_change)
        self.currentItemChanged.connect(lambda item, _: self._on_pick(item))
        session.shot_changed.connect(self.rebuild)
        session.selection_changed.connect(self._follow)
        self.rebuild()

    def commands(self) -> list[Command]:
        """What can be done to what is selected."""
        return [
            Command("outline.remove", "Edit", "Remove the selected", self.remove_current, "", 5),
            Command("outline.duplicate", "Edit", "Duplicate the selected", self.duplicate_current, "Ctrl+D", 5),
            Command("outline.lock", "Edit", "Lock or unlock the selected", self.lock_current, "", 5),
            Command("outline.raise", "Edit", "Raise the selected", lambda: self.order_current(1), "", 5),
            Command("outline.lower", "Edit", "Lower the selected", lambda: self.order_current(-1), "", 5),
        ]

    def rebuild(self) -> None:
        """Show the shot as it is."""
        shot = self.session.shot
        with QSignalBlocker(self):
            self.clear()
            for track in shot.tracks:
                top = self._row(track.name, (track.id, ""), track.visible, track.locked, "mdi6.vector-square", None, "A track. Tick to show or hide it.")
                self.addTopLevelItem(top)
                region = QTreeWidgetItem([f"Region, drawn on {track.region.frame}"])
                region.setData(0, _ROLE, (track.id, "region"))
                top.addChild(region)
                self._put_items(top, track.id)
            if shot.items_under(""):
                free = QTreeWidgetItem(["Carried by nothing"])
                free.setFlags(Qt.ItemFlag.ItemIsEnabled)
                self.addTopLevelItem(free)
                self._put_items(free, "")
            if not shot.tracks:
                empty = QTreeWidgetItem(["No tracks yet" if self.session.plate else "No plate yet"])
                empty.setFlags(Qt.ItemFlag.NoItemFlags)
                self.addTopLevelItem(empty)
        self._follow()

    def _put_items(self, top: QTreeWidgetItem, track_id: str) -> None:
        """List what hangs on a track, or on none; what lies on top comes first, as it does in the picture."""
        for item in reversed(self.session.shot.items_under(track_id)):
            kind = kind_of(item)
            top.addChild(self._row(item.name, (track_id, item.id), kind.ticked(item), item.locked, kind.icon, kind.colour, kind.tip))
        top.setExpanded(True)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Delete and any(self._chosen()):
            self.remove_current()
        else:
            super().keyPressEvent(event)

    # -- what can be done -----------------------------------------------------------------------------------------

    def remove_current(self) -> None:
        """Remove the selected track or item."""
        track, item = self._chosen()
        if track is None and item is None:
            return
        if track is not None and track.id == self.session.live.track_id:
            self.session.message.emit("A track that is being tracked cannot be removed; stop it first (Esc).", True)
        elif item is not None:
            if self._do(f"Remove {item.name}", lambda s: items.remove_item(s, item.id)):
                self.session.message.emit("Removed; Ctrl+Z brings it back.", False)
        elif track is not None and self._do(f"Remove {track.name}", lambda s: s.without_track(edits.unlocked(s, track.id).id)):
            self.session.message.emit("Removed; Ctrl+Z brings it back.", False)

    def duplicate_current(self) -> None:
        """Put a copy of the selected item right above it."""
        _, item = self._chosen()
        if item is None:
            self.session.message.emit("Choose a graphic or a hold-out in the outline to duplicate it.", False)
            return
        shot, copy = items.duplicate_item(self.session.shot, item.id)
        self.session.history.do(f"Duplicate {item.name}", shot)
        self.session.select(self.session.track_id, copy.id)

    def lock_current(self) -> None:
        """Lock the selected track or item against changes, or unlock it."""
        track, item = self._chosen()
        if item is not None:
            self._do("Unlock" if item.locked else "Lock", lambda s: s.with_item(item.but(locked=not item.locked)))
        elif track is not None:
            self._do("Unlock" if track.locked else "Lock", lambda s: s.with_track(track.but(locked=not track.locked)))

    def order_current(self, step: int) -> None:
        """Put the selected item above its neighbour (1) or below it (-1)."""
        _, item = self._chosen()
        if item is not None:
            self._do("Change the order", lambda s: items.order_item(s, item.id, step))

    def carry_current(self, track_id: str) -> None:
        """Hang the selected item on another track; it does not move in the picture in view."""
        _, item = self._chosen()
        if item is None:
            return
        if self._do("Carry by another track", lambda s: items.carry_item(s, item.id, track_id, self.session.frame)):
            moved = self.session.shot.item(item.id)
            self.session.select(moved.under if moved is not None else track_id, item.id)

    def menu_of_current(self) -> QMenu:
        """What can be done to the selected one."""
        menu = QMenu(self)
        track, item = self._chosen()
        chosen = item if item is not None else track
        if chosen is None:
            return menu
        locked = chosen.locked
        row = self.currentItem()
        if row is not None and row.flags() & Qt.ItemFlag.ItemIsEditable:
            menu.addAction("Rename", lambda: self.editItem(row))
        menu.addAction("Unlock" if locked else "Lock", self.lock_current)
        if item is not None:
            menu.addAction("Duplicate", self.duplicate_current)
            menu.addAction("Raise", lambda: self.order_current(1))
            menu.addAction("Lower", lambda: self.order_current(-1))
            carriers = menu.addMenu("Carried by")
            if kind_of(item).may_be_free:
                carriers.addAction("Nothing", lambda: self.carry_current(""))
            for other in self.session.shot.tracks:
                if other.id != item.on:
                    carriers.addAction(other.name, partial(self.carry_current, other.id))
            carriers.setEnabled(not carriers.isEmpty())
        menu.addSeparator()
        menu.addAction("Remove", self.remove_current)
        return menu

    # -- inside ---------------------------------------------------------------------------------------------------

    def _open_menu(self, place: QPoint) -> None:
        menu = self.menu_of_current()
        if not menu.isEmpty():
            menu.exec(self.viewport().mapToGlobal(place))

    def _do(self, label: str, edit) -> bool:  # type: ignore[no-untyped-def]
        s = self.session
        try:
            s.history.do(label, edit(s.shot))
        except WertisError as why:
            s.message.emit(str(why), True)
            self.rebuild()
            return False
        return True

    def _chosen(self) -> tuple[Track | None, Item | None]:
        row = self.currentItem()
        data = row.data(0, _ROLE) if row is not None else None
        if not data:
            return None, None
        shot: Shot = self.session.shot
        return shot.track(data[0]), shot.item(data[1])

    @staticmethod
    def _row(name: str, data: tuple[str, str], ticked: bool, locked: bool, icon: str, colour: QColor | None, tip: str) -> QTreeWidgetItem:
        row = QTreeWidgetItem([name])
        row.setData(0, _ROLE, data)
        row.setFlags(row.flags() | Qt.ItemFlag.ItemIsEditable | Qt.ItemFlag.ItemIsUserCheckable)
        row.setCheckState(0, Qt.CheckState.Checked if ticked else Qt.CheckState.Unchecked)
        row.setIcon(0, qtawesome.icon(_LOCK if locked else icon, color=_ICON))
        row.setToolTip(0, tip + (" Locked: nothing changes it." if locked else ""))
        if colour is not None:
            row.setForeground(0, colour)
        return row

    def _follow(self) -> None:
        """Select what the session has selected."""
        s = self.session
        with QSignalBlocker(self):
            for k in range(self.topLevelItemCount()):
                top = self.topLevelItem(k)
                if top is None:
                    continue
                data = top.data(0, _ROLE)
                if data and data[0] == s.track_id:
                    self.setCurrentItem(top)
                for c in range(top.childCount()):
                    child = top.child(c)
                    if child is not None and child.data(0, _ROLE) == (s.track_id, s.place.item_id) and s.place.item_id:
                        self.setCurrentItem(child)

    def _on_pick(self, row: QTreeWidgetItem | None) -> None:
        data = row.data(0, _ROLE) if row is not None else None
        if not data:
            return
        track_id, part = data
        item = self.session.shot.item(part)
        self.session.select(track_id, item.id if item is not None else "")
        if item is not None and kind_of(item).step:
            self.step_wanted.emit(kind_of(item).step)
        elif part == "region":
            self.region_wanted.emit()

    def _on_change(self, row: QTreeWidgetItem) -> None:
        data = row.data(0, _ROLE)
        if data:
            track_id, part = data
            ticked, name = row.checkState(0) == Qt.CheckState.Checked, row.text(0).strip()[:200]
            # not now: the row itself is still at work in Qt, and what is changed here makes the tree anew
            QTimer.singleShot(0, self, lambda: self._apply(track_id, part, name, ticked))

    def _apply(self, track_id: str, part: str, name: str, ticked: bool) -> None:
        shot = self.session.shot
        track, item = shot.track(track_id), shot.item(part)
        if item is not None:
            kind = kind_of(item)
            changed = kind.tick(item, ticked) if kind.ticked(item) != ticked else item
            label = "Rename" if name and name != item.name else f"Show or hide {item.name}"
            self._do(label, lambda s: items.set_item(s, changed.but(name=name or item.name)))
        elif track is not None and not part:
            label = "Rename" if name and name != track.name else "Show or hide"
            self._do(label, lambda s: edits.rename_track(s.with_track(track.but(visible=ticked)), track_id, name or track.name))
        self.rebuild()
