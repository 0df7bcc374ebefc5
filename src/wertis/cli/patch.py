"""`wertis patch`: clean patches taken out of a shot, written and read, and given back."""

import argparse
from pathlib import Path

import numpy as np

from wertis.cli.arguments import points
from wertis.cli.exits import EXIT_OK
from wertis.cli.progress import Progress
from wertis.cli.shots import shot_at, surface_in
from wertis.core.errors import WertisError
from wertis.core.jobs.flicker import worst_first
from wertis.scripting.patches import Patched
from wertis.scripting.shot import Shot


def run_patch(a: argparse.Namespace) -> int:
    """Take a patch out or change one that is there, and save the shot."""
    shot = shot_at(a.shot)
    progress = Progress("patch", a.quiet)
    if a.of is None:
        corners = points(a.corners, "corners") if a.corners else None
        patch = surface_in(shot, a.track).take_out(a.frame, corners, a.whole, a.name or "Patch")
        print(f"{patch.record.name} taken out of frame {patch.record.frame}, {patch.size[0]} x {patch.size[1]} pixels")
    else:
        patch = _named(shot, a.of)
    if a.clean:
        print(patch.clean_plate(progress))
    if a.read is not None:
        patch.read_back(a.read)
        print(f"{a.read} is on {patch.record.name}")
    if a.cover is not None:
        patch.change(cover=a.cover)
    if a.match:
        for part, found in patch.match(None, progress).items():
            print(f"  {part}: {found}")
    if a.write is not None:
        if "#" in a.write or "%" in a.write:
            left = patch.write_series(a.write, progress)
            print(f"{a.write} written" + (f", without frames {', '.join(map(str, sorted(left)))}" if left else ""))
        else:
            w, h = patch.write(a.write)
            print(f"{a.write} written, {w} x {h} pixels")
    if a.write_mask is not None:
        w, h = patch.write_mask(a.write_mask)
        print(f"{a.write_mask} written, {w} x {h} pixels")
    if a.flicker:
        jumps = patch.flicker(progress)
        if jumps:
            worst = worst_first(jumps)[:5]
            print(f"border: mean {np.mean([v.mean for v in jumps.values()]):.2f} / 255; worst "
                  + ", ".join(f"{jumps[f].worst:.2f} on {f}" for f in worst))
        else:
            print("border: not seen on two frames after each other")
    progress.end()
    shot.save(Path(a.out or a.shot))
    return EXIT_OK


def _named(shot: Shot, name: str) -> Patched:
    there = [p for surface in shot.surfaces for p in surface.patches]
    found = next((p for p in there if p.record.name == name), None)
    if found is None:
        has = f"it has: {', '.join(p.record.name for p in there)}" if there else "it has none"
        raise WertisError(f"The shot has no patch named {name}; {has}.")
    return found
