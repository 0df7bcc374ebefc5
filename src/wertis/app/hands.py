"""Which tool is in hand on the picture, and what it does to the shot."""

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from wertis.app import theme
from wertis.app.draw_tools import WAY_HINTS, drawing_tool
from wertis.app.session import Session
from wertis.app.tools import HandlesTool, PickTool, PointsTool
from wertis.app.viewer import Viewer, carried_back
from wertis.core.errors import RegionError
from wertis.core.geometry import polygon, quad
from wertis.core.shot import bends, edits, extra_moves, hold_outs, regions, repairs
from wertis.core.shot.document import HoldOut, Region, Shape, Shot
from wertis.core.track.texture import LITTLE

_WHAT = {"track": "the surface", "add": "what else belongs to the surface", "subtract": "what to take out of the region",
         "hold-out": "what passes in front"}


class Hands:
    """Chooses the tool for the step and the selection, and carries what it does into the history.

    Attributes
    ----------
    drawing : what is being drawn: "track", "add", "subtract", "hold-out", or nothing.
    way : how it is drawn, one of `draw_tools.WAYS`.
    shape : which shape of the region is in hand.
    """

    def __init__(self, session: Session, viewer: Viewer, say: Callable[[str, bool], None]) -> None:
        self.session, self.viewer, self._say = session, viewer, say
        self.drawing = ""
        self.way = "points"
        self.shape = 0
        self._in_hand: tuple[str, ...] = ()

    def draw(self, what: str) -> None:
        """Take the drawing tool in hand."""
        s = self.session
        if s.plate is None:
            self._say("There is no plate to draw on; open one first (Ctrl+O).", True)
            return
        if what != "track" and s.track is None:
            self._say(f"{'A hold-out hangs under a track' if what == 'hold-out' else 'There is no region to change'}; draw a region first (N).", True)
            return
        if what in ("add", "subtract") and s.track is not None and s.track.id == s.live_track:
            self._say("The region is being tracked; stop it first (Esc).", True)
            return
        s.go_step("Region")
        self.drawing = what
        self._in_hand = ()
        self.choose()
        self.viewer.setFocus()
        self._say(self.hint(), False)

    def hint(self) -> str:
        """How to draw what is being drawn."""
        return WAY_HINTS[self.way].format(what=_WHAT[self.drawing or "track"])

    def draw_as(self, way: str) -> None:
        """Draw another way from now on."""
        self.way = way
        if self.drawing or self.session.track is None:
            self._in_hand = ()
            self.choose()
            if self.session.plate is not None and self.session.step == "Region":
                self._say(self.hint(), False)

    def give_up(self) -> bool:
        """Put the drawing tool away; whether one was in hand."""
        was, self.drawing = self.drawing or isinstance(self.viewer.tool, PickTool), ""
        self._in_hand = ()
        self.choose()
        return bool(was)

    def choose(self) -> None:
        """Take the tool that the step and the selection call for."""
        s = self.session
        if s.plate is None:
            self.viewer.tool = None
            return
        wanted = self._wanted()
        if wanted == self._in_hand and self.viewer.tool is not None:
            return
        self._in_hand = wanted
        if not wanted:
            self.viewer.tool = None
            self.viewer.unsetCursor()
        elif wanted[0] == "draw":
            self.viewer.tool = drawing_tool(self.way, s.plate.size, self._drawn, self.give_up,
                                            lambda text: self._say(text, True))
        elif wanted[0] == "hold-out":
            self.viewer.tool = PointsTool(self._hold_out_points, self._hold_out_moved, False, theme.AMBER)
        elif wanted[0] == "region":
            self.viewer.tool = PointsTool(self._region_points, self._region_moved, False, theme.ACCENT, self._pick_shape)
        elif wanted[0] == "extra":
            self.viewer.tool = PointsTool(self._extra_points, self._extra_moved, True, theme.AMBER)
        elif wanted[0] == "sides":
            self.viewer.tool = HandlesTool(self._side_points, self._side_moved, theme.AMBER)
        elif wanted[0] == "repair":
            self.viewer.tool = PointsTool(self._repair_points, self._repair_moved, True, theme.AMBER)
        else:
            self.viewer.tool = PointsTool(self._placement_points, self._placement_moved, True, theme.PAPER)
        self.viewer.update()

    def _wanted(self) -> tuple[str, ...]:
        s = self.session
        if s.step == "Region" and (self.drawing or s.track is None):
            return ("draw", self.drawing, self.way)
        if s.step == "Region" and s.hold_out is not None and s.hold_out.keys:
            return ("hold-out", s.hold_out.id)
        if s.step == "Region" and s.track is not None and s.track.visible:
            if self.shape >= len(s.track.region.shapes):
                self.shape = 0
            return ("region", s.track.id, str(self.shape))
        if s.step == "Repair" and s.mending == "motion" and s.track is not None and s.track.solved is not None:
            return ("extra", s.track.id)
        if s.step == "Repair" and s.mending == "sides" and s.bent is not None:
            return ("sides", s.bent.id)
        if s.step == "Repair" and s.mending == "points" and s.track is not None and s.track.repair.points:
            return ("repair", s.track.id)
        if s.step == "Use" and s.placement is not None:
            return ("placement", s.placement.id)
        return ()

    # -- drawing --------------------------------------------------------------------------------------------------

    def _drawn(self, shapes: list[Shape]) -> None:
        s = self.session
        what = self.drawing or "track"
        assert s.plate is not None
        try:
            if what == "track":
                self._new_track(shapes)
            elif what == "hold-out":
                self._new_hold_out(polygon.checked(regions.outline(shapes[0]), s.plate.size, "hold-out"))
            else:
                self._more(shapes, subtract=what == "subtract")
        except RegionError as why:
            self._in_hand = ()
            self.choose()
            self._say(str(why), True)

    def _new_track(self, shapes: list[Shape]) -> None:
        s = self.session
        assert s.plate is not None
        first, *more = shapes
        region = regions.checked(Region(frame=s.frame, points=first.points, smooth=first.smooth, more=tuple(more)), s.plate.size)
        shot, track = edits.add_track(s.shot, first.array, s.frame)
        track = track.but(region=region)
        self.drawing, self.shape = "", 0
        s.history.do(f"Draw {track.name}", shot.with_track(track))
        s.select(track.id)
        self.choose()
        texture = s.texture()
        warning = texture is not None and texture.error > LITTLE
        self._say(texture.words if texture is not None and warning else
                  "The region is drawn. Track it both ways from this frame with Ctrl+T, or forward with T.", warning)

    def _more(self, shapes: list[Shape], subtract: bool) -> None:
        """Add shapes to the region, or subtract them; they are carried to the frame on which the region is kept."""
        s = self.session
        if s.track is None:
            return
        home = s.track.region.frame
        shot = s.shot
        for shape in shapes:
            points = carried_back(s, shape.array, s.frame, home)
            if points is None:
                raise RegionError(f"{s.track.name} is not tracked on frame {s.frame}; draw on a frame where it is, or on frame {home}.")
            shot = regions.with_shape(shot, s.track.id, shape.but(points=edits.as_points(points), subtract=subtract != shape.subtract))
        self.drawing = ""
        s.history.do("Subtract from the region" if subtract else "Add to the region", shot)
        self.shape = len(s.track.region.shapes) - 1
        self.choose()
        self._say("The region is changed." + (" Track again to use it." if s.track.solved is not None else ""), False)

    def _new_hold_out(self, points: np.ndarray) -> None:
        s = self.session
        if s.track is None:
            return
        held = HoldOut(keys={s.frame: edits.as_points(points)})
        s.history.do("Draw a hold-out", hold_outs.add_hold_out(s.shot, s.track.id, held))
        self.drawing = ""
        s.select(s.track.id, "", held.id)
        self.choose()
        self._say("Go to other frames and drag it to where the passer is then, or let it move with a track of its own; then track again (Ctrl+T).",
                  False)

    # -- the region's shapes --------------------------------------------------------------------------------------

    def remove_shape(self) -> None:
        """Take the shape in hand out of the region."""
        s = self.session
        if s.track is None:
            return
        try:
            shot = regions.without_shape(s.shot, s.track.id, self.shape)
        except RegionError as why:
            self._say(str(why), True)
            return
        self.shape = 0
        s.history.do("Remove a shape", shot)
        self.choose()

    def _region_points(self) -> np.ndarray | None:
        track = self.session.track
        shapes = regions.shapes_on(track, self.session.frame) if track is not None else None
        return shapes[self.shape] if shapes is not None and self.shape < len(shapes) else None

    def _region_moved(self, points: np.ndarray, dragging: bool) -> None:
        s = self.session
        if s.track is None:
            return
        if s.track.id == s.live_track:
            self._say("The region is being tracked; stop it first (Esc).", True)
            return
        home = carried_back(s, points, s.frame, s.track.region.frame)
        if home is None:
            return
        try:
            s.history.do("Move the region", regions.with_points(s.shot, s.track.id, self.shape, home), "region-drag")
        except RegionError as why:
            self._say(str(why), True)
            return
        if not dragging:
            s.history.end_merge()
            if s.track.solved is not None:
                self._say("The region is changed; track again to use it. What was tracked stays until then.", False)

    def _pick_shape(self, point: np.ndarray) -> None:
        """Take the shape under the pointer in hand; the smallest where several lie over each other."""
        track = self.session.track
        shapes = regions.shapes_on(track, self.session.frame) if track is not None else None
        under = [(abs(quad.signed_area(p)), k) for k, p in enumerate(shapes or []) if polygon.contains(p, point)]
        if under:
            self.shape = min(under)[1]
            self.choose()

    # -- repair points --------------------------------------------------------------------------------------------

    def add_repair_point(self) -> None:
        """Take a click for the place of a new repair point."""
        self.session.go_step("Repair")
        self._in_hand = ()
        self.viewer.tool = PickTool(self._repair_point_picked)
        self._say("Click a spot with something to recognise. Esc gives up.", False)

    def _repair_point_picked(self, point: np.ndarray) -> None:
        s = self.session
        if s.track is None:
            return
        try:
            shot = repairs.add_point(s.shot, s.track.id, point, s.frame)
        except RegionError as why:
            self._say(str(why), True)
        else:
            s.history.do("Add a repair point", shot)
            self._say("The point is set; it moves nothing until it is dragged. M finds its place on another frame.", False)
        self._in_hand = ()
        self.choose()

    def _repair_points(self) -> np.ndarray | None:
        s = self.session
        return repairs.points_on(s.track, s.frame) if s.track is not None else None

    def _repair_moved(self, points: np.ndarray, dragging: bool) -> None:
        s = self.session
        before = self._repair_points()
        if s.track is None or before is None:
            return
        moved = {p.id: to for p, at, to in zip(s.track.repair.points, before, points, strict=True) if not np.allclose(at, to, atol=1e-9)}
        self._try("Move a repair point", lambda: repairs.move_points(s.shot, s.track_id, s.frame, moved) if moved else s.shot, "repair-drag", dragging)

    # -- the extra move, and bent sides ---------------------------------------------------------------------------

    def pick_about(self) -> None:
        """Take a click for the point about which the extra move scales and turns."""
        self.session.go_step("Repair")
        self._in_hand = ()
        self.viewer.tool = PickTool(self._about_picked)
        self._say("Click the point about which the extra move scales, turns and shears. Esc gives up.", False)

    def _about_picked(self, point: np.ndarray) -> None:
        s = self.session
        self._try("Set the extra move's point", lambda: extra_moves.set_about(s.shot, s.track_id, point, s.frame))
        self._in_hand = ()
        self.choose()

    def _extra_points(self) -> np.ndarray | None:
        s = self.session
        at = extra_moves.about_on(s.track, s.frame) if s.track is not None else None
        if s.track is None or at is None:
            return None
        values = extra_moves.values_on(s.track, s.frame)
        return np.array([at + [values.x, values.y]])

    def _extra_moved(self, points: np.ndarray, dragging: bool) -> None:
        s = self.session
        at = extra_moves.about_on(s.track, s.frame) if s.track is not None else None
        if s.track is None or at is None:
            return
        x, y = points[0] - at
        values = replace(extra_moves.values_on(s.track, s.frame), x=float(x), y=float(y))
        self._try("Move the surface", lambda: extra_moves.set_values(s.shot, s.track_id, s.frame, values), "extra-drag", dragging)

    def _side_points(self) -> np.ndarray | None:
        s = self.session
        return bends.handles_on(s.track, s.bent, s.frame) if s.track is not None and s.bent is not None else None

    def _side_moved(self, points: np.ndarray, dragging: bool) -> None:
        s = self.session
        bent = s.bent
        if bent is not None:
            self._try("Bend a side", lambda: bends.move_handles(s.shot, s.track_id, bent.id, s.frame, points), "side-drag", dragging)

    def _try(self, label: str, make: Callable[[], Shot], merge: str = "", dragging: bool = False) -> None:
        """One step, or a part of a drag, that may be refused with a message."""
        s = self.session
        try:
            s.history.do(label, make(), merge)
        except RegionError as why:
            self._say(str(why), True)
        if not dragging:
            s.history.end_merge()

    # -- hold-outs and placements ---------------------------------------------------------------------------------

    def _hold_out_points(self) -> np.ndarray | None:
        s = self.session
        return hold_outs.shape_on(s.shot, s.hold_out, s.frame) if s.hold_out else None

    def _hold_out_moved(self, points: np.ndarray, dragging: bool) -> None:
        s = self.session
        if s.track is None or s.hold_out is None:
            return
        moved = hold_outs.reshaped(s.shot, s.hold_out, points, s.frame)
        s.history.do("Move the hold-out", hold_outs.set_hold_out(s.shot, s.track.id, moved), "hold-out-drag")
        if not dragging:
            s.history.end_merge()

    def _placement_points(self) -> np.ndarray | None:
        s = self.session
        return edits.placement_on(s.track, s.placement, s.frame) if s.track and s.placement else None

    def _placement_moved(self, points: np.ndarray, dragging: bool) -> None:
        s = self.session
        if s.track is None or s.placement is None:
            return
        home = carried_back(s, points, s.frame, s.placement.frame)
        if home is None or not quad.is_convex(home):
            self._say("The corners must not fold over; drag them so that the sides do not cross.", True)
            return
        moved = s.placement.but(quad=edits.as_points(home))
        s.history.do("Move the placement", edits.set_placement(s.shot, s.track.id, moved), "placement-drag")
        if not dragging:
            s.history.end_merge()
