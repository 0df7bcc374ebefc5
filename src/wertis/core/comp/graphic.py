"""One placement on a frame: its artwork through the surface's warp, over the shutter's opening, matched to the plate, and what it casts on the surface."""

from typing import NamedTuple

import cv2
import numpy as np

from wertis.core.comp import lay, matching, shadow
from wertis.core.comp.artwork_pictures import ArtworkPictures
from wertis.core.comp.fit import artwork_rectangle
from wertis.core.comp.light import light_of
from wertis.core.comp.patch_pictures import PatchPictures
from wertis.core.geometry.motion import between
from wertis.core.geometry.warp import BentSquareWarp, HomographyWarp, Warp, compose, scaling
from wertis.core.imaging.parallel import side_by_side
from wertis.core.paint.membrane import membrane
from wertis.core.plate.base import to_float
from wertis.core.plate.colour import converted
from wertis.core.shot.document import Placement, Shot, Track
from wertis.core.shot.patches import Patch
from wertis.core.shot.placing import proportions_in
from wertis.core.shot.resolve import motion_of

_SPREAD = np.array([[u, v] for u in (0.0, 0.5, 1.0) for v in (0.0, 0.5, 1.0)])  # places of a placement whose travel counts for its blur
_BLURRED = 4  # samples of a shutter from which each needs no finer sampling of its own
_SOFT = 0.7  # pixels, standard deviation of softness, from which it needs none either
_UNIT = np.array([[0.0, 0.0], [1.0, 1.0]])
_EDGE = 0.05, 0.95  # alpha between which a patch's edge is, where it is to meet the plate
_EDGE_MEAN = 4.0  # pixels, standard deviation, over which the difference there is averaged
_WHOLE = 0.9  # of the artwork's area: if what is not transparent is smaller, only that is laid


class Graphic(NamedTuple):
    """What is laid on a picture for a placement.

    Attributes
    ----------
    over : the artwork; None where nothing of it is in the picture.
    beneath : its shadow and thickness, which lie under it; None where there is none.
    """

    over: lay.Laid | None
    beneath: lay.Laid | None


class _Sources(NamedTuple):
    """Pictures of a placement, each with the rectangle (2, 2) of its unit square that it covers; `tiles` are of the first."""

    artwork: shadow.Cast
    beneath: shadow.Cast | None
    inside: shadow.Cast | None


def graphic_on(shot: Shot, track: Track, placement: Placement, frame: int, size: tuple[int, int], pictures: ArtworkPictures, samples: int, space: str,
               reduced: int = 1) -> Graphic:
    """A placement on a frame.

    Parameters
    ----------
    size : width, height of the picture, which is `reduced` times as small as the real one.
    samples : sampling per pixel and direction.
    space : colour space in which it is laid.

    Raises
    ------
    PlateError
        When its artwork cannot be read.
    """
    sources = _sources(shot, placement, frame, pictures, space)
    return _made(shot, track, placement, frame, size, sources, samples, space, reduced)


def patch_on(shot: Shot, track: Track, patch: Patch, frame: int, size: tuple[int, int], pictures: PatchPictures, samples: int, space: str,
             reduced: int = 1, plate: np.ndarray | None = None) -> lay.Laid | None:
    """A patch on a frame, as `graphic_on`; None where nothing of it is in the picture, or it does not show.

    `plate` (h, w, channels) is the frame's picture, which its edge may have to meet.

    Softness and the shutter's blur are what comes on top of the flat picture's own.
    """
    share = patch.share(frame)
    if not share:
        return None
    placement = patch.placement
    if placement.match.shutter:
        placement = placement.but(match=placement.match.but(shutter=placement.match.shutter * _more_blur(track, placement, frame)))
    sources = _Sources(shadow.Cast(pictures.picture(shot, patch, frame, space), _UNIT), None, None)
    over = _made(shot, track, placement, frame, size, sources, samples, space, reduced, sharp=True).over
    if over is None:
        return None
    if patch.seam and plate is not None:
        over = _met(over, converted(to_float(plate[..., :3]), light_of(shot, plate.dtype).plate, space))
    return over if share == 1 else lay.Laid(over.left, over.top, over.pixels * np.float32(share))


