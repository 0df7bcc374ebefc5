"""Movies through PyAV, with exact access to every frame."""

import threading
from fractions import Fraction
from pathlib import Path

import av
import numpy as np

from wertis.core.errors import PlateError
from wertis.core.plate.base import Plate

FIRST = 1  # a movie has no frame numbers of its own; its first picture is frame 1


class MoviePlate(Plate):
    """A movie file; frame numbers run from 1 in the order of showing.

    The file's packets are listed once on opening (nothing is decoded), so any frame can be found from the key frame before it.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self._lock = threading.Lock()
        self._container: av.container.InputContainer | None = None
        self._next: int | None = None  # index of the frame that decoding yields next
        try:
            with av.open(str(path)) as container:
                if not container.streams.video:
                    raise PlateError(f"{path.name} has no pictures in it; choose a movie with a video stream.")
                stream = container.streams.video[0]
                rate = stream.average_rate or stream.guessed_rate or Fraction(24)
                self.fps = float(rate)
                self.size = (stream.codec_context.width, stream.codec_context.height)
                self.aspect = float(stream.sample_aspect_ratio or 1) if 0.1 <= float(stream.sample_aspect_ratio or 1) <= 10 else 1.0
                self._deep = (stream.pix_fmt or "").find("10") >= 0 or (stream.pix_fmt or "").find("12") >= 0
                self._times, self._keys = _listed(container, stream)
        except (av.error.FFmpegError, OSError) as why:
            raise PlateError(f"{path.name} cannot be opened as a movie ({why}); it may be cut short or not a movie. "
                             "Copy it again, or convert it to an image sequence.") from why
        if not self._times or min(self.size) <= 0:
            raise PlateError(f"{path.name} holds no frames; it may be cut short. Copy it again.")
        self._index = {t: i for i, t in enumerate(self._times)}
        self.first, self.last = FIRST, FIRST + len(self._times) - 1

    @property
    def gaps(self) -> frozenset[int]:
        return frozenset()

    def read(self, frame: int) -> np.ndarray:
        if not self.first <= frame <= self.last:
            raise self._out_of_range(frame)
        with self._lock:
            try:
                return self._decode(frame - FIRST)
            except (av.error.FFmpegError, StopIteration, OSError) as why:
                self._container, self._next = None, None
                raise PlateError(f"Frame {frame} of {self.path.name} cannot be decoded; the movie may be cut short or damaged "
                                 "there. The frame is skipped.") from why

    def _decode(self, wanted: int) -> np.ndarray:
        if self._container is None:
            self._container = av.open(str(self.path))
            self._container.streams.video[0].thread_type = "AUTO"
            self._stream_frames = self._container.decode(video=0)
            self._next = 0
        if self._next is None or not self._next <= wanted <= self._next + 12:
            key = max((k for k in self._keys if k <= self._times[wanted]), default=self._times[0])
            self._container.seek(key, stream=self._container.streams.video[0], backward=True)
            self._stream_frames = self._container.decode(video=0)
        while True:
            picture = next(self._stream_frames)
            index = self._index.get(picture.pts) if picture.pts is not None else None
            if index is None:
                continue
            self._next = index + 1
            if index == wanted:
                return picture.to_ndarray(format="rgb48le" if self._deep else "rgb24")
            if index > wanted:
                raise StopIteration


def _listed(container: av.container.InputContainer, stream: av.video.stream.VideoStream) -> tuple[list[int], list[int]]:
    times, keys = [], []
    try:
        for packet in container.demux(stream):
            if packet.pts is not None and packet.size:
                times.append(packet.pts)
                if packet.is_keyframe:
                    keys.append(packet.pts)
    except av.error.FFmpegError:
        pass  # cut short: what was listed until here is what there is
    return sorted(set(times)), sorted(keys)
