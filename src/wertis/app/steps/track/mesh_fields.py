"""A mesh's settings on the page of the step Track: spacing, where its vertices lie, stiffness."""

from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QCheckBox, QFormLayout, QWidget

from wertis.app.fields import DragLabel, Number, named
from wertis.app.session import Session
from wertis.core.errors import WertisError
from wertis.core.geometry.mesh import LEAST_SPACING
from wertis.core.shot import edits
from wertis.core.shot.meshes import MeshSettings, mesh_of, spacing_of

_SOFT = 50.0  # stiffness that is offered when a person begins to choose


class MeshFields(QWidget):
    """Spacing, texture, outline and stiffness of the selected mesh track."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        f = QFormLayout(self)
        f.setContentsMargins(0, 0, 0, 0)
        self.spacing = Number(LEAST_SPACING, 400, 1, 0, "px", "Spacing of the vertices")
        self.spacing.setToolTip("Pixels between vertices. Close ones follow small wrinkles; wide ones are quicker and steadier")
        self.spacing.valueChanged.connect(lambda v: self._set("Set the mesh's spacing", spacing=float(v), vertices=None))
        self.textured = QCheckBox("Vertices where the texture is")
        self.textured.clicked.connect(lambda on: self._set("Lay the mesh", textured=on, vertices=None))
        self.outline = QCheckBox("Vertices on the outline")
        self.outline.clicked.connect(lambda on: self._set("Lay the mesh", outline=on, vertices=None))
        self.by_itself = QCheckBox("Stiffness from the pictures")
        self.by_itself.setToolTip("How far the surface may bend is chosen by what best foretells parts of the picture that are left out")
        self.by_itself.clicked.connect(lambda on: self._set("Choose the stiffness", stiffness=None if on else _SOFT))
        self.stiffness = Number(0, 100, 5, 0, "", "Stiffness, 0 cloth to 100 board")
        self.stiffness.setToolTip("0 is cloth, 100 a board")
        self.stiffness.valueChanged.connect(lambda v: self._set("Set the stiffness", stiffness=float(v)))
        self.facts = named("", "quiet")
        f.addRow(DragLabel("Spacing", self.spacing), self.spacing)
        f.addRow(self.outline)
        f.addRow(self.textured)
        f.addRow(self.by_itself)
        f.addRow(DragLabel("Stiffness", self.stiffness), self.stiffness)
        f.addRow(self.facts)

    def show_state(self) -> None:
        """Show the settings as they are."""
        s = self.session
        track = s.track
        if track is None or not isinstance(track.settings, MeshSettings) or s.plate is None:
            return
        settings = track.settings
        mesh = s.mesh()
        if mesh is not None:
            self.facts.setText(f"{len(mesh.vertices)} vertices, {len(mesh.triangles)} triangles")
        else:
            try:
                mesh_of(track, s.plate.size)
                self.facts.setText("The mesh is laid when the region's frame has been read.")
            except WertisError as why:
                self.facts.setText(str(why))
        with QSignalBlocker(self.spacing), QSignalBlocker(self.stiffness):
            self.spacing.setValue(spacing_of(track, s.plate.size))
            self.stiffness.setValue(settings.stiffness if settings.stiffness is not None else _SOFT)
        self.stiffness.setEnabled(settings.stiffness is not None)
        self.by_itself.setChecked(settings.stiffness is None)
        self.textured.setChecked(settings.textured)
        self.outline.setChecked(settings.outline)

    def _set(self, label: str, **changes: object) -> None:
        s = self.session
        track = s.track
        if track is None or not isinstance(track.settings, MeshSettings):
            return
        try:
            s.history.do(label, edits.set_settings(s.shot, track.id, track.settings.but(**changes)), label)
        except WertisError as why:
            s.message.emit(str(why), True)
            return
        if track.solution is not None:
            s.message.emit("Track again to use it. What was tracked stays until then.", False)
