"""`wertis check`: how far a track drifts, measured on the pictures."""

import argparse
import csv
import io
from collections.abc import Mapping
from pathlib import Path

import numpy as np

from wertis.cli.cluster import cluster_of
from wertis.cli.exits import EXIT_OK, EXIT_OVER, EXIT_PARTLY
from wertis.cli.progress import Progress
from wertis.cli.shots import put_frames, shot_at, surface_in
from wertis.core.check.slip import Slip
from wertis.core.check.summary import USABLE
from wertis.core.files import write_text
from wertis.core.jobs.check import drift_places
from wertis.scripting.reporting import report_check

_PLURALS = {"corner": "corners", "vertex": "vertices"}


def run_check(a: argparse.Namespace) -> int:
    """Measure; the exit code says whether the drift stays under the limit."""
    shot = shot_at(a.shot)
    surface = surface_in(shot, a.track)
    first, last = put_frames(shot, a.range_)
    progress = Progress("measuring", a.quiet)
    with cluster_of(a.cluster, a.workers, a.folders, a.chunk) as cluster:
        drift = surface.check(base=a.base, frames=range(first, last + 1), progress=progress, cluster=cluster)
    progress.end()
    if a.csv:
        write_text(Path(a.csv), as_csv(drift.by_frame, drift_places(shot.document, surface.record).each))
    found = drift.summary
    level = a.limit if a.limit is not None else USABLE
    places = drift_places(shot.document, surface.record)
    if a.report:
        report_check(shot, surface, drift, level, Path(a.report))
    base = surface.record.region.frame if a.base is None else a.base
    print(f"{surface.name}, at the {_PLURALS[places.each]} of {places.words}, against frame {base}: "
          f"{found.words(level, drift.share_under(level), places.each)}.")
    if not found.measured:
        return EXIT_PARTLY
    return EXIT_OVER if a.limit is not None and found.worst > a.limit else EXIT_OK


def as_csv(drift: Mapping[int, Slip], each: str = "corner") -> str:
    """Frame, seen share, each corner's drift and uncertainty in pixels, the worst; of a mesh a row for each vertex, with what it drifts by.

    Fields of what was not measured are empty.
    """
    out = io.StringIO()
    rows = csv.writer(out, lineterminator="\n")
    if each != "corner":
        rows.writerow(["frame", "id", "dx", "dy", "drift", "doubt"])
        for frame in sorted(drift):
            slip = drift[frame]
            for k, ((x, y), amount, deviation) in enumerate(zip(slip.slip, slip.amounts, slip.uncertainty, strict=True)):
                rows.writerow([frame, k, *(_number(v) for v in (x, y, amount)), _number(deviation) if np.isfinite(amount) else ""])
        return out.getvalue()
    rows.writerow(["frame", "seen", *(f"{name}{k}" for k in (1, 2, 3, 4) for name in ("drift", "doubt")), "worst"])

    for frame in sorted(drift):
        slip = drift[frame]
        pairs = [text for amount, deviation in zip(slip.amounts, slip.uncertainty, strict=True)
                 for text in (_number(amount), _number(deviation) if np.isfinite(amount) else "")]
        rows.writerow([frame, f"{slip.seen:.3f}", *pairs, _number(slip.worst)])
    return out.getvalue()


def _number(value: float) -> str:
    return f"{value:.3f}" if np.isfinite(value) else ""
