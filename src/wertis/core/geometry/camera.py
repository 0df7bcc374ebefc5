"""A camera with its path, and planes of the scene that it sees.

R. Hartley and A. Zisserman, Multiple view geometry in computer vision, 2004 (the camera); D. Brown, Decentering distortion of lenses, 1966 (radial terms).
"""

from dataclasses import dataclass, field

import numpy as np

from wertis.core.errors import WertisError

_STEPS = 12  # of Gauss-Newton


@dataclass(frozen=True)
class SolvedCamera:
    """A camera's path and what it saw.

    Attributes
    ----------
    size : width and height of the picture.
    focal : pixels; of a camera that zooms, the mean of all frames.
    principal : (2,) in pixels, the first pixel's centre at (0.5, 0.5).
    radial : first and second radial terms of the lens, on the picture in units of the focal length.
    poses : frame to (3, 4), world to camera: x right, y down, z forward.
    points : (N, 3) features in space.
    numbers : (N,) which track of `FeatureTracks` each is.
    errors : frame to mean reprojection error in pixels.
    zoom : frame to focal length in pixels, of a camera that zooms; empty where it is `focal` on all.
    """

    size: tuple[int, int]
    focal: float
    principal: np.ndarray
    radial: tuple[float, float]
    poses: dict[int, np.ndarray]
    points: np.ndarray
    numbers: np.ndarray
    errors: dict[int, float]
    zoom: dict[int, float] = field(default_factory=dict)

    def focal_at(self, frame: int) -> float:
        """The focal length on a frame, in pixels."""
        return self.zoom.get(frame, self.focal)

    @property
    def focal_words(self) -> str:
        """The focal length, in words."""
        if not self.zoom:
            return f"{self.focal:.1f} px"
        return f"{min(self.zoom.values()):.1f} to {max(self.zoom.values()):.1f} px"

    @property
    def error(self) -> float:
        """Mean reprojection error over all frames, in pixels."""
        return float(np.mean(list(self.errors.values()))) if self.errors else np.inf

    @property
    def only_turns(self) -> bool:
        """Whether it stays in one place, so that directions are known and depths are not."""
        places = np.array([-p[:, :3].T @ p[:, 3] for p in self.poses.values()])
        return bool(np.ptp(places, axis=0).max() < 1e-9)

    def project(self, points: np.ndarray, frame: int) -> np.ndarray:
        """Points (n, 3) of the world in a frame's picture (n, 2); nan behind the camera."""
        pose = self.poses[frame]
        at = points @ pose[:, :3].T + pose[:, 3]
        with np.errstate(all="ignore"):
            flat = np.where(at[:, 2:] > 1e-9, at[:, :2] / at[:, 2:], np.nan)
        return self.distorted(flat) * self.focal_at(frame) + self.principal

    def rays(self, points: np.ndarray, frame: int) -> tuple[np.ndarray, np.ndarray]:
        """The camera's place (3,) on a frame, and the directions (n, 3) in the world in which it sees points (n, 2) of its picture."""
        pose = self.poses[frame]
        flat = self.straight((points - self.principal) / self.focal_at(frame))
        return -pose[:, :3].T @ pose[:, 3], np.column_stack([flat, np.ones(len(flat))]) @ pose[:, :3]

    def distorted(self, flat: np.ndarray) -> np.ndarray:
        """Points (n, 2) of the plane at unit distance, as the lens shows them."""
        k1, k2 = self.radial
        square = (flat ** 2).sum(-1, keepdims=True)
        return np.asarray(flat * (1 + k1 * square + k2 * square ** 2))

    def straight(self, seen: np.ndarray) -> np.ndarray:
        """The way back of `distorted`, by iteration."""
        flat = seen.copy()
        k1, k2 = self.radial
        if k1 == k2 == 0:
            return flat
        for _ in range(20):
            square = (flat ** 2).sum(-1, keepdims=True)
            flat = seen / (1 + k1 * square + k2 * square ** 2)
        return np.asarray(flat)


_MOST_TILT = 1e-3  # radians, and part of the distance, by which a plane is moved to tell how its motion changes with it


