"""The shot as a tree: tracks, and under each its region, its hold-outs and its placements."""

from PySide6.QtCore import QSignalBlocker, Qt, QTimer, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QTreeWidget, QTreeWidgetItem

from wertis.app import theme
from wertis.app.session import Session
from wertis.core.shot import edits, hold_outs

_TRACK, _REGION, _HOLD_OUT, _PLACEMENT = "track", "region", "hold-out", "placement"
_ROLE = Qt.ItemDataRole.UserRole


class Outline(QTreeWidget):
    """Tick to show or hide, F2 or double-click to rename, Delete to remove.

    Signals
    -------
    step_wanted(step) : the item picked belongs to this step.
    """

    step_wanted = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setHeaderHidden(True)
        self.setIndentation(14)
        self.setAccessibleName("Outline")
        self.setToolTip("Tick to show or hide; F2 renames; Delete removes.")
        self.itemChanged.connect(self._on_change)
        self.currentItemChanged.connect(lambda item, _: self._on_pick(item))
        session.shot_changed.connect(self.rebuild)
        session.selection_changed.connect(self._follow)
        self.rebuild()

    def rebuild(self) -> None:
        """Show the shot as it is."""
        with QSignalBlocker(self):
            self.clear()
            for track in self.session.shot.tracks:
                top = self._item([track.name], (_TRACK, track.id, ""), track.visible)
                self.addTopLevelItem(top)
                region = QTreeWidgetItem([f"Region, drawn on {track.region.frame}"])
                region.setData(0, _ROLE, (_REGION, track.id, ""))
                top.addChild(region)
                for held in track.hold_outs:
                    item = self._item([held.name], (_HOLD_OUT, track.id, held.id), held.enabled)
                    item.setToolTip(0, "A hold-out: its pixels do not exist for the track. Tick to switch it on or off.")
                    item.setForeground(0, theme.AMBER)
                    top.addChild(item)
                for placement in track.placements:
                    top.addChild(self._item([placement.name], (_PLACEMENT, track.id, placement.id), placement.visible))
                top.setExpanded(True)
            if not self.session.shot.tracks:
                empty = QTreeWidgetItem(["No tracks yet" if self.session.plate else "No plate yet"])
                empty.setFlags(Qt.ItemFlag.NoItemFlags)
                self.addTopLevelItem(empty)
        self._follow()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        item = self.currentItem()
        if event.key() == Qt.Key.Key_Delete and item is not None and item.data(0, _ROLE):
            self.remove_current()
        else:
            super().keyPressEvent(event)

    def remove_current(self) -> None:
        """Remove the selected track or placement."""
        item = self.currentItem()
        data = item.data(0, _ROLE) if item is not None else None
        if not data:
            return
        kind, track_id, placement_id = data
        s = self.session
        track = s.shot.track(track_id)
        if track is None or track_id == s.live_track:
            s.message.emit("A track that is being tracked cannot be removed; stop it first (Esc).", True)
            return
        if kind == _HOLD_OUT:
            s.history.do("Remove a hold-out", hold_outs.remove_hold_out(s.shot, track_id, placement_id))
        elif kind == _PLACEMENT:
            placement = track.placement(placement_id)
            s.history.do(f"Remove {placement.name if placement else 'placement'}", edits.remove_placement(s.shot, track_id, placement_id))
        else:
            s.history.do(f"Remove {track.name}", s.shot.without_track(track_id))
        s.message.emit("Removed; Ctrl+Z brings it back.", False)

    @staticmethod
    def _item(text: list[str], data: tuple[str, str, str], visible: bool) -> QTreeWidgetItem:
        item = QTreeWidgetItem(text)
        item.setData(0, _ROLE, data)
        item.setFlags(item.flags() | Qt.ItemFlag.ItemIsEditable | Qt.ItemFlag.ItemIsUserCheckable)
        item.setCheckState(0, Qt.CheckState.Checked if visible else Qt.CheckState.Unchecked)
        return item

    def _follow(self) -> None:
        """Select what the session has selected."""
        s = self.session
        with QSignalBlocker(self):
            for k in range(self.topLevelItemCount()):
                top = self.topLevelItem(k)
                data = top.data(0, _ROLE) if top is not None else None
                if top is None or not data or data[1] != s.track_id:
                    continue
                self.setCurrentItem(top)
                for c in range(top.childCount()):
                    child = top.child(c)
                    if child is not None and child.data(0, _ROLE)[2] and child.data(0, _ROLE)[2] in (s.placement_id, s.hold_out_id):
                        self.setCurrentItem(child)

    def _on_pick(self, item: QTreeWidgetItem | None) -> None:
        data = item.data(0, _ROLE) if item is not None else None
        if data:
            kind, track_id, placement_id = data
            self.session.select(track_id, placement_id if kind == _PLACEMENT else "", placement_id if kind == _HOLD_OUT else "")
            if kind != _TRACK:
                self.step_wanted.emit("Use" if kind == _PLACEMENT else "Region")

    def _on_change(self, item: QTreeWidgetItem) -> None:
        data = item.data(0, _ROLE)
        if data:
            kind, track_id, part = data
            visible, name = item.checkState(0) == Qt.CheckState.Checked, item.text(0).strip()[:200]
            # not now: the item itself is still at work in Qt, and what is changed here makes the tree anew
            QTimer.singleShot(0, self, lambda: self._apply(kind, track_id, part, name, visible))

    def _apply(self, kind: str, track_id: str, placement_id: str, name: str, visible: bool) -> None:
        s = self.session
        track = s.shot.track(track_id)
        if track is None:
            return
        if kind == _TRACK:
            name = name if name == track.name else edits.free_name(name or track.name, [t.name for t in s.shot.tracks if t.id != track_id])
            s.history.do("Rename" if name != track.name else "Show or hide", s.shot.with_track(track.but(name=name, visible=visible)))
        elif kind == _HOLD_OUT:
            held = track.hold_out(placement_id)
            if held is not None:
                s.history.do("Switch a hold-out", hold_outs.set_hold_out(s.shot, track_id, held.but(name=name or held.name, enabled=visible)))
        elif kind == _PLACEMENT:
            placement = track.placement(placement_id)
            if placement is not None:
                changed = placement.but(name=name or placement.name, visible=visible)
                s.history.do("Rename" if name != placement.name else "Show or hide", edits.set_placement(s.shot, track_id, changed))
        self.rebuild()
