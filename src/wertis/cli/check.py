"""`wertis check`: how far a track drifts, measured on the pictures."""

import argparse
import csv
import io
from pathlib import Path

import numpy as np

from wertis.cli import arguments
from wertis.cli.main import EXIT_OK, EXIT_OVER, EXIT_PARTLY
from wertis.cli.progress import Progress
from wertis.cli.shots import shot_at, track_in
from wertis.core.check.slip import Slip
from wertis.core.check.summary import USABLE, share_under, summary
from wertis.core.errors import WertisError
from wertis.core.files import write_text
from wertis.core.jobs.check import check_track, corners_of
from wertis.core.shot.edits import opened


def run_check(a: argparse.Namespace) -> int:
    """Measure; the exit code says whether the drift stays under the limit."""
    shot = shot_at(a.shot)
    assert shot.plate is not None
    if a.track is None and len(shot.tracks) != 1:
        names = ", ".join(t.name for t in shot.tracks) or "none"
        raise WertisError(f"The shot has {len(shot.tracks)} tracks; say which with --track NAME. It has: {names}.")
    track = track_in(shot, a.track) if a.track is not None else shot.tracks[0]
    plate = opened(shot.plate)
    first, last = arguments.frame_range(a.range_, *shot.range)
    progress = Progress("measuring", last - first + 1, a.quiet)
    drift: dict[int, Slip] = {}
    for frame, slip in check_track(shot, track, plate, range(first, last + 1), base=a.base):
        drift[frame] = slip
        progress.step(len(drift), f"frame {frame}")
    progress.end()
    if a.csv:
        write_text(Path(a.csv), as_csv(drift))
    found = summary(drift)
    level = a.limit if a.limit is not None else USABLE
    what = corners_of(track)[2]
    base = track.region.frame if a.base is None else a.base
    print(f"{track.name}, at the corners of {what}, against frame {base}: {found.words(level, share_under(drift, level))}.")
    if not found.measured:
        return EXIT_PARTLY
    return EXIT_OVER if a.limit is not None and found.worst > a.limit else EXIT_OK


def as_csv(drift: dict[int, Slip]) -> str:
    """Frame, seen share, each corner's drift and uncertainty in pixels, the worst; fields of what was not measured are empty."""
    out = io.StringIO()
    rows = csv.writer(out, lineterminator="\n")
    rows.writerow(["frame", "seen", *(f"{name}{k}" for k in (1, 2, 3, 4) for name in ("drift", "doubt")), "worst"])

    def number(value: float) -> str:
        return f"{value:.3f}" if np.isfinite(value) else ""

    for frame in sorted(drift):
        slip = drift[frame]
        pairs = [text for amount, doubt in zip(slip.amounts, slip.doubt, strict=True)
                 for text in (number(amount), number(doubt) if np.isfinite(amount) else "")]
        rows.writerow([frame, f"{slip.seen:.3f}", *pairs, number(slip.worst)])
    return out.getvalue()

