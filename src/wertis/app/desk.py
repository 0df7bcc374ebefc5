"""What belongs to the person rather than to the shot: preferences, keys, what was opened lately, the guide, what ships."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QMenu

from wertis.app import preferences
from wertis.app.dialogs import AboutDialog, GuideDialog, KeysDialog, PreferencesDialog
from wertis.core.errors import WertisError

if TYPE_CHECKING:
    from wertis.app.window import MainWindow


class Desk:
    """Keeps the person's preferences and puts them to use in the window.

    Attributes
    ----------
    actions : name of every action of the menus to it and its usual key.
    """

    def __init__(self, window: MainWindow) -> None:
        self._window = window
        self.preferences = preferences.load()
        self.actions: dict[str, tuple[QAction, str]] = {}

    def add(self, menu: QMenu, words: str, action: QAction, keys: str) -> None:
        """An action of the menus, whose key can be changed."""
        self.actions[f"{menu.title().replace('&', '')}: {words}"] = action, keys

    def use_keys(self) -> None:
        """Give every action the key that the person wants it to have."""
        for name, (action, usual) in self.actions.items():
            action.setShortcut(QKeySequence(self.preferences.keys.get(name, usual)))

    def change_keys(self) -> None:
        """List all keys, and change them."""
        dialog = KeysDialog(self.actions, self._window)
        if dialog.exec():
            self.preferences.keys = dialog.chosen()
            self.use_keys()
            self._window.attempt(preferences.save, self.preferences)

    def change_preferences(self) -> None:
        """Ask for the person's settings."""
        dialog = PreferencesDialog(self.preferences, self._window)
        if dialog.exec():
            self.preferences.memory = int(dialog.memory.value())
            self._window.attempt(preferences.save, self.preferences)

    def opened(self, path: Path) -> None:
        """A shot or plate was opened or saved."""
        self.preferences.opened(path)
        with contextlib.suppress(WertisError):  # a list that cannot be kept is no reason to stop the work
            preferences.save(self.preferences)

    def fill_recent(self, menu: QMenu) -> None:
        """Put what was opened lately, and is still there, into a menu."""
        menu.clear()
        there = [Path(p) for p in self.preferences.recent if Path(p).exists()]
        for path in there:
            action = menu.addAction(f"{path.name}    {path.parent}")
            action.triggered.connect(lambda _=False, p=path: self._window.open_path(p))
        if not there:
            menu.addAction("Nothing yet").setEnabled(False)

    def show_guide(self) -> None:
        """The short guide, beside the window."""
        from wertis.demo import make

        self.guide = GuideDialog(lambda: self._window.errands.demo(make.FIRST_FILM), self._window)
        self.guide.show()

    def show_about(self) -> None:
        """Version, and what ships with it."""
        AboutDialog(self._window).exec()
