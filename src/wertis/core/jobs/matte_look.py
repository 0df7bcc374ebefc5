"""An outline measured on one frame of a series, and what that says of its points; see `matte.outline_smoother`."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
import scipy

from wertis.core.jobs.matte_edge import EdgeMeasure
from wertis.core.matte.edge import Edge
from wertis.core.matte.exposure_tips import TipDisplacement
from wertis.core.matte.outline_smoother import Measurement, curve_weights
from wertis.core.shot.matte_carry import Carrier
from wertis.core.shot.mattes import Matte, MatteShape

_HALF = 0.5  # pixels to both sides of a point, over which it is differentiated how its surface moves it


@dataclass(frozen=True)
class Look:
    """An outline measured on a frame.

    Attributes
    ----------
    measure : what was found.
    matte : with the outline keyed there.
    known : frames by which the figure was known, the nearest first.
    reach : pixels to both sides in which the edge was looked for.
    points : (N, 2) of the outline as it was measured, in the surface's picture.
    layered : whether figure and background told it, corners as well as the rest.
    tips : of a sharp figure, corners that they told; the outline was measured with them in place.
    """

    measure: EdgeMeasure
    matte: Matte
    known: list[int]
    reach: float
    points: np.ndarray
    layered: bool = False
    tips: Mapping[int, TipDisplacement] = field(default_factory=dict)

    @property
    def edge(self) -> Edge | None:
        return self.measure.edge


@dataclass(frozen=True)
class PlacedPoints:
    """Points whose place is known by itself in a frame's picture; sides that meet there say nothing.

    Attributes
    ----------
    numbers : (k,) of the outline's points; the same one may come more than once.
    units : (k, 2) unit vectors along which it is known.
    offsets : (k,) pixels along those, from where the outline was measured.
    deviations : (k,) standard deviations, pixels.
    """

    numbers: np.ndarray
    units: np.ndarray
    offsets: np.ndarray
    deviations: np.ndarray


def placed_tips(tips: Mapping[int, TipDisplacement], scale: float) -> PlacedPoints:
    """Tips where an outline was measured with them in place; `scale` is of the resolution at which they were found."""
    numbers = np.repeat(np.array(list(tips), int), 2)
    units = np.concatenate([tip.axes for tip in tips.values()] or [np.zeros((0, 2))])
    deviations = np.concatenate([tip.deviations for tip in tips.values()] or [np.zeros(0)]) / scale
    return PlacedPoints(numbers, units, np.zeros(len(numbers)), deviations)


def measurement(look: Look, carried: Carrier, shape: MatteShape, frame: int, base: np.ndarray, placed: Sequence[PlacedPoints]) -> Measurement:
    """What a look says of an outline's points.

    Parameters
    ----------
    shape : with the outline keyed as it was measured.
    base : (N, 2) where keys say that the points are, in the surface's picture.
    """
    edge, count = look.measure.edge, shape.count
    assert edge is not None  # only what was found is kept
    jacobians = _jacobians(carried, shape, frame)
    usable = np.flatnonzero(edge.usable)
    beside = np.abs(edge.along[usable, None] - np.concatenate([np.zeros(0, int), *(p.numbers for p in placed)])[None])
    sound = usable[(np.minimum(beside, count - beside) >= 1).all(1)]
    weights = curve_weights(edge.along[sound], np.array(shape.roundness), shape.handled)
    rows, values, deviations = [_design(weights, edge.normals[sound], jacobians)], [edge.offsets[sound]], [edge.deviations[sound]]
    for each in placed:
        own = scipy.sparse.csr_array((np.ones(len(each.numbers)), (np.arange(len(each.numbers)), each.numbers)), (len(each.numbers), count))
        rows.append(_design(own, each.units, jacobians))
        values.append(each.offsets)
        deviations.append(each.deviations)
    design = scipy.sparse.vstack(rows).tocsr()
    return Measurement(design, np.concatenate(values) + design @ (look.points - base).ravel(), np.concatenate(deviations))


def _jacobians(carried: Carrier, shape: MatteShape, frame: int) -> np.ndarray:
    """(N, 2, 2) how the picture's points of a frame move with those of the surface's picture."""
    controls = shape.at(frame)
    columns = []
    for step in np.eye(2) * _HALF:
        ends = [carried.moved(shape, controls + sign * step, frame) for sign in (1, -1)]
        assert ends[0] is not None and ends[1] is not None  # it was measured there
        columns.append(shape.points_of(ends[0] - ends[1]) / (2 * _HALF))
    return np.stack(columns, axis=-1)


def _design(weights: "scipy.sparse.csr_array", normals: np.ndarray, jacobians: np.ndarray) -> "scipy.sparse.csr_array":
    """(m, 2 N) sparse: how far places go along `normals` (m, 2) in a frame's picture when points move in the surface's.

    Parameters
    ----------
    weights : (m, N) sparse, of the points; see `curve_weights`.
    jacobians : (N, 2, 2) see `_jacobians`.
    """
    w = weights.tocoo()
    rows, columns = w.coords
    pulls = w.data[:, None] * np.einsum("ka,kab->kb", normals[rows], jacobians[columns])
    return scipy.sparse.csr_array((pulls.ravel(), (np.repeat(rows, 2), (2 * columns[:, None] + [0, 1]).ravel())),
                                  (weights.shape[0], 2 * weights.shape[1]))
