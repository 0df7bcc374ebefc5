"""A track in a surface that mirrors something: aligned again without the reflection, which then no longer pulls it.

Where the reflection is so strong that the tracker went with it, the surface is looked for instead, and where it cannot be told the frames are lost.
See `imaging.layer_separation` and `transparent_layers`.
"""

import threading
from collections.abc import Callable, Iterator
from dataclasses import replace

import numpy as np

from wertis.core.geometry import homography
from wertis.core.geometry.conventions import homography_to_centred, to_centred
from wertis.core.geometry.motion import Fix
from wertis.core.imaging.layer_separation import MOST_FRAMES, Kept, Layers
from wertis.core.imaging.parallel import side_by_side
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.track.align import Alignment, align
from wertis.core.track.covariance import expected_error
from wertis.core.track.kinds import KINDS
from wertis.core.track.reference import Reference, choose, visible_tiles
from wertis.core.track.transparent_layers import told_apart

_UNSURE = 0.08  # pixels of expected error, in the poorer picture, from which a frame may show a reflection
_PART = 0.5  # of the frames that must be so
_STEPS, _TILES = 5, 80
_NOT_WHOLLY = 1.2  # times by which the error is larger than grain alone would make it: what is left of the reflection pulls still
_UNEXPLAINED = 0.35  # part of what the surface leaves, above which another layer than a reflection that shifts is looked for; 0.2 is left of most
_FARTHEST = 4.0  # pixels from the first answer beyond which the new one is not believed
_AS_LIKE = 0.7  # part of the other frames' likeness from which a frame aligned from its neighbours is believed
_FOLLOWED = ("something mirrored here moves over the surface, and the two cannot be told apart; draw the region where less is mirrored, track from "
             "another frame, or repair by hand")


