"""Aligning with one resolution of the reference: which of its tiles are in view and to be trusted, and how sharp they and the picture are."""

import numpy as np

from wertis.core.geometry import homography, quad
from wertis.core.geometry.affine import similarity_through
from wertis.core.imaging.pyramid import HeldOut, Pyramid
from wertis.core.track.align import CLIP_LEVEL, Alignment, Expected, align
from wertis.core.track.blurred_tiles import blurred_tiles
from wertis.core.track.foreshortening import View, view_of
from wertis.core.track.foreshortening import paths as slanted_paths
from wertis.core.track.reference import Reference, TileSet, choose, visible_tiles

TOLERANCE = {0: 0.01, 1: 0.08, 2: 0.2, 3: 0.5, 4: 1.0, 5: 2.0}  # pixels; a shorter step ends the alignment of a level
_TILES = {0: 60, 1: 40, 2: 44, 3: 120, 4: 150, 5: 150}
_TILES_BLURRED = 48  # with a blur's moments beside the motion, which cost three times as much

Trust = tuple[np.ndarray, np.ndarray]
"""Middles (n, 2) of the tiles used on a frame, and the trust (n,) 0..1 that they earned there."""


class Levels:
    """The resolutions of a reference, to align frames with.

    Parameters
    ----------
    kind : (k, 8) basis of the allowed motion.

    Attributes
    ----------
    box : corners (4, 2) of the region's box on the reference frame, first centres at 0.
    """

    def __init__(self, reference: Reference, kind: np.ndarray) -> None:
        self.reference, self.kind = reference, kind
        self.box = quad_of_box(reference.box)

    def aligned(self, level: int, pyramid: Pyramid, matrix: np.ndarray, steps: int, trust: Trust | None,
                rough: float = 0.0, with_blur: bool = False, limit: int = 0, expected: Expected | None = None,
                kind: np.ndarray | None = None) -> Alignment | None:
        """Align at one level of the reference, by a smaller `kind` of motion where one is given; None when too little of the surface is in the picture."""
        tiles = self.reference.tiles_with_blur(level) if with_blur else self.reference.tiles(level)
        if not len(tiles):
            return None
        limit = limit or (min(_TILES[level], _TILES_BLURRED) if with_blur else _TILES[level])
        chosen, trusted = self.in_view(tiles, matrix, pyramid, trust, limit)
        if len(chosen) < 2:
            return None
        at = self.picture_level(level, matrix)
        view, taps = self.view(matrix), None
        try:
            if view.slanted and not with_blur:
                at = max(0, level + round(np.log2(view.smaller)))
                of_tiles, of_picture = slanted_paths(view, level, at)
                if of_tiles is not None:
                    tiles = blurred_tiles(self.reference, tiles, chosen, np.repeat(of_tiles, len(chosen), axis=1))
                    chosen = np.arange(len(chosen))
                if of_picture is not None:
                    taps = np.repeat(of_picture, len(chosen), axis=1)
            return align(self.reference, tiles, chosen, pyramid[at], at, matrix, self.kind if kind is None else kind, trusted, steps, TOLERANCE[level],
                         clip_level=CLIP_LEVEL, rough=rough, with_blur=with_blur, held=pyramid.held[at] if pyramid.held is not None else None,
                         taps=taps, expected=expected)
        except np.linalg.LinAlgError:
            return None

    def in_view(self, tiles: TileSet, matrix: np.ndarray, pyramid: Pyramid, trust: Trust | None, limit: int) -> tuple[np.ndarray, np.ndarray]:
        """Up to `limit` tiles (n,) that are in the picture and were not hidden lately, and their trust (n,)."""
        visible = visible_tiles(tiles, matrix, pyramid.size)
        if pyramid.held is not None:
            visible &= ~_middle_held(pyramid.held, tiles, matrix)
        trusted = _trust_on(tiles, trust)
        chosen = choose(tiles, visible & (trusted > 0.3), limit)
        if len(chosen) < 4:
            chosen = choose(tiles, visible, limit)
        return chosen, trusted[chosen]

    def picture_level(self, level: int, matrix: np.ndarray) -> int:
        """The level of the picture whose detail is most like that of the reference's level."""
        return max(0, level + round(np.log2(max(self.scale(matrix), 1e-3))))

    def scale(self, matrix: np.ndarray) -> float:
        """How many of the frame's pixels one of the reference's is long, in the middle of the region."""
        return homography.local_scale(matrix, self.reference.centre)

    def view(self, matrix: np.ndarray) -> View:
        """How a frame sees the middle of the region."""
        return view_of(matrix, self.reference.centre)

    def distance(self, a: np.ndarray, b: np.ndarray) -> float:
        """Root mean square distance in pixels between the region's corners under two homographies."""
        return float(np.sqrt(((homography.apply(a, self.box) - homography.apply(b, self.box)) ** 2).sum(1).mean()))

    def procrustes_distance(self, a: np.ndarray, b: np.ndarray) -> float:
        """As `distance`, less what a similarity takes away: how differently two homographies foreshorten.

        J. Gower, Generalized Procrustes analysis, 1975.
        """
        before, after = homography.apply(b, self.box), homography.apply(a, self.box)
        return float(np.sqrt(((homography.apply(similarity_through(before, after), before) - after) ** 2).sum(1).mean()))

    def plausible(self, matrix: np.ndarray) -> bool:
        """Whether the region's box stays a convex quad of a believable size, the same way round."""
        if not np.all(np.isfinite(matrix)):
            return False
        mapped = homography.apply(matrix, self.box)
        if not quad.is_convex(mapped):
            return False
        growth = quad.signed_area(mapped) / quad.signed_area(self.box)
        return 0.003 < growth < 300.0


def _trust_on(tiles: TileSet, trust: Trust | None) -> np.ndarray:
    """(K,) a frame's trust carried from the tiles used there to these tiles (nearest in place)."""
    if trust is None:
        return np.ones(len(tiles))
    centres, values = trust
    # squared distances less each tile's own square, which changes no order
    own = (tiles.centre ** 2).sum(1)
    apart = (centres ** 2).sum(1) - 2 * tiles.centre @ centres.T
    nearest = np.argmin(apart, axis=1)
    far = apart[np.arange(len(tiles)), nearest] + own > (3.0 * 16) ** 2
    return np.where(far, 1.0, values[nearest])


def _middle_held(held: HeldOut, tiles: TileSet, matrix: np.ndarray) -> np.ndarray:
    """(K,) whether each tile's middle is held out."""
    mask = held[0]
    places = np.nan_to_num(homography.apply(matrix, tiles.centre), nan=-1e6)
    column, row = np.clip(np.rint(places), 0, [mask.shape[1] - 1, mask.shape[0] - 1]).astype(int).T
    return np.asarray(mask[row, column] > 0.5)


def quad_of_box(box: tuple[int, int, int, int]) -> np.ndarray:
    """The corners (4, 2), clockwise from the top left, of a box x0, y0, x1, y1."""
    x0, y0, x1, y1 = box
    return np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]], np.float64)
