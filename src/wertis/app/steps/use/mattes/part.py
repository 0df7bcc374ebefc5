"""Mattes in the step Use: drawn, moved by keys, bound, and looked at."""

from collections.abc import Iterator

import numpy as np
from PySide6.QtGui import QPainter

from wertis.app.draw_tools import WAY_HINTS, drawing_tool
from wertis.app.picture_view import PictureView
from wertis.app.steps.use.mattes.edge_work import EdgeWork
from wertis.app.steps.use.mattes.fields import MatteFields
from wertis.app.steps.use.mattes.painting import FEW, paint_bound, paint_matte
from wertis.app.steps.use.mattes.tool import Chosen, ShapesTool, Shown
from wertis.app.tools import Tool
from wertis.app.workbench import Workbench
from wertis.core.blas import single_threaded
from wertis.core.jobs.events import Event, Stop
from wertis.core.jobs.job import Job
from wertis.core.jobs.shutter import measured_shutter
from wertis.core.matte.edge import Edge
from wertis.core.matte.edge_path import natural_roundness
from wertis.core.matte.outline import flattened, handles, nearest_place
from wertis.core.shot import items, matte_edits
from wertis.core.shot.document import Placement, Shape, Shot
from wertis.core.shot.matte_carry import Carrier, anchors_on
from wertis.core.shot.mattes import Matte, MatteShape

_WIDTH = 6.0  # pixels of a line that is drawn
_FLAT = 0.15  # pixels by which an outline that is painted may lie off its curve


