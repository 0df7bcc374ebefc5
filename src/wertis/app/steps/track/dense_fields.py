"""Settings of dense motion on the page of the step Track: what it is computed for, where it is kept, how large that is."""

from pathlib import Path

from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QCheckBox, QFileDialog, QFormLayout, QPushButton, QWidget

from wertis.app.fields import named
from wertis.app.session import Session
from wertis.core.errors import WertisError
from wertis.core.jobs.dense_tracking import expected_size, motion_folder, size_words
from wertis.core.shot import edits
from wertis.core.shot.dense import DenseSettings, DenseSolution


class DenseFields(QWidget):
    """Extent, parts and folder of the selected track's dense motion."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        f = QFormLayout(self)
        f.setContentsMargins(0, 0, 0, 0)
        self.whole = QCheckBox("The whole picture")
        self.whole.setToolTip("The motion of every pixel of the picture, not of the region alone")
        self.whole.clicked.connect(lambda on: self._set("Choose what the motion is of", whole=on, parts=on))
        self.parts = QCheckBox("Parts that move by themselves")
        self.parts.setToolTip("What is nearer, farther or moves by itself is followed as well; leave it off on one surface, where it can only do harm")
        self.parts.clicked.connect(lambda on: self._set("Follow parts by themselves", parts=on))
        self.folder = QPushButton("Keep it elsewhere...")
        self.folder.setToolTip("The folder in which the motion's files lie; what is there and still holds is not computed again")
        self.folder.clicked.connect(self._choose)
        self.facts = named("", "quiet")
        self.facts.setWordWrap(True)
        for row in (self.whole, self.parts, self.facts, self.folder):
            f.addRow(row)

    def show_state(self) -> None:
        """Show the settings as they are."""
        s, track = self.session, self.session.track
        if track is None or not isinstance(track.settings, DenseSettings) or s.plate is None:
            return
        with QSignalBlocker(self.whole), QSignalBlocker(self.parts):
            self.whole.setChecked(track.settings.whole)
            self.parts.setChecked(track.settings.parts)
        low, high = s.shot.range
        size = size_words(expected_size(track, s.plate, high - low + 1))
        where = Path(track.solution.folder) if isinstance(track.solution, DenseSolution) else motion_folder(track)
        self.facts.setText(f"Takes about {size} on disk.\nKept in {_short(where)}")
        self.facts.setToolTip(str(where))

    def place_beside_shot(self) -> None:
        """Keep the motion beside the shot's file, where there is one, nothing else was chosen, and none is kept elsewhere yet."""
        s, track = self.session, self.session.track
        new = track is not None and not isinstance(track.solution, DenseSolution)
        if new and track is not None and isinstance(track.settings, DenseSettings) and not track.settings.folder and s.path is not None:
            self._set("Keep the motion beside the shot", folder=str(s.path.with_suffix(".motion").absolute() / track.id))

    def _choose(self) -> None:
        s = self.session
        start = s.path.parent if s.path else Path.home()
        name = QFileDialog.getExistingDirectory(self, "A folder for the motion", str(start))
        if name:
            self._set("Choose where the motion is kept", folder=str(Path(name).absolute()))

    def _set(self, label: str, **changes: object) -> None:
        s, track = self.session, self.session.track
        if track is None or not isinstance(track.settings, DenseSettings):
            return
        try:
            s.history.do(label, edits.set_settings(s.shot, track.id, track.settings.but(**changes)))
        except WertisError as why:
            s.message.emit(str(why), True)
        self.show_state()


def _short(path: Path) -> str:
    """The end of a path that a person knows it by."""
    parts = path.parts
    return str(path) if len(parts) <= 4 else str(Path("...", *parts[-3:]))
