"""What of a plate's pictures the tracker looks at, and which part of the reference frame it tracks."""

from collections.abc import Callable

import cv2
import numpy as np

from wertis.core.errors import RegionError
from wertis.core.plate.base import Plate, grey_of, luma

LOOKS = ("mix", "luma", "red", "green", "blue", "contrast")
"""The plate, its channels mixed for the most detail over the least grain; its brightness; one channel; its brightness with the contrast raised alike
everywhere."""

_NEAR = 12.0  # pixels, standard deviation of the surroundings that contrast is measured in
_FAINT = 4.0  # luma, standard deviation below which contrast is taken for grain and left low
_RAISED = 40.0  # luma, standard deviation that all contrast is brought to


def mask_on_reference(plate: Plate, start: int, mask: np.ndarray, held: Callable[[int], np.ndarray | None] | None) -> np.ndarray:
    """What is tracked of a mask (h, w) uint8 on the reference frame `start`: less what `held`, as for `track.run.track_plane`, holds out there.

    Raises
    ------
    RegionError
        When that frame is not in the plate, or nothing is left.
    """
    if not plate.first <= start <= plate.last:
        raise RegionError(f"The reference frame {start} is not in the plate, which runs from {plate.first} to {plate.last}.")
    away = held(start) if held is not None else None
    if away is None:
        return mask
    left = np.where(away > 127, 0, mask).astype(np.uint8)
    if np.count_nonzero(left) < 100:
        raise RegionError("The hold-outs cover the whole region on its reference frame; make them smaller, or switch one off.")
    return left


def looked_at(picture: np.ndarray, look: str = "luma", half: bool = False, mixture: np.ndarray | None = None) -> np.ndarray:
    """A picture (h, w, c) as the tracker sees it: (h, w), or half of each when `half`, uint8 or float32 on a scale of 0..255.

    Raised contrast is local: mean and deviation of the surroundings are taken out, so that a dark corner's texture counts like a bright one's.

    Parameters
    ----------
    mixture : (3,) each channel's part in "mix", from `imaging.mixture`; brightness where it is not given.
    """
    if look in ("red", "green", "blue") and picture.shape[2] >= 3:
        k = ("red", "green", "blue").index(look)
        seen = luma(picture[..., k:k + 1])
    elif look == "mix" and mixture is not None:
        seen = grey_of(picture, mixture)
    else:
        seen = luma(picture)
    if half:
        seen = cv2.resize(seen, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA)
    if look == "contrast":
        values = seen.astype(np.float32)
        mean = cv2.GaussianBlur(values, (0, 0), _NEAR)
        spread = np.sqrt(np.maximum(cv2.GaussianBlur(values ** 2, (0, 0), _NEAR) - mean ** 2, 0))
        seen = np.clip(128 + _RAISED * (values - mean) / (spread + _FAINT), 0, 250).astype(np.float32)
    return seen
