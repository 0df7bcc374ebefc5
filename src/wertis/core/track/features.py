"""Features of a whole picture, and their tracks over long times: what a camera is solved from.

Corners are followed from frame to frame by pyramidal Lucas-Kanade, forth and back, and then matched once more with the first sight of each, so that error
does not add up; a track whose look has changed begins anew from there. J. Shi and C. Tomasi, Good features to track, 1994; J.-Y. Bouguet, Pyramidal
implementation of the Lucas Kanade feature tracker, 2000; Z. Kalal and others, Forward-backward error, 2010.
"""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field

import cv2
import numpy as np

from wertis.core.geometry.conventions import from_centred

_COUNT = 700  # features on a frame
_QUALITY = 0.004  # of the strongest corner's strength, below which a spot is no feature
_WINDOW, _LEVELS = 21, 4
_BACK = 0.5  # pixels that a feature may be off after going forth and back
_AWAY = 1.5  # pixels by which the match with the first sight may differ from the one from frame to frame
_LEAST_LENGTH = 4  # frames
_MARGIN = 8  # pixels from the picture's edge
_CRITERIA = (cv2.TERM_CRITERIA_COUNT | cv2.TERM_CRITERIA_EPS, 30, 0.005)


@dataclass
class FeatureTracks:
    """Tracks of features.

    Attributes
    ----------
    frames : those that were looked at, in order.
    places : for each track, frame to (2,) in Wertis' pixels.
    """

    frames: list[int]
    places: list[dict[int, np.ndarray]] = field(default_factory=list)

    def on(self, frame: int) -> tuple[np.ndarray, np.ndarray]:
        """Numbers (n,) of the tracks that are on a frame, and where (n, 2)."""
        numbers = [k for k, p in enumerate(self.places) if frame in p]
        return np.array(numbers, int), np.array([self.places[k][frame] for k in numbers]).reshape(-1, 2)


@dataclass
class _Live:
    """Features that were first seen on one picture: it, where they were, where they are, and their tracks' numbers."""

    first: np.ndarray
    start: np.ndarray
    at: np.ndarray
    numbers: np.ndarray


def follow_features(frames: Sequence[int], read: Callable[[int], np.ndarray], held: Callable[[int], np.ndarray] | None = None,
                    count: int = _COUNT) -> Iterator[tuple[int, FeatureTracks]]:
    """Follow features through frames in their order; yields each frame with the tracks as they are by then, the last time with short ones left out.

    Parameters
    ----------
    read : gives a frame's luma (h, w) uint8.
    held : gives (h, w) uint8, 255 on what does not count.
    count : features on a frame, at most.
    """
    tracks = FeatureTracks(list(frames))
    live: list[_Live] = []
    before: np.ndarray | None = None
    for frame in frames:
        picture = read(frame)
        mask = np.full(picture.shape, 255, np.uint8)
        if held is not None:
            mask[held(frame) > 127] = 0
        mask[:_MARGIN], mask[-_MARGIN:], mask[:, :_MARGIN], mask[:, -_MARGIN:] = 0, 0, 0, 0
        if before is not None:
            live = [group for group in (_followed(g, before, picture, mask) for g in live) if len(group.at)]
        now = np.concatenate([g.at for g in live]) if live else np.zeros((0, 2), np.float32)
        for group in live:
            for number, place in zip(group.numbers, group.at, strict=True):
                tracks.places[number][frame] = from_centred(place.astype(np.float64))
        if len(now) < 0.8 * count:
            fresh = _detected(picture, mask, now, count - len(now))
            numbers = np.arange(len(tracks.places), len(tracks.places) + len(fresh))
            tracks.places += [{frame: from_centred(p.astype(np.float64))} for p in fresh]
            if len(fresh):
                live.append(_Live(picture, fresh, fresh.copy(), numbers))
        before = picture
        if frame == frames[-1]:
            tracks.places = [p for p in tracks.places if len(p) >= _LEAST_LENGTH]
        yield frame, tracks


