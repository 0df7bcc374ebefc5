"""Solving a plate's camera, and the planes of its scene as tracks."""

from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import chain

import numpy as np

from wertis.core.errors import WertisError
from wertis.core.geometry.camera import ScenePlane, SolvedCamera
from wertis.core.geometry.warp import HomographyWarp, Warp
from wertis.core.jobs.events import Counter, Event, Stop, stopped
from wertis.core.jobs.tracking import register_tracker
from wertis.core.plate.base import Plate
from wertis.core.shot.cameras import CameraSettings, camera_record, set_plane, solved_camera
from wertis.core.shot.document import PlaneSolution, Shot, Track
from wertis.core.shot.edits import add_track, unlocked
from wertis.core.shot.hold_outs import whole_masks
from wertis.core.track.camera import adjusted, solve_camera
from wertis.core.track.features import FeatureTracks, follow_features
from wertis.core.track.scene_plane import FilmedScene, feature_luma, picked_plane


@dataclass(frozen=True)
class Solve:
    """A solved camera with what it has seen, and the features that it was solved from."""

    seen: FilmedScene
    tracks: FeatureTracks

    @property
    def camera(self) -> SolvedCamera:
        return self.seen.camera


def solve_plate(plate: Plate, frames: Sequence[int], focal: float | None = None, radial: int = 0, held: Callable[[int], np.ndarray] | None = None,
                read: Callable[[int], np.ndarray] | None = None, stop: Stop | None = None, zoom: bool = False) -> Iterator[Event]:
    """Follow features through frames and solve the camera; the last event's item is the `Solve`.

    Parameters
    ----------
    focal : in pixels, when it is known.
    radial : how many radial terms of the lens are solved for: none, one or two.
    zoom : the focal length changes from frame to frame.
    held : gives (h, w) uint8, 255 on what moves by itself or does not count.

    Raises
    ------
    WertisError
        When no camera can be solved, with what that means.
    PlateError
        When a frame cannot be read.
    """
    if len(frames) < 3:
        raise WertisError(f"A camera needs three frames at least; the range has {len(frames)}.")
    if focal is not None and not 0.1 * max(plate.size) < focal < 50 * max(plate.size):
        raise WertisError(f"A focal length of {focal:g} pixels does not fit a picture that is {plate.size[0]} wide; give it in pixels, or leave it out.")
    if zoom and (focal is not None or radial):
        raise WertisError("A camera that zooms has a focal length of its own on each frame, and its lens terms cannot be told apart from that; "
                          "leave out the focal length and the lens, or the zoom.")
    fetch = read or plate.read
    count = Counter(len(frames) + 1)
    tracks: FeatureTracks | None = None
    for frame, so_far in follow_features(frames, lambda f: feature_luma(fetch(f)), held):
        tracks = so_far
        yield count.event(frame, note=f"following features on frame {frame}")
        if stopped(stop):
            return
    assert tracks is not None
    yield count.remark(frames[-1], note="solving the camera")
    camera = solve_camera(tracks, plate.size, focal, radial, zoom)
    yield Event(None, count.total, count.total, Solve(FilmedScene(camera, plate, held, read), tracks), "done")


_LEAST_POINTS = 20  # of a camera


def with_camera(shot: Shot, solve: Solve, known_focal: bool, lens: int) -> Shot:
    """The shot with a solved camera; planes that were picked with another are to be picked again."""
    return shot.but(camera=camera_record(solve.camera, solve.tracks, known_focal, lens))


def solve_shot(shot: Shot, plate: Plate, focal: float | None = None, lens: int = 0, held: Callable[[int], np.ndarray] | None = None,
               read: Callable[[int], np.ndarray] | None = None, stop: Stop | None = None, zoom: bool = False) -> Iterator[Event]:
    """Solve the camera of a shot's range; the last event's item is the shot with it. The words are those of `solve_plate`."""
    low, high = shot.range
    for event in solve_plate(plate, range(low, high + 1), focal, lens, held, read, stop, zoom):
        if isinstance(event.item, Solve):
            yield Event(None, event.done, event.total, with_camera(shot, event.item, focal is not None, lens), "the camera is solved")
        else:
            yield event


