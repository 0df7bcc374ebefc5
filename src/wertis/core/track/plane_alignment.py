"""A plane of the scene found by its pixels, where the camera that sees it is known: all frames together align three numbers, the plane's.

Each frame's alignment says how the surface lies there, and how surely in which direction; the plane is what most of that agrees on. A surface with
little texture, too little for any one frame to tell its eight numbers, is found all the same. Known ground: H. Jin, P. Favaro and S. Soatto, A
semi-direct approach to structure from motion, The Visual Computer 19, 2003; S. Baker and I. Matthews, Lucas-Kanade 20 years on, IJCV 56, 2004.
"""

from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass

import numpy as np
import scipy

from wertis.core.errors import PlateError, RegionError
from wertis.core.geometry import homography
from wertis.core.geometry.camera import ScenePlane, SolvedCamera, on_plane, plane_of_scaled_normal, scaled_normal
from wertis.core.geometry.conventions import from_centred, to_centred
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.track.align import CORRELATION, Alignment, corner_moves
from wertis.core.track.covariance import corrected_for_attenuation, noise_information
from wertis.core.track.kinds import KINDS
from wertis.core.track.levels import Levels
from wertis.core.track.reference import Reference

_MOST_TILES = 400  # of a level
_ROUNDS = {2: 6, 1: 8, 0: 16}  # level to most Gauss-Newton steps: where grain outweighs texture each goes only a part of the way
_TILES = {2: 60, 1: 80, 0: 120}  # level to tiles of a frame
_ARRIVED = 0.004  # pixels that the region's corners move in a step, root mean square over the frames, from which a level is done
_ROUGH = 0.3  # as the planar tracker's: the place is unsure at first
_WORSE = 0.02  # of likeness, by which a finer level's answer may look worse at the level before it
_HIDDEN = 0.35  # likeness that a frame may fall behind the best of them before it counts a half: something else is seen there
_FIRST_PART = 0.25  # of the frames, the nearest ones, by which a plane that may be far off is aligned first
_SIMPLEX, _TRIED_TO, _TRIALS = 2.0, 0.02, 200  # pixels of the corners, how far off the first trials are, and to what they come; and most trials
_MEMORY = 400 << 20  # bytes of pyramids


@dataclass(frozen=True)
class AlignedPlane:
    """A plane that was aligned.

    Attributes
    ----------
    plane : the plane; its `off` is the usual shift, in pixels, that the frames' own alignments still want.
    likeness : 0..1, how like the reference frame the others look through it, on average.
    error : expected error in pixels of the region's corners, root mean square over the frames.
    """

    plane: ScenePlane
    likeness: float
    error: float


