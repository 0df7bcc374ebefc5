"""Motion that was made elsewhere as a track: corners, matrices, transforms, points, animated meshes, coordinate maps; and solved cameras."""

import re
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import NamedTuple

import numpy as np
import platformdirs
import scipy

from wertis.core.errors import DeliverError
from wertis.core.exchange import animated_mesh, camera_json, camera_usd, corner_pin_json, gltf, motion_json
from wertis.core.exchange.animated_mesh import AnimatedMesh
from wertis.core.exchange.coordinate_maps import read_map
from wertis.core.exchange.laid_out import camera_scaled, mesh_back
from wertis.core.exchange.layout import Layout, OtherSize, scale_to
from wertis.core.exchange.motion_json import MotionFile
from wertis.core.files import read_text
from wertis.core.geometry import homography, quad
from wertis.core.geometry.camera import SolvedCamera
from wertis.core.geometry.displacement_field import DisplacementField, FieldWarp
from wertis.core.shot.cameras import camera_record
from wertis.core.shot.dense import DenseSettings, DenseSolution, spread_points
from wertis.core.shot.document import PlaneSolution, Region, Shot, Solution, Track, TrackSettings, new_id
from wertis.core.shot.edits import as_points, free_name
from wertis.core.shot.meshes import MeshSettings, MeshSolution
from wertis.core.shot.points import Pattern, PointsSettings, PointsSolution
from wertis.core.shot.retime import retimed
from wertis.core.track.features import FeatureTracks
from wertis.core.track.motion_store import MotionFolder

MESHES: dict[str, Callable[[Path], AnimatedMesh]] = {
    ".csv": animated_mesh.read_csv, ".json": animated_mesh.read_json, ".usd": animated_mesh.read_usd,
    ".usda": animated_mesh.read_usd, ".usdc": animated_mesh.read_usd,
    ".glb": gltf.read_mesh, ".gltf": gltf.read_mesh}
CAMERAS: dict[str, Callable[[Path], SolvedCamera]] = {
    ".json": camera_json.read_camera, ".usd": camera_usd.read_camera_usd, ".usda": camera_usd.read_camera_usd, ".usdc": camera_usd.read_camera_usd,
    ".glb": gltf.read_camera, ".gltf": gltf.read_camera}
_USUAL_ERROR = 0.1  # pixels that a point from elsewhere is taken to be off, where the file says nothing
_ROUND_POINTS = 8.0  # pixels that a region reaches beyond the outermost points
_LEAST_POINTS = 3
_SAME_RATE = 1e-3  # by which frame rates may differ: 24 and 23.976 are one for motion that is told frame by frame


class Imported(NamedTuple):
    """What came of a file.

    Attributes
    ----------
    shot : with it in it.
    track : the new track; None for a camera, which is the shot's.
    words : what it is.
    other_rate : frames a second at which it was made, where these are not the plate's and it was left as it is.
    """

    shot: Shot
    track: Track | None
    words: str
    other_rate: float | None = None


class _Found(NamedTuple):
    """A motion from a file, in the plate's pixels, as a track has it; settings None for a plane's."""

    name: str
    reference: int
    region: np.ndarray
    solution: Solution
    settings: TrackSettings | None
    words: str
    fps: float | None = None


Fit = Callable[[tuple[int, int]], np.ndarray]
"""Gives what pixels of a picture of a size are multiplied by (2,) to be the plate's; `OtherSize` where they are not to be scaled."""


