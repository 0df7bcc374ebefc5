"""A question what the columns of a table made elsewhere are, with its first rows."""

from PySide6.QtWidgets import QComboBox, QDialog, QDialogButtonBox, QLabel, QTableWidget, QTableWidgetItem, QVBoxLayout, QWidget

from wertis.app.fields import named
from wertis.core.exchange.motion_json import COLUMNS

_CORNERS = [f"{corner} {axis}" for corner in ("top left", "top right", "bottom right", "bottom left") for axis in "xy"]
_MATRIX = [f"matrix row {r} column {c}" for r in (1, 2, 3) for c in (1, 2, 3)]
_MEANINGS = ["frame", *_CORNERS, *_MATRIX]
_IGNORED = "not used"


class ColumnsDialog(QDialog):
    """Over each column of the first rows, a choice of what it is; it can be accepted when the frame and four corners, or a matrix, are named once each.

    Parameters
    ----------
    name : of the file.
    rows : names of the columns, and the first rows.
    """

    def __init__(self, name: str, rows: list[list[str]], parent: QWidget | None) -> None:
        super().__init__(parent)
        self.setWindowTitle(f"What the columns of {name} are")
        self.names, count = rows[0], len(rows[0])
        page = QVBoxLayout(self)
        page.addWidget(QLabel("Wertis does not know these columns. Say which is the frame, and which are the corners or the matrix."))
        self.table = QTableWidget(len(rows), count)
        self.table.setHorizontalHeaderLabels(self.names)
        self.table.verticalHeader().hide()
        self.choices: list[QComboBox] = []
        guess = _guessed(self.names)
        for k in range(count):
            choice = QComboBox()
            choice.setAccessibleName(f"What {self.names[k]} is")
            choice.addItems([_IGNORED, *_MEANINGS])
            choice.setCurrentText(guess[k])
            choice.currentTextChanged.connect(self._judge)
            self.choices.append(choice)
            self.table.setCellWidget(0, k, choice)
            for row, cells in enumerate(rows[1:], 1):
                self.table.setItem(row, k, QTableWidgetItem(cells[k] if k < len(cells) else ""))
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.resizeColumnsToContents()
        page.addWidget(self.table)
        self.words = named("", "quiet")
        page.addWidget(self.words)
        self.buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        page.addWidget(self.buttons)
        self.resize(1080, 380)
        self._judge()

    def columns(self) -> list[str]:
        """The file's names of the frame's column and then of those of the corners, or of the matrix; nothing while that is not whole."""
        chosen = [c.currentText() for c in self.choices]
        used = [c for c in chosen if c != _IGNORED]
        for wanted in (["frame", *_CORNERS], ["frame", *_MATRIX]):
            if sorted(used) == sorted(wanted):
                return [self.names[chosen.index(meaning)] for meaning in wanted]
        return []

    def _judge(self) -> None:
        whole = bool(self.columns())
        self.buttons.button(QDialogButtonBox.StandardButton.Ok).setEnabled(whole)
        chosen = [c.currentText() for c in self.choices if c.currentText() != _IGNORED]
        twice = next((c for c in chosen if chosen.count(c) > 1), None)
        wanted = ["frame", *(_MATRIX if any(c in _MATRIX for c in chosen) else _CORNERS)]
        missing = next((c for c in wanted if c not in chosen), None)
        self.words.setText("" if whole else f"Two columns are {twice}." if twice else f"{missing} is still to be named." if missing else
                           "Corners and a matrix cannot both be taken.")


def _guessed(names: list[str]) -> list[str]:
    """What the columns may be: by their names where those are ours, else in their order where there are as many as are wanted."""
    ours = {"frame": "frame", **dict(zip(COLUMNS["corners"], _CORNERS, strict=True)), **dict(zip(COLUMNS["matrices"], _MATRIX, strict=True))}
    found = [ours.get(n.lower(), _IGNORED) for n in names]
    if found.count(_IGNORED) >= len(names) - 1 and len(names) in (9, 10):
        return ["frame", *(_CORNERS if len(names) == 9 else _MATRIX)]
    return found
