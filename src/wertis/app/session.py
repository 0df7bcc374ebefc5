"""What is open: the shot and its history, its plate, and where the person is. No Qt here; views listen to the signals."""

from dataclasses import replace
from pathlib import Path

import numpy as np
from psygnal import Signal

from wertis.core.check.slip import Slip
from wertis.core.errors import PlateError, RegionError, ShotFileError
from wertis.core.geometry.motion import Fix
from wertis.core.imaging.channel_mixture import channel_mixture
from wertis.core.jobs.job import Job
from wertis.core.jobs.retrack import Stretch, out_of_date
from wertis.core.plate import Plate, open_plate
from wertis.core.plate.cache import FrameCache
from wertis.core.plate.colour import Viewing
from wertis.core.shot import edits, regions, relocate, store
from wertis.core.shot.autosave import Lost
from wertis.core.shot.document import HoldOut, Placement, PlateRef, Shot, Solved, Track
from wertis.core.shot.history import History
from wertis.core.shot.hold_outs import held_masks, open_matte, read_matte
from wertis.core.track.tracker_input import looked_at
from wertis.core.track.run import track_plane
from wertis.core.track.texture import Texture, measure

STEPS = ("Plate", "Region", "Track", "Check", "Repair", "Use", "Deliver")


PLATE_SHARE, FINISHED_SHARE = 0.5, 0.25
"""Of the memory that a person allows, for the plate's pictures and for finished ones; the rest is for pictures in work and the program itself."""


_IN_WORK, _BYTES, _LEAST_SHARE = 12, 6, 0.15  # pictures that are read, measured and mixed at once; bytes a pixel of them


