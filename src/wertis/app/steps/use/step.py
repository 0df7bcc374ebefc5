"""The step Use: graphics and mattes on the selected surface."""

from pathlib import Path

import numpy as np
from PySide6.QtCore import QPointF
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QInputDialog

from wertis.app import theme
from wertis.app.commands import Command
from wertis.app.display import SteadyWish
from wertis.app.occluder_work import choose_folder, make_mattes
from wertis.app.overlay import Line
from wertis.app.painting import outline
from wertis.app.picture_view import PictureView
from wertis.app.step import Step
from wertis.app.steps.use.mattes.part import MattePart
from wertis.app.steps.use.page import UsePage
from wertis.app.steps.use.patches.part import PatchPart
from wertis.app.steps.use.place_tool import PlaceTool, Posed
from wertis.app.steps.use.strip_window import StripWindow
from wertis.app.tools import PointsTool, Tool
from wertis.app.viewer import track_words
from wertis.app.workbench import Workbench
from wertis.core.comp.graphic import surface_warp
from wertis.core.comp.light import light_words
from wertis.core.errors import RegionError
from wertis.core.geometry import coons
from wertis.core.jobs.matching import PARTS
from wertis.core.keyed import moved_key
from wertis.core.shot import bends, edits, items, matte_edits, placing
from wertis.core.shot.document import Bend, Placement, Shot
from wertis.core.shot.fills import Fill, add_fill, set_fill
from wertis.core.shot.grades import Grade, add_grade
from wertis.core.shot.keys import key_records, plain_keys
from wertis.core.shot.mattes import Matte
from wertis.core.shot.patches import Patch
from wertis.core.shot.placing import surface_proportions
from wertis.core.shot.pose import Pose, PoseValues

_CELLS = 4  # of the grid that shows a placement's perspective
_SOURCES = {"given": "given", "perspective": "from the perspective", "flat": "too flat to tell"}


