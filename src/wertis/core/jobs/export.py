"""What goes out for a track: corner pins, animated meshes; and for a matte: its shapes."""

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from wertis.core.errors import DeliverError
from wertis.core.exchange import animated_mesh as meshes_out
from wertis.core.exchange import camera_json, camera_usd, corner_pin_csv, corner_pin_json, gltf, shapes_csv, shapes_json, shapes_svg
from wertis.core.exchange.animated_mesh import AnimatedMesh
from wertis.core.exchange.corner_pin_json import CornerPin
from wertis.core.exchange.laid_out import camera_in, mesh_in, outlines_scaled
from wertis.core.exchange.layout import Layout, scale_to
from wertis.core.exchange.outlines import Outlines
from wertis.core.geometry.motion import Motion, carried
from wertis.core.matte.outline import flattened
from wertis.core.shot import bends
from wertis.core.shot.cameras import plane_corners, solved_camera
from wertis.core.shot.document import Placement, Shot, Track
from wertis.core.shot.items import set_item
from wertis.core.shot.matte_carry import Carrier
from wertis.core.shot.matte_edits import add_shape, key_shape
from wertis.core.shot.mattes import Matte, MatteShape, matte_of
from wertis.core.shot.meshes import MeshSolution, vertices_on
from wertis.core.shot.placing import surface_proportions
from wertis.core.shot.resolve import motion_of

MESH_WRITERS = {**meshes_out.WRITERS, ".glb": gltf.write_mesh, ".gltf": gltf.write_mesh}
CAMERA_WRITERS = {".json": camera_json.write_camera, **camera_usd.WRITERS, ".glb": gltf.write_camera, ".gltf": gltf.write_camera}
"""File endings and what writes a mesh, or a camera with the planes of the shot's tracks."""


_PRECISE = 0.1  # pixels by which flat triangles may lie off the smooth surface; a tenth is not seen
_MOST_DIVIDED, _MOST_VERTICES = 3, 40_000


def corner_pin(shot: Shot, track: Track, placement: Placement | None = None) -> CornerPin:
    """The corner pin of a placement, or of a four-cornered region when there is none, over the shot's range.

    Raises
    ------
    DeliverError
        When the track has no motion, or there is nothing with four corners.
    """
    motion = motion_of(track)
    if motion is None or shot.plate is None:
        raise DeliverError(f"{track.name} has not been tracked; track it before you export it.")
    if placement is not None:
        corners, frame = placement.array, placement.frame
    elif track.region.corners is not None:
        corners, frame = track.region.corners, track.region.frame
    else:
        raise DeliverError(f"{track.name} has no placement, and its region is not a plain quad with four corners; add a placement.")
    found = {}
    for f in range(shot.range[0], shot.range[1] + 1):
        own = placement.quad_at(f) if placement is not None else corners
        moved = own if f == frame else carried(motion, own, frame, f)
        if np.all(np.isfinite(moved)):
            found[f] = tuple((float(x), float(y)) for x, y in moved)
    sides = {}
    if placement is not None and placement.is_bent:
        handles = {f: bends.handles_on(shot, placement, f) for f in found}
        sides = {f: tuple((float(x), float(y)) for x, y in at) for f, at in handles.items() if at is not None}
    ratio = surface_proportions(placement, shot.plate.size, shot.plate.aspect).ratio if placement is not None else None
    return CornerPin(shot=shot.name, track=track.name, placement=placement.name if placement else "", width=shot.plate.size[0],
                     height=shot.plate.size[1], fps=shot.plate.fps, pixel_aspect=shot.plate.aspect, reference=frame, surface_ratio=ratio, corners=found,
                     sides=sides or None)  # type: ignore[arg-type]


