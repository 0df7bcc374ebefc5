"""Measuring in a plate what a graphic on a tracked surface needs to look like it: softness, shutter, light and grain."""

from collections.abc import Iterator, Sequence
from typing import NamedTuple

import cv2
import numpy as np

from wertis.core.comp.graphic import surface_warp
from wertis.core.comp.light import light_of
from wertis.core.errors import PlateError, RegionError
from wertis.core.geometry.quad import UNIT_SQUARE
from wertis.core.imaging.softness import edge_softness
from wertis.core.jobs.events import Counter, Event, Stop, stopped
from wertis.core.jobs.light_change import light_change, light_match
from wertis.core.jobs.plate_grain import as_match, measured_grain
from wertis.core.jobs.shutter import measured_shutter
from wertis.core.plate.base import Plate, Reader, rgb_of, to_float
from wertis.core.plate.colour import converted
from wertis.core.shot import edits, regions
from wertis.core.shot.document import Item, Placement, Shot, Track
from wertis.core.shot.items import item_of, set_item
from wertis.core.shot.match import GrainMatch, Match
from wertis.core.shot.patches import Patch

PARTS = ("softness", "shutter", "light", "grain")
"""What is measured unless told otherwise."""
MORE_PARTS = ("focus", "levels")
"""What can be measured, too: softness over time, and the plate's black and white."""

_OWN_SOFTNESS = 0.42  # pixels, standard deviation, of a sharp graphic as it is laid: the pixels' square, and between the samples
_FOCUS_FRAMES = 25
_MOVING = 0.5  # pixels a frame from which edges across the motion are softer by it
_FEWEST_EDGES = 8  # frames and directions that must tell of softness and shutter
_NEAR = 1.6  # times a placement's size, within which the plate's black and white are looked for
_FEWEST_PIXELS = 60  # near a graphic, for its black and white
_ROUNDS = 8  # of reweighting


def placement_of(shot: Shot, ident: str) -> tuple[Track, Placement]:
    """A placement, or a patch as one, and the track that carries it.

    Raises
    ------
    RegionError
        When either is gone.
    """
    item = item_of(shot, ident)
    track = shot.track(item.on)
    placement = item.placement if isinstance(item, Patch) else item
    if not isinstance(placement, Placement) or track is None:
        raise RegionError("That is not a graphic or a patch on a track.")
    return track, placement


def patch_parts(patch: Patch) -> tuple[str, ...]:
    """What is measured for a patch unless told otherwise: it has its own frame's softness, and that frame's grain unless it was averaged away."""
    return ("light", "shutter", "focus", "grain") if patch.base == "clean" else ("light", "shutter", "focus")


def match_placement(shot: Shot, ident: str, plate: Plate, parts: Sequence[str] = PARTS, read: Reader | None = None,
                    stop: Stop | None = None) -> Iterator[Event]:
    """Measure what a placement needs and set it; the last event's item is the shot with it. When a part is done it is the event's item, and the note says
    what was found or why nothing was.

    Parameters
    ----------
    parts : of `PARTS` and `MORE_PARTS`.

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
    measured = _Measured(shot, track, placement, plate, fetch, [])
    for part in parts:
        if stopped(stop):
            return
        note = ""
        if part == "light":
            changes, area, clean = {}, _light_area(shot, track, match), _bare(item_of(shot, ident))
            for frame in range(low, high + 1):
                if stopped(stop):
                    return
                changes[frame] = light_change(shot, track, placement, frame, fetch, kind, area, clean)
                yield count.event(frame, note=f"light on frame {frame}", of=("light", frame))
            light = light_match(changes)
            match = match.but(light=light) if light is not None else match
            note = "light measured" if light is not None else "the surface is too little seen to tell its light"
        else:
            match, note = _MEASURES[part](measured, match)
        yield count.event(None, part, note=note, of=part)
    item = item_of(shot, ident)
    if isinstance(item, Patch):
        match = _on_top(match, item.frame)
    yield Event(None, count.total, count.total, set_item(shot, item.but(match=match)))


def _light_area(shot: Shot, track: Track, match: Match) -> Placement | None:
    """The other item of the track on whose place the light is measured; None for the placement's own, also when the other is gone.

    Raises
    ------
    RegionError
        When that item is on another track.
    """
    if not match.light_from or shot.item(match.light_from) is None:
        return None
    on, area = placement_of(shot, match.light_from)
    if on.id != track.id:
        raise RegionError(f"{area.name} is on {on.name}; light is measured on a graphic or a patch of the same track, {track.name}.")
    return area


def _bare(item: Item) -> np.ndarray | None:
    """The clean plate of a patch that has one."""
    return item.clean.astype(np.float32) if isinstance(item, Patch) and item.base == "clean" and item.clean is not None else None


def _on_top(match: Match, home: int) -> Match:
    """A match of a patch, which has the plate's softness already: what each frame is softer than the one it was taken out of."""
    if not match.focus:
        return match.but(softness=0.0)
    own = match.softness_at(home)
    return match.but(focus={f: float(np.sqrt(max(v ** 2 - own ** 2, 0))) for f, v in match.focus.items()})


