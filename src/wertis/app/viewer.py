"""The picture: zoom, pan, overlays, and the tool that is in hand."""

import cv2
import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QBrush,
    QColor,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QSizePolicy, QWidget

from wertis.app import theme
from wertis.app.check_overlays import drift_words, paint_drift, paint_surface
from wertis.app.painting import outline as _outline
from wertis.app.painting import words as _words
from wertis.app.session import Session
from wertis.app.tools import Tool
from wertis.core.comp.light import light_words
from wertis.core.comp.picture import surface_proportions
from wertis.core.geometry import coons, homography, quad
from wertis.core.geometry.conventions import homography_to_centred
from wertis.core.geometry.motion import carried, plane_between
from wertis.core.geometry.spline import closed_curve
from wertis.core.plate.colour import shown as as_shown
from wertis.core.shot import bends
from wertis.core.shot.document import HoldOut
from wertis.core.shot.edits import placement_on
from wertis.core.shot.hold_outs import shape_on
from wertis.core.shot.motions import motion_words
from wertis.core.shot.regions import shapes_on
from wertis.core.shot.repairs import points_on

MOST_ZOOM, LEAST_ZOOM = 64.0, 0.02
_MAGNIFIER = 168
_OF_PANE, _LEAST_MAGNIFIER = 0.4, 112  # of the pane's shorter side, so that it leaves something to be seen; pixels


