"""Pictures read at the pixels of tiles, wherever a motion has taken them."""

import cv2
import numpy as np

from wertis.core import compiled
from wertis.core.compiled import address


def read_tiles(picture: np.ndarray, matrix: np.ndarray, x: np.ndarray, y: np.ndarray, shrink: float, taps: np.ndarray | None = None) -> np.ndarray:
    """A float32 picture (a pyramid level, `shrink` times smaller) at places x, y (n, P) float32 of level 0 moved by `matrix` (3, 3): (n, P).

    With `taps` (J, n, 2), in pixels of level 0, it is the mean over the places moved back by each of them first. Beyond its edges the picture goes on as
    it is there.
    """
    if compiled.LIBRARY is None or x.shape[1] > compiled.MOST_PIXELS or min(picture.shape) < 2:
        return plainly_read(picture, matrix, x, y, shrink, taps)
    out = np.empty(x.shape, np.float32)
    onto = scaled(matrix, shrink)
    taps = None if taps is None else np.ascontiguousarray(taps, np.float32)
    h, w = picture.shape
    f = np.float32
    compiled.LIBRARY.read_tiles(address(picture, f), h, w, address(onto, np.float64), address(x, f), address(y, f), address(taps, f),
                                0 if taps is None else len(taps), *x.shape, address(out, f))
    return out


def plainly_read(picture: np.ndarray, matrix: np.ndarray, x: np.ndarray, y: np.ndarray, shrink: float, taps: np.ndarray | None = None) -> np.ndarray:
    """`read_tiles` with OpenCV."""
    if taps is not None:
        return at_taps(picture, matrix, x, y, shrink, taps).mean(0)  # type: ignore[no-any-return]
    moved = cv2.perspectiveTransform(np.stack([x, y], axis=-1), scaled(matrix, shrink))
    return np.asarray(cv2.remap(picture, moved, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE))  # type: ignore[call-overload]


def at_taps(picture: np.ndarray, matrix: np.ndarray, x: np.ndarray, y: np.ndarray, shrink: float, taps: np.ndarray) -> np.ndarray:
    """(J, n, P) what `plainly_read` takes the mean of."""
    return np.stack([plainly_read(picture, matrix, x - offset[:, :1], y - offset[:, 1:], shrink) for offset in taps.astype(np.float32)])


def scaled(matrix: np.ndarray, shrink: float) -> np.ndarray:
    """`matrix` (3, 3) onto a picture that is `shrink` times smaller; first centres at 0."""
    return np.ascontiguousarray(matrix / np.array([[shrink], [shrink], [1.0]]), np.float64)
