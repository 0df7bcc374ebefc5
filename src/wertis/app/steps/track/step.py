"""The step Track: tracking the selected region, and what passes in front handed back as a matte."""

from collections.abc import Iterator
from functools import partial
from pathlib import Path

import numpy as np
from PySide6.QtGui import QPainter

from wertis.app.commands import Command
from wertis.app.mesh_painting import paint_mesh
from wertis.app.occluder_work import choose_folder, make_mattes
from wertis.app.picture_view import PictureView
from wertis.app.point_painting import paint_points, places_on
from wertis.app.step import Step
from wertis.app.steps.region.overlays import paint_hold_outs
from wertis.app.steps.track.camera_part import CameraPart, camera_points_on, paint_camera_points
from wertis.app.steps.track.page import TrackPage
from wertis.app.steps.track.patterns_tool import PatternsTool, Square
from wertis.app.tools import ScatteredPointsTool, Tool
from wertis.app.workbench import Workbench
from wertis.core.blas import single_threaded
from wertis.core.errors import WertisError
from wertis.core.jobs.events import Event, Stop
from wertis.core.jobs.job import Job
from wertis.core.jobs.point_tracking import good_spots
from wertis.core.jobs.tracking import runs_from, track_shot
from wertis.core.shot import hold_outs, items
from wertis.core.shot.cameras import CameraSettings, SolvedCameraRecord
from wertis.core.shot.document import HoldOut
from wertis.core.shot.points import Pattern, PointsSettings, add_point, put_points, remove_points, set_patterns, use_points, with_points
from wertis.core.track.advice import advice
from wertis.core.track.points import REACH

_WAYS = (("track.forward", "Forward", "T", "forward"), ("track.backward", "Backward", "Shift+T", "backward"),
         ("track.both", "Both ways", "Ctrl+T", "both"),
         ("track.next", "One frame forward", "Y", "next"), ("track.previous", "One frame back", "Shift+Y", "previous"))


