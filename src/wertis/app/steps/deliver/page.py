"""Renders and exports."""

from pathlib import Path

from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
)

from wertis.app.fields import form, named
from wertis.app.pages import Page, combo
from wertis.app.session import Session
from wertis.core.shot.mattes import mattes_of
from wertis.core.shot.meshes import MeshSolution

WHAT_WORDS = {"comp": "The comp", "graphic": "The graphic alone, with alpha"}
_MATTE = "matte:"  # before a matte's id, where one is to be rendered


def matte_id(what: str) -> str:
    """The id of the matte that is to be rendered; empty where it is something else."""
    return what[len(_MATTE):] if what.startswith(_MATTE) else ""


class DeliverPage(Page):
    """Renders and exports."""

    render_wanted = Signal(str, str)
    export_wanted = Signal(str)
    mesh_wanted = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        f = form(self)
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
        f.addRow(self.render_button)
        f.addRow(named("Corner pin", "heading"))
        self.pin_words = named("", "quiet")
        self.csv, self.json = QPushButton("Export CSV..."), QPushButton("Export JSON...")
        self.csv.clicked.connect(lambda: self._export("csv"))
        self.json.clicked.connect(lambda: self._export("json"))
        row = QHBoxLayout()
        row.addWidget(self.csv)
        row.addWidget(self.json)
        f.addRow(self.pin_words)
        f.addRow(row)
        self.mesh_heading = named("Mesh", "heading")
        self.mesh_format = combo({".usd": "USD, with time samples", ".obj": "OBJ, one file a frame", ".json": "JSON", ".csv": "CSV"}, "Format of the mesh",
                                 lambda: None)
        self.mesh_button = QPushButton("Export the mesh...")
        self.mesh_button.setToolTip("Every vertex over the range, pegs and repairs and all")
        self.mesh_button.clicked.connect(self._export_mesh)
        f.addRow(named("Pixels, y down, first pixel's centre at 0.5, 0.5; the file says so too.", "hint"))
        f.addRow(self.mesh_heading)
        f.addRow(self.mesh_format)
        f.addRow(self.mesh_button)
        self.mesh_hint = named("USD and OBJ: pixels, y up from the lower left corner. JSON and CSV: y down, as the corner pin.", "hint")
        f.addRow(self.mesh_hint)
        self._folder = Path.home()
        self._suggested_for: object = None
        self.show_state()

    def show_state(self) -> None:
        s = self.session
        a, b = s.shot.range
        self.range.setText(f"frames {a} to {b}" if s.plate else "")
        self.render_button.setEnabled(s.plate is not None)
        track = s.track
        ok = track is not None and track.solution is not None and (bool(s.shot.placements(track.id)) or track.region.corners is not None)
        self.csv.setEnabled(ok)
        self.json.setEnabled(ok)
        for widget in (self.mesh_heading, self.mesh_format, self.mesh_button, self.mesh_hint):
            widget.setVisible(track is not None and isinstance(track.solution, MeshSolution))
        chosen = self.what.currentData()
        wanted = [(words, key) for key, words in WHAT_WORDS.items()] + [(f"Matte: {m.name}", f"{_MATTE}{m.id}") for m in mattes_of(s.shot)]
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

    def _suggest(self) -> None:
        """Propose a file name for what is chosen; a folder that was typed stays."""
        shot, suffix = self.session.shot, self.kind.currentData()
        text = self.target.text()
        folder = Path(text).parent if text else (self.session.path.parent / "render" if self.session.path else self._folder / "render")
        stem = f"{shot.name.replace('/', '-').replace(' ', '_')}_{'matte' if matte_id(str(self.what.currentData())) else self.what.currentData()}"
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

    def _export(self, suffix: str) -> None:
        track = self.session.track
        start = str((self.session.path.parent if self.session.path else self._folder) / f"{track.name if track else 'track'}.{suffix}")
        name, _ = QFileDialog.getSaveFileName(self, "Export the corner pin", start, f"Corner pin (*.{suffix})")
        if name:
            self.export_wanted.emit(name if name.lower().endswith(f".{suffix}") else f"{name}.{suffix}")
