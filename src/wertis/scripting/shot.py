"""A shot in scripts."""

from __future__ import annotations

import threading
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import numpy as np

from wertis import libraries  # noqa: F401  first, so that importing changes no environment
from wertis.core.blas import single_threaded
from wertis.core.errors import RegionError, WertisError
from wertis.core.jobs.camera import Solve, solve_plate, with_camera
from wertis.core.jobs.events import Event, told
from wertis.core.jobs.point_tracking import good_spots
from wertis.core.jobs.render import render, render_frame
from wertis.core.jobs.tracking import runs_from
from wertis.core.open_shot import OpenShot
from wertis.core.plate import Plate
from wertis.core.plate.cuts import cut_frames, find_cuts
from wertis.core.shot import edits, matte_edits
from wertis.core.shot import store as shot_files
from wertis.core.shot.cameras import solved_camera
from wertis.core.shot.dense import DenseSettings
from wertis.core.shot.document import PlaneSettings, TrackSettings
from wertis.core.shot.document import Shot as Document
from wertis.core.shot.items import with_only
from wertis.core.shot.mattes import mattes_of, new_shape
from wertis.core.shot.meshes import MeshSettings, mesh_of, set_references
from wertis.core.track.kinds import KINDS
from wertis.core.track.scene_plane import FilmedScene
from wertis.scripting.camera import Camera
from wertis.scripting.common import Points, Progress, checked_fields, held, numbers, points_settings
from wertis.scripting.mattes import DrawnMatte
from wertis.scripting.surface import Surface

