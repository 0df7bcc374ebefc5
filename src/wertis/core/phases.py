"""What a long computation is doing while none of its steps comes to an end, told to whoever listens in the same thread.

A computation may need a while for something that is about no single frame. Whoever began it, a job or a script, listens; nothing is told where nobody
does.
"""

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar

Listener = Callable[[str, int, int], object]
"""Called with what is being done, in words, and how many parts of how many of it are done."""

_listener: ContextVar[Listener | None] = ContextVar("wertis_phases", default=None)


@contextmanager
def listening(listener: Listener) -> Iterator[None]:
    """Within it, in this thread, `tell` calls the listener."""
    before = _listener.set(listener)
    try:
        yield
    finally:
        _listener.reset(before)


def tell(what: str, done: int, total: int) -> None:
    """Say what is being done, and how far it is."""
    listener = _listener.get()
    if listener is not None:
        listener(what, min(done, total), total)
