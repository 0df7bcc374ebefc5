"""Dense motion kept in a folder: one long step from the reference frame to each frame, and what the frames' neighbours need, as EXR files.

    to.0012.exr     on the reference frame's pixels: where each is on frame 12, with its expected error, and whether it is seen there
    from.0012.exr   on frame 12's pixels: where each is on the reference frame, and on the next and the previous frame

While it is tracked, lost.0013.json says of a frame that the surface was lost on it, and state.forward0.npz and state.forward1.npz where the tracker is.
"""

import contextlib
import hashlib
import json
import threading
import zipfile
from collections import OrderedDict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from wertis.core.errors import DeliverError
from wertis.core.exchange.motion_fields import read_field, read_notes, write_channels, write_field
from wertis.core.files import clear_leftovers, replacing, write_text
from wertis.core.geometry.displacement_field import DisplacementField, FieldWarp
from wertis.core.geometry.motion import FrameMotion
from wertis.core.geometry.warp import IDENTITY, Warp
from wertis.core.plate.base import Plate

_KEY, _SEEN, _ERROR = "wertis:key", "wertis:seen", "wertis:error"
_BUDGET = 384 << 20  # bytes of fields that are kept in memory
_FULL_RECORD = 32  # bytes a pixel of a frame in both of its files, before they are compressed
_COMPRESSED = 0.55  # of that, as compression usually leaves it

_kept: OrderedDict[tuple[str, int, int], DisplacementField] = OrderedDict()
_lock = threading.Lock()


def field_file(folder: Path, frame: int) -> Path:
    """The file of the long step from the reference frame to a frame."""
    return folder / f"to.{frame:04d}.exr"


def neighbour_file(folder: Path, frame: int) -> Path:
    """The file of the steps from a frame to the reference frame and to its neighbours."""
    return folder / f"from.{frame:04d}.exr"


def expected_bytes(size: tuple[int, int], frames: int) -> int:
    """About how much of a disk so many frames of a region of `size` (width, height) take."""
    return int(size[0] * size[1] * frames * _FULL_RECORD * _COMPRESSED)


def loaded(folder: Path, frame: int) -> DisplacementField:
    """A frame's field, from memory while there is room.

    Raises
    ------
    DeliverError
        When its file cannot be read.
    """
    path = field_file(folder, frame)
    try:
        stamp = path.stat()
    except OSError as why:
        raise DeliverError(f"{path} is not there any more; track again to compute it anew.") from why
    key = (str(path), stamp.st_mtime_ns, stamp.st_size)
    with _lock:
        if key in _kept:
            _kept.move_to_end(key)
            return _kept[key]
    found = read_field(path)
    with _lock:
        _kept[key] = found
        while len(_kept) > 1 and sum(f.nbytes for f in _kept.values()) > _BUDGET:
            _kept.popitem(last=False)
    return found


