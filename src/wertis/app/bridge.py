"""Brings signals from working threads to the window's thread."""

from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, Qt, Signal, Slot


class Bridge(QObject):
    """Calls a function in the thread that made the bridge, whatever thread `__call__` comes from."""

    _sent = Signal(object)

    def __init__(self, function: Callable[..., Any], parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._function = function
        self._sent.connect(self._take, Qt.ConnectionType.QueuedConnection)

    def __call__(self, *arguments: Any) -> None:
        self._sent.emit(arguments)

    @Slot(object)
    def _take(self, arguments: tuple[Any, ...]) -> None:
        self._function(*arguments)
