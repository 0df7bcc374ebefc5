"""The equations of a step of the mesh tracker: what the tiles of a level say of the displacement, and what is expected of the surface beside.

Gauss-Newton on robust tiles (iteratively reweighted least squares): P. Holland and R. Welsch, Robust regression using iteratively reweighted
least-squares, 1977. Once in C (compiled/mesh.c), and once in NumPy, which says what is meant and stands in where there was no compiler.
"""

from dataclasses import dataclass

import numpy as np

from wertis.core import compiled
from wertis.core.compiled import address
from wertis.core.geometry.bspline import DIFFERENCES, NormalEquations, difference, difference_transposed
from wertis.core.track.mesh.reference import MeshTiles
from wertis.core.track.mesh.settings import BENDING, PHOTOMETRY, PREDICTION
from wertis.core.track.mesh.tile_pass import TilePass
from wertis.core.track.normal_equations import weighted_quantile

_WIDENED = 1.3  # from the quantile of the misfits that is taken to the misfit that is usual


@dataclass
class Linearisation:
    """The photometric equations of a level's usable tiles (n of them), linearised about a map.

    Attributes
    ----------
    tiles, chosen : the tiles as they were compared, and the numbers of those that are usable.
    weight : (n,) robust weights 0..1.
    information : (n, 3) xx, xy, yy per square pixel of displacement in the picture.
    pull : (n, 2) its product with the displacement wanted.
    measured : what the picture shows of them.
    relative_correlation : (n,) correlation with the reference, as part of what noise lets it be.
    grain_left : of the grain, when a blur averages it.
    """

    tiles: MeshTiles
    chosen: np.ndarray
    weight: np.ndarray
    information: np.ndarray
    pull: np.ndarray
    measured: TilePass
    relative_correlation: np.ndarray
    grain_left: "GrainLeft | None"

    @property
    def grain_variance_left(self) -> np.ndarray:
        """(n,) variance of the grain in reference and picture together, in the reference's luma, for grain of variance 1."""
        return grain_variance_left(self.grain_left, np.maximum(self.measured.gain, 0.05), self.tiles.grain_share[self.chosen])


@dataclass(frozen=True)
class GrainLeft:
    """Share (n,) 0..1 of the grain's variance that a blur leaves: in the reference, in the picture, and in the squared slopes of the reference."""

    reference: np.ndarray
    picture: np.ndarray
    slopes: np.ndarray


def grain_variance_left(left: GrainLeft | None, gain: np.ndarray, share: np.ndarray) -> np.ndarray:
    """Variance (n,) of the grain of reference and picture together, in the reference's luma, for grain of variance 1.

    Parameters
    ----------
    gain : (n,) the picture's.
    share : (n,) of the grain's variance, that the reference's tiles have.
    """
    return share + 1 / gain ** 2 if left is None else share * left.reference + left.picture / gain ** 2


def photometric_equations(tiles: MeshTiles, chosen: np.ndarray, measured: TilePass, jacobian: np.ndarray, grain: float,
                          left: GrainLeft | None = None, with_error: bool = False, visible: float = 1.0) -> Linearisation:
    """The equations that `measured` gives of chosen tiles (n,).

    Parameters
    ----------
    jacobian : (n, 2, 2) of the map at the tiles' middles.
    grain : luma variance of the reference's grain, at the finest level.
    with_error : whether some tiles lie off by their `template_error`.
    visible : share 0..1 of the surface that is expected to be seen: by the misfits of so many tiles it goes what misfit is usual.
    """
    if compiled.LIBRARY is None:
        return plain_equations(tiles, chosen, measured, jacobian, grain, left, with_error, visible)
    n, d, at = len(chosen), np.float64, tiles.addresses
    jacobian = np.ascontiguousarray(jacobian, d)
    weight, relative, information, pull = np.empty(n), np.empty(n), np.empty((n, 3)), np.empty((n, 2))
    constants = np.array([grain, PHOTOMETRY.interpolation_variance, PHOTOMETRY.model_error, PHOTOMETRY.robust_cut, _inlier_quantile(visible),
                          PHOTOMETRY.least_correlation, PHOTOMETRY.edge_on, PHOTOMETRY.grain_slopes.get(tiles.level, 0.0), _WIDENED])
    grains = None if left is None else np.stack([left.reference, left.picture, left.slopes])
    room = np.empty((3, n))
    compiled.LIBRARY.mesh_equations(
        n, address(chosen, np.int64), *(address(a, d) for a in (measured.gain, measured.pull, measured.variance, measured.likeness)),
        address(measured.whole, np.bool_), address(measured.held, d), *(at[name] for name in ("energy", "structure", "count", "grain_share")),
        address(jacobian, d), address(grains, d), at["template_error"] if with_error else None, address(constants, d), address(room, d),
        *(address(a, d) for a in (weight, relative, information, pull)))
    return Linearisation(tiles, chosen, weight, information, pull, measured, relative, left)