def solve_again(shot: Shot, dropped: Collection[int] = (), focal: float | None = None, lens: int | None = None) -> Shot:
    """The shot with its camera solved again from where it is, without some of its points; its planes are as they were until they are picked again.

    Parameters
    ----------
    dropped : numbers of points.
    focal, lens : as for `solve_plate`; as they were when not given.

    Raises
    ------
    WertisError
        When there is no camera, or too few points would be left.
    """
    record = solved_camera(shot)
    if record.solved.only_turns:
        raise WertisError("A camera that only turns is solved anew as a whole; hold out what moves by itself, and solve the camera again.")
    keep = np.setdiff1d(np.arange(len(record.points)), np.array(sorted(dropped), int))
    if len(keep) < _LEAST_POINTS:
        raise WertisError(f"Only {len(keep)} of the camera's points would be left; it needs {_LEAST_POINTS}.")
    tracks = FeatureTracks(record.tracks.frames, [record.tracks.places[k] for k in keep])
    known, radial = record.known_focal or focal is not None, record.lens if lens is None else lens
    before = replace(record.solved, points=record.points[keep], numbers=np.arange(len(keep)), focal=focal or record.focal)
    return shot.but(camera=camera_record(adjusted(before, tracks, not known, radial), tracks, known, radial))


def pick_planes(shot: Shot, plate: Plate, track_ids: Sequence[str], read: Callable[[int], np.ndarray] | None = None,
                stop: Stop | None = None) -> Iterator[Event]:
    """Find the planes of the scene that tracks' regions show; the last event's item is the shot in which they move with them.

    Raises
    ------
    WertisError
        When the camera is not solved, or a plane cannot be found.
    """
    count = Counter(len(track_ids) + 1)
    for ident in track_ids:
        if stopped(stop):
            return
        track = unlocked(shot, ident)
        yield count.remark(track.region.frame, note=f"finding the plane of {track.name}")
        shot = set_plane(shot, ident, _plane_of(shot, track, plate, read))
        yield count.event(track.region.frame, note=f"{track.name} moves with its plane", of=ident)
    yield Event(None, count.total, count.total, shot)


def _plane_of(shot: Shot, track: Track, plate: Plate, read: Callable[[int], np.ndarray] | None) -> ScenePlane:
    """The plane of the scene that a track's region shows, seen by the shot's camera."""
    record = solved_camera(shot)
    scene = FilmedScene(record.solved, plate, whole_masks(shot, track, plate.size), read)
    return picked_plane(scene, track.region.array, track.region.frame)


@dataclass(frozen=True)
class _OnPlane:
    """A frame's answer of a track that moves with a plane of the scene."""

    plane: ScenePlane
    warp: Warp | None
    error: float
    seen: float = 1.0
    reason: str = ""


def _tracked_on_plane(shot: Shot, track: Track, plate: Plate, runs: list[range], read: Callable[[int], np.ndarray] | None,
                      stop: Stop | None) -> Iterator[tuple[int, _OnPlane]]:
    plane = _plane_of(shot, track, plate, read)
    solution = set_plane(shot, track.id, plane).track(track.id).solution  # type: ignore[union-attr]
    assert isinstance(solution, PlaneSolution)
    matrices, errors = solution.by_frame(), solution.error_by_frame()
    for frame in chain(*runs):
        if frame in matrices:
            yield frame, _OnPlane(plane, HomographyWarp(matrices[frame]), errors[frame])
        else:
            yield frame, _OnPlane(plane, None, np.inf, 0.0, "the camera is not solved on this frame")


def _keep_plane(shot: Shot, ident: str, answers: dict[int, _OnPlane]) -> Shot:
    plane = next((a.plane for a in answers.values()), None)
    return shot if plane is None else set_plane(shot, ident, plane)


register_tracker(CameraSettings, _tracked_on_plane, _keep_plane)


def camera_tracks(shot: Shot) -> list[str]:
    """Ids of the tracks that move with a plane of the scene, and whose plane was picked."""
    return [t.id for t in shot.tracks if isinstance(t.settings, CameraSettings) and t.settings.plane is not None]


def with_plane(shot: Shot, solve: Solve, region: np.ndarray, frame: int, name: str) -> tuple[Shot, str]:
    """The shot, which has the camera, with a track more, whose motion is that of a plane of the scene; its id."""
    out, track = add_track(shot, region, frame, name)
    out = out.with_track(track.but(settings=CameraSettings()))
    return set_plane(out, track.id, picked_plane(solve.seen, region, frame)), track.id
