"""Which frame a patch is best taken out of: where the surface is large, sharp and little hidden, by what the tracker knows."""

from typing import NamedTuple

import cv2
import numpy as np

from wertis.core.errors import PlateError
from wertis.core.plate.base import Plate, luma
from wertis.core.shot.document import Shot, Track
from wertis.core.shot.edits import region_on

_TRIED = 12  # frames whose pictures are looked at for sharpness, those that are best by the rest


class ProposedFrame(NamedTuple):
    """A frame, and why: the area of the surface over the largest one's, the share of it that is seen, and its sharpness over the sharpest one's."""

    frame: int
    worth: float
    area: float
    seen: float
    sharpness: float


def proposed_frames(shot: Shot, track: Track, plate: Plate) -> list[ProposedFrame]:
    """The best frames of the shot's range, the best one first."""
    solution = track.solution
    shares = dict(zip(solution.tried.tolist(), solution.shares.tolist(), strict=True)) if solution is not None else {}
    outlines = {f: o for f in range(shot.range[0], shot.range[1] + 1) if (o := region_on(track, f)) is not None and _inside(o, plate.size)}
    if not outlines:
        return []
    areas = {f: abs(float(cv2.contourArea(o.astype(np.float32)))) for f, o in outlines.items()}
    largest = max(areas.values())
    seen = {f: float(shares.get(f, 1.0)) for f in outlines}
    rough = sorted(outlines, key=lambda f: -np.sqrt(areas[f] / largest) * seen[f] ** 2)
    spread = sorted({rough[round(k)] for k in np.linspace(0, min(len(rough) - 1, 3 * _TRIED), _TRIED)})
    sharp: dict[int, float] = {}
    for frame in spread:
        try:
            sharp[frame] = _sharpness(luma(plate.read(frame)), outlines[frame])
        except PlateError:
            continue
    sharpest = max(sharp.values(), default=1.0) or 1.0
    found = [ProposedFrame(f, float(np.sqrt(areas[f] / largest) * seen[f] ** 2 * s / sharpest), areas[f] / largest, seen[f], s / sharpest)
             for f, s in sharp.items()]
    return sorted(found, key=lambda p: (-p.worth, p.frame))


def _inside(outline: np.ndarray, size: tuple[int, int]) -> bool:
    return bool((outline > 0).all() and (outline < np.array(size)).all())


def _sharpness(picture: np.ndarray, outline: np.ndarray) -> float:
    """Root mean square of the picture's second differences inside an outline, over that of its first: higher where edges are steeper."""
    values = cv2.GaussianBlur(np.asarray(picture, np.float32), (0, 0), 0.8)
    mask = np.zeros(values.shape[:2], np.uint8)
    cv2.fillPoly(mask, [np.round(outline).astype(np.int32)], 1)
    inside = mask > 0
    across, down = (cv2.Sobel(values, cv2.CV_32F, *order) for order in ((1, 0), (0, 1)))
    bend = cv2.Laplacian(values, cv2.CV_32F)
    return float(np.sqrt(np.square(bend[inside]).mean()) / max(float(np.sqrt((across ** 2 + down ** 2)[inside].mean())), 1e-6))
