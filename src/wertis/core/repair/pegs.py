"""Vertices of a mesh put by hand where they belong, on a motion that goes along with them.

Between pegs a vertex's correction is interpolated over time; round about it, the surface follows by bending little. That is the edit without tracking of
O. Sorkine and M. Alexa, As-rigid-as-possible surface modeling, SGP 2007, with a linear energy so that it answers at once.
"""

from collections.abc import Mapping, Sequence

import numpy as np

from wertis.core.geometry import homography
from wertis.core.geometry.affine import affine_through
from wertis.core.geometry.bspline import Interpolation, evaluate
from wertis.core.geometry.mesh import Mesh, MeshMotion, MeshWarp
from wertis.core.geometry.motion import Motion
from wertis.core.geometry.warp import DisplacedWarp, Warp
from wertis.core.keyed import Curve, Key
from wertis.core.repair.correction import LayerMotion

_REACH = 2.5  # control points, over which what lies round a peg goes along with it
_REACH_HIDDEN = 20.0  # the same where what is hidden hangs on what is measured, and has nothing else to go by
_ANCHORED = 1e4  # the same of a vertex that is measured beside a hidden one that is pegged
_EXACT = 1e7  # weight of a peg beside bending, by which it is met to a thousandth of a pixel


class RetrackedMeshMotion(LayerMotion):
    """A mesh's motion with frames that were tracked again in place of the first ones."""

    def __init__(self, inner: Motion, again: MeshMotion) -> None:
        super().__init__(inner)
        warps: dict[int, Warp] = {f: w for f in inner.frames if (w := inner.at(f)) is not None}
        places = {f: w.places for f, w in {**warps, **again.warps}.items() if isinstance(w, MeshWarp)}
        seen = {f: w.seen for f, w in {**warps, **again.warps}.items() if isinstance(w, MeshWarp) and w.seen is not None}
        mesh = again.mesh
        errors = {f: again.error_on(mesh.vertices, f) if f in again.warps else inner.uncertainty(mesh.vertices, f) for f in places}
        self._whole = MeshMotion(inner.reference, mesh, places, errors, seen)
        self.mesh = mesh

    def at(self, time: float) -> Warp | None:
        return self._whole.at(time)

    def uncertainty(self, points: np.ndarray, time: float) -> np.ndarray:
        return self._whole.uncertainty(points, time)


class PeggedMotion(LayerMotion):
    """A mesh's motion with pegs.

    Parameters
    ----------
    pegs : frame to vertex number to place (2,) in that frame's picture.
    followers : numbers of the vertices that go with the others.
    locked : numbers of the vertices that stay where they were tracked.
    led_by : follower to the numbers of those it follows, two or more; those without go with the mesh round them.
    """

    def __init__(self, inner: Motion, pegs: Mapping[int, Mapping[int, np.ndarray]], followers: Sequence[int] = (), locked: Sequence[int] = (),
                 led_by: Mapping[int, Sequence[int]] | None = None) -> None:
        super().__init__(inner)
        self._led_by = led_by or {}
        mesh = mesh_under(inner)
        self.mesh = mesh
        count = len(mesh.vertices)
        self._followers, self._locked = (np.array([k for k in numbers if k < count], np.int64) for numbers in (followers, locked))
        keys: dict[int, dict[int, Key]] = {}
        for frame, on in pegs.items():
            warp = self._beneath(frame)
            if warp is None:
                continue
            there = vertex_places(warp, mesh.vertices)
            for k, place in on.items():
                if k < count:
                    away = place - there[k]
                    keys.setdefault(k, {})[frame] = Key(tuple(float(v) for v in away))
        for k, own in keys.items():
            nothing = _ends_of_hiding(inner, k, own)
            own.update({f: Key((0.0, 0.0)) for f in nothing if f not in own})
        self._numbers = sorted(keys)
        self._curves = [Curve(keys[k], "smooth", inner.reference, True) for k in self._numbers]
        self._solvers: dict[tuple[bytes, bytes, float], _Follow] = {}
        self._kept: dict[float, Warp | None] = {}

    def at(self, time: float) -> Warp | None:
        if time in self._kept:
            return self._kept[time]
        warp = self._beneath(time)
        if warp is not None and self._numbers and time != self.reference:
            moves = np.array([c(time) for c in self._curves])
            if np.abs(moves).max() > 1e-9:
                if isinstance(warp, MeshWarp) and warp.seen is not None and not np.any(warp.seen):
                    # where nothing is measured the pegs carry the whole mesh
                    source = warp.places[self._numbers]
                    carry = affine_through(source, source + moves) if len(source) > 1 else _shift(moves[0])
                    moves = source + moves - homography.apply(carry, source)
                    warp = MeshWarp(warp.mesh, homography.apply(carry, warp.places), warp.seen)
                parts = self._parts(warp, moves)
                if isinstance(warp, MeshWarp):
                    warp = MeshWarp(warp.mesh, warp.places + _added(parts, warp.mesh.vertices, True), warp.seen)
                else:
                    warp = DisplacedWarp(warp, lambda p: _added(parts, p))
        if len(self._kept) > 4096:
            self._kept = {}
        self._kept[time] = warp
        return warp

    def uncertainty(self, points: np.ndarray, time: float) -> np.ndarray:
        return self.inner.uncertainty(points, time)

    def _beneath(self, time: float) -> Warp | None:
        """The motion without pegs, the followers with the others."""
        warp = self.inner.at(time)
        if not len(self._followers) or not isinstance(warp, MeshWarp):
            return warp
        free = np.array([k for k in self._followers if k not in self._led_by], np.int64)
        places = followed(self.mesh, warp.places, free) if len(free) else warp.places.copy()
        for k, led in self._led_by.items():
            numbers = list(led)
            if max(k, *numbers) < len(places):
                places[k] = homography.apply(affine_through(self.mesh.vertices[numbers], places[numbers]), self.mesh.vertices[k:k + 1])[0]
        return MeshWarp(warp.mesh, places, warp.seen)

    def _parts(self, warp: Warp, moves: np.ndarray) -> "list[tuple[_Follow, np.ndarray]]":
        """The displacements by which the mesh follows pegs that are moved by `moves` (n, 2), to be added up: how, and control values of each.

        A peg of a measured vertex moves what lies near. With one of a hidden vertex all that is hidden round it goes along, and what is measured stays.
        """
        numbers, seen = np.array(self._numbers), warp.seen if isinstance(warp, MeshWarp) else None
        measured = np.ones(len(self.mesh.vertices), bool) if seen is None or len(seen) != len(self.mesh.vertices) else np.asarray(seen) > 0.5
        shown = measured[numbers] if measured.any() else np.ones(len(numbers), bool)
        parts: list[tuple[_Follow, np.ndarray]] = []
        if np.abs(moves[shown]).max(initial=0) > 1e-9:
            near = self._solver(numbers[shown], self._locked)
            parts.append((near, near.values(moves[shown])))
        if not shown.all():
            anchors = np.union1d(np.setdiff1d(np.flatnonzero(measured), numbers[~shown]), self._locked)
            wide = self._solver(numbers[~shown], anchors, _REACH_HIDDEN)
            parts.append((wide, wide.values(moves[~shown] - _added(parts, self.mesh.vertices[numbers[~shown]]))))
        return parts

    def _solver(self, numbers: np.ndarray, anchors: np.ndarray, reach: float = _REACH) -> "_Follow":
        key = numbers.tobytes(), anchors.tobytes(), reach
        if key not in self._solvers:
            if len(self._solvers) > 64:
                self._solvers = {}
            self._solvers[key] = _Follow(self.mesh, self.mesh.vertices[numbers], anchors, reach)
        return self._solvers[key]


