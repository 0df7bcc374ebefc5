"""The door for scripts: the whole program in few lines. The command line goes through it; docs/scripting.md has examples.

Everywhere: pixels, origin at the picture's top-left corner, x right, y down, the first pixel's centre at (0.5, 0.5); frames are the plate's own numbers.

Long work takes `progress`, called with an `Event` (frame, done, total, item, note) after each step, and `stop`, a `threading.Event` that ends it soon
when it is set; what was finished is kept. Errors are `WertisError`, and say what to do.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

import numpy as np
from pydantic import ValidationError

from wertis import libraries  # noqa: F401  first, so that importing changes no environment
from wertis.core.blas import single_threaded
from wertis.core.check.slip import Slip
from wertis.core.check.summary import Summary, share_under, summary
from wertis.core.errors import DeliverError, RegionError, WertisError
from wertis.core.exchange.camera_json import write_camera
from wertis.core.exchange.camera_usd import WRITERS as USD_WRITERS
from wertis.core.exchange.camera_usd import write_camera_usd
from wertis.core.geometry import polygon
from wertis.core.geometry.motion import Motion, carried
from wertis.core.jobs.camera import Solve, camera_tracks, pick_planes, picked_plane, solve_again, solve_plate, with_camera, with_plane
from wertis.core.jobs.check import check_track
from wertis.core.jobs.dense_tracking import motion_folder
from wertis.core.jobs.events import Event
from wertis.core.jobs.export import export_corner_pin, export_mesh, export_shapes, import_shapes
from wertis.core.jobs.find import find_vertices
from wertis.core.jobs.matte_edge import EdgeMeasure, fit_matte, measure_edges, repair_matte
from wertis.core.jobs.mesh_tracking import laid_mesh, track_vertices
from wertis.core.jobs.occluder_mattes import write_mattes
from wertis.core.jobs.render import render, render_frame, render_matte
from wertis.core.jobs.repair import Outcome, repair_by_itself
from wertis.core.jobs.retrack import out_of_date, retrack
from wertis.core.jobs.tracking import kept, runs_from, tracked
from wertis.core.open_shot import OpenShot
from wertis.core.plate import Plate
from wertis.core.plate.cuts import cut_frames, find_cuts
from wertis.core.shot import edits, items, matte_edits, meshes, motions, repairs
from wertis.core.shot import pegs as peg_edits
from wertis.core.shot import points as point_edits
from wertis.core.shot import store as shot_files
from wertis.core.shot.cameras import carried_on_plane, plane_corners, set_off_plane, solved_camera
from wertis.core.shot.dense import DenseSettings
from wertis.core.shot.document import Artwork, HoldOut, Item, Placement, PlaneSettings, RepairLayer, Track, TrackSettings
from wertis.core.shot.document import Shot as Document
from wertis.core.shot.grades import Grade, add_grade, set_grade
from wertis.core.shot.hold_outs import open_matte, read_matte
from wertis.core.shot.matte_alpha import matte_alpha
from wertis.core.shot.matte_carry import points_on
from wertis.core.shot.mattes import Matte, matte_of, mattes_of, new_shape
from wertis.core.shot.meshes import MeshSettings, mesh_of
from wertis.core.shot.points import PointsSettings, PointsSolution
from wertis.core.shot.resolve import motion_of
from wertis.core.track.kinds import KINDS

Progress = Callable[[Event], object]
Points = Any
"""Points (N, 2): an array, or pairs x, y."""


def open(path: str | Path, layer: str = "") -> Shot:
    """Open a shot file, or begin a shot of a plate: a folder of frames, a sequence pattern (name.####.png, name.%04d.png) or a movie.

    Parameters
    ----------
    layer : which layer of a plate's EXR files is the picture.

    Raises
    ------
    WertisError
        When it cannot be opened.
    """
    found = OpenShot()
    if Path(path).suffix.lower() == shot_files.SUFFIX:
        found.open_file(Path(path))
    else:
        found.open_plate(path)
        if layer:
            found.read_otherwise(layer=layer)
    return Shot(found)


class Shot:
    """A shot that is open. What is done to it is a step that `undo` takes back.

    Attributes
    ----------
    opened : the document with its history, plate and file, for what this class does not do.
    """

    def __init__(self, opened: OpenShot) -> None:
        self.opened = opened

    # -- what there is --------------------------------------------------------------------------------------------

    @property
    def document(self) -> Document:
        """All that the shot holds, as plain data that never changes in place."""
        return self.opened.shot

    @property
    def plate(self) -> Plate:
        """The plate.

        Raises
        ------
        WertisError
            When the shot has none, or it cannot be found.
        """
        if self.opened.plate is None:
            raise WertisError("The shot's plate cannot be found; open it again with its own folder beside it, or use replace_plate.")
        return self.opened.plate

    @property
    def range(self) -> tuple[int, int]:
        """First and last frame that are tracked, checked and rendered."""
        return self.document.range

    @range.setter
    def range(self, wanted: tuple[int, int]) -> None:
        low, high = (int(f) for f in wanted)
        if low > high:
            raise WertisError(f"The range {low} to {high} ends before it begins.")
        self._do("Set the range", self.document.but(range=(low, high)))

    @property
    def surfaces(self) -> list[Surface]:
        """The tracks, in their order."""
        return [Surface(self, t.id) for t in self.document.tracks]

    def surface(self, name: str) -> Surface:
        """The track of a name.

        Raises
        ------
        WertisError
            When there is none.
        """
        track = self.document.track_named(name)
        if track is None:
            names = ", ".join(t.name for t in self.document.tracks) or "none"
            raise WertisError(f"The shot has no track named {name}; it has: {names}.")
        return Surface(self, track.id)

    # -- work -----------------------------------------------------------------------------------------------------

    def find_cuts(self, progress: Progress | None = None, stop: threading.Event | None = None) -> tuple[int, ...]:
        """The frames at which another shot begins in the plate; they are kept with the shot, and tracking ends there."""
        found: dict[int, bool] = {}
        total = len(self.plate.frames)
        for frame, cut in find_cuts(self.plate):
            if stop is not None and stop.is_set():
                break
            found[frame] = cut
            if progress is not None:
                progress(Event(frame, len(found), total, cut))
        cuts = cut_frames(found)
        ref = self.document.plate
        assert ref is not None
        self._do("Find cuts", self.document.but(plate=ref.but(cuts=cuts)))
        return cuts

    def add(self, region: Points, frame: int, name: str = "Surface", model: str = "perspective", look: str = "mix", half: bool = False,
            smooth: bool = False, spacing: float | None = None, stiffness: float | None = None, vertices: Points | None = None,
            points: Points | Mapping[str, tuple[float, float]] | None = None, keep: str | Path | None = None, whole: bool = False,
            parts: bool | None = None, neighbours: bool = True) -> Surface:
        """Add a track whose region (N, 2) is drawn on a frame, without tracking it yet; the words are those of `track`.

        Parameters
        ----------
        neighbours : dense motion keeps the steps between neighbouring frames as well, for other programs.

        Raises
        ------
        WertisError
            When the region or the settings cannot be used.
        """
        if model not in (*KINDS, "mesh", "points", "dense"):
            raise RegionError(f"'{model}' is not a kind of motion that this version tracks; choose one of {', '.join(KINDS)}, mesh, points, dense.")
        if model != "dense" and (keep is not None or whole or parts is not None):
            raise RegionError(f"A folder to keep, the whole picture and parts are those of dense motion; track with model dense, not {model}.")
        if (model == "points") != (points is not None):
            raise RegionError("Points are what model points tracks; give points with it, and only with it.")
        if model != "mesh" and (spacing is not None or stiffness is not None or vertices is not None):
            raise RegionError(f"Spacing, stiffness and vertices are those of a mesh; track with model mesh, not {model}.")
        outline = _numbers(region, "region")
        if outline.ndim != 2 or outline.shape[1] != 2 or len(outline) < 3:
            raise RegionError(f"The region has {len(outline)} point(s); give at least three, round an area with detail.")
        plate = self.plate
        if not plate.first <= frame <= plate.last:
            raise RegionError(f"Frame {frame} is not in the plate, which runs from {plate.first} to {plate.last}.")
        with _fields():
            shot, track = edits.add_track(self.document, outline, frame, name, smooth)
            settings: TrackSettings
            if model == "mesh":
                own = None if vertices is None else np.ascontiguousarray(_numbers(vertices, "vertices"))
                settings = MeshSettings(spacing=spacing, stiffness=stiffness, look=look, half=half, vertices=own)  # type: ignore[arg-type]
            elif points is not None:
                settings = _points_settings(points, look)
            elif model == "dense":
                settings = DenseSettings(folder=str(Path(keep).absolute()) if keep is not None else "", whole=whole, look=look,  # type: ignore[arg-type]
                                         parts=whole if parts is None else parts, neighbours=neighbours)
            else:
                settings = PlaneSettings(model=model, look=look, half=half)  # type: ignore[arg-type]
            shot = edits.set_settings(shot, track.id, settings)
            if model == "mesh":
                mesh_of(track.but(settings=settings), plate.size)  # says at once what is wrong with it
        self._do(f"Draw {track.name}", shot)
        return Surface(self, track.id)

    def track(self, region: Points, frame: int, model: str = "perspective", name: str = "Surface", look: str = "mix", half: bool = False,
              hold_outs: Iterable[Points | str | Path] = (), progress: Progress | None = None, stop: threading.Event | None = None,
              spacing: float | None = None, stiffness: float | None = None, vertices: Points | None = None,
              points: Points | Mapping[str, tuple[float, float]] | None = None, keep: str | Path | None = None, whole: bool = False,
              parts: bool | None = None) -> Surface:
        """Track a region through the shot's range, both ways from the frame on which it is drawn.

        Parameters
        ----------
        region : (N, 2) outline of a flat surface with detail.
        model : how it may move: shift, shift-scale, shift-turn, similarity, affine, perspective, mesh for a surface that bends, points for single
            spots that make a motion together, or dense for the motion of every pixel.
        look : what is looked at: mix (the channels, for most detail over least grain), luma, red, green, blue or contrast.
        half : track at half the resolution.
        hold_outs : polygons (N, 2) that stay in the picture, or matte sequences, whose pixels do not exist for the track.
        spacing : pixels between a mesh's vertices; about 200 vertices when not given.
        stiffness : of a mesh, 0 (cloth) to 100 (board); from the pictures when not given.
        vertices : (V, 2) a mesh's own vertices on the frame, in place of those that are laid.
        points : (N, 2) the spots on the frame for model points, or name to x, y.
        keep : folder in which dense motion is kept; in the user's cache when not given. What is there and still holds is not computed again.
        whole : dense motion of the whole picture, not of the region alone.
        parts : dense motion of what does not go with one surface as well; of the whole picture it is looked for when not given.
        """
        surface = self.add(region, frame, name, model, look, half, False, spacing, stiffness, vertices, points, keep, whole, parts)
        for held in hold_outs:
            surface.hold_out(held)
        return surface.track(progress=progress, stop=stop)

    def matte(self, points: Points | None = None, frame: int | None = None, carried_by: Surface | None = None, name: str = "Matte",
              roundness: float = 1.0, soft: float = 0.0) -> DrawnMatte:
        """Begin a matte: a shape through points (N, 2) of a frame's picture (the carrying track's own when not given), carried by a track or by none.

        Parameters
        ----------
        points : none to begin with no shape; `DrawnMatte.add` draws more.
        """
        at = frame if frame is not None else carried_by.record.region.frame if carried_by is not None else self.range[0]
        with _fields():
            shapes = () if points is None else (new_shape(_numbers(points, "points"), at, roundness, soft),)
            document, made = matte_edits.add_matte(self.document, carried_by.record if carried_by is not None else None, at, name, shapes)
        self._do("Draw a matte", document)
        return DrawnMatte(self, made.id)

    @property
    def mattes(self) -> list[DrawnMatte]:
        """The mattes, the lowest first."""
        return [DrawnMatte(self, m.id) for m in mattes_of(self.document)]

    def matte_named(self, name: str) -> DrawnMatte:
        """The matte of a name.

        Raises
        ------
        WertisError
            When there is none.
        """
        found = next((m for m in self.mattes if m.name == name), None)
        if found is None:
            raise WertisError(f"The shot has no matte named {name}; it has: {', '.join(m.name for m in self.mattes) or 'none'}.")
        return found

    def render(self, pattern: str | Path, what: Literal["comp", "graphic"] = "comp", frames: Sequence[int] | None = None, resume: bool = False,
               progress: Progress | None = None, stop: threading.Event | None = None) -> dict[int, str]:
        """Render to an image sequence (`####` stands for the frame number) or a movie; frames that were left out, and why.

        Parameters
        ----------
        what : the comp, or the graphics alone with alpha.
        frames : the shot's range when not given.
        resume : keep frames of a sequence that are there, and go on with the rest.
        """
        if what not in ("comp", "graphic"):
            raise WertisError(f"'{what}' cannot be rendered; choose comp or graphic.")
        wanted = list(frames) if frames is not None else self._frames()
        return self._left_out(render(self.document, self.plate, str(pattern), wanted, what, resume=resume, stop=stop), progress)

    def solve(self, focal: float | None = None, radial: bool = False, hold_outs: Iterable[Points | str | Path] = (), progress: Progress | None = None,
              stop: threading.Event | None = None) -> Camera:
        """Solve the camera of the shot's range from features of the whole picture.

        Parameters
        ----------
        focal : in pixels, when it is known; solved for otherwise.
        radial : solve for a radial term of the lens as well.
        hold_outs : polygons (N, 2) that stay in the picture, or matte sequences, whose features do not count.

        Raises
        ------
        WertisError
            When no camera can be solved, with what that means, or the work was stopped.
        """
        masks = [_held(what, self.plate.size) for what in hold_outs]

        def held(frame: int) -> np.ndarray:
            return np.asarray(np.max([mask(frame) for mask in masks], axis=0))

        found: Solve | None = None
        with single_threaded():
            for event in solve_plate(self.plate, self._frames(), focal, radial, held if masks else None, stop=stop):
                if progress is not None:
                    progress(event)
                found = event.item if isinstance(event.item, Solve) else found
        if found is None:
            raise WertisError("Solving was stopped before its end.")
        self._do("Solve the camera", with_camera(self.document, found, focal is not None, radial))
        return Camera(self, found)

    @property
    def camera(self) -> Camera:
        """The shot's camera, as it was solved.

        Raises
        ------
        WertisError
            When it is not solved yet.
        """
        record = solved_camera(self.document)
        return Camera(self, Solve(record.solved, record.tracks, self.plate))

    def frame(self, frame: int, what: Literal["comp", "graphic"] = "comp") -> np.ndarray:
        """A frame as it is rendered, (h, w, channels): a function of the shot and the frame alone."""
        with single_threaded():
            return render_frame(self.document, frame, what, self.plate)

    def save(self, path: str | Path | None = None) -> Path:
        """Save the shot, under its own name when none is given; the file's name.

        Raises
        ------
        WertisError
            When it cannot be written, or has no name yet.
        """
        where = Path(path) if path is not None else self.opened.path
        if where is None:
            raise WertisError("The shot has no file yet; say where to save it.")
        return self.opened.save(where)

    def undo(self) -> str:
        """Take the last step back; what it was."""
        return self.opened.history.undo()

    def redo(self) -> str:
        """Do the step last taken back again; what it was."""
        return self.opened.history.redo()

    def replace_plate(self, path: str | Path) -> None:
        """Point the shot at another plate of the same size and keep everything in it."""
        self.opened.replace_plate(Path(path))

    # -- inside ---------------------------------------------------------------------------------------------------

    def _do(self, label: str, after: Document) -> None:
        self.opened.do(label, after)

    def _frames(self) -> list[int]:
        return list(range(self.range[0], self.range[1] + 1))

    def _left_out(self, events: Iterable[Event], progress: Progress | None) -> dict[int, str]:
        left: dict[int, str] = {}
        with single_threaded():
            for event in events:
                if event.note and event.frame is not None:
                    left[event.frame] = event.note
                if progress is not None:
                    progress(event)
        return left


@contextmanager
def _fields() -> Iterator[None]:
    """Says in Wertis' own error which value does not fit its field."""
    try:
        yield
    except ValidationError as why:
        first = why.errors()[0]
        raise RegionError(f"{'.'.join(map(str, first['loc'])) or 'That'} cannot be {first['input']!r}: {first['msg']}.") from why


