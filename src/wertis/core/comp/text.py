"""Text, plain colours and gradients as artwork: premultiplied RGBA float32, coded for the eye.

Text is laid out and drawn by Pillow, with Raqm where it is there, so that scripts that join their letters or run from right to left come as they are
written.
"""

from functools import lru_cache
from pathlib import Path

import numpy as np
from PIL import Image, ImageDraw, ImageFont, features

from wertis.core.errors import PlateError

LONGEST = 2048  # pixels of the longer side of a text: sharp as wide as HD
_FIRST_SIZE = 200  # pixels of letters by which a text is measured
_MARGIN = 0.06  # of the height of letters, left round a text
_LARGEST = 1200  # pixels of letters
DEFAULT_FONT = Path(__file__).parents[2] / "app" / "fonts" / "Inter-SemiBold.otf"  # shipped with the program


@lru_cache(maxsize=16)
def _font(path: str, size: int) -> ImageFont.FreeTypeFont:
    layout = ImageFont.Layout.RAQM if features.check("raqm") else ImageFont.Layout.BASIC
    try:
        return ImageFont.truetype(path or str(DEFAULT_FONT), size, layout_engine=layout)
    except OSError as why:
        raise PlateError(f"The font {Path(path).name} cannot be read; choose a TrueType or OpenType file (.ttf, .otf).") from why


def text(words: str, font: str = "", colour: tuple[float, float, float] = (1.0, 1.0, 1.0), align: str = "centre", leading: float = 1.2,
         outline: float = 0.0, outline_colour: tuple[float, float, float] = (0.0, 0.0, 0.0)) -> np.ndarray:
    """(h, w, 4) a text as large as its longer side allows.

    Parameters
    ----------
    font : file of a TrueType or OpenType font; Inter when empty.
    align : left, centre or right.
    leading : from line to line, times the size of the letters.
    outline : width of a line round the letters, in hundredths of their size.

    Raises
    ------
    PlateError
        When the font cannot be read.
    """
    shown = words if words.strip() else " "
    w, h = _size(shown, font, _FIRST_SIZE, leading, outline)
    size = int(np.clip(_FIRST_SIZE * LONGEST / max(w, h), 8, _LARGEST))
    w, h = _size(shown, font, size, leading, outline)
    picture = Image.new("RGBA", (w, h), (0, 0, 0, 0))
    draw = ImageDraw.Draw(picture)
    left, top, right, bottom = _box(draw, shown, font, size, leading, outline)
    ink, edge = (tuple(round(255 * min(max(v, 0.0), 1.0)) for v in c) for c in (colour, outline_colour))
    draw.multiline_text(((w - (right - left)) / 2 - left, (h - (bottom - top)) / 2 - top), shown, fill=(*ink, 255), font=_font(font, size),
                        stroke_fill=(*edge, 255), **_layout(size, leading, outline, align))
    values = np.asarray(picture, np.float32) / 255
    return np.concatenate([values[..., :3] * values[..., 3:], values[..., 3:]], axis=-1)


def text_ratio(words: str, font: str = "", leading: float = 1.2, outline: float = 0.0) -> float:
    """Width over height of a text."""
    w, h = _size(words if words.strip() else " ", font, _FIRST_SIZE, leading, outline)
    return w / h


def _layout(size: int, leading: float, outline: float, align: str) -> dict:
    return {"spacing": (leading - 1) * size, "align": "center" if align == "centre" else align, "stroke_width": round(outline / 100 * size)}


def _box(draw: ImageDraw.ImageDraw, words: str, font: str, size: int, leading: float, outline: float) -> tuple[float, float, float, float]:
    return draw.multiline_textbbox((0, 0), words, font=_font(font, size), **_layout(size, leading, outline, "centre"))


def _size(words: str, font: str, size: int, leading: float, outline: float) -> tuple[int, int]:
    left, top, right, bottom = _box(ImageDraw.Draw(Image.new("L", (1, 1))), words, font, size, leading, outline)
    room = 2 * round(_MARGIN * size) + 2
    return max(1, round(right - left) + room), max(1, round(bottom - top) + room)


def solid(colour: tuple[float, float, float]) -> np.ndarray:
    """(2, 2, 4) one colour."""
    return np.tile(np.array([*colour, 1.0], np.float32), (2, 2, 1))


def gradient(first: tuple[float, float, float], second: tuple[float, float, float], angle: float, ratio: float, longest: int = 512) -> np.ndarray:
    """(h, w, 4) one colour turning into another along a direction, in degrees from left to right, clockwise, over a picture of this width over height."""
    w, h = (longest, max(2, round(longest / ratio))) if ratio >= 1 else (max(2, round(longest * ratio)), longest)
    turn = np.deg2rad(angle)
    y, x = np.mgrid[0:h, 0:w] + 0.5
    along = (x - w / 2) * np.cos(turn) + (y - h / 2) * np.sin(turn)
    reach = abs(w / 2 * np.cos(turn)) + abs(h / 2 * np.sin(turn))
    t = np.clip(along / max(reach, 1e-6) / 2 + 0.5, 0, 1)[..., None]
    colours = (1 - t) * np.array(first) + t * np.array(second)
    return np.concatenate([colours, np.ones_like(t)], axis=-1).astype(np.float32)
