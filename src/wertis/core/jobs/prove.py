"""Proof that an export arrives: the receiver's stand-in rebuilds the picture from the file, and both pictures are compared."""

import tempfile
from collections.abc import Callable, Container, Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

import numpy as np

from wertis.core.comp.artwork import checker
from wertis.core.comp.picture import Compositor
from wertis.core.errors import DeliverError, PlateError
from wertis.core.exchange import motion_json
from wertis.core.exchange.laid_out import mesh_in
from wertis.core.exchange.layout import Layout
from wertis.core.exchange.motion_json import Kind, MotionFile
from wertis.core.exchange.pictures import write_picture
from wertis.core.geometry import homography
from wertis.core.geometry.motion import carried
from wertis.core.jobs.events import Counter, Event, Stop, stopped
from wertis.core.jobs.export import (
    CAMERA_WRITERS,
    MESH_WRITERS,
    animated_mesh,
    export_camera,
    export_shapes,
    mesh_layout,
    mesh_precision,
    sampled_outlines,
)
from wertis.core.jobs.motion_export import layout_of, motion_file
from wertis.core.jobs.receiver_process import ReceiverProcess
from wertis.core.plate import colour
from wertis.core.plate.base import Plate
from wertis.core.shot.artwork import Artwork
from wertis.core.shot.cameras import plane_corners
from wertis.core.shot.document import Placement, Shot, Track
from wertis.core.shot.edits import as_points, placement_on
from wertis.core.shot.match import NO_MATCH
from wertis.core.shot.matte_alpha import matte_alpha
from wertis.core.shot.mattes import Matte
from wertis.core.shot.placing import proportions_in
from wertis.core.shot.pose import Pose
from wertis.core.shot.resolve import motion_of

_RIGHT = 0.05  # pixels within which a file counts as understood
_CARRIES: tuple[Kind, ...] = ("corners", "matrices", "points")


class ProvedFrame(NamedTuple):
    """A frame, rebuilt by the receiver.

    Attributes
    ----------
    frame : the plate's.
    corners : most pixels by which a corner is elsewhere than in Wertis.
    difference : mean difference of the pictures inside the placement, in 255ths.
    ours, theirs : (h, w, 3) uint8.
    """

    frame: int
    corners: float
    difference: float
    ours: np.ndarray
    theirs: np.ndarray


class Proof(NamedTuple):
    """What came of it: the frames, and what is wrong in words; empty where nothing is."""

    frames: list[ProvedFrame]
    wrong: str


def prove(shot: Shot, track: Track, placement: Placement, kind: Kind, suffix: str, layout: Layout, plate: Plate, frames: Sequence[int],
          believed: Layout | None = None, read: Callable[[int], np.ndarray] | None = None, stop: Stop | None = None,
          relative: bool = False) -> Iterator[Event]:
    """Export, let the receiver rebuild frames, and compare; the last event's item is the `Proof`.

    Parameters
    ----------
    kind : corners, matrices or points.
    suffix : .json or .csv.
    believed : how the receiver takes the numbers, where that is not what the file says.
    relative : corners and points are written relative to the reference frame.

    Raises
    ------
    DeliverError
        When there is nothing to export, or the receiver cannot be run.
    """
    if kind not in _CARRIES:
        raise DeliverError(f"{kind.capitalize()} alone do not say where artwork lies; prove corners, matrices or points.")
    fetch, plain = read or plate.read, _plain(placement).but(pose=placement.pose if kind == "corners" else Pose())
    body = motion_file(shot, track, kind, layout, plain, relative=relative)
    held = {layout.frame_back(f) for f in (*body.frames, *(f for t in body.tracks.values() for f in t))}
    alone, compositor = shot.but(items=(plain,), mixing="plate"), Compositor()
    with tempfile.TemporaryDirectory() as name, ReceiverProcess(Path(name)) as receiver:
        folder = Path(name)
        motion_json.write(folder / f"motion{suffix}", body)
        art = _artwork(compositor, alone, plain, folder)

        def rebuilt(frame: int) -> ProvedFrame:
            picture, corners = fetch(frame), placement_on(alone, plain, frame)
            assert corners is not None
            write_picture(folder / "plate.png", colour.shown(picture))
            theirs, places = _received(receiver, folder, suffix, body, layout, believed, frame, art, plain)
            return _compared(frame, colour.shown(compositor.comp(alone, picture, frame)), theirs, colour.shown(picture), places, corners)

        yield from _proved(frames, held, rebuilt, lambda found: _named(shot, body, layout, believed, plain, found), stop)


