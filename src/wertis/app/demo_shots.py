"""The demo shots in the window: made in the background when they are first wanted, then opened."""

import threading
from collections.abc import Callable
from functools import partial
from pathlib import Path

from PySide6.QtWidgets import QMainWindow, QMenu

from wertis.app.commands import menu_entry
from wertis.app.long_work import LongWork, Say
from wertis.core.jobs.job import Job


class DemoShots:
    """Opens demo shots.

    Parameters
    ----------
    open_path : opens a shot or a plate.
    """

    def __init__(self, work: LongWork, say: Say, open_path: Callable[[Path], object]) -> None:
        self._work, self._say, self._open_path = work, say, open_path
        self._rest = threading.Thread()

    def fill(self, window: QMainWindow, menu: QMenu) -> None:
        """Put what there is into a menu."""
        from wertis.demo import make

        menu.clear()
        menu_entry(window, menu, "Brindle Quay, tracked, with a graphic", partial(self.open, make.TRACKED))
        menu_entry(window, menu, "Brindle Quay, with a track that drifts", partial(self.open, make.DRIFTING))
        menu_entry(window, menu, "Brindle Quay, the label taken off and new lettering", partial(self.open, make.RELETTERED))
        menu_entry(window, menu, "Brindle Quay, rope and barrow taken away", partial(self.open, make.ROPE_AWAY))
        menu_entry(window, menu, "The sail, tracked, with an emblem", partial(self.open, make.SAIL_TRACKED))
        menu_entry(window, menu, "The docker, cut out by mattes", partial(self.open, make.DOCKER_CUT_OUT))
        menu_entry(window, menu, "The walk, its camera solved, with a mural", partial(self.open, make.WALK_SOLVED))
        menu_entry(window, menu, "The walk, signs on one, two and four points", partial(self.open, make.WALK_SIGNS))
        for name, title in make.TITLES.items():
            menu_entry(window, menu, f"{title}, untouched", partial(self.open, name))

    def open(self, name: str = "") -> None:
        """Make the demo shots that are needed, then open one of them (the tracked one unless named)."""
        from wertis.demo import make

        name = name or make.TRACKED
        film_of = {make.SAIL_TRACKED: make.SAIL, make.WALK_SOLVED: make.WALK, make.WALK_SIGNS: make.WALK, make.DOCKER_CUT_OUT: make.DOCKER,
                   make.ROPE_AWAY: make.PASSED}
        wanted = [name] if name in make.ALL else [film_of.get(name, make.FIRST_FILM)]

        def opened() -> None:
            self._open_path(make.folder() / name)
            self._make_rest()

        if make.ready(names=wanted):
            opened()
            return
        if self._work.busy():
            return
        self._say("Making the demo shot of Brindle Quay, once; it opens by itself.", False)
        self._work.begin(Job("Making the demo shot", make.steps(wanted), lambda stop: make.make(names=wanted, stop=stop)), opened)

    def _make_rest(self) -> None:
        """The shots not opened yet are made while the person looks at the first."""
        from wertis.demo import make

        if not make.ready() and not self._rest.is_alive():
            self._rest = threading.Thread(target=lambda: list(make.make()), name="wertis-demo", daemon=True)
            self._rest.start()