def import_motion(shot: Shot, path: Path, layout: Layout | None = None, name: str = "", columns: Sequence[str] = (), scaled: bool = False,
                  folder: Path | None = None, retime: bool = False) -> Imported:
    """The shot with motion from a file: a track more, or the shot's camera.

    Parameters
    ----------
    path : a motion file or table, a corner pin, an animated mesh, a camera, or a sequence of OBJ files or coordinate maps (#### for its numbers).
    layout : of a table that says none of its own.
    columns : of a table with names of its own; see `motion_json.read`.
    scaled : a motion of a picture of another size is scaled to the plate's.
    folder : where coordinate maps are kept as dense motion; a place in the user's cache when None.
    retime : motion made at another frame rate than the plate's is brought to the plate's, the reference frame staying; otherwise that is only told.

    Raises
    ------
    OtherSize
        When it is of a picture of another size, and is not to be scaled.
    DeliverError
        When the file cannot be read, or holds nothing that can carry a surface.
    """
    if shot.plate is None:
        raise DeliverError("A shot without a plate has no place for motion; open a plate first.")
    suffix, track_id = path.suffix.lower(), new_id()
    kind = _kind_of(path)
    if kind == "camera":
        return _with_camera(shot, path, scaled)
    plate_size = shot.plate.size

    def fit(size: tuple[int, int]) -> np.ndarray:
        if kind == "maps" and tuple(size) != tuple(plate_size):
            raise OtherSize(f"{path.name} is of a picture of {size[0]} x {size[1]}, and the plate has {plate_size[0]} x {plate_size[1]}; open the plate "
                            "that it is of: coordinate maps are not scaled.")
        return scale_to(path.name, size, plate_size, scaled)

    if kind == "mesh":
        mesh = mesh_back(_obj_sequence(path, shot) if suffix == ".obj" else MESHES[suffix](path))
        found = _mesh(mesh, path, fit)._replace(fps=mesh.fps)
    elif kind == "maps":
        found = _maps(path, fit, folder or Path(platformdirs.user_cache_dir("wertis", appauthor=False)) / "motion" / track_id)
    elif kind == "pin":
        found = _pin(path, fit)
    else:
        body = motion_json.read(path, layout, columns)
        found = _motion(body, path, fit)._replace(fps=body.fps if "fps" in body.model_fields_set else None)
    found = _at_rate(found, path, shot.plate.fps, retime)
    other = found.fps if found.fps is not None and not retime and abs(found.fps / shot.plate.fps - 1) >= _SAME_RATE else None
    track = Track(id=track_id, name=free_name(name or found.name or path.stem.split(".")[0] or "Motion", [t.name for t in shot.tracks]),
                  region=Region(frame=found.reference, points=as_points(found.region)), solution=found.solution,
                  **({"settings": found.settings} if found.settings is not None else {}))
    return Imported(shot.with_track(track), track, found.words, other)


def _at_rate(found: _Found, path: Path, fps: float, retime: bool) -> _Found:
    """What was found at the plate's frame rate, where that is wanted; else with words on another one."""
    if found.fps is None or abs(found.fps / fps - 1) < _SAME_RATE:
        return found
    told = f"made at {found.fps:g} frames a second, and the plate has {fps:g}"
    if not retime:
        return found._replace(words=f"{found.words}, {told}")
    made = retimed(found.solution, found.fps / fps, quad.UNIT_SQUARE * np.ptp(found.region, axis=0) + found.region.min(0))
    if made is None:
        raise DeliverError(f"{path.name} is {told}; this kind of motion cannot be brought to another rate.")
    return found._replace(solution=made, words=f"{found.words}, {told}: brought to that")


def _kind_of(path: Path) -> str:
    """Which kind of motion a file holds, by its ending and what it says of itself."""
    suffix = path.suffix.lower()
    if suffix in (".csv", ".txt"):
        return "mesh" if animated_mesh.is_mesh_csv(path) else "motion"
    if suffix == ".json":
        said = re.search(r'"format"\s*:\s*"([^"]+)"', read_text(path)[:4096])
        return {animated_mesh.FORMAT: "mesh", camera_json.FORMAT: "camera", corner_pin_json.FORMAT: "pin"}.get(said.group(1) if said else "", "motion")
    if suffix == ".obj":
        return "mesh"
    if suffix == ".exr":
        return "maps"
    if suffix in MESHES:  # USD and glTF hold either
        try:
            CAMERAS[suffix](path)
        except DeliverError:
            return "mesh"
        return "camera"
    raise DeliverError(f"'{path.suffix}' is no file of motion; choose one that ends with .json, .csv, .txt, .usd, .glb, .gltf, .obj or .exr.")


# -- planes and points --------------------------------------------------------------------------------------------


def _motion(body: MotionFile, path: Path, fit: Fit) -> _Found:
    """What a motion file holds."""
    layout, size = body.layout, (int(body.layout.size[0]), int(body.layout.size[1]))
    by = fit(size)
    if body.kind == "points":
        return _points(body, path, by)
    rows = {layout.frame_back(f): np.array(row) for f, row in body.frames.items()}
    if not rows:
        raise DeliverError(f"{path.name} holds no frames; export it again.")
    home = layout.frame_back(body.reference)
    if body.kind == "corners":
        home = home if home in rows else min(rows)
        corners = {f: layout.back(row.reshape(4, 2)) for f, row in rows.items()}
        return _plane(by, body.track, home, corners[home], {f: homography.from_points(corners[home], c) for f, c in corners.items()}, "corners")
    if body.kind == "inverse corners":
        whole = quad.UNIT_SQUARE * size
        matrices = {f: homography.from_points(layout.back(row.reshape(4, 2)), whole) for f, row in rows.items()}
    elif body.kind == "transforms":
        if body.anchor is None:
            raise DeliverError(f"{path.name} does not say about which point its transforms are; export it again.")
        matrices = {f: layout.homography_back(_affine(row, np.array(body.anchor))) for f, row in rows.items()}
    else:
        matrices = {f: layout.homography_back(row.reshape(3, 3)) for f, row in rows.items()}
    if home not in matrices:
        raise DeliverError(f"{path.name} has no answer for its own reference frame {home}; export it again.")
    w, h = size
    return _plane(by, body.track, home, quad.UNIT_SQUARE * [w * 0.5, h * 0.5] + [w * 0.25, h * 0.25], matrices, body.kind)


