"""Renders and exports."""

from pathlib import Path

from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QFileDialog,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from wertis.app.fields import form, named
from wertis.app.pages import Page, combo, part_buttons, side_by_side
from wertis.app.session import Session
from wertis.app.steps.deliver.motion_fields import MotionFields
from wertis.core.shot.cameras import camera_settings
from wertis.core.shot.document import Item, Placement, Shot
from wertis.core.shot.fills import Fill
from wertis.core.shot.mattes import mattes_of
from wertis.core.shot.meshes import MeshSolution
from wertis.core.shot.patches import Patch

WHAT_WORDS = {"comp": "The comp", "graphic": "All graphics alone, with alpha"}
_MATTE, _ALONE = "matte:", "alone:"  # before the id of a matte, or of what is rendered alone


def alone_items(shot: Shot) -> list[Item]:
    """What has a picture of its own that can be rendered alone."""
    return [x for x in shot.items if isinstance(x, Placement | Patch | Fill)]


def alone_id(what: str) -> str:
    """The id of the one thing that is to be rendered alone; empty where it is something else."""
    return what[len(_ALONE):] if what.startswith(_ALONE) else ""


def matte_id(what: str) -> str:
    """The id of the matte that is to be rendered; empty where it is something else."""
    return what[len(_MATTE):] if what.startswith(_MATTE) else ""


