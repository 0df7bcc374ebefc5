"""Mesh tracks: their settings, what tracking gave, pegs, and how motions are built from them."""

from collections.abc import Collection
from functools import cached_property
from typing import Annotated, Literal, Self

import numpy as np
import scipy
from pydantic import Field, model_validator

from wertis.core.errors import RegionError
from wertis.core.geometry.mesh import Mesh, MeshFix, MeshMotion, laid, triangulated, usual_spacing
from wertis.core.geometry.motion import Motion
from wertis.core.repair.pegs import PeggedMotion, RetrackedMeshMotion, followed, vertex_places
from wertis.core.shot import regions
from wertis.core.shot.document import Layer, Look, Region, Shot, Solution, Track, TrackSettings
from wertis.core.shot.edits import carry, unlocked
from wertis.core.shot.fields import Flags, Frame, Integers, Matrices, Point, Reals, Table, Triples
from wertis.core.shot.named_places import on_surface, register_places
from wertis.core.shot.resolve import motion_of, register_layer, register_solution

VertexNumber = Annotated[int, Field(ge=0, le=100_000)]
VertexNumbers = Annotated[tuple[VertexNumber, ...], Field(max_length=100_000)]


class MeshSettings(TrackSettings):
    """Settings of a mesh track.

    Attributes
    ----------
    spacing : pixels between vertices; from the region's size when None.
    textured : vertices are put where the texture is.
    outline : there are vertices on the outline.
    stiffness : 0, cloth, to 100, a board; from the pictures when None.
    look, half : as for a plane.
    renewed : where the surface comes to look otherwise for good, its newer look is taken, with the error of its place.
    further : frames on which the mesh lies right, that stand in for the reference frame where the surface looks otherwise there.
    vertices : (V, 2) on the region's frame, once a person has changed them; laid by the settings when None.
    """

    kind: Literal["mesh"] = "mesh"
    spacing: Annotated[float, Field(ge=6, le=10_000)] | None = None
    textured: bool = False
    outline: bool = True
    stiffness: Annotated[float, Field(ge=0, le=100)] | None = None
    look: Look = "mix"
    half: bool = False
    renewed: bool = True
    further: Annotated[tuple[Frame, ...], Field(max_length=64)] = ()
    vertices: Table | None = None

    @property
    def further_references(self) -> tuple[int, ...]:
        return self.further


class MeshSolution(Solution):
    """A tracked mesh of V vertices. Numbers per frame, in the order of `frames`.

    Attributes
    ----------
    vertices : (V, 2) on the reference frame.
    triangles : (T, 3) int64, clockwise as they are seen.
    frames : (n,) int64, all frames that were tried.
    places : (n, V, 2); nan where the surface was lost, or a vertex has no data.
    errors : (n, V) expected error in pixels.
    measured : (n, V) whether each vertex was measured there.
    seen : (n,) share of the region seen, 0..1.
    reasons : frame to why it was lost.
    """

    kind: Literal["mesh"] = "mesh"
    vertices: Table
    triangles: Triples
    frames: Integers
    places: Matrices
    errors: Table
    measured: Flags
    seen: Reals
    reasons: dict[int, str] = {}

    @model_validator(mode="after")
    def _sound(self) -> Self:
        n, count = len(self.frames), len(self.vertices)
        if self.places.shape != (n, count, 2) or self.errors.shape != (n, count) or self.measured.shape != (n, count) or self.seen.shape != (n,):
            raise ValueError("the tracked numbers are not all of one size")
        if self.vertices.shape != (count, 2) or self.triangles.shape[1:] != (3,) or count < 3:
            raise ValueError("the mesh is not made of places and triangles")
        if self.triangles.size and not (self.triangles.min() >= 0 and self.triangles.max() < count):
            raise ValueError("a triangle of the mesh has a vertex that does not exist")
        if n > 1 and not np.all(np.diff(self.frames) > 0):
            raise ValueError("the tracked frames are not in order")
        return self

    @property
    def tried(self) -> np.ndarray:
        return self.frames

    @cached_property
    def good(self) -> np.ndarray:  # type: ignore[override]
        return np.isfinite(self.places).all(axis=2).sum(axis=1) >= 3

    @cached_property
    def frame_errors(self) -> np.ndarray:  # type: ignore[override]
        return np.array([np.sqrt(np.mean(e[m] ** 2)) if m.any() else np.inf for e, m in zip(self.errors, self.measured, strict=True)])

    @property
    def shares(self) -> np.ndarray:
        return self.seen

    @cached_property
    def mesh(self) -> Mesh:
        """The mesh on the reference frame."""
        return Mesh(self.vertices, self.triangles)

    def index(self, frame: int) -> int | None:
        """Where a frame stands in the arrays."""
        k = int(np.searchsorted(self.frames, frame))
        return k if k < len(self.frames) and self.frames[k] == frame else None


