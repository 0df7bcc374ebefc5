"""Solving a plate's camera, and the planes of its scene as tracks."""

from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from itertools import chain

import cv2
import numpy as np

from wertis.core.errors import RegionError, WertisError
from wertis.core.geometry import homography, polygon
from wertis.core.geometry.camera import ScenePlane, SolvedCamera, plane_error, plane_through, refined_plane
from wertis.core.geometry.warp import HomographyWarp, Warp
from wertis.core.jobs.events import Counter, Event, Stop, stopped
from wertis.core.jobs.tracking import register_tracker
from wertis.core.plate.base import Plate, luma
from wertis.core.shot.cameras import CameraSettings, camera_record, set_plane, solved_camera
from wertis.core.shot.document import PlaneSolution, Shot, Track
from wertis.core.shot.edits import add_track, unlocked
from wertis.core.shot.hold_outs import whole_masks
from wertis.core.track.camera import adjusted, solve_camera, triangulated
from wertis.core.track.features import FeatureTracks, follow_features, followed_from
from wertis.core.track.plane_alignment import PlaneAligner, plane_hypotheses
from wertis.core.track.run import track_plane


@dataclass(frozen=True)
class Solve:
    """A solved camera, the features that it was solved from, and the plate with what is held out of it."""

    camera: SolvedCamera
    tracks: FeatureTracks
    plate: Plate
    held: Callable[[int], np.ndarray] | None = None
    read: Callable[[int], np.ndarray] | None = None

    def luma(self, frame: int) -> np.ndarray:
        """A frame's luma (h, w) uint8."""
        return _luma_of((self.read or self.plate.read)(frame))


def _luma_of(picture: np.ndarray) -> np.ndarray:
    """(h, w) uint8, as the features are followed on it."""
    return np.clip(luma(picture), 0, 255).astype(np.uint8)


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
    for frame, so_far in follow_features(frames, lambda f: _luma_of(fetch(f)), held):
        tracks = so_far
        yield count.event(frame, note=f"following features on frame {frame}")
        if stopped(stop):
            return
    assert tracks is not None
    yield count.remark(frames[-1], note="solving the camera")
    camera = solve_camera(tracks, plate.size, focal, radial, zoom)
    yield Event(None, count.total, count.total, Solve(camera, tracks, plate, held, read), "done")


def picked_plane(solve: Solve, region: np.ndarray, frame: int) -> ScenePlane:
    """The plane that is seen inside a region (N, 2) on a frame.

    It begins with the camera's own points there; where they do not lead to a plane through which the other frames look like this one, with where the
    planar tracker finds the region, and with features that are followed there anew. The pixels of all frames together then say how it lies.

    Raises
    ------
    WertisError
        When the camera has no answer on the frame, or too few features lie there.
    """
    camera = solve.camera
    if frame not in camera.poses:
        raise RegionError(f"The camera is not solved on frame {frame}; choose one on which it is.")
    if camera.only_turns:  # whatever its depth and slant, a surface moves as one that is looked at straight
        eye, rays = camera.rays(region.mean(0)[None], frame)
        ahead = rays[0] / np.linalg.norm(rays[0])
        return ScenePlane(eye + ahead, -ahead, 0.0)
    mask = polygon.fill(region, camera.size)
    held = solve.held(frame) if solve.held is not None else None
    if held is not None:
        mask[held > 127] = 0
    try:
        aligner = PlaneAligner(camera, mask, frame, solve.luma, solve.held)
    except RegionError:
        aligner = None
    if aligner is not None:
        with suppress(WertisError):
            begun = aligner.aligned(plane_through(camera, _points_in(camera, mask, frame), frame))
            if begun is not None and begun.likeness > _ALIKE and begun.plane.off < _CONSISTENT:
                return begun.plane
    found: list[ScenePlane] = []
    trouble: WertisError | None = None
    try:
        found = _plane_candidates(solve, region, mask, frame)
    except WertisError as why:
        trouble = why
    aligned = [a for plane in found if (a := aligner.aligned(plane)) is not None] if aligner is not None else []
    if aligner is not None and max((a.likeness for a in aligned), default=0.0) < _UNLIKE:
        guesses = sorted(plane_hypotheses(camera, region, frame, _depths_around(camera, region, frame)), key=aligner.likeness)[-_GUESSES:]
        aligned += [a for plane in guesses if (a := aligner.gradually_aligned(plane)) is not None]
    best = max(aligned, key=lambda a: a.likeness, default=None)
    if best is not None and best.likeness > _UNLIKE:
        return best.plane
    if not found:
        raise trouble or WertisError(_TOO_FEW)
    return found[0]


