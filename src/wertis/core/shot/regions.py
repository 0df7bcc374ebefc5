"""A region's shapes: their outlines, the mask of them all, and changes to them."""

import cv2
import numpy as np

from wertis.core.errors import RegionError
from wertis.core.geometry import polygon
from wertis.core.geometry.spline import closed_curve
from wertis.core.geometry.warp import Warp
from wertis.core.imaging.resample import warped
from wertis.core.shot.document import Region, Shape, Shot, Track
from wertis.core.shot.edits import as_points, carry, unlocked

_LEAST_PART = 40  # pixels; painted specks below this are dropped
_SIMPLER = 1.2  # pixels by which a freehand or painted outline may be straightened


def outline(shape: Shape) -> np.ndarray:
    """A shape as a polygon (M, 2): its points, or the smooth curve through them."""
    return closed_curve(shape.array) if shape.smooth else shape.array


def mask_of(region: Region, size: tuple[int, int], onto: Warp | None = None) -> np.ndarray:
    """(height, width) uint8, 255 inside the region; shapes are added and subtracted in their order.

    On the region's own frame, or on another, to which the warp `onto` takes it.
    """
    mask = np.zeros((size[1], size[0]), np.uint8)
    for shape in region.shapes:
        inside = polygon.fill(outline(shape), size)
        mask[inside > 0] = 0 if shape.subtract else 255
    return mask if onto is None else warped(mask, onto, size, cv2.INTER_NEAREST)


def shapes_on(track: Track, frame: int) -> list[np.ndarray] | None:
    """Control points (N, 2) of every shape on a frame; None where the motion is unknown."""
    found = [carry(track, shape.array, track.region.frame, frame) for shape in track.region.shapes]
    return None if any(f is None for f in found) else [f for f in found if f is not None]


def checked(region: Region, size: tuple[int, int]) -> Region:
    """The region, if it can be used on a picture of this size.

    Raises
    ------
    RegionError
        When a shape cannot be used, or nothing is left of them all.
    """
    for shape in region.shapes:
        polygon.checked(outline(shape), size)
    if np.count_nonzero(mask_of(region, size)) < 100:
        raise RegionError("Nothing is left of the region; subtract less of it.")
    return region


def with_shape(shot: Shot, ident: str, shape: Shape) -> Shot:
    """The shot with one more shape in a track's region.

    Raises
    ------
    RegionError
        When that leaves no region.
    """
    track = unlocked(shot, ident)
    region = track.region.but(more=(*track.region.more, shape))
    return shot.with_track(track.but(region=checked(region, shot.plate.size) if shot.plate else region))


def with_points(shot: Shot, ident: str, index: int, points: np.ndarray) -> Shot:
    """The shot with the control points (N, 2) of one shape of a region changed, on the region's own frame.

    Raises
    ------
    RegionError
        When the shape cannot be used so.
    """
    track = unlocked(shot, ident)
    region = track.region
    if index == 0:
        region = region.but(points=as_points(points))
    else:
        more = list(region.more)
        more[index - 1] = more[index - 1].but(points=as_points(points))
        region = region.but(more=tuple(more))
    return shot.with_track(track.but(region=checked(region, shot.plate.size) if shot.plate else region))


def without_shape(shot: Shot, ident: str, index: int) -> Shot:
    """The shot less one of the shapes of a region; the first takes the next added one's place.

    Raises
    ------
    RegionError
        When it is the only one that adds.
    """
    track = unlocked(shot, ident)
    left = [s for k, s in enumerate(track.region.shapes) if k != index]
    first = next((k for k, s in enumerate(left) if not s.subtract), None)
    if first is None:
        raise RegionError("A region needs a shape that adds; remove the track instead, or draw another shape first.")
    head = left.pop(first)
    region = Region(frame=track.region.frame, points=head.points, smooth=head.smooth, more=tuple(left))
    return shot.with_track(track.but(region=checked(region, shot.plate.size) if shot.plate else region))


def simplified(points: np.ndarray, tolerance: float = _SIMPLER) -> np.ndarray:
    """A freehand outline (N, 2) with the fewest points that stay within `tolerance` pixels of it (D. Douglas and T. Peucker, 1973)."""
    found = cv2.approxPolyDP(np.asarray(points, np.float32)[:, None], tolerance, closed=True)[:, 0]
    return np.asarray(found if len(found) >= 3 else points, np.float64)


def painted_shapes(mask: np.ndarray) -> list[Shape]:
    """Shapes that cover a painted mask (h, w) uint8: outer outlines add, holes in them subtract; largest first.

    Raises
    ------
    RegionError
        When nothing was painted.
    """
    # contours run through pixel centres; the painted pixels reach half a pixel further, which growing a doubled picture restores
    doubled = cv2.resize(mask, None, fx=2, fy=2, interpolation=cv2.INTER_NEAREST)
    contours, tree = cv2.findContours(doubled, cv2.RETR_CCOMP, cv2.CHAIN_APPROX_NONE)
    parts: list[tuple[bool, float, Shape]] = []
    for contour, (_, _, _, parent) in zip(contours, tree[0] if tree is not None else (), strict=True):
        area = cv2.contourArea(contour) / 4
        if area < _LEAST_PART:
            continue
        points = simplified((contour[:, 0].astype(np.float64) + 0.5) / 2)
        parts.append((parent >= 0, -area, Shape(points=as_points(points), subtract=parent >= 0)))
    if not any(not hole for hole, _, _ in parts):
        raise RegionError("Nothing was painted; drag over the surface with the button held.")
    return [shape for _, _, shape in sorted(parts, key=lambda p: p[:2])]
