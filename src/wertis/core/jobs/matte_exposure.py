"""Outlines of a figure that the shutter smears, measured by what figure and background explain of each frame; see `matte.exposure`."""

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np

from wertis.core.errors import PlateError
from wertis.core.geometry import homography
from wertis.core.jobs.matte_background import ROOM, FigureBackground
from wertis.core.jobs.matte_edge import EdgeFinder, EdgeMeasure, visible_corners, without_hidden
from wertis.core.matte.coverage import Box, box_round
from wertis.core.matte.edge import Edge, evenly_resampled, with_corners
from wertis.core.matte.exposure import Exposure, Texture, blank_texture, explained_offsets, gain_compensated, learned
from wertis.core.matte.exposure_tips import REACH, TipDisplacement, offsets_across, tip_displacement
from wertis.core.matte.outline import flattened, outwards
from wertis.core.shot.document import Shot
from wertis.core.shot.matte_carry import Carrier
from wertis.core.shot.matte_pieces import other_pieces
from wertis.core.shot.mattes import Matte, MatteShape

_SMEARED = 4.0  # pixels across the outline, on half of it, from which a frame is measured so; below it the edge itself is sharp enough
_HALVED = 8.0  # pixels of smear, usual on those frames, from which half of the resolution will do; a quarter makes it up to twice as far off
_LARGEST = 1280  # pixels of a picture's longer side, at the resolution that is worked on
_FEWEST, _MOST = 5, 40  # instants
_LENGTH = 20.0  # pixels along an outline within which it goes together
_SPACING = 4.0  # pixels between the places along it, at the worked resolution twice as close at least
_LEAST_OFF = 0.15  # pixels, deviation of a place at least
_USABLE = 3.0  # pixels, standard deviation up to which a place counts
_FIRST_ROUNDS, _NEXT_ROUNDS, _ALL_ROUNDS = 10, 2, 3  # of learning the texture: from a keyed frame, with each further one, and from all
_NEIGHBOURS, _OF_ALL = 5, 16  # frames that it is learnt from then, beside keyed ones:
_KEYED = 2  # the nearest of them, with each further frame
_KEPT = 256_000_000  # bytes of pictures that are kept, and of boxes of them
_LEAST_KNOWN = 0.5  # share of a box whose background must be known