class DeliverPage(Page):
    """Renders and exports."""

    render_wanted = Signal(str, str)
    export_wanted = Signal(str)
    mesh_wanted = Signal(str)
    mesh_proof_wanted = Signal(str)
    camera_wanted = Signal(str, str)
    camera_proof_wanted = Signal(str)
    shapes_wanted = Signal(str, str)
    shapes_proof_wanted = Signal(str, str)
    shapes_read = Signal(str, str)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        f = self.form = form(self)
        row_of = QWidget()
        parts, self.part = part_buttons((("Render", "Pictures and movies"), ("Motion", "Corners, matrices, points and maps for other applications"),
                                         ("Shapes, 3D", "Wertis' own corner pin, meshes, the solved camera, a matte's shapes")),
                                        lambda _: self.show_state(), row_of)
        parts.setContentsMargins(0, 0, 0, 0)
        row_of.setLayout(parts)
        f.addRow(row_of)
        self.what = combo(WHAT_WORDS, "What to render", self._suggest)
        self.kind = combo({".png": "PNG sequence", ".exr": "EXR sequence", ".tif": "TIFF sequence", ".dpx": "DPX sequence", ".mp4": "Movie, H.264",
                            ".mkv": "Movie, FFV1 (no loss)"}, "File kind", self._suggest)
        self.target = QLineEdit()
        self.target.setAccessibleName("Where to render to")
        self.target.setToolTip("#### stands for the frame number")
        self.target.setPlaceholderText("folder/name.####.png")
        browse = QPushButton("Folder...")
        browse.clicked.connect(self._browse)
        self.render_button = QPushButton("Render")
        self.render_button.setObjectName("main")
        self.render_button.setToolTip("Render the range (Ctrl+R)")
        self.render_button.clicked.connect(lambda: self.render_wanted.emit(self.what.currentData(), self.target.text().strip()))
        self.resume = QCheckBox("Go on where it stopped")
        self.resume.setToolTip("Keeps the frames of a sequence that are there already, and renders the rest")
        self.range = named("", "quiet")
        f.addRow(named("Render", "heading"))
        f.addRow("What", self.what)
        f.addRow("As", self.kind)
        f.addRow("To", self.target)
        f.addRow("", browse)
        f.addRow(self.range)
        f.addRow(self.resume)
        self.background = QCheckBox("In the background")
        self.background.setToolTip("A process of its own renders the shot as it is now; the window stays free, and goes first")
        f.addRow(self.background)
        f.addRow(self.render_button)
        self._pin_row = f.rowCount()
        f.addRow(named("Corner pin", "heading"))
        self.pin_words = named("", "quiet")
        self.csv, self.json = QPushButton("Export CSV..."), QPushButton("Export JSON...")
        self.csv.clicked.connect(lambda: self._export("csv"))
        self.json.clicked.connect(lambda: self._export("json"))
        f.addRow(self.pin_words)
        f.addRow(side_by_side(self.csv, self.json))
        self.mesh_format = combo({".usd": "USD, with time samples", ".glb": "glTF, one file", ".obj": "OBJ, one file a frame", ".json": "JSON",
                                  ".csv": "CSV"}, "Format of the mesh", self.show_state)
        self.mesh_button = QPushButton("Export...")
        self.mesh_button.setToolTip("Every vertex over the range, pegs and repairs and all")
        self.mesh_button.clicked.connect(self._export_mesh)
        f.addRow(named("Pixels, y down, first pixel's centre at 0.5, 0.5; the file says so too.", "hint"))
        self._mesh_row = f.rowCount()
        f.addRow(named("Mesh", "heading"))
        f.addRow(self.mesh_format)
        self.mesh_proof = QPushButton("Prove it")
        self.mesh_proof.setToolTip("Let the receiver's stand-in rebuild frames from the mesh's file, and compare")
        self.mesh_proof.clicked.connect(lambda: self.mesh_proof_wanted.emit(self.mesh_format.currentData()))
        f.addRow(side_by_side(self.mesh_button, self.mesh_proof))
        self.camera_what = combo({"camera": "Camera, points, planes", "straight map": "Map: lens taken out", "lens map": "Map: lens put back"},
                                 "What of the camera goes out", self.show_state)
        self.camera_format = combo({".usd": "USD, with time samples", ".glb": "glTF, one file", ".json": "JSON"}, "Format of the camera", lambda: None)
        self.camera_button = QPushButton("Export...")
        self.camera_button.setToolTip("The shot's solved camera, for 3D applications, or its lens for compositing")
        self.camera_button.clicked.connect(self._export_camera)
        self.camera_proof = QPushButton("Prove it")
        self.camera_proof.setToolTip("Let the receiver's stand-in lay a checker on the track's plane from the camera's file alone, and compare")
        self.camera_proof.clicked.connect(lambda: self.camera_proof_wanted.emit(self.camera_format.currentData()))
        self._camera_row = f.rowCount()
        f.addRow(named("Camera", "heading"))
        f.addRow(self.camera_what)
        f.addRow(self.camera_format)
        f.addRow(side_by_side(self.camera_button, self.camera_proof))
        self.shapes_of = combo({}, "Whose shapes go out", self.show_state)
        self.shapes_format = combo({".svg": "SVG, animated", ".####.svg": "SVG, one file a frame", ".json": "JSON", ".csv": "CSV"}, "Format of the shapes",
                                   self.show_state)
        self.shapes_button, self.shapes_proof, self.shapes_take = QPushButton("Export..."), QPushButton("Prove it"), QPushButton("Read shapes...")
        self.shapes_button.setToolTip("Every point over the range")
        self.shapes_button.clicked.connect(self._export_shapes)
        self.shapes_proof.setToolTip("Let the receiver's stand-in fill the outlines from the file, and compare")
        self.shapes_proof.clicked.connect(lambda: self.shapes_proof_wanted.emit(self.shapes_of.currentData(), str(self.shapes_format.currentData())))
        self.shapes_take.setToolTip("Add the shapes of a file to this matte, with a key on each of their frames")
        self.shapes_take.clicked.connect(self._read_shapes)
        self._shapes_row = f.rowCount()
        f.addRow(named("Shapes", "heading"))
        f.addRow(self.shapes_of)
        f.addRow(self.shapes_format)
        f.addRow(side_by_side(self.shapes_button, self.shapes_proof))
        f.addRow(self.shapes_take)
        self.layout_words = named("", "hint")
        self._words_row = f.rowCount()
        f.addRow(self.layout_words)
        self._rows = {0: range(1, self._pin_row), 2: range(self._pin_row, f.rowCount())}
        self.motion = MotionFields(session)
        f.addRow(self.motion)
        holder = QWidget()
        self.queue_place = QVBoxLayout(holder)  # what is done in the background, whatever part is shown
        self.queue_place.setContentsMargins(0, 0, 0, 0)
        f.addRow(holder)
        self._folder = Path.home()
        self._suggested_for: object = None
        self.show_state()

    @property
    def in_background(self) -> bool:
        """Whether a process of its own shall render what is chosen."""
        return self.background.isEnabled() and self.background.isChecked()

    def show_state(self) -> None:
        s = self.session
        for part, rows in self._rows.items():
            for row in rows:
                self.form.setRowVisible(row, self.part.checkedId() == part)
        self.motion.setVisible(self.part.checkedId() == 1)
        if self.part.checkedId() >= 1:  # shapes, meshes and cameras take its coordinates
            self.motion.show_state()
        a, b = s.shot.range
        self.range.setText(f"frames {a} to {b}" if s.plate else "")
        self.render_button.setEnabled(s.plate is not None)
        track = s.track
        ok = track is not None and track.solution is not None and (bool(s.shot.placements(track.id)) or track.region.corners is not None)
        self.csv.setEnabled(ok)
        self.json.setEnabled(ok)
        has_mesh = track is not None and isinstance(track.solution, MeshSolution)
        for row in range(self._mesh_row, self._camera_row):
            self.form.setRowVisible(row, self.part.checkedId() == 2 and has_mesh)
        self.mesh_proof.setEnabled(s.placement is not None and self.mesh_format.currentData() != ".csv")
        has_camera = self.part.checkedId() == 2 and s.shot.camera is not None
        for row in range(self._camera_row, self._camera_row + 4):
            self.form.setRowVisible(row, has_camera)
        of_camera = self.camera_what.currentData() == "camera"
        self.camera_format.setVisible(has_camera and of_camera)
        self.camera_proof.setEnabled(of_camera and track is not None and camera_settings(track).plane is not None)
        self._show_shapes()
        if self.part.checkedId() == 2:
            self._say_layout(has_mesh or has_camera or self.shapes_of.count() > 0)
        chosen = self.what.currentData()
        wanted = [*((words, key) for key, words in WHAT_WORDS.items()),
                  *((f"{x.name} alone, with alpha", f"{_ALONE}{x.id}") for x in alone_items(s.shot)),
                  *((f"Matte: {m.name}", f"{_MATTE}{m.id}") for m in mattes_of(s.shot))]
        if wanted != [(self.what.itemText(k), self.what.itemData(k)) for k in range(self.what.count())]:
            with QSignalBlocker(self.what):
                self.what.clear()
                for words, key in wanted:
                    self.what.addItem(words, key)
                self.what.setCurrentIndex(max(self.what.findData(chosen), 0))
        what = s.placement.name if s.placement else "the region's corners"
        self.pin_words.setText(f"{what} on {track.name}" if ok and track else "Track a surface and place something first.")
        if s.plate is not self._suggested_for:
            self._suggested_for = s.plate
            self.target.clear()
            self._suggest()

    def _show_shapes(self) -> None:
        """The mattes; shapes are read into one that has none as well."""
        drawn = mattes_of(self.session.shot)
        if [(m.name, m.id) for m in drawn] != [(self.shapes_of.itemText(k), self.shapes_of.itemData(k)) for k in range(self.shapes_of.count())]:
            chosen = self.shapes_of.currentData()
            with QSignalBlocker(self.shapes_of):
                self.shapes_of.clear()
                for matte in drawn:
                    self.shapes_of.addItem(matte.name, matte.id)
                self.shapes_of.setCurrentIndex(max(self.shapes_of.findData(chosen), 0))
        for row in range(self._shapes_row, self._words_row):
            self.form.setRowVisible(row, self.part.checkedId() == 2 and bool(drawn))
        has_shapes = any(m.shapes for m in drawn if m.id == self.shapes_of.currentData())
        self.shapes_button.setEnabled(has_shapes)
        self.shapes_proof.setEnabled(has_shapes and "#" not in str(self.shapes_format.currentData()))

    def _say_layout(self, wanted: bool) -> None:
        """In which coordinates meshes, cameras and shapes go out."""
        self.form.setRowVisible(self._words_row, wanted and self.session.plate is not None)
        if wanted and self.session.plate is not None:
            layout = self.motion.layout_wanted()
            self.layout_words.setText(f"As chosen under Motion. JSON and CSV: {layout.words()}. USD, glTF and OBJ: y up, pixels from the lower left "
                                      "corner. SVG: y down.")

    def _suggest(self) -> None:
        """Propose a file name for what is chosen; a folder that was typed stays."""
        shot, suffix = self.session.shot, self.kind.currentData()
        text = self.target.text()
        folder = Path(text).parent if text else (self.session.path.parent / "render" if self.session.path else self._folder / "render")
        what = str(self.what.currentData())
        alone = shot.item(alone_id(what))
        stem = f"{shot.name}_{alone.name if alone is not None else 'matte' if matte_id(what) else what}".replace("/", "-").replace(" ", "_")
        self.target.setText(str(folder / (stem + (suffix if suffix in (".mp4", ".mkv") else f".####{suffix}"))))

    def _browse(self) -> None:
        name = QFileDialog.getExistingDirectory(self, "Render to", str(Path(self.target.text() or str(self._folder)).parent))
        if name:
            self.target.setText(str(Path(name) / Path(self.target.text()).name))

    def _export_mesh(self) -> None:
        track, suffix = self.session.track, self.mesh_format.currentData()
        folder = self.session.path.parent if self.session.path else self._folder
        name, _ = QFileDialog.getSaveFileName(self, "Export the mesh", str(folder / f"{track.name if track else 'mesh'}{suffix}"), f"Mesh (*{suffix})")
        if name:
            self.mesh_wanted.emit(name if name.lower().endswith(suffix) else name + suffix)

    def _export_camera(self) -> None:
        kind = self.camera_what.currentData()
        suffix = self.camera_format.currentData() if kind == "camera" else ".exr"
        folder = self.session.path.parent if self.session.path else self._folder
        name, _ = QFileDialog.getSaveFileName(self, "Export the camera", str(folder / f"{kind.replace(' ', '_')}{suffix}"), f"(*{suffix})")
        if name:
            self.camera_wanted.emit(kind, name if name.lower().endswith(suffix) else name + suffix)

    def _export_shapes(self) -> None:
        suffix = self.shapes_format.currentData()
        folder = self.session.path.parent if self.session.path else self._folder
        name, _ = QFileDialog.getSaveFileName(self, "Export the shapes", str(folder / f"{self.shapes_of.currentText()}{suffix}"), f"(*{suffix[-4:]})")
        if name:
            self.shapes_wanted.emit(self.shapes_of.currentData(), name if "." in Path(name).name else name + suffix)

    def _read_shapes(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Read shapes", "", "Shapes (*.svg *.json *.csv)")
        if name:
            self.shapes_read.emit(self.shapes_of.currentData(), name)

    def _export(self, suffix: str) -> None:
        track = self.session.track
        start = str((self.session.path.parent if self.session.path else self._folder) / f"{track.name if track else 'track'}.{suffix}")
        name, _ = QFileDialog.getSaveFileName(self, "Export the corner pin", start, f"Corner pin (*.{suffix})")
        if name:
            self.export_wanted.emit(name if name.lower().endswith(f".{suffix}") else f"{name}.{suffix}")
