"""The flat pictures of patches: taken out of the plate, painted on, with the alpha by which they are laid back; kept while nothing of them changes."""

import threading
from collections import OrderedDict
from pathlib import Path
from typing import NamedTuple

import cv2
import numpy as np

from wertis.core.comp.finish import edged
from wertis.core.comp.lay import Reductions
from wertis.core.comp.light import light_of
from wertis.core.errors import PlateError, RegionError, WertisError
from wertis.core.geometry.motion import between
from wertis.core.geometry.warp import HomographyWarp, compose
from wertis.core.imaging.resample import unwarped
from wertis.core.paint.canvas import Canvas, Paint
from wertis.core.plate.base import from_float, rgb_of, to_float
from wertis.core.plate.colour import CODED, converted, space_of
from wertis.core.shot.document import Shot
from wertis.core.shot.patches import COPYING, Patch, Stroke
from wertis.core.shot.plate_pictures import file_picture, raw_picture
from wertis.core.shot.resolve import motion_of

_MOST_KEPT, _MOST_FLAT = 6, 6
_CHECKPOINT = 20  # strokes from one kept state of a canvas to the next
_MOST_CHECKPOINTS = 3
_CHANGED = 1.5 / 255  # of white, by which a file differs from the plate where it was painted on
_AROUND = 1.5  # pixels round what a file changes that count as changed



class _Kept(NamedTuple):
    """A canvas, what it began with, and the strokes that are on it."""

    base: object
    strokes: tuple[Stroke, ...]
    canvas: Canvas
    checkpoints: list[tuple[tuple[Stroke, ...], np.ndarray, np.ndarray]]


def flattened(shot: Shot, patch: Patch, frame: int, picture: np.ndarray) -> np.ndarray:
    """(h, w, 3) float32 a frame's picture as it lies on a patch's flat picture, in the plate's own numbers.

    Raises
    ------
    RegionError
        When the track has no answer on the frame.
    """
    from_flat = HomographyWarp(patch.from_flat)
    warp = from_flat
    if frame != patch.frame:
        track = shot.track(patch.on)
        motion = motion_of(track) if track is not None else None
        moved = between(motion, patch.frame, frame) if motion is not None else None
        if moved is None:
            raise RegionError(f"{track.name if track else 'The track'} is not tracked on frame {frame}; copy from a frame on which it is.")
        warp = compose(moved, from_flat)  # type: ignore[assignment]
    values = to_float(rgb_of(picture))
    h, w = values.shape[:2]
    same = warp.matrix is not None and np.allclose(warp.matrix / warp.matrix[2, 2], np.eye(3), atol=1e-9) and patch.size == (w, h)
    return values if same else np.ascontiguousarray(unwarped(values, warp, patch.size, cv2.INTER_LANCZOS4))


def painted_file(patch: Patch, path: str, frame: int) -> np.ndarray:
    """(h, w, channels) what was painted elsewhere on a patch's flat picture, as it was read; of a sequence the picture of a frame.

    Raises
    ------
    PlateError
        When it cannot be read, has no such frame, or is of another size than the flat picture.
    """
    picture = file_picture(path, frame)
    name, (w, h) = Path(path).name, patch.size
    if picture is None:
        raise PlateError(f"{name} has no picture for frame {frame} of {patch.name}; paint that frame as well, or choose one picture for all.")
    if picture.shape[:2] != (h, w):
        raise PlateError(f"{name} has {picture.shape[1]} x {picture.shape[0]} pixels, and {patch.name} was taken out with {w} x {h}; "
                         "save it at the size it came with.")
    return picture


