"""What a bending surface has done so far, as a few basis shapes, by which its seen parts tell where its hidden ones are.

The low-rank model of C. Bregler, A. Hertzmann and H. Biermann, Recovering non-rigid 3D shape from image streams, CVPR 2000, with the Gaussian prior
on its coefficients of M. Tipping and C. Bishop, Probabilistic principal component analysis, J. R. Stat. Soc. B 61, 1999.
"""

from collections.abc import Mapping

import numpy as np

_MOST_SHAPES = 16
_MOST_KEPT = 120  # frames, the last ones
_SHARE = 3  # frames that are needed for each basis shape
_NOISE = 0.8  # pixels: what a control point's motion has beside the basis shapes'
_LEAST_AFFINE, _LEAST_OWN = 0.3, 0.05  # pixels a frame and frame, by which the shapes' parts may always change
_WIDER = 1.5  # times what was seen so far


class ShapeBasis:
    """Learns shapes, arrays (rows, columns, 2) of control values, and completes a change of which a part is hidden.

    Parameters
    ----------
    identity : (rows, columns, 2) the shape on the reference frame.
    """

    def __init__(self, identity: np.ndarray) -> None:
        self._identity = identity
        self._affine = affine_changes(identity)
        self._shapes: dict[int, np.ndarray] = {}
        self._basis: np.ndarray | None = None
        self._affine_before = np.zeros(6)

    def learn(self, frame: int, shape: np.ndarray) -> None:
        """Remember the shape of a frame on which nearly all of it was seen."""
        self._shapes[frame] = (shape - self._identity).ravel()
        if len(self._shapes) > _MOST_KEPT:
            del self._shapes[min(self._shapes, key=lambda f: -abs(f - frame))]
        self._basis = None

    def state(self) -> dict[str, np.ndarray]:
        """All that it has learned, as arrays."""
        frames = sorted(self._shapes)
        return {"frames": np.array(frames, np.int64), "shapes": np.array([self._shapes[f] for f in frames]), "affine": self._affine_before}

    def resume(self, state: Mapping[str, np.ndarray]) -> None:
        """Go on from what `state` gave."""
        self._shapes = {int(f): s for f, s in zip(state["frames"], state["shapes"], strict=True)}
        self._affine_before, self._basis = state["affine"], None

    def complete(self, change: np.ndarray, seen: np.ndarray) -> np.ndarray:
        """The most likely change (rows, columns, 2) of the whole from a frame to the next, known where `seen` (rows, columns), 0..1, is large."""
        basis, spread = self._modes()
        weight = np.repeat(seen.ravel() ** 2, 2) / _NOISE ** 2
        normal = (basis * weight[:, None]).T @ basis + np.diag(1 / spread ** 2)
        pull = basis.T @ (weight * change.ravel())
        pull[:6] += self._affine_before / spread[:6] ** 2
        return (basis @ np.linalg.solve(normal, pull)).reshape(change.shape)

    def moved(self, change: np.ndarray) -> None:
        """Remember the change of the whole (rows, columns, 2), whose affine part is expected to go on."""
        self._affine_before = np.linalg.lstsq(self._affine, change.ravel(), rcond=None)[0]

    def _modes(self) -> tuple[np.ndarray, np.ndarray]:
        """(2 n, k) affine and learned basis shapes, and (k,) by how many pixels each may move in a frame: the affine ones, beside what they did before."""
        if self._basis is None:
            basis = self._affine
            count = min(len(self._shapes) // _SHARE, _MOST_SHAPES)
            frames = sorted(self._shapes)
            spread = np.full(6, 2.0)
            if count:
                all_shapes = np.array([self._shapes[f] for f in frames])
                left = all_shapes - (self._affine @ np.linalg.lstsq(self._affine, all_shapes.T, rcond=None)[0]).T
                basis = np.column_stack([basis, np.linalg.svd(left, full_matrices=False)[2][:count].T])
                parts = np.linalg.lstsq(basis, all_shapes.T, rcond=None)[0]
                steps = np.array([parts[:, k + 1] - parts[:, k] for k in range(len(frames) - 1) if frames[k + 1] - frames[k] == 1])
                least = np.concatenate([np.full(6, _LEAST_AFFINE), np.full(basis.shape[1] - 6, _LEAST_OWN)])
                if len(steps) > 3:
                    turns = np.diff(steps[:, :6], axis=0)
                    usual = np.sqrt(np.concatenate([np.mean(turns ** 2, axis=0), np.mean(steps[:, 6:] ** 2, axis=0)])) * _WIDER
                    spread = np.maximum(usual, least)
                else:
                    spread = np.full(basis.shape[1], 2.0)
            self._basis, self._spread = basis, spread
        return self._basis, self._spread


def affine_changes(identity: np.ndarray) -> np.ndarray:
    """(2 n, 6) changes of n control points, which lie at `identity` (rows, columns, 2), by affine motions of the whole of about a pixel."""
    grid = identity.reshape(-1, 2)
    size = np.ptp(grid, axis=0).max()
    return np.kron(np.column_stack([np.ones(len(grid)), (grid - grid.mean(0)) / size]), np.eye(2))
