"""`wertis motion`: a track's motion copied, blended, or tracked again from repaired frames, without a window."""

import argparse
from pathlib import Path

from wertis.cli import arguments
from wertis.cli.main import EXIT_OK
from wertis.cli.progress import Progress
from wertis.cli.shots import shot_at, track_in
from wertis.core.errors import WertisError
from wertis.core.jobs.retrack import out_of_date, track_again
from wertis.core.shot import store
from wertis.core.shot.document import Shot, Track
from wertis.core.shot.edits import opened
from wertis.core.shot.motions import blend_motions, copy_motion


def run_motion(a: argparse.Namespace) -> int:
    """Change the motion and save the shot."""
    shot = shot_at(a.shot)
    track = track_in(shot, a.track)
    if sum(x is not None and x is not False for x in (a.copy, a.blend, a.again)) != 1:
        raise WertisError("Say what to do with the motion: one of --copy TRACK, --blend TRACK, --again.")
    if a.again:
        new, words = _again(shot, track, a.quiet)
    elif a.copy is not None:
        source = track_in(shot, a.copy)
        new, words = copy_motion(shot, source.id, track.id), f"moves as {source.name} does"
    else:
        source = track_in(shot, a.blend)
        begin, end = arguments.frame_range(a.range_, *shot.range)
        new = blend_motions(shot, track.id, source.id, track.id, begin, end)
        words = f"moves as it did up to {begin} and as {source.name} does from {end} on"
    out = Path(a.out) if a.out else Path(a.shot)
    store.save(new, out)
    print(f"{track.name}: {words}. Saved {out}.")
    return EXIT_OK


def _again(shot: Shot, track: Track, quiet: bool) -> tuple[Shot, str]:
    assert shot.plate is not None
    stretches = out_of_date(track, shot.range)
    progress = Progress("tracking again", sum(len(s.frames) * ((s.begin is not None) + (s.end is not None)) for s in stretches), quiet)
    new = None
    for done, (frame, found) in enumerate(track_again(shot, track.id, opened(shot.plate)), 1):
        new = found
        if found is None:
            progress.step(done, f"frame {frame}")
    progress.end()
    assert new is not None
    return new, "tracked again on frames " + ", ".join(f"{s.frames[0]} to {s.frames[-1]}" for s in stretches)