def _affine(row: np.ndarray, anchor: np.ndarray) -> np.ndarray:
    """(3, 3) of a transform's numbers: rotation times shear times scales about an anchor."""
    x, y, sx, sy, turn, shear = row[:6]
    c, s = np.cos(np.deg2rad(turn)), np.sin(np.deg2rad(turn))
    out = np.eye(3)
    out[:2, :2] = np.array([[c, -s], [s, c]]) @ np.array([[1, shear], [0, 1]]) @ np.diag([sx, sy])
    out[:2, 2] = [x, y] - out[:2, :2] @ anchor
    return out


def _pin(path: Path, fit: Fit) -> _Found:
    pin = corner_pin_json.read(path)
    corners = pin.arrays()
    home = pin.reference if pin.reference in corners else min(corners, default=0)
    if not corners:
        raise DeliverError(f"{path.name} holds no frames; export it again.")
    found = _plane(fit((pin.width, pin.height)), pin.track, home, corners[home],
                   {f: homography.from_points(corners[home], c) for f, c in corners.items()}, "a corner pin")
    return found._replace(fps=pin.fps)


def _plane(by: np.ndarray, name: str, home: int, region: np.ndarray, matrices: dict[int, np.ndarray], what: str) -> _Found:
    frames, scale = sorted(matrices), np.diag([*by, 1.0])
    rows = np.array([scale @ matrices[f] @ np.linalg.inv(scale) for f in frames])
    solution = PlaneSolution(reference=home, frames=np.array(frames, np.int64), matrices=rows, errors=np.zeros(len(frames)), seen=np.ones(len(frames)))
    return _Found(name, home, region * by, solution, None, f"{what} on {len(frames)} frames")


def _points(body: MotionFile, path: Path, by: np.ndarray) -> _Found:
    """Points as a track of points, each with its own way."""
    layout, names = body.layout, list(body.tracks)
    if not names:
        raise DeliverError(f"{path.name} holds no points; export it again.")
    tracks = {n: {layout.frame_back(f): np.array(row) for f, row in body.tracks[n].items()} for n in names}
    frames = sorted({f for t in tracks.values() for f in t})
    home = layout.frame_back(body.reference)
    if home not in frames:
        home = frames[0]
    names = [n for n in names if home in tracks[n]]
    if not names:
        raise DeliverError(f"No point of {path.name} is on frame {home}; give it a frame on which some are.")
    places = np.full((len(frames), len(names), 2), np.nan)
    errors = np.full(places.shape[:2], np.inf)
    for k, frame in enumerate(frames):
        for j, n in enumerate(names):
            row = tracks[n].get(frame)
            if row is not None:
                places[k, j] = layout.back(row[:2])
                sure = float(row[2]) if len(row) > 2 else 1 / (1 + _USUAL_ERROR ** 2)
                errors[k, j] = np.sqrt(max(1 / max(sure, 1e-6) - 1, 0.0))
    places, errors = places * by, errors * float(by.mean())
    points, measured = places[frames.index(home)], np.isfinite(places).all(-1)
    model = {1: "shift", 2: "similarity", 3: "affine"}.get(len(names), "perspective")
    settings = PointsSettings(points=points, names=tuple(names), patterns=(Pattern(),) * len(names), model=model)  # type: ignore[arg-type]
    solution = PointsSolution(reference=home, points=points, names=tuple(names), frames=np.array(frames, np.int64), places=places, errors=errors,
                              matches=measured.astype(float), measured=measured, model=model)  # type: ignore[arg-type]
    low, high = points.min(0) - _ROUND_POINTS, points.max(0) + _ROUND_POINTS
    return _Found(body.track, home, quad.UNIT_SQUARE * (high - low) + low, solution, settings, f"{len(names)} points on {len(frames)} frames")


