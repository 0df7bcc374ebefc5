"""`wertis repair`: the automatic loop, without a window."""

import argparse
from pathlib import Path

from wertis.cli.exits import EXIT_OK, EXIT_OVER, EXIT_PARTLY
from wertis.cli.progress import Progress
from wertis.cli.shots import put_frames, shot_at, surface_in
from wertis.core.errors import WertisError


def run_repair(a: argparse.Namespace) -> int:
    """Repair and save; the exit code says whether the drift is under the level."""
    if not a.limit > 0:
        raise WertisError("--limit takes the drift in pixels that may be left, more than 0.")
    shot = shot_at(a.shot)
    surface = surface_in(shot, a.track)
    progress = Progress("repairing", a.quiet)
    outcome = surface.repair(a.limit, put_frames(shot, a.range_), progress)
    progress.end()
    out = shot.save(Path(a.out) if a.out else Path(a.shot))
    keys = ", ".join(map(str, sorted(outcome.frames))) or "none"
    print(f"{surface.name}: {len(outcome.frames)} keys set ({keys}). Drift before: {outcome.before.words()}. "
          f"After: {outcome.after.words()}. Saved {out}.")
    for left, why in list(outcome.left.items())[:5]:
        print(f"  frame {left} was not touched: {why}")
    if not outcome.after.measured:
        return EXIT_PARTLY
    return EXIT_OK if outcome.after.worst <= a.limit else EXIT_OVER
