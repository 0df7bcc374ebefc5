"""Drift of a surface that bends: how far each of many places is really from where a motion says, measured on the pictures round each.

Patches of the base frame over the surface are looked for where the motion puts them; see `patch_alignment`. What they say is joined by a smooth field; see
`smooth_field`. Where no patch was found nothing is measured.
"""

from collections.abc import Callable, Iterator

import numpy as np

from wertis.core.check.series import Picture
from wertis.core.check.slip import Slip, unmeasured
from wertis.core.geometry.bspline import Lattice
from wertis.core.geometry.conventions import from_centred, to_centred
from wertis.core.geometry.smooth_field import fitted_field
from wertis.core.geometry.warp import Warp
from wertis.core.imaging.patch_alignment import MARGIN, PatchAlignment, View, grid_on, in_front, nearest
from wertis.core.imaging.pyramid import HeldOut, Pyramid

_SIDES = (15, 49)  # pixels of the finest level: least and most side of a patch
_SIDE = 0.8  # of the places' spacing
_OVERLAP = 0.9  # of a patch's side, from one patch to the next
_WITHIN = 0.8  # of a patch's side, in which a place must have the middle of a patch that is measured
_MEASURED = 0.2  # pixels of uncertainty above which a place counts as not measured
_MOST, _LEAST_PATCHES = 1200, 3  # patches
_STEP = 0.85  # of the places' spacing, between control points of the drift's field
_FLOOR = 0.03  # pixels of error that no texture takes away (resampling, bending inside a patch)


class VertexDriftSeries:
    """Measures a bending surface's drift at many places against a base frame, each frame by itself.

    Parameters
    ----------
    luma : (h, w) uint8 or float32 on a scale of 0..255, the base frame.
    mask : (h, w) uint8, non-zero where the surface is on it.
    points : (N, 2) places on the base frame, in Wertis' pixels.
    spacing : pixels over which the drift may differ.
    """

    def __init__(self, luma: np.ndarray, mask: np.ndarray, points: np.ndarray, spacing: float) -> None:
        self._points = to_centred(points)
        side = int(np.clip(_SIDE * spacing, *_SIDES)) // 2 * 2 + 1
        centres = grid_on(mask, max(side * _OVERLAP, np.sqrt(np.count_nonzero(mask) / _MOST)))
        self._reach = _WITHIN * side
        apart = nearest(self._points, centres, 1)[0][:, 0] > self._reach  # places on the outline have a patch of their own
        self._centres = np.concatenate([centres, self._points[apart].round()])
        self._alignment = PatchAlignment(Pyramid(luma), mask, side, self._centres, max(spacing, 2.0 * side))
        self._lattice = Lattice.over(np.vstack([self._points, self._centres]), _STEP * max(spacing, _SIDES[0]))

    def window(self, warp: Warp, size: tuple[int, int]) -> tuple[int, int, int, int]:
        """The part x0, y0, x1, y1 of a frame of `size` (width, height) that measuring it needs."""
        places = to_centred(warp.forward(from_centred(self._points)))
        places = places[np.isfinite(places).all(1)]
        if not len(places):
            return 0, 0, *size
        x0, y0 = np.clip(np.floor(places.min(0) - MARGIN), 0, np.array(size) - 1).astype(int)
        x1, y1 = np.clip(np.ceil(places.max(0) + MARGIN), np.array([x0, y0]) + 1, size).astype(int)
        return int(x0), int(y0), int(x1), int(y1)

    def rounds(self, read: Callable[[int], Picture]) -> list[Iterator[tuple[int, Callable[[], Slip]]]]:
        """Rounds of other looks at frames, as `DriftSeries.rounds`: none."""
        return []

    def take(self, frame: int, found: Slip, warp: Warp) -> Slip:
        """A look's slip stands by itself."""
        return found

    def look(self, luma: np.ndarray, warp: Warp, held: np.ndarray | None, origin: tuple[int, int], size: tuple[int, int]) -> Slip:
        """A frame's drift at the places.

        Parameters
        ----------
        luma, held : the part of the frame at `origin` (x, y) of a picture of `size` (width, height), and 255 on what does not count.
        warp : base to frame, as the motion has it.
        """
        view = View(Pyramid(luma), HeldOut(held) if held is not None else None, lambda p: to_centred(warp.forward(from_centred(p))),
                    lambda p: warp.jacobian(from_centred(p)), origin, size)
        there, slopes = view.onto(self._points), view.slopes(self._points)
        usable = np.flatnonzero(in_front(there, slopes, size))
        share = len(usable) / len(self._points)
        if not len(usable):
            return unmeasured(len(self._points), "the surface is not in the picture, or turned away", share)
        found = self._alignment.align(view)
        slip, deviation = np.full((len(self._points), 2), np.nan), np.full(len(self._points), np.inf)
        if len(found.patches) >= _LEAST_PATCHES:
            near = usable[nearest(self._points[usable], self._centres[found.patches], 1)[0][:, 0] < self._reach]
            field = fitted_field(self._lattice, self._centres[found.patches], found.moves, found.covariance)
            slip[near] = view.onto(self._points[near] + field.at(self._points[near])) - there[near]
            turned = slopes[near] @ field.covariance(self._points[near]) @ slopes[near].transpose(0, 2, 1)
            deviation[near] = np.sqrt(np.maximum(np.linalg.eigvalsh(turned)[:, 1], 0) + _FLOOR ** 2)
        slip[~(deviation <= _MEASURED)] = np.nan
        seen = float(np.isfinite(slip).any(1).sum() / len(usable))
        return Slip(slip, deviation, seen, share, "" if seen else "too little of the surface is seen, or it has too little texture")
