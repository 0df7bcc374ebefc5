"""Mattes in scripts."""

from __future__ import annotations

import threading
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from wertis import libraries  # noqa: F401  first, so that importing changes no environment
from wertis.core.blas import single_threaded
from wertis.core.errors import WertisError
from wertis.core.jobs.events import Event, finished, told
from wertis.core.jobs.export import export_shapes, import_shapes
from wertis.core.jobs.matte_edge import EdgeMeasure, measure_edges
from wertis.core.jobs.matte_fit import fit_matte, repair_matte
from wertis.core.jobs.matte_render import part_of, render_matte
from wertis.core.jobs.motion_export import layout_of
from wertis.core.jobs.prove import Proof, prove_shapes
from wertis.core.matte.outline import handles
from wertis.core.shot import items, matte_edits
from wertis.core.shot.document import Shot as Document
from wertis.core.shot.hold_outs import open_matte
from wertis.core.shot.matte_alpha import matte_alpha
from wertis.core.shot.matte_carry import Carrier, anchors_on, points_on
from wertis.core.shot.mattes import Matte, MatteSource
from wertis.scripting.common import ItemHandle, Points, Progress, checked_fields, numbers
from wertis.scripting.uses import Placed

if TYPE_CHECKING:
    from wertis.scripting.surface import Surface