class PlaneAligner:
    """Aligns planes that a region of a frame may show.

    Parameters
    ----------
    mask : (height, width) uint8, non-zero on the region.
    camera : solved on the frame; up to 24 of its other frames are compared.
    frame : on which the region was drawn.
    luma : gives a frame's luma (height, width).
    held : gives (height, width) uint8, 255 on what does not count, or None.

    Raises
    ------
    RegionError
        When the region is too small or has too little texture.
    """

    def __init__(self, camera: SolvedCamera, mask: np.ndarray, frame: int, luma: Callable[[int], np.ndarray],
                 held: Callable[[int], np.ndarray | None] | None = None) -> None:
        if np.count_nonzero(mask) < 100:
            raise RegionError("The region covers fewer than 100 pixels of the picture; draw it larger.")
        self._camera, self._frame = camera, frame
        self._reference = Reference(Pyramid(luma(frame)), mask, _MOST_TILES)
        tiles = self._reference.tiles(0)
        if len(tiles) < 2 or float(np.max(tiles.energy)) < 2.0:
            raise RegionError("There is no texture inside the region to hold on to; draw it round an area with detail.")
        self._levels = Levels(self._reference, KINDS["perspective"])
        self._box = from_centred(self._levels.box)
        pixels = camera.size[0] * camera.size[1]
        most = int(np.clip(_MEMORY // (6 * pixels), 6, 24))  # a pyramid of floats takes a third more than its picture
        others = np.array([f for f in camera.poses if f != frame])
        chosen = others[np.unique(np.linspace(0, len(others) - 1, most).round().astype(int))] if len(others) else others
        self._pictures: dict[int, Pyramid] = {}
        for f in map(int, chosen):
            with suppress(PlateError):  # a frame that has gone meanwhile
                self._pictures[f] = Pyramid(luma(f), held(f) if held is not None else None)

    def likeness(self, plane: ScenePlane) -> float:
        """How like the reference frame the frames next to it look through a plane as it is, 0..1."""
        return self._mean_likeness(plane, 0, self._nearest(_FIRST_PART / 2))

    def likeness_of_all(self, plane: ScenePlane) -> float:
        """How like the reference frame all frames that are compared look through a plane as it is, 0..1 on average."""
        return self._mean_likeness(plane, 0, self._nearest(1.0))

    def most_alike(self, plane: ScenePlane) -> AlignedPlane | None:
        """The plane near to one through which all frames look most alike, by direct search (J. Nelder and R. Mead, A simplex method for function
        minimization, 1965); None where none of them shows it.

        For a narrow strip, or one seen at a grazing angle, on which the frames' own alignments lead away from that.
        """
        frames, eye = self._nearest(1.0), self._eye
        numbers = scaled_normal(plane, eye)
        slopes = [seen[1] for f in frames if (seen := self._seen_with_slopes(numbers, eye, f)) is not None]
        if not slopes:
            return None
        # by numbers of which each moves the corners by a pixel, root mean square over the frames
        _, sizes, directions = np.linalg.svd(np.concatenate(slopes) / np.sqrt(4 * len(slopes)), full_matrices=False)
        by_pixels = directions.T / np.maximum(sizes, 1e-9 * sizes[0])

        def unlikeness(pixels: np.ndarray) -> float:
            return -self._mean_likeness(plane_of_scaled_normal(numbers + by_pixels @ pixels, eye), 0, frames)

        options = {"initial_simplex": np.vstack([np.zeros(3), _SIMPLEX * np.eye(3)]), "xatol": _TRIED_TO, "fatol": 1e-5, "maxfev": _TRIALS}
        found = scipy.optimize.minimize(unlikeness, np.zeros(3), method="Nelder-Mead", options=options)
        step = self._step(numbers + by_pixels @ found.x, eye, 0, frames)
        if step is None:
            return None
        numbers = numbers + by_pixels @ found.x
        return AlignedPlane(plane_of_scaled_normal(numbers, eye, step.off, self._relative(step.covariance, numbers)), -float(found.fun), step.error)

    def gradually_aligned(self, plane: ScenePlane) -> AlignedPlane | None:
        """As `aligned`, from a plane that may be far off: at first by the nearest frames alone, which move least."""
        found: AlignedPlane | None = None
        part = _FIRST_PART
        while part < 1:
            found = self.aligned(plane, part)
            if found is None:
                return None
            plane, part = found.plane, 2 * part
        return self.aligned(plane)

    def aligned(self, plane: ScenePlane, part: float = 1.0) -> AlignedPlane | None:
        """The plane near to one that most frames agree on, or the nearest `part` of them; None where none of them shows it."""
        frames, eye = self._nearest(part), self._eye
        numbers = scaled_normal(plane, eye)
        found: AlignedPlane | None = None
        coarser: int | None = None
        for level, rounds in _ROUNDS.items():
            if level > self._reference.coarsest:
                continue
            start, step = numbers, None
            for _ in range(rounds):
                step = self._step(numbers, eye, level, frames)
                if step is None:
                    return None
                numbers = numbers + step.numbers
                if step.moved < _ARRIVED:
                    break
            assert step is not None
            # of a surface with little texture the finest level shows mostly grain
            if coarser is not None and self._mean_likeness(plane_of_scaled_normal(numbers, eye), coarser, frames) \
                    < self._mean_likeness(plane_of_scaled_normal(start, eye), coarser, frames) - _WORSE:
                break
            found = AlignedPlane(plane_of_scaled_normal(numbers, eye, step.off, self._relative(step.covariance, numbers)), step.likeness, step.error)
            coarser = level
        return found

    # -- inside ---------------------------------------------------------------------------------------------------

    @property
    def _eye(self) -> np.ndarray:
        """(3,) where the camera is on the reference frame."""
        pose = self._camera.poses[self._frame]
        return np.asarray(-pose[:, :3].T @ pose[:, 3])

    def _relative(self, covariance: np.ndarray, numbers: np.ndarray) -> np.ndarray:
        """A covariance (3, 3) of a plane's scaled normal (3,) as `ScenePlane` has it."""
        turn = self._camera.poses[self._frame][:, :3]
        return np.asarray(turn @ covariance @ turn.T / (numbers @ numbers))

    def _nearest(self, part: float) -> list[int]:
        """The nearest part of the frames that are compared."""
        near = sorted(self._pictures, key=lambda f: abs(f - self._frame))
        return near[:max(int(np.ceil(part * len(near))), min(3, len(near)))]

    def _step(self, numbers: np.ndarray, eye: np.ndarray, level: int, chosen: list[int]) -> "_Step | None":
        """A Gauss-Newton step of the plane's scaled normal (3,); None where no frame shows it."""
        plane = plane_of_scaled_normal(numbers, eye)
        frames: list[tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray, float]] = []
        grains = []
        for f in chosen:
            seen, look = self._seen_with_slopes(numbers, eye, f), self._looked_at(plane, f, level, 1)
            if seen is None or look is None:
                continue
            at, slopes = seen
            before = homography.from_points(self._levels.box, to_centred(at))
            wanted = _motion_between(before, look.matrix, self._reference.to_unit)
            corners = corner_moves(before, self._reference.to_unit, self._levels.box).reshape(8, 8)
            frames.append((np.linalg.solve(corners, slopes), look.normal / CORRELATION, wanted, corners, _likeness(look)))
            grains.append(noise_information(look, self._reference, look.noise) / CORRELATION)
        if not frames:
            return None
        best = max(each[4] for each in frames)
        weights = [1 / (1 + ((best - each[4]) / _HIDDEN) ** 4) for each in frames]
        normal, of_grain = (np.sum([w * s.T @ a @ s for w, (s, *_), a in zip(weights, frames, of, strict=True)], axis=0)
                            for of in ([each[1] for each in frames], grains))
        right = np.sum([w * s.T @ a @ x for w, (s, a, x, *_) in zip(weights, frames, strict=True)], axis=0)
        try:
            inverse, covariance = corrected_for_attenuation(normal + 1e-9 * np.trace(normal) * np.eye(3), of_grain)
        except np.linalg.LinAlgError:
            return None
        # half of the grain in each frame's difference is the reference frame's own, which is the same for all of them
        covariance = covariance * (1 + sum(weights)) / 2
        step = inverse @ right
        moved = np.sqrt(np.mean([np.square(c @ s @ step).sum() / 4 for s, _, _, c, _ in frames]))
        error = np.sqrt(np.mean([np.trace(c @ s @ covariance @ s.T @ c.T) / 4 for s, _, _, c, _ in frames]))
        kind = KINDS["shift"]
        off = []
        for s, a, x, c, _ in frames:
            left = a @ (x - s @ step)
            off.append(float(np.sqrt(np.square(c @ kind.T @ np.linalg.solve(kind @ a @ kind.T, kind @ left)).sum() / 4)))
        alike = float(np.average([each[4] for each in frames], weights=weights))
        return _Step(step, covariance, float(moved), float(np.median(off)), alike, float(error))

    def _mean_likeness(self, plane: ScenePlane, level: int, frames: list[int]) -> float:
        scores = [_likeness(a) for f in frames if (a := self._looked_at(plane, f, level, 0)) is not None]
        return float(np.mean(scores)) if scores else 0.0

    def _seen(self, plane: ScenePlane, frame: int) -> np.ndarray | None:
        """Where the region's box (4, 2) is seen on a frame; None behind the camera."""
        places = self._camera.project(on_plane(self._camera, plane, self._box, self._frame), frame)
        return places if np.isfinite(places).all() else None

    def _seen_with_slopes(self, numbers: np.ndarray, eye: np.ndarray, frame: int) -> tuple[np.ndarray, np.ndarray] | None:
        """Where the region's box (4, 2) is seen on a frame through a plane of a scaled normal (3,), and the derivatives (8, 3) by that."""
        small = 1e-5 * float(np.linalg.norm(numbers))
        at, *there = (self._seen(plane_of_scaled_normal(n, eye), frame) for n in (numbers, *(numbers + small * np.eye(3))))
        if at is None or any(t is None for t in there):
            return None
        return at, np.stack([((t - at) / small).ravel() for t in there if t is not None], axis=1)

    def _looked_at(self, plane: ScenePlane, frame: int, level: int, steps: int) -> Alignment | None:
        at = self._seen(plane, frame)
        if at is None:
            return None
        try:
            matrix = homography.from_points(self._levels.box, to_centred(at))
        except ValueError:
            return None
        if not self._levels.plausible(matrix) or self._levels.view(matrix).edge_on:
            return None
        return self._levels.aligned(level, self._pictures[frame], matrix, steps, None, _ROUGH, limit=_TILES.get(level, 60))


@dataclass(frozen=True)
class _Step:
    """A step of a plane's scaled normal.

    Attributes
    ----------
    numbers, covariance : (3,) to add to it, and (3, 3) how surely.
    moved : pixels by which the corners move with it.
    off : pixels that the frames still want beside it.
    likeness : 0..1 of the frames.
    error : expected error of the corners in pixels.
    """

    numbers: np.ndarray
    covariance: np.ndarray
    moved: float
    off: float
    likeness: float
    error: float


def _likeness(look: Alignment) -> float:
    return float(np.average(look.likeness, weights=np.sqrt(look.tiles.information[look.chosen]) + 1e-9))


def _motion_between(before: np.ndarray, after: np.ndarray, unit: np.ndarray) -> np.ndarray:
    """(8,) the small motion's parameters, in unit coordinates, that take one homography (3, 3) to another (the matrix logarithm's first terms)."""
    back = np.linalg.inv(unit)
    motion = unit @ np.linalg.inv(before) @ after @ back
    x = motion / motion[2, 2] - np.eye(3)
    log = x - x @ x / 2 + x @ x @ x / 3
    log = log - log[2, 2] * np.eye(3)
    return np.asarray(log.ravel()[:8])


def plane_hypotheses(camera: SolvedCamera, region: np.ndarray, frame: int, depths: Sequence[float]) -> list[ScenePlane]:
    """Planes through the middle of a region (N, 2) of a frame at some depths, turned each way until they are nearly seen edge-on."""
    eye, rays = camera.rays(region.mean(0)[None], frame)
    ahead = rays[0] / np.linalg.norm(rays[0])
    right, down = camera.poses[frame][0, :3], camera.poses[frame][1, :3]
    out = []
    for depth in depths:
        point = eye + depth * rays[0]  # rays go one unit into the picture
        for turn in np.deg2rad([0, 40, 65, 80]):
            for way in np.arange(8 if turn else 1) * np.pi / 4:
                normal = np.sin(turn) * (np.cos(way) * right + np.sin(way) * down) - np.cos(turn) * ahead
                out.append(ScenePlane(point, normal / np.linalg.norm(normal), 0.0))
    return out
