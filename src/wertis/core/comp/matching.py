"""A graphic made like the plate that it lies on: blurred by its motion, softened, lit, textured, and grained. Colours are premultiplied floats."""

from collections.abc import Callable

import cv2
import numpy as np

from wertis.core.comp.lay import Laid
from wertis.core.geometry.warp import Warp
from wertis.core.imaging import grain as grains
from wertis.core.plate.colour import LINEAR, converted
from wertis.core.shot.match import GrainMatch, Match

_STEP = 0.7  # pixels that a graphic may move between two samples of a shutter's opening, for no copies to be seen
_LEAST, _MOST = 3, 64  # samples
_STILL = 0.1  # pixels of travel below which there is no blur
_SOFT = 0.05  # pixels, standard deviation, below which there is no softness
_FLOOR = 0.02  # of white in linear light, added to a surface's detail so that its black parts divide by something
_SIDE = 24  # pixels between the places at which light that changes over the surface is worked out


def shutter_times(match: Match, frame: float, corners_at: Callable[[float], np.ndarray | None]) -> list[float]:
    """Times within the shutter's opening, evenly spread, close enough that no copies are seen.

    Parameters
    ----------
    corners_at : gives some points (n, 2) of the graphic in the picture of a time; None where that is not known.
    """
    middle, half = frame + match.centre / 360, match.shutter / 720
    if not half:
        return [frame] if not match.centre else [middle]
    ends = [corners_at(t) for t in (middle - half, middle, middle + half)]
    if any(e is None or not np.isfinite(e).all() for e in ends):
        return [frame]
    a, b, c = (e for e in ends if e is not None)
    travel = float(np.linalg.norm(b - a, axis=1).max() + np.linalg.norm(c - b, axis=1).max())
    if travel < _STILL:
        return [middle]
    count = int(np.clip(np.ceil(travel / _STEP), _LEAST, _MOST))
    return [middle + half * ((k + 0.5) / count * 2 - 1) for k in range(count)]


def mean_of(parts: list[Laid], count: int) -> Laid:
    """The mean of `count` graphics, each in a place of its own, of which `parts` are the ones in the picture; outside itself each is transparent."""
    if count == 1:
        return parts[0]
    left, top = min(p.left for p in parts), min(p.top for p in parts)
    right, bottom = max(p.left + p.pixels.shape[1] for p in parts), max(p.top + p.pixels.shape[0] for p in parts)
    total = np.zeros((bottom - top, right - left, 4), np.float32)
    for p in parts:
        h, w = p.pixels.shape[:2]
        total[p.top - top:p.top - top + h, p.left - left:p.left - left + w] += p.pixels
    return Laid(left, top, total / np.float32(count))


def softened(laid: Laid, deviation: float, size: tuple[int, int]) -> Laid:
    """A graphic through a Gaussian, with room for what it spreads over, within a picture of `size` (width, height)."""
    if deviation < _SOFT:
        return laid
    room = int(np.ceil(4 * deviation)) + 1
    h, w = laid.pixels.shape[:2]
    x0, y0 = max(laid.left - room, 0), max(laid.top - room, 0)
    x1, y1 = min(laid.left + w + room, size[0]), min(laid.top + h + room, size[1])
    padded = cv2.copyMakeBorder(laid.pixels, laid.top - y0, y1 - laid.top - h, laid.left - x0, x1 - laid.left - w, cv2.BORDER_CONSTANT, value=(0, 0, 0, 0))
    return Laid(x0, y0, cv2.GaussianBlur(padded, (0, 0), deviation, borderType=cv2.BORDER_REPLICATE))


def levelled(laid: Laid, match: Match) -> Laid:
    """A graphic with its colours multiplied and something added."""
    if match.slope == (1.0, 1.0, 1.0) and match.offset == (0.0, 0.0, 0.0):
        return laid
    pixels = laid.pixels.copy()
    pixels[..., :3] = pixels[..., :3] * np.array(match.slope, np.float32) + pixels[..., 3:] * np.array(match.offset, np.float32)
    return Laid(laid.left, laid.top, pixels)


