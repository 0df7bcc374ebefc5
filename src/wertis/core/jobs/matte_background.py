"""What lies behind a matte's figure on the frames of a series, where frames show it on which the figure's outline is elsewhere; see `matte.background`."""

from collections.abc import Callable, Collection, Sequence
from dataclasses import replace

import cv2
import numpy as np

from wertis.core.errors import PlateError
from wertis.core.geometry import homography
from wertis.core.jobs.matte_edge import EACH, FIRST
from wertis.core.matte.background import RegisteredBackground
from wertis.core.matte.coverage import Box, box_round
from wertis.core.matte.edge import KnownBackground
from wertis.core.matte.exposure import Exposure
from wertis.core.matte.exposure_tips import REACH
from wertis.core.matte.outline import flattened
from wertis.core.shot.matte_carry import Carrier
from wertis.core.shot.matte_pose import FigurePose
from wertis.core.shot.mattes import MatteShape

ROOM = 24.0  # pixels round an outline that is interpolated between known ones, in which it may be at most
_PER_INSTANT = 2.0  # pixels at the worked resolution, that a figure moves between two instants of an exposure
_INSTANTS = 9  # of an exposure, at which the figure covers what it does
_UNIT = 64  # per step of 0..255: pictures are kept in 16 bits, up to four times white
_KEPT = 128_000_000  # bytes of pictures that are kept
_MASKS = 80  # frames whose masks are kept: all of those from which a background is taken, and some
_BEYOND = 12.0  # pixels beyond a reach that are looked at, to know both sides
_SPARE = 16  # pixels round what was asked for, which is likely to be asked for next


