"""Pictures resampled through a warp."""

import cv2
import numpy as np

from wertis.core.geometry.conventions import homography_to_centred, to_centred
from wertis.core.geometry.warp import Warp


def warped(picture: np.ndarray, warp: Warp, size: tuple[int, int], interpolation: int = cv2.INTER_LINEAR, border: float = 0.0) -> np.ndarray:
    """A picture (h, w) or (h, w, c) as a warp shows it: the target picture of `size` (width, height).

    Parameters
    ----------
    warp : the picture to the target.
    interpolation : one of OpenCV's.
    border : what the target holds where nothing of the picture is.
    """
    if warp.matrix is not None:
        return np.asarray(cv2.warpPerspective(picture, homography_to_centred(warp.matrix), size, flags=interpolation, borderValue=border))
    return read_at(picture, warp.inverse_map((0, 0, *size)), interpolation, border)


def unwarped(picture: np.ndarray, warp: Warp, size: tuple[int, int], interpolation: int = cv2.INTER_LINEAR, border: float = 0.0) -> np.ndarray:
    """A target picture laid back on its source, of `size` (width, height): the inverse of `warped`."""
    if warp.matrix is not None:
        flags = interpolation | cv2.WARP_INVERSE_MAP
        return np.asarray(cv2.warpPerspective(picture, homography_to_centred(warp.matrix), size, flags=flags, borderValue=border))
    from wertis.core.geometry.warp import pixel_centres

    return read_at(picture, warp.forward(pixel_centres((0, 0, *size))).astype(np.float32), interpolation, border)


def read_at(picture: np.ndarray, places: np.ndarray, interpolation: int = cv2.INTER_LINEAR, border: float = 0.0) -> np.ndarray:
    """A picture at places (h, w, 2) in pixels; nan places and those outside give `border`."""
    at = np.nan_to_num(to_centred(places).astype(np.float32), nan=-1e6)
    return np.asarray(cv2.remap(picture, at[..., 0], at[..., 1], interpolation, borderMode=cv2.BORDER_CONSTANT, borderValue=border))
