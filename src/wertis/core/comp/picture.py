"""A frame of the comp: the plate with every visible placement on it, or the graphics alone."""

import zlib
from collections.abc import Callable, Sequence

import cv2
import numpy as np

from wertis.core.comp import blend, lay, matching
from wertis.core.comp.artwork_pictures import ArtworkPictures
from wertis.core.comp.grade import graded
from wertis.core.comp.graphic import graphic_on, patch_on
from wertis.core.comp.light import Light, light_of
from wertis.core.comp.patch_pictures import PatchPictures
from wertis.core.plate.base import from_float, rgb_of, to_float
from wertis.core.plate.colour import CODED, LINEAR, converted
from wertis.core.shot.document import Placement, Shot
from wertis.core.shot.fills import Fill
from wertis.core.shot.grades import Grade
from wertis.core.shot.match import NO_MATCH, GrainMatch
from wertis.core.shot.matte_alpha import matte_alpha
from wertis.core.shot.mattes import Matte
from wertis.core.shot.patches import Patch, clean_patch
from wertis.core.shot.plate_pictures import coded

_FAINTEST = 1e-4  # alpha of a glow, beyond which there is none


def _mix(part: np.ndarray, graphic: np.ndarray, item: Placement | Fill, light: Light,
         grain: Callable[[np.ndarray, int], np.ndarray] | None = None) -> None:
    """Put a graphic (h, w, 4) over a part (h, w, channels) of a picture, in place; what it does not touch stays as it is, bit for bit.

    `grain` gives what is added to rows (n, w, 3) of the mixture, in the plate's numbers, from a row on.
    """

    def rows(band: slice) -> None:
        back, over = part[band], graphic[band]
        mixed = blend.over(converted(to_float(back), light.plate, light.mixed), over, item.blend, item.opacity)
        mixed = converted(mixed, light.mixed, light.plate)
        if grain is not None:
            mixed = np.concatenate([mixed[..., :3] + grain(mixed[..., :3], band.start), mixed[..., 3:]], axis=-1)
        back[...] = np.where(over[..., 3:] > 0, from_float(mixed, part.dtype), back)

    matching.in_bands(rows, len(part))


