"""Mattes in the step Use: drawn, moved by keys, painted over the picture, and fitted to its edge."""

from collections.abc import Callable, Iterator

import numpy as np
from PySide6.QtCore import QLineF, QPointF
from PySide6.QtGui import QColor, QPainter, QPainterPath, QPen, QPolygonF

from wertis.app import theme
from wertis.app.draw_tools import WAY_HINTS, drawing_tool
from wertis.app.painting import outline
from wertis.app.picture_view import PictureView
from wertis.app.steps.use.matte_fields import MatteFields
from wertis.app.tools import PointsTool, Tool
from wertis.app.workbench import Workbench
from wertis.core.blas import single_threaded
from wertis.core.geometry import polygon
from wertis.core.jobs.events import Event, Stop
from wertis.core.jobs.job import Job
from wertis.core.jobs.matte_edge import EdgeMeasure, fit_matte, measure_edges, repair_matte
from wertis.core.matte.edge import Edge
from wertis.core.matte.outline import along, outwards
from wertis.core.shot import matte_edits
from wertis.core.shot.document import Shape, Shot
from wertis.core.shot.matte_carry import outlines_on, points_on
from wertis.core.shot.mattes import Matte

_TINT = QColor(233, 180, 76, 60)
_ENOUGH = 0.3  # share of an outline along which the edge must be told for a frame to be the worst
_LONGER, _SHOWN = 5.0, 0.2  # times by which how far the edge is off is drawn longer, and pixels from which it is drawn


