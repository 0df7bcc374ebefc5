"""The picture: zoom, pan, overlays, and the tool that is in hand."""

import cv2
import numpy as np
from PySide6.QtCore import QEvent, QPointF, QRectF, QSizeF, Qt, Signal
from PySide6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent, QTabletEvent, QWheelEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from wertis.app import theme
from wertis.app.magnifier import factor_of, paint_cross
from wertis.app.overlay import Line, Overlay
from wertis.app.painting import outline as _outline
from wertis.app.painting import words as _words
from wertis.app.session import Session
from wertis.app.tools import Tool
from wertis.core.geometry.spline import closed_curve
from wertis.core.geometry.warp import Warp
from wertis.core.shot.document import PlaneSettings, Shape, Track
from wertis.core.shot.edits import carry
from wertis.core.shot.motions import motion_words
from wertis.core.shot.regions import shapes_on
from wertis.core.shot.resolve import motion_of

MOST_ZOOM, LEAST_ZOOM = 64.0, 0.02
_PER_SIDE = 24  # steps in which a straight side is drawn where it bends
_MAGNIFIER = 168
_NEAR_DIVIDER = 6.0  # pixels of the screen
_OF_PANE, _LEAST_MAGNIFIER = 0.4, 112  # of the pane's shorter side, so that it leaves something to be seen; pixels


