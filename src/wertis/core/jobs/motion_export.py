"""Motion of tracks for other applications: corners, matrices, transforms, points, coordinate maps and motion vectors in the receiver's layout."""

from collections import deque
from collections.abc import Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np

from wertis.core.errors import DeliverError
from wertis.core.exchange import motion_json
from wertis.core.exchange.coordinate_maps import PLACES, VECTORS, write_map
from wertis.core.exchange.layout import Layout
from wertis.core.exchange.motion_json import Kind, MotionFile
from wertis.core.files import numbered
from wertis.core.geometry import homography, quad
from wertis.core.geometry.motion import Motion, between, carried
from wertis.core.geometry.warp import HomographyWarp, Warp, pixel_centres
from wertis.core.jobs.events import Counter, Event, Stop, stopped
from wertis.core.shot.cameras import solved_camera
from wertis.core.shot.document import Placement, Shot, Track
from wertis.core.shot.pose import pose_values
from wertis.core.shot.resolve import motion_of

LENS_MAPS = ("straight map", "lens map")
"""Of a solved camera's lens: what takes it out of the plate, and what puts it back."""
KINDS: tuple[Kind, ...] = ("corners", "inverse corners", "matrices", "transforms", "points")
MAPS = ("map", "inverse map", "vectors")
"""Of the picture: "map" says for a pixel of the frame which place of the reference frame is seen there, "inverse map" the other way round; "vectors" how
far it moves to the next frame and to the one before."""

_WRITERS = 2  # pictures being written while the next is made
_BAND = 64  # rows of a picture at a time, so that what is between stays in the processor's cache


def layout_of(shot: Shot, **options: Any) -> Layout:
    """The plate's layout with some options of `Layout` changed."""
    if shot.plate is None:
        raise DeliverError("A shot without a plate has no coordinates; open a plate first.")
    return Layout(size=shot.plate.size, start=shot.range[0], **options)


def motion_file(shot: Shot, track: Track, kind: Kind, layout: Layout, placement: Placement | None = None, reference: int | None = None,
                frames: range | None = None, repaired: bool = True, relative: bool = False) -> MotionFile:
    """A track's motion.

    Parameters
    ----------
    placement : whose corners go out; the region's, or the box round it, when None.
    reference : frame that matrices, transforms and the steadying pin are relative to; the track's own when None.
    frames : the shot's range when None.
    repaired : with the track's layers on top of what was tracked.
    relative : in the file, corners, points and a transform's anchor stand relative to the reference frame.

    Raises
    ------
    DeliverError
        When the track has no motion, or none on the reference frame.
    """
    bare = track if repaired else track.but(layers=())
    motion = motion_of(bare)
    if motion is None or shot.plate is None:
        raise DeliverError(f"{track.name} has not been tracked; track it before you export it.")
    home = track.region.frame if reference is None else reference
    wanted = range(shot.range[0], shot.range[1] + 1) if frames is None else frames
    if between(motion, home, home) is None and motion.at(home) is None and home != track.reference:
        raise DeliverError(f"{track.name} is not tracked on frame {home}; choose another reference frame.")
    body = MotionFile(kind=kind, layout=layout, track=track.name, fps=shot.plate.fps, pixel_aspect=shot.plate.aspect, reference=layout.frame(home),
                      relative=relative)
    if kind == "points":
        body.tracks = _points(track, motion, layout, wanted, placement)
        return body
    outline = _outline(track, motion, home, placement)
    if kind == "transforms":
        body.anchor = tuple(float(v) for v in layout.points(outline.mean(0)))  # type: ignore[assignment]
    for frame in wanted:
        row = _row(shot, motion, kind, layout, placement, outline, home, frame)
        if row is not None and np.isfinite(row).all():
            body.frames[layout.frame(frame)] = [float(v) for v in np.ravel(row)]
    if not body.frames:
        raise DeliverError(f"{track.name} has no answer in the range {wanted[0]} to {wanted[-1]}; set another range.")
    return body


def _outline(track: Track, motion: Motion, home: int, placement: Placement | None) -> np.ndarray:
    """(4, 2) corners on the reference frame."""
    if placement is not None:
        return carried(motion, placement.array, placement.frame, home) if placement.frame != home else placement.array
    corners = track.region.corners if track.region.corners is not None else track.region.box
    return carried(motion, corners, track.region.frame, home) if track.region.frame != home else corners


def _row(shot: Shot, motion: Motion, kind: Kind, layout: Layout, placement: Placement | None, outline: np.ndarray, home: int,
         frame: int) -> np.ndarray | None:
    if kind == "corners":
        if placement is not None:
            quad_ = placement.quad_at(frame)
            moved = quad_ if frame == placement.frame else carried(motion, quad_, placement.frame, frame)
        else:
            moved = outline if frame == home else carried(motion, outline, home, frame)
        return layout.points(moved)
    warp: Warp | None = HomographyWarp(np.eye(3)) if frame == home else between(motion, home, frame)
    if warp is None:
        return None
    if kind == "inverse corners":
        assert shot.plate is not None
        return layout.points(warp.inverse(quad.UNIT_SQUARE * shot.plate.size))
    matrix = warp.matrix
    if matrix is None:  # a surface that bends: the plane through its corners is what a matrix can hold
        there = warp.forward(outline)
        if not np.isfinite(there).all():
            return None
        matrix = homography.from_points(outline, there)
    if kind == "matrices":
        return layout.homography(matrix)
    return _transform(layout.homography(matrix), layout.points(outline), layout, warp, outline)


