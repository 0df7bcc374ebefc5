"""Which picture the two panes show, and when: made in full or for a quick look, ready or on its way."""

from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from PySide6.QtCore import QObject, QTimer

from wertis.app.bridge import Bridge
from wertis.app.panes import Panes
from wertis.app.pictures import PictureMaker
from wertis.app.plate_comparison import PlateComparison
from wertis.app.playback import Playback
from wertis.app.session import FINISHED_SHARE, Session
from wertis.app.steady import SteadyViewer
from wertis.app.tools import PointsTool
from wertis.app.viewer import Viewer

_AHEAD = 12
_HELD_FOR = 80  # milliseconds for which painting may wait for a picture
_QUICK, _QUICKEST = 0.75, 0.3  # zooms below which a half or a quarter of the resolution does while something is dragged


class Looks(NamedTuple):
    """How the panes are set: which are shown ("plate", "steady" or "beside"), and what the steady view does; see its attributes."""

    panes: str = "beside"
    held: str = "flat"
    compared: str = "none"
    split: float = 0.5
    close_ups: bool = False
    surface: str = "none"


class SteadyWish(NamedTuple):
    """How a step wants the steady view.

    Attributes
    ----------
    shown : whether it is shown at all.
    held : how it holds the surface, one of `steady.HELD`; "" for as was chosen.
    beside : the plate is shown beside it, whichever panes were chosen: the person just asked for both.
    """

    shown: bool = False
    held: str = ""
    beside: bool = False


class Display(QObject):
    """Brings pictures to the panes.

    Parameters
    ----------
    graphics : whether graphics are to be shown.

    Attributes
    ----------
    pictures : makes them.
    play_at : playing is done at this part of the resolution: 1, 2 or 4.
    looks : how the panes are set.
    comparison : how the comp is held against the plate.
    wish : how the step in hand wants the steady view.
    quick_may_be_small : while a point is dragged, what is shown beside it shows the plate itself.
    """

    def __init__(self, session: Session, viewer: Viewer, steady: SteadyViewer, panes: Panes, playback: Playback, graphics: Callable[[], bool],
                 parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._session, self._viewer, self._steady, self._panes, self._playback, self._graphics = session, viewer, steady, panes, playback, graphics
        self.pictures = PictureMaker(int(FINISHED_SHARE * session.budget))
        self.play_at = 1
        self.looks = Looks()
        self.comparison = PlateComparison()
        self._reduced = 1
        self._picture: np.ndarray | None = None  # the comp in view
        viewer.divided.connect(self._divided)
        self.wish = SteadyWish()
        self.quick_may_be_small = False
        self._held = QTimer(self)
        self._held.setSingleShot(True)
        self._held.setInterval(_HELD_FOR)
        self._held.timeout.connect(self._paint_again)
        self._bridge = Bridge(self._on_picture, self)
        self.pictures.made.connect(self._bridge)

    @property
    def dragging(self) -> bool:
        """Whether a point is in hand."""
        tool = self._viewer.tool
        return isinstance(tool, PointsTool) and tool.magnify is not None

    def play_at_part(self, part: int) -> None:
        """Play at a part of the resolution: 1, 2 or 4."""
        self.play_at = part
        self.frame()

    def frame(self) -> None:
        """Show the frame in view, now or as soon as its picture is made."""
        s, viewer = self._session, self._viewer
        if s.plate is None or s.cache is None:
            return
        graphics, playing, dragging = self._graphics(), self._playback.playing, self.dragging
        # while something is dragged, or played so, a quick look does where the pane cannot show more
        quick = 4 if self.quick_may_be_small and viewer.zoom < _QUICKEST else 2
        reduced = self.play_at if playing else quick if dragging and viewer.zoom < _QUICK else 1
        self._reduced = reduced
        ready = self.pictures.ready(s.frame, graphics, reduced)
        both = bool(self.comparison.how) and graphics
        if both and self.pictures.ready(s.frame, False, reduced) is None:
            ready = None
        low, high = s.shot.range
        ahead = [f for f in range(s.frame + 1, s.frame + 1 + _AHEAD) if low <= f <= high]
        if len(ahead) < _AHEAD and playing:
            ahead += list(range(low, min(high, low + _AHEAD - len(ahead)) + 1))
        s.cache.ahead([s.frame, *ahead])
        self._playback.waiting = ready is None
        if ready is not None:
            self._show(*ready)
            self._paint_again()
        self.pictures.wish(s.frame, graphics, ahead if playing else [], reduced, both)
        if ready is None and (dragging or viewer.late):
            # the old picture need not be painted once more while the new one is made, nor the new frame's overlays over it
            self._hold_painting()
        viewer.update()

    def compare_with_plate(self, how: str) -> None:
        """Show the comp against the plate; see `PlateComparison`."""
        self.comparison = self.comparison._replace(how=how)
        self._viewer.divider = self.comparison.at if how == "split" else None
        self._viewer.set_beside(None, how == "beside")
        self.frame()

    def _divided(self, at: float) -> None:
        self.comparison = self.comparison._replace(at=at)
        self._viewer.divider = at
        self.frame()

    def set_looks(self, looks: Looks) -> None:
        """Set the panes and the steady view otherwise."""
        self.looks = looks
        self.view()

    def view(self) -> None:
        """The panes or the steady view are set otherwise, or the step shows them or not."""
        viewer, steady, looks, wish = self._viewer, self._steady, self.looks, self.wish
        panes = "beside" if wish.beside else looks.panes
        if wish.shown and panes == "beside" and not steady.isVisible():
            self._panes.lay_out()
            self._panes.halve()
        viewer.setVisible(not wish.shown or panes != "steady")
        steady.setVisible(wish.shown and panes != "plate")
        steady.held, steady.compared, steady.split, steady.close_ups = wish.held or looks.held, looks.compared, looks.split, looks.close_ups
        viewer.surface_overlay = looks.surface
        if not viewer.late:  # else its own picture is on its way
            self._show(self._picture, "")

    # -- inside ---------------------------------------------------------------------------------------------------

    def _show(self, picture: np.ndarray | None, trouble: str) -> None:
        s = self._session
        self._picture, seen = picture, picture
        plate = picture  # with the graphics off, that is what is shown
        if self.comparison.how and picture is not None and self._graphics():
            ready = self.pictures.ready(s.frame, False, self._reduced)
            plate = ready[0] if ready is not None else None
            if plate is not None and plate.shape == picture.shape:
                seen = self.comparison.shown(picture, plate)
        self._viewer.set_beside(plate, self.comparison.how == "beside")
        self._viewer.show_picture(seen, trouble, s.plate.size if s.plate is not None else None)
        self._viewer.picture_frame = self._steady.picture_frame = s.frame
        if self._steady.isVisible():
            self._steady.show_frame(picture, trouble)

    def _hold_painting(self) -> None:
        """Let both panes wait for the next picture, but not for long."""
        if not self._held.isActive():  # a quick hand must not put it off for ever
            for pane in (self._viewer, self._steady):
                pane.setUpdatesEnabled(False)
            self._held.start()

    def _paint_again(self) -> None:
        self._held.stop()
        for pane in (self._viewer, self._steady):
            pane.setUpdatesEnabled(True)

    def _on_picture(self, frame: int, picture: object, error: str) -> None:
        if frame == self._session.frame:
            self._playback.waiting = False
            self._show(picture, error)  # type: ignore[arg-type]
            self._paint_again()
