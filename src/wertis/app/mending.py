"""What the Repair step's wishes do: keys and points, the loop by itself, tracking again."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from wertis.app.tools import PointsTool
from wertis.core.jobs.find import find_places
from wertis.core.jobs.job import Job
from wertis.core.jobs.repair import Outcome, repair_by_itself, with_points
from wertis.core.jobs.retrack import out_of_date, track_again
from wertis.core.shot import bends, extra_moves, repairs
from wertis.core.shot.document import Shot, Solved, Track

if TYPE_CHECKING:
    from wertis.app.window import MainWindow


class Mending:
    """Carries the Repair page's wishes to the session; each part of the page has its own keys."""

    def __init__(self, window: MainWindow) -> None:
        self._window = window
        self._outcome: Outcome | None = None
        self._new: Shot | None = None

    def wish(self, what: str) -> None:
        """One of the page's or the menu's wishes."""
        w = self._window
        s = w.session
        track = s.track
        if track is None or track.solved is None:
            w.say("There is no tracked surface to repair; track one first (T).", True)
        elif what == "worst":
            w.go_next_worst()
        elif what in ("before", "after"):
            frame = self._next_key(track, 1 if what == "after" else -1)
            s.go(frame) if frame is not None else w.say(f"There is no key {what} this frame.")
        elif what == "add":
            w.details.repair.show_part("points")
            w.hands.add_repair_point()
        elif what == "about":
            w.details.repair.show_part("motion")
            w.hands.pick_about()
        elif what == "itself":
            self._repair_by_itself()
        elif what == "again":
            self._track_again(track)
        else:
            s.go_step("Repair")
            if what in ("corners", "find", "remove", "clear-points"):
                w.details.repair.show_part("points")
            w.attempt({"corners": self._corners, "find": self._find_places, "key": self._set_key, "clear": self._clear_keys,
                       "remove": self._remove_points, "clear-points": self._clear_points, "straighten": self._straighten}[what], track)

    # -- keys -----------------------------------------------------------------------------------------------------

    def _next_key(self, track: Track, step: int) -> int | None:
        s = self._window.session
        if s.mending == "motion":
            frames = track.extra.frames(track.region.frame)
        elif s.mending == "sides":
            frames = s.bent.bend.frames if s.bent is not None else []
        else:
            return repairs.next_key(track, s.frame, step)
        beyond = [f for f in frames if (f - s.frame) * step > 0]
        return min(beyond, key=lambda f: abs(f - s.frame)) if beyond else None

    def _set_key(self, track: Track) -> None:
        s = self._window.session
        bent = s.bent.id if s.bent is not None else ""
        label, shot = {"points": ("Set a repair key", lambda: repairs.set_key(s.shot, track.id, s.frame)),
                       "motion": ("Set a key of the extra move", lambda: extra_moves.set_key(s.shot, track.id, s.frame)),
                       "sides": ("Set a key of the sides", lambda: bends.set_key(s.shot, track.id, bent, s.frame))}[s.mending]
        s.history.do(label, shot())

    def _clear_keys(self, track: Track) -> None:
        self._cleared(track, self._window.session.frame)

    def _cleared(self, track: Track, frame: int | None) -> None:
        """Take away the keys of the part in hand, on a frame or (None) on all."""
        s = self._window.session
        bent = s.bent.id if s.bent is not None else ""
        label, shot = {"points": ("Clear repair keys", lambda: repairs.clear_keys(s.shot, track.id, frame)),
                       "motion": ("Clear keys of the extra move", lambda: extra_moves.clear_key(s.shot, track.id, frame)),
                       "sides": ("Straighten the sides", lambda: bends.clear(s.shot, track.id, bent, frame))}[s.mending]
        s.history.do(label, shot())

    def _straighten(self, track: Track) -> None:
        self._cleared(track, None)

    # -- points ---------------------------------------------------------------------------------------------------

    def _corners(self, track: Track) -> None:
        w = self._window
        s = w.session
        if track.repair.points:
            w.say("There are repair points already; add more with A.")
            return
        s.history.do("Points at the corners", with_points(s.shot, track.id, s.placement_id))
        w.say("Four points stand at the corners. Go to the worst frame (W) and let them find their places (M), or drag them.")

    def _chosen(self, track: Track) -> list[str]:
        tool = self._window.viewer.tool
        chosen = tool.chosen if isinstance(tool, PointsTool) else set()
        found = [p.id for k, p in enumerate(track.repair.points) if k in chosen]
        if not found:
            self._window.say("Choose points first: click one, or Shift-click several.")
        return found

    def _remove_points(self, track: Track) -> None:
        s = self._window.session
        shot = s.shot
        gone = self._chosen(track)
        for ident in gone:
            shot = repairs.remove_point(shot, track.id, ident)
        if gone:
            s.history.do("Remove repair points", shot)

    def _clear_points(self, track: Track) -> None:
        s = self._window.session
        chosen = self._chosen(track)
        if chosen:
            s.history.do("Clear points' keys", repairs.clear_keys(s.shot, track.id, None, chosen))
            self._window.say(f"All keys of {len(chosen)} point{'s' * (len(chosen) != 1)} are cleared; the others keep theirs.")

    def _find_places(self, track: Track) -> None:
        w = self._window
        s = w.session
        if s.plate is None or s.cache is None:
            return
        if not track.repair.points:
            self._corners(track)
        if s.frame == track.region.frame or s.track is None:
            w.say("This is the reference frame, where every point is in its place; go to another frame (W goes to the worst).")
            return
        found = find_places(s.shot, s.track, s.plate, s.frame, s.cache.get)
        places = {i: p for i, p in found.items() if isinstance(p, np.ndarray)}
        lost = [p for p in found.values() if isinstance(p, str)]
        if places:
            s.history.do("Find places", repairs.move_points(s.shot, track.id, s.frame, places))
        words = f"{len(places)} of {len(found)} points found their place." + (f" Not found: {lost[0]}; drag it by hand." if lost else "")
        w.say(words + (" W goes to the next-worst frame." if places else ""), bool(lost))

    # -- long work ------------------------------------------------------------------------------------------------

    def _repair_by_itself(self) -> None:
        w = self._window
        s = w.session
        if s.track is None or s.plate is None or s.cache is None or w.errands.busy():
            return
        s.go_step("Repair")
        solved = s.track.solved
        shot, ident, plate, read, level, placement = s.shot, s.track.id, s.plate, s.cache.get, w.details.repair.level.value(), s.placement_id

        def work(job: Job) -> None:
            for what, frame, outcome in repair_by_itself(shot, ident, plate, level, read, placement):
                if outcome is not None:
                    self._outcome = outcome
                else:  # setting a key takes no time beside measuring
                    job.step(f"{what}, frame {frame}", of=(what, frame) if what != "setting keys" else ("measuring", frame))

        self._outcome = None
        w.errands.begin(Job("Repairing", 2 * (shot.range[1] - shot.range[0] + 1), work), lambda: self._repaired(solved))

    def _repaired(self, solved: Solved | None) -> None:
        outcome = self._outcome
        if outcome is None:
            return
        s = self._window.session
        s.untouched = solved, outcome.left
        if outcome.frames:
            s.history.do("Repair by itself", outcome.shot)
        self._window.details.repair.points.show_state()
        left = f" {len(outcome.left)} frames were not touched; the page says which and why." if outcome.left else ""
        self._window.say(f"{len(outcome.frames)} frames keyed: worst drift {outcome.before.worst:.2f} px before, {outcome.after.worst:.2f} px now.{left}")

    def _track_again(self, track: Track) -> None:
        w = self._window
        s = w.session
        if s.plate is None or s.cache is None or w.errands.busy():
            return
        stretches = out_of_date(track, s.shot.range)
        if not stretches:
            w.say("Nothing is out of date: the track passes through every repaired frame. Move a repair point first.")
            return
        s.go_step("Repair")
        shot, plate, read = s.shot, s.plate, s.cache.get

        def work(job: Job) -> None:
            for frame, new in track_again(shot, track.id, plate, read, job.stop_asked):
                if new is not None:
                    self._new = new
                else:
                    job.step(f"frame {frame}")

        self._new = None
        steps = sum(len(x.frames) * ((x.begin is not None) + (x.end is not None)) for x in stretches)
        w.errands.begin(Job("Tracking again", steps, work), self._tracked_again)

    def _tracked_again(self) -> None:
        if self._new is None:
            return
        self._window.session.history.do("Track again", self._new)
        self._window.say("Tracked again: the track passes through the repaired frames. What was tracked at first is kept; switch repairs off to compare.")
