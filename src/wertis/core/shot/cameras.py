"""The shot's solved camera as a record, and tracks whose motion is a plane of the scene as that camera sees it."""

from dataclasses import replace
from functools import cached_property
from itertools import pairwise
from typing import Annotated, Literal, Self

import numpy as np
from pydantic import Field, model_validator

from wertis.core.errors import WertisError
from wertis.core.geometry import homography
from wertis.core.geometry.camera import ScenePlane, SolvedCamera, on_plane, plane_deviations
from wertis.core.shot.document import Look, PlaneSolution, Shot, ShotCamera, Track, TrackSettings
from wertis.core.shot.edits import unlocked
from wertis.core.shot.fields import Integers, Matrices, Number, Point, Reals, Table
from wertis.core.track.features import FeatureTracks

_MOST_OFF = 90.0  # percent of its distance, by which something may stand off its plane
Vector = tuple[Number, Number, Number]


class SolvedCameraRecord(ShotCamera):
    """A solved camera with what it was solved from.

    Attributes
    ----------
    size : width and height of the picture.
    focal, principal, radial : in pixels, in pixels, and in units of the focal length; see `core.geometry.camera`.
    zoom : (n,) focal lengths in pixels of a camera that zooms; None where it is `focal` on all frames.
    known_focal, lens : the focal length was given rather than solved; so many radial terms of the lens were solved for.
    frames : (n,) int64, those that are solved.
    poses : (n, 3, 4) world to camera.
    errors : (n,) mean reprojection error in pixels.
    points : (N, 3) features in space.
    sights_point, sights_frame : (S,) int64, which point was seen on which frame.
    sights_place : (S, 2) and where.
    """

    kind: Literal["solved"] = "solved"
    size: tuple[Annotated[int, Field(ge=1, le=65536)], Annotated[int, Field(ge=1, le=65536)]]
    focal: Annotated[float, Field(gt=0, le=1e7)]
    principal: Point
    radial: tuple[Number, Number] = (0.0, 0.0)
    known_focal: bool = False
    lens: Annotated[int, Field(ge=0, le=2)] = 0
    zoom: Reals | None = None
    frames: Integers
    poses: Matrices
    errors: Reals
    points: Table
    sights_point: Integers
    sights_frame: Integers
    sights_place: Table

    @model_validator(mode="after")
    def _sound(self) -> Self:
        n, count = len(self.frames), len(self.sights_point)
        if n < 3 or self.poses.shape != (n, 3, 4) or self.errors.shape != (n,) or self.points.shape[1:] != (3,):
            raise ValueError("the camera's numbers are not all of one length")
        if self.zoom is not None and (self.zoom.shape != (n,) or not (np.isfinite(self.zoom) & (self.zoom > 0)).all()):
            raise ValueError("a camera that zooms has a focal length on each of its frames")
        if self.sights_frame.shape != (count,) or self.sights_place.shape != (count, 2):
            raise ValueError("what the camera saw is not all of one length")
        if count and not (self.sights_point.min() >= 0 and self.sights_point.max() < len(self.points)):
            raise ValueError("the camera saw a point that does not exist")
        return self

    @cached_property
    def solved(self) -> SolvedCamera:
        """The camera."""
        poses = {int(f): p for f, p in zip(self.frames, self.poses, strict=True)}
        errors = {int(f): float(e) for f, e in zip(self.frames, self.errors, strict=True) if np.isfinite(e)}
        numbers = np.arange(len(self.points))
        return SolvedCamera(self.size, self.focal, np.array(self.principal), self.radial, poses, np.array(self.points), numbers, errors,
                            {} if self.zoom is None else dict(zip(poses, self.zoom.tolist(), strict=True)))

    @cached_property
    def tracks(self) -> FeatureTracks:
        """Its features as tracks, in the order of the points."""
        places: list[dict[int, np.ndarray]] = [{} for _ in self.points]
        for k, f, p in zip(self.sights_point.tolist(), self.sights_frame.tolist(), self.sights_place, strict=True):
            places[k][f] = p
        return FeatureTracks([int(f) for f in self.frames], places)

    @cached_property
    def off(self) -> np.ndarray:
        """(N,) by how many pixels each point usually lies off where it was seen: the median over its frames; nan where it was never seen."""
        away = np.full(len(self.sights_point), np.nan)
        for f in np.unique(self.sights_frame):
            here = self.sights_frame == f
            if int(f) in self.solved.poses:
                away[here] = np.linalg.norm(self.solved.project(self.points[self.sights_point[here]], int(f)) - self.sights_place[here], axis=1)
        order = np.argsort(self.sights_point, kind="stable")
        ends = np.searchsorted(self.sights_point[order], np.arange(len(self.points) + 1))
        return np.array([np.nanmedian(away[order[a:b]]) if b > a else np.nan for a, b in pairwise(ends)])

    def seen_on(self, frame: int) -> tuple[np.ndarray, np.ndarray]:
        """Numbers (n,) of the points that were seen on a frame, and where (n, 2)."""
        here = self.sights_frame == frame
        return self.sights_point[here], self.sights_place[here]