def lit(laid: Laid, gains: np.ndarray, surface: Warp, space: str) -> Laid:
    """A graphic under the light of its frame.

    Parameters
    ----------
    gains : (3, 3) as `LightMatch.gains` has them.
    surface : the placement's unit square to the frame's picture.
    space : colour space of the graphic.
    """
    if not np.abs(gains).max() > 1e-6:
        return laid
    return _multiplied(laid, _gain_field(laid, gains, surface), space)


def _gain_field(laid: Laid, gains: np.ndarray, surface: Warp) -> np.ndarray:
    """(h, w, 3), or (1, 1, 3) where it is the same everywhere, what light is multiplied by at a graphic's pixels."""
    if not np.abs(gains[1:]).max() > 1e-6:
        return np.asarray(np.exp(gains[0]), np.float32).reshape(1, 1, 3)
    h, w = laid.pixels.shape[:2]
    across, down = (np.linspace(0, n, max(2, int(np.ceil(n / _SIDE)) + 1)) for n in (w, h))
    x, y = np.meshgrid(across + laid.left, down + laid.top)
    uv = surface.inverse(np.column_stack([x.ravel(), y.ravel()]))
    uv = np.clip(np.nan_to_num(uv, nan=0.5), -0.5, 1.5) - 0.5
    coarse = (gains[0] + uv[:, :1] * gains[1] + uv[:, 1:] * gains[2]).reshape(len(down), len(across), 3).astype(np.float32)
    columns = (np.arange(w, dtype=np.float32) + 0.5) / w * (len(across) - 1)
    rows = (np.arange(h, dtype=np.float32) + 0.5) / h * (len(down) - 1)
    at_x, at_y = np.meshgrid(columns, rows)
    return np.asarray(np.exp(cv2.remap(coarse, at_x, at_y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)))


def textured(laid: Laid, plate: np.ndarray, match: Match, space: str) -> Laid:
    """A graphic with the fine structure of the surface beneath it.

    Parameters
    ----------
    plate : (H, W, 3) the whole picture in linear light.
    """
    if not match.texture:
        return laid
    h, w = laid.pixels.shape[:2]
    room = int(np.ceil(3 * match.coarse)) + 1
    y0, x0 = max(laid.top - room, 0), max(laid.left - room, 0)
    part = np.ascontiguousarray(plate[y0:laid.top + h + room, x0:laid.left + w + room].mean(-1)) + np.float32(_FLOOR)
    fine = cv2.GaussianBlur(part, (0, 0), match.fine) if match.fine > _SOFT else part
    detail = (fine / cv2.GaussianBlur(part, (0, 0), max(match.coarse, 0.3)))[laid.top - y0:laid.top - y0 + h, laid.left - x0:laid.left - x0 + w]
    return _multiplied(laid, np.power(np.clip(detail, 0.05, 20), np.float32(match.texture))[..., None], space)


def _multiplied(laid: Laid, by: np.ndarray, space: str) -> Laid:
    """A graphic with its light multiplied."""
    alpha = laid.pixels[..., 3:]
    straight = laid.pixels[..., :3] / np.maximum(alpha, np.float32(1e-6))
    colour = converted(converted(np.ascontiguousarray(straight), space, LINEAR) * by, LINEAR, space)
    return Laid(laid.left, laid.top, np.concatenate([np.where(alpha > 0, colour * alpha, 0), alpha], axis=-1).astype(np.float32))


def noise_for(match: GrainMatch, left: int, top: int, shape: tuple[int, int], seed: tuple[int, int]) -> np.ndarray:
    """(h, w, 3) noise of deviation 1 for a part of a picture, to which it belongs, so that it does not go with the graphic; the same for a seed."""
    h, w = shape
    return grains.part_of_frame((left, top, left + w, top + h), match.size, seed)


def grain_for(match: GrainMatch, colours: np.ndarray, alpha: np.ndarray, noise: np.ndarray) -> np.ndarray:
    """(h, w, 3) the grain that belongs on a graphic: as strong as it covers, by the brightness of what is seen there.

    Parameters
    ----------
    colours : (h, w, 3) what is seen there, in the plate's own numbers.
    alpha : (h, w, 1) how much the graphic covers.
    noise : (h, w, 3) of deviation 1.
    """
    levels = np.array(match.levels)
    deviation = np.stack([np.interp(colours[..., c], levels, [d[c] for d in match.deviations]) for c in range(3)], axis=-1).astype(np.float32)
    return np.asarray(noise * deviation * alpha * np.float32(match.strength))
