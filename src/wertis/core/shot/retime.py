"""Motion at another frame rate: the same instants of time, the reference frame being one of them."""

from collections.abc import Sequence

import numpy as np

from wertis.core.geometry import homography
from wertis.core.shot.document import PlaneSolution, Solution
from wertis.core.shot.meshes import MeshSolution
from wertis.core.shot.points import PointsSolution

_WHOLE = 1e-6  # of a frame, within which an instant is a frame's own


def retimed(solution: Solution, by: float, corners: np.ndarray) -> Solution | None:
    """A solution whose frames are `by` of its own apart, straight between them; None for a kind that cannot be.

    Parameters
    ----------
    by : frames of the solution for one of the new ones, such as 25 / 24.
    corners : (4, 2) on the reference frame, which a plane carries straight between its frames.
    """
    if isinstance(solution, PlaneSolution):
        known = [k for k in range(len(solution.frames)) if np.isfinite(solution.matrices[k]).all()]
        places = np.array([homography.apply(solution.matrices[k], corners) for k in known])
        frames, low, high, part = _instants([int(solution.frames[k]) for k in known], solution.reference, by)
        moved = _between(places, low, high, part)
        matrices = np.array([homography.from_points(corners, at) for at in moved]).reshape(-1, 3, 3)
        own = np.array(known)
        return PlaneSolution(reference=solution.reference, frames=frames, matrices=matrices,
                             errors=np.maximum(*(solution.errors[own[i]] for i in (low, high))),
                             seen=np.minimum(*(solution.seen[own[i]] for i in (low, high))))
    if isinstance(solution, MeshSolution | PointsSolution):
        frames, low, high, part = _instants([int(f) for f in solution.frames], solution.reference, by)
        changed = {"frames": frames, "places": _between(solution.places, low, high, part),
                   "errors": np.maximum(solution.errors[low], solution.errors[high]), "measured": solution.measured[low] & solution.measured[high]}
        beside = "seen" if isinstance(solution, MeshSolution) else "matches"
        changed[beside] = np.minimum(getattr(solution, beside)[low], getattr(solution, beside)[high])
        return solution.but(**changed)
    return None


def _instants(own: Sequence[int], reference: int, by: float) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """The new frames (n,), the numbers (n,) of their neighbours among `own`, and how far (n,) they are from the first to the second of these."""
    number = {f: k for k, f in enumerate(own)}
    rows = []
    first, last = (int(np.ceil((min(own) - reference) / by - _WHOLE)), int(np.floor((max(own) - reference) / by + _WHOLE))) if own else (0, -1)
    for step in range(first, last + 1):
        at = reference + step * by
        if abs(at - round(at)) < _WHOLE:
            at = round(at)
        low, high = int(np.floor(at)), int(np.ceil(at))
        if low in number and high in number:
            rows.append((reference + step, number[low], number[high], at - low))
    table = np.array(rows, float).reshape(-1, 4)
    return table[:, 0].astype(np.int64), table[:, 1].astype(np.int64), table[:, 2].astype(np.int64), table[:, 3]


def _between(places: np.ndarray, low: np.ndarray, high: np.ndarray, part: np.ndarray) -> np.ndarray:
    """Places (n, k, 2) straight between those (m, k, 2) of two frames each."""
    share = part[:, None, None]
    return np.asarray((1 - share) * places[low] + share * places[high])
