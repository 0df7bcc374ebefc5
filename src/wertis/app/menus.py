"""The menus of the main window, and the keys of what is in them."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtGui import QAction, QActionGroup, QKeySequence
from PySide6.QtWidgets import QMenu, QPushButton

from wertis.app.pages.base import Page
from wertis.app.session import STEPS

if TYPE_CHECKING:
    from wertis.app.window import MainWindow


def build_menus(w: MainWindow) -> None:
    """Give the window its menus; `desk` keeps what is in them with its usual key."""

    def add(menu: QMenu, words: str, keys: str, act: Callable[[], object]) -> QAction:
        action = plain_action(w, menu, words, act)
        if keys:
            action.setShortcut(QKeySequence(keys))
        w.desk.add(menu, words, action, keys)
        return action

    bar = w.menuBar()
    file = bar.addMenu("&File")
    add(file, "Open plate or shot...", "Ctrl+O", w.choose_open)
    add(file, "Open a folder of frames...", "Ctrl+Shift+O", w.choose_folder)
    file.addMenu(w.demo_menu)
    w.demo_menu.aboutToShow.connect(lambda: fill_demo(w))
    add(file, "Replace plate...", "", w.choose_replacement)
    file.addMenu(w.recent_menu)
    w.recent_menu.aboutToShow.connect(lambda: w.desk.fill_recent(w.recent_menu))
    file.addSeparator()
    add(file, "Save", "Ctrl+S", w.save)
    add(file, "Save as...", "Ctrl+Shift+S", w.save_as)
    file.addSeparator()
    add(file, "Quit", "Ctrl+Q", w.close)
    edit = bar.addMenu("&Edit")
    w.undo_action = add(edit, "Undo", "Ctrl+Z", w.undo)
    w.redo_action = add(edit, "Redo", "Ctrl+Shift+Z", w.redo)
    edit.addSeparator()
    add(edit, "Draw a new region", "N", w.draw_region)
    add(edit, "Add to the region", "Shift+N", lambda: w.hands.draw("add"))
    add(edit, "Subtract from the region", "Ctrl+Shift+N", lambda: w.hands.draw("subtract"))
    add(edit, "Remove the shape in hand", "", w.hands.remove_shape)
    add(edit, "Draw a hold-out", "H", w.draw_hold_out)
    add(edit, "Place a graphic", "P", w.add_placement)
    add(edit, "Remove the selected", "", w.outline.remove_current)
    edit.addSeparator()
    add(edit, "Preferences...", "Ctrl+,", w.desk.change_preferences)
    track = bar.addMenu("&Track")
    for words, keys, direction in (("Forward", "T", "forward"), ("Backward", "Shift+T", "backward"), ("Both ways", "Ctrl+T", "both"),
                                   ("One frame forward", "Y", "next"), ("One frame back", "Shift+Y", "previous")):
        add(track, words, keys, partial(w.errands.track, direction))
    track.addSeparator()
    add(track, "Stop", "Esc", w.escape)
    view = bar.addMenu("&View")
    add(view, "Fit", "F", w.viewer.fit)
    add(view, "Actual pixels", "Ctrl+1", lambda: w.viewer.zoom_to(1.0))
    add(view, "Zoom in", "Ctrl++", lambda: w.viewer.zoom_to(w.viewer.zoom * 1.4))
    add(view, "Zoom out", "Ctrl+-", lambda: w.viewer.zoom_to(w.viewer.zoom / 1.4))
    add(view, "Graphics", "G", lambda: w.transport.buttons["graphics"].click())
    add(view, "Texture of the region", "X", w.details.region.show_texture.toggle)
    add(view, "Outlines and words", "V", lambda: w.transport.buttons["overlays"].click())
    view.addSeparator()
    add(view, "Panes: plate, steady view, both", "S", w.next_panes)
    add(view, "Flip frame and reference", "Q", w.flip)
    add(view, "Close-ups of the corners", "C", w.details.check.close_ups.toggle)
    view.addSeparator()
    for k, step in enumerate(STEPS, 1):
        add(view, f"Step: {step}", str(k), partial(w.session.go_step, step))
    mend = bar.addMenu("&Repair")
    for words, keys, what in (("Points at the corners", "", "corners"), ("Add a point", "A", "add"), ("Find places on this frame", "M", "find"),
                              ("Set a key", "K", "key"), ("Clear keys here", "", "clear"),
                              ("Clear the chosen points' keys", "", "clear-points"), ("Remove the chosen points", "", "remove"),
                              ("Key before", "[", "before"), ("Key after", "]", "after"), ("Repair by itself", "Ctrl+M", "itself"),
                              ("Track again from the keys", "Ctrl+Y", "again"), ("Set the extra move's point", "", "about")):
        add(mend, words, keys, partial(w.mending.wish, what))
    go = bar.addMenu("&Go")
    add(go, "Play or pause", "Space", w.playback.toggle)
    play = go.addMenu("Play at")
    group = QActionGroup(w)
    for words, part in (("Full resolution", 1), ("Half resolution", 2), ("Quarter resolution", 4)):
        action = add(play, words, "", partial(w.showing.play_at_part, part))
        action.setCheckable(True)
        action.setChecked(part == 1)
        group.addAction(action)
    add(go, "Reference frame", "R", w.go_reference)
    add(go, "Next-worst frame", "W", w.go_next_worst)
    add(go, "Range begins here", "I", lambda: w._set_range(True))
    add(go, "Range ends here", "O", lambda: w._set_range(False))
    deliver = bar.addMenu("&Deliver")
    add(deliver, "Render", "Ctrl+R", partial(_press, w.details.deliver, w.details.deliver.render_button))
    help_ = bar.addMenu("&Help")
    add(help_, "Guide", "F1", w.desk.show_guide)
    add(help_, "Keys...", "", w.desk.change_keys)
    add(help_, "About Wertis", "", w.desk.show_about)
    w.desk.use_keys()


def _press(page: Page, button: QPushButton) -> None:
    """A button of a page that need not be in view."""
    page.catch_up()
    button.click()


def plain_action(w: MainWindow, menu: QMenu, words: str, act: Callable[[], object]) -> QAction:
    """An entry without a key of its own."""
    action = QAction(words, w)
    action.triggered.connect(lambda _=False: act())
    menu.addAction(action)
    return action


def fill_demo(w: MainWindow) -> None:
    """What demo shots there are."""
    from wertis.demo import make

    w.demo_menu.clear()
    plain_action(w, w.demo_menu, "Brindle Quay, tracked, with a graphic", lambda: w.errands.demo(make.TRACKED))
    plain_action(w, w.demo_menu, "Brindle Quay, with a track that drifts", lambda: w.errands.demo(make.DRIFTING))
    for name, title in make.TITLES.items():
        plain_action(w, w.demo_menu, f"{title}, untouched", partial(w.errands.demo, name))  # type: ignore[misc]
