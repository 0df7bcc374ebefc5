"""Building motions from a track's records: its solution, and the layers on it. What has not changed is kept.

Other kinds of solutions and layers register how a motion is built from them.
"""

import threading
from collections import OrderedDict
from collections.abc import Callable
from typing import Any

import numpy as np

from wertis.core.geometry.motion import Motion, PlanarMotion
from wertis.core.keyed import Between, Curve
from wertis.core.repair.extra import ExtraMotion
from wertis.core.repair.points import PointRepair, RepairedMotion, Spot
from wertis.core.repair.retracked import RetrackedMotion
from wertis.core.repair.smoothing import SmoothedMotion
from wertis.core.shot.document import (
    ExtraMoveLayer,
    Layer,
    PlaneSolution,
    Region,
    RepairLayer,
    RepairPoint,
    RetrackedLayer,
    SmoothingLayer,
    Solution,
    Track,
)
from wertis.core.shot.keys import plain_keys

SolutionBuilder = Callable[[Any, Region], Motion]
LayerBuilder = Callable[[Motion, Any, Region], Motion]

_solutions: dict[type[Solution], SolutionBuilder] = {}
_layers: dict[type[Layer], LayerBuilder] = {}
_MOST_KEPT = 256  # motions

_kept: OrderedDict[tuple[int, ...], tuple[tuple[Any, ...], Motion]] = OrderedDict()  # ids of records to the records, which keeps the ids theirs
_lock = threading.Lock()


def register_solution(kind: type[Solution], build: SolutionBuilder) -> None:
    """Say how the motion of a kind of solution is built: from the solution and the track's region."""
    _solutions[kind] = build


def register_layer(kind: type[Layer], build: LayerBuilder) -> None:
    """Say how a kind of layer is laid on a motion: from the motion, the layer and the track's region."""
    _layers[kind] = build


def motion_of(track: Track) -> Motion | None:
    """The motion that everything reads: as tracked, with the layers that are switched on; None before tracking."""
    return _built(track, len(track.layers))


def motion_below(track: Track, kind: type[Layer]) -> Motion | None:
    """What a layer of a kind lies on, or would lie on; None before tracking."""
    at = next((k for k, x in enumerate(track.layers) if isinstance(x, kind)), sum(x.rank <= kind.rank for x in track.layers))
    return _built(track, at)


def motion_through(track: Track, kind: type[Layer]) -> Motion | None:
    """The motion with its layers up to one of a kind, that one included."""
    at = next((k + 1 for k, x in enumerate(track.layers) if isinstance(x, kind)), sum(x.rank <= kind.rank for x in track.layers))
    return _built(track, at)


def tracked_motion(track: Track) -> Motion | None:
    """The motion as it was tracked; None before tracking."""
    return _built(track, 0)


def point_repair(layer: RepairLayer, reference: int) -> PointRepair:
    """The repair points as a repaired motion takes them."""
    def spot(point: RepairPoint) -> Spot:
        return Spot(np.array(point.place), Curve(plain_keys(point.keys), layer.between, reference, layer.fade), point.base)

    return PointRepair(tuple(map(spot, layer.points)), tuple(tuple(map(spot, row)) for row in layer.snapshots))


def _built(track: Track, count: int) -> Motion | None:
    if track.solution is None:
        return None
    active = tuple(x for x in track.layers[:count] if x.enabled)
    records = (track.solution, track.region, *active)
    key = tuple(map(id, records))
    with _lock:
        kept = _kept.get(key)
        if kept is not None:
            _kept.move_to_end(key)
            return kept[1]
    if active:
        beneath = _built(track.but(layers=active[:-1]) if len(active) > 1 else track.but(layers=()), len(active) - 1)
        assert beneath is not None
        motion = _layers[type(active[-1])](beneath, active[-1], track.region)
    else:
        motion = _solutions[type(track.solution)](track.solution, track.region)
    with _lock:
        motion = _kept.setdefault(key, (records, motion))[1]
        while len(_kept) > _MOST_KEPT:
            _kept.popitem(last=False)
    return motion


def _plane(solution: PlaneSolution, region: Region) -> Motion:
    return PlanarMotion(solution.reference, solution.by_frame(), region.box, solution.error_by_frame())


def _smoothed(inner: Motion, layer: SmoothingLayer, region: Region) -> Motion:
    return SmoothedMotion(inner, region.box, layer.width) if layer.width > 0 else inner


def _retracked(inner: Motion, layer: RetrackedLayer, region: Region) -> Motion:
    if layer.solution is None:
        return inner
    return RetrackedMotion(inner, layer.solution.by_frame(), region.box, layer.solution.error_by_frame())


def _repaired(inner: Motion, layer: RepairLayer, region: Region) -> Motion:
    return RepairedMotion(inner, point_repair(layer, inner.reference)) if any(p.keys for p in layer.points) else inner


def _moved(inner: Motion, layer: ExtraMoveLayer, region: Region) -> Motion:
    if not layer.frames(inner.reference):
        return inner
    about = np.array(layer.about) if layer.about is not None else region.box.mean(0)
    between: Between = layer.between
    curves = (Curve(plain_keys(keys), between, inner.reference) for keys in (layer.move, layer.form, layer.skew))
    return ExtraMotion(inner, about, *curves)


register_solution(PlaneSolution, _plane)
register_layer(SmoothingLayer, _smoothed)
register_layer(RetrackedLayer, _retracked)
register_layer(RepairLayer, _repaired)
register_layer(ExtraMoveLayer, _moved)
