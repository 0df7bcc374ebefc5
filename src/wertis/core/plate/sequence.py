"""Image sequences through OpenImageIO: a folder, a pattern, or one file of a sequence."""

import re
from functools import cached_property
from pathlib import Path

import fileseq
import numpy as np
import OpenImageIO as oiio

from wertis.core.errors import PlateError, library_words
from wertis.core.plate.base import ALPHAS, Plate, from_float, to_float
from wertis.core.plate.layers import MAIN, Layer, layers_in
from wertis.core.plate.png import read_quickly

EXTENSIONS = frozenset({".png", ".jpg", ".jpeg", ".tif", ".tiff", ".dpx", ".exr"})
DEFAULT_FPS = 24.0
MOST_PIXELS = 1 << 28  # 16k by 16k: a header that claims more is not believed

_KINDS: dict[str, type] = {"uint8": np.uint8, "uint16": np.uint16, "half": np.float16, "float": np.float32}


class SequencePlate(Plate):
    """Numbered picture files.

    Parameters
    ----------
    files : frame number to path, at least one.
    path : what to call the plate.
    fps : frames per second; sequences do not say.
    layer : which of the files' layers; "" is the picture itself.
    alpha : one of `base.ALPHAS`.
    others : the other sequences that were found beside this one: pattern to how many frames.
    """

    def __init__(self, files: dict[int, Path], path: Path, fps: float = DEFAULT_FPS, layer: str = MAIN, alpha: str = ALPHAS[0],
                 others: dict[str, int] | None = None) -> None:
        self.files = dict(sorted(files.items()))
        self.others = others or {}
        self.layer, self.alpha = layer, alpha
        self.path = path
        self.fps = fps
        self.first, self.last = min(files), max(files)
        self._gaps = frozenset(range(self.first, self.last + 1)) - frozenset(files)
        self.size, self.aspect, self.layers, self.has_alpha = self._first_readable()
        if layer not in self.layers:
            raise PlateError(f"{path.name} has no layer named '{layer}'; it has: {', '.join(filter(None, self.layers)) or 'only the picture itself'}.")

    def taken(self, layer: str, alpha: str) -> "SequencePlate":
        """The same files, read otherwise."""
        return SequencePlate(self.files, self.path, self.fps, layer, alpha, self.others)

    @property
    def gaps(self) -> frozenset[int]:
        return self._gaps

    def file(self, frame: int) -> Path | None:
        return self.files.get(frame)

    @cached_property
    def bits(self) -> int:  # type: ignore[override]
        try:
            source = _opened(next(iter(self.files.values())))
        except PlateError:
            return 0
        found = source.spec().get_int_attribute("oiio:BitsPerSample")
        source.close()
        return int(found) if 8 < found < 16 else 0

    def read(self, frame: int) -> np.ndarray:
        if not self.first <= frame <= self.last:
            raise self._out_of_range(frame)
        if frame not in self.files:
            raise PlateError(f"Frame {frame} is missing from {self.path.name}; it is shown as a gap and skipped.")
        picture = read_picture(self.files[frame], self.layer, self.alpha)
        size = (picture.shape[1], picture.shape[0])
        if size != self.size:
            raise PlateError(
                f"{self.files[frame].name} is {size[0]} x {size[1]} pixels, the rest of the plate {self.size[0]} x "
                f"{self.size[1]}; replace the file. The frame is skipped."
            )
        return picture

    def _first_readable(self) -> tuple[tuple[int, int], float, tuple[str, ...], bool]:
        """Size, pixel aspect, layers, and whether the wanted layer has an alpha, of the first file that can be read."""
        why: PlateError | None = None
        for path in list(self.files.values())[:20]:
            try:
                source = _opened(path)
            except PlateError as error:
                why = why or error
                continue
            try:
                spec = source.spec()
                size, aspect = (spec.full_width or spec.width, spec.full_height or spec.height), spec.get_float_attribute("PixelAspectRatio", 1.0)
                layers = layers_in(source)
                chosen = layers.get(self.layer)
                return size, _believable(aspect), tuple(layers) or (MAIN,), chosen is not None and chosen.has_alpha
            except UnicodeDecodeError:
                why = why or _no_text(path)
            finally:
                source.close()
        assert why is not None
        raise why


def _believable(aspect: float) -> float:
    return round(aspect, 6) if 0.1 <= aspect <= 10 else 1.0