def plain_equations(tiles: MeshTiles, chosen: np.ndarray, measured: TilePass, jacobian: np.ndarray, grain: float,
                    left: GrainLeft | None = None, with_error: bool = False, visible: float = 1.0) -> Linearisation:
    """`photometric_equations` in NumPy."""
    area = jacobian[:, 0, 0] * jacobian[:, 1, 1] - jacobian[:, 0, 1] * jacobian[:, 1, 0]
    energy, gain, share = tiles.energy[chosen], np.maximum(measured.gain, 0.05), tiles.grain_share[chosen]
    other = PHOTOMETRY.interpolation_variance * (1 + 1 / gain ** 2) + PHOTOMETRY.model_error * energy
    usual = grain * grain_variance_left(left, gain, share) + other
    ratio = measured.variance / gain ** 2 / usual
    there = measured.whole & (measured.held < 0.1) & (area > PHOTOMETRY.edge_on * max(np.median(area), 1e-3)) & (measured.gain > 0.05)
    scale = max(weighted_quantile(ratio[there], np.sqrt(energy)[there], _inlier_quantile(visible)) * _WIDENED, 0.5) if there.any() else 1.0
    misfit = ratio / scale
    relative = measured.likeness / best_correlation(energy, usual)
    weight = there * (relative > PHOTOMETRY.least_correlation) / (1 + (misfit / PHOTOMETRY.robust_cut) ** 2) ** 2
    slopes = tiles.structure[chosen][:, 0] + tiles.structure[chosen][:, 2]
    of_grain = PHOTOMETRY.grain_slopes.get(tiles.level, 0.0) * grain * share * (1.0 if left is None else left.slopes) * tiles.count[chosen]
    real = np.maximum(1 - of_grain / slopes, 0)
    # grain that is averaged along a blur is alike from pixel to pixel, so that a tile's sums vary as if it were not averaged
    per = weight * real / ((grain * (share + 1 / gain ** 2) + other) * scale)
    # from the reference's pixels to the picture's: u = -J d, so that information becomes J^-T S J^-1 and a pull -J^-T b
    det = np.where(np.abs(area) > 1e-6, area, 1.0)
    a, b, c, d = jacobian[:, 1, 1] / det, -jacobian[:, 0, 1] / det, -jacobian[:, 1, 0] / det, jacobian[:, 0, 0] / det
    sxx, sxy, syy = tiles.structure[chosen].T
    both = per * real
    information = np.stack([both * (a * a * sxx + 2 * a * c * sxy + c * c * syy),
                            both * (a * b * sxx + (a * d + b * c) * sxy + c * d * syy),
                            both * (b * b * sxx + 2 * b * d * sxy + d * d * syy)], axis=1)
    px, py = measured.pull.T
    pull = np.stack([-per * (a * px + c * py), -per * (b * px + d * py)], axis=1)
    if with_error:  # what a later look lies off adds to the variance of what it shows
        surer = 1 + tiles.template_error[chosen] ** 2 * 0.5 * (information[:, 0] + information[:, 2])
        information, pull = information / surer[:, None], pull / surer[:, None]
    return Linearisation(tiles, chosen, weight, information, pull, measured, relative, left)


def _inlier_quantile(visible: float) -> float:
    """The quantile of the tiles' misfits that is taken for the usual one: of those that show the surface."""
    return float(np.clip(PHOTOMETRY.quantile_of_visible * visible, PHOTOMETRY.least_quantile, PHOTOMETRY.inlier_quantile))