def _depths_around(camera: SolvedCamera, region: np.ndarray, frame: int) -> list[float]:
    """Depths from the nearest to the farthest at which the camera's points lie round a region (N, 2) of a frame, in even ratios."""
    places = np.nan_to_num(camera.project(camera.points, frame), nan=1e6)
    nearest = np.argsort(np.linalg.norm(places - region.mean(0), axis=1))[:_ROUND]
    depths = (camera.points[nearest] @ camera.poses[frame][:, :3].T + camera.poses[frame][:, 3])[:, 2]
    if not (depths > 0).any():
        return []
    low, high = np.quantile(depths[depths > 0], [0.05, 0.95])
    return [float(d) for d in np.geomspace(low, high, _DEPTHS)]


def _points_in(camera: SolvedCamera, mask: np.ndarray, frame: int) -> np.ndarray:
    """The camera's points (n, 3) that are seen inside a mask (height, width) on a frame."""
    places = np.nan_to_num(camera.project(camera.points, frame), nan=-1)
    column, row = np.floor(places).astype(int).T
    there = (column >= 0) & (row >= 0) & (column < mask.shape[1]) & (row < mask.shape[0])
    there[there] = mask[row[there], column[there]] > 0
    return camera.points[there]


def _plane_candidates(solve: Solve, region: np.ndarray, mask: np.ndarray, frame: int) -> list[ScenePlane]:
    """Planes that the region may show, the likeliest first, by the planar tracker and by features that are followed anew.

    Raises
    ------
    WertisError
        When too few features lie there.
    """
    camera = solve.camera
    grid = _grid(region)
    whole = {f: (np.arange(len(grid)), homography.apply(m, grid)) for f, m in _tracked_as_plane(solve, region, mask, frame).items()}
    found: list[ScenePlane] = []
    trouble: WertisError | None = None
    if len(whole) >= _FEW:
        try:
            found.append(refined_plane(camera, _first_plane(camera, grid, whole, frame), grid, whole, frame))
            if found[0].off < _CONSISTENT:
                return found
        except WertisError as why:
            trouble = why
    # what hides the surface on this frame, or a narrow strip of it, can lead the planar tracker astray; features that fit the camera are the judges
    onward, backward = [f for f in camera.poses if f > frame], [f for f in reversed(camera.poses) if f < frame]
    start, seen = _rigid(camera, *followed_from(solve.luma(frame), mask, onward, backward, solve.luma, _DENSE), frame)
    if len(start) >= 3:
        try:
            found.append(refined_plane(camera, _first_plane(camera, start, seen, frame), start, seen, frame))
        except WertisError as why:
            trouble = why
    if not found:
        raise trouble or WertisError(_TOO_FEW)
    return found if len(start) < _JUDGES else sorted(found, key=lambda plane: plane_error(camera, plane, start, seen, frame))


def _rigid(camera: SolvedCamera, start: np.ndarray, seen: dict[int, tuple[np.ndarray, np.ndarray]],
           frame: int) -> tuple[np.ndarray, dict[int, tuple[np.ndarray, np.ndarray]]]:
    """Those of the features (n, 2) of a frame that a still point in space explains, and where they are seen."""
    tracks: list[dict[int, np.ndarray]] = [{frame: p} for p in start]
    for f, (which, places) in seen.items():
        for k, place in zip(which, places, strict=True):
            tracks[k][f] = place
    keep = []
    for k, track in enumerate(tracks):
        point = triangulated(camera, track)
        if point is not None:
            off = [float(np.linalg.norm(camera.project(point[None], f)[0] - p)) for f, p in track.items()]
            if np.median(off) < _STILL:
                keep.append(k)
    now = {k: i for i, k in enumerate(keep)}
    rest = {}
    for f, (which, places) in seen.items():
        inside = np.isin(which, keep)
        if inside.any():
            rest[f] = np.array([now[k] for k in which[inside]]), places[inside]
    return start[keep], rest


