"""Dense displacement fields: where every pixel of a box of one picture lies in another, as a warp.

Between pixels the displacement is bilinear. The way back is drawn in small triangles (as a surface is rasterised), so that of two parts which come to lie
over each other the seen one shows, what is turned away does not, and where neighbours were torn apart there is nothing.
"""

from dataclasses import dataclass
from functools import cached_property

import cv2
import numpy as np
import scipy

from wertis.core.geometry.mesh import drawn_triangles
from wertis.core.geometry.warp import SPARSE, Box, Warp

PITCH = 4  # pixels between the corners of the triangles; the field is taken for flat within one
_TORN = 3.0  # times its length in the source from which a triangle's side in the target spans a gap
_NEAR = 2.0 * PITCH  # target pixels from a triangle's middle within which a point may lie on it
_ARRIVED = 0.05  # target pixels within which a point counts as found where Newton's method does not end


@dataclass(frozen=True)
class DisplacementField:
    """A displacement for every pixel of a box.

    Attributes
    ----------
    box : x0, y0, x1, y1 in the source picture, whole pixels.
    displacement : (h, w, 2) float32, target minus source, in pixels, at the pixels' centres.
    error : (h, w) float32 expected error in pixels (one standard deviation).
    seen : (h, w) bool, whether the pixel is visible in the target; the displacement of the others goes with those round them.
    """

    box: Box
    displacement: np.ndarray
    error: np.ndarray
    seen: np.ndarray

    @property
    def nbytes(self) -> int:
        """Memory it takes."""
        return int(self.displacement.nbytes + self.error.nbytes + self.seen.nbytes)

    def sampled(self, values: np.ndarray, points: np.ndarray) -> np.ndarray:
        """(N, ...) values (h, w, ...) of the pixels at points (N, 2) of the source, bilinear; beyond the box those of its edge."""
        at = np.nan_to_num(np.asarray(points, np.float64) - [self.box[0] + 0.5, self.box[1] + 0.5])
        h, w = values.shape[:2]
        x, y = np.clip(at[:, 0], 0, w - 1), np.clip(at[:, 1], 0, h - 1)
        i, j = np.minimum(x.astype(int), max(w - 2, 0)), np.minimum(y.astype(int), max(h - 2, 0))
        k, m = np.minimum(i + 1, w - 1), np.minimum(j + 1, h - 1)
        shape = (-1,) + (1,) * (values.ndim - 2)
        u, v = (x - i).reshape(shape), (y - j).reshape(shape)
        return np.asarray((1 - v) * ((1 - u) * values[j, i] + u * values[j, k]) + v * ((1 - u) * values[m, i] + u * values[m, k]))


