"""A matte's outline fitted to the picture's edge on many frames together; see `matte.outline_smoother`."""

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import replace

import numpy as np

from wertis.core.jobs.events import Counter, Event, Stop, stopped
from wertis.core.jobs.matte_edge import EACH, FIRST, EdgeFinder, EdgeMeasure, visible_corners
from wertis.core.jobs.matte_exposure import ExposedFigure
from wertis.core.jobs.matte_look import Look, PlacedPoints, measurement, placed_tips
from wertis.core.jobs.matte_tips import SharpTips
from wertis.core.matte.edge import Edge
from wertis.core.matte.fitting import with_tips
from wertis.core.matte.outline import flattened
from wertis.core.matte.outline_smoother import Measurement, smoothed
from wertis.core.shot.document import Shot
from wertis.core.shot.edits import as_points
from wertis.core.shot.items import set_item
from wertis.core.shot.matte_carry import Carrier
from wertis.core.shot.mattes import Matte, MatteShape, matte_of

_WINDOW = 9  # frames around one, from which its outline is predicted
_LEAST_REACH = 4.0  # pixels to both sides of what is predicted, in which the edge is looked for
_SIGMAS, _MOST = 3.0, 0.9  # standard deviations of what is predicted, in which it is looked for, and of so large a part of the outline
_FURTHER_ROUNDS, _SETTLED = 5, 0.5  # of measuring smeared frames, at most; and pixels by which all points of an outline that needs none move at most
_LEAST_SPREAD = 1.0  # pixels by which the outline of a smeared figure is expected to be off at least
_TIP, _TIP_BY_SMEAR = 1.0, 0.3  # pixels: deviation of a corner; and per pixel that the shutter smears
_MOVED = 0.05  # pixels by which a corner's neighbours move from which they are drawn back with it
_ONWARDS, _BETWEEN = 6, 12  # frames of which too little is told that may be bridged, onwards from what is known and towards what is known beyond
_SURE = 1.5  # pixels, deviation from which a frame is left as it was
_FRAMES, _OVERLAP = 120, 8  # frames that are solved at a time, and that two such blocks share at each end
_TOGETHER = 40_000  # points of an outline on all of them, for memory's sake
_LOOKS = 6  # at an outline on a frame by itself at most, while parts of the edge lie farther away than was looked
_BEYOND = 2.0  # pixels, deviation of such a part from how far that was


