"""Reading what a person typed: points, ranges."""

import argparse
import contextlib
import sys
import tempfile
from collections.abc import Iterator, Sequence
from pathlib import Path

import numpy as np

import wertis
from wertis.core.errors import WertisError


def points(text: str, name: str) -> np.ndarray:
    """Points (N, 2) from "x,y x,y ...".

    Raises
    ------
    WertisError
        When the text is something else.
    """
    try:
        pairs = [[float(v) for v in pair.split(",")] for pair in text.split()]
        if not pairs or any(len(p) != 2 for p in pairs):
            raise ValueError
    except ValueError:
        raise WertisError(f'--{name} "{text}" is not a list of points; write "x,y x,y x,y x,y", in pixels.') from None
    found = np.array(pairs)
    if not np.all(np.isfinite(found)):
        raise WertisError(f"--{name} has a point that is not a finite number; give pixels.")
    return found


def frame_list(text: str | None, name: str) -> list[int]:
    """Frames of a list with commas; none when `text` is None.

    Raises
    ------
    WertisError
        When the text is something else.
    """
    try:
        return [int(part) for part in text.split(",")] if text else []
    except ValueError:
        raise WertisError(f"--{name} is '{text}'; give frame numbers with commas between them, such as 40,70.") from None


def begun(a: argparse.Namespace) -> tuple[wertis.Shot, int, int]:
    """A shot of the plate that is to be tracked, and the first and last frame asked for; its range also holds the frame that tracking starts from.

    Raises
    ------
    WertisError
        When the plate cannot be opened, or frames are none of it.
    """
    shot = wertis.open(a.plate, a.layer)
    if shot.plate.others_words:
        print(f"wertis: {shot.plate.others_words}", file=sys.stderr)
    first, last = frame_range(a.range_, shot.plate.first, shot.plate.last)
    shot.range = min(first, a.start), max(last, a.start)
    say_no_cuts(shot, a.no_cut)
    return shot, first, last


def say_no_cuts(shot: wertis.Shot, text: str | None) -> None:
    """Tell a shot at which frames, a list with commas, no other one begins.

    Raises
    ------
    WertisError
        When the text is something else, or a frame is none of the plate.
    """
    for frame in frame_list(text, "no-cut"):
        shot.set_no_cut(frame)


def frame_range(text: str | None, first: int, last: int) -> tuple[int, int]:
    """First and last frame from "FIRST-LAST", within what there is; everything when `text` is None.

    Raises
    ------
    WertisError
        When the text is something else, or the range is empty.
    """
    if text is None:
        return first, last
    head, dash, tail = text.partition("-")
    try:
        low, high = int(head), int(tail if dash else head)
    except ValueError:
        raise WertisError(f"--range {text} is not a range; write FIRST-LAST, such as {first}-{last}.") from None
    if low > high or high < first or low > last:
        raise WertisError(f"--range {text} holds no frame of the plate, which runs from {first} to {last}.")
    return max(low, first), min(high, last)


def hold_out(text: str) -> np.ndarray | str:
    """What a --holdout argument names: a polygon that stays in the picture, or a matte sequence."""
    if Path(text).exists() or "#" in text or "%" in text:
        return text
    return points(text, "holdout")


def folders_exist(*targets: str | None) -> None:
    """Raises WertisError where a file is to be written into a folder that does not exist."""
    for target in filter(None, targets):
        if not Path(target).absolute().parent.is_dir():
            raise WertisError(f"The folder {Path(target).absolute().parent} does not exist; make it, or write somewhere else.")


def refused(a: argparse.Namespace, options: Sequence[str], models: str) -> None:
    """Raises WertisError where an option was given that is for another kind of track."""
    for option in options:
        if getattr(a, option) is not None:
            raise WertisError(f"--{option} is for another kind of track; give --model {models} with it.")


def no_workers(a: argparse.Namespace, what: str) -> None:
    """Raises WertisError where processes are asked for by work that is not shared out."""
    if a.cluster or a.workers > 1:
        raise WertisError(f"--workers and --cluster share out {what} alone; leave them out here.")


def full_resolution(a: argparse.Namespace) -> None:
    """Raises WertisError where half the resolution is asked for of a kind of track that has none."""
    if a.half:
        raise WertisError(f"--half is for planes and meshes; --model {a.model} looks at the full resolution.")


@contextlib.contextmanager
def kept_or_temporary(folder: str | None) -> Iterator[Path]:
    """A folder by its name, or one that is gone afterwards."""
    if folder:
        yield Path(folder).absolute()
        return
    with tempfile.TemporaryDirectory(prefix="wertis-") as temporary:
        yield Path(temporary)
