"""Small patches of a reference frame that each go their own way: what does not move with the surface round it.

Each is aligned with the reference frame itself (`imaging.patch_alignment`), begun from where it was and was going, or, where it is hidden, from where its
neighbours lead. The motion between patches is taken from those round a place.
"""

from collections.abc import Mapping

import numpy as np
import scipy

from wertis.core.imaging.patch_alignment import PatchAlignment, View, grid_on
from wertis.core.imaging.pyramid import HeldOut, Pyramid

SIDE, PITCH = 17, 10  # pixels, of a patch, and between the middles of two
_KEPT_VELOCITY = 0.8  # part of a patch's motion that is expected to go on
_LEADERS = 4  # patches round a hidden one of which it goes with the median
_LEAST_TEXTURE = 0.4  # pixels, standard deviation under usual grain, from which a patch is too bare
_USUAL_GRAIN = 2.0  # luma
_DOUBTFUL = 0.5  # pixels of error from which a patch does not count
_SUPPORT, _AGREEMENT, _BESIDE = 4, 1.5, 2.2  # patches that must agree with one, within so many pixels, and how many pitches they may be away
_OVERDISPERSION = 2.0  # times the deviation that its pixels state, for what its affine motion leaves out


class OwnMotionView(View):
    """A frame on which each patch lies by an affine motion of its own, or one that bends.

    Parameters
    ----------
    start, places : (K, 2) where the patches' middles are on the reference, and on the frame.
    shape : (K, 2, 2) their affine motions.
    bends : (K, 2, 3) second derivatives of their motions, xx, xy and yy; none when None.
    """

    def __init__(self, frame: Pyramid, held: HeldOut | None, start: np.ndarray, places: np.ndarray, shape: np.ndarray,
                 bends: np.ndarray | None = None) -> None:
        def nowhere(points: np.ndarray) -> np.ndarray:
            raise NotImplementedError("each patch has a motion of its own")

        super().__init__(frame, held, nowhere, nowhere, (0, 0), frame.size)
        self._start, self._places, self._shape, self._bends = start, places, shape, bends

    def mapped(self, places: np.ndarray, which: np.ndarray) -> np.ndarray:
        away = places.astype(np.float64) - self._start[which][:, None]
        there = away @ self._shape[which].transpose(0, 2, 1)
        if self._bends is not None:
            x, y, bends = away[..., 0], away[..., 1], self._bends[which]
            squares = np.stack([x * x / 2, x * y, y * y / 2], axis=1)  # (n, 3, P)
            there += (bends @ squares).transpose(0, 2, 1)
        there += self._places[which][:, None]
        return np.asarray(there)

    def slopes_at(self, points: np.ndarray, which: np.ndarray) -> np.ndarray:
        if self._bends is None:
            return self._shape[which]
        (x, y), bends = (points - self._start[which]).T, self._bends[which]
        by_x = bends[..., 0] * x[:, None] + bends[..., 1] * y[:, None]
        by_y = bends[..., 1] * x[:, None] + bends[..., 2] * y[:, None]
        return np.asarray(self._shape[which] + np.stack([by_x, by_y], axis=-1))

    def of(self, numbers: np.ndarray) -> "OwnMotionView":
        """The view for some of the patches, by their numbers (n,), counted from 0."""
        bends = None if self._bends is None else self._bends[numbers]
        return OwnMotionView(self._frame, self._held, self._start[numbers], self._places[numbers], self._shape[numbers], bends)


