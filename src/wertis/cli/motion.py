"""`wertis motion`: a track's motion copied, blended, or tracked again from repaired frames, without a window."""

import argparse
from pathlib import Path

from wertis.cli.exits import EXIT_OK
from wertis.cli.progress import Progress
from wertis.cli.shots import put_frames, shot_at, surface_in
from wertis.core.errors import WertisError
from wertis.core.jobs.retrack import out_of_date


def run_motion(a: argparse.Namespace) -> int:
    """Change the motion and save the shot."""
    shot = shot_at(a.shot)
    surface = surface_in(shot, a.track)
    if sum(x is not None and x is not False for x in (a.copy, a.blend, a.again)) != 1:
        raise WertisError("Say what to do with the motion: one of --copy TRACK, --blend TRACK, --again.")
    if a.again:
        stretches = out_of_date(surface.record, shot.range)
        progress = Progress("tracking again", a.quiet)
        surface.retrack(progress)
        progress.end()
        words = "tracked again on frames " + ", ".join(f"{s.frames[0]} to {s.frames[-1]}" for s in stretches)
    elif a.copy is not None:
        source = shot.surface(a.copy)
        surface.copy_motion(source)
        words = f"moves as {source.name} does"
    else:
        source = shot.surface(a.blend)
        begin, end = put_frames(shot, a.range_)
        surface.blend_motion(source, begin, end)
        words = f"moves as it did up to {begin} and as {source.name} does from {end} on"
    out = shot.save(Path(a.out) if a.out else Path(a.shot))
    print(f"{surface.name}: {words}. Saved {out}.")
    return EXIT_OK
