"""A point's pattern seen large: as it was first, and as it is on the frame in view."""

import cv2
import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QImage, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from wertis.app import theme
from wertis.app.session import Session
from wertis.core.plate.colour import shown as as_shown

_SIDE, _GAP, _WORDS = 108, 8, 16  # screen pixels: of a picture, between the two, and of the line beneath
_AROUND = 1.5  # times the pattern's side that is seen


class PatternView(QWidget):
    """Two pictures of what is round a point, as large as the page allows, with the pattern's square and the point on them."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._crops: list[tuple[QImage, float, np.ndarray, np.ndarray] | None] = [None, None]  # picture, pixels seen, pattern's middle, point
        self._words = ["", ""]
        self._key: object = None
        self._side = 1
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(_SIDE + _WORDS)
        self.setAccessibleName("The pattern, large")
        self.setToolTip("Left: the pattern as it was first seen. Right: what is there on this frame")

    def sizeHint(self) -> QSize:
        return QSize(2 * _SIDE + _GAP, _SIDE + _WORDS)

    def show_point(self, name: str, first: tuple[int, np.ndarray, np.ndarray], here: tuple[int, np.ndarray, np.ndarray] | None, side: int,
                   words: str) -> None:
        """Show a point: frame, place (2,) and pattern's middle (2,) where it was first seen, and on the frame in view; `side` of the pattern in pixels."""
        cache = self.session.cache
        pictures = [cache.peek(seen[0]) if cache is not None and seen is not None else None for seen in (first, here)]
        key = (name, first[0], first[2].tolist(), here and (here[0], here[2].tolist()), side, words, [isinstance(p, np.ndarray) for p in pictures],
               self.session.viewing)
        if key == self._key:
            return
        self._key, self._side = key, side
        self._words = [f"first, {first[0]}", words]
        for k, (seen, picture) in enumerate(zip((first, here), pictures, strict=True)):
            if seen is None:
                self._crops[k] = None
            elif isinstance(picture, np.ndarray):
                self._crops[k] = self._crop(picture, seen[1], seen[2])
            elif cache is not None and picture is None:
                self._crops[k] = None
                cache.ahead([seen[0]])
        self.update()

    def _crop(self, picture: np.ndarray, point: np.ndarray, middle: np.ndarray) -> tuple[QImage, float, np.ndarray, np.ndarray]:
        wide = max(_AROUND * self._side, 12.0)
        x, y = np.floor(middle - wide / 2).astype(int)
        n = int(np.ceil(wide)) + 1
        h, w = picture.shape[:2]
        left, top, right, bottom = max(-x, 0), max(-y, 0), max(x + n - w, 0), max(y + n - h, 0)
        part = picture[max(y, 0):max(y + n, 0), max(x, 0):max(x + n, 0)]
        if not part.size:
            part, left, top, right, bottom = np.zeros((1, 1, 3), picture.dtype), 0, 0, n - 1, n - 1
        seen = cv2.copyMakeBorder(as_shown(np.ascontiguousarray(part), self.session.viewing), top, bottom, left, right, cv2.BORDER_CONSTANT)
        image = QImage(seen.data, seen.shape[1], seen.shape[0], 3 * seen.shape[1], QImage.Format.Format_RGB888).copy()
        return image, float(n), middle - [x, y], point - [x, y]

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setFont(self.font())
        side = min(_SIDE, (self.width() - _GAP) // 2)
        for k, crop in enumerate(self._crops):
            box = QRectF(k * (side + _GAP), 0, side, side)
            painter.fillRect(box, theme.HALO)
            if crop is not None:
                image, n, middle, point = crop
                scale = side / n
                painter.save()
                painter.setClipRect(box)
                painter.drawImage(box, image)
                painter.translate(box.topLeft())
                half = self._side * scale / 2
                square = QRectF(middle[0] * scale - half, middle[1] * scale - half, 2 * half, 2 * half)
                at = QPointF(point[0] * scale, point[1] * scale)
                for pen in (QPen(theme.HALO, 3), QPen(theme.AMBER, 1.2)):
                    painter.setPen(pen)
                    painter.drawRect(square)
                    painter.drawLine(at + QPointF(-7, 0), at + QPointF(7, 0))
                    painter.drawLine(at + QPointF(0, -7), at + QPointF(0, 7))
                painter.restore()
            painter.setPen(theme.PAPER)
            text = painter.fontMetrics().elidedText(self._words[k], Qt.TextElideMode.ElideRight, side)
            painter.drawText(QRectF(box.left(), side, side, _WORDS), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, text)
        painter.end()
