"""Blend modes by the formulas of W3C, Compositing and Blending Level 1, 2015, sections 10.1 and 9.1.4."""

from collections.abc import Callable

import numpy as np


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


MODES: dict[str, Callable[[np.ndarray, np.ndarray], np.ndarray]] = {
    "normal": normal, "multiply": multiply, "screen": screen, "overlay": overlay,
}


def over(backdrop: np.ndarray, source: np.ndarray, mode: str = "normal", opacity: float = 1.0) -> np.ndarray:
    """Source over backdrop with a blend mode.

    co = cs x as x (1 - ab) + cb x ab x (1 - as) + as x ab x B(cb, cs)   (section 9.1.4, with premultiplied values)

    Parameters
    ----------
    backdrop : (h, w, 3) opaque, or (h, w, 4) premultiplied.
    source : (h, w, 4) premultiplied.
    mode : a name in `MODES`.
    opacity : 0..1, multiplies the source's alpha.

    Returns
    -------
    As `backdrop`, in shape and meaning.
    """
    src = source * np.float32(opacity) if opacity != 1.0 else source
    alpha = src[..., 3:]
    back = backdrop[..., :3]
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