class Viewer(QWidget):
    """Shows one frame and lets tools work on it. Points are in the picture's pixels.

    Signals
    -------
    zoomed(factor) : screen pixels per picture pixel.
    hovered(x, y) : the pointer's place in the picture; nan when outside.
    released() : what was dragged was let go.
    divided(at) : the line that parts the picture was dragged there.
    """

    zoomed = Signal(float)
    hovered = Signal(float, float)
    released = Signal()
    divided = Signal(float)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.tool: Tool | None = None
        self.overlay = Overlay()  # what the step in hand has to say over the picture
        self.through: Warp | None = None  # frame's picture to the picture shown, where they are not the same
        self.surface_overlay = "none"
        self.overlays = True
        self._image: QImage | None = None
        self._pixels: np.ndarray | None = None
        self._reduced: tuple[np.ndarray, QImage] | None = None  # the picture and what of it is on the screen
        self._size = (1280, 720)
        self.picture_frame: int | None = None  # the frame that the picture shown is of, where that is known
        self._trouble = ""
        self.zoom = 1.0
        self.origin = QPointF(0, 0)
        self._fitted, self._fitted_aspect = True, 1.0
        self._panning: QPointF | None = None
        self.divider: float | None = None  # share of the picture's width at which a line parts it, that can be dragged
        self._dividing = False
        self._beside: np.ndarray | None = None  # the plate, shown on half of the widget at the same place and zoom
        self._halved = False
        self.pressure = 1.0  # of a tablet's pen, 0..1
        self.holding = False  # whether something is being dragged that was taken in this pane
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(160, 90)
        self.setAccessibleName("Picture")

    # -- what is shown --------------------------------------------------------------------------------------------

    def show_picture(self, picture: np.ndarray | None, trouble: str, size: tuple[int, int] | None = None) -> None:
        """Show (h, w, 3) uint8, or the reason why there is no picture. One that was made smaller for a quick look stands for a picture of `size`."""
        self._trouble = trouble
        self._pixels, self._reduced = picture, None
        if picture is not None:
            h, w = picture.shape[:2]
            self._image = QImage(picture.data, w, h, 3 * w, QImage.Format.Format_RGB888)
            if (size or (w, h)) != self._size:
                self._size = size or (w, h)
                self.fit()
        else:
            self._image = None
        self.update()

    def set_beside(self, plate: np.ndarray | None, wanted: bool) -> None:
        """Show the plate (h, w, 3) uint8 on half of the widget, at the same place and zoom as the comp on the other, or the comp alone."""
        self._beside = plate if wanted else None
        if wanted != self._halved:
            self._halved = wanted
            self.fit()

    @property
    def _room(self) -> QSizeF:
        """What the picture has of the widget: all, or that half of it in which it is larger."""
        w, h = float(self.width()), float(self.height())
        if not self._halved:
            return QSizeF(w, h)
        shape = self._size[0] * self.aspect / self._size[1]
        return QSizeF(w / 2, h) if min(w / 2, h * shape) >= min(w, h / 2 * shape) else QSizeF(w, h / 2)

    @property
    def _other(self) -> QPointF:
        """From a place of the comp to the same place of the plate that is shown beside it."""
        room = self._room
        return QPointF(self.width() - room.width(), self.height() - room.height())

    def _place(self, place: QPointF) -> QPointF:
        """A place on the widget as one where the comp is, also where it is on the plate beside it."""
        room = self._room
        return place - self._other if self._halved and (place.x() >= room.width() or place.y() >= room.height()) else place

    def set_size(self, size: tuple[int, int]) -> None:
        """The plate's size, before its first picture is there."""
        self._size = size
        self.fit()

    @property
    def aspect(self) -> float:
        """Width over height of a pixel of the picture shown."""
        return self.session.aspect

    @property
    def picture(self) -> np.ndarray | None:
        """What is shown, (h, w, 3) uint8."""
        return self._pixels

    @property
    def late(self) -> bool:
        """Whether the picture shown is still another frame's than the one in view."""
        return self._image is not None and self.picture_frame not in (None, self.session.frame)

    # -- places ---------------------------------------------------------------------------------------------------

    def to_screen(self, points: np.ndarray) -> np.ndarray:
        """Picture points (N, 2) on the widget."""
        shown = np.asarray(points) if self.through is None else self.through.forward(np.asarray(points, float))
        return shown * [self.zoom * self.aspect, self.zoom] + [self.origin.x(), self.origin.y()]

    def to_picture(self, place: QPointF) -> np.ndarray:
        """A place on the widget as a picture point (2,)."""
        shown = np.array([(place.x() - self.origin.x()) / (self.zoom * self.aspect), (place.y() - self.origin.y()) / self.zoom])
        return shown if self.through is None else np.asarray(self.through.inverse(shown[None])[0])

    def fit(self) -> None:
        """Show the whole picture as large as it goes."""
        self._fitted_aspect = self.aspect
        w, h, room = self._size[0] * self.aspect, self._size[1], self._room
        self.zoom = max(LEAST_ZOOM, min((room.width() - 8) / w, (room.height() - 8) / h))
        self.origin = QPointF((room.width() - w * self.zoom) / 2, (room.height() - h * self.zoom) / 2)
        self._fitted = True
        self.zoomed.emit(self.zoom)
        self.update()

    def zoom_to(self, factor: float, at: QPointF | None = None) -> None:
        """Zoom to a factor; the picture's point under `at` stays there."""
        at = at or QPointF(self._room.width() / 2, self._room.height() / 2)
        shown = (at - self.origin) / self.zoom
        self.zoom = float(np.clip(factor, LEAST_ZOOM, MOST_ZOOM))
        self.origin = at - shown * self.zoom
        self._fitted = False
        self.zoomed.emit(self.zoom)
        self.update()

    # -- events ---------------------------------------------------------------------------------------------------

    def resizeEvent(self, event: QResizeEvent) -> None:
        if self._fitted:
            self.fit()

    def wheelEvent(self, event: QWheelEvent) -> None:
        self.zoom_to(self.zoom * 1.2 ** (event.angleDelta().y() / 120), self._place(event.position()))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        if event.button() == Qt.MouseButton.MiddleButton or (
                event.button() == Qt.MouseButton.LeftButton and event.modifiers() & Qt.KeyboardModifier.AltModifier):
            self._panning = event.position()
            self.setCursor(Qt.CursorShape.ClosedHandCursor)
        elif event.button() == Qt.MouseButton.LeftButton and self._on_divider(event.position()):
            self._dividing = True
        elif self.tool is not None and event.button() == Qt.MouseButton.LeftButton:
            self.holding = True
            self.tool.press(self.to_picture(self._place(event.position())), 9 / self.zoom, event.modifiers())
        self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._panning is not None:
            self.origin += event.position() - self._panning
            self._panning = event.position()
            self._fitted = False
        elif self._dividing:
            area = self.picture_area()
            self.divided.emit(float(np.clip((event.position().x() - area.x()) / max(area.width(), 1), 0, 1)))
        elif self._on_divider(event.position()):
            self.setCursor(Qt.CursorShape.SplitHCursor)
        elif self.tool is None and self.divider is not None:
            self.unsetCursor()
        elif self.tool is not None:
            self.tool.move(self.to_picture(self._place(event.position())), 9 / self.zoom)
            self.setCursor(self.tool.cursor)
        point = self.to_picture(self._place(event.position()))
        self.hovered.emit(float(point[0]), float(point[1]))
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self.holding = False
        if self._panning is not None:
            self._panning = None
            self.unsetCursor()
        elif self._dividing:
            self._dividing = False
        elif self.tool is not None:
            self.tool.release(self.to_picture(self._place(event.position())))
            self.released.emit()
        self.update()

    def tabletEvent(self, event: QTabletEvent) -> None:
        # a pen's pressure; that it moves comes as a mouse's event, which follows where this one is left alone
        self.pressure = float(event.pressure()) if event.type() != QEvent.Type.TabletRelease else 1.0
        event.ignore()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self.tool is not None and event.button() == Qt.MouseButton.LeftButton:
            self.tool.double(self.to_picture(self._place(event.position())), 9 / self.zoom)
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if self.tool is None or not self.tool.key(Qt.Key(event.key()), event.modifiers()):
            super().keyPressEvent(event)
        self.update()

    # -- painting -------------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        try:
            self._paint(painter)
        finally:
            painter.end()  # even when something fails, or the window could not be painted any more

    def _paint(self, painter: QPainter) -> None:
        painter.fillRect(self.rect(), theme.GROUND)
        if self._fitted and self._fitted_aspect != self.aspect:
            self.fit()
        area = self.picture_area()
        if self.session.plate is None:
            self._paint_empty(painter)
            return
        if self._halved:
            self._paint_beside(painter, area)
        if self._image is not None:
            self._paint_picture(painter, area)
        else:
            self._paint_missing(painter, area)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self.late:  # what lies over one frame is not where it is on another
            _words(painter, QPointF(12, 20), f"Frame {self.session.frame} is on its way; this is frame {self.picture_frame}", theme.AMBER)
            return
        if self.overlays:
            self._paint_tracks(painter)
            self.overlay.paint(painter, self)
        if self.tool is not None:
            self.tool.paint(painter, self.to_screen)
            if self.tool.magnify is not None and self._pixels is not None and self.holding:  # the other pane shows the whole
                self._paint_magnifier(painter, self.tool.magnify)
                self.overlay.paint_beside_tool(painter, self)
        if self.divider is not None:
            self._paint_divider(painter)
        self.paint_over(painter)
        if self.overlays and self.through is None:
            self._paint_words(painter)
        if self._halved:
            self._paint_names(painter)

    def _paint_picture(self, painter: QPainter, area: QRectF) -> None:
        """The picture; reduced once for each picture and zoom where it is shown smaller, which Qt would do at every painting, and slower."""
        assert self._image is not None
        dots = self.devicePixelRatioF()
        enlarged = area.width() * dots >= self._image.width()
        if enlarged or self._pixels is None:
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform,
                                  self.zoom < 3 or self.aspect != 1 or self._image.width() != self._size[0])
            painter.drawImage(area, self._image)
            return
        size = max(1, round(area.width() * dots)), max(1, round(area.height() * dots))
        if self._reduced is None or self._reduced[0] is not self._pixels or self._reduced[1].size().toTuple() != size:
            small = self._pixels
            while size[0] < small.shape[1] / 2:  # by whole halves first, which is quick and loses no pixel
                small = cv2.resize(small, (max(1, small.shape[1] // 2), max(1, small.shape[0] // 2)), interpolation=cv2.INTER_AREA)
            small = cv2.resize(small, size, interpolation=cv2.INTER_LINEAR)
            # Qt keeps no copy of what it is given here
            image = QImage(small.data, *size, 3 * size[0], QImage.Format.Format_RGB888).convertToFormat(QImage.Format.Format_RGB32)
            image.setDevicePixelRatio(dots)
            self._reduced = self._pixels, image
        painter.drawImage(QPointF(round(area.x() * dots) / dots, round(area.y() * dots) / dots), self._reduced[1])

    def _paint_beside(self, painter: QPainter, area: QRectF) -> None:
        """The plate on the other half; what comes after is painted on the comp's half alone."""
        half, other = QRectF(QPointF(0, 0), self._room), self._other
        if self._beside is not None:
            h, w = self._beside.shape[:2]
            painter.save()
            painter.setClipRect(half.translated(other))
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, self.zoom < 3)
            painter.drawImage(area.translated(other), QImage(self._beside.data, w, h, 3 * w, QImage.Format.Format_RGB888))
            painter.restore()
        across = other.x() > 0
        painter.fillRect(QRectF(half.right() - 1, 0, 2, half.height()) if across else QRectF(0, half.bottom() - 1, half.width(), 2), theme.PANEL)
        painter.setClipRect(half.adjusted(0, 0, -1 if across else 0, 0 if across else -1))

    def _paint_names(self, painter: QPainter) -> None:
        """What each half is."""
        painter.setClipping(False)
        for words, by in (("Comp", QPointF(0, 0)), ("Plate", self._other)):
            _words(painter, QPointF(12, self._room.height() - 12) + by, words, theme.PAPER)

    def _on_divider(self, place: QPointF) -> bool:
        area = self.picture_area()
        return self.divider is not None and abs(place.x() - area.x() - self.divider * area.width()) < _NEAR_DIVIDER

    def _paint_divider(self, painter: QPainter) -> None:
        assert self.divider is not None
        area = self.picture_area()
        x = area.x() + self.divider * area.width()
        for pen in (QPen(theme.HALO, 3), QPen(theme.PAPER, 1)):
            painter.setPen(pen)
            painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
        _words(painter, QPointF(x - painter.fontMetrics().horizontalAdvance("Plate") - 10, area.bottom() - 10), "Plate", theme.PAPER)
        _words(painter, QPointF(x + 10, area.bottom() - 10), "Comp", theme.PAPER)

    def picture_area(self) -> QRectF:
        """Where the picture is on the widget."""
        return QRectF(self.origin.x(), self.origin.y(), self._size[0] * self.zoom * self.aspect, self._size[1] * self.zoom)

    def paint_over(self, painter: QPainter) -> None:
        """For views that have more to show over the picture."""

    def _paint_empty(self, painter: QPainter) -> None:
        painter.setPen(theme.QUIET)
        painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter,
                         "Open a plate to begin: a folder of frames or a movie (Ctrl+O).\nOr take a demo shot: File > Demo shots.")

    def _paint_missing(self, painter: QPainter, area: QRectF) -> None:
        painter.fillRect(area, QColor("#222222"))
        painter.setPen(QPen(QColor("#343434"), 1))
        step = 26
        painter.save()
        painter.setClipRect(area)
        x = area.left() - area.height()
        while x < area.right():
            painter.drawLine(QPointF(x, area.bottom()), QPointF(x + area.height(), area.top()))
            x += step
        painter.restore()
        if self._trouble:
            painter.setPen(theme.PAPER)
            painter.drawText(area.adjusted(40, 0, -40, 0), Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self._trouble)

    def _paint_tracks(self, painter: QPainter) -> None:
        s = self.session
        painter.save()
        if self.through is not None:  # the steady view shows a part of the picture, and nothing beyond it
            painter.setClipRect(self.picture_area())
        for track in s.shot.tracks:
            if not track.visible:
                continue
            chosen = track.id == s.track_id
            live = s.live.on(track.id, s.frame)
            if live is not None:
                warp = live.warp
                shapes = [warp.forward(_sides(shape)) for shape in track.region.shapes] if warp is not None else None
            else:
                there = shapes_on(track, s.frame)
                shapes = None if there is None else [_bent(track, *each, s.frame) for each in zip(track.region.shapes, there, strict=True)]
            if shapes is None:
                continue
            colour = theme.ACCENT if chosen else theme.QUIET
            quiet = self.overlay.quiet
            width = 1.6 if chosen and not quiet else 1.0
            for shape, points in zip(track.region.shapes, shapes, strict=True):
                drawn = self.to_screen(points)
                if np.isfinite(drawn).all():
                    _outline(painter, drawn, colour, width, dashed=shape.subtract or (chosen and quiet))
            corner = self.to_screen(shapes[0])[np.argmin(shapes[0].sum(1))]
            if (not chosen or len(s.shot.tracks) > 1) and np.isfinite(corner).all():
                _words(painter, QPointF(corner[0], corner[1] - 8), track.name, theme.ACCENT if chosen else theme.TEXT)
        painter.restore()

    def _paint_words(self, painter: QPainter) -> None:
        s = self.session
        lines: list[Line] = []
        if s.track is not None:
            lines.append(self.overlay.headline() or self._about(s.track))
        lines += self.overlay.captions()
        if s.plate is not None and s.plate.layer:
            lines.append((f"Layer {s.plate.layer} of the plate's files", theme.QUIET))
        if not s.viewing.plain:
            lines.append((f"View only: {s.viewing.words()}", theme.QUIET))
        if self._trouble and self._image is not None:
            lines.append((self._trouble, theme.LOST))
        y = 20.0
        for text, colour in lines:
            _words(painter, QPointF(12, y), self.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, round(self._room.width()) - 24), colour)
            y += 20

    def _about(self, track: Track) -> Line:
        """The selected track on the frame in view, in words."""
        s = self.session
        live, motion, reference = s.live.on(track.id, s.frame), motion_of(track), track.region.frame
        if live is not None:
            text = f"seen {live.seen:.0%}, expected error {live.error:.2f} px" if live.warp is not None else f"lost: {live.reason}"
            return f"{track.name}: {text}", theme.PAPER if live.warp is not None else theme.LOST
        if motion is None:
            return f"{track.name}: not tracked yet, drawn on frame {reference}", theme.PAPER
        if motion.at(s.frame) is None:
            reason = getattr(track.solution, "reasons", {}).get(s.frame, "")
            return f"{track.name}: {f'lost here: {reason}' if reason else 'not tracked here'}", theme.LOST
        return f"{track.name}: {track_words(track)}; reference frame {reference}", theme.PAPER

    def magnifier_box(self, point: np.ndarray) -> QRectF:
        """Where the magnifier of a point (2,) of the frame's picture is."""
        place = self.to_screen(point[None])[0]
        side = round(min(_MAGNIFIER, max(_LEAST_MAGNIFIER, _OF_PANE * min(self._room.width(), self._room.height()))))
        left = round(self._room.width()) - side - 14 if place[0] < self._room.width() / 2 else 14
        return QRectF(left, 62 if place[1] > self._room.height() / 2 else self._room.height() - side - 14, side, side)

    def _paint_magnifier(self, painter: QPainter, point: np.ndarray) -> None:
        assert self._pixels is not None
        factor = factor_of(self.zoom)
        box = self.magnifier_box(point)
        painter.save()
        painter.setClipRect(box)
        painter.fillRect(box, theme.GROUND)
        painter.translate(box.center())
        painter.scale(factor * self.aspect, factor)
        shown = point if self.through is None else self.through.forward(point[None])[0]
        painter.translate(-shown[0], -shown[1])
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, False)
        if self._image is not None:
            painter.drawImage(QRectF(0, 0, *self._size), self._image)
        painter.restore()
        paint_cross(painter, box)
        _words(painter, QPointF(box.left() + 6, box.bottom() - 8), f"{point[0]:.2f}, {point[1]:.2f}   x{factor:.0f}", theme.PAPER)


