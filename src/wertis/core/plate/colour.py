"""How a plate's numbers are shown: colour space, display, exposure, gamma, one channel. Nothing here changes a plate or a render.

OpenColorIO with the configuration that the environment variable OCIO names, else with the one built into it.
"""

import os
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import cv2
import numpy as np

from wertis.core.errors import PlateError
from wertis.core.plate.base import from_float, rgb_of, to_float

CHANNELS = ("colour", "red", "green", "blue", "alpha", "luma")
CODED, LINEAR = "coded", "linear"  # what a display shows as it is, and light itself; they stand for names that configurations have for them
_BAND = 128  # rows
_BUILT_IN = "ocio://default"
_CODED, _LINEAR = ("sRGB Encoded Rec.709 (sRGB)", "sRGB - Texture"), ("Linear Rec.709 (sRGB)", "lin_srgb")


@dataclass(frozen=True)
class Viewing:
    """What the picture is shown through.

    Attributes
    ----------
    space : the plate's colour space, a name of the configuration; empty for the one that is proposed.
    display, view : names of the configuration; empty to show whole numbers as they are coded and floats through the sRGB curve.
    exposure : stops.
    gamma : 1 leaves the picture as it is.
    channel : one of `CHANNELS`.
    """

    space: str = ""
    display: str = ""
    view: str = ""
    exposure: float = 0.0
    gamma: float = 1.0
    channel: str = "colour"

    @property
    def plain(self) -> bool:
        """Whether the picture is shown as it is."""
        return not self.display and self.exposure == 0 and self.gamma == 1 and self.channel == "colour"

    def words(self) -> str:
        """In a few words what is not plain."""
        parts = [f"{self.display}, {self.view}"] if self.display else []
        parts += [f"exposure {self.exposure:+g}"] if self.exposure else []
        parts += [f"gamma {self.gamma:g}"] if self.gamma != 1 else []
        parts += [self.channel if self.channel in ("alpha", "luma") else f"{self.channel} alone"] if self.channel != "colour" else []
        return "; ".join(parts)


def config() -> Any:
    """The OpenColorIO configuration.

    Raises
    ------
    PlateError
        When the one that the environment names cannot be used.
    """
    return _config(os.environ.get("OCIO", ""))


def spaces() -> list[str]:
    """Names of the colour spaces a plate may be in."""
    return list(config().getColorSpaceNames())


def views() -> list[tuple[str, str]]:
    """Displays and views."""
    c = config()
    return [(display, view) for display in c.getDisplays() for view in c.getViews(display)]


def proposed(kind: np.dtype | type) -> str:
    """The colour space a plate of this kind of number is most likely in: display-coded whole numbers, linear floats."""
    c = config()
    names = set(c.getColorSpaceNames())
    whole = np.issubdtype(np.dtype(kind), np.integer)
    for name in _CODED if whole else _LINEAR:
        if name in names:
            return name
    return str(c.getColorSpace("color_picking" if whole else "scene_linear").getName()) if names else ""


def space_of(kind: np.dtype | type) -> str:
    """Whether numbers of this kind are taken as `CODED` (whole ones) or `LINEAR` (floats) where nobody says otherwise."""
    return CODED if np.issubdtype(np.dtype(kind), np.integer) else LINEAR


def converted(picture: np.ndarray, space: str, to: str) -> np.ndarray:
    """A float32 picture (h, w, 3), or (h, w, 4) with alpha premultiplied, brought from one colour space to another: names of the
    configuration, `CODED`, or `LINEAR`.

    Raises
    ------
    PlateError
        When the configuration lacks a name, or cannot be used.
    """
    if space == to:
        return picture
    alpha = picture[..., 3:]
    straight = np.array(picture[..., :3] if not alpha.shape[2] else picture[..., :3] / np.maximum(alpha, np.float32(1e-6)), np.float32, order="C")
    if not convert(straight, space, to):
        return picture
    return straight if not alpha.shape[2] else np.concatenate([straight * alpha, alpha], axis=2)


def convert(colours: np.ndarray, space: str, to: str) -> bool:
    """Bring colours (h, w, 3) float32, one after another in memory, from one colour space to another, in place; whether they are others now.

    Raises
    ------
    PlateError
        When the configuration lacks a name, or cannot be used.
    """
    if space == to:
        return False
    try:
        between = _between(os.environ.get("OCIO", ""), space, to)
    except Exception as why:  # OpenColorIO's own kind of error
        raise PlateError(f"Colours cannot be brought from {space} to {to} ({why}); choose another colour space in the step Plate.") from why
    if between is None:
        return False
    between.applyRGB(colours)
    return True


def shown(picture: np.ndarray, viewing: Viewing | None = None) -> np.ndarray:
    """A picture (h, w, channels) of any kind of number as 8-bit RGB (h, w, 3).

    Without a display, whole numbers are shown as coded and floats, taken as linear light, through the sRGB curve (IEC 61966-2-1).

    Raises
    ------
    PlateError
        When the configuration lacks a name, or cannot be used.
    """
    v = viewing or Viewing()
    if v.channel == "alpha":
        alpha = picture[..., 3] if picture.shape[2] > 3 else np.ones(picture.shape[:2], np.float32)
        return np.repeat(from_float(np.nan_to_num(to_float(alpha)), np.uint8)[..., None], 3, 2)
    colour = rgb_of(picture)
    if v.display:
        out = _through_config(colour, v)
    elif colour.dtype == np.uint8:
        out = np.ascontiguousarray(colour)
        if v.exposure or v.gamma != 1:
            out = cv2.LUT(out, from_float(_adjusted(np.arange(256) / 255, v), np.uint8))
    elif colour.dtype.itemsize == 2:
        # every number there is, worked out once: quick, and no large picture of floats on the way
        out = _table(colour.dtype.str, v.exposure, v.gamma)[colour.view(np.uint16)]
    else:
        out = _in_bands(colour, lambda part: _plainly(part, v.exposure, v.gamma))
    if v.channel == "luma":
        return np.repeat(cv2.cvtColor(out, cv2.COLOR_RGB2GRAY)[..., None], 3, 2)
    if v.channel != "colour":
        return np.repeat(out[..., ["red", "green", "blue"].index(v.channel)][..., None], 3, 2)
    return np.ascontiguousarray(out)


