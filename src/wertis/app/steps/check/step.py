"""The step Check: how far the track drifts, and ways to see it."""

from PySide6.QtGui import QPainter

from wertis.app.commands import Command
from wertis.app.display import Looks, SteadyWish
from wertis.app.overlay import Line
from wertis.app.picture_view import PictureView
from wertis.app.steady import COMPARED
from wertis.app.step import Step
from wertis.app.steps.check.overlays import drift_words, paint_drift, paint_surface
from wertis.app.steps.check.page import CheckPage, check_words
from wertis.app.workbench import Workbench
from wertis.core.check.summary import named_place, next_worst, worst_first
from wertis.core.jobs.check import drift_places

_BESIDE = 60  # screen pixels round the steady view's picture, for the words at its corners


def paint_check(painter: QPainter, view: PictureView, surface: str) -> None:
    """What the surface carries, and its drift."""
    paint_surface(painter, view.session, view.to_screen, surface)
    painter.save()
    if view.through is not None:  # the steady view shows a part of the picture, and nothing beyond it
        painter.setClipRect(view.picture_area().adjusted(-_BESIDE, -_BESIDE, _BESIDE, _BESIDE))
    paint_drift(painter, view.session, view.to_screen, view.rect())
    painter.restore()


class CheckStep(Step):
    """Checking."""

    name, order, steady = "Check", 40, SteadyWish(True)
    page: CheckPage

    def __init__(self, bench: Workbench) -> None:
        super().__init__(bench)
        self.page = CheckPage(self.session)
        self.page.next_worst_wanted.connect(self.next_worst)
        self.page.reference_wanted.connect(self.go_reference)
        self.page.view_changed.connect(self.show_view)

    def commands(self) -> list[Command]:
        return [
            Command("go.reference", "Go", "Reference frame", self.go_reference, "R", 2),
            Command("go.next-worst", "Go", "Next-worst frame", self.next_worst, "W", 2),
            Command("view.panes", "View", "Panes: plate, steady view, both", self.next_panes, "S", 3),
            Command("view.flip", "View", "Flip frame and reference", self.flip, "Q", 3),
            Command("view.close-ups", "View", "Close-ups of the corners", self.page.close_ups.toggle, "C", 3),
        ]

    def words(self) -> str:
        return check_words(self.session)

    def hint(self) -> str:
        tracked = self.session.track is not None and self.session.track.solution is not None
        return "W goes to the worst frame, then to the next; S shows the steady view beside the plate or alone; Q flips to the reference frame." \
            if tracked else "Track the surface first (T); then its drift is measured by itself."

    def paint(self, painter: QPainter, view: PictureView) -> None:
        paint_check(painter, view, self.bench.display.looks.surface)

    def captions(self) -> list[Line]:
        return [drift_words(self.session)] if self.session.track is not None else []

    # -- going and looking ----------------------------------------------------------------------------------------

    def go_reference(self) -> None:
        """To the frame that counts as right: the one that the selected track is matched to, unless another was chosen to check against."""
        s = self.session
        if s.track is not None:
            s.go(s.base if s.base is not None and self.current else s.track.region.frame)

    def next_worst(self) -> None:
        """To the frame that drifts most, then to the next."""
        s = self.session
        frame = next_worst(s.drift, s.frame)
        if frame is None:
            self.bench.say("No drift is measured yet." if s.track is not None and s.track.solution is not None and not s.drift
                           else "No frame drifts." if s.drift else "Track a surface first (T).")
            return
        if not self.bench.display.wish.shown:  # a step that shows the steady view stays
            self.bring()
        s.go(frame)
        place = worst_first(s.drift).index(frame) + 1
        slip = s.drift[frame]
        each = drift_places(s.shot, s.track, s.placement_id).each if s.track is not None else "corner"
        if each != "corner":
            s.checked.place_shown.emit(slip.where)
        self.bench.say(f"Frame {frame}, number {place} from the worst: {slip.worst:.2f} px at {named_place(each, slip.where)}. "
                       "W goes to the next, R to the reference frame.")

    def next_panes(self) -> None:
        """From the plate to the steady view to both."""
        box = self.page.panes
        box.setCurrentIndex((box.currentIndex() + 1) % box.count())
        self.bring()
        self.show_view()

    def flip(self) -> None:
        """Show the reference frame in the steady view, or the frame again."""
        box = self.page.compared
        box.setCurrentIndex(list(COMPARED).index("none" if box.currentData() == "reference" else "reference"))
        self.bring()
        self.show_view()

    def show_view(self) -> None:
        """Set the panes and the steady view as the page says."""
        p = self.page
        self.bench.display.set_looks(Looks(p.panes.currentData(), p.held.currentData(), p.compared.currentData(), p.split.value() / 100,
                                           p.close_ups.isChecked(), p.overlay.currentData()))
        p.show_state()
        self.bench.update_views()