@dataclass(frozen=True)
class ScenePlane:
    """A plane of the scene.

    Attributes
    ----------
    point, normal : (3,) on it, and of unit length towards the camera that it was picked from.
    off : pixels that its features lie off.
    covariance : (3, 3) of its `scaled_normal` in the axes of the camera that it was picked from, relative to the squared length of that; None where it is
        not known. It stays what it is when the world is turned or takes another scale.
    """

    point: np.ndarray
    normal: np.ndarray
    off: float
    covariance: np.ndarray | None = None


def plane_through(camera: SolvedCamera, points: np.ndarray, frame: int) -> ScenePlane:
    """The plane that most of some points (n, 3) in space lie on, towards the camera of a frame.

    Raises
    ------
    WertisError
        When there are fewer than three, or they lie on a line.
    """
    if len(points) < 3:
        raise WertisError(f"{len(points)} features were solved on that surface, and a plane needs three; draw it larger, or where there is more detail.")
    depths = (points @ camera.poses[frame][:, :3].T + camera.poses[frame][:, 3])[:, 2]
    scale = camera.focal_at(frame) / max(float(np.median(depths)), 1e-9)  # pixels per unit
    rng = np.random.default_rng(len(points))
    best, least = np.ones(len(points), bool), np.inf
    for _ in range(300):
        a, b, c = points[rng.choice(len(points), 3, replace=False)]
        normal = np.cross(b - a, c - a)
        length = float(np.linalg.norm(normal))
        if length < 1e-12:
            continue
        off = np.abs((points - a) @ normal / length) * scale
        cost = float(np.minimum(off, 3.0).sum())
        if cost < least:
            best, least = off < max(3.0 * float(np.median(off)), 0.5), cost
    kept = points[best]
    for _ in range(5):
        middle = kept.mean(0)
        normal = np.linalg.svd(kept - middle)[2][2]
        off = np.abs((points - middle) @ normal) * scale
        kept = points[off < max(3.0 * float(np.median(off)), 0.5)]
        if len(kept) < 3:
            raise WertisError("The features on that surface lie on a line; a plane needs some beside it.")
    eye = -camera.poses[frame][:, :3].T @ camera.poses[frame][:, 3]
    return ScenePlane(middle, normal * np.sign((eye - middle) @ normal), float(np.median(off)))


def refined_plane(camera: SolvedCamera, plane: ScenePlane, start: np.ndarray, seen: dict[int, tuple[np.ndarray, np.ndarray]], frame: int) -> ScenePlane:
    """The plane by which points of a frame, carried through it, come nearest to where they were seen on others: robust Gauss-Newton on its three numbers.

    Parameters
    ----------
    start : (n, 2) the points on `frame`.
    seen : other frame to which of them (m,) were seen there, and where (m, 2).
    """
    eye = -camera.poses[frame][:, :3].T @ camera.poses[frame][:, 3]
    inverse = plane.normal / float((plane.point - eye) @ plane.normal)  # the plane is all X with inverse . (X - eye) = 1
    _, rays = camera.rays(start, frame)
    frames = [f for f in seen if f in camera.poses and f != frame]
    if not frames:
        return plane
    which = np.concatenate([seen[f][0] for f in frames])
    was = np.concatenate([seen[f][1] for f in frames])

    def carried(numbers: np.ndarray) -> np.ndarray:
        space = eye + rays / (rays @ numbers)[:, None]
        return np.concatenate([camera.project(space[seen[f][0]], f) for f in frames])

    off = np.inf
    for _ in range(_STEPS):
        at = carried(inverse)
        away = was - at
        size = np.linalg.norm(np.nan_to_num(away, nan=1e3), axis=1)
        # a track counts as a whole: one that is not of the plane goes wrong on all of its frames
        each = np.array([np.median(size[which == k]) if (which == k).any() else np.inf for k in range(len(start))])
        off = float(np.median(each[np.isfinite(each)]))
        cut = max(3.0 * off, 0.3)
        weight = np.where(np.isfinite(at).all(1), 1 / (1 + (each[which] / cut) ** 4), 0)
        step = 1e-5 * np.linalg.norm(inverse)
        slopes = np.stack([(carried(inverse + step * axis) - at) / step for axis in np.eye(3)], axis=2)
        slopes, away = np.nan_to_num(slopes), np.nan_to_num(away)
        normal = np.einsum("n,nka,nkb->ab", weight, slopes, slopes)
        inverse = inverse + np.linalg.solve(normal + 1e-9 * np.trace(normal) * np.eye(3), np.einsum("n,nka,nk->a", weight, slopes, away))
    unit = inverse / np.linalg.norm(inverse)
    point = eye + unit / float(unit @ inverse)
    return ScenePlane(point, unit * np.sign((eye - point) @ unit), off)


