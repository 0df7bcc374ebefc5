"""How the light on a surface changes over a shot, measured on the plate: as a plane over the surface, and place by place besides."""

from typing import NamedTuple

import cv2
import numpy as np
import scipy

from wertis.core.comp.graphic import surface_warp
from wertis.core.comp.light import light_of
from wertis.core.errors import PlateError
from wertis.core.geometry.conventions import to_centred
from wertis.core.geometry.quad import UNIT_SQUARE
from wertis.core.imaging.light_field import PLACES, light_field
from wertis.core.plate.base import Reader, rgb_of, to_float
from wertis.core.plate.colour import LINEAR, converted
from wertis.core.shot.document import Placement, Shot, Track
from wertis.core.shot.match import LightMatch

_GRID = 80  # places across and down a placement at which its light is compared
_DARK, _BRIGHT = 0.004, 0.92  # of white in linear light, between which a place says something of the light
_LEAST_PLACES = 60
_EXPLAINS = (0.25, 0.45)  # share of what an even change leaves that a local one must explain to count at all, and in full
_EVEN = 0.01  # of white, or of the light, that light may differ from place to place and be called even
_SEEN = 0.35  # share of the places that must agree for a frame's light to count
_AGREE = 0.12  # of the light's logarithm by which places may differ that count as one surface
_AVERAGED = 1.2  # pixels of the plate, standard deviation, over which light is averaged at a place
_ROUNDS = 8  # of reweighting


class LightChange(NamedTuple):
    """By what a surface's light changes from the placement's frame to another.

    Attributes
    ----------
    gains : (3, 3) as `LightMatch.gains` has them.
    local : (k, k, 6) what changes besides, as `LightMatch.local` has it.
    explained : share of what an even change leaves unexplained that the local one explains.
    """

    gains: np.ndarray
    local: np.ndarray
    explained: float = 0.0


def light_change(shot: Shot, track: Track, placement: Placement, frame: int, read: Reader, kind: np.dtype,
                 area: Placement | None = None, clean: np.ndarray | None = None) -> LightChange | None:
    """By what a surface's light changes on a frame beside the placement's own; None where that cannot be told.

    Places where something passes in front disagree with the others and count little.

    Parameters
    ----------
    area : another placement of the track, on whose place it is measured; what is found there goes on beyond its edges as it is at them.
    clean : (h, w, 3) the bare surface laid flat, in the plate's own numbers from 0 to 1, where it is known; the plate on the placement's frame otherwise.
    """
    if frame == placement.frame:
        return LightChange(np.zeros((3, 3)), np.zeros((PLACES, PLACES, 6)))
    home, there = (surface_warp(track, area or placement, f) for f in (placement.frame, frame))
    if home is None or there is None:
        return None
    uv = _places(_GRID)
    space = light_of(shot, kind).plate
    try:
        after = _at(read(frame), there.forward(uv), space)
        if clean is not None and area is None:  # on the frame itself something may pass
            high, wide = clean.shape[:2]
            finer = float(np.sqrt(wide * high / max(cv2.contourArea(home.forward(UNIT_SQUARE).astype(np.float32)), 1.0)))
            before = _at(clean, uv * (wide, high), space, finer)
        else:
            before = _at(read(placement.frame), home.forward(uv), space)
    except PlateError:
        return None
    lit = (before > _DARK) & (before < _BRIGHT)
    each = lit & (after > _DARK) & (after < _BRIGHT)
    sound = each.all(1)
    if sound.sum() < _LEAST_PLACES:
        return None
    basis = np.column_stack([np.ones(len(uv)), uv - 0.5])
    gains = _robust(basis[sound], np.log(after[sound] / before[sound]))
    if gains is None:  # so uneven that no plane fits: all of it is local
        gains = np.zeros((3, 3))
        if float(sound.mean()) < _SEEN:
            return None
    square = (_GRID, _GRID, 3)
    evenly = before * np.exp(basis @ gains)
    local = light_field(*(p.reshape(square) for p in (evenly, after, each, lit & (after >= _BRIGHT))))
    there_too = np.concatenate([cv2.resize(half, (_GRID, _GRID)).reshape(-1, 3) for half in (local[..., :3], local[..., 3:])], axis=1)
    rest, left = (float(np.median(np.abs(foretold - after)[each])) for foretold in (evenly, evenly * (1 + there_too[:, :3]) + there_too[:, 3:]))
    change = LightChange(gains, local, 1 - left / rest if rest > 0 else 0.0)
    own = surface_warp(track, placement, placement.frame) if area is not None else None
    return change if own is None else _on_other_place(change, home.inverse(own.forward(_places(PLACES))))