class PatchPictures:
    """Flat pictures of patches, kept between frames.

    Parameters
    ----------
    stand_in : what cannot be read is told in `problems`, by the patch's id, and the plate stands in for it; otherwise it is an error.
    """

    def __init__(self, stand_in: bool = False) -> None:
        self.stand_in = stand_in
        self.problems: dict[str, str] = {}
        self._lock = threading.RLock()
        self._canvases: OrderedDict[str, _Kept] = OrderedDict()
        self._flat: OrderedDict[object, np.ndarray] = OrderedDict()
        self._made: OrderedDict[object, tuple[Reductions, tuple[Stroke, ...]]] = OrderedDict()  # strokes kept, so that their ids stay theirs

    def picture(self, shot: Shot, patch: Patch, frame: int, space: str) -> Reductions:
        """A patch for a frame: its flat picture, premultiplied by where it is laid on, in a colour space.

        Raises
        ------
        WertisError
            When its file or the plate cannot be read.
        """
        with self._lock:
            canvas, base = self._canvas(shot, patch, frame)
            strokes = tuple(s for s in patch.strokes if s.on(frame))
            key = patch.id, base, tuple(id(s) for s in strokes), patch.cover, patch.soft, space
            if key not in self._made:
                own = light_of(shot, raw_picture(shot, patch.frame).dtype).plate
                alpha = self._alpha(shot, patch, canvas)
                colour = converted(np.ascontiguousarray(canvas.pixels), own, space)
                self._made[key] = Reductions(np.dstack([colour * alpha[..., None], alpha]).astype(np.float32)), strokes
                while len(self._made) > _MOST_KEPT:
                    self._made.popitem(last=False)
            self._made.move_to_end(key)
            return self._made[key][0]

    def canvas(self, shot: Shot, patch: Patch, frame: int) -> Canvas:
        """The flat picture as it is painted for a frame; a copy of its own."""
        with self._lock:
            canvas, _ = self._canvas(shot, patch, frame)
            out = Canvas(canvas.base, canvas.base_cover)
            out.pixels, out.cover = canvas.pixels.copy(), canvas.cover.copy()
            return out

    def kept_canvas(self, shot: Shot, patch: Patch, frame: int) -> Canvas:
        """The flat picture as it is painted for a frame, as it is kept: not to be written into."""
        with self._lock:
            return self._canvas(shot, patch, frame)[0]

    def alpha(self, shot: Shot, patch: Patch, frame: int) -> np.ndarray:
        """(h, w) float32, 0..1, where the flat picture is laid on a frame, its opacity and its mattes not counted."""
        with self._lock:
            return self._alpha(shot, patch, self._canvas(shot, patch, frame)[0])

    def with_fill(self, shot: Shot, patch: Patch, stroke: Stroke) -> Stroke:
        """A stroke that fills a hole with what it is filled with; any other one as it is.

        Raises
        ------
        RegionError
            When there is too little round the hole.
        """
        if stroke.kind != "fill":
            return stroke
        at = next((k for k, s in enumerate(patch.strokes) if s.id == stroke.id), len(patch.strokes))
        beneath = patch.but(strokes=patch.strokes[:at])
        frame = patch.frame if stroke.on(patch.frame) else stroke.first if stroke.first is not None else patch.frame
        with self._lock:
            canvas, _ = self._canvas(shot, beneath, frame)
            made = canvas.fill_made(self.paint(shot, patch, stroke.but(made=None)))
        return stroke.but(made=None if made is None else made.astype(np.float16))

    def forget(self) -> None:
        """Read all files again."""
        with self._lock:
            self.problems.clear()
            for kept in (self._canvases, self._flat, self._made):
                kept.clear()  # type: ignore[attr-defined]

    def flat(self, shot: Shot, patch: Patch, frame: int) -> np.ndarray:
        """The plate's frame as it lies on the flat picture; see `flattened`."""
        ref = shot.plate
        assert ref is not None
        track = shot.track(patch.on)
        key = (ref.path, ref.layer, ref.alpha, frame, patch.quad, patch.size, patch.frame, id(track) if frame != patch.frame else 0)
        with self._lock:
            found = self._flat.get(key)
            if found is None:
                found = self._flat[key] = flattened(shot, patch, frame, raw_picture(shot, frame))
                while len(self._flat) > _MOST_FLAT:
                    self._flat.popitem(last=False)
            return found

    # -- inside ---------------------------------------------------------------------------------------------------

    def _canvas(self, shot: Shot, patch: Patch, frame: int) -> tuple[Canvas, object]:
        base_key = (patch.frame, patch.quad, patch.size, patch.base, patch.path, patch.start, id(patch.clean), frame if self._moves(patch) else 0)
        strokes = tuple(s for s in patch.strokes if s.on(frame))
        kept = self._canvases.get(patch.id)
        if kept is None or kept.base != base_key:
            kept = _Kept(base_key, (), self._begun(shot, patch, frame), [])
        canvas, done = kept.canvas, len(kept.strokes)
        if [id(s) for s in strokes[:done]] != [id(s) for s in kept.strokes]:
            done = self._back_to(kept, strokes)
        for k in range(done, len(strokes)):
            self._stroke(shot, patch, canvas, strokes[k])
            if (k + 1) % _CHECKPOINT == 0:
                kept.checkpoints.append((strokes[:k + 1], canvas.pixels.copy(), canvas.cover.copy()))
                del kept.checkpoints[:-_MOST_CHECKPOINTS]
        self._canvases[patch.id] = _Kept(base_key, strokes, canvas, kept.checkpoints)
        self._canvases.move_to_end(patch.id)
        while len(self._canvases) > _MOST_KEPT:
            self._canvases.popitem(last=False)
        return canvas, base_key

    @staticmethod
    def _moves(patch: Patch) -> bool:
        return patch.base == "file" and ("#" in patch.path or "%" in patch.path)

    @staticmethod
    def _back_to(kept: _Kept, strokes: tuple[Stroke, ...]) -> int:
        """Bring a canvas back to the last kept state whose strokes still lie beneath; how many those are."""
        canvas = kept.canvas
        for there, pixels, cover in reversed(kept.checkpoints):
            if [id(s) for s in strokes[:len(there)]] == [id(s) for s in there]:
                canvas.pixels, canvas.cover = pixels.copy(), cover.copy()
                return len(there)
        canvas.pixels, canvas.cover = canvas.base.copy(), canvas.base_cover.copy()
        return 0

    def _begun(self, shot: Shot, patch: Patch, frame: int) -> Canvas:
        plate = self.flat(shot, patch, patch.frame)
        if patch.base == "clean" and patch.clean is not None:
            clean = patch.clean.astype(np.float32)
            if clean.shape[:2] == plate.shape[:2]:
                seen = patch.seen.astype(np.float32) if patch.seen is not None else np.ones((*clean.shape[:2], 1), np.float32)
                return Canvas(seen * clean + (1 - seen) * plate, seen[..., 0])
        if patch.base == "file" and patch.path:
            try:
                painted = self._file(shot, patch, frame)
            except WertisError as why:
                if not self.stand_in:
                    raise
                self.problems[patch.id] = str(why)
                return Canvas(plate)
            self.problems.pop(patch.id, None)
            beneath = self.flat(shot, patch, frame) if self._moves(patch) else plate
            # whole numbers do not hold what swings beyond black and white where edges were resampled
            top = 1.0 if np.issubdtype(raw_picture(shot, patch.frame).dtype, np.integer) else np.inf
            differs = np.abs(np.clip(painted, 0, top) - np.clip(beneath, 0, top)).max(2, keepdims=True) > _CHANGED
            near = cv2.GaussianBlur(cv2.dilate(differs[..., 0].astype(np.float32), np.ones((3, 3), np.uint8)), (0, 0), _AROUND)
            return Canvas(np.where(differs, painted, beneath), np.minimum(near * 2, 1))
        return Canvas(plate)

    def _file(self, shot: Shot, patch: Patch, frame: int) -> np.ndarray:
        """(h, w, 3) the file that was painted elsewhere, in the plate's numbers."""
        picture = painted_file(patch, patch.path, frame - patch.start + 1 if self._moves(patch) and patch.start else frame)
        kind = raw_picture(shot, patch.frame).dtype
        own, of_file = light_of(shot, kind).plate, space_of(picture.dtype)
        values = to_float(rgb_of(picture))
        return values if of_file == space_of(kind) else converted(values, of_file, own)

    def _stroke(self, shot: Shot, patch: Patch, canvas: Canvas, stroke: Stroke) -> None:
        source = None
        if stroke.source is not None and stroke.kind in COPYING:
            try:
                source = self.flat(shot, patch, stroke.source)
            except WertisError as why:
                if not self.stand_in:
                    raise
                self.problems[patch.id] = str(why)
                return
        try:
            canvas.apply(self.paint(shot, patch, stroke), source)
        except RegionError as why:
            if not self.stand_in:
                raise
            self.problems[patch.id] = str(why)

    @staticmethod
    def paint(shot: Shot, patch: Patch, stroke: Stroke) -> Paint:
        """How a stroke paints, its colour in the plate's own numbers."""
        colour = np.array(stroke.colour, np.float32)
        if stroke.kind == "brush":
            own = light_of(shot, raw_picture(shot, patch.frame).dtype).plate
            colour = converted(colour.reshape(1, 1, 3), CODED, own).reshape(3)
        return Paint(stroke.kind, stroke.points, stroke.radius, stroke.hardness, stroke.opacity, colour, stroke.offset, stroke.turn, stroke.scale,
                     stroke.amount, stroke.seed, stroke.made)

    @staticmethod
    def _alpha(shot: Shot, patch: Patch, canvas: Canvas) -> np.ndarray:
        """(h, w) where the flat picture is laid on: what was changed and a little round it, or all of it but for its fading edge."""
        if patch.cover == "all":
            alpha = np.ones(canvas.pixels.shape[:2], np.float32)
            whole = shot.plate is not None and patch.size == shot.plate.size
            return edged(alpha, 0.0, patch.soft) if patch.soft and not whole else alpha
        alpha = canvas.cover
        if not patch.soft or not alpha.any():
            return alpha
        radius = max(1, round(patch.soft / 2))
        grown = cv2.dilate(alpha, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * radius + 1, 2 * radius + 1)))
        return np.asarray(np.maximum(cv2.GaussianBlur(grown, (0, 0), patch.soft / 4), alpha))


def for_file(pixels: np.ndarray, kind: np.dtype, space: str, suffix: str) -> np.ndarray:
    """A flat picture (h, w, 3) float32 for a file: 16 bits coded as the plate is, or floats of linear light in an EXR.

    Parameters
    ----------
    kind, space : of the plate's numbers.
    suffix : of the file.
    """
    wanted = np.dtype(np.float32) if suffix.lower() == ".exr" else np.dtype(np.uint16)
    values = pixels if space_of(kind) == space_of(wanted) else converted(np.ascontiguousarray(pixels), space, space_of(wanted))
    return from_float(values, wanted)
