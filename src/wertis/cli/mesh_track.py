"""`wertis track --model mesh`: a bending surface's motion through a plate, written as points, kept as a shot, or both."""

import argparse
import sys
from pathlib import Path

import numpy as np

import wertis
from wertis.cli import arguments
from wertis.cli.progress import Progress
from wertis.cli.shots import reported
from wertis.core.errors import RegionError, WertisError
from wertis.core.exchange import points_csv
from wertis.core.geometry import polygon
from wertis.core.geometry.mesh import LEAST_SPACING, laid, usual_spacing
from wertis.core.shot.meshes import vertices_on


def run_mesh_track(a: argparse.Namespace) -> int:
    """Run the command; the exit code says whether every frame has an answer."""
    if not a.out and not a.save:
        raise WertisError("Say what to do with the track: --out OUT.csv writes its points, --save SHOT.wertis keeps it as a shot.")
    if not a.region:
        raise WertisError("--region \"x,y x,y ...\" says where the surface is on the start frame; give it.")
    if a.stiffness is not None and not 0 <= a.stiffness <= 100:
        raise WertisError(f"--stiffness is {a.stiffness:g}; give 0 (cloth) to 100 (board), or leave it out to have it chosen from the pictures.")
    if a.spacing is not None and not a.spacing >= LEAST_SPACING:
        raise WertisError(f"--spacing is {a.spacing:g} pixels; give {LEAST_SPACING:g} or more.")
    if a.pegs and not a.points:
        raise WertisError("--pegs names points of --points IN.csv; give both.")
    further = arguments.frame_list(a.further, "further")
    region = arguments.points(a.region, "region")
    if len(region) < 3:
        raise RegionError(f"--region has {len(region)} point(s); give at least three, round an area with detail.")
    arguments.refused(a, ("keep",), "dense")
    arguments.folders_exist(a.out, a.save)
    points = points_csv.read_points(Path(a.points)) if a.points else {}
    pegs = points_csv.read_frames(Path(a.pegs)) if a.pegs else {}
    unknown = sorted({ident for on in pegs.values() for ident in on} - set(points))
    if unknown:
        raise WertisError(f"{a.pegs} pegs point {unknown[0]}, which is not in {a.points}; its ids must be among those.")
    shot, first, last = arguments.begun(a)
    vertices = _vertices(region, np.array(list(points.values())).reshape(-1, 2), a.spacing, shot.plate.size) if points else None
    progress = Progress("tracking", a.quiet)
    surface = shot.track(region, a.start, "mesh", a.name, a.look, a.half, [arguments.hold_out(text) for text in a.holdout], progress,
                         spacing=a.spacing, stiffness=a.stiffness, vertices=vertices, further=further)
    progress.end()
    numbers = {ident: k for k, ident in enumerate(points)}
    if pegs:
        for frame, on in pegs.items():
            if frame != a.start:
                surface.peg(frame, {numbers[ident]: (place[0], place[1]) for ident, place in on.items()})
        if surface.out_of_date:
            progress = Progress("tracking again", a.quiet)
            surface.retrack(progress)
            progress.end()
    shot.range = first, last
    if a.out:
        wanted = numbers or {str(k): k for k in range(len(surface.vertices))}
        _write(Path(a.out), surface, wanted, first, last)
    if a.save:
        shot.save(Path(a.save))
    return reported(surface, a.start, first, last)


def _vertices(region: np.ndarray, points: np.ndarray, spacing: float | None, size: tuple[int, int]) -> np.ndarray:
    """A mesh of which the points (n, 2) are the first vertices."""
    mask = polygon.fill(polygon.checked(region, size), size)
    inside = (points >= 0).all(1) & (points < size).all(1)
    at = np.floor(np.clip(points, 0, np.array(size) - 1)).astype(int)
    outside = ~(inside & (mask[at[:, 1], at[:, 0]] > 0))
    if outside.all():
        raise RegionError("None of the points lies in the region; give their places on the start frame, in pixels.")
    if outside.any():
        print(f"wertis: {int(outside.sum())} of {len(points)} points lie outside of the region; they follow the mesh and are less sure.", file=sys.stderr)
    step = spacing or usual_spacing(float(np.count_nonzero(mask)))
    return laid(mask, step, own=points)


def _write(path: Path, surface: "wertis.Surface", numbers: dict[str, int], first: int, last: int) -> None:
    places: dict[int, dict[str, np.ndarray]] = {}
    for frame in range(first, last + 1):
        moved = vertices_on(surface.record, frame)
        if moved is not None:
            places[frame] = {ident: moved[k] for ident, k in numbers.items()}
    points_csv.write_frames(path, places)
