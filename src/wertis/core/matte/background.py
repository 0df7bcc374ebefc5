"""What lies behind a moving figure, on each frame, joined from frames that show it.

Frames are registered through features beside the figure (see `matte.registration`), and of what they show the median is taken (a background by temporal
median: R. Cucchiara and others, Detecting moving objects, ghosts and shadows in video streams, 2003).
"""

import ctypes
from collections.abc import Callable, Sequence

import cv2
import numpy as np

from wertis.core import compiled
from wertis.core.compiled import address
from wertis.core.geometry import homography
from wertis.core.matte.registration import MaskedPicture, agrees, features, registered

_AWAY = (1, 2, 3, 4, 6, 9, 13, 18, 24, 32)  # frames to both sides from which it is taken, as far as they are needed
_ENOUGH = 7  # pictures that show a pixel
_KEPT = 80  # frames of which the grey picture is kept
_FEATURES = 600, 0.005, 6.0  # how many at most, how well told at least beside the best, and pixels between them
_ONE_PLANE = 0.7  # part of them from which the background goes by one homography; some lie on the figure, or move
_FEATURES_NEAR, _NEAR = (400, 0.002, 5.0), 60  # the same in so many pixels round the figure
_SHARE_NEAR = 0.4  # part of those that go with one plane at least


class RegisteredBackground:
    """The background of a range of frames.

    Parameters
    ----------
    read : gives a frame's picture, (h, w, 3) uint16, on a scale of 0..255 times `unit`.
    covered : gives (h, w) bool, where the figure may be on a frame.
    frames : in their order.
    """

    def __init__(self, read: Callable[[int], np.ndarray], covered: Callable[[int], np.ndarray], frames: Sequence[int], unit: float) -> None:
        self._read, self._covered, self._frames, self._unit = read, covered, list(frames), unit
        self._steps: dict[int, np.ndarray | None] = {}  # number of a frame to the homography to the next one, if the background is one plane
        self._found: dict[tuple[int, int], np.ndarray | None] = {}  # numbers of two frames to the homography from one to the other
        self._features: dict[int, np.ndarray] = {}  # of frames by their numbers, near the figure
        self._grey: dict[int, np.ndarray] = {}  # frames

    def leave_out(self, frame: int) -> None:
        """Do without a frame, which cannot be read."""
        self._frames.remove(frame)
        self._steps.clear()
        self._found.clear()
        self._features.clear()

    def at(self, frame: int, box: tuple[int, int, int, int]) -> tuple[np.ndarray, np.ndarray]:
        """(h, w, 3) float32 of a box (x0, y0, x1, y1) of a frame, on a scale of 0..255, and (h, w) bool where it is known."""
        x0, y0, x1, y1 = box
        size = x1 - x0, y1 - y0
        samples = Samples(size)
        number = self._frames.index(frame)
        for other in (k for d in _AWAY for k in (number - d, number + d)):
            if not 0 <= other < len(self._frames) or samples.enough.all():
                continue
            onto = self._between(other, number)
            if onto is None:
                continue
            onto = homography.translation(-x0, -y0) @ onto
            source = self._frames[other]
            free = np.asarray(cv2.warpPerspective((~self._covered(source)).astype(np.uint8), onto, size, flags=cv2.INTER_NEAREST), np.uint8)
            left, top, width, height = cv2.boundingRect(free * ~samples.enough)
            if width:
                picture = cv2.warpPerspective(self._read(source), homography.translation(-left, -top) @ onto, (width, height), flags=cv2.INTER_CUBIC,
                                              borderMode=cv2.BORDER_REPLICATE)
                samples.take(picture, (left, top), free)
        return samples.median(self._unit), samples.count > 0

    def _between(self, first: int, last: int) -> np.ndarray | None:
        """The homography (3, 3) that takes one frame's picture to another's, by their numbers, first pixel's centre at 0; None where it is not known."""
        if (first, last) not in self._found:
            onto = self._by_steps(first, last)
            self._found[first, last] = self._near_figure(first, last) if onto is None else onto
        return self._found[first, last]

    def _by_steps(self, first: int, last: int) -> np.ndarray | None:
        """The same, where all of the background goes by one homography from each frame to the next."""
        onto = np.eye(3)
        for k in range(min(first, last), max(first, last)):
            if k not in self._steps:
                seen = self._seen(k)
                found = features(seen, *_FEATURES)
                self._steps[k] = registered(seen, self._seen(k + 1), found, found, _ONE_PLANE)
            step = self._steps[k]
            if step is None:
                return None
            onto = step @ onto
        return onto if first < last else np.linalg.inv(onto)

    def _near_figure(self, first: int, last: int) -> np.ndarray | None:
        """The same, of the plane which most of what lies round about the figure on the last is on: a background that has depth goes by many."""
        seen, other = self._seen(last), self._seen(first)
        near = cv2.dilate(seen[1].astype(np.uint8), np.ones((2 * _NEAR + 1, 2 * _NEAR + 1), np.uint8)) > 0
        if last not in self._features:
            self._features[last] = features((seen[0], seen[1] | ~near), *_FEATURES_NEAR)
        start = guess = self._features[last]
        nearer = (last + int(np.sign(first - last)) * d for d in reversed(_AWAY) if d < abs(first - last))
        known = next((onto for k in nearer if (onto := self._between(k, last)) is not None), None)
        if known is not None:
            guess = homography.apply(np.linalg.inv(known), start.astype(float))
        there = registered(seen, other, start, guess, _SHARE_NEAR) if len(start) else None
        return np.linalg.inv(there) if there is not None and agrees((seen[0], seen[1] | ~near), other, there) else None

    def _seen(self, number: int) -> MaskedPicture:
        frame = self._frames[number]
        if frame not in self._grey:
            self._grey[frame] = cv2.cvtColor(np.clip(self._read(frame) / self._unit, 0, 255).astype(np.uint8), cv2.COLOR_RGB2GRAY)
            while len(self._grey) > _KEPT:
                self._grey.pop(next(iter(self._grey)))
        return self._grey[frame], self._covered(frame)


