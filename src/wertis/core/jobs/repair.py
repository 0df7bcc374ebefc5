"""Repair by itself: keys where a track drifts most, until the drift is under a level or nothing can be gained."""

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field

import numpy as np

from wertis.core.check.slip import Slip
from wertis.core.check.summary import Summary, summary
from wertis.core.errors import WertisError
from wertis.core.jobs.check import check_track, corners_of
from wertis.core.jobs.events import Counter, Event, Stop, stopped
from wertis.core.plate.base import Plate
from wertis.core.shot import repairs
from wertis.core.shot.document import RepairLayer, Shot, Track
from wertis.core.shot.edits import carry, track_of

_AIM = 0.85  # part of the level that is aimed at, so that what is measured afterwards stays under it
_GAIN = 0.03  # part of the worst drift that a key must take away to be worth it
_MOST = 40  # keys


@dataclass
class Outcome:
    """What was done.

    Attributes
    ----------
    shot : with the keys set.
    frames : frames on which keys were set, in the order in which they were chosen.
    before, after : the drift, measured.
    left : frames that were not touched although they may drift, and why.
    """

    shot: Shot
    before: Summary
    after: Summary
    frames: list[int] = field(default_factory=list)
    left: dict[int, str] = field(default_factory=dict)


def with_points(shot: Shot, track_id: str, placement_id: str = "") -> Shot:
    """The shot with repair points at a track's corners, if the track has no repair points yet."""
    track = track_of(shot, track_id)
    if track.layer(RepairLayer).points:
        return shot
    points, home, _ = corners_of(shot, track, placement_id)
    there = carry(track, points, home, track.region.frame)
    if there is None:
        raise WertisError(f"{track.name} has no answer on frame {home}; track it first.")
    for place in there:
        shot = repairs.add_point(shot, track_id, place, track.region.frame)
    return shot


def repair_by_itself(shot: Shot, track_id: str, plate: Plate, limit: float, read: Callable[[int], np.ndarray] | None = None,
                     placement_id: str = "", stop: Stop | None = None) -> Iterator[Event]:
    """Set keys, worst frame first; an event's note says what is being done, and the last one's item is the `Outcome`.

    The slip of the repair points is measured once on every frame. What a key changes is known from the motion, so that only the end is measured again.
    Stopped before its end it gives no outcome, and nothing is changed.

    Raises
    ------
    WertisError
        When the track has no motion.
    """
    shot = with_points(shot, track_id, placement_id)
    low, high = shot.range
    frames = range(low, high + 1)
    count = Counter(2 * len(frames))
    drift: dict[int, Slip] = {}
    for event in _measured(shot, track_id, plate, frames, read, stop):
        assert event.frame is not None
        drift[event.frame] = event.item
        yield count.event(event.frame, note=f"measuring frame {event.frame}")
    if stopped(stop):
        return
    before = summary(drift)
    outcome = Outcome(shot, before, before)
    home = track_of(shot, track_id).region.frame
    outcome.left = {f: s.reason or "not every repair point could be measured" for f, s in drift.items() if not np.isfinite(s.slip).all()}
    slips = {f: s.slip for f, s in drift.items() if f not in outcome.left and f != home}
    started = shot
    while slips and len(outcome.frames) < _MOST:
        away = _away(started, outcome.shot, track_id, slips)
        frame = max(away, key=lambda f: away[f])
        if away[frame] < _AIM * limit or frame in outcome.frames:
            break
        track = track_of(outcome.shot, track_id)
        there = repairs.points_on(track_of(started, track_id), frame)
        assert there is not None
        targets = {p.id: there[k] + slips[frame][k] for k, p in enumerate(track.layer(RepairLayer).points)}
        tried = repairs.move_points(outcome.shot, track_id, frame, targets)
        after = _away(started, tried, track_id, slips)
        if sum(after.values()) > (1 - _GAIN) * sum(away.values()) and max(after.values()) > (1 - _GAIN) * away[frame]:
            outcome.left[frame] = "a key there makes other frames worse by as much"
            break
        outcome.shot = tried
        outcome.frames.append(frame)
        yield count.remark(frame, note=f"setting keys on frame {frame}")
    outcome.shot, outcome.frames = _pruned(started, outcome, track_id, slips, limit)
    if outcome.frames:
        after_keys: dict[int, Slip] = {}
        for event in _measured(outcome.shot, track_id, plate, frames, read, stop):
            assert event.frame is not None
            after_keys[event.frame] = event.item
            yield count.event(event.frame, note=f"measuring frame {event.frame} again", of=("again", event.frame))
        if stopped(stop):
            return
        outcome.after = summary(after_keys)
    yield Event(None, count.total, count.total, outcome, "done")


def _measured(shot: Shot, track_id: str, plate: Plate, frames: range, read: Callable[[int], np.ndarray] | None, stop: Stop | None) -> Iterator[Event]:
    track = track_of(shot, track_id)
    return check_track(shot, track, plate, frames, read, at=np.array([p.place for p in track.layer(RepairLayer).points]), stop=stop)


def _away(started: Shot, shot: Shot, track_id: str, slips: Mapping[int, np.ndarray]) -> dict[int, float]:
    """Each frame's worst drift after the keys of `shot`, known from what was measured before them."""
    old, new = track_of(started, track_id), track_of(shot, track_id)
    return {f: float(np.linalg.norm(slip - _moved(old, new, f), axis=1).max()) for f, slip in slips.items()}


def _moved(old: Track, new: Track, frame: int) -> np.ndarray:
    a, b = repairs.points_on(old, frame), repairs.points_on(new, frame)
    assert a is not None and b is not None
    return b - a


def _pruned(started: Shot, outcome: Outcome, track_id: str, slips: Mapping[int, np.ndarray], limit: float) -> tuple[Shot, list[int]]:
    """The outcome's shot less the keys that it can do without."""
    shot, kept = outcome.shot, list(outcome.frames)
    if not kept:
        return shot, kept
    most = max(_AIM * limit, max(_away(started, shot, track_id, slips).values()))
    for frame in list(kept):
        tried = repairs.clear_keys(shot, track_id, frame)
        if len(kept) > 1 and max(_away(started, tried, track_id, slips).values()) <= most:
            shot = tried
            kept.remove(frame)
    return shot, kept