class _EdgeFit(NamedTuple):
    """What edges across and down a picture say together: the lens's softness in pixels, and for how long the shutter is open, as a part of a frame;
    None where that is not plain."""

    softness: float
    part: float | None


class _Measured(NamedTuple):
    """What is measured; `edge_fits` keeps what was found with a grain, since softness and shutter both go by it."""

    shot: Shot
    track: Track
    placement: Placement
    plate: Plate
    read: Reader
    edge_fits: list[tuple[GrainMatch | None, _EdgeFit | None]]


def _match_grain(of: _Measured, match: Match) -> tuple[Match, str]:
    grain = measured_grain(of.shot, of.track, of.read)
    if grain is None:
        return match, "no part shows its grain"
    return match.but(grain=as_match(grain)), f"grain of {255 * float(grain.deviations.mean()):.1f} / 255, {grain.size:.1f} px"


def _match_softness(of: _Measured, match: Match) -> tuple[Match, str]:
    still = _stillest(of.shot, of.track, of.placement)
    moves = float(np.linalg.norm(_travel(of, still))) > _MOVING
    fit = _by_edges(of, match.grain) if moves else None
    found = fit.softness if fit is not None and fit.part is not None else None
    if found is None and moves:
        found = measured_softness(of.track, of.placement, still, of.read, match.grain, _across(_travel(of, still)), False)
    if found is None:
        found = measured_softness(of.track, of.placement, still, of.read, match.grain)
    if found is None:
        return match, "the surface has no edge to tell its softness by"
    words = f"edges are {found:.2f} px soft" if found > _OWN_SOFTNESS else "edges are as sharp as pixels are"
    return match.but(softness=_added(found), focus={}), words


def _match_focus(of: _Measured, match: Match) -> tuple[Match, str]:
    low, high = of.shot.range
    found: dict[int, float] = {}
    for frame in sorted({round(f) for f in np.linspace(low, high, min(high - low + 1, _FOCUS_FRAMES))}):
        if surface_warp(of.track, of.placement, frame) is None:
            continue
        try:
            soft = measured_softness(of.track, of.placement, frame, of.read, match.grain, _across(_travel(of, frame)), False)
        except PlateError:
            continue
        if soft is not None:
            found[frame] = soft
    if len(found) < 2:
        return match, "too few frames show edges to tell how the focus changes"
    frames = sorted(found)
    values = np.array([found[f] for f in frames])
    calm = np.array([np.median(values[max(k - 1, 0):k + 2]) for k in range(len(values))])  # one frame off among its neighbours
    focus = {f: _added(float(v)) for f, v in zip(frames, calm, strict=True)}
    return match.but(focus=focus), f"edges are {calm.min():.2f} to {calm.max():.2f} px soft over {len(frames)} frames"


def _match_shutter(of: _Measured, match: Match) -> tuple[Match, str]:
    degrees = measured_shutter(of.shot, of.track, of.plate, of.read)
    if degrees is None:
        fit = _by_edges(of, match.grain)
        degrees = 360 * fit.part if fit is not None and fit.part is not None else None
    if degrees is None:
        return match, "nothing moves fast enough to tell the shutter"
    return match.but(shutter=round(degrees, 1)), f"the shutter is open for {degrees:.0f} degrees"


