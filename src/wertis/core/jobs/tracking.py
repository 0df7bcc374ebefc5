"""Tracking a shot's region: what the window, the command line and scripts share.

A kind of track registers its tracker by the record of its settings.
"""

from collections.abc import Callable, Iterable, Iterator
from typing import Any

import numpy as np

from wertis.core.errors import RegionError
from wertis.core.geometry.motion import Fix, nearest_frame
from wertis.core.jobs.events import Counter, Event, Stop, stopped, told
from wertis.core.plate.base import Plate, Reader
from wertis.core.plate.cuts import shot_around
from wertis.core.shot import regions
from wertis.core.shot.document import PlaneSettings, PlaneSolution, Shot, Track, TrackSettings
from wertis.core.shot.edits import set_tracked, unlocked
from wertis.core.shot.hold_outs import held_masks
from wertis.core.shot.resolve import tracked_motion
from wertis.core.track.run import track_plane

DIRECTIONS = ("forward", "backward", "both", "next", "previous")

Tracker = Callable[[Shot, Track, Plate, list[range], Reader | None, Stop | None], Iterator[tuple[int, Any]]]
"""Yields frames and their answers over runs of frames that lead away from what is known; a frame may come again, better."""
Keep = Callable[[Shot, str, dict[int, Any]], Shot]
"""Puts such answers into the shot."""

_trackers: dict[type[TrackSettings], tuple[Tracker, Keep]] = {}


def register_tracker(settings: type[TrackSettings], tracker: Tracker, keep: Keep) -> None:
    """Say what tracks a kind of track, and how its answers are kept."""
    _trackers[settings] = tracker, keep


def runs_from(shot: Shot, track: Track, frame: int, direction: str) -> list[range]:
    """Runs of frames that tracking in a direction goes through, within the shot's range and no further than the next cut.

    Raises
    ------
    RegionError
        When tracking cannot begin there; the message says where it can.
    """
    if direction not in DIRECTIONS:
        raise RegionError(f"'{direction}' is not a direction to track in; choose one of {', '.join(DIRECTIONS)}.")
    low, high = shot.range
    if shot.plate is not None and shot.plate.cuts:
        begin, end = shot_around(shot.plate.cuts, track.region.frame, shot.plate.first, shot.plate.last)
        low, high = max(low, begin), min(high, end)
    motion = tracked_motion(track) if track.solution is not None and track.solution.reference == track.region.frame else None
    known = frame == track.region.frame or (motion is not None and motion.at(frame) is not None)
    if not known:
        near = nearest_frame(motion, frame) if motion is not None else track.region.frame
        raise RegionError(f"{track.name} has no answer on frame {frame} to go on from; go to frame {near} and track from there.")
    runs = {"forward": [range(frame + 1, high + 1)], "backward": [range(frame - 1, low - 1, -1)],
            "both": [range(frame + 1, high + 1), range(frame - 1, low - 1, -1)],
            "next": [range(frame + 1, min(frame + 1, high) + 1)], "previous": [range(frame - 1, max(frame - 1, low) - 1, -1)]}[direction]
    runs = [r for r in runs if len(r)]
    if not runs:
        raise RegionError(f"Frame {frame} is at the end of the range {low} to {high}; there is nothing to track in that direction.")
    return runs


def track_shot(shot: Shot, track_id: str, plate: Plate, runs: list[range], read: Reader | None = None, stop: Stop | None = None) -> Iterator[Event]:
    """Track a region through runs of frames; each event's item is the frame's answer, which may come a second time, better.

    Raises
    ------
    RegionError
        When the region cannot be tracked, or the track is locked.
    PlateError
        When the reference frame cannot be read.
    """
    track = unlocked(shot, track_id)
    count = Counter(sum(len(r) for r in runs))
    tracker, _ = _trackers[type(track.settings)]
    for frame, fix in tracker(shot, track, plate, runs, read, stop):
        yield count.event(frame, fix)


def kept(shot: Shot, track_id: str, answers: dict[int, Any]) -> Shot:
    """The shot with a tracker's answers in it."""
    return _trackers[type(unlocked(shot, track_id).settings)][1](shot, track_id, answers)


def _plane(shot: Shot, track: Track, plate: Plate, runs: list[range], read: Reader | None, stop: Stop | None) -> Iterator[tuple[int, Fix]]:
    settings = track.settings
    assert isinstance(settings, PlaneSettings)
    reference = track.region.frame
    solution = track.solution if isinstance(track.solution, PlaneSolution) and track.solution.reference == reference else None
    known = {reference: np.eye(3), **(solution.by_frame() if solution is not None else {})}
    mask, held = regions.mask_of(track.region, plate.size), held_masks(shot, track, plate.size)
    for frames in runs:
        if stopped(stop):
            return
        for frame, fix in track_plane(plate, track.region.box, reference, frames, settings.model, read=read, stop=stop, known=known,
                                      held=held, look=settings.look, half=settings.half, mask=mask):
            if fix.matrix is not None and abs(frame - reference) == 1:
                known[frame] = fix.matrix
            yield frame, fix


def tracked(shot: Shot, track_id: str, plate: Plate, frames: Iterable[range], read: Reader | None = None, stop: Stop | None = None,
            progress: Callable[[Event], object] | None = None) -> Shot:
    """The shot with a region tracked through runs of frames, all at once."""
    answers: dict[int, Any] = {}
    for event in told(track_shot(shot, track_id, plate, list(frames), read, stop), progress):
        assert event.frame is not None
        answers[event.frame] = event.item
    return kept(shot, track_id, answers)


register_tracker(PlaneSettings, _plane, set_tracked)