class PatchLayer:
    """Patches over a region, tracked one by one.

    Parameters
    ----------
    pyramid : of the reference frame.
    mask : (h, w) uint8, non-zero on the region.

    Attributes
    ----------
    start : (K, 2) the patches' middles on the reference, first pixel centre at 0.
    places, shape : (K, 2), (K, 2, 2) where they are on the last frame, and how they are turned and scaled there.
    found : (K,) which of them were found on it.
    """

    def __init__(self, pyramid: Pyramid, mask: np.ndarray) -> None:
        alignment = PatchAlignment(pyramid, mask, SIDE, grid_on(mask, PITCH), None)
        rich = alignment.expected_deviation(_USUAL_GRAIN) < _LEAST_TEXTURE
        self._alignment = PatchAlignment(pyramid, mask, SIDE, alignment.centres[rich], None) if rich.any() else alignment
        self.start = self._alignment.centres
        self.places = self.start.copy()
        self.shape = np.tile(np.eye(2), (len(self.start), 1, 1))
        self.found = np.zeros(len(self.start), bool)
        self._velocity = np.zeros_like(self.start)

    def feed(self, pyramid: Pyramid, held: HeldOut | None) -> None:
        """Find the patches on the next frame."""
        before = self.places.copy()
        expected, shape = before + self._velocity, self.shape.copy()
        found = np.zeros(len(self.start), bool)
        for turn in range(2):  # those that are not found at first are looked for where the others lead
            wanted = np.flatnonzero(~found)
            if not len(wanted) or (turn and not found.any()):
                break
            if turn:
                expected[wanted], shape[wanted] = led_by_nearest(self.start[wanted], self.start[found], self.places[found], self.shape[found])
            view = OwnMotionView(pyramid, held, self.start, expected, shape)
            got = self._alignment.align(view, wanted)
            k = got.patches
            here = view.slopes_at(self.start[k] + got.moves, k)
            spread = here @ got.covariance @ here.transpose(0, 2, 1)
            good = _OVERDISPERSION * np.sqrt(np.linalg.eigvalsh(spread)[:, 1]) < _DOUBTFUL
            k = k[good]
            self.places[k] = view.mapped((self.start[k] + got.moves[good])[:, None], k)[:, 0]
            self.shape[k] = here[good] @ (np.eye(2) + got.affine[good])
            found[k] = True
        found &= self._supported(found)
        lost = ~found
        if lost.any() and found.any():
            self.places[lost], self.shape[lost] = led_by_nearest(self.start[lost], self.start[found], self.places[found], self.shape[found])
        self.found = found
        self._velocity = np.where(found[:, None], _KEPT_VELOCITY * (self.places - before), 0)

    def _supported(self, found: np.ndarray) -> np.ndarray:
        """(K,) whether patches beside each lead to where it was found; single ones may have matched something else."""
        index = np.flatnonzero(found)
        out = np.zeros(len(found), bool)
        if len(index) <= _SUPPORT:
            return out
        far, near = scipy.spatial.cKDTree(self.start[index]).query(self.start[index], k=9 if len(index) > 8 else len(index))
        n = index[near[:, 1:]]
        led = self.places[n] + np.einsum("nkab,nkb->nka", self.shape[n], self.start[index][:, None] - self.start[n])
        agrees = (np.linalg.norm(led - self.places[index][:, None], axis=2) < _AGREEMENT) & (far[:, 1:] < _BESIDE * PITCH)
        out[index] = agrees.sum(1) >= _SUPPORT
        return out

    def start_at(self, places: np.ndarray, shape: np.ndarray) -> None:
        """Go on from known places (K, 2) and affine motions (K, 2, 2)."""
        self.places, self.shape = places, shape

    def state(self) -> dict[str, np.ndarray]:
        """Where it is with the last frame, as arrays."""
        return {"places": self.places, "shape": self.shape, "found": self.found, "velocity": self._velocity}

    def resume(self, state: Mapping[str, np.ndarray]) -> None:
        """Go on from what `state` gave."""
        self.places, self.shape, self.found, self._velocity = (state[k] for k in ("places", "shape", "found", "velocity"))

    def candidates(self, points: np.ndarray, which: np.ndarray, count: int) -> list[np.ndarray]:
        """Displacements (N, 2) of points (N, 2), as the nearest, second nearest ... of the patches `which` (K,) has them; none without patches."""
        numbers = np.flatnonzero(which)
        if not len(numbers):
            return []
        index = scipy.spatial.cKDTree(self.start[numbers]).query(points, k=min(count, len(numbers)))[1].reshape(len(points), -1)
        out = []
        for k in range(index.shape[1]):
            n = numbers[index[:, k]]
            out.append(self.places[n] + np.einsum("nab,nb->na", self.shape[n], points - self.start[n]) - points)
        return out


def led_by_nearest(points: np.ndarray, start: np.ndarray, places: np.ndarray, shape: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Where points (n, 2) go (n, 2) with the nearest of patches at `start` (m, 2), now at `places`, with affine motions (m, 2, 2); and those (n, 2, 2)."""
    near = scipy.spatial.cKDTree(start).query(points, k=min(_LEADERS, len(start)))[1].reshape(len(points), -1)
    led = places[near] + np.einsum("nkab,nkb->nka", shape[near], points[:, None] - start[near])
    return np.median(led, axis=1), np.median(shape[near], axis=1)