def read_picture(path: Path, layer: str = MAIN, alpha: str = ALPHAS[0]) -> np.ndarray:
    """A picture file as (height, width, channels), in the file's own kind of number, alpha premultiplied.

    A smaller data window (EXR) is laid on black at its place in the display window.

    Parameters
    ----------
    layer : which of the file's layers; "" is the picture itself.
    alpha : one of `base.ALPHAS`.

    Raises
    ------
    PlateError
        When the file cannot be read as a picture, or lacks the layer.
    """
    if layer == MAIN and path.suffix.lower() == ".png" and (quickly := read_quickly(path, MOST_PIXELS)) is not None:
        return quickly
    source = _opened(path, raw_alpha=alpha != ALPHAS[0])
    try:
        chosen = layers_in(source).get(layer)
        if chosen is None:
            raise PlateError(f"{path.name} has no layer named '{layer}'; the frame is skipped.")
        source.seek_subimage(chosen.part, 0)
        spec = source.spec()
        pixels = _with_alpha(_pixels(source, spec, chosen, path), chosen, alpha)
        window = (spec.full_width or spec.width, spec.full_height or spec.height)
        left, top = spec.x - spec.full_x, spec.y - spec.full_y
        if (spec.width, spec.height) != window or left or top:
            pixels = _placed(pixels, window, left, top)
        return pixels
    except UnicodeDecodeError as why:
        raise _no_text(path) from why
    finally:
        source.close()


def _pixels(source: oiio.ImageInput, spec: oiio.ImageSpec, layer: Layer, path: Path) -> np.ndarray:
    # channels of one file may differ: half colours beside a float depth stay half
    kinds = {str(spec.channelformat(c)) for c in layer.channels}
    kind = _KINDS.get(kinds.pop(), np.float32) if len(kinds) == 1 else np.float32
    low, high = min(layer.channels), max(layer.channels) + 1
    pixels = source.read_image(layer.part, 0, low, high, oiio.TypeDesc(np_name(kind)))
    if pixels is None:
        raise PlateError(f"{path.name} is damaged or cut short ({library_words(source.geterror)}); copy it again or render it again.")
    pixels = np.asarray(pixels).reshape(spec.height, spec.width, high - low)
    picked = [c - low for c in layer.channels]
    if picked != list(range(high - low)):
        pixels = np.ascontiguousarray(pixels[..., picked])
    if pixels.shape[2] == 2 and not layer.has_alpha:  # such as a layer of motion: never taken for grey with alpha
        pixels = np.dstack([pixels, np.zeros_like(pixels[..., 0])])
    return pixels


def _with_alpha(pixels: np.ndarray, layer: Layer, alpha: str) -> np.ndarray:
    """Pixels as the person says their alpha is to be taken."""
    if alpha == ALPHAS[0] or not layer.has_alpha:
        return pixels
    if alpha == "ignore":
        return np.ascontiguousarray(pixels[..., :-1])
    values = to_float(pixels)
    return np.concatenate([from_float(values[..., :-1] * values[..., -1:], pixels.dtype), pixels[..., -1:]], axis=2)


def np_name(kind: type) -> str:
    """OpenImageIO's name for a NumPy kind of number."""
    return {"uint8": "uint8", "uint16": "uint16", "float16": "half"}.get(np.dtype(kind).name, "float")


def find_sequence(path: Path) -> SequencePlate:
    """The sequence meant by a folder, by a pattern (`name.%04d.png`, `name.####.png`) or by one of its files; of a folder with several, the longest.

    Raises
    ------
    PlateError
        When there are no numbered pictures there.
    """
    name = path.name
    if path.is_dir():
        found = sequences_in(path)
        if not found:
            raise PlateError(
                f"The folder {name} holds no numbered pictures ({', '.join(sorted(EXTENSIONS))}); choose the folder that holds "
                "the frames themselves, such as plate.0001.png."
            )
        pattern, files = next(iter(found.items()))
        if len(found) == 1:
            return SequencePlate(files, path)
        # the longest, under its own name, so that the same one is found again
        return SequencePlate(files, path / pattern, others={str(path / p): len(each) for p, each in list(found.items())[1:]})
    if _is_pattern(name):
        files = _matching(path)
        if not files:
            raise PlateError(f"No file matches {name} in {path.parent}; check the name and the number of digits.")
        return SequencePlate(files, path)
    if not path.exists():
        raise PlateError(f"{path} does not exist; check the name, or choose the folder that holds the frames.")
    if path.suffix.lower() not in EXTENSIONS:
        raise PlateError(f"{name} is not a kind of picture that Wertis reads ({', '.join(sorted(EXTENSIONS))}), nor a movie.")
    own = next((files for files in sequences_in(path.parent).values() if path in files.values()), None)
    return SequencePlate(own if own is not None else {1: path}, path)