if TYPE_CHECKING:
    from wertis.scripting.cluster import Cluster


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

    def set_no_cut(self, frame: int, none: bool = True) -> None:
        """Say that no other shot begins at a frame, however it looks, as where something covers all of the picture; False takes that back.

        Raises
        ------
        WertisError
            When the frame is none of the plate, or its first one.
        """
        self._do("No cut" if none else "Cuts again", edits.set_no_cut(self.document, frame, none))

    def add(self, region: Points, frame: int, name: str = "Surface", model: str = "perspective", look: str = "mix", half: bool = False,
            smooth: bool = False, spacing: float | None = None, stiffness: float | None = None, vertices: Points | None = None,
            points: Points | Mapping[str, tuple[float, float]] | None = None, keep: str | Path | None = None, whole: bool = False,
            parts: bool | None = None, neighbours: bool = True, patterns: Mapping[str, Mapping[str, Any]] | None = None,
            further: Iterable[int] = ()) -> Surface:
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
        further = list(further)
        if model != "mesh" and (spacing is not None or stiffness is not None or vertices is not None or further):
            raise RegionError(f"Spacing, stiffness, vertices and further reference frames are those of a mesh; track with model mesh, not {model}.")
        outline = numbers(region, "region")
        if outline.ndim != 2 or outline.shape[1] != 2 or len(outline) < 3:
            raise RegionError(f"The region has {len(outline)} point(s); give at least three, round an area with detail.")
        plate = self.plate
        if not plate.first <= frame <= plate.last:
            raise RegionError(f"Frame {frame} is not in the plate, which runs from {plate.first} to {plate.last}.")
        with checked_fields():
            shot, track = edits.add_track(self.document, outline, frame, name, smooth)
            settings: TrackSettings
            if model == "mesh":
                own = None if vertices is None else np.ascontiguousarray(numbers(vertices, "vertices"))
                settings = MeshSettings(spacing=spacing, stiffness=stiffness, look=look, half=half, vertices=own)  # type: ignore[arg-type]
            elif points is not None:
                settings = points_settings(points, look, patterns)
            elif model == "dense":
                settings = DenseSettings(folder=str(Path(keep).absolute()) if keep is not None else "", whole=whole, look=look,  # type: ignore[arg-type]
                                         parts=whole if parts is None else parts, neighbours=neighbours)
            else:
                settings = PlaneSettings(model=model, look=look, half=half)  # type: ignore[arg-type]
            shot = edits.set_settings(shot, track.id, settings)
            if further:
                shot = set_references(shot, track.id, further)
            if model == "mesh":
                mesh_of(track.but(settings=settings), plate.size)  # says at once what is wrong with it
        self._do(f"Draw {track.name}", shot)
        return Surface(self, track.id)

    def good_spots(self, region: Points, frame: int, count: int = 4, spacing: float = 0.0) -> np.ndarray:
        """Up to `count` spots (n, 2) of a frame, inside a region (N, 2) drawn there, that are good for tracking points, at least `spacing` pixels apart.

        Raises
        ------
        WertisError
            When there is none.
        """
        shot, track = edits.add_track(self.document, numbers(region, "region"), frame)
        return good_spots(shot, track, self.plate, count, spacing)

    def track(self, region: Points, frame: int, model: str = "perspective", name: str = "Surface", look: str = "mix", half: bool = False,
              hold_outs: Iterable[Points | str | Path] = (), progress: Progress | None = None, stop: threading.Event | None = None,
              spacing: float | None = None, stiffness: float | None = None, vertices: Points | None = None,
              points: Points | Mapping[str, tuple[float, float]] | None = None, keep: str | Path | None = None, whole: bool = False,
              parts: bool | None = None, patterns: Mapping[str, Mapping[str, Any]] | None = None, further: Iterable[int] = ()) -> Surface:
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
        patterns : what points are found by, by their names: `side` of the square pattern, `reach` of the search round where it is expected, and `offset`
            (x, y) from the point to the pattern's middle, in pixels.
        keep : folder in which dense motion is kept; in the user's cache when not given. What is there and still holds is not computed again.
        whole : dense motion of the whole picture, not of the region alone.
        further : frames that stand in for a mesh's reference frame where the surface looks otherwise there, from where tracking comes to them.
        parts : dense motion of what does not go with one surface as well; of the whole picture it is looked for when not given.
        """
        surface = self.add(region, frame, name, model, look, half, False, spacing, stiffness, vertices, points, keep, whole, parts,
                           patterns=patterns, further=further)
        for each in hold_outs:
            surface.hold_out(each)
        return surface.track(progress=progress, stop=stop)

    def matte(self, points: Points | None = None, frame: int | None = None, carried_by: Surface | None = None, name: str = "Matte",
              roundness: float = 1.0, soft: float = 0.0) -> DrawnMatte:
        """Begin a matte: a shape through points (N, 2) of a frame's picture (the carrying track's own when not given), carried by a track or by none.

        Parameters
        ----------
        points : none to begin with no shape; `DrawnMatte.add` draws more.
        """
        at = frame if frame is not None else carried_by.record.region.frame if carried_by is not None else self.range[0]
        with checked_fields():
            shapes = () if points is None else (new_shape(numbers(points, "points"), at, roundness, soft),)
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

    def export_data(self, path: str | Path, **layout: Any) -> int:
        """Write everything of the shot as one JSON file (docs/formats.md), in a layout; how many tracks, graphics and mattes it holds."""
        from wertis.core.jobs.motion_export import layout_of
        from wertis.core.jobs.shot_data import export_shot_data

        with checked_fields():
            where = layout_of(self.document, **layout)
        return export_shot_data(self.document, Path(path), where)

    def write_clip(self, path: str | Path, media: str | Path) -> None:
        """Write an OpenTimelineIO clip of what was rendered to `media` (a pattern or a movie), so that an edit finds range, rate and media."""
        from wertis.core.exchange.timeline import write_clip

        low, high = self.range
        write_clip(Path(path), self.document.name, str(media), low, high, self.plate.fps)

    def import_motion(self, path: str | Path, name: str = "", columns: Sequence[str] = (), scaled: bool = False, folder: str | Path | None = None,
                      retime: bool = False, **layout: Any) -> Surface | Camera:
        """A new surface whose motion was made elsewhere, or the shot's camera: motion files and tables, corner pins, animated meshes (JSON, USD, glTF,
        a sequence of OBJ), a sequence of coordinate maps (#### for the frame's number), cameras (JSON, USD, glTF).

        Parameters
        ----------
        scaled : motion of a picture of another size is scaled to the plate's.
        folder : where coordinate maps are kept as dense motion; in the user's cache when None.
        retime : motion made at another frame rate is brought to the plate's.
        columns : of a table with names of its own: the frame's, then x1, y1 to x4, y4 of the corners, or the nine of a matrix row by row.
        layout : of tables that say none of their own; see `Surface.export_motion`.
        """
        from wertis.core.jobs.motion_export import layout_of
        from wertis.core.jobs.motion_import import import_motion

        with checked_fields():
            where = layout_of(self.document, **layout)
        found = import_motion(self.document, Path(path), where, name, columns, scaled, Path(folder) if folder is not None else None, retime)
        self._do("Import motion", found.shot)
        return Surface(self, found.track.id) if found.track is not None else self.camera

    def render(self, pattern: str | Path, what: Literal["comp", "graphic"] = "comp", frames: Sequence[int] | None = None, resume: bool = False,
               progress: Progress | None = None, stop: threading.Event | None = None, of: Sequence[str] = (),
               cluster: Cluster | None = None) -> dict[int, str]:
        """Render to an image sequence (`####` stands for the frame number) or a movie; frames that were left out, and why.

        Parameters
        ----------
        what : the comp, or the graphics alone with alpha.
        frames : the shot's range when not given.
        resume : keep frames of a sequence that are there, and go on with the rest.
        of : names of graphics, patches, colours and grades that are laid on the plate alone; all that are visible otherwise.
        cluster : whose processes make the frames (`wertis.scripting.cluster.Cluster`); the files are the same bits.
        """
        if what not in ("comp", "graphic"):
            raise WertisError(f"'{what}' cannot be rendered; choose comp or graphic.")
        wanted = list(frames) if frames is not None else self._frames()
        if cluster is not None:
            from wertis.scripting.parts import render_on_cluster

            return self._left_out(render_on_cluster(cluster, self._with_only(of), str(pattern), wanted, what, resume), progress)
        return self._left_out(render(self._with_only(of), self.plate, str(pattern), wanted, what, resume=resume, stop=stop), progress)

    def _with_only(self, names: Sequence[str]) -> Document:
        if not names:
            return self.document
        there = [x for x in self.document.items if x.rendered]
        for name in names:
            if name not in {x.name for x in there}:
                raise WertisError(f"Nothing that is laid on the plate is named {name}; there is: {', '.join(x.name for x in there) or 'nothing'}.")
        return with_only(self.document, [x.id for x in there if x.name in names])

    def solve(self, focal: float | None = None, radial: int = 0, hold_outs: Iterable[Points | str | Path] = (), progress: Progress | None = None,
              stop: threading.Event | None = None, zoom: bool = False) -> Camera:
        """Solve the camera of the shot's range from features of the whole picture.

        Parameters
        ----------
        focal : in pixels, when it is known; solved for otherwise.
        radial : how many radial terms of the lens are solved for as well: none, one or two.
        zoom : the focal length changes from frame to frame.
        hold_outs : polygons (N, 2) that stay in the picture, or matte sequences, whose features do not count.

        Raises
        ------
        WertisError
            When no camera can be solved, with what that means, or the work was stopped.
        """
        masks = [held(what, self.plate.size) for what in hold_outs]

        def held(frame: int) -> np.ndarray:
            return np.asarray(np.max([mask(frame) for mask in masks], axis=0))

        found: Solve | None = None
        with single_threaded():
            for event in told(solve_plate(self.plate, self._frames(), focal, int(radial), held if masks else None, stop=stop, zoom=zoom), progress):
                found = event.item if isinstance(event.item, Solve) else found
        if found is None:
            raise WertisError("Solving was stopped before its end.")
        self._do("Solve the camera", with_camera(self.document, found, focal is not None, int(radial)))
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
        return Camera(self, Solve(FilmedScene(record.solved, self.plate), record.tracks))

    def frame(self, frame: int, what: Literal["comp", "graphic"] = "comp", of: Sequence[str] = ()) -> np.ndarray:
        """A frame as it is rendered, (h, w, channels): a function of the shot and the frame alone; `of` as in `render`."""
        with single_threaded():
            return render_frame(self._with_only(of), frame, what, self.plate)

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

    def track_all(self, surfaces: Sequence[Surface], cluster: Cluster, progress: Progress | None = None) -> None:
        """Track several surfaces both ways from their regions' frames, each by a process of a cluster."""
        from wertis.scripting.parts import tracked_on_cluster

        wanted = [(s.record, runs_from(self.document, s.record, s.record.region.frame, "both")) for s in surfaces]
        self._do("Track", tracked_on_cluster(cluster, self.document, wanted, progress, self._folders))

    @property
    def _folders(self) -> list[Path]:
        """Folders that whoever works on the shot can be expected to read."""
        plate = self.plate.path
        return [p.parent for p in (self.opened.path, plate) if p is not None] + ([plate] if plate.is_dir() else [])

    def _left_out(self, events: Iterable[Event], progress: Progress | None) -> dict[int, str]:
        left: dict[int, str] = {}
        with single_threaded():
            for event in told(events, progress):
                if event.note and event.frame is not None:
                    left[event.frame] = event.note
        return left
