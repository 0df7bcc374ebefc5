"""Work in parts by the processes of a cluster: renders, coordinate maps, drift, dense motion, tracks, and lists of shots.

A frame is a function of the shot alone, and its file takes its name when it is whole; so frames may be made anywhere, in any order, and again by another
process when one was killed, and the files are the same bits.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from functools import lru_cache, wraps
from itertools import chain
from pathlib import Path
from typing import Any, Literal

import wertis
from wertis import libraries  # noqa: F401  first, so that importing changes no environment
from wertis.core.blas import single_threaded
from wertis.core.comp.picture import Compositor
from wertis.core.errors import WertisError
from wertis.core.exchange.layout import Layout
from wertis.core.files import clear_leftovers, numbered
from wertis.core.imaging.parallel import use_threads
from wertis.core.jobs.check import DriftCheck, FirstLooks
from wertis.core.jobs.dense_tracking import dense_frames, keep_neighbours, motion_folder
from wertis.core.jobs.events import Counter, Event
from wertis.core.jobs.motion_export import write_maps
from wertis.core.jobs.render import MOVIES, check_target, frame_path, render
from wertis.core.jobs.tracking import kept, track_shot
from wertis.core.shot.dense import DenseSettings, dense_settings
from wertis.core.shot.document import Shot as Document
from wertis.core.shot.document import Track
from wertis.core.track.motion_store import KeptField, MotionFolder
from wertis.scripting.cluster import Cluster, Failed


def render_on_cluster(cluster: Cluster, document: Document, pattern: str, frames: Sequence[int], what: Literal["comp", "graphic"] = "comp",
                      resume: bool = False) -> Iterator[Event]:
    """Render a sequence's frames by the processes of a cluster; an event for each frame, whose note says why it was left out.

    Raises
    ------
    WertisError
        For a movie, which is one file; when a file cannot be written, or the plate cannot be read there.
    """
    check_target(pattern)
    if Path(pattern).suffix.lower() in MOVIES:
        raise WertisError("A movie is one file and is rendered by one process; render a sequence in parts, or the movie without workers.")
    yield from _written(cluster, document, pattern, frames, _rendered, what, resume)
    clear_leftovers(frame_path(pattern, frame) for frame in frames)


def maps_on_cluster(cluster: Cluster, document: Document, track: Track, kind: str, pattern: str, layout: Layout,
                    reference: int | None = None) -> Iterator[Event]:
    """Write coordinate maps by the processes of a cluster; see `core.jobs.motion_export.write_maps`.

    Raises
    ------
    WertisError
        When the track has no motion, or a file cannot be written.
    """
    frames = range(document.range[0], document.range[1] + 1)
    yield from _written(cluster, document, pattern, frames, _mapped, track.id, kind, layout.model_dump_json(), reference)
    clear_leftovers(path for f in frames if (path := numbered(Path(pattern), layout.frame(f))) is not None)


def _written(cluster: Cluster, document: Document, pattern: str, frames: Sequence[int], work: Any, *more: Any) -> Iterator[Event]:
    """A function called for each part of the frames: with the shot, the pattern, the part and more; it gives which were left out, and why."""
    count = Counter(len(frames))
    with cluster.shared(document, Path(pattern).absolute().parent) as shot:  # beside the pictures, where all machines can read it
        calls = [(shot, cluster.there(pattern), part, *more) for part in cluster.chunks(frames)]
        for (_, _, part, *_), left in cluster.imap_unordered(work, calls):
            for frame in part:
                yield count.event(frame, note=left.get(frame, ""))


def first_looks_on_cluster(cluster: Cluster, document: Document, track: Track, base: int | None = None, placement_id: str = "",
                           beside: Sequence[Path] = ()) -> FirstLooks:
    """What looks at frames by themselves, to measure drift, by the processes of a cluster; for `core.jobs.check.check_track`.

    Parameters
    ----------
    beside : folders that the workers can read.
    """
    def looks(frames: Sequence[int]) -> Iterator[tuple[int, Any]]:
        with cluster.shared(document, *beside) as shot:
            for _, found in cluster.imap_unordered(_examined, [(shot, track.id, base, placement_id, part) for part in cluster.chunks(frames)]):
                yield from found

    return looks


def tracked_on_cluster(cluster: Cluster, document: Document, wanted: Sequence[tuple[Track, list[range]]],
                       progress: Callable[[Event], object] | None = None, beside: Sequence[Path] = ()) -> Document:
    """The shot with tracks tracked through runs of frames, each by a process of its own; of dense motion, whose frames are kept in its folder, each run.

    Raises
    ------
    WertisError
        When one cannot be tracked.
    """
    answers: dict[str, dict[int, Any]] = {track.id: {} for track, _ in wanted}
    count = Counter(sum(len(run) for _, runs in wanted for run in runs))
    dense = [track for track, _ in wanted if isinstance(track.settings, DenseSettings)]
    folders = {track.id: motion_folder(track).absolute() for track in dense}
    for track in dense:  # where the workers call it otherwise, they are told
        document = document.with_track(track.but(settings=dense_settings(track).but(folder=cluster.there(folders[track.id]))))
    with cluster.shared(document, *folders.values(), *beside) as shot:
        whole = [(shot, track.id, tuple(map(_said, runs))) for track, runs in wanted if track.id not in folders]
        parts = [(shot, track.id, (_said(run),)) for track, runs in wanted if track.id in folders for run in runs]
        for (_, ident, _), found in cluster.imap_unordered(_tracked, whole + parts):
            for frame, fix in found:
                here = KeptField(folders[ident], frame, fix.seen, fix.error, fix.reason) if ident in folders else fix
                answers[ident][frame] = here
                if progress is not None:
                    progress(count.event(frame, here))
        for track, runs in wanted:
            if track.id in folders and dense_settings(track).neighbours:
                frames = sorted({track.region.frame, *chain(*runs)})
                for _ in cluster.imap_unordered(_beside, [(shot, track.id, part) for part in cluster.chunks(frames)]):
                    pass
    for track, runs in wanted:
        if track.id in folders:
            MotionFolder(folders[track.id], (0, 0)).clear_leftovers({track.region.frame, *chain(*runs)})
            document = document.with_track(track)
    for track, _ in wanted:
        document = kept(document, track.id, answers[track.id])
    return document


def shots_on_cluster(cluster: Cluster, path: Path, names: Sequence[str]) -> Iterator[str]:
    """Do shots of a list of work by the processes of a cluster; their names as they are done. What came of each stands in the list's folder."""
    for (_, name), _ in cluster.imap_unordered(_shot_done, [(cluster.there(path), name) for name in names]):
        yield name


