"""Displacements measured at scattered places, joined by a smooth field that says how sure it is.

The field is expected to be smooth, as far as leaving measurements out shows that it is, with single places free to differ. F. Bookstein, Principal warps,
1989 (least bending); S. Wood, Thin plate regression splines, 2003 (choosing it by what is left out); the weights are those of Student's t, iterated.
"""

from dataclasses import dataclass

import numpy as np

from wertis.core.geometry.bspline import DIFFERENCES, Lattice, NormalEquations, difference, evaluate

_BENDING = (0.01, 0.03, 0.1, 0.3, 1.0, 3.0)  # pixels of bending between neighbours, from which the expected is chosen
_HONEST = 0.3  # pixels of bending that are held possible when it is said how sure the field is
_DEGREES_OF_FREEDOM = 2.0  # of Student's t by which bending is expected: single places may differ
_FREE = 40.0  # pixels of displacement that nothing speaks against
_ROUNDS = 5  # of reweighting
_FOLDS = 2  # of the cross-validation
_OVERDISPERSION = 2.5  # times the deviations that the measurements state, for what their model leaves out
_FLOOR = 0.03  # pixels of error of a measurement, however sure


@dataclass(frozen=True)
class SmoothField:
    """A field of displacements.

    Attributes
    ----------
    lattice, values : the spline that it is, and its control values (rows, columns, 2).
    bending : pixels of bending between neighbouring control points that was expected.
    doubtful : the equations that say how sure it is.
    """

    lattice: Lattice
    values: np.ndarray
    bending: float
    doubtful: NormalEquations

    def at(self, points: np.ndarray) -> np.ndarray:
        """The displacement (n, 2) of points (n, 2)."""
        return evaluate(self.lattice, self.values, points)[0]

    def jacobian(self, points: np.ndarray) -> np.ndarray:
        """(n, 2, 2) derivatives of the displacement at points (n, 2): row, the displacement's coordinate."""
        slopes = evaluate(self.lattice, self.values, points, slopes=True)[1]
        assert slopes is not None
        return slopes

    def covariance(self, points: np.ndarray) -> np.ndarray:
        """(n, 2, 2) of the displacement of points (n, 2)."""
        return self.doubtful.covariance(points)

    def second_derivatives(self, points: np.ndarray, reach: np.ndarray) -> np.ndarray:
        """(n, 2, 3) xx, xy and yy of both coordinates at points (n, 2), from central differences of the first ones over so many pixels (n,) each way."""
        slopes = []
        for axis in np.eye(2):
            ahead, behind = (self.jacobian(points + sign * reach[:, None] * axis) for sign in (1, -1))
            slopes.append((ahead - behind) / (2 * reach[:, None, None]))
        (xx, yx), (xy, yy) = ((d[..., 0], d[..., 1]) for d in slopes)
        return np.stack([xx, (xy + yx) / 2, yy], axis=-1)


def fitted_field(lattice: Lattice, places: np.ndarray, moves: np.ndarray, covariance: np.ndarray, free: float = _FREE,
                 overdispersion: float = _OVERDISPERSION, bending: float | None = None, honest: bool = True) -> SmoothField:
    """The field through what was measured.

    Parameters
    ----------
    places, moves, covariance : (m, 2), (m, 2) and (m, 2, 2) what was measured.
    free : pixels of displacement that nothing speaks against.
    overdispersion : times the deviations that the measurements state, for what their model leaves out.
    bending : pixels of bending between neighbouring control points that is expected; chosen by what is left out when None.
    honest : to say how sure it is more bending is held possible than what is left out tells of.
    """
    information = np.linalg.inv(covariance * overdispersion ** 2 + _FLOOR ** 2 * np.eye(2))
    best = _best_bending(lattice, places, moves, information, free) if bending is None else bending
    system, values = _field(lattice, places, moves, information, best, free)
    if honest and best < _HONEST:
        system, _ = _field(lattice, places, moves, information, _HONEST, free)
    return SmoothField(lattice, values, best, system)


def _best_bending(lattice: Lattice, places: np.ndarray, moves: np.ndarray, information: np.ndarray, free: float) -> float:
    """Pixels of bending with which some of the measurements (m, 2) predict the others best, as sure as they say they are (two-fold cross-validation)."""
    fold = np.arange(len(places)) % _FOLDS
    loss = []
    for scale in _BENDING:
        total = 0.0
        for k in range(_FOLDS):
            kept, out = fold != k, fold == k
            if not kept.any() or not out.any():
                continue
            system, values = _field(lattice, places[kept], moves[kept], information[kept], scale, free)
            rest = moves[out] - evaluate(lattice, values, places[out])[0]
            spread = system.covariance(places[out]) + np.linalg.inv(information[out])
            away = np.einsum("na,nab,nb->n", rest, np.linalg.inv(spread), rest)
            # Student's t, so that single places that differ do not decide
            total += float((0.5 * np.log(np.linalg.det(spread)) + 2.5 * np.log1p(away / 3)).sum())
        loss.append(total)
    return _BENDING[int(np.argmin(loss))]


def _field(lattice: Lattice, places: np.ndarray, moves: np.ndarray, information: np.ndarray, wanted: float,
           free: float) -> tuple[NormalEquations, np.ndarray]:
    """The equations of the control values, and the values (rows, columns, 2), where bending of about `wanted` pixels is expected."""
    packed = np.stack([information[:, 0, 0], information[:, 0, 1], information[:, 1, 1]], axis=1)
    pull = (information @ moves[..., None])[..., 0]
    values = np.zeros((*lattice.shape, 2))
    for turn in range(_ROUNDS):
        # from loose to stiff, so that a single place that differs is let go before its neighbours are drawn along
        scale = max(wanted, _BENDING[-1] * 0.2 ** turn)
        system = NormalEquations(lattice)
        system.add_places(places, packed, pull)
        for kernel, count in DIFFERENCES[2]:
            bending = difference(values, kernel)
            system.add_difference(kernel, count * (_DEGREES_OF_FREEDOM + 2) / (_DEGREES_OF_FREEDOM * scale ** 2 + (bending ** 2).sum(-1)))
        system.add_diagonal(np.full(lattice.shape, 1 / free ** 2))
        values = system.solve()
    return system, values