class MattePart:
    """Works with the selected matte."""

    def __init__(self, bench: Workbench, fields: MatteFields) -> None:
        self.bench, self.session, self.fields = bench, bench.session, fields
        self.drawing = self._previewing = False
        self.edge = EdgeWork(bench, fields)
        self._kept: dict[str, tuple[MatteShape, Shown | None]] = {}  # a shape's id to it and to how it was on `_shown_at`
        self._shown_at: tuple = ()
        self._held: object = None
        fields.wanted.connect(self.wanted)
        for signal in (self.session.selection_changed, self.session.step_changed):
            signal.connect(lambda *_: self._look())

    @property
    def matte(self) -> Matte | None:
        """The selected matte."""
        return self.fields.matte

    @property
    def steady(self) -> bool:
        """Whether the matte is seen in the steady view as well."""
        return self.matte is not None and self.fields.whole.steady.isChecked()

    def words(self, motion: str) -> str:
        """What is shown, in a line; `motion` says what carries it."""
        s, matte = self.session, self.matte
        if matte is None:
            return ""
        held = next((f"in front of {p.name}" if matte.id in p.held_back else f"limits {p.name}" for p in s.shot.items
                     if isinstance(p, Placement) and matte.id in (*p.held_back, *p.limited_to)), "in front of nothing yet")
        return f"{matte.name}, {held}: carried by {s.track.name if s.track else 'nothing'}, {motion}; drawn on frame {matte.frame}"

    # -- drawing --------------------------------------------------------------------------------------------------

    def begin(self) -> None:
        """Draw a new matte on the selected track."""
        s = self.session
        if s.track is None or s.plate is None:
            self.bench.say("There is no surface to draw on; draw a region first (N).", True)
            return
        if self.bench.edit("Draw a matte", lambda: matte_edits.add_matte(s.shot, s.track, s.frame)[0]):
            s.select(s.track.id, s.shot.items[-1].id)
            self.fields.bring(0)
            self.wanted("draw")

    def tool_wanted(self) -> tuple[str, ...]:
        """Which tool belongs in hand."""
        if self.matte is None:
            return ()
        if self.drawing:
            return ("matte draw", self.matte.id)
        return ("matte", self.matte.id) if self.fields.in_hand is not None else ()

    def tool(self, wanted: tuple[str, ...]) -> Tool | None:
        """That tool."""
        if wanted[0] == "matte draw":
            assert self.session.plate is not None
            way = str(self.fields.shapes.way.currentData())
            return drawing_tool(way, self.session.plate.size, self._drawn, self.escape, lambda text: self.bench.say(text, True),
                                self.session.coded_picture)
        tool = ShapesTool(self._shown, self._moved, self._softened, self._inserted, self._removed, self._chosen)
        tool.chosen = self.fields.hand.chosen
        return tool

    def escape(self) -> bool:
        """Give up drawing; whether anything was being drawn."""
        was, self.drawing = self.drawing, False
        if was:
            self.bench.put_away()
        return was

    def _drawn(self, shapes: list[Shape]) -> None:
        s, matte = self.session, self.matte
        self.drawing = False
        if matte is None:
            return
        way = str(self.fields.shapes.way.currentData())

        def made() -> Shot:
            shot = s.shot
            for each in shapes:
                points = each.array
                if way == "line":
                    shot = matte_edits.add_shape(shot, matte.id, points, s.frame, 1.0, width=_WIDTH, closed=False)
                else:
                    shot = matte_edits.add_shape(shot, matte.id, points, s.frame, 0.0 if way in ("points", "rectangle") else 1.0,
                                                 combine="subtract" if each.subtract else "add")
                if way in ("edge", "freehand", "painted"):
                    drawn = matte_edits.matte_of(shot, matte.id).shapes[-1]
                    shot = shot.with_item(matte_edits.matte_of(shot, matte.id).with_shape(drawn.but(roundness=tuple(natural_roundness(points).tolist()))))
            return shot

        if self.bench.edit("Draw a shape", made):
            now = self.matte
            assert now is not None
            self.fields.hand.take(now.shapes[-1].id)
            self.bench.say("The shape is drawn. Go to other frames and drag its points: each frame becomes a key. Double-click a side for a new point."
                           if way != "line" else "The line is drawn. Give it a colour with + Colour; its points are moved as those of any shape.")
        self.bench.put_away()

    # -- the tool -------------------------------------------------------------------------------------------------

    def _shown(self) -> list[Shown]:
        """The visible shapes on the frame in view, the one in hand last; those that did not change are not worked out again while a point is dragged."""
        s, matte, in_hand = self.session, self.matte, self.fields.in_hand
        if matte is None:
            return []
        track = s.shot.track(matte.on)
        bound = any(any(x.bound) for x in matte.shapes)  # what they are bound to may be anything in the shot
        place = (id(track), matte.id, matte.frame, matte.take, s.frame, id(s.shot) if bound else 0)
        if place != self._shown_at:
            self._kept.clear()
            self._shown_at, self._held = place, (track, s.shot)  # held, so that nothing else gets their numbers
        carried, found, kept = Carrier(s.shot, matte), [], {}
        for shape in sorted(matte.shapes, key=lambda x: in_hand is not None and x.id == in_hand.id):
            known = self._kept.get(shape.id)
            shown = known[1] if known is not None and known[0] is shape else _shown_shape(carried, shape, s.frame)
            kept[shape.id] = (shape, shown)
            if shown is not None:
                found.append(shown)
        self._kept = kept
        return found

    def _chosen(self, shape_id: str, chosen: Chosen) -> None:
        hand = self.fields.hand
        hand.chosen = chosen
        if (shape_id and shape_id != (hand.shape.id if hand.shape is not None else "")) or hand.group is not None:
            hand.shape_id, hand.group_id = shape_id or hand.shape_id, ""
        self.fields.show_state()
        self.bench.update_views()

    def _moved(self, changed: dict[str, np.ndarray], dragging: bool) -> None:
        s, matte = self.session, self.matte
        if matte is None or not changed:
            return
        reach, span = str(self.fields.keys.reach.currentData()), self.fields.keys.span
        if reach == "there" and any(x.id in changed and s.frame not in x.keys for x in matte.shapes):
            self.bench.say("There is no key on this frame: set one first, or choose under Keys what moving sets.", True)
            return

        def made() -> Shot:
            shot = s.shot
            for ident, controls in changed.items():
                shape = matte.shape(ident)
                if shape is not None:
                    places = controls.reshape(-1, 2) if shape.handled else controls[:, 0]
                    shot = matte_edits.key_shape(shot, matte.id, ident, s.frame, places, "key" if reach == "there" else reach, span)  # type: ignore[arg-type]
            return shot

        self.bench.edit("Move the shape", made, "shape-drag", dragging)

    def _softened(self, ident: str, numbers: set[int], which: str, value: float, dragging: bool) -> None:
        s, matte = self.session, self.matte
        if matte is not None:
            self.bench.edit("Set the soft edge", lambda: matte_edits.set_points_alike(s.shot, matte.id, ident, numbers, **{which: value}), "soft-drag",
                            dragging)

    def _inserted(self, ident: str, place: np.ndarray) -> None:
        s, matte = self.session, self.matte
        shape = matte.shape(ident) if matte is not None else None
        controls = Carrier(s.shot, matte).controls(shape, s.frame) if matte is not None and shape is not None else None
        if matte is None or shape is None or controls is None:
            return
        line, at = flattened(shape.curves(controls), shape.closed)
        _, spot = nearest_place(line, at, shape.count, place, shape.closed)
        after = min(int(spot), shape.count - 1 - (not shape.closed))
        part = float(np.clip(spot - after, 0.05, 0.95))
        self.bench.edit("Put a point in", lambda: matte_edits.insert_point(s.shot, matte.id, ident, after, part))

    def _removed(self, chosen: Chosen) -> None:
        s, matte = self.session, self.matte
        if matte is None:
            return

        def made() -> Shot:
            shot = s.shot
            for ident, numbers in chosen.items():
                shape = matte.shape(ident)
                if shape is not None and len(numbers) >= shape.count:
                    shot = matte_edits.remove_shape(shot, matte.id, ident)
                elif numbers:
                    shot = matte_edits.remove_shape_points(shot, matte.id, ident, numbers)
            return shot

        self.bench.edit("Remove points", made)

    # -- what is asked for ----------------------------------------------------------------------------------------

    def wanted(self, what: str) -> None:
        """Something that the page asks for."""
        matte, shape = self.matte, self.fields.in_hand
        if matte is None:
            return
        if what in ("look", "preview", "shutter", "steady"):
            {"look": self._look, "preview": self._preview, "shutter": self._shutter, "steady": self.bench.show_panes}[what]()
        elif what == "draw":
            self.drawing = True
            self.bench.put_away()
            self.bench.viewer.setFocus()
            self.bench.say(WAY_HINTS[str(self.fields.shapes.way.currentData())].format(what="what the matte covers"))
        elif shape is None:
            self.bench.say("Draw a shape first.")
        elif what in ("measure", "worst", "snap"):
            {"measure": lambda: self.edge.measure(matte), "worst": self.edge.go_worst, "snap": lambda: self.edge.snap(matte)}[what]()
        elif what in ("fit", "fit-all", "repair"):
            self.edge.fit(what, matte)
        elif what in ("bind", "unbind", "leave"):
            self._bind(what, matte, shape)
        else:
            self._keys(what, matte, shape)

    def _keys(self, what: str, matte: Matte, shape: MatteShape) -> None:
        s = self.session
        if what == "remove":
            group = self.fields.hand.group
            if group is not None:
                self.bench.edit("Remove a group", lambda: items.set_item(s.shot, _without_group(matte, group.id)))
            else:
                self.bench.edit("Remove a shape", lambda: matte_edits.remove_shape(s.shot, matte.id, shape.id))
            self.bench.choose_tool()
        elif what == "clear":
            self.bench.edit("Clear keys", lambda: matte_edits.clear_keys(s.shot, matte.id, s.frame))
        elif what == "thin":
            before = len(shape.keys)
            if self.bench.edit("Thin the keys", lambda: matte_edits.thin_keys(s.shot, matte.id, shape.id)):
                now = self.fields.in_hand
                gone = before - len(now.keys) if now is not None else 0
                self.bench.say(f"{gone} of {before} keys were not needed." if gone else "All keys are needed, to a quarter of a pixel.")
        elif what == "key":
            self.bench.edit("Set keys", lambda: _keyed_here(s.shot, matte, s.frame))
        elif what in ("before", "after"):
            marks = self.key_marks()
            found = max((f for f in marks if f < s.frame), default=None) if what == "before" else min((f for f in marks if f > s.frame), default=None)
            if found is None:
                self.bench.say(f"There is no key {what} this frame.")
            else:
                s.go(found)
        elif what == "next":
            frame = matte_edits.next_key_frame(s.shot, matte, *s.shot.range)
            if frame is None:
                self.bench.say("There are keys on every frame.")
            else:
                s.go(frame)
                self.bench.say("Here the shapes are farthest from their keys: drag the points to where they belong.")

    def _bind(self, what: str, matte: Matte, shape: MatteShape) -> None:
        s, fields, hand = self.session, self.fields.keys, self.fields.hand
        numbers = hand.numbers() or None
        if what == "unbind":
            fields.left_out.clear()
            self.bench.edit("Let points go", lambda: matte_edits.unbind(s.shot, matte.id, shape.id, s.frame, numbers))
            return
        if what == "leave":
            key = fields.anchors.currentData()
            if key is None:
                return
            fields.left_out.add((key[1], key[2], key[3]))
            numbers = {k for k, row in enumerate(shape.bound) if any((a.of, a.shape, a.name) in fields.left_out for a in row)}
        chosen = str(fields.to.currentData() or "")
        tracks = [chosen] if chosen else [t.id for t in s.shot.tracks]
        found = [(a, p) for a, p in anchors_on(s.shot, s.frame, tracks, tracks if chosen else []) if (a.of, a.shape, a.name) not in fields.left_out]
        if self.bench.edit("Bind points", lambda: matte_edits.bind(s.shot, matte.id, shape.id, s.frame, found, numbers)):
            self.bench.say("Bound. Where a point goes astray, leave out what it is bound to, or correct it by keys.")

    def _look(self) -> None:
        """Show the matte as it is wished, while it is in hand in this step."""
        matte, how = self.matte, str(self.fields.whole.look.currentData() or "")
        shown = matte is not None and self.session.step == "Use" and bool(how)
        if self.bench.display.pictures.look_at_matte(matte.id if shown and matte is not None else "", how if shown else ""):
            self.bench.display.frame()
        if self.session.step == "Use":
            self.bench.show_panes()

    def _preview(self) -> None:
        """See the edge taken from the picture, on the frame in view: the matte alone; a second time ends it."""
        matte, pictures = self.matte, self.bench.display.pictures
        if matte is None:
            return
        self._previewing = not self._previewing
        if self._previewing and pictures.look_at_matte(matte.id, "picture edge"):
            self.bench.display.frame()
            self.bench.say("What the picture makes of the soft edge, on this frame; it takes a while. Once more ends it. "
                           "Choose 'From picture' to have it on all.")
        else:
            self._look()

    def _shutter(self) -> None:
        """Measure the shutter from the blur of the track's surface, and take it."""
        s, track, matte = self.session, self.session.track, self.matte
        plate, cache, shot = s.plate, s.cache, s.shot
        if track is None or matte is None or plate is None or cache is None or self.bench.work.busy():
            return
        found: list[float] = []

        def work(stop: Stop) -> Iterator[Event]:
            with single_threaded():
                degrees = measured_shutter(shot, track, plate, cache.get)
            found.extend([degrees] if degrees is not None else [])
            yield Event(None, 1, 1)

        def over(job: Job) -> None:
            if job.error or not found:
                self.bench.say(job.error or "No shutter can be told from how the surface is blurred; 180 degrees is usual.", True)
            elif self.matte is not None:
                self.fields.hand.set_matte("Take the shutter from the plate", shutter=round(found[0], 1))
                self.bench.say(f"The plate's shutter is open for {found[0]:.0f} degrees.")

        self.bench.work.begin(Job("Measuring the shutter", 1, work), ended=over)

    # -- keys and painting ----------------------------------------------------------------------------------------

    def key_marks(self) -> list[int]:
        """Frames with keys of the matte."""
        matte = self.matte
        return sorted({f for shape in matte.shapes for f in shape.keys}) if matte is not None else []

    def move_key_mark(self, frame: int, to: int, copy: bool) -> bool:
        """A key was dragged in the lanes."""
        s, matte = self.session, self.matte
        if matte is None:
            return False
        return self.bench.edit("Copy keys" if copy else "Move keys", lambda: matte_edits.move_matte_key(s.shot, matte.id, frame, to, copy))

    def paint(self, painter: QPainter, view: PictureView) -> None:
        """The selected matte, and what its shape in hand is bound to."""
        s, matte, in_hand = self.session, self.matte, self.fields.in_hand
        if matte is None or not matte.visible:
            return

        def measured(ident: str) -> Edge | None:
            found = self.edge.here(matte, ident)
            return found.edge if found is not None else None

        tool = self.bench.viewer.tool
        hurried = isinstance(tool, ShapesTool) and tool.dragging and len(matte.shapes) > FEW
        tinted = not self.fields.whole.look.currentData() and not hurried
        paint_matte(painter, view, matte, self._shown(), in_hand.id if in_hand is not None else "", tinted, measured)
        if in_hand is not None:
            paint_bound(painter, view, s.shot, matte, in_hand, s.frame)