class MotionFolder:
    """The files of one dense track.

    Parameters
    ----------
    folder : made when something is written.
    size : width and height of the plate.
    """

    def __init__(self, folder: Path, size: tuple[int, int]) -> None:
        self.folder, self.size = folder, size

    def keep(self, frame: int, field: DisplacementField, key: str, seen: float, error: float) -> None:
        """Write a frame's long step.

        Raises
        ------
        DeliverError
            When it cannot be written.
        """
        self._made()
        write_field(field_file(self.folder, frame), field, self.size, {_KEY: key, _SEEN: repr(seen), _ERROR: repr(error)})

    def known(self, frame: int, key: str) -> tuple[float, float] | None:
        """The share seen and the error of a frame that was computed from what `key` stands for; None when it has to be computed."""
        own, seen, error = read_notes(field_file(self.folder, frame), (_KEY, _SEEN, _ERROR))
        if own != key:
            return None
        try:
            return float(seen), float(error)
        except ValueError:
            return None

    def keep_lost(self, frame: int, key: str, seen: float, reason: str) -> None:
        """Remember that the surface was lost on a frame, so that whoever goes on knows."""
        self._made()
        write_text(self._lost_file(frame), json.dumps({"key": key, "seen": seen, "reason": reason}))

    def lost(self, frame: int, key: str) -> tuple[float, str] | None:
        """The share seen, and why the surface was lost, of a frame that was looked at with what `key` stands for; None when it was not, or not lost."""
        try:
            body = json.loads(self._lost_file(frame).read_text("utf-8"))
            return (float(body["seen"]), str(body["reason"])) if body["key"] == key else None
        except (OSError, ValueError, KeyError, TypeError):
            return None

    def _lost_file(self, frame: int) -> Path:
        return self.folder / f"lost.{frame:04d}.json"

    def keep_state(self, onward: int, frame: int, key: str, state: Mapping[str, np.ndarray]) -> None:
        """Remember where a tracker is, after a frame, that goes forward (1) or backward (-1), so that another goes on as it would have."""
        self._made()
        with replacing(self._state_file(onward, frame)) as part, open(part, "wb") as f:
            np.savez(f, **{"frame": np.array(frame), "key": np.array(key), **state})  # type: ignore[arg-type]

    def state(self, onward: int, frame: int, key: str) -> dict[str, np.ndarray] | None:
        """What `keep_state` kept after that frame; None where there is no such state, or it is damaged."""
        try:
            with np.load(self._state_file(onward, frame), allow_pickle=False) as there:
                found = {name: there[name] for name in there.files}
        except (OSError, ValueError, EOFError, KeyError, zipfile.BadZipFile):
            return None
        same = int(found.pop("frame", np.array(0))) == frame and str(found.pop("key", "")) == key
        return found if same else None

    def forget_state(self, onward: int) -> None:
        """The tracker has come to its end."""
        for frame in (0, 1):
            with contextlib.suppress(OSError):
                self._state_file(onward, frame).unlink()

    def clear_leftovers(self, frames: Iterable[int]) -> None:
        """Take away what processes left that were killed while they wrote; only when none is writing."""
        files = [name for f in frames for name in (field_file(self.folder, f), neighbour_file(self.folder, f), self._lost_file(f))]
        clear_leftovers([*files, *(self._state_file(onward, f) for onward in (1, -1) for f in (0, 1))])

    def _made(self) -> None:
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
        except OSError as why:
            raise DeliverError(f"The folder {self.folder} cannot be made ({why.strerror or why}); choose another for the motion.") from why

    def _state_file(self, onward: int, frame: int) -> Path:
        # two by turns: until a frame's own file is there, the one before it may be needed again
        return self.folder / f"state.{'forward' if onward > 0 else 'backward'}{frame % 2}.npz"

    def keep_neighbours(self, frame: int, reference: int) -> None:
        """Write a frame's steps to the reference frame and to the frames beside it, on its own pixels, from the long steps that are there."""
        warp = self._warp(frame, reference)
        if warp is None:
            return
        w, h = self.size
        source = warp.inverse_map((0, 0, w, h)).astype(np.float64)
        known = np.asarray(np.isfinite(source).all(-1))
        if not known.any():
            return
        rows, columns = np.nonzero(known)
        box = (int(columns.min()), int(rows.min()), int(columns.max()) + 1, int(rows.max()) + 1)
        x0, y0, x1, y1 = box
        source, known = source[y0:y1, x0:x1], known[y0:y1, x0:x1]
        here = np.stack(np.meshgrid(np.arange(x0, x1) + 0.5, np.arange(y0, y1) + 0.5), axis=-1)
        channels: dict[str, np.ndarray] = {"seen": known.astype(np.float32)}
        if isinstance(warp, FieldWarp):
            visible = warp.field.sampled(warp.field.seen.astype(np.float32), source[known])
            channels["seen"][known] = visible
        for name, other in (("reference", IDENTITY), ("forward", self._warp(frame + 1, reference)), ("backward", self._warp(frame - 1, reference))):
            step = np.zeros_like(source)
            if other is not None:
                step[known] = other.forward(source[known]) - here[known]
            a, b = ("x", "y") if name == "reference" else ("u", "v")
            channels[f"{name}.{a}"], channels[f"{name}.{b}"] = step[..., 0], step[..., 1]
        write_channels(neighbour_file(self.folder, frame), box, self.size, channels, {_KEY: self._neighbours_key(frame)})

    def neighbours_are_current(self, frame: int) -> bool:
        """Whether a frame's steps to its neighbours were made from the long steps that are there now."""
        return read_notes(neighbour_file(self.folder, frame), (_KEY,))[0] == self._neighbours_key(frame)

    def _neighbours_key(self, frame: int) -> str:
        """Stands for the long steps from which a frame's steps to its neighbours are made."""
        of = [read_notes(field_file(self.folder, f), (_KEY,)) for f in (frame - 1, frame, frame + 1)]
        return hashlib.sha256(repr(of).encode()).hexdigest()[:32]

    def _warp(self, frame: int, reference: int) -> Warp | None:
        if frame == reference:
            return IDENTITY
        with contextlib.suppress(DeliverError):
            return _warp_of(loaded(self.folder, frame))
        return None


