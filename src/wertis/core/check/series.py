"""Drift over a shot: each frame by itself, and then again those that a blur or a reflection made doubtful, with what the others have told.

A camera that shakes blurs every frame, and the base, along a path of its own; all patches of a frame are then wrong together. Once the frames round a
frame are known so is its path, and the shutter can be measured. A reflection is told apart from the surface by how it moves over many frames.
"""

from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace
from functools import partial

import numpy as np

from wertis.core.check.drift import MEASURED, Blurs, BlursAt, DriftMeter, Look
from wertis.core.check.slip import Slip
from wertis.core.geometry import homography
from wertis.core.geometry.conventions import from_centred, homography_from_centred, homography_to_centred, to_centred
from wertis.core.geometry.warp import HomographyWarp, Warp
from wertis.core.imaging import shutter
from wertis.core.imaging.layer_separation import Kept, Layers
from wertis.core.imaging.parallel import side_by_side
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.imaging.shutter import FAST, GUESS, NEAR, Shutter

_MEASURED_FRAMES = 6  # from which the shutter is measured
_TURNS = 3  # of that
_MOST_CROPS = 48  # kept of frames that are looked at again
_DOUBTFUL = 0.5  # part of the frames that a reflection must have made doubtful
_MOST_AWAY = 12.0  # pixels from the first look beyond which the one without the reflection is not believed

Picture = tuple[np.ndarray, np.ndarray | None]
"""A frame's luma (h, w), and the mask (h, w) uint8 of what is held out there, or None."""


