"""What a person can do, as commands: each with an id that stays when its wording changes, a place in the menus, and a key.

Parts of the window make commands; the window puts them into its menus. A person's own keys are kept by the commands' ids.
"""

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field

from PySide6.QtGui import QAction, QActionGroup, QKeySequence
from PySide6.QtWidgets import QMainWindow, QMenu

MENUS = ("File", "Edit", "Track", "View", "Repair", "Go", "Deliver", "Help")
"""The menus, in their order."""


@dataclass(frozen=True)
class Command:
    """Something that can be done.

    Attributes
    ----------
    id : what it goes by, such as "track.forward"; never changed.
    menu : one of `MENUS`, or such a menu and a menu within it, "Go/Play at".
    keys : its usual key; empty for none.
    group : commands of one group of a menu stand together, a line between groups.
    checked : whether it is the one chosen of its group, of which one is; None where that means nothing.
    """

    id: str
    menu: str
    words: str
    act: Callable[[], object]
    keys: str = ""
    group: int = 0
    checked: bool | None = None


@dataclass
class Menus:
    """The window's menus and the actions in them.

    Attributes
    ----------
    actions : id of each command to its action and its usual key.
    names : id to what the list of keys calls it.
    """

    actions: dict[str, tuple[QAction, str]] = field(default_factory=dict)
    names: dict[str, str] = field(default_factory=dict)
    menus: dict[str, QMenu] = field(default_factory=dict)

    def build(self, window: QMainWindow, commands: Iterable[Command]) -> None:
        """Put commands into the window's menus, groups in their order, each group in the order in which its commands came."""
        last: dict[str, int] = {}
        exclusive: dict[tuple[str, int], QActionGroup] = {}
        order = {name: k for k, name in enumerate(MENUS)}
        for c in sorted(commands, key=lambda c: (order[c.menu.partition("/")[0]], c.group)):
            top, _, inner = c.menu.partition("/")
            menu = self.menu(window, top)
            if last.get(top, c.group) != c.group:
                menu.addSeparator()
            last[top] = c.group
            if inner:
                if c.menu not in self.menus:
                    self.menus[c.menu] = menu.addMenu(inner)
                menu = self.menus[c.menu]
            action = menu_entry(window, menu, c.words, c.act)
            if c.checked is not None:
                action.setCheckable(True)
                action.setChecked(c.checked)
                group = exclusive.setdefault((c.menu, c.group), QActionGroup(window))
                group.addAction(action)
            self.actions[c.id] = action, c.keys
            self.names[c.id] = f"{c.menu.replace('/', ': ')}: {c.words}"

    def menu(self, window: QMainWindow, name: str) -> QMenu:
        """A menu of the bar, made when it is first wanted."""
        if name not in self.menus:
            self.menus[name] = window.menuBar().addMenu(f"&{name}")
        return self.menus[name]

    def use_keys(self, own: Mapping[str, str]) -> None:
        """Give every action the key that the person wants it to have; `own` is id to key, where it is not the usual one."""
        for ident, (action, usual) in self.actions.items():
            action.setShortcut(QKeySequence(own.get(ident, usual)))

    def by_id(self, own: Mapping[str, str]) -> dict[str, str]:
        """A person's keys by the commands' ids, of keys that were kept by their words."""
        ids = {name: ident for ident, name in self.names.items()}
        return {ids.get(name, name): keys for name, keys in own.items()}


def menu_entry(window: QMainWindow, menu: QMenu, words: str, act: Callable[[], object]) -> QAction:
    """An entry of a menu."""
    action = QAction(words, window)
    action.triggered.connect(lambda _=False: act())
    menu.addAction(action)
    return action