def _transform(matrix: np.ndarray, outline: np.ndarray, layout: Layout, warp: Warp, corners: np.ndarray) -> np.ndarray:
    """(7,) the affine motion nearest to a warp over a surface's corners, and by how many of the plate's pixels it is off there at most."""
    u, v = np.meshgrid(np.linspace(0, 1, 5), np.linspace(0, 1, 5))
    inner = homography.apply(homography.from_unit_square(corners), np.column_stack([u.ravel(), v.ravel()]))
    source, target = layout.points(inner), layout.points(warp.forward(inner))
    anchor = outline.mean(0)
    basis = np.column_stack([source - anchor, np.ones(len(source))])
    found = np.linalg.lstsq(basis, target, rcond=None)[0]
    affine = np.eye(3)
    affine[:2, :2], affine[:2, 2] = found[:2].T, found[2]
    values = pose_values(affine, 1.0, (0.0, 0.0))
    off = np.linalg.norm(layout.back(basis @ found) - layout.back(target), axis=1).max()
    shear = -np.tan(np.deg2rad(values.skew))
    return np.array([affine[0, 2], affine[1, 2], values.across, values.along, values.turn, shear, off])


def _points(track: Track, motion: Motion, layout: Layout, frames: range, placement: Placement | None) -> dict[str, dict[int, list[float]]]:
    """Points of a track of points, else the corners."""
    solution = track.solution
    names, places, home = ["1", "2", "3", "4"], _outline(track, motion, track.region.frame, placement), track.region.frame
    if solution is not None and getattr(solution, "kind", "") == "points":
        names, places, home = list(solution.names), np.asarray(solution.points), solution.reference  # type: ignore[attr-defined]
    found: dict[str, dict[int, list[float]]] = {name: {} for name in names}
    for frame in frames:
        moved = places if frame == home else carried(motion, places, home, frame)
        own = _own_places(solution, frame) if home != frame else None
        moved = own if own is not None else moved
        sure = motion.uncertainty(places, frame)
        for name, place, error in zip(names, layout.points(moved), sure, strict=True):
            if np.isfinite(place).all():
                found[name][layout.frame(frame)] = [float(place[0]), float(place[1]), float(1 / (1 + error ** 2)) if np.isfinite(error) else 0.0]
    return found


def _own_places(solution: object, frame: int) -> np.ndarray | None:
    """(N, 2) where a track of points has its points on a frame, each by itself; None where it has none of its own."""
    if getattr(solution, "kind", "") != "points":
        return None
    at = np.flatnonzero(np.asarray(solution.frames) == frame)  # type: ignore[attr-defined]
    return np.asarray(solution.places[at[0]]) if len(at) else None  # type: ignore[attr-defined]


def export_motion(shot: Shot, track: Track, kind: Kind, path: Path, layout: Layout, placement: Placement | None = None, **options: Any) -> int:
    """Write a track's motion as .json, .csv or, for points, .txt; how many frames it has. Options as for `motion_file`."""
    body = motion_file(shot, track, kind, layout, placement, **options)
    motion_json.write(path, body)
    return len(body.frames) or max((len(t) for t in body.tracks.values()), default=0)


def write_maps(shot: Shot, track: Track, kind: str, pattern: str, layout: Layout, reference: int | None = None,
               stop: Stop | None = None, frames: Sequence[int] | None = None) -> Iterator[Event]:
    """Write a coordinate map for each frame of the range; an event's note says why a frame has none.

    Parameters
    ----------
    kind : of `MAPS`.
    pattern : such as folder/map.####.exr.
    frames : the shot's range when None.

    Raises
    ------
    DeliverError
        When the track has no motion, or a file cannot be written.
    """
    motion = motion_of(track)
    if motion is None or shot.plate is None:
        raise DeliverError(f"{track.name} has not been tracked; track it before you export it.")
    if not pattern.lower().endswith(".exr") or numbered(Path(pattern), 1) is None:
        raise DeliverError(f"Coordinate maps are a sequence of EXR files; {Path(pattern).name} needs #### for the frame's number and .exr at its end.")
    home = track.region.frame if reference is None else reference
    w, h = shot.plate.size
    what = ("forward.u, forward.v, backward.u, backward.v: how far each pixel moves to the next frame, and to the one before" if kind == "vectors" else
            f"red and green say for each pixel of the frame which place of frame {layout.frame(home)} is seen there" if kind == "map" else
            f"red and green say for each pixel of frame {layout.frame(home)} where it is in this frame")
    words = f"{what}; {layout.words()}; alpha 1 where that is known"
    wanted = frames if frames is not None else range(shot.range[0], shot.range[1] + 1)
    count = Counter(len(wanted))
    with ThreadPoolExecutor(_WRITERS, thread_name_prefix="wertis-maps") as pool:
        begun: deque[tuple[int, Future[None]]] = deque()
        for frame in wanted:
            if stopped(stop):
                break
            warp: Warp | None = HomographyWarp(np.eye(3)) if frame == home else between(motion, home, frame)
            if warp is None:
                yield count.event(frame, note=f"{track.name} is lost there")
                continue
            path = numbered(Path(pattern), layout.frame(frame))
            assert path is not None
            if kind == "vectors":
                pixels = _vector_pixels([between(motion, frame, other) for other in (frame + 1, frame - 1)], layout, (w, h))
            else:
                pixels = _map_pixels(warp, kind == "map", layout, (w, h))
            if len(begun) == _WRITERS:  # no more pictures in memory than are being written
                done, writing = begun.popleft()
                writing.result()
                yield count.event(done)
            begun.append((frame, pool.submit(write_map, path, pixels, layout, words, layout.frame(home), VECTORS if kind == "vectors" else PLACES)))
        for done, writing in begun:
            writing.result()
            yield count.event(done)


