"""Tracking a shot's meshes, and tracking them again through pegs."""

from collections.abc import Iterable, Iterator, Sequence

import cv2
import numpy as np

from wertis.core.errors import WertisError
from wertis.core.geometry.mesh import Mesh, MeshFix
from wertis.core.jobs.events import Counter, Event, Stop, stopped
from wertis.core.jobs.retrack import Stretch, register_retrack, steps_of
from wertis.core.jobs.tracking import Reader, register_tracker
from wertis.core.plate.base import Plate
from wertis.core.shot import regions
from wertis.core.shot.document import Shot, Track
from wertis.core.shot.edits import unlocked
from wertis.core.shot.hold_outs import held_masks
from wertis.core.shot.meshes import (
    MeshSettings,
    MeshSolution,
    PegLayer,
    RetrackedMeshLayer,
    merged_mesh,
    mesh_of,
    mesh_settings,
    set_mesh_tracked,
    vertices_on,
)
from wertis.core.track.mesh.batch import BatchRefinement
from wertis.core.track.mesh.run import track_mesh
from wertis.core.track.mesh.shape_basis import ShapeBasis
from wertis.core.track.texture import strength
from wertis.core.track.tracker_input import looked_at

_TOUCHED = 0.05  # pixels by which a peg must move a vertex for it to be tracked again
_AROUND, _LEAST_AROUND = 2.5, 24.0  # of the vertices' spacing round each, and pixels: what is tracked where vertices are tracked alone


def laid_mesh(shot: Shot, track: Track, plate: Plate, read: Reader | None = None) -> Mesh:
    """The mesh that a track's settings lay into its region; reads the region's frame where vertices go to the texture."""
    settings = mesh_settings(track)
    texture = None
    if settings.textured and settings.vertices is None:
        texture = strength(looked_at((read or plate.read)(track.region.frame)))
    return mesh_of(track, plate.size, texture)


def _mesh(shot: Shot, track: Track, plate: Plate, runs: list[range], read: Reader | None, stop: Stop | None) -> Iterator[tuple[int, MeshFix]]:
    settings = mesh_settings(track)
    reference = track.region.frame
    mesh = laid_mesh(shot, track, plate, read)
    solution = track.solution
    known: dict[int, np.ndarray] = {}
    if isinstance(solution, MeshSolution) and solution.reference == reference and np.array_equal(solution.vertices, mesh.vertices):
        known = {int(f): p for f, p, ok in zip(solution.frames, solution.places, solution.good, strict=True) if ok and np.isfinite(p).all()}
        known |= _further(track)
    mask, held = regions.mask_of(track.region, plate.size), held_masks(shot, track, plate.size)
    shapes: list[ShapeBasis] = []
    batch = BatchRefinement()
    for frames in runs:
        if stopped(stop):
            return
        yield from track_mesh(plate, mesh, mask, reference, frames, settings.stiffness, read, stop, known, held, settings.look, settings.half, shapes,
                              renewed=settings.renewed, further=settings.further, batch=batch)
    if not stopped(stop):
        yield from batch.answers()


register_tracker(MeshSettings, _mesh, set_mesh_tracked)


def _further(track: Track) -> dict[int, np.ndarray]:
    """Where a tracked mesh's vertices (V, 2) lie on its further reference frames, with pegs."""
    places = {f: vertices_on(track, f) for f in mesh_settings(track).further}
    return {f: at for f, at in places.items() if at is not None and np.isfinite(at).all()}


def _out_of_date(track: Track, span: tuple[int, int]) -> list[Stretch]:
    """The stretches next to pegs that move a vertex."""
    solution, layer = track.solution, track.layer(PegLayer)
    if not isinstance(solution, MeshSolution) or not layer.enabled:
        return []
    anchors = sorted({solution.reference, *layer.frames})
    moved = {f for f in layer.frames if _is_moved(track, layer, f)}
    low, high = max(span[0], int(solution.frames[0])), min(span[1], int(solution.frames[-1]))
    found = []
    for a, b in zip([None, *anchors], [*anchors, None], strict=True):
        if a in moved or b in moved:
            frames = range(low if a is None else a + 1, (high if b is None else b - 1) + 1)
            if len(frames):
                found.append(Stretch(a, b, frames))
    return found


