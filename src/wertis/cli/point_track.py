"""`wertis track --model points`: single points followed through a plate, written as points over frames, kept as a shot, or both."""

import argparse
from pathlib import Path

import numpy as np

from wertis.cli import arguments
from wertis.cli.progress import Progress
from wertis.cli.shots import reported
from wertis.core.errors import WertisError
from wertis.core.exchange import points_csv

_AROUND = 40.0  # pixels round the points, of the region that is kept with them when none is given


def run_point_track(a: argparse.Namespace) -> int:
    """Run the command; the exit code says whether every frame has an answer."""
    if not a.out and not a.save:
        raise WertisError("Say what to do with the track: --out OUT.csv writes its points, --save SHOT.wertis keeps it as a shot.")
    if not a.points:
        raise WertisError("--model points follows the points of --points IN.csv (id,x,y on the start frame); give it.")
    arguments.refused(a, ("pegs", "spacing", "stiffness", "further"), "mesh")
    arguments.refused(a, ("keep",), "dense")
    arguments.full_resolution(a)
    arguments.folders_exist(a.out, a.save)
    points = points_csv.read_points(Path(a.points))
    patterns = {name: _pattern(given) for name, given in points_csv.read_patterns(Path(a.points)).items()}
    shot, first, last = arguments.begun(a)
    region = arguments.points(a.region, "region") if a.region else _box_round(np.array(list(points.values())), shot.plate.size)
    progress = Progress("tracking", a.quiet)
    surface = shot.track(region, a.start, "points", a.name, a.look, hold_outs=[arguments.hold_out(text) for text in a.holdout], progress=progress,
                         points=points, patterns=patterns)
    progress.end()
    shot.range = first, last
    if a.out:
        found = {f: {name: p for name, p in surface.tracked_points(f).items() if p.measured} for f in range(first, last + 1)}
        points_csv.write_frames(Path(a.out), {f: {n: p.place for n, p in on.items()} for f, on in found.items()},
                                {f: {n: p.error for n, p in on.items()} for f, on in found.items()})
    if a.save:
        shot.save(Path(a.save))
    return reported(surface, a.start, first, last)


def _pattern(given: dict[str, float]) -> dict[str, object]:
    whole = {k: round(v) for k, v in given.items() if k in ("side", "reach")}
    return {**whole, "offset": (given.get("dx", 0.0), given.get("dy", 0.0))}


def _box_round(points: np.ndarray, size: tuple[int, int]) -> np.ndarray:
    low, high = np.clip(points.min(0) - _AROUND, 0, size), np.clip(points.max(0) + _AROUND, 0, size)
    return np.array([low, [high[0], low[1]], high, [low[0], high[1]]])
