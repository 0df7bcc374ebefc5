"""The shot's camera on the page of the step Track: solved, its bad points dropped, and how a track stands on its plane of the scene."""

from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import QCheckBox, QFormLayout, QPushButton, QWidget

from wertis.app.fields import DragLabel, Number, named
from wertis.app.pages import button_grid, combo, side_by_side
from wertis.app.session import Session
from wertis.core.check.summary import GOOD, USABLE
from wertis.core.errors import WertisError
from wertis.core.shot.cameras import CameraSettings, SolvedCameraRecord, set_off_plane

_MOST_FOCAL = 200_000  # pixels


class CameraFields(QWidget):
    """What is known of the camera, and the selected track's plane; `wanted` is emitted for what takes long: solve, drop."""

    wanted = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.chosen: set[int] = set()  # numbers of the camera's points in hand
        self._shown: object = None  # the camera whose settings the fields show
        f = QFormLayout(self)
        f.setContentsMargins(0, 0, 0, 0)
        self.focal = Number(0, _MOST_FOCAL, 10, 0, "px", "Focal length, when it is known")
        self.focal.setSpecialValueText("solved for")
        self.focal.setToolTip("The focal length in pixels where it is known: millimetres times the picture's width in pixels over the sensor's in mm")
        self.lens = combo({0: "none", 1: "1 term", 2: "2 terms"}, "The lens", lambda: None)
        self.lens.setToolTip("How many radial terms are solved for, where the lens bends straight lines; two where one leaves them bent near the corners")
        self.zooms = QCheckBox("Zooms")
        self.zooms.setToolTip("The focal length changes from frame to frame, and is solved for on each")
        self.zooms.toggled.connect(self._show_zoom)
        f.addRow(DragLabel("Focal length", self.focal), self.focal)
        f.addRow("Lens", side_by_side(self.lens, self.zooms))
        self.buttons: dict[str, QPushButton] = {}
        self.error = Number(0.1, 10, 0.1, 2, "px", "Error from which points are dropped")
        self.error.setValue(USABLE)
        row = button_grid(self.buttons, self.wanted.emit, (("solve", "Solve the camera", "Follow features over the picture; solve the camera anew"),), (
            ("drop-worst", "Drop worse than", "Leave out points that are usually off by more, and solve again"),), (
            ("drop", "Drop the chosen points", "Leave out the points that are chosen on the picture, and solve again"),))
        row.addWidget(self.error, 1, 1)
        f.addRow(row)
        self.distance = Number(0.001, 1e6, 0.1, 3, "", "How far the two chosen points are apart")
        self.distance.setValue(1.0)
        self.distance.setToolTip("In units of your own, such as metres; exported cameras are in them")
        world = button_grid(self.buttons, self.wanted.emit, (("ground", "Ground through them",
                            "Let the world stand on the plane through the chosen points, three or more; its origin is at their middle"),), (
            ("distance", "The two are apart", "Let the world be so large that the two chosen points are so far apart"),))
        world.addWidget(self.distance, 1, 1)
        f.addRow(world)
        self.facts = named("", "quiet")
        f.addRow(self.facts)
        self.off = Number(-90, 90, 0.5, 2, "%", "Off the surface")
        self.off.setToolTip("How far what is placed stands off the surface, towards the camera, in percent of its distance on the region's frame")
        self.off.valueChanged.connect(self._set_off)
        f.addRow(DragLabel("Off the surface", self.off), self.off)

    def show_state(self) -> None:
        """Show the camera as it is."""
        s, track = self.session, self.session.track
        if track is None or not isinstance(track.settings, CameraSettings):
            return
        camera = s.shot.camera
        if camera is not self._shown and isinstance(camera, SolvedCameraRecord):  # how it was solved, until a person wishes otherwise
            self.focal.setValue(camera.focal if camera.known_focal else 0)
            self.lens.setCurrentIndex(camera.lens)
            self.zooms.setChecked(camera.zoom is not None)
        self._shown = camera
        there = isinstance(camera, SolvedCameraRecord)
        for name in ("drop-worst", "drop"):
            self.buttons[name].setEnabled(there and (name != "drop" or bool(self.chosen)))
        self.buttons["ground"].setEnabled(there and len(self.chosen) >= 3)
        self.buttons["distance"].setEnabled(there and len(self.chosen) == 2)
        self.off.setEnabled(track.settings.plane is not None)
        with QSignalBlocker(self.off):
            self.off.setValue(track.settings.off)
        if not isinstance(camera, SolvedCameraRecord):
            self.facts.setText("The camera is not solved yet. Track both ways solves it, and finds the plane that the region shows.")
            return
        self.chosen = {k for k in self.chosen if k < len(camera.points)}
        error = camera.solved.error
        word = "good" if error <= GOOD else "usable" if error <= USABLE else "poor: hold out what moves by itself"
        low, high = s.shot.range
        missing = high - low + 1 - len(camera.frames)
        lines = [f"Solved on {len(camera.frames)} frames" + (f", {missing} missing" if missing > 0 else ""),
                 f"error {error:.2f} px, {word}", f"focal length {camera.solved.focal_words}, {len(camera.points)} points"]
        if camera.solved.only_turns:
            lines.append("It only turns: what is placed sticks, but depth is not known, nor how a surface slants.")
        if camera.lens:
            lines.append("lens " + ", ".join(f"{term:+.4f}" for term in camera.radial[:camera.lens]))
        self.facts.setText("\n".join(lines))

    def _show_zoom(self, on: bool) -> None:
        """What cannot be solved for with a zoom."""
        self.lens.setEnabled(not on)
        self.focal.setEnabled(not on)

    @property
    def wishes(self) -> tuple[float | None, int, bool]:
        """The focal length where it is known, how many terms of the lens are solved for, and whether the camera zooms."""
        zooms = self.zooms.isChecked()
        return (None, 0, True) if zooms else (self.focal.value() or None, int(self.lens.currentData()), False)

    def _set_off(self, value: float) -> None:
        s = self.session
        try:
            s.history.do("Stand off the plane", set_off_plane(s.shot, s.track_id, value), "stand-off")
        except WertisError as why:
            s.message.emit(str(why), True)
        self.show_state()
