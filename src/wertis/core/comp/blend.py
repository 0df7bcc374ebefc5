"""Blend modes by the formulas of W3C, Compositing and Blending Level 1, 2015: sections 10.1 (one channel by itself), 10.2 (all three) and 9.1.4.

They are written for values from 0 to 1. Above white the backdrop keeps what it has over 1 where a formula would turn dark again or has no meaning.
"""

from collections.abc import Callable
from functools import wraps

import numpy as np

Mode = Callable[[np.ndarray, np.ndarray], np.ndarray]
_LEAST = 1e-12  # for a divisor that may be nothing
_WEIGHTS = np.array([0.3, 0.59, 0.11])  # of red, green and blue in the specification's luminosity


def normal(backdrop: np.ndarray, source: np.ndarray) -> np.ndarray:
    """B(cb, cs) = cs."""
    return source


def multiply(backdrop: np.ndarray, source: np.ndarray) -> np.ndarray:
    """B(cb, cs) = cb x cs."""
    return backdrop * source


def screen(backdrop: np.ndarray, source: np.ndarray) -> np.ndarray:
    """B(cb, cs) = cb + cs - cb x cs; above white, where the formula would turn dark again, the brighter of the two."""
    bright = np.maximum(backdrop, source)
    return np.where(bright > 1, bright, backdrop + source - backdrop * source)


def overlay(backdrop: np.ndarray, source: np.ndarray) -> np.ndarray:
    """B(cb, cs) = hard-light(cs, cb): multiply where the backdrop is dark, screen where it is light."""
    return np.where(backdrop <= 0.5, multiply(source, 2 * backdrop), screen(source, 2 * backdrop - 1))


def darken(backdrop: np.ndarray, source: np.ndarray) -> np.ndarray:
    """B(cb, cs) = min(cb, cs)."""
    return np.minimum(backdrop, source)


def lighten(backdrop: np.ndarray, source: np.ndarray) -> np.ndarray:
    """B(cb, cs) = max(cb, cs)."""
    return np.maximum(backdrop, source)


def hard_light(backdrop: np.ndarray, source: np.ndarray) -> np.ndarray:
    """Multiply where the source is dark, screen where it is light."""
    return np.where(source <= 0.5, multiply(backdrop, 2 * source), screen(backdrop, 2 * source - 1))


def difference(backdrop: np.ndarray, source: np.ndarray) -> np.ndarray:
    """B(cb, cs) = |cb - cs|."""
    return np.abs(backdrop - source)


def _up_to_white(mode: Mode) -> Mode:
    """A mode whose formula holds from 0 to 1 only: what the backdrop has over 1 is put on again."""

    @wraps(mode)
    def wrapped(backdrop: np.ndarray, source: np.ndarray) -> np.ndarray:
        within = np.clip(backdrop, 0, 1)
        return np.asarray(mode(within, np.clip(source, 0, 1)) + np.maximum(backdrop - 1, 0))

    return wrapped


@_up_to_white
def color_dodge(backdrop: np.ndarray, source: np.ndarray) -> np.ndarray:
    """B(cb, cs) = min(1, cb / (1 - cs)); 0 where cb is 0, else 1 where cs is 1."""
    return np.where(backdrop <= 0, 0, np.where(source >= 1, 1, np.minimum(1, backdrop / np.maximum(1 - source, _LEAST))))


@_up_to_white
def color_burn(backdrop: np.ndarray, source: np.ndarray) -> np.ndarray:
    """B(cb, cs) = 1 - min(1, (1 - cb) / cs); 1 where cb is 1, else 0 where cs is 0."""
    return np.where(backdrop >= 1, 1, np.where(source <= 0, 0, 1 - np.minimum(1, (1 - backdrop) / np.maximum(source, _LEAST))))


@_up_to_white
def soft_light(backdrop: np.ndarray, source: np.ndarray) -> np.ndarray:
    """B(cb, cs) = cb - (1 - 2 cs) cb (1 - cb) for cs up to 0.5, else cb + (2 cs - 1) (D(cb) - cb)."""
    d = np.where(backdrop <= 0.25, ((16 * backdrop - 12) * backdrop + 4) * backdrop, np.sqrt(backdrop))
    return np.where(source <= 0.5, backdrop - (1 - 2 * source) * backdrop * (1 - backdrop), backdrop + (2 * source - 1) * (d - backdrop))


@_up_to_white
def exclusion(backdrop: np.ndarray, source: np.ndarray) -> np.ndarray:
    """B(cb, cs) = cb + cs - 2 cb cs."""
    return backdrop + source - 2 * backdrop * source


