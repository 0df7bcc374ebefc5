"""Tracking a shot's dense motion: computed once, kept in a folder, and made anew only where something changed."""

import hashlib
import shutil
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from itertools import chain, groupby
from pathlib import Path

import numpy as np
import platformdirs

from wertis.core.errors import DeliverError, RegionError
from wertis.core.geometry.mesh import Mesh, usual_spacing
from wertis.core.imaging.channel_mixture import channel_mixture
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.jobs.events import Stop, stopped
from wertis.core.jobs.tracking import Reader, register_tracker
from wertis.core.plate.base import Plate
from wertis.core.shot.dense import DenseSettings, dense_settings, set_dense_tracked, spread_points, wanted_mask
from wertis.core.shot.document import Shot, Track
from wertis.core.shot.hold_outs import held_masks
from wertis.core.track.dense import DenseFix, DenseTracker
from wertis.core.track.feeding import fed
from wertis.core.track.mesh.run import SURFACE_STEP
from wertis.core.track.motion_store import KeptField, MotionFolder, expected_bytes, frame_key, loaded
from wertis.core.track.tracker_input import looked_at

_WRITERS = 2  # threads that write the steps between neighbours
_VERSION = 5  # of how fields are computed: files of another one are computed anew


def motion_folder(track: Track) -> Path:
    """Where a track's dense motion is kept: where its settings say, or in the user's cache."""
    settings = dense_settings(track)
    if settings.folder:
        return Path(settings.folder)
    return Path(platformdirs.user_cache_dir("wertis", appauthor=False)) / "motion" / track.id


def expected_size(track: Track, plate: Plate, frames: int) -> int:
    """About how many bytes of a disk a track's dense motion over so many frames takes."""
    ys, xs = np.nonzero(wanted_mask(track, plate.size))
    if not len(xs):
        return 0
    return expected_bytes((int(np.ptp(xs)) + 1, int(np.ptp(ys)) + 1), frames)


def size_words(count: int) -> str:
    """So many bytes, as a person reads them."""
    return f"{count / 2 ** 30:.1f} GB" if count >= 2 ** 30 else f"{max(count / 2 ** 20, 1):.0f} MB"


def _dense(shot: Shot, track: Track, plate: Plate, runs: list[range], read: Reader | None, stop: Stop | None) -> Iterator[tuple[int, KeptField]]:
    yield from dense_frames(shot, track, plate, runs, read, stop)
    MotionFolder(motion_folder(track), plate.size).clear_leftovers(chain(*runs))
    if dense_settings(track).neighbours and not stopped(stop):
        keep_neighbours(track, plate, sorted({track.region.frame, *chain(*runs)}), stop)


def dense_frames(shot: Shot, track: Track, plate: Plate, runs: list[range], read: Reader | None = None,
                 stop: Stop | None = None) -> Iterator[tuple[int, KeptField]]:
    """The long steps to the frames of some runs, each of which leads away from the reference frame and is computed by itself; those that are kept and
    still hold are not computed again, and work that was stopped, or whose process was killed, goes on with the same bits.

    Raises
    ------
    RegionError
        When there is nothing to track.
    DeliverError
        When the folder cannot be written to, or the disk has too little room.
    """
    settings, start, fetch = dense_settings(track), track.region.frame, read or plate.read
    mask, held = wanted_mask(track, plate.size), held_masks(shot, track, plate.size)
    away = held(start) if held is not None else None
    if away is not None:
        mask[away > 127] = 0
    if np.count_nonzero(mask) < 100:
        raise RegionError("The region covers fewer than 100 pixels that are not held out; draw it larger.")
    folder = MotionFolder(motion_folder(track), plate.size)
    _room_for(folder.folder, expected_size(track, plate, sum(map(len, runs))))
    first = fetch(start)
    mixture = channel_mixture(first, mask) if settings.look == "mix" else None
    what = (_VERSION, settings.look, settings.parts, plate.layer, plate.alpha, hashlib.sha256(mask.tobytes()).digest())

    def as_seen(picture: np.ndarray) -> np.ndarray:
        return looked_at(picture, settings.look, False, mixture)

    def key(frame: int) -> str:
        return frame_key(plate, frame, start, what, held(frame) if held is not None else None)

    def kept_of(frame: int) -> KeptField | None:
        own = key(frame)
        known = folder.known(frame, own)
        if known is not None:
            return KeptField(folder.folder, frame, *known)
        lost = folder.lost(frame, own)
        return KeptField(folder.folder, frame, lost[0], np.inf, lost[1]) if lost is not None else None

    spacing = usual_spacing(float(np.count_nonzero(mask)))
    mesh = Mesh(spread_points(track, plate.size))
    for frames in runs:
        there = {f: known for f in frames if (known := kept_of(f)) is not None}
        for kept, group in groupby(frames, key=there.__contains__):
            part = list(group)
            if kept:
                yield from ((f, there[f]) for f in part)
                continue
            tracker = DenseTracker(as_seen(first), mask, mesh, SURFACE_STEP * spacing, settings.parts)
            before, onward = part[0] - frames.step, frames.step
            if before != start and before in there:
                state = folder.state(onward, before, key(before))
                if state is not None:
                    tracker.resume(state)
                elif not there[before].reason:
                    tracker.start_at(loaded(folder.folder, before))

            def answered(frame: int, picture: np.ndarray, pyramid: Pyramid | None, tracker: DenseTracker = tracker, onward: int = onward) -> DenseFix:
                fix, own = tracker.feed(picture, held(frame) if held is not None else None, pyramid), key(frame)
                folder.keep_state(onward, frame, own, tracker.state())  # before the frame's own file: where that is, this is
                if fix.field is not None:
                    folder.keep(frame, fix.field, own, fix.seen, fix.error)
                else:
                    folder.keep_lost(frame, own, fix.seen, fix.reason or "lost")
                return fix

            for frame, fix in fed(plate, start, part, first, fetch, as_seen, answered, lambda reason: DenseFix(None, reason=reason), stop):
                yield frame, KeptField(folder.folder, frame, fix.seen, fix.error, "" if fix.field is not None else fix.reason or "lost")
            if stopped(stop):
                return
        folder.forget_state(frames.step)


def keep_neighbours(track: Track, plate: Plate, frames: Sequence[int], stop: Stop | None = None) -> None:
    """Bring the steps from frames to the frames beside them up to the long steps that are kept."""
    folder = MotionFolder(motion_folder(track), plate.size)

    def brought_up(frame: int) -> None:
        if not stopped(stop) and not folder.neighbours_are_current(frame):
            folder.keep_neighbours(frame, track.region.frame)

    with ThreadPoolExecutor(_WRITERS) as pool:
        list(pool.map(brought_up, frames))


def _room_for(folder: Path, size: int) -> None:
    """Raises DeliverError where a disk has not enough room for so many bytes."""
    there = next((p for p in (folder, *folder.absolute().parents) if p.exists()), Path("/"))
    free = shutil.disk_usage(there).free
    if free < size:
        raise DeliverError(f"The motion would take about {size_words(size)}, and {there} has {size_words(free)} left; "
                           "choose another folder for it, or a smaller region or range.")


def _keep(shot: Shot, ident: str, fixes: dict[int, KeptField]) -> Shot:
    track = shot.track(ident)
    folder = next((fix.folder for fix in fixes.values()), motion_folder(track) if track is not None else Path())
    return set_dense_tracked(shot, ident, fixes, str(folder.absolute()))


register_tracker(DenseSettings, _dense, _keep)
