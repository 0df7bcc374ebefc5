"""Tracking: kind of motion, what is looked at, direction."""


from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QGridLayout,
    QPushButton,
)

from wertis.app.fields import form, named
from wertis.app.pages import Page, combo, few
from wertis.app.session import Session
from wertis.app.steps.track.camera_fields import CameraFields
from wertis.app.steps.track.dense_fields import DenseFields
from wertis.app.steps.track.mesh_fields import MeshFields
from wertis.app.steps.track.point_fields import PointFields
from wertis.core.errors import WertisError
from wertis.core.shot import edits
from wertis.core.shot.cameras import CameraSettings, camera_settings
from wertis.core.shot.dense import DenseSettings, dense_settings
from wertis.core.shot.document import PlaneSettings, Track, TrackSettings
from wertis.core.shot.edits import plane_settings
from wertis.core.shot.meshes import MeshSettings, MeshSolution, mesh_settings
from wertis.core.shot.points import PointsSettings, points_settings

KIND_WORDS = {"shift": "Shift", "shift-scale": "Shift and scale", "shift-turn": "Shift and turn",
              "similarity": "Shift, scale and turn", "affine": "With shear", "perspective": "With perspective", "mesh": "Mesh, for what bends",
              "points": "Points, each by itself",
              "dense": "Dense, every pixel", "camera": "Plane, by the camera"}
LOOK_WORDS = {"mix": "The plate", "luma": "Its brightness", "contrast": "Its contrast, raised", "red": "Its red channel", "green": "Its green channel",
              "blue": "Its blue channel"}


