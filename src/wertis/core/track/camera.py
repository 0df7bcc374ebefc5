"""A camera solved from feature tracks: its path, its focal length and lens, and the features' places in space.

Structure from motion and its bundle adjustment are pycolmap's (J. Schönberger and J.-M. Frahm, Structure-from-motion revisited, CVPR 2016); what it is
given, which frames and which pairs of them, and what is made of its answer, is ours. The world has no scale of its own: it begins at the first camera, and
the features that are seen from there are one unit away, as the median has it.
"""

import tempfile
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import cv2
import numpy as np

from wertis.core.errors import WertisError
from wertis.core.geometry.camera import SolvedCamera
from wertis.core.track.features import FeatureTracks
from wertis.core.track.turning_camera import turning_camera

_STEPS = (1, 2, 4, 8, 16, 32, 64, 128)  # frames between those that are paired
_LEAST_SHARED = 30  # tracks that two frames must share to be paired
_MAYBE_TRIPOD = 0.85  # share from which it is tried whether the camera only turns
_TRIPOD, _ASKED = 0.97, 6  # share of the shared features that one homography explains, from which there is no parallax, and pairs that are asked
_NO_PARALLAX = ("All of the scene that can be followed is one plane: there is no parallax to tell depth from. Track the surface as a plane with "
                "perspective; it will do as well.")
_SOLVED_TOGETHER = 28  # frames
_PLACED = 12  # features in space by which a further frame is placed
_ARRIVED, _ITERATIONS = 1e-5, 40  # of adjusting: share by which the cost still falls where it ends, and steps at most
_LEAST_FITS = (3.0, 1.0)  # pixels, of each round of adjusting, beyond which a sight of a feature is left out
_LEAST_SIGHTS = 4  # frames on which a feature must be seen
_USUAL = 0.3  # pixels by which features are usually off
_ERROR = 2.0  # pixels, by which a feature may be off its place in space
_SEED = 1  # of what is sampled at random; it is all done by one thread, too, so that the same tracks give the same bits


def solve_camera(tracks: FeatureTracks, size: tuple[int, int], focal: float | None = None, radial: int = 0, zoom: bool = False) -> SolvedCamera:
    """Solve a camera.

    Parameters
    ----------
    size : width and height of the picture.
    focal : in pixels, when it is known; else it is solved for.
    radial : how many radial terms of the lens are solved for: none, one or two.
    zoom : the focal length changes from frame to frame.

    Raises
    ------
    WertisError
        When it cannot be solved, with what that means for the shot.
    """
    import pycolmap  # large, and nobody else needs it

    pycolmap.logging.minloglevel = 3
    pycolmap.set_random_seed(_SEED)
    step = max(1, round(len(tracks.frames) / _SOLVED_TOGETHER))
    frames = tracks.frames[::step]  # others are placed among these afterwards
    on = {f: tracks.on(f) for f in frames}
    with tempfile.TemporaryDirectory(prefix="wertis-camera-") as folder:
        path = Path(folder) / "tracks.db"
        database = pycolmap.Database.open(path)
        cameras = [pycolmap.Camera.create_from_model_name(k, "SIMPLE_RADIAL", focal or 1.2 * max(size), *size)
                   for k in range(1, len(frames) + 1 if zoom else 2)]
        for camera in cameras:
            camera.has_prior_focal_length = focal is not None
        _written(pycolmap, database, cameras, frames, on)
        pairs = _pairs(frames, on)
        if not pairs:
            raise WertisError("Too few features are seen on several frames; the shot is too short, too blurred or too bare to solve a camera from.")
        flat = _one_plane(on, pairs)
        if flat > _TRIPOD and zoom:
            database.close()
            raise WertisError(_NO_PARALLAX)
        if flat > _MAYBE_TRIPOD and not zoom:
            turning = turning_camera(tracks, size, focal)
            if turning is not None or flat > _TRIPOD:
                database.close()
                if turning is None:
                    raise WertisError(_NO_PARALLAX)
                return turning
        for a, b, matches in pairs:
            database.write_matches(frames.index(a) + 1, frames.index(b) + 1, matches.astype(np.uint32))
        database.close()
        (Path(folder) / "pairs.txt").write_text("".join(f"{_name(a)} {_name(b)}\n" for a, b, _ in pairs))
        verified = pycolmap.TwoViewGeometryOptions()
        verified.ransac.random_seed = _SEED
        pycolmap.verify_matches(path, Path(folder) / "pairs.txt", verified)
        options = pycolmap.IncrementalPipelineOptions()
        options.num_threads = options.mapper.num_threads = 1
        options.random_seed = options.mapper.random_seed = _SEED
        options.ba_refine_focal_length = focal is None
        options.ba_refine_extra_params = radial > 0 and not zoom  # beside a zoom it cannot be told
        options.multiple_models, options.extract_colors = False, False
        options.ba_global_frames_ratio = options.ba_global_points_ratio = 1.4
        options.mapper.init_min_tri_angle, options.mapper.filter_max_reproj_error = 4.0, _ERROR
        options.mapper.init_min_num_inliers = 50
        found = pycolmap.incremental_mapping(path, folder, folder, options)
        best = max(found.values(), key=lambda r: r.num_reg_images(), default=None)
    if best is None or best.num_reg_images() < 3:
        raise WertisError(_why_not(on, frames))
    return adjusted(_taken(best, tracks, size, zoom), tracks, focal is None, radial)