def _numbers(points: Points, what: str) -> np.ndarray:
    try:
        return np.asarray(points, float)
    except (TypeError, ValueError) as why:
        raise RegionError(f"The {what} are not numbers; give pairs x, y in pixels.") from why


@dataclass(frozen=True)
class Drift:
    """How far a surface's track is off, measured on the pictures.

    Attributes
    ----------
    by_frame : frame to what was measured there: `slip` (4, 2) in pixels at each corner, `uncertainty`, their standard deviations, and `reason`.
    """

    by_frame: Mapping[int, Slip]

    @property
    def summary(self) -> Summary:
        """Mean, worst, and where that is."""
        return summary(self.by_frame)

    @property
    def worst(self) -> float:
        """The worst corner's drift on the worst frame, in pixels; nan when nothing could be measured."""
        return self.summary.worst

    @property
    def worst_frame(self) -> int:
        """The frame on which that is."""
        return self.summary.frame

    @property
    def mean(self) -> float:
        """The frames' worst corners' drift on average, in pixels."""
        return self.summary.mean

    def share_under(self, level: float) -> float:
        """The share of measured frames whose drift is under a level in pixels."""
        return share_under(self.by_frame, level)


def _held(what: Points | str | Path, size: tuple[int, int]) -> Callable[[int], np.ndarray]:
    """What a polygon or a matte sequence holds out: frame to (h, w) uint8."""
    if isinstance(what, str | Path):
        matte = open_matte(Path(what), size)
        nothing = np.zeros(size[::-1], np.uint8)

        def there(frame: int) -> np.ndarray:
            mask = read_matte(matte, frame)
            return nothing if mask is None else mask

        return there
    mask = polygon.fill(polygon.checked(_numbers(what, "hold-out"), size), size)
    return lambda frame: np.where(mask > 0, 255, 0).astype(np.uint8)


