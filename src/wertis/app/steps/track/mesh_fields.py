"""A mesh's settings on the page of the step Track: spacing, where its vertices lie, stiffness, and what it is compared with."""

from collections.abc import Callable

from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QCheckBox, QFormLayout, QHBoxLayout, QWidget

from wertis.app.fields import DragLabel, Number, named
from wertis.app.session import Session
from wertis.core.errors import WertisError
from wertis.core.geometry.mesh import LEAST_SPACING
from wertis.core.shot import edits
from wertis.core.shot.document import Shot
from wertis.core.shot.meshes import MeshSettings, mesh_of, mesh_settings, set_references, spacing_of

_SOFT = 50.0  # stiffness that is offered when a person begins to choose


class MeshFields(QWidget):
    """Spacing, texture, outline, stiffness and further reference frames of the selected mesh track."""

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
        self.by_itself = QCheckBox("By itself")
        self.by_itself.setToolTip("How far the surface may bend is chosen by what best foretells parts of the picture that are left out")
        self.by_itself.clicked.connect(lambda on: self._set("Choose the stiffness", stiffness=None if on else _SOFT))
        self.stiffness = Number(0, 100, 5, 0, "", "Stiffness, 0 cloth to 100 board")
        self.stiffness.setToolTip("0 is cloth, 100 a board")
        self.stiffness.valueChanged.connect(lambda v: self._set("Set the stiffness", stiffness=float(v)))
        self.renewed = QCheckBox("Renewed")
        self.renewed.setToolTip("Where the surface looks less and less as it did, its newer look is taken as well; the error of that is added")
        self.renewed.clicked.connect(lambda on: self._do("Choose whether looks are renewed", lambda: self._with_references(renewed=on)))
        self.here = QCheckBox("Reference here too")
        self.here.setToolTip("The mesh lies right here, by pegs if need be: this frame stands in for the reference where the surface looks otherwise")
        self.here.clicked.connect(self._set_here)
        looks = QHBoxLayout()
        looks.addWidget(self.renewed)
        looks.addWidget(self.here)
        looks.addStretch(1)
        self.facts = named("", "quiet")
        f.addRow(DragLabel("Spacing", self.spacing), self.spacing)
        f.addRow(self.outline)
        f.addRow(self.textured)
        stiff = QHBoxLayout()
        stiff.addWidget(self.stiffness, 1)
        stiff.addWidget(self.by_itself)
        f.addRow(DragLabel("Stiffness", self.stiffness), stiff)
        f.addRow(looks)
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
            frames = f"references {', '.join(map(str, (track.region.frame, *settings.further)))}"
            self.facts.setText(f"{len(mesh.vertices)} vertices, {frames if settings.further else f'{len(mesh.triangles)} triangles'}")
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
        self.renewed.setChecked(settings.renewed)
        self.here.setChecked(s.frame in settings.further)
        self.here.setEnabled(s.frame != track.region.frame)
        self.textured.setChecked(settings.textured)
        self.outline.setChecked(settings.outline)

    def _set_here(self, on: bool) -> None:
        s = self.session
        assert s.track is not None
        frames = set(mesh_settings(s.track).further) ^ {s.frame}
        self._do(f"{'Take' if on else 'Leave out'} frame {s.frame} as a reference frame", lambda: self._with_references(further=frames))

    def _with_references(self, further: set[int] | None = None, renewed: bool | None = None) -> Shot:
        return set_references(self.session.shot, self.session.track_id, further, renewed)

    def _set(self, label: str, **changes: object) -> None:
        track = self.session.track
        if track is not None and isinstance(track.settings, MeshSettings):
            settings = track.settings.but(**changes)
            self._do(label, lambda: edits.set_settings(self.session.shot, track.id, settings))

    def _do(self, label: str, made: Callable[[], Shot]) -> None:
        s = self.session
        try:
            s.history.do(label, made(), label)
        except WertisError as why:
            s.message.emit(str(why), True)
            self.show_state()
            return
        if s.track is not None and s.track.solution is not None:
            s.message.emit("Track again to use it. What was tracked stays until then.", False)
