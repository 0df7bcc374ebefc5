"""`wertis render` and `wertis export`: what the window's Deliver step does, without a window."""

import argparse
import sys
from collections.abc import Iterable
from pathlib import Path

from wertis.cli import arguments
from wertis.cli.main import EXIT_OK, EXIT_PARTLY
from wertis.cli.progress import Progress
from wertis.cli.shots import shot_at, track_in
from wertis.core.errors import DeliverError
from wertis.core.jobs.export import export_corner_pin
from wertis.core.jobs.occluder_mattes import write_mattes
from wertis.core.jobs.render import render
from wertis.core.shot.edits import opened


def run_render(a: argparse.Namespace) -> int:
    """Render; the exit code says whether every frame was written."""
    shot = shot_at(a.shot)
    assert shot.plate is not None
    plate = opened(shot.plate)
    first, last = arguments.frame_range(a.range_, *shot.range)
    steps = render(shot, plate, a.out, list(range(first, last + 1)), a.what, resume=a.resume)
    return _reported("rendering", steps, last - first + 1, a.quiet)


def run_matte(a: argparse.Namespace) -> int:
    """Write the matte of what passes in front of a track."""
    shot = shot_at(a.shot)
    assert shot.plate is not None
    track = track_in(shot, a.track)
    return _reported("making mattes", write_mattes(shot, track, opened(shot.plate), a.out), shot.range[1] - shot.range[0] + 1, a.quiet)


def _reported(label: str, steps: Iterable[tuple[int, str]], total: int, quiet: bool) -> int:
    """Go through the frames of long work with progress; say which were left out and why."""
    progress = Progress(label, total, quiet)
    left_out: dict[int, str] = {}
    for done, (frame, why) in enumerate(steps, 1):
        if why:
            left_out[frame] = why
        progress.step(done)
    progress.end()
    for frame, why in left_out.items():
        print(f"wertis: frame {frame} was left out: {why}", file=sys.stderr)
    return EXIT_PARTLY if len(left_out) == total else EXIT_OK


def run_export(a: argparse.Namespace) -> int:
    """Export a corner pin."""
    shot = shot_at(a.shot)
    track = track_in(shot, a.track)
    placement = track.placements[0] if track.placements else None
    if a.placement is not None:
        placement = next((p for p in track.placements if p.name == a.placement), None)
        if placement is None:
            names = ", ".join(p.name for p in track.placements) or "none"
            raise DeliverError(f"{track.name} has no placement named {a.placement}; it has: {names}.")
    count = export_corner_pin(shot, track, placement, Path(a.out))
    print(f"{count} frames written to {a.out}")
    return EXIT_OK