class Camera:
    """A solved camera of a shot.

    Attributes
    ----------
    solved : its path, focal length, points and errors.
    """

    def __init__(self, shot: Shot, found: Solve) -> None:
        self.shot, self._found = shot, found
        self.solved = found.camera

    @property
    def error(self) -> float:
        """Mean reprojection error in pixels; common practice: under 1 is usable, about 0.3 good."""
        return self.solved.error

    def pin(self, corners: Points, frame: int) -> dict[int, np.ndarray]:
        """Corners (n, 2) of a flat part of the scene on a frame, carried to all frames: frame to (n, 2).

        Raises
        ------
        WertisError
            When there is no plane to be found there.
        """
        places = _numbers(corners, "corners")
        return carried_on_plane(self.solved, picked_plane(self._found, places, frame), places, frame)

    def drop_points(self, worse_than: float) -> Camera:
        """Leave out points that are usually off by more than so many pixels, and solve again; the camera without them. Planes are picked anew."""
        record = solved_camera(self.shot.document)
        dropped = np.flatnonzero(record.off > worse_than).tolist()
        with single_threaded():
            after = solve_again(self.shot.document, dropped)
            for event in pick_planes(after, self.shot.plate, camera_tracks(after)):
                after = event.item if isinstance(event.item, Document) else after
        self.shot._do("Drop points of the camera", after)
        return self.shot.camera

    def plane(self, region: Points, frame: int, name: str = "Plane") -> Surface:
        """A track more in the shot, whose motion is that of the plane seen inside a region (N, 2) on a frame."""
        with _fields():
            document, ident = with_plane(self.shot.document, self._found, _numbers(region, "region"), frame, name)
        self.shot._do(f"Add {name}", document)
        return Surface(self.shot, ident)

    def save(self, path: str | Path) -> None:
        """Write the camera as JSON, or as USD (.usd, .usda, .usdc) with its points and the planes of the shot's tracks."""
        if Path(path).suffix.lower() in USD_WRITERS:
            write_camera_usd(Path(path), self.solved, self.shot.plate.fps, plane_corners(self.shot.document))
        else:
            write_camera(Path(path), self.solved)