class FieldWarp(Warp):
    """The warp of a displacement field. Beyond the field's box, points move as its edge does."""

    def __init__(self, field: DisplacementField) -> None:
        self.field = field

    def forward(self, points: np.ndarray) -> np.ndarray:
        p = np.asarray(points, np.float64)
        flat = p.reshape(-1, 2)
        moved = flat + self.field.sampled(self.field.displacement, flat)
        moved[~np.isfinite(flat).all(1)] = np.nan
        return moved.reshape(p.shape)

    def inverse(self, points: np.ndarray) -> np.ndarray:
        p = np.asarray(points, np.float64)
        guess = self._first_guess(p.reshape(-1, 2)).reshape(p.shape)
        found = super().inverse(p)
        missing = ~np.isfinite(found).all(-1) & np.isfinite(guess).all(-1)
        if missing.any():  # at a crease Newton's method goes to and fro
            there = np.linalg.norm(self.forward(guess[missing]) - p[missing], axis=-1) < _ARRIVED * PITCH
            found[missing] = np.where(there[:, None], guess[missing], np.nan)
        return found

    @property
    def sharp_ends(self) -> bool:
        return True

    def inverse_map(self, box: Box, samples: int = 1) -> np.ndarray:
        x0, y0, x1, y1 = box
        each = 1.0 / samples
        return self._drawn(x0 + each / 2, y0 + each / 2, each, (x1 - x0) * samples, (y1 - y0) * samples)

    def sparse_inverse(self, box: Box) -> np.ndarray:
        x0, y0, x1, y1 = box
        columns, rows = (-(-(end - start) // SPARSE) + 2 for start, end in ((x0, x1), (y0, y1)))
        return self._drawn(x0 - SPARSE / 2, y0 - SPARSE / 2, float(SPARSE), columns, rows)

    @cached_property
    def _pieces(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Triangles in source and target (m, 3, 2), and (m,) the order in which they lie over each other; without those that are torn."""
        x0, y0, x1, y1 = self.field.box
        x, y = (np.unique(np.append(np.arange(a, b, PITCH), b)).astype(float) for a, b in ((x0, x1), (y0, y1)))
        points = np.stack(np.meshgrid(x, y), axis=-1).reshape(-1, 2)
        number = np.arange(len(points)).reshape(len(y), len(x))
        a, b, c, d = number[:-1, :-1].ravel(), number[:-1, 1:].ravel(), number[1:, 1:].ravel(), number[1:, :-1].ravel()
        triangles = np.concatenate([np.stack([a, b, c], -1), np.stack([a, c, d], -1)])
        target = self.forward(points)
        seen = self.field.sampled(self.field.seen.astype(np.float32), points)
        sides = [(target[triangles[:, k]] - target[triangles[:, k - 1]], points[triangles[:, k]] - points[triangles[:, k - 1]]) for k in range(3)]
        whole = np.all([np.linalg.norm(moved, axis=1) < _TORN * np.linalg.norm(own, axis=1) for moved, own in sides], axis=0)
        triangles = triangles[whole]
        return points[triangles], target[triangles], seen[triangles].mean(1)

    @cached_property
    def _front(self) -> "tuple[scipy.spatial.cKDTree, np.ndarray, np.ndarray, np.ndarray] | None":
        source, target, order = self._pieces
        u, v = target[:, 1] - target[:, 0], target[:, 2] - target[:, 0]
        front = u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0] > 0
        return (scipy.spatial.cKDTree(target[front].mean(1)), source[front], target[front], order[front]) if front.any() else None

    def _first_guess(self, points: np.ndarray) -> np.ndarray:
        out = np.full_like(points, np.nan)
        sound = np.isfinite(points).all(1)
        if self._front is None or not sound.any():
            return out
        tree, source, target, order = self._front
        p = points[sound]
        far, index = tree.query(p, k=min(8, len(source)))
        far, index = far.reshape(len(p), -1), index.reshape(len(p), -1)
        # among the triangles round a point, that on top, its own place in it
        score = np.where(far <= np.maximum(far[:, :1] + PITCH, _NEAR), order[index] - 1e-3 * far, -np.inf)
        best = np.take_along_axis(index, score.argmax(1)[:, None], axis=1)[:, 0]
        a, u, v = target[best, 0], target[best, 1] - target[best, 0], target[best, 2] - target[best, 0]
        area = u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]
        w = p - a
        s, t = (w[:, 0] * v[:, 1] - w[:, 1] * v[:, 0]) / area, (u[:, 0] * w[:, 1] - u[:, 1] * w[:, 0]) / area
        own = source[best]
        out[sound] = own[:, 0] + s[:, None] * (own[:, 1] - own[:, 0]) + t[:, None] * (own[:, 2] - own[:, 0])
        return out

    def _drawn(self, x: float, y: float, pitch: float, columns: int, rows: int) -> np.ndarray:
        return drawn_triangles(*self._pieces, (x, y), pitch, (rows, columns))[0].astype(np.float32)


def filled_from_known(values: np.ndarray, weight: np.ndarray) -> np.ndarray:
    """Values (h, w, n) float32 with those of small weight (h, w) 0..1 filled from the known ones round them, nearest scale first.

    Normalised convolution over a pyramid: H. Knutsson and C.-F. Westin, Normalized and differential convolution, CVPR 1993; S. Gortler et al., The
    lumigraph, 1996 (pull-push).
    """
    weight = weight.astype(np.float32)
    levels = [(values * weight[..., None], weight)]
    while min(levels[-1][1].shape) > 3:
        levels.append(tuple(cv2.pyrDown(a).reshape(*cv2.pyrDown(levels[-1][1]).shape, *a.shape[2:]) for a in levels[-1]))  # type: ignore[arg-type]
    total, w = levels[-1]
    filled = total / np.maximum(w, 1e-6)[..., None]
    for total, w in levels[-2::-1]:
        up = cv2.pyrUp(filled, dstsize=w.shape[::-1]).reshape(*w.shape, -1)
        share = np.minimum(4 * w, 1)[..., None]
        filled = share * total / np.maximum(w, 1e-6)[..., None] + (1 - share) * up
    return np.asarray(weight[..., None] * values + (1 - weight[..., None]) * filled, np.float32)