def _vector_pixels(warps: Sequence[Warp | None], layout: Layout, size: tuple[int, int]) -> np.ndarray:
    """(h, w, 5) float32: the way of each pixel to the next frame and to the one before, as it is written, and whether it is known."""
    w, h = size
    here = pixel_centres((0, 0, w, h))
    out = np.zeros((h, w, 5), np.float32)
    out[..., 4] = 1
    for k, warp in enumerate(warps):
        if warp is None:  # at the ends of what is tracked there is no way to tell
            continue
        there = warp.forward(here)
        known = np.isfinite(there).all(-1)
        out[..., 2 * k:2 * k + 2] = np.where(known[..., None], layout.points(there) - layout.points(here), 0)
        out[..., 4] *= known
    return out


def _map_pixels(warp: Warp, backwards: bool, layout: Layout, size: tuple[int, int]) -> np.ndarray:
    """(h, w, 4) float32: places in the layout as red and green, and alpha."""
    w, h = size
    out = np.zeros((h, w, 4), np.float32)
    plane = warp.matrix if warp.matrix is None or not backwards else np.linalg.inv(warp.matrix)
    rows = _BAND if plane is not None else h  # a bent surface is looked up as a whole
    written = layout.matrix  # upright: scales and a shift
    for top in range(0, h, rows):
        box = (0, top, w, min(top + rows, h))
        if plane is not None:
            x, y = homography.apply_to_grid(plane, np.arange(w) + 0.5, np.arange(top, box[3]) + 0.5)
        else:
            x, y = np.moveaxis(warp.inverse_map(box) if backwards else warp.forward(pixel_centres(box)), -1, 0)
        # outside the reference frame's picture nothing was seen; comparisons with nan are false
        known = (x >= 0) & (x <= w) & (y >= 0) & (y <= h) if backwards else np.isfinite(x) & np.isfinite(y)
        band = out[top:box[3]]
        band[..., 0] = np.where(known, x * written[0, 0] + written[0, 2], 0)
        band[..., 1] = np.where(known, y * written[1, 1] + written[1, 2], 0)
        band[..., 3] = known
    return out


def write_lens_map(shot: Shot, kind: str, path: Path, layout: Layout) -> None:
    """Write the map that takes the solved camera's lens out of the plate ("straight map": for each pixel of the straight picture the place of the plate
    that belongs there), or the one that puts it back ("lens map": for each pixel of the plate the place of the straight picture).

    Raises
    ------
    DeliverError
        When the shot has no solved camera, its lens bends nothing, or the file cannot be written.
    """
    if shot.camera is None or shot.plate is None:
        raise DeliverError("The shot has no solved camera whose lens could be taken out; solve it first (step Track, or wertis solve).")
    camera = solved_camera(shot).solved
    if not any(camera.radial):
        raise DeliverError("The camera was solved without lens terms, so that its pictures are straight already; solve it with them.")
    if path.suffix.lower() != ".exr":
        raise DeliverError(f"A lens map is an EXR file; end {path.name} with .exr.")
    w, h = shot.plate.size
    flat = (pixel_centres((0, 0, w, h)).reshape(-1, 2) - camera.principal) / camera.focal
    there = (camera.distorted(flat) if kind == "straight map" else camera.straight(flat)) * camera.focal + camera.principal
    data = np.ones((h, w, 4), np.float32)
    data[..., :2], data[..., 2] = layout.points(there).reshape(h, w, 2), 0
    data[..., 3] = ((there >= 0) & (there <= (w, h))).all(-1).reshape(h, w)
    whose = ("pixel of the straight picture the place of the plate" if kind == "straight map" else "pixel of the plate the place of the straight picture")
    write_map(path, data, layout, f"red and green say for each {whose} that belongs there; {layout.words()}; alpha 1 where that is inside")