class UseStep(Step):
    """Placing graphics."""

    name, order, begins_with, quiet = "Use", 60, frozenset({"items"}), True
    page: UsePage

    def __init__(self, bench: Workbench) -> None:
        super().__init__(bench)
        self.page = UsePage(self.session)
        self.page.add_wanted.connect(self.place)
        self.page.artwork.reread_wanted.connect(self.reread)
        self.page.place.handles_changed.connect(lambda: bench.choose_tool())
        self.page.match.bench = bench
        self.page.look.cover_wanted.connect(self.choose_cover)
        self.mattes = MattePart(bench, self.page.matte)
        self.page.matte_wanted.connect(self.draw_matte)
        self.page.grade_wanted.connect(self.add_grade)
        self.page.fill_wanted.connect(self.add_fill)
        self.patches = PatchPart(bench, self.page.patch)
        self.page.patch_wanted.connect(self.add_patch)
        self.strip: StripWindow | None = None

    @property
    def steady(self) -> SteadyWish:  # type: ignore[override]
        """A patch is painted on in the steady view as well; a matte is seen there where that is wished, with the whole picture held still, since it may
        reach far beyond the surface."""
        if self.mattes.steady:
            return SteadyWish(True, held="place", beside=True)
        return SteadyWish(self.patches.painting, beside=True)

    def commands(self) -> list[Command]:
        return [Command("use.place", "Edit", "Place a graphic", self.place, "P", 3),
                Command("use.matte", "Edit", "Draw a matte", self.draw_matte, "Shift+P", 3),
                Command("use.matte-steady", "View", "The matte in the steady view", self.matte_in_steady, "Shift+S", 3),
                Command("use.grade", "Edit", "Add a grade", self.add_grade, "", 3),
                Command("use.fill", "Edit", "Lay a colour inside a matte", self.add_fill, "", 3),
                Command("use.patch", "Edit", "Take out a patch", self.add_patch, "", 3),
                Command("use.patch-whole", "Edit", "Take out the whole picture as a patch", lambda: self.add_patch(True), "", 3),
                Command("use.match", "Edit", "Match the graphic to the plate", lambda: self.page.match.measure(PARTS), "", 3),
                Command("use.strip", "Edit", "Show the graphic on many frames", self.show_strip, "", 3),
                Command("use.hold-out", "Edit", "Hold the matte out of a track...", self.hold_out_matte, "", 3),
                Command("use.end-where-covered", "Edit", "End the graphic where it is covered...", self.choose_cover, "", 3),
                Command("use.reread", "Edit", "Read the artwork again", self.reread, "", 3)]

    def words(self) -> str:
        s = self.session
        used = [x.name for x in s.shot.items_under(s.track_id) if isinstance(x, Placement | Patch)]
        return ", ".join(used)[:40] or "nothing placed" if s.track is not None else ""

    def hint(self) -> str:
        if self.mattes.matte is not None:
            return "Drag the matte's points; each frame becomes a key. Double-click a side for a new point, Shift chooses several."
        if self.patches.patch is not None:
            return "Join the patch's clean plate, or choose a brush and paint in either view; Give back says where it is laid on."
        return "Drag the corners to where the graphic belongs." if self.session.placement else "Place a graphic on the surface with P."

    def headline(self) -> Line | None:
        s = self.session
        p, track, matte = s.placement, s.track, self.mattes.matte
        if matte is not None and track is not None:
            return self.mattes.words(track_words(track)), theme.PAPER
        if s.selected(Grade) is not None or s.selected(Fill) is not None:
            return None
        if self.patches.patch is not None:
            return self.patches.words(), theme.PAPER
        if p is None or track is None or s.shot.plate is None or edits.placement_on(s.shot, p, s.frame) is None:
            return None
        found = surface_proportions(p, s.shot.plate.size, s.aspect)
        return (f"{p.name} on {track.name}: {track_words(track)}; placed on frame {p.frame}, proportions {found.ratio:.2f} ({_SOURCES[found.source]})",
                theme.PAPER)

    def captions(self) -> list[Line]:
        words = light_words(self.session.shot)
        return [(f"Graphics are {words}", theme.QUIET)] if words else []

    def paint(self, painter: QPainter, view: PictureView) -> None:
        s = self.session
        self.mattes.paint(painter, view)
        self.patches.paint(painter, view)
        track, placement = s.track, s.placement
        if track is None or placement is None or not track.visible or any(s.selected(kind) is not None for kind in (Matte, Grade, Fill, Patch)):
            return
        on = edits.placement_on(s.shot, placement, s.frame)
        if on is None:
            return
        if placement.artwork.kind != "grid":
            for line in coons.grid(_CELLS, placement.bend.at(s.frame), fine=True)[2:-2]:
                there = bends.placed(s.shot, placement, s.frame, line)
                places = view.to_screen(there) if there is not None else None
                if places is None or not np.isfinite(places).all():
                    continue
                for pen in (QPen(QColor(0, 0, 0, 60), 2), QPen(QColor(242, 239, 230, 90), 1)):
                    painter.setPen(pen)
                    painter.drawPolyline(QPolygonF([QPointF(*p) for p in places]))
        edge = bends.outline_on(s.shot, placement, s.frame)
        drawn = view.to_screen(on if edge is None else edge)
        if np.isfinite(drawn).all():
            outline(painter, drawn, theme.PAPER, 1.4)

    # -- what covers the surface ----------------------------------------------------------------------------------

    def choose_cover(self) -> None:
        """Ask where to keep a matte of what covers the graphic's surface, and put the graphic behind that."""
        if self.session.placement is None:
            self.bench.say("Choose a graphic in the outline first; it is put behind what covers its surface.")
            return
        folder = choose_folder(self.bench)
        if folder is not None:
            self.end_where_covered(folder)

    def end_where_covered(self, folder: Path) -> None:
        """Make a matte sequence of what covers the selected graphic's surface, such as a flap of its own, and put the graphic behind it."""
        placement = self.session.placement
        assert placement is not None
        make_mattes(self.bench, folder, "covered", lambda where: self._put_behind(placement.id, where))

    def _put_behind(self, ident: str, where: Path) -> None:
        s = self.session
        if not any(x.id == ident for x in s.shot.items):
            return  # it was taken away meanwhile
        if self.bench.edit("End the graphic where it is covered", lambda: matte_edits.put_behind(s.shot, ident, str(where.absolute()))[0]):
            self.bench.say(f"The graphic ends where something lies over it (matte in {where}). Draw in that matte to take specks away.")

    # -- tools ----------------------------------------------------------------------------------------------------

    def tool_wanted(self) -> tuple[str, ...]:
        if self.mattes.matte is not None:
            return self.mattes.tool_wanted()
        if self.patches.patch is not None:
            return ("paint", self.patches.patch.id) if self.patches.painting else ()
        if self.session.selected(Grade) is not None or self.session.selected(Fill) is not None:
            return ()
        placement = self.session.placement
        return ("placement move" if self.page.place.by_handles else "placement", placement.id) if placement is not None else ()

    def tool(self, wanted: tuple[str, ...]) -> Tool | None:
        if wanted[0].startswith("matte"):
            return self.mattes.tool(wanted)
        if wanted[0] == "paint":
            return self.patches.tool()
        if wanted[0] == "placement move":
            return PlaceTool(self._posed, self._pose)
        return PointsTool(self._corners, self._moved, True, theme.PAPER)

    def key_marks(self) -> list[int]:
        placement = self.session.placement
        if placement is not None and self.mattes.matte is None:
            return sorted(placement.pose.keys) if len(placement.pose.keys) > 1 else []
        return self.mattes.key_marks()

    def measured(self) -> dict[int, float]:
        return self.mattes.edge.by_frame()

    def move_key_mark(self, frame: int, to: int, copy: bool) -> bool:
        s, placement = self.session, self.session.placement
        if placement is not None and self.mattes.matte is None:
            moved = placement.but(pose=placement.pose.but(keys=key_records(moved_key(plain_keys(placement.pose.keys), frame, to, copy))))
            return self.bench.edit("Move a key", lambda: items.set_item(s.shot, moved))
        return self.mattes.move_key_mark(frame, to, copy)

    def left(self) -> None:
        self.mattes.drawing = False
        self.page.patch.put_away()

    def escape(self) -> bool:
        return self.mattes.escape()

    def draw_matte(self) -> None:
        """Draw a matte on the selected track."""
        self.bring()
        self.mattes.begin()

    def matte_in_steady(self) -> None:
        """Show the selected matte in the steady view beside the plate as well, or only in the plate."""
        if self.mattes.matte is None:
            self.bench.say("Select a matte first; the steady view shows it beside the plate.", True)
            return
        box = self.page.matte.whole.steady
        if self.current or not box.isChecked():  # coming from another step it is shown, not put away
            box.click()
        self.bring()

    def add_grade(self) -> None:
        """Add a grade on the selected track, inside the matte that is in hand."""
        s, matte = self.session, self.mattes.matte
        track = s.track
        if track is None:
            self.bench.say("There is no surface to grade; draw a region first (N).", True)
            return
        limited = (matte.id,) if matte is not None else ()
        if self.bench.edit("Add a grade", lambda: add_grade(s.shot, track, limited)[0]):
            s.select(track.id, s.shot.items[-1].id)
            self.bring()
            where = f"inside {matte.name}" if matte is not None else "for the whole picture; draw a matte to limit it"
            self.bench.say(f"The grade is added, {where}.")

    def add_patch(self, whole: bool = False) -> None:
        """Take a patch of the selected track out of the frame in view."""
        self.bring()
        self.patches.add(whole)

    def add_fill(self) -> None:
        """Lay a colour on the selected track, inside the matte that is in hand."""
        s, matte = self.session, self.mattes.matte
        track = s.track
        if track is None:
            self.bench.say("There is no surface to colour; draw a region first (N).", True)
            return
        lines = matte is not None and any(x.stroke is not None for x in matte.shapes)

        def made() -> Shot:
            shot, fill = add_fill(s.shot, track, (matte.id,) if matte is not None else ())
            return set_fill(shot, fill.id, blend="plus-lighter", glow=(4.0, 14.0)) if lines else shot

        if self.bench.edit("Lay a colour", made):
            s.select(track.id, s.shot.items[-1].id)
            self.bring()
            self.bench.say(f"The colour fills {matte.name}." if matte is not None else "Choose the matte that the colour fills; draw one with + Matte.")

    def hold_out_matte(self) -> None:
        """Hold the selected matte out of another track; which one is asked where there are several."""
        s, matte = self.session, self.mattes.matte
        others = [t for t in s.shot.tracks if matte is not None and t.id != matte.on]
        if matte is None or not others:
            self.bench.say("Select a matte first; it can be held out of a track that does not carry it.", True)
            return
        name, ok = others[0].name, True
        if len(others) > 1:
            name, ok = QInputDialog.getItem(self.bench.window, "Hold out", f"Hold {matte.name} out of", [t.name for t in others], 0, False)
        track = next((t for t in others if t.name == name), None)
        if ok and track is not None and self.bench.edit("Hold the matte out", lambda: matte_edits.hold_out_of(s.shot, matte.id, track.id)):
            self.bench.say(f"What {matte.name} covers is held out of {track.name}. Track {track.name} again to use it (Ctrl+T).")

    def _corners(self) -> np.ndarray | None:
        s = self.session
        return edits.placement_on(s.shot, s.placement, s.frame) if s.placement else None

    def _moved(self, points: np.ndarray, dragging: bool) -> None:
        s = self.session
        placement = s.placement
        if placement is None:
            return
        self.bench.edit("Move the placement", lambda: items.set_item(s.shot, placing.with_corners(s.shot, placement, points, s.frame)), "placement-drag",
                        dragging)

    def _posed(self) -> Posed | None:
        s, placement = self.session, self.session.placement
        track = s.shot.track(placement.on) if placement is not None else None
        surface = surface_warp(track, placement.but(pose=Pose(), bend=Bend()), s.frame) if track is not None and placement is not None else None
        if placement is None or surface is None:
            return None
        ratio = placement.pose.ratio if placement.pose.keys else placing.proportions_in(s.shot, placement)
        return Posed(surface, placement.pose.at(s.frame), ratio, placement.pose.about)

    def _pose(self, values: PoseValues, dragging: bool) -> None:
        s, placement = self.session, self.session.placement
        if placement is not None:
            self.bench.edit("Move the graphic on its surface",
                            lambda: items.set_item(s.shot, placing.posed(s.shot, placement, s.frame, values, self.page.place.keyed.isChecked())),
                            "placement-pose", dragging)

    # -- what can be asked for ------------------------------------------------------------------------------------

    def place(self) -> None:
        """Put a placement on the selected track on the frame in view."""
        s = self.session
        track = s.track
        if track is None:
            self.bench.say("There is no surface to place on; draw a region first (N).", True)
            return
        try:
            corners = edits.default_quad(track, s.frame)
        except RegionError as why:
            self.bench.say(str(why), True)
            return
        placement = Placement(on=track.id, frame=s.frame, quad=edits.as_points(corners))
        if self.bench.edit("Place a graphic", lambda: items.add_item(s.shot, placement)):
            s.select(track.id, placement.id)
            self.bring()
            self.bench.choose_tool()
            self.bench.say("Drag the corners to where the graphic belongs, then choose what to show on the right."
                           + ("" if track.solution else " Track the surface (T) to carry it."))

    def show_strip(self) -> None:
        """Show the same place on many frames, in a window of its own."""
        s, placement = self.session, self.session.placement
        if placement is None or s.plate is None:
            self.bench.say("Select a graphic first; the strip shows its place on many frames.", True)
        elif not self.bench.work.busy():
            if self.strip is not None:
                self.strip.deleteLater()
            self.strip = StripWindow(self.bench, placement.id, placement.name)
            self.strip.show()

    def reread(self) -> None:
        """Read the artwork's files again."""
        self.bench.display.pictures.refresh_files()
        self.bench.display.frame()
        self.bench.say("The artwork was read again.")
