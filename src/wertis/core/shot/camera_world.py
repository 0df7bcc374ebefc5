"""The world that a solved camera is in: its ground, origin and scale, set from points that the camera saw.

A camera solved from pictures alone knows its world up to a similarity (R. Hartley and A. Zisserman, Multiple view geometry in computer vision, 2004,
section 10.2). Which way is up, where it begins and how large it is are told by a person; nothing in the pictures changes by that.
"""

from collections.abc import Collection, Sequence

import numpy as np

from wertis.core.errors import WertisError
from wertis.core.geometry.camera import plane_through
from wertis.core.shot.cameras import CameraSettings, SolvedCameraRecord, solved_camera
from wertis.core.shot.document import Shot

_NEAR = 20.0  # pixels from a place within which a point that was seen is taken


def points_at(shot: Shot, places: np.ndarray, frame: int) -> list[int]:
    """Numbers of the camera's points that are seen nearest to places (n, 2) of a frame.

    Raises
    ------
    WertisError
        When none was seen near one of them; it says where the nearest is.
    """
    record = solved_camera(shot)
    numbers, there = record.seen_on(frame)
    if not len(numbers):
        raise WertisError(f"The camera saw no points on frame {frame}; choose one on which it is solved.")
    found = []
    for x, y in places:
        far = np.linalg.norm(there - (x, y), axis=1)
        k = int(far.argmin())
        if far[k] > _NEAR:
            raise WertisError(f"No point was solved near {x:.0f},{y:.0f} on frame {frame}; the nearest is at {there[k][0]:.0f},{there[k][1]:.0f}.")
        found.append(int(numbers[k]))
    return found


def set_ground(shot: Shot, numbers: Collection[int], frame: int) -> Shot:
    """The shot whose world stands on the plane through some of the camera's points: y goes straight down into it (up in USD and glTF), the origin is
    at their middle, and z leads where the camera of a frame looks, along the ground.

    Raises
    ------
    WertisError
        When there are fewer than three points, they lie on a line, or the camera only turns or looks straight down.
    """
    record = solved_camera(shot)
    camera = record.solved
    if camera.only_turns:
        raise WertisError("A camera that only turns knows no depth, and so no ground.")
    if frame not in camera.poses:
        raise WertisError(f"The camera is not solved on frame {frame}; choose one on which it is.")
    points = camera.points[sorted(numbers)]
    plane = plane_through(camera, points, frame)
    down = -plane.normal
    ahead = camera.poses[frame][2, :3]
    ahead = ahead - (ahead @ down) * down
    if np.linalg.norm(ahead) < 1e-3:
        raise WertisError(f"The camera looks straight at the ground on frame {frame}; choose another frame.")
    ahead = ahead / np.linalg.norm(ahead)
    turn = np.stack([np.cross(down, ahead), down, ahead])
    middle = points.mean(0)
    return _moved(shot, turn, middle - ((middle - plane.point) @ plane.normal) * plane.normal, 1.0)


def set_distance(shot: Shot, numbers: Sequence[int], distance: float) -> Shot:
    """The shot whose world is so large that two of the camera's points are so far apart; its origin stays.

    Raises
    ------
    WertisError
        When these are not two points apart from each other, the distance is none, or the camera only turns.
    """
    record = solved_camera(shot)
    if record.solved.only_turns:
        raise WertisError("A camera that only turns knows no distances.")
    if len(set(numbers)) != 2:
        raise WertisError(f"A distance is between two points, and {len(set(numbers))} are chosen.")
    if not (np.isfinite(distance) and distance > 0):
        raise WertisError("The distance must be a number greater than 0.")
    a, b = record.points[list(numbers)]
    now = float(np.linalg.norm(a - b))
    if now < 1e-9:
        raise WertisError("The two points lie in the same place; choose two that are apart.")
    return _moved(shot, np.eye(3), np.zeros(3), distance / now)


def _moved(shot: Shot, turn: np.ndarray, origin: np.ndarray, scale: float) -> Shot:
    """The shot with its world's points X at scale * turn (X - origin), the camera and the tracks' planes with them."""
    record = solved_camera(shot)
    poses = np.array(record.poses, float)
    rotations = poses[:, :, :3] @ turn.T
    places = scale * (poses[:, :, :3] @ origin + poses[:, :, 3])
    changed: SolvedCameraRecord = record.but(poses=np.concatenate([rotations, places[:, :, None]], axis=2),
                                             points=scale * (record.points - origin) @ turn.T)
    tracks = []
    for track in shot.tracks:
        settings = track.settings
        if isinstance(settings, CameraSettings) and settings.plane is not None:
            point, normal = scale * turn @ (settings.plane.point - origin), turn @ settings.plane.normal
            track = track.but(settings=settings.but(point=tuple(map(float, point)), normal=tuple(map(float, normal))))
        tracks.append(track)
    return shot.but(camera=changed, tracks=tuple(tracks))
