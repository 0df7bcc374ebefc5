"""The steady view: the surface held still while the rest of the shot moves round it."""

import cv2
import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QImage, QPainter, QPen

from wertis.app import theme
from wertis.app.overlay import Overlay
from wertis.app.painting import words
from wertis.app.session import Session
from wertis.app.tools import Tool
from wertis.app.viewer import Viewer, track_words
from wertis.core.geometry import homography, quad
from wertis.core.geometry.motion import between
from wertis.core.geometry.warp import IDENTITY, HomographyWarp, Warp, compose
from wertis.core.imaging.resample import warped
from wertis.core.jobs.check import chosen_placement, corners_of
from wertis.core.plate.colour import shown as as_shown
from wertis.core.shot.edits import carry
from wertis.core.shot.placing import surface_proportions
from wertis.core.shot.resolve import motion_of

HELD = {"flat": "Flat", "place": "As on the reference frame"}
COMPARED = {"none": "The frame", "reference": "The reference frame", "difference": "Difference", "wipe": "Split"}
_LONG_SIDE = 1000  # pixels of the flat view's longer side
_MARGIN = 0.10  # of the placement's sides, seen round it when flat
GAIN = 8  # of the difference: a tenth of a pixel shows on an edge of moderate contrast
_TILE, _CLOSE = 92, 5.0  # side of a corner's close-up in screen pixels, and its magnification over the shown picture