def _name(frame: int) -> str:
    return f"frame{frame:+09d}"


def _written(pycolmap: Any, database: Any, cameras: Sequence[Any], frames: Sequence[int], on: dict[int, tuple[np.ndarray, np.ndarray]]) -> None:
    """The camera, or the one of each frame, and the features of all frames, put into a database."""
    rigs = []
    for k, camera in enumerate(cameras, 1):
        camera_id = database.write_camera(camera, use_camera_id=True)
        rig = pycolmap.Rig()
        rig.rig_id = k
        rig.add_ref_sensor(camera.sensor_id)
        rigs.append((camera_id, database.write_rig(rig, use_rig_id=True)))
    for k, frame in enumerate(frames, 1):
        image = pycolmap.Image()
        camera_id, rig_id = rigs[k - 1 if len(rigs) > 1 else 0]
        image.name, image.camera_id, image.image_id = _name(frame), camera_id, k
        database.write_image(image, use_image_id=True)
        whole = pycolmap.Frame()
        whole.frame_id, whole.rig_id = k, rig_id
        whole.add_data_id(image.data_id)
        database.write_frame(whole, use_frame_id=True)
        database.write_keypoints(k, on[frame][1].astype(np.float32))


def _pairs(frames: Sequence[int], on: dict[int, tuple[np.ndarray, np.ndarray]]) -> list[tuple[int, int, np.ndarray]]:
    """Pairs of frames, and (n, 2) which of their features belong together."""
    found = []
    for step in _STEPS:
        for a, b in zip(frames, frames[step:], strict=False):
            _, first, second = np.intersect1d(on[a][0], on[b][0], return_indices=True)
            if len(first) >= _LEAST_SHARED:
                found.append((a, b, np.column_stack([first, second])))
    return found


def _one_plane(on: dict[int, tuple[np.ndarray, np.ndarray]], pairs: Sequence[tuple[int, int, np.ndarray]]) -> float:
    """Share of the features of frames far apart that one homography takes to each other: nearly all where the camera only turns, or sees one plane."""
    shares = []
    for a, b, matches in sorted(pairs, key=lambda pair: pair[0] - pair[1])[:_ASKED]:
        inside = cv2.findHomography(on[a][1][matches[:, 0]], on[b][1][matches[:, 1]], cv2.RANSAC, 1.0)[1]
        shares.append(float(inside.mean()) if inside is not None else 0.0)
    return min(shares)