class RetrackedMeshLayer(Layer):
    """Frames of a mesh that were tracked again through pegs, in place of what was tracked at first."""

    kind: Literal["retracked-mesh"] = "retracked-mesh"
    solution: MeshSolution | None = None
    rank = 20

    @property
    def empty(self) -> bool:
        return self.solution is None


class PegLayer(Layer):
    """What hands have said of single vertices.

    Attributes
    ----------
    pegs : frame to vertex number to place in that frame's picture.
    followers : numbers of the vertices that have no measurement of their own and follow the others.
    led_by : follower to the numbers of the vertices that it follows: two, as a bar, or more, as a plane; the mesh round it where none are named.
    locked : numbers of the vertices that nothing moves.
    """

    kind: Literal["pegs"] = "pegs"
    pegs: dict[Frame, dict[VertexNumber, Point]] = {}
    followers: VertexNumbers = ()
    led_by: dict[VertexNumber, VertexNumbers] = {}
    locked: VertexNumbers = ()
    rank = 25

    @property
    def empty(self) -> bool:
        return not any(self.pegs.values()) and not self.followers and not self.locked

    @property
    def named(self) -> list[int]:
        """The numbers of all vertices that it says something of."""
        return sorted({*self.followers, *self.locked, *(k for on in self.pegs.values() for k in on), *(k for led in self.led_by.values() for k in led)})

    def renumbered(self, now: dict[int, int]) -> "PegLayer":
        """The same for vertices with other numbers, old to new; what is said of others goes."""
        pegs = {f: {now[k]: p for k, p in on.items() if k in now} for f, on in self.pegs.items()}
        led_by = {now[k]: tuple(now[x] for x in led) for k, led in self.led_by.items() if k in now and all(x in now for x in led)}
        return self.but(pegs={f: on for f, on in pegs.items() if on}, followers=tuple(now[k] for k in self.followers if k in now), led_by=led_by,
                        locked=tuple(now[k] for k in self.locked if k in now))

    @property
    def frames(self) -> list[int]:
        """The frames that have a peg."""
        return sorted(f for f, pegs in self.pegs.items() if pegs)


# -- what is laid -------------------------------------------------------------------------------------------------


def mesh_settings(track: Track) -> MeshSettings:
    """A mesh track's settings; the usual ones for a track of another kind, with what the two have in common."""
    if isinstance(track.settings, MeshSettings):
        return track.settings
    common = {k: getattr(track.settings, k) for k in ("look", "half") if hasattr(track.settings, k)}
    return MeshSettings(**common)


def set_references(shot: Shot, ident: str, further: Collection[int] | None = None, renewed: bool | None = None) -> Shot:
    """The shot with other frames that stand in for a mesh's reference frame where the surface looks otherwise; what was tracked stays until it is again.

    Raises
    ------
    RegionError
        When a frame is the reference frame itself or lies outside the shot's range.
    """
    track = unlocked(shot, ident)
    settings = mesh_settings(track)
    frames = tuple(sorted(set(settings.further if further is None else further)))
    (low, high), reference = shot.range, track.region.frame
    for frame in frames:
        if frame == reference:
            raise RegionError(f"Frame {frame} is the reference frame itself; go to another frame, on which {track.name} lies right.")
        if not low <= frame <= high:
            raise RegionError(f"Frame {frame} is not in the range {low} to {high}; take a frame inside it.")
    return shot.with_track(track.but(settings=settings.but(further=frames, renewed=settings.renewed if renewed is None else renewed)))


