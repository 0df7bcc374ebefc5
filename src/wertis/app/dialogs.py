"""Small windows: preferences, all keys, the short guide, what ships with Wertis."""

import re
from collections.abc import Callable
from importlib import metadata
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction, QKeySequence, QTextCursor
from PySide6.QtWidgets import (
    QAbstractItemView,
    QDialog,
    QDialogButtonBox,
    QFormLayout,
    QHeaderView,
    QKeySequenceEdit,
    QLabel,
    QLineEdit,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QTextBrowser,
    QVBoxLayout,
    QWidget,
)

import wertis
from wertis.app.fields import Number, named
from wertis.app.preferences import Preferences, file


class PreferencesDialog(QDialog):
    """Settings that belong to the person, not to the shot."""

    def __init__(self, preferences: Preferences, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Preferences")
        f = QFormLayout(self)
        self.memory = Number(256, 262144, 256, 0, "MB", "Memory for pictures")
        self.memory.setValue(preferences.memory)
        f.addRow("Memory for pictures", self.memory)
        f.addRow(named("Counts from the next start.", "quiet"))
        where = named(f"Kept in {file()}", "quiet")
        where.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        f.addRow(where)
        f.addRow(_buttons(self))
        self.resize(420, 150)


class KeysDialog(QDialog):
    """All commands and their keys; a key can be changed, taken away, or put back to the usual one.

    Parameters
    ----------
    commands : id to what it is called, its action, and its usual key.
    """

    def __init__(self, commands: dict[str, tuple[str, QAction, str]], parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Keys")
        self._commands = commands
        whole = QVBoxLayout(self)
        self.search = QLineEdit()
        self.search.setPlaceholderText("Search actions")
        self.search.textChanged.connect(self._filter)
        whole.addWidget(self.search)
        self.table = QTableWidget(len(commands), 2)
        self.table.setHorizontalHeaderLabels(["Action", "Key"])
        self.table.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.table.horizontalHeader().resizeSection(1, 170)
        self.table.verticalHeader().hide()
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.edits: dict[str, QKeySequenceEdit] = {}
        for row, (ident, (name, action, _)) in enumerate(commands.items()):
            self.table.setItem(row, 0, QTableWidgetItem(name))
            edit = QKeySequenceEdit(action.shortcut())
            edit.setClearButtonEnabled(True)
            edit.setMaximumSequenceLength(1)
            edit.setAccessibleName(f"Key of {name}")
            edit.keySequenceChanged.connect(lambda _: self._check())
            self.edits[ident] = edit
            self.table.setCellWidget(row, 1, edit)
        whole.addWidget(self.table, 1)
        self.trouble = QLabel()
        self.trouble.setWordWrap(True)
        whole.addWidget(self.trouble)
        usual = QPushButton("All as usual")
        usual.clicked.connect(self._usual)
        whole.addWidget(usual)
        whole.addWidget(named("Arrow keys step, Home and End go to the ends of the range, Enter ends drawing, Delete removes a point; these stay.",
                              "quiet"))
        self.box = _buttons(self)
        whole.addWidget(self.box)
        self.resize(520, 620)

    def chosen(self) -> dict[str, str]:
        """Command's id to key, where it is not the usual one."""
        found = {ident: edit.keySequence().toString() for ident, edit in self.edits.items()}
        return {ident: keys for ident, keys in found.items() if keys != QKeySequence(self._commands[ident][2]).toString()}

    def _check(self) -> None:
        seen: dict[str, str] = {}
        twice = ""
        for ident, edit in self.edits.items():
            keys, name = edit.keySequence().toString(), self._commands[ident][0]
            if keys and keys in seen:
                twice = f"{keys} is the key of both {seen[keys]} and {name}; change one of them."
            seen[keys] = name
        self.trouble.setText(twice)
        self.box.button(QDialogButtonBox.StandardButton.Ok).setEnabled(not twice)

    def _usual(self) -> None:
        for ident, edit in self.edits.items():
            edit.setKeySequence(QKeySequence(self._commands[ident][2]))

    def _filter(self, text: str) -> None:
        for row, ident in enumerate(self.edits):
            self.table.setRowHidden(row, text.lower() not in self._commands[ident][0].lower())


class GuideDialog(QDialog):
    """The short guide, beside which the window stays usable."""

    def __init__(self, open_demo: Callable[[], None], parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Guide")
        whole = QVBoxLayout(self)
        self.text = QTextBrowser()
        self.text.setMarkdown((Path(__file__).parent / "help" / "guide.md").read_text(encoding="utf-8"))
        _spaced(self.text)
        whole.addWidget(self.text, 1)
        button = QPushButton("Open the demo shot")
        button.clicked.connect(open_demo)
        whole.addWidget(button)
        self.resize(400, 640)


class AboutDialog(QDialog):
    """Version, and what ships with it under which licence."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("About Wertis")
        whole = QVBoxLayout(self)
        whole.addWidget(named(f"Wertis {wertis.__version__}", "heading"))
        whole.addWidget(named("Tracks surfaces through a shot, repairs drift, and makes what is put on them stick. MIT licence.", "quiet"))
        self.table = QTableWidget(0, 3)
        self.table.setHorizontalHeaderLabels(["Part", "Version", "Licence"])
        self.table.horizontalHeader().setSectionResizeMode(2, QHeaderView.ResizeMode.Stretch)
        self.table.verticalHeader().hide()
        self.table.verticalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)  # a long licence takes two lines
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        for name, version, licence in [*map(_part, libraries()), ("Inter (typeface)", "", "SIL Open Font License 1.1")]:
            row = self.table.rowCount()
            self.table.insertRow(row)
            for column, text in enumerate((name, version, licence)):
                self.table.setItem(row, column, QTableWidgetItem(text))
        self.table.resizeColumnToContents(0)
        whole.addWidget(self.table, 1)
        whole.addWidget(_buttons(self, QDialogButtonBox.StandardButton.Close))
        self.resize(560, 460)


def _spaced(text: QTextBrowser) -> None:
    """Room between paragraphs, which Markdown has none of here."""
    block = text.document().begin()
    while block.isValid():
        form = block.blockFormat()
        form.setBottomMargin(9)
        QTextCursor(block).setBlockFormat(form)
        block = block.next()


def libraries() -> list[str]:
    """The names of the libraries that Wertis uses, as its package states them, without those for its own development."""
    stated = [r for r in metadata.requires("wertis") or [] if "extra ==" not in r or 'extra == "window"' in r or 'extra == "cluster"' in r]
    return [re.split(r"[^\w.-]", r, maxsplit=1)[0] for r in stated]


def _part(name: str) -> tuple[str, str, str]:
    try:
        about = metadata.metadata(name)
    except metadata.PackageNotFoundError:
        return name, "not installed", ""
    classes = [c.rpartition(" :: ")[2] for c in about.get_all("Classifier") or [] if c.startswith("License ::")]
    text = [x.splitlines()[0][:80] for x in about.get_all("License") or [] if x.strip() and not x.startswith("Copyright")]  # some put all of it there
    return name, about["Version"], [*(about.get_all("License-Expression") or []), *classes, *text, "see the package"][0]


def _buttons(dialog: QDialog, which: QDialogButtonBox.StandardButton = QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel
             ) -> QDialogButtonBox:
    box = QDialogButtonBox(which)
    box.accepted.connect(dialog.accept)
    box.rejected.connect(dialog.reject)
    return box
