"""`wertis track`: a region's motion through a plate, written as corner positions."""

import argparse
import sys
import threading
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from wertis.cli import arguments
from wertis.cli.main import EXIT_OK, EXIT_PARTLY
from wertis.cli.progress import Progress
from wertis.core.errors import RegionError, WertisError
from wertis.core.exchange.corner_pin_csv import write_plain
from wertis.core.geometry import homography, polygon
from wertis.core.plate import Plate, open_plate
from wertis.core.track.kinds import KINDS
from wertis.core.track.run import Masks, track_plane


def run_track(a: argparse.Namespace) -> int:
    """Run the command; the exit code says whether every frame has an answer."""
    if a.model not in KINDS:
        raise WertisError(f"--model {a.model} is not a kind of motion that this version tracks; choose one of {', '.join(KINDS)}.")
    region = arguments.points(a.region, "region")
    if len(region) < 3:
        raise RegionError(f"--region has {len(region)} point(s); give at least three, round an area with detail.")
    corners = arguments.points(a.corners, "corners") if a.corners else region
    if len(corners) != 4:
        raise RegionError(f"--corners has {len(corners)} point(s); give four, or a region of four points.")
    out = Path(a.out)
    if not out.absolute().parent.is_dir():
        raise WertisError(f"The folder {out.absolute().parent} does not exist; make it, or write somewhere else.")
    plate = open_plate(a.plate, a.layer)
    held = _held_out(a.holdout, plate)
    first, last = arguments.frame_range(a.range_, plate.first, plate.last)
    progress = Progress("tracking", last - first + 1, a.quiet)
    answers = {a.start: corners} if first <= a.start <= last else {}
    lost: dict[int, str] = {}
    both = _both_ways(plate, region, corners, a.start, first, last, a.model, held, a.look, a.half)
    done: set[int] = set()
    for frame, moved, why in both:
        done.add(frame)
        if moved is None:
            lost[frame] = why
        else:
            answers[frame] = moved
        progress.step(len(done) + 1, f"frame {frame}" + (f" lost: {why}" if moved is None else ""))
    progress.end()
    write_plain(out, answers)
    if lost:
        frame = next(iter(lost))
        print(f"wertis: {len(lost)} of {last - first + 1} frames have no answer and are left out; the first is {frame} ({lost[frame]}).",
              file=sys.stderr)
        return EXIT_PARTLY if len(answers) <= 1 else EXIT_OK
    return EXIT_OK


def _held_out(given: list[str], plate: Plate) -> Masks | None:
    """Masks from the --holdout arguments: polygons that stay in the picture, and matte sequences."""
    if not given:
        return None
    from wertis.core.shot.hold_outs import open_matte, read_matte  # the document is not needed without hold-outs

    still = np.zeros((plate.size[1], plate.size[0]), np.uint8)
    mattes = []
    for text in given:
        if Path(text).exists() or "#" in text or "%" in text:
            mattes.append(open_matte(Path(text), plate.size))
        else:
            points = arguments.points(text, "holdout")
            still = np.maximum(still, polygon.fill(polygon.checked(points, plate.size, "hold-out"), plate.size))

    def mask(frame: int) -> np.ndarray | None:
        total = still
        for matte in mattes:
            found = read_matte(matte, frame)
            total = total if found is None else np.maximum(total, found)
        return total if total.any() else None

    return mask


def _both_ways(plate: Plate, region: np.ndarray, corners: np.ndarray, start: int, first: int, last: int,
               kind: str, held: Masks | None, look: str, half: bool) -> Iterator[tuple[int, np.ndarray | None, str]]:
    stop = threading.Event()
    known: dict[int, np.ndarray] = {}
    for frames in (range(start + 1, last + 1), range(start - 1, first - 1, -1)):
        if not len(frames):
            continue
        for frame, fix in track_plane(plate, region, start, frames, kind, stop=stop, held=held, known=known, look=look, half=half):
            if fix.matrix is not None and abs(frame - start) == 1:
                known[frame] = fix.matrix
            if fix.matrix is None:
                yield frame, None, fix.reason
            elif first <= frame <= last:
                yield frame, homography.apply(fix.matrix, corners), ""
