"""Repair by itself: keys where a track drifts most, until the drift is under a level or nothing can be gained."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np

from wertis.core.check.slip import Slip
from wertis.core.check.summary import Summary, summary
from wertis.core.errors import WertisError
from wertis.core.jobs.check import check_track, corners_of
from wertis.core.jobs.events import Counter, Event, Stop, stopped
from wertis.core.plate.base import Plate
from wertis.core.shot import repairs
from wertis.core.shot.document import RepairLayer, Shot, Solution, Track
from wertis.core.shot.edits import carry, track_of

_AIM = 0.85  # part of the level that is aimed at, so that what is measured afterwards stays under it
_GAIN = 0.03  # part of the worst drift that a key must take away to be worth it
_MOST = 40  # keys
_MOVED = 0.02  # pixels by which keys must move a place of a frame for it to be measured again


TargetOn = Callable[[int], "np.ndarray | None"]
"""Where places (N, 2) belong on a frame, nan where that was not measured; None for a frame that was not."""


class Repairs(Protocol):
    """What repairing by itself sets keys on: repair points, or a mesh's vertices.

    Attributes
    ----------
    every : whether a frame can only be keyed where all of its places were measured.
    rounds : how often it may measure and set keys.
    """

    @property
    def every(self) -> bool: ...

    @property
    def rounds(self) -> int: ...

    def at(self, track: Track) -> np.ndarray | None:
        """(N, 2) the places on the region's frame at which the drift is measured; None for where it is stated anyhow."""

    def on(self, track: Track, frame: int) -> np.ndarray | None:
        """(N, 2) where the places are on a frame, repairs and all."""

    def keyed(self, shot: Shot, track_id: str, frame: int, target: TargetOn, over: np.ndarray) -> Shot:
        """The shot with keys on a frame that put places where they belong, at least those that are `over` (N,) the level."""

    def cleared(self, shot: Shot, track_id: str, frame: int) -> Shot:
        """The shot without the keys of a frame."""


class PointRepairs:
    """Repairing by repair points, all of which are keyed together."""

    every, rounds = True, 1

    def at(self, track: Track) -> np.ndarray | None:
        return np.array([p.place for p in track.layer(RepairLayer).points])

    def on(self, track: Track, frame: int) -> np.ndarray | None:
        return repairs.points_on(track, frame)

    def keyed(self, shot: Shot, track_id: str, frame: int, target: TargetOn, over: np.ndarray) -> Shot:
        targets = target(frame)
        assert targets is not None
        points = track_of(shot, track_id).layer(RepairLayer).points
        return repairs.move_points(shot, track_id, frame, {p.id: at for p, at in zip(points, targets, strict=True)})

    def cleared(self, shot: Shot, track_id: str, frame: int) -> Shot:
        return repairs.clear_keys(shot, track_id, frame)


_kinds: dict[type[Solution], Repairs] = {}


