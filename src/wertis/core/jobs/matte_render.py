"""Mattes rendered to picture sequences and movies: one by itself, or several with their parts as named channels of an EXR."""

import re
from collections.abc import Iterator, Sequence
from pathlib import Path

import numpy as np

from wertis.core.errors import DeliverError, RegionError
from wertis.core.exchange import pictures
from wertis.core.exchange.motion_fields import write_channels
from wertis.core.jobs.events import Counter, Event, Stop, stopped
from wertis.core.jobs.render import MOVIES, check_target, frame_path
from wertis.core.plate.base import from_float
from wertis.core.shot.document import Shot
from wertis.core.shot.matte_alpha import group_alpha, matte_alpha
from wertis.core.shot.matte_carry import carrier
from wertis.core.shot.mattes import Matte, matte_of

_KINDS = {8: np.uint8, 16: np.uint16}


def part_of(matte: Matte, name: str) -> str:
    """The id of a matte's shape or group of a name.

    Raises
    ------
    RegionError
        When there is none.
    """
    named = _parts(matte)
    found = next((ident for words, ident in named if words == name), None)
    if found is None:
        names = ", ".join(words for words, _ in named) or "none"
        raise RegionError(f"{matte.name} has no shape or group named {name}; it has: {names}.")
    return found


def _parts(matte: Matte) -> list[tuple[str, str]]:
    """The names and ids of a matte's groups and shapes."""
    return [(g.name, g.id) for g in matte.groups] + [(s.name, s.id) for s in matte.shapes]


def part_alpha(shot: Shot, matte: Matte, part: str, frame: float, size: tuple[int, int]) -> np.ndarray:
    """(h, w) float32: a matte's shape or group alone, by its id; the whole of it where that is empty."""
    if not part:
        return matte_alpha(shot, matte, frame, size)
    if matte.group(part) is not None:
        return group_alpha(shot, matte, part, frame, size)
    shape = matte.shape(part)
    alone = (shape.but(combine="add", group=""),) if shape is not None else ()
    return matte_alpha(shot, matte.but(shapes=alone, groups=(), source=None, invert=False, opacity=1.0), frame, size)


def channel_names(mattes: Sequence[Matte], parts: bool) -> list[tuple[str, Matte, str]]:
    """The channels of an EXR: for each its name, its matte, and the id of the part that it shows, empty for the whole.

    A matte is `Name.A`, and a part of it `Name.Part.A`, as layers are named by common practice; what a channel's name cannot hold becomes _.
    """
    found: list[tuple[str, Matte, str]] = []
    for matte in mattes:
        wanted = [("", "")] + ([(f".{words}", ident) for words, ident in _parts(matte)] if parts else [])
        for words, ident in wanted:
            name, taken = re.sub(r"[^\w.]", "_", f"{matte.name}{words}"), {n for n, _, _ in found}
            number = 2
            unique = name
            while f"{unique}.A" in taken:
                unique, number = f"{name}_{number}", number + 1
            found.append((f"{unique}.A", matte, ident))
    return found


def render_matte(shot: Shot, idents: Sequence[str], size: tuple[int, int], pattern: str, frames: Sequence[int], resume: bool = False,
                 stop: Stop | None = None, part: str = "", parts: bool = False, bits: int = 0) -> Iterator[Event]:
    """Write a matte as a picture sequence or a movie, white on what it covers; several of them, or their parts, as channels of an EXR sequence.

    Parameters
    ----------
    idents : ids of mattes.
    resume : frames of a sequence whose file is there are kept.
    part : id of a shape or group to be written alone.
    parts : write each shape and group as a channel as well.
    bits : 8 or 16 of a PNG or TIFF; 16 when 0. EXR has half floats.

    Raises
    ------
    DeliverError
        When a file cannot be written, or cannot hold what is wanted. Finished frames are kept.
    RegionError
        When a matte is gone.
    """
    check_target(pattern)
    suffix = Path(pattern).suffix.lower()
    mattes = [matte_of(shot, i) for i in idents]
    if not mattes:
        raise DeliverError("There is no matte to write; draw one first.")
    several = parts or len(mattes) > 1
    if several and suffix != ".exr":
        raise DeliverError("Several mattes, or parts of one, go out as channels of an EXR; end the name with .exr, or write one by itself.")
    if bits not in (0, 8, 16):
        raise DeliverError("A matte has 8 or 16 bits.")
    count = Counter(len(frames))
    known = {f: " and ".join(m.name for m in mattes if carrier(shot, m, f) is None) for f in frames}
    notes = {f: f"the track of {names} has no answer there; it is empty" if names else "" for f, names in known.items()}
    if suffix in MOVIES:
        yield from _movie(shot, mattes[0], part, size, Path(pattern), frames, count, notes, stop)
        return
    kind = np.float16 if suffix == ".exr" else np.uint8 if suffix in (".jpg", ".jpeg") else _KINDS[bits or 16]
    for frame in frames:
        if stopped(stop):
            return
        path = frame_path(pattern, frame)
        if not (resume and path.is_file()):
            if several:
                channels = {name: part_alpha(shot, m, ident, frame, size) for name, m, ident in channel_names(mattes, parts)}
                write_channels(path, (0, 0, *size), size, channels, halves=tuple(channels))
            else:
                alpha = part_alpha(shot, mattes[0], part, frame, size)[..., None]
                pictures.write_picture(path, from_float(alpha, kind).repeat(3, 2))
        yield count.event(frame, note=notes[frame])


def _movie(shot: Shot, matte: Matte, part: str, size: tuple[int, int], path: Path, frames: Sequence[int], count: Counter, notes: dict[int, str],
           stop: Stop | None) -> Iterator[Event]:
    from wertis.core.exchange.movie_writer import MovieWriter

    if shot.plate is None:
        raise RegionError("The shot has no plate that says how fast a movie plays; open one first.")
    with MovieWriter(path, size, shot.plate.fps, shot.plate.aspect) as movie:
        for frame in frames:
            if stopped(stop):
                movie.abandon()
                return
            movie.add(from_float(part_alpha(shot, matte, part, frame, size)[..., None], np.uint8).repeat(3, 2))
            yield count.event(frame, note=notes[frame])
