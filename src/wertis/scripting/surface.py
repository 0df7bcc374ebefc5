"""Tracked surfaces in scripts."""

from __future__ import annotations

import threading
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from wertis import libraries  # noqa: F401  first, so that importing changes no environment
from wertis.core.blas import single_threaded
from wertis.core.check.slip import Slip
from wertis.core.check.summary import Summary, share_under, summary
from wertis.core.comp.text import text_ratio
from wertis.core.errors import RegionError, WertisError
from wertis.core.geometry import polygon
from wertis.core.geometry.motion import Motion, carried
from wertis.core.jobs.check import check_track
from wertis.core.jobs.dense_tracking import motion_folder
from wertis.core.jobs.events import told
from wertis.core.jobs.export import export_corner_pin, export_mesh
from wertis.core.jobs.find import find_vertices
from wertis.core.jobs.mesh_tracking import laid_mesh, track_vertices
from wertis.core.jobs.occluder_mattes import write_mattes
from wertis.core.jobs.prove import Proof
from wertis.core.jobs.repair import Outcome, repair_by_itself
from wertis.core.jobs.retrack import out_of_date, retrack
from wertis.core.jobs.tracking import kept, runs_from, tracked
from wertis.core.shot import edits, items, matte_edits, meshes, motions, repairs
from wertis.core.shot import pegs as peg_edits
from wertis.core.shot import points as point_edits
from wertis.core.shot.artwork import Artwork
from wertis.core.shot.cameras import set_off_plane
from wertis.core.shot.document import HoldOut, Placement, RepairLayer, Track
from wertis.core.shot.document import Shot as Document
from wertis.core.shot.fills import add_fill, set_fill
from wertis.core.shot.grades import add_grade, set_grade
from wertis.core.shot.hold_outs import open_matte
from wertis.core.shot.meshes import MeshSettings
from wertis.core.shot.patches import Patch, add_patch
from wertis.core.shot.placing import whole_picture
from wertis.core.shot.points import PointsSolution
from wertis.core.shot.resolve import motion_of
from wertis.scripting import exchange
from wertis.scripting.common import Points, Progress, checked_fields, numbers
from wertis.scripting.mattes import DrawnMatte
from wertis.scripting.patches import Patched
from wertis.scripting.uses import Filled, Graded, Placed

