"""Measuring in a plate what a graphic on a tracked surface needs to look like it: softness, shutter, light and grain."""

from collections.abc import Callable, Iterator, Sequence

import cv2
import numpy as np

from wertis.core.comp.light import light_of
from wertis.core.comp.picture import surface_warp
from wertis.core.errors import PlateError, RegionError
from wertis.core.geometry.conventions import to_centred
from wertis.core.imaging.grain import Grain, measure_grain
from wertis.core.imaging.softness import edge_softness
from wertis.core.jobs.events import Counter, Event, Stop, stopped
from wertis.core.jobs.shutter import measured_shutter
from wertis.core.plate.base import Plate, to_float
from wertis.core.plate.colour import LINEAR, converted
from wertis.core.shot import regions
from wertis.core.shot.document import Placement, Shot, Track
from wertis.core.shot.items import item_of, set_item
from wertis.core.shot.match import GrainMatch, LightMatch, Match

Reader = Callable[[int], np.ndarray]
PARTS = ("softness", "shutter", "light", "grain")
"""What can be measured by itself."""

_OWN_SOFTNESS = 0.42  # pixels, standard deviation, of a sharp graphic as it is laid: the pixels' square, and between the samples
_GRAIN_FRAMES = 6
_GRID = 36  # places across and down a placement at which its light is compared
_DARK, _BRIGHT = 0.004, 0.92  # of white in linear light, between which a place says something of the light
_LEAST_PLACES = 60
_ROUNDS = 8  # of reweighting
_SEEN = 0.35  # share of the places that must agree for a frame's light to count
_AGREE = 0.12  # of the light's logarithm by which places may differ that count as one surface


def placement_of(shot: Shot, ident: str) -> tuple[Track, Placement]:
    """A placement and the track that carries it.

    Raises
    ------
    RegionError
        When either is gone.
    """
    placement = item_of(shot, ident)
    track = shot.track(placement.on)
    if not isinstance(placement, Placement) or track is None:
        raise RegionError("That is not a graphic on a track.")
    return track, placement


def match_placement(shot: Shot, ident: str, plate: Plate, parts: Sequence[str] = PARTS, read: Reader | None = None,
                    stop: Stop | None = None) -> Iterator[Event]:
    """Measure what a placement needs and set it; the last event's item is the shot with it. When a part is done it is the event's item, and the note says
    what was found or why nothing was.

    Parameters
    ----------
    parts : of `PARTS`.

    Raises
    ------
    RegionError
        When the placement is gone or locked.
    PlateError
        When the placement's frame cannot be read.
    """
    track, placement = placement_of(shot, ident)
    fetch, match = read or plate.read, placement.match
    low, high = shot.range
    count = Counter(len(parts) + (high - low + 1) * ("light" in parts))
    kind = fetch(placement.frame).dtype
    for part in parts:
        if stopped(stop):
            return
        note = ""
        if part == "grain":
            grain = measured_grain(shot, plate, fetch)
            match = match.but(grain=as_match(grain)) if grain is not None else match
            note = "no flat part shows its grain"
            if grain is not None:
                note = f"grain of {255 * float(grain.deviations.mean()):.1f} / 255, {grain.size:.1f} px"
        elif part == "softness":
            found = measured_softness(track, placement, _stillest(shot, track, placement), fetch, match.grain)
            match = match.but(softness=float(np.sqrt(max(found ** 2 - _OWN_SOFTNESS ** 2, 0))), focus={}) if found is not None else match
            note = "the surface has no edge to tell its softness by"
            if found is not None:
                note = f"edges are {found:.2f} px soft" if found > _OWN_SOFTNESS else "edges are as sharp as pixels are"
        elif part == "shutter":
            degrees = measured_shutter(shot, track, plate, fetch)
            match = match.but(shutter=round(degrees, 1)) if degrees is not None else match
            note = f"the shutter is open for {degrees:.0f} degrees" if degrees is not None else "nothing moves fast enough to tell the shutter"
        else:
            gains = {}
            for frame in range(low, high + 1):
                if stopped(stop):
                    return
                gains[frame] = light_change(shot, track, placement, frame, fetch, kind)
                yield count.event(frame, note=f"light on frame {frame}", of=("light", frame))
            light = _light(gains)
            match = match.but(light=light) if light is not None else match
            note = "light measured" if light is not None else "the surface is too little seen to tell its light"
        yield count.event(None, part, note=note, of=part)
    yield Event(None, count.total, count.total, set_item(shot, placement.but(match=match)))


def _stillest(shot: Shot, track: Track, placement: Placement) -> int:
    """The frame on which a placement moves least, so that its edges are soft by the lens alone."""
    places = {f: w.forward(np.array([[0.0, 0], [1, 0], [1, 1], [0, 1]])) for f in range(shot.range[0], shot.range[1] + 1)
              if (w := surface_warp(track, placement, f)) is not None}
    travel = {f: float(np.linalg.norm(places[f + 1] - places[f - 1], axis=1).max()) for f in places if f - 1 in places and f + 1 in places}
    return min(travel, key=lambda f: (travel[f], abs(f - placement.frame))) if travel else placement.frame


def measured_grain(shot: Shot, plate: Plate, read: Reader) -> Grain | None:
    """The plate's grain, by some of its frames."""
    low, high = shot.range
    pictures = []
    for frame in sorted({round(f) for f in np.linspace(low, high, _GRAIN_FRAMES)}):
        try:
            pictures.append(_three(to_float(read(frame))))
        except PlateError:
            continue
    return measure_grain(pictures) if pictures else None