def _added(parts: "list[tuple[_Follow, np.ndarray]]", points: np.ndarray, vertices: bool = False) -> np.ndarray:
    """(n, 2) the displacements of all parts at points (n, 2) of the reference; `vertices`, that they are the mesh's own, of which held ones stay."""
    out = np.zeros((len(points), 2))
    for follow, values in parts:
        away = follow.at(values, points)
        if vertices:
            away[follow.held] = 0
        out += away
    return out


def _ends_of_hiding(inner: Motion, number: int, pegs: Mapping[int, Key]) -> list[int]:
    """The frames, before and after, on which a vertex that was pegged while it was hidden is measured again: there its correction is nothing."""
    found = []
    for frame in pegs:
        if _is_measured(inner, number, frame):
            continue
        for later in (True, False):
            beyond = [f for f in inner.frames if (f > frame if later else f < frame)]
            for f in beyond if later else reversed(beyond):
                if f in pegs:
                    break
                if _is_measured(inner, number, f):
                    found.append(f)
                    break
    return found


def _is_measured(inner: Motion, number: int, frame: int) -> bool:
    warp = inner.at(frame)
    return not isinstance(warp, MeshWarp) or warp.seen is None or bool(warp.seen[number] > 0.5)


def _shift(move: np.ndarray) -> np.ndarray:
    out = np.eye(3)
    out[:2, 2] = move
    return out


class _Follow:
    """How a mesh follows displacements of some of its points (n, 2), while other vertices, of numbers `held` (m,), stay."""

    def __init__(self, mesh: Mesh, points: np.ndarray, held: np.ndarray, reach: float) -> None:
        self.held, self._lattice = held, mesh.lattice
        self._interpolation = Interpolation(mesh.lattice, points, _EXACT, {2: 1.0}, reach ** -4.0, (mesh.vertices[held], _ANCHORED))

    def values(self, moves: np.ndarray) -> np.ndarray:
        """(rows, columns, 2) displacements of the control points for those of the points (n, 2)."""
        return self._interpolation.values(moves)

    def at(self, values: np.ndarray, points: np.ndarray) -> np.ndarray:
        """(n, 2) displacements at points (n, 2) of the reference."""
        return evaluate(self._lattice, values, points)[0]


def vertex_places(warp: Warp, vertices: np.ndarray) -> np.ndarray:
    """Where a warp takes a mesh's vertices (V, 2): of a warp through just these the places that it was given, to the last digit."""
    if isinstance(warp, MeshWarp) and np.array_equal(warp.mesh.vertices, vertices):
        return warp.places.copy()
    return warp.forward(vertices)


def followed(mesh: Mesh, places: np.ndarray, followers: np.ndarray) -> np.ndarray:
    """Places (V, 2) of a mesh's vertices with those of `followers` (n,) where the smooth map through all others takes them."""
    weights = np.ones(len(mesh.vertices))
    weights[followers] = 0
    out = places.copy()
    out[followers] = MeshWarp(Mesh(mesh.vertices, mesh.triangles, weights), places).forward(mesh.vertices[followers])
    return out


def mesh_under(motion: Motion) -> Mesh:
    """The mesh that a motion, or one beneath it, is made of; ValueError where there is none."""
    at: object = motion
    while at is not None:
        mesh = getattr(at, "mesh", None)
        if isinstance(mesh, Mesh):
            return mesh
        at = getattr(at, "inner", None)
    raise ValueError("there is no mesh beneath")