if TYPE_CHECKING:
    from wertis.scripting.cluster import Cluster
    from wertis.scripting.shot import Shot


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
        with checked_fields():
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
              stop: threading.Event | None = None, cluster: Cluster | None = None) -> Surface:
        """Track from a frame that is known (the region's own when not given): forward, backward, both, next or previous. Returns itself.

        Parameters
        ----------
        cluster : whose processes track; of dense motion each direction, and the steps to neighbours in parts, with the same bits.
        """
        shot = self.shot.document
        at = self.record.region.frame if frame is None else frame
        low, high = shot.range
        if direction == "both" and low == high == at:
            self.shot._do(f"Track {self.name}", kept(shot, self.id, {}))
            return self
        runs = runs_from(shot, self.record, at, direction)
        if cluster is not None:
            from wertis.scripting.parts import tracked_on_cluster

            after = tracked_on_cluster(cluster, shot, [(self.record, runs)], progress, self.shot._folders)
        else:
            with single_threaded():
                after = tracked(shot, self.id, self.shot.plate, runs, stop=stop, progress=progress)
        self.shot._do(f"Track {self.name}", after)
        return self

    def stand_off(self, percent: float) -> Surface:
        """Let what lies on a camera's plane stand off it, towards the camera, by percent of the plane's distance. Returns itself."""
        with checked_fields():
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
        with checked_fields():
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
        with checked_fields():
            self.shot._do("Choose points", point_edits.use_points(self.shot.document, self.id, None if left_out is None else set(left_out),
                                                                  model))  # type: ignore[arg-type]
        return self

    def set_patterns(self, names: Iterable[str], side: int | None = None, reach: int | None = None, offset: tuple[float, float] | None = None,
                     renewed: bool | None = None) -> Surface:
        """Choose what points are found by; what was tracked stays until it is tracked again. Returns itself.

        Parameters
        ----------
        side, reach : of the square pattern, and how far round where it is expected it is looked for, in pixels; 0 leaves that to the tracker.
        offset : (x, y) from the point to the pattern's middle, in pixels.
        renewed : for all points, whether a pattern that changes for good is looked for by its newer look as well.
        """
        with checked_fields():
            self.shot._do("Set patterns", point_edits.set_patterns(self.shot.document, self.id, set(names), side, reach, offset, renewed))
        return self

    def set_references(self, further: Iterable[int] | None = None, renewed: bool | None = None) -> Surface:
        """Choose what a mesh is compared with besides its reference frame; what was tracked stays until it is tracked again. Returns itself.

        Parameters
        ----------
        further : frames on which the mesh lies right (as tracked and pegged), that stand in where the surface looks otherwise there.
        renewed : whether a newer look is taken by itself where the surface comes to look otherwise for good; its error is added.
        """
        with checked_fields():
            self.shot._do("Choose reference frames",
                          meshes.set_references(self.shot.document, self.id, None if further is None else list(further), renewed))
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
        over = None if frames is None else sorted(set(frames))
        with single_threaded():
            for event in told(track_vertices(shot, self.id, self.shot.plate, sorted(set(vertices)), over, stop=stop), progress):
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
              stop: threading.Event | None = None, cluster: Cluster | None = None) -> Drift:
        """Measure the drift on the pictures, apart from the tracker.

        Parameters
        ----------
        base : the frame that counts as right; the reference frame when not given.
        frames : the shot's range when not given.
        cluster : whose processes look at the frames; the numbers are the same bits.
        """
        found: dict[int, Slip] = {}
        wanted = list(frames) if frames is not None else self.shot._frames()
        looks = None
        if cluster is not None:
            from wertis.scripting.parts import first_looks_on_cluster

            looks = first_looks_on_cluster(cluster, self.shot.document, self.record, base, "", self.shot._folders)
        with single_threaded():
            for event in told(check_track(self.shot.document, self.record, self.shot.plate, wanted, base=base, stop=stop, elsewhere=looks), progress):
                assert event.frame is not None
                found[event.frame] = event.item
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
            for event in told(repair_by_itself(shot.but(range=frames or shot.range), self.id, self.shot.plate, limit, stop=stop), progress):
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
            for event in told(retrack(self.shot.document, self.id, self.shot.plate, stop=stop), progress):
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
        artwork : a picture, a sequence pattern or a movie; or "grid", "checker", "solid" or "gradient".
        corners : (4, 2) where its top left, top right, bottom right and bottom left corner go; proposed when not given.
        frame : on which the corners are; the region's own when not given.
        fit : fit, fill or stretch.
        blend : a mode of W3C Compositing and Blending Level 1, or plus-lighter.
        more : other fields of the document's `Placement`.
        """
        kind = str(artwork) if str(artwork) in ("grid", "checker", "solid", "gradient") else "picture"
        if kind == "picture":
            text = str(artwork)
            moves = "#" in text or "%" in text or Path(text).is_dir() or Path(text).suffix.lower() in (".mov", ".mp4", ".mkv", ".webm")
            kind = "sequence" if moves else "picture"
            art = Artwork(kind=kind, path=str(Path(text).absolute()), start=self.shot.range[0])  # type: ignore[arg-type]
            if kind == "picture" and not Path(text).is_file():
                raise WertisError(f"{text} does not exist; check the name.")
        else:
            art = Artwork(kind=kind)  # type: ignore[arg-type]
        return self._placed(art, corners, frame, name or (Path(str(artwork)).stem[:200] or "Graphic"), fit=fit, blend=blend, opacity=opacity, **more)

    def place_whole(self, artwork: str | Path, frame: int | None = None, name: str = "", **more: Any) -> Placed:
        """Put artwork that was made on a frame's whole picture back where it was made; as `place` otherwise."""
        at = frame if frame is not None else self.record.region.frame
        whole = whole_picture(self.shot.document, self.record, at)
        return self.place(artwork, whole.array, at, name, "stretch", **more)

    def write(self, text: str, corners: Points | None = None, frame: int | None = None, name: str = "", font: str | Path = "", **look: Any) -> Placed:
        """Put words on the surface.

        Parameters
        ----------
        corners, frame : as for `place`.
        font : file of a TrueType or OpenType font; Inter when not given.
        look : fields of the document's `Artwork`: colour, align, leading, outline (hundredths of the letters' size), outline_colour.
        """
        with checked_fields():
            art = Artwork(kind="text", text=text, font=str(Path(font).absolute()) if font else "", **look)
        text_ratio(art.text, art.font)  # that the font can be read
        return self._placed(art, corners, frame, name or text.strip().split("\n")[0][:40] or "Text")

    def _placed(self, art: Artwork, corners: Points | None, frame: int | None, name: str, **more: Any) -> Placed:
        at = frame if frame is not None else self.record.region.frame
        quad = numbers(corners, "corners") if corners is not None else edits.default_quad(self.record, at)
        if quad.shape != (4, 2):
            raise RegionError(f"A placement has four corners; {len(quad)} were given.")
        with checked_fields():
            placement = Placement(on=self.id, frame=at, quad=edits.as_points(quad), artwork=art, name=name, **more)
        self.shot._do("Place a graphic", items.add_item(self.shot.document, placement))
        return Placed(self.shot, placement.id)

    def take_out(self, frame: int | None = None, corners: Points | None = None, whole: bool = False, name: str = "Patch") -> Patched:
        """Take a flat picture out of a frame, to be painted and given back to all of them.

        Parameters
        ----------
        frame : the region's own when not given.
        corners : (4, 2) on that frame; the region's when not given.
        whole : the frame's whole picture instead, as it is.
        """
        at = frame if frame is not None else self.record.region.frame
        document, made = add_patch(self.shot.document, self.record, at, numbers(corners, "corners") if corners is not None else None, whole, name)
        self.shot._do("Take out a patch", document)
        return Patched(self.shot, made.id)

    @property
    def patches(self) -> list[Patched]:
        """The patches on it, the lowest first."""
        return [Patched(self.shot, p.id) for p in self.shot.document.items_under(self.id, Patch)]

    def grade(self, inside: Iterable[DrawnMatte] = (), name: str = "Grade", **fields: Any) -> Graded:
        """Change the picture's colours inside mattes, or everywhere where none is given.

        Parameters
        ----------
        fields : of the document's `Grade`: exposure in stops, slope, offset, power (three numbers each), saturation, blur, opacity.
        """
        with checked_fields():
            document, made = add_grade(self.shot.document, self.record, tuple(m.id for m in inside), name)
            document = set_grade(document, made.id, **fields)
        self.shot._do("Add a grade", document)
        return Graded(self.shot, made.id)

    def fill(self, inside: Iterable[DrawnMatte], name: str = "Colour", **fields: Any) -> Filled:
        """Lay a colour on the picture inside mattes, drawn lines among them.

        Parameters
        ----------
        fields : of the document's `Fill`: colour as coded for the eye, blend, opacity, glow (pixels), glow_strength, held_back.
        """
        with checked_fields():
            document, made = add_fill(self.shot.document, self.record, tuple(m.id for m in inside), name)
            document = set_fill(document, made.id, **fields)
        self.shot._do("Lay a colour", document)
        return Filled(self.shot, made.id)

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

    def export_motion(self, path: str | Path, kind: str = "corners", placement: Placed | None = None, reference: int | None = None, repaired: bool = True,
                      progress: Progress | None = None, cluster: Cluster | None = None, relative: bool = False, **layout: Any) -> int:
        """Write the motion in the coordinates of whoever receives it (.json, .csv; points also .txt; maps a sequence of .exr); how many frames it has.
        {point} in the name of a file of points gives each a file of its own.

        Parameters
        ----------
        kind : "corners", "inverse corners" (steadying), "matrices", "transforms", "points", "map", "inverse map", or "vectors".
        placement : whose corners they are; the region's when not given.
        reference : frame that everything is relative to; the region's own when not given.
        repaired : repairs and all, or as it was tracked.
        cluster : whose processes make coordinate maps.
        relative : corners, points and a transform's anchor relative to where they are on the reference frame.
        layout : y_up, centre ("half" or "zero"), units ("pixels" or "unit"), receiver (width, height), first (number of the range's first frame).
        """
        record = placement.record if placement is not None else None
        return exchange.export(self, path, kind, record, reference, repaired, layout, progress, cluster=cluster, relative=relative)

    def prove(self, placement: Placed, kind: str = "corners", suffix: str = ".json", frames: Sequence[int] | None = None,
              believed: Mapping[str, Any] | None = None, progress: Progress | None = None, **layout: Any) -> Proof:
        """Export a placement's motion, let the receiver's stand-in rebuild frames from the file, and compare: `.frames` with `.corners` in pixels and
        `.difference` in 255ths, and in `.wrong` what is wrong, in words.

        Parameters
        ----------
        kind : "corners", "matrices", "points", or "mesh" with .json, .usd, .glb, .gltf or .obj, whose `.corners` are the vertices.
        believed : options of the layout that the receiver takes otherwise than the file says.
        """
        if kind == "mesh":
            return exchange.mesh_proved(self, placement.record, suffix, frames, layout, progress)
        return exchange.proved(self, placement.record, kind, suffix, frames, dict(believed) if believed is not None else None, layout, progress)

    def export_mesh(self, path: str | Path, **layout: Any) -> int:
        """Write a mesh's vertices over the shot's range as .csv, .json, .obj (#### stands for the frame), .usd or .glb; how many frames it has.

        Parameters
        ----------
        layout : as for `export_motion`; .obj, .usd and .glb take receiver and first alone, for y goes up in them.
        """
        return export_mesh(self.shot.document, self.record, Path(path), exchange.layout(self, layout))