def camera_record(camera: SolvedCamera, tracks: FeatureTracks, known_focal: bool, lens: int) -> SolvedCameraRecord:
    """A solved camera, and the tracks it was solved from, as a record."""
    frames = sorted(camera.poses)
    there = [(k, f, tracks.places[n][f]) for k, n in enumerate(camera.numbers.tolist()) for f in tracks.places[n] if f in camera.poses]
    return SolvedCameraRecord(
        size=camera.size, focal=camera.focal, principal=(float(camera.principal[0]), float(camera.principal[1])), radial=camera.radial,
        known_focal=known_focal, lens=lens, zoom=np.array([camera.zoom[f] for f in frames]) if camera.zoom else None,
        frames=np.array(frames, np.int64), poses=np.array([camera.poses[f] for f in frames], float),
        errors=np.array([camera.errors.get(f, np.inf) for f in frames], float), points=np.array(camera.points, float).reshape(-1, 3),
        sights_point=np.array([k for k, _, _ in there], np.int64), sights_frame=np.array([f for _, f, _ in there], np.int64),
        sights_place=np.array([p for _, _, p in there], float).reshape(-1, 2))


class CameraSettings(TrackSettings):
    """Settings of a track whose motion is a plane of the scene, seen by the shot's camera.

    Attributes
    ----------
    point, normal : of the plane, in the camera's world; None before it is picked.
    covariance : of the plane, row by row, as `ScenePlane` has it; None where it is not known.
    off : percent of its distance from the camera by which what is tracked stands off the plane, towards the camera.
    """

    kind: Literal["camera"] = "camera"
    point: Vector | None = None
    normal: Vector | None = None
    covariance: Annotated[tuple[float, ...], Field(min_length=9, max_length=9)] | None = None
    off: Annotated[float, Field(ge=-_MOST_OFF, le=_MOST_OFF)] = 0.0
    look: Look = "mix"
    half: Literal[False] = False

    @property
    def plane(self) -> ScenePlane | None:
        """The plane; None before it is picked."""
        if self.point is None or self.normal is None:
            return None
        covariance = None if self.covariance is None else np.array(self.covariance).reshape(3, 3)
        return ScenePlane(np.array(self.point), np.array(self.normal), 0.0, covariance)


def solved_camera(shot: Shot) -> SolvedCameraRecord:
    """The shot's camera.

    Raises
    ------
    WertisError
        When none is solved.
    """
    if not isinstance(shot.camera, SolvedCameraRecord):
        raise WertisError("The shot's camera is not solved yet; solve it first.")
    return shot.camera


def camera_settings(track: Track) -> CameraSettings:
    """A track's settings as those of a camera's plane; the usual ones for a track of another kind."""
    return track.settings if isinstance(track.settings, CameraSettings) else CameraSettings(look=getattr(track.settings, "look", "mix"))


