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
from wertis.core.geometry.motion import Fix
from wertis.core.plate.base import Plate
from wertis.core.shot import regions
from wertis.core.shot.document import Repair, RepairKey, Shot, Track
from wertis.core.shot.edits import merge_solved, track_of
from wertis.core.shot.hold_outs import held_masks
from wertis.core.track.run import track_plane

_SAME = 1e-6  # pixels within which a frame counts as not repaired


@dataclass(frozen=True)
class Stretch:
    """Frames between two that hold, `begin` and `end`; None at an end where there is none."""

    begin: int | None
    end: int | None
    frames: range


def out_of_date(track: Track, span: tuple[int, int]) -> list[Stretch]:
    """The stretches next to a frame whose repair moves it, which tracking again would compute, within the frames `span`."""
    if track.solved is None or not track.repair.enabled:
        return []
    reference = track.solved.reference
    anchors = sorted({reference, *track.repair.frames(reference)})
    moved = {f for f in anchors if _moved(track, f)}
    if not moved:
        return []
    low, high = max(span[0], int(track.solved.frames[0])), min(span[1], int(track.solved.frames[-1]))
    found = []
    for a, b in zip([None, *anchors], [*anchors, None], strict=True):
        if a in moved or b in moved:
            frames = range(low if a is None else a + 1, (high if b is None else b - 1) + 1)
            if len(frames):
                found.append(Stretch(a, b, frames))
    return found


def track_again(shot: Shot, track_id: str, plate: Plate, read: Callable[[int], np.ndarray] | None = None,
                stop: threading.Event | None = None) -> Iterator[tuple[int, Shot | None]]:
    """Track the stretches that are out of date again; yields each frame tracked, and the new shot last.

    When stopped before the end there is no new shot: half a stretch would jump.

    Raises
    ------
    WertisError
        When nothing is out of date, or a repaired frame cannot serve as a reference.
    """
    track = track_of(shot, track_id)
    stretches = out_of_date(track, shot.range)
    motion, solved = track.repaired, track.solved
    if motion is None or solved is None or not stretches:
        raise WertisError(f"Nothing of {track.name} is out of date; move a repair point on a frame first, then track again from there.")
    box = track.region.box
    found: dict[int, Fix] = {}
    for stretch in stretches:
        sides: list[dict[int, Fix]] = []
        for anchor, frames in ((stretch.begin, stretch.frames), (stretch.end, stretch.frames[::-1])):
            answers: dict[int, Fix] = {}
            if anchor is not None:
                for frame, fix in _from(shot, track, plate, anchor, frames, read, stop):
                    first = frame not in answers  # a frame may be answered a second time, better
                    answers[frame] = fix
                    if first:
                        yield frame, None
            sides.append(answers)
            if stop is not None and stop.is_set():
                return
        for frame in stretch.frames:
            blended = _blended(sides[0].get(frame), sides[1].get(frame), stretch, frame, box)
            kept = motion.plane_at(frame)
            found[frame] = blended if blended is not None else Fix(kept, reason="" if kept is not None else "not found from either end")
    for frame in {a for s in stretches for a in (s.begin, s.end) if a is not None}:
        found[frame] = Fix(motion.plane_at(frame), 0.0, 1.0)
    yield stretches[-1].frames[-1], shot.with_track(track.but(again=merge_solved(track.again, solved.reference, found),
                                                                 repair=_emptied(track)))


def _from(shot: Shot, track: Track, plate: Plate, anchor: int, frames: range, read: Callable[[int], np.ndarray] | None,
          stop: threading.Event | None) -> Iterator[tuple[int, Fix]]:
    """Answers (reference to frame) by tracking from a repaired frame's own picture."""
    plane = track.repaired.plane_at(anchor) if track.repaired is not None else None
    if plane is None:
        raise WertisError(f"{track.name} has no answer on frame {anchor}; clear the key there, or track it first.")
    mask = regions.mask_of(track.region, plate.size, plane)
    ys, xs = np.nonzero(mask)
    if len(ys) < 100:
        raise WertisError(f"The surface is outside the picture on frame {anchor}; clear the key there and repair a frame that shows it.")
    outline = np.array([[xs.min(), ys.min()], [xs.max() + 1, ys.min()], [xs.max() + 1, ys.max() + 1], [xs.min(), ys.max() + 1]], np.float64)
    for frame, fix in track_plane(plate, outline, anchor, frames, track.kind, read=read, stop=stop, held=held_masks(shot, track, plate.size),
                                  look=track.look, half=track.half, mask=mask):
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


def _moved(track: Track, frame: int) -> bool:
    beneath, repaired = track.beneath, track.repaired
    a = beneath.plane_at(frame) if beneath is not None else None
    b = repaired.plane_at(frame) if repaired is not None else None
    if a is None or b is None or a is b:
        return False
    box = track.region.box
    return bool(np.abs(homography.apply(a, box) - homography.apply(b, box)).max() > _SAME)


def _emptied(track: Track) -> Repair:
    """The repairs with every key at nothing: the motion beneath passes through what they held."""
    reference = track.solved.reference if track.solved is not None else track.region.frame
    points = tuple(p.but(under=(), keys={f: RepairKey(value=(0.0, 0.0)) for f in p.keys if f != reference}) for p in track.repair.points)
    return track.repair.but(points=points)