def _more_blur(track: Track, placement: Placement, frame: int) -> float:
    """The share of the shutter's opening by which a frame is blurred more than the one a patch was taken out of: squares of blurs add up."""
    travel = []
    for at in (placement.frame, frame):
        ends = [surface_warp(track, placement, at + d) for d in (-0.5, 0.5)]
        moved = [w.forward(_SPREAD) for w in ends if w is not None]
        travel.append(float(np.linalg.norm(moved[1] - moved[0], axis=1).mean()) if len(moved) == 2 else 0.0)
    return float(np.sqrt(max(0.0, 1 - (travel[0] / travel[1]) ** 2))) if travel[1] > 1e-6 else 0.0


def _met(laid: lay.Laid, plate: np.ndarray) -> lay.Laid:
    """A patch whose colours are changed by a membrane so that they meet the plate's (H, W, 3) at its edge."""
    h, w = laid.pixels.shape[:2]
    alpha = laid.pixels[..., 3]
    beneath = plate[laid.top:laid.top + h, laid.left:laid.left + w]
    colour = laid.pixels[..., :3] / np.maximum(alpha, np.float32(1e-6))[..., None]
    edge = (alpha > _EDGE[0]) & (alpha < _EDGE[1])
    inside = alpha >= _EDGE[1]
    if not edge.any() or not inside.any():
        return laid
    difference = np.where(edge[..., None], beneath - colour, 0)
    # beyond the edge as at the edge, so that the membrane meets its mean and not its noise
    weight = cv2.GaussianBlur(edge.astype(np.float32), (0, 0), _EDGE_MEAN)[..., None]
    calm = cv2.GaussianBlur(difference, (0, 0), _EDGE_MEAN) / np.maximum(weight, 1e-3)
    change = membrane(np.where(inside[..., None], 0, calm).astype(np.float32), inside)
    return lay.Laid(laid.left, laid.top, np.dstack([(colour + change) * alpha[..., None], alpha]).astype(np.float32))


def _made(shot: Shot, track: Track, placement: Placement, frame: int, size: tuple[int, int], sources: "_Sources", samples: int, space: str, reduced: int,
          sharp: bool = False) -> Graphic:
    """Sources through the surface's warp over the shutter's opening, matched to the plate."""
    match = placement.match

    def corners(time: float) -> np.ndarray | None:
        warp = surface_warp(track, placement, time)
        return warp.forward(_SPREAD) if warp is not None else None

    times = matching.shutter_times(match, frame, corners)
    each = samples if len(times) < _BLURRED and match.softness_at(frame) < _SOFT * reduced else 1

    def at(time: float) -> Graphic:
        surface = surface_warp(track, placement, time)
        if surface is None:
            return Graphic(None, None)
        whole = compose(scaling(1 / reduced), surface)
        return Graphic(_artwork_laid(placement, sources, whole, size, each, sharp), _laid(sources.beneath, whole, size, each))

    made = [at(times[0])] if len(times) == 1 else side_by_side(at, times)
    over, beneath = (_matched(shot, track, placement, frame, parts, size, space, reduced) for parts in ([g.over for g in made], [g.beneath for g in made]))
    return Graphic(over, beneath)


def surface_warp(track: Track, placement: Placement, time: float) -> Warp | None:
    """The placement's unit square, bent sides and all, to a time's picture; None where the motion is unknown."""
    square: Warp = HomographyWarp(placement.square_at(time))
    if placement.is_bent:
        square = compose(square, BentSquareWarp(placement.bend.at(time)))
    if time == placement.frame:
        return square
    motion = motion_of(track)
    moved = between(motion, placement.frame, time) if motion is not None else None
    return None if moved is None else compose(moved, square)


