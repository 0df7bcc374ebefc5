"""The step Repair: points that are put where they belong, the motion as a whole, and bent sides."""

from collections.abc import Callable, Iterator
from dataclasses import replace
from functools import partial

import numpy as np
from PySide6.QtCore import QPointF
from PySide6.QtGui import QPainter

from wertis.app import theme
from wertis.app.commands import Command
from wertis.app.display import SteadyWish
from wertis.app.magnifier import paint_enlarged
from wertis.app.mesh_painting import paint_mesh
from wertis.app.overlay import Line
from wertis.app.painting import words as paint_words
from wertis.app.picture_view import PictureView
from wertis.app.step import Step
from wertis.app.steps.check.overlays import drift_words
from wertis.app.steps.check.step import paint_check
from wertis.app.steps.repair.mesh_tool import MeshTool
from wertis.app.steps.repair.page import RepairPage, repair_words
from wertis.app.tools import HandlesTool, PointsTool, Tool
from wertis.app.workbench import Workbench
from wertis.core.blas import single_threaded
from wertis.core.check.summary import GOOD
from wertis.core.geometry.motion import between
from wertis.core.geometry.warp import compose
from wertis.core.jobs.events import Event, Stop
from wertis.core.jobs.find import find_places, find_vertices
from wertis.core.jobs.job import Job
from wertis.core.jobs.mesh_tracking import track_vertices
from wertis.core.jobs.repair import Outcome, repair_by_itself, with_points
from wertis.core.jobs.retrack import out_of_date, retrack, steps_of
from wertis.core.shot import bends, extra_moves, repairs
from wertis.core.shot.document import ExtraMoveLayer, RepairLayer, Shot, Solution, Track
from wertis.core.shot.meshes import MeshSolution, PegLayer, add_vertex, remove_vertices, vertices_on
from wertis.core.shot.pegs import carry_by_pegs, clear_pegs, forget_data, set_followers, set_locked, set_pegs, shift_pegs
from wertis.core.shot.resolve import motion_of

_MESH = frozenset({"clear", "pegs", "add-vertex", "key", "unpeg", "remove-vertices", "follow", "lock", "forget-before", "forget-after",
                   "find", "alone", "by-pegs"})
_COMMANDS = (("repair.corners", "Points at the corners", "", "corners"), ("repair.add", "Add a point", "A", "add"),
             ("repair.find", "Find places on this frame", "M", "find"), ("repair.key", "Set a key", "K", "key"),
             ("repair.clear", "Clear keys here", "", "clear"),
             ("repair.clear-points", "Clear the chosen points' keys", "", "clear-points"), ("repair.remove", "Remove the chosen points", "", "remove"),
             ("repair.before", "Key before", "[", "before"), ("repair.after", "Key after", "]", "after"),
             ("repair.itself", "Repair by itself", "Ctrl+M", "itself"), ("repair.again", "Track again from the keys", "Ctrl+Y", "again"),
             ("repair.about", "Set the extra move's point", "", "about"))


