"""What the parts of the window work with, so that a step needs to know nothing of the window: the session, the two views, long work, messages."""

import logging
from collections.abc import Callable
from typing import Any

from PySide6.QtWidgets import QWidget

from wertis.app.display import Display, SteadyWish
from wertis.app.long_work import LongWork
from wertis.app.mattes import MatteReader
from wertis.app.playback import Playback
from wertis.app.session import Session
from wertis.app.steady import SteadyViewer
from wertis.app.tools import PickTool, Tool
from wertis.app.viewer import Viewer
from wertis.core.errors import WertisError

_log = logging.getLogger(__name__)


class Workbench:
    """Everything that a step may use.

    Attributes
    ----------
    window : the parent of dialogs.
    choose_tool : takes the tool that the step and the selection call for; set by the window.
    run : does a command by its id; set by the window.
    wish : how the step in hand wants the steady view; set by the window.
    """

    choose_tool: Callable[[], object]
    run: Callable[[str], object]
    wish: Callable[[], SteadyWish]

    def __init__(self, window: QWidget, session: Session, viewer: Viewer, steady: SteadyViewer, playback: Playback, work: LongWork, display: Display,
                 mattes: MatteReader, say: Callable[[str, bool], None]) -> None:
        self.window, self.session, self.viewer, self.steady = window, session, viewer, steady
        self.playback, self.work, self.display, self.mattes = playback, work, display, mattes
        self._say = say
        self._in_hand: object = None

    def say(self, text: str, is_error: bool = False) -> None:
        """Show what just happened and what can be done next."""
        self._say(text, is_error)

    def attempt(self, act: Callable[..., object], *arguments: Any) -> bool:
        """Do something that may fail; a failure becomes a message. Returns whether it went well."""
        try:
            act(*arguments)
        except WertisError as why:
            self.say(str(why), True)
            return False
        except Exception as why:  # nothing that goes wrong inside may end in silence
            _log.exception("something asked for in the window failed")
            self.say(f"That failed ({type(why).__name__}: {why}); nothing was changed. The log has the details.", True)
            return False
        return True

    def edit(self, label: str, make: Callable[[], Any], merge: str = "", dragging: bool = False) -> bool:
        """One step of the history, or a part of a drag, that may be refused with a message; whether it was done.

        Parameters
        ----------
        make : gives the new shot.
        merge : what the steps of one drag share.
        """
        done = self.attempt(lambda: self.session.history.do(label, make(), merge))
        if merge and not dragging:
            self.session.history.end_merge()
        return done

    def update_views(self) -> None:
        """Paint both views again."""
        self.viewer.update()
        self.steady.update()

    def show_panes(self) -> None:
        """Show the steady view, or put it away, as the step in hand wants it now."""
        wish = self.wish()
        if self.display.wish != wish:
            self.display.wish = wish
            self.display.view()

    def hold(self, wanted: object, make: Callable[[], Tool | None]) -> None:
        """Take a tool in hand; `make` is not asked when what is `wanted` is there already."""
        if wanted == self._in_hand and self.viewer.tool is not None:
            return
        self._in_hand = wanted
        self.viewer.tool = make() if wanted else None
        if self.viewer.tool is None:
            self.viewer.unsetCursor()
        self.update_views()

    def pick(self, picked: Any, words: str) -> None:
        """Take one click in the picture for a place (2,); the usual tool comes back afterwards."""
        def taken(point: Any) -> None:
            picked(point)
            self.put_away()

        self._in_hand = "pick"
        self.viewer.tool = PickTool(taken)
        self.say(words)

    @property
    def picking(self) -> bool:
        """Whether a click in the picture is being waited for."""
        return isinstance(self.viewer.tool, PickTool)

    def put_away(self) -> None:
        """Put the tool in hand away and take the usual one."""
        self._in_hand = None
        self.choose_tool()