def _sources(shot: Shot, placement: Placement, frame: int, pictures: ArtworkPictures, space: str) -> _Sources:
    ratio = proportions_in(shot, placement)
    across, down = placement.tiles
    of_one = ratio * down / across  # width over height of the room that one repeat has
    artwork = placement.artwork
    picture = pictures.picture(artwork, of_one, frame, space)
    shown = pictures.ratio(artwork, of_one)
    rectangle = artwork_rectangle(of_one, shown, placement.fit, _own_height(placement, picture, of_one) if placement.fit == "own" else 1.0)
    if placement.is_tiled:
        rectangle = _UNIT  # repeats touch
    return _Sources(shadow.Cast(picture, rectangle), shadow.beneath(placement, ratio, picture, rectangle, space),
                    shadow.inside(placement, ratio, picture, rectangle, space))


def _own_height(placement: Placement, picture: lay.Reductions, ratio: float) -> float:
    """The height of artwork at its own size over that of a placement, by the size of the placement's middle on its own frame."""
    (across, down) = np.linalg.norm(HomographyWarp(placement.square_at(placement.frame)).jacobian(np.array([[0.5, 0.5]]))[0], axis=0)
    return picture.size[1] / placement.density / float(np.sqrt(across * down / ratio))


def _artwork_laid(placement: Placement, sources: _Sources, whole: Warp, size: tuple[int, int], samples: int, sharp: bool) -> lay.Laid | None:
    picture, (low, high) = sources.artwork
    extent = (high - low) / placement.tiles
    onto_square = HomographyWarp(np.array([[extent[0], 0, low[0]], [0, extent[1], low[1]], [0, 0, 1.0]]))
    window = onto_square.inverse(_UNIT)  # of the placement, in the artwork's own unit square
    if not placement.is_tiled:
        window = np.clip(window, 0, 1) if placement.fit in ("fill", "own") or placement.is_bent else _UNIT
        bounds = picture.bounds
        if np.prod(bounds[1] - bounds[0]) < _WHOLE:
            window = np.array([np.maximum(window[0], bounds[0]), np.minimum(window[1], bounds[1])])
    laid = lay.lay(picture, compose(whole, onto_square), size, samples, window, placement.is_tiled, sharp)
    shade = _laid(sources.inside, whole, size, samples) if laid is not None else None
    if laid is not None and shade is not None:
        _darken(laid, shade)
    return laid


def _darken(laid: lay.Laid, shade: lay.Laid) -> None:
    """Lay a shade on a graphic, in place, as far as the graphic covers."""
    x0, y0 = max(laid.left, shade.left), max(laid.top, shade.top)
    x1 = min(laid.left + laid.pixels.shape[1], shade.left + shade.pixels.shape[1])
    y1 = min(laid.top + laid.pixels.shape[0], shade.top + shade.pixels.shape[0])
    if x1 > x0 and y1 > y0:
        own = laid.pixels[y0 - laid.top:y1 - laid.top, x0 - laid.left:x1 - laid.left]
        over = shade.pixels[y0 - shade.top:y1 - shade.top, x0 - shade.left:x1 - shade.left]
        own[..., :3] += over[..., :3] * own[..., 3:] - own[..., :3] * over[..., 3:]


def _laid(cast: shadow.Cast | None, whole: Warp, size: tuple[int, int], samples: int) -> lay.Laid | None:
    if cast is None:
        return None
    low, high = cast.rectangle
    onto_square = HomographyWarp(np.array([[high[0] - low[0], 0, low[0]], [0, high[1] - low[1], low[1]], [0, 0, 1.0]]))
    return lay.lay(cast.picture, compose(whole, onto_square), size, samples)


def _matched(shot: Shot, track: Track, placement: Placement, frame: int, parts: list[lay.Laid | None], size: tuple[int, int], space: str,
             reduced: int) -> lay.Laid | None:
    """The mean over the shutter's opening, with levels, softness and light."""
    there = [part for part in parts if part is not None]
    if not there:
        return None
    match = placement.match
    laid = matching.softened(matching.levelled(matching.mean_of(there, len(parts)), match), match.softness_at(frame) / reduced, size)
    surface = surface_warp(track, placement, frame) if match.light is not None else None
    if match.light is not None and surface is not None:
        laid = matching.lit(laid, match.light.at(frame), match.light.local_at(frame), compose(scaling(1 / reduced), surface), space)
    return laid
