"""Clean patches in scripts."""

from __future__ import annotations

import threading
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from wertis import libraries  # noqa: F401  first, so that importing changes no environment
from wertis.core.blas import single_threaded
from wertis.core.comp.patch_pictures import PatchPictures
from wertis.core.jobs.clean_plate import join_clean_plate
from wertis.core.jobs.events import finished, told
from wertis.core.jobs.flicker import Flicker, measure_flicker
from wertis.core.jobs.matching import patch_parts
from wertis.core.jobs.patch_files import read_back, write_flat, write_mask, write_series
from wertis.core.jobs.patch_frames import proposed_frames
from wertis.core.shot import patches
from wertis.core.shot.document import Shot as Document
from wertis.core.shot.edits import track_of
from wertis.core.shot.patches import Patch, Stroke
from wertis.scripting.common import ItemHandle, Points, Progress, checked_fields, measured_match, numbers

if TYPE_CHECKING:
    from wertis.scripting.mattes import DrawnMatte


class Patched(ItemHandle[Patch]):
    """A patch on a surface: a flat picture that is painted and given back to every frame."""

    kind = Patch

    @property
    def size(self) -> tuple[int, int]:
        """Width and height of the flat picture."""
        return self.record.size

    def corners(self, frame: int) -> np.ndarray | None:
        """Its corners (4, 2) on a frame; None where its track has no answer."""
        return patches.corners_on(self.shot.document, self.record, frame)

    def flat(self, frame: int | None = None, painted: bool = True) -> np.ndarray:
        """The flat picture (h, w, 3) float32 in the plate's own numbers, as painted for a frame; or that frame's own, unpainted."""
        record, pictures = self.record, PatchPictures()
        at = record.frame if frame is None else frame
        return pictures.canvas(self.shot.document, record, at).pixels if painted else pictures.flat(self.shot.document, record, at)

    def to_flat(self, points: Points, frame: int) -> np.ndarray | None:
        """Points (N, 2) of a frame's picture in the flat picture's pixels; None where the track has no answer."""
        return patches.to_flat(self.shot.document, self.record, numbers(points, "points"), frame)

    def change(self, **fields: Any) -> Patched:
        """Set fields of the document's `Patch`: cover ("changed" or "all"), soft, seam, first, last, fade, opacity, match, name. Returns itself."""
        with checked_fields():
            self.shot._do("Change the patch", patches.set_patch(self.shot.document, self.id, **fields))
        return self

    def retake(self, frame: int) -> Patched:
        """Take it out of another frame; it stays where it is. Returns itself."""
        self.shot._do("Take the patch out of another frame", patches.retake(self.shot.document, self.id, frame))
        return self

    def propose(self, count: int = 5) -> list[int]:
        """Frames on which the surface is large, sharp and little hidden, the best one first."""
        return [f.frame for f in proposed_frames(self.shot.document, track_of(self.shot.document, self.record.on), self.shot.plate)[:count]]

    def paint(self, kind: str, points: Points, pressure: float | np.ndarray = 1.0, **fields: Any) -> str:
        """Paint a stroke on the flat picture; its id.

        Parameters
        ----------
        kind : brush, clone, heal, erase, blur, sharpen, tone, or fill (points are the hole's outline).
        points : (N, 2) in the flat picture's pixels.
        fields : of the document's `Stroke`: radius, hardness, opacity, colour, offset, source, turn, scale, amount, seed, first, last.
        """
        places = numbers(points, "points")
        with checked_fields():
            stroke = Stroke(kind=kind, points=np.column_stack([places, np.broadcast_to(pressure, len(places))]), **fields)  # type: ignore[arg-type]
        stroke = PatchPictures().with_fill(self.shot.document, self.record, stroke)
        self.shot._do(f"Paint: {kind}", patches.add_stroke(self.shot.document, self.id, stroke))
        return stroke.id

    def change_stroke(self, ident: str, **fields: Any) -> Patched:
        """Set fields of a stroke, such as `visible` or `last`. Returns itself."""
        with checked_fields():
            self.shot._do("Change a stroke", patches.set_stroke(self.shot.document, self.id, ident, **fields))
        return self

    def remove_stroke(self, ident: str) -> Patched:
        """Take a stroke away. Returns itself."""
        self.shot._do("Remove a stroke", patches.remove_stroke(self.shot.document, self.id, ident))
        return self

    def clean_plate(self, progress: Progress | None = None, stop: threading.Event | None = None) -> str:
        """Join the bare surface from all frames that see it, and paint on that from now on; how well it was seen, in words."""
        words, after = "", None
        with single_threaded():
            for event in told(join_clean_plate(self.shot.document, self.id, self.shot.plate, stop=stop), progress):
                if isinstance(event.item, Document):
                    after, words = event.item, event.note
        if after is not None:
            self.shot._do("Join a clean plate", after)
        return words

    def match(self, parts: Iterable[str] | None = None, progress: Progress | None = None, stop: threading.Event | None = None) -> dict[str, str]:
        """Measure in the plate what it needs to look like each frame, as for a graphic; "focus" is what a frame is softer than the patch's own.

        Parameters
        ----------
        parts : light, shutter and focus when not given, and grain for a clean plate.
        """
        return measured_match(self.shot, self.id, patch_parts(self.record) if parts is None else parts, progress, stop)

    def write(self, path: str | Path) -> tuple[int, int]:
        """Write the flat picture as painted (.exr, .tif or .png), for painting elsewhere; its size. Where it lies is said in a JSON file beside it."""
        return write_flat(self.shot.document, self.record, Path(path))

    def write_mask(self, path: str | Path) -> tuple[int, int]:
        """Write where the flat picture is laid on, white on black (.exr, .tif, .png); its width and height."""
        return write_mask(self.shot.document, self.record, Path(path))

    def write_series(self, pattern: str | Path, progress: Progress | None = None, stop: threading.Event | None = None) -> dict[int, str]:
        """Write every frame of the range flat (such as flat.####.exr), the steadied plate; frames that are left out, and why."""
        return dict(finished(write_series(self.shot.document, self.record, self.shot.plate, str(pattern), stop=stop), progress) or {})

    def read_back(self, path: str | Path) -> Patched:
        """Take what was painted elsewhere: a picture, or a sequence of them (####). Returns itself."""
        self.shot._do("Read the painted file", read_back(self.shot.document, self.id, str(path)))
        return self

    def flicker(self, progress: Progress | None = None, stop: threading.Event | None = None) -> dict[int, Flicker]:
        """How much its border jumps from each frame to the next, in 255ths, by frame."""
        with single_threaded():
            return dict(finished(measure_flicker(self.shot.document, self.id, self.shot.plate, stop=stop), progress) or {})

    def limit_to(self, matte: DrawnMatte) -> Patched:
        """Show it only inside a matte. Returns itself."""
        return self.change(limited_to=(*self.record.limited_to, matte.id))