# -- on a worker ----------------------------------------------------------------------------------------------------


def _on_worker(work: Callable[..., Any]) -> Callable[..., Any]:
    """A function as it is called on a worker, the first of whose arguments is a file: errors of Wertis' own come back in words."""
    @wraps(work)
    def safe(path: str, *arguments: Any) -> Any:
        use_threads(1)  # there are as many processes as help
        try:
            with single_threaded():
                return work(path, *arguments)
        except WertisError as why:
            return Failed(str(why))
        except OSError as why:
            return Failed(f"{path} cannot be read on the worker ({why.strerror or why}); is the folder shared, and called the same there (--map)?")

    return safe


@lru_cache(maxsize=1)
def _opened(shot: str, stamp: int) -> tuple[wertis.Shot, Compositor]:
    """A shot that stays open from one part to the next, and what has finished its artwork."""
    return wertis.open(shot), Compositor()


def _shot(path: str) -> tuple[wertis.Shot, Compositor]:
    return _opened(path, os.stat(path).st_mtime_ns)


def _track(document: Document, ident: str) -> Track:
    track = document.track(ident)
    assert track is not None  # it is the shot that was shared
    return track


def _said(run: range) -> tuple[int, int, int]:
    return run.start, run.stop, run.step


@_on_worker
def _rendered(path: str, pattern: str, frames: tuple[int, ...], what: str, resume: bool) -> dict[int, str]:
    """Render frames; which were left out, and why."""
    shot, compositor = _shot(path)
    events = render(shot.document, shot.plate, pattern, frames, what, resume=resume, compositor=compositor)
    return {e.frame: e.note for e in events if e.note and e.frame is not None}


@_on_worker
def _mapped(path: str, pattern: str, frames: tuple[int, ...], ident: str, kind: str, layout: str, reference: int | None) -> dict[int, str]:
    """Write coordinate maps; of which frames there is none, and why."""
    document = _shot(path)[0].document
    events = write_maps(document, _track(document, ident), kind, pattern, Layout.model_validate_json(layout), reference, frames=frames)
    return {e.frame: e.note for e in events if e.note and e.frame is not None}


@lru_cache(maxsize=1)
def _drift_check(path: str, stamp: int, ident: str, base: int | None, placement_id: str) -> DriftCheck:
    shot = _opened(path, stamp)[0]
    return DriftCheck(shot.document, _track(shot.document, ident), shot.plate, None, base, placement_id)


@_on_worker
def _examined(path: str, ident: str, base: int | None, placement_id: str, frames: tuple[int, ...]) -> list[tuple[int, Any]]:
    """First looks at frames."""
    return list(_drift_check(path, os.stat(path).st_mtime_ns, ident, base, placement_id).examined(frames))


@_on_worker
def _tracked(path: str, ident: str, runs: tuple[tuple[int, int, int], ...]) -> list[tuple[int, Any]]:
    """Track through runs of frames; their answers."""
    shot = _shot(path)[0]
    track, wanted = _track(shot.document, ident), [range(*run) for run in runs]
    if isinstance(track.settings, DenseSettings):
        return list(dense_frames(shot.document, track, shot.plate, wanted))
    return [(e.frame, e.item) for e in track_shot(shot.document, ident, shot.plate, wanted) if e.frame is not None]


@_on_worker
def _beside(path: str, ident: str, frames: tuple[int, ...]) -> None:
    """Bring the steps of dense motion from frames to those beside them up to date."""
    shot = _shot(path)[0]
    keep_neighbours(_track(shot.document, ident), shot.plate, frames)


@_on_worker
def _shot_done(path: str, name: str) -> str:
    """Do one shot of a list."""
    from wertis.scripting.work import run_one

    run_one(Path(path), name)
    return name