class TrackPage(Page):
    """Tracking: kind of motion, direction, stop."""

    track_wanted = Signal(str)
    stop_wanted = Signal()
    passers_wanted = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        f = self.form = form(self)
        self.heading = named("", "heading")
        self.kind = combo(KIND_WORDS, "Kind of motion", lambda: self._set_kind(self.kind.currentData()))
        self.kind.setToolTip("How the surface may move. Perspective for flat surfaces, less where there is little to hold on to; a mesh for what bends")
        f.addRow(self.heading)
        f.addRow("Motion", self.kind)
        self.look = combo(LOOK_WORDS, "What the tracker looks at",
                          lambda: self._set("Choose what the tracker looks at", look=self.look.currentData()))
        self.look.setToolTip("The plate: its channels, mixed so that the surface stands out most over the grain. Another, where it shows better in that")
        self.half = QCheckBox("Half resolution")
        self.half.setToolTip("Faster, and steadier on pictures that are soft; a fine surface holds better at full resolution")
        self.half.clicked.connect(lambda on: self._set("Choose the resolution", half=on))
        self.mesh = MeshFields(session)
        f.addRow(self.mesh)
        self.points = PointFields(session)
        f.addRow(self.points)
        self.dense = DenseFields(session)
        f.addRow(self.dense)
        self.camera = CameraFields(session)
        f.addRow(self.camera)
        f.addRow("Looks at", self.look)
        f.addRow("", self.half)
        grid = QGridLayout()
        grid.setSpacing(6)
        self.buttons: dict[str, QPushButton] = {}
        for name, words, key, row, column in (
                ("backward", "Backward", "Shift+T", 0, 0), ("forward", "Forward", "T", 0, 1),
                ("previous", "One back", "Shift+Y", 1, 0), ("next", "One forward", "Y", 1, 1)):
            b = QPushButton(words)
            b.setToolTip(f"Track {words.lower()} from the frame in view ({key})")
            b.clicked.connect(lambda _=False, n=name: self.track_wanted.emit(n))
            grid.addWidget(b, row, column)
            self.buttons[name] = b
        both = QPushButton("Track both ways")
        both.setObjectName("main")
        both.setToolTip("Track to the end and to the beginning of the range (Ctrl+T)")
        both.clicked.connect(lambda: self.track_wanted.emit("both"))
        self.buttons["both"] = both
        self.stop = QPushButton("Stop")
        self.stop.setToolTip("Stop and keep what there is (Esc)")
        self.stop.clicked.connect(self.stop_wanted)
        f.addRow(both)
        f.addRow(grid)
        f.addRow(self.stop)
        self.facts = named("", "quiet")
        f.addRow(named("FOUND", "section"))
        f.addRow(self.facts)
        self.passers = QPushButton("Hold out what was distrusted")
        self.passers.setToolTip("Make a matte sequence of what passes in front of the tracked surface, and hold it out of the track")
        self.passers.clicked.connect(self.passers_wanted)
        f.addRow(self.passers)
        self.hint = named("Each frame is compared with a reference frame, not the one before, so error does not add up. A frame on which the surface is "
                          "lost stays empty.", "hint")
        f.addRow(self.hint)
        self.show_state()

    def show_state(self) -> None:
        s = self.session
        track = s.track
        busy = bool(s.live.track_id)
        self.heading.setText(track.name if track else "Draw a region first")
        for b in self.buttons.values():
            b.setEnabled(track is not None and s.plate is not None and not busy)
        self.stop.setEnabled(busy)
        self.passers.setEnabled(track is not None and track.solution is not None and not busy)
        for w in (self.kind, self.look, self.half, self.mesh, self.points, self.dense, self.camera):
            w.setEnabled(track is not None and not busy)
        self.mesh.setVisible(track is not None and isinstance(track.settings, MeshSettings))
        self.points.setVisible(track is not None and isinstance(track.settings, PointsSettings))
        self.dense.setVisible(track is not None and isinstance(track.settings, DenseSettings))
        self.camera.setVisible(track is not None and isinstance(track.settings, CameraSettings))
        surface = track is None or not isinstance(track.settings, PointsSettings)
        self.passers.setVisible(surface)
        by_camera = track is not None and isinstance(track.settings, CameraSettings)
        self.hint.setVisible(surface and not by_camera)
        self.form.setRowVisible(self.look, not by_camera)
        for name in ("backward", "forward", "previous", "next"):
            self.buttons[name].setVisible(not by_camera)
        self.half.setVisible(track is None or isinstance(track.settings, PlaneSettings | MeshSettings))
        if track is None:
            self.facts.setText("")
            return
        settings = track.settings
        assert isinstance(settings, PlaneSettings | MeshSettings | PointsSettings | DenseSettings | CameraSettings)
        self.mesh.show_state()
        self.points.show_state()
        self.dense.show_state()
        self.camera.show_state()
        with QSignalBlocker(self.kind), QSignalBlocker(self.look), QSignalBlocker(self.half):
            self.kind.setCurrentIndex(self.kind.findData(settings.model if isinstance(settings, PlaneSettings) else settings.kind))
            self.look.setCurrentIndex(self.look.findData(settings.look))
            self.half.setChecked(settings.half)
        solution = track.solution
        if solution is None:
            self.facts.setText("Being tracked now." if busy else "Not tracked yet.")
            return
        good = solution.good
        errors = solution.frame_errors[good]
        lost = [int(x) for x in solution.tried[~good]]
        words = f"{int(good.sum())} frames, expected error {errors.mean():.2f} px, at most {errors.max():.2f} px on frame " \
                f"{int(solution.tried[good][errors.argmax()])}."
        if isinstance(solution, MeshSolution):
            words += f"\n{len(solution.vertices)} vertices, {1 - solution.measured[good].mean():.0%} of them hidden on average."
        if lost:
            words += f"\n{len(lost)} lost: {few(lost)}.\n{getattr(solution, 'reasons', {}).get(lost[0], '')}"
        self.facts.setText(words)

    def _set_kind(self, kind: str) -> None:
        track = self.session.track
        if track is not None:
            others = {"mesh": mesh_settings, "points": points_settings, "dense": dense_settings, "camera": camera_settings}
            self._use("Set the kind of motion", others[kind](track) if kind in others else _as_plane(track).but(model=kind))

    def _set(self, label: str, **changes: object) -> None:
        track = self.session.track
        if track is not None:
            self._use(label, track.settings.but(**changes))

    def _use(self, label: str, settings: TrackSettings) -> None:
        s = self.session
        track = s.track
        if track is None:
            return
        try:
            s.history.do(label, edits.set_settings(s.shot, track.id, settings))
        except WertisError as why:
            s.message.emit(str(why), True)
            self.show_state()
            return
        if track.solution is not None:
            s.message.emit("Track again to use it. What was tracked stays until then.", False)


def _as_plane(track: Track) -> PlaneSettings:
    """A track's settings as a plane's, with what the two have in common."""
    if isinstance(track.settings, MeshSettings | PointsSettings | DenseSettings | CameraSettings):
        return PlaneSettings(look=track.settings.look, half=track.settings.half)
    return plane_settings(track)