class ReflectionKeeper:
    """Keeps small pictures of the region while it is tracked, and afterwards tells a reflection apart and answers again.

    Parameters
    ----------
    luma : (height, width) of the reference frame, as the tracker sees it.
    mask : (height, width) uint8, non-zero where the surface is.
    corners : (N, 2) points, in Wertis' pixels, at which the expected error is stated.
    kind : a name in `kinds.KINDS`.
    start : the reference frame's number.
    """

    def __init__(self, luma: np.ndarray, mask: np.ndarray, corners: np.ndarray, kind: str, start: int) -> None:
        self._layers = Layers(luma, mask, start)
        self._kind = KINDS[kind]
        self._seen = luma, mask, corners, kind, start
        self._corners = homography.apply(np.linalg.inv(self._layers.back), to_centred(corners))
        self._fixes: dict[int, Fix] = {}
        self._answered: dict[int, Fix] = {}
        self._middle = corners.mean(0)

    def keep(self, frame: int, fix: Fix, luma: np.ndarray) -> None:
        """Remember a frame that has an answer, if that is so unsure that a reflection may be the cause."""
        if fix.matrix is None:
            return
        self._answered[frame] = fix
        if fix.error >= _UNSURE * max(1.0, homography.local_scale(fix.matrix, self._middle)):
            self._fixes[frame] = fix
            self._layers.keep(frame, fix.matrix, luma)

    def answers(self, read: Callable[[int], np.ndarray | None], stop: threading.Event | None = None) -> Iterator[tuple[int, Fix]]:
        """Better answers for the frames kept; none where no reflection is found, or where telling it apart does not help.

        Where it turns out that the reflection was followed, these are the surface's; a frame on which that is not found comes as lost.

        Parameters
        ----------
        read : gives a frame's luma (height, width) again, as the tracker saw it, or None where it cannot be read.
        stop : set to end soon; what was tracked stays as it is then.
        """
        if len(self._layers.kept) < _PART * min(len(self._answered), MOST_FRAMES):
            return
        better = self._better()
        if self._layers.unexplained > _UNEXPLAINED:
            _, mask, corners, kind, start = self._seen
            verdict = told_apart(read, start, self._answered, mask, corners, kind, stop)
            if stop is not None and stop.is_set():
                return
            if verdict.kind != "tracked":
                yield from self._of_surface(verdict.fixes, read).items()
                return
        yield from better.items()

    def _of_surface(self, fixes: dict[int, Fix], read: Callable[[int], np.ndarray | None]) -> dict[int, Fix]:
        """The answers for a surface that is at `fixes`, where something else was followed; a frame that it was not found on is lost."""
        found = {f: fixes.get(f, Fix(None, reason=_FOLLOWED)) for f in self._answered}
        again = ReflectionKeeper(*self._seen)
        for frame, fix in found.items():
            luma = read(frame) if fix.matrix is not None else None
            if luma is not None:
                again.keep(frame, fix, luma)
        return found | again._better()

    def _better(self) -> dict[int, Fix]:
        """Answers for the frames kept, aligned without the reflection; none where that does not help."""
        layers = self._layers
        found: list[Alignment] = []
        reference: Reference | None = None

        def aligned(surface: np.ndarray, mask: np.ndarray, pictures: list[np.ndarray], matrices: list[np.ndarray]) -> list[np.ndarray] | None:
            nonlocal found, reference
            reference = Reference(Pyramid(surface), mask * 255)
            found = self._aligned(reference, pictures, matrices)
            return [a.matrix for a in found] if len(found) == len(pictures) else None

        if not layers.separated(aligned) or reference is None:
            return {}
        of_reference = self._error(found[0], reference)
        better: dict[int, Fix] = {}
        away: list[Kept] = []

        def answer(k: Kept, alignment: Alignment) -> Fix:
            error = float(np.hypot(self._error(alignment, reference), of_reference))
            return replace(self._fixes[k.frame], matrix=layers.whole(k), error=error)

        for k, alignment in list(zip(layers.kept, found, strict=True))[1:]:
            fix = answer(k, alignment)
            if self._apart(fix.matrix, self._fixes[k.frame].matrix) <= _FARTHEST:
                better[k.frame] = fix
            else:
                away.append(k)
        # what passes in front can look like a second layer; taking that off makes nothing surer
        if not better or np.median([x.error for x in better.values()]) >= np.median([self._fixes[f].error for f in better]):
            return {}
        likeness = {k.frame: float(np.median(a.likeness)) for k, a in zip(layers.kept, found, strict=True) if k.frame in better}
        usual = _AS_LIKE * float(np.median(list(likeness.values())))
        base = np.linalg.inv(found[0].matrix)
        # a frame that went with the reflection may still lie there, where it does not look like the surface
        solved = [k for k in layers.kept if k.frame in better and likeness[k.frame] >= usual]
        away += [k for k in layers.kept if k.frame in better and likeness[k.frame] < usual]
        for k in sorted(away, key=lambda k: min(abs(k.away - s.away) for s in solved)):
            again = self._from_neighbours(k, solved, reference)
            if again is None:
                better[k.frame] = Fix(None, reason=_FOLLOWED)
                continue
            moved = replace(k, matrix=homography.normalised(again.matrix @ base))
            if np.median(again.likeness) >= usual:
                k.matrix = moved.matrix
                better[k.frame] = answer(k, again)
                solved.append(k)
            elif k.frame not in better or self._apart(layers.whole(moved), better[k.frame].matrix) > _FARTHEST:
                better[k.frame] = Fix(None, reason=_FOLLOWED)  # a surface that is hidden looks unlike itself too, but is found at its place again
        return better

    # -- inside ---------------------------------------------------------------------------------------------------

    def _apart(self, a: np.ndarray | None, b: np.ndarray | None) -> float:
        """How far two places (3, 3) of the surface lie apart at most, in pixels of the whole picture."""
        assert a is not None and b is not None
        moved = [homography.apply(homography_to_centred(m), self._layers.box) for m in (a, b)]
        return float(np.linalg.norm(moved[0] - moved[1], axis=1).max())

    def _from_neighbours(self, k: Kept, solved: list[Kept], reference: Reference) -> Alignment | None:
        """A frame aligned coarse to fine from where the nearest frames that are `solved` would put it; None where it cannot be."""
        nearest = sorted(solved, key=lambda s: abs(s.away - k.away))[:2]
        places = [np.linalg.inv(k.back) @ s.back @ s.matrix for s in nearest]
        start = places[0]
        if len(nearest) == 2 and nearest[0].away != nearest[1].away:  # they go on as they did
            share = (k.away - nearest[0].away) / (nearest[0].away - nearest[1].away)
            start = homography.normalised(places[0] + share * (places[0] / places[0][2, 2] - places[1] / places[1][2, 2]))
        picture = Pyramid(self._layers.cleaned(k))
        found: Alignment | None = None
        for level in (2, 1, 0):
            tiles = reference.tiles(level)
            chosen = choose(tiles, visible_tiles(tiles, start, picture.size), _TILES)
            if len(chosen) < 4:
                continue
            try:
                found = align(reference, tiles, chosen, picture[level], level, start, self._kind, np.ones(len(chosen)), _STEPS, 0.01)
            except np.linalg.LinAlgError:
                return None
            start = found.matrix
        return found

    def _aligned(self, reference: Reference, pictures: list[np.ndarray], matrices: list[np.ndarray]) -> list[Alignment]:
        """Each picture aligned with the surface; fewer than the pictures where one cannot be."""
        tiles = reference.tiles(0)

        def again(each: tuple[np.ndarray, np.ndarray]) -> Alignment | None:
            picture, matrix = Pyramid(each[0]), each[1]
            chosen = choose(tiles, visible_tiles(tiles, matrix, picture.size), _TILES)
            if len(chosen) < 4:
                return None
            try:
                return align(reference, tiles, chosen, picture[0], 0, matrix, self._kind, np.ones(len(chosen)), _STEPS, 0.01)
            except np.linalg.LinAlgError:
                return None

        return [a for a in side_by_side(again, list(zip(pictures, matrices, strict=True))) if a is not None]

    def _error(self, alignment: Alignment, reference: Reference) -> float:
        return _NOT_WHOLLY * expected_error(alignment.normal, alignment.matrix, reference, self._corners, self._kind) * self._layers.scale