def _by_edges(of: _Measured, grain: GrainMatch | None) -> _EdgeFit | None:
    """`_fitted_to_edges`, worked out once."""
    for known, fit in of.edge_fits:
        if known is grain:
            return fit
    of.edge_fits.append((grain, _fitted_to_edges(of, grain)))
    return of.edge_fits[-1][1]


def _fitted_to_edges(of: _Measured, grain: GrainMatch | None) -> _EdgeFit | None:
    """Softness and shutter by how soft upright and level edges are on frames that move differently; None where there are too few.

    A smear by a path d has the variance (part d_x)^2 / 12 across upright edges and (part d_y)^2 / 12 across level ones (a box's), on top of the lens's.
    """
    low, high = of.shot.range
    known = [f for f in range(low, high + 1) if surface_warp(of.track, of.placement, f) is not None]
    by_speed = sorted(known, key=lambda f: (float(np.linalg.norm(_travel(of, f))), f))
    chosen = sorted({by_speed[round(k)] for k in np.linspace(0, len(by_speed) - 1, min(len(by_speed), _FOCUS_FRAMES))}) if by_speed else []
    rows: list[tuple[float, float]] = []  # of each: a twelfth of the square of the travel, and the variance
    for frame in chosen:
        travel = _travel(of, frame)
        for axis in (0, 1):
            try:
                soft = measured_softness(of.track, of.placement, frame, of.read, grain, np.eye(2)[axis], False)
            except PlateError:
                continue
            if soft is not None:
                rows.append((float(travel[axis]) ** 2 / 12, soft ** 2))
    if len(rows) < _FEWEST_EDGES:
        return None
    basis, values = np.column_stack([np.ones(len(rows)), [a for a, _ in rows]]), np.array([v for _, v in rows])
    weight = np.ones(len(rows))
    found: np.ndarray = np.zeros(2)
    for _ in range(_ROUNDS):
        found = np.linalg.lstsq(basis * weight[:, None], values * weight, rcond=None)[0]
        off = np.abs(values - basis @ found)
        weight = 1 / np.sqrt(1 + (off / max(2 * float(np.median(off)), 1e-3)) ** 2)
    spread = 1.48 * float(np.median(np.abs(values - basis @ found)))
    error = spread * float(np.sqrt(np.linalg.pinv((basis * weight[:, None]).T @ (basis * weight[:, None]))[1, 1]))
    plain = found[1] > max(4 * error, 0.01) and found[1] < 1.2
    softness = float(found[0] if plain else np.median(values))
    return _EdgeFit(float(np.sqrt(max(softness, 0.01))), float(np.sqrt(found[1])) if plain else None)


def _across(way: np.ndarray) -> np.ndarray | None:
    """(2,) the direction across a motion, in which it does not blur; None where it is as good as none."""
    return np.array([-way[1], way[0]]) if np.linalg.norm(way) > _MOVING else None


