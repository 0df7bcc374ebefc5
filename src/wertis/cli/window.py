"""`wertis demo` and `wertis open`: the one door from the command line to the window."""

import argparse
from importlib.util import find_spec

from wertis.cli.exits import EXIT_OK
from wertis.cli.progress import Progress
from wertis.core.errors import WertisError


def _started(what: str, demo: bool = False) -> int:
    """Open the window, where it is installed.

    Raises
    ------
    WertisError
        When it is not.
    """
    if find_spec("PySide6") is None or find_spec("qtawesome") is None:
        raise WertisError("The window is not installed here; install it with: pip install 'wertis[window]'. All other commands work without it.")
    from wertis.app.start import run

    return run(demo=True) if demo else run(what)


def run_demo(a: argparse.Namespace) -> int:
    """Open the window with the demo shots, or only make them."""
    if not a.make_only:
        return _started("", demo=True)
    from wertis.demo import make

    progress = Progress("making the demo shots")
    where = make.folder()
    for event in make.make():
        progress(event)
    progress.end()
    print(where)
    return EXIT_OK


def run_open(a: argparse.Namespace) -> int:
    """Open the window."""
    return _started(a.shot or "")
