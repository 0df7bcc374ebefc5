"""The step Plate: what the plate is, its range, its cuts, and how it is looked at."""

from collections.abc import Iterator

from PySide6.QtWidgets import QInputDialog

from wertis.app import theme
from wertis.app.commands import Command
from wertis.app.overlay import Line
from wertis.app.step import Step
from wertis.app.steps.plate.page import PlatePage
from wertis.app.workbench import Workbench
from wertis.core.comp.light import light_words
from wertis.core.jobs.events import Event, Stop, stopped
from wertis.core.jobs.job import Job
from wertis.core.plate import open_plate
from wertis.core.plate.cuts import cut_frames, find_cuts, shot_around
from wertis.core.plate.movie import MoviePlate
from wertis.core.shot.edits import set_no_cut


class PlateStep(Step):
    """What the plate is."""

    name, order = "Plate", 10
    page: PlatePage

    def __init__(self, bench: Workbench) -> None:
        super().__init__(bench)
        self.page = PlatePage(self.session)
        self.page.cuts_wanted.connect(self.find_cuts)
        self.page.open.clicked.connect(lambda: bench.run("file.open"))
        self._found: dict[int, bool] = {}
        self.session.opened_what.connect(self._opened)

    def commands(self) -> list[Command]:
        return [
            Command("range.first", "Go", "Range begins here", lambda: self._set_range(True), "I", 3),
            Command("range.last", "Go", "Range ends here", lambda: self._set_range(False), "O", 3),
            Command("range.shot", "Go", "Range is this shot, from cut to cut", self._range_between_cuts, "", 3),
            Command("plate.cuts", "Edit", "Find cuts in the plate", self.find_cuts, "", 4),
            Command("plate.no_cut", "Edit", "No cut before this frame, however it looks", self.no_cut, "", 4),
        ]

    def words(self) -> str:
        plate = self.session.plate
        return f"{plate.size[0]} x {plate.size[1]}, {plate.last - plate.first + 1} frames" if plate else "open one"

    def hint(self) -> str:
        return "Step through the plate and find the frame where the surface is largest and sharpest."

    def captions(self) -> list[Line]:
        words = light_words(self.session.shot)
        return [(f"Graphics are {words}", theme.QUIET)] if words else []

    # -- range and cuts -------------------------------------------------------------------------------------------

    def _set_range(self, begins: bool) -> None:
        s = self.session
        if s.plate is not None:
            a, b = s.shot.range
            new = (s.frame, max(b, s.frame)) if begins else (min(a, s.frame), s.frame)
            s.history.do("Set the range", s.shot.but(range=new))

    def _range_between_cuts(self) -> None:
        s = self.session
        if s.plate is None or s.shot.plate is None:
            return
        s.history.do("Set the range", s.shot.but(range=shot_around(s.shot.plate.cuts, s.frame, s.plate.first, s.plate.last)))

    def _opened(self, what: str) -> None:
        """A movie may hold several shots, which is looked into when it is opened."""
        if what == "plate" and isinstance(self.session.plate, MoviePlate):
            self.find_cuts()

    def find_cuts(self) -> None:
        """Look for cuts in the background; when there are some, ask which shot is meant."""
        s = self.session
        if s.plate is None or s.shot.plate is None or self.bench.work.busy():
            return
        path, layer, alpha, total = s.shot.plate.path, s.plate.layer, s.plate.alpha, len(s.plate.frames)
        plate, self._found = s.plate, {}

        def work(stop: Stop) -> Iterator[Event]:
            # a door of its own to the file: the pictures in view are not to wait for it
            own = open_plate(path, layer, alpha)
            for done, (frame, cut) in enumerate(find_cuts(own), 1):
                if stopped(stop):
                    return
                self._found[frame] = cut
                yield Event(frame, min(done, total), total, cut)

        self.bench.work.begin(Job("Looking for cuts", total, work), lambda: self._cuts_found(plate), event=lambda _: None)

    def no_cut(self) -> None:
        """Say that no other shot begins at the frame in view, or take that back."""
        s = self.session
        ref = s.shot.plate
        none = ref is None or s.frame not in ref.no_cuts
        if self.bench.attempt(lambda: s.history.do("No cut" if none else "Cuts again", set_no_cut(s.shot, s.frame, none))):
            self.bench.say(f"Tracking goes on over frame {s.frame}, however it looks; the same command takes that back. Track again to go over it."
                           if none else f"Whether another shot begins at frame {s.frame} is told by the pictures again.")

    def _cuts_found(self, plate: object) -> None:
        s = self.session
        cuts = cut_frames(self._found)
        if s.plate is not plate or s.shot.plate is None:
            return
        if cuts != s.shot.plate.cuts:
            s.history.do("Find cuts", s.shot.but(plate=s.shot.plate.but(cuts=cuts)))
        if not cuts:
            self.bench.say("No cuts: the plate is one shot.")
            return
        begins = [s.shot.plate.first, *cuts]
        shots = [f"{a} to {b}" for a, b in zip(begins, [*(c - 1 for c in cuts), s.shot.plate.last], strict=True)]
        here = max(k for k, a in enumerate(begins) if a <= s.frame)
        chosen, ok = QInputDialog.getItem(self.bench.window, "Which shot?", f"The plate holds {len(shots)} shots, with cuts between them. Work on frames",
                                          shots, here, False)
        if ok and chosen in shots:
            k = shots.index(chosen)
            low, high = begins[k], (cuts[k] - 1 if k < len(cuts) else s.shot.plate.last)
            s.history.do("Choose a shot", s.shot.but(range=(low, high)))
            s.go(low)
            self.bench.say(f"Frames {low} to {high} are tracked and rendered. The cuts are marked on the ruler; tracking ends at them.")
        else:
            self.bench.say(f"{len(cuts)} cuts are marked on the ruler; tracking ends at them.")