@dataclass(frozen=True)
class TrackedPoint:
    """A point on a frame.

    Attributes
    ----------
    place : (2,) in pixels.
    error : expected error in pixels.
    match : share 0..1 of its pattern's contrast that was found again.
    measured : whether it was found; otherwise it goes with the points round it.
    """

    place: np.ndarray
    error: float
    match: float
    measured: bool


def _points_settings(points: Points | Mapping[str, tuple[float, float]], look: str) -> PointsSettings:
    named = dict(points) if isinstance(points, Mapping) else {str(k): p for k, p in enumerate(_numbers(points, "points"))}
    places = np.array(list(named.values()), float).reshape(-1, 2)
    return PointsSettings(points=places, names=tuple(named), sides=(0,) * len(named), inside=True, look=look)  # type: ignore[arg-type]


class Surface:
    """A track of a shot."""

    def __init__(self, shot: Shot, ident: str) -> None:
        self.shot, self.id = shot, ident

    @property
    def record(self) -> Track:
        """The track's data.

        Raises
        ------
        WertisError
            When it is no longer in the shot.
        """
        return edits.track_of(self.shot.document, self.id)

    @property
    def name(self) -> str:
        """Its name."""
        return self.record.name

    @name.setter
    def name(self, wanted: str) -> None:
        with _fields():
            self.shot._do("Rename", edits.rename_track(self.shot.document, self.id, wanted))

    @property
    def motion(self) -> Motion:
        """Its motion, repairs and all: `motion.at(time)` is the warp from the reference frame's picture.

        Raises
        ------
        WertisError
            Before tracking.
        """
        found = motion_of(self.record)
        if found is None:
            raise WertisError(f"{self.name} has not been tracked; track it first.")
        return found

    @property
    def lost(self) -> dict[int, str]:
        """Frames without an answer, and why."""
        solution = self.record.solution
        if solution is None:
            return {}
        reasons: dict[int, str] = getattr(solution, "reasons", {})
        return {int(f): reasons.get(int(f), "lost") for f in solution.tried[~solution.good]}

    def follow(self, points: Points, frame: int, frames: Iterable[int] | None = None) -> dict[int, np.ndarray]:
        """Where points (N, 2) of a frame's picture are on other frames: frame to (N, 2); frames without an answer are left out.

        Parameters
        ----------
        frames : the shot's range when not given.
        """
        motion, at = self.motion, np.asarray(points, float)
        found = {f: at if f == frame else carried(motion, at, frame, f) for f in (frames if frames is not None else self.shot._frames())}
        return {f: p for f, p in found.items() if np.isfinite(p).all()}

    def track(self, frame: int | None = None, direction: str = "both", progress: Progress | None = None,
              stop: threading.Event | None = None) -> Surface:
        """Track from a frame that is known (the region's own when not given): forward, backward, both, next or previous. Returns itself."""
        shot = self.shot.document
        at = self.record.region.frame if frame is None else frame
        low, high = shot.range
        if direction == "both" and low == high == at:
            self.shot._do(f"Track {self.name}", kept(shot, self.id, {}))
            return self
        with single_threaded():
            after = tracked(shot, self.id, self.shot.plate, runs_from(shot, self.record, at, direction), stop=stop, progress=progress)
        self.shot._do(f"Track {self.name}", after)
        return self

    def stand_off(self, percent: float) -> Surface:
        """Let what lies on a camera's plane stand off it, towards the camera, by percent of the plane's distance. Returns itself."""
        with _fields():
            self.shot._do("Stand off the plane", set_off_plane(self.shot.document, self.id, percent))
        return self

    @property
    def motion_folder(self) -> Path:
        """Where a track's dense motion is kept, as docs/formats.md describes."""
        return motion_folder(self.record)

    @property
    def vertices(self) -> np.ndarray:
        """(V, 2) the vertices of a mesh, on the region's frame.

        Raises
        ------
        WertisError
            When the track is no mesh.
        """
        if not isinstance(self.record.settings, MeshSettings):
            raise WertisError(f"{self.name} is tracked as a plane and has no vertices; track it with model mesh.")
        return laid_mesh(self.shot.document, self.record, self.shot.plate).vertices

    def peg(self, frame: int, places: Mapping[int, tuple[float, float]]) -> Surface:
        """Put vertices of a mesh (number to x, y) where they belong on a frame; their neighbours follow. Returns itself.

        Raises
        ------
        WertisError
            When a vertex does not exist or is locked, the frame has no answer, or a peg is far outside the picture.
        """
        with _fields():
            self.shot._do(f"Peg {len(places)} vertices of {self.name}", peg_edits.set_pegs(self.shot.document, self.id, frame, dict(places)))
        return self

    def add_vertex(self, place: tuple[float, float], frame: int) -> Surface:
        """Add a vertex at a place (x, y) of a frame; it goes with the mesh round it until it is tracked. Returns itself."""
        self.shot._do("Add a vertex", meshes.add_vertex(self.shot.document, self.id, np.asarray(place, float), frame))
        return self

    def remove_vertices(self, numbers: Iterable[int]) -> Surface:
        """Remove vertices of a mesh, pegs and all; the others are numbered anew in their order. Returns itself."""
        self.shot._do("Remove vertices", meshes.remove_vertices(self.shot.document, self.id, set(numbers)))
        return self

    def let_follow(self, numbers: Iterable[int], follow: bool = True, leaders: str | Iterable[int] = "mesh") -> Surface:
        """Let vertices of a mesh follow others, with no measurement of their own, or be measured again. Returns itself.

        Parameters
        ----------
        leaders : "mesh", what lies round them; "two", each the nearest two; "plane", each a plane through the nearest; or the numbers of those to follow.
        """
        led = leaders if isinstance(leaders, str) else tuple(leaders)
        self.shot._do("Let vertices follow", peg_edits.set_followers(self.shot.document, self.id, set(numbers), follow, led))
        return self

    def shift_pegs(self, frame: int, to: int, copy: bool = False, vertices: Iterable[int] | None = None) -> Surface:
        """Move the pegs of a frame in time, or copy them, to another, where each corrects by as much as it did. Returns itself."""
        chosen = None if vertices is None else set(vertices)
        self.shot._do("Copy pegs" if copy else "Move pegs", peg_edits.shift_pegs(self.shot.document, self.id, frame, to, copy, chosen))
        return self

    def carry_by_pegs(self) -> Surface:
        """Lay the mesh, not measured, on every frame of the range that has no answer, so that pegs alone carry it there. Returns itself."""
        self.shot._do("Carry by pegs alone", peg_edits.carry_by_pegs(self.shot.document, self.id))
        return self

    def tracked_points(self, frame: int) -> dict[str, TrackedPoint]:
        """Where the points of a track of points are on a frame, by their names; none where it has no answer.

        Raises
        ------
        WertisError
            When the track is not one of points, or not tracked.
        """
        solution = self.record.solution
        if not isinstance(solution, PointsSolution):
            raise WertisError(f"{self.name} has no tracked points; track it with model points.")
        k = solution.index(frame)
        if k is None or not np.isfinite(solution.places[k]).all():
            return {}
        return {name: TrackedPoint(solution.places[k, i], float(solution.errors[k, i]), float(solution.matches[k, i]), bool(solution.measured[k, i]))
                for i, name in enumerate(solution.names)}

    def use_points(self, left_out: Iterable[str] | None = None, model: str | None = None) -> Surface:
        """Choose which points carry the track, by the names of those that do not, and what it takes from them. Returns itself."""
        with _fields():
            self.shot._do("Choose points", point_edits.use_points(self.shot.document, self.id, None if left_out is None else set(left_out),
                                                                  model))  # type: ignore[arg-type]
        return self

    def find_pegs(self, frame: int, vertices: Iterable[int] | None = None) -> dict[int, str]:
        """Let vertices of a mesh find their places on a frame by the reference frame's picture, and peg them there; the chosen ones, or all.

        Returns
        -------
        Number to why its place cannot be told, of those that were not found.
        """
        found = find_vertices(self.shot.document, self.record, self.shot.plate, frame, None if vertices is None else sorted(vertices))
        places = {k: p for k, p in found.items() if isinstance(p, np.ndarray)}
        if places:
            self.shot._do("Find places", peg_edits.set_pegs(self.shot.document, self.id, frame, places))
        return {k: p for k, p in found.items() if isinstance(p, str)}

    def track_vertices(self, vertices: Iterable[int], frames: Iterable[int] | None = None, progress: Progress | None = None,
                       stop: threading.Event | None = None) -> Surface:
        """Track single vertices of a mesh anew while all others stay as they are; over frames, or all that have an answer. Returns itself."""
        shot = self.shot.document
        with single_threaded():
            for event in track_vertices(shot, self.id, self.shot.plate, sorted(set(vertices)), None if frames is None else sorted(set(frames)), stop=stop):
                if progress is not None:
                    progress(event)
                shot = event.item if isinstance(event.item, Document) else shot
        self.shot._do("Track vertices", shot)
        return self

    def lock_vertices(self, numbers: Iterable[int], locked: bool = True) -> Surface:
        """Lock vertices of a mesh, so that neither pegs nor tracking move them, or unlock them. Returns itself."""
        self.shot._do("Lock vertices", peg_edits.set_locked(self.shot.document, self.id, set(numbers), locked))
        return self

    def forget_data(self, numbers: Iterable[int], frame: int, before: bool, pegs: bool = False) -> Surface:
        """Delete the data of vertices before, or after, a frame; they follow the others there. Pegs too only when asked. Returns itself."""
        self.shot._do("Delete vertices' data", peg_edits.forget_data(self.shot.document, self.id, set(numbers), frame, before, pegs))
        return self

    def clear_pegs(self, frame: int | None = None, vertices: Iterable[int] | None = None) -> Surface:
        """Take pegs away, of a frame or all, of some vertices or all. Returns itself."""
        self.shot._do("Clear pegs", peg_edits.clear_pegs(self.shot.document, self.id, frame, None if vertices is None else set(vertices)))
        return self

    def check(self, base: int | None = None, frames: Sequence[int] | None = None, progress: Progress | None = None,
              stop: threading.Event | None = None) -> Drift:
        """Measure the drift on the pictures, apart from the tracker.

        Parameters
        ----------
        base : the frame that counts as right; the reference frame when not given.
        frames : the shot's range when not given.
        """
        found: dict[int, Slip] = {}
        wanted = list(frames) if frames is not None else self.shot._frames()
        with single_threaded():
            for event in check_track(self.shot.document, self.record, self.shot.plate, wanted, base=base, stop=stop):
                assert event.frame is not None
                found[event.frame] = event.item
                if progress is not None:
                    progress(event)
        return Drift(found)

    def repair(self, limit: float, frames: tuple[int, int] | None = None, progress: Progress | None = None,
               stop: threading.Event | None = None) -> Outcome:
        """Set repair keys where the drift is worst until it is under a limit in pixels, as few as it can; what was done.

        Parameters
        ----------
        frames : first and last frame to look at; the shot's range when not given.

        Raises
        ------
        WertisError
            When the track has no motion, or the work was stopped.
        """
        if not limit > 0:
            raise WertisError("The limit is the drift in pixels that may be left, more than 0.")
        shot = self.shot.document
        outcome: Outcome | None = None
        with single_threaded():
            for event in repair_by_itself(shot.but(range=frames or shot.range), self.id, self.shot.plate, limit, stop=stop):
                if progress is not None:
                    progress(event)
                outcome = event.item if isinstance(event.item, Outcome) else outcome
        if outcome is None:
            raise WertisError("Repairing was stopped before its end; nothing was changed.")
        self.shot._do("Repair by itself", outcome.shot.but(range=shot.range))
        return outcome

    def move(self, frame: int, places: Mapping[str, Points]) -> None:
        """Put repair points, by their ids, at places (2,) of a frame's picture, by keys there; `points` lists them, `add_point` adds one."""
        self.shot._do("Move repair points", repairs.move_points(self.shot.document, self.id, frame,
                                                                {k: np.asarray(p, float) for k, p in places.items()}))

    def add_point(self, place: Points, frame: int) -> str:
        """Add a repair point at a place (2,) of a frame's picture; its id. It moves nothing until it is moved."""
        self.shot._do("Add a repair point", repairs.add_point(self.shot.document, self.id, np.asarray(place, float), frame))
        return self.record.layer(RepairLayer).points[-1].id

    def points(self, frame: int) -> dict[str, np.ndarray]:
        """Where the repair points are on a frame: id to (2,)."""
        there = repairs.points_on(self.record, frame)
        return {} if there is None else {p.id: at for p, at in zip(self.record.layer(RepairLayer).points, there, strict=True)}

    @property
    def out_of_date(self) -> bool:
        """Whether a repair or a peg has moved what lies next to it, so that tracking it again would change something."""
        return bool(out_of_date(self.record, self.shot.document.range))

    def retrack(self, progress: Progress | None = None, stop: threading.Event | None = None) -> None:
        """Track the stretches next to repair keys, or to a mesh's pegs, again, so that they pass through the repaired frames."""
        after: Any = None
        with single_threaded():
            for event in retrack(self.shot.document, self.id, self.shot.plate, stop=stop):
                if progress is not None:
                    progress(event)
                after = event.item if isinstance(event.item, Document) else after
        if after is not None:
            self.shot._do("Track again", after)

    def copy_motion(self, other: Surface) -> None:
        """Move as another track does, repairs and all."""
        self.shot._do("Copy the motion", motions.copy_motion(self.shot.document, other.id, self.id))

    def blend_motion(self, other: Surface, begin: int, end: int) -> None:
        """Go over to another track's motion between two frames."""
        self.shot._do("Blend two motions", motions.blend_motions(self.shot.document, self.id, other.id, self.id, begin, end))

    def hold_out(self, what: Points | str | Path | DrawnMatte, frame: int | None = None, carried_by: Surface | None = None, grow: float | None = None,
                 soft: float | None = None) -> HoldOut:
        """Take pixels away from the track: a polygon (N, 2), a matte sequence in which white is held out, or a drawn matte.

        Parameters
        ----------
        frame : on which the polygon is drawn; the region's own when not given.
        carried_by : a track that moves the polygon; it stays in the picture when not given.
        grow, soft : pixels by which it grows, and over which its edge falls; nothing of either when not given.
        """
        size = self.shot.plate.size
        if isinstance(what, DrawnMatte):
            after = matte_edits.hold_out_of(self.shot.document, what.id, self.id, grow or 0.0)
            self.shot._do("Hold out", after)
            return self.shot.document.hold_outs(self.id)[-1]
        if isinstance(what, str | Path):
            open_matte(Path(what), size)
            held = HoldOut(of=self.id, name=Path(what).name[:200] or "Matte", path=str(Path(what).absolute()), grow=grow or 0.0, soft=soft or 0.0)
        else:
            points = polygon.checked(np.asarray(what, float), size, "hold-out")
            at = frame if frame is not None else self.record.region.frame
            held = HoldOut(of=self.id, on=carried_by.id if carried_by is not None else "", keys={at: edits.as_points(points)}, grow=grow or 0.0,
                           soft=soft or 0.0)
        self.shot._do("Hold out", items.add_item(self.shot.document, held))
        return held

    def occluder_mattes(self, pattern: str | Path, progress: Progress | None = None, stop: threading.Event | None = None) -> dict[int, str]:
        """Write a matte sequence of what passes in front of the surface; frames that were left out, and why."""
        return self.shot._left_out(write_mattes(self.shot.document, self.record, self.shot.plate, str(pattern), stop=stop), progress)

    def place(self, artwork: str | Path, corners: Points | None = None, frame: int | None = None, name: str = "", fit: str = "fit",
              blend: str = "normal", opacity: float = 1.0, **more: Any) -> Placed:
        """Put a graphic on the surface.

        Parameters
        ----------
        artwork : a picture, a sequence pattern or a movie; or "grid" or "checker".
        corners : (4, 2) where its top left, top right, bottom right and bottom left corner go; proposed when not given.
        frame : on which the corners are; the region's own when not given.
        fit : fit, fill or stretch.
        blend : normal, multiply, screen or overlay.
        more : other fields of the document's `Placement`.
        """
        at = frame if frame is not None else self.record.region.frame
        quad = _numbers(corners, "corners") if corners is not None else edits.default_quad(self.record, at)
        if quad.shape != (4, 2):
            raise RegionError(f"A placement has four corners; {len(quad)} were given.")
        kind = str(artwork) if str(artwork) in ("grid", "checker") else "picture"
        if kind == "picture":
            text = str(artwork)
            moves = "#" in text or "%" in text or Path(text).is_dir() or Path(text).suffix.lower() in (".mov", ".mp4", ".mkv", ".webm")
            kind = "sequence" if moves else "picture"
            art = Artwork(kind=kind, path=str(Path(text).absolute()), start=self.shot.range[0])  # type: ignore[arg-type]
            if kind == "picture" and not Path(text).is_file():
                raise WertisError(f"{text} does not exist; check the name.")
        else:
            art = Artwork(kind=kind)  # type: ignore[arg-type]
        with _fields():
            placement = Placement(on=self.id, frame=at, quad=edits.as_points(quad), artwork=art, fit=fit, blend=blend,  # type: ignore[arg-type]
                                  opacity=opacity, name=name or (Path(str(artwork)).stem[:200] or "Graphic"), **more)
        self.shot._do("Place a graphic", items.add_item(self.shot.document, placement))
        return Placed(self.shot, placement.id)

    def grade(self, inside: Iterable[DrawnMatte] = (), name: str = "Grade", **fields: Any) -> Graded:
        """Change the picture's colours inside mattes, or everywhere where none is given.

        Parameters
        ----------
        fields : of the document's `Grade`: exposure in stops, slope, offset, power (three numbers each), saturation, blur, opacity.
        """
        with _fields():
            document, made = add_grade(self.shot.document, self.record, tuple(m.id for m in inside), name)
            document = set_grade(document, made.id, **fields)
        self.shot._do("Add a grade", document)
        return Graded(self.shot, made.id)

    @property
    def placements(self) -> list[Placed]:
        """The graphics on it, the lowest first."""
        return [Placed(self.shot, p.id) for p in self.shot.document.placements(self.id)]

    def export(self, path: str | Path, placement: Placed | None = None) -> int:
        """Write a corner pin (.csv or .json) of a placement, else of the first one, else of a region of four corners; how many frames it has."""
        if placement is None:
            there = self.placements
            placement = there[0] if there else None
        return export_corner_pin(self.shot.document, self.record, placement.record if placement is not None else None, Path(path))

    def export_mesh(self, path: str | Path) -> int:
        """Write a mesh's vertices over the shot's range as .csv, .json, .obj (#### stands for the frame) or .usd; how many frames it has."""
        return export_mesh(self.shot.document, self.record, Path(path))


