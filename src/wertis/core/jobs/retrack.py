"""Tracking again from repaired frames: each is one more reference, and the track between two of them is made to pass through both.

From both ends of a stretch the surface is tracked against the picture of that end; on each frame the two answers are blended, by how near the
ends are. Afterwards the repairs at the ends are nothing more, since the motion beneath passes through them.
"""

import threading
from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from wertis.core.errors import WertisError
from wertis.core.geometry import homography
from wertis.core.geometry.motion import Fix, Motion
from wertis.core.geometry.warp import HomographyWarp
from wertis.core.jobs.events import Counter, Event, Stop, stopped
from wertis.core.jobs.tracking import Reader
from wertis.core.plate.base import Plate
from wertis.core.shot import regions
from wertis.core.shot.document import PlaneSolution, RepairLayer, RetrackedLayer, Shot, Solution, Track
from wertis.core.shot.edits import merged, plane_settings, unlocked
from wertis.core.shot.hold_outs import held_masks
from wertis.core.shot.keys import KeyRecord
from wertis.core.shot.resolve import motion_below, motion_through
from wertis.core.track.run import track_plane

_SAME = 1e-6  # pixels within which a frame counts as not repaired


@dataclass(frozen=True)
class Stretch:
    """Frames between two that hold, `begin` and `end`; None at an end where there is none."""

    begin: int | None
    end: int | None
    frames: range


OutOfDate = Callable[[Track, tuple[int, int]], list[Stretch]]
Again = Callable[[Shot, str, Plate, Reader | None, Stop | None], Iterator[Event]]

_kinds: dict[type[Solution], tuple[OutOfDate, Again]] = {}


def register_retrack(kind: type[Solution], stretches: OutOfDate, again: Again) -> None:
    """Say which stretches of a kind of solution are out of date, and how they are tracked again."""
    _kinds[kind] = stretches, again


def out_of_date(track: Track, span: tuple[int, int]) -> list[Stretch]:
    """The stretches next to a frame whose repair moves it, which tracking again would compute, within the frames `span`."""
    found = _kinds.get(type(track.solution)) if track.solution is not None else None
    return found[0](track, span) if found is not None else []


def retrack(shot: Shot, track_id: str, plate: Plate, read: Reader | None = None, stop: Stop | None = None) -> Iterator[Event]:
    """Track the stretches that are out of date again; an event for each frame tracked, and the last one's item is the new shot.

    When stopped before the end there is no new shot: half a stretch would jump.

    Raises
    ------
    WertisError
        When nothing is out of date, or a repaired frame cannot serve as a reference.
    """
    track = unlocked(shot, track_id)
    if track.solution is None or not out_of_date(track, shot.range):
        raise WertisError(f"Nothing of {track.name} is out of date; move a repair point or a vertex on a frame first, then track again from there.")
    yield from _kinds[type(track.solution)][1](shot, track_id, plate, read, stop)


def _plane_out_of_date(track: Track, span: tuple[int, int]) -> list[Stretch]:
    layer, solution = track.layer(RepairLayer), track.solution
    if not isinstance(solution, PlaneSolution) or not layer.enabled:
        return []
    reference = solution.reference
    anchors = sorted({reference, *layer.frames(reference)})
    moved = {f for f in anchors if _moved(track, f)}
    if not moved:
        return []
    low, high = max(span[0], int(solution.frames[0])), min(span[1], int(solution.frames[-1]))
    found = []
    for a, b in zip([None, *anchors], [*anchors, None], strict=True):
        if a in moved or b in moved:
            frames = range(low if a is None else a + 1, (high if b is None else b - 1) + 1)
            if len(frames):
                found.append(Stretch(a, b, frames))
    return found