@dataclass(frozen=True)
class SurfacePrior:
    """What is expected of a bending surface.

    Where it is seen its differences of some order are expected to be small, by Student's t, so that creases are allowed. Where it is hidden its
    innovation, the change against what was predicted, is expected to bend little.

    Attributes
    ----------
    orders : order of differences to its weight.
    scale : pixels of differences that are usual.
    fixed : whether they are as unlikely everywhere: a surface whose stiffness was told.
    innovation_scale : pixels of second differences of the innovation that are usual.
    """

    orders: dict[int, float]
    scale: float
    fixed: bool
    innovation_scale: float

    def add(self, system: NormalEquations, values: np.ndarray, predicted: np.ndarray, hidden: np.ndarray, known: np.ndarray) -> None:
        """Add it to the equations of a step.

        Parameters
        ----------
        values, predicted : (rows, columns, 2) control values, and those that were predicted.
        hidden, known : (rows, columns) 0..1 how far each control point's texture is hidden, and how far its place is measured.
        """
        if compiled.LIBRARY is None:
            self.add_plainly(system, values, predicted, hidden, known)
            return
        d = np.float64
        arrays = [np.ascontiguousarray(a, d) for a in (values, values - predicted, hidden, known)]
        rows, columns = system.lattice.shape
        into = address(system.bands, d), compiled.long(system.bands.shape[1]), address(system.right, d)
        for order, share in self.orders.items():
            constants = np.array([share, self.scale, BENDING.degrees_of_freedom, float(self.fixed), self.innovation_scale if order == 2 else 0.0,
                                  PREDICTION.least_innovation_prior])
            for kernel, count in DIFFERENCES[order]:
                height, width = kernel.shape
                compiled.LIBRARY.spline_prior(columns, rows, address(kernel, d), width, height, compiled.double(count), *(address(a, d) for a in arrays),
                                              address(constants, d), *into)

    def add_plainly(self, system: NormalEquations, values: np.ndarray, predicted: np.ndarray, hidden: np.ndarray, known: np.ndarray) -> None:
        """`add` in NumPy."""
        shares, moves = np.stack([hidden, known], axis=-1), np.concatenate([values, values - predicted], axis=-1)
        for order, share in self.orders.items():
            for kernel, count in DIFFERENCES[order]:
                occluded, seen = np.moveaxis(difference(shares, np.abs(kernel) / np.abs(kernel).sum()), -1, 0)
                differences = difference(moves, kernel)
                bending, innovation = differences[..., :2], differences[..., 2:]
                if self.fixed:
                    weight = np.full(bending.shape[:2], count / self.scale ** 2)
                else:
                    # a crease has to be seen: where nothing is measured bending is as unlikely as it is large
                    usual = (BENDING.degrees_of_freedom + 2) / (BENDING.degrees_of_freedom * self.scale ** 2)
                    weight = (seen * _student(bending, self.scale) + (1 - seen) * usual) * (count * share) * (1 - 0.999 * occluded)
                pull = -weight[..., None] * bending
                if order == 2:
                    innovation_weight = count * _student(innovation, self.innovation_scale) * np.maximum(occluded, PREDICTION.least_innovation_prior)
                    weight, pull = weight + innovation_weight, pull - innovation_weight[..., None] * innovation
                system.add_difference(kernel, weight)
                system.add_right(difference_transposed(pull, kernel))


def extrapolation_prior(values: np.ndarray, hidden: np.ndarray, known: np.ndarray) -> list[tuple[np.ndarray, np.ndarray]]:
    """Weights that draw the surface's second differences to 0 where nothing is measured, as if of the variance that they have where it is.

    Fourth differences alone let a surface go on as a cubic, which over a bare corner leads far away. Each kind of difference has the variance that it has
    where it is measured, since waves often run one way.

    Parameters
    ----------
    values, hidden, known : as for `SurfacePrior.add`.

    Returns
    -------
    Each kind of difference (height, width) with its weights, per square pixel; none where hardly anything is measured.
    """
    found = []
    shares = np.stack([hidden, known], axis=-1)
    for kernel, count in DIFFERENCES[2]:
        occluded, seen = np.moveaxis(difference(shares, np.abs(kernel) / np.abs(kernel).sum()), -1, 0)
        variance = measured_variance((difference(values, kernel) ** 2).sum(-1), seen)
        if variance is not None:
            found.append((kernel, (1 - seen) ** 2 * (1 - occluded) * (count * BENDING.extrapolation_weight / variance)))
    return found


def measured_variance(squares: np.ndarray, seen: np.ndarray) -> float | None:
    """Square pixels of one coordinate of a kind of difference, where it is measured; None where hardly anything is.

    Parameters
    ----------
    squares, seen : (...) squares of both coordinates together, and how far each is measured, 0..1.
    """
    sure = seen ** 4  # differences that reach to control points that are only guessed hardly count
    if sure.sum() < BENDING.least_measured:
        return None
    return 0.5 * float((sure * squares).sum() / sure.sum()) + BENDING.least_difference ** 2


def best_correlation(energy: np.ndarray, noise: np.ndarray) -> np.ndarray:
    """The correlation (n,) that noise of a variance (n,) lets tiles of an energy (n,) have."""
    return energy / (energy + 3 * noise)


def _student(differences: np.ndarray, usual: float) -> np.ndarray:
    """Weights (rows, columns) of differences (rows, columns, 2) that are expected to be about `usual`, by Student's t (iterated)."""
    return (BENDING.degrees_of_freedom + 2) / (BENDING.degrees_of_freedom * usual ** 2 + (differences ** 2).sum(-1))