def export_corner_pin(shot: Shot, track: Track, placement: Placement | None, path: Path) -> int:
    """Write a corner pin as .csv or .json; returns how many frames it has.

    Raises
    ------
    DeliverError
        When there is nothing to write, or it cannot be written.
    """
    pin = corner_pin(shot, track, placement)
    suffix = path.suffix.lower()
    if suffix == ".json":
        corner_pin_json.write(path, pin)
    elif suffix == ".csv":
        remarks = [f"Wertis corner pin of {pin.track}{' / ' + pin.placement if pin.placement else ''}, {pin.width} x {pin.height}, {pin.fps:g} fps",
                   pin.convention, pin.order, f"placed on frame {pin.reference}"]
        if pin.pixel_aspect != 1:
            remarks.append(f"a pixel is {pin.pixel_aspect:g} times as wide as high")
        if pin.sides:
            remarks.append("the sides are bent; this table has the corners only, the JSON export has the sides as well")
        corner_pin_csv.write_plain(path, pin.arrays(), remarks)
    else:
        raise DeliverError(f"'{path.suffix}' is not a corner pin file; end the name with .csv or .json.")
    return len(pin.corners)


def animated_mesh(shot: Shot, track: Track, within: float = 0.0) -> AnimatedMesh:
    """A mesh track's vertices over the shot's range, pegs and repairs and all.

    Parameters
    ----------
    within : pixels by which flat triangles may lie off the surface, which is smooth between its vertices: where they are off by more, each is divided in
        four, up to three times, the new vertices coming after the track's own; 0 for the track's own alone.

    Raises
    ------
    DeliverError
        When the track is no mesh, or has not been tracked.
    """
    motion, solution = motion_of(track), track.solution
    if motion is None or not isinstance(solution, MeshSolution) or shot.plate is None:
        raise DeliverError(f"{track.name} has no tracked mesh; choose Mesh as its motion and track it before you export it.")
    places, errors, seen = {}, {}, {}
    for frame in range(shot.range[0], shot.range[1] + 1):
        moved = vertices_on(track, frame)
        if moved is not None and np.isfinite(moved).all():
            places[frame] = moved
            errors[frame] = motion.uncertainty(solution.vertices, frame)
            k = solution.index(frame)
            seen[frame] = solution.measured[k] if k is not None else np.zeros(len(moved), bool)
    if not places:
        raise DeliverError(f"{track.name} has no answer in the range {shot.range[0]} to {shot.range[1]}; set another range.")
    made = AnimatedMesh(shot.plate.size, shot.plate.fps, solution.reference, solution.vertices, solution.triangles, places, errors, seen, track.name)
    for _ in range(_MOST_DIVIDED if within > 0 else 0):
        finer, off = _divided(made, motion)
        if off <= within or len(finer.vertices) > _MOST_VERTICES:
            break
        made = finer
    return made


def _divided(mesh: AnimatedMesh, motion: Motion) -> tuple[AnimatedMesh, float]:
    """A mesh whose triangles are divided in four at the middles of their sides, and by how many pixels those lay off the smooth surface at most."""
    sides = np.sort(np.concatenate([mesh.triangles[:, [a, b]] for a, b in ((0, 1), (1, 2), (2, 0))]), axis=1)
    ends, which = np.unique(sides, axis=0, return_inverse=True)
    middle = which.reshape(3, -1).T + len(mesh.vertices)  # of sides 01, 12, 20 of each triangle
    a, b, c = mesh.triangles.T
    ab, bc, ca = middle.T
    triangles = np.concatenate([np.column_stack(t) for t in ((a, ab, ca), (ab, b, bc), (ca, bc, c), (ab, bc, ca))])
    between = mesh.vertices[ends].mean(1)
    places, errors, seen, off = {}, {}, {}, 0.0
    for frame, old in mesh.places.items():
        moved = between if frame == mesh.reference else carried(motion, between, mesh.reference, frame)
        straight = old[ends].mean(1)
        sound = np.isfinite(moved).all(1, keepdims=True)
        places[frame] = np.concatenate([old, np.where(sound, moved, straight)])
        off = max(off, float(np.linalg.norm(np.where(sound, moved - straight, 0), axis=1).max()))
        errors[frame] = np.concatenate([mesh.errors[frame], motion.uncertainty(between, frame)])
        seen[frame] = np.concatenate([mesh.seen[frame], mesh.seen[frame][ends].all(1)])
    return replace(mesh, vertices=np.concatenate([mesh.vertices, between]), triangles=triangles, places=places, errors=errors, seen=seen), off


