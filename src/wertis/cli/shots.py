"""Shot files and their tracks, as commands name them."""

import sys
from pathlib import Path

import wertis
from wertis.cli.exits import EXIT_OK, EXIT_PARTLY
from wertis.core.errors import ShotFileError, WertisError
from wertis.core.shot import store
from wertis.scripting import Shot, Surface


def shot_at(path: str) -> Shot:
    """The shot of a shot file, with its plate.

    Raises
    ------
    WertisError
        When it is no shot file, or its plate is not there.
    """
    if Path(path).suffix.lower() != store.SUFFIX:
        store.load(Path(path))  # says what is wrong with it
    shot = wertis.open(path)
    if shot.document.plate is None:
        raise ShotFileError(f"{path} has no plate; open it in the window and choose one.")
    return shot


def surface_in(shot: Shot, name: str | None) -> Surface:
    """The track of a name, or the only one.

    Raises
    ------
    WertisError
        When there is none, or several and no name.
    """
    if name is not None:
        return shot.surface(name)
    there = shot.surfaces
    if len(there) != 1:
        raise WertisError(f"The shot has {len(there)} tracks; say which with --track NAME. It has: {', '.join(s.name for s in there) or 'none'}.")
    return there[0]


def put_frames(shot: Shot, text: str | None) -> tuple[int, int]:
    """The frames that --range names, within the shot's own range."""
    from wertis.cli import arguments

    return arguments.frame_range(text, *shot.range)


def reported(surface: Surface, start: int, first: int, last: int) -> int:
    """Say which frames of a tracked range have no answer, and why; the exit code says whether any but `start` has one."""
    lost = {f: why for f, why in surface.lost.items() if first <= f <= last}
    if lost:
        frame = min(lost, key=lambda f: abs(f - start))
        print(f"wertis: {len(lost)} of {last - first + 1} frames have no answer and are left out; the first is {frame} ({lost[frame]}).",
              file=sys.stderr)
    return EXIT_PARTLY if lost and len(lost) >= last - first else EXIT_OK
