"""One line of progress on a terminal; nothing where nobody looks."""

import sys
import time

from wertis.core.jobs.events import Event


class Progress:
    """Shows "label  done/total  rate  time left" on standard error, rewriting one line; called with each event of long work.

    Parameters
    ----------
    quiet : show nothing; also when standard error is no terminal.
    """

    def __init__(self, label: str, quiet: bool = False) -> None:
        self._label = label
        self._show = not quiet and sys.stderr.isatty()
        self._begun = time.monotonic()
        self._last = 0.0

    def __call__(self, event: Event) -> None:
        now = time.monotonic()
        if not self._show or (now - self._last < 0.1 and event.done < event.total):
            return
        self._last = now
        rate = event.done / max(now - self._begun, 1e-6)
        left = f"{(event.total - event.done) / rate:.0f} s left  " if rate and event.done < event.total else ""
        note = event.note or (f"frame {event.frame}" if event.frame is not None else "")
        print(f"\r{self._label}  {event.done}/{event.total}  {rate:.1f} per second  {left}{note}\033[K", end="", file=sys.stderr)

    def end(self) -> None:
        """Leave the line."""
        if self._show:
            print(file=sys.stderr)