class Compositor:
    """Makes comp frames of shots; keeps artwork and its reductions between frames.

    Parameters
    ----------
    stand_in : artwork that cannot be read is drawn hatched, and why is in `problems`; otherwise it is an error.
    """

    def __init__(self, stand_in: bool = False) -> None:
        self.artwork = ArtworkPictures(stand_in)
        self.patches = PatchPictures(stand_in)

    @property
    def problems(self) -> list[str]:
        """What could not be read, in words."""
        return [*self.artwork.problems.values(), *self.patches.problems.values()]

    def comp(self, shot: Shot, plate: np.ndarray, frame: int, samples: int = 2, reduced: int = 1) -> np.ndarray:
        """The plate's picture with the placements on it, in the plate's kind of number; untouched pixels are the plate's, bit for bit.

        Parameters
        ----------
        plate : (h, w, channels) picture of the frame.
        samples : sampling of the graphics per pixel and direction; 1 is for playing.
        reduced : by how much smaller `plate` is than the real one, in each direction, for a quick look.
        """
        out, light = plate, light_of(shot, plate.dtype)
        size = (plate.shape[1], plate.shape[0])
        mattes = _Mattes(shot, frame, size, reduced, plate)
        laid_on: dict[str, list[tuple[Placement | Fill, lay.Laid]]] = {}
        for x, laid in self._laid(shot, frame, mattes, samples, light.mixed):
            laid_on.setdefault(x.id, []).append((x, laid))
        for item in shot.items:
            grade = item if isinstance(item, Grade) and item.visible and _track_shows(shot, item.on) else None
            if item.id not in laid_on and grade is None:
                continue
            if out is plate:
                out = plate.copy() if plate.shape[2] > 2 else np.repeat(plate[..., :1], 3, 2)
            if grade is not None:
                _grade(out, grade, mattes.inside(grade.limited_to), light, reduced)
            else:
                for laid_item, laid in laid_on[item.id]:
                    if isinstance(laid_item, Placement) and laid_item.match.texture:  # of what lies beneath by now, patches among it
                        laid = matching.textured(laid, converted(to_float(out[..., :3]), light.plate, LINEAR), laid_item.match, light.mixed)
                    if isinstance(laid_item, Placement) and laid_item.match.reflection:
                        laid = self._reflected(shot, laid_item, laid, plate, frame, light, samples, reduced)
                    h, w = laid.pixels.shape[:2]
                    part = out[laid.top:laid.top + h, laid.left:laid.left + w]
                    grain = laid_item.match.grain if isinstance(laid_item, Placement) else None
                    _mix(part, laid.pixels, laid_item, light, _grained(grain, laid, laid_item, frame, reduced) if grain is not None else None)
        return out

    def graphic(self, shot: Shot, frame: int, size: tuple[int, int], samples: int = 2, kind: np.dtype | type = np.uint8, space: str = CODED) -> np.ndarray:
        """The placements alone (h, w, 4), float32 premultiplied, nothing elsewhere.

        Parameters
        ----------
        kind : of the plate's numbers, which says in what light things are laid on one another.
        space : the colour space that is wanted.
        """
        out, mixed = np.zeros((size[1], size[0], 4), np.float32), light_of(shot, kind).mixed
        for item, laid in self._laid(shot, frame, _Mattes(shot, frame, size), samples, mixed):
            h, w = laid.pixels.shape[:2]
            part = out[laid.top:laid.top + h, laid.left:laid.left + w]
            part[...] = blend.over(part, laid.pixels, item.blend, item.opacity)
        return converted(out, mixed, space)

    def _reflected(self, shot: Shot, placement: Placement, laid: lay.Laid, plate: np.ndarray, frame: int, light: Light, samples: int,
                   reduced: int) -> lay.Laid:
        """A graphic with what the plate has more than the clean plate of the same track laid on it again; as it is where there is none."""
        clean, track = clean_patch(shot, placement.on), shot.track(placement.on)
        if clean is None or track is None:
            return laid
        ground = patch_on(shot, track, clean.but(cover="all", soft=0.0, first=None, last=None, opacity=1.0, seam=False), frame, plate.shape[1::-1],
                          self.patches, samples, LINEAR, reduced)
        if ground is None:
            return laid
        return matching.reflected(laid, converted(rgb_of(to_float(plate)), light.plate, LINEAR), ground, placement.match.reflection, light.mixed)

    def _laid(self, shot: Shot, frame: int, mattes: "_Mattes", samples: int, space: str) -> list[tuple[Placement | Fill, lay.Laid]]:
        """What is laid on the picture, in its order; a shadow comes before what casts it, as a placement that covers what is beneath it."""
        found: list[tuple[Placement | Fill, lay.Laid]] = []
        for item in shot.items:
            track = shot.track(item.on)
            if not item.visible or track is None or not track.visible:
                continue
            if isinstance(item, Fill):
                filled = _filled(item, mattes, space)
                if filled is not None:
                    found.append((item, filled))
            elif isinstance(item, Patch):
                patched = patch_on(shot, track, item, frame, mattes.size, self.patches, samples, space, mattes.reduced, mattes.plate)
                if patched is not None:
                    found.append((item.placement, mattes.through(item.placement, patched)))
            elif isinstance(item, Placement):
                try:
                    made = graphic_on(shot, track, item, frame, mattes.size, self.artwork, samples, space, mattes.reduced)
                except (ValueError, np.linalg.LinAlgError):  # folded so that it has no picture here
                    continue
                if made.beneath is not None:
                    found.append((item.but(blend="normal", match=NO_MATCH), mattes.through(item, made.beneath)))
                if made.over is not None:
                    found.append((item, mattes.through(item, made.over)))
        return found


def _grained(grain: GrainMatch, laid: lay.Laid, item: Placement | Fill, frame: int, reduced: int) -> Callable[[np.ndarray, int], np.ndarray]:
    """What gives the grain of rows of a graphic; a mode that keeps what is beneath keeps its grain as well."""
    share = np.float32(item.opacity) if item.blend == "normal" else np.float32(0)
    fainter = grain.but(size=grain.size / reduced, strength=grain.strength / reduced)
    noise = matching.noise_for(fainter, laid.left, laid.top, laid.pixels.shape[:2], (zlib.crc32(item.id.encode()), frame))

    def rows(colours: np.ndarray, top: int) -> np.ndarray:
        own = slice(top, top + len(colours))
        return matching.grain_for(fainter, colours, laid.pixels[own, :, 3:] * share, noise[own])

    return rows


def _track_shows(shot: Shot, ident: str) -> bool:
    track = shot.track(ident)
    return track is not None and track.visible