def _through_config(colour: np.ndarray, v: Viewing) -> np.ndarray:
    def band(part: np.ndarray) -> np.ndarray:
        pixels = np.array(np.nan_to_num(to_float(part)), order="C")
        processor.applyRGB(pixels)
        return from_float(pixels, np.uint8)

    try:
        processor = _processor(os.environ.get("OCIO", ""), v.space or proposed(colour.dtype), v.display, v.view, v.exposure, v.gamma)
        return _in_bands(colour, band)
    except Exception as why:  # OpenColorIO's own kind of error
        raise PlateError(f"The colours cannot be shown as chosen ({why}); choose another colour space or view in the step Plate.") from why


def _in_bands(colour: np.ndarray, work: Callable[[np.ndarray], np.ndarray]) -> np.ndarray:
    """A picture (h, w, 3) made 8-bit a few rows at a time, so that the floats on the way never fill memory."""
    out = np.empty(colour.shape, np.uint8)
    for top in range(0, len(colour), _BAND):
        out[top:top + _BAND] = work(colour[top:top + _BAND])
    return out


def _plainly(values: np.ndarray, exposure: float, gamma: float) -> np.ndarray:
    """Numbers of any kind as 8-bit codes: whole ones as coded, floats through the sRGB curve."""
    if np.issubdtype(values.dtype, np.integer):
        unit = to_float(values)
        return from_float(_adjusted(unit, Viewing(exposure=exposure, gamma=gamma)) if exposure or gamma != 1 else unit, np.uint8)
    linear = np.clip(np.nan_to_num(values.astype(np.float32)) * np.float32(2.0 ** exposure), 0, 1)
    return from_float(_coded(linear) ** np.float32(1 / gamma), np.uint8)


@lru_cache(maxsize=4)
def _table(kind: str, exposure: float, gamma: float) -> np.ndarray:
    """(65536,) the 8-bit code of every 16-bit number of a kind."""
    return _plainly(np.arange(65536, dtype=np.uint16).view(kind), exposure, gamma)


@lru_cache(maxsize=4)
def _config(name: str) -> Any:
    import PyOpenColorIO as ocio

    try:
        return ocio.Config.CreateFromFile(name) if name else ocio.Config.CreateFromBuiltinConfig(_BUILT_IN)
    except ocio.Exception as why:
        raise PlateError(f"The colour configuration {name} that OCIO names cannot be used ({why}); correct or unset that environment variable.") from why


@lru_cache(maxsize=8)
def _between(name: str, space: str, to: str) -> Any:
    c = _config(name)
    source, target = (_in_config(c, s) for s in (space, to))
    processor = c.getProcessor(source, target)
    return None if processor.isNoOp() else processor.getDefaultCPUProcessor()


def _in_config(c: Any, space: str) -> str:
    """The configuration's own name for `CODED` and `LINEAR`; other names as they are."""
    if space not in (CODED, LINEAR):
        return space
    names = set(c.getColorSpaceNames())
    role = "color_picking" if space == CODED else "scene_linear"
    return next((n for n in (_CODED if space == CODED else _LINEAR) if n in names), role)


@lru_cache(maxsize=8)
def _processor(name: str, space: str, display: str, view: str, exposure: float, gamma: float) -> Any:
    import PyOpenColorIO as ocio

    c = _config(name)
    steps = ocio.GroupTransform()
    if exposure:
        gain = 2.0 ** exposure
        steps.appendTransform(ocio.ColorSpaceTransform(src=space, dst="scene_linear"))
        steps.appendTransform(ocio.MatrixTransform.Scale([gain, gain, gain, 1.0]))
        steps.appendTransform(ocio.ColorSpaceTransform(src="scene_linear", dst=space))
    steps.appendTransform(ocio.DisplayViewTransform(src=space, display=display, view=view))
    if gamma != 1:
        steps.appendTransform(ocio.ExponentTransform([1 / gamma, 1 / gamma, 1 / gamma, 1.0], ocio.NEGATIVE_CLAMP))
    return c.getProcessor(steps).getOptimizedCPUProcessor(ocio.OPTIMIZATION_LOSSLESS)


def _adjusted(values: np.ndarray, v: Viewing) -> np.ndarray:
    """Display-coded values 0..1 with exposure put on their linear light, and gamma."""
    return np.asarray(_coded(np.clip(_linear(values) * 2.0 ** v.exposure, 0, 1)) ** (1 / v.gamma))


def _coded(v: np.ndarray) -> np.ndarray:
    return np.where(v <= 0.0031308, 12.92 * v, 1.055 * np.power(v, 1 / 2.4, dtype=v.dtype) - 0.055)


def _linear(v: np.ndarray) -> np.ndarray:
    return np.where(v <= 0.04045, v / 12.92, ((v + 0.055) / 1.055) ** 2.4)