def _places(side: int) -> np.ndarray:
    """(side side, 2) places spread evenly over a unit square, row by row."""
    u, v = np.meshgrid(*((np.arange(side) + 0.5) / side,) * 2)
    return np.column_stack([u.ravel(), v.ravel()])


def _on_other_place(change: LightChange, uv: np.ndarray) -> LightChange:
    """A change of one place's light as another place of the surface has it, whose own places are at `uv` (PLACES PLACES, 2) in the first."""
    uv = np.clip(np.nan_to_num(uv, nan=0.5), -0.5, 1.5)
    even = np.column_stack([np.ones(len(uv)), uv - 0.5]) @ change.gains
    basis = np.column_stack([np.ones(len(uv)), _places(PLACES) - 0.5])
    gains = np.linalg.lstsq(basis, even, rcond=None)[0]
    at = np.clip(uv * PLACES - 0.5, 0, PLACES - 1).astype(np.float32)
    local = np.concatenate([cv2.remap(half, at[:, :1], at[:, 1:], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)[:, 0]
                            for half in (change.local[..., :3], change.local[..., 3:])], axis=1)
    local[:, :3] = (1 + local[:, :3]) * np.exp(even - basis @ gains) - 1
    return LightChange(gains, local.reshape(PLACES, PLACES, 6), change.explained)


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


def light_match(changes: dict[int, LightChange | None]) -> LightMatch | None:
    """Changes of frames as a match keeps them; None where too few could be told."""
    known = {f: g for f, g in changes.items() if g is not None}
    if len(known) < 2:
        return None
    frames = sorted(known)
    # what is local is believed as far as it explains what it was measured from, there and on the frames beside
    needed = np.clip((np.array([known[f].explained for f in frames]) - _EXPLAINS[0]) / (_EXPLAINS[1] - _EXPLAINS[0]), 0, 1)
    share = np.maximum(needed, scipy.ndimage.correlate1d(needed, [0.25, 0.5, 0.25], mode="nearest"))
    local = np.array([known[f].local.reshape(-1, 6) for f in frames]) * share[:, None, None]
    uneven = float(np.abs(local).max()) > _EVEN
    return LightMatch(frames=np.array(frames, np.int64), gains=np.array([known[f].gains for f in frames], np.float64), local=local if uneven else None)


def _at(picture: np.ndarray, points: np.ndarray, space: str, finer: float = 1.0) -> np.ndarray:
    """(n, 3) linear light round points of a picture, averaged over a few pixels; over more of one that is `finer` than the plate."""
    colour = rgb_of(to_float(picture))
    low = np.clip(np.floor(points.min(0)) - 8, 0, None).astype(int)
    high = np.ceil(points.max(0)).astype(int) + 9
    part = np.ascontiguousarray(colour[low[1]:max(high[1], low[1] + 1), low[0]:max(high[0], low[0] + 1)])
    if not part.size or not np.isfinite(points).all():
        return np.full((len(points), 3), np.nan)
    smooth = cv2.GaussianBlur(converted(part, space, LINEAR), (0, 0), _AVERAGED * finer)
    at = to_centred(points - low).astype(np.float32)
    return np.asarray(cv2.remap(smooth, at[:, 0], at[:, 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT, borderValue=(0.0,) * 3)).reshape(-1, 3)