class RepairStep(Step):
    """Repairing; each part of the page has its own keys."""

    name, order, steady, looks_at_plate = "Repair", 50, SteadyWish(True), True
    page: RepairPage

    def __init__(self, bench: Workbench) -> None:
        super().__init__(bench)
        self.page = RepairPage(self.session)
        self.page.wanted.connect(self.do)
        self.worst_wanted: Callable[[], object] = lambda: bench.run("go.next-worst")
        self.session.checked.place_shown.connect(self._choose_vertex)

    def commands(self) -> list[Command]:
        return [Command(ident, "Repair", words, partial(self.do, what), keys) for ident, words, keys, what in _COMMANDS]

    def words(self) -> str:
        track = self.session.track
        return repair_words(self.session.shot, track) if track is not None and track.solution is not None else ""

    def hint(self) -> str:
        tracked = self.session.track is not None and self.session.track.solution is not None
        if self.part == "mesh":
            return "Drag vertices to where they belong: they are pegged there. Ctrl+Y tracks again through the pegs; Shift chooses several."
        return "W goes to the worst frame; M lets the points find their places, or drag them; Ctrl+M repairs by itself." if tracked else \
            "Track the surface first (T)."

    def captions(self) -> list[Line]:
        return [drift_words(self.session)] if self.session.track is not None else []

    def paint(self, painter: QPainter, view: PictureView) -> None:
        paint_check(painter, view, self.bench.display.looks.surface)
        if self.part == "mesh":
            paint_mesh(painter, view, handles=True)

    def paint_beside_tool(self, painter: QPainter, view: PictureView) -> None:
        tool = self.bench.viewer.tool
        if self.part == "points" and tool is not None and tool.magnify is not None:
            self._paint_spot(painter, view, tool.magnify)

    def key_marks(self) -> list[int]:
        s = self.session
        if self.part == "motion" and s.track is not None:
            return s.track.layer(ExtraMoveLayer).frames(s.track.reference)
        if self.part == "mesh" and s.track is not None:
            return s.track.layer(PegLayer).frames
        return s.placement.bend.frames if self.part == "sides" and s.placement is not None else []

    @property
    def part(self) -> str:
        """The part of the page in hand: "points", "motion" or "sides"."""
        return self.page.part

    # -- tools ----------------------------------------------------------------------------------------------------

    def tool_wanted(self) -> tuple[str, ...]:
        s = self.session
        if self.part == "sides":
            return ("sides", s.placement.id) if s.placement is not None else ()
        if s.track is None or s.track.solution is None:
            return ()
        if self.part == "motion":
            return ("motion", s.track.id)
        if self.part == "mesh":
            return ("mesh", s.track.id) if isinstance(s.track.solution, MeshSolution) else ()
        return ("points", s.track.id) if s.track.layer(RepairLayer).points else ()

    def tool(self, wanted: tuple[str, ...]) -> Tool | None:
        if wanted[0] == "motion":
            return PointsTool(self._extra_points, self._extra_moved, True, theme.AMBER)
        if wanted[0] == "sides":
            return HandlesTool(self._side_points, self._side_moved, theme.AMBER)
        if wanted[0] == "mesh":
            return MeshTool(self._mesh_points, self._mesh_moved)
        return PointsTool(self._repair_points, self._repair_moved, True, theme.AMBER)

    def _mesh_points(self) -> np.ndarray | None:
        s = self.session
        return vertices_on(s.track, s.frame) if s.track is not None else None

    def _mesh_moved(self, points: np.ndarray, dragging: bool) -> None:
        s = self.session
        tool, before = self.bench.viewer.tool, self._mesh_points()
        if s.track is None or before is None:
            return
        chosen = tool.chosen if isinstance(tool, MeshTool) else set()
        moved = {k: points[k] for k in chosen if k < len(points) and not np.allclose(before[k], points[k], atol=1e-9)}
        self.bench.edit("Peg a vertex", lambda: set_pegs(s.shot, s.track_id, s.frame, moved) if moved else s.shot, "peg-drag", dragging)

    def _choose_vertex(self, number: int) -> None:
        """Take a vertex in hand, as the one that drifts most."""
        tool = self.bench.viewer.tool
        if self.current and isinstance(tool, MeshTool):
            tool.chosen = {number}
            self.bench.update_views()

    def _repair_points(self) -> np.ndarray | None:
        s = self.session
        return repairs.points_on(s.track, s.frame) if s.track is not None else None

    def _repair_moved(self, points: np.ndarray, dragging: bool) -> None:
        s = self.session
        before = self._repair_points()
        if s.track is None or before is None:
            return
        there = zip(s.track.layer(RepairLayer).points, before, points, strict=True)
        moved = {p.id: to for p, at, to in there if not np.allclose(at, to, atol=1e-9)}
        self.bench.edit("Move a repair point", lambda: repairs.move_points(s.shot, s.track_id, s.frame, moved) if moved else s.shot, "repair-drag",
                        dragging)

    def _extra_points(self) -> np.ndarray | None:
        s = self.session
        at = extra_moves.about_on(s.track, s.frame) if s.track is not None else None
        if s.track is None or at is None:
            return None
        values = extra_moves.values_on(s.track, s.frame)
        return np.array([at + [values.x, values.y]])

    def _extra_moved(self, points: np.ndarray, dragging: bool) -> None:
        s = self.session
        at = extra_moves.about_on(s.track, s.frame) if s.track is not None else None
        if s.track is None or at is None:
            return
        x, y = points[0] - at
        values = replace(extra_moves.values_on(s.track, s.frame), x=float(x), y=float(y))
        self.bench.edit("Move the surface", lambda: extra_moves.set_values(s.shot, s.track_id, s.frame, values), "extra-drag", dragging)

    def _side_points(self) -> np.ndarray | None:
        s = self.session
        return bends.handles_on(s.shot, s.placement, s.frame) if s.placement is not None else None

    def _side_moved(self, points: np.ndarray, dragging: bool) -> None:
        s = self.session
        bent = s.placement
        if bent is not None:
            self.bench.edit("Bend a side", lambda: bends.move_handles(s.shot, bent.id, s.frame, points), "side-drag", dragging)

    def _paint_spot(self, painter: QPainter, view: PictureView, point: np.ndarray) -> None:
        """Beside the magnifier, the spot that is being dragged as the reference frame shows it, in this frame's perspective."""
        s, track = self.session, self.session.track
        if track is None or s.cache is None:
            return
        points, picture, motion = repairs.points_on(track, s.frame), s.cache.peek(track.region.frame), motion_of(track)
        onto = between(motion, track.region.frame, s.frame) if motion is not None else None
        if points is None or onto is None or not isinstance(picture, np.ndarray):
            return
        spot = np.array(track.layer(RepairLayer).points[int(np.argmin(np.linalg.norm(points - point, axis=1)))].place)
        box = view.magnifier_box(point)
        now = s.cache.peek(s.frame)
        if isinstance(now, np.ndarray):
            # the plate itself, since a graphic would hide what is to be recognised
            paint_enlarged(painter, view, box, now, view.through, point)
            paint_words(painter, QPointF(box.left() + 6, box.bottom() - 8), f"here {point[0]:.1f}, {point[1]:.1f}", theme.PAPER)
            box.translate(box.width() + 8 if box.left() < view.rect().width() / 2 else -box.width() - 8, 0)
        paint_enlarged(painter, view, box, picture, onto if view.through is None else compose(view.through, onto), spot)
        paint_words(painter, QPointF(box.left() + 6, box.bottom() - 8), f"on {track.region.frame}", theme.PAPER)

    # -- what the page and the menu ask for -----------------------------------------------------------------------

    def do(self, what: str) -> None:
        """Something that the page or the menu asks for."""
        s, track = self.session, self.session.track
        if what == "by-pegs" and track is not None:
            self.bench.attempt(lambda: s.history.do("Carry by pegs alone", carry_by_pegs(s.shot, track.id)))
        elif track is None or track.solution is None:
            self.bench.say("There is no tracked surface to repair; track one first (T).", True)
        elif what == "worst":
            self.worst_wanted()
        elif what in ("before", "after"):
            frame = self._next_key(track, 1 if what == "after" else -1)
            s.go(frame) if frame is not None else self.bench.say(f"There is no key {what} this frame.")
        elif what == "add":
            self.show_part("points")
            self.bench.pick(self._point_picked, "Click a spot with something to recognise. Esc gives up.")
        elif what == "about":
            self.show_part("motion")
            self.bench.pick(self._about_picked, "Click the point about which the extra move scales, turns and shears. Esc gives up.")
        elif what == "itself":
            self._repair_by_itself()
        elif what == "again":
            self._retrack(track)
        elif self.part == "mesh" and what in _MESH:
            self.bring()
            self.bench.attempt(self._mesh, what, track)
        else:
            self.bring()
            if what in ("corners", "find", "remove", "clear-points"):
                self.show_part("points")
            self.bench.attempt({"corners": self._corners, "find": self._find_places, "key": self._set_key, "clear": self._clear_keys,
                                "remove": self._remove_points, "clear-points": self._clear_points, "straighten": self._straighten}[what], track)

    def _mesh(self, what: str, track: Track) -> None:
        """Something that is asked for of a mesh's pegs or vertices."""
        s = self.session
        tool = self.bench.viewer.tool
        chosen = set(tool.chosen) if isinstance(tool, MeshTool) else set()
        if what == "clear":
            s.history.do("Clear pegs", clear_pegs(s.shot, track.id, s.frame))
        elif what == "pegs":
            layer = track.layer(PegLayer)
            s.history.do("Switch the pegs", s.shot.with_track(track.with_layer(layer.but(enabled=not layer.enabled))))
        elif what == "find":
            self._find_vertices(track, chosen)
        elif what == "add-vertex":
            self.bench.pick(self._vertex_picked, "Click where a vertex is missing. Esc gives up.")
        elif not chosen:
            self.bench.say("Choose vertices first: click one, or Shift-drag a box round several.")
        elif what == "key":
            places = vertices_on(track, s.frame)
            if places is not None:
                s.history.do("Peg vertices", set_pegs(s.shot, track.id, s.frame, {k: places[k] for k in chosen}))
        elif what == "alone":
            self._track_alone(track, chosen)
        elif what == "unpeg":
            s.history.do("Clear vertices' pegs", clear_pegs(s.shot, track.id, None, chosen))
        elif what == "remove-vertices":
            s.history.do("Remove vertices", remove_vertices(s.shot, track.id, chosen))
            tool.chosen.clear()  # type: ignore[union-attr]
        elif what in ("follow", "lock"):
            layer = track.layer(PegLayer)
            on = not chosen <= set(layer.followers if what == "follow" else layer.locked)
            if what == "follow":
                leaders = self.page.mesh.leaders.currentData()
                s.history.do("Let vertices follow" if on else "Measure vertices", set_followers(s.shot, track.id, chosen, on, leaders))
            else:
                s.history.do("Lock vertices" if on else "Unlock vertices", set_locked(s.shot, track.id, chosen, on))
        else:
            s.history.do("Delete vertices' data", forget_data(s.shot, track.id, chosen, s.frame, what == "forget-before"))

    def _find_vertices(self, track: Track, chosen: set[int]) -> None:
        s = self.session
        if s.plate is None or s.cache is None:
            return
        if s.frame == track.region.frame:
            self.bench.say("This is the reference frame, where every vertex is in its place; go to another frame (W goes to the worst).")
            return
        found = find_vertices(s.shot, track, s.plate, s.frame, sorted(chosen) or None, s.cache.get)
        now = vertices_on(track, s.frame)
        # without a choice only those that lie off by what can be seen are pegged
        places = {k: p for k, p in found.items() if isinstance(p, np.ndarray) and now is not None and (chosen or np.linalg.norm(p - now[k]) > GOOD)}
        lost = sum(isinstance(p, str) for p in found.values())
        if places:
            s.history.do("Find places", set_pegs(s.shot, track.id, s.frame, places))
        words = f"{len(places)} of {len(found)} vertices are pegged where they were found." if places or chosen else "No vertex lies off its place here."
        self.bench.say(words + (f" {lost} could not be told: hidden, or too little texture." if lost else ""), bool(lost and chosen))

    def _track_alone(self, track: Track, chosen: set[int]) -> None:
        s = self.session
        if s.plate is None or s.cache is None or self.bench.work.busy():
            return
        shot, plate, read, solution = s.shot, s.plate, s.cache.get, track.solution
        assert isinstance(solution, MeshSolution)

        def work(stop: Stop) -> Iterator[Event]:
            with single_threaded():
                yield from track_vertices(shot, track.id, plate, sorted(chosen), None, read, stop)

        def done(shot: object) -> None:
            assert isinstance(shot, Shot)
            s.history.do("Track vertices", shot)
            self.bench.say(f"{len(chosen)} vertices were tracked anew; all others stay as they were.")

        self._begin(Job("Tracking vertices", int(solution.good.sum()), work), Shot, done)

    def move_key_mark(self, frame: int, to: int, copy: bool) -> bool:
        s = self.session
        if self.part != "mesh" or s.track is None:
            return False
        track = s.track
        self.bench.attempt(lambda: s.history.do("Copy pegs" if copy else "Move pegs", shift_pegs(s.shot, track.id, frame, to, copy)))
        return True

    def _vertex_picked(self, point: np.ndarray) -> None:
        s = self.session
        self.bench.edit("Add a vertex", lambda: add_vertex(s.shot, s.track_id, point, s.frame))

    def show_part(self, part: str) -> None:
        """Bring the step with one of its parts."""
        self.bring()
        self.page.show_part(part)

    def _point_picked(self, point: np.ndarray) -> None:
        s = self.session
        if self.bench.edit("Add a repair point", lambda: repairs.add_point(s.shot, s.track_id, point, s.frame)):
            self.bench.say("The point is set; it moves nothing until it is dragged. M finds its place on another frame.")

    def _about_picked(self, point: np.ndarray) -> None:
        s = self.session
        self.bench.edit("Set the extra move's point", lambda: extra_moves.set_about(s.shot, s.track_id, point, s.frame))

    # -- keys -----------------------------------------------------------------------------------------------------

    def _next_key(self, track: Track, step: int) -> int | None:
        frame = self.session.frame
        if self.part == "points":
            return repairs.next_key(track, frame, step)
        beyond = [f for f in self.key_marks() if (f - frame) * step > 0]
        return min(beyond, key=lambda f: abs(f - frame)) if beyond else None

    def _set_key(self, track: Track) -> None:
        s = self.session
        bent = s.placement.id if s.placement is not None else ""
        label, shot = {"points": ("Set a repair key", lambda: repairs.set_key(s.shot, track.id, s.frame)),
                       "motion": ("Set a key of the extra move", lambda: extra_moves.set_key(s.shot, track.id, s.frame)),
                       "sides": ("Set a key of the sides", lambda: bends.set_key(s.shot, bent, s.frame))}[self.part]
        s.history.do(label, shot())

    def _clear_keys(self, track: Track) -> None:
        self._cleared(track, self.session.frame)

    def _straighten(self, track: Track) -> None:
        self._cleared(track, None)

    def _cleared(self, track: Track, frame: int | None) -> None:
        """Take away the keys of the part in hand, on a frame or (None) on all."""
        s = self.session
        bent = s.placement.id if s.placement is not None else ""
        label, shot = {"points": ("Clear repair keys", lambda: repairs.clear_keys(s.shot, track.id, frame)),
                       "motion": ("Clear keys of the extra move", lambda: extra_moves.clear_key(s.shot, track.id, frame)),
                       "sides": ("Straighten the sides", lambda: bends.clear(s.shot, bent, frame))}[self.part]
        s.history.do(label, shot())

    # -- points ---------------------------------------------------------------------------------------------------

    def _corners(self, track: Track) -> None:
        s = self.session
        if track.layer(RepairLayer).points:
            self.bench.say("There are repair points already; add more with A.")
            return
        s.history.do("Points at the corners", with_points(s.shot, track.id, s.placement_id))
        self.bench.say("Four points stand at the corners. Go to the worst frame (W) and let them find their places (M), or drag them.")

    def _chosen(self, track: Track) -> list[str]:
        tool = self.bench.viewer.tool
        chosen = tool.chosen if isinstance(tool, PointsTool) else set()
        found = [p.id for k, p in enumerate(track.layer(RepairLayer).points) if k in chosen]
        if not found:
            self.bench.say("Choose points first: click one, or Shift-click several.")
        return found

    def _remove_points(self, track: Track) -> None:
        s = self.session
        shot = s.shot
        gone = self._chosen(track)
        for ident in gone:
            shot = repairs.remove_point(shot, track.id, ident)
        if gone:
            s.history.do("Remove repair points", shot)

    def _clear_points(self, track: Track) -> None:
        s = self.session
        chosen = self._chosen(track)
        if chosen:
            s.history.do("Clear points' keys", repairs.clear_keys(s.shot, track.id, None, chosen))
            self.bench.say(f"All keys of {len(chosen)} point{'s' * (len(chosen) != 1)} are cleared; the others keep theirs.")

    def _find_places(self, track: Track) -> None:
        s = self.session
        if s.plate is None or s.cache is None:
            return
        if not track.layer(RepairLayer).points:
            self._corners(track)
        if s.frame == track.region.frame or s.track is None:
            self.bench.say("This is the reference frame, where every point is in its place; go to another frame (W goes to the worst).")
            return
        found = find_places(s.shot, s.track, s.plate, s.frame, s.cache.get)
        places = {i: p for i, p in found.items() if isinstance(p, np.ndarray)}
        lost = [p for p in found.values() if isinstance(p, str)]
        if places:
            s.history.do("Find places", repairs.move_points(s.shot, track.id, s.frame, places))
        words = f"{len(places)} of {len(found)} points found their place." + (f" Not found: {lost[0]}; drag it by hand." if lost else "")
        self.bench.say(words + (" W goes to the next-worst frame." if places else ""), bool(lost))

    # -- long work ------------------------------------------------------------------------------------------------

    def _repair_by_itself(self) -> None:
        s = self.session
        if s.track is None or s.plate is None or s.cache is None or self.bench.work.busy():
            return
        self.bring()
        solution = s.track.solution
        shot, ident, plate, read, level, placement = s.shot, s.track.id, s.plate, s.cache.get, self.page.level.value(), s.placement_id

        def work(stop: Stop) -> Iterator[Event]:
            with single_threaded():
                yield from repair_by_itself(shot, ident, plate, level, read, placement, stop)

        self._begin(Job("Repairing", 2 * (shot.range[1] - shot.range[0] + 1), work), Outcome, lambda outcome: self._repaired(solution, outcome))

    def _begin(self, job: Job, kind: type, take: Callable[[object], object]) -> None:
        """Begin long work whose last event's item is of a kind, which is taken when the work has come to its end."""
        last: list[object] = []

        def event(event: Event) -> None:
            if isinstance(event.item, kind):
                last[:] = [event.item]
            else:
                self.bench.say(f"{job.label}: {event.note}")

        self.bench.work.begin(job, lambda: take(last[0]) if last else None, event=event)

    def _repaired(self, solution: Solution | None, outcome: object) -> None:
        assert isinstance(outcome, Outcome)
        s = self.session
        s.checked.untouched = solution, outcome.left
        if outcome.frames:
            s.history.do("Repair by itself", outcome.shot)
        self.page.points.show_state()
        self.page.mesh.show_state()
        left = f" {len(outcome.left)} frames were not touched; the page says which and why." if outcome.left else ""
        self.bench.say(f"{len(outcome.frames)} frames keyed: worst drift {outcome.before.worst:.2f} px before, {outcome.after.worst:.2f} px now.{left}")

    def _retrack(self, track: Track) -> None:
        s = self.session
        if s.plate is None or s.cache is None or self.bench.work.busy():
            return
        stretches = out_of_date(track, s.shot.range)
        if not stretches:
            self.bench.say("Nothing is out of date: the track passes through every repaired frame. Move a repair point first.")
            return
        self.bring()
        shot, plate, read = s.shot, s.plate, s.cache.get

        def work(stop: Stop) -> Iterator[Event]:
            with single_threaded():
                yield from retrack(shot, track.id, plate, read, stop)

        self._begin(Job("Tracking again", steps_of(stretches), work), Shot, self._retracked)

    def _retracked(self, shot: object) -> None:
        assert isinstance(shot, Shot)
        self.session.history.do("Track again", shot)
        self.bench.say("Tracked again: the track passes through the repaired frames. What was tracked at first is kept; switch repairs off to compare.")

