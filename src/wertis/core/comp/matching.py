"""A graphic made like the plate that it lies on: blurred by its motion, softened, lit, textured, and grained. Colours are premultiplied floats."""

from collections.abc import Callable
from functools import lru_cache

import cv2
import numpy as np

from wertis.core.comp.lay import Laid
from wertis.core.geometry.warp import Warp
from wertis.core.imaging import grain as grains
from wertis.core.imaging.parallel import side_by_side
from wertis.core.plate.colour import LINEAR, convert
from wertis.core.shot.match import GrainMatch, Match

_STEP = 1.7  # times the blur (standard deviation) that comes on top, that a graphic may move between two samples of a shutter's opening: copies that
# far apart and so much blurred differ from a steady smear by 2 exp(-2 (pi / 1.7)^2), 2 in 1000
_OWN = 0.42  # pixels, standard deviation, of a graphic as it is laid
_LEAST, _MOST = 3, 64  # samples
_STILL = 0.1  # pixels of travel below which there is no blur
_SOFT = 0.05  # pixels, standard deviation, below which there is no softness
_BAND = 48  # rows that are worked on at a time; bands are shared out among threads
_TABLE = 2048  # steps of brightness in which grain's deviation is looked up
_FLOOR = 0.02  # of white in linear light, added to a surface's detail so that its black parts divide by something
_DARKEST = 0.01  # of the light, that is left of it at least
_MIRRORED = 1.0  # pixels, standard deviation, through which what is mirrored is seen, so that little grain comes with it
_FAINT = 0.003  # of white in linear light, below which it is taken for none
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
    step = _STEP * float(np.hypot(match.softness_at(frame), _OWN))
    count = int(np.clip(np.ceil(travel / step), _LEAST, _MOST))
    return [middle + half * ((k + 0.5) / count * 2 - 1) for k in range(count)]


def mean_of(parts: list[Laid], count: int) -> Laid:
    """The mean of `count` graphics, each in a place of its own, of which `parts` are the ones in the picture; outside itself each is transparent."""
    if count == 1:
        return parts[0]
    left, top = min(p.left for p in parts), min(p.top for p in parts)
    right, bottom = max(p.left + p.pixels.shape[1] for p in parts), max(p.top + p.pixels.shape[0] for p in parts)
    total = np.zeros((bottom - top, right - left, 4), np.float32)

    def add(rows: slice) -> None:
        for p in parts:
            first, last = max(rows.start, p.top - top), min(rows.stop, p.top - top + p.pixels.shape[0])
            if last > first:
                columns = slice(p.left - left, p.left - left + p.pixels.shape[1])
                total[first:last, columns] += p.pixels[first - p.top + top:last - p.top + top]
        total[rows] *= np.float32(1 / count)

    in_bands(add, bottom - top)
    return Laid(left, top, total)


def in_bands(work: Callable[[slice], object], height: int) -> None:
    """Do something with bands of rows, several at a time; work on each must not depend on the others."""
    side_by_side(work, [slice(k, min(k + _BAND, height)) for k in range(0, height, _BAND)])


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


def lit(laid: Laid, gains: np.ndarray, local: np.ndarray | None, surface: Warp, space: str) -> Laid:
    """A graphic under the light of its frame.

    Parameters
    ----------
    gains : (3, 3) as `LightMatch.gains` has them.
    local : (k, k, 6) what changes besides, as `LightMatch.local_at` gives it; None for nothing.
    surface : the placement's unit square to the frame's picture.
    space : colour space of the graphic.
    """
    if local is None and not np.abs(gains).max() > 1e-6:
        return laid
    if local is None and not np.abs(gains[1:]).max() > 1e-6:
        by = np.asarray(np.exp(gains[0]), np.float32).reshape(1, 1, 3)
        return _multiplied(laid, lambda band: [by], space)
    h, w = laid.pixels.shape[:2]
    across, down = (np.linspace(0, n, max(2, int(np.ceil(n / _SIDE)) + 1)) for n in (w, h))
    x, y = np.meshgrid(across + laid.left, down + laid.top)
    uv = np.clip(np.nan_to_num(surface.inverse(np.column_stack([x.ravel(), y.ravel()])), nan=0.5), -0.5, 1.5)
    coarse = gains[0] + (uv[:, :1] - 0.5) * gains[1] + (uv[:, 1:] - 0.5) * gains[2]
    if local is not None:
        at = (np.clip(uv, 0, 1) * len(local) + 1.5).astype(np.float32)
        padded = np.pad(local, ((2, 2), (2, 2), (0, 0)), "edge")  # OpenCV's cubic interpolation does not hold what is beyond the edge
        besides = np.concatenate([cv2.remap(half, at[:, :1], at[:, 1:], cv2.INTER_CUBIC)[:, 0] for half in (padded[..., :3], padded[..., 3:])], axis=1)
        coarse = np.concatenate([coarse + np.log(np.maximum(1 + besides[:, :3], _DARKEST)), besides[:, 3:]], axis=1)
    shape = len(down), len(across)
    columns, rows = ((np.arange(n, dtype=np.float32) + 0.5) / n * (count - 1) for n, count in ((w, shape[1]), (h, shape[0])))
    parts = [np.ascontiguousarray(part.reshape(*shape, 3), np.float32) for part in (coarse[:, :3], coarse[:, 3:]) if part.size]

    def at_rows(band: slice) -> list[np.ndarray]:
        at_x, at_y = np.meshgrid(columns, rows[band])
        fine = [cv2.remap(part, at_x, at_y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE) for part in parts]
        return [np.exp(fine[0], out=fine[0]), *fine[1:]]

    return _multiplied(laid, at_rows, space)


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
    by = np.power(np.clip(detail, 0.05, 20), np.float32(match.texture))[..., None]
    return _multiplied(laid, lambda band: [by[band]], space)


