"""What is open and where the person is, in one place for the views: a shot, its pictures, the selection, what is tracked and what drifts.

No Qt here; each part has signals of its own, which views listen to.
"""

from dataclasses import replace
from pathlib import Path
from typing import TypeVar

import numpy as np
from psygnal import Signal

from wertis.app.drift_state import DriftState
from wertis.app.live_tracking import LiveTracking
from wertis.app.selection import Selection
from wertis.core.check.slip import Slip
from wertis.core.errors import WertisError
from wertis.core.geometry.mesh import Mesh
from wertis.core.imaging.channel_mixture import channel_mixture
from wertis.core.jobs.mesh_tracking import laid_mesh, stale_vertices
from wertis.core.jobs.retrack import Stretch, out_of_date
from wertis.core.jobs.tracking import kept
from wertis.core.open_shot import OpenShot
from wertis.core.plate import Plate
from wertis.core.plate.cache import FrameCache
from wertis.core.plate.colour import Viewing
from wertis.core.shot import regions, store
from wertis.core.shot.autosave import Lost
from wertis.core.shot.document import HoldOut, Item, Placement, Shot, Track
from wertis.core.shot.edits import plane_settings
from wertis.core.shot.history import History
from wertis.core.shot.meshes import MeshSettings, PegLayer
from wertis.core.shot.plate_pictures import coded
from wertis.core.track.texture import Texture, measure
from wertis.core.track.tracker_input import looked_at

PLATE_SHARE, FINISHED_SHARE = 0.5, 0.25
"""Of the memory that a person allows, for the plate's pictures and for finished ones; the rest is for pictures in work and the program itself."""

_IN_WORK, _BYTES, _LEAST_SHARE = 12, 6, 0.15  # pictures that are read, measured and mixed at once; bytes a pixel of them

I = TypeVar("I", bound=Item)


