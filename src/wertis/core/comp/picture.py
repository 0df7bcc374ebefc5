"""A frame of the comp: the plate with every visible placement on it, or the graphics alone."""

import zlib
from collections import OrderedDict
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import NamedTuple

import cv2
import numpy as np

from wertis.core.comp import artwork as art
from wertis.core.comp import blend, lay, matching, text
from wertis.core.comp.fit import artwork_rectangle
from wertis.core.comp.grade import graded
from wertis.core.comp.light import Light, light_of
from wertis.core.geometry import homography, quad
from wertis.core.geometry.motion import between
from wertis.core.geometry.warp import BentSquareWarp, HomographyWarp, Warp, compose, scaling
from wertis.core.imaging.parallel import side_by_side
from wertis.core.plate.base import from_float, to_float
from wertis.core.plate.colour import CODED, LINEAR, converted
from wertis.core.shot.document import Artwork, Placement, Shot, Track
from wertis.core.shot.fills import Fill
from wertis.core.shot.grades import Grade
from wertis.core.shot.match import GrainMatch
from wertis.core.shot.matte_alpha import matte_alpha
from wertis.core.shot.mattes import Matte
from wertis.core.shot.plate_pictures import coded
from wertis.core.shot.resolve import motion_of


class Proportions(NamedTuple):
    """A surface's width over height, and how it is known."""

    ratio: float
    source: str  # "given", "perspective", or "flat": the view is too flat to tell, sides as seen


def surface_proportions(placement: Placement, size: tuple[int, int], aspect: float = 1.0) -> Proportions:
    """The true proportions of what a placement outlines on the surface; `aspect` is a pixel's width over its height."""
    if placement.ratio is not None:
        return Proportions(placement.ratio, "given")
    found, _ = quad.proportions(placement.array, size, aspect)
    if found is not None and 0.02 < found < 50:
        return Proportions(found, "perspective")
    return Proportions(quad.side_proportions(placement.array * [aspect, 1.0]), "flat")


_MOST_KEPT = 8  # pictures of artwork, with their reductions
_SPREAD = np.array([[u, v] for u in (0.0, 0.5, 1.0) for v in (0.0, 0.5, 1.0)])  # places of a placement whose travel counts for its blur
_BLURRED = 4  # samples of a shutter from which each needs no finer sampling of its own
_FAINTEST = 1e-4  # alpha of a glow, beyond which there is none
_BAND = 96  # rows that are mixed at a time; bands are shared out among threads
_MIXERS = ThreadPoolExecutor(2, thread_name_prefix="wertis-mix")


def _mix(part: np.ndarray, graphic: np.ndarray, item: Placement | Fill, light: Light,
         grain: Callable[[np.ndarray, int], np.ndarray] | None = None) -> None:
    """Put a graphic (h, w, 4) over a part (h, w, channels) of a picture, in place; what it does not touch stays as it is, bit for bit.

    `grain` gives what is added to rows (n, w, 3) of the mixture, in the plate's numbers, from a row on.
    """

    def rows(top: int) -> None:
        back, over = part[top:top + _BAND], graphic[top:top + _BAND]
        mixed = blend.over(converted(to_float(back), light.plate, light.mixed), over, item.blend, item.opacity)
        mixed = converted(mixed, light.mixed, light.plate)
        if grain is not None:
            mixed = np.concatenate([mixed[..., :3] + grain(mixed[..., :3], top), mixed[..., 3:]], axis=-1)
        back[...] = np.where(over[..., 3:] > 0, from_float(mixed, part.dtype), back)

    list(_MIXERS.map(rows, range(0, len(part), _BAND)))


