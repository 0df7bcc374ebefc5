"""What lies behind a moving figure, on each frame, joined from frames that show it.

Frames are registered by homographies through features beside the figure (R. Hartley and A. Zisserman, Multiple view geometry, 2004, section 4.8), and of
what they show the median is taken (a background by temporal median: R. Cucchiara and others, Detecting moving objects, ghosts and shadows in video
streams, 2003).
"""

from collections.abc import Callable, Sequence

import cv2
import numpy as np

_AWAY = (1, 2, 3, 4, 6, 9, 13, 18, 24, 32)  # frames to both sides from which it is taken, as far as they are needed
_ENOUGH = 7  # pictures that show a pixel
_ODD_EVEN = [(k, k + 1) for turn in range(_ENOUGH) for k in range(turn % 2, _ENOUGH - 1, 2)]  # exchanges that sort so many
_FEATURES, _QUALITY, _APART = 600, 0.005, 6
_WINDOW, _LEVELS = 21, 4
_BACK = 0.3  # pixels that a feature may be off after going forth and back
_CLOSE = 0.5  # pixels from the homography within which a feature goes with it
_FEWEST, _LEAST_SHARE = 25, 0.5  # features, and part of them that must go with one homography


class RegisteredBackground:
    """The background of a range of frames.

    Parameters
    ----------
    read : gives a frame's picture, (h, w, 3) on a scale of 0..255 times `unit`: float32, or uint16, which is quicker.
    covered : gives (h, w) bool, where the figure may be on a frame.
    frames : in their order.
    """

    def __init__(self, read: Callable[[int], np.ndarray], covered: Callable[[int], np.ndarray], frames: Sequence[int], unit: float = 1.0) -> None:
        self._read, self._covered, self._frames, self._unit = read, covered, list(frames), unit
        self._steps: dict[int, np.ndarray | None] = {}  # number of a frame to the homography to the next one

    def leave_out(self, frame: int) -> None:
        """Do without a frame, which cannot be read."""
        self._frames.remove(frame)
        self._steps.clear()

    def at(self, frame: int, box: tuple[int, int, int, int]) -> tuple[np.ndarray, np.ndarray]:
        """(h, w, 3) float32 of a box (x0, y0, x1, y1) of a frame, on a scale of 0..255, and (h, w) bool where it is known."""
        x0, y0, x1, y1 = box
        size = x1 - x0, y1 - y0
        seen: np.ndarray | None = None
        count = np.zeros(size[0] * size[1], int)
        number = self._frames.index(frame)
        for other in (k for d in _AWAY for k in (number - d, number + d)):
            if not 0 <= other < len(self._frames) or (count >= _ENOUGH).all():
                continue
            onto = self._between(other, number)
            if onto is None:
                continue
            onto = np.array([[1, 0, -x0], [0, 1, -y0], [0, 0, 1.0]]) @ onto
            source = self._frames[other]
            free = cv2.warpPerspective((~self._covered(source)).astype(np.uint8), onto, size, flags=cv2.INTER_NEAREST)
            wanted = np.flatnonzero((free.ravel() > 0) & (count < _ENOUGH))
            if not len(wanted):
                continue
            picture = cv2.warpPerspective(self._read(source), onto, size, flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE).reshape(-1, 3)
            if seen is None:
                seen = np.full((_ENOUGH, *picture.shape), np.inf if picture.dtype.kind == "f" else 65535, picture.dtype)
            seen[count[wanted], wanted] = picture[wanted]
            count[wanted] += 1
        known = (count > 0).reshape(size[::-1])
        if seen is None:
            return np.zeros((*known.shape, 3), np.float32), known
        for first, last in _ODD_EVEN:
            low = np.minimum(seen[first], seen[last])
            np.maximum(seen[first], seen[last], out=seen[last])
            seen[first] = low
        found = seen[np.maximum(count - 1, 0) // 2, np.arange(len(count))].reshape(*known.shape, 3)
        return np.where(known[..., None], found, 0).astype(np.float32) / np.float32(self._unit), known

    def _between(self, first: int, last: int) -> np.ndarray | None:
        """The homography (3, 3) that takes one frame's picture to another's, first pixel's centre at 0; None where it is not known."""
        onto = np.eye(3)
        for k in range(min(first, last), max(first, last)):
            step = self._step(k)
            if step is None:
                return None
            onto = step @ onto
        return onto if first < last else np.linalg.inv(onto)

    def _step(self, number: int) -> np.ndarray | None:
        if number not in self._steps:
            self._steps[number] = _registered(*((np.clip(self._read(f) / self._unit, 0, 255).astype(np.uint8), self._covered(f))
                                                for f in self._frames[number:number + 2]))
        return self._steps[number]


def _registered(first: tuple[np.ndarray, np.ndarray], last: tuple[np.ndarray, np.ndarray]) -> np.ndarray | None:
    """The homography that takes a picture (h, w, 3) to another; each with (h, w) bool, where it does not count. None where too little goes with one."""
    a, b = (cv2.cvtColor(picture, cv2.COLOR_RGB2GRAY) for picture, _ in (first, last))
    found = cv2.goodFeaturesToTrack(a, _FEATURES, _QUALITY, _APART, mask=np.where(first[1], 0, 255).astype(np.uint8))
    if found is None or len(found) < _FEWEST:
        return None
    there, _, _ = cv2.calcOpticalFlowPyrLK(a, b, found, None, winSize=(_WINDOW, _WINDOW), maxLevel=_LEVELS)  # type: ignore[call-overload]
    back, _, _ = cv2.calcOpticalFlowPyrLK(b, a, there, None, winSize=(_WINDOW, _WINDOW), maxLevel=_LEVELS)  # type: ignore[call-overload]
    h, w = a.shape
    at = np.clip(np.round(there[:, 0]).astype(int), 0, [w - 1, h - 1])
    good = (np.linalg.norm(back - found, axis=2)[:, 0] < _BACK) & ~last[1][at[:, 1], at[:, 0]]
    if good.sum() < _FEWEST:
        return None
    onto, inside = cv2.findHomography(found[good], there[good], cv2.USAC_MAGSAC, _CLOSE)
    return None if onto is None or inside.mean() < _LEAST_SHARE else np.asarray(onto)