def _match_levels(of: _Measured, match: Match) -> tuple[Match, str]:
    """The artwork's black and white as the darkest and the brightest near the placement."""
    surface = surface_warp(of.track, of.placement, of.placement.frame)
    picture = rgb_of(to_float(of.read(of.placement.frame)))
    assert surface is not None  # of its own frame
    corners = surface.forward(UNIT_SQUARE)
    middle = corners.mean(0)
    reach = np.abs(corners - middle).max(0) * _NEAR
    x0, y0 = np.clip(np.floor(middle - reach), 0, None).astype(int)
    x1, y1 = np.ceil(middle + reach).astype(int)
    near = cv2.GaussianBlur(np.ascontiguousarray(picture[y0:y1, x0:x1]), (0, 0), 1.5).reshape(-1, 3)
    if len(near) < _FEWEST_PIXELS:
        return match, "the graphic is not in the picture on its own frame"
    order = np.argsort(near.mean(1))
    count = max(len(near) // 200, 8)
    black, white = near[order[:count]].mean(0), near[order[-count:]].mean(0)
    words = f"black {255 * float(black.mean()):.0f} and white {255 * float(white.mean()):.0f} of 255"
    return with_levels(of.shot, match, black, white, of.read(of.placement.frame).dtype), words


def with_levels(shot: Shot, match: Match, black: np.ndarray, white: np.ndarray, kind: np.dtype) -> Match:
    """A match under which the artwork's black and white come out as two colours (3,) of the plate, in its own numbers.

    Raises
    ------
    RegionError
        When the white is not brighter than the black.
    """
    light = light_of(shot, kind)
    low, high = (converted(np.asarray(c, np.float32).reshape(1, 1, 3), light.plate, light.mixed).reshape(3) for c in (black, white))
    if not (high > low).all():
        raise RegionError("The place picked for white is not brighter than the one for black in every colour; pick a brighter one, or a darker black.")
    return match.but(slope=tuple(float(v) for v in high - low), offset=tuple(float(v) for v in low))


def colour_at(picture: np.ndarray, point: np.ndarray) -> np.ndarray:
    """(3,) the mean colour of five pixels by five round a place (2,) of a picture, in its own numbers from 0 to 1."""
    x, y = np.floor(point).astype(int)
    near = picture[max(y - 2, 0):y + 3, max(x - 2, 0):x + 3]
    if not near.size:
        raise RegionError("That place is not in the picture; pick one inside it.")
    return np.asarray(rgb_of(to_float(near)).mean((0, 1)))


_MEASURES = {"grain": _match_grain, "softness": _match_softness, "focus": _match_focus, "shutter": _match_shutter, "levels": _match_levels}


def _added(found: float) -> float:
    """The blur that brings a graphic, as sharp as it is laid, to a softness."""
    return float(np.sqrt(max(found ** 2 - _OWN_SOFTNESS ** 2, 0)))


def _travel(of: _Measured, frame: int) -> np.ndarray:
    """(2,) pixels by which the middle of a placement moves from half a frame before a frame to half a frame after it."""
    before, after = (surface_warp(of.track, of.placement, frame + d) for d in (-0.5, 0.5))
    if before is None or after is None:
        return np.zeros(2)
    middle = np.array([[0.5, 0.5]])
    return np.asarray(after.forward(middle) - before.forward(middle))[0]


def _stillest(shot: Shot, track: Track, placement: Placement) -> int:
    """The frame on which a placement moves least, so that its edges are soft by the lens alone."""
    places = {f: w.forward(UNIT_SQUARE) for f in range(shot.range[0], shot.range[1] + 1)
              if (w := surface_warp(track, placement, f)) is not None}
    travel = {f: float(np.linalg.norm(places[f + 1] - places[f - 1], axis=1).max()) for f in places if f - 1 in places and f + 1 in places}
    return min(travel, key=lambda f: (travel[f], abs(f - placement.frame))) if travel else placement.frame


def measured_softness(track: Track, placement: Placement, frame: int, read: Reader, grain: GrainMatch | None = None, direction: np.ndarray | None = None,
                      elsewhere: bool = True) -> float | None:
    """How soft the plate's edges are on a placement's surface, in pixels (standard deviation), on a frame.

    Parameters
    ----------
    direction : (2,) only edges whose slope goes that way count.
    elsewhere : where the surface has no edge, the whole picture's count.
    """
    luma = cv2.transform(rgb_of(to_float(read(frame))), np.full((1, 3), 1 / 3))
    deviation = float(np.mean(grain.deviations)) / np.sqrt(3) if grain is not None else 0.004
    surface = surface_warp(track, placement, frame)
    size = (luma.shape[1], luma.shape[0])
    if surface is not None:
        mask = regions.mask_of(track.region, size, None) if frame == track.region.frame else None
        if mask is None:
            mask = np.zeros(size[::-1], np.uint8)
            for outline in (edits.region_on(track, frame), surface.forward(UNIT_SQUARE)):
                if outline is not None and np.isfinite(outline).all():
                    cv2.fillPoly(mask, [np.round(outline).astype(np.int32)], 255)
                    break
        found = edge_softness(luma, mask, deviation, direction)
        if found is not None or not elsewhere:
            return found
    return edge_softness(luma, None, deviation, direction)


def unmatched(shot: Shot, ident: str) -> Shot:
    """The shot with a placement that is not matched to anything."""
    placement_of(shot, ident)
    return set_item(shot, item_of(shot, ident).but(match=Match()))
