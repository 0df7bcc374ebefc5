"""Text, plain colours and gradients as artwork: premultiplied RGBA float32, coded for the eye.

Text is laid out and drawn by Pillow, with Raqm where it is there, so that scripts that join their letters or run from right to left come as they are
written.
"""

import unicodedata
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image, ImageDraw, ImageFont, features

from wertis.core.errors import PlateError

LONGEST = 2048  # pixels of the longer side of a text: sharp as wide as HD
_FIRST_SIZE = 200  # pixels of letters by which a text is measured
_MARGIN = 0.06  # of the height of letters, left round a text
_LARGEST = 1200  # pixels of letters
DEFAULT_FONT_FOLDER = Path(__file__).parents[2] / "app" / "fonts"  # shipped with the program
_FONT_FOLDERS = (DEFAULT_FONT_FOLDER, Path("/usr/share/fonts"), Path("/usr/local/share/fonts"), Path("~/.local/share/fonts"), Path("~/.fonts"))
DEFAULT_FONT = DEFAULT_FONT_FOLDER / "Inter-SemiBold.otf"


@lru_cache(maxsize=16)
def _font(path: str, size: int) -> ImageFont.FreeTypeFont:
    layout = ImageFont.Layout.RAQM if features.check("raqm") else ImageFont.Layout.BASIC
    try:
        return ImageFont.truetype(path or str(DEFAULT_FONT), size, layout_engine=layout)
    except OSError as why:
        raise PlateError(f"The font {Path(path).name} cannot be read; choose a TrueType or OpenType file (.ttf, .otf).") from why


def text(words: str, font: str = "", colour: tuple[float, float, float] = (1.0, 1.0, 1.0), align: str = "centre", leading: float = 1.2,
         outline: float = 0.0, outline_colour: tuple[float, float, float] = (0.0, 0.0, 0.0), tracking: float = 0.0) -> np.ndarray:
    """(h, w, 4) a text as large as its longer side allows.

    Parameters
    ----------
    font : file of a TrueType or OpenType font; Inter when empty.
    align : left, centre or right.
    leading : from line to line, times the size of the letters.
    tracking : put between letters, in hundredths of their size.
    outline : width of a line round the letters, in hundredths of their size.

    Raises
    ------
    PlateError
        When the font cannot be read.
    """
    shown = words if words.strip() else " "
    w, h = _size(shown, font, _FIRST_SIZE, leading, outline, tracking)
    size = int(np.clip(_FIRST_SIZE * LONGEST / max(w, h), 8, _LARGEST))
    w, h = _size(shown, font, size, leading, outline, tracking)
    picture = Image.new("RGBA", (w, h), (0, 0, 0, 0))
    draw = ImageDraw.Draw(picture)
    left, top, right, bottom = _box(draw, shown, font, size, leading, outline, tracking)
    ink, edge = (tuple(round(255 * min(max(v, 0.0), 1.0)) for v in c) for c in (colour, outline_colour))
    at = (w - (right - left)) / 2 - left, (h - (bottom - top)) / 2 - top
    look: dict[str, Any] = {"font": _font(font, size), "fill": (*ink, 255), "stroke_fill": (*edge, 255), "stroke_width": round(outline / 100 * size)}
    if tracking:
        for x, y, letters in _letters(shown, font, size, leading, tracking, align):
            draw.text((at[0] + x, at[1] + y), letters, **look)
    else:
        draw.multiline_text(at, shown, spacing=(leading - 1) * size, align="center" if align == "centre" else align, **look)
    values = np.asarray(picture, np.float32) / 255
    return np.concatenate([values[..., :3] * values[..., 3:], values[..., 3:]], axis=-1)


def text_ratio(words: str, font: str = "", leading: float = 1.2, outline: float = 0.0, tracking: float = 0.0) -> float:
    """Width over height of a text."""
    w, h = _size(words if words.strip() else " ", font, _FIRST_SIZE, leading, outline, tracking)
    return w / h


def _letters(words: str, font: str, size: int, leading: float, tracking: float, align: str) -> list[tuple[float, float, str]]:
    """Where a text's letters are drawn: x and y in pixels of letters with marks that belong to them; a line of a script that joins its letters, or
    runs from right to left, stays in one piece."""
    face, gap, share = _font(font, size), tracking / 100 * size, {"left": 0.0, "centre": 0.5, "right": 1.0}[align]
    lines: list[tuple[float, list[tuple[float, str]]]] = []
    for line in words.split("\n"):
        if any(unicodedata.bidirectional(c) in ("R", "AL") for c in line):
            lines.append((face.getlength(line), [(0.0, line)]))
            continue
        starts = [k for k, c in enumerate(line) if k == 0 or not unicodedata.combining(c)]
        ends = [*starts[1:], len(line)]
        placed = [(face.getlength(line[:a]) + k * gap, line[a:b]) for k, (a, b) in enumerate(zip(starts, ends, strict=True))]
        lines.append((face.getlength(line) + max(len(starts) - 1, 0) * gap, placed))
    widest = max(w for w, _ in lines)
    return [((widest - w) * share + x, k * leading * size, letters) for k, (w, placed) in enumerate(lines) for x, letters in placed]


def _box(draw: ImageDraw.ImageDraw, words: str, font: str, size: int, leading: float, outline: float, tracking: float
         ) -> tuple[float, float, float, float]:
    face, stroke = _font(font, size), round(outline / 100 * size)
    if not tracking:
        return draw.multiline_textbbox((0, 0), words, font=face, spacing=(leading - 1) * size, align="center", stroke_width=stroke)
    placed = _letters(words, font, size, leading, tracking, "left")
    boxes = np.array([draw.textbbox((x, y), letters, font=face, stroke_width=stroke) for x, y, letters in placed] or [(0, 0, 1, 1)], float)
    return float(boxes[:, 0].min()), float(boxes[:, 1].min()), float(boxes[:, 2].max()), float(boxes[:, 3].max())


def _size(words: str, font: str, size: int, leading: float, outline: float, tracking: float) -> tuple[int, int]:
    left, top, right, bottom = _box(ImageDraw.Draw(Image.new("L", (1, 1))), words, font, size, leading, outline, tracking)
    room = 2 * round(_MARGIN * size) + 2
    return max(1, round(right - left) + room), max(1, round(bottom - top) + room)


def system_fonts() -> dict[str, dict[str, str]]:
    """Families of the fonts of the system, in order, each with its styles (weight and slope) and their files."""
    found: dict[str, dict[str, str]] = {}
    for folder in _FONT_FOLDERS:
        for file in sorted(folder.expanduser().rglob("*")):
            if file.suffix.lower() in (".ttf", ".otf"):
                try:
                    family, style = ImageFont.truetype(str(file), 10).getname()
                except (OSError, ValueError):
                    continue
                found.setdefault(family or file.stem, {})[style or "Regular"] = str(file)
    return dict(sorted(found.items(), key=lambda item: item[0].lower()))


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