def prove_mesh(shot: Shot, track: Track, placement: Placement, suffix: str, plate: Plate, frames: Sequence[int], layout: Layout | None = None,
               read: Callable[[int], np.ndarray] | None = None, stop: Stop | None = None) -> Iterator[Event]:
    """Export a mesh (.json, .usd, .glb, .gltf, .obj), let the receiver rebuild frames, and compare; the last event's item is the `Proof`, whose `corners`
    are the vertices.

    Raises
    ------
    DeliverError
        When there is no mesh, or the receiver cannot be run.
    """
    if suffix not in MESH_WRITERS:
        raise DeliverError(f"'{suffix}' is no file of a mesh that can be proved; choose one of {', '.join(MESH_WRITERS)}.")
    fetch, plain = read or plate.read, _plain(placement).but(pose=Pose())
    mesh, written = animated_mesh(shot, track, mesh_precision(suffix)), mesh_layout(suffix, layout or layout_of(shot))
    alone, compositor = shot.but(items=(plain,), mixing="plate"), Compositor()
    home = carried(motion_of(track), plain.array, plain.frame, mesh.reference) if plain.frame != mesh.reference else plain.array  # type: ignore[arg-type]
    with tempfile.TemporaryDirectory() as name, ReceiverProcess(Path(name)) as receiver:
        folder = Path(name)
        MESH_WRITERS[suffix](folder / f"mesh{suffix}", mesh_in(mesh, written))
        art = _artwork(compositor, alone, plain, folder)

        def rebuilt(frame: int) -> ProvedFrame:
            picture = fetch(frame)
            write_picture(folder / "plate.png", colour.shown(picture))
            number = written.frame(frame)
            file = folder / (f"mesh.{number:04d}.obj" if suffix == ".obj" else f"mesh{suffix}")
            theirs, places = receiver.rebuilt([str(file), "--mesh", "--artwork", str(art), "--frame", str(number),
                                               "--corners", _said(written.points(home))])
            return _compared(frame, colour.shown(compositor.comp(alone, picture, frame)), theirs, colour.shown(picture), places, mesh.places[frame])

        yield from _proved(frames, mesh.places, rebuilt, lambda found: f"Vertices are off by up to {_most(found):.2f} px.", stop)


def prove_shapes(shot: Shot, matte: Matte, suffix: str, plate: Plate, frames: Sequence[int], layout: Layout | None = None,
                 stop: Stop | None = None) -> Iterator[Event]:
    """Export a matte's shapes (.json, .csv, .svg), let the receiver fill them, and compare; the last event's item is the `Proof`, whose `corners` are the
    shapes' points and whose pictures are mattes.

    Soft edges, growing, blur and lines are left out on both sides: such files hold outlines.

    Raises
    ------
    DeliverError
        When there is nothing to export, or the receiver cannot be run.
    """
    hard = matte.but(shapes=tuple(s.but(inner=(0.0,) * len(s.inner), outer=(0.0,) * len(s.outer), grow=0.0, opacity=1.0, visible=True, group="")
                                  for s in matte.shapes if s.closed and s.stroke is None),
                     grow=0.0, shutter=0.0, invert=False, opacity=1.0, edge="drawn", groups=())
    with_hard = shot.with_item(hard)
    w, h = plate.size
    written = layout or layout_of(shot)
    with tempfile.TemporaryDirectory() as name, ReceiverProcess(Path(name)) as receiver:
        folder = Path(name)
        export_shapes(with_hard, hard, folder / f"shapes{suffix}", layout=written)
        outlines = sampled_outlines(with_hard, hard)
        write_picture(folder / "plate.png", np.zeros((h, w, 3), np.uint8))

        def rebuilt(frame: int) -> ProvedFrame:
            theirs, places = receiver.rebuilt([str(folder / f"shapes{suffix}"), "--shapes", "--frame", str(written.frame(frame))])
            alpha = np.asarray(np.round(255 * matte_alpha(with_hard, hard, frame, plate.size)), np.uint8)
            points = np.concatenate([o.points[frame] for o in outlines if frame in o.points])
            return _compared(frame, np.repeat(alpha[..., None], 3, 2), theirs, np.zeros((h, w, 3), np.uint8), places, points)

        held = {f for o in outlines for f in o.points}
        yield from _proved(frames, held, rebuilt, lambda found: f"Points are off by up to {_most(found):.2f} px.", stop)


