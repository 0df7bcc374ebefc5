"""The plane of a scene that a region of a frame shows, in the space of a solved camera.

It begins with points in space that lie there, or with what the planar tracker and features say; then the pixels of all frames together say how it lies
(`plane_alignment`).
"""

from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from operator import itemgetter

import cv2
import numpy as np

from wertis.core.errors import RegionError, WertisError
from wertis.core.geometry import homography, polygon
from wertis.core.geometry.camera import ScenePlane, SolvedCamera, plane_error, plane_through, refined_plane
from wertis.core.phases import tell
from wertis.core.plate.base import Plate, luma
from wertis.core.track.camera import triangulated
from wertis.core.track.features import followed_from
from wertis.core.track.plane_alignment import PlaneAligner, plane_hypotheses
from wertis.core.track.run import track_plane

_FEW, _SURE, _SEEN = 3, 0.4, 0.5  # frames, pixels of expected error and share of the region, from which the planar tracker's answers make a plane
_DENSE = 250  # features on a plane
_CONSISTENT = 0.45  # pixels by which the planar tracker's answers may miss a plane that the camera sees
_ALIKE, _UNLIKE = 0.85, 0.4  # mean likeness of the frames through a plane, from which it is taken at once, and up to which the pixels say nothing
_ASTRAY = 0.02  # of likeness, by which what was begun with may look better than what alignment makes of it
_GUESSES, _DEPTHS, _ROUND = 10, 20, 30  # planes, of all that are guessed, that are aligned; their depths; points round a region that say how far it is
_TOO_FEW = "Too few features are seen on that surface to tell how it lies; draw it larger, or where there is more detail."
_JUDGES, _STILL = 6, 1.0  # features that judge planes, and pixels within which a still point in space explains one


@dataclass(frozen=True)
class FilmedScene:
    """A plate whose camera is solved.

    Attributes
    ----------
    held : gives a frame's mask (h, w) uint8, 255 on what moves by itself or does not count.
    read : reads a picture; `plate.read` when None.
    """

    camera: SolvedCamera
    plate: Plate
    held: Callable[[int], np.ndarray] | None = None
    read: Callable[[int], np.ndarray] | None = None

    def luma(self, frame: int) -> np.ndarray:
        """A frame's luma (h, w) uint8."""
        return feature_luma((self.read or self.plate.read)(frame))


def feature_luma(picture: np.ndarray) -> np.ndarray:
    """A picture's luma (h, w) uint8, as features are followed on it."""
    return np.clip(luma(picture), 0, 255).astype(np.uint8)


def picked_plane(scene: FilmedScene, region: np.ndarray, frame: int) -> ScenePlane:
    """The plane that is seen inside a region (N, 2) on a frame.

    It begins with the camera's own points there; where they do not lead to a plane through which the other frames look like this one, with where the
    planar tracker finds the region, and with features that are followed there anew. The pixels of all frames together then say how it lies.

    Raises
    ------
    WertisError
        When the camera has no answer on the frame, or too few features lie there.
    """
    camera = scene.camera
    if frame not in camera.poses:
        raise RegionError(f"The camera is not solved on frame {frame}; choose one on which it is.")
    if camera.only_turns:  # whatever its depth and slant, a surface moves as one that is looked at straight
        eye, rays = camera.rays(region.mean(0)[None], frame)
        ahead = rays[0] / np.linalg.norm(rays[0])
        return ScenePlane(eye + ahead, -ahead, 0.0)
    mask = polygon.fill(region, camera.size)
    held = scene.held(frame) if scene.held is not None else None
    if held is not None:
        mask[held > 127] = 0
    try:
        aligner = PlaneAligner(camera, mask, frame, scene.luma, scene.held)
    except RegionError:
        aligner = None
    if aligner is not None:
        with suppress(WertisError):
            first = aligner.aligned(plane_through(camera, _points_in(camera, mask, frame), frame))
            if first is not None and first.likeness > _ALIKE and first.plane.off < _CONSISTENT:
                return first.plane
    found: list[ScenePlane] = []
    trouble: WertisError | None = None
    try:
        found = _plane_candidates(scene, region, mask, frame)
    except WertisError as why:
        trouble = why
    begun = found
    aligned = [a for plane in found if (a := aligner.aligned(plane)) is not None] if aligner is not None else []
    if aligner is not None and max((a.likeness for a in aligned), default=0.0) < _UNLIKE:
        guesses = sorted(plane_hypotheses(camera, region, frame, _depths_around(camera, region, frame)), key=aligner.likeness)[-_GUESSES:]
        begun = [*found, *guesses]
        for number, plane in enumerate(guesses):
            tell("trying how the plane may lie", number, len(guesses))
            guess = aligner.gradually_aligned(plane)
            aligned += [guess] if guess is not None else []
    best = max(aligned, key=lambda a: a.likeness, default=None)
    if aligner is not None and begun:
        alike, plane = max(((aligner.likeness_of_all(plane), plane) for plane in begun), key=itemgetter(0))
        if best is None or alike > aligner.likeness_of_all(best.plane) + _ASTRAY:
            tell("trying how the plane may lie", _GUESSES, _GUESSES)
            best = aligner.most_alike(plane) or best
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


def _plane_candidates(scene: FilmedScene, region: np.ndarray, mask: np.ndarray, frame: int) -> list[ScenePlane]:
    """Planes that the region may show, the likeliest first, by the planar tracker and by features that are followed anew.

    Raises
    ------
    WertisError
        When too few features lie there.
    """
    camera = scene.camera
    grid = _grid(region)
    whole = {f: (np.arange(len(grid)), homography.apply(m, grid)) for f, m in _tracked_as_plane(scene, region, mask, frame).items()}
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
    start, seen = _rigid(camera, *followed_from(scene.luma(frame), mask, onward, backward, scene.luma, _DENSE), frame)
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


def _tracked_as_plane(scene: FilmedScene, region: np.ndarray, mask: np.ndarray, frame: int) -> dict[int, np.ndarray]:
    """Frame to the homography (3, 3) from `frame` by which the planar tracker finds the region there, where it is sure."""
    found = {}
    for run in ([f for f in scene.camera.poses if f > frame], [f for f in reversed(scene.camera.poses) if f < frame]):
        try:
            for f, fix in track_plane(scene.plate, _box(region), frame, run, "perspective", read=scene.read, held=scene.held, mask=mask):
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


def _box(region: np.ndarray) -> np.ndarray:
    x, y, w, h = cv2.boundingRect(region.astype(np.float32))
    return np.array([[x, y], [x + w, y], [x + w, y + h], [x, y + h]], float)
