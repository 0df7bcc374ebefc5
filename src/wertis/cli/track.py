"""`wertis track`: a region's motion through a plate, written as corner positions, kept as a shot, or both."""

import argparse
from pathlib import Path

from wertis.cli import arguments
from wertis.cli.dense_track import run_dense_track
from wertis.cli.mesh_track import run_mesh_track
from wertis.cli.point_track import run_point_track
from wertis.cli.progress import Progress
from wertis.cli.shots import reported
from wertis.core.errors import RegionError, WertisError
from wertis.core.exchange.corner_pin_csv import write_plain
from wertis.core.track.kinds import KINDS

_OTHERS = {"mesh": run_mesh_track, "points": run_point_track, "dense": run_dense_track}


def run_track(a: argparse.Namespace) -> int:
    """Run the command; the exit code says whether every frame has an answer."""
    if a.model not in (*KINDS, *_OTHERS):
        raise WertisError(f"--model {a.model} is not a kind of motion that this version tracks; choose one of {', '.join([*KINDS, *_OTHERS])}.")
    if a.model != "dense":
        arguments.no_workers(a, "dense motion")
    if a.model in _OTHERS:
        return _OTHERS[a.model](a)
    arguments.refused(a, ("pegs", "spacing", "stiffness", "further"), "mesh")
    arguments.refused(a, ("points",), "mesh, points or dense")
    arguments.refused(a, ("keep",), "dense")
    if not a.region:
        raise WertisError("--region \"x,y x,y ...\" says where the surface is on the start frame; give it.")
    if not a.out and not a.save:
        raise WertisError("Say what to do with the track: --out OUT.csv writes its corners, --save SHOT.wertis keeps it as a shot.")
    region = arguments.points(a.region, "region")
    if len(region) < 3:
        raise RegionError(f"--region has {len(region)} point(s); give at least three, round an area with detail.")
    corners = arguments.points(a.corners, "corners") if a.corners else region
    if a.out and len(corners) != 4:
        raise RegionError(f"--corners has {len(corners)} point(s); give four, or a region of four points.")
    arguments.folders_exist(a.out, a.save)
    shot, first, last = arguments.begun(a)
    progress = Progress("tracking", a.quiet)
    surface = shot.track(region, a.start, a.model, a.name, a.look, a.half, [arguments.hold_out(text) for text in a.holdout], progress)
    progress.end()
    shot.range = first, last
    answers = surface.follow(corners, a.start)
    if a.out:
        write_plain(Path(a.out), answers)
    if a.save:
        shot.save(Path(a.save))
    return reported(surface, a.start, first, last)
