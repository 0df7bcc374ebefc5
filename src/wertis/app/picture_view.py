"""What painters ask of a view of the picture."""

from typing import Protocol

import numpy as np
from PySide6.QtCore import QRect, QRectF

from wertis.app.session import Session
from wertis.core.geometry.warp import Warp


class PictureView(Protocol):
    """A view that shows the frame in view, as it is or through a warp.

    Attributes
    ----------
    session : what is open.
    through : the frame's picture to the picture shown, where they are not the same.
    zoom : screen pixels for each pixel of the picture shown.
    aspect : width over height of a pixel of the picture shown.
    """

    session: Session
    through: Warp | None
    zoom: float

    @property
    def aspect(self) -> float: ...

    def to_screen(self, points: np.ndarray) -> np.ndarray:
        """Points (N, 2) of the frame's picture on the widget."""
        ...

    def rect(self) -> QRect: ...

    def picture_area(self) -> QRectF:
        """Where the picture is on the widget."""
        ...

    def magnifier_box(self, point: np.ndarray) -> QRectF:
        """Where the magnifier of a point (2,) of the frame's picture is."""
        ...
