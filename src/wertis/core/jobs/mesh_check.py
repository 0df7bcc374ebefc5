"""How the drift of a surface that bends is measured, at many places, each by the picture round it; and how a mesh is repaired by itself, by pegs."""

import numpy as np

from wertis.core.check.vertex_drift import VertexDriftSeries
from wertis.core.errors import WertisError
from wertis.core.geometry.mesh import Mesh
from wertis.core.jobs.check import DriftPlaces, register_drift
from wertis.core.jobs.repair import TargetOn, register_repairs
from wertis.core.shot.dense import DenseSolution
from wertis.core.shot.document import Shot, Track
from wertis.core.shot.edits import track_of
from wertis.core.shot.meshes import MeshSolution, PegLayer, vertices_on
from wertis.core.shot.pegs import clear_pegs, set_pegs

_APART = 2.2  # of the vertices' spacing, between pegs that are set at a time: their neighbours follow
_TOGETHER = 12  # pegs at a time


def _places(track: Track) -> DriftPlaces:
    solution = track.solution
    assert isinstance(solution, MeshSolution)
    return DriftPlaces(solution.vertices, solution.reference, "the mesh", "vertex")


def _meter(track: Track, luma: np.ndarray, mask: np.ndarray, points: np.ndarray) -> VertexDriftSeries:
    solution = track.solution
    assert isinstance(solution, MeshSolution)
    return VertexDriftSeries(luma, _some(track, mask), points, solution.mesh.spacing)


def _some(track: Track, mask: np.ndarray) -> np.ndarray:
    if not mask.any():
        raise WertisError(f"The region of {track.name} is not in the picture on the frame that counts as right; choose another.")
    return mask


class PegRepairs:
    """Repairing by pegs: on a frame, those vertices are pegged that drift most of what lies round them."""

    every, rounds = False, 3

    def at(self, track: Track) -> np.ndarray | None:
        return None

    def on(self, track: Track, frame: int) -> np.ndarray | None:
        return vertices_on(track, frame)

    def keyed(self, shot: Shot, track_id: str, frame: int, target: TargetOn, over: np.ndarray) -> Shot:
        track = track_of(shot, track_id)
        solution, layer, targets, now = track.solution, track.layer(PegLayer), target(frame), vertices_on(track, frame)
        assert isinstance(solution, MeshSolution) and now is not None and targets is not None
        away = np.where(over, np.linalg.norm(targets - now, axis=1), 0)
        away[list(layer.locked)] = 0
        apart = _APART * solution.mesh.spacing
        already = sorted({k for on in layer.pegs.values() for k in on})
        chosen: list[int] = []
        for k in np.argsort(-away, kind="stable"):
            if away[k] <= 0 or len(chosen) >= _TOGETHER:
                break
            if all(np.linalg.norm(solution.vertices[k] - solution.vertices[other]) > apart for other in (*chosen, *already)):
                chosen.append(int(k))
        if not chosen and frame in layer.pegs:  # what is left lies between pegs
            chosen = [int(np.argmax(away))] if away.max() > 0 else []
        # a vertex that is pegged holds its correction until its next peg, so all are pegged on all of the frames
        numbers = [*already, *(k for k in chosen if k not in already)]
        for f in sorted({*layer.pegs, frame}):
            wanted, there = target(f), vertices_on(track, f)
            if wanted is not None and there is not None:
                shot = set_pegs(shot, track_id, f, {k: wanted[k] if np.isfinite(wanted[k]).all() else there[k] for k in numbers})
        return shot

    def cleared(self, shot: Shot, track_id: str, frame: int) -> Shot:
        return clear_pegs(shot, track_id, frame)


def _dense_places(track: Track) -> DriftPlaces:
    solution = track.solution
    assert isinstance(solution, DenseSolution)
    return DriftPlaces(solution.points, solution.reference, "the dense motion", "place")


def _dense_meter(track: Track, luma: np.ndarray, mask: np.ndarray, points: np.ndarray) -> VertexDriftSeries:
    solution = track.solution
    assert isinstance(solution, DenseSolution)
    return VertexDriftSeries(luma, _some(track, mask), points, Mesh(solution.points).spacing)


register_repairs(MeshSolution, PegRepairs())
register_drift(MeshSolution, _places, _meter)
register_drift(DenseSolution, _dense_places, _dense_meter)
