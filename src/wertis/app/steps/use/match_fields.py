"""How a graphic is matched to the plate, on the page of the step Use: what was measured, and what is set by hand."""

from collections.abc import Callable, Iterator
from functools import partial

import numpy as np
from PySide6.QtCore import QSignalBlocker, QTimer
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QWidget

from wertis.app.fields import DragLabel, Number, named
from wertis.app.pages import combo, number, part_form, side_by_side
from wertis.app.workbench import Workbench
from wertis.core.blas import single_threaded
from wertis.core.errors import WertisError
from wertis.core.jobs.events import Event, Stop
from wertis.core.jobs.job import Job
from wertis.core.jobs.matching import PARTS, colour_at, match_placement, unmatched, with_levels
from wertis.core.shot import items
from wertis.core.shot.document import Placement, Shot
from wertis.core.shot.patches import Patch, with_match

_TRIPLES = (("slope", "Gain", 0.0, 10.0), ("offset", "Lift", -1.0, 1.0))


class MatchFields(QWidget):
    """What makes the selected graphic look as if it had been filmed."""

    def __init__(self) -> None:
        super().__init__()
        self.bench: Workbench | None = None
        f = self.form = part_form(self)
        self.all = QPushButton("Match all")
        self.all.setObjectName("main")
        self.all.setToolTip("Measure softness, shutter, light and grain in the plate, and give them to the graphic")
        self.all.clicked.connect(lambda: self.measure(PARTS))
        self.none = QPushButton("Plain")
        self.none.setToolTip("Match nothing: the graphic as it is")
        self.none.clicked.connect(self._unmatch)
        f.addRow(side_by_side(self.all, self.none))
        self.softness = self._number(0, 100, 0.1, "px", "Softness: a blur, standard deviation",
                                     lambda v: self._set("Set the softness", softness=v, focus={}))
        self.shutter = self._number(0, 720, 5, "deg", "Shutter; 180 is usual", lambda v: self._set("Set the shutter", shutter=v))
        self.light = self._number(0, 200, 5, "%", "Share of the light's change", lambda v: self._strength("light", v))
        self.grain = self._number(0, 400, 5, "%", "Times the plate's grain", lambda v: self._strength("grain", v))
        self.measures: dict[str, QPushButton] = {}
        for part, words, field in (("softness", "Softness", self.softness), ("shutter", "Motion blur", self.shutter), ("light", "Light", self.light),
                                   ("grain", "Grain", self.grain)):
            button = self.measures[part] = QPushButton("Measure")
            button.setToolTip(f"Measure the {part} in the plate")
            button.clicked.connect(partial(self.measure, (part,)))
            row = QHBoxLayout()
            row.setSpacing(6)
            row.addWidget(field, 1)
            row.addWidget(button)
            f.addRow(DragLabel(words, field), row)
            if part == "light":
                self.light_from = combo({"": "Its own place"}, "Where the light is measured", lambda: self._set_light_from(self.light_from.currentData()))
                self.light_from.setToolTip("Another graphic or patch of the track, laid where the light is plainer to see; it may be hidden")
                self._area_row = f.rowCount()
                f.addRow("Measured on", self.light_from)
        focus = self.measures["focus"] = QPushButton("Softness over time")
        focus.setToolTip("Measure the softness on many frames, where the focus changes or breathes")
        focus.clicked.connect(partial(self.measure, ("focus",)))
        f.addRow(focus)
        self.facts = named("", "quiet")
        f.addRow(self.facts)
        f.addRow(named("SURFACE SHOWING THROUGH", "section"))
        self.texture = self._number(0, 200, 5, "%", "How much of the surface's structure shows through",
                                    lambda v: self._set("Set the texture", texture=v / 100))
        self.reflection = self._number(0, 200, 5, "%", "What is mirrored in the surface, laid on again; the track needs a clean plate",
                                       lambda v: self._set("Set the reflection", reflection=v / 100))
        f.addRow(DragLabel("Texture, mirror", self.texture), side_by_side(self.texture, self.reflection))
        self.fine = self._number(0, 100, 0.5, "px", "Sizes from here on", lambda v: self._set("Set the texture", fine=v))
        self.coarse = self._number(0.3, 200, 1, "px", "Sizes up to here", lambda v: self._set("Set the texture", coarse=v))
        f.addRow(DragLabel("Sizes", self.fine), side_by_side(self.fine, self.coarse))
        f.addRow(named("BLACK, WHITE AND COLOUR", "section"))
        self.triples: dict[str, list[Number]] = {}
        for name, words, low, high in _TRIPLES:
            fields = [self._number(low, high, 0.01, "", f"{words} of {colour}", partial(self._triple, name)) for colour in ("red", "green", "blue")]
            self.triples[name] = fields
            f.addRow(words, side_by_side(*fields))
        levels = self.measures["levels"] = QPushButton("Measure")
        levels.setToolTip("Take the darkest and the brightest near the graphic for its black and white")
        levels.clicked.connect(partial(self.measure, ("levels",)))
        self.pick = QPushButton("Pick...")
        self.pick.setToolTip("Click in the plate what the graphic's black shall be, then what its white shall be")
        self.pick.clicked.connect(self._pick)
        f.addRow("", side_by_side(levels, self.pick))

    @property
    def placement(self) -> Placement | None:
        """The selected graphic."""
        return self.bench.session.placement if self.bench is not None else None

    def show_state(self) -> None:
        """Show it as it is."""
        placement = self.placement
        for widget in (self.all, self.none, self.softness, self.shutter, self.light, self.grain, self.texture, self.fine, self.coarse,
                       self.light_from, self.reflection, self.pick, *self.measures.values(), *(field for row in self.triples.values() for field in row)):
            widget.setEnabled(placement is not None)
        if placement is None or self.bench is None:
            self.facts.setText("")
            return
        match, frame = placement.match, self.bench.session.frame
        self.light.setEnabled(match.light is not None)
        self.grain.setEnabled(match.grain is not None)
        fields = [(self.softness, match.softness_at(frame)), (self.shutter, match.shutter), (self.texture, match.texture * 100), (self.fine, match.fine),
                  (self.coarse, match.coarse), (self.reflection, match.reflection * 100),
                  (self.light, match.light.strength * 100 if match.light is not None else 0),
                  (self.grain, match.grain.strength * 100 if match.grain is not None else 0)]
        fields += [(field, value) for name, row in self.triples.items() for field, value in zip(row, getattr(match, name), strict=True)]
        for field, value in fields:
            with QSignalBlocker(field):
                field.setValue(value)
        self._show_areas(placement)
        words = []
        if match.focus:
            words.append(f"softness changes over {len(match.focus)} frames")
        if match.light is not None:
            gain = 2.718281828 ** float(match.light.at(frame)[0].mean())
            words.append(f"light here {gain:.2f} times that of frame {placement.frame}")
        if match.grain is not None:
            mean = 255 * sum(sum(d) for d in match.grain.deviations) / (3 * len(match.grain.deviations))
            words.append(f"grain {mean:.1f} / 255, {match.grain.size:.1f} px")
        self.facts.setText("; ".join(words).capitalize() or "Light and grain are not measured.")

    def _show_areas(self, placement: Placement) -> None:
        """Offer the track's other graphics and patches as places to measure the light on."""
        assert self.bench is not None
        with QSignalBlocker(self.light_from):
            self.light_from.clear()
            self.light_from.addItem("Its own place", "")
            for item in self.bench.session.shot.items:
                if isinstance(item, Placement | Patch) and item.on == placement.on and item.id != placement.id:
                    self.light_from.addItem(item.name, item.id)
            self.light_from.setCurrentIndex(max(self.light_from.findData(placement.match.light_from), 0))
        self.form.setRowVisible(self._area_row, self.light_from.count() > 1 or bool(placement.match.light_from))

    def _set_light_from(self, ident: str) -> None:
        self._set("Choose where light is measured", light_from=ident)
        if self.placement is not None and self.placement.match.light_from == ident:
            self.measure(("light",))

    def measure(self, parts: tuple[str, ...]) -> None:
        """Measure parts in the plate, in the background, and set them."""
        bench, placement = self.bench, self.placement
        if bench is None or placement is None or bench.work.busy():
            return
        s = bench.session
        plate, cache, shot = s.plate, s.cache, s.shot
        if plate is None or cache is None:
            return
        result: list[Shot] = []
        words: list[str] = []

        def work(stop: Stop) -> Iterator[Event]:
            with single_threaded():
                yield from match_placement(shot, placement.id, plate, parts, cache.get, stop)

        def step(event: Event) -> None:
            if isinstance(event.item, Shot):
                result.append(event.item)
            elif isinstance(event.item, str):
                words.append(event.note)
            bench.say(f"Matching: {event.note}." if event.note else "Matching.")

        def over(job: Job) -> None:
            if job.error or job.stopped or not result:
                bench.say(job.error or "Stopped; nothing was changed.", bool(job.error))
                return
            s.history.do("Match the graphic", result[0])
            bench.say(f"Matched: {'; '.join(words)}.")

        frames = shot.range[1] - shot.range[0] + 1
        bench.work.begin(Job("Matching the graphic", len(parts) + frames * ("light" in parts), work), event=step, ended=over)

    def _pick(self) -> None:
        """Take the graphic's black and white from two clicks in the plate."""
        bench, placement = self.bench, self.placement
        if bench is None or placement is None:
            return
        found: list[np.ndarray] = []

        def picked(point: np.ndarray) -> None:
            s = bench.session
            plate = s.cache.peek(s.frame) if s.cache is not None else None
            if not isinstance(plate, np.ndarray) or not bench.attempt(lambda: found.append(colour_at(plate, point))):
                return
            if len(found) == 1:
                QTimer.singleShot(0, lambda: bench.pick(picked, "Now click in the plate what the graphic's white shall be."))
                return
            if bench.edit("Match black and white", lambda: items.set_item(s.shot, placement.but(
                    match=with_levels(s.shot, placement.match, found[0], found[1], plate.dtype)))):
                bench.say("The graphic's black and white are those two of the plate.")

        bench.pick(picked, "Click in the plate what the graphic's black shall be.")

    def _unmatch(self) -> None:
        placement = self.placement
        if placement is not None and self.bench is not None:
            s = self.bench.session
            self._do("Match nothing", lambda: unmatched(s.shot, placement.id))

    def _strength(self, part: str, value: float) -> None:
        placement = self.placement
        found = getattr(placement.match, part) if placement is not None else None
        if found is not None:
            self._set(f"Set the {part}", **{part: found.but(strength=value / 100)})

    def _triple(self, name: str, _: float) -> None:
        self._set("Set the levels", **{name: tuple(float(field.value()) for field in self.triples[name])})

    def _set(self, label: str, **changes: object) -> None:
        placement = self.placement
        if placement is not None and self.bench is not None:
            shot = self.bench.session.shot
            self._do(label, lambda: with_match(shot, placement.id, **changes))

    def _do(self, label: str, make: Callable[[], Shot]) -> None:
        assert self.bench is not None
        s = self.bench.session
        try:
            s.history.do(label, make(), f"{label}-{s.place.item_id}")
        except WertisError as why:
            s.message.emit(str(why), True)
        self.show_state()

    @staticmethod
    def _number(low: float, high: float, step: float, unit: str, name: str, changed: Callable[[float], object]) -> Number:
        return number(low, high, unit, name, changed, step, 2 if step < 0.1 else 1 if step < 1 or unit == "px" else 0)
