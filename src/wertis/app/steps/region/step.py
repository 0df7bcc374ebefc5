"""The step Region: drawing what is tracked and what is held out of it."""

from pathlib import Path

import numpy as np
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QFileDialog

from wertis.app import theme
from wertis.app.commands import Command
from wertis.app.draw_tools import WAY_HINTS, drawing_tool
from wertis.app.picture_view import PictureView
from wertis.app.step import Step
from wertis.app.steps.region.overlays import paint_hold_outs, paint_texture
from wertis.app.steps.region.page import RegionPage, region_words
from wertis.app.tools import PointsTool, Tool
from wertis.app.workbench import Workbench
from wertis.core.errors import RegionError
from wertis.core.geometry import polygon, quad
from wertis.core.shot import edits, hold_outs, items, regions
from wertis.core.shot.document import HoldOut, Region, Shape, Shot
from wertis.core.track.texture import LITTLE

_WHAT = {"track": "the surface", "add": "what else belongs to the surface", "subtract": "what to take out of the region",
         "hold-out": "what passes in front"}


class RegionStep(Step):
    """Drawing regions and hold-outs.

    Attributes
    ----------
    drawing : what is being drawn: "track", "add", "subtract", "hold-out", or nothing.
    way : how it is drawn, one of `draw_tools.WAYS`.
    shape : which shape of the region is in hand.
    texture : whether it is shown where there is texture.
    """

    name, order, begins_with = "Region", 20, frozenset({"plate"})
    page: RegionPage

    def __init__(self, bench: Workbench) -> None:
        super().__init__(bench)
        self.drawing, self.way, self.shape, self.texture = "", "points", 0, False
        self.page = RegionPage(self.session)
        self.page.draw_wanted.connect(self.draw)
        self.page.way_picked.connect(self.draw_as)
        self.page.remove_wanted.connect(self.remove_shape)
        self.page.show_texture.toggled.connect(self._show_texture)
        self.page.carrier_picked.connect(self._carry_hold_out)
        self.session.plate_changed.connect(self.left)

    def commands(self) -> list[Command]:
        return [
            Command("region.draw", "Edit", "Draw a new region", lambda: self.draw("track"), "N", 2),
            Command("region.add", "Edit", "Add to the region", lambda: self.draw("add"), "Shift+N", 2),
            Command("region.subtract", "Edit", "Subtract from the region", lambda: self.draw("subtract"), "Ctrl+Shift+N", 2),
            Command("region.remove-shape", "Edit", "Remove the shape in hand", self.remove_shape, "", 2),
            Command("hold-out.draw", "Edit", "Draw a hold-out", lambda: self.draw("hold-out"), "H", 2),
            Command("hold-out.matte", "Edit", "Hold out a matte sequence...", self._choose_matte, "", 2),
            Command("region.texture", "View", "Texture of the region", self.page.show_texture.toggle, "X", 2),
        ]

    def words(self) -> str:
        s = self.session
        if s.plate is None:
            return ""
        return region_words(s.track.region).replace(", drawn on frame", " on") if s.track else "draw round the surface"

    def hint(self) -> str:
        if self.drawing or self.session.track is None:
            return WAY_HINTS[self.way].format(what=_WHAT[self.drawing or "track"])
        return "Drag points to move them; double-click a side for a new one; Shift chooses several. N draws another region."

    def paint(self, painter: QPainter, view: PictureView) -> None:
        if self.texture:
            paint_texture(painter, view)
        paint_hold_outs(painter, view, self.bench.mattes)

    def left(self) -> None:
        self.drawing = ""

    def escape(self) -> bool:
        was, self.drawing = self.drawing or (self.current and self.bench.picking), ""
        if was:
            self.bench.put_away()
        return bool(was)

    # -- tools ----------------------------------------------------------------------------------------------------

    def tool_wanted(self) -> tuple[str, ...]:
        s = self.session
        if self.drawing or s.track is None:
            return ("draw", self.drawing, self.way)
        held = s.hold_out
        if held is not None and held.keys:
            return ("hold-out", held.id)
        if not s.track.visible:
            return ()
        if self.shape >= len(s.track.region.shapes):
            self.shape = 0
        return ("region", s.track.id, str(self.shape))

    def tool(self, wanted: tuple[str, ...]) -> Tool | None:
        if wanted[0] == "draw":
            assert self.session.plate is not None
            return drawing_tool(self.way, self.session.plate.size, self._drawn, self.escape, lambda text: self.bench.say(text, True),
                                self.session.coded_picture)
        if wanted[0] == "hold-out":
            return PointsTool(self._hold_out_points, self.move_hold_out, False, theme.AMBER)
        return PointsTool(self._region_points, self._region_moved, False, theme.ACCENT, self._pick_shape)

    def draw(self, what: str) -> None:
        """Take the drawing tool in hand."""
        s = self.session
        if s.plate is None:
            self.bench.say("There is no plate to draw on; open one first (Ctrl+O).", True)
            return
        if what != "track" and s.track is None:
            self.bench.say(f"{'A hold-out hangs under a track' if what == 'hold-out' else 'There is no region to change'}; draw a region first (N).", True)
            return
        if what in ("add", "subtract") and s.track is not None and s.track.id == s.live.track_id:
            self.bench.say("The region is being tracked; stop it first (Esc).", True)
            return
        self.bring()
        self.drawing = what
        self.bench.put_away()
        self.bench.viewer.setFocus()
        self.bench.say(self.hint())

    def draw_as(self, way: str) -> None:
        """Draw another way from now on."""
        self.way = way
        if self.drawing or self.session.track is None:
            self.bench.put_away()
            if self.session.plate is not None and self.current:
                self.bench.say(self.hint())

    # -- what was drawn -------------------------------------------------------------------------------------------

    def _drawn(self, shapes: list[Shape]) -> None:
        what = self.drawing or "track"
        plate = self.session.plate
        assert plate is not None
        try:
            if what == "track":
                self._new_track(shapes)
            elif what == "hold-out":
                self._new_hold_out(polygon.checked(regions.outline(shapes[0]), plate.size, "hold-out"))
            else:
                self._more(shapes, subtract=what == "subtract")
        except RegionError as why:
            self.bench.put_away()
            self.bench.say(str(why), True)

    def _new_track(self, shapes: list[Shape]) -> None:
        s = self.session
        assert s.plate is not None
        first, *more = shapes
        region = regions.checked(Region(frame=s.frame, points=first.points, smooth=first.smooth, more=tuple(more)), s.plate.size)
        shot, track = edits.add_track(s.shot, first.array, s.frame)
        self.drawing, self.shape = "", 0
        s.history.do(f"Draw {track.name}", shot.with_track(track.but(region=region)))
        s.select(track.id)
        self.bench.choose_tool()
        texture = s.texture()
        warning = texture is not None and texture.error > LITTLE
        self.bench.say(texture.words if texture is not None and warning else
                       "The region is drawn. Track it both ways from this frame with Ctrl+T, or forward with T.", warning)

    def _more(self, shapes: list[Shape], subtract: bool) -> None:
        """Add shapes to the region, or subtract them; they are carried to the frame on which the region is kept."""
        s = self.session
        if s.track is None:
            return
        home = s.track.region.frame
        shot = s.shot
        for shape in shapes:
            points = edits.carry(s.track, shape.array, s.frame, home)
            if points is None:
                raise RegionError(f"{s.track.name} is not tracked on frame {s.frame}; draw on a frame where it is, or on frame {home}.")
            shot = regions.with_shape(shot, s.track.id, shape.but(points=edits.as_points(points), subtract=subtract != shape.subtract))
        self.drawing = ""
        s.history.do("Subtract from the region" if subtract else "Add to the region", shot)
        self.shape = len(s.track.region.shapes) - 1
        self.bench.choose_tool()
        self.bench.say("The region is changed." + (" Track again to use it." if s.track.solution is not None else ""))

    def _new_hold_out(self, points: np.ndarray) -> None:
        s = self.session
        held = HoldOut(of=s.track_id, keys={s.frame: edits.as_points(points)})
        s.history.do("Draw a hold-out", items.add_item(s.shot, held))
        self.drawing = ""
        s.select(s.track_id, held.id)
        self.bench.choose_tool()
        self.bench.say("Go to other frames and drag it to where the passer is then, or let it move with a track of its own; then track again (Ctrl+T).")

    # -- the region's shapes --------------------------------------------------------------------------------------

    def remove_shape(self) -> None:
        """Take the shape in hand out of the region."""
        s = self.session
        if s.track is None:
            return
        index, self.shape = self.shape, 0
        if not self.bench.edit("Remove a shape", lambda: regions.without_shape(s.shot, s.track_id, index)):
            self.shape = index
        self.bench.choose_tool()

    def _region_points(self) -> np.ndarray | None:
        track = self.session.track
        shapes = regions.shapes_on(track, self.session.frame) if track is not None else None
        return shapes[self.shape] if shapes is not None and self.shape < len(shapes) else None

    def _region_moved(self, points: np.ndarray, dragging: bool) -> None:
        s = self.session
        if s.track is None:
            return
        if s.track.id == s.live.track_id:
            self.bench.say("The region is being tracked; stop it first (Esc).", True)
            return
        home = edits.carry(s.track, points, s.frame, s.track.region.frame)
        if home is None:
            return
        done = self.bench.edit("Move the region", lambda: regions.with_points(s.shot, s.track_id, self.shape, home), "region-drag", dragging)
        if done and not dragging and s.track.solution is not None:
            self.bench.say("The region is changed; track again to use it. What was tracked stays until then.")

    def _pick_shape(self, point: np.ndarray) -> None:
        """Take the shape under the pointer in hand; the smallest where several lie over each other."""
        track = self.session.track
        shapes = regions.shapes_on(track, self.session.frame) if track is not None else None
        under = [(abs(quad.signed_area(p)), k) for k, p in enumerate(shapes or []) if polygon.contains(p, point)]
        if under:
            self.shape = min(under)[1]
            self.bench.choose_tool()

    # -- hold-outs ------------------------------------------------------------------------------------------------

    def _hold_out_points(self) -> np.ndarray | None:
        s = self.session
        return hold_outs.shape_on(s.shot, s.hold_out, s.frame) if s.hold_out else None

    def move_hold_out(self, points: np.ndarray, dragging: bool) -> None:
        """Put the selected hold-out's outline (N, 2) elsewhere on the frame in view."""
        s = self.session
        held = s.hold_out
        if held is None:
            return

        def moved() -> Shot:
            return items.set_item(s.shot, hold_outs.reshaped(s.shot, held, points, s.frame))

        self.bench.edit("Move the hold-out", moved, "hold-out-drag", dragging)

    def _carry_hold_out(self, track_id: str) -> None:
        s = self.session
        held = s.hold_out
        if held is not None:
            self.bench.edit("Choose what moves the hold-out", lambda: items.carry_item(s.shot, held.id, track_id, s.frame))
            self.page.show_state()

    def _choose_matte(self) -> None:
        name = QFileDialog.getExistingDirectory(self.bench.window, "The folder of the matte sequence")
        if name:
            self.page.set_matte(Path(name))

    def _show_texture(self, on: bool) -> None:
        self.texture = on
        self.bench.update_views()