def _retrack_plane(shot: Shot, track_id: str, plate: Plate, read: Reader | None, stop: Stop | None) -> Iterator[Event]:
    track = unlocked(shot, track_id)
    stretches = _plane_out_of_date(track, shot.range)
    motion, solution = motion_through(track, RepairLayer), track.solution
    assert motion is not None and solution is not None
    count = Counter(steps_of(stretches))
    box = track.region.box
    found: dict[int, Fix] = {}
    for stretch in stretches:
        sides: list[dict[int, Fix]] = []
        for anchor, frames in ((stretch.begin, stretch.frames), (stretch.end, stretch.frames[::-1])):
            answers: dict[int, Fix] = {}
            if anchor is not None:
                for frame, fix in _from(shot, track, motion, plate, anchor, frames, read, stop):
                    answers[frame] = fix
                    yield count.event(frame, note=f"frame {frame}", of=(anchor, frame))
            sides.append(answers)
            if stopped(stop):
                return
        for frame in stretch.frames:
            blended = _blended(sides[0].get(frame), sides[1].get(frame), stretch, frame, box)
            kept = _plane_at(motion, frame)
            found[frame] = blended if blended is not None else Fix(kept, reason="" if kept is not None else "not found from either end")
    for frame in {a for s in stretches for a in (s.begin, s.end) if a is not None}:
        found[frame] = Fix(_plane_at(motion, frame), 0.0, 1.0)
    layer = track.layer(RetrackedLayer)
    changed = track.with_layer(layer.but(enabled=True, solution=merged(layer.solution, solution.reference, found))).with_layer(_emptied(track))
    yield Event(None, count.total, count.total, shot.with_track(changed))


def steps_of(stretches: list[Stretch]) -> int:
    """How many frames tracking stretches again goes through."""
    return sum(len(s.frames) * ((s.begin is not None) + (s.end is not None)) for s in stretches)


def _from(shot: Shot, track: Track, motion: Motion, plate: Plate, anchor: int, frames: range, read: Callable[[int], np.ndarray] | None,
          stop: threading.Event | None) -> Iterator[tuple[int, Fix]]:
    """Answers (reference to frame) by tracking from a repaired frame's own picture."""
    plane = _plane_at(motion, anchor)
    if plane is None:
        raise WertisError(f"{track.name} has no answer on frame {anchor}; clear the key there, or track it first.")
    mask = regions.mask_of(track.region, plate.size, HomographyWarp(plane))
    settings = plane_settings(track)
    ys, xs = np.nonzero(mask)
    if len(ys) < 100:
        raise WertisError(f"The surface is outside the picture on frame {anchor}; clear the key there and repair a frame that shows it.")
    outline = np.array([[xs.min(), ys.min()], [xs.max() + 1, ys.min()], [xs.max() + 1, ys.max() + 1], [xs.min(), ys.max() + 1]], np.float64)
    for frame, fix in track_plane(plate, outline, anchor, frames, settings.model, read=read, stop=stop, held=held_masks(shot, track, plate.size),
                                  look=settings.look, half=settings.half, mask=mask):
        onto = None if fix.matrix is None else homography.normalised(fix.matrix @ plane)
        yield frame, Fix(onto, fix.error, fix.seen, fix.reason)


def _blended(a: Fix | None, b: Fix | None, stretch: Stretch, frame: int, box: np.ndarray) -> Fix | None:
    """One answer from those of the two ends, the nearer one counting more."""
    if a is None or a.matrix is None or stretch.begin is None:
        return b if b is not None and b.matrix is not None else None
    if b is None or b.matrix is None or stretch.end is None:
        return a
    part = (frame - stretch.begin) / (stretch.end - stretch.begin)
    places = (1 - part) * homography.apply(a.matrix, box) + part * homography.apply(b.matrix, box)
    return Fix(homography.from_points(box, places), float(np.hypot((1 - part) * a.error, part * b.error)), max(a.seen, b.seen))


def _plane_at(motion: Motion, frame: int) -> np.ndarray | None:
    """The homography (3, 3) reference to frame of a planar track's motion; None where it is unknown."""
    warp = motion.at(frame)
    return warp.matrix if warp is not None else None


def _moved(track: Track, frame: int) -> bool:
    beneath, repaired = motion_below(track, RepairLayer), motion_through(track, RepairLayer)
    if beneath is None or repaired is None or beneath is repaired:
        return False
    a, b = beneath.at(frame), repaired.at(frame)
    if a is None or b is None:
        return False
    box = track.region.box
    return bool(np.abs(a.forward(box) - b.forward(box)).max() > _SAME)


def _emptied(track: Track) -> RepairLayer:
    """The repairs with every key at nothing: the motion beneath passes through what they held."""
    layer = track.layer(RepairLayer)
    nothing = KeyRecord(value=(0.0, 0.0))
    points = tuple(p.but(base=-1, keys={f: nothing for f in p.keys if f != track.reference}) for p in layer.points)
    return layer.but(points=points, snapshots=())


register_retrack(PlaneSolution, _plane_out_of_date, _retrack_plane)
