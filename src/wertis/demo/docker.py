"""What passes in front of the crate in the docker's shot: an arm in a striped sleeve with its hand, a ship's cat on the crate, and a line hung along it.

Outlines are splines through few points (see `core.matte.outline`), so that what a matte should be is known exactly.
"""

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np

from wertis.core.matte.coverage import box_round, polygon_area
from wertis.core.matte.outline import bezier, flattened

SHIFT = 4  # binary digits of a pixel that OpenCV's drawing keeps
Seen = Callable[[np.ndarray, float], np.ndarray]
"""Where places (n, 3) in metres are in the picture of a time."""

_DEPTH = 2.22  # metres from where the camera stands, in front of the crate
# metres from the wrist, the hand towards the left; y down
_SLEEVE = np.array([[0.02, -0.075], [0.25, -0.095], [0.60, -0.115], [1.10, -0.13], [1.10, 0.14], [0.60, 0.12], [0.25, 0.09], [0.02, 0.07]])
_SLEEVE_ROUND = np.array([0.0, 1, 1, 0, 0, 1, 1, 0])
_HAND = np.array([[0.03, -0.055], [-0.06, -0.068], [-0.13, -0.060], [-0.20, -0.050], [-0.272, -0.046], [-0.282, -0.024], [-0.205, -0.016],
                  [-0.148, -0.012], [-0.165, 0.012], [-0.158, 0.042], [-0.120, 0.060], [-0.06, 0.066], [-0.015, 0.100],
                  [0.012, 0.112], [0.028, 0.080], [0.035, 0.052]])
_HAND_ROUND = np.array([0.0, 1, 1, 1, 1, 1, 1, 0, 1, 1, 1, 0, 1, 1, 1, 0])
# metres on the crate's top edge, from its middle
_CAT = np.array([[-0.150, 0.0], [-0.165, -0.09], [-0.125, -0.155], [-0.128, -0.205], [-0.112, -0.252], [-0.083, -0.222], [-0.046, -0.222],
                 [-0.018, -0.255], [0.000, -0.205], [0.000, -0.160], [0.050, -0.120],
                 [0.085, -0.05], [0.160, -0.028], [0.190, -0.060], [0.205, -0.040], [0.180, 0.0]])
_CAT_ROUND = np.array([0.0, 1, 1, 1, 0, 0, 0, 0, 1, 1, 1, 1, 1, 1, 1, 0])
_EYES = np.array([[-0.092, -0.186], [-0.038, -0.186]])
_EYE = np.array([0.0155, 0.0105])  # half its width and height
_ROPE = np.array([[-0.50, 0.02], [-0.30, 0.085], [-0.05, 0.115], [0.20, 0.10], [0.42, 0.045], [0.51, 0.0]])  # metres below the crate's top edge


@dataclass(frozen=True)
class Piece:
    """A shape in the picture: its points (N, 2), and how round it is at each (N,)."""

    points: np.ndarray
    roundness: np.ndarray

    @property
    def polygon(self) -> np.ndarray:
        """(M, 2)."""
        return flattened(bezier(self.points, self.roundness))[0]


def wrist(time: float) -> tuple[np.ndarray, float]:
    """Where the wrist is (3,) in metres at a time in frames, and how the arm is turned, in radians."""
    coming, going = (np.clip((time - first) / 15, 0, 1) for first in (3, 41))
    reach = 1.25 * (1 - coming * coming * (3 - 2 * coming)) + 1.3 * going * going * (3 - 2 * going)
    x = 0.20 + reach + 0.035 * np.sin(time / 4.0) - 0.10 * np.sin(np.clip((time - 18) / 24, 0, 1) * np.pi)
    y = -0.47 + 0.05 * np.sin(time / 6.0 + 0.5) + 0.10 * reach
    return np.array([x, y, _DEPTH]), 0.14 + 0.10 * np.sin(time / 5.0)


def arm(seen: Seen, time: float) -> dict[str, Piece]:
    """The sleeve and the hand at a time."""
    place, turn = wrist(time)
    bend = 0.16 * np.sin(time / 3.2 + 1)  # of the hand at the wrist

    def put(outline: np.ndarray, angle: float) -> np.ndarray:
        c, s = np.cos(angle), np.sin(angle)
        flat = outline @ np.array([[c, s], [-s, c]])
        return seen(np.column_stack([place[0] + flat[:, 0], place[1] + flat[:, 1], np.full(len(flat), place[2])]), time)

    return {"Sleeve": Piece(put(_SLEEVE, turn), _SLEEVE_ROUND), "Hand": Piece(put(_HAND, turn + bend), _HAND_ROUND)}