def frame_key(plate: Plate, frame: int, reference: int, what: Sequence[object], held: np.ndarray | None) -> str:
    """Stands for all that a frame's long step is computed from: the two pictures' files, the settings `what`, the region, and what is held out there."""
    digest = hashlib.sha256()
    for f in (reference, frame):
        path = plate.file(f) or plate.path
        try:
            stamp = path.stat()
            digest.update(repr((f, path.name, stamp.st_size, stamp.st_mtime_ns)).encode())
        except OSError:
            digest.update(repr((f, str(path))).encode())
    for part in what:
        digest.update(part.tobytes() if isinstance(part, np.ndarray) else repr(part).encode())
    if held is not None:
        digest.update(np.ascontiguousarray(held).tobytes())
    return digest.hexdigest()[:32]


@dataclass(frozen=True)
class KeptField:
    """One frame's answer of a dense track, whose field lies in a folder.

    Attributes
    ----------
    seen : share 0..1 of the region that is seen.
    error : root mean square of the expected errors of what is seen, in pixels; inf when the surface was lost.
    reason : why it was lost, in words; empty otherwise.
    """

    folder: Path
    frame: int
    seen: float
    error: float
    reason: str = ""

    @property
    def warp(self) -> Warp | None:
        """The answer as a warp; None when the surface was lost, or the file is gone."""
        if self.reason:
            return None
        with contextlib.suppress(DeliverError):
            return _warp_of(loaded(self.folder, self.frame))
        return None


class DenseMotion(FrameMotion):
    """The motion whose fields lie in a folder; they are read when they are needed.

    Parameters
    ----------
    frames : those that have an answer.
    """

    def __init__(self, reference: int, folder: Path, frames: Sequence[int]) -> None:
        self._reference, self.folder = reference, folder
        self._frames = sorted({*frames, reference})
        self._there = set(self._frames)

    @property
    def reference(self) -> int:
        return self._reference

    @property
    def frames(self) -> Sequence[int]:
        return self._frames

    def on_frame(self, frame: int) -> Warp | None:
        if frame == self._reference:
            return IDENTITY
        if frame not in self._there:
            return None
        try:
            return _warp_of(loaded(self.folder, frame))
        except DeliverError:  # the file went away or is damaged: the frame has no answer
            return None

    def error_on(self, points: np.ndarray, frame: int) -> np.ndarray:
        if frame == self._reference:
            return np.zeros(len(points))
        field = loaded(self.folder, frame)
        return field.sampled(field.error, points)

    def between(self, first: Warp, second: Warp, part: float) -> Warp | None:
        fields = [w.field for w in (first, second) if isinstance(w, FieldWarp)]
        if not fields:
            return IDENTITY
        one = fields[0]
        if any(f.box != one.box for f in fields):
            return super().between(first, second, part)
        a, b = (w.field.displacement if isinstance(w, FieldWarp) else np.zeros_like(one.displacement) for w in (first, second))
        return FieldWarp(DisplacementField(one.box, (1 - part) * a + part * b, one.error, fields[0].seen & fields[-1].seen))


_warps: OrderedDict[int, tuple[DisplacementField, FieldWarp]] = OrderedDict()
_MOST_WARPS = 24


def _warp_of(field: DisplacementField) -> FieldWarp:
    """The warp of a field, with the triangles that were made for it."""
    with _lock:
        found = _warps.get(id(field))
        if found is not None and found[0] is field:
            _warps.move_to_end(id(field))
            return found[1]
        warp = FieldWarp(field)
        _warps[id(field)] = field, warp
        while len(_warps) > _MOST_WARPS:
            _warps.popitem(last=False)
        return warp