class TrackStep(Step):
    """Tracking."""

    name, order, begins_with = "Track", 30, frozenset({"tracks"})
    page: TrackPage

    def __init__(self, bench: Workbench) -> None:
        super().__init__(bench)
        self.page = TrackPage(self.session)
        self.page.track_wanted.connect(self.track)
        self.page.stop_wanted.connect(bench.work.stop)
        self.page.passers_wanted.connect(self.choose_passers)
        self.page.points.wanted.connect(self.with_points)
        self.camera = CameraPart(bench, self.page.camera)
        self._come_back: int | None = None  # the frame in view before tracking both ways

    def commands(self) -> list[Command]:
        return [Command(ident, "Track", words, partial(self.track, direction), keys) for ident, words, keys, direction in _WAYS] + [
            Command("track.passers", "Track", "Hold out what was distrusted...", self.choose_passers, "", 2)]

    def words(self) -> str:
        s = self.session
        track = s.track
        if track is None:
            return ""
        low, high = s.shot.range
        if track.id == s.live.track_id:
            return f"{len(s.live.answers)} frames so far"
        if track.solution is None:
            return "not yet"
        inside = (track.solution.tried >= low) & (track.solution.tried <= high)
        found, lost = int((track.solution.good & inside).sum()), int((~track.solution.good & inside).sum())
        return f"{found} of {high - low + 1}" + (f", {lost} lost" if lost else "")

    def hint(self) -> str:
        tracked = self.session.track is not None and self.session.track.solution is not None
        return "Space plays the result; go to a frame and track on from there." if tracked else \
            "Track both ways from this frame with Ctrl+T, or forward with T."

    def paint(self, painter: QPainter, view: PictureView) -> None:
        paint_mesh(painter, view)
        paint_points(painter, view, self.page.points.chosen)
        self.page.points.show_pattern()  # its pictures may have come
        paint_camera_points(painter, view, self.page.camera.chosen)
        paint_hold_outs(painter, view, self.bench.mattes)

    # -- points ---------------------------------------------------------------------------------------------------

    def tool_wanted(self) -> tuple[str, ...]:
        track = self.session.track
        settings = track.settings if track is not None else None
        if track is not None and isinstance(settings, CameraSettings) and isinstance(self.session.shot.camera, SolvedCameraRecord):
            return ("camera points", track.id, str(self.session.frame), str(len(self.session.shot.camera.points)))
        if track is None or not isinstance(settings, PointsSettings) or settings.points is None or self.session.live.track_id:
            return ()
        return ("points", track.id, str(len(settings.points)))

    def tool(self, wanted: tuple[str, ...]) -> Tool | None:
        if wanted[0] == "camera points":
            there = camera_points_on(self.session)
            numbers = there[1] if there is not None else np.zeros(0, int)
            return ScatteredPointsTool(lambda: there[2] if there is not None else None, lambda places, dragging: None,
                                       lambda chosen: self._camera_points_chosen({int(numbers[k]) for k in chosen if k < len(numbers)}))
        return PatternsTool(self._point_places, self._points_moved, self._points_chosen, self._squares, self._pattern_dragged)

    def _point_places(self) -> np.ndarray | None:
        track = self.session.track
        there = places_on(self.session, track) if track is not None else None
        return there[0] if there is not None else None

    def _points_chosen(self, chosen: set[int]) -> None:
        self.page.points.chosen = set(chosen)
        self.page.points.show_state()

    def _camera_points_chosen(self, chosen: set[int]) -> None:
        self.page.camera.chosen = chosen
        self.page.camera.show_state()
        self.bench.update_views()

    def _squares(self, chosen: set[int]) -> dict[int, Square]:
        """The chosen points' patterns, on the region's frame, where they are set."""
        s, track = self.session, self.session.track
        settings = track.settings if track is not None else None
        if track is None or not isinstance(settings, PointsSettings) or settings.points is None or s.frame != track.region.frame:
            return {}
        middles = settings.points + settings.offsets
        return {k: Square(middles[k], self.page.points.side_of(k) / 2, settings.patterns[k].reach or REACH, settings.patterns[k].side > 0)
                for k in sorted(chosen) if k < len(middles)}

    def _pattern_dragged(self, what: str, number: int, value: np.ndarray, dragging: bool) -> None:
        """A size is that of all chosen points; where a pattern lies is its point's own."""
        s, track = self.session, self.session.track
        if track is None or not isinstance(track.settings, PointsSettings):
            return
        names = {track.settings.names[number]} if what == "offset" else self.page.points.names()
        side, reach = int(np.clip(round(value[0]), 9, 401)) // 2 * 2 + 1, int(np.clip(round(value[0]), 1, 400))
        label, change = {"side": ("Set the patterns' size", {"side": min(side, 401)}), "reach": ("Set the search area", {"reach": reach}),
                         "offset": ("Move a pattern off its point", {"offset": tuple(float(v) for v in value)})}[what]
        self.bench.edit(label, lambda: set_patterns(s.shot, s.track_id, names, **change), f"pattern-{what}", dragging)  # type: ignore[arg-type]

    def _points_moved(self, places: np.ndarray, dragging: bool) -> None:
        """Points were dragged: on the region's frame they are set elsewhere, on others they are put right there, and tracking goes on from them."""
        s, track = self.session, self.session.track
        if track is None or not isinstance(track.settings, PointsSettings):
            return
        settings = track.settings
        if s.frame == track.region.frame:
            self.bench.edit("Move a point", lambda: with_points(s.shot, s.track_id, places, settings.names, settings.patterns), "point-drag", dragging)
        else:
            self.bench.edit("Put a point right", lambda: put_points(s.shot, s.track_id, s.frame, places), "point-drag", dragging)
            if not dragging:
                self.bench.say("The point is put right on this frame; track on from here (T or Shift+T).")

    def with_points(self, what: str) -> None:
        """Something that the page asks for of the points."""
        s, track = self.session, self.session.track
        if track is None or s.plate is None or s.cache is None:
            return
        names = self.page.points.names()
        if what == "add-point":
            if s.frame != track.region.frame:
                s.go(track.region.frame)
            self.bench.pick(self._point_picked, "Click a spot that stands out from what is round it. Esc gives up.")
        elif what == "find-spots":
            self.bench.attempt(self._find_spots)
        elif not names:
            self.bench.say("Choose points first: click one, or Shift-drag a box round several.")
        elif what == "pattern-back":
            self.bench.edit("Pattern onto its point", lambda: set_patterns(s.shot, s.track_id, names, offset=(0.0, 0.0)))
        elif what == "remove-points":
            s.history.do("Remove points", remove_points(s.shot, track.id, names))
        else:
            left_out = set(getattr(track.solution, "left_out", ()))
            self.bench.edit("Use points" if names <= left_out else "Leave points out",
                            lambda: use_points(s.shot, s.track_id, left_out - names if names <= left_out else left_out | names))

    def _point_picked(self, point: np.ndarray) -> None:
        s = self.session
        if self.bench.edit("Add a point", lambda: add_point(s.shot, s.track_id, point)):
            self.bench.say("The point is set. Add more, or track (Ctrl+T): one gives position, two also scale and turn, four perspective.")

    def _find_spots(self) -> None:
        s, track = self.session, self.session.track
        assert track is not None and s.plate is not None and s.cache is not None
        found = good_spots(s.shot, track, s.plate, int(self.page.points.count.value()), read=s.cache.get)
        names = tuple(str(k + 1) for k in range(len(found)))
        s.history.do("Find good spots", with_points(s.shot, track.id, found, names, (Pattern(),) * len(found)))
        self.bench.say(f"{len(found)} good spots were found. Track them with Ctrl+T.")

    # -- tracking -------------------------------------------------------------------------------------------------

    def track(self, direction: str) -> None:
        """Track the selected region from the frame in view."""
        s = self.session
        if s.track is None:
            self.bench.say("There is no region to track; draw one round the surface first (N).", True)
            return
        if s.plate is None or s.cache is None or self.bench.work.busy():
            return
        if isinstance(s.track.settings, CameraSettings):
            self.bring()
            self.camera.track()
            return
        self.bench.playback.pause()
        self.page.dense.place_beside_shot()
        shot, ident, plate, read = s.shot, s.track.id, s.plate, s.cache.get
        try:
            runs = runs_from(shot, s.track, s.frame, direction)
        except WertisError as why:
            self.bench.say(str(why), True)
            return

        def work(stop: Stop) -> Iterator[Event]:
            with single_threaded():
                yield from track_shot(shot, ident, plate, runs, read, stop)

        self.bring()
        self._come_back = s.frame if direction == "both" else None
        s.live.begin(ident)
        self.bench.work.begin(Job(f"Tracking {s.track.name}", sum(len(r) for r in runs), work), event=self._on_event, ended=self._over)

    def _on_event(self, event: Event) -> None:
        s, fix = self.session, event.item
        assert event.frame is not None
        first = event.frame not in s.live.answers
        s.live.take(event.frame, fix)
        if not first:  # a better answer: the picture stays where it is
            return
        s.go(event.frame)
        track = s.shot.track(s.live.track_id)
        self.bench.say(f"Tracking {track.name if track else ''}, frame {event.frame}: " + (
            f"{fix.seen:.0%} of the region seen, expected error {fix.error:.2f} px. Esc stops and keeps what there is."
            if fix.warp is not None else f"lost, {fix.reason}."), fix.warp is None)

    def _over(self, job: Job) -> None:
        s = self.session
        found = dict(s.live.answers)
        kept = self.bench.attempt(s.keep_live)  # not where the track was locked meanwhile
        if self._come_back is not None:
            s.go(self._come_back)
        good = {f: x for f, x in found.items() if x.warp is not None}
        if not kept:
            return
        if job.error:
            self.bench.say(job.error, True)
            return
        words = f"{len(good)} frames tracked"
        if good:
            words += f", expected error {sum(x.error for x in good.values()) / len(good):.2f} px"
        trouble = advice(found)
        if trouble:
            self.bench.say(f"{words}; {trouble}.", True)
            return
        self.bench.say(words + (". Stopped; what was found is kept." if job.stopped else ". Next: place a graphic on it (P)."
                       if s.track and not s.shot.placements(s.track_id) else ". Press Space to play."))

    # -- passers --------------------------------------------------------------------------------------------------

    def choose_passers(self) -> None:
        """Ask where to keep the matte of what was distrusted, and make it."""
        folder = choose_folder(self.bench)
        if folder is not None:
            self.passers(folder)

    def passers(self, folder: Path) -> None:
        """Make a matte sequence of what passes in front of the selected track and hold it out."""
        ident = self.session.track_id
        make_mattes(self.bench, folder, "passers", lambda where: self._hold_out(ident, where))

    def _hold_out(self, ident: str, where: Path) -> None:
        s = self.session
        if s.shot.track(ident) is not None and self.bench.attempt(hold_outs.open_matte, where, s.plate.size if s.plate else (1, 1)):
            held = HoldOut(of=ident, name="Passers", path=str(where.absolute()), grow=2)
            s.history.do("Hold out what was distrusted", items.add_item(s.shot, held))
            s.select(ident, held.id)
            self.bench.say(f"What passes in front is held out (matte in {where}). Track again to use it (Ctrl+T).")
