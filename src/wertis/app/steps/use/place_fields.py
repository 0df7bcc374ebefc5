"""How a graphic sits on its surface, on the page of the step Use: fit, repeats, true proportions, and a motion of its own with keys."""

from pathlib import Path

from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import QCheckBox, QPushButton, QWidget

from wertis.app.fields import DragLabel, named
from wertis.app.pages import combo, part_buttons, side_by_side
from wertis.app.session import Session
from wertis.app.steps.use.graphic import GraphicFields, field, show_numbers
from wertis.core.comp.artwork import FileArtwork
from wertis.core.errors import WertisError
from wertis.core.shot import edits, placing
from wertis.core.shot.artwork import Artwork
from wertis.core.shot.placing import surface_proportions
from wertis.core.shot.pose import Pose, PoseValues

FIT_WORDS = {"fit": "Fit, keep proportions", "fill": "Fill, keep proportions", "stretch": "Stretch to the corners", "own": "Its own size"}
PROPORTION_WORDS = {"given": "as you gave them", "perspective": "worked out from the perspective",
                    "flat": "seen too flat to tell: sides as seen are taken; overrule them if you know better"}
HANDLES = (("Corners", "Drag the corners to where the graphic belongs"),
           ("Move and turn", "Drag inside to move, a corner or a side to scale, the ring to turn; Shift frees the proportions, Ctrl skews a side"))
_SQUASHED = 0.02  # of the proportions, from which a stretched artwork is said to be squashed