def as_match(grain: Grain) -> GrainMatch:
    """Grain as the document keeps it."""
    levels: list[float] = []
    kept: list[tuple[float, ...]] = []
    for level, deviation in zip(grain.levels, grain.deviations, strict=True):
        if not levels or level > levels[-1] + 1e-4:
            levels.append(float(level))
            kept.append(tuple(float(v) for v in deviation))
    return GrainMatch(levels=tuple(levels), deviations=tuple(kept), size=grain.size)  # type: ignore[arg-type]


def measured_softness(track: Track, placement: Placement, frame: int, read: Reader, grain: GrainMatch | None = None) -> float | None:
    """How soft the plate's edges are on a placement's surface, in pixels (standard deviation), on a frame; by the whole picture where it has no edge."""
    luma = _three(to_float(read(frame))).mean(-1)
    deviation = float(np.mean(grain.deviations)) / np.sqrt(3) if grain is not None else 0.004
    surface = surface_warp(track, placement, frame)
    size = (luma.shape[1], luma.shape[0])
    if surface is not None:
        mask = regions.mask_of(track.region, size, None) if frame == track.region.frame else None
        if mask is None:
            mask = np.zeros(size[::-1], np.uint8)
            quad = surface.forward(np.array([[0.0, 0], [1, 0], [1, 1], [0, 1]]))
            if np.isfinite(quad).all():
                cv2.fillConvexPoly(mask, np.round(quad).astype(np.int32), 255)
        found = edge_softness(luma, mask, deviation)
        if found is not None:
            return found
    return edge_softness(luma, None, deviation)


def light_change(shot: Shot, track: Track, placement: Placement, frame: int, read: Reader, kind: np.dtype) -> np.ndarray | None:
    """(3, 3) by what a surface's light is multiplied on a frame beside the placement's own, as `LightMatch.gains` has it; None where that cannot be told.

    Places where something passes in front disagree with the others and count little.
    """
    if frame == placement.frame:
        return np.zeros((3, 3))
    home, there = (surface_warp(track, placement, f) for f in (placement.frame, frame))
    if home is None or there is None:
        return None
    u, v = np.meshgrid(*((np.arange(_GRID) + 0.5) / _GRID,) * 2)
    uv = np.column_stack([u.ravel(), v.ravel()])
    space = light_of(shot, kind).plate
    try:
        before, after = (_at(read(f), warp.forward(uv), space) for f, warp in ((placement.frame, home), (frame, there)))
    except PlateError:
        return None
    sound = ((before > _DARK) & (before < _BRIGHT) & (after > _DARK) & (after < _BRIGHT)).all(1)
    if sound.sum() < _LEAST_PLACES:
        return None
    ratio = np.log(after[sound] / before[sound])
    basis = np.column_stack([np.ones(int(sound.sum())), uv[sound] - 0.5])
    return _robust(basis, ratio)


def _robust(basis: np.ndarray, values: np.ndarray) -> np.ndarray | None:
    """(k, 3) coefficients of a basis (n, k) that most values (n, 3) follow, by iterated weights; None where too few do."""
    level = np.median(values, axis=0)
    weight = 1 / (1 + (np.linalg.norm(values - level, axis=1) / _AGREE) ** 2)
    found = np.zeros((basis.shape[1], values.shape[1]))
    for _ in range(_ROUNDS):
        w = np.sqrt(weight)[:, None]
        # slopes are believed as far as the places say something of them
        ridge = np.diag([0.0] + [0.02 * len(values)] * (basis.shape[1] - 1))
        found = np.linalg.solve((basis * w).T @ (basis * w) + ridge, (basis * w).T @ (values * w))
        weight = 1 / (1 + (np.linalg.norm(values - basis @ found, axis=1) / _AGREE) ** 2) ** 2
    return found if float((weight > 0.25).mean()) >= _SEEN else None


def _light(gains: dict[int, np.ndarray | None]) -> LightMatch | None:
    known = {f: g for f, g in gains.items() if g is not None}
    if len(known) < 2:
        return None
    frames = sorted(known)
    return LightMatch(frames=np.array(frames, np.int64), gains=np.array([known[f] for f in frames], np.float64))


def _at(picture: np.ndarray, points: np.ndarray, space: str) -> np.ndarray:
    """(n, 3) linear light round points of a picture, averaged over a few pixels."""
    colour = _three(to_float(picture))
    low = np.clip(np.floor(points.min(0)) - 8, 0, None).astype(int)
    high = np.ceil(points.max(0)).astype(int) + 9
    part = np.ascontiguousarray(colour[low[1]:max(high[1], low[1] + 1), low[0]:max(high[0], low[0] + 1)])
    if not part.size or not np.isfinite(points).all():
        return np.full((len(points), 3), np.nan)
    smooth = cv2.GaussianBlur(converted(part, space, LINEAR), (0, 0), 2.0)
    at = to_centred(points - low).astype(np.float32)
    return np.asarray(cv2.remap(smooth, at[:, 0], at[:, 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT, borderValue=(0.0,) * 3)).reshape(-1, 3)


def _three(picture: np.ndarray) -> np.ndarray:
    return picture[..., :3] if picture.shape[2] > 2 else picture[..., :1].repeat(3, 2)


def unmatched(shot: Shot, ident: str) -> Shot:
    """The shot with a placement that is not matched to anything."""
    _, placement = placement_of(shot, ident)
    return set_item(shot, placement.but(match=Match()))
