"""Before tracking: is there enough in a region to hold on to, and where?"""

from dataclasses import dataclass

import cv2
import numpy as np

from wertis.core.geometry.conventions import from_centred, to_centred
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.track.covariance import expected_error
from wertis.core.track.kinds import KINDS
from wertis.core.track.reference import PLAIN, Reference

ENOUGH, LITTLE = 0.1, 0.4  # pixels of expected error: fine below the first, to be warned of above the second
STRONG = 12.0  # luma per pixel: gradient across its weakest direction from which a spot holds in every direction


@dataclass(frozen=True)
class Texture:
    """What a region offers.

    Attributes
    ----------
    error : expected error in pixels of the region's corners when the surface is seen as well as on this frame.
    spots : (n, 2) middles of small squares over the region, in pixels.
    size : side of the squares in pixels.
    hold : (n,) 0..1, how well each square holds on its own in every direction.
    """

    error: float
    spots: np.ndarray
    size: float
    hold: np.ndarray

    @property
    def words(self) -> str:
        """A plain verdict, and what to do."""
        if not np.isfinite(self.error) or self.error > 20 * LITTLE:
            return "No texture to hold on to. Draw the region round an area with detail, or take in the surface's edges."
        if self.error > LITTLE:
            return f"Little texture (expected error {self.error:.1f} px). Draw the region larger, or allow less motion than perspective."
        if self.error > ENOUGH:
            return f"Enough texture for most shots (expected error {self.error:.2f} px)."
        return f"Plenty of texture (expected error {self.error:.2f} px)."


def strength(luma: np.ndarray) -> np.ndarray:
    """(h, w) how well each spot of a picture holds in all directions: the smaller eigenvalue of the structure tensor (J. Shi and C. Tomasi, Good
    features to track, CVPR 1994)."""
    return cv2.cornerMinEigenVal(cv2.GaussianBlur(luma, (0, 0), 1.5).astype(np.float32), 7)


def measure(luma: np.ndarray, mask: np.ndarray, points: np.ndarray, kind: str = "perspective") -> Texture:
    """Measure a region's texture on its frame.

    Each square is judged by the smaller eigenvalue of its structure tensor (J. Shi and C. Tomasi, Good features to track, 1994), the whole by
    the covariance of the motion that the tracker would fit, with the tracker's own idea of noise.

    Parameters
    ----------
    luma : (h, w) uint8 or float32 on a scale of 0..255.
    mask : (h, w) uint8, non-zero where the surface is.
    points : (N, 2) the region's corners, in Wertis' pixels.
    """
    reference = Reference(Pyramid(luma), mask)
    tiles = reference.tiles(0)
    if not len(tiles):
        return Texture(np.inf, np.zeros((0, 2)), 0.0, np.zeros(0))
    steepest_descent = tiles.steepest_descent.reshape(8, -1).T.astype(np.float64)
    information = steepest_descent.T @ steepest_descent / PLAIN
    error = expected_error(information, np.eye(3), reference, to_centred(points), KINDS[kind])
    gx, gy = tiles.steepest_descent[2] / reference.radius, tiles.steepest_descent[5] / reference.radius
    count = np.maximum(tiles.inside.sum(1), 1)
    xx, xy, yy = (gx * gx).sum(1) / count, (gx * gy).sum(1) / count, (gy * gy).sum(1) / count
    smaller = (xx + yy) / 2 - np.hypot((xx - yy) / 2, xy)
    hold = np.clip(np.sqrt(np.maximum(smaller, 0)) / STRONG, 0, 1)
    return Texture(error, from_centred(tiles.centre), float(tiles.tile), hold)