class OutlineSeries:
    """One shape of a matte on many frames.

    Parameters
    ----------
    frames : to be fitted; other frames with keys count as right.
    reach : pixels to both sides of the outline in which the edge is looked for at most.
    """

    ROUNDS = 3  # of measuring: frame after frame, and then twice along what all together say

    def __init__(self, finder: EdgeFinder, shot: Shot, ident: str, shape: str, frames: Sequence[int], reach: float) -> None:
        self.shot = shot
        self._finder, self._matte, self._reach = finder, matte_of(shot, ident), reach
        drawn = self._matte.shape(shape)
        assert drawn is not None
        self._keyed = set(drawn.keys) - set(frames) or set(drawn.keys)
        self._frames = sorted(set(frames) - self._keyed)
        self._shape = drawn.but(keys={f: k for f, k in drawn.keys.items() if f in self._keyed})
        self._corners = drawn.corners
        self._points: dict[int, np.ndarray] = {}  # (N, 2) in the surface's picture
        self._spread: dict[int, np.ndarray] = {}  # (N,) and how sure they are
        self._measured: dict[int, Measurement] = {}
        self._exposed = ExposedFigure(finder, shot, self._matte.with_shape(self._shape), self._shape, sorted({*self._frames, *self._keyed}))
        self._sharp_tips = SharpTips(self._exposed.background, Carrier(shot, self._matte.with_shape(self._shape)), finder.size)
        self._followed: set[int] = set()  # frames on which enough of the edge was found for the figure to be known by them

    @staticmethod
    def suits(shape: MatteShape, frames: Sequence[int]) -> bool:
        """Whether a shape can be fitted on these frames together."""
        return len(set(frames)) > 1 and shape.closed and shape.stroke is None and not shape.locked and shape.count * 3 * _OVERLAP <= _TOGETHER

    def fit(self, count: Counter, stop: Stop | None = None) -> Iterator[Event]:
        """Fit it; `shot` then has a key on each frame that was fitted. Stopped, it has those that were found well by then."""
        left: dict[int, str] = {}
        for frame in sorted(self._frames, key=lambda f: (min(abs(f - k) for k in self._keyed), f)):
            if stopped(stop):
                break
            left[frame] = self._first_look(frame)
            yield count.event(frame, note=f"looked at frame {frame}", of=(self._shape.id, frame, 0))
        for frame in [f for f in self._measured if not self._bridged(f)]:
            left[frame] = "too little of its edge can be told"
            del self._measured[frame]
        for number in range(1, self.ROUNDS + _FURTHER_ROUNDS + 1):
            frames = self._solve_all()
            if number < self.ROUNDS:
                frames = sorted(self._measured)
            elif not frames or stopped(stop) or number == self.ROUNDS + _FURTHER_ROUNDS:
                break
            else:  # a smeared figure's texture is learnt from frame to frame, which takes longer to settle than an edge
                count.total += len(frames)
            for frame in frames:
                if stopped(stop):
                    break
                self._keep(frame, self._measure(frame), tips_as_they_are=number < self.ROUNDS - 1)
                yield count.event(frame, note=f"looked again at frame {frame}", of=(self._shape.id, frame, number))
        for frame in self._frames:
            why = left.get(frame, "it was stopped")
            if frame in self._measured and float(np.quantile(self._spread[frame], _MOST)) > _SURE:
                why = "its edge can be told too roughly"
            if not why:
                self.shot = set_item(self.shot, self._with_keys([frame], matte=matte_of(self.shot, self._matte.id)))
            for number in range(self.ROUNDS):  # of a frame that was left no later round was counted
                event = count.event(frame, note=f"{self._shape.name} was left: {why}" if why else f"fitted on frame {frame}",
                                    of=(self._shape.id, frame, number))
            yield event

    # -- one frame after the other ------------------------------------------------------------------------------------

    def _first_look(self, frame: int) -> str:
        """Find the outline on a frame for the first time; why it is left, or nothing."""
        known = self._keyed | self._followed
        nearest = [n for n in (max((f for f in known if f < frame), default=None), min((f for f in known if f > frame), default=None)) if n is not None]
        lost = [sum(min(n, frame) < f < max(n, frame) for f in self._frames) for n in nearest]
        if min(lost) >= (_BETWEEN if len(lost) == 2 else _ONWARDS):
            return "its edge was lost on the way from where it is known"
        self._update_background()
        if frame in self._exposed.frames:
            self._exposed.learn(self._outlines(), frame)
            if self._exposed.suits(frame):
                return self._by_exposure(frame)
        reach = min(self._reach, FIRST + EACH * min(abs(n - frame) for n in nearest))
        self._points[frame] = self._shape.points_of(self._in_shape(self._with_keys(self._followed)).at(frame))
        for number in range(_LOOKS):  # by itself, where enough of its edge is found
            look = self._measure(frame, reach)
            if look.edge is None:
                return look.measure.reason
            if not look.measure.followed:
                return self._with_neighbours(frame)[0]
            self._fit_alone(frame, look, replace(look.edge, usable=look.edge.usable | look.edge.beyond))
            if number and not look.edge.beyond.any():
                break
        self._followed.add(frame)
        self._keep(frame, self._measure(frame, reach), tips_as_they_are=True)  # as they were just found
        return ""

    def _fit_alone(self, frame: int, look: Look, edge: Edge) -> None:
        """Move the outline to the edge that was found along it on a frame."""
        shape = self._in_shape(look.matte)
        controls = Carrier(self.shot, look.matte).controls(shape, frame)
        assert controls is not None  # it was measured there
        points = shape.points_of(controls)
        shown = visible_corners(Carrier(self.shot, look.matte), shape, frame, self._finder.size)
        others = [c for c in shown if c not in look.tips]
        moves = self._finder.fitted(self.shot, look.matte, shape, frame, points, edge, look.known[0], look.reach + FIRST, others) - points
        self._points[frame] = self._moved(look.matte, frame, moves)

    def _moved(self, matte: Matte, frame: int, moves: np.ndarray) -> np.ndarray:
        """(N, 2) the points of a matte's outline in the surface's picture, when they are moved in that of a frame."""
        carried, shape = Carrier(self.shot, matte), self._in_shape(matte)
        controls = carried.controls(shape, frame)
        assert controls is not None  # it was measured there
        back = carried.moved(shape, controls + (np.repeat(moves, 3, 0) if shape.handled else moves), frame, back=True)
        assert back is not None
        return shape.points_of(back)

    def _by_exposure(self, frame: int) -> str:
        """Find the outline on a frame that the shutter smears, by what is known of figure and background; why it is left, or nothing."""
        why, followed = self._with_neighbours(frame)
        if followed:
            self._solve(sorted({*self._near(frame), frame}), frame)
            self._followed.add(frame)
        return why

    def _outlines(self) -> dict[int, np.ndarray]:
        """Frame to outline (M, 2) in the surface's picture, where it is known."""
        shape = self._in_shape(self._with_keys(self._followed))
        return {f: flattened(shape.curves(shape.at(f)))[0] for f in self._keyed | self._followed}

    def _near(self, frame: int) -> list[int]:
        return sorted(self._keyed | set(self._measured), key=lambda f: (abs(f - frame), f))[:_WINDOW]

    def _with_neighbours(self, frame: int) -> tuple[str, bool]:
        """Predict the outline on a frame on which little of the edge is found, from those around it, and keep what is; why it is left, if it is, and
        whether it was found well enough in the end for the figure to be known by it."""
        near = self._near(frame)
        for _ in range(2):
            self._solve(sorted({*near, frame}), frame)
            look = self._measure(frame)
            if look.edge is None:
                self._measured.pop(frame, None)
                return look.measure.reason, False
            self._keep(frame, look)
        return "", look.measure.followed

    def _bridged(self, frame: int) -> bool:
        """Whether a frame was found well by itself, or lies between frames that were and that are near enough."""
        known = self._keyed | self._followed
        before, after = (min((abs(f - frame) for f in known if (f - frame) * side >= 0), default=np.inf) for side in (-1, 1))
        return bool(max(before, after) < np.inf and min(before, after) <= _BETWEEN)

    # -- together -----------------------------------------------------------------------------------------------------

    def _solve_all(self) -> list[int]:
        """Solve for the outline on all frames that are measured, and learn the figure's texture again; the smeared frames on which the outline still
        moves."""
        before = dict(self._points)
        self._solve(sorted(self._measured))
        self._update_background()
        if not self._exposed.frames:
            return []
        self._exposed.forget_exposures()
        self._exposed.learn(self._outlines())
        return [f for f in sorted(self._measured) if self._exposed.suits(f) and np.linalg.norm(self._points[f] - before[f], axis=1).max() > _SETTLED]

    def _solve(self, frames: Sequence[int], only: int | None = None) -> None:
        """Where the outline is on frames, from what was measured on them and on keyed frames among and around them; kept for all, or for one."""
        times = sorted({*frames, *(f for f in self._keyed if frames and frames[0] - _BETWEEN <= f <= frames[-1] + _BETWEEN)})
        most = max(min(_FRAMES, _TOGETHER // self._shape.count), 3 * _OVERLAP)
        for begin in range(0, len(times), most - 2 * _OVERLAP):
            block = times[begin:begin + most]
            base = np.array([self._shape.points_of(self._shape.at(t)) for t in block])
            fixed = np.array([t in self._keyed for t in block])
            points, spread = smoothed(base, np.array(block, float), fixed, {k: self._measured[t] for k, t in enumerate(block) if t in self._measured},
                                          self._corners, rounds=4 if only is None else 2, smeared=np.array([t in self._exposed.frames for t in block]),
                                      moved=self._exposed.background.pose.moved(self._shape, block))
            inner = block[_OVERLAP if begin else 0:]
            for frame in inner if only is None else {only} & set(inner):
                k = block.index(frame)
                self._points[frame], self._spread[frame] = points[k], spread[k]
            if begin + most >= len(times):
                break

    def _with_keys(self, frames: Collection[int], points: Mapping[int, np.ndarray] | None = None, matte: Matte | None = None) -> Matte:
        """The matte with the outline keyed on frames where it is taken to be, or at other `points` (N, 2)."""
        matte, points = matte or self._matte.with_shape(self._shape), points or self._points
        shape = self._in_shape(matte)
        keys = dict(shape.keys)
        for frame in frames:
            moves = points[frame] - self._shape.points_of(self._shape.at(frame))
            keys[frame] = as_points(self._shape.at(frame) + (np.repeat(moves, 3, 0) if shape.handled else moves))
        return matte.with_shape(shape.but(keys=keys))

    def _update_background(self) -> None:
        """Tell the background where the figure was found by now, so that it is known right beside that."""
        self._exposed.background.update_outlines(self._in_shape(self._with_keys(self._followed | (set(self._measured) & set(self._points)))))

    def _in_shape(self, matte: Matte) -> MatteShape:
        shape = matte.shape(self._shape.id)
        assert shape is not None
        return shape

    # -- measuring ----------------------------------------------------------------------------------------------------

    def _measure(self, frame: int, reach: float | None = None) -> Look:
        """A frame's outline, where it is taken to be, against the picture's edge; by default as far away as is likely."""
        near = sorted((f for f in self._followed | self._keyed if f != frame), key=lambda f: (abs(f - frame), f))[:2]
        known = list(dict.fromkeys([*near, min(self._keyed, key=lambda f: (abs(f - frame), f))]))
        keyed = [f for f in known if f not in self._keyed]
        matte, points = self._with_keys([frame, *keyed]), self._points[frame]
        spread = max(float(np.quantile(self._spread[frame], _MOST)), _LEAST_SPREAD) if frame in self._spread else _LEAST_SPREAD
        if self._exposed.suits(frame) and frame in self._spread:
            return Look(self._exposed.measure(matte, self._in_shape(matte), frame, spread), matte, known, self._reach, points, True)
        predicted = reach is None
        if reach is None:
            reach = min(self._reach, max(_LEAST_REACH, _SIGMAS * float(np.quantile(self._spread[frame], _MOST)) + 1))
        moves, tips = self._sharp_tips.found(self._in_shape(matte), frame, known, spread)
        if tips:
            points = self._moved(matte, frame, moves)
            matte = self._with_keys([frame, *keyed], {**self._points, frame: points})
        found = self._finder.measure(self.shot, matte, self._in_shape(matte), frame, known, reach, self._exposed.background)
        if predicted and found.edge is not None:  # towards what lies beyond, which the next round looks at
            edge = found.edge
            found = EdgeMeasure(replace(edge, usable=edge.usable | edge.beyond, deviations=np.where(edge.beyond, _BEYOND, edge.deviations)))
        return Look(found, matte, known, reach, points, tips=tips)

    def _keep(self, frame: int, look: Look, tips_as_they_are: bool = False) -> None:
        """Keep what was found along the outline on a frame, for the solution of all."""
        if look.edge is None:
            return
        placed = [placed_tips(look.tips, self._exposed.background.scale)]
        shown = visible_corners(Carrier(self.shot, look.matte), self._in_shape(look.matte), frame, self._finder.size)
        others = [c for c in shown if c not in look.tips]
        if not look.layered and others:
            placed.append(self._corners_by_themselves(frame, look, look.edge, others, tips_as_they_are))
        base = self._shape.points_of(self._shape.at(frame))
        self._measured[frame] = measurement(look, Carrier(self.shot, look.matte), self._in_shape(look.matte), frame, base, placed)

    def _corners_by_themselves(self, frame: int, look: Look, edge: Edge, corners: Sequence[int], as_they_are: bool) -> PlacedPoints:
        """Corners, and points that are drawn back with them, as long as the picture of a frame shows them; or `as_they_are`."""
        shape = self._in_shape(look.matte)
        moves, numbers = np.zeros((shape.count, 2)), np.array(corners, int)
        controls = Carrier(self.shot, look.matte).controls(shape, frame)
        if not as_they_are and controls is not None:
            points = shape.points_of(controls)
            drawn_back = with_tips(points, corners)
            moves = self._finder.with_tips(self.shot, look.matte, shape, frame, drawn_back, look.known[0], look.reach + FIRST, corners) - points
            numbers = np.array(sorted({*corners, *np.flatnonzero(np.abs(moves).max(1) > _MOVED).tolist()}))
        rough = np.hypot(_TIP, _TIP_BY_SMEAR * np.interp(numbers, edge.along, edge.smeared))
        return PlacedPoints(np.tile(numbers, 2), np.repeat(np.eye(2), len(numbers), 0), moves[numbers].T.ravel(), np.tile(rough, 2))
