"""`wertis demo` and `wertis open`: the one door from the command line to the window."""

import argparse

from wertis.cli.exits import EXIT_OK
from wertis.cli.progress import Progress


def run_demo(a: argparse.Namespace) -> int:
    """Open the window with the demo shots, or only make them."""
    if not a.make_only:
        from wertis.app.start import run

        return run(demo=True)
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
    from wertis.app.start import run

    return run(a.shot or "")