class SteadyViewer(Viewer):
    """Shows frames through the selected track's motion. Tools and overlays are those of the plate's view.

    Attributes
    ----------
    held : one of `HELD`.
    compared : one of `COMPARED`.
    split : where the split lies, as a part of the width; the reference frame is on its left.
    close_ups : whether reference and frame are shown side by side, enlarged, for each corner.
    """

    def __init__(self, session: Session, plate_view: Viewer) -> None:
        self._plate_view = plate_view
        super().__init__(session)
        self.held, self.compared, self.split, self.close_ups = "flat", "none", 0.5, False
        self._reference: tuple[np.ndarray, object, np.ndarray] | None = None
        self._now: np.ndarray | None = None
        self._before: np.ndarray | None = None
        self.setAccessibleName("Steady view")

    @property
    def aspect(self) -> float:
        """A flat surface is shown with its own proportions."""
        return 1.0 if self.held == "flat" else self.session.aspect

    @property
    def tool(self) -> Tool | None:  # type: ignore[override]
        """The tool in hand is the plate view's, where there is a surface held still to use it on."""
        return self._plate_view.tool if self.through is not None else None

    @tool.setter
    def tool(self, tool: Tool | None) -> None:
        pass

    @property
    def overlay(self) -> Overlay:  # type: ignore[override]
        """What the step in hand has to say is the plate view's."""
        return self._plate_view.overlay

    @overlay.setter
    def overlay(self, overlay: Overlay) -> None:
        pass

    def show_frame(self, picture: np.ndarray | None, trouble: str) -> None:
        """Show a frame (h, w, 3) uint8 held still, or say why it cannot be."""
        track = self.session.track
        # until something is held still there is nothing to draw on, or to work in
        self.through, self.overlays, self.surface_overlay = None, False, self._plate_view.surface_overlay
        self._now = self._before = None
        motion = motion_of(track) if track is not None else None
        if track is None or motion is None:
            self.show_picture(None, "The steady view holds a tracked surface still. " + (
                "Track one first." if track is not None or not self.session.shot.tracks else "What is selected is carried by none."))
            return
        if picture is None:
            self.show_picture(None, trouble)
            return
        base = self.session.base if self.session.base is not None else track.region.frame
        back = between(motion, self.session.frame, base)
        full = self.session.plate.size if self.session.plate is not None else (picture.shape[1], picture.shape[0])
        laid = self._laid(base, full)
        if back is None or laid is None:
            self.show_picture(None, f"{track.name} is lost on frame {self.session.frame}: nothing to hold still.")
            return
        onto, size = laid
        comparing = self.compared != "none" or self.close_ups
        plate = self.session.cache.peek(self.session.frame) if comparing and self.session.cache is not None else None
        if isinstance(plate, np.ndarray):
            picture = as_shown(plate, self.session.viewing)  # the reference frame is shown without graphics, so this one is as well
        self.through, self.overlays = compose(onto, back), self._plate_view.overlays
        # a quick look is smaller than the frame it stands for
        whole = HomographyWarp(homography.scaling(full[0] / picture.shape[1], full[1] / picture.shape[0]))
        self._now = warped(picture, compose(self.through, whole), size)
        shown = self._now
        if comparing:
            self._before = self._steady_reference(base, onto, size)
            if self._before is not None:
                shown = self._mixed(self._now, self._before)
        self.show_picture(np.ascontiguousarray(shown), trouble)

    # -- inside ---------------------------------------------------------------------------------------------------

    def _laid(self, base: int, size: tuple[int, int]) -> tuple[Warp, tuple[int, int]] | None:
        """The warp from the base frame's picture to the one shown, and the size of that."""
        track = self.session.track
        assert track is not None
        if self.held == "place":
            return IDENTITY, size
        points, home, _ = corners_of(self.session.shot, track, self.session.placement_id)
        corners = carry(track, points, home, base)
        if corners is None or not quad.is_convex(corners):
            return None
        placement = chosen_placement(self.session.shot, track, self.session.placement_id)
        if placement is not None:
            ratio = surface_proportions(placement, size, self.session.aspect).ratio
        else:
            ratio = quad.side_proportions(corners * [self.session.aspect, 1.0])
        w, h = (_LONG_SIDE, _LONG_SIDE / ratio) if ratio >= 1 else (_LONG_SIDE * ratio, _LONG_SIDE)
        dx, dy = _MARGIN * w, _MARGIN * h
        target = np.array([[dx, dy], [w - dx, dy], [w - dx, h - dy], [dx, h - dy]])
        return HomographyWarp(homography.from_points(corners, target)), (max(16, round(w)), max(16, round(h)))

    def _steady_reference(self, base: int, onto: Warp, size: tuple[int, int]) -> np.ndarray | None:
        cache = self.session.cache
        picture = cache.peek(base) if cache is not None else None
        if not isinstance(picture, np.ndarray):
            if cache is not None:
                cache.ahead([self.session.frame, base])
            return None
        assert onto.matrix is not None
        key = (onto.matrix.tobytes(), size, self.session.viewing)
        # by the picture itself, which is kept as long as what was made of it
        if self._reference is None or self._reference[0] is not picture or self._reference[1] != key:
            self._reference = picture, key, warped(as_shown(picture, self.session.viewing), onto, size)
        return self._reference[2]

    def _mixed(self, now: np.ndarray, before: np.ndarray) -> np.ndarray:
        if self.compared == "reference":
            return before
        if self.compared == "difference":
            return cv2.addWeighted(now, GAIN, before, -GAIN, 128)
        if self.compared == "wipe":
            cut = round(self.split * now.shape[1])
            return np.concatenate([before[:, :cut], now[:, cut:]], axis=1)
        return now

    def paint_over(self, painter: QPainter) -> None:
        """What the steady view has over the picture beside the overlays."""
        if self.compared == "wipe" and self._before is not None and self._image is not None:
            x = self.origin.x() + self.split * self._size[0] * self.zoom * self.aspect
            for colour, width in ((theme.HALO, 3.0), (theme.PAPER, 1.0)):
                painter.setPen(QPen(colour, width))
                painter.drawLine(QPointF(x, self.origin.y()), QPointF(x, self.origin.y() + self._size[1] * self.zoom))
        track = self.session.track
        if self.close_ups and track is not None and self._before is not None and self._now is not None and self.through is not None:
            self._paint_close_ups(painter)
        if track is not None and self._image is not None and self.overlays:
            base = self.session.base if self.session.base is not None else track.region.frame
            what = {"none": "", "reference": "; this is the reference frame", "difference": f"; difference, {GAIN} times",
                    "wipe": "; reference frame on the left"}[self.compared]
            text = f"Steady on {base}: {track.name}, {track_words(track)}{what}"
            words(painter, QPointF(12, 20), self.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, self.width() - 24),
                  theme.PAPER)

    def _paint_close_ups(self, painter: QPainter) -> None:
        """At each corner of the pane, that corner of the surface on the reference frame and on this one."""
        track = self.session.track
        assert track is not None and self._before is not None and self._now is not None and self.through is not None
        points, home, _ = corners_of(self.session.shot, track, self.session.placement_id)
        corners = carry(track, points, home, self.session.frame)
        if corners is None:
            return
        factor = _CLOSE * max(self.zoom, 0.3)
        side = min(float(_TILE), (self.width() - 44) / 4)
        for k, (x, y) in enumerate(self.through.forward(corners)):
            if not np.isfinite([x, y]).all():
                continue
            left = 12.0 if k in (0, 3) else self.width() - 2 * side - 16.0
            top = 34.0 if k in (0, 1) else self.height() - side - 54.0
            for i, (source, name) in enumerate(((self._before, "reference"), (self._now, "frame"))):
                box = QRectF(left + i * (side + 4), top, side, side)
                image = QImage(source.data, source.shape[1], source.shape[0], 3 * source.shape[1], QImage.Format.Format_RGB888)
                painter.save()
                painter.setClipRect(box)
                painter.fillRect(box, theme.GROUND)
                painter.translate(box.center())
                painter.scale(factor * self.aspect, factor)
                painter.drawImage(QPointF(-x, -y), image)
                painter.restore()
                c = box.center()
                painter.setPen(QPen(theme.PAPER, 1))
                for dx, dy in ((1, 0), (-1, 0), (0, 1), (0, -1)):
                    painter.drawLine(QPointF(c.x() + 4 * dx, c.y() + 4 * dy), QPointF(c.x() + 14 * dx, c.y() + 14 * dy))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRect(box)
                words(painter, QPointF(box.left() + 5, box.bottom() - 5), name, theme.PAPER)