class DrawnMatte(ItemHandle[Matte]):
    """A matte of a shot, carried by a track or by none."""

    kind = Matte

    @property
    def shapes(self) -> list[str]:
        """The ids of its shapes, in their order."""
        return [s.id for s in self.record.shapes]

    @property
    def groups(self) -> list[str]:
        """The ids of its groups of shapes."""
        return [g.id for g in self.record.groups]

    def add(self, points: Points, frame: int | None = None, roundness: float = 1.0, soft: float = 0.0, combine: str = "add", width: float = 0.0,
            closed: bool = True) -> str:
        """Draw a shape through points (N, 2) of a frame's picture (the matte's own when not given); its id.

        Parameters
        ----------
        roundness : of all points, 0 for corners to 1 for a smooth curve.
        soft : pixels over which the edge falls to both sides.
        combine : add, subtract, intersect or exclude: how it is joined to the shapes before it.
        width : pixels; a line is drawn rather than a filled shape.
        closed : whether its last point is followed by the first; only a line may be open.
        """
        with checked_fields():
            self._do("Draw a shape", matte_edits.add_shape(self.shot.document, self.id, numbers(points, "points"),
                                                           self.record.frame if frame is None else frame, roundness, soft, combine, width, closed))  # type: ignore[arg-type]
        return self.shapes[-1]

    def change_shape(self, shape: str | None = None, **fields: Any) -> DrawnMatte:
        """Set fields of the document's `MatteShape`: name, combine, opacity, grow, colour, between, visible, locked. Returns itself."""
        record = self.record
        found = record.shape(self._one(shape))
        if found is not None:
            with checked_fields():
                self._do("Change a shape", items.set_item(self.shot.document, record.with_shape(found.but(**fields))))
        return self

    def line(self, shape: str | None = None, width: float | None = None, closed: bool | None = None, **fields: Any) -> DrawnMatte:
        """Draw a shape as a line.

        Parameters
        ----------
        width : pixels, at all of its points; `shape_points` sets it at single ones. None leaves it; 0 fills the shape again.
        fields : of the document's `Stroke`: ends, dash, gap, and begin and end, each frame to a share 0..1 of its length. Returns itself.
        """
        ident = self._one(shape)
        found = self.record.shape(ident)
        if found is not None:
            with checked_fields():
                stroke = matte_edits.line_of(found).but(**fields)
                stroke = stroke if width is None else stroke.but(widths=(float(width),) * found.count)
                self._do("Draw a line", matte_edits.set_stroke(self.shot.document, self.id, ident, None if width == 0 else stroke, closed))
        return self

    def handles(self, shape: str | None = None, wanted: bool = True) -> DrawnMatte:
        """Give a shape's points handles, or take them away, without moving the curve. Returns itself."""
        make = matte_edits.give_handles if wanted else matte_edits.take_handles
        self._do("Handles", make(self.shot.document, self.id, self._one(shape)))
        return self

    def controls(self, frame: float, shape: str | None = None) -> np.ndarray | None:
        """(N, 3, 2) a shape's points in a frame's picture, each with the ends of the handles before and after it; `key` takes them as (3 N, 2)."""
        record = self.record
        found = record.shape(self._one(shape))
        there = Carrier(self.shot.document, record).controls(found, frame) if found is not None else None
        if found is None or there is None:
            return None
        if found.handled:
            return there.reshape(-1, 3, 2)
        coming, leaving = handles(there, np.array(found.roundness), found.closed)
        return np.stack([there, there + coming, there + leaving], axis=1)

    def bind(self, to: Iterable[Surface | DrawnMatte], frame: int | None = None, shape: str | None = None, numbers: Iterable[int] | None = None,
             leave_out: Iterable[str] = ()) -> DrawnMatte:
        """Bind points of a shape (all when not named) to what is tracked: tracked points, a mesh's vertices, regions' points, points of other mattes.

        Each takes the one that it sits on, else the two or three that are near it and lie in different directions.

        Parameters
        ----------
        frame : on which nothing moves; the matte's own when not given.
        leave_out : names of points or numbers of vertices not to be bound to. Returns itself.
        """
        at, there = self.record.frame if frame is None else frame, list(to)
        tracks = [x.id for x in there if not isinstance(x, DrawnMatte)]
        found = anchors_on(self.shot.document, at, tracks, [x.id for x in there if isinstance(x, DrawnMatte)])
        out = set(leave_out)
        self._do("Bind points", matte_edits.bind(self.shot.document, self.id, self._one(shape), at, [(a, p) for a, p in found if a.name not in out],
                                                 None if numbers is None else set(numbers)))
        return self

    def unbind(self, frame: int | None = None, shape: str | None = None, numbers: Iterable[int] | None = None) -> DrawnMatte:
        """Let points of a shape go with the matte's track again. Returns itself."""
        at = self.record.frame if frame is None else frame
        self._do("Unbind points", matte_edits.unbind(self.shot.document, self.id, self._one(shape), at, None if numbers is None else set(numbers)))
        return self

    def group(self, shapes: Iterable[str], name: str = "Group", within: str = "", **fields: Any) -> str:
        """Put shapes, or groups, into a group, which is joined as one shape is; its id.

        Parameters
        ----------
        fields : of the document's `MatteGroup`: combine, opacity, invert, grow, visible.
        """
        with checked_fields():
            document, made = matte_edits.add_group(self.shot.document, self.id, list(shapes), name, within, **fields)
        self._do("Group shapes", document)
        return made.id

    def change_group(self, group: str, **fields: Any) -> DrawnMatte:
        """Set fields of a group. Returns itself."""
        with checked_fields():
            self._do("Change a group", matte_edits.set_group(self.shot.document, self.id, group, **fields))
        return self

    def dissolve(self, group: str) -> DrawnMatte:
        """Take a group apart; its shapes stay. Returns itself."""
        self._do("Dissolve a group", matte_edits.dissolve_group(self.shot.document, self.id, group))
        return self

    def draw_on(self, kind: str | None, **fields: Any) -> DrawnMatte:
        """Say on what the shapes are drawn: "file" (path), "brightness" (low, high, soft), "colour" (colour, reach, soft), "difference" (path, reach,
        soft), each with invert; None for nothing. Returns itself."""
        with checked_fields():
            source = MatteSource(kind=kind, **fields) if kind is not None else None  # type: ignore[arg-type]
            if source is not None and source.kind in ("file", "difference"):
                open_matte(Path(source.path), self.shot.plate.size)
            self._do("Draw on", items.set_item(self.shot.document, self.record.but(source=source)))
        return self

    def thin(self, shape: str | None = None, tolerance: float = 0.25) -> DrawnMatte:
        """Take out the keys of a shape that it can do without: no keyed frame moves by more than `tolerance` pixels. Returns itself."""
        self._do("Thin the keys", matte_edits.thin_keys(self.shot.document, self.id, self._one(shape), tolerance))
        return self

    def key(self, frame: int, points: Points, shape: str | None = None, reach: str = "key", span: tuple[int, int] | None = None) -> DrawnMatte:
        """Put a shape's points (the only one's when not named) at (N, 2) of a frame's picture, by a key there. Returns itself.

        Parameters
        ----------
        reach : "key", or "all" to move every key by as much, or "span" for those from the first to the last frame of `span`.
        """
        with checked_fields():
            self._do("Key a shape", matte_edits.key_shape(self.shot.document, self.id, self._one(shape), frame, numbers(points, "points"),
                                                          reach, span))  # type: ignore[arg-type]
        return self

    def clear_key(self, frame: int, shape: str | None = None) -> DrawnMatte:
        """Take a shape's key on a frame away. Returns itself."""
        self._do("Clear a key", matte_edits.clear_key(self.shot.document, self.id, self._one(shape), frame))
        return self

    def points(self, frame: float, shape: str | None = None) -> np.ndarray | None:
        """(N, 2) where a shape's points are in a frame's picture; None where its track has no answer."""
        record = self.record
        found = record.shape(self._one(shape))
        return points_on(self.shot.document, record, found, frame) if found is not None else None

    def shape_points(self, shape: str | None = None, numbers: Iterable[int] | None = None, roundness: float | None = None, inner: float | None = None,
                     outer: float | None = None, width: float | None = None) -> DrawnMatte:
        """Set how round points of a shape are (all when not named), over how many pixels its edge falls there inside and outside, and how wide a line is.
        Returns itself."""
        chosen = None if numbers is None else set(numbers)
        with checked_fields():
            self._do("Shape points", matte_edits.set_points_alike(self.shot.document, self.id, self._one(shape), chosen, roundness, inner, outer, width))
        return self

    def change(self, **fields: Any) -> DrawnMatte:
        """Set fields of the document's `Matte`: take, fall, edge, grow, invert, opacity, shutter, centre, name. Returns itself."""
        with checked_fields():
            self._do("Change the matte", items.set_item(self.shot.document, self.record.but(**fields)))
        return self

    def alpha(self, frame: float, blurred: bool = True) -> np.ndarray:
        """(h, w) float32, 0..1: the matte on a frame."""
        return matte_alpha(self.shot.document, self.record, frame, self.shot.plate.size, blurred)

    def hold_back(self, graphic: Placed, how: str = "in front") -> DrawnMatte:
        """Say that it is "in front" of a graphic, "limits" it, or has nothing to do with it ("none"). Returns itself."""
        self._do("Hold the graphic back", matte_edits.hold_back(self.shot.document, self.id, graphic.id, how))  # type: ignore[arg-type]
        return self

    def next_key(self) -> int | None:
        """The frame on which a key is wanted most; None where they are dense."""
        return matte_edits.next_key_frame(self.shot.document, self.record, *self.shot.range)

    def check(self, frames: Sequence[int] | None = None, reach: float = 8.0, progress: Progress | None = None,
              stop: threading.Event | None = None) -> dict[int, dict[str, EdgeMeasure]]:
        """How far the outlines lie from the picture's edge: frame to shape's id to what was measured.

        Parameters
        ----------
        reach : pixels to both sides in which the edge is looked for.
        """
        found: dict[int, dict[str, EdgeMeasure]] = {}
        with single_threaded():
            wanted = list(frames) if frames is not None else self.shot._frames()
            for event in told(measure_edges(self.shot.document, self.id, self.shot.plate, wanted, reach, stop=stop), progress):
                assert event.frame is not None
                found[event.frame] = event.item
        return found

    def fit(self, frames: Sequence[int], reach: float = 8.0, progress: Progress | None = None, stop: threading.Event | None = None) -> dict[int, str]:
        """Fit the outlines to the picture's edge on frames, each as a key; the frames that were left, and why.

        Several frames are fitted together; those that the shutter smears far by what figure and background explain of them, for which the matte's
        `shutter` must be right, and ends of pointed parts that are to be found must be corners. Keys on other frames count as right.
        """
        return self._fitted("Fit to the edge", fit_matte(self.shot.document, self.id, self.shot.plate, list(frames), reach, stop=stop), progress)

    def repair(self, limit: float, reach: float = 8.0, progress: Progress | None = None, stop: threading.Event | None = None) -> dict[int, str]:
        """Fit keys where the outline is farthest from the edge until it is nowhere more than so many pixels (rms) off; the frames that were left."""
        if not limit > 0:
            raise WertisError("The limit is the distance in pixels that may be left, more than 0.")
        return self._fitted("Repair the matte", repair_matte(self.shot.document, self.id, self.shot.plate, self.shot._frames(), limit, reach, stop=stop),
                            progress)

    def render(self, pattern: str | Path, frames: Sequence[int] | None = None, progress: Progress | None = None,
               stop: threading.Event | None = None, part: str = "", parts: bool = False, bits: int = 0,
               beside: Iterable[DrawnMatte] = ()) -> dict[int, str]:
        """Write it as a picture sequence (`####` stands for the frame number) or a movie; frames on which it is empty for want of a track, and why.

        Parameters
        ----------
        part : name of a shape or group to be written alone.
        parts : each shape and group as a channel of an EXR as well.
        bits : 8 or 16 of a PNG or TIFF.
        beside : other mattes, as channels of the same EXR.
        """
        wanted = list(frames) if frames is not None else self.shot._frames()
        ident = part_of(self.record, part) if part else ""
        mattes = [self.id, *(m.id for m in beside)]
        events = render_matte(self.shot.document, mattes, self.shot.plate.size, str(pattern), wanted, False, stop, ident, parts, bits)
        return self.shot._left_out(events, progress)

    def export(self, path: str | Path, samples: int = 0, **layout: Any) -> int:
        """Write its shapes over the range as .json or .csv, as .svg with a file a frame (#### stands for it), or as one animated .svg; how many frames.

        Parameters
        ----------
        samples : so many points, evenly spaced on each outline, in place of its own.
        layout : y_up, centre, units, receiver, first, as for a surface's motion; an .svg takes receiver and first alone.
        """
        with checked_fields():
            where = layout_of(self.shot.document, **layout)
        return export_shapes(self.shot.document, self.record, Path(path), samples, where)

    def prove(self, suffix: str = ".json", frames: Sequence[int] | None = None, progress: Progress | None = None, **layout: Any) -> Proof:
        """Export its shapes (.json, .csv, .svg), let the receiver's stand-in fill them, and compare: `.frames` with `.corners`, by how many pixels a point
        is off, and `.difference` of the mattes in 255ths; soft edges are left out on both sides."""
        low, high = self.shot.document.range
        wanted = list(frames) if frames is not None else sorted({low, (low + high) // 2, high})
        with checked_fields():
            where = layout_of(self.shot.document, **layout)
        proof: Proof = finished(prove_shapes(self.shot.document, self.record, suffix, self.shot.plate, wanted, where), progress)
        return proof

    def read(self, path: str | Path, scaled: bool = False) -> DrawnMatte:
        """Add the shapes of a .json, .csv or .svg file, with a key on each of their frames; those of a picture of another size are to be `scaled`.
        Returns itself."""
        with checked_fields():
            self._do("Read shapes", import_shapes(self.shot.document, self.id, Path(path), scaled))
        return self

    def _fitted(self, label: str, events: Iterable[Event], progress: Progress | None) -> dict[int, str]:
        left: dict[int, str] = {}
        after: Any = None
        with single_threaded():
            for event in told(events, progress):
                if isinstance(event.item, Document):
                    after = event.item
                elif event.frame is not None and "was left" in event.note:
                    left[event.frame] = event.note
        if after is not None:
            self._do(label, after)
        return left

    def _one(self, shape: str | None) -> str:
        if shape is not None:
            return shape
        if len(self.shapes) != 1:
            raise WertisError(f"{self.name} has {len(self.shapes)} shapes; name one by its id.")
        return self.shapes[0]

    def _do(self, label: str, after: Document) -> None:
        self.shot._do(label, after)