class PlaceFields(GraphicFields):
    """How the graphic sits on the surface.

    Signals
    -------
    handles_changed() : other handles are wanted on the picture.
    """

    handles_changed = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._ratio_of: tuple[object, float | None] = (None, None)  # a file as it was, and its proportions
        f = self.form
        row_of = QWidget()
        row, self.handles = part_buttons(HANDLES, lambda _: self.handles_changed.emit(), row_of)
        row.setContentsMargins(0, 0, 0, 0)
        row_of.setLayout(row)
        f.addRow(row_of)
        self.fit = combo(FIT_WORDS, "Fit", lambda: self.set("Set the fit", fit=self.fit.currentData()))
        self.density = field(0.01, 100, 0.1, "", "Pixels of the artwork to one of the picture, on the frame where it was placed",
                             lambda v: self.set("Set the size", "density", density=v))
        f.addRow("Fit", self.fit)
        self._density_row = f.rowCount()
        f.addRow(DragLabel("Pixels to one", self.density), self.density)
        self.tiles = [field(0.05, 200, 1, "", f"Repeats {way}", lambda _: self._tile()) for way in ("across", "down")]
        for each in self.tiles:
            each.setDecimals(1)
        f.addRow(DragLabel("Repeats", self.tiles[0]), side_by_side(*self.tiles))
        f.addRow(named("ON THE SURFACE", "section"))
        self.scale = field(1, 2000, 5, "%", "Scale across", lambda v: self._pose_scaled("across", v / 100))
        self.along = field(1, 2000, 5, "%", "Scale down", lambda v: self._pose_scaled("along", v / 100))
        self.turn = field(-3600, 3600, 5, "deg", "Turn, clockwise", lambda v: self._pose(turn=v))
        self.skew = field(-80, 80, 5, "deg", "Skew to the right at its top", lambda v: self._pose(skew=v))
        self.right = field(-1000, 1000, 1, "%", "Move to the right, in hundredths of its width", lambda v: self._pose(right=v / 100))
        self.down = field(-1000, 1000, 1, "%", "Move down, in hundredths of its height", lambda v: self._pose(down=v / 100))
        self.locked = QCheckBox("Both")
        self.locked.setToolTip("Scale across and down alike")
        self.locked.setChecked(True)
        f.addRow(DragLabel("Scale", self.scale), side_by_side(self.scale, self.along, self.locked))
        f.addRow(DragLabel("Turn, skew", self.turn), side_by_side(self.turn, self.skew))
        f.addRow(DragLabel("Move", self.right), side_by_side(self.right, self.down))
        self.keyed = QCheckBox("Key what is changed")
        self.keyed.setToolTip("A change is a key on the frame in view; otherwise it is one for all frames")
        self.key = QPushButton("Key")
        self.key.setToolTip("Set a key here, or take it away; setting one moves nothing")
        self.key.clicked.connect(self._key)
        self.straight = QPushButton("As placed")
        self.straight.setToolTip("No scale, turn, skew or move on the surface")
        self.straight.clicked.connect(lambda: self.set("Take the graphic as placed", pose=Pose()))
        f.addRow(self.keyed)
        f.addRow(side_by_side(self.key, self.straight))
        f.addRow(named("PROPORTIONS AND FRAME", "section"))
        self.ratio = field(0.02, 50, 0.01, "", "Proportions", lambda v: self.set("Set the proportions", "ratio", ratio=v))
        self.ratio.setDecimals(3)
        self.ratio_auto = QPushButton("Work out")
        self.ratio_auto.setToolTip("Take the proportions that the perspective gives")
        self.ratio_auto.clicked.connect(lambda: self.set("Work out the proportions", ratio=None))
        self.ratio_words = named("", "quiet")
        f.addRow(DragLabel("Width / height", self.ratio), side_by_side(self.ratio, self.ratio_auto))
        f.addRow(self.ratio_words)
        self.here = QPushButton("Keep here")
        self.here.setToolTip("Make the frame in view the one on which the corners are kept; the artwork does not move")
        self.here.clicked.connect(self._rebase)
        self.whole = QPushButton("Whole picture")
        self.whole.setToolTip("Lay it flat over the whole picture of this frame: artwork made on this frame lands where it was made")
        self.whole.clicked.connect(self._whole)
        self.frame = named("", "quiet")
        f.addRow(self.frame)
        f.addRow(side_by_side(self.here, self.whole))
        self.fields: list[QWidget] = [self.fit, self.density, *self.tiles, self.scale, self.along, self.turn, self.skew, self.right, self.down,
                                      self.locked, self.keyed, self.key, self.straight, self.ratio, self.here, self.whole]

    @property
    def by_handles(self) -> bool:
        """Whether the graphic is moved and turned by handles, rather than by its corners."""
        return self.handles.checkedId() == 1

    def show_state(self) -> None:
        s, placement = self.session, self.placement
        for widget in self.fields:
            widget.setEnabled(placement is not None)
        self.ratio_auto.setEnabled(placement is not None and placement.ratio is not None)
        self.form.setRowVisible(self._density_row, placement is not None and placement.fit == "own")
        if placement is None or s.shot.plate is None:
            self.ratio_words.setText("")
            self.frame.setText("")
            return
        with QSignalBlocker(self.fit):
            self.fit.setCurrentIndex(self.fit.findData(placement.fit))
        found = surface_proportions(placement, s.shot.plate.size, s.shot.plate.aspect)
        pose = placement.pose.at(s.frame)
        show_numbers((self.density, placement.density), (self.ratio, found.ratio), *zip(self.tiles, placement.tiles, strict=True),
                     (self.scale, pose.across * 100), (self.along, pose.along * 100), (self.turn, pose.turn), (self.skew, pose.skew),
                     (self.right, pose.right * 100), (self.down, pose.down * 100))
        self.ratio_words.setText(PROPORTION_WORDS[found.source] + self._squashed(found.ratio))
        self.key.setText("Clear key" if s.frame in placement.pose.keys else "Set a key")
        self.straight.setEnabled(bool(placement.pose.keys))
        whole = placing.is_whole_picture(s.shot, placement)
        self.frame.setText(f"Flat over the whole picture of frame {placement.frame}." if whole else f"Corners are kept on frame {placement.frame}.")
        self.here.setEnabled(placement.frame != s.frame)
        self.whole.setEnabled(not whole or placement.frame != s.frame)

    def _squashed(self, ratio: float) -> str:
        """What is to be said of a stretched artwork whose proportions are not the surface's."""
        placement = self.placement
        if placement is None or placement.fit != "stretch" or placement.artwork.kind not in ("picture", "sequence"):
            return ""
        own = self._own_ratio(placement.artwork)
        if own is None or abs(ratio / own - 1) < _SQUASHED:
            return ""
        return f"; the artwork ({own:.2f}) is {'widened' if ratio > own else 'narrowed'} by {abs(ratio / own - 1):.0%}"

    def _own_ratio(self, artwork: Artwork) -> float | None:
        """Width over height of a file; it is opened once, and again when it was written anew. None where it cannot be read."""
        path = Path(artwork.path)
        key = artwork.kind, artwork.path, path.stat().st_mtime_ns if path.exists() else 0  # a pattern is no file itself
        if self._ratio_of[0] != key:
            try:
                self._ratio_of = key, FileArtwork(path, still=artwork.kind == "picture").ratio
            except WertisError:
                self._ratio_of = key, None
        return self._ratio_of[1]

    def _tile(self) -> None:
        self.set("Repeat the artwork", "tiles", tiles=tuple(max(float(each.value()), 0.05) for each in self.tiles))

    def _pose_scaled(self, name: str, value: float) -> None:
        placement = self.placement
        if placement is None:
            return
        before = placement.pose.at(self.session.frame)
        other = {"across": "along", "along": "across"}[name]
        both = {other: getattr(before, other) * value / getattr(before, name)} if self.locked.isChecked() else {}
        self._pose(**{name: value, **both})

    def _pose(self, **values: float) -> None:
        placement = self.placement
        if placement is not None:
            self.pose(placement.pose.at(self.session.frame)._replace(**values), "on-surface")

    def pose(self, values: PoseValues, merge: str = "") -> None:
        """Give the graphic these values on the frame in view."""
        s, placement = self.session, self.placement
        if placement is not None:
            self.put("Move the graphic on its surface", lambda: placing.posed(s.shot, placement, s.frame, values, self.keyed.isChecked()), merge)

    def _key(self) -> None:
        s, placement = self.session, self.placement
        if placement is None:
            return
        on = s.frame not in placement.pose.keys
        try:
            s.history.do("Set a key" if on else "Clear a key", placing.key_pose(s.shot, placement.id, s.frame, on))
        except WertisError as why:
            s.message.emit(str(why), True)
        self.show_state()

    def _rebase(self) -> None:
        s, placement = self.session, self.placement
        if placement is not None:
            self.put("Keep the placement on another frame", lambda: edits.rebase_placement(s.shot, placement, s.frame))

    def _whole(self) -> None:
        s, placement = self.session, self.placement
        track = s.shot.track(placement.on) if placement is not None else None
        if placement is None or track is None:
            return

        def made():  # type: ignore[no-untyped-def]
            whole = placing.whole_picture(s.shot, track, s.frame)
            return placement.but(frame=whole.frame, quad=whole.quad, ratio=whole.ratio, fit="stretch", pose=Pose())

        self.put("Lay it over the whole picture", made)