def mesh_of(track: Track, size: tuple[int, int], texture: np.ndarray | None = None) -> Mesh:
    """The mesh that a track's settings lay into its region, on the region's frame; the one that is tracked where there is one.

    Raises
    ------
    RegionError
        When it cannot be laid.
    """
    settings = mesh_settings(track)
    solution = track.solution
    if isinstance(solution, MeshSolution) and settings.vertices is not None and np.array_equal(solution.vertices, settings.vertices):
        return solution.mesh
    mask = regions.mask_of(track.region, size)
    if settings.vertices is not None:
        vertices = settings.vertices
    else:
        vertices = laid(mask, spacing_of(track, size), settings.outline, texture if settings.textured else None, _named_vertices(track))
    return Mesh(vertices, triangulated(vertices, mask))


def spacing_of(track: Track, size: tuple[int, int]) -> float:
    """Pixels between the vertices that are laid: those that a person has chosen, else what suits the region's size."""
    return mesh_settings(track).spacing or usual_spacing(float(np.count_nonzero(regions.mask_of(track.region, size))))


def _named_vertices(track: Track) -> np.ndarray:
    """(n, 2) the vertices that a person has pegged, locked or made to follow, on the region's frame: a mesh that is laid anew keeps them."""
    solution = track.solution
    numbers = [k for k in track.layer(PegLayer).named if isinstance(solution, MeshSolution) and k < len(solution.vertices)]
    if not isinstance(solution, MeshSolution) or not numbers:
        return np.zeros((0, 2))
    found = carry(track, solution.vertices[numbers], solution.reference, track.region.frame)
    return found if found is not None else np.zeros((0, 2))


def merged_mesh(old: Solution | None, reference: int, mesh: Mesh, fixes: dict[int, MeshFix], locked: tuple[int, ...] = ()) -> MeshSolution:
    """New answers laid over the old ones of the same reference frame and mesh; `locked` vertices keep theirs."""
    count = len(mesh.vertices)
    table: dict[int, tuple[np.ndarray, np.ndarray, np.ndarray, float]] = {}
    reasons: dict[int, str] = {}
    if isinstance(old, MeshSolution) and old.reference == reference and np.array_equal(old.vertices, mesh.vertices):
        reasons.update(old.reasons)
        for k, frame in enumerate(old.frames):
            table[int(frame)] = old.places[k], old.errors[k], old.measured[k], float(old.seen[k])
    table[reference] = mesh.vertices, np.zeros(count), np.ones(count, bool), 1.0
    for frame, fix in fixes.items():
        reasons.pop(frame, None)
        if fix.places is None:
            reasons[frame] = fix.reason
            table[frame] = np.full((count, 2), np.nan), np.full(count, np.inf), np.zeros(count, bool), fix.seen
        else:
            places, errors, measured = fix.places.copy(), fix.errors.copy(), fix.measured.copy()
            if frame in table:
                was, were, had, _ = table[frame]
                kept = [k for k in locked if k < count and np.isfinite(was[k]).all()]
                places[kept], errors[kept], measured[kept] = was[kept], were[kept], had[kept]
            table[frame] = places, errors, measured, fix.seen
    frames = sorted(table)
    places, errors, measured, seen = (np.array([table[f][k] for f in frames]) for k in range(4))
    return MeshSolution(reference=reference, vertices=mesh.vertices.copy(), triangles=mesh.triangles.astype(np.int64).copy(),
                        frames=np.array(frames, np.int64), places=places.astype(float), errors=errors.astype(float), measured=measured.astype(bool),
                        seen=seen.astype(float), reasons=reasons)