def plane_error(camera: SolvedCamera, plane: ScenePlane, start: np.ndarray, seen: dict[int, tuple[np.ndarray, np.ndarray]], frame: int) -> float:
    """By how many pixels points (n, 2) of a frame, carried through a plane, usually miss where they are seen on others; `seen` as for `refined_plane`."""
    space = on_plane(camera, plane, start, frame)
    off: list[list[float]] = [[] for _ in start]
    for f, (which, places) in seen.items():
        away = np.linalg.norm(camera.project(space[which], f) - places, axis=1)
        for k, e in zip(which, np.nan_to_num(away, nan=1e3), strict=True):
            off[k].append(float(e))
    return float(np.median([np.median(e) for e in off if e])) if any(off) else np.inf


def on_plane(camera: SolvedCamera, plane: ScenePlane, points: np.ndarray, frame: int) -> np.ndarray:
    """Where the rays through points (n, 2) of a frame meet a plane, (n, 3); nan where they do not."""
    eye, rays = camera.rays(points, frame)
    with np.errstate(all="ignore"):
        far = ((plane.point - eye) @ plane.normal) / (rays @ plane.normal)
    return np.asarray(eye + np.where(far > 0, far, np.nan)[:, None] * rays)


def scaled_normal(plane: ScenePlane, eye: np.ndarray) -> np.ndarray:
    """(3,) n / d: a plane's unit normal away from the eye (3,) over its distance from that, so that n / d . (X - eye) = 1 on it.

    R. Hartley and A. Zisserman, Multiple View Geometry in Computer Vision, 2nd edition, 2004, section 13.1: the three numbers of a plane's homography.
    """
    return np.asarray(plane.normal / float((plane.point - eye) @ plane.normal))


def plane_of_scaled_normal(scaled: np.ndarray, eye: np.ndarray, off: float = 0.0, covariance: np.ndarray | None = None) -> ScenePlane:
    """The plane of a `scaled_normal` (3,) as seen from the eye (3,)."""
    length = float(np.linalg.norm(scaled))
    return ScenePlane(eye + scaled / length ** 2, -scaled / length, off, covariance)


def plane_deviations(camera: SolvedCamera, plane: ScenePlane, points: np.ndarray, frame: int) -> dict[int, float]:
    """The plane's covariance propagated to the pictures: frame to the standard deviation in pixels, root mean square over points (n, 2) of a frame that
    are carried on it; 0 where the covariance is not known."""
    if plane.covariance is None:
        return dict.fromkeys(camera.poses, 0.0)
    turn = camera.poses[frame][:, :3]
    eye = -turn.T @ camera.poses[frame][:, 3]
    scaled = scaled_normal(plane, eye)
    there = on_plane(camera, plane, points, frame)
    sizes, directions = np.linalg.eigh(plane.covariance)
    squares: dict[int, float] = dict.fromkeys(camera.poses, 0.0)
    for size, direction in zip(sizes, directions.T, strict=True):
        step = min(np.sqrt(max(size, 0.0)), _MOST_TILT)
        if step <= 0:
            continue
        other = on_plane(camera, plane_of_scaled_normal(scaled + turn.T @ direction * step * np.linalg.norm(scaled), eye), points, frame)
        for f in camera.poses:
            moved = np.linalg.norm(camera.project(other, f) - camera.project(there, f), axis=1) * np.sqrt(size) / step
            squares[f] += float(np.mean(moved ** 2))
    return {f: float(np.sqrt(v)) if np.isfinite(v) else np.inf for f, v in squares.items()}