def register_repairs(kind: type[Solution], how: Repairs) -> None:
    """Say what a kind of solution is repaired by; others are by repair points."""
    _kinds[kind] = how


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

    The slip of the repair points, or of a mesh's vertices, is measured on every frame. What a key changes is known from the motion, so that only what all
    keys together have moved is measured again.
    Stopped before its end it gives no outcome, and nothing is changed.

    Raises
    ------
    WertisError
        When the track has no motion.
    """
    solution = track_of(shot, track_id).solution
    how = _kinds.get(type(solution)) if solution is not None else None
    if how is None:
        shot, how = with_points(shot, track_id, placement_id), PointRepairs()
    low, high = shot.range
    frames = range(low, high + 1)
    count = Counter((1 + how.rounds) * len(frames))
    drift: dict[int, Slip] = {}
    for event in _measured(how, shot, track_id, plate, frames, read, stop):
        assert event.frame is not None
        drift[event.frame] = event.item
        yield count.event(event.frame, note=f"measuring frame {event.frame}")
    if stopped(stop):
        return
    before = summary(drift)
    outcome = Outcome(shot, before, before)
    for turn in range(how.rounds):
        started, kept = outcome.shot, list(outcome.frames)
        for frame in _with_keys(how, outcome, drift, track_id, limit):
            yield count.remark(frame, note=f"setting keys on frame {frame}")
        if outcome.shot is started:
            break
        moved = [f for f in frames if how.every or _is_moved(how, track_of(started, track_id), track_of(outcome.shot, track_id), f)]
        after = dict(drift)
        for event in _measured(how, outcome.shot, track_id, plate, moved, read, stop):
            assert event.frame is not None
            after[event.frame] = event.item
            yield count.event(event.frame, note=f"measuring frame {event.frame} again", of=(turn, event.frame))
        if stopped(stop):
            return
        if turn and summary(after).worst > outcome.after.worst:  # a further round that makes it worse does not stand
            outcome.shot, outcome.frames = started, kept
            break
        outcome.after, drift = summary(after), after
        if outcome.after.worst <= limit:
            break
    yield Event(None, count.total, count.total, outcome, "done")


def _with_keys(how: Repairs, outcome: Outcome, drift: Mapping[int, Slip], track_id: str, limit: float) -> Iterator[int]:
    """Set keys in the outcome by what was measured of its shot's drift; yields the frame of each."""
    started, had = outcome.shot, list(outcome.frames)
    home = track_of(started, track_id).region.frame
    enough = np.all if how.every else np.any
    outcome.left = {f: s.reason or "not every repair point could be measured" for f, s in drift.items() if not enough(np.isfinite(s.slip))}
    slips = {f: s.slip for f, s in drift.items() if f not in outcome.left and f != home}

    def target(frame: int) -> np.ndarray | None:
        there = how.on(track_of(started, track_id), frame)
        return there + slips[frame] if there is not None and frame in slips else None

    new: list[int] = []
    gone: set[int] = set()
    keys = 0
    best = (np.inf, np.inf, started, new)
    if slips:
        as_it_is = _away(how, started, started, track_id, slips)
        best = (_worst(as_it_is), _total(as_it_is), started, list(new))
    while slips and keys < _MOST:
        away = _away(how, started, outcome.shot, track_id, slips)
        frame = max((f for f in away if f not in gone), key=lambda f: float(np.nanmax(away[f])), default=None)
        if frame is None or np.nanmax(away[frame]) < _AIM * limit or (how.every and frame in new):
            break
        tried = how.keyed(outcome.shot, track_id, frame, target, np.nan_to_num(away[frame]) > _AIM * limit)
        after = _away(how, started, tried, track_id, slips)
        worst, left = _worst(away), _worst(after)
        if how.every:
            in_vain = _total(after) > (1 - _GAIN) * _total(away) and left > (1 - _GAIN) * worst
        else:
            in_vain = np.nanmax(after[frame]) > (1 - _GAIN) * np.nanmax(away[frame])
        if in_vain and how.every:
            outcome.left[frame] = "a key there makes other frames worse by as much"
            break
        if in_vain:
            gone.add(frame)  # of a mesh other frames may still gain
            continue
        outcome.shot = tried
        keys += 1
        if frame not in new:
            new.append(frame)
        if (left, _total(after)) < best[:2]:
            best = left, _total(after), tried, list(new)
        yield frame
    if not how.every:  # a peg may make frames worse until they are pegged, too
        outcome.shot, new = best[2:]
    outcome.shot, new = _pruned(how, started, outcome.shot, new, track_id, slips, limit)
    outcome.frames = had + [f for f in new if f not in had]


def _is_moved(how: Repairs, old: Track, new: Track, frame: int) -> bool:
    a, b = how.on(old, frame), how.on(new, frame)
    return a is not None and b is not None and bool(np.abs(b - a).max() > _MOVED)


def _measured(how: Repairs, shot: Shot, track_id: str, plate: Plate, frames: Sequence[int], read: Callable[[int], np.ndarray] | None,
              stop: Stop | None) -> Iterator[Event]:
    track = track_of(shot, track_id)
    return check_track(shot, track, plate, frames, read, at=how.at(track), stop=stop)


def _away(how: Repairs, started: Shot, shot: Shot, track_id: str, slips: Mapping[int, np.ndarray]) -> dict[int, np.ndarray]:
    """Each frame's drift (N,) after the keys of `shot`, known from what was measured before them; nan where it was not."""
    old, new = track_of(started, track_id), track_of(shot, track_id)
    return {f: np.linalg.norm(slip - _moved(how, old, new, f), axis=1) for f, slip in slips.items()}


def _total(away: Mapping[int, np.ndarray]) -> float:
    return sum(float(np.nanmax(v)) for v in away.values())


def _worst(away: Mapping[int, np.ndarray]) -> float:
    return max(float(np.nanmax(v)) for v in away.values())


def _moved(how: Repairs, old: Track, new: Track, frame: int) -> np.ndarray:
    a, b = how.on(old, frame), how.on(new, frame)
    assert a is not None and b is not None
    return b - a


def _pruned(how: Repairs, started: Shot, shot: Shot, frames: list[int], track_id: str, slips: Mapping[int, np.ndarray],
            limit: float) -> tuple[Shot, list[int]]:
    """The shot less the keys on some of `frames` that it can do without, and the frames left."""
    kept = list(frames)
    if not kept:
        return shot, kept
    most = max(_AIM * limit, _worst(_away(how, started, shot, track_id, slips)))
    for frame in list(kept):
        tried = how.cleared(shot, track_id, frame)
        if len(kept) > 1 and _worst(_away(how, started, tried, track_id, slips)) <= most:
            shot = tried
            kept.remove(frame)
    return shot, kept