def set_mesh_tracked(shot: Shot, ident: str, fixes: dict[int, MeshFix]) -> Shot:
    """The shot with new answers for a mesh track, against its region's frame; the mesh is kept with them."""
    track = unlocked(shot, ident)
    mesh = next((fix.mesh for fix in fixes.values()), None)
    if mesh is None:
        if shot.plate is None:
            return shot
        mesh = mesh_of(track, shot.plate.size)
    layer = track.layer(PegLayer)
    if isinstance(track.solution, MeshSolution) and not np.array_equal(track.solution.vertices, mesh.vertices):
        layer = layer.renumbered(_same_vertices(track, mesh))
    solution = merged_mesh(track.solution, track.region.frame, mesh, fixes, layer.locked)
    again = track.layer(RetrackedMeshLayer)
    left = None
    if again.solution is not None and np.array_equal(again.solution.vertices, mesh.vertices):
        keep = ~np.isin(again.solution.frames, list(fixes))
        left = _of_frames(again.solution, keep) if keep.any() else None
    settings = mesh_settings(track).but(vertices=solution.vertices)
    return shot.with_track(track.but(solution=solution, settings=settings).with_layer(again.but(solution=left)).with_layer(layer))


def _same_vertices(track: Track, mesh: Mesh) -> dict[int, int]:
    """Numbers of the vertices that a person has said something of, in the track's mesh so far, to their numbers in one that was laid anew."""
    there = _named_vertices(track)
    if not len(there):
        return {}
    found = scipy.spatial.cKDTree(mesh.vertices).query(there)
    return {old: int(new) for old, new, d in zip(track.layer(PegLayer).named, np.asarray(found[1]), np.asarray(found[0]), strict=True) if d < 1e-6}


def _of_frames(solution: MeshSolution, keep: np.ndarray) -> MeshSolution:
    frames = solution.frames[keep]
    return solution.but(frames=frames, places=solution.places[keep], errors=solution.errors[keep], measured=solution.measured[keep],
                        seen=solution.seen[keep], reasons={f: r for f, r in solution.reasons.items() if f in frames})


# -- where it is -------------------------------------------------------------------------------------------------


def vertices_on(track: Track, frame: int) -> np.ndarray | None:
    """Where a mesh's vertices (V, 2) are on a frame, pegs and all; None where unknown."""
    solution = track.solution
    if not isinstance(solution, MeshSolution):
        return None
    motion = motion_of(track)
    warp = motion.at(frame) if motion is not None else None
    return None if warp is None else vertex_places(warp, solution.vertices)


# -- editing the mesh ---------------------------------------------------------------------------------------------


def with_vertices(shot: Shot, ident: str, vertices: np.ndarray, kept: np.ndarray) -> Shot:
    """The shot with the vertices (V, 2), on the region's frame, of a mesh changed.

    Those that were there keep their data and pegs; new ones get their motion from the mesh around them.

    Parameters
    ----------
    kept : (V,) int, the number that each vertex had before; -1 for one that is new or was moved.
    """
    track = unlocked(shot, ident)
    if shot.plate is None:
        return shot
    settings, solution = mesh_settings(track), track.solution
    mask = regions.mask_of(track.region, shot.plate.size)
    mesh = Mesh(vertices, triangulated(vertices, mask))
    now = {int(old): new for new, old in enumerate(kept) if old >= 0}
    track = track.but(settings=settings.but(vertices=np.ascontiguousarray(vertices, np.float64)))
    if isinstance(solution, MeshSolution):
        track = track.but(solution=_renumbered(solution, mesh, kept))
        again = track.layer(RetrackedMeshLayer)
        if again.solution is not None:
            track = track.with_layer(again.but(solution=_renumbered(again.solution, mesh, kept)))
        track = track.with_layer(track.layer(PegLayer).renumbered(now))
    return shot.with_track(track)