def _is_moved(track: Track, layer: PegLayer, frame: int) -> bool:
    beneath = track.but(layers=tuple(x for x in track.layers if isinstance(x, RetrackedMeshLayer)))
    places = vertices_on(beneath, frame)
    return places is not None and any(np.linalg.norm(places[k] - p) > 1e-3 for k, p in layer.pegs[frame].items() if k < len(places))


def _touched(track: Track, frames: Iterable[int | None]) -> np.ndarray:
    """(V,) whether the pegs of some frames move a vertex there."""
    beneath = track.but(layers=tuple(x for x in track.layers if isinstance(x, RetrackedMeshLayer)))
    solution = track.solution
    assert isinstance(solution, MeshSolution)
    touched = np.zeros(len(solution.vertices), bool)
    for frame in frames:
        was, now = (vertices_on(t, frame) if frame is not None else None for t in (beneath, track))
        if was is not None and now is not None:
            touched |= np.linalg.norm(now - was, axis=1) > _TOUCHED
    return touched


def stale_vertices(track: Track, frame: int, span: tuple[int, int]) -> np.ndarray | None:
    """(V,) which vertices are out of date on a frame: pegs beside it move them, and it was not tracked again since; None where none is."""
    here = next((x for x in _out_of_date(track, span) if frame in x.frames), None)
    return _touched(track, (here.begin, here.end)) if here is not None else None


def _retrack(shot: Shot, track_id: str, plate: Plate, read: Reader | None, stop: Stop | None) -> Iterator[Event]:
    """Track the stretches next to moved pegs again, through them.

    Each is tracked from both its ends, where the mesh lies as the pegs have it, against the reference frame; on each frame the two are blended by
    how near the ends are.
    """
    track = unlocked(shot, track_id)
    stretches = _out_of_date(track, shot.range)
    solution, settings = track.solution, mesh_settings(track)
    assert isinstance(solution, MeshSolution)
    mask, held = regions.mask_of(track.region, plate.size), held_masks(shot, track, plate.size)
    count = Counter(steps_of(stretches))
    found: dict[int, MeshFix] = {}
    layer, further = track.layer(PegLayer), _further(track)
    for stretch in stretches:
        begin, end, frames = stretch.begin, stretch.end, stretch.frames
        sides: list[dict[int, MeshFix]] = []
        for anchor, order in ((begin, frames), (end, frames[::-1])):
            answers: dict[int, MeshFix] = {}
            places = vertices_on(track, anchor) if anchor is not None else None
            if anchor is not None and places is not None:
                for frame, fix in track_mesh(plate, solution.mesh, mask, solution.reference, order, settings.stiffness, read, stop,
                                             further | {anchor: places}, held, settings.look, settings.half,
                                             expected=lambda f: vertices_on(track, f), renewed=settings.renewed, further=settings.further):
                    answers[frame] = fix
                    yield count.event(frame, note=f"frame {frame}", of=(anchor, frame))
            sides.append(answers)
            if stopped(stop):
                return
        for frame in frames:
            a, b = sides[0].get(frame), sides[1].get(frame)
            now = vertices_on(track, frame)
            if a is not None and a.places is not None and b is not None and b.places is not None and begin is not None and end is not None:
                part = (frame - begin) / (end - begin)
                places = (1 - part) * a.places + part * b.places
                errors = np.hypot((1 - part) * a.errors, part * b.errors)
                found[frame] = MeshFix(solution.mesh, places, errors, a.measured | b.measured, max(a.seen, b.seen))
            else:
                one = next((x for x in (a, b) if x is not None and x.places is not None), None)
                found[frame] = one or MeshFix(solution.mesh, now, reason="" if now is not None else "not found from either end")
    stay = ~_touched(track, {f for x in stretches for f in (x.begin, x.end)})
    stay[list(layer.locked)] = True
    for frame, fix in found.items():  # what the pegs do not touch, and what is locked, stays where it is
        now, k = vertices_on(track, frame), solution.index(frame)
        if fix.places is not None and now is not None:
            fix.places[stay] = now[stay]
            if k is not None and len(fix.errors):
                fix.errors[stay], fix.measured[stay] = solution.errors[k][stay], solution.measured[k][stay]
    for frame in {f for x in stretches for f in (x.begin, x.end) if f is not None and f != solution.reference}:
        places = vertices_on(track, frame)
        if places is not None:
            errors = np.full(len(places), 0.1)
            found[frame] = MeshFix(solution.mesh, places, errors, np.ones(len(places), bool), 1.0)
    again = track.layer(RetrackedMeshLayer)
    merged = merged_mesh(again.solution, solution.reference, solution.mesh, found)
    changed = track.with_layer(again.but(enabled=True, solution=merged))
    yield Event(None, count.total, count.total, shot.with_track(changed))


