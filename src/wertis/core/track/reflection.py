"""A track in a surface that mirrors something: aligned again without the reflection, which then no longer pulls it. See `imaging.layers`."""

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from wertis.core.geometry import homography
from wertis.core.geometry.conventions import homography_to_centred, to_centred
from wertis.core.geometry.motion import Fix
from wertis.core.imaging.layer_separation import MOST_FRAMES, Layers
from wertis.core.imaging.parallel import side_by_side
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.track.align import Alignment, align
from wertis.core.track.covariance import expected_error
from wertis.core.track.reference import Reference, choose, visible_tiles

_UNSURE = 0.08  # pixels of expected error, in the poorer picture, from which a frame may show a reflection
_PART = 0.5  # of the frames that must be so
_STEPS, _TILES = 5, 80
_NOT_WHOLLY = 1.2  # times by which the error is larger than grain alone would make it: what is left of the reflection pulls still
_FARTHEST = 4.0  # pixels from the first answer beyond which the new one is not believed


class ReflectionKeeper:
    """Keeps small pictures of the region while it is tracked, and afterwards tells a reflection apart and answers again.

    Parameters
    ----------
    luma : (height, width) of the reference frame, as the tracker sees it.
    mask : (height, width) uint8, non-zero where the surface is.
    corners : (N, 2) points, in Wertis' pixels, at which the expected error is stated.
    kind : (k, 8) basis of the allowed motion.
    start : the reference frame's number.
    """

    def __init__(self, luma: np.ndarray, mask: np.ndarray, corners: np.ndarray, kind: np.ndarray, start: int) -> None:
        self._layers = Layers(luma, mask, start)
        self._kind = kind
        self._corners = homography.apply(np.linalg.inv(self._layers.back), to_centred(corners))
        self._fixes: dict[int, Fix] = {}
        self._fed = 0
        self._middle = corners.mean(0)

    def keep(self, frame: int, fix: Fix, luma: np.ndarray) -> None:
        """Remember a frame that has an answer, if that is so unsure that a reflection may be the cause."""
        self._fed += 1
        if fix.matrix is not None and fix.error >= _UNSURE * max(1.0, homography.local_scale(fix.matrix, self._middle)):
            self._fixes[frame] = fix
            self._layers.keep(frame, fix.matrix, luma)

    def answers(self) -> Iterator[tuple[int, Fix]]:
        """Better answers for the frames kept; none where no reflection is found, or where telling it apart does not help."""
        layers = self._layers
        if len(layers.kept) < _PART * min(self._fed, MOST_FRAMES):
            return
        found: list[Alignment] = []
        reference: Reference | None = None

        def aligned(surface: np.ndarray, mask: np.ndarray, pictures: list[np.ndarray], matrices: list[np.ndarray]) -> list[np.ndarray] | None:
            nonlocal found, reference
            reference = Reference(Pyramid(surface), mask * 255)
            found = self._aligned(reference, pictures, matrices)
            return [a.matrix for a in found] if len(found) == len(pictures) else None

        if not layers.separated(aligned) or reference is None:
            return
        of_reference = self._error(found[0], reference)
        better: dict[int, Fix] = {}
        for k, alignment in list(zip(layers.kept, found, strict=True))[1:]:
            fix, matrix = self._fixes[k.frame], layers.whole(k)
            assert fix.matrix is not None
            away = homography.apply(homography_to_centred(matrix), layers.box) - homography.apply(homography_to_centred(fix.matrix), layers.box)
            if np.linalg.norm(away, axis=1).max() <= _FARTHEST:
                better[k.frame] = replace(fix, matrix=matrix, error=float(np.hypot(self._error(alignment, reference), of_reference)))
        # what passes in front can look like a second layer; taking that off makes nothing surer
        if better and np.median([x.error for x in better.values()]) < np.median([self._fixes[f].error for f in better]):
            yield from better.items()

    # -- inside ---------------------------------------------------------------------------------------------------

    def _aligned(self, reference: Reference, pictures: list[np.ndarray], matrices: list[np.ndarray]) -> list[Alignment]:
        """Each picture aligned with the surface; fewer than the pictures where one cannot be."""
        tiles = reference.tiles(0)

        def again(each: tuple[np.ndarray, np.ndarray]) -> Alignment | None:
            picture, matrix = Pyramid(each[0]), each[1]
            chosen = choose(tiles, visible_tiles(tiles, matrix, picture.size), _TILES)
            if len(chosen) < 4:
                return None
            try:
                return align(reference, tiles, chosen, picture[0], 0, matrix, self._kind, np.ones(len(chosen)), _STEPS, 0.01)
            except np.linalg.LinAlgError:
                return None

        return [a for a in side_by_side(again, list(zip(pictures, matrices, strict=True))) if a is not None]

    def _error(self, alignment: Alignment, reference: Reference) -> float:
        return _NOT_WHOLLY * expected_error(alignment.normal, alignment.matrix, reference, self._corners, self._kind) * self._layers.scale