class MattePart:
    """Works with the selected matte."""

    def __init__(self, bench: Workbench, fields: MatteFields) -> None:
        self.bench, self.session, self.fields = bench, bench.session, fields
        self.drawing = False
        self._result: Shot | None = None
        self.measured: dict[int, dict[str, EdgeMeasure]] = {}  # frame to shape's id to how far its outline is from the edge
        self._measured_of: Matte | None = None  # the matte as it was then
        fields.edge_words = self.edge_words
        fields.wanted.connect(self.wanted)
        for signal in (self.session.selection_changed, self.session.step_changed):
            signal.connect(lambda *_: self._look())

    @property
    def matte(self) -> Matte | None:
        """The selected matte."""
        return self.fields.matte

    def words(self, motion: str) -> str:
        """What is shown, in a line; `motion` says what carries it."""
        s, matte = self.session, self.matte
        if matte is None:
            return ""
        held = next((f"in front of {p.name}" if matte.id in p.held_back else f"limits {p.name}" for p in s.shot.placements(matte.on)
                     if matte.id in (*p.held_back, *p.limited_to)), "in front of nothing yet")
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
            self.wanted("draw")

    def tool_wanted(self) -> tuple[str, ...]:
        """Which tool belongs in hand."""
        if self.matte is None:
            return ()
        if self.drawing:
            return ("matte draw", self.matte.id)
        shape = self.fields.in_hand
        return ("matte", self.matte.id, shape.id, str(len(shape.roundness))) if shape is not None else ()

    def tool(self, wanted: tuple[str, ...]) -> Tool | None:
        """That tool."""
        if wanted[0] == "matte draw":
            assert self.session.plate is not None
            way = str(self.fields.way.currentData())
            return drawing_tool(way, self.session.plate.size, self._drawn, self.escape, lambda text: self.bench.say(text, True))
        return _ShapeTool(self._points, self._moved, self._pick, self._chosen)

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
        points, way = shapes[0].array, str(self.fields.way.currentData())
        roundness = 0.0 if way in ("points", "rectangle") else 1.0
        if self.bench.edit("Draw a shape", lambda: matte_edits.add_shape(s.shot, matte.id, points, s.frame, roundness)):
            now = self.matte
            assert now is not None
            self.fields.take_shape(now.shapes[-1].id)
            self.bench.say("The shape is drawn. Go to other frames and drag its points: each frame becomes a key. Double-click a side for a new point.")
        self.bench.put_away()

    def _points(self) -> np.ndarray | None:
        s, matte, shape = self.session, self.matte, self.fields.in_hand
        return points_on(s.shot, matte, shape, s.frame) if matte is not None and shape is not None else None

    def _chosen(self, chosen: set[int]) -> None:
        self.fields.chosen = set(chosen)
        self.fields.show_state()

    def _moved(self, points: np.ndarray, dragging: bool) -> None:
        s, matte, shape = self.session, self.matte, self.fields.in_hand
        before = self._points()
        if matte is None or shape is None or before is None:
            return
        reach = str(self.fields.reach.currentData())

        def made() -> Shot:
            shot = s.shot
            if len(points) > len(before):  # a side was double-clicked
                at = next((k for k in range(len(before)) if not np.allclose(points[k], before[k])), len(before))
                shot = matte_edits.insert_point(shot, matte.id, shape.id, at - 1)
            elif len(points) < len(before):
                kept, gone = 0, set()
                for k, place in enumerate(before):
                    if kept < len(points) and np.allclose(points[kept], place):
                        kept += 1
                    else:
                        gone.add(k)
                return matte_edits.remove_shape_points(shot, matte.id, shape.id, gone)
            return matte_edits.key_shape(shot, matte.id, shape.id, s.frame, points, reach)  # type: ignore[arg-type]

        self.bench.edit("Move the shape", made, "shape-drag", dragging)

    def _pick(self, point: np.ndarray) -> None:
        """Take the shape under the pointer in hand."""
        s, matte = self.session, self.matte
        for shape, line, _ in outlines_on(s.shot, matte, s.frame) if matte is not None else ():
            if polygon.contains(line, point):
                self.fields.take_shape(shape.id)
                self.bench.choose_tool()
                return

    # -- what is asked for ----------------------------------------------------------------------------------------

    def wanted(self, what: str) -> None:
        """Something that the page asks for."""
        s, matte, shape = self.session, self.matte, self.fields.in_hand
        if matte is None:
            return
        if what == "look":
            self._look()
        elif what == "draw":
            self.drawing = True
            self.bench.put_away()
            self.bench.viewer.setFocus()
            self.bench.say(WAY_HINTS[str(self.fields.way.currentData())].format(what="what the matte covers"))
        elif shape is None:
            self.bench.say("Draw a shape first.")
        elif what == "remove":
            self.bench.edit("Remove a shape", lambda: matte_edits.remove_shape(s.shot, matte.id, shape.id))
            self.bench.choose_tool()
        elif what == "clear":
            self.bench.edit("Clear keys", lambda: matte_edits.clear_keys(s.shot, matte.id, s.frame))
        elif what == "measure":
            self._measure(matte)
        elif what == "worst":
            self._go_worst(matte)
        elif what == "next":
            frame = matte_edits.next_key_frame(s.shot, matte, *s.shot.range)
            if frame is None:
                self.bench.say("There are keys on every frame.")
            else:
                s.go(frame)
                self.bench.say("Here the shapes are farthest from their keys: drag the points to where they belong.")
        else:
            self._fit(what, matte)

    def edge_words(self, matte: Matte) -> str:
        """How far the outline is off on the frame in view, as far as that was measured and still holds."""
        if self._measured_of != matte:
            return ""
        here = list(self.measured.get(self.session.frame, {}).values())
        worst = self._worst()
        words = [m.reason or (f"edge off by {m.rms:.2f} px, {m.reliable:.0%} of it told" if m.reliable else "the edge cannot be told here") for m in here]
        if worst:
            words.append(f"worst {worst[0]:.2f} px on {worst[1]}")
        return "\n".join(words)

    def _worst(self) -> tuple[float, int] | None:
        found = [(m.rms, f) for f, on in self.measured.items() for m in on.values() if np.isfinite(m.rms) and m.reliable >= _ENOUGH]
        return max(found, key=lambda x: (x[0], -x[1])) if found else None

    def _measure(self, matte: Matte) -> None:
        s = self.session
        plate, cache, shot = s.plate, s.cache, s.shot
        if plate is None or cache is None or self.bench.work.busy():
            return
        frames, read = list(range(shot.range[0], shot.range[1] + 1)), cache.get
        self.measured, self._measured_of = {}, matte

        def work(stop: Stop) -> Iterator[Event]:
            with single_threaded():
                yield from measure_edges(shot, matte.id, plate, frames, read=read, stop=stop)

        def step(event: Event) -> None:
            assert event.frame is not None
            self.measured[event.frame] = event.item
            self.bench.say(f"Measuring the edge, frame {event.frame}.")

        def over(job: Job) -> None:
            worst = self._worst()
            self.fields.show_state()
            self.bench.update_views()
            if job.error:
                self.bench.say(job.error, True)
            else:
                self.bench.say(f"The outline is farthest from the edge on frame {worst[1]}, by {worst[0]:.2f} px (rms)." if worst
                               else "The edge could be told on no frame.", not worst)

        self.bench.work.begin(Job("Measuring the edge", len(frames), work), event=step, ended=over)

    def _go_worst(self, matte: Matte) -> None:
        worst = self._worst() if self._measured_of == matte else None
        if worst is None:
            self.bench.say("The edge is not measured, or the matte has changed since; measure it first.")
        else:
            self.session.go(worst[1])

    def _look(self) -> None:
        """Show the matte as it is wished, while it is in hand in this step."""
        matte, how = self.matte, str(self.fields.look.currentData() or "")
        shown = matte is not None and self.session.step == "Use" and bool(how)
        if self.bench.display.pictures.look_at_matte(matte.id if shown and matte is not None else "", how if shown else ""):
            self.bench.display.frame()

    def _fit(self, what: str, matte: Matte) -> None:
        s = self.session
        plate, cache, shot = s.plate, s.cache, s.shot
        if plate is None or cache is None or self.bench.work.busy():
            return
        low, high = shot.range
        frames = [s.frame] if what == "fit" else list(range(low, high + 1))
        keyed = set.intersection(*(set(x.keys) for x in matte.shapes)) if what == "fit-all" else set()
        frames = [f for f in frames if f not in keyed]
        limit = self.fields.limit.value()
        self._result = None
        self.bench.playback.pause()

        def work(stop: Stop) -> Iterator[Event]:
            with single_threaded():
                if what == "repair":
                    yield from repair_matte(shot, matte.id, plate, frames, limit, read=cache.get, stop=stop)
                else:
                    yield from fit_matte(shot, matte.id, plate, frames, read=cache.get, stop=stop)

        left: list[str] = []

        def step(event: Event) -> None:
            if isinstance(event.item, Shot):
                self._result = event.item
            elif "was left" in event.note:
                left.append(event.note)
            if event.note:
                self.bench.say(f"Fitting to the edge: {event.note}.")

        def over(job: Job) -> None:
            after, self._result = self._result, None
            if job.error:
                self.bench.say(job.error, True)
            elif after is None or job.stopped:
                self.bench.say("Stopped; nothing was changed.")
            elif after == shot:
                self.bench.say(left[0] + "." if left else "The outline lies on the edge as it is.", bool(left))
            else:
                self.session.history.do("Fit to the edge", after)
                self.bench.say(f"Fitted to the edge; {len(left)} left as they were." if left else "Fitted to the edge. Each is a key that can be changed.")

        self.bench.work.begin(Job("Fitting to the edge", len(frames) * (2 if what == "repair" else len(matte.shapes)), work), event=step, ended=over)

    # -- keys -----------------------------------------------------------------------------------------------------

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

    # -- painting -------------------------------------------------------------------------------------------------

    def paint(self, painter: QPainter, view: PictureView) -> None:
        """The selected matte: tinted, its outlines drawn (dashed where a shape takes away), its soft edges by thin lines."""
        s, matte = self.session, self.matte
        if matte is None or not matte.visible:
            return
        tinted = not self.fields.look.currentData()
        whole = QPainterPath()
        for shape, line, at in outlines_on(s.shot, matte, s.frame):
            drawn = view.to_screen(line)
            if not np.isfinite(drawn).all():
                continue
            path = QPainterPath()
            path.addPolygon(QPolygonF([QPointF(*p) for p in drawn]))
            path.closeSubpath()
            join: dict[str, Callable[[QPainterPath], QPainterPath]] = {
                "add": whole.united, "subtract": whole.subtracted, "intersect": whole.intersected,
                "exclude": lambda p, w=whole: w.united(p).subtracted(w.intersected(p))}  # type: ignore[misc]
            whole = join[shape.combine](path)
            in_hand = self.fields.in_hand
            outline(painter, drawn, theme.AMBER, 1.6 if in_hand is not None and in_hand.id == shape.id else 1.0, shape.combine == "subtract")
            measured = self.measured.get(s.frame, {}).get(shape.id) if self._measured_of == matte else None
            if measured is not None and measured.edge is not None:
                self._paint_edge(painter, view, measured.edge)
            for distance, sign in ((shape.inner, -1), (shape.outer, 1)):
                if max(distance) > 0:
                    edge = view.to_screen(line + sign * along(np.array(distance), at)[:, None] * outwards(line))
                    if np.isfinite(edge).all():
                        outline(painter, edge, QColor(233, 180, 76, 130), 0.7, True)
        if tinted:
            painter.fillPath(whole, _TINT)

    def _paint_edge(self, painter: QPainter, view: PictureView, edge: Edge) -> None:
        """From the outline to where the edge was found, five times as long as it is far."""
        ends = edge.places + _LONGER * edge.offsets[:, None] * edge.normals
        a, b = view.to_screen(edge.places), view.to_screen(ends)
        lines = [QLineF(*p, *q) for p, q, told, off in zip(a, b, edge.reliable, edge.offsets, strict=True)
                 if told and abs(off) > _SHOWN and np.isfinite([p, q]).all()]
        for pen in (QPen(theme.HALO, 3), QPen(theme.PAPER, 1.2)):
            painter.setPen(pen)
            painter.drawLines(lines)


class _ShapeTool(PointsTool):
    """Moves a shape's points, and tells which are chosen."""

    def __init__(self, points: Callable[[], np.ndarray | None], changed: Callable[[np.ndarray, bool], None], missed: Callable[[np.ndarray], None],
                 chosen_changed: Callable[[set[int]], None]) -> None:
        super().__init__(points, changed, False, theme.AMBER, missed)
        self._chosen_changed = chosen_changed

    def press(self, point: np.ndarray, reach: float, modifiers: object) -> None:
        super().press(point, reach, modifiers)  # type: ignore[arg-type]
        self._chosen_changed(self.chosen)

    def release(self, point: np.ndarray) -> None:
        super().release(point)
        self._chosen_changed(self.chosen)
