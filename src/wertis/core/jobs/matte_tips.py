"""Pointed parts of a figure whose edge is sharp, by what the figure near them and the background explain; see `matte.exposure_tips`."""

from collections.abc import Sequence

import cv2
import numpy as np

from wertis.core.geometry import homography
from wertis.core.geometry.conventions import homography_to_centred
from wertis.core.jobs.matte_background import FigureBackground
from wertis.core.jobs.matte_edge import visible_corners
from wertis.core.matte.coverage import box_round, polygon_area
from wertis.core.matte.edge import evenly_resampled, with_corners
from wertis.core.matte.exposure import Exposure, Texture, filled, gain_compensated
from wertis.core.matte.exposure_tips import REACH, TipDisplacement, tip_displacement
from wertis.core.matte.outline import flattened
from wertis.core.shot.matte_carry import Carrier
from wertis.core.shot.mattes import MatteShape

_ROUND = 70.0  # pixels round a tip that are looked at
_FEWEST, _MOST = 3, 9  # instants of an exposure
_INSET = 1.5  # pixels from an outline inwards, beside half of its smear, from which what a frame shows is surely the figure's
_LEAST_KNOWN = 0.5  # share of what lies beyond the outline round a tip, of which the background must be known


class SharpTips:
    """Finds tips of one shape on frames that the shutter does not smear.

    Parameters
    ----------
    background : of that shape's figure, at the resolution that is worked at.
    carried : how the shape is carried.
    size : width and height of the frames' pictures.
    """

    def __init__(self, background: FigureBackground, carried: Carrier, size: tuple[int, int]) -> None:
        self._background, self._carried, self._size = background, carried, size

    def found(self, shape: MatteShape, frame: int, known: Sequence[int], spread: float) -> tuple[np.ndarray, dict[int, TipDisplacement]]:
        """(N, 2) by how much a shape's points move in the picture of a frame for its tips to be where that shows them, and the tips, by their corners.

        Parameters
        ----------
        shape : with keys on the frame and on those on which the outline is `known`.
        spread : pixels by which the outline is expected to be off across itself, standard deviation.
        """
        controls = self._carried.controls(shape, frame)
        moves = np.zeros((shape.count, 2))
        tips: dict[int, TipDisplacement] = {}
        if controls is None or not shape.corners or not self._background.has(frame):
            return moves, tips
        points = shape.points_of(controls)
        polygon, at = flattened(shape.curves(controls))
        places, along, _ = evenly_resampled(polygon, at, shape.count)
        places, along, numbers = with_corners(places, along, points, shape.corners)
        shown = visible_corners(self._carried, shape, frame, self._size)
        for corner, k in zip(shape.corners, numbers, strict=True):
            if corner not in shown:
                continue
            made = self._layers(shape, frame, known, points[corner], places)
            if made is None:
                continue
            exposure, texture, origin = made
            scale = self._background.scale
            boxed = places * scale - origin
            texture = gain_compensated(exposure, texture, homography.apply(np.linalg.inv(exposure.middle), boxed))
            tip = tip_displacement(exposure, texture, boxed, k, spread * scale, REACH * scale, scale)
            if tip is not None:
                tips[corner] = tip
                moves += np.column_stack([np.interp(np.arange(shape.count), along, axis, period=shape.count) for axis in tip.displacements.T / scale])
        return moves, tips

    def _layers(self, shape: MatteShape, frame: int, known: Sequence[int], tip: np.ndarray,
                places: np.ndarray) -> tuple[Exposure, Texture, np.ndarray] | None:
        """The exposure in a box round a tip (2,), the figure's texture there, and the box's corner (2,); None where too little is known."""
        scale = self._background.scale
        box = box_round(tip[None] * scale, _ROUND * scale, self._background.size(frame))
        if box is None:
            return None
        _, sound = self._background.at(frame, box)
        outside = polygon_area(places * scale, box) == 0
        if not outside.any() or sound[outside].mean() < _LEAST_KNOWN:
            return None
        exposure = self._background.exposure(shape, frame, box, _FEWEST, _MOST)
        if exposure is None:
            return None
        exposure = self._background.posed(exposure, shape, frame)
        x0, y0, x1, y1 = box
        texture = self._texture(shape, known, exposure.middle, (x1 - x0, y1 - y0))
        return None if texture is None else (exposure, texture, np.array([x0, y0], float))

    def _texture(self, shape: MatteShape, known: Sequence[int], place: np.ndarray, size: tuple[int, int]) -> Texture | None:
        """What frames on which the outline is known show of the figure, at a `place` (3, 3) of its own."""
        total, count = np.zeros((*size[::-1], 3), np.float32), np.zeros(size[::-1], np.float32)
        for frame in filter(self._background.has, known):
            there, controls = self._carried.homography(shape, frame, frame), self._carried.controls(shape, frame)
            smear = float(np.median(self._background.travel(shape, frame)))
            if there is None or controls is None or not np.isfinite(smear):
                continue
            onto = place @ np.linalg.inv(there @ self._background.pose.at(shape, frame))  # from that frame's picture
            scaled = onto @ homography.scaling(1 / self._background.scale)
            inside = (polygon_area(homography.apply(onto, flattened(shape.curves(controls))[0]), (0, 0, *size)) > 0.99).astype(np.uint8)
            inset = int(np.ceil((_INSET + smear / 2) * self._background.scale))
            inside = cv2.erode(inside, np.ones((2 * inset + 1, 2 * inset + 1), np.uint8)).astype(np.uint8)
            picture = cv2.warpPerspective(self._background.picture(frame), homography_to_centred(scaled), size, flags=cv2.INTER_LINEAR)
            total += picture * inside[..., None]
            count += inside
        if not (count > 0).any():
            return None
        return Texture(filled(total / np.maximum(count, 1)[..., None], count > 0), place, count > 0)