class FigureBackground:
    """The background of one shape's figure on the frames of a series.

    Parameters
    ----------
    read : gives a frame's picture (h, w, 3) float32, 0..255.
    carried, shape : how the shape is carried, and its keys, which count as right.
    frames : in their order.
    half : frames for which the shutter is open before and after a frame's time.
    smeared : frames on which the shutter smears the figure; how long its tips are is not known there before the background is, so that its room is as the
        keys say.
    beside : other pieces of the figure, which are no background either.

    Attributes
    ----------
    scale : of the resolution at which it is worked out.
    pose : of the figure, by its keys.
    shape : with keys where the figure was found by now.
    """

    def __init__(self, read: Callable[[int], np.ndarray], carried: Carrier, shape: MatteShape, frames: Sequence[int], half: float,
                 scale: float = 1.0, smeared: Collection[int] = (), beside: Sequence[MatteShape] = ()) -> None:
        self._read, self._carried, self._half, self.scale = read, carried, half, scale
        self.shape, self._given, self._there, self._smeared, self._beside = shape, shape, set(frames), set(smeared), list(beside)
        self.pose = FigurePose(shape)
        self._pictures: dict[int, np.ndarray] = {}
        self._masks: dict[int, tuple[object, np.ndarray]] = {}
        self._others: dict[int, np.ndarray] = {}  # where other pieces may be
        self._background = RegisteredBackground(self._stored, self._covered, frames, _UNIT)
        self._last: tuple[int, Box, np.ndarray, np.ndarray] | None = None  # frame, box, and what was found there

    def update_outlines(self, shape: MatteShape) -> None:
        """Take the figure to be where it was found by now: a shape with keys on those frames."""
        if shape.keys != self.shape.keys:
            self.shape, self._last = shape, None

    def picture(self, frame: int) -> np.ndarray:
        """(h, w, 3) float32 on a scale of 0..255, of a frame at `scale`."""
        return np.asarray(self._stored(frame) / np.float32(_UNIT), np.float32)

    def has(self, frame: int) -> bool:
        """Whether a frame can be read, and its track has an answer there."""
        return frame in self._there and self._readable(frame)

    def size(self, frame: int) -> tuple[int, int]:
        """Width and height of its picture at `scale`."""
        h, w = self._stored(frame).shape[:2]
        return w, h

    def at(self, frame: int, box: Box) -> tuple[np.ndarray, np.ndarray]:
        """(h, w, 3) float32 of a box of a frame at `scale`, 0..255, and (h, w) bool where it is known."""
        if self._last is None or self._last[0] != frame or not _within(box, self._last[1]):
            h, w = self._stored(frame).shape[:2]
            wide = max(box[0] - _SPARE, 0), max(box[1] - _SPARE, 0), min(box[2] + _SPARE, w), min(box[3] + _SPARE, h)
            self._last = frame, wide, *self._found(frame, wide)
        _, (x0, y0, _, _), picture, known = self._last
        part = slice(box[1] - y0, box[3] - y0), slice(box[0] - x0, box[2] - x0)
        return picture[part], known[part] & ~self._covered_by_others(frame)[box[1]:box[3], box[0]:box[2]]

    def near(self, frame: int, polygon: np.ndarray, reach: float) -> KnownBackground | None:
        """As `matte_edge.Background`."""
        if frame not in self._there:
            return None
        box = box_round(polygon * self.scale, (reach + _BEYOND) * self.scale, self.size(frame))
        return KnownBackground(*self.at(frame, box), np.array(box[:2], float), self.scale) if box is not None else None

    def travel(self, shape: MatteShape, frame: int) -> np.ndarray:
        """(N,) pixels that a shape's points move while the shutter is open; infinite where that is not known."""
        ends = [self._carried.smoothly(shape, frame, frame + sign * self._half) for sign in (-1, 1)]
        if ends[0] is None or ends[1] is None:
            return np.full(shape.count, np.inf)
        return np.asarray(np.linalg.norm(shape.points_of(ends[1] - ends[0]), axis=1))

    def exposure(self, shape: MatteShape, frame: int, box: Box, fewest: int, most: int) -> Exposure | None:
        """A frame in a box at `scale`, with what lies behind and how a shape's surface moves, at so many instants; None where its track does not say.

        Where keys move the figure as a whole, how it looks does not go with the surface; see `posed`.
        """
        travel = float(self.travel(shape, frame).max()) * self.scale
        if not np.isfinite(travel):
            return None
        count = int(np.clip(np.ceil(travel / _PER_INSTANT), fewest, most))
        moves = [m for t in [frame, *self._instants(frame, count)] if (m := self._carried.homography(shape, frame, t)) is not None]
        if len(moves) <= count:
            return None
        x0, y0, x1, y1 = box
        into = homography.translation(-x0, -y0) @ homography.scaling(self.scale)
        return Exposure(self.picture(frame)[y0:y1, x0:x1], *self.at(frame, box), into @ np.array(moves[1:]), into @ moves[0])

    def posed(self, exposure: Exposure, shape: MatteShape, frame: int) -> Exposure:
        """An exposure with the moves of the figure itself, from its pose on its first key, where a shape's keys move it in the surface's picture."""
        if not self.pose.moves:
            return exposure
        poses = np.array([self.pose.at(shape, time) for time in self._instants(frame, len(exposure.moves))])
        return replace(exposure, moves=exposure.moves @ poses, middle=exposure.middle @ self.pose.at(shape, frame))

    # -- inside -------------------------------------------------------------------------------------------------------

    def _instants(self, frame: int, count: int) -> np.ndarray:
        """(count,) times that are evenly spread over a frame's exposure."""
        return np.asarray(frame + self._half * ((np.arange(count) + 0.5) / count * 2 - 1))

    def _found(self, frame: int, box: Box) -> tuple[np.ndarray, np.ndarray]:
        """As `at`; frames round about that cannot be read are left out."""
        while True:
            try:
                return self._background.at(frame, box)
            except PlateError:
                unreadable = next((f for f in self._there if f not in self._pictures and not self._readable(f)), frame)
                if unreadable == frame:
                    raise
                self._there.discard(unreadable)
                self._background.leave_out(unreadable)

    def _readable(self, frame: int) -> bool:
        try:
            self._stored(frame)
        except PlateError:
            return False
        return True

    def _stored(self, frame: int) -> np.ndarray:
        """(h, w, 3) uint16, a frame's picture at `scale`."""
        if frame not in self._pictures:
            whole = self._read(frame)
            small = cv2.resize(whole, None, fx=self.scale, fy=self.scale, interpolation=cv2.INTER_AREA) if self.scale < 1 else whole
            self._pictures[frame] = np.clip(small * _UNIT + 0.5, 0, 65535).astype(np.uint16)
            while len(self._pictures) > 1 and len(self._pictures) * small.size * 2 > _KEPT:
                self._pictures.pop(next(iter(self._pictures)))
        return self._pictures[frame]

    def _covered(self, frame: int) -> np.ndarray:
        """(h, w) bool, where the figure may be on a frame at `scale`; everywhere if its track has no answer."""
        shape = self._given if frame in self._smeared else self.shape
        keys = shape.keys
        near = [k for k in (max((k for k in keys if k <= frame), default=None), min((k for k in keys if k >= frame), default=None)) if k is not None]
        signature = tuple((k, keys[k]) for k in near)
        if frame in self._masks and self._masks[frame][0] == signature:
            return self._masks[frame][1]
        covered = self._filled(shape, frame, frame not in self._given.keys and frame not in self._smeared) | self._covered_by_others(frame)
        self._masks[frame] = signature, covered
        while len(self._masks) > _MASKS:
            self._masks.pop(next(iter(self._masks)))
        return covered

    def _covered_by_others(self, frame: int) -> np.ndarray:
        """(h, w) bool, where other pieces of the figure may be on a frame at `scale`."""
        if frame not in self._others:
            h, w = self._stored(frame).shape[:2]
            covered = np.broadcast_to(np.False_, (h, w))  # without other pieces it takes no memory
            for piece in self._beside:
                covered = covered | self._filled(piece, frame, False)
            self._others[frame] = covered
            while len(self._others) > _MASKS:
                self._others.pop(next(iter(self._others)))
        return self._others[frame]

    def _filled(self, shape: MatteShape, frame: int, tips: bool) -> np.ndarray:
        """(h, w) bool, where a shape may be on a frame at `scale`, its corners as long as `tips` may be; everywhere if its track has no answer."""
        h, w = self._stored(frame).shape[:2]
        around = int(np.ceil(min(FIRST + EACH * min(abs(frame - k) for k in shape.keys), ROOM) * self.scale))
        mask, ends = np.zeros((h, w), np.uint8), np.zeros((h, w), np.uint8)
        for time in np.linspace(frame - self._half, frame + self._half, _INSTANTS):
            controls = self._carried.smoothly(shape, frame, time)
            if controls is None:
                return np.ones((h, w), bool)
            polygon = flattened(shape.curves(controls))[0] * self.scale - 0.5
            cv2.fillPoly(mask, [np.round(polygon * 16).astype(np.int32)], (1,), cv2.LINE_8, 4)
            if tips:
                for x, y in np.round(shape.points_of(controls)[shape.corners] * self.scale - 0.5).astype(int).tolist():
                    cv2.circle(ends, (x, y), int(REACH * self.scale), (1,), -1)
        return np.asarray((cv2.dilate(mask, np.ones((2 * around + 1, 2 * around + 1), np.uint8)) > 0) | (ends > 0))


def _within(box: Box, other: Box) -> bool:
    return bool(box[0] >= other[0] and box[1] >= other[1] and box[2] <= other[2] and box[3] <= other[3])
