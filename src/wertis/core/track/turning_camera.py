"""A camera that only turns, solved from feature tracks: its turns and its focal length; depth cannot be known.

Each frame's directions of sight are turned onto those that all frames have together (W. Kabsch, A solution for the best rotation to relate two sets of
vectors, 1976), and the focal length is the one with which they agree best (for the idea R. Hartley, Self-calibration of stationary cameras, IJCV 22,
1997).
"""

from collections.abc import Sequence

import numpy as np
import scipy

from wertis.core.geometry.camera import SolvedCamera
from wertis.core.track.features import FeatureTracks

_LEAST_SIGHTS, _LEAST_SHARED = 4, 12  # frames of a track, and tracks of a frame, that count
_WIDEST, _NARROWEST, _TRIED = 0.4, 8.0, 40  # of the picture's width, focal lengths between which it is looked for, and how many are tried
_PAIRS = 8  # pairs of frames by which the focal length is looked for
_ROUNDS, _CUT = 12, 3.0  # of turning and joining, and times the usual error from which a sight counts little
_FITS = 0.5  # pixels, mean error up to which a camera that only turns explains the tracks


def turning_camera(tracks: FeatureTracks, size: tuple[int, int], focal: float | None = None) -> SolvedCamera | None:
    """The camera; None where it does more than turn. Its features lie at a distance of one, for want of another.

    Parameters
    ----------
    size : width and height of the picture.
    focal : in pixels, when it is known.
    """
    middle = np.array(size) / 2
    long = [n for n, p in enumerate(tracks.places) if len(p) >= _LEAST_SIGHTS]
    on = {f: {n: tracks.places[n][f] for n in long if f in tracks.places[n]} for f in tracks.frames}
    frames = [f for f in tracks.frames if len(on[f]) >= _LEAST_SHARED]
    pairs = _far_apart(frames, on)
    if len(frames) < 3 or not pairs:
        return None
    if focal is None:
        tried = np.geomspace(_WIDEST, _NARROWEST, _TRIED) * size[0]
        shared = [[np.array([on[f][n] for n in sorted(on[a].keys() & on[b].keys())]) for f in (a, b)] for a, b in pairs]
        costs = [_pair_cost(f, shared, middle) for f in tried]
        k = int(np.argmin(costs))
        low, high = tried[max(k - 1, 0)], tried[min(k + 1, _TRIED - 1)]
        best = scipy.optimize.minimize_scalar(lambda f: _joined(f, frames, on, middle)[2], bounds=(low, high), method="bounded", options={"xatol": 0.05})
        focal = float(best.x)
    turns, rays, error = _joined(focal, frames, on, middle)
    if error > _FITS:
        return None
    poses = {f: np.column_stack([r, np.zeros(3)]) for f, r in turns.items()}
    first = poses[min(poses)][:, :3]
    poses = {f: np.column_stack([p[:, :3] @ first.T, np.zeros(3)]) for f, p in poses.items()}
    numbers = sorted(rays)
    camera = SolvedCamera(size, focal, middle, (0.0, 0.0), poses, np.array([first @ rays[n] for n in numbers]), np.array(numbers, int), {})
    place = dict(zip(numbers, camera.points, strict=True))
    errors = {}
    for f in poses:
        seen = [n for n in on[f] if n in place]
        away = np.linalg.norm(camera.project(np.array([place[n] for n in seen]), f) - np.array([on[f][n] for n in seen]), axis=1)
        errors[f] = float(np.mean(np.minimum(away, _CUT * max(float(np.median(away)), 0.05))))
    return SolvedCamera(size, focal, middle, (0.0, 0.0), poses, camera.points, camera.numbers, errors)


def _rays(points: np.ndarray, focal: float, middle: np.ndarray) -> np.ndarray:
    rays = np.column_stack([(points - middle) / focal, np.ones(len(points))])
    return np.asarray(rays / np.linalg.norm(rays, axis=1, keepdims=True))


def _turn(from_: np.ndarray, to: np.ndarray, weight: np.ndarray) -> np.ndarray:
    """The rotation (3, 3) that takes unit vectors (n, 3) nearest to others."""
    u, _, v = np.linalg.svd((to * weight[:, None]).T @ from_)
    return np.asarray(u @ np.diag([1, 1, np.sign(np.linalg.det(u @ v))]) @ v)


def _far_apart(frames: list[int], on: dict[int, dict[int, np.ndarray]]) -> list[tuple[int, int]]:
    """Pairs of frames between which what they share has moved farthest."""
    found = []
    step = max(1, len(frames) // 12)
    for k, a in enumerate(frames[::step]):
        for b in frames[::step][k + 1:]:
            shared = on[a].keys() & on[b].keys()
            if len(shared) >= 2 * _LEAST_SHARED:
                moved = np.array([on[a][n] - on[b][n] for n in shared])
                found.append((float(np.median(np.linalg.norm(moved, axis=1))), a, b))
    return [(a, b) for _, a, b in sorted(found, reverse=True)[:_PAIRS]]


def _pair_cost(focal: float, pairs: Sequence[Sequence[np.ndarray]], middle: np.ndarray) -> float:
    """How far, in pixels, what pairs of frames share, (n, 2) on both, is from one turn."""
    total = 0.0
    for pair in pairs:
        p, q = (_rays(places, focal, middle) for places in pair)
        weight = np.ones(len(p))
        for _ in range(3):
            away = np.linalg.norm(p @ _turn(p, q, weight).T - q, axis=1) * focal
            weight = 1 / (1 + (away / (_CUT * max(float(np.median(away)), 0.05))) ** 2)
        total += float(np.median(away))
    return total


def _joined(focal: float, frames: list[int], on: dict[int, dict[int, np.ndarray]],
            middle: np.ndarray) -> tuple[dict[int, np.ndarray], dict[int, np.ndarray], float]:
    """Frame to rotation (3, 3) from the world, track to direction (3,) in it, and the mean error in pixels."""
    tracks = sorted({n for f in frames for n in on[f]})
    sight = {f: (np.searchsorted(tracks, list(on[f])), _rays(np.array(list(on[f].values())), focal, middle)) for f in frames}
    turns: dict[int, np.ndarray] = {}
    world, known = np.zeros((len(tracks), 3)), np.zeros(len(tracks), bool)
    for f in frames:  # one after the other first
        which, rays = sight[f]
        old = known[which]
        if turns and old.sum() < _LEAST_SHARED:
            continue
        turns[f] = _turn(world[which[old]], rays[old], np.ones(int(old.sum()))) if turns else np.eye(3)
        world[which[~old]] = rays[~old] @ turns[f]
        known[which] = True
    error = np.inf
    for _ in range(_ROUNDS):  # and then all together
        world[:] = 0
        for f, r in turns.items():
            which, rays = sight[f]
            world[which] += rays @ r
        world[known] /= np.linalg.norm(world[known], axis=1, keepdims=True)
        errors = []
        for f in turns:
            which, rays = sight[f]
            away = np.linalg.norm(world[which] @ turns[f].T - rays, axis=1) * focal
            cut = _CUT * max(float(np.median(away)), 0.05)
            turns[f] = _turn(world[which], rays, 1 / (1 + (away / cut) ** 2))
            errors.append(float(np.mean(np.minimum(away, cut))))
        error = float(np.mean(errors))
    return turns, {tracks[k]: world[k] for k in np.flatnonzero(known)}, error
