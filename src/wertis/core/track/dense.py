"""The dense tracker: where every pixel of the reference frame's region is on every other frame.

Each frame is joined to the reference frame by one long step, so that error does not add up. What moves as one surface is found by the mesh tracker, whose
map is smooth and exact. What does not go with that (something nearer or farther, or that moves by itself) is found in small patches, each aligned with the
reference frame by itself. A pixel goes with whichever makes its surroundings most alike to the reference; where nothing does it is hidden, and goes on
with what it last went with.

Known ground: C. Barnes et al., PatchMatch, 2009, and C. Bailer et al., Flow fields, 2015 (motion candidates of neighbouring patches); T. Crivelli et al.,
From optical flow to dense long term correspondences, 2012 (long steps joined to a reference frame).
"""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import cached_property

import cv2
import numpy as np

from wertis.core.geometry.bspline import evaluate
from wertis.core.geometry.conventions import from_centred, to_centred
from wertis.core.geometry.displacement_field import DisplacementField, FieldWarp, filled_from_known
from wertis.core.geometry.mesh import Mesh
from wertis.core.geometry.warp import Box, Warp
from wertis.core.imaging.pyramid import HeldOut, Pyramid
from wertis.core.track.mesh.tracker import MeshTracker
from wertis.core.track.patch_layer import SIDE, PatchLayer

_COARSE = 4  # pixels between the places at which the smooth map and its error are evaluated; cubic and linear between them
_WINDOW = 11  # pixels, side of the windows whose likeness is looked at
_ALIKE = 0.55  # correlation of two windows from which they show the same
_LEAST_TRUE = 0.3  # of a window's variance that is taken for texture, whatever the grain
_TEXTURED = 3.0  # times the grain's variance from which a window has something to be alike in
_FLATTEST = 0.33  # of the windows, in which little but grain differs between two frames
_GRAIN_QUANTILE = 0.3  # of the flattest windows' difference: as long as most of them are seen it is grain's
_CANDIDATES = 3  # patches round a pixel whose motions are tried
_DOUBTFUL = 0.9  # of the usual correlation, below which patches are asked as well
_BETTER, _AWAY = 0.1, 1.0  # of correlation, by which a patch's motion must be better than the surface's, and pixels by which it must differ
_TOGETHER = 1.0  # pixels within which the candidates' motions are one, and their mean is taken
_APART_ERROR = 0.25  # pixels, expected error of what goes with a patch
_HIDDEN_GROWTH = 0.7  # pixels a frame and square root, by which what is hidden becomes less sure
_STILL_SEEN = 0.5  # of the smoothed share of what is alike, from which a pixel counts as seen


@dataclass(frozen=True)
class DenseFix:
    """One frame's answer of the dense tracker.

    Attributes
    ----------
    field : from the reference frame to this one; None when it was lost.
    seen : share 0..1 of the region that is seen.
    reason : why it was lost, in words; empty otherwise.
    error : root mean square of the expected errors of what is seen, in pixels.
    """

    field: DisplacementField | None
    seen: float = 0.0
    reason: str = ""
    error: float = np.inf

    @property
    def warp(self) -> Warp | None:
        """The answer as a warp."""
        return FieldWarp(self.field) if self.field is not None else None