def _on_edge(top: np.ndarray, local: np.ndarray) -> np.ndarray:
    """Places (n, 3) of local ones (n, 2): along the crate's front top edge (2, 3) from its middle, and down."""
    left, right = top
    along = (right - left) / np.linalg.norm(right - left)
    return np.asarray((left + right) / 2 + local[:, :1] * along + np.column_stack([np.zeros(len(local)), local[:, 1], np.full(len(local), -0.012)]))


def cat(seen: Seen, top: np.ndarray, time: float) -> Piece:
    """The cat on the crate's top edge (2, 3)."""
    return Piece(seen(_on_edge(top, _CAT + [0.18, 0.0]), time), _CAT_ROUND)


def eyes(seen: Seen, top: np.ndarray, time: float) -> list[Piece]:
    """The cat's eyes."""
    turn = 2 * np.pi * np.arange(8) / 8
    ring = np.column_stack([np.cos(turn), np.sin(turn)]) * _EYE
    return [Piece(seen(_on_edge(top, ring + eye + [0.18, 0.0]), time), np.ones(8)) for eye in _EYES]


def rope(seen: Seen, top: np.ndarray, time: float) -> np.ndarray:
    """(N, 2) points of the line that hangs along the crate's front, which sways a little."""
    local = _ROPE.copy()
    local[1:-1, 1] += 0.012 * np.sin(time / 5.0 + np.arange(4))
    return seen(_on_edge(top, local), time)


def paint_on_crate(canvas: np.ndarray, seen: Seen, top: np.ndarray, time: float) -> None:
    """Paint the line and the cat on a canvas (h, w, 3) uint8."""
    line = flattened(bezier(rope(seen, top, time), np.ones(len(_ROPE)), False), False)[0]
    for width, colour in ((9, (62, 48, 34)), (5, (150, 122, 84))):
        cv2.polylines(canvas, [_fixed(line)], False, colour, width, cv2.LINE_AA, SHIFT)
    figure = cat(seen, top, time)
    _fill(canvas, figure.polygon, np.array([58, 54, 60]), stripes=0.35, across=figure.points[1] - figure.points[10])
    for eye in eyes(seen, top, time):
        cv2.fillPoly(canvas, [_fixed(eye.polygon)], (206, 196, 150), cv2.LINE_AA, SHIFT)
        middle = eye.points.mean(0)
        size = np.ptp(eye.points, axis=0)
        cv2.ellipse(canvas, _fixed(middle[None])[0].tolist(), (int(size[0] * 1.6), int(size[1] * 6.5)), 0, 0, 360, (18, 16, 18), -1, cv2.LINE_AA, SHIFT)


def paint_arm(canvas: np.ndarray, seen: Seen, time: float) -> None:
    """Paint the arm on a canvas (h, w, 3) uint8."""
    pieces = arm(seen, time)
    way = pieces["Sleeve"].points[3] - pieces["Sleeve"].points[0]
    _fill(canvas, pieces["Hand"].polygon, np.array([196, 142, 112]), stripes=0.0, across=way)
    _fill(canvas, pieces["Sleeve"].polygon, np.array([56, 78, 112]), stripes=1.0, across=way)


def _fill(canvas: np.ndarray, polygon: np.ndarray, colour: np.ndarray, stripes: float, across: np.ndarray) -> None:
    """Fill a polygon with a colour: lit from above, and striped across a direction."""
    h, w = canvas.shape[:2]
    box = box_round(polygon, 2, (w, h))
    if box is None:
        return
    y, x = np.mgrid[box[1]:box[3], box[0]:box[2]].astype(np.float32)
    down = (y - polygon[:, 1].min()) / max(np.ptp(polygon[:, 1]), 1)
    along = (x * across[0] + y * across[1]) / np.linalg.norm(across)
    band = 0.5 + 0.5 * np.sin((along - float(polygon[0] @ across) / np.linalg.norm(across)) / 5.5)
    tone = (1.18 - 0.55 * down) * (1 + 0.55 * stripes * (np.clip((band - 0.5) * 4, -1, 1)))
    share = polygon_area(polygon, box)[..., None]
    part = canvas[box[1]:box[3], box[0]:box[2]]
    part[...] = np.clip(part * (1 - share) + share * tone[..., None] * colour + 0.5, 0, 255).astype(np.uint8)


def _fixed(points: np.ndarray) -> np.ndarray:
    """Points (n, 2) in pixels as OpenCV's drawing takes them."""
    return np.round((points - 0.5) * (1 << SHIFT)).astype(np.int32)
