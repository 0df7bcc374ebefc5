"""A window that shows what the receiver's stand-in made of an export: our picture, its picture, and their difference."""

import numpy as np
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QImage, QPainter, QPaintEvent, Qt
from PySide6.QtWidgets import QLabel, QScrollArea, QVBoxLayout, QWidget

from wertis.app import theme
from wertis.core.jobs.prove import Proof

_WIDTH, _GAP, _HEAD = 400, 8, 24  # pixels
_RAISED = 8


class _Rows(QWidget):
    def __init__(self, proof: Proof) -> None:
        super().__init__()
        self.proof = proof
        frame = proof.frames[0].ours if proof.frames else np.zeros((9, 16, 3), np.uint8)
        self._height = round(_WIDTH * frame.shape[0] / frame.shape[1])
        self.setFixedSize(3 * _WIDTH + 4 * _GAP, max(1, len(proof.frames)) * (self._height + _HEAD + _GAP))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.fillRect(self.rect(), theme.GROUND)
        for k, frame in enumerate(self.proof.frames):
            y = k * (self._height + _HEAD + _GAP)
            difference = np.minimum(np.abs(frame.ours.astype(int) - frame.theirs) * _RAISED, 255).astype(np.uint8)
            words = (f"Frame {frame.frame}: Wertis", "The receiver, from the file alone",
                     f"Difference, {_RAISED} times: {frame.difference:.2f} / 255; corners off by {frame.corners:.4f} px")
            for column, (picture, text) in enumerate(zip((frame.ours, frame.theirs, difference), words, strict=True)):
                x = _GAP + column * (_WIDTH + _GAP)
                painter.setPen(theme.QUIET)
                painter.drawText(QPointF(x, y + 16), text)
                pixels = np.ascontiguousarray(picture)
                image = QImage(pixels.data, pixels.shape[1], pixels.shape[0], 3 * pixels.shape[1], QImage.Format.Format_RGB888)
                painter.drawImage(QRectF(x, y + _HEAD, _WIDTH, self._height), image)
        painter.end()


class ProofWindow(QWidget):
    """What was proved."""

    def __init__(self, parent: QWidget, proof: Proof, title: str) -> None:
        super().__init__(parent, Qt.WindowType.Window)
        self.setWindowTitle(f"Proof: {title}")
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.words = QLabel(proof.wrong or "It arrives: the receiver puts the graphic where Wertis does.")
        self.words.setObjectName("heading")
        self.words.setContentsMargins(10, 8, 10, 4)
        rows = _Rows(proof)
        area = QScrollArea()
        area.setWidget(rows)
        area.setFrameShape(QScrollArea.Shape.NoFrame)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self.words)
        layout.addWidget(area)
        self.resize(rows.width() + 24, min(rows.height() + 60, 820))
