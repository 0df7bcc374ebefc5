"""Which picture the two panes show, and when: made in full or for a quick look, ready or on its way."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QObject, QTimer

from wertis.app.bridge import Bridge
from wertis.app.pictures import PictureMaker
from wertis.app.session import FINISHED_SHARE
from wertis.app.tools import PointsTool

if TYPE_CHECKING:
    from wertis.app.window import MainWindow

_AHEAD = 12
_HELD_FOR = 80  # milliseconds for which painting may wait for a picture
_QUICK, _QUICKEST = 0.75, 0.3  # zooms below which a half or a quarter of the resolution does while something is dragged


class Showing(QObject):
    """Brings pictures to the panes.

    Attributes
    ----------
    pictures : makes them.
    play_at : playing is done at this part of the resolution: 1, 2 or 4.
    """

    def __init__(self, window: MainWindow) -> None:
        super().__init__(window)
        self._window, self._session = window, window.session
        self.pictures = PictureMaker(int(FINISHED_SHARE * self._session.budget))
        self.play_at = 1
        self._held = QTimer(self)
        self._held.setSingleShot(True)
        self._held.setInterval(_HELD_FOR)
        self._held.timeout.connect(self._paint_again)
        self._bridge = Bridge(self._on_picture, self)
        self.pictures.made.connect(self._bridge)

    @property
    def dragging(self) -> bool:
        """Whether a point is in hand."""
        tool = self._window.viewer.tool
        return isinstance(tool, PointsTool) and tool.magnify is not None

    def play_at_part(self, part: int) -> None:
        """Play at a part of the resolution: 1, 2 or 4."""
        self.play_at = part
        self.frame()

    def frame(self) -> None:
        """Show the frame in view, now or as soon as its picture is made."""
        w, s = self._window, self._session
        if s.plate is None or s.cache is None:
            return
        graphics, playing, dragging = w.transport.graphics, w.playback.playing, self.dragging
        # while something is dragged, or played so, a quick look does where the pane cannot show more
        quick = 4 if s.step == "Repair" and w.viewer.zoom < _QUICKEST else 2  # in Repair the magnifiers show the plate itself
        reduced = self.play_at if playing else quick if dragging and w.viewer.zoom < _QUICK else 1
        ready = self.pictures.ready(s.frame, graphics, reduced)
        low, high = s.shot.range
        ahead = [f for f in range(s.frame + 1, s.frame + 1 + _AHEAD) if low <= f <= high]
        if len(ahead) < _AHEAD and playing:
            ahead += list(range(low, min(high, low + _AHEAD - len(ahead)) + 1))
        s.cache.ahead([s.frame, *ahead])
        w.playback.waiting = ready is None
        if ready is not None:
            self._show(*ready)
            self._paint_again()
        self.pictures.wish(s.frame, graphics, ahead if playing else [], reduced)
        if ready is None and (dragging or w.viewer.late):
            # the old picture need not be painted once more while the new one is made, nor the new frame's overlays over it
            self._hold_painting()
        w.viewer.update()

    def view(self) -> None:
        """The panes or the steady view are set otherwise, or the step shows them or not."""
        w = self._window
        page = w.details.check
        checking = self._session.step in ("Check", "Repair")
        panes = page.panes.currentData()
        if checking and panes == "beside" and not w.steady.isVisible():
            w.panes.lay_out()
            w.panes.halve()
        w.viewer.setVisible(not checking or panes != "steady")
        w.steady.setVisible(checking and panes != "plate")
        w.steady.held, w.steady.compared = page.held.currentData(), page.compared.currentData()
        w.steady.split, w.steady.close_ups = page.split.value() / 100, page.close_ups.isChecked()
        w.viewer.surface_overlay = page.overlay.currentData()
        page.show_state()
        if not w.viewer.late:  # else its own picture is on its way
            self._show(w.viewer.picture, "")

    # -- inside ---------------------------------------------------------------------------------------------------

    def _show(self, picture: np.ndarray | None, trouble: str) -> None:
        w, s = self._window, self._session
        w.viewer.show_picture(picture, trouble, s.plate.size if s.plate is not None else None)
        w.viewer.picture_frame = w.steady.picture_frame = s.frame
        if w.steady.isVisible():
            w.steady.show_frame(picture, trouble)

    def _hold_painting(self) -> None:
        """Let both panes wait for the next picture, but not for long."""
        if not self._held.isActive():  # a quick hand must not put it off for ever
            for pane in (self._window.viewer, self._window.steady):
                pane.setUpdatesEnabled(False)
            self._held.start()

    def _paint_again(self) -> None:
        self._held.stop()
        for pane in (self._window.viewer, self._window.steady):
            pane.setUpdatesEnabled(True)

    def _on_picture(self, frame: int, picture: object, error: str) -> None:
        if frame == self._session.frame:
            self._window.playback.waiting = False
            self._show(picture, error)  # type: ignore[arg-type]
            self._paint_again()
