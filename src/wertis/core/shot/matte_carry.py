"""Where a matte's shapes are on every frame: carried by its track, or bound point by point to what is tracked."""

from collections.abc import Sequence

import numpy as np

from wertis.core.geometry import homography
from wertis.core.geometry.affine import POINTS_MET, affine_through, robust_fit
from wertis.core.geometry.motion import between
from wertis.core.geometry.warp import HomographyWarp, Warp
from wertis.core.matte.outline import flattened
from wertis.core.shot.document import Shot
from wertis.core.shot.mattes import Anchor, Matte, MatteShape
from wertis.core.shot.named_places import names_on, place_of
from wertis.core.shot.resolve import motion_of

_DEEPEST = 20  # shapes bound to points of shapes that are bound
_SITS = 1.5  # pixels within which a point sits on an anchor, and takes that one alone
_NEAREST = 10  # anchors among which those that carry a point are chosen
_TURN = 0.5  # of a distance: by how much farther away an anchor may be that lies in quite another direction
_FLAT = 0.25  # of a triangle's longest side: the least height at which three anchors tell shear and stretch


def carrier(shot: Shot, matte: Matte, time: float) -> Warp | None:
    """How a matte's surface takes its own frame's picture to a time's; None where its track has no answer."""
    track = shot.track(matte.on)
    if track is None or time == matte.frame:
        return HomographyWarp(np.eye(3))
    motion = motion_of(track)
    warp = between(motion, matte.frame, time) if motion is not None else None
    if warp is None or matte.take == "all" or (warp.matrix is not None and matte.take == "perspective"):
        return warp
    points = _spread(matte)
    moved = warp.forward(points)
    known = np.isfinite(moved).all(1)
    if known.sum() < POINTS_MET[matte.take]:
        return None
    matrix, _ = robust_fit(matte.take, points[known], moved[known], np.ones(int(known.sum())))
    return HomographyWarp(matrix)


def _spread(matte: Matte) -> np.ndarray:
    """(n, 2) points over a matte, through which a simpler motion is fitted to its track's."""
    points = np.concatenate([s.at(matte.frame) for s in matte.shapes] or [np.zeros((0, 2))])
    low, high = (points.min(0), points.max(0)) if len(points) else (np.zeros(2), np.ones(2))
    x, y = np.meshgrid(*(np.linspace(a, max(b, a + 1), 5) for a, b in zip(low, high, strict=True)))
    return np.column_stack([x.ravel(), y.ravel()])


class Carrier:
    """How a matte's shapes are taken from its own frame's picture to those of other times; each is worked out once."""

    def __init__(self, shot: Shot, matte: Matte, depth: int = 0) -> None:
        self.shot, self.matte, self._depth = shot, matte, depth
        self._warps: dict[float, Warp | None] = {}
        self._places: dict[tuple, np.ndarray | None] = {}  # an anchor and a time to where it is

    def warp(self, time: float) -> Warp | None:
        """As `carrier`."""
        if time not in self._warps:
            self._warps[time] = carrier(self.shot, self.matte, time)
        return self._warps[time]

    def moved(self, shape: MatteShape, controls: np.ndarray, time: float, back: bool = False) -> np.ndarray | None:
        """What `MatteShape.at` gives, taken to a time's picture, or `back` from there; None where that is not known."""
        warp = self.warp(time)
        out = None
        if warp is not None:
            out = warp.inverse(controls) if back else warp.forward(controls)
        if not any(shape.bound):
            return out
        out = np.full_like(controls, np.nan) if out is None else out.copy()
        per = len(controls) // shape.count
        for k, anchors in enumerate(shape.bound):
            matrix = self._matrix(anchors, time) if anchors else None
            if matrix is not None:
                own = slice(k * per, (k + 1) * per)
                out[own] = HomographyWarp(np.linalg.inv(matrix) if back else matrix).forward(controls[own])
        return out if np.isfinite(out).all() else None

    def controls(self, shape: MatteShape, time: float) -> np.ndarray | None:
        """What `MatteShape.at` gives, in the picture of a time."""
        return self.moved(shape, shape.at(time), time)

    def smoothly(self, shape: MatteShape, frame: float, time: float) -> np.ndarray | None:
        """The same at a time near a frame: its surface goes on a parabola through the frame and those beside it, where they are known.

        Within a shutter's opening straight lines from frame to frame would show as a bend in the middle of a fast blur.
        """
        part = time - frame
        if not part or abs(part) > 1 or not (self.matte.on or any(shape.bound)):
            return self.controls(shape, time)
        own = shape.at(time)
        places = [self.moved(shape, own, frame + k) for k in (-1, 0, 1)]
        if any(p is None for p in places):
            return self.controls(shape, time)
        weights = (part * (part - 1) / 2, 1 - part * part, part * (part + 1) / 2)
        return np.asarray(sum(w * p for w, p in zip(weights, places, strict=True) if p is not None))

    def homography(self, shape: MatteShape, frame: float, time: float) -> np.ndarray | None:
        """The homography (3, 3), or affinity, from the surface's picture to that of a time near a frame, through a shape's own points; see `smoothly`."""
        source, target = shape.at(time), self.smoothly(shape, frame, time)
        if target is None or not np.isfinite(target).all():
            return None
        try:
            return homography.from_points(source, target) if len(source) >= 4 else affine_through(source, target)
        except ValueError:  # all on a line, say
            return None

    def _matrix(self, anchors: Sequence[Anchor], time: float) -> np.ndarray | None:
        """(3, 3) how anchors move what is bound to them from the matte's frame to a time's; those that are gone or not known there do not count."""
        pairs = []
        for anchor in anchors:
            home, there = (self._place(anchor, t) for t in (self.matte.frame, time))
            if home is not None and there is not None:
                pairs.append((home, there))
        if not pairs:
            return None
        source, target = (np.array([p[k] for p in pairs]) for k in (0, 1))
        if len(pairs) == 1:
            matrix = np.eye(3)
            matrix[:2, 2] = target[0] - source[0]
            return matrix
        return affine_through(source, target)

    def _place(self, anchor: Anchor, time: float) -> np.ndarray | None:
        key = anchor.kind, anchor.of, anchor.shape, anchor.name, time
        if key not in self._places:
            self._places[key] = anchor_place(self.shot, anchor, time, self._depth)
        return self._places[key]