def _shown_shape(carried: Carrier, shape: MatteShape, frame: int) -> Shown | None:
    """A shape on a frame as the tool and the painter take it; None where it is not seen."""
    controls = carried.controls(shape, frame) if shape.visible else None
    if controls is None or not np.isfinite(controls).all():
        return None
    line, at = flattened(shape.curves(controls), shape.closed, _FLAT)
    if shape.handled:
        every = controls.reshape(-1, 3, 2)
    else:
        coming, leaving = handles(controls, np.array(shape.roundness), shape.closed)
        every = np.stack([controls, controls + coming, controls + leaving], axis=1)
    return Shown(shape.id, every, line, at, shape.handled, shape.closed, shape.locked, np.array(shape.inner), np.array(shape.outer))


def _keyed_here(shot: Shot, matte: Matte, frame: int) -> Shot:
    """The shot with a key of every shape on a frame, where it is."""
    for shape in matte.shapes:
        if frame not in shape.keys:
            controls = Carrier(shot, matte).controls(shape, frame)
            if controls is not None:
                shot = matte_edits.key_shape(shot, matte.id, shape.id, frame, controls)
    return shot


def _without_group(matte: Matte, ident: str) -> Matte:
    """The matte without a group and all that is in it."""
    gone = {ident}
    for _ in matte.groups:
        gone |= {g.id for g in matte.groups if g.within in gone}
    return matte.but(shapes=tuple(s for s in matte.shapes if s.group not in gone), groups=tuple(g for g in matte.groups if g.id not in gone))