def _tracked_as_plane(solve: Solve, region: np.ndarray, mask: np.ndarray, frame: int) -> dict[int, np.ndarray]:
    """Frame to the homography (3, 3) from `frame` by which the planar tracker finds the region there, where it is sure."""
    found = {}
    for run in ([f for f in solve.camera.poses if f > frame], [f for f in reversed(solve.camera.poses) if f < frame]):
        try:
            for f, fix in track_plane(solve.plate, _box(region), frame, run, "perspective", read=solve.read, held=solve.held, mask=mask):
                if fix.matrix is not None and fix.error < _SURE and fix.seen > _SEEN:
                    found[f] = fix.matrix
        except RegionError:
            break
    return found


def _grid(region: np.ndarray) -> np.ndarray:
    """(n, 2) points over a region."""
    low, high = region.min(0), region.max(0)
    x, y = np.meshgrid(*(np.linspace(a, b, 7) for a, b in zip(low, high, strict=True)))
    points = np.column_stack([x.ravel(), y.ravel()])
    inside = np.array([cv2.pointPolygonTest(region.astype(np.float32), (float(px), float(py)), False) >= 0 for px, py in points])
    return np.concatenate([region, points[inside]])


_FEW, _SURE, _SEEN = 3, 0.4, 0.5  # frames, pixels of expected error and share of the region, from which the planar tracker's answers make a plane


def _first_plane(camera: SolvedCamera, start: np.ndarray, seen: dict[int, tuple[np.ndarray, np.ndarray]], frame: int) -> ScenePlane:
    """A plane through the features (n, 2) of a frame, each put into space by the frame on which it is seen from farthest aside."""
    eye, rays = camera.rays(start, frame)
    best, space = np.zeros(len(start)), np.full((len(start), 3), np.nan)
    for other, (which, places) in seen.items():
        there, back = camera.rays(places, other)
        aside = there - eye
        a, b = rays[which], back
        aa, ab, bb, ad, bd = (np.einsum("ni,ni->n", x, y) for x, y in ((a, a), (a, b), (b, b), (a, np.broadcast_to(aside, a.shape)),
                                                                          (b, np.broadcast_to(aside, b.shape))))
        sine = aa * bb - ab ** 2
        with np.errstate(all="ignore"):
            far = (ad * bb - bd * ab) / sine
        good = np.isfinite(far) & (far > 0) & (sine > best[which])
        space[which[good]] = eye + far[good, None] * a[good]
        best[which[good]] = sine[good]
    return plane_through(camera, space[np.isfinite(space).all(1)], frame)


_LEAST_POINTS = 20  # of a camera
_DENSE = 250  # features on a plane
_CONSISTENT = 0.45  # pixels by which the planar tracker's answers may miss a plane that the camera sees
_ALIKE, _UNLIKE = 0.85, 0.4  # mean likeness of the frames through a plane, from which it is taken at once, and up to which the pixels say nothing
_GUESSES, _DEPTHS, _ROUND = 10, 20, 30  # planes, of all that are guessed, that are aligned; their depths; points round a region that say how far it is
_TOO_FEW = "Too few features are seen on that surface to tell how it lies; draw it larger, or where there is more detail."
_JUDGES, _STILL = 6, 1.0  # features that judge planes, and pixels within which a still point in space explains one


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
    solve = Solve(record.solved, record.tracks, plate, whole_masks(shot, track, plate.size), read)
    return picked_plane(solve, track.region.array, track.region.frame)


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
    return set_plane(out, track.id, picked_plane(solve, region, frame)), track.id


def _box(region: np.ndarray) -> np.ndarray:
    x, y, w, h = cv2.boundingRect(region.astype(np.float32))
    return np.array([[x, y], [x + w, y], [x + w, y + h], [x, y + h]], float)