def prove_camera(shot: Shot, track: Track, suffix: str, plate: Plate, frames: Sequence[int], layout: Layout | None = None,
                 read: Callable[[int], np.ndarray] | None = None, stop: Stop | None = None) -> Iterator[Event]:
    """Export the solved camera with its planes (.json, .usd, .glb, .gltf), let the receiver lay a checker on a track's plane, and compare with one that
    Wertis lays there; the last event's item is the `Proof`.

    Raises
    ------
    DeliverError
        When the track lies on no plane of a camera, or the receiver cannot be run.
    """
    if suffix not in CAMERA_WRITERS:
        raise DeliverError(f"'{suffix}' is no file of a camera that can be proved; choose one of {', '.join(CAMERA_WRITERS)}.")
    planes = plane_corners(shot) if shot.camera is not None else {}
    if track.name not in planes:
        raise DeliverError(f"{track.name} lies on no plane of a solved camera; choose Camera as its motion in the step Track.")
    fetch, written = read or plate.read, (layout or layout_of(shot)).upright
    motion, region = motion_of(track), track.region
    assert motion is not None
    grid = Placement(id="proof", on=track.id, name="Proof", frame=region.frame, quad=as_points(region.box), artwork=Artwork(kind="checker"), fit="stretch")
    alone, compositor = shot.but(items=(grid,), mixing="plate"), Compositor()
    with tempfile.TemporaryDirectory() as name, ReceiverProcess(Path(name)) as receiver:
        folder = Path(name)
        export_camera(shot, folder / f"camera{suffix}", written)
        art = _artwork(compositor, alone, grid, folder)

        def rebuilt(frame: int) -> ProvedFrame:
            picture, corners = fetch(frame), placement_on(alone, grid, frame)
            assert corners is not None
            write_picture(folder / "plate.png", colour.shown(picture))
            theirs, places = receiver.rebuilt([str(folder / f"camera{suffix}"), "--camera", "--plane", track.name, "--artwork", str(art),
                                           "--frame", str(written.frame(frame))])
            return _compared(frame, colour.shown(compositor.comp(alone, picture, frame)), theirs, colour.shown(picture), places, corners)

        held = {f for f in frames if np.isfinite(carried(motion, region.box, region.frame, f)).all()}
        yield from _proved(frames, held, rebuilt, lambda found: f"Corners are off by up to {_most(found):.2f} px.", stop)


def _proved(frames: Sequence[int], held: Container[int], rebuilt: Callable[[int], ProvedFrame], told: Callable[[list[ProvedFrame]], str],
            stop: Stop | None) -> Iterator[Event]:
    """Rebuild the frames that the file holds one after another; `told` says what is wrong where one is off."""
    count, found = Counter(len(frames)), []
    for frame in frames:
        if stopped(stop):
            return
        note = "the file has nothing for it"
        if frame in held:
            try:
                found.append(rebuilt(frame))
                note = f"off by {found[-1].corners:.3f} px"
            except PlateError as why:
                note = str(why)
        yield count.event(frame, note=note)
    yield Event(None, count.total, count.total, Proof(found, told(found) if found and _most(found) > _RIGHT else ""))


def _most(found: Sequence[ProvedFrame]) -> float:
    return max(f.corners for f in found)