def mesh_precision(suffix: str) -> float:
    """How well flat triangles of a kind of file follow the surface, in pixels: those that are drawn elsewhere do; tables hold the track's own vertices."""
    return 0.0 if suffix.lower() in (".csv", ".json") else _PRECISE


def export_mesh(shot: Shot, track: Track, path: Path, layout: Layout | None = None) -> int:
    """Write an animated mesh as .csv, .json, .obj (one file a frame), .usd or .glb; returns how many frames it has.

    Parameters
    ----------
    layout : of the receiver; of one, .obj, .usd and .glb take the size and the frame numbers alone, for y goes up in them.

    Raises
    ------
    DeliverError
        When there is nothing to write, or it cannot be written.
    """
    write = MESH_WRITERS.get(path.suffix.lower())
    if write is None:
        raise DeliverError(f"'{path.suffix}' is not a mesh file; end the name with one of {', '.join(MESH_WRITERS)}.")
    mesh = animated_mesh(shot, track, mesh_precision(path.suffix))
    write(path, mesh_in(mesh, mesh_layout(path.suffix, layout)) if layout is not None else mesh)
    return len(mesh.places)


def mesh_layout(suffix: str, layout: Layout) -> Layout:
    """What of a layout a kind of file of a mesh takes."""
    return layout if suffix.lower() in (".csv", ".json") else layout.upright


def export_camera(shot: Shot, path: Path, layout: Layout | None = None) -> int:
    """Write the shot's solved camera with the planes of its tracks as .json, .usd or .glb; returns how many frames it has.

    Parameters
    ----------
    layout : of the receiver, whose size and frame numbers the camera then has.

    Raises
    ------
    DeliverError
        When it is not solved, or cannot be written.
    """
    suffix = path.suffix.lower()
    if suffix not in CAMERA_WRITERS:
        raise DeliverError(f"'{path.suffix}' is not a camera file; end the name with one of {', '.join(CAMERA_WRITERS)}.")
    if shot.camera is None or shot.plate is None:
        raise DeliverError("The shot has no solved camera; solve it first (step Track, or wertis solve).")
    camera = solved_camera(shot).solved
    changed = layout.upright if layout is not None and not layout.upright.plain else None
    CAMERA_WRITERS[suffix](path, camera_in(camera, changed) if changed is not None else camera, shot.plate.fps, plane_corners(shot), changed)
    return len(camera.poses)


def export_shapes(shot: Shot, matte: Matte, path: Path, samples: int = 0, layout: Layout | None = None) -> int:
    """Write a matte's shapes over the shot's range as .json, .csv, or .svg: one file a frame (#### stands for it), or one that is animated; returns how
    many frames there are.

    Parameters
    ----------
    samples : so many points, evenly spaced on each outline, in place of its own.
    layout : of the receiver; an .svg takes the size and the frame numbers alone, for y goes down in it.

    Raises
    ------
    DeliverError
        When there is nothing to write, or it cannot be written.
    """
    if shot.plate is None or not matte.shapes:
        raise DeliverError(f"{matte.name} has no shapes to write; draw one first.")
    found = sampled_outlines(shot, matte, samples)
    if not any(s.points for s in found):
        raise DeliverError(f"{matte.name} is on no frame of the range; track its surface first.")
    found = [s for s in found if s.points]
    suffix, layout = path.suffix.lower(), layout if layout is not None else Layout(size=shot.plate.size)
    if suffix == ".json":
        shapes_json.write(path, layout, found)
    elif suffix == ".csv":
        shapes_csv.write(path, layout, found)
    elif suffix == ".svg":
        shapes_svg.write(path, layout, found, shot.plate.fps)
    else:
        raise DeliverError(f"'{path.suffix}' is not a file of shapes; end the name with .json, .csv or .svg.")
    return len({f for shape in found for f in shape.points})