def _grade(out: np.ndarray, grade: Grade, alpha: np.ndarray | None, light: Light, reduced: int) -> None:
    """Grade a picture (h, w, channels) in place, inside an alpha (h, w), or all of it; what the alpha does not touch stays as it is, bit for bit."""
    low, high = np.zeros(2, int), np.array(out.shape[:2])
    if alpha is not None:
        rows, columns = (np.flatnonzero(alpha.any(axis)) for axis in (1, 0))
        if not len(rows):
            return
        low, high = np.array([rows[0], columns[0]]), np.array([rows[-1], columns[-1]]) + 1
    reach = int(np.ceil(3 * grade.blur / reduced)) if grade.blur else 0  # of the blur beyond what is graded
    first, last = np.maximum(low - reach, 0), np.minimum(high + reach, out.shape[:2])
    before = converted(to_float(out[first[0]:last[0], first[1]:last[1], :3]), light.plate, light.mixed)
    after = graded(before, grade.exposure, grade.slope, grade.offset, grade.power, grade.saturation, grade.blur / reduced)
    inner = (slice(low[0] - first[0], high[0] - first[0]), slice(low[1] - first[1], high[1] - first[1]))
    share = np.float32(grade.opacity) * (alpha[low[0]:high[0], low[1]:high[1], None] if alpha is not None else np.float32(1))
    mixed = converted(np.ascontiguousarray(before[inner] + share * (after[inner] - before[inner])), light.mixed, light.plate)
    part = out[low[0]:high[0], low[1]:high[1], :3]
    part[...] = np.where(share > 0, from_float(mixed, out.dtype), part)


class _Mattes:
    """A shot's mattes on a frame, for a picture of `size` that is `reduced` times as small as the real one; each is made once.

    Parameters
    ----------
    plate : the frame's picture, where it is at hand, for mattes that look at it.
    """

    def __init__(self, shot: Shot, frame: int, size: tuple[int, int], reduced: int = 1, plate: np.ndarray | None = None) -> None:
        self.shot, self.frame, self.size, self.reduced = shot, frame, size, reduced
        self.plate = plate
        self._made: dict[str, np.ndarray] = {}

    def alpha(self, matte: Matte) -> np.ndarray:
        """(h, w) float32, 0..1."""
        if matte.id not in self._made:
            whole = self.size
            if self.reduced > 1:
                whole = self.shot.plate.size if self.shot.plate is not None else (self.size[0] * self.reduced, self.size[1] * self.reduced)
            alpha = matte_alpha(self.shot, matte, self.frame, whole, picture=self._picture if self.plate is not None and self.reduced == 1 else None)
            self._made[matte.id] = alpha if whole == self.size else np.asarray(cv2.resize(alpha, self.size, interpolation=cv2.INTER_AREA))
        return self._made[matte.id]

    def inside(self, idents: Sequence[str]) -> np.ndarray | None:
        """(h, w) float32 of what mattes cover together; None where there is none of them."""
        there = self._there(idents)
        if not there:
            return None
        total = np.zeros(self.size[::-1], np.float32)
        for matte in there:
            alpha = self.alpha(matte)
            total += alpha - total * alpha
        return total

    def through(self, item: Placement | Fill, laid: lay.Laid) -> lay.Laid:
        """A graphic with what its mattes hold back, or leave out, taken away."""
        named = [(m, True) for m in self._there(item.held_back)] + [(m, False) for m in self._there(item.limited_to)]
        if not named:
            return laid
        h, w = laid.pixels.shape[:2]
        share = np.ones((h, w), np.float32)
        for matte, back in named:
            part = self.alpha(matte)[laid.top:laid.top + h, laid.left:laid.left + w]
            share *= 1 - part if back else part
        return lay.Laid(laid.left, laid.top, laid.pixels * share[..., None])

    def _there(self, idents: Sequence[str]) -> list[Matte]:
        return [m for ident in idents if (m := self.shot.item(ident, Matte)) is not None and m.visible]

    def _picture(self) -> np.ndarray:
        assert self.plate is not None
        return coded(self.plate, self.shot.plate.colour if self.shot.plate is not None else "")


def _filled(fill: Fill, mattes: _Mattes, space: str) -> lay.Laid | None:
    """A fill as a graphic, its glow round it; None where it fills nothing."""
    alpha = mattes.inside(fill.limited_to)
    if alpha is None or not alpha.any():
        return None
    if fill.glow and fill.glow_strength:
        dark = 1 - alpha
        for wide in fill.glow:
            if wide > 0.1:
                dark = dark * (1 - np.float32(fill.glow_strength) * cv2.GaussianBlur(alpha, (0, 0), wide / mattes.reduced))
        alpha = 1 - dark
    rows, columns = (np.flatnonzero((alpha > _FAINTEST).any(axis)) for axis in (1, 0))
    if not len(rows):
        return None
    part = alpha[rows[0]:rows[-1] + 1, columns[0]:columns[-1] + 1, None]
    colour = converted(np.array(fill.colour, np.float32).reshape(1, 1, 3), CODED, space)
    pixels = np.concatenate([part * colour, part], axis=-1).astype(np.float32)
    held = fill.but(limited_to=()) if fill.limited_to else fill  # what limits it is in its alpha already
    return mattes.through(held, lay.Laid(int(columns[0]), int(rows[0]), pixels))