class Session:
    """One shot being worked on.

    Signals
    -------
    shot_changed() : the shot is another one: an edit, undo, or another file.
    plate_changed() : another plate is shown.
    frame_changed(frame)
    selection_changed() : another track or placement is selected.
    step_changed(step)
    drift_changed() : more of the selected track's drift has been measured, or it is out of date.
    live_changed() : the tracker has given more answers for a track that is being tracked.
    message(text, is_error) : what just happened and what can be done next.
    """

    shot_changed = Signal()
    plate_changed = Signal()
    frame_changed = Signal(int)
    selection_changed = Signal()
    step_changed = Signal(str)
    live_changed = Signal()
    drift_changed = Signal()
    message = Signal(str, bool)
    viewing_changed = Signal()

    def __init__(self, budget: int = 2 << 30) -> None:
        self.history = History(Shot())
        self.history.changed.connect(self._on_history)
        self.path: Path | None = None
        self.plate: Plate | None = None
        self.cache: FrameCache | None = None
        self.frame = 1
        self.step = "Plate"
        self.track_id = ""
        self.placement_id = ""
        self.hold_out_id = ""
        self.live: dict[int, Fix] = {}
        self.live_track = ""
        self.drift: dict[int, Slip] = {}  # of the selected track, as far as it is measured
        self.viewing = Viewing()
        self.mending = "points"  # part of the Repair step in hand: "points", "motion" or "sides"
        self.untouched: tuple[Solved | None, dict[int, str]] = (None, {})  # a tracked motion's frames that repairing by itself left alone, and why
        self._read_as: object = None  # how the plate that is open is read
        self.base: int | None = None  # the frame that drift is measured against; the track's own when None
        self._matte: tuple[object, np.ndarray | None] | None = None
        self._texture: tuple[object, Texture] | None = None
        self._stale: tuple[tuple[Track, tuple[int, int]], list[Stretch]] | None = None
        self.budget = budget  # bytes; see PLATE_SHARE

    # -- what is open ---------------------------------------------------------------------------------------------

    @property
    def shot(self) -> Shot:
        """The shot as it is now."""
        return self.history.shot

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
            self.open_shot(path)
        else:
            self.open_plate(path)

    def open_plate(self, path: Path) -> None:
        """Begin a new shot of a plate."""
        plate = open_plate(path)
        self._take(edits.new_shot(plate, str(path.absolute())), plate, None)
        gaps = f"; {len(plate.gaps)} frames are missing" if plate.gaps else ""
        self.go_step("Region")
        self.message.emit(
            f"{plate.path.name}: {plate.size[0]} x {plate.size[1]}, frames {plate.first} to {plate.last}{gaps}. "
            "Go to the frame where the surface is largest and sharpest, then click round it.", False)

    def open_kept(self, copy: Lost) -> None:
        """Open what was kept of a shot, as unsaved work on the shot's own file.

        Raises
        ------
        ShotFileError
            When the copy cannot be read.
        """
        self._open(copy.file, Path(copy.note.path) if copy.note.path else None)
        self.history.mark_unsaved()
        self.shot_changed.emit()
        self.message.emit(f"{self.shot.name} is back as it was kept {copy.when}. Save it (Ctrl+S).", False)

    def open_shot(self, path: Path) -> None:
        """Open a shot file; a plate that cannot be found is said and can be chosen again."""
        self._open(path, path)

    def _open(self, path: Path, own: Path | None) -> None:
        """Open what is at `path`, to be worked on as the shot file `own`; None when it was never saved under a name."""
        before = store.load(path)
        gone = relocate.gone(before)
        moved = relocate.search(gone, (own or path).absolute().parent) if gone else {}
        shot = relocate.relocated(before, moved)
        plate: Plate | None = None
        trouble = ""
        if shot.plate is not None:
            try:
                plate = edits.opened(shot.plate)
                if plate.size != shot.plate.size:
                    trouble = (f"The plate is {plate.size[0]} x {plate.size[1]} now and was {shot.plate.size[0]} x {shot.plate.size[1]} "
                               "when the shot was saved; tracks will not fit it.")
            except PlateError as why:
                trouble = f"The shot is open but not its plate. {why} Choose it again with File > Replace plate."
        self._take(before, plate, own)
        if moved:
            self.history.do("Find files again", shot)
        if shot.tracks:
            self.select(shot.tracks[0].id, shot.tracks[0].placements[0].id if shot.tracks[0].placements else "")
            self.go_step("Use" if shot.tracks[0].placements else "Track")
        if trouble:
            self.message.emit(trouble, True)
        elif moved:
            self.message.emit(f"{path.name} is open; {len(moved)} of its files had moved and were found again below its folder.", False)
        else:
            self.message.emit(f"{path.name} is open. Press Space to play.", False)

    def find_files(self, folder: Path) -> int:
        """Look below a folder for the files of the shot that are gone; how many were found."""
        found = relocate.search(relocate.gone(self.shot), folder)
        if found:
            self.history.do("Find files again", relocate.relocated(self.shot, found))
            if self.plate is None and self.shot.plate is not None:
                self._show_plate(edits.opened(self.shot.plate))
        return len(found)

    def replace_plate(self, path: Path) -> None:
        """Point the shot at another plate and keep everything in it.

        Raises
        ------
        PlateError
            When it cannot be read or has another size.
        """
        plate = open_plate(path)
        old = self.shot.plate
        if old is not None and plate.size != old.size:
            raise PlateError(f"{plate.path.name} is {plate.size[0]} x {plate.size[1]} pixels, the shot's plate {old.size[0]} x {old.size[1]}; "
                             "open it as a new shot instead.")
        ref = edits.new_shot(plate, str(path.absolute())).plate
        self.history.do("Replace plate", self.shot.but(plate=ref))
        self._show_plate(plate)

    def read_otherwise(self, **changes: str) -> None:
        """Another layer of the plate's files (`layer`), or their alpha taken otherwise (`alpha`).

        Raises
        ------
        PlateError
            When there is no such layer, or it has another size; all stays as it was.
        """
        ref = self.shot.plate
        if ref is None or self.plate is None:
            return
        wanted = ref.but(**changes)
        if wanted == ref:
            return
        plate = self.plate.taken(wanted.layer, wanted.alpha)
        if plate.size != ref.size:
            raise PlateError(f"The layer '{wanted.layer}' is {plate.size[0]} x {plate.size[1]} pixels, the plate {ref.size[0]} x {ref.size[1]}; "
                             "choose another.")
        self.history.do("Choose what is read of the plate", self.shot.but(plate=wanted))

    def save(self, path: Path) -> None:
        """Save the shot.

        Raises
        ------
        ShotFileError
            When it cannot be written; the shot and the file before stay as they are.
        """
        if path.suffix.lower() != store.SUFFIX:
            path = path.with_name(path.name + store.SUFFIX)
        if self.shot.plate is None:
            raise ShotFileError("There is no plate yet; open one before you save.")
        store.save(self.shot, path)
        self.path = path
        self.history.mark_saved()
        self.shot_changed.emit()
        self.message.emit(f"Saved {path.name}.", False)

    def close(self) -> None:
        """Let the plate go."""
        if self.cache is not None:
            self.cache.close()

    # -- where the person is --------------------------------------------------------------------------------------

    def go(self, frame: int) -> None:
        """Show a frame, held inside the plate."""
        if self.plate is None:
            return
        frame = int(np.clip(frame, self.plate.first, self.plate.last))
        if frame != self.frame:
            self.frame = frame
            self.frame_changed.emit(frame)

    def go_step(self, step: str) -> None:
        """Bring a step's tools and settings."""
        if step != self.step:
            self.step = step
            self.step_changed.emit(step)

    def select(self, track: str, placement: str = "", hold_out: str = "") -> None:
        """Select a track, and perhaps one of its placements or hold-outs."""
        if (track, placement, hold_out) != (self.track_id, self.placement_id, self.hold_out_id):
            if track != self.track_id:
                self.base = None
            self.track_id, self.placement_id, self.hold_out_id = track, placement, hold_out
            self.selection_changed.emit()

    @property
    def track(self) -> Track | None:
        """The selected track."""
        return self.shot.track(self.track_id)

    @property
    def placement(self) -> Placement | None:
        """The selected placement, or the selected track's first."""
        track = self.track
        if track is None:
            return None
        return track.placement(self.placement_id) or (track.placements[0] if track.placements else None)

    @property
    def hold_out(self) -> HoldOut | None:
        """The selected hold-out."""
        track = self.track
        return track.hold_out(self.hold_out_id) if track is not None else None

    def live_fix(self, track: Track, frame: int) -> Fix | None:
        """What the tracker has just found for a track that is being tracked."""
        return self.live.get(frame) if track.id == self.live_track else None

    def texture(self) -> Texture | None:
        """What the selected region offers to the tracker, measured on its own frame; None while its picture is not in memory."""
        track = self.track
        if track is None or self.plate is None or self.cache is None:
            return None
        key = (self.plate, track.region, track.kind, track.look)
        if self._texture is not None and self._texture[0] == key:
            return self._texture[1]
        picture = self.cache.peek(track.region.frame)
        if not isinstance(picture, np.ndarray):
            return None
        mask = regions.mask_of(track.region, self.plate.size)
        mixture = channel_mixture(picture, mask) if track.look == "mix" else None
        found = measure(looked_at(picture, track.look, mixture=mixture), mask, track.region.box, track.kind)
        self._texture = (key, found)
        return found

    def matte(self, held: HoldOut, frame: int) -> np.ndarray | None:
        """A matte hold-out's mask (h, w) uint8 on a frame; None where it has none or cannot be read."""
        if self.plate is None:
            return None
        key = (held.path, held.invert, frame)
        if self._matte is None or self._matte[0] != key:
            try:
                found = read_matte(open_matte(Path(held.path), self.plate.size), frame, held.invert)
            except PlateError:
                found = None
            self._matte = (key, found)
        return self._matte[1]

    def out_of_date(self) -> list[Stretch]:
        """The selected track's stretches that tracking again from its repaired frames would compute."""
        track, span = self.track, self.shot.range
        if track is None:
            return []
        if self._stale is None or self._stale[0][0] is not track or self._stale[0][1] != span:  # asked several times at each move of a point
            self._stale = (track, span), out_of_date(track, span)
        return self._stale[1]

    # -- tracking -------------------------------------------------------------------------------------------------

    def tracking_job(self, track: Track, direction: str) -> Job:
        """Long work that tracks the selected track from the current frame.

        Parameters
        ----------
        direction : "forward", "backward", "both", "next" or "previous".

        Raises
        ------
        RegionError
            When tracking cannot begin here; the message says where it can.
        """
        if self.plate is None or self.cache is None:
            raise RegionError("There is no plate; open one first.")
        low, high = self.shot.range
        at = self.frame
        reference = track.region.frame
        motion = track.tracked
        known = dict(motion.matrices) if motion is not None and motion.reference == reference else {reference: np.eye(3)}
        if at not in known:
            near = motion.nearest_known(at) if motion is not None and motion.reference == reference else reference
            raise RegionError(f"{track.name} has no answer on frame {at} to go on from; go to frame {near} and track from there.")
        runs = {"forward": [range(at + 1, high + 1)], "backward": [range(at - 1, low - 1, -1)],
                "both": [range(at + 1, high + 1), range(at - 1, low - 1, -1)],
                "next": [range(at + 1, min(at + 1, high) + 1)], "previous": [range(at - 1, max(at - 1, low) - 1, -1)]}[direction]
        runs = [r for r in runs if len(r)]
        if not runs:
            raise RegionError(f"Frame {at} is at the end of the range {low} to {high}; there is nothing to track in that direction.")
        plate, read, corners, mask = self.plate, self.cache.get, track.region.box, regions.mask_of(track.region, self.plate.size)
        masks = held_masks(self.shot, track, plate.size)
        self.live, self.live_track = {}, track.id

        def work(job: Job) -> None:
            for frames in runs:
                for frame, fix in track_plane(plate, corners, reference, frames, track.kind, read=read, stop=job.stop_asked, known=known,
                                              held=masks, look=track.look, half=track.half, mask=mask):
                    if fix.matrix is not None and abs(frame - reference) == 1:
                        known[frame] = fix.matrix
                    job.step((frame, fix), of=frame)

        return Job(f"Tracking {track.name}", sum(len(r) for r in runs), work)

    def look_through(self, viewing: Viewing) -> None:
        """Show pictures otherwise; nothing in the shot changes."""
        self.viewing = viewing
        self.viewing_changed.emit()

    def mend(self, part: str) -> None:
        """Take a part of the Repair step in hand."""
        self.mending = part
        self.selection_changed.emit()

    @property
    def bent(self) -> Placement | None:
        """The placement whose sides can be bent: the selected one, or the selected track's first."""
        track = self.track
        return self.placement or (track.placements[0] if track is not None and track.placements else None)

    def take_live(self, frame: int, fix: Fix) -> None:
        """A new answer from the tracker, to be drawn at once."""
        self.live[frame] = fix
        self.live_changed.emit()

    def keep_live(self) -> None:
        """Tracking is over, or stopped: what it found becomes one step in the history."""
        track = self.shot.track(self.live_track)
        found, self.live, self.live_track = self.live, {}, ""
        if track is not None and found:
            self.history.do(f"Track {track.name}", edits.set_solved(self.shot, track.id, found))
        self.live_changed.emit()

    # -- inside ---------------------------------------------------------------------------------------------------

    def _take(self, shot: Shot, plate: Plate | None, path: Path | None) -> None:
        self.history.changed.disconnect(self._on_history)
        self.history = History(shot)
        self.history.changed.connect(self._on_history)
        self.path = path
        self.track_id = self.placement_id = self.hold_out_id = ""
        self.live, self.live_track = {}, ""
        self.base = None
        self.viewing = Viewing(space=shot.plate.colour if shot.plate is not None else "")
        self._show_plate(plate)
        self.viewing_changed.emit()
        self.shot_changed.emit()
        self.selection_changed.emit()

    def _show_plate(self, plate: Plate | None, same: bool = False) -> None:
        """Show another plate; the frame in view stays where it is the `same` one, read otherwise."""
        if self.cache is not None:
            self.cache.close()
        self.plate = plate
        self.cache = FrameCache(plate, self._for_plate(plate)) if plate is not None else None
        ref = self.shot.plate
        self._read_as = _reading(ref) if ref is not None else None
        if plate is None or not plate.first <= self.frame <= plate.last or not same:
            self.frame = int(np.clip(self.shot.range[0], plate.first, plate.last)) if plate is not None else self.shot.range[0]
        self.plate_changed.emit()
        self.frame_changed.emit(self.frame)

    def _for_plate(self, plate: Plate) -> int:
        """Bytes for the plate's pictures: less where they are large, since those in work are large too."""
        in_work = _IN_WORK * plate.size[0] * plate.size[1] * _BYTES
        return max(int(PLATE_SHARE * self.budget) - in_work, int(_LEAST_SHARE * self.budget))

    def _follow_plate(self, ref: PlateRef) -> None:
        """After undo, redo or a choice: what is open is what the shot means."""
        if self.plate is None or self._read_as == _reading(ref):
            return
        try:
            self._show_plate(edits.opened(ref), same=True)
        except PlateError as why:
            self._read_as = _reading(ref)  # said once
            self.message.emit(str(why), True)

    def _on_history(self, shot: Shot) -> None:
        if shot.plate is not None and shot.plate.colour != self.viewing.space:
            self.look_through(replace(self.viewing, space=shot.plate.colour))
        if shot.plate is not None:
            self._follow_plate(shot.plate)
        track = shot.track(self.track_id)
        before = (self.track_id, self.placement_id)
        if track is None:
            self.track_id, self.placement_id = (shot.tracks[-1].id if shot.tracks else ""), ""
        elif self.placement_id and track.placement(self.placement_id) is None:
            self.placement_id = ""
        if track is None or track.hold_out(self.hold_out_id) is None:
            self.hold_out_id = ""
        self.shot_changed.emit()
        if before != (self.track_id, self.placement_id):
            self.selection_changed.emit()


def _reading(ref: PlateRef) -> tuple[str, str, str]:
    """What of a plate's reference says how its files are read."""
    return ref.path, ref.layer, ref.alpha
