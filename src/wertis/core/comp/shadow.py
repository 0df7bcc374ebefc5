"""What a graphic casts on its surface: shadow and thickness beneath it, and a shadow from its edge onto itself; drawn in the surface's own plane."""

from typing import NamedTuple

import cv2
import numpy as np

from wertis.core.comp.lay import Reductions
from wertis.core.geometry.conventions import homography_to_centred
from wertis.core.matte.coverage import polygon_area
from wertis.core.plate.colour import CODED, converted
from wertis.core.shot.artwork import Ink, Shadow, Thickness
from wertis.core.shot.document import Placement

_HEIGHT = 384  # pixels of the placement's height in which it is drawn: shadows are soft
_MOST = 1 << 20  # pixels
_SOFTEST = 0.7  # pixels, standard deviation, under which an edge has steps


class Cast(NamedTuple):
    """A picture, and the rectangle (2, 2) of the placement's unit square, low and high corner, that it covers."""

    picture: Reductions
    rectangle: np.ndarray


def beneath(placement: Placement, ratio: float, artwork: Reductions, rectangle: np.ndarray, space: str) -> Cast | None:
    """Shadow and thickness of a placement; None where it has neither.

    Parameters
    ----------
    ratio : the placement's width over its height on the surface.
    rectangle : (2, 2) low and high corner in the unit square of one artwork's whole picture.
    space : colour space that is wanted.
    """
    shadow, thickness = placement.shadow, placement.thickness
    if shadow is None and thickness is None:
        return None
    reach = max((s.distance + 3.5 * s.softness for s in (shadow,) if s is not None), default=0.0) + (thickness.depth if thickness is not None else 0.0)
    alpha, low, high, scale = _alpha(placement, ratio, artwork, rectangle, reach / 100 + 0.01)
    out = np.zeros((*alpha.shape, 4), np.float32)
    whole = alpha
    if thickness is not None:
        whole = _drawn_out(alpha, thickness, scale)
    if shadow is not None:
        out = _inked(_moved(whole, shadow, scale) * np.float32(shadow.opacity), shadow.colour, space)
    if thickness is not None:
        edge = _inked(whole, thickness.colour, space)
        out = edge + out * (1 - edge[..., 3:])
    return Cast(Reductions(out), np.array([low, high]))


def inside(placement: Placement, ratio: float, artwork: Reductions, rectangle: np.ndarray, space: str) -> Cast | None:
    """The shadow from a placement's edge onto itself; None where it has none. What it covers of the graphic is its alpha."""
    shadow = placement.inner_shadow
    if shadow is None:
        return None
    alpha, low, high, scale = _alpha(placement, ratio, artwork, rectangle, (shadow.distance + 3.5 * shadow.softness) / 100 + 0.01)
    share = (1 - _moved(alpha, shadow, scale)) * np.float32(shadow.opacity)
    return Cast(Reductions(_inked(share, shadow.colour, space)), np.array([low, high]))


def _alpha(placement: Placement, ratio: float, artwork: Reductions, rectangle: np.ndarray,
           margin: float) -> tuple[np.ndarray, np.ndarray, np.ndarray, float]:
    """The alpha of what a placement shows, drawn on its unit square and `margin` of its height all round.

    Returns
    -------
    (h, w) alpha, low and high corner (2,) in the unit square, and the pixels to the placement's height.
    """
    scale = min(float(_HEIGHT), float(np.sqrt(_MOST / ((ratio + 2 * margin) * (1 + 2 * margin)))))
    w, h = max(2, round((ratio + 2 * margin) * scale)), max(2, round((1 + 2 * margin) * scale))
    low = np.array([-margin / ratio, -margin])
    high = 1 - low
    per_unit = np.array([w, h]) / (high - low)
    size = (rectangle[1] - rectangle[0]) * per_unit / placement.tiles
    halves = [int(np.clip(np.floor(np.log2(max(n / max(s, 1e-6), 1))), 0, 10)) for n, s in zip(artwork.size, size, strict=True)]
    one = artwork.reduced(halves[0], halves[1])[..., 3]
    tiled = placement.is_tiled
    repeats = np.ceil(np.array(placement.tiles)).astype(int) if tiled else (1, 1)
    sheet = np.tile(one, (repeats[1], repeats[0]))
    step = size / [one.shape[1], one.shape[0]]
    start = (rectangle[0] - low) * per_unit
    onto = homography_to_centred(np.array([[step[0], 0, start[0]], [0, step[1], start[1]], [0, 0, 1.0]]))[:2]
    alpha = np.asarray(cv2.warpAffine(sheet, onto, (w, h), flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE))
    shown = rectangle
    if placement.fit in ("fill", "own") or tiled:  # nothing shows beyond the placement itself
        shown = np.array([[0.0, 0.0], [1.0, 1.0]]) if tiled else np.clip(rectangle, 0, 1)
    (x0, y0), (x1, y1) = (shown - low) * per_unit
    alpha = alpha * polygon_area(np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]]), (0, 0, w, h))
    return alpha, low, high, scale


def _direction(angle: float) -> np.ndarray:
    return np.array([np.cos(np.deg2rad(angle)), np.sin(np.deg2rad(angle))])


def _shifted(alpha: np.ndarray, by: np.ndarray) -> np.ndarray:
    matrix = np.array([[1, 0, by[0]], [0, 1, by[1]]])
    return np.asarray(cv2.warpAffine(alpha, matrix, alpha.shape[::-1], flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT, borderValue=0.0))


def _moved(alpha: np.ndarray, shadow: Shadow, scale: float) -> np.ndarray:
    moved = _shifted(alpha, _direction(shadow.angle) * shadow.distance / 100 * scale)
    return np.asarray(cv2.GaussianBlur(moved, (0, 0), max(shadow.softness / 100 * scale, _SOFTEST)))


def _drawn_out(alpha: np.ndarray, thickness: Thickness, scale: float) -> np.ndarray:
    """An alpha and all that it passes over on its way along the thickness's direction."""
    way = _direction(thickness.angle) * thickness.depth / 100 * scale
    out = alpha
    for k in range(1, int(np.ceil(np.hypot(*way))) + 1):
        out = np.maximum(out, _shifted(alpha, way * k / np.ceil(np.hypot(*way))))
    return out


def _inked(alpha: np.ndarray, colour: Ink, space: str) -> np.ndarray:
    ink = converted(np.array(colour, np.float32).reshape(1, 1, 3), CODED, space)
    return np.concatenate([alpha[..., None] * ink, alpha[..., None]], axis=-1).astype(np.float32)