def _sides(shape: Shape) -> np.ndarray:
    """A shape's outline (N, 2) on its own frame, its sides in short steps, so that they bend with the surface."""
    points = closed_curve(shape.array) if shape.smooth else shape.array
    if shape.smooth:
        return points
    t = np.arange(_PER_SIDE)[:, None] / _PER_SIDE
    return np.concatenate([a + (b - a) * t for a, b in zip(points, np.roll(points, -1, axis=0), strict=True)])


def _bent(track: Track, shape: Shape, points: np.ndarray, frame: int) -> np.ndarray:
    """The outline of a shape on a frame, on which its points lie at `points` (N, 2): straight sides stay so on a plane, and bend with a mesh."""
    motion = motion_of(track)
    warp = motion.at(frame) if motion is not None else None
    if frame != track.region.frame and warp is not None and warp.matrix is None:
        found = carry(track, _sides(shape), track.region.frame, frame)
        if found is not None:
            return found
    return closed_curve(points) if shape.smooth else points


def track_words(track: Track) -> str:
    """A track's kind of motion and what drives everything on it: which motion is shown is always said on the picture."""
    model = track.settings.model if isinstance(track.settings, PlaneSettings) else ""
    kind = track.solution.kind if track.solution is not None else track.settings.kind  # what is shown, not what is wished for
    if kind == "plane" and track.settings.kind == "camera":
        kind = "plane, by the camera"
    return ", ".join(filter(None, (kind, model if kind == track.settings.kind else "", motion_words(track))))