def set_plane(shot: Shot, ident: str, plane: ScenePlane, off: float | None = None) -> Shot:
    """The shot in which a track moves as a plane of the scene does, which its region shows on its frame.

    Raises
    ------
    WertisError
        When the camera is not solved, or sees the region beyond the plane's horizon.
    """
    track, camera = unlocked(shot, ident), solved_camera(shot).solved
    settings = camera_settings(track)
    point, normal = (tuple(float(v) for v in a) for a in (plane.point, plane.normal))
    covariance = None if plane.covariance is None else tuple(float(v) for v in plane.covariance.ravel())
    settings = settings.but(point=point, normal=normal, covariance=covariance, off=settings.off if off is None else off)
    frame, box = track.region.frame, track.region.box
    if frame not in camera.poses:
        raise WertisError(f"The camera is not solved on frame {frame}; choose one on which it is.")
    stood = stood_off(camera, plane, settings.off, frame)
    moved, unsure = carried_on_plane(camera, stood, box, frame), plane_deviations(camera, stood, box, frame)
    frames = sorted(moved)
    matrices = np.array([homography.from_points(box, moved[f]) if f != frame else np.eye(3) for f in frames])
    errors = np.array([0.0 if f == frame else np.hypot(camera.errors.get(f, np.inf), unsure[f]) for f in frames])
    solution = PlaneSolution(reference=frame, frames=np.array(frames, np.int64), matrices=matrices, errors=errors, seen=np.ones(len(frames)))
    return shot.with_track(track.but(settings=settings, solution=solution))


def set_off_plane(shot: Shot, ident: str, off: float) -> Shot:
    """The shot in which a track stands off its plane by so many percent of the plane's distance from the camera.

    Raises
    ------
    WertisError
        When no plane was picked for it.
    """
    track = unlocked(shot, ident)
    plane = camera_settings(track).plane
    if plane is None:
        raise WertisError(f"{track.name} has no plane of the scene yet; track it first.")
    return set_plane(shot, ident, plane, off)


def stood_off(camera: SolvedCamera, plane: ScenePlane, off: float, frame: int) -> ScenePlane:
    """A plane moved towards the camera of a frame by so many percent of its distance from it."""
    eye = -camera.poses[frame][:, :3].T @ camera.poses[frame][:, 3]
    far = float((eye - plane.point) @ plane.normal)
    return replace(plane, point=plane.point + plane.normal * far * off / 100)


def carried_on_plane(camera: SolvedCamera, plane: ScenePlane, points: np.ndarray, frame: int) -> dict[int, np.ndarray]:
    """Points (n, 2) of a frame that lie on a plane, carried to all frames: frame to (n, 2).

    Raises
    ------
    WertisError
        When the camera is not solved on the frame, or a point does not lie on the plane as it sees it.
    """
    if frame not in camera.poses:
        raise WertisError(f"The camera is not solved on frame {frame}; choose one on which it is.")
    there = on_plane(camera, plane, points, frame)
    if not np.isfinite(there).all():
        raise WertisError("A corner does not lie on the plane as the camera sees it; draw it this side of the plane's horizon.")
    found = {f: camera.project(there, f) for f in camera.poses}
    found[frame] = points.copy()
    return {f: p for f, p in found.items() if np.isfinite(p).all()}


def plane_corners(shot: Shot) -> dict[str, np.ndarray]:
    """Track's name to the corners (4, 3) of the box round its region, in the camera's world, of the tracks that move with a plane of the scene."""
    camera = solved_camera(shot).solved
    found = {}
    for track in shot.tracks:
        plane = camera_settings(track).plane
        if plane is not None and track.region.frame in camera.poses:
            there = on_plane(camera, stood_off(camera, plane, camera_settings(track).off, track.region.frame), track.region.box, track.region.frame)
            if np.isfinite(there).all():
                found[track.name] = there
    return found