class Session:
    """One shot being worked on.

    Attributes
    ----------
    opened : the shot with its history, plate and file.
    place : the frame, the step and what is selected.
    live : what the tracker is finding.
    checked : the drift.
    cache : the plate's pictures; None without a plate.
    viewing : how the picture is looked at.

    Signals
    -------
    shot_changed(), plate_changed(), frame_changed(frame), selection_changed(), step_changed(step), live_changed(), drift_changed(),
    viewing_changed() : of the parts.
    opened_what(words) : a plate or a shot was opened: "plate", "tracks" or "items", by what is in it.
    message(text, is_error) : what just happened and what can be done next.
    """

    shot_changed = Signal()
    plate_changed = Signal()
    opened_what = Signal(str)
    message = Signal(str, bool)
    viewing_changed = Signal()

    def __init__(self, budget: int = 2 << 30, first_step: str = "Plate") -> None:
        self.opened = OpenShot()
        self.place = Selection(first_step)
        self.live = LiveTracking()
        self.checked = DriftState()
        self.frame_changed, self.step_changed, self.selection_changed = self.place.frame_changed, self.place.step_changed, self.place.changed
        self.live_changed, self.drift_changed = self.live.changed, self.checked.changed
        self.cache: FrameCache | None = None
        self.viewing = Viewing()
        self.budget = budget  # bytes; see PLATE_SHARE
        self._texture: tuple[object, Texture] | None = None
        self._mesh: tuple[tuple, Mesh] | None = None  # of the selected track, with what it was made from
        self._stale: tuple[tuple[Track, tuple[int, int]], list[Stretch]] | None = None
        self._stale_here: tuple[tuple[Track, int, tuple[int, int]], np.ndarray | None] | None = None
        self.opened.changed.connect(self._on_shot)
        self.opened.plate_changed.connect(self._on_plate)
        self.opened.trouble.connect(lambda text: self.message.emit(text, True))

    # -- what is open ---------------------------------------------------------------------------------------------

    @property
    def history(self) -> History:
        """The shot, and the way back."""
        return self.opened.history

    @property
    def shot(self) -> Shot:
        """The shot as it is now."""
        return self.opened.shot

    @property
    def plate(self) -> Plate | None:
        """The plate, where there is one."""
        return self.opened.plate

    @property
    def path(self) -> Path | None:
        """The shot's own file."""
        return self.opened.path

    def coded_picture(self) -> np.ndarray | None:
        """The plate's picture of the frame in view (h, w, 3) float32, coded for the eye; None where it cannot be read."""
        if self.cache is None or self.shot.plate is None:
            return None
        try:
            return coded(self.cache.get(self.frame), self.shot.plate.colour)
        except WertisError:
            return None

    @property
    def aspect(self) -> float:
        """Width over height of a pixel of the plate."""
        return self.shot.plate.aspect if self.shot.plate is not None else 1.0

    def open_any(self, path: Path) -> None:
        """Open a shot file or a plate.

        Raises
        ------
        WertisError
            When it cannot be opened; what was open stays.
        """
        if path.suffix.lower() == store.SUFFIX:
            self._shot_opened(self.opened.open_file(path), path.name)
        else:
            self._plate_opened(self.opened.open_plate(path))

    def recover(self, copy: Lost) -> None:
        """Open what was kept of a shot, as unsaved work on the shot's own file.

        Raises
        ------
        ShotFileError
            When the copy cannot be read.
        """
        self.opened.recover(copy)
        self._shot_opened("", self.shot.name)
        self.message.emit(f"{self.shot.name} is back as it was kept {copy.when}. Save it (Ctrl+S).", False)

    def save(self, path: Path) -> None:
        """Save the shot.

        Raises
        ------
        ShotFileError
            When it cannot be written; the shot and the file before stay as they are.
        """
        self.message.emit(f"Saved {self.opened.save(path).name}.", False)

    def close(self) -> None:
        """Let the plate go."""
        if self.cache is not None:
            self.cache.close()

    # -- where the person is --------------------------------------------------------------------------------------

    @property
    def frame(self) -> int:
        """The frame in view."""
        return self.place.frame

    @property
    def step(self) -> str:
        """The step in hand."""
        return self.place.step

    @property
    def track_id(self) -> str:
        """Id of the selected track."""
        return self.place.track_id

    def go(self, frame: int) -> None:
        """Show a frame, held inside the plate."""
        if self.plate is not None:
            self.place.go(int(np.clip(frame, self.plate.first, self.plate.last)))

    def go_step(self, step: str) -> None:
        """Bring a step's tools and settings."""
        self.place.go_step(step)

    def select(self, track: str, item: str = "") -> None:
        """Select a track, and perhaps one of its items."""
        if track != self.place.track_id:
            self.checked.base = None
        self.place.select(track, item)

    @property
    def track(self) -> Track | None:
        """The selected track."""
        return self.shot.track(self.place.track_id)

    def selected(self, kind: type[I]) -> I | None:
        """The selected item, where it is of a kind."""
        return self.shot.item(self.place.item_id, kind)

    @property
    def placement(self) -> Placement | None:
        """The selected placement, or the selected track's first."""
        there = self.shot.placements(self.track_id)
        return self.selected(Placement) or (there[0] if there else None)

    @property
    def hold_out(self) -> HoldOut | None:
        """The selected hold-out."""
        return self.selected(HoldOut)

    @property
    def placement_id(self) -> str:
        """Id of the selected placement; empty where none is."""
        chosen = self.selected(Placement)
        return chosen.id if chosen is not None else ""

    # -- what is measured -----------------------------------------------------------------------------------------

    @property
    def drift(self) -> dict[int, Slip]:
        """The selected track's drift, as far as it is measured."""
        return self.checked.by_frame

    @property
    def base(self) -> int | None:
        """The frame that drift is measured against; the track's own when None."""
        return self.checked.base

    def texture(self) -> Texture | None:
        """What the selected region offers to the tracker, measured on its own frame; None while its picture is not in memory."""
        track = self.track
        if track is None or self.plate is None or self.cache is None:
            return None
        settings = plane_settings(track)
        key = (self.plate, track.region, settings.model, settings.look)
        if self._texture is not None and self._texture[0] == key:
            return self._texture[1]
        picture = self.cache.peek(track.region.frame)
        if not isinstance(picture, np.ndarray):
            return None
        mask = regions.mask_of(track.region, self.plate.size)
        mixture = channel_mixture(picture, mask) if settings.look == "mix" else None
        found = measure(looked_at(picture, settings.look, mixture=mixture), mask, track.region.box, settings.model)
        self._texture = (key, found)
        return found

    def mesh(self) -> Mesh | None:
        """The mesh of the selected track, tracked or as it would be laid; None where there is none, or the picture that it is laid by is not read yet."""
        track = self.track
        if track is None or self.plate is None or self.cache is None or not isinstance(track.settings, MeshSettings):
            return None
        key = (track.region, track.settings, track.solution, track.layer(PegLayer), self.plate)
        if self._mesh is None or any(a is not b and a != b for a, b in zip(self._mesh[0], key, strict=True)):
            picture = self.cache.peek(track.region.frame)
            if track.settings.textured and track.settings.vertices is None and not isinstance(picture, np.ndarray):
                return None
            try:
                self._mesh = key, laid_mesh(self.shot, track, self.plate, lambda _: picture)  # type: ignore[arg-type, return-value]
            except WertisError:
                return None
        return self._mesh[1]

    def out_of_date(self) -> list[Stretch]:
        """The selected track's stretches that tracking again from its repaired frames would compute."""
        track, span = self.track, self.shot.range
        if track is None:
            return []
        if self._stale is None or self._stale[0][0] is not track or self._stale[0][1] != span:  # asked several times at each move of a point
            self._stale = (track, span), out_of_date(track, span)
        return self._stale[1]

    def stale_vertices(self) -> np.ndarray | None:
        """(V,) which of the selected mesh's vertices tracking again would compute on the frame in view; None for none."""
        track = self.track
        if track is None or not any(self.frame in x.frames for x in self.out_of_date()):
            return None
        key = track, self.frame, self.shot.range
        if self._stale_here is None or self._stale_here[0][0] is not track or self._stale_here[0][1:] != key[1:]:
            self._stale_here = key, stale_vertices(track, self.frame, self.shot.range)
        return self._stale_here[1]

    def look_through(self, viewing: Viewing) -> None:
        """Show pictures otherwise; nothing in the shot changes."""
        self.viewing = viewing
        self.viewing_changed.emit()

    def keep_live(self) -> None:
        """Tracking is over, or stopped: what it found becomes one step in the history."""
        track = self.shot.track(self.live.track_id)
        _, found = self.live.end()
        if track is not None and found:
            self.history.do(f"Track {track.name}", kept(self.shot, track.id, found))

    # -- inside ---------------------------------------------------------------------------------------------------

    def _plate_opened(self, plate: Plate) -> None:
        self._begin_anew()
        gaps = f"; {len(plate.gaps)} frames are missing" if plate.gaps else ""
        self.opened_what.emit("plate")
        self.message.emit(
            f"{plate.path.name}: {plate.size[0]} x {plate.size[1]}, frames {plate.first} to {plate.last}{gaps}. "
            + (plate.others_words or "Go to the frame where the surface is largest and sharpest, then click round it."), bool(plate.others))

    def _shot_opened(self, trouble: str, name: str) -> None:
        self._begin_anew()
        shot = self.shot
        if shot.tracks:
            there = shot.placements(shot.tracks[0].id)
            self.select(shot.tracks[0].id, there[0].id if there else "")
            self.opened_what.emit("items" if there else "tracks")
        is_error = bool(trouble) and "found again" not in trouble
        self.message.emit(trouble or f"{name} is open. Press Space to play.", is_error)

    def _begin_anew(self) -> None:
        self.live.track_id, self.live.answers = "", {}
        self.checked.base = None
        self.place.track_id = self.place.item_id = ""
        self.look_through(Viewing(space=self.shot.plate.colour if self.shot.plate is not None else ""))
        self.shot_changed.emit()
        self.selection_changed.emit()

    def _on_plate(self, same: bool) -> None:
        """Another plate is open; the frame in view stays where it is the same one, read otherwise."""
        if self.cache is not None:
            self.cache.close()
        plate = self.plate
        self.cache = FrameCache(plate, self._for_plate(plate)) if plate is not None else None
        if plate is None or not plate.first <= self.frame <= plate.last or not same:
            low = self.shot.range[0]
            self.place.frame = int(np.clip(low, plate.first, plate.last)) if plate is not None else low
        self.plate_changed.emit()
        self.frame_changed.emit(self.frame)

    def _for_plate(self, plate: Plate) -> int:
        """Bytes for the plate's pictures: less where they are large, since those in work are large too."""
        in_work = _IN_WORK * plate.size[0] * plate.size[1] * _BYTES
        return max(int(PLATE_SHARE * self.budget) - in_work, int(_LEAST_SHARE * self.budget))

    def _on_shot(self) -> None:
        shot = self.shot
        if shot.plate is not None and shot.plate.colour != self.viewing.space:
            self.look_through(replace(self.viewing, space=shot.plate.colour))
        before = (self.place.track_id, self.place.item_id)
        item = shot.item(self.place.item_id) if self.place.item_id else None
        free = not self.place.track_id and item is not None and not item.under  # what no track carries is selected without one
        if shot.track(self.place.track_id) is None and not free:
            self.place.track_id, self.place.item_id = (shot.tracks[-1].id if shot.tracks else ""), ""
        elif self.place.item_id and item is None:
            self.place.item_id = ""
        self.shot_changed.emit()
        if before != (self.place.track_id, self.place.item_id):
            self.selection_changed.emit()