# -- surfaces that bend -------------------------------------------------------------------------------------------


def _mesh(mesh: AnimatedMesh, path: Path, fit: Fit) -> _Found:
    frames = sorted(mesh.places)
    if not frames or len(mesh.vertices) < _LEAST_POINTS or not len(mesh.triangles):
        raise DeliverError(f"{path.name} holds no mesh that could carry anything; export it again.")
    by, count = fit(mesh.size), len(mesh.vertices)
    places, vertices = np.array([mesh.places[f] for f in frames]) * by, mesh.vertices * by
    errors = np.array([mesh.errors.get(f, np.full(count, _USUAL_ERROR)) for f in frames], float) * float(by.mean())
    seen = np.array([mesh.seen.get(f, np.ones(count, bool)) for f in frames], bool)
    solution = MeshSolution(reference=mesh.reference, vertices=vertices, triangles=np.asarray(mesh.triangles, np.int64), frames=np.array(frames, np.int64),
                            places=places, errors=errors, measured=seen, seen=seen.mean(axis=1))
    return _Found(mesh.name, mesh.reference, _outline(mesh) * by, solution, MeshSettings(vertices=vertices),
                  f"a mesh of {count} vertices on {len(frames)} frames")


def _outline(mesh: AnimatedMesh) -> np.ndarray:
    """(N, 2) the longest outline of a mesh on its reference frame."""
    sides: dict[int, int] = {}
    edges = {(int(t[k]), int(t[(k + 1) % 3])) for t in mesh.triangles for k in range(3)}
    for a, b in edges:
        if (b, a) not in edges:
            sides[a] = b
    longest: list[int] = []
    while sides:
        start, at = next(iter(sides.items()))
        ring = [start]
        del sides[start]
        while at in sides:
            ring.append(at)
            at = sides.pop(at)
        longest = max(longest, ring, key=len)
    if len(longest) < _LEAST_POINTS:
        low, high = mesh.vertices.min(0), mesh.vertices.max(0)
        return np.asarray(quad.UNIT_SQUARE * (high - low) + low)
    return np.asarray(mesh.vertices[longest])


def _obj_sequence(path: Path, shot: Shot) -> AnimatedMesh:
    """A sequence of OBJ files as one mesh, in pixels of the plate; the reference frame is told from the texture coordinates."""
    assert shot.plate is not None
    files = _numbered_files(path)
    layout = animated_mesh.obj_layout(next(iter(files.values())))
    size = layout.picture if layout is not None else shot.plate.size
    places: dict[int, np.ndarray] = {}
    texture: np.ndarray = np.zeros((0, 2))
    triangles: np.ndarray = np.zeros((0, 3), int)
    for frame, file in files.items():
        at, texture, triangles = animated_mesh.read_obj(file)
        if places and len(at) != len(next(iter(places.values()))):
            raise DeliverError(f"{file.name} has {len(at)} vertices, and the files before it another number; export them again.")
        places[frame] = np.column_stack([at[:, 0], size[1] - at[:, 1]])
    if len(texture) != len(next(iter(places.values()))):
        raise DeliverError(f"{path.name} has no texture coordinate for each vertex to tell the reference frame from; export it again.")
    vertices = np.column_stack([texture[:, 0] * size[0], size[1] - texture[:, 1] * size[1]])
    home = min(places, key=lambda f: float(np.abs(places[f] - vertices).max()))
    return AnimatedMesh(size, shot.plate.fps, home, vertices, triangles[:, ::-1], places, layout=layout)


def _numbered_files(path: Path) -> dict[int, Path]:
    """The files of a sequence: of a pattern with ####, or of one of its files."""
    stem = re.escape(path.name)
    if "#" in path.name:
        wanted = re.compile(re.sub(r"(\\#|#)+", r"(-?\\d+)", stem, count=1) + "$")
    else:
        number = re.search(r"(-?\d+)(?!.*\d)", path.stem)
        if number is None:
            return {1: path}
        wanted = re.compile(re.escape(path.name[:number.start()]) + r"(-?\d+)" + re.escape(path.name[number.end():]) + "$")
    try:
        there = sorted(path.absolute().parent.iterdir())
    except OSError as why:
        raise DeliverError(f"The folder {path.parent} cannot be read ({why.strerror}).") from why
    files = {int(m.group(1)): p for p in there if (m := wanted.match(p.name))}
    if not files:
        raise DeliverError(f"There are no files {path.name} in {path.parent}; check the name.")
    return dict(sorted(files.items()))