def sequences_in(folder: Path) -> dict[str, dict[int, Path]]:
    """The sequences of pictures in a folder, the longest first: pattern to frame number to file. A single picture without a number is frame 1."""
    try:
        there = sorted(folder.iterdir())
    except OSError as why:
        raise PlateError(f"The folder {folder} cannot be read ({why.strerror}); check that it is there, or open the plate where it is now.") from why
    pictures = {str(p): p for p in there if p.suffix.lower() in EXTENSIONS and p.is_file() and not p.name.startswith(".")}
    found: dict[tuple[str, str], tuple[str, dict[int, Path]]] = {}
    for each in fileseq.findSequencesInList(list(pictures)):
        frames = each.frameSet()
        if frames is not None:
            # numbers of one name are one sequence, however many digits each has
            _, files = found.setdefault((each.basename(), each.extension()),
                                        (f"{each.basename()}{'#' * max(1, each.zfill())}{each.extension()}", {}))
            files.update({int(f): pictures[each.frame(f)] for f in frames if each.frame(f) in pictures})
    if not found and len(pictures) == 1:
        only = next(iter(pictures.values()))
        return {only.name: {1: only}}
    return dict(sorted(((p, files) for p, files in found.values() if files), key=lambda item: (-len(item[1]), item[0])))


def _is_pattern(name: str) -> bool:
    return "#" in name or re.search(r"%(0\d+)?d", name) is not None


def _matching(pattern: Path) -> dict[int, Path]:
    """The files of a pattern, whatever number of digits each has."""
    if not pattern.parent.is_dir():
        raise PlateError(f"The folder {pattern.parent} does not exist; check the path.")
    try:
        wanted = fileseq.FileSequence(str(pattern))
    except fileseq.exceptions.FileSeqException as why:
        raise PlateError(f"{pattern.name} is not a pattern of frames ({why}); write the frame number as #### or %04d.") from why
    return {f: p for name, files in sequences_in(pattern.parent).items() for f, p in files.items()
            if _same(fileseq.FileSequence(str(pattern.parent / name)), wanted)}


def _same(one: "fileseq.FileSequence", other: "fileseq.FileSequence") -> bool:
    return bool(one.basename() == other.basename() and one.extension() == other.extension())


def _opened(path: Path, raw_alpha: bool = False) -> oiio.ImageInput:
    """The file, opened; with `raw_alpha` its colours are not multiplied by its alpha, whatever the format says."""
    if not path.exists():
        raise PlateError(f"{path.name} has gone from {path.parent}; put it back, or open the plate again where it is now.")
    how = oiio.ImageSpec()
    if raw_alpha:
        how.attribute("oiio:UnassociatedAlpha", 1)
    source = oiio.ImageInput.open(str(path), how)
    if source is None:
        raise PlateError(f"{path.name} cannot be read as a picture ({library_words(oiio.geterror)}); "
                         "it may be damaged or another kind of file under that name.")
    spec = source.spec()
    if spec.width <= 0 or spec.height <= 0 or spec.width * spec.height > MOST_PIXELS \
            or spec.full_width * spec.full_height > MOST_PIXELS:
        source.close()
        raise PlateError(f"{path.name} claims to be {spec.width} x {spec.height} pixels, which is more than Wertis opens; it is probably damaged.")
    return source


def _no_text(path: Path) -> PlateError:
    """The error for a file whose names of channels or parts are no text."""
    return PlateError(f"{path.name} is damaged (names in its header are no text); copy it again or render it again.")


def _placed(pixels: np.ndarray, window: tuple[int, int], left: int, top: int) -> np.ndarray:
    out = np.zeros((window[1], window[0], pixels.shape[2]), pixels.dtype)
    x0, y0 = max(0, left), max(0, top)
    x1, y1 = min(window[0], left + pixels.shape[1]), min(window[1], top + pixels.shape[0])
    if x1 > x0 and y1 > y0:
        out[y0:y1, x0:x1] = pixels[y0 - top:y1 - top, x0 - left:x1 - left]
    return out