class DriftSeries:
    """Measures the frames of a shot against a base frame.

    Parameters
    ----------
    luma : (h, w) uint8 or float32 on a scale of 0..255, the base frame.
    mask : (h, w) uint8, non-zero where the surface is on it.
    points : (N, 2) points of the base frame at which the slip is wanted, in Wertis' pixels.
    base : its number.
    """

    def __init__(self, luma: np.ndarray, mask: np.ndarray, points: np.ndarray, base: int) -> None:
        self.meter = DriftMeter(luma, mask, points)
        self._luma, self._mask, self._points, self._base = luma, mask, points, base
        self._looks: dict[int, Look] = {}
        self._matrices: dict[int, np.ndarray] = {}
        self._crops: dict[int, tuple[np.ndarray, np.ndarray | None, tuple[int, int], tuple[int, int]]] = {}

    def window(self, warp: Warp, size: tuple[int, int]) -> tuple[int, int, int, int]:
        """The part x0, y0, x1, y1 of a frame of `size` (width, height) that measuring it needs."""
        return self.meter.window(warp, size)

    def look(self, luma: np.ndarray, warp: Warp, held: np.ndarray | None, origin: tuple[int, int], size: tuple[int, int]) -> Look:
        """What is seen of a frame by itself; the words are those of `DriftMeter.look`. It changes nothing, and may be done by another process."""
        return self.meter.look(luma, warp, held, origin, size)

    def take(self, frame: int, found: Look, warp: Warp) -> Slip:
        """Remember what a look gave, for the rounds after it; its slip. `warp` is what it was looked at through."""
        if warp.matrix is not None:
            self._matrices[frame] = warp.matrix
        self._looks[frame] = found
        return found.slip

    def rounds(self, read: Callable[[int], Picture]) -> list[Iterator[tuple[int, Callable[[], Slip]]]]:
        """Rounds of other looks at the frames that are worth one, once all have been looked at: in each, the frames and how to look at them.

        The looks of one round may be taken at the same time, in any order; all of a round must be done before the next one is begun.
        `read` gives a frame's picture; it is asked only for frames that could be read before.
        """
        return [self._through_blur(read), self._without_reflection(read)]

    def shutter(self, read: Callable[[int], Picture]) -> Shutter | None:
        """The shutter by the frames that were looked at, whose neighbours were as well; None where none fits."""
        self._looks.update(self._seeds())
        return self._measured_blur(read)[1]

    # -- blur -----------------------------------------------------------------------------------------------------

    def _through_blur(self, read: Callable[[int], Picture]) -> Iterator[tuple[int, Callable[[], Slip]]]:
        own, seeds = dict(self._looks), self._seeds()
        self._looks.update(seeds)
        fast, part = self._measured_blur(read)
        if part is None:  # no blur of that kind: the looks by themselves stand
            self._looks.update(own)
            return
        places = self._places()

        def look_at(frame: int, part: Shutter) -> Slip:
            look = self._through(frame, part, read, places)
            self._looks[frame] = look if look is not seeds.get(frame) else own[frame]
            return self._looks[frame].slip

        for frame in self._looks:
            if frame not in fast:
                self._looks[frame] = own[frame]
        for frame in fast:
            yield frame, partial(look_at, frame, part)

    def _measured_blur(self, read: Callable[[int], Picture]) -> tuple[list[int], Shutter | None]:
        """The frames whose blur matters, and the shutter; None where none fits."""
        found = sorted(f for f, look in self._looks.items() if look.found)
        if not found:
            return [], None
        box = self.meter.box
        of_base = self._extent(self._base, box)
        extents = {f: max(of_base, self._extent(f, box)) for f in found}
        fast = sorted(f for f in found if extents[f] > FAST)
        if len(fast) < 2:
            return [], None
        samples = sorted(fast, key=lambda f: (self._looks[f].slip.seen < 0.5 or not self._between(f), -extents[f]))[:_MEASURED_FRAMES]
        part: Shutter | None = None
        for _ in range(_TURNS):
            if part is not None:
                # the paths were worked out from places that the blur had falsified
                near = sorted({g for f in samples for g in (f - 1, f, f + 1) if g in extents})
                # each is looked at with its neighbours' places as they were, in whatever order the threads come to them
                again = side_by_side(partial(self._through, found=part, read=read, places=self._places()), near)
                self._looks.update(zip(near, again, strict=True))
            part = self._shutter(samples, read, part) or part
            if part is None:
                return fast, None
        return fast, part

    def _seeds(self) -> dict[int, Look]:
        """Looks for the frames whose own is not to be trusted, with the place where the motion has the surface, put right by what the nearest frame
        that was measured is off: a strong blur leads a look by itself astray by pixels, while a motion drifts little from frame to frame."""
        fixes = {self._base: np.eye(3)}  # by how much the motion is off, as a small homography on the base
        unsure: list[int] = []
        for frame, look in self._looks.items():
            matrix = self._matrices.get(frame)
            if matrix is None or look.place is None or not look.slip.in_view:
                continue
            if look.found and look.slip.uncertainty.max() <= MEASURED:
                fixes[frame] = np.linalg.inv(homography_to_centred(matrix)) @ look.place
            else:
                unsure.append(frame)
        return {f: replace(self._looks[f], found=True, unlike=self._looks[f].unlike if self._looks[f].found else 1.0,
                           place=homography_to_centred(self._matrices[f]) @ fixes[min(fixes, key=lambda g, f=f: (abs(g - f), g))])  # type: ignore[misc]
                for f in unsure}

    def _through(self, frame: int, found: Shutter, read: Callable[[int], Picture], places: Mapping[int, np.ndarray | None]) -> Look:
        """A frame looked at again with its blur, from the place that is known; `places` are those of all frames before any was looked at again."""
        luma, held, origin, size = self._crop(frame, read)
        return self.meter.look_again(self._looks[frame], luma, self._matrices[frame], self._blurs(frame, found, places), held, origin, size)

    def _places(self) -> dict[int, np.ndarray | None]:
        """Frame to the surface's place (3, 3), centred, as measured so far."""
        return {frame: look.place for frame, look in self._looks.items()}

    def _crop(self, frame: int, read: Callable[[int], Picture]) -> tuple[np.ndarray, np.ndarray | None, tuple[int, int], tuple[int, int]]:
        """What of a frame measuring needs, its place and the picture's size; the last few are kept, since they are needed more than once."""
        kept = self._crops.get(frame)
        if kept is None:
            luma, held = read(frame)
            size = luma.shape[1], luma.shape[0]
            x0, y0, x1, y1 = self.meter.window(HomographyWarp(self._matrices[frame]), size)
            kept = luma[y0:y1, x0:x1].copy(), held[y0:y1, x0:x1].copy() if held is not None else None, (x0, y0), size
            self._crops[frame] = kept
            while len(self._crops) > _MOST_CROPS:
                self._crops.pop(next(iter(self._crops)), None)
        return kept

    def _near(self, frame: int, places: Mapping[int, np.ndarray | None] | None = None) -> list[np.ndarray | None]:
        """Places (3, 3) of the surface, centred, on the frames round one, its own in the middle."""
        known = places if places is not None else self._places()
        return [np.eye(3) if f == self._base else known.get(f) for f in range(frame - NEAR, frame + NEAR + 1)]

    def _between(self, frame: int) -> bool:
        """Whether the places on both sides of a frame are known."""
        near = self._near(frame)
        return near[NEAR - 1] is not None and near[NEAR + 1] is not None

    def _extent(self, frame: int, points: np.ndarray) -> float:
        leg = shutter.leg_among(self._near(frame), NEAR, points, GUESS)
        return shutter.extent(shutter.taps(leg, GUESS)) if leg is not None else 0.0

    def _shutter(self, frames: list[int], read: Callable[[int], Picture], before: Shutter | None) -> Shutter | None:
        places = self.meter.measured_places
        def leg_at(frame: int) -> shutter.LegAt:
            near = self._near(frame)
            return lambda part: shutter.leg_among(near, NEAR, places, part)

        of_base = leg_at(self._base)
        known = [f for f in frames if leg_at(f)(GUESS) is not None]
        if of_base(GUESS) is None or len(known) < 2 or len(places) < 6:
            return None
        crops = [self._crop(f, read) for f in known]
        pictures = [Pyramid(c[0])[1] for c in crops]

        def disagreement(i: int, own: np.ndarray, other: np.ndarray) -> np.ndarray:
            return self.meter.disagreement(pictures[i], crops[i][2], self._looks[known[i]], own, other)

        return shutter.measure(disagreement, [leg_at(f) for f in known], [of_base] * len(known), before)

    def _blurs(self, frame: int, found: Shutter, places: Mapping[int, np.ndarray | None]) -> BlursAt:
        near, of_base = self._near(frame, places), self._near(self._base, places)

        def at(points: np.ndarray) -> Blurs | None:
            own, base = (shutter.leg_among(m, NEAR, points, found.part) for m in (near, of_base))
            if own is None or base is None:
                return None
            if found.missing is not None:
                base = shutter.completed(base, found.missing, found.part)
            return Blurs(shutter.taps(own, found.part), shutter.taps(base, found.part), found.part)

        return at

    # -- reflection -----------------------------------------------------------------------------------------------

    def _without_reflection(self, read: Callable[[int], Picture]) -> Iterator[tuple[int, Callable[[], Slip]]]:
        found = sorted(f for f, look in self._looks.items() if look.found)
        doubtful = [f for f in found if not self._looks[f].slip.uncertainty.max() <= MEASURED]
        if len(doubtful) < _DOUBTFUL * max(len(found), 1):
            return
        for side in (sorted(f for f in found if f > self._base), sorted((f for f in found if f < self._base), reverse=True)):
            layers = Layers(self._luma, self._mask, self._base)
            for frame in side:
                place = self._looks[frame].place
                assert place is not None
                layers.keep(frame, homography_from_centred(place), read(frame)[0])
            corners = homography.apply(np.linalg.inv(layers.back), to_centred(self._points))
            looks: list[Look] = []

            def aligned(surface: np.ndarray, mask: np.ndarray, pictures: list[np.ndarray], matrices: list[np.ndarray],
                        corners: np.ndarray = corners, looks: list[Look] = looks) -> list[np.ndarray]:
                meter = DriftMeter(surface, mask, from_centred(corners))
                looks[:] = side_by_side(lambda pair: meter.look(pair[0], HomographyWarp(homography_from_centred(pair[1]))),
                                        list(zip(pictures, matrices, strict=True)))
                return [matrix if look.place is None else look.place for look, matrix in zip(looks, matrices, strict=True)]

            if not layers.separated(aligned):
                continue
            for k, look in list(zip(layers.kept, looks, strict=True))[1:]:
                if look.found and looks[0].found:
                    yield k.frame, lambda k=k, look=look, own=looks[0], layers=layers: self._told(k, look, own, layers)  # type: ignore[misc]

    def _told(self, k: Kept, look: Look, of_base: Look, layers: Layers) -> Slip:
        first, matrix, place = self._looks[k.frame].slip, self._matrices[k.frame], self._looks[k.frame].place
        assert place is not None
        slip = homography.apply(layers.whole(k), self._points) - homography.apply(matrix, self._points)
        uncertainty = np.hypot(look.slip.uncertainty, of_base.slip.uncertainty) * layers.scale
        away = homography.apply(layers.whole(k), self._points) - homography.apply(homography_from_centred(place), self._points)
        if not (uncertainty.max() < first.uncertainty.max() and np.linalg.norm(away, axis=1).max() < _MOST_AWAY):
            return first
        slip[uncertainty > MEASURED] = np.nan
        return Slip(slip, uncertainty, look.slip.seen, first.in_view, "" if np.isfinite(slip).any() else first.reason)
