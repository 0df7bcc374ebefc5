"""`wertis solve`: a plate's camera, and a plane of its scene carried through the shot."""

import argparse
from pathlib import Path

import wertis
from wertis.cli import arguments
from wertis.cli.exits import EXIT_OK, EXIT_PARTLY
from wertis.cli.progress import Progress
from wertis.core.errors import RegionError, WertisError
from wertis.core.exchange.corner_pin_csv import write_plain


def run_solve(a: argparse.Namespace) -> int:
    """Run the command; the exit code says whether every frame has an answer."""
    if bool(a.pin) != bool(a.corners):
        raise WertisError("--pin OUT.csv gets the corners of --corners carried through the shot; give both, or neither.")
    corners = arguments.points(a.corners, "corners") if a.corners else None
    if corners is not None and (len(corners) != 4 or a.start is None):
        raise RegionError("--corners takes the four corners of a rectangle on the frame of --start; give both.")
    # what is wrong with the call is said before the work begins
    ground = arguments.points(a.ground, "ground") if a.ground else None
    ends, distance = (arguments.points(a.distance[0], "distance"), _number(a.distance[1])) if a.distance else (None, 0.0)
    arguments.folders_exist(a.out, a.pin, a.save)
    shot = wertis.open(a.plate, a.layer)
    first, last = arguments.frame_range(a.range_, shot.plate.first, shot.plate.last)
    shot.range = first, last
    progress = Progress("solving", a.quiet)
    camera = shot.solve(a.focal, a.lens, [arguments.hold_out(text) for text in a.holdout], progress, zoom=a.zoom)
    progress.end()
    at = first if a.start is None else a.start
    if ground is not None:
        camera = camera.set_ground(ground, at)
    if ends is not None:
        camera = camera.set_distance(ends, at, distance)
    camera.save(a.out)
    trouble: WertisError | None = None
    if corners is not None and a.pin:
        try:
            write_plain(Path(a.pin), camera.pin(corners, a.start))
            if a.save:
                camera.plane(corners, a.start, a.name)
        except WertisError as why:  # the camera is there all the same
            trouble = why
    if a.save:
        shot.save(Path(a.save))
    if trouble is not None:
        raise WertisError(f"{trouble} The camera itself is in {a.out}{f' and {a.save}' if a.save else ''}.")
    solved = camera.solved
    missing = last - first + 1 - len(solved.poses)
    print(f"{len(solved.poses)} of {last - first + 1} frames solved, mean error {solved.error:.2f} px, focal length {solved.focal_words}, "
          f"{len(solved.points)} points.")
    return EXIT_PARTLY if missing else EXIT_OK


def _number(text: str) -> float:
    try:
        return float(text)
    except ValueError:
        raise WertisError(f"--distance {text} is no number; write it as \"x,y x,y\" 2.5.") from None