def _why_not(on: dict[int, tuple[np.ndarray, np.ndarray]], frames: Sequence[int]) -> str:
    """Why no camera could be solved."""
    a, b = frames[0], frames[len(frames) // 3]
    _, first, second = np.intersect1d(on[a][0], on[b][0], return_indices=True)
    if len(first) >= _LEAST_SHARED:
        p, q = on[a][1][first], on[b][1][second]
        if float(np.median(np.linalg.norm(p - q, axis=1))) < 2:
            return "The camera hardly moves: there is no parallax to tell depth from. Track the surface as a plane; it will do as well."
    return "No camera could be solved: too few features move as one rigid scene. Hold out what moves by itself, or choose a range with more parallax."


def _taken(found: Any, tracks: FeatureTracks, size: tuple[int, int], zoom: bool) -> SolvedCamera:
    camera = next(iter(found.cameras.values()))
    focal, cx, cy, k1 = camera.params
    poses, focals = {}, {}
    frames = {_name(f): f for f in tracks.frames}
    for image in found.images.values():
        if image.has_pose:
            poses[frames[image.name]] = np.asarray(image.cam_from_world().matrix())
            focals[frames[image.name]] = float(found.cameras[image.camera_id].params[0])
    numbers = {f: tracks.on(f)[0] for f in poses}
    points, which = [], []
    for point in found.points3D.values():
        element = point.track.elements[0]
        image = found.images[element.image_id]
        points.append(point.xyz)
        which.append(numbers[frames[image.name]][element.point2D_idx])
    poses, space = _from_first(poses, np.array(points).reshape(-1, 3))
    solved = SolvedCamera(size, float(focal), np.array([cx, cy]), (float(k1), 0.0), poses, space, np.array(which, int), {})
    if zoom:
        known = sorted(focals)
        focals = {f: float(np.interp(f, known, [focals[k] for k in known])) for f in tracks.frames}
        solved = replace(solved, focal=float(np.mean(list(focals.values()))), zoom=focals)
    place = dict(zip(which, solved.points, strict=True))
    for frame in tracks.frames:
        if frame not in poses:
            _, at, was = _seen(tracks, place, frame)
            if len(at) >= _PLACED:
                pose = _placed(solved, at, was, min(poses, key=lambda f, frame=frame: abs(f - frame)))  # type: ignore[misc]
                if pose is not None:
                    poses[frame] = pose
    return replace(solved, poses=dict(sorted(poses.items())), zoom={f: solved.zoom[f] for f in sorted(poses)} if zoom else {})


def _seen(tracks: FeatureTracks, space: Mapping[int, np.ndarray], frame: int) -> tuple[list[int], np.ndarray, np.ndarray]:
    """Numbers (n) of the tracks that are on a frame and have a place in `space`, those places (n, 3), and where they are seen (n, 2)."""
    numbers = [n for n, places in enumerate(tracks.places) if frame in places and n in space]
    return (numbers, np.array([space[n] for n in numbers]).reshape(-1, 3), np.array([tracks.places[n][frame] for n in numbers]).reshape(-1, 2))


def adjusted(solved: SolvedCamera, tracks: FeatureTracks, focal: bool, radial: int) -> SolvedCamera:
    """A camera with all frames and all tracks that fit adjusted together, those that fit badly left out (bundle adjustment, with Cauchy's weights).

    Parameters
    ----------
    focal, radial : solve for the focal length, which is one of each frame where the camera zooms, and for so many radial terms of the lens, as well.
    """
    import pycolmap  # large, and nobody else needs it

    for least in _LEAST_FITS:
        space = {n: x for n in range(len(tracks.places)) if (x := triangulated(solved, tracks.places[n])) is not None}
        off: dict[int, dict[int, float]] = {n: {} for n in space}
        for f in solved.poses:
            numbers, at, was = _seen(tracks, space, f)
            away = np.linalg.norm(solved.project(at, f) - was, axis=1)
            for n, e in zip(numbers, away.tolist(), strict=True):
                off[n][f] = e
        good = {n: {f for f, e in on.items() if e < least} for n, on in off.items() if float(np.median(list(on.values()))) < least / 2}
        good = {n: frames for n, frames in good.items() if len(frames) >= _LEAST_SIGHTS}
        if len(good) < _PLACED:
            break
        solved = _adjusted_once(pycolmap, solved, tracks, {n: space[n] for n in good}, good, focal, radial)
    errors = {}
    place = dict(zip(solved.numbers.tolist(), solved.points, strict=True))
    for frame in solved.poses:
        _, at, was = _seen(tracks, place, frame)
        if len(at):
            away = np.linalg.norm(solved.project(at, frame) - was, axis=1)
            errors[frame] = float(np.mean(away[away < _ERROR])) if (away < _ERROR).any() else float(np.median(away))
    poses, points = _from_first(solved.poses, solved.points)
    return replace(solved, poses=poses, points=points, errors=errors)


def triangulated(solved: SolvedCamera, places: dict[int, np.ndarray]) -> np.ndarray | None:
    """Where a track's feature (3,) lies in space, by the direct linear transform; None where it is seen too seldom, too far away, or behind a camera."""
    frames = [f for f in places if f in solved.poses]
    if len(frames) < _LEAST_SIGHTS:
        return None
    focals = np.array([[solved.focal_at(f)] for f in frames])
    flat = solved.straight((np.array([places[f] for f in frames]) - solved.principal) / focals)
    poses = np.array([solved.poses[f] for f in frames])
    rows = np.concatenate([flat[:, :1] * poses[:, 2] - poses[:, 0], flat[:, 1:] * poses[:, 2] - poses[:, 1]])
    rows /= np.linalg.norm(rows, axis=1, keepdims=True)
    found = np.linalg.svd(rows)[2][3]
    if abs(found[3]) < 1e-12:
        return None
    point = found[:3] / found[3]
    depth = poses[:, 2, :3] @ point + poses[:, 2, 3]
    return point if (depth > 0).all() else None


def _adjusted_once(pycolmap: Any, solved: SolvedCamera, tracks: FeatureTracks, space: dict[int, np.ndarray], good: dict[int, set[int]], free: bool,
                   radial: int) -> SolvedCamera:
    made = pycolmap.Reconstruction()
    order = list(solved.poses)
    model, terms = ("RADIAL", solved.radial) if radial > 1 or solved.radial[1] else ("SIMPLE_RADIAL", solved.radial[:1])
    for k, frame in enumerate(order if solved.zoom else order[:1], 1):
        camera = pycolmap.Camera.create_from_model_name(k, model, solved.focal_at(frame), *solved.size)
        camera.params = [solved.focal_at(frame), *solved.principal, *terms]
        made.add_camera_with_trivial_rig(camera)
    index: dict[tuple[int, int], int] = {}
    for k, frame in enumerate(order, 1):
        numbers = [n for n in space if frame in good[n]]
        index.update({(n, frame): i for i, n in enumerate(numbers)})
        image = pycolmap.Image(name=_name(frame), keypoints=np.array([tracks.places[n][frame] for n in numbers]).reshape(-1, 2),
                               camera_id=k if solved.zoom else 1, image_id=k)
        made.add_image_with_trivial_frame(image, pycolmap.Rigid3d(solved.poses[frame]))
    at = {frame: k for k, frame in enumerate(order, 1)}
    idents = {n: made.add_point3D(x, pycolmap.Track([pycolmap.TrackElement(at[f], index[n, f]) for f in sorted(good[n])])) for n, x in space.items()}
    options = pycolmap.BundleAdjustmentOptions()
    options.refine_focal_length, options.refine_extra_params, options.print_summary = free, radial > 0 and not solved.zoom, False
    options.ceres.loss_function_type, options.ceres.loss_function_scale = pycolmap.LossFunctionType.CAUCHY, _USUAL
    options.ceres.solver_options.num_threads = 1
    options.ceres.solver_options.function_tolerance, options.ceres.solver_options.max_num_iterations = _ARRIVED, _ITERATIONS
    config = pycolmap.BundleAdjustmentConfig()
    for k in at.values():
        config.add_image(k)
    config.fix_gauge(pycolmap.BundleAdjustmentGauge.TWO_CAMS_FROM_WORLD)
    pycolmap.create_default_bundle_adjuster(options, config, made).solve()
    focal, cx, cy, *found = made.camera(1).params
    zoom = {f: float(made.camera(k).params[0]) for f, k in at.items()} if solved.zoom else {}
    focal = float(np.mean(list(zoom.values()))) if zoom else focal
    lens = (float(found[0]), float(found[1]) if len(found) > 1 else 0.0)
    poses = {frame: np.asarray(made.image(at[frame]).cam_from_world().matrix()) for frame in order}
    points = np.array([made.point3D(idents[n]).xyz for n in space])
    return replace(solved, focal=float(focal), principal=np.array([cx, cy]), radial=lens, poses=poses, points=points,
                   numbers=np.array(list(space), int), zoom=zoom)


def _placed(camera: SolvedCamera, points: np.ndarray, seen: np.ndarray, near: int) -> np.ndarray | None:
    """The pose (3, 4) of a frame on which points (n, 3) are seen at places (n, 2), from that of a frame near it; None where too few agree."""
    pose = camera.poses[near]
    flat = camera.straight((seen - camera.principal) / camera.focal_at(near))
    turn, shift = cv2.Rodrigues(pose[:, :3])[0], pose[:, 3:].copy()
    ok, turn, shift, inliers = cv2.solvePnPRansac(points, flat, np.eye(3), None, turn, shift, True, 200, _ERROR / camera.focal_at(near))
    if not ok or inliers is None or len(inliers) < _PLACED:
        return None
    which = inliers[:, 0]
    turn, shift = cv2.solvePnPRefineLM(points[which], flat[which], np.eye(3), None, turn, shift)
    return np.column_stack([cv2.Rodrigues(turn)[0], shift])


def _from_first(poses: dict[int, np.ndarray], points: np.ndarray) -> tuple[dict[int, np.ndarray], np.ndarray]:
    """Cameras and points (N, 3) in a world that begins at the first camera, in which what it sees is one unit away."""
    first = poses[min(poses)]
    seen = points @ first[:, :3].T + first[:, 3]
    unit = float(np.median(seen[seen[:, 2] > 0, 2])) if (seen[:, 2] > 0).any() else 1.0
    moved = {}
    for frame in sorted(poses):
        turn = poses[frame][:, :3] @ first[:, :3].T
        moved[frame] = np.column_stack([turn, (poses[frame][:, 3] - turn @ first[:, 3]) / unit])
    return moved, seen / unit