def _renumbered(solution: MeshSolution, mesh: Mesh, kept: np.ndarray) -> MeshSolution:
    motion = _mesh_motion(solution)
    old = np.clip(kept, 0, None)
    fresh = kept < 0
    places, errors, measured = solution.places[:, old].copy(), solution.errors[:, old].copy(), solution.measured[:, old].copy()
    for k, frame in enumerate(solution.frames):
        warp = motion.at(int(frame))
        if warp is not None and fresh.any():
            places[k, fresh] = warp.forward(mesh.vertices[fresh])
            errors[k, fresh] = motion.uncertainty(mesh.vertices[fresh], int(frame))
            measured[k, fresh] = False
    at = solution.index(solution.reference)
    if at is not None:
        places[at] = mesh.vertices
    return solution.but(vertices=mesh.vertices.copy(), triangles=mesh.triangles.copy(), places=places, errors=errors, measured=measured)


def add_vertex(shot: Shot, ident: str, place: np.ndarray, frame: int) -> Shot:
    """The shot with a vertex more, where `place` (2,) of a frame shows the surface.

    Raises
    ------
    RegionError
        When the track is unknown there, or a vertex lies there already.
    """
    track = unlocked(shot, ident)
    at = carry(track, np.asarray(place, float)[None], frame, track.region.frame)
    if at is None or shot.plate is None:
        raise RegionError(f"{track.name} is not tracked on frame {frame}; go to a tracked frame to add a vertex.")
    before = mesh_of(track, shot.plate.size).vertices
    if np.linalg.norm(before - at, axis=1).min() < 2:
        raise RegionError("A vertex lies there already; choose a place between the vertices.")
    return with_vertices(shot, ident, np.concatenate([before, at]), np.append(np.arange(len(before)), -1))


def remove_vertices(shot: Shot, ident: str, numbers: set[int]) -> Shot:
    """The shot with vertices of a mesh removed, pegs and all.

    Raises
    ------
    RegionError
        When fewer than three would be left.
    """
    track = unlocked(shot, ident)
    if shot.plate is None:
        return shot
    before = mesh_of(track, shot.plate.size).vertices
    keep = np.array([k for k in range(len(before)) if k not in numbers], int)
    if len(keep) < 3:
        raise RegionError("A mesh needs at least three vertices; leave three, or draw the region again.")
    return with_vertices(shot, ident, before[keep], keep)


# -- motions ------------------------------------------------------------------------------------------------------


def _mesh_motion(solution: MeshSolution) -> MeshMotion:
    mesh = solution.mesh
    good = np.flatnonzero(solution.good)
    known = np.isfinite(solution.places).all(axis=2)
    places: dict[int, np.ndarray] = {}
    for k in good:
        here = solution.places[k]
        if not known[k].all():  # what has no data follows the rest
            here = followed(mesh, np.where(known[k][:, None], here, 0), np.flatnonzero(~known[k]))
        places[int(solution.frames[k])] = here
    return MeshMotion(solution.reference, mesh, places, {int(solution.frames[k]): solution.errors[k] for k in good},
                      {int(solution.frames[k]): solution.measured[k] for k in good})


def _built(solution: MeshSolution, region: Region) -> Motion:
    return _mesh_motion(solution)


def _retracked(inner: Motion, layer: RetrackedMeshLayer, region: Region) -> Motion:
    return inner if layer.solution is None else RetrackedMeshMotion(inner, _mesh_motion(layer.solution))


def _pegged(inner: Motion, layer: PegLayer, region: Region) -> Motion:
    pegs = {f: {k: np.array(p) for k, p in on.items()} for f, on in layer.pegs.items() if on}
    return PeggedMotion(inner, pegs, layer.followers, layer.locked, layer.led_by)


register_solution(MeshSolution, _built)
register_places(MeshSolution, "vertex", lambda solution, frame: [str(k) for k in range(len(solution.vertices))],
                lambda track, solution, name, time: on_surface(track, solution.vertices, name, time))
register_layer(RetrackedMeshLayer, _retracked)
register_layer(PegLayer, _pegged)

