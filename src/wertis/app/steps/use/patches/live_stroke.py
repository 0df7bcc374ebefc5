"""A stroke while it is drawn: shown at once on the picture in view, before the comp is made again."""

import cv2
import numpy as np

from wertis.core.comp.patch_pictures import PatchPictures
from wertis.core.geometry import homography
from wertis.core.geometry.conventions import to_centred
from wertis.core.geometry.warp import pixel_centres
from wertis.core.paint.brush import coverage, reached
from wertis.core.paint.canvas import Canvas, Paint
from wertis.core.plate import colour
from wertis.core.plate.base import from_float
from wertis.core.plate.colour import Viewing
from wertis.core.shot.document import Shot
from wertis.core.shot.edits import carry
from wertis.core.shot.patches import COPYING, Patch, Stroke, to_flat
from wertis.core.shot.plate_pictures import raw_picture

_ROOM = 2  # pixels of the picture round what a piece of a stroke changes


class LiveStroke:
    """Shows a stroke piece by piece on a display picture.

    Parameters
    ----------
    picture : (h, w, 3) uint8 as it is shown; it is written into.
    stroke : how it paints; its points are what was drawn so far.
    """

    def __init__(self, shot: Shot, patch: Patch, frame: int, pictures: PatchPictures, picture: np.ndarray, viewing: Viewing, stroke: Stroke) -> None:
        self.shot, self.patch, self.frame, self.picture, self.viewing, self.stroke = shot, patch, frame, picture, viewing, stroke
        self._canvas: Canvas = pictures.kept_canvas(shot, patch, frame)
        self._source = pictures.flat(shot, patch, stroke.source) if stroke.source is not None and stroke.kind in COPYING else None
        self._alpha = np.zeros(self._canvas.cover.shape, np.float32)
        self._kind = raw_picture(shot, patch.frame).dtype
        paint = pictures.paint(shot, patch, stroke)
        # healing is worked out when the stroke is done
        self._paint: Paint = paint._replace(kind="clone") if paint.kind == "heal" else paint
        self._under = picture.copy()  # as it was before the stroke
        self._scale = (picture.shape[1] / shot.plate.size[0], picture.shape[0] / shot.plate.size[1]) if shot.plate is not None else (1.0, 1.0)

    def add(self, piece: np.ndarray) -> None:
        """Show a piece more, points (n, 3) as a stroke has them."""
        box = reached(piece, self.stroke.radius, self._canvas.size)
        if box is None:
            return
        x0, y0, x1, y1 = box
        alpha = self._alpha[y0:y1, x0:x1]
        np.maximum(alpha, coverage(piece, self.stroke.radius, self.stroke.hardness, box), out=alpha)
        if self.stroke.kind == "erase":
            new = self._canvas.base[y0:y1, x0:x1]
        else:
            new = self._canvas.painted(self._paint, alpha, box, self._source)
        self._show(box, np.asarray(new, np.float32), alpha * np.float32(self.stroke.opacity))

    def _show(self, box: tuple[int, int, int, int], new: np.ndarray, alpha: np.ndarray) -> None:
        """Lay changed flat pixels (h, w, 3) on the picture in view."""
        x0, y0, x1, y1 = box
        corners = np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]], float)
        there = carry(self.shot.track(self.patch.on), homography.apply(self.patch.from_flat, corners), self.patch.frame, self.frame)
        if there is None:
            return
        there = there * self._scale
        h, w = self.picture.shape[:2]
        left, top = (int(v) for v in np.maximum(np.floor(there.min(0)) - _ROOM, 0))
        right, bottom = (int(v) for v in np.minimum(np.ceil(there.max(0)) + _ROOM, [w, h]))
        if right <= left or bottom <= top:
            return
        centres = pixel_centres((left, top, right, bottom)).reshape(-1, 2) / self._scale
        flat = to_flat(self.shot, self.patch, centres, self.frame)
        if flat is None:
            return
        at = to_centred(flat - [x0, y0]).astype(np.float32).reshape(bottom - top, right - left, 2)
        share = cv2.remap(alpha, at, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT, borderValue=0.0)  # type: ignore[call-overload]
        painted = cv2.remap(np.ascontiguousarray(new), at, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)  # type: ignore[call-overload]
        seen = colour.shown(from_float(painted, self._kind), self.viewing)
        part = self._under[top:bottom, left:right].astype(np.float32)
        self.picture[top:bottom, left:right] = np.asarray(part + share[..., None] * (seen - part) + 0.5, np.uint8)
