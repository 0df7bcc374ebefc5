"""`wertis place` and `match`: putting graphics on tracked surfaces, and making them look as if they had been filmed."""

import argparse
from pathlib import Path

from wertis.cli.arguments import points
from wertis.cli.exits import EXIT_OK
from wertis.cli.progress import Progress
from wertis.cli.shots import shot_at, surface_in
from wertis.core.errors import WertisError
from wertis.core.jobs.matching import PARTS


def run_place(a: argparse.Namespace) -> int:
    """Put a graphic on a surface and save the shot."""
    shot = shot_at(a.shot)
    surface = surface_in(shot, a.track)
    if a.whole and a.corners:
        raise WertisError("--whole lays artwork over the whole picture and takes no --corners; leave one of them out.")
    if a.whole:
        graphic = surface.place_whole(a.artwork, a.frame, a.name or "", blend=a.blend, opacity=a.opacity)
    else:
        corners = points(a.corners, "corners") if a.corners else None
        graphic = surface.place(a.artwork, corners, a.frame, a.name or "", a.fit, a.blend, a.opacity)
    if a.match:
        progress = Progress("matching", a.quiet)
        words = graphic.match(PARTS, progress)
        progress.end()
        _say(words)
    shot.save(Path(a.out or a.shot))
    print(f"{graphic.name} placed on {surface.name}")
    return EXIT_OK


def run_match(a: argparse.Namespace) -> int:
    """Measure what a graphic, or all of them, need to look like the plate; save the shot."""
    shot = shot_at(a.shot)
    graphics = [p for surface in shot.surfaces for p in surface.placements if a.graphic in (None, p.name)]
    if not graphics:
        raise WertisError(f"The shot has no graphic named {a.graphic}." if a.graphic else "The shot has no graphics; place one first (wertis place).")
    parts = a.parts.split(",") if a.parts else list(PARTS)
    for graphic in graphics:
        progress = Progress(f"matching {graphic.name}", a.quiet)
        words = graphic.match(parts, progress)
        progress.end()
        print(f"{graphic.name}:")
        _say(words)
    shot.save(Path(a.out or a.shot))
    return EXIT_OK


def _say(words: dict[str, str]) -> None:
    for part, found in words.items():
        print(f"  {part}: {found}")