class Viewer(QWidget):
    """Shows one frame and lets tools work on it. Points are in the picture's pixels.

    Signals
    -------
    zoomed(factor) : screen pixels per picture pixel.
    hovered(x, y) : the pointer's place in the picture; nan when outside.
    """

    zoomed = Signal(float)
    hovered = Signal(float, float)
    released = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.tool: Tool | None = None
        self.through: np.ndarray | None = None  # frame's picture to the picture shown (3, 3), where they are not the same
        self.surface_overlay = "none"
        self.overlays = True
        self.grid_cells = 4
        self.texture = False
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
        self._pointer = QPointF(-1, -1)
        self.holding = False  # whether something is being dragged that was taken in this pane
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(320, 200)
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
        shown = np.asarray(points) if self.through is None else homography.apply(self.through, np.asarray(points))
        return shown * [self.zoom * self.aspect, self.zoom] + [self.origin.x(), self.origin.y()]

    def to_picture(self, place: QPointF) -> np.ndarray:
        """A place on the widget as a picture point (2,)."""
        shown = np.array([(place.x() - self.origin.x()) / (self.zoom * self.aspect), (place.y() - self.origin.y()) / self.zoom])
        return shown if self.through is None else homography.apply(np.linalg.inv(self.through), shown[None])[0]

    def fit(self) -> None:
        """Show the whole picture as large as it goes."""
        self._fitted_aspect = self.aspect
        w, h = self._size[0] * self.aspect, self._size[1]
        self.zoom = max(LEAST_ZOOM, min((self.width() - 8) / w, (self.height() - 8) / h))
        self.origin = QPointF((self.width() - w * self.zoom) / 2, (self.height() - h * self.zoom) / 2)
        self._fitted = True
        self.zoomed.emit(self.zoom)
        self.update()

    def zoom_to(self, factor: float, at: QPointF | None = None) -> None:
        """Zoom to a factor; the picture's point under `at` stays there."""
        at = at or QPointF(self.width() / 2, self.height() / 2)
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
        self.zoom_to(self.zoom * 1.2 ** (event.angleDelta().y() / 120), event.position())

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        if event.button() == Qt.MouseButton.MiddleButton or (
                event.button() == Qt.MouseButton.LeftButton and event.modifiers() & Qt.KeyboardModifier.AltModifier):
            self._panning = event.position()
            self.setCursor(Qt.CursorShape.ClosedHandCursor)
        elif self.tool is not None and event.button() == Qt.MouseButton.LeftButton:
            self.holding = True
            self.tool.press(self.to_picture(event.position()), 9 / self.zoom, event.modifiers())
        self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self._pointer = event.position()
        if self._panning is not None:
            self.origin += event.position() - self._panning
            self._panning = event.position()
            self._fitted = False
        elif self.tool is not None:
            point = self.to_picture(event.position())
            self.tool.move(point, 9 / self.zoom)
            self.setCursor(self.tool.cursor)
        point = self.to_picture(event.position())
        self.hovered.emit(float(point[0]), float(point[1]))
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self.holding = False
        if self._panning is not None:
            self._panning = None
            self.unsetCursor()
        elif self.tool is not None:
            self.tool.release(self.to_picture(event.position()))
            self.released.emit()
        self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self.tool is not None and event.button() == Qt.MouseButton.LeftButton:
            self.tool.double(self.to_picture(event.position()), 9 / self.zoom)
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if self.tool is None or not self.tool.key(Qt.Key(event.key()), event.modifiers()):
            super().keyPressEvent(event)
        self.update()

    # -- painting -------------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.GROUND)
        if self._fitted and self._fitted_aspect != self.aspect:
            self.fit()
        area = QRectF(self.origin.x(), self.origin.y(), self._size[0] * self.zoom * self.aspect, self._size[1] * self.zoom)
        if self.session.plate is None:
            self._paint_empty(painter)
            return
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
            if self.texture and self.session.step == "Region":
                self._paint_texture(painter)
            if self.session.step in ("Region", "Track"):
                self._paint_hold_outs(painter)
            if self.session.step == "Use":
                self._paint_placement(painter)
            if self.session.step in ("Check", "Repair"):
                paint_surface(painter, self.session, self.to_screen, self.surface_overlay)
                paint_drift(painter, self.session, self.to_screen, self.rect())
        if self.tool is not None:
            self.tool.paint(painter, self.to_screen)
            if self.tool.magnify is not None and self._pixels is not None and self.holding:  # the other pane shows the whole
                self._paint_magnifier(painter, self.tool.magnify)
                if self.session.step == "Repair" and self.session.mending == "points":
                    self._paint_spot(painter, self.tool.magnify)
        self.paint_over(painter)
        if self.overlays and self.through is None:
            self._paint_words(painter)

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
            painter.setClipRect(QRectF(self.origin.x(), self.origin.y(), self._size[0] * self.zoom * self.aspect, self._size[1] * self.zoom))
        for track in s.shot.tracks:
            if not track.visible:
                continue
            chosen = track.id == s.track_id
            live = s.live_fix(track, s.frame)
            if live is not None:
                shapes = [homography.apply(live.matrix, shape.array) for shape in track.region.shapes] if live.matrix is not None else None
            else:
                shapes = shapes_on(track, s.frame)
            if shapes is None:
                continue
            colour = theme.ACCENT if chosen else theme.QUIET
            width = 1.6 if chosen and s.step != "Use" else 1.0
            for shape, points in zip(track.region.shapes, shapes, strict=True):
                drawn = closed_curve(points) if shape.smooth else points
                _outline(painter, self.to_screen(drawn), colour, width, dashed=shape.subtract or (chosen and s.step == "Use"))
            if not chosen or len(s.shot.tracks) > 1:
                corner = self.to_screen(shapes[0])[np.argmin(shapes[0].sum(1))]
                _words(painter, QPointF(corner[0], corner[1] - 8), track.name, theme.ACCENT if chosen else theme.TEXT)
        painter.restore()

    def _paint_texture(self, painter: QPainter) -> None:
        """Squares over the region on its own frame: the fuller a square, the better that spot holds; an empty one does not hold."""
        s = self.session
        texture = s.texture() if s.track is not None and s.frame == s.track.region.frame else None
        if texture is None:
            return
        outer = texture.size * self.zoom * 0.8
        for (x, y), hold in zip(self.to_screen(texture.spots), texture.hold):
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(QColor(0, 0, 0, 110), 1))
            painter.drawRect(QRectF(x - outer / 2, y - outer / 2, outer, outer))
            side = outer * float(np.sqrt(hold))
            painter.setBrush(QColor(theme.ACCENT.red(), theme.ACCENT.green(), theme.ACCENT.blue(), 200))
            painter.setPen(QPen(theme.HALO, 1))
            painter.drawRect(QRectF(x - side / 2, y - side / 2, side, side))

    def _paint_hold_outs(self, painter: QPainter) -> None:
        """The selected track's hold-outs: hatched, so that they are told from regions without their colour."""
        s = self.session
        for held in s.track.hold_outs if s.track is not None and s.track.visible else ():
            if held.enabled and held.path:
                self._paint_matte(painter, held)
            points = shape_on(s.shot, held, s.frame) if held.enabled else None
            if points is None:
                continue
            shape = QPolygonF([QPointF(float(x), float(y)) for x, y in self.to_screen(points)])
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QBrush(QColor(theme.AMBER.red(), theme.AMBER.green(), theme.AMBER.blue(), 110), Qt.BrushStyle.BDiagPattern))
            painter.drawPolygon(shape)
            _outline(painter, self.to_screen(points), theme.AMBER, 1.6 if held.id == s.hold_out_id else 1.0, dashed=True)

    def _paint_matte(self, painter: QPainter, held: HoldOut) -> None:
        """A matte that is held out, tinted over the picture."""
        mask = self.session.matte(held, self.session.frame)
        if mask is None:
            return
        h, w = mask.shape
        tint = np.zeros((h, w, 4), np.uint8)
        # slanted light and dark lines, so that it is told from any picture without its colour
        y, x = np.ogrid[0:h, 0:w]
        light = (x + y) // 5 % 2 == 0
        tint[light, :3] = theme.AMBER.red(), theme.AMBER.green(), theme.AMBER.blue()
        tint[..., 3] = np.where(light, mask // 4 * 3, mask // 5 * 2)
        image = QImage(tint.data, w, h, 4 * w, QImage.Format.Format_RGBA8888)
        painter.drawImage(QRectF(self.origin.x(), self.origin.y(), w * self.zoom * self.aspect, h * self.zoom), image)

    def _paint_placement(self, painter: QPainter) -> None:
        s = self.session
        track, placement = s.track, s.bent if s.step == "Repair" and s.mending == "sides" else s.placement
        if track is None or placement is None or not track.visible:
            return
        on = placement_on(track, placement, s.frame)
        if on is None or not quad.is_convex(on):
            return
        if self.grid_cells and placement.artwork.kind not in ("grid",):
            pen = QPen(QColor(242, 239, 230, 90), 1)
            onto = homography.from_unit_square(on)
            for line in coons.grid(self.grid_cells, placement.bend.at(s.frame))[2:-2]:
                drawn = QPolygonF([QPointF(*p) for p in self.to_screen(homography.apply(onto, line))])
                for each in (QPen(QColor(0, 0, 0, 60), 2), pen):
                    painter.setPen(each)
                    painter.drawPolyline(drawn)
        edge = bends.outline_on(track, placement, s.frame)
        _outline(painter, self.to_screen(on if edge is None else edge), theme.PAPER, 1.4)

    def _paint_words(self, painter: QPainter) -> None:
        s = self.session
        track = s.track
        lines: list[tuple[str, QColor]] = []
        if track is not None:
            live = s.live_fix(track, s.frame)
            motion = track.motion
            reference = track.region.frame
            if live is not None:
                text = f"seen {live.seen:.0%}, expected error {live.error:.2f} px" if live.matrix is not None else f"lost: {live.reason}"
                lines.append((f"{track.name}: {text}", theme.PAPER if live.matrix is not None else theme.LOST))
            elif motion is None:
                lines.append((f"{track.name}: not tracked yet, drawn on frame {reference}", theme.PAPER))
            elif not motion.known(s.frame):
                reason = track.solved.reasons.get(s.frame, "not tracked") if track.solved else "not tracked"
                known = "not tracked here" if reason == "not tracked" else f"lost here: {reason}"
                lines.append((f"{track.name}: {known}", theme.LOST))
            elif s.step == "Use" and s.placement is not None:
                p = s.placement
                found = surface_proportions(p, s.shot.plate.size if s.shot.plate else self._size, s.aspect)
                lines.append((f"{p.name} on {track.name}: plane, {track.kind}; placed on frame {p.frame}, proportions {found.ratio:.2f} "
                              f"({ {'given': 'given', 'perspective': 'from the perspective', 'flat': 'too flat to tell'}[found.source] })",
                              theme.PAPER))
            else:
                lines.append((f"{track.name}: plane, {track.kind}, {motion_words(track)}; reference frame {reference}", theme.PAPER))
        if s.step in ("Check", "Repair") and track is not None:
            lines.append(drift_words(s))
        if light_words(s.shot) and s.step in ("Use", "Deliver", "Plate"):
            lines.append((f"Graphics are {light_words(s.shot)}", theme.QUIET))
        if s.plate is not None and s.plate.layer:
            lines.append((f"Layer {s.plate.layer} of the plate's files", theme.QUIET))
        if not s.viewing.plain:
            lines.append((f"View only: {s.viewing.words()}", theme.QUIET))
        if self._trouble and self._image is not None:
            lines.append((self._trouble, theme.LOST))
        y = 20.0
        for text, colour in lines:
            _words(painter, QPointF(12, y), self.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, self.width() - 24), colour)
            y += 20

    def _magnifier_box(self, point: np.ndarray) -> QRectF:
        place = self.to_screen(point[None])[0]
        side = round(min(_MAGNIFIER, max(_LEAST_MAGNIFIER, _OF_PANE * min(self.width(), self.height()))))
        left = self.width() - side - 14 if place[0] < self.width() / 2 else 14
        return QRectF(left, 62 if place[1] > self.height() / 2 else self.height() - side - 14, side, side)

    def _paint_spot(self, painter: QPainter, point: np.ndarray) -> None:
        """Beside the magnifier, the spot that is being dragged as the reference frame shows it, in this frame's perspective."""
        s = self.session
        track = s.track
        points = points_on(track, s.frame) if track is not None else None
        picture = s.cache.peek(track.region.frame) if track is not None and s.cache is not None else None
        motion = track.motion if track is not None else None
        if points is None or motion is None or track is None or not isinstance(picture, np.ndarray):
            return
        spot = np.array(track.repair.points[int(np.argmin(np.linalg.norm(points - point, axis=1)))].place)
        onto = plane_between(motion, track.region.frame, s.frame)
        if onto is None:
            return
        through = onto if self.through is None else self.through @ onto
        box = self._magnifier_box(point)
        now = s.cache.peek(s.frame) if s.cache is not None else None
        if isinstance(now, np.ndarray):
            # the plate itself, since a graphic would hide what is to be recognised
            self._paint_enlarged(painter, box, now, np.eye(3) if self.through is None else self.through, point)
            _words(painter, QPointF(box.left() + 6, box.bottom() - 8), f"here {point[0]:.1f}, {point[1]:.1f}", theme.PAPER)
        box.translate(box.width() + 8 if box.left() < self.width() / 2 else -box.width() - 8, 0)
        self._paint_enlarged(painter, box, picture, through, spot)
        _words(painter, QPointF(box.left() + 6, box.bottom() - 8), f"on {track.region.frame}", theme.PAPER)

    def _paint_enlarged(self, painter: QPainter, box: QRectF, picture: np.ndarray, through: np.ndarray, point: np.ndarray) -> None:
        """A plate's picture round `point`, carried `through` (3, 3) to the picture shown, in a magnifier's box."""
        factor, side = max(6.0, self.zoom * 3), round(box.width())
        half = side / 2
        x, y = homography.apply(through, point[None])[0]
        wide = factor * self.aspect
        placed = np.array([[wide, 0, half - wide * x], [0, factor, half - factor * y], [0, 0, 1]]) @ through
        seen = as_shown(picture, self.session.viewing)
        shown = cv2.warpPerspective(seen, homography_to_centred(placed), (side, side), flags=cv2.INTER_NEAREST)
        painter.drawImage(box, QImage(shown.data, side, side, 3 * side, QImage.Format.Format_RGB888))
        self._cross(painter, box)

    def _paint_magnifier(self, painter: QPainter, point: np.ndarray) -> None:
        assert self._pixels is not None
        factor = max(6.0, self.zoom * 3)
        box = self._magnifier_box(point)
        painter.save()
        painter.setClipRect(box)
        painter.fillRect(box, theme.GROUND)
        painter.translate(box.center())
        painter.scale(factor * self.aspect, factor)
        shown = point if self.through is None else homography.apply(self.through, point[None])[0]
        painter.translate(-shown[0], -shown[1])
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, False)
        if self._image is not None:
            painter.drawImage(QRectF(0, 0, *self._size), self._image)
        painter.restore()
        self._cross(painter, box)
        _words(painter, QPointF(box.left() + 6, box.bottom() - 8), f"{point[0]:.2f}, {point[1]:.2f}   x{factor:.0f}", theme.PAPER)

    @staticmethod
    def _cross(painter: QPainter, box: QRectF) -> None:
        """Hair lines round the middle of a magnifier, and its frame."""
        c = box.center()
        for colour, width in ((theme.HALO, 3.0), (theme.PAPER, 1.0)):
            painter.setPen(QPen(colour, width))
            for dx, dy in ((1, 0), (-1, 0), (0, 1), (0, -1)):
                painter.drawLine(QPointF(c.x() + 5 * dx, c.y() + 5 * dy), QPointF(c.x() + 22 * dx, c.y() + 22 * dy))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(theme.HALO, 3))
        painter.drawRect(box)
        painter.setPen(QPen(theme.PAPER, 1))
        painter.drawRect(box)


def carried_back(session: Session, points: np.ndarray, frame: int, home: int) -> np.ndarray | None:
    """Points of the frame in view on their home frame, through the selected track's motion; None where unknown."""
    if frame == home:
        return points
    motion = session.track.motion if session.track else None
    if motion is None:
        return None
    found = carried(motion, points, frame, home)
    return found if np.all(np.isfinite(found)) else None
