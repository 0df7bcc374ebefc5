"""`wertis cuts`: the frames at which another shot begins in a plate."""

import argparse

import wertis
from wertis.cli import arguments
from wertis.cli.exits import EXIT_OK
from wertis.cli.progress import Progress


def run_cuts(a: argparse.Namespace) -> int:
    """Print each shot's first and last frame."""
    shot = wertis.open(a.plate)
    arguments.say_no_cuts(shot, a.no_cut)
    progress = Progress("looking for cuts", a.quiet)
    cuts = shot.find_cuts(progress)
    progress.end()
    begins = [shot.plate.first, *cuts]
    for begin, end in zip(begins, [*(c - 1 for c in cuts), shot.plate.last], strict=True):
        print(f"{begin}-{end}")
    return EXIT_OK
