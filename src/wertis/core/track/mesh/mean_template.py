"""The mean of many frames as the template, where the signal-to-noise ratio of one frame is low.

Tiles of faint texture have gradients that are mostly grain's on the reference frame, so that little can be told by them; on the mean of the frames, each
resampled into the reference frame's pixels by its map, the texture is what is left. Group-wise registration: S. Joshi, B. Davis, M. Jomier and
G. Gerig, Unbiased diffeomorphic atlas construction for computational anatomy, NeuroImage 23, 2004. The mean lies where the frames' maps put it, which
the reference frame's grain has displaced a little; the reference frame, compared with the mean like any other frame, says by how much.
"""

import copy

import cv2
import numpy as np

from wertis.core.geometry.bspline import evaluate
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.track.mesh.alignment import MeshAlignment
from wertis.core.track.mesh.batch_equations import ReferenceMeasure
from wertis.core.track.mesh.observation import Observation
from wertis.core.track.mesh.reference import MeshReference, MeshTiles
from wertis.core.track.mesh.settings import MEAN_TEMPLATE, PHOTOMETRY
from wertis.core.track.mesh.templates import MARGIN, TileTemplates, resampled


def noise_dominated(tiles: MeshTiles, grain: float) -> np.ndarray:
    """(n,) the numbers of the finest level's usable tiles whose squared gradients are largely grain's, of a luma variance."""
    slopes = tiles.structure[tiles.usable, 0] + tiles.structure[tiles.usable, 2]
    of_grain = PHOTOMETRY.grain_slopes[0] * grain * tiles.count[tiles.usable]
    return tiles.usable[of_grain > MEAN_TEMPLATE.slopes_of_grain * slopes]


class MeanOfFrames:
    """Adds up frames of a surface in the reference frame's pixels.

    Only the high-pass part is averaged; the low-pass part, which light may change, stays the reference frame's.

    Parameters
    ----------
    alignment : of the reference frame.
    """

    def __init__(self, alignment: MeshAlignment) -> None:
        self._alignment, self._reference = alignment, alignment.reference
        self._reference.tiles(0)  # made here, since `high_pass` is asked by several threads
        h, w = self._reference.mask.shape
        x0, y0, x1, y1 = self._reference.box
        self._corner = max(x0 - MARGIN, 0), max(y0 - MARGIN, 0)
        self._window = slice(self._corner[1], min(y1 + MARGIN, h)), slice(self._corner[0], min(x1 + MARGIN, w))
        first = self._reference.pyramid[0][self._window]
        self._coarse = _low_pass(first)
        self._sum, self._weight = first - self._coarse, np.ones_like(first)

    def high_pass(self, picture: np.ndarray, values: np.ndarray, seen: Observation) -> tuple[np.ndarray, np.ndarray]:
        """A frame's high-pass part in the reference frame's pixels and contrast, and its weights (both (height, width) float32, to `add`).

        Parameters
        ----------
        picture : (height, width) float32, its pyramid's finest level.
        values : (rows, columns, 2) control values of the map to it.
        seen : what its tiles said.
        """
        frame = resampled(picture, lambda points: evaluate(self._alignment.lattice, values, points)[0], self._reference)[self._window]
        tiles = self._reference.tiles(0)
        contrast = np.sqrt(tiles.energy[tiles.usable]) * seen.weight
        gain = float(np.average(seen.gain, weights=contrast)) if contrast.any() else 1.0
        return (frame - _low_pass(frame)) / np.float32(max(gain, MEAN_TEMPLATE.least_gain)), self._on_pixels(seen.weight)

    def add(self, detail: np.ndarray, weight: np.ndarray) -> None:
        """Add a frame's."""
        self._sum += weight * detail
        self._weight += weight

    def _on_pixels(self, weight: np.ndarray) -> np.ndarray:
        """(height, width) float32 of weights (n,) of usable tiles, linear between their middles."""
        tiles = self._reference.tiles(0)
        side, chosen = tiles.side, tiles.usable
        first = tiles.corner[chosen].min(0).astype(int)
        column, row = ((tiles.corner[chosen] - first) / side).round().astype(int).T
        size = row.max() + 1, column.max() + 1
        known, total = np.zeros(size, np.float32), np.zeros(size, np.float32)
        known[row, column], total[row, column] = 1, weight
        total *= known
        smooth = cv2.blur(total, (3, 3)) / np.maximum(cv2.blur(known, (3, 3)), 1e-6)
        out = np.zeros(self._sum.shape, np.float32)
        x0, y0 = first - self._corner
        h, w = out[y0:y0 + size[0] * side, x0:x0 + size[1] * side].shape
        out[y0:y0 + h, x0:x0 + w] = cv2.resize(smooth, (size[1] * side, size[0] * side), interpolation=cv2.INTER_LINEAR)[:h, :w]
        return out

    def aligned_by_mean(self) -> MeshAlignment | None:
        """The alignment with the mean in place of the reference frame for the tiles that noise dominates; None where that would change little."""
        alignment, fine = self._alignment, self._reference.tiles(0)
        tiles = noise_dominated(fine, alignment.grain)
        x, y = (fine.centre[tiles] - self._corner).astype(int).T
        share = 1 / self._weight[y, x]
        enough = share < MEAN_TEMPLATE.most_grain_share
        if np.count_nonzero(enough) < MEAN_TEMPLATE.least_share * len(fine):
            return None
        picture = self._reference.pyramid[0].copy()
        picture[self._window] = self._coarse + self._sum / self._weight
        mean = MeshReference(Pyramid.of_smoothed(picture), self._reference.mask)
        return with_templates(alignment, alignment.templates.with_mean(mean, tiles[enough], share[enough]))


def reference_on_mean(alignment: MeshAlignment) -> dict[int, ReferenceMeasure]:
    """What the reference frame shows when it is compared with the mean: of each level, for `BatchEquations`."""
    reference, identity = alignment.reference, alignment.lattice.identity
    found = {}
    for level in range(min(PHOTOMETRY.coarser, reference.coarsest) + 1):
        tiles = alignment.templates.tiles(level)
        part = np.flatnonzero(tiles.template[tiles.usable])
        if len(part):
            look = alignment.linearise(reference.pyramid, level, identity, part)
            found[level] = part, look.information, look.pull
    return found


def with_templates(alignment: MeshAlignment, templates: TileTemplates) -> MeshAlignment:
    """The same alignment with other templates."""
    other = copy.copy(alignment)
    other.templates, other.blur = templates, alignment.blur.with_templates(templates)
    return other


def _low_pass(picture: np.ndarray) -> np.ndarray:
    side = (MEAN_TEMPLATE.low_pass_side, MEAN_TEMPLATE.low_pass_side)
    return cv2.blur(cv2.blur(picture, side), side)
