"""`wertis export` in a receiver's coordinates, `prove` and `import`."""

import argparse
from pathlib import Path
from typing import Any

from wertis.cli.cluster import cluster_of
from wertis.cli.exits import EXIT_OK, EXIT_OVER
from wertis.cli.shots import shot_at, surface_in
from wertis.core.errors import WertisError
from wertis.core.exchange import receivers
from wertis.core.jobs.prove import Proof
from wertis.scripting.shot import Shot
from wertis.scripting.surface import Surface
from wertis.scripting.uses import Placed

_WORDS = {"up": ("y_up", True), "down": ("y_up", False), "half": ("centre", "half"), "zero": ("centre", "zero"), "pixels": ("units", "pixels"),
          "unit": ("units", "unit")}


def layout_options(a: argparse.Namespace) -> dict[str, Any]:
    """What was said of the coordinates."""
    options: dict[str, Any] = receivers.load(a.receiver).options if a.receiver else {}
    said = {"y_up": None if a.y is None else a.y == "up", "centre": a.centre, "units": a.units, "first": a.first}
    options.update({k: v for k, v in said.items() if v is not None})
    if a.size is not None:
        try:
            w, h = (int(v) for v in a.size.lower().split("x"))
        except ValueError:
            raise WertisError(f"--size {a.size} is no size; write it as 1920x1080.") from None
        options["receiver"] = (w, h)
    return options


def run_motion(a: argparse.Namespace, shot: Shot, surface: Surface) -> int:
    """Write motion in the receiver's coordinates."""
    placement = _placement(surface, a.placement) if a.placement is not None or surface.placements else None
    relative = a.relative or (bool(a.receiver) and receivers.load(a.receiver).relative)
    with cluster_of(a.cluster, a.workers, a.folders, a.chunk) as cluster:
        count = surface.export_motion(a.out, a.what.replace("-", " "), placement, a.reference, not a.unrepaired, cluster=cluster, relative=relative,
                                      **layout_options(a))
    print(f"{count} frames written to {a.out}")
    return EXIT_OK


def run_prove(a: argparse.Namespace) -> int:
    """Prove that an export arrives; the exit code says whether it does."""
    shot = shot_at(a.shot)
    believed = None
    if a.believed:
        try:
            believed = dict(_WORDS[word] for word in a.believed.split(","))
        except KeyError as why:
            raise WertisError(f"--believed {why.args[0]} is nothing that can be believed; choose of {', '.join(_WORDS)}.") from None
    try:
        frames = [int(f) for f in a.frames.split(",")] if a.frames else None
    except ValueError:
        raise WertisError(f"--frames {a.frames} are no frames; write them as 1001,1020.") from None
    if a.what == "shapes":
        if not a.of:
            raise WertisError("Say whose shapes: --of NAME names the matte.")
        proof = shot.matte_named(a.of).prove(f".{a.format}", frames, **layout_options(a))
        return _told(proof, "points")
    surface = surface_in(shot, a.track)
    if a.what == "camera":
        return _told(shot.camera.prove(surface, f".{a.format}", frames, **layout_options(a)), "corners")
    proof = surface.prove(_placement(surface, a.placement), a.what, f".{a.format}", frames, believed, **layout_options(a))
    return _told(proof, "vertices" if a.what == "mesh" else "corners")


def _told(proof: Proof, what: str) -> int:
    """Say what came of a proof; the exit code."""
    for found in proof.frames:
        print(f"frame {found.frame}: {what} off by {found.corners:.4f} px, pictures by {found.difference:.2f} / 255")
    print(proof.wrong or "It arrives.")
    return EXIT_OVER if proof.wrong else EXIT_OK


def run_import(a: argparse.Namespace) -> int:
    """Add a track whose motion was made elsewhere, or shapes to a matte."""
    shot = shot_at(a.shot)
    if a.of:
        there = next((m for m in shot.mattes if m.name == a.of), None)
        matte = there if there is not None else shot.matte(carried_by=surface_in(shot, a.track) if a.track else None, name=a.of)
        before = len(matte.record.shapes)
        matte.read(a.file, a.scaled)
        shot.save(Path(a.out or a.shot))
        print(f"{matte.name} has {len(matte.record.shapes) - before} shapes more from {a.file}")
        return EXIT_OK
    columns = [c.strip() for c in a.columns.split(",")] if a.columns else ()
    found = shot.import_motion(a.file, a.name or "", columns, a.scaled, a.folder, retime=a.retime, **layout_options(a))
    shot.save(Path(a.out or a.shot))
    print(f"{found.name} has its motion from {a.file}" if isinstance(found, Surface) else f"the shot has its camera from {a.file}")
    return EXIT_OK


def _placement(surface: Surface, name: str | None) -> Placed:
    there = surface.placements
    found = next((p for p in there if name in (None, p.name)), None)
    if found is None:
        raise WertisError(f"{surface.name} has no placement named {name}." if name else f"{surface.name} has no placement; place a graphic first.")
    return found