class DrawnMatte:
    """A matte of a shot, carried by a track or by none."""

    def __init__(self, shot: Shot, ident: str) -> None:
        self.shot, self.id = shot, ident

    @property
    def record(self) -> Matte:
        """Its data.

        Raises
        ------
        WertisError
            When it is no longer in the shot.
        """
        return matte_of(self.shot.document, self.id)

    @property
    def name(self) -> str:
        """Its name."""
        return self.record.name

    @property
    def shapes(self) -> list[str]:
        """The ids of its shapes, in their order."""
        return [s.id for s in self.record.shapes]

    def add(self, points: Points, frame: int | None = None, roundness: float = 1.0, soft: float = 0.0, combine: str = "add") -> str:
        """Draw a shape through points (N, 2) of a frame's picture (the matte's own when not given); its id.

        Parameters
        ----------
        roundness : of all points, 0 for corners to 1 for a smooth curve.
        soft : pixels over which the edge falls to both sides.
        combine : add, subtract, intersect or exclude: how it is joined to the shapes before it.
        """
        with _fields():
            self._do("Draw a shape", matte_edits.add_shape(self.shot.document, self.id, _numbers(points, "points"),
                                                           self.record.frame if frame is None else frame, roundness, soft, combine))  # type: ignore[arg-type]
        return self.shapes[-1]

    def key(self, frame: int, points: Points, shape: str | None = None, reach: str = "key", span: tuple[int, int] | None = None) -> DrawnMatte:
        """Put a shape's points (the only one's when not named) at (N, 2) of a frame's picture, by a key there. Returns itself.

        Parameters
        ----------
        reach : "key", or "all" to move every key by as much, or "span" for those from the first to the last frame of `span`.
        """
        with _fields():
            self._do("Key a shape", matte_edits.key_shape(self.shot.document, self.id, self._one(shape), frame, _numbers(points, "points"),
                                                          reach, span))  # type: ignore[arg-type]
        return self

    def clear_key(self, frame: int, shape: str | None = None) -> DrawnMatte:
        """Take a shape's key on a frame away. Returns itself."""
        self._do("Clear a key", matte_edits.clear_key(self.shot.document, self.id, self._one(shape), frame))
        return self

    def points(self, frame: float, shape: str | None = None) -> np.ndarray | None:
        """(N, 2) where a shape's points are in a frame's picture; None where its track has no answer."""
        record = self.record
        found = record.shape(self._one(shape))
        return points_on(self.shot.document, record, found, frame) if found is not None else None

    def shape_points(self, shape: str | None = None, numbers: Iterable[int] | None = None, roundness: float | None = None, inner: float | None = None,
                     outer: float | None = None) -> DrawnMatte:
        """Set how round points of a shape are (all when not named), and over how many pixels its edge falls there inside and outside. Returns itself."""
        chosen = None if numbers is None else set(numbers)
        with _fields():
            self._do("Shape points", matte_edits.set_points_alike(self.shot.document, self.id, self._one(shape), chosen, roundness, inner, outer))
        return self

    def change(self, **fields: Any) -> DrawnMatte:
        """Set fields of the document's `Matte`: take, fall, grow, invert, opacity, shutter, centre, name. Returns itself."""
        with _fields():
            self._do("Change the matte", items.set_item(self.shot.document, self.record.but(**fields)))
        return self

    def alpha(self, frame: float, blurred: bool = True) -> np.ndarray:
        """(h, w) float32, 0..1: the matte on a frame."""
        return matte_alpha(self.shot.document, self.record, frame, self.shot.plate.size, blurred)

    def hold_back(self, graphic: Placed, how: str = "in front") -> DrawnMatte:
        """Say that it is "in front" of a graphic, "limits" it, or has nothing to do with it ("none"). Returns itself."""
        self._do("Hold the graphic back", matte_edits.hold_back(self.shot.document, self.id, graphic.id, how))  # type: ignore[arg-type]
        return self

    def next_key(self) -> int | None:
        """The frame on which a key is wanted most; None where they are dense."""
        return matte_edits.next_key_frame(self.shot.document, self.record, *self.shot.range)

    def check(self, frames: Sequence[int] | None = None, reach: float = 8.0, progress: Progress | None = None,
              stop: threading.Event | None = None) -> dict[int, dict[str, EdgeMeasure]]:
        """How far the outlines lie from the picture's edge: frame to shape's id to what was measured.

        Parameters
        ----------
        reach : pixels to both sides in which the edge is looked for.
        """
        found: dict[int, dict[str, EdgeMeasure]] = {}
        with single_threaded():
            for event in measure_edges(self.shot.document, self.id, self.shot.plate, list(frames) if frames is not None else self.shot._frames(), reach,
                                       stop=stop):
                assert event.frame is not None
                found[event.frame] = event.item
                if progress is not None:
                    progress(event)
        return found

    def fit(self, frames: Sequence[int], reach: float = 8.0, progress: Progress | None = None, stop: threading.Event | None = None) -> dict[int, str]:
        """Fit the outlines to the picture's edge on frames, each as a key; the frames that were left, and why."""
        return self._fitted("Fit to the edge", fit_matte(self.shot.document, self.id, self.shot.plate, list(frames), reach, stop=stop), progress)

    def repair(self, limit: float, reach: float = 8.0, progress: Progress | None = None, stop: threading.Event | None = None) -> dict[int, str]:
        """Fit keys where the outline is farthest from the edge until it is nowhere more than so many pixels (rms) off; the frames that were left."""
        if not limit > 0:
            raise WertisError("The limit is the distance in pixels that may be left, more than 0.")
        return self._fitted("Repair the matte", repair_matte(self.shot.document, self.id, self.shot.plate, self.shot._frames(), limit, reach, stop=stop),
                            progress)

    def render(self, pattern: str | Path, frames: Sequence[int] | None = None, progress: Progress | None = None,
               stop: threading.Event | None = None) -> dict[int, str]:
        """Write it as a picture sequence (`####` stands for the frame number); frames on which it is empty for want of a track, and why."""
        wanted = list(frames) if frames is not None else self.shot._frames()
        return self.shot._left_out(render_matte(self.shot.document, self.id, self.shot.plate.size, str(pattern), wanted, stop=stop), progress)

    def export(self, path: str | Path) -> int:
        """Write its shapes over the range as .json, or as .svg (#### stands for the frame); how many frames there are."""
        return export_shapes(self.shot.document, self.record, Path(path))

    def read(self, path: str | Path) -> DrawnMatte:
        """Add the shapes of a .json or .svg file, with a key on each of their frames. Returns itself."""
        with _fields():
            self._do("Read shapes", import_shapes(self.shot.document, self.id, Path(path)))
        return self

    def _fitted(self, label: str, events: Iterable[Event], progress: Progress | None) -> dict[int, str]:
        left: dict[int, str] = {}
        after: Any = None
        with single_threaded():
            for event in events:
                if progress is not None:
                    progress(event)
                if isinstance(event.item, Document):
                    after = event.item
                elif event.frame is not None and "was left" in event.note:
                    left[event.frame] = event.note
        if after is not None:
            self._do(label, after)
        return left

    def _one(self, shape: str | None) -> str:
        if shape is not None:
            return shape
        if len(self.shapes) != 1:
            raise WertisError(f"{self.name} has {len(self.shapes)} shapes; name one by its id.")
        return self.shapes[0]

    def _do(self, label: str, after: Document) -> None:
        self.shot._do(label, after)