def reflected(laid: Laid, plate: np.ndarray, ground: Laid, share: float, space: str) -> Laid:
    """A graphic with what is mirrored in the surface laid on it again: what the picture has more than the clean surface.

    Parameters
    ----------
    plate : (H, W, 3) the whole picture in linear light.
    ground : the clean surface in the picture, in linear light, premultiplied.
    share : how much of it.
    """
    h, w = laid.pixels.shape[:2]
    more = np.zeros((h, w, 3), np.float32)
    y0, x0 = max(laid.top, ground.top), max(laid.left, ground.left)
    y1, x1 = min(laid.top + h, ground.top + ground.pixels.shape[0]), min(laid.left + w, ground.left + ground.pixels.shape[1])
    if y1 <= y0 or x1 <= x0:
        return laid
    clean = ground.pixels[y0 - ground.top:y1 - ground.top, x0 - ground.left:x1 - ground.left]
    # less the clean surface as far as it is known
    more[y0 - laid.top:y1 - laid.top, x0 - laid.left:x1 - laid.left] = clean[..., 3:] * plate[y0:y1, x0:x1] - clean[..., :3]
    smooth = np.maximum(cv2.GaussianBlur(more, (0, 0), _MIRRORED) - np.float32(_FAINT), 0) * np.float32(share)
    one = np.ones((1, 1, 3), np.float32)
    return _multiplied(laid, lambda band: [one, smooth[band]], space)


def _multiplied(laid: Laid, light: Callable[[slice], list[np.ndarray]], space: str) -> Laid:
    """A graphic with its light multiplied, and light added: `light` gives for rows what it is multiplied by, (n, w, 3 or 1) or one colour for all, and
    what is added, (n, w, 3), if anything is."""
    out = np.empty_like(laid.pixels)

    def rows(band: slice) -> None:
        part = laid.pixels[band]
        factor, *added = light(band)
        alpha = part[..., 3:]
        out[band, :, 3:] = alpha
        if space == LINEAR:
            lighter = part[..., :3] * factor
            out[band, :, :3] = np.maximum(lighter + added[0] * alpha, 0) if added else lighter
        else:
            straight = np.ascontiguousarray(part[..., :3] / np.maximum(alpha, np.float32(1e-6)))
            convert(straight, space, LINEAR)
            straight *= factor
            if added:
                straight += added[0]
                np.maximum(straight, 0, out=straight)
            convert(straight, LINEAR, space)
            np.multiply(straight, alpha, out=out[band, :, :3])

    in_bands(rows, len(out))
    return Laid(laid.left, laid.top, out)


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
    table, top = _deviations(match.levels, match.deviations)
    codes = (np.clip(colours, 0, np.float32(top)) * np.float32(_TABLE / top)).astype(np.int16)
    deviation = np.stack([table[c][codes[..., c]] for c in range(3)], axis=-1)
    return np.asarray(noise * deviation * (alpha * np.float32(match.strength)))


@lru_cache(maxsize=16)
def _deviations(levels: tuple[float, ...], deviations: tuple[tuple[float, float, float], ...]) -> tuple[np.ndarray, float]:
    """(3, n) deviations by brightness in even steps from 0 to a highest one, which is given, too; beyond it they hold."""
    top = max(levels[-1], 1e-3)
    at = np.arange(_TABLE + 1) * top / _TABLE
    return np.stack([np.interp(at, levels, [d[c] for d in deviations]) for c in range(3)]).astype(np.float32), top
