"""What belongs to the person rather than to the shot: preferences, keys, what was opened lately."""

import contextlib
from collections.abc import Callable
from pathlib import Path

from PySide6.QtWidgets import QMenu, QWidget

from wertis.app import preferences
from wertis.app.commands import Menus
from wertis.app.dialogs import KeysDialog, PreferencesDialog
from wertis.core.errors import WertisError


class UserSettings:
    """Keeps the person's preferences and puts them to use.

    Parameters
    ----------
    attempt : does something that may fail, and says so when it does.
    """

    def __init__(self, parent: QWidget, attempt: Callable[..., bool]) -> None:
        self._parent, self._attempt = parent, attempt
        self.preferences = preferences.load()

    def use_keys(self, menus: Menus) -> None:
        """Give every action the key that the person wants it to have."""
        self.preferences.keys = menus.by_id(self.preferences.keys)
        menus.use_keys(self.preferences.keys)

    def change_keys(self, menus: Menus) -> None:
        """List all keys, and change them."""
        dialog = KeysDialog({ident: (menus.names[ident], *entry) for ident, entry in menus.actions.items()}, self._parent)
        if dialog.exec():
            self.preferences.keys = dialog.chosen()
            self.use_keys(menus)
            self._attempt(preferences.save, self.preferences)

    def change_preferences(self) -> None:
        """Ask for the person's settings."""
        dialog = PreferencesDialog(self.preferences, self._parent)
        if dialog.exec():
            self.preferences.memory = int(dialog.memory.value())
            self._attempt(preferences.save, self.preferences)

    def opened(self, path: Path) -> None:
        """A shot or plate was opened or saved."""
        self.preferences.opened(path)
        with contextlib.suppress(WertisError):  # a list that cannot be kept is no reason to stop the work
            preferences.save(self.preferences)

    def fill_recent(self, menu: QMenu, open_path: Callable[[Path], object]) -> None:
        """Put what was opened lately, and is still there, into a menu."""
        menu.clear()
        there = [Path(p) for p in self.preferences.recent if Path(p).exists()]
        for path in there:
            action = menu.addAction(f"{path.name}    {path.parent}")
            action.triggered.connect(lambda _=False, p=path: open_path(p))
        if not there:
            menu.addAction("Nothing yet").setEnabled(False)
