"""A window that shows a patch's flat picture alone: as it is painted, as it was, where it is laid on, or what was changed."""

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QRectF, QSize, Qt, QTimer
from PySide6.QtGui import QImage, QPainter, QPaintEvent
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QLabel, QScrollArea, QVBoxLayout, QWidget

from wertis.app import theme
from wertis.app.pages import part_buttons
from wertis.app.workbench import Workbench
from wertis.core.blas import single_threaded
from wertis.core.comp.patch_pictures import PatchPictures
from wertis.core.errors import WertisError
from wertis.core.plate import colour
from wertis.core.plate.base import from_float
from wertis.core.shot.patches import Patch
from wertis.core.shot.plate_pictures import raw_picture

_VIEWS = (("Painted", "The flat picture with all that is painted on it"), ("As it was", "What was taken out, before anything was painted"),
          ("Laid on", "White where it is laid on the frames, black where it is not"), ("Changed", "What was changed, eight times as strong"))
_RAISED = 8
_BAR = 400  # pixels, width of the row of views
_SOON = 80  # ms after a change, so that a drag is not slowed down


class _Flat(QWidget):
    """The picture, as large as its place or with every pixel."""

    def __init__(self) -> None:
        super().__init__()
        self.pixels: np.ndarray | None = None
        self.every_pixel = False
        self.setAccessibleName("The patch's flat picture")

    def show_pixels(self, pixels: np.ndarray | None) -> None:
        """Show a picture (h, w, 3) uint8."""
        self.pixels = pixels
        self.fit()

    def fit(self) -> None:
        """Take the room that is wanted."""
        wide, high = (self.pixels.shape[1], self.pixels.shape[0]) if self.pixels is not None else (1, 1)
        self.setMinimumSize(QSize(wide, high) if self.every_pixel else QSize(1, 1))
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.GROUND)
        if self.pixels is not None:
            h, w = self.pixels.shape[:2]
            scale = 1.0 if self.every_pixel else min(self.width() / w, self.height() / h)
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, scale < 1)
            image = QImage(self.pixels.data, w, h, 3 * w, QImage.Format.Format_RGB888)
            painter.drawImage(QRectF((self.width() - w * scale) / 2, (self.height() - h * scale) / 2, w * scale, h * scale), image)
        painter.end()


class FlatWindow(QWidget):
    """The flat picture of the selected patch; it follows the selection, the frame and every change.

    Parameters
    ----------
    patch : gives the selected patch.
    """

    def __init__(self, bench: Workbench, pictures: PatchPictures, patch: Callable[[], Patch | None]) -> None:
        super().__init__(bench.window, Qt.WindowType.Window)
        self.bench, self.pictures, self.patch = bench, pictures, patch
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        bar, self.view = part_buttons(_VIEWS, lambda _: self.refresh(), self)
        self.every_pixel = QCheckBox("Every pixel")
        self.every_pixel.setToolTip("One pixel of the screen for each of the picture")
        self.every_pixel.toggled.connect(self._resize)
        self.words = QLabel()
        self.words.setObjectName("quiet")
        row = QHBoxLayout()
        row.setContentsMargins(8, 6, 8, 6)
        parts = QWidget()
        parts.setLayout(bar)
        parts.setFixedWidth(_BAR)
        bar.setContentsMargins(0, 0, 0, 0)
        row.addWidget(parts)
        row.addWidget(self.every_pixel)
        row.addStretch()
        row.addWidget(self.words)
        self.flat = _Flat()
        area = QScrollArea()
        area.setWidget(self.flat)
        area.setWidgetResizable(True)
        area.setFrameShape(QScrollArea.Shape.NoFrame)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addLayout(row)
        layout.addWidget(area)
        self.resize(900, 700)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(_SOON)
        self._later.timeout.connect(self.refresh)
        s = bench.session
        for signal in (s.shot_changed, s.frame_changed, s.selection_changed):
            signal.connect(self._soon)
        self.refresh()

    def _soon(self, *_: object) -> None:
        if self.isVisible():
            self._later.start()

    def _resize(self, on: bool) -> None:
        self.flat.every_pixel = on
        self.flat.fit()

    def refresh(self) -> None:
        """Show the patch as it is now."""
        patch, s = self.patch(), self.bench.session
        if patch is None or s.shot.plate is None:
            self.words.setText("Select a patch.")
            self.flat.show_pixels(None)
            return
        self.setWindowTitle(f"{patch.name}, flat")
        try:
            with single_threaded():
                pixels = self._pixels(patch)
        except WertisError as why:
            self.words.setText(str(why))
            self.flat.show_pixels(None)
            return
        self.words.setText(f"{patch.size[0]} x {patch.size[1]} px, from frame {patch.frame}" + (f", for frame {s.frame}" if patch.strokes else ""))
        self.flat.show_pixels(np.ascontiguousarray(pixels))

    def _pixels(self, patch: Patch) -> np.ndarray:
        """(h, w, 3) uint8 what is wanted, as the plate is viewed."""
        s, which = self.bench.session, self.view.checkedId()
        canvas = self.pictures.kept_canvas(s.shot, patch, s.frame)
        if which == 2:
            alpha = self.pictures.alpha(s.shot, patch, s.frame)
            return np.repeat(np.round(255 * alpha).astype(np.uint8)[..., None], 3, 2)
        kind, viewing = raw_picture(s.shot, patch.frame).dtype, s.viewing
        painted, before = (colour.shown(from_float(p, kind), viewing) for p in (canvas.pixels, self.pictures.flat(s.shot, patch, patch.frame)))
        if which == 3:
            return np.minimum(np.abs(painted.astype(int) - before) * _RAISED, 255).astype(np.uint8)
        return before if which == 1 else painted