def _maps(path: Path, fit: Fit, folder: Path) -> _Found:
    """A sequence of coordinate maps as dense motion, whose fields are kept in a folder."""
    files = _numbered_files(path)
    frames: list[int] = []
    errors, shares, reasons = [], [], {}
    size: tuple[int, int] = (0, 0)
    home = 0
    for number, file in files.items():
        pixels, about = read_map(file)
        layout = about.layout
        if size not in ((0, 0), layout.size):
            raise DeliverError(f"{file.name} is of another size than the maps before it; export them again.")
        size, home = layout.size, layout.frame_back(about.reference)
        fit(size)  # before anything is kept
        frame = layout.frame_back(number)
        field = _field(pixels, about.backwards, layout)
        frames.append(frame)
        seen = float(field.seen.mean()) if field is not None else 0.0
        errors.append(_USUAL_ERROR if field is not None else np.inf)
        shares.append(seen)
        if field is None:
            reasons[frame] = "the map knows nothing of it"
        elif frame != home:
            MotionFolder(folder, size).keep(frame, field, "imported", seen, _USUAL_ERROR)
    w, h = size
    region = quad.UNIT_SQUARE * [w - 2, h - 2] + 1.0
    track = Track(region=Region(frame=home, points=as_points(region)), settings=DenseSettings(whole=True, folder=str(folder)))
    solution = DenseSolution(reference=home, folder=str(folder.absolute()), points=spread_points(track, size), frames=np.array(frames, np.int64),
                             errors=np.array(errors, float), seen=np.array(shares, float), reasons=reasons)
    if home not in frames:
        raise DeliverError(f"There is no map of the reference frame {home} among the files; export the whole range.")
    return _Found("", home, region, solution, track.settings, f"coordinate maps of {len(frames)} frames")


def _field(pixels: np.ndarray, backwards: bool, layout: Layout) -> DisplacementField | None:
    """A map (h, w, 4) as where each pixel of the reference frame is on the frame; None where nothing is known."""
    h, w = pixels.shape[:2]
    known = pixels[..., 3] > 0.5
    if not known.any():
        return None
    here = np.stack(np.meshgrid(np.arange(w) + 0.5, np.arange(h) + 0.5), axis=-1)
    there = np.where(known[..., None], layout.back(pixels[..., :2].astype(np.float64)), np.nan)
    if backwards:  # it says for the frame's pixels where they are on the reference frame
        own = DisplacementField((0, 0, w, h), np.nan_to_num(there - here).astype(np.float32), np.full((h, w), _USUAL_ERROR, np.float32), known)
        there = FieldWarp(own).inverse_map((0, 0, w, h)).astype(np.float64)
        known = np.asarray(np.isfinite(there).all(-1))
        if not known.any():
            return None
    step = np.where(known[..., None], there - here, 0)
    return DisplacementField((0, 0, w, h), _filled(step, known).astype(np.float32), np.full((h, w), _USUAL_ERROR, np.float32), known)


def _filled(values: np.ndarray, known: np.ndarray) -> np.ndarray:
    """Values (h, w, 2) with what is not known as the nearest that is."""
    if known.all():
        return values
    _, (rows, columns) = scipy.ndimage.distance_transform_edt(~known, return_indices=True)
    return np.asarray(values[rows, columns])


# -- cameras ------------------------------------------------------------------------------------------------------


def _with_camera(shot: Shot, path: Path, scaled: bool) -> Imported:
    camera = CAMERAS[path.suffix.lower()](path)
    camera = replace(camera, numbers=np.arange(len(camera.points)))
    assert shot.plate is not None
    scale_to(path.name, camera.size, shot.plate.size, scaled)
    camera = camera_scaled(camera, shot.plate.size)
    if len(camera.poses) < _LEAST_POINTS:
        raise DeliverError(f"{path.name} has a camera on {len(camera.poses)} frames; three are the least.")
    places: list[dict[int, np.ndarray]] = [{} for _ in range(len(camera.points))]
    for frame in camera.poses:
        for k, at in enumerate(camera.project(camera.points, frame) if len(camera.points) else ()):
            if np.isfinite(at).all() and (at >= 0).all() and (at <= camera.size).all():
                places[k][frame] = at
    record = camera_record(camera, FeatureTracks(sorted(camera.poses), places), True, int(np.count_nonzero(camera.radial)))
    return Imported(shot.but(camera=record), None, f"a camera on {len(camera.poses)} frames, {len(camera.points)} points")
