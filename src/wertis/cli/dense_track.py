"""`wertis track --model dense`: the motion of every pixel, kept in a folder; points carried by it, written over frames."""

import argparse
import sys
from pathlib import Path

import numpy as np

from wertis.cli import arguments
from wertis.cli.cluster import cluster_of
from wertis.cli.progress import Progress
from wertis.cli.shots import reported
from wertis.core.errors import WertisError
from wertis.core.exchange import points_csv
from wertis.core.jobs.dense_tracking import expected_size, size_words


def run_dense_track(a: argparse.Namespace) -> int:
    """Run the command; the exit code says whether every frame has an answer."""
    if not a.out and not a.save and not a.keep:
        raise WertisError("Say what to do with the motion: --keep DIR keeps it, --out OUT.csv writes the points of --points IN.csv, --save keeps a shot.")
    if a.out and not a.points:
        raise WertisError("--out OUT.csv takes the points of --points IN.csv (id,x,y on the start frame); give it.")
    if a.save and not a.keep:
        raise WertisError("A shot needs the motion to stay where it is; give --keep DIR with --save.")
    if (a.cluster or a.workers > 1) and not a.keep:
        raise WertisError("Several processes share the motion by its folder; give --keep DIR.")
    arguments.refused(a, ("pegs", "spacing", "stiffness", "further"), "mesh")
    arguments.full_resolution(a)
    arguments.folders_exist(a.out, a.save)
    points = points_csv.read_points(Path(a.points)) if a.points else {}
    shot, first, last = arguments.begun(a)
    w, h = shot.plate.size
    region = arguments.points(a.region, "region") if a.region else np.array([[0, 0], [w, 0], [w, h], [0, h]], float)
    with arguments.kept_or_temporary(a.keep) as folder:
        surface = shot.add(region, a.start, a.name, "dense", a.look, keep=folder, whole=not a.region, neighbours=bool(a.keep))
        for text in a.holdout:
            surface.hold_out(arguments.hold_out(text))
        if not a.quiet:
            size = expected_size(surface.record, shot.plate, shot.range[1] - shot.range[0] + 1)
            print(f"wertis: the motion takes about {size_words(size)} in {folder if a.keep else 'a temporary folder'}", file=sys.stderr)
        progress = Progress("tracking", a.quiet)
        with cluster_of(a.cluster, a.workers, a.folders, a.chunk) as cluster:
            surface.track(progress=progress, cluster=cluster)
        progress.end()
        shot.range = first, last
        if a.out:
            names, at = list(points), np.array(list(points.values()), float).reshape(-1, 2)
            there = surface.follow(at, a.start)
            errors = {f: surface.motion.uncertainty(at, f) for f in there}
            points_csv.write_frames(Path(a.out), {f: dict(zip(names, p, strict=True)) for f, p in there.items()},
                                    {f: dict(zip(names, map(float, errors[f]), strict=True)) for f in there})
        if a.save:
            shot.save(Path(a.save))
        return reported(surface, a.start, first, last)
