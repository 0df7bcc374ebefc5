"""Blur of a bending surface: the reference is blurred as a frame is, and the frame as the reference is, so that the two can be compared.

By motion: the shutter is what makes the first blurred frames most like that. Known ground: H. Jin, P. Favaro and R. Cipolla, Visual tracking in the
presence of motion blur, CVPR 2005. By foreshortening: where the surface turns away a pixel of the frame covers several of the reference frame (the
footprint of a pixel: P. Heckbert, Fundamentals of texture mapping and image warping, 1989).
"""

from collections.abc import Callable

import numpy as np

from wertis.core.geometry.bspline import Lattice, evaluate
from wertis.core.imaging.pyramid import SMOOTHING
from wertis.core.track.mesh.equations import GrainLeft, Linearisation
from wertis.core.track.mesh.reference import MeshTiles
from wertis.core.track.mesh.settings import BLUR, PHOTOMETRY
from wertis.core.track.mesh.templates import TileTemplates
from wertis.core.track.mesh.tile_pass import TAPS


class SurfaceBlur:
    """How the frame at hand and the reference frame are blurred by their motion.

    Attributes
    ----------
    reference_motion : (rows, columns, 2) control values of the reference frame's motion, pixels a frame; None as long as it is not known.
    last_motion : the same of the last frame.
    shutter : part of a frame for which the shutter is open, once it has been seen to blur.
    frames_measured, scores : how many frames that goes by, and how alike they were with each shutter that was tried.
    longest_measured : pixels a frame, by which the longest of those moved otherwise than the reference frame.
    """

    def __init__(self, lattice: Lattice, templates: TileTemplates) -> None:
        self._lattice, self._templates = lattice, templates
        self.reference_motion: np.ndarray | None = None
        self.last_motion: np.ndarray | None = None
        self.shutter, self.frames_measured = 0.0, 0
        self.scores = dict.fromkeys(BLUR.shutters, 0.0)
        self.longest_measured, self._other = 0.0, 0.0
        self._motion: np.ndarray | None = None  # of the frame at hand, if that is to be heeded
        self._tiles: dict[int, tuple[MeshTiles, np.ndarray]] = {}

    @property
    def modelled(self) -> bool:
        """Whether the frame at hand is blurred otherwise than the reference frame, by a shutter that is known."""
        return self._motion is not None and self.reference_motion is not None and self.shutter > 0

    def with_templates(self, templates: TileTemplates, motion: np.ndarray | None = None) -> "SurfaceBlur":
        """The same shutter and reference frame, with other templates, for a frame that moves so (rows, columns, 2) in the middle of its shutter."""
        made = SurfaceBlur(self._lattice, templates)
        made.reference_motion, made.shutter = self.reference_motion, self.shutter
        if motion is not None:
            made.set_motion(motion)
        return made

    def blur_difference(self, motion: np.ndarray) -> float:
        """Pixels, the median difference between the blur of a frame that moves so (rows, columns, 2) and the reference frame's; 0 without a shutter."""
        own = self.reference_motion if self.reference_motion is not None else np.zeros_like(motion)
        return self.shutter * float(np.median(np.linalg.norm(motion - own, axis=-1)[1:-1, 1:-1]))

    def forget_tiles(self) -> None:
        """Blur tiles anew when they are asked for next: another picture is looked at."""
        self._tiles = {}

    def set_motion(self, moved: np.ndarray) -> None:
        """The frame at hand moves so (rows, columns, 2) against the one before; its blur is modelled if it is long enough to matter."""
        self._tiles = {}
        now = moved
        if self.last_motion is not None and self.reference_motion is not None:
            now = 1.5 * moved - 0.5 * self.last_motion  # in the middle of its shutter
        own = self.reference_motion if self.reference_motion is not None else np.zeros_like(now)
        middle = slice(1, -1)
        self._other = other = float(np.quantile(np.abs(now - own)[middle, middle], 0.5))
        longest = float(np.quantile(np.maximum(np.linalg.norm(now[middle, middle], axis=2), np.linalg.norm(own[middle, middle], axis=2)), 0.5))
        visible = longest * BLUR.usual_shutter > BLUR.least_length
        self._motion = now if visible and other * BLUR.usual_shutter > 0.2 * BLUR.least_length else None

    def applied(self, tiles: MeshTiles, chosen: np.ndarray, jacobian: np.ndarray, partly: bool) -> tuple[MeshTiles, np.ndarray | None, GrainLeft | None]:
        """Chosen tiles (n,) blurred as the frame at hand is, the lines (n, 2) along which it is blurred as the reference is, and what grain that leaves.

        The lines are None where no blur by motion is modelled, the grain where nothing is blurred.

        Parameters
        ----------
        jacobian : (n, 2, 2) of the map at them.
        partly : whether they are a part of the usable ones, which is not worth keeping.
        """
        made = self._tiles.get(tiles.level) if not partly else None
        if made is None:
            made = self._blurred(tiles, chosen, jacobian)
            if not partly:  # made once for each level and frame
                self._tiles[tiles.level] = made
        blurred, length = made
        per = 2.0 ** -tiles.level
        if not self.modelled or self.reference_motion is None:
            if not length.any():
                return tiles, None, None
            of_reference = length[chosen] * per
            return blurred, None, GrainLeft(_averaged(of_reference, PHOTOMETRY.averaged_grain), np.ones(len(chosen)),
                                            _averaged(of_reference, PHOTOMETRY.averaged_slopes))
        along = self.shutter * (jacobian @ evaluate(self._lattice, self.reference_motion, blurred.centre[chosen])[0][..., None])[..., 0]
        of_reference, of_picture = length[chosen] * per, np.linalg.norm(along, axis=1) * per
        return blurred, along, GrainLeft(_averaged(of_reference, PHOTOMETRY.averaged_grain), _averaged(of_picture, PHOTOMETRY.averaged_grain),
                                         _averaged(of_reference, PHOTOMETRY.averaged_slopes))

    def measure_shutter(self, looked: Callable[[np.ndarray], Linearisation], count: int, grain: float) -> None:
        """For the first blurred frames: take the shutter that makes the reference look most like them.

        Parameters
        ----------
        looked : compares a part (n,) of the tiles of a level with the frame.
        count : of that level's tiles; 0 when there is no such level.
        grain : variance of the reference's grain.
        """
        if self._motion is None or self.reference_motion is None or not count:
            return
        if self.frames_measured >= (BLUR.shutter_frames if self.shutter else BLUR.shutter_frames // 3):
            if self.shutter or self._other < BLUR.longer * self.longest_measured:
                return
            self.frames_measured, self.scores = 0, dict.fromkeys(BLUR.shutters, 0.0)  # short ones may have shown too little
        self.frames_measured += 1
        self.longest_measured = max(self.longest_measured, self._other)
        some = np.arange(0, count, max(count // BLUR.shutter_tiles, 1))
        before = looked(some)
        some = some[(before.weight > 0.2) & (before.tiles.energy[before.chosen] > 8 * grain)]  # not the tiles of occluders
        for shutter in BLUR.shutters:
            self.shutter = shutter
            self.scores[shutter] += float(np.median(looked(some).measured.likeness)) if len(some) else 0.0
        self._tiles = {}
        best = max(self.scores, key=lambda s: self.scores[s])
        gain = (self.scores[best] - self.scores[0.0]) / self.frames_measured
        self.shutter = best if gain > BLUR.gain else 0.0

    def motion_lengths(self, places: np.ndarray) -> np.ndarray:
        """(n,) pixels a frame, the longer motion of the frame at hand and the reference frame at places (n, 2) of it; 0 where no blur is modelled."""
        if not self.modelled:
            return np.zeros(len(places))
        both = (np.linalg.norm(evaluate(self._lattice, m, places)[0], axis=1) for m in (self._motion, self.reference_motion) if m is not None)
        return np.maximum(*both)

    def _blurred(self, tiles: MeshTiles, chosen: np.ndarray, jacobian: np.ndarray) -> tuple[MeshTiles, np.ndarray]:
        """Chosen tiles (n,) of the reference blurred as the frame at hand is, and over how many pixels (K,)."""
        along = np.zeros((len(tiles), 2))
        along[chosen] = footprint(jacobian, 2.0 ** tiles.level)
        if self.modelled and self._motion is not None:
            moved = evaluate(self._lattice, self._motion, tiles.centre[chosen])[0]
            sound = np.abs(np.linalg.det(jacobian)) > 0.05
            back = np.linalg.inv(np.where(sound[:, None, None], jacobian, np.eye(2)))
            along[chosen] = _both(self.shutter * (back @ moved[..., None])[..., 0], along[chosen])
        length = np.linalg.norm(along, axis=1)
        return self._templates.blurred(tiles, chosen, along, TAPS) if length.any() else tiles, length


def footprint(jacobian: np.ndarray, pixel: float) -> np.ndarray:
    """Lines (n, 2) of the reference frame, in pixels, along which pixels of a frame average more than the reference frame's own do.

    Lines of the variance by which the two differ: pixels are boxes, and a pyramid's levels are smoothed besides.

    Parameters
    ----------
    jacobian : (n, 2, 2) of the map to the frame.
    pixel : the side of a pixel of both, in pixels of the finest level.
    """
    xx, xy, yy = ((jacobian[:, :, a] * jacobian[:, :, b]).sum(1) for a, b in ((0, 0), (0, 1), (1, 1)))
    least = 0.5 * (xx + yy) - np.hypot(0.5 * (xx - yy), xy)  # squared, of the direction in which the surface is foreshortened most
    shrunk = np.flatnonzero(least < BLUR.foreshortened ** 2)
    lines = np.zeros((len(jacobian), 2))
    if len(shrunk):
        angle = 0.5 * np.arctan2(2 * xy[shrunk], xx[shrunk] - yy[shrunk]) + np.pi / 2
        variance = (SMOOTHING ** 2 + 1 / 12) * (1 / np.maximum(least[shrunk], BLUR.most_foreshortened ** 2) - 1)
        lines[shrunk] = (pixel * np.sqrt(12 * variance))[:, None] * np.column_stack([np.cos(angle), np.sin(angle)])
    return lines


def _both(one: np.ndarray, other: np.ndarray) -> np.ndarray:
    """Lines (n, 2) of the variance, along its longer axis, that two lines (n, 2) have together."""
    xx, xy, yy = ((one[:, a] * one[:, b] + other[:, a] * other[:, b]) for a, b in ((0, 0), (0, 1), (1, 1)))
    angle = 0.5 * np.arctan2(2 * xy, xx - yy)
    most = 0.5 * (xx + yy) + np.hypot(0.5 * (xx - yy), xy)
    return np.where(other.any(axis=1, keepdims=True), np.sqrt(most)[:, None] * np.column_stack([np.cos(angle), np.sin(angle)]), one)


def _averaged(length: np.ndarray, half: float) -> np.ndarray:
    """Share of the grain's variance that is left when it is averaged along a line of a length (n,); `half` pixels leave half of it."""
    return half / (half + length)
