"""One line of progress on a terminal; nothing where nobody looks."""

import sys
import time


class Progress:
    """Shows "label  done/total  rate  time left" on standard error, rewriting one line.

    Parameters
    ----------
    total : how many steps there are.
    quiet : show nothing; also when standard error is no terminal.
    """

    def __init__(self, label: str, total: int, quiet: bool = False) -> None:
        self._label, self._total = label, total
        self._show = not quiet and sys.stderr.isatty()
        self._begun = time.monotonic()
        self._last = 0.0

    def step(self, done: int, note: str = "") -> None:
        """Say that `done` steps are done."""
        now = time.monotonic()
        if not self._show or (now - self._last < 0.1 and done < self._total):
            return
        self._last = now
        rate = done / max(now - self._begun, 1e-6)
        left = (self._total - done) / rate if rate else 0
        print(f"\r{self._label}  {done}/{self._total}  {rate:.1f} fps  {left:.0f} s left  {note}\033[K", end="", file=sys.stderr)

    def end(self) -> None:
        """Leave the line."""
        if self._show:
            print(file=sys.stderr)