register_retrack(MeshSolution, _out_of_date, _retrack)


def track_vertices(shot: Shot, track_id: str, plate: Plate, vertices: Sequence[int], frames: Sequence[int] | None = None, read: Reader | None = None,
                   stop: Stop | None = None) -> Iterator[Event]:
    """Track chosen vertices of a mesh alone, from where they are now, while all others stay; the last event's item is the new shot.

    What is tracked is the part of the region round them, with the mesh as it lies beginning each frame's search.

    Raises
    ------
    WertisError
        When there is no tracked mesh, or a vertex does not exist.
    """
    track = unlocked(shot, track_id)
    solution = track.solution
    if not isinstance(solution, MeshSolution):
        raise WertisError(f"{track.name} has no tracked mesh yet; choose Mesh as its motion and track it.")
    chosen = sorted(set(vertices) - set(track.layer(PegLayer).locked))
    if not chosen or not 0 <= min(chosen) <= max(chosen) < len(solution.vertices):
        raise WertisError(f"Choose vertices of the mesh that are not locked, by their numbers from 0 to {len(solution.vertices) - 1}.")
    settings, reference = mesh_settings(track), solution.reference
    low, high = shot.range
    known = [int(f) for f, good in zip(solution.frames, solution.good, strict=True) if good and low <= f <= high]
    wanted = set(known if frames is None else frames)
    runs = [sorted(f for f in wanted if f > reference), sorted((f for f in wanted if f < reference), reverse=True)]
    reach = _AROUND * max(solution.mesh.spacing, _LEAST_AROUND)
    near = np.zeros(plate.size[::-1], np.uint8)
    for x, y in solution.vertices[chosen]:
        cv2.circle(near, (round(x), round(y)), round(reach), 1, cv2.FILLED)
    mask, held = regions.mask_of(track.region, plate.size) * near, held_masks(shot, track, plate.size)
    count = Counter(sum(map(len, runs)))
    places, errors, measured = solution.places.copy(), solution.errors.copy(), solution.measured.copy()
    for run in runs:
        if not run:
            continue
        for frame, fix in track_mesh(plate, solution.mesh, mask, reference, run, settings.stiffness, read, stop, _further(track), held, settings.look,
                                     settings.half, expected=lambda f: vertices_on(track, f), renewed=settings.renewed, further=settings.further):
            k = solution.index(frame)
            if k is not None and fix.places is not None:
                places[k, chosen], errors[k, chosen], measured[k, chosen] = fix.places[chosen], fix.errors[chosen], fix.measured[chosen]
            yield count.event(frame, note=f"frame {frame}")
        if stopped(stop):
            return
    changed = track.but(solution=solution.but(places=places, errors=errors, measured=measured))
    again = track.layer(RetrackedMeshLayer)
    if again.solution is not None:  # what was tracked again would hide what is new
        old = again.solution
        own = old.places.copy()
        for k, frame in enumerate(old.frames):
            at = solution.index(int(frame))
            if at is not None and int(frame) in wanted:
                own[k, chosen] = places[at, chosen]
        changed = changed.with_layer(again.but(solution=old.but(places=own)))
    yield Event(None, count.total, count.total, shot.with_track(changed))