def followed_from(picture: np.ndarray, mask: np.ndarray, onward: Sequence[int], backward: Sequence[int], read: Callable[[int], np.ndarray],
                  count: int) -> tuple[np.ndarray, dict[int, tuple[np.ndarray, np.ndarray]]]:
    """Features of one picture's masked part, followed both ways as long as they are seen.

    Returns
    -------
    (n, 2) where they are on the picture, in Wertis' pixels, and frame to which of them (m,) are seen there and where (m, 2).
    """
    start = _detected(picture, np.where(mask > 0, 255, 0).astype(np.uint8), np.zeros((0, 2)), count, int(np.sqrt(np.count_nonzero(mask) / count) * 0.6))
    everywhere = np.full(picture.shape, 255, np.uint8)
    seen: dict[int, tuple[np.ndarray, np.ndarray]] = {}
    for frames in (onward, backward):
        group, before = _Live(picture, start, start.copy(), np.arange(len(start))), picture
        for frame in frames:
            if not len(group.at):
                break
            now = read(frame)
            group, before = _followed(group, before, now, everywhere), now
            seen[frame] = group.numbers, from_centred(group.at.astype(np.float64))
    return from_centred(start.astype(np.float64)), seen


def _detected(picture: np.ndarray, mask: np.ndarray, taken: np.ndarray, count: int, apart: int = 0) -> np.ndarray:
    """(n, 2) float32 corners apart from those that are there already."""
    apart = max(apart, 4) if apart else int(np.sqrt(picture.size / _COUNT) * 0.6)
    free = mask.copy()
    for x, y in taken:
        cv2.circle(free, (int(x), int(y)), apart, 0, cv2.FILLED)
    found = cv2.goodFeaturesToTrack(cv2.GaussianBlur(picture, (0, 0), 1), max(count, 1), _QUALITY, apart, mask=free, blockSize=7)
    if found is None:
        return np.zeros((0, 2), np.float32)
    exact = cv2.cornerSubPix(picture, found.copy(), (4, 4), (-1, -1), _CRITERIA)
    moved = np.linalg.norm(exact - found, axis=2)[:, 0] < 3
    return np.asarray(np.where(moved[:, None], exact[:, 0], found[:, 0]), np.float32)


def _followed(group: _Live, before: np.ndarray, picture: np.ndarray, mask: np.ndarray) -> _Live:
    """A group of features on the next picture; those that are lost are left out."""
    there, ok = _lucas_kanade(before, picture, group.at)
    back, ok_back = _lucas_kanade(picture, before, there)
    h, w = picture.shape
    inside = ((there > _MARGIN) & (there < [w - _MARGIN, h - _MARGIN])).all(1)
    good = ok & ok_back & inside & (np.linalg.norm(back - group.at, axis=1) < _BACK)
    good[good] = mask[tuple(np.rint(there[good]).astype(int).T[::-1])] > 0
    start, at, numbers = group.start[good], there[good], group.numbers[good]
    if len(at):  # once more from the first sight, from where the last frame leads
        again, ok = _lucas_kanade(group.first, picture, start, at)
        sure = ok & (np.linalg.norm(again - at, axis=1) < _AWAY)
        at = np.where(sure[:, None], again, at)
    return _Live(group.first, start, at.astype(np.float32), numbers)


def _lucas_kanade(first: np.ndarray, second: np.ndarray, points: np.ndarray, expected: np.ndarray | None = None) -> tuple[np.ndarray, np.ndarray]:
    """Where points (n, 2) float32 of one picture are on another, and (n,) which were found; from where they are expected, at the finest level alone."""
    near = expected is not None
    found, ok, _ = cv2.calcOpticalFlowPyrLK(first, second, points, expected.copy() if expected is not None else None,  # type: ignore
                                            winSize=(_WINDOW, _WINDOW), maxLevel=0 if near else _LEVELS, criteria=_CRITERIA,
                                            flags=cv2.OPTFLOW_USE_INITIAL_FLOW if near else 0)
    return np.asarray(found), np.asarray(ok[:, 0] > 0)
