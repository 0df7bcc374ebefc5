"""Writing movies through PyAV: H.264 in .mp4 or .mov for showing, FFV1 in .mkv without loss."""

from fractions import Fraction
from pathlib import Path
from types import TracebackType
from typing import Self

import av
import numpy as np

from wertis.core.errors import DeliverError
from wertis.core.plate.base import from_float, to_float

SUFFIXES = (".mp4", ".mov", ".mkv")


class MovieWriter:
    """A movie being written; use as a context. Under its final name only when it was closed whole.

    Parameters
    ----------
    path : .mp4 or .mov (H.264, 4:2:0, even sizes are made by leaving out a last row or column), .mkv (FFV1, without loss).
    size : width and height.
    fps : frames per second.
    aspect : width of a pixel over its height; .mkv does not keep it.
    """

    def __init__(self, path: Path, size: tuple[int, int], fps: float, aspect: float = 1.0) -> None:
        if path.suffix.lower() not in SUFFIXES:
            raise DeliverError(f"'{path.suffix}' is not a kind of movie that Wertis writes; choose one of {', '.join(SUFFIXES)}.")
        if not path.absolute().parent.is_dir():
            raise DeliverError(f"The folder {path.absolute().parent} does not exist; make it, or choose another.")
        self.path = path
        self._abandoned = False
        self._temporary = path.with_name(f".{path.stem}.part{path.suffix}")
        self._exact = path.suffix.lower() == ".mkv"
        self._size = size if self._exact else (size[0] // 2 * 2, size[1] // 2 * 2)
        self._rate = Fraction(fps).limit_denominator(1001)
        try:
            self._container = av.open(str(self._temporary), "w")
            self._stream = self._container.add_stream("ffv1" if self._exact else "libx264", rate=self._rate)
            self._stream.width, self._stream.height = self._size
            if aspect != 1:
                self._stream.codec_context.sample_aspect_ratio = Fraction(aspect).limit_denominator(1000)
            self._stream.pix_fmt = "bgr0" if self._exact else "yuv420p"
            if not self._exact:
                self._stream.options = {"crf": "14", "preset": "medium"}
        except (av.error.FFmpegError, OSError, ValueError) as why:
            self._temporary.unlink(missing_ok=True)
            raise DeliverError(f"{path.name} could not be begun ({why}); choose another folder or kind of file.") from why

    def add(self, picture: np.ndarray) -> None:
        """Append a picture (h, w, 3 or more)."""
        shown = picture if picture.dtype == np.uint8 else from_float(to_float(picture), np.uint8)
        w, h = self._size
        frame = av.VideoFrame.from_ndarray(np.ascontiguousarray(shown[:h, :w, :3]), format="rgb24")
        try:
            for packet in self._stream.encode(frame):
                self._container.mux(packet)
        except (av.error.FFmpegError, OSError) as why:
            raise self._failed(why) from why

    def abandon(self) -> None:
        """Leave the movie unfinished: nothing takes its final name."""
        self._abandoned = True

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, value: BaseException | None, trace: TracebackType | None) -> None:
        try:
            kept = kind is None and not self._abandoned
            if kept:
                for packet in self._stream.encode(None):
                    self._container.mux(packet)
            self._container.close()
            if kept:
                self._temporary.replace(self.path)
        except (av.error.FFmpegError, OSError) as why:
            if kind is None:
                raise self._failed(why) from why
        finally:
            self._temporary.unlink(missing_ok=True)

    def _failed(self, why: BaseException) -> DeliverError:
        return DeliverError(f"{self.path.name} could not be written ({why}); free some space and render again, or render an image "
                            "sequence, which keeps every finished frame.")
