"""`wertis render`, `matte` and `export`: what the window's Deliver step does, without a window."""

import argparse
import sys
from collections.abc import Mapping
from pathlib import Path

from wertis.cli import arguments
from wertis.cli.cluster import cluster_of
from wertis.cli.exchange import layout_options, run_motion
from wertis.cli.exits import EXIT_OK, EXIT_PARTLY
from wertis.cli.progress import Progress
from wertis.cli.shots import put_frames, shot_at, surface_in
from wertis.core.errors import DeliverError
from wertis.core.exchange.timeline import check_name
from wertis.core.jobs.export import export_camera
from wertis.core.jobs.motion_export import layout_of


def run_render(a: argparse.Namespace) -> int:
    """Render; the exit code says whether every frame was written."""
    shot = shot_at(a.shot)
    first, last = put_frames(shot, a.range_)
    if a.clip is not None:
        check_name(Path(a.clip))
    progress = Progress("rendering", a.quiet)
    with cluster_of(a.cluster, a.workers, a.folders, a.chunk) as cluster:
        left = shot.render(a.out, a.what, range(first, last + 1), a.resume, progress, of=a.of, cluster=cluster)
    progress.end()
    if a.clip is not None:
        shot.range = first, last
        shot.write_clip(a.clip, a.out)
    return _reported(left, last - first + 1)


def run_matte(a: argparse.Namespace) -> int:
    """Write a drawn matte, or that of what passes in front of a track."""
    shot = shot_at(a.shot)
    if bool(a.of) == (a.track is not None):
        raise DeliverError("Say which matte: --of NAME for one that was drawn, or --track NAME for what passes in front of that track.")
    if a.of and a.behind is not None:
        raise DeliverError("--behind is for what passes in front of a track; give --track NAME with it, not --of.")
    if a.of:
        first, last = put_frames(shot, a.range_)
        progress = Progress("making mattes", a.quiet)
        one, *others = [shot.matte_named(name) for name in a.of]
        left = one.render(a.out, range(first, last + 1), progress, None, a.part or "", a.parts, a.bits, others)
        progress.end()
        return _reported(left, last - first + 1)
    surface = surface_in(shot, a.track)
    graphic = next((p for p in surface.placements if p.name == a.behind), None)
    if a.behind is not None and graphic is None:
        raise DeliverError(f"{surface.name} has no graphic named '{a.behind}'; it has {', '.join(p.name for p in surface.placements) or 'none'}.")
    progress = Progress("making mattes", a.quiet)
    left = surface.occluder_mattes(a.out, progress) if graphic is None else graphic.end_where_covered(a.out, progress)
    progress.end()
    if a.behind is not None:
        shot.save()
    return _reported(left, shot.range[1] - shot.range[0] + 1)


def _reported(left_out: Mapping[int, str], total: int) -> int:
    """Say which frames were left out and why."""
    for frame, why in left_out.items():
        print(f"wertis: frame {frame} was left out: {why}", file=sys.stderr)
    return EXIT_PARTLY if len(left_out) == total else EXIT_OK


def run_export(a: argparse.Namespace) -> int:
    """Export a corner pin, a mesh, or a matte's shapes."""
    shot = shot_at(a.shot)
    if a.what not in ("map", "inverse-map", "vectors"):
        arguments.no_workers(a, "coordinate maps")
    if a.range_ is not None:
        shot.range = put_frames(shot, a.range_)  # of what goes out; the shot is not saved
    if a.what == "shapes":
        if a.of is None:
            raise DeliverError("Say whose shapes: --of NAME names the matte.")
        print(f"{shot.matte_named(a.of).export(a.out, a.samples, **layout_options(a))} frames written to {a.out}")
        return EXIT_OK
    if a.what == "everything":
        print(f"{shot.export_data(a.out, **layout_options(a))} tracks, graphics and mattes written to {a.out}")
        return EXIT_OK
    if a.what == "camera":
        where = layout_of(shot.document, **layout_options(a))
        print(f"a camera on {export_camera(shot.document, Path(a.out), where)} frames written to {a.out}")
        return EXIT_OK
    if a.what in ("straight-map", "lens-map"):
        shot.camera.save_lens_map(a.out, a.what == "straight-map", **layout_options(a))
        print(f"the map is written to {a.out}")
        return EXIT_OK
    surface = surface_in(shot, a.track)
    if a.what not in ("pin", "mesh"):
        return run_motion(a, shot, surface)
    if a.what == "mesh":
        if a.placement is not None:
            raise DeliverError("--placement is for a corner pin; a mesh goes out as a whole.")
        print(f"{surface.export_mesh(a.out, **layout_options(a))} frames written to {a.out}")
        return EXIT_OK
    placement = None
    if a.placement is not None:
        placement = next((p for p in surface.placements if p.name == a.placement), None)
        if placement is None:
            names = ", ".join(p.name for p in surface.placements) or "none"
            raise DeliverError(f"{surface.name} has no placement named {a.placement}; it has: {names}.")
    count = surface.export(a.out, placement)
    print(f"{count} frames written to {a.out}")
    return EXIT_OK
