"""A window that shows the same place on many frames, the comp above the plate."""

from collections.abc import Iterator

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QImage, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QScrollArea, QVBoxLayout, QWidget

from wertis.app import theme
from wertis.app.workbench import Workbench
from wertis.core.blas import single_threaded
from wertis.core.jobs.events import Event, Stop
from wertis.core.jobs.job import Job
from wertis.core.jobs.strip import StripFrame, frames_of, strip

_COUNT, _HEIGHT, _GAP = 12, 190, 6  # frames; pixels
_HEAD = 22  # pixels above the pictures, for the frame's number


class StripPictures(QWidget):
    """The pictures of a strip side by side.

    Signals
    -------
    picked(frame) : one was clicked.
    """

    picked = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self.frames: list[StripFrame] = []
        self.current: int | None = None
        self.setAccessibleName("The same place on many frames")
        self._fit()

    def add(self, frame: StripFrame) -> None:
        """One more frame."""
        self.frames.append(frame)
        self._fit()

    @property
    def _width(self) -> int:
        return next((f.comp.shape[1] for f in self.frames if f.comp is not None), _HEIGHT)

    def _fit(self) -> None:
        self.setFixedSize(max(1, len(self.frames)) * (self._width + _GAP) + _GAP, _HEAD + 2 * (_HEIGHT + _GAP))
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        k = int((event.position().x() - _GAP) // (self._width + _GAP))
        if 0 <= k < len(self.frames):
            self.picked.emit(self.frames[k].frame)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.GROUND)
        for k, frame in enumerate(self.frames):
            x = _GAP + k * (self._width + _GAP)
            painter.setPen(theme.PAPER if frame.frame == self.current else theme.QUIET)
            painter.drawText(QPointF(x, 15), str(frame.frame))
            for row, picture in enumerate((frame.comp, frame.plate)):
                box = QRectF(x, _HEAD + row * (_HEIGHT + _GAP), self._width, _HEIGHT)
                if picture is None:
                    painter.setPen(theme.QUIET)
                    if row == 0:
                        painter.drawText(box, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, frame.why)
                    continue
                pixels = np.ascontiguousarray(picture)
                painter.drawImage(box, QImage(pixels.data, pixels.shape[1], pixels.shape[0], 3 * pixels.shape[1], QImage.Format.Format_RGB888))
            if frame.frame == self.current:
                painter.setPen(QPen(theme.PAPER, 1))
                painter.drawRect(QRectF(x - 2, _HEAD - 2, self._width + 3, 2 * _HEIGHT + _GAP + 3))
        painter.end()


class StripWindow(QWidget):
    """A strip of the selected graphic, in a window of its own; a click goes to the frame."""

    def __init__(self, bench: Workbench, ident: str, name: str) -> None:
        super().__init__(bench.window, Qt.WindowType.Window)
        self.bench = bench
        self.setWindowTitle(f"{name} on many frames: comp above, plate below")
        self.pictures = StripPictures()
        self.pictures.picked.connect(bench.session.go)
        bench.session.frame_changed.connect(self._on_frame)
        area = QScrollArea()
        area.setWidget(self.pictures)
        area.setFrameShape(QScrollArea.Shape.NoFrame)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(area)
        self.resize(1240, _HEAD + 2 * (_HEIGHT + _GAP) + 18)
        self._begin(ident)

    def _on_frame(self, frame: int) -> None:
        self.pictures.current = frame
        self.pictures.update()

    def _begin(self, ident: str) -> None:
        s = self.bench.session
        plate, cache, shot = s.plate, s.cache, s.shot
        assert plate is not None and cache is not None
        frames = frames_of(shot, _COUNT)

        def work(stop: Stop) -> Iterator[Event]:
            with single_threaded():
                yield from strip(shot, ident, plate, frames, _HEIGHT, cache.get, stop)

        def step(event: Event) -> None:
            if isinstance(event.item, StripFrame):
                self.pictures.add(event.item)

        def over(job: Job) -> None:
            self.bench.say(job.error or "The strip is made; click a frame in it to go there.", bool(job.error))

        self.pictures.current = s.frame
        self.bench.work.begin(Job("Making the strip", len(frames), work), event=step, ended=over)