@_up_to_white
def hue(backdrop: np.ndarray, source: np.ndarray) -> np.ndarray:
    """The hue of the source, with the saturation and luminosity of the backdrop."""
    return _set_lum(_set_sat(source, _sat(backdrop)), _lum(backdrop))


@_up_to_white
def saturation(backdrop: np.ndarray, source: np.ndarray) -> np.ndarray:
    """The saturation of the source, with the hue and luminosity of the backdrop."""
    return _set_lum(_set_sat(backdrop, _sat(source)), _lum(backdrop))


@_up_to_white
def color(backdrop: np.ndarray, source: np.ndarray) -> np.ndarray:
    """The hue and saturation of the source, with the luminosity of the backdrop."""
    return _set_lum(source, _lum(backdrop))


@_up_to_white
def luminosity(backdrop: np.ndarray, source: np.ndarray) -> np.ndarray:
    """The luminosity of the source, with the hue and saturation of the backdrop."""
    return _set_lum(backdrop, _lum(source))


def _lum(c: np.ndarray) -> np.ndarray:
    return np.asarray(c @ _WEIGHTS.astype(c.dtype))[..., None]


def _sat(c: np.ndarray) -> np.ndarray:
    return np.asarray(c.max(-1, keepdims=True) - c.min(-1, keepdims=True))


def _set_lum(c: np.ndarray, lum: np.ndarray) -> np.ndarray:
    """Colours of a luminosity, brought back between 0 and 1 along the way to grey (SetLum and ClipColor)."""
    c = c + lum - _lum(c)
    own, least, most = _lum(c), c.min(-1, keepdims=True), c.max(-1, keepdims=True)
    c = np.where(least < 0, own + (c - own) * own / np.maximum(own - least, _LEAST), c)
    return np.where(most > 1, own + (c - own) * (1 - own) / np.maximum(most - own, _LEAST), c)


def _set_sat(c: np.ndarray, sat: np.ndarray) -> np.ndarray:
    """Colours of a saturation: the least channel becomes nothing, the greatest all of it (SetSat)."""
    least, spread = c.min(-1, keepdims=True), _sat(c)
    return np.where(spread > 0, (c - least) * sat / np.maximum(spread, _LEAST), 0)


MODES: dict[str, Mode] = {
    "normal": normal, "multiply": multiply, "screen": screen, "overlay": overlay, "darken": darken, "lighten": lighten, "color-dodge": color_dodge,
    "color-burn": color_burn, "hard-light": hard_light, "soft-light": soft_light, "difference": difference, "exclusion": exclusion, "hue": hue,
    "saturation": saturation, "color": color, "luminosity": luminosity,
}
PLUS_LIGHTER = "plus-lighter"
"""A mode of section 9.1.5: source and backdrop are added, alpha and all, up to 1."""


def over(backdrop: np.ndarray, source: np.ndarray, mode: str = "normal", opacity: float = 1.0) -> np.ndarray:
    """Source over backdrop with a blend mode.

    co = cs x as x (1 - ab) + cb x ab x (1 - as) + as x ab x B(cb, cs)   (section 9.1.4, with premultiplied values)

    Parameters
    ----------
    backdrop : (h, w, 3) opaque, or (h, w, 4) premultiplied.
    source : (h, w, 4) premultiplied.
    mode : a name in `MODES`, or `PLUS_LIGHTER`.
    opacity : 0..1, multiplies the source's alpha.

    Returns
    -------
    As `backdrop`, in shape and meaning.
    """
    src = source * np.float32(opacity) if opacity != 1.0 else source
    alpha = src[..., 3:]
    back = backdrop[..., :3]
    if mode == PLUS_LIGHTER:
        colour = np.minimum(src[..., :3] + back, np.maximum(back, 1))
        return colour if backdrop.shape[-1] == 3 else np.concatenate([colour, np.minimum(alpha + backdrop[..., 3:], 1)], axis=-1)
    if mode == "normal":
        colour = src[..., :3] + back * (1 - alpha)
        back_alpha = backdrop[..., 3:] if backdrop.shape[-1] == 4 else None
    else:
        straight = src[..., :3] / np.maximum(alpha, np.float32(1e-6))
        if backdrop.shape[-1] == 4:
            back_alpha = backdrop[..., 3:]
            own = back / np.maximum(back_alpha, np.float32(1e-6))
            colour = src[..., :3] * (1 - back_alpha) + back * (1 - alpha) + alpha * back_alpha * MODES[mode](own, straight)
        else:
            back_alpha = None
            colour = back * (1 - alpha) + alpha * MODES[mode](back, straight)
    if back_alpha is None:
        return colour
    return np.concatenate([colour, alpha + back_alpha * (1 - alpha)], axis=-1)