class DenseTracker:
    """Tracks every pixel of a region from its reference frame in one direction; feed it the frames in their order.

    Parameters
    ----------
    luma : (height, width) uint8 or float32 on a scale of 0..255, the reference frame.
    mask : (height, width) uint8, non-zero on what is tracked.
    mesh, step : as for `MeshTracker`.
    parts : look for what does not go with the surface; otherwise all of the region is one surface, which may be hidden in places.

    Raises
    ------
    RegionError
        If the mask leaves too little to track.
    """

    def __init__(self, luma: np.ndarray, mask: np.ndarray, mesh: Mesh, step: float, parts: bool = False) -> None:
        self.parts = parts
        self.surface = MeshTracker(luma, mask, mesh, step)
        ys, xs = np.nonzero(mask)
        self.box: Box = (int(xs.min()), int(ys.min()), int(xs.max()) + 1, int(ys.max()) + 1)
        x0, y0, x1, y1 = self.box
        self._mask = mask[y0:y1, x0:x1] > 0
        self._own = np.ascontiguousarray(luma[y0:y1, x0:x1], np.float32)
        self._mean, self._variance = _moments(self._own)
        self._flat = self._mask & (self._variance <= np.quantile(self._variance[self._mask], _FLATTEST))
        # variance of the grain. One picture alone does not tell it from detail: what differs between two does. A passer adds to that, so that the frame
        # with the least counts
        self._noise = np.inf
        self._x, self._y = np.meshgrid(np.arange(x0, x1, dtype=np.float32), np.arange(y0, y1, dtype=np.float32))
        self._in_patches = np.zeros(self._own.shape, bool)  # which pixels last went with a patch rather than with the surface
        self._hidden_for = np.zeros(self._own.shape, np.float32)

    @cached_property
    def _patches(self) -> PatchLayer:
        """What may go apart from the surface."""
        return PatchLayer(self.surface.reference.pyramid, self.surface.reference.mask)

    def feed(self, luma: np.ndarray, held: np.ndarray | None = None, pyramid: Pyramid | None = None) -> DenseFix:
        """The next frame's answer; as for `MeshTracker.feed`."""
        fix = self.surface.feed(luma, held, pyramid)
        if fix.places is None:
            return DenseFix(None, fix.seen, fix.reason)
        smooth = self._smooth_field()
        error = self._coarse(lambda p: fix.mesh.interpolated(fix.errors, from_centred(p))[:, None], cv2.INTER_LINEAR)[..., 0]
        variance, covariance, there = self._compared(luma, smooth, held)
        grain = np.quantile((self._variance + variance - 2 * covariance)[self._flat], _GRAIN_QUANTILE) / 2
        self._noise = min(self._noise, max(float(grain), self.surface.alignment.grain))
        likeness = self._correlation(variance, covariance)
        alike = there & ((likeness > _ALIKE) | ~self._textured)
        moved = smooth
        sure = self._textured & alike
        usual = float(np.median(likeness[sure])) if sure.any() else 1.0
        good = alike & ((likeness > _DOUBTFUL * usual) | ~self._textured)
        if self.parts:
            pyramid = pyramid if pyramid is not None else Pyramid(luma)
            moved, gained = self._by_patches(luma, pyramid, held, smooth, likeness, alike, good)
            error = np.where(gained, _APART_ERROR, error)
            alike = alike | gained
            self._in_patches = np.where(alike, gained, self._in_patches)
        seen = self._share_alike(alike) > _STILL_SEEN
        self._hidden_for = np.where(seen, 0, self._hidden_for + 1)
        error = np.hypot(error, _HIDDEN_GROWTH * np.sqrt(self._hidden_for)).astype(np.float32)
        found = DisplacementField(self.box, moved, error, seen & self._mask)
        share = float(np.count_nonzero(found.seen)) / max(int(np.count_nonzero(self._mask)), 1)
        expected = float(np.sqrt(np.mean(error[found.seen] ** 2))) if found.seen.any() else np.inf
        return DenseFix(found, share, "", expected)

    def start_at(self, before: DisplacementField) -> None:
        """Go on from a known field to the frame before the next one fed."""
        self.surface.start_at(FieldWarp(before).forward(self.surface.mesh.vertices))
        self._hidden_for = np.where(before.seen, 0, 1).astype(np.float32)
        if self.parts:
            warp, at = FieldWarp(before), from_centred(self._patches.start)
            self._patches.start_at(to_centred(warp.forward(at)), warp.jacobian(at))
            self._in_patches = np.linalg.norm(before.displacement - self._smooth_field(), axis=2) > _AWAY

    def state(self) -> dict[str, np.ndarray]:
        """Where it is with the last frame, as arrays: a tracker of the same reference frame that resumes it gives the same bits."""
        found = {f"surface.{k}": v for k, v in self.surface.state().items()} | {"in_patches": self._in_patches, "hidden_for": self._hidden_for,
                                                                                   "noise": np.array(self._noise)}
        return found | ({f"patches.{k}": v for k, v in self._patches.state().items()} if self.parts else {})

    def resume(self, state: Mapping[str, np.ndarray]) -> None:
        """Go on from what `state` gave."""
        def part(name: str) -> dict[str, np.ndarray]:
            return {k.removeprefix(f"{name}."): v for k, v in state.items() if k.startswith(f"{name}.")}

        self.surface.resume(part("surface"))
        self._in_patches, self._hidden_for, self._noise = state["in_patches"], state["hidden_for"], float(state["noise"])
        if self.parts:
            self._patches.resume(part("patches"))

    # -- inside ---------------------------------------------------------------------------------------------------

    def _coarse(self, evaluated: Callable[[np.ndarray], np.ndarray], interpolation: int) -> np.ndarray:
        """(h, w, n) of the box, from values worked out every few pixels."""
        x0, y0, x1, y1 = self.box
        columns, rows = (-(-(b - a) // _COARSE) + 4 for a, b in ((x0, x1), (y0, y1)))
        middle = (_COARSE - 1) / 2  # of a block of pixels, from its first one's centre
        x, y = x0 + middle + _COARSE * (np.arange(columns) - 2), y0 + middle + _COARSE * (np.arange(rows) - 2)
        values = evaluated(np.stack(np.meshgrid(x, y), axis=-1).reshape(-1, 2))
        grid = values.reshape(rows, columns, -1).astype(np.float32)
        full = cv2.resize(grid, None, fx=_COARSE, fy=_COARSE, interpolation=interpolation).reshape(rows * _COARSE, columns * _COARSE, -1)
        cut = 2 * _COARSE
        return np.asarray(full[cut:cut + y1 - y0, cut:cut + x1 - x0])

    def _smooth_field(self) -> np.ndarray:
        """(h, w, 2) float32 displacement of the surface that the mesh tracker follows."""
        s = self.surface
        return self._coarse(lambda p: evaluate(s.lattice, s.values, p)[0] - p, cv2.INTER_CUBIC)

    @property
    def _textured(self) -> np.ndarray:
        """(h, w) whether the window round each pixel has something to be alike in."""
        return np.asarray((self._variance > _TEXTURED * self._noise) & self._mask)

    def _seen_through(self, picture: np.ndarray, displacement: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """A picture as the reference frame would show it, and whether it reaches so far."""
        mx, my = self._x + displacement[..., 0], self._y + displacement[..., 1]
        h, w = picture.shape[:2]
        inside = (mx >= 0) & (my >= 0) & (mx <= w - 1) & (my <= h - 1)
        return cv2.remap(picture.astype(np.float32, copy=False), mx, my, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE), inside

    def _compared(self, luma: np.ndarray, displacement: np.ndarray, held: np.ndarray | None) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """(h, w) variance of what a displacement leads to in the window round each pixel, and its covariance with the reference's; and whether that is
        in the picture and not held out."""
        seen, inside = self._seen_through(luma, displacement)
        mean, variance = _moments(seen)
        both = cv2.boxFilter(self._own * seen, -1, (_WINDOW, _WINDOW)) - self._mean * mean
        if held is not None:
            inside &= self._seen_through(held.astype(np.float32), displacement)[0] < 128
        return variance, both, inside

    def _correlation(self, variance: np.ndarray, covariance: np.ndarray) -> np.ndarray:
        """(h, w) correlation of the windows round each pixel, as far as grain lets it be: about 1 where they show the same."""
        own, other = (np.maximum(v - self._noise, _LEAST_TRUE * v) for v in (self._variance, variance))
        return np.asarray(covariance / (np.sqrt(own * other) + self._noise / 4))

    def _share_alike(self, alike: np.ndarray) -> np.ndarray:
        """(h, w) 0..1 of what is textured round each pixel, the share that is alike; where nothing is textured, from farther round."""
        value = filled_from_known(alike[..., None].astype(np.float32), self._textured.astype(np.float32))
        return np.asarray(cv2.GaussianBlur(value.reshape(alike.shape), (0, 0), 2.0))

    def _by_patches(self, luma: np.ndarray, pyramid: Pyramid, held: np.ndarray | None, smooth: np.ndarray, likeness: np.ndarray, alike: np.ndarray,
                    good: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """(h, w, 2) displacements, of patches where these are more alike to the reference than the surface's, and (h, w) where that is."""
        layer, (x0, y0, _, _) = self._patches, self.box
        s = self.surface
        places = evaluate(s.lattice, s.values, layer.start)[0]
        # what is smooth looks alike even where it lies a few pixels off, so all patches are asked
        layer.feed(pyramid, HeldOut(held) if held is not None else None)
        apart = ~layer.found | (np.linalg.norm(layer.places - places, axis=1) > _AWAY)
        differs = np.zeros(alike.shape, np.uint8)
        for x, y in (layer.start[apart & layer.found] - [x0, y0]).round().astype(int):
            cv2.rectangle(differs, (int(x) - SIDE // 2, int(y) - SIDE // 2), (int(x) + SIDE // 2, int(y) + SIDE // 2), 1, cv2.FILLED)
        rows, columns = np.nonzero(~good | self._in_patches | (differs > 0))
        margin = np.where(differs > 0, np.float32(0), np.float32(_BETTER))
        points = np.column_stack([self._x[rows, columns], self._y[rows, columns]]).astype(np.float64)
        best, chosen, gained = likeness.copy(), smooth.copy(), np.zeros(alike.shape, bool)
        tried = []
        for own in layer.candidates(points, layer.found, _CANDIDATES):
            displacement = smooth.copy()
            displacement[rows, columns] = own
            variance, covariance, there = self._compared(luma, displacement, held)
            now = self._correlation(variance, covariance)
            better = np.zeros(alike.shape, bool)
            better[rows, columns] = True
            better &= there & self._textured & (now > _ALIKE) & (now > best) & (now > likeness + margin)
            better &= np.linalg.norm(displacement - smooth, axis=2) > _AWAY
            best, gained = np.where(better, now, best), gained | better
            chosen[better] = displacement[better]
            tried.append((displacement, there))
        if tried:
            total, weight = np.zeros_like(chosen), np.zeros(alike.shape, np.float32)
            for displacement, there in tried:  # those that agree with the best, together
                agrees = (np.linalg.norm(displacement - chosen, axis=2) < _TOGETHER) & there
                total += agrees[..., None] * displacement
                weight += agrees
            chosen = np.where((gained & (weight > 0))[..., None], total / np.maximum(weight, 1)[..., None], chosen)
            # what has no texture goes with the textured pixels round it
            bare = ~self._textured & self._mask & (self._share_alike(gained) > _STILL_SEEN)
            rows, columns = np.nonzero(bare)
            if len(rows):
                points = np.column_stack([self._x[rows, columns], self._y[rows, columns]]).astype(np.float64)
                chosen[rows, columns] = layer.candidates(points, layer.found, 1)[0]
                gained |= bare
        hidden = self._in_patches & ~alike & ~gained
        if hidden.any():
            rows, columns = np.nonzero(hidden)
            points = np.column_stack([self._x[rows, columns], self._y[rows, columns]]).astype(np.float64)
            for own in layer.candidates(points, apart, 1):
                chosen[rows, columns] = own
        return chosen, gained


def _moments(picture: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(h, w) local mean and variance."""
    mean = cv2.boxFilter(picture, -1, (_WINDOW, _WINDOW))
    return mean, np.maximum(cv2.boxFilter(picture * picture, -1, (_WINDOW, _WINDOW)) - mean * mean, 0)