def sampled_outlines(shot: Shot, matte: Matte, samples: int = 0) -> list[Outlines]:
    """A matte's shapes over the shot's range, each with its own points, or so many evenly spaced ones."""
    frames, carried = range(shot.range[0], shot.range[1] + 1), Carrier(shot, matte)
    names = [s.name for s in matte.shapes]
    found = []
    for number, shape in enumerate(matte.shapes):
        places = {f: carried.controls(shape, f) for f in frames}
        known = {f: p for f, p in places.items() if p is not None and np.isfinite(p).all()}
        name = shape.name if names.count(shape.name) == 1 else f"{shape.name} {number + 1}"
        found.append(_sampled(shape, known, name, samples) if samples else _outlines(shape, known, name))
    return found


def _outlines(shape: MatteShape, known: dict[int, np.ndarray], name: str) -> Outlines:
    handles = {f: c.reshape(-1, 3, 2)[:, 1:] for f, c in known.items()} if shape.handled else {}
    roundness, inner, outer = (np.array(v) for v in (shape.roundness, shape.inner, shape.outer))
    return Outlines(name, shape.combine, {f: shape.points_of(c) for f, c in known.items()}, roundness, inner, outer, handles, shape.closed,
                    np.array(shape.stroke.widths if shape.stroke is not None else ()))


def _sampled(shape: MatteShape, known: dict[int, np.ndarray], name: str, samples: int) -> Outlines:
    """A shape with so many points in place of its own, evenly spaced along it."""
    if samples < 3:
        raise DeliverError("An outline needs at least three points.")
    points = {}
    for frame, controls in known.items():
        line, _ = flattened(shape.curves(controls), shape.closed)
        line = np.vstack([line, line[:1]]) if shape.closed else line
        length = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
        at = np.linspace(0, length[-1], samples, endpoint=not shape.closed)
        points[frame] = np.column_stack([np.interp(at, length, line[:, k]) for k in (0, 1)])
    none = np.zeros(samples)
    widths = np.full(samples, float(np.mean(shape.stroke.widths))) if shape.stroke is not None else np.zeros(0)
    return Outlines(name, shape.combine, points, none, none, none, {}, shape.closed, widths)


def import_shapes(shot: Shot, ident: str, path: Path, scaled: bool = False) -> Shot:
    """The shot with the shapes of a .json, .csv or .svg file added to a matte, with a key on each of their frames.

    Parameters
    ----------
    scaled : shapes of a picture of another size are scaled to the plate's.

    Raises
    ------
    OtherSize
        When they are of a picture of another size, and are not to be scaled.
    DeliverError
        When the file cannot be read.
    RegionError
        When the matte is gone, or its track has no answer on a frame of theirs.
    """
    readers = {".svg": shapes_svg.read, ".csv": shapes_csv.read, ".json": shapes_json.read}
    if path.suffix.lower() not in readers:
        raise DeliverError(f"'{path.suffix}' is not a file of shapes; choose a .json, .csv or .svg file.")
    for outline in readers[path.suffix.lower()](path):
        if outline.size is not None and shot.plate is not None:
            outline = outlines_scaled(outline, scale_to(path.name, outline.size, shot.plate.size, scaled))
        frames = sorted(outline.points)
        first, *rest = frames
        width = float(outline.widths.mean()) if len(outline.widths) else 0.0
        at = first if shot.range[0] <= first <= shot.range[1] or rest else matte_of(shot, ident).frame
        shot = add_shape(shot, ident, outline.points[first], at, combine=outline.combine, width=width, closed=outline.closed)  # type: ignore[arg-type]
        shape = matte_of(shot, ident).shapes[-1]
        values: dict[str, Any] = {k: tuple(float(v) for v in getattr(outline, k)) for k in ("roundness", "inner", "outer")}
        if shape.stroke is not None:
            values["stroke"] = shape.stroke.but(widths=tuple(float(v) for v in outline.widths))
        if outline.handles:
            values |= {"handled": True, "keys": {f: tuple(p for p in k for _ in range(3)) for f, k in shape.keys.items()}}
        shot = set_item(shot, matte_of(shot, ident).with_shape(shape.but(name=outline.name[:200] or "Shape", **values)))
        for frame in frames if outline.handles else rest:
            controls = outline.points[frame]
            if outline.handles:
                controls = np.concatenate([controls[:, None], outline.handles[frame]], axis=1).reshape(-1, 2)
            shot = key_shape(shot, ident, shape.id, at if frame == first else frame, controls)
    return shot
