"""What a step has to say over the picture. The base says nothing; steps override what they need."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtGui import QColor, QPainter

if TYPE_CHECKING:
    from wertis.app.picture_view import PictureView

Line = tuple[str, QColor]


class Overlay:
    """What lies over a view of the picture.

    Attributes
    ----------
    quiet : the tracks' own outlines step back behind what is painted here.
    """

    quiet = False

    def paint(self, painter: QPainter, view: PictureView) -> None:
        """Over the picture and the outlines, under the tool."""

    def paint_beside_tool(self, painter: QPainter, view: PictureView) -> None:
        """While a point is dragged in the view, over everything."""

    def headline(self) -> Line | None:
        """The first line at the picture's top, where it is not the usual one."""
        return None

    def captions(self) -> list[Line]:
        """Lines below the first."""
        return []