class ExposedFigure:
    """One shape's figure on the frames of a series.

    Parameters
    ----------
    shape : of the matte, with the keys that count as right.
    frames : all of them, in their order, keyed ones too.

    Attributes
    ----------
    frames : those on which the shutter smears it so far that it is measured here.
    """

    def __init__(self, finder: EdgeFinder, shot: Shot, matte: Matte, shape: MatteShape, frames: Sequence[int]) -> None:
        self._finder, self._shot, self._matte, self._shape = finder, shot, matte, shape
        self._carried = Carrier(shot, matte)
        there = set(finder.frames)
        smears = {f: s for f in frames if f in there and (s := self._smear(f)) is not None}
        self.frames = {f for f, s in smears.items() if s > _SMEARED}
        typical = float(np.median([smears[f] for f in self.frames])) if self.frames else _SMEARED
        halvings = max(int(typical >= _HALVED), int(np.ceil(np.log2(max(finder.size) / _LARGEST))), 0)
        self._scale = 0.5 ** halvings
        self._sound = set(smears)  # frames that the plate and its track have
        self.background = FigureBackground(finder.picture, self._carried, shape, list(smears), self._half, self._scale, self.frames,
                                           other_pieces(matte, shape))
        self._exposures: dict[int, Exposure | None] = {}
        self._boxes: dict[int, Box] = {}
        self._texture: Texture | None = None

    def suits(self, frame: int) -> bool:
        """Whether a frame is measured here: it is smeared, what lies behind the figure is known there, and so is what the figure looks like."""
        return frame in self.frames and self._texture is not None and self._exposure(frame, self._shape) is not None

    def learn(self, outlines: Mapping[int, np.ndarray], frame: int | None = None) -> None:
        """Find out what the figure looks like from its `outlines` (M, 2) in the surface's picture on frames: from those near one, or from all."""
        if not outlines:
            return
        keyed = sorted(f for f in self._shape.keys if f in outlines)
        if frame is None:
            chosen, keyed = _evenly(sorted(outlines), _OF_ALL), _evenly(keyed, _OF_ALL)
        else:
            chosen = sorted(outlines, key=lambda f: (abs(f - frame), f))[:_NEIGHBOURS]
            keyed = sorted(keyed, key=lambda f: (abs(f - frame), f))[:_KEYED]
        shape = self.background.shape
        given = [(e, self._own(outlines[f], f)) for f in keyed if (e := self._exposure(f, shape)) is not None]
        seen = [*given, *((e, self._own(outlines[f], f)) for f in chosen if f not in keyed and (e := self._exposure(f, shape)) is not None)]
        if not seen:
            return
        rounds = _NEXT_ROUNDS if frame is not None else _ALL_ROUNDS
        if self._texture is None:
            self._texture = blank_texture(np.concatenate([outline for _, outline in seen]), self._scale, 2 * ROOM)
            rounds = _FIRST_ROUNDS
        self._texture = learned(self._texture, seen, rounds, len(given))

    def forget_exposures(self) -> None:
        """Make the exposures anew when they are asked for, since what is known of the background has changed."""
        self._exposures.clear()

    def measure(self, matte: Matte, shape: MatteShape, frame: int, spread: float) -> EdgeMeasure:
        """A shape's outline on a frame against what the figure explains of it; `spread` is by how many pixels it is expected to be off."""
        exposure = self._exposure(frame, shape)
        carried = Carrier(self._shot, matte)
        controls = carried.controls(shape, frame)
        if exposure is None or controls is None or self._texture is None:
            return EdgeMeasure(None, "its track has no answer here")
        polygon, at = flattened(shape.curves(controls))
        places, along, _ = evenly_resampled(polygon, at, shape.count, max(_SPACING, 2 / self._scale))
        places, along, corners = with_corners(places, along, shape.points_of(controls), shape.corners)
        normals = outwards(places)
        x0, y0, _, _ = self._boxes[frame]
        scaled = places * self._scale - [x0, y0]
        shown = visible_corners(carried, shape, frame, self._finder.size)
        told = [k for k, corner in zip(corners, shape.corners, strict=True) if corner in shown]
        here = gain_compensated(exposure, self._texture, homography.apply(np.linalg.inv(exposure.middle), scaled))
        tips, start, texture = self._tips(exposure, here, scaled, told, spread)
        offsets, deviations = explained_offsets(exposure, texture, start, spread * self._scale, _LENGTH * self._scale, corners)
        deviations = deviations / self._scale
        moved = homography.apply(exposure.moves[-1] @ np.linalg.inv(exposure.middle), scaled)
        smeared = 2 * np.abs(((moved - scaled) / self._scale * normals).sum(1))
        arrived = start + offsets[:, None] * outwards(start)
        for tip in tips.values():  # places beside a tip go along with it, which says nothing of what lies across them
            beside = np.flatnonzero(np.abs(tip.displacements).max(1) > 0)
            farthest = float(np.nanmax(np.linalg.norm(arrived[beside] - scaled[beside], axis=1), initial=0))
            offsets[beside] = offsets_across(scaled[beside], normals[beside], arrived, farthest)
        offsets = offsets / self._scale
        for corner, tip in tips.items():  # its own place is known along its axis and across, not along one normal
            move = tip.axes @ (arrived[corner] - scaled[corner]) / self._scale
            places, along, smeared = (np.concatenate([each, each[[corner]]]) for each in (places, along, smeared))
            normals, offsets = np.concatenate([normals, tip.axes[1:]]), np.append(offsets, move[1])
            normals[corner], offsets[corner] = tip.axes[0], move[0]
            deviations = np.append(deviations, tip.deviations[1] / self._scale)
            deviations[corner] = tip.deviations[0] / self._scale
        usable = np.isfinite(offsets) & (deviations < _USABLE)
        offsets = np.nan_to_num(offsets)
        order = np.argsort(along, kind="stable")
        none = np.zeros(len(places), bool)
        found = (places, along, normals, offsets, none, usable, smeared, np.hypot(_LEAST_OFF, deviations), none)
        return EdgeMeasure(without_hidden(Edge(*(each[order] for each in found)), carried, shape, frame))

    # -- inside -------------------------------------------------------------------------------------------------------

    def _tips(self, exposure: Exposure, texture: Texture, places: np.ndarray, corners: Sequence[int],
              spread: float) -> tuple[dict[int, TipDisplacement], np.ndarray, Texture]:
        """Tips among an outline's `corners`, where they are found; its places (n, 2) in the box's picture, moved with them; and the texture with what they
        show."""
        found = {}
        for corner in corners:
            tip = tip_displacement(exposure, texture, places, corner, spread * self._scale, REACH * self._scale, self._scale)
            if tip is not None:
                places, texture, found[corner] = places + tip.displacements, tip.texture, tip
        return found, places, texture

    @property
    def _half(self) -> float:
        """Frames for which the shutter is open before and after a frame's time."""
        return self._finder.shutter(self._matte) / 720

    def _smear(self, frame: int) -> float | None:
        """Pixels across the outline over which the shutter smears half of it, or more."""
        ends = [self._carried.smoothly(self._shape, frame, frame + sign * self._half) for sign in (-1, 1)]
        here = self._carried.controls(self._shape, frame)
        if here is None or ends[0] is None or ends[1] is None:
            return None
        moved = self._shape.points_of(ends[1] - ends[0])
        if not np.isfinite(moved).all() or not np.isfinite(here).all():
            return None
        return float(np.median(np.abs((moved * outwards(self._shape.points_of(here))).sum(1))))

    def _own(self, outline: np.ndarray, frame: int) -> np.ndarray:
        """An outline (M, 2) of a frame in the surface's picture, in that of the figure as it is on its first key."""
        return homography.apply(np.linalg.inv(self.background.pose.at(self.background.shape, frame)), outline)

    def _exposure(self, frame: int, shape: MatteShape) -> Exposure | None:
        """A frame's exposure with the figure's own moves by a shape's keys; None where it is not known well enough."""
        if frame not in self._exposures:
            try:
                made = self._made(frame) if frame in self._sound else None
            except PlateError:  # it, or one beside it, cannot be read; the edge itself is looked for, and says so
                made = None
            if made is not None:  # kept in half the room, which is as exact as eight bits at least
                made = replace(made, picture=made.picture.astype(np.float16), background=made.background.astype(np.float16))
            self._exposures[frame] = made
            sizes = [0 if e is None else e.picture.nbytes + e.background.nbytes for e in self._exposures.values()]
            for oldest in list(self._exposures)[:-1]:
                if sum(sizes) <= _KEPT:
                    break
                sizes.pop(0)
                del self._exposures[oldest]
        kept = self._exposures[frame]
        if kept is None:
            return None
        kept = replace(kept, picture=kept.picture.astype(np.float32), background=kept.background.astype(np.float32))
        return self.background.posed(kept, shape, frame)

    def _made(self, frame: int) -> Exposure | None:
        ends = [e for u in (-self._half, 0.0, self._half) if (e := self._carried.smoothly(self._shape, frame, frame + u)) is not None]
        if len(ends) < 3:
            return None
        outlines = np.concatenate([self._shape.points_of(e) for e in ends]) * self._scale
        box = box_round(outlines, ROOM * self._scale, self.background.size(frame))
        if box is None:
            return None
        self._boxes[frame] = box
        exposure = self.background.exposure(self._shape, frame, box, _FEWEST, _MOST)
        return None if exposure is None or exposure.known.mean() < _LEAST_KNOWN else exposure


def _evenly(frames: list[int], count: int) -> list[int]:
    """At most so many of some frames, evenly spread."""
    return [frames[k] for k in np.unique(np.linspace(0, len(frames) - 1, count).astype(int))] if frames else []