def _plain(placement: Placement) -> Placement:
    """A placement with nothing but its artwork, as a receiver lays it."""
    return placement.but(match=NO_MATCH, blend="normal", opacity=1.0, shadow=None, inner_shadow=None, thickness=None, held_back=(), limited_to=(),
                         tiles=(1.0, 1.0), fit="stretch",
                         artwork=placement.artwork if placement.artwork.kind == "picture" else Artwork(kind="checker"))


def _compared(frame: int, ours: np.ndarray, theirs: np.ndarray, bare: np.ndarray, places: np.ndarray, meant: np.ndarray) -> ProvedFrame:
    """What came of a frame, the (n, 2) points as read and as meant; the pictures differ where either is not the bare plate."""
    inside = (np.abs(ours.astype(int) - bare).max(2) > 0) | (np.abs(theirs.astype(int) - bare).max(2) > 0)
    difference = float(np.abs(ours.astype(float) - theirs)[inside].mean()) if inside.any() else 0.0
    return ProvedFrame(frame, float(np.linalg.norm(places - meant, axis=1).max()), difference, ours, theirs)


def _said(points: np.ndarray) -> str:
    return " ".join(f"{x:.9f},{y:.9f}" for x, y in points)


def _artwork(compositor: Compositor, shot: Shot, placement: Placement, folder: Path) -> Path:
    """The artwork as a file that the receiver reads."""
    if placement.artwork.kind == "picture":
        return Path(placement.artwork.path)
    path = folder / "artwork.png"
    made = checker(proportions_in(shot, placement), placement.artwork.cells)
    write_picture(path, np.asarray(np.round(made[..., :3] * 255), np.uint8))
    return path


def _received(receiver: ReceiverProcess, folder: Path, suffix: str, body: MotionFile, layout: Layout, believed: Layout | None, frame: int, art: Path,
              placement: Placement) -> tuple[np.ndarray, np.ndarray]:
    """The picture that the receiver made, and where it put the corners."""
    call = [str(folder / f"motion{suffix}"), "--artwork", str(art), "--frame", str(layout.frame(frame))]
    if body.kind == "matrices":
        call += ["--corners", _said(layout.points(_home_corners(body, layout, placement)))]
    if believed is not None:
        call += ["--y", "up" if believed.y_up else "down", "--centre", believed.centre, "--units", believed.units]
    return receiver.rebuilt(call)


def _home_corners(body: MotionFile, layout: Layout, placement: Placement) -> np.ndarray:
    """(4, 2) the placement's corners on the file's reference frame."""
    home = layout.frame_back(body.reference)
    if home == placement.frame:
        return placement.array
    rows = {layout.frame_back(f): layout.homography_back(np.array(r).reshape(3, 3)) for f, r in body.frames.items()}
    return homography.apply(np.linalg.inv(rows[placement.frame]), placement.array)


def _named(shot: Shot, body: MotionFile, layout: Layout, believed: Layout | None, placement: Placement, found: list[ProvedFrame]) -> str:
    """Which option of the receiver's is wrong, where one of them explains what is off."""
    worst = max(found, key=lambda f: f.corners)
    if believed is not None:
        for name, words in (("y_up", "which way y grows"), ("centre", "where the first pixel's centre is"), ("units", "pixels or shares of the picture")):
            if getattr(believed, name) != getattr(layout, name):
                mended = believed.model_copy(update={name: getattr(layout, name)})
                if all(getattr(mended, n) == getattr(layout, n) for n in ("y_up", "centre", "units")):
                    return f"The receiver takes the numbers otherwise than the file means them: {words} (up to {worst.corners:.1f} px)."
        return f"The receiver takes several things otherwise than the file means them (up to {worst.corners:.1f} px)."
    if shot.plate is not None and body.kind == "matrices" and worst.corners > _RIGHT:
        return f"A matrix does not hold all of this motion: it is off by up to {worst.corners:.2f} px. Export the mesh, or a coordinate map."
    return f"The corners are off by up to {worst.corners:.2f} px."
