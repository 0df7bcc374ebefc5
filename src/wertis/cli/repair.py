"""`wertis repair`: the automatic loop, without a window."""

import argparse
from pathlib import Path

from wertis.cli import arguments
from wertis.cli.main import EXIT_OK, EXIT_OVER, EXIT_PARTLY
from wertis.cli.progress import Progress
from wertis.cli.shots import shot_at, track_in
from wertis.core.errors import WertisError
from wertis.core.jobs.repair import Outcome, repair_by_itself
from wertis.core.shot import store
from wertis.core.shot.edits import opened


def run_repair(a: argparse.Namespace) -> int:
    """Repair and save; the exit code says whether the drift is under the level."""
    if not a.limit > 0:
        raise WertisError("--limit takes the drift in pixels that may be left, more than 0.")
    shot = shot_at(a.shot)
    assert shot.plate is not None
    track = track_in(shot, a.track)
    asked = arguments.frame_range(a.range_, *shot.range)
    count = asked[1] - asked[0] + 1
    progress = Progress("repairing", 2 * count, a.quiet)
    outcome: Outcome | None = None
    done = 0
    for what, frame, found in repair_by_itself(shot.but(range=asked), track.id, opened(shot.plate), a.limit):
        done += what.startswith("measuring")
        progress.step(done, f"{what}, frame {frame}")
        outcome = found
    progress.end()
    assert outcome is not None
    out = Path(a.out) if a.out else Path(a.shot)
    store.save(outcome.shot.but(range=shot.range), out)
    keys = ", ".join(map(str, sorted(outcome.frames))) or "none"
    print(f"{track.name}: {len(outcome.frames)} keys set ({keys}). Drift before: {outcome.before.words()}. "
          f"After: {outcome.after.words()}. Saved {out}.")
    for left, why in list(outcome.left.items())[:5]:
        print(f"  frame {left} was not touched: {why}")
    if not outcome.after.measured:
        return EXIT_PARTLY
    return EXIT_OK if outcome.after.worst <= a.limit else EXIT_OVER