class Graded:
    """A grade of a shot."""

    def __init__(self, shot: Shot, ident: str) -> None:
        self.shot, self.id = shot, ident

    @property
    def record(self) -> Grade:
        """Its data.

        Raises
        ------
        WertisError
            When it is no longer in the shot.
        """
        found = self.shot.document.item(self.id, Grade)
        if found is None:
            raise WertisError("That grade is no longer in the shot.")
        return found

    def change(self, **fields: Any) -> Graded:
        """Set fields of the document's `Grade`: exposure, slope, offset, power, saturation, blur, opacity, name. Returns itself."""
        with _fields():
            self.shot._do("Change the grade", set_grade(self.shot.document, self.id, **fields))
        return self


class Placed:
    """A graphic on a surface."""

    def __init__(self, shot: Shot, ident: str) -> None:
        self.shot, self.id = shot, ident

    @property
    def record(self) -> Placement:
        """Its data.

        Raises
        ------
        WertisError
            When it is no longer in the shot.
        """
        found = self.shot.document.item(self.id, Placement)
        if found is None:
            raise DeliverError("That graphic is no longer in the shot.")
        return found

    @property
    def name(self) -> str:
        """Its name."""
        return self.record.name

    def corners(self, frame: int) -> np.ndarray | None:
        """Its corners (4, 2) on a frame; None where its track has no answer."""
        return edits.placement_on(self.shot.document, self.record, frame)

    def change(self, **fields: Any) -> Placed:
        """Set fields of the document's `Placement`; returns itself."""
        with _fields():
            self._put("Change the graphic", self.record.but(**fields))
        return self

    def carry_by(self, surface: Surface, frame: int) -> Placed:
        """Hang it on another track; it does not move in the picture of `frame`. Returns itself."""
        self.shot._do("Carry by another track", items.carry_item(self.shot.document, self.id, surface.id, frame))
        return self

    def _put(self, label: str, item: Item) -> None:
        self.shot._do(label, items.set_item(self.shot.document, item))