def points_on(shot: Shot, matte: Matte, shape: MatteShape, time: float) -> np.ndarray | None:
    """(N, 2) where a shape's points are in the picture of a time; None where its track has no answer."""
    controls = Carrier(shot, matte).controls(shape, time)
    return None if controls is None else shape.points_of(controls)


def outlines_on(shot: Shot, matte: Matte, time: float) -> list[tuple[MatteShape, np.ndarray, np.ndarray]]:
    """The visible shapes of a matte that have an outline in the picture of a time: each with it as a polygon or line (M, 2), and (M,) where along the
    shape its vertices are."""
    found, carried = [], Carrier(shot, matte)
    for shape in matte.shapes:
        controls = carried.controls(shape, time) if shape.visible else None
        if controls is not None and np.isfinite(controls).all():
            found.append((shape, *flattened(shape.curves(controls), shape.closed)))
    return found


# -- anchors ------------------------------------------------------------------------------------------------------


def anchor_place(shot: Shot, anchor: Anchor, time: float, depth: int = 0) -> np.ndarray | None:
    """(2,) where an anchor is in the picture of a time; None where that is not known, or it is gone."""
    if anchor.kind == "shape":
        matte = shot.item(anchor.of, Matte)
        shape = matte.shape(anchor.shape) if matte is not None else None
        number = _number(anchor)
        if matte is None or shape is None or number >= shape.count or depth > _DEEPEST:
            return None
        controls = Carrier(shot, matte, depth + 1).controls(shape, time)
        return None if controls is None else shape.points_of(controls)[number]
    track = shot.track(anchor.of)
    return place_of(track, anchor.kind, anchor.name, time) if track is not None else None


def _number(anchor: Anchor) -> int:
    return int(anchor.name) if anchor.name.isdecimal() else 10**9


def anchors_on(shot: Shot, frame: int, tracks: Sequence[str], mattes: Sequence[str] = ()) -> list[tuple[Anchor, np.ndarray]]:
    """What of tracks and mattes a shape may be bound to on a frame, and where (2,) each is: tracked points found there, vertices, regions' points."""
    found: list[tuple[Anchor, np.ndarray]] = []
    for track in shot.tracks:
        if track.id not in tracks:
            continue
        kind, names = names_on(track, frame)
        found += [(a, p) for name in names if (p := anchor_place(shot, a := Anchor(kind=kind, of=track.id, name=name), frame)) is not None]
    for matte in shot.items:
        if isinstance(matte, Matte) and matte.id in mattes:
            for shape in matte.shapes:
                places = points_on(shot, matte, shape, frame)
                found += [(Anchor(kind="shape", of=matte.id, shape=shape.id, name=str(j)), p) for j, p in enumerate(places if places is not None else ())]
    return found


def best_anchors(point: np.ndarray, candidates: Sequence[tuple[Anchor, np.ndarray]]) -> tuple[Anchor, ...]:
    """The anchors by which a point (2,) is carried best: the one it sits on; else the nearest, and one or two more, near and in other directions."""
    if not candidates:
        return ()
    places = np.array([p for _, p in candidates])
    distance = np.linalg.norm(places - point, axis=1)
    order = np.argsort(distance, kind="stable")[:_NEAREST]
    chosen = [int(order[0])]
    if distance[chosen[0]] <= _SITS:
        return (candidates[chosen[0]][0],)
    away = (places - point) / np.maximum(distance, 1e-9)[:, None]
    while len(chosen) < 3:
        others = [int(k) for k in order if int(k) not in chosen and distance[k] > _SITS]
        if not others:
            break

        def cost(k: int) -> float:
            return float(distance[k] * (1 + _TURN * max(float(away[k] @ away[c]) for c in chosen)))

        best = min(others, key=cost)
        if len(chosen) == 2 and not _spans(places[[*chosen, best]]):
            break
        chosen.append(best)
    return tuple(candidates[k][0] for k in chosen)


def _spans(triangle: np.ndarray) -> bool:
    """Whether three places (3, 2) lie far enough from one line."""
    a, b, c = triangle
    area = abs((b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0]))
    longest = max(float(np.linalg.norm(p - q)) for p, q in ((a, b), (b, c), (c, a)))
    return bool(area > _FLAT * longest ** 2)