class Samples:
    """Samples over time of the background's colour at each pixel of a box, of which their median is taken; at most `_ENOUGH` of each.

    Attributes
    ----------
    count : (h, w) uint8, how many there are of each.
    """

    def __init__(self, size: tuple[int, int]) -> None:
        self.count = np.zeros(size[::-1], np.uint8)
        self._taken = np.empty((*size[::-1], _ENOUGH, 3), np.uint16)

    @property
    def enough(self) -> np.ndarray:
        """(h, w) bool, the pixels of which there are enough."""
        return self.count >= _ENOUGH

    def take(self, picture: np.ndarray, corner: tuple[int, int], free: np.ndarray) -> None:
        """Take another sample from a picture (down, across, 3) uint16 whose top left pixel is at a corner (x, y) of the box, where `free` (h, w) uint8 is
        not 0: there it shows the background."""
        (left, top), (down, across) = corner, picture.shape[:2]
        if compiled.LIBRARY is not None:
            compiled.LIBRARY.take_samples(address(picture, np.uint16), *map(compiled.long, (left, top, across, down)), address(free, np.uint8),
                                          address(self.count, np.uint8), address(self._taken, np.uint16),
                                          *map(compiled.long, (free.shape[1], _ENOUGH)))
            return
        part = slice(top, top + down), slice(left, left + across)
        y, x = np.nonzero((free[part] > 0) & ~self.enough[part])
        self._taken[y + top, x + left, self.count[y + top, x + left]] = picture[y, x]
        self.count[y + top, x + left] += 1

    def median(self, unit: float) -> np.ndarray:
        """(h, w, 3) float32 the lower median of each pixel's colours, of so many units each; 0 where there is none."""
        out = np.zeros((*self.count.shape, 3), np.float32)
        if compiled.LIBRARY is not None:
            compiled.LIBRARY.median_samples(address(self._taken, np.uint16), address(self.count, np.uint8),
                                            *map(compiled.long, (self.count.size, _ENOUGH)), ctypes.c_float(1 / unit), address(out, np.float32))
            return out
        for count in range(1, _ENOUGH + 1):
            here = self.count == count
            out[here] = np.sort(self._taken[here][:, :count], axis=1)[:, (count - 1) // 2] / np.float32(unit)
        return out