class Compositor:
    """Makes comp frames of shots; keeps artwork and its reductions between frames.

    It knows a motion only by where a placement is on a frame.
    """

    def __init__(self) -> None:
        self._files: dict[tuple[str, str], art.FileArtwork] = {}
        self._made: OrderedDict[object, lay.Reductions] = OrderedDict()

    def artwork_ratio(self, artwork: Artwork, surface_ratio: float) -> float:
        """Width / height of a placement's artwork; made artwork takes the surface's own.

        Raises
        ------
        PlateError
            When the file cannot be read.
        """
        if artwork.kind == "text":
            return text.text_ratio(artwork.text, artwork.font, artwork.leading, artwork.outline)
        if artwork.kind not in ("picture", "sequence"):
            return surface_ratio
        return self._file(artwork).ratio

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
        laid_on = {x.id: (x, laid) for x, laid in self._laid(shot, frame, mattes, samples, light.mixed)}
        for item in shot.items:
            grade = item if isinstance(item, Grade) and item.visible and _track_shows(shot, item.on) else None
            if item.id not in laid_on and grade is None:
                continue
            if out is plate:
                out = plate.copy() if plate.shape[2] > 2 else np.repeat(plate[..., :1], 3, 2)
            if grade is not None:
                _grade(out, grade, mattes.inside(grade.limited_to), light, reduced)
            else:
                laid_item, laid = laid_on[item.id]
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

    def _laid(self, shot: Shot, frame: int, mattes: "_Mattes", samples: int, space: str) -> list[tuple[Placement | Fill, lay.Laid]]:
        found: list[tuple[Placement | Fill, lay.Laid]] = []
        for item in shot.items:
            track = shot.track(item.on)
            if not item.visible or track is None or not track.visible:
                continue
            if isinstance(item, Fill):
                filled = _filled(item, mattes, space)
                if filled is not None:
                    found.append((item, filled))
            elif isinstance(item, Placement):
                try:
                    laid = self._laid_one(shot, track, item, frame, mattes.size, samples, space, mattes.reduced, mattes.plate)
                except (ValueError, np.linalg.LinAlgError):  # folded so that it has no picture here
                    continue
                if laid is not None:
                    found.append((item, mattes.through(item, laid)))
        return found

    def _laid_one(self, shot: Shot, track: Track, placement: Placement, frame: int, size: tuple[int, int], samples: int, space: str, reduced: int,
                  plate: np.ndarray | None = None) -> lay.Laid | None:
        """A placement on a frame, matched to the plate; `plate` (h, w, channels) is the frame's picture, where its structure is to show through."""
        match = placement.match

        def corners(time: float) -> np.ndarray | None:
            warp = surface_warp(track, placement, time)
            return warp.forward(_SPREAD) if warp is not None else None

        times = matching.shutter_times(match, frame, corners)
        each = samples if len(times) < _BLURRED else 1

        def at(time: float) -> lay.Laid | None:
            return self._laid_at(shot, track, placement, time, frame, size, each, space, reduced)

        # the first by itself, so that the artwork is read once
        made = [at(times[0]), *(side_by_side(at, times[1:]) if len(times) > 1 else ())]
        parts = [part for part in made if part is not None]
        if not parts:
            return None
        laid = matching.softened(matching.levelled(matching.mean_of(parts, len(times)), match), match.softness_at(frame) / reduced, size)
        surface = surface_warp(track, placement, frame)
        if match.light is not None and surface is not None:
            laid = matching.lit(laid, match.light.at(frame), compose(scaling(1 / reduced), surface), space)
        if match.texture and plate is not None:
            own = light_of(shot, plate.dtype).plate
            laid = matching.textured(laid, converted(to_float(plate[..., :3]), own, LINEAR), match, space)
        return laid

    def _laid_at(self, shot: Shot, track: Track, placement: Placement, time: float, frame: int, size: tuple[int, int], samples: int, space: str,
                 reduced: int) -> lay.Laid | None:
        surface = surface_warp(track, placement, time)
        if surface is None:
            return None
        ratio = surface_proportions(placement, *((shot.plate.size, shot.plate.aspect) if shot.plate else (size,))).ratio
        low, high = artwork_rectangle(ratio, self.artwork_ratio(placement.artwork, ratio), placement.fit)
        onto_square = HomographyWarp(np.array([[high[0] - low[0], 0, low[0]], [0, high[1] - low[1], low[1]], [0, 0, 1.0]]))
        whole = compose(scaling(1 / reduced), surface)
        # a bend begins from the placement's own square, beyond which nothing lies
        window = onto_square.inverse(np.array([[0.0, 0.0], [1.0, 1.0]])) if placement.fit == "fill" or placement.is_bent else None
        return lay.lay(self._picture(placement.artwork, ratio, frame, space), compose(whole, onto_square), size, samples, window)

    def _picture(self, artwork: Artwork, ratio: float, frame: int, space: str) -> lay.Reductions:
        """Artwork for a frame, its colours in a colour space."""
        if artwork.kind in ("grid", "checker"):
            make = art.grid if artwork.kind == "grid" else art.checker
            return self._kept((artwork.kind, round(ratio, 3), artwork.cells, space), lambda: converted(make(ratio, artwork.cells), CODED, space))
        if artwork.kind == "text":
            look = artwork.text, artwork.font, artwork.colour, artwork.align, artwork.leading, artwork.outline, artwork.outline_colour
            return self._kept(("text", *look, space), lambda: converted(text.text(*look), CODED, space))
        if artwork.kind == "solid":
            return self._kept(("solid", artwork.colour, space), lambda: converted(text.solid(artwork.colour), CODED, space))
        if artwork.kind == "gradient":
            key = artwork.colour, artwork.second, artwork.angle, round(ratio, 3)
            return self._kept(("gradient", *key, space), lambda: converted(text.gradient(*key), CODED, space))
        file = self._file(artwork)
        index = file.index(frame, artwork.start, artwork.loop)
        return self._kept((artwork.kind, artwork.path, index, space), lambda: converted(*file.read(index), space))

    def _kept(self, key: object, make: Callable[[], np.ndarray]) -> lay.Reductions:
        """A picture by what it is; the ones used last are kept."""
        found = self._made.get(key)
        if found is None:
            found = self._made[key] = lay.Reductions(make())
            while len(self._made) > _MOST_KEPT:
                self._made.popitem(last=False)
        else:
            self._made.move_to_end(key)
        return found

    def _file(self, artwork: Artwork) -> art.FileArtwork:
        key = (artwork.kind, artwork.path)
        if key not in self._files:
            self._files[key] = art.FileArtwork(Path(artwork.path), still=artwork.kind == "picture")
        return self._files[key]


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


def surface_warp(track: Track, placement: Placement, time: float) -> Warp | None:
    """The placement's unit square, bent sides and all, to a time's picture; None where the motion is unknown."""
    square: Warp = HomographyWarp(homography.from_unit_square(placement.array))
    if placement.is_bent:
        square = compose(square, BentSquareWarp(placement.bend.at(time)))
    if time == placement.frame:
        return square
    motion = motion_of(track)
    moved = between(motion, placement.frame, time) if motion is not None else None
    return None if moved is None else compose(moved, square)
